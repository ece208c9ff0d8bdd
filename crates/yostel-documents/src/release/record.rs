//! A release's record: what its author published. It is kept as it is, and digested in its canonical form.

use std::collections::BTreeMap;
use std::sync::{Arc, OnceLock};

use jiff::Timestamp;
use serde::de::{Error, IgnoredAny, MapAccess};
use serde::{Deserialize, Deserializer, Serialize};
use yostel_versions::{ConstraintText, Numbering, Version};

use super::{Artifact, Offers, Release, add_artifact, check_offered_path, check_platform, check_variable};
use crate::digest::{ArchiveDigest, RecordDigest, TreeDigest};
use crate::json::{Entries, Looked, Object, Text, canonical, check_whole, read_as_objects, read_object};
use crate::made_from::{MadeFrom, check_commit, check_repository};
use crate::name::{PackageName, Purpose, Word};

/// A record. Two are equal when their canonical forms are.
#[derive(Debug, Clone)]
pub(super) struct Record {
    text: Arc<str>,
    /// Computed when it is first asked for: of most releases that are read, nobody asks.
    digest: OnceLock<RecordDigest>,
}

impl PartialEq for Record {
    fn eq(&self, other: &Self) -> bool {
        self.digest() == other.digest()
    }
}

impl Eq for Record {}

/// What this version knows of a record. What else is there is a later version's; it counts in the digest.
#[derive(Default, Serialize)]
struct RawRecord<'t> {
    version: Text<'t>,
    published: Timestamp,
    #[serde(skip_serializing_if = "Entries::is_empty")]
    needs: Entries<'t, Entries<'t, Text<'t>>>,
    #[serde(skip_serializing_if = "Offers::is_empty")]
    offers: Offers,
    #[serde(skip_serializing_if = "Option::is_none")]
    licence: Option<Text<'t>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    notes: Option<Text<'t>>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    identities: Vec<Text<'t>>,
    #[serde(rename = "made-from", skip_serializing_if = "Option::is_none")]
    made_from: Option<RawMadeFrom<'t>>,
    artifacts: Vec<RawArtifact<'t>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    content: Option<Text<'t>>,
}

impl<'t> Object<'t> for RawRecord<'t> {
    const MUST: &'static [&'static str] = &["version", "published", "artifacts"];

    fn member<A: MapAccess<'t>>(&mut self, name: &str, members: &mut A) -> Result<(), A::Error> {
        match name {
            "version" => self.version = members.next_value()?,
            "published" => self.published = members.next_value()?,
            "needs" => self.needs = members.next_value()?,
            "offers" => self.offers = members.next_value::<RawOffers>()?.0,
            "licence" => self.licence = members.next_value()?,
            "notes" => self.notes = members.next_value()?,
            "identities" => self.identities = members.next_value()?,
            "made-from" => self.made_from = members.next_value()?,
            "artifacts" => self.artifacts = members.next_value()?,
            "content" => self.content = members.next_value()?,
            _ => members.next_value_seed(Looked)?,
        }
        Ok(())
    }
}

/// What a record that was checked needs, and nothing else of it.
#[derive(Default)]
struct RawNeeds<'t>(Entries<'t, Entries<'t, Text<'t>>>);

impl<'t> Object<'t> for RawNeeds<'t> {
    const MUST: &'static [&'static str] = &[];

    fn member<A: MapAccess<'t>>(&mut self, name: &str, members: &mut A) -> Result<(), A::Error> {
        match name {
            "needs" => self.0 = members.next_value()?,
            _ => drop(members.next_value::<IgnoredAny>()?),
        }
        Ok(())
    }
}

read_as_objects!(RawRecord, RawNeeds, RawArtifact, RawMadeFrom);

/// What a release was made from, as documents have it.
#[derive(Debug, Default, Serialize)]
struct RawMadeFrom<'t> {
    repository: Text<'t>,
    #[serde(skip_serializing_if = "Option::is_none")]
    commit: Option<Text<'t>>,
}

impl<'t> Object<'t> for RawMadeFrom<'t> {
    const MUST: &'static [&'static str] = &["repository"];

    fn member<A: MapAccess<'t>>(&mut self, name: &str, members: &mut A) -> Result<(), A::Error> {
        match name {
            "repository" => self.repository = members.next_value()?,
            "commit" => self.commit = members.next_value()?,
            _ => members.next_value_seed(Looked)?,
        }
        Ok(())
    }
}

impl<'t> RawMadeFrom<'t> {
    fn of(made_from: &'t MadeFrom) -> Self {
        Self { repository: Text::from(&*made_from.repository), commit: made_from.commit.as_deref().map(Text::from) }
    }

    /// Reads it; nothing where it tells nobody anything, which is no reason to refuse a release.
    fn read(&self) -> Option<MadeFrom> {
        check_repository(&self.repository).ok()?;
        let commit = self.commit.as_deref().filter(|commit| check_commit(commit).is_ok());
        Some(MadeFrom { repository: self.repository.to_string(), commit: commit.map(str::to_owned) })
    }
}

/// What is offered, as records have it.
#[derive(Default)]
struct RawOffers(Offers);

