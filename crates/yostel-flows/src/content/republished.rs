//! A release that was published again with other content: recognised for what it is, and what differs.

use yostel_documents::{Artifact, Lockfile, PackageName};
use yostel_sources::{Source, SourceSet, document_of};
use yostel_store::{UnpackConfig, changes_between};
use yostel_versions::Version;

use crate::content::fetch::{fetch, place_of};
use crate::context::Context;
use crate::error::{Republished, Seen};

/// Archives longer than this are not fetched just to tell what differs.
const MOST_FETCHED: u64 = 64 << 20;

/// Tells of a release what was locked and what is offered. What differs is found out where the cache has what was locked;
/// the other is fetched aside for that and thrown away.
pub(crate) fn republished(
    (package, version): (&PackageName, &Version),
    locked: &Artifact,
    offered: &Artifact,
    source: &dyn Source,
    context: &Context<'_>,
) -> Republished {
    let changes = || {
        let listing =
            context.cache.is_tree_sound(locked.tree).then(|| context.cache.listing(locked.tree).ok()).flatten()?;
        if offered.size > MOST_FETCHED {
            return None;
        }
        let archive = fetch(source, (package, version), offered, context).ok()?;
        let tree = context.cache.stage_tree(offered, Some(&archive), UnpackConfig::default(), None).ok()?;
        let (old, new) = (context.cache.tree(locked.tree).ok()?, tree.files().ok()?);
        changes_between((&old, &listing), (&new, &tree.listing().ok()?)).ok()
    };
    Republished {
        package: package.clone(),
        version: version.clone(),
        locked: locked.clone(),
        offered: offered.clone(),
        place: place_of(source),
        seen: Seen::of(&context.cache, locked),
        changes: changes(),
    }
}

/// Looks whether the source offers a release with other content than was locked.
pub(crate) fn find_republished(
    (package, version): (&PackageName, &Version),
    locked: &Artifact,
    source: &dyn Source,
    context: &Context<'_>,
) -> Option<Republished> {
    let document = document_of(source, package).ok()??.document;
    let offered = other_content(locked, &document.release(version)?.artifacts)?;
    Some(republished((package, version), locked, offered, source, context))
}

/// Finds the artifact that is where this one was and is another.
pub(crate) fn other_content<'a>(locked: &Artifact, offered: &'a [Artifact]) -> Option<&'a Artifact> {
    let same_place = offered.iter().find(|artifact| artifact.platform == locked.platform);
    same_place.or(offered.first()).filter(|artifact| artifact.digest != locked.digest)
}

/// Tells of every release that a new lockfile would take at the same version and with other content.
pub(crate) fn all_republished(
    before: &Lockfile,
    after: &Lockfile,
    sources: &SourceSet,
    context: &Context<'_>,
) -> Vec<Republished> {
    let mut told = Vec::new();
    for (package, was) in before.chosen.iter() {
        let Some(is) = after.chosen.at(package, &was.version) else { continue };
        let pair = was.artifacts.iter().find_map(|locked| Some((locked, other_content(locked, &is.artifacts)?)));
        if let (Some((locked, offered)), Some(source)) = (pair, is.from.source().and_then(|name| sources.source(name)))
        {
            told.push(republished((package, &is.version), locked, offered, source, context));
        }
    }
    told
}
