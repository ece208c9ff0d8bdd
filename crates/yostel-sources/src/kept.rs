//! Answers of web servers that are kept, by whoever has a place for them.

use std::fmt;

use crate::http::WebStamp;

/// An answer of a web server that was kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptAnswer {
    /// What tells this state of the file from others.
    pub stamp: WebStamp,
    /// The file.
    pub bytes: Vec<u8>,
}

/// Keeps answers of web servers, by address. What cannot be kept, or not be read any more, was never there.
pub trait Keeper: fmt::Debug + Send + Sync {
    /// Returns what was kept.
    fn recall(&self, address: &str) -> Option<KeptAnswer>;

    /// Keeps an answer.
    fn keep(&self, address: &str, answer: &KeptAnswer);
}

/// Keeps nothing.
#[derive(Debug, Clone, Copy, Default)]
pub struct KeepsNothing;

impl Keeper for KeepsNothing {
    fn recall(&self, _address: &str) -> Option<KeptAnswer> {
        None
    }

    fn keep(&self, _address: &str, _answer: &KeptAnswer) {}
}
