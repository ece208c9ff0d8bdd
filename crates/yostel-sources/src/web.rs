//! A registry on web servers: the files of docs/formats.md §4, as any server serves them.

use std::collections::BTreeSet;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{self, RecvTimeoutError};
use std::sync::{Arc, Mutex, PoisonError};

use tokio::sync::Semaphore;
use yostel_documents::{
    ADVISORIES, Artifact, MOST_ADVISORY, MOST_DOCUMENT, MOST_HEAD, MOST_INDEX, PackageDocument, PackageName,
    REGISTRY_FORMAT, REGISTRY_HEAD, REGISTRY_INDEX, RegistryHead, RegistryIndex, SourceName, WebAddress, archive_files,
    document_file,
};

use crate::body::open;
use crate::cached::{AnswerCache, CachedAnswer};
use crate::dump::AdvisoryReader;
use crate::error::{SourceError, SourceErrorKind};
use crate::http::{self, HttpAnswer, Web, WebFault};
use crate::patience::{LOOK, Patience};
use crate::{Source, SourceAnswer, SourcedDocument};

/// How many files are asked for at the same time: connections to a server that has no HTTP/2.
const AT_ONCE: usize = 32;

/// How many threads at most read answers.
const READERS: usize = 4;

/// A registry on web servers.
#[derive(Debug)]
pub struct WebSource {
    name: SourceName,
    registry: String,
    files: Arc<Files>,
}

/// The files of a registry, at one of its addresses.
#[derive(Debug)]
struct Files {
    addresses: Vec<WebAddress>,
    /// Which address is asked: those before it failed, and are left alone for the rest of the run.
    preferred: AtomicUsize,
    web: Web,
    answers: Arc<dyn AnswerCache>,
    offline: bool,
}

/// A file, where it came from, and whether it is what was kept.
struct Fetched {
    address: String,
    answer: CachedAnswer,
    is_cached: bool,
}

/// A fault, and where.
struct Fault {
    address: String,
    fault: WebFault,
}

impl From<WebFault> for Fault {
    fn from(fault: WebFault) -> Self {
        Self { address: String::new(), fault }
    }
}

impl From<Fault> for io::Error {
    fn from(fault: Fault) -> Self {
        fault.fault.into()
    }
}

impl Files {
    /// Tries something at each address in turn, as long as none of them is reached.
    async fn at_each<T, F>(&self, file: &str, ask: impl Fn(String) -> F) -> Result<T, Fault>
    where
        F: Future<Output = Result<T, WebFault>>,
    {
        loop {
            let at = self.preferred.load(Ordering::Relaxed);
            let address = format!("{}/{file}", self.addresses[at]);
            let fault = match ask(address.clone()).await {
                Ok(answer) => return Ok(answer),
                Err(fault) => fault,
            };
            let is_last = at + 1 >= self.addresses.len();
            if is_last || fault == WebFault::Stopped {
                return Err(Fault { address, fault });
            }
            tracing::debug!(address, %fault, "the next address is asked from here on");
            self.preferred.compare_exchange(at, at + 1, Ordering::Relaxed, Ordering::Relaxed).ok();
        }
    }

    /// Asks for a file of so many bytes at most; nothing when it is not there.
    async fn get(&self, file: &str, most: u64) -> Result<Option<Fetched>, Fault> {
        let ask = |address: String| async move {
            let kept = self.answers.get(&address);
            if self.offline {
                let answer = kept.ok_or(WebFault::NotCached)?;
                return Ok(Some(Fetched { address, answer, is_cached: true }));
            }
            let stamp = kept.as_ref().map(|kept| kept.stamp.clone()).unwrap_or_default();
            Ok(match (self.web.get(&address, &stamp, most).await?, kept) {
                (HttpAnswer::Same, Some(answer)) => Some(Fetched { address, answer, is_cached: true }),
                (HttpAnswer::File(bytes, stamp), _) => {
                    Some(Fetched { address, answer: CachedAnswer { stamp, bytes }, is_cached: false })
                }
                (HttpAnswer::Missing | HttpAnswer::Same, _) => None,
            })
        };
        self.at_each(file, ask).await
    }

    /// Waits for what is asked for of a file.
    fn wait_for<T>(&self, file: &str, asked: impl Future<Output = Result<T, Fault>>) -> Result<T, Fault> {
        let address = || format!("{}/{file}", self.preferred());
        http::unless_stopped(&self.web.patience, asked).map_err(|fault| Fault { address: address(), fault })?
    }

    /// Returns the address that is asked.
    fn preferred(&self) -> &WebAddress {
        &self.addresses[self.preferred.load(Ordering::Relaxed)]
    }

