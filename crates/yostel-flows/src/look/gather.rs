//! The advisories that may speak of what is locked, from the sources and the places that a project names.

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};

use yostel_documents::{
    ADVISORIES, About, Advisory, LockedPackage, Lockfile, Origin, PackageDocument, PackageName, RangeEvent, RangeKind,
    SourceName, repository_of,
};
use yostel_findings::{Advisories, Ancestry, Published, UnreadAdvisory, identities_of};
use yostel_sources::{AdvisoryReader, AncestryAsked, FileStamp, GitError, SourceSet, ancestry_of, read_dump};
use yostel_store::Spoken;

use crate::context::Context;
use crate::error::FlowError;
use crate::observer::go_on;
use crate::project::LoadedProject;
use crate::project::files::MANIFEST_NAME;

/// From so many files on, what they speak of is written down.
const WORTH_A_LIST: usize = 64;

/// How long before it was written down a file must have been changed, in seconds, for that to hold: two changes may bear one
/// time.
const SETTLED: i64 = 2;

/// Most commits of one repository that advisories may name.
const MOST_COMMITS: usize = 1000;

/// What advisories are sought on.
#[derive(Debug, Default)]
pub(crate) struct Sought<'l> {
    of_sources: BTreeSet<(&'l PackageName, &'l SourceName)>,
    /// By repository: its address, and the commits that are locked.
    commits: BTreeMap<String, (&'l str, BTreeSet<String>)>,
}

impl<'l> Sought<'l> {
    /// Seeks them on what is locked.
    pub(crate) fn on(lockfile: &'l Lockfile) -> Self {
        let mut sought = Self::default();
        sought.add(lockfile);
        sought
    }

    /// Seeks them on this too.
    pub(crate) fn add(&mut self, lockfile: &'l Lockfile) {
        lockfile.chosen.iter().for_each(|(package, locked)| self.add_locked(package, locked));
    }

    /// Seeks them on a package of a source.
    pub(crate) fn add_package(&mut self, package: &'l PackageName, source: &'l SourceName) {
        self.of_sources.insert((package, source));
    }

    fn add_locked(&mut self, package: &'l PackageName, locked: &'l LockedPackage) {
        match &locked.from {
            Origin::Source(source) => self.add_package(package, source),
            Origin::Git { place, commit } => {
                let entry = self.commits.entry(repository_of(&place.address));
                entry.or_insert_with(|| (&place.address, BTreeSet::new())).1.insert(commit.clone());
            }
            Origin::Archive { .. } | Origin::Path { .. } | Origin::Project { .. } => {}
        }
    }
}

/// Reads the advisories that may speak of what is sought. What cannot be read, or a place that cannot be asked, is told
/// beside them: everything else that is looked for is found all the same.
///
/// # Errors
/// `Stopped`.
pub(crate) fn gather(
    sought: &Sought<'_>,
    documents: &BTreeMap<PackageName, PackageDocument>,
    (project, sources): (&LoadedProject, &SourceSet),
    context: &Context<'_>,
) -> Result<(Advisories, Vec<UnreadAdvisory>), FlowError> {
    let mut by_source: BTreeMap<&SourceName, BTreeSet<About>> = BTreeMap::new();
    let mut registries = BTreeMap::new();
    for (package, name) in &sought.of_sources {
        let Some(source) = sources.source(name) else { continue };
        let ecosystem = source.registry().to_owned();
        let wanted = by_source.entry(name).or_default();
        wanted.insert(About::Name { ecosystem: ecosystem.clone(), name: package.to_string() });
        let releases = documents.get(*package).into_iter().flat_map(|document| document.releases.iter());
        wanted.extend(
            releases.flat_map(|release| identities_of(release.identities())).map(|url| About::Url(url.package())),
        );
        registries.insert((*name).clone(), ecosystem);
    }
    let repositories = sought.commits.keys().map(|repository| About::Repository(repository.clone()));
    let everything: BTreeSet<About> = by_source.values().flatten().cloned().chain(repositories).collect();
    let (mut all, mut unread) = (Vec::new(), Vec::new());
    for (name, wanted) in by_source {
        go_on(context.observer)?;
        let Some(source) = sources.source(name) else { continue };
        let reader = Reader::new(&source.place(), wanted, context);
        let asked = source.advisories(&reader).map_err(|error| error.to_string());
        reader.finish((Some(name), name.as_str(), ADVISORIES), asked, context, (&mut all, &mut unread));
    }
    for dump in project.manifest().policy.advisories.iter().filter(|_| !everything.is_empty()) {
        go_on(context.observer)?;
        let path = project.root.join(dump);
        let reader = Reader::new(&path.display().to_string(), everything.clone(), context);
        let asked = read_dump(&path, &reader).map_err(|error| error.to_string());
        let (place, file) = if asked.is_ok() { (dump.as_str(), "") } else { (MANIFEST_NAME, dump.as_str()) };
        reader.finish((None, place, file), asked, context, (&mut all, &mut unread));
    }
    let order = |published: &Published| (published.source.clone(), published.advisory.id.clone());
    all.sort_by_key(order);
    let ancestries = ancestries(&all, sought, project, &mut unread, context)?;
    unread.sort();
    Ok((Advisories::new(all, registries, ancestries), unread))
}

