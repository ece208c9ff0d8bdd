//! Writing the project's own files, all of them or none. The journal is told before, so that all of it can be undone.

use std::collections::BTreeMap;
use std::fs::File;
use std::io;
use std::path::Path;

use yostel_documents::{EditError, NeedForm, Requirement, add_need, remove_need};
use yostel_files::{Folder, Hold, lock, read_of, write_atomically};
use yostel_resolve::RequirementEdit;

use crate::context::Context;
use crate::error::{FlowError, ProjectError};
use crate::observer::{Event, go_on, waiting};
use crate::project::LoadedProject;
use crate::project::files::{LOCKFILE_NAME, MANIFEST_NAME, MOST_LOCKFILE, STATEMENTS_NAME, read_text};

/// Manifests by their path relative to the root, before and after an edit.
pub(crate) type Texts = BTreeMap<String, (String, String)>;

/// Holds a project's folder while its own files are looked at and written, so that of several that edit at once, one does
/// so at a time. Where a folder cannot be locked, nothing is held.
///
/// # Errors
/// `Stopped`.
pub(crate) fn hold_files(root: &Path, context: &Context<'_>) -> Result<Option<File>, FlowError> {
    let folder = File::open(root).ok();
    if let Some(folder) = &folder {
        lock(folder, Hold::Alone, root, waiting(context.observer, Event::Wait)).ok();
    }
    go_on(context.observer)?;
    Ok(folder)
}

/// Files of a project that are being written.
pub(crate) struct Writing<'w> {
    root: &'w Path,
    context: &'w Context<'w>,
    /// Whether the journal is told.
    is_news: bool,
    /// What was there before, in the order in which it was written.
    before: Vec<(String, Option<Vec<u8>>)>,
}

impl<'w> Writing<'w> {
    /// Begins; nothing is written yet.
    pub(crate) fn at(root: &'w Path, context: &'w Context<'w>) -> Self {
        Self { root, context, is_news: true, before: Vec::new() }
    }

    /// Begins to put back what the journal has: it is told by whoever reads it.
    pub(crate) fn again(root: &'w Path, context: &'w Context<'w>) -> Self {
        Self { is_news: false, ..Self::at(root, context) }
    }

    /// Writes a file, or removes it. What was written before is put back when it cannot be.
    ///
    /// # Errors
    /// When it cannot be read, since it could not be put back then, or cannot be written.
    pub(crate) fn put(&mut self, path: &str, content: Option<&[u8]>) -> Result<(), FlowError> {
        let put = self.try_put(path, content);
        if put.is_err() {
            self.put_back()?;
        }
        put
    }

    fn try_put(&mut self, path: &str, content: Option<&[u8]>) -> Result<(), FlowError> {
        let before = content_of(self.root, path)?;
        self.context.observer.notice(Event::Write(kind_of(path)));
        self.note(path, before.as_deref(), content);
        match put(self.root, path, content) {
            Ok(()) => self.before.push((path.to_owned(), before)),
            // It is as it was, since files are written whole or not at all.
            Err(error) => {
                self.note(path, None, before.as_deref());
                return Err(error);
            }
        }
        Ok(())
    }

    fn note(&self, path: &str, before: Option<&[u8]>, after: Option<&[u8]>) {
        let Context { settings, cache, observer } = self.context;
        if self.is_news
            && let Err(error) = settings.journal.note(self.root, path, (before, after), (cache, settings.now))
        {
            observer.notice(Event::NotRemembered(error.to_string()));
        }
    }

    /// Puts everything back as it was; what cannot be put back does not keep the rest from it.
    fn put_back(&mut self) -> Result<(), FlowError> {
        let mut failed = Ok(());
        while let Some((path, before)) = self.before.pop() {
            match put(self.root, &path, before.as_deref()) {
                Ok(()) => self.note(&path, None, before.as_deref()),
                Err(error) => failed = Err(error),
            }
        }
        failed
    }

    /// Puts everything back when what came after failed.
    pub(crate) fn unless_done<T>(mut self, outcome: Result<T, FlowError>) -> Result<T, FlowError> {
        if outcome.is_err() {
            self.put_back()?;
        }
        outcome
    }
}

/// Says which of a project's own files a path is of, for those who look on.
fn kind_of(path: &str) -> &'static str {
    match path.rsplit('/').next() {
        Some(MANIFEST_NAME) => MANIFEST_NAME,
        Some(LOCKFILE_NAME) => LOCKFILE_NAME,
        Some(STATEMENTS_NAME) => STATEMENTS_NAME,
        _ => "the patch",
    }
}

