//! Answers of the commands that write a lockfile.

use std::collections::BTreeMap;
use std::path::PathBuf;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;
use yostel_documents::SourceName;
use yostel_findings::BothMoved;
use yostel_flows::{InstallReport, LockReport, SearchReport, Settlement, Settlements};
use yostel_resolve::{Extent, Overridden};

use super::Told;
use super::advisories::ThreatTold;
use super::parts::{EditTold, MoveTold, NoticeTold, ReleaseTold, texts, told};
use super::using::InstallAnswer;
use crate::words::doubt_words;

/// Answer of `lock`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct LockAnswer {
    /// The lockfile.
    pub lockfile: PathBuf,
    /// How many packages it locks.
    pub packages: usize,
    /// Its seal.
    pub seal: String,
    /// Whether it changed, or would.
    pub changed: bool,
    /// Whether it was written.
    pub written: bool,
    /// What moved.
    pub moves: Vec<MoveTold>,
    /// Releases that would be chosen if nothing were kept, above those that were kept.
    pub newer_accepted: Vec<NewerTold>,
    /// What is probably not meant, a sentence each.
    pub doubts: Vec<String>,
    /// What is said of locked releases since they were published.
    pub notices: Vec<NoticeTold>,
    /// What was locked, was withdrawn, and is locked no more.
    pub left: Vec<NoticeTold>,
    /// What was locked and is not in its source any more.
    pub gone: Vec<ReleaseTold>,
    /// Needs that get something else than they ask for, because the manifest says so.
    pub overridden: Vec<OverriddenTold>,
    /// Packages that only this machine has.
    pub only_here: Vec<String>,
    /// Packages that `[alter]` names and nothing needs.
    pub unused_patches: Vec<String>,
    /// What `--as-of` or `--take` would move if what is locked were not kept.
    pub held: Vec<MoveTold>,
    /// Other files of the project that mention what is locked, and change with it.
    pub followed: Vec<String>,
    /// With `--offline`: the sources on servers, none of which was asked.
    pub cached: Vec<CachedTold>,
    /// What the search did; null when there was nothing to search for.
    pub search: Option<SearchTold>,
    /// With `--merge`, packages that both sides moved, each to another version; `moves` are against ours then.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub both_moved: Option<Vec<BothMovedTold>>,
    /// With `--install`: what installing came to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub install: Option<InstallAnswer>,
}

impl LockAnswer {
    /// Adds what followed.
    #[must_use]
    pub fn and_then(self, install: Option<&InstallReport>) -> Self {
        Self { install: install.map(InstallAnswer::from), ..self }
    }
}

impl Told for LockAnswer {
    const COMMAND: &'static str = "lock";
}

/// A package that both sides of a merge moved.
#[derive(Debug, Serialize, JsonSchema)]
pub struct BothMovedTold {
    /// The package.
    pub package: String,
    /// Where ours moved it.
    pub ours: String,
    /// Where theirs did.
    pub theirs: String,
}

impl From<&BothMoved> for BothMovedTold {
    fn from(both: &BothMoved) -> Self {
        Self { package: both.package.to_string(), ours: both.ours.to_string(), theirs: both.theirs.to_string() }
    }
}

/// A package that was kept below something newer.
#[derive(Debug, Serialize, JsonSchema)]
pub struct NewerTold {
    /// The package.
    pub package: String,
    /// The version that is locked.
    pub locked: String,
    /// The newer one.
    pub newer: String,
}

/// A need that gets something else than it asks for.
#[derive(Debug, Serialize, JsonSchema)]
pub struct OverriddenTold {
    /// Who asks.
    pub who: String,
    /// The package that is asked for.
    pub asked: String,
    /// The constraint.
    pub accept: String,
    /// The package that is there.
    pub package: String,
    /// The version that is there.
    pub version: String,
}

impl From<&Overridden> for OverriddenTold {
    fn from(one: &Overridden) -> Self {
        Self {
            who: one.asked.asker.to_string(),
            asked: one.asked.package.to_string(),
            accept: one.asked.accept.to_string(),
            package: one.package.to_string(),
            version: one.version.to_string(),
        }
    }
}

/// What a search did.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct SearchTold {
    /// What is known of the answer: `best`, `fewest-moves` or `found-in-time`.
    pub standing: String,
    /// Packages that the search knew.
    pub packages: u64,
    /// Their releases.
    pub releases: u64,
    /// Releases that were looked at.
    pub looked_at: u64,
    /// Questions to the solver.
    pub questions: u64,
    /// Decisions.
    pub decisions: u64,
    /// Assignments that followed from others.
    pub propagations: u64,
    /// Conflicts.
    pub conflicts: u64,
    /// Learned clauses.
    pub learned: u64,
    /// How long each part took, in seconds.
    pub seconds: BTreeMap<String, f64>,
}

impl From<&SearchReport> for SearchTold {
    fn from(search: &SearchReport) -> Self {
        let stats = search.stats;
        let seconds = search.phases.iter().map(|(what, time)| ((*what).to_owned(), time.as_secs_f64()));
        Self {
            standing: search.standing.as_str().to_owned(),
            packages: stats.packages as u64,
            releases: stats.releases as u64,
            looked_at: stats.looked_at as u64,
            questions: stats.questions,
            decisions: stats.decisions,
            propagations: stats.propagations,
            conflicts: stats.conflicts,
            learned: stats.learned,
            seconds: seconds.collect(),
        }
    }
}

