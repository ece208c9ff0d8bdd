//! Edits of what binds packages wherever they turn up, and of which releases may be chosen at all: what there is to
//! edit, what each edit makes of a problem, and what is written for it in the end.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{PackageDocument, PackageName, Requirement, Word};
use yostel_versions::{ConstraintText, Version};

use crate::collision::Collision;
use crate::problem::{Barred, Problem};
use crate::resolution::Resolution;

/// One edit of a manifest that is about no need.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum RuleEdit {
    /// Agree on another constraint.
    Agree {
        /// The package.
        package: PackageName,
        /// What is agreed.
        from: ConstraintText,
        /// What to agree on.
        accept: ConstraintText,
        /// Whether that names a pre-release.
        pre_release: bool,
    },
    /// Give a swap another constraint.
    SwapAccept {
        /// The package that another stands in for.
        package: PackageName,
        /// The other.
        by: PackageName,
        /// Which of its versions would do now.
        accept: ConstraintText,
        /// Whether that names a pre-release.
        pre_release: bool,
    },
    /// Force a version no longer.
    Unforce {
        /// The package.
        package: PackageName,
        /// The version, as a constraint.
        from: ConstraintText,
    },
    /// Take a swap back.
    Unswap {
        /// The package that another stands in for.
        package: PackageName,
        /// The other.
        by: PackageName,
    },
    /// Choose a release although it is withdrawn or too young.
    Admit {
        /// The package.
        package: PackageName,
        /// The release.
        version: Version,
        /// What speaks against it.
        barred: Barred,
    },
    /// Permit one release per compatible line.
    Coexist {
        /// The package.
        package: PackageName,
    },
    /// Permit several packages in a role.
    ShareRole {
        /// The role.
        role: Word,
    },
    /// Have a need count on fewer platforms.
    OnlyOn {
        /// The need as it is.
        requirement: Requirement,
        /// The platform on which it counts no more.
        without: String,
        /// Its constraint then.
        accept: ConstraintText,
    },
    /// Have one package stand in for another.
    Swap {
        /// The package that is asked for.
        package: PackageName,
        /// The one to be there.
        by: PackageName,
        /// Which of its versions will do.
        accept: ConstraintText,
    },
    /// Serve a platform no longer.
    DropPlatform {
        /// The platform.
        platform: String,
    },
    /// Force a version, whatever is asked.
    Force {
        /// The package.
        package: PackageName,
        /// The version.
        version: Version,
    },
}

impl RuleEdit {
    /// Tells whether it gives up more than it changes: such an edit comes after those that do not.
    pub fn is_last_resort(&self) -> bool {
        match self {
            Self::Agree { .. }
            | Self::SwapAccept { .. }
            | Self::Unforce { .. }
            | Self::Unswap { .. }
            | Self::Coexist { .. }
            | Self::ShareRole { .. } => false,
            Self::Admit { barred, .. } => matches!(barred, Barred::Withdrawn(_)),
            Self::OnlyOn { .. } | Self::Swap { .. } | Self::DropPlatform { .. } | Self::Force { .. } => true,
        }
    }

    /// Returns the package of which a pre-release is named, which gives something up too.
    pub(crate) fn pre_release_of(&self) -> Option<&PackageName> {
        match self {
            Self::Agree { package, pre_release: true, .. }
            | Self::SwapAccept { by: package, pre_release: true, .. } => Some(package),
            _ => None,
        }
    }

    /// Orders kinds: what was written for this first, then permissions, then what gives something up.
    pub(crate) fn kind(&self) -> usize {
        match self {
            Self::Agree { .. } | Self::SwapAccept { .. } => 1,
            Self::Unforce { .. } | Self::Unswap { .. } => 2,
            Self::Admit { .. } => 3,
            Self::Coexist { .. } | Self::ShareRole { .. } => 4,
            Self::OnlyOn { .. } => 5,
            Self::Swap { .. } => 6,
            Self::DropPlatform { .. } => 7,
            Self::Force { .. } => 8,
        }
    }

    /// Makes the edit to a problem whose needs are as they are written.
    pub fn apply(&self, problem: &mut Problem) {
        let rules = &mut problem.rules;
        match self {
            Self::Agree { package, from, accept, .. } => {
                rules.overrides.agreed.insert(package.clone(), accept.clone());
                // A need that takes what is agreed says the same.
                for requirement in problem.requirements.iter_mut().filter(|one| one.package == *package) {
                    if requirement.accept.everywhere() == *from {
                        requirement.accept = accept.where_counts(&requirement.accept);
                    }
                }
            }
            Self::SwapAccept { package, by, accept, .. } | Self::Swap { package, by, accept } => {
                rules.overrides.swapped.insert(package.clone(), (by.clone(), Some(accept.clone())));
            }
            Self::Unforce { package, .. } => drop(rules.overrides.forced.remove(package)),
            Self::Unswap { package, .. } => drop(rules.overrides.swapped.remove(package)),
            Self::Admit { package, version, .. } => {
                rules.admitted.insert(package.clone(), version.to_string());
            }
            Self::Coexist { package } => drop(rules.coexist.insert(package.clone())),
            Self::ShareRole { role } => drop(rules.shared_roles.insert(role.clone())),
            Self::OnlyOn { requirement, accept, .. } => {
                for one in problem.requirements.iter_mut().filter(|one| *one == requirement) {
                    one.accept = accept.clone();
                }
            }
            Self::DropPlatform { platform } => drop(rules.platforms.remove(platform)),
            Self::Force { package, version } => {
                let accept = ConstraintText::parse(&format!("={version}")).expect("a version makes a constraint");
                rules.overrides.forced.insert(package.clone(), accept);
            }
        }
    }

