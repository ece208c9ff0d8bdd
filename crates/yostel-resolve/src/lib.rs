//! From what projects need to one consistent set of releases, or to what keeps it out; and the second opinion on
//! both. Pure functions over values.
//!
//! # Examples
//! ```
//! use yostel_documents::{Manifest, Origin, PackageDocument, PackageName, Word};
//! use yostel_resolve::{Arrival, Outcome, Problem, Resolver, Step};
//!
//! let manifest = Manifest::parse("[project]\nname = 'console'\n[needs.run]\ngust = '^2'\n").unwrap();
//! let mut resolver = Resolver::new(Problem { requirements: manifest.requirements(), ..Problem::default() });
//! let mut arrived = Vec::new();
//! let resolution = loop {
//!     match resolver.step(std::mem::take(&mut arrived)).unwrap() {
//!         // Whoever has the documents hands them in, in any order.
//!         Step::Need(packages) => arrived.extend(packages.into_iter().map(|package| {
//!             let artifact = format!(r#"{{"platform":"any","digest":"{0}","size":1,"tree":"{0}"}}"#, format!("sha256:{}", "0".repeat(64)));
//!             let release = |version: &str| format!(r#"{{"record":{{"version":"{version}","published":"2026-01-01T00:00:00Z","artifacts":[{artifact}]}}}}"#);
//!             let text = format!(r#"{{"format":1,"name":"{package}","releases":[{},{}]}}"#, release("2.1.0"), release("3.0.0"));
//!             let document = PackageDocument::parse(&text, &package).unwrap();
//!             Arrival { package, found: Some((Origin::Source(Word::parse("station").unwrap()), document)) }
//!         })),
//!         Step::Going(_) => {}
//!         Step::Done(Outcome::Resolved(resolution)) => break resolution,
//!         Step::Done(other) => panic!("{other:?}"),
//!     }
//! };
//! assert_eq!(resolution.chosen[&PackageName::parse("gust").unwrap()].release.version.as_str(), "2.1.0");
//! ```

#![deny(missing_docs)]

mod ahead;
mod assumed;
mod certify;
mod collision;
mod edits;
mod encode;
mod explain;
mod fewest;
mod kept;
mod known;
mod layers;
mod lock;
mod narrowed;
mod objective;
mod overridden;
mod problem;
mod resolution;
mod resolver;
mod rule_edit;
mod satisfies;
mod settle;
mod settling;
mod why;

pub use ahead::Ahead;
pub use certify::{Certificate, Formula};
pub use collision::{Collision, Fact, LinesApart, Minimality, RoleClash, WithinReach};
pub use edits::{EditRules, EditSet, ROOM_FOR_WISHED, RequirementEdit};
pub use known::Arrival;
pub use objective::Phase;
pub use overridden::{Overridden, overridden};
pub use problem::{Barred, MinimumAge, Problem, Rules, requirements_of};
pub use resolution::{Choice, Resolution};
pub use resolver::{Outcome, ResolveError, Resolver, SearchStats, Step, Unfinished};
pub use rule_edit::RuleEdit;
pub use satisfies::{Violation, satisfies};
pub use settle::{Drive, Ended, settle};
pub use settling::{Extent, Settled, Settling};
pub use why::{NotTaken, Reason, Why, why};
