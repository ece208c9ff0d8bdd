//! `update`: move what is locked to newer releases, and tell what moves with it.

use std::collections::BTreeMap;
use std::io::ErrorKind;

use clap::Args;
use jiff::Timestamp;
use yostel_answers::answers::moving::UpdateAnswer;
use yostel_answers::words::{bad_constraint, cause_words, day, shell_word};
use yostel_answers::{Code, Diagnostic};
use yostel_documents::{PackageName, Purpose, SourceName, run_purpose};
use yostel_findings::{Cause, CheckVerdict, Compared, News, Outdated, Trial};
use yostel_flows::{
    CheckIn, CheckPlace, Checked, ConstraintMove, FlowError, LoadedProject, Tested, Tester, UpdateReport,
    UpdateRequest, Write, update, update_tested,
};
use yostel_versions::{ConstraintText, ConstraintTextError, Version};

use crate::answer::{Answer, Said as SaidOf, failure, failure_of};
use crate::call::{Call, typed_command};
use crate::commands::decide::lock::{follows, moment};
use crate::commands::look::compare::words::{said_besides, table};
use crate::commands::moving::alternatives;
use crate::commands::moving::choosing::{Choice, choose, why_not};
use crate::commands::moving::culprit::{blamed, words as culprit_words};
use crate::commands::using::checking::{Runner, results};
use crate::commands::using::install::{go_on_to_install, words_after};
use crate::exit::Exit;
use crate::options::{GoOn, Said, package_name, pairs, said, word};
use crate::render::{Columns, Head, Role, count, indented, join_first, next_step, next_steps, note, paint};

/// How many moves are told without --in-full.
const MOVES_TOLD: usize = 20;

/// How many packages that stayed are told without --in-full.
const TOLD: usize = 8;

/// Move what is locked to newer releases, and tell what moves with it
///
/// Named packages move as far as they can, and of the others only as few as must. Without names, everything moves. The
/// constraints in the manifests stay as they are, unless --edit lets them move too. yostel undo takes it back.
#[derive(Debug, Args)]
pub(crate) struct Update {
    /// The package, and how far, like 2.4.0 or '^3'; as far as it can when left out. More packages may follow. Everything
    /// when there are none
    #[arg(value_name = "PACKAGE [VERSION]", value_parser = said)]
    said: Vec<Said>,

    /// Also move constraints in the manifests that keep a package from its newest release, each in its form
    #[arg(long)]
    edit: bool,

    /// Ask no server: what the cache has of their registries is all there is
    #[arg(long)]
    pub(crate) offline: bool,

    /// Choose on the terminal which of the moves to make
    #[arg(long, conflicts_with = "alternatives")]
    choose: bool,

    /// Move no other package that can stay
    #[arg(long)]
    alone: bool,

    /// Only show what would move, and this many other ways to do it: sets that leave in place something that earlier
    /// ones move
    #[arg(long, value_name = "NUMBER", conflicts_with = "install", value_parser = clap::value_parser!(u8).range(1..=20))]
    alternatives: Option<u8>,

    /// Only what is affected by advisories, and only as far as ends them
    #[arg(long)]
    advisories: bool,

    /// Only what a project needs itself
    #[arg(long)]
    direct: bool,

    /// Only what is needed for this purpose
    #[arg(long = "for", value_name = "PURPOSE", value_parser = word)]
    purpose: Option<Purpose>,

    /// Only what this project of the workspace needs, with what came along
    #[arg(long, value_name = "PROJECT", value_parser = package_name)]
    needed_by: Option<PackageName>,

    /// Only what comes from this source
    #[arg(long, value_name = "SOURCE", value_parser = word)]
    from: Option<SourceName>,

    /// Only releases published by this day (or RFC 3339 time); what stays is exempt
    #[arg(long, value_name = "DATE", value_parser = moment)]
    as_of: Option<Timestamp>,

    /// Try it in a copy first: write nothing unless the checks of the manifests pass that it reaches
    #[arg(long)]
    tested: bool,

    /// With --tested, find which of the moves makes a check fail
    #[arg(long, requires = "tested")]
    culprit: bool,

    /// Only show what would move
    #[arg(long, conflicts_with = "install")]
    preview: bool,

    #[command(flatten)]
    go_on: GoOn,

    /// Tell everything, however long, and what the new releases say of themselves
    #[arg(long)]
    in_full: bool,
}

