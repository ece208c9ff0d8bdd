//! How long to wait for somebody else's machine.

use std::time::Duration;

/// How long to wait for one answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Patience {
    /// While nothing at all comes. Default: 60 seconds.
    pub idle: Duration,
    /// In all. Default: 30 minutes.
    pub total: Duration,
}

impl Default for Patience {
    fn default() -> Self {
        Self { idle: Duration::from_secs(60), total: Duration::from_secs(1800) }
    }
}
