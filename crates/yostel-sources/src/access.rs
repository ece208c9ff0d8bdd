//! Who asks: credentials of hosts, and the tokens that registries hand out for them.
//!
//! Carries out HTTP authentication (RFC 9110 §11), Basic (RFC 7617), Bearer (RFC 6750), and the token requests that OCI
//! registries name in their challenges. A credential goes to its own host alone, and never over a connection that others can
//! read.

use std::collections::BTreeMap;
use std::fmt;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use reqwest::header::{self, HeaderMap, HeaderValue};
use reqwest::{Client, Method, Url};
use serde_json::Value;
use yostel_documents::oci::is_own_machine;
use yostel_documents::{Credential, Secret};

use crate::clients::fault_of;
use crate::fault::{Refusal, WebFault, refused};

/// How long a token is good for that says nothing of it.
const TOKEN_LASTS: Duration = Duration::from_secs(60);

/// The longest and the shortest that one is used, whatever it says.
const TOKEN_LASTS_LONGEST: Duration = Duration::from_secs(86_400);
const TOKEN_LASTS_SHORTEST: Duration = Duration::from_secs(1);

/// How long before its end a token is not used any more.
const TOKEN_ENDS_EARLY: Duration = Duration::from_secs(5);

/// Longest answer of who hands out tokens, in bytes.
const MOST_TOKEN: usize = 1 << 20;

/// Returns the value of the field `Authorization`.
fn header_of(credential: &Credential) -> Option<HeaderValue> {
    let text = match credential {
        Credential::Token(token) => format!("Bearer {}", token.reveal()),
        Credential::Password { user, password } => {
            format!("Basic {}", STANDARD.encode(format!("{user}:{}", password.reveal())))
        }
    };
    let mut value = HeaderValue::from_str(&text).ok()?;
    value.set_sensitive(true);
    Some(value)
}

/// Knows credentials by host: its name, and its port where one is named.
pub trait Credentials: fmt::Debug + Send + Sync {
    /// Returns that of a host.
    ///
    /// # Errors
    /// Why they cannot be read, as a sentence without anything secret.
    fn of(&self, host: &str) -> Result<Option<Credential>, String>;
}

/// Knows none.
#[derive(Debug, Clone, Copy, Default)]
pub struct NoCredentials;

impl Credentials for NoCredentials {
    fn of(&self, _host: &str) -> Result<Option<Credential>, String> {
        Ok(None)
    }
}

/// A token that was handed out, and until when it is used.
#[derive(Debug)]
struct Token {
    secret: Secret,
    ends: Instant,
}

/// What is asked of which repository: its host, its name, and whether it is to be written to.
type About = (String, String, bool);

/// Who asks one registry.
#[derive(Debug)]
pub(crate) struct Access {
    credentials: Arc<dyn Credentials>,
    /// Whether a host is shown who asks before it wants to know: plain web servers may just say that nothing is there.
    is_unasked: bool,
    tokens: Mutex<BTreeMap<About, Token>>,
    /// Hosts that want Basic or a token of the credential's own.
    direct: Mutex<Vec<String>>,
}

impl Access {
    pub(crate) fn new(credentials: Arc<dyn Credentials>, is_unasked: bool) -> Self {
        Self { credentials, is_unasked, tokens: Mutex::default(), direct: Mutex::default() }
    }

    /// Returns what shows a server who asks, as far as it wants to know.
    pub(crate) fn header(&self, at: &Url, method: &Method) -> Result<Option<HeaderValue>, WebFault> {
        let about = about(at, method);
        if let Some(token) = self.tokens.lock().unwrap_or_else(PoisonError::into_inner).get(&about)
            && Instant::now() < token.ends
        {
            return Ok(header_of(&Credential::Token(token.secret.clone())));
        }
        let is_wanted =
            self.is_unasked || self.direct.lock().unwrap_or_else(PoisonError::into_inner).contains(&about.0);
        if !is_wanted || !is_private(at) {
            return Ok(None);
        }
        Ok(self.of(&about.0)?.as_ref().and_then(header_of))
    }

    fn of(&self, host: &str) -> Result<Option<Credential>, WebFault> {
        self.credentials.of(host).map_err(WebFault::Credentials)
    }

