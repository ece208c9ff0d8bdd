//! `verify`: is every installed file as the lockfile has it.

use clap::Args;
use serde_json::json;
use yostel_flows::{FlowError, verify};
use yostel_store::TreeDifference;

use super::Answer;
use crate::context::Context;
use crate::exit::Exit;
use crate::render::{Columns, Role, count, paint};

/// How many files are told before `--all`.
const TOLD: usize = 20;

/// Read every installed file and say what is not as the lockfile has it
#[derive(Debug, Args)]
pub(crate) struct Verify {
    /// Tell every file, however many
    #[arg(long)]
    all: bool,
}

pub(crate) fn run(arguments: Verify, context: &Context) -> Result<Answer, FlowError> {
    let project = context.project()?;
    let report = verify(&project, &context.settings, &context.progress)?;
    let sound = report.differences.is_empty();
    let exit = if sound { Exit::Fine } else { Exit::Integrity };
    let rows: Vec<(&str, &str, &str)> = report
        .differences
        .iter()
        .flat_map(|(package, differences)| differences.iter().map(move |d| (package.as_str(), how(d), d.path())))
        .collect();
    Ok(Answer::either(
        context,
        exit,
        "verify",
        || {
            json!({
                "packages": report.packages,
                "sound": sound,
                "digest": report.digest.to_string(),
                "differences": rows.iter().map(|(package, how, path)| json!({
                    "package": package, "how": how, "path": path,
                })).collect::<Vec<_>>(),
            })
        },
        || {
            if sound {
                return format!(
                    "{} verified: every file is as the lockfile has it.\n  digest {}\n",
                    count(report.packages, "package"),
                    report.digest
                );
            }
            let mut columns = Columns::new(&["package", "what", "file"]);
            let most = if arguments.all { usize::MAX } else { TOLD };
            for (package, how, path) in rows.iter().take(most) {
                columns.row([(*package).to_owned(), (*how).to_owned(), (*path).to_owned()]);
            }
            let more = rows.len().saturating_sub(most);
            let more = if more > 0 { format!("  … and {more} more: yostel verify --all\n") } else { String::new() };
            format!(
                "{} not as the lockfile has {}:\n{}{more}{} yostel install puts back what is locked\n",
                paint(
                    Role::Bad,
                    if rows.len() == 1 { "1 file is".into() } else { format!("{} files are", rows.len()) }
                ),
                if rows.len() == 1 { "it" } else { "them" },
                columns.finish(),
                paint(Role::Good, "next:"),
            )
        },
    ))
}

fn how(difference: &TreeDifference) -> &'static str {
    match difference {
        TreeDifference::Changed { how: "content", .. } => "changed",
        TreeDifference::Changed { how: "executable bit", .. } => "changed executable bit",
        TreeDifference::Changed { .. } => "changed kind",
        TreeDifference::Missing(_) => "missing",
        TreeDifference::Extra(_) => "extra",
    }
}
