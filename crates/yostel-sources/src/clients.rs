//! The clients that all of this process asks with, and what they run on.
//!
//! There is one for documents, whose requests share connections (HTTP/2 where the server has it), and one for archives, which
//! is HTTP/1.1, since one large body over HTTP/2 takes twice the work.

use std::io;
use std::path::Path;
use std::sync::OnceLock;
use std::time::Duration;

use reqwest::{Certificate, Client, ClientBuilder, redirect};
use tokio::runtime::{Builder, Runtime};
use yostel_files::{Folder, says_too_many_open};

use crate::connecting::AsManyAsNeeded;
use crate::fault::WebFault;
use crate::patience::{LOOK, Patience};

/// How long it may take to reach a server.
const CONNECTING: Duration = Duration::from_secs(10);

/// Longest file with certificates that is read, in bytes.
const MOST_CERTIFICATES: u64 = 4 << 20;

/// Both clients.
#[derive(Debug, Clone)]
pub(crate) struct Clients {
    pub(crate) documents: Client,
    pub(crate) archives: Client,
}

/// The clients of whoever asks for nothing else, and what all run on.
struct Shared {
    runtime: Runtime,
    clients: Clients,
    /// Whether this machine knows of anybody whose word on servers counts.
    has_authorities: bool,
}

fn shared() -> Result<&'static Shared, WebFault> {
    static SHARED: OnceLock<Result<Shared, WebFault>> = OnceLock::new();
    let made = SHARED.get_or_init(|| make().map_err(|error| WebFault::of_machine(&error)));
    made.as_ref().map_err(Clone::clone)
}

fn make() -> io::Result<Shared> {
    // The client panics without one; installing it twice is no fault.
    rustls::crypto::ring::default_provider().install_default().ok();
    let runtime = Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
    let failed = |error: reqwest::Error| io::Error::other(told(&error));
    // A machine without certificates, as a small container may be, still reaches those that need none.
    let (clients, has_authorities) = match clients_of(|builder| builder) {
        Ok(clients) => (clients, true),
        Err(_) => (clients_of(|builder| builder.tls_certs_only([])).map_err(failed)?, false),
    };
    Ok(Shared { runtime, clients, has_authorities })
}

/// Makes both clients.
fn clients_of(with: impl Fn(ClientBuilder) -> ClientBuilder) -> reqwest::Result<Clients> {
    let client = || {
        let plain = Client::builder()
            .user_agent(concat!("yostel/", env!("CARGO_PKG_VERSION")))
            .redirect(redirect::Policy::none())
            .connector_layer(AsManyAsNeeded::default())
            .connect_timeout(CONNECTING);
        with(plain)
    };
    // Compressed, nothing could be taken up at a byte.
    Ok(Clients { documents: client().build()?, archives: client().http1_only().no_gzip().build()? })
}

/// Returns the clients that trust what this machine trusts, and the certificates in a file besides, if one is named.
pub(crate) fn clients(certificates: Option<&Path>) -> Result<Clients, WebFault> {
    let shared = shared()?;
    let Some(path) = certificates else { return Ok(shared.clients.clone()) };
    let unfit = |reason: String| WebFault::Certificates { path: path.to_owned(), reason };
    let read = || {
        let folder = Folder::open(path.parent().unwrap_or(Path::new("/")))?;
        folder.read(path.file_name().unwrap_or_default(), MOST_CERTIFICATES)
    };
    let bytes = read().map_err(|error| unfit(error.cause.to_string()))?;
    let certificates = Certificate::from_pem_bundle(&bytes).map_err(|error| unfit(told(&error)))?;
    if certificates.is_empty() {
        return Err(unfit("there is no certificate in it".to_owned()));
    }
    let made = clients_of(|builder| match shared.has_authorities {
        true => builder.tls_certs_merge(certificates.clone()),
        false => builder.tls_certs_only(certificates.clone()),
    });
    made.map_err(|error| unfit(told(&error)))
}

/// Returns what everything that is asked runs on.
pub(crate) fn runtime() -> Result<&'static Runtime, WebFault> {
    Ok(&shared()?.runtime)
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

/// Tells a server that is not trusted from one that broke off, and that from a machine that has no room for a connection.
pub(crate) fn fault_of(error: &reqwest::Error) -> WebFault {
    let (innermost, told) = (innermost(error), told(error));
    if innermost.downcast_ref().is_some_and(says_too_many_open) {
        return WebFault::TooManyOpen(told);
    }
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
    innermost(error).to_string()
}

fn innermost(error: &reqwest::Error) -> &(dyn std::error::Error + 'static) {
    let mut cause: &(dyn std::error::Error + 'static) = error;
    while let Some(inner) = cause.source() {
        cause = inner;
    }
    cause
}
