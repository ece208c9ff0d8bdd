//! Install exactly what the lockfile says, or nothing; and say whether what is installed is that.

use std::collections::BTreeSet;
use std::path::Path;
use std::sync::Mutex;

use yostel_documents::{Artifact, FilePatch, Lockfile, Origin, PackageName, Purpose, Seal, TreeDigest, TreeFile};
use yostel_sources::{Source, SourceErrorKind, SourceSet};
use yostel_store::{
    AdmitError, Cache, FileChange, Installed, Placing, PlannedPackage, Project, ProjectRecord, StagedArchive,
    StagedTree, TreeDifference, Trust, UnpackConfig, for_each_in_parallel,
};
use yostel_versions::Version;

use crate::compose::{Selection, plan_of};
use crate::error::FlowError;
use crate::observer::{Event, Observer};
use crate::patches::{self, Patches};
use crate::project::{LoadedProject, Settings, glance_at_lockfile, load_fitting_lockfile};
use crate::republished::{self, Seen};
use crate::trust::{Content, check_contents};

/// How to install.
#[derive(Debug, Clone, Default)]
pub struct InstallRequest {
    /// Ask no source: the cache must hold everything.
    pub offline: bool,
    /// Another platform than this machine's.
    pub platform: Option<String>,
    /// How packages come into the project.
    pub placing: Placing,
    /// Only what is reached for one of these purposes; everything when there is none.
    pub purposes: BTreeSet<Purpose>,
    /// Only what these projects of the workspace reach; everything when there is none.
    pub projects: BTreeSet<PackageName>,
    /// Trust the record of the last install: when the lockfile is still the same, no installed file is looked at.
    pub quick: bool,
}

impl InstallRequest {
    /// Asks for an install in the way in which it was done before.
    pub(crate) fn again(placing: Placing, selection: Selection) -> Self {
        let Selection { platform, purposes, projects } = selection;
        Self { platform: Some(platform), placing, purposes, projects, ..Self::default() }
    }
}

/// What an install came to.
#[derive(Debug)]
pub struct InstallReport {
    /// How many packages are installed now.
    pub packages: usize,
    /// Archives that were fetched, with their size in bytes.
    pub fetched: Vec<(PackageName, Version, u64)>,
    /// Trees of the cache that had been changed and were unpacked again.
    pub put_back: Vec<(PackageName, Version)>,
    /// Packages that are open for changes, and stay as they are.
    pub open: Vec<PackageName>,
    /// What was done in the project; none when there was nothing to do.
    pub done: Option<Installed>,
    /// The digest of everything installed.
    pub digest: Seal,
}

/// What a verification found.
#[derive(Debug)]
#[must_use = "differences must be told"]
pub struct VerifyReport {
    /// How many packages were read.
    pub packages: usize,
    /// What differs, by package.
    pub differences: Vec<(String, Vec<TreeDifference>)>,
    /// What was changed in files, by package, where what they should hold is at hand.
    pub changes: Vec<(String, FileChange)>,
    /// Packages that are open for changes.
    pub open: Vec<PackageName>,
    /// The packages that differ.
    pub differing: Vec<PackageName>,
    /// The digest that the lockfile's install has; proven when nothing differs.
    pub digest: Seal,
}

