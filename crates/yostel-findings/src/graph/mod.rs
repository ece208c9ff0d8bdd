//! What is locked as a graph: who needs whom, with what was found about each and what moved.

mod fold;
mod layout;

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Asker, Declared, Lockfile, PackageName, Purpose};
use yostel_versions::{ConstraintText, Version};

use crate::compare::MoveKind;
use crate::comparison::Comparison;
use crate::finding::AuditReport;
use crate::kind::FindingGroup;
use crate::needs::{asker_of, needs_by_asker};

pub use fold::{Folding, Left, folded};
pub use layout::{Layout, Rect, lay_out};

/// Projects and what is locked, and the needs between them.
#[derive(Debug, Clone, Default)]
pub struct Graph {
    /// What is in it: projects first, then releases by name and version, then what was folded.
    pub nodes: Vec<GraphNode>,
    /// Who needs whom, by the numbers of nodes.
    pub edges: Vec<GraphEdge>,
}

/// A project, a release, or several of them.
#[derive(Debug, Clone)]
pub struct GraphNode {
    /// What it is.
    pub what: NodeKind,
    /// What it is needed for; nothing for a project that nobody needs.
    pub purposes: BTreeSet<Purpose>,
    /// What kinds of things were found about it.
    pub marks: BTreeSet<Mark>,
    /// What became of it since another lockfile.
    pub change: Option<Change>,
}

/// What a node is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NodeKind {
    /// A project of the workspace.
    Project {
        /// Its name.
        name: PackageName,
        /// Its version, where it has one.
        version: Option<String>,
    },
    /// A locked release.
    Release {
        /// The package.
        package: PackageName,
        /// Its version.
        version: Version,
    },
    /// Releases and projects that are drawn as one.
    Folded {
        /// What they are, by name; a project may be without version.
        packages: Vec<(PackageName, Option<String>)>,
        /// Why they are.
        why: Folding,
    },
}

/// That somebody needs something.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GraphEdge {
    /// Who.
    pub from: usize,
    /// What.
    pub to: usize,
    /// What is accepted: each constraint once.
    pub accepts: BTreeSet<ConstraintText>,
    /// What for.
    pub purposes: BTreeSet<Purpose>,
}

/// What was found about a release, as it is marked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Mark {
    /// The lockfile and a source tell different things.
    Alarm,
    /// An advisory affects it.
    Advisory,
    /// It was withdrawn or is deprecated, or nothing new came for long.
    Notice,
    /// Its licence is not allowed.
    Licence,
    /// A rule of the manifest about it is due for review.
    DueRule,
    /// It is there twice.
    Duplicate,
    /// Something newer exists, or no source has it any more.
    Outdated,
}

/// What became of a release since another lockfile.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Change {
    /// It came.
    Added,
    /// Its version went up, from this one.
    Up(Version),
    /// Its version went down, from this one.
    Down(Version),
    /// Its version stayed, and something else is not as it was.
    Other,
}

impl Mark {
    /// All of them, the worst first.
    pub const ALL: [Self; 7] =
        [Self::Alarm, Self::Advisory, Self::Notice, Self::Licence, Self::DueRule, Self::Duplicate, Self::Outdated];

    /// Returns its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Alarm => "alarm",
            Self::Advisory => "advisory",
            Self::Notice => "notice",
            Self::Licence => "licence",
            Self::DueRule => "due-rule",
            Self::Duplicate => "duplicate",
            Self::Outdated => "outdated",
        }
    }
}

impl From<Option<FindingGroup>> for Mark {
    fn from(group: Option<FindingGroup>) -> Self {
        match group {
            None => Self::Alarm,
            Some(FindingGroup::Advisories) => Self::Advisory,
            Some(FindingGroup::Notices) => Self::Notice,
            Some(FindingGroup::Licences) => Self::Licence,
            Some(FindingGroup::Upkeep) => Self::DueRule,
            Some(FindingGroup::Duplicates) => Self::Duplicate,
            Some(FindingGroup::Outdated) => Self::Outdated,
        }
    }
}

impl Change {
    /// Returns its word.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Added => "added",
            Self::Up(_) => "up",
            Self::Down(_) => "down",
            Self::Other => "other",
        }
    }
}

