//! Follows proofs step by step, each by unit propagation over the clauses that are there.
//!
//! What follows for good is kept from step to step, and a clause is looked at only when one of two literals that it watches
//! becomes false (Moskewicz et al. 2001); so a step costs what it propagates.

use std::collections::{BTreeMap, BTreeSet};

use crate::{Clause, Problem, Refusal};

/// Follows a proof: a line a step, `d` before a deleted clause, 0 at each end; says after how many steps it establishes
/// `claim` (the empty clause for a refutation; the negated assumptions for a refusal under assumptions).
///
/// Once the clauses contradict each other by propagation alone, every claim is established, and what comes behind is not
/// read. Any other claim is looked at when all steps are done.
///
/// # Errors
/// The first step that does not hold, or `NotEstablished`.
///
/// # Examples
/// ```
/// use yostel_check::{check_proof, parse_cnf};
/// let problem = parse_cnf("p cnf 2 4\n1 2 0\n1 -2 0\n-1 2 0\n-1 -2 0\n").unwrap();
/// assert_eq!(check_proof(&problem, "1 0\n0\n", &[]), Ok(1));
/// ```
pub fn check_proof(problem: &Problem, proof: &str, claim: &[i64]) -> Result<usize, Refusal> {
    let mut present = Present::default();
    problem.clauses.iter().for_each(|clause| present.add(normal(clause)));
    let mut done = 0;
    for (step, content) in (1..).zip(proof.lines()) {
        if present.contradictory {
            break;
        }
        let (deletes, clause) = read_step(step, content)?;
        if deletes {
            if !present.delete(&clause) {
                return Err(Refusal::NotPresent { step, clause });
            }
        } else if present.implies(&clause) {
            present.add(clause);
        } else {
            return Err(Refusal::NotImplied { step, clause });
        }
        done = step;
    }
    // A clause is established by any clause inside it, or when it follows by propagation itself.
    if present.implies(&normal(claim)) { Ok(done) } else { Err(Refusal::NotEstablished) }
}

/// Reads a step: whether it deletes, and its clause.
fn read_step(step: usize, content: &str) -> Result<(bool, Clause), Refusal> {
    let bad = |reason: &str| Refusal::Malformed { line: step, reason: reason.into() };
    let (deletes, body) = match content.strip_prefix('d') {
        Some(rest) => (true, rest),
        None => (false, content),
    };
    let numbers: Result<Vec<i64>, _> = body.split_whitespace().map(str::parse).collect();
    let mut numbers = numbers.map_err(|_| bad("literal is no number"))?;
    if numbers.pop() != Some(0) || numbers.contains(&0) {
        return Err(bad("step does not end with one 0"));
    }
    if numbers.contains(&i64::MIN) {
        return Err(bad("literal is out of range"));
    }
    Ok((deletes, normal(&numbers)))
}

fn normal(clause: &[i64]) -> Clause {
    let mut clause = clause.to_vec();
    clause.sort_unstable();
    clause.dedup();
    clause
}

/// A literal by a number of our own: twice that of its variable, and one more where it is negative.
type Literal = usize;

/// Numbers for variables, in the order in which they are met: as few as there are, whatever they are called.
#[derive(Default)]
struct Variables(BTreeMap<i64, usize>);

impl Variables {
    fn of(&mut self, clause: &[i64]) -> Vec<Literal> {
        let mut number = |variable| {
            let next = self.0.len();
            *self.0.entry(variable).or_insert(next)
        };
        clause.iter().map(|literal| 2 * number(literal.abs()) + usize::from(*literal < 0)).collect()
    }
}

/// The clauses that are there, and what follows from them for good.
#[derive(Default)]
struct Present {
    variables: Variables,
    /// Every clause, the two literals that it watches first; empty once it is deleted.
    clauses: Vec<Vec<Literal>>,
    /// Where each clause is, by what it says; several may say the same.
    places: BTreeMap<Clause, Vec<usize>>,
    /// The clauses of one literal, which watch nothing.
    units: BTreeSet<usize>,
    facts: Facts,
    /// The clauses that watch a literal.
    watching: Vec<Vec<usize>>,
    /// Whether they cannot all be met, by propagation alone.
    contradictory: bool,
}

/// What is known of literals.
#[derive(Default)]
struct Facts {
    /// By literal.
    is_true: Vec<bool>,
    /// The true ones, in the order in which that became known, each with the clause that says so.
    in_order: Vec<(Literal, Option<usize>)>,
    /// How many of them have been propagated.
    propagated: usize,
}

