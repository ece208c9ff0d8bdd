//! Answers of the commands that only look.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Serialize;
use yostel_flows::{AskerNode, Counterfactual, ExplainReport, Instead, ListReport, ListRow, Tree, TreeNode, Upward};
use yostel_resolve::{NotTaken, Reason};

use super::Told;
use super::parts::{AskedTold, MoveTold, NoticeTold, OriginTold, WithdrawnTold, texts, told};
use super::releases::ReleasesTold;
use crate::diagnostic::Note;
use crate::words::{Telling, story};

/// Answer of `explain`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum ExplainAnswer {
    /// Why it is here and at this version.
    Package(Box<ExplainedTold>),
    /// With `--releases`, what there is.
    Releases(ReleasesTold),
}

/// A locked package, explained.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ExplainedTold {
    /// The package.
    pub package: String,
    /// Its locked version; the newest where it is locked at several.
    pub locked: String,
    /// Older versions that are locked too.
    pub beside: Vec<String>,
    /// Shortest ways from a project to it: who asks whom.
    pub ways: Vec<Vec<String>>,
    /// Who asks for it.
    pub asked_by: Vec<AskedTold>,
    /// Releases above the locked one, newest first.
    pub newer: Vec<NotTakenTold>,
    /// What another version would take; null when none was asked about and none suggests itself.
    pub instead: Option<InsteadTold>,
    /// What is said of the locked release since it was published; null when nothing is.
    pub notice: Option<NoticeTold>,
    /// Whether it is changed locally.
    pub altered: bool,
    /// Whether its version is forced.
    pub forced: bool,
    /// The packages that were asked for and for which it stands in.
    pub stands_in_for: Vec<String>,
}

impl Told for ExplainAnswer {
    const COMMAND: &'static str = "explain";
    const LOOKS: bool = true;
}

/// A newer release that is not the locked one.
#[derive(Debug, Serialize, JsonSchema)]
pub struct NotTakenTold {
    /// Its version.
    pub version: String,
    /// What keeps it out.
    #[serde(flatten)]
    pub reason: KeptOutTold,
}

/// What keeps a release out.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(tag = "reason", content = "detail", rename_all = "kebab-case")]
pub enum KeptOutTold {
    /// These do not accept it.
    NotAccepted(Vec<AskedTold>),
    /// It was withdrawn.
    Withdrawn(WithdrawnTold),
    /// It offers nothing for this platform.
    Unserved(String),
    /// It was published after the time that was asked for, at this time.
    PublishedLater(String),
    /// It is too young.
    TooYoung(TooYoungTold),
    /// It needs this package, and no release of that fits.
    NeverMet(String),
    /// Nothing that is seen from here: everyone who asks accepts it.
    Accepted(()),
}

/// That a release is younger than the manifest permits.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct TooYoungTold {
    /// When it was published.
    pub published: String,
    /// When it is old enough; null when that is beyond all time.
    pub counts_from: Option<String>,
}

impl From<&NotTaken> for NotTakenTold {
    fn from(newer: &NotTaken) -> Self {
        let reason = match &newer.reason {
            Reason::NotAccepted(holders) => KeptOutTold::NotAccepted(told(holders)),
            Reason::Withdrawn(withdrawal) => KeptOutTold::Withdrawn(withdrawal.into()),
            Reason::Unserved(platform) => KeptOutTold::Unserved(platform.clone()),
            Reason::PublishedLater(published) => KeptOutTold::PublishedLater(published.to_string()),
            Reason::TooYoung(published, counts_from) => KeptOutTold::TooYoung(TooYoungTold {
                published: published.to_string(),
                counts_from: counts_from.map(|from| from.to_string()),
            }),
            Reason::NeverMet(package) => KeptOutTold::NeverMet(package.to_string()),
            Reason::Accepted => KeptOutTold::Accepted(()),
        };
        Self { version: newer.version.to_string(), reason }
    }
}

