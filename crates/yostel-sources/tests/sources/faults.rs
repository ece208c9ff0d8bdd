//! Web servers that fail: each failure is told as what it is, tried again where that may help, and never taken for an answer.
//! The accident this prevents: a lockfile that holds what an error page happened to say; and a server that is down and that
//! everybody asks again and again.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Read};
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use yostel_documents::{ArchiveDigest, Artifact, TreeDigest, WebAddress, Word, archive_file};
use yostel_sources::{
    AnswerCache, CachedAnswer, NoAnswerCache, Patience, Source, SourceAnswer, SourceContext, SourceError,
    SourceErrorKind, WebFault, WebSource, document_of,
};
use yostel_testkit::{WebFailure, WebRequest, WebServer};

use crate::contract::{ARCHIVE, document, name, written};

/// Waits for half a second at most.
fn patience() -> Patience {
    Patience { idle: Duration::from_millis(500), total: Duration::from_secs(20), ..Patience::default() }
}

/// Asks like that, and keeps answers there.
fn asking(patience: Patience, answers: Arc<dyn AnswerCache>) -> SourceContext {
    SourceContext { patience, answers, ..SourceContext::default() }
}

fn open(servers: &[&WebServer], answers: Arc<dyn AnswerCache>) -> Result<WebSource, SourceError> {
    let addresses = servers.iter().map(|server| WebAddress::parse(server.address()).unwrap()).collect();
    WebSource::open(Word::parse("station").unwrap(), addresses, &asking(patience(), answers))
}

/// A server of the registry of the contract that fails with one file, for so many times.
fn failing(
    folder: &tempfile::TempDir,
    file: &'static str,
    times: usize,
    how: impl Fn(&WebRequest) -> WebFailure + Send + Sync + 'static,
) -> WebServer {
    written(folder.path());
    WebServer::failing(folder.path(), move |asked| (asked.path == file && asked.before < times).then(|| how(asked)))
}

fn status(status: u16) -> WebFailure {
    WebFailure::Answer(status, Vec::new(), b"<html>an error page</html>".to_vec())
}

/// Asks about gust where that file fails so often; returns what was told, and how often it was asked for.
fn asked(times: usize, how: impl Fn(&WebRequest) -> WebFailure + Send + Sync + 'static) -> (SourceAnswer, usize) {
    let folder = tempfile::tempdir().unwrap();
    let server = failing(&folder, "releases/gust.json", times, how);
    let source = open(&[&server], Arc::new(NoAnswerCache)).unwrap();
    let answer = document_of(&source, &name("gust"));
    let count = server.asked().iter().filter(|one| one.path == "releases/gust.json").count();
    (answer, count)
}

fn fault_of(answer: SourceAnswer) -> WebFault {
    match answer.unwrap_err().kind {
        SourceErrorKind::Web { fault, .. } => fault,
        other => panic!("{other}"),
    }
}

fn fault(answer: SourceAnswer) -> String {
    match answer.unwrap_err().kind {
        SourceErrorKind::Web { fault, address, .. } => {
            assert!(address.ends_with("/releases/gust.json"), "{address}");
            fault.to_string()
        }
        other => panic!("{other}"),
    }
}

#[test]
fn what_passes_is_tried_again_and_what_stays_is_told() {
    for code in [408, 425, 429, 500, 502, 503, 504] {
        let (answer, count) = asked(1, move |_| status(code));
        assert!(answer.unwrap().is_some(), "{code}");
        assert_eq!(count, 2, "{code}");
    }
    for code in [400, 401, 403, 405, 406, 501, 505, 204, 206] {
        let (answer, count) = asked(9, move |_| status(code));
        let told = fault(answer);
        assert!(told.contains("the server"), "{told}");
        assert_eq!(count, 1, "{code} is asked for once");
    }
    for code in [404, 410] {
        assert!(asked(9, move |_| status(code)).0.unwrap().is_none(), "{code}");
    }
    let (answer, count) = asked(99, |_| status(503));
    assert_eq!((fault(answer).as_str(), count), ("the server answers 503 Service Unavailable", 4));
    let (answer, _) = asked(1, |_| WebFailure::Reset);
    assert!(answer.unwrap().is_some());
    let (answer, _) = asked(1, |_| WebFailure::StallAfter(0));
    assert!(answer.unwrap().is_some());
    let (answer, count) = asked(99, |_| WebFailure::StallAfter(3));
    assert_eq!((fault(answer).as_str(), count), ("nothing came for 0.5 s", 2), "that takes long enough");
    let (answer, count) = asked(99, |_| WebFailure::CutAfter(7));
    assert_eq!(count, 4, "{}", fault(answer));
}

