//! A bill of materials as SPDX 2.3 (ISO/IEC 5962), in JSON.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use serde_json::{Value, json};
use yostel_documents::{LicenceVerdict, Origin, PackageName, judge_licence};
use yostel_findings::{Bill, Needed, Part, Subject, is_of_the_world, package_url, without_credentials};

/// Writes the bill: the same bytes for the same bill. As the time at which it was created stands that of the last release in
/// it, since the form asks for one.
pub(crate) fn document(bill: &Bill) -> String {
    let ids = Ids::of(bill);
    let subjects = || std::iter::once(&bill.project).chain(&bill.others);
    let packages = subjects()
        .map(|subject| subject_package(subject, &ids))
        .chain(bill.parts.iter().map(|part| part_package(part, &ids)));
    let mut relations: Vec<Value> =
        subjects().map(|subject| relation("SPDXRef-DOCUMENT", "DESCRIBES", &ids.subject(subject))).collect();
    for subject in subjects() {
        let needs_of_subject = |needed: &Needed| {
            let mut relation = needs(&ids.subject(subject), needed, &ids);
            let lines = needed.purposes.iter().map(|(purpose, accept)| format!("for {purpose}: {accept}"));
            relation["comment"] = lines.collect::<Vec<String>>().join("\n").into();
            relation
        };
        relations.extend(subject.needs.iter().map(needs_of_subject));
    }
    for part in &bill.parts {
        let id = ids.part(&part.package, part.version.as_str());
        relations.extend(part.needs.iter().map(|needed| needs(&id, needed, &ids)));
        if part.patch.is_some() {
            let says = "the package is installed with a patch, which its comment tells";
            relations.push(json!({
                "spdxElementId": id, "relationshipType": "OTHER", "relatedSpdxElement": id, "comment": says
            }));
        }
    }
    let created = bill.last_published.unwrap_or(Timestamp::UNIX_EPOCH).strftime("%Y-%m-%dT%H:%M:%SZ").to_string();
    let mut spdx = json!({
        "spdxVersion": "SPDX-2.3",
        "dataLicense": "CC0-1.0",
        "SPDXID": "SPDXRef-DOCUMENT",
        "name": bill.project.name.as_str(),
        "documentNamespace": format!("urn:uuid:{}", super::uuid_of(bill, "SPDX")),
        "creationInfo": { "created": created, "creators": [format!("Tool: yostel-{}", env!("CARGO_PKG_VERSION"))] },
        "packages": packages.collect::<Vec<Value>>(),
        "relationships": relations,
    });
    let extracted = extracted(bill);
    if !extracted.is_empty() {
        spdx["hasExtractedLicensingInfos"] = extracted.into();
    }
    let mut text = serde_json::to_string_pretty(&spdx).expect("texts, numbers and maps with text keys serialise");
    text.push('\n');
    text
}

/// The identifiers of what is in the bill: letters, digits, `.` and `-` only, so that two names may have to be told apart.
struct Ids(BTreeMap<String, String>);

impl Ids {
    fn of(bill: &Bill) -> Self {
        let subjects = std::iter::once(&bill.project).chain(&bill.others).map(|one| format!("project {}", one.name));
        let parts = bill.parts.iter().map(|part| format!("{} {}", part.package, part.version));
        let mut taken = BTreeSet::new();
        let mut ids = BTreeMap::new();
        for key in subjects.chain(parts) {
            let plain: String =
                key.chars().map(|c| if c.is_ascii_alphanumeric() || c == '.' { c } else { '-' }).collect();
            let mut id = format!("SPDXRef-{plain}");
            let mut number = 1;
            while !taken.insert(id.clone()) {
                number += 1;
                id = format!("SPDXRef-{plain}-{number}");
            }
            ids.insert(key, id);
        }
        Self(ids)
    }

    fn subject(&self, subject: &Subject) -> String {
        self.0[&format!("project {}", subject.name)].clone()
    }

    fn part(&self, package: &PackageName, version: &str) -> String {
        self.0[&format!("{package} {version}")].clone()
    }
}

fn relation(from: &str, kind: &str, to: &str) -> Value {
    json!({ "spdxElementId": from, "relationshipType": kind, "relatedSpdxElement": to })
}

