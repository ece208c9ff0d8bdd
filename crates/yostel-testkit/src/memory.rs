//! A source in memory: the twin of those that ship, which answers in the order that a test wants, and refuses what a test
//! wants refused.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Cursor, Read};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use yostel_documents::{Artifact, PackageDocument, PackageName, SourceName, archive_files, document_file};
use yostel_sources::{
    AdvisoryReader, OpenSource, RegistryPlace, Source, SourceAnswer, SourceContext, SourceError, SourceErrorKind,
    SourcedDocument,
};

/// What a source in memory has, and how it behaves.
#[derive(Debug, Clone, Default)]
pub struct MemoryContent {
    /// Documents, by package.
    pub documents: BTreeMap<PackageName, Vec<u8>>,
    /// Archives, by their path in a registry.
    pub archives: BTreeMap<PathBuf, Vec<u8>>,
    /// Whether the last package that is asked for is answered first.
    pub last_first: bool,
    /// Answers come in an order that this number makes, where there is one.
    pub shuffle: Option<u64>,
    /// Whether it wants to be told what to expect, as one that answers late.
    pub is_far: bool,
    /// Packages about which it cannot be asked.
    pub silent: BTreeSet<PackageName>,
    /// Advisories, by the names of their files.
    pub advisories: BTreeMap<String, String>,
    /// After how many bytes every archive breaks off.
    pub breaks_off: Option<usize>,
}

impl MemoryContent {
    /// Reads a registry in a folder.
    ///
    /// # Panics
    /// When it cannot be read.
    pub fn of_folder(folder: &Path, packages: &[&str]) -> Self {
        let mut content = Self::default();
        for package in packages {
            let package = PackageName::parse(package).unwrap();
            let bytes = std::fs::read(folder.join(document_file(&package))).unwrap();
            let document = PackageDocument::parse(std::str::from_utf8(&bytes).unwrap(), &package).unwrap();
            for artifact in document.releases.iter().flat_map(|release| &release.whole().artifacts) {
                for path in archive_files(artifact.digest) {
                    if let Ok(archive) = std::fs::read(folder.join(&path)) {
                        content.archives.insert(path, archive);
                    }
                }
            }
            content.documents.insert(package, bytes);
        }
        content
    }
}

/// A source in memory.
#[derive(Debug)]
pub struct MemorySource {
    name: SourceName,
    content: MemoryContent,
    asked: Arc<Mutex<Vec<PackageName>>>,
    expected: Arc<Mutex<Vec<PackageName>>>,
}

impl MemorySource {
    /// Makes a source.
    pub fn new(name: SourceName, content: MemoryContent) -> Self {
        Self { name, content, asked: Arc::default(), expected: Arc::default() }
    }

    fn fail(&self, path: &str, why: &str) -> SourceError {
        let kind = SourceErrorKind::Read { path: path.into(), cause: io::Error::other(why.to_owned()) };
        SourceError { source_name: Some(self.name.clone()), kind }
    }

    fn document(&self, package: &PackageName) -> SourceAnswer {
        if self.content.silent.contains(package) {
            return Err(self.fail(package.as_str(), "nobody answers"));
        }
        let Some(bytes) = self.content.documents.get(package) else { return Ok(None) };
        let text = String::from_utf8_lossy(bytes);
        let document = PackageDocument::parse(&text, package).map_err(|cause| {
            let kind = SourceErrorKind::Document { package: package.clone(), path: package.as_str().into(), cause };
            SourceError { source_name: Some(self.name.clone()), kind }
        })?;
        Ok(Some(SourcedDocument { document, bytes: bytes.clone() }))
    }
}

/// Bytes that break off.
struct BreaksOff<R>(R);

impl<R: Read> Read for BreaksOff<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        match self.0.read(buffer) {
            Ok(0) if !buffer.is_empty() => Err(io::Error::other("it broke off")),
            read => read,
        }
    }
}

impl Source for MemorySource {
    fn name(&self) -> &SourceName {
        &self.name
    }

    fn place(&self) -> String {
        "memory".into()
    }

    fn documents(&self, packages: &BTreeSet<PackageName>, deliver: &(dyn Fn(&PackageName, SourceAnswer) + Sync)) {
        let mut packages: Vec<&PackageName> = packages.iter().collect();
        if self.content.last_first {
            packages.reverse();
        }
        if let Some(seed) = self.content.shuffle {
            packages.sort_by_cached_key(|package| {
                let start = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ 0xcbf2_9ce4_8422_2325;
                let mixed =
                    |hash: u64, byte: u8| (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3).rotate_left(23);
                package.as_str().bytes().fold(start, mixed)
            });
        }
        for package in packages {
            self.asked.lock().unwrap().push(package.clone());
            deliver(package, self.document(package));
        }
    }

    fn expect(&self, packages: &BTreeSet<PackageName>) {
        self.expected.lock().unwrap().extend(packages.iter().cloned());
    }

    fn is_far(&self) -> bool {
        self.content.is_far
    }

    fn open(
        &self,
        _package: &PackageName,
        artifact: &Artifact,
        offset: u64,
    ) -> Result<Box<dyn Read + Send>, SourceError> {
        let found = archive_files(artifact.digest).into_iter().find_map(|path| self.content.archives.get(&path));
        let Some(archive) = found else {
            let kind = SourceErrorKind::ArchiveMissing(artifact.digest);
            return Err(SourceError { source_name: Some(self.name.clone()), kind });
        };
        let from = usize::try_from(offset).unwrap().min(archive.len());
        Ok(match self.content.breaks_off {
            Some(most) => Box::new(BreaksOff(Cursor::new(archive[from..].to_vec()).take(most as u64))),
            None => Box::new(Cursor::new(archive[from..].to_vec())),
        })
    }

    fn names(&self) -> Result<Vec<PackageName>, SourceError> {
        Ok(self.content.documents.keys().cloned().collect())
    }

    fn registry(&self) -> &str {
        "memory"
    }

    fn advisories(&self, reader: &dyn AdvisoryReader) -> Result<(), SourceError> {
        let wanted = self.content.advisories.iter().filter(|(name, _)| reader.wants(name, None));
        wanted.for_each(|(name, text)| reader.take(name, None, Ok(text.clone())));
        Ok(())
    }
}

/// Opens a source in memory for each that a manifest names, all with the same content.
#[derive(Debug, Default)]
pub struct MemorySources {
    content: MemoryContent,
    asked: Arc<Mutex<Vec<PackageName>>>,
    expected: Arc<Mutex<Vec<PackageName>>>,
}

impl MemorySources {
    /// Makes sources with this content.
    pub fn new(content: MemoryContent) -> Self {
        Self { content, asked: Arc::default(), expected: Arc::default() }
    }

    /// Returns the packages that were asked for, in that order.
    ///
    /// # Panics
    /// When a thread panicked that asked.
    pub fn asked(&self) -> Vec<PackageName> {
        self.asked.lock().unwrap().clone()
    }
}

impl MemorySources {
    /// Returns the packages that they were told to expect, in that order.
    ///
    /// # Panics
    /// When a thread panicked that told them.
    pub fn expected(&self) -> Vec<PackageName> {
        self.expected.lock().unwrap().clone()
    }
}

impl OpenSource for MemorySources {
    fn open(
        &self,
        name: SourceName,
        _place: RegistryPlace,
        _means: &SourceContext,
    ) -> Result<Box<dyn Source>, SourceError> {
        let (asked, expected) = (self.asked.clone(), self.expected.clone());
        Ok(Box::new(MemorySource { name, content: self.content.clone(), asked, expected }))
    }
}
