//! Asking web servers (RFC 9110): documents, conditionally where an answer was kept, and archives from any byte on. What comes
//! is for others to check; here it is only that it comes, in time, and from nowhere else.
//!
//! All that this process asks goes over the same connections: one client for documents, which share them (HTTP/2 where the
//! server has it), and one for archives, which is HTTP/1.1, since one large body over HTTP/2 takes twice the work.

use std::hash::{BuildHasher, Hasher, RandomState};
use std::io;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicI64, Ordering};
use std::time::Duration;

use jiff::Timestamp;
use reqwest::header::{self, HeaderMap, HeaderName};
use reqwest::{Client, Response, StatusCode, Url, redirect};
use tokio::runtime::{Builder, Runtime};
use yostel_files::Stopped;

use crate::patience::{LOOK, Patience};

/// How often a server that is there and fails is asked, the first time included.
const TRIES: u32 = 4;

/// The same for one that says nothing, which takes as long each time as one has patience.
const SILENT_TRIES: u32 = 2;

/// How long it may take to reach a server.
const CONNECTING: Duration = Duration::from_secs(10);

/// How many redirections are followed.
const REDIRECTIONS: usize = 5;

/// The longest pause before one asks again, where the server does not name one, in milliseconds.
const LONGEST_PAUSE: u64 = 10_000;

/// The longest pause that a server may ask for: whoever is to wait longer is told so.
const LONGEST_WAIT: Duration = Duration::from_secs(60);

/// How long after a change an answer may not be told from the next one: entity tags of web servers often hold whole seconds.
const DOUBT: Duration = Duration::from_secs(2);

/// What went wrong with a server.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum WebFault {
    /// It is not reached, or breaks off; with what the connection says.
    #[error("{0}")]
    Broken(String),
    /// Nothing comes, for so long.
    #[error("nothing came for {} s", .0.as_secs_f32())]
    Silent(Duration),
    /// Its certificate is not one that this machine trusts, or not its own; with the reason.
    #[error("its certificate is not trusted: {0}")]
    Untrusted(String),
    /// It does not come to an end.
    #[error("it took too long")]
    TooSlow,
    /// It wants to know who asks.
    #[error("the server answers {0}")]
    AccessDenied(String),
    /// It answers with a status that is no answer.
    #[error("the server answers {0}")]
    Status(String),
    /// It wants to be asked again later than anybody would wait.
    #[error("the server wants to be asked again in {0} seconds")]
    RetryLater(u64),
    /// More comes than there may be.
    #[error("the answer is longer than {0} bytes")]
    TooLong(u64),
    /// It sends one elsewhere, where one does not go.
    #[error("the server redirects to {to}: {reason}")]
    Redirected {
        /// Where.
        to: String,
        /// Why one does not go there.
        reason: &'static str,
    },
    /// It answers otherwise than it was asked.
    #[error("the server {0}")]
    Unexpected(&'static str),
    /// Nothing is kept of it, and it is not to be asked.
    #[error("no earlier answer is kept, and no server is asked now")]
    NotCached,
    /// Somebody wants it all to end.
    #[error("stopped")]
    Stopped,
}

impl From<WebFault> for io::Error {
    fn from(fault: WebFault) -> Self {
        match fault {
            WebFault::Stopped => Stopped::as_io_error(),
            other => Self::other(other.to_string()),
        }
    }
}

impl WebFault {
    /// With whether it is worth another try: where something broke it is, and else not.
    fn of_try(self) -> Refusal {
        let again = if matches!(self, Self::Broken(_) | Self::Silent(_)) { Again::Soon } else { Again::No };
        (self, again)
    }
}

/// Whether something is worth another try, and when.
enum Again {
    No,
    Soon,
    In(Duration),
}

/// What went wrong with one try.
type Refusal = (WebFault, Again);

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
    /// The file.
    File(Vec<u8>, WebStamp),
}

/// Both clients, and what they run on.
struct Shared {
    runtime: Runtime,
    documents: Client,
    archives: Client,
    /// Whether this machine knows of anybody whose word on servers counts.
    has_authorities: bool,
}

fn shared() -> Result<&'static Shared, WebFault> {
    static SHARED: OnceLock<Result<Shared, WebFault>> = OnceLock::new();
    let made = SHARED.get_or_init(|| make().map_err(|error| WebFault::Broken(error.to_string())));
    made.as_ref().map_err(Clone::clone)
}

fn make() -> io::Result<Shared> {
    // The client panics without one; installing it twice is no fault.
    rustls::crypto::ring::default_provider().install_default().ok();
    let runtime = Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
    let client = |has_authorities: bool| {
        let client = Client::builder()
            .user_agent(concat!("yostel/", env!("CARGO_PKG_VERSION")))
            .redirect(redirect::Policy::none())
            .connect_timeout(CONNECTING);
        if has_authorities { client } else { client.tls_certs_only([]) }
    };
    let failed = |error: reqwest::Error| io::Error::other(told(&error));
    // A machine without certificates, as a small container may be, still reaches those that need none.
    let (documents, has_authorities) = match client(true).build() {
        Ok(documents) => (documents, true),
        Err(_) => (client(false).build().map_err(failed)?, false),
    };
    // Compressed, nothing could be taken up at a byte.
    let archives = client(has_authorities).http1_only().no_gzip().build().map_err(failed)?;
    Ok(Shared { runtime, documents, archives, has_authorities })
}

/// Returns what everything that is asked runs on.
pub(crate) fn runtime() -> Result<&'static Runtime, WebFault> {
    Ok(&shared()?.runtime)
}

