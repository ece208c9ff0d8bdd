//! Questions that are asked before anybody wants their answers, so that nobody waits for them then.

use std::collections::BTreeMap;
use std::fmt;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use tokio::task::JoinHandle;
use yostel_documents::PackageName;

use crate::clients::runtime;

/// How many bytes of answers are held that nobody wanted yet; what comes beyond is asked for again when it is wanted.
const MOST_HELD: usize = 32 << 20;

/// How many questions are open, or answered and not wanted yet.
const MOST_ASKED: usize = 4096;

/// An answer that may hold many bytes.
pub(crate) trait Weighed {
    /// Returns about how many.
    fn weight(&self) -> usize;
}

/// An answer, unless there was no room for it, and how many bytes it holds.
type Held<T> = Option<(T, usize)>;

/// Questions about packages that were asked early. They end when this does.
pub(crate) struct Early<T> {
    asked: Mutex<BTreeMap<PackageName, JoinHandle<Held<T>>>>,
    held: Arc<AtomicUsize>,
}

impl<T> Default for Early<T> {
    fn default() -> Self {
        Self { asked: Mutex::default(), held: Arc::default() }
    }
}

impl<T> fmt::Debug for Early<T> {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.debug_struct("Early").field("asked", &self.asked().len()).finish_non_exhaustive()
    }
}

impl<T> Early<T> {
    fn asked(&self) -> MutexGuard<'_, BTreeMap<PackageName, JoinHandle<Held<T>>>> {
        self.asked.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl<T: Weighed + Send + 'static> Early<T> {
    /// Asks about a package, if there is room; does not wait.
    pub(crate) fn ask(&self, package: &PackageName, question: impl Future<Output = T> + Send + 'static) {
        let Ok(runtime) = runtime() else { return };
        let mut asked = self.asked();
        if asked.len() >= MOST_ASKED || asked.contains_key(package) {
            return;
        }
        let held = self.held.clone();
        let task = runtime.spawn(async move {
            let answer = question.await;
            let bytes = answer.weight();
            if held.fetch_add(bytes, Ordering::Relaxed) + bytes > MOST_HELD {
                held.fetch_sub(bytes, Ordering::Relaxed);
                return None;
            }
            Some((answer, bytes))
        });
        asked.insert(package.clone(), task);
    }

    /// Returns the answer about a package that was asked about early, as soon as it is there; else asks now.
    pub(crate) fn or_now<F: Future<Output = T> + Send + 'static>(
        self: &Arc<Self>,
        package: &PackageName,
        now: F,
    ) -> impl Future<Output = T> + Send + use<T, F> {
        let (task, held) = (self.asked().remove(package), self.held.clone());
        async move {
            let early = match task {
                Some(task) => task.await.ok().flatten(),
                None => None,
            };
            match early {
                Some((answer, bytes)) => {
                    held.fetch_sub(bytes, Ordering::Relaxed);
                    answer
                }
                None => now.await,
            }
        }
    }
}

impl<T> Drop for Early<T> {
    fn drop(&mut self) {
        self.asked().values().for_each(JoinHandle::abort);
    }
}
