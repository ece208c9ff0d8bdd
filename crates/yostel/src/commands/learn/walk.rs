//! The demo: makes the made-up world in a folder and walks through the job in it.
//!
//! Every step is a command as one would type it, run for real by a shell in which `yostel` is this very program; what is
//! printed is what it printed. A step that does not end as it says it will ends the demo with an error.

use std::fs;
use std::io::Write;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use std::process::Command;

use yostel_answers::{Code, Diagnostic, Suggestion};
use yostel_files::FileError;
use yostel_flows::FlowError;

use super::past::make_past;
use super::world::make_world;
use crate::answer::Answer;
use crate::answer::failure_of;
use crate::call::Call;
use crate::exit::Exit;
use crate::render::{Role, count, next_step, paint};
use crate::sanitise::shown;

/// One step of the walk.
struct Step {
    /// What it is about; starts a new paragraph when not empty.
    title: &'static str,
    /// The folder in which it is typed.
    folder: &'static str,
    /// The command, as typed.
    command: &'static str,
    /// How it must end.
    status: i32,
    /// What its output must say.
    says: &'static [&'static str],
}

const fn step(title: &'static str, command: &'static str, status: i32, says: &'static [&'static str]) -> Step {
    Step { title, folder: "console", command, status, says }
}

/// A step in the workspace.
const fn there(title: &'static str, command: &'static str, status: i32, says: &'static [&'static str]) -> Step {
    Step { title, folder: "ropeway", command, status, says }
}

