//! Lockfiles: canonical, sealed, stale by meaning only; what moved is told.
//! The accident this prevents: a lock that was merged by hand and is installed all the same.

use std::collections::BTreeSet;

use proptest::prelude::*;
use yostel_documents::{
    Alteration, Asker, ContentDigest, Declared, Lockfile, LockfileError, Origin, PackageName, Requirement, Seal,
    TreeDigest, Word,
};
use yostel_findings::{Move, MoveKind, compare};
use yostel_resolve::Outcome;
use yostel_testkit::World;
use yostel_versions::ConstraintText;

const WORLD: &str = "console: gust ^2, cable ^1
    gust 2.0.0: unit ^1
    gust 2.1.0: unit ^1
    cable 1.0.0: unit *
    unit 1.0.0
    unit 1.2.0
    spare 1.0.0";

pub(crate) fn lock(world: &World, keep: &[&str]) -> Lockfile {
    match world.resolve(keep).unwrap() {
        Outcome::Resolved(resolution) => resolution.to_lockfile(&world.requirements.clone().into()),
        other => panic!("{other:?}"),
    }
}

fn requirement(package: &str, accept: &str, purpose: &str) -> Requirement {
    Requirement {
        asker: Asker::Project(PackageName::parse("console").unwrap()),
        package: PackageName::parse(package).unwrap(),
        accept: ConstraintText::parse(accept).unwrap(),
        purpose: Word::parse(purpose).unwrap(),
    }
}

fn reseal(text: &str) -> String {
    let at = text.find("declarations").unwrap();
    let seal_at = text.find("seal = ").unwrap();
    format!("{}seal = \"{}\"\n{}", &text[..seal_at], Seal::of(&text.as_bytes()[at..]), &text[at..])
}

#[test]
fn the_canonical_text_reads_back_as_itself() {
    let lockfile = lock(&World::parse(WORLD), &[]);
    let text = lockfile.write();
    assert!(
        text.ends_with("]\n")
            && text.contains(
                "\n[[chosen]]\nname = \"cable\"\nversion = \"1.0.0\"\nfrom = \"station\"\nrecord = \"sha256:"
            )
    );
    assert!(text.contains("  { who = \"gust 2.1.0\", accept = \"^1\" },\n"));
    assert_eq!(Lockfile::parse(&text).unwrap(), lockfile);
    assert_eq!(Lockfile::parse(&text.replace('\n', "\r\n")).unwrap(), lockfile, "turned line endings are no change");
    assert_eq!(reseal(&text), text, "the seal is over what follows its line");
    let empty = Lockfile { declarations: Declared::default().seal(), chosen: Default::default() };
    assert_eq!(Lockfile::parse(&empty.write()).unwrap(), empty);
}

#[test]
fn a_changed_lockfile_is_refused_and_says_how() {
    let text = lock(&World::parse(WORLD), &[]).write();
    let by_hand = text.replace("2.1.0", "2.0.0");
    assert!(matches!(Lockfile::parse(&by_hand), Err(LockfileError::SealDiffers { .. })));
    let merged = text.replacen("[[chosen]]", "<<<<<<< ours\n[[chosen]]", 1);
    let Err(LockfileError::MergeMarks { span }) = Lockfile::parse(&merged) else { panic!("merge marks pass") };
    assert_eq!(&merged[span], "<<<<<<< ours");
    assert_eq!(Lockfile::parse(""), Err(LockfileError::NoSeal));
    let later = text.replace("format = 1", "format = 2");
    assert_eq!(Lockfile::parse(&later), Err(LockfileError::Format { found: 2 }));
    for (from, to, reason) in [
        ("from = \"station\"", "from = \"De Pot\"", "cannot be a name"),
        ("from = \"station\"", "form = \"station\"", "unknown field"),
        ("name = \"gust\"\nversion = \"2.1.0\"", "name = \"cable\"\nversion = \"1.0.0\"", "cable is locked twice"),
        ("who = \"gust 2.1.0\"", "who = \"gust 2.0.0\"", "not locked"),
        ("version = \"1.2.0\"", "version = \"1.2\"", "is not a version"),
        ("tree = \"sha256:", "tree = \"md5:", "is not a digest"),
        ("purposes = [\"run\"]", "purposes = []", "without purposes"),
        ("platform = \"any\"", "platform = \"Any\"", "a platform is `any`"),
    ] {
        let broken = reseal(&text.replace(from, to));
        let error = Lockfile::parse(&broken).unwrap_err();
        assert!(error.to_string().contains(reason), "{to}: {error}");
    }
}

