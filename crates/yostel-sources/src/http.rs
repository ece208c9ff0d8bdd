//! Asking web servers (RFC 9110): documents, conditionally where an answer was kept, archives from any byte on, and writing to
//! those that take it. What comes is for others to check; here it is only that it comes, in time, and from nowhere else.

use std::path::Path;
use std::sync::atomic::{AtomicI64, Ordering};
use std::time::Duration;

use jiff::Timestamp;
use reqwest::header::{self, HeaderMap, HeaderName};
use reqwest::{Client, Method, Response, StatusCode, Url};

use crate::access::Access;
use crate::clients::{Clients, clients, fault_of};
use crate::connecting::asking;
use crate::fault::{Again, Refusal, WebFault, is_passing, pause, refused};
use crate::patience::Patience;

/// How often a server that is there and fails is asked, the first time included.
const TRIES: u32 = 4;

/// The same for one that says nothing, which takes as long each time as one has patience.
const SILENT_TRIES: u32 = 2;

/// How many redirections are followed.
const REDIRECTIONS: usize = 5;

/// How long after a change an answer may not be told from the next one: entity tags of web servers often hold whole seconds.
const DOUBT: Duration = Duration::from_secs(2);

/// How slow a line may be over which something is sent, in bytes a second.
const SLOWEST: u64 = 16 << 10;

/// Longest answer to what is sent, in bytes.
const MOST_ANSWER: u64 = 1 << 20;

/// What tells one state of a file from another (RFC 9110 §8.8); empty when it cannot be told.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct WebStamp {
    /// The entity tag.
    pub tag: Option<String>,
    /// When it was changed, as the server writes it.
    pub changed: Option<String>,
}

/// What a server answers when it is asked for a file.
pub(crate) enum HttpAnswer {
    /// It is as it was when that was kept which was named.
    Same,
    /// It is not there.
    Missing,
    /// The file, and where it goes on when it is a page of several.
    File(Vec<u8>, WebStamp, Option<String>),
}

/// What is asked of a server.
pub(crate) struct Request<'r> {
    pub(crate) method: Method,
    pub(crate) address: &'r str,
    pub(crate) headers: HeaderMap,
    pub(crate) body: &'r [u8],
}

/// What a server said to what was sent.
pub(crate) struct Reply {
    pub(crate) status: StatusCode,
    pub(crate) headers: HeaderMap,
    /// What it said, in full or as much as there is room for.
    pub(crate) text: String,
}

/// How to ask one registry: for how long, and how often again in all, so that one that is down is not asked by everybody as
/// often as by one.
#[derive(Debug)]
pub(crate) struct Web {
    pub(crate) patience: Patience,
    access: Access,
    clients: Result<Clients, WebFault>,
    /// Tenths of tries that are left.
    budget: AtomicI64,
}

impl Web {
    pub(crate) fn new(patience: Patience, access: Access, certificates: Option<&Path>) -> Self {
        Self { patience, access, clients: clients(certificates), budget: AtomicI64::new(100) }
    }

    fn clients(&self) -> Result<&Clients, WebFault> {
        self.clients.as_ref().map_err(Clone::clone)
    }

    /// Asks for a file of so many bytes at most, of one of the media types that are named, or of any.
    pub(crate) async fn get(
        &self,
        (address, types): (&str, &str),
        kept: &WebStamp,
        most: u64,
    ) -> Result<HttpAnswer, WebFault> {
        let mut headers = HeaderMap::new();
        if !types.is_empty() {
            put(&mut headers, header::ACCEPT, types);
        }
        let known = [(header::IF_NONE_MATCH, &kept.tag), (header::IF_MODIFIED_SINCE, &kept.changed)];
        // Where there is a tag, the time counts for nothing.
        let known = known.into_iter().find_map(|(name, value)| Some((name, value.as_deref()?)));
        let is_conditional = known.is_some();
        if let Some((name, value)) = known {
            put(&mut headers, name, value);
        }
        let client = &self.clients()?.documents;
        let request = Request { method: Method::GET, address, headers, body: &[] };
        self.trying(|| async {
            let response = self.sent(client, &request).await?;
            match response.status() {
                StatusCode::NOT_MODIFIED if is_conditional => Ok(HttpAnswer::Same),
                StatusCode::NOT_MODIFIED => {
                    Err(WebFault::Unexpected("says that nothing changed, though it was not asked").of_try())
                }
                StatusCode::NOT_FOUND | StatusCode::GONE => Ok(HttpAnswer::Missing),
                StatusCode::OK => {
                    let stamp = stamp_of(response.headers());
                    let next = next_page(&response).map_err(WebFault::of_try)?;
                    let bytes = whole(response, most, self.patience.idle).await.map_err(WebFault::of_try)?;
                    Ok(HttpAnswer::File(bytes, stamp, next))
                }
                status => Err(refused(status, response.headers())),
            }
        })
        .await
    }

