//! How many files may be open at once: connections count among them.

use std::io;

use rustix::io::Errno;
use rustix::process::{Resource, getrlimit};

/// Returns how many files this process may have open at once.
pub fn most_open_files() -> usize {
    getrlimit(Resource::Nofile).current.map_or(usize::MAX, |most| usize::try_from(most).unwrap_or(usize::MAX))
}

/// Tells whether an error says that no more files may be open, of this process or of the whole machine.
pub fn says_too_many_open(error: &io::Error) -> bool {
    [Errno::MFILE, Errno::NFILE].iter().any(|errno| error.raw_os_error() == Some(errno.raw_os_error()))
}
