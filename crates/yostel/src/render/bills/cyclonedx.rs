//! A bill of materials as CycloneDX 1.6 (ECMA-424), in JSON.

use serde_json::{Value, json};
use yostel_documents::{LicenceVerdict, Origin, PackageName, Purpose, archive_file, judge_licence};
use yostel_findings::{Bill, Needed, Part, Subject, is_of_the_world, package_url, without_credentials};

/// Writes the bill: the same bytes for the same bill, so without a time, and with a serial number made of the lockfile's seal.
pub(crate) fn document(bill: &Bill) -> String {
    let components = bill.parts.iter().map(component).chain(bill.others.iter().map(|one| subject(one, "application")));
    let subjects = std::iter::once(&bill.project).chain(&bill.others);
    let dependencies = subjects
        .map(|one| dependency(&subject_ref(one), &one.needs))
        .chain(bill.parts.iter().map(|part| dependency(&part_ref(&part.package, part.version.as_str()), &part.needs)));
    let tool = json!({ "type": "application", "name": "yostel", "version": env!("CARGO_PKG_VERSION") });
    let bom = json!({
        "$schema": "http://cyclonedx.org/schema/bom-1.6.schema.json",
        "bomFormat": "CycloneDX",
        "specVersion": "1.6",
        "serialNumber": format!("urn:uuid:{}", super::uuid_of(bill, "CycloneDX")),
        "version": 1,
        "metadata": { "tools": { "components": [tool] }, "component": subject(&bill.project, "application") },
        "components": components.collect::<Vec<Value>>(),
        "dependencies": dependencies.collect::<Vec<Value>>(),
    });
    let mut text = serde_json::to_string_pretty(&bom).expect("texts, numbers and maps with text keys serialise");
    text.push('\n');
    text
}

fn part_ref(package: &PackageName, version: &str) -> String {
    format!("{package}@{version}")
}

fn subject_ref(subject: &Subject) -> String {
    format!("project:{}", subject.name)
}

fn dependency(of: &str, needs: &[Needed]) -> Value {
    let needed = needs.iter().map(|needed| part_ref(&needed.package, needed.version.as_str()));
    json!({ "ref": of, "dependsOn": needed.collect::<Vec<String>>() })
}

/// The levels of a name, and its last part.
fn named(component: &mut Value, package: &PackageName) {
    match package.as_str().rsplit_once('/') {
        Some((levels, name)) => {
            component["group"] = levels.into();
            component["name"] = name.into();
        }
        None => component["name"] = package.as_str().into(),
    }
}

/// What is no expression of the specification is a licence of that name.
fn licences(licence: &str) -> Value {
    match judge_licence(licence, &[]) {
        LicenceVerdict::NoExpression(_) => json!([{ "license": { "name": licence } }]),
        LicenceVerdict::Allowed | LicenceVerdict::NotAllowed(_) => json!([{ "expression": licence }]),
    }
}

fn subject(subject: &Subject, kind: &str) -> Value {
    let mut component = json!({ "type": kind, "bom-ref": subject_ref(subject) });
    named(&mut component, &subject.name);
    if let Some(version) = &subject.version {
        component["version"] = version.as_str().into();
    }
    if let Some(licence) = &subject.licence {
        component["licenses"] = licences(licence);
    }
    let needs = subject.needs.iter().flat_map(|needed| {
        let one = |(purpose, accept)| property("need", format!("{purpose} {} {accept}", needed.package));
        needed.purposes.iter().map(one)
    });
    let needs: Vec<Value> = needs.collect();
    if !needs.is_empty() {
        component["properties"] = needs.into();
    }
    component
}

fn property(name: &str, value: String) -> Value {
    json!({ "name": format!("yostel:{name}"), "value": value })
}

fn component(part: &Part) -> Value {
    let version = part.version.as_str();
    let mut component = json!({
        "type": "library",
        "bom-ref": part_ref(&part.package, version),
        "version": version,
        "purl": package_url(&part.package, Some(version), Some(&part.from)),
        // What only tests need is not there when the project runs.
        "scope": if part.purposes.iter().any(|purpose| purpose.as_str() == "run") { "required" } else { "optional" },
    });
    named(&mut component, &part.package);
    if let Some(licence) = &part.licence {
        component["licenses"] = licences(licence);
    }
    let sha256 = |hex: String| json!([{ "alg": "SHA-256", "content": hex }]);
    if let [only] = &part.artifacts[..] {
        component["hashes"] = sha256(only.digest.to_hex());
    }
    let archives = part.artifacts.iter().map(|artifact| {
        json!({
            "type": "distribution",
            "url": archive_file(artifact.digest).to_string_lossy(),
            "comment": format!("for {}, {} bytes", artifact.platform, artifact.size),
            "hashes": sha256(artifact.digest.to_hex()),
        })
    });
    let mut references: Vec<Value> = archives.collect();
    if let Origin::Git { place, commit } = &part.from
        && is_of_the_world(&place.address)
    {
        let address = without_credentials(&place.address);
        references
            .push(json!({ "type": "vcs", "url": super::as_iri(&address), "comment": format!("commit {commit}") }));
    }
    if !references.is_empty() {
        component["externalReferences"] = references.into();
    }
    let mut properties = vec![property("from", super::from_words(&part.from))];
    properties.extend(part.purposes.iter().map(|purpose: &Purpose| property("purpose", purpose.to_string())));
    properties.extend(
        part.artifacts
            .iter()
            .map(|artifact| property(&format!("tree:{}", artifact.platform), artifact.tree.to_string())),
    );
    if let Some(patch) = &part.patch {
        let diff = json!({ "url": super::as_iri(&patch.file) });
        component["pedigree"] = json!({ "patches": [{ "type": "unofficial", "diff": diff }], "notes": patch.why });
        let patched = part.artifacts.iter().zip(&patch.trees);
        properties.extend(
            patched.map(|(artifact, tree)| property(&format!("patched-tree:{}", artifact.platform), tree.to_string())),
        );
    }
    component["properties"] = properties.into();
    component
}
