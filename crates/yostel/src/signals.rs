//! What asks the program to end: Ctrl-C, or whoever ends a session. The first time, work ends in order; the second time,
//! the program ends at once, which leaves nothing half-visible either (docs/formats.md §7).

use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::flag;

use crate::exit::Exit;

/// Returns a flag that is set when somebody wants the program to end.
pub(crate) fn flag() -> Arc<AtomicBool> {
    let stop = Arc::new(AtomicBool::new(false));
    for signal in [SIGINT, SIGTERM, SIGHUP] {
        // In this order: what the flag is now tells whether it is the second time. A signal that cannot be caught ends the
        // program at once, as without this.
        let second = flag::register_conditional_shutdown(signal, Exit::Stopped.status().into(), stop.clone());
        second.and_then(|_| flag::register(signal, stop.clone())).ok();
    }
    stop
}