    /// Keeps what was fit to be read.
    fn keep(&self, came: &Fetched) {
        if !came.is_cached {
            self.answers.put(&came.address, &came.answer);
        }
    }
}

impl WebSource {
    /// Opens the registry at these addresses, the first of which that is reached; or by what is kept of them alone.
    ///
    /// # Errors
    /// `Web`, `NotARegistryAt`, `Format`.
    ///
    /// # Panics
    /// Without any address.
    pub fn open(
        name: SourceName,
        addresses: Vec<WebAddress>,
        patience: Patience,
        (answers, offline): (Arc<dyn AnswerCache>, bool),
    ) -> Result<Self, SourceError> {
        let (preferred, web) = (AtomicUsize::new(0), Web::new(patience));
        let files = Files { addresses, preferred, web, answers, offline };
        let fail = |kind| SourceError { source_name: name.clone(), kind };
        let came = files.wait_for(REGISTRY_HEAD, files.get(REGISTRY_HEAD, MOST_HEAD));
        let came = came.map_err(|fault| fail(unreached(fault)))?;
        let head = came.as_ref().and_then(|came| RegistryHead::parse(std::str::from_utf8(&came.answer.bytes).ok()?));
        match (head, came) {
            (Some(head), _) if head.format != REGISTRY_FORMAT => {
                Err(fail(SourceErrorKind::Format { found: head.format }))
            }
            (Some(head), Some(came)) => {
                files.keep(&came);
                Ok(Self { name, registry: head.name, files: Arc::new(files) })
            }
            _ => Err(fail(SourceErrorKind::NotARegistryAt(files.preferred().clone()))),
        }
    }

    fn fail(&self, kind: SourceErrorKind) -> SourceError {
        SourceError { source_name: self.name.clone(), kind }
    }

    /// Says what went wrong with all of it.
    fn failed(&self, fault: WebFault) -> SourceError {
        self.fail(unreached(Fault { address: self.place(), fault }))
    }

    /// Reads what came in answer to a question about a package.
    fn read(&self, package: &PackageName, came: Result<Option<Fetched>, Fault>) -> SourceAnswer {
        let Some(came) = came.map_err(|fault| self.fail(unreached(fault)))? else { return Ok(None) };
        let Ok(text) = std::str::from_utf8(&came.answer.bytes) else {
            let fault = WebFault::Unexpected("sends something that is not text");
            return Err(self.fail(unreached(Fault { address: came.address, fault })));
        };
        match PackageDocument::parse(text, package) {
            Ok(document) => {
                self.files.keep(&came);
                Ok(Some(SourcedDocument { document, bytes: came.answer.bytes }))
            }
            Err(cause) => {
                let (package, path) = (package.clone(), PathBuf::from(came.address));
                Err(self.fail(SourceErrorKind::Document { package, path, cause }))
            }
        }
    }

    /// Returns what the registry says is in it; nothing when it does not say.
    fn index(&self) -> Result<Option<RegistryIndex>, SourceError> {
        let came = self.files.wait_for(REGISTRY_INDEX, self.files.get(REGISTRY_INDEX, MOST_INDEX));
        let came = came.map_err(|fault| self.fail(unreached(fault)))?;
        let Some(came) = came else { return Ok(None) };
        let index = std::str::from_utf8(&came.answer.bytes).ok().and_then(RegistryIndex::parse);
        if index.is_some() {
            self.files.keep(&came);
        }
        Ok(index)
    }
}

fn unreached(Fault { address, fault }: Fault) -> SourceErrorKind {
    SourceErrorKind::Web { address, fault }
}

/// Writes a path as the address of a file has it. Names and digests are of characters that stand for themselves.
fn address_of(path: &Path) -> String {
    path.to_string_lossy().replace('\\', "/")
}

impl Source for WebSource {
    fn name(&self) -> &SourceName {
        &self.name
    }

    fn place(&self) -> String {
        self.files.preferred().to_string()
    }

