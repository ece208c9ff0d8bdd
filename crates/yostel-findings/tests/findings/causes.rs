//! What caused a move, against both lockfiles: every cause that is told is there, and would do it.
//! The accident this prevents: a reviewer who is told that somebody else asked for it.

use std::collections::BTreeMap;

use proptest::prelude::*;
use proptest::test_runner::TestCaseError;
use yostel_documents::{Asker, Lockfile};
use yostel_findings::{Advisories, Cause, Compared, MoveKind, NeedChange, comparison};
use yostel_resolve::Outcome;
use yostel_testkit::World;
use yostel_testkit::any::any_world;
use yostel_versions::{ConstraintText, Version};

fn lock(world: &World, keep: &[&str]) -> Option<Lockfile> {
    match world.resolve(keep).ok()? {
        Outcome::Resolved(resolution) => Some(resolution.to_lockfile(&world.requirements.clone().into())),
        _ => None,
    }
}

/// Tells whether a constraint rejects a version, by the numbering of these worlds.
fn rejects(accept: &ConstraintText, version: &Version) -> bool {
    !accept.bind(&Default::default()).unwrap().accepts(version)
}

fn need_is_as_told(need: &NeedChange, old: &Lockfile, new: &Lockfile) -> Result<(), TestCaseError> {
    for (lockfile, accept) in [(old, &need.before), (new, &need.after)] {
        let all = lockfile.chosen.all(&need.package).iter().flat_map(|locked| &locked.asked_by);
        let found = all.filter(|asked| asked.who.is_project() && asked.purpose == need.purpose);
        prop_assert_eq!(found.map(|asked| &asked.accept).next(), accept.as_ref());
    }
    prop_assert_ne!(&need.before, &need.after);
    Ok(())
}

fn cause_is_one(compared: &Compared, old: &Lockfile, new: &Lockfile) -> Result<(), TestCaseError> {
    let moved = &compared.moved;
    let (from, to) = match &moved.kind {
        MoveKind::Added { to } => (None, Some(to)),
        MoveKind::Dropped { from } => (Some(from), None),
        MoveKind::Moved { from, to, .. } => (Some(from), Some(to)),
        _ => return Ok(()),
    };
    // What would not have let it be as it was, or as it is.
    let decides = |before: Option<&ConstraintText>, after: Option<&ConstraintText>| {
        from.is_none()
            || to.is_none()
            || after.is_some_and(|after| rejects(after, from.unwrap()))
            || before.is_some_and(|before| rejects(before, to.unwrap()))
    };
    match &compared.cause {
        Cause::Need(need) => {
            prop_assert_eq!(&need.package, &moved.package);
            need_is_as_told(need, old, new)?;
            prop_assert!(decides(need.before.as_ref(), need.after.as_ref()), "{:?}", compared);
        }
        Cause::Release { package, version, is_there, accept } => {
            let (there, gone) = if *is_there { (new, old) } else { (old, new) };
            let asks = |lockfile: &Lockfile| {
                let all = lockfile.chosen.all(&moved.package).iter().flat_map(|locked| &locked.asked_by);
                let is = |who: &Asker| matches!(who, Asker::Release(name, at) if name == package && at == version);
                all.filter(|asked| is(&asked.who) && asked.accept == *accept).count() > 0
            };
            prop_assert!(asks(there) && !asks(gone), "{compared:?}");
            let (before, after) = if *is_there { (None, Some(accept)) } else { (Some(accept), None) };
            prop_assert!(decides(before, after), "{compared:?}");
        }
        Cause::Force { .. } => prop_assert!(false, "nothing is forced here"),
        Cause::MadeWay { package, version, accept } => {
            prop_assert!(new.chosen.at(package, version).is_some() && old.chosen.at(package, version).is_none());
            let asked = old.chosen.all(package).iter().flat_map(|locked| &locked.asked_by);
            let is =
                |who: &Asker| matches!(who, Asker::Release(name, at) if *name == moved.package && Some(at) == from);
            prop_assert!(asked.into_iter().any(|asked| is(&asked.who) && asked.accept == *accept), "{compared:?}");
            let numbering = &new.chosen[package].numbering;
            prop_assert!(accept.bind(numbering).is_ok_and(|bound| !bound.accepts(version)), "{compared:?}");
        }
        Cause::Unprovoked => {
            // Everybody who asks now, and did not before, would have kept it.
            let (Some(from), Some(_)) = (from, to) else { return Err(TestCaseError::fail(format!("{compared:?}"))) };
            let asked = new.chosen.all(&moved.package).iter().flat_map(|locked| &locked.asked_by);
            let mut pushing = asked.filter(|asked| rejects(&asked.accept, from));
            prop_assert!(pushing.next().is_none(), "{compared:?}");
        }
    }
    if let Some(root) = &compared.root {
        need_is_as_told(root, old, new)?;
        let came_along = matches!(compared.cause, Cause::Release { .. });
        prop_assert!(came_along);
    }
    Ok(())
}

proptest! {
    #[test]
    fn every_cause_that_is_told_is_there_and_would_do_it(world in any_world(), needs in any_world()) {
        let before = World::parse(&world);
        let mut after = World::parse(&world);
        after.requirements = World::parse(&needs).requirements;
        let Some(old) = lock(&before, &[]) else { return Ok(()) };
        let kept: Vec<String> = old.chosen.iter().map(|(name, locked)| format!("{name} {}", locked.version)).collect();
        let kept: Vec<&str> = kept.iter().map(String::as_str).collect();
        for keep in [&kept[..], &[]] {
            let Some(new) = lock(&after, keep) else { return Ok(()) };
            for (old, new) in [(&old, &new), (&new, &old)] {
                let told = comparison(old, new, &BTreeMap::new(), &Advisories::default(), "linux/amd64");
                for compared in &told.moves {
                    cause_is_one(compared, old, new)?;
                }
            }
        }
    }
}
