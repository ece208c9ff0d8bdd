//! A bill of materials: what is locked, with licences, digests and who needs whom, as data for whatever form it is written in.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use yostel_documents::{
    Artifact, Asker, Declared, Lockfile, Origin, PackageDocument, PackageName, Purpose, Seal, TreeDigest, url_part,
};
use yostel_versions::{ConstraintText, Version};

use crate::needs::{asker_of, needs_by_asker};

/// A bill of materials.
#[derive(Debug, Clone)]
pub struct Bill {
    /// The project that it is of.
    pub project: Subject,
    /// Other projects of its workspace that are not locked as packages, and need something.
    pub others: Vec<Subject>,
    /// What is locked, by name and version.
    pub parts: Vec<Part>,
    /// Digest of the lockfile that it was made of.
    pub seal: Seal,
    /// When the last of the releases was published, as far as sources tell; nothing where none does.
    pub last_published: Option<Timestamp>,
}

/// A project.
#[derive(Debug, Clone)]
pub struct Subject {
    /// Its name.
    pub name: PackageName,
    /// Its version, where it has one.
    pub version: Option<String>,
    /// Its licence, as its manifest says.
    pub licence: Option<String>,
    /// What it needs itself.
    pub needs: Vec<Needed>,
}

/// One that is needed.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Needed {
    /// The package.
    pub package: PackageName,
    /// The locked version.
    pub version: Version,
    /// What for, and which versions will do.
    pub purposes: BTreeMap<Purpose, ConstraintText>,
}

/// A locked package.
#[derive(Debug, Clone)]
pub struct Part {
    /// Its name.
    pub package: PackageName,
    /// Its version.
    pub version: Version,
    /// Where it comes from.
    pub from: Origin,
    /// What it is needed for.
    pub purposes: BTreeSet<Purpose>,
    /// Its archives, by platform.
    pub artifacts: Vec<Artifact>,
    /// The patch that is made to it: its file, why, and the trees that come of it, in the order of the archives.
    pub patch: Option<PatchOf>,
    /// The licence that its release tells.
    pub licence: Option<String>,
    /// When it was published, as far as a source tells.
    pub published: Option<Timestamp>,
    /// What it needs itself.
    pub needs: Vec<Needed>,
}

/// A patch that is made to a package.
#[derive(Debug, Clone)]
pub struct PatchOf {
    /// Its file, from the root.
    pub file: String,
    /// Why it is there.
    pub why: String,
    /// The trees that come of it, in the order of the archives.
    pub trees: Vec<TreeDigest>,
}

/// Makes a bill of what is locked, and fits what is declared. `projects` are those of the workspace, the one at the root first, without what they need;
/// `patches` says where the patch of a package is, and why. Without a document, nothing is told of a licence.
///
/// # Panics
/// When `projects` is empty.
pub fn bill(
    lockfile: &Lockfile,
    declared: &Declared,
    projects: &[Subject],
    documents: &BTreeMap<PackageName, PackageDocument>,
    patches: &BTreeMap<PackageName, (String, String)>,
) -> Bill {
    let needs = needs_by_asker(lockfile, declared);
    let needs_of = |asker: &Asker| -> Vec<Needed> {
        let mut purposes: BTreeMap<(&PackageName, &Version), BTreeMap<Purpose, ConstraintText>> = BTreeMap::new();
        for need in needs.get(asker).into_iter().flatten() {
            let of_package = purposes.entry((&need.package, &need.version)).or_default();
            of_package.insert(need.purpose.clone(), need.accept.clone());
        }
        let needed = purposes.into_iter().map(|((package, version), purposes)| Needed {
            package: package.clone(),
            version: version.clone(),
            purposes,
        });
        needed.collect()
    };
    let parts: Vec<Part> = lockfile
        .chosen
        .iter()
        .map(|(package, locked)| {
            let release = documents.get(package).and_then(|document| document.release(&locked.version));
            let subject = projects.iter().find(|project| project.name == *package);
            let patch = locked.altered.as_ref().and_then(|altered| {
                let (file, why) = patches.get(package)?.clone();
                Some(PatchOf { file, why, trees: altered.trees.clone() })
            });
            Part {
                package: package.clone(),
                version: locked.version.clone(),
                from: locked.from.clone(),
                purposes: locked.purposes.clone(),
                artifacts: locked.artifacts.clone(),
                patch,
                licence: release
                    .and_then(|release| release.licence.clone())
                    .or_else(|| subject.and_then(|subject| subject.licence.clone())),
                published: release.map(|release| release.published),
                needs: needs_of(&asker_of(package, locked)),
            }
        })
        .collect();
    let with_needs =
        |subject: &Subject| Subject { needs: needs_of(&Asker::Project(subject.name.clone())), ..subject.clone() };
    let is_locked = |subject: &&Subject| lockfile.chosen.get(&subject.name).is_some();
    let others = projects[1..].iter().filter(|subject| !is_locked(subject)).map(with_needs);
    Bill {
        project: with_needs(&projects[0]),
        others: others.filter(|subject| !subject.needs.is_empty()).collect(),
        last_published: parts.iter().filter_map(|part| part.published).max(),
        parts,
        seal: lockfile.seal(),
    }
}

/// Writes the package URL (purl, type `generic`) of a package: its levels are the namespace, a commit is `vcs_url`.
pub fn package_url(package: &PackageName, version: Option<&str>, from: Option<&Origin>) -> String {
    let mut url = "pkg:generic/".to_owned();
    url.push_str(&package.as_str().split('/').map(url_part).collect::<Vec<String>>().join("/"));
    if let Some(version) = version {
        url.push_str(&format!("@{}", url_part(version)));
    }
    match from {
        Some(Origin::Git { place, commit }) if is_of_the_world(&place.address) => {
            url.push_str(&format!(
                "?vcs_url={}",
                value(&format!("git+{}@{commit}", without_credentials(&place.address)))
            ));
            if let Some(folder) = &place.folder {
                let parts = folder.split('/').filter(|part| !part.is_empty());
                url.push_str(&format!("#{}", parts.map(url_part).collect::<Vec<String>>().join("/")));
            }
        }
        Some(Origin::Archive { address }) if is_of_the_world(address) => {
            url.push_str(&format!("?download_url={}", value(&without_credentials(address))));
        }
        _ => {}
    }
    url
}

/// Encodes the value of a qualifier, in which `/` parts nothing.
fn value(text: &str) -> String {
    text.split('/').map(url_part).collect::<Vec<String>>().join("/")
}

/// Tells whether an address means the same to everybody; others are of this machine, and nobody else's to know.
pub fn is_of_the_world(address: &str) -> bool {
    ["https://", "http://", "ssh://", "git://"].iter().any(|scheme| address.starts_with(scheme))
}

/// Leaves out of an address who asks with which password: a bill goes to others.
pub fn without_credentials(address: &str) -> String {
    let Some((scheme, rest)) = address.split_once("://") else { return address.to_owned() };
    let (host, path) = rest.find('/').map_or((rest, ""), |at| rest.split_at(at));
    match host.rsplit_once('@') {
        Some((_, host)) => format!("{scheme}://{host}{path}"),
        None => address.to_owned(),
    }
}
