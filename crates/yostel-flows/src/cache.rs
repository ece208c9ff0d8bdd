//! The cache: is it sound, what is in it, how large is it, what may go.

use yostel_store::{Cache, CacheEntry, CacheReport, CacheStats, PruneRule, Pruned};

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

/// Lists what the cache holds, by package and version.
///
/// # Errors
/// `Store`.
pub fn list_cache(settings: &Settings) -> Result<Vec<CacheEntry>, FlowError> {
    Ok(Cache::open(&settings.cache).entries()?)
}

/// Removes from the cache what the rule says and no project uses; with `preview`, only says what that would be.
///
/// # Errors
/// `Store`.
pub fn prune_cache(
    rule: PruneRule,
    preview: bool,
    settings: &Settings,
    observer: &dyn Observer,
) -> Result<Pruned, FlowError> {
    let cache = Cache::open(&settings.cache);
    if preview {
        return Ok(cache.would_prune(rule)?);
    }
    Ok(cache.prune(rule, || observer.notice(Event::WaitForInstalls))?)
}
