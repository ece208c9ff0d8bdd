//! Why there is no set: a minimal set of needs that cannot be met together, and the facts that make it so.
//!
//! The solver blames needs, and dropping them one by one (deletion-based minimal unsatisfiable subset, Marques-Silva
//! 2010) leaves some of which none can go. Then every need of a release that was looked at gets a switch of its own, and
//! the same leaves facts of which none can go.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Asker, Origin, PackageName, Requirement, Word, run_purpose};
use yostel_solver::{Lit, Outcome};
use yostel_versions::{ConstraintText, Version};

use crate::encode::Encoding;
use crate::known::Halt;
use crate::known::{Known, PackageId};
use crate::objective::is_solvable;
use crate::problem::Problem;

/// Needs that no resolution meets together; without any one of them there is one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Collision {
    /// The needs, sorted.
    pub requirements: Vec<Requirement>,
    /// What releases say that makes them collide, in the order in which a reader meets the packages.
    pub facts: Vec<Fact>,
    /// Roles that two of the packages would fill.
    pub roles: Vec<RoleClash>,
    /// Packages that the story asks for on different compatible lines.
    pub lines: Vec<LinesApart>,
    /// What the constraints in the story accept.
    pub reach: Vec<WithinReach>,
    /// Collisions beside this one that share no need with it or with each other: ending one leaves the others.
    pub others: Vec<Collision>,
    /// Whether it was shown that no need and no fact can go. Of a very hard collision that would take too long, and then
    /// some may be beside the point.
    pub minimal: bool,
}

/// Releases of one package that all need the same thing.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Fact {
    /// The package whose releases ask.
    pub asker: PackageName,
    /// Those releases, rising.
    pub versions: Vec<Version>,
    /// The package they need.
    pub package: PackageName,
    /// Which of its versions will do for them.
    pub accept: ConstraintText,
}

/// Which releases a constraint of the story accepts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WithinReach {
    /// The package.
    pub package: PackageName,
    /// The constraint.
    pub accept: ConstraintText,
    /// The releases it accepts that may be chosen, rising.
    pub versions: Vec<Version>,
    /// How many more it accepts that may not be chosen: withdrawn, or published too late.
    pub barred: usize,
    /// How many more it accepts that offer nothing for a platform to be served, and for which none of these does.
    pub unserved: (usize, BTreeSet<String>),
    /// Whether any source has the package.
    pub known: bool,
    /// The one version there is and where it is, of a package that no source tells of.
    pub elsewhere: Option<(Version, Origin)>,
}

/// Two packages that fill one role, which no set may hold both.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct RoleClash {
    /// The role.
    pub role: Word,
    /// One package.
    pub one: PackageName,
    /// The other, later by name.
    pub other: PackageName,
}

/// A package that is asked for on different compatible lines.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LinesApart {
    /// The package.
    pub package: PackageName,
    /// The lines, like `2.x`, rising.
    pub lines: Vec<String>,
    /// The position, from 1, whose change starts a new line of the first.
    pub breaks_at: usize,
}

/// What a switch of an explanation stands for.
enum Switched {
    Need(Requirement),
    Role(RoleClash),
}

/// Collisions beside the first that are looked for.
const MOST_OTHERS: usize = 4;

/// Literals that making an explanation smaller may force: some seconds.
const MOST_FORCED: u64 = 10_000_000;

/// Conflicts that one question of that may cost.
const MOST_CONFLICTS: u64 = 2_000;

/// Finds a collision, and those that remain when its needs are set aside.
///
/// # Errors
/// [`Halt::Missing`]: packages must arrive first; start anew then. Once it is told to stop, it tells what is known by then.
pub(super) fn collision(problem: &Problem, known: &mut Known) -> Result<Collision, Halt> {
    let mut first = one_collision(problem, known)?;
    let mut rest = problem.clone();
    let mut found = first.requirements.clone();
    while first.others.len() < MOST_OTHERS {
        rest.requirements.retain(|requirement| !found.contains(requirement));
        match is_solvable(&rest, known) {
            Ok(false) => {}
            // Those that are known will do.
            Ok(true) | Err(Halt::Stopped) => break,
            Err(Halt::Missing) => return Err(Halt::Missing),
        }
        let other = one_collision(&rest, known)?;
        found.clone_from(&other.requirements);
        first.others.push(other);
    }
    Ok(first)
}

