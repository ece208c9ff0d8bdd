//! For each locked package: is there something newer, may it be taken, and who keeps it out.

use std::collections::BTreeMap;

use jiff::Timestamp;

use yostel_documents::{Asker, Lockfile, PackageDocument, PackageName};
use yostel_resolve::RequirementEdit;
use yostel_versions::{ConstraintText, Version};

/// A package for which something newer exists.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Outdated {
    /// The package.
    pub package: PackageName,
    /// Whether a project asks for it itself.
    pub direct: bool,
    /// The locked version.
    pub locked: Version,
    /// Whether the package is locked at others too, of which the newest may be one.
    pub several: bool,
    /// When the locked release was published, if a source still tells.
    pub published: Option<Timestamp>,
    /// The newest that everyone who asks accepts, or, once that was resolved, the newer one that is chosen if nothing is
    /// kept; none when there is no such release.
    pub accepted: Option<Version>,
    /// Whether everyone who asks accepts something newer, and resolving shows that something further away, or a rule, keeps
    /// it out.
    pub kept_out: bool,
    /// The newest of all.
    pub newest: Version,
    /// When the newest was published.
    pub newest_published: Timestamp,
    /// Whether the newest is on another compatible line.
    pub crosses_line: bool,
    /// How many newer releases there are; neither pre-releases nor what was withdrawn counts.
    pub releases_behind: usize,
    /// How many compatible lines those are on, the locked one not counted.
    pub lines_behind: usize,
    /// Who does not accept the newest; empty when everyone does.
    pub held_by: Vec<Holder>,
    /// Whether it can move to the newest now, as far as that was tried.
    pub tried: Option<Trial>,
    /// What newer releases say that is new in them, rising; nothing where nobody asked for it.
    pub news: Vec<News>,
}

/// What is new in a release.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct News {
    /// Its version.
    pub version: Version,
    /// When it was published.
    pub published: Timestamp,
    /// What it says; nothing when it does not.
    pub notes: Option<String>,
}

impl Outdated {
    /// Takes in what newer releases say, up to the newest: neither pre-releases nor what was withdrawn.
    pub fn read_news(&mut self, document: &PackageDocument) {
        self.news = news_between(document, &self.locked, &self.newest);
    }
}

/// Lists what releases above one say that is new in them, up to another: neither pre-releases nor what was withdrawn, but for
/// that other.
pub fn news_between(document: &PackageDocument, from: &Version, to: &Version) -> Vec<News> {
    let newer = document.releases.iter().filter(|release| release.version > *from && release.version <= *to);
    let newer = newer
        .filter(|release| release.version == *to || !release.version.is_pre_release() && release.withdrawn().is_none());
    let news = newer.map(|release| News {
        version: release.version.clone(),
        published: release.published,
        notes: release.whole().notes.clone(),
    });
    news.collect()
}

/// Whether a package can have its newest release, with what else is locked kept where it can stay.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Trial {
    /// It can.
    Free {
        /// The project's own needs to change for that; nothing when they accept it.
        edits: Vec<RequirementEdit>,
        /// How many other packages move, come or go then.
        others: usize,
    },
    /// It cannot, whatever the project itself needs of it.
    Blocked,
}

/// Who holds a package back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Holder {
    /// Who asks.
    pub who: Asker,
    /// What they accept.
    pub accept: ConstraintText,
}

/// Lists the outdated packages, direct ones first, each group by name. Packages without a document are left out.
pub fn outdated(lockfile: &Lockfile, documents: &BTreeMap<PackageName, PackageDocument>) -> Vec<Outdated> {
    let mut found = Vec::new();
    for (name, locked) in lockfile.chosen.iter() {
        let Some(document) = documents.get(name) else { continue };
        let Some(newest) = document.newest().filter(|newest| newest.version > locked.version) else { continue };
        let mut holders = Vec::new();
        let mut all = None;
        for asked in &locked.asked_by {
            let Ok(constraint) = asked.accept.bind(&document.numbering) else { continue };
            if !constraint.accepts(&newest.version) {
                holders.push(Holder { who: asked.who.clone(), accept: asked.accept.clone() });
            }
            all = Some(match all {
                None => constraint,
                Some(others) => constraint.intersection(&others),
            });
        }
        let accepted = document
            .releases
            .iter()
            .rev()
            .filter(|release| release.withdrawn().is_none() && release.version > locked.version)
            .find(|release| all.as_ref().is_some_and(|all| all.accepts(&release.version)))
            .map(|release| release.version.clone());
        let newer = document.releases.iter().filter(|release| {
            release.version > locked.version && release.withdrawn().is_none() && !release.version.is_pre_release()
        });
        let newer: Vec<&Version> = newer.map(|release| &release.version).collect();
        // They rise, so each line is together.
        let lines = std::iter::once(&locked.version).chain(newer.iter().copied()).collect::<Vec<_>>();
        let begins = |pair: &&[&Version]| !document.numbering.is_same_line(pair[0], pair[1]);
        found.push(Outdated {
            releases_behind: newer.len(),
            lines_behind: lines.windows(2).filter(begins).count(),
            package: name.clone(),
            direct: lockfile.is_direct(name),
            locked: locked.version.clone(),
            several: lockfile.chosen.all(name).len() > 1,
            published: document.release(&locked.version).map(|release| release.published),
            accepted,
            kept_out: false,
            newest: newest.version.clone(),
            newest_published: newest.published,
            crosses_line: !document.numbering.is_same_line(&locked.version, &newest.version),
            held_by: holders,
            tried: None,
            news: Vec::new(),
        });
    }
    found.sort_by(|a, b| b.direct.cmp(&a.direct).then_with(|| a.package.cmp(&b.package)));
    found
}
