//! The search itself: decide, propagate, learn, backjump, until all is assigned or nothing is left.

use std::ops::Range;
use std::sync::atomic::Ordering;

use crate::analyze::Analyzer;
use crate::assume::blame;
use crate::clauses::{ClauseId, Clauses, Conflict, Origin, Reason, Span};
use crate::config::Config;
use crate::decide::Decider;
use crate::guide::{Advice, Guide, NoGuide, Searching};
use crate::invariants;
use crate::literal::{Lit, Var};
use crate::outcome::{Model, Outcome};
use crate::proof::{ProofLog, ProofStep};
use crate::propagate::propagate;
use crate::reduce::reduce;
use crate::restart::luby;
use crate::stats::Stats;
use crate::trail::Trail;

/// An incremental solver: clauses may be added between calls, and what was learned is kept.
#[derive(Debug, Default)]
pub struct Solver {
    config: Config,
    variables: usize,
    clauses: Clauses,
    trail: Trail,
    decider: Decider,
    analyzer: Analyzer,
    proof: ProofLog,
    stats: Stats,
    /// Set once the clauses alone were refuted; every later call says so at once.
    refuted: bool,
    keep_learned: usize,
    /// A clause stated in mid-search that was falsified at once.
    pending: Option<Conflict>,
    /// Clauses that forced their first literal later than they could have, and the level on which they could: invariant
    /// 3 wants it forced again when what came later is undone (as Nadel and Ryvchin 2018 do).
    late: Vec<(u32, ClauseId)>,
    /// Least length of the trail since the guide last looked.
    undone_to: usize,
    /// The assumptions of a call that was paused, while nothing was undone since.
    paused: Option<Vec<Lit>>,
    /// The assumptions of the last call whose levels are still on the trail, the first ones first.
    held: Vec<Lit>,
    /// How many literals may have been forced, in all calls, before this one gives up.
    forced_until: Option<u64>,
}

impl Solver {
    /// Makes an empty solver with the given settings.
    pub fn new(config: Config) -> Self {
        Self { proof: ProofLog::new(config.record_proof), keep_learned: config.keep_learned, config, ..Self::default() }
    }

    /// Adds a variable.
    pub fn new_var(&mut self) -> Var {
        let var = Var(u32::try_from(self.variables).expect("fewer than 2^31 variables fit in memory"));
        self.variables += 1;
        self.clauses.grow(self.variables);
        self.trail.grow(self.variables);
        self.analyzer.grow(self.variables);
        self.decider.add(var);
        var
    }

    /// Adds `size` variables, numbered one after the other, of which at most one is true; returns the first.
    pub fn new_group(&mut self, size: usize) -> Var {
        let first = u32::try_from(self.variables).expect("fewer than 2^31 variables fit in memory");
        let end = u32::try_from(self.variables + size).expect("fewer than 2^31 variables fit in memory");
        self.variables += size;
        self.clauses.grow(self.variables);
        self.trail.grow(self.variables);
        self.analyzer.grow(self.variables);
        self.decider.reserve(size);
        (first..end).for_each(|number| self.decider.add(Var(number)));
        self.clauses.at_most_one(Span { first, end });
        self.proof.state_group(first, end - first);
        Var(first)
    }

    /// Makes the variables in the spans false whenever `var` is made true, which has no such rule yet.
    ///
    /// The clauses must already make each pair of `var` and such a variable false by unit propagation: this only makes
    /// the search see it earlier.
    pub fn exclude(&mut self, var: Var, spans: &[Range<usize>]) {
        let number = |at: usize| u32::try_from(at).expect("fewer than 2^31 variables fit in memory");
        let spans: Vec<Span> = spans.iter().map(|s| Span { first: number(s.start), end: number(s.end) }).collect();
        if self.config.record_proof {
            let excluded = spans.iter().flat_map(|span| span.first..span.end);
            excluded.for_each(|other| self.proof.add(&[var.negative(), Var(other).negative()]));
        }
        self.clauses.exclude(var, &spans);
    }

    /// Makes the search try this literal first when it decides its variable. A later assignment overrides it.
    pub fn prefer(&mut self, literal: Lit) {
        self.decider.prefer(literal);
    }

