//! What git is answered, which calls `lock --for-git` to merge a manifest or a lockfile (gitattributes(5), "Defining a custom merge
//! driver"). The standard output is git's own, so what is told goes to the standard error; any status but 0 leaves the path to be
//! merged by people.

use std::path::{Path, PathBuf};

use yostel_flows::{
    FlowError, LOCKFILE_NAME, MANIFEST_NAME, load_project, merge_lockfiles_for_git, merge_manifests_for_git,
};

use crate::answer::Answer;
use crate::call::Call;
use crate::exit::Exit;
use crate::render::{join, note_at_once, tell};

/// Merges the files that git hands over, which are of this path.
pub(super) fn run(files: [PathBuf; 3], path: &Path, call: &Call) -> Result<Answer, FlowError> {
    let folder = call.folder.join(path);
    let folder = folder.parent().unwrap_or(&call.folder);
    match path.file_name().and_then(|name| name.to_str()) {
        Some(LOCKFILE_NAME) => {
            let project = load_project(folder, &call.settings)?;
            for both in merge_lockfiles_for_git(&project, files, &call.context())? {
                let (package, ours, theirs) = (both.package, both.ours, both.theirs);
                let says = format!(
                    "both sides moved {package}: ours to {ours}, theirs to {theirs}; the newer stays where it can"
                );
                tell(&note_at_once(says));
            }
            Ok(Answer::words(Exit::Fine, String::new()))
        }
        Some(MANIFEST_NAME) => match merge_manifests_for_git(folder, files, &call.context())? {
            None => Ok(Answer::words(Exit::Fine, String::new())),
            Some(keys) => {
                let keys: Vec<String> = keys.iter().map(|key| format!("`{key}`")).collect();
                let of = if keys.is_empty() { String::new() } else { format!(": {}", join(&keys)) };
                tell(&note_at_once(format!("both sides changed the same of {}{of}", path.display())));
                Ok(Answer::words(Exit::Findings, String::new()))
            }
        },
        _ => {
            tell(&note_at_once(format!("{} is neither a manifest nor a lockfile", path.display())));
            Ok(Answer::words(Exit::Findings, String::new()))
        }
    }
}
