//! The clause store, its watch lists, and exclusions.
//!
//! Invariants, named by number where they are kept or used:
//! 1. A stored clause has at least two literals; shorter ones live on the trail at level 0.
//! 2. The first two literals are the watched ones; each clause is in exactly their two lists.
//! 3. A watched literal is false only while the other watched literal is true, or a propagation is pending.
//! 4. A clause that forced a literal has it at its first place for as long as the literal stays forced.

use crate::literal::{Lit, Var};

/// Index of a clause in the store.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct ClauseId(pub(crate) u32);

/// Why a literal is true.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Reason {
    /// It was decided, assumed, or holds whatever is decided.
    None,
    /// It is the first literal of a clause whose others are false.
    Clause(ClauseId),
    /// An exclusion: this literal is false, and one of the two must be true.
    Pair(Lit),
}

/// What cannot be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Conflict {
    /// All literals of a clause are false.
    Clause(ClauseId),
    /// Both are false, and an exclusion says that one must be true.
    Pair([Lit; 2]),
}

/// Where a clause came from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Origin {
    /// Stated by the caller; never dropped.
    Problem,
    /// Derived from a conflict; may be dropped while it is no reason.
    Learned,
}

#[derive(Debug)]
struct Clause {
    start: u32,
    length: u32,
    /// How many levels its literals were on when it was learned: few is good (Audemard and Simon 2009).
    lbd: u32,
    /// Raised whenever the clause takes part in a conflict; decays over time.
    activity: f32,
    origin: Origin,
    dropped: bool,
}

/// An entry of a watch list. `blocker` is another literal of the clause: when true, the clause needs no visit.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Watch {
    /// The clause, and in the highest bit whether `blocker` is all there is of it besides.
    clause: u32,
    pub(crate) blocker: Lit,
}

const PAIR: u32 = 1 << 31;

impl Watch {
    /// Watches a clause of more than two literals.
    pub(crate) fn of(clause: ClauseId, blocker: Lit) -> Self {
        Self { clause: clause.0, blocker }
    }

    fn clause(self) -> ClauseId {
        ClauseId(self.clause & !PAIR)
    }

    /// Returns the clause if it has more than two literals.
    pub(crate) fn long(self) -> Option<ClauseId> {
        (self.clause & PAIR == 0).then_some(ClauseId(self.clause))
    }
}

/// A variable outside a group that makes some of the group false once it is true.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Excluder {
    pub(crate) var: Var,
    start: u32,
    count: u32,
}

/// Variables `first..end`, all of which are false once another one, outside or among them, is true.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Span {
    pub(crate) first: u32,
    pub(crate) end: u32,
}

#[derive(Debug, Default)]
pub(crate) struct Clauses {
    store: Vec<Clause>,
    /// The literals of all clauses, one clause after the other.
    literals: Vec<Lit>,
    /// Literals of dropped clauses, to be given back.
    wasted: usize,
    /// By code of the literal that, once false, calls for a visit.
    watches: Vec<Vec<Watch>>,
    spans: Vec<Span>,
    /// By variable: where its spans start, and how many there are.
    spans_of: Vec<(u32, u32)>,
    /// By variable: the group that it is in, counted from 1.
    group_of: Vec<u32>,
    /// By group: who excludes some of it.
    excluders: Vec<Vec<Excluder>>,
    pub(crate) learned: usize,
    /// How many are not dropped.
    pub(crate) kept: usize,
    increment: Increment,
}

/// How much one use of a clause counts now: it grows, so that later uses count more than earlier ones.
#[derive(Debug)]
struct Increment(f32);

impl Default for Increment {
    fn default() -> Self {
        Self(1.0)
    }
}

impl Clauses {
    pub(crate) fn grow(&mut self, variables: usize) {
        self.watches.resize_with(variables * 2, Vec::new);
        self.spans_of.resize(variables, (0, 0));
        self.group_of.resize(variables, 0);
    }

    pub(crate) fn add(&mut self, literals: &[Lit], origin: Origin, lbd: u32) -> ClauseId {
        debug_assert!(literals.len() >= 2, "invariant 1");
        let small = |count: usize| u32::try_from(count).expect("fewer than 2^32 literals fit in memory");
        let id = ClauseId(small(self.store.len()));
        let tag = if literals.len() == 2 { PAIR } else { 0 };
        debug_assert!(id.0 < PAIR, "fewer than 2^31 clauses fit in memory");
        self.watches[literals[0].code()].push(Watch { clause: id.0 | tag, blocker: literals[1] });
        self.watches[literals[1].code()].push(Watch { clause: id.0 | tag, blocker: literals[0] });
        self.kept += 1;
        if origin == Origin::Learned {
            self.learned += 1;
        }
        let (start, length) = (small(self.literals.len()), small(literals.len()));
        self.store.push(Clause { start, length, lbd, activity: self.increment.0, origin, dropped: false });
        self.literals.extend_from_slice(literals);
        id
    }

    /// Makes all variables of the spans, but `var` itself, false once `var` is true.
    pub(crate) fn exclude(&mut self, var: Var, spans: &[Span]) {
        let start = u32::try_from(self.spans.len()).expect("fewer than 2^32 spans fit in memory");
        self.spans.extend_from_slice(spans);
        let count = u32::try_from(spans.len()).expect("as above");
        self.spans_of[var.index()] = (start, count);
        if let Some(group) = spans.first().and_then(|span| self.group_of[span.first as usize].checked_sub(1)) {
            self.excluders[group as usize].push(Excluder { var, start, count });
        }
    }

