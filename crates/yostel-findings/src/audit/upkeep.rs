//! What a project says about packages wherever they turn up, and what is wrong with that by now.

use yostel_documents::{PackageName, Purpose};
use yostel_versions::Version;

/// Which rule of the manifest it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum UpkeepRule {
    /// `[force]`.
    Force,
    /// `[swap]`.
    Swap,
    /// `[admit]`.
    Admit,
    /// `[licence-exceptions]`.
    LicenceException,
    /// A need that deviates from `[agreed]`.
    Deviation,
}

impl UpkeepRule {
    /// Returns its word: the table of the manifest that it is in, unless it is a need that deviates.
    pub fn word(self) -> &'static str {
        match self {
            Self::Force => "force",
            Self::Swap => "swap",
            Self::Admit => "admit",
            Self::LicenceException => "licence-exceptions",
            Self::Deviation => "deviation",
        }
    }
}

/// What is wrong with a rule by now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Debt {
    /// The day until which it should be needed is past by so many days.
    Past(i64),
    /// Without it, the very same releases would be chosen.
    ChangesNothing,
    /// Without it, this newer release would be chosen.
    Hides(Version),
    /// It is somebody's own way; said once more, with its reason.
    Stands,
}

/// A rule that somebody should look after.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Upkeep {
    /// Which rule.
    pub rule: UpkeepRule,
    /// The package it is about.
    pub package: PackageName,
    /// Of a need that deviates, whose it is and what for.
    pub need: Option<(PackageName, Purpose)>,
    /// The manifest, relative to the workspace's root.
    pub file: String,
    /// The line of it, from 1.
    pub line: usize,
    /// Why it is there.
    pub why: String,
    /// What is wrong with it; never empty.
    pub debts: Vec<Debt>,
}
