//! What is said of a release after it was published, with its time and reason. Statements are only ever added.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::record::RawArtifact;
use super::{Artifact, Release, add_artifact};
use crate::name::PackageName;

/// Something that is said of a release.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Statement {
    /// It must not be chosen anew.
    Withdrawn(Withdrawal),
    /// Its author no longer maintains it.
    Deprecated {
        /// Since when.
        on: Timestamp,
        /// Why.
        why: String,
        /// The package that took its place.
        replaced_by: Option<PackageName>,
    },
    /// What was said before does not hold any more.
    TakenBack {
        /// Since when.
        on: Timestamp,
        /// Why.
        why: String,
        /// What does not hold.
        what: TakenBack,
    },
    /// There is an archive for one more platform.
    Artifact {
        /// Since when.
        on: Timestamp,
        /// The archive.
        artifact: Artifact,
    },
}

/// Why and when a release was withdrawn.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Withdrawal {
    /// When.
    pub on: Timestamp,
    /// Why.
    pub why: String,
}

/// What can be taken back.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum TakenBack {
    /// That it is withdrawn.
    Withdrawn,
    /// That it is deprecated.
    Deprecated,
}

#[derive(Serialize, Deserialize)]
#[serde(tag = "says", rename_all = "kebab-case", rename_all_fields = "kebab-case")]
enum RawStatement<'t> {
    Withdrawn {
        on: Timestamp,
        why: String,
    },
    Deprecated {
        on: Timestamp,
        why: String,
        #[serde(skip_serializing_if = "Option::is_none")]
        replaced_by: Option<String>,
    },
    TakenBack {
        on: Timestamp,
        why: String,
        what: TakenBack,
    },
    Artifact {
        on: Timestamp,
        #[serde(borrow)]
        artifact: RawArtifact<'t>,
    },
}

/// What tells which statement it is.
#[derive(Deserialize)]
#[serde(expecting = "a statement")]
struct Says {
    says: String,
}

/// The statements that this version knows.
const KNOWN: [&str; 4] = ["withdrawn", "deprecated", "taken-back", "artifact"];

impl Statement {
    /// Writes it on one line.
    pub(super) fn write(&self) -> String {
        let raw = match self {
            Self::Withdrawn(Withdrawal { on, why }) => RawStatement::Withdrawn { on: *on, why: why.clone() },
            Self::Deprecated { on, why, replaced_by } => RawStatement::Deprecated {
                on: *on,
                why: why.clone(),
                replaced_by: replaced_by.as_ref().map(ToString::to_string),
            },
            Self::TakenBack { on, why, what } => RawStatement::TakenBack { on: *on, why: why.clone(), what: *what },
            Self::Artifact { on, artifact } => RawStatement::Artifact { on: *on, artifact: RawArtifact::of(artifact) },
        };
        serde_json::to_string(&raw).expect("texts and numbers always serialise")
    }

    /// Reads one; nothing when it is one that only a later version knows.
    pub(super) fn read(text: &str) -> serde_json::Result<Result<Option<Self>, String>> {
        let Says { says } = serde_json::from_str(text)?;
        if !KNOWN.contains(&says.as_str()) {
            return Ok(Ok(None));
        }
        Ok(serde_json::from_str::<RawStatement<'_>>(text)?.known().map(Some))
    }

    /// Reads one from its text; nothing when it is none that this version knows.
    pub fn parse(text: &str) -> Option<Self> {
        Self::read(text).ok()?.ok()?
    }

    /// Lets it count.
    pub(super) fn apply_to(&self, release: &mut Release) -> Result<(), String> {
        match self.clone() {
            Self::Withdrawn(withdrawal) => release.withdrawn = Some(withdrawal),
            Self::Deprecated { why, replaced_by, .. } => {
                release.deprecated = Some(why);
                release.replaced_by = replaced_by;
            }
            Self::TakenBack { what: TakenBack::Withdrawn, .. } => release.withdrawn = None,
            Self::TakenBack { what: TakenBack::Deprecated, .. } => {
                release.deprecated = None;
                release.replaced_by = None;
            }
            Self::Artifact { artifact, .. } => add_artifact(&mut release.artifacts, artifact)?,
        }
        Ok(())
    }
}

impl RawStatement<'_> {
    fn known(self) -> Result<Statement, String> {
        Ok(match self {
            Self::Withdrawn { on, why } => Statement::Withdrawn(Withdrawal { on, why }),
            Self::Deprecated { on, why, replaced_by } => {
                let replaced_by = replaced_by.map(|name| PackageName::parse(&name)).transpose();
                Statement::Deprecated { on, why, replaced_by: replaced_by.map_err(|error| error.to_string())? }
            }
            Self::TakenBack { on, why, what } => Statement::TakenBack { on, why, what },
            Self::Artifact { on, artifact } => Statement::Artifact { on, artifact: artifact.read()? },
        })
    }
}
