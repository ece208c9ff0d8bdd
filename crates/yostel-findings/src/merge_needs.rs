//! What two sides of a merge made of what projects need, as their lockfiles tell.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Asker, Lockfile, PackageName, Purpose, Requirement};
use yostel_versions::ConstraintText;

/// A need of a project: whose, what for, and of which package.
pub type NeedKey = (PackageName, Purpose, PackageName);

/// A need that both sides changed, each to something else.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BothAsk {
    /// The need.
    pub need: NeedKey,
    /// What ours accepts; nothing where it needs it no more.
    pub ours: Option<ConstraintText>,
    /// What theirs accepts.
    pub theirs: Option<ConstraintText>,
}

/// What of theirs is to be done to our needs.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct MergedNeeds {
    /// What each need is to accept now; nothing where it goes.
    pub changes: BTreeMap<NeedKey, Option<ConstraintText>>,
    /// Needs that both sides changed.
    pub both: Vec<BothAsk>,
}

/// Merges what projects need, need by need: what one side changed is taken. With no `base`, both sides began with nothing.
pub fn merge_needs(base: Option<&Lockfile>, ours: &Lockfile, theirs: &Lockfile) -> MergedNeeds {
    let (base, ours, theirs) = (base.map(needs_in).unwrap_or_default(), needs_in(ours), needs_in(theirs));
    let mut merged = MergedNeeds::default();
    for key in base.keys().chain(theirs.keys()).collect::<BTreeSet<_>>() {
        let (was, here, there) = (base.get(key), ours.get(key), theirs.get(key));
        if there == was || there == here {
            continue;
        }
        if here == was {
            merged.changes.insert(key.clone(), there.cloned());
        } else {
            merged.both.push(BothAsk { need: key.clone(), ours: here.cloned(), theirs: there.cloned() });
        }
    }
    merged
}

impl MergedNeeds {
    /// Returns our needs with what is to be done to them.
    pub fn applied_to(&self, ours: &[Requirement]) -> Vec<Requirement> {
        let key = |need: &Requirement| (need.asker.name().clone(), need.purpose.clone(), need.package.clone());
        let mut needs: Vec<Requirement> =
            ours.iter().filter(|need| !self.changes.contains_key(&key(need))).cloned().collect();
        for ((project, purpose, package), accept) in &self.changes {
            let Some(accept) = accept.clone() else { continue };
            let (asker, purpose, package) = (Asker::Project(project.clone()), purpose.clone(), package.clone());
            needs.push(Requirement { asker, purpose, package, accept });
        }
        needs
    }
}

/// Lists what projects need, as a lockfile tells.
fn needs_in(lockfile: &Lockfile) -> BTreeMap<NeedKey, ConstraintText> {
    let mut needs = BTreeMap::new();
    for (package, locked) in lockfile.chosen.iter() {
        for asked in locked.asked_by.iter().filter(|asked| asked.who.is_project()) {
            let key = (asked.who.name().clone(), asked.purpose.clone(), package.clone());
            needs.insert(key, asked.accept.clone());
        }
    }
    needs
}
