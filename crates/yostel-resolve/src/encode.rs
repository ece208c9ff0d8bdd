//! From packages to clauses, as far as the search gets.
//!
//! One variable per release that may be chosen: true = chosen; at most one of a package's. One variable per need (a package
//! and a constraint): true = one of the releases accepted is chosen. A release that needs something implies that need's
//! variable, so a need that many share is one clause. Only when a release becomes true in the search is it looked at
//! and what it needs stated; what is never looked at costs nothing.

mod frontier;
mod groups;
mod order;

use std::collections::BTreeMap;
use std::ops::Range;

use yostel_documents::{Take, Word};
use yostel_solver::{Config, Lit, Model, Outcome, Searching, Solver, Var};

use crate::known::Halt;
use crate::known::{Known, NeedId, PackageId};
use crate::problem::Problem;
use frontier::Frontier;
use groups::{groups_by_line, others};
use order::Order;

/// What a variable stands for.
#[derive(Debug, Clone, Copy)]
pub(super) enum Meaning {
    /// The release of this package at this place in its document.
    Release(PackageId, u32),
    Need(NeedId),
    /// A counter, or a switch.
    Helper,
}

/// The releases of a package that may be chosen, the preferred first.
#[derive(Debug, Clone)]
pub(super) struct Candidates {
    first: usize,
    /// Their places in the document.
    places: Vec<u32>,
    /// The variables of the releases to keep.
    kept: Vec<Lit>,
    /// Whether releases of several lines may be chosen at once.
    apart: bool,
}

impl Candidates {
    /// Returns the variables' numbers.
    fn span(&self) -> Range<usize> {
        self.first..self.first + self.places.len()
    }
}

/// How far the search was followed when something was decided, to go back to.
#[derive(Debug, Clone, Copy, Default)]
struct Mark {
    read: usize,
    open: usize,
    met: usize,
    /// How many of the needs are met or of packages that took part in conflicts.
    calm: usize,
    /// How many of the switches have a value.
    switched: usize,
    /// Of the order in which to go: how many of what comes first, which layer, and how many of that.
    first: usize,
    layer: usize,
    item: usize,
}

/// A need's variable, and the releases that meet it in the order in which to try them, once that is known.
type StatedNeed = (Lit, Option<Box<[Lit]>>);

#[derive(Debug, Default)]
struct Tables {
    /// By package.
    candidates: Vec<Option<Candidates>>,
    /// By need.
    needs: Vec<Option<StatedNeed>>,
    /// Needs whose packages did not arrive.
    waiting: Vec<NeedId>,
    /// How many answers had come when they were last gone through.
    arrived: usize,
    /// By variable.
    meanings: Vec<Meaning>,
    /// By variable: whether what the release needs was stated.
    stated: Vec<bool>,
    /// By role, the packages that can fill it, each with the literal that says it does.
    roles: BTreeMap<Word, BTreeMap<usize, Lit>>,
    /// How far the trail was followed: `read` literals, on which `open` needs were found, `met` of them met.
    at: Mark,
    open: Vec<NeedId>,
    /// How many of the first of those are bound, since their packages arrived.
    bound: usize,
    marks: Vec<Mark>,
    /// What is decided before anything else, and false if it can be.
    switches: Vec<Lit>,
    /// None where the search decides as it likes.
    order: Option<Order>,
    /// Whether what releases need is not to be stated.
    is_closed: bool,
}

/// A problem as clauses, and the way back.
#[derive(Debug)]
pub(super) struct Encoding {
    pub(super) solver: Solver,
    tables: Tables,
    /// Whether what a question assumed is held for the next: stating undoes that, so what was stated is not stated again.
    holds: bool,
    /// What stands for a package being there at one of some releases.
    one_of: BTreeMap<(PackageId, Box<[u32]>), Lit>,
}

impl Encoding {
    /// Starts with no clauses; its searches end when what is known says stop.
    pub(super) fn new(known: &Known) -> Self {
        Self::with(known, false, false)
    }

    /// Like [`Self::new`], for many questions that begin with the same assumptions.
    pub(super) fn for_trials(known: &Known) -> Self {
        Self::with(known, false, true)
    }

    /// Like [`Self::new`], for a proof.
    pub(super) fn with_proof(known: &Known) -> Self {
        Self::with(known, true, false)
    }

