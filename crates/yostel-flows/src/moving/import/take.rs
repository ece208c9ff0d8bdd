//! From a list that was understood to manifest and lockfile, which keep of it what can be kept.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use yostel_documents::{
    Asker, Declared, Inventory, InventoryForm, Listed, Lockfile, NeedForm, PackageName, Purpose, Requirement,
    SourceName, SourcePlace, add_need, add_source, new_manifest,
};
use yostel_resolve::{Outcome, Problem, Resolution, Resolver};
use yostel_sources::SourceSet;
use yostel_versions::{ConstraintText, Version};

use crate::context::{Context, Settings};
use crate::decide::lock::Write;
use crate::error::{FlowError, ProjectError};
use crate::moving::import::intake::{Intake, Names, Understood, intake};
use crate::project::LoadedProject;
use crate::project::files::{MANIFEST_NAME, OpenFiles};
use crate::project::read::{load_lockfile, load_project};
use crate::search::drive::drive;
use crate::search::places::told;
use crate::search::proposal::{Basis, Proposal};
use crate::search::rules::{Keep, KeptVersions, rules_of, versions_in, versions_of};

/// Most releases that are tried for a package that cannot have the listed one, to find one that is nearer than what was found.
const MOST_NEARER: usize = 8;

/// How constraints of needs are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum ConstraintStyle {
    /// The compatible line of the version that is locked, from it on.
    #[default]
    Compatible,
    /// That very version.
    Exact,
    /// Any version.
    Anything,
}

impl ConstraintStyle {
    fn of(self, version: &Version) -> Option<ConstraintText> {
        let text = match self {
            Self::Compatible => format!("^{version}"),
            Self::Exact => format!("={version}"),
            // Any version leaves pre-releases out.
            Self::Anything if version.is_pre_release() => format!("={version} || *"),
            Self::Anything => "*".to_owned(),
        };
        ConstraintText::parse(&text).ok()
    }
}

/// What to take over, and how.
#[derive(Debug, Clone)]
pub struct ImportRequest {
    /// What is listed.
    pub inventory: Inventory,
    /// How listed packages are called here.
    pub names: Names,
    /// How the constraints of needs are written of which the list says nothing.
    pub style: ConstraintStyle,
    /// What for something is needed of which the list does not say.
    pub purpose: Purpose,
    /// Whether to write.
    pub write: Write,
}

/// What taking over came to.
#[derive(Debug)]
pub struct ImportReport {
    /// The project's manifest.
    pub manifest: PathBuf,
    /// The lockfile.
    pub path: PathBuf,
    /// The form of the list.
    pub form: InventoryForm,
    /// How many packages it lists.
    pub listed: usize,
    /// The listed packages that are locked at the listed version.
    pub kept: BTreeSet<(PackageName, Version)>,
    /// The listed packages that are not, in the order of the list.
    pub others: Vec<NotKept>,
    /// What is locked now, and neither listed nor locked before.
    pub added: BTreeSet<(PackageName, Version)>,
    /// What is locked at the listed version, with archives of other digests than the list has.
    pub differs: BTreeSet<(PackageName, Version)>,
    /// The needs that the manifest has now.
    pub needs: Vec<Requirement>,
    /// Whether it was written: never where no source knows anything of the list.
    pub written: bool,
}

/// A listed package that is not locked as it is listed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotKept {
    /// As it is listed.
    pub listed: Listed,
    /// The package, where one is meant that a source knows.
    pub package: Option<PackageName>,
    /// The versions at which it is locked.
    pub locked: Vec<Version>,
    /// Why.
    pub why: WhyNotKept,
}

/// Why something is not locked as it is listed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WhyNotKept {
    /// The table of names leaves it out.
    LeftOut,
    /// No source knows it.
    Unknown,
    /// The list has no version of it.
    NoVersion,
    /// The sources have no release of that version.
    NoRelease,
    /// Nothing that is needed needs it.
    NotNeeded,
    /// Something asks for another version.
    AskedFor {
        /// Who.
        who: Asker,
        /// Which.
        accept: ConstraintText,
    },
    /// The rules of the project do not let it be there beside the rest.
    NoRoom,
}