/// Installs the project as its lockfile says.
///
/// # Errors
/// `NoLockfile`, `Stale`, `NotInCache`, `Admit`, `Source` and whatever writing refuses. Everything is fetched and checked
/// before anything is changed, so a failure leaves project and cache as they were.
pub fn install(
    project: &LoadedProject,
    request: &InstallRequest,
    settings: &Settings,
    observer: &dyn Observer,
) -> Result<InstallReport, FlowError> {
    let cache = Cache::open(&settings.cache);
    let target = Project::at(&project.root)?.placing(request.placing);
    let platform = request.platform.as_deref().unwrap_or(&settings.platform);
    let (purposes, projects) = (request.purposes.clone(), request.projects.clone());
    let selection = Selection { platform: platform.to_owned(), purposes, projects };
    if request.quick
        && let Some(report) = recorded(project, &target, &cache, &selection)
    {
        return Ok(report);
    }
    let lockfile = load_fitting_lockfile(project)?;
    known_purposes(project, &lockfile, &request.purposes)?;
    request.projects.iter().try_for_each(|name| project.project(name).map(drop))?;
    let plan = plan_of(&lockfile, &project.declared()?, &selection, &project.patches()?)?;
    let mut report = InstallReport {
        packages: plan.packages.len(),
        fetched: Vec::new(),
        put_back: Vec::new(),
        open: target.open_packages(&plan),
        done: None,
        digest: plan.inventory().digest(),
    };
    if target.is_current(&plan, &cache) {
        return Ok(report);
    }
    let packages: Vec<&PlannedPackage> = plan.packages.values().collect();
    let in_use = cache.use_with_others(|| observer.notice(Event::WaitForPrune))?;
    // A tree with local changes that is there needs no other.
    let is_there = |package: &PlannedPackage| package.altered.is_some() && cache.is_tree_sound(package.tree());
    let needed: Vec<&PlannedPackage> = packages.iter().copied().filter(|package| !is_there(package)).collect();
    Brought { fetched: report.fetched, put_back: report.put_back } =
        bring_in(project, &lockfile, &needed, &cache, request.offline, observer)?;
    let contents: Vec<Content<'_>> = needed
        .iter()
        .filter(|package| package.altered.is_none())
        .filter_map(|package| {
            let locked = lockfile.chosen.at(&package.name, &package.version)?;
            Some((&package.name, locked, &package.artifact))
        })
        .collect();
    check_contents(&lockfile, &project.declared()?, &contents, &cache)?;
    make_altered(&needed, &project.patches()?, &cache)?;
    let held = target.hold(|| observer.notice(Event::Wait))?;
    // While we waited, another process may have done it all.
    if !held.project().is_current(&plan, &cache) {
        observer.notice(Event::Begin("installing", packages.len() as u64));
        report.done = Some(held.apply(&plan, &cache, || observer.notice(Event::Advance(1)))?);
        observer.notice(Event::End);
    }
    for package in packages {
        let Some(locked) = lockfile.chosen.at(&package.name, &package.version) else { continue };
        let from = locked.from.to_string();
        let release = [package.name.as_str(), package.version.as_str(), &from];
        note_use(&cache, release, &package.artifact, &project.root, settings);
    }
    drop(in_use);
    Ok(report)
}

/// Tells that there is nothing to do as far as the record says; nothing when it does not.
fn recorded(project: &LoadedProject, target: &Project, cache: &Cache, selection: &Selection) -> Option<InstallReport> {
    let glance = glance_at_lockfile(project)?;
    let declared = project.declared().ok()?;
    let record = target.recorded(cache)?;
    let fits = glance.declarations == declared.seal();
    let digest = Seal::parse(&record.digest).ok()?;
    let same = selection_of(&record) == *selection;
    (fits && same && record.lock == glance.seal.to_string()).then(|| InstallReport {
        packages: record.stamps.len(),
        fetched: Vec::new(),
        put_back: Vec::new(),
        open: Vec::new(),
        done: None,
        digest,
    })
}

/// Makes the trees of packages with local changes from those of their releases.
fn make_altered(packages: &[&PlannedPackage], patches: &Patches, cache: &Cache) -> Result<(), FlowError> {
    let mut made = Vec::new();
    for package in packages {
        if let Some(altered) = &package.altered {
            made.push(patches::make(
                &package.name,
                &package.artifact,
                &altered.patch,
                Some(altered.tree),
                patches,
                cache,
            )?);
        }
    }
    Ok(cache.commit(Vec::new(), made)?)
}

/// What came into the cache.
#[derive(Debug, Default)]
pub(crate) struct Brought {
    /// Archives that were fetched, with their size in bytes.
    fetched: Vec<(PackageName, Version, u64)>,
    /// Trees that had been changed and were unpacked again.
    put_back: Vec<(PackageName, Version)>,
}

