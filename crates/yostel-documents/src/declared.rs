//! What the projects of a lockfile declare: all that a resolution and an install depend on beside the sources.

use std::collections::{BTreeMap, BTreeSet};

use yostel_versions::{ConstraintText, Numbering, Version};

use crate::digest::{ContentDigest, Seal};
use crate::name::run_purpose;
use crate::name::{PackageName, Word};
use crate::origin::{Elsewhere, Origin};
use crate::overrides::Overrides;
use crate::requirement::{Asker, Requirement};

/// What projects declare.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Declared {
    /// What they need; order does not matter.
    pub requirements: Vec<Requirement>,
    /// The platforms that the lockfile must serve; none when any that there is will do.
    pub platforms: BTreeSet<String>,
    /// Packages that are changed locally, with the digest of the patch's text.
    pub alterations: BTreeMap<PackageName, ContentDigest>,
    /// Roles that several packages may fill.
    pub shared_roles: BTreeSet<Word>,
    /// Packages of which there may be one release per compatible line.
    pub coexist: BTreeSet<PackageName>,
    /// What is said about packages wherever they turn up.
    pub overrides: Overrides,
    /// Packages that come from elsewhere than a source, and whose content is locked.
    pub elsewhere: BTreeMap<PackageName, Elsewhere>,
    /// Local packages.
    pub local: BTreeMap<PackageName, LocalPackage>,
}

/// A local package: a project of the workspace, or a path that somebody named.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LocalPackage {
    /// Which of the two, and the folder relative to the lockfile's.
    pub origin: Origin,
    /// Its version.
    pub version: Version,
    /// How it numbers.
    pub numbering: Numbering,
    /// What it needs of others at run time; nothing for a project, whose needs are root requirements already.
    pub needs: BTreeMap<PackageName, ConstraintText>,
}

impl Declared {
    /// Returns the needs as they bind, with what is said about packages wherever they turn up.
    pub fn bound_requirements(&self) -> Vec<Requirement> {
        self.overrides.bound_all(&self.requirements, &self.coexist)
    }

    /// Lists the listed platforms on which a need counts.
    pub fn platforms_of<'d>(&'d self, accept: &'d ConstraintText) -> impl Iterator<Item = &'d String> {
        self.platforms.iter().filter(|platform| accept.covers(platform))
    }

    /// Tells whether a need counts at all: on this platform, or on one of those that are listed.
    pub fn counts(&self, accept: &ConstraintText, platform: Option<&str>) -> bool {
        match platform {
            Some(platform) => accept.covers(platform),
            None => self.platforms.is_empty() || self.platforms_of(accept).next().is_some(),
        }
    }

    /// Returns what a package in a folder needs, as it binds; nothing for one whose content is locked.
    pub fn needs_of_local(&self, name: &PackageName) -> Vec<Requirement> {
        let Some(local) = self.local.get(name) else { return Vec::new() };
        let purpose = run_purpose();
        let needs = local.needs.iter().map(|(package, accept)| Requirement {
            asker: Asker::Release(name.clone(), local.version.clone()),
            package: package.clone(),
            accept: accept.clone(),
            purpose: purpose.clone(),
        });
        self.overrides.bound_all(&needs.collect::<Vec<_>>(), &self.coexist)
    }

    /// Returns the digest of what is declared: equal for equal declarations, whatever their order in the manifest.
    pub fn seal(&self) -> Seal {
        let requirements =
            self.requirements.iter().map(|w| format!("{}\t{}\t{}\t{}\n", w.asker, w.purpose, w.package, w.accept));
        let mut lines: BTreeSet<String> = requirements.collect();
        // Words that no name of an asker can be: they hold a blank.
        lines.extend(self.platforms.iter().map(|platform| format!("for platform\t{platform}\n")));
        lines.extend(self.alterations.iter().map(|(package, patch)| format!("with patch\t{package}\t{patch}\n")));
        lines.extend(self.shared_roles.iter().map(|role| format!("sharing role\t{role}\n")));
        lines.extend(self.coexist.iter().map(|package| format!("coexisting\t{package}\n")));
        lines.extend(self.overrides.lines());
        lines.extend(
            self.elsewhere
                .iter()
                .map(|(package, place)| format!("from elsewhere\t{package}\t{place}\t{}\n", digest(place))),
        );
        for (package, local) in &self.local {
            let needs: String = local.needs.iter().map(|(needed, accept)| format!("\t{needed} {accept}")).collect();
            let LocalPackage { origin, version, .. } = local;
            lines.insert(format!("as it lies\t{package}\t{origin}\t{version}{needs}\n"));
        }
        Seal::of(lines.into_iter().collect::<String>().as_bytes())
    }
}

fn digest(place: &Elsewhere) -> String {
    match place {
        Elsewhere::Archive { digest, .. } => digest.to_string(),
        Elsewhere::Git(_) | Elsewhere::Path(_) => String::new(),
    }
}

impl From<Vec<Requirement>> for Declared {
    fn from(requirements: Vec<Requirement>) -> Self {
        Self { requirements, ..Self::default() }
    }
}
