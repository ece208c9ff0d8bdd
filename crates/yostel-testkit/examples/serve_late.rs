//! Serves a folder on this machine, each answer so many milliseconds late, and says where; until it is ended.
//!
//!     serve_late FOLDER [MILLISECONDS]     (default 20)

#![allow(clippy::unwrap_used, clippy::print_stdout, reason = "a tool for measuring")]

use std::time::Duration;

use yostel_testkit::{WebFailure, WebServer};

fn main() {
    let mut arguments = std::env::args().skip(1);
    let folder = arguments.next().unwrap();
    let late = Duration::from_millis(arguments.next().map_or(20, |text| text.parse().unwrap()));
    let server = WebServer::failing(folder, move |_| Some(WebFailure::Late(late)));
    println!("{}", server.address());
    loop {
        std::thread::sleep(Duration::from_secs(3600));
    }
}
