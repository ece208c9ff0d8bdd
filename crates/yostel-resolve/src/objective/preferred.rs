//! How new, or old, packages can be: one after another, each under what was found out of those before.

use yostel_documents::PackageName;
use yostel_solver::Lit;

use super::Search;
use crate::known::{Halt, Known, PackageId};
use crate::layers::Layers;
use crate::problem::Problem;

impl Search {
    /// Finds for each package that is to be reached the preferred release that it can have, whatever must move for that, and
    /// makes it a fact. One that cannot be in any set any more is passed over.
    pub(super) fn reach(
        &mut self,
        names: &mut Vec<PackageName>,
        problem: &Problem,
        known: &mut Known,
    ) -> Result<(), Halt> {
        while let Some(name) = names.last() {
            let mut lines = self.lines(name, problem, known);
            if let Some(document) = known.document(name).filter(|_| lines.len() > 1) {
                let is_at = |at: u32| {
                    let version = &document.releases[at as usize].version;
                    problem.reach[name].iter().any(|there| document.numbering.is_same_line(there, version))
                };
                lines.retain(|line| line.first().is_some_and(|(at, _)| is_at(*at)));
            }
            for line in lines {
                self.first_of(&line, problem, known)?;
            }
            names.pop();
        }
        Ok(())
    }

    /// Of a package that a trial holds at its version, that one is all there is to choose from: nothing else of it need be
    /// asked about. (What is a fact for good, the solver knows by itself.)
    fn held(&self, package: PackageId) -> Option<(u32, Lit)> {
        let (moved, stays) = self.kept.as_ref()?.alone(package)?;
        stays.filter(|_| self.trial.as_ref().is_some_and(|assumed| assumed.has(!moved)))
    }

    /// Finds for each package the preferred release that it can have under all facts so far, and makes it a fact.
    pub(super) fn preferred(&mut self, layers: &mut Layers, problem: &Problem, known: &mut Known) -> Result<(), Halt> {
        loop {
            while let Some(name) = layers.now.last() {
                if self.all_at_once(&[], problem, known)? {
                    return Ok(());
                }
                let id = known.package(name);
                if let Some(line) = self.held(id).map(|held| [held]) {
                    self.prefer(id, &line, layers, problem, known)?;
                    layers.now.pop();
                    continue;
                }
                let mut lines = self.lines(name, problem, known);
                if lines.len() > 1 {
                    // A line that nothing must have is given up, the oldest first: fewer copies of one package.
                    lines.sort_by_key(|line| line.first().map(|(at, _)| *at));
                    for line in &lines {
                        self.give_up(line, problem, known)?;
                    }
                    lines.reverse();
                }
                for line in lines {
                    if self.trial.is_some() {
                        self.give_up_beyond_best(&line, problem, known)?;
                    }
                    self.prefer(id, &line, layers, problem, known)?;
                }
                layers.now.pop();
            }
            if layers.next.is_empty() {
                return Ok(());
            }
            layers.met.extend(layers.next.iter().cloned());
            layers.now = std::mem::take(&mut layers.next).into_iter().rev().collect();
        }
    }

    /// Makes it a fact that the first release of these that can be chosen is, and takes note of what it needs.
    fn prefer(
        &mut self,
        package: PackageId,
        line: &[(u32, Lit)],
        layers: &mut Layers,
        problem: &Problem,
        known: &mut Known,
    ) -> Result<(), Halt> {
        let needs = match self.first_of(line, problem, known)? {
            Some(at) => known.look_at(package, at).to_vec(),
            None => Vec::new(),
        };
        for need in needs {
            let name = known.text_of(need).0;
            if !layers.met.contains(name) && !layers.next.contains(name) {
                layers.next.insert(name.clone());
            }
        }
        Ok(())
    }

    /// Makes it a fact that the first release of these that can be chosen is, and that those before it are not; returns its
    /// place in the document.
    fn first_of(&mut self, line: &[(u32, Lit)], problem: &Problem, known: &mut Known) -> Result<Option<u32>, Halt> {
        for &(at, literal) in line {
            if self.is_out(literal) {
                continue;
            }
            if self.holds(literal, problem, known)? {
                self.assert(literal);
                return Ok(Some(at));
            }
            self.assert(!literal);
        }
        Ok(None)
    }

    /// Makes it a fact of all releases that are preferred to the best one possible that they are not chosen: whether any of
    /// those beyond the best found so far can be is one question, where asking for each would be many. Where one can, it is
    /// as likely as not the next best, so from there on the better half of them is asked about.
    fn give_up_beyond_best(&mut self, line: &[(u32, Lit)], problem: &Problem, known: &mut Known) -> Result<(), Halt> {
        let mut of_all = true;
        loop {
            let is_chosen = |literal: Lit| self.model.as_ref().is_some_and(|model| model.is_true(literal));
            let best = line.iter().position(|(_, literal)| is_chosen(*literal)).unwrap_or(line.len());
            let beyond = line[..best].iter().map(|(_, literal)| *literal).filter(|literal| !self.is_out(*literal));
            let mut beyond: Vec<Lit> = beyond.collect();
            if beyond.len() < 2 {
                return Ok(());
            }
            if !std::mem::take(&mut of_all) {
                beyond.truncate(beyond.len().div_ceil(2));
            }
            let any = self.encoding.helper();
            self.encoding.solver.add_clause_held(&[&[!any][..], &beyond].concat());
            match self.ask(&[any], problem, known)? {
                Ok(model) => self.model = Some(model),
                Err(_) => beyond.iter().for_each(|literal| self.assert(!*literal)),
            }
        }
    }

    /// Lists the releases of a package that may be chosen, the preferred first, by groups of which each may have one: its
    /// lines where it may coexist, else all in one.
    fn lines(&mut self, name: &PackageName, problem: &Problem, known: &mut Known) -> Vec<Vec<(u32, Lit)>> {
        let id = known.package(name);
        let candidates = self.encoding.candidates(id, problem, known);
        let Some(document) = known.document(name).filter(|_| problem.rules.coexist.contains(name)) else {
            return vec![candidates];
        };
        let mut lines: Vec<Vec<(u32, Lit)>> = Vec::new();
        for (at, literal) in candidates {
            let version = |at: u32| &document.releases[at as usize].version;
            let same = |line: &&mut Vec<(u32, Lit)>| {
                line.first().is_some_and(|(first, _)| document.numbering.is_same_line(version(*first), version(at)))
            };
            match lines.iter_mut().find(same) {
                Some(line) => line.push((at, literal)),
                None => lines.push(vec![(at, literal)]),
            }
        }
        lines
    }

    /// Makes it a fact that none of these is chosen, if that can be.
    fn give_up(&mut self, line: &[(u32, Lit)], problem: &Problem, known: &mut Known) -> Result<(), Halt> {
        let none: Vec<Lit> = line.iter().map(|(_, literal)| !*literal).collect();
        if !self.model.as_ref().is_some_and(|model| none.iter().all(|literal| model.is_true(*literal))) {
            match self.ask(&none, problem, known)? {
                Ok(model) => self.model = Some(model),
                Err(_) => return Ok(()),
            }
        }
        none.iter().for_each(|literal| self.assert(*literal));
        Ok(())
    }
}
