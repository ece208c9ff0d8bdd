//! Worlds of made-up packages, written as one line per release.
//!
//! ```text
//! console: gust ^2, cable ^3       a project's needs
//! gust 2.0.0: unit ^1              a release and its needs
//! gust 2.1.0 withdrawn @12: unit ^2     withdrawn; published on day 12 after 1970 began
//! gust 2.2.0 role=wind-source:     fills a role
//! gust 2.2.0 for=linux/amd64+linux/arm64:     with an artifact for each of these instead of one for any
//! ```

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::Path;

use jiff::Timestamp;
use yostel_documents::document_file;
use yostel_documents::{
    ArchiveDigest, Artifact, Asker, Offers, Origin, PackageDocument, PackageName, Release, Requirement, Statement,
    TreeDigest, Withdrawal, Word, run_purpose,
};
use yostel_resolve::{Arrival, Outcome, Problem, ResolveError, Resolver, Step};
use yostel_versions::{ConstraintText, Numbering, Version};

/// Needs and releases.
#[derive(Debug, Clone, Default)]
pub struct World {
    /// What the project needs.
    pub requirements: Vec<Requirement>,
    /// All packages.
    pub documents: BTreeMap<PackageName, PackageDocument>,
}

impl World {
    /// Reads a world.
    ///
    /// # Panics
    /// When the text is not one; tests write it.
    pub fn parse(text: &str) -> Self {
        let mut world = Self::default();
        for line in text.lines().map(str::trim).filter(|line| !line.is_empty()) {
            let (head, needs) = line.split_once(':').unwrap_or((line, ""));
            let mut words = head.split_whitespace();
            let name = PackageName::parse(words.next().unwrap()).unwrap();
            let needs: Vec<(PackageName, ConstraintText)> = needs
                .split(';')
                .flat_map(|part| part.split(", "))
                .map(str::trim)
                .filter(|need| !need.is_empty())
                .map(|need| {
                    let (package, accept) = need.split_once(' ').unwrap_or((need, "*"));
                    (PackageName::parse(package).unwrap(), ConstraintText::parse(&accept.replace('&', ",")).unwrap())
                })
                .collect();
            match words.next() {
                None => world.requirements.extend(needs.into_iter().map(|(package, accept)| Requirement {
                    asker: Asker::Project(name.clone()),
                    package,
                    accept,
                    purpose: run_purpose(),
                })),
                Some(version) => world.add(&name, version, needs, words.collect::<Vec<_>>()),
            }
        }
        world
    }

    fn add(&mut self, name: &PackageName, version: &str, needs: Vec<(PackageName, ConstraintText)>, marks: Vec<&str>) {
        let numbering = Numbering::default();
        let version = numbering.parse_version(version).unwrap();
        let content = format!("{name} {version}");
        let withdrawn = marks.contains(&"withdrawn");
        let day = marks.iter().find_map(|mark| mark.strip_prefix('@')).map_or(0, |day| day.parse().unwrap());
        let published = Timestamp::from_second(day * 86_400).unwrap();
        let platforms = marks.iter().find_map(|mark| mark.strip_prefix("for=")).unwrap_or("any");
        let artifact = |platform: &str| {
            let content = if platform == "any" { content.clone() } else { format!("{content} {platform}") };
            Artifact {
                platform: platform.to_owned(),
                digest: ArchiveDigest::of(content.as_bytes()),
                size: content.len() as u64,
                tree: TreeDigest::of(content.as_bytes()),
            }
        };
        let mut artifacts: Vec<Artifact> = platforms.split('+').map(artifact).collect();
        artifacts.sort();
        let needs = BTreeMap::from([(run_purpose(), needs.into_iter().collect())]);
        let roles = marks.iter().filter_map(|mark| Word::parse(mark.strip_prefix("role=")?).ok()).collect();
        let offers = Offers { roles, ..Offers::default() };
        let mut release = Release::unpublished(version, needs, offers, artifacts);
        release.published = published;
        let mut release = release.recorded();
        if withdrawn {
            release.say(&Statement::Withdrawn(Withdrawal { on: published, why: "broken".into() })).unwrap();
        }
        let document = self.documents.entry(name.clone());
        document.or_insert_with(|| PackageDocument::new(name.clone(), numbering)).insert(release);
    }

