//! Writes a made-up world into a folder: a project in `console`, releases without archives in `station`, which must be a
//! registry already.
//!
//! Usage: `world_on_disk FOLDER [KIND NUMBERS]`, as `yostel_testkit::named` has them.

#![allow(clippy::unwrap_used, reason = "a tool for measuring")]

use std::fmt::Write;
use std::fs;
use std::path::PathBuf;

use yostel_testkit::named;

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let root = PathBuf::from(&arguments[0]);
    let world = named(&arguments[1..]);
    world.write_to(&root.join("station"));
    let mut text =
        "[project]\nname = \"console\"\n\n[sources.station]\nfolder = \"../station\"\n\n[needs.run]\n".to_owned();
    for need in &world.requirements {
        writeln!(text, "\"{}\" = \"{}\"", need.package, need.accept).unwrap();
    }
    fs::create_dir_all(root.join("console")).unwrap();
    fs::write(root.join("console/yostel.toml"), text).unwrap();
}
