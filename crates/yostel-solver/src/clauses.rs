//! The clause store and its watch lists.
//!
//! Invariants, named by number where they are kept or used:
//! 1. A stored clause has at least two literals; shorter ones live on the trail at level 0.
//! 2. The first two literals are the watched ones; each clause stands in exactly their two lists.
//! 3. A watched literal is false only while the other watched literal is true, or a propagation is pending.

use crate::literal::Lit;

/// Index of a clause in the store.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct ClauseId(pub(crate) u32);

/// Where a clause came from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Origin {
    /// Stated by the caller; never dropped.
    Problem,
    /// Derived from a conflict; may be dropped while it is no reason.
    Learned,
}

#[derive(Debug)]
pub(crate) struct Clause {
    pub(crate) literals: Vec<Lit>,
    pub(crate) origin: Origin,
    /// Raised whenever the clause takes part in a conflict; decays over time.
    pub(crate) activity: f32,
    pub(crate) dropped: bool,
}

/// An entry of a watch list. `blocker` is another literal of the clause: when true, the clause needs no visit.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Watch {
    pub(crate) clause: ClauseId,
    pub(crate) blocker: Lit,
}

#[derive(Debug, Default)]
pub(crate) struct Clauses {
    store: Vec<Clause>,
    /// By code of the literal that, once false, calls for a visit.
    watches: Vec<Vec<Watch>>,
    pub(crate) learned: usize,
    increment: f32,
}

impl Clauses {
    pub(crate) fn grow(&mut self, variables: usize) {
        self.watches.resize_with(variables * 2, Vec::new);
    }

    pub(crate) fn add(&mut self, literals: Vec<Lit>, origin: Origin) -> ClauseId {
        debug_assert!(literals.len() >= 2, "invariant 1");
        let id = ClauseId(u32::try_from(self.store.len()).expect("fewer than 2^32 clauses fit in memory"));
        self.watches[literals[0].code()].push(Watch { clause: id, blocker: literals[1] });
        self.watches[literals[1].code()].push(Watch { clause: id, blocker: literals[0] });
        if origin == Origin::Learned {
            self.learned += 1;
        }
        self.store.push(Clause { literals, origin, activity: self.increment, dropped: false });
        id
    }

    pub(crate) fn literals(&self, id: ClauseId) -> &[Lit] {
        &self.store[id.0 as usize].literals
    }

    pub(crate) fn literals_mut(&mut self, id: ClauseId) -> &mut [Lit] {
        &mut self.store[id.0 as usize].literals
    }

    /// Takes the list of a falsified literal out; the caller gives back what still watches it.
    pub(crate) fn take_watches(&mut self, literal: Lit) -> Vec<Watch> {
        std::mem::take(&mut self.watches[literal.code()])
    }

    pub(crate) fn restore_watches(&mut self, literal: Lit, list: Vec<Watch>) {
        debug_assert!(self.watches[literal.code()].is_empty(), "no clause moves its watch onto a false literal");
        self.watches[literal.code()] = list;
    }

    pub(crate) fn watch(&mut self, literal: Lit, watch: Watch) {
        self.watches[literal.code()].push(watch);
    }

    pub(crate) fn bump(&mut self, id: ClauseId) {
        if self.increment == 0.0 {
            self.increment = 1.0;
        }
        let increment = self.increment;
        let clause = &mut self.store[id.0 as usize];
        if clause.origin == Origin::Learned {
            clause.activity += increment;
            if clause.activity > 1e20 {
                for each in &mut self.store {
                    each.activity *= 1e-20;
                }
                self.increment *= 1e-20;
            }
        }
    }

    pub(crate) fn decay(&mut self) {
        self.increment = if self.increment == 0.0 { 1.0 } else { self.increment / 0.999 };
    }

    /// Lists the learned clauses that still exist, in the order in which they were learned.
    pub(crate) fn learned_ids(&self) -> Vec<ClauseId> {
        (0u32..)
            .zip(&self.store)
            .filter(|(_, c)| c.origin == Origin::Learned && !c.dropped)
            .map(|(i, _)| ClauseId(i))
            .collect()
    }

    pub(crate) fn activity(&self, id: ClauseId) -> f32 {
        self.store[id.0 as usize].activity
    }

    /// Drops clauses: their memory and, in one sweep, their watches (invariant 2).
    pub(crate) fn drop_all(&mut self, ids: &[ClauseId]) {
        for id in ids {
            let clause = &mut self.store[id.0 as usize];
            clause.dropped = true;
            clause.literals = Vec::new();
        }
        self.learned -= ids.len();
        let store = &self.store;
        for list in &mut self.watches {
            list.retain(|w| !store[w.clause.0 as usize].dropped);
        }
    }
}
