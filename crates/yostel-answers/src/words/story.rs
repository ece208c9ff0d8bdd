//! A collision line by line: who needs what, what made that of it, and what there is.

use std::collections::{BTreeMap, BTreeSet};

use crate::diagnostic::Note;
use jiff::Timestamp;
use yostel_documents::{PackageName, Requirement};
use yostel_flows::{RequirementPlace, RulePlace};
use yostel_resolve::{Barred, Collision, Fact, WithinReach};
use yostel_versions::{ConstraintText, Version};

use super::texts::{day, join_or};
use super::{TOLD, count, join};

/// How many needs of projects are told, and how many facts.
const MOST_LINES: usize = 10;

/// How many releases of a fact are named before only the first and the last are.
const MOST_NAMED: usize = 3;

/// What a story is told with.
#[derive(Debug, Clone, Copy, Default)]
pub struct Telling<'t> {
    /// Where the needs are.
    pub places: &'t [RequirementPlace],
    /// What the manifest says about packages of the collision, and where.
    pub rules: &'t [RulePlace],
    /// The need that only stands for a question, and is told as such.
    pub asked: Option<&'t Requirement>,
}

/// Tells a collision line by line: the needs with their places, then each fact with what it accepts, in the order one
/// follows them. Of a long way the middle is folded.
pub fn story(collision: &Collision, with: &Telling<'_>) -> Vec<Note> {
    let mut lines: Vec<Note> = with
        .asked
        .iter()
        .map(|requirement| {
            // That one version leaves that version need not be said.
            let why = reach_of(collision, requirement).filter(|reach| reach.versions.is_empty()).map(leaves);
            format!("asked for: {} {}{}", requirement.package, requirement.accept, why.unwrap_or_default()).into()
        })
        .collect();
    let needs = collision.requirements.iter().filter(|requirement| with.asked != Some(requirement));
    let needs: Vec<&Requirement> = needs.collect();
    for requirement in needs.iter().take(MOST_LINES) {
        let place = with.places.iter().find(|place| place.requirement == **requirement);
        let asked: Vec<_> = place.and_then(|place| place.asked.clone()).into_iter().collect();
        let bound = (&requirement.package, &requirement.accept);
        let says = format!(
            "{} needs {}{}",
            requirement.asker,
            made_of(&asked, bound, with.rules),
            reach_words(collision, requirement)
        );
        lines.push(place.map_or_else(|| Note::from(&*says), |place| Note::at(&place.file, place.line, &*says)));
    }
    more(needs.len(), "need", &mut lines);
    let told = folded(&collision.facts);
    for told in told.iter().take(MOST_LINES) {
        lines.push(match told {
            Told::Fact(fact) => fact_words(fact, collision, with.rules).into(),
            Told::Between(between) => format!("… {} between …", count(*between, "package")).into(),
        });
    }
    more(told.len(), "fact", &mut lines);
    for clash in collision.roles.iter().take(TOLD) {
        lines.push(format!("{} and {} both fill the role {}", clash.one, clash.other, clash.role).into());
    }
    for apart in collision.lines.iter().take(MOST_NAMED) {
        let (apart_lines, package) = (join(&apart.lines), &apart.package);
        let nth = match apart.breaks_at {
            1 => "first".to_owned(),
            2 => "second".to_owned(),
            3 => "third".to_owned(),
            n => format!("{n}th"),
        };
        lines.push(
            format!(
                "{apart_lines} of {package} are not compatible: in its numbering, a new {nth} number is a breaking change"
            )
            .into(),
        );
    }
    lines.extend(rules_apart(collision, with.rules));
    lines
}

/// Says how many more there are of a kind of which only some are told.
fn more(all: usize, what: &str, lines: &mut Vec<Note>) {
    if let Some(more) = all.checked_sub(MOST_LINES).filter(|more| *more > 0) {
        lines.push(format!("and {} of this kind", count(more, &format!("more {what}"))).into());
    }
}

/// Tells of rules that are about no single package: how old a release must be, and the listed platforms.
fn rules_apart(collision: &Collision, rules: &[RulePlace]) -> Vec<Note> {
    let young = |reach: &WithinReach| reach.barred.iter().any(|(.., barred)| matches!(barred, Barred::TooYoung(_)));
    let matters = |rule: &&RulePlace| match rule.key.as_str() {
        "minimum-age" => collision.reach.iter().any(young),
        "platforms" => collision.reach.iter().any(|reach| !reach.unserved.0.is_empty()),
        _ => false,
    };
    let apart = rules.iter().filter(|rule| ["policy", "project"].contains(&rule.table)).filter(matters);
    apart.map(|rule| Note::at("yostel.toml", rule.line, format!("{} = {}", rule.key, rule.says))).collect()
}