/// Begins a project that is not on the disk yet: with this name, and a source.
///
/// # Errors
/// `AlreadyAProject`, and as reading a project.
pub fn begin_project(
    folder: &Path,
    name: &PackageName,
    (source, place): (&SourceName, &SourcePlace),
    settings: &Settings,
) -> Result<LoadedProject, FlowError> {
    let path = folder.join(MANIFEST_NAME);
    if path.symlink_metadata().is_ok() {
        return Err(ProjectError::AlreadyAProject(path).into());
    }
    let text = add_source(&new_manifest(name, "0.1.0"), source, place, &[]).map_err(ProjectError::Edit)?;
    let files = Arc::new(OpenFiles { texts: BTreeMap::from([(path, text)]) });
    load_project(folder, &Settings { files, ..settings.clone() })
}

/// Takes over what a list has: needs into the manifest, and a lockfile that keeps of it what can be kept.
///
/// # Errors
/// `Collision` when what is needed directly cannot be had together at any version; those of asking sources and writing.
/// Everything is then as it was.
pub fn import(
    project: &LoadedProject,
    request: &ImportRequest,
    context: &Context<'_>,
) -> Result<ImportReport, FlowError> {
    let inventory = &request.inventory;
    let taken = intake(project, inventory, &request.names, &request.purpose, context)?;
    let before = load_lockfile(project)?;
    let patches = project.patches()?;
    let declared = project.declared_with(&patches);
    let wanted = wanted(&taken);
    let mut keep = before.as_ref().map(versions_of).unwrap_or_default();
    keep.extend(wanted.clone());
    let sources = project.sources_and_elsewhere(before.as_ref(), &Keep::Locked, context)?;
    let search = Search { project, declared: &declared, sources: &sources, context };
    let needs = direct_needs(project, &taken);
    let mut found = search.resolve(&loosely(project, &declared, &needs), keep.clone())?;
    found = search.nearer(found, &taken, keep, &needs)?;
    let edited = with_needs(project, &needs, &found, request.style)?;
    let edited_declared = edited.declared_with(&patches);
    let proved = Search { declared: &edited_declared, ..search };
    let resolution = proved.resolve(&edited_declared.requirements, versions_in(&found))?;
    let (at, was) = (project.here().manifest_path(), project.here().text.clone());
    let text = edited.here().text.clone();
    let manifests = if text == was && before.is_some() { BTreeMap::new() } else { BTreeMap::from([(at, (was, text))]) };
    let basis = Basis {
        project: &edited,
        declared: &edited_declared,
        patches: &patches,
        before: before.as_ref(),
        keep: &Keep::Locked,
        manifests,
        shareable: false,
    };
    let proposal = Proposal::of(&resolution, &basis, context)?;
    let lockfile = proposal.lockfile();
    let (kept, others) = fates(inventory, &taken, lockfile);
    let listed: BTreeSet<&PackageName> = taken.understood.values().map(|known| &known.package).collect();
    let locked = lockfile.chosen.iter().map(|(package, locked)| (package.clone(), locked.version.clone()));
    let was_there = |package: &PackageName| before.as_ref().is_some_and(|before| before.chosen.contains_key(package));
    let added = locked.filter(|(package, _)| !listed.contains(package) && !was_there(package)).collect();
    let here = edited.here().name();
    let mut now = edited.requirements();
    let taken_over: BTreeSet<&PackageName> = needs.iter().map(|need| &need.package).collect();
    now.retain(|need| need.asker.name() == here && taken_over.contains(&need.package));
    let report = ImportReport {
        manifest: project.manifest_of(project.here()),
        path: project.lockfile_path(),
        form: inventory.form,
        listed: inventory.parts.len(),
        differs: differing(inventory, &taken, lockfile),
        kept,
        others,
        added,
        needs: now,
        written: request.write == Write::File && !taken.understood.is_empty(),
    };
    if report.written {
        proposal.apply(&edited, context)?;
    }
    Ok(report)
}

/// A direct need that is taken over.
struct Direct {
    package: PackageName,
    purpose: Purpose,
    /// As the list has it.
    told: Option<ConstraintText>,
    /// The version that is listed, or the nearest to it.
    version: Option<Version>,
}

impl Direct {
    /// Returns a constraint that accepts whatever there is, and what is listed, be it a pre-release.
    fn loose(&self) -> ConstraintText {
        let listed = || ConstraintText::parse(&format!("={}", self.version.as_ref()?)).ok();
        let strict = self.told.clone().or_else(listed);
        strict.map_or_else(ConstraintText::anything, |strict| strict.loosened())
    }
}

