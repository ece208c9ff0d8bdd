//! From what a manifest names to a source that can be asked.

use std::fmt;
use std::path::PathBuf;

use yostel_documents::oci::OciPlace;
use yostel_documents::{SourceName, WebAddress};

use crate::Source;
use crate::context::SourceContext;
use crate::error::SourceError;
use crate::folder::FolderSource;
use crate::oci::OciSource;
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
    /// In OCI registries, at each of these places, of which there is one at least.
    Oci(Vec<OciPlace>),
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
            RegistryPlace::Web(addresses) => Ok(Box::new(WebSource::open(name, addresses, context)?)),
            RegistryPlace::Oci(places) => Ok(Box::new(OciSource::open(name, &places, context)?)),
        }
    }
}