fn fact_words(fact: &Fact, collision: &Collision, rules: &[RulePlace]) -> String {
    let named: Vec<String> = fact.versions.iter().map(ToString::to_string).collect();
    let versions = match (&named[..], fact.in_range) {
        (few, _) if few.len() <= MOST_NAMED => join(few),
        ([first, .., last], all) if all == named.len() => format!("{first} to {last} (all {all} releases)"),
        ([first, .., last], all) => format!("{} of the {all} releases from {first} to {last}", named.len()),
        _ => String::new(),
    };
    let verb = if fact.versions.len() == 1 { "needs" } else { "need" };
    let need = made_of(&fact.asked, (&fact.package, &fact.accept), rules);
    let reach = collision.reach.iter().find(|reach| reach.package == fact.package && reach.accept == fact.accept);
    format!("{} {versions} {verb} {need}{}", fact.asker, reach.map(leaves).unwrap_or_default())
}

fn reach_words(collision: &Collision, requirement: &Requirement) -> String {
    reach_of(collision, requirement).map(leaves).unwrap_or_default()
}

fn reach_of<'c>(collision: &'c Collision, requirement: &Requirement) -> Option<&'c WithinReach> {
    collision.reach.iter().find(|reach| reach.package == requirement.package && reach.accept == requirement.accept)
}

/// Writes a need: what is asked for, and where a rule of the manifest makes something else of it, which and what.
fn made_of(
    asked: &[(PackageName, ConstraintText)],
    (package, accept): (&PackageName, &ConstraintText),
    rules: &[RulePlace],
) -> String {
    let bound = format!("{package} {accept}");
    let words: Vec<String> = asked.iter().map(|(package, accept)| format!("{package} {accept}")).collect();
    if words.is_empty() || words == [bound.clone()] {
        return bound;
    }
    let swaps = |rule: &RulePlace| {
        rule.table == "swap" && asked.iter().any(|(asked, _)| *asked != *package && rule.key == asked.as_str())
    };
    let binds = |rule: &RulePlace| ["force", "agreed"].contains(&rule.table) && rule.key == package.as_str();
    let made: Vec<String> = rules
        .iter()
        .filter(|rule| swaps(rule) || binds(rule))
        .map(|rule| format!("[{}] (yostel.toml:{})", rule.table, rule.line))
        .collect();
    let asked = join(&words);
    match &made[..] {
        // Two needs of one package, for one purpose.
        [] => format!("{asked}, together {bound}"),
        [one] => format!("{asked}, which {one} makes {bound}"),
        several => format!("{asked}, which {} make {bound}", join(several)),
    }
}

/// Says what a need leaves of the releases there are, and why not more.
fn leaves(reach: &WithinReach) -> String {
    if !reach.known {
        return format!("; no source has {}", reach.package);
    }
    if !reach.versions.is_empty() {
        let not = barred_words(&reach.barred).map(|words| format!(" ({words})")).unwrap_or_default();
        return format!(", which leaves {}{not}", one_of_versions(&reach.versions));
    }
    if let Some((version, origin)) = &reach.elsewhere {
        return format!("; it is {version} ({origin})");
    }
    let mut reasons = Vec::new();
    if !reach.unserved.0.is_empty() {
        let platforms: Vec<String> = reach.unserved.1.iter().cloned().collect();
        let verb = if reach.unserved.0.len() == 1 { "offers" } else { "offer" };
        reasons.push(format!("{} {verb} nothing for {}", some_versions(&reach.unserved.0), join(&platforms)));
    }
    reasons.extend(barred_words(&reach.barred));
    if !reasons.is_empty() {
        return format!(", which no release meets that may be chosen: {}", reasons.join("; "));
    }
    match reach.there.iter().rfind(|version| !version.is_pre_release()) {
        None if reach.there.is_empty() => ", which no release meets".to_owned(),
        None => format!(", which no release meets; there are only pre-releases: {}", some_versions(&reach.there)),
        Some(newest) => {
            let newer = reach.there.iter().rev().take_while(|version| *version > newest).cloned();
            let mut newer: Vec<Version> = newer.collect();
            newer.reverse();
            let before = match newer.is_empty() {
                true => String::new(),
                false => format!(", and before their release {}", some_versions(&newer)),
            };
            let released: Vec<Version> =
                reach.there.iter().filter(|version| !version.is_pre_release()).cloned().collect();
            format!(", which no release meets; there is {}{before}", some_versions(&released))
        }
    }
}

