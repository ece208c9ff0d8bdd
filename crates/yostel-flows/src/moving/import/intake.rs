//! Which packages of the sources a list means, at which releases, and what of it is needed directly.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Inventory, Listed, PackageDocument, PackageName, Purpose, run_purpose};
use yostel_versions::{ConstraintText, Version};

use crate::content::trust::told_by_sources;
use crate::context::Context;
use crate::error::FlowError;
use crate::project::LoadedProject;

/// A part of a list, as it is understood here.
#[derive(Debug)]
pub(crate) struct Understood {
    /// The package.
    pub(crate) package: PackageName,
    /// Its release at the listed version; none where the sources have no such.
    pub(crate) exact: Option<Version>,
    /// Other releases of the package, the nearest to the listed version first; the newest first where none is listed.
    pub(crate) nearest: Vec<Version>,
}

/// A list, as it is understood here.
#[derive(Debug)]
pub(crate) struct Intake {
    /// By place in the list.
    pub(crate) understood: BTreeMap<usize, Understood>,
    /// The places of what the table of names leaves out.
    pub(crate) left_out: BTreeSet<usize>,
    /// What is needed directly: by place, what for and which versions will do, as far as the list says.
    pub(crate) direct: BTreeMap<usize, BTreeMap<Purpose, Option<ConstraintText>>>,
}

/// How listed packages are called here, by what they are called in the list; none of what is left out.
pub type Names = BTreeMap<String, Option<PackageName>>;

/// Asks the project's sources what a list means.
///
/// # Errors
/// Those of asking sources.
pub(crate) fn intake(
    project: &LoadedProject,
    inventory: &Inventory,
    names: &Names,
    purpose: &Purpose,
    context: &Context<'_>,
) -> Result<Intake, FlowError> {
    let mut left_out = BTreeSet::new();
    let mut candidates: BTreeMap<usize, Vec<PackageName>> = BTreeMap::new();
    for (at, listed) in inventory.parts.iter().enumerate() {
        let url = listed.url.as_ref().map(|url| url.package().to_string());
        let said = [url.as_deref(), Some(&*listed.name), Some(&*listed.last)];
        match said.into_iter().flatten().find_map(|name| names.get(name)) {
            Some(None) => drop(left_out.insert(at)),
            Some(Some(package)) => drop(candidates.insert(at, vec![package.clone()])),
            None => drop(candidates.insert(at, names_for(listed))),
        }
    }
    let asked: BTreeSet<PackageName> = candidates.values().flatten().cloned().collect();
    let documents = told_by_sources(project, &asked, context.observer)?;
    let mut understood = BTreeMap::new();
    for (at, names) in candidates {
        if let Some(document) = names.iter().find_map(|name| documents.get(name)) {
            understood.insert(at, understood_as(&inventory.parts[at], document));
        }
    }
    let direct = direct_of(inventory, &understood, &documents, purpose);
    Ok(Intake { understood, left_out, direct })
}

/// Lists the names that a package may have here, the likeliest first.
fn names_for(listed: &Listed) -> Vec<PackageName> {
    let url = listed.url.as_ref().map(yostel_documents::PackageUrl::name);
    let mut names: Vec<PackageName> = Vec::new();
    for text in [Some(listed.name.clone()), url, Some(listed.last.clone())].into_iter().flatten() {
        let name = match PackageName::parse(&text) {
            Ok(name) => Some(name),
            Err(error) => error.suggestion.and_then(|near| PackageName::parse(&near).ok()),
        };
        names.extend(name.filter(|name| !names.contains(name)));
    }
    names
}

fn understood_as(listed: &Listed, document: &PackageDocument) -> Understood {
    let package = document.name.clone();
    let text = listed.version.as_deref().unwrap_or_default();
    // Tags are often written with a letter before the version.
    let texts = [Some(text), text.strip_prefix('v')];
    let read: Vec<Version> =
        texts.into_iter().flatten().filter_map(|text| document.numbering.parse_version(text).ok()).collect();
    let exact = read.iter().find(|version| document.release(version).is_some()).cloned();
    let nearest = match exact.as_ref().or(read.first()) {
        Some(version) => nearest_to(version, document),
        // Nothing is near to what is no version: the newest is as good as any.
        None => {
            let releases = document.releases.iter().rev().filter(|release| release.withdrawn().is_none());
            releases.map(|release| release.version.clone()).filter(|version| !version.is_pre_release()).collect()
        }
    };
    Understood { package, exact, nearest }
}

