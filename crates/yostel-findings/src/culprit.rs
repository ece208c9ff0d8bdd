//! Which of many moves make a check fail: a smallest set of them, by few runs.
//!
//! First by halves: QuickXplain (Junker 2004) asks about ever smaller parts beside what is known to be needed, which takes as
//! many runs as the logarithm when one move is to blame. It takes for granted that more moves never make a check pass again.
//! Where what it found does not bear that out, delta debugging goes on (`ddmin`, Zeller and Hildebrandt 2002), which takes
//! nothing for granted and leaves a set of which no single move can be left out.

use std::collections::{BTreeMap, BTreeSet, VecDeque};

/// What a check said of a set.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Verdict {
    /// It passes.
    Passes,
    /// It fails.
    Fails,
    /// Nobody can tell: it did not come to an end, or says now this and now that.
    Unknown,
}

/// What a search came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Blame {
    /// With these moves alone the check fails, and without any one of them it does not.
    Moves(BTreeSet<usize>),
    /// It fails without any move.
    FailsBefore,
    /// It passes with all of them.
    PassesAfter,
    /// Of these moves, nobody can tell which; each set in between did not come to a verdict.
    CannotTell(BTreeSet<usize>),
}

/// Finds a smallest set of the moves `0..count` with which a check fails. The same set is never asked about twice.
///
/// # Errors
/// Whatever asking returns.
pub fn blame<E>(count: usize, ask: impl FnMut(&BTreeSet<usize>) -> Result<Verdict, E>) -> Result<Blame, E> {
    let all: Vec<usize> = (0..count).collect();
    let everything: BTreeSet<usize> = all.iter().copied().collect();
    let mut search = Search { ask, known: Vec::new(), everything: everything.clone(), is_pointless: false };
    let mut found = match count {
        0 => BTreeSet::new(),
        _ => search.halve(&BTreeSet::new(), false, &all)?,
    };
    if search.is_pointless || search.verdict(&found)? != Verdict::Fails {
        match search.verdict(&everything)? {
            Verdict::Passes => return Ok(Blame::PassesAfter),
            Verdict::Unknown => return Ok(Blame::CannotTell(everything)),
            Verdict::Fails => found = search.minimise(&everything)?,
        }
    }
    if found.len() > 1 {
        found = search.minimise(&found)?;
    }
    // Where it passed with some, it passed before.
    if !search.known.iter().any(|(_, verdict)| *verdict == Verdict::Passes) {
        match search.verdict(&BTreeSet::new())? {
            Verdict::Fails => return Ok(Blame::FailsBefore),
            Verdict::Unknown => return Ok(Blame::CannotTell(found)),
            Verdict::Passes => {}
        }
    }
    for one in found.iter().filter(|_| found.len() > 1) {
        let without = found.iter().copied().filter(|other| other != one).collect();
        if search.known(&without) == Some(Verdict::Unknown) {
            return Ok(Blame::CannotTell(found.clone()));
        }
    }
    Ok(Blame::Moves(found))
}

/// What checks said, by set.
pub type Verdicts = BTreeMap<BTreeSet<usize>, Verdict>;

/// What a search does next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Next {
    /// It asks about these sets. The first decides how it goes on; those after it are what it would ask about then, whichever
    /// way those before come out, so that they can be tried at the same time.
    Ask(Vec<BTreeSet<usize>>),
    /// Nothing: this is what it came to.
    End(Blame),
}

/// Says what [`blame`] does next, going by what is known, with at most so many sets to ask about.
pub fn next(count: usize, known: &Verdicts, most: usize) -> Next {
    let asked = |known: &Verdicts| blame(count, |set| known.get(set).copied().ok_or_else(|| set.clone()));
    let mut wanted = match asked(known) {
        Ok(blame) => return Next::End(blame),
        Err(set) => vec![set],
    };
    // What may come out is tried breadth first; that nobody can tell is the rare case.
    let mut open = VecDeque::from([(known.clone(), wanted[0].clone())]);
    while let Some((known, set)) = open.pop_front().filter(|_| wanted.len() < most) {
        for verdict in [Verdict::Fails, Verdict::Passes] {
            let mut then = known.clone();
            then.insert(set.clone(), verdict);
            let Err(next) = asked(&then) else { continue };
            if wanted.len() < most && !wanted.contains(&next) {
                wanted.push(next.clone());
            }
            open.push_back((then, next));
        }
    }
    Next::Ask(wanted)
}

struct Search<A> {
    ask: A,
    known: Vec<(BTreeSet<usize>, Verdict)>,
    everything: BTreeSet<usize>,
    /// Whether it does not even fail with everything.
    is_pointless: bool,
}