/// Makes sure that every release's tree is in the cache and sound.
pub(crate) fn bring_in(
    project: &LoadedProject,
    lockfile: &Lockfile,
    packages: &[&PlannedPackage],
    cache: &Cache,
    offline: bool,
    observer: &dyn Observer,
) -> Result<Brought, FlowError> {
    observer.notice(Event::Begin("checking the cache", packages.len() as u64));
    let sound = for_each_in_parallel(packages, |package| {
        let sound = cache.is_tree_sound(package.artifact.tree);
        observer.notice(Event::Advance(1));
        sound
    });
    observer.notice(Event::End);
    let missing: Vec<&PlannedPackage> =
        packages.iter().zip(sound).filter(|(_, sound)| !sound).map(|(package, _)| *package).collect();
    if missing.is_empty() {
        return Ok(Brought::default());
    }
    // Held until everything has its name in the cache, so whoever waits finds it there.
    let _fetching = match offline {
        true => None,
        false => {
            let wanted = missing.iter().map(|p| p.artifact.digest).filter(|archive| !cache.has_archive(*archive));
            Some(cache.claim(wanted, || observer.notice(Event::WaitForFetch))?)
        }
    };
    let still = for_each_in_parallel(&missing, |package| cache.is_tree_sound(package.artifact.tree));
    let missing: Vec<&PlannedPackage> =
        missing.into_iter().zip(still).filter(|(_, sound)| !sound).map(|(package, _)| package).collect();
    let absent: Vec<&&PlannedPackage> = missing.iter().filter(|p| !cache.has_archive(p.artifact.digest)).collect();
    if offline && !absent.is_empty() {
        return Err(FlowError::NotInCache(absent.iter().map(|p| (p.name.clone(), p.version.clone())).collect()));
    }
    // Sources are opened only when something must come from them, so that a full cache needs none of them.
    let sources = if absent.is_empty() { SourceSet::default() } else { project.sources()? };
    observer.notice(Event::Begin("fetching", missing.iter().map(|p| p.artifact.size).sum()));
    // What releases of a package have in common is there once.
    let latest = cache.latest_trees()?;
    let fetched = Mutex::new(Vec::new());
    let staged = for_each_in_parallel(&missing, |package| {
        let locked = lockfile.chosen.at(&package.name, &package.version).or_else(|| lockfile.chosen.get(&package.name));
        let from = &locked.expect("what is planned is locked").from;
        let like = latest.get(package.name.as_str()).copied();
        let staged = stage(project, package, (from, like), cache, &sources, offline, observer)?;
        if staged.0.is_some() {
            let entry = (package.name.clone(), package.version.clone(), package.artifact.size);
            fetched.lock().expect("no thread panics while holding the lock").push(entry);
        }
        Ok::<_, FlowError>(staged)
    });
    observer.notice(Event::End);
    let mut brought = Brought::default();
    let (mut archives, mut trees, mut failures) = (Vec::new(), Vec::new(), Vec::new());
    for (package, outcome) in missing.iter().zip(staged) {
        match outcome {
            Ok((archive, tree)) => {
                archives.extend(archive);
                trees.push(tree);
                if cache.has_tree(package.artifact.tree) {
                    brought.put_back.push((package.name.clone(), package.version.clone()));
                }
            }
            Err(error) => failures.push(error),
        }
    }
    if !failures.is_empty() {
        return Err(FlowError::several(failures));
    }
    cache.commit(archives, trees)?;
    brought.fetched = fetched.into_inner().expect("all threads ended");
    brought.fetched.sort();
    Ok(brought)
}

