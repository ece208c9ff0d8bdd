//! What matters of a project, in a few sentences.

use std::collections::BTreeSet;

use yostel_findings::{Debt, Duplicate, Rating, Trial};
use yostel_flows::ProjectReport;

use super::texts::{count, day, join, join_first};

/// How many packages a sentence names.
const MOST_NAMED: usize = 4;

/// Says what matters, the worst first, a sentence each.
pub fn summary(report: &ProjectReport) -> Vec<String> {
    let audit = &report.audit;
    let direct = report.packages.iter().filter(|package| package.direct).count();
    let itself = if direct == 1 { "is" } else { "are" };
    let locked = count(report.packages.len(), "package");
    let are = if report.packages.len() == 1 { "is" } else { "are" };
    let mut sentences = vec![format!("{locked} {are} locked; {direct} of them {itself} needed by a project itself.")];
    if !audit.alarms.is_empty() {
        let names = audit.alarms.iter().map(|alarm| alarm.package.to_string()).collect::<BTreeSet<String>>();
        let names = join_first(names.into_iter(), MOST_NAMED);
        sentences.push(format!(
            "The lockfile and the sources tell different things of {names}: find out why before anything else."
        ));
    }
    let threats: Vec<_> = audit.advisories.iter().map(|advised| &advised.threat).collect();
    if !threats.is_empty() {
        let packages: BTreeSet<String> = threats.iter().map(|threat| threat.package.to_string()).collect();
        let worst = threats.iter().filter_map(|threat| threat.severity).map(|(rating, _)| rating).max();
        let is = if threats.len() == 1 { ", rated" } else { "; the worst is rated" };
        let worst = worst.map(|rating| format!("{is} {}", Rating::word(rating))).unwrap_or_default();
        let advisories = if threats.len() == 1 {
            "1 advisory affects".to_owned()
        } else {
            format!("{} advisories affect", threats.len())
        };
        sentences.push(format!("{advisories} {}{worst}.", join_first(packages.into_iter(), MOST_NAMED)));
    }
    if threats.is_empty() && audit.unread.is_empty() {
        sentences.push("No advisory affects any.".to_owned());
    }
    if !audit.unread.is_empty() {
        let files = count(audit.unread.len(), "advisory file");
        sentences.push(format!("{files} cannot be read, so there may be more to know."));
    }
    let withdrawn: Vec<String> = audit
        .notices
        .iter()
        .filter(|notice| notice.withdrawn.is_some())
        .map(|notice| format!("{} {}", notice.package, notice.version))
        .collect();
    if !withdrawn.is_empty() {
        let were = if withdrawn.len() == 1 { "was" } else { "were" };
        sentences.push(format!("{} {were} withdrawn.", join_first(withdrawn.into_iter(), MOST_NAMED)));
    }
    if !audit.unlicensed.is_empty() {
        let names: BTreeSet<String> = audit.unlicensed.iter().map(|one| one.package.to_string()).collect();
        sentences
            .push(format!("The licence of {} is not allowed or not told.", join_first(names.into_iter(), MOST_NAMED)));
    }
    if !audit.outdated.is_empty() {
        let free = audit.outdated.iter().filter(|one| matches!(one.tried, Some(Trial::Free { .. }))).count();
        let has = if audit.outdated.len() == 1 { "has" } else { "have" };
        let packages = count(audit.outdated.len(), "package");
        // Trying ends after a counted amount of work.
        let tried = audit.outdated.iter().filter(|one| one.tried.is_some()).count();
        let of =
            if tried == audit.outdated.len() { String::new() } else { format!("of the {tried} that were tried, ") };
        sentences.push(format!("{packages} {has} newer releases; {of}{free} can move to the newest now."));
    }
    let twice: Vec<String> = audit
        .duplicates
        .iter()
        .map(|duplicate| match duplicate {
            Duplicate::Versions { package, .. } => format!("{package} at several versions"),
            Duplicate::Content { packages, .. } => {
                join(&packages.iter().map(|(name, _)| name.to_string()).collect::<Vec<_>>()) + " with the same files"
            }
            Duplicate::Role { role, .. } => format!("the job of a {role}"),
        })
        .collect();
    if !twice.is_empty() {
        let is = if twice.len() == 1 { "is" } else { "are" };
        sentences.push(format!("There twice {is} {}.", join_first(twice.into_iter(), MOST_NAMED)));
    }
    let due =
        audit.upkeep.iter().filter(|upkeep| upkeep.debts.iter().any(|debt| matches!(debt, Debt::Past(_)))).count();
    if due > 0 {
        let (rules, its) = match due {
            1 => ("1 rule of the manifest is".to_owned(), "its"),
            due => (format!("{due} rules of the manifest are"), "their"),
        };
        sentences.push(format!("{rules} past {its} date for review."));
    }
    if let (Some(first), Some(now)) = (report.drift.points.first(), report.drift.points.last())
        && report.drift.points.len() > 1
    {
        #[expect(clippy::cast_precision_loss, reason = "years are told to the tenth")]
        let years = |seconds: u64| format!("{:.1}", seconds as f64 / 31_557_600.0);
        let (was, is) = (years(first.drift.total.seconds), years(now.drift.total.seconds));
        sentences.push(format!(
            "Together they were {was} years behind on {}, and are {is} years behind now.",
            day(first.at)
        ));
    }
    sentences
}