    fn with(known: &Known, record_proof: bool, hold_assumptions: bool) -> Self {
        let config = Config { record_proof, hold_assumptions, stop: Some(known.stop().clone()), ..Config::default() };
        Self {
            solver: Solver::new(config),
            tables: Tables::default(),
            holds: hold_assumptions,
            one_of: BTreeMap::new(),
        }
    }

    /// Lets nothing more of what releases need be stated, and no more packages be wanted: what there is until now is all that
    /// counts.
    pub(super) fn state_no_more(&mut self) {
        self.tables.is_closed = true;
    }

    /// Returns the variable of a need, as a literal.
    pub(super) fn need(&mut self, need: NeedId, problem: &Problem, known: &Known) -> Lit {
        match self.tables.needs.get(need.index()) {
            Some(Some((literal, _))) if self.holds => *literal,
            _ => self.tables.need(need, problem, known, &mut self.solver.stating()),
        }
    }

    /// Returns the releases of a package that may be chosen, the preferred first, each with its place in the document.
    pub(super) fn candidates(&mut self, id: PackageId, problem: &Problem, known: &Known) -> Vec<(u32, Lit)> {
        if !self.holds || !matches!(self.tables.candidates.get(id.index()), Some(Some(_))) {
            self.tables.place(id, problem, known, &mut self.solver.stating());
        }
        let candidates = self.tables.candidates[id.index()].iter();
        candidates.flat_map(|c| c.places.iter().copied().zip(c.span().map(positive))).collect()
    }

    /// Returns a literal that, while it is true, has a package be there at one of these releases, which may all be chosen; of one
    /// that may be there at one version.
    pub(super) fn one_of(&mut self, id: PackageId, releases: &[u32], problem: &Problem, known: &Known) -> Lit {
        if let Some(literal) = self.one_of.get(&(id, releases.into())) {
            return *literal;
        }
        let candidates = self.candidates(id, problem, known);
        let mut left: Vec<Lit> = candidates
            .iter()
            .filter(|(at, _)| releases.binary_search(at).is_ok())
            .map(|(_, literal)| *literal)
            .collect();
        left.sort_unstable();
        let literal = self.helper();
        let span = candidates.iter().map(|(_, literal)| literal.var().index());
        let all = span.clone().min().unwrap_or_default()..span.max().map_or(0, |last| last + 1);
        self.solver.exclude(literal.var(), &others(all, &left));
        self.solver.add_clause(&[&[!literal], &left[..]].concat());
        self.one_of.insert((id, releases.into()), literal);
        literal
    }

    /// Adds a variable of no meaning in the problem.
    pub(super) fn helper(&mut self) -> Lit {
        self.solver.new_var().positive()
    }

    /// Has these decided before anything else: false, where they can be.
    pub(super) fn decide_first(&mut self, switches: impl IntoIterator<Item = Lit>) {
        self.tables.switches.extend(switches);
    }

    /// Returns the variable of a release, when it may be chosen.
    pub(super) fn release(&mut self, id: PackageId, at: u32, problem: &Problem, known: &Known) -> Option<Lit> {
        self.tables.place(id, problem, known, &mut self.solver.stating());
        self.tables.candidates[id.index()].as_ref()?.literal(at)
    }

    /// States what every release that was looked at needs.
    pub(super) fn state_all(&mut self, problem: &Problem, known: &Known) {
        let search = &mut self.solver.stating();
        for (id, _) in known.documents() {
            self.tables.place(id, problem, known, search);
            for (at, _, needs) in known.looked_at(id) {
                let of_package = self.tables.candidates[id.index()].as_ref();
                let Some(release) = of_package.and_then(|candidates| candidates.literal(at)) else { continue };
                for &need in needs {
                    let need = self.tables.need(need, problem, known, search);
                    search.add_clause(&[!release, need]);
                }
                self.tables.fill_roles(release, id, at, problem, known, search);
            }
        }
    }

    /// Searches for a set in which the assumptions hold; looks at releases on the way. When there is none, returns the
    /// assumptions to blame.
    ///
    /// # Errors
    /// [`Halt`]: packages must arrive first (`known` says which), or time is up.
    pub(super) fn solve_or_blame(
        &mut self,
        assumptions: &[Lit],
        problem: &Problem,
        known: &mut Known,
    ) -> Result<Result<Model, Vec<Lit>>, Halt> {
        if self.tables.order.take().is_some() {
            self.solver.give_up_paused();
        }
        match self.solve(assumptions, problem, known) {
            Outcome::Satisfiable(model) => Ok(Ok(model)),
            Outcome::Unsatisfiable(core) => Ok(Err(core)),
            Outcome::Stopped => Err(Halt::Stopped),
            Outcome::Paused => Err(Halt::Missing),
        }
    }

