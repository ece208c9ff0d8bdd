//! The files of a registry on web servers, at whichever of its addresses is reached, and kept from one time to the next.

use std::collections::BTreeSet;
use std::io;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{self, RecvTimeoutError};
use std::sync::{Arc, Mutex, PoisonError};

use jiff::Timestamp;
use tokio::sync::Semaphore;
use yostel_documents::PackageName;
use yostel_files::most_open_files;

use crate::SourceAnswer;
use crate::access::Access;
use crate::cached::{AnswerCache, CachedAnswer};
use crate::clients::{runtime, unless_stopped};
use crate::connecting::given_back;
use crate::context::SourceContext;
use crate::error::SourceErrorKind;
use crate::fault::WebFault;
use crate::http::{HttpAnswer, Web};
use crate::patience::{LOOK, Patience};

/// How many files are asked for at the same time: connections to a server that has no HTTP/2. As many answers are held.
const AT_ONCE: usize = 56;

/// How many where few files may be open.
const FEWEST_AT_ONCE: usize = 4;

/// How many files are open beside connections.
const OTHER_FILES: usize = 32;

/// How many before the first answer came.
const FIRST_AT_ONCE: usize = 8;

/// How many threads at most read answers.
const READERS: usize = 4;

/// Returns how many files are asked for at the same time. Several registries may be asked, so half of what may be open has to
/// do for one.
pub(crate) fn at_once() -> usize {
    (most_open_files().saturating_sub(OTHER_FILES) / 2).clamp(FEWEST_AT_ONCE, AT_ONCE)
}

/// The files of a registry, at one of its addresses.
#[derive(Debug)]
pub(crate) struct Files {
    addresses: Vec<String>,
    /// The file that everybody asks for first.
    head: String,
    /// Which address is asked: those before it failed, and are left alone for the rest of the run.
    preferred: AtomicUsize,
    pub(crate) web: Web,
    answers: Arc<dyn AnswerCache>,
    /// Who has one may ask; there are as many as `at_once` says.
    turns: Semaphore,
    at_once: AtomicUsize,
    most_at_once: usize,
    pub(crate) offline: bool,
}

/// A file, where it came from, and whether it is what was kept.
pub(crate) struct Fetched {
    pub(crate) address: String,
    pub(crate) answer: CachedAnswer,
    is_cached: bool,
    /// Where it goes on, when it is a page of several.
    pub(crate) next: Option<String>,
}

/// A fault, and where.
pub(crate) struct Fault {
    pub(crate) address: String,
    pub(crate) fault: WebFault,
    /// When the server was last reached, where that is known.
    pub(crate) seen: Option<Timestamp>,
}

impl Fault {
    /// One at an address of which nothing more is known.
    pub(crate) fn at(address: impl Into<String>, fault: WebFault) -> Self {
        Self { address: address.into(), fault, seen: None }
    }
}

impl From<WebFault> for Fault {
    fn from(fault: WebFault) -> Self {
        Self::at(String::new(), fault)
    }
}

impl From<Fault> for SourceErrorKind {
    fn from(Fault { address, fault, seen }: Fault) -> Self {
        Self::Web { address, fault, seen }
    }
}

impl From<Fault> for io::Error {
    fn from(fault: Fault) -> Self {
        fault.fault.into()
    }
}

impl Files {
    /// Names the addresses, without `/` at their ends, of which there is one at least, the file that says that there is a
    /// registry, and how they are asked.
    pub(crate) fn new((addresses, head): (Vec<String>, String), access: Access, context: &SourceContext) -> Self {
        let most_at_once = at_once();
        let first_at_once = FIRST_AT_ONCE.min(most_at_once);
        Self {
            addresses,
            head,
            preferred: AtomicUsize::new(0),
            web: Web::new(context.patience.clone(), access, context.certificates.as_deref()),
            answers: context.answers.clone(),
            turns: Semaphore::new(first_at_once),
            at_once: AtomicUsize::new(first_at_once),
            most_at_once,
            offline: context.offline,
        }
    }

