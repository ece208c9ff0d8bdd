//! What `lock`, `audit` and `explain` say of what could move, against resolving it in random worlds.
//! The accident this prevents: advice that does not come true.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;

use proptest::prelude::*;
use proptest::test_runner::TestCaseError;
use yostel_documents::{Chosen, LockedPackage, Overrides, PackageName, Release, Requirement, Take};
use yostel_findings::{Move, MoveKind, Trial, WayOut};
use yostel_flows::{AuditRequest, Instead, audit};
use yostel_testkit::any::{any_coexist, any_overrides, any_world};
use yostel_versions::{ConstraintText, Numbering};

use super::*;

/// What a manifest says besides its needs.
#[derive(Debug, Clone)]
struct Rules {
    overrides: Overrides,
    coexist: BTreeSet<PackageName>,
    platforms: bool,
    minimum_age: bool,
}

fn any_rules() -> impl Strategy<Value = Rules> {
    let bare = any_overrides().prop_map(|overrides| Overrides { agreed: BTreeMap::new(), ..overrides });
    let overrides = prop_oneof![1 => Just(Overrides::default()), 1 => bare];
    (overrides, any_coexist(), any::<bool>(), any::<bool>())
        .prop_map(|(overrides, coexist, platforms, minimum_age)| Rules { overrides, coexist, platforms, minimum_age })
}

fn manifest(needs: &BTreeMap<PackageName, String>, rules: &Rules) -> String {
    let mut text = String::from("[project]\nname = \"console\"\n");
    if rules.platforms {
        text.push_str("platforms = [\"linux/amd64\"]\n");
    }
    let coexist: Vec<String> = rules.coexist.iter().map(|name| format!("{name:?}", name = name.as_str())).collect();
    text.push_str(&format!("[policy]\ncoexist = [{}]\n", coexist.join(", ")));
    if rules.minimum_age {
        text.push_str("minimum-age = \"1 day\"\n");
    }
    text.push_str("[needs.run]\n");
    for (package, accept) in needs {
        text.push_str(&match accept.split_once(" on ") {
            Some((accept, on)) => format!("{package} = {{ accept = \"{accept}\", only-on = [\"{on}\"] }}\n"),
            None => format!("{package} = \"{accept}\"\n"),
        });
    }
    text.push_str("[force]\n");
    for (package, version) in &rules.overrides.forced {
        let version = version.to_string();
        let version = version.trim_start_matches('=');
        text.push_str(&format!("{package} = {{ version = \"{version}\", why = \"x\", until = 2999-01-01 }}\n"));
    }
    text.push_str("[swap]\n");
    for (package, (to, accept)) in &rules.overrides.swapped {
        let accept = accept.as_ref().map(|accept| format!(", accept = \"{accept}\"")).unwrap_or_default();
        text.push_str(&format!("{package} = {{ use = \"{to}\"{accept}, why = \"x\" }}\n"));
    }
    text + "[sources.station]\nfolder = \"../station\"\n"
}

/// A world on disk, in which it is day 2: what was published then is too young for a minimum age of a day.
struct Place {
    world: World,
    rules: Rules,
    /// What it is, for whoever reads of a failure.
    text: String,
}

impl Place {
    fn new(content: &yostel_testkit::World, rules: Rules, text: String) -> Self {
        let world = World::new(&[], "");
        content.write_to(&world.path("station"));
        let text = format!("{text}\n{rules:?}");
        Self { world, rules, text }
    }

    fn settings(&self) -> Settings {
        Settings { now: Timestamp::from_second(2 * 86_400).unwrap(), ..self.world.settings() }
    }

    fn declare(&self, needs: &BTreeMap<PackageName, String>, rules: &Rules) {
        fs::write(self.world.path("console/yostel.toml"), manifest(needs, rules)).unwrap();
    }

    fn project(&self) -> LoadedProject {
        load_project(&self.world.path("console"), &self.settings()).unwrap()
    }

    /// Locks; nothing where there is no such set.
    fn lock(&self, request: LockRequest) -> Option<LockReport> {
        match lock(&self.project(), request, &Context::new(&self.settings(), &Silent)) {
            Ok(report) => Some(report),
            Err(FlowError::Search(_)) => None,
            Err(error) => panic!("{error}"),
        }
    }

