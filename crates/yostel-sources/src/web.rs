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
use crate::dump::AdvisoryReader;
use crate::error::{SourceError, SourceErrorKind};
use crate::http::{self, Got, Web, WebFault};
use crate::kept::{Keeper, KeptAnswer};
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
    keeper: Arc<dyn Keeper>,
    only_kept: bool,
    at_once: Semaphore,
}

impl AsRef<Web> for Files {
    fn as_ref(&self) -> &Web {
        &self.web
    }
}

/// Reads a registry's files where somebody else holds them too.
struct Shared(Arc<Files>);

impl AsRef<Web> for Shared {
    fn as_ref(&self) -> &Web {
        &self.0.web
    }
}

/// A file, where it came from, and whether it is what was kept.
struct Came {
    address: String,
    answer: KeptAnswer,
    is_kept: bool,
}

/// A fault, and where.
type Fault = (String, WebFault);

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
                return Err((address, fault));
            }
            tracing::debug!(address, %fault, "the next address is asked from here on");
            self.preferred.compare_exchange(at, at + 1, Ordering::Relaxed, Ordering::Relaxed).ok();
        }
    }

    /// Asks for a file of so many bytes at most; nothing when it is not there.
    async fn get(&self, file: &str, most: u64) -> Result<Option<Came>, Fault> {
        let turn = self.at_once.acquire().await;
        let came = self
            .at_each(file, |address| async move {
                let kept = self.keeper.recall(&address);
                if self.only_kept {
                    let answer = kept.ok_or(WebFault::NotKept)?;
                    return Ok(Some(Came { address, answer, is_kept: true }));
                }
                let stamp = kept.as_ref().map(|kept| kept.stamp.clone()).unwrap_or_default();
                Ok(match (self.web.get(&address, &stamp, most).await?, kept) {
                    (Got::Same, Some(answer)) => Some(Came { address, answer, is_kept: true }),
                    (Got::File(bytes, stamp), _) => {
                        Some(Came { address, answer: KeptAnswer { stamp, bytes }, is_kept: false })
                    }
                    (Got::Missing | Got::Same, _) => None,
                })
            })
            .await;
        drop(turn);
        came
    }

    /// The same, and waits for it.
    fn wait_for(&self, file: &str, most: u64) -> Result<Option<Came>, Fault> {
        http::unless_stopped(&self.web.patience, self.get(file, most)).unwrap_or_else(|fault| Err((file.into(), fault)))
    }

    /// Keeps what was fit to be read.
    fn keep(&self, came: &Came) {
        if !came.is_kept {
            self.keeper.keep(&came.address, &came.answer);
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
        (keeper, only_kept): (Arc<dyn Keeper>, bool),
    ) -> Result<Self, SourceError> {
        let (preferred, web, at_once) = (AtomicUsize::new(0), Web::new(patience), Semaphore::new(AT_ONCE));
        let files = Files { addresses, preferred, web, keeper, only_kept, at_once };
        let fail = |kind| SourceError { source_name: name.clone(), kind };
        let came = files.wait_for(REGISTRY_HEAD, MOST_HEAD).map_err(|fault| fail(unreached(fault)))?;
        let address = files.addresses[files.preferred.load(Ordering::Relaxed)].clone();
        let head = came.as_ref().and_then(|came| RegistryHead::parse(std::str::from_utf8(&came.answer.bytes).ok()?));
        match (head, came) {
            (Some(head), _) if head.format != REGISTRY_FORMAT => {
                Err(fail(SourceErrorKind::Format { found: head.format }))
            }
            (Some(head), Some(came)) => {
                files.keep(&came);
                Ok(Self { name, registry: head.name, files: Arc::new(files) })
            }
            _ => Err(fail(SourceErrorKind::NotARegistryAt(address))),
        }
    }

    fn fail(&self, kind: SourceErrorKind) -> SourceError {
        SourceError { source_name: self.name.clone(), kind }
    }

    /// Reads what came in answer to a question about a package.
    fn read(&self, package: &PackageName, came: Result<Option<Came>, Fault>) -> SourceAnswer {
        let Some(came) = came.map_err(|fault| self.fail(unreached(fault)))? else { return Ok(None) };
        let Ok(text) = std::str::from_utf8(&came.answer.bytes) else {
            let fault = WebFault::Odd("sends something that is no text");
            return Err(self.fail(unreached((came.address, fault))));
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
        let came = self.files.wait_for(REGISTRY_INDEX, MOST_INDEX).map_err(|fault| self.fail(unreached(fault)))?;
        let Some(came) = came else { return Ok(None) };
        let index = std::str::from_utf8(&came.answer.bytes).ok().and_then(RegistryIndex::parse);
        if index.is_some() {
            self.files.keep(&came);
        }
        Ok(index)
    }
}

fn unreached((address, fault): Fault) -> SourceErrorKind {
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
        self.files.addresses[self.files.preferred.load(Ordering::Relaxed)].to_string()
    }

    fn documents(&self, packages: &BTreeSet<PackageName>, deliver: &(dyn Fn(&PackageName, SourceAnswer) + Sync)) {
        let runtime = match http::runtime() {
            Ok(runtime) => runtime,
            Err(fault) => {
                let place = self.place();
                packages.iter().for_each(|package| {
                    deliver(package, Err(self.fail(unreached((place.clone(), fault.clone())))));
                });
                return;
            }
        };
        let (sender, came) = mpsc::channel();
        let tasks: Vec<_> = packages
            .iter()
            .map(|package| {
                let (files, sender, package) = (self.files.clone(), sender.clone(), package.clone());
                runtime.spawn(async move {
                    let came = files.get(&address_of(&document_file(&package)), MOST_DOCUMENT).await;
                    sender.send((package, came)).ok();
                })
            })
            .collect();
        drop(sender);
        let open = Mutex::new(packages.clone());
        let came = Mutex::new(came);
        let patience = &self.files.web.patience;
        let reading = || {
            loop {
                // Whoever waits holds the queue; the others read what they have.
                let next = came.lock().unwrap_or_else(PoisonError::into_inner).recv_timeout(LOOK);
                match next {
                    Ok((package, came)) => {
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
        let place = self.place();
        for package in open.into_inner().unwrap_or_else(PoisonError::into_inner) {
            deliver(&package, Err(self.fail(unreached((place.clone(), WebFault::Stopped)))));
        }
    }

    fn open(
        &self,
        _package: &PackageName,
        artifact: &Artifact,
        offset: u64,
    ) -> Result<Box<dyn Read + Send>, SourceError> {
        if self.files.only_kept {
            return Err(self.fail(unreached((self.place(), WebFault::NotKept))));
        }
        // Nothing comes behind the end, and servers differ in how they say so.
        if offset > 0 && offset >= artifact.size {
            return Ok(Box::new(io::empty()));
        }
        for path in archive_files(artifact.digest) {
            let at = self.files.preferred.load(Ordering::Relaxed);
            let mut fault = None;
            for address in &self.files.addresses[at..] {
                let address = format!("{address}/{}", address_of(&path));
                match open(Shared(self.files.clone()), &address, offset, Some(artifact.size)) {
                    Ok(Some(body)) => return Ok(Box::new(body)),
                    Ok(None) => {
                        fault = None;
                        break;
                    }
                    Err(why) => fault = Some((address, why)),
                }
            }
            if let Some(fault) = fault {
                return Err(self.fail(unreached(fault)));
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
            let why = "a web server lists no folder, and this registry has no index.json that says what is in it";
            reader.take(REGISTRY_INDEX, None, Err(io::Error::new(io::ErrorKind::NotFound, why)));
            return Ok(());
        };
        let wanted: Vec<String> = index.advisories.into_iter().filter(|file| reader.wants(file, None)).collect();
        let asked = wanted.iter().map(|file| {
            let files = self.files.clone();
            let at = format!("{ADVISORIES}/{file}");
            async move { files.get(&at, MOST_ADVISORY).await }
        });
        // So many at a time are held, and no more.
        let mut asked = asked.collect::<Vec<_>>().into_iter();
        for some in wanted.chunks(AT_ONCE) {
            let runtime = http::runtime().map_err(|fault| self.fail(unreached((self.place(), fault))))?;
            let tasks: Vec<_> = asked.by_ref().take(some.len()).map(|one| runtime.spawn(one)).collect();
            for (file, task) in some.iter().zip(tasks) {
                let came = http::unless_stopped(&self.files.web.patience, task);
                let text = match came {
                    Ok(Ok(Ok(Some(came)))) => {
                        self.files.keep(&came);
                        String::from_utf8(came.answer.bytes).map_err(io::Error::other)
                    }
                    Ok(Ok(Ok(None))) => Err(io::Error::from(io::ErrorKind::NotFound)),
                    Ok(Ok(Err((_, fault)))) => Err(io::Error::other(fault)),
                    Ok(Err(panic)) => Err(io::Error::other(panic)),
                    Err(fault) => return Err(self.fail(unreached((self.place(), fault)))),
                };
                reader.take(file, None, text);
            }
        }
        Ok(())
    }
}
