//! What several answers have in common: who asks, where from, what moves, which edits.

use schemars::JsonSchema;
use serde::Serialize;
use yostel_documents::{AskedBy, Origin, PackageName, Requirement, Withdrawal};
use yostel_findings::{Move, MoveKind, Notice};
use yostel_resolve::{RequirementEdit, RuleEdit};
use yostel_store::FileChange;
use yostel_versions::Version;

/// Turns values into the texts of them.
pub(crate) fn texts<T: ToString>(values: impl IntoIterator<Item = T>) -> Vec<String> {
    values.into_iter().map(|value| value.to_string()).collect()
}

/// Turns values into what an answer says of them.
pub(crate) fn told<'v, V: 'v, T: From<&'v V>>(values: impl IntoIterator<Item = &'v V>) -> Vec<T> {
    values.into_iter().map(T::from).collect()
}

/// A release of a package.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ReleaseTold {
    /// The package.
    pub package: String,
    /// The version.
    pub version: String,
}

impl From<&(PackageName, Version)> for ReleaseTold {
    fn from((package, version): &(PackageName, Version)) -> Self {
        Self { package: package.to_string(), version: version.to_string() }
    }
}

/// Who asks for a package, for what, and which versions will do.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AskedTold {
    /// A project's name, or a release as `NAME VERSION`.
    pub who: String,
    /// The purpose.
    pub purpose: String,
    /// The constraint.
    pub accept: String,
}

impl From<&AskedBy> for AskedTold {
    fn from(asked: &AskedBy) -> Self {
        let (who, purpose) = (asked.who.to_string(), asked.purpose.to_string());
        Self { who, purpose, accept: asked.accept.to_string() }
    }
}

impl From<&Requirement> for AskedTold {
    fn from(need: &Requirement) -> Self {
        let (who, purpose) = (need.asker.to_string(), need.purpose.to_string());
        Self { who, purpose, accept: need.accept.to_string() }
    }
}

/// Where a package comes from.
#[derive(Debug, Clone, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum OriginTold {
    /// A source, by its name in the manifest.
    Source(String),
    /// A commit of a repository.
    Git {
        /// The repository's address.
        git: String,
        /// The commit, by its full hash.
        commit: String,
        /// The folder in it; null when the package is all of the repository.
        inside: Option<String>,
    },
    /// One archive.
    Archive {
        /// Its address.
        archive: String,
    },
    /// A folder of this machine, as it is at the time.
    Path {
        /// The folder, from the root.
        path: String,
    },
    /// A project of the workspace.
    Project {
        /// Its folder, from the root.
        project: String,
    },
}

impl From<&Origin> for OriginTold {
    fn from(origin: &Origin) -> Self {
        match origin {
            Origin::Source(name) => Self::Source(name.to_string()),
            Origin::Git { place, commit } => {
                Self::Git { git: place.address.clone(), commit: commit.clone(), inside: place.folder.clone() }
            }
            Origin::Archive { address } => Self::Archive { archive: address.clone() },
            Origin::Path { folder } => Self::Path { path: folder.clone() },
            Origin::Project { folder } => Self::Project { project: folder.clone() },
        }
    }
}

/// What moves when a lockfile is written.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct MoveTold {
    /// The package.
    pub package: String,
    /// Who asks for it now; who asked, when it is gone.
    pub asked_by: Vec<AskedTold>,
    /// From a project to who pulled it where it is; of more than 100 the first and the last 99. Empty when it is gone.
    pub pulled_by: Vec<String>,
    /// What happened to it.
    #[serde(flatten)]
    pub what: WhatMoved,
}

