//! What a search will probably want next: the packages that the preferred releases need, found while others still answer.
//! A guess that spares waiting; what the search wants is the search's to say.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{PackageDocument, PackageName, Take, run_purpose};
use yostel_versions::ConstraintText;

use crate::problem::Problem;

/// How many releases are looked at in all: a guess is worth no more, however many there are.
const MOST_LOOKED_AT: usize = 1_000_000;

/// Walks from what the projects need to what the preferred releases of that need, and so on, as documents come.
#[derive(Debug)]
pub struct Ahead {
    problem: Problem,
    documents: BTreeMap<PackageName, PackageDocument>,
    /// Every need that was met on the way.
    needs: BTreeMap<PackageName, BTreeSet<ConstraintText>>,
    looked_at: usize,
}

impl Ahead {
    /// Begins with what the projects need, which is asked about anyway.
    pub fn new(problem: &Problem) -> Self {
        let mut needs: BTreeMap<PackageName, BTreeSet<ConstraintText>> = BTreeMap::new();
        for requirement in &problem.requirements {
            needs.entry(requirement.package.clone()).or_default().insert(requirement.accept.clone());
        }
        Self { problem: problem.clone(), documents: BTreeMap::new(), needs, looked_at: 0 }
    }

    /// Takes what is known of a package; returns the packages that will probably be wanted because of it, each once.
    pub fn hear(&mut self, document: &PackageDocument) -> BTreeSet<PackageName> {
        let mut next = BTreeSet::new();
        let package = document.name.clone();
        if self.documents.contains_key(&package) {
            return next;
        }
        self.documents.insert(package.clone(), document.clone());
        let mut open: Vec<(PackageName, ConstraintText)> = Vec::new();
        let met = self.needs.get(&package).into_iter().flatten();
        open.extend(met.map(|accept| (package.clone(), accept.clone())));
        while let Some((package, accept)) = open.pop() {
            for (needed, accept) in self.needs_of_preferred(&package, &accept) {
                let met = self.needs.entry(needed.clone()).or_default();
                let is_new_package = met.is_empty();
                if !met.insert(accept.clone()) {
                    continue;
                }
                if self.documents.contains_key(&needed) {
                    open.push((needed, accept));
                } else if is_new_package {
                    next.insert(needed);
                }
            }
        }
        next
    }

    /// Returns what the release needs that a need of a package will probably be given.
    fn needs_of_preferred(
        &mut self,
        package: &PackageName,
        accept: &ConstraintText,
    ) -> Vec<(PackageName, ConstraintText)> {
        let Some(document) = self.documents.get(package) else { return Vec::new() };
        self.looked_at += document.releases.len();
        if self.looked_at > MOST_LOOKED_AT {
            return Vec::new();
        }
        let Ok(constraint) = accept.bind(&document.numbering) else { return Vec::new() };
        let kept = self.problem.keep.get(package);
        let fits = document
            .releases
            .iter()
            .filter(|release| constraint.accepts(&release.version) && self.problem.bar(package, release).is_none());
        let is_kept = |version| kept.is_some_and(|kept| kept.contains(version));
        let oldest = self.problem.rules.take == Take::Oldest;
        let preferred = fits.max_by(|a, b| {
            let by_version = a.version.cmp(&b.version);
            let by_version = if oldest { by_version.reverse() } else { by_version };
            is_kept(&a.version).cmp(&is_kept(&b.version)).then(by_version)
        });
        let Some(release) = preferred else { return Vec::new() };
        let (needs, rules) = (release.needs(&run_purpose()), &self.problem.rules);
        rules.overrides.bind_all(needs.iter().map(|(name, accept)| (name, accept)), &rules.coexist)
    }
}
