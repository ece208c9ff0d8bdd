//! The environment that a project's packages make, and where they lie.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use yostel_core::{
    Asker, Declared, Lockfile, Manifest, Offers, PackageName, Purpose, Version, is_loading_variable, nearest,
    run_purpose,
};
use yostel_files::read_text_of;
use yostel_store::{Cache, InstallPlan, PlannedPackage, Project, STATE_FOLDER};

use crate::compose::plan_of;
use crate::error::FlowError;
use crate::install::as_installed;
use crate::project::{LoadedProject, MANIFEST_NAME, Settings, load_fitting_lockfile};

/// Folders to put before what each variable of the environment holds.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Environment {
    /// By variable; `PATH` among them when programs are offered.
    pub prepend: BTreeMap<String, Vec<PathBuf>>,
    /// Programs that come before what PATH holds, by name, each with the package that offers it.
    pub programs: BTreeMap<String, String>,
}

/// One package of an environment.
struct Member<'l> {
    name: &'l PackageName,
    version: &'l Version,
    folder: PathBuf,
    offers: Offers,
    programs: Vec<Program>,
}

/// Composes the environment of the project that is worked on. Programs are those of what it needs itself; variables are
/// those of what came along with that too: what it asked for itself first, then the rest, each by name.
///
/// A package's own programs find what that package needs: where its needs offer programs, its own are reached through
/// launchers that put those before PATH.
///
/// # Errors
/// `NotInstalled` when the lockfile's packages are not (all) there, `Variable`, `Separator`, and as loading the lockfile.
pub fn environment(project: &LoadedProject, settings: &Settings) -> Result<Environment, FlowError> {
    let lockfile = load_fitting_lockfile(project)?;
    let target = Project::at(&project.root)?;
    let (_, selection) = as_installed(&target, &Cache::open(&settings.cache), settings);
    let declared = project.declared()?;
    let plan = plan_of(&lockfile, &declared, &selection, &project.patches()?)?;
    let mut wishes = declared.bound_wishes();
    wishes.retain(|wish| wish.asker.name() == project.here().name());
    // What was left out of the install on purpose is not missed.
    let taken = |purpose: &Purpose| selection.purposes.is_empty() || selection.purposes.contains(purpose);
    wishes.retain(|wish| taken(&wish.purpose) && wish.accept.covers(&selection.platform));
    let met = wishes.iter().filter_map(|wish| lockfile.met_by(wish, &declared));
    let direct: BTreeSet<_> = met.map(|(name, locked)| (name, &locked.version)).collect();
    let reached = lockfile.reached(&wishes, &declared, Some(&selection.platform));
    let mut packages: Vec<(&PackageName, &Version)> = reached.iter().collect();
    packages.sort_by_key(|id| !direct.contains(id));
    let mut members: Vec<Member<'_>> = Vec::new();
    for (name, version) in packages {
        let Some(folder) = folder_of(project, &plan, name, version).filter(|folder| folder.is_dir()) else {
            return Err(FlowError::NotInstalled);
        };
        // A package without a manifest offers nothing.
        let Ok(text) = read_text_of(&folder.join(MANIFEST_NAME), 1 << 20) else { continue };
        let Some(offers) = Manifest::offers_of(&text) else { continue };
        let loading = offers.variables.keys().find(|variable| is_loading_variable(variable));
        if let Some(variable) = loading.filter(|_| !project.manifest().policy.trusted_variables.contains(name)) {
            let (package, version, variable) = (name.clone(), version.clone(), variable.clone());
            return Err(FlowError::Variable { package, version, variable });
        }
        let programs = programs_in(&folder, &offers);
        members.push(Member { name, version, folder, offers, programs });
    }
    let launchers = Launchers::of(project, &lockfile, &declared, &selection.platform, &members);
    launchers.write(&target)?;
    let mut environment = Environment::default();
    for member in &members {
        if direct.contains(&(member.name, member.version)) {
            let path = environment.prepend.entry("PATH".into()).or_default();
            path.extend(launchers.program_folders(member));
            for program in &member.programs {
                let label = format!("{} {}", member.name, member.version);
                environment.programs.entry(program.name.clone()).or_insert(label);
            }
        }
        for (variable, path) in &member.offers.variables {
            environment.prepend.entry(variable.clone()).or_default().push(member.folder.join(path));
        }
    }
    environment.prepend.retain(|_, folders| !folders.is_empty());
    let all = environment.prepend.values().flatten();
    match all.into_iter().find(|folder| folder.as_os_str().as_encoded_bytes().contains(&b':')) {
        // Whoever reads the variable would take one folder for two.
        Some(folder) => Err(FlowError::Separator(folder.clone())),
        None => Ok(environment),
    }
}