pub(crate) fn run(arguments: Update, call: &Call) -> Result<Answer, FlowError> {
    let refuse = |diagnostic: Diagnostic| Ok(failure_of(&[diagnostic], Exit::Usage, call.format));
    let mut request = match request_of(&arguments) {
        Ok(request) => request,
        Err(diagnostic) => return refuse(diagnostic),
    };
    let project = call.project()?;
    if arguments.choose {
        let preview = UpdateRequest { tries_what_stayed: false, write: Write::Nothing, ..request.clone() };
        let report = update(&project, &preview, &call.context())?;
        match choose(&report, &request, call) {
            Ok(Choice::All) => {}
            Ok(Choice::Some(narrowed)) => request = narrowed,
            Ok(Choice::Nothing) => {
                let answer = || UpdateAnswer::of(&report, call.settings.now);
                let words = || "Nothing was chosen, so nothing moved.\n".to_owned();
                return Ok(Answer::either(call, Exit::Fine, SaidOf::Result, answer, words));
            }
            Err(error) if error.kind() == ErrorKind::Interrupted => return Err(FlowError::Stopped),
            Err(error) => return refuse(no_terminal(format!("the terminal cannot be read: {error}"))),
        }
    }
    let runner = Runner::of(call);
    let run = |check: &CheckIn, place: &CheckPlace, with| runner.run_check(check, place, Some(with));
    let tester = arguments.tested.then_some(Tester { run: &run, culprit: arguments.culprit });
    let report = match update_tested(&project, &request, tester, &call.context()) {
        Ok(report) => report,
        Err(error) => return runner.failure().ok_or(error),
    };
    let words = || words(&report, &arguments, &project, call);
    let answer = || UpdateAnswer::of(&report, call.settings.now);
    if !report.tested.as_ref().is_none_or(Tested::passes) {
        return Ok(Answer::either(call, Exit::Findings, SaidOf::Result, answer, words));
    }
    let installed = match go_on_to_install(arguments.go_on, call) {
        Ok(installed) => installed,
        Err(error) => return Ok(failure(&error, call).after(call, words)),
    };
    let said = SaidOf::previewing(request.write == Write::Nothing);
    Ok(Answer::either(call, Exit::Fine, said, answer, || words() + &words_after(installed.as_ref())))
}

/// Reads what was typed; tells what is wrong with it.
fn request_of(arguments: &Update) -> Result<UpdateRequest, Diagnostic> {
    let refuse = |headline: &str, next: &str| Err(Diagnostic::new(Code::Usage, headline.to_owned(), next));
    let pairs = match pairs(&arguments.said) {
        Ok(pairs) => pairs,
        Err(headline) => return refuse(&headline, "name one version, or one constraint"),
    };
    let mut packages = Vec::new();
    for (package, far) in pairs {
        match far.map(how_far).transpose() {
            Ok(accept) => packages.push((package, accept)),
            Err(error) => return Err(bad_constraint(&error, Some(&package))),
        }
    }
    let is_narrowed = arguments.direct || arguments.purpose.is_some() || arguments.needed_by.is_some();
    let is_everything = packages.is_empty() && !is_narrowed && arguments.from.is_none() && !arguments.advisories;
    let beside = [("--alone", arguments.alone), ("--alternatives", arguments.alternatives.is_some())];
    if let Some((option, _)) = beside.into_iter().find(|(_, is_given)| *is_given && is_everything) {
        let headline = format!("{option} without anything that is to move: nothing would stay beside it");
        return refuse(&headline, "name the packages that are to move");
    }
    if let Some(headline) = arguments.choose.then(why_not).flatten() {
        return Err(no_terminal(headline));
    }
    Ok(UpdateRequest {
        packages,
        alternatives: arguments.alternatives.map_or(0, usize::from),
        direct: arguments.direct,
        purpose: arguments.purpose.clone(),
        needed_by: arguments.needed_by.clone(),
        source: arguments.from.clone(),
        advisories: arguments.advisories,
        edit: arguments.edit,
        alone: arguments.alone,
        as_of: arguments.as_of,
        tries_what_stayed: true,
        write: if arguments.preview || arguments.alternatives.is_some() { Write::Nothing } else { Write::File },
    })
}

/// Says what to do where nobody can be asked.
fn no_terminal(headline: String) -> Diagnostic {
    Diagnostic::new(Code::Usage, headline, "yostel update --preview, to see what would move")
        .or("yostel update PACKAGE, with the packages by name")
}

/// Reads how far a package is to move: a version is that very one.
fn how_far(text: &str) -> Result<ConstraintText, ConstraintTextError> {
    let is_version = text.starts_with(|c: char| c.is_ascii_digit()) && !text.contains(['*', ',', '|', ' ']);
    if is_version { ConstraintText::parse(&format!("={text}")) } else { ConstraintText::parse(text) }
}

