//! Findings over a locked set: what is outdated, what is there twice, what is dangerous, what is said of releases since they
//! were published, which rules are due for review.

mod advisories;
mod affected;
mod concern;
mod dismissed;
mod duplicates;
mod licences;
mod notices;
mod outdated;
mod quiet;
mod rating;
mod similar;
mod upkeep;
mod way_out;

pub use advisories::{Advisories, Affectable, Published, Threat, identities_of, threats};
pub use affected::{Ancestry, AtCommit, is_affected, is_commit_affected};
pub use concern::{Concern, ConcernKind, Places, lower_bounds, no_provenance, only_here, too_young, unbounded};
pub use dismissed::{Dismissed, Dismissing, dismissing};
pub use duplicates::{Dedupe, Duplicate, duplicates};
pub use licences::{LicenceTrouble, Unlicensed, is_exception_needed, unlicensed};
pub use notices::{Notice, notices};
pub use outdated::{Holder, News, Outdated, Trial, news_between, outdated};
pub use quiet::{Quiet, quiet};
pub use rating::{Rating, severity_of};
pub use similar::Listings;
pub use upkeep::{Debt, Upkeep, UpkeepRule};
pub use way_out::{Advised, UnreadAdvisory, WayOut};
