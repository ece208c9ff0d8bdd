//! Branches and records in a repository, written without touching its working tree or its index.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use yostel_files::{FileError, Folder};

use crate::git::{GitConfig, GitError, Output, run, unreachable_by};

/// A repository, seen from a folder of its working tree.
#[derive(Debug, Clone)]
pub struct Repository {
    folder: PathBuf,
    /// The folder's path from the root of the working tree, with `/` at its end; empty at the root.
    prefix: String,
    /// Where what belongs to all of its working trees is.
    common: PathBuf,
    config: GitConfig,
}

/// A reference of a repository.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reference {
    /// Its name, from `refs/` on.
    pub name: String,
    /// The object that it refers to.
    pub object: String,
    /// Whether a working tree has it checked out.
    pub is_checked_out: bool,
}

/// A reference that is to change: its name, what it is to be (nothing, when it is to go), and what it must be now (nothing, when it
/// must not be there).
pub type RefChange = (String, Option<String>, Option<String>);

impl Repository {
    /// Finds the repository that a folder is in.
    ///
    /// # Errors
    /// `NoProgram`, `OutOfTime`, `Stopped`; `Unreachable` when the folder is in no working tree.
    pub fn of(folder: &Path, config: &GitConfig) -> Result<Self, GitError> {
        let (folder, config) = (folder.to_owned(), config.clone());
        let mut repository = Self { folder, prefix: String::new(), common: PathBuf::new(), config };
        repository.prefix = repository.line(&["rev-parse", "--show-prefix"])?;
        let common = repository.line(&["rev-parse", "--git-common-dir"])?;
        repository.common = repository.folder.join(common);
        Ok(repository)
    }

    /// Returns the folder that belongs to all working trees of the repository.
    pub fn common_folder(&self) -> &Path {
        &self.common
    }

    /// Returns the branch that is checked out; nothing where none is.
    ///
    /// # Errors
    /// As running git.
    pub fn branch(&self) -> Result<Option<String>, GitError> {
        let output = self.ask(&["symbolic-ref", "--quiet", "--short", "HEAD"])?;
        Ok(output.status.success().then(|| text(&output)))
    }

    /// Returns the object that a name stands for; nothing where there is none.
    ///
    /// # Errors
    /// As running git.
    pub fn object(&self, name: &str) -> Result<Option<String>, GitError> {
        let output = self.ask(&["rev-parse", "--verify", "--quiet", "--end-of-options", name])?;
        Ok(output.status.success().then(|| text(&output)).filter(|object| !object.is_empty()))
    }

    /// Tells whether a commit is among those that led to another.
    ///
    /// # Errors
    /// As running git.
    pub fn is_ancestor(&self, one: &str, other: &str) -> Result<bool, GitError> {
        Ok(self.ask(&["merge-base", "--is-ancestor", one, other])?.status.success())
    }

    /// Lists the references whose names begin so: commits, and files of so many bytes at most.
    ///
    /// # Errors
    /// As running git.
    pub fn references(&self, prefix: &str, most: u64) -> Result<Vec<Reference>, GitError> {
        let format = "--format=%(objecttype) %(objectsize) %(objectname) %(refname) %(worktreepath)";
        let output = self.done(&["for-each-ref", format, prefix])?;
        let one = |line: &str| {
            let mut words = line.splitn(5, ' ');
            let (kind, size, at, name) = (words.next()?, words.next()?, words.next()?, words.next()?);
            let counts = kind == "commit" || kind == "blob" && size.parse::<u64>().is_ok_and(|size| size <= most);
            let is_checked_out = words.next().is_some_and(|path| !path.is_empty());
            counts.then(|| Reference { name: name.to_owned(), object: at.to_owned(), is_checked_out })
        };
        Ok(text(&output).lines().filter_map(one).collect())
    }

    /// Reads an object's bytes.
    ///
    /// # Errors
    /// As running git; `Unreachable` when there is none.
    pub fn blob(&self, object: &str) -> Result<Vec<u8>, GitError> {
        Ok(self.done(&["cat-file", "blob", object])?.stdout)
    }

    /// Reads a file of the folder as a commit has it; nothing where it has none.
    ///
    /// # Errors
    /// As running git.
    pub fn file(&self, commit: &str, file: &str) -> Result<Option<Vec<u8>>, GitError> {
        match self.object(&format!("{commit}:{}{file}", self.prefix))? {
            Some(object) => self.blob(&object).map(Some),
            None => Ok(None),
        }
    }

    /// Writes an object.
    ///
    /// # Errors
    /// As running git; `Write` when the bytes cannot be handed over.
    pub fn write_blob(&self, bytes: &[u8], work: &Folder) -> Result<String, GitError> {
        work.write_atomically("blob", bytes).map_err(unwritten)?;
        let mut command = self.command(&["hash-object", "-w", "--no-filters", "--"]);
        command.arg(work.path().join("blob"));
        Ok(text(&self.checked(command)?))
    }

