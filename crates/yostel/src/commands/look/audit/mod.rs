//! `audit`: what is outdated, what is there twice, what is dangerous, what is to be looked after.

mod advisories;
mod dismiss;
mod under;
mod words;

use std::collections::BTreeMap;
use std::path::Path;

use clap::{Args, Subcommand, ValueEnum};
use jiff::Span;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use yostel_answers::answers::audit::AuditAnswer;
use yostel_answers::answers::findings::FindingTold;
use yostel_answers::words::{finding_words, shell_word};
use yostel_documents::{Baseline, Purpose, days_of};
use yostel_findings::{AuditReport, Bar, FindingGroup, FindingKind, Rating, Standing, Verdict, judge, renewed};
use yostel_flows::{AuditRequest, Behind, BehindOrder, FlowError, ProjectError, audit, read_baseline, write_baseline};

use self::words::{Left, words};
use crate::answer::{Answer, Door};
use crate::call::Call;
use crate::exit::Exit;
use crate::options::{Format, word};
use crate::render::findings::{junit, sarif};
use crate::render::{count, indented, join, markdown, note};

/// For how many days what is found is known, where nobody says.
const DAYS_KNOWN: i64 = 90;

/// Find dangerous, outdated and duplicate packages, and rules that are due for review
///
/// Exit status 1 when there are findings, 4 when the lockfile and the sources tell different things, so that a pipeline notices.
/// With --format also sarif, markdown and junit.
#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true)]
pub(crate) struct Audit {
    #[command(subcommand)]
    task: Option<Task>,

    /// Only this kind of findings; may be repeated
    #[arg(value_enum)]
    kinds: Vec<Kind>,

    /// Fail only on these: a kind, a severity and what is worse, or both (advisories:high); or on nothing
    #[arg(long, value_name = "WHAT", value_delimiter = ',', value_parser = threshold)]
    fail_on: Vec<Threshold>,

    /// Fail on no finding that this file knows
    #[arg(long, value_name = "FILE")]
    baseline: Option<std::path::PathBuf>,

    /// Write that file anew: what is found now is known for 90 days, and what is gone is left out
    #[arg(long, requires = "baseline", conflicts_with_all = ["fail_on", "direct", "purpose", "crossing", "older_than"])]
    renew: bool,

    /// The last day on which what is new in the file is known
    #[arg(long, value_name = "DATE", requires = "renew", value_parser = last_day)]
    until: Option<Date>,

    /// Audit every project below this folder that has a lockfile, and tell them apart in one table
    #[arg(long, value_name = "FOLDER", conflicts_with = "baseline")]
    under: Option<std::path::PathBuf>,

    /// Of what is outdated, only what a project asks for itself
    #[arg(long)]
    direct: bool,

    /// Of what is outdated, only what is needed for this purpose
    #[arg(long = "for", value_name = "PURPOSE", value_parser = word)]
    purpose: Option<Purpose>,

    /// Of what is outdated, only what has its newest release on another compatible line
    #[arg(long)]
    crossing: bool,

    /// Of what is outdated, only what was published at least so long ago, like "18 months"
    #[arg(long, value_name = "AGE", value_parser = age)]
    older_than: Option<u32>,

    /// In which order outdated packages are told
    #[arg(long, value_enum, value_name = "ORDER", conflicts_with = "under")]
    sort: Option<Sort>,

    /// Tell what newer releases say that is new in them
    #[arg(long, conflicts_with = "under")]
    notes: bool,

    /// Name everyone who holds a package back, and every advisory
    #[arg(short, long, conflicts_with = "quiet")]
    verbose: bool,
}

impl Audit {
    fn request(&self) -> AuditRequest {
        AuditRequest {
            groups: self.kinds.iter().map(|kind| (*kind).into()).collect(),
            behind: Behind {
                direct: self.direct,
                crossing: self.crossing,
                older_than_days: self.older_than,
                purpose: self.purpose.clone(),
                order: self.sort.map(Into::into).unwrap_or_default(),
            },
            with_news: self.notes,
        }
    }

    /// Tells whether it is over many projects.
    pub(crate) fn covers_many(&self) -> bool {
        self.under.is_some()
    }

