//! OCI registries, read and written. The accident this prevents: a release that two publish is whichever was written last,
//! or one that an index lost is lost.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{Cursor, Read};
use std::sync::Arc;

use yostel_documents::oci::{
    Blob, INDEX_TYPE, OciIndex, OciManifest, OciPlace, OciTag, RELEASE_TYPE, statements_alone,
};
use yostel_documents::{PackageDocument, Statement, TakenBack, Withdrawal, Word};
use yostel_sources::{
    Added, OciRegistry, OciSource, Patience, Source, SourceContext, SourceError, SourceErrorKind, WebFault, document_of,
};
use yostel_testkit::{OciFailure, OciManner, OciRequest, OciServer};

use crate::contract::{ARCHIVE, Alice, document, fill, name, put};

fn place(server: &OciServer) -> OciPlace {
    OciPlace::parse(&format!("{}/a/r", server.host())).unwrap()
}

fn context() -> SourceContext {
    SourceContext { credentials: Arc::new(Alice), ..SourceContext::default() }
}

fn open(server: &OciServer) -> OciSource {
    OciSource::open(Word::parse("station").unwrap(), &[place(server)], &context()).unwrap()
}

fn versions(source: &dyn Source, package: &str) -> Vec<String> {
    let told = document_of(source, &name(package)).unwrap().unwrap();
    told.document.releases.iter().map(|release| release.version.to_string()).collect()
}

fn fault_of(error: SourceError) -> String {
    match error.kind {
        SourceErrorKind::Web { fault, .. } => fault.to_string(),
        other => panic!("{other}"),
    }
}

/// The document of one release at a version.
fn at(package: &str, version: &str, archive: &[u8]) -> PackageDocument {
    let text = document(package, archive).replace("1.0.0", version);
    PackageDocument::parse(&text, &name(package)).unwrap()
}

/// Publishes a release.
fn publish(registry: &OciRegistry, document: &PackageDocument, archive: &[u8]) -> Result<Added, SourceError> {
    let release = document.releases[0].whole();
    let open = || Ok(Box::new(Cursor::new(archive.to_vec())) as Box<dyn Read + Send>);
    registry.send_archive(&document.name, &release.artifacts[0], &open)?;
    let added = registry.add_release(document, release)?;
    registry.write_index(&document.name)?;
    Ok(added)
}

fn made(server: &OciServer) -> OciRegistry {
    OciRegistry::create(None, &place(server), "r", &context()).unwrap()
}