/// Lists the releases of a package that may be chosen, the nearest first: on the same compatible line upwards, then on it
/// downwards, then above it and below it.
fn nearest_to(version: &Version, document: &PackageDocument) -> Vec<Version> {
    let numbering = &document.numbering;
    let may_be =
        |candidate: &&Version| candidate != &version && (!candidate.is_pre_release() || version.is_pre_release());
    let releases = document.releases.iter().filter(|release| release.withdrawn().is_none());
    let all: Vec<&Version> = releases.map(|release| &release.version).filter(may_be).collect();
    let (same, other): (Vec<&Version>, Vec<&Version>) =
        all.into_iter().partition(|candidate| numbering.is_same_line(candidate, version));
    let mut nearest = Vec::new();
    for line in [same, other] {
        let at = line.partition_point(|candidate| *candidate < version);
        nearest.extend(line[at..].iter().copied().chain(line[..at].iter().rev().copied()).cloned());
    }
    nearest
}

/// Finds what is needed directly: what the list says, and what those need that no source knows. Where it says nothing, it is what
/// nobody else in it needs: as the list has it, or else as the releases say.
fn direct_of(
    inventory: &Inventory,
    understood: &BTreeMap<usize, Understood>,
    documents: &BTreeMap<PackageName, PackageDocument>,
    purpose: &Purpose,
) -> BTreeMap<usize, BTreeMap<Purpose, Option<ConstraintText>>> {
    let mut direct: BTreeMap<usize, BTreeMap<Purpose, Option<ConstraintText>>> = BTreeMap::new();
    let purposes_of = |part: usize| -> BTreeSet<Purpose> {
        let told = &inventory.parts[part].purposes;
        if told.is_empty() { [purpose.clone()].into() } else { told.clone() }
    };
    match &inventory.direct {
        Some(needs) => {
            for need in needs {
                let accept = need.accept.as_deref().and_then(|text| ConstraintText::parse(text).ok());
                let purpose = need.purpose.clone().unwrap_or_else(|| purpose.clone());
                direct.entry(need.part).or_default().insert(purpose, accept);
            }
        }
        None => {
            let roots = match inventory.relations.is_empty() {
                true => roots_by_releases(inventory, understood, documents),
                false => {
                    let needed: BTreeSet<usize> = inventory.relations.values().flatten().copied().collect();
                    (0..inventory.parts.len()).filter(|part| !needed.contains(part)).collect()
                }
            };
            for part in roots {
                direct.insert(part, purposes_of(part).into_iter().map(|purpose| (purpose, None)).collect());
            }
        }
    }
    // Whoever is not known needs nothing here, so what it needs would be lost.
    let mut unknown: Vec<usize> = direct.keys().copied().filter(|part| !understood.contains_key(part)).collect();
    let mut seen: BTreeSet<usize> = unknown.iter().copied().collect();
    while let Some(part) = unknown.pop() {
        let purposes = direct.remove(&part).unwrap_or_default();
        for needed in inventory.relations.get(&part).into_iter().flatten() {
            if understood.contains_key(needed) {
                let of_needed = direct.entry(*needed).or_default();
                for purpose in purposes.keys() {
                    of_needed.entry(purpose.clone()).or_default();
                }
            } else if seen.insert(*needed) {
                direct.insert(*needed, purposes.clone());
                unknown.push(*needed);
            }
        }
    }
    direct
}

/// Finds packages from which all that is listed is reached, by what their releases need.
fn roots_by_releases(
    inventory: &Inventory,
    understood: &BTreeMap<usize, Understood>,
    documents: &BTreeMap<PackageName, PackageDocument>,
) -> BTreeSet<usize> {
    let mut by_name: BTreeMap<&PackageName, Vec<usize>> = BTreeMap::new();
    for (part, known) in understood {
        by_name.entry(&known.package).or_default().push(*part);
    }
    let run = run_purpose();
    let needs_of = |part: usize| -> BTreeSet<usize> {
        let known = &understood[&part];
        let release = known.exact.as_ref().or(known.nearest.first());
        let release = release.and_then(|version| documents.get(&known.package)?.release(version));
        let needs = release.and_then(|release| release.needs.get(&run)).into_iter().flatten();
        needs.filter_map(|(package, _)| by_name.get(package)).flatten().copied().filter(|to| *to != part).collect()
    };
    let needs: BTreeMap<usize, BTreeSet<usize>> = understood.keys().map(|part| (*part, needs_of(*part))).collect();
    let needed: BTreeSet<usize> = needs.values().flatten().copied().collect();
    let mut roots: BTreeSet<usize> = (0..inventory.parts.len()).filter(|part| !needed.contains(part)).collect();
    let mut reached: BTreeSet<usize> = BTreeSet::new();
    let mut open: Vec<usize> = roots.iter().copied().collect();
    let mut next = understood.keys();
    loop {
        while let Some(part) = open.pop() {
            if reached.insert(part) {
                open.extend(needs.get(&part).into_iter().flatten());
            }
        }
        // What only needs each other in a circle is reached from nowhere: one of it is needed directly.
        match next.find(|part| !reached.contains(part)) {
            Some(part) => {
                roots.insert(*part);
                open.push(*part);
            }
            None => return roots,
        }
    }
}