/// Takes from a place what is sought, and remembers what its files speak of.
struct Reader {
    place: String,
    wanted: BTreeSet<About>,
    /// The same as numbers.
    numbers: BTreeSet<u64>,
    known: Vec<Spoken>,
    /// Of each of those, whether it still holds.
    holds: Vec<AtomicBool>,
    /// When they were written down.
    written: i64,
    took: Mutex<Taken>,
}

#[derive(Default)]
struct Taken {
    advisories: Vec<Advisory>,
    unread: Vec<(String, String)>,
    spoken: Vec<Spoken>,
}

impl Reader {
    fn new(place: &str, wanted: BTreeSet<About>, context: &Context<'_>) -> Self {
        let (known, written) = context.cache.spoken_of(place);
        let holds = known.iter().map(|_| AtomicBool::new(false)).collect();
        let numbers = wanted.iter().map(About::number).collect();
        Self { place: place.to_owned(), wanted, numbers, known, holds, written, took: Mutex::default() }
    }

    /// Hands over what was read, and writes down what was learned. `source` is whose advisories they are, `place` where they
    /// are, `file` what cannot be read when nothing can.
    fn finish(
        self,
        (source, place, file): (Option<&SourceName>, &str, &str),
        asked: Result<(), String>,
        context: &Context<'_>,
        (all, unread): (&mut Vec<Published>, &mut Vec<UnreadAdvisory>),
    ) {
        let took = self.took.into_inner().expect("nobody panics while holding it");
        let published = |advisory| Published { source: source.cloned(), advisory };
        all.extend(took.advisories.into_iter().map(published));
        let failed = asked.err().map(|why| (file.to_owned(), why));
        let was_read = failed.is_none();
        let one = |(file, why)| UnreadAdvisory { place: place.to_owned(), file, why };
        unread.extend(took.unread.into_iter().chain(failed).map(one));
        let has_news = !took.spoken.is_empty() || self.holds.iter().any(|holds| !holds.load(Ordering::Relaxed));
        if !was_read || !has_news {
            return;
        }
        let still = self.known.into_iter().zip(self.holds).filter(|(_, holds)| holds.load(Ordering::Relaxed));
        let mut spoken = took.spoken;
        spoken.extend(still.map(|(known, _)| known));
        if spoken.len() >= WORTH_A_LIST {
            // Without it, all are read again.
            context.cache.write_spoken_of(&self.place, spoken).ok();
        }
    }
}

