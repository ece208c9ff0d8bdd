//! Installs: what is there, and the environment made of it.

use std::path::PathBuf;

use yostel_documents::PackageName;
use yostel_versions::Version;

/// Why what is installed cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum InstallError {
    /// The project is not installed.
    #[error("nothing is installed here")]
    NotInstalled,
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
}
