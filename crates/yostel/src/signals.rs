//! What asks the program to end: Ctrl-C, or whoever ends a session. The first time, work ends in order; the second time,
//! the program ends at once, which leaves nothing half-visible either (docs/formats.md §7).

use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::flag;

use crate::exit::Exit;

/// Returns a flag that is set when somebody wants the program to end. A signal that whoever started us wants ignored, as
/// `nohup` does, stays ignored.
pub(crate) fn flag() -> Arc<AtomicBool> {
    let stop = Arc::new(AtomicBool::new(false));
    let ignored = ignored();
    for signal in [SIGINT, SIGTERM, SIGHUP].into_iter().filter(|signal| ignored & (1 << (signal - 1)) == 0) {
        // In this order: what the flag is now tells whether it is the second time. A signal that cannot be caught ends the
        // program at once, as without this.
        let second = flag::register_conditional_shutdown(signal, Exit::Stopped.status().into(), stop.clone());
        second.and_then(|_| flag::register(signal, stop.clone())).ok();
    }
    stop
}

/// Returns the signals that are ignored, a bit each from the lowest; where that cannot be told, only the one at the end of a
/// session, which is the one that people have ignored.
fn ignored() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let mask = status.lines().find_map(|line| u64::from_str_radix(line.strip_prefix("SigIgn:")?.trim(), 16).ok());
    mask.unwrap_or(1 << (SIGHUP - 1))
}
