//! The edge of a rule, from both sides: faults of one step that everything else lets pass.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use yostel_testkit::{Run, Sandbox};

use crate::{folder_of, project, publish, sandbox, small_world};

/// The sandbox's day: 2026-09-21, 14:13:20.
const NOW: i64 = 1_790_000_000;

/// Runs a command at another time.
fn at(sandbox: &Sandbox, seconds: i64, folder: &str, words: &str) -> Run {
    let mut command = sandbox.command(folder, words);
    sandbox.finish(command.env("SOURCE_DATE_EPOCH", seconds.to_string()))
}

fn locks(sandbox: &Sandbox, package: &str, version: &str) -> bool {
    sandbox.read("console/yostel.lock").contains(&format!("name = \"{package}\"\nversion = \"{version}\""))
}

#[test]
fn a_day_of_minimum_age_has_24_hours() {
    let sandbox = sandbox();
    publish(&sandbox, "unit 1.0.0", "", &[]);
    sandbox.write("made/unit-1.0.0/yostel.toml", "[project]\nname = \"unit\"\nversion = \"1.1.0\"\n");
    let published = NOW + 30 * 86_400;
    at(&sandbox, published, "made/unit-1.0.0", "publish --to ../../station").expect(0);
    project(&sandbox, "unit = \"^1\"", "");
    let manifest = sandbox.read("console/yostel.toml") + "\n[policy]\nminimum-age = \"1 day\"\n";
    sandbox.write("console/yostel.toml", manifest);
    for (hours, version) in [(1, "1.0.0"), (23, "1.0.0"), (25, "1.1.0")] {
        at(&sandbox, published + hours * 3600, "console", "lock --fresh").expect(0);
        assert!(locks(&sandbox, "unit", version), "{hours} hours after");
    }
}

#[test]
fn of_a_day_and_a_minimum_age_the_earlier_counts() {
    let sandbox = sandbox();
    for (day, version) in [(0, "1.0.0"), (10, "1.1.0"), (20, "1.2.0")] {
        let text = format!("[project]\nname = \"unit\"\nversion = \"{version}\"\n");
        sandbox.write("made/unit/yostel.toml", text);
        at(&sandbox, NOW + day * 86_400, "made/unit", "publish --to ../../station").expect(0);
    }
    project(&sandbox, "unit = \"^1\"", "");
    let manifest = sandbox.read("console/yostel.toml");
    let later = NOW + 25 * 86_400;
    // Ten days' age leaves 1.1.0; the day leaves 1.0.0 where it is the earlier of the two, and 1.1.0 where it is not.
    sandbox.write("console/yostel.toml", manifest + "\n[policy]\nminimum-age = \"10 days\"\n");
    for (day, version) in [("2026-09-25", "1.0.0"), ("2026-10-15", "1.1.0")] {
        at(&sandbox, later, "console", &format!("lock --fresh --as-of {day}")).expect(0);
        assert!(locks(&sandbox, "unit", version), "{day}: {}", sandbox.read("console/yostel.lock"));
    }
}

#[test]
fn a_rule_is_due_on_the_first_day_past_its_own() {
    let sandbox = small_world();
    let manifest = sandbox.read("console/yostel.toml");
    for (until, status) in [("2026-09-20", 1), ("2026-09-21", 0), ("2026-09-22", 0)] {
        let force = format!("\n[force]\nunit = {{ version = \"1.0.0\", why = \"so\", until = {until} }}\n");
        sandbox.write("console/yostel.toml", manifest.clone() + &force);
        sandbox.run("console", "lock").expect(0);
        let told = sandbox.run("console", "audit upkeep");
        assert_eq!(told.stdout.contains("overdue"), status == 1, "{until}: {}", told.stdout);
    }
}

#[test]
fn a_withdrawn_release_is_not_told_as_one_that_is_accepted() {
    let sandbox = small_world();
    project(&sandbox, "gust = \"=2.0.0\"", "");
    sandbox.run("console", "lock").expect(0);
    project(&sandbox, "gust = \"^2\"", "");
    sandbox.run("console", "lock").expect(0);
    let accepted = || {
        let run = sandbox.run("console", "audit outdated --format json");
        let value: serde_json::Value = serde_json::from_str(&run.stdout).unwrap();
        value["outdated"].as_array().unwrap().iter().find(|one| one["package"] == "gust").unwrap()["accepted"].clone()
    };
    assert_eq!(accepted(), "2.1.0");
    sandbox.run("", "withdraw gust 2.1.0 --from station --why leaks").expect(0);
    assert_eq!(accepted(), serde_json::Value::Null);
}

#[test]
fn verify_sees_that_a_program_is_none_any_more() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install --self-contained").expect(0);
    let file = sandbox.path(&folder_of(&sandbox, "gust")).join("bin/gust-now");
    fs::set_permissions(&file, fs::Permissions::from_mode(0o444)).unwrap();
    assert!(sandbox.run("console", "verify").expect(4).stdout.contains("bin/gust-now"));
    sandbox.run("console", "verify --put-back").expect(0);
    sandbox.run("console", "run -- gust-now").expect(0);
}

