//! What sources are asked with.

use std::path::PathBuf;
use std::sync::Arc;

use crate::access::{Credentials, NoCredentials};
use crate::cached::{AnswerCache, NoAnswerCache};
use crate::patience::Patience;

/// What sources are asked with.
#[derive(Debug, Clone)]
pub struct SourceContext {
    /// How long to wait.
    pub patience: Patience,
    /// Where answers of web servers are kept.
    pub answers: Arc<dyn AnswerCache>,
    /// What shows servers who asks.
    pub credentials: Arc<dyn Credentials>,
    /// A file with certificates that servers may show besides those that the machine trusts.
    pub certificates: Option<PathBuf>,
    /// Whether servers are not asked at all: what is kept of them is all there is.
    pub offline: bool,
}

impl Default for SourceContext {
    /// As any machine would ask: nothing is kept, and nobody is told who asks.
    fn default() -> Self {
        Self {
            patience: Patience::default(),
            answers: Arc::new(NoAnswerCache),
            credentials: Arc::new(NoCredentials),
            certificates: None,
            offline: false,
        }
    }
}
