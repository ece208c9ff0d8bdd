//! Publishing, wherever it goes.

use std::collections::BTreeMap;

use jiff::Timestamp;
use yostel_documents::{
    ANY_PLATFORM, Artifact, MOST_DOCUMENT, MadeFrom, Manifest, PackageDocument, PackageName, Purpose, Release,
    Statement, check_licence, run_purpose,
};
use yostel_files::Folder;
use yostel_store::{Packed, pack};
use yostel_versions::{ConstraintText, Version};

use crate::backend::{Addition, Backend};
use crate::error::RegistryError;
use crate::picker::{MANIFEST_FILE, Picker};
use crate::publication::{Publication, Published};

/// How often a publication is looked at anew, since others wrote meanwhile.
const MOST_ROUNDS: usize = 4;

/// Checks what a manifest must say of a package that is to be published, and returns its version.
///
/// # Errors
/// `NoVersion`, `NeedsElsewhere`, `Licence`.
pub fn check(manifest: &Manifest) -> Result<Version, RegistryError> {
    let package = manifest.project.name.clone();
    let version = manifest.project.version.clone().ok_or_else(|| RegistryError::NoVersion(package.clone()))?;
    for (needed, need) in manifest.needs.get(&run_purpose()).into_iter().flatten() {
        if let Some(place) = &need.elsewhere {
            let (needed, place) = (needed.clone(), place.to_string());
            return Err(RegistryError::NeedsElsewhere { package, needed, place });
        }
    }
    match &manifest.project.licence {
        Some(licence) => check_licence(licence).map(|()| version).map_err(|why| RegistryError::Licence {
            package,
            licence: licence.clone(),
            why,
        }),
        None => Ok(version),
    }
}

/// Packs the folder of a package and publishes it as the version its manifest says. The very same content again changes
/// nothing.
///
/// # Errors
/// `AlreadyPublished` with other content, `Older`, `Secrets`, `Numbering`, as [`check`], or what packing and writing refuse.
pub fn publish<B: Backend>(registry: &B, publication: &Publication<'_>) -> Result<Published, B::Error> {
    let manifest = publication.manifest;
    let package = manifest.project.name.clone();
    let version = check(manifest)?;
    // A preview needs no right to write.
    let guard = if publication.preview { None } else { Some(registry.guard()?) };
    joined_numbering(registry.document(&package)?, manifest)?;
    let aside = guard.as_ref().map(|guard| registry.aside(guard)).transpose()?;
    let platform = publication.remarks.platform.clone().unwrap_or_else(|| ANY_PLATFORM.to_owned());
    let folder = Folder::open(publication.folder).map_err(RegistryError::from)?;
    let mut picker = Picker::new(&manifest.contents, publication.without);
    let packed = pack(&folder, &mut picker, &platform, aside).map_err(RegistryError::from)?;
    let files = picker.suspects(packed.listing.entries.keys());
    if !files.is_empty() {
        return Err(RegistryError::Secrets { package, files }.into());
    }
    let commit = (publication.commit)();
    let mut is_kept = false;
    for _ in 0..MOST_ROUNDS {
        let document = joined_numbering(registry.document(&package)?, manifest)?;
        let (entered, addition) = enter(document, version.clone(), (&packed, commit.as_ref()), publication)?;
        let Some(guard) = guard.as_ref() else { return Ok(entered.published) };
        if !entered.published.is_new && !entered.published.is_deprecated_now {
            // Whoever was killed may have left it as it was before.
            registry.settle(guard, &package)?;
            return Ok(entered.published);
        }
        if let Some(artifact) = addition.archive.as_ref().filter(|_| !is_kept) {
            registry.keep(guard, &package, artifact)?;
            is_kept = true;
        }
        if registry.add(guard, &addition.of(&entered.document))? {
            registry.settle(guard, &package)?;
            return Ok(entered.published);
        }
    }
    Err(RegistryError::Contested(package, version).into())
}

