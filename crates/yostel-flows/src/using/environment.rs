//! The environment that a project's packages make.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

use yostel_documents::{Manifest, PackageName, Purpose, is_loading_variable};
use yostel_files::read_text_of;
use yostel_versions::Version;

use crate::context::Context;
use crate::error::{FlowError, InstallError};
use crate::observer::{Event, waiting};
use crate::plan::installed::CurrentInstall;
use crate::plan::launchers::{Launchers, Member, programs_in};
use crate::plan::planned::folder_of;
use crate::project::LoadedProject;
use crate::project::files::{MANIFEST_NAME, MOST_MANIFEST};
use crate::project::prepared::Prepared;

/// Folders to put before what each variable of the environment holds.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Environment {
    /// By variable; `PATH` among them when programs are offered.
    pub prepend: BTreeMap<String, Vec<PathBuf>>,
    /// Programs that come before what PATH holds, by name, each with the package that offers it.
    pub programs: BTreeMap<String, String>,
}

/// Composes the environment of the project that is worked on. Programs are those of what it needs itself; variables are
/// those of what came along with that too: what it asked for itself first, then the rest, each by name.
///
/// A package's own programs find what that package needs: where its needs offer programs, its own are reached through
/// launchers that put those before PATH.
///
/// # Errors
/// `NotInstalled` when the lockfile's packages are not (all) there, `Variable`, `Separator`, and as loading the lockfile.
pub fn environment(project: &LoadedProject, context: &Context<'_>) -> Result<Environment, FlowError> {
    environment_for(project, &BTreeSet::new(), context)
}

/// Like [`environment`], with what is needed for these purposes alone; for all of them when there are none.
///
/// # Errors
/// As there.
pub fn environment_for(
    project: &LoadedProject,
    purposes: &BTreeSet<Purpose>,
    context: &Context<'_>,
) -> Result<Environment, FlowError> {
    let prepared = project.prepare_to_look(context.observer)?;
    let CurrentInstall { target, selection, prepared, plan, .. } = project.installed(prepared, context)?;
    let Prepared { lockfile, declared, .. } = prepared;
    let mut requirements = declared.bound_requirements();
    requirements.retain(|requirement| requirement.asker.name() == project.here().name());
    requirements.retain(|requirement| purposes.is_empty() || purposes.contains(&requirement.purpose));
    // What was left out of the install on purpose is not missed.
    let taken = |purpose: &Purpose| selection.purposes.is_empty() || selection.purposes.contains(purpose);
    requirements.retain(|requirement| taken(&requirement.purpose) && requirement.accept.covers(&selection.platform));
    let met = requirements.iter().filter_map(|requirement| lockfile.met_by(requirement, &declared));
    let direct: BTreeSet<_> = met.map(|(name, locked)| (name, &locked.version)).collect();
    let reached = lockfile.reached(&requirements, &declared, Some(&selection.platform));
    let mut packages: Vec<(&PackageName, &Version)> = reached.iter().collect();
    packages.sort_by_key(|id| !direct.contains(id));
    let mut members: Vec<Member<'_>> = Vec::new();
    for (name, version) in packages {
        let Some(folder) = folder_of(project, &plan, name, version).filter(|folder| folder.is_dir()) else {
            return Err(InstallError::NotInstalled.into());
        };
        // A package without a manifest offers nothing.
        let Ok(text) = read_text_of(&folder.join(MANIFEST_NAME), MOST_MANIFEST) else { continue };
        let Some(offers) = Manifest::offers_of(&text) else { continue };
        let loading = offers.variables.keys().find(|variable| is_loading_variable(variable));
        if let Some(variable) = loading.filter(|_| !project.manifest().policy.trusted_variables.contains(name)) {
            let (package, version, variable) = (name.clone(), version.clone(), variable.clone());
            return Err(InstallError::Variable { package, version, variable }.into());
        }
        let programs = programs_in(&folder, &offers);
        members.push(Member { name, version, folder, offers, programs });
    }
    let launchers = Launchers::of(project, &lockfile, &declared, &selection.platform, &members);
    target.write_launchers(&launchers.scripts(), waiting(context.observer, Event::Wait))?;
    let mut environment = Environment::default();
    for member in &members {
        if direct.contains(&(member.name, member.version)) {
            for folder in launchers.program_folders(member) {
                environment.prepend.entry("PATH".into()).or_default().push(folder);
            }
            for program in &member.programs {
                let label = format!("{} {}", member.name, member.version);
                environment.programs.entry(program.name.clone()).or_insert(label);
            }
        }
        for (variable, path) in &member.offers.variables {
            environment.prepend.entry(variable.clone()).or_default().push(member.folder.join(path));
        }
    }
    let all = environment.prepend.values().flatten();
    match all.into_iter().find(|folder| folder.as_os_str().as_encoded_bytes().contains(&b':')) {
        // Whoever reads the variable would take one folder for two.
        Some(folder) => Err(InstallError::Separator(folder.clone()).into()),
        None => Ok(environment),
    }
}