impl<A> Search<A> {
    fn known(&self, set: &BTreeSet<usize>) -> Option<Verdict> {
        self.known.iter().find(|(known, _)| known == set).map(|(_, verdict)| *verdict)
    }

    fn verdict<E>(&mut self, set: &BTreeSet<usize>) -> Result<Verdict, E>
    where
        A: FnMut(&BTreeSet<usize>) -> Result<Verdict, E>,
    {
        if let Some(verdict) = self.known(set) {
            return Ok(verdict);
        }
        let verdict = (self.ask)(set)?;
        self.known.push((set.clone(), verdict));
        Ok(verdict)
    }

    /// Finds which of the candidates it takes, beside these, to make the check fail. `has_grown` tells whether something came
    /// to those beside since it was last asked about.
    fn halve<E>(
        &mut self,
        beside: &BTreeSet<usize>,
        has_grown: bool,
        candidates: &[usize],
    ) -> Result<BTreeSet<usize>, E>
    where
        A: FnMut(&BTreeSet<usize>) -> Result<Verdict, E>,
    {
        if self.is_pointless || has_grown && self.fails_as_less_does(beside)? {
            return Ok(BTreeSet::new());
        }
        if let [one] = candidates {
            let alone = [*one].into();
            // As a rule one is enough; then nothing more has to be asked. Else it is high time to see whether there is
            // anything to find at all.
            if !self.is_pointless && !self.fails_as_less_does(&alone)? {
                let everything = self.everything.clone();
                self.is_pointless = self.verdict(&everything)? != Verdict::Fails;
            }
            return Ok(alone);
        }
        let (first, second) = candidates.split_at(candidates.len() / 2);
        let with_first: BTreeSet<usize> = beside.iter().chain(first).copied().collect();
        let of_second = self.halve(&with_first, true, second)?;
        let with_second: BTreeSet<usize> = beside.union(&of_second).copied().collect();
        let of_first = self.halve(&with_second, !of_second.is_empty(), first)?;
        Ok(&of_first | &of_second)
    }

    /// Tells whether the check fails with a set, taking it for granted that it does where it does with less, and that it does not
    /// where it passes with more.
    fn fails_as_less_does<E>(&mut self, set: &BTreeSet<usize>) -> Result<bool, E>
    where
        A: FnMut(&BTreeSet<usize>) -> Result<Verdict, E>,
    {
        if self.known.iter().any(|(known, verdict)| *verdict == Verdict::Fails && known.is_subset(set)) {
            return Ok(true);
        }
        if self.known.iter().any(|(known, verdict)| *verdict == Verdict::Passes && set.is_subset(known)) {
            return Ok(false);
        }
        Ok(self.verdict(set)? == Verdict::Fails)
    }

