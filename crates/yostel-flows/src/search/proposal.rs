//! The one way from a resolution to a lockfile that is written.
//!
//! Everything that can speak against a lockfile is asked here, whoever wants to write one: [`Proposal::of`] alone makes a
//! proposal, and a proposal alone is written. What is written was read back first, so that no lockfile ever gets its name
//! that the next command cannot read.

use std::collections::BTreeMap;
use std::path::Path;

use yostel_documents::{Declared, Dispute, Disputed, Lockfile, Origin, PackageName, Seal};
use yostel_files::write_atomically;
use yostel_findings::{Move, MoveKind, compare};
use yostel_resolve::Resolution;

use crate::content::altered::complete_patches;
use crate::content::republished::all_republished;
use crate::context::Context;
use crate::error::{FlowError, LockError};
use crate::project::LoadedProject;
use crate::project::mentions::following;
use crate::project::patches::Patches;
use crate::project::write::{Texts, write_with_lockfile};
use crate::search::rules::Keep;

/// A lockfile that may be written, with the manifests that it comes with.
#[derive(Debug)]
pub struct Proposal {
    /// The manifests that change with it.
    manifests: Texts,
    /// The files among these that are no manifests, and follow what is locked.
    followed: Vec<String>,
    lockfile: Lockfile,
    text: String,
    seal: Seal,
    moves: Vec<Move>,
    changed: bool,
}

/// What a proposal is made against.
pub(crate) struct Basis<'b> {
    /// The project, with its manifests as they will be.
    pub(crate) project: &'b LoadedProject,
    /// What its manifests declare.
    pub(crate) declared: &'b Declared,
    /// Its patches.
    pub(crate) patches: &'b Patches,
    /// The lockfile as it is.
    pub(crate) before: Option<&'b Lockfile>,
    /// What of that is to be kept.
    pub(crate) keep: &'b Keep,
    /// The manifests that change, before and afterwards.
    pub(crate) manifests: Texts,
    /// Whether to refuse packages that only this machine has.
    pub(crate) shareable: bool,
}

impl Proposal {
    /// Makes a proposal of a resolution.
    ///
    /// # Errors
    /// `ForcedOutsideAgreed`, `NotShareable`, `Republished`, `NotReadableBack`; `Patch` and whatever bringing in the archives of
    /// changed packages refuses.
    pub(crate) fn of(resolution: &Resolution, basis: &Basis<'_>, context: &Context<'_>) -> Result<Self, FlowError> {
        forced_inside_agreed(basis.project, resolution)?;
        #[allow(clippy::disallowed_methods, reason = "this is the one place")]
        let mut lockfile = resolution.to_lockfile(basis.declared);
        let here_only = only_here(&lockfile);
        if basis.shareable && !here_only.is_empty() {
            return Err(LockError::NotShareable(here_only).into());
        }
        if let Some(before) = basis.before.filter(|_| *basis.keep != Keep::Nothing) {
            // What may move may also be something else than it was.
            let mut moves = compare(Some(before), &lockfile);
            moves.retain(|m| basis.keep.keeps(&m.package));
            refuse_published_again(&moves, (before, &lockfile), basis, context)?;
            refuse_other_records(moves)?;
        }
        complete_patches(&mut lockfile, basis.before, basis.patches, basis.project, context)?;
        let (text, seal) = lockfile.sealed();
        if Lockfile::parse(&text).as_ref() != Ok(&lockfile) {
            return Err(unreadable(&lockfile, &text).into());
        }
        let moves = compare(basis.before, &lockfile);
        let changed = basis.before != Some(&lockfile);
        // What mentions packages elsewhere follows in the same step.
        let (mut manifests, _) = following(basis.project, &lockfile)?;
        let followed = manifests.keys().cloned().collect();
        manifests.extend(basis.manifests.clone());
        Ok(Self { manifests, followed, lockfile, text, seal, moves, changed })
    }

    /// Returns the lockfile.
    pub fn lockfile(&self) -> &Lockfile {
        &self.lockfile
    }

    /// Returns its text.
    pub(crate) fn text(&self) -> &str {
        &self.text
    }

    /// Returns its seal.
    pub fn seal(&self) -> Seal {
        self.seal
    }

    /// Returns what moves against the lockfile as it is, by package.
    pub fn moves(&self) -> &[Move] {
        &self.moves
    }

    /// Tells whether the lockfile's bytes change.
    pub fn changes_lockfile(&self) -> bool {
        self.changed
    }

    /// Lists packages that only this machine has.
    pub fn only_here(&self) -> Vec<(PackageName, Origin)> {
        only_here(&self.lockfile)
    }

    /// Returns the lockfile and what moves.
    pub(crate) fn into_parts(self) -> (Lockfile, Vec<Move>) {
        (self.lockfile, self.moves)
    }

