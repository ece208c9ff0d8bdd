//! Answer of `graph`, of which its pictures are renderings.

use std::collections::BTreeMap;
use std::rc::Rc;

use schemars::JsonSchema;
use serde::Serialize;
use yostel_documents::PackageName;
use yostel_findings::{AuditReport, Change, GraphEdge, GraphNode, Mark, NodeKind};
use yostel_flows::GraphReport;
use yostel_versions::Version;

use super::Told;
use super::findings::PackageTold;
use super::parts::texts;
use crate::words::{finding_words, side_words};

/// Answer of `graph`.
#[derive(Debug, Clone, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct GraphAnswer {
    /// The project that is worked on.
    pub project: String,
    /// How many packages are locked.
    pub packages: usize,
    /// What is drawn: projects, packages, and what is folded.
    pub nodes: Vec<NodeTold>,
    /// Who needs whom.
    pub edges: Vec<EdgeTold>,
    /// How many are further away from the package in focus than was asked for, and left out.
    pub out_of_focus: usize,
    /// How many are drawn together with others, by why: `leaves`, `projects` or `furthest`.
    pub folded: BTreeMap<&'static str, usize>,
    /// The lockfile since which moves are told; null when none was named.
    pub since: Option<String>,
    /// What is gone since then.
    pub gone: Vec<PackageTold>,
    /// Why nothing is told of what was found; null when it is.
    pub untold: Option<String>,
    /// The file that was written; null when none was named.
    pub file: Option<String>,
}

impl Told for GraphAnswer {
    const COMMAND: &'static str = "graph";
    const LOOKS: bool = true;
}

/// A project, a package, or several of them.
#[derive(Debug, Clone, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct NodeTold {
    /// `project`, `package` or `folded`.
    pub kind: &'static str,
    /// Its name; null for what is folded.
    pub name: Option<String>,
    /// Its version, where it is one thing and has one.
    pub version: Option<String>,
    /// What is folded; empty for everything else.
    pub packages: Vec<PackageTold>,
    /// Why that is folded: `leaves` (the same ask for them, and they need nothing), `projects` (only one project needs
    /// them) or `furthest` (from a project); null for everything else.
    pub folded_as: Option<&'static str>,
    /// What it is needed for.
    pub purposes: Vec<String>,
    /// The kinds of what was found about it, the worst first: `alarm`, `advisory`, `notice`, `licence`, `due-rule`,
    /// `duplicate`, `outdated`.
    pub marks: Vec<&'static str>,
    /// What was found about it, a sentence each.
    pub findings: Vec<String>,
    /// What became of it since the other lockfile: `added`, `up`, `down` or `other`; null when nothing did.
    pub change: Option<&'static str>,
    /// The version that it had, where that changed.
    pub was: Option<String>,
    /// Its marks as values.
    #[serde(skip)]
    pub of: Vec<Mark>,
}

/// That somebody needs something.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct EdgeTold {
    /// Who: the number of a node, from 0.
    pub from: usize,
    /// What: the number of a node, from 0.
    pub to: usize,
    /// What is accepted: each constraint once.
    pub accepts: Vec<String>,
    /// What for.
    pub purposes: Vec<String>,
}

impl From<&GraphReport> for GraphAnswer {
    fn from(report: &GraphReport) -> Self {
        Self::of(report, report.audit.as_ref())
    }
}

impl GraphAnswer {
    /// Tells a graph, with what was found.
    pub fn of(report: &GraphReport, audit: Option<&AuditReport>) -> Self {
        let said = audit.map(said_of).unwrap_or_default();
        let package = |(package, version): &(PackageName, Version)| PackageTold {
            package: package.to_string(),
            version: Some(version.to_string()),
        };
        Self {
            project: report.project.to_string(),
            packages: report.packages,
            nodes: report.graph.nodes.iter().map(|node| node_told(node, &said)).collect(),
            edges: report.graph.edges.iter().map(EdgeTold::from).collect(),
            out_of_focus: report.left.out_of_focus,
            folded: report.left.folded.iter().map(|(folding, count)| (folding.word(), *count)).collect(),
            since: report.since.as_ref().map(side_words),
            gone: report.gone.iter().map(package).collect(),
            untold: report.untold.clone(),
            file: None,
        }
    }
}

type Said = BTreeMap<PackageName, Vec<(Option<Version>, Rc<str>)>>;

/// Says by package what was found.
fn said_of(report: &AuditReport) -> Said {
    let mut said = Said::new();
    for finding in report.findings() {
        let says: Rc<str> = finding_words(&finding).into();
        for (package, version) in finding.packages() {
            said.entry(package.clone()).or_default().push((version.cloned(), says.clone()));
        }
    }
    said
}

fn node_told(node: &GraphNode, said: &Said) -> NodeTold {
    let (kind, packages, folded_as) = match &node.what {
        NodeKind::Project { .. } => ("project", Vec::new(), None),
        NodeKind::Release { .. } => ("package", Vec::new(), None),
        NodeKind::Folded { packages, why } => {
            let package = |(package, version): &(PackageName, Option<String>)| PackageTold {
                package: package.to_string(),
                version: version.clone(),
            };
            ("folded", packages.iter().map(package).collect(), Some(why.word()))
        }
    };
    let findings = match &node.what {
        NodeKind::Release { package, version } => {
            let own = said.get(package).into_iter().flatten();
            let own = own.filter(|(of, _)| of.as_ref().is_none_or(|of| of == version));
            own.map(|(_, says)| says.to_string()).collect()
        }
        NodeKind::Project { .. } | NodeKind::Folded { .. } => Vec::new(),
    };
    NodeTold {
        kind,
        name: node.name().map(ToString::to_string),
        version: node.version().map(ToOwned::to_owned),
        packages,
        folded_as,
        purposes: texts(&node.purposes),
        marks: node.marks.iter().map(|mark| mark.word()).collect(),
        findings,
        change: node.change.as_ref().map(Change::word),
        was: match &node.change {
            Some(Change::Up(from) | Change::Down(from)) => Some(from.to_string()),
            _ => None,
        },
        of: node.marks.iter().copied().collect(),
    }
}

impl From<&GraphEdge> for EdgeTold {
    fn from(edge: &GraphEdge) -> Self {
        Self { from: edge.from, to: edge.to, accepts: texts(&edge.accepts), purposes: texts(&edge.purposes) }
    }
}
