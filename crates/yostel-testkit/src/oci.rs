//! An OCI registry of ours for tests, by the Distribution Specification 1.1: it keeps everything in memory, wants to know who
//! asks where it is told to, and fails as it is told to.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Write};
use std::net::TcpStream;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};

use yostel_documents::{Sha256, to_hex};

use crate::listen::{Listening, free_port, read_head};

/// A request, as far as tests want to know it.
#[derive(Debug, Clone)]
pub struct OciRequest {
    /// `GET`, `PUT` …
    pub method: String,
    /// The path, with its query, without the `/` it begins with.
    pub path: String,
    /// Its header fields, names in lower case.
    pub fields: BTreeMap<String, String>,
    /// How many requests of the same method for the same came before.
    pub before: usize,
}

/// How an answer goes wrong.
#[derive(Debug, Clone)]
pub enum OciFailure {
    /// The connection ends without a word, before anything is done.
    Reset,
    /// The connection ends without a word, after all was done.
    ResetAfter,
    /// A status, with these header fields, and a body, and nothing is done.
    Answer(u16, Vec<(&'static str, String)>, Vec<u8>),
}

/// What the registry is like.
#[derive(Debug, Clone, Default)]
pub struct OciManner {
    /// How many tags a page has; all when none is said.
    pub page: Option<usize>,
    /// Whom it lets in, and how: `alice:s3cret`.
    pub user: Option<String>,
    /// Whether it hands out tokens for that, in place of taking it itself.
    pub has_tokens: bool,
}

type Failing = dyn Fn(&OciRequest) -> Option<OciFailure> + Send + Sync;

/// What the registry has.
#[derive(Debug, Default)]
pub struct OciContent {
    /// Contents, by repository and digest.
    pub blobs: BTreeMap<(String, String), Vec<u8>>,
    /// Manifests with their types, by repository and tag or digest.
    pub manifests: BTreeMap<(String, String), (String, Vec<u8>)>,
    uploads: BTreeMap<String, Vec<u8>>,
}

/// The server. It ends with the test.
pub struct OciServer {
    inner: Arc<Inner>,
    _listening: Listening,
}

struct Inner {
    address: String,
    manner: OciManner,
    failing: Box<Failing>,
    content: Mutex<OciContent>,
    asked: Mutex<Vec<OciRequest>>,
    count: AtomicUsize,
}

struct Answer {
    status: u16,
    fields: Vec<(String, String)>,
    body: Vec<u8>,
}

impl Answer {
    fn of(status: u16) -> Self {
        Self { status, fields: Vec::new(), body: Vec::new() }
    }

    fn with(mut self, name: &str, value: impl Into<String>) -> Self {
        self.fields.push((name.to_owned(), value.into()));
        self
    }

    fn saying(mut self, body: impl Into<Vec<u8>>) -> Self {
        self.body = body.into();
        self
    }

    fn error(status: u16, code: &str) -> Self {
        Self::of(status).saying(format!(r#"{{"errors":[{{"code":"{code}","message":"{code} it is"}}]}}"#))
    }
}

/// Returns a text of a query as it was meant.
fn plain(text: &str) -> String {
    text.replace("%3A", ":").replace("%2F", "/").replace("%2C", ",")
}

/// Returns what a query says of this name.
fn value_in(path: &str, name: &str) -> Option<String> {
    let (_, query) = path.split_once('?')?;
    query.split('&').find_map(|part| part.strip_prefix(name)?.strip_prefix('=')).map(plain)
}

/// Returns the digest of a content.
pub fn digest_of(bytes: &[u8]) -> String {
    format!("sha256:{}", to_hex(&Sha256::of(bytes)))
}

impl OciServer {
    /// Starts a registry that takes everything.
    pub fn start() -> Self {
        Self::like(OciManner::default(), |_| None)
    }

    /// Starts a registry of this manner, which fails where this says how.
    ///
    /// # Panics
    /// When there is no port to be had.
    pub fn like(
        manner: OciManner,
        failing: impl Fn(&OciRequest) -> Option<OciFailure> + Send + Sync + 'static,
    ) -> Self {
        let listener = free_port();
        let inner = Arc::new(Inner {
            address: listener.local_addr().unwrap().to_string(),
            manner,
            failing: Box::new(failing),
            content: Mutex::default(),
            asked: Mutex::default(),
            count: AtomicUsize::new(0),
        });
        let serving = inner.clone();
        let listening = Listening::on(listener, move |stream| serving.converse(stream));
        Self { inner, _listening: listening }
    }

    /// Returns its host and port.
    pub fn host(&self) -> &str {
        &self.inner.address
    }

    /// Returns what it was asked so far.
    ///
    /// # Panics
    /// When a thread of it panicked.
    pub fn asked(&self) -> Vec<OciRequest> {
        self.inner.asked.lock().unwrap().clone()
    }

    /// Looks at what it has, or changes it by hand.
    ///
    /// # Panics
    /// When a thread of it panicked.
    pub fn content<T>(&self, look: impl FnOnce(&mut OciContent) -> T) -> T {
        look(&mut self.inner.content.lock().unwrap())
    }
}

impl Inner {
    fn converse(&self, mut stream: &TcpStream) {
        let mut reader = BufReader::new(stream);
        while let Some((request, body)) = self.request(&mut reader) {
            let answer = match (self.failing)(&request) {
                Some(OciFailure::Reset) => return,
                Some(OciFailure::ResetAfter) => {
                    self.answer(&request, &body);
                    return;
                }
                Some(OciFailure::Answer(status, fields, body)) => {
                    let fields = fields.into_iter().map(|(name, value)| (name.to_owned(), value)).collect();
                    Answer { status, fields, body }
                }
                None => self.answer(&request, &body),
            };
            let fields: String = answer.fields.iter().map(|(name, value)| format!("{name}: {value}\r\n")).collect();
            let length = answer.body.len();
            let head = format!("HTTP/1.1 {} So\r\ncontent-length: {length}\r\n{fields}\r\n", answer.status);
            let body: &[u8] = if request.method == "HEAD" { &[] } else { &answer.body };
            if stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(body)).is_err() {
                return;
            }
        }
    }

    fn request(&self, reader: &mut impl BufRead) -> Option<(OciRequest, Vec<u8>)> {
        let (method, path, fields) = read_head(reader)?;
        let length = fields.get("content-length").and_then(|length| length.parse().ok()).unwrap_or(0);
        let mut body = vec![0; length];
        reader.read_exact(&mut body).ok()?;
        let mut asked = self.asked.lock().unwrap();
        let before = asked.iter().filter(|one| one.path == path && one.method == method).count();
        let request = OciRequest { method, path, fields, before };
        asked.push(request.clone());
        Some((request, body))
    }

    /// Tells whether whoever asks may, or what to say instead.
    fn refusal(&self, request: &OciRequest) -> Option<Answer> {
        let user = self.manner.user.as_ref()?;
        let shown = request.fields.get("authorization").map_or("", String::as_str);
        let is_known = shown == format!("Basic {}", base64(user.as_bytes()));
        let path = request.path.split('?').next().unwrap_or_default();
        let repository = path.strip_prefix("v2/").unwrap_or_default();
        let repository = repository.split("/blobs/").next().unwrap_or_default();
        let repository = repository.split("/manifests/").next().unwrap_or_default().trim_end_matches("/tags/list");
        let actions = if matches!(&request.method[..], "GET" | "HEAD") { "pull" } else { "pull,push" };
        let mut scopes = vec![format!("repository:{repository}:{actions}")];
        // Who mounts has to be let in there, too (as registries in use do it).
        scopes.extend(value_in(&request.path, "from").map(|from| format!("repository:{from}:pull")));
        if request.path.starts_with("token") {
            let wanted = request.path.split_once("scope=").map_or("", |(_, scope)| scope);
            let token = format!("token-{}", plain(wanted).replace("&scope=", "|"));
            let answer = format!(r#"{{"token":"{token}","expires_in":300}}"#);
            let denied = || Answer::error(401, "UNAUTHORIZED").with("www-authenticate", "Basic realm=\"t\"");
            return Some(if is_known { Answer::of(200).saying(answer) } else { denied() });
        }
        let challenge = match self.manner.has_tokens {
            true if scopes.iter().all(|scope| {
                let granted = shown.strip_prefix("Bearer token-").unwrap_or_default();
                granted.split('|').any(|one| one == scope)
            }) =>
            {
                return None;
            }
            true => {
                let scope = scopes.join(" ");
                format!("Bearer realm=\"http://{}/token\",service=\"test\",scope=\"{scope}\"", self.address)
            }
            false if is_known => return None,
            false => "Basic realm=\"test, it is\"".to_owned(),
        };
        Some(Answer::error(401, "UNAUTHORIZED").with("WWW-Authenticate", challenge))
    }

    fn answer(&self, request: &OciRequest, body: &[u8]) -> Answer {
        if let Some(refused) = self.refusal(request) {
            return refused;
        }
        let (path, query) = request.path.split_once('?').unwrap_or((&request.path, ""));
        let Some(rest) = path.strip_prefix("v2/") else { return Answer::of(404) };
        let mut content = self.content.lock().unwrap();
        if let Some(repository) = rest.strip_suffix("/tags/list") {
            return self.tags(&content, repository, query);
        }
        if let Some((repository, reference)) = rest.rsplit_once("/manifests/") {
            let key = (repository.to_owned(), reference.to_owned());
            return match &request.method[..] {
                "PUT" => put_manifest(&mut content, key, request, body),
                _ => match content.manifests.get(&key) {
                    Some((kind, bytes)) => found_manifest(request, kind, bytes),
                    None => Answer::error(404, "MANIFEST_UNKNOWN"),
                },
            };
        }
        let Some((repository, reference)) = rest.split_once("/blobs/") else {
            return Answer::error(404, "NAME_UNKNOWN");
        };
        if let Some(upload) = reference.strip_prefix("uploads/") {
            return self.upload(&mut content, (repository, upload), request, body);
        }
        match content.blobs.get(&(repository.to_owned(), reference.to_owned())) {
            Some(bytes) => {
                let range = request.fields.get("range").and_then(|range| range.strip_prefix("bytes=")?.split_once('-'));
                let from = range.and_then(|(from, _)| from.parse::<usize>().ok()).filter(|from| *from < bytes.len());
                match from {
                    Some(from) => {
                        let named = range.and_then(|(_, last)| last.parse().ok());
                        let last = named.unwrap_or(usize::MAX).clamp(from, bytes.len() - 1);
                        Answer::of(206)
                            .with("content-range", format!("bytes {from}-{last}/{}", bytes.len()))
                            .saying(&bytes[from..=last])
                    }
                    None => Answer::of(200).saying(bytes.clone()),
                }
            }
            None => Answer::error(404, "BLOB_UNKNOWN"),
        }
    }

    fn tags(&self, content: &OciContent, repository: &str, query: &str) -> Answer {
        let all = content.manifests.keys().filter(|(there, tag)| there == repository && !tag.contains(':'));
        let tags: Vec<&str> = all.map(|(_, tag)| &**tag).collect();
        if tags.is_empty() {
            return Answer::error(404, "NAME_UNKNOWN");
        }
        let last = query.split('&').find_map(|part| part.strip_prefix("last="));
        let from = last.map_or(0, |last| tags.partition_point(|tag| *tag <= last));
        let most = self.manner.page.unwrap_or(tags.len());
        let page = &tags[from..(from + most).min(tags.len())];
        let quoted: Vec<String> = page.iter().map(|tag| format!("\"{tag}\"")).collect();
        let text = format!(r#"{{"name":"{repository}","tags":[{}]}}"#, quoted.join(","));
        let answer = Answer::of(200).saying(text);
        match page.last().filter(|_| from + most < tags.len()) {
            Some(last) => {
                answer.with("Link", format!("</v2/{repository}/tags/list?n={most}&last={last}>; rel=\"next\""))
            }
            None => answer,
        }
    }

    fn upload(
        &self,
        content: &mut OciContent,
        (repository, upload): (&str, &str),
        request: &OciRequest,
        body: &[u8],
    ) -> Answer {
        let value = |name: &str| value_in(&request.path, name);
        match &request.method[..] {
            "POST" => {
                if let (Some(digest), Some(from)) = (value("mount"), value("from"))
                    && let Some(bytes) = content.blobs.get(&(from, digest.clone())).cloned()
                {
                    content.blobs.insert((repository.to_owned(), digest), bytes);
                    return Answer::of(201);
                }
                let id = self.count.fetch_add(1, Ordering::Relaxed).to_string();
                content.uploads.insert(id.clone(), Vec::new());
                Answer::of(202).with("Location", format!("/v2/{repository}/blobs/uploads/{id}?state=0"))
            }
            "PATCH" => {
                let Some(there) = content.uploads.get_mut(upload) else {
                    return Answer::error(404, "BLOB_UPLOAD_UNKNOWN");
                };
                there.extend_from_slice(body);
                let location = format!("/v2/{repository}/blobs/uploads/{upload}?state={}", there.len());
                Answer::of(202).with("Location", location).with("Range", format!("0-{}", there.len() - 1))
            }
            _ => {
                let Some(mut there) = content.uploads.remove(upload) else {
                    return Answer::error(404, "BLOB_UPLOAD_UNKNOWN");
                };
                there.extend_from_slice(body);
                let digest = digest_of(&there);
                if value("digest").as_ref() != Some(&digest) {
                    return Answer::error(400, "DIGEST_INVALID");
                }
                content.blobs.insert((repository.to_owned(), digest), there);
                Answer::of(201)
            }
        }
    }
}

fn found_manifest(request: &OciRequest, kind: &str, bytes: &[u8]) -> Answer {
    // As some do, it answers only whoever names the type.
    if !request.fields.get("accept").is_some_and(|accept| accept.split(',').any(|one| one.trim() == kind)) {
        return Answer::error(404, "MANIFEST_UNKNOWN");
    }
    let tag = format!("\"{}\"", digest_of(bytes));
    if request.fields.get("if-none-match") == Some(&tag) {
        return Answer::of(304).with("etag", tag);
    }
    Answer::of(200).with("etag", tag).with("content-type", kind).saying(bytes)
}

fn put_manifest(content: &mut OciContent, key: (String, String), request: &OciRequest, body: &[u8]) -> Answer {
    let digests = String::from_utf8_lossy(body).into_owned();
    let named =
        digests.match_indices("\"sha256:").map(|(at, _)| digests[at + 1..].split('"').next().unwrap_or_default());
    if named.into_iter().any(|digest| !content.blobs.contains_key(&(key.0.clone(), digest.to_owned()))) {
        return Answer::error(400, "MANIFEST_BLOB_UNKNOWN");
    }
    let kind = request.fields.get("content-type").cloned().unwrap_or_default();
    content.manifests.insert((key.0.clone(), digest_of(body)), (kind.clone(), body.to_vec()));
    content.manifests.insert(key, (kind, body.to_vec()));
    Answer::of(201)
}

/// Writes bytes in base64 (RFC 4648).
fn base64(bytes: &[u8]) -> String {
    const DIGITS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    let mut text = String::new();
    for group in bytes.chunks(3) {
        let number = group.iter().fold(0u32, |number, byte| number << 8 | u32::from(*byte)) << (8 * (3 - group.len()));
        for at in 0..4 {
            let digit = DIGITS[(number >> (18 - 6 * at) & 63) as usize];
            text.push(if at <= group.len() { char::from(digit) } else { '=' });
        }
    }
    text
}
