//! Findings as SARIF 2.1.0 (OASIS), for whoever shows results of analyses.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Map, Value, json};
use yostel_answers::answers::findings::{FindingTold, TextEditTold};
use yostel_answers::words::kind_words;
use yostel_flows::LOCKFILE_NAME;

const SCHEMA: &str = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json";

/// Where the findings' names are kept, from one run to the next (SARIF §3.27.16).
const FINGERPRINT: &str = "yostelFinding/v1";

/// Writes one run with a result for each finding. Each advisory is a rule of its own, since how bad it is belongs to it.
pub(crate) fn document(findings: &[FindingTold]) -> String {
    let mut rules: Vec<Value> = Vec::new();
    let mut index: BTreeMap<String, usize> = BTreeMap::new();
    let mut results = Vec::new();
    for finding in findings {
        let id = rule_id(finding);
        let at = *index.entry(id.clone()).or_insert_with(|| {
            rules.push(rule(&id, finding));
            rules.len() - 1
        });
        results.push(result(&id, at, finding));
    }
    let driver = json!({ "name": "yostel", "semanticVersion": env!("CARGO_PKG_VERSION"), "rules": rules });
    let run = json!({ "tool": { "driver": driver }, "columnKind": "unicodeCodePoints", "results": results });
    let sarif = json!({ "$schema": SCHEMA, "version": "2.1.0", "runs": [run] });
    let mut text = serde_json::to_string_pretty(&sarif).expect("texts, numbers and maps with text keys serialise");
    text.push('\n');
    text
}

fn rule_id(finding: &FindingTold) -> String {
    match &finding.advisory {
        Some(id) => format!("{}/{id}", finding.kind),
        None => finding.kind.to_owned(),
    }
}

fn rule(id: &str, finding: &FindingTold) -> Value {
    let mut properties = Map::new();
    properties.insert("tags".into(), json!([finding.of.group().map_or("alarms", |group| group.word())]));
    if let Some(score) = finding.score {
        properties.insert("security-severity".into(), format!("{score:.1}").into());
    }
    let says = match &finding.advisory {
        Some(advisory) => format!("{}: {advisory}.", kind_words(finding.of)),
        None => format!("{}.", kind_words(finding.of)),
    };
    json!({
        "id": id,
        "shortDescription": { "text": says },
        "defaultConfiguration": { "level": level(finding) },
        "properties": properties,
    })
}

fn level(finding: &FindingTold) -> &'static str {
    match finding.severity {
        "critical" | "high" => "error",
        "medium" => "warning",
        _ => "note",
    }
}

fn result(id: &str, at: usize, finding: &FindingTold) -> Value {
    let mut sentences = vec![finding.says.clone()];
    if finding.way.len() > 1 {
        sentences.push(format!("it came by {}", finding.way.join(", then ")));
    }
    sentences.extend(finding.notes.iter().cloned());
    if let Some(remedy) = &finding.remedy {
        sentences.push(format!("To end it, {}", remedy.says));
    }
    let text: Vec<String> = sentences.iter().map(|says| sentence(says)).collect();
    let (file, region) = match &finding.place {
        Some(place) => (place.file.as_str(), json!({ "startLine": place.line, "startColumn": place.column })),
        None => (LOCKFILE_NAME, json!({ "startLine": 1 })),
    };
    let names: BTreeSet<&str> = finding.packages.iter().map(|one| one.package.as_str()).collect();
    let names = names.into_iter().map(|name| json!({ "fullyQualifiedName": name, "kind": "module" }));
    let location = json!({
        "physicalLocation": { "artifactLocation": artifact(file), "region": region },
        "logicalLocations": names.collect::<Vec<Value>>(),
    });
    let mut result = json!({
        "ruleId": id,
        "ruleIndex": at,
        "level": level(finding),
        "message": { "text": text.join(" ") },
        "locations": [location],
        "partialFingerprints": { FINGERPRINT: finding.id },
        "properties": { "severity": finding.severity },
    });
    if let Some(known) = finding.known.as_ref().filter(|known| !known.ended) {
        let why = known.why.as_ref().map(|why| format!(": {why}")).unwrap_or_default();
        let justification = format!("known until {}{why}", known.until);
        result["suppressions"] = json!([{ "kind": "external", "status": "accepted", "justification": justification }]);
    }
    if let Some(remedy) = finding.remedy.as_ref().filter(|remedy| !remedy.edits.is_empty()) {
        let mut by_file: BTreeMap<&str, Vec<Value>> = BTreeMap::new();
        for edit in &remedy.edits {
            by_file.entry(&edit.file).or_default().push(replacement(edit));
        }
        let changes = by_file
            .into_iter()
            .map(|(file, replacements)| json!({ "artifactLocation": artifact(file), "replacements": replacements }));
        let changes: Vec<Value> = changes.collect();
        result["fixes"] = json!([{ "description": { "text": sentence(&remedy.says) }, "artifactChanges": changes }]);
    }
    result
}

/// Writes a sentence with its full stop.
fn sentence(says: &str) -> String {
    format!("{}.", says.trim_end_matches('.'))
}

fn replacement(edit: &TextEditTold) -> Value {
    let region = json!({
        "startLine": edit.line, "startColumn": edit.column, "endLine": edit.end_line, "endColumn": edit.end_column
    });
    json!({ "deletedRegion": region, "insertedContent": { "text": edit.with } })
}

/// A file, from the root; as a relative URI (RFC 3986), in which some characters stand for themselves only.
fn artifact(file: &str) -> Value {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-._~/".contains(&byte);
    let uri: String = file
        .bytes()
        .map(|byte| if plain(byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") })
        .collect();
    json!({ "uri": uri, "uriBaseId": "%SRCROOT%" })
}