#[test]
fn a_server_may_say_when_to_ask_again() {
    let after = |seconds: &str| WebFailure::Answer(429, vec![("retry-after", seconds.to_owned())], Vec::new());
    let began = Instant::now();
    assert!(asked(1, move |_| after("1")).0.unwrap().is_some());
    assert!(began.elapsed() >= Duration::from_secs(1));
    let (answer, count) = asked(9, move |_| after("86400"));
    assert_eq!((fault(answer).as_str(), count), ("the server wants to be asked again in 86400 seconds", 1));
}

#[test]
fn what_is_no_document_is_told_with_its_address() {
    let bodies: [&[u8]; 4] = [b"<html>sign in</html>", b"{\"format\":1", b"\xff\xfe", b""];
    for body in bodies {
        let (answer, count) = asked(9, move |_| WebFailure::Answer(200, Vec::new(), body.to_vec()));
        let told = answer.unwrap_err().to_string();
        assert!(told.contains("gust"), "{told}");
        assert_eq!(count, 1);
    }
    let nested = "[".repeat(200_000);
    assert!(asked(9, move |_| WebFailure::Answer(200, Vec::new(), nested.clone().into_bytes())).0.is_err());
    // Compressed, it is small.
    let mut bomb = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
    io::copy(&mut io::repeat(b' ').take(64 << 20), &mut bomb).unwrap();
    let bomb = bomb.finish().unwrap();
    let encoded =
        move |_: &WebRequest| WebFailure::Answer(200, vec![("content-encoding", "gzip".into())], bomb.clone());
    assert_eq!(fault(asked(9, encoded).0), format!("the answer is longer than {} bytes", 32 << 20));
    let unasked = asked(9, |_| WebFailure::Answer(304, Vec::new(), Vec::new())).0;
    assert_eq!(fault(unasked), "the server says that nothing changed, though it was not asked");
}

#[test]
fn redirections_are_followed_to_web_servers_and_not_for_ever() {
    let folder = tempfile::tempdir().unwrap();
    written(folder.path());
    let other = WebServer::serving(folder.path());
    let to = |address: String| {
        move |_: &WebRequest| WebFailure::Answer(302, vec![("location", address.clone())], Vec::new())
    };
    assert!(asked(9, to(format!("{}/releases/gust.json", other.address()))).0.unwrap().is_some());
    for (address, why) in [("file:///etc/passwd", "that is not a web server"), ("http://[", "that is not an address")] {
        let told = fault(asked(9, to(address.to_owned())).0);
        assert!(told.ends_with(why), "{told}");
    }
    let (answer, count) = asked(99, to("gust.json".into()));
    assert!(fault(answer).contains("one redirection too many"), "{count}");
    assert_eq!(count, 6);
}

/// Keeps answers in memory.
#[derive(Debug, Default)]
struct InMemory(Mutex<BTreeMap<String, CachedAnswer>>);

impl AnswerCache for InMemory {
    fn get(&self, address: &str) -> Option<CachedAnswer> {
        self.0.lock().unwrap().get(address).cloned()
    }

    fn put(&self, address: &str, answer: &CachedAnswer) {
        self.0.lock().unwrap().insert(address.to_owned(), answer.clone());
    }
}

