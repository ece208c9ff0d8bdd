//! What every source keeps, tested on each of them and on their twin in memory.
//! The accident this prevents: a source that flows were never tried with, and that answers twice, or not at all.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use yostel_documents::oci::{
    ADVISORY_TYPE, Blob, Descriptor, INDEX_TYPE, OCI_MANIFEST, OciIndex, OciManifest, OciPlace, OciTag, PACKAGE_TYPE,
    REGISTRY_TYPE, RELEASE_TYPE,
};
use yostel_documents::{
    ArchiveDigest, Artifact, Credential, PackageName, RegistryHead, RegistryIndex, Secret, TreeDigest, WebAddress,
    Word, archive_file, document_file,
};
use yostel_sources::{
    AdvisoryReader, Credentials, FileStamp, FolderSource, OciSource, Source, SourceAnswer, SourceContext,
    SourceErrorKind, SourceSet, WebSource, document_of,
};
use yostel_testkit::{MemoryContent, MemorySource, OciManner, OciServer, WebServer};

pub(crate) fn name(text: &str) -> PackageName {
    PackageName::parse(text).unwrap()
}

fn artifact(archive: &[u8]) -> Artifact {
    let (digest, tree) = (ArchiveDigest::of(archive), TreeDigest::of(archive));
    Artifact { platform: "any".into(), digest, size: archive.len() as u64, tree }
}

pub(crate) fn document(package: &str, archive: &[u8]) -> String {
    let Artifact { digest, tree, size, .. } = artifact(archive);
    format!(
        r#"{{"format":1, "name":"{package}","releases":[{{"record":{{"version":"1.0.0","published":"2026-01-01T00:00:00Z",
        "artifacts":[{{"platform":"any","digest":"{digest}","size":{size},"tree":"{tree}"}}]}}}}], "later": true}}"#
    )
}

pub(crate) const ARCHIVE: &[u8] = b"0123456789";

const ADVISORIES: [(&str, &str); 2] = [("a.json", "{}"), ("b.json", "torn")];

/// One more, which nobody wants.
const UNWANTED: &str = "c.json";

/// What the source of each kind has: two packages with an archive, and one whose document is broken.
fn documents() -> Vec<(&'static str, String)> {
    vec![
        ("gust", document("gust", ARCHIVE)),
        ("valley/map", document("valley/map", ARCHIVE)),
        ("torn", "{\"format\":1".into()),
    ]
}

/// Writes a registry's files into a folder.
pub(crate) fn written(folder: &Path) {
    let write = |path: PathBuf, content: &[u8]| {
        let file = folder.join(path);
        std::fs::create_dir_all(file.parent().unwrap()).unwrap();
        std::fs::write(file, content).unwrap();
    };
    write("registry.json".into(), RegistryHead { name: "r".into(), format: 1 }.write().as_bytes());
    documents().iter().for_each(|(package, text)| write(document_file(&name(package)), text.as_bytes()));
    write(archive_file(ArchiveDigest::of(ARCHIVE)), ARCHIVE);
    for (file, text) in ADVISORIES {
        write(Path::new("advisories").join(file), text.as_bytes());
    }
    write(Path::new("advisories").join(UNWANTED), b"{}");
    // Neither of these is one.
    write("advisories/notes.txt".into(), b"");
    write("advisories/.part.json".into(), b"");
    let index = RegistryIndex {
        packages: ["gust", "torn", "valley/map"].into_iter().map(name).collect(),
        advisories: ADVISORIES.iter().map(|(file, _)| *file).chain([UNWANTED]).map(str::to_owned).collect(),
    };
    write("index.json".into(), index.write().as_bytes());
}

fn folder_source(folder: &Path) -> Box<dyn Source> {
    written(folder);
    Box::new(FolderSource::open(Word::parse("station").unwrap(), folder.to_owned()).unwrap())
}

fn memory_source(last_first: bool) -> Box<dyn Source> {
    let documents = documents().into_iter().map(|(package, text)| (name(package), text.into_bytes())).collect();
    let archives = BTreeMap::from([(archive_file(ArchiveDigest::of(ARCHIVE)), ARCHIVE.to_vec())]);
    let advisories = ADVISORIES.iter().map(|(file, text)| ((*file).to_owned(), (*text).to_owned()));
    let advisories = [(UNWANTED.to_owned(), "{}".to_owned())].into_iter().chain(advisories).collect();
    let content = MemoryContent { documents, archives, advisories, last_first, ..MemoryContent::default() };
    Box::new(MemorySource::new(Word::parse("station").unwrap(), content))
}

