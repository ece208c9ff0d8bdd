//! What ends a collision, of all that may be edited, against trying every edit.

use std::collections::BTreeSet;

use proptest::prelude::*;
use yostel_documents::{PackageName, Requirement, Word};
use yostel_resolve::{
    Drive, EditRules, EditSet, Ended, Extent, MinimumAge, Problem, RequirementEdit, ResolveError, Resolver, Settling,
    settle,
};
use yostel_testkit::any::{any_coexist, any_overrides, any_world};
use yostel_testkit::{World, brute_force};
use yostel_versions::ConstraintText;

struct Driver<'w>(&'w World);

impl Drive for Driver<'_> {
    type Error = ResolveError;

    fn drive(&mut self, mut resolver: Resolver) -> Result<Ended<ResolveError>, ResolveError> {
        Ok(match self.0.drive(&mut resolver, |answers| answers) {
            Ok(outcome) => Ended::Well(outcome, Box::new(resolver)),
            Err(error) => Ended::Badly(error),
        })
    }

    fn edit_sets(&mut self, resolver: &mut Resolver, rules: &EditRules) -> Result<Vec<EditSet>, ResolveError> {
        Ok(resolver.edit_sets(rules))
    }
}

/// One edit, as anybody might make it.
#[derive(Debug, Clone)]
enum Try {
    AnyRelease(usize),
    AnyVersion(usize),
    Drop(usize),
    /// With pre-releases or without.
    AgreeOnAny(PackageName, bool),
    SwapForAny(PackageName, bool),
    Unswap(PackageName),
    Unforce(PackageName),
    Admit(PackageName, String, bool),
    Coexist(PackageName),
    Share(Word),
    Swap(PackageName, PackageName),
    OnlyOn(usize, ConstraintText),
    Without(String),
}

impl Try {
    fn need(&self) -> Option<usize> {
        match self {
            Self::AnyRelease(i) | Self::AnyVersion(i) | Self::Drop(i) | Self::OnlyOn(i, _) => Some(*i),
            _ => None,
        }
    }

    fn is_of_need(&self) -> bool {
        !matches!(self, Self::OnlyOn(..)) && self.need().is_some()
    }

    fn is_last_resort(&self) -> bool {
        match self {
            Self::Swap(..) | Self::OnlyOn(..) | Self::Without(_) => true,
            Self::Admit(.., is_withdrawn) => *is_withdrawn,
            _ => false,
        }
    }

    /// What no two edits of a set are both about.
    fn about(&self) -> String {
        match self {
            Self::AgreeOnAny(package, _) => format!("agree {package}"),
            Self::SwapForAny(package, _) | Self::Unswap(package) | Self::Swap(package, _) => format!("swap {package}"),
            Self::Admit(package, ..) => format!("admit {package}"),
            other => match other.need() {
                Some(i) => format!("need {i}"),
                None => format!("{other:?}"),
            },
        }
    }
}

/// Tells whether the project would get one release for several needs if it might have several: those are edited together.
fn is_joined(problem: &Problem, package: &PackageName) -> bool {
    let bound = |need: &&Requirement| problem.rules.overrides.bound(need).package == *package;
    problem.requirements.iter().filter(bound).count() > 1
}

