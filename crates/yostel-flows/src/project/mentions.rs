//! Other files of a project that mention what is locked, and follow it.

use std::collections::BTreeMap;

use yostel_documents::{Lockfile, MentionOf, PackageName, with_values};
use yostel_files::Folder;

use crate::error::FlowError;
use crate::project::LoadedProject;
use crate::project::files::MOST_MANIFEST;
use crate::project::write::Texts;

/// Something in a file that is not as it is locked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Stray {
    pub(crate) package: PackageName,
    /// The file, relative to the root.
    pub(crate) file: String,
    /// The line, from 1; none where the package is mentioned nowhere in it.
    pub(crate) line: Option<usize>,
    /// What stands there; none where the package is mentioned nowhere in it.
    pub(crate) says: Option<String>,
    /// What should; none where one cannot tell: of several versions, archives, or no commit.
    pub(crate) should: Option<String>,
}

/// Tells whether any manifest speaks of mentions.
pub(crate) fn has_mentions(project: &LoadedProject) -> bool {
    project.projects().any(|file| !file.manifest.mentions.is_empty())
}

/// Finds the files that do not mention what is locked as it is, with their texts before and as they should be, and what strays in
/// them.
///
/// # Errors
/// `Store` when a file cannot be read, is no text, or is reached through a link.
pub(crate) fn following(project: &LoadedProject, lockfile: &Lockfile) -> Result<(Texts, Vec<Stray>), FlowError> {
    let (mut texts, mut strays) = (BTreeMap::<String, (String, String)>::new(), Vec::new());
    if !has_mentions(project) {
        return Ok((texts, strays));
    }
    let root = Folder::open(&project.root)?;
    for file in project.projects() {
        let files =
            file.manifest.mentions.iter().flat_map(|(package, files)| files.iter().map(move |one| (package, one)));
        for (package, mentioned) in files {
            if !lockfile.chosen.contains_key(package) {
                continue;
            }
            let path = match file.folder.is_empty() {
                true => mentioned.file.clone(),
                false => format!("{}/{}", file.folder, mentioned.file),
            };
            let text = match texts.get(&path) {
                Some((_, after)) => after.clone(),
                None => match root.read_text(&path, MOST_MANIFEST) {
                    Ok(text) => text,
                    Err(error) if error.is_not_found() => String::new(),
                    Err(error) => return Err(error.into()),
                },
            };
            let mut places = Vec::new();
            for pattern in &mentioned.patterns {
                let should = value_of(lockfile, package, pattern.of);
                let found = pattern.places(&text);
                let stray = |line, says: Option<&str>| Stray {
                    package: package.clone(),
                    file: path.clone(),
                    line,
                    says: says.map(str::to_owned),
                    should: should.clone(),
                };
                if found.is_empty() {
                    strays.push(stray(None, None));
                }
                let (mut line, mut counted) = (1, 0);
                for at in found {
                    let says = &text[at.clone()];
                    if should.as_deref() == Some(says) {
                        continue;
                    }
                    // Counted on from the last one: there may be very many.
                    line += text[counted..at.start].matches('\n').count();
                    counted = at.start;
                    strays.push(stray(Some(line), Some(says)));
                    if let Some(should) = &should {
                        places.push((at, should.clone()));
                    }
                }
            }
            if !places.is_empty() {
                let after = with_values(&text, places);
                texts.entry(path).or_insert_with(|| (text, String::new())).1 = after;
            }
        }
    }
    Ok((texts, strays))
}

/// Returns what of a package is mentioned; nothing where it is locked several times, has several archives, or no commit.
fn value_of(lockfile: &Lockfile, package: &PackageName, of: MentionOf) -> Option<String> {
    let [locked] = lockfile.chosen.all(package) else { return None };
    match of {
        MentionOf::Version => Some(locked.version.to_string()),
        MentionOf::Digest => match &locked.artifacts[..] {
            [only] => Some(only.digest.to_hex()),
            _ => None,
        },
        MentionOf::Commit => match &locked.from {
            yostel_documents::Origin::Git { commit, .. } => Some(commit.to_string()),
            _ => None,
        },
    }
}
