//! One function a use case, joining the rooms below.
//!
//! A flow takes values, reports to an [`Observer`] and returns a value or a [`FlowError`]. It never prints, never
//! exits, and never reads arguments, the environment or the clock: those come in by [`Settings`].
//!
//! # Examples
//! ```
//! use std::sync::Arc;
//! use yostel_documents::PackageName;
//! use yostel_flows::{
//!     Context, DiskFiles, InitRequest, Journal, LockRequest, Patience, RealSources, Settings, Silent, current_platform, init,
//!     load_project, lock,
//! };
//! use yostel_versions::{Order, Version};
//!
//! let folder = tempfile::tempdir().unwrap();
//! let settings = Settings {
//!     cache: folder.path().join("cache"),
//!     now: jiff::Timestamp::UNIX_EPOCH,
//!     platform: current_platform(),
//!     tool: Version::parse("0.1.0", &Order::Semver).unwrap(),
//!     patience: Patience::default(),
//!     credentials: Arc::new(yostel_sources::NoCredentials),
//!     offline: false,
//!     sources: Arc::new(RealSources),
//!     files: Arc::new(DiskFiles),
//!     journal: Arc::new(Journal::default()),
//! };
//! let context = Context::new(&settings, &Silent);
//! init(folder.path(), &InitRequest { name: PackageName::parse("console").unwrap(), source: None }, &context).unwrap();
//! let project = load_project(folder.path(), &settings).unwrap();
//! let report = lock(&project, LockRequest::default(), &context).unwrap();
//! assert_eq!((report.packages, report.written), (0, true));
//! ```

#![deny(missing_docs)]

mod content;
mod context;
mod decide;
mod declare;
mod error;
mod keep;
mod look;
mod moving;
mod observer;
mod plan;
mod project;
mod search;
mod share;
mod using;

pub use content::trust::{LockCheck, check_lock};
pub use context::{Context, Settings, current_platform};
pub use decide::doubts::Doubt;
pub use decide::for_git::{merge_lockfiles_for_git, merge_manifests_for_git};
pub use decide::lock::{LockReport, LockRequest, Write, lock};
pub use decide::merge::Sides;
pub use decide::settle::{SettleRequest, Settlement, Settlements, settle};
pub use declare::add::{AddReport, AddRequest, AddedElsewhere, TakeFrom, add, add_elsewhere};
pub use declare::agree::{AgreeReport, agree};
pub use declare::git::{GitReport, prepare_git};
pub use declare::init::{InitReport, InitRequest, init};
pub use declare::remove::{RemoveReport, remove};
pub use declare::sources::{
    SourceAdded, SourceDoubt, SourceRemoved, SourceRequest, SourceSeen, forget_source, name_source, sources,
};
pub use error::{
    ChangeError, ContentError, FlowClass, FlowError, ForeignProblem, InstallError, LockError, NotAltered, PatchProblem,
    PathProblem, ProjectError, ProposalError, Republished, RequirementPlace, RulePlace, SearchError, SearchReport,
    Seen, Standing, UndoError, WorkspaceProblem,
};
pub use keep::cache::{cache_stats, list_cache, prune_cache, verify_cache};
pub use keep::kit::{SaveRequest, SavedKit, load_kit, save_kit};
pub use look::audit::{AuditRequest, Behind, BehindOrder, audit};
pub use look::baseline::{read_baseline, write_baseline};
pub use look::compare::{CompareReport, Side, compare_lockfiles, compare_texts};
pub use look::drift::{DriftPoint, DriftReport, drift};
pub use look::explain::{Counterfactual, ExplainReport, Instead, explain};
pub use look::graph::{GraphReport, GraphRequest, MOST_NODES, graph_of};
pub use look::list::{ListReport, ListRow, list};
pub use look::picture::write_picture;
pub use look::releases::{ReleaseSeen, ReleasesReport, releases};
pub use look::report::{ProjectReport, ReportedPackage, report_of};
pub use look::statements::{DismissReport, DismissRequest, Saying, dismiss};
pub use look::tree::{MOST_LEVELS, Tree, TreeNode, TreeRequest, tree};
pub use look::under::{Audited, AuditedProject, UnderReport, audit_under};
pub use look::upward::{AskerNode, Upward, upward};
pub use moving::aim::UpdateRequest;
pub use moving::alternatives::Alternative;
pub use moving::constraints::ConstraintMove;
pub use moving::culprit::{Blamed, CheckInRoom, CheckOfLock, CulpritReport, CulpritRequest, culprit, culprit_by};
pub use moving::import::intake::Names;
pub use moving::import::take::{
    ConstraintStyle, ImportReport, ImportRequest, NotKept, WhyNotKept, begin_project, import,
};
pub use moving::propose::decide::{Decision, decide, proposals};
pub use moving::propose::run::{Describe, Draft, ProposeReport, ProposeRequest, Stepped, WhyLeft, propose};
pub use moving::scratch::{CheckPlace, CheckRoom, Ran};
pub use moving::tested::{Checked, RunCheck, Tested, Tester, With};
pub use moving::undo::{PastChange, Restored, UndoReport, UndoRequest, past_changes, undo};
pub use moving::update::{UpdateReport, update, update_tested};
pub use observer::{Event, Observer, Silent};
pub use plan::compose::{Selection, plan_of};
pub use plan::launchers::quoted;
pub use project::files::{DiskFiles, Files, LOCKFILE_NAME, MANIFEST_NAME, MOST_LOCKFILE, OpenFiles, STATEMENTS_NAME};
pub use project::journal::Journal;
pub use project::patches::Patches;
pub use project::read::{load_lockfile, load_manifests, load_project};
pub use project::{LoadedProject, ProjectFile};
pub use search::drive::MOST_EDIT_SETS;
pub use search::proposal::Proposal;
pub use search::rules::Keep;
pub use share::bill::bill_of_materials;
pub use share::copy::{CopyFrom, CopyReport, CopyWhat, Renamed, copy_registry};
pub use share::publish::{PublishReport, PublishRequest, PublishedPackage, publish};
pub use share::registry::{contents, create_registry, write_index};
pub use share::target::RegistryTarget;
pub use share::tried::NeedsVerdict;
pub use share::withdraw::{SayingWhat, say_of_release};
pub use using::alter::{Changes, Dropped, Kept, Opened, drop_alter, keep_alter, open_alter, show_alter};
pub use using::checks::{CheckIn, checks_here, checks_of};
pub use using::environment::{Environment, environment, environment_for};
pub use using::install::{InstallReport, InstallRequest, install, install_again};
pub use using::order::in_order_of_needs;
pub use using::verify::{VerifyReport, put_back, verify};
pub use using::r#where::where_is;
pub use yostel_registry::CopiedPackage;
pub use yostel_sources::{Ended, OpenSource, Patience, RealSources, run_alone};