fn every_edit(world: &World, problem: &Problem) -> Vec<Try> {
    let mut all = Vec::new();
    let rules = &problem.rules;
    for (i, requirement) in problem.requirements.iter().enumerate() {
        all.extend([Try::AnyRelease(i), Try::AnyVersion(i), Try::Drop(i)]);
        let counts: Vec<&String> = rules.platforms.iter().filter(|p| requirement.accept.covers(p)).collect();
        for without in counts.iter().filter(|_| counts.len() > 1) {
            let mut patterns = requirement.accept.patterns();
            patterns.push(format!("!{without}"));
            let accept = requirement.accept.everywhere().only_on(patterns.iter().map(String::as_str)).unwrap();
            all.push(Try::OnlyOn(i, accept));
        }
    }
    if rules.platforms.len() > 1 {
        all.extend(rules.platforms.iter().cloned().map(Try::Without));
    }
    for package in rules.overrides.agreed.keys() {
        all.extend([false, true].map(|pre_releases| Try::AgreeOnAny(package.clone(), pre_releases)));
    }
    all.extend(rules.overrides.forced.keys().cloned().map(Try::Unforce));
    for package in rules.overrides.swapped.keys() {
        all.extend([false, true].map(|pre_releases| Try::SwapForAny(package.clone(), pre_releases)));
        all.push(Try::Unswap(package.clone()));
    }
    let fills = |name: &PackageName, role: &Word| {
        world.documents[name].releases.iter().any(|release| release.roles().contains(role))
    };
    for (name, document) in &world.documents {
        // Of one line, there can be one release anyhow.
        let lines: BTreeSet<String> =
            document.releases.iter().map(|release| document.numbering.line_name(&release.version)).collect();
        let may = !rules.coexist.contains(name) && !is_joined(problem, name) && lines.len() > 1;
        all.extend(may.then(|| Try::Coexist(name.clone())));
        for release in document.releases.iter() {
            if problem.bar(name, release).is_some() {
                let version = release.version.to_string();
                all.push(Try::Admit(name.clone(), version, release.withdrawn().is_some()));
            }
        }
    }
    // Nobody knows of packages that nothing leads to.
    let mut resolver = Resolver::with_edits(problem.clone());
    world.drive(&mut resolver, |answers| answers).unwrap();
    let known: BTreeSet<&PackageName> = resolver.documents().map(|document| &document.name).collect();
    for role in ["one", "other"].map(|role| Word::parse(role).unwrap()) {
        all.push(Try::Share(role.clone()));
        let fillers: Vec<&PackageName> = known.iter().copied().filter(|name| fills(name, &role)).collect();
        for (one, by) in fillers.iter().flat_map(|one| fillers.iter().map(move |by| (*one, *by))) {
            let free = |name: &PackageName| {
                !rules.overrides.swapped.contains_key(name) && !rules.overrides.forced.contains_key(name)
            };
            let end = rules.overrides.bind(by, &ConstraintText::anything()).map_or(by.clone(), |(end, _)| end);
            // Where it may be there several times, needs of it are joined, and edited together.
            if one != by && free(one) && end != *one && !rules.coexist.contains(&end) {
                all.push(Try::Swap(one.clone(), by.clone()));
            }
        }
    }
    all
}

fn with(problem: &Problem, edits: &[&Try]) -> Option<Problem> {
    let any = ConstraintText::anything();
    // The one pre-release that worlds have.
    let any_version = ConstraintText::parse("* || =2.0.0-rc.1").unwrap();
    let of = |pre_releases: bool| if pre_releases { &any_version } else { &any };
    let mut edited = problem.clone();
    let mut dropped = BTreeSet::new();
    for edit in edits {
        let rules = &mut edited.rules;
        match edit {
            Try::AnyRelease(i) => edited.requirements[*i].accept = any.where_counts(&problem.requirements[*i].accept),
            Try::AnyVersion(i) => {
                edited.requirements[*i].accept = any_version.where_counts(&problem.requirements[*i].accept);
            }
            Try::Drop(i) => drop(dropped.insert(*i)),
            Try::AgreeOnAny(package, pre_releases) => {
                let accept = of(*pre_releases);
                let was = rules.overrides.agreed.insert(package.clone(), accept.clone()).unwrap();
                for one in edited.requirements.iter_mut().filter(|one| one.package == *package) {
                    if one.accept.everywhere() == was {
                        one.accept = accept.where_counts(&one.accept);
                    }
                }
            }
            Try::SwapForAny(package, pre_releases) => {
                rules.overrides.swapped.get_mut(package).unwrap().1 = Some(of(*pre_releases).clone())
            }
            Try::Unswap(package) => drop(rules.overrides.swapped.remove(package)),
            Try::Unforce(package) => drop(rules.overrides.forced.remove(package)),
            Try::Admit(package, version, _) => drop(rules.admitted.insert(package.clone(), version.clone())),
            Try::Coexist(package) => drop(rules.coexist.insert(package.clone())),
            Try::Share(role) => drop(rules.shared_roles.insert(role.clone())),
            Try::Swap(package, by) => {
                drop(rules.overrides.swapped.insert(package.clone(), (by.clone(), Some(any.clone()))))
            }
            Try::OnlyOn(i, accept) => edited.requirements[*i].accept = accept.clone(),
            Try::Without(platform) => drop(rules.platforms.remove(platform)),
        }
    }
    let platforms = &edited.rules.platforms;
    let counts = |edit: &&Try| match edit {
        Try::OnlyOn(_, accept) => platforms.iter().any(|platform| accept.covers(platform)),
        _ => true,
    };
    if !edits.iter().all(counts) || edited.rules.overrides.leads_back() {
        return None;
    }
    let kept = edited.requirements.into_iter().enumerate().filter(|(i, _)| !dropped.contains(i));
    edited.requirements = kept.map(|(_, requirement)| requirement).collect();
    Some(edited)
}

