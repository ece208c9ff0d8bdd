//! One job for each of many things, on all cores; results come back in the order of the things.

use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;

/// Runs `job` for each item, at most one thread per core, and returns the results in the items' order.
pub fn for_each_in_parallel<T: Sync, R: Send>(items: &[T], job: impl Fn(&T) -> R + Sync) -> Vec<R> {
    let workers = thread::available_parallelism().map_or(1, usize::from).min(items.len());
    if workers <= 1 {
        return items.iter().map(job).collect();
    }
    let next = AtomicUsize::new(0);
    let results: Mutex<Vec<Option<R>>> = Mutex::new(items.iter().map(|_| None).collect());
    let work = || {
        while let Some((at, item)) = {
            let at = next.fetch_add(1, Ordering::Relaxed);
            items.get(at).map(|item| (at, item))
        } {
            let result = job(item);
            results.lock().expect("no job panics while holding the lock")[at] = Some(result);
        }
    };
    thread::scope(|scope| {
        for _ in 1..workers {
            // A machine that has no thread left still does the work, with this one.
            if thread::Builder::new().spawn_scoped(scope, work).is_err() {
                break;
            }
        }
        work();
    });
    let results = results.into_inner().expect("all threads ended");
    results.into_iter().map(|result| result.expect("every item was taken by one thread")).collect()
}
