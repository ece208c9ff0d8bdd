//! The smallest edits that end a collision: listed, previewed, applied.

use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use yostel_documents::{
    Declared, EditError, Lockfile, NeedForm, PackageName, Requirement, VersionTable, add_agreed, add_coexist, add_need,
    add_shared_role, add_swap, add_version, remove_platform, remove_rule,
};
use yostel_findings::{MoveKind, Notice, Threat, notices, threats};
use yostel_resolve::{
    Collision, Drive, EditRules, EditSet, Ended, Extent, Outcome, Problem, ROOM_FOR_WISHED, RequirementEdit, Resolver,
    RuleEdit, Settling,
};
use yostel_sources::SourceSet;

use crate::content::ask::documents_of;
use crate::context::Context;
use crate::error::{FlowError, SearchError};
use crate::look::gather::{Sought, gather};
use crate::observer::{Event, Observer};
use crate::project::LoadedProject;
use crate::project::read::load_lockfile;
use crate::project::write::{Texts, edit_needs};
use crate::search::drive::{Driven, MOST_EDIT_SETS, drive, drive_within, edit_sets_within};
use crate::search::proposal::{Basis, Proposal};
use crate::search::rules::{Keep, kept_versions, rules_of};

/// How many sets of one edit of a kind are listed, where the edit is of a rule: the rest of the list is for others.
const MOST_OF_A_KIND: usize = 3;

/// A set of edits that was proved by resolving what the manifests then say.
#[derive(Debug)]
pub struct Settlement {
    /// The edits of what manifests say beside their needs.
    pub rules: Vec<RuleEdit>,
    /// The edits of needs.
    pub needs: Vec<RequirementEdit>,
    /// The manifests and the lockfile afterwards, and what moves; to be applied.
    pub proposal: Proposal,
    /// What is said of releases that are locked then and are not yet.
    pub notices: Vec<Notice>,
    /// Advisories that affect such releases.
    pub advisories: Vec<Threat>,
}

/// What to look for.
#[derive(Debug, Clone, Default)]
pub struct SettleRequest {
    /// Only releases published by then count, but for versions that are locked.
    pub as_of: Option<Timestamp>,
    /// Packages whose needs stay as they are.
    pub kept: BTreeSet<PackageName>,
    /// How long to look before what was found will do.
    pub time_limit: Option<Duration>,
}

/// What ends a collision.
#[derive(Debug)]
pub struct Settlements {
    /// Sets of edits, the best first.
    pub all: Vec<Settlement>,
    /// How far it was looked: there may be more unless that is the whole.
    pub extent: Extent,
}

/// Lists the smallest edit sets; nothing when there is a set as things are. Those that leave alone what was not needed yet
/// when the lockfile was written come first.
///
/// # Errors
/// As locking, but for a collision; `Edit` when something is to be kept that is not needed.
pub fn settle(
    project: &LoadedProject,
    request: &SettleRequest,
    context: &Context<'_>,
) -> Result<Option<Settlements>, FlowError> {
    let before = load_lockfile(project)?;
    let declared = project.declared_with(&project.patches()?);
    if declared.requirements.is_empty() {
        return Ok(None);
    }
    let is_needed = |kept: &&PackageName| declared.requirements.iter().any(|one| one.package == **kept);
    if let Some(unknown) = request.kept.iter().find(|kept| !is_needed(kept)) {
        return Err(EditError::NoSuchNeed(unknown.clone()).into());
    }
    let search = Search {
        sources: project.sources_and_elsewhere(before.as_ref(), &Keep::Locked, context)?,
        project,
        request,
        before: before.as_ref(),
        context,
        until: request.time_limit.and_then(|limit| Instant::now().checked_add(limit)),
    };
    let wished = before.as_ref().map(|before| not_locked_yet(&declared, before)).unwrap_or_default();
    let rules = EditRules { most: MOST_EDIT_SETS, kept: request.kept.clone(), wished };
    context.observer.notice(Event::Begin("looking for edits", 0));
    let settled = yostel_resolve::settle(&search.problem_of(project)?, &rules, &mut &search);
    context.observer.notice(Event::End);
    let settled = settled?;
    let Some(collision) = settled.collision else {
        let limit = request.time_limit.filter(|_| settled.extent == Extent::OutOfTime);
        return limit.map_or(Ok(None), |limit| Err(SearchError::OutOfTime(limit).into()));
    };
    // So many of those that touch a wish are listed, where others could fill the list.
    let touches = |settling: &Settling| rules.touch_a_wish(&settling.needs);
    let wished = settled.found.iter().filter(|settling| touches(settling)).count().min(ROOM_FOR_WISHED);
    let mut all: Vec<(bool, Settlement)> = Vec::new();
    for settling in settled.found {
        let touches = touches(&settling);
        let others = all.iter().filter(|(touches, _)| !touches).count();
        let like = all.iter().filter(|(_, one)| is_like(&one.rules, &settling)).count();
        let has_room = touches || others < MOST_EDIT_SETS - wished;
        if has_room && like < MOST_OF_A_KIND && all.len() < MOST_EDIT_SETS {
            all.extend(search.proved(&settling, &collision)?.map(|settlement| (touches, settlement)));
        }
    }
    let mut sought = Sought::default();
    all.iter().for_each(|(_, settlement)| sought.add(settlement.proposal.lockfile()));
    let locked = all.iter().flat_map(|(_, settlement)| settlement.proposal.lockfile().chosen.keys());
    // All of them were asked about while it was searched.
    let document = |package: &PackageName| Some((package.clone(), search.sources.document(package).ok()??.1));
    let documents: BTreeMap<_, _> = locked.filter_map(document).collect();
    let (advisories, _) = gather(&sought, &documents, (project, &search.sources), context)?;
    let all = all.into_iter().map(|(_, mut settlement)| {
        let new = newly_locked(&settlement.proposal);
        let mut advisories = threats(settlement.proposal.lockfile(), &documents, &advisories);
        advisories.retain(|threat| new.contains(&threat.package));
        settlement.advisories = advisories;
        settlement
    });
    let all = all.collect();
    Ok(Some(Settlements { all, extent: settled.extent }))
}