    /// Lists who excludes some of the group of this variable; none for one that is in none.
    pub(crate) fn excluders_of(&self, var: Var) -> &[Excluder] {
        match self.group_of[var.index()].checked_sub(1) {
            Some(group) => &self.excluders[group as usize],
            None => &[],
        }
    }

    /// Tells whether a variable of this number is among those excluded.
    pub(crate) fn excludes(&self, excluder: &Excluder, number: u32) -> bool {
        let spans = &self.spans[excluder.start as usize..(excluder.start + excluder.count) as usize];
        spans.iter().any(|span| (span.first..span.end).contains(&number))
    }

    /// Makes at most one of the variables in the span true.
    pub(crate) fn at_most_one(&mut self, span: Span) {
        let start = u32::try_from(self.spans.len()).expect("fewer than 2^32 spans fit in memory");
        self.spans.push(span);
        self.spans_of[span.first as usize..span.end as usize].fill((start, 1));
        self.excluders.push(Vec::new());
        let group = u32::try_from(self.excluders.len()).expect("no more groups than variables");
        self.group_of[span.first as usize..span.end as usize].fill(group);
    }

    /// Lists the spans that a true literal makes false.
    pub(crate) fn excluded_by(&self, literal: Lit) -> &[Span] {
        if !literal.is_positive() {
            return &[];
        }
        let (start, count) = self.spans_of[literal.var().index()];
        &self.spans[start as usize..(start + count) as usize]
    }

    pub(crate) fn literals(&self, id: ClauseId) -> &[Lit] {
        let clause = &self.store[id.0 as usize];
        &self.literals[clause.start as usize..(clause.start + clause.length) as usize]
    }

    pub(crate) fn literals_mut(&mut self, id: ClauseId) -> &mut [Lit] {
        let clause = &self.store[id.0 as usize];
        &mut self.literals[clause.start as usize..(clause.start + clause.length) as usize]
    }

    /// Lists the false literals that forced a literal (invariant 4).
    pub(crate) fn others<'a>(&'a self, reason: &'a Reason) -> &'a [Lit] {
        match reason {
            Reason::None => &[],
            Reason::Clause(id) => &self.literals(*id)[1..],
            Reason::Pair(other) => std::slice::from_ref(other),
        }
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

    /// Puts the literal at `from` at the watched place `to`, which is 0 or 1.
    pub(crate) fn watch_instead(&mut self, id: ClauseId, to: usize, from: usize) {
        if to == from {
            return;
        }
        let literals = self.literals_mut(id);
        let (old, new) = (literals[to], literals[from]);
        literals.swap(to, from);
        if from > 1 {
            let blocker = self.literals(id)[1 - to];
            self.watches[old.code()].retain(|watch| watch.clause() != id);
            self.watches[new.code()].push(Watch::of(id, blocker));
        }
    }

    pub(crate) fn bump(&mut self, id: ClauseId) {
        let increment = self.increment.0;
        let clause = &mut self.store[id.0 as usize];
        if clause.origin == Origin::Learned {
            clause.activity += increment;
            if clause.activity > 1e20 {
                for each in &mut self.store {
                    each.activity *= 1e-20;
                }
                self.increment.0 *= 1e-20;
            }
        }
    }

    pub(crate) fn decay(&mut self) {
        self.increment.0 /= 0.999;
    }

    /// Lists the clauses that still exist, in the order in which they came.
    pub(crate) fn ids(&self) -> impl Iterator<Item = (ClauseId, Origin)> {
        (0u32..).zip(&self.store).filter(|(_, c)| !c.dropped).map(|(i, c)| (ClauseId(i), c.origin))
    }

    pub(crate) fn activity(&self, id: ClauseId) -> f32 {
        self.store[id.0 as usize].activity
    }

    pub(crate) fn lbd(&self, id: ClauseId) -> u32 {
        self.store[id.0 as usize].lbd
    }

    /// Lists the clauses watched by a literal.
    pub(crate) fn watching(&self, literal: Lit) -> &[Watch] {
        &self.watches[literal.code()]
    }

    /// Counts, by clause, in how many lists of its first two literals it is: two, by invariant 2.
    pub(crate) fn watched(&self) -> Vec<u32> {
        let mut watched = vec![0; self.store.len()];
        for (code, watches) in self.watches.iter().enumerate() {
            for watch in watches {
                let first = self.literals(watch.clause()).iter().take(2);
                watched[watch.clause().0 as usize] += u32::from(first.clone().any(|literal| literal.code() == code));
            }
        }
        watched
    }

    /// Drops clauses: their watches in one sweep (invariant 2), and their memory once it is worth the copying.
    pub(crate) fn drop_all(&mut self, ids: &[ClauseId]) {
        for id in ids {
            let clause = &mut self.store[id.0 as usize];
            clause.dropped = true;
            self.wasted += clause.length as usize;
            clause.length = 0;
        }
        self.learned -= ids.len();
        self.kept -= ids.len();
        let store = &self.store;
        for list in &mut self.watches {
            list.retain(|w| !store[w.clause().0 as usize].dropped);
        }
        if self.wasted > self.literals.len() / 2 {
            let mut kept = Vec::with_capacity(self.literals.len() - self.wasted);
            for clause in &mut self.store {
                let (start, end) = (clause.start as usize, (clause.start + clause.length) as usize);
                clause.start = u32::try_from(kept.len()).expect("fewer than before");
                kept.extend_from_slice(&self.literals[start..end]);
            }
            self.literals = kept;
            self.wasted = 0;
        }
    }
}
