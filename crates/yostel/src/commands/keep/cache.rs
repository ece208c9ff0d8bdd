//! `cache`: what it holds, how large it is, whether it is sound, and what may go.

use std::path::{Path, PathBuf};

use clap::{ArgGroup, Args, Subcommand};
use jiff::Timestamp;
use yostel_answers::answers::keep::{
    CacheListAnswer, CacheLoadAnswer, CachePruneAnswer, CacheSaveAnswer, CacheStatsAnswer, CacheVerifyAnswer,
    cache_problem,
};
use yostel_documents::{Origin, PackageName};
use yostel_flows::{FlowError, SaveRequest, cache_stats, list_cache, load_kit, prune_cache, save_kit, verify_cache};
use yostel_store::{CacheEntry, CacheProblem, PruneRule};

use crate::answer::{Answer, Said};
use crate::call::Call;
use crate::exit::Exit;
use crate::render::{Columns, Head, Role, age, count, next_step, note, paint, size};

/// Look after the local cache
#[derive(Debug, Args)]
pub(crate) struct Cache {
    #[command(subcommand)]
    task: Task,
}

#[derive(Debug, Subcommand)]
enum Task {
    /// Say where the cache is and how large it is
    Stats,
    /// List what the cache holds: size, who brought it, when it was last used and by whom
    List(List),
    /// Read the whole cache and list what does not match its digest
    Verify,
    /// Write everything the project's lockfile needs into one file, to be loaded where there is no network
    Save(Save),
    /// Take in what a file written by `cache save` carries; then `install --offline` works
    Load(Load),
    /// Remove what no project uses: what has not been used for a time, or the least recently used
    Prune(Prune),
}

#[derive(Debug, Args)]
struct List {
    /// Only this package
    package: Option<String>,
}

#[derive(Debug, Args)]
struct Save {
    /// The file to write
    file: PathBuf,

    /// Fetch nothing: the cache must hold everything
    #[arg(long)]
    offline: bool,

    /// Refuse when a package is a folder of this machine, which the file cannot carry
    #[arg(long)]
    complete: bool,
}

#[derive(Debug, Args)]
struct Load {
    /// The file to read
    file: PathBuf,
}

#[derive(Debug, Args)]
#[command(group(ArgGroup::new("rule").args(["unused_for", "keep_under"]).required(true).multiple(true)))]
struct Prune {
    /// What was not used for so long, like 30d or 12h
    #[arg(long, value_name = "TIME", value_parser = stretch)]
    unused_for: Option<i64>,

    /// What was used least recently, until the cache takes no more than this, like 10GiB
    #[arg(long, value_name = "SIZE", value_parser = bytes)]
    keep_under: Option<u64>,

    /// Only show what would change
    #[arg(long)]
    preview: bool,
}

/// Reads a stretch of time, in seconds.
fn stretch(text: &str) -> Result<i64, String> {
    let unit = |unit: char, seconds: i64| text.strip_suffix(unit)?.parse::<u32>().ok().map(|n| i64::from(n) * seconds);
    let units = [('d', 86_400), ('h', 3600), ('m', 60), ('s', 1)];
    units
        .into_iter()
        .find_map(|(letter, seconds)| unit(letter, seconds))
        .ok_or_else(|| "a time is written 30d, 12h or 45m".to_owned())
}

/// Reads a size in bytes.
fn bytes(text: &str) -> Result<u64, String> {
    let units = [("GiB", 1 << 30), ("MiB", 1 << 20), ("KiB", 1 << 10), ("B", 1)];
    let read =
        |(unit, factor): (&str, u64)| text.strip_suffix(unit)?.trim_end().parse::<u64>().ok()?.checked_mul(factor);
    units.into_iter().find_map(read).ok_or_else(|| "a size is written 10GiB, 500MiB or 0B".to_owned())
}

pub(crate) fn run(arguments: Cache, call: &Call) -> Result<Answer, FlowError> {
    match arguments.task {
        Task::Stats => stats(call),
        Task::List(arguments) => list(&arguments, call),
        Task::Verify => verify(call),
        Task::Save(arguments) => save(&arguments, call),
        Task::Load(arguments) => load(&arguments, call),
        Task::Prune(arguments) => prune(&arguments, call),
    }
}