    /// Lists the other files of the project that change with it, since they mention what is locked.
    pub fn followed(&self) -> &[String] {
        &self.followed
    }

    /// Returns these with their texts as they would be.
    pub(crate) fn followed_texts(&self) -> BTreeMap<String, String> {
        let text = |file: &String| Some((file.clone(), self.manifests.get(file)?.1.clone()));
        self.followed.iter().filter_map(text).collect()
    }

    /// Returns the manifests, and other files, that change with it, each by its path relative to the root, with its text before and
    /// afterwards.
    pub fn manifests(&self) -> &BTreeMap<String, (String, String)> {
        &self.manifests
    }

    /// Writes the lockfile into a file that somebody else puts in its place: git, for whom a merge is made.
    ///
    /// # Errors
    /// When it cannot be written.
    pub(crate) fn write_to(&self, path: &Path) -> Result<(), FlowError> {
        Ok(write_atomically(path, self.text.as_bytes())?)
    }

    /// Writes the manifests, then the lockfile.
    ///
    /// # Errors
    /// `Store`; manifests and lockfile are then as they were.
    pub fn apply(&self, project: &LoadedProject, context: &Context<'_>) -> Result<(), FlowError> {
        write_with_lockfile(project, &self.manifests, Some(&self.text), context)
    }
}

/// Tells what would move, for a question: what is made is not written, and nothing is refused.
pub(crate) fn moves_to(resolution: &Resolution, declared: &Declared, before: &Lockfile) -> Vec<Move> {
    #[allow(clippy::disallowed_methods, reason = "it is compared, and never written")]
    let mut after = resolution.to_lockfile(declared);
    // What patches make of other releases is not asked here.
    for (name, locked) in after.chosen.iter_mut() {
        locked.altered = before.chosen.get(name).and_then(|was| was.altered.clone());
    }
    compare(Some(before), &after)
}

fn only_here(lockfile: &Lockfile) -> Vec<(PackageName, Origin)> {
    let bound = lockfile.chosen.iter().filter(|(_, locked)| !locked.from.is_shareable());
    bound.map(|(name, locked)| (name.clone(), locked.from.clone())).collect()
}

/// Refuses a forced version that is not what is agreed; only the package's numbering tells that.
fn forced_inside_agreed(project: &LoadedProject, resolution: &Resolution) -> Result<(), FlowError> {
    let top = &project.top;
    for (package, force) in &top.manifest.force {
        let (Some(agreed), Some(choice)) = (top.manifest.agreed.get(package), resolution.chosen.get(package)) else {
            continue;
        };
        let version = &choice.release.version;
        if !agreed.accept.bind(&choice.numbering).is_ok_and(|constraint| constraint.accepts(version)) {
            return Err(LockError::ForcedOutsideAgreed {
                package: package.clone(),
                forced: version.clone(),
                agreed: agreed.accept.clone(),
                path: project.manifest_of(top),
                text: top.text.clone(),
                span: force.span.clone(),
            }
            .into());
        }
    }
    Ok(())
}

/// Refuses to take a release with other content than the lockfile before has.
fn refuse_published_again(
    moves: &[Move],
    (before, after): (&Lockfile, &Lockfile),
    basis: &Basis<'_>,
    context: &Context<'_>,
) -> Result<(), FlowError> {
    if !moves.iter().any(|m| matches!(m.kind, MoveKind::Content { .. })) {
        return Ok(());
    }
    let told = all_republished(before, after, &basis.project.sources()?, context);
    if told.is_empty() { Ok(()) } else { Err(LockError::Republished(told).into()) }
}

/// Refuses to take a release whose record is not the one that is locked.
fn refuse_other_records(moves: Vec<Move>) -> Result<(), FlowError> {
    let changed = moves.into_iter().filter_map(|m| match m.kind {
        MoveKind::Record { version } => Some(Dispute { package: m.package, version, about: Disputed::Record }),
        _ => None,
    });
    let disputes: Vec<Dispute> = changed.collect();
    if disputes.is_empty() { Ok(()) } else { Err(LockError::Disputed(disputes).into()) }
}

/// Says what of a lockfile cannot be read back: probably the longest constraint, which is what grows by joining.
fn unreadable(lockfile: &Lockfile, text: &str) -> LockError {
    let problem = match Lockfile::parse(text) {
        Ok(_) => "it reads as another".to_owned(),
        Err(error) => error.to_string(),
    };
    let asked = lockfile.chosen.iter().flat_map(|(name, one)| one.asked_by.iter().map(move |asked| (name, asked)));
    let longest = asked.max_by_key(|(_, asked)| asked.accept.as_str().len());
    let longest = longest.map(|(name, asked)| (name.clone(), asked.who.to_string(), asked.accept.as_str().len()));
    LockError::NotReadableBack { longest, problem }
}
