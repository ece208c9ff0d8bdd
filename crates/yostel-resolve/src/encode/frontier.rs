//! The guide of the search: what is needed next, and what to state about it.

use yostel_solver::{Advice, Guide, Lit, Searching};

use super::{Meaning, Tables, positive};
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
        while let Some(need) = tables.open.get(tables.at.met) {
            let met_by = tables.needs[need.index()].as_ref().and_then(|(_, met_by)| met_by.as_deref());
            let mut choice = None;
            for &literal in met_by.unwrap_or_default() {
                match search.value(literal) {
                    Some(true) => {
                        choice = None;
                        break;
                    }
                    None if choice.is_none() => choice = Some(literal),
                    _ => {}
                }
            }
            if let Some(literal) = choice {
                tables.marks.push(tables.at);
                return Advice::Decide(literal);
            }
            tables.at.met += 1;
        }
        let mut complete = true;
        for need in &tables.open {
            let id = self.known.accepted(*need).0;
            if !self.known.has_arrived(id) {
                self.known.want(id);
                complete = false;
            }
        }
        if complete { Advice::Enough } else { Advice::Pause }
    }
}

impl Frontier<'_> {
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
            // They were passed over as long as nothing was known of them.
            self.tables.marks.clear();
            self.tables.at.met = 0;
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
                Some(&Meaning::Release(id, at)) if literal.is_positive() => {
                    stated |= self.look_at(literal, id, at, search)
                }
                // A release that was tried is out: whatever keeps it out may keep the others out too, and to
                // know that at once is better than to come by each of them again.
                Some(&Meaning::Release(id, _)) if self.is_stated(number) => stated |= self.look_at_all(id, search),
                _ => {}
            }
        }
        stated
    }

    fn is_stated(&self, number: usize) -> bool {
        self.tables.stated.get(number).copied().unwrap_or(false)
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

    /// States what all releases of a package need, once; tells whether that was anything.
    fn look_at_all(&mut self, id: PackageId, search: &mut Searching<'_>) -> bool {
        let Some(candidates) = self.tables.candidates[id.index()].as_mut() else { return false };
        if std::mem::replace(&mut candidates.whole, true) {
            return false;
        }
        let all: Vec<(u32, Lit)> = candidates.places.iter().copied().zip(candidates.span().map(positive)).collect();
        let mut stated = false;
        for (at, literal) in all {
            stated |= self.look_at(literal, id, at, search);
        }
        stated
    }
}