#[test]
fn what_did_not_change_is_not_sent_again_and_what_is_broken_is_not_kept() {
    let folder = tempfile::tempdir().unwrap();
    written(folder.path());
    let server = WebServer::serving(folder.path());
    let answers = Arc::new(InMemory::default());
    let ask = || {
        let source = open(&[&server], answers.clone()).unwrap();
        let told = document_of(&source, &name("gust")).unwrap().unwrap();
        document_of(&source, &name("torn")).unwrap_err();
        String::from_utf8(told.bytes).unwrap()
    };
    let first = ask();
    assert_eq!(first, ask());
    // Without asking anybody, what is kept is known, and nothing else.
    let address = WebAddress::parse(server.address()).unwrap();
    let count = server.asked().len();
    let source = WebSource::open(
        Word::parse("station").unwrap(),
        vec![address],
        &SourceContext { offline: true, ..asking(patience(), answers.clone()) },
    )
    .unwrap();
    assert_eq!(String::from_utf8(document_of(&source, &name("gust")).unwrap().unwrap().bytes).unwrap(), first);
    assert_eq!(fault_of(document_of(&source, &name("valley/map"))), WebFault::NotCached);
    assert_eq!(server.asked().len(), count);
    let conditional = |path: &str| {
        let all = server.asked();
        let of = all.iter().filter(|one| one.path == path);
        of.map(|one| one.fields.contains_key("if-none-match")).collect::<Vec<_>>()
    };
    assert_eq!(conditional("releases/gust.json"), [false, true]);
    assert_eq!(conditional("releases/torn.json"), [false, false]);
    // Changed, it comes anew; gone, it is gone.
    std::fs::write(folder.path().join("releases/gust.json"), document("gust", b"another")).unwrap();
    assert_ne!(first, ask());
    std::fs::remove_file(folder.path().join("releases/gust.json")).unwrap();
    let source = open(&[&server], answers).unwrap();
    assert!(document_of(&source, &name("gust")).unwrap().is_none());
}

#[test]
fn a_change_within_the_second_is_seen_where_tags_hold_whole_seconds() {
    let folder = tempfile::tempdir().unwrap();
    // The tag says nothing of the content, and the file was changed just now.
    let answer = |text: String| {
        let fields = vec![
            ("etag", "\"68f0-2a\"".to_owned()),
            ("date", "Mon, 30 Nov 2026 12:00:01 GMT".to_owned()),
            ("last-modified", "Mon, 30 Nov 2026 12:00:00 GMT".to_owned()),
        ];
        WebFailure::Answer(200, fields, text.into_bytes())
    };
    let server = failing(&folder, "releases/gust.json", 9, move |asked| {
        assert!(!asked.fields.contains_key("if-none-match"), "that would not tell");
        answer(document("gust", if asked.before == 0 { b"one" } else { b"two" }))
    });
    let answers = Arc::new(InMemory::default());
    let ask = || document_of(&open(&[&server], answers.clone()).unwrap(), &name("gust")).unwrap().unwrap().bytes;
    assert_ne!(ask(), ask());
}

#[test]
fn a_mirror_that_fails_is_left_for_the_rest_of_the_run() {
    let folder = tempfile::tempdir().unwrap();
    written(folder.path());
    let down = WebServer::failing(folder.path(), |_| Some(status(503)));
    let up = WebServer::serving(folder.path());
    let source = open(&[&down, &up], Arc::new(NoAnswerCache)).unwrap();
    assert!(document_of(&source, &name("gust")).unwrap().is_some());
    assert_eq!(source.place(), up.address());
    assert!(down.asked().iter().all(|one| one.path == "registry.json"), "nothing else is asked there");
    // Of both, the last is told.
    let told = open(&[&down, &down], Arc::new(NoAnswerCache)).unwrap_err().to_string();
    assert!(told.contains("503"), "{told}");
}

/// A registry with so many packages besides.
fn registry_of(count: usize) -> (tempfile::TempDir, BTreeSet<yostel_documents::PackageName>) {
    let folder = tempfile::tempdir().unwrap();
    written(folder.path());
    let names: BTreeSet<_> = (0..count).map(|number| name(&format!("p{number}"))).collect();
    for package in &names {
        let file = folder.path().join(format!("releases/{package}.json"));
        std::fs::write(file, document(package.as_str(), ARCHIVE)).unwrap();
    }
    (folder, names)
}

#[test]
fn what_is_expected_is_asked_about_once_and_known_when_it_is_wanted() {
    let (folder, names) = registry_of(100);
    let server = WebServer::failing(folder.path(), |_| Some(WebFailure::Late(Duration::from_millis(2))));
    let source = open(&[&server], Arc::new(NoAnswerCache)).unwrap();
    let nobody = name("nobody");
    // Some twice, and one that is not there.
    let early: BTreeSet<_> = names.iter().take(60).cloned().chain([nobody.clone()]).collect();
    source.expect(&early);
    source.expect(&early);
    let told = Mutex::new(BTreeSet::new());
    let wanted: BTreeSet<_> = names.iter().cloned().chain([nobody.clone()]).collect();
    source.documents(&wanted, &|package, answer| {
        assert_eq!(answer.unwrap().is_some(), *package != nobody);
        told.lock().unwrap().insert(package.clone());
    });
    assert_eq!(told.into_inner().unwrap(), wanted);
    let asked = server.asked().into_iter().filter(|asked| asked.path.starts_with("releases/")).count();
    assert_eq!(asked, wanted.len(), "each once");
    // What nobody wants is no reason to wait: it ends with the source.
    let stalling = WebServer::failing(folder.path(), |asked| {
        asked.path.starts_with("releases/").then_some(WebFailure::StallAfter(0))
    });
    let source = open(&[&stalling], Arc::new(NoAnswerCache)).unwrap();
    source.expect(&names);
    let began = std::time::Instant::now();
    drop(source);
    assert!(began.elapsed() < Duration::from_secs(1));
}

