//! What may go wrong one day with what a project needs, as far as its policy asks for that.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsStr;
use std::path::Path;

use yostel_documents::{AlsoAudit, Lockfile, PackageDocument, PackageName, Requirement, Take};
use yostel_files::{Folder, Kind};
use yostel_findings::{
    Concern, ConcernKind, Places, Spot, lower_bounds, no_provenance, only_here, too_young, unbounded,
};
use yostel_resolve::Problem;
use yostel_sources::SourceSet;

use crate::context::Context;
use crate::error::FlowError;
use crate::observer::{Observer, go_on};
use crate::project::files::{LOCKFILE_NAME, MANIFEST_NAME};
use crate::project::mentions::{Stray, following};
use crate::project::{LoadedProject, spot_of};
use crate::search::fresh::fresh;
use crate::search::rules::rules_of;

/// Longest file of a project that is looked through, in bytes: longer ones are data.
const MOST_FILE: u64 = 4 << 20;

/// Finds what the policy asks for.
///
/// # Errors
/// `Stopped`, and those of asking the sources; `Store` when a folder of the project cannot be read.
pub(crate) fn concerns(
    project: &LoadedProject,
    lockfile: &Lockfile,
    documents: &BTreeMap<PackageName, PackageDocument>,
    sources: &SourceSet,
    context: &Context<'_>,
) -> Result<Vec<Concern>, FlowError> {
    let policy = &project.manifest().policy;
    let asks_for = |what| policy.also_audit.contains(&what);
    let needs = project.requirements();
    let places = places(project);
    let mut all = Vec::new();
    if asks_for(AlsoAudit::Unbounded) {
        all.extend(unbounded(&needs, lockfile, &places));
    }
    if asks_for(AlsoAudit::LowerBounds) {
        let rules = rules_of(project, None, Some(Take::Oldest), context.settings);
        let problem = Problem { requirements: needs.clone(), rules, ..Problem::default() };
        if let Some(oldest) = fresh(&problem, project, sources, context.observer)? {
            all.extend(lower_bounds(&needs, &oldest, documents, &places));
        }
    }
    if asks_for(AlsoAudit::OnlyHere) {
        all.extend(only_here(lockfile));
    }
    if asks_for(AlsoAudit::Unused) {
        all.extend(unused(project, &needs, lockfile, documents, &places, context.observer)?);
    }
    if asks_for(AlsoAudit::Provenance) {
        all.extend(no_provenance(lockfile, documents));
    }
    if let Some(least) = policy.minimum_age_days {
        let admit = &project.manifest().admit;
        let is_admitted = |package: &PackageName, version: &yostel_versions::Version| {
            admit.get(package).is_some_and(|admit| admit.version == version.as_str())
        };
        all.extend(too_young(lockfile, documents, least, context.settings.now, is_admitted));
    }
    all.extend(stray_mentions(project, lockfile)?);
    // What binds a package wherever it turns up is not a need's to change.
    let overrides = project.overrides();
    let is_bound = |package: &PackageName| {
        overrides.agreed.contains_key(package)
            || overrides.forced.contains_key(package)
            || overrides.swapped.contains_key(package)
    };
    for concern in all.iter_mut().filter(|concern| is_bound(&concern.package)) {
        match &mut concern.about {
            ConcernKind::Unbounded { bounded: edit } | ConcernKind::LowerBound { raised: edit, .. } => *edit = None,
            ConcernKind::OnlyHere { .. }
            | ConcernKind::Unused { .. }
            | ConcernKind::NoProvenance
            | ConcernKind::TooYoung { .. }
            | ConcernKind::StrayMention { .. } => {}
        }
    }
    Ok(all)
}

/// Finds files that mention packages and do not say what is locked: one finding a file and package.
fn stray_mentions(project: &LoadedProject, lockfile: &Lockfile) -> Result<Vec<Concern>, FlowError> {
    let (_, strays) = following(project, lockfile)?;
    let mut all: BTreeMap<_, Vec<(usize, String)>> = BTreeMap::new();
    for Stray { package, file, line, says, should } in strays {
        let of_file = all.entry((file, package, should)).or_default();
        of_file.extend(line.zip(says));
    }
    let mut concerns = Vec::new();
    for ((file, package, should), says) in all {
        let line = says.first().map_or(1, |(line, _)| *line);
        let place = Some(Spot { file: file.clone(), line, column: 1 });
        let about = ConcernKind::StrayMention { file, says, should };
        concerns.push(Concern { package, version: None, need: None, place, about });
    }
    Ok(concerns)
}

