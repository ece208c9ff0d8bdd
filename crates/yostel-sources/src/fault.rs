//! What goes wrong with web servers, and whether that is worth another try.

use std::hash::{BuildHasher, Hasher, RandomState};
use std::io;
use std::path::PathBuf;
use std::time::Duration;

use reqwest::StatusCode;
use reqwest::header::{self, HeaderMap};
use yostel_files::{Stopped, says_too_many_open};

/// The longest pause before one asks again, where the server does not name one, in milliseconds.
const LONGEST_PAUSE: u64 = 10_000;

/// The longest pause that a server may ask for: whoever is to wait longer is told so.
const LONGEST_WAIT: Duration = Duration::from_secs(60);

/// What went wrong with a server.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum WebFault {
    /// It is not reached, or breaks off; with what the connection says.
    #[error("{0}")]
    Broken(String),
    /// It is not reached, since no more files may be open here; with what the machine says.
    #[error("{0}")]
    TooManyOpen(String),
    /// Nothing comes, for so long.
    #[error("nothing came for {} s", .0.as_secs_f32())]
    Silent(Duration),
    /// Its certificate is not one that this machine trusts, or not its own; with the reason.
    #[error("its certificate is not trusted: {0}")]
    Untrusted(String),
    /// A file with certificates cannot be taken; with the reason.
    #[error("the certificates in {} cannot be read: {reason}", path.display())]
    Certificates {
        /// The file.
        path: PathBuf,
        /// Why.
        reason: String,
    },
    /// It does not come to an end.
    #[error("it took too long")]
    TooSlow,
    /// It wants to know who asks, and is not told, since others could read that on the way.
    #[error("it wants to know who asks, and over http anybody could read that")]
    HeldBack,
    /// What shows who asks cannot be read.
    #[error("{0}")]
    Credentials(String),
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
    /// What it has under a tag is not what belongs there.
    #[error("what it has there is not an artifact of yostel: {0}")]
    Artifact(String),
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
    /// What came of something that was done here, and not at the server.
    pub(crate) fn of_machine(error: &io::Error) -> Self {
        let told = error.to_string();
        if says_too_many_open(error) { Self::TooManyOpen(told) } else { Self::Broken(told) }
    }

    /// With whether it is worth another try: where something broke it is, and else not.
    pub(crate) fn of_try(self) -> Refusal {
        let again = if matches!(self, Self::Broken(_) | Self::TooManyOpen(_) | Self::Silent(_)) {
            Again::Soon
        } else {
            Again::No
        };
        (self, again)
    }
}

/// Whether something is worth another try, and when.
pub(crate) enum Again {
    No,
    Soon,
    In(Duration),
}

/// What went wrong with one try.
pub(crate) type Refusal = (WebFault, Again);

/// Tells whether a status may be another one soon.
pub(crate) fn is_passing(status: StatusCode) -> bool {
    matches!(status.as_u16(), 408 | 425 | 429 | 500 | 502 | 503 | 504)
}

/// Says what a status means that is no answer; one that says when to ask again is waited for, where that is soon.
pub(crate) fn refused(status: StatusCode, headers: &HeaderMap) -> Refusal {
    let after = headers.get(header::RETRY_AFTER).and_then(|after| after.to_str().ok()?.trim().parse::<u64>().ok());
    let fault = match status.as_u16() {
        401 | 403 | 407 => WebFault::AccessDenied(status.to_string()),
        _ => WebFault::Status(status.to_string()),
    };
    match (is_passing(status), after) {
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
