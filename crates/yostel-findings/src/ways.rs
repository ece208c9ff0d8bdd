//! The shortest way from a project to a package.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{AskedBy, Asker, Lockfile, PackageName};

/// Most askers of a way that are told: packages may be thousands deep, and each that moved has its way.
const MOST_OF_A_WAY: usize = 100;

/// For each package, who asks for it nearest to a project, and the project.
#[derive(Debug)]
pub(crate) struct Ways<'l>(BTreeMap<&'l PackageName, (&'l Asker, &'l Asker)>);

impl<'l> Ways<'l> {
    /// Finds for each package who asks for it nearest to a project, the first by name of those at one distance.
    pub(crate) fn of(lockfile: &'l Lockfile) -> Self {
        let mut nearer: BTreeMap<&PackageName, (&Asker, &Asker)> = BTreeMap::new();
        let mut needs: BTreeMap<&PackageName, BTreeSet<&PackageName>> = BTreeMap::new();
        let mut layer: BTreeSet<&PackageName> = BTreeSet::new();
        for (name, locked) in lockfile.chosen.iter() {
            if let Some(asked) = locked.asked_by.iter().find(|asked| asked.who.is_project()) {
                nearer.insert(name, (&asked.who, &asked.who));
                layer.insert(name);
            }
            for asked in &locked.asked_by {
                if let Asker::Release(asker, _) = &asked.who {
                    needs.entry(asker).or_default().insert(name);
                }
            }
        }
        while !layer.is_empty() {
            let reached = layer.iter().filter_map(|asker| needs.get(asker)).flatten().copied();
            let new: BTreeSet<&PackageName> = reached.filter(|name| !nearer.contains_key(name)).collect();
            for name in &new {
                let askers = lockfile.chosen.all(name).iter().flat_map(|locked| locked.asked_by.iter());
                let from_layer = |asked: &AskedBy| match &asked.who {
                    Asker::Release(asker, _) => layer.contains(asker),
                    Asker::Project(_) => false,
                };
                if let Some(asked) = askers.filter(|asked| from_layer(asked)).min()
                    && let Asker::Release(asker, _) = &asked.who
                    && let Some((_, project)) = nearer.get(asker).copied()
                {
                    nearer.insert(name, (&asked.who, project));
                }
            }
            layer = new;
        }
        Self(nearer)
    }

    /// Returns who asks for a package nearest to a project.
    pub(crate) fn nearest_asker(&self, package: &PackageName) -> Option<&'l Asker> {
        self.0.get(package).map(|(asker, _)| *asker)
    }

    /// Follows who asks for whom up to a project; each is nearer to one than the one before. Of a long way, the middle is
    /// left out: it is never walked.
    pub(crate) fn to(&self, who: Option<&'l Asker>) -> Vec<Asker> {
        let mut way: Vec<Asker> = Vec::new();
        let mut at = who;
        while let Some(who) = at {
            way.push(who.clone());
            at = match who {
                Asker::Project(_) => None,
                // Whoever is reached from nowhere ends the way; a lockfile made by hand could hold such.
                Asker::Release(name, _) => {
                    self.0.get(name).map(|(next, project)| if way.len() + 1 < MOST_OF_A_WAY { *next } else { *project })
                }
            };
        }
        way.reverse();
        way
    }
}
