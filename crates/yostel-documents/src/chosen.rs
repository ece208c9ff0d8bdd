//! What is in a set, by package: each once, but those that may coexist once a compatible line.

use std::collections::BTreeMap;
use std::ops::Index;

use yostel_versions::{ConstraintText, Numbering, Version};

use crate::name::PackageName;

/// What is at a version.
pub trait AtVersion {
    /// Returns the version.
    fn version(&self) -> &Version;
}

/// What is at a version, knows how its package numbers, and serves platforms.
pub trait Numbered: AtVersion {
    /// Returns how its package numbers.
    fn numbering(&self) -> &Numbering;

    /// Tells whether there is something for a platform.
    fn serves(&self, platform: &str) -> bool;
}

/// Things by package and version. By a package's name alone, the newest is meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Chosen<T>(BTreeMap<PackageName, Vec<T>>);

impl<T> Default for Chosen<T> {
    fn default() -> Self {
        Self(BTreeMap::new())
    }
}

impl<T: AtVersion> Chosen<T> {
    /// Returns the newest of a package.
    pub fn get(&self, package: &PackageName) -> Option<&T> {
        self.0.get(package)?.last()
    }

    /// Returns the newest of a package, to change it; not its version.
    pub fn get_mut(&mut self, package: &PackageName) -> Option<&mut T> {
        self.0.get_mut(package)?.last_mut()
    }

    /// Returns all of a package, rising.
    pub fn all(&self, package: &PackageName) -> &[T] {
        self.0.get(package).map_or(&[], Vec::as_slice)
    }

    /// Returns all of a package, rising, with its name as it is here.
    pub fn entry(&self, package: &PackageName) -> Option<(&PackageName, &[T])> {
        self.0.get_key_value(package).map(|(name, all)| (name, all.as_slice()))
    }

    /// Returns the one at a version.
    pub fn at(&self, package: &PackageName, version: &Version) -> Option<&T> {
        self.all(package).iter().find(|one| one.version() == version)
    }

    /// Returns the one at a version, to change it; not its version.
    pub fn at_mut(&mut self, package: &PackageName, version: &Version) -> Option<&mut T> {
        self.0.get_mut(package)?.iter_mut().find(|one| one.version() == version)
    }

    /// Tells whether a package is here.
    pub fn contains_key(&self, package: &PackageName) -> bool {
        self.0.contains_key(package)
    }

    /// Puts one in, in place of the one at the same version.
    pub fn insert(&mut self, package: PackageName, one: T) {
        let all = self.0.entry(package).or_default();
        match all.binary_search_by(|other| other.version().cmp(one.version())) {
            Ok(at) => all[at] = one,
            Err(at) => all.insert(at, one),
        }
    }

    /// Takes the newest of a package out.
    pub fn remove(&mut self, package: &PackageName) -> Option<T> {
        let all = self.0.get_mut(package)?;
        let one = all.pop();
        if all.is_empty() {
            self.0.remove(package);
        }
        one
    }

    /// Lists everything, by name and version.
    pub fn iter(&self) -> impl Iterator<Item = (&PackageName, &T)> {
        self.0.iter().flat_map(|(name, all)| all.iter().map(move |one| (name, one)))
    }

    /// Lists everything, by name and version, to change it; not a version.
    pub fn iter_mut(&mut self) -> impl Iterator<Item = (&PackageName, &mut T)> {
        self.0.iter_mut().flat_map(|(name, all)| all.iter_mut().map(move |one| (name, one)))
    }

    /// Lists the packages, each once.
    pub fn keys(&self) -> impl Iterator<Item = &PackageName> {
        self.0.keys()
    }

    /// Lists everything, by name and version, without the names.
    pub fn values(&self) -> impl Iterator<Item = &T> {
        self.0.values().flatten()
    }

    /// Lists everything, to change it; not a version.
    pub fn values_mut(&mut self) -> impl Iterator<Item = &mut T> {
        self.0.values_mut().flatten()
    }

    /// Counts everything.
    pub fn len(&self) -> usize {
        self.0.values().map(Vec::len).sum()
    }

    /// Tells whether a package is there at one version and no other.
    pub fn is_single(&self, package: &PackageName) -> bool {
        self.0.get(package).is_some_and(|all| all.len() == 1)
    }

    /// Tells whether there is nothing.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

impl<T: Numbered> Chosen<T> {
    /// Returns what meets a need: the newest of the package that it accepts and that serves these platforms.
    pub fn met_by(&self, package: &PackageName, accept: &ConstraintText, on: &[&String]) -> Option<(&PackageName, &T)> {
        let (name, all) = self.0.get_key_value(package)?;
        let accepts = |one: &&T| accept.bind(one.numbering()).is_ok_and(|c| c.accepts(one.version()));
        let serves = |one: &&T| on.iter().all(|platform| one.serves(platform));
        Some((name, all.iter().rfind(|one| accepts(one) && serves(one))?))
    }
}

impl<T: AtVersion> Index<&PackageName> for Chosen<T> {
    type Output = T;

    /// Returns the newest of a package.
    ///
    /// # Panics
    /// When there is none.
    fn index(&self, package: &PackageName) -> &T {
        self.get(package).expect("the package stands here")
    }
}

impl<T: AtVersion> FromIterator<(PackageName, T)> for Chosen<T> {
    fn from_iter<I: IntoIterator<Item = (PackageName, T)>>(all: I) -> Self {
        let mut chosen = Self::default();
        all.into_iter().for_each(|(package, one)| chosen.insert(package, one));
        chosen
    }
}
