//! Where in the manifests that is which a collision comes of.

use std::collections::BTreeSet;

use yostel_documents::{PackageName, place_of_key};
use yostel_resolve::Collision;

use crate::error::{RequirementPlace, RulePlace, SearchError};
use crate::project::{LoadedProject, line_of};

/// Finds where in the manifests the needs of a collision are, and those of the ones beside it.
pub(crate) fn places_of(project: &LoadedProject, collision: &Collision) -> Vec<RequirementPlace> {
    let all = std::iter::once(collision).chain(&collision.others);
    all.flat_map(|collision| &collision.requirements).filter_map(|requirement| project.place_of(requirement)).collect()
}

/// Tells a collision, with where in the manifests what made it is.
pub(crate) fn told(project: &LoadedProject, collision: Box<Collision>) -> SearchError {
    let (places, rules) = (places_of(project, &collision), rules_about(project, &collision));
    SearchError::Collision { collision, places, rules, proof: None, unproved: None, search: None }
}

/// Finds what the manifest says, wherever they turn up, about the packages of a collision, and what it says of all.
pub(crate) fn rules_about(project: &LoadedProject, collision: &Collision) -> Vec<RulePlace> {
    let manifest = project.manifest();
    let all = std::iter::once(collision).chain(&collision.others);
    let met: BTreeSet<&PackageName> = all
        .flat_map(|one| {
            one.requirements
                .iter()
                .map(|requirement| &requirement.package)
                .chain(one.facts.iter().map(|fact| &fact.package))
        })
        .collect();
    let text = &project.top.text;
    let place = |span: &std::ops::Range<usize>, table, key: &str, says| RulePlace {
        line: line_of(text, span),
        table,
        key: key.to_owned(),
        says,
    };
    let agreed = project.overrides().agreed;
    let mut rules: Vec<RulePlace> = Vec::new();
    for (package, accept) in agreed.iter().filter(|(package, _)| met.contains(package)) {
        rules.push(place(&manifest.agreed[package].span, "agreed", package.as_str(), accept.to_string()));
    }
    for (package, force) in manifest.force.iter().filter(|(package, _)| met.contains(package)) {
        rules.push(place(&force.span, "force", package.as_str(), force.accept.to_string()));
    }
    // A package that is swapped for one that is swapped again never turns up itself.
    for (package, swap) in &manifest.swap {
        let end = project.overrides().bind(package, &yostel_versions::ConstraintText::anything());
        if end.is_some_and(|(end, _)| met.contains(&end)) {
            rules.push(place(&swap.span, "swap", package.as_str(), format!("for {}", swap.by)));
        }
    }
    for (table, key) in [("policy", "minimum-age"), ("project", "platforms")] {
        if let Some((span, says)) = place_of_key(text, table, key) {
            rules.push(place(&span, table, key, says));
        }
    }
    rules
}