impl AdvisoryReader for Reader {
    fn wants(&self, file: &str, stamp: Option<FileStamp>) -> bool {
        let Ok(at) = self.known.binary_search_by(|known| known.file.as_str().cmp(file)) else { return true };
        let known = &self.known[at];
        let is_as_it_was = stamp.is_some_and(|stamp| {
            stamp.changed().saturating_add(SETTLED) <= self.written && stamp.to_numbers() == known.stamp
        });
        self.holds[at].store(is_as_it_was, Ordering::Relaxed);
        !is_as_it_was || known.about.iter().any(|number| self.numbers.contains(number))
    }

    fn take(&self, file: &str, stamp: Option<FileStamp>, text: io::Result<String>) {
        let read = text.map_err(|error| error.to_string()).and_then(|text| Advisory::parse(&text));
        let about = read.as_ref().map_or_else(
            |_| BTreeSet::new(),
            |advisory| advisory.affected.iter().flat_map(yostel_documents::Affected::about).collect(),
        );
        let at = self.known.binary_search_by(|known| known.file.as_str().cmp(file));
        let is_news = !at.is_ok_and(|at| self.holds[at].load(Ordering::Relaxed));
        let seen = stamp.filter(|_| is_news && read.is_ok());
        let spoken = seen.map(|seen| Spoken {
            file: file.to_owned(),
            stamp: seen.to_numbers(),
            about: about.iter().map(About::number).collect(),
        });
        let mut took = self.took.lock().expect("nobody panics while holding it");
        took.spoken.extend(spoken);
        match read {
            Ok(advisory) if !about.is_disjoint(&self.wanted) => took.advisories.push(advisory),
            Ok(_) => {}
            Err(why) => took.unread.push((file.to_owned(), why)),
        }
    }
}

/// Asks the repositories that advisories speak of which of their commits are before which.
fn ancestries(
    all: &[Published],
    sought: &Sought<'_>,
    project: &LoadedProject,
    unread: &mut Vec<UnreadAdvisory>,
    context: &Context<'_>,
) -> Result<BTreeMap<String, Ancestry>, FlowError> {
    let mut ancestries = BTreeMap::new();
    for (repository, (address, commits)) in &sought.commits {
        let affected = all.iter().flat_map(|published| &published.advisory.affected);
        let ranges = affected.flat_map(|affected| &affected.ranges).filter(|range| {
            range.kind == RangeKind::Git && range.repo.as_ref().is_some_and(|repo| repository_of(repo) == *repository)
        });
        let length = commits.first().map_or(40, String::len);
        let is_commit = |at: &String| at.len() == length && at.bytes().all(|byte| byte.is_ascii_hexdigit());
        let (mut named, mut ends) = (BTreeSet::new(), BTreeSet::new());
        for event in ranges.flat_map(|range| &range.events) {
            let (at, is_end) = match event {
                RangeEvent::Introduced(at) | RangeEvent::Limit(at) => (at, true),
                RangeEvent::Fixed(at) | RangeEvent::LastAffected(at) => (at, false),
            };
            if is_commit(at) {
                named.insert(at.clone());
                ends.extend(is_end.then(|| at.clone()));
            }
        }
        // A limit ends what comes before it, a locked commit among that.
        named.extend(commits.iter().cloned());
        if named.len() == commits.len() {
            continue;
        }
        go_on(context.observer)?;
        let mut cannot = |why: String| {
            let file = "the history".to_owned();
            unread.push(UnreadAdvisory { place: repository.clone(), file, why });
        };
        if named.len() > MOST_COMMITS {
            cannot(format!("advisories name {} commits of it, and {MOST_COMMITS} are looked for", named.len()));
            continue;
        }
        let work = context.cache.work_folder()?;
        let asked = AncestryAsked { commits, ends: &ends, named: &named };
        match ancestry_of(&project.address(address), &asked, work.folder().path(), &project.git_config()) {
            Ok(told) => {
                let mut ancestry = Ancestry::default();
                told.into_iter().for_each(|(commit, before)| ancestry.insert(commit, before));
                ancestries.insert(repository.clone(), ancestry);
            }
            Err(GitError::Stopped(_)) => return Err(FlowError::Stopped),
            Err(error) => cannot(error.to_string()),
        }
    }
    Ok(ancestries)
}
