//! A finding in one sentence.

use yostel_documents::PackageName;
use yostel_findings::{
    Advised, AuditReport, Concern, ConcernKind, Debt, Dedupe, Duplicate, Finding, FindingKind, LicenceTrouble, Matter,
    Outdated, Quiet, Trial, Unlicensed, UnreadAdvisory,
};
use yostel_resolve::RequirementEdit;
use yostel_versions::Version;

use super::advisory::{need_command, severity_words, way_words};
use super::dispute::dispute_words;
use super::edits::edit_words;
use super::notice::notice_words;
use super::texts::{count, day, join, join_first, lag, size};

/// How many that are alike are named.
const MOST_NAMES: usize = 8;

/// How many who hold a package back are named.
const MOST_HOLDERS: usize = 2;

/// Says what was found, without a full stop.
pub fn finding_words(finding: &Finding<'_>) -> String {
    match finding.matter {
        Matter::Alarm(alarm) => dispute_words(alarm),
        Matter::Advisory(Advised { threat, .. }) => {
            let rating = severity_words(threat).map(|words| format!(", {words}")).unwrap_or_default();
            let summary = threat.summary.as_ref().map(|summary| format!(": {}", summary.trim_end_matches('.')));
            let (package, version, id) = (&threat.package, &threat.version, &threat.id);
            format!("{package} {version} is affected by {id}{rating}{}", summary.unwrap_or_default())
        }
        Matter::UnreadAdvisory(UnreadAdvisory { place, file, why }) => {
            format!("{file} of {place}, which should be an advisory, cannot be read: {why}")
        }
        Matter::Notice(notice) => notice_words(notice),
        Matter::Licence(one) => licence_words(one),
        Matter::Quiet(quiet) => quiet_words(quiet),
        Matter::Unknown(package) => format!("no source has {package} any more"),
        Matter::Outdated(outdated) => outdated_words(outdated),
        Matter::Duplicate(duplicate, _) => duplicate_words(duplicate),
        Matter::Concern(concern) => concern_words(concern),
        Matter::DueRule(upkeep) => {
            let debts: Vec<String> = upkeep.debts.iter().map(debt_words).collect();
            let package = &upkeep.package;
            match &upkeep.need {
                Some((project, purpose)) => {
                    format!("{project} needs {package} for {purpose} otherwise than [agreed] says")
                }
                None => format!("{package} in [{}] is due for review: it {}", upkeep.rule.word(), join(&debts)),
            }
        }
    }
}

/// Says what is there twice, and what that costs where it is known.
pub fn duplicate_words(duplicate: &Duplicate) -> String {
    let names = |packages: &[(PackageName, Version)]| {
        join_first(packages.iter().map(|(name, version)| format!("{name} {version}")), MOST_NAMES)
    };
    let spare = |bytes: &Option<u64>| {
        bytes.filter(|bytes| *bytes > 0).map(|bytes| format!(" ({} too many)", size(bytes))).unwrap_or_default()
    };
    match duplicate {
        Duplicate::Content { packages, bytes, .. } => {
            format!("{} hold the very same files{}", names(packages), spare(bytes))
        }
        Duplicate::Alike { packages, percent, bytes } => {
            format!("{} hold nearly the same files: {percent} % are equal{}", names(packages), spare(bytes))
        }
        Duplicate::Names { packages } => format!("{} have nearly the same name", names(packages)),
        Duplicate::Role { role, packages } => format!("{} do the same job, {role}", names(packages)),
        Duplicate::Versions { package, versions, bytes } => {
            let versions: Vec<String> = versions.iter().map(|(version, _)| version.to_string()).collect();
            format!("{package} is locked at {}{}", join(&versions), spare(bytes))
        }
    }
}