fn places(project: &LoadedProject) -> Places {
    let mut places = Places::new();
    for file in project.projects() {
        for (purpose, needs) in &file.manifest.needs {
            for (package, need) in needs {
                let key = (file.name().clone(), purpose.clone(), package.clone());
                places.insert(key, spot_of(file, &need.span));
            }
        }
    }
    places
}

/// Lists needs of packages that say by which texts one knows that they are used, where no file of the project has one.
fn unused(
    project: &LoadedProject,
    needs: &[Requirement],
    lockfile: &Lockfile,
    documents: &BTreeMap<PackageName, PackageDocument>,
    places: &Places,
    observer: &dyn Observer,
) -> Result<Vec<Concern>, FlowError> {
    let texts_of = |package: &PackageName| -> Option<Vec<String>> {
        let locked = lockfile.chosen.get(package)?;
        let release = documents.get(package)?.release(&locked.version)?;
        Some(release.offers.mentions.clone()).filter(|texts| !texts.is_empty())
    };
    let open: BTreeMap<&PackageName, Vec<String>> =
        needs.iter().filter_map(|need| Some((&need.package, texts_of(&need.package)?))).collect();
    if open.is_empty() {
        return Ok(Vec::new());
    }
    let mut all = Vec::new();
    for file in project.projects() {
        let own = needs.iter().filter(|need| need.asker.name() == file.name());
        let own: Vec<&Requirement> = own.filter(|need| open.contains_key(&need.package)).collect();
        let sought = own.iter().map(|need| (&need.package, &open[&need.package]));
        let missing = not_mentioned(&project.root.join(&file.folder), sought.collect(), observer)?;
        all.extend(own.into_iter().filter(|need| missing.contains(&need.package)).map(|need| {
            let key = (need.asker.name().clone(), need.purpose.clone(), need.package.clone());
            Concern {
                package: need.package.clone(),
                version: None,
                place: places.get(&key).cloned(),
                about: ConcernKind::Unused { texts: open[&need.package].clone() },
                need: Some(need.clone()),
            }
        }));
    }
    Ok(all)
}

/// Returns the packages of which no file below a folder has any of the texts. Links are not followed, and what begins with a
/// dot, manifests and lockfiles are not looked into. Where a part cannot be read, nobody can say, and none is returned.
///
/// # Errors
/// `Stopped`.
fn not_mentioned<'p>(
    folder: &Path,
    mut sought: BTreeMap<&'p PackageName, &'p Vec<String>>,
    observer: &dyn Observer,
) -> Result<BTreeSet<PackageName>, FlowError> {
    let is_looked_into = |name: &OsStr| !name.as_encoded_bytes().starts_with(b".");
    let looked = Folder::open(folder).map_err(FlowError::from).and_then(|root| {
        let enters = |_: &Folder, at: &Path| at.file_name().is_none_or(is_looked_into);
        root.walk_into(enters, |here, _, entries| {
            go_on(observer)?;
            let is_ours = |name: &OsStr| name == MANIFEST_NAME || name == LOCKFILE_NAME;
            let files = entries.iter().filter(|entry| entry.kind == Kind::File);
            for entry in files.filter(|entry| is_looked_into(&entry.name) && !is_ours(&entry.name)) {
                if sought.is_empty() {
                    return Ok(());
                }
                if here.meta(&entry.name)?.size <= MOST_FILE {
                    let content = here.read(&entry.name, MOST_FILE)?;
                    let has = |text: &String| content.windows(text.len()).any(|part| part == text.as_bytes());
                    sought.retain(|_, texts| !texts.iter().any(has));
                }
            }
            Ok(())
        })
    });
    match looked {
        Ok(()) => Ok(sought.into_keys().cloned().collect()),
        Err(FlowError::Stopped) => Err(FlowError::Stopped),
        Err(_) => Ok(BTreeSet::new()),
    }
}