/// Says of releases why they may not be chosen: the newest of each kind with what is known of it.
fn barred_words(barred: &[(Version, Timestamp, Barred)]) -> Option<String> {
    let mut kinds: BTreeMap<u8, Vec<&(Version, Timestamp, Barred)>> = BTreeMap::new();
    for one in barred.iter().rev() {
        let kind = match one.2 {
            Barred::TooYoung(_) => 0,
            Barred::Withdrawn(_) => 1,
            Barred::PublishedLater => 2,
        };
        kinds.entry(kind).or_default().push(one);
    }
    let of_kind = |all: Vec<&(Version, Timestamp, Barred)>| {
        let (version, published, why) = all.first()?;
        let says = match why {
            Barred::TooYoung(Some(from)) => {
                format!("{version} (published {}) is too young until {}", day(*published), day(*from))
            }
            Barred::TooYoung(None) => format!("{version} is too young"),
            Barred::Withdrawn(withdrawal) => {
                format!("{version} was withdrawn {}: {}", day(withdrawal.on), withdrawal.why.trim_end_matches('.'))
            }
            Barred::PublishedLater => format!("{version} was published {}, after the day asked for", day(*published)),
        };
        let is_young = matches!(why, Barred::TooYoung(_));
        Some(match (all.len() - 1, is_young) {
            (0, _) => says,
            (1, true) => format!("{says}, and so is an older one"),
            (1, false) => format!("{says}, and so was an older one"),
            (older, true) => format!("{says}, and so are {older} older"),
            (older, false) => format!("{says}, and so were {older} older"),
        })
    };
    let told: Vec<String> = kinds.into_values().filter_map(of_kind).collect();
    (!told.is_empty()).then(|| told.join("; "))
}

/// A line of a story.
enum Told<'f> {
    Fact(&'f Fact),
    /// Packages on a way from which no other leads off.
    Between(usize),
}

/// Folds the middle of long ways, where there is too much to tell: of each way on which every package asks for one
/// thing and is asked for once, both ends are told.
fn folded(facts: &[Fact]) -> Vec<Told<'_>> {
    if facts.len() <= MOST_LINES {
        return facts.iter().map(Told::Fact).collect();
    }
    let (mut asks, mut asked): (BTreeMap<&PackageName, usize>, BTreeMap<&PackageName, usize>) = Default::default();
    for fact in facts {
        *asks.entry(&fact.asker).or_default() += 1;
        *asked.entry(&fact.package).or_default() += 1;
    }
    let by_asker: BTreeMap<&PackageName, usize> =
        facts.iter().enumerate().map(|(at, fact)| (&fact.asker, at)).collect();
    let after = |fact: &Fact| {
        let alone = asked[&fact.package] == 1 && asks.get(&fact.package) == Some(&1);
        by_asker.get(&fact.package).copied().filter(|_| alone)
    };
    let continued: BTreeSet<usize> = facts.iter().filter_map(after).collect();
    let mut told = Vec::new();
    // A way that leads nowhere in particular begins at a fact that continues none.
    for start in (0..facts.len()).filter(|at| !continued.contains(at)) {
        let (mut way, mut passed) = (vec![start], BTreeSet::from([start]));
        while let Some(next) = after(&facts[way[way.len() - 1]]).filter(|next| passed.insert(*next)) {
            way.push(next);
        }
        if way.len() <= 3 {
            told.extend(way.iter().map(|at| Told::Fact(&facts[*at])));
        } else {
            told.push(Told::Fact(&facts[way[0]]));
            told.push(Told::Between(way.len() - 3));
            told.push(Told::Fact(&facts[way[way.len() - 1]]));
        }
    }
    told
}

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
    let shown: Vec<String> = versions.iter().rev().take(TOLD).map(ToString::to_string).collect();
    match versions.len().checked_sub(TOLD).filter(|more| *more > 0) {
        None => join_or(&shown),
        Some(more) => format!("{} or {more} older", shown.join(", ")),
    }
}
