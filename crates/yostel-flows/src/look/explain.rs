//! Why a package is here and at this version, and what would have to move for another.

use std::collections::BTreeSet;

use yostel_documents::{Asker, Declared, Lockfile, PackageDocument, PackageName, Requirement, run_purpose};
use yostel_findings::{Move, Notice, notices};
use yostel_resolve::{Collision, Outcome, Problem, Reason, Resolver, Why, why};
use yostel_sources::SourceSet;
use yostel_versions::{ConstraintText, Version};

use crate::content::ask::documents_of;
use crate::context::Context;
use crate::error::{FlowError, LockError, RequirementPlace, RulePlace, SearchError};
use crate::project::LoadedProject;
use crate::project::prepared::Prepared;
use crate::search::drive::drive;
use crate::search::places::{places_of, rules_about};
use crate::search::proposal::moves_to;
use crate::search::rules::{Keep, rules_of, versions_of};

/// What was found out about a package.
#[derive(Debug)]
pub struct ExplainReport {
    /// Why it is as it is.
    pub why: Why,
    /// What another version would take, when one was asked about or suggests itself.
    pub instead: Option<Instead>,
    /// What is said of the locked release since it was published.
    pub notice: Option<Notice>,
    /// Whether its version is forced.
    pub forced: bool,
    /// The packages that were asked for and for which it stands in.
    pub stands_in_for: BTreeSet<PackageName>,
    /// Whether it is changed locally.
    pub altered: bool,
}

/// What another version would take.
#[derive(Debug)]
pub struct Instead {
    /// The version asked about.
    pub version: Version,
    /// Needs of the project itself that do not accept it, and were left out: it can change those.
    pub set_aside: Vec<Requirement>,
    /// Whether the manifest forces a version of the package, which was left out as well.
    pub unforced: bool,
    /// Whether it is possible, and what that would move.
    pub outcome: Counterfactual,
}

/// Whether a version is possible.
#[derive(Debug)]
pub enum Counterfactual {
    /// It is, and this would move, the package itself among it; with the fewest others.
    Possible(Vec<Move>),
    /// It is not: these collide, the version itself among the needs.
    Impossible {
        /// What collides.
        collision: Box<Collision>,
        /// The need that stands for the version asked about.
        demand: Requirement,
        /// Where the other needs are.
        places: Vec<RequirementPlace>,
        /// What the manifest says that bears on it, and where.
        rules: Vec<RulePlace>,
    },
}

/// Explains a locked package; with `other`, resolves with that version demanded.
///
/// # Errors
/// `NotLocked`, `NoSuchVersion`, and whatever loading the lockfile and asking the sources refuse.
pub fn explain(
    project: &LoadedProject,
    package: &PackageName,
    other: Option<&str>,
    context: &Context<'_>,
) -> Result<ExplainReport, FlowError> {
    let Prepared { lockfile, declared, .. } = project.prepare_to_look(context.observer)?;
    if !lockfile.chosen.contains_key(package) {
        return Err(LockError::not_locked(package, &lockfile).into());
    }
    let sources = project.sources_and_elsewhere(Some(&lockfile), &Keep::Locked, context)?;
    let names: BTreeSet<PackageName> = lockfile.chosen.keys().cloned().collect();
    let documents = documents_of(&names, &sources, context.observer)?;
    let rules = rules_of(project, None, None, context.settings);
    let why = why(&lockfile, &documents, package, &rules).ok_or_else(|| LockError::not_locked(package, &lockfile))?;
    let version = match other {
        Some(text) => Some(find_version(package, text, documents.get(package))?),
        None => why.newer.iter().find(|newer| newer.reason == Reason::Accepted).map(|newer| newer.version.clone()),
    };
    let instead = match version {
        Some(version) => Some(demand(project, (&lockfile, declared, &sources), &documents[package], version, context)?),
        None => None,
    };
    let notice = notices(&lockfile, &documents).into_iter().find(|notice| notice.package == *package);
    let locked = &lockfile.chosen[package];
    let (forced, stands_in_for, altered) = (locked.forced, locked.stands_in_for.clone(), locked.altered.is_some());
    Ok(ExplainReport { why, instead, notice, forced, stands_in_for, altered })
}

fn find_version(package: &PackageName, text: &str, document: Option<&PackageDocument>) -> Result<Version, SearchError> {
    let known = || document.map_or_else(Vec::new, |d| d.releases.iter().map(|r| r.version.clone()).collect());
    let no_such = || SearchError::NoSuchVersion { package: package.clone(), version: text.to_owned(), known: known() };
    let document = document.ok_or_else(no_such)?;
    let version = document.numbering.parse_version(text).map_err(|_| no_such())?;
    document.release(&version).map(|release| release.version.clone()).ok_or_else(no_such)
}

fn demand(
    project: &LoadedProject,
    (lockfile, mut declared, sources): (&Lockfile, Declared, &SourceSet),
    document: &PackageDocument,
    version: Version,
    context: &Context<'_>,
) -> Result<Instead, FlowError> {
    let package = &document.name;
    let here = Asker::Project(project.here().manifest.project.name.clone());
    // What the project itself says against the version is its to change; the question is what else keeps it out.
    let accepts = |requirement: &Requirement| {
        requirement.accept.bind(&document.numbering).is_ok_and(|bound| bound.accepts(&version))
    };
    let in_the_way = |requirement: &Requirement| {
        requirement.asker == here && requirement.package == *package && !accepts(requirement)
    };
    let (set_aside, mut requirements): (Vec<_>, Vec<_>) = declared.requirements.iter().cloned().partition(in_the_way);
    let demand = Requirement {
        purpose: set_aside.first().map_or_else(run_purpose, |requirement| requirement.purpose.clone()),
        asker: here,
        package: package.clone(),
        accept: ConstraintText::parse(&format!("={version}")).expect("a version makes a constraint"),
    };
    if !set_aside.is_empty() {
        declared.requirements = requirements.iter().chain([&demand]).cloned().collect();
    }
    requirements.push(demand.clone());
    let keep = versions_of(lockfile);
    let mut rules = rules_of(project, None, None, context.settings);
    // What would be without it is the question.
    let unforced = rules.overrides.forced.remove(package).is_some();
    let problem = Problem { requirements, keep, rules, ..Problem::default() };
    let outcome = drive(Resolver::new(problem), project, sources, context.observer)?.outcome;
    let outcome = match outcome {
        Outcome::Resolved(resolution) => Counterfactual::Possible(moves_to(&resolution, &declared, lockfile)),
        Outcome::Collision(collision) => {
            let (places, rules) = (places_of(project, &collision), rules_about(project, &collision));
            Counterfactual::Impossible { collision, demand, places, rules }
        }
        Outcome::Stopped(_) => return Err(FlowError::Stopped),
    };
    Ok(Instead { version, set_aside, unforced, outcome })
}