    /// Asks for a file from a byte on; none when it is not there.
    pub(crate) async fn open_at(
        &self,
        address: &str,
        at: u64,
        tag: Option<&str>,
    ) -> Result<Option<Response>, WebFault> {
        let mut headers = HeaderMap::new();
        if at > 0 {
            put(&mut headers, header::RANGE, &format!("bytes={at}-"));
            // Of what is another file by now, all of it is wanted.
            tag.filter(|tag| !tag.starts_with("W/"))
                .into_iter()
                .for_each(|tag| put(&mut headers, header::IF_RANGE, tag));
        }
        let client = &self.clients()?.archives;
        let request = Request { method: Method::GET, address, headers, body: &[] };
        self.trying(|| async {
            let response = self.sent(client, &request).await?;
            match response.status() {
                StatusCode::NOT_FOUND | StatusCode::GONE => Ok(None),
                StatusCode::OK => Ok(Some(response)),
                StatusCode::PARTIAL_CONTENT if at > 0 => Ok(Some(response)),
                StatusCode::PARTIAL_CONTENT => {
                    Err(WebFault::Unexpected("sends a part, though it was asked for all of it").of_try())
                }
                status => Err(refused(status, response.headers())),
            }
        })
        .await
    }

    /// Asks for the first bytes of a file, so many or all it has; none when it is not there.
    pub(crate) async fn first_bytes(&self, address: &str, most: usize) -> Result<Option<Vec<u8>>, WebFault> {
        let mut headers = HeaderMap::new();
        put(&mut headers, header::RANGE, &format!("bytes=0-{}", most - 1));
        let client = &self.clients()?.archives;
        let request = Request { method: Method::GET, address, headers, body: &[] };
        self.trying(|| async {
            let mut response = self.sent(client, &request).await?;
            match response.status() {
                StatusCode::NOT_FOUND | StatusCode::GONE => return Ok(None),
                // Of what is empty there is no first byte.
                StatusCode::RANGE_NOT_SATISFIABLE => return Ok(Some(Vec::new())),
                StatusCode::OK | StatusCode::PARTIAL_CONTENT => {}
                status => return Err(refused(status, response.headers())),
            }
            // Who knows no ranges sends all of it, and is not listened to for longer.
            let mut bytes = Vec::new();
            while bytes.len() < most {
                let chunk = match tokio::time::timeout(self.patience.idle, response.chunk()).await {
                    Ok(chunk) => chunk.map_err(|error| fault_of(&error).of_try())?,
                    Err(_) => return Err(WebFault::Silent(self.patience.idle).of_try()),
                };
                let Some(chunk) = chunk else { break };
                bytes.extend_from_slice(&chunk[..chunk.len().min(most - bytes.len())]);
            }
            Ok(Some(bytes))
        })
        .await
    }

    /// Sends something, and returns what the server says to it. It is sent again where that is worth it, which is for
    /// whatever comes to the same however often it is sent.
    pub(crate) async fn send(&self, request: &Request<'_>, is_repeatable: bool) -> Result<Reply, WebFault> {
        let client = &self.clients()?.archives;
        let once = || async {
            let response = self.sent(client, request).await?;
            if is_repeatable && is_passing(response.status()) {
                return Err(refused(response.status(), response.headers()));
            }
            let (status, headers) = (response.status(), response.headers().clone());
            // What was said is of use only where it can be read.
            let said = match request.method {
                Method::HEAD => Vec::new(),
                _ => whole(response, MOST_ANSWER, self.patience.idle).await.unwrap_or_default(),
            };
            Ok(Reply { status, headers, text: String::from_utf8_lossy(&said).into_owned() })
        };
        if is_repeatable { self.trying(once).await } else { once().await.map_err(|(fault, _)| fault) }
    }