/// What happened to a package.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case", rename_all_fields = "kebab-case")]
pub enum WhatMoved {
    /// It came in.
    Added {
        /// At this version.
        to: String,
    },
    /// Nothing needs it any more.
    Gone {
        /// It had this version.
        from: String,
    },
    /// Its version changed.
    Moved {
        /// The version before.
        from: String,
        /// The version now.
        to: String,
        /// Whether the two are on different compatible lines.
        crosses_line: bool,
    },
    /// The version is the same, its content is not.
    Content {
        /// The version.
        version: String,
    },
    /// The content is the same; its source describes it otherwise than before.
    Record {
        /// The version.
        version: String,
    },
    /// The version is the same, from another place.
    Origin {
        /// The version.
        version: String,
        /// Where it came from.
        from: OriginTold,
        /// Where it comes from now.
        to: OriginTold,
    },
    /// It is locked for other platforms.
    Platforms {
        /// Before.
        from: Vec<String>,
        /// Now.
        to: Vec<String>,
    },
    /// A patch was added or taken away.
    Altered {
        /// Whether it has one now.
        now: bool,
    },
    /// It is needed for other purposes.
    Purposes {
        /// Before.
        from: Vec<String>,
        /// Now.
        to: Vec<String>,
    },
}

impl From<&Move> for MoveTold {
    fn from(moved: &Move) -> Self {
        let what = match &moved.kind {
            MoveKind::Added { to } => WhatMoved::Added { to: to.to_string() },
            MoveKind::Dropped { from } => WhatMoved::Gone { from: from.to_string() },
            MoveKind::Moved { from, to, crosses_line } => {
                WhatMoved::Moved { from: from.to_string(), to: to.to_string(), crosses_line: *crosses_line }
            }
            MoveKind::Content { version } => WhatMoved::Content { version: version.to_string() },
            MoveKind::Record { version } => WhatMoved::Record { version: version.to_string() },
            MoveKind::Origin { version, from, to } => {
                WhatMoved::Origin { version: version.to_string(), from: from.into(), to: to.into() }
            }
            MoveKind::Platforms { from, to } => WhatMoved::Platforms { from: from.clone(), to: to.clone() },
            MoveKind::Altered { now } => WhatMoved::Altered { now: *now },
            MoveKind::Purposes { from, to } => WhatMoved::Purposes { from: texts(from), to: texts(to) },
        };
        let (asked_by, pulled_by) = (told(&moved.asked_by), texts(&moved.pulled_by));
        Self { package: moved.package.to_string(), asked_by, pulled_by, what }
    }
}

/// One edit of a manifest that helps to end a collision.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum EditTold {
    /// Give a need another constraint.
    Change {
        /// The package that is needed.
        package: String,
        /// For which purpose.
        purpose: String,
        /// The project that needs it.
        project: String,
        /// The constraint as it is.
        from: String,
        /// The constraint to write.
        to: String,
    },
    /// Remove a need.
    Remove {
        /// The package that is needed.
        package: String,
        /// For which purpose.
        purpose: String,
        /// The project that needs it.
        project: String,
        /// The constraint as it is.
        from: String,
    },
    /// Allow several versions of a package, one per compatible line.
    Coexist {
        /// The package.
        package: String,
    },
    /// Agree on another constraint for a package.
    Agree {
        /// The package.
        package: String,
        /// What is agreed.
        from: String,
        /// What to agree on.
        to: String,
    },
    /// Force a version no longer.
    Unforce {
        /// The package.
        package: String,
        /// The version, as a constraint.
        from: String,
    },
    /// Take a swap back.
    Unswap {
        /// The package that another stands in for.
        package: String,
        /// The other.
        #[serde(rename = "use")]
        by: String,
    },
    /// Have one package stand in for another, or do so at other versions.
    Swap {
        /// The package that is asked for.
        package: String,
        /// The one that is there.
        #[serde(rename = "use")]
        by: String,
        /// Which of its versions will do.
        to: String,
    },
    /// Choose a release although it is withdrawn or too young.
    Admit {
        /// The package.
        package: String,
        /// The release.
        version: String,
    },
    /// Allow several packages in a role.
    ShareRole {
        /// The role.
        role: String,
    },
    /// Have a need count on fewer platforms.
    OnlyOn {
        /// The package that is needed.
        package: String,
        /// For which purpose.
        purpose: String,
        /// The project that needs it.
        project: String,
        /// The platform on which it counts no more.
        without: String,
    },
    /// Serve a platform no longer.
    DropPlatform {
        /// The platform.
        platform: String,
    },
    /// Force a version of a package, whatever is asked.
    Force {
        /// The package.
        package: String,
        /// The version.
        version: String,
    },
}

