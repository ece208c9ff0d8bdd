//! `alter`: change a package locally, and keep the change as a patch that everyone gets.

use clap::{ArgGroup, Args};
use yostel_answers::answers::using::AlterAnswer;
use yostel_documents::{PackageName, Patch};
use yostel_flows::{Dropped, FlowError, drop_alter, keep_alter, open_alter, show_alter};
use yostel_store::FileChange;

use crate::answer::{Answer, Said};
use crate::call::Call;
use crate::exit::Exit;
use crate::options::package_name;
use crate::render::{Role, count, next_step, note, paint};
use crate::sanitise::sanitise;

/// Change a package locally, and keep the change as a patch that everyone gets
///
/// Opens a writable copy in the project's folder altered/, which takes the installed package's place: code that needs it
/// sees each change at once, and the shared cache is not touched. With --keep the changes become a unified diff in the
/// project, which every install applies; it is part of what is locked.
#[derive(Debug, Args)]
#[command(group(ArgGroup::new("task").args(["show", "keep", "drop"])))]
pub(crate) struct Alter {
    /// The package
    #[arg(value_parser = package_name)]
    package: PackageName,

    /// Show what was changed, as a unified diff
    #[arg(long)]
    show: bool,

    /// Keep what was changed: write the patch, name it in the manifest, lock and install
    #[arg(long)]
    keep: bool,

    /// Drop what was changed: in the copy when it is open, else the patch
    #[arg(long)]
    drop: bool,

    /// Why the package is changed, for those who come after
    #[arg(long, value_name = "WHY", requires = "keep")]
    why: Option<String>,
}

pub(crate) fn run(arguments: Alter, call: &Call) -> Result<Answer, FlowError> {
    let package = &arguments.package;
    match (arguments.show, arguments.keep, arguments.drop) {
        (true, _, _) => show(package, call),
        (_, true, _) => keep(package, arguments.why.as_deref(), call),
        (_, _, true) => drop_changes(package, call),
        _ => open(package, call),
    }
}

fn open(package: &PackageName, call: &Call) -> Result<Answer, FlowError> {
    let opened = open_alter(&call.project()?, package, &call.context())?;
    let folder = call.show(&opened.folder);
    Ok(Answer::done(
        call,
        Exit::Fine,
        || AlterAnswer::opened(&opened, package, &folder),
        || {
            let already = if opened.was_there { "open for changes already" } else { "open for changes" };
            let kept = if opened.has_patch && !opened.was_there { ", with what the patch changes" } else { "" };
            format!(
                "{package} {} is {already} in {folder}{kept}; what needs it sees each change at once.\n{}",
                opened.version,
                next_step(format!("yostel alter {package} --show, --keep --why \"…\", or --drop"))
            )
        },
    ))
}

fn show(package: &PackageName, call: &Call) -> Result<Answer, FlowError> {
    let changes = show_alter(&call.project()?, package, &call.context())?;
    Ok(Answer::either(
        call,
        Exit::Fine,
        Said::Result,
        || AlterAnswer::shown(&changes, package),
        || match changes.files.is_empty() {
            true => format!("Nothing was changed in {package} yet.\n"),
            false => changes.files.iter().map(told).collect(),
        },
    ))
}

fn told(change: &FileChange) -> String {
    let Some(patch) = &change.patch else {
        return format!("{} is {} and not text\n", change.path, change.word());
    };
    let text = Patch { files: vec![patch.clone()] }.write();
    let paint_line = |line: &str| {
        let shown = sanitise(line);
        match line.as_bytes().first() {
            _ if line.starts_with("diff ") => paint(Role::Title, shown),
            Some(b'+') => paint(Role::Good, shown),
            Some(b'-') => paint(Role::Bad, shown),
            Some(b'@') => paint(Role::Quiet, shown),
            _ => shown,
        }
    };
    text.lines().map(|line| format!("{}\n", paint_line(line))).collect()
}

fn keep(package: &PackageName, why: Option<&str>, call: &Call) -> Result<Answer, FlowError> {
    let kept = keep_alter(&call.project()?, package, why, &call.context())?;
    Ok(Answer::done(
        call,
        Exit::Fine,
        || AlterAnswer::kept(&kept, package),
        || {
            let files = count(kept.files.len(), "file");
            format!(
                "Kept: {} changes {files} of {package} {}, is locked and installed.\n{}",
                kept.patch,
                kept.version,
                next_step("commit it with yostel.toml and yostel.lock")
            )
        },
    ))
}

fn drop_changes(package: &PackageName, call: &Call) -> Result<Answer, FlowError> {
    let dropped = drop_alter(&call.project()?, package, &call.context())?;
    Ok(Answer::done(
        call,
        Exit::Fine,
        || AlterAnswer::dropped(&dropped, package, |path| call.show(path)),
        || match &dropped {
            Dropped::Copy(None) => format!("{package} is closed; what is locked is installed again.\n"),
            Dropped::Copy(Some(saved)) => {
                let saved = note(format!("what was changed is in {}", call.show(saved)));
                format!("{package} is closed; what is locked is installed again.\n{saved}")
            }
            Dropped::Patch(patch) => {
                format!("Dropped {patch}: {package} is locked and installed as it was released.\n")
            }
        },
    ))
}
