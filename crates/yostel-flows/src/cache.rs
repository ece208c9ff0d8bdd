//! The cache: is it sound, how large is it.

use yostel_store::{Cache, CacheReport, CacheStats};

use crate::error::FlowError;
use crate::observer::{Event, Observer};
use crate::project::Settings;

/// Reads the whole cache and says what is not what its name says.
///
/// # Errors
/// `Store`.
pub fn verify_cache(settings: &Settings, observer: &dyn Observer) -> Result<CacheReport, FlowError> {
    let cache = Cache::open(&settings.cache);
    let stats = cache.stats()?;
    observer.notice(Event::Begin("verifying the cache", (stats.archives + stats.trees) as u64));
    let report = cache.verify(|| observer.notice(Event::Advance(1)))?;
    observer.notice(Event::End);
    Ok(report)
}

/// Counts what the cache holds.
///
/// # Errors
/// `Store`.
pub fn cache_stats(settings: &Settings) -> Result<CacheStats, FlowError> {
    Ok(Cache::open(&settings.cache).stats()?)
}
