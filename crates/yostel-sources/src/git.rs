//! Repositories, by the git program of the machine: its credentials, proxies and keys are the user's own.
//!
//! Nothing of a repository is run, and no working tree is made: a commit's files are read from the objects that were
//! fetched. So attributes, filters, line endings, links and whatever else a configuration can say of working trees have
//! no part in what a package is, and the same commit is the same package everywhere. Submodules are not followed.

use std::collections::BTreeSet;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, ChildStdout, Command, ExitStatus, Stdio};

use yostel_documents::GitAt;

use crate::child::{Ended, run_within};
use crate::commit::{CommitFault, CommitFile};
use crate::patience::Patience;

/// What can go wrong with a repository.
#[derive(Debug, thiserror::Error)]
pub enum GitError {
    /// There is no git program.
    #[error("the program git cannot be run")]
    NoProgram(#[source] io::Error),
    /// The repository cannot be asked.
    #[error("git cannot reach {address}: {said}")]
    Unreachable {
        /// Its address.
        address: String,
        /// What git said last.
        said: String,
    },
    /// The repository said nothing for too long, or took too long in all.
    #[error("{address} {ended}")]
    OutOfTime {
        /// Its address.
        address: String,
        /// How the time went.
        ended: &'static str,
        /// The limit that was met, in seconds.
        seconds: u64,
    },
    /// The address is of a kind that is not asked.
    #[error("{address} is not asked: {reason}")]
    Address {
        /// The address.
        address: String,
        /// Why.
        reason: &'static str,
        /// The scheme that a policy could permit, when it is one.
        scheme: Option<String>,
    },
    /// The commit holds what no package may.
    #[error("commit {commit} of {address} holds `{path}`, which no package may hold: {reason}")]
    Unfit {
        /// The repository's address.
        address: String,
        /// The commit.
        commit: String,
        /// The path, escaped.
        path: String,
        /// Why.
        reason: &'static str,
    },
    /// What git told cannot be understood.
    #[error("git told something else than was asked of commit {commit}")]
    Garbled {
        /// The commit.
        commit: String,
    },
    /// It has no such branch or tag.
    #[error("{address} has no {what}")]
    NoSuchRef {
        /// Its address.
        address: String,
        /// What was looked for.
        what: String,
    },
    /// It does not have the commit.
    #[error("{address} does not have commit {commit} (any more)")]
    NoSuchCommit {
        /// Its address.
        address: String,
        /// The commit.
        commit: String,
    },
    /// The commit has no such folder.
    #[error("commit {commit} of {address} has no folder {folder}")]
    NoSuchFolder {
        /// The repository's address.
        address: String,
        /// The commit.
        commit: String,
        /// The folder.
        folder: String,
    },
    /// Only a part of its history is there.
    #[error("{0} has only a part of its history")]
    Shallow(String),
    /// It was told to stop.
    #[error("{0} was asked, and is not waited for any longer")]
    Stopped(String),
    /// A folder for the work cannot be written.
    #[error("cannot write {}", path.display())]
    Write {
        /// Where.
        path: PathBuf,
        /// Why.
        #[source]
        cause: io::Error,
    },
}

/// Schemes that are asked without further ado: what is exchanged is encrypted, or stays on this machine.
const SCHEMES: [&str; 3] = ["https", "ssh", "file"];

/// Variables of git's that are the user's way to the repository. All others are for some other repository, as a hook or
/// an alias that started us would have them.
const KEPT: [&str; 12] = [
    "GIT_ASKPASS",
    "GIT_CONFIG_COUNT",
    "GIT_CONFIG_GLOBAL",
    "GIT_CONFIG_KEY_",
    "GIT_CONFIG_NOSYSTEM",
    "GIT_CONFIG_SYSTEM",
    "GIT_CONFIG_VALUE_",
    "GIT_EXEC_PATH",
    "GIT_HTTP_",
    "GIT_PROXY_",
    "GIT_SSH",
    "GIT_SSL_",
];

/// How repositories are asked.
#[derive(Debug, Clone, Default)]
pub struct GitConfig {
    /// How long to wait.
    pub patience: Patience,
    /// Schemes of addresses that are permitted besides `https`, `ssh` and `file`.
    pub schemes: BTreeSet<String>,
}

impl GitConfig {
    /// Checks that an address is of a kind that is asked.
    ///
    /// # Errors
    /// `Address`.
    pub fn check(&self, address: &str) -> Result<(), GitError> {
        let refuse = |reason, scheme: Option<&str>| {
            let scheme = scheme.map(str::to_owned);
            Err(GitError::Address { address: address.to_owned(), reason, scheme })
        };
        if address.contains('\0') {
            return refuse("it holds a zero byte", None);
        }
        if address.starts_with('-') {
            return refuse("it begins with `-`", None);
        }
        match address.split_once("://") {
            Some((scheme, _)) if SCHEMES.contains(&scheme) || self.schemes.contains(scheme) => Ok(()),
            Some((scheme, _)) if ["git", "http"].contains(&scheme) => {
                refuse("anybody on the way can read and change what is exchanged", Some(scheme))
            }
            Some(_) => refuse("addresses begin with https://, ssh:// or file://", None),
            // `NAME::…` names a program that git would run.
            None if address.split('/').next().is_some_and(|first| first.contains("::")) => {
                refuse("`::` names a program to run", None)
            }
            None => Ok(()),
        }
    }