#[test]
fn many_are_asked_at_once_over_few_connections() {
    let (folder, names) = registry_of(1000);
    let server = WebServer::failing(folder.path(), |_| Some(WebFailure::Late(Duration::from_millis(5))));
    let source = open(&[&server], Arc::new(NoAnswerCache)).unwrap();
    let told = Mutex::new(BTreeSet::new());
    source.documents(&names, &|package, answer| {
        answer.unwrap().unwrap();
        assert!(told.lock().unwrap().insert(package.clone()), "once");
    });
    assert_eq!(told.into_inner().unwrap(), names);
    assert!(server.most_at_once() <= 64, "{}", server.most_at_once());
    // Whoever wants it to end is heard at once, and each is answered all the same.
    let slow = WebServer::failing(folder.path(), |asked| {
        asked.path.starts_with("releases/").then_some(WebFailure::StallAfter(0))
    });
    let source = open(&[&slow], Arc::new(NoAnswerCache)).unwrap();
    let stopping = patience();
    drop(source);
    let address = WebAddress::parse(slow.address()).unwrap();
    let stop = stopping.stop.clone();
    let answers = Arc::new(NoAnswerCache);
    let source = WebSource::open(Word::parse("station").unwrap(), vec![address], &asking(stopping, answers)).unwrap();
    std::thread::spawn(move || {
        std::thread::sleep(Duration::from_millis(100));
        stop.store(true, Ordering::Relaxed);
    });
    let count = Mutex::new(0);
    source.documents(&names, &|_, answer| {
        let kind = answer.unwrap_err().kind;
        assert!(matches!(kind, SourceErrorKind::Web { .. }), "{kind}");
        *count.lock().unwrap() += 1;
    });
    assert_eq!(count.into_inner().unwrap(), names.len());
}

/// An archive whose end is far from its beginning.
fn long() -> Vec<u8> {
    (0..300_000u32).flat_map(u32::to_le_bytes).collect()
}

/// Writes the registry of the contract with that archive; returns it, and its file.
fn with_long(folder: &tempfile::TempDir) -> (Artifact, String) {
    written(folder.path());
    let content = long();
    let (digest, tree) = (ArchiveDigest::of(&content), TreeDigest::of(&content));
    let file = archive_file(digest).display().to_string();
    std::fs::write(folder.path().join(&file), &content).unwrap();
    (Artifact { platform: "any".into(), digest, size: content.len() as u64, tree }, file)
}

/// Reads an archive to its end.
fn read(source: &WebSource, artifact: &Artifact) -> io::Result<Vec<u8>> {
    let mut came = Vec::new();
    let mut body = source.open(&name("gust"), artifact, 0).map_err(|error| io::Error::other(error.to_string()))?;
    body.read_to_end(&mut came)?;
    Ok(came)
}

/// Fetches an archive where it fails so often; returns what came, and from which bytes on it was asked for.
fn fetched(
    times: usize,
    how: impl Fn(&WebRequest) -> WebFailure + Send + Sync + 'static,
) -> (io::Result<Vec<u8>>, Vec<String>) {
    let folder = tempfile::tempdir().unwrap();
    let (artifact, file) = with_long(&folder);
    let wanted = file.clone();
    let server = WebServer::failing(folder.path(), move |asked| {
        (asked.path == wanted && asked.before < times).then(|| how(asked))
    });
    let came = read(&open(&[&server], Arc::new(NoAnswerCache)).unwrap(), &artifact);
    let asked = server.asked().into_iter().filter(|one| one.path == file);
    (came, asked.map(|one| one.fields.get("range").cloned().unwrap_or_default()).collect())
}

