//! The manifest: what a project or package is, needs and offers. Carries out docs/formats.md §2.

mod checks;
mod contents;
mod edit;
mod edit_rules;
mod identity;
mod keys;
mod mentions;
mod merge;
mod parse;
mod proposals;
mod sources;
#[cfg(test)]
mod tests;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::ops::Range;

use jiff::civil::Date;

pub use checks::{Check, CheckCommand};
pub use contents::{Contents, FilePattern};
pub use edit::{EditError, NeedEdit, NeedForm, add_alter, add_need, new_manifest, remove_alter, remove_need};
pub use edit_rules::{
    VersionTable, add_agreed, add_coexist, add_shared_role, add_source, add_swap, add_version, remove_coexist,
    remove_platform, remove_rule, remove_source,
};
pub use identity::Identity;
pub use keys::manifest_schema;
pub use mentions::{MentionOf, MentionPattern, MentionedIn, with_values};
pub use merge::merge_manifests;
pub use parse::{ManifestProblem, ManifestProblemKind, ManifestReading};
pub use parse::{days_of, place_of_key, time_of};
pub use proposals::{AT_ONCE, Hours, LeftOut, Proposals};
pub use sources::{SourceDeclaration, SourcePlace};

use crate::licence::AllowedLicence;
use crate::name::{PackageName, Purpose, SourceName, Word};
use crate::origin::Elsewhere;
use crate::overrides::Overrides;
use crate::purl::PackageUrl;
use crate::release::Offers;
use crate::requirement::{Asker, Requirement};
use yostel_versions::{ConstraintText, Numbering, Version};

/// A manifest that was read without a problem.
#[derive(Debug, Clone)]
pub struct Manifest {
    /// What this project is.
    pub project: Project,
    /// The projects that share its lockfile, when it is the root of a workspace.
    pub workspace: Option<Workspace>,
    /// What it needs, by purpose and package.
    pub needs: BTreeMap<Purpose, BTreeMap<PackageName, Need>>,
    /// Where releases come from.
    pub sources: BTreeMap<SourceName, SourceDeclaration>,
    /// What it gives those who need it.
    pub offers: Offers,
    /// Which of its files are part of the package that it is.
    pub contents: Contents,
    /// Which releases it may be given.
    pub policy: Policy,
    /// Packages that it changes locally.
    pub alter: BTreeMap<PackageName, Alter>,
    /// Constraints that bind packages wherever they turn up.
    pub agreed: BTreeMap<PackageName, Need>,
    /// Versions that packages have wherever they turn up.
    pub force: BTreeMap<PackageName, Force>,
    /// Packages that others stand in for wherever they turn up.
    pub swap: BTreeMap<PackageName, Swap>,
    /// Releases that may be chosen although they are withdrawn or too young.
    pub admit: BTreeMap<PackageName, Admit>,
    /// Licences of single packages that are not allowed otherwise.
    pub licence_exceptions: BTreeMap<PackageName, LicenceException>,
    /// Commands that tell whether it still works, by the names that they have here.
    pub checks: BTreeMap<Word, Check>,
    /// Other files that mention packages, and follow what is locked.
    pub mentions: BTreeMap<PackageName, Vec<MentionedIn>>,
    /// Which updates are proposed, where the manifest says something of that.
    pub proposals: Option<Proposals>,
}

/// The `[workspace]` table.
#[derive(Debug, Clone)]
pub struct Workspace {
    /// Folders with the projects, as written.
    pub projects: Vec<WorkspaceEntry>,
}

/// Folders of a workspace's projects.
#[derive(Debug, Clone)]
pub struct WorkspaceEntry {
    /// A path below the manifest's folder, in which `*` stands for any part of a folder's name; with `!` before it, folders
    /// that are no projects.
    pub pattern: String,
    /// Byte range of the entry in the manifest.
    pub span: Range<usize>,
}

/// One entry of `[force]`.
#[derive(Debug, Clone)]
pub struct Force {
    /// The version, as a constraint.
    pub accept: ConstraintText,
    /// Why.
    pub why: String,
    /// The day until which it should be needed.
    pub until: Option<Date>,
    /// Byte range of the entry's key in the manifest.
    pub span: Range<usize>,
}

/// One entry of `[admit]`.
#[derive(Debug, Clone)]
pub struct Admit {
    /// The version, as its release has it.
    pub version: String,
    /// Why.
    pub why: String,
    /// The day until which it should be needed.
    pub until: Option<Date>,
    /// Byte range of the entry's key in the manifest.
    pub span: Range<usize>,
}

/// One entry of `[licence-exceptions]`.
#[derive(Debug, Clone)]
pub struct LicenceException {
    /// The SPDX expression that the package has.
    pub licence: String,
    /// Why.
    pub why: String,
    /// The last day on which it counts.
    pub until: Option<Date>,
    /// Byte range of the entry's key in the manifest.
    pub span: Range<usize>,
}