/// Says what may go wrong one day, and where that is written.
pub fn concern_words(concern: &Concern) -> String {
    let package = &concern.package;
    let accept = concern.need.as_ref().map(|need| need.accept.to_string()).unwrap_or_default();
    match &concern.about {
        ConcernKind::Unbounded { .. } => {
            format!("nothing bounds the need for {package} from above: {accept} takes whatever is published")
        }
        ConcernKind::LowerBound { accepts, oldest, .. } => format!(
            "nobody can try {package} {accepts}, which {accept} accepts: the oldest set that there is has {oldest}"
        ),
        ConcernKind::OnlyHere { place } => format!("{package} comes from {place}, which only this machine has"),
        ConcernKind::Unused { texts } => {
            let texts = texts.iter().map(|text| format!("`{text}`"));
            format!("no file mentions {package}: none has {}", join_first(texts, MOST_NAMES))
        }
        ConcernKind::NoProvenance => {
            let version = concern.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
            format!("{package}{version} does not say which commit it was made from")
        }
        ConcernKind::StrayMention { file, says, should } => match (&says[..], should) {
            ([], _) => format!("{file} does not mention {package} as [mentions] says"),
            (says, should) => {
                let says = says.iter().map(|(line, says)| format!("{says} in line {line}"));
                let should = match should {
                    Some(should) => format!("{should} is locked"),
                    None => "one cannot tell what is locked of several".to_owned(),
                };
                format!("{file} says of {package} {}; {should}", join_first(says, MOST_NAMES))
            }
        },
        ConcernKind::TooYoung { days, least } => {
            let version = concern.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
            let ago = count(usize::try_from(*days).unwrap_or_default(), "day");
            let least = count(usize::try_from(*least).unwrap_or(usize::MAX), "day");
            format!("{package}{version} was published {ago} ago, and minimum-age is {least}")
        }
    }
}

/// Says what else is to be known of a finding, a sentence each.
pub fn finding_notes(finding: &Finding<'_>) -> Vec<String> {
    match finding.matter {
        Matter::Advisory(Advised { threat, way }) => vec![way_words(threat, way)],
        Matter::Outdated(outdated) => {
            outdated.tried.as_ref().map(|trial| trial_words(outdated, trial)).into_iter().collect()
        }
        Matter::DueRule(upkeep) => vec![format!("it is there because: {}", upkeep.why.trim_end_matches('.'))],
        Matter::Duplicate(Duplicate::Versions { package, versions, .. }, _) => versions
            .iter()
            .map(|(version, asked_by)| {
                let asked: Vec<String> =
                    asked_by.iter().map(|asked| format!("{} ({})", asked.who, asked.accept)).collect();
                format!("{package} {version} is asked for by {}", join(&asked))
            })
            .collect(),
        _ => Vec::new(),
    }
}

fn outdated_words(outdated: &Outdated) -> String {
    let Outdated { package, locked, newest, .. } = outdated;
    let releases = (outdated.releases_behind > 0).then(|| count(outdated.releases_behind, "release"));
    let lag = outdated.published.map(|then| lag(then, outdated.newest_published));
    let far = join(&releases.into_iter().chain(lag).collect::<Vec<String>>());
    let held: Vec<String> = outdated
        .held_by
        .iter()
        .take(MOST_HOLDERS)
        .map(|holder| format!("{} ({})", holder.who, holder.accept))
        .chain(
            (outdated.held_by.len() > MOST_HOLDERS).then(|| format!("{} more", outdated.held_by.len() - MOST_HOLDERS)),
        )
        .collect();
    let who = match (&outdated.accepted, &held[..]) {
        (Some(accepted), _) if accepted == newest => "; a fresh lock takes it".to_owned(),
        (accepted, held) => {
            let free = accepted.as_ref().map(|accepted| format!("; a fresh lock takes {accepted}")).unwrap_or_default();
            match held {
                [] if outdated.kept_out => format!("{free}; what others need keeps it out"),
                [] => free,
                held => format!("{free}; held back by {}", join(held)),
            }
        }
    };
    let far = if far.is_empty() { far } else { far + " " };
    format!("{package} {locked} is {far}behind {newest}{who}")
}

/// Says what to do to end a finding, where that is known.
pub fn remedy_words(finding: &Finding<'_>, report: &AuditReport) -> Option<String> {
    let remedy = report.remedies.get(&finding.id)?;
    let by_hand = match finding.matter {
        Matter::Advisory(Advised { way, .. }) => {
            need_command(way, &report.project).map(|(command, _)| format!("run {command}"))
        }
        Matter::Duplicate(Duplicate::Versions { package, .. }, dedupe) => {
            let edits = match dedupe {
                Some(Dedupe::Edits(edits)) => edits.as_slice(),
                _ => &[],
            };
            let edits = edits.iter().map(|edit| edit_words(edit, report.is_workspace));
            let policy = format!("take {package} out of `coexist` in [policy]");
            Some(join(&edits.chain([policy]).collect::<Vec<String>>()))
        }
        Matter::Outdated(Outdated { tried: Some(Trial::Free { edits, .. }), .. }) if !remedy.edits.is_empty() => {
            Some(join(&edits.iter().map(|edit| edit_words(edit, report.is_workspace)).collect::<Vec<String>>()))
        }
        Matter::Concern(Concern { need: Some(need), about, .. }) => match about {
            ConcernKind::Unbounded { bounded: Some(accept) } | ConcernKind::LowerBound { raised: Some(accept), .. } => {
                let edit = RequirementEdit::Change { requirement: need.clone(), accept: accept.clone() };
                Some(edit_words(&edit, report.is_workspace))
            }
            _ => Some(edit_words(&RequirementEdit::Drop { requirement: need.clone() }, report.is_workspace)),
        },
        Matter::DueRule(upkeep) => Some(format!("take {} out of [{}]", upkeep.package, upkeep.rule.word())),
        _ => None,
    };
    let commands = remedy.commands.iter().map(|command| format!("run {command}"));
    Some(by_hand.into_iter().chain(commands).collect::<Vec<String>>().join(", then "))
}

