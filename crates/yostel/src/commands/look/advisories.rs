//! Advisories in the words of `audit`.

use yostel_answers::answers::advisories::rating_word;
use yostel_documents::PackageName;
use yostel_findings::{Rating, Threat};
use yostel_flows::{Advised, AuditReport, WayOut};

use crate::render::{Role, count, indented, join, paint};
use crate::sanitise::sanitise;

/// How many advisories are told, without `--verbose`.
const MOST_TOLD: usize = 20;

/// How many who keep a release out are named.
const MOST_HOLDERS: usize = 3;

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
        if let Some((step, others)) = next(&threat.package, way, &report.project) {
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
        text.push_str(&indented(2, format!("{} of {}: {}", unread.file, unread.source, unread.why)));
    }
    if report.unread.len() > MOST_UNREAD {
        text.push_str(&indented(2, format!("and {} more", report.unread.len() - MOST_UNREAD)));
    }
    text
}

/// Writes how bad it is, as far as anybody says.
pub(crate) fn severity_words(threat: &Threat) -> Option<String> {
    threat.severity.map(|(rating, score)| format!("{} ({score:.1})", rating_word(rating)))
}

fn way_words(threat: &Threat, way: &WayOut) -> String {
    let Some(fixed) = &threat.fixed else { return "there is no newer release that is not affected".to_owned() };
    let because = match way {
        WayOut::Fresh(version) => return format!("yostel lock --fresh takes {version}, which is not affected"),
        WayOut::NoRelease => return "there is no newer release that is not affected".to_owned(),
        WayOut::Need { requirement, .. } => format!("{} needs {}", requirement.asker, requirement.accept),
        WayOut::Forced => format!("[force] in yostel.toml keeps {}", threat.version),
        WayOut::Held(by) if by.is_empty() => "what others need keeps it out".to_owned(),
        WayOut::Held(by) => {
            let more = by.len().saturating_sub(MOST_HOLDERS);
            let told = by.iter().take(MOST_HOLDERS).map(|asked| format!("{} needs {}", asked.who, asked.accept));
            join(&told.chain((more > 0).then(|| format!("{more} more"))).collect::<Vec<_>>())
        }
    };
    format!("{fixed} is not affected, and {because}")
}

/// Returns the command that changes the need, where that is the way out, and how many other packages move then.
pub(super) fn next(package: &PackageName, way: &WayOut, project: &PackageName) -> Option<(String, usize)> {
    let WayOut::Need { requirement, accept, others } = way else { return None };
    let of = match requirement.asker.name() {
        name if name == project => String::new(),
        name => format!("--project {name} "),
    };
    let purpose = match requirement.purpose.as_str() {
        "run" => String::new(),
        purpose => format!(" --for {purpose}"),
    };
    Some((format!("yostel {of}add {package} '{}'{purpose}", accept.everywhere()), *others))
}
