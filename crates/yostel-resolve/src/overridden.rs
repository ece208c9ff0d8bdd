//! Needs that do not get what they asked for, because the project says so.

use yostel_documents::{Declared, PackageName, Requirement};
use yostel_versions::Version;

use crate::resolution::Resolution;

/// A need that does not get what it asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Overridden {
    /// Who asked for what.
    pub asked: Requirement,
    /// The package it gets.
    pub package: PackageName,
    /// At this version.
    pub version: Version,
}

/// Lists the needs that get another package, or a version that they do not accept, because the project says so.
pub fn overridden(declared: &Declared, resolution: &Resolution) -> Vec<Overridden> {
    let needs = declared.requirements.iter().cloned().chain(resolution.requirements());
    let mut found: Vec<Overridden> = needs
        .filter_map(|asked| {
            let (package, accept) = declared.overrides.bind(&asked.package, &asked.accept)?;
            let bound = Requirement { package: package.clone(), accept, ..asked.clone() };
            let (_, choice) = resolution.met_by(&bound, &declared.platforms)?;
            let accepts = asked.accept.bind(&choice.numbering).is_ok_and(|c| c.accepts(&choice.release.version));
            let version = choice.release.version.clone();
            (package != asked.package || !accepts).then_some(Overridden { asked, package, version })
        })
        .collect();
    found.sort_by(|a, b| (&a.package, &a.asked).cmp(&(&b.package, &b.asked)));
    found
}