#[test]
fn a_quick_install_sees_another_lockfile() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    project(&sandbox, "gust = \"=2.0.0\"", "rig = \"^0.9\"");
    sandbox.run("console", "lock").expect(0);
    assert!(!sandbox.run("console", "install --quick").expect(0).stdout.contains("nothing to do"));
    assert!(sandbox.run("console", "run -- gust-now").expect(0).stdout.starts_with("gust 2.0.0"));
}

#[test]
fn a_prune_to_exactly_what_there_is_removes_nothing() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    fs::remove_dir_all(sandbox.path("console")).unwrap();
    let stats: serde_json::Value =
        serde_json::from_str(&sandbox.run("", "cache stats --format json").expect(0).stdout).unwrap();
    let number = |key: &str| stats[key].as_u64().unwrap();
    let all = number("archive-bytes") + number("tree-bytes") - number("tree-bytes-shared");
    let trees = || fs::read_dir(sandbox.path("cache/trees")).unwrap().count();
    let before = trees();
    sandbox.run("", &format!("cache prune --keep-under {all}B")).expect(0);
    assert_eq!(trees(), before, "it is not under what it may be");
    sandbox.run("", &format!("cache prune --keep-under {}B", all - 1)).expect(0);
    assert!(trees() < before);
}

#[test]
fn damage_in_the_cache_does_not_spread_to_the_next_release_that_has_the_same_file() {
    let sandbox = sandbox();
    let table = "rows ".repeat(1000);
    publish(&sandbox, "unit 1.0.0", "", &[("share/table", &table), ("share/note", "one")]);
    project(&sandbox, "unit = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install --self-contained").expect(0);
    // Same size, same time, other content: as a bad disk, or somebody with an editor, leaves it.
    let lock = sandbox.read("console/yostel.lock");
    let tree = lock.split("tree = \"sha256:").nth(1).unwrap()[..64].to_owned();
    let cached = format!("cache/trees/{tree}/files/share/table");
    let time = fs::metadata(sandbox.path(&cached)).unwrap().modified().unwrap();
    fs::set_permissions(sandbox.path(&cached), fs::Permissions::from_mode(0o644)).unwrap();
    fs::write(sandbox.path(&cached), table.replace("rows", "ROWS")).unwrap();
    fs::set_permissions(sandbox.path(&cached), fs::Permissions::from_mode(0o444)).unwrap();
    fs::File::open(sandbox.path(&cached)).unwrap().set_modified(time).unwrap();
    publish(&sandbox, "unit 1.1.0", "", &[("share/table", &table), ("share/note", "two")]);
    sandbox.run("console", "lock --fresh").expect(0);
    sandbox.run("console", "install --self-contained").expect(0);
    assert!(locks(&sandbox, "unit", "1.1.0"));
    assert!(sandbox.read(&format!("{}/share/table", folder_of(&sandbox, "unit"))) == table);
    sandbox.run("console", "verify").expect(0);
}

#[test]
fn what_a_patch_makes_must_be_what_the_lockfile_says() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    sandbox.run("console", "alter gust").expect(0);
    sandbox.write("console/altered/gust/share/note", "new\n");
    sandbox.run("console", "alter gust --keep --why note").expect(0);
    let right = sandbox.read("console/yostel.lock");
    let made = right.split("altered = \"").nth(1).unwrap()[..71].to_owned();
    let forged = crate::sealed(&right.replace(&made, &format!("sha256:{}", "0".repeat(64))));
    assert_ne!(forged, right);
    sandbox.write("console/yostel.lock", &forged);
    fs::remove_dir_all(sandbox.path("console/.yostel")).unwrap();
    sandbox.run("console", "install").expect(4).says(&["gust"]);
    assert!(!sandbox.path("console/.yostel/packages/gust").exists());
    sandbox.write("console/yostel.lock", &right);
    sandbox.run("console", "install").expect(0);
}

#[test]
fn a_project_that_deviates_and_says_why_lifts_what_is_agreed() {
    let sandbox = small_world();
    let root = "[project]\nname = \"console\"\n[workspace]\nprojects = [\"rope\"]\n[agreed]\nunit = \"^1\"\n[sources.station]\nfolder = \"../station\"\n";
    sandbox.write("console/yostel.toml", root);
    let rope = |need: &str| {
        sandbox.write("console/rope/yostel.toml", format!("[project]\nname = \"rope\"\n[needs.run]\nunit = {need}\n"));
    };
    rope("\"agreed\"");
    sandbox.run("console", "lock").expect(0);
    assert!(locks(&sandbox, "unit", "1.1.0"));
    rope("{ accept = \"^2\", why = \"rope counts in new units\" }");
    sandbox.run("console", "lock").expect(0);
    assert!(locks(&sandbox, "unit", "2.0.0"), "{}", sandbox.read("console/yostel.lock"));
    // Also where it is in the root's own needs.
    sandbox.write("console/rope/yostel.toml", "[project]\nname = \"rope\"\n");
    let own = root.replace("[workspace]", "[needs.run]\nunit = { accept = \"^2\", why = \"new units\" }\n[workspace]");
    sandbox.write("console/yostel.toml", own);
    sandbox.run("console", "lock --fresh").expect(0);
    assert!(locks(&sandbox, "unit", "2.0.0"));
}

