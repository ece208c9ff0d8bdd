//! A registry on web servers: the files of docs/formats.md §4, as any server serves them.

use std::collections::BTreeSet;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use yostel_documents::{
    ADVISORIES, Artifact, MOST_ADVISORY, MOST_DOCUMENT, MOST_HEAD, MOST_INDEX, PackageDocument, PackageName,
    REGISTRY_FORMAT, REGISTRY_HEAD, REGISTRY_INDEX, RegistryHead, RegistryIndex, SourceName, WebAddress, archive_files,
    document_file,
};

use crate::access::Access;
use crate::body::open;
use crate::clients::{runtime, unless_stopped};
use crate::context::SourceContext;
use crate::dump::AdvisoryReader;
use crate::early::{Early, Weighed};
use crate::error::{SourceError, SourceErrorKind};
use crate::fault::WebFault;
use crate::mirrors::{Fault, Fetched, Files, at_once};
use crate::{Source, SourceAnswer, SourcedDocument};

/// A registry on web servers.
#[derive(Debug)]
pub struct WebSource {
    name: SourceName,
    registry: String,
    files: Arc<Files>,
    early: Arc<Early<Result<Option<Fetched>, Fault>>>,
}

impl WebSource {
    /// Opens the registry at these addresses, the first of which that is reached; or by what is kept of them alone.
    ///
    /// # Errors
    /// `Web`, `NotARegistryAt`, `Format`.
    ///
    /// # Panics
    /// Without any address.
    pub fn open(name: SourceName, addresses: Vec<WebAddress>, context: &SourceContext) -> Result<Self, SourceError> {
        let access = Access::new(context.credentials.clone(), true);
        let addresses: Vec<String> = addresses.iter().map(ToString::to_string).collect();
        let files = Files::new((addresses, REGISTRY_HEAD.to_owned()), access, context);
        let fail = |kind| SourceError { source_name: Some(name.clone()), kind };
        let came = files.wait_for(REGISTRY_HEAD, files.get(REGISTRY_HEAD, MOST_HEAD));
        let came = came.map_err(|fault| fail(fault.into()))?;
        let head = came.as_ref().and_then(|came| RegistryHead::parse(std::str::from_utf8(&came.answer.bytes).ok()?));
        match (head, came) {
            (Some(head), _) if head.format != REGISTRY_FORMAT => {
                Err(fail(SourceErrorKind::Format { found: head.format }))
            }
            (Some(head), Some(came)) => {
                files.keep(&came);
                Ok(Self { name, registry: head.name, files: Arc::new(files), early: Arc::default() })
            }
            _ => Err(fail(SourceErrorKind::NotARegistryAt(files.preferred().to_owned()))),
        }
    }

    /// Asks about a package.
    fn ask(&self, package: &PackageName) -> impl Future<Output = Result<Option<Fetched>, Fault>> + Send + use<> {
        let (files, file) = (self.files.clone(), address_of(&document_file(package)));
        async move { files.get(&file, MOST_DOCUMENT).await }
    }

    fn fail(&self, kind: SourceErrorKind) -> SourceError {
        SourceError { source_name: Some(self.name.clone()), kind }
    }

    /// Says what went wrong with all of it.
    fn failed(&self, fault: WebFault) -> SourceError {
        self.fail(Fault::at(self.place(), fault).into())
    }

    /// Reads what came in answer to a question about a package.
    fn read(&self, package: &PackageName, came: Result<Option<Fetched>, Fault>) -> SourceAnswer {
        let Some(came) = came.map_err(|fault| self.fail(fault.into()))? else { return Ok(None) };
        let Ok(text) = std::str::from_utf8(&came.answer.bytes) else {
            let fault = WebFault::Unexpected("sends something that is not text");
            return Err(self.fail(Fault::at(came.address, fault).into()));
        };
        match PackageDocument::parse(text, package) {
            Ok(document) => {
                self.files.keep(&came);
                Ok(Some(SourcedDocument { document, bytes: came.answer.bytes }))
            }
            Err(cause) => {
                let (package, path) = (package.clone(), PathBuf::from(came.address));
                Err(self.fail(SourceErrorKind::Document { package, path, cause }))
            }
        }
    }

    /// Returns what the registry says is in it; nothing when it does not say.
    fn index(&self) -> Result<Option<RegistryIndex>, SourceError> {
        let came = self.files.wait_for(REGISTRY_INDEX, self.files.get(REGISTRY_INDEX, MOST_INDEX));
        let came = came.map_err(|fault| self.fail(fault.into()))?;
        let Some(came) = came else { return Ok(None) };
        let index = std::str::from_utf8(&came.answer.bytes).ok().and_then(RegistryIndex::parse);
        if index.is_some() {
            self.files.keep(&came);
        }
        Ok(index)
    }
}

