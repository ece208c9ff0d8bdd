//! What a project says about packages wherever they turn up is a debt: is it past its day, does it still change anything,
//! what does it hide.

use std::collections::BTreeMap;
use std::ops::Range;

use yostel_documents::{Lockfile, PackageDocument, PackageName};
use yostel_findings::{Debt, Upkeep, UpkeepRule, is_exception_needed};
use yostel_resolve::{Outcome, Problem, Resolver, Rules};
use yostel_sources::SourceSet;

use crate::context::Context;
use crate::error::{FlowError, SearchError};
use crate::observer::Observer;
use crate::project::{LoadedProject, ProjectFile, line_of};
use crate::search::drive::{Driven, drive};
use crate::search::rules::{Keep, rules_of, versions_of};

/// Looks after every forced version, swap, admitted release and deviation of a project.
///
/// # Errors
/// As resolving.
pub(crate) fn upkeep(
    project: &LoadedProject,
    lockfile: &Lockfile,
    documents: &BTreeMap<PackageName, PackageDocument>,
    context: &Context<'_>,
) -> Result<Vec<Upkeep>, FlowError> {
    let manifest = project.manifest();
    let sources = match manifest.force.is_empty() && manifest.swap.is_empty() && manifest.admit.is_empty() {
        true => SourceSet::default(),
        false => project.sources_and_elsewhere(Some(lockfile), &Keep::Locked, context)?,
    };
    let today = context.settings.now.to_zoned(jiff::tz::TimeZone::UTC).date();
    let past = |until: Option<jiff::civil::Date>| {
        let days = until.and_then(|until| today.since(until).ok()).map_or(0, |span| i64::from(span.get_days()));
        (days > 0).then_some(Debt::Past(days))
    };
    let rules = || rules_of(project, None, None, context.settings);
    let mut found = Vec::new();
    let mut look = |rule, package: &PackageName, (file, span): (&ProjectFile, &Range<usize>), why: &str, debts| {
        let debts: Vec<Debt> = debts;
        if !debts.is_empty() {
            let (package, line, why) = (package.clone(), line_of(&file.text, span), why.to_owned());
            found.push(Upkeep { rule, package, need: None, file: file.manifest_path(), line, why, debts });
        }
    };
    let top = &project.top;
    for (package, force) in &manifest.force {
        let mut without = rules();
        without.overrides.forced.remove(package);
        let mut debts: Vec<Debt> = past(force.until).into_iter().collect();
        debts.extend(compare_without((project, &sources), lockfile, without, package, context.observer)?);
        look(UpkeepRule::Force, package, (top, &force.span), &force.why, debts);
    }
    for (package, swap) in &manifest.swap {
        let mut without = rules();
        without.overrides.swapped.remove(package);
        let mut debts: Vec<Debt> = past(swap.until).into_iter().collect();
        debts.extend(
            compare_without((project, &sources), lockfile, without, package, context.observer)?
                .filter(|d| *d == Debt::ChangesNothing),
        );
        look(UpkeepRule::Swap, package, (top, &swap.span), &swap.why, debts);
    }
    for (package, admit) in &manifest.admit {
        let mut without = rules();
        without.admitted.remove(package);
        let mut debts: Vec<Debt> = past(admit.until).into_iter().collect();
        debts.extend(
            compare_without((project, &sources), lockfile, without, package, context.observer)?
                .filter(|d| *d == Debt::ChangesNothing),
        );
        look(UpkeepRule::Admit, package, (top, &admit.span), &admit.why, debts);
    }
    let allowed = manifest.policy.allowed_licences.as_deref();
    for (package, exception) in &manifest.licence_exceptions {
        let mut debts: Vec<Debt> = past(exception.until).into_iter().collect();
        // Where any licence will do, none is excepted from anything.
        if !allowed.is_some_and(|allowed| is_exception_needed(package, exception, lockfile, documents, allowed)) {
            debts.push(Debt::ChangesNothing);
        }
        look(UpkeepRule::LicenceException, package, (top, &exception.span), &exception.why, debts);
    }
    for file in project.projects() {
        for (purpose, needs) in &file.manifest.needs {
            found.extend(needs.iter().filter_map(|(package, need)| {
                let why = need.why.clone()?;
                let (line, need) = (line_of(&file.text, &need.span), Some((file.name().clone(), purpose.clone())));
                let (rule, package) = (UpkeepRule::Deviation, package.clone());
                Some(Upkeep { rule, package, need, file: file.manifest_path(), line, why, debts: vec![Debt::Stands] })
            }));
        }
    }
    Ok(found)
}

/// Resolves without a rule and says what that tells of it.
fn compare_without(
    (project, sources): (&LoadedProject, &SourceSet),
    lockfile: &Lockfile,
    without: Rules,
    package: &PackageName,
    observer: &dyn Observer,
) -> Result<Option<Debt>, FlowError> {
    let mut keep = versions_of(lockfile);
    // It is free to be what it would be.
    keep.remove(package);
    let problem = Problem { requirements: project.requirements(), keep, rules: without, ..Problem::default() };
    let Driven { outcome, .. } = match drive(Resolver::new(problem), project, sources, observer) {
        // What would be needed is gone from all sources: the rule is what keeps the project going.
        Err(
            FlowError::Search(SearchError::UnknownPackage { .. }) | FlowError::Search(SearchError::Unreadable { .. }),
        ) => return Ok(None),
        driven => driven?,
    };
    let Outcome::Resolved(resolution) = outcome else { return Ok(None) };
    let version = |name: &PackageName| resolution.chosen.get(name).map(|choice| &choice.release.version);
    let same = resolution.chosen.len() == lockfile.chosen.len()
        && lockfile.chosen.iter().all(|(name, locked)| resolution.chosen.at(name, &locked.version).is_some());
    if same {
        return Ok(Some(Debt::ChangesNothing));
    }
    let newer =
        version(package).filter(|new| lockfile.chosen.get(package).is_some_and(|locked| **new > locked.version));
    Ok(newer.cloned().map(Debt::Hides))
}
