//! `add`: declare a need, and hear what it accepts today.

use std::path::PathBuf;

use clap::Args;
use yostel_answers::answers::declare::AddAnswer;
use yostel_answers::{Code, Diagnostic};
use yostel_documents::{ArchiveDigest, Elsewhere, GitAt, GitPlace, NeedForm, PackageName, Purpose};
use yostel_flows::{AddReport, AddRequest, AddedElsewhere, FlowError, TakeFrom, add, add_elsewhere};
use yostel_versions::{ConstraintText, ConstraintTextError};

use super::finish::finish;
use crate::answer::Answer;
use crate::answer::failure_of;
use crate::call::Call;
use crate::exit::Exit;
use crate::options::{GoOn, Said, pairs, said, word};
use crate::render::{Role, below, count, note, paint};
use yostel_answers::words::bad_constraint;

/// Add a need to the manifest, or change its constraint
#[derive(Debug, Args)]
pub(crate) struct Add {
    /// The package, and which of its versions will do, like '^2.1' or '>=2.1, <3'; what is compatible with the newest when
    /// left out. More packages may follow, each with its own
    #[arg(required = true, value_name = "PACKAGE [CONSTRAINT]", value_parser = said)]
    said: Vec<Said>,

    /// What it is for: run (ships with the project), build, test, or a word of your own
    #[arg(long = "for", value_name = "PURPOSE", default_value = "run", value_parser = word)]
    purpose: Purpose,

    /// Agree on the constraint for every package, whoever asks, and need what is agreed
    #[arg(long)]
    agreed: bool,

    /// Only on these platforms, like linux/*, */arm64 or !windows/*; may be repeated
    #[arg(long, value_name = "PATTERN", conflicts_with = "agreed")]
    only_on: Vec<String>,

    /// Take it from this git repository, for everyone who needs it; its default branch unless --at, --tag or --branch is given
    #[arg(long, value_name = "ADDRESS", conflicts_with_all = ["agreed", "why", "path", "archive"])]
    git: Option<String>,

    /// With --git: this commit, as a full hash
    #[arg(long, value_name = "COMMIT", requires = "git", conflicts_with_all = ["tag", "branch"], value_parser = commit)]
    at: Option<String>,

    /// With --git, this tag
    #[arg(long, requires = "git", conflicts_with = "branch")]
    tag: Option<String>,

    /// With --git, this branch; the lockfile holds the commit that it had
    #[arg(long, requires = "git")]
    branch: Option<String>,

    /// With --git: the package is in this folder of the repository
    #[arg(long = "inside", value_name = "FOLDER", requires = "git")]
    inside: Option<String>,

    /// Take it from this folder, as it is at that moment
    #[arg(long, value_name = "FOLDER", conflicts_with_all = ["agreed", "why", "archive"])]
    path: Option<PathBuf>,

    /// Take this archive: an address or a path
    #[arg(long, value_name = "ADDRESS", conflicts_with_all = ["agreed", "why"])]
    archive: Option<String>,

    /// With --archive, the digest of its bytes; that of what is there now, when left out
    #[arg(long, requires = "archive", value_parser = archive_digest)]
    digest: Option<ArchiveDigest>,

    /// Why this need deviates from what is agreed
    #[arg(long, value_name = "WHY", conflicts_with = "agreed")]
    why: Option<String>,

    #[command(flatten)]
    go_on: GoOn,
}

pub(crate) fn run(arguments: Add, call: &Call) -> Result<Answer, FlowError> {
    let refuse = |diagnostic: Diagnostic| Ok(failure_of(&[diagnostic], Exit::Usage, call.format));
    let pairs = match pairs(&arguments.said) {
        Ok(pairs) => pairs,
        Err(headline) => {
            let next = "join what must both hold by `,` inside one pair of quotes, as in '>=2.1, <3'";
            return refuse(Diagnostic::new(Code::Usage, headline, next));
        }
    };
    let mut needs: Vec<(PackageName, Option<ConstraintText>)> = Vec::new();
    for (package, accept) in pairs {
        let parsed = accept.map(ConstraintText::parse).transpose();
        match parsed.and_then(|accept| counting(accept, &arguments.only_on)) {
            Ok(accept) => needs.push((package, accept)),
            Err(error) => return refuse(bad_constraint(&error, Some(&package))),
        }
    }
    if let Some(from) = take_from(&arguments, call) {
        let [(package, accept)] = &needs[..] else {
            let headline = format!("{} packages cannot all be taken from one place", needs.len());
            return refuse(Diagnostic::new(Code::Usage, headline, "add them one by one"));
        };
        let report = call.edit(|project| {
            add_elsewhere(
                project,
                package,
                &arguments.purpose,
                (from.clone(), &call.folder),
                accept.clone(),
                &call.context(),
            )
        })?;
        let purpose = &arguments.purpose;
        let words = || words_elsewhere(&report, package, purpose, call);
        return finish(arguments.go_on, call, words, |then| {
            AddAnswer::elsewhere(&report, package, purpose, accept.as_ref()).and_then(then)
        });
    }
    let request = |(package, accept)| AddRequest {
        package,
        accept,
        purpose: arguments.purpose.clone(),
        agreed: arguments.agreed,
        why: arguments.why.clone(),
    };
    let requests: Vec<AddRequest> = needs.into_iter().map(request).collect();
    let reports = call.edit(|project| add(project, requests.clone(), &call.context()))?;
    let words = || reports.iter().map(|report| words(report, call)).collect();
    finish(arguments.go_on, call, words, |then| AddAnswer::from(&reports[..]).and_then(then))
}

