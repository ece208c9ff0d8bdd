//! Packages of which nothing new came for long: nobody may be there any more who corrects them.

use std::collections::BTreeMap;

use jiff::Timestamp;
use yostel_documents::{Lockfile, PackageDocument, PackageName};
use yostel_versions::Version;

/// A package of which nothing new came for long.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Quiet {
    /// The package.
    pub package: PackageName,
    /// The release that was published last.
    pub last: Version,
    /// When that was.
    pub published: Timestamp,
    /// How many days ago.
    pub days: i64,
}

/// Lists the locked packages whose last release, of whatever kind, is older than so many days, by package.
pub fn quiet(
    lockfile: &Lockfile,
    documents: &BTreeMap<PackageName, PackageDocument>,
    after_days: u32,
    now: Timestamp,
) -> Vec<Quiet> {
    let quiet = |package: &PackageName| {
        let last = documents.get(package)?.releases.iter().max_by_key(|release| release.published)?;
        let days = (now.as_second() - last.published.as_second()) / 86_400;
        let (package, last, published) = (package.clone(), last.version.clone(), last.published);
        (days > i64::from(after_days)).then_some(Quiet { package, last, published, days })
    };
    lockfile.chosen.keys().filter_map(quiet).collect()
}