/// A source that was not asked.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CachedTold {
    /// Its name in the manifest.
    pub source: String,
    /// When its server was last reached, in RFC 3339; null when the cache has nothing of it.
    pub seen: Option<String>,
}

impl CachedTold {
    fn of((source, seen): &(SourceName, Option<Timestamp>)) -> Self {
        Self { source: source.to_string(), seen: seen.map(|seen| seen.to_string()) }
    }
}

impl From<&LockReport> for LockAnswer {
    fn from(report: &LockReport) -> Self {
        let newer = report.newer.iter().map(|(package, locked, newer)| NewerTold {
            package: package.to_string(),
            locked: locked.to_string(),
            newer: newer.to_string(),
        });
        Self {
            lockfile: report.path.clone(),
            packages: report.packages,
            seal: report.seal.to_string(),
            changed: report.changed,
            written: report.written,
            moves: told(&report.moves),
            newer_accepted: newer.collect(),
            doubts: report.doubts.iter().map(doubt_words).collect(),
            both_moved: report.both_moved.as_ref().map(told),
            notices: told(&report.notices),
            left: told(&report.left),
            gone: told(&report.gone),
            overridden: told(&report.overridden),
            only_here: texts(report.only_here.iter().map(|(package, _)| package)),
            unused_patches: texts(&report.unused_patches),
            followed: report.followed.clone(),
            cached: report.cached.iter().map(CachedTold::of).collect(),
            held: told(&report.held),
            search: report.search.as_ref().map(SearchTold::from),
            install: None,
        }
    }
}

/// Answer of `settle`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum SettleAnswer {
    /// Without a number: which sets of edits there are.
    Listed(EditSetsTold),
    /// With a number: that set of edits, and the manifests with it.
    Chosen(Box<ChosenEditsTold>),
}

impl Told for SettleAnswer {
    const COMMAND: &'static str = "settle";
}

/// The sets of edits that end a collision.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct EditSetsTold {
    /// Whether anything collides.
    pub collision: bool,
    /// Sets of edits, each of which ends it, in the order of docs/resolution.md.
    pub edit_sets: Vec<EditSetTold>,
    /// How far it was looked: there may be more unless that is the whole.
    pub searched: Searched,
}

/// How far it was looked.
#[derive(Debug, Clone, Copy, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Searched {
    /// At every set that docs/resolution.md tells of.
    Whole,
    /// At a part: the whole is more than anyone waits for.
    Part,
    /// As far as there was time.
    OutOfTime,
}

impl From<Extent> for Searched {
    fn from(extent: Extent) -> Self {
        match extent {
            Extent::Whole => Self::Whole,
            Extent::Part => Self::Part,
            Extent::OutOfTime => Self::OutOfTime,
        }
    }
}

/// A set of edits that ends a collision.
#[derive(Debug, Serialize, JsonSchema)]
pub struct EditSetTold {
    /// The edits.
    pub edits: Vec<EditTold>,
    /// How many packages are locked then.
    pub packages: usize,
    /// What moves.
    pub moves: Vec<MoveTold>,
    /// What is said of releases that are locked then and are not yet.
    pub notices: Vec<NoticeTold>,
    /// Advisories that affect such releases.
    pub advisories: Vec<ThreatTold>,
}

/// A set of edits that was chosen.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ChosenEditsTold {
    /// The set.
    #[serde(flatten)]
    pub set: EditSetTold,
    /// Whether it was applied.
    pub applied: bool,
    /// The texts of the manifests with the edits made, by path.
    pub manifests: BTreeMap<String, String>,
    /// With `--install`: what installing came to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub install: Option<InstallAnswer>,
}

impl From<&Settlement> for EditSetTold {
    fn from(settlement: &Settlement) -> Self {
        let rules = settlement.rules.iter().map(EditTold::from);
        Self {
            edits: settlement.needs.iter().map(EditTold::from).chain(rules).collect(),
            packages: settlement.proposal.lockfile().chosen.len(),
            moves: told(settlement.proposal.moves()),
            notices: told(&settlement.notices),
            advisories: told(&settlement.advisories),
        }
    }
}

impl SettleAnswer {
    /// Tells that nothing collides.
    pub fn nothing() -> Self {
        Self::Listed(EditSetsTold { collision: false, edit_sets: Vec::new(), searched: Searched::Whole })
    }

    /// Lists the sets of edits.
    pub fn listed(settlements: &Settlements) -> Self {
        let Settlements { all, extent } = settlements;
        Self::Listed(EditSetsTold { collision: true, edit_sets: told(all), searched: (*extent).into() })
    }

    /// Tells of one set of edits.
    pub fn chosen(settlement: &Settlement, applied: bool, install: Option<&InstallReport>) -> Self {
        let manifests =
            settlement.proposal.manifests().iter().map(|(file, (_, after))| (file.clone(), after.clone())).collect();
        let install = install.map(InstallAnswer::from);
        Self::Chosen(Box::new(ChosenEditsTold { set: settlement.into(), applied, manifests, install }))
    }
}
