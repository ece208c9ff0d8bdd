//! Flows with sources in memory: which order answers come in, what breaks off, what stops.
//! The accident this prevents: a lockfile that depends on which server was the quickest.

use std::collections::BTreeMap;
use std::fs;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use yostel_documents::PackageName;
use yostel_flows::remove;
use yostel_flows::{
    AuditRequest, Context, Event, Files, FlowClass, FlowError, InstallError, Keep, LockError, LockRequest, Observer,
    OpenFiles, ProjectError, PublishRequest, RegistryTarget, SettleRequest, Silent, Write, audit, environment, explain,
    install, load_project, lock, publish, settle, verify,
};
use yostel_testkit::{MemoryContent, MemorySources};

use crate::{RELEASES, World};

fn name(text: &str) -> PackageName {
    PackageName::parse(text).unwrap()
}

fn in_memory(world: &mut World, change: impl FnOnce(&mut MemoryContent)) -> Arc<MemorySources> {
    let mut content = MemoryContent::of_folder(&world.path("station"), &["gust", "unit", "valley/map"]);
    change(&mut content);
    let sources = Arc::new(MemorySources::new(content));
    world.sources = sources.clone();
    sources
}

#[test]
fn the_order_in_which_answers_come_changes_nothing_and_nobody_is_asked_twice() {
    let mut texts = Vec::new();
    for last_first in [false, true] {
        let mut world = World::new(&RELEASES, "gust = '*'\nunit = '*'\n'valley/map' = '*'");
        let sources = in_memory(&mut world, |content| content.last_first = last_first);
        world.lock(Keep::Locked, Write::File).0.unwrap();
        texts.push(fs::read_to_string(world.path("console/yostel.lock")).unwrap());
        let mut asked = BTreeMap::new();
        sources.asked().into_iter().for_each(|package| *asked.entry(package).or_insert(0) += 1);
        assert_eq!(asked, [(name("gust"), 1), (name("unit"), 1), (name("valley/map"), 1)].into());
    }
    assert_eq!(texts[0], texts[1]);
}

/// A ladder of packages, each of which needs the next two, but that the newest of some need what nobody has beside the rest.
const LADDER: usize = 5;

fn ladder() -> (Vec<String>, Vec<String>) {
    let mut releases = Vec::new();
    for step in 0..LADDER {
        let next = |of: &str| match step + 1 < LADDER {
            true => format!("left{} = '{of}'\nright{} = '{of}'", step + 1, step + 1),
            false => String::new(),
        };
        for side in ["left", "right"] {
            releases.push(format!("{side}{step} 1.0.0: {}", next(">=1")));
            // The newest of both sides cannot be had together.
            let only = if side == "left" { "=1.0.0" } else { ">=1" };
            releases.push(format!("{side}{step} 1.1.0: {}", next(only)));
        }
    }
    let names = (0..LADDER).flat_map(|step| [format!("left{step}"), format!("right{step}")]).collect();
    (releases, names)
}

#[test]
fn what_is_expected_of_a_source_never_changes_what_is_locked() {
    let (releases, names) = ladder();
    let releases: Vec<&str> = releases.iter().map(String::as_str).collect();
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    let mut world = World::new(&releases, "left0 = '*'\nright0 = '*'");
    let content = MemoryContent::of_folder(&world.path("station"), &names);
    let mut lock = |is_far: bool, shuffle: Option<u64>| {
        let content = MemoryContent { is_far, shuffle, ..content.clone() };
        let sources = Arc::new(MemorySources::new(content));
        world.sources = sources.clone();
        world.lock(Keep::Nothing, Write::File).0.unwrap();
        let text = fs::read_to_string(world.path("console/yostel.lock")).unwrap();
        fs::remove_file(world.path("console/yostel.lock")).unwrap();
        (text, sources)
    };
    let (without, sources) = lock(false, None);
    assert_eq!(sources.expected(), []);
    for seed in 0..100 {
        let (text, sources) = lock(true, Some(seed));
        assert_eq!(text, without, "{seed}");
        // All but the first two are expected before they are asked about, each once; nobody expects what nobody needs.
        let mut expected = sources.expected();
        expected.sort();
        let mut beyond: Vec<_> = names.iter().skip(2).map(|text| name(text)).collect();
        beyond.sort();
        assert_eq!(expected, beyond, "{seed}");
    }
}