fn keeps_the_contract(source: &dyn Source) {
    assert_eq!(source.name().as_str(), "station");
    assert!(!source.place().is_empty());
    let mut names = source.names().unwrap();
    names.sort();
    assert_eq!(names, [name("gust"), name("torn"), name("valley/map")]);
    // Each is answered once, whatever becomes of the others.
    let wanted: BTreeSet<PackageName> = ["gust", "none", "torn", "valley/map"].into_iter().map(name).collect();
    let answers: Mutex<Vec<(PackageName, SourceAnswer)>> = Mutex::default();
    source.documents(&wanted, &|package, answer| answers.lock().unwrap().push((package.clone(), answer)));
    let mut answers = answers.into_inner().unwrap();
    answers.sort_by(|a, b| a.0.cmp(&b.0));
    let told: Vec<String> = answers
        .iter()
        .map(|(package, answer)| match answer {
            Ok(Some(told)) => format!("{package}: {}", told.document.releases[0].version),
            Ok(None) => format!("{package}: nothing"),
            Err(error) => format!("{package}: {error}"),
        })
        .collect();
    let torn = "torn: source station: its document of torn is broken";
    assert_eq!(told, ["gust: 1.0.0", "none: nothing", torn, "valley/map: 1.0.0"]);
    // The bytes are those that were published, blanks and unknown members and all.
    let bytes = document_of(source, &name("gust")).unwrap().unwrap().bytes;
    assert_eq!(String::from_utf8(bytes).unwrap(), document("gust", ARCHIVE));
    source.documents(&BTreeSet::new(), &|_, _| panic!("nothing was asked"));
    // An archive is there from any byte on.
    for (offset, rest) in [(0, "0123456789"), (4, "456789"), (10, ""), (99, "")] {
        let mut content = String::new();
        source.open(&name("gust"), &artifact(ARCHIVE), offset).unwrap().read_to_string(&mut content).unwrap();
        assert_eq!(content, rest, "from {offset}");
    }
    let other = artifact(b"other");
    let missing = source.open(&name("gust"), &other, 0).map(|_| ()).unwrap_err();
    assert!(matches!(missing.kind, SourceErrorKind::ArchiveMissing(digest) if digest == other.digest), "{missing}");
    // Advisories are handed out as they are, each once.
    let told = Mutex::new(Vec::new());
    source.advisories(&Taking(&told)).unwrap();
    let mut told = told.into_inner().unwrap();
    told.sort();
    assert_eq!(told, ADVISORIES.map(|(file, text)| (file.to_owned(), text.to_owned())));
}

/// Takes all but one that it does not want.
struct Taking<'t>(&'t Mutex<Vec<(String, String)>>);

impl AdvisoryReader for Taking<'_> {
    fn wants(&self, file: &str, _stamp: Option<FileStamp>) -> bool {
        file != UNWANTED
    }

    fn take(&self, file: &str, _stamp: Option<FileStamp>, text: io::Result<String>) {
        assert_ne!(file, UNWANTED);
        self.0.lock().unwrap().push((file.to_owned(), text.unwrap()));
    }
}

#[test]
fn a_folder_keeps_the_contract_of_sources() {
    let folder = tempfile::tempdir().unwrap();
    keeps_the_contract(&*folder_source(folder.path()));
}

#[test]
fn a_web_server_keeps_it_too() {
    let folder = tempfile::tempdir().unwrap();
    written(folder.path());
    let server = WebServer::serving(folder.path());
    let address = WebAddress::parse(server.address()).unwrap();
    let source = WebSource::open(Word::parse("station").unwrap(), vec![address], &SourceContext::default()).unwrap();
    keeps_the_contract(&source);
    assert_eq!(source.registry(), "r");
}

