//! Writing a registry. The accident this prevents: a release that is lost because two were published at once, or one
//! that can be read before its archive is there.

#![allow(clippy::disallowed_methods, reason = "worlds are set up and looked at by hand")]
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::fs;
use std::path::Path;

use jiff::Timestamp;
use yostel_documents::archive_file;
use yostel_documents::{Manifest, PackageName};
use yostel_registry::{Publication, Registry, RegistryError, ReleaseRemarks, Saying, withdraw};

fn package(folder: &Path, version: &str, extra: &str) -> Manifest {
    fs::create_dir_all(folder).unwrap();
    let text = format!("[project]\nname = \"kit\"\nversion = \"{version}\"\n{extra}");
    fs::write(folder.join("yostel.toml"), &text).unwrap();
    fs::write(folder.join("content"), version).unwrap();
    Manifest::parse(&text).unwrap()
}

fn said<'s>(package: &'s PackageName, version: &'s str, why: &'s str) -> Saying<'s> {
    Saying { package, version, why, now: Timestamp::UNIX_EPOCH }
}

fn publication<'p>(folder: &'p Path, manifest: &'p Manifest, remarks: ReleaseRemarks) -> Publication<'p> {
    let now = Timestamp::UNIX_EPOCH;
    Publication { folder, without: &[], manifest, now, commit: &|| None, remarks, backport: true, preview: false }
}

fn publish(registry: &Registry, folder: &Path, version: &str, extra: &str) -> Result<bool, RegistryError> {
    let manifest = package(folder, version, extra);
    let publication = publication(folder, &manifest, ReleaseRemarks::default());
    yostel_registry::publish(registry, &publication).map(|published| published.is_new)
}

#[test]
fn releases_published_at_once_are_all_there_and_whole() {
    let folder = tempfile::tempdir().unwrap();
    let station = folder.path().join("station");
    Registry::create(&station, "station").unwrap();
    std::thread::scope(|scope| {
        for i in 0..8 {
            let (station, made) = (&station, folder.path().join(format!("made{i}")));
            scope.spawn(move || {
                assert!(publish(&Registry::open(station).unwrap(), &made, &format!("1.{i}.0"), "").unwrap())
            });
        }
    });
    let registry = Registry::open(&station).unwrap();
    let contents = registry.contents().unwrap();
    let versions: Vec<&str> = contents[0].releases.iter().map(|release| release.version.as_str()).collect();
    assert_eq!(versions, ["1.0.0", "1.1.0", "1.2.0", "1.3.0", "1.4.0", "1.5.0", "1.6.0", "1.7.0"]);
    for release in contents[0].releases.iter() {
        let artifact = &release.whole().artifacts[0];
        let archive = fs::metadata(station.join(archive_file(artifact.digest))).unwrap();
        assert_eq!(archive.len(), artifact.size);
    }
    assert_eq!(fs::read_dir(station.join("archives/sha256")).unwrap().count(), 8, "nothing is left aside");
}

#[test]
fn a_version_stands_for_one_content_for_good() {
    let folder = tempfile::tempdir().unwrap();
    let registry = Registry::create(&folder.path().join("station"), "station").unwrap();
    let made = folder.path().join("made");
    assert!(publish(&registry, &made, "1.0.0", "").unwrap());
    assert!(!publish(&registry, &made, "1.0.0", "").unwrap(), "the very same again is no news");
    let needs = "[needs.run]\nunit = \"^1\"\n";
    assert!(matches!(
        publish(&registry, &made, "1.0.0", needs),
        Err(RegistryError::AlreadyPublished { differs: "its files", .. })
    ));
    assert!(matches!(
        publish(&registry, &made, "1.0.0+rebuilt", ""),
        Err(RegistryError::AlreadyPublished { differs: "the way its version is written", .. })
    ));
    let words = "numbering = { order = \"words\" }\n";
    assert!(matches!(publish(&registry, &made, "2.0", words), Err(RegistryError::Numbering { .. })));
    assert_eq!(registry.contents().unwrap()[0].releases.len(), 1);
}

#[test]
fn what_becomes_of_a_release_is_told_with_it() {
    let folder = tempfile::tempdir().unwrap();
    let registry = Registry::create(&folder.path().join("station"), "station").unwrap();
    let made = folder.path().join("made");
    let manifest =
        package(&made, "1.0.0", "licence = \"MIT\"\nnotes = \"first\"\n[needs.run]\n[needs.test]\nrig = \"^1\"\n");
    let name = PackageName::parse("kit").unwrap();
    let remarks = ReleaseRemarks {
        platform: None,
        deprecated: Some("old".into()),
        replaced_by: Some(PackageName::parse("kit2").unwrap()),
    };
    let publication = publication(&made, &manifest, remarks);
    yostel_registry::publish(&registry, &publication).unwrap();
    assert!(withdraw(&registry, said(&name, "1.0.0", "leaks")).unwrap());
    assert!(!withdraw(&registry, said(&name, "1.0.0", "again")).unwrap());
    let release = registry.contents().unwrap()[0].releases[0].whole().clone();
    assert_eq!(release.withdrawn.as_ref().unwrap().why, "leaks");
    assert_eq!((release.deprecated.as_deref(), release.licence.as_deref()), (Some("old"), Some("MIT")));
    assert_eq!(release.needs.len(), 1, "a purpose without needs is not told");
    assert!(release.content.is_some_and(|content| content != release.artifacts[0].tree));
    assert!(
        matches!(withdraw(&registry, said(&name, "9.0.0", "x")), Err(RegistryError::NoSuchRelease { known, .. }) if known.len() == 1)
    );
    assert!(matches!(withdraw(&registry, said(&name, "9", "x")), Err(RegistryError::Version(_))));
}

#[test]
fn a_folder_that_is_something_else_is_left_alone() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("letter"), "dear").unwrap();
    assert!(matches!(Registry::create(folder.path(), "x"), Err(RegistryError::Occupied(_, false))));
    assert!(matches!(Registry::open(folder.path()), Err(RegistryError::NotARegistry(_))));
    fs::write(folder.path().join("registry.json"), "{\"format\": 4, \"name\": \"later\"}").unwrap();
    assert!(matches!(Registry::open(folder.path()), Err(RegistryError::Format(4))));
}
