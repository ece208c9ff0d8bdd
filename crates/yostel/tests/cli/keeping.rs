//! `cache list` and `cache prune`: who uses what, and what goes without harm to anyone.
//! The accident this prevents: room is made, and somebody's install is broken by it.

use serde_json::Value;
use yostel_testkit::Sandbox;

use crate::{project, small_world};

/// Runs at a day, counted from the day on which everything was published.
fn on_day(sandbox: &Sandbox, day: u64, folder: &str, words: &str) -> String {
    let mut command = sandbox.command(folder, words);
    sandbox.finish(command.env("SOURCE_DATE_EPOCH", (1_790_000_000 + day * 86_400).to_string())).expect(0).stdout
}

fn releases(told: &str, list: &str) -> Vec<String> {
    let value: Value = serde_json::from_str(told).unwrap();
    let name = |entry: &Value| format!("{} {}", entry["package"].as_str().unwrap(), entry["version"].as_str().unwrap());
    value[list].as_array().unwrap().iter().map(name).collect()
}

/// A project that used gust 2.1.0 at first and uses gust 2.0.0 from day 10 on.
fn moved_on() -> Sandbox {
    let sandbox = small_world();
    on_day(&sandbox, 0, "console", "lock");
    on_day(&sandbox, 0, "console", "install");
    project(&sandbox, "gust = \"=2.0.0\"\nrig = \"^0.9\"", "");
    on_day(&sandbox, 10, "console", "lock");
    on_day(&sandbox, 10, "console", "install");
    sandbox
}

#[test]
fn the_list_says_who_brought_what_and_who_uses_it() {
    let sandbox = moved_on();
    let told = on_day(&sandbox, 12, "console", "cache list");
    let line = |start: &str| told.lines().find(|line| line.trim_start().starts_with(start)).unwrap_or(&told).to_owned();
    assert!(line("gust     2.0.0").contains("2 days ago   console"), "{told}");
    assert!(line("gust     2.1.0").contains("12 days ago  nobody"), "{told}");
    assert_eq!(on_day(&sandbox, 12, "console", "cache list gust").lines().count(), 3);
    // What is known of an archive is no part of it: it may be lost, and comes back.
    std::fs::remove_dir_all(sandbox.path("cache/notes")).unwrap();
    assert!(on_day(&sandbox, 12, "console", "cache list").contains("(archive)"));
    std::fs::remove_dir_all(sandbox.path("console/.yostel")).unwrap();
    on_day(&sandbox, 12, "console", "install");
    let told = on_day(&sandbox, 12, "console", "--format json cache list gust");
    assert_eq!(releases(&told, "entries"), ["gust 2.0.0"], "of the other nobody knows any more what it is");
}

#[test]
fn what_lay_unused_goes_and_what_a_project_uses_stays() {
    let sandbox = moved_on();
    let before = sandbox.picture("cache");
    let told = on_day(&sandbox, 40, "console", "--format json cache prune --unused-for 30d --preview");
    assert_eq!(releases(&told, "gone"), ["gust 2.1.0"]);
    assert_eq!(sandbox.picture("cache"), before, "looking removes nothing");
    let told = on_day(&sandbox, 20, "console", "cache prune --unused-for 30d");
    assert!(told.starts_with("Nothing to remove; "), "{told}");
    let told = on_day(&sandbox, 40, "console", "cache prune --unused-for 30d");
    assert!(told.starts_with("1 release removed, ") && told.contains("last used 40 days ago"), "{told}");
    sandbox.run("", "cache verify").expect(0);
    // The rest is in use, however old it is and however little may be kept.
    let told = on_day(&sandbox, 400, "console", "--format json cache prune --unused-for 1d --keep-under 0B");
    assert!(releases(&told, "gone").is_empty() && told.contains("\"still-over\": true"), "{told}");
    sandbox.run("console", "verify").expect(0);
    // A project that is gone uses nothing.
    std::fs::remove_dir_all(sandbox.path("console")).unwrap();
    let told = on_day(&sandbox, 400, "", "--format json cache prune --keep-under 0B");
    assert_eq!(releases(&told, "gone").len(), 3);
    assert!(told.contains("\"left-bytes\": 0"), "{told}");
}

#[test]
fn the_least_recently_used_go_first() {
    let sandbox = moved_on();
    std::fs::remove_dir_all(sandbox.path("console/.yostel")).unwrap();
    std::fs::rename(sandbox.path("console"), sandbox.path("elsewhere")).unwrap();
    let told = on_day(&sandbox, 12, "", "--format json cache list");
    let entries: Value = serde_json::from_str(&told).unwrap();
    let bytes = |e: &Value| e["archive-bytes"].as_u64().unwrap() + e["tree-bytes"].as_u64().unwrap();
    let all: u64 = entries["entries"].as_array().unwrap().iter().map(bytes).sum();
    let told = on_day(&sandbox, 12, "", &format!("--format json cache prune --keep-under {}B", all - 1));
    assert_eq!(releases(&told, "gone"), ["gust 2.1.0"]);
    sandbox.run("", "cache prune").expect(2).says(&["--unused-for", "--keep-under"]);
    sandbox.run("", "cache prune --keep-under 10").expect(2).says(&["10GiB"]);
    sandbox.run("", "cache prune --unused-for soon").expect(2).says(&["30d"]);
}

#[test]
fn a_prune_beside_installs_breaks_none_of_them() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    for i in 0..3 {
        for file in ["yostel.toml", "yostel.lock"] {
            sandbox.write(&format!("copy{i}/{file}"), sandbox.read(&format!("console/{file}")));
        }
    }
    let spawn = |folder: &str, words: &str| {
        let mut command = sandbox.command(folder, words);
        command.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null()).spawn().unwrap()
    };
    for _ in 0..8 {
        (0..3).for_each(|i| drop(std::fs::remove_dir_all(sandbox.path(&format!("copy{i}/.yostel")))));
        let mut children: Vec<_> = (0..3).map(|i| spawn(&format!("copy{i}"), "install")).collect();
        children.extend((0..3).map(|_| spawn("", "cache prune --keep-under 0B")));
        for mut child in children {
            assert!(child.wait().unwrap().success());
        }
        (0..3).for_each(|i| drop(sandbox.run(&format!("copy{i}"), "verify").expect(0)));
        sandbox.run("", "cache verify").expect(0);
    }
}
