//! The flows, with an ear on what they do: an install with nothing to do fetches nothing and writes nothing.
//! The accident this prevents: the right result by needless work.

#![allow(clippy::disallowed_methods, reason = "worlds are set up and looked at by hand")]
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod moving;
mod planning;
mod saying;
mod sources;

use std::collections::BTreeMap;
use std::fs;
use std::path::PathBuf;
use std::sync::{Arc, Mutex};

use jiff::Timestamp;
use yostel_documents::PackageName;
use yostel_flows::{
    ContentError, Context, Counterfactual, DiskFiles, Environment, Event, Files, FlowClass, FlowError, InstallError,
    InstallRequest, Keep, LoadedProject, LockReport, LockRequest, Observer, OpenSource, PublishRequest, RealSources,
    RegistryTarget, SearchError, Settings, SettleRequest, Silent, Write, create_registry, environment, explain,
    install, load_project, lock, publish, settle, verify, where_is,
};
use yostel_versions::{Order, Version};

/// Writes down every event but the counting ones.
#[derive(Default)]
struct Ear(Mutex<Vec<String>>);

impl Observer for Ear {
    fn notice(&self, event: Event) {
        if !matches!(event, Event::Begin(..) | Event::Advance(_) | Event::End) {
            self.0.lock().unwrap().push(format!("{event:?}"));
        }
    }
}

impl Ear {
    fn heard(self) -> Vec<String> {
        let mut heard = self.0.into_inner().unwrap();
        heard.sort();
        heard
    }
}

/// A folder with a registry and a project.
struct World {
    folder: tempfile::TempDir,
    sources: Arc<dyn OpenSource>,
    files: Arc<dyn Files>,
}

impl World {
    /// Publishes packages, given as `name version: needs`, and writes the project's needs.
    fn new(releases: &[&str], needs: &str) -> Self {
        let world =
            Self { folder: tempfile::tempdir().unwrap(), sources: Arc::new(RealSources), files: Arc::new(DiskFiles) };
        create_registry(&RegistryTarget::Folder(world.path("station")), "station", &world.settings()).unwrap();
        for release in releases {
            let (label, needs) = release.split_once(':').unwrap_or((release, ""));
            let (name, version) = label.split_once(' ').unwrap();
            let folder = world.path(&format!("made/{}-{version}", name.replace('/', "+")));
            fs::create_dir_all(folder.join("bin")).unwrap();
            let needs = needs.replace(", ", "\n");
            let manifest = format!(
                "[project]\nname = \"{name}\"\nversion = \"{version}\"\n[needs.run]\n{needs}\n[offers]\nprograms = [\"bin\"]\nvariables = {{ MAPS = \"maps\" }}\n"
            );
            fs::write(folder.join("yostel.toml"), manifest).unwrap();
            fs::write(folder.join("bin/tool"), label).unwrap();
            let package = load_project(&folder, &world.settings()).unwrap();
            let settings = world.settings();
            let request = PublishRequest { untried: true, backport: true, ..PublishRequest::default() };
            let station = RegistryTarget::Folder(world.path("station"));
            publish(&package, &station, &request, &Context::new(&settings, &Silent)).unwrap();
        }
        world.declare(needs);
        world
    }

    fn declare(&self, needs: &str) {
        let text = format!(
            "[project]\nname = \"console\"\n[needs.run]\n{needs}\n[sources.station]\nfolder = \"../station\"\n"
        );
        fs::create_dir_all(self.path("console")).unwrap();
        fs::write(self.path("console/yostel.toml"), text).unwrap();
    }

    fn path(&self, relative: &str) -> PathBuf {
        self.folder.path().canonicalize().unwrap().join(relative)
    }

    fn settings(&self) -> Settings {
        Settings {
            cache: self.path("cache"),
            now: Timestamp::UNIX_EPOCH,
            platform: "linux/amd64".into(),
            tool: Version::parse("0.1.0", &Order::Semver).unwrap(),
            patience: yostel_flows::Patience::default(),
            credentials: std::sync::Arc::new(yostel_sources::NoCredentials),
            offline: false,
            sources: self.sources.clone(),
            files: self.files.clone(),
            journal: Default::default(),
        }
    }

    fn project(&self) -> LoadedProject {
        load_project(&self.path("console"), &self.settings()).unwrap()
    }

    fn lock(&self, keep: Keep, write: Write) -> (Result<LockReport, FlowError>, Vec<String>) {
        let ear = Ear::default();
        let report = lock(
            &self.project(),
            LockRequest { keep, write, ..LockRequest::default() },
            &Context::new(&self.settings(), &ear),
        );
        (report, ear.heard())
    }

    fn install(&self, offline: bool) -> (Result<yostel_flows::InstallReport, FlowError>, Vec<String>) {
        let ear = Ear::default();
        let report = install(
            &self.project(),
            &InstallRequest { offline, ..InstallRequest::default() },
            &Context::new(&self.settings(), &ear),
        );
        (report, ear.heard())
    }
}

