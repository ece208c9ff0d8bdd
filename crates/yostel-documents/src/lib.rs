//! What is written down: names, digests, manifests, lockfiles, release records, the layout of a registry, listings of
//! trees and patches to them. Read, checked, edited and written, as pure functions over texts.

#![deny(missing_docs)]

mod advisory;
mod baseline;
mod chosen;
mod credentials;
mod declared;
mod digest;
mod inventory;
mod json;
mod layout;
mod licence;
mod lockfile;
mod made_from;
mod manifest;
mod merge_mark;
mod name;
mod numbering;
pub mod oci;
mod openvex;
mod origin;
mod overrides;
mod proposal_record;
mod purl;
mod release;
mod requirement;
mod tree;
mod web_address;

pub use advisory::{
    ADVISORIES, About, Advisory, Affected, AffectedPackage, AffectedRange, MOST_ADVISORY, RangeEvent, RangeKind,
    Severity, repository_of,
};
pub use baseline::{BASELINE_FORMAT, Baseline, BaselineError, Known};
pub use chosen::{AtVersion, Chosen, Numbered};
pub use credentials::{Credential, CredentialEntry, CredentialsFile, Secret, credential_host};
pub use declared::{Declared, LocalPackage};
pub use digest::{ArchiveDigest, ContentDigest, DigestError, RecordDigest, Seal, Sha256, TreeDigest, to_hex};
pub use inventory::{DirectNeed, Inventory, InventoryError, InventoryForm, Listed, MOST_INVENTORY, read_names};
pub use layout::{
    ArchiveFormat, DOCUMENTS, MOST_DOCUMENT, MOST_HEAD, MOST_INDEX, REGISTRY_FORMAT, REGISTRY_HEAD, REGISTRY_INDEX,
    RegistryHead, RegistryIndex, archive_file, archive_files, document_file, package_of_document,
};
pub use licence::{AllowedLicence, LicenceVerdict, MOST_LICENCE, check_licence, judge_licence};
pub use lockfile::{
    Alteration, AskedBy, Claims, Difference, Dispute, Disputed, LOCKFILE_FORMAT, LockedPackage, Lockfile,
    LockfileError, LockfileHeader, Reached,
};
pub use made_from::MadeFrom;
pub use manifest::{
    AT_ONCE, Admit, AlsoAudit, Alter, Check, CheckCommand, Contents, EditError, FilePattern, Force, Hours, Identity,
    LeftOut, LicenceException, Manifest, ManifestProblem, ManifestProblemKind, ManifestReading, MentionOf,
    MentionPattern, MentionedIn, NamePattern, Need, NeedEdit, NeedForm, Policy, Project, Proposals, SourceDeclaration,
    SourcePlace, Swap, Take, VersionTable, Workspace, WorkspaceEntry, add_agreed, add_alter, add_coexist, add_need,
    add_shared_role, add_source, add_swap, add_version, days_of, manifest_schema, merge_manifests, new_manifest,
    place_of_key, remove_alter, remove_coexist, remove_need, remove_platform, remove_rule, remove_source, time_of,
    with_values,
};
pub use name::{NAME_LIMIT, NameError, PackageName, Purpose, SourceName, Word, nearest, run_purpose};
pub use openvex::{Dismissal, MOST_OPENVEX, OpenVex, VEX_JUSTIFICATIONS, VexProduct, VexStatement, VexStatus};
pub use origin::{Elsewhere, GitAt, GitPlace, Origin};
pub use overrides::Overrides;
pub use proposal_record::{ProposalRecord, proposal_path};
pub use purl::{PackageUrl, url_part};
pub use release::{
    ANY_PLATFORM, Artifact, DOCUMENT_FORMAT, DocumentError, ListedRelease, Offers, PackageDocument, Release, Statement,
    TakenBack, Withdrawal, artifact_for, check_offered_path, check_platform, check_variable, is_loading_variable,
};
pub use requirement::{Asker, Requirement};
pub use tree::{
    Entry, EntryKind, FilePatch, Hunk, HunkLine, LinkFault, Listing, ListingError, Mark, NotText, Patch, PatchError,
    Rejected, RejectedReason, TreeFile, check_entry_path, check_links, fold,
};
pub use web_address::{WebAddress, WebAddressError};