#[test]
fn what_is_published_is_read_back_with_all_that_was_said_of_it() {
    for manner in [
        OciManner::default(),
        OciManner { page: Some(2), user: Some("alice:s3cret".into()), has_tokens: true },
        OciManner { user: Some("alice:s3cret".into()), ..OciManner::default() },
    ] {
        let server = OciServer::like(manner, |_| None);
        let registry = made(&server);
        let again = OciRegistry::create(None, &place(&server), "r", &context()).unwrap_err();
        assert!(matches!(again.kind, SourceErrorKind::Occupied(_)), "{again}");
        for version in ["1.0.0", "1.2.0+build.7", "2.0.0-rc.1"] {
            let document = at("valley/map", version, version.as_bytes());
            assert_eq!(publish(&registry, &document, version.as_bytes()).unwrap(), Added::Now);
            assert_eq!(publish(&registry, &document, version.as_bytes()).unwrap(), Added::Already);
        }
        let other = at("valley/map", "1.0.0", b"other");
        assert_eq!(publish(&registry, &other, b"other").unwrap(), Added::OtherFirst);
        let source = open(&server);
        assert_eq!(versions(&source, "valley/map"), ["1.0.0", "1.2.0+build.7", "2.0.0-rc.1"]);
        assert_eq!(source.names().unwrap(), [name("valley/map")]);
        let document = registry.document(&name("valley/map")).unwrap().unwrap();
        let mut release = yostel_documents::Release::clone(document.releases[0].whole());
        let on = |second| jiff::Timestamp::from_second(second).unwrap();
        for statement in [
            Statement::Withdrawn(Withdrawal { on: on(10), why: "leaks".into() }),
            Statement::TakenBack { on: on(20), why: "it does not".into(), what: TakenBack::Withdrawn },
            Statement::Deprecated { on: on(30), why: "old".into(), replaced_by: None },
        ] {
            release.say(&statement).unwrap();
        }
        // In any order: when it was said tells what counts.
        for statement in statements_alone(&release).iter().rev() {
            registry.add_statement(&document.name, statement).unwrap();
        }
        let told = document_of(&source, &name("valley/map")).unwrap().unwrap().document;
        assert_eq!(told.releases[0].withdrawn(), None);
        assert_eq!(told.releases[0].whole().deprecated.as_deref(), Some("old"));
        assert_eq!(told.releases[0].whole().record(), document.releases[0].whole().record());
        registry.write_index(&document.name).unwrap();
        let indexed = document_of(&source, &name("valley/map")).unwrap().unwrap().document;
        let said = |document: &PackageDocument| document.releases[0].whole().canonical_statements().collect::<Vec<_>>();
        assert_eq!(said(&indexed), said(&told));
        assert_eq!(indexed.releases[0].whole().deprecated.as_deref(), Some("old"));
        let count = server.asked().len();
        document_of(&source, &name("valley/map")).unwrap();
        let pages = server.asked()[count..].iter().filter(|one| one.path.contains("/tags/list")).count();
        assert_eq!(server.asked().len() - count, pages + 1, "the tags, and all in one");
    }
}

#[test]
fn a_registry_behind_a_program_that_adds_tls_is_read_and_written_by_its_paths() {
    // It takes itself for another scheme and port.
    let named = |asked: &OciRequest| {
        let is_first = asked.path.ends_with("gust/tags/list") && asked.method == "GET";
        let link = ("Link", "<https://127.0.0.1:1/v2/a/r/gust/tags/list?n=2&last=1.0.0>; rel=\"next\"".into());
        is_first.then(|| OciFailure::Answer(200, vec![link], b"{\"tags\":[\"1.0.0\"]}".to_vec()))
    };
    let server = OciServer::like(OciManner { page: Some(9), ..OciManner::default() }, named);
    fill(&server);
    put(
        &server,
        "a/r/gust",
        "1.1.0",
        OciManifest::of(
            RELEASE_TYPE,
            &document("gust", ARCHIVE).replace("1.0.0", "1.1.0"),
            Vec::new(),
            BTreeMap::new(),
        ),
    );
    assert_eq!(versions(&open(&server), "gust"), ["1.0.0", "1.1.0"]);
}

#[test]
fn a_write_whose_answer_is_lost_was_made_by_whoever_made_it() {
    let lost = |asked: &OciRequest| {
        let is_it = asked.method == "PUT" && asked.path.contains("/manifests/_registry") && asked.before == 0;
        is_it.then_some(OciFailure::ResetAfter)
    };
    let server = OciServer::like(OciManner::default(), lost);
    assert_eq!(made(&server).name(), "r");
}