fn list(arguments: &List, call: &Call) -> Result<Answer, FlowError> {
    let mut entries = list_cache(&call.context())?;
    if let Some(package) = &arguments.package {
        entries.retain(|entry| entry.note.as_ref().is_some_and(|note| note.package == *package));
    }
    Ok(Answer::either(
        call,
        Exit::Fine,
        Said::Result,
        || CacheListAnswer::from(&entries[..]),
        || {
            if entries.is_empty() {
                return match &arguments.package {
                    Some(package) => format!("The cache has no release of {package}.\n"),
                    None => "The cache is empty.\n".into(),
                };
            }
            let mut columns = Columns::new([
                Head::package("package"),
                Head::plain("version"),
                Head::number("packed").spare(),
                Head::number("unpacked"),
                Head::plain("brought by").spare(),
                Head::plain("last used"),
                Head::words("used by"),
            ]);
            entries.iter().for_each(|entry| columns.row(cells(entry, call)));
            columns.finish()
        },
    ))
}

fn save(arguments: &Save, call: &Call) -> Result<Answer, FlowError> {
    let project = call.project()?;
    let file = call.folder.join(&arguments.file);
    let request = SaveRequest { offline: arguments.offline, complete: arguments.complete };
    let kit = save_kit(&project, &file, request, &call.context())?;
    let bytes: u64 = kit.carried.iter().map(|one| one.artifact.size).sum();
    Ok(Answer::done(
        call,
        Exit::Fine,
        || CacheSaveAnswer::of(&file, &kit),
        || {
            let (shown, archives) = (call.show(&file), count(kit.carried.len(), "archive"));
            let left_out = |(package, from): &(PackageName, Origin)| {
                let folder = from.local_folder().unwrap_or_default();
                note(format!("{package} is not inside: it is the folder {folder}"))
            };
            let notes: String = kit.left_out.iter().map(left_out).collect();
            format!(
                "{archives} and the lockfile saved in {shown} ({}).\n{notes}{}",
                size(bytes),
                next_step(format!("on the other machine: yostel cache load {shown}"))
            )
        },
    ))
}

fn load(arguments: &Load, call: &Call) -> Result<Answer, FlowError> {
    let file = call.folder.join(&arguments.file);
    let loaded = load_kit(&file, &call.context())?;
    Ok(Answer::done(
        call,
        Exit::Fine,
        || CacheLoadAnswer::of(&file, &loaded),
        || {
            let new = match (loaded.new, loaded.carried.len()) {
                (0, _) => "the cache had them all".to_owned(),
                (new, all) if new == all => "all new".to_owned(),
                (new, _) => format!("{new} of them new"),
            };
            let loaded = count(loaded.carried.len(), "archive");
            format!("{loaded} loaded, {new}.\n{}", next_step("in the project, yostel install --offline"))
        },
    ))
}

fn cells(entry: &CacheEntry, call: &Call) -> [String; 7] {
    let now = call.settings.now;
    let name =
        |path: &Path| path.file_name().map_or_else(|| path.display().to_string(), |n| n.to_string_lossy().into());
    let (package, version, by) = match (&entry.note, entry.archive, entry.tree) {
        (Some(note), _, _) => (note.package.clone(), note.version.clone(), name(&note.brought_by)),
        (None, Some(archive), _) => ("(archive)".into(), archive.to_short(), "not known".into()),
        (None, None, tree) => {
            ("(tree)".into(), tree.map(|tree| tree.to_short()).unwrap_or_default(), "not known".into())
        }
    };
    let used = Timestamp::from_second(entry.used).map_or_else(
        |_| "not known".to_owned(),
        |used| match age(used, now) {
            today if today == "today" => today,
            days => format!("{days} ago"),
        },
    );
    let users: Vec<String> = entry.users.iter().take(3).map(|user| name(user)).collect();
    let users = match entry.users.len().saturating_sub(users.len()) {
        0 if users.is_empty() => "nobody".to_owned(),
        0 => users.join(", "),
        more => format!("{} and {more} more", users.join(", ")),
    };
    let unpacked = if entry.tree.is_some() { size(entry.tree_bytes) } else { "not yet".into() };
    [package, version, size(entry.archive_bytes), unpacked, by, used, users]
}

