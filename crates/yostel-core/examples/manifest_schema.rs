//! Writes docs/manifest.schema.json: `cargo run -p yostel-core --example manifest_schema > docs/manifest.schema.json`

#![allow(clippy::disallowed_macros, reason = "a tool that prints")]

fn main() {
    println!("{:#}", yostel_core::manifest_schema());
}
