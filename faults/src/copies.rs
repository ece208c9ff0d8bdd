//! The copy of the sources, and what is written into it.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use crate::sites::Site;

/// The file in the copy that says which fault is on.
pub(crate) const ON: &str = "fault-that-is-on";

/// The sources that faults are written into, as they were, by path from the root.
pub(crate) type Originals = BTreeMap<String, String>;

/// Makes a copy of the last commit; what another run left there is written over.
pub(crate) fn copy_to(folder: &Path) -> Result<PathBuf, String> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).parent().ok_or("there is no folder above")?;
    fs::create_dir_all(folder).map_err(|error| format!("{}: {error}", folder.display()))?;
    let crates = folder.join("crates");
    if crates.exists() {
        fs::remove_dir_all(&crates).map_err(|error| format!("{}: {error}", crates.display()))?;
    }
    let mut archive = Command::new("git")
        .args(["archive", "HEAD"])
        .current_dir(root)
        .stdout(Stdio::piped())
        .spawn()
        .map_err(|error| format!("git: {error}"))?;
    let packed = archive.stdout.take().ok_or("git has no output")?;
    // With the time of now: what has an older one than what was built counts as built.
    let unpacked = Command::new("tar").arg("-xm").current_dir(folder).stdin(packed).status();
    let is_done = |status: std::io::Result<std::process::ExitStatus>| status.is_ok_and(|status| status.success());
    let both = [is_done(unpacked), is_done(archive.wait())];
    if both.contains(&false) {
        return Err("the last commit cannot be copied with git and tar".into());
    }
    folder.canonicalize().map_err(|error| error.to_string())
}

/// Reads the sources that some faults are written into.
pub(crate) fn originals(folder: &Path, sites: &[Site]) -> Result<Originals, String> {
    let mut originals = Originals::new();
    for site in sites {
        for file in [site.file.clone(), format!("crates/yostel-{}/src/lib.rs", site.room)] {
            let text = fs::read_to_string(folder.join(&file)).map_err(|error| format!("{file}: {error}"))?;
            originals.insert(file, text);
        }
    }
    Ok(originals)
}

/// Writes the faults into the sources, all of them off.
pub(crate) fn seed(folder: &Path, originals: &Originals, sites: &[Site]) -> Result<(), String> {
    for (file, text) in originals {
        let mut text = text.clone();
        let mut here: Vec<&Site> = sites.iter().filter(|site| site.file == *file).collect();
        here.sort_by_key(|site| std::cmp::Reverse(site.at.start));
        for site in here {
            text.replace_range(site.at.clone(), &site.with);
        }
        if file.ends_with("/src/lib.rs") {
            text.push_str(&switch(&folder.join(ON)));
        }
        let path = folder.join(file);
        if fs::read_to_string(&path).ok().as_ref() != Some(&text) {
            fs::write(&path, text).map_err(|error| format!("{}: {error}", path.display()))?;
        }
    }
    Ok(())
}

/// The function that tells whether a fault is on.
fn switch(file: &Path) -> String {
    format!(
        r#"
#[doc(hidden)]
#[allow(missing_docs, clippy::all)]
pub fn fault_is_on(number: u32) -> bool {{
    static ON: std::sync::OnceLock<u32> = std::sync::OnceLock::new();
    let read = || std::fs::read_to_string({:?}).ok().and_then(|text| text.parse().ok()).unwrap_or(0);
    *ON.get_or_init(read) == number
}}
"#,
        file.display().to_string()
    )
}