    pub(crate) fn git(&self, folder: Option<&Path>) -> Command {
        let mut command = Command::new("git");
        for (name, _) in std::env::vars_os() {
            let name = name.to_string_lossy().into_owned();
            if name.starts_with("GIT_") && !KEPT.iter().any(|kept| name.starts_with(kept)) {
                command.env_remove(name);
            }
        }
        let schemes = SCHEMES.into_iter().chain(self.schemes.iter().map(String::as_str)).collect::<Vec<_>>().join(":");
        command
            .env("GIT_ALLOW_PROTOCOL", schemes)
            .env("GIT_TERMINAL_PROMPT", "0")
            .env("GIT_NO_REPLACE_OBJECTS", "1")
            .env("GIT_OPTIONAL_LOCKS", "0")
            .env("LC_ALL", "C")
            .stdin(Stdio::null());
        if let Some(folder) = folder {
            // Not looked for above: whatever is there is not ours.
            command.current_dir(folder).env("GIT_DIR", folder);
        }
        let patience = format!("http.lowSpeedTime={}", self.patience.idle.as_secs().max(1));
        for setting in [
            "core.hooksPath=/dev/null",
            "core.fsmonitor=false",
            "fetch.recurseSubmodules=false",
            "submodule.recurse=false",
            "gc.auto=0",
            "maintenance.auto=false",
            "http.lowSpeedLimit=1",
            &patience,
        ] {
            command.args(["-c", setting]);
        }
        command
    }

