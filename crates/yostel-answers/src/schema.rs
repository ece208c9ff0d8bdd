//! The JSON Schema of every answer and of failures: what docs/answers/ holds, and what tests compare real output with.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use schemars::generate::SchemaSettings;
use serde::Serialize;
use serde_json::{Value, json};

use crate::answers::{
    ANSWER_FORMAT, Told, audit, compare, decide, declare, dismiss, drift, graph, import, keep, look, moving, proposals,
    report, share, sources, under, using,
};
use crate::diagnostic::Diagnostic;

/// What a command answers that could not do its work.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Failure {
    /// The number of the format.
    pub format: u32,
    /// The exit status.
    pub exit: u8,
    /// What is wrong; never empty.
    pub errors: Vec<Diagnostic>,
}

impl Failure {
    /// Tells problems that end a command with this status.
    pub fn of(exit: u8, errors: &[Diagnostic]) -> Self {
        Self { format: ANSWER_FORMAT, exit, errors: errors.to_vec() }
    }

    /// Writes the document, with a final newline.
    pub fn write(&self) -> String {
        let mut text = serde_json::to_string_pretty(self).expect("texts and numbers always serialise");
        text.push('\n');
        text
    }
}

/// Returns the schemas, by command; that of failures is `failure`.
pub fn schemas() -> BTreeMap<&'static str, Value> {
    BTreeMap::from([
        of::<declare::InitAnswer>(),
        of::<declare::AddAnswer>(),
        of::<declare::RemoveAnswer>(),
        of::<sources::SourcesAnswer>(),
        of::<sources::SourceAddedAnswer>(),
        of::<sources::SourceRemovedAnswer>(),
        of::<declare::AgreeAnswer>(),
        of::<decide::LockAnswer>(),
        of::<decide::SettleAnswer>(),
        of::<using::InstallAnswer>(),
        of::<using::VerifyAnswer>(),
        of::<using::VerifyLockAnswer>(),
        of::<using::RunEachAnswer>(),
        of::<using::RunChecksAnswer>(),
        of::<using::EnvAnswer>(),
        of::<using::WhereAnswer>(),
        of::<using::AlterAnswer>(),
        of::<look::ExplainAnswer>(),
        of::<look::ListAnswer>(),
        of::<look::TreeAnswer>(),
        of::<audit::AuditAnswer>(),
        of::<dismiss::DismissAnswer>(),
        of::<under::UnderAnswer>(),
        of::<compare::CompareAnswer>(),
        of::<graph::GraphAnswer>(),
        of::<drift::DriftAnswer>(),
        of::<report::ReportAnswer>(),
        of::<moving::UpdateAnswer>(),
        of::<moving::CulpritAnswer>(),
        of::<import::ImportAnswer>(),
        of::<proposals::ProposeAnswer>(),
        of::<proposals::ProposalsAnswer>(),
        of::<proposals::ProposalAnswer>(),
        of::<proposals::DecidedAnswer>(),
        of::<moving::UndoAnswer>(),
        of::<moving::UndoListAnswer>(),
        of::<keep::CacheStatsAnswer>(),
        of::<keep::CacheListAnswer>(),
        of::<keep::CacheVerifyAnswer>(),
        of::<keep::CachePruneAnswer>(),
        of::<keep::CacheSaveAnswer>(),
        of::<keep::CacheLoadAnswer>(),
        of::<share::PublishAnswer>(),
        of::<share::WithdrawAnswer>(),
        of::<share::DeprecateAnswer>(),
        of::<share::LoginAnswer>(),
        of::<share::LogoutAnswer>(),
        of::<share::RegistryCopyAnswer>(),
        of::<share::RegistryCreateAnswer>(),
        of::<share::RegistryIndexAnswer>(),
        of::<share::RegistryListAnswer>(),
        ("failure", failure()),
    ])
}

fn schema_of<T: JsonSchema>() -> Value {
    let settings = SchemaSettings::draft2020_12().for_serialize();
    settings.into_generator().into_root_schema_for::<T>().to_value()
}

/// The schema of an answer, with what every answer begins with.
fn of<T: Told>() -> (&'static str, Value) {
    let mut schema = schema_of::<T>();
    let heads = json!({ "format": { "const": ANSWER_FORMAT }, "command": { "const": T::COMMAND } });
    schema["title"] = T::COMMAND.into();
    for (name, head) in heads.as_object().expect("it was just written as one") {
        schema["properties"][name] = head.clone();
        match schema["required"].as_array_mut() {
            Some(required) => required.push(name.as_str().into()),
            None => schema["required"] = json!([name]),
        }
    }
    if T::LOOKS {
        let why = "Why the lockfile no longer fits the manifests; there only when it does not. The answer is about what is locked.";
        let stale = json!({ "description": why, "type": "array", "items": { "type": "string" }, "minItems": 1 });
        schema["properties"]["stale"] = stale;
    }
    (T::COMMAND, schema)
}

fn failure() -> Value {
    let mut schema = schema_of::<Failure>();
    schema["title"] = "failure".into();
    schema["properties"]["format"] = json!({ "const": ANSWER_FORMAT });
    schema["properties"]["errors"]["minItems"] = 1.into();
    schema
}
