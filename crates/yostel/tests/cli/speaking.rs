//! Help, colours, quiet and the page of errors.

use crate::{sandbox, small_world};

#[test]
fn help_is_grouped_and_fits_a_screen() {
    let sandbox = sandbox();
    let help = sandbox.run("", "--help").expect(0).stdout;
    let masked = help.replace("[SANDBOX]", "");
    insta::assert_snapshot!(masked);
}

#[test]
fn every_command_has_help_of_its_own() {
    let sandbox = sandbox();
    let mut all = String::new();
    for command in [
        "init", "add", "remove", "lock", "settle", "explain", "install", "verify", "run", "env", "where", "list",
        "tree", "audit", "cache", "publish", "withdraw", "registry", "demo",
    ] {
        let help = sandbox.run("", &format!("{command} -h")).expect(0).stdout;
        let own: Vec<&str> = help.lines().take_while(|line| !line.contains("-C, --folder")).collect();
        all.push_str(&format!("{}\n\n", own.join("\n").trim_end()));
    }
    insta::assert_snapshot!(all);
}

#[test]
fn wrong_usage_ends_with_2_and_says_what_would_do() {
    let sandbox = sandbox();
    for (words, headline, next) in [
        ("locck", "there is no command `yostel locck`", "yostel lock --help, if that is the one"),
        ("cache stat", "there is no command `yostel cache stat`", "yostel cache stats --help, if that is the one"),
        ("lock --bogus", "`yostel lock` has no option --bogus", "yostel lock --help, to see what it takes"),
        ("install --offlin", "`yostel install` has no option --offlin", "write --offline, if that is the one"),
        ("add", "PACKAGE is missing", "yostel add <PACKAGE [CONSTRAINT]>..."),
        ("run", "COMMAND is missing", "yostel run COMMAND"),
        ("list more", "`more` is one argument too many", "yostel list --help, to see what it takes"),
        ("lock --take newst", "--take cannot be `newst`", "write newest, if that is the one"),
        ("lock --take middle", "--take cannot be `middle`", "the values are newest and oldest"),
        ("install --for", "--for needs a value", "yostel install --help, to see what it takes"),
        ("settle x", "NUMBER cannot be `x`: it is not a whole number", "yostel settle --help, to see what it takes"),
        ("add UPPER", "PACKAGE cannot be `UPPER`: names are lower-case", "yostel add --help, to see what it takes"),
        ("list -q -v", "--quiet does not go with --verbose", "leave one of them out"),
        ("lock -v", "`yostel lock` has no option -v", "yostel lock --help, to see what it takes"),
    ] {
        sandbox.run("", words).expect(2).says(&[&format!("error: {headline}"), &format!("next: {next}")]);
        for front in ["--format json", "--format=json"] {
            let told = sandbox.run("", &format!("{front} {words}")).expect(2);
            let document: serde_json::Value = serde_json::from_str(&told.stdout).unwrap();
            assert_eq!((&document["exit"], &document["errors"][0]["code"]), (&2.into(), &"usage".into()), "{words}");
            assert!(document["errors"][0]["headline"].as_str().unwrap().starts_with(headline), "{document}");
            let first = &document["errors"][0]["next"][0];
            let parts = ["command", "purpose", "says"].iter().filter_map(|name| first[name].as_str());
            assert_eq!((parts.collect::<Vec<_>>().join(", "), told.stderr.as_str()), (next.to_owned(), ""), "{words}");
        }
        // What is offered as a command can be run.
        if let Some(command) = next.strip_prefix("yostel ").and_then(|next| next.strip_suffix(", to see what it takes"))
        {
            sandbox.run("", command).expect(0);
        }
    }
    sandbox.run("", "").expect(2).says(&["`yostel` needs a command"]);
    let alone = std::process::Command::new(env!("CARGO_BIN_EXE_yostel")).output().unwrap();
    assert!(String::from_utf8(alone.stderr).unwrap().contains("The first steps"));
    assert!(sandbox.run("", "--format json").expect(2).stdout.contains("`yostel` needs a command"));
    assert!(!sandbox.run("", "run -- --format json").stdout.starts_with('{'), "what is run has its own options");
}

