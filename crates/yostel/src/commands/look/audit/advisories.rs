//! Advisories in the words of `audit`.

use yostel_answers::words::{dismissed_words, need_command, severity_words, way_words};
use yostel_findings::{Advised, AuditReport, Rating};

use crate::render::{Role, count, indented, note, paint};
use crate::sanitise::sanitise;

/// How many advisories are told, without `--verbose`.
const MOST_TOLD: usize = 20;

/// How many advisories that cannot be read are named.
const MOST_UNREAD: usize = 3;

/// Tells the advisories that affect something, each with the way out, and those that cannot be read.
pub(super) fn words(report: &AuditReport, verbose: bool) -> String {
    let mut text = String::new();
    if !report.advisories.is_empty() {
        text.push_str(&format!("{}\n", paint(Role::Title, "Advisories")));
    }
    let most = if verbose { usize::MAX } else { MOST_TOLD };
    for Advised { threat, way } in report.advisories.iter().take(most) {
        let rating = threat.severity.map(|(rating, _)| {
            let role = if rating >= Rating::High { Role::Bad } else { Role::Notice };
            format!(", {}", paint(role, severity_words(threat).unwrap_or_default()))
        });
        let package = paint(Role::Package, &threat.package);
        let (id, rating) = (sanitise(&threat.id), rating.unwrap_or_default());
        text.push_str(&format!("  {package} {}, {id}{rating}\n", threat.version));
        if let Some(summary) = &threat.summary {
            text.push_str(&indented(6, summary));
        }
        text.push_str(&indented(6, way_words(threat, way)));
        // On a line of its own, which is not wrapped: it is to be copied.
        if let Some((step, others)) = need_command(way, &report.project) {
            let moves = match others {
                0 => "moves nothing else".to_owned(),
                others => format!("moves {} too", count(others, "other package")),
            };
            text.push_str(&format!("      {}, then yostel lock, {moves}\n", sanitise(&step)));
        }
    }
    if report.advisories.len() > most {
        let more = report.advisories.len() - most;
        text.push_str(&format!("  … and {more} more: yostel audit advisories --verbose\n"));
    }
    if !report.unread.is_empty() {
        text.push_str(&format!("{}\n", paint(Role::Title, "Advisories that cannot be read")));
    }
    for unread in report.unread.iter().take(MOST_UNREAD) {
        text.push_str(&indented(2, format!("{} of {}: {}", unread.file, unread.place, unread.why)));
    }
    if report.unread.len() > MOST_UNREAD {
        text.push_str(&indented(2, format!("and {} more", report.unread.len() - MOST_UNREAD)));
    }
    text
}

/// How many dismissed advisories are named, without `--verbose`.
const MOST_DISMISSED: usize = 5;

/// Tells which advisories somebody dismissed, and of which that does not hold any more.
pub(super) fn dismissed(report: &AuditReport, verbose: bool) -> String {
    let most = if verbose { usize::MAX } else { MOST_DISMISSED };
    let mut text = String::new();
    for lapsed in &report.lapsed {
        let (threat, file) = (&lapsed.threat, &lapsed.file);
        let until = lapsed.until.map(|until| format!(" until {until}")).unwrap_or_default();
        let says = format!("{file} dismissed {} for {}{until}, so it counts again", threat.id, threat.package);
        text.push_str(&note(says));
    }
    for dismissed in report.dismissed.iter().take(most) {
        text.push_str(&note(format!("dismissed: {}", dismissed_words(dismissed))));
    }
    if report.dismissed.len() > most {
        text.push_str(&note(format!("and {} more dismissed: --verbose names them", report.dismissed.len() - most)));
    }
    text
}