fn one_collision(problem: &Problem, known: &mut Known) -> Result<Collision, Halt> {
    let mut patience = Patience(MOST_FORCED);
    let requirements = colliding_requirements(problem, known, &mut patience)?;
    let facts = colliding_facts(&requirements, problem, known, &mut patience);
    let minimal = patience.0 > 0;
    Ok(Collision { minimal, ..tell(requirements, facts, problem, known) })
}

/// Literals that making an explanation smaller may still force.
struct Patience(u64);

impl Patience {
    /// Asks a question unless patience is at its end, which counts as "not known".
    fn ask<T>(
        &mut self,
        encoding: &mut Encoding,
        ask: impl FnOnce(&mut Encoding) -> Result<T, Halt>,
    ) -> Result<Option<T>, Halt> {
        if self.0 == 0 {
            return Ok(None);
        }
        let before = encoding.solver.stats().propagations;
        encoding.solver.limit_conflicts(Some(MOST_CONFLICTS));
        let answer = ask(encoding);
        self.0 = self.0.saturating_sub(encoding.solver.stats().propagations - before);
        match answer {
            Ok(answer) => Ok(Some(answer)),
            Err(Halt::Stopped) => {
                self.0 = 0;
                Ok(None)
            }
            Err(Halt::Missing) => Err(Halt::Missing),
        }
    }
}

/// Finds needs that collide and of which none can go: as few as can be is what a reader has to hold in mind.
fn colliding_requirements(
    problem: &Problem,
    known: &mut Known,
    patience: &mut Patience,
) -> Result<Vec<Requirement>, Halt> {
    let mut encoding = Encoding::new(known);
    let mut switches: BTreeMap<Lit, Vec<&Requirement>> = BTreeMap::new();
    for requirement in &problem.requirements {
        let need = known.requirement(&requirement.package, &requirement.accept);
        switches.entry(encoding.need(need, problem, known)).or_default().push(requirement);
    }
    let all: Vec<Lit> = switches.keys().copied().collect();
    let kept = minimise(&all, |on| {
        if on.len() == all.len() {
            // This much must be known, whatever it takes, unless nobody waits for it any more: that all of them collide is
            // known already.
            return match encoding.solve_or_blame(on, problem, known) {
                Err(Halt::Stopped) => {
                    patience.0 = 0;
                    Ok(Some(on.to_vec()))
                }
                answer => Ok(answer?.err()),
            };
        }
        let answer = patience.ask(&mut encoding, |encoding| encoding.solve_or_blame(on, problem, known))?;
        Ok(answer.and_then(Result::err))
    })?;
    // Of two needs that say the same of one package, one is enough.
    Ok(switches
        .into_iter()
        .filter(|(on, _)| kept.contains(on))
        .filter_map(|(_, of)| of.first().copied().cloned())
        .collect())
}