impl Facts {
    fn is_true(&self, literal: Literal) -> bool {
        self.is_true[literal]
    }

    fn is_false(&self, literal: Literal) -> bool {
        self.is_true[literal ^ 1]
    }

    fn add(&mut self, literal: Literal, because_of: Option<usize>) {
        self.is_true[literal] = true;
        self.in_order.push((literal, because_of));
    }

    fn keep(&mut self, first: usize) {
        for (literal, _) in self.in_order.drain(first..) {
            self.is_true[literal] = false;
        }
        self.propagated = first;
    }
}

impl Present {
    /// Returns a clause by our numbers, and makes room for what is kept of its literals.
    fn numbered(&mut self, clause: &[i64]) -> Vec<Literal> {
        let literals = self.variables.of(clause);
        let all = 2 * self.variables.0.len();
        self.facts.is_true.resize(all, false);
        self.watching.resize_with(all, Vec::new);
        literals
    }

    /// Adds a clause and what follows from it for good.
    fn add(&mut self, clause: Clause) {
        let place = self.clauses.len();
        let mut literals = self.numbered(&clause);
        self.places.entry(clause).or_default().push(place);
        // Two that are not false are watched, where there are two.
        literals.sort_by_key(|literal| self.facts.is_false(*literal));
        match literals[..] {
            [] => self.contradictory = true,
            [_] => _ = self.units.insert(place),
            [one, other, ..] => [one, other].into_iter().for_each(|literal| self.watching[literal].push(place)),
        }
        self.clauses.push(literals);
        self.state(place);
        self.contradictory |= !self.propagate();
    }

    /// Takes in what a clause says by itself, given what is known for good.
    fn state(&mut self, place: usize) {
        let mut may_hold = self.clauses[place].iter().filter(|literal| !self.facts.is_false(**literal));
        match (may_hold.next().copied(), may_hold.next()) {
            (None, _) => self.contradictory = true,
            (Some(literal), None) if !self.facts.is_true(literal) => self.facts.add(literal, Some(place)),
            _ => {}
        }
    }

    /// Deletes a clause; says whether it was there. What follows for good is found anew where it followed from that clause.
    fn delete(&mut self, clause: &[i64]) -> bool {
        let Some(place) = self.places.get_mut(clause).and_then(Vec::pop) else { return false };
        let said = std::mem::take(&mut self.clauses[place]);
        self.units.remove(&place);
        // Of a clause that says why, one literal is true and the others are false.
        let is_why = said.iter().any(|literal| self.facts.is_true(*literal))
            && self.facts.in_order.iter().any(|(_, because_of)| *because_of == Some(place));
        if is_why {
            self.facts.keep(0);
            for unit in self.units.clone() {
                self.state(unit);
            }
            self.contradictory |= !self.propagate();
        }
        true
    }

    /// Reverse unit propagation: makes every literal of a clause false and propagates; true when that is a contradiction.
    fn implies(&mut self, clause: &[i64]) -> bool {
        if self.contradictory {
            return true;
        }
        let for_good = self.facts.in_order.len();
        let mut holds = false;
        for literal in self.numbered(clause) {
            holds |= self.facts.is_true(literal);
            if !self.facts.is_false(literal) {
                self.facts.add(literal ^ 1, None);
            }
        }
        holds = holds || !self.propagate();
        self.facts.keep(for_good);
        holds
    }

    /// Makes true whatever clauses demand; false when one is false.
    fn propagate(&mut self) -> bool {
        while let Some(&(fact, _)) = self.facts.in_order.get(self.facts.propagated) {
            self.facts.propagated += 1;
            let now_false = fact ^ 1;
            let watching = std::mem::take(&mut self.watching[now_false]);
            let mut can_hold = true;
            for place in watching {
                let clause = &mut self.clauses[place];
                if clause.is_empty() {
                    continue;
                }
                if clause[0] == now_false {
                    clause.swap(0, 1);
                }
                let other = clause[0];
                if can_hold
                    && !self.facts.is_true(other)
                    && let Some(instead) = (2..clause.len()).find(|&at| !self.facts.is_false(clause[at]))
                {
                    clause.swap(1, instead);
                    self.watching[clause[1]].push(place);
                    continue;
                }
                self.watching[now_false].push(place);
                if self.facts.is_false(other) {
                    can_hold = false;
                } else if can_hold && !self.facts.is_true(other) {
                    self.facts.add(other, Some(place));
                }
            }
            if !can_hold {
                return false;
            }
        }
        true
    }
}
