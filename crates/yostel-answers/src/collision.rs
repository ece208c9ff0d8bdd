//! A collision as data: the needs that collide, what releases say that makes them collide, and what each constraint leaves.

use std::collections::BTreeSet;

use schemars::JsonSchema;
use serde::Serialize;
use yostel_documents::Requirement;
use yostel_flows::RequirementPlace;
use yostel_resolve::{Barred, Collision, Fact, Minimality, WithinReach};

/// Needs that no set meets together, and of which none can go.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct CollisionTold {
    /// The needs of projects.
    pub needs: Vec<CollidingNeed>,
    /// What releases need, in the order in which a reader meets the packages.
    pub facts: Vec<CollidingFact>,
    /// Roles that two of the packages would fill.
    pub roles: Vec<CollidingRole>,
    /// Packages that are asked for on different compatible lines.
    pub lines_apart: Vec<LinesToldApart>,
    /// What each constraint above leaves.
    pub leaves: Vec<Left>,
    /// Whether it was shown that no need and no fact can go.
    pub minimal: bool,
}

impl CollisionTold {
    /// Names the packages that collide, and those through which they do.
    pub fn packages(&self) -> BTreeSet<&str> {
        let of_needs =
            self.needs.iter().flat_map(|need| [Some(&need.package), need.asked.as_ref().map(|a| &a.package)]);
        let of_facts = self.facts.iter().flat_map(|fact| {
            [&fact.who, &fact.package].into_iter().chain(fact.asked.iter().map(|asked| &asked.package)).map(Some)
        });
        let of_roles = self.roles.iter().flat_map(|role| [Some(&role.one), Some(&role.other)]);
        let apart = self.lines_apart.iter().map(|apart| Some(&apart.package));
        of_needs.chain(of_facts).chain(of_roles).chain(apart).flatten().map(String::as_str).collect()
    }
}

/// A need of a project.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct CollidingNeed {
    /// Whose it is.
    pub who: String,
    /// For which purpose.
    pub purpose: String,
    /// The package, as it binds.
    pub package: String,
    /// The constraint, as it binds.
    pub accept: String,
    /// The manifest; null when the need is in none.
    pub file: Option<String>,
    /// Its line, from 1.
    pub line: Option<usize>,
    /// What is written there, where a rule of the manifest made this of it.
    pub asked: Option<Asked>,
}

/// A package and a constraint, as they are asked for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Asked {
    /// The package.
    pub package: String,
    /// The constraint.
    pub accept: String,
}

/// Releases of one package that need the same thing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct CollidingFact {
    /// The package whose releases need it.
    pub who: String,
    /// Those releases, rising.
    pub versions: Vec<String>,
    /// The package that they need, as it binds.
    pub package: String,
    /// The constraint, as it binds.
    pub accept: String,
    /// What they ask for, where a rule of the manifest made this of it.
    pub asked: Vec<Asked>,
}

/// Two packages that fill one role.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct CollidingRole {
    /// The role.
    pub role: String,
    /// One package.
    pub one: String,
    /// The other.
    pub other: String,
}

/// A package that is asked for on lines that have nothing in common.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct LinesToldApart {
    /// The package.
    pub package: String,
    /// The lines, rising.
    pub lines: Vec<String>,
    /// The position, from 1, whose change starts a new line.
    pub breaks_at: usize,
}

/// What a constraint leaves of a package's releases.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Left {
    /// The package.
    pub package: String,
    /// The constraint.
    pub accept: String,
    /// Releases that it accepts and that may be chosen, rising.
    pub versions: Vec<String>,
    /// Releases that it accepts and that may not be chosen, rising.
    pub barred: Vec<BarredTold>,
    /// Releases that it accepts and that offer nothing for a platform to be served, rising.
    pub unserved: Vec<String>,
    /// Those platforms.
    pub platforms: Vec<String>,
    /// Whether any source has the package.
    pub known: bool,
}

/// A release that may not be chosen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct BarredTold {
    /// The version.
    pub version: String,
    /// When it was published.
    pub published: String,
    /// `withdrawn`, `published-later` or `too-young`.
    pub why: &'static str,
    /// Of one that is withdrawn, the reason that was given; null otherwise.
    pub reason: Option<String>,
    /// When it was withdrawn, or from when on it counts; null when neither is known.
    pub since: Option<String>,
}

impl CollisionTold {
    /// Tells of a collision, with the places of its needs.
    pub(crate) fn of(collision: &Collision, places: &[RequirementPlace]) -> Self {
        let Collision { requirements, facts, roles, lines, reach, minimal, .. } = collision;
        Self {
            needs: requirements.iter().map(|need| need_told(need, places)).collect(),
            facts: facts.iter().map(fact_told).collect(),
            roles: roles
                .iter()
                .map(|clash| CollidingRole {
                    role: clash.role.to_string(),
                    one: clash.one.to_string(),
                    other: clash.other.to_string(),
                })
                .collect(),
            lines_apart: lines
                .iter()
                .map(|apart| LinesToldApart {
                    package: apart.package.to_string(),
                    lines: apart.lines.clone(),
                    breaks_at: apart.breaks_at,
                })
                .collect(),
            leaves: reach.iter().map(left).collect(),
            minimal: *minimal == Minimality::Shown,
        }
    }
}

fn need_told(need: &Requirement, places: &[RequirementPlace]) -> CollidingNeed {
    let place = places.iter().find(|place| place.requirement == *need);
    CollidingNeed {
        who: need.asker.to_string(),
        purpose: need.purpose.to_string(),
        package: need.package.to_string(),
        accept: need.accept.to_string(),
        file: place.map(|place| place.file.clone()),
        line: place.map(|place| place.line),
        asked: place.and_then(|place| place.asked.as_ref()).map(asked),
    }
}

fn asked((package, accept): &(impl ToString, impl ToString)) -> Asked {
    Asked { package: package.to_string(), accept: accept.to_string() }
}

fn fact_told(fact: &Fact) -> CollidingFact {
    CollidingFact {
        who: fact.asker.to_string(),
        versions: fact.versions.iter().map(ToString::to_string).collect(),
        package: fact.package.to_string(),
        accept: fact.accept.to_string(),
        asked: fact.asked.iter().map(asked).collect(),
    }
}

fn left(reach: &WithinReach) -> Left {
    let (unserved, platforms) = &reach.unserved;
    Left {
        package: reach.package.to_string(),
        accept: reach.accept.to_string(),
        versions: reach.versions.iter().map(ToString::to_string).collect(),
        barred: reach
            .barred
            .iter()
            .map(|(version, published, barred)| {
                let (why, reason, since) = match barred {
                    Barred::Withdrawn(one) => ("withdrawn", Some(one.why.clone()), Some(one.on.to_string())),
                    Barred::PublishedLater => ("published-later", None, None),
                    Barred::TooYoung(from) => ("too-young", None, from.map(|from| from.to_string())),
                };
                BarredTold { version: version.to_string(), published: published.to_string(), why, reason, since }
            })
            .collect(),
        unserved: unserved.iter().map(ToString::to_string).collect(),
        platforms: platforms.iter().cloned().collect(),
        known: reach.known,
    }
}
