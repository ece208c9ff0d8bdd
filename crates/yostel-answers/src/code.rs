//! The codes of all problems: stable words, explained in docs/errors.md §3.

use schemars::JsonSchema;
use serde::Serialize;

macro_rules! codes {
    ($($name:ident = $text:literal,)*) => {
        /// What kind of problem it is. docs/errors.md §3 says what each means and what ends it.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
        #[allow(missing_docs, reason = "the page explains them, and a test holds the two together")]
        pub enum Code {
            $(#[serde(rename = $text)] $name,)*
        }

        impl Code {
            /// All codes, by name.
            pub const ALL: &[Self] = &[$(Self::$name,)*];

            /// Returns the code as documents have it.
            pub fn as_str(self) -> &'static str {
                match self {
                    $(Self::$name => $text,)*
                }
            }
        }
    };
}

codes! {
    AlreadyAProject = "already-a-project",
    AlreadyPublished = "already-published",
    AmbiguousSource = "ambiguous-source",
    ArchiveDiffers = "archive-differs",
    ArchiveMissing = "archive-missing",
    ArchiveRefused = "archive-refused",
    BadClock = "bad-clock",
    BadEpoch = "bad-epoch",
    BadPatience = "bad-patience",
    Baseline = "baseline",
    BaselineMissing = "baseline-missing",
    BothAsk = "both-ask",
    CannotRead = "cannot-read",
    CannotRun = "cannot-run",
    CannotWrite = "cannot-write",
    CheckNowhere = "check-nowhere",
    Collision = "collision",
    Constraint = "constraint",
    Credentials = "credentials",
    DiskFull = "disk-full",
    DocumentTooLong = "document-too-long",
    EditedSince = "edited-since",
    ForeignManifest = "foreign-manifest",
    Git = "git",
    GitAddress = "git-address",
    GitMissing = "git-missing",
    GitOutOfTime = "git-out-of-time",
    GitRefused = "git-refused",
    Internal = "internal",
    JournalForged = "journal-forged",
    Kit = "kit",
    Licence = "licence",
    ListUnreadable = "list-unreadable",
    LockfileBroken = "lockfile-broken",
    LockfileChanged = "lockfile-changed",
    LockfileDisputed = "lockfile-disputed",
    LockfileLaterFormat = "lockfile-later-format",
    LockfileMerge = "lockfile-merge",
    LockfileMissing = "lockfile-missing",
    LockfileStale = "lockfile-stale",
    LockfileUnreadable = "lockfile-unreadable",
    LooksSecret = "looks-secret",
    Manifest = "manifest",
    ManifestAgreed = "manifest-agreed",
    ManifestChanged = "manifest-changed",
    ManifestContradiction = "manifest-contradiction",
    ManifestMerge = "manifest-merge",
    ManifestMissingKey = "manifest-missing-key",
    ManifestSyntax = "manifest-syntax",
    ManifestType = "manifest-type",
    ManifestUnknownKey = "manifest-unknown-key",
    ManifestValue = "manifest-value",
    Name = "name",
    NeedsElsewhere = "needs-elsewhere",
    NeedsItself = "needs-itself",
    NoArtifact = "no-artifact",
    NoBranch = "no-branch",
    NoCacheFolder = "no-cache-folder",
    NoChecks = "no-checks",
    NoEditHelps = "no-edit-helps",
    NoFolder = "no-folder",
    NoPermission = "no-permission",
    NoProject = "no-project",
    NoReleasesAccepted = "no-releases-accepted",
    NoSource = "no-source",
    NoSuchAdvisory = "no-such-advisory",
    NoSuchCheck = "no-such-check",
    NoSuchEdit = "no-such-edit",
    NoSuchNeed = "no-such-need",
    NoSuchProject = "no-such-project",
    NoSuchProposal = "no-such-proposal",
    NoSuchRegistry = "no-such-registry",
    NoSuchRelease = "no-such-release",
    NoSuchRevision = "no-such-revision",
    NoSuchSource = "no-such-source",
    NoVersion = "no-version",
    NotALockfile = "not-a-lockfile",
    NotAccepted = "not-accepted",
    NotAltered = "not-altered",
    NotCommitted = "not-committed",
    NotDismissed = "not-dismissed",
    NotInCache = "not-in-cache",
    NotInGit = "not-in-git",
    NotInstalled = "not-installed",
    NothingToCompare = "nothing-to-compare",
    NothingToMerge = "nothing-to-merge",
    NothingToUndo = "nothing-to-undo",
    NotLocked = "not-locked",
    NotMerged = "not-merged",
    NotOpen = "not-open",
    NotOurs = "not-ours",
    NotPacked = "not-packed",
    NotShareable = "not-shareable",
    Numbering = "numbering",
    OlderVersion = "older-version",
    OtherTool = "other-tool",
    OutOfReach = "out-of-reach",
    OutOfTime = "out-of-time",
    PatchRejected = "patch-rejected",
    PatchSyntax = "patch-syntax",
    PatchUnreadable = "patch-unreadable",
    Path = "path",
    ProposalGit = "proposal-git",
    RegistryBroken = "registry-broken",
    RegistryLaterFormat = "registry-later-format",
    RegistryMissing = "registry-missing",
    RegistryOccupied = "registry-occupied",
    Republished = "republished",
    Separator = "separator",
    SourceArchiveMissing = "source-archive-missing",
    SourceBroken = "source-broken",
    SourceMissing = "source-missing",
    SourceUnreachable = "source-unreachable",
    Statements = "statements",
    Stopped = "stopped",
    TreeDiffers = "tree-differs",
    UnknownPackage = "unknown-package",
    UnknownPurpose = "unknown-purpose",
    UnknownSource = "unknown-source",
    Usage = "usage",
    VariableRefused = "variable-refused",
    Version = "version",
    Workspace = "workspace",
}
