//! Copying what another registry has of a package. Records and statements are copied as they are, so the digests that lockfiles
//! pin are the same.

use yostel_documents::{Artifact, ListedRelease, PackageDocument, Release};
use yostel_files::NewFile;

use crate::backend::{Addition, Backend};
use crate::error::RegistryError;
use crate::publish::readable_text;

/// What copying a package came to.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct CopiedPackage {
    /// Versions that are there now and were not.
    pub new: Vec<String>,
    /// Versions that were there already.
    pub there: Vec<String>,
    /// Versions of which more is said now than before.
    pub said: Vec<String>,
    /// Versions that are there with another record: nothing of them was changed.
    pub differing: Vec<String>,
    /// How many archives were fetched.
    pub archives: usize,
    /// How many bytes they have.
    pub bytes: u64,
    /// How many archives were taken over where they are, without being fetched.
    pub mounted: usize,
}

/// Copies the releases of a package that are wanted. `fetch` writes an archive, which it has checked, into a file. What is
/// there already is not fetched.
///
/// # Errors
/// What `fetch`, reading and writing return. What was copied before that is there.
pub fn copy_package<B: Backend, E: From<B::Error> + From<RegistryError>>(
    registry: &B,
    from: &PackageDocument,
    wants: &dyn Fn(&Release) -> bool,
    fetch: &mut dyn FnMut(&Release, &Artifact, NewFile) -> Result<(), E>,
) -> Result<CopiedPackage, E> {
    let guard = registry.guard()?;
    let there = registry.document(&from.name)?;
    let mut document = there.unwrap_or_else(|| PackageDocument::new(from.name.clone(), from.numbering.clone()));
    let Some(numbering) = document.numbering.joined(&from.numbering).cloned() else {
        let (package, before, now) = (from.name.clone(), document.numbering, from.numbering.clone());
        return Err(RegistryError::Numbering { package, before, now }.into());
    };
    document.numbering = numbering;
    let mut copied = CopiedPackage::default();
    for release in from.releases.iter().map(ListedRelease::whole).filter(|release| wants(release)) {
        let version = release.version.to_string();
        let there = document.release(&release.version).cloned();
        let (whole, is_release) = match there.as_deref() {
            None => (Release::clone(release), true),
            Some(there) if there.record() != release.record() => {
                copied.differing.push(version);
                continue;
            }
            Some(there) => match there.with_statements_of(release) {
                Ok(whole) => (whole, false),
                // Another archive is there for a platform.
                Err(_) => {
                    copied.differing.push(version);
                    continue;
                }
            },
        };
        let statements = whole.statements().count() - there.as_ref().map_or(0, |there| there.statements().count());
        if !is_release && statements == 0 {
            copied.there.push(version);
            continue;
        }
        for artifact in &whole.artifacts {
            if registry.has(&from.name, artifact)? {
                continue;
            }
            if registry.take_over(&from.name, artifact)? {
                copied.mounted += 1;
            } else {
                fetch(release, artifact, registry.aside(&guard)?)?;
                registry.keep(&guard, &from.name, artifact)?;
                copied.archives += 1;
                copied.bytes += artifact.size;
            }
        }
        document.insert(whole);
        readable_text(&document)?;
        let added = document.release(&release.version).expect("it was put in");
        match registry.add(&guard, &Addition { document: &document, release: added, is_release, statements })? {
            true if is_release => copied.new.push(version),
            true => copied.said.push(version),
            // Somebody else published it meanwhile.
            false => copied.differing.push(version),
        }
    }
    if !copied.new.is_empty() || !copied.said.is_empty() {
        registry.settle(&guard, &from.name)?;
    }
    Ok(copied)
}
