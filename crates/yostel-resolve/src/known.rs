//! What is known of the packages, and what is wanted next.
//!
//! Names and texts are compared once, when they are first met; from there on packages and needs are dense numbers. Which
//! numbers depends on the order in which things were met, so nothing that decides an answer may iterate over them:
//! answers go by name.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use yostel_documents::{ListedRelease, Origin, Overrides, PackageDocument, PackageName, Purpose, Word, run_purpose};
use yostel_versions::{Bindings, Constraint, ConstraintText, Lookup, Version};

use crate::problem::Rules;

/// What one package's sources answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Arrival {
    /// The package asked about.
    pub package: PackageName,
    /// Its releases and where they come from; none when no source knows it.
    pub found: Option<(Origin, PackageDocument)>,
}

/// Why a search cannot go on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Halt {
    /// Packages must arrive first.
    Missing,
    /// It was told to stop.
    Stopped,
}

/// A package, by the order in which it was first named.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct PackageId(u32);

/// A package and a constraint on it, by the order in which they were first met together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
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

/// How far to look.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Reach {
    /// At releases that the search comes by.
    AsNeeded,
    /// At every release that some need met on the way accepts, and every release of a needed package: the least set
    /// closed under that.
    Whole,
}

#[derive(Debug)]
enum State {
    /// Named, and not arrived yet.
    Awaited,
    /// No source has it.
    Absent,
    Here(Origin, PackageDocument),
}

#[derive(Debug)]
struct KnownPackage {
    name: PackageName,
    state: State,
    /// Whether a project needs it itself.
    direct: bool,
    /// Needs on this package by text and the platforms that what meets them must serve.
    needs: BTreeMap<(ConstraintText, Served), NeedId>,
    /// By release: what it needs, once it was looked at.
    looked_at: Vec<Option<Box<[NeedId]>>>,
}

#[derive(Debug)]
struct KnownNeed {
    package: PackageId,
    accept: ConstraintText,
    /// The platforms that what meets it must serve.
    served: Served,
    /// Releases that are accepted, rising; known once the package is here.
    accepted: Option<Box<[u32]>>,
}

/// What came and what was looked at.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Counts {
    /// Answers, good or bad.
    pub(super) arrived: usize,
    pub(super) packages: usize,
    pub(super) releases: usize,
    pub(super) looked_at: usize,
}

#[derive(Debug)]
pub(crate) struct Known {
    reach: Reach,
    ids: Lookup<PackageName, PackageId>,
    packages: Vec<KnownPackage>,
    needs: Vec<KnownNeed>,
    /// Needs whose accepted releases are to be looked at, when all in reach are.
    open: Vec<NeedId>,
    /// Packages that are wanted and did not arrive.
    missing: BTreeSet<PackageName>,
    counts: Counts,
    bindings: Bindings,
    overrides: Overrides,
    coexist: BTreeSet<PackageName>,
    platforms: Vec<String>,
    run: Purpose,
    /// Once it is set, from anywhere, no search goes on.
    stop: Arc<AtomicBool>,
    /// How much work may be done; none when that is not limited.
    allowed: Option<u64>,
    /// How many literals were forced.
    forced: u64,
    /// How many releases may be looked at, when all in reach are.
    most_looked_at: usize,
}

/// How many literals are forced in the time in which a release is looked at, by measurement.
const LOOKED_AT: u64 = 250;

/// Listed platforms, a bit each by their order; no more can be listed.
pub(super) type Served = u64;

