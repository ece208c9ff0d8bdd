//! Advisories that affect what is locked.

use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{
    About, Advisory, Affected, GitAt, ListedRelease, LockedPackage, Lockfile, Origin, PackageDocument, PackageName,
    PackageUrl, SourceName, repository_of,
};
use yostel_versions::{Numbering, Version};

use super::affected::{Ancestry, AtCommit, fixing_commit, is_affected, is_commit_affected};
use super::rating::{Rating, severity_of};

/// An advisory, and where it was.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Published {
    /// The source: it speaks of its own packages. Nothing for one that the project names, which may speak of all.
    pub source: Option<SourceName>,
    /// The advisory.
    pub advisory: Advisory,
}

/// All advisories that may speak of what is locked, by what they speak of.
#[derive(Debug, Default)]
pub struct Advisories {
    all: Vec<Published>,
    /// Of each source, the name of its registry: the ecosystem of its packages.
    registries: BTreeMap<SourceName, String>,
    /// Of each repository, as [`repository_of`] writes it.
    ancestries: BTreeMap<String, Ancestry>,
    /// Where which advisory speaks of what: its place, and that of the part.
    by: BTreeMap<About, Vec<(usize, usize)>>,
}

/// A release that advisories may speak of.
#[derive(Debug, Clone)]
pub struct Affectable<'s> {
    /// The package.
    pub package: &'s PackageName,
    /// Its version.
    pub version: &'s Version,
    /// How its versions order.
    pub numbering: &'s Numbering,
    /// The source that it comes from.
    pub source: Option<&'s SourceName>,
    /// The repository, as [`repository_of`] writes it, and the commit; with the tag that it was asked for by.
    pub commit: Option<(String, &'s str, Option<&'s str>)>,
    /// What it is in the open world.
    pub identities: Vec<PackageUrl>,
}

impl<'s> Affectable<'s> {
    /// Describes what is locked; the document is that of its package.
    pub fn locked(package: &'s PackageName, locked: &'s LockedPackage, document: Option<&'s PackageDocument>) -> Self {
        let release = document.and_then(|document| document.release(&locked.version));
        let commit = match &locked.from {
            Origin::Git { place, commit } => {
                let tag = match &place.at {
                    GitAt::Tag(tag) => Some(tag.as_str()),
                    GitAt::Commit(_) | GitAt::Branch(_) | GitAt::Head => None,
                };
                Some((repository_of(&place.address), commit.as_str(), tag))
            }
            _ => None,
        };
        Self {
            package,
            version: &locked.version,
            numbering: &locked.numbering,
            source: locked.from.source(),
            commit,
            identities: release.map(|release| identities_of(&release.identities)).unwrap_or_default(),
        }
    }

    /// Lists what advisories on it may call it, where its source is the registry of this name.
    pub fn names(&self, registry: Option<&str>) -> BTreeSet<About> {
        let name =
            registry.map(|ecosystem| About::Name { ecosystem: ecosystem.to_owned(), name: self.package.to_string() });
        let urls = self.identities.iter().map(|url| About::Url(url.package()));
        let repository = self.commit.iter().map(|(repository, ..)| About::Repository(repository.clone()));
        name.into_iter().chain(urls).chain(repository).collect()
    }
}

/// Reads what a release is in the open world. What is no package URL counts as absent.
pub fn identities_of(identities: &[String]) -> Vec<PackageUrl> {
    identities.iter().filter_map(|text| PackageUrl::parse(text).ok()).collect()
}

impl Advisories {
    /// Sorts advisories by what they speak of. `registries` has the name of each source's registry, `ancestries` what is
    /// known of the history of each repository.
    pub fn new(
        all: Vec<Published>,
        registries: BTreeMap<SourceName, String>,
        ancestries: BTreeMap<String, Ancestry>,
    ) -> Self {
        let mut by: BTreeMap<About, Vec<(usize, usize)>> = BTreeMap::new();
        for (at, published) in all.iter().enumerate() {
            for (part, affected) in published.advisory.affected.iter().enumerate() {
                for about in affected.about() {
                    by.entry(about).or_default().push((at, part));
                }
            }
        }
        Self { all, registries, ancestries, by }
    }

    /// Lists what affects a release, withdrawn or not, each with the part that does. An advisory may have several that do.
    pub fn on(&self, subject: &Affectable<'_>) -> Vec<(&Advisory, &Affected)> {
        let registry = subject.source.and_then(|source| self.registries.get(source));
        let mut all: BTreeSet<(usize, usize)> = BTreeSet::new();
        for about in subject.names(registry.map(String::as_str)) {
            let Some(places) = self.by.get(&about) else { continue };
            let affects = |(at, part): &&(usize, usize)| {
                let published = &self.all[*at];
                let may_speak = published.source.is_none() || published.source.as_ref() == subject.source;
                may_speak && self.is_met(&published.advisory.affected[*part], subject, &about)
            };
            all.extend(places.iter().filter(affects));
        }
        let both = |(at, part): (usize, usize)| {
            let advisory = &self.all[at].advisory;
            (advisory, &advisory.affected[part])
        };
        all.into_iter().map(both).collect()
    }

