//! What is known of the packages in reach of the wishes, and what is wanted next.
//!
//! Reach follows the needs of every release that some requirement met on the way admits: the least set closed under
//! that, so it does not depend on the order of arrival. Names and texts are compared once, on arrival; from there on
//! packages and needs are dense numbers. Those depend on the order of arrival, so nothing that decides an answer may
//! iterate over them: answers go by name.

use std::collections::{BTreeMap, BTreeSet};

use super::Arrival;
use crate::constraint::{Accept, Constraint};
use crate::manifest::run_purpose;
use crate::name::{PackageName, Purpose, SourceName};
use crate::release::{PackageDocument, Release};

/// A package, by the order in which it was first named.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct PackageId(u32);

/// A package and a constraint on it, by the order in which they were first met together.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct NeedId(u32);

impl PackageId {
    pub(super) fn index(self) -> usize {
        self.0 as usize
    }
}

impl NeedId {
    pub(super) fn index(self) -> usize {
        self.0 as usize
    }
}

#[derive(Debug)]
enum State {
    /// Named, and not arrived yet.
    Awaited,
    /// No source has it.
    Absent,
    Here(SourceName, PackageDocument),
}

#[derive(Debug)]
struct KnownPackage {
    state: State,
    /// Whether every release is followed, admitted or not.
    whole: bool,
    /// Needs on this package by text.
    needs: BTreeMap<Accept, NeedId>,
    /// Needs to follow once it arrived.
    waiting: Vec<NeedId>,
    /// By release: what it needs, once it was looked at.
    looked_at: Vec<Option<Vec<NeedId>>>,
}

#[derive(Debug)]
struct KnownNeed {
    package: PackageId,
    accept: Accept,
    /// Releases that are admitted, rising; empty until it was followed.
    admitted: Vec<u32>,
}

#[derive(Debug)]
pub(crate) struct Known {
    ids: BTreeMap<PackageName, PackageId>,
    packages: Vec<KnownPackage>,
    needs: Vec<KnownNeed>,
    /// Needs to follow, of packages that arrived.
    open: Vec<NeedId>,
    /// Packages that are wanted and did not arrive.
    missing: BTreeSet<PackageName>,
    looked_at: usize,
    run: Purpose,
}