/// What is needed to build or to test alone is told from the side of what is needed (SPDX 2.3, clause 11.1).
fn needs(of: &str, needed: &Needed, ids: &Ids) -> Value {
    let id = ids.part(&needed.package, needed.version.as_str());
    let purposes: Vec<&str> = needed.purposes.keys().map(|purpose| purpose.as_str()).collect();
    match purposes[..] {
        ["build"] => relation(&id, "BUILD_DEPENDENCY_OF", of),
        ["test"] => relation(&id, "TEST_DEPENDENCY_OF", of),
        _ => relation(of, "DEPENDS_ON", &id),
    }
}

fn is_expression(licence: &str) -> bool {
    !matches!(judge_licence(licence, &[]), LicenceVerdict::NoExpression(_))
}

fn declared(licence: Option<&String>) -> String {
    licence.filter(|licence| is_expression(licence)).cloned().unwrap_or_else(|| "NOASSERTION".to_owned())
}

/// Licences that are on no list have to be told of; what they say, nobody told us.
fn extracted(bill: &Bill) -> Vec<Value> {
    let licences = bill.parts.iter().filter_map(|part| part.licence.as_ref());
    let own = std::iter::once(&bill.project).chain(&bill.others).filter_map(|one| one.licence.as_ref());
    let is_part = |c: char| c.is_ascii_alphanumeric() || ".-:".contains(c);
    let words = licences.chain(own).filter(|one| is_expression(one)).flat_map(|one| one.split(|c| !is_part(c)));
    let names: BTreeSet<&str> = words.filter(|word| word.starts_with("LicenseRef-")).collect();
    let told = names.into_iter().map(|name| {
        json!({ "licenseId": name, "extractedText": "The text is with the package, or with whoever published it.", "name": name })
    });
    told.collect()
}

fn subject_package(subject: &Subject, ids: &Ids) -> Value {
    let mut package = json!({
        "SPDXID": ids.subject(subject),
        "name": subject.name.as_str(),
        "downloadLocation": "NOASSERTION",
        "filesAnalyzed": false,
        "licenseConcluded": "NOASSERTION",
        "licenseDeclared": declared(subject.licence.as_ref()),
        "copyrightText": "NOASSERTION",
        "primaryPackagePurpose": "APPLICATION",
    });
    if let Some(version) = &subject.version {
        package["versionInfo"] = version.as_str().into();
    }
    package
}

fn part_package(part: &Part, ids: &Ids) -> Value {
    let version = part.version.as_str();
    let location = match &part.from {
        Origin::Git { place, commit } if is_of_the_world(&place.address) => {
            let address = super::as_iri(&without_credentials(&place.address));
            let folder = place.folder.as_ref().map(|folder| format!("#{}", super::as_iri(folder))).unwrap_or_default();
            format!("git+{address}@{commit}{folder}")
        }
        Origin::Archive { address } if is_of_the_world(address) => super::as_iri(&without_credentials(address)),
        _ => "NOASSERTION".to_owned(),
    };
    let mut says = vec![format!("from {}", super::from_words(&part.from))];
    says.extend(
        part.artifacts.iter().map(|one| format!("{}: archive {}, tree {}", one.platform, one.digest, one.tree)),
    );
    if let Some(patch) = &part.patch {
        says.push(format!("installed with the patch {}: {}", patch.file, patch.why));
        says.extend(
            part.artifacts.iter().zip(&patch.trees).map(|(one, tree)| format!("{}: patched tree {tree}", one.platform)),
        );
    }
    if let Some(licence) = part.licence.as_ref().filter(|licence| !is_expression(licence)) {
        says.push(format!("says `{licence}` as its licence, which is no SPDX expression"));
    }
    let purl = package_url(&part.package, Some(version), Some(&part.from));
    let mut package = json!({
        "SPDXID": ids.part(&part.package, version),
        "name": part.package.as_str(),
        "versionInfo": version,
        "downloadLocation": location,
        "filesAnalyzed": false,
        "licenseConcluded": "NOASSERTION",
        "licenseDeclared": declared(part.licence.as_ref()),
        "copyrightText": "NOASSERTION",
        "comment": says.join("\n"),
        "externalRefs": [{
            "referenceCategory": "PACKAGE-MANAGER", "referenceType": "purl", "referenceLocator": purl
        }],
    });
    // Of several archives, the checksums are in the comment: a checksum here is one of the package.
    if let [only] = &part.artifacts[..] {
        package["checksums"] = json!([{ "algorithm": "SHA256", "checksumValue": only.digest.to_hex() }]);
    }
    package
}
