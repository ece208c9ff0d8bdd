//! How a project was installed, and what of it.

use yostel_documents::{PackageName, Purpose};
use yostel_store::{Cache, Placing, Project, ProjectRecord};

use crate::context::Settings;
use crate::plan::compose::Selection;

/// Tells how the project was installed, and what of it; as it would be now, when that is not known.
pub(crate) fn as_installed(target: &Project, cache: &Cache, settings: &Settings) -> (Placing, Selection) {
    match target.record(cache) {
        Some(record) if !record.platform.is_empty() => (record.placing, selection_of(&record)),
        _ => (Placing::default(), Selection::all_for(&settings.platform)),
    }
}

pub(crate) fn selection_of(record: &ProjectRecord) -> Selection {
    Selection {
        platform: record.platform.clone(),
        purposes: record.purposes.iter().filter_map(|purpose| Purpose::parse(purpose).ok()).collect(),
        projects: record.projects.iter().filter_map(|name| PackageName::parse(name).ok()).collect(),
    }
}
