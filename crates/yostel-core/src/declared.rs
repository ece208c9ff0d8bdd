//! What the projects of a lockfile declare: all that a resolution and an install depend on beside the sources.

use std::collections::{BTreeMap, BTreeSet};

use crate::digest::{ContentDigest, Seal};
use crate::name::{PackageName, Word};
use crate::overrides::Overrides;
use crate::requirement::Requirement;

/// What projects declare.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Declared {
    /// What they need; order does not matter.
    pub wishes: Vec<Requirement>,
    /// The platforms that the lockfile must serve; none when any that there is will do.
    pub platforms: BTreeSet<String>,
    /// Packages that are changed locally, with the digest of the patch's text.
    pub alterations: BTreeMap<PackageName, ContentDigest>,
    /// Roles that several packages may fill.
    pub shared_roles: BTreeSet<Word>,
    /// What is said about packages wherever they turn up.
    pub overrides: Overrides,
}

impl Declared {
    /// Returns the needs as they bind, with what is said about packages wherever they turn up.
    pub fn bound_wishes(&self) -> Vec<Requirement> {
        self.wishes.iter().map(|wish| self.overrides.bound(wish)).collect()
    }

    /// Returns the digest of what is declared: equal for equal declarations, whatever their order in the manifest.
    pub fn seal(&self) -> Seal {
        let wishes = self.wishes.iter().map(|w| format!("{}\t{}\t{}\t{}\n", w.asker, w.purpose, w.package, w.accept));
        let mut lines: BTreeSet<String> = wishes.collect();
        // Words that no name of an asker can be: they hold a blank.
        lines.extend(self.platforms.iter().map(|platform| format!("for platform\t{platform}\n")));
        lines.extend(self.alterations.iter().map(|(package, patch)| format!("with patch\t{package}\t{patch}\n")));
        lines.extend(self.shared_roles.iter().map(|role| format!("sharing role\t{role}\n")));
        lines.extend(self.overrides.lines());
        Seal::of(lines.into_iter().collect::<String>().as_bytes())
    }
}

impl From<Vec<Requirement>> for Declared {
    fn from(wishes: Vec<Requirement>) -> Self {
        Self { wishes, ..Self::default() }
    }
}