fn words(report: &UpdateReport, arguments: &Update, project: &LoadedProject, call: &Call) -> String {
    let is_asked = |one: &Compared| report.asked.as_ref().is_some_and(|asked| asked.contains(&one.moved.package));
    let because = |one: &Compared| match &report.asked {
        Some(_) if is_asked(one) => "asked for".to_owned(),
        None if matches!(one.cause, Cause::Unprovoked) => "as new as can be".to_owned(),
        _ => cause_words(one),
    };
    if report.asked.as_ref().is_some_and(|packages| packages.is_empty()) && !report.changed {
        return none_asked(report, arguments) + &standing(report) + &unread(report);
    }
    let what = match (report.changed, report.written) {
        (false, _) => format!("{} stay as they are", count(report.packages, "locked package")),
        (true, true) => format!("Updated {}", call.show(&report.path)),
        (true, false) => format!("{} would change; nothing was written", call.show(&report.path)),
    };
    let most = if arguments.in_full { usize::MAX } else { MOVES_TOLD };
    let mut text = match report.changed {
        true => table(&report.comparison, &what, call.settings.now, &because, (&is_asked, most)),
        false => format!("{what}.\n"),
    };
    text.push_str(&edits(&report.edits));
    if arguments.in_full {
        text.push_str(&news(&report.news));
    }
    text.push_str(&said_besides(&report.comparison));
    text.push_str(&follows(&report.followed, report.written));
    text.push_str(&stayed(report, arguments));
    text.push_str(&standing(report));
    text.push_str(&unread(report));
    if let Some(most) = arguments.alternatives {
        text.push_str(&alternatives::words(report, &options_kept(arguments), usize::from(most)));
    }
    if let Some(tested) = &report.tested {
        text.push_str(&checks(tested, arguments, project, call));
    }
    match (report.changed, report.written, arguments.go_on.install) {
        (true, true, false) => text + &next_steps(["yostel install", "yostel undo, to take it back"]),
        _ => text,
    }
}

/// Writes the options that bear on which set it comes to, once packages and versions are named.
fn options_kept(arguments: &Update) -> String {
    let mut text = String::new();
    if arguments.edit {
        text.push_str(" --edit");
    }
    if let Some(day) = arguments.as_of {
        text.push_str(&format!(" --as-of {day}"));
    }
    text
}

/// Tells what the checks came to.
fn checks(tested: &Tested, arguments: &Update, project: &LoadedProject, call: &Call) -> String {
    let others = |text: String| match tested.unreached {
        0 => text,
        unreached => {
            text + &note(format!("{} not run: nothing that moves is in its reach", count(unreached, "more check")))
        }
    };
    if tested.checks.is_empty() {
        return note("nothing that moves is in the reach of a check, so none was run");
    }
    let text = others(results(&tested.checks));
    let failed = tested.checks.iter().filter(|checked| !checked.passes()).count();
    if failed == 0 {
        return text;
    }
    let which = match tested.checks.len() {
        1 => "1 check".to_owned(),
        all => format!("{failed} of {}", count(all, "check")),
    };
    let text = text + &format!("{which} did not pass, so nothing was written.\n");
    if let Some(found) = &tested.culprit {
        // What it said last stands above.
        let next = blamed(&found.blame).and_then(|(package, _, to)| leaving_out(project, package, to));
        return text + &culprit_words(found, call) + &next.map(next_step).unwrap_or_default();
    }
    let is_of_moves =
        |checked: &Checked| checked.ran.verdict == CheckVerdict::Fails && checked.before == Some(CheckVerdict::Passes);
    match tested.checks.iter().any(is_of_moves) {
        true if !arguments.culprit => {
            text + &next_step(format!("yostel {} --culprit, to find which move does it", typed_command()))
        }
        true => text,
        false => text + &note("the update is not to blame: they do not pass without it either"),
    }
}

/// Says how the project that is worked on leaves a release out that it needs itself.
fn leaving_out(project: &LoadedProject, package: &PackageName, version: &Version) -> Option<String> {
    let here = project.here();
    let mut needs = here.manifest.needs.iter().filter_map(|(purpose, needs)| Some((purpose, needs.get(package)?)));
    let (purpose, need) = needs.next().filter(|_| !project.manifest().agreed.contains_key(package))?;
    let accept = match need.accept.as_str() {
        "*" => format!("!={version}"),
        accept => format!("{accept}, !={version}"),
    };
    // Of several alternatives, it would be left out of the last alone.
    let is_one = !accept.contains("||") && need.accept.is_everywhere() && ConstraintText::parse(&accept).is_ok();
    let purpose = if *purpose == run_purpose() { String::new() } else { format!(" --for {purpose}") };
    is_one.then(|| format!("yostel add {package} {}{purpose}, to leave that release out", shell_word(&accept)))
}

