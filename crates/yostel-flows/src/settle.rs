//! The smallest repairs of a collision: listed, previewed, applied.

use std::collections::BTreeSet;

use jiff::Timestamp;
use yostel_core::{
    Declared, Lockfile, Manifest, Move, NeedForm, Outcome, Problem, Purpose, Repair, Requirement, Resolver, WishEdit,
    add_need, compare, remove_need,
};
use yostel_store::{Cache, write_atomically};

use crate::error::FlowError;
use crate::lock::{Driven, drive, kept_versions, rules_of};
use crate::observer::{Event, Observer};
use crate::patches::complete;
use crate::project::{LoadedProject, Settings, load_lockfile};

/// How many repairs are looked for.
const MOST_REPAIRS: usize = 8;

/// A repair that was proved by resolving it.
#[derive(Debug)]
pub struct Settlement {
    /// The edits of the manifest, and the set they lead to.
    pub repair: Repair,
    /// The manifest's text afterwards.
    pub text: String,
    /// The lockfile afterwards.
    pub lockfile: Lockfile,
    /// What moves against the lockfile as it is.
    pub moves: Vec<Move>,
}

/// Lists the smallest repairs, smallest first; nothing when there is a set as things are. Only releases published by
/// `as_of` count, when it is given, but for versions that are locked.
///
/// # Errors
/// As locking, but for a collision.
pub fn settle(
    project: &LoadedProject,
    as_of: Option<Timestamp>,
    settings: &Settings,
    observer: &dyn Observer,
) -> Result<Option<Vec<Settlement>>, FlowError> {
    let before = load_lockfile(project)?;
    let patches = project.patches()?;
    let declared = project.declared_with(&patches);
    if declared.wishes.is_empty() {
        return Ok(None);
    }
    let keep = before.as_ref().map(|before| kept_versions(before, &declared)).unwrap_or_default();
    let wishes = declared.wishes.clone();
    let rules = rules_of(project, as_of, None, settings);
    let resolver = Resolver::with_repairs(Problem { wishes, keep, rules });
    let Driven { outcome, mut resolver, .. } = drive(resolver, project, &project.sources()?, observer)?;
    if matches!(outcome, Outcome::Resolved(_)) {
        return Ok(None);
    }
    let mut settlements = Vec::new();
    for repair in resolver.repairs(MOST_REPAIRS) {
        let text = edited(&project.text, &repair.edits)?;
        // What is said about packages wherever they turn up can undo an edit, or forbid it.
        if !means(&text, &repair.wishes) {
            continue;
        }
        let declared = Declared { wishes: repair.wishes.clone(), ..declared.clone() };
        let mut lockfile = Lockfile::from_resolution(&declared, &repair.resolution);
        complete(&mut lockfile, before.as_ref(), &patches, project, &Cache::open(&settings.cache), observer)?;
        let moves = compare(before.as_ref(), &lockfile);
        settlements.push(Settlement { repair, text, lockfile, moves });
    }
    Ok(Some(settlements))
}

/// Tells whether a manifest comes to these wishes.
fn means(text: &str, wishes: &[Requirement]) -> bool {
    let Ok(manifest) = Manifest::parse(text) else { return false };
    let overrides = manifest.overrides();
    let bound: BTreeSet<Requirement> = manifest.requirements().iter().map(|wish| overrides.bound(wish)).collect();
    bound == wishes.iter().cloned().collect()
}

fn edited(text: &str, edits: &[WishEdit]) -> Result<String, FlowError> {
    let mut text = text.to_owned();
    for edit in edits {
        let wish = edit.wish();
        let purpose: &Purpose = &wish.purpose;
        text = match edit {
            WishEdit::Change { accept, .. } => {
                add_need(&text, purpose, &wish.package, &NeedForm::Accept(accept.clone()))?.text
            }
            WishEdit::Drop { .. } => remove_need(&text, Some(purpose), &wish.package)?.text,
        };
    }
    Ok(text)
}

/// Applies a repair: the manifest in place, then the lockfile.
///
/// # Errors
/// `Store`; the manifest is put back when the lockfile cannot be written.
pub fn apply_settlement(
    project: &LoadedProject,
    settlement: &Settlement,
    observer: &dyn Observer,
) -> Result<(), FlowError> {
    observer.notice(Event::Write("yostel.toml"));
    write_atomically(&project.manifest_path(), settlement.text.as_bytes())?;
    observer.notice(Event::Write("yostel.lock"));
    if let Err(error) = write_atomically(&project.lockfile_path(), settlement.lockfile.write().as_bytes()) {
        write_atomically(&project.manifest_path(), project.text.as_bytes())?;
        return Err(error.into());
    }
    Ok(())
}
