//! Several processes at once on one cache and one project. The accident this prevents: a half-made tree that another
//! process takes for whole.

use std::process::Stdio;

use crate::{project, publish, sandbox, small_world};

#[test]
fn sixteen_installs_at_once_on_one_empty_cache_all_succeed_and_fetch_each_archive_once() {
    let sandbox = sandbox();
    let mut needs = String::new();
    for i in 0..12 {
        let files: Vec<(String, String)> =
            (0..20).map(|f| (format!("share/{f}.txt"), format!("{i} {f}\n").repeat(50))).collect();
        let files: Vec<(&str, &str)> = files.iter().map(|(path, content)| (path.as_str(), content.as_str())).collect();
        publish(&sandbox, &format!("part{i} 1.0.0"), "", &files);
        needs.push_str(&format!("part{i} = \"^1\"\n"));
    }
    project(&sandbox, &needs, "");
    sandbox.run("console", "lock").expect(0);
    for i in 0..4 {
        sandbox.write(&format!("copy{i}/yostel.toml"), sandbox.read("console/yostel.toml"));
        sandbox.write(&format!("copy{i}/yostel.lock"), sandbox.read("console/yostel.lock"));
    }
    // Four processes a project, four projects, one cache.
    let children: Vec<_> = (0..16)
        .map(|i| {
            let mut command = sandbox.command(&format!("copy{}", i % 4), "--format json install");
            command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
        })
        .collect();
    let mut digests = Vec::new();
    let mut fetched = Vec::new();
    for child in children {
        let output = child.wait_with_output().unwrap();
        let told = String::from_utf8_lossy(&output.stdout).into_owned();
        assert!(output.status.success(), "{told}{}", String::from_utf8_lossy(&output.stderr));
        let value: serde_json::Value = serde_json::from_str(&told).unwrap();
        digests.push(value["digest"].as_str().unwrap().to_owned());
        fetched.extend(value["fetched"].as_array().unwrap().iter().map(|f| f["package"].as_str().unwrap().to_owned()));
    }
    digests.dedup();
    assert_eq!(digests.len(), 1);
    let packages = fetched.iter().collect::<std::collections::BTreeSet<_>>().len();
    assert_eq!((fetched.len(), packages), (12, 12), "each once, by whoever came first: {fetched:?}");
    sandbox.run("", "cache verify").expect(0);
    for i in 0..4 {
        sandbox.run(&format!("copy{i}"), "verify").expect(0);
    }
    assert!(!sandbox.path("cache/aside").exists(), "nothing is left aside");
    assert!(!sandbox.path("cache/fetching").exists(), "no claim is left");
}

/// The short version of `kill_installs` (docs/performance.md says how to run the long one).
#[test]
fn work_killed_at_random_moments_leaves_nothing_broken() {
    let kills = std::env::var("YOSTEL_KILLS").ok().and_then(|text| text.parse().ok()).unwrap_or(22);
    let seed = u64::from(std::process::id());
    let report = yostel_testkit::kill_at_random(env!("CARGO_BIN_EXE_yostel").as_ref(), kills, seed);
    println!("seed {seed}: {report}");
    assert_eq!(report.killed, kills, "seed {seed}");
}

#[test]
fn a_killed_install_is_made_good_by_the_next() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    for delay in 0..12 {
        let mut child =
            sandbox.command("console", "install").stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_micros(delay * 900));
        child.kill().unwrap();
        child.wait().unwrap();
        sandbox.run("console", "install").expect(0);
        sandbox.run("console", "verify").expect(0);
        sandbox.run("", "cache verify").expect(0);
        std::fs::remove_dir_all(sandbox.path("console/.yostel")).unwrap();
        std::fs::remove_dir_all(sandbox.path("cache")).unwrap();
    }
}

/// Eight needs are added and four removed at the same time; each edit is there afterwards.
#[test]
fn edits_of_one_manifest_at_the_same_time_are_all_made() {
    let sandbox = sandbox();
    let mut needs = String::new();
    for i in 0..12 {
        publish(&sandbox, &format!("p{i} 1.0.0"), "", &[]);
        if i >= 8 {
            needs.push_str(&format!("p{i} = \"^1\"\n"));
        }
    }
    project(&sandbox, &needs, "");
    let words = (0..12).map(|i| if i < 8 { format!("add p{i}") } else { format!("remove p{i}") });
    let running: Vec<_> = words.map(|words| sandbox.command("console", &words).spawn().unwrap()).collect();
    for mut child in running {
        assert!(child.wait().unwrap().success());
    }
    let manifest = sandbox.read("console/yostel.toml");
    for i in 0..12 {
        assert_eq!(manifest.contains(&format!("\np{i} = \"^1.0.0\"\n")), i < 8, "p{i}: {manifest}");
    }
}
