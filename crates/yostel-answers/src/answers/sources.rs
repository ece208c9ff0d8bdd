//! Answers of `sources`.

use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;
use yostel_documents::{SourceName, SourcePlace};
use yostel_flows::{SourceAdded, SourceDoubt, SourceRemoved, SourceSeen};

use super::Told;

/// Names what stands in the way of asking a source.
pub(super) fn doubt(doubt: SourceDoubt) -> &'static str {
    match doubt {
        SourceDoubt::NoFolder => "no-folder",
        SourceDoubt::NoRegistry => "no-registry",
    }
}

/// Lists the addresses of a source.
fn urls(place: &SourcePlace) -> Vec<String> {
    match place {
        SourcePlace::Folder(_) => Vec::new(),
        SourcePlace::Web(addresses) => addresses.iter().map(ToString::to_string).collect(),
        SourcePlace::Oci(places) => places.iter().map(ToString::to_string).collect(),
    }
}

/// Answer of `sources`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct SourcesAnswer {
    /// The sources of the manifest, by name.
    pub sources: Vec<SourceTold>,
}

/// A source of the manifest.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct SourceTold {
    /// Its name.
    pub name: String,
    /// The registry's folder, relative to the manifest's; null when it is on web servers.
    pub folder: Option<String>,
    /// The addresses at which it is, in the order in which they are tried; empty when it is in a folder.
    pub urls: Vec<String>,
    /// Names that come from here and nowhere else; a name, or a level and `/*`.
    pub reserves: Vec<String>,
    /// Why it cannot be asked: `no-folder` or `no-registry`; null when it can, or was not tried.
    pub source_doubt: Option<&'static str>,
    /// How many packages it has; null when it cannot be asked, and for one on web servers.
    pub packages: Option<usize>,
    /// How many locked packages come from it.
    pub locked: usize,
}

impl Told for SourcesAnswer {
    const COMMAND: &'static str = "sources";
}

impl SourcesAnswer {
    /// Lists sources.
    pub fn of(sources: &[SourceSeen]) -> Self {
        let one = |seen: &SourceSeen| SourceTold {
            name: seen.name.to_string(),
            folder: seen.place.folder().map(str::to_owned),
            urls: urls(&seen.place),
            reserves: seen.reserves.iter().map(ToString::to_string).collect(),
            source_doubt: seen.doubt.map(doubt),
            packages: seen.packages,
            locked: seen.locked,
        };
        Self { sources: sources.iter().map(one).collect() }
    }
}

/// Answer of `sources add`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct SourceAddedAnswer {
    /// The manifest that was edited.
    pub manifest: PathBuf,
    /// The source.
    pub source: String,
    /// The registry's folder, relative to the manifest's, or its address.
    pub place: String,
    /// The folder or address that the manifest had for this name; null when it is new.
    pub before: Option<String>,
    /// Why it cannot be asked yet: `no-folder` or `no-registry`; null when it can.
    pub source_doubt: Option<&'static str>,
}

impl Told for SourceAddedAnswer {
    const COMMAND: &'static str = "sources add";
}

impl SourceAddedAnswer {
    /// Tells of a source that was named.
    pub fn of(added: &SourceAdded, name: &SourceName) -> Self {
        Self {
            manifest: added.path.clone(),
            source: name.to_string(),
            place: added.place.to_string(),
            before: added.before.as_ref().map(ToString::to_string),
            source_doubt: added.doubt.map(doubt),
        }
    }
}

/// Answer of `sources remove`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct SourceRemovedAnswer {
    /// The manifest that was edited.
    pub manifest: PathBuf,
    /// The source.
    pub source: String,
    /// The folder or address that the manifest had for it.
    pub place: String,
    /// How many locked packages come from it.
    pub locked: usize,
}

impl Told for SourceRemovedAnswer {
    const COMMAND: &'static str = "sources remove";
}

impl SourceRemovedAnswer {
    /// Tells of a source that was taken out.
    pub fn of(removed: &SourceRemoved, name: &SourceName) -> Self {
        Self {
            manifest: removed.path.clone(),
            source: name.to_string(),
            place: removed.place.to_string(),
            locked: removed.locked,
        }
    }
}