#[test]
fn what_an_index_lost_is_read_one_by_one() {
    let server = OciServer::start();
    let registry = made(&server);
    let key = |tag: &str| ("a/r/gust".to_owned(), tag.to_owned());
    publish(&registry, &at("gust", "1.0.0", ARCHIVE), ARCHIVE).unwrap();
    let first = server.content(|content| content.manifests[&key("_index")].clone());
    for version in ["1.1.0", "1.2.0"] {
        publish(&registry, &at("gust", version, ARCHIVE), ARCHIVE).unwrap();
    }
    let source = open(&server);
    let whole = document_of(&source, &name("gust")).unwrap().unwrap().document;
    server.content(|content| content.manifests.insert(key("_index"), first));
    assert_eq!(document_of(&source, &name("gust")).unwrap().unwrap().document.releases, whole.releases);
    server.content(|content| content.manifests.remove(&key("_index")));
    assert_eq!(document_of(&source, &name("gust")).unwrap().unwrap().document.releases, whole.releases);
    // One that is broken, or of a later format, is none.
    for text in ["{", "{\"format\":2,\"tags\":[],\"document\":{}}"] {
        put(&server, "a/r/gust", "_index", OciManifest::of(INDEX_TYPE, text, Vec::new(), BTreeMap::new()));
        assert_eq!(versions(&source, "gust"), ["1.0.0", "1.1.0", "1.2.0"]);
    }
    // A mirror that lists fewer tags than there are still has what its index has.
    registry.write_index(&name("gust")).unwrap();
    server.content(|content| content.manifests.remove(&key("1.1.0")));
    assert_eq!(versions(&source, "gust"), ["1.0.0", "1.1.0", "1.2.0"]);
}

#[test]
fn of_several_who_publish_one_version_at_once_exactly_one_does() {
    let server = OciServer::start();
    let registry = made(&server);
    let outcomes: Vec<Added> = std::thread::scope(|scope| {
        let one = |i: u32| {
            let registry = &registry;
            scope.spawn(move || {
                let content = format!("content {i}");
                publish(registry, &at("gust", "1.0.0", content.as_bytes()), content.as_bytes()).unwrap()
            })
        };
        let all: Vec<_> = (0..8).map(one).collect();
        all.into_iter().map(|thread| thread.join().unwrap()).collect()
    });
    assert_eq!(outcomes.iter().filter(|added| **added == Added::Now).count(), 1, "{outcomes:?}");
    assert_eq!(outcomes.iter().filter(|added| **added == Added::OtherFirst).count(), 7, "{outcomes:?}");
    let told = document_of(&open(&server), &name("gust")).unwrap().unwrap().document;
    let artifact = &told.releases[0].whole().artifacts[0];
    let mut content = Vec::new();
    open(&server).open(&name("gust"), artifact, 0).unwrap().read_to_end(&mut content).unwrap();
    assert_eq!(yostel_documents::ArchiveDigest::of(&content), artifact.digest);
    // Who was killed after claiming holds nobody up for long.
    let (claim, _) = OciManifest::of(RELEASE_TYPE, "{}", Vec::new(), BTreeMap::new());
    let tag = OciTag::of_claim("2.0.0", &Blob::of(claim.write()).digest);
    put(&server, "a/r/gust", &tag, OciManifest::of(RELEASE_TYPE, "{}", Vec::new(), BTreeMap::new()));
    assert_eq!(publish(&registry, &at("gust", "2.0.0", ARCHIVE), ARCHIVE).unwrap(), Added::Now);
}

