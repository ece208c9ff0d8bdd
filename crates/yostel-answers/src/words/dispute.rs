//! What a lockfile says of releases that is not so.

use std::collections::BTreeSet;

use crate::code::Code;
use crate::diagnostic::{Diagnostic, Suggestion};
use yostel_documents::{Dispute, Disputed, PackageName};
use yostel_versions::ConstraintText;

use super::{join, tell};

/// How many are told.
const TOLD: usize = 5;

pub(super) fn of_disputes(disputes: &[Dispute]) -> Diagnostic {
    let all: BTreeSet<String> = disputes.iter().map(|one| format!("{} {}", one.package, one.version)).collect();
    let more = all.len().saturating_sub(TOLD);
    let one = all.len() == 1;
    let packages: Vec<String> = all.into_iter().take(TOLD).collect();
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    let names = if more.is_empty() { join(&packages) } else { packages.join(", ") };
    let what = if one { "is not what the lockfile says" } else { "are not what the lockfile says" };
    let headline = format!("{names}{more} {what}");
    let mut told = match &disputes[0].about {
        // Locking anew would lock the same archive.
        Disputed::Nameless if disputes.iter().all(|one| one.about == Disputed::Nameless) => {
            tell(Code::LockfileDisputed, headline, "ask whoever published it for an archive that has one")
        }
        // The lockfile has nothing wrong; what was published should never have changed.
        Disputed::Record if disputes.iter().all(|one| one.about == Disputed::Record) => {
            tell(Code::LockfileDisputed, headline, "ask whoever keeps the registry what was changed, and why")
                .or(Suggestion::run("yostel lock --fresh", "to lock it as it is told today"))
        }
        _ => tell(
            Code::LockfileDisputed,
            headline,
            "find out who changed yostel.lock, and restore it from version control",
        )
        .or(Suggestion::run("yostel lock --fresh", "to lock anew what the sources tell today")),
    };
    for dispute in disputes.iter().take(TOLD) {
        told = told.note(dispute_words(dispute));
    }
    told.note("nothing was installed or locked")
}

/// Says what is not so, in one sentence without a full stop.
pub fn dispute_words(dispute: &Dispute) -> String {
    let Dispute { package, version, about } = dispute;
    match about {
        Disputed::Package => format!("{package}: no source has it"),
        Disputed::Release => format!("{package} {version}: its source has no such release"),
        Disputed::Content { locked, offered: Some(offered) } if offered.digest != locked.digest => {
            format!(
                "{package} {version}: locked with the archive {}, its source has {}",
                short(&locked.digest),
                short(&offered.digest)
            )
        }
        Disputed::Content { locked, offered: Some(offered) } if offered.tree != locked.tree => {
            format!(
                "{package} {version}: locked with the files {}, its source says {}",
                short(&locked.tree),
                short(&offered.tree)
            )
        }
        Disputed::Content { offered: Some(_), .. } => {
            format!("{package} {version}: its source gives another size for its archive")
        }
        Disputed::Content { locked, offered: None } => {
            format!("{package} {version}: its files are not those of the archive {}", short(&locked.digest))
        }
        Disputed::Needs { missing, extra } => {
            let missing = missing.iter().map(|(name, accept)| need_words(name, accept.as_ref()));
            let missing: Vec<String> = missing.collect();
            let extra: Vec<String> = extra.iter().map(|(name, accept)| need_words(name, Some(accept))).collect();
            match (missing.is_empty(), extra.is_empty()) {
                (true, _) => format!("{package} {version} does not need {}, as the lockfile says", join(&extra)),
                (_, true) => format!("{package} {version} needs {}, and the lockfile does not say so", join(&missing)),
                _ => format!("{package} {version} needs {}; the lockfile says {}", join(&missing), join(&extra)),
            }
        }
        Disputed::Record => {
            format!("{package} {version}: its source describes it otherwise than when it was locked")
        }
        Disputed::Inside { name, version: Some(inside) } => {
            format!("{package} {version}: its archive holds {name} {inside}")
        }
        Disputed::Inside { name, version: None } => {
            format!("{package} {version}: its archive holds {name}, without a version")
        }
        Disputed::Nameless => {
            format!("{package} {version}: its archive has no yostel.toml that says what it holds")
        }
    }
}

/// Writes the start of a digest: enough to tell two apart.
fn short(digest: &impl std::fmt::Display) -> String {
    format!("{}…", digest.to_string().chars().take(19).collect::<String>())
}

fn need_words(name: &PackageName, accept: Option<&ConstraintText>) -> String {
    match accept {
        Some(accept) => format!("{name} {accept}"),
        None => name.to_string(),
    }
}