#[test]
fn of_several_that_cannot_be_asked_the_first_by_name_is_told_and_nothing_is_written() {
    for last_first in [false, true] {
        let mut world = World::new(&RELEASES, "gust = '*'\n'valley/map' = '*'");
        in_memory(&mut world, |content| {
            content.last_first = last_first;
            content.silent = [name("gust"), name("valley/map")].into();
        });
        let error = world.lock(Keep::Locked, Write::File).0.unwrap_err();
        assert_eq!(error.class(), FlowClass::SourceUnavailable);
        assert!(error.to_string().contains("gust"), "{error}");
        assert!(!world.path("console/yostel.lock").exists());
    }
}

#[test]
fn an_archive_that_breaks_off_leaves_neither_an_install_nor_anything_in_the_cache() {
    let mut world = World::new(&RELEASES, "gust = '^2'");
    in_memory(&mut world, |content| content.breaks_off = Some(10));
    world.lock(Keep::Locked, Write::File).0.unwrap();
    let error = world.install(false).0.unwrap_err();
    assert_eq!(error.class(), FlowClass::SourceUnavailable, "{error}");
    assert!(!world.path("console/.yostel").exists());
    let archives = world.path("cache/archives");
    assert!(
        !archives.exists()
            || fs::read_dir(archives).unwrap().all(|kind| fs::read_dir(kind.unwrap().path()).unwrap().next().is_none())
    );
    in_memory(&mut world, |_| {});
    world.install(false).0.unwrap();
}

