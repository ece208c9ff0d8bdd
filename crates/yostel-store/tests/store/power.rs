//! Every step that changes a file fails once, at every place where it can: the cache is valid after each, and the next
//! run ends well. Three ways: the step alone fails; the process ends there; the power goes there, and what was not
//! synced has its size and times but none of its content.

use std::collections::BTreeSet;
use std::fs::{self, File};
use std::io::{self, Cursor};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;
use std::sync::{Arc, Mutex};

use yostel_documents::Artifact;
use yostel_files::{Disk, FileError, Step, Watch, write_atomically};
use yostel_store::{Cache, Placing, Project, PruneRule, Trust, UnpackConfig};

use crate::{packed, plan};

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Fault {
    Once,
    ProcessEnds,
    PowerGoes,
}

#[derive(Debug)]
struct Faults {
    fault: Fault,
    at: usize,
    state: Mutex<State>,
}

#[derive(Debug, Default)]
struct State {
    steps: usize,
    hit: Option<String>,
    /// Inodes of files whose content may not be on the disk yet.
    unsynced: BTreeSet<u64>,
}

impl Watch for Faults {
    fn before(&self, step: &Step<'_>) -> io::Result<()> {
        let mut state = self.state.lock().unwrap();
        state.steps += 1;
        let fails = match self.fault {
            Fault::Once => state.steps == self.at,
            Fault::ProcessEnds | Fault::PowerGoes => state.steps >= self.at,
        };
        if fails {
            state.hit.get_or_insert_with(|| format!("{step:?}"));
            return Err(io::Error::other("the disk gave up"));
        }
        match step {
            Step::Sync(_, file) => drop(state.unsynced.remove(&file.metadata()?.ino())),
            Step::SyncAll(_) => state.unsynced.clear(),
            _ => {}
        }
        Ok(())
    }

    fn made(&self, file: &File) {
        self.state.lock().unwrap().unsynced.insert(file.metadata().unwrap().ino());
    }
}

/// Empties the content of files, but leaves their sizes and times.
fn lose(folder: &Path, unsynced: &BTreeSet<u64>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let metadata = path.symlink_metadata().unwrap();
        if metadata.is_dir() {
            lose(&path, unsynced);
        } else if metadata.is_file() && unsynced.contains(&metadata.ino()) {
            fs::set_permissions(&path, fs::Permissions::from_mode(0o644)).unwrap();
            fs::write(&path, vec![0; usize::try_from(metadata.len()).unwrap()]).unwrap();
            File::options().append(true).open(&path).unwrap().set_modified(metadata.modified().unwrap()).unwrap();
            fs::set_permissions(&path, metadata.permissions()).unwrap();
        }
    }
}

struct World {
    folder: tempfile::TempDir,
    old: (Vec<u8>, Artifact),
    new: (Vec<u8>, Artifact),
}

impl World {
    /// A cache with one package, which is installed, and another that nobody uses.
    fn new() -> Self {
        let old = packed(&[("a.txt", "old"), ("share/b.txt", "the same")]);
        let new = packed(&[("a.txt", "new"), ("share/b.txt", "the same"), ("share/deep/c", "c")]);
        let world = Self { folder: tempfile::tempdir().unwrap(), old, new };
        fs::create_dir(world.folder.path().join("project")).unwrap();
        world
    }

    fn cache(&self, disk: Disk) -> Cache {
        Cache::open_on(disk, self.folder.path().join("cache"))
    }

    fn install(&self, disk: Disk, (bytes, artifact): &(Vec<u8>, Artifact), placing: Placing) -> Result<(), FileError> {
        let cache = self.cache(disk.clone());
        let _in_use = cache.use_with_others(|| true)?;
        let plan = plan("kit", artifact);
        let project = Project::at_on(disk, &self.folder.path().join("project"))?.placing(placing);
        if !cache.is_tree_sound(artifact.tree) {
            let _fetching = cache.claim([artifact.digest], || true)?;
            let failed = |error| match error {
                yostel_store::AdmitError::Store(error) => error,
                other => panic!("{other}"),
            };
            let like = cache.latest_trees()?.get("kit").copied();
            let archive = cache.stage_archive(artifact, &mut Cursor::new(bytes), |_| {}).map_err(failed)?;
            let tree = cache.stage_tree(artifact, Some(&archive), UnpackConfig::default(), like).map_err(failed)?;
            cache.commit(vec![archive], vec![tree])?;
        }
        let held = project.hold(|| true)?;
        if !held.project().is_current(&plan, &cache) {
            held.apply(&plan, &cache, || {})?;
        }
        cache.note_use(("kit", "1.0.0", "station"), artifact, Path::new("/project"), 1000)
    }

    fn check_cache(&self, when: &str) {
        let report = self.cache(Disk::default()).verify(|| true).unwrap();
        assert!(report.problems.is_empty(), "{when}: {report:?}");
    }

