//! The built program, run on files in a temporary folder: wiring, wording, exit statuses, and that a refusal leaves
//! everything as it was.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod advising;
mod altering;
mod answering;
mod attacked;
mod blaming;
mod branches;
mod checking;
mod collisions;
mod comparing;
mod copying;
mod deciding;
mod declaring;
mod demo;
mod dismissing;
mod drawing;
mod drifting;
mod edges;
mod elsewhere;
mod exporting;
mod first_hour;
mod foreseeing;
mod giving;
mod guide;
mod hostile;
mod importing;
mod installing;
mod keeping;
mod levels;
mod licensing;
mod lines;
mod locking;
mod looking;
mod machines;
mod many;
mod mentioning;
mod merging;
mod noticing;
mod overriding;
mod pages;
mod pipelines;
mod proposing;
mod publishing;
mod refusals;
mod refusing;
mod registries;
mod reporting;
mod settling;
mod sources;
mod speaking;
mod stopping;
mod together;
mod undoing;
mod updating;
mod webs;
mod workspaces;

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::process::Command;

use yostel_testkit::Sandbox;

/// Makes a sandbox with an empty registry in `station`.
fn sandbox() -> Sandbox {
    let sandbox = Sandbox::new(env!("CARGO_BIN_EXE_yostel")).judged_by(answering::is_as_its_schema_says);
    fs::create_dir_all(sandbox.path("home")).unwrap();
    sandbox.run("", "registry create station").expect(0);
    sandbox
}

/// Publishes a package: `name version`, the lines of its `[needs.run]`, and the files it has.
fn publish(sandbox: &Sandbox, label: &str, needs: &str, files: &[(&str, &str)]) {
    let (name, version) = label.split_once(' ').unwrap();
    let folder = format!("made/{}-{version}", name.replace('/', "+"));
    let manifest = format!(
        "[project]\nname = \"{name}\"\nversion = \"{version}\"\n[needs.run]\n{needs}\n[offers]\nprograms = [\"bin\"]\n"
    );
    sandbox.write(&format!("{folder}/yostel.toml"), manifest);
    for (path, content) in files {
        sandbox.write(&format!("{folder}/{path}"), content);
        if path.starts_with("bin/") {
            fs::set_permissions(sandbox.path(&format!("{folder}/{path}")), fs::Permissions::from_mode(0o755)).unwrap();
        }
    }
    // Worlds are made in any order, and some of what nobody can resolve.
    sandbox.run(&folder, "publish --to ../../station --untried --backport").expect(0);
}

/// Publishes the package in a folder with another licence than its manifest has: one that no publisher of ours lets pass, and
/// that a registry may have all the same, since others write it.
fn publish_with_licence(sandbox: &Sandbox, folder: &str, licence: &str) {
    sandbox.run(folder, "publish --to ../../station").expect(0);
    let name = sandbox.read(&format!("{folder}/yostel.toml"));
    let name = name.split('"').nth(1).unwrap();
    let file = format!("station/releases/{name}.json");
    let told = sandbox.read(&file);
    assert!(told.contains("\"LicenseRef-any\""), "{told}");
    sandbox.write(&file, told.replace("\"LicenseRef-any\"", &format!("\"{licence}\"")));
}

/// A small world: a project that needs `gust ^2` and, for tests, `rig`; both need `unit ^1`.
fn small_world() -> Sandbox {
    let sandbox = sandbox();
    for version in ["1.0.0", "1.1.0", "2.0.0"] {
        publish(&sandbox, &format!("unit {version}"), "", &[("share/unit.txt", version)]);
    }
    for version in ["2.0.0", "2.1.0"] {
        let script = format!("#!/bin/sh\necho gust {version} \"$@\"\n");
        publish(&sandbox, &format!("gust {version}"), "unit = '^1'", &[("bin/gust-now", &script)]);
    }
    publish(&sandbox, "gust 3.0.0", "unit = '^2'", &[("bin/gust-now", "#!/bin/sh\necho gust 3\n")]);
    publish(&sandbox, "rig 0.9.0", "unit = '^1'", &[("share/a", "a"), ("share/deep/b", "b")]);
    publish(&sandbox, "valley/bell 1.0.0", "unit = '>=2'", &[]);
    project(&sandbox, "gust = \"^2\"", "rig = \"^0.9\"");
    sandbox
}

/// Writes the project's manifest with these needs.
fn project(sandbox: &Sandbox, run: &str, test: &str) {
    let text = format!(
        "[project]\nname = \"console\"\nversion = \"0.4.0\"\n\n[needs.run]\n{run}\n\n[needs.test]\n{test}\n\n\
         [sources.station]\nfolder = \"../station\"\n"
    );
    sandbox.write("console/yostel.toml", text);
}

/// Computes the seal of a lockfile anew, as anybody can.
fn sealed(lockfile: &str) -> String {
    let (head, body) = lockfile.split_once("\nseal = ").unwrap();
    let (_, body) = body.split_once('\n').unwrap();
    format!("{head}\nseal = \"{}\"\n{body}", yostel_documents::Seal::of(body.as_bytes()))
}

/// Tells whether the cache holds nothing but what commands changed.
fn nothing_in_cache(sandbox: &Sandbox) -> bool {
    let entries = fs::read_dir(sandbox.path("cache")).into_iter().flatten().flatten();
    entries.into_iter().all(|entry| entry.file_name() == "journal")
}

/// Makes a file writable and replaces its content, as somebody who debugs would.
fn tamper(sandbox: &Sandbox, relative: &str, content: &str) {
    let path = sandbox.path(relative);
    fs::set_permissions(&path, fs::Permissions::from_mode(0o755)).unwrap();
    fs::write(path, content).unwrap();
}

/// Returns where a package is installed, relative to the sandbox.
fn folder_of(sandbox: &Sandbox, package: &str) -> String {
    let told = sandbox.run("console", &format!("where {package}")).expect(0).stdout;
    told.trim_end().strip_prefix("[SANDBOX]/").unwrap().to_owned()
}

/// Returns the digest line of an install or verify.
fn digest_of(stdout: &str) -> String {
    stdout.lines().find(|line| line.starts_with("  digest sha256:")).unwrap().to_owned()
}

/// Runs git in a folder of the sandbox, untouched by any configuration; returns what it printed.
fn git(sandbox: &Sandbox, folder: &str, words: &[&str]) -> String {
    let mut command = Command::new("git");
    command.args(words).current_dir(sandbox.path(folder)).env("GIT_CONFIG_GLOBAL", "/dev/null");
    for (name, value) in [("NAME", "Ida"), ("EMAIL", "ida@ropeway.example"), ("DATE", "2026-01-02T03:04:05Z")] {
        command.env(format!("GIT_AUTHOR_{name}"), value).env(format!("GIT_COMMITTER_{name}"), value);
    }
    let output = command.env("GIT_CONFIG_NOSYSTEM", "1").output().expect("these tests need the program git");
    assert!(output.status.success(), "git {words:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).trim().to_owned()
}
