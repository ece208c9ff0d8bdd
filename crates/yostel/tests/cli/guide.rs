//! The pages with examples: every one of them is run, in order, so that none can rot.

use std::fs;

use crate::sandbox;

/// A fenced block: what is after the fence, and its lines.
struct Block<'a> {
    kind: &'a str,
    line: usize,
    lines: Vec<&'a str>,
}

fn blocks(page: &str) -> Vec<Block<'_>> {
    let mut blocks: Vec<Block<'_>> = Vec::new();
    let mut inside = false;
    for (number, line) in page.lines().enumerate() {
        match line.strip_prefix("```") {
            Some(kind) if !inside => {
                blocks.push(Block { kind, line: number + 1, lines: Vec::new() });
                inside = true;
            }
            Some(_) => inside = false,
            None if inside => blocks.last_mut().unwrap().lines.push(line),
            None => {}
        }
    }
    blocks
}

#[test]
fn every_example_of_the_guide_does_what_it_says() {
    let sandbox = sandbox();
    fs::remove_dir_all(sandbox.path("station")).unwrap();
    sandbox.run("", "demo --into world --only-make").expect(0);
    fs::create_dir(sandbox.path("world/tower")).unwrap();
    let commands = run_page(&sandbox, "docs/guide.md", include_str!("../../../../docs/guide.md"), "world/tower");
    assert!(commands > 20, "{commands} commands are too few for the guide");
}

#[test]
fn auditing_goes_as_its_page_says() {
    let sandbox = sandbox();
    fs::remove_dir_all(sandbox.path("station")).unwrap();
    sandbox.run("", "demo --into world --only-make").expect(0);
    fs::create_dir(sandbox.path("world/keeper")).unwrap();
    let page = include_str!("../../../../docs/auditing.md");
    let commands = run_page(&sandbox, "docs/auditing.md", page, "world/keeper");
    assert!(commands > 10, "{commands} commands are too few");
}

#[test]
fn updating_goes_as_its_page_says() {
    let sandbox = sandbox();
    fs::remove_dir_all(sandbox.path("station")).unwrap();
    sandbox.run("", "demo --into world --only-make").expect(0);
    fs::create_dir(sandbox.path("world/keeper")).unwrap();
    let page = include_str!("../../../../docs/updating.md");
    let commands = run_page(&sandbox, "docs/updating.md", page, "world/keeper");
    assert!(commands > 10, "{commands} commands are too few");
}

#[test]
fn the_first_hour_goes_as_its_page_says_in_five_commands() {
    let sandbox = sandbox();
    fs::remove_dir_all(sandbox.path("station")).unwrap();
    let page = include_str!("../../../../docs/first-hour.md");
    assert!(run_page(&sandbox, "docs/first-hour.md", page, "bakery") > 10);
    let (_, commands) = page.split_once("## Five commands").unwrap();
    let (commands, _) = commands.split_once("`yostel verify` tells").unwrap();
    assert_eq!(commands.matches("\n$ yostel ").count(), 5);
}

#[test]
fn the_job_on_one_screen_can_be_typed_as_it_stands() {
    let sandbox = sandbox();
    fs::remove_dir_all(sandbox.path("station")).unwrap();
    sandbox.run("", "demo --into world --only-make").expect(0);
    fs::create_dir(sandbox.path("world/tower")).unwrap();
    let page = include_str!("../../../../README.md");
    let blocks = blocks(page);
    let kinds: Vec<&str> = blocks.iter().map(|block| block.kind).collect();
    assert_eq!(kinds, ["sh", "sh", "toml"]);
    for line in &blocks[1].lines {
        let command = line.split(" # ").next().unwrap().trim();
        let run = sandbox.finish(&mut sandbox.shell("world/tower", command));
        // The newest is not compatible, so the audit has a finding.
        let status = i32::from(command == "yostel audit");
        assert_eq!(run.status, status, "{command}\n{}{}", run.stdout, run.stderr);
    }
    sandbox.write("world/other/yostel.toml", blocks[2].lines.join("\n"));
    sandbox.run("world/other", "lock").expect(0);
    sandbox.run("world/other", "install").expect(0);
}

/// Runs the examples of a page from top to bottom, in a folder or, `in` one, below it; returns how many commands that were.
fn run_page(sandbox: &yostel_testkit::Sandbox, name: &str, page: &str, folder: &str) -> usize {
    let mut commands = 0;
    for block in blocks(page) {
        if block.kind == "toml append" {
            let manifest = sandbox.read(&format!("{folder}/yostel.toml"));
            sandbox.write(&format!("{folder}/yostel.toml"), format!("{manifest}\n{}\n", block.lines.join("\n")));
            continue;
        }
        let inside = block.kind.strip_prefix("console").unwrap_or_else(|| {
            panic!("{name}:{}: `{}` is no kind of example", block.line, block.kind);
        });
        let folder =
            inside.strip_prefix(" in ").map_or_else(|| folder.to_owned(), |inside| format!("{folder}/{inside}"));
        fs::create_dir_all(sandbox.path(&folder)).unwrap();
        let starts: Vec<usize> = (0..block.lines.len()).filter(|at| block.lines[*at].starts_with("$ ")).collect();
        for (number, &start) in starts.iter().enumerate() {
            let end = starts.get(number + 1).copied().unwrap_or(block.lines.len());
            let at = format!("{name}:{}", block.line + 1 + start);
            run_one(sandbox, &folder, &at, &block.lines[start][2..], &block.lines[start + 1..end]);
            commands += 1;
        }
    }
    commands
}

/// Runs a command and compares all that it says, but for what `…` stands for.
fn run_one(sandbox: &yostel_testkit::Sandbox, folder: &str, at: &str, command: &str, expected: &[&str]) {
    let run = sandbox.finish(&mut sandbox.shell(folder, command));
    let said = format!("{}{}", run.stdout, run.stderr);
    let status = match expected.last().and_then(|line| line.strip_prefix("[status ")?.strip_suffix(']')) {
        Some(status) => status.parse().unwrap(),
        None => 0,
    };
    assert_eq!(run.status, status, "{at}: {command}\n{said}");
    let mut said_lines = said.lines();
    let mut skipping = false;
    for line in expected.iter().filter(|line| !line.starts_with("[status ")) {
        if *line == "…" {
            skipping = true;
            continue;
        }
        let found =
            if skipping { said_lines.find(|said| said == line) } else { said_lines.next().filter(|said| said == line) };
        assert!(found.is_some(), "{at}: `{line}` is not in its place in\n{said}");
        skipping = false;
    }
    let rest = said_lines.next();
    assert!(skipping || rest.is_none(), "{at}: it also says `{}`", rest.unwrap_or_default());
}