/// Returns what a registry will say of a package once it is published, but for its archive.
///
/// # Errors
/// `Numbering`, as [`check`], and what reading refuses.
pub fn foreseen<B: Backend>(registry: &B, manifest: &Manifest) -> Result<PackageDocument, B::Error> {
    let version = check(manifest)?;
    let mut document = joined_numbering(registry.document(&manifest.project.name)?, manifest)?;
    if document.release(&version).is_none() {
        document.insert(Release::unpublished(version, needs_of(manifest), manifest.offers.clone(), Vec::new()));
    }
    Ok(document)
}

/// Returns the document of a package, or an empty one, with the numbering that its manifest joins to it.
fn joined_numbering(there: Option<PackageDocument>, manifest: &Manifest) -> Result<PackageDocument, RegistryError> {
    let (package, now) = (&manifest.project.name, &manifest.project.numbering);
    let mut document = there.unwrap_or_else(|| PackageDocument::new(package.clone(), now.clone()));
    match document.numbering.joined(now) {
        Some(joined) => document.numbering = joined.clone(),
        None => {
            let before = document.numbering;
            return Err(RegistryError::Numbering { package: package.clone(), before, now: now.clone() });
        }
    }
    Ok(document)
}

/// What publishing leads to.
struct Entered {
    document: PackageDocument,
    published: Published,
}

/// What of it is new.
struct New {
    version: Version,
    is_release: bool,
    statements: usize,
    archive: Option<Artifact>,
}

impl New {
    fn of<'d>(&self, document: &'d PackageDocument) -> Addition<'d> {
        let release = document.release(&self.version).expect("it was put in");
        Addition { document, release, is_release: self.is_release, statements: self.statements }
    }
}

/// Finds what an archive that was packed makes of what is there.
fn enter(
    mut document: PackageDocument,
    version: Version,
    (Packed { artifact, listing }, commit): (&Packed, Option<&String>),
    Publication { manifest, now, remarks, backport, .. }: &Publication<'_>,
) -> Result<(Entered, New), RegistryError> {
    let files: Vec<(String, u64)> = listing.entries.iter().map(|(path, entry)| (path.clone(), entry.size)).collect();
    let absent = absent(manifest, &files);
    let package = document.name.clone();
    let mut without_manifest = listing.clone();
    without_manifest.entries.remove(MANIFEST_FILE);
    let mut release = release_of(manifest, commit, version, artifact.clone(), *now);
    release.content = (!without_manifest.entries.is_empty()).then(|| without_manifest.digest());
    let release = release.recorded();
    let there = document.release(&release.version).cloned();
    if let Some(newest) = newer_than(&document, &release.version).filter(|_| there.is_none() && !backport) {
        return Err(RegistryError::Older { package, version: release.version, newest });
    }
    let mut whole = there.as_deref().cloned().unwrap_or_else(|| release.clone());
    let is_new = match there.as_deref().map(|there| difference(there, &release)) {
        None => true,
        Some(Difference::None) => false,
        Some(Difference::OnePlatformMore) => {
            let artifact = release.artifacts[0].clone();
            whole.say(&Statement::Artifact { on: *now, artifact }).map_err(RegistryError::Unfit)?;
            true
        }
        Some(Difference::In(differs)) => {
            return Err(RegistryError::AlreadyPublished { package, version: release.version, differs });
        }
    };
    let said = (whole.deprecated.clone(), whole.replaced_by.clone());
    let says = remarks.deprecated.clone().filter(|why| said != (Some(why.clone()), remarks.replaced_by.clone()));
    let is_deprecated_now = there.is_some() && says.is_some();
    if let Some(why) = says {
        let deprecated = Statement::Deprecated { on: *now, why, replaced_by: remarks.replaced_by.clone() };
        whole.say(&deprecated).map_err(RegistryError::Unfit)?;
    }
    let statements = whole.statements().count() - there.as_ref().map_or(0, |there| there.statements().count());
    let archive = is_new.then(|| release.artifacts[0].clone());
    let new = New { version: release.version.clone(), is_release: there.is_none(), statements, archive };
    let mut told = whole.clone();
    told.artifacts.retain(|artifact| artifact.platform == release.artifacts[0].platform);
    let published = Published { release: told, files, absent, is_new, is_deprecated_now };
    document.insert(whole);
    readable_text(&document)?;
    Ok((Entered { document, published }, new))
}

