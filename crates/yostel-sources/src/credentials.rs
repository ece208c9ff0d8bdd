//! Credentials as they are found: in the environment, in a file, or from a program that is asked.

use std::collections::BTreeMap;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::{Mutex, PoisonError};

use yostel_documents::{Credential, CredentialEntry, CredentialsFile};
use yostel_files::{Disk, Folder, Kind};

use crate::access::Credentials;
use crate::child::{Ended, run_asked};
use crate::patience::Patience;

/// Longest file with credentials that is read, in bytes.
const MOST: u64 = 1 << 20;

/// Whoever changes the file holds a lock on it.
const GUARD: &str = ".credentials-guard";

/// The format of what a helper is asked.
const HELPER_FORMAT: u32 = 1;

/// Credentials of the environment, and else of a file. Each is looked for once, when it is first wanted.
#[derive(Debug)]
pub struct StoredCredentials {
    given: Option<String>,
    file: Option<PathBuf>,
    patience: Patience,
    found: Mutex<BTreeMap<String, Result<Option<Credential>, String>>>,
}

impl StoredCredentials {
    /// Names the text in the environment, which counts before that in the file, and the file.
    pub fn new(given: Option<String>, file: Option<PathBuf>, patience: Patience) -> Self {
        Self { given, file, patience, found: Mutex::default() }
    }

    fn look(&self, host: &str) -> Result<Option<Credential>, String> {
        let entry = match &self.given {
            Some(text) => {
                let read = CredentialsFile::parse(text).map_err(|why| format!("YOSTEL_CREDENTIALS: {why}"))?;
                read.hosts.get(host).cloned()
            }
            None => None,
        };
        let entry = match (entry, &self.file) {
            (None, Some(file)) => read_credentials(file)?.hosts.get(host).cloned(),
            (entry, _) => entry,
        };
        match entry {
            None => Ok(None),
            Some(CredentialEntry::Known(credential)) => Ok(Some(credential)),
            Some(CredentialEntry::Helper(words)) => self.ask(&words, host),
        }
    }

    /// Asks a program about a host.
    fn ask(&self, words: &[String], host: &str) -> Result<Option<Credential>, String> {
        let failed = |why: String| format!("the helper {} for {host} {why}", words[0]);
        let question = serde_json::json!({ "format": HELPER_FORMAT, "host": host }).to_string();
        let (reader, mut writer) = std::io::pipe().map_err(|error| failed(format!("cannot be asked: {error}")))?;
        writer.write_all(question.as_bytes()).map_err(|error| failed(format!("cannot be asked: {error}")))?;
        drop(writer);
        let mut command = Command::new(&words[0]);
        command.args(&words[1..]).stdin(reader);
        match run_asked(command, &self.patience).map_err(|error| failed(format!("cannot be run: {error}")))? {
            Ended::Exited { status, stdout, .. } if status.success() => {
                let said = String::from_utf8_lossy(&stdout);
                Credential::said_by_helper(&said).map_err(|why| failed(format!("does not answer as it should: {why}")))
            }
            Ended::Exited { status, .. } => Err(failed(format!("failed: {status}"))),
            Ended::Stopped => Err(failed("was ended".to_owned())),
            Ended::Silent | Ended::TooLong | Ended::TooMuch => Err(failed("did not come to an end".to_owned())),
        }
    }
}

impl Credentials for StoredCredentials {
    fn of(&self, host: &str) -> Result<Option<Credential>, String> {
        let mut found = self.found.lock().unwrap_or_else(PoisonError::into_inner);
        found.entry(host.to_owned()).or_insert_with(|| self.look(host)).clone()
    }
}

/// Reads a file with credentials; one that is not there has none.
///
/// # Errors
/// As a sentence without anything secret: when others may read it, or it cannot be read or is none.
pub fn read_credentials(file: &Path) -> Result<CredentialsFile, String> {
    let shown = file.display();
    let (Some(parent), Some(name)) = (file.parent(), file.file_name()) else { return Ok(CredentialsFile::default()) };
    let Ok(folder) = Folder::open(parent) else { return Ok(CredentialsFile::default()) };
    let meta = match folder.meta(name) {
        Err(error) if error.is_not_found() => return Ok(CredentialsFile::default()),
        meta => meta.map_err(|error| format!("cannot read {shown}: {}", error.cause))?,
    };
    if meta.kind == Kind::Link {
        return Err(format!("{shown} is a link, and no passwords are read through one: put the file itself there"));
    }
    if meta.mode & 0o077 != 0 {
        return Err(format!("others may read or change {shown}, which holds passwords: chmod 600 {shown}"));
    }
    let text = folder.read_text(name, MOST).map_err(|error| format!("cannot read {shown}: {}", error.cause))?;
    CredentialsFile::parse(&text).map_err(|why| format!("{shown}: {why}"))
}

/// Changes a file with credentials, which nobody else may read.
///
/// # Errors
/// As a sentence without anything secret.
pub fn change_credentials<T>(file: &Path, change: impl FnOnce(&mut CredentialsFile) -> T) -> Result<T, String> {
    let failed = |cause: std::io::Error| format!("cannot write {}: {cause}", file.display());
    let (Some(parent), Some(name)) = (file.parent(), file.file_name()) else {
        return Err(format!("cannot write {}", file.display()));
    };
    let folder = Folder::make_on(&Disk::default(), parent).map_err(|error| failed(error.cause))?;
    let guard = folder.open_guard(GUARD).map_err(|error| failed(error.cause))?;
    guard.lock().map_err(failed)?;
    let mut credentials = read_credentials(file)?;
    let before = credentials.clone();
    let changed = change(&mut credentials);
    if credentials != before {
        folder.write_private(name, credentials.write().as_bytes()).map_err(|error| failed(error.cause))?;
    }
    Ok(changed)
}
