//! Licences of what is locked, against those that the project allows.

use std::collections::BTreeMap;

use jiff::civil::Date;
use yostel_documents::{
    AllowedLicence, LicenceException, LicenceVerdict, Lockfile, PackageDocument, PackageName, judge_licence,
};
use yostel_versions::Version;

/// A locked release whose licence is not allowed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unlicensed {
    /// The package.
    pub package: PackageName,
    /// The locked version.
    pub version: Version,
    /// The expression that its release tells; nothing when it tells none.
    pub licence: Option<String>,
    /// What is wrong.
    pub trouble: LicenceTrouble,
    /// The last day of an exception for it, when that is past.
    pub excepted_until: Option<Date>,
}

/// What is wrong with a licence.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LicenceTrouble {
    /// It asks for these, which are not allowed.
    NotAllowed(Vec<String>),
    /// It is no SPDX expression; why, in words.
    NoExpression(String),
    /// None is told.
    Untold,
}

/// Judges the licence of a release; nothing when it is allowed.
fn trouble_with(licence: Option<&str>, allowed: &[AllowedLicence]) -> Option<LicenceTrouble> {
    match licence.map(|licence| judge_licence(licence, allowed)) {
        Some(LicenceVerdict::Allowed) => None,
        Some(LicenceVerdict::NotAllowed(missing)) => Some(LicenceTrouble::NotAllowed(missing)),
        Some(LicenceVerdict::NoExpression(why)) => Some(LicenceTrouble::NoExpression(why)),
        None => Some(LicenceTrouble::Untold),
    }
}

/// Lists the locked releases whose licence is neither allowed nor, on a day, excepted: by package. An exception is for the
/// expression that it names, and for no other that the package may have later. Packages without a document are left out.
pub fn unlicensed(
    lockfile: &Lockfile,
    documents: &BTreeMap<PackageName, PackageDocument>,
    allowed: &[AllowedLicence],
    exceptions: &BTreeMap<PackageName, LicenceException>,
    today: Date,
) -> Vec<Unlicensed> {
    let mut all = Vec::new();
    for (package, locked) in lockfile.chosen.iter() {
        let Some(release) = documents.get(package).and_then(|document| document.release(&locked.version)) else {
            continue;
        };
        let licence = release.licence.as_deref();
        let Some(trouble) = trouble_with(licence, allowed) else { continue };
        let exception = exceptions.get(package).filter(|exception| licence == Some(&exception.licence));
        let is_past = |exception: &LicenceException| exception.until.is_some_and(|until| until < today);
        if exception.is_some_and(|exception| !is_past(exception)) {
            continue;
        }
        all.push(Unlicensed {
            package: package.clone(),
            version: locked.version.clone(),
            licence: release.licence.clone(),
            trouble,
            excepted_until: exception.and_then(|exception| exception.until),
        });
    }
    all
}

/// Tells whether an exception does anything for what is locked.
pub fn is_exception_needed(
    package: &PackageName,
    exception: &LicenceException,
    lockfile: &Lockfile,
    documents: &BTreeMap<PackageName, PackageDocument>,
    allowed: &[AllowedLicence],
) -> bool {
    let Some(document) = documents.get(package) else { return lockfile.chosen.get(package).is_some() };
    let releases = lockfile.chosen.all(package).iter().filter_map(|locked| document.release(&locked.version));
    let licences: Vec<Option<&str>> = releases.map(|release| release.licence.as_deref()).collect();
    licences.iter().any(|licence| *licence == Some(&exception.licence) && trouble_with(*licence, allowed).is_some())
}
