//! Requirements: who needs which package, within which constraint, for which purpose.

use std::fmt;

use yostel_versions::{ConstraintText, Version};

use crate::name::{PackageName, Purpose};

/// Who asks.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Asker {
    /// A project of the user's own.
    Project(PackageName),
    /// A release that was chosen.
    Release(PackageName, Version),
}

impl Asker {
    /// Returns the name of who asks.
    pub fn name(&self) -> &PackageName {
        match self {
            Self::Project(name) | Self::Release(name, _) => name,
        }
    }

    /// Tells whether a project of the user's own asks.
    pub fn is_project(&self) -> bool {
        matches!(self, Self::Project(_))
    }
}

impl fmt::Display for Asker {
    /// A project is its name alone, a release is name and version.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Project(name) => name.fmt(f),
            Self::Release(name, version) => write!(f, "{name} {version}"),
        }
    }
}

/// One need (a need, when a project asks).
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Requirement {
    /// Who asks.
    pub asker: Asker,
    /// The package wanted.
    pub package: PackageName,
    /// Which of its versions will do.
    pub accept: ConstraintText,
    /// What it is for.
    pub purpose: Purpose,
}

impl fmt::Display for Requirement {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} needs {} {}", self.asker, self.package, self.accept)
    }
}
