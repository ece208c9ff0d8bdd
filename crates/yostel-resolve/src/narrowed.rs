//! What is left of packages that cannot stay as they are.
//!
//! A release is out when nothing is left that meets one of its needs. Where a package is there in any case, and every release
//! left of it needs another package, that one is there too, at a release that at least one of them accepts. Both rules are
//! applied until nothing more goes (arc consistency, AC-3: Mackworth 1977), starting from packages that cannot keep their
//! version: what is kept needs what is kept.

use std::collections::{BTreeMap, VecDeque};
use std::rc::Rc;

use crate::known::{Halt, Known, NeedId, PackageId};
use crate::problem::Problem;

/// Of a package of which more is left, what each release needs is not looked at.
const MOST_LEFT: usize = 64;

/// So many packages at most are asked whether another is there in any case because of them.
const MOST_ASKERS: usize = 200;

/// Packages that are there in any case and cannot keep their version, if they have one, each with the releases that are left,
/// rising. Nothing is left out that some set has; nothing is told when no set is left.
///
/// `open` lists the releases of a package that may be chosen, rising. More arrives later, and more may be told then.
///
/// # Errors
/// Time is up.
pub(crate) fn narrowed(
    problem: &Problem,
    known: &mut Known,
    open: &mut dyn FnMut(PackageId, &mut Known) -> Vec<u32>,
) -> Result<BTreeMap<PackageId, Vec<u32>>, Halt> {
    let mut left = Left { problem, open, by_package: Vec::new(), askers: Vec::new(), changed: VecDeque::new() };
    let requirements = problem.requirements.iter();
    let needs: Vec<NeedId> = requirements.map(|one| known.requirement(&one.package, &one.accept)).collect();
    left.ask_from_kept(&needs, known);
    for need in needs {
        let (package, accepted) = known.accepted(need);
        let mut places = Places::default();
        places.add(accepted);
        left.is_there(package, &places, known);
    }
    while let Some(package) = left.changed.pop_front() {
        if known.is_stopped() {
            return Err(Halt::Stopped);
        }
        if !left.follow(package, known) {
            return Ok(BTreeMap::new());
        }
    }
    let told = left.by_package.into_iter().flatten().filter(|one| one.is_moved && one.is_there);
    Ok(told.map(|one| (one.package, one.releases)).collect())
}

/// What is left of a package.
#[derive(Debug)]
struct Narrowed {
    package: PackageId,
    /// Those that it may be at, where it is there.
    releases: Vec<u32>,
    /// The version to keep, by its place.
    kept: Option<u32>,
    /// Whether it cannot keep its version.
    is_moved: bool,
    /// Whether it is known to be there in any case.
    is_there: bool,
    /// Whether less is left, or it turned out to be there, since that was followed.
    has_news: bool,
    /// Whether it is to be looked at.
    is_waiting: bool,
    /// Packages that all of the releases need, with what one of them accepts, once that was looked at; fewer releases may have
    /// more in common.
    needs: Option<Rc<[Needed]>>,
}

/// A package that is needed, and the releases of it that are accepted.
type Needed = (PackageId, Places);

/// Places in a document, a bit each.
#[derive(Debug, Clone, Default)]
struct Places(Vec<u64>);

impl Places {
    fn add(&mut self, places: &[u32]) {
        if let Some(last) = places.last() {
            self.0.resize(self.0.len().max(*last as usize / 64 + 1), 0);
        }
        places.iter().for_each(|at| self.0[*at as usize / 64] |= 1 << (at % 64));
    }

    fn has(&self, at: u32) -> bool {
        self.0.get(at as usize / 64).is_some_and(|places| places & 1 << (at % 64) != 0)
    }
}

struct Left<'p> {
    problem: &'p Problem,
    open: &'p mut dyn FnMut(PackageId, &mut Known) -> Vec<u32>,
    /// By package, of those that anything was asked about.
    by_package: Vec<Option<Narrowed>>,
    /// By package: those of which some release that was looked at needs it, rising.
    askers: Vec<Vec<PackageId>>,
    /// Those that wait to be looked at.
    changed: VecDeque<PackageId>,
}