    /// Returns what a lock without anything to keep would choose.
    fn fresh(&self) -> Option<Chosen<LockedPackage>> {
        let report = self.lock(LockRequest { keep: Keep::Nothing, write: Write::Nothing, ..LockRequest::default() });
        report.and_then(|report| report.lockfile).map(|lockfile| lockfile.chosen)
    }

    fn instead(&self, package: &PackageName, version: &Version) -> Instead {
        let context = (self.settings(), Silent);
        let report = explain(&self.project(), package, Some(version.as_str()), &Context::new(&context.0, &context.1));
        report.unwrap().instead.unwrap()
    }
}

/// The version of a package that is there once.
fn only(chosen: &Chosen<LockedPackage>, package: &PackageName) -> Option<Version> {
    let all = chosen.all(package);
    (all.len() == 1).then(|| all[0].version.clone())
}

fn moved(moves: &[Move]) -> BTreeSet<(PackageName, String)> {
    let kinds = moves
        .iter()
        .filter(|m| matches!(m.kind, MoveKind::Moved { .. } | MoveKind::Added { .. } | MoveKind::Dropped { .. }));
    kinds.map(|m| (m.package.clone(), format!("{:?}", m.kind))).collect()
}

fn needs_of(requirements: &[Requirement]) -> BTreeMap<PackageName, String> {
    requirements.iter().map(|need| (need.package.clone(), need.accept.to_string())).collect()
}

/// audit: a newer version is accepted exactly where a fresh lock takes it.
fn audit_agrees(place: &Place, locked: &Chosen<LockedPackage>) -> Result<(), TestCaseError> {
    let fresh = place.fresh().expect("there is a set");
    let report = audit(&place.project(), &AuditRequest::default(), &Context::new(&place.settings(), &Silent)).unwrap();
    for outdated in &report.outdated {
        let (Some(_), Some(after)) = (only(locked, &outdated.package), only(&fresh, &outdated.package)) else {
            continue;
        };
        let newer = (after > outdated.locked).then_some(after);
        prop_assert_eq!(&outdated.accepted, &newer, "{} in {}", outdated.package, place.text);
    }
    for (package, before) in locked.iter().filter(|(package, _)| only(locked, package).is_some()) {
        let is_newer = only(&fresh, package).is_some_and(|after| after > before.version);
        prop_assert!(!is_newer || report.outdated.iter().any(|o| o.package == *package), "{package} in {}", place.text);
    }
    Ok(())
}

/// audit: the newest is free exactly where the need on it locks, or, where no need is in the way, needing it besides does; and
/// as many others move.
fn trials_agree(
    place: &Place,
    needs: &BTreeMap<PackageName, String>,
    locked: &Chosen<LockedPackage>,
) -> Result<(), TestCaseError> {
    let report = audit(&place.project(), &AuditRequest::default(), &Context::new(&place.settings(), &Silent)).unwrap();
    for outdated in &report.outdated {
        let (package, newest) = (&outdated.package, &outdated.newest);
        let label = format!("{package} {newest} in {}", place.text);
        if only(locked, package).is_none() {
            prop_assert!(outdated.tried.is_none(), "{label}");
            continue;
        }
        let own = needs.get(package).map(|own| ConstraintText::parse(own).unwrap());
        let is_in_the_way = own.as_ref().is_some_and(|own| !own.bind(&Numbering::default()).unwrap().accepts(newest));
        let mut changed = needs.clone();
        match (own, is_in_the_way) {
            (Some(own), true) => {
                let on = own.to_string().split_once(" on ").map(|(_, on)| format!(" on {on}")).unwrap_or_default();
                changed.insert(package.clone(), format!("^{newest}{on}"));
            }
            _ => drop(changed.insert(package.clone(), format!("={newest}"))),
        }
        place.declare(&changed, &place.rules);
        let after = place.lock(LockRequest { write: Write::Nothing, ..LockRequest::default() });
        place.declare(needs, &place.rules);
        let has_newest = |report: &LockReport| {
            report.lockfile.as_ref().is_some_and(|lockfile| lockfile.chosen.at(package, newest).is_some())
        };
        match (&outdated.tried, &after) {
            (Some(Trial::Free { edits, others }), Some(after)) => {
                prop_assert!(has_newest(after), "{label}");
                prop_assert_eq!(!edits.is_empty(), is_in_the_way, "{}", label);
                let moves = moved(&after.moves).into_iter().filter(|(name, _)| name != package);
                prop_assert_eq!(moves.count(), *others, "{}", label);
            }
            (Some(Trial::Blocked), None) => {}
            // A rule may give the need another meaning.
            (Some(Trial::Blocked), Some(after)) => prop_assert!(!has_newest(after), "{label}"),
            (tried, after) => prop_assert!(false, "{label}: {tried:?}, but {:?}", after.as_ref().map(|a| &a.moves)),
        }
    }
    Ok(())
}