/// How to ask one registry: for how long, and how often again in all, so that one that is down is not asked by everybody as
/// often as by one.
#[derive(Debug)]
pub(crate) struct Web {
    pub(crate) patience: Patience,
    /// Tenths of tries that are left.
    budget: AtomicI64,
}

impl Web {
    pub(crate) fn new(patience: Patience) -> Self {
        Self { patience, budget: AtomicI64::new(100) }
    }

    /// Asks for a file of so many bytes at most.
    pub(crate) async fn get(&self, address: &str, kept: &WebStamp, most: u64) -> Result<HttpAnswer, WebFault> {
        let mut headers = HeaderMap::new();
        let known = [(header::IF_NONE_MATCH, &kept.tag), (header::IF_MODIFIED_SINCE, &kept.changed)];
        // Where there is a tag, the time counts for nothing.
        if let Some((name, value)) = known.into_iter().find(|(_, value)| value.is_some()) {
            put(&mut headers, name, value.as_deref().unwrap_or_default());
        }
        let is_conditional = !headers.is_empty();
        let client = &shared()?.documents;
        self.trying(|| async {
            let response = self.sent(client, address, &headers).await?;
            match response.status() {
                StatusCode::NOT_MODIFIED if is_conditional => Ok(HttpAnswer::Same),
                StatusCode::NOT_MODIFIED => {
                    Err(WebFault::Unexpected("says that nothing changed, though it was not asked").of_try())
                }
                StatusCode::NOT_FOUND | StatusCode::GONE => Ok(HttpAnswer::Missing),
                StatusCode::OK => {
                    let stamp = stamp_of(response.headers());
                    let bytes = whole(response, most, self.patience.idle).await.map_err(WebFault::of_try)?;
                    Ok(HttpAnswer::File(bytes, stamp))
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
        let client = &shared()?.archives;
        self.trying(|| async {
            let response = self.sent(client, address, &headers).await?;
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

    /// Sends a request, and follows where it leads.
    async fn sent(&self, client: &Client, address: &str, headers: &HeaderMap) -> Result<Response, Refusal> {
        let broken = |error: reqwest::Error| fault_of(&error).of_try();
        let mut at = Url::parse(address).map_err(|_| WebFault::Unexpected("has no valid address").of_try())?;
        for _ in 0..=REDIRECTIONS {
            let answer = client.get(at.clone()).headers(headers.clone()).send();
            let response = match tokio::time::timeout(self.patience.idle, answer).await {
                Ok(answer) => answer.map_err(broken)?,
                Err(_) => return Err(WebFault::Silent(self.patience.idle).of_try()),
            };
            let is_elsewhere = matches!(response.status().as_u16(), 301 | 302 | 303 | 307 | 308);
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

fn put(headers: &mut HeaderMap, name: HeaderName, value: &str) {
    if let Ok(value) = value.parse() {
        headers.insert(name, value);
    }
}

/// Says what a status means that is no answer; one that says when to ask again is waited for, where that is soon.
fn refused(status: StatusCode, headers: &HeaderMap) -> Refusal {
    let after = headers.get(header::RETRY_AFTER).and_then(|after| after.to_str().ok()?.trim().parse::<u64>().ok());
    let fault = match status.as_u16() {
        401 | 403 | 407 => WebFault::AccessDenied(status.to_string()),
        _ => WebFault::Status(status.to_string()),
    };
    match (matches!(status.as_u16(), 408 | 425 | 429 | 500 | 502 | 503 | 504), after) {
        (false, _) => (fault, Again::No),
        (true, None) => (fault, Again::Soon),
        (true, Some(seconds)) if Duration::from_secs(seconds) > LONGEST_WAIT => {
            (WebFault::RetryLater(seconds), Again::No)
        }
        (true, Some(seconds)) => (fault, Again::In(Duration::from_secs(seconds))),
    }
}

/// How long to wait before the next try: up to twice as long as before (full jitter).
pub(crate) fn pause(tries: u32) -> Duration {
    let most = (200u64 << tries.min(8)).min(LONGEST_PAUSE);
    Duration::from_millis(RandomState::new().build_hasher().finish() % most)
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

/// Waits for an answer until it is there, or nobody wants it any more.
pub(crate) fn unless_stopped<T>(patience: &Patience, answer: impl Future<Output = T>) -> Result<T, WebFault> {
    runtime()?.block_on(async {
        let mut answer = std::pin::pin!(answer);
        loop {
            match tokio::time::timeout(LOOK, &mut answer).await {
                Ok(answer) => return Ok(answer),
                Err(_) if patience.is_stopped() => return Err(WebFault::Stopped),
                Err(_) => {}
            }
        }
    })
}

/// Tells a server that is not trusted from one that broke off.
pub(crate) fn fault_of(error: &reqwest::Error) -> WebFault {
    let told = told(error);
    match told.strip_prefix("invalid peer certificate: ") {
        Some(_) if shared().is_ok_and(|shared| !shared.has_authorities) => {
            WebFault::Untrusted("this machine knows no certificate authorities".to_owned())
        }
        Some(why) => WebFault::Untrusted(why.to_owned()),
        None => WebFault::Broken(told),
    }
}

/// Says what was wrong in one sentence: the innermost cause says most.
fn told(error: &reqwest::Error) -> String {
    let mut cause: &dyn std::error::Error = error;
    while let Some(inner) = cause.source() {
        cause = inner;
    }
    cause.to_string()
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
