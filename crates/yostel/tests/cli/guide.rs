//! The guide: every example in it is run, in order, so that none can rot.

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
    let page = include_str!("../../../../docs/guide.md");
    let mut commands = 0;
    for block in blocks(page) {
        match block.kind {
            "toml append" => {
                let manifest = sandbox.read("world/tower/yostel.toml");
                sandbox.write("world/tower/yostel.toml", format!("{manifest}\n{}\n", block.lines.join("\n")));
            }
            "console" => {
                let starts: Vec<usize> =
                    (0..block.lines.len()).filter(|at| block.lines[*at].starts_with("$ ")).collect();
                for (number, &start) in starts.iter().enumerate() {
                    let end = starts.get(number + 1).copied().unwrap_or(block.lines.len());
                    let at = format!("docs/guide.md:{}", block.line + 1 + start);
                    run_one(&sandbox, &at, &block.lines[start][2..], &block.lines[start + 1..end]);
                    commands += 1;
                }
            }
            other => panic!("docs/guide.md:{}: `{other}` is no kind of example", block.line),
        }
    }
    assert!(commands > 20, "{commands} commands are too few for the guide");
}

/// Runs a command and compares all that it says, but for what `…` stands for.
fn run_one(sandbox: &yostel_testkit::Sandbox, at: &str, command: &str, expected: &[&str]) {
    let run = sandbox.finish(&mut sandbox.shell("world/tower", command));
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