/// Lists the packages that come, or move to another version.
fn newly_locked(proposal: &Proposal) -> BTreeSet<PackageName> {
    let new = proposal.moves().iter().filter(|m| matches!(m.kind, MoveKind::Added { .. } | MoveKind::Moved { .. }));
    new.map(|m| m.package.clone()).collect()
}

/// Tells whether a set is of one edit of a rule, and of the same kind as another's.
fn is_like(rules: &[RuleEdit], settling: &Settling) -> bool {
    match (rules, &settling.rules[..], settling.needs.is_empty()) {
        ([one], [other], true) => std::mem::discriminant(one) == std::mem::discriminant(other),
        _ => false,
    }
}

/// Lists the needs, as they are written, that the lockfile does not know.
fn not_locked_yet(declared: &Declared, before: &Lockfile) -> BTreeSet<Requirement> {
    let known = |written: &&Requirement| {
        let requirement = declared.overrides.bound(written);
        before.chosen.all(&requirement.package).iter().any(|locked| {
            locked.asked_by.iter().any(|asked| {
                asked.who == requirement.asker
                    && asked.purpose == requirement.purpose
                    && asked.accept == requirement.accept
            })
        })
    };
    declared.requirements.iter().filter(|requirement| !known(requirement)).cloned().collect()
}

struct Search<'s> {
    project: &'s LoadedProject,
    request: &'s SettleRequest,
    before: Option<&'s Lockfile>,
    sources: SourceSet,
    context: &'s Context<'s>,
    until: Option<Instant>,
}

/// Passes on nothing but a wish to stop: what is tried many times is told as one.
struct Quietly<'o>(&'o dyn Observer);

impl Observer for Quietly<'_> {
    fn stops(&self) -> bool {
        self.0.stops()
    }
}

