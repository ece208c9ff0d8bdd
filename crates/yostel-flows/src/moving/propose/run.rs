//! Making the proposals that are due: branches, commits and records, and what is taken without being asked.

use std::collections::BTreeMap;

use yostel_documents::{PackageName, ProposalRecord, Proposals};
use yostel_files::Folder;
use yostel_findings::{
    Candidate, Comparison, MoveKind, ProposalLimits, ProposalState, ProposalStep, Proposed, proposal_steps,
};
use yostel_store::changes_between;
use yostel_versions::Version;

use crate::context::Context;
use crate::decide::lock::Write;
use crate::error::{FlowError, LockError, ProjectError, ProposalError};
use crate::moving::propose::decide::{accepted, closed};
use crate::moving::propose::host::{Host, Kept, LocalHost, git};
use crate::moving::propose::plans::{Plan, plans};
use crate::moving::tested::{RunCheck, Tester};
use crate::moving::update::{UpdateReport, update_tested};
use crate::project::LoadedProject;
use crate::project::files::{LOCKFILE_NAME, MOST_LOCKFILE, read_text};
use crate::project::read::load_lockfile;
use crate::using::checks::checks_of;

/// What to propose.
#[derive(Debug, Clone)]
pub struct ProposeRequest {
    /// Only these packages; whatever can move when there are none.
    pub packages: Vec<PackageName>,
    /// Whether to propose at any time, whatever the manifest says.
    pub any_time: bool,
    /// Whether to write.
    pub write: Write,
}

/// A proposal that is written down, with facts that a reviewer can judge by.
#[derive(Debug)]
pub struct Draft<'d> {
    /// Its name.
    pub name: &'d str,
    /// Where its own packages would be.
    pub targets: &'d BTreeMap<String, String>,
    /// The update.
    pub report: &'d UpdateReport,
    /// How many need each package that moves.
    pub uses: BTreeMap<PackageName, usize>,
    /// How many files differ between the two releases of each package that moves, where the cache has both.
    pub files: BTreeMap<PackageName, usize>,
    /// Who is told.
    pub tell: &'d [String],
}

/// Says what a proposal is: in a line, and in Markdown.
pub type Describe<'d> = dyn Fn(&Draft<'_>) -> (String, String) + 'd;

/// What became of a proposal.
#[derive(Debug, Clone)]
pub struct Stepped {
    /// Its name.
    pub name: String,
    /// Where its own packages would be; nothing of what is left of it to do.
    pub targets: BTreeMap<String, String>,
    /// What was done, or would be.
    pub step: ProposalStep,
    /// What is remembered of it; nothing of what is not open yet.
    pub record: Option<ProposalRecord>,
    /// Why it was left as it is, where that is not for us to change.
    pub left: Option<WhyLeft>,
    /// Whether it was taken without being asked.
    pub taken: bool,
}

/// Why a proposal is left as it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WhyLeft {
    /// Somebody committed to its branch.
    ChangedByOthers,
    /// Its branch is checked out.
    CheckedOut,
    /// A branch of its name is there.
    BranchThere,
}

/// What proposing came to.
#[derive(Debug)]
pub struct ProposeReport {
    /// The branch that is proposed for.
    pub branch: String,
    /// Its commit.
    pub base: String,
    /// What became of each proposal, those first that end advisories.
    pub steps: Vec<Stepped>,
    /// Packages that are left out, and whose day is past.
    pub overdue: Vec<PackageName>,
    /// Whether it was written.
    pub written: bool,
}

