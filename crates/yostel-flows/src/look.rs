//! List, tree and audit: what is locked, through whom, and what to think of it.

use std::collections::{BTreeMap, BTreeSet};

use yostel_core::{
    Accept, Duplicate, Origin, Outdated, PackageDocument, PackageName, Purpose, TreeDigest, Version, duplicates,
    outdated, run_purpose,
};
use yostel_store::for_each_in_parallel;

use crate::error::FlowError;
use crate::observer::{Event, Observer};
use crate::project::{LoadedProject, Settings, load_fitting_lockfile};
use crate::upkeep::{Upkeep, upkeep};
use crate::workspace::ProjectFile;

/// All locked packages.
#[derive(Debug)]
pub struct ListReport {
    /// The project.
    pub project: PackageName,
    /// By name.
    pub rows: Vec<ListRow>,
}

/// One locked package.
#[derive(Debug)]
pub struct ListRow {
    /// Its name.
    pub package: PackageName,
    /// Its version.
    pub version: Version,
    /// Whether the project asks for it itself.
    pub direct: bool,
    /// For which purposes it is there.
    pub purposes: BTreeSet<Purpose>,
    /// Where it comes from.
    pub from: Origin,
    /// Who asks for it, sorted.
    pub asked_by: Vec<String>,
    /// Digests of its trees, by platform.
    pub trees: BTreeMap<String, TreeDigest>,
}

/// Lists what is locked; of a workspace, for the project that is worked on, or for all when that is the one at the root.
///
/// # Errors
/// As loading a lockfile that must fit the manifest.
pub fn list(project: &LoadedProject) -> Result<ListReport, FlowError> {
    let lockfile = load_fitting_lockfile(project)?;
    let declared = project.declared()?;
    let mut wishes = declared.bound_wishes();
    let here = project.here().name();
    wishes.retain(|wish| project.here.is_none() || wish.asker.name() == here);
    let reached = lockfile.reached(&wishes, &declared);
    let rows = lockfile.chosen.iter().filter_map(|(name, locked)| {
        let purposes = reached.get(name)?.clone();
        let asked_by: BTreeSet<String> = locked.asked_by.iter().map(|asked| asked.who.to_string()).collect();
        Some(ListRow {
            package: name.clone(),
            version: locked.version.clone(),
            direct: wishes.iter().any(|wish| wish.package == *name),
            purposes,
            from: locked.from.clone(),
            asked_by: asked_by.into_iter().collect(),
            trees: locked.artifacts.iter().map(|artifact| (artifact.platform.clone(), artifact.tree)).collect(),
        })
    });
    Ok(ListReport { project: here.clone(), rows: rows.collect() })
}

/// The graph, as a tree from the project down.
#[derive(Debug)]
pub struct Tree {
    /// The project.
    pub project: PackageName,
    /// Its version, if it says one.
    pub version: Option<Version>,
    /// What it needs, by purpose and name.
    pub roots: Vec<TreeNode>,
}

/// One need in the tree.
#[derive(Debug)]
pub struct TreeNode {
    /// The package.
    pub package: PackageName,
    /// The locked version.
    pub version: Version,
    /// What was asked for.
    pub accept: Accept,
    /// For which purpose, where a project asks.
    pub purpose: Option<Purpose>,
    /// What it needs; empty where `repeated`.
    pub needs: Vec<TreeNode>,
    /// Whether what it needs stands elsewhere in the tree already.
    pub repeated: bool,
}

