//! A workspace: which folders are its projects, and which workspace a project is one of.

use std::collections::BTreeMap;
use std::ops::Range;
use std::path::{Component, Path, PathBuf};
use std::{fs, io};

use yostel_documents::{Manifest, PackageName, Workspace, WorkspaceEntry};
use yostel_files::for_each_in_parallel;

use crate::error::{FlowError, ProjectError, WorkspaceProblem};
use crate::project::ProjectFile;
use crate::project::files::{Files, MANIFEST_NAME, read_text};

/// Returns a path with `/` between its parts and without `.` and `..`, as far as that can be told without looking.
pub(crate) fn plain_path(path: &Path) -> String {
    let mut parts: Vec<String> = Vec::new();
    for component in path.components() {
        match component {
            Component::CurDir => {}
            Component::ParentDir if parts.last().is_some_and(|part| part != ".." && !part.is_empty()) => {
                parts.pop();
            }
            Component::ParentDir => parts.push("..".into()),
            Component::RootDir => parts.push(String::new()),
            Component::Prefix(_) | Component::Normal(_) => {
                parts.push(component.as_os_str().to_string_lossy().into_owned());
            }
        }
    }
    parts.join("/")
}

/// Tells whether a folder's name is what a part of a pattern says.
fn is_like(name: &str, pattern: &str) -> bool {
    let Some((first, rest)) = pattern.split_once('*') else { return name == pattern };
    let Some(mut left) = name.strip_prefix(first) else { return false };
    let mut parts = rest.split('*').peekable();
    while let Some(part) = parts.next() {
        if parts.peek().is_none() {
            return left.ends_with(part);
        }
        let Some(at) = left.find(part) else { return false };
        left = &left[at + part.len()..];
    }
    true
}

fn covers(pattern: &str, folder: &str) -> bool {
    let (parts, names): (Vec<&str>, Vec<&str>) = (pattern.split('/').collect(), folder.split('/').collect());
    parts.len() == names.len() && parts.iter().zip(names).all(|(part, name)| is_like(name, part))
}

/// Tells whether a folder below the root is, or would be, one of the workspace's projects.
pub(crate) fn has_project(workspace: &Workspace, folder: &str) -> bool {
    let mut patterns = workspace.projects.iter().map(|entry| entry.pattern.as_str());
    !left_out(workspace, folder) && patterns.any(|pattern| covers(pattern, folder))
}

fn left_out(workspace: &Workspace, folder: &str) -> bool {
    let mut left_out = workspace.projects.iter().filter_map(|entry| entry.pattern.strip_prefix('!'));
    left_out.any(|pattern| covers(pattern, folder))
}

/// Tells of something wrong with an entry of the workspace.
fn wrong(root: &Path, text: &str, span: Range<usize>, problem: WorkspaceProblem) -> ProjectError {
    ProjectError::Workspace { path: root.join(MANIFEST_NAME), text: text.to_owned(), span, problem: Box::new(problem) }
}

/// Reads the projects of a workspace, sorted by folder.
///
/// # Errors
/// `Workspace`, `Manifest`, `Read`.
pub(crate) fn read_projects(
    files: &dyn Files,
    root: &Path,
    text: &str,
    manifest: &Manifest,
) -> Result<Vec<ProjectFile>, FlowError> {
    let Some(workspace) = &manifest.workspace else { return Ok(Vec::new()) };
    let mut folders: BTreeMap<String, &WorkspaceEntry> = BTreeMap::new();
    // What is behind links, by where that is.
    let mut behind: BTreeMap<PathBuf, &WorkspaceEntry> = BTreeMap::new();
    for entry in workspace.projects.iter().filter(|entry| !entry.pattern.starts_with('!')) {
        let fail = |problem| wrong(root, text, entry.span.clone(), problem);
        for (folder, linked) in matching(files, root, &entry.pattern).map_err(&fail)? {
            if left_out(workspace, &folder) {
                continue;
            }
            let twice =
                |by: &WorkspaceEntry| fail(WorkspaceProblem::Twice { folder: folder.clone(), by: by.pattern.clone() });
            if linked {
                let circle = |_| fail(WorkspaceProblem::Circle(folder.clone()));
                let real = fs::canonicalize(root.join(&folder)).map_err(circle)?;
                if root.starts_with(&real) {
                    return Err(circle(io::Error::other("it leads back")).into());
                }
                if let Some(by) = behind.insert(real, entry) {
                    return Err(twice(by).into());
                }
            }
            if let Some(by) = folders.insert(folder.clone(), entry) {
                return Err(twice(by).into());
            }
        }
    }
    for (real, entry) in behind {
        let inside = real.strip_prefix(root).ok().map(plain_path);
        if let Some((folder, by)) = inside.and_then(|folder| folders.get_key_value(&folder)) {
            let problem = WorkspaceProblem::Twice { folder: folder.clone(), by: by.pattern.clone() };
            return Err(wrong(root, text, entry.span.clone(), problem).into());
        }
    }
    let listed: Vec<(&String, &&WorkspaceEntry)> = folders.iter().collect();
    let read = for_each_in_parallel(&listed, |(folder, _)| read_project(files, root, folder, manifest));
    let (mut projects, mut failures): (Vec<ProjectFile>, Vec<FlowError>) = (Vec::new(), Vec::new());
    for outcome in read {
        match outcome {
            Ok(project) => projects.push(project),
            Err(error) => failures.push(error.into()),
        }
    }
    if !failures.is_empty() {
        return Err(FlowError::several(failures));
    }
    let mut named: BTreeMap<&PackageName, &str> = [(&manifest.project.name, ".")].into();
    for project in &projects {
        let name = &project.manifest.project.name;
        if let Some(one) = named.insert(name, &project.folder) {
            let (name, one, other) = (name.clone(), one.to_owned(), project.folder.clone());
            let span = folders[&other].span.clone();
            return Err(wrong(root, text, span, WorkspaceProblem::SameName { name, one, other }).into());
        }
    }
    Ok(projects)
}

