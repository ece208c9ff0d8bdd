//! All sources of a project: which one a package comes from, never by chance.
//!
//! A name that a source reserves comes from that source alone. A name that two sources have and none reserves is an
//! error: otherwise a stranger who publishes under a private name would be installed in its place.

use yostel_core::{NamePattern, PackageDocument, PackageName, SourceName};

use crate::Source;
use crate::error::{SourceError, SourceErrorKind};

/// The sources of a project.
#[derive(Default)]
pub struct SourceSet {
    sources: Vec<(Box<dyn Source>, Vec<NamePattern>)>,
}

impl SourceSet {
    /// Adds a source and the names it reserves.
    pub fn add(&mut self, source: Box<dyn Source>, reserves: Vec<NamePattern>) {
        self.sources.push((source, reserves));
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
    pub fn document(&self, package: &PackageName) -> Result<Option<(SourceName, PackageDocument)>, SourceError> {
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
        Ok(found.pop())
    }

    /// Lists all names that any source knows, sorted; sources that cannot be asked are passed over.
    pub fn names(&self) -> Vec<PackageName> {
        let mut names: Vec<PackageName> =
            self.sources.iter().flat_map(|(source, _)| source.names().unwrap_or_default()).collect();
        names.sort();
        names.dedup();
        names
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{FolderSource, RegistryHead, document_file};
    use std::path::Path;
    use yostel_core::Word;

    fn registry(folder: &Path, package: &str, version: &str) -> Box<dyn Source> {
        let name = PackageName::parse(package).unwrap();
        let digest = format!("sha256:{}", "ab".repeat(32));
        std::fs::create_dir_all(folder.join("releases")).unwrap();
        std::fs::write(folder.join("registry.json"), RegistryHead { name: "r".into(), format: 1 }.write()).unwrap();
        let text = format!(
            r#"{{"format":1,"name":"{package}","releases":[{{"version":"{version}","published":"2026-01-01T00:00:00Z",
            "artifacts":[{{"platform":"any","digest":"{digest}","size":1,"tree":"{digest}"}}]}}]}}"#
        );
        std::fs::write(folder.join(document_file(&name)), text).unwrap();
        let source = folder.file_name().unwrap().to_str().unwrap();
        Box::new(FolderSource::open(Word::parse(source).unwrap(), folder.to_owned()).unwrap())
    }

    #[test]
    fn a_name_in_two_sources_is_refused_until_one_reserves_it() {
        let folder = tempfile::tempdir().unwrap();
        let name = PackageName::parse("valley/gust").unwrap();
        let both = |reserves: &[&str]| {
            let mut set = SourceSet::default();
            let patterns = reserves.iter().map(|p| NamePattern::parse(p).unwrap()).collect();
            set.add(registry(&folder.path().join("depot"), "valley/gust", "9.0.0"), Vec::new());
            set.add(registry(&folder.path().join("valley"), "valley/gust", "1.0.0"), patterns);
            set
        };
        let error = both(&[]).document(&name).unwrap_err();
        assert_eq!(error.to_string(), "source depot: valley/gust is also in valley");
        let (source, document) = both(&["valley/*"]).document(&name).unwrap().unwrap();
        assert_eq!((source.as_str(), document.releases[0].version.as_str()), ("valley", "1.0.0"));
        assert_eq!(both(&[]).names(), [name]);
    }

    #[test]
    fn a_folder_that_is_no_registry_says_so() {
        let folder = tempfile::tempdir().unwrap();
        let open = |path: &str| FolderSource::open(Word::parse("depot").unwrap(), folder.path().join(path)).map(|_| ());
        assert!(matches!(open("nowhere").unwrap_err().kind, SourceErrorKind::Missing(_)));
        assert!(matches!(open("").unwrap_err().kind, SourceErrorKind::NotARegistry(_)));
        std::fs::write(folder.path().join("registry.json"), "{}").unwrap();
        assert!(matches!(open("").unwrap_err().kind, SourceErrorKind::NotARegistry(_)));
        std::fs::write(folder.path().join("registry.json"), r#"{"format":7,"name":"x"}"#).unwrap();
        assert!(matches!(open("").unwrap_err().kind, SourceErrorKind::Format { found: 7 }));
    }
}
