//! What the servers for tests share: a port of this machine, a thread for each connection, and heads of requests.

use std::collections::BTreeMap;
use std::io::BufRead;
use std::net::{TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;

/// A port on which somebody listens, until this is dropped.
pub(crate) struct Listening {
    /// Host and port.
    pub(crate) address: String,
    ends: Arc<AtomicBool>,
}

/// Takes a free port.
pub(crate) fn free_port() -> TcpListener {
    TcpListener::bind("127.0.0.1:0").unwrap()
}

impl Listening {
    /// Listens on a port, and converses with each who comes on a thread of its own.
    pub(crate) fn on(listener: TcpListener, converse: impl Fn(&TcpStream) + Send + Sync + 'static) -> Self {
        let address = listener.local_addr().unwrap().to_string();
        let (ends, converse) = (Arc::<AtomicBool>::default(), Arc::new(converse));
        let stop = ends.clone();
        thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                if stop.load(Ordering::Relaxed) {
                    return;
                }
                // Small answers in two parts would wait for each other.
                stream.set_nodelay(true).ok();
                let converse = converse.clone();
                thread::spawn(move || converse(&stream));
            }
        });
        Self { address, ends }
    }
}

impl Drop for Listening {
    fn drop(&mut self) {
        self.ends.store(true, Ordering::Relaxed);
        TcpStream::connect(&self.address).ok();
    }
}

/// The head of a request: its method, its path without the `/` it begins with, and its fields, names in lower case.
pub(crate) type Head = (String, String, BTreeMap<String, String>);

/// Reads the head of a request; none when there is no more.
pub(crate) fn read_head(reader: &mut impl BufRead) -> Option<Head> {
    let mut line = String::new();
    reader.read_line(&mut line).ok().filter(|read| *read > 0)?;
    let mut words = line.split(' ');
    let (method, target) = (words.next()?.to_owned(), words.next()?);
    // To a proxy, all of the address is said (RFC 9112, §3.2.2).
    let path = match target.strip_prefix("http://") {
        Some(whole) => whole.split_once('/').map_or("", |(_, path)| path),
        None => target.trim_start_matches('/'),
    };
    let path = path.to_owned();
    let mut fields = BTreeMap::new();
    loop {
        let mut line = String::new();
        reader.read_line(&mut line).ok()?;
        let Some((name, value)) = line.trim_end().split_once(':') else { return Some((method, path, fields)) };
        fields.insert(name.to_lowercase(), value.trim().to_owned());
    }
}