    /// Tells whether the assumptions are seen to collide where nothing else is decided and nothing more is looked at, and which
    /// of them are to blame.
    ///
    /// # Errors
    /// Time is up.
    pub(super) fn seen_to_collide(&mut self, assumptions: &[Lit], known: &mut Known) -> Result<Option<Vec<Lit>>, Halt> {
        self.solver.limit_forced(known.left());
        let before = self.solver.stats().propagations;
        let outcome = self.solver.propagate_only(assumptions);
        known.count_forced(self.solver.stats().propagations - before);
        match outcome {
            Outcome::Unsatisfiable(core) => Ok(Some(core)),
            Outcome::Satisfiable(_) | Outcome::Paused => Ok(None),
            Outcome::Stopped => Err(Halt::Stopped),
        }
    }

    fn solve(&mut self, assumptions: &[Lit], problem: &Problem, known: &mut Known) -> Outcome {
        self.solver.limit_forced(known.left());
        let before = self.solver.stats().propagations;
        let guide = &mut Frontier { tables: &mut self.tables, problem, known: &mut *known };
        let outcome = self.solver.solve_guided(assumptions, guide);
        known.count_forced(self.solver.stats().propagations - before);
        outcome
    }

    /// Returns which releases of a package a model chooses, by their places in the document, rising.
    pub(super) fn chosen(&self, id: PackageId, model: &Model) -> Vec<u32> {
        let candidates = self.tables.candidates.get(id.index()).and_then(Option::as_ref);
        let all = candidates.into_iter().flat_map(|c| c.span().zip(c.places.iter().copied()));
        let mut chosen: Vec<u32> = all.filter(|(n, _)| model.is_true(positive(*n))).map(|(_, at)| at).collect();
        chosen.sort_unstable();
        chosen
    }

    /// Says what each variable stands for.
    pub(super) fn meanings(&self) -> impl Iterator<Item = Meaning> {
        let rest = std::iter::repeat(Meaning::Helper);
        self.tables.meanings.iter().copied().chain(rest).take(self.solver.variables())
    }
}

impl Candidates {
    fn literal(&self, at: u32) -> Option<Lit> {
        // Rising or falling, whichever is preferred.
        let falling = self.places.first() > self.places.last();
        let found = match falling {
            true => self.places.binary_search_by(|place| at.cmp(place)),
            false => self.places.binary_search(&at),
        };
        found.ok().map(|i| positive(self.first + i))
    }
}

fn positive(number: usize) -> Lit {
    Var::from_index(number).positive()
}

impl Tables {
    fn record_meanings(&mut self, first: usize, meanings: impl Iterator<Item = Meaning>) {
        self.meanings.resize(first, Meaning::Helper);
        self.meanings.extend(meanings);
    }

    /// Makes the variables of a package that arrived, once.
    fn place(&mut self, id: PackageId, problem: &Problem, known: &Known, search: &mut Searching<'_>) {
        if self.candidates.len() <= id.index() {
            self.candidates.resize(id.index() + 1, None);
        }
        if self.candidates[id.index()].is_some() || !known.has_arrived(id) {
            return;
        }
        let name = known.name(id);
        let releases = known.document_of(id).map_or(&[][..], |document| &document.releases);
        let may_choose = (0u32..).zip(releases).filter(|(_, release)| problem.bar(name, release).is_none());
        let mut places: Vec<u32> = may_choose.map(|(at, _)| at).collect();
        if problem.rules.take == Take::Newest {
            places.reverse();
        }
        let apart = problem.rules.coexist.contains(name);
        let first = match (places.is_empty(), apart) {
            (true, _) => 0,
            (false, false) => search.new_group(places.len()).index(),
            (false, true) => {
                let numbering = known.document_of(id).map(|document| document.numbering.clone()).unwrap_or_default();
                groups_by_line(&places, releases, numbering, search)
            }
        };
        let mut candidates = Candidates { first, places, kept: Vec::new(), apart };
        let kept = problem.keep.get(name).into_iter().flatten().filter_map(|version| {
            let at = releases.iter().position(|release| release.version == *version)?;
            candidates.literal(u32::try_from(at).ok()?)
        });
        candidates.kept = kept.collect();
        if let Some(number) = candidates.span().next() {
            self.record_meanings(number, candidates.places.iter().map(|&at| Meaning::Release(id, at)));
            // A good guess at the best set; a guess changes how soon it is found, never which it is.
            match candidates.kept.is_empty() {
                true => search.prefer(positive(number)),
                false => candidates.kept.iter().for_each(|kept| search.prefer(*kept)),
            }
        }
        self.candidates[id.index()] = Some(candidates);
    }

