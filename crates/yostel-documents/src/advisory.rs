//! Advisories in the OSV format (Open Source Vulnerability format, <https://ossf.github.io/osv-schema/>), as far as they
//! are evaluated here; what else they hold is passed over.

use jiff::Timestamp;
use serde::Deserialize;

/// Longest advisory that is read, in bytes.
pub const MOST_ADVISORY: u64 = 1 << 20;

/// The folder of a registry in which advisories are, each a `.json` file.
pub const ADVISORIES: &str = "advisories";

/// One advisory.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub struct Advisory {
    /// Its name, one in all the world.
    pub id: String,
    /// When it was last changed.
    pub modified: Timestamp,
    /// When it was first told; nothing where it does not say.
    pub published: Option<Timestamp>,
    /// Since when it does not hold any more.
    pub withdrawn: Option<Timestamp>,
    /// The same matter by other names.
    #[serde(default)]
    pub aliases: Vec<String>,
    /// What it is about, in a line.
    pub summary: Option<String>,
    /// How bad it is, wherever it says nothing else.
    #[serde(default)]
    pub severity: Vec<Severity>,
    /// What it affects.
    #[serde(default)]
    pub affected: Vec<Affected>,
}

/// How bad something is, by a method.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub struct Severity {
    /// The method, like `CVSS_V3`.
    #[serde(rename = "type")]
    pub method: String,
    /// What it comes to, as the method writes it.
    pub score: String,
}

/// Releases of one package that are affected.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub struct Affected {
    /// The package; one that has none is of a repository alone.
    pub package: Option<AffectedPackage>,
    /// How bad it is here.
    #[serde(default)]
    pub severity: Vec<Severity>,
    /// Ranges of versions.
    #[serde(default)]
    pub ranges: Vec<AffectedRange>,
    /// Versions by name.
    #[serde(default)]
    pub versions: Vec<String>,
}

/// A package of an ecosystem.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub struct AffectedPackage {
    /// Who hands out names; of a registry's own packages, the registry's name.
    pub ecosystem: String,
    /// Its name there.
    pub name: String,
}

/// A range of versions.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub struct AffectedRange {
    /// What its versions are.
    #[serde(rename = "type")]
    pub kind: RangeKind,
    /// Where it begins and ends.
    pub events: Vec<RangeEvent>,
}

/// What the versions of a range are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
pub enum RangeKind {
    /// Semantic versions.
    #[serde(rename = "SEMVER")]
    Semver,
    /// Versions as the package numbers.
    #[serde(rename = "ECOSYSTEM")]
    Ecosystem,
    /// Commits, and anything that came later.
    #[serde(other)]
    Other,
}

/// Where a range begins or ends.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RangeEvent {
    /// From this version on; `0` is below every version.
    Introduced(String),
    /// Up to this version, and not with it.
    Fixed(String),
    /// Up to this version, and with it.
    LastAffected(String),
    /// Nothing is said from this version on; `*` is above every version.
    Limit(String),
}

impl Advisory {
    /// Reads an advisory.
    ///
    /// # Errors
    /// Why it is none, in words.
    pub fn parse(text: &str) -> Result<Self, String> {
        let read: Self = serde_json::from_str(text).map_err(|error| error.to_string())?;
        if read.id.is_empty() || read.id.len() > 200 || read.id.contains(char::is_whitespace) {
            return Err("its `id` is no name".to_owned());
        }
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_advisory_is_read_as_far_as_it_is_known_and_refused_with_its_place() {
        let text = r#"{"schema_version":"9.0.0","id":"ROPE-1","modified":"2026-04-08T08:00:00Z","later":[1],
            "affected":[{"package":{"ecosystem":"e","name":"n","purl":"pkg:generic/n"},"versions":["1"],
            "ranges":[{"type":"SEMVER","events":[{"introduced":"0"},{"fixed":"2.0.0"}]},{"type":"LATER","events":[]}]}]}"#;
        let advisory = Advisory::parse(text).unwrap();
        assert_eq!((advisory.id.as_str(), advisory.withdrawn), ("ROPE-1", None));
        let affected = &advisory.affected[0];
        assert_eq!(affected.ranges[0].events, [RangeEvent::Introduced("0".into()), RangeEvent::Fixed("2.0.0".into())]);
        assert_eq!((affected.ranges[1].kind, affected.versions.as_slice()), (RangeKind::Other, &["1".to_owned()][..]));
        for (wrong, why) in [
            ("{", "line 1"),
            (r#"{"id":"A"}"#, "modified"),
            (r#"{"id":"","modified":"2026-04-08T08:00:00Z"}"#, "no name"),
            (r#"{"id":"a b","modified":"2026-04-08T08:00:00Z"}"#, "no name"),
            (r#"{"id":"A","modified":"soon"}"#, "year"),
            (
                r#"{"id":"A","modified":"2026-04-08T08:00:00Z","affected":[{"ranges":[{"type":"SEMVER","events":[{"begun":"1"}]}]}]}"#,
                "begun",
            ),
        ] {
            let told = Advisory::parse(wrong).unwrap_err();
            assert!(told.contains(why), "{wrong}: {told}");
        }
        let deep = format!(r#"{{"id":"A","modified":"2026-04-08T08:00:00Z","x":{}"#, "[".repeat(20_000));
        assert!(Advisory::parse(&deep).is_err());
    }
}
