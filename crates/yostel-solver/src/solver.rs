//! The search itself: decide, propagate, learn, backjump, until all is assigned or nothing is left.

mod proving;
mod stating;

use std::cmp::Reverse;
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
use crate::restart::{Turns, luby};
use crate::stats::Stats;
use crate::trail::{Level, Trail};

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
    /// By variable, in a proof: whether it is said already what exclusions made it what it is for good.
    proved: Vec<bool>,
    stats: Stats,
    /// Set once the clauses alone were refuted; every later call says so at once.
    refuted: bool,
    keep_learned: usize,
    /// A clause stated in mid-search that was falsified at once.
    pending: Option<Conflict>,
    /// Clauses stated in mid-search whose first literal was true already, and the lower level on which they would have forced
    /// it: they force it when that is undone and the level stays (invariant 3).
    late: Vec<(Level, ClauseId)>,
    /// How many literals were propagated once more because they stayed when levels above theirs were undone, since the search
    /// last went back to the lowest of their levels, and that level.
    repeated: (usize, Level),
    /// Least length of the trail since the guide last looked.
    undone_to: usize,
    /// The assumptions of a call that was paused, while nothing was undone since.
    paused: Option<Vec<Lit>>,
    /// The assumptions of the last call whose levels are still on the trail, the first ones first.
    held: Vec<Lit>,
    turns: Turns,
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
        self.clauses.exclude(var, &spans);
    }

    /// Makes the search try this literal first when it decides its variable. A later assignment overrides it.
    pub fn prefer(&mut self, literal: Lit) {
        self.decider.prefer(literal);
    }

    /// Searches for a model in which all clauses and all of `assumptions` hold.
    pub fn solve(&mut self, assumptions: &[Lit]) -> Outcome {
        self.solve_guided(assumptions, &mut NoGuide)
    }

    /// The same, of a problem that `guide` states as far as the search gets.
    pub fn solve_guided(&mut self, assumptions: &[Lit], guide: &mut dyn Guide) -> Outcome {
        self.search_from(assumptions, Some(guide))
    }

    /// Makes the assumptions true, one after the other, and decides nothing: [`Outcome::Unsatisfiable`] when they are seen to
    /// collide, [`Outcome::Paused`] when they are not, which does not say that there is a model.
    pub fn propagate_only(&mut self, assumptions: &[Lit]) -> Outcome {
        self.search_from(assumptions, None)
    }

    fn search_from(&mut self, assumptions: &[Lit], guide: Option<&mut dyn Guide>) -> Outcome {
        if self.paused.take().is_none_or(|paused| paused != assumptions) {
            // Levels of assumptions that this call has in common with the last one stay, with all that they force.
            let common = self.held.iter().zip(assumptions).take_while(|(held, assumption)| held == assumption).count();
            self.backjump(u32::try_from(common).expect("fewer than 2^31 assumptions"));
        }
        self.held.clear();
        let is_guided = guide.is_some();
        let outcome = self.search(assumptions, guide);
        match outcome {
            Outcome::Paused if is_guided => self.paused = Some(assumptions.to_vec()),
            Outcome::Satisfiable(_) | Outcome::Unsatisfiable(_) | Outcome::Paused if self.config.hold_assumptions => {
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

    fn search(&mut self, assumptions: &[Lit], mut guide: Option<&mut dyn Guide>) -> Outcome {
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
                match self.go_back_to(conflict) {
                    Some(0) => {
                        self.refuted = true;
                        self.prove_exclusions_of(conflict);
                        self.proof.add(&[]);
                        continue;
                    }
                    Some(_) => self.learn_from(conflict),
                    None => {}
                }
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
                let turned = self.turns.turn(self.stats.propagations, self.variables);
                let behind = u32::try_from(assumptions.len()).expect("fewer than 2^31 assumptions");
                self.backjump(if turned || !self.turns.calm_first { behind } else { self.calm_level(behind) });
            }
            if self.clauses.learned > self.keep_learned {
                self.stats.forgotten += reduce(&mut self.clauses, &self.trail, &mut self.proof) as u64;
                self.keep_learned += self.keep_learned / 10 + 1;
            }
            // Once that took as much as going back, they go where they belong: a chain that is undone from its end, link by
            // link, would take the square of its length otherwise.
            if self.repeated.0 > self.trail.len() {
                let (_, lowest) = std::mem::replace(&mut self.repeated, (0, Level::MAX));
                self.backjump(lowest);
                continue;
            }
            let guide: Option<&mut dyn Guide> = match &mut guide {
                Some(guide) => Some(&mut **guide),
                None => None,
            };
            match self.next_decision(assumptions, guide) {
                Decision::Literal(literal) => {
                    self.trail.open_level();
                    self.trail.decide(literal);
                }
                Decision::Failed(core) => {
                    self.prove_exclusions(core.clone());
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

    /// Returns the level up to which nothing that took part in a conflict was decided, behind the assumptions.
    fn calm_level(&self, assumptions: Level) -> Level {
        let mut level = assumptions;
        while self.trail.decision_of(level + 1).is_some_and(|decision| !self.decider.is_active(decision.var())) {
            level += 1;
        }
        level
    }

    /// Propagates; returns what is falsified when something is.
    fn falsified(&mut self) -> Option<Conflict> {
        let (clauses, trail) = (&self.clauses, &mut self.trail);
        self.late.retain(|&(since, id)| {
            let first = clauses.literals(id)[0];
            let open = !trail.is_assigned(first.var());
            if open {
                trail.assign(first, Reason::Clause(id), since);
            }
            !open
        });
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

    /// Undoes what was decided in a call that was paused, so that the next one begins anew.
    pub fn give_up_paused(&mut self) {
        if self.paused.is_some() {
            self.backjump(0);
        }
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

    pub(crate) fn is_calm_first(&self) -> bool {
        self.turns.calm_first
    }

    pub(crate) fn is_active(&self, literal: Lit) -> bool {
        self.decider.is_active(literal.var())
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

    /// Goes back to the level of a conflict, on which two literals of it are, and returns that level. Where only one is on
    /// the highest, the others force it the other way round, and nothing is returned.
    fn go_back_to(&mut self, conflict: Conflict) -> Option<Level> {
        let level_at = |literal: Lit| self.trail.level_of(literal.var());
        let (literals, id) = match &conflict {
            Conflict::Clause(id) => (self.clauses.literals(*id), Some(*id)),
            Conflict::Pair(pair) => (&pair[..], None),
        };
        let place_of = |but: Option<usize>| {
            let places = (0..literals.len()).filter(|place| Some(*place) != but);
            places.max_by_key(|place| (level_at(literals[*place]), Reverse(*place))).expect("there are two or more")
        };
        let first = place_of(None);
        let second = place_of(Some(first));
        let (highest, next) = (level_at(literals[first]), level_at(literals[second]));
        let (forced, other) = (literals[first], literals[second]);
        if let Some(id) = id {
            // What is undone last must be watched (invariant 3).
            self.clauses.watch_instead(id, 0, first);
            self.clauses.watch_instead(id, 1, if second == 0 { first } else { second });
        }
        if highest == next {
            self.backjump(highest);
            return Some(highest);
        }
        self.backjump(highest - 1);
        self.trail.assign(forced, id.map_or(Reason::Pair(other), Reason::Clause), next);
        None
    }

    fn learn_from(&mut self, conflict: Conflict) {
        let learned =
            self.analyzer.learn(conflict, &mut self.clauses, &self.trail, &mut self.decider, self.config.minimise);
        self.stats.learned += 1;
        self.prove_exclusions_of(conflict);
        self.proof.add(&learned.clause);
        let (level, here) = (learned.level, self.trail.level());
        self.backjump(if here - level > self.config.most_undone { here - 1 } else { level });
        let first = learned.clause[0];
        let reason = match learned.clause[..] {
            [_] => Reason::None,
            _ => Reason::Clause(self.clauses.add(&learned.clause, Origin::Learned, learned.lbd)),
        };
        self.trail.assign(first, reason, level);
        self.decider.decay();
        self.clauses.decay();
    }

    /// Assumptions come first, one level each, so that a level up to their number is always an assumption's.
    fn next_decision(&mut self, assumptions: &[Lit], guide: Option<&mut dyn Guide>) -> Decision {
        while let Some(&assumption) = assumptions.get(self.trail.level() as usize) {
            match self.trail.value(assumption) {
                Some(true) => self.trail.open_level(),
                Some(false) => {
                    return Decision::Failed(blame(assumption, &self.clauses, &self.trail, self.variables));
                }
                None => return Decision::Literal(assumption),
            }
        }
        let Some(guide) = guide else { return Decision::Pause };
        let undone_to = std::mem::replace(&mut self.undone_to, usize::MAX);
        let advice = guide.next(&mut Searching(self), undone_to);
        let literal = match advice {
            Advice::Again => return Decision::None,
            Advice::Enough => return Decision::Enough,
            Advice::Pause => return Decision::Pause,
            Advice::Decide(literal) => Some(self.decider.next_active(&self.trail).unwrap_or(literal)),
            Advice::DecideThis(literal) => Some(literal),
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
        self.undone_to = self.undone_to.min(self.trail.end_of(level));
        let (kept, lowest) = self.trail.backjump(level, |literal| decider.release(literal));
        self.repeated.0 += kept;
        self.repeated.1 = self.repeated.1.min(lowest);
        self.late.retain(|&(since, _)| since <= level);
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