    /// Does what a server wants of whoever asks. Returns whether it is worth asking again.
    pub(crate) async fn answer(
        &self,
        headers: &HeaderMap,
        (at, method): (&Url, &Method),
        client: &Client,
    ) -> Result<bool, Refusal> {
        let about = about(at, method);
        let challenges: Vec<Challenge> = headers
            .get_all(header::WWW_AUTHENTICATE)
            .iter()
            .filter_map(|text| text.to_str().ok())
            .flat_map(read)
            .collect();
        let bearer = challenges.iter().find(|challenge| challenge.is("bearer") && challenge.get("realm").is_some());
        if let Some(challenge) = bearer
            && !matches!(self.of(&about.0).map_err(WebFault::of_try)?, Some(Credential::Token(_)))
        {
            let token = self.token(challenge, &about.0, at, client).await?;
            self.tokens.lock().unwrap_or_else(PoisonError::into_inner).insert(about, token);
            return Ok(true);
        }
        if self.of(&about.0).map_err(WebFault::of_try)?.is_none() || !is_private(at) {
            return Ok(false);
        }
        let mut direct = self.direct.lock().unwrap_or_else(PoisonError::into_inner);
        let is_new = !self.is_unasked && !direct.contains(&about.0);
        if is_new {
            direct.push(about.0);
        }
        Ok(is_new)
    }

    /// Asks for a token where a challenge says to.
    async fn token(&self, challenge: &Challenge, host: &str, at: &Url, client: &Client) -> Result<Token, Refusal> {
        let unfit = || WebFault::Unexpected("wants a token from where there is none").of_try();
        let mut realm = at.join(challenge.get("realm").unwrap_or_default()).map_err(|_| unfit())?;
        if !matches!(realm.scheme(), "http" | "https") || (at.scheme() == "https" && realm.scheme() == "http") {
            return Err(unfit());
        }
        for name in ["service", "scope"] {
            let values = challenge.get(name).into_iter().flat_map(|value| match name {
                "scope" => value.split(' ').collect(),
                _ => vec![value],
            });
            for value in values {
                realm.query_pairs_mut().append_pair(name, value);
            }
        }
        let credential = self.of(host).map_err(WebFault::of_try)?.filter(|_| is_private(&realm));
        let mut request = client.get(realm);
        if let Some(header) = credential.as_ref().and_then(header_of) {
            request = request.header(header::AUTHORIZATION, header);
        }
        let mut response = request.send().await.map_err(|error| fault_of(&error).of_try())?;
        if !response.status().is_success() {
            return Err(refused(response.status(), response.headers()));
        }
        let mut bytes = Vec::new();
        while let Some(chunk) = response.chunk().await.map_err(|error| fault_of(&error).of_try())? {
            if bytes.len() + chunk.len() > MOST_TOKEN {
                return Err(WebFault::TooLong(MOST_TOKEN as u64).of_try());
            }
            bytes.extend_from_slice(&chunk);
        }
        let answer: Value = serde_json::from_slice(&bytes).unwrap_or_default();
        let secret = ["token", "access_token"].iter().find_map(|name| answer.get(name)?.as_str());
        let Some(secret) = secret.filter(|secret| !secret.is_empty()) else {
            return Err(WebFault::Unexpected("hands out no token").of_try());
        };
        let lasts = answer.get("expires_in").and_then(Value::as_u64).map_or(TOKEN_LASTS, Duration::from_secs);
        // One that ends at once is still good for what it was asked for.
        let lasts = lasts.min(TOKEN_LASTS_LONGEST).saturating_sub(TOKEN_ENDS_EARLY).max(TOKEN_LASTS_SHORTEST);
        Ok(Token { secret: Secret::new(secret), ends: Instant::now() + lasts })
    }

    /// Tells whether there is a credential that was not shown, since others could read it on the way.
    pub(crate) fn is_held_back(&self, at: &Url) -> bool {
        !is_private(at) && self.credentials.of(&host_of(at)).is_ok_and(|credential| credential.is_some())
    }
}

/// Tells whether nobody can read on the way what is sent.
fn is_private(at: &Url) -> bool {
    at.scheme() == "https" || at.host_str().is_some_and(is_own_machine)
}

/// Returns the host of an address, with its port where one is named.
pub(crate) fn host_of(at: &Url) -> String {
    let host = at.host_str().unwrap_or_default();
    at.port().map_or_else(|| host.to_owned(), |port| format!("{host}:{port}"))
}

/// Reads what a request is about off its address.
fn about(at: &Url, method: &Method) -> About {
    let path = at.path();
    let ends = ["/manifests/", "/blobs/", "/tags/list"].iter().filter_map(|part| path.rfind(part)).min();
    let repository = ends.and_then(|end| path[..end].strip_prefix("/v2/")).unwrap_or_default();
    (host_of(at), repository.to_owned(), !matches!(*method, Method::GET | Method::HEAD))
}

