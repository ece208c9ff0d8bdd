//! Versions, constraints, manifests, locks, resolving and auditing, as pure functions over values.

#![deny(missing_docs)]

mod audit;
mod chosen;
mod compare;
mod constraint;
mod declared;
mod diagnostic;
mod digest;
mod lockfile;
mod lookup;
mod manifest;
mod name;
mod origin;
mod overrides;
mod release;
mod requirement;
mod resolve;
mod satisfies;
mod tree;
mod version;
mod why;

pub use audit::{Duplicate, Holder, Outdated, duplicates, outdated};
pub use chosen::{AtVersion, Chosen, Numbered};
pub use compare::{Move, MoveKind, compare};
pub use constraint::{Accept, AcceptError, AcceptProblem, BindError, Constraint, VersionSet};
pub use declared::{Declared, Live};
pub use diagnostic::{Diagnostic, Place};
pub use digest::{ArchiveDigest, ContentDigest, DigestError, Seal, Sha256, TreeDigest, to_hex};
pub use lockfile::{
    Alteration, AskedBy, Claims, Difference, Dispute, Disputed, Glance, LOCKFILE_FORMAT, LockedPackage, Lockfile,
    LockfileError, Reached,
};
pub use manifest::{
    Alter, EditError, Force, Identity, Manifest, ManifestProblem, ManifestProblemKind, NamePattern, Need, NeedEdit,
    NeedForm, Policy, Project, SourceDeclaration, Swap, Workspace, WorkspaceEntry, add_agreed, add_alter, add_coexist,
    add_need, manifest_schema, new_manifest, remove_alter, remove_need, run_purpose,
};
pub use name::{NAME_LIMIT, NameError, PackageName, Purpose, SourceName, Word, nearest};
pub use origin::{Elsewhere, GitAt, GitPlace, Origin};
pub use overrides::{Overridden, Overrides, overridden};
pub use release::{
    ANY_PLATFORM, Artifact, DOCUMENT_FORMAT, DocumentError, Offers, Others, PackageDocument, Release, Withdrawal,
    artifact_for, check_offered_path, check_platform, check_variable, is_loading_variable,
};
pub use requirement::{Asker, Requirement};
pub use resolve::{
    Arrival, Certificate, Choice, Collision, EditSet, Fact, Formula, LinesApart, Outcome, Phase, Problem, Resolution,
    ResolveError, Resolver, RoleClash, Rules, SearchStats, Step, Take, Unfinished, WishEdit, WithinReach,
    requirements_of,
};
pub use satisfies::{Violation, satisfies};
pub use tree::{
    Entry, EntryKind, FilePatch, Hunk, HunkLine, LinkFault, Listing, ListingError, Mark, NotText, Patch, PatchError,
    Rejected, RejectedReason, TreeFile, check_entry_path, check_links, fold,
};
pub use version::{Numbering, NumberingError, Order, VERSION_LIMIT, Version, VersionError};
pub use why::{NotTaken, Reason, Why, why};