    /// Writes a commit in which files of the folder are otherwise than in another commit; nothing refers to it yet. `work` is a
    /// folder for what is needed meanwhile.
    ///
    /// # Errors
    /// As running git; `Unreachable` too when git does not know who commits.
    pub fn commit(
        &self,
        parent: &str,
        files: &[(String, Vec<u8>)],
        message: &str,
        work: &Folder,
    ) -> Result<String, GitError> {
        let index = work.path().join("index");
        work.remove_file("index").ok();
        let with_index = |arguments: &[&str]| {
            let mut command = self.command(arguments);
            command.env("GIT_INDEX_FILE", &index);
            self.checked(command)
        };
        with_index(&["read-tree", parent])?;
        for (file, bytes) in files {
            let blob = self.write_blob(bytes, work)?;
            let path = format!("{}{file}", self.prefix);
            // A program stays one.
            let listed =
                text(&with_index(&["ls-files", "--stage", "--full-name", "--", &format!(":(top,literal){path}")])?);
            let mode = listed.split(' ').next().filter(|mode| mode.len() == 6).unwrap_or("100644").to_owned();
            with_index(&["update-index", "--add", "--cacheinfo", &format!("{mode},{blob},{path}")])?;
        }
        let tree = text(&with_index(&["write-tree"])?);
        work.write_atomically("message", message.as_bytes()).map_err(unwritten)?;
        let mut command = self.command(&["commit-tree", &tree, "-p", parent, "-F"]);
        command.arg(work.path().join("message"));
        Ok(text(&self.checked(command)?))
    }

    /// Changes references, all of them or none.
    ///
    /// # Errors
    /// As running git; `Unreachable` when one is not any more what it must be.
    pub fn change(&self, changes: &[RefChange], work: &Folder) -> Result<(), GitError> {
        let mut lines = "start\n".to_owned();
        for (name, to, from) in changes {
            let from = from.as_deref();
            lines.push_str(&match to {
                Some(to) => format!("update {name} {to} {}\n", from.unwrap_or(&"0".repeat(to.len()))),
                None => format!("delete {name} {}\n", from.unwrap_or_default()),
            });
        }
        lines.push_str("prepare\ncommit\n");
        work.write_atomically("references", lines.as_bytes()).map_err(unwritten)?;
        let mut command = self.command(&["update-ref", "--stdin"]);
        command.stdin(Stdio::from(work.open_file("references").map_err(unwritten)?));
        self.checked(command).map(drop)
    }

    /// Merges a commit into the branch that is checked out, with its working tree: git refuses where that would write over something.
    ///
    /// # Errors
    /// As running git; `Unreachable` when it cannot be merged, or something else is being merged or picked, or could not be put
    /// back as it was. Everything is then as it was.
    pub fn merge(&self, commit: &str, message: &str) -> Result<(), GitError> {
        let refuse = |said: &str| {
            Err(GitError::Unreachable { address: self.folder.to_string_lossy().into(), said: said.into() })
        };
        for unfinished in ["MERGE_HEAD", "CHERRY_PICK_HEAD", "REVERT_HEAD"] {
            if self.object(unfinished)?.is_some() {
                return refuse("a merge, pick or revert is not finished");
            }
        }
        // Where both sides moved, they may collide; what is not committed is not put back by whoever gives that up.
        if !self.is_ancestor("HEAD", commit)?
            && !text(&self.done(&["status", "--porcelain", "--untracked-files=no"])?).is_empty()
        {
            return refuse("something is not committed, and both sides moved");
        }
        let merged = self.ask(&["merge", "--no-ff", "--quiet", "-m", message, commit]);
        let error = match merged {
            Ok(merged) if merged.status.success() => return Ok(()),
            Ok(merged) => unreachable_by(&self.folder.to_string_lossy(), &merged),
            Err(error) => error,
        };
        if self.object("MERGE_HEAD")?.is_some() {
            self.ask(&["merge", "--abort"])?;
        }
        Err(error)
    }

    fn command(&self, arguments: &[&str]) -> Command {
        let mut command = self.config.git_in(&self.folder);
        command.args(arguments);
        command
    }

    fn ask(&self, arguments: &[&str]) -> Result<Output, GitError> {
        run(self.command(arguments), &self.folder.to_string_lossy(), &self.config.patience)
    }

    fn checked(&self, command: Command) -> Result<Output, GitError> {
        let address = self.folder.to_string_lossy();
        let output = run(command, &address, &self.config.patience)?;
        if output.status.success() { Ok(output) } else { Err(unreachable_by(&address, &output)) }
    }

    fn done(&self, arguments: &[&str]) -> Result<Output, GitError> {
        self.checked(self.command(arguments))
    }

    fn line(&self, arguments: &[&str]) -> Result<String, GitError> {
        Ok(text(&self.done(arguments)?))
    }
}

fn unwritten(error: FileError) -> GitError {
    GitError::Write { path: error.path, cause: error.cause }
}

fn text(output: &Output) -> String {
    String::from_utf8_lossy(&output.stdout).trim_end_matches('\n').to_owned()
}