impl<'t> Object<'t> for RawOffers {
    const MUST: &'static [&'static str] = &[];

    fn member<A: MapAccess<'t>>(&mut self, name: &str, members: &mut A) -> Result<(), A::Error> {
        match name {
            "roles" => {
                let roles: Vec<Text<'t>> = members.next_value()?;
                let roles: Result<_, _> = roles.iter().map(|role| Word::parse(role)).collect();
                self.0.roles = roles.map_err(A::Error::custom)?;
            }
            "programs" => self.0.programs = members.next_value()?,
            "variables" => {
                let variables: Entries<'t, String> = members.next_value()?;
                self.0.variables = variables.iter().map(|(name, value)| (name.to_string(), value.clone())).collect();
            }
            "mentions" => self.0.mentions = members.next_value()?,
            _ => members.next_value_seed(Looked)?,
        }
        Ok(())
    }
}

impl<'de> Deserialize<'de> for RawOffers {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        read_object(deserializer)
    }
}

/// An artifact as documents have it.
#[derive(Debug, Default, Serialize)]
pub(super) struct RawArtifact<'t> {
    platform: Text<'t>,
    digest: Text<'t>,
    size: u64,
    tree: Text<'t>,
}

impl<'t> Object<'t> for RawArtifact<'t> {
    const MUST: &'static [&'static str] = &["platform", "digest", "size", "tree"];

    fn member<A: MapAccess<'t>>(&mut self, name: &str, members: &mut A) -> Result<(), A::Error> {
        match name {
            "platform" => self.platform = members.next_value()?,
            "digest" => self.digest = members.next_value()?,
            "size" => {
                self.size = members.next_value()?;
                check_whole(self.size)?;
            }
            "tree" => self.tree = members.next_value()?,
            _ => members.next_value_seed(Looked)?,
        }
        Ok(())
    }
}

impl<'t> RawArtifact<'t> {
    pub(super) fn of(artifact: &'t Artifact) -> Self {
        Self {
            platform: Text::from(&*artifact.platform),
            digest: artifact.digest.to_string().into(),
            size: artifact.size,
            tree: artifact.tree.to_string().into(),
        }
    }

    pub(super) fn read(&self) -> Result<Artifact, String> {
        check_platform(&self.platform)
            .map_err(|reason| format!("artifact for `{}`: {reason}", self.platform.escape_debug()))?;
        Ok(Artifact {
            platform: self.platform.to_string(),
            digest: ArchiveDigest::parse(&self.digest).map_err(|error| error.to_string())?,
            size: self.size,
            tree: TreeDigest::parse(&self.tree).map_err(|error| error.to_string())?,
        })
    }
}

/// What was met in a document: most releases of a package repeat what those before them say, so each text is read once.
#[derive(Debug, Default)]
pub(super) struct Met {
    purposes: BTreeMap<String, Word>,
    names: BTreeMap<String, PackageName>,
    constraints: BTreeMap<String, ConstraintText>,
    traits: Option<Arc<Traits>>,
}

/// Returns what a text was read as, reading it the first time.
fn once<T: Clone, E: std::fmt::Display>(
    met: &mut BTreeMap<String, T>,
    text: &str,
    parse: impl FnOnce(&str) -> Result<T, E>,
) -> Result<T, String> {
    if let Some(known) = met.get(text) {
        return Ok(known.clone());
    }
    let read = parse(text).map_err(|error| error.to_string())?;
    met.insert(text.to_owned(), read.clone());
    Ok(read)
}

/// Why a record cannot be read.
pub(super) enum RecordError {
    /// It is not of the right shape.
    Shape(serde_json::Error),
    /// A part breaks a rule; the version as written.
    Part(String, String),
}

/// What a record says that decides whether anybody looks at the rest of it.
pub(super) struct Seen {
    pub(super) version: Version,
    pub(super) published: Timestamp,
    pub(super) traits: Arc<Traits>,
}

/// What most releases of a package have in common.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Traits {
    /// On which a release has something; none when it is a local package, which is there for every platform.
    pub(super) platforms: Vec<String>,
    pub(super) identities: Vec<String>,
    pub(super) roles: Vec<Word>,
}