impl Weighed for Result<Option<Fetched>, Fault> {
    fn weight(&self) -> usize {
        self.iter().flatten().map(|came| came.answer.bytes.len()).sum()
    }
}

/// Writes a path as the address of a file has it. Names and digests are of characters that stand for themselves.
fn address_of(path: &Path) -> String {
    path.to_string_lossy().replace('\\', "/")
}

impl Source for WebSource {
    fn name(&self) -> &SourceName {
        &self.name
    }

    fn place(&self) -> String {
        self.files.preferred().to_string()
    }

    fn documents(&self, packages: &BTreeSet<PackageName>, deliver: &(dyn Fn(&PackageName, SourceAnswer) + Sync)) {
        let ask = |package: PackageName| self.early.or_now(&package, self.ask(&package));
        let read = |package: &PackageName, came: Result<_, WebFault>| match came {
            Ok(came) => self.read(package, came),
            Err(fault) => Err(self.failed(fault)),
        };
        Files::ask_about(&self.files.web.patience, packages, (ask, read), deliver);
    }

    fn expect(&self, packages: &BTreeSet<PackageName>) {
        packages.iter().for_each(|package| self.early.ask(package, self.ask(package)));
    }

    fn is_far(&self) -> bool {
        !self.files.offline
    }

    fn open(
        &self,
        _package: &PackageName,
        artifact: &Artifact,
        offset: u64,
    ) -> Result<Box<dyn Read + Send>, SourceError> {
        if self.files.offline {
            return Err(self.failed(WebFault::NotCached));
        }
        // Nothing comes behind the end, and servers differ in how they say so.
        if offset > 0 && offset >= artifact.size {
            return Ok(Box::new(io::empty()));
        }
        for path in archive_files(artifact.digest) {
            let (files, file) = (self.files.clone(), address_of(&path));
            let ask = move |at: u64, tag: Option<&str>| {
                let web = &files.web;
                let asked = files.at_each(&file, |address| async move { web.open_at(&address, at, tag).await });
                files.wait_for(&file, asked)
            };
            let patience = self.files.web.patience.clone();
            match open(patience, offset, Some(artifact.size), Box::new(ask)) {
                Ok(Some(body)) => return Ok(Box::new(body)),
                Ok(None) => {}
                Err(fault) => return Err(self.fail(fault.into())),
            }
        }
        Err(self.fail(SourceErrorKind::ArchiveMissing(artifact.digest)))
    }

    fn names(&self) -> Result<Vec<PackageName>, SourceError> {
        Ok(self.index()?.map(|index| index.packages).unwrap_or_default())
    }

    fn last_seen(&self) -> Option<Timestamp> {
        self.files.last_seen()
    }

    fn registry(&self) -> &str {
        &self.registry
    }

    fn advisories(&self, reader: &dyn AdvisoryReader) -> Result<(), SourceError> {
        let Some(index) = self.index()? else {
            let why = "web servers list no folders, and this registry has no index.json that says what it holds";
            reader.take(REGISTRY_INDEX, None, Err(io::Error::new(io::ErrorKind::NotFound, why)));
            return Ok(());
        };
        let wanted: Vec<String> = index.advisories.into_iter().filter(|file| reader.wants(file, None)).collect();
        let runtime = runtime().map_err(|fault| self.failed(fault))?;
        // So many at a time are held, and no more.
        for some in wanted.chunks(at_once()) {
            let ask = |file: &String| {
                let (files, at) = (self.files.clone(), format!("{ADVISORIES}/{file}"));
                runtime.spawn(async move { files.get(&at, MOST_ADVISORY).await })
            };
            let tasks: Vec<_> = some.iter().map(ask).collect();
            for (file, task) in some.iter().zip(tasks) {
                let came = unless_stopped(&self.files.web.patience, task).map_err(|fault| self.failed(fault))?;
                let text = match came {
                    Ok(Ok(Some(came))) => {
                        self.files.keep(&came);
                        String::from_utf8(came.answer.bytes).map_err(io::Error::other)
                    }
                    Ok(Ok(None)) => Err(io::Error::from(io::ErrorKind::NotFound)),
                    Ok(Err(fault)) => Err(fault.into()),
                    Err(panic) => Err(io::Error::other(panic)),
                };
                reader.take(file, None, text);
            }
        }
        Ok(())
    }
}