    /// Asks about the repository that a folder is in, whoever's that is. It says itself by which programs one fetches, so
    /// nothing is fetched, not even what a part of a repository lacks.
    pub(crate) fn git_in(&self, folder: &Path) -> Command {
        let mut command = self.git(None);
        // Git before 2.45 knows only the second.
        command.current_dir(folder).env("GIT_NO_LAZY_FETCH", "1").env("GIT_ALLOW_PROTOCOL", "");
        command
    }
}

/// What git said and how it ended.
pub(crate) struct Output {
    pub(crate) status: ExitStatus,
    pub(crate) stdout: Vec<u8>,
    stderr: Vec<u8>,
}

pub(crate) fn run(command: Command, address: &str, patience: &Patience) -> Result<Output, GitError> {
    tracing::debug!(?command, "git");
    let out_of_time = |ended, limit: std::time::Duration| {
        Err(GitError::OutOfTime { address: address.to_owned(), ended, seconds: limit.as_secs() })
    };
    match run_within(command, patience).map_err(GitError::NoProgram)? {
        Ended::Exited { status, stdout, stderr } => Ok(Output { status, stdout, stderr }),
        Ended::Silent => out_of_time("accepts, and then says nothing", patience.idle),
        Ended::TooLong => out_of_time("takes too long", patience.total),
        Ended::Stopped => Err(GitError::Stopped(address.to_owned())),
        Ended::TooMuch => {
            Err(GitError::Unreachable { address: address.to_owned(), said: "it says far too much".into() })
        }
    }
}

/// Returns the line in which git said what was wrong.
fn stderr_text(output: &Output) -> String {
    let text = String::from_utf8_lossy(&output.stderr).into_owned();
    let lines = || text.split(['\n', '\r']).map(str::trim).filter(|line| !line.is_empty());
    let fatal = lines().find_map(|line| line.strip_prefix("fatal: ").or_else(|| line.strip_prefix("error: ")));
    fatal.or_else(|| lines().next_back()).unwrap_or("git did not say why").to_owned()
}

pub(crate) fn unreachable_by(address: &str, output: &Output) -> GitError {
    GitError::Unreachable { address: address.to_owned(), said: stderr_text(output) }
}

/// Returns the commit that a state of a repository has now, by all of its digits.
///
/// # Errors
/// `NoProgram`, `Address`, `Unreachable`, `OutOfTime`, `NoSuchRef`.
pub fn commit_of(address: &str, at: &GitAt, config: &GitConfig) -> Result<String, GitError> {
    config.check(address)?;
    let (wanted, what) = match at {
        GitAt::Commit(commit) => return Ok(commit.clone()),
        GitAt::Tag(tag) => (format!("refs/tags/{tag}"), format!("tag {tag}")),
        GitAt::Branch(branch) => (format!("refs/heads/{branch}"), format!("branch {branch}")),
        GitAt::Head => ("HEAD".to_owned(), "commit".to_owned()),
    };
    let peeled = format!("{wanted}^{{}}");
    let mut command = config.git(None);
    command.args(["ls-remote", "--quiet", "--", address, &wanted, &peeled]);
    let output = run(command, address, &config.patience)?;
    if !output.status.success() {
        return Err(unreachable_by(address, &output));
    }
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let pairs = || text.lines().filter_map(|line| line.split_once('\t'));
    // A tag with a text of its own is an object that names the commit.
    let found = pairs().find(|(_, name)| *name == peeled).or_else(|| pairs().find(|(_, name)| *name == wanted));
    let is_commit = |text: &str| matches!(text.len(), 40 | 64) && text.bytes().all(|b| b.is_ascii_hexdigit());
    let commit = found.map(|(commit, _)| commit.to_owned()).filter(|commit| is_commit(commit));
    commit.ok_or_else(|| GitError::NoSuchRef { address: address.to_owned(), what })
}

/// The files of a commit, read from the objects of a repository.
#[derive(Debug)]
pub struct CommitFiles {
    files: Vec<CommitFile>,
    reader: Child,
    ask: ChildStdin,
    answers: BufReader<ChildStdout>,
}

/// Fetches a commit into an empty folder, and lists its files or those of a folder in it. Folders of version control and
/// submodules are left out by whoever packs, and here.
///
/// Only that commit is fetched where the repository hands out commits one by one; else the branch or tag it should be on;
/// else everything.
///
/// # Errors
/// [`GitError`].
pub fn fetch_commit(
    address: &str,
    at: &GitAt,
    commit: &str,
    folder: Option<&str>,
    work: &Path,
    config: &GitConfig,
) -> Result<CommitFiles, GitError> {
    config.check(address)?;
    start(work, commit.len() == 64, config)?;
    fetch(address, at, commit, work, config)?;
    let files = list(address, commit, folder, work, config)?;
    let mut command = config.git(Some(work));
    command.args(["cat-file", "--batch"]).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
    let mut reader = command.spawn().map_err(GitError::NoProgram)?;
    let (Some(ask), Some(answers)) = (reader.stdin.take(), reader.stdout.take()) else {
        return Err(GitError::Garbled { commit: commit.to_owned() });
    };
    Ok(CommitFiles { files, reader, ask, answers: BufReader::with_capacity(128 * 1024, answers) })
}

/// Makes an empty repository. The kind of digest is told by what is to be fetched, not by whatever a configuration says of
/// new repositories.
pub(crate) fn start(work: &Path, is_long: bool, config: &GitConfig) -> Result<(), GitError> {
    let mut command = config.git(Some(work));
    let format = if is_long { "--object-format=sha256" } else { "--object-format=sha1" };
    command.args(["init", "--quiet", "--bare", "--template=", format, "."]);
    let made = run(command, &work.to_string_lossy(), &config.patience)?;
    match made.status.success() {
        true => Ok(()),
        false => Err(GitError::Write { path: work.to_owned(), cause: io::Error::other(stderr_text(&made)) }),
    }
}

fn list(
    address: &str,
    commit: &str,
    folder: Option<&str>,
    work: &Path,
    config: &GitConfig,
) -> Result<Vec<CommitFile>, GitError> {
    let mut command = config.git(Some(work));
    let tree = folder.map_or(format!("{commit}^{{tree}}"), |folder| format!("{commit}:{folder}"));
    command.args(["ls-tree", "-r", "-z", "-l", "--full-tree", &tree]);
    let output = run(command, address, &config.patience)?;
    if !output.status.success() {
        return Err(match folder {
            // A link there is no folder either: what it leads to is not the commit's.
            Some(folder) => {
                let (address, commit, folder) = (address.to_owned(), commit.to_owned(), folder.to_owned());
                GitError::NoSuchFolder { address, commit, folder }
            }
            None => unreachable_by(address, &output),
        });
    }
    let (address, commit) = (address.to_owned(), commit.to_owned());
    CommitFile::list(&output.stdout).map_err(|fault| match fault {
        CommitFault::Garbled => GitError::Garbled { commit },
        CommitFault::Unfit { path, reason } => GitError::Unfit { address, commit, path, reason },
    })
}

impl CommitFiles {
    /// Lists the files, as git has them.
    pub fn files(&self) -> &[CommitFile] {
        &self.files
    }