/// Returns the constraint on the platforms named; any version, when only those are named.
fn counting(accept: Option<ConstraintText>, only_on: &[String]) -> Result<Option<ConstraintText>, ConstraintTextError> {
    if only_on.is_empty() {
        return Ok(accept);
    }
    let accept = accept.unwrap_or_else(ConstraintText::anything);
    accept.only_on(only_on.iter().map(String::as_str)).map(Some)
}

fn commit(text: &str) -> Result<String, String> {
    let hex = text.bytes().all(|b| b.is_ascii_digit() || (b'a'..=b'f').contains(&b));
    let whole = hex && matches!(text.len(), 40 | 64);
    whole.then(|| text.to_owned()).ok_or_else(|| "name the commit by its full hash: git rev-parse HEAD".to_owned())
}

fn archive_digest(text: &str) -> Result<ArchiveDigest, String> {
    ArchiveDigest::parse(text).map_err(|error| error.to_string())
}

fn take_from(arguments: &Add, call: &Call) -> Option<TakeFrom> {
    if let Some(address) = arguments.git.clone() {
        let at = match (&arguments.at, &arguments.tag, &arguments.branch) {
            (Some(commit), ..) => GitAt::Commit(commit.clone()),
            (_, Some(tag), _) => GitAt::Tag(tag.clone()),
            (.., Some(branch)) => GitAt::Branch(branch.clone()),
            _ => GitAt::Head,
        };
        return Some(TakeFrom::Git(GitPlace { address, at, folder: arguments.inside.clone() }));
    }
    if let Some(path) = &arguments.path {
        let path = call.folder.join(path);
        return Some(TakeFrom::Path(path.canonicalize().unwrap_or(path)));
    }
    arguments.archive.clone().map(|address| TakeFrom::Archive(address, arguments.digest))
}

fn words_elsewhere(report: &AddedElsewhere, package: &PackageName, purpose: &Purpose, call: &Call) -> String {
    let manifest = call.show(&report.path);
    let verb = if report.before.is_some() { "Changed" } else { "Added" };
    let mut text = format!("{verb} {package}, from {}, in [needs.{purpose}] of {manifest}.\n", report.elsewhere);
    if let Some(commit) = &report.commit {
        text.push_str(&format!("  Its commit today: {commit}\n"));
    }
    if let Elsewhere::Archive { digest, .. } = &report.elsewhere {
        text.push_str(&format!("  Only an archive with this digest is accepted: {digest}\n"));
    }
    if matches!(report.elsewhere, Elsewhere::Path(_)) {
        text.push_str(&note(
            "the folder is used as it is at that moment, so nobody else can install from the lockfile",
        ));
    }
    text
}

fn words(report: &AddReport, call: &Call) -> String {
    let AddReport { package, accept, .. } = report;
    let mut text = match &report.before {
        before if report.form == NeedForm::Agreed => {
            let verb = if before.is_some() { "Changed" } else { "Added" };
            let path = call.show(&report.path);
            let elsewhere = report.agreed_in.as_ref().filter(|agreed| **agreed != report.path);
            let agreed = elsewhere.map(|agreed| format!(" Agreed on it in {}.", call.show(agreed)));
            let agreed = agreed.unwrap_or_default();
            format!("{verb} {package} to what is agreed, {accept}, for {} in {path}.{agreed}\n", report.purpose)
        }
        Some(before) if before == accept.as_str() => {
            format!("{package} {accept} was in {} already.\n", call.show(&report.path))
        }
        Some(before) => format!("Changed {package} from {before} to {accept} in {}.\n", call.show(&report.path)),
        None => {
            format!("Added {package} {accept} to [needs.{}] in {}.\n", report.purpose, call.show(&report.path))
        }
    };
    let newest = report.accepted.last().map(ToString::to_string).unwrap_or_default();
    let shown: Vec<String> = report.accepted.iter().rev().take(4).map(ToString::to_string).collect();
    let more = report.accepted.len().saturating_sub(shown.len());
    let more = if more > 0 { format!(" and {more} older") } else { String::new() };
    text.push_str(&format!("  It accepts {}.\n", report.constraint.to_words()));
    text.push_str(&format!(
        "  Today that is {} of {} in {}: {}{more}; the newest is {}.\n",
        report.accepted.len(),
        count(report.releases, "release"),
        report.source,
        shown.join(", "),
        paint(Role::Title, &newest),
    ));
    if let Some(newer) = &report.newest_not_accepted {
        text.push_str(&note(format!("{newer} is newer, and not accepted.")));
    }
    if report.withdrawn > 0 {
        let withdrawn = count(report.withdrawn, "withdrawn release");
        text.push_str(&note(format!("{withdrawn} left out.")));
    }
    if let Some((why, instead)) = &report.deprecated {
        let instead = instead.as_ref().map(|name| format!("; {name} took its place")).unwrap_or_default();
        text.push_str(&below(Role::Notice, "warning:", format!("deprecated: {why}{instead}.")));
    }
    if !report.constraint.is_bounded_above() {
        let advice = format!("a breaking release would be taken in. Bounded: yostel add {package} '^{newest}'");
        text.push_str(&below(Role::Notice, "warning:", format!("nothing bounds it from above, so {advice}")));
    }
    text
}