/// One entry of `[swap]`.
#[derive(Debug, Clone)]
pub struct Swap {
    /// The package that stands in.
    pub by: PackageName,
    /// Which of its versions will do; what was asked of the other, when it is left out.
    pub accept: Option<ConstraintText>,
    /// Where it is, when that is not for a source to say.
    pub elsewhere: Option<Elsewhere>,
    /// Why.
    pub why: String,
    /// The day until which it should be needed.
    pub until: Option<Date>,
    /// Byte range of the entry's key in the manifest.
    pub span: Range<usize>,
}

/// One entry of `[alter]`.
#[derive(Debug, Clone)]
pub struct Alter {
    /// The file with the patch, relative to the manifest's folder.
    pub patch: String,
    /// Why.
    pub why: String,
    /// Byte range of the entry's key in the manifest.
    pub span: Range<usize>,
}

/// The `[policy]` table.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Policy {
    /// Days that a release must have been published before it is newly chosen.
    pub minimum_age_days: Option<u32>,
    /// Which of the releases that fit to take.
    pub take: Option<Take>,
    /// Roles that several packages may fill.
    pub share_roles: BTreeSet<Word>,
    /// Packages of which there may be one release per compatible line.
    pub coexist: BTreeSet<PackageName>,
    /// Schemes of git addresses that are asked besides `https`, `ssh` and `file`.
    pub git_schemes: BTreeSet<String>,
    /// Packages whose variables may load code into other programs, or lead tools elsewhere.
    pub trusted_variables: BTreeSet<PackageName>,
    /// Licences that what is locked may have; nothing when any will do.
    pub allowed_licences: Option<Vec<AllowedLicence>>,
    /// Days after which a package of which nothing new came is told.
    pub quiet_after_days: Option<u32>,
    /// Folders and zip archives with advisories beside those of the sources, relative to the manifest's folder.
    pub advisories: Vec<String>,
    /// OpenVEX documents about what is locked, relative to the manifest's folder.
    pub statements: Vec<String>,
    /// What an audit looks for beside what it always does.
    pub also_audit: BTreeSet<AlsoAudit>,
}

/// What an audit looks for where a policy asks for it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum AlsoAudit {
    /// Needs that nothing bounds from above.
    Unbounded,
    /// Needs whose oldest release no set has.
    LowerBounds,
    /// What comes from places that only this machine has.
    OnlyHere,
    /// Needs that no file of the project mentions.
    Unused,
    /// Releases that do not say which commit they were made from.
    Provenance,
}

impl AlsoAudit {
    /// Reads its word.
    pub fn parse(text: &str) -> Option<Self> {
        match text {
            "unbounded" => Some(Self::Unbounded),
            "lower-bounds" => Some(Self::LowerBounds),
            "only-here" => Some(Self::OnlyHere),
            "unused" => Some(Self::Unused),
            "provenance" => Some(Self::Provenance),
            _ => None,
        }
    }
}

/// Which of the releases that fit to take.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Take {
    /// As new as can be.
    #[default]
    Newest,
    /// As old as can be: proves that the lower bounds are true.
    Oldest,
}

/// The `[project]` table.
#[derive(Debug, Clone)]
pub struct Project {
    /// Its name.
    pub name: PackageName,
    /// Its version; a package needs one to be published.
    pub version: Option<Version>,
    /// How its versions order and what breaks.
    pub numbering: Numbering,
    /// The platforms that its lockfile serves; none when any that there is will do.
    pub platforms: BTreeSet<String>,
    /// Which versions of the tool itself may work on it.
    pub yostel: Option<ConstraintText>,
    /// SPDX licence expression.
    pub licence: Option<String>,
    /// One sentence on what it is.
    pub about: Option<String>,
    /// What is new in this version.
    pub notes: Option<String>,
    /// The address of the repository that it is made from.
    pub repository: Option<String>,
    /// What it is in the open world.
    pub identities: Vec<PackageUrl>,
}

/// One entry of `[needs.<purpose>]`.
#[derive(Debug, Clone)]
pub struct Need {
    /// Which versions will do.
    pub accept: ConstraintText,
    /// Why it deviates from what is agreed, when it does.
    pub why: Option<String>,
    /// Where the package is, when that is not for a source to say.
    pub elsewhere: Option<Elsewhere>,
    /// Byte range of the entry's key in the manifest.
    pub span: Range<usize>,
}

impl Need {
    pub(crate) fn of(accept: ConstraintText, span: Range<usize>) -> Self {
        Self { accept, why: None, elsewhere: None, span }
    }
}

impl Swap {
    /// Tells whether the package stays, and only where it comes from is said.
    pub fn is_of_place(&self, package: &PackageName) -> bool {
        self.elsewhere.is_some() && self.by == *package
    }
}

/// A name, or all names below a level: `ropeway/*`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NamePattern {
    level: PackageName,
    below: bool,
}

impl NamePattern {
    /// Reads a name, or a name and `/*`.
    ///
    /// # Errors
    /// As [`PackageName::parse`].
    pub fn parse(text: &str) -> Result<Self, crate::NameError> {
        let (level, below) = match text.strip_suffix("/*") {
            Some(level) => (level, true),
            None => (text, false),
        };
        Ok(Self { level: PackageName::parse(level)?, below })
    }

