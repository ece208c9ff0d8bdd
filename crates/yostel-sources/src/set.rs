//! All sources of a project: which one a package comes from, never by chance.
//!
//! A name that a source reserves comes from that source alone. A name that two sources have and none reserves is an
//! error: otherwise a stranger who publishes under a private name would be installed in its place.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Mutex, MutexGuard};

use jiff::Timestamp;
use yostel_documents::{NamePattern, Origin, PackageDocument, PackageName, SourceName};

use crate::error::{SourceError, SourceErrorKind};
use crate::{Source, SourceAnswer, only_answer};

/// What all sources together answer about a package.
pub type SetAnswer = Result<Option<(Origin, PackageDocument)>, SourceError>;

/// A package that not all sources answered about yet.
struct Open {
    left: usize,
    found: Vec<(usize, SourceAnswer)>,
}

/// The sources of a project.
#[derive(Default)]
pub struct SourceSet {
    sources: Vec<(Box<dyn Source>, Vec<NamePattern>)>,
    /// Packages that come from elsewhere, whatever a source may have by their name.
    given: BTreeMap<PackageName, (Origin, PackageDocument)>,
    /// What was answered before: whoever asks twice is told the same, and no source is asked twice.
    told: Mutex<BTreeMap<PackageName, Option<(Origin, PackageDocument)>>>,
    /// Packages that somebody asked about, or that sources were told to expect.
    asked: Mutex<BTreeSet<PackageName>>,
}

impl SourceSet {
    /// Adds a source and the names it reserves.
    pub fn add(&mut self, source: Box<dyn Source>, reserves: Vec<NamePattern>) {
        self.sources.push((source, reserves));
    }

    /// Adds a package that comes from elsewhere: no source is asked about it.
    pub fn give(&mut self, origin: Origin, document: PackageDocument) {
        self.given.insert(document.name.clone(), (origin, document));
    }

    /// Tells whether there is no source at all.
    pub fn is_empty(&self) -> bool {
        self.sources.is_empty()
    }

    /// Returns the source with this name.
    pub fn source(&self, name: &SourceName) -> Option<&dyn Source> {
        self.sources.iter().map(|(source, _)| &**source).find(|source| source.name() == name)
    }

    /// Asks about all of these packages at once; each source is asked about those that may come from it. Calls `deliver`
    /// exactly once for each package, as soon as all who may have it answered, now or before: with where it comes from, or nothing when
    /// no source knows it; with the error of a source, or `Ambiguous`.
    pub fn documents(&self, packages: &BTreeSet<PackageName>, deliver: &(dyn Fn(&PackageName, SetAnswer) + Sync)) {
        let mut wanted: Vec<BTreeSet<PackageName>> = self.sources.iter().map(|_| BTreeSet::new()).collect();
        let mut open: BTreeMap<PackageName, Open> = BTreeMap::new();
        for package in packages {
            if let Some(known) = self.known(package) {
                deliver(package, Ok(known));
                continue;
            }
            let asked = self.may_have(package);
            if asked.is_empty() {
                deliver(package, Ok(None));
                continue;
            }
            for at in &asked {
                wanted[*at].insert(package.clone());
            }
            open.insert(package.clone(), Open { left: asked.len(), found: Vec::new() });
        }
        self.asked().extend(open.keys().cloned());
        let open = Mutex::new(open);
        let one = |at: usize, package: &PackageName, answer: SourceAnswer| {
            let whole = {
                let mut all = open.lock().expect("nobody panics while holding it");
                let entry = all.get_mut(package).expect("a source answers what it was asked");
                entry.found.push((at, answer));
                entry.left -= 1;
                (entry.left == 0).then(|| all.remove(package)).flatten()
            };
            if let Some(whole) = whole {
                let answer = self.join(package, whole.found);
                if let Ok(told) = &answer {
                    self.told().insert(package.clone(), told.clone());
                }
                deliver(package, answer);
            }
        };
        let ask = |at: usize| {
            if !wanted[at].is_empty() {
                self.sources[at].0.documents(&wanted[at], &|package, answer| one(at, package, answer));
            }
        };
        // Several are asked at the same time: what takes long is waiting for each.
        std::thread::scope(|scope| {
            for at in 1..self.sources.len() {
                if std::thread::Builder::new().spawn_scoped(scope, move || ask(at)).is_err() {
                    ask(at);
                }
            }
            if !self.sources.is_empty() {
                ask(0);
            }
        });
    }