    /// Makes a set with which the check fails smaller, until no single move can be left out.
    fn minimise<E>(&mut self, failing: &BTreeSet<usize>) -> Result<BTreeSet<usize>, E>
    where
        A: FnMut(&BTreeSet<usize>) -> Result<Verdict, E>,
    {
        let mut failing: Vec<usize> = failing.iter().copied().collect();
        let mut parts = 2.min(failing.len());
        while failing.len() > 1 {
            let size = failing.len().div_ceil(parts);
            let chunks: Vec<BTreeSet<usize>> =
                failing.chunks(size).map(|chunk| chunk.iter().copied().collect()).collect();
            let whole: BTreeSet<usize> = failing.iter().copied().collect();
            let rests = chunks.iter().map(|chunk| &whole - chunk).filter(|_| chunks.len() > 2);
            let mut smaller = None;
            for set in chunks.iter().cloned().chain(rests.collect::<Vec<_>>()) {
                if self.verdict(&set)? == Verdict::Fails {
                    smaller = Some(set);
                    break;
                }
            }
            match smaller {
                Some(set) => {
                    parts = if set.len() <= size { 2 } else { (parts - 1).max(2) }.min(set.len().max(1));
                    failing = set.into_iter().collect();
                }
                None if parts >= failing.len() => break,
                None => parts = (parts * 2).min(failing.len()),
            }
        }
        Ok(failing.into_iter().collect())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn runs(count: usize, check: impl Fn(&BTreeSet<usize>) -> Verdict) -> (Blame, usize) {
        let mut runs = 0;
        let blamed = blame(count, |set| {
            runs += 1;
            Ok::<_, ()>(check(set))
        });
        (blamed.unwrap(), runs)
    }

    fn needing(culprits: &[usize]) -> impl Fn(&BTreeSet<usize>) -> Verdict {
        let culprits: BTreeSet<usize> = culprits.iter().copied().collect();
        move |set| if culprits.is_subset(set) { Verdict::Fails } else { Verdict::Passes }
    }

    #[test]
    fn one_of_many_takes_the_logarithm() {
        for count in [1, 2, 3, 7, 25, 64, 1000] {
            for culprit in [0, count / 3, count / 2, count - 1] {
                let (found, runs) = runs(count, needing(&[culprit]));
                assert_eq!(found, Blame::Moves([culprit].into()));
                let most = 2.0 * (count as f64).log2() + 4.0;
                assert!(runs as f64 <= most, "{runs} runs for {culprit} of {count}");
            }
        }
        let worst = (0..25).map(|culprit| runs(25, needing(&[culprit])).1).max();
        assert_eq!(worst, Some(6));
    }

    #[test]
    fn where_nothing_is_to_blame_that_is_said() {
        assert_eq!(runs(9, |_| Verdict::Fails).0, Blame::FailsBefore);
        let (blamed, runs_until_then) = runs(1000, |_| Verdict::Passes);
        assert_eq!(blamed, Blame::PassesAfter);
        assert!(runs_until_then <= 12, "{runs_until_then}");
        assert_eq!(runs(0, |_| Verdict::Passes).0, Blame::PassesAfter);
        assert_eq!(runs(0, |_| Verdict::Fails).0, Blame::FailsBefore);
        assert!(matches!(runs(9, |_| Verdict::Unknown).0, Blame::CannotTell(_)));
        // Of two that only came together to a verdict, nobody can tell which it is.
        let together = |set: &BTreeSet<usize>| match (set.contains(&3), set.contains(&4)) {
            (true, true) => Verdict::Fails,
            (false, false) => Verdict::Passes,
            _ => Verdict::Unknown,
        };
        assert_eq!(runs(9, together).0, Blame::CannotTell([3, 4].into()));
    }

    proptest! {
        #[test]
        fn a_smallest_set_is_found_whatever_interacts(
            count in 1usize..40,
            culprits in prop::collection::vec(0usize..40, 1..4),
            healer in prop::option::of(0usize..40),
        ) {
            let culprits: Vec<usize> = culprits.into_iter().map(|one| one % count).collect();
            let healer = healer.map(|one| one % count).filter(|one| !culprits.contains(one));
            // With one move that makes it pass again, more is not worse any more.
            let check = |set: &BTreeSet<usize>| match healer {
                Some(healer) if set.contains(&healer) && set.len() < count => Verdict::Passes,
                _ => needing(&culprits)(set),
            };
            let (found, _) = runs(count, check);
            let Blame::Moves(found) = found else { return Err(TestCaseError::fail(format!("{found:?}"))) };
            prop_assert_eq!(check(&found), Verdict::Fails);
            for one in &found {
                let without: BTreeSet<usize> = found.iter().copied().filter(|other| other != one).collect();
                prop_assert_ne!(check(&without), Verdict::Fails);
            }
        }

        #[test]
        fn several_at_once_come_to_the_same_in_fewer_rounds(
            count in 1usize..40,
            culprits in prop::collection::vec(0usize..40, 1..3),
            at_once in 1usize..8,
        ) {
            let culprits: Vec<usize> = culprits.into_iter().map(|one| one % count).collect();
            let check = needing(&culprits);
            let (alone, runs) = runs(count, &check);
            let (mut known, mut rounds) = (Verdicts::new(), 0);
            let found = loop {
                match next(count, &known, at_once) {
                    Next::End(blame) => break blame,
                    Next::Ask(sets) => {
                        prop_assert!(sets.len() <= at_once && !sets.is_empty());
                        prop_assert!(sets.iter().all(|set| !known.contains_key(set)));
                        known.extend(sets.into_iter().map(|set| (set.clone(), check(&set))));
                        rounds += 1;
                    }
                }
            };
            prop_assert_eq!(found, alone);
            prop_assert!(rounds <= runs, "{} and {}", rounds, runs);
            // Three at once know two steps of a search by halves in each round.
            if at_once >= 3 && culprits.len() == 1 && runs > 4 {
                prop_assert!(rounds <= runs / 2 + 2, "{} and {}", rounds, runs);
            }
        }

        #[test]
        fn two_that_only_fail_together_take_few_runs(a in 0usize..25, b in 0usize..25) {
            let (found, runs) = runs(25, needing(&[a, b]));
            prop_assert_eq!(found, Blame::Moves([a, b].into()));
            prop_assert!(runs <= 20, "{}", runs);
        }
    }
}