fn stage(
    project: &LoadedProject,
    package: &PlannedPackage,
    (from, like): (&Origin, Option<TreeDigest>),
    cache: &Cache,
    sources: &SourceSet,
    offline: bool,
    observer: &dyn Observer,
) -> Result<(Option<StagedArchive>, StagedTree), FlowError> {
    let release = (&package.name, &package.version);
    let refused = |place| refused_by((release.0, Some(release.1)), &package.artifact, cache, place);
    if cache.has_archive(package.artifact.digest) {
        observer.notice(Event::Unpack(package.name.clone()));
        match cache.stage_tree(&package.artifact, None, UnpackConfig::default(), like) {
            Ok(tree) => return Ok((None, tree)),
            // The cached archive had rotted and is gone now: fetch it anew.
            Err(AdmitError::ArchiveDiffers { .. }) if !offline => {}
            Err(error) => return Err(refused(format!("the cache, {}", cache.root().display()))(error)),
        }
    }
    if from.source().is_none() {
        let archive = project.fetch_elsewhere(release, from, &package.artifact, cache, observer)?;
        observer.notice(Event::Unpack(package.name.clone()));
        let tree = cache
            .stage_tree(&package.artifact, Some(&archive), UnpackConfig::default(), like)
            .map_err(refused(from.to_string()))?;
        return Ok((Some(archive), tree));
    }
    let unknown = || FlowError::UnknownSource { package: package.name.clone(), source_name: from.to_string() };
    let opened;
    let source = match from.source().and_then(|name| sources.source(name)) {
        Some(source) => source,
        None => {
            // Not opened yet (the rotten archive was a surprise), or not named by the manifest.
            opened = project.sources()?;
            opened.source(from.source().ok_or_else(unknown)?).ok_or_else(unknown)?
        }
    };
    let archive = fetch(source, release, &package.artifact, cache, observer).map_err(|error| {
        // What the lockfile has is not there any more, or is not what it was: the source may tell of something else by now.
        let gone =
            matches!(&error, FlowError::Source(error) if matches!(error.kind, SourceErrorKind::ArchiveMissing(_)));
        let other = matches!(&error, FlowError::Admit { error: AdmitError::ArchiveDiffers { .. }, .. });
        let told = (gone || other).then(|| republished::look(release, &package.artifact, source, cache, observer));
        told.flatten().map_or(error, |told| FlowError::Republished(vec![told]))
    })?;
    observer.notice(Event::Unpack(package.name.clone()));
    let tree = cache
        .stage_tree(&package.artifact, Some(&archive), UnpackConfig::default(), like)
        .map_err(refused(place_of(source)))?;
    Ok((Some(archive), tree))
}

/// Fetches an archive from its source, aside.
pub(crate) fn fetch(
    source: &dyn Source,
    (name, version): (&PackageName, &Version),
    artifact: &Artifact,
    cache: &Cache,
    observer: &dyn Observer,
) -> Result<StagedArchive, FlowError> {
    observer.notice(Event::Fetch(name.clone()));
    let mut stream = source.open(artifact.digest)?;
    let staged = cache.stage_archive(artifact, &mut stream, |bytes| observer.notice(Event::Advance(bytes)));
    staged.map_err(refused_by((name, Some(version)), artifact, cache, place_of(source)))
}

/// Says which release was refused, and when its right content was last here.
pub(crate) fn refused_by<'a>(
    (name, version): (&'a PackageName, Option<&'a Version>),
    artifact: &'a Artifact,
    cache: &'a Cache,
    place: String,
) -> impl FnOnce(AdmitError) -> FlowError + 'a {
    move |error| {
        let seen = Seen::of(cache, artifact);
        FlowError::Admit { package: name.clone(), version: version.cloned(), place, seen, error }
    }
}

pub(crate) fn place_of(source: &dyn Source) -> String {
    format!("source {}, {}", source.name(), source.place())
}

/// Notes in the cache that a release is used. Nothing depends on a note, so one that cannot be written stops nothing.
pub(crate) fn note_use(cache: &Cache, release: [&str; 3], artifact: &Artifact, by: &Path, settings: &Settings) {
    let [name, version, from] = release;
    if let Err(error) = cache.note_use((name, version, from), artifact, by, settings.now.as_second()) {
        tracing::warn!(%error, "a note was not written");
    }
}