    /// Tells whether some source answers late enough to be told what to expect.
    pub fn is_far(&self) -> bool {
        self.sources.iter().any(|(source, _)| source.is_far())
    }

    /// Tells the sources which packages they will probably be asked about next, so that those which answer late can begin.
    pub fn expect(&self, packages: &BTreeSet<PackageName>) {
        let mut wanted: Vec<BTreeSet<PackageName>> = self.sources.iter().map(|_| BTreeSet::new()).collect();
        for package in packages {
            if self.known(package).is_none() && self.asked().insert(package.clone()) {
                for at in self.may_have(package) {
                    wanted[at].insert(package.clone());
                }
            }
        }
        for ((source, _), packages) in self.sources.iter().zip(wanted).filter(|(_, packages)| !packages.is_empty()) {
            source.expect(&packages);
        }
    }

    fn asked(&self) -> MutexGuard<'_, BTreeSet<PackageName>> {
        self.asked.lock().expect("nobody panics while holding it")
    }

    /// Lists when the servers of each source were last reached, as far as that was kept.
    pub fn last_seen(&self) -> Vec<(SourceName, Option<Timestamp>)> {
        self.sources.iter().map(|(source, _)| (source.name().clone(), source.last_seen())).collect()
    }

    /// Returns what need not be asked.
    fn known(&self, package: &PackageName) -> Option<Option<(Origin, PackageDocument)>> {
        self.given.get(package).cloned().map(Some).or_else(|| self.told().get(package).cloned())
    }

    fn told(&self) -> MutexGuard<'_, BTreeMap<PackageName, Option<(Origin, PackageDocument)>>> {
        self.told.lock().expect("nobody panics while holding it")
    }

    /// Lists the sources that may have a package: those that reserve its name, or all when none does.
    fn may_have(&self, package: &PackageName) -> Vec<usize> {
        let reserves = |(_, patterns): &(Box<dyn Source>, Vec<NamePattern>)| patterns.iter().any(|p| p.covers(package));
        let reserved: Vec<usize> = (0..self.sources.len()).filter(|at| reserves(&self.sources[*at])).collect();
        if reserved.is_empty() { (0..self.sources.len()).collect() } else { reserved }
    }

    /// Makes one answer of those of all sources, in the order in which the manifest has them.
    fn join(&self, package: &PackageName, mut answers: Vec<(usize, SourceAnswer)>) -> SetAnswer {
        answers.sort_by_key(|(at, _)| *at);
        let mut found: Vec<(SourceName, PackageDocument)> = Vec::new();
        for (at, answer) in answers {
            if let Some(told) = answer? {
                found.push((self.sources[at].0.name().clone(), told.document));
            }
        }
        if found.len() > 1 {
            let others = found[1..].iter().map(|(name, _)| name.clone()).collect();
            let kind = SourceErrorKind::Ambiguous { package: package.clone(), others };
            return Err(SourceError { source_name: Some(found[0].0.clone()), kind });
        }
        Ok(found.pop().map(|(name, document)| (Origin::Source(name), document)))
    }

    /// Returns all that is known of a package, and from where; nothing when no source knows it.
    ///
    /// # Errors
    /// As [`Self::documents`] delivers.
    pub fn document(&self, package: &PackageName) -> SetAnswer {
        only_answer(|keep| self.documents(&BTreeSet::from([package.clone()]), &|_, told| keep(told)))
    }

    /// Lists all names that any source knows, sorted; sources that cannot be asked are passed over.
    pub fn names(&self) -> Vec<PackageName> {
        let mut names: Vec<PackageName> =
            self.sources.iter().flat_map(|(source, _)| source.names().unwrap_or_default()).collect();
        names.extend(self.given.keys().cloned());
        names.sort();
        names.dedup();
        names
    }
}