impl Record {
    /// Writes down a release as it is.
    pub(super) fn of(release: &Release) -> Self {
        let entries = |needs: &'_ BTreeMap<PackageName, ConstraintText>| {
            needs.iter().map(|(name, accept)| (name.to_string().into(), accept.to_string().into())).collect()
        };
        let raw = RawRecord {
            version: Text::from(release.version.as_str()),
            published: release.published,
            needs: release.needs.iter().map(|(purpose, needs)| (purpose.to_string().into(), entries(needs))).collect(),
            offers: release.offers.clone(),
            licence: release.licence.as_deref().map(Text::from),
            notes: release.notes.as_deref().map(Text::from),
            identities: release.identities.iter().map(|identity| Text::from(&**identity)).collect(),
            made_from: release.made_from.as_ref().map(RawMadeFrom::of),
            artifacts: release.artifacts.iter().map(RawArtifact::of).collect(),
            content: release.content.map(|digest| digest.to_string().into()),
        };
        let text = serde_json::to_string(&raw).expect("maps with text keys always serialise");
        Self { text: text.into(), digest: OnceLock::new() }
    }

    /// Looks whether a text is a record, whole.
    pub(super) fn check(text: &str, numbering: &Numbering, met: &mut Met) -> Result<Seen, RecordError> {
        let raw: RawRecord<'_> = serde_json::from_str(text).map_err(RecordError::Shape)?;
        raw.check(numbering, met).map_err(|reason| RecordError::Part(raw.version.to_string(), reason))
    }

    /// Reads the release that a record describes which was checked before, and whose version is known from then.
    pub(super) fn release(text: &str, version: Version, met: &mut Met) -> Release {
        let raw: RawRecord<'_> = serde_json::from_str(text).expect(SEEN);
        let release = raw.release(version, met).expect(SEEN);
        Release { record: Some(Self { text: text.into(), digest: OnceLock::new() }), ..release }
    }

    /// Reads what a record that was checked before needs for a purpose, by name.
    pub(super) fn needs(text: &str, purpose: &Purpose) -> Vec<(PackageName, ConstraintText)> {
        let raw: RawNeeds<'_> = serde_json::from_str(text).expect(SEEN);
        let entries =
            raw.0.iter().filter(|(named, _)| **named == *purpose.as_str()).flat_map(|(_, needs)| needs.iter());
        let read = |name: &str, accept: &str| (PackageName::parse(name).ok(), ConstraintText::parse(accept).ok());
        let mut needs: Vec<_> = entries
            .map(|(name, accept)| match read(name, accept) {
                (Some(name), Some(accept)) => (name, accept),
                _ => unreachable!("{SEEN}"),
            })
            .collect();
        needs.sort_by(|(a, _), (b, _)| a.cmp(b));
        needs
    }

    pub(super) fn text(&self) -> &str {
        &self.text
    }

    pub(super) fn digest(&self) -> RecordDigest {
        let compute = || canonical(&self.text).expect(SEEN);
        *self.digest.get_or_init(|| RecordDigest::of(compute().as_bytes()))
    }
}

const SEEN: &str = "that it is a record, and has a canonical form, was seen when it was checked or made";

impl RawRecord<'_> {
    fn check(&self, numbering: &Numbering, met: &mut Met) -> Result<Seen, String> {
        for (purpose, entries) in self.needs.iter() {
            once(&mut met.purposes, purpose, Word::parse)?;
            for (name, accept) in entries.iter() {
                once(&mut met.names, name, PackageName::parse)?;
                once(&mut met.constraints, accept, ConstraintText::parse)?;
            }
        }
        for path in self.offers.programs.iter().chain(self.offers.variables.values()) {
            check_offered_path(path).map_err(|reason| format!("offers `{}`: {reason}", path.escape_debug()))?;
        }
        for name in self.offers.variables.keys() {
            check_variable(name).map_err(|reason| format!("offers `{}`: {reason}", name.escape_debug()))?;
        }
        let version = numbering.parse_version(&self.version).map_err(|error| error.to_string())?;
        self.content()?;
        let traits = Traits {
            platforms: self.artifacts()?.into_iter().map(|artifact| artifact.platform).collect(),
            identities: self.identities.iter().map(|identity| identity.to_string()).collect(),
            roles: self.offers.roles.clone(),
        };
        let traits = match &met.traits {
            Some(met) if **met == traits => met.clone(),
            _ => met.traits.insert(Arc::new(traits)).clone(),
        };
        Ok(Seen { version, published: self.published, traits })
    }

    /// Reads the artifacts, sorted by platform.
    fn artifacts(&self) -> Result<Vec<Artifact>, String> {
        if self.artifacts.is_empty() {
            return Err("it has no artifact".into());
        }
        let mut artifacts = Vec::with_capacity(self.artifacts.len());
        self.artifacts.iter().try_for_each(|artifact| add_artifact(&mut artifacts, artifact.read()?))?;
        Ok(artifacts)
    }

    fn content(&self) -> Result<Option<TreeDigest>, String> {
        self.content.as_deref().map(TreeDigest::parse).transpose().map_err(|error| error.to_string())
    }

    fn release(self, version: Version, met: &mut Met) -> Result<Release, String> {
        let (artifacts, content) = (self.artifacts()?, self.content()?);
        let mut needs = BTreeMap::new();
        for (purpose, entries) in self.needs.iter() {
            let mut accepted = BTreeMap::new();
            for (name, accept) in entries.iter() {
                let name = once(&mut met.names, name, PackageName::parse)?;
                accepted.insert(name, once(&mut met.constraints, accept, ConstraintText::parse)?);
            }
            needs.insert(once(&mut met.purposes, purpose, Word::parse)?, accepted);
        }
        Ok(Release {
            published: self.published,
            licence: self.licence.map(Text::into_owned),
            identities: self.identities.into_iter().map(Text::into_owned).collect(),
            made_from: self.made_from.as_ref().and_then(RawMadeFrom::read),
            notes: self.notes.map(Text::into_owned),
            content,
            ..Release::unpublished(version, needs, self.offers, artifacts)
        })
    }
}
