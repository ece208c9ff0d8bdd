//! Findings over a locked set: what is outdated, what is there twice, what is dangerous, what is said of releases since they
//! were published, which rules are due for review.

mod advisories;
mod duplicates;
mod licences;
mod notices;
mod outdated;
mod quiet;
mod upkeep;
mod way_out;

pub use advisories::{Published, Rating, Threat, affects, is_affected, severity_of, threats};
pub use duplicates::{Dedupe, Duplicate, duplicates};
pub use licences::{LicenceTrouble, Unlicensed, is_exception_needed, unlicensed};
pub use notices::{Notice, notices};
pub use outdated::{Holder, Outdated, Trial, outdated};
pub use quiet::{Quiet, quiet};
pub use upkeep::{Debt, Upkeep, UpkeepRule};
pub use way_out::{Advised, UnreadAdvisory, WayOut};
