//! One function a use case, joining the rooms below.
//!
//! A flow takes values, reports to an [`Observer`] and returns a value or a [`FlowError`]. It never prints, never
//! exits, and never reads arguments, the environment or the clock: those come in by [`Settings`].

#![deny(missing_docs)]

mod alter;
mod cache;
mod compose;
mod declare;
mod elsewhere;
mod environment;
mod error;
mod explain;
mod give;
mod install;
mod join;
mod launchers;
mod lock;
mod look;
mod observer;
mod patches;
mod places;
mod project;
mod proposal;
mod republished;
mod settle;
mod trust;
mod upkeep;
mod workspace;

pub use alter::{Changes, Dropped, Kept, Opened, drop_alter, keep_alter, open_alter, show_alter};
pub use cache::{cache_stats, list_cache, load_kit, prune_cache, save_kit, verify_cache};
pub use compose::{Selection, plan_of};
pub use declare::{
    AddReport, AddRequest, AddedElsewhere, AgreeReport, InitRequest, RemoveReport, TakeFrom, add, add_elsewhere, agree,
    init, remove,
};
pub use environment::{Environment, environment, where_is};
pub use error::{FlowClass, FlowError, ForeignProblem, NotAltered, PatchProblem, PathProblem, RulePlace, WishPlace};
pub use explain::{Counterfactual, ExplainReport, Instead, explain};
pub use give::{contents, create_registry, publish, take_back, withdraw};
pub use install::{InstallReport, InstallRequest, VerifyReport, install, put_back, verify};
pub use join::Joining;
pub use lock::{Keep, LockReport, LockRequest, SearchReport, Standing, Write, lock};
pub use look::{AuditReport, ListReport, ListRow, MOST_LEVELS, Tree, TreeNode, audit, list, tree};
pub use observer::{Event, Observer, Silent};
pub use patches::Patches;
pub use project::{
    LOCKFILE_NAME, LoadedProject, MANIFEST_NAME, Settings, current_platform, load_lockfile, load_manifests,
    load_project,
};
pub use proposal::Proposal;
pub use republished::{Republished, Seen};
pub use settle::{Settlement, apply_settlement, settle};
pub use trust::{LockCheck, check_lock};
pub use upkeep::{Debt, Upkeep, UpkeepRule};
pub use yostel_sources::Patience;

pub use workspace::{ProjectFile, WorkspaceProblem, in_order_of_needs};
