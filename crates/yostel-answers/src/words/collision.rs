//! Collisions: the needs, the facts, and what to do.

use crate::code::Code;
use crate::diagnostic::{Diagnostic, Note, Suggestion};
use yostel_documents::{PackageName, Requirement};
use yostel_flows::{RequirementPlace, RulePlace};
use yostel_resolve::Collision;
use yostel_versions::Version;

use super::{TOLD, tell};
use super::{count, join};

pub(super) fn some_versions(versions: &[Version]) -> String {
    let shown: Vec<String> = versions.iter().rev().take(TOLD).map(ToString::to_string).collect();
    match versions.len().checked_sub(TOLD).filter(|more| *more > 0) {
        _ if versions.is_empty() => "nothing".into(),
        None => join(&shown),
        Some(more) => format!("{} and {more} older", shown.join(", ")),
    }
}

/// Like [`some_versions`], of which one is to be picked.
fn one_of_versions(versions: &[Version]) -> String {
    some_versions(versions).replace(" and ", " or ")
}

/// Tells collisions: each for itself, and what is the same for all of them once.
pub(super) fn of_collisions(
    collision: &Collision,
    places: &[RequirementPlace],
    rules: &[RulePlace],
    proof: Option<String>,
) -> Vec<Diagnostic> {
    let all = std::iter::once(collision).chain(&collision.others);
    let mut told: Vec<Diagnostic> = all.map(|collision| of_collision(collision, places)).collect();
    if let (Some(folder), Some(last)) = (proof, told.last_mut()) {
        last.notes.push(format!("{folder} holds problem.cnf, variables.tsv and proof.drat").into());
    }
    if let Some(first) = told.first_mut() {
        let says = |rule: &RulePlace| {
            Note::at("yostel.toml", rule.line, format!("[{}] {} {}", rule.table, rule.package, rule.says))
        };
        first.notes.extend(rules.iter().map(says));
    }
    // What to do is the same for all of them and is said once, at the end.
    for earlier in told.iter_mut().rev().skip(1) {
        earlier.next = vec!["this is a separate collision; the step at the end is for all of them".into()];
    }
    told
}

/// Tells a collision as a story: the needs, then each fact with what it accepts, in the order one follows them.
fn of_collision(collision: &Collision, places: &[RequirementPlace]) -> Diagnostic {
    let headline = match &collision.requirements[..] {
        [one] => format!("{one}: no release can meet that"),
        requirements => {
            let names: Vec<String> = requirements.iter().map(|w| format!("{} {}", w.package, w.accept)).collect();
            format!("{} cannot be met together", join(&names))
        }
    };
    let next = Suggestion::run("yostel settle", "for the smallest edits that end this, each proved by resolving it");
    let mut diagnostic = tell(Code::Collision, headline, next);
    diagnostic.notes = story(collision, places, None);
    if !collision.minimal {
        diagnostic.notes.push("some of this may not matter; finding out would have taken too long".into());
    }
    if let Some(clash) = collision.roles.first() {
        let newest = collision.reach.iter().filter(|reach| reach.package == clash.other);
        let newest = newest.filter_map(|reach| reach.versions.last()).max();
        let accept = newest.map(|version| format!(", accept = \"^{version}\"")).unwrap_or_default();
        let swap = format!(
            "{} = {{ use = \"{}\"{accept}, why = \"…\" }} in [swap], to have one of them only",
            clash.one, clash.other
        );
        diagnostic.next.push(swap.into());
        diagnostic.next.push(format!("share-roles = [\"{}\"] in [policy], if both may be there", clash.role).into());
    }
    if let Some(apart) = collision.lines.first() {
        let lines = join(&apart.lines);
        let package = &apart.package;
        diagnostic
            .next
            .push(format!("coexist = [\"{package}\"] in [policy], if {lines} of it may both be there").into());
    }
    if collision.reach.iter().any(|reach| reach.versions.is_empty() && reach.barred > 0) {
        diagnostic.next.push("a later --as-of or a smaller minimum-age, where that is what keeps releases away".into());
    }
    diagnostic
}

/// Tells a collision line by line: the needs with their places, then each fact with what it accepts. The need that only
/// stands for a question is told as such.
pub fn story(collision: &Collision, places: &[RequirementPlace], asked: Option<&Requirement>) -> Vec<Note> {
    let mut lines: Vec<Note> = asked
        .iter()
        .map(|requirement| format!("asked for: {} {}", requirement.package, requirement.accept).into())
        .collect();
    let accepts = |package: &PackageName, accept: &yostel_versions::ConstraintText| {
        let reach = collision.reach.iter().find(|reach| reach.package == *package && reach.accept == *accept);
        match reach {
            Some(reach) if !reach.known => format!("; no source has {package}"),
            Some(reach) if reach.versions.is_empty() && reach.unserved.0 > 0 => {
                let platforms: Vec<String> = reach.unserved.1.iter().cloned().collect();
                let verb = if reach.unserved.0 == 1 { "offers" } else { "offer" };
                let releases = count(reach.unserved.0, "release");
                format!("; {releases} would do, but {verb} nothing for {}", join(&platforms))
            }
            Some(reach) if reach.versions.is_empty() && reach.barred > 0 => {
                let are = if reach.barred == 1 { "matches, but it is" } else { "match, but they are" };
                format!("; {} {are} withdrawn or newer than the date allowed", count(reach.barred, "release"))
            }
            Some(reach) if reach.versions.is_empty() => match &reach.elsewhere {
                Some((version, origin)) => format!("; it is {version} ({origin})"),
                None => ", which no release meets".to_owned(),
            },
            Some(reach) => format!(", which leaves {}", one_of_versions(&reach.versions)),
            None => String::new(),
        }
    };
    for requirement in &collision.requirements {
        if asked == Some(requirement) {
            continue;
        }
        let says = format!("{requirement}{}", accepts(&requirement.package, &requirement.accept));
        let place = places.iter().find(|place| place.requirement == *requirement);
        lines.push(place.map_or_else(|| Note::from(&*says), |place| Note::at(&place.file, place.line, &*says)));
    }
    for fact in collision.facts.iter().take(2 * TOLD) {
        let versions: Vec<String> = fact.versions.iter().map(ToString::to_string).collect();
        let versions = if versions.len() > 3 {
            format!("{} to {} ({} releases)", versions[0], versions[versions.len() - 1], versions.len())
        } else {
            join(&versions)
        };
        let verb = if fact.versions.len() == 1 { "needs" } else { "need" };
        let reach = accepts(&fact.package, &fact.accept);
        lines.push(format!("{} {versions} {verb} {} {}{reach}", fact.asker, fact.package, fact.accept).into());
    }
    for clash in &collision.roles {
        lines.push(format!("{} and {} both fill the role {}", clash.one, clash.other, clash.role).into());
    }
    for apart in &collision.lines {
        let (apart_lines, position) = (join(&apart.lines), apart.breaks_at);
        let package = &apart.package;
        let nth = match position {
            1 => "first".to_owned(),
            2 => "second".to_owned(),
            3 => "third".to_owned(),
            n => format!("{n}th"),
        };
        lines.push(format!(
            "{apart_lines} of {package} are not compatible: in its numbering, a new {nth} number is a breaking change"
        ).into());
    }
    if collision.facts.len() > 2 * TOLD {
        lines.push(format!("and {} more facts of this kind", collision.facts.len() - 2 * TOLD).into());
    }
    lines
}
