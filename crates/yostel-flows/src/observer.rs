//! What a flow tells while it works: for progress on a terminal, and for tests that assert what was not done.

use std::io::{self, Read};

use yostel_documents::{Difference, PackageName};
use yostel_files::Stopped;

use crate::error::FlowError;

/// Something that just happened or is about to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Event {
    /// Work of this many steps begins; the text says what it is.
    Begin(&'static str, u64),
    /// That many steps are done.
    Advance(u64),
    /// The work that began is done.
    End,
    /// A source is asked about this many packages.
    Ask(usize),
    /// An archive begins to be fetched.
    Fetch(PackageName),
    /// A tree is unpacked.
    Unpack(PackageName),
    /// What is changed cannot be taken down, and so not undone; with the reason.
    NotRemembered(String),
    /// A file outside the cache and `.yostel` is written.
    Write(&'static str),
    /// The lockfile does not fit the manifests; the flow tells of what is locked.
    Stale(Vec<Difference>),
    /// Another process holds the project; the flow waits for it.
    Wait,
    /// Another process fetches what is wanted; the flow waits for it.
    WaitForFetch,
    /// Another process prunes the cache; the flow waits for it.
    WaitForPrune,
    /// Other processes install from the cache; the prune waits for them.
    WaitForInstalls,
}

/// Who is told. Called from several threads.
pub trait Observer: Sync {
    /// Takes an event; the default passes it over.
    fn notice(&self, _event: Event) {}

    /// Tells whether the flow is to stop. It then ends with [`FlowError::Stopped`], or with what broke off because of
    /// that, as soon as nothing is half-done. The default never stops. What waits for other machines looks at
    /// [`Patience::stop`](yostel_sources::Patience) instead, so both should say the same.
    fn stops(&self) -> bool {
        false
    }
}

/// Goes on unless the observer wants to stop.
pub(crate) fn go_on(observer: &dyn Observer) -> Result<(), FlowError> {
    if observer.stops() { Err(FlowError::Stopped) } else { Ok(()) }
}

/// What is called while one waits for others: tells of it once, and says whether to go on.
pub(crate) fn waiting(observer: &dyn Observer, event: Event) -> impl FnMut() -> bool {
    let mut event = Some(event);
    move || {
        if let Some(event) = event.take() {
            observer.notice(event);
        }
        !observer.stops()
    }
}

/// What is called after each step: counts it, and says whether to go on.
pub(crate) fn stepping(observer: &dyn Observer) -> impl Fn() -> bool + Sync {
    || {
        observer.notice(Event::Advance(1));
        !observer.stops()
    }
}

/// A stream that breaks off when the observer wants to stop.
pub(crate) struct Stoppable<'o, R> {
    pub(crate) stream: R,
    pub(crate) observer: &'o dyn Observer,
}

impl<R: Read> Read for Stoppable<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.observer.stops() { Err(Stopped::as_io_error()) } else { self.stream.read(buffer) }
    }
}

/// Nobody.
#[derive(Debug, Clone, Copy, Default)]
pub struct Silent;

impl Observer for Silent {}