    fn is_met(&self, affected: &Affected, subject: &Affectable<'_>, about: &About) -> bool {
        let numbering = subject.numbering;
        match about {
            About::Name { .. } => is_affected(affected, numbering, subject.version),
            About::Url(url) => subject.identities.iter().filter(|own| own.package() == *url).any(|own| {
                // What was repackaged under a number of its own says which version it is.
                let other = own.version().and_then(|version| numbering.parse_version(version).ok());
                is_affected(affected, numbering, other.as_ref().unwrap_or(subject.version))
            }),
            About::Repository(repository) => subject.commit.as_ref().is_some_and(|(_, commit, tag)| {
                let unknown = Ancestry::default();
                let ancestry = self.ancestries.get(repository).unwrap_or(&unknown);
                is_commit_affected(affected, &AtCommit { repository, commit, tag: *tag, ancestry })
            }),
        }
    }

    /// Tells whether some advisory that was not withdrawn affects a release.
    pub fn affect(&self, subject: &Affectable<'_>) -> bool {
        self.on(subject).iter().any(|(advisory, _)| advisory.withdrawn.is_none())
    }

    /// Tells whether some advisory that was not withdrawn affects another release of a locked package.
    pub fn affect_release(&self, subject: &Affectable<'_>, release: &ListedRelease) -> bool {
        let identities = identities_of(release.identities());
        self.affect(&Affectable { version: &release.version, identities, commit: None, ..subject.clone() })
    }
}

/// An advisory that affects a locked release.
#[derive(Debug, Clone, PartialEq)]
pub struct Threat {
    /// The advisory's name.
    pub id: String,
    /// The same matter by other names.
    pub aliases: Vec<String>,
    /// What it is about, in a line.
    pub summary: Option<String>,
    /// How bad it is, and the score that this comes from; nothing when nobody says.
    pub severity: Option<(Rating, f64)>,
    /// The package.
    pub package: PackageName,
    /// The locked version.
    pub version: Version,
    /// The lowest newer release that no advisory affects and that may be chosen anew.
    pub fixed: Option<Version>,
    /// A commit that ends it, of a package that comes from a repository.
    pub fixed_at: Option<String>,
}

/// Lists the advisories that affect locked releases: the worst first, then by package and name.
pub fn threats(
    lockfile: &Lockfile,
    documents: &BTreeMap<PackageName, PackageDocument>,
    advisories: &Advisories,
) -> Vec<Threat> {
    let mut all = Vec::new();
    for (package, locked) in lockfile.chosen.iter() {
        let document = documents.get(package);
        let subject = Affectable::locked(package, locked, document);
        // The same for all of them, of which there may be thousands.
        let newer = OnceCell::new();
        let newer = || {
            newer.get_or_init(|| {
                document.into_iter().flat_map(|document| document.releases.iter()).find(|release| {
                    release.version > locked.version
                        && release.withdrawn().is_none()
                        && !release.version.is_pre_release()
                        && !advisories.affect_release(&subject, release)
                })
            })
        };
        for (advisory, affected) in advisories.on(&subject) {
            if advisory.withdrawn.is_some() {
                continue;
            }
            let fixed_at = subject.commit.as_ref().and_then(|(repository, ..)| fixing_commit(affected, repository));
            all.push(Threat {
                id: advisory.id.clone(),
                aliases: advisory.aliases.clone(),
                summary: advisory.summary.clone(),
                severity: severity_of(&affected.severity).or_else(|| severity_of(&advisory.severity)),
                package: package.clone(),
                version: locked.version.clone(),
                fixed: newer().map(|release| release.version.clone()),
                fixed_at: fixed_at.map(str::to_owned),
            });
        }
    }
    // One advisory may speak of one package in several parts, and be told in several places.
    all.sort_by(|a, b| {
        let worst = |threat: &Threat| threat.severity.map_or(-1.0, |(_, score)| score);
        let order = worst(b).total_cmp(&worst(a));
        order.then_with(|| (&a.package, &a.version, &a.id).cmp(&(&b.package, &b.version, &b.id)))
    });
    let mut seen = BTreeSet::new();
    all.retain(|threat| seen.insert((threat.package.clone(), threat.version.clone(), threat.id.clone())));
    all
}
