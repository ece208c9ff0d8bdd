//! Places releases come from, one client per file, behind one trait.
//!
//! A source tells of releases and hands out archives. It knows neither what a lockfile is nor where the cache is, and
//! vouches for nothing: whoever takes an archive checks its digest.
//!
//! # Examples
//! ```
//! use yostel_documents::PackageName;
//! use yostel_sources::SourceSet;
//! let none = SourceSet::default();
//! assert!(none.document(&PackageName::parse("gust").unwrap()).unwrap().is_none());
//! ```

#![deny(missing_docs)]

mod access;
mod ancestry;
mod archive;
mod body;
mod branches;
mod cached;
mod checkout;
mod child;
mod clients;
mod commit;
mod connecting;
mod context;
mod credentials;
mod dump;
mod early;
mod error;
mod fault;
mod folder;
mod git;
mod history;
mod http;
mod mirrors;
mod oci;
mod opening;
mod patience;
mod set;
mod web;

use std::collections::BTreeSet;
use std::io::Read;
use std::sync::Mutex;

use jiff::Timestamp;
use yostel_documents::{Artifact, PackageDocument, PackageName, SourceName};

pub use access::{Credentials, NoCredentials};
pub use ancestry::{AncestryAsked, ancestry_of};
pub use archive::{ArchiveError, open_archive};
pub use branches::{RefChange, Reference, Repository};
pub use cached::{AnswerCache, CachedAnswer, NoAnswerCache};
pub use checkout::{CheckedOut, checked_out};
pub use child::{Ended, run_alone};
pub use commit::{CommitFault, CommitFile};
pub use context::SourceContext;
pub use credentials::{StoredCredentials, change_credentials, read_credentials};
pub use dump::{AdvisoryReader, FileStamp, read_dump};
pub use error::{SourceError, SourceErrorKind};
pub use fault::WebFault;
pub use folder::FolderSource;
pub use git::{CommitFiles, GitConfig, GitError, commit_of, fetch_commit};
pub use history::{FileAt, FileHistory, Revision, configure, file_at, file_of, history_of, merge_texts, unmerged};
pub use http::WebStamp;
pub use oci::{Added, OciRegistry, OciSource, OpenContent};
pub use opening::{OpenSource, RealSources, RegistryPlace};
pub use patience::Patience;
pub use set::{SetAnswer, SourceSet};
pub use web::WebSource;

/// What a source tells of a package.
#[derive(Debug, Clone)]
pub struct SourcedDocument {
    /// The document.
    pub document: PackageDocument,
    /// Its bytes as they came, for whoever keeps or vouches for them.
    pub bytes: Vec<u8>,
}

/// What a source answers about a package: nothing when it does not know it.
pub type SourceAnswer = Result<Option<SourcedDocument>, SourceError>;

/// A place releases come from. What one must keep is tested by one contract that all of them pass (tests/sources/contract.rs).
pub trait Source: Send + Sync {
    /// Returns its name in the manifest.
    fn name(&self) -> &SourceName;

    /// Returns where it is, for messages.
    fn place(&self) -> String;

    /// Asks about all of these packages at once, as many at a time as suits the source. Calls `deliver` exactly once for
    /// each package, from any thread and in any order, as the answers come: one that cannot be fetched keeps no other back.
    fn documents(&self, packages: &BTreeSet<PackageName>, deliver: &(dyn Fn(&PackageName, SourceAnswer) + Sync));

    /// Is told which packages will probably be asked about next, and may ask already: a source that has to wait for answers.
    /// No answer is another for it.
    fn expect(&self, _packages: &BTreeSet<PackageName>) {}

    /// Tells whether it makes a difference to tell it what to expect.
    fn is_far(&self) -> bool {
        false
    }

    /// Opens an archive of a package, at a byte of it: what came before is there already.
    ///
    /// # Errors
    /// When it cannot be asked or does not have it.
    fn open(
        &self,
        package: &PackageName,
        artifact: &Artifact,
        offset: u64,
    ) -> Result<Box<dyn Read + Send>, SourceError>;

    /// Lists the packages it knows, sorted: for near names, never for resolving.
    ///
    /// # Errors
    /// When it cannot be asked.
    fn names(&self) -> Result<Vec<PackageName>, SourceError>;

    /// Returns when a server was last reached that has it, as far as that was kept; nothing of what is no server's.
    fn last_seen(&self) -> Option<Timestamp> {
        None
    }

    /// Returns the name of its registry: the ecosystem of its packages, for advisories.
    fn registry(&self) -> &str;

    /// Reads its advisories, in the OSV format: those that the reader wants, one by one, so that no more of them need be held
    /// than are of use.
    ///
    /// # Errors
    /// When it cannot be asked.
    fn advisories(&self, reader: &dyn AdvisoryReader) -> Result<(), SourceError>;
}

/// Asks a source about one package.
///
/// # Errors
/// When it cannot be asked, or answers with something that is not a document.
pub fn document_of(source: &dyn Source, package: &PackageName) -> SourceAnswer {
    only_answer(|keep| source.documents(&BTreeSet::from([package.clone()]), &|_, told| keep(told)))
}

/// Returns what is delivered by whoever is asked about one package.
fn only_answer<T: Send>(ask: impl FnOnce(&(dyn Fn(T) + Sync))) -> T {
    let answer = Mutex::new(None);
    ask(&|told| *answer.lock().expect("nobody panics while holding it") = Some(told));
    answer.into_inner().expect("nobody panicked while holding it").expect("each package is answered once")
}
