//! How long to wait for somebody else's machine, and when not to wait any longer.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

/// How long to wait for one answer.
#[derive(Debug, Clone)]
pub struct Patience {
    /// While nothing at all comes. Default: 60 seconds.
    pub idle: Duration,
    /// In all. Default: 30 minutes.
    pub total: Duration,
    /// Once this is set, from anywhere, nobody waits any longer.
    pub stop: Arc<AtomicBool>,
    /// The same, for what is waited for with this alone.
    pub unwanted: Arc<AtomicBool>,
}

/// How often somebody who waits looks whether to stop.
pub(crate) const LOOK: Duration = Duration::from_millis(50);

impl Patience {
    /// Tells whether to stop waiting.
    pub fn is_stopped(&self) -> bool {
        self.stop.load(Ordering::Relaxed) || self.unwanted.load(Ordering::Relaxed)
    }
}

impl Default for Patience {
    fn default() -> Self {
        Self {
            idle: Duration::from_secs(60),
            total: Duration::from_secs(1800),
            stop: Arc::default(),
            unwanted: Arc::default(),
        }
    }
}
