//! All sources of a project: which one a package comes from, never by chance.
//!
//! A name that a source reserves comes from that source alone. A name that two sources have and none reserves is an
//! error: otherwise a stranger who publishes under a private name would be installed in its place.

use std::collections::BTreeMap;

use yostel_documents::{NamePattern, Origin, PackageDocument, PackageName, SourceName};

use crate::Source;
use crate::error::{SourceError, SourceErrorKind};

/// The sources of a project.
#[derive(Default)]
pub struct SourceSet {
    sources: Vec<(Box<dyn Source>, Vec<NamePattern>)>,
    /// Packages that come from elsewhere, whatever a source may have by their name.
    given: BTreeMap<PackageName, (Origin, PackageDocument)>,
}

impl SourceSet {
    /// Adds a source and the names it reserves.
    pub fn add(&mut self, source: Box<dyn Source>, reserves: Vec<NamePattern>) {
        self.sources.push((source, reserves));
    }

    /// Adds a package that comes from elsewhere: no source is asked about it.
    pub fn give(&mut self, origin: Origin, document: PackageDocument) {
        self.given.insert(document.name.clone(), (origin, document));
    }

    /// Tells whether there is no source at all.
    pub fn is_empty(&self) -> bool {
        self.sources.is_empty()
    }

    /// Returns the source with this name.
    pub fn source(&self, name: &SourceName) -> Option<&dyn Source> {
        self.sources.iter().map(|(source, _)| &**source).find(|source| source.name() == name)
    }

    /// Returns all that is known of a package, and from where; nothing when no source knows it.
    ///
    /// # Errors
    /// As [`Source::document`]; and `Ambiguous`.
    pub fn document(&self, package: &PackageName) -> Result<Option<(Origin, PackageDocument)>, SourceError> {
        if let Some(given) = self.given.get(package) {
            return Ok(Some(given.clone()));
        }
        let reserving =
            |(_, reserves): &&(Box<dyn Source>, Vec<NamePattern>)| reserves.iter().any(|p| p.covers(package));
        let reserved: Vec<_> = self.sources.iter().filter(reserving).collect();
        let asked = if reserved.is_empty() { self.sources.iter().collect() } else { reserved };
        let mut found: Vec<(SourceName, PackageDocument)> = Vec::new();
        for (source, _) in asked {
            if let Some(document) = source.document(package)? {
                found.push((source.name().clone(), document));
            }
        }
        if found.len() > 1 {
            let others = found[1..].iter().map(|(name, _)| name.clone()).collect();
            let kind = SourceErrorKind::Ambiguous { package: package.clone(), others };
            return Err(SourceError { source_name: found[0].0.clone(), kind });
        }
        Ok(found.pop().map(|(name, document)| (Origin::Source(name), document)))
    }

    /// Lists all names that any source knows, sorted; sources that cannot be asked are passed over.
    pub fn names(&self) -> Vec<PackageName> {
        let mut names: Vec<PackageName> =
            self.sources.iter().flat_map(|(source, _)| source.names().unwrap_or_default()).collect();
        names.extend(self.given.keys().cloned());
        names.sort();
        names.dedup();
        names
    }
}
