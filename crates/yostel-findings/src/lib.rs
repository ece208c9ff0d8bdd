//! What can be told of a lockfile: what is outdated, what is there twice, what moved. Pure functions over values.
//!
//! # Examples
//! ```
//! # use yostel_documents::{Manifest, Origin, PackageDocument, PackageName, Word};
//! # use yostel_resolve::{Arrival, Outcome, Problem, Resolver, Step};
//! #
//! # let manifest = Manifest::parse("[project]\nname = 'console'\n[needs.run]\ngust = '^2'\n").unwrap();
//! # let mut resolver = Resolver::new(Problem { requirements: manifest.requirements(), ..Problem::default() });
//! # let mut arrived = Vec::new();
//! # let resolution = loop {
//! #     match resolver.step(std::mem::take(&mut arrived)).unwrap() {
//! #         // Whoever has the documents hands them in, in any order.
//! #         Step::Need(packages) => arrived.extend(packages.into_iter().map(|package| {
//! #             let artifact = format!(r#"{{"platform":"any","digest":"{0}","size":1,"tree":"{0}"}}"#, format!("sha256:{}", "0".repeat(64)));
//! #             let release = |version: &str| format!(r#"{{"record":{{"version":"{version}","published":"2026-01-01T00:00:00Z","artifacts":[{artifact}]}}}}"#);
//! #             let text = format!(r#"{{"format":1,"name":"{package}","releases":[{},{}]}}"#, release("2.1.0"), release("3.0.0"));
//! #             let document = PackageDocument::parse(&text, &package).unwrap();
//! #             Arrival { package, found: Some((Origin::Source(Word::parse("station").unwrap()), document)) }
//! #         })),
//! #         Step::Going(_) => {}
//! #         Step::Done(Outcome::Resolved(resolution)) => break resolution,
//! #         Step::Done(other) => panic!("{other:?}"),
//! #     }
//! # };
//! use yostel_documents::Declared;
//! use yostel_findings::{MoveKind, compare};
//!
//! // With a resolution, as the example of `yostel_resolve` makes it:
//! let lockfile = resolution.to_lockfile(&Declared::from(manifest.requirements()));
//! let moves = compare(None, &lockfile);
//! assert!(matches!(&moves[0].kind, MoveKind::Added { to } if to.as_str() == "2.1.0"));
//! assert!(compare(Some(&lockfile), &lockfile).is_empty());
//! ```

#![deny(missing_docs)]

mod audit;
mod baseline;
mod bill;
mod compare;
mod comparison;
mod culprit;
mod drift;
mod finding;
mod graph;
mod kind;
mod merge;
mod merge_needs;
mod needs;
mod proposals;
mod remedy;
mod spot;
mod ways;

pub use audit::{
    Advised, Advisories, Affectable, Ancestry, AtCommit, Concern, ConcernKind, Debt, Dedupe, Dismissed, Dismissing,
    Duplicate, Holder, LicenceTrouble, Listings, News, Notice, Outdated, Places, Published, Quiet, Rating, Threat,
    Trial, Unlicensed, UnreadAdvisory, Upkeep, UpkeepRule, WayOut, dismissing, duplicates, identities_of, is_affected,
    is_commit_affected, is_exception_needed, lower_bounds, news_between, no_provenance, notices, only_here, outdated,
    quiet, severity_of, threats, too_young, unbounded, unlicensed,
};
pub use baseline::{Bar, Judged, Standing, Verdict, judge, renewed};
pub use bill::{Bill, Needed, Part, PatchOf, Subject, bill, is_of_the_world, package_url, without_credentials};
pub use compare::{Move, MoveKind, compare};
pub use comparison::{Cause, Compared, Comparison, NeedChange, comparison};
pub use culprit::{Blame, Next as NextTries, Verdict as CheckVerdict, Verdicts, blame, next as next_tries};
pub use drift::{Drift, Lag, LockedRelease, Told, years};
pub use finding::{AuditReport, Finding, Matter, Origins};
pub use graph::{
    Change, Folding, Graph, GraphEdge, GraphNode, Layout, Left, Mark, NodeKind, Rect, folded, graph, lay_out,
};
pub use kind::{FindingGroup, FindingKind};
pub use merge::{BothMoved, Merged, merge};
pub use merge_needs::{BothAsk, MergedNeeds, NeedKey, merge_needs};
pub use proposals::{Candidate, ProposalLimits, ProposalState, ProposalStep, Proposed, proposal_steps};
pub use remedy::{Remedy, TextEdit};
pub use spot::Spot;