    /// Writes all packages into a registry's folder, as it would describe them; their archives are not there.
    ///
    /// # Panics
    /// When a file cannot be written.
    pub fn write_to(&self, registry: &Path) {
        for (name, document) in &self.documents {
            let file = registry.join(document_file(name));
            fs::create_dir_all(file.parent().unwrap()).unwrap();
            fs::write(file, document.write()).unwrap();
        }
    }

    /// Returns the problem of this world with these versions to keep, written `name version`.
    ///
    /// # Panics
    /// When a text is not a name and a version.
    pub fn problem(&self, keep: &[&str]) -> Problem {
        let mut kept: BTreeMap<PackageName, BTreeSet<Version>> = BTreeMap::new();
        for text in keep {
            let (name, version) = text.split_once(' ').unwrap();
            let version = Numbering::default().parse_version(version).unwrap();
            kept.entry(PackageName::parse(name).unwrap()).or_default().insert(version);
        }
        Problem { requirements: self.requirements.clone(), keep: kept, ..Problem::default() }
    }

    /// Answers a question of the resolver.
    pub fn answer(&self, wanted: &BTreeSet<PackageName>) -> Vec<Arrival> {
        let source = Origin::Source(Word::parse("station").unwrap());
        let found = |name: &PackageName| self.documents.get(name).map(|d| (source.clone(), d.clone()));
        wanted.iter().map(|name| Arrival { package: name.clone(), found: found(name) }).collect()
    }

    /// Drives a resolution to its end; `deliver` may reorder and hold back answers, but not for ever.
    ///
    /// # Errors
    /// As [`Resolver::step`].
    pub fn resolve_with(
        &self,
        problem: Problem,
        deliver: impl FnMut(Vec<Arrival>) -> Vec<Arrival>,
    ) -> Result<Outcome, ResolveError> {
        self.drive(&mut Resolver::new(problem), deliver)
    }

    /// Drives a resolver to its end; `deliver` as above.
    ///
    /// # Errors
    /// As [`Resolver::step`].
    pub fn drive(
        &self,
        resolver: &mut Resolver,
        mut deliver: impl FnMut(Vec<Arrival>) -> Vec<Arrival>,
    ) -> Result<Outcome, ResolveError> {
        let mut arrived = Vec::new();
        loop {
            match resolver.step(arrived)? {
                Step::Done(outcome) => return Ok(outcome),
                Step::Need(wanted) => arrived = deliver(self.answer(&wanted)),
                Step::Going(_) => arrived = Vec::new(),
            }
        }
    }

    /// Drives a resolution to its end, answering at once.
    ///
    /// # Errors
    /// As [`Resolver::step`].
    pub fn resolve(&self, keep: &[&str]) -> Result<Outcome, ResolveError> {
        self.resolve_with(self.problem(keep), |answers| answers)
    }

    /// Resolves and writes the set as `name version` joined by `, `, or `collision: …` with the needs.
    ///
    /// # Panics
    /// When the resolver reports an error.
    pub fn outcome(&self, keep: &[&str]) -> String {
        match self.resolve(keep).unwrap() {
            Outcome::Resolved(resolution) => {
                let chosen =
                    resolution.chosen.iter().map(|(name, choice)| format!("{name} {}", choice.release.version));
                chosen.collect::<Vec<_>>().join(", ")
            }
            Outcome::Collision(collision) => {
                let requirements = collision
                    .requirements
                    .iter()
                    .map(|requirement| format!("{} {}", requirement.package, requirement.accept));
                format!("collision: {}", requirements.collect::<Vec<_>>().join("; "))
            }
            Outcome::Stopped(unfinished) => panic!("nobody said stop: {unfinished:?}"),
        }
    }
}