#[test]
fn staleness_is_a_matter_of_meaning() {
    let world = World::parse(WORLD);
    let lockfile = lock(&world, &[]);
    let told = |requirements: &[Requirement]| -> Vec<String> {
        lockfile.differences(&requirements.to_vec().into()).iter().map(ToString::to_string).collect()
    };
    let (gust, cable) = (requirement("gust", "^2", "run"), requirement("cable", "^1", "run"));
    assert!(told(&[gust.clone(), cable.clone()]).is_empty());
    assert!(
        told(&[cable.clone(), requirement("gust", ">=2.1, <9", "run")]).is_empty(),
        "still satisfied, so not stale"
    );
    assert!(told(&[gust.clone(), cable.clone(), requirement("unit", "*", "run")]).is_empty(), "was there anyway");
    assert_eq!(
        told(&[requirement("gust", "<2.1", "run"), cable.clone()]),
        ["gust is locked at 2.1.0, but console needs <2.1"]
    );
    assert_eq!(
        told(&[gust.clone(), cable.clone(), requirement("spare", "*", "run")]),
        ["spare is not locked, but console needs it"]
    );
    assert_eq!(told(std::slice::from_ref(&gust)), ["cable 1.0.0 is locked, but nothing needs it any more"]);
    assert_eq!(
        told(&[gust.clone(), requirement("cable", "^1", "test")]),
        ["cable is locked for run, but needed for test", "unit is locked for run, but needed for run and test",]
    );
    assert_eq!(told(&[gust, requirement("cable", "=1", "run")]), ["console needs cable =1: `=1` leaves numbers out"]);
}

#[test]
fn moves_say_from_what_to_what_and_whether_a_line_was_crossed() {
    let before = World::parse("console: a *, b *, c *\na 1.0.0\nb 1.0.0\nc 0.1.0");
    let after = World::parse("console: a *, c *, d *\na 1.2.0\nc 0.2.0\nd 1.0.0");
    let (old, new) = (lock(&before, &[]), lock(&after, &[]));
    let moves: Vec<String> = compare(Some(&old), &new)
        .iter()
        .map(|m: &Move| match &m.kind {
            MoveKind::Added { to } => format!("{} +{to}", m.package),
            MoveKind::Dropped { from } => format!("{} -{from}", m.package),
            MoveKind::Moved { from, to, crosses_line } => format!("{} {from}>{to} {crosses_line}", m.package),
            other => format!("{other:?}"),
        })
        .collect();
    assert_eq!(moves, ["a 1.0.0>1.2.0 false", "b -1.0.0", "c 0.1.0>0.2.0 true", "d +1.0.0"]);
    assert!(compare(Some(&new), &new).is_empty());
    assert_eq!(compare(None, &new).len(), 3);
    let mut republished = new.clone();
    republished.chosen.get_mut(&PackageName::parse("a").unwrap()).unwrap().artifacts[0].size += 1;
    assert!(matches!(compare(Some(&new), &republished)[..], [Move { kind: MoveKind::Content { .. }, .. }]));
}

#[test]
fn declarations_do_not_depend_on_order() {
    let (a, b) = (requirement("a", "^1", "run"), requirement("b", "^1", "test"));
    let seal = |requirements: &[&Requirement]| {
        Declared::from(requirements.iter().map(|w| (*w).clone()).collect::<Vec<_>>()).seal()
    };
    assert_eq!(seal(&[&a, &b]), seal(&[&b, &a]));
    assert_ne!(seal(&[&a]), seal(&[&a, &b]));
}

proptest! {
    #[test]
    fn a_damaged_lockfile_is_refused_or_says_the_same(at in 0usize..2000, byte in any::<u8>()) {
        let lockfile = lock(&World::parse(WORLD), &[]);
        let mut bytes = lockfile.write().into_bytes();
        let at = at % bytes.len();
        bytes[at] = byte;
        if let Ok(text) = String::from_utf8(bytes)
            && let Ok(read) = Lockfile::parse(&text) {
            prop_assert_eq!(read, lockfile);
        }
    }
}