    /// Keeps only some of the files.
    pub fn retain(&mut self, keep: impl FnMut(&CommitFile) -> bool) {
        self.files.retain(keep);
    }

    /// Opens the content of a file; what was opened before must have been read to its end.
    ///
    /// # Errors
    /// When git does not hand it out.
    pub fn open(&mut self, at: usize) -> io::Result<impl Read + '_> {
        let file = &self.files[at];
        writeln!(self.ask, "{}", file.object)?;
        self.ask.flush()?;
        let mut head = String::new();
        // Of the content before, the line feed that ends it.
        while head.trim().is_empty() {
            head.clear();
            if (&mut self.answers).take(256).read_line(&mut head)? == 0 {
                return Err(io::Error::new(io::ErrorKind::UnexpectedEof, "git ended early"));
            }
        }
        if head.trim_end() != format!("{} blob {}", file.object, file.size) {
            return Err(io::Error::new(io::ErrorKind::InvalidData, "git told something else than was asked"));
        }
        Ok((&mut self.answers).take(file.size))
    }
}

impl Drop for CommitFiles {
    fn drop(&mut self) {
        self.reader.kill().ok();
        self.reader.wait().ok();
    }
}

fn fetch(address: &str, at: &GitAt, commit: &str, store: &Path, config: &GitConfig) -> Result<(), GitError> {
    let has = || -> Result<bool, GitError> {
        let mut command = config.git(Some(store));
        command.args(["cat-file", "-e", &format!("{commit}^{{commit}}")]);
        Ok(run(command, address, &config.patience)?.status.success())
    };
    let on = match at {
        GitAt::Tag(tag) => Some(format!("refs/tags/{tag}")),
        GitAt::Branch(branch) => Some(format!("refs/heads/{branch}")),
        GitAt::Commit(_) | GitAt::Head => None,
    };
    let mut steps: Vec<Vec<String>> = vec![vec!["--depth=1".into(), "--".into(), address.into(), commit.into()]];
    steps.extend(on.map(|on| vec!["--depth=1".into(), "--".into(), address.into(), on]));
    let everything = ["+refs/heads/*:refs/heads/*".to_owned(), "+refs/tags/*:refs/tags/*".to_owned()];
    let [heads, tags] = everything;
    steps.push(vec!["--".into(), address.into(), heads, tags]);
    let mut last = None;
    for step in steps {
        let mut command = config.git(Some(store));
        // It tells how far it is, so that silence means something.
        command.args(["fetch", "--progress", "--no-tags", "--no-write-fetch-head", "--no-recurse-submodules"]);
        command.args(step);
        let output = run(command, address, &config.patience)?;
        if output.status.success() && has()? {
            return Ok(());
        }
        last = Some(output);
    }
    match last {
        Some(output) if !output.status.success() => Err(unreachable_by(address, &output)),
        _ => Err(GitError::NoSuchCommit { address: address.to_owned(), commit: commit.to_owned() }),
    }
}