const RELEASES: [&str; 5] =
    ["gust 2.0.0: unit = '^1'", "gust 2.1.0: unit = '^1'", "unit 1.0.0", "unit 2.0.0", "valley/map 1.0.0"];

#[test]
fn only_what_is_missing_is_fetched_and_a_second_time_nothing_is_done() {
    let world = World::new(&RELEASES, "gust = '=2.0.0'");
    let (report, heard) = world.lock(Keep::Locked, Write::File);
    assert_eq!(report.unwrap().moves.len(), 2);
    assert_eq!(heard, ["Ask(1)", "Ask(1)", "Write(\"yostel.lock\")"]);
    assert_eq!(world.lock(Keep::Locked, Write::File).1, [""; 0], "no source is asked, nothing is written");

    let (report, heard) = world.install(false);
    assert_eq!(report.unwrap().fetched.len(), 2);
    assert_eq!(heard, ["Fetch(gust)", "Fetch(unit)", "Unpack(gust)", "Unpack(unit)"]);
    let (report, heard) = world.install(false);
    assert!(report.unwrap().done.is_none());
    assert_eq!(heard, [""; 0]);

    fs::remove_dir_all(world.path("console/.yostel")).unwrap();
    let (report, heard) = world.install(false);
    assert_eq!(report.unwrap().done.unwrap().placed.len(), 2);
    assert_eq!(heard, [""; 0], "all from the cache: nothing fetched, nothing unpacked");

    world.declare("gust = '^2'\n'valley/map' = '^1'");
    assert_eq!(world.lock(Keep::Nothing, Write::File).1.last().unwrap(), "Write(\"yostel.lock\")");
    let (report, heard) = world.install(false);
    let report = report.unwrap();
    assert_eq!(heard, ["Fetch(gust)", "Fetch(valley/map)", "Unpack(gust)", "Unpack(valley/map)"]);
    assert_eq!(report.done.unwrap().removed, 1);
}

#[test]
fn a_preview_tells_the_same_moves_and_writes_nothing() {
    let world = World::new(&RELEASES, "gust = '^2'");
    let (preview, heard) = world.lock(Keep::Locked, Write::Nothing);
    let preview = preview.unwrap();
    assert!(preview.changed && !preview.written && !heard.iter().any(|event| event.starts_with("Write")));
    assert!(!preview.path.exists());
    let (written, _) = world.lock(Keep::Locked, Write::File);
    assert_eq!(written.unwrap().moves, preview.moves);
}

#[test]
fn a_full_cache_needs_no_source_and_an_empty_one_says_what_it_lacks() {
    let world = World::new(&RELEASES, "gust = '^2'");
    world.lock(Keep::Locked, Write::File).0.unwrap();
    let (refused, heard) = world.install(true);
    assert!(
        matches!(refused, Err(FlowError::Content(ContentError::NotInCache(ref missing))) if missing.len() == 2),
        "{refused:?}"
    );
    assert_eq!(heard, [""; 0]);
    assert!(!world.path("console/.yostel").exists() && !world.path("cache").exists());
    world.install(false).0.unwrap();
    fs::remove_dir_all(world.path("console/.yostel")).unwrap();
    fs::remove_dir_all(world.path("station")).unwrap();
    world.install(true).0.unwrap();
    fs::remove_dir_all(world.path("console/.yostel")).unwrap();
    world.install(false).0.unwrap();
    assert!(
        verify(&world.project(), yostel_store::Trust::Nothing, &Context::new(&world.settings(), &Silent))
            .unwrap()
            .differences
            .is_empty()
    );
}

#[test]
fn every_failing_package_is_told_not_just_the_first() {
    let world = World::new(&RELEASES, "gust = '^2'\n'valley/map' = '^1'");
    world.lock(Keep::Locked, Write::File).0.unwrap();
    for entry in fs::read_dir(world.path("station/archives/sha256")).unwrap() {
        fs::write(entry.unwrap().path(), "other").unwrap();
    }
    let Err(FlowError::Several(errors)) = world.install(false).0 else { panic!("three archives differ") };
    assert_eq!(errors.len(), 3);
    assert!(errors.iter().all(|error| error.class() == FlowClass::Integrity));
}

#[test]
fn a_collision_knows_the_lines_of_its_requirements() {
    let world = World::new(&RELEASES, "gust = '^2'\nunit = '^2'");
    let Err(FlowError::Search(SearchError::Collision { places, .. })) = world.lock(Keep::Locked, Write::File).0 else {
        panic!()
    };
    let lines: Vec<(usize, &str)> =
        places.iter().map(|place| (place.line, place.requirement.package.as_str())).collect();
    assert_eq!(lines, [(4, "gust"), (5, "unit")]);
}