/// Draws the tree of the project that is worked on; of a workspace, when that is the one at its root, one of each project.
/// What a package needs is told once; where it comes up again, it is marked as repeated.
///
/// # Errors
/// As loading a lockfile that must fit the manifest.
pub fn tree(project: &LoadedProject) -> Result<Vec<Tree>, FlowError> {
    let lockfile = load_fitting_lockfile(project)?;
    let declared = project.declared()?;
    let mut needs: BTreeMap<PackageName, Vec<(PackageName, Accept)>> = BTreeMap::new();
    for (name, locked) in &lockfile.chosen {
        for asked in locked.asked_by.iter().filter(|asked| !asked.who.is_project()) {
            needs.entry(asked.who.name().clone()).or_default().push((name.clone(), asked.accept.clone()));
        }
    }
    let wishes = declared.bound_wishes();
    let run = run_purpose();
    for wish in wishes.iter().filter(|wish| wish.purpose == run && lockfile.chosen.contains_key(wish.asker.name())) {
        needs.entry(wish.asker.name().clone()).or_default().push((wish.package.clone(), wish.accept.clone()));
    }
    let mut told = BTreeSet::new();
    let shown = project.projects().filter(|one| project.here.is_none() || std::ptr::eq(*one, project.here()));
    let tree = |one: &ProjectFile| {
        let of_project = wishes.iter().filter(|wish| wish.asker.name() == one.name());
        let version = |name: &PackageName| lockfile.chosen[name].version.clone();
        let roots = of_project
            .map(|wish| node(&wish.package, &wish.accept, Some(wish.purpose.clone()), &needs, &version, &mut told));
        let about = &one.manifest.project;
        Tree { project: about.name.clone(), version: about.version.clone(), roots: roots.collect() }
    };
    let mut trees: Vec<Tree> = shown.map(tree).collect();
    // A root that only holds the others together has nothing to show.
    if trees.len() > 1 && trees[0].roots.is_empty() {
        trees.remove(0);
    }
    Ok(trees)
}

fn node(
    package: &PackageName,
    accept: &Accept,
    purpose: Option<Purpose>,
    needs: &BTreeMap<PackageName, Vec<(PackageName, Accept)>>,
    version: &impl Fn(&PackageName) -> Version,
    told: &mut BTreeSet<PackageName>,
) -> TreeNode {
    let below = needs.get(package).map_or(&[][..], Vec::as_slice);
    let repeated = !told.insert(package.clone()) && !below.is_empty();
    let needs = if repeated {
        Vec::new()
    } else {
        below.iter().map(|(name, accept)| node(name, accept, None, needs, version, told)).collect()
    };
    TreeNode { package: package.clone(), version: version(package), accept: accept.clone(), purpose, needs, repeated }
}

/// What an audit found.
#[derive(Debug)]
#[must_use = "findings must be told"]
pub struct AuditReport {
    /// How many packages are locked.
    pub packages: usize,
    /// Packages for which something newer exists: direct ones first.
    pub outdated: Vec<Outdated>,
    /// Things that are there twice.
    pub duplicates: Vec<Duplicate>,
    /// Packages that no source knows any more.
    pub unknown: Vec<PackageName>,
    /// Forced versions, swaps and deviations that somebody should look after.
    pub upkeep: Vec<Upkeep>,
}

impl AuditReport {
    /// Tells whether there is anything to act on.
    pub fn has_findings(&self) -> bool {
        !(self.outdated.is_empty() && self.duplicates.is_empty() && self.unknown.is_empty() && self.upkeep.is_empty())
    }
}

/// Audits what is locked against what the sources have today.
///
/// # Errors
/// As loading a lockfile that must fit the manifest, and asking the sources.
pub fn audit(project: &LoadedProject, settings: &Settings, observer: &dyn Observer) -> Result<AuditReport, FlowError> {
    let lockfile = load_fitting_lockfile(project)?;
    // Of what does not come from a source, none can tell anything.
    let from_source = lockfile.chosen.iter().filter(|(_, locked)| locked.from.source().is_some());
    let names: Vec<&PackageName> = from_source.map(|(name, _)| name).collect();
    let mut documents: BTreeMap<PackageName, PackageDocument> = BTreeMap::new();
    let mut unknown = Vec::new();
    if !names.is_empty() {
        let sources = project.sources()?;
        observer.notice(Event::Begin("asking the sources", names.len() as u64));
        let answers = for_each_in_parallel(&names, |name| {
            let answer = sources.document(name);
            observer.notice(Event::Advance(1));
            answer
        });
        observer.notice(Event::End);
        for (name, answer) in names.iter().zip(answers) {
            match answer? {
                Some((_, document)) => drop(documents.insert((*name).clone(), document)),
                None => unknown.push((*name).clone()),
            }
        }
    }
    Ok(AuditReport {
        packages: lockfile.chosen.len(),
        outdated: outdated(&lockfile, &documents),
        duplicates: duplicates(&lockfile, &documents),
        unknown,
        upkeep: upkeep(project, &lockfile, settings, observer)?,
    })
}