impl Search<'_> {
    fn left(&self) -> Option<Duration> {
        self.until.map(|until| until.saturating_duration_since(Instant::now()))
    }

    /// Returns what is to be resolved for a project, with the lockfile as it is.
    fn problem_of(&self, project: &LoadedProject) -> Result<Problem, FlowError> {
        let declared = project.declared_with(&project.patches()?);
        let kept = self.before.map(|before| kept_versions(before, &declared, &Keep::Locked));
        let rules = rules_of(project, self.request.as_of, None, self.context.settings);
        Ok(Problem { requirements: declared.requirements, keep: kept.unwrap_or_default(), rules, ..Problem::default() })
    }

    /// Writes the edits and resolves what the manifests then say; nothing when they say something else.
    fn proved(&self, settling: &Settling, collision: &Collision) -> Result<Option<Settlement>, FlowError> {
        let texts = BTreeMap::from([(self.project.top.manifest_path(), self.project.top.text.clone())]);
        let Some(texts) = settling.rules.iter().try_fold(texts, |texts, edit| self.with_rule(texts, edit, collision))
        else {
            return Ok(None);
        };
        let Some(with_rules) = self.project.with_texts(&texts) else { return Ok(None) };
        let mut texts = texts;
        if !edit_needs(&with_rules, &mut texts, &settling.needs)? {
            return Ok(None);
        }
        let Some(mut edited) = self.project.with_texts(&texts) else { return Ok(None) };
        let observer = Quietly(self.context.observer);
        // What is not needed any more, or needed after all, may have named places of packages.
        if edited.read_places().is_err() {
            return Ok(None);
        }
        let same = edited.elsewhere == self.project.elsewhere && edited.paths.keys().eq(self.project.paths.keys());
        let others = match same {
            true => None,
            false => {
                let context = Context::new(self.context.settings, &observer);
                match edited.sources_and_elsewhere(self.before, &Keep::Locked, &context) {
                    Ok(sources) => Some(sources),
                    Err(FlowError::Content(_)) => return Ok(None),
                    Err(error) => return Err(error),
                }
            }
        };
        let sources = others.as_ref().unwrap_or(&self.sources);
        let resolver = Resolver::new(self.problem_of(&edited)?);
        let resolution = match drive(resolver, &edited, sources, &observer) {
            Ok(Driven { outcome: Outcome::Resolved(resolution), .. }) => resolution,
            Ok(_) | Err(FlowError::Search(_)) => return Ok(None),
            Err(error) => return Err(error),
        };
        let patches = edited.patches()?;
        let before_and_after = |(file, after): (String, String)| {
            let before = self.project.projects().find(|project| project.manifest_path() == file)?.text.clone();
            (before != after).then_some((file, (before, after)))
        };
        let manifests: Texts = texts.into_iter().filter_map(before_and_after).collect();
        let declared = edited.declared_with(&patches);
        let basis = Basis {
            project: &edited,
            declared: &declared,
            patches: &patches,
            before: self.before,
            keep: &Keep::Locked,
            manifests,
            shareable: false,
        };
        let proposal = Proposal::of(&resolution, &basis, self.context)?;
        let documents = documents_of(&newly_locked(&proposal), sources, &observer)?;
        let notices = notices(proposal.lockfile(), &documents);
        let (rules, needs) = (settling.rules.clone(), settling.needs.clone());
        Ok(Some(Settlement { rules, needs, proposal, notices, advisories: Vec::new() }))
    }

    /// Writes an edit of a rule into the manifest that says it; nothing when it cannot be made there.
    fn with_rule(
        &self,
        mut texts: BTreeMap<String, String>,
        edit: &RuleEdit,
        collision: &Collision,
    ) -> Option<BTreeMap<String, String>> {
        let why = reason(collision);
        let file = match edit {
            RuleEdit::OnlyOn { requirement, .. } => {
                self.project.projects().find(|file| *file.name() == *requirement.asker.name())?
            }
            _ => &self.project.top,
        };
        let text = texts.entry(file.manifest_path()).or_insert_with(|| file.text.clone());
        let edited = match edit {
            RuleEdit::Agree { package, accept, .. } => add_agreed(text, package, accept),
            RuleEdit::SwapAccept { package, by, accept, .. } | RuleEdit::Swap { package, by, accept } => {
                add_swap(text, package, by, Some(accept), &why)
            }
            RuleEdit::Unforce { package, .. } => remove_rule(text, "force", package),
            RuleEdit::Unswap { package, .. } => remove_rule(text, "swap", package),
            RuleEdit::Admit { package, version, .. } => {
                add_version(text, VersionTable::Admit, package, version.as_str(), &why)
            }
            RuleEdit::Force { package, version } => {
                add_version(text, VersionTable::Force, package, version.as_str(), &why)
            }
            RuleEdit::Coexist { package } => add_coexist(text, package),
            RuleEdit::ShareRole { role } => add_shared_role(text, role),
            RuleEdit::DropPlatform { platform } => remove_platform(text, platform),
            RuleEdit::OnlyOn { requirement, accept, .. } => {
                let form = NeedForm::Constraint(accept.clone());
                add_need(text, &requirement.purpose, &requirement.package, &form).map(|edit| edit.text)
            }
        };
        *text = edited.ok()?;
        Some(texts)
    }
}

/// How many needs a reason names.
const MOST_REASONS: usize = 3;

/// Says why an edit was made, for whoever reads the manifest later.
fn reason(collision: &Collision) -> String {
    let needs: Vec<String> =
        collision.requirements.iter().map(|need| format!("{} {}", need.package, need.accept)).collect();
    match &needs[..] {
        [one] => format!("without it, no release meets {one}"),
        [most @ .., last] if needs.len() <= MOST_REASONS => {
            format!("without it, {} and {last} cannot be met together", most.join(", "))
        }
        many => format!("without it, {} and {} more needs cannot be met together", many[0], many.len() - 1),
    }
}

impl Drive for &Search<'_> {
    type Error = FlowError;

    fn drive(&mut self, resolver: Resolver) -> Result<Ended<FlowError>, FlowError> {
        let left = self.left();
        if left == Some(Duration::ZERO) {
            return Ok(Ended::OutOfTime);
        }
        let observer = Quietly(self.context.observer);
        match drive_within(resolver, self.project, &self.sources, &observer, left) {
            Ok(Driven { outcome: Outcome::Stopped(_), resolver, .. }) if !resolver.is_worn_out() => {
                Ok(Ended::OutOfTime)
            }
            Ok(Driven { outcome, resolver, .. }) => Ok(Ended::Well(outcome, Box::new(resolver))),
            Err(error @ FlowError::Search(_)) => Ok(Ended::Badly(error)),
            Err(error) => Err(error),
        }
    }

    fn edit_sets(&mut self, resolver: &mut Resolver, rules: &EditRules) -> Result<Vec<EditSet>, FlowError> {
        edit_sets_within(resolver, rules, &Quietly(self.context.observer), self.left())
    }
}