/// Finds, among what the releases that were looked at need, facts that make the needs collide and of which none can
/// go. What was looked at is enough: the collision was found with it.
fn colliding_facts(
    requirements: &[Requirement],
    problem: &Problem,
    known: &mut Known,
    patience: &mut Patience,
) -> Vec<Switched> {
    let mut encoding = Encoding::new(known);
    for requirement in requirements {
        let need = known.requirement(&requirement.package, &requirement.accept);
        let need = encoding.need(need, problem, known);
        encoding.solver.add_clause(&[need]);
    }
    let mut switches: BTreeMap<Lit, Switched> = BTreeMap::new();
    let mut fillers: BTreeMap<&Word, Vec<(PackageId, Lit)>> = BTreeMap::new();
    for (id, _) in known.documents() {
        for (at, release, needs) in known.looked_at(id) {
            let Some(asker) = encoding.release(id, at, problem, known) else { continue };
            for role in known.roles_of(id, at).iter().filter(|role| !problem.rules.shared_roles.contains(*role)) {
                let of_role = fillers.entry(role).or_default();
                let fills = match of_role.last() {
                    Some((package, fills)) if *package == id => *fills,
                    _ => {
                        let fills = encoding.helper();
                        of_role.push((id, fills));
                        fills
                    }
                };
                encoding.solver.add_clause(&[!asker, fills]);
            }
            for &need in needs {
                let (package, accept) = known.text_of(need);
                let requirement = Requirement {
                    asker: Asker::Release(known.name(id).clone(), release.version.clone()),
                    package: package.clone(),
                    accept: accept.clone(),
                    purpose: run_purpose(),
                };
                let (on, need) = (encoding.helper(), encoding.need(need, problem, known));
                encoding.solver.add_clause(&[!on, !asker, need]);
                switches.insert(on, Switched::Need(requirement));
            }
        }
    }
    for (role, of_role) in fillers {
        for (at, (one, fills)) in of_role.iter().enumerate() {
            for (other, also) in &of_role[at + 1..] {
                let on = encoding.helper();
                encoding.solver.add_clause(&[!on, !*fills, !*also]);
                let (one, other) = (known.name(*one).clone(), known.name(*other).clone());
                switches.insert(on, Switched::Role(RoleClash { role: role.clone(), one, other }));
            }
        }
    }
    let all: Vec<Lit> = switches.keys().copied().collect();
    let solve = |encoding: &mut Encoding, on: &[Lit]| match encoding.solver.solve(on) {
        Outcome::Unsatisfiable(core) => Ok(Some(core)),
        Outcome::Satisfiable(_) | Outcome::Paused => Ok(None),
        Outcome::Stopped => Err(Halt::Stopped),
    };
    let blamed = |on: &[Lit]| {
        if on.len() == all.len() {
            encoding.solver.limit_conflicts(None);
            return solve(&mut encoding, on).inspect_err(|_| patience.0 = 0);
        }
        Ok(patience.ask(&mut encoding, |encoding| solve(encoding, on))?.flatten())
    };
    let kept = minimise(&all, blamed).unwrap_or_default();
    kept.iter().filter_map(|on| switches.remove(on)).collect()
}

/// Drops, from the last, every candidate without which the rest still cannot hold. `blamed` says which of some
/// candidates cannot hold together, or nothing when they can.
fn minimise(
    candidates: &[Lit],
    mut blamed: impl FnMut(&[Lit]) -> Result<Option<Vec<Lit>>, Halt>,
) -> Result<Vec<Lit>, Halt> {
    let mut kept = blamed(candidates)?.unwrap_or_default();
    kept.sort_unstable();
    let mut at = kept.len();
    while at > 0 {
        at -= 1;
        let dropped = kept[at];
        let trial: Vec<Lit> = kept.iter().copied().filter(|l| *l != dropped).collect();
        if let Some(core) = blamed(&trial)? {
            kept.retain(|l| core.contains(l));
            at = at.min(kept.len());
        }
    }
    Ok(kept)
}

