//! The search itself: decide, propagate, learn, backjump, until all is assigned or nothing is left.

use crate::analyze::Analyzer;
use crate::assume::blame;
use crate::clauses::{Clauses, Origin};
use crate::config::Config;
use crate::decide::Decider;
use crate::literal::{Lit, Var};
use crate::proof::{ProofLog, ProofStep};
use crate::propagate::propagate;
use crate::reduce::reduce;
use crate::restart::luby;
use crate::stats::Stats;
use crate::trail::Trail;

/// The verdict of one call.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outcome {
    /// All clauses and assumptions hold in this model.
    Satisfiable(Model),
    /// These assumptions cannot all hold, sorted; empty when the clauses alone contradict each other.
    Unsatisfiable(Vec<Lit>),
    /// The conflict limit was reached first: nothing is known.
    Stopped,
}

/// A value for every variable.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Model(Vec<bool>);

impl Model {
    /// Tells whether the literal is true in this model.
    pub fn is_true(&self, literal: Lit) -> bool {
        self.0[literal.var().index()] == literal.is_positive()
    }

    /// Returns the values by variable index.
    pub fn values(&self) -> &[bool] {
        &self.0
    }
}

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
                self.trail.assign(unit, None);
                if propagate(&mut self.clauses, &mut self.trail, &mut self.stats).is_some() {
                    self.refuted = true;
                    self.proof.add(&[]);
                }
            }
            _ => {
                self.clauses.add(clause, Origin::Problem);
            }
        }
    }

    /// Searches for a model in which all clauses and all of `assumptions` hold.
    pub fn solve(&mut self, assumptions: &[Lit]) -> Outcome {
        self.stats.calls += 1;
        self.backjump(0);
        if self.refuted {
            return Outcome::Unsatisfiable(Vec::new());
        }
        if self.keep_learned == 0 {
            self.keep_learned = self.config.keep_learned;
        }
        let started = self.stats.conflicts;
        let mut run = 0;
        let mut run_started = started;
        loop {
            if let Some(conflict) = propagate(&mut self.clauses, &mut self.trail, &mut self.stats) {
                self.stats.conflicts += 1;
                if self.trail.level() == 0 {
                    self.refuted = true;
                    self.proof.add(&[]);
                    return Outcome::Unsatisfiable(Vec::new());
                }
                self.learn_from(conflict);
                if self.config.conflict_limit.is_some_and(|limit| self.stats.conflicts - started >= limit) {
                    self.backjump(0);
                    return Outcome::Stopped;
                }
                continue;
            }
            let conflicts = self.stats.conflicts - run_started;
            if self.config.restart_after > 0 && conflicts >= self.config.restart_after * luby(run) {
                run += 1;
                run_started = self.stats.conflicts;
                self.stats.restarts += 1;
                self.backjump(0);
            }
            if self.clauses.learned > self.keep_learned {
                self.stats.forgotten += reduce(&mut self.clauses, &self.trail, &mut self.proof) as u64;
                self.keep_learned += self.keep_learned / 10 + 1;
            }
            match self.next_decision(assumptions) {
                Decision::Literal(literal) => {
                    self.trail.open_level();
                    self.trail.assign(literal, None);
                }
                Decision::Failed(core) => {
                    let clause: Vec<Lit> = core.iter().map(|&l| !l).collect();
                    self.proof.add(&clause);
                    self.backjump(0);
                    return Outcome::Unsatisfiable(core);
                }
                Decision::AllAssigned => {
                    let values = (0..self.variables)
                        .map(|i| self.trail.value(Var(i as u32).positive()).expect("all are assigned"))
                        .collect();
                    self.backjump(0);
                    return Outcome::Satisfiable(Model(values));
                }
            }
        }
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

    fn learn_from(&mut self, conflict: crate::clauses::ClauseId) {
        let lesson =
            self.analyzer.learn(conflict, &mut self.clauses, &self.trail, &mut self.decider, self.config.minimise);
        self.stats.learned += 1;
        self.proof.add(&lesson.clause);
        self.backjump(lesson.level);
        let first = lesson.clause[0];
        let reason = (lesson.clause.len() > 1).then(|| self.clauses.add(lesson.clause, Origin::Learned));
        self.trail.assign(first, reason);
        self.decider.decay();
        self.clauses.decay();
    }

    /// Assumptions come first, one level each, so that a level up to their number is always an assumption's.
    fn next_decision(&mut self, assumptions: &[Lit]) -> Decision {
        while let Some(&assumption) = assumptions.get(self.trail.level() as usize) {
            match self.trail.value(assumption) {
                Some(true) => self.trail.open_level(),
                Some(false) => return Decision::Failed(blame(assumption, &self.clauses, &self.trail)),
                None => return Decision::Literal(assumption),
            }
        }
        match self.decider.next(&self.trail) {
            Some(literal) => {
                self.stats.decisions += 1;
                Decision::Literal(literal)
            }
            None => Decision::AllAssigned,
        }
    }

    fn backjump(&mut self, level: u32) {
        let decider = &mut self.decider;
        self.trail.backjump(level, |literal| decider.release(literal));
    }
}

enum Decision {
    Literal(Lit),
    Failed(Vec<Lit>),
    AllAssigned,
}
