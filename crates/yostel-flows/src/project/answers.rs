//! Answers of web servers, kept in the cache.

use std::fmt;

use yostel_sources::{AnswerCache, CachedAnswer, WebStamp};
use yostel_store::{Cache, KeptFile};

/// Keeps answers in the cache.
pub(crate) struct InCache(pub(crate) Cache);

impl fmt::Debug for InCache {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("the cache")
    }
}

impl AnswerCache for InCache {
    fn get(&self, address: &str) -> Option<CachedAnswer> {
        let KeptFile { tag, changed, bytes, .. } = self.0.kept_file(address)?;
        Some(CachedAnswer { stamp: WebStamp { tag, changed }, bytes })
    }

    fn put(&self, address: &str, answer: &CachedAnswer) {
        let WebStamp { tag, changed } = answer.stamp.clone();
        let file = KeptFile { address: address.to_owned(), tag, changed, bytes: answer.bytes.clone() };
        if let Err(error) = self.0.keep_file(&file) {
            tracing::debug!(%error, address, "an answer is not kept");
        }
    }
}
