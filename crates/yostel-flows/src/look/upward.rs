//! Who needs a package, and who needs those, up to the projects.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Asker, Origin, PackageName, Purpose};
use yostel_versions::{ConstraintText, Version};

use crate::context::Context;
use crate::error::{FlowError, LockError};
use crate::look::tree::MOST_LEVELS;
use crate::project::LoadedProject;
use crate::project::prepared::Prepared;

/// Who needs a package at a version.
#[derive(Debug)]
pub struct Upward {
    /// The package.
    pub package: PackageName,
    /// The locked version.
    pub version: Version,
    /// Who asks for it.
    pub askers: Vec<AskerNode>,
}

/// Somebody who asks for what is below, in a tree.
#[derive(Debug)]
pub struct AskerNode {
    /// Who.
    pub who: Asker,
    /// What they accept.
    pub accept: ConstraintText,
    /// For which purpose, where a project asks.
    pub purpose: Option<Purpose>,
    /// Who asks for them.
    pub askers: Vec<AskerNode>,
    /// Whether who asks for them is elsewhere in the tree already.
    pub repeated: bool,
    /// Whether more ask than are shown, because the tree is cut here.
    pub cut: bool,
}

/// Draws who needs a package, each of its locked versions by itself, up to the projects. Who asks for somebody is told once;
/// where they come up again, that is marked. At most `levels` levels are shown.
///
/// # Errors
/// `NotLocked`, and as loading a lockfile.
pub fn upward(
    project: &LoadedProject,
    package: &PackageName,
    levels: usize,
    context: &Context<'_>,
) -> Result<Vec<Upward>, FlowError> {
    let Prepared { lockfile, declared, .. } = project.prepare_to_look(context.observer)?;
    if !lockfile.chosen.contains_key(package) {
        return Err(LockError::not_locked(package, &lockfile).into());
    }
    let mut asked: AskedFor = BTreeMap::new();
    for (name, locked) in lockfile.chosen.iter() {
        let of = asked.entry((name.clone(), Some(locked.version.clone()))).or_default();
        let releases = locked.asked_by.iter().filter(|asked| !asked.who.is_project());
        of.extend(releases.map(|asked| (asked.who.clone(), asked.accept.clone(), None)));
    }
    // Of projects it counts what they need now.
    for requirement in declared.bound_requirements() {
        if let Some((name, locked)) = lockfile.met_by(&requirement, &declared) {
            let of = asked.entry((name.clone(), Some(locked.version.clone()))).or_default();
            of.push((requirement.asker.clone(), requirement.accept.clone(), Some(requirement.purpose.clone())));
        }
    }
    // A project that others need asks in its own name.
    for (name, locked) in lockfile.chosen.iter().filter(|(_, locked)| matches!(locked.from, Origin::Project { .. })) {
        if let Some(of) = asked.get(&(name.clone(), Some(locked.version.clone()))).cloned() {
            asked.insert((name.clone(), None), of);
        }
    }
    let levels = levels.clamp(1, MOST_LEVELS);
    let all = lockfile.chosen.all(package).iter().map(|locked| {
        let mut told = BTreeSet::new();
        let key = (package.clone(), Some(locked.version.clone()));
        let askers = nodes(&key, levels, &asked, &mut told);
        Upward { package: package.clone(), version: locked.version.clone(), askers }
    });
    Ok(all.collect())
}

/// Who asks for what: for a release, or, without a version, for a project that others need.
type AskedFor = BTreeMap<Key, Vec<(Asker, ConstraintText, Option<Purpose>)>>;

type Key = (PackageName, Option<Version>);

fn nodes(of: &Key, levels: usize, asked: &AskedFor, told: &mut BTreeSet<Key>) -> Vec<AskerNode> {
    let all = asked.get(of).into_iter().flatten();
    let node = |(who, accept, purpose): &(Asker, ConstraintText, Option<Purpose>)| {
        let key = match who {
            Asker::Project(name) => (name.clone(), None),
            Asker::Release(name, version) => (name.clone(), Some(version.clone())),
        };
        let has_more = asked.get(&key).is_some_and(|askers| !askers.is_empty());
        let repeated = !told.insert(key.clone()) && has_more;
        let cut = !repeated && levels <= 1 && has_more;
        let askers = if repeated || cut { Vec::new() } else { nodes(&key, levels - 1, asked, told) };
        AskerNode { who: who.clone(), accept: accept.clone(), purpose: purpose.clone(), askers, repeated, cut }
    };
    all.map(node).collect()
}