#[test]
fn an_archive_is_taken_up_at_another_mirror_and_the_one_that_failed_is_left() {
    let folder = tempfile::tempdir().unwrap();
    let (artifact, file) = with_long(&folder);
    let wanted = file.clone();
    let dying = WebServer::failing(folder.path(), move |asked| {
        (asked.path == wanted).then(|| if asked.before == 0 { WebFailure::CutAfter(60_000) } else { status(502) })
    });
    let up = WebServer::serving(folder.path());
    let source = open(&[&dying, &up], Arc::new(NoAnswerCache)).unwrap();
    for _ in 0..2 {
        assert_eq!(read(&source, &artifact).unwrap(), long());
    }
    let ranges = |server: &WebServer| {
        let asked = server.asked().into_iter().filter(|one| one.path == file);
        asked.map(|one| one.fields.get("range").cloned().unwrap_or_default()).collect::<Vec<_>>()
    };
    assert_eq!(ranges(&up), ["bytes=60000-", ""]);
    assert_eq!(ranges(&dying).len(), 5, "once, and four times in vain");
}

#[test]
fn what_drips_comes_to_an_end() {
    let folder = tempfile::tempdir().unwrap();
    let (artifact, _) = with_long(&folder);
    let drip =
        |asked: &WebRequest| (asked.path != "registry.json").then_some(WebFailure::Drip(Duration::from_millis(100)));
    let server = WebServer::failing(folder.path(), drip);
    let address = WebAddress::parse(server.address()).unwrap();
    let patience = Patience { total: Duration::from_secs(1), ..patience() };
    let station = Word::parse("station").unwrap();
    let source = WebSource::open(station, vec![address], &asking(patience, Arc::new(NoAnswerCache))).unwrap();
    let began = Instant::now();
    assert_eq!(read(&source, &artifact).unwrap_err().to_string(), "it took too long");
    assert_eq!(fault(document_of(&source, &name("gust"))), "it took too long");
    assert!(began.elapsed() < Duration::from_secs(60));
}

#[test]
fn an_archive_is_taken_up_where_it_broke_off() {
    let (came, ranges) = fetched(2, |asked| WebFailure::CutAfter(100_000 * (asked.before + 1)));
    assert_eq!(came.unwrap(), long());
    assert_eq!(ranges, ["", "bytes=100000-", "bytes=300000-"]);
    let (came, ranges) = fetched(1, |_| WebFailure::StallAfter(70_000));
    assert_eq!((came.unwrap(), ranges.len()), (long(), 2));
    // A server that knows of no parts sends all of it, and what was there is passed over.
    let whole = |asked: &WebRequest| if asked.before == 0 { WebFailure::CutAfter(50_000) } else { WebFailure::Whole };
    let (came, ranges) = fetched(9, whole);
    assert_eq!((came.unwrap(), ranges.len()), (long(), 2));
    let other_part = |asked: &WebRequest| match asked.before {
        0 => WebFailure::CutAfter(50_000),
        _ => WebFailure::Answer(206, vec![("content-range", "bytes 7-9/1200000".into())], b"abc".to_vec()),
    };
    let told = fetched(9, other_part).0.unwrap_err().to_string();
    assert_eq!(told, "the server sends a different part from the one it was asked for");
    let (came, ranges) = fetched(99, |_| WebFailure::CutAfter(0));
    assert_eq!((came.unwrap_err().to_string().is_empty(), ranges.len()), (false, 5));
    assert_eq!(fetched(9, |_| status(403)).1.len(), 1);
}

#[test]
fn who_is_not_reached_or_has_no_registry_is_told_so() {
    let folder = tempfile::tempdir().unwrap();
    let empty = WebServer::serving(folder.path());
    assert!(matches!(open(&[&empty], Arc::new(NoAnswerCache)).unwrap_err().kind, SourceErrorKind::NotARegistryAt(_)));
    std::fs::write(folder.path().join("registry.json"), "{\"format\": 7, \"name\": \"r\"}").unwrap();
    let told = open(&[&empty], Arc::new(NoAnswerCache)).unwrap_err();
    assert!(matches!(told.kind, SourceErrorKind::Format { found: 7 }));
    // Nobody listens there.
    let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let address = WebAddress::parse(&format!("http://{free}/r")).unwrap();
    let answers = Arc::new(NoAnswerCache);
    let told =
        WebSource::open(Word::parse("station").unwrap(), vec![address], &asking(patience(), answers)).unwrap_err();
    assert!(matches!(told.kind, SourceErrorKind::Web { fault: WebFault::Broken(_), .. }), "{told}");
    assert!(told.to_string().contains("refused"), "{told}");
}