/// Tells whether a file's folder is one that its user chose, and may be reached through a link. Folders of patches are made
/// here.
fn is_in_users_folder(path: &str) -> bool {
    kind_of(path) != "the patch"
}

/// Reads one of a project's own files; nothing when it is not there.
///
/// # Errors
/// When it is there and cannot be read.
pub(crate) fn content_of(root: &Path, path: &str) -> Result<Option<Vec<u8>>, FlowError> {
    if !is_in_users_folder(path) {
        return match Folder::open(root)?.read(path, MOST_LOCKFILE) {
            Err(error) if error.is_not_found() => Ok(None),
            read => Ok(Some(read?)),
        };
    }
    match read_of(&root.join(path), MOST_LOCKFILE) {
        Ok(content) => Ok(Some(content)),
        Err(cause) if cause.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(cause) => Err(ProjectError::Read { path: root.join(path), cause }.into()),
    }
}

fn put(root: &Path, path: &str, content: Option<&[u8]>) -> Result<(), FlowError> {
    let below = Path::new(path);
    let parent = below.parent().filter(|folder| !folder.as_os_str().is_empty());
    match content {
        Some(content) if is_in_users_folder(path) => Ok(write_atomically(&root.join(path), content)?),
        Some(content) => {
            let root = Folder::open(root)?;
            if let Some(folder) = parent {
                root.make_folders(folder)?;
            }
            Ok(root.write_atomically(path, content)?)
        }
        None => {
            let root = Folder::open(root)?;
            root.remove_file(path)?;
            // Only empty folders go: those of the last patch.
            let mut above = parent.filter(|_| !is_in_users_folder(path));
            while let Some(folder) = above.filter(|folder| root.remove_if_empty(folder)) {
                above = folder.parent().filter(|folder| !folder.as_os_str().is_empty());
            }
            Ok(())
        }
    }
}

/// Writes edited manifests, all of them or none; none, when one is not any more what was edited.
///
/// # Errors
/// `ChangedMeanwhile`, `Stopped`, `Read`, or `Store` when one cannot be written.
pub(crate) fn write_manifests(project: &LoadedProject, texts: &Texts, context: &Context<'_>) -> Result<(), FlowError> {
    write_with_lockfile(project, texts, None, context)
}

/// Like [`write_manifests`], and the lockfile last, when it is given one.
///
/// # Errors
/// As there.
pub(crate) fn write_with_lockfile(
    project: &LoadedProject,
    texts: &Texts,
    lockfile: Option<&str>,
    context: &Context<'_>,
) -> Result<(), FlowError> {
    if texts.is_empty() && lockfile.is_none() {
        return Ok(());
    }
    let _held = hold_files(&project.root, context)?;
    for (file, (before, _)) in texts {
        let path = project.root.join(file);
        if read_text(&*project.files, &path)? != *before {
            return Err(ProjectError::ChangedMeanwhile(path).into());
        }
    }
    let mut writing = Writing::at(&project.root, context);
    for (file, (_, after)) in texts {
        writing.put(file, Some(after.as_bytes()))?;
    }
    match lockfile {
        Some(text) => writing.put(LOCKFILE_NAME, Some(text.as_bytes())),
        None => Ok(()),
    }
}

/// Writes edits of needs into the texts of manifests, by their path relative to the root; those that are not among the texts
/// yet begin as they are. Returns whether every need is one of a project of this workspace.
///
/// # Errors
/// As editing.
pub(crate) fn edit_needs(
    project: &LoadedProject,
    texts: &mut BTreeMap<String, String>,
    edits: &[RequirementEdit],
) -> Result<bool, EditError> {
    for edit in edits {
        let Requirement { asker, purpose, package, .. } = edit.requirement();
        let Some(file) = project.projects().find(|file| *file.name() == *asker.name()) else { return Ok(false) };
        let text = texts.entry(file.manifest_path()).or_insert_with(|| file.text.clone());
        *text = match edit {
            RequirementEdit::Change { accept, .. } => {
                add_need(text, purpose, package, &NeedForm::Constraint(accept.clone()))?.text
            }
            RequirementEdit::Drop { .. } => remove_need(text, Some(purpose), package)?.text,
        };
    }
    Ok(true)
}
