//! Withdraw or deprecate a release, and take that back.

use yostel_documents::{PackageName, TakenBack};
use yostel_registry::Saying;

use super::target::{RegistryTarget, with_target};
use crate::context::Settings;
use crate::error::FlowError;

/// Something to say of a release.
#[derive(Debug, Clone, Copy)]
pub enum SayingWhat<'s> {
    /// It must not be chosen anew.
    Withdrawn,
    /// Its author no longer maintains it; the package that took its place.
    Deprecated(Option<&'s PackageName>),
    /// What was said does not hold any more.
    TakenBack(TakenBack),
}

/// Says something of a release; returns whether it was new.
///
/// # Errors
/// `Registry`, `Source`.
pub fn say_of_release(
    target: &RegistryTarget,
    (package, version): (&PackageName, &str),
    (what, why): (SayingWhat<'_>, &str),
    settings: &Settings,
) -> Result<bool, FlowError> {
    let saying = Saying { package, version, why, now: settings.now };
    let registry = target.open(settings)?;
    with_target!(&registry, registry => match what {
        SayingWhat::Withdrawn => yostel_registry::withdraw(registry, saying),
        SayingWhat::Deprecated(instead) => yostel_registry::deprecate(registry, saying, instead),
        SayingWhat::TakenBack(what) => yostel_registry::take_back(registry, saying, what),
    })
}
