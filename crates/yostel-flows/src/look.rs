//! List, tree and audit: what is locked, through whom, and what to think of it.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{
    Asker, Dispute, Disputed, LockedPackage, Origin, PackageName, Purpose, Requirement, TreeDigest, run_purpose,
};
use yostel_findings::{Duplicate, Outdated, duplicates, outdated};
use yostel_versions::{Accept, Version};

use crate::error::FlowError;
use crate::join::{Joining, joinings};
use crate::lock::disputes_with;
use crate::observer::Observer;
use crate::project::{LoadedProject, Settings, load_fitting_lockfile};
use crate::trust::documents_of;
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
    let reached = lockfile.reached(&wishes, &declared, None);
    let met = wishes.iter().filter_map(|wish| lockfile.met_by(wish, &declared));
    let direct: BTreeSet<_> = met.map(|(name, locked)| (name, &locked.version)).collect();
    let rows = lockfile.chosen.iter().filter_map(|(name, locked)| {
        let purposes = reached.purposes(name, &locked.version)?.clone();
        let asked_by: BTreeSet<String> = locked.asked_by.iter().map(|asked| asked.who.to_string()).collect();
        Some(ListRow {
            package: name.clone(),
            version: locked.version.clone(),
            direct: direct.contains(&(name, &locked.version)),
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
    /// Where it comes from.
    pub from: Origin,
    /// What was asked for.
    pub accept: Accept,
    /// For which purpose, where a project asks.
    pub purpose: Option<Purpose>,
    /// What it needs; empty where `repeated`.
    pub needs: Vec<TreeNode>,
    /// Whether what it needs stands elsewhere in the tree already.
    pub repeated: bool,
    /// Whether it needs more than is shown, because the tree is cut here.
    pub cut: bool,
}

/// Most levels of a tree: what is deeper is for no eye, and a chain of packages may be thousands deep.
pub const MOST_LEVELS: usize = 100;

/// Draws the tree of the project that is worked on; of a workspace, when that is the one at its root, one of each project.
/// What a package needs is told once; where it comes up again, it is marked as repeated. At most `levels` levels are shown.
///
/// # Errors
/// As loading a lockfile that must fit the manifest.
pub fn tree(project: &LoadedProject, levels: usize) -> Result<Vec<Tree>, FlowError> {
    let levels = levels.clamp(1, MOST_LEVELS);
    let lockfile = load_fitting_lockfile(project)?;
    let declared = project.declared()?;
    let mut needs: Needs<'_> = BTreeMap::new();
    for (name, locked) in lockfile.chosen.iter() {
        for asked in &locked.asked_by {
            if let Asker::Release(asker, version) = &asked.who {
                needs.entry((asker, Some(version))).or_default().push((name, locked, &asked.accept));
            }
        }
    }
    let wishes = declared.bound_wishes();
    let met = |wish: &Requirement| lockfile.met_by(wish, &declared);
    for wish in wishes.iter().filter(|wish| wish.purpose == run_purpose()) {
        if let Some((name, locked)) = met(wish) {
            needs.entry((wish.asker.name(), None)).or_default().push((name, locked, &wish.accept));
        }
    }
    let mut told = BTreeSet::new();
    let shown = project.projects().filter(|one| project.here.is_none() || std::ptr::eq(*one, project.here()));
    let tree = |one: &ProjectFile| {
        let of_project = wishes.iter().filter(|wish| wish.asker.name() == one.name());
        let roots = of_project.filter_map(|wish| {
            let (name, locked) = met(wish)?;
            Some(node((name, locked, &wish.accept), Some(wish.purpose.clone()), levels, &needs, &mut told))
        });
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

/// What each needs: a release, or a project of the workspace, which stands without its version.
type Needs<'l> = BTreeMap<(&'l PackageName, Option<&'l Version>), Vec<Needed<'l>>>;

type Needed<'l> = (&'l PackageName, &'l LockedPackage, &'l Accept);

fn node<'l>(
    (package, locked, accept): Needed<'l>,
    purpose: Option<Purpose>,
    levels: usize,
    needs: &Needs<'l>,
    told: &mut BTreeSet<(&'l PackageName, &'l Version)>,
) -> TreeNode {
    let of_project = matches!(locked.from, Origin::Project { .. });
    let below = needs.get(&(package, (!of_project).then_some(&locked.version))).map_or(&[][..], Vec::as_slice);
    let repeated = !told.insert((package, &locked.version)) && !below.is_empty();
    let cut = !repeated && levels <= 1 && !below.is_empty();
    let needs = match repeated || cut {
        true => Vec::new(),
        false => below.iter().map(|need| node(*need, None, levels - 1, needs, told)).collect(),
    };
    let (package, version, from) = (package.clone(), locked.version.clone(), locked.from.clone());
    TreeNode { package, version, from, accept: accept.clone(), purpose, needs, repeated, cut }
}

/// What an audit found.
#[derive(Debug)]
#[must_use = "findings must be told"]
pub struct AuditReport {
    /// The project that is worked on.
    pub project: PackageName,
    /// How many packages are locked.
    pub packages: usize,
    /// Packages for which something newer exists: direct ones first.
    pub outdated: Vec<Outdated>,
    /// Things that are there twice.
    pub duplicates: Vec<Duplicate>,
    /// What it would take to have one version of each package that stands at several.
    pub joinings: BTreeMap<PackageName, Joining>,
    /// Packages that no source knows any more.
    pub unknown: Vec<PackageName>,
    /// Forced versions, swaps and deviations that somebody should look after.
    pub upkeep: Vec<Upkeep>,
    /// What the lockfile says of releases, and their sources say otherwise.
    pub alarms: Vec<Dispute>,
}

impl AuditReport {
    /// Tells whether there is anything to act on.
    pub fn has_findings(&self) -> bool {
        !(self.outdated.is_empty()
            && self.duplicates.is_empty()
            && self.unknown.is_empty()
            && self.upkeep.is_empty()
            && self.alarms.is_empty())
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
    let names: BTreeSet<&PackageName> = from_source.map(|(name, _)| name).collect();
    let names: Vec<&PackageName> = names.into_iter().collect();
    let documents = documents_of(project, &names, observer)?;
    let unknown = names.iter().filter(|name| !documents.contains_key(**name)).map(|name| (*name).clone()).collect();
    let mut alarms = disputes_with(&lockfile, &project.declared()?, &documents);
    // Told as unknown already.
    alarms.retain(|alarm| alarm.about != Disputed::Package);
    let duplicates = duplicates(&lockfile, &documents);
    Ok(AuditReport {
        project: project.here().name().clone(),
        joinings: joinings(project, &lockfile, &duplicates, settings, observer)?,
        packages: lockfile.chosen.len(),
        outdated: outdated(&lockfile, &documents),
        duplicates,
        unknown,
        alarms,
        upkeep: upkeep(project, &lockfile, settings, observer)?,
    })
}
