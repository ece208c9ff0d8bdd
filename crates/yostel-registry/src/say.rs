//! What is said of releases after they were published: that they are withdrawn or deprecated, and that they no longer are.

use std::sync::Arc;

use jiff::Timestamp;
use yostel_documents::{PackageDocument, PackageName, Release, Statement, TakenBack, Withdrawal};

use crate::backend::{Addition, Backend};
use crate::error::RegistryError;
use crate::publish::readable_text;

/// Which release something is said of, why, and when.
#[derive(Debug, Clone, Copy)]
pub struct Saying<'s> {
    /// The package.
    pub package: &'s PackageName,
    /// The version, as it was typed.
    pub version: &'s str,
    /// Why.
    pub why: &'s str,
    /// When.
    pub now: Timestamp,
}

/// Marks a release so that it is never newly chosen; those locked to it keep it. Returns whether it was new.
///
/// # Errors
/// `NoSuchRelease`, or what reading and writing refuse.
pub fn withdraw<B: Backend>(registry: &B, saying: Saying<'_>) -> Result<bool, B::Error> {
    say(registry, saying, |release| {
        let withdrawal = Withdrawal { on: saying.now, why: saying.why.to_owned() };
        release.withdrawn.is_none().then_some(Statement::Withdrawn(withdrawal))
    })
}

/// Marks a release as no longer maintained, perhaps with the package that took its place. Returns whether it was new.
///
/// # Errors
/// `NoSuchRelease`, or what reading and writing refuse.
pub fn deprecate<B: Backend>(
    registry: &B,
    saying: Saying<'_>,
    replaced_by: Option<&PackageName>,
) -> Result<bool, B::Error> {
    say(registry, saying, |release| {
        let (why, replaced_by) = (saying.why.to_owned(), replaced_by.cloned());
        let is_so = release.deprecated.as_ref() == Some(&why) && release.replaced_by == replaced_by;
        (!is_so).then_some(Statement::Deprecated { on: saying.now, why, replaced_by })
    })
}

/// Takes back what was said of a release. Returns whether it was said.
///
/// # Errors
/// `NoSuchRelease`, or what reading and writing refuse.
pub fn take_back<B: Backend>(registry: &B, saying: Saying<'_>, what: TakenBack) -> Result<bool, B::Error> {
    say(registry, saying, |release| {
        let is_said = match what {
            TakenBack::Withdrawn => release.withdrawn.is_some(),
            TakenBack::Deprecated => release.deprecated.is_some(),
        };
        is_said.then_some(Statement::TakenBack { on: saying.now, why: saying.why.to_owned(), what })
    })
}

/// Adds a statement about a release, if there is one to make. Returns whether there was.
fn say<B: Backend>(
    registry: &B,
    Saying { package, version, .. }: Saying<'_>,
    statement: impl FnOnce(&Release) -> Option<Statement>,
) -> Result<bool, B::Error> {
    let guard = registry.guard()?;
    let known = |document: &PackageDocument| document.releases.iter().map(|r| r.version.clone()).collect();
    let no_such = |known| RegistryError::NoSuchRelease { package: package.clone(), version: version.to_owned(), known };
    let mut document = registry.document(package)?.ok_or_else(|| no_such(Vec::new()))?;
    let wanted = document.numbering.parse_version(version).map_err(RegistryError::from)?;
    let Some(release) = Arc::make_mut(&mut document.releases).iter_mut().find(|release| release.version == wanted)
    else {
        return Err(no_such(known(&document)).into());
    };
    let Some(statement) = statement(release.whole()) else { return Ok(false) };
    release.change(|release| release.say(&statement)).map_err(RegistryError::Unfit)?;
    readable_text(&document)?;
    let release = document.release(&wanted).expect("it was found there");
    let addition = Addition { document: &document, release, is_release: false, statements: 1 };
    // Nothing else has the place of a statement, so nobody else can have been there first.
    registry.add(&guard, &addition)?;
    registry.settle(&guard, package)?;
    Ok(true)
}