/// Proposes what could move. Called again, it does only what is left to do.
///
/// # Errors
/// `NoBranch`, `NoCommit`, `NotCommitted`, `NoLockfile`, `ProposalError::Git`, and as updating and running checks.
pub fn propose(
    project: &LoadedProject,
    request: &ProposeRequest,
    run: &RunCheck<'_>,
    describe: &Describe<'_>,
    context: &Context<'_>,
) -> Result<ProposeReport, FlowError> {
    let made = context.cache.work_folder()?;
    let host = LocalHost::open(&project.root, made.folder(), context)?;
    let (branch, base) = base_of(project, &host)?;
    let nothing = Proposals::default();
    let proposals = project.manifest().proposals.as_ref().unwrap_or(&nothing);
    let mut records = host.records()?;
    if request.write == Write::File {
        settle_what_happened(&mut records, &host, context)?;
    }
    let plans = plans(project, proposals, &request.packages, context)?;
    let candidates: Vec<Candidate> = plans.iter().map(|plan| plan.candidate.clone()).collect();
    let now = context.settings.now;
    let limits = ProposalLimits {
        at_once: usize::try_from(proposals.at_once).unwrap_or(usize::MAX),
        is_time: request.any_time || proposals.is_time(now),
        base: &base,
    };
    let mut proposed: Vec<Proposed> = records.values().map(as_proposed).collect();
    // Of what was not asked about, nothing is known to be left or not.
    proposed.retain(|one| request.packages.is_empty() || candidates.iter().any(|other| other.name == one.name));
    let mut steps = Vec::new();
    for (name, step) in proposal_steps(&candidates, &proposed, limits) {
        let kept = records.get(&name);
        let plan = plans.iter().find(|plan| plan.candidate.name == name);
        let targets = plan.map(|plan| plan.candidate.targets.clone()).unwrap_or_default();
        let record = kept.map(|kept| kept.record.clone());
        let mut stepped = Stepped { name: name.clone(), targets, step, record, left: None, taken: false };
        let is_work = matches!(step, ProposalStep::Open | ProposalStep::Redo | ProposalStep::Close);
        let open = kept.filter(|kept| is_work && kept.record.is_open());
        if open.is_some_and(Kept::is_changed_by_others) {
            stepped.left = Some(WhyLeft::ChangedByOthers);
        } else if open.is_some_and(|kept| kept.is_checked_out) {
            stepped.left = Some(WhyLeft::CheckedOut);
        } else if step == ProposalStep::Open && host.branch_of(&name)?.is_some() {
            stepped.left = Some(WhyLeft::BranchThere);
        } else if request.write == Write::File {
            match (step, plan, kept) {
                (ProposalStep::Open | ProposalStep::Redo, Some(plan), _) => {
                    let maker = Maker { project, proposals, host: &host, work: made.folder(), context };
                    let (record, may_be_taken) = maker.made(plan, kept, (&branch, &base), run, describe)?;
                    host.publish(&record, kept)?;
                    stepped.record = Some(record);
                    // One at a time: what is taken moves the branch, and what comes then is made on that.
                    if may_be_taken && !steps.iter().any(|one: &Stepped| one.taken) {
                        let kept = host.records()?.remove(&name);
                        let taken = kept.map(|kept| accepted(&host, &kept, "nothing spoke against it", context));
                        match taken {
                            Some(Ok(record)) => {
                                stepped.record = Some(record);
                                stepped.taken = true;
                            }
                            // It stays open: people see what is in the way.
                            None | Some(Err(FlowError::Proposal(_))) => {}
                            Some(Err(error)) => return Err(error),
                        }
                    }
                }
                (ProposalStep::Close, _, Some(kept)) => {
                    stepped.record =
                        Some(closed(&host, kept, "closed", "nothing of it is to be proposed any more", context)?);
                }
                _ => {}
            }
        }
        steps.push(stepped);
    }
    let today = proposals.today(now);
    let is_over = |left: &&yostel_documents::LeftOut| left.until.is_some_and(|until| until < today);
    let overdue = proposals.left_out.iter().filter(|(_, left)| is_over(left)).map(|(package, _)| package.clone());
    let written = request.write == Write::File;
    Ok(ProposeReport { branch, base, steps, overdue: overdue.collect(), written })
}

/// Finds the branch that is checked out and its commit, which must have the manifests and the lockfile as they are here.
fn base_of(project: &LoadedProject, host: &LocalHost<'_>) -> Result<(String, String), FlowError> {
    let repository = &host.repository;
    let branch = repository.branch().map_err(git)?.ok_or(ProposalError::NoBranch)?;
    if branch.starts_with("proposals/") {
        return Err(ProposalError::OnProposal(branch).into());
    }
    let base = repository.object("HEAD").map_err(git)?.ok_or_else(|| ProposalError::NoCommit(branch.clone()))?;
    load_lockfile(project)?.ok_or_else(|| LockError::NoLockfile(project.lockfile_path()))?;
    let mut changed = Vec::new();
    let manifests = project.projects().map(|file| (file.manifest_path(), file.text.clone().into_bytes()));
    let path = project.lockfile_path();
    let read = project.files.read(&path, MOST_LOCKFILE);
    let text = read.map_err(|cause| ProjectError::Read { path, cause })?;
    for (file, here) in manifests.chain([(LOCKFILE_NAME.to_owned(), text.into_bytes())]) {
        if repository.file(&base, &file).map_err(git)?.as_deref() != Some(&here[..]) {
            changed.push(file);
        }
    }
    if changed.is_empty() { Ok((branch, base)) } else { Err(ProposalError::NotCommitted(changed).into()) }
}