/// Lists what is needed directly; what the project needs itself already stays as it says.
fn direct_needs(project: &LoadedProject, taken: &Intake) -> Vec<Direct> {
    let own = &project.here().manifest.needs;
    let (mut needs, mut seen) = (Vec::new(), BTreeSet::new());
    for (part, purposes) in &taken.direct {
        let Some(known) = taken.understood.get(part) else { continue };
        for (purpose, told) in purposes {
            let is_there = own.get(purpose).is_some_and(|needs| needs.contains_key(&known.package));
            let is_news = seen.insert((&known.package, purpose));
            if !is_there && is_news && known.package != *project.here().name() {
                let version = known.exact.clone().or_else(|| known.nearest.first().cloned());
                let (package, purpose) = (known.package.clone(), purpose.clone());
                needs.push(Direct { package, purpose, told: told.clone(), version });
            }
        }
    }
    needs
}

/// Joins needs, with constraints that give way, with what is declared.
fn loosely(project: &LoadedProject, declared: &Declared, needs: &[Direct]) -> Vec<Requirement> {
    let mut requirements = declared.requirements.clone();
    requirements.extend(needs.iter().map(|need| Requirement {
        asker: Asker::Project(project.here().name().clone()),
        purpose: need.purpose.clone(),
        package: need.package.clone(),
        accept: need.loose(),
    }));
    requirements
}

/// Returns the versions to keep: the listed ones, or the nearest that there are.
fn wanted(taken: &Intake) -> KeptVersions {
    let mut wanted = KeptVersions::new();
    for known in taken.understood.values() {
        let version = known.exact.as_ref().or(known.nearest.first());
        wanted.entry(known.package.clone()).or_default().extend(version.cloned());
    }
    wanted.retain(|_, versions| !versions.is_empty());
    wanted
}

/// What resolving goes by.
#[derive(Clone, Copy)]
struct Search<'s> {
    project: &'s LoadedProject,
    declared: &'s Declared,
    sources: &'s SourceSet,
    context: &'s Context<'s>,
}

impl Search<'_> {
    fn resolve(&self, requirements: &[Requirement], keep: KeptVersions) -> Result<Resolution, FlowError> {
        if requirements.is_empty() {
            return Ok(Resolution::default());
        }
        let rules = rules_of(self.project, None, None, self.context.settings);
        let problem = Problem { requirements: requirements.to_vec(), keep, rules, ..Problem::default() };
        match drive(Resolver::new(problem), self.project, self.sources, self.context.observer)?.outcome {
            Outcome::Resolved(resolution) => Ok(resolution),
            Outcome::Stopped(_) => Err(FlowError::Stopped),
            Outcome::Collision(collision) => Err(told(self.project, collision).into()),
        }
    }

    /// Tries for what cannot have the listed release whether there is one nearer to it than what was found, with everything else
    /// as it was found.
    fn nearer<'s>(
        &self,
        mut found: Resolution,
        taken: &'s Intake,
        keep: KeptVersions,
        needs: &[Direct],
    ) -> Result<Resolution, FlowError> {
        let exact = |known: &'s Understood| Some((&known.package, known.exact.as_ref()?));
        let listed: BTreeSet<(&PackageName, &Version)> = taken.understood.values().filter_map(exact).collect();
        for Understood { package, nearest, .. } in taken.understood.values() {
            let Some(choice) = found.chosen.get(package) else { continue };
            let at = choice.release.version.clone();
            if found.chosen.all(package).len() != 1 || listed.contains(&(package, &at)) {
                continue;
            }
            let here = nearest.iter().position(|version| *version == at).unwrap_or(nearest.len());
            for version in nearest[..here].iter().take(MOST_NEARER) {
                // What is kept must stay so, or something else would move for it.
                let mut keep: KeptVersions = keep.clone();
                keep.extend(versions_in(&found));
                keep.insert(package.clone(), [version.clone()].into());
                let other = self.resolve(&loosely(self.project, self.declared, needs), keep)?;
                let (mut was, mut is) = (versions_in(&found), versions_in(&other));
                let got = is.remove(package).is_some_and(|versions| versions.contains(version));
                was.remove(package);
                if got && was == is {
                    found = other;
                    break;
                }
            }
        }
        Ok(found)
    }
}

