//! Writes a large made-up world into a folder: a project in `console`, releases without archives in `station`, which must be
//! a registry already.
//!
//!     world_on_disk FOLDER [DIRECT] [PACKAGES] [RELEASES]     (default 60 520 30)
//!     world_on_disk FOLDER DIRECT PACKAGES RELEASES STALE BOUNDED SEED     one whose bounds bite (`TightWorld`)

#![allow(clippy::unwrap_used, clippy::print_stdout, reason = "a tool for measuring")]

use std::fmt::Write;
use std::fs;
use std::path::PathBuf;

use yostel_testkit::{LargeWorld, TightWorld};

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let number = |at: usize, default: u64| arguments.get(at).map_or(default, |text| text.parse().unwrap());
    let root = PathBuf::from(&arguments[0]);
    let (direct, packages, releases) = (number(1, 60), number(2, 520), number(3, 30));
    let world = match arguments.len() {
        0..5 => LargeWorld { direct, packages, releases, needs: 4, seed: 1 }.make(),
        _ => {
            let (stale, bounded, seed) = (number(4, 0), number(5, 30), number(6, 1));
            TightWorld { direct, packages, releases, needs: 4, stale, bounded, planted: true, seed }.make()
        }
    };
    world.write_to(&root.join("station"));
    let mut text =
        "[project]\nname = \"console\"\n\n[sources.station]\nfolder = \"../station\"\n\n[needs.run]\n".to_owned();
    for need in &world.requirements {
        writeln!(text, "\"{}\" = \"{}\"", need.package, need.accept).unwrap();
    }
    fs::create_dir_all(root.join("console")).unwrap();
    fs::write(root.join("console/yostel.toml"), text).unwrap();
}