/// What another version would take.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct InsteadTold {
    /// The version.
    pub version: String,
    /// Whether it is possible.
    pub possible: bool,
    /// The project's own needs that do not accept it; the answer is as if they did.
    pub set_aside: Vec<SetAsideTold>,
    /// Whether the manifest forces a version of the package, which was left out as well.
    pub unforced: bool,
    /// What would move, when it is possible.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub moves: Option<Vec<MoveTold>>,
    /// What prevents it, sentence by sentence, when it is not.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub story: Option<Vec<Note>>,
}

/// A need that was set aside.
#[derive(Debug, Serialize, JsonSchema)]
pub struct SetAsideTold {
    /// For which purpose.
    pub purpose: String,
    /// The constraint.
    pub accept: String,
}

impl From<&Instead> for InsteadTold {
    fn from(instead: &Instead) -> Self {
        let set_aside = instead
            .set_aside
            .iter()
            .map(|need| SetAsideTold { purpose: need.purpose.to_string(), accept: need.accept.to_string() });
        let (moves, story) = match &instead.outcome {
            Counterfactual::Possible(moves) => (Some(told(moves)), None),
            Counterfactual::Impossible { collision, demand, places, rules } => {
                (None, Some(story(collision, &Telling { places, rules, asked: Some(demand) })))
            }
        };
        let (possible, version) = (moves.is_some(), instead.version.to_string());
        Self { version, possible, set_aside: set_aside.collect(), unforced: instead.unforced, moves, story }
    }
}

impl From<&ExplainReport> for ExplainedTold {
    fn from(report: &ExplainReport) -> Self {
        let why = &report.why;
        Self {
            package: why.package.to_string(),
            locked: why.locked.to_string(),
            beside: texts(why.beside.iter().map(|(version, _)| version)),
            ways: why.ways.iter().map(|way| texts(way.iter().map(|(asker, _)| asker))).collect(),
            asked_by: told(&why.asked_by),
            newer: told(&why.newer),
            instead: report.instead.as_ref().map(InsteadTold::from),
            notice: report.notice.as_ref().map(NoticeTold::from),
            altered: report.altered,
            forced: report.forced,
            stands_in_for: texts(&report.stands_in_for),
        }
    }
}

/// Answer of `list`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ListAnswer {
    /// The project.
    pub project: String,
    /// What is locked, by name.
    pub packages: Vec<ListedTold>,
}

impl Told for ListAnswer {
    const COMMAND: &'static str = "list";
    const LOOKS: bool = true;
}

/// A locked package.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ListedTold {
    /// The package.
    pub package: String,
    /// The version.
    pub version: String,
    /// Whether a project asks for it itself.
    pub direct: bool,
    /// For which purposes it is there.
    pub purposes: Vec<String>,
    /// Where it comes from.
    pub from: OriginTold,
    /// Who asks for it.
    pub asked_by: Vec<String>,
    /// Digests of its trees, by platform.
    pub trees: BTreeMap<String, String>,
    /// Whether it is a pre-release.
    pub pre_release: bool,
    /// Whether it is changed locally.
    pub altered: bool,
    /// Whether its version is forced.
    pub forced: bool,
    /// The packages that were asked for and for which it stands in.
    pub stands_in_for: Vec<String>,
    /// What is said of it since it was published; null when nothing is, or its source could not be asked.
    pub notice: Option<NoticeTold>,
}

impl From<&ListRow> for ListedTold {
    fn from(row: &ListRow) -> Self {
        Self {
            package: row.package.to_string(),
            version: row.version.to_string(),
            direct: row.direct,
            purposes: texts(&row.purposes),
            pre_release: row.version.is_pre_release(),
            from: (&row.from).into(),
            asked_by: row.asked_by.clone(),
            trees: row.trees.iter().map(|(platform, tree)| (platform.clone(), tree.to_string())).collect(),
            altered: row.altered,
            forced: row.forced,
            stands_in_for: texts(&row.stands_in_for),
            notice: row.notice.as_ref().map(NoticeTold::from),
        }
    }
}

impl From<&ListReport> for ListAnswer {
    fn from(report: &ListReport) -> Self {
        Self { project: report.project.to_string(), packages: told(&report.rows) }
    }
}

