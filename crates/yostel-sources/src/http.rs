//! Single files over HTTP. What comes is for others to check; here it is only that it comes, and in time.

use std::io::{self, Read};
use std::time::Duration;

use reqwest::{Client, Response};
use tokio::runtime::{Builder, Runtime};
use yostel_files::Stopped;

use crate::patience::{LOOK, Patience};

/// How often a server that is there and fails is asked again.
const TRIES: u32 = 3;

/// A body, as it comes.
struct Body {
    runtime: Runtime,
    response: Response,
    patience: Patience,
    chunk: Vec<u8>,
    at: usize,
}

/// Opens a file at an address that begins with `http://` or `https://`.
///
/// # Errors
/// When the server cannot be reached or does not have it. A server that fails is asked three times.
pub(crate) fn open(address: &str, patience: &Patience) -> io::Result<Box<dyn Read + Send>> {
    // The client panics without one; installing it twice is no fault.
    rustls::crypto::ring::default_provider().install_default().ok();
    let runtime = Builder::new_current_thread().enable_all().build()?;
    let client = Client::builder()
        .user_agent(concat!("yostel/", env!("CARGO_PKG_VERSION")))
        .connect_timeout(patience.idle)
        .read_timeout(patience.idle)
        .timeout(patience.total)
        .build()
        .map_err(told)?;
    let mut tries = 0;
    loop {
        tries += 1;
        let answer = unless_stopped(&runtime, patience, async { client.get(address).send().await })?;
        match answer.and_then(Response::error_for_status) {
            Ok(response) => {
                return Ok(Box::new(Body { runtime, response, patience: patience.clone(), chunk: Vec::new(), at: 0 }));
            }
            Err(error) if is_worth_another_try(&error) && tries < TRIES => {
                let pause = Duration::from_millis(200 << tries);
                unless_stopped(&runtime, patience, async { tokio::time::sleep(pause).await })?;
            }
            Err(error) => return Err(told(error)),
        }
    }
}

/// Waits for an answer until it is there, or nobody wants it any more.
fn unless_stopped<T>(runtime: &Runtime, patience: &Patience, answer: impl Future<Output = T>) -> io::Result<T> {
    runtime.block_on(async {
        let mut answer = std::pin::pin!(answer);
        loop {
            match tokio::time::timeout(LOOK, &mut answer).await {
                Ok(answer) => return Ok(answer),
                Err(_) if patience.is_stopped() => return Err(Stopped::as_io_error()),
                Err(_) => {}
            }
        }
    })
}

fn is_worth_another_try(error: &reqwest::Error) -> bool {
    error.is_timeout() || error.is_connect() || error.status().is_some_and(|status| status.is_server_error())
}

/// Says what was wrong in one sentence: the innermost cause says most.
fn told(error: reqwest::Error) -> io::Error {
    if let Some(status) = error.status() {
        return io::Error::other(format!("the server answers {status}"));
    }
    let mut cause: &dyn std::error::Error = &error;
    while let Some(inner) = cause.source() {
        cause = inner;
    }
    io::Error::other(cause.to_string())
}

impl Read for Body {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.at == self.chunk.len() {
            let chunk = unless_stopped(&self.runtime, &self.patience, async { self.response.chunk().await })?;
            match chunk.map_err(told)? {
                None => return Ok(0),
                Some(chunk) => (self.chunk, self.at) = (chunk.to_vec(), 0),
            }
        }
        let n = buffer.len().min(self.chunk.len() - self.at);
        buffer[..n].copy_from_slice(&self.chunk[self.at..self.at + n]);
        self.at += n;
        Ok(n)
    }
}