/// Returns the release that makes a new version an old one: the newest of its compatible line, or of all where that line has
/// none yet. Nothing is older than what comes last of its line, whatever other lines have.
fn newer_than(document: &PackageDocument, version: &Version) -> Option<Version> {
    let stand = || document.releases.iter().filter(|release| release.withdrawn().is_none());
    let all = || stand().map(|release| &release.version);
    let line = all().filter(|other| document.numbering.is_same_line(other, version)).max();
    line.or_else(|| all().max()).filter(|newest| *newest > version).cloned()
}

/// Returns what a release of a package says that it needs.
fn needs_of(manifest: &Manifest) -> BTreeMap<Purpose, BTreeMap<PackageName, ConstraintText>> {
    let needs = manifest.needs.iter().filter(|(_, needs)| !needs.is_empty()).map(|(purpose, needs)| {
        // Needs of other purposes are the author's own affair, wherever they are met.
        let told = needs.iter().filter(|(_, need)| need.elsewhere.is_none());
        let needs = told.map(|(name, need)| (name.clone(), need.accept.clone())).collect();
        (purpose.clone(), needs)
    });
    needs.collect()
}

fn release_of(
    manifest: &Manifest,
    commit: Option<&String>,
    version: Version,
    artifact: Artifact,
    now: Timestamp,
) -> Release {
    let mut release = Release::unpublished(version, needs_of(manifest), manifest.offers.clone(), vec![artifact]);
    release.published = now;
    release.licence.clone_from(&manifest.project.licence);
    release.notes.clone_from(&manifest.project.notes);
    release.identities = manifest.project.identities.iter().map(ToString::to_string).collect();
    let made_from = |repository: &String| MadeFrom { repository: repository.clone(), commit: commit.cloned() };
    release.made_from = manifest.project.repository.as_ref().map(made_from);
    release
}

/// How a release relates to the one that is there at its version.
enum Difference {
    None,
    /// It is the same release, for a platform that had nothing yet.
    OnePlatformMore,
    /// In this.
    In(&'static str),
}

/// Returns the text of a document that readers will take.
pub(crate) fn readable_text(document: &PackageDocument) -> Result<String, RegistryError> {
    let text = document.write();
    match text.len() as u64 > MOST_DOCUMENT {
        true => Err(RegistryError::TooLong(document.name.clone())),
        false => Ok(text),
    }
}

/// Compares a release for one platform with the one that is there; the archive's bytes may differ, as long as its tree is
/// the same (another version of the compressor writes other bytes).
fn difference(there: &Release, now: &Release) -> Difference {
    if there.version.as_str() != now.version.as_str() {
        return Difference::In("the way its version is written");
    }
    let artifact = &now.artifacts[0];
    let fits_all = |platform: &str| platform == ANY_PLATFORM;
    match there.artifacts.iter().find(|other| other.platform == artifact.platform) {
        Some(other) if other.tree != artifact.tree => Difference::In("its files"),
        _ if there.needs != now.needs || there.offers != now.offers => Difference::In("what it needs or offers"),
        Some(_) => Difference::None,
        // Whoever locked what fits all would get other files than those who lock it now.
        None if fits_all(&artifact.platform) || there.artifacts.iter().any(|other| fits_all(&other.platform)) => {
            Difference::In("the platforms it is for")
        }
        None => Difference::OnePlatformMore,
    }
}

/// Lists the folders that a manifest offers and that none of the files is in.
fn absent(manifest: &Manifest, files: &[(String, u64)]) -> Vec<String> {
    let offers = &manifest.offers;
    let is_there = |folder: &str| {
        folder == "."
            || files.iter().any(|(file, _)| file.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/')))
    };
    let offered = offers.programs.iter().chain(offers.variables.values());
    let mut absent: Vec<String> = offered.filter(|folder| !is_there(folder)).cloned().collect();
    absent.sort();
    absent.dedup();
    absent
}