#[test]
fn a_move_tells_the_whole_way_from_the_project_to_who_pulled_it() {
    let world = World::parse(
        "console: top *, base *
         top 1.0.0: middle ^1
         top 2.0.0: middle ^2
         middle 1.0.0: base *
         middle 2.0.0: base ^2
         base 1.0.0
         base 2.0.0",
    );
    let before = lock(
        &World::parse("console: top =1.0.0, base =1.0.0\ntop 1.0.0: middle ^1\nmiddle 1.0.0: base *\nbase 1.0.0"),
        &[],
    );
    let way = |moves: &[yostel_findings::Move], name: &str| {
        let found = moves.iter().find(|m| m.package.as_str() == name).unwrap();
        found.pulled_by.iter().map(ToString::to_string).collect::<Vec<_>>().join(" > ")
    };
    let moves = compare(Some(&before), &lock(&world, &[]));
    assert_eq!(way(&moves, "base"), "console > top 2.0.0 > middle 2.0.0", "the project would have kept it");
    assert_eq!(way(&moves, "middle"), "console > top 2.0.0");
    assert_eq!(way(&moves, "top"), "console");
    let added = compare(None, &lock(&world, &[]));
    assert_eq!(way(&added, "base"), "console", "nobody had to pull it: the shortest way");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(800))]

    #[test]
    fn the_way_to_whoever_pulled_a_package_is_one_of_needs(text in yostel_testkit::any::any_world(), keep in yostel_testkit::any::any_keep()) {
        let world = World::parse(&text);
        let Ok(Outcome::Resolved(found)) = world.resolve(&[]) else { return Ok(()) };
        let new = found.to_lockfile(&world.requirements.clone().into());
        let Ok(Outcome::Resolved(kept)) = world.resolve(&keep) else { return Ok(()) };
        let old = kept.to_lockfile(&world.requirements.clone().into());
        for moved in compare(Some(&old), &new) {
            let Some(locked) = new.chosen.get(&moved.package) else {
                prop_assert!(moved.pulled_by.is_empty(), "what is gone was pulled by nobody");
                continue;
            };
            // Each asks for the next, and the last for the package.
            prop_assert!(moved.pulled_by[0].is_project());
            let asks = |who: &Asker, of: &PackageName| new.chosen[of].asked_by.iter().any(|asked| asked.who == *who);
            for pair in moved.pulled_by.windows(2) {
                let Asker::Release(next, version) = &pair[1] else { panic!("a project is asked for by nobody") };
                prop_assert!(asks(&pair[0], next) && new.chosen[next].version == *version);
            }
            let puller = moved.pulled_by.last().unwrap();
            prop_assert!(asks(puller, &moved.package));
            // If anybody refuses what was there, who is named does.
            if let MoveKind::Moved { from, .. } = &moved.kind {
                let refuses = |asked: &yostel_documents::AskedBy| {
                    !asked.accept.bind(&locked.numbering).is_ok_and(|constraint| constraint.accepts(from))
                };
                let by_puller = locked.asked_by.iter().any(|asked| asked.who == *puller && refuses(asked));
                prop_assert_eq!(by_puller, locked.asked_by.iter().any(refuses));
            }
        }
    }

    #[test]
    fn a_glance_sees_what_reading_in_full_sees(text in yostel_testkit::any::any_world(), at in any::<prop::sample::Index>(), byte in any::<u8>()) {
        let world = World::parse(&text);
        let Ok(Outcome::Resolved(found)) = world.resolve(&[]) else { return Ok(()) };
        let lockfile = found.to_lockfile(&world.requirements.clone().into());
        let text = lockfile.write();
        let header = Lockfile::header(&text).expect("what we write can be glanced at");
        prop_assert_eq!((header.seal, header.packages), (lockfile.seal(), lockfile.chosen.len()));
        prop_assert_eq!(header.declarations, lockfile.declarations);
        // A change anywhere: either reading in full refuses it too, or it changed nothing that counts.
        let mut bytes = text.clone().into_bytes();
        let at = at.index(bytes.len());
        bytes[at] = byte;
        if let Ok(changed) = String::from_utf8(bytes)
            && let Some(header) = Lockfile::header(&changed)
        {
            let read = Lockfile::parse(&changed);
            prop_assert_eq!(read.as_ref().map(|read| (read.seal(), read.declarations)).ok(), Some((header.seal, header.declarations)));
        }
    }
}

