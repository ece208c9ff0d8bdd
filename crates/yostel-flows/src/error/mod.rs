//! Everything a flow can fail with. Each error carries the values a sentence needs; the words are the command line's.

mod class;
pub(crate) mod told;

pub use class::FlowClass;

use std::io;
use std::ops::Range;
use std::path::PathBuf;

use yostel_documents::{
    Difference, Dispute, EditError, LockfileError, ManifestProblem, Origin, PackageName, Purpose, SourceName,
};
use yostel_files::FileError;
use yostel_registry::RegistryError;
use yostel_resolve::{Collision, ResolveError};
use yostel_sources::{ArchiveError, GitError, SourceError};
use yostel_store::AdmitError;
use yostel_versions::{BindError, ConstraintText, Version};

use crate::error::told::{
    ForeignProblem, NotAltered, PatchProblem, PathProblem, Republished, RequirementPlace, RulePlace, Seen,
    WorkspaceProblem,
};

/// Why a flow failed.
#[derive(Debug, thiserror::Error)]
pub enum FlowError {
    /// A carry-kit was not taken in, or could not be made.
    #[error("{}: {error}", path.display())]
    Kit {
        /// The file.
        path: PathBuf,
        /// Why.
        error: yostel_store::KitError,
    },
    /// No set was found in the time given, and none was ruled out.
    #[error("no consistent set was found within {} s, but there may be one", .0.as_secs_f64())]
    OutOfTime(std::time::Duration),
    /// The observer wanted it to stop. What it had done by then is done whole, or not at all.
    #[error("stopped")]
    Stopped,
    /// No manifest here or above.
    #[error("there is no yostel.toml in {} or above it", .0.display())]
    NoProject(PathBuf),
    /// A file cannot be read.
    #[error("cannot read {}", path.display())]
    Read {
        /// Which.
        path: PathBuf,
        /// Why.
        #[source]
        cause: io::Error,
    },
    /// The manifest has problems.
    #[error("{} has {} problem(s)", path.display(), problems.len())]
    Manifest {
        /// Its file.
        path: PathBuf,
        /// Its text.
        text: String,
        /// The problems, in the order of the text.
        problems: Vec<ManifestProblem>,
    },
    /// The workspace's projects are not what its manifest says, or contradict each other.
    #[error("{problem}")]
    Workspace {
        /// The manifest's file.
        path: PathBuf,
        /// Its text.
        text: String,
        /// Byte range of what is wrong; empty when it is in no one place.
        span: Range<usize>,
        /// What it is.
        problem: Box<WorkspaceProblem>,
    },
    /// The workspace has no project of that name.
    #[error("there is no project {name} here")]
    NoSuchProject {
        /// The name.
        name: PackageName,
        /// Those there are.
        known: Vec<PackageName>,
    },
    /// A package in a folder cannot be used.
    #[error("{package} cannot be taken from {}: {problem}", folder.display())]
    Path {
        /// The package.
        package: PackageName,
        /// The folder.
        folder: PathBuf,
        /// Why.
        problem: PathProblem,
    },
    /// A package cannot be fetched from its repository.
    #[error("{package}: {error}")]
    Git {
        /// The package.
        package: PackageName,
        /// The commit that is locked, when one is.
        commit: Option<String>,
        /// Why.
        error: GitError,
    },
    /// A package cannot be fetched from the address of its archive.
    #[error("{package}: {error}")]
    Archive {
        /// The package.
        package: PackageName,
        /// Why.
        error: ArchiveError,
    },
    /// The manifest of a package from elsewhere cannot be used.
    #[error("{package}, {place}: {problem}")]
    Foreign {
        /// The package.
        package: PackageName,
        /// Where it is from.
        place: String,
        /// Why.
        problem: ForeignProblem,
    },
    /// The project wants another version of the tool.
    #[error("{project} wants yostel {accept}, this is {found}")]
    OtherTool {
        /// The project.
        project: PackageName,
        /// What it wants.
        accept: ConstraintText,
        /// What this is.
        found: Version,
    },
    /// There is a manifest already.
    #[error("{} is already there", .0.display())]
    AlreadyAProject(PathBuf),
    /// There is no lockfile.
    #[error("there is no {}", .0.display())]
    NoLockfile(PathBuf),
    /// The lockfile cannot be used.
    #[error("{}: {error}", path.display())]
    Lockfile {
        /// Its file.
        path: PathBuf,
        /// Its text.
        text: String,
        /// What is wrong.
        error: LockfileError,
    },
    /// The lockfile does not fit the manifest.
    #[error("the lockfile no longer fits the manifest")]
    Stale(Vec<Difference>),
    /// The manifest names no source.
    #[error("the manifest names no source")]
    NoSources,
    /// No source knows a package.
    #[error("no source knows {package}")]
    UnknownPackage {
        /// The package.
        package: PackageName,
        /// Who needs it and where that is, when it is in a manifest.
        requirement: Option<Box<RequirementPlace>>,
        /// The name that was probably meant.
        near: Option<PackageName>,
        /// The sources asked.
        sources: Vec<SourceName>,
    },
    /// A constraint does not fit the package's numbering.
    #[error("{package} {accept}: {cause}")]
    Unreadable {
        /// The package.
        package: PackageName,
        /// The constraint.
        accept: ConstraintText,
        /// Where it is, when it is in a manifest.
        requirement: Option<Box<RequirementPlace>>,
        /// Why it does not fit.
        cause: BindError,
    },
    /// A constraint accepts nothing that there is.
    #[error("no release of {package} meets {accept}")]
    AcceptsNothing {
        /// The package.
        package: PackageName,
        /// The constraint.
        accept: ConstraintText,
        /// What there is, rising.
        known: Vec<Version>,
    },
    /// No set of packages meets the needs.
    #[error("no set of packages meets all needs")]
    Collision {
        /// What collides.
        collision: Box<Collision>,
        /// Where the needs are.
        places: Vec<RequirementPlace>,
        /// What the manifest says about packages of the collision wherever they turn up, and where.
        rules: Vec<RulePlace>,
        /// The folder a proof was written to, when one was asked for.
        proof: Option<PathBuf>,
    },
    /// Packages of the lockfile are folders of this machine, and the lockfile is for others too.
    #[error("only this machine has {} of the packages", .0.len())]
    NotShareable(Vec<(PackageName, Origin)>),
    /// A package is forced to a version that is not what is agreed.
    #[error("{package} is forced to {forced}, but {agreed} is agreed")]
    ForcedOutsideAgreed {
        /// The package.
        package: PackageName,
        /// The version it is forced to.
        forced: Version,
        /// What is agreed.
        agreed: ConstraintText,
        /// The manifest's file.
        path: PathBuf,
        /// Its text.
        text: String,
        /// Byte range of the forced package in it.
        span: Range<usize>,
    },
    /// A package offers a variable that loads code into other programs, or leads tools elsewhere.
    #[error("{package} {version} offers {variable}, which can load code into other programs or lead tools elsewhere")]
    Variable {
        /// The package.
        package: PackageName,
        /// Its version.
        version: Version,
        /// The variable.
        variable: String,
    },
    /// A folder of a package cannot be in PATH or another variable.
    #[error("{} holds `:`, which separates folders in PATH and other variables", .0.display())]
    Separator(PathBuf),
    /// What would be locked could not be read back, so it is not written.
    #[error("the lockfile could not be read back: {problem}")]
    NotReadableBack {
        /// The package with the longest constraint, who asks with it, and how long it is, in bytes.
        longest: Option<(PackageName, String, usize)>,
        /// What reading it said.
        problem: String,
    },
    /// What the lockfile says of releases is not so.
    #[error("{} thing(s) that the lockfile says are not so", .0.len())]
    Disputed(Vec<Dispute>),
    /// The resolver broke its own rules.
    #[error(transparent)]
    WrongAnswer(ResolveError),
    /// Releases that are locked were published again with other content.
    #[error("{} locked release(s) were published again with other content", .0.len())]
    Republished(Vec<Republished>),
    /// A source failed.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// The lockfile names a source that the manifest does not.
    #[error("{package} is locked to source {source_name}, which the manifest does not name")]
    UnknownSource {
        /// The package.
        package: PackageName,
        /// The source.
        source_name: String,
    },
    /// An archive or tree was refused.
    #[error("{package}: {error}")]
    Admit {
        /// The package.
        package: PackageName,
        /// Its version, where that is known before it is looked into.
        version: Option<Version>,
        /// Where it came from.
        place: String,
        /// When the right content was here, if it ever was.
        seen: Option<Seen>,
        /// Why.
        error: AdmitError,
    },
    /// Offline, and the cache does not have it.
    #[error("{} package(s) are not in the cache", .0.len())]
    NotInCache(Vec<(PackageName, Version)>),
    /// No artifact for this machine.
    #[error("{package} {version} has nothing for {wanted}")]
    NoArtifact {
        /// The package.
        package: PackageName,
        /// Its version.
        version: Version,
        /// This machine's platform.
        wanted: String,
        /// What there is.
        offered: Vec<String>,
    },
    /// A need would deviate from what is agreed without saying why, or says why and nothing is agreed.
    #[error("{package} would deviate from what is agreed")]
    Deviates {
        /// The package.
        package: PackageName,
        /// What is agreed.
        agreed: Option<ConstraintText>,
    },
    /// The project has no needs for a purpose.
    #[error("nothing is needed for {purpose}")]
    UnknownPurpose {
        /// The purpose.
        purpose: Purpose,
        /// Those it has needs for.
        known: Vec<Purpose>,
    },
    /// The project is not installed.
    #[error("nothing is installed here")]
    NotInstalled,
    /// The package is not part of the project.
    #[error("{package} is not part of this project")]
    NotLocked {
        /// The package.
        package: PackageName,
        /// The name that was probably meant.
        near: Option<PackageName>,
    },
    /// The package has no such release.
    #[error("{package} has no release {version}")]
    NoSuchVersion {
        /// The package.
        package: PackageName,
        /// The version asked for.
        version: String,
        /// Those there are, rising.
        known: Vec<Version>,
    },
    /// The manifest cannot be edited so.
    #[error(transparent)]
    Edit(#[from] EditError),
    /// A registry failed.
    #[error(transparent)]
    Registry(#[from] RegistryError),
    /// The store failed.
    #[error(transparent)]
    Store(#[from] FileError),
    /// A patch that the manifest names cannot be used.
    #[error("the patch of {package} cannot be used")]
    Patch {
        /// The package.
        package: PackageName,
        /// The patch's file.
        path: PathBuf,
        /// Its text.
        text: String,
        /// Why.
        problem: PatchProblem,
    },
    /// There are no local changes to speak of, or they cannot be kept.
    #[error("{package}: {why}")]
    NotAltered {
        /// The package.
        package: PackageName,
        /// Why.
        why: NotAltered,
    },
    /// More than one failure, of one piece of work over many things. Never empty.
    #[error("{} failures", .0.len())]
    Several(Vec<FlowError>),
}

impl FlowError {
    /// Joins failures: one stays itself.
    pub(crate) fn several(mut errors: Vec<Self>) -> Self {
        if errors.iter().any(|error| matches!(error, Self::Stopped)) {
            return Self::Stopped;
        }
        if errors.len() == 1 { errors.remove(0) } else { Self::Several(errors) }
    }
}
