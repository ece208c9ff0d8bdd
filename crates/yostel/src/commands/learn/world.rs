//! The made-up world, made: its registry and its projects.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use jiff::Timestamp;
use serde::Deserialize;
use yostel_documents::PackageName;
use yostel_files::FileError;
use yostel_flows::{
    Context, FlowError, PublishRequest, RegistryTarget, SayingWhat, Settings, Silent, create_registry, load_project,
    publish, say_of_release,
};
use yostel_registry::ReleaseRemarks;

/// Every file of the demo world: path, whether it is executable, content.
pub(super) const FILES: &[(&str, bool, &[u8])] = include!(concat!(env!("OUT_DIR"), "/demo_files.rs"));

/// What became of the releases, as `demo/history.toml` says.
#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) struct History {
    published: BTreeMap<String, String>,
    withdrawn: BTreeMap<String, Withdrawn>,
    deprecated: BTreeMap<String, Deprecated>,
}

#[derive(Deserialize)]
struct Withdrawn {
    on: String,
    why: String,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Deprecated {
    why: String,
    replaced_by: String,
}

/// Writes the demo's files and publishes every release at its date.
pub(super) fn make_world(root: &Path, settings: &Settings) -> Result<(), FlowError> {
    let made = tempfile::TempDir::new_in(root).map_err(FileError::when("write in", root))?;
    for (path, executable, content) in FILES {
        let target = match path.strip_prefix("projects/") {
            Some(project) => root.join(project),
            None => made.path().join(path),
        };
        let folder = target.parent().expect("every file has a folder");
        fs::create_dir_all(folder).map_err(FileError::when("make the folder", folder))?;
        fs::write(&target, content).map_err(FileError::when("write", &target))?;
        let mode = if *executable { 0o755 } else { 0o644 };
        let permissions = fs::Permissions::from_mode(mode);
        fs::set_permissions(&target, permissions).map_err(FileError::when("write", &target))?;
    }
    for folder in ["elsewhere", "bin"] {
        let path = root.join(folder);
        fs::create_dir_all(&path).map_err(FileError::when("make the folder", path))?;
    }
    let station = root.join("station");
    let registry = RegistryTarget::Folder(station.clone());
    create_registry(&registry, "station", settings)?;
    let history = read_history();
    let mut releases: Vec<(&String, &String)> = history.published.iter().map(|(label, date)| (date, label)).collect();
    releases.sort();
    for (date, label) in releases {
        let (name, version) = label.split_once(' ').expect("the history says name and version");
        let settings = Settings { now: day(date), ..settings.clone() };
        let package = load_project(&made.path().join("registry").join(name).join(version), &settings)?;
        let deprecated = history.deprecated.get(label);
        let remarks = ReleaseRemarks {
            platform: None,
            deprecated: deprecated.map(|deprecated| deprecated.why.clone()),
            replaced_by: deprecated.and_then(|deprecated| PackageName::parse(&deprecated.replaced_by).ok()),
        };
        // At its date, what it needs may not have been there yet.
        let request = PublishRequest { remarks, untried: true, ..PublishRequest::default() };
        publish(&package, &registry, &request, &Context::new(&settings, &Silent))?;
    }
    for (label, withdrawn) in &history.withdrawn {
        let (name, version) = label.split_once(' ').expect("the history says name and version");
        let name = PackageName::parse(name).expect("the history names packages");
        let settings = Settings { now: day(&withdrawn.on), ..settings.clone() };
        say_of_release(&registry, (&name, version), (SayingWhat::Withdrawn, &withdrawn.why), &settings)?;
    }
    let extras = made.path().join("registry-extras/advisories");
    for entry in fs::read_dir(&extras).map_err(FileError::when("read the folder", &extras))?.flatten() {
        let target = station.join("advisories").join(entry.file_name());
        fs::copy(entry.path(), &target).map_err(FileError::when("write", target))?;
    }
    yostel_flows::write_index(&station)?;
    Ok(())
}

pub(super) fn read_history() -> History {
    let (_, _, content) = FILES.iter().find(|(path, ..)| *path == "history.toml").expect("the demo has a history");
    let text = std::str::from_utf8(content).expect("the history is text");
    toml::from_str(text).expect("the history is read by a test")
}

pub(super) fn day(date: &str) -> Timestamp {
    format!("{date}T09:00:00Z").parse().expect("the history's dates are read by a test")
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn the_history_tells_of_every_release_in_the_world_and_of_no_other() {
        let history = read_history();
        assert!(history.published.values().all(|date| day(date).as_second() > 0));
        let told: BTreeSet<String> = history.published.keys().map(|label| label.replace(' ', "/")).collect();
        let there: BTreeSet<String> = FILES
            .iter()
            .filter_map(|(path, ..)| path.strip_prefix("registry/")?.strip_suffix("/yostel.toml"))
            .map(str::to_owned)
            .collect();
        assert_eq!(told, there);
        assert!(there.len() >= 60);
        let packages: BTreeSet<&str> = there.iter().map(|path| path.split('/').next().unwrap()).collect();
        assert!(packages.len() >= 20);
        for label in history.withdrawn.keys().chain(history.deprecated.keys()) {
            assert!(history.published.contains_key(label), "{label}");
        }
    }
}