    /// Adds a clause that holds from now on. Repeated literals count once; a clause that is always true is left out.
    pub fn add_clause(&mut self, literals: &[Lit]) {
        self.backjump(0);
        self.proof.state(literals);
        if self.refuted {
            return;
        }
        let mut clause = literals.to_vec();
        clause.sort_unstable();
        clause.dedup();
        if clause.windows(2).any(|pair| pair[0] == !pair[1])
            || clause.iter().any(|&l| self.trail.value(l) == Some(true))
        {
            return;
        }
        let before = clause.len();
        clause.retain(|&l| self.trail.value(l).is_none());
        if clause.len() != before {
            self.proof.add(&clause);
        }
        match clause[..] {
            [] => self.refuted = true,
            [unit] => {
                self.trail.assign(unit, Reason::None);
                if propagate(&mut self.clauses, &mut self.trail, &mut self.stats).is_some() {
                    self.refuted = true;
                    self.proof.add(&[]);
                }
            }
            _ => {
                self.clauses.add(&clause, Origin::Problem, 0);
            }
        }
    }

    /// Like [`Self::add_clause`], but what the last call assumed is held as far as the clause lets it be.
    pub fn add_clause_held(&mut self, literals: &[Lit]) {
        self.add_clause_in_search(literals);
        // Levels that were gone back over are not held any more.
        self.held.truncate(self.trail.level() as usize);
    }

    /// Adds a clause wherever the search is, going back no further than to where it would have forced a literal.
    pub(crate) fn add_clause_in_search(&mut self, literals: &[Lit]) {
        if self.trail.level() == 0 {
            return self.add_clause(literals);
        }
        self.proof.state(literals);
        let mut clause = literals.to_vec();
        clause.sort_unstable();
        clause.dedup();
        let settled = |trail: &Trail, l: Lit| trail.is_assigned(l.var()) && trail.level_of(l.var()) == 0;
        if clause.windows(2).any(|pair| pair[0] == !pair[1])
            || clause.iter().any(|&l| self.trail.is_true(l) && settled(&self.trail, l))
        {
            return;
        }
        let before = clause.len();
        clause.retain(|&l| !settled(&self.trail, l));
        if clause.len() != before {
            self.proof.add(&clause);
        }
        // What is not false first, then what was falsified last: the right two to watch (invariant 3).
        clause.sort_by_key(|&l| match self.trail.is_false(l) {
            false => (0, 0),
            true => (1, u32::MAX - self.trail.level_of(l.var())),
        });
        match clause[..] {
            [] => self.refuted = true,
            [unit] => {
                self.backjump(0);
                self.trail.assign(unit, Reason::None);
            }
            [first, second, ..] => {
                let id = self.clauses.add(&clause, Origin::Problem, 0);
                let level = self.trail.level_of(second.var());
                let open = !self.trail.is_false(second);
                if open || self.trail.is_true(first) && self.trail.level_of(first.var()) <= level {
                    return;
                }
                if !self.trail.is_assigned(first.var()) {
                    // It should have been forced earlier. To go back there would undo what has no part in it.
                    self.trail.assign(first, Reason::Clause(id));
                    self.late.push((level, id));
                } else if self.trail.is_false(first) && self.trail.level_of(first.var()) == level {
                    self.backjump(level);
                    self.pending = Some(Conflict::Clause(id));
                } else {
                    self.backjump(level);
                    self.force(first, id);
                }
            }
        }
    }

    /// Forces the first literal of a clause whose others are false.
    fn force(&mut self, first: Lit, id: ClauseId) {
        match self.trail.value(first) {
            None => self.trail.assign(first, Reason::Clause(id)),
            Some(true) => {}
            Some(false) => self.pending = Some(Conflict::Clause(id)),
        }
    }

    /// Searches for a model in which all clauses and all of `assumptions` hold.
    pub fn solve(&mut self, assumptions: &[Lit]) -> Outcome {
        self.solve_guided(assumptions, &mut NoGuide)
    }

