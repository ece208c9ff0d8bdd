//! Bodies of answers of web servers, as they come, taken up where they broke off (RFC 9110 §14).

use std::io::{self, Read};
use std::sync::Arc;
use std::time::Instant;

use reqwest::header;
use reqwest::{Response, StatusCode};

use crate::access::{Access, NoCredentials};
use crate::clients::{fault_of, unless_stopped};
use crate::fault::{WebFault, pause};
use crate::http::{Web, stamp_of};
use crate::patience::Patience;

/// How often a body is asked for again of which nothing came any more.
const RESUMES: u32 = 4;

/// Asks for a file from a byte on, with the entity tag of what came before; none when it is not there. Waits for the answer.
pub(crate) type Ask<F> = dyn Fn(u64, Option<&str>) -> Result<Option<Response>, F> + Send;

/// A body, as it comes; taken up where it broke off.
pub(crate) struct Body<F> {
    ask: Box<Ask<F>>,
    patience: Patience,
    /// When it has to have come.
    ends: Instant,
    /// How long all of it is, where that is known.
    size: Option<u64>,
    tag: Option<String>,
    at: u64,
    response: Option<Response>,
    /// How many bytes that come are there already.
    skip: u64,
    chunk: Vec<u8>,
    chunk_at: usize,
    resumes: u32,
}

/// Opens a file at a byte of it; none when it is not there.
///
/// # Errors
/// What asking returns.
pub(crate) fn open<F: From<WebFault>>(
    patience: Patience,
    at: u64,
    size: Option<u64>,
    ask: Box<Ask<F>>,
) -> Result<Option<Body<F>>, F> {
    let ends = Instant::now() + patience.total;
    let Some(response) = ask(at, None)? else { return Ok(None) };
    let mut body = Body {
        ask,
        patience,
        ends,
        size: size.or(response.content_length().filter(|_| at == 0)),
        tag: stamp_of(response.headers()).tag,
        at,
        response: None,
        skip: 0,
        chunk: Vec::new(),
        chunk_at: 0,
        resumes: 0,
    };
    body.go_on_with(response)?;
    Ok(Some(body))
}

impl<F: From<WebFault>> Body<F> {
    /// Goes on with an answer, which holds all, or what comes from a byte on.
    fn go_on_with(&mut self, response: Response) -> Result<(), WebFault> {
        let range = response.headers().get(header::CONTENT_RANGE).and_then(|range| range.to_str().ok());
        let from = range.and_then(|range| range.strip_prefix("bytes ")?.split('-').next()?.parse::<u64>().ok());
        self.skip = match response.status() {
            StatusCode::PARTIAL_CONTENT if from == Some(self.at) => 0,
            StatusCode::PARTIAL_CONTENT => {
                return Err(WebFault::Unexpected("sends a different part from the one it was asked for"));
            }
            _ => self.at,
        };
        self.response = Some(response);
        Ok(())
    }

    /// Reads the next piece; false at the end.
    fn more(&mut self) -> Result<bool, F> {
        loop {
            let Some(response) = &mut self.response else { return Ok(false) };
            let idle = self.patience.idle.min(self.ends.saturating_duration_since(Instant::now()));
            if idle.is_zero() {
                return Err(WebFault::TooSlow.into());
            }
            let next = async { tokio::time::timeout(idle, response.chunk()).await };
            let broken = match unless_stopped(&self.patience, next)? {
                Ok(Ok(Some(chunk))) => {
                    let skipped = self.skip.min(chunk.len() as u64);
                    self.skip -= skipped;
                    let chunk = &chunk[usize::try_from(skipped).unwrap_or(usize::MAX)..];
                    if chunk.is_empty() {
                        continue;
                    }
                    (self.chunk, self.chunk_at, self.resumes) = (chunk.to_vec(), 0, 0);
                    self.at += chunk.len() as u64;
                    return Ok(true);
                }
                Ok(Ok(None)) if self.size.is_none_or(|size| self.at >= size) => {
                    self.response = None;
                    return Ok(false);
                }
                Ok(Ok(None)) => WebFault::Broken("it ended too early".to_owned()),
                Ok(Err(error)) => fault_of(&error),
                Err(_) => WebFault::Silent(self.patience.idle),
            };
            // What is not known to be whole cannot be taken up.
            if self.resumes >= RESUMES || self.size.is_none() {
                return Err(broken.into());
            }
            self.resumes += 1;
            tracing::debug!(fault = %broken, at = self.at, "taking it up");
            unless_stopped(&self.patience, async { tokio::time::sleep(pause(self.resumes)).await })?;
            match (self.ask)(self.at, self.tag.as_deref())? {
                Some(response) => self.go_on_with(response)?,
                None => return Err(broken.into()),
            }
        }
    }
}

impl<F: From<WebFault> + Into<io::Error>> Read for Body<F> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.chunk_at == self.chunk.len() && !self.more().map_err(Into::into)? {
            return Ok(0);
        }
        let n = buffer.len().min(self.chunk.len() - self.chunk_at);
        buffer[..n].copy_from_slice(&self.chunk[self.chunk_at..self.chunk_at + n]);
        self.chunk_at += n;
        Ok(n)
    }
}

/// Opens a file at an address that begins with `http://` or `https://`.
///
/// # Errors
/// When the server cannot be reached or does not have it.
pub(crate) fn open_address(address: &str, patience: &Patience) -> io::Result<Box<dyn Read + Send>> {
    let (web, address) =
        (Web::new(patience.clone(), Access::new(Arc::new(NoCredentials), true), None), address.to_owned());
    let ask = move |at: u64, tag: Option<&str>| unless_stopped(&web.patience, web.open_at(&address, at, tag))?;
    match open::<WebFault>(patience.clone(), 0, None, Box::new(ask))? {
        Some(body) => Ok(Box::new(body)),
        None => Err(io::Error::other("the server answers 404 Not Found")),
    }
}
