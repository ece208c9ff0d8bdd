//! Answers of web servers, kept in the cache.

use std::fmt;

use jiff::Timestamp;
use yostel_sources::{AnswerCache, CachedAnswer, WebStamp};
use yostel_store::{Cache, KeptFile};

/// Keeps answers in the cache.
pub(crate) struct InCache {
    pub(crate) cache: Cache,
    pub(crate) now: Timestamp,
}

impl fmt::Debug for InCache {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("the cache")
    }
}

impl AnswerCache for InCache {
    fn get(&self, address: &str) -> Option<CachedAnswer> {
        let KeptFile { tag, changed, bytes, is_missing, .. } = self.cache.kept_file(address)?;
        Some(CachedAnswer { stamp: WebStamp { tag, changed }, bytes, is_missing })
    }

    fn put(&self, address: &str, answer: &CachedAnswer) {
        let WebStamp { tag, changed } = answer.stamp.clone();
        let (address, bytes, is_missing) = (address.to_owned(), answer.bytes.clone(), answer.is_missing);
        let file = KeptFile { address, tag, changed, bytes, is_missing };
        match self.cache.keep_file(&file) {
            Ok(()) => {}
            Err(error) => tracing::debug!(%error, file.address, "an answer is not kept"),
        }
    }

    fn confirm(&self, address: &str) {
        self.cache.confirm_file(address, self.now.as_second());
    }

    fn seen(&self, address: &str) -> Option<Timestamp> {
        self.cache.file_seen(address).and_then(|seconds| Timestamp::from_second(seconds).ok())
    }
}
