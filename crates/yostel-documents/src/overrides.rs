//! What a project says about packages wherever they turn up, whoever asks: agreed constraints, forced versions, packages
//! that stand in for others. All three are rewritings of needs, the same for a project's and for a release's; from there
//! on, resolving, judging and locking know nothing of them.

use std::collections::{BTreeMap, BTreeSet};

use yostel_versions::ConstraintText;

use crate::name::PackageName;
use crate::requirement::Requirement;

/// What a project says about packages wherever they turn up.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Overrides {
    /// Constraints that bind a package beside what is asked of it.
    pub agreed: BTreeMap<PackageName, ConstraintText>,
    /// Constraints of one version that are in place of whatever is asked.
    pub forced: BTreeMap<PackageName, ConstraintText>,
    /// Packages that stand in for others, each with the constraint that then counts; without one, what was asked.
    pub swapped: BTreeMap<PackageName, (PackageName, Option<ConstraintText>)>,
}

impl Overrides {
    /// Returns what a need of a package comes to; nothing when it stays as it is.
    pub fn bind(&self, package: &PackageName, accept: &ConstraintText) -> Option<(PackageName, ConstraintText)> {
        let (mut package, mut accept, mut changed) = (package, accept.clone(), false);
        // A chain of swaps is followed to its end; the manifest refuses circles, and their length is the limit here.
        for _ in 0..self.swapped.len() {
            let Some((other, instead)) = self.swapped.get(package) else { break };
            package = other;
            if let Some(instead) = instead {
                accept = instead.where_counts(&accept);
            }
            changed = true;
        }
        if let Some(forced) = self.forced.get(package) {
            let forced = forced.where_counts(&accept);
            changed |= forced != accept;
            accept = forced;
        } else if let Some(agreed) = self.agreed.get(package).filter(|agreed| **agreed != accept.everywhere()) {
            accept = accept.and(agreed);
            changed = true;
        }
        changed.then(|| (package.clone(), accept))
    }

    /// Rewrites needs of one release; those that become needs of one package, and may meet on a platform, are joined where
    /// that may coexist: whoever asks gets one of its versions. Elsewhere there is one version for all needs anyhow, each of
    /// which has to accept it by itself.
    pub fn bind_all<'a>(
        &self,
        needs: impl IntoIterator<Item = (&'a PackageName, &'a ConstraintText)>,
        coexist: &BTreeSet<PackageName>,
    ) -> Vec<(PackageName, ConstraintText)> {
        let mut bound: Vec<(PackageName, ConstraintText)> = Vec::new();
        for (package, accept) in needs {
            let (package, accept) = self.bind(package, accept).unwrap_or_else(|| (package.clone(), accept.clone()));
            let joins = coexist.contains(&package);
            let one = (package, accept);
            if joins {
                let meets = |(other, there): &(_, ConstraintText), (package, accept): &_| {
                    other == package && there.meets(accept)
                };
                join_in(&mut bound, one, meets, |(_, there), (package, accept)| (package, there.joined(&accept)));
            } else if !bound.contains(&one) {
                bound.push(one);
            }
        }
        bound
    }

    /// Returns a requirement as it binds.
    pub fn bound(&self, requirement: &Requirement) -> Requirement {
        match self.bind(&requirement.package, &requirement.accept) {
            Some((package, accept)) => Requirement { package, accept, ..requirement.clone() },
            None => requirement.clone(),
        }
    }

    /// Returns requirements as they bind. Whoever needs a package of several versions twice, for one purpose, gets one of
    /// them: those are joined.
    pub fn bound_all<'r>(
        &self,
        requirements: impl IntoIterator<Item = &'r Requirement>,
        coexist: &BTreeSet<PackageName>,
    ) -> Vec<Requirement> {
        self.bound_with_written(requirements, coexist).into_iter().map(|(bound, _)| bound).collect()
    }

    /// The same, each with those, as they are written, that came to it.
    pub fn bound_with_written<'r>(
        &self,
        requirements: impl IntoIterator<Item = &'r Requirement>,
        coexist: &BTreeSet<PackageName>,
    ) -> Vec<(Requirement, Vec<&'r Requirement>)> {
        let mut all: Vec<(Requirement, Vec<&'r Requirement>)> = Vec::new();
        for requirement in requirements {
            let bound = self.bound(requirement);
            let joins = coexist.contains(&bound.package);
            let meets = |(other, _): &(Requirement, _), (bound, _): &(Requirement, _)| {
                let one = (&other.asker, &other.purpose, &other.package);
                joins && one == (&bound.asker, &bound.purpose, &bound.package) && other.accept.meets(&bound.accept)
            };
            join_in(&mut all, (bound, vec![requirement]), meets, |(there, mut written), (one, more)| {
                written.extend(more);
                (Requirement { accept: there.accept.joined(&one.accept), ..there }, written)
            });
        }
        all
    }

    /// Tells whether a swap leads back to itself, which a manifest may not say.
    pub fn leads_back(&self) -> bool {
        self.swapped.iter().any(|(package, (by, _))| {
            let mut at = by;
            for _ in 0..self.swapped.len() {
                // The same package, from elsewhere, is no way back.
                let Some((next, _)) = self.swapped.get(at).filter(|(next, _)| next != at && at != package) else {
                    break;
                };
                at = next;
            }
            at == package && by != package
        })
    }

    /// Tells whether nothing is said.
    pub fn is_empty(&self) -> bool {
        self.agreed.is_empty() && self.forced.is_empty() && self.swapped.is_empty()
    }

    /// Writes what is said, a line each: equal texts for what has the same effect.
    pub(crate) fn lines(&self) -> BTreeSet<String> {
        let agreed = self.agreed.iter().map(|(package, accept)| format!("agreed on\t{package}\t{accept}\n"));
        let forced = self.forced.iter().map(|(package, accept)| format!("forced to\t{package}\t{accept}\n"));
        let swapped = self.swapped.iter().map(|(package, (other, accept))| {
            format!("swapped for\t{package}\t{other}\t{}\n", accept.as_ref().map_or("", ConstraintText::as_str))
        });
        agreed.chain(forced).chain(swapped).collect()
    }
}