    /// Writes what is to be there for an edit that was tried with any version: the line of the one that was chosen.
    /// Nothing when it was not there.
    pub(crate) fn settled_on(&self, resolution: &Resolution) -> Option<Self> {
        // Of a package that may coexist, all lines that are there are meant.
        let chosen =
            |package: &PackageName| resolution.chosen.all(package).iter().map(|choice| &choice.release.version);
        let line_of = |package: &PackageName| {
            let lines: Vec<String> = chosen(package).map(|version| format!("^{version}")).collect();
            ConstraintText::parse(&lines.join(" || ")).ok()
        };
        // Where a release does, there is an edit for that.
        let as_meant =
            |package: &PackageName, pre_release: &bool| chosen(package).any(Version::is_pre_release) == *pre_release;
        match self {
            Self::Agree { package, from, pre_release, .. } => {
                let (package, from, accept) = (package.clone(), from.clone(), line_of(package)?);
                as_meant(&package, pre_release).then_some(Self::Agree {
                    package,
                    from,
                    accept,
                    pre_release: *pre_release,
                })
            }
            Self::SwapAccept { package, by, pre_release, .. } => {
                let (package, accept) = (package.clone(), line_of(by)?);
                as_meant(by, pre_release).then(|| Self::SwapAccept {
                    package,
                    by: by.clone(),
                    accept,
                    pre_release: *pre_release,
                })
            }
            Self::Swap { package, by, .. } => {
                Some(Self::Swap { package: package.clone(), by: by.clone(), accept: line_of(by)? })
            }
            other => Some(other.clone()),
        }
    }
}

/// Lists all that might be edited, each edit tried with any version where it needs one: of the packages that are known,
/// or, when that is too much, of those alone that collide; and whether it is all. Whatever ends a collision by itself is
/// about a package in it.
pub(crate) fn candidates<'k>(
    problem: &Problem,
    documents: impl Iterator<Item = &'k PackageDocument>,
    collision: &Collision,
    most: usize,
) -> (Vec<RuleEdit>, bool) {
    let all: Vec<&PackageDocument> = documents.collect();
    let whole = of_packages(problem, &all, &|_| true, collision);
    if whole.len() <= most {
        return (whole, true);
    }
    let met = packages_of(collision);
    (of_packages(problem, &all, &|package| met.contains(package), collision), false)
}

fn packages_of(collision: &Collision) -> BTreeSet<PackageName> {
    let all = std::iter::once(collision).chain(&collision.others);
    let named = all.flat_map(|one| {
        let needs = one.requirements.iter().map(|requirement| &requirement.package);
        let facts = one.facts.iter().flat_map(|fact| [&fact.asker, &fact.package]);
        let roles = one.roles.iter().flat_map(|clash| [&clash.one, &clash.other]);
        needs.chain(facts).chain(roles)
    });
    named.cloned().collect()
}