/// Tells that nothing that is locked was asked for.
fn none_asked(report: &UpdateReport, arguments: &Update) -> String {
    match arguments.advisories {
        true if report.standing.is_empty() && report.unread.is_empty() => {
            "No advisory affects what is locked.\n".to_owned()
        }
        true if report.standing.is_empty() => "No advisory that can be read affects what is locked.\n".to_owned(),
        true => "Nothing moved.\n".to_owned(),
        false => format!("None of the {} was asked for.\n", count(report.packages, "locked package")),
    }
}

/// Tells how many advisories could not be read.
fn unread(report: &UpdateReport) -> String {
    match report.unread.len() {
        0 => String::new(),
        unread => note(format!("{} cannot be read: yostel audit advisories", count(unread, "advisory file"))),
    }
}

fn edits(edits: &[ConstraintMove]) -> String {
    if edits.is_empty() {
        return String::new();
    }
    let mut columns = Columns::new([Head::package("constraint of"), Head::words("moves"), Head::words("in")]);
    for edit in edits {
        let table = match &edit.project {
            Some(project) => format!("[needs.{}] of {project}", edit.purpose),
            None => "[agreed]".to_owned(),
        };
        columns.row([edit.package.to_string(), format!("{} -> {}", edit.before, edit.after), table]);
    }
    columns.finish()
}

fn news(all: &BTreeMap<PackageName, Vec<News>>) -> String {
    let mut text = String::new();
    for (package, news) in all {
        for News { version, published, notes } in news {
            let says = notes.as_deref().unwrap_or("it does not say what is new");
            let lead = paint(Role::Package, package);
            text.push_str(&indented(2, format!("{lead} {version}, {}: {says}", day(*published))));
        }
    }
    text
}

/// Tells what was to move and has newer releases still: who is in the way, and what would let it.
fn stayed(report: &UpdateReport, arguments: &Update) -> String {
    let most = if arguments.in_full { usize::MAX } else { TOLD };
    let mut text = String::new();
    for one in report.stayed.iter().take(most) {
        text.push_str(&note(why_stayed(one, report.ruled.get(&one.package).copied(), arguments.edit)));
    }
    if report.stayed.len() > most {
        text.push_str(&note(format!("{} with --in-full", count(report.stayed.len() - most, "more package"))));
    }
    text
}

fn why_stayed(one: &Outdated, ruled: Option<&str>, edit: bool) -> String {
    let Outdated { package, locked, newest, .. } = one;
    let line = if one.crosses_line { ", not compatible" } else { "" };
    let there = format!("{package} stays at {locked}; the newest is {newest}{line}");
    let holders = one.held_by.iter().map(|holder| format!("{} needs {}", holder.who, holder.accept));
    let who = match one.held_by.is_empty() {
        false => join_first(holders, 2),
        true if one.kept_out => "what others need keeps it out".to_owned(),
        true => String::new(),
    };
    let lead = if who.is_empty() { there } else { format!("{there}: {who}") };
    match (&one.tried, ruled) {
        (_, Some("force")) => format!("{lead}. [force] keeps it there"),
        (Some(Trial::Free { edits, others }), _) => {
            let edit = if edits.is_empty() { "" } else { " --edit" };
            let with = match others {
                0 => "moves nothing else".to_owned(),
                others => format!("moves {} with it", count(*others, "more package")),
            };
            format!("{lead}. yostel update {package}{edit} gets it, and {with}")
        }
        // What is agreed was not touched when it was tried.
        (Some(Trial::Blocked), Some(_)) if edit => lead,
        (Some(Trial::Blocked), Some(_)) => {
            format!("{lead}. [agreed] binds it: yostel update {package} --edit --preview tries to move that too")
        }
        (Some(Trial::Blocked), None) => format!("{lead}. It cannot be had now, whatever is needed of it here"),
        (None, _) => lead,
    }
}

/// Tells the advisories that were to end and could not.
fn standing(report: &UpdateReport) -> String {
    let told = report.standing.iter().map(|threat| {
        let why = "nothing that fits the constraints is out of it: yostel audit advisories";
        note(format!("{} {} stays affected by {}; {why}", threat.package, threat.version, threat.id))
    });
    told.collect()
}