/// Makes the graph of what is locked and declared. `projects` are those of the workspace with their versions.
pub fn graph(lockfile: &Lockfile, declared: &Declared, projects: &[(PackageName, Option<String>)]) -> Graph {
    let needs = needs_by_asker(lockfile, declared);
    let mut numbers: BTreeMap<Asker, usize> = BTreeMap::new();
    let mut nodes: Vec<GraphNode> = Vec::new();
    let mut add = |asker: Asker, node: GraphNode| {
        numbers.entry(asker).or_insert_with(|| {
            nodes.push(node);
            nodes.len() - 1
        });
    };
    let plain = |what| GraphNode { what, purposes: BTreeSet::new(), marks: BTreeSet::new(), change: None };
    for (name, version) in projects {
        let asker = Asker::Project(name.clone());
        let is_locked = lockfile.chosen.contains_key(name);
        if is_locked || needs.contains_key(&asker) || projects.len() == 1 {
            add(asker, plain(NodeKind::Project { name: name.clone(), version: version.clone() }));
        }
    }
    for (package, locked) in lockfile.chosen.iter() {
        let what = NodeKind::Release { package: package.clone(), version: locked.version.clone() };
        add(asker_of(package, locked), plain(what));
    }
    for (package, locked) in lockfile.chosen.iter() {
        if let Some(&number) = numbers.get(&asker_of(package, locked)) {
            nodes[number].purposes = locked.purposes.clone();
        }
    }
    let mut edges: BTreeMap<(usize, usize), GraphEdge> = BTreeMap::new();
    for (asker, of) in &needs {
        let Some(&from) = numbers.get(asker) else { continue };
        for need in of {
            let met = lockfile.chosen.all(&need.package).iter().find(|locked| locked.version == need.version);
            let Some(&to) = met.and_then(|locked| numbers.get(&asker_of(&need.package, locked))) else { continue };
            let edge = edges.entry((from, to)).or_insert_with(|| GraphEdge {
                from,
                to,
                accepts: BTreeSet::new(),
                purposes: BTreeSet::new(),
            });
            edge.accepts.insert(need.accept.clone());
            edge.purposes.insert(need.purpose.clone());
        }
    }
    Graph { nodes, edges: edges.into_values().collect() }
}

impl Graph {
    /// Marks what was found.
    pub fn mark_findings(&mut self, report: &AuditReport) {
        let mut marks: BTreeMap<&PackageName, Vec<(Option<&Version>, Mark)>> = BTreeMap::new();
        let findings = report.findings();
        for finding in &findings {
            for (package, version) in finding.packages() {
                marks.entry(package).or_default().push((version, finding.kind().group().into()));
            }
        }
        for node in &mut self.nodes {
            if let NodeKind::Release { package, version } = &node.what {
                let own = marks.get(package).into_iter().flatten();
                let own = own.filter(|(of, _)| of.is_none_or(|of| of == version));
                node.marks.extend(own.map(|(_, mark)| *mark));
            }
        }
    }

    /// Marks what moved. Returns what is gone, by name.
    pub fn mark_moves<'c>(&mut self, comparison: &'c Comparison) -> Vec<(&'c PackageName, &'c Version)> {
        let mut changes: BTreeMap<(&PackageName, &Version), Change> = BTreeMap::new();
        let mut gone = Vec::new();
        for moved in comparison.moves.iter().map(|compared| &compared.moved) {
            let (to, change) = match &moved.kind {
                MoveKind::Dropped { from } => {
                    gone.push((&moved.package, from));
                    continue;
                }
                MoveKind::Added { to } => (Some(to), Change::Added),
                MoveKind::Moved { from, to, .. } if from < to => (Some(to), Change::Up(from.clone())),
                MoveKind::Moved { from, to, .. } => (Some(to), Change::Down(from.clone())),
                MoveKind::Content { version } | MoveKind::Record { version } | MoveKind::Origin { version, .. } => {
                    (Some(version), Change::Other)
                }
                MoveKind::Platforms { .. } | MoveKind::Altered { .. } | MoveKind::Purposes { .. } => {
                    (None, Change::Other)
                }
            };
            match to {
                Some(to) => drop(changes.insert((&moved.package, to), change)),
                None => {
                    let own = self.nodes.iter_mut().filter(|node| node.name() == Some(&moved.package));
                    own.for_each(|node| node.change = Some(Change::Other));
                }
            }
        }
        for node in &mut self.nodes {
            if let NodeKind::Release { package, version } = &node.what
                && let Some(change) = changes.remove(&(package, version))
            {
                node.change = Some(change);
            }
        }
        gone
    }
}

impl GraphNode {
    /// Returns the name of the package or project; nothing for what was folded.
    pub fn name(&self) -> Option<&PackageName> {
        match &self.what {
            NodeKind::Project { name, .. } | NodeKind::Release { package: name, .. } => Some(name),
            NodeKind::Folded { .. } => None,
        }
    }

    /// Returns the version, where it is one thing and has one.
    pub fn version(&self) -> Option<&str> {
        match &self.what {
            NodeKind::Project { version, .. } => version.as_deref(),
            NodeKind::Release { version, .. } => Some(version.as_str()),
            NodeKind::Folded { .. } => None,
        }
    }

    /// Says how many packages and projects it stands for.
    pub fn size(&self) -> usize {
        match &self.what {
            NodeKind::Folded { packages, .. } => packages.len(),
            _ => 1,
        }
    }
}
