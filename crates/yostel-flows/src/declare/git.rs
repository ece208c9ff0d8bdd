//! Letting git merge and compare manifests and lockfiles as they are meant: lines in `.gitattributes`, which everybody who
//! clones the repository gets, and settings of this clone, which git takes from nobody else.

use std::path::{Path, PathBuf};

use yostel_sources::{GitConfig, GitError, configure};

use crate::context::Context;
use crate::error::{FlowError, ProjectError};
use crate::project::files::{LOCKFILE_NAME, MANIFEST_NAME};
use crate::project::write::{Writing, content_of};

/// The file with attributes of paths (gitattributes(5)).
const ATTRIBUTES: &str = ".gitattributes";

/// What files are called, and the attributes that they are to have.
const LINES: [(&str, &[&str]); 2] =
    [(LOCKFILE_NAME, &["merge=yostel", "diff=yostel"]), (MANIFEST_NAME, &["merge=yostel"])];

/// Settings, and their values.
const SETTINGS: [(&str, &str); 3] = [
    ("merge.yostel.name", "manifests and lockfiles of yostel"),
    ("merge.yostel.driver", "yostel lock --for-git %O %A %B %P"),
    ("diff.yostel.command", "yostel compare --for-git"),
];

/// What git was told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GitReport {
    /// The file with attributes.
    pub attributes: PathBuf,
    /// The lines that it got.
    pub lines: Vec<String>,
    /// The settings that changed, each with what it was.
    pub settings: Vec<(&'static str, &'static str, Option<String>)>,
}

/// Tells git how to merge and compare the manifests and lockfiles below a folder.
///
/// # Errors
/// `NotInGit` when the folder is in no repository, or its settings cannot be written; `Store`.
pub fn prepare_git(folder: &Path, context: &Context<'_>) -> Result<GitReport, FlowError> {
    let config = GitConfig { patience: context.settings.patience.clone(), ..GitConfig::default() };
    let mut settings = Vec::new();
    for (key, value) in SETTINGS {
        let before = configure(folder, key, value, &config).map_err(|error| match error {
            GitError::Stopped(_) => FlowError::Stopped,
            error => ProjectError::NotInGit { folder: folder.to_owned(), said: error.to_string() }.into(),
        })?;
        if before.as_deref() != Some(value) {
            settings.push((key, value, before));
        }
    }
    let before = content_of(folder, ATTRIBUTES)?.unwrap_or_default();
    let mut text = String::from_utf8_lossy(&before).into_owned();
    let mut lines = Vec::new();
    for (file, attributes) in LINES {
        let has = |attribute: &str| {
            text.lines().any(|line| {
                let mut words = line.split_whitespace();
                words.next() == Some(file) && words.any(|word| word == attribute)
            })
        };
        let missing: Vec<&str> = attributes.iter().copied().filter(|attribute| !has(attribute)).collect();
        if !missing.is_empty() {
            lines.push(format!("{file} {}", missing.join(" ")));
        }
    }
    if !lines.is_empty() {
        if !text.is_empty() && !text.ends_with('\n') {
            text.push('\n');
        }
        lines.iter().for_each(|line| text.push_str(&format!("{line}\n")));
        Writing::at(folder, context).put(ATTRIBUTES, Some(text.as_bytes()))?;
    }
    Ok(GitReport { attributes: folder.join(ATTRIBUTES), lines, settings })
}