impl Left<'_> {
    /// Finds out who needs whom among the versions to keep.
    fn ask_from_kept(&mut self, needs: &[NeedId], known: &mut Known) {
        let mut open: Vec<PackageId> = needs.iter().map(|need| known.accepted(*need).0).collect();
        let mut seen: Vec<bool> = Vec::new();
        while let Some(package) = open.pop() {
            if seen.len() <= package.index() {
                seen.resize(package.index() + 1, false);
            }
            if !self.is_single(package, known) || std::mem::replace(&mut seen[package.index()], true) {
                continue;
            }
            let Some(kept) = self.of(package, known).kept else { continue };
            for need in known.look_at(package, kept).to_vec() {
                let needed = known.accepted(need).0;
                self.note_asker(package, needed);
                open.push(needed);
            }
        }
    }

    /// Tells whether a package is here, and at one version at most: of one of several lines, another need may be met by another
    /// release.
    fn is_single(&self, package: PackageId, known: &Known) -> bool {
        known.has_arrived(package) && !self.problem.rules.coexist.contains(known.name(package))
    }

    fn of(&mut self, package: PackageId, known: &mut Known) -> &mut Narrowed {
        let place = package.index();
        if self.by_package.len() <= place {
            self.by_package.resize_with(place + 1, || None);
        }
        if self.by_package[place].is_none() {
            let releases = (self.open)(package, known);
            let stays = self.problem.keep.get(known.name(package));
            let all = known.document_of(package).map_or(&[][..], |document| &document.releases);
            let is_kept = |at: &u32| stays.is_some_and(|stays| stays.contains(&all[*at as usize].version));
            let kept = releases.iter().copied().find(is_kept);
            let (is_moved, needs) = (kept.is_none(), None);
            let (is_there, has_news, is_waiting) = (false, false, false);
            let made = Narrowed { package, releases, kept, is_moved, is_there, has_news, is_waiting, needs };
            self.by_package[place] = Some(made);
        }
        self.by_package[place].as_mut().expect("it was just made")
    }

    /// Notes that a release of a package needs another.
    fn note_asker(&mut self, package: PackageId, needed: PackageId) {
        if self.askers.len() <= needed.index() {
            self.askers.resize(needed.index() + 1, Vec::new());
        }
        let askers = &mut self.askers[needed.index()];
        if let Err(at) = askers.binary_search(&package) {
            askers.insert(at, package);
        }
    }

    fn askers_of(&self, package: PackageId) -> Vec<PackageId> {
        self.askers.get(package.index()).cloned().unwrap_or_default()
    }

    /// Takes in that a package is there in any case, at one of these releases.
    fn is_there(&mut self, package: PackageId, accepted: &Places, known: &mut Known) {
        if !self.is_single(package, known) {
            return;
        }
        let one = self.of(package, known);
        let before = one.releases.len();
        one.releases.retain(|at| accepted.has(*at));
        let is_news = !std::mem::replace(&mut one.is_there, true) || one.releases.len() < before;
        self.note(package, is_news);
    }

    /// Notes whether a package can keep its version, and has it followed when there is news of one that cannot.
    fn note(&mut self, package: PackageId, is_news: bool) {
        let Some(Some(one)) = self.by_package.get_mut(package.index()) else { return };
        one.is_moved |= one.kept.is_none_or(|kept| one.releases.binary_search(&kept).is_err());
        if is_news && one.is_moved {
            one.has_news = true;
            self.wait(package);
        }
    }

    fn wait(&mut self, package: PackageId) {
        let Some(Some(one)) = self.by_package.get_mut(package.index()) else { return };
        if !std::mem::replace(&mut one.is_waiting, true) {
            self.changed.push_back(package);
        }
    }

    /// Follows what is left of a package, and what that means for others; tells whether any set is left.
    fn follow(&mut self, package: PackageId, known: &mut Known) -> bool {
        self.sift(package, known);
        let one = self.of(package, known);
        one.is_waiting = false;
        if !std::mem::take(&mut one.has_news) {
            return true;
        }
        let there = self.must_be_there(package, known);
        if there && self.of(package, known).releases.is_empty() {
            return false;
        }
        // What needs it is sifted when its turn comes, once for all that changed until then.
        for asker in self.askers_of(package) {
            self.of(asker, known);
            self.wait(asker);
        }
        if there && self.of(package, known).releases.len() <= MOST_LEFT {
            self.of(package, known).needs = None;
            for (needed, accepted) in self.needs_of(package, known).iter() {
                self.is_there(*needed, accepted, known);
            }
        }
        true
    }

    /// Takes out the releases of a package that need what is not left; all of them, once the version to keep is out.
    fn sift(&mut self, package: PackageId, known: &mut Known) {
        let one = self.of(package, known);
        let kept = one.kept.filter(|_| !one.is_moved);
        if kept.is_some_and(|kept| self.can_be(package, kept, known)) {
            return;
        }
        let mut releases = std::mem::take(&mut self.of(package, known).releases);
        let before = releases.len();
        if before <= MOST_LEFT {
            releases.retain(|at| self.can_be(package, *at, known));
        } else {
            releases.retain(|at| Some(*at) != kept);
        }
        let one = self.of(package, known);
        one.has_news |= releases.len() < before;
        one.releases = releases;
        one.is_moved = true;
    }

    /// Tells whether something is left for each need of a release.
    fn can_be(&mut self, package: PackageId, at: u32, known: &mut Known) -> bool {
        let needs: Vec<NeedId> = known.look_at(package, at).to_vec();
        // About as much work as forcing a literal.
        known.count_forced(1);
        needs.into_iter().all(|need| {
            let (needed, accepted) = known.accepted(need);
            let left = self.by_package.get(needed.index()).and_then(Option::as_ref);
            let can_be = match left {
                // What is left of itself is being found out.
                _ if needed == package => accepted.binary_search(&at).is_ok(),
                Some(left) => have_common(accepted, &left.releases),
                None => true,
            };
            self.note_asker(package, needed);
            can_be
        })
    }

    /// Tells whether a package is known to be there in any case: since all that is left of one that is needs it, or needs what
    /// needs it.
    fn must_be_there(&mut self, package: PackageId, known: &mut Known) -> bool {
        let mut needs: BTreeMap<PackageId, PackageId> = BTreeMap::new();
        let mut open = vec![package];
        let mut asked = 0;
        while let Some(next) = open.pop() {
            if self.of(next, known).is_there {
                // So is all that it needs, down to the one that was asked about.
                let mut there = next;
                while let Some(&needed) = needs.get(&there) {
                    self.of(needed, known).is_there = true;
                    self.note(needed, needed != package);
                    there = needed;
                }
                return true;
            }
            for asker in self.askers_of(next) {
                if asker == package || needs.contains_key(&asker) {
                    continue;
                }
                asked += 1;
                if asked > MOST_ASKERS {
                    return false;
                }
                if self.of(asker, known).releases.len() <= MOST_LEFT
                    && self.needs_of(asker, known).iter().any(|(needed, _)| *needed == next)
                {
                    needs.insert(asker, next);
                    open.push(asker);
                }
            }
        }
        false
    }

    /// Returns the packages that all releases that are left need, each with what one of them accepts, rising.
    fn needs_of(&mut self, package: PackageId, known: &mut Known) -> Rc<[Needed]> {
        let one = self.of(package, known);
        if let Some(needs) = &one.needs {
            return needs.clone();
        }
        let releases = one.releases.clone();
        let needs: Rc<[Needed]> = needed_by_all(package, &releases, known).into();
        self.of(package, known).needs = Some(needs.clone());
        needs
    }
}

/// Tells whether two rising lists have something in common.
fn have_common(one: &[u32], other: &[u32]) -> bool {
    let (short, long) = if one.len() < other.len() { (one, other) } else { (other, one) };
    let apart = long.last() < short.first() || short.last() < long.first();
    !apart && short.iter().any(|at| long.binary_search(at).is_ok())
}

/// Lists the packages that all of these releases need, each with what one of them accepts.
fn needed_by_all(package: PackageId, releases: &[u32], known: &mut Known) -> Vec<Needed> {
    let mut needed: BTreeMap<PackageId, (usize, Places)> = BTreeMap::new();
    for (seen, at) in releases.iter().enumerate() {
        for need in known.look_at(package, *at).to_vec() {
            let (needed_package, accepted) = known.accepted(need);
            let (by, places) = needed.entry(needed_package).or_default();
            // What only some of them need is not followed; where one needs a package twice, the first time counts.
            if *by == seen {
                *by += 1;
                places.add(accepted);
            }
        }
    }
    let by_all = needed.into_iter().filter(|(_, (by, _))| *by == releases.len());
    by_all.map(|(package, (_, places))| (package, places)).collect()
}