const WALK: &[Step] = &[
    step(
        "A registry is a folder of plain files",
        "yostel registry list ../station",
        0,
        &["20 packages, 67 releases", "1 withdrawn"],
    ),
    step("The project declares what it needs", "cat yostel.toml", 0, &["gust-model"]),
    step(
        "Add a need, and see which releases it accepts",
        "yostel add ice-sensor '>=1'",
        0,
        &["nothing bounds it from above"],
    ),
    step("", "yostel add ice-sensor '^1'", 0, &["Changed ice-sensor from >=1 to ^1"]),
    step(
        "Two packages would do one job: they never get in together unseen",
        "yostel lock",
        3,
        &["old-logger and plain-logger both fill the role logger"],
    ),
    step(
        "What would end that, each proved by resolving it",
        "yostel settle",
        0,
        &["allow several packages in the role logger", "have plain-logger ^2.1.0 stand in for old-logger"],
    ),
    step(
        "",
        r#"printf '\n[swap]\nold-logger = { use = "plain-logger", accept = "^2", why = "no longer maintained", until = 2027-06-30 }\n' >> yostel.toml"#,
        0,
        &[],
    ),
    step(
        "Lock: one consistent set, with digests, and why each is there",
        "yostel lock",
        0,
        &[
            "Locked 18 packages",
            "cable-tension",
            "3.2.7",
            "ice-sensor 1.1.1 needs old-logger ^0.9 and gets plain-logger 2.1.0",
        ],
    ),
    step("", "yostel tree --depth 2", 0, &["gust-model 2.2.0"]),
    step("Install exactly that", "yostel install", 0, &["18 fetched", "digest sha256:"]),
    step("", "yostel install", 0, &["nothing to do"]),
    step("Run the control room with its packages", "yostel run -- ./control-room", 0, &["60 km/h expected", "quiet"]),
    step(
        "Change the manifest: the lock still satisfies it, so nothing moves by itself",
        "yostel add gust-model '>=2.1, <3'",
        0,
        &["Changed gust-model"],
    ),
    step("", "yostel lock", 0, &["no version changed", "with yostel update it would be 2.2.1"]),
    step("Take what is newer: each move is told", "yostel update", 0, &["gust-model", "2.2.0 -> 2.2.1"]),
    step("", "yostel install", 0, &["1 fetched", "17 already there"]),
    step(
        "A patch changed behaviour: now the alarm rings",
        "yostel run -- ./control-room",
        0,
        &["62 km/h expected", "RINGING"],
    ),
    step(
        "Back to before the last command that wrote something, and forward again",
        "yostel undo && yostel install --quiet && yostel run -- ./control-room",
        0,
        &["Undid yostel update", "60 km/h expected", "quiet"],
    ),
    step("", "yostel undo --redo && yostel install --quiet", 0, &["Did again yostel update"]),
    step("What is outdated, and what is duplicated", "yostel audit", 1, &["HELD BACK BY", "valley-chart"]),
    step("Two needs collide through a third package", "yostel add grip-watch '^2'", 0, &[]),
    step("", "yostel lock", 3, &["cannot be met together", "1.x and 2.x of frame-codec are not compatible"]),
    step("", "yostel install", 6, &["no longer fits"]),
    step(
        "The smallest edits that end it, each proved by resolving it; what was written last gives way last",
        "yostel settle",
        0,
        &["allow incompatible versions of frame-codec", "remove cable-tension", "change grip-watch from ^2 to ^1.2.0"],
    ),
    step(
        "One need stays as it is, and the edit that gives way elsewhere is applied",
        "yostel settle --keep cable-tension 2",
        0,
        &["+ grip-watch    = \"^1.2.0\"", "Nothing moves"],
    ),
    step(
        "Why is a package here, and why not newer",
        "yostel explain unit-scale",
        0,
        &["is here through", "accepts only ^1.2"],
    ),
    step(
        "Somebody edits an installed file: caught, and put back",
        "file=$(yostel where gust-model)/bin/gust-now; chmod u+w \"$file\"; echo 'echo 12' > \"$file\"",
        0,
        &[],
    ),
    step("", "yostel verify", 4, &["bin/gust-now", "changed"]),
    step("", "yostel install", 0, &["put back", "gust-model"]),
    step("", "yostel verify", 0, &["every file is as the lockfile has it"]),
    step(
        "Change a package here: a copy to work in, which is used at once",
        "yostel alter gust-model",
        0,
        &["open for changes in altered/gust-model"],
    ),
    step(
        "",
        r#"file=altered/gust-model/bin/gust-now; text=$(sed 's/^kmh_up /kmh /' "$file"); echo "$text" > "$file""#,
        0,
        &[],
    ),
    step("", "yostel alter gust-model --show", 0, &["--- a/bin/gust-now", "+kmh $((", "-kmh_up $(("]),
    step("", "yostel run -- ./control-room", 0, &["61 km/h expected", "quiet"]),
    step(
        "Kept, it is a patch with a reason: locked, and made wherever this is installed",
        "yostel alter gust-model --keep --why 'gusts are rounded up'",
        0,
        &["patches/gust-model.patch changes 1 file"],
    ),
    step("", "yostel verify", 0, &["every file is as the lockfile has it"]),
    step("", "yostel alter gust-model --drop", 0, &["as it was released"]),
    step(
        "An archive in the registry is changed: a machine with an empty cache refuses it, and keeps no trace",
        r#"cp -r ../station ../station-kept; cp yostel.toml yostel.lock ../elsewhere"#,
        0,
        &[],
    ),
    step(
        "",
        r#"hex=$(sed -n '/"gust-model"/,/^$/s/.*digest = "sha256:\([0-9a-f]*\)", tree.*/\1/p' yostel.lock); printf X | dd of=../station/archives/sha256/$hex.tar.zst bs=1 seek=90 conv=notrunc status=none"#,
        0,
        &[],
    ),
    step(
        "",
        "yostel -C ../elsewhere --cache ../cache-elsewhere install",
        4,
        &["gust-model 2.2.1 is not the archive that was locked", "locked sha256:", "found  sha256:"],
    ),
    step("", "ls -A ../elsewhere; test ! -e ../cache-elsewhere", 0, &["yostel.lock\nyostel.toml"]),
    step("", "rm -rf ../station && mv ../station-kept ../station", 0, &[]),
    step(
        "The same tree again: here after deleting it, and on a machine that never saw it",
        "rm -rf .yostel && yostel install --offline",
        0,
        &["18 from the cache"],
    ),
    step("", "yostel -C ../elsewhere --cache ../cache-elsewhere install", 0, &["18 fetched"]),
    step("", "diff -r .yostel ../elsewhere/.yostel && echo 'not one byte differs'", 0, &["not one byte differs"]),
    there(
        "Many projects, one truth about versions: a workspace",
        "cat yostel.toml panel/yostel.toml",
        0,
        &["projects = [\"panel\", \"libs/*\"]", "only-on"],
    ),
    there(
        "",
        "yostel lock",
        0,
        &["Locked 14 packages", "ropeway/panel needs ^1 on linux/*, !linux/arm64", "frame-codec         1.1.0"],
    ),
    there("", "yostel install", 0, &["digest sha256:"]),
    there(
        "Each project sees what it declared, and nothing else",
        "ls .yostel/reach/projects/ropeway_/*/*",
        0,
        &["rig-simulator"],
    ),
    there("", "yostel tree", 0, &["ropeway/wind-log 1.2.0", "frame-codec 2.0.0"]),
    there(
        "A command in every project, those first that others need",
        "yostel run --each -- ./check",
        0,
        &["wind-log: fine", "3 projects: 3 fine"],
    ),
    there(
        "The panel takes a newer wind: the library's test says what that changes, before it ships",
        "yostel --project ropeway/panel add gust-model '>=2.2.1, <3' && yostel lock && yostel install --quiet",
        0,
        &["2.2.0 -> 2.2.1"],
    ),
    there("", "yostel run --each -- ./check", 1, &["wind-log: 62 km/h where 60 were measured", "not run"]),
    there(
        "",
        "yostel --project ropeway/panel add gust-model '=2.2.0' --quiet && yostel lock && yostel install --quiet",
        0,
        &["2.2.1 -> 2.2.0"],
    ),
    there(
        "Duplicates, and the edit that would join them, proved by resolving it",
        "yostel audit duplicates",
        1,
        &["frame-codec is there at 1.1.0 and 2.0.0", "to join them: change grip-watch of ropeway/panel from ^2 to ^1"],
    ),
    there(
        GIT,
        "cp -RL .yostel/reach/releases/grip-watch/2.0.0/run/signal-codes ../signal-codes && chmod -R u+w ../signal-codes",
        0,
        &[],
    ),
    there(
        GIT,
        "cd ../signal-codes && git init -q && git add . && git -c user.name=Ida -c user.email=ida@ropeway.example commit -qm 'a code for the new siren'",
        0,
        &[],
    ),
    there(
        GIT,
        "yostel --project ropeway/panel add signal-codes --git ../signal-codes && yostel lock",
        0,
        &["Its commit today", "station -> git"],
    ),
    there(GIT, "yostel audit advisories", 1, &["signal-codes 2.0.0, ROPE-2026-004"]),
    there(GIT, "rm -rf ../signal-codes && yostel install", 0, &["digest sha256:"]),
    there(
        "A colleague's folder is used as it is; a lockfile with it is not for others",
        "yostel --project ropeway/panel add grip-notes --path ../grip-notes && yostel lock && yostel install --quiet",
        0,
        &["nobody else can install from this lockfile"],
    ),
    there(
        "",
        "echo 'Grip 9 too.' >> ../grip-notes/share/notes.txt; yostel --project ropeway/panel run -- sh -c 'cat $GRIP_NOTES/notes.txt'",
        0,
        &["Grip 9 too."],
    ),
    there("", "yostel lock --shareable", 2, &["only this machine has grip-notes (path ../grip-notes)"]),
    there(
        "Packed and named by its digest, it is for everybody",
        "tar -C ../grip-notes -cf ../grip-notes.tar yostel.toml share && yostel --project ropeway/panel add grip-notes --archive ../grip-notes.tar",
        0,
        &["with this digest is accepted: sha256:"],
    ),
    there("", "yostel lock --shareable && yostel install", 0, &["path ../grip-notes -> archive", "digest sha256:"]),
    there("Who needs whom, as a picture", "yostel graph ../needs.svg", 0, &["Wrote ../needs.svg", "3 projects"]),
    there(PAST, "yostel -C ../line-watch drift", 0, &["releases", "2024-09-16", "BEHIND NOW"]),
    there(
        "Between two days nothing but time changed, and the alarm rings: which of the moves was it?",
        "yostel -C ../line-watch culprit 2025-09-01 2026-09-01 -- sh -c 'test $(gust-now 147) -le 61'",
        0,
        &["of 6 moves: the check passes", "gust-model 2.2.0 -> 2.2.1", "round gusts up"],
    ),
    there(
        "Or a check stands in the manifest, and an update that does not pass it is not written",
        "printf '[checks.gusts]\\nrun = \"test $(gust-now 147) -le 61\"\\n' >> ../line-watch/yostel.toml && yostel -C ../line-watch update gust-model --tested",
        1,
        &["gusts", "fails; passes without the update", "nothing was written"],
    ),
    there(PAST, "yostel -C ../line-watch report ../line-watch.html", 0, &["years behind on 2024-09-16"]),
];

