//! Sending to OCI registries (Distribution Specification 1.1, "Push"): contents, in one request or in pieces, and manifests.

use std::io::Read;

use reqwest::header::{self, HeaderMap};
use reqwest::{Method, StatusCode, Url};
use yostel_documents::oci::{Blob, OCI_MANIFEST, OciManifest};

use super::reading::{Repositories, manifest_of};
use crate::fault::{WebFault, pause};
use crate::http::{Reply, Request, on_same_server, put};
use crate::mirrors::Fault;

/// How much of a content is sent, and held, at a time, in bytes. What is no longer goes in one request.
const PIECE: usize = 8 << 20;

/// How often something is sent: what breaks off in between can seldom be taken up.
const TRIES: u32 = 5;

/// Opens a content, to be sent from its first byte on.
pub type OpenContent<'c> = dyn Fn() -> std::io::Result<Box<dyn Read + Send>> + Sync + 'c;

impl Repositories {
    fn address(&self, file: &str) -> String {
        format!("{}/{file}", self.files.preferred())
    }

    /// Sends a request about a file, and returns what the registry says to it.
    async fn say(&self, request: &Request<'_>, is_repeatable: bool) -> Result<Reply, Fault> {
        let reply = self.files.web.send(request, is_repeatable).await;
        reply.map_err(|fault| Fault::at(request.address, fault))
    }

    /// Tells whether a repository has a content.
    pub(super) async fn has(&self, repository: &str, digest: &str) -> Result<bool, Fault> {
        let address = self.address(&format!("{repository}blobs/{digest}"));
        let request = Request { method: Method::HEAD, address: &address, headers: HeaderMap::new(), body: &[] };
        // Registries that do not answer this are told everything.
        Ok(self.say(&request, true).await?.status == StatusCode::OK)
    }

    /// Sends a content that is held already.
    pub(super) async fn send_blob(&self, repository: &str, blob: &Blob) -> Result<(), Fault> {
        let open = || Ok(Box::new(std::io::Cursor::new(blob.bytes.clone())) as Box<dyn Read + Send>);
        self.send_content(repository, (&blob.digest, blob.bytes.len() as u64), &open).await
    }

    /// Sends a content of a digest and a size, where the repository does not have it.
    pub(super) async fn send_content(
        &self,
        repository: &str,
        (digest, size): (&str, u64),
        open: &OpenContent<'_>,
    ) -> Result<(), Fault> {
        let mut tries = 0;
        loop {
            tries += 1;
            // Somebody else may send the same at the same time.
            if self.has(repository, digest).await? {
                return Ok(());
            }
            match self.send_once(repository, (digest, size), open).await {
                Err(Fault {
                    fault: WebFault::Broken(_) | WebFault::TooManyOpen(_) | WebFault::Silent(_) | WebFault::Status(_),
                    ..
                }) if tries < TRIES => {
                    tokio::time::sleep(pause(tries)).await;
                }
                done => return done,
            }
        }
    }

    /// Has a repository take over a content from another repository of the same registry, by its whole name ("Mounting a blob
    /// from another repository"). Returns whether it has it now; registries need not be able to.
    pub(super) async fn mount(&self, repository: &str, digest: &str, from: &str) -> Result<bool, Fault> {
        let begin = self.address(&format!("{repository}blobs/uploads/"));
        let mut address = Url::parse(&begin).map_err(|_| unfit(&begin))?;
        address.query_pairs_mut().append_pair("mount", digest).append_pair("from", from);
        let request = Request { method: Method::POST, address: address.as_str(), headers: HeaderMap::new(), body: &[] };
        match self.say(&request, true).await {
            Ok(reply) => Ok(reply.status == StatusCode::CREATED),
            // Who may write here need not be allowed to read there, and some know no mounting at all.
            Err(Fault { fault: WebFault::AccessDenied(_) | WebFault::Status(_), .. }) => Ok(false),
            Err(fault) => Err(fault),
        }
    }

