//! SPDX 2.2 and 2.3 (ISO/IEC 5962) in JSON, as far as it says what there is and who needs whom.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::Value;

use super::{DirectNeed, Inventory, InventoryError, InventoryForm, Listed, list_of, text_of};
use crate::name::Purpose;

/// What is said of the version after those.
pub(super) const LATER: &str = "it is SPDX 3; 2.2 and 2.3 are read";

/// What precedes a constraint in the comment of a relation of our own bills.
const FOR: &str = "for ";

pub(super) fn read(document: &Value) -> Result<Inventory, InventoryError> {
    match text_of(document, "spdxVersion") {
        Some("SPDX-2.2" | "SPDX-2.3") => {}
        Some(version) => return Err(InventoryError::new(format!("it is {version}; SPDX-2.2 and SPDX-2.3 are read"))),
        None => return Err(InventoryError::new("it has no `spdxVersion`")),
    }
    let own = text_of(document, "SPDXID").unwrap_or("SPDXRef-DOCUMENT");
    let relationships = list_of(document, "relationships");
    let mut subjects: BTreeSet<&str> =
        list_of(document, "documentDescribes").iter().filter_map(Value::as_str).collect();
    for relationship in relationships {
        let (from, kind, to) = ends(relationship);
        match kind {
            "DESCRIBES" if from == own => drop(subjects.insert(to)),
            "DESCRIBED_BY" if to == own => drop(subjects.insert(from)),
            _ => {}
        }
    }
    let packages = list_of(document, "packages");
    let needs = needs_in(relationships);
    // What a document describes is no project where it needs nothing: then the document is a list.
    subjects.retain(|subject| needs.iter().any(|(from, ..)| from == subject));
    let mut parts: Vec<Listed> = Vec::new();
    let mut by_id: BTreeMap<&str, usize> = BTreeMap::new();
    let mut of = None;
    for (at, package) in packages.iter().enumerate() {
        let id = text_of(package, "SPDXID").unwrap_or_default();
        let name = text_of(package, "name");
        let name = name.ok_or_else(|| InventoryError::new(format!("package {} has no `name`", at + 1)))?;
        if subjects.contains(id) {
            of.get_or_insert_with(|| name.to_owned());
            continue;
        }
        by_id.entry(id).or_insert(parts.len());
        parts.push(listed(package, name, at)?);
    }
    let mut relations: BTreeMap<usize, BTreeSet<usize>> = BTreeMap::new();
    let mut direct: Option<BTreeSet<DirectNeed>> = None;
    for (from, to, purpose, comment) in needs {
        let Some(part) = by_id.get(to).copied() else { continue };
        if subjects.contains(from) {
            let told = comment.into_iter().flat_map(str::lines).filter_map(|line| told_need(line, part));
            let told: Vec<DirectNeed> = told.collect();
            match told.is_empty() {
                true => drop(direct.get_or_insert_default().insert(DirectNeed { part, purpose, accept: None })),
                false => direct.get_or_insert_default().extend(told),
            }
        } else if let Some(from) = by_id.get(from) {
            relations.entry(*from).or_default().insert(part);
        }
    }
    let direct = direct.map(|needs| needs.into_iter().collect());
    Ok(Inventory { form: InventoryForm::Spdx, of, parts, direct, relations })
}

fn ends(relationship: &Value) -> (&str, &str, &str) {
    let text = |key| text_of(relationship, key).unwrap_or_default();
    (text("spdxElementId"), text("relationshipType"), text("relatedSpdxElement"))
}

/// Lists who needs whom, what for, and what is remarked (SPDX 2.3, clause 11.1).
fn needs_in(relationships: &[Value]) -> Vec<(&str, &str, Option<Purpose>, Option<&str>)> {
    let mut needs = Vec::new();
    for relationship in relationships {
        let (from, kind, to) = ends(relationship);
        let comment = text_of(relationship, "comment");
        let word = |word: &str| Purpose::parse(word).ok();
        match kind {
            "DEPENDS_ON" => needs.push((from, to, None, comment)),
            "DEPENDENCY_OF" | "OPTIONAL_DEPENDENCY_OF" | "PROVIDED_DEPENDENCY_OF" => {
                needs.push((to, from, None, comment));
            }
            "RUNTIME_DEPENDENCY_OF" => needs.push((to, from, word("run"), comment)),
            "BUILD_DEPENDENCY_OF" => needs.push((to, from, word("build"), comment)),
            "TEST_DEPENDENCY_OF" => needs.push((to, from, word("test"), comment)),
            "DEV_DEPENDENCY_OF" => needs.push((to, from, word("dev"), comment)),
            _ => {}
        }
    }
    needs
}

/// Reads a line that our own bills remark: `for PURPOSE: CONSTRAINT`.
fn told_need(line: &str, part: usize) -> Option<DirectNeed> {
    let (purpose, accept) = line.strip_prefix(FOR)?.split_once(": ")?;
    Some(DirectNeed { part, purpose: Some(Purpose::parse(purpose).ok()?), accept: Some(accept.to_owned()) })
}

fn listed(package: &Value, name: &str, at: usize) -> Result<Listed, InventoryError> {
    let mut listed = Listed {
        name: name.to_owned(),
        last: name.rsplit('/').next().unwrap_or_default().to_owned(),
        version: text_of(package, "versionInfo").map(str::to_owned),
        ..Listed::default()
    };
    let references = list_of(package, "externalRefs").iter();
    let mut urls = references.filter(|one| text_of(one, "referenceType") == Some("purl"));
    if let Some(url) = urls.find_map(|one| text_of(one, "referenceLocator")) {
        let wrong = |why| InventoryError::new(format!("package {}: its purl: {why}", at + 1));
        listed.fill_from_url(url).map_err(wrong)?;
    }
    let location = text_of(package, "downloadLocation").filter(|place| !["NOASSERTION", "NONE"].contains(place));
    listed.place = listed.place.or_else(|| location.map(str::to_owned));
    for checksum in list_of(package, "checksums") {
        if text_of(checksum, "algorithm") == Some("SHA256") {
            listed.digests.extend(text_of(checksum, "checksumValue").map(str::to_ascii_lowercase));
        }
    }
    Ok(listed)
}
