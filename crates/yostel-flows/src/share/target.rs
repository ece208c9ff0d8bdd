//! Which registry something is to be published to, withdrawn from or copied.

use std::path::PathBuf;

use yostel_documents::oci::OciPlace;
use yostel_documents::{PackageDocument, SourceName};
use yostel_registry::Registry;
use yostel_sources::{OciRegistry, RegistryPlace};
use yostel_store::Cache;

use super::oci::OciBackend;
use crate::context::Settings;
use crate::error::FlowError;

/// A registry that can be written to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RegistryTarget {
    /// In a folder.
    Folder(PathBuf),
    /// In an OCI registry.
    Oci {
        /// Where.
        place: OciPlace,
        /// What it is called, where it is a source of the manifest.
        name: Option<SourceName>,
        /// A file with certificates to trust besides the machine's.
        certificates: Option<PathBuf>,
    },
}

/// One that is open.
pub(crate) enum OpenTarget {
    Folder(Registry),
    Oci(Box<OciBackend>),
}

impl RegistryTarget {
    /// Returns its folder, where it is in one.
    pub fn folder(&self) -> Option<&PathBuf> {
        match self {
            Self::Folder(folder) => Some(folder),
            Self::Oci { .. } => None,
        }
    }

    /// Opens the registry that is there.
    pub(crate) fn open(&self, settings: &Settings) -> Result<OpenTarget, FlowError> {
        Ok(match self {
            Self::Folder(folder) => OpenTarget::Folder(Registry::open(folder)?),
            Self::Oci { place, name, certificates } => {
                let context = settings.asking(certificates.clone());
                let registry = OciRegistry::open(name.clone(), place, &context)?;
                let cache = Cache::open(&settings.cache);
                OpenTarget::Oci(Box::new(OciBackend { registry, cache, copied_from: Vec::new() }))
            }
        })
    }

    /// Makes a registry where there is none yet; returns its name.
    pub(crate) fn create(&self, name: &str, settings: &Settings) -> Result<String, FlowError> {
        Ok(match self {
            Self::Folder(folder) => Registry::create(folder, name)?.name().to_owned(),
            Self::Oci { place, name: source, certificates } => {
                let context = settings.asking(certificates.clone());
                OciRegistry::create(source.clone(), place, name, &context)?.name().to_owned()
            }
        })
    }
}

impl OpenTarget {
    /// Returns its name.
    pub(crate) fn name(&self) -> &str {
        match self {
            Self::Folder(registry) => registry.name(),
            Self::Oci(backend) => backend.registry.name(),
        }
    }

    /// Says where that is which is copied into it, since one server may have both.
    pub(crate) fn copying_from(mut self, place: &RegistryPlace) -> Self {
        if let (Self::Oci(backend), RegistryPlace::Oci(places)) = (&mut self, place) {
            backend.copied_from = places.clone();
        }
        self
    }

    /// Lists what it holds, by package.
    pub(crate) fn contents(&self) -> Result<Vec<PackageDocument>, FlowError> {
        match self {
            Self::Folder(registry) => Ok(registry.contents()?),
            Self::Oci(backend) => backend.contents(),
        }
    }
}

/// Does the same with each kind of registry.
macro_rules! with_target {
    ($target:expr, $registry:ident => $does:expr) => {
        match $target {
            $crate::share::target::OpenTarget::Folder($registry) => $does.map_err($crate::error::FlowError::from),
            $crate::share::target::OpenTarget::Oci($registry) => {
                let $registry = &**$registry;
                $does
            }
        }
    };
}

pub(crate) use with_target;