    /// Sends a request, shows who asks, and follows where it leads.
    async fn sent(&self, client: &Client, request: &Request<'_>) -> Result<Response, Refusal> {
        let broken = |error: reqwest::Error| fault_of(&error).of_try();
        let mut at = Url::parse(request.address).map_err(|_| WebFault::Unexpected("has no valid address").of_try())?;
        let own = at.origin();
        // What is sent takes its time on a slow line, and nothing comes back before it is there.
        let patience = self.patience.idle + Duration::from_secs(request.body.len() as u64 / SLOWEST);
        let (mut hops, mut was_shown) = (0, false);
        while hops <= REDIRECTIONS {
            let is_own = at.origin() == own;
            let mut asked = client.request(request.method.clone(), at.clone()).headers(request.headers.clone());
            if is_own && let Some(header) = self.access.header(&at, &request.method).map_err(WebFault::of_try)? {
                asked = asked.header(header::AUTHORIZATION, header);
            }
            if !matches!(request.method, Method::GET | Method::HEAD) {
                asked = asked.body(request.body.to_vec());
            }
            let answer = asking(at.authority().to_owned(), asked.send());
            let response = match tokio::time::timeout(patience, answer).await {
                Ok(answer) => answer.map_err(broken)?,
                Err(_) => return Err(WebFault::Silent(patience).of_try()),
            };
            if is_own && response.status() == StatusCode::UNAUTHORIZED {
                if self.access.is_held_back(&at) {
                    return Err(WebFault::HeldBack.of_try());
                }
                let told = (&at, &request.method);
                let tokens = &self.clients().map_err(WebFault::of_try)?.documents;
                let answered = async {
                    if was_shown { Ok(false) } else { self.access.answer(response.headers(), told, tokens).await }
                };
                let wait = tokio::time::timeout(self.patience.idle, answered).await;
                if wait.map_err(|_| WebFault::Silent(self.patience.idle).of_try())?? {
                    was_shown = true;
                    continue;
                }
            }
            hops += 1;
            let is_elsewhere = matches!(response.status().as_u16(), 301 | 302 | 303 | 307 | 308);
            let is_elsewhere = is_elsewhere && matches!(request.method, Method::GET | Method::HEAD);
            let location = response.headers().get(header::LOCATION).and_then(|to| to.to_str().ok());
            let Some(location) = location.filter(|_| is_elsewhere) else { return Ok(response) };
            at = followed(&at, location).map_err(WebFault::of_try)?;
        }
        let reason = "that is one redirection too many";
        Err(WebFault::Redirected { to: at.to_string(), reason }.of_try())
    }

    /// Tries something again where that is worth it, with pauses that grow and differ from one to the next.
    async fn trying<T, F>(&self, mut ask: impl FnMut() -> F) -> Result<T, WebFault>
    where
        F: Future<Output = Result<T, Refusal>>,
    {
        let mut tries = 0;
        let ends = tokio::time::Instant::now() + self.patience.total;
        loop {
            tries += 1;
            let asked = tokio::time::timeout_at(ends, ask()).await;
            let (fault, again) = match asked.unwrap_or_else(|_| Err(WebFault::TooSlow.of_try())) {
                Ok(answer) => {
                    self.budget.fetch_add(1, Ordering::Relaxed);
                    return Ok(answer);
                }
                Err(refusal) => refusal,
            };
            let wait = match again {
                Again::Soon => pause(tries),
                Again::In(wait) => wait,
                Again::No => return Err(fault),
            };
            let most = if matches!(fault, WebFault::Silent(_)) { SILENT_TRIES } else { TRIES };
            if tries >= most || !self.may_try_again() {
                return Err(fault);
            }
            tracing::debug!(%fault, tries, ?wait, "asking again");
            tokio::time::sleep(wait).await;
        }
    }

    fn may_try_again(&self) -> bool {
        !self.patience.is_stopped() && self.budget.fetch_sub(10, Ordering::Relaxed) >= 10
    }
}

/// Returns where an answer goes on that is a page of several (RFC 8288).
fn next_page(response: &Response) -> Result<Option<String>, WebFault> {
    let links = response.headers().get_all(header::LINK).iter().filter_map(|link| link.to_str().ok());
    let next = links.flat_map(|links| links.split(',')).find_map(|link| {
        let (target, parameters) = link.trim().strip_prefix('<')?.split_once('>')?;
        let is_next = parameters.split(';').any(|part| part.trim().replace('"', "") == "rel=next");
        is_next.then_some(target)
    });
    let Some(next) = next else { return Ok(None) };
    let next = on_same_server(response.url(), next);
    // Without it, what is on the pages behind would seem not to be there.
    next.map(|next| Some(next.to_string())).ok_or(WebFault::Unexpected("goes on with a page of another server"))
}

/// Returns an address that a server names on itself. One that is reached through another program may take itself for one
/// without TLS, or at another port.
pub(crate) fn on_same_server(at: &Url, named: &str) -> Option<Url> {
    let mut to = at.join(named).ok().filter(|to| to.host_str() == at.host_str())?;
    to.set_scheme(at.scheme()).ok()?;
    to.set_port(at.port()).ok()?;
    Some(to)
}

