//! Builds the demo's files into the program: every file under `demo/`, with its path and whether it is executable.

use std::fmt::Write as _;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::{env, fs};

fn main() {
    let root = Path::new(&env::var("CARGO_MANIFEST_DIR").expect("cargo sets it")).join("../../demo");
    println!("cargo::rerun-if-changed={}", root.display());
    let mut files = Vec::new();
    collect(&root, &mut files);
    files.sort();
    let mut text = String::from("&[\n");
    for file in files {
        let path = file.strip_prefix(&root).expect("collected below it").to_str().expect("demo paths are UTF-8");
        let mode = fs::metadata(&file).expect("collected just now").permissions().mode();
        let file = file.canonicalize().expect("collected just now");
        writeln!(text, "    ({path:?}, {}, include_bytes!({file:?})),", mode & 0o100 != 0).expect("strings take all");
    }
    text.push(']');
    let out = Path::new(&env::var("OUT_DIR").expect("cargo sets it")).join("demo_files.rs");
    fs::write(out, text).expect("cargo's own folder can be written");
}

fn collect(folder: &Path, files: &mut Vec<PathBuf>) {
    println!("cargo::rerun-if-changed={}", folder.display());
    for entry in fs::read_dir(folder).expect("the demo is in the repository").flatten() {
        let path = entry.path();
        if path.is_dir() { collect(&path, files) } else { files.push(path) }
    }
}