#[test]
fn a_large_archive_is_sent_in_pieces_and_what_breaks_off_is_sent_again() {
    let broken = |asked: &OciRequest| match (&asked.method[..], asked.before) {
        ("PATCH", _) if asked.path.contains("uploads/2?") => Some(OciFailure::Reset),
        ("POST" | "HEAD", 0) => Some(OciFailure::Reset),
        ("PUT", 0) if asked.path.contains("/manifests/1.0.0") => Some(OciFailure::ResetAfter),
        ("PUT", 0) if asked.path.contains("uploads/3?") => Some(OciFailure::Answer(503, Vec::new(), Vec::new())),
        _ => None,
    };
    let server = OciServer::like(OciManner::default(), broken);
    let registry = made(&server);
    let archive: Vec<u8> = (0..40_000_000u32).map(|i| (i.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    assert_ne!(publish(&registry, &at("gust", "1.0.0", &archive), &archive).unwrap(), Added::OtherFirst);
    let asked = server.asked();
    assert!(asked.iter().filter(|one| one.method == "PATCH").count() >= 3, "a try that broke off, and two pieces");
    let told = document_of(&open(&server), &name("gust")).unwrap().unwrap().document;
    let mut content = Vec::new();
    open(&server)
        .open(&name("gust"), &told.releases[0].whole().artifacts[0], 0)
        .unwrap()
        .read_to_end(&mut content)
        .unwrap();
    assert!(content == archive);
}

#[test]
fn an_archive_is_called_what_it_is_whoever_sent_it() {
    let server = OciServer::start();
    let tar = [&[b'a'; 257][..], b"ustar", &[0; 250]].concat();
    let packed: [(&[u8], &str, &str); 5] = [
        (&[0x28, 0xb5, 0x2f, 0xfd, 0], "application/vnd.oci.image.layer.v1.tar+zstd", "gust-1.0.0.tar.zst"),
        (&[0x1f, 0x8b, 8], "application/vnd.oci.image.layer.v1.tar+gzip", "gust-1.0.1.tar.gz"),
        (&tar, "application/vnd.oci.image.layer.v1.tar", "gust-1.0.2.tar"),
        (b"PK\x03\x04", "application/zip", "gust-1.0.3.zip"),
        (b"else", "application/octet-stream", "gust-1.0.4"),
    ];
    let registry = made(&server);
    for (i, (archive, kind, file)) in packed.iter().enumerate() {
        let version = format!("1.0.{i}");
        let key = ("a/r/gust".to_owned(), version.clone());
        let mut written = Vec::new();
        // The second time nobody sent it, since it was there.
        for registry in [&registry, &OciRegistry::open(None, &place(&server), &context()).unwrap()] {
            let document = at("gust", &version, archive);
            if written.is_empty() {
                publish(registry, &document, archive).unwrap();
            } else {
                server.content(|content| content.manifests.retain(|(_, tag), _| !tag.contains(&version)));
                registry.add_release(&document, document.releases[0].whole()).unwrap();
            }
            written.push(server.content(|content| content.manifests[&key].1.clone()));
        }
        let manifest = OciManifest::parse(&written[0], RELEASE_TYPE).unwrap();
        let title = &manifest.layers[0].annotations["org.opencontainers.image.title"];
        assert_eq!((&*manifest.layers[0].media_type, &**title), (*kind, *file));
        assert_eq!(written[0], written[1]);
    }
}

#[test]
fn a_registry_that_only_says_that_it_took_an_archive_over_is_not_believed() {
    let says =
        |asked: &OciRequest| asked.path.contains("mount=").then(|| OciFailure::Answer(201, Vec::new(), Vec::new()));
    let server = OciServer::like(OciManner::default(), says);
    let (registry, document) = (made(&server), at("gust", "1.0.0", ARCHIVE));
    let release = document.releases[0].whole();
    let from = OciPlace::parse(&format!("{}/a/other", server.host())).unwrap();
    assert!(!registry.mount_archive(&document.name, &release.artifacts[0], &from).unwrap());
    let told = registry.add_release(&document, release).unwrap_err();
    assert!(matches!(told.kind, SourceErrorKind::ArchiveMissing(_)), "{told}");
}

#[test]
fn what_is_odd_in_a_registry_is_told_as_what_it_is() {
    let server = OciServer::start();
    fill(&server);
    let source = open(&server);
    let asks = |package: &str| document_of(&source, &name(package)).map(|told| told.is_some());
    let told = |package: &str| fault_of(asks(package).unwrap_err());
    // What nobody can be told of is nothing.
    assert!(!asks("a..b").unwrap() && !asks("none").unwrap());
    put(&server, "a/r/image", "1.0", OciManifest::of("application/x", "{}", Vec::new(), BTreeMap::new()));
    assert!(told("image").contains("of type application/x"), "{}", told("image"));
    put(&server, "a/r/image", "latest", OciManifest::of("application/x", "{}", Vec::new(), BTreeMap::new()));
    server.content(|content| content.manifests.remove(&("a/r/image".to_owned(), "1.0".to_owned())));
    assert!(!asks("image").unwrap(), "other artifacts are nobody's business");
    // What an artifact says may lie outside of it, and then has to be what its digest says.
    let (mut manifest, blobs) = OciManifest::of(RELEASE_TYPE, &document("far", ARCHIVE), Vec::new(), BTreeMap::new());
    manifest.config.data = None;
    let digest = blobs[0].digest.clone();
    put(&server, "a/r/far", "1.0.0", (manifest.clone(), blobs));
    assert!(asks("far").unwrap());
    let key = ("a/r/far".to_owned(), digest);
    server.content(|content| content.blobs.insert(key.clone(), b"{}".to_vec()));
    assert!(told("far").contains("something other than what the digest is of"), "{}", told("far"));
    server.content(|content| content.blobs.remove(&key));
    assert!(told("far").contains("does not have what its own artifact is made of"), "{}", told("far"));
    let forged = |text: &str| {
        let key = ("a/r/far".to_owned(), "1.0.0".to_owned());
        server.content(|content| {
            content.manifests.insert(key, ("application/vnd.oci.image.manifest.v1+json".into(), text.into()))
        });
    };
    for text in ["", "{", "[]", "{\"schemaVersion\":1}", &"[".repeat(100_000)] {
        forged(text);
        assert!(told("far").contains("not an artifact of yostel"), "{text:.20}: {}", told("far"));
    }
    // An index of a document that is about something else.
    let index = OciIndex { tags: vec!["1.0.0".into()], document: document("other", ARCHIVE) };
    put(&server, "a/r/gust", "_index", OciManifest::of(INDEX_TYPE, &index.write(), Vec::new(), BTreeMap::new()));
    assert!(matches!(asks("gust").unwrap_err().kind, SourceErrorKind::Document { .. }));
}

#[test]
fn pages_that_lead_nowhere_and_doors_that_are_shut_come_to_an_end() {
    let odd = |answer: fn(&OciRequest) -> OciFailure| {
        let server = OciServer::like(OciManner::default(), move |asked| {
            asked.path.contains("gust/tags/list").then(|| answer(asked))
        });
        fill(&server);
        let patience = Patience { idle: std::time::Duration::from_secs(2), ..Patience::default() };
        let context = SourceContext { patience, ..context() };
        let source = OciSource::open(Word::parse("station").unwrap(), &[place(&server)], &context).unwrap();
        let wanted = BTreeSet::from([name("gust"), name("valley/map")]);
        let answers = std::sync::Mutex::new(BTreeMap::new());
        source.documents(&wanted, &|package, answer| {
            answers.lock().unwrap().insert(package.clone(), answer);
        });
        let mut answers = answers.into_inner().unwrap();
        assert!(answers.remove(&name("valley/map")).unwrap().is_ok(), "one that fails keeps no other back");
        fault_of(answers.remove(&name("gust")).unwrap().unwrap_err())
    };
    let next = || ("Link", "</v2/a/r/gust/tags/list?n=1&last=x>; rel=\"next\"".to_owned());
    let circle = odd(|_| {
        OciFailure::Answer(
            200,
            vec![("Link", "</v2/a/r/gust/tags/list?n=1&last=x>; rel=\"next\"".into())],
            b"{\"tags\":[]}".to_vec(),
        )
    });
    assert!(circle.contains("in a circle"), "{circle} {next:?}", next = next());
    let away = odd(|_| {
        let link = ("Link", "<http://elsewhere.example/v2/a/r/gust/tags/list?n=1>; rel=\"next\"".into());
        OciFailure::Answer(200, vec![link], b"{\"tags\":[\"1.0.0\"]}".to_vec())
    });
    assert!(away.contains("a page of another server"), "{away}");
    let html = odd(|_| OciFailure::Answer(200, Vec::new(), b"<html>welcome".to_vec()));
    assert!(html.contains("in a way that nobody can read"), "{html}");
    let shut = odd(|_| OciFailure::Answer(403, Vec::new(), Vec::new()));
    assert!(shut.contains("403"), "{shut}");
    let away = odd(|_| OciFailure::Answer(307, vec![("Location", "file:///etc/passwd".into())], Vec::new()));
    assert!(away.contains("not a web server"), "{away}");
    let mute = odd(|_| {
        OciFailure::Answer(
            401,
            vec![("WWW-Authenticate", "Bearer realm=\"http://127.0.0.1:1/token\"".into())],
            Vec::new(),
        )
    });
    assert!(mute.contains("refused") || mute.contains("onnect"), "who hands out tokens is not there: {mute}");
    let wrong = OciServer::like(OciManner { user: Some("bob:x".into()), has_tokens: true, page: None }, |_| None);
    fill(&wrong);
    let told = OciSource::open(Word::parse("station").unwrap(), &[place(&wrong)], &context()).unwrap_err();
    assert!(matches!(told.kind, SourceErrorKind::Web { fault: WebFault::AccessDenied(_), .. }), "{told}");
    assert!(!format!("{told:?}").contains("s3cret"));
}

#[test]
fn tokens_that_end_at_once_or_are_none_any_more_are_asked_for_anew() {
    let manner = OciManner { user: Some("alice:s3cret".into()), has_tokens: true, page: None };
    let short = |asked: &OciRequest| {
        let scope = asked.path.split_once("scope=")?.1.replace("%3A", ":").replace("%2F", "/").replace("%2C", ",");
        let token = format!(r#"{{"access_token":"token-{scope}","expires_in":0}}"#);
        Some(OciFailure::Answer(200, Vec::new(), token.into_bytes()))
    };
    let server = OciServer::like(manner.clone(), short);
    fill(&server);
    assert_eq!(versions(&open(&server), "gust"), ["1.0.0"]);
    // The first answer with a token says that it is none: another is asked for, and no third.
    let forgets = |asked: &OciRequest| {
        let is_late = asked.path.contains("gust/tags/list") && asked.fields.contains_key("authorization");
        let challenge = "Bearer realm=\"/token\",scope=\"repository:a/r/gust:pull\",error=\"invalid_token\"";
        (is_late && asked.before < 2)
            .then(|| OciFailure::Answer(401, vec![("WWW-Authenticate", challenge.into())], Vec::new()))
    };
    let server = OciServer::like(manner, forgets);
    fill(&server);
    let source = open(&server);
    let told = document_of(&source, &name("gust")).unwrap_err();
    assert!(matches!(told.kind, SourceErrorKind::Web { fault: WebFault::AccessDenied(_), .. }), "{told}");
    assert_eq!(versions(&source, "gust"), ["1.0.0"], "the next time, it is one again");
}

#[test]
fn what_shows_who_asks_goes_nowhere_else() {
    let other = OciServer::start();
    let to = format!("http://{}/v2/a/r/gust/blobs/x", other.host());
    let manner = OciManner { user: Some("alice:s3cret".into()), ..OciManner::default() };
    let server = OciServer::like(manner, move |asked| {
        let is_archive = asked.method == "GET" && asked.path.contains("/blobs/");
        is_archive.then(|| OciFailure::Answer(307, vec![("Location", to.clone())], Vec::new()))
    });
    fill(&server);
    let source = open(&server);
    let told = document_of(&source, &name("gust")).unwrap().unwrap().document;
    source.open(&name("gust"), &told.releases[0].whole().artifacts[0], 0).map(|_| ()).unwrap_err();
    assert!(server.asked().iter().any(|one| one.fields.contains_key("authorization")));
    let asked = other.asked();
    assert!(!asked.is_empty() && asked.iter().all(|one| !one.fields.contains_key("authorization")));
}