/// Returns where a redirection leads, where one goes there.
fn followed(at: &Url, location: &str) -> Result<Url, WebFault> {
    let refuse = |to: String, reason| Err(WebFault::Redirected { to, reason });
    let Ok(to) = at.join(location) else { return refuse(location.to_owned(), "that is not an address") };
    match (at.scheme(), to.scheme()) {
        ("https", "http") => refuse(to.to_string(), "anybody could read and change what comes from there"),
        (_, "http" | "https") => Ok(to),
        _ => refuse(to.to_string(), "that is not a web server"),
    }
}

pub(crate) fn put(headers: &mut HeaderMap, name: HeaderName, value: &str) {
    if let Ok(value) = value.parse() {
        headers.insert(name, value);
    }
}

/// Reads a whole body of so many bytes at most, of which something has to come all the time.
async fn whole(mut response: Response, most: u64, idle: Duration) -> Result<Vec<u8>, WebFault> {
    let mut bytes = Vec::new();
    loop {
        let chunk = tokio::time::timeout(idle, response.chunk()).await.map_err(|_| WebFault::Silent(idle))?;
        let Some(chunk) = chunk.map_err(|error| fault_of(&error))? else { return Ok(bytes) };
        if bytes.len() as u64 + chunk.len() as u64 > most {
            return Err(WebFault::TooLong(most));
        }
        bytes.extend_from_slice(&chunk);
    }
}

/// Reads what tells this state of a file from others; nothing where it was changed so lately that the next change may look the
/// same.
pub(crate) fn stamp_of(headers: &HeaderMap) -> WebStamp {
    let text = |name: HeaderName| headers.get(name).and_then(|value| value.to_str().ok()).map(str::to_owned);
    let stamp = WebStamp { tag: text(header::ETAG), changed: text(header::LAST_MODIFIED) };
    let time = |text: &Option<String>| {
        let text = text.as_deref()?;
        jiff::fmt::rfc2822::DateTimeParser::new().relaxed_weekday(true).parse_timestamp(text).ok()
    };
    let date: Option<Timestamp> = time(&text(header::DATE));
    match (date, time(&stamp.changed)) {
        (Some(date), Some(changed)) if date.duration_since(changed).unsigned_abs() < DOUBT => WebStamp::default(),
        _ => stamp,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nobody_is_followed_to_where_others_may_listen() {
        let at = |text: &str| Url::parse(text).unwrap();
        let goes =
            |from: &str, to: &str| followed(&at(from), to).map(|to| to.to_string()).map_err(|fault| fault.to_string());
        assert_eq!(goes("http://a.example/r/x", "../y").unwrap(), "http://a.example/y");
        assert_eq!(goes("http://a.example/r", "https://b.example/r").unwrap(), "https://b.example/r");
        assert_eq!(goes("https://a.example/r", "//b.example/r").unwrap(), "https://b.example/r");
        let told = goes("https://a.example/r", "http://a.example/r").unwrap_err();
        assert!(told.ends_with("anybody could read and change what comes from there"), "{told}");
        assert!(goes("http://a.example/r", "file:///etc/passwd").is_err());
    }

    #[test]
    fn what_a_server_names_is_on_itself_whatever_it_takes_itself_for() {
        let at = Url::parse("https://a.example/v2/x").unwrap();
        let named = |text: &str| on_same_server(&at, text).map(|to| to.to_string());
        for text in ["/v2/y?n=1", "http://a.example/v2/y?n=1", "https://a.example:5000/v2/y?n=1"] {
            assert_eq!(named(text).as_deref(), Some("https://a.example/v2/y?n=1"), "{text}");
        }
        assert_eq!(named("https://b.example/v2/y"), None);
        assert_eq!(named("file:///v2/y"), None);
    }

    #[test]
    fn a_stamp_counts_once_the_file_has_rested() {
        let stamp = |changed: &str| {
            let mut headers = HeaderMap::new();
            put(&mut headers, header::DATE, "Mon, 30 Nov 2026 12:00:05 GMT");
            put(&mut headers, header::LAST_MODIFIED, changed);
            put(&mut headers, header::ETAG, "\"68f0-2a\"");
            stamp_of(&headers)
        };
        assert_eq!(stamp("Mon, 30 Nov 2026 12:00:04 GMT"), WebStamp::default());
        let rested = stamp("Mon, 30 Nov 2026 12:00:03 GMT");
        assert_eq!(rested.tag.as_deref(), Some("\"68f0-2a\""));
    }
}
