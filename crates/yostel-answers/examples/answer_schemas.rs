//! Writes docs/answers/: `cargo run -p yostel-answers --example answer_schemas -- docs/answers`

#![allow(clippy::disallowed_methods, clippy::disallowed_macros, reason = "a tool that writes files")]

use std::path::Path;

fn main() -> std::io::Result<()> {
    let folder = std::env::args().nth(1).unwrap_or_else(|| "docs/answers".into());
    std::fs::create_dir_all(&folder)?;
    for (command, schema) in yostel_answers::schema::schemas() {
        let file = Path::new(&folder).join(format!("{}.schema.json", command.replace(' ', "-")));
        std::fs::write(file, format!("{schema:#}\n"))?;
    }
    Ok(())
}
