//! Trying an update before it is written: the checks of the projects that its moves reach are run in a copy.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Declared, Lockfile, PackageName};
use yostel_findings::CheckVerdict;

use crate::context::Context;
use crate::error::{FlowError, ProjectError};
use crate::look::compare::Side;
use crate::moving::culprit::{CulpritReport, CulpritRequest, culprit};
use crate::moving::scratch::{CheckPlace, CheckRoom, Ran};
use crate::project::LoadedProject;
use crate::project::files::read_text;
use crate::project::read::load_lockfile;
use crate::using::checks::{CheckIn, checks_of, reaches};

/// With what a check is run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum With {
    /// With all of an update.
    Update,
    /// With what is locked now.
    Now,
    /// With so many of its moves.
    Some(usize),
}

/// Runs a check at a place.
pub type RunCheck<'c> = dyn Fn(&CheckIn, &CheckPlace, With) -> Result<Ran, FlowError> + Sync + 'c;

/// How an update is tried before it is written.
pub struct Tester<'t, 'c> {
    /// What runs a check.
    pub run: &'t RunCheck<'c>,
    /// Whether to find the moves that make a check fail.
    pub culprit: bool,
}

/// A check that was run with an update.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Checked {
    /// The check, and where it was run.
    pub check: CheckIn,
    /// What came of it.
    pub ran: Ran,
    /// Of one that did not pass, what it says of what is locked now.
    pub before: Option<CheckVerdict>,
}

impl Checked {
    /// Tells whether it passed.
    pub fn passes(&self) -> bool {
        self.ran.verdict == CheckVerdict::Passes
    }
}

/// What trying an update came to.
#[derive(Debug, Default)]
pub struct Tested {
    /// The checks that its moves reach, in the order in which they were run.
    pub checks: Vec<Checked>,
    /// How many others there are.
    pub unreached: usize,
    /// The moves that make the first check fail that passes without the update, where that was asked for.
    pub culprit: Option<CulpritReport>,
}

impl Tested {
    /// Tells whether all checks passed.
    pub fn passes(&self) -> bool {
        self.checks.iter().all(Checked::passes)
    }
}

/// A set that may be written, beside what is there.
pub(crate) struct Trial<'t> {
    /// As the project is.
    pub(crate) project: &'t LoadedProject,
    pub(crate) before: (&'t Lockfile, &'t Declared),
    /// As it would be.
    pub(crate) edited: &'t LoadedProject,
    pub(crate) after: (&'t Lockfile, &'t Declared),
    /// The lockfile as it would be written.
    pub(crate) text: &'t str,
    /// Other files that follow it.
    pub(crate) followed: BTreeMap<String, String>,
    /// The packages that are otherwise.
    pub(crate) moved: BTreeSet<&'t PackageName>,
}

/// Runs the checks that moves reach, with these moves made in a copy of the project.
///
/// # Errors
/// `NoChecks`, `CheckNowhere`; those of copying and installing, and what running a check returns. `ChangedMeanwhile` when the
/// project is not any more as it was.
pub(crate) fn try_out(trial: &Trial<'_>, tester: Tester<'_, '_>, context: &Context<'_>) -> Result<Tested, FlowError> {
    let Tester { run, culprit: wants_culprit } = tester;
    let all = checks_of(trial.edited, &[])?;
    let is_reached =
        |check: &CheckIn| reaches(check, &trial.moved, trial.before) || reaches(check, &trial.moved, trial.after);
    let (reached, others): (Vec<CheckIn>, Vec<CheckIn>) = all.into_iter().partition(is_reached);
    let mut tested = Tested { unreached: others.len(), ..Tested::default() };
    if reached.is_empty() {
        return Ok(tested);
    }
    let run_in = |check: &CheckIn, room: &CheckRoom<'_>, with| {
        run(check, &room.place_in(&check.project, &check.check.purposes)?, with)
    };
    let room = CheckRoom::with(trial.edited, trial.text, &trial.followed, context)?;
    for check in reached {
        let ran = run_in(&check, &room, With::Update)?;
        tested.checks.push(Checked { check, ran, before: None });
    }
    drop(room);
    if !tested.passes() {
        // Whether it is for the update at all.
        let room = CheckRoom::with(trial.project, &trial.before.0.sealed().0, &BTreeMap::new(), context)?;
        for checked in tested.checks.iter_mut().filter(|checked| !checked.passes()) {
            checked.before = Some(run_in(&checked.check, &room, With::Now)?.verdict);
        }
    }
    let is_of_moves =
        |checked: &&Checked| checked.ran.verdict == CheckVerdict::Fails && checked.before == Some(CheckVerdict::Passes);
    if wants_culprit && let Some(checked) = tested.checks.iter().find(is_of_moves) {
        let sides = [Side::Now, Side::Unwritten(Box::new(trial.after.0.clone()))];
        let in_room = |room: &CheckRoom<'_>, (some, _): (usize, usize)| run_in(&checked.check, room, With::Some(some));
        let request = CulpritRequest { sides, at_once: 1, question: None, resume: false };
        tested.culprit = Some(culprit(trial.project, request, &in_room, context)?);
    }
    refuse_changed(trial)?;
    Ok(tested)
}

/// Refuses to go on with what was edited while the checks ran.
fn refuse_changed(trial: &Trial<'_>) -> Result<(), FlowError> {
    for file in trial.project.projects() {
        let path = trial.project.manifest_of(file);
        if read_text(&*trial.project.files, &path)? != file.text {
            return Err(ProjectError::ChangedMeanwhile(path).into());
        }
    }
    match load_lockfile(trial.project)? {
        Some(lockfile) if lockfile == *trial.before.0 => Ok(()),
        _ => Err(ProjectError::ChangedMeanwhile(trial.project.lockfile_path()).into()),
    }
}
