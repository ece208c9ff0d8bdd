//! Packages that come from elsewhere than a source: where each is, followed from one manifest to the next.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use yostel_documents::{Elsewhere, GitPlace, Manifest, PackageName, run_purpose};

use crate::error::{PathProblem, ProjectError, WorkspaceProblem};
use crate::project::files::{Files, MANIFEST_NAME, read_text};
use crate::project::workspace::plain_path;
use crate::project::{LoadedProject, PathPackage};

/// Where a package was said to be.
struct Said {
    package: PackageName,
    elsewhere: Elsewhere,
    /// The folder of the manifest that says so, as seen from the root or absolute.
    folder: String,
}

fn said_by(manifest: &Manifest, folder: &str) -> Vec<Said> {
    let said = |(package, elsewhere, _): (&PackageName, &Elsewhere, _)| Said {
        package: package.clone(),
        elsewhere: elsewhere.clone(),
        folder: folder.to_owned(),
    };
    manifest.places().map(said).collect()
}

/// Tells whether an address is a path on this machine that depends on where one is.
pub(crate) fn is_relative(address: &str) -> bool {
    !address.starts_with('/') && !address.contains(':')
}

/// Says how one gets from a folder to a path, both absolute.
pub(crate) fn path_from(folder: &Path, path: &Path) -> String {
    let (folder, path) = (plain_path(folder), plain_path(path));
    let (from, to): (Vec<&str>, Vec<&str>) = (folder.split('/').collect(), path.split('/').collect());
    let shared = from.iter().zip(&to).take_while(|(one, other)| one == other).count();
    let up = std::iter::repeat_n("..", from.len() - shared);
    let way: Vec<&str> = up.chain(to[shared..].iter().copied()).collect();
    if way.is_empty() { ".".into() } else { way.join("/") }
}

/// Says where something is as seen from the root.
fn from_root(folder: &str, path: &str) -> String {
    let joined = plain_path(&Path::new(folder).join(path));
    if joined.is_empty() { ".".into() } else { joined }
}

impl Said {
    fn seen_from_root(&self) -> Elsewhere {
        let address = |text: &str| if is_relative(text) { from_root(&self.folder, text) } else { text.to_owned() };
        match &self.elsewhere {
            Elsewhere::Path(path) => Elsewhere::Path(from_root(&self.folder, path)),
            Elsewhere::Git(place) => Elsewhere::Git(GitPlace { address: address(&place.address), ..place.clone() }),
            Elsewhere::Archive { address: text, digest } => {
                Elsewhere::Archive { address: address(text), digest: *digest }
            }
        }
    }
}

impl LoadedProject {
    /// Finds where every package is that no source tells of, and reads those that are in folders, which may name more.
    pub(crate) fn read_places(&mut self) -> Result<(), ProjectError> {
        let mut open: Vec<Said> =
            self.projects().flat_map(|project| said_by(&project.manifest, &project.folder)).collect();
        open.reverse();
        let mut places: BTreeMap<PackageName, Elsewhere> = BTreeMap::new();
        self.paths.clear();
        if self.is_workspace() {
            for said in &open {
                let own = self.projects().find(|project| project.manifest.project.name == said.package);
                if let Some(own) = own {
                    let one = format!("project {}", if own.folder.is_empty() { "." } else { &own.folder });
                    return Err(self.two_places(said, one, said.seen_from_root().to_string()));
                }
            }
        }
        while let Some(said) = open.pop() {
            let elsewhere = said.seen_from_root();
            if let Some(other) = places.get(&said.package) {
                if *other != elsewhere {
                    return Err(self.two_places(&said, other.to_string(), elsewhere.to_string()));
                }
                continue;
            }
            if let Elsewhere::Path(folder) = &elsewhere {
                let manifest = read_package(&*self.files, &said.package, &self.root.join(folder))?;
                if let Some(manifest) = &manifest {
                    // Only what it needs to run is anybody else's affair.
                    let run = manifest.needs.get(&run_purpose());
                    let run = |said: &Said| run.is_some_and(|needs| needs.contains_key(&said.package));
                    open.extend(said_by(manifest, folder).into_iter().filter(run));
                }
                self.paths.insert(said.package.clone(), PathPackage { folder: folder.clone(), manifest });
            }
            places.insert(said.package, elsewhere);
        }
        places.retain(|_, elsewhere| !matches!(elsewhere, Elsewhere::Path(_)));
        self.elsewhere = places;
        Ok(())
    }

    fn two_places(&self, said: &Said, one: String, other: String) -> ProjectError {
        let at = |file: &&crate::project::ProjectFile| file.folder == said.folder;
        let file = self.projects().find(at).unwrap_or(&self.top);
        let span = file.manifest.places().find(|(package, ..)| **package == said.package);
        ProjectError::Workspace {
            path: self.manifest_of(file),
            text: file.text.clone(),
            span: span.map(|(_, _, span)| span.clone()).unwrap_or_default(),
            problem: Box::new(WorkspaceProblem::TwoPlaces { package: said.package.clone(), one, other }),
        }
    }
}

/// Reads the manifest of a package in a folder; nothing when it has none.
pub(crate) fn read_package(
    files: &dyn Files,
    package: &PackageName,
    folder: &Path,
) -> Result<Option<Manifest>, ProjectError> {
    let fail = |problem| ProjectError::Path { package: package.clone(), folder: folder.to_owned(), problem };
    if !folder.is_dir() {
        return Err(fail(PathProblem::NoFolder));
    }
    let path: PathBuf = folder.join(MANIFEST_NAME);
    if !path.exists() && !files.is_file(&path) {
        return Ok(None);
    }
    let text = read_text(files, &path)?;
    let manifest = match Manifest::parse(&text) {
        Ok(manifest) => manifest,
        Err(problems) => return Err(ProjectError::Manifest { path, text, problems }),
    };
    let found = &manifest.project.name;
    if found == package { Ok(Some(manifest)) } else { Err(fail(PathProblem::OtherName(found.clone()))) }
}
