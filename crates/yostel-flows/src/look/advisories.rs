//! Advisories that affect what is locked, and the way out of each, tried.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Mutex;

use yostel_documents::{
    ADVISORIES, Advisory, Affected, AskedBy, Lockfile, PackageDocument, PackageName, Requirement, SourceName,
};
use yostel_findings::{Advised, MoveKind, Published, Threat, UnreadAdvisory, WayOut, affects, threats};
use yostel_resolve::{Outcome, Problem, Resolution, Resolver};
use yostel_sources::SourceSet;
use yostel_versions::{ConstraintText, Version};

use crate::context::Context;
use crate::error::FlowError;
use crate::observer::{Observer, go_on};
use crate::project::LoadedProject;
use crate::search::drive::drive;
use crate::search::proposal::moves_to;
use crate::search::rules::{rules_of, versions_of};

/// Lists what is locked and comes from a source, with that source.
pub(crate) fn of_sources(lockfile: &Lockfile) -> impl Iterator<Item = (&PackageName, &SourceName)> {
    lockfile.chosen.iter().filter_map(|(package, locked)| Some((package, locked.from.source()?)))
}

/// Reads the advisories that speak of these packages, from the sources that they come from. What cannot be read, or a
/// source that cannot be asked, is told beside them: everything else that is looked for is found all the same.
///
/// # Errors
/// `Stopped`.
pub(crate) fn published<'l>(
    locked: impl IntoIterator<Item = (&'l PackageName, &'l SourceName)>,
    sources: &SourceSet,
    observer: &dyn Observer,
) -> Result<(Vec<Published>, Vec<UnreadAdvisory>), FlowError> {
    let mut packages: BTreeMap<&SourceName, BTreeSet<&str>> = BTreeMap::new();
    for (package, source) in locked {
        packages.entry(source).or_default().insert(package.as_str());
    }
    let (all, unread) = (Mutex::new(Vec::new()), Mutex::new(Vec::new()));
    for (name, packages) in packages {
        go_on(observer)?;
        let Some(source) = sources.source(name) else { continue };
        let is_about = |affected: &Affected| {
            let of = affected.package.as_ref();
            of.is_some_and(|of| of.ecosystem == source.registry() && packages.contains(of.name.as_str()))
        };
        let cannot = |file: &str, why: String| {
            let one = UnreadAdvisory { source: name.clone(), file: file.to_owned(), why };
            unread.lock().expect("nobody panics while holding it").push(one);
        };
        let asked = source.advisories(&|file, text| match text
            .map_err(|error| error.to_string())
            .and_then(|text| Advisory::parse(&text))
        {
            Err(why) => cannot(file, why),
            Ok(advisory) if !advisory.affected.iter().any(is_about) => {}
            Ok(advisory) => {
                let (source, registry) = (name.clone(), source.registry().to_owned());
                let one = Published { source, registry, advisory };
                all.lock().expect("nobody panics while holding it").push(one);
            }
        });
        if let Err(error) = asked {
            cannot(ADVISORIES, error.to_string());
        }
    }
    let (mut all, mut unread) = (
        all.into_inner().expect("nobody panics while holding it"),
        unread.into_inner().expect("nobody panics while holding it"),
    );
    all.sort_by(|a: &Published, b| (&a.source, &a.advisory.id).cmp(&(&b.source, &b.advisory.id)));
    unread.sort();
    Ok((all, unread))
}

/// What the ways out are looked for in.
pub(crate) struct Around<'a> {
    pub(crate) project: &'a LoadedProject,
    pub(crate) lockfile: &'a Lockfile,
    pub(crate) documents: &'a BTreeMap<PackageName, PackageDocument>,
    pub(crate) sources: &'a SourceSet,
    /// What a lock without anything to keep chooses, as far as that was found out.
    pub(crate) anew: Option<&'a Resolution>,
}

/// Finds the way out of each advisory that affects something.
///
/// # Errors
/// `Stopped`, and those of asking the sources.
pub(crate) fn advised(
    published: &[Published],
    around: &Around<'_>,
    context: &Context<'_>,
) -> Result<Vec<Advised>, FlowError> {
    let threats = threats(around.lockfile, around.documents, published);
    let mut ways: BTreeMap<(PackageName, Version), WayOut> = BTreeMap::new();
    let mut all = Vec::new();
    for threat in threats {
        let key = (threat.package.clone(), threat.version.clone());
        let way = match ways.get(&key) {
            Some(way) => way.clone(),
            None => way_of(&threat, published, around, context)?,
        };
        ways.insert(key, way.clone());
        all.push(Advised { threat, way });
    }
    Ok(all)
}

fn way_of(
    threat: &Threat,
    published: &[Published],
    around: &Around<'_>,
    context: &Context<'_>,
) -> Result<WayOut, FlowError> {
    let (package, lockfile) = (&threat.package, around.lockfile);
    let Some(locked) = lockfile.chosen.at(package, &threat.version) else { return Ok(WayOut::NoRelease) };
    let is_free = |version: &Version| {
        locked.from.source().is_some_and(|source| !affects(published, source, package, &locked.numbering, version))
    };
    let taken = |resolution: &Resolution| -> Option<Version> {
        let all = resolution.chosen.all(package);
        let are_free = !all.is_empty() && all.iter().all(|choice| is_free(&choice.release.version));
        are_free.then(|| all[0].release.version.clone())
    };
    if let Some(version) = around.anew.and_then(taken) {
        return Ok(WayOut::Fresh(version));
    }
    let Some(fixed) = &threat.fixed else { return Ok(WayOut::NoRelease) };
    let mut declared = around.project.declared()?;
    if declared.overrides.forced.contains_key(package) {
        return Ok(WayOut::Forced);
    }
    let accepts = |accept: &ConstraintText| accept.bind(&locked.numbering).is_ok_and(|bound| bound.accepts(fixed));
    let holders: Vec<AskedBy> = locked.asked_by.iter().filter(|asked| !accepts(&asked.accept)).cloned().collect();
    let requirements = around.project.requirements();
    let holding: Vec<&Requirement> =
        requirements.iter().filter(|need| need.package == *package && !accepts(&need.accept)).collect();
    let [own] = holding[..] else { return Ok(WayOut::Held(holders)) };
    // What is agreed is not a need's to change.
    let is_agreed = declared.overrides.agreed.contains_key(package);
    if is_agreed || holders.iter().any(|holder| !holder.who.is_project()) {
        return Ok(WayOut::Held(holders));
    }
    let Ok(wider) = ConstraintText::parse(&format!("^{fixed}")) else { return Ok(WayOut::Held(holders)) };
    let accept = wider.where_counts(&own.accept);
    let changed = |need: &Requirement| match need == own {
        true => Requirement { accept: accept.clone(), ..need.clone() },
        false => need.clone(),
    };
    let requirements: Vec<Requirement> = requirements.iter().map(changed).collect();
    let rules = rules_of(around.project, None, None, context.settings);
    declared.requirements.clone_from(&requirements);
    let problem = Problem { requirements, keep: versions_of(lockfile), rules };
    match drive(Resolver::new(problem), around.project, around.sources, context.observer)?.outcome {
        Outcome::Resolved(resolution) if taken(&resolution).is_some() => {
            let moves = moves_to(&resolution, &declared, lockfile);
            let others = moves.iter().filter(|m| m.package != *package && matches!(m.kind, MoveKind::Moved { .. }));
            Ok(WayOut::Need { requirement: own.clone(), accept, others: others.count() })
        }
        Outcome::Stopped(_) => Err(FlowError::Stopped),
        _ => Ok(WayOut::Held(holders)),
    }
}
