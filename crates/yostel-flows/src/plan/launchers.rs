//! What launchers say: how a package's own programs find the programs that the package needs.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use yostel_documents::{Asker, Declared, Lockfile, Offers, PackageName, run_purpose};
use yostel_store::{LAUNCH, STATE_FOLDER};
use yostel_versions::Version;

use crate::project::LoadedProject;

/// One package of an environment.
pub(crate) struct Member<'l> {
    pub(crate) name: &'l PackageName,
    pub(crate) version: &'l Version,
    pub(crate) folder: PathBuf,
    pub(crate) offers: Offers,
    pub(crate) programs: Vec<Program>,
}

/// A program that a package offers.
pub(crate) struct Program {
    pub(crate) name: String,
    /// Its path below the package's folder.
    pub(crate) path: String,
}

/// Lists the programs that a package offers, in the order of its folders.
pub(crate) fn programs_in(folder: &Path, offers: &Offers) -> Vec<Program> {
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
pub(crate) struct Launchers<'m, 'l> {
    root: PathBuf,
    members: &'m [Member<'l>],
    /// For each member, the members it needs to run, as far as those offer programs.
    needs: Vec<Vec<usize>>,
}

impl<'m, 'l> Launchers<'m, 'l> {
    pub(crate) fn of(
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
                    && !declared.local.contains_key(asker)
                    && let Some(asker) = at.get(&(asker, version))
                {
                    needs[*asker].push(needed);
                }
            }
        }
        // A project's needs, and those of a path, are what they declare by now.
        let bound = declared.bound_requirements();
        let of_local = declared.local.keys().flat_map(|name| declared.needs_of_local(name));
        let runs = bound.into_iter().filter(|requirement| requirement.purpose == run_purpose()).chain(of_local);
        for need in runs.filter(|need| need.accept.covers(platform)) {
            let asker = members
                .iter()
                .position(|member| member.name == need.asker.name() && declared.local.contains_key(member.name));
            let met = lockfile.met_by(&need, declared).and_then(|(name, locked)| at.get(&(name, &locked.version)));
            if let (Some(asker), Some(needed)) = (asker, met.copied().filter(|at| offers(at))) {
                needs[asker].push(needed);
            }
        }
        for of_one in &mut needs {
            of_one.sort_unstable();
            of_one.dedup();
        }
        Self { root: project.target.clone(), members, needs }
    }

    fn index(&self, member: &Member<'_>) -> usize {
        let same = |other: &Member<'_>| (other.name, other.version) == (member.name, member.version);
        self.members.iter().position(same).expect("it is one of them")
    }

    fn launched(&self, at: usize) -> bool {
        !self.needs[at].is_empty() && !self.members[at].programs.is_empty()
    }

    /// Returns where a member's launchers are, below `.yostel/launch`.
    fn folder(&self, at: usize) -> PathBuf {
        let member = &self.members[at];
        Path::new(&member.name.to_path()).join(member.version.to_string())
    }

    /// Returns the folders to put before PATH for a member's programs.
    pub(crate) fn program_folders(&self, member: &Member<'_>) -> Vec<PathBuf> {
        let at = self.index(member);
        match self.launched(at) {
            true => vec![self.root.join(STATE_FOLDER).join(LAUNCH).join(self.folder(at))],
            false => member.offers.programs.iter().map(|path| member.folder.join(path)).collect(),
        }
    }

    /// Returns all the scripts.
    pub(crate) fn scripts(&self) -> yostel_store::Launchers {
        let launched = self.members.iter().enumerate().filter(|(at, _)| self.launched(*at));
        launched
            .map(|(at, member)| {
                // Of two by one name, the first folder's counts, as on any path.
                let programs = member.programs.iter().rev();
                let script = |program: &Program| self.script(at, &member.folder.join(&program.path));
                (self.folder(at), programs.map(|program| (program.name.clone(), script(program))).collect())
            })
            .collect()
    }

    fn script(&self, at: usize, program: &Path) -> String {
        let folders = self.needs[at].iter().flat_map(|needed| self.program_folders(&self.members[*needed]));
        // Up from `launch`, the folders of the name, the version and the program.
        let up = "/*".repeat(self.members[at].name.levels() + 3);
        let path: String = folders.map(|folder| format!("{}:", self.seen_from_state(&folder))).collect();
        format!(
            "#!/bin/sh\n# Written by yostel: the program, with what its package needs before PATH.\n\
             state=${{0%{up}}}\nPATH={path}\"$PATH\"\nexport PATH\nexec {} \"$@\"\n",
            self.seen_from_state(program)
        )
    }

    /// Writes a path for a shell, as seen from `.yostel`.
    fn seen_from_state(&self, path: &Path) -> String {
        let state = self.root.join(STATE_FOLDER);
        match (path.strip_prefix(&state), path.strip_prefix(&self.root)) {
            (Ok(below), _) => format!("\"$state\"/{}", quoted(&below.to_string_lossy())),
            (_, Ok(below)) => format!("\"$state\"/../{}", quoted(&below.to_string_lossy())),
            // A path elsewhere is this machine's anyway.
            _ => quoted(&path.to_string_lossy()),
        }
    }
}

/// Writes a text so that a POSIX shell reads it as it is, in single quotes (POSIX.1-2017, Shell Command Language, §2.2.2).
pub fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}