/// explain: another version is possible exactly where needing it locks, and moves what that moves.
fn explain_agrees(
    place: &Place,
    needs: &BTreeMap<PackageName, String>,
    (package, release): (&PackageName, &Release),
) -> Result<(), TestCaseError> {
    let instead = place.instead(package, &release.version);
    let own = needs.get(package).map(|own| ConstraintText::parse(own).unwrap());
    if let Some(own) = own {
        let accepts = own.bind(&Numbering::default()).unwrap().accepts(&release.version);
        prop_assert_eq!(accepts, instead.set_aside.is_empty(), "{} {} in {}", package, release.version, place.text);
    }
    // What would be without a force is the question.
    let mut rules = place.rules.clone();
    rules.overrides.forced.remove(package);
    let mut changed = needs.clone();
    changed.insert(package.clone(), format!("={}", release.version));
    place.declare(&changed, &rules);
    let report = place.lock(LockRequest { write: Write::Nothing, ..LockRequest::default() });
    place.declare(needs, &place.rules);
    match (&instead.outcome, &report) {
        (Counterfactual::Possible(said), Some(report)) => {
            let label = format!("{package} {} in {}", release.version, place.text);
            prop_assert_eq!(moved(said), moved(&report.moves), "{}", label);
        }
        (Counterfactual::Impossible { .. }, None) => {}
        (said, report) => {
            let moves = report.as_ref().map(|report| &report.moves);
            prop_assert!(false, "{package} {}: {said:?}, but {moves:?} in {}", release.version, place.text);
        }
    }
    Ok(())
}

/// lock: what it says would be newer with a fresh lock is, and all of it is said.
fn lock_agrees(place: &Place, locked: &Chosen<LockedPackage>) -> Result<(), TestCaseError> {
    let Some(report) = place.lock(LockRequest::default()) else { return Ok(()) };
    let Some(after) = report.lockfile else { return Ok(()) };
    let fresh = place.fresh().expect("there is a set");
    for (package, was, newer) in report.newer.iter().filter(|(package, ..)| only(&after.chosen, package).is_some()) {
        prop_assert_eq!(only(&fresh, package), Some(newer.clone()), "{} in {}", package, place.text);
        prop_assert!(newer > was);
    }
    for (package, is) in after.chosen.iter() {
        let kept = locked.at(package, &is.version).is_some() && only(&after.chosen, package).is_some();
        let is_newer = kept && only(&fresh, package).is_some_and(|newer| newer > is.version);
        prop_assert!(!is_newer || report.newer.iter().any(|(said, ..)| said == package), "{package} in {}", place.text);
    }
    Ok(())
}

