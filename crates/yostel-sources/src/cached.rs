//! Answers of web servers that are kept, by whoever has a place for them.

use std::fmt;

use jiff::Timestamp;

use crate::http::WebStamp;

/// An answer of a web server that was kept.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct CachedAnswer {
    /// What tells this state of the file from others.
    pub stamp: WebStamp,
    /// The file.
    pub bytes: Vec<u8>,
    /// Whether the answer was that there is none.
    pub is_missing: bool,
}

/// Keeps answers of web servers, by address. What cannot be kept, or not be read any more, was never there.
pub trait AnswerCache: fmt::Debug + Send + Sync {
    /// Returns what was kept.
    fn get(&self, address: &str) -> Option<CachedAnswer>;

    /// Keeps an answer.
    fn put(&self, address: &str, answer: &CachedAnswer);

    /// Remembers that what was kept is still so.
    fn confirm(&self, _address: &str) {}

    /// Returns when an answer was kept, or last found to be still so.
    fn seen(&self, _address: &str) -> Option<Timestamp> {
        None
    }
}

/// Keeps nothing.
#[derive(Debug, Clone, Copy, Default)]
pub struct NoAnswerCache;

impl AnswerCache for NoAnswerCache {
    fn get(&self, _address: &str) -> Option<CachedAnswer> {
        None
    }

    fn put(&self, _address: &str, _answer: &CachedAnswer) {}
}