/// Writes the needs into the manifest, so that each accepts what was found.
fn with_needs(
    project: &LoadedProject,
    needs: &[Direct],
    found: &Resolution,
    style: ConstraintStyle,
) -> Result<LoadedProject, FlowError> {
    let here = project.here();
    let agreed = &project.top.manifest.agreed;
    let mut text = here.text.clone();
    for Direct { package, purpose, told, .. } in needs {
        let choice = found.chosen.get(package);
        let accepts_one = |told: &&ConstraintText| {
            let bound = choice.and_then(|choice| told.bind(&choice.numbering).ok());
            let all = found.chosen.all(package);
            bound.is_some_and(|bound| all.iter().any(|choice| bound.accepts(&choice.release.version)))
        };
        let by_style = || choice.and_then(|choice| style.of(&choice.release.version));
        let accept = told.as_ref().filter(accepts_one).cloned().or_else(by_style);
        let form = match agreed.contains_key(package) {
            true => NeedForm::Agreed,
            false => NeedForm::Constraint(accept.unwrap_or_else(ConstraintText::anything)),
        };
        text = add_need(&text, purpose, package, &form)?.text;
    }
    let texts = BTreeMap::from([(here.manifest_path(), text)]);
    project.check_texts(&texts)?;
    let mut edited = project.with_texts(&texts).ok_or(ProjectError::Edit(yostel_documents::EditError::Unreadable))?;
    edited.read_places()?;
    Ok(edited)
}

/// Says of each listed package what became of it.
fn fates(
    inventory: &Inventory,
    taken: &Intake,
    lockfile: &Lockfile,
) -> (BTreeSet<(PackageName, Version)>, Vec<NotKept>) {
    let (mut kept, mut others) = (BTreeSet::new(), Vec::new());
    for (at, listed) in inventory.parts.iter().enumerate() {
        let known = taken.understood.get(&at);
        let package = known.map(|known| known.package.clone());
        let all = package.iter().flat_map(|package| lockfile.chosen.all(package));
        let locked: Vec<Version> = all.map(|locked| locked.version.clone()).collect();
        let exact = known.and_then(|known| known.exact.clone());
        if let (Some(package), Some(version)) = (&package, exact.as_ref().filter(|version| locked.contains(version))) {
            kept.insert((package.clone(), version.clone()));
            continue;
        }
        let why = match (&package, &exact) {
            (None, _) if taken.left_out.contains(&at) => WhyNotKept::LeftOut,
            (None, _) => WhyNotKept::Unknown,
            _ if locked.is_empty() => WhyNotKept::NotNeeded,
            (Some(_), None) if listed.version.is_none() => WhyNotKept::NoVersion,
            (Some(_), None) => WhyNotKept::NoRelease,
            (Some(package), Some(version)) => asked_otherwise(lockfile, package, version),
        };
        others.push(NotKept { listed: listed.clone(), package, locked, why });
    }
    (kept, others)
}

/// Finds who asks for another version of a package than this.
fn asked_otherwise(lockfile: &Lockfile, package: &PackageName, version: &Version) -> WhyNotKept {
    for locked in lockfile.chosen.all(package) {
        for asked in &locked.asked_by {
            let bound = asked.accept.bind(&locked.numbering);
            if bound.is_ok_and(|bound| !bound.accepts(version)) && !asked.who.is_project() {
                return WhyNotKept::AskedFor { who: asked.who.clone(), accept: asked.accept.clone() };
            }
        }
    }
    WhyNotKept::NoRoom
}

/// Finds what is locked as listed, and has none of the digests that the list has.
fn differing(inventory: &Inventory, taken: &Intake, lockfile: &Lockfile) -> BTreeSet<(PackageName, Version)> {
    let mut differs = BTreeSet::new();
    for (part, known) in &taken.understood {
        let digests = &inventory.parts[*part].digests;
        let Some(locked) = known.exact.as_ref().and_then(|version| lockfile.chosen.at(&known.package, version)) else {
            continue;
        };
        let has_one = locked.artifacts.iter().any(|artifact| digests.contains(&artifact.digest.to_hex()));
        if !digests.is_empty() && !has_one {
            differs.insert((known.package.clone(), locked.version.clone()));
        }
    }
    differs
}