/// The title of what needs the program git, which a machine may not have.
const GIT: &str = "A fix that nobody released: a commit stands in everywhere, and outlives its repository in the cache";

/// The title of what is read from a past that only git makes.
const PAST: &str = "How far behind another project is, and was at each commit of two years";

/// Makes the world and walks through it.
pub(crate) fn run(into: Option<PathBuf>, only_make: bool, call: &Call) -> Result<Answer, FlowError> {
    let kept = into.is_some();
    let (_temporary, root) = match into {
        Some(folder) => {
            let taken = fs::read_dir(&folder).is_ok_and(|mut entries| entries.next().is_some()) || folder.is_file();
            if taken {
                let headline = format!("{} is not empty", call.show(&folder));
                let next = Suggestion::run("yostel demo --into FOLDER", "with a folder that is not there yet");
                let diagnostic = Diagnostic::new(Code::RegistryOccupied, headline, next);
                return Ok(failure_of(&[diagnostic], Exit::Usage, call.format));
            }
            fs::create_dir_all(&folder).map_err(FileError::when("make the folder", &folder))?;
            (None, fs::canonicalize(&folder).map_err(FileError::when("open", folder))?)
        }
        None => {
            let made = tempfile::Builder::new().prefix("yostel-demo-").tempdir();
            let made = made.map_err(FileError::when("make a folder in", std::env::temp_dir()))?;
            let root = made.path().to_owned();
            (Some(made), root)
        }
    };
    make_world(&root, &call.settings)?;
    make_past(&root, &call.settings)?;
    if only_make {
        let text = format!(
            "Made the registry and the project in {}.\n{}",
            root.display(),
            next_step(format!("cd {} && yostel lock", root.join("console").display()))
        );
        return Ok(Answer::words(Exit::Fine, if call.quiet { String::new() } else { text }));
    }
    let failures = walk(&root, call.quiet);
    let mut text = String::new();
    let exit = if failures.is_empty() {
        text.push_str(&format!("\n{} {} ended as expected.\n", paint(Role::Good, "done:"), count(WALK.len(), "step")));
        Exit::Fine
    } else {
        Exit::Internal
    };
    for failure in &failures {
        text.push_str(&format!("\n{} {failure}\n", paint(Role::Bad, "not as it should be:")));
    }
    text.push_str(&if kept {
        format!("Everything is in {}, to look around in.\n", root.display())
    } else {
        "It was made in a temporary folder and is removed now; yostel demo --into FOLDER keeps it.\n".to_owned()
    });
    Ok(Answer::words(exit, if call.quiet && exit == Exit::Fine { String::new() } else { text }))
}

