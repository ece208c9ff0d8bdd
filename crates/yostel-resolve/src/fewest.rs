//! The fewest of some literals that must be true, found from below.
//!
//! All are assumed false. As long as that cannot hold, the assumptions to blame, a core, are given up, and one is added in
//! their place: that no more than one of them is true. Each core makes the number one higher; one that is to blame again is
//! loosened by one. So the first number that can hold is the least (core-guided search with soft counters: OLL, Andres,
//! Kaufmann, Matheis and Schaub 2012; Morgado, Dodaro and Marques-Silva 2014).

use std::collections::BTreeMap;

use yostel_solver::{Lit, Solver};

/// The counter that an assumption bounds, and by how many; none for one of the literals that are counted.
type Bounds = Option<(usize, usize)>;

/// What is still hoped for, and how many hopes were given up.
#[derive(Debug)]
pub(crate) struct Fewest {
    /// By the literal to assume.
    hopes: BTreeMap<Lit, Bounds>,
    /// What came of cores since the last model: assumed once what is hoped for besides can hold.
    next: BTreeMap<Lit, Bounds>,
    counters: Vec<Counter>,
    number: usize,
    /// How many hopes failed alone since all were tried by themselves.
    failed_alone: usize,
    /// How many have to until all are again.
    until_all: usize,
}

/// How many hopes fail alone before all are tried by themselves, at first.
const FIRST_ALONE: usize = 2;

impl Fewest {
    /// Hopes that all are false.
    pub(crate) fn of(literals: &[Lit]) -> Self {
        let hopes = literals.iter().map(|literal| (!*literal, None)).collect();
        Self { hopes, next: BTreeMap::new(), counters: Vec::new(), number: 0, failed_alone: 0, until_all: FIRST_ALONE }
    }

    /// Returns how many must be true, by what is known.
    pub(crate) fn number(&self) -> usize {
        self.number
    }

    /// Returns what to assume. Once it holds and [`Self::goes_on`] says that this was all, exactly the sets in which it
    /// holds have the fewest true.
    pub(crate) fn assumptions(&self) -> impl Iterator<Item = Lit> {
        self.hopes.keys().copied()
    }

    /// Takes in that all assumptions hold; tells whether there are more.
    pub(crate) fn goes_on(&mut self) -> bool {
        let more = !self.next.is_empty();
        self.hopes.append(&mut self.next);
        more
    }

    /// Returns which assumptions to blame are hopes.
    pub(crate) fn blamed(&self, core: &[Lit]) -> Vec<Lit> {
        core.iter().copied().filter(|literal| self.hopes_for(*literal)).collect()
    }

    /// Tells whether this is hoped for.
    pub(crate) fn hopes_for(&self, literal: Lit) -> bool {
        self.hopes.contains_key(&literal)
    }

    /// Takes in how many hopes failed alone; tells whether to try all of them by themselves.
    pub(crate) fn is_to_try_all(&mut self, failed: usize) -> bool {
        self.failed_alone += failed;
        self.failed_alone >= self.until_all
    }

    /// Takes in how many failed when all were tried by themselves: worth it once more soon if some did, else after twice as many.
    pub(crate) fn tried_all(&mut self, failed: usize) {
        self.failed_alone = 0;
        self.until_all = if failed > 0 { FIRST_ALONE } else { self.until_all * 2 };
    }

    /// Gives up a hope that cannot hold; tells whether it was one.
    pub(crate) fn give_up_alone(&mut self, hope: Lit, solver: &mut Solver) -> bool {
        let given_up = self.hopes.remove_entry(&hope);
        given_up.iter().for_each(|one| self.loosen(std::slice::from_ref(one), solver));
        given_up.is_some()
    }

    /// Gives up the assumptions to blame.
    pub(crate) fn give_up(&mut self, core: &[Lit], solver: &mut Solver) {
        let blamed: Vec<(Lit, Bounds)> = core.iter().filter_map(|literal| self.hopes.remove_entry(literal)).collect();
        let clause: Vec<Lit> = core.iter().map(|literal| !*literal).collect();
        solver.add_clause_held(&clause);
        self.loosen(&blamed, solver);
        // What a fact refutes need not be asked one by one.
        if core.len() == 1 {
            let fixed = self.hopes.extract_if(.., |hope, _| solver.fixed(*hope) == Some(false));
            let refuted: Vec<(Lit, Bounds)> = fixed.collect();
            refuted.chunks(1).for_each(|one| self.loosen(one, solver));
        }
        if blamed.len() > 1 {
            self.counters.push(Counter::of(blamed.into_iter().map(|(literal, _)| !literal).collect(), solver));
            self.bound(self.counters.len() - 1, 1, solver);
        }
    }

    /// Counts a core; what bounds a counter is loosened by one.
    fn loosen(&mut self, core: &[(Lit, Bounds)], solver: &mut Solver) {
        self.number += 1;
        for (counter, most) in core.iter().filter_map(|(_, bounds)| *bounds) {
            self.bound(counter, most + 1, solver);
        }
    }

    /// Hopes that at most so many of a counter's are true.
    fn bound(&mut self, counter: usize, most: usize, solver: &mut Solver) {
        if let Some(more) = self.counters[counter].more_than(most, solver) {
            self.next.insert(!more, Some((counter, most)));
        }
    }
}

/// Counts literals that are true, as far as anyone asks (a sequential counter, Sinz 2005).
#[derive(Debug)]
struct Counter {
    literals: Vec<Lit>,
    /// One literal for each of them: that so many are true up to there; for the number that was asked for last.
    so_far: Vec<Lit>,
    number: usize,
}

impl Counter {
    fn of(literals: Vec<Lit>, solver: &mut Solver) -> Self {
        let mut counter = Self { so_far: Vec::new(), literals, number: 0 };
        counter.count_one_more(solver);
        counter
    }

    /// Returns the literal that is true when more than so many are; none when there are no more. Ask with rising numbers.
    fn more_than(&mut self, most: usize, solver: &mut Solver) -> Option<Lit> {
        while self.number <= most && self.number < self.literals.len() {
            self.count_one_more(solver);
        }
        if self.number > most { self.so_far.last().copied() } else { None }
    }

    fn count_one_more(&mut self, solver: &mut Solver) {
        self.number += 1;
        let before = std::mem::take(&mut self.so_far);
        let from = self.number - 1;
        for (i, &literal) in self.literals.iter().enumerate().skip(from) {
            let count = solver.new_var().positive();
            match self.number {
                1 => solver.add_clause_held(&[!literal, count]),
                // `before` begins where the first of them can be reached.
                _ => solver.add_clause_held(&[!literal, !before[i - from], count]),
            }
            if let Some(&last) = self.so_far.last() {
                solver.add_clause_held(&[!last, count]);
            }
            self.so_far.push(count);
        }
    }
}