/// Says whether a package can have its newest release now.
fn trial_words(outdated: &Outdated, trial: &Trial) -> String {
    let newest = &outdated.newest;
    match trial {
        Trial::Free { others: 0, .. } => format!("{newest} is possible now, and nothing else moves"),
        Trial::Free { others: 1, .. } => format!("{newest} is possible now, and one other package moves"),
        Trial::Free { others, .. } => format!("{newest} is possible now, and {others} other packages move"),
        Trial::Blocked => format!("{newest} is not possible now, whatever the project needs of it"),
    }
}

/// Says what is wrong with the licence of a release.
pub fn licence_words(one: &Unlicensed) -> String {
    let Unlicensed { package, version, licence, trouble, excepted_until } = one;
    let licence = licence.as_deref().unwrap_or_default();
    let says = match trouble {
        LicenceTrouble::NotAllowed(missing) if *missing == [licence] => {
            format!("{package} {version} is under {licence}, which is not allowed")
        }
        LicenceTrouble::NotAllowed(missing) => {
            let are = if missing.len() == 1 { "is" } else { "are" };
            format!("{package} {version} is under {licence}, of which {} {are} not allowed", join(missing))
        }
        LicenceTrouble::NoExpression(why) => {
            format!("{package} {version} says `{licence}` as its licence, which is no SPDX expression: {why}")
        }
        LicenceTrouble::Untold => format!("{package} {version} tells no licence"),
    };
    let ended = excepted_until.map(|until| format!("; it was excepted until {until}"));
    says + &ended.unwrap_or_default()
}

/// Says for how long nothing new came of a package.
pub fn quiet_words(quiet: &Quiet) -> String {
    let Quiet { package, last, published, days } = quiet;
    let years = match days {
        days if *days < 730 => format!("{} months", days / 30),
        days => format!("{} years", days / 365),
    };
    format!("{package}: nothing new for {years}; its last release, {last}, is of {}", day(*published))
}

/// Says what is wrong with a rule by now.
pub fn debt_words(debt: &Debt) -> String {
    match debt {
        Debt::Past(days) => format!("is {} overdue", count(usize::try_from(*days).unwrap_or_default(), "day")),
        Debt::ChangesNothing => "changes nothing any more".into(),
        Debt::Hides(version) => format!("keeps the newer {version} out"),
        Debt::Stands => "differs from [agreed]".into(),
    }
}

/// Says what a kind of finding is, for lists of rules.
pub fn kind_words(kind: FindingKind) -> &'static str {
    match kind {
        FindingKind::Alarm => "The lockfile and a source tell different things",
        FindingKind::Advisory => "An advisory affects a locked release",
        FindingKind::UnreadAdvisory => "An advisory cannot be read",
        FindingKind::Withdrawn => "A locked release was withdrawn",
        FindingKind::Deprecated => "A locked release is deprecated",
        FindingKind::Licence => "The licence of a locked release is not allowed",
        FindingKind::Quiet => "Nothing new came of a package for long",
        FindingKind::Unknown => "No source has a locked package any more",
        FindingKind::Outdated => "A package is locked below its newest release",
        FindingKind::SameContent => "Several packages hold the very same files",
        FindingKind::SeveralVersions => "A package is locked at several versions",
        FindingKind::SharedRole => "Several packages do the same job",
        FindingKind::DueRule => "A rule of a manifest is due for review",
        FindingKind::SimilarContent => "Several packages hold nearly the same files",
        FindingKind::SimilarName => "Several packages have nearly the same name",
        FindingKind::Unbounded => "Nothing bounds a need from above",
        FindingKind::LowerBound => "No set has the oldest release that a need accepts",
        FindingKind::OnlyHere => "A package comes from where only this machine can get it",
        FindingKind::Unused => "No file of the project mentions a package that it needs",
        FindingKind::NoProvenance => "A locked release does not say which commit it was made from",
        FindingKind::StrayMention => "A file that mentions a package does not say what is locked",
        FindingKind::TooYoung => "A locked release is younger than the policy permits",
    }
}
