//! What a change of a lockfile means, in words.

use yostel_findings::{Cause, Compared, MoveKind, NeedChange};
use yostel_flows::Side;

use super::texts::join;

/// Says which lockfile it is.
pub fn side_words(side: &Side) -> String {
    match side {
        Side::Now => "now".to_owned(),
        Side::File(path) => path.display().to_string(),
        Side::Revision(revision) => revision.clone(),
        Side::Unwritten(_) => "the update".to_owned(),
        Side::AsOf(day) => format!("releases as of {}", super::texts::day(*day)),
    }
}

/// Says from which version to which a package moved, or what else happened to it.
pub fn versions_words(kind: &MoveKind) -> String {
    let purposes = |all: &std::collections::BTreeSet<_>| join(&all.iter().map(ToString::to_string).collect::<Vec<_>>());
    match kind {
        MoveKind::Added { to } => to.to_string(),
        MoveKind::Dropped { from } => from.to_string(),
        MoveKind::Moved { from, to, .. } => format!("{from} -> {to}"),
        MoveKind::Content { version } => format!("{version}, other content"),
        MoveKind::Record { version } => format!("{version}, described otherwise by its source"),
        MoveKind::Origin { version, from, to } => format!("{version}, from {to} in place of {from}"),
        MoveKind::Platforms { from, to } => format!("for {} in place of {}", to.join(", "), from.join(", ")),
        MoveKind::Altered { now: true } => "with a patch".to_owned(),
        MoveKind::Altered { now: false } => "without a patch".to_owned(),
        MoveKind::Purposes { from, to } => format!("for {} in place of {}", purposes(to), purposes(from)),
    }
}

/// Says what caused a move; nothing where that needs no words.
pub fn cause_words(compared: &Compared) -> String {
    let says = match (&compared.cause, &compared.moved.kind) {
        (Cause::Need(need), _) => need_words(need, "it"),
        (Cause::Release { package, version, is_there, accept }, kind) => match (is_there, kind) {
            (true, MoveKind::Added { .. }) => format!("came with {package} {version}"),
            (true, _) => format!("{package} {version} needs {accept}"),
            (false, MoveKind::Dropped { .. }) => format!("went with {package} {version}"),
            (false, _) => format!("{package} {version}, which needed {accept}, is gone"),
        },
        (Cause::Force { is_there: true }, _) => "[force] says so".to_owned(),
        (Cause::Force { is_there: false }, _) => "[force] does not say otherwise any more".to_owned(),
        (Cause::MadeWay { package, version, accept }, _) => {
            format!("made way for {package} {version}: it needed {accept}")
        }
        (Cause::Unprovoked, MoveKind::Moved { from, to, .. }) if to > from => "a newer release was taken".to_owned(),
        (Cause::Unprovoked, MoveKind::Moved { .. }) => "an older release was taken".to_owned(),
        (Cause::Unprovoked, _) => String::new(),
    };
    match &compared.root {
        Some(root) => format!("{says}: {}", need_words(root, root.package.as_str())),
        None => says,
    }
}

/// Says how a need changed; `what` is what is needed.
fn need_words(need: &NeedChange, what: &str) -> String {
    let NeedChange { project, purpose, before, after, .. } = need;
    let purpose = match purpose.as_str() {
        "run" => String::new(),
        purpose => format!(" for {purpose}"),
    };
    match (before, after) {
        (None, Some(after)) => format!("{project} needs {what} now{purpose}, {after}"),
        (Some(before), Some(after)) if what == "it" => format!("{project} needs {after}{purpose} in place of {before}"),
        (Some(before), Some(after)) => format!("{project} needs {what} {after}{purpose} in place of {before}"),
        (_, None) => format!("{project} does not need {what}{purpose} any more"),
    }
}
