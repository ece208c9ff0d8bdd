//! What is said of a locked release since it was published: withdrawn, deprecated, replaced by another package.

use std::collections::BTreeMap;

use yostel_documents::{ListedRelease, Lockfile, PackageDocument, PackageName, Withdrawal};
use yostel_versions::Version;

/// What is said of a locked release.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Notice {
    /// The package.
    pub package: PackageName,
    /// The locked version.
    pub version: Version,
    /// Why and when it was withdrawn, when it was.
    pub withdrawn: Option<Withdrawal>,
    /// Why it, or the newest release of its package, is deprecated, when it is.
    pub deprecated: Option<String>,
    /// The package that took its place, when one did.
    pub replaced_by: Option<PackageName>,
}

/// Lists what is said of locked releases, by package. Packages without a document are left out.
pub fn notices(lockfile: &Lockfile, documents: &BTreeMap<PackageName, PackageDocument>) -> Vec<Notice> {
    let notice = |name: &PackageName, version: &Version| {
        let document = documents.get(name)?;
        let release = document.release(version)?;
        let newest = document.newest().map(ListedRelease::whole);
        let said = [Some(release), newest].into_iter().flatten().find(|release| release.deprecated.is_some());
        let withdrawn = release.withdrawn.clone();
        (withdrawn.is_some() || said.is_some()).then(|| Notice {
            package: name.clone(),
            version: version.clone(),
            withdrawn,
            deprecated: said.and_then(|release| release.deprecated.clone()),
            replaced_by: said.and_then(|release| release.replaced_by.clone()),
        })
    };
    lockfile.chosen.iter().filter_map(|(name, locked)| notice(name, &locked.version)).collect()
}