#[test]
fn settle_offers_no_edit_that_what_the_manifest_says_elsewhere_undoes() {
    let sandbox = sandbox();
    for (label, needs) in [
        ("unit 1.0.0", ""),
        ("unit 2.0.0", ""),
        ("gust 2.0.0", "unit = \"^1\""),
        ("gust 3.0.0", "unit = \"^2\""),
        ("cable 1.0.0", "unit = \"^2\""),
        ("cable 2.0.0", "unit = \"^1\""),
    ] {
        publish(&sandbox, label, needs, &[]);
    }
    publish(&sandbox, "old-gust 2.0.0", "", &[]);
    for (need, said) in [
        ("gust = \"agreed\"", "[agreed]\ngust = \"^2\"\n"),
        ("gust = \"^2\"", "[force]\ngust = { version = \"2.0.0\", why = \"tested\", until = 2030-01-01 }\n"),
        // Here an edit of what is needed now would leave the need that is rewritten.
        ("old-gust = \"^2\"", "[swap]\nold-gust = { use = \"gust\", why = \"old\", until = 2030-01-01 }\n"),
    ] {
        project(&sandbox, &format!("{need}\ncable = \"^1\""), "");
        let manifest = sandbox.read("console/yostel.toml") + said;
        sandbox.write("console/yostel.toml", &manifest);
        sandbox.run("console", "lock").expect(3);
        let told = sandbox.run("console", "--format json settle").expect(0).stdout;
        let document: serde_json::Value = serde_json::from_str(&told).unwrap();
        let count = document["edit-sets"].as_array().unwrap().len();
        assert!(count > 0, "{told}");
        for number in 1..=count {
            sandbox.write("console/yostel.toml", &manifest);
            fs::remove_file(sandbox.path("console/yostel.lock")).ok();
            sandbox.run("console", &format!("settle {number}")).expect(0);
            sandbox.run("console", "lock").expect(0);
            sandbox.run("console", "install").expect(0);
        }
        fs::remove_file(sandbox.path("console/yostel.lock")).ok();
    }
}

/// The accident this prevents: two folders that both claim to be one package, and the one that is built is chance.
#[test]
fn one_package_is_in_one_place_whoever_names_it() {
    let sandbox = sandbox();
    for (folder, name, needs) in
        [("mast", "mast", "rope = { path = '../rope' }"), ("rope", "rope", ""), ("twine", "rope", "")]
    {
        let manifest = format!("[project]\nname = \"{name}\"\nversion = \"1.0.0\"\n[needs.run]\n{needs}\n");
        sandbox.write(&format!("{folder}/yostel.toml"), manifest);
    }
    let with =
        |rope: &str| project(&sandbox, &format!("mast = {{ path = '../mast' }}\nrope = {{ path = '{rope}' }}"), "");
    with("../rope");
    sandbox.run("console", "lock").expect(0);
    with("../twine");
    let before = sandbox.read("console/yostel.lock");
    sandbox.run("console", "lock").expect(2).says(&["rope is taken from two places", "path ../twine", "path ../rope"]);
    assert_eq!(sandbox.read("console/yostel.lock"), before);
    // The same version in another folder is another package.
    project(&sandbox, "rope = { path = '../rope' }", "");
    sandbox.run("console", "lock").expect(0);
    project(&sandbox, "rope = { path = '../twine' }", "");
    sandbox.run("console", "install").expect(6).says(&["rope", "path ../rope", "path ../twine"]);
}

/// The accident this prevents: a platform is listed, nothing complains, and its machines miss what came along.
#[test]
fn a_platform_that_is_listed_later_makes_a_lockfile_stale_that_serves_it_only_at_first_sight() {
    let sandbox = sandbox();
    let manifest =
        |name: &str, needs: &str| format!("[project]\nname = \"{name}\"\nversion = \"1.0.0\"\n[needs.run]\n{needs}\n");
    sandbox.write("made/base/yostel.toml", manifest("base", ""));
    sandbox.run("made/base", "publish --to ../../station --platform linux/amd64").expect(0);
    publish(&sandbox, "top 1.0.0", "base = '^1'", &[]);
    let with = |platforms: &str| {
        let rest = "[sources.station]\nfolder = \"../station\"\n";
        let text = manifest("console", "top = '^1'").replace("[needs", &format!("platforms = [{platforms}]\n[needs"));
        sandbox.write("console/yostel.toml", text + rest);
    };
    with("\"linux/amd64\"");
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    with("\"linux/amd64\", \"linux/arm64\"");
    sandbox.run("console", "install").expect(6).says(&["base", "linux/arm64"]);
    sandbox.run("console", "lock").expect(3).says(&["linux/arm64"]);
}
