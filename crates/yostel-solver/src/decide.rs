//! Which variable to branch on: the most active one, ties by number (VSIDS, Moskewicz et al. 2001), from a binary heap;
//! and which way: the value it last had (phase saving, Pipatsrisawat and Darwiche 2007).

use crate::literal::{Lit, Var};
use crate::trail::Trail;

const ABSENT: u32 = u32::MAX;

#[derive(Debug)]
pub(crate) struct Decider {
    activity: Vec<f64>,
    increment: f64,
    phase: Vec<bool>,
    heap: Vec<Var>,
    /// Place of each variable in `heap`, or `ABSENT`.
    place: Vec<u32>,
    /// Whether all open variables are in the heap, once somebody wants any: before, only those that took part in a conflict
    /// and were true.
    whole: bool,
}

impl Default for Decider {
    fn default() -> Self {
        Self {
            activity: Vec::new(),
            increment: 1.0,
            phase: Vec::new(),
            heap: Vec::new(),
            place: Vec::new(),
            whole: false,
        }
    }
}

impl Decider {
    pub(crate) fn add(&mut self, var: Var) {
        self.activity.push(0.0);
        self.phase.push(false);
        self.place.push(ABSENT);
        if self.whole {
            self.insert(var);
        }
    }

    /// Makes room for more variables at once.
    pub(crate) fn reserve(&mut self, more: usize) {
        self.activity.reserve(more);
        self.phase.reserve(more);
        self.place.reserve(more);
    }

    pub(crate) fn prefer(&mut self, literal: Lit) {
        self.phase[literal.var().index()] = literal.is_positive();
    }

    /// Puts a freed variable back, if it may be decided, and remembers the value it had.
    pub(crate) fn release(&mut self, literal: Lit) {
        self.prefer(literal);
        if self.whole || literal.is_positive() && self.activity[literal.var().index()] > 0.0 {
            self.insert(literal.var());
        }
    }

    pub(crate) fn bump(&mut self, var: Var) {
        self.activity[var.index()] += self.increment;
        if self.activity[var.index()] > 1e100 {
            for each in &mut self.activity {
                *each *= 1e-100;
            }
            self.increment *= 1e-100;
        }
        if self.place[var.index()] != ABSENT {
            self.sift_up(self.place[var.index()] as usize);
        }
    }

    /// Tells whether a variable took part in a conflict.
    pub(crate) fn is_active(&self, var: Var) -> bool {
        self.activity[var.index()] > 0.0
    }

    pub(crate) fn decay(&mut self) {
        self.increment /= 0.95;
    }

    /// Returns the literal to decide, or nothing when all are assigned.
    pub(crate) fn next(&mut self, trail: &Trail) -> Option<Lit> {
        if !std::mem::replace(&mut self.whole, true) {
            (0..).map(Var).take(self.place.len()).for_each(|var| self.insert(var));
        }
        while let Some(var) = self.pop() {
            if !trail.is_assigned(var) {
                return Some(if self.phase[var.index()] { var.positive() } else { var.negative() });
            }
        }
        None
    }

    /// Returns the literal to decide among variables that took part in a conflict and were true when they last had a value;
    /// nothing when all of these are assigned. What was false matters to no guide until something needs it.
    pub(crate) fn next_active(&mut self, trail: &Trail) -> Option<Lit> {
        while self.heap.first().is_some_and(|top| self.activity[top.index()] > 0.0) {
            let var = self.pop()?;
            if self.phase[var.index()] && !trail.is_assigned(var) {
                return Some(var.positive());
            }
        }
        None
    }

    fn before(&self, a: Var, b: Var) -> bool {
        let (x, y) = (self.activity[a.index()], self.activity[b.index()]);
        x > y || (x == y && a < b)
    }

    fn insert(&mut self, var: Var) {
        if self.place[var.index()] == ABSENT {
            self.heap.push(var);
            self.settle(self.heap.len() - 1);
            self.sift_up(self.heap.len() - 1);
        }
    }

    fn pop(&mut self) -> Option<Var> {
        let top = *self.heap.first()?;
        let last = self.heap.pop().expect("the heap has a first, so it has a last");
        self.place[top.index()] = ABSENT;
        if !self.heap.is_empty() {
            self.heap[0] = last;
            self.settle(0);
            self.sift_down(0);
        }
        Some(top)
    }

    fn settle(&mut self, at: usize) {
        self.place[self.heap[at].index()] = u32::try_from(at).expect("no more places than variables");
    }

    fn exchange(&mut self, a: usize, b: usize) {
        self.heap.swap(a, b);
        self.settle(a);
        self.settle(b);
    }

    fn sift_up(&mut self, mut at: usize) {
        while at > 0 {
            let parent = (at - 1) / 2;
            if !self.before(self.heap[at], self.heap[parent]) {
                break;
            }
            self.exchange(at, parent);
            at = parent;
        }
    }

    fn sift_down(&mut self, mut at: usize) {
        loop {
            let (left, right) = (2 * at + 1, 2 * at + 2);
            let mut best = at;
            for child in [left, right] {
                if child < self.heap.len() && self.before(self.heap[child], self.heap[best]) {
                    best = child;
                }
            }
            if best == at {
                break;
            }
            self.exchange(at, best);
            at = best;
        }
    }
}
