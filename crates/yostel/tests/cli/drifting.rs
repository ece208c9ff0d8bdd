//! `drift`: how far behind a project was at each commit of its lockfile, as of that commit's date.
//! The accident this prevents: those who wait for years, and pay with one huge step, because nobody saw it grow.

use serde_json::Value;
use yostel_testkit::Sandbox;

use crate::{project, publish, sandbox, small_world};

/// The made-up world, whose `line-watch` has two years of history.
fn demo() -> Sandbox {
    let sandbox = sandbox();
    sandbox.run("", "demo --into world --only-make --quiet").expect(0);
    sandbox
}

fn told(sandbox: &Sandbox, folder: &str) -> Value {
    serde_json::from_str(&sandbox.run(folder, "drift --format json").expect(0).stdout).unwrap()
}

fn git(sandbox: &Sandbox, line: &str) {
    let git = "git -c user.name=t -c user.email=t@example.org";
    sandbox.finish(&mut sandbox.shell("console", &line.replace("git ", &format!("{git} ")))).expect(0);
}

#[test]
fn the_figures_of_three_dates_are_those_of_the_calendar() {
    let sandbox = demo();
    let answer = told(&sandbox, "world/line-watch");
    // Days between the locked and the newest release of that day, by demo/history.toml and demo/line-watch.toml:
    let by_hand = [
        // gust-model 2.0.0 (2024-03-01), 2.1.0 (2024-10-14)
        ("2024-12-02", 227, 1, 0),
        // cable-tension 2.9.0 (2024-05-17), 3.0.0 (2025-02-25)
        ("2025-03-20", 284, 1, 1),
        // cable-tension 3.2.0 and 3.2.5, grip-watch 1.1.0 and 1.2.0, plain-logger 2.0.0 and 2.1.0, tower-clock 1.1.0 and 1.2.0
        ("2026-02-16", 119 + 312 + 255 + 448, 4, 0),
    ];
    let points = answer["points"].as_array().unwrap();
    for (date, days, releases, lines) in by_hand {
        let point = points.iter().find(|point| point["at"].as_str().unwrap().starts_with(date)).unwrap();
        let years = (f64::from(days) / 365.25 * 1000.0).round() / 1000.0;
        let is =
            (point["years"].as_f64().unwrap(), point["releases"].as_u64().unwrap(), point["lines"].as_u64().unwrap());
        assert_eq!(is, (years, releases, lines), "{date}: {point}");
    }
    // The advisory on gust-model was published between two commits, and the curve knows.
    let advisories = |of: &Value| of["advisories"].as_u64().unwrap();
    assert_eq!((advisories(&points[5]), advisories(&points[6])), (0, 1));
    let curve = answer["curve"].as_array().unwrap();
    assert_eq!((curve.len(), advisories(&curve[0]), advisories(&curve[59])), (60, 0, 1));
    assert_eq!(points.last().unwrap()["commit"], Value::Null);
    let csv = sandbox.run("world/line-watch", "drift --format csv").expect(0).stdout;
    let rows: Vec<&str> = csv.split("\r\n").collect();
    assert_eq!(rows[0], "at,commit,packages,unknown,years,releases,lines,advisories");
    assert_eq!(rows.len(), points.len() + 2);
    assert!(rows[3].starts_with("2025-03-20T09:00:00Z,") && rows[3].ends_with(",8,0,0.778,1,1,0"), "{}", rows[3]);
}

#[test]
fn without_a_past_today_is_told_and_why_there_is_no_more() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let said = |sandbox: &Sandbox| sandbox.run("console", "drift").expect(0).stdout;
    assert!(
        said(&sandbox).contains("note: there is no history to tell of: the project is in no git repository\n"),
        "{}",
        said(&sandbox)
    );
    git(&sandbox, "git init -q -b main");
    assert!(
        said(&sandbox).contains("there is no history to tell of: yostel.lock is in no commit"),
        "{}",
        said(&sandbox)
    );
    // Behind by one release that another line has.
    assert!(
        said(&sandbox).starts_with("3 packages: 0.0 years, 2 releases and 2 compatible lines behind; 0 advisories.\n")
    );
}

#[test]
fn a_past_with_forged_dates_broken_lockfiles_and_its_beginning_cut_off_is_told_as_far_as_it_goes() {
    let sandbox = small_world();
    project(&sandbox, "gust = \"=2.0.0\"", "");
    sandbox.run("console", "lock").expect(0);
    git(
        &sandbox,
        "git init -q -b main && git add yostel.lock && GIT_COMMITTER_DATE='2026-01-01 00:00' git commit -qm first",
    );
    git(&sandbox, "cp yostel.lock kept && echo broken > yostel.lock && git commit -qam second && cp kept yostel.lock");
    git(
        &sandbox,
        "GIT_COMMITTER_DATE='@99999999999 +0000' git commit -qam 'of the future' && git rm -q yostel.lock && git commit -qm gone && cp kept yostel.lock",
    );
    // Another's program is not run, and nobody's paint is in the way.
    git(
        &sandbox,
        "printf '[log]\\n\\tshowSignature = true\\n[color]\\n\\tui = always\\n[diff \"yostel\"]\\n\\ttextconv = touch ran\\n' >> .git/config; echo 'yostel.lock diff=yostel' > .gitattributes",
    );
    let answer = told(&sandbox, "console");
    assert_eq!((answer["unreadable"].as_u64(), answer["points"].as_array().unwrap().len()), (Some(2), 2), "{answer}");
    assert!(!sandbox.path("console/ran").exists());
    let words = sandbox.run("console", "drift").expect(0).stdout;
    assert!(
        words.contains("2 earlier lockfiles cannot be read or are dated later than now, and are left out"),
        "{words}"
    );
    let clone = "git clone -q --depth 1 \"file://$PWD\" ../shallow && cp yostel.toml yostel.lock ../shallow/";
    sandbox.finish(&mut sandbox.shell("console", clone)).expect(0);
    let words = sandbox.run("shallow", "drift").expect(0).stdout;
    assert!(words.contains("only a part of git's history is here"), "{words}");
}

#[test]
fn what_no_source_has_any_more_does_not_count_and_is_said() {
    let sandbox = small_world();
    publish(&sandbox, "old 1.0.0", "", &[("a", "a")]);
    project(&sandbox, "old = \"^1\"\ngust = \"^2\"", "");
    sandbox.run("console", "lock").expect(0);
    std::fs::remove_file(sandbox.path("station/releases/old.json")).unwrap();
    let words = sandbox.run("console", "drift").expect(0).stdout;
    assert!(words.contains("1 locked release that no source has any more"), "{words}");
}
