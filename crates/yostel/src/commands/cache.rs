//! `cache`: how large it is, and whether it is sound.

use clap::{Args, Subcommand};
use serde_json::json;
use yostel_flows::{FlowError, cache_stats, verify_cache};
use yostel_store::CacheProblem;

use super::Answer;
use crate::context::Context;
use crate::exit::Exit;
use crate::render::{Columns, Role, count, paint, size};

/// Look after the local cache
#[derive(Debug, Args)]
pub(crate) struct Cache {
    #[command(subcommand)]
    task: Task,
}

#[derive(Debug, Subcommand)]
enum Task {
    /// Say where the cache lies and how large it is
    Stats,
    /// Read the whole cache and say what is not what its name says
    Verify,
}

pub(crate) fn run(arguments: Cache, context: &Context) -> Result<Answer, FlowError> {
    match arguments.task {
        Task::Stats => stats(context),
        Task::Verify => verify(context),
    }
}

fn stats(context: &Context) -> Result<Answer, FlowError> {
    let stats = cache_stats(&context.settings)?;
    let folder = &context.settings.cache;
    if context.json() {
        let content = json!({
            "folder": folder,
            "archives": stats.archives, "archive-bytes": stats.archive_bytes,
            "trees": stats.trees, "files": stats.files, "tree-bytes": stats.tree_bytes,
            "projects": stats.projects,
        });
        return Ok(Answer::document(Exit::Fine, "cache stats", content));
    }
    let mut columns = Columns::new(&[]);
    columns.row(["archives".into(), stats.archives.to_string(), size(stats.archive_bytes)]);
    columns.row([
        "trees".into(),
        stats.trees.to_string(),
        format!("{} in {} files", size(stats.tree_bytes), stats.files),
    ]);
    columns.row(["projects".into(), stats.projects.to_string(), "installed from it".into()]);
    Ok(Answer::words(Exit::Fine, format!("{}\n{}", folder.display(), columns.finish())))
}

fn verify(context: &Context) -> Result<Answer, FlowError> {
    let report = verify_cache(&context.settings, &context.progress)?;
    let sound = report.problems.is_empty();
    let exit = if sound { Exit::Fine } else { Exit::Integrity };
    let told = |problem: &CacheProblem| match problem {
        CacheProblem::Archive { named, found } => format!("archive {named} has digest {found}"),
        CacheProblem::Tree { named, differing: Some(files) } => {
            format!("tree {named}: {} not as listed", count(*files, "file"))
        }
        CacheProblem::Tree { named, differing: None } => format!("tree {named}: its listing is lost or changed"),
        CacheProblem::Stranger(name) => format!("`{name}` is nothing the cache made, or cannot be read"),
    };
    Ok(Answer::either(
        context,
        exit,
        "cache verify",
        || {
            json!({
                "archives": report.archives, "trees": report.trees, "sound": sound,
                "problems": report.problems.iter().map(told).collect::<Vec<_>>(),
            })
        },
        || {
            let read = format!("{} and {}", count(report.archives, "archive"), count(report.trees, "tree"));
            if sound {
                return format!("The cache is sound: {read} read.\n");
            }
            let lines: Vec<String> = report.problems.iter().map(|problem| format!("  {}\n", told(problem))).collect();
            let bad = paint(Role::Bad, count(report.problems.len(), "problem"));
            let next = "yostel install replaces what a project needs; what is changed is never used";
            format!("{bad} in the cache, {read} read:\n{}{} {next}\n", lines.concat(), paint(Role::Good, "next:"))
        },
    ))
}
