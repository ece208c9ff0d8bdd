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
use crate::project::journal::Change;

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
        self.put_all(&[(path, content)])
    }

    /// Writes files, or removes them, in this order: all of them or none.
    ///
    /// # Errors
    /// As [`Self::put`].
    pub(crate) fn put_all(&mut self, files: &[(&str, Option<&[u8]>)]) -> Result<(), FlowError> {
        let put = self.try_put_all(files);
        if put.is_err() {
            self.put_back()?;
        }
        put
    }

    fn try_put_all(&mut self, files: &[(&str, Option<&[u8]>)]) -> Result<(), FlowError> {
        let before = files.iter().map(|(path, _)| content_of(self.root, path));
        let before = before.collect::<Result<Vec<Option<Vec<u8>>>, FlowError>>()?;
        let all = files.iter().zip(&before);
        let all: Vec<_> = all.map(|((path, after), before)| (*path, before.as_deref(), *after)).collect();
        self.note(&all);
        for (at, ((path, content), before)) in files.iter().zip(&before).enumerate() {
            self.context.observer.notice(Event::Write(OwnFile::of(path).word()));
            if let Err(error) = put(self.root, path, *content) {
                // From here on everything is as it was, since a file is written whole or not at all.
                let left: Vec<_> = all[at..].iter().map(|(path, before, _)| (*path, None, *before)).collect();
                self.note(&left);
                return Err(error);
            }
            self.before.push(((*path).to_owned(), before.clone()));
        }
        Ok(())
    }

    fn note(&self, files: &[Change<'_>]) {
        let Context { settings, cache, observer } = self.context;
        if self.is_news
            && let Err(error) = settings.journal.note(self.root, files, (cache, settings.now))
        {
            observer.notice(Event::NotRemembered(error.to_string()));
        }
    }

    /// Puts everything back as it was; what cannot be put back does not keep the rest from it.
    fn put_back(&mut self) -> Result<(), FlowError> {
        let mut failed = Ok(());
        while let Some((path, before)) = self.before.pop() {
            match put(self.root, &path, before.as_deref()) {
                Ok(()) => self.note(&[(&path, None, before.as_deref())]),
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

/// Which of a project's own files it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum OwnFile {
    /// One with a name that is always the same, in a folder that its user chose, which may be reached through a link.
    Named(&'static str),
    /// Another one inside the project, like a patch, whose folders are made here.
    Inside,
}

impl OwnFile {
    fn of(path: &str) -> Self {
        let name = path.rsplit('/').next();
        let named = [MANIFEST_NAME, LOCKFILE_NAME, STATEMENTS_NAME].into_iter().find(|named| name == Some(named));
        named.map_or(Self::Inside, Self::Named)
    }

    /// Says what it is, for those who look on.
    fn word(self) -> &'static str {
        match self {
            Self::Named(name) => name,
            Self::Inside => "a file of the project",
        }
    }
}

/// Reads one of a project's own files; nothing when it is not there.
///
/// # Errors
/// When it is there and cannot be read.
pub(crate) fn content_of(root: &Path, path: &str) -> Result<Option<Vec<u8>>, FlowError> {
    if OwnFile::of(path) == OwnFile::Inside {
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
        Some(content) if OwnFile::of(path) != OwnFile::Inside => Ok(write_atomically(&root.join(path), content)?),
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
            let mut above = parent.filter(|_| OwnFile::of(path) == OwnFile::Inside);
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
    let manifests = texts.iter().map(|(file, (_, after))| (file.as_str(), Some(after.as_bytes())));
    let lockfile = lockfile.map(|text| (LOCKFILE_NAME, Some(text.as_bytes())));
    let files: Vec<_> = manifests.chain(lockfile).collect();
    Writing::at(&project.root, context).put_all(&files)
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
