//! Installing: from a lockfile's packages to a project's `.yostel`, exactly or not at all. Carries out docs/formats.md §8.

mod apply;
mod inventory;
mod launch;
mod links;
mod open;
mod plan;
mod project;

pub use apply::{Installed, ReplacedPackage};
pub use inventory::{InstalledPackage, Inventory};
pub use launch::{LAUNCH, Launchers};
pub use open::{OpenPackage, altered_folder, dropped_patch};
pub use plan::{InstallPlan, Link, PlannedAlteration, PlannedPackage};
pub use project::{Differing, HeldProject, Placing, Project, Trust};

/// The folder inside a project that holds what is installed. Nothing outside it is written.
pub const STATE_FOLDER: &str = ".yostel";
