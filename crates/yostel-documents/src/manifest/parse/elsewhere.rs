//! Where a need's package is, when it is not for a source to say; and which folders are a workspace's projects.

use std::collections::BTreeMap;

use super::super::{Manifest, Workspace, WorkspaceEntry};
use super::{ManifestProblemKind, Reader, Table};
use crate::digest::ArchiveDigest;
use crate::made_from::check_commit;
use crate::name::PackageName;
use crate::origin::{Elsewhere, GitAt, GitPlace};

/// The keys that say where; of these a need may have one.
const PLACES: [&str; 3] = ["git", "path", "archive"];

/// Keys that say more about a repository.
const OF_GIT: [&str; 4] = ["at", "tag", "branch", "inside"];

/// What begins with `-` would be taken for an option.
fn check_address(text: &str) -> Result<(), &'static str> {
    if text.is_empty() || text.starts_with('-') || text.chars().any(char::is_control) {
        Err("it is an address or a path, and does not begin with `-`")
    } else {
        Ok(())
    }
}

fn check_folder(text: &str) -> Result<(), &'static str> {
    let parts = |part: &str| !matches!(part, "" | "." | "..");
    if text.contains('\\') || text.chars().any(char::is_control) || !text.split('/').all(parts) {
        Err("it is a folder inside, with `/` between its parts")
    } else {
        Ok(())
    }
}

fn check_projects(text: &str) -> Result<(), &'static str> {
    let pattern = text.strip_prefix('!').unwrap_or(text);
    if pattern.contains("**") {
        return Err("`*` stands for one folder's name, or a part of it; write one entry for each level");
    }
    check_folder(pattern).map_err(|_| "it is a folder below this one, like \"console\" or \"libs/*\"")
}

impl Reader<'_> {
    /// Reads where the package of a need or swap is.
    pub(super) fn elsewhere(&mut self, table: &Table<'_>) -> Option<Elsewhere> {
        let mut said = PLACES.into_iter().filter_map(|key| Some((key, table.get(key)?)));
        let first = said.next();
        if let (Some((one, _)), Some((other, value))) = (first, said.next()) {
            self.problem(value.span(), ManifestProblemKind::TwoPlaces { one, other });
            return None;
        }
        for (owner, keys) in [("git", &OF_GIT[..]), ("archive", &["digest"])] {
            let belongs = first.is_some_and(|(key, _)| key == owner);
            for (key, value) in keys.iter().filter_map(|key| Some((*key, table.get(*key)?))) {
                if !belongs {
                    self.problem(value.span(), ManifestProblemKind::Alone { key, owner });
                }
            }
        }
        let (key, value) = first?;
        let text = self.string(key, value)?.to_owned();
        self.check(key, &text, value.span(), check_address);
        match key {
            "git" => self.git(text, table).map(Elsewhere::Git),
            "path" => Some(Elsewhere::Path(text)),
            _ => {
                let Some(digest) = table.get("digest") else {
                    let example = "digest = \"sha256:…\"";
                    let kind = ManifestProblemKind::Missing { table: "needs.*.*", key: "digest", example };
                    self.problem(value.span(), kind);
                    return None;
                };
                let written = self.string("digest", digest)?;
                let read = ArchiveDigest::parse(written).ok();
                if read.is_none() {
                    let reason = "it is `sha256:` and 64 hexadecimal digits, as sha256sum tells them";
                    let value = written.to_owned();
                    self.problem(digest.span(), ManifestProblemKind::Value { key: "digest", value, reason });
                }
                Some(Elsewhere::Archive { address: text, digest: read? })
            }
        }
    }

    fn git(&mut self, address: String, table: &Table<'_>) -> Option<GitPlace> {
        let mut states = ["at", "tag", "branch"].into_iter().filter_map(|key| Some((key, table.get(key)?)));
        let first = states.next();
        if let (Some((one, _)), Some((other, value))) = (first, states.next()) {
            self.problem(value.span(), ManifestProblemKind::TwoPlaces { one, other });
        }
        let at = match first {
            None => GitAt::Head,
            Some((key, value)) => {
                let text = self.string(key, value)?.to_owned();
                let rule = if key == "at" { check_commit } else { check_address };
                self.check(key, &text, value.span(), rule);
                match key {
                    "at" => GitAt::Commit(text),
                    "tag" => GitAt::Tag(text),
                    _ => GitAt::Branch(text),
                }
            }
        };
        let folder = match table.get("inside") {
            None => None,
            Some(value) => {
                let text = self.string("inside", value)?.to_owned();
                self.check("inside", &text, value.span(), check_folder);
                Some(text)
            }
        };
        Some(GitPlace { address, at, folder })
    }

    /// Reads the folders of a workspace's projects.
    pub(super) fn workspace(&mut self, root: &Table<'_>) -> Option<Workspace> {
        let value = root.get("workspace")?;
        let table = self.table("workspace", value)?;
        self.check_keys("workspace", table);
        let Some(list) = table.get("projects") else {
            let example = "projects = [\"console\", \"libs/*\"]";
            let kind = ManifestProblemKind::Missing { table: "workspace", key: "projects", example };
            self.problem(value.span(), kind);
            return None;
        };
        let mut projects: Vec<WorkspaceEntry> = Vec::new();
        for (pattern, span) in self.strings("projects", list) {
            self.check("projects", &pattern, span.clone(), check_projects);
            if projects.iter().any(|other| other.pattern == pattern) {
                self.problem(span, ManifestProblemKind::ListedTwice(pattern));
                continue;
            }
            projects.push(WorkspaceEntry { pattern, span });
        }
        Some(Workspace { projects })
    }

    /// Refuses two places for one package.
    pub(super) fn check_places(&mut self, manifest: &Manifest) {
        let mut met: BTreeMap<&PackageName, &Elsewhere> = BTreeMap::new();
        for (package, elsewhere, span) in manifest.places() {
            if met.insert(package, elsewhere).is_some_and(|other| other != elsewhere) {
                self.problem(span.clone(), ManifestProblemKind::PackageInTwoPlaces(package.clone()));
            }
        }
    }

    /// Refuses, in a project that is not the workspace's first, what binds all of them.
    pub(super) fn check_inner(&mut self, root: &Table<'_>) {
        for (table, inner) in ONLY_IN_ROOT {
            let there = match inner {
                None => root.get_key_value(table).map(|(key, _)| key.span()),
                Some(inner) => {
                    let table = root.get(table).and_then(|value| value.get_ref().as_table());
                    table.and_then(|table| table.get_key_value(inner)).map(|(key, _)| key.span())
                }
            };
            if let Some(span) = there {
                let kind = match table {
                    "workspace" => ManifestProblemKind::NestedWorkspace,
                    _ => ManifestProblemKind::OnlyInRoot(inner.unwrap_or(table)),
                };
                self.problem(span, kind);
            }
        }
    }
}

/// What is said once for all projects of a workspace.
const ONLY_IN_ROOT: [(&str, Option<&str>); 11] = [
    ("workspace", None),
    ("sources", None),
    ("policy", None),
    ("agreed", None),
    ("force", None),
    ("swap", None),
    ("admit", None),
    ("licence-exceptions", None),
    ("alter", None),
    ("proposals", None),
    ("project", Some("platforms")),
];