/// A program that a package offers.
struct Program {
    name: String,
    /// Its path below the package's folder.
    path: String,
}

/// Lists the programs that a package offers, in the order of its folders.
fn programs_in(folder: &Path, offers: &Offers) -> Vec<Program> {
    let mut programs: Vec<Program> = Vec::new();
    for at in &offers.programs {
        let first = programs.len();
        for entry in std::fs::read_dir(folder.join(at)).into_iter().flatten().flatten() {
            let is_program = entry.path().metadata().is_ok_and(|metadata| {
                metadata.is_file() && std::os::unix::fs::PermissionsExt::mode(&metadata.permissions()) & 0o111 != 0
            });
            if let Some(name) = entry.file_name().to_str().filter(|_| is_program) {
                programs.push(Program { name: name.to_owned(), path: format!("{at}/{name}") });
            }
        }
        programs[first..].sort_by(|a: &Program, b| a.name.cmp(&b.name));
    }
    programs
}

/// Launchers: for packages whose own needs offer programs, one small script for each of their programs. It puts the
/// programs of those needs before PATH and becomes the program; so a package finds what it needs, and nobody else does.
///
/// They are made when an environment is asked for, below `.yostel/launch`, and hold no path of this machine.
struct Launchers<'m, 'l> {
    root: PathBuf,
    members: &'m [Member<'l>],
    /// For each member, the members it needs to run, as far as those offer programs.
    needs: Vec<Vec<usize>>,
}

impl<'m, 'l> Launchers<'m, 'l> {
    fn of(
        project: &LoadedProject,
        lockfile: &Lockfile,
        declared: &Declared,
        platform: &str,
        members: &'m [Member<'l>],
    ) -> Self {
        let at: BTreeMap<(&PackageName, &Version), usize> =
            members.iter().enumerate().map(|(at, member)| ((member.name, member.version), at)).collect();
        let mut needs: Vec<Vec<usize>> = vec![Vec::new(); members.len()];
        let offers = |at: &usize| !members[*at].programs.is_empty();
        for (name, locked) in lockfile.chosen.iter() {
            let Some(needed) = at.get(&(name, &locked.version)).copied().filter(|at| offers(at)) else { continue };
            for asked in locked.asked_by.iter().filter(|asked| asked.accept.covers(platform)) {
                if let Asker::Release(asker, version) = &asked.who
                    && !declared.live.contains_key(asker)
                    && let Some(asker) = at.get(&(asker, version))
                {
                    needs[*asker].push(needed);
                }
            }
        }
        // A project's needs, and those of a path, are what they declare by now.
        let bound = declared.bound_wishes();
        let of_live = declared.live.keys().flat_map(|name| declared.needs_of_live(name));
        let runs = bound.into_iter().filter(|wish| wish.purpose == run_purpose()).chain(of_live);
        for need in runs.filter(|need| need.accept.covers(platform)) {
            let asker = members
                .iter()
                .position(|member| member.name == need.asker.name() && declared.live.contains_key(member.name));
            let met = lockfile.met_by(&need, declared).and_then(|(name, locked)| at.get(&(name, &locked.version)));
            if let (Some(asker), Some(needed)) = (asker, met.copied().filter(|at| offers(at))) {
                needs[asker].push(needed);
            }
        }
        for of_one in &mut needs {
            of_one.sort_unstable();
            of_one.dedup();
        }
        Self { root: project.root.clone(), members, needs }
    }

    fn index(&self, member: &Member<'_>) -> usize {
        let same = |other: &Member<'_>| (other.name, other.version) == (member.name, member.version);
        self.members.iter().position(same).expect("it is one of them")
    }

    fn launched(&self, at: usize) -> bool {
        !self.needs[at].is_empty() && !self.members[at].programs.is_empty()
    }

    /// Returns where a member's launchers are, below `.yostel`.
    fn folder(&self, at: usize) -> String {
        let member = &self.members[at];
        format!("launch/{}/{}", member.name.to_path_element(), member.version)
    }

    /// Returns the folders to put before PATH for a member's programs.
    fn program_folders(&self, member: &Member<'_>) -> Vec<PathBuf> {
        let at = self.index(member);
        match self.launched(at) {
            true => vec![self.root.join(STATE_FOLDER).join(self.folder(at))],
            false => member.offers.programs.iter().map(|path| member.folder.join(path)).collect(),
        }
    }

    /// Writes the scripts that are not there yet as they should be, and removes others of these packages.
    fn write(&self, target: &Project) -> Result<(), FlowError> {
        for (at, member) in self.members.iter().enumerate().filter(|(at, _)| self.launched(*at)) {
            let folder = self.folder(at);
            // Of two by one name, the first folder's counts, as on any path.
            let programs = member.programs.iter().rev();
            let wanted: BTreeMap<String, String> = programs
                .map(|program| (program.name.clone(), self.script(at, &member.folder.join(&program.path))))
                .collect();
            target.write_launchers(&folder, &wanted)?;
        }
        Ok(())
    }

    fn script(&self, at: usize, program: &Path) -> String {
        let folders = self.needs[at].iter().flat_map(|needed| self.program_folders(&self.members[*needed]));
        let path: String = folders.map(|folder| format!("{}:", self.seen_from_state(&folder))).collect();
        format!(
            "#!/bin/sh\n# Written by yostel: the program, with what its package needs before PATH.\n\
             state=${{0%/launch/*}}\nPATH={path}\"$PATH\"\nexport PATH\nexec {} \"$@\"\n",
            self.seen_from_state(program)
        )
    }

    /// Writes a path for a shell, as seen from `.yostel`.
    fn seen_from_state(&self, path: &Path) -> String {
        let quoted = |text: &str| format!("'{}'", text.replace('\'', "'\\''"));
        let state = self.root.join(STATE_FOLDER);
        match (path.strip_prefix(&state), path.strip_prefix(&self.root)) {
            (Ok(below), _) => format!("\"$state\"/{}", quoted(&below.to_string_lossy())),
            (_, Ok(below)) => format!("\"$state\"/../{}", quoted(&below.to_string_lossy())),
            // A path elsewhere is this machine's anyway.
            _ => quoted(&path.to_string_lossy()),
        }
    }
}