impl Known {
    /// Starts with what the needs name.
    pub(super) fn new<'w>(
        requirements: impl Iterator<Item = (&'w PackageName, &'w ConstraintText)>,
        reach: Reach,
        rules: &Rules,
    ) -> Self {
        let mut known = Self {
            reach,
            ids: Lookup::default(),
            packages: Vec::new(),
            needs: Vec::new(),
            open: Vec::new(),
            missing: BTreeSet::new(),
            counts: Counts::default(),
            bindings: Bindings::default(),
            overrides: rules.overrides.clone(),
            coexist: rules.coexist.clone(),
            platforms: rules.platforms.iter().cloned().collect(),
            run: run_purpose(),
            stop: Arc::default(),
            allowed: None,
            forced: 0,
            most_looked_at: usize::MAX,
        };
        for (package, accept) in requirements {
            let need = known.requirement(package, accept);
            let package = known.needs[need.index()].package;
            known.packages[package.index()].direct = true;
            known.want(package);
        }
        known
    }

    /// Returns the flag that all searches of this look at.
    pub(super) fn stop(&self) -> &Arc<AtomicBool> {
        &self.stop
    }

    /// Lets searches go on until so much work is done; they end like those that are told to stop then.
    pub(super) fn allow(&mut self, work: u64) {
        self.allowed = Some(work);
    }

    /// Lets so many releases be looked at, when all in reach are.
    pub(super) fn look_at_most(&mut self, releases: usize) {
        self.most_looked_at = releases;
    }

    /// Tells whether more is in reach than may be looked at.
    pub(super) fn is_too_wide(&self) -> bool {
        self.counts.looked_at > self.most_looked_at
    }

    /// Lets a question do so much work, and no more than may be done anyway.
    pub(super) fn within<T>(&mut self, work: u64, ask: impl FnOnce(&mut Self) -> T) -> T {
        let allowed = self.allowed;
        let until = self.work().saturating_add(work);
        self.allowed = Some(allowed.map_or(until, |allowed| allowed.min(until)));
        let answer = ask(self);
        self.allowed = allowed;
        answer
    }

    /// Returns how many more literals may be forced; none when that is not limited.
    pub(super) fn left(&self) -> Option<u64> {
        self.allowed.map(|work| work.saturating_sub(self.work()))
    }

    /// Tells whether it was told to stop, or all the work that may be done was.
    pub(super) fn is_stopped(&self) -> bool {
        self.stop.load(Ordering::Relaxed) || self.left() == Some(0)
    }

    /// Counts literals that a search forced.
    pub(super) fn count_forced(&mut self, forced: u64) {
        self.forced += forced;
    }

    /// Returns what was done, in forced literals: a release that was looked at costs as much as so many.
    pub(super) fn work(&self) -> u64 {
        self.forced + LOOKED_AT * self.counts.looked_at as u64
    }

    /// Takes in answers and follows what they lead to, when all in reach is to be looked at.
    pub(super) fn take(&mut self, arrived: Vec<Arrival>) {
        for Arrival { package: name, found } in arrived {
            let id = self.package(&name);
            let package = &mut self.packages[id.index()];
            // Answers may come twice; the first one counts, so that nothing changes under what was looked at.
            if !matches!(package.state, State::Awaited) {
                continue;
            }
            package.state = match found {
                None => State::Absent,
                Some((source, document)) => {
                    self.counts.packages += 1;
                    self.counts.releases += document.releases.len();
                    package.looked_at.resize(document.releases.len(), None);
                    State::Here(source, document)
                }
            };
            let needs: Vec<NeedId> = package.needs.values().copied().collect();
            self.missing.remove(&name);
            self.counts.arrived += 1;
            needs.into_iter().for_each(|need| self.bind_need(need));
        }
        while !self.is_too_wide()
            && let Some(need) = self.open.pop()
        {
            let id = self.needs[need.index()].package;
            let accepted: Vec<u32> = match self.packages[id.index()].direct {
                true => (0u32..).take(self.packages[id.index()].looked_at.len()).collect(),
                false => self.accepted(need).1.to_vec(),
            };
            accepted.into_iter().for_each(|at| {
                self.look_at(id, at);
            });
        }
    }

    /// Lists the packages that are wanted and did not arrive.
    pub(super) fn missing(&self) -> &BTreeSet<PackageName> {
        &self.missing
    }

    /// Wants a package, unless it arrived.
    pub(super) fn want(&mut self, id: PackageId) {
        let package = &self.packages[id.index()];
        if matches!(package.state, State::Awaited) {
            self.missing.insert(package.name.clone());
        }
    }

    /// Numbers a package.
    pub(super) fn package(&mut self, name: &PackageName) -> PackageId {
        if let Some(id) = self.ids.get(name) {
            return *id;
        }
        let id = PackageId(u32::try_from(self.packages.len()).expect("fewer than 2^32 packages fit in memory"));
        self.ids.insert(name.clone(), id);
        let (name, needs, looked_at) = (name.clone(), BTreeMap::new(), Vec::new());
        self.packages.push(KnownPackage { name, state: State::Awaited, direct: false, needs, looked_at });
        id
    }

    /// Numbers a need of a project.
    pub(super) fn requirement(&mut self, name: &PackageName, accept: &ConstraintText) -> NeedId {
        let served = self.counts_on(accept);
        self.need(name, accept, served)
    }

    /// Returns the listed platforms on which a need counts.
    fn counts_on(&self, accept: &ConstraintText) -> Served {
        let listed = self.platforms.iter().enumerate();
        listed.filter(|(_, platform)| accept.covers(platform)).fold(0, |served, (at, _)| served | 1 << at)
    }

    /// Numbers a need.
    fn need(&mut self, name: &PackageName, accept: &ConstraintText, served: Served) -> NeedId {
        let id = self.package(name);
        let package = &mut self.packages[id.index()];
        if let Some(need) = package.needs.get(&(accept.clone(), served)) {
            return *need;
        }
        let need = NeedId(u32::try_from(self.needs.len()).expect("fewer than 2^32 needs fit in memory"));
        package.needs.insert((accept.clone(), served), need);
        self.needs.push(KnownNeed { package: id, accept: accept.clone(), served, accepted: None });
        if self.has_arrived(id) {
            self.bind_need(need);
        } else if self.reach == Reach::Whole {
            self.want(id);
        }
        need
    }

    fn bind_need(&mut self, need: NeedId) {
        let KnownNeed { package, accept, served, .. } = &self.needs[need.index()];
        let (served, platforms) = (*served, &self.platforms);
        let releases = match &self.packages[package.index()].state {
            State::Here(_, document) => {
                self.bindings.bind(accept, &document.numbering).map(|constraint| (constraint, &document.releases[..]))
            }
            State::Awaited | State::Absent => None,
        };
        // A text that makes no sense for this package accepts nothing.
        let accepted = releases.map_or_else(Box::default, |(constraint, releases)| {
            let serves = |release: &ListedRelease| served == 0 || served_by(release, platforms) & served == served;
            let fits = |release: &ListedRelease| constraint.accepts(&release.version) && serves(release);
            (0u32..).zip(releases).filter(|(_, release)| fits(release)).map(|(at, _)| at).collect()
        });
        self.needs[need.index()].accepted = Some(accepted);
        if self.reach == Reach::Whole {
            self.open.push(need);
        }
    }

    /// Returns what a release needs.
    pub(super) fn look_at(&mut self, id: PackageId, at: u32) -> &[NeedId] {
        let place = at as usize;
        if self.packages[id.index()].looked_at[place].is_none() {
            let State::Here(_, document) = &self.packages[id.index()].state else { return &[] };
            let mut needs = document.releases[place].needs(&self.run);
            if !self.overrides.is_empty() {
                needs = self.overrides.bind_all(needs.iter().map(|(name, accept)| (name, accept)), &self.coexist);
            }
            // What it needs must be there where it is; a need that counts nowhere is none.
            let here = served_by(&document.releases[place], &self.platforms);
            let mut on = needs.iter().map(|(name, accept)| (name, accept, self.counts_on(accept) & here));
            let on: Vec<_> = match self.platforms.is_empty() {
                true => on.collect(),
                false => on.by_ref().filter(|(.., served)| *served != 0).collect(),
            };
            let needs = on.into_iter().map(|(name, accept, served)| self.need(name, accept, served)).collect();
            self.packages[id.index()].looked_at[place] = Some(needs);
            self.counts.looked_at += 1;
        }
        self.packages[id.index()].looked_at[place].as_deref().unwrap_or_default()
    }

    /// Returns the roles that a release fills.
    pub(super) fn roles_of(&self, id: PackageId, at: u32) -> &[Word] {
        self.document_of(id).map_or(&[][..], |document| document.releases[at as usize].roles())
    }

    /// Tells whether the sources answered, whatever they said.
    pub(super) fn has_arrived(&self, id: PackageId) -> bool {
        !matches!(self.packages[id.index()].state, State::Awaited)
    }

    pub(super) fn name(&self, id: PackageId) -> &PackageName {
        &self.packages[id.index()].name
    }

    fn here(&self, id: PackageId) -> Option<(&Origin, &PackageDocument)> {
        match &self.packages[id.index()].state {
            State::Here(source, document) => Some((source, document)),
            State::Awaited | State::Absent => None,
        }
    }

    pub(crate) fn document(&self, name: &PackageName) -> Option<&PackageDocument> {
        self.here(*self.ids.get(name)?).map(|(_, document)| document)
    }

    pub(super) fn document_of(&self, id: PackageId) -> Option<&PackageDocument> {
        self.here(id).map(|(_, document)| document)
    }

    pub(super) fn origin_of(&self, id: PackageId) -> Option<&Origin> {
        self.here(id).map(|(source, _)| source)
    }

    /// Returns the one version of a package that no source tells of, and where it is.
    pub(super) fn elsewhere(&self, name: &PackageName) -> Option<(Version, Origin)> {
        let (origin, document) = self.here(*self.ids.get(name)?)?;
        let release = document.releases.first().filter(|_| origin.source().is_none())?;
        Some((release.version.clone(), origin.clone()))
    }

    /// Returns the set a text stands for, or nothing when it does not fit the package's numbering.
    pub(super) fn bind(&self, package: &PackageName, accept: &ConstraintText) -> Option<Constraint> {
        accept.bind(&self.document(package)?.numbering).ok()
    }

    /// Lists the packages that are here, by name.
    pub(super) fn documents(&self) -> impl Iterator<Item = (PackageId, &PackageDocument)> {
        let ids = (0u32..).map(PackageId).take(self.packages.len());
        let mut ids: Vec<PackageId> = ids.filter(|id| self.document_of(*id).is_some()).collect();
        ids.sort_by_key(|id| self.name(*id));
        ids.into_iter().filter_map(|id| Some((id, self.document_of(id)?)))
    }

    /// Lists the releases of a package that were looked at, rising, each with its place and what it needs.
    pub(super) fn looked_at(&self, id: PackageId) -> impl Iterator<Item = (u32, &ListedRelease, &[NeedId])> {
        let releases = self.document_of(id).map_or(&[][..], |document| &document.releases);
        let followed = releases.iter().zip(&self.packages[id.index()].looked_at);
        (0u32..).zip(followed).filter_map(|(at, (release, needs))| Some((at, release, needs.as_deref()?)))
    }

    /// Returns the package of a need and its releases that are accepted, rising; none before the package arrived.
    pub(super) fn accepted(&self, need: NeedId) -> (PackageId, &[u32]) {
        let need = &self.needs[need.index()];
        (need.package, need.accepted.as_deref().unwrap_or_default())
    }

    /// Returns what a need says.
    pub(super) fn text_of(&self, need: NeedId) -> (&PackageName, &ConstraintText) {
        let need = &self.needs[need.index()];
        (self.name(need.package), &need.accept)
    }

    /// Returns what came and what was looked at so far.
    pub(super) fn counts(&self) -> Counts {
        self.counts
    }

    /// Hands over all documents.
    pub(super) fn into_documents(self) -> BTreeMap<PackageName, PackageDocument> {
        let here = |package: KnownPackage| match package.state {
            State::Here(_, document) => Some((package.name, document)),
            State::Awaited | State::Absent => None,
        };
        self.packages.into_iter().filter_map(here).collect()
    }
}

/// Returns the listed platforms for which a release has something.
fn served_by(release: &ListedRelease, platforms: &[String]) -> Served {
    let listed = platforms.iter().enumerate();
    listed.filter(|(_, platform)| release.serves(platform)).fold(0, |served, (at, _)| served | 1 << at)
}
