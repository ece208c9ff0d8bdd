//! What is locked as a tree: through whom.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Asker, LockedPackage, Origin, PackageName, Purpose, Requirement, run_purpose};
use yostel_versions::{ConstraintText, Version};

use crate::context::Context;
use crate::error::FlowError;
use crate::project::prepared::Prepared;
use crate::project::{LoadedProject, ProjectFile};

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
    pub accept: ConstraintText,
    /// For which purpose, where a project asks.
    pub purpose: Option<Purpose>,
    /// What it needs; empty where `repeated`.
    pub needs: Vec<TreeNode>,
    /// Whether what it needs is elsewhere in the tree already.
    pub repeated: bool,
    /// Whether it needs more than is shown, because the tree is cut here.
    pub cut: bool,
}

/// Most levels of a tree: what is deeper is for no eye, and a chain of packages may be thousands deep.
///
/// In a document each level is two deep, and common readers of JSON go 128 deep and no further.
pub const MOST_LEVELS: usize = 60;

/// Draws the tree of the project that is worked on; of a workspace, when that is the one at its root, one of each project.
/// What a package needs is told once; where it comes up again, it is marked as repeated. At most `levels` levels are shown.
///
/// # Errors
/// As loading a lockfile.
pub fn tree(project: &LoadedProject, levels: usize, context: &Context<'_>) -> Result<Vec<Tree>, FlowError> {
    let levels = levels.clamp(1, MOST_LEVELS);
    let Prepared { lockfile, declared, .. } = project.prepare_to_look(context.observer)?;
    let mut needs: Needs<'_> = BTreeMap::new();
    for (name, locked) in lockfile.chosen.iter() {
        for asked in &locked.asked_by {
            if let Asker::Release(asker, version) = &asked.who {
                needs.entry((asker, Some(version))).or_default().push((name, locked, &asked.accept));
            }
        }
    }
    let requirements = declared.bound_requirements();
    let met = |requirement: &Requirement| lockfile.met_by(requirement, &declared);
    for requirement in requirements.iter().filter(|requirement| requirement.purpose == run_purpose()) {
        if let Some((name, locked)) = met(requirement) {
            needs.entry((requirement.asker.name(), None)).or_default().push((name, locked, &requirement.accept));
        }
    }
    let mut told = BTreeSet::new();
    let shown = project.projects().filter(|one| project.here.is_none() || std::ptr::eq(*one, project.here()));
    let tree = |one: &ProjectFile| {
        let of_project = requirements.iter().filter(|requirement| requirement.asker.name() == one.name());
        let roots = of_project.filter_map(|requirement| {
            let (name, locked) = met(requirement)?;
            Some(node(
                (name, locked, &requirement.accept),
                Some(requirement.purpose.clone()),
                levels,
                &needs,
                &mut told,
            ))
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

/// What each needs: a release, or a project of the workspace, which is without its version.
pub(crate) type Needs<'l> = BTreeMap<(&'l PackageName, Option<&'l Version>), Vec<Needed<'l>>>;

type Needed<'l> = (&'l PackageName, &'l LockedPackage, &'l ConstraintText);

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
