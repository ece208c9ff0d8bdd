//! A web server of ours for tests: it serves the files of a folder, and fails as it is told to.

use std::collections::BTreeMap;
use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::path::PathBuf;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::Duration;

use crate::listen::{Listening, free_port, read_head};

/// A request, as far as tests want to know it.
#[derive(Debug, Clone)]
pub struct WebRequest {
    /// What was asked for, without the `/` it begins with.
    pub path: String,
    /// Its header fields, names in lower case.
    pub fields: BTreeMap<String, String>,
    /// How many requests for the same came before.
    pub before: usize,
}

/// How an answer goes wrong.
#[derive(Debug, Clone)]
pub enum WebFailure {
    /// The connection ends without a word.
    Reset,
    /// A status, with these header fields, and a body.
    Answer(u16, Vec<(&'static str, String)>, Vec<u8>),
    /// The right answer ends after so many bytes of its body.
    CutAfter(usize),
    /// Nothing more comes after so many bytes of its body, for as long as anybody waits.
    StallAfter(usize),
    /// The right answer, a byte at a time, each so much later than the one before.
    Drip(Duration),
    /// The right answer, as if no part of it had been asked for.
    Whole,
    /// The right answer, so much later.
    Late(Duration),
    /// These bytes in place of the body, of which there seem to be so many.
    Body(Vec<u8>, usize),
}

type Failing = dyn Fn(&WebRequest) -> Option<WebFailure> + Send + Sync;

/// The server. It ends with the test.
pub struct WebServer {
    address: String,
    inner: Arc<Inner>,
    _listening: Listening,
}

struct Inner {
    folder: PathBuf,
    failing: Box<Failing>,
    asked: Mutex<Vec<WebRequest>>,
    counts: Mutex<BTreeMap<String, usize>>,
    open: AtomicUsize,
    most_at_once: AtomicUsize,
}

impl WebServer {
    /// Serves a folder.
    pub fn serving(folder: impl Into<PathBuf>) -> Self {
        Self::failing(folder, |_| None)
    }

    /// Serves a folder, and fails where this says how.
    ///
    /// # Panics
    /// When there is no port to be had.
    pub fn failing(
        folder: impl Into<PathBuf>,
        failing: impl Fn(&WebRequest) -> Option<WebFailure> + Send + Sync + 'static,
    ) -> Self {
        let inner = Arc::new(Inner {
            folder: folder.into(),
            failing: Box::new(failing),
            asked: Mutex::default(),
            counts: Mutex::default(),
            open: AtomicUsize::new(0),
            most_at_once: AtomicUsize::new(0),
        });
        let serving = inner.clone();
        let listening = Listening::on(free_port(), move |stream| serving.converse(stream));
        Self { address: format!("http://{}", listening.address), inner, _listening: listening }
    }

    /// Returns its address, without a `/` at the end.
    pub fn address(&self) -> &str {
        &self.address
    }

    /// Returns what it was asked so far.
    ///
    /// # Panics
    /// When a thread of it panicked.
    pub fn asked(&self) -> Vec<WebRequest> {
        self.inner.asked.lock().unwrap().clone()
    }

    /// Returns how many connections were open at once, at most.
    pub fn most_at_once(&self) -> usize {
        self.inner.most_at_once.load(Ordering::Relaxed)
    }
}

impl Inner {
    fn converse(&self, stream: &TcpStream) {
        let open = self.open.fetch_add(1, Ordering::Relaxed) + 1;
        self.most_at_once.fetch_max(open, Ordering::Relaxed);
        let mut reader = BufReader::new(stream);
        while let Some(request) = self.request(&mut reader) {
            if self.answer(&request, stream).is_none() {
                break;
            }
        }
        self.open.fetch_sub(1, Ordering::Relaxed);
    }

    fn request(&self, reader: &mut impl BufRead) -> Option<WebRequest> {
        let (_, path, fields) = read_head(reader)?;
        let mut counts = self.counts.lock().unwrap();
        let mut asked = self.asked.lock().unwrap();
        let before = counts.entry(path.clone()).and_modify(|count| *count += 1).or_insert(0);
        let before = *before;
        let request = WebRequest { path, fields, before };
        asked.push(request.clone());
        Some(request)
    }

    /// Answers; none when the connection ends.
    fn answer(&self, request: &WebRequest, mut stream: &TcpStream) -> Option<()> {
        let failure = (self.failing)(request);
        match &failure {
            Some(WebFailure::Reset) => return None,
            Some(WebFailure::Late(by)) => thread::sleep(*by),
            Some(WebFailure::Answer(status, fields, body)) => {
                let fields: String = fields.iter().map(|(name, value)| format!("{name}: {value}\r\n")).collect();
                let head = format!("HTTP/1.1 {status} So\r\ncontent-length: {}\r\n{fields}\r\n", body.len());
                stream.write_all(head.as_bytes()).ok()?;
                return stream.write_all(body).ok();
            }
            _ => {}
        }
        let Ok(content) = fs::read(self.folder.join(&request.path)) else {
            return stream.write_all(b"HTTP/1.1 404 Not Found\r\ncontent-length: 0\r\n\r\n").ok();
        };
        let tag = format!("\"{}\"", yostel_documents::to_hex(&yostel_documents::Sha256::of(&content)));
        if request.fields.get("if-none-match") == Some(&tag) {
            return stream.write_all(format!("HTTP/1.1 304 Not Modified\r\netag: {tag}\r\n\r\n").as_bytes()).ok();
        }
        let from = request.fields.get("range").filter(|_| !matches!(failure, Some(WebFailure::Whole)));
        let from: Option<usize> = from.and_then(|range| range.strip_prefix("bytes=")?.strip_suffix('-')?.parse().ok());
        let (status, range, part) = match from {
            Some(from) => {
                let range = format!("content-range: bytes {from}-{}/{}\r\n", content.len() - 1, content.len());
                ("206 Partial Content", range, &content[from.min(content.len())..])
            }
            None => ("200 OK", String::new(), &content[..]),
        };
        let (body, length) = match &failure {
            Some(WebFailure::Body(body, length)) => (&body[..], *length),
            Some(WebFailure::CutAfter(most) | WebFailure::StallAfter(most)) => {
                (&part[..(*most).min(part.len())], part.len())
            }
            _ => (part, part.len()),
        };
        let head = format!("HTTP/1.1 {status}\r\ncontent-length: {length}\r\netag: {tag}\r\n{range}\r\n");
        stream.write_all(head.as_bytes()).ok()?;
        if let Some(WebFailure::Drip(pause)) = failure {
            for byte in body {
                stream.write_all(&[*byte]).ok()?;
                thread::sleep(pause);
            }
            return Some(());
        }
        stream.write_all(body).ok()?;
        match failure {
            Some(WebFailure::StallAfter(_)) => {
                // Until the other side gives up.
                stream.read_exact(&mut [0; 1]).ok();
                None
            }
            _ if body.len() < length => None,
            _ => Some(()),
        }
    }
}