/// Answer of `tree`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum TreeAnswer {
    /// Of one project.
    One(TreeTold),
    /// Of a workspace.
    Several {
        /// Its projects.
        projects: Vec<TreeTold>,
    },
    /// Of `--up`.
    Up {
        /// The package, at each of its locked versions.
        up: Vec<UpwardTold>,
    },
}

impl Told for TreeAnswer {
    const COMMAND: &'static str = "tree";
    const LOOKS: bool = true;
}

/// Who needs a package at a version.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct UpwardTold {
    /// The package.
    pub package: String,
    /// The locked version.
    pub version: String,
    /// Who asks for it.
    pub asked_by: Vec<AskerNodeTold>,
}

/// Somebody who asks for what is below.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct AskerNodeTold {
    /// A project's name, or a release as `NAME VERSION`.
    pub who: String,
    /// The constraint.
    pub accept: String,
    /// For which purpose, where a project asks.
    pub purpose: Option<String>,
    /// Whether who asks for them is elsewhere in the tree already.
    pub repeated: bool,
    /// Whether more ask for them, above the last level.
    pub cut: bool,
    /// Who asks for them.
    pub asked_by: Vec<AskerNodeTold>,
}

impl From<&AskerNode> for AskerNodeTold {
    fn from(node: &AskerNode) -> Self {
        Self {
            who: node.who.to_string(),
            accept: node.accept.to_string(),
            purpose: node.purpose.as_ref().map(ToString::to_string),
            repeated: node.repeated,
            cut: node.cut,
            asked_by: told(&node.askers),
        }
    }
}

impl From<&Upward> for UpwardTold {
    fn from(one: &Upward) -> Self {
        let (package, version) = (one.package.to_string(), one.version.to_string());
        Self { package, version, asked_by: told(&one.askers) }
    }
}

impl From<&[Upward]> for TreeAnswer {
    fn from(all: &[Upward]) -> Self {
        Self::Up { up: told(all) }
    }
}

/// The tree of a project.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TreeTold {
    /// The project.
    pub project: String,
    /// Its version; null when it says none.
    pub version: Option<String>,
    /// What it needs.
    pub needs: Vec<NodeTold>,
}

/// A need in a tree.
#[derive(Debug, Serialize, JsonSchema)]
pub struct NodeTold {
    /// The package.
    pub package: String,
    /// The locked version.
    pub version: String,
    /// Where it comes from.
    pub from: OriginTold,
    /// The constraint.
    pub accept: String,
    /// For which purpose, where a project asks.
    pub purpose: Option<String>,
    /// Whether what it needs is elsewhere in the tree already.
    pub repeated: bool,
    /// Whether it needs more, below the last level.
    pub cut: bool,
    /// Bytes of its archive for this platform; null when it has none.
    pub size: Option<u64>,
    /// Kinds of findings of an audit that are about it; empty without `--marks`.
    pub marks: Vec<&'static str>,
    /// What it needs.
    pub needs: Vec<NodeTold>,
}

impl From<&TreeNode> for NodeTold {
    fn from(node: &TreeNode) -> Self {
        Self {
            package: node.package.to_string(),
            version: node.version.to_string(),
            from: (&node.from).into(),
            accept: node.accept.to_string(),
            purpose: node.purpose.as_ref().map(ToString::to_string),
            repeated: node.repeated,
            cut: node.cut,
            size: node.size,
            marks: node.marks.clone(),
            needs: told(&node.needs),
        }
    }
}

impl From<&Tree> for TreeTold {
    fn from(tree: &Tree) -> Self {
        let version = tree.version.as_ref().map(ToString::to_string);
        Self { project: tree.project.to_string(), version, needs: told(&tree.roots) }
    }
}

impl From<&[Tree]> for TreeAnswer {
    fn from(trees: &[Tree]) -> Self {
        match trees {
            [tree] => Self::One(tree.into()),
            trees => Self::Several { projects: told(trees) },
        }
    }
}
