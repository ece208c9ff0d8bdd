//! The cache: is it sound, what is in it, how large is it, what may go.

use yostel_store::{Cache, CacheEntry, CacheReport, CacheStats, InUse, PruneRule, Pruned};

use crate::context::Settings;
use crate::error::FlowError;
use crate::observer::{Event, Observer, stepping, waiting};

/// Reads the whole cache and says what is not what its name says.
///
/// # Errors
/// `Store`.
pub fn verify_cache(settings: &Settings, observer: &dyn Observer) -> Result<CacheReport, FlowError> {
    let cache = Cache::open(&settings.cache);
    // What a prune takes away meanwhile would look like damage.
    let _in_use = use_if_there(&cache, observer)?;
    let stats = cache.stats()?;
    observer.notice(Event::Begin("verifying the cache", (stats.archives + stats.trees) as u64));
    let report = cache.verify(stepping(observer))?;
    observer.notice(Event::End);
    Ok(report)
}

/// Counts what the cache holds.
///
/// # Errors
/// `Store`.
pub fn cache_stats(settings: &Settings, observer: &dyn Observer) -> Result<CacheStats, FlowError> {
    let cache = Cache::open(&settings.cache);
    let _in_use = use_if_there(&cache, observer)?;
    Ok(cache.stats()?)
}

/// Shares the cache while it is looked at; nothing where there is none.
fn use_if_there(cache: &Cache, observer: &dyn Observer) -> Result<Option<InUse>, FlowError> {
    if !cache.is_there() {
        return Ok(None);
    }
    Ok(Some(cache.use_with_others(waiting(observer, Event::WaitForPrune))?))
}

/// Lists what the cache holds, by package and version.
///
/// # Errors
/// `Store`.
pub fn list_cache(settings: &Settings, observer: &dyn Observer) -> Result<Vec<CacheEntry>, FlowError> {
    let cache = Cache::open(&settings.cache);
    let _in_use = use_if_there(&cache, observer)?;
    Ok(cache.entries()?)
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
        let _in_use = use_if_there(&cache, observer)?;
        return Ok(cache.would_prune(rule)?);
    }
    Ok(cache.prune(rule, waiting(observer, Event::WaitForInstalls))?)
}