/// Platforms, as a manifest lists them.
fn platforms(names: &[&str]) -> BTreeSet<String> {
    names.iter().map(|name| (*name).to_owned()).collect()
}

fn served(world: &World, keep: &[&str], names: &[&str]) -> Outcome {
    let mut problem = world.problem(keep);
    problem.rules.platforms = platforms(names);
    world.resolve_with(problem, |answers| answers).unwrap()
}

#[test]
fn a_lock_serves_every_listed_platform_and_holds_no_artifact_beside() {
    let world = World::parse(
        "console: gust ^1
         gust 1.0.0 for=linux/amd64+linux/arm64+darwin/arm64:
         gust 1.1.0 for=linux/amd64:
         gust 1.2.0 for=darwin/arm64:",
    );
    let chosen = |outcome: Outcome| match outcome {
        Outcome::Resolved(resolution) => resolution.chosen.values().map(|c| c.release.version.to_string()).collect(),
        other => format!("{other:?}"),
    };
    assert_eq!(chosen(served(&world, &[], &[])), "1.2.0");
    assert_eq!(chosen(served(&world, &[], &["linux/amd64"])), "1.1.0");
    assert_eq!(chosen(served(&world, &[], &["linux/amd64", "linux/arm64"])), "1.0.0");
    assert_eq!(chosen(served(&world, &["gust 1.1.0"], &["linux/arm64"])), "1.0.0", "not even to keep what is locked");
    let Outcome::Collision(collision) = served(&world, &[], &["linux/riscv64"]) else { panic!() };
    let (unserved, without) = &collision.reach[0].unserved;
    assert_eq!((unserved.len(), without), (3, &platforms(&["linux/riscv64"])));
    // What is locked is what some listed platform takes.
    let two = platforms(&["linux/amd64", "linux/arm64"]);
    let declared = Declared { requirements: world.requirements.clone(), platforms: two, ..Declared::default() };
    let Outcome::Resolved(resolution) = served(&world, &[], &["linux/amd64", "linux/arm64"]) else { panic!() };
    let lockfile = resolution.to_lockfile(&declared);
    let gust = &lockfile.chosen[&PackageName::parse("gust").unwrap()];
    assert_eq!(gust.artifacts.iter().map(|a| a.platform.as_str()).collect::<Vec<_>>(), ["linux/amd64", "linux/arm64"]);
    assert_eq!(Lockfile::parse(&lockfile.write()).unwrap(), lockfile);
    assert!(lockfile.differences(&declared).is_empty());
    // Fewer platforms are served as well; another one is not.
    let with = |names: &[&str]| Declared { platforms: platforms(names), ..declared.clone() };
    assert!(lockfile.differences(&with(&["linux/arm64"])).is_empty());
    let told: Vec<String> = lockfile.differences(&with(&["darwin/arm64"])).iter().map(ToString::to_string).collect();
    assert_eq!(told, ["gust 1.0.0 is not locked for darwin/arm64, which [project] lists"]);
    assert_ne!(with(&["linux/arm64"]).seal(), declared.seal());
    // Other platforms are no other content; other files for one that was served are.
    let more = resolution.to_lockfile(&world.requirements.clone().into());
    assert!(
        matches!(&compare(Some(&lockfile), &more)[..], [Move { kind: MoveKind::Platforms { to, .. }, .. }] if to.len() == 3)
    );
    let mut other = more.clone();
    let artifacts = &mut other.chosen.values_mut().next().unwrap().artifacts;
    artifacts.truncate(1);
    artifacts[0].platform = "any".into();
    assert!(matches!(compare(Some(&lockfile), &other)[..], [Move { kind: MoveKind::Content { .. }, .. }]));
    // The same content from a source of another name is no other content, and another one is, wherever it comes from.
    let hub = Origin::Source(Word::parse("hub").unwrap());
    other.chosen.values_mut().for_each(|locked| locked.from = hub.clone());
    assert!(matches!(compare(Some(&lockfile), &other)[..], [Move { kind: MoveKind::Content { .. }, .. }]));
    let mut moved = lockfile.clone();
    moved.chosen.values_mut().for_each(|locked| locked.from = hub.clone());
    assert!(
        matches!(&compare(Some(&lockfile), &moved)[..], [Move { kind: MoveKind::Origin { to, .. }, .. }] if *to == hub)
    );
}