/// Joins needs of several releases into facts and orders them as a reader follows them from the needs.
fn tell(requirements: Vec<Requirement>, kept: Vec<Switched>, problem: &Problem, known: &Known) -> Collision {
    let (mut needs, mut roles) = (Vec::new(), Vec::new());
    for fact in kept {
        match fact {
            Switched::Need(need) => needs.push(need),
            Switched::Role(clash) => roles.push(clash),
        }
    }
    roles.sort();
    let mut joined: BTreeMap<(PackageName, PackageName, ConstraintText), Vec<Version>> = BTreeMap::new();
    for need in needs {
        if let yostel_documents::Asker::Release(asker, version) = need.asker {
            joined.entry((asker, need.package, need.accept)).or_default().push(version);
        }
    }
    let mut rest: Vec<Fact> = joined
        .into_iter()
        .map(|((asker, package, accept), mut versions)| {
            versions.sort();
            Fact { asker, versions, package, accept }
        })
        .collect();
    let mut met: BTreeSet<PackageName> = requirements.iter().map(|requirement| requirement.package.clone()).collect();
    let mut facts: Vec<Fact> = Vec::new();
    while !rest.is_empty() {
        let at = rest.iter().position(|fact| met.contains(&fact.asker)).unwrap_or(0);
        let fact = rest.remove(at);
        met.insert(fact.package.clone());
        facts.push(fact);
    }
    let mut reach: Vec<WithinReach> = Vec::new();
    let said =
        requirements.iter().map(|w| (&w.package, &w.accept)).chain(facts.iter().map(|f| (&f.package, &f.accept)));
    for (package, accept) in said {
        if reach.iter().any(|r| r.package == *package && r.accept == *accept) {
            continue;
        }
        let constraint = known.bind(package, accept);
        let releases = known.document(package).map_or(&[][..], |document| &document.releases);
        let accepted = releases.iter().filter(|r| constraint.as_ref().is_some_and(|c| c.accepts(&r.version)));
        let (unserved, served): (Vec<_>, Vec<_>) =
            accepted.partition(|release| problem.unserved(accept, release).next().is_some());
        let (open, barred): (Vec<_>, Vec<_>) =
            served.into_iter().partition(|release| problem.may_choose(package, release));
        let platforms = unserved.iter().flat_map(|release| problem.unserved(accept, release)).cloned().collect();
        reach.push(WithinReach {
            package: package.clone(),
            accept: accept.clone(),
            versions: open.iter().map(|release| release.version.clone()).collect(),
            barred: barred.len(),
            unserved: (unserved.len(), platforms),
            known: known.document(package).is_some(),
            elsewhere: known.elsewhere(package),
        });
    }
    let lines = lines_apart(&reach, &requirements, &facts, known);
    Collision { requirements, facts, roles, lines, reach, others: Vec::new(), minimal: false }
}

/// Finds packages of which two askers want releases of no line in common.
fn lines_apart(reach: &[WithinReach], requirements: &[Requirement], facts: &[Fact], known: &Known) -> Vec<LinesApart> {
    // What releases of one package need are its author's changes of mind, and rule nothing out.
    let askers = |reach: &WithinReach| -> BTreeSet<&PackageName> {
        let needed = facts.iter().filter(|fact| fact.package == reach.package && fact.accept == reach.accept);
        needed.map(|fact| &fact.asker).collect()
    };
    let mut found: Vec<LinesApart> = Vec::new();
    for (at, one) in reach.iter().enumerate() {
        for other in reach[at + 1..].iter().filter(|other| other.package == one.package) {
            let Some(numbering) = known.document(&one.package).map(|document| &document.numbering) else { continue };
            let (Some(here), Some(there)) = (one.versions.last(), other.versions.last()) else { continue };
            let shares = |a: &Version| other.versions.iter().any(|b| numbering.is_same_line(a, b));
            let is_direct = |reach: &WithinReach| {
                requirements.iter().any(|w| w.package == reach.package && w.accept == reach.accept)
            };
            let by_one = askers(one) == askers(other) && askers(one).len() == 1 && !is_direct(one) && !is_direct(other);
            let told = found.iter().any(|apart| apart.package == one.package);
            if by_one || told || one.versions.iter().any(shares) {
                continue;
            }
            let (lower, upper) = if here < there { (here, there) } else { (there, here) };
            found.push(LinesApart {
                package: one.package.clone(),
                lines: vec![numbering.line_name(lower), numbering.line_name(upper)],
                breaks_at: numbering.line_positions(lower),
            });
        }
    }
    found
}