    async fn send_once(
        &self,
        repository: &str,
        (digest, size): (&str, u64),
        open: &OpenContent<'_>,
    ) -> Result<(), Fault> {
        let begin = self.address(&format!("{repository}blobs/uploads/"));
        let request = Request { method: Method::POST, address: &begin, headers: HeaderMap::new(), body: &[] };
        let reply = self.say(&request, true).await?;
        let mut at = location(&begin, &reply)?;
        let failed = |error: std::io::Error| Fault::at(begin.clone(), WebFault::of_machine(&error));
        let mut content = open().map_err(failed)?;
        let mut piece = Vec::new();
        let mut sent = 0u64;
        loop {
            piece.clear();
            content.by_ref().take(PIECE as u64).read_to_end(&mut piece).map_err(failed)?;
            let is_last = sent + piece.len() as u64 >= size || piece.is_empty();
            let mut headers = HeaderMap::new();
            put(&mut headers, header::CONTENT_TYPE, "application/octet-stream");
            put(&mut headers, header::CONTENT_LENGTH, &piece.len().to_string());
            if is_last {
                let mut end = Url::parse(&at).map_err(|_| unfit(&at))?;
                end.query_pairs_mut().append_pair("digest", digest);
                let request = Request { method: Method::PUT, address: end.as_str(), headers, body: &piece };
                let reply = self.say(&request, false).await?;
                return match reply.status {
                    StatusCode::CREATED => Ok(()),
                    _ => Err(refusal(end.as_str(), &reply)),
                };
            }
            let next = sent + piece.len() as u64;
            put(&mut headers, header::CONTENT_RANGE, &format!("{sent}-{}", next - 1));
            let request = Request { method: Method::PATCH, address: &at, headers, body: &piece };
            let reply = self.say(&request, false).await?;
            // Some take pieces in any order, so what is there is believed only where it is said.
            let ends = reply
                .headers
                .get(header::RANGE)
                .and_then(|range| range.to_str().ok()?.rsplit('-').next()?.parse().ok());
            at = location(&at, &reply)?;
            if ends.is_some_and(|last: u64| last + 1 != next) {
                return Err(Fault::at(at, WebFault::Broken("it lost a part of what was sent".to_owned())));
            }
            sent = next;
        }
    }

    /// Sends a manifest under a tag, once; again only where that is repeatable and something passes.
    pub(super) async fn put_manifest(
        &self,
        repository: &str,
        tag: &str,
        bytes: &[u8],
        is_repeatable: bool,
    ) -> Result<(), Fault> {
        let address = self.address(&manifest_of(repository, tag));
        let mut headers = HeaderMap::new();
        put(&mut headers, header::CONTENT_TYPE, OCI_MANIFEST);
        let request = Request { method: Method::PUT, address: &address, headers, body: bytes };
        let reply = self.say(&request, is_repeatable).await?;
        match reply.status {
            StatusCode::CREATED | StatusCode::OK => Ok(()),
            _ => Err(refusal(&address, &reply)),
        }
    }

    /// Sends a manifest under a tag, in place of what is there.
    ///
    /// Where others send the same at the same time, some registries refuse all but one of them; so a refusal counts only when
    /// it is not there.
    pub(super) async fn send_manifest(&self, repository: &str, tag: &str, bytes: &[u8]) -> Result<(), Fault> {
        let mut tries = 0;
        loop {
            tries += 1;
            let refused = match self.put_manifest(repository, tag, bytes, true).await {
                Err(refused) if matches!(refused.fault, WebFault::Status(_)) => refused,
                done => return done,
            };
            if self.manifest(repository, tag).await?.is_some_and(|there| there.answer.bytes == bytes) {
                return Ok(());
            }
            if tries >= TRIES {
                return Err(refused);
            }
            tokio::time::sleep(pause(tries)).await;
        }
    }

    /// Sends an artifact under a tag, in place of what is there.
    pub(super) async fn send_artifact(
        &self,
        repository: &str,
        tag: &str,
        (manifest, blobs): &(OciManifest, Vec<Blob>),
    ) -> Result<(), Fault> {
        for blob in blobs {
            self.send_blob(repository, blob).await?;
        }
        self.send_manifest(repository, tag, &manifest.write()).await
    }
}

fn unfit(address: &str) -> Fault {
    Fault::at(address, WebFault::Unexpected("does not say where on itself to send it"))
}

/// Returns where to go on, as a registry says it.
fn location(from: &str, reply: &Reply) -> Result<String, Fault> {
    if reply.status != StatusCode::ACCEPTED {
        return Err(refusal(from, reply));
    }
    let to = reply.headers.get(header::LOCATION).and_then(|to| to.to_str().ok());
    let to = to.and_then(|to| on_same_server(&Url::parse(from).ok()?, to));
    to.map(|to| to.to_string()).ok_or_else(|| unfit(from))
}

/// Says why a registry does not take something.
fn refusal(address: &str, reply: &Reply) -> Fault {
    let told = serde_json::from_str::<serde_json::Value>(&reply.text).ok();
    let told = told.as_ref().and_then(|told| told.get("errors")?.get(0)).map(|error| {
        let text = |name: &str| error.get(name).and_then(|text| text.as_str()).unwrap_or_default();
        if text("message").is_empty() { text("code").to_owned() } else { text("message").to_owned() }
    });
    let status = match told.filter(|told| !told.is_empty()) {
        Some(told) => format!("{}: {}", reply.status, told.chars().take(300).collect::<String>()),
        None => reply.status.to_string(),
    };
    let fault = match reply.status.as_u16() {
        401 | 403 | 407 => WebFault::AccessDenied(status),
        _ => WebFault::Status(status),
    };
    Fault::at(address.split('?').next().unwrap_or_default(), fault)
}
