//! How bad an advisory is, and what gets out of it.

use yostel_documents::{PackageName, Requirement};
use yostel_findings::{Dismissed, Threat, WayOut};
use yostel_versions::ConstraintText;

use super::texts::join;

/// How many who keep a release out are named.
const MOST_HOLDERS: usize = 3;

/// Writes how bad it is, as far as anybody says.
pub fn severity_words(threat: &Threat) -> Option<String> {
    threat.severity.map(|(rating, score)| format!("{} ({score:.1})", rating.word()))
}

/// Says how to get out of an advisory, or who is in the way.
pub fn way_words(threat: &Threat, way: &WayOut) -> String {
    if let WayOut::Commit(commit) = way {
        let commit = commit.get(..12).unwrap_or(commit);
        return format!("its repository has ended it in commit {commit}: take a state of it that has that commit");
    }
    let Some(fixed) = &threat.fixed else { return "there is no newer release that is not affected".to_owned() };
    let because = match way {
        WayOut::Fresh(version) => {
            return format!("{version} is not affected: yostel update {} --advisories gets out of it", threat.package);
        }
        WayOut::NoRelease | WayOut::Commit(_) => return "there is no newer release that is not affected".to_owned(),
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

/// Says of what was dismissed what it is, why, and until when.
pub fn dismissed_words(dismissed: &Dismissed) -> String {
    let Dismissed { threat, why, until, file } = dismissed;
    let until = until.map(|until| format!(" until {until}")).unwrap_or_default();
    let why = why.as_ref().map(|why| format!(": {}", why.trim_end_matches('.'))).unwrap_or_default();
    format!("{} for {} {}, by {file}{until}{why}", threat.id, threat.package, threat.version)
}

/// Returns the command that changes the need, where that is the way out, and how many other packages move then.
pub fn need_command(way: &WayOut, project: &PackageName) -> Option<(String, usize)> {
    let WayOut::Need { requirement, accept, others } = way else { return None };
    Some((command_for(requirement, accept, project), *others))
}

/// Returns the command that gives a need another constraint.
pub fn command_for(requirement: &Requirement, accept: &ConstraintText, project: &PackageName) -> String {
    let of = match requirement.asker.name() {
        name if name == project => String::new(),
        name => format!("--project {name} "),
    };
    let purpose = match requirement.purpose.as_str() {
        "run" => String::new(),
        purpose => format!(" --for {purpose}"),
    };
    format!("yostel {of}add {} '{}'{purpose}", requirement.package, accept.everywhere())
}
