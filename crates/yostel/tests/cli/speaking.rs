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
    sandbox.run("", "locck").expect(2).says(&["lock"]);
    sandbox.run("", "add").expect(2).says(&["<PACKAGE>"]);
    sandbox.run("", "install --offlin").expect(2).says(&["--offline"]);
    sandbox.run("", "").expect(2);
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