fn read_project(files: &dyn Files, root: &Path, folder: &str, above: &Manifest) -> Result<ProjectFile, ProjectError> {
    let path = root.join(folder).join(MANIFEST_NAME);
    let text = read_text(files, &path)?;
    match Manifest::parse_below(&text, &above.agreed) {
        Ok(manifest) => Ok(ProjectFile { folder: folder.to_owned(), text, manifest }),
        Err(problems) => Err(ProjectError::Manifest { path, text, problems }),
    }
}

/// Lists the folders below the root that a pattern names, and whether each was come to by a link. Where the pattern leaves
/// nothing open, the folder must be a project.
fn matching(files: &dyn Files, root: &Path, pattern: &str) -> Result<Vec<(String, bool)>, WorkspaceProblem> {
    let mut found: Vec<(String, bool)> = vec![(String::new(), false)];
    for part in pattern.split('/') {
        let mut next = Vec::new();
        for (folder, linked) in found {
            let below = |name: &str| if folder.is_empty() { name.to_owned() } else { format!("{folder}/{name}") };
            if !part.contains('*') {
                let is_link = root.join(below(part)).is_symlink();
                next.push((below(part), linked || is_link));
                continue;
            }
            let Ok(entries) = fs::read_dir(root.join(&folder)) else { continue };
            for entry in entries.flatten() {
                let (name, kind) = (entry.file_name(), entry.file_type());
                let (Some(name), Ok(kind)) = (name.to_str(), kind) else { continue };
                // What begins with a dot is no project unless it is named so.
                let hidden = name.starts_with('.') && !part.starts_with('.');
                if hidden || !is_like(name, part) || kind.is_file() {
                    continue;
                }
                next.push((below(name), linked || kind.is_symlink()));
            }
        }
        found = next;
    }
    let mut projects = Vec::new();
    for (folder, linked) in found {
        let path = root.join(&folder).join(MANIFEST_NAME);
        match fs::metadata(&path) {
            _ if files.is_file(&path) => projects.push((folder, linked)),
            // Links that lead to each other have a number of their own, which no kind says.
            Err(error) if linked && is_circle(&error) => return Err(WorkspaceProblem::Circle(folder)),
            _ if !pattern.contains('*') => return Err(WorkspaceProblem::NoProject(folder)),
            _ => {}
        }
    }
    projects.sort();
    Ok(projects)
}

fn is_circle(error: &io::Error) -> bool {
    // ELOOP, for which the standard library has no stable name.
    error.raw_os_error() == Some(if cfg!(target_os = "linux") { 40 } else { 62 })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stars_stand_for_any_part_of_one_name() {
        for (pattern, folder, covered) in [
            ("console", "console", true),
            ("libs/*", "libs/rope", true),
            ("libs/*", "libs", false),
            ("libs/*", "libs/rope/deep", false),
            ("*/rope-*", "libs/rope-lib", true),
            ("*/rope-*", "libs/ropelib", false),
            ("a*b*c", "aXbYc", true),
            ("a*b*c", "aXbY", false),
            ("a*a", "a", false),
        ] {
            assert_eq!(covers(pattern, folder), covered, "{pattern} {folder}");
        }
    }

    #[test]
    fn paths_are_told_without_detours() {
        for (path, plain) in [
            ("libs/a/../../../grip", "../grip"),
            ("./x", "x"),
            ("../../a/b", "../../a/b"),
            ("/opt/./x/../y", "/opt/y"),
            ("a/..", ""),
        ] {
            assert_eq!(plain_path(Path::new(path)), plain, "{path}");
        }
    }
}
