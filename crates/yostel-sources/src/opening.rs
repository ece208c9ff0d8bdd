//! From what a manifest names to a source that can be asked.

use std::fmt;
use std::path::PathBuf;
use std::sync::Arc;

use yostel_documents::{SourceName, WebAddress};

use crate::Source;
use crate::cached::AnswerCache;
use crate::error::SourceError;
use crate::folder::FolderSource;
use crate::patience::Patience;
use crate::web::WebSource;

/// Opens the sources that manifests name.
pub trait OpenSource: fmt::Debug + Send + Sync {
    /// Opens the source of a name at this place.
    ///
    /// # Errors
    /// When there is no registry of a format that is known, or it cannot be reached.
    fn open(
        &self,
        name: SourceName,
        place: RegistryPlace,
        context: &SourceContext,
    ) -> Result<Box<dyn Source>, SourceError>;
}

/// Where a registry is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RegistryPlace {
    /// In a folder.
    Folder(PathBuf),
    /// On web servers, at each of these addresses, of which there is one at least.
    Web(Vec<WebAddress>),
}

/// What sources are asked with.
#[derive(Debug, Clone)]
pub struct SourceContext {
    /// How long to wait.
    pub patience: Patience,
    /// Where answers of web servers are kept.
    pub answers: Arc<dyn AnswerCache>,
    /// Whether web servers are not asked at all: what is kept of them is all there is.
    pub offline: bool,
}

/// Opens sources as they are.
#[derive(Debug, Clone, Copy, Default)]
pub struct RealSources;

impl OpenSource for RealSources {
    fn open(
        &self,
        name: SourceName,
        place: RegistryPlace,
        context: &SourceContext,
    ) -> Result<Box<dyn Source>, SourceError> {
        match place {
            RegistryPlace::Folder(folder) => Ok(Box::new(FolderSource::open(name, folder)?)),
            RegistryPlace::Web(addresses) => {
                let kept = (context.answers.clone(), context.offline);
                Ok(Box::new(WebSource::open(name, addresses, context.patience.clone(), kept)?))
            }
        }
    }
}
