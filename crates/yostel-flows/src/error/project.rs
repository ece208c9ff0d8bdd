//! Projects: manifests, workspaces, folders named in them.

use std::io;
use std::ops::Range;
use std::path::PathBuf;

use yostel_documents::{BaselineError, EditError, ManifestProblem, PackageName, Purpose, Word};
use yostel_versions::{ConstraintText, Version};

/// Why a project cannot be read, or its manifest not be written.
#[derive(Debug, thiserror::Error)]
pub enum ProjectError {
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
    /// A file that should be written holds something that this program did not write.
    #[error("{} holds something else", .0.display())]
    NotOurs(PathBuf),
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
    /// No manifest of the project has a check.
    #[error("{} has no [checks]", .0.display())]
    NoChecks(PathBuf),
    /// There is no check of this name.
    #[error("there is no check named {name}")]
    NoSuchCheck {
        /// The name.
        name: Word,
        /// The names that there are.
        known: Vec<Word>,
    },
    /// A check is to be run in a project that the workspace does not have.
    #[error("the check {check} is to run in `{pattern}`, and no project is called that")]
    CheckNowhere {
        /// The check.
        check: Word,
        /// What is said of the project's name.
        pattern: String,
    },
    /// A folder is in no repository of git's, or git cannot be told anything there.
    #[error("{} is in no repository of git's that can be set up", folder.display())]
    NotInGit {
        /// The folder.
        folder: PathBuf,
        /// What git said.
        said: String,
    },
    /// A manifest or the lockfile was changed by somebody else while it was worked on.
    #[error("{} was changed meanwhile", .0.display())]
    ChangedMeanwhile(PathBuf),
    /// A project would need itself.
    #[error("{0} cannot need itself")]
    NeedsItself(PackageName),
    /// There is a manifest already.
    #[error("{} is already there", .0.display())]
    AlreadyAProject(PathBuf),
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
    /// There is no baseline where one should be.
    #[error("there is no {}", .0.display())]
    NoBaseline(PathBuf),
    /// A baseline has a problem.
    #[error("{}: {}", path.display(), error.says)]
    Baseline {
        /// Its file.
        path: PathBuf,
        /// Its text.
        text: String,
        /// What is wrong.
        error: BaselineError,
    },
    /// A document that should have statements on advisories has none.
    #[error("{}: {why}", path.display())]
    Statements {
        /// Its file.
        path: PathBuf,
        /// What is wrong, in words.
        why: String,
    },
    /// No advisory of this name affects what is locked.
    #[error("no advisory {id} affects what is locked")]
    NoSuchAdvisory {
        /// The name.
        id: String,
        /// The packages that were meant; none for all.
        packages: Vec<PackageName>,
    },
    /// There is nothing to take back.
    #[error("{} says nothing of {id}", path.display())]
    NotDismissed {
        /// The advisory's name.
        id: String,
        /// The document.
        path: PathBuf,
    },
    /// A day until which something should count is past.
    #[error("{0} is past")]
    Past(jiff::civil::Date),
    /// The manifest cannot be edited so.
    #[error(transparent)]
    Edit(#[from] EditError),
}

/// What is wrong with a workspace.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum WorkspaceProblem {
    /// An entry names a folder without a manifest.
    #[error("there is no project in {0}")]
    NoProject(String),
    /// Two entries name one folder.
    #[error("{folder} is listed twice, by `{by}` too")]
    Twice {
        /// The folder.
        folder: String,
        /// The other entry.
        by: String,
    },
    /// A link that leads in a circle.
    #[error("{0} is a link that leads in a circle")]
    Circle(String),
    /// Two projects have one name.
    #[error("{one} and {other} are both named {name}")]
    SameName {
        /// The name.
        name: PackageName,
        /// The folder of the one.
        one: String,
        /// The folder of the other.
        other: String,
    },
    /// Two projects take one package from two places.
    #[error("{package} is taken from two places, by {one} and by {other}")]
    TwoPlaces {
        /// The package.
        package: PackageName,
        /// Where the one takes it from.
        one: String,
        /// Where the other does.
        other: String,
    },
}

/// Why a package in a folder cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PathProblem {
    /// There is no such folder.
    #[error("there is no such folder")]
    NoFolder,
    /// It holds another package.
    #[error("it holds {0}")]
    OtherName(PackageName),
}