    fn documents(&self, packages: &BTreeSet<PackageName>, deliver: &(dyn Fn(&PackageName, SourceAnswer) + Sync)) {
        let runtime = match http::runtime() {
            Ok(runtime) => runtime,
            Err(fault) => {
                return packages.iter().for_each(|package| deliver(package, Err(self.failed(fault.clone()))));
            }
        };
        let (sender, came) = mpsc::channel();
        // Whoever has a turn keeps it until the answer was read, so no more answers than that are held.
        let turns = Arc::new(Semaphore::new(AT_ONCE));
        let ask = |package: &PackageName| {
            let (files, sender, turns, package) = (self.files.clone(), sender.clone(), turns.clone(), package.clone());
            runtime.spawn(async move {
                let turn = turns.acquire_owned().await;
                let came = files.get(&address_of(&document_file(&package)), MOST_DOCUMENT).await;
                sender.send((package, came, turn)).ok();
            })
        };
        let tasks: Vec<_> = packages.iter().map(ask).collect();
        drop(sender);
        let open = Mutex::new(packages.clone());
        let came = Mutex::new(came);
        let patience = &self.files.web.patience;
        let reading = || {
            loop {
                // Whoever waits holds the queue; the others read what they have.
                let next = came.lock().unwrap_or_else(PoisonError::into_inner).recv_timeout(LOOK);
                match next {
                    Ok((package, came, _turn)) => {
                        if open.lock().unwrap_or_else(PoisonError::into_inner).remove(&package) {
                            deliver(&package, self.read(&package, came));
                        }
                    }
                    Err(RecvTimeoutError::Timeout) if !patience.is_stopped() => {}
                    Err(_) => return,
                }
            }
        };
        let readers = std::thread::available_parallelism().map_or(1, usize::from).min(READERS).min(packages.len());
        std::thread::scope(|scope| {
            for _ in 1..readers {
                std::thread::Builder::new().spawn_scoped(scope, reading).ok();
            }
            reading();
        });
        tasks.iter().for_each(tokio::task::JoinHandle::abort);
        for package in open.into_inner().unwrap_or_else(PoisonError::into_inner) {
            let lost = || WebFault::Broken("its answer was lost".to_owned());
            let fault = if patience.is_stopped() { WebFault::Stopped } else { lost() };
            deliver(&package, Err(self.failed(fault)));
        }
    }

    fn open(
        &self,
        _package: &PackageName,
        artifact: &Artifact,
        offset: u64,
    ) -> Result<Box<dyn Read + Send>, SourceError> {
        if self.files.offline {
            return Err(self.failed(WebFault::NotCached));
        }
        // Nothing comes behind the end, and servers differ in how they say so.
        if offset > 0 && offset >= artifact.size {
            return Ok(Box::new(io::empty()));
        }
        for path in archive_files(artifact.digest) {
            let (files, file) = (self.files.clone(), address_of(&path));
            let ask = move |at: u64, tag: Option<&str>| {
                let web = &files.web;
                let asked = files.at_each(&file, |address| async move { web.open_at(&address, at, tag).await });
                files.wait_for(&file, asked)
            };
            let patience = self.files.web.patience.clone();
            match open(patience, offset, Some(artifact.size), Box::new(ask)) {
                Ok(Some(body)) => return Ok(Box::new(body)),
                Ok(None) => {}
                Err(fault) => return Err(self.fail(unreached(fault))),
            }
        }
        Err(self.fail(SourceErrorKind::ArchiveMissing(artifact.digest)))
    }

    fn names(&self) -> Result<Vec<PackageName>, SourceError> {
        Ok(self.index()?.map(|index| index.packages).unwrap_or_default())
    }

    fn registry(&self) -> &str {
        &self.registry
    }

    fn advisories(&self, reader: &dyn AdvisoryReader) -> Result<(), SourceError> {
        let Some(index) = self.index()? else {
            let why = "web servers list no folders, and this registry has no index.json that says what it holds";
            reader.take(REGISTRY_INDEX, None, Err(io::Error::new(io::ErrorKind::NotFound, why)));
            return Ok(());
        };
        let wanted: Vec<String> = index.advisories.into_iter().filter(|file| reader.wants(file, None)).collect();
        let runtime = http::runtime().map_err(|fault| self.failed(fault))?;
        // So many at a time are held, and no more.
        for some in wanted.chunks(AT_ONCE) {
            let ask = |file: &String| {
                let (files, at) = (self.files.clone(), format!("{ADVISORIES}/{file}"));
                runtime.spawn(async move { files.get(&at, MOST_ADVISORY).await })
            };
            let tasks: Vec<_> = some.iter().map(ask).collect();
            for (file, task) in some.iter().zip(tasks) {
                let came = http::unless_stopped(&self.files.web.patience, task).map_err(|fault| self.failed(fault))?;
                let text = match came {
                    Ok(Ok(Some(came))) => {
                        self.files.keep(&came);
                        String::from_utf8(came.answer.bytes).map_err(io::Error::other)
                    }
                    Ok(Ok(None)) => Err(io::Error::from(io::ErrorKind::NotFound)),
                    Ok(Err(fault)) => Err(fault.into()),
                    Err(panic) => Err(io::Error::other(panic)),
                };
                reader.take(file, None, text);
            }
        }
        Ok(())
    }
}
