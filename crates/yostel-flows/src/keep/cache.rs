//! The cache: is it sound, what is in it, how large is it, what may go.

use yostel_store::{CacheEntry, CacheReport, CacheStats, InUse, PruneRule, Pruned};

use crate::context::Context;
use crate::error::FlowError;
use crate::observer::{Event, stepping, waiting};

/// Reads the whole cache and says what is not what its name says.
///
/// # Errors
/// `Store`.
pub fn verify_cache(context: &Context<'_>) -> Result<CacheReport, FlowError> {
    // What a prune takes away meanwhile would look like damage.
    let _in_use = use_if_there(context)?;
    let stats = context.cache.stats()?;
    context.observer.notice(Event::Begin("verifying the cache", (stats.archives + stats.trees) as u64));
    let report = context.cache.verify(stepping(context.observer))?;
    context.observer.notice(Event::End);
    Ok(report)
}

/// Counts what the cache holds.
///
/// # Errors
/// `Store`.
pub fn cache_stats(context: &Context<'_>) -> Result<CacheStats, FlowError> {
    let _in_use = use_if_there(context)?;
    Ok(context.cache.stats()?)
}

/// Shares the cache while it is looked at; nothing where there is none.
fn use_if_there(context: &Context<'_>) -> Result<Option<InUse>, FlowError> {
    if !context.cache.is_there() {
        return Ok(None);
    }
    Ok(Some(context.cache.use_with_others(waiting(context.observer, Event::WaitForPrune))?))
}

/// Lists what the cache holds, by package and version.
///
/// # Errors
/// `Store`.
pub fn list_cache(context: &Context<'_>) -> Result<Vec<CacheEntry>, FlowError> {
    let _in_use = use_if_there(context)?;
    Ok(context.cache.entries()?)
}

/// Removes from the cache what the rule says and no project uses; with `preview`, only says what that would be.
///
/// # Errors
/// `Store`.
pub fn prune_cache(rule: PruneRule, preview: bool, context: &Context<'_>) -> Result<Pruned, FlowError> {
    if preview {
        let _in_use = use_if_there(context)?;
        return Ok(context.cache.would_prune(rule)?);
    }
    Ok(context.cache.prune(rule, waiting(context.observer, Event::WaitForInstalls))?)
}
