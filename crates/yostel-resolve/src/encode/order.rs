//! Deciding in the order in which packages are to be as preferred as can be, so that the first set that is found is the best.

use yostel_solver::{Advice, Lit, Model, Outcome, Searching};

use super::frontier::Frontier;
use super::{Candidates, Encoding, positive};
use crate::known::{Halt, Known, PackageId};
use crate::problem::Problem;

/// In which order to decide, where the first set that is found is to be the best.
#[derive(Debug, Default)]
pub(super) struct Order {
    /// What is true if it can be, one after the other, before any package.
    pub(super) first: Vec<Lit>,
    /// Packages: what projects need, what that needs, and so on, as far as it is decided; each layer by name.
    layers: Vec<Vec<PackageId>>,
    /// By package: whether it is in a layer.
    is_met: Vec<bool>,
}

impl Order {
    /// Starts with no layers.
    fn of(first: &[Lit]) -> Self {
        Self { first: first.to_vec(), ..Self::default() }
    }

    /// Forgets all layers but the first ones.
    fn truncate(&mut self, layers: usize) {
        for id in self.layers.drain(layers.min(self.layers.len())..).flatten() {
            self.is_met[id.index()] = false;
        }
    }

    /// Adds a layer of packages that are in none.
    fn push(&mut self, layer: Vec<PackageId>) {
        for id in &layer {
            if self.is_met.len() <= id.index() {
                self.is_met.resize(id.index() + 1, false);
            }
            self.is_met[id.index()] = true;
        }
        self.layers.push(layer);
    }

    fn is_met(&self, id: PackageId) -> bool {
        self.is_met.get(id.index()).copied().unwrap_or(false)
    }
}

impl Encoding {
    /// Searches for the best set in which the assumptions hold, of which it is known that there is one: the one with the first
    /// of `first` true that can be, and so on, and then with each package as preferred as can be, in layers. Returns nothing
    /// when that took more conflicts than are permitted. Not for packages that may coexist.
    ///
    /// # Errors
    /// As [`Self::solve_or_blame`]; call again with the same then.
    pub(crate) fn solve_in_order(
        &mut self,
        (assumptions, first): (&[Lit], &[Lit]),
        conflicts: u64,
        problem: &Problem,
        known: &mut Known,
    ) -> Result<Option<Model>, Halt> {
        if self.tables.order.is_none() {
            self.solver.give_up_paused();
            self.tables.order = Some(Order::of(first));
            self.tables.start_over();
        }
        self.solver.limit_conflicts(Some(conflicts));
        let outcome = self.solve(assumptions, problem, known);
        self.solver.limit_conflicts(None);
        if !matches!(outcome, Outcome::Paused) {
            self.tables.order = None;
        }
        match outcome {
            Outcome::Satisfiable(model) => Ok(Some(model)),
            Outcome::Stopped if known.is_stopped() => Err(Halt::Stopped),
            Outcome::Unsatisfiable(_) | Outcome::Stopped => Ok(None),
            Outcome::Paused => Err(Halt::Missing),
        }
    }
}

impl Frontier<'_> {
    /// Decides packages in the order in which they are to be as preferred as can be, each at the first release that is not
    /// out; nothing when no order was asked for, or all are decided.
    ///
    /// What is out then is so by what was decided before. So the first set that is found is the best.
    pub(super) fn go_in_order(&mut self, search: &Searching<'_>) -> Option<Advice> {
        let tables = &mut *self.tables;
        let order = tables.order.as_mut()?;
        while let Some(&first) = order.first.get(tables.at.first) {
            if search.value(first).is_none() {
                tables.marks.push(tables.at);
                return Some(Advice::DecideThis(first));
            }
            tables.at.first += 1;
        }
        loop {
            order.truncate(tables.at.layer + 1);
            if order.layers.len() == tables.at.layer {
                let layer = next_layer(order, &tables.candidates, self.problem, self.known, search);
                if layer.is_empty() {
                    return None;
                }
                order.push(layer);
            }
            while let Some(id) = order.layers[tables.at.layer].get(tables.at.item) {
                let Some(candidates) = tables.candidates.get(id.index()).and_then(Option::as_ref) else {
                    self.known.want(*id);
                    self.want_missing();
                    return Some(Advice::Pause);
                };
                let mut all = candidates.span().map(positive);
                if !all.clone().any(|literal| search.value(literal) == Some(true))
                    && let Some(open) = all.find(|literal| search.value(*literal).is_none())
                {
                    tables.marks.push(tables.at);
                    return Some(Advice::DecideThis(open));
                }
                tables.at.item += 1;
            }
            tables.at.layer += 1;
            tables.at.item = 0;
        }
    }
}

/// Lists the packages that the chosen releases of the last layer need and that are in no layer yet, by name; what the projects
/// need themselves when there is none.
fn next_layer(
    order: &Order,
    candidates: &[Option<Candidates>],
    problem: &Problem,
    known: &mut Known,
    search: &Searching<'_>,
) -> Vec<PackageId> {
    let mut layer: Vec<PackageId> = Vec::new();
    match order.layers.last() {
        None => layer.extend(problem.requirements.iter().map(|requirement| known.package(&requirement.package))),
        Some(last) => {
            for &id in last {
                let Some(candidates) = candidates.get(id.index()).and_then(Option::as_ref) else { continue };
                let places = candidates.span().zip(&candidates.places);
                let chosen = places.filter(|(number, _)| search.value(positive(*number)) == Some(true));
                let chosen: Vec<u32> = chosen.map(|(_, place)| *place).collect();
                for place in chosen {
                    let needs = known.look_at(id, place).to_vec();
                    layer.extend(needs.into_iter().map(|need| known.accepted(need).0));
                }
            }
        }
    }
    layer.sort_unstable();
    layer.dedup();
    layer.retain(|id| !order.is_met(*id));
    layer.sort_by_key(|id| known.name(*id));
    layer
}