fn of_packages(
    problem: &Problem,
    documents: &[&PackageDocument],
    is_meant: &dyn Fn(&PackageName) -> bool,
    collision: &Collision,
) -> Vec<RuleEdit> {
    let (rules, any) = (&problem.rules, ConstraintText::anything());
    let mut edits = Vec::new();
    // With any release, and with pre-releases too where there are some.
    let accepts = |package: &PackageName| {
        let document = documents.iter().find(|document| document.name == *package);
        let releases = document.map_or(&[][..], |document| &document.releases);
        let pre_releases = releases.iter().filter(|release| release.version.is_pre_release());
        let named: String = pre_releases.map(|release| format!(" || ={}", release.version)).collect();
        let with_those = (!named.is_empty()).then(|| ConstraintText::parse_joined(&format!("*{named}")).ok()).flatten();
        std::iter::once((any.clone(), false)).chain(with_those.map(|accept| (accept, true)))
    };
    for (package, from) in rules.overrides.agreed.iter().filter(|(package, _)| is_meant(package)) {
        for (accept, pre_release) in accepts(package) {
            edits.push(RuleEdit::Agree { package: package.clone(), from: from.clone(), accept, pre_release });
        }
    }
    // Whatever stands in for something was asked for by another name; the end of a chain is what is met.
    for (package, (by, _)) in &rules.overrides.swapped {
        let end = rules.overrides.bind(package, &any).map_or_else(|| by.clone(), |(end, _)| end);
        if is_meant(&end) {
            for (accept, pre_release) in accepts(&end) {
                edits.push(RuleEdit::SwapAccept { package: package.clone(), by: by.clone(), accept, pre_release });
            }
            edits.push(RuleEdit::Unswap { package: package.clone(), by: by.clone() });
        }
    }
    for (package, from) in rules.overrides.forced.iter().filter(|(package, _)| is_meant(package)) {
        edits.push(RuleEdit::Unforce { package: package.clone(), from: from.clone() });
    }
    let mut roles: BTreeMap<&Word, BTreeSet<&PackageName>> = BTreeMap::new();
    for document in documents {
        let is_met = is_meant(&document.name);
        for release in document.releases.iter() {
            let barred = problem.bar(&document.name, release).filter(|_| is_met);
            if let Some(barred) = barred.filter(|barred| *barred != Barred::PublishedLater) {
                let (package, version) = (document.name.clone(), release.version.clone());
                edits.push(RuleEdit::Admit { package, version, barred });
            }
            for role in release.roles() {
                roles.entry(role).or_default().insert(&document.name);
            }
        }
        let lines = document.releases.windows(2);
        let has_lines = lines.into_iter().any(|two| {
            let [one, other] = [&two[0].version, &two[1].version];
            !document.numbering.is_same_line(one, other)
        });
        if is_met && has_lines && !rules.coexist.contains(&document.name) {
            edits.push(RuleEdit::Coexist { package: document.name.clone() });
        }
    }
    for (role, fillers) in roles {
        let is_met = fillers.iter().any(|package| is_meant(package));
        if is_met && fillers.len() > 1 && !rules.shared_roles.contains(role) {
            edits.push(RuleEdit::ShareRole { role: role.clone() });
            edits.extend(swaps_among(&fillers, problem, is_meant));
        }
    }
    edits.extend(of_platforms(problem, is_meant));
    edits.extend(forced_versions(problem, collision));
    edits
}

/// Lists how one of the packages that fill a role might stand in for another.
fn swaps_among(
    fillers: &BTreeSet<&PackageName>,
    problem: &Problem,
    is_meant: &dyn Fn(&PackageName) -> bool,
) -> Vec<RuleEdit> {
    let overrides = &problem.rules.overrides;
    let is_free =
        |package: &PackageName| !overrides.swapped.contains_key(package) && !overrides.forced.contains_key(package);
    let pairs = fillers.iter().flat_map(|package| fillers.iter().map(move |by| (*package, *by)));
    let open = pairs.filter(|(package, by)| package != by && is_meant(package) && is_free(package));
    // A swap that leads back is none.
    let open = open.filter(|(package, by)| {
        let end = overrides.bind(by, &ConstraintText::anything());
        end.is_none_or(|(end, _)| end != **package)
    });
    open.map(|(package, by)| {
        let accept = ConstraintText::anything();
        RuleEdit::Swap { package: package.clone(), by: by.clone(), accept }
    })
    .collect()
}

/// Lists platforms that might not be served, by one need or at all.
fn of_platforms(problem: &Problem, is_meant: &dyn Fn(&PackageName) -> bool) -> Vec<RuleEdit> {
    let platforms = &problem.rules.platforms;
    let mut edits = Vec::new();
    let end = |package: &PackageName| problem.rules.overrides.bind(package, &ConstraintText::anything());
    let is_met =
        |one: &&Requirement| is_meant(&one.package) || end(&one.package).is_some_and(|(end, _)| is_meant(&end));
    for requirement in problem.requirements.iter().filter(is_met) {
        let counts: Vec<&String> = platforms.iter().filter(|platform| requirement.accept.covers(platform)).collect();
        for without in counts.iter().filter(|_| counts.len() > 1) {
            let mut patterns = requirement.accept.patterns();
            patterns.push(format!("!{without}"));
            let accept = requirement.accept.everywhere().only_on(patterns.iter().map(String::as_str));
            let Ok(accept) = accept else { continue };
            let (requirement, without) = (requirement.clone(), (*without).clone());
            edits.push(RuleEdit::OnlyOn { requirement, without, accept });
        }
    }
    if platforms.len() > 1 {
        edits.extend(platforms.iter().map(|platform| RuleEdit::DropPlatform { platform: platform.clone() }));
    }
    edits
}

/// Lists versions that might be forced, of packages that are asked for in several ways: the newest of each.
fn forced_versions(problem: &Problem, collision: &Collision) -> Vec<RuleEdit> {
    let mut edits = Vec::new();
    for one in std::iter::once(collision).chain(&collision.others) {
        let mut asked: BTreeMap<&PackageName, BTreeSet<&Version>> = BTreeMap::new();
        for reach in &one.reach {
            asked.entry(&reach.package).or_default().extend(reach.versions.last());
        }
        let several = asked
            .into_iter()
            .filter(|(package, newest)| newest.len() > 1 && !problem.rules.overrides.forced.contains_key(*package));
        for (package, newest) in several {
            let force = |version: &Version| RuleEdit::Force { package: package.clone(), version: version.clone() };
            edits.extend(newest.into_iter().rev().map(force));
        }
    }
    edits.sort();
    edits.dedup();
    edits
}