/// Compares what is installed with the lockfile, file by file.
///
/// # Errors
/// `NotInstalled`, `NoLockfile`, `Stale`, and whatever reading refuses.
pub fn verify(
    project: &LoadedProject,
    trust: Trust,
    settings: &Settings,
    observer: &dyn Observer,
) -> Result<VerifyReport, FlowError> {
    let lockfile = load_fitting_lockfile(project)?;
    let cache = Cache::open(&settings.cache);
    let target = Project::at(&project.root)?;
    let (placing, selection) = as_installed(&target, &cache, settings);
    let target = target.placing(placing);
    let plan = plan_of(&lockfile, &project.declared()?, &selection, &project.patches()?)?;
    if !plan.packages.is_empty() && !target.has_packages() {
        return Err(FlowError::NotInstalled);
    }
    observer.notice(Event::Begin("verifying", plan.packages.len() as u64));
    let found = target.verify(&plan, &cache, trust, || observer.notice(Event::Advance(1)))?;
    observer.notice(Event::End);
    let label = |name: &Option<PackageName>| match name {
        Some(name) => format!("{name} {}", plan.packages[name].version),
        None => ".yostel".to_owned(),
    };
    let differences = found.iter().map(|(name, differences)| (label(name), differences.clone())).collect();
    let changes =
        found.iter().filter_map(|(name, differences)| Some((plan.packages.get(name.as_ref()?)?, differences)));
    let changes = changes.flat_map(|(package, differences)| {
        let changes = changes_of(package, differences, &target, &cache);
        changes.into_iter().map(|change| (label(&Some(package.name.clone())), change))
    });
    let changes = changes.collect();
    let differing = found.into_iter().filter_map(|(name, _)| name).collect();
    let open = target.open_packages(&plan);
    Ok(VerifyReport {
        packages: plan.packages.len(),
        differences,
        changes,
        open,
        differing,
        digest: plan.inventory().digest(),
    })
}

/// Finds out what was changed in a package's files.
fn changes_of(
    package: &PlannedPackage,
    differences: &[TreeDifference],
    target: &Project,
    cache: &Cache,
) -> Vec<FileChange> {
    let changed = |difference: &TreeDifference| matches!(difference, TreeDifference::Changed { how: "content", .. });
    let paths: Vec<&str> = differences.iter().filter(|d| changed(d)).map(TreeDifference::path).collect();
    let Some(right) = cache.right_files(package.tree(), &package.artifact, &paths) else { return Vec::new() };
    let change = |(path, before): (String, TreeFile)| {
        let after = target.read_installed(package, cache, &path, before.kind).ok()?;
        let (before_kind, after_kind) = (Some(before.kind), Some(after.kind));
        let patch = FilePatch::between(&path, Some(&before), Some(&after)).ok().flatten();
        Some(FileChange { path, before: before_kind, after: after_kind, patch })
    };
    right.into_iter().filter_map(change).collect()
}

/// Puts back what a verification found, from the cache or, where that was changed too, from the source.
///
/// # Errors
/// As [`install`].
pub fn put_back(
    project: &LoadedProject,
    report: &VerifyReport,
    settings: &Settings,
    observer: &dyn Observer,
) -> Result<InstallReport, FlowError> {
    let cache = Cache::open(&settings.cache);
    let target = Project::at(&project.root)?;
    let (placing, selection) = as_installed(&target, &cache, settings);
    let plan = plan_of(&load_fitting_lockfile(project)?, &project.declared()?, &selection, &project.patches()?)?;
    let differing: Vec<&PlannedPackage> = report.differing.iter().filter_map(|name| plan.packages.get(name)).collect();
    target.distrust(&differing, &cache)?;
    install(project, &InstallRequest::again(placing, selection), settings, observer)
}

/// Tells how the project was installed, and what of it; as it would be now, when that is not known.
pub(crate) fn as_installed(target: &Project, cache: &Cache, settings: &Settings) -> (Placing, Selection) {
    match target.record(cache) {
        Some(record) if !record.platform.is_empty() => (record.placing, selection_of(&record)),
        _ => (Placing::default(), Selection::all_for(&settings.platform)),
    }
}

fn selection_of(record: &ProjectRecord) -> Selection {
    Selection {
        platform: record.platform.clone(),
        purposes: record.purposes.iter().filter_map(|purpose| Purpose::parse(purpose).ok()).collect(),
        projects: record.projects.iter().filter_map(|name| PackageName::parse(name).ok()).collect(),
    }
}

/// Checks that a project has needs for each of these purposes.
fn known_purposes(project: &LoadedProject, lockfile: &Lockfile, wanted: &BTreeSet<Purpose>) -> Result<(), FlowError> {
    let locked = lockfile.chosen.values().flat_map(|locked| locked.purposes.iter());
    let known: BTreeSet<Purpose> =
        project.projects().flat_map(|one| one.manifest.needs.keys()).chain(locked).cloned().collect();
    match wanted.iter().find(|purpose| !known.contains(*purpose)) {
        Some(unknown) => {
            Err(FlowError::UnknownPurpose { purpose: unknown.clone(), known: known.into_iter().collect() })
        }
        None => Ok(()),
    }
}