/// Returns where a package lies, or would when it were installed.
fn folder_of(project: &LoadedProject, plan: &InstallPlan, package: &PackageName, version: &Version) -> Option<PathBuf> {
    if let Some(folder) = plan.live.get(package) {
        let folder = project.root.join(folder);
        return Some(folder.canonicalize().unwrap_or(folder));
    }
    let planned = plan.packages.at(package, version)?;
    Some(project.root.join(STATE_FOLDER).join("packages").join(planned.folder()))
}

/// Returns the folder where a package is installed.
///
/// # Errors
/// `NotLocked`, `NotInstalled`, and as loading the lockfile.
pub fn where_is(project: &LoadedProject, package: &PackageName, settings: &Settings) -> Result<PathBuf, FlowError> {
    let live = project.live();
    let folder = match live.get(package).and_then(|live| live.origin.live_folder()) {
        Some(folder) => project.root.join(folder),
        None => {
            let planned = planned_package(project, package, settings)?;
            Project::at(&project.root)?.state().join("packages").join(planned.folder())
        }
    };
    let folder = folder.canonicalize().unwrap_or(folder);
    if folder.is_dir() { Ok(folder) } else { Err(FlowError::NotInstalled) }
}

/// Plans a locked package as it is, or would be, installed.
pub(crate) fn planned_package(
    project: &LoadedProject,
    package: &PackageName,
    settings: &Settings,
) -> Result<PlannedPackage, FlowError> {
    let lockfile = load_fitting_lockfile(project)?;
    let (_, selection) = as_installed(&Project::at(&project.root)?, &Cache::open(&settings.cache), settings);
    let declared = project.declared()?;
    let mut plan = plan_of(&lockfile, &declared, &selection, &project.patches()?)?;
    // Of several, the one that the project worked on gets; else the newest.
    let here = project.here().name();
    let wishes = declared.bound_wishes();
    let wish = wishes.iter().find(|wish| wish.package == *package && wish.asker.name() == here);
    let own = wish.and_then(|wish| lockfile.met_by(wish, &declared));
    if let Some(planned) = own.and_then(|(_, locked)| plan.packages.at(package, &locked.version)) {
        return Ok(planned.clone());
    }
    if let Some(planned) = plan.packages.remove(package) {
        return Ok(planned);
    }
    // Locked, and not for what is installed.
    if lockfile.chosen.contains_key(package) {
        return Err(FlowError::NotInstalled);
    }
    let near = nearest(package.as_str(), plan.packages.keys().map(PackageName::as_str));
    let near = near.and_then(|near| PackageName::parse(near).ok());
    Err(FlowError::NotLocked { package: package.clone(), near })
}
