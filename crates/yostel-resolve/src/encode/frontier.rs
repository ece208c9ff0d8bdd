//! The guide of the search: what is needed next, and what to state about it.

use yostel_solver::{Advice, Guide, Lit, Searching};

use super::{Mark, Meaning, Tables};
use crate::known::{Known, NeedId, PackageId};
use crate::problem::Problem;

/// Follows the search from what is needed to what that needs, and on.
pub(super) struct Frontier<'a> {
    pub(super) tables: &'a mut Tables,
    pub(super) problem: &'a Problem,
    pub(super) known: &'a mut Known,
}

impl Guide for Frontier<'_> {
    fn next(&mut self, search: &mut Searching<'_>, undone_to: usize) -> Advice {
        self.go_back(undone_to);
        if self.bind_waiting(search) || self.read(search) {
            return Advice::Again;
        }
        let tables = &mut *self.tables;
        while let Some(&switch) = tables.switches.get(tables.at.switched) {
            if search.value(switch).is_none() {
                tables.marks.push(tables.at);
                return Advice::Decide(!switch);
            }
            tables.at.switched += 1;
        }
        if let Some(advice) = self.go_in_order(search) {
            return advice;
        }
        let tables = &mut *self.tables;
        while let Some(&need) = tables.open.get(tables.at.calm).filter(|_| search.is_calm_first()) {
            if let Some(literal) = tables.choice_for(need, search)
                && tables.is_calm(need, search)
            {
                tables.marks.push(tables.at);
                return Advice::DecideThis(literal);
            }
            tables.at.calm += 1;
        }
        while let Some(&need) = tables.open.get(tables.at.met) {
            if let Some(literal) = tables.choice_for(need, search) {
                tables.marks.push(tables.at);
                return Advice::Decide(literal);
            }
            tables.at.met += 1;
        }
        if !self.tables.is_closed && self.want_missing() { Advice::Pause } else { Advice::Enough }
    }
}

impl Tables {
    /// Returns the release to try for a need; nothing when it is met, or is not known yet.
    fn choice_for(&self, need: NeedId, search: &Searching<'_>) -> Option<Lit> {
        let met_by = self.needs[need.index()].as_ref().and_then(|(_, met_by)| met_by.as_deref());
        let mut choice = None;
        for &literal in met_by.unwrap_or_default() {
            match search.value(literal) {
                Some(true) => return None,
                None if choice.is_none() => choice = Some(literal),
                _ => {}
            }
        }
        choice
    }

    /// Tells whether neither a need nor a release that it accepts took part in a conflict so far.
    fn is_calm(&self, need: NeedId, search: &Searching<'_>) -> bool {
        let stated = self.needs[need.index()].iter();
        let mut all = stated.flat_map(|(need, met_by)| met_by.iter().flatten().chain([need]));
        !all.any(|literal| search.is_active(*literal))
    }

    /// Goes through all that is decided once more, from the first.
    pub(super) fn start_over(&mut self) {
        self.marks.clear();
        self.at = Mark { read: self.at.read, open: self.at.open, ..Mark::default() };
    }

    /// Goes back to needs that were passed over as long as nothing was known of their packages.
    fn take_up(&mut self, here: &[NeedId]) {
        if self.order.is_some() {
            return self.start_over();
        }
        let mut here = here.to_vec();
        here.sort_unstable();
        let mut unbound = self.open.iter().enumerate().skip(self.bound);
        let Some((first, _)) = unbound.find(|(_, need)| here.binary_search(need).is_ok()) else { return };
        for mark in self.marks.iter_mut().chain([&mut self.at]) {
            mark.met = mark.met.min(first);
            mark.calm = mark.calm.min(first);
        }
    }
}

impl Frontier<'_> {
    /// Wants the packages that are needed and did not arrive; tells whether there are any.
    pub(super) fn want_missing(&mut self) -> bool {
        let mut missing = false;
        for at in self.tables.bound..self.tables.open.len() {
            let id = self.known.accepted(self.tables.open[at]).0;
            if !self.known.has_arrived(id) {
                self.known.want(id);
                missing = true;
            } else if !missing {
                self.tables.bound = at + 1;
            }
        }
        missing
    }

    /// States what those needs mean whose packages arrived since; tells whether there were any.
    fn bind_waiting(&mut self, search: &mut Searching<'_>) -> bool {
        if self.tables.arrived == self.known.counts().arrived {
            return false;
        }
        self.tables.arrived = self.known.counts().arrived;
        let waiting = std::mem::take(&mut self.tables.waiting);
        let (here, waiting): (Vec<NeedId>, Vec<NeedId>) =
            waiting.into_iter().partition(|need| self.known.has_arrived(self.known.accepted(*need).0));
        self.tables.waiting = waiting;
        for need in &here {
            self.tables.bind(*need, self.problem, self.known, search);
        }
        if !here.is_empty() {
            self.tables.take_up(&here);
        }
        !here.is_empty()
    }

    /// Forgets what was followed on a part of the trail that was undone.
    fn go_back(&mut self, undone_to: usize) {
        let tables = &mut *self.tables;
        if undone_to >= tables.at.read {
            return;
        }
        while tables.marks.last().is_some_and(|mark| mark.read > undone_to) {
            tables.marks.pop();
        }
        tables.at = tables.marks.last().copied().unwrap_or_default();
        tables.open.truncate(tables.at.open);
        tables.bound = tables.bound.min(tables.at.open);
    }

    /// Reads what became true, stating what releases need; tells whether anything was stated.
    fn read(&mut self, search: &mut Searching<'_>) -> bool {
        let mut stated = false;
        while let Some(&literal) = search.trail().get(self.tables.at.read) {
            self.tables.at.read += 1;
            let number = literal.var().index();
            match self.tables.meanings.get(number) {
                Some(Meaning::Need(need)) if literal.is_positive() => {
                    self.tables.open.push(*need);
                    self.tables.at.open = self.tables.open.len();
                }
                Some(&Meaning::Release(id, at)) if literal.is_positive() && !self.tables.is_closed => {
                    stated |= self.look_at(literal, id, at, search)
                }
                _ => {}
            }
        }
        stated
    }

    /// States what a release needs, once; tells whether that was anything.
    fn look_at(&mut self, release: Lit, id: PackageId, at: u32, search: &mut Searching<'_>) -> bool {
        let number = release.var().index();
        if self.tables.stated.len() <= number {
            self.tables.stated.resize(self.tables.meanings.len(), false);
        }
        if std::mem::replace(&mut self.tables.stated[number], true) {
            return false;
        }
        let needs: Vec<NeedId> = self.known.look_at(id, at).to_vec();
        for &need in &needs {
            let need = self.tables.need(need, self.problem, self.known, search);
            search.add_clause(&[!release, need]);
        }
        let fills = self.tables.fill_roles(release, id, at, self.problem, self.known, search);
        fills || !needs.is_empty()
    }
}