#[test]
fn a_lock_says_what_a_patch_makes_of_each_artifact() {
    let world = World::parse("console: gust ^1\n gust 1.0.0 for=linux/amd64+linux/arm64:");
    let Outcome::Resolved(resolution) = world.resolve(&[]).unwrap() else { panic!() };
    let plain = resolution.to_lockfile(&world.requirements.clone().into());
    let gust = PackageName::parse("gust").unwrap();
    let (one, other) = (ContentDigest::of(b"one"), ContentDigest::of(b"other"));
    let declared = |patch: &[ContentDigest]| Declared {
        requirements: world.requirements.clone(),
        alterations: patch.iter().map(|patch| (gust.clone(), *patch)).collect(),
        ..Declared::default()
    };
    let mut changed = plain.clone();
    changed.chosen.get_mut(&gust).unwrap().altered =
        Some(Alteration { patch: one, trees: vec![TreeDigest::of(b"amd64"), TreeDigest::of(b"arm64")] });
    assert_eq!(Lockfile::parse(&changed.write()).unwrap(), changed);
    let locked = &changed.chosen[&gust];
    assert_eq!(locked.fitting("linux/arm64").unwrap().1, Some(TreeDigest::of(b"arm64")));
    assert_eq!(plain.chosen[&gust].fitting("linux/arm64").unwrap().1, None);
    assert!(locked.fitting("darwin/arm64").is_none());
    let told = |lockfile: &Lockfile, patch: &[ContentDigest]| -> Vec<String> {
        lockfile.differences(&declared(patch)).iter().map(ToString::to_string).collect()
    };
    assert!(told(&changed, &[one]).is_empty() && told(&plain, &[]).is_empty());
    assert_eq!(told(&changed, &[other]), ["gust is locked with another patch than the one that is there now"]);
    assert_eq!(told(&plain, &[one]), ["gust is locked without the patch that [alter] names"]);
    assert_eq!(told(&changed, &[]), ["gust is locked with a patch that [alter] does not name"]);
    assert_ne!(declared(&[one]).seal(), declared(&[other]).seal());
    assert!(matches!(compare(Some(&plain), &changed)[..], [Move { kind: MoveKind::Altered { now: true }, .. }]));
    // Half of it is no lockfile, even with a seal that fits.
    let mut half = changed.clone();
    half.chosen.get_mut(&gust).unwrap().altered.as_mut().unwrap().trees.pop();
    assert!(Lockfile::parse(&half.write()).unwrap_err().to_string().contains("a patch without `altered`"));
}

/// Has the only block come from elsewhere than a source, where there is no record.
fn from_elsewhere(text: &str, origin: &str) -> String {
    let (before, rest) = text.split_once("record = ").unwrap();
    let (_, after) = rest.split_once('\n').unwrap();
    format!("{before}{after}").replace("\"station\"", origin)
}

/// Takes the artifacts out of the only block with them, as it is for a local package.
fn without_artifacts(text: &str) -> String {
    let (before, rest) = text.split_once("artifacts = [\n").unwrap();
    let (_, after) = rest.split_once("]\n").unwrap();
    format!("{before}{after}")
}

