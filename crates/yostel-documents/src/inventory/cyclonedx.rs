//! CycloneDX in JSON (ECMA-424, <https://cyclonedx.org/specification/overview/>), as far as it says what there is and who needs
//! whom.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::Value;

use super::{DirectNeed, Inventory, InventoryError, InventoryForm, Listed, list_of, text_of};
use crate::name::Purpose;

pub(super) fn read(document: &Value) -> Result<Inventory, InventoryError> {
    if text_of(document, "bomFormat") != Some("CycloneDX") {
        return Err(InventoryError::new("its `bomFormat` is not CycloneDX"));
    }
    match text_of(document, "specVersion") {
        Some(version) if version.starts_with("1.") => {}
        Some(version) => return Err(InventoryError::new(format!("it is CycloneDX {version}; 1.2 to 1.7 are read"))),
        None => return Err(InventoryError::new("it has no `specVersion`")),
    }
    let subject = document.get("metadata").and_then(|metadata| metadata.get("component"));
    let mut parts: Vec<Listed> = Vec::new();
    let mut by_ref: BTreeMap<&str, usize> = BTreeMap::new();
    // Components may hold others, however deep; they come in the order of the document.
    let mut open: Vec<&Value> = list_of(document, "components").iter().rev().collect();
    if let Some(subject) = subject {
        open.extend(list_of(subject, "components").iter().rev());
    }
    while let Some(component) = open.pop() {
        open.extend(list_of(component, "components").iter().rev());
        if text_of(component, "type").is_some_and(|kind| kind == "file") {
            continue;
        }
        let at = parts.len();
        parts.push(listed(component, at)?);
        if let Some(reference) = text_of(component, "bom-ref") {
            by_ref.entry(reference).or_insert(at);
        }
    }
    let own = subject.and_then(|subject| text_of(subject, "bom-ref"));
    let mut relations: BTreeMap<usize, BTreeSet<usize>> = BTreeMap::new();
    let mut needed: Option<BTreeSet<usize>> = None;
    for dependency in list_of(document, "dependencies") {
        let Some(from) = text_of(dependency, "ref") else { continue };
        let on = list_of(dependency, "dependsOn").iter().filter_map(|on| by_ref.get(on.as_str()?).copied());
        if Some(from) == own {
            needed.get_or_insert_default().extend(on);
        } else if let Some(from) = by_ref.get(from) {
            relations.entry(*from).or_default().extend(on);
        }
    }
    let direct = subject.map(|subject| told_needs(subject, &parts)).filter(|needs| !needs.is_empty());
    let direct = direct.or_else(|| Some(needed?.into_iter().flat_map(|part| by_purpose(part, &parts[part])).collect()));
    let of = subject.map(full_name).filter(|name| !name.is_empty());
    Ok(Inventory { form: InventoryForm::CycloneDx, of, parts, direct, relations })
}

/// Returns a component's name, its group before it.
fn full_name(component: &Value) -> String {
    let name = text_of(component, "name").unwrap_or_default();
    text_of(component, "group").map_or_else(|| name.to_owned(), |group| format!("{group}/{name}"))
}

fn listed(component: &Value, at: usize) -> Result<Listed, InventoryError> {
    let mut listed = Listed {
        name: full_name(component),
        last: text_of(component, "name").unwrap_or_default().to_owned(),
        version: text_of(component, "version").map(str::to_owned),
        ..Listed::default()
    };
    if let Some(url) = text_of(component, "purl") {
        let last = std::mem::take(&mut listed.last);
        listed
            .fill_from_url(url)
            .map_err(|why| InventoryError::new(format!("component {}: its purl: {why}", at + 1)))?;
        if !last.is_empty() {
            listed.last = last;
        }
    }
    if listed.name.is_empty() {
        return Err(InventoryError::new(format!("component {} has no `name`", at + 1)));
    }
    let references = list_of(component, "externalReferences").iter();
    let hashes =
        references.filter(|one| text_of(one, "type") == Some("distribution")).flat_map(|one| list_of(one, "hashes"));
    for hash in list_of(component, "hashes").iter().chain(hashes) {
        if text_of(hash, "alg") == Some("SHA-256") {
            listed.digests.extend(text_of(hash, "content").map(str::to_ascii_lowercase));
        }
    }
    listed.purposes = properties(component, "yostel:purpose").filter_map(|word| Purpose::parse(word).ok()).collect();
    Ok(listed)
}

fn properties<'v>(component: &'v Value, name: &'v str) -> impl Iterator<Item = &'v str> {
    let all = list_of(component, "properties").iter();
    all.filter(move |one| text_of(one, "name") == Some(name)).filter_map(|one| text_of(one, "value"))
}

/// Reads what our own bills say of needs: purpose, package and constraint.
fn told_needs(subject: &Value, parts: &[Listed]) -> Vec<DirectNeed> {
    let places: BTreeMap<&str, usize> = parts.iter().enumerate().rev().map(|(at, part)| (&*part.name, at)).collect();
    let one = |value: &str| {
        let mut words = value.splitn(3, ' ');
        let (purpose, package, accept) = (Purpose::parse(words.next()?).ok()?, words.next()?, words.next()?.to_owned());
        let part = *places.get(package)?;
        Some(DirectNeed { part, purpose: Some(purpose), accept: Some(accept) })
    };
    properties(subject, "yostel:need").filter_map(one).collect()
}

/// A part that is there when the project runs is needed for that; another for whatever it is there for.
fn by_purpose(part: usize, listed: &Listed) -> Vec<DirectNeed> {
    let run = listed.purposes.iter().find(|purpose| purpose.as_str() == "run");
    match (run, listed.purposes.is_empty()) {
        (_, true) => vec![DirectNeed { part, purpose: None, accept: None }],
        (Some(run), _) => vec![DirectNeed { part, purpose: Some(run.clone()), accept: None }],
        _ => {
            let need = |purpose: &Purpose| DirectNeed { part, purpose: Some(purpose.clone()), accept: None };
            listed.purposes.iter().map(need).collect()
        }
    }
}