fn prune(arguments: &Prune, call: &Call) -> Result<Answer, FlowError> {
    let used_before = arguments.unused_for.map(|seconds| call.settings.now.as_second().saturating_sub(seconds));
    let rule = PruneRule { used_before, keep_under: arguments.keep_under };
    let pruned = prune_cache(rule, arguments.preview, &call.context())?;
    let freed: u64 = pruned.gone.iter().map(CacheEntry::bytes).sum();
    Ok(Answer::either(
        call,
        Exit::Fine,
        Said::previewing(arguments.preview),
        || CachePruneAnswer::of(&pruned, arguments.preview),
        || {
            let what = match (pruned.gone.len(), arguments.preview) {
                (0, _) => "Nothing to remove".to_owned(),
                (n, true) => format!("{} would go, freeing {}", count(n, "release"), size(freed)),
                (n, false) => format!("{} removed, {} freed", count(n, "release"), size(freed)),
            };
            let mut text = format!("{what}; {} left.\n", size(pruned.left));
            if !pruned.gone.is_empty() {
                let heads = [Head::package(""), Head::plain(""), Head::number(""), Head::number(""), Head::plain("")];
                let mut columns = Columns::new(heads);
                for entry in &pruned.gone {
                    let [package, version, packed, unpacked, _, used, _] = cells(entry, call);
                    columns.row([package, version, packed, unpacked, format!("last used {used}")]);
                }
                text.push_str(&columns.finish());
            }
            if pruned.still_over {
                let why = "more than that is left, because projects use it; what they use is never removed";
                text.push_str(&note(why));
            }
            text
        },
    ))
}

fn stats(call: &Call) -> Result<Answer, FlowError> {
    let stats = cache_stats(&call.context())?;
    let folder = &call.settings.cache;
    if call.json() {
        return Ok(Answer::document(call, Exit::Fine, &CacheStatsAnswer::of(&stats, folder)));
    }
    let mut columns = Columns::new([Head::plain(""), Head::number(""), Head::words("")]);
    columns.row(["archives".into(), stats.archives.to_string(), size(stats.archive_bytes)]);
    columns.row([
        "trees".into(),
        stats.trees.to_string(),
        match stats.tree_bytes_shared {
            0 => format!("{} in {} files", size(stats.tree_bytes), stats.files),
            shared => {
                let (all, own) = (size(stats.tree_bytes), size(stats.tree_bytes - shared));
                format!("{all} in {} files, taking {own}: releases share the rest", stats.files)
            }
        },
    ]);
    let saved = format!("installed from it, sharing {}", size(stats.shared_bytes));
    columns.row(["projects".into(), stats.projects.to_string(), saved]);
    Ok(Answer::words(Exit::Fine, format!("{}\n{}", folder.display(), columns.finish())))
}

fn verify(call: &Call) -> Result<Answer, FlowError> {
    let report = verify_cache(&call.context())?;
    let sound = report.problems.is_empty();
    let exit = if sound { Exit::Fine } else { Exit::Integrity };
    let replaced = report.problems.iter().any(|problem| !matches!(problem, CacheProblem::Stranger(_)));
    let by_hand = report.problems.iter().any(|problem| matches!(problem, CacheProblem::Stranger(_)));
    Ok(Answer::done(
        call,
        exit,
        || CacheVerifyAnswer::of(&report, &call.settings.cache),
        || {
            let read = format!("{} and {}", count(report.archives, "archive"), count(report.trees, "tree"));
            if sound {
                return format!("The cache is sound: {read} read.\n");
            }
            let lines: Vec<String> = report
                .problems
                .iter()
                .map(|problem| format!("  {}\n", cache_problem(problem, &call.settings.cache)))
                .collect();
            let bad = paint(Role::Bad, count(report.problems.len(), "problem"));
            let advice = [
                (
                    replaced,
                    "in each project, yostel install, which replaces what it needs; what is changed is never used",
                ),
                (by_hand, "remove by hand what the cache did not make"),
            ];
            let advice = advice.iter().filter(|(holds, _)| *holds).map(|(_, text)| next_step(text));
            format!("{bad} in the cache, {read} read:\n{}{}", lines.concat(), advice.collect::<String>())
        },
    ))
}