#[test]
fn an_oci_registry_keeps_it_too_with_pages_and_tokens() {
    for manner in [
        OciManner::default(),
        OciManner { page: Some(1), user: Some("alice:s3cret".into()), has_tokens: true },
        OciManner { user: Some("alice:s3cret".into()), ..OciManner::default() },
    ] {
        let server = OciServer::like(manner, |_| None);
        fill(&server);
        let place = OciPlace::parse(&format!("{}/a/r", server.host())).unwrap();
        let context = SourceContext { credentials: Arc::new(Alice), ..SourceContext::default() };
        let source = OciSource::open(Word::parse("station").unwrap(), &[place], &context).unwrap();
        keeps_the_contract(&source);
        assert_eq!(source.registry(), "r");
    }
}

/// Knows one user, of every host.
#[derive(Debug)]
pub(crate) struct Alice;

impl Credentials for Alice {
    fn of(&self, _host: &str) -> Result<Option<Credential>, String> {
        Ok(Some(Credential::Password { user: "alice".into(), password: Secret::new("s3cret") }))
    }
}

/// Puts an artifact under a tag.
pub(crate) fn put(server: &OciServer, repository: &str, tag: &str, (manifest, blobs): (OciManifest, Vec<Blob>)) {
    server.content(|content| {
        for blob in blobs {
            content.blobs.insert((repository.to_owned(), blob.digest), blob.bytes);
        }
        let put = (OCI_MANIFEST.to_owned(), manifest.write());
        content.manifests.insert((repository.to_owned(), tag.to_owned()), put);
    });
}

/// Writes the registry of the contract as docs/formats.md §16 has it.
pub(crate) fn fill(server: &OciServer) {
    let of = |kind: &str, says: &str| OciManifest::of(kind, says, Vec::new(), BTreeMap::new());
    put(server, "a/r", "_registry", of(REGISTRY_TYPE, &RegistryHead { name: "r".into(), format: 1 }.write()));
    for (package, text) in documents() {
        put(server, "a/r", &OciTag::of_package(&name(package)), of(PACKAGE_TYPE, "{}"));
        put(server, &format!("a/r/{package}"), "1.0.0", of(RELEASE_TYPE, &text));
        if package != "torn" {
            let index = OciIndex { tags: vec!["1.0.0".into()], document: text };
            put(server, &format!("a/r/{package}"), "_index", of(INDEX_TYPE, &index.write()));
            let blob = ((format!("a/r/{package}"), ArchiveDigest::of(ARCHIVE).to_string()), ARCHIVE.to_vec());
            server.content(|content| content.blobs.insert(blob.0, blob.1));
        }
    }
    for (file, text) in ADVISORIES.into_iter().chain([(UNWANTED, "{}")]) {
        let blob = Blob::of(text);
        let layer = Descriptor {
            media_type: "application/json".into(),
            digest: blob.digest.clone(),
            size: blob.bytes.len() as u64,
            data: None,
            annotations: BTreeMap::from([("org.opencontainers.image.title".into(), file.into())]),
        };
        let (manifest, mut blobs) = OciManifest::of(ADVISORY_TYPE, "{}", vec![layer], BTreeMap::new());
        blobs.push(blob);
        put(server, "a/r", &OciTag::of_advisory(file), (manifest, blobs));
    }
}

#[test]
fn their_twin_in_memory_keeps_it_too() {
    keeps_the_contract(&*memory_source(false));
    keeps_the_contract(&*memory_source(true));
}

#[test]
fn a_set_of_sources_answers_each_package_once_when_all_have_answered() {
    let mut set = SourceSet::default();
    let other = document("other", ARCHIVE).into_bytes();
    let content = MemoryContent { documents: [(name("other"), other)].into(), ..MemoryContent::default() };
    set.add(memory_source(true), Vec::new());
    set.add(Box::new(MemorySource::new(Word::parse("valley").unwrap(), content)), Vec::new());
    let wanted: BTreeSet<PackageName> = ["gust", "none", "other", "torn"].into_iter().map(name).collect();
    let answers = Mutex::new(Vec::new());
    set.documents(&wanted, &|package, answer| {
        let told = answer.map(|found| found.map(|(origin, _)| origin.to_string()));
        answers.lock().unwrap().push(format!("{package} {:?}", told.map_err(|error| error.to_string())));
    });
    let mut answers = answers.into_inner().unwrap();
    answers.sort();
    let torn = "torn Err(\"source station: its document of torn is broken\")";
    assert_eq!(answers, ["gust Ok(Some(\"station\"))", "none Ok(None)", "other Ok(Some(\"valley\"))", torn]);
}