    /// The same, of a problem that `guide` states as far as the search gets.
    pub fn solve_guided(&mut self, assumptions: &[Lit], guide: &mut dyn Guide) -> Outcome {
        if self.paused.take().is_none_or(|paused| paused != assumptions) {
            // Levels of assumptions that this call has in common with the last one stay, with all that they force.
            let common = self.held.iter().zip(assumptions).take_while(|(held, assumption)| held == assumption).count();
            self.backjump(u32::try_from(common).expect("fewer than 2^31 assumptions"));
        }
        self.held.clear();
        let outcome = self.search(assumptions, guide);
        match outcome {
            Outcome::Paused => self.paused = Some(assumptions.to_vec()),
            Outcome::Satisfiable(_) | Outcome::Unsatisfiable(_) if self.config.hold_assumptions => {
                self.pending = None;
                self.held.extend_from_slice(assumptions);
            }
            _ => {
                self.backjump(0);
                self.pending = None;
            }
        }
        outcome
    }

    fn search(&mut self, assumptions: &[Lit], guide: &mut dyn Guide) -> Outcome {
        self.stats.calls += 1;
        self.forced_until = self.config.forced_limit.map(|limit| self.stats.propagations.saturating_add(limit));
        if self.keep_learned == 0 {
            self.keep_learned = self.config.keep_learned;
        }
        let started = self.stats.conflicts;
        let mut run = 0;
        let mut run_started = started;
        loop {
            if self.refuted {
                return Outcome::Unsatisfiable(Vec::new());
            }
            if let Some(conflict) = self.falsified() {
                self.stats.conflicts += 1;
                if self.trail.level() == 0 {
                    self.refuted = true;
                    self.proof.add(&[]);
                    continue;
                }
                self.learn_from(conflict);
                if self.config.conflict_limit.is_some_and(|limit| self.stats.conflicts - started >= limit)
                    || self.has_forced_enough()
                    || self.is_stopped()
                {
                    return Outcome::Stopped;
                }
                continue;
            }
            debug_assert_eq!(invariants::broken(&self.clauses, &self.trail, self.stats.decisions), None);
            let conflicts = self.stats.conflicts - run_started;
            if self.config.restart_after > 0 && conflicts >= self.config.restart_after * luby(run) {
                run += 1;
                run_started = self.stats.conflicts;
                self.stats.restarts += 1;
                self.backjump(u32::try_from(assumptions.len()).expect("fewer than 2^31 assumptions"));
            }
            if self.clauses.learned > self.keep_learned {
                self.stats.forgotten += reduce(&mut self.clauses, &self.trail, &mut self.proof) as u64;
                self.keep_learned += self.keep_learned / 10 + 1;
            }
            match self.next_decision(assumptions, guide) {
                Decision::Literal(literal) => {
                    self.trail.open_level();
                    self.trail.assign(literal, Reason::None);
                }
                Decision::Failed(core) => {
                    let clause: Vec<Lit> = core.iter().map(|&l| !l).collect();
                    self.proof.add(&clause);
                    return Outcome::Unsatisfiable(core);
                }
                Decision::None => {}
                Decision::Enough => {
                    let literals = (0..self.variables).map(|i| Var(i as u32).positive());
                    return Outcome::Satisfiable(Model(literals.map(|l| self.trail.is_true(l)).collect()));
                }
                Decision::Stop => return Outcome::Stopped,
                Decision::Pause => return Outcome::Paused,
            }
        }
    }

    /// Propagates; returns what is falsified, on the current level, when something is.
    fn falsified(&mut self) -> Option<Conflict> {
        if let Some(Conflict::Clause(id)) = self.pending.take() {
            // Another clause stated after it may have led further back.
            if self.clauses.literals(id).iter().all(|&l| self.trail.is_false(l)) {
                return Some(Conflict::Clause(id));
            }
        }
        propagate(&mut self.clauses, &mut self.trail, &mut self.stats)
    }

    fn is_stopped(&self) -> bool {
        self.config.stop.as_ref().is_some_and(|stop| stop.load(Ordering::Relaxed))
    }

    fn has_forced_enough(&self) -> bool {
        self.forced_until.is_some_and(|until| self.stats.propagations >= until)
    }

