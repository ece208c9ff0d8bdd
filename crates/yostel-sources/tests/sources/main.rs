//! Sources: what a folder must be to be a registry, and which source a name comes from.
//! The accident this prevents: a stranger's package that takes a private name.

#![allow(clippy::disallowed_methods, reason = "worlds are set up and looked at by hand")]
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod contract;
mod faults;
mod oci;

use std::path::Path;

use yostel_documents::{NamePattern, PackageName, RegistryHead, Word, document_file};
use yostel_sources::{FolderSource, Source, SourceErrorKind, SourceSet, document_of};

fn registry(folder: &Path, package: &str, version: &str) -> Box<dyn Source> {
    let name = PackageName::parse(package).unwrap();
    let digest = format!("sha256:{}", "ab".repeat(32));
    std::fs::create_dir_all(folder.join("releases")).unwrap();
    std::fs::write(folder.join("registry.json"), RegistryHead { name: "r".into(), format: 1 }.write()).unwrap();
    let text = format!(
        r#"{{"format":1,"name":"{package}","releases":[{{"record":{{"version":"{version}","published":"2026-01-01T00:00:00Z",
        "artifacts":[{{"platform":"any","digest":"{digest}","size":1,"tree":"{digest}"}}]}}}}]}}"#
    );
    let file = folder.join(document_file(&name));
    std::fs::create_dir_all(file.parent().unwrap()).unwrap();
    std::fs::write(file, text).unwrap();
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
        set.add(registry(&folder.path().join("station"), "valley/gust", "9.0.0"), Vec::new());
        set.add(registry(&folder.path().join("valley"), "valley/gust", "1.0.0"), patterns);
        set
    };
    let error = both(&[]).document(&name).unwrap_err();
    assert_eq!(error.to_string(), "source station: valley/gust is also in valley");
    let (source, document) = both(&["valley/*"]).document(&name).unwrap().unwrap();
    assert_eq!((source.to_string().as_str(), document.releases[0].version.as_str()), ("valley", "1.0.0"));
    assert_eq!(both(&[]).names(), [name]);
}

#[test]
fn a_folder_that_is_no_registry_says_so() {
    let folder = tempfile::tempdir().unwrap();
    let open = |path: &str| FolderSource::open(Word::parse("station").unwrap(), folder.path().join(path)).map(|_| ());
    assert!(matches!(open("nowhere").unwrap_err().kind, SourceErrorKind::Missing(_)));
    assert!(matches!(open("").unwrap_err().kind, SourceErrorKind::NotARegistry(_)));
    std::fs::write(folder.path().join("registry.json"), "{}").unwrap();
    assert!(matches!(open("").unwrap_err().kind, SourceErrorKind::NotARegistry(_)));
    std::fs::write(folder.path().join("registry.json"), r#"{"format":7,"name":"x"}"#).unwrap();
    assert!(matches!(open("").unwrap_err().kind, SourceErrorKind::Format { found: 7 }));
}

#[test]
fn a_source_says_what_it_lacks_and_what_is_broken() {
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path().join("station");
    let source = registry(&root, "gust", "1.0.0");
    let name = |text: &str| PackageName::parse(text).unwrap();
    assert!(document_of(&*source, &name("gust")).unwrap().is_some());
    assert!(document_of(&*source, &name("other")).unwrap().is_none());
    assert_eq!(source.names().unwrap(), [name("gust")]);
    assert_eq!((source.name().as_str(), source.place()), ("station", root.display().to_string()));
    std::fs::write(root.join(document_file(&name("gust"))), "{").unwrap();
    let error = document_of(&*source, &name("gust")).unwrap_err();
    assert_eq!(error.to_string(), "source station: its document of gust is broken");
    std::fs::remove_file(root.join(document_file(&name("gust")))).unwrap();
    std::fs::create_dir(root.join(document_file(&name("gust")))).unwrap();
    assert!(matches!(document_of(&*source, &name("gust")).unwrap_err().kind, SourceErrorKind::Read { .. }));
}

#[test]
fn an_empty_set_knows_nothing() {
    let set = SourceSet::default();
    assert!(set.is_empty() && set.names().is_empty());
    assert!(set.document(&PackageName::parse("gust").unwrap()).unwrap().is_none());
    assert!(set.source(&Word::parse("station").unwrap()).is_none());
}