#[test]
fn the_environment_has_programs_of_direct_needs_and_variables_of_all() {
    let world = World::new(&["aaa 1.0.0", "zzz 1.0.0: aaa = '*'"], "zzz = '*'");
    world.lock(Keep::Locked, Write::File).0.unwrap();
    assert!(matches!(
        environment(&world.project(), &Context::new(&world.settings(), &Silent)),
        Err(FlowError::Install(InstallError::NotInstalled))
    ));
    world.install(false).0.unwrap();
    let Environment { prepend, .. } = environment(&world.project(), &Context::new(&world.settings(), &Silent)).unwrap();
    let names: BTreeMap<&str, Vec<bool>> = prepend
        .iter()
        .map(|(variable, folders)| {
            (variable.as_str(), folders.iter().map(|f| f.to_string_lossy().contains("/zzz/")).collect())
        })
        .collect();
    assert_eq!(names, BTreeMap::from([("MAPS", vec![true, false]), ("PATH", vec![true])]));
    let folder =
        where_is(&world.project(), &PackageName::parse("aaa").unwrap(), &Context::new(&world.settings(), &Silent))
            .unwrap();
    assert_eq!(fs::read_to_string(folder.join("bin/tool")).unwrap(), "aaa 1.0.0");
}

#[test]
fn a_settlement_edits_the_manifest_and_locks_what_it_showed() {
    let world = World::new(&RELEASES, "gust = '^2'  # calibrated\nunit = '^2'");
    let ear = Ear::default();
    let settlements =
        settle(&world.project(), &SettleRequest::default(), &Context::new(&world.settings(), &ear)).unwrap().unwrap();
    assert!(!ear.heard().iter().any(|event| event.starts_with("Write")), "looking writes nothing");
    assert_eq!(settlements.all[0].needs.len() + settlements.all[0].rules.len(), 1);
    settlements.all[0].proposal.apply(&world.project(), &Context::new(&world.settings(), &Silent)).unwrap();
    let (_, after) = &settlements.all[0].proposal.manifests()["yostel.toml"];
    assert_eq!(fs::read_to_string(world.path("console/yostel.toml")).unwrap(), *after);
    assert!(after.contains("# calibrated"));
    let (report, heard) = world.lock(Keep::Locked, Write::File);
    assert_eq!(
        (report.unwrap().seal, heard),
        (settlements.all[0].proposal.lockfile().seal(), vec![]),
        "the lock was fresh"
    );
    assert!(
        settle(&world.project(), &SettleRequest::default(), &Context::new(&world.settings(), &Silent))
            .unwrap()
            .is_none()
    );
}

#[test]
fn a_settlement_that_cannot_be_locked_puts_the_manifest_back() {
    let world = World::new(&RELEASES, "gust = '^2'\nunit = '^2'");
    let settlements = settle(&world.project(), &SettleRequest::default(), &Context::new(&world.settings(), &Silent))
        .unwrap()
        .unwrap();
    let before = fs::read_to_string(world.path("console/yostel.toml")).unwrap();
    // A folder in the lockfile's place cannot be replaced by a file.
    fs::create_dir_all(world.path("console/yostel.lock/in-the-way")).unwrap();
    let refused = settlements.all[0].proposal.apply(&world.project(), &Context::new(&world.settings(), &Silent));
    assert!(matches!(refused, Err(FlowError::Project(yostel_flows::ProjectError::Read { .. }))), "{refused:?}");
    assert_eq!(fs::read_to_string(world.path("console/yostel.toml")).unwrap(), before);
}

#[test]
fn explaining_tells_what_another_version_would_move_without_moving_it() {
    let world = World::new(&RELEASES, "gust = '*'");
    world.lock(Keep::Locked, Write::File).0.unwrap();
    let before = fs::read_to_string(world.path("console/yostel.lock")).unwrap();
    let gust = PackageName::parse("gust").unwrap();
    let ask = |version| explain(&world.project(), &gust, Some(version), &Context::new(&world.settings(), &Silent));
    let instead = ask("2.0.0").unwrap().instead.unwrap();
    assert!(matches!(instead.outcome, Counterfactual::Possible(ref moves) if moves.len() == 1), "{instead:?}");
    let unit = PackageName::parse("unit").unwrap();
    let report = explain(&world.project(), &unit, Some("2.0.0"), &Context::new(&world.settings(), &Silent)).unwrap();
    let Counterfactual::Impossible { collision, demand, .. } = report.instead.unwrap().outcome else { panic!() };
    assert!(collision.requirements.contains(&demand) && collision.requirements.len() == 2);
    assert!(matches!(ask("9.9.9"), Err(FlowError::Search(SearchError::NoSuchVersion { .. }))));
    assert!(matches!(ask("nonsense"), Err(FlowError::Search(SearchError::NoSuchVersion { .. }))));
    assert_eq!(fs::read_to_string(world.path("console/yostel.lock")).unwrap(), before);
}
