//! What is locked as a tree: through whom.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Asker, LockedPackage, Origin, PackageName, Purpose, Requirement, artifact_for, run_purpose};
use yostel_versions::{ConstraintText, Version};

use yostel_findings::FindingKind;

use crate::context::Context;
use crate::error::{FlowError, LockError};
use crate::look::audit::{AuditRequest, audit};
use crate::project::prepared::{Prepared, known_purposes};
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
    /// Bytes of its archive for this platform; nothing when it has none.
    pub size: Option<u64>,
    /// Kinds of findings that are about it, where that was asked for.
    pub marks: Vec<&'static str>,
}

/// Most levels of a tree: what is deeper is for no eye, and a chain of packages may be thousands deep.
///
/// In a document each level is two deep, and common readers of JSON go 128 deep and no further.
pub const MOST_LEVELS: usize = 60;

/// What to draw.
#[derive(Debug, Clone, Default)]
pub struct TreeRequest {
    /// How many levels; all there may be when left out.
    pub levels: Option<usize>,
    /// Only what a project needs for this purpose.
    pub purpose: Option<Purpose>,
    /// Only the ways that lead to this package.
    pub to: Option<PackageName>,
    /// Whether packages are marked of which an audit finds something.
    pub marked: bool,
}

/// Draws the tree of the project that is worked on; of a workspace, when that is the one at its root, one of each project.
/// What a package needs is told once; where it comes up again, it is marked as repeated.
///
/// # Errors
/// `NotLocked`, `UnknownPurpose`, and as loading a lockfile.
pub fn tree(project: &LoadedProject, request: &TreeRequest, context: &Context<'_>) -> Result<Vec<Tree>, FlowError> {
    let levels = request.levels.unwrap_or(MOST_LEVELS).clamp(1, MOST_LEVELS);
    let Prepared { lockfile, declared, .. } = project.prepare_to_look(context.observer)?;
    let mut needs: Needs<'_> = BTreeMap::new();
    for (name, locked) in lockfile.chosen.iter() {
        for asked in &locked.asked_by {
            if let Asker::Release(asker, version) = &asked.who {
                needs.entry((asker, Some(version))).or_default().push((name, locked, &asked.accept));
            }
        }
    }
    known_purposes(project, &lockfile, request.purpose.as_ref())?;
    if let Some(to) = request.to.as_ref().filter(|to| !lockfile.chosen.contains_key(to)) {
        return Err(LockError::not_locked(to, &lockfile).into());
    }
    let requirements = declared.bound_requirements();
    let met = |requirement: &Requirement| lockfile.met_by(requirement, &declared);
    for requirement in requirements.iter().filter(|requirement| requirement.purpose == run_purpose()) {
        if let Some((name, locked)) = met(requirement) {
            needs.entry((requirement.asker.name(), None)).or_default().push((name, locked, &requirement.accept));
        }
    }
    let mut shown_needs: Vec<&Requirement> = requirements.iter().collect();
    if let Some(to) = &request.to {
        let leading = leading_to(to, &needs);
        let leads = |name: &PackageName, locked: &LockedPackage| name == to || leading.contains(&key_of(name, locked));
        needs.values_mut().for_each(|below| below.retain(|(name, locked, _)| leads(name, locked)));
        shown_needs.retain(|requirement| met(requirement).is_some_and(|(name, locked)| leads(name, locked)));
    }
    shown_needs.retain(|requirement| request.purpose.as_ref().is_none_or(|purpose| requirement.purpose == *purpose));
    let mut told = BTreeSet::new();
    let shown = project.projects().filter(|one| project.here.is_none() || std::ptr::eq(*one, project.here()));
    let tree = |one: &ProjectFile| {
        let of_project = shown_needs.iter().filter(|requirement| requirement.asker.name() == one.name());
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
    let marks = if request.marked { marks(project, context)? } else { Marks::new() };
    let size = |node: &TreeNode| {
        let locked = lockfile.chosen.at(&node.package, &node.version)?;
        Some(artifact_for(&locked.artifacts, &context.settings.platform)?.size)
    };
    let mut open: Vec<&mut TreeNode> = trees.iter_mut().flat_map(|tree| &mut tree.roots).collect();
    while let Some(node) = open.pop() {
        node.size = size(node);
        let of_all = marks.get(&(node.package.clone(), None)).into_iter().flatten();
        let own = marks.get(&(node.package.clone(), Some(node.version.clone()))).into_iter().flatten();
        node.marks = own.chain(of_all).map(|kind| kind.word()).collect();
        open.extend(&mut node.needs);
    }
    Ok(trees)
}

/// Kinds of findings by what they are about; without a version, all of a package.
type Marks = BTreeMap<(PackageName, Option<Version>), BTreeSet<FindingKind>>;

fn marks(project: &LoadedProject, context: &Context<'_>) -> Result<Marks, FlowError> {
    let report = audit(project, &AuditRequest::default(), context)?;
    let mut marks = Marks::new();
    for finding in report.findings() {
        for (package, version) in finding.packages() {
            marks.entry((package.clone(), version.cloned())).or_default().insert(finding.kind());
        }
    }
    Ok(marks)
}

type Key<'l> = (&'l PackageName, Option<&'l Version>);

/// Under what its needs are listed: a project's are its own, whatever its version.
fn key_of<'l>(name: &'l PackageName, locked: &'l LockedPackage) -> Key<'l> {
    (name, (!matches!(locked.from, Origin::Project { .. })).then_some(&locked.version))
}

/// Finds who needs a package, and who needs those.
fn leading_to<'l>(to: &PackageName, needs: &Needs<'l>) -> BTreeSet<Key<'l>> {
    let mut askers: BTreeMap<Key<'l>, Vec<Key<'l>>> = BTreeMap::new();
    let mut open: Vec<Key<'l>> = Vec::new();
    for (asker, below) in needs {
        for (name, locked, _) in below {
            askers.entry(key_of(name, locked)).or_default().push(*asker);
            if *name == to {
                open.push(*asker);
            }
        }
    }
    let mut leading = BTreeSet::new();
    while let Some(key) = open.pop() {
        if leading.insert(key) {
            open.extend(askers.get(&key).into_iter().flatten());
        }
    }
    leading
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
    let below = needs.get(&key_of(package, locked)).map_or(&[][..], Vec::as_slice);
    let repeated = !told.insert((package, &locked.version)) && !below.is_empty();
    let cut = !repeated && levels <= 1 && !below.is_empty();
    let needs = match repeated || cut {
        true => Vec::new(),
        false => below.iter().map(|need| node(*need, None, levels - 1, needs, told)).collect(),
    };
    let (package, version, from) = (package.clone(), locked.version.clone(), locked.from.clone());
    TreeNode {
        package,
        version,
        from,
        accept: accept.clone(),
        purpose,
        needs,
        repeated,
        cut,
        size: None,
        marks: Vec::new(),
    }
}
