//! Packages from repositories and single archives: brought into the cache, then described as a source would.
//!
//! What a repository's commit holds is packed without compression, so that everybody who has the commit makes the same
//! archive; from there on it is an archive like any other, with a digest in the lockfile.

use std::io::Read;

use yostel_documents::{
    ANY_PLATFORM, ArchiveDigest, Artifact, Elsewhere, EntryKind, GitPlace, LockedPackage, Lockfile, Manifest, Offers,
    Origin, PackageDocument, PackageName, Release, TreeDigest, run_purpose,
};
use yostel_files::{FileError, Folder};
use yostel_sources::{CommitFiles, GitConfig, SourceSet, commit_of, fetch_commit, open_archive};
use yostel_store::{
    Cache, Contents, PackError, StagedArchive, StagedTree, UnpackConfig, WorkFolder, is_left_out, pack_plain,
};
use yostel_versions::Version;

use crate::content::fetch::refused_by;
use crate::context::Context;
use crate::error::{ContentError, FlowError, ForeignProblem, LockError};
use crate::observer::{Event, Stoppable, go_on};
use crate::project::files::{MANIFEST_NAME, MOST_MANIFEST};
use crate::project::places::is_relative;
use crate::project::{LoadedProject, version_of};
use crate::search::rules::Keep;

/// What was fetched from a repository, aside.
struct FetchedPackage {
    artifact: Artifact,
    archive: StagedArchive,
    tree: StagedTree,
}

/// The name of the archive that is made of a commit, in its folder of work.
const ARCHIVE: &str = "archive";

impl LoadedProject {
    /// Opens the manifest's sources, with all packages that come from elsewhere. What the lockfile holds of those stays at
    /// its commit, unless nothing is to be kept; what the cache does not hold is fetched.
    ///
    /// # Errors
    /// `Git`, `Archive`, `Foreign`, `Admit`, and as opening the sources.
    pub(crate) fn sources_and_elsewhere(
        &self,
        lockfile: Option<&Lockfile>,
        keep: &Keep,
        context: &Context<'_>,
    ) -> Result<SourceSet, FlowError> {
        let mut sources = self.sources()?;
        for (package, elsewhere) in &self.elsewhere {
            go_on(context.observer)?;
            let locked = lockfile.and_then(|lockfile| lockfile.chosen.get(package));
            let (origin, document) = match elsewhere {
                Elsewhere::Git(place) => {
                    let there = match locked.map(|locked| (locked, &locked.from)) {
                        Some((locked, Origin::Git { place: was, commit })) if was == place => {
                            Some((commit.as_str(), locked))
                        }
                        _ => None,
                    };
                    self.git(package, place, (there, keep), context)?
                }
                Elsewhere::Archive { address, digest } => {
                    let origin = Origin::Archive { address: address.clone() };
                    let document = self.archive(package, (&origin, address, *digest), locked, context)?;
                    (origin, document)
                }
                // Those are read with the project.
                Elsewhere::Path(_) => continue,
            };
            sources.give(origin, document);
        }
        Ok(sources)
    }

    fn git(
        &self,
        package: &PackageName,
        place: &GitPlace,
        (locked, keep): (Option<(&str, &LockedPackage)>, &Keep),
        context: &Context<'_>,
    ) -> Result<(Origin, PackageDocument), FlowError> {
        let commit = match locked.filter(|_| keep.keeps(package)) {
            Some((commit, _)) => commit.to_owned(),
            None => {
                context.observer.notice(Event::Fetch(package.clone()));
                let fail = |error| ContentError::Git { package: package.clone(), commit: None, error };
                commit_of(&self.address(&place.address), &place.at, &self.git_config()).map_err(fail)?
            }
        };
        let of_lock = locked.filter(|(was, _)| *was == commit).and_then(|(_, locked)| locked.artifacts.first());
        let origin = Origin::Git { place: place.clone(), commit };
        if let Some(artifact) = of_lock
            && is_in(&context.cache, artifact)?
        {
            let document = self.describe(package, &origin, artifact.clone(), &context.cache.tree(artifact.tree)?)?;
            return Ok((origin, document));
        }
        let fetched = self.fetch_package(package, &origin, context)?;
        // What cannot be used does not stay.
        let document = self.describe(package, &origin, fetched.artifact, &fetched.tree.files()?)?;
        context.cache.commit(vec![fetched.archive], vec![fetched.tree])?;
        Ok((origin, document))
    }