/// What a server wants to know before it answers.
#[derive(Debug, PartialEq, Eq)]
struct Challenge {
    scheme: String,
    parameters: Vec<(String, String)>,
}

impl Challenge {
    fn is(&self, scheme: &str) -> bool {
        self.scheme.eq_ignore_ascii_case(scheme)
    }

    fn get(&self, name: &str) -> Option<&str> {
        self.parameters.iter().find(|(other, _)| other.eq_ignore_ascii_case(name)).map(|(_, value)| &**value)
    }
}

/// Reads a value of the field `WWW-Authenticate` (RFC 9110 §11.6.1): challenges, each a scheme with parameters.
fn read(text: &str) -> Vec<Challenge> {
    let mut challenges: Vec<Challenge> = Vec::new();
    let mut rest = text;
    loop {
        rest = rest.trim_start_matches([' ', '\t', ',']);
        let end = rest.find([' ', '\t', ',', '=']).unwrap_or(rest.len());
        if rest.is_empty() {
            return challenges;
        }
        let (word, after) = rest.split_at(end);
        let behind = after.trim_start_matches([' ', '\t']);
        let Some(value) = behind.strip_prefix('=') else {
            challenges.push(Challenge { scheme: word.to_owned(), parameters: Vec::new() });
            rest = after;
            continue;
        };
        let value = value.trim_start_matches([' ', '\t']);
        let (read, left) = match value.strip_prefix('"') {
            Some(quoted) => unquoted(quoted),
            None => {
                let end = value.find([' ', '\t', ',']).unwrap_or(value.len());
                (value[..end].to_owned(), &value[end..])
            }
        };
        if let Some(challenge) = challenges.last_mut() {
            challenge.parameters.push((word.to_owned(), read));
        }
        // Nothing is read twice, whatever it is.
        rest = if left.len() < rest.len() { left } else { "" };
    }
}

/// Reads a text up to the quote that ends it, and returns what is behind.
fn unquoted(text: &str) -> (String, &str) {
    let mut read = String::new();
    let mut characters = text.char_indices();
    while let Some((at, character)) = characters.next() {
        match character {
            '"' => return (read, &text[at + 1..]),
            '\\' => read.extend(characters.next().map(|(_, character)| character)),
            _ => read.push(character),
        }
    }
    (read, "")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn secrets_are_shown_to_nobody() {
        let credential = Credential::Password { user: "alice".into(), password: Secret::new("s3cret") };
        let shown = format!("{credential:?} {:?} {}", Secret::new("s3cret"), Secret::new("s3cret"));
        assert!(!shown.contains("s3cret"), "{shown}");
        let header = header_of(&credential).unwrap();
        assert!(!format!("{header:?}").contains("YWxpY2U6"), "{header:?}");
        assert_eq!(header.to_str().unwrap(), "Basic YWxpY2U6czNjcmV0");
    }

    #[test]
    fn challenges_are_read_whatever_is_quoted_in_them() {
        let scope = "repository:new:pull,push repository:old:pull";
        let text = format!(r#"Basic realm="a \"b\", c", bearer Realm="http://t/token",service=test , scope="{scope}""#);
        let read = read(&text);
        assert_eq!(read.len(), 2);
        assert!(read[0].is("basic") && read[1].is("Bearer"));
        assert_eq!(read[0].get("realm"), Some(r#"a "b", c"#));
        assert_eq!(read[1].get("realm"), Some("http://t/token"));
        assert_eq!((read[1].get("SERVICE"), read[1].get("scope")), (Some("test"), Some(scope)));
        for text in ["", ",,,", "=", "\"", "Bearer =\"", "a=b", "Bearer realm=", "Bearer realm=\"\\"] {
            super::read(text);
        }
    }

    #[test]
    fn a_request_is_about_the_repository_in_its_address() {
        let at = |path: &str| about(&Url::parse(&format!("https://r.example:5000{path}")).unwrap(), &Method::GET);
        let of = |repository: &str| ("r.example:5000".to_owned(), repository.to_owned(), false);
        assert_eq!(at("/v2/a/manifests/b/blobs/sha256:1"), of("a"));
        assert_eq!(at("/v2/ropeway/gust/tags/list?n=3"), of("ropeway/gust"));
        assert_eq!(at("/v2/"), of(""));
    }
}