impl From<&RuleEdit> for EditTold {
    fn from(edit: &RuleEdit) -> Self {
        match edit {
            RuleEdit::Agree { package, from, accept, .. } => {
                Self::Agree { package: package.to_string(), from: from.to_string(), to: accept.to_string() }
            }
            RuleEdit::SwapAccept { package, by, accept, .. } | RuleEdit::Swap { package, by, accept } => {
                Self::Swap { package: package.to_string(), by: by.to_string(), to: accept.to_string() }
            }
            RuleEdit::Unforce { package, from } => {
                Self::Unforce { package: package.to_string(), from: from.to_string() }
            }
            RuleEdit::Unswap { package, by } => Self::Unswap { package: package.to_string(), by: by.to_string() },
            RuleEdit::Admit { package, version, .. } => {
                Self::Admit { package: package.to_string(), version: version.to_string() }
            }
            RuleEdit::Coexist { package } => Self::Coexist { package: package.to_string() },
            RuleEdit::ShareRole { role } => Self::ShareRole { role: role.to_string() },
            RuleEdit::OnlyOn { requirement, without, .. } => Self::OnlyOn {
                package: requirement.package.to_string(),
                purpose: requirement.purpose.to_string(),
                project: requirement.asker.to_string(),
                without: without.clone(),
            },
            RuleEdit::DropPlatform { platform } => Self::DropPlatform { platform: platform.clone() },
            RuleEdit::Force { package, version } => {
                Self::Force { package: package.to_string(), version: version.to_string() }
            }
        }
    }
}

impl From<&RequirementEdit> for EditTold {
    fn from(edit: &RequirementEdit) -> Self {
        let requirement = edit.requirement();
        let (package, purpose) = (requirement.package.to_string(), requirement.purpose.to_string());
        let (project, from) = (requirement.asker.to_string(), requirement.accept.to_string());
        match edit {
            RequirementEdit::Change { accept, .. } => {
                Self::Change { package, purpose, project, from, to: accept.to_string() }
            }
            RequirementEdit::Drop { .. } => Self::Remove { package, purpose, project, from },
        }
    }
}

/// A file that was changed.
#[derive(Debug, Serialize, JsonSchema)]
pub struct FileTold {
    /// Its path in the package.
    pub path: String,
    /// What happened to it: `new`, `gone`, `changed` or `changed kind`.
    pub what: String,
    /// The unified diff; null when it is not text.
    pub patch: Option<String>,
}

impl From<&FileChange> for FileTold {
    fn from(change: &FileChange) -> Self {
        Self { path: change.path.clone(), what: change.word().to_owned(), patch: diff_of(change) }
    }
}

/// Writes the unified diff of a changed file; nothing when it is not text.
pub(crate) fn diff_of(change: &FileChange) -> Option<String> {
    change.patch.clone().map(|patch| yostel_documents::Patch { files: vec![patch] }.write())
}

/// What is said of a locked release since it was published.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct NoticeTold {
    /// The package.
    pub package: String,
    /// The version.
    pub version: String,
    /// Why and when it was withdrawn; null when it was not.
    pub withdrawn: Option<WithdrawnTold>,
    /// Why it is deprecated; null when it is not.
    pub deprecated: Option<String>,
    /// The package that took its place; null when none did.
    pub replaced_by: Option<String>,
}

/// That a release was withdrawn.
#[derive(Debug, Serialize, JsonSchema)]
pub struct WithdrawnTold {
    /// Why.
    pub why: String,
    /// When.
    pub on: String,
}

impl From<&Withdrawal> for WithdrawnTold {
    fn from(withdrawal: &Withdrawal) -> Self {
        Self { why: withdrawal.why.clone(), on: withdrawal.on.to_string() }
    }
}

impl From<&Notice> for NoticeTold {
    fn from(notice: &Notice) -> Self {
        Self {
            package: notice.package.to_string(),
            version: notice.version.to_string(),
            withdrawn: notice.withdrawn.as_ref().map(WithdrawnTold::from),
            deprecated: notice.deprecated.clone(),
            replaced_by: notice.replaced_by.as_ref().map(ToString::to_string),
        }
    }
}