    /// Tries something at each address in turn, as long as none of them is reached.
    pub(crate) async fn at_each<T, F>(&self, file: &str, ask: impl Fn(String) -> F) -> Result<T, Fault>
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
                return Err(Fault { address, fault, seen: self.last_seen() });
            }
            tracing::debug!(address, %fault, "the next address is asked from here on");
            self.preferred.compare_exchange(at, at + 1, Ordering::Relaxed, Ordering::Relaxed).ok();
        }
    }

    /// Asks for a file of so many bytes at most; nothing when it is not there.
    pub(crate) async fn get(&self, file: &str, most: u64) -> Result<Option<Fetched>, Fault> {
        self.at_each(file, |address| async move { self.fetch((&address, ""), most).await }).await
    }

    /// Asks for a file at an address, of one of the media types that are named, or of any; nothing when it is not there.
    pub(crate) async fn fetch(&self, (address, types): (&str, &str), most: u64) -> Result<Option<Fetched>, WebFault> {
        let kept = self.answers.get(address);
        let fetched = |answer, is_cached, next| Some(Fetched { address: address.to_owned(), answer, is_cached, next });
        if self.offline {
            let kept = kept.ok_or(WebFault::NotCached)?;
            return Ok(if kept.is_missing { None } else { fetched(kept, true, None) });
        }
        let known = kept.as_ref().filter(|kept| !kept.is_missing);
        let stamp = known.map(|kept| kept.stamp.clone()).unwrap_or_default();
        let turn = self.turns.acquire().await;
        let answer = self.web.get((address, types), &stamp, most).await?;
        given_back().await;
        drop(turn);
        // More at a time once answers come: a server that is small is not overrun by those who begin.
        let may_grow = |at_once| at_once < self.most_at_once;
        if may_grow(self.at_once.load(Ordering::Relaxed)) && may_grow(self.at_once.fetch_add(1, Ordering::Relaxed)) {
            self.turns.add_permits(1);
        }
        Ok(match (answer, kept) {
            (HttpAnswer::Same, Some(answer)) => {
                if address.ends_with(&self.head) {
                    self.answers.confirm(address);
                }
                fetched(answer, true, None)
            }
            (HttpAnswer::File(bytes, stamp, next), _) => {
                fetched(CachedAnswer { stamp, bytes, is_missing: false }, false, next)
            }
            (HttpAnswer::Missing | HttpAnswer::Same, kept) => {
                // What was known of it stays known: what is not there now may only be out of reach.
                if kept.is_none() {
                    self.answers.put(address, &CachedAnswer { is_missing: true, ..CachedAnswer::default() });
                }
                None
            }
        })
    }

    /// Returns when one of the addresses was last reached.
    pub(crate) fn last_seen(&self) -> Option<Timestamp> {
        self.addresses.iter().filter_map(|address| self.answers.seen(&format!("{address}/{}", self.head))).max()
    }

    /// Asks about all of these packages at once, with so many turns, and reads the answers on several threads.
    pub(crate) fn ask_about<T: Send + 'static, F: Future<Output = T> + Send + 'static>(
        patience: &Patience,
        packages: &BTreeSet<PackageName>,
        (ask, read): (impl Fn(PackageName) -> F, impl Fn(&PackageName, Result<T, WebFault>) -> SourceAnswer + Sync),
        deliver: &(dyn Fn(&PackageName, SourceAnswer) + Sync),
    ) {
        let runtime = match runtime() {
            Ok(runtime) => runtime,
            Err(fault) => {
                return packages.iter().for_each(|package| deliver(package, read(package, Err(fault.clone()))));
            }
        };
        let (sender, came) = mpsc::channel();
        // Whoever has a turn keeps it until the answer was read, so no more answers than that are held.
        let turns = Arc::new(Semaphore::new(at_once()));
        let asked = |package: &PackageName| {
            let (answer, sender, turns, package) =
                (ask(package.clone()), sender.clone(), turns.clone(), package.clone());
            runtime.spawn(async move {
                let turn = turns.acquire_owned().await;
                sender.send((package, answer.await, turn)).ok();
            })
        };
        let tasks: Vec<_> = packages.iter().map(asked).collect();
        drop(sender);
        let open = Mutex::new(packages.clone());
        let came = Mutex::new(came);
        let reading = || {
            loop {
                // Whoever waits holds the queue; the others read what they have.
                let next = came.lock().unwrap_or_else(PoisonError::into_inner).recv_timeout(LOOK);
                match next {
                    Ok((package, came, _turn)) => {
                        if open.lock().unwrap_or_else(PoisonError::into_inner).remove(&package) {
                            deliver(&package, read(&package, Ok(came)));
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
            deliver(&package, read(&package, Err(fault)));
        }
    }

    /// Waits for what is asked for of a file.
    pub(crate) fn wait_for<T>(&self, file: &str, asked: impl Future<Output = Result<T, Fault>>) -> Result<T, Fault> {
        let address = || format!("{}/{file}", self.preferred());
        unless_stopped(&self.web.patience, asked).map_err(|fault| Fault { seen: None, address: address(), fault })?
    }

    /// Returns the address that is asked.
    pub(crate) fn preferred(&self) -> &str {
        &self.addresses[self.preferred.load(Ordering::Relaxed)]
    }

    /// Returns what was kept of an address.
    pub(crate) fn kept(&self, address: &str) -> Option<CachedAnswer> {
        self.answers.get(address).filter(|kept| !kept.is_missing)
    }

    /// Keeps what comes of several answers.
    pub(crate) fn keep_as(&self, address: &str, answer: CachedAnswer) {
        self.answers.put(address, &answer);
    }

    /// Keeps what was fit to be read.
    pub(crate) fn keep(&self, came: &Fetched) {
        if !came.is_cached {
            self.answers.put(&came.address, &came.answer);
            if came.address.ends_with(&self.head) {
                self.answers.confirm(&came.address);
            }
        }
    }
}