    /// Returns the same solver as a guide sees it, to state things by the same code in and out of a search.
    pub fn stating(&mut self) -> Searching<'_> {
        self.backjump(0);
        Searching(self)
    }

    /// Returns what is known for good of a literal: whatever is decided, it has this value.
    pub fn fixed(&self, literal: Lit) -> Option<bool> {
        debug_assert!(self.trail.level() == 0 || self.config.hold_assumptions, "between calls nothing is decided");
        self.trail.value(literal).filter(|_| self.trail.level_of(literal.var()) == 0)
    }

    pub(crate) fn value(&self, literal: Lit) -> Option<bool> {
        self.trail.value(literal)
    }

    pub(crate) fn trail_literals(&self) -> &[Lit] {
        self.trail.literals()
    }

    /// Sets the conflicts after which a call gives up, as [`Config::conflict_limit`] does.
    pub fn limit_conflicts(&mut self, limit: Option<u64>) {
        self.config.conflict_limit = limit;
    }

    /// Sets the forced literals after which a call gives up, as [`Config::forced_limit`] does.
    pub fn limit_forced(&mut self, limit: Option<u64>) {
        self.config.forced_limit = limit;
    }

    /// Returns the counts so far.
    pub fn stats(&self) -> Stats {
        self.stats
    }

    /// Returns how many variables there are.
    pub fn variables(&self) -> usize {
        self.variables
    }

    /// Returns the proof so far; empty unless `Config::record_proof` is on.
    pub fn proof(&self) -> &[ProofStep] {
        self.proof.steps()
    }

    /// Writes all clauses as they were added, in DIMACS CNF; nothing unless `Config::record_proof` is on.
    pub fn to_cnf(&self) -> Option<String> {
        self.proof.to_cnf(self.variables)
    }

    /// Writes the proof so far as DRAT in text form; nothing unless `Config::record_proof` is on.
    pub fn to_drat(&self) -> Option<String> {
        self.proof.to_drat()
    }

    fn learn_from(&mut self, conflict: Conflict) {
        let learned =
            self.analyzer.learn(conflict, &mut self.clauses, &self.trail, &mut self.decider, self.config.minimise);
        self.stats.learned += 1;
        self.proof.add(&learned.clause);
        self.backjump(learned.level);
        let first = learned.clause[0];
        if learned.clause.len() == 1 {
            self.trail.assign(first, Reason::None);
        } else {
            let id = self.clauses.add(&learned.clause, Origin::Learned, learned.lbd);
            // What was forced late may have been forced again, against this.
            self.force(first, id);
        }
        self.decider.decay();
        self.clauses.decay();
    }

    /// Assumptions come first, one level each, so that a level up to their number is always an assumption's.
    fn next_decision(&mut self, assumptions: &[Lit], guide: &mut dyn Guide) -> Decision {
        while let Some(&assumption) = assumptions.get(self.trail.level() as usize) {
            match self.trail.value(assumption) {
                Some(true) => self.trail.open_level(),
                Some(false) => {
                    return Decision::Failed(blame(assumption, &self.clauses, &self.trail, self.variables));
                }
                None => return Decision::Literal(assumption),
            }
        }
        let undone_to = std::mem::replace(&mut self.undone_to, usize::MAX);
        let advice = guide.next(&mut Searching(self), undone_to);
        let literal = match advice {
            Advice::Again => return Decision::None,
            Advice::Enough => return Decision::Enough,
            Advice::Pause => return Decision::Pause,
            Advice::Decide(literal) => Some(self.decider.next_active(&self.trail).unwrap_or(literal)),
            Advice::Any => self.decider.next(&self.trail),
        };
        let Some(literal) = literal else { return Decision::Enough };
        self.stats.decisions += 1;
        if self.has_forced_enough() || self.stats.decisions.is_multiple_of(1024) && self.is_stopped() {
            return Decision::Stop;
        }
        Decision::Literal(literal)
    }

    fn backjump(&mut self, level: u32) {
        if level == 0 {
            self.paused = None;
            self.held.clear();
        }
        if self.trail.level() <= level {
            return;
        }
        let decider = &mut self.decider;
        self.trail.backjump(level, |literal| decider.release(literal));
        self.undone_to = self.undone_to.min(self.trail.len());
        let (clauses, trail) = (&self.clauses, &mut self.trail);
        self.late.retain(|&(since, id)| {
            if since > level {
                return false;
            }
            let first = clauses.literals(id)[0];
            if !trail.is_assigned(first.var()) {
                trail.assign(first, Reason::Clause(id));
            }
            since < level
        });
    }
}

enum Decision {
    Literal(Lit),
    /// Something was stated: propagate first.
    None,
    Failed(Vec<Lit>),
    Enough,
    Stop,
    Pause,
}