impl Known {
    /// Starts with what the wishes name; of packages in `whole`, every release will be followed.
    pub(super) fn new<'w>(wishes: impl Iterator<Item = (&'w PackageName, &'w Accept)>, whole: bool) -> Self {
        let mut known = Self {
            ids: BTreeMap::new(),
            packages: Vec::new(),
            needs: Vec::new(),
            open: Vec::new(),
            missing: BTreeSet::new(),
            looked_at: 0,
            run: run_purpose(),
        };
        for (package, accept) in wishes {
            let need = known.need(package, accept);
            let package = known.needs[need.index()].package;
            known.packages[package.index()].whole = whole;
        }
        known
    }

    /// Takes in answers, follows what they lead to, and returns the packages that are wanted next.
    pub(super) fn take(&mut self, arrived: Vec<Arrival>) -> &BTreeSet<PackageName> {
        for Arrival { package: name, found } in arrived {
            let id = self.package(&name);
            let package = &mut self.packages[id.index()];
            // Answers may come twice; the first one counts, so that nothing changes under what was followed.
            if !matches!(package.state, State::Awaited) {
                continue;
            }
            package.state = match found {
                None => State::Absent,
                Some((source, document)) => {
                    package.looked_at.resize(document.releases.len(), None);
                    State::Here(source, document)
                }
            };
            self.open.append(&mut package.waiting);
            self.missing.remove(&name);
        }
        while let Some(need) = self.open.pop() {
            self.follow(need);
        }
        &self.missing
    }

    fn follow(&mut self, need: NeedId) {
        let KnownNeed { package: id, accept, .. } = &self.needs[need.index()];
        let id = *id;
        let package = &self.packages[id.index()];
        let State::Here(_, document) = &package.state else { return };
        let Ok(constraint) = accept.bind(document.numbering) else { return };
        let mut admitted = Vec::new();
        let mut fresh: Vec<(usize, Vec<(PackageName, Accept)>)> = Vec::new();
        for (at, release) in document.releases.iter().enumerate() {
            let fits = constraint.admits(&release.version);
            if fits {
                admitted.push(u32::try_from(at).expect("fewer than 2^32 releases fit in memory"));
            }
            if (fits || package.whole) && package.looked_at[at].is_none() {
                let needs = release.needs.get(&self.run).into_iter().flatten();
                fresh.push((at, needs.map(|(name, accept)| (name.clone(), accept.clone())).collect()));
            }
        }
        self.needs[need.index()].admitted = admitted;
        for (at, needs) in fresh {
            let needs = needs.iter().map(|(name, accept)| self.need(name, accept)).collect();
            self.packages[id.index()].looked_at[at] = Some(needs);
            self.looked_at += 1;
        }
    }

    fn package(&mut self, name: &PackageName) -> PackageId {
        if let Some(id) = self.ids.get(name) {
            return *id;
        }
        let id = PackageId(u32::try_from(self.packages.len()).expect("fewer than 2^32 packages fit in memory"));
        self.ids.insert(name.clone(), id);
        let (needs, waiting, looked_at) = (BTreeMap::new(), Vec::new(), Vec::new());
        self.packages.push(KnownPackage { state: State::Awaited, whole: false, needs, waiting, looked_at });
        id
    }

    /// Numbers a need; one that is new is followed as soon as its package is there.
    fn need(&mut self, name: &PackageName, accept: &Accept) -> NeedId {
        let id = self.package(name);
        let package = &mut self.packages[id.index()];
        if let Some(need) = package.needs.get(accept) {
            return *need;
        }
        let need = NeedId(u32::try_from(self.needs.len()).expect("fewer than 2^32 needs fit in memory"));
        package.needs.insert(accept.clone(), need);
        self.needs.push(KnownNeed { package: id, accept: accept.clone(), admitted: Vec::new() });
        if matches!(package.state, State::Awaited) {
            package.waiting.push(need);
            self.missing.insert(name.clone());
        } else {
            self.open.push(need);
        }
        need
    }

    fn here(&self, name: &PackageName) -> Option<(&SourceName, &PackageDocument)> {
        match &self.packages[self.ids.get(name)?.index()].state {
            State::Here(source, document) => Some((source, document)),
            State::Awaited | State::Absent => None,
        }
    }

    pub(crate) fn document(&self, name: &PackageName) -> Option<&PackageDocument> {
        self.here(name).map(|(_, document)| document)
    }

    pub(super) fn source(&self, name: &PackageName) -> Option<&SourceName> {
        self.here(name).map(|(source, _)| source)
    }

    /// Returns the set a text stands for, or nothing when it does not fit the package's numbering.
    pub(super) fn bind(&self, package: &PackageName, accept: &Accept) -> Option<Constraint> {
        accept.bind(self.document(package)?.numbering).ok()
    }

    /// Lists the packages that are here, by name.
    pub(super) fn documents(&self) -> impl Iterator<Item = (&PackageName, PackageId, &PackageDocument)> {
        self.ids.iter().filter_map(|(name, id)| match &self.packages[id.index()].state {
            State::Here(_, document) => Some((name, *id, document)),
            State::Awaited | State::Absent => None,
        })
    }

    /// Lists the releases of a package that were looked at, rising, each with its place and what it needs.
    pub(super) fn looked_at(&self, id: PackageId) -> impl Iterator<Item = (usize, &Release, &[NeedId])> {
        let package = &self.packages[id.index()];
        let releases = match &package.state {
            State::Here(_, document) => &document.releases[..],
            State::Awaited | State::Absent => &[],
        };
        let followed = releases.iter().zip(&package.looked_at).enumerate();
        followed.filter_map(|(at, (release, needs))| Some((at, release, needs.as_deref()?)))
    }

    /// Returns the package of a need and its releases that are admitted, rising.
    pub(super) fn admitted(&self, need: NeedId) -> (PackageId, &[u32]) {
        let need = &self.needs[need.index()];
        (need.package, &need.admitted)
    }

    /// Returns how many packages, needs and followed releases there are.
    pub(super) fn counts(&self) -> (usize, usize, usize) {
        (self.packages.len(), self.needs.len(), self.looked_at)
    }

    /// Hands over all documents.
    pub(super) fn into_documents(self) -> BTreeMap<PackageName, PackageDocument> {
        let mut documents = BTreeMap::new();
        let mut states: Vec<Option<State>> = self.packages.into_iter().map(|package| Some(package.state)).collect();
        for (name, id) in self.ids {
            if let Some(State::Here(_, document)) = states[id.index()].take() {
                documents.insert(name, document);
            }
        }
        documents
    }
}
