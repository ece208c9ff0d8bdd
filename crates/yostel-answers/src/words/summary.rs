//! What matters of a project, in a few sentences.

use std::collections::BTreeSet;

use yostel_findings::{AuditReport, Debt, Duplicate, LicenceTrouble, Rating, Trial, years};
use yostel_flows::{DriftReport, ProjectReport};

use super::texts::{count, day, join, join_first};

/// How many packages a sentence names.
const MOST_NAMED: usize = 4;

/// Says what matters, the worst first, a sentence each.
pub fn summary(report: &ProjectReport) -> Vec<String> {
    let audit = &report.audit;
    let mut sentences = vec![locked(report)];
    let alarms: BTreeSet<String> = audit.alarms.iter().map(|alarm| alarm.package.to_string()).collect();
    if !alarms.is_empty() {
        let names = named(alarms);
        sentences.push(format!(
            "The lockfile and the sources tell different things of {names}: find out why before anything else."
        ));
    }
    sentences.extend(advisories(audit));
    let withdrawn = audit.notices.iter().filter(|notice| notice.withdrawn.is_some());
    let withdrawn: BTreeSet<String> =
        withdrawn.map(|notice| format!("{} {}", notice.package, notice.version)).collect();
    if !withdrawn.is_empty() {
        let were = if withdrawn.len() == 1 { "was" } else { "were" };
        sentences.push(format!("{} {were} withdrawn.", named(withdrawn)));
    }
    for (is_untold, says) in [(false, "is not allowed"), (true, "is not told")] {
        let of_kind = audit.unlicensed.iter().filter(|one| (one.trouble == LicenceTrouble::Untold) == is_untold);
        let unlicensed: BTreeSet<String> = of_kind.map(|one| one.package.to_string()).collect();
        if !unlicensed.is_empty() {
            sentences.push(format!("The licence of {} {says}.", named(unlicensed)));
        }
    }
    sentences.extend(outdated(audit));
    sentences.extend(duplicates(audit));
    sentences.extend(due_rules(audit));
    sentences.extend(behind(&report.drift));
    sentences
}

fn named(names: BTreeSet<String>) -> String {
    join_first(names.into_iter(), MOST_NAMED)
}

fn locked(report: &ProjectReport) -> String {
    let direct = report.packages.iter().filter(|package| package.direct).count();
    let locked = count(report.packages.len(), "package");
    let are = if report.packages.len() == 1 { "is" } else { "are" };
    format!("{locked} {are} locked, {direct} of them needed directly.")
}

/// Says what advisories say, or that none speaks of what is locked.
fn advisories(audit: &AuditReport) -> Vec<String> {
    let threats = || audit.advisories.iter().map(|advised| &advised.threat);
    let packages: BTreeSet<String> = threats().map(|threat| threat.package.to_string()).collect();
    let worst = threats().filter_map(|threat| threat.severity).map(|(rating, _)| rating).max().map(Rating::word);
    let says = match (audit.advisories.len(), worst) {
        (0, _) if audit.unread.is_empty() => Some("No advisory affects any.".to_owned()),
        (0, _) => None,
        (1, Some(worst)) => Some(format!("1 advisory affects {}, rated {worst}.", named(packages))),
        (1, None) => Some(format!("1 advisory affects {}.", named(packages))),
        (many, worst) => {
            let worst = worst.map(|worst| format!("; the worst is rated {worst}")).unwrap_or_default();
            Some(format!("{many} advisories affect {}{worst}.", named(packages)))
        }
    };
    let unread = (!audit.unread.is_empty()).then(|| {
        let files = count(audit.unread.len(), "advisory file");
        format!("{files} cannot be read, so there may be more to know.")
    });
    let dismissed: BTreeSet<String> = audit.dismissed.iter().map(|one| one.threat.id.clone()).collect();
    let number = dismissed.len();
    let dismissed = (number > 0).then(|| {
        let (many, were) = (count(number, "advisory"), if number == 1 { "was" } else { "were" });
        format!("{many} {were} dismissed: {}.", named(dismissed))
    });
    says.into_iter().chain(dismissed).chain(unread).collect()
}

fn outdated(audit: &AuditReport) -> Option<String> {
    let all = audit.outdated.len();
    // Trying ends after a counted amount of work.
    let tried = audit.outdated.iter().filter(|one| one.tried.is_some()).count();
    let free = audit.outdated.iter().filter(|one| matches!(one.tried, Some(Trial::Free { .. }))).count();
    let of = if tried == all { String::new() } else { format!("of the {tried} that were tried, ") };
    let has = if all == 1 { "has" } else { "have" };
    let packages = count(all, "package");
    (all > 0).then(|| format!("{packages} {has} newer releases; {of}{free} can move to the newest now."))
}

fn duplicates(audit: &AuditReport) -> Option<String> {
    let twice: BTreeSet<String> = audit
        .duplicates
        .iter()
        .map(|duplicate| match duplicate {
            Duplicate::Alike { packages, percent, .. } => {
                let names: Vec<String> = packages.iter().map(|(name, _)| name.to_string()).collect();
                format!("{} with {percent} % of the same files", join(&names))
            }
            Duplicate::Names { packages } => {
                join(&packages.iter().map(|(name, _)| name.to_string()).collect::<Vec<_>>()) + ", nearly the same name"
            }
            Duplicate::Versions { package, .. } => format!("{package} at several versions"),
            Duplicate::Content { packages, .. } => {
                join(&packages.iter().map(|(name, _)| name.to_string()).collect::<Vec<_>>()) + " with the same files"
            }
            Duplicate::Role { role, packages } => format!("{} packages in the role {role}", packages.len()),
        })
        .collect();
    (!twice.is_empty()).then(|| format!("Duplicates: {}.", named(twice)))
}

fn due_rules(audit: &AuditReport) -> Option<String> {
    let is_past = |debts: &[Debt]| debts.iter().any(|debt| matches!(debt, Debt::Past(_)));
    match audit.upkeep.iter().filter(|upkeep| is_past(&upkeep.debts)).count() {
        0 => None,
        1 => Some("1 rule of the manifest is past its date for review.".to_owned()),
        due => Some(format!("{due} rules of the manifest are past their date for review.")),
    }
}

fn behind(drift: &DriftReport) -> Option<String> {
    let (first, now) = (drift.points.first()?, drift.points.last()?);
    let (was, is) = (years(first.drift.total.seconds), years(now.drift.total.seconds));
    let since = day(first.at);
    (drift.points.len() > 1)
        .then(|| format!("Together they were {was:.1} years behind on {since}, and are {is:.1} years behind now."))
}