#[test]
fn colour_is_for_terminals_and_on_demand_and_never_where_refused() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let coloured = |words: &str| sandbox.run("console", words).stdout.contains('\u{1b}');
    assert!(!coloured("tree"), "a pipe is no terminal");
    assert!(coloured("--color always tree"));
    assert!(!coloured("--color never tree"));
    let mut command = sandbox.command("console", "tree");
    command.env("NO_COLOR", "1").env("CLICOLOR_FORCE", "0");
    assert!(!sandbox.finish(&mut command).stdout.contains('\u{1b}'));
}

#[test]
fn quiet_says_nothing_where_all_is_well() {
    let sandbox = small_world();
    for command in ["lock", "install", "verify", "add unit ^1", "remove unit"] {
        let run = sandbox.run("console", &format!("--quiet {command}")).expect(0);
        assert_eq!((run.stdout.as_str(), run.stderr.as_str()), ("", ""), "{command}");
    }
    assert!(!sandbox.run("console", "--quiet list").expect(0).stdout.is_empty());
    sandbox.run("console", "--quiet where nothing").expect(2).says(&["error:"]);
}

#[test]
fn a_closed_pipe_ends_quietly() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let inner = sandbox.command("console", "");
    let mut command = std::process::Command::new("sh");
    command.args(["-c", "\"$0\" list | true; \"$0\" --format json list | head -c 1 >/dev/null; echo fine"]);
    command.arg(inner.get_program()).current_dir(sandbox.path("console"));
    let run = sandbox.finish(&mut command).expect(0);
    assert_eq!((run.stdout.as_str(), run.stderr.as_str()), ("fine\n", ""));
}

/// What is asked for is told with `--quiet` too, and nothing beside it; what was done is not. Each with whether something
/// is told.
const QUIET: [(&str, bool); 24] = [
    ("lock --preview", true),
    ("lock", false),
    ("install", false),
    ("install", false),
    ("verify", false),
    ("verify --lock", false),
    ("list", true),
    ("tree", true),
    ("audit", true),
    ("audit upkeep", false),
    ("explain gust", true),
    ("explain gust --releases", true),
    ("explain gust --instead 3.0.0", true),
    ("sources", true),
    ("where gust", true),
    ("env", true),
    ("cache list", true),
    ("cache stats", true),
    ("cache verify", false),
    ("cache prune --unused-for 1d --preview", true),
    ("registry list station", true),
    ("publish --to station --preview", true),
    ("add unit ^1", false),
    ("remove unit", false),
];

#[test]
fn quiet_tells_what_was_asked_for_and_nothing_beside_it() {
    let sandbox = small_world();
    for (words, tells) in QUIET {
        let told = sandbox.run("console", &format!("{words} --quiet"));
        let (out, err) = (&told.stdout, &told.stderr);
        assert_eq!((!out.is_empty(), err.as_str()), (tells, ""), "{words}: {out}");
        assert!(!out.contains("note:") && !out.contains("next:"), "{words}: {out}");
    }
    // That something is beside it otherwise, and that a collision is told all the same.
    assert!(sandbox.run("console", "explain gust").stdout.contains("next:"));
    sandbox.run("console", "add gust ^3 --quiet").expect(0);
    let told = sandbox.run("console", "list --quiet").expect(0);
    assert_eq!(told.stderr, "", "not even that the lockfile does not fit");
    sandbox.run("console", "lock --quiet").expect(3).says(&["cannot be met together", "next: yostel settle"]);
    let told = sandbox.run("console", "settle --quiet").expect(0).stdout;
    assert!(told.contains("  1 ") && !told.contains("next:"), "{told}");
}

