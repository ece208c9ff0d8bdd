//! A registry in OCI registries, as a source.

use std::collections::BTreeSet;
use std::io::{self, Read};
use std::sync::Arc;

use jiff::Timestamp;
use yostel_documents::oci::{ADVISORY_TYPE, OciPlace, OciTag};
use yostel_documents::{Artifact, MOST_ADVISORY, PackageName, RegistryIndex, SourceName};

use super::reading::{Repositories, Told, check_name};
use crate::body::open;
use crate::clients::{runtime, unless_stopped};
use crate::context::SourceContext;
use crate::dump::AdvisoryReader;
use crate::early::{Early, Weighed};
use crate::error::{SourceError, SourceErrorKind};
use crate::fault::WebFault;
use crate::mirrors::{Fault, Files, at_once};
use crate::{Source, SourceAnswer};

/// The annotation with the name of a file.
pub(super) const TITLE: &str = "org.opencontainers.image.title";

/// A registry in OCI registries.
#[derive(Debug)]
pub struct OciSource {
    name: SourceName,
    registry: String,
    places: Vec<OciPlace>,
    repositories: Repositories,
    early: Arc<Early<Result<Option<Told>, Fault>>>,
}

impl OciSource {
    /// Opens the registry at these places, the first of which that is reached.
    ///
    /// # Errors
    /// `Web`, `NotAnOciRegistry`, `Format`.
    ///
    /// # Panics
    /// Without any place.
    pub fn open(name: SourceName, places: &[OciPlace], context: &SourceContext) -> Result<Self, SourceError> {
        let repositories = Repositories::new(places, context);
        let registry = repositories.head(Some(&name), &places[0])?.name;
        Ok(Self { name, registry, places: places.to_vec(), repositories, early: Arc::default() })
    }

    /// Asks the same of each of these, all at the same time, and returns what came in their order.
    fn each<A, T: Send + 'static, F: Future<Output = Result<T, Fault>> + Send + 'static>(
        &self,
        these: impl Iterator<Item = A>,
        ask: impl Fn(Repositories, A) -> F,
    ) -> Result<Vec<Result<T, Fault>>, SourceError> {
        let runtime = runtime().map_err(|fault| self.failed(fault))?;
        let tasks: Vec<_> = these.map(|one| runtime.spawn(ask(self.repositories.clone(), one))).collect();
        let came = tasks.into_iter().map(|task| {
            let came = unless_stopped(&self.files().web.patience, task).map_err(|fault| self.failed(fault))?;
            Ok(came.unwrap_or_else(|panic| Err(WebFault::Broken(panic.to_string()).into())))
        });
        came.collect()
    }

    /// Asks about a package.
    fn ask(&self, package: &PackageName) -> impl Future<Output = Result<Option<Told>, Fault>> + Send + use<> {
        let (repositories, package) = (self.repositories.clone(), package.clone());
        let may_be = check_name(&self.places, &package).is_ok();
        async move { if may_be { repositories.tell(&package).await } else { Ok(None) } }
    }

    fn fail(&self, kind: impl Into<SourceErrorKind>) -> SourceError {
        SourceError { source_name: Some(self.name.clone()), kind: kind.into() }
    }

    fn failed(&self, fault: WebFault) -> SourceError {
        self.fail(Fault::at(self.place(), fault))
    }

    fn files(&self) -> &Files {
        &self.repositories.files
    }
}

impl Weighed for Result<Option<Told>, Fault> {
    fn weight(&self) -> usize {
        self.iter().flatten().map(Told::weight).sum()
    }
}

impl Source for OciSource {
    fn name(&self) -> &SourceName {
        &self.name
    }

    fn place(&self) -> String {
        self.files().preferred().to_owned()
    }