/// Joins one to those that it meets, until it meets none; it is then where the first of them was.
fn join_in<T>(all: &mut Vec<T>, mut one: T, meets: impl Fn(&T, &T) -> bool, join: impl Fn(T, T) -> T) {
    let mut at = all.len();
    while let Some(met) = all.iter().position(|other| meets(other, &one)) {
        at = at.min(met);
        one = join(all.remove(met), one);
    }
    all.insert(at, one);
}

#[cfg(test)]
mod tests {
    use super::*;
    use yostel_versions::Numbering;

    fn name(text: &str) -> PackageName {
        PackageName::parse(text).unwrap()
    }

    fn accept(text: &str) -> ConstraintText {
        ConstraintText::parse(text).unwrap()
    }

    #[test]
    fn swaps_are_followed_then_force_or_agreement_counts() {
        let overrides = Overrides {
            agreed: [(name("rig"), accept("^0.9")), (name("bell"), accept("^1"))].into(),
            forced: [(name("rope"), accept("=3.2.7"))].into(),
            swapped: [
                (name("old"), (name("older"), None)),
                (name("older"), (name("rope"), Some(accept("^3")))),
                (name("ring"), (name("bell"), None)),
            ]
            .into(),
        };
        let bind = |package: &str, text: &str| {
            overrides.bind(&name(package), &accept(text)).map(|(package, accept)| format!("{package} {accept}"))
        };
        assert_eq!(bind("old", "^1").unwrap(), "rope =3.2.7");
        assert_eq!(bind("rope", "=3.2.7"), None);
        assert_eq!(bind("rig", "^0.9"), None);
        assert_eq!(bind("rig", ">=0.5 || ^2").unwrap(), "rig >=0.5, ^0.9 || ^2, ^0.9");
        assert_eq!(bind("ring", "<1.5").unwrap(), "bell <1.5, ^1");
        assert_eq!(bind("other", "*"), None);
        let (ring, bell) = ((name("ring"), accept("<1.5")), (name("bell"), accept(">1.1")));
        let all = |coexist: &[PackageName]| {
            overrides.bind_all([(&ring.0, &ring.1), (&bell.0, &bell.1)], &coexist.iter().cloned().collect())
        };
        assert_eq!(all(&[]), [(name("bell"), accept("<1.5, ^1")), (name("bell"), accept(">1.1, ^1"))]);
        assert_eq!(all(&[name("bell")]), [(name("bell"), accept("<1.5, ^1, >1.1"))]);
    }

    #[test]
    fn a_swap_that_leads_back_is_found_wherever_it_begins() {
        let leads_back = |swaps: &[(&str, &str)]| {
            let swapped = swaps.iter().map(|(package, by)| (name(package), (name(by), None))).collect();
            Overrides { swapped, ..Overrides::default() }.leads_back()
        };
        assert!(leads_back(&[("a", "b"), ("b", "a")]) && leads_back(&[("x", "y"), ("a", "b"), ("b", "c"), ("c", "a")]));
        assert!(!leads_back(&[("a", "b"), ("b", "c"), ("d", "c")]));
        assert!(!leads_back(&[("a", "a"), ("b", "a")]), "the same package from elsewhere");
    }

    #[test]
    fn joined_constraints_admit_what_both_admit() {
        let numbering = Numbering::default();
        let texts = ["*", "^1", ">=1.2, <3", "=1.4.0 || ^2.1", "!=2.1.0", "<1.3 || >=2.1"];
        for (one, other) in texts.iter().flat_map(|one| texts.iter().map(move |other| (one, other))) {
            let joined = accept(one).and(&accept(other)).bind(&numbering).unwrap();
            for version in ["1.0.0", "1.2.0", "1.4.0", "2.0.0", "2.1.0", "2.2.0", "3.0.0"] {
                let version = numbering.parse_version(version).unwrap();
                let accepts = |text: &str| accept(text).bind(&numbering).unwrap().accepts(&version);
                assert_eq!(joined.accepts(&version), accepts(one) && accepts(other), "{one} and {other}: {version}");
            }
        }
    }
}