    /// Tells whether the pattern covers the name.
    pub fn covers(&self, name: &PackageName) -> bool {
        match name.as_str().strip_prefix(self.level.as_str()) {
            Some(rest) => {
                if self.below {
                    rest.starts_with('/')
                } else {
                    rest.is_empty()
                }
            }
            None => false,
        }
    }
}

impl fmt::Display for NamePattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}", self.level, if self.below { "/*" } else { "" })
    }
}

impl Manifest {
    /// Reads a manifest.
    ///
    /// # Errors
    /// Every problem found, in the order of the text, each with its byte range. Never empty.
    ///
    /// # Examples
    /// ```
    /// use yostel_documents::Manifest;
    /// let manifest = Manifest::parse("[project]\nname = 'console'\n[needs.run]\ngust-model = '^2'\n").unwrap();
    /// assert_eq!(manifest.requirements()[0].package.as_str(), "gust-model");
    /// let problems = Manifest::parse("[project]\nname = 'console'\n[need.run]\n").unwrap_err();
    /// assert_eq!(problems[0].to_string(), "the manifest has no key `need`");
    /// ```
    pub fn parse(text: &str) -> Result<Self, Vec<ManifestProblem>> {
        Self::read(text, None).whole()
    }

    /// Reads as much of a manifest as can be read, and tells all that is wrong with it. `agreed` is what the root agreed on,
    /// when it is the manifest of a project below it.
    ///
    /// ```
    /// use yostel_documents::Manifest;
    /// let reading = Manifest::read("[project]\nname = 'console'\n[needs.run]\ngust = '^2'\nunit = '1'\n", None);
    /// assert_eq!(reading.manifest.unwrap().requirements()[0].package.as_str(), "gust");
    /// assert_eq!(reading.problems.len(), 1, "`1` is a version, not a constraint");
    /// ```
    pub fn read(text: &str, agreed: Option<&BTreeMap<PackageName, Need>>) -> ManifestReading {
        parse::read(text, agreed)
    }

    /// Reads the manifest of one of a workspace's projects below its root. `agreed` is what the root agreed on.
    ///
    /// # Errors
    /// As [`Self::parse`]; also what only the root may say.
    pub fn parse_below(text: &str, agreed: &BTreeMap<PackageName, Need>) -> Result<Self, Vec<ManifestProblem>> {
        Self::read(text, Some(agreed)).whole()
    }

    /// Reads what an installed package offers. What it needs is for its registry to tell, and its manifest may have been
    /// one of a workspace.
    pub fn offers_of(text: &str) -> Option<Offers> {
        match Self::parse_below(text, &BTreeMap::new()) {
            Ok(manifest) => Some(manifest.offers),
            Err(_) => parse::offers(text),
        }
    }

    /// Lists the packages that are taken from elsewhere than a source, each with where that is and the place that says so.
    pub fn places(&self) -> impl Iterator<Item = (&PackageName, &Elsewhere, &Range<usize>)> {
        let needs = self.needs.values().flatten();
        let of_needs = needs.filter_map(|(package, need)| Some((package, need.elsewhere.as_ref()?, &need.span)));
        let of_swaps = self.swap.values().filter_map(|swap| Some((&swap.by, swap.elsewhere.as_ref()?, &swap.span)));
        of_needs.chain(of_swaps)
    }

    /// Returns what is said about packages wherever they turn up. What the project itself asks of an agreed package, and
    /// says why, is in place of what is agreed.
    pub fn overrides(&self) -> Overrides {
        let deviates = |package: &PackageName| {
            self.needs.values().any(|needs| needs.get(package).is_some_and(|need| need.why.is_some()))
        };
        let agreed = self.agreed.iter().filter(|(package, _)| !deviates(package));
        // What is elsewhere stands in for whatever was asked.
        let instead = |swap: &Swap| match (&swap.accept, &swap.elsewhere) {
            (None, Some(_)) => Some(ConstraintText::anything()),
            (accept, _) => accept.clone(),
        };
        let swapped = |swap: &Swap| (swap.by.clone(), instead(swap));
        Overrides {
            agreed: agreed.map(|(package, need)| (package.clone(), need.accept.clone())).collect(),
            forced: self.force.iter().map(|(package, force)| (package.clone(), force.accept.clone())).collect(),
            swapped: self.swap.iter().map(|(package, swap)| (package.clone(), swapped(swap))).collect(),
        }
    }

    /// Lists what the project needs, sorted by purpose and package.
    pub fn requirements(&self) -> Vec<Requirement> {
        let mut requirements = Vec::new();
        for (purpose, needs) in &self.needs {
            for (package, need) in needs {
                requirements.push(Requirement {
                    asker: Asker::Project(self.project.name.clone()),
                    package: package.clone(),
                    accept: need.accept.clone(),
                    purpose: purpose.clone(),
                });
            }
        }
        requirements
    }
}