    fn archive(
        &self,
        package: &PackageName,
        (origin, address, digest): (&Origin, &str, ArchiveDigest),
        locked: Option<&LockedPackage>,
        context: &Context<'_>,
    ) -> Result<PackageDocument, FlowError> {
        let of_lock = locked.and_then(|locked| locked.artifacts.iter().find(|artifact| artifact.digest == digest));
        if let Some(artifact) = of_lock
            && is_in(&context.cache, artifact)?
        {
            return self.describe(package, origin, artifact.clone(), &context.cache.tree(artifact.tree)?);
        }
        let stream: Box<dyn Read + Send> = match context.cache.open_archive(digest) {
            Ok(file) => Box::new(file),
            Err(_) => {
                context.observer.notice(Event::Fetch(package.clone()));
                let fail = |error| ContentError::Archive { package: package.clone(), error };
                open_archive(address, &self.root, &self.asking.patience).map_err(fail)?
            }
        };
        let mut stream = Stoppable { stream, observer: context.observer };
        let came = context.cache.stage_unknown(digest, &mut stream, UnpackConfig::default(), |_| {});
        let announced = unknown_artifact(digest);
        let place = format!("archive {address}");
        let (artifact, archive, tree) = came.map_err(refused_by((package, None), &announced, &context.cache, place))?;
        let document = self.describe(package, origin, artifact, &tree.files()?)?;
        context.cache.commit(vec![archive], vec![tree])?;
        Ok(document)
    }

    /// Brings a locked archive that no source has, aside.
    ///
    /// # Errors
    /// `Git`, `Archive`, `Admit`.
    pub(crate) fn fetch_elsewhere(
        &self,
        (package, version): (&PackageName, &Version),
        origin: &Origin,
        artifact: &Artifact,
        context: &Context<'_>,
    ) -> Result<StagedArchive, FlowError> {
        context.observer.notice(Event::Fetch(package.clone()));
        let refused = |place| refused_by((package, Some(version)), artifact, &context.cache, place);
        let advance = |bytes| context.observer.notice(Event::Advance(bytes));
        match origin {
            Origin::Git { place, .. } => {
                let work = context.cache.work_folder()?;
                self.pack_commit(package, origin, &work)?;
                let mut file = work.folder().open_file(ARCHIVE)?;
                context.cache.stage_archive(artifact, &mut file, advance).map_err(refused(place.to_string()))
            }
            Origin::Archive { address } => {
                let fail = |error| ContentError::Archive { package: package.clone(), error };
                let stream = open_archive(address, &self.root, &self.asking.patience).map_err(fail)?;
                let mut stream = Stoppable { stream, observer: context.observer };
                let place = format!("archive {address}");
                context.cache.stage_archive(artifact, &mut stream, advance).map_err(refused(place))
            }
            Origin::Source(_) | Origin::Path { .. } | Origin::Project { .. } => {
                Err(LockError::UnknownSource { package: package.clone(), source_name: origin.to_string() }.into())
            }
        }
    }

    fn fetch_package(
        &self,
        package: &PackageName,
        origin: &Origin,
        context: &Context<'_>,
    ) -> Result<FetchedPackage, FlowError> {
        context.observer.notice(Event::Fetch(package.clone()));
        let work = context.cache.work_folder()?;
        let artifact = self.pack_commit(package, origin, &work)?;
        let refused = || refused_by((package, None), &artifact, &context.cache, origin.to_string());
        let mut file = work.folder().open_file(ARCHIVE)?;
        let archive = context.cache.stage_archive(&artifact, &mut file, |_| {}).map_err(refused())?;
        context.observer.notice(Event::Unpack(package.clone()));
        let tree =
            context.cache.stage_tree(&artifact, Some(&archive), UnpackConfig::default(), None).map_err(refused())?;
        Ok(FetchedPackage { artifact: artifact.clone(), archive, tree })
    }

