//! `graph`: who needs whom as SVG, for Graphviz and as JSON, with what was found and what moved.
//! The accident this prevents: a picture written over somebody's file, and text of a package that becomes part of a page.

use serde_json::Value;

use crate::{project, publish, small_world};

#[test]
fn a_graph_tells_who_needs_whom_with_what_was_found_and_what_moved() {
    let sandbox = small_world();
    project(&sandbox, "gust = \"=2.0.0\"", "rig = \"^0.9\"");
    sandbox.run("console", "lock").expect(0);
    std::fs::copy(sandbox.path("console/yostel.lock"), sandbox.path("old.lock")).unwrap();
    project(&sandbox, "gust = \"=2.1.0\"\n\"valley/bell\" = \"^1\"", "");
    sandbox.run("console", "lock").expect(3);
    project(&sandbox, "gust = \"=2.1.0\"", "");
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "graph --since ../old.lock --format json").expect(0).stdout;
    let answer: Value = serde_json::from_str(&told).unwrap();
    let nodes: Vec<String> = answer["nodes"]
        .as_array()
        .unwrap()
        .iter()
        .map(|node| {
            let text = |key: &str| node[key].as_str().unwrap_or("-").to_owned();
            let marks: Vec<&str> = node["marks"].as_array().unwrap().iter().filter_map(Value::as_str).collect();
            let (kind, name, version) = (text("kind"), text("name"), text("version"));
            format!("{kind} {name} {version} {} {} [{}]", text("change"), text("was"), marks.join(" "))
        })
        .collect();
    assert_eq!(
        nodes,
        [
            "project console 0.4.0 - - []",
            "package gust 2.1.0 up 2.0.0 [outdated]",
            "package unit 1.1.0 other - [outdated]"
        ]
    );
    let edges: Vec<String> = answer["edges"]
        .as_array()
        .unwrap()
        .iter()
        .map(|edge| format!("{} {} {} {}", edge["from"], edge["to"], edge["accepts"][0], edge["purposes"][0]))
        .collect();
    assert_eq!(edges, ["0 1 \"=2.1.0\" \"run\"", "1 2 \"^1\" \"run\""]);
    assert_eq!(answer["gone"][0]["package"], "rig");
    let drawn = sandbox.run("console", "graph needs.svg --since ../old.lock").expect(0).stdout;
    assert_eq!(drawn, "Wrote needs.svg. console: 2 packages, 2 needs.\n  note: gone since ../old.lock: rig\n");
    let svg = sandbox.read("console/needs.svg");
    for part in ["gust 2.1.0, was 2.0.0", "moved up", "console 0.4.0 needs gust 2.1.0, =2.1.0 for run", "newer release"]
    {
        assert!(svg.contains(part), "{part}: {svg}");
    }
    // What is drawn is the same whenever and wherever it is drawn.
    let again = sandbox.run("console", "graph --since ../old.lock").expect(0);
    assert_eq!((again.stdout, again.stderr.contains("gone since")), (svg, true));
}