    fn check_project(&self, artifact: &Artifact, placing: Placing, when: &str) {
        let cache = self.cache(Disk::default());
        let plan = plan("kit", artifact);
        let project = Project::at(&self.folder.path().join("project")).unwrap().placing(placing);
        assert!(project.is_current(&plan, &cache), "{when}");
        assert_eq!(project.verify(&plan, &cache, Trust::Nothing, || true).unwrap(), [], "{when}");
        let left: Vec<_> =
            fs::read_dir(self.folder.path().join("cache")).unwrap().map(|e| e.unwrap().file_name()).collect();
        assert!(!left.iter().any(|name| name == "aside" || name == "fetching"), "{when}: {left:?}");
    }
}

/// Runs `work` with a fault at each step in turn until it meets none; `check` looks at what each left.
fn at_every_step(work: impl Fn(&World, Disk) -> Result<(), FileError>, check: impl Fn(&World, &str)) -> usize {
    let mut longest = 0;
    for fault in [Fault::Once, Fault::ProcessEnds, Fault::PowerGoes] {
        for at in 1.. {
            let world = World::new();
            world.install(Disk::default(), &world.old, Placing::LinkFiles).unwrap();
            let faults = Arc::new(Faults { fault, at, state: Mutex::default() });
            let done = work(&world, Disk::watched_by(faults.clone()));
            let state = faults.state.lock().unwrap();
            let Some(hit) = &state.hit else {
                done.unwrap();
                longest = longest.max(at - 1);
                break;
            };
            let when = format!("{fault:?} at step {at}, {hit}");
            if fault == Fault::PowerGoes {
                lose(world.folder.path(), &state.unsynced);
            }
            world.check_cache(&when);
            check(&world, &when);
            world.check_cache(&when);
        }
    }
    longest
}

#[test]
fn an_install_may_fail_at_any_step() {
    for placing in [Placing::LinkFiles, Placing::Copy] {
        let steps = at_every_step(
            |world, disk| world.install(disk, &world.new, placing),
            |world, when| {
                world.install(Disk::default(), &world.new, placing).unwrap();
                world.check_project(&world.new.1, placing, when);
            },
        );
        assert!(steps > 40, "{steps} steps are too few for an install");
    }
}

#[test]
fn a_package_that_is_put_back_is_never_gone_in_between() {
    let steps = at_every_step(
        |world, disk| {
            // Somebody changed what is installed: it is put back in place.
            let folder = world.folder.path().join("project/.yostel/packages/kit");
            let version = fs::read_dir(&folder).unwrap().next().unwrap().unwrap().path();
            fs::remove_file(version.join("a.txt")).unwrap();
            fs::write(version.join("a.txt"), "changed").unwrap();
            let project = Project::at(&world.folder.path().join("project")).unwrap();
            let cache = world.cache(disk.clone());
            project.distrust(&plan("kit", &world.old.1).packages.values().collect::<Vec<_>>(), &cache)?;
            world.install(disk, &world.old, Placing::LinkFiles)
        },
        |world, when| {
            let link = world.folder.path().join("project/.yostel/reach/projects/console/run/kit");
            assert!(link.join("share/b.txt").is_file(), "{when}: the package is gone");
            world.install(Disk::default(), &world.old, Placing::LinkFiles).unwrap();
            world.check_project(&world.old.1, Placing::LinkFiles, when);
        },
    );
    assert!(steps > 10, "{steps} steps are too few");
}

#[test]
fn a_prune_may_fail_at_any_step_and_takes_nothing_that_is_installed() {
    let steps = at_every_step(
        |world, disk| {
            world.install(disk.clone(), &world.new, Placing::LinkFiles)?;
            let rule = PruneRule { used_before: Some(5000), keep_under: None };
            world.cache(disk).prune(rule, || true).map(drop)
        },
        |world, when| {
            world.install(Disk::default(), &world.new, Placing::LinkFiles).unwrap();
            world.check_project(&world.new.1, Placing::LinkFiles, when);
        },
    );
    assert!(steps > 50, "{steps} steps are too few for an install and a prune");
}

#[test]
fn a_file_is_replaced_whole_or_not_at_all() {
    for fault in [Fault::ProcessEnds, Fault::PowerGoes] {
        for at in 1.. {
            let folder = tempfile::tempdir().unwrap();
            let path = folder.path().join("yostel.lock");
            write_atomically(&path, b"before").unwrap();
            let faults = Arc::new(Faults { fault, at, state: Mutex::default() });
            let done = Disk::watched_by(faults.clone()).write_atomically(&path, b"after!");
            let state = faults.state.lock().unwrap();
            if fault == Fault::PowerGoes {
                lose(folder.path(), &state.unsynced);
            }
            let there = fs::read_to_string(&path).unwrap();
            assert!(there == "before" && done.is_err() || there == "after!" && done.is_ok(), "{at}: {there}, {done:?}");
            // What is left beside it goes with the next write.
            assert!(fs::read_dir(folder.path()).unwrap().count() <= 2);
            write_atomically(&path, b"again").unwrap();
            assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1, "nothing is left beside it");
            if state.hit.is_none() {
                break;
            }
        }
    }
}