    /// Fetches a commit and packs it, in a folder of work.
    fn pack_commit(&self, package: &PackageName, origin: &Origin, work: &WorkFolder) -> Result<Artifact, FlowError> {
        let Origin::Git { place, commit } = origin else { unreachable!("asked for commits only") };
        let fail = |error| ContentError::Git { package: package.clone(), commit: Some(commit.clone()), error };
        let address = self.address(&place.address);
        let repository = work.folder().make_folder("repository")?;
        let folder = place.folder.as_deref();
        let mut files =
            fetch_commit(&address, &place.at, commit, folder, repository.path(), &self.git_config()).map_err(fail)?;
        files.retain(|file| !is_left_out(&file.path));
        let archive = work.folder().create(ARCHIVE, 0o644)?;
        let packed = pack_plain(&mut OfCommit(&mut files), archive).map_err(|error| match error {
            PackError::File(error) => FlowError::from(error),
            unfit @ PackError::Unfit { .. } => ContentError::Foreign {
                package: package.clone(),
                place: origin.to_string(),
                problem: ForeignProblem::Unfit(unfit.to_string()),
            }
            .into(),
        })?;
        Ok(packed.artifact)
    }

    pub(crate) fn git_config(&self) -> GitConfig {
        GitConfig { patience: self.asking.patience.clone(), schemes: self.manifest().policy.git_schemes.clone() }
    }

    /// Returns an address as git takes it wherever it is run.
    pub(crate) fn address(&self, address: &str) -> String {
        if is_relative(address) { self.root.join(address).to_string_lossy().into_owned() } else { address.to_owned() }
    }

    /// Describes a package by the files of its tree.
    fn describe(
        &self,
        package: &PackageName,
        origin: &Origin,
        artifact: Artifact,
        files: &Folder,
    ) -> Result<PackageDocument, FlowError> {
        let fail = |problem| ContentError::Foreign { package: package.clone(), place: origin.to_string(), problem };
        let manifest = match files.read_text(MANIFEST_NAME, MOST_MANIFEST) {
            Err(error) if error.is_not_found() => None,
            Err(error) => return Err(error.into()),
            Ok(text) => Some(Manifest::parse(&text).map_err(|problems| {
                fail(ForeignProblem::Manifest(problems.first().map(ToString::to_string).unwrap_or_default()))
            })?),
        };
        let (version, numbering) = version_of(manifest.as_ref().map(|manifest| &manifest.project));
        if let Some(found) = manifest.as_ref().map(|manifest| &manifest.project.name).filter(|found| *found != package)
        {
            return Err(fail(ForeignProblem::OtherName(found.clone())).into());
        }
        let run = manifest.as_ref().and_then(|manifest| manifest.needs.get(&run_purpose()));
        for (needed, need) in run.into_iter().flatten() {
            // A place that is told here too is the one that counts.
            let known = self.elsewhere.contains_key(needed) || self.paths.contains_key(needed);
            if let Some(place) = need.elsewhere.as_ref().filter(|_| !known) {
                return Err(fail(ForeignProblem::Place(needed.clone(), place.to_string())).into());
            }
        }
        let needs = run.into_iter().flatten().map(|(name, need)| (name.clone(), need.accept.clone())).collect();
        let offers = manifest.map_or_else(Offers::default, |manifest| manifest.offers);
        let release = Release::unpublished(version, [(run_purpose(), needs)].into(), offers, vec![artifact]);
        Ok(PackageDocument::of_one(package.clone(), numbering, release))
    }
}

/// A commit's files, to be packed.
struct OfCommit<'f>(&'f mut CommitFiles);

impl Contents for OfCommit<'_> {
    fn list(&mut self) -> Result<Vec<(String, EntryKind, u64)>, PackError> {
        Ok(self.0.files().iter().map(|file| (file.path.clone(), file.kind, file.size)).collect())
    }

    fn open(&mut self, at: usize) -> Result<Box<dyn Read + '_>, FileError> {
        let path = self.0.files()[at].path.clone();
        Ok(Box::new(self.0.open(at).map_err(FileError::when("read", path))?))
    }
}

/// Makes sure that an archive's tree is in the cache, from the archive where that is; tells whether it is.
fn is_in(cache: &Cache, artifact: &Artifact) -> Result<bool, FlowError> {
    if cache.is_tree_sound(artifact.tree) {
        return Ok(true);
    }
    if !cache.has_archive(artifact.digest) {
        return Ok(false);
    }
    match cache.stage_tree(artifact, None, UnpackConfig::default(), None) {
        Ok(tree) => {
            cache.commit(Vec::new(), vec![tree])?;
            Ok(true)
        }
        // It had rotted and is gone now: to be fetched anew.
        Err(_) => Ok(false),
    }
}

/// Describes an archive of which only the digest is known.
fn unknown_artifact(digest: ArchiveDigest) -> Artifact {
    Artifact { platform: ANY_PLATFORM.to_owned(), digest, size: 0, tree: TreeDigest::of(b"") }
}