/// audit: the way out of an advisory leads out, and where none is told, neither a fresh lock nor a need on the first release
/// that is not affected does.
fn advice_agrees(
    place: &Place,
    needs: &BTreeMap<PackageName, String>,
    locked: &Chosen<LockedPackage>,
    (package, fixed): (&PackageName, &str),
) -> Result<(), TestCaseError> {
    let folder = place.world.path("station/advisories");
    fs::create_dir_all(&folder).unwrap();
    let text = format!(
        r#"{{"id":"A-1","modified":"1970-01-01T00:00:00Z","affected":[{{"package":{{"ecosystem":"station","name":"{package}"}},
        "ranges":[{{"type":"SEMVER","events":[{{"introduced":"0"}},{{"fixed":"{fixed}"}}]}}]}}]}}"#
    );
    fs::write(folder.join("a.json"), text).unwrap();
    let fixed = Version::parse(fixed, &Order::Semver).unwrap();
    let is_free = |chosen: &Chosen<LockedPackage>| {
        let all = chosen.all(package);
        !all.is_empty() && all.iter().all(|one| one.version >= fixed)
    };
    let report = audit(&place.project(), &AuditRequest::default(), &Context::new(&place.settings(), &Silent)).unwrap();
    let affected: Vec<&Version> =
        locked.all(package).iter().map(|one| &one.version).filter(|version| **version < fixed).collect();
    let told: Vec<&Version> = report.advisories.iter().map(|one| &one.threat.version).collect();
    prop_assert_eq!(&told, &affected, "{} in {}", package, place.text);
    let with = |accept: String| {
        let mut changed = needs.clone();
        changed.insert(package.clone(), accept);
        place.declare(&changed, &place.rules);
        let report = place.lock(LockRequest { write: Write::Nothing, ..LockRequest::default() });
        place.declare(needs, &place.rules);
        report.and_then(|report| report.lockfile).map(|lockfile| lockfile.chosen)
    };
    let fresh_is_free = is_free(&place.fresh().expect("there is a set"));
    for advised in &report.advisories {
        match &advised.way {
            WayOut::Fresh(version) => prop_assert!(fresh_is_free && *version >= fixed, "{}", place.text),
            WayOut::Need { accept, .. } => {
                let after = with(accept.to_string());
                prop_assert!(after.is_some_and(|after| is_free(&after)), "{package} {accept} in {}", place.text);
            }
            WayOut::Held(by) => {
                prop_assert!(!fresh_is_free, "{}", place.text);
                let own =
                    needs.contains_key(package) && !by.is_empty() && by.iter().all(|holder| holder.who.is_project());
                let first = advised.threat.fixed.as_ref().filter(|_| own).map(|first| format!("^{first}"));
                let after = first.and_then(|first| match needs[package].split_once(" on ") {
                    Some((_, on)) => with(format!("{first} on {on}")),
                    None => with(first),
                });
                prop_assert!(!after.is_some_and(|after| is_free(&after)), "{package} in {}", place.text);
            }
            WayOut::Commit(_) => prop_assert!(false, "nothing comes from a repository here"),
            WayOut::Forced => {
                let is_forced = place.rules.overrides.forced.contains_key(package);
                prop_assert!(is_forced && !fresh_is_free, "{}", place.text);
            }
            WayOut::NoRelease => prop_assert!(!fresh_is_free && advised.threat.fixed.is_none(), "{}", place.text),
        }
    }
    fs::remove_file(folder.join("a.json")).unwrap();
    Ok(())
}

#[allow(clippy::disallowed_methods, reason = "how often is for whoever runs it to say")]
fn cases() -> u32 {
    std::env::var("PROPTEST_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(200)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: cases(), ..ProptestConfig::default() })]

    #[test]
    fn what_is_said_to_move_moves_and_what_is_said_not_to_does_not(
        text in any_world(),
        rules in any_rules(),
        another in 0usize..4,
        fixed in prop::sample::select(vec!["1.1.0", "2.0.0"]),
    ) {
        let content = yostel_testkit::World::parse(&text);
        let place = Place::new(&content, rules, text);
        let mut needs = needs_of(&content.requirements);
        place.declare(&needs, &place.rules);
        let oldest = LockRequest { keep: Keep::Nothing, take: Some(Take::Oldest), ..LockRequest::default() };
        let Some(first) = place.lock(oldest) else { return Ok(()) };
        let locked = first.lockfile.unwrap().chosen;
        audit_agrees(&place, &locked)?;
        trials_agree(&place, &needs, &locked)?;
        for package in locked.keys() {
            advice_agrees(&place, &needs, &locked, (package, fixed))?;
        }
        for package in locked.keys() {
            for release in content.documents[package].releases.iter() {
                explain_agrees(&place, &needs, (package, release.whole()))?;
            }
        }
        let package = content.documents.keys().nth(another).filter(|package| !needs.contains_key(package));
        if let Some(package) = package {
            needs.insert(package.clone(), "*".to_owned());
            place.declare(&needs, &place.rules);
            lock_agrees(&place, &locked)?;
        }
    }
}