fn as_proposed(kept: &Kept) -> Proposed {
    let record = &kept.record;
    Proposed {
        name: record.name.clone(),
        state: match record.state.as_str() {
            "open" => ProposalState::Open,
            "accepted" => ProposalState::Accepted,
            "declined" => ProposalState::Declined,
            _ => ProposalState::Closed,
        },
        targets: record.targets.clone(),
        digest: record.digest.clone(),
        base: record.base.clone(),
    }
}

/// Notes what people did with git alone: a branch that was merged, or deleted.
fn settle_what_happened(
    records: &mut BTreeMap<String, Kept>,
    host: &LocalHost<'_>,
    context: &Context<'_>,
) -> Result<(), FlowError> {
    for kept in records.values_mut().filter(|kept| kept.record.is_open()) {
        let base = host.repository.object(&format!("refs/heads/{}", kept.record.base_branch)).map_err(git)?;
        let tip = kept.branch.as_ref().unwrap_or(&kept.record.commit);
        let is_merged = match &base {
            Some(base) => host.repository.is_ancestor(tip, base).map_err(git)?,
            None => false,
        };
        let (state, why) = match (is_merged, &kept.branch) {
            (true, _) => ("accepted", "its branch was merged"),
            (false, None) => ("declined", "its branch was deleted"),
            (false, Some(_)) => continue,
        };
        kept.record = closed(host, kept, state, why, context)?;
        kept.branch = None;
    }
    // What was written is read again, with its objects.
    *records = host.records()?;
    Ok(())
}

/// What a proposal is made with.
struct Maker<'m> {
    project: &'m LoadedProject,
    proposals: &'m Proposals,
    host: &'m LocalHost<'m>,
    work: &'m Folder,
    context: &'m Context<'m>,
}