    fn documents(&self, packages: &BTreeSet<PackageName>, deliver: &(dyn Fn(&PackageName, SourceAnswer) + Sync)) {
        let ask = |package: PackageName| self.early.or_now(&package, self.ask(&package));
        let read = |package: &PackageName, came: Result<Result<Option<Told>, Fault>, WebFault>| {
            let told = came.map_err(|fault| self.failed(fault))?.map_err(|fault| self.fail(fault))?;
            told.map(|told| self.repositories.read(package, &told).map_err(|kind| self.fail(kind))).transpose()
        };
        Files::ask_about(&self.files().web.patience, packages, (ask, read), deliver);
    }

    fn expect(&self, packages: &BTreeSet<PackageName>) {
        packages.iter().for_each(|package| self.early.ask(package, self.ask(package)));
    }

    fn is_far(&self) -> bool {
        !self.files().offline
    }

    fn open(
        &self,
        package: &PackageName,
        artifact: &Artifact,
        offset: u64,
    ) -> Result<Box<dyn Read + Send>, SourceError> {
        if self.files().offline {
            return Err(self.failed(WebFault::NotCached));
        }
        // Nothing comes behind the end, and servers differ in how they say so.
        if offset > 0 && offset >= artifact.size {
            return Ok(Box::new(io::empty()));
        }
        let (files, file) = (self.repositories.files.clone(), format!("{package}/blobs/{}", artifact.digest));
        let patience = files.web.patience.clone();
        let ask = move |at: u64, tag: Option<&str>| {
            let web = &files.web;
            let asked = files.at_each(&file, |address| async move { web.open_at(&address, at, tag).await });
            files.wait_for(&file, asked)
        };
        match open(patience, offset, Some(artifact.size), Box::new(ask)).map_err(|fault: Fault| self.fail(fault))? {
            Some(body) => Ok(Box::new(body)),
            None => Err(self.fail(SourceErrorKind::ArchiveMissing(artifact.digest))),
        }
    }

    fn names(&self) -> Result<Vec<PackageName>, SourceError> {
        let tags = self.files().wait_for("tags/list", self.repositories.tags("")).map_err(|fault| self.fail(fault))?;
        let tags = tags.unwrap_or_default();
        let mut names: Vec<PackageName> = tags.iter().filter_map(|tag| OciTag::package_of(tag)).collect();
        names.sort();
        Ok(names)
    }

    fn last_seen(&self) -> Option<Timestamp> {
        self.files().last_seen()
    }

    fn registry(&self) -> &str {
        &self.registry
    }

    fn advisories(&self, reader: &dyn AdvisoryReader) -> Result<(), SourceError> {
        let wait = |asked| self.files().wait_for("tags/list", asked).map_err(|fault| self.fail(fault));
        let mut tags = wait(self.repositories.tags(""))?.unwrap_or_default();
        tags.retain(|tag| OciTag::of(tag) == OciTag::Advisory);
        // So many at a time are held, and no more.
        for some in tags.chunks(at_once()) {
            let described = self.each(some.iter().cloned(), |repositories, tag| async move {
                repositories.says("", &tag, ADVISORY_TYPE).await
            })?;
            let mut wanted = Vec::new();
            for described in described {
                let Some((manifest, _)) = described.map_err(|fault| self.fail(fault))? else { continue };
                let Some(layer) = manifest.layers.first() else { continue };
                let file = layer.annotations.get(TITLE).filter(|file| RegistryIndex::is_advisory(file));
                if let Some(file) = file.filter(|file| reader.wants(file, None)) {
                    wanted.push((file.clone(), layer.clone()));
                }
            }
            let layers = wanted.iter().map(|(_, layer)| layer.clone());
            let contents = self.each(layers, |repositories, layer| async move {
                match layer.content().ok().flatten().filter(|bytes| bytes.len() as u64 <= MOST_ADVISORY) {
                    Some(bytes) => Ok(bytes),
                    None => repositories.blob("", &layer.digest, MOST_ADVISORY).await,
                }
            })?;
            for ((file, _), content) in wanted.iter().zip(contents) {
                let text = match content {
                    Ok(bytes) => String::from_utf8(bytes).map_err(io::Error::other),
                    Err(fault) => Err(fault.into()),
                };
                reader.take(file, None, text);
            }
        }
        Ok(())
    }
}