#[test]
fn verbose_is_offered_where_it_says_more_and_nowhere_else() {
    let sandbox = small_world();
    crate::publish(&sandbox, "bolt 1.0.0", "unit = '^1'", &[("a", "a")]);
    crate::project(&sandbox, "gust = \"^2\"\nrig = \"^0.9\"\nbolt = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    for (words, status, says) in [
        ("install", 0, "fetched bolt 1.0.0, "),
        ("list", 0, "bolt 1.0.0, gust 2.1.0, rig 0.9.0"),
        ("audit", 1, "bolt 1.0.0 (^1), gust 2.1.0 (^1), rig 0.9.0 (^1)"),
    ] {
        let told = sandbox.run("console", &format!("{words} -v")).expect(status).stdout;
        assert!(told.contains(says), "{told}");
        let told = sandbox.run("console", words).expect(status).stdout;
        assert!(!told.contains(says), "{told}");
    }
    let offers =
        |words: &str| sandbox.run("console", &format!("{words} --help")).expect(0).stdout.contains("--verbose");
    let offering: Vec<&str> = ["lock", "install", "verify", "list", "tree", "audit", "explain", "settle", "cache list"]
        .into_iter()
        .filter(|words| offers(words))
        .collect();
    assert_eq!(offering, ["install", "list", "audit"]);
}

/// What goes to standard output, what goes to standard error, tables with spare columns and without, and sentences.
const WIDE: [&str; 12] = [
    "list",
    "audit",
    "compare ../old.lock",
    "tree --up unit",
    "cache list",
    "sources",
    "registry list station",
    "explain unit",
    "explain gust --releases",
    "verify",
    "lock",
    "settle",
];

#[test]
fn on_a_terminal_nothing_is_wider_than_it_but_what_is_to_be_copied() {
    let sandbox = small_world();
    for version in ["1.0.0", "1.1.0"] {
        crate::publish(&sandbox, &format!("valley/upper/cable-tension {version}"), "unit = '^1'", &[("share/a", "a")]);
    }
    sandbox.run("console", "lock").expect(0);
    sandbox.write("old.lock", sandbox.read("console/yostel.lock"));
    // The same files under another name, of a release that is withdrawn.
    crate::publish(&sandbox, "valley/upper/cable-tension-again 1.0.0", "unit = '^1'", &[("share/a", "a")]);
    let needs =
        "gust = \"^2\"\n\"valley/upper/cable-tension\" = \"=1.0.0\"\n\"valley/upper/cable-tension-again\" = \"*\"";
    crate::project(&sandbox, needs, "");
    sandbox.run("console", "lock").expect(0);
    sandbox.run("", "withdraw --from station valley/upper/cable-tension-again 1.0.0 --why rounds").expect(0);
    sandbox.run("console", "install").expect(0);
    // From here on the lockfile does not fit, and needs collide.
    crate::project(&sandbox, "gust = \"^3\"\n\"valley/upper/cable-tension\" = \"^1\"", "");
    let mut wrong = Vec::new();
    for words in WIDE {
        let wide = sandbox.on_terminal("console", words, 200);
        let narrow = sandbox.on_terminal("console", words, 60);
        let is_copied = |line: &&str| line.starts_with("next: ") || line.starts_with("  or: ");
        let lines = narrow.lines().filter(|line| !is_copied(line) && !line.contains("digest sha256:"));
        wrong.extend(lines.filter(|line| line.chars().count() > 60).map(|line| format!("{words}: {line}")));
        // Nothing is cut: what is not told in its column is named.
        let missing: Vec<&str> = wide.split_whitespace().filter(|word| !narrow.contains(word)).collect();
        assert!(missing.is_empty() || narrow.contains("no room here for "), "{words}: {missing:?}\n{narrow}");
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert!(sandbox.on_terminal("console", "cache list", 60).contains("  no room here for PACKED, BROUGHT BY;"));
}