fn needs_git(title: &str) -> bool {
    [GIT, PAST].contains(&title)
}

/// Runs the steps; returns what did not end as it should.
fn walk(root: &Path, quiet: bool) -> Vec<String> {
    let say_as_it_is = |text: &str| {
        if !quiet {
            say_as_it_is(text);
        }
    };
    let say = |text: &str| say_as_it_is(&shown(text));
    let program = std::env::current_exe().unwrap_or_else(|_| "yostel".into());
    let bin = root.join("bin");
    symlink(program, bin.join("yostel")).ok();
    let path = std::env::var_os("PATH").unwrap_or_default();
    let path = std::env::join_paths(std::iter::once(bin).chain(std::env::split_paths(&path))).unwrap_or(path);
    let mut failures = Vec::new();
    let has_git = Command::new("git").arg("--version").output().is_ok_and(|output| output.status.success());
    let mut title = "";
    for step in WALK {
        if !step.title.is_empty() && step.title != title {
            title = step.title;
            say(&format!("\n{}\n", paint(Role::Title, format!("# {title}"))));
            if needs_git(title) && !has_git {
                say("(left out: there is no git program here)\n");
            }
        }
        if needs_git(step.title) && !has_git {
            continue;
        }
        say(&format!("{} {}\n", paint(Role::Good, "$"), step.command));
        let mut command = Command::new("sh");
        command
            .args(["-c", &format!("exec 2>&1; {}", step.command)])
            .current_dir(root.join(step.folder))
            .env("PATH", &path)
            .env("YOSTEL_CACHE", root.join("cache"));
        if colours() {
            command.env("CLICOLOR_FORCE", "1");
        }
        let (status, output) = match command.output() {
            Ok(output) => (output.status.code().unwrap_or(-1), String::from_utf8_lossy(&output.stdout).into_owned()),
            Err(error) => (-1, format!("sh cannot be run: {error}\n")),
        };
        // What a step printed went through the same door already.
        say_as_it_is(&output.replace(&format!("{}/", root.display()), ""));
        if status != 0 {
            say(&format!("{}\n", paint(Role::Quiet, format!("[status {status}]"))));
        }
        let plain = anstream::adapter::strip_str(&output).to_string();
        if status != step.status {
            failures.push(format!("`{}` ended with status {status}, not {}", step.command, step.status));
        }
        for part in step.says.iter().filter(|part| !plain.contains(**part)) {
            failures.push(format!("`{}` did not say `{part}`", step.command));
        }
    }
    failures
}

/// Says something at once, so that the walk can be followed; a closed pipe is no reason to stop checking.
fn say_as_it_is(text: &str) {
    let mut stdout = anstream::stdout();
    stdout.write_all(text.as_bytes()).and_then(|()| stdout.flush()).ok();
}

fn colours() -> bool {
    use anstream::ColorChoice;
    anstream::AutoStream::choice(&std::io::stdout()) != ColorChoice::Never
}
