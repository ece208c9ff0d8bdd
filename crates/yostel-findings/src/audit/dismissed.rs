//! Advisories of which somebody says that they do not affect what is locked.

use jiff::civil::Date;
use yostel_documents::{LockedPackage, OpenVex, PackageDocument, PackageName, PackageUrl, VexStatus};

use super::advisories::{Threat, identities_of};
use crate::bill::package_url;

/// An advisory that somebody dismissed.
#[derive(Debug, Clone, PartialEq)]
pub struct Dismissed {
    /// What it says of which release.
    pub threat: Threat,
    /// Why it does not count: in words, or by a word of the specification.
    pub why: Option<String>,
    /// The last day on which that holds.
    pub until: Option<Date>,
    /// The document that says so.
    pub file: String,
}

/// What becomes of an advisory.
#[derive(Debug, Clone, PartialEq)]
pub enum Dismissing {
    /// Nobody says that it does not affect the release.
    Stands,
    /// Somebody does.
    Dismissed(Dismissed),
    /// Somebody did, until a day that is past.
    Lapsed(Dismissed),
}

/// Looks up what documents say of an advisory and a locked release of a project, on a day. What was said last counts; of two
/// that were said at one time, the one that is read later. What some package is called is said by its source and its author.
pub fn dismissing(
    threat: &Threat,
    (project, locked, document): (&PackageName, &LockedPackage, Option<&PackageDocument>),
    statements: &[(String, OpenVex)],
    today: Date,
) -> Dismissing {
    let version = locked.version.as_str();
    let own = PackageUrl::parse(&package_url(&threat.package, Some(version), Some(&locked.from))).ok();
    let release = document.and_then(|document| document.release(&locked.version));
    let with_version = |url: PackageUrl| match url.version() {
        Some(_) => Some(url),
        None => PackageUrl::parse(&format!("{url}@{}", yostel_documents::url_part(version))).ok(),
    };
    let identities =
        release.into_iter().flat_map(|release| identities_of(&release.identities)).filter_map(with_version);
    let package: Vec<PackageUrl> = own.into_iter().chain(identities).collect();
    let project: Vec<PackageUrl> = PackageUrl::parse(&package_url(project, None, None)).into_iter().collect();
    let is_named = |names: &std::collections::BTreeSet<String>| {
        names.contains(&threat.id) || threat.aliases.iter().any(|alias| names.contains(alias))
    };
    let said = statements.iter().flat_map(|(file, vex)| vex.statements.iter().map(move |one| (file, one)));
    let said = said.filter(|(_, one)| is_named(&one.names) && one.is_about(&project, &package));
    let Some((file, last)) = said.max_by_key(|(_, one)| one.at) else { return Dismissing::Stands };
    if ![VexStatus::NotAffected, VexStatus::Fixed].contains(&last.status) {
        return Dismissing::Stands;
    }
    let words = || last.justification.as_ref().map(|one| one.replace('_', " "));
    let dismissed = Dismissed {
        threat: threat.clone(),
        why: last.why.clone().or_else(words),
        until: last.until,
        file: file.clone(),
    };
    match last.until {
        Some(until) if until < today => Dismissing::Lapsed(dismissed),
        _ => Dismissing::Dismissed(dismissed),
    }
}