/// Needs dropped, last resorts, edits.
type Rank = (usize, usize, usize);

fn rank_of(edits: &[&Try], problem: &Problem) -> Rank {
    let drops = edits.iter().filter(|edit| matches!(edit, Try::Drop(_))).count();
    let end = |package: &PackageName| {
        let bound = problem.rules.overrides.bind(package, &ConstraintText::anything());
        bound.map_or(package.clone(), |(package, _)| package)
    };
    let pre_release_of = |edit: &&Try| match edit {
        Try::AnyVersion(i) => Some(end(&problem.requirements[*i].package)),
        Try::AgreeOnAny(package, true) | Try::SwapForAny(package, true) => Some(end(package)),
        _ => None,
    };
    let pre_releases: BTreeSet<PackageName> = edits.iter().filter_map(pre_release_of).collect();
    (drops, pre_releases.len() + edits.iter().filter(|edit| edit.is_last_resort()).count(), edits.len())
}

/// Lists the sets of at most so many edits, each about something else.
fn sets_of(edits: &[Try], most: usize) -> Vec<Vec<&Try>> {
    let mut all: Vec<Vec<&Try>> = vec![Vec::new()];
    for edit in edits {
        let more: Vec<Vec<&Try>> = all
            .iter()
            .filter(|set| set.len() < most && set.iter().all(|other| other.about() != edit.about()))
            .map(|set| set.iter().copied().chain([edit]).collect())
            .collect();
        all.extend(more);
    }
    all.retain(|set| !set.is_empty());
    all
}

/// The best rank there is by docs/resolution.md §5, by trying.
fn best_rank(world: &World, problem: &Problem) -> Option<Rank> {
    let edits = every_edit(world, problem);
    let solves = |set: &[&Try]| with(problem, set).is_some_and(|edited| brute_force(world, &edited).is_some());
    let of_needs: Vec<Try> = edits.iter().filter(|edit| edit.is_of_need()).cloned().collect();
    let mut needs = sets_of(&of_needs, of_needs.len());
    needs.sort_by_key(|set| set.len());
    let fewest = needs.iter().find(|set| solves(set)).map(|set| set.len());
    let most = fewest.map_or(2, |fewest| fewest.max(2));
    let mut all: Vec<Vec<&Try>> =
        sets_of(&edits, most).into_iter().filter(|set| set.iter().any(|edit| !edit.is_of_need())).collect();
    all.extend(needs.iter().filter(|set| fewest.is_some_and(|fewest| set.len() <= fewest + 3)).cloned());
    all.sort_by_key(|set| rank_of(set, problem));
    all.iter().find(|set| solves(set)).map(|set| rank_of(set, problem))
}

fn rank_of_settling(settling: &Settling) -> Rank {
    (settling.drops(), settling.last_resorts(), settling.len())
}

/// Makes the edits that were found to the problem.
fn settled(problem: &Problem, settling: &Settling) -> Problem {
    let mut edited = problem.clone();
    settling.rules.iter().for_each(|edit| edit.apply(&mut edited));
    for edit in &settling.needs {
        let need = edit.requirement();
        let is = |one: &Requirement| (&one.package, &one.purpose) == (&need.package, &need.purpose);
        match edit {
            RequirementEdit::Change { accept, .. } => {
                edited.requirements.iter_mut().filter(|one| is(one)).for_each(|one| one.accept = accept.clone());
            }
            RequirementEdit::Drop { .. } => edited.requirements.retain(|one| !is(one)),
        }
    }
    edited
}