impl Maker<'_> {
    /// Makes a proposal's commit and record, with its checks run; tells too whether it may be taken without being asked.
    fn made(
        &self,
        plan: &Plan,
        before: Option<&Kept>,
        (branch, base): (&str, &str),
        run: &RunCheck<'_>,
        describe: &Describe<'_>,
    ) -> Result<(ProposalRecord, bool), FlowError> {
        let Self { project, proposals, host, work, context } = self;
        let tested = match checks_of(project, &[]) {
            Ok(_) => {
                let tester = Tester { run, culprit: false };
                Some(update_tested(project, &plan.request, Some(tester), context)?)
            }
            Err(FlowError::Project(ProjectError::NoChecks(_))) => None,
            Err(error) => return Err(error),
        };
        let report = tested.as_ref().unwrap_or(&plan.report);
        let name = plan.candidate.name.as_str();
        let draft = Draft {
            name,
            targets: &plan.candidate.targets,
            report,
            uses: self.uses(report)?,
            files: self.files(report)?,
            tell: &proposals.tell,
        };
        self.refuse_uncommitted(&report.followed, base)?;
        let (subject, summary) = describe(&draft);
        let files: Vec<(String, Vec<u8>)> =
            report.files.iter().map(|(file, text)| (file.clone(), text.clone().into_bytes())).collect();
        let message = format!("{subject}\n\n{summary}");
        let commit = host.repository.commit(base, &files, &message, work).map_err(git)?;
        let opened = before.filter(|kept| kept.record.is_open()).map(|kept| kept.record.opened);
        let checks = report.tested.as_ref().filter(|tested| !tested.checks.is_empty());
        let record = ProposalRecord {
            base_branch: branch.to_owned(),
            base: base.to_owned(),
            commit,
            digest: plan.candidate.digest.clone(),
            targets: plan.candidate.targets.clone(),
            moves: moves_of(&report.comparison),
            urgent: plan.candidate.is_urgent,
            checks: checks.map_or("none", |tested| if tested.passes() { "passed" } else { "failed" }).to_owned(),
            subject,
            summary,
            ..ProposalRecord::open(name, opened.unwrap_or(context.settings.now))
        };
        let may_be_taken = record.checks == "passed" && self.nothing_speaks_against(plan, report);
        Ok((record, may_be_taken))
    }

    /// Refuses to propose on files that are not as they were committed.
    fn refuse_uncommitted(&self, files: &[String], base: &str) -> Result<(), FlowError> {
        for file in files {
            let path = self.project.root.join(file);
            let here = read_text(&*self.project.files, &path)?;
            if self.host.repository.file(base, file).map_err(git)?.as_deref() != Some(here.as_bytes()) {
                return Err(ProposalError::NotCommitted(vec![file.clone()]).into());
            }
        }
        Ok(())
    }

    /// Tells whether an update is one that is taken without being asked.
    fn nothing_speaks_against(&self, plan: &Plan, report: &UpdateReport) -> bool {
        let comparison = &report.comparison;
        let is_unasked =
            |package: &String| PackageName::parse(package).is_ok_and(|package| self.proposals.is_unasked(&package));
        let stays_on_line = comparison.moves.iter().all(|one| match &one.moved.kind {
            MoveKind::Moved { crosses_line, .. } => !crosses_line,
            MoveKind::Dropped { .. } | MoveKind::Purposes { .. } => true,
            _ => false,
        });
        plan.candidate.targets.keys().all(is_unasked)
            && stays_on_line
            && comparison.new_licences.is_empty()
            && comparison.advisories_in.is_empty()
            && report.edits.is_empty()
    }

    /// Counts who needs each package that moves.
    fn uses(&self, report: &UpdateReport) -> Result<BTreeMap<PackageName, usize>, FlowError> {
        let before = load_lockfile(self.project)?;
        let uses = |package: &PackageName| -> usize {
            let locked = before.iter().flat_map(|before| before.chosen.all(package));
            locked.map(|locked| locked.asked_by.len()).sum()
        };
        let moved = report.comparison.moves.iter().map(|one| &one.moved.package);
        Ok(moved.map(|package| (package.clone(), uses(package))).collect())
    }

    /// Counts the files that differ between two releases, where the cache has both.
    fn files(&self, report: &UpdateReport) -> Result<BTreeMap<PackageName, usize>, FlowError> {
        let before = load_lockfile(self.project)?;
        let after = report.files.get(LOCKFILE_NAME).and_then(|text| yostel_documents::Lockfile::parse(text).ok());
        let (Some(before), Some(after)) = (before, after) else { return Ok(BTreeMap::new()) };
        let platform = &self.context.settings.platform;
        let cache = &self.context.cache;
        let mut counts = BTreeMap::new();
        for one in &report.comparison.moves {
            let MoveKind::Moved { from, to, .. } = &one.moved.kind else { continue };
            let package = &one.moved.package;
            let tree = |lockfile: &yostel_documents::Lockfile, version: &Version| {
                let (artifact, _) = lockfile.chosen.at(package, version)?.fitting(platform)?;
                Some((cache.tree(artifact.tree).ok()?, cache.listing(artifact.tree).ok()?))
            };
            if let (Some(old), Some(new)) = (tree(&before, from), tree(&after, to)) {
                counts.insert(package.clone(), changes_between((&old.0, &old.1), (&new.0, &new.1))?.len());
            }
        }
        Ok(counts)
    }
}

fn moves_of(comparison: &Comparison) -> BTreeMap<String, (Option<String>, Option<String>)> {
    let one = |moved: &yostel_findings::Compared| {
        let text = |version: &Version| Some(version.to_string());
        let ends = match &moved.moved.kind {
            MoveKind::Moved { from, to, .. } => (text(from), text(to)),
            MoveKind::Added { to } => (None, text(to)),
            MoveKind::Dropped { from } => (text(from), None),
            _ => return None,
        };
        Some((moved.moved.package.to_string(), ends))
    };
    comparison.moves.iter().filter_map(one).collect()
}
