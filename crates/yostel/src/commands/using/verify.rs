//! `verify`: is every installed file as the lockfile has it.

use clap::Args;
use yostel_answers::answers::using::{VerifyAnswer, VerifyLockAnswer, how};
use yostel_flows::{FlowError, LoadedProject, check_lock, put_back, verify};
use yostel_store::{FileChange, Trust};

use crate::answer::Answer;
use crate::call::Call;
use crate::commands::using::install::open_note;
use crate::exit::Exit;
use crate::render::{Columns, Head, Role, count, join, next_step, next_steps, paint};
use crate::sanitise::sanitise;
use yostel_answers::words::changes_told;

/// How many files are told before `--in-full`.
const TOLD: usize = 20;

/// Read every installed file, and report or put back what is not as locked
#[derive(Debug, Args)]
pub(crate) struct Verify {
    /// Read only files whose size, time or inode is not as it was when they were installed
    #[arg(long)]
    quick: bool,

    /// Put back what is not as locked, from the cache or else from the source
    #[arg(long)]
    put_back: bool,

    /// Check the lockfile instead: against the archives in the cache and what their sources tell
    #[arg(long, conflicts_with_all = ["quick", "put_back", "in_full"])]
    lock: bool,

    /// With --lock: ask no source
    #[arg(long, requires = "lock")]
    offline: bool,

    /// Show everything, however long
    #[arg(long)]
    in_full: bool,
}

pub(crate) fn run(arguments: Verify, call: &Call) -> Result<Answer, FlowError> {
    // Long: what is found is told once, in words and as a document, side by side.
    let project = call.project()?;
    if arguments.lock {
        return verify_lock(&project, arguments.offline, call);
    }
    let trust = if arguments.quick { Trust::Stamps } else { Trust::Nothing };
    let mut report = verify(&project, trust, &call.context())?;
    let sound = report.differences.is_empty();
    let mut is_put_back = false;
    if arguments.put_back && !sound {
        put_back(&project, &report, &call.context())?;
        let again = verify(&project, Trust::Nothing, &call.context())?;
        is_put_back = again.differences.is_empty();
        // What is still there is what remains to be done.
        report = if is_put_back { report } else { again };
    }
    let exit = if sound || is_put_back { Exit::Fine } else { Exit::Integrity };
    let rows: Vec<(&str, &str, &str)> = report
        .differences
        .iter()
        .flat_map(|(package, differences)| differences.iter().map(move |d| (package.as_str(), how(d), d.path())))
        .collect();
    Ok(Answer::done(
        call,
        exit,
        || VerifyAnswer::of(&report, is_put_back),
        || {
            let digest = report.digest;
            if sound {
                let packages = count(report.packages, "package");
                let every = if arguments.quick {
                    "nothing was touched since it was installed"
                } else {
                    "every file is as the lockfile has it"
                };
                return format!("{packages} verified: {every}.\n  digest {digest}\n");
            }
            let mut columns = Columns::new([Head::package("package"), Head::change("what"), Head::place("file")]);
            let most = if arguments.in_full { usize::MAX } else { TOLD };
            for (package, how, path) in rows.iter().take(most) {
                columns.row([(*package).to_owned(), (*how).to_owned(), (*path).to_owned()]);
            }
            let more = rows.len().saturating_sub(most);
            let more =
                if more > 0 { format!("  … and {more} more: yostel verify --in-full\n") } else { String::new() };
            let open: String = report.open.iter().map(open_note).collect();
            let only_open =
                !report.open.is_empty() && report.differing.iter().all(|package| report.open.contains(package));
            let then = match is_put_back {
                true => {
                    let lead = paint(Role::Good, "put back:");
                    format!("{lead} every file is now as the lockfile has it\n  digest {digest}\n")
                }
                false if only_open => {
                    next_step(format!("yostel alter {} --keep --why \"…\", or --drop", report.open[0]))
                }
                false => next_steps(what_next(&rows)),
            };
            let changes: Vec<FileChange> = report.changes.iter().map(|(_, change)| change.clone()).collect();
            let lines = changes_told(&changes, if arguments.in_full { usize::MAX } else { TOLD });
            let lines: String = lines.iter().map(|line| format!("  {}\n", sanitise(line))).collect();
            format!(
                "{} not as the lockfile has {}:\n{}{more}{lines}{open}{then}",
                paint(
                    Role::Bad,
                    if rows.len() == 1 { "1 file is".into() } else { format!("{} files are", rows.len()) }
                ),
                if rows.len() == 1 { "it" } else { "them" },
                columns.finish(),
            )
        },
    ))
}

/// Says what to do about files that are not as locked. What no install made, no install removes.
fn what_next(rows: &[(&str, &str, &str)]) -> Vec<String> {
    type Row<'r> = (&'r str, &'r str, &'r str);
    let is_foreign =
        |(package, how, path): &&Row<'_>| *package == ".yostel" && *how == "extra" && path.starts_with("packages/");
    let (foreign, ours): (Vec<&Row<'_>>, Vec<&Row<'_>>) = rows.iter().partition(is_foreign);
    let mut words = Vec::new();
    if !ours.is_empty() {
        words.push("yostel verify --put-back, to put back what is locked".to_owned());
    }
    if !foreign.is_empty() {
        let mut paths: Vec<String> = foreign.iter().take(3).map(|(.., path)| format!(".yostel/{path}")).collect();
        if foreign.len() > paths.len() {
            paths.push(format!("{} more", foreign.len() - paths.len()));
        }
        words.push(format!("remove {}, which no install made", join(&paths)));
    }
    words
}

fn verify_lock(project: &LoadedProject, offline: bool, call: &Call) -> Result<Answer, FlowError> {
    let check = check_lock(project, offline, &call.context())?;
    Ok(Answer::done(
        call,
        Exit::Fine,
        || VerifyLockAnswer::from(&check),
        || {
            let inside = format!("{} in the cache hold what it says", count(check.looked_into, "archive"));
            let compared = match check.compared {
                0 => "no source was asked".to_owned(),
                compared => format!("the sources say the same of {}", count(compared, "package")),
            };
            format!("The lockfile fits the manifest: {}; {inside}, {compared}.\n", count(check.packages, "package"))
        },
    ))
}