#[test]
fn what_is_folded_or_out_of_focus_is_said() {
    let sandbox = small_world();
    for name in ["a", "b", "c"] {
        publish(&sandbox, &format!("{name} 1.0.0"), "", &[("x", name)]);
    }
    project(&sandbox, "gust = \"^2\"\na = \"^1\"\nb = \"^1\"\nc = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    let said = |arguments: &str| sandbox.run("console", &format!("graph {arguments} --as dot")).expect(0).stderr;
    assert_eq!(said(""), "");
    assert_eq!(
        said("--fold leaves"),
        "note: 3 packages that need nothing are folded, those together that the same ask for\n"
    );
    assert_eq!(
        said("--fold projects"),
        "note: 5 packages that only one project needs are folded, project by project\n"
    );
    assert_eq!(said("--focus unit --distance 1"), "note: 4 are further away and left out\n");
    assert_eq!(
        said("--focus console --fold projects --distance 0"),
        "note: 5 are further away and left out\nnote: there is nothing to fold in this way\n"
    );
    assert!(said("--limit 3").contains("the furthest from a project, are folded"));
    let refused = sandbox.run("console", "graph --focus none-such").expect(2).stderr;
    assert!(refused.starts_with("error: none-such is not part of this project"), "{refused}");
    sandbox.run("console", "graph --limit 1").expect(2);
    sandbox.run("console", "graph --distance 3").expect(2);
}

#[test]
fn only_what_yostel_wrote_is_written_over_and_no_link_is_followed_out() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.write("console/mine.svg", "<svg/>");
    let refused = sandbox.run("console", "graph mine.svg").expect(2).stderr;
    assert_eq!(
        refused,
        "error: mine.svg is there already, and this command did not write it in this form\nnext: name another file, or remove that one first\n"
    );
    assert_eq!(sandbox.read("console/mine.svg"), "<svg/>");
    sandbox.run("console", "graph ours.svg").expect(0);
    let first = sandbox.read("console/ours.svg");
    sandbox.run("console", "graph ours.svg --focus gust").expect(0);
    assert_ne!(sandbox.read("console/ours.svg"), first);
    // What is for Graphviz is not taken for SVG.
    sandbox.run("console", "graph ours.svg --as dot").expect(2);
    std::fs::write(sandbox.path("console/blob.svg"), [0xff, 0xfe, 0]).unwrap();
    sandbox.run("console", "graph blob.svg").expect(2);
    // No picture is called what it is not.
    let refused = sandbox.run("console", "graph needs.pdf").expect(2).stderr;
    assert!(refused.starts_with("error: needs.pdf ends in none of .svg, .png, .dot and .gv\n"), "{refused}");
    assert!(!sandbox.path("console/needs.pdf").exists());
    sandbox.run("console", "graph --as png").expect(2).says(&["a PNG is not for the standard output"]);
    if !cfg!(feature = "png") {
        let refused = sandbox.run("console", "graph needs.png").expect(2);
        refused.says(&["needs.png cannot be written: this program was built without PNG", "next: write needs.svg"]);
        assert!(!sandbox.path("console/needs.png").exists());
    }
    sandbox.run("console", "graph needs --as svg").expect(0);
    sandbox.run("console", "graph none/there.svg").expect(7);
    std::os::unix::fs::symlink("../outside.svg", sandbox.path("console/link.svg")).unwrap();
    sandbox.write("outside.svg", "");
    sandbox.run("console", "graph link.svg").expect(7);
    assert_eq!(sandbox.read("outside.svg"), "");
}

#[test]
fn what_the_mask_takes_from_others_they_do_not_get() {
    use std::os::unix::fs::PermissionsExt;
    let sandbox = small_world();
    let line = "umask 077; yostel lock -q && yostel graph needs.svg -q && yostel report page.html -q";
    sandbox.finish(&mut sandbox.shell("console", line)).expect(0);
    let mode = |file: &str| std::fs::metadata(sandbox.path(file)).unwrap().permissions().mode() & 0o777;
    let files = ["console/yostel.lock", "console/needs.svg", "console/page.html"];
    assert_eq!(files.map(mode), [0o600, 0o600, 0o600]);
    // What is there keeps what it has.
    std::fs::set_permissions(sandbox.path(files[1]), PermissionsExt::from_mode(0o644)).unwrap();
    sandbox.finish(&mut sandbox.shell("console", "umask 077; yostel graph needs.svg -q")).expect(0);
    assert_eq!(mode(files[1]), 0o644);
}

#[test]
fn without_its_sources_a_graph_is_drawn_without_marks_and_says_why() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    std::fs::remove_dir_all(sandbox.path("station")).unwrap();
    let drawn = sandbox.run("console", "graph").expect(0);
    assert!(drawn.stdout.contains("gust 2.1.0"), "{}", drawn.stdout);
    for said in ["note: what an audit would find is not marked\n", "note: the sources cannot be asked: "] {
        assert!(drawn.stderr.contains(said), "{}", drawn.stderr);
    }
    assert!(!drawn.stdout.contains("station"), "{}", drawn.stdout);
}

#[test]
fn what_packages_say_is_text_in_every_picture() {
    let sandbox = small_world();
    let advisory = r#"{"schema_version": "1.7.0", "id": "X-1</title><script>", "modified": "2026-01-01T00:00:00Z",
        "summary": "]]>\u0007\u202e\"'&", "affected": [{"package": {"ecosystem": "station", "name": "unit"},
        "ranges": [{"type": "SEMVER", "events": [{"introduced": "0"}]}]}]}"#;
    sandbox.write("station/advisories/X-1.json", advisory);
    sandbox.run("console", "lock").expect(0);
    let svg = sandbox.run("console", "graph").expect(0).stdout;
    assert!(svg.contains("X-1&lt;/title&gt;&lt;script&gt;"), "{svg}");
    for bad in ["<script", "]]>", "\u{7}", "\u{202e}"] {
        assert!(!svg.contains(bad), "{bad:?}: {svg}");
    }
}