#[test]
fn every_origin_is_written_and_read_back_and_none_that_is_half() {
    let world = World::parse("console: gust *\n gust 2.1.0");
    let text = lock(&world, &[]).write();
    let commit = "0123456789abcdef0123456789abcdef01234567";
    for origin in [
        format!("{{ git = \"https://tower.example/clock\", at = \"{commit}\" }}"),
        format!("{{ git = \"../clock\", branch = \"main\", inside = \"packages/clock\", commit = \"{commit}\" }}"),
        format!("{{ git = \"../clock\", tag = \"v\\\"1\\\"\", commit = \"{commit}\" }}"),
        format!("{{ git = \"../clock\", commit = \"{commit}\" }}"),
        "{ archive = \"https://tower.example/clock.tar.zst\" }".to_owned(),
    ] {
        let locked = reseal(&from_elsewhere(&text, &origin));
        let lockfile = Lockfile::parse(&locked).unwrap_or_else(|error| panic!("{origin}: {error}"));
        assert_eq!(lockfile.write(), locked);
    }
    for origin in ["{ path = \"../clock\" }", "{ project = \"libs/clock\" }"] {
        let local = reseal(&without_artifacts(&from_elsewhere(&text, origin)));
        let lockfile = Lockfile::parse(&local).unwrap_or_else(|error| panic!("{origin}: {error}"));
        assert_eq!(lockfile.write(), local);
        let gust = lockfile.chosen.get(&PackageName::parse("gust").unwrap()).unwrap();
        assert!(gust.artifacts.is_empty() && gust.from.local_folder().is_some());
        // A local package has no content to lock, and everything else has.
        let with = reseal(&from_elsewhere(&text, origin));
        assert!(Lockfile::parse(&with).unwrap_err().to_string().contains("artifacts"), "{origin}");
    }
    assert!(Lockfile::parse(&reseal(&without_artifacts(&text))).is_err());
    for half in [from_elsewhere(&text, "\"station\""), text.replace("\"station\"", "{ archive = \"a.zip\" }")] {
        assert!(
            Lockfile::parse(&reseal(&half)).unwrap_err().to_string().contains("the digest of its record"),
            "{half}"
        );
    }
    for origin in [
        "{ git = \"../clock\" }",
        "{ git = \"../clock\", branch = \"main\" }",
        "{ git = \"../clock\", tag = \"a\", branch = \"b\", commit = \"c\" }",
        "{ git = \"../clock\", path = \"../clock\", commit = \"c\" }",
        "{ commit = \"c\" }",
        "{ svn = \"../clock\" }",
        "{}",
    ] {
        assert!(Lockfile::parse(&reseal(&from_elsewhere(&text, origin))).is_err(), "{origin}");
    }
}

#[test]
fn a_package_of_two_lines_has_a_block_for_each_and_its_moves_are_told_by_line() {
    let world = World::parse(
        "console: tables ^2, chart *\n chart 1.0.0: tables ^1\n tables 1.4.0\n tables 1.5.0\n tables 2.0.0",
    );
    let tables = PackageName::parse("tables").unwrap();
    let coexist: std::collections::BTreeSet<PackageName> = [tables.clone()].into();
    let declared = Declared { coexist: coexist.clone(), ..world.requirements.clone().into() };
    let resolve = |world: &World| {
        let mut problem = world.problem(&[]);
        problem.rules.coexist = coexist.clone();
        match world.resolve_with(problem, |answers| answers).unwrap() {
            Outcome::Resolved(resolution) => resolution.to_lockfile(&declared),
            other => panic!("{other:?}"),
        }
    };
    let lockfile = resolve(&world);
    assert_eq!(Lockfile::parse(&lockfile.write()).unwrap(), lockfile);
    let versions = |lockfile: &Lockfile| -> Vec<String> {
        lockfile.chosen.all(&tables).iter().map(|locked| locked.version.to_string()).collect()
    };
    assert_eq!(versions(&lockfile), ["1.5.0", "2.0.0"]);
    assert_eq!(lockfile.differences(&declared), []);
    let told: Vec<String> =
        lockfile.differences(&world.requirements.clone().into()).iter().map(ToString::to_string).collect();
    assert_eq!(told, ["tables is locked at 1.5.0 and at 2.0.0, which `coexist` in [policy] does not permit"]);
    // Without the newest of the older line, that line moves, and the other is not spoken of.
    let mut less = world.clone();
    let releases = std::sync::Arc::make_mut(&mut less.documents.get_mut(&tables).unwrap().releases);
    releases.retain(|release| release.version.as_str() != "1.5.0");
    let moves = compare(Some(&resolve(&less)), &lockfile);
    assert_eq!(moves.len(), 1, "{moves:?}");
    assert!(matches!(&moves[0].kind, MoveKind::Moved { from, to, crosses_line: false }
        if from.as_str() == "1.4.0" && to.as_str() == "1.5.0"));
}