/// Wants to stop at the first event of a kind. When that is told before any package is fetched, none may be.
struct StopsAt(&'static str, AtomicBool);

impl Observer for StopsAt {
    fn notice(&self, event: Event) {
        assert!(!self.stops() || self.0 == "Fetch" || !matches!(event, Event::Fetch(_)), "{}: {event:?}", self.0);
        if format!("{event:?}").starts_with(self.0) {
            self.1.store(true, Ordering::Relaxed);
        }
    }

    fn stops(&self) -> bool {
        self.1.load(Ordering::Relaxed)
    }
}

#[test]
fn what_is_told_to_stop_says_so_and_leaves_everything_as_it_was() {
    let mut world = World::new(&RELEASES, "gust = '^2'\n'valley/map' = '*'");
    in_memory(&mut world, |_| {});
    let stops = |at| StopsAt(at, AtomicBool::new(false));
    let (project, settings) = (world.project(), world.settings());
    for at in ["Begin(\"resolving\"", "Ask", "Advance"] {
        let refused = lock(&project, LockRequest::default(), &Context::new(&settings, &stops(at)));
        assert!(matches!(refused, Err(FlowError::Stopped)), "{at}: {refused:?}");
        assert!(!world.path("console/yostel.lock").exists());
    }
    world.lock(Keep::Locked, Write::File).0.unwrap();
    for at in ["Begin(\"checking", "Begin(\"fetching", "Fetch"] {
        let refused = install(&project, &Default::default(), &Context::new(&settings, &stops(at)));
        let class = refused.as_ref().map(|_| ()).map_err(FlowError::class);
        // What was being read breaks off as a source does, and whoever told it to stop knows why.
        let right = matches!(class, Err(FlowClass::Stopped)) || at == "Fetch" && class.is_err();
        assert!(right, "{at}: {refused:?}");
        assert!(!world.path("console/.yostel").exists(), "{at}");
    }
    world.install(false).0.unwrap();
    let refused = verify(&project, yostel_store::Trust::Nothing, &Context::new(&settings, &stops("Advance")));
    assert!(refused.is_err(), "{refused:?}");
    for at in ["Advance", "Begin(\"asking"] {
        assert!(
            matches!(
                audit(&project, &AuditRequest::default(), &Context::new(&settings, &stops(at))),
                Err(FlowError::Stopped)
            ),
            "{at}"
        );
    }
    let unit = name("unit");
    assert!(matches!(
        explain(&project, &unit, None, &Context::new(&settings, &stops("Advance"))),
        Err(FlowError::Stopped)
    ));
    assert!(
        verify(&project, yostel_store::Trust::Nothing, &Context::new(&settings, &Silent))
            .unwrap()
            .differences
            .is_empty()
    );
}

#[test]
fn what_an_editor_has_open_counts_before_what_is_on_disk() {
    let mut world = World::new(&RELEASES, "gust = '=2.0.0'");
    world.lock(Keep::Locked, Write::File).0.unwrap();
    let (manifest, lockfile) = (world.path("console/yostel.toml"), world.path("console/yostel.lock"));
    let on_disk = fs::read_to_string(&manifest).unwrap();
    let open = |texts: &[(&std::path::PathBuf, String)]| -> Arc<dyn Files> {
        Arc::new(OpenFiles { texts: texts.iter().map(|(path, text)| ((*path).clone(), text.clone())).collect() })
    };
    world.files = open(&[(&manifest, on_disk.replace("=2.0.0", "^2"))]);
    let report = world.lock(Keep::Nothing, Write::Nothing).0.unwrap();
    assert_eq!(report.lockfile.unwrap().chosen[&name("gust")].version.as_str(), "2.1.0");
    world.files = open(&[(&manifest, on_disk.replace("gust", "gu st"))]);
    let refused = load_project(&world.path("console"), &world.settings());
    assert!(matches!(refused, Err(FlowError::Project(ProjectError::Manifest { .. }))), "{refused:?}");
    world.files = open(&[(&lockfile, "nonsense".into())]);
    let refused = audit(&world.project(), &AuditRequest::default(), &Context::new(&world.settings(), &Silent));
    assert!(matches!(refused, Err(FlowError::Lock(LockError::Lockfile { .. }))), "{refused:?}");
    // A project that was never saved.
    let unsaved = world.path("new");
    fs::create_dir_all(&unsaved).unwrap();
    world.files = open(&[(&unsaved.join("yostel.toml"), "[project]\nname = \"new\"\n".into())]);
    assert_eq!(load_project(&unsaved, &world.settings()).unwrap().top.name().as_str(), "new");
    assert_eq!(fs::read_to_string(&manifest).unwrap(), on_disk);
}

#[test]
fn a_set_is_installed_elsewhere_without_touching_the_project() {
    let world = World::new(&RELEASES, "gust = '^2'");
    let near = world.path("near");
    fs::create_dir_all(&near).unwrap();
    fs::write(near.join("yostel.toml"), "[project]\nname = \"near\"\nversion = \"1.0.0\"\n").unwrap();
    world.declare("gust = '^2'\nnear = { path = '../near' }");
    world.lock(Keep::Locked, Write::File).0.unwrap();
    let tried = world.path("tried");
    fs::create_dir_all(&tried).unwrap();
    let (project, settings) = (world.project().installed_in(tried.clone()), world.settings());
    let context = Context::new(&settings, &Silent);
    install(&project, &Default::default(), &context).unwrap();
    assert!(!world.path("console/.yostel").exists());
    assert!(verify(&project, yostel_store::Trust::Nothing, &context).unwrap().differences.is_empty());
    let folders = environment(&project, &context).unwrap().prepend["PATH"].clone();
    assert!(folders.iter().all(|folder| folder.starts_with(tried.join(".yostel"))), "{folders:?}");
    let link = tried.join(".yostel/reach/projects/console/run/near");
    assert_eq!(fs::canonicalize(link).unwrap(), near);
    let refused = verify(&world.project(), yostel_store::Trust::Nothing, &context);
    assert!(matches!(refused, Err(FlowError::Install(InstallError::NotInstalled))), "{refused:?}");
}

#[test]
fn what_may_move_is_said_package_by_package() {
    let world = World::new(&RELEASES, "gust = '=2.0.0'\n'valley/map' = '*'");
    world.lock(Keep::Locked, Write::File).0.unwrap();
    publish_more(&world, "valley/map 1.1.0");
    world.declare("gust = '^2'\n'valley/map' = '*'");
    let moved = |keep| {
        let moves = world.lock(keep, Write::Nothing).0.unwrap().moves;
        moves.into_iter().map(|m| m.package.to_string()).collect::<Vec<_>>()
    };
    assert_eq!(moved(Keep::Locked), [""; 0]);
    assert_eq!(moved(Keep::But([name("gust")].into())), ["gust"]);
    assert_eq!(moved(Keep::But([name("valley/map")].into())), ["valley/map"]);
    assert_eq!(moved(Keep::Nothing), ["gust", "valley/map"]);
}

fn publish_more(world: &World, label: &str) {
    let (name, version) = label.split_once(' ').unwrap();
    let folder = world.path(&format!("made/more-{version}"));
    fs::create_dir_all(&folder).unwrap();
    fs::write(folder.join("yostel.toml"), format!("[project]\nname = \"{name}\"\nversion = \"{version}\"\n")).unwrap();
    let package = load_project(&folder, &world.settings()).unwrap();
    let station = RegistryTarget::Folder(world.path("station"));
    let settings = world.settings();
    publish(&package, &station, &PublishRequest::default(), &Context::new(&settings, &Silent)).unwrap();
}

/// A search that was hard once is as hard again for the edits and for the proof.
#[test]
fn looking_for_edits_and_proving_stop_when_they_are_told_to() {
    let mut world = World::new(&RELEASES, "gust = '^2'\nunit = '^2'");
    in_memory(&mut world, |_| {});
    let (project, settings) = (world.project(), world.settings());
    let stops = |at| StopsAt(at, AtomicBool::new(false));
    let before = fs::read(world.path("console/yostel.toml")).unwrap();
    let at = "Begin(\"looking for edits\"";
    let refused = settle(&project, &SettleRequest::default(), &Context::new(&settings, &stops(at)));
    assert!(matches!(refused, Err(FlowError::Stopped)), "{refused:?}");
    let folder = world.path("proof");
    let request = || LockRequest { proof: Some(folder.clone()), ..LockRequest::default() };
    let refused = lock(&project, request(), &Context::new(&settings, &stops("Begin(\"proving")));
    assert!(matches!(refused, Err(FlowError::Stopped)), "{refused:?}");
    assert!(!folder.exists() && !world.path("console/yostel.lock").exists());
    assert_eq!(fs::read(world.path("console/yostel.toml")).unwrap(), before);
    let refused = lock(&project, request(), &Context::new(&settings, &Silent)).unwrap_err();
    assert_eq!((refused.class(), folder.exists()), (FlowClass::NoResolution, true), "{refused}");
}

/// The accident this prevents: two that edit at once, and what the first wrote is gone.
#[test]
fn a_manifest_that_somebody_changed_meanwhile_is_not_written_over() {
    let world = World::new(&RELEASES, "gust = '^2'");
    let project = world.project();
    world.declare("gust = '^2'\n'valley/map' = '*'");
    let theirs = fs::read_to_string(world.path("console/yostel.toml")).unwrap();
    let settings = world.settings();
    let context = Context::new(&settings, &Silent);
    let refused = remove(&project, &name("gust"), None, &context);
    assert!(matches!(refused, Err(FlowError::Project(ProjectError::ChangedMeanwhile(_)))), "{refused:?}");
    assert_eq!(fs::read_to_string(world.path("console/yostel.toml")).unwrap(), theirs);
    remove(&world.project(), &name("gust"), None, &context).unwrap();
    assert!(!fs::read_to_string(world.path("console/yostel.toml")).unwrap().contains("gust"));
}
