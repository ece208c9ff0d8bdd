//! Fetching archives from sources, and saying what came of it.

use std::path::Path;

use yostel_documents::{Artifact, PackageName};
use yostel_sources::Source;
use yostel_store::{AdmitError, Cache, StagedArchive};
use yostel_versions::Version;

use crate::context::{Context, Settings};
use crate::error::{ContentError, FlowError, Seen};
use crate::observer::{Event, Stoppable};

/// Fetches an archive from its source, aside.
pub(crate) fn fetch(
    source: &dyn Source,
    (name, version): (&PackageName, &Version),
    artifact: &Artifact,
    context: &Context<'_>,
) -> Result<StagedArchive, FlowError> {
    context.observer.notice(Event::Fetch(name.clone()));
    let mut stream = Stoppable { stream: source.open(name, artifact, 0)?, observer: context.observer };
    let staged =
        context.cache.stage_archive(artifact, &mut stream, |bytes| context.observer.notice(Event::Advance(bytes)));
    staged.map_err(refused_by((name, Some(version)), artifact, &context.cache, place_of(source)))
}

/// Says which release was refused, and when its right content was last here.
pub(crate) fn refused_by<'a>(
    (name, version): (&'a PackageName, Option<&'a Version>),
    artifact: &'a Artifact,
    cache: &'a Cache,
    place: String,
) -> impl FnOnce(AdmitError) -> FlowError + 'a {
    move |error| {
        let seen = Seen::of(cache, artifact);
        ContentError::Admit { package: name.clone(), version: version.cloned(), place, seen, error }.into()
    }
}

pub(crate) fn place_of(source: &dyn Source) -> String {
    format!("source {}, {}", source.name(), source.place())
}

/// Notes in the cache that a release is used. Nothing depends on a note, so one that cannot be written stops nothing.
pub(crate) fn note_use(cache: &Cache, release: [&str; 3], artifact: &Artifact, by: &Path, settings: &Settings) {
    let [name, version, from] = release;
    if let Err(error) = cache.note_use((name, version, from), artifact, by, settings.now.as_second()) {
        tracing::warn!(%error, "a note was not written");
    }
}