    /// Tells whether it dismisses something.
    pub(crate) fn dismisses(&self) -> bool {
        self.task.is_some()
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Sort {
    /// By name
    Name,
    /// The oldest locked release first
    Age,
    /// That with the most newer releases first
    Releases,
}

impl From<Sort> for BehindOrder {
    fn from(sort: Sort) -> Self {
        match sort {
            Sort::Name => Self::Name,
            Sort::Age => Self::Age,
            Sort::Releases => Self::Releases,
        }
    }
}

#[derive(Debug, Subcommand)]
enum Task {
    Dismiss(dismiss::Dismiss),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Kind {
    /// Locked below the newest
    Outdated,
    /// One content under two names, two packages in one role
    Duplicates,
    /// Locked releases that an advisory affects
    Advisories,
    /// Locked releases that are withdrawn or deprecated, and packages of which nothing new came for long
    Notices,
    /// Locked releases whose licence the project does not allow
    Licences,
    /// Forced versions, swaps, admitted releases and deviations that are past their day, change nothing any more, or hide something newer
    Upkeep,
}

impl From<Kind> for FindingGroup {
    fn from(kind: Kind) -> Self {
        match kind {
            Kind::Outdated => Self::Outdated,
            Kind::Duplicates => Self::Duplicates,
            Kind::Advisories => Self::Advisories,
            Kind::Notices => Self::Notices,
            Kind::Licences => Self::Licences,
            Kind::Upkeep => Self::Upkeep,
        }
    }
}

/// What lets an audit fail; nothing for what never does.
type Threshold = Option<(Option<FindingGroup>, Rating)>;

fn threshold(text: &str) -> Result<Threshold, String> {
    if text == "nothing" {
        return Ok(None);
    }
    let group = |word: &str| FindingGroup::ALL.into_iter().find(|group| group.word() == word);
    let rating = |word: &str| Rating::ALL.into_iter().find(|rating| rating.word() == word);
    let read = match text.split_once(':') {
        Some((kind, severity)) => group(kind).zip(rating(severity)).map(|(group, rating)| (Some(group), rating)),
        None => {
            group(text).map(|group| (Some(group), Rating::None)).or_else(|| rating(text).map(|rating| (None, rating)))
        }
    };
    read.map(Some).ok_or_else(|| {
        let kinds: Vec<&str> = FindingGroup::ALL.into_iter().map(FindingGroup::word).collect();
        let severities: Vec<&str> = Rating::ALL.into_iter().map(Rating::word).collect();
        format!("the kinds are {}, the severities {}", kinds.join(", "), severities.join(", "))
    })
}

fn age(text: &str) -> Result<u32, String> {
    days_of(text).ok_or_else(|| "it is a number of days, weeks, months or years, like \"2 years\"".to_owned())
}

fn last_day(text: &str) -> Result<Date, String> {
    text.parse().map_err(|_| "a day is written 2027-03-31".to_owned())
}

pub(crate) fn run(arguments: Audit, call: &Call) -> Result<Answer, FlowError> {
    match arguments.task {
        Some(Task::Dismiss(arguments)) => dismiss::run(arguments, call),
        None => tell(arguments, call),
    }
}

/// Tells what was found.
fn tell(arguments: Audit, call: &Call) -> Result<Answer, FlowError> {
    let request = arguments.request();
    let bar = match arguments.fail_on.is_empty() {
        true => Bar::default(),
        false => Bar(arguments.fail_on.iter().flatten().copied().collect()),
    };
    if let Some(folder) = &arguments.under {
        return under::run(folder, &request, &bar, arguments.verbose, call);
    }
    let project = call.project()?;
    let today = call.settings.now.to_zoned(TimeZone::UTC).date();
    if let Some(until) = arguments.until.filter(|until| *until < today) {
        return Err(ProjectError::Past(until).into());
    }
    let file = arguments.baseline.as_ref().map(|file| call.folder.join(file));
    let baseline = file.as_ref().map_or(Ok(Baseline::default()), |path| known_by(path, arguments.renew, call))?;
    let looked_for = |group: FindingGroup| request.looks_for(group);
    let looked_for_kind = |kind: FindingKind| kind.group().is_none_or(looked_for);
    let mut report = audit(&project, &request, &call.context())?;
    // What the file is to say afterwards is what the audit is judged by.
    let (baseline, before) = match (&file, arguments.renew) {
        (Some(path), true) => {
            let until = arguments.until.unwrap_or_else(|| days_after(today, DAYS_KNOWN));
            (renew(path, &report, &baseline, (today, until), looked_for_kind)?, Some(baseline))
        }
        _ => (baseline, None),
    };
    let verdict = judge(&report, &baseline, today, &bar, looked_for_kind);
    let exit = match verdict.all.iter().any(|judged| judged.fails) {
        _ if !report.alarms.is_empty() => Exit::Integrity,
        true => Exit::Findings,
        false => Exit::Fine,
    };
    let told = || verdict.all.iter().map(|judged| FindingTold::of(judged, &report)).collect::<Vec<FindingTold>>();
    let document = |stdout| Answer { door: Door::Document, ..Answer::words(exit, stdout) };
    match call.format {
        Format::Json => {
            return Ok(Answer::document(call, exit, &AuditAnswer::of(&report, &verdict, call.settings.now)));
        }
        Format::Sarif => return Ok(document(sarif::document(&told()))),
        Format::Junit => {
            let is_judged = |group| group != FindingGroup::Licences || report.judges_licences;
            let groups = FindingGroup::ALL.into_iter().filter(|group| looked_for(*group) && is_judged(*group));
            let groups: Vec<FindingGroup> = groups.collect();
            return Ok(Answer { exit, ..Answer::raw(junit::document(&told(), &groups)) });
        }
        Format::Markdown => {
            let stdout = markdown::document(&told(), report.project.as_str(), report.packages);
            return Ok(Answer { exit, ..Answer::raw(stdout) });
        }
        // Comma-separated values are refused before.
        Format::Text | Format::Csv => {}
    }
    let left = Left::of(&verdict, exit == Exit::Fine, request.behind.is_narrowed());
    let beside = match (arguments.baseline.as_deref(), &before) {
        (Some(file), Some(before)) => renewal(file, before, &baseline),
        (Some(file), None) => beside(&verdict, file),
        (None, _) => String::new(),
    };
    // What was found is in the file now, but for alarms.
    if before.is_some() && exit == Exit::Fine {
        return Ok(Answer::words(exit, if call.quiet { String::new() } else { beside }));
    }
    report.retain(|finding| !left.known.contains(&finding.id));
    if call.quiet && exit == Exit::Fine {
        return Ok(Answer::words(exit, String::new()));
    }
    let beside = beside + &advisories::dismissed(&report, arguments.verbose);
    let words = words(&report, looked_for, project.is_workspace(), arguments.verbose, &left);
    Ok(Answer::words(exit, words + &beside))
}

/// Reads a baseline, which may be missing where it is to be written.
fn known_by(path: &Path, renew: bool, call: &Call) -> Result<Baseline, FlowError> {
    match read_baseline(path, &call.settings)? {
        Some(baseline) => Ok(baseline),
        None if renew => Ok(Baseline::default()),
        None => Err(ProjectError::NoBaseline(path.to_owned()).into()),
    }
}

fn days_after(day: Date, days: i64) -> Date {
    day.checked_add(Span::new().days(days)).unwrap_or(Date::MAX)
}

/// Writes what was found into the file, and returns it.
fn renew(
    path: &Path,
    report: &AuditReport,
    before: &Baseline,
    (today, until): (Date, Date),
    looked_for: impl Fn(FindingKind) -> bool,
) -> Result<Baseline, FlowError> {
    let findings = report.findings();
    let baseline = renewed(&findings, before, (today, until), looked_for);
    let said: BTreeMap<&str, String> =
        findings.iter().map(|finding| (finding.id.as_str(), finding_words(finding))).collect();
    let says = |id: &str| said.get(id).cloned();
    write_baseline(path, &baseline, says)?;
    Ok(baseline)
}

/// Says what was written into the file.
fn renewal(file: &Path, before: &Baseline, after: &Baseline) -> String {
    let by_id = |of: &Baseline| of.known.iter().map(|known| (known.id.clone(), known.until)).collect();
    let (was, is): (BTreeMap<String, Date>, BTreeMap<String, Date>) = (by_id(before), by_id(after));
    let changed: Vec<(&String, &Date)> = is.iter().filter(|(id, until)| was.get(*id) != Some(until)).collect();
    let again = changed.iter().filter(|(id, _)| was.contains_key(*id)).count();
    let gone = was.keys().filter(|id| !is.contains_key(*id)).count();
    let mut says = format!("{}: {}", file.display(), count(is.len(), "known finding"));
    if let Some((_, until)) = changed.first() {
        let counted = [(changed.len() - again, "new"), (again, "known again")];
        let counted = counted.into_iter().filter(|(number, _)| *number > 0);
        let counted: Vec<String> = counted.map(|(number, what)| format!("{number} {what}")).collect();
        says.push_str(&format!(", of them {} until {until}", join(&counted)));
    }
    if gone > 0 {
        says.push_str(&format!(", {gone} gone and left out"));
    }
    indented(0, says + ".")
}

/// Says what the file knows and is not so any more, and what it knew until a day that is past.
fn beside(verdict: &Verdict<'_>, file: &Path) -> String {
    let file = file.display().to_string();
    let mut text = String::new();
    for judged in &verdict.all {
        if let Standing::Ended(entry) = judged.standing {
            let (id, until) = (&judged.finding.id, entry.until);
            text.push_str(&note(format!("{file} knew {id} until {until}, so it counts again")));
        }
    }
    if !verdict.gone.is_empty() {
        let names: Vec<&str> = verdict.gone.iter().take(3).map(|known| known.id.as_str()).collect();
        let more = verdict.gone.len() - names.len();
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        let command = format!("yostel audit --baseline {} --renew", shell_word(&file));
        let says = format!("{file} knows what is gone: {}{more}; {command} leaves that out", names.join(", "));
        text.push_str(&note(says));
    }
    text
}