#[allow(clippy::disallowed_methods, reason = "how often is for whoever runs it to say")]
fn cases() -> u32 {
    std::env::var("PROPTEST_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(150)
}

proptest! {
    #![proptest_config(ProptestConfig {
        cases: cases(),
        max_global_rejects: 100_000,
        ..ProptestConfig::default()
    })]

    #[test]
    fn the_best_set_of_edits_is_the_best_of_trying_every_edit(
        text in any_world(),
        overrides in any_overrides(),
        coexist in any_coexist(),
        serve in any::<bool>(),
        aged in any::<bool>(),
    ) {
        let world = World::parse(&text);
        let mut problem = world.problem(&[]);
        problem.rules.overrides = overrides;
        problem.rules.coexist = coexist;
        if serve {
            problem.rules.platforms = ["linux/amd64".to_owned(), "linux/arm64".to_owned()].into();
        }
        let now = jiff::Timestamp::from_second(3 * 86_400).unwrap();
        problem.rules.minimum_age = aged.then_some(MinimumAge { days: 2, now });
        prop_assume!(!problem.rules.coexist.iter().any(|package| is_joined(&problem, package)));
        let Ok(found) = settle(&problem, &EditRules::any(50), &mut Driver(&world)) else { return Ok(()) };
        prop_assume!(found.collision.is_some());
        let best = best_rank(&world, &problem);
        let first = found.found.iter().filter(|settling| settling.forces() == 0).map(rank_of_settling).next();
        // What comes into sight once a rule is lifted may do better; each is tried below.
        prop_assert!(
            first.is_some() == best.is_some() && first <= best,
            "{first:?} {best:?}\n{text}\n{:?}\n{:#?}",
            problem.rules,
            found.found.first()
        );
        for settling in &found.found {
            let edited = settled(&problem, settling);
            prop_assert!(brute_force(&world, &edited).is_some(), "{}\n{:?}\n{:#?}", text, problem.rules, settling);
            // None of the edits can be left out.
            for left_out in 0..settling.len() {
                let mut fewer = settling.clone();
                match left_out.checked_sub(fewer.rules.len()) {
                    None => drop(fewer.rules.remove(left_out)),
                    Some(at) => drop(fewer.needs.remove(at)),
                }
                let edited = settled(&problem, &fewer);
                let is_one = !edited.rules.overrides.leads_back();
                prop_assert!(!is_one || brute_force(&world, &edited).is_none(), "{}\n{:?}\n{:#?}", text, problem.rules, settling);
            }
        }
    }
}

/// Where there is too much to look at for all edits to be weighed, needs of the collisions are loosened.
#[test]
fn in_very_large_projects_some_edits_are_found() {
    let mut text = String::from(
        "console: left ^1, right ^1, one ^1, other ^1, third ^1, big *\n\
         left 1.0.0: base ^1\nleft 2.0.0: base ^2\nright 1.0.0: base ^2\nright 2.0.0: base ^1\nbase 1.0.0\nbase 2.0.0\n\
         one 1.0.0: low ^1\none 2.0.0: low *, third ^9\nother 1.0.0: low ^2\nlow 1.0.0\nlow 2.0.0\n\
         third 1.0.0\nthird 9.0.0\n",
    );
    (1..=60_001).for_each(|patch| text.push_str(&format!("big 1.0.{patch}\n")));
    let world = World::parse(&text);
    let settled = settle(&world.problem(&[]), &EditRules::any(8), &mut Driver(&world)).unwrap();
    let told: Vec<Vec<String>> = settled
        .found
        .iter()
        .map(|found| {
            let edit = |edit: &RequirementEdit| match edit {
                RequirementEdit::Change { requirement, accept } => format!("{} {accept}", requirement.package),
                RequirementEdit::Drop { requirement } => format!("without {}", requirement.package),
            };
            assert!(found.rules.is_empty() && !found.resolution.chosen.is_empty());
            found.needs.iter().map(edit).collect()
        })
        .collect();
    // One need of each collision, and of the one that comes up then.
    let ends = [["left ^2.0.0", "one ^2.0.0", "third ^9.0.0"], ["one ^2.0.0", "right ^2.0.0", "third ^9.0.0"]];
    assert!(!told.is_empty() && told.iter().all(|told| ends.iter().any(|end| told == end)), "{told:?}");
    assert_eq!(settled.extent, Extent::Part);
}