    /// States which roles a release fills, and that no two packages fill one; tells whether that was anything.
    fn fill_roles(
        &mut self,
        release: Lit,
        id: PackageId,
        at: u32,
        problem: &Problem,
        known: &Known,
        search: &mut Searching<'_>,
    ) -> bool {
        let mut stated = false;
        for role in known.roles_of(id, at).iter().filter(|role| !problem.rules.shared_roles.contains(*role)) {
            let fillers = self.roles.entry(role.clone()).or_default();
            let fills = match fillers.get(&id.index()) {
                Some(fills) => *fills,
                None => {
                    let fills = search.new_var().positive();
                    for other in fillers.values() {
                        search.add_clause(&[!fills, !*other]);
                    }
                    fillers.insert(id.index(), fills);
                    fills
                }
            };
            search.add_clause(&[!release, fills]);
            stated = true;
        }
        stated
    }

    fn need(&mut self, need: NeedId, problem: &Problem, known: &Known, search: &mut Searching<'_>) -> Lit {
        if self.needs.len() <= need.index() {
            self.needs.resize(need.index() + 1, None);
        }
        if let Some((literal, _)) = self.needs[need.index()] {
            return literal;
        }
        let var = search.new_var();
        self.record_meanings(var.index(), std::iter::once(Meaning::Need(need)));
        self.needs[need.index()] = Some((var.positive(), None));
        self.bind(need, problem, known, search);
        var.positive()
    }

    /// States what a need means, or that it waits for its package.
    fn bind(&mut self, need: NeedId, problem: &Problem, known: &Known, search: &mut Searching<'_>) {
        let (id, accepted) = known.accepted(need);
        if !known.has_arrived(id) {
            self.waiting.push(need);
            return;
        }
        self.place(id, problem, known, search);
        let (Some(candidates), Some((literal, meets))) = (&self.candidates[id.index()], &mut self.needs[need.index()])
        else {
            return;
        };
        let mut met_by: Vec<Lit> = accepted.iter().filter_map(|&at| candidates.literal(at)).collect();
        met_by.sort_unstable();
        let excluded = others(candidates.span(), &met_by);
        let mut clause = vec![!*literal];
        clause.extend_from_slice(&met_by);
        if let Some(kept) = met_by.iter().position(|literal| candidates.kept.contains(literal)) {
            met_by[..=kept].rotate_right(1);
        }
        *meets = Some(met_by.into());
        let var = literal.var();
        // Of a package of several lines, another need may be met by what this one does not accept.
        if !candidates.apart {
            search.exclude(var, &excluded);
        }
        search.add_clause(&clause);
    }
}

/// Returns a literal that, while it is true, lets at most `most` of the literals be true; none when all may be.
///
/// A sequential counter (Sinz 2005): after each literal, one variable for "at least so many so far", up to `most`.
pub(super) fn at_most(solver: &mut Solver, literals: &[Lit], most: usize) -> Option<Lit> {
    if literals.len() <= most {
        return None;
    }
    let within = solver.new_var().positive();
    let mut counts: Vec<Lit> = Vec::new();
    for &literal in literals {
        if counts.len() >= most {
            // One more than `most` would be true.
            let mut clause = vec![!within, !literal];
            clause.extend(counts.last().map(|full| !*full));
            solver.add_clause(&clause);
        }
        let next: Vec<Lit> = (0..most.min(counts.len() + 1)).map(|_| solver.new_var().positive()).collect();
        for (i, &count) in next.iter().enumerate() {
            match i.checked_sub(1).map(|below| counts[below]) {
                None => solver.add_clause(&[!literal, count]),
                Some(below) => solver.add_clause(&[!literal, !below, count]),
            }
            if let Some(&before) = counts.get(i) {
                solver.add_clause(&[!before, count]);
            }
        }
        counts = next;
    }
    Some(within)
}
