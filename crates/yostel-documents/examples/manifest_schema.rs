//! Writes docs/manifest.schema.json: `cargo run -p yostel-documents --example manifest_schema > docs/manifest.schema.json`

#![allow(clippy::disallowed_macros, reason = "a tool that prints")]

fn main() {
    println!("{:#}", yostel_documents::manifest_schema());
}
