//! A release in the list of its package: what decides whether anybody looks at it closer is at hand, and the rest stays text
//! until somebody does.

use std::sync::{Arc, OnceLock};

use jiff::Timestamp;
use yostel_versions::{ConstraintText, Version};

use super::packed::Packed;
use super::record::{Met, Record, Seen, Traits};
use super::{ANY_PLATFORM, Release, Withdrawal};
use crate::json::quoted;
use crate::name::{PackageName, Purpose, Word};

/// A release, as far as it is known without reading the rest of its record.
#[derive(Debug, Clone)]
pub struct ListedRelease {
    /// Its version.
    pub version: Version,
    /// When it was published.
    pub published: Timestamp,
    /// Shared by all releases of a document that have the same.
    traits: Arc<Traits>,
    /// Its record, where that stands alone; else all of it was read at once.
    record: Option<Packed>,
    /// All of it, once it is read.
    whole: OnceLock<Arc<Release>>,
}

impl ListedRelease {
    /// Takes what was seen of a record that stands alone, and that.
    pub(super) fn unread(seen: Seen, record: Packed) -> Self {
        let Seen { version, published, traits } = seen;
        Self { version, published, traits, record: Some(record), whole: OnceLock::new() }
    }

    /// Returns all of it.
    pub fn whole(&self) -> &Arc<Release> {
        self.whole.get_or_init(|| {
            let record = self.record.as_ref().expect("what has no record was read at once");
            Arc::new(Record::release(&record.text(), self.version.clone(), &mut Met::default()))
        })
    }

    /// Returns what it needs for a purpose, by name. Of a large project many are asked and few are chosen, so nothing is kept
    /// of what is read for this alone.
    pub fn needs(&self, purpose: &Purpose) -> Vec<(PackageName, ConstraintText)> {
        match (self.whole.get(), &self.record) {
            (None, Some(record)) => Record::needs(&record.text(), purpose),
            _ => {
                let needs = self.whole().needs.get(purpose).into_iter().flatten();
                needs.map(|(name, accept)| (name.clone(), accept.clone())).collect()
            }
        }
    }

    /// Returns when and why it was withdrawn, when it was.
    pub fn withdrawn(&self) -> Option<&Withdrawal> {
        // Who says so is a statement, and what has statements was read.
        self.whole.get()?.withdrawn.as_ref()
    }

    /// Tells whether there is something for a platform.
    pub fn serves(&self, platform: &str) -> bool {
        let platforms = &self.traits.platforms;
        platforms.is_empty() || platforms.iter().any(|own| own == platform || own == ANY_PLATFORM)
    }

    /// Returns what it is in the open world, as package URLs.
    pub fn identities(&self) -> &[String] {
        &self.traits.identities
    }

    /// Returns the roles that it fills.
    pub fn roles(&self) -> &[Word] {
        &self.traits.roles
    }

    /// Changes it.
    pub fn change<T>(&mut self, change: impl FnOnce(&mut Release) -> T) -> T {
        let mut release = Release::clone(self.whole());
        let outcome = change(&mut release);
        *self = release.into();
        outcome
    }

    /// Writes it as it is in documents; nothing for what was never published.
    pub(super) fn entry(&self) -> Option<String> {
        match (self.whole.get(), &self.record) {
            (None, Some(record)) => Some(format!("{{\"record\":{}}}", record.text())),
            _ => entry(self.whole()),
        }
    }
}

impl From<Release> for ListedRelease {
    fn from(release: Release) -> Self {
        Self {
            version: release.version.clone(),
            published: release.published,
            traits: Arc::new(Traits {
                platforms: release.artifacts.iter().map(|artifact| artifact.platform.clone()).collect(),
                identities: release.identities.clone(),
                roles: release.offers.roles.clone(),
            }),
            record: None,
            whole: OnceLock::from(Arc::new(release)),
        }
    }
}

impl PartialEq for ListedRelease {
    fn eq(&self, other: &Self) -> bool {
        self.whole() == other.whole()
    }
}

impl Eq for ListedRelease {}

/// Writes an entry; nothing for what was never published.
pub(super) fn entry(release: &Release) -> Option<String> {
    let mut members = vec![format!("\"record\":{}", release.record.as_ref()?.text())];
    if !release.statements.is_empty() {
        members.push(format!("\"statements\":[{}]", release.statements.join(",")));
    }
    members.extend(release.others.iter().map(|(name, value)| format!("{}:{value}", quoted(name))));
    Some(format!("{{{}}}", members.join(",")))
}
