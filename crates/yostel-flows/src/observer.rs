//! What a flow tells while it works: for progress on a terminal, and for tests that assert what was not done.

use yostel_documents::PackageName;

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
    /// A file outside the cache and `.yostel` is written.
    Write(&'static str),
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
}

/// Nobody.
#[derive(Debug, Clone, Copy, Default)]
pub struct Silent;

impl Observer for Silent {}
