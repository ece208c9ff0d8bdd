//! What the manifest inside an archive says of the package it is in: read leniently, since it may have been one of a
//! workspace, of which nothing else is there, and since only this much of it is compared.

use std::collections::BTreeMap;

use serde::Deserialize;
use yostel_versions::ConstraintText;

use crate::name::PackageName;
use crate::name::run_purpose;

/// Name, version and needs of a package, as it says itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Identity {
    /// Its name.
    pub name: PackageName,
    /// Its version as it is written; nothing when it says none.
    pub version: Option<String>,
    /// What it needs to run; nothing for a constraint that its workspace agreed on.
    pub needs: BTreeMap<PackageName, Option<ConstraintText>>,
}

#[derive(Deserialize)]
struct RawManifest {
    project: RawProject,
    #[serde(default)]
    needs: BTreeMap<String, BTreeMap<String, RawNeed>>,
}

#[derive(Deserialize)]
struct RawProject {
    name: String,
    version: Option<String>,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum RawNeed {
    Text(String),
    Table(RawNeedTable),
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct RawNeedTable {
    accept: Option<String>,
    #[serde(default)]
    only_on: Vec<String>,
}

impl Identity {
    /// Reads what a manifest says of its package; nothing when it does not say that.
    pub fn of(text: &str) -> Option<Self> {
        let mut raw: RawManifest = toml::from_str(text).ok()?;
        let needs = raw.needs.remove(run_purpose().as_str()).unwrap_or_default();
        let needs = needs.into_iter().map(|(name, need)| Some((PackageName::parse(&name).ok()?, accept_of(need)?)));
        Some(Self {
            name: PackageName::parse(&raw.project.name).ok()?,
            version: raw.project.version,
            needs: needs.collect::<Option<_>>()?,
        })
    }
}

/// Reads a constraint; nothing inside for one that is agreed, nothing at all for what is not one.
fn accept_of(need: RawNeed) -> Option<Option<ConstraintText>> {
    let (text, only_on) = match need {
        RawNeed::Text(text) => (Some(text), Vec::new()),
        RawNeed::Table(table) => (table.accept, table.only_on),
    };
    let accept = match text.as_deref() {
        Some("agreed") => return Some(None),
        Some(text) => ConstraintText::parse(text).ok()?,
        None => ConstraintText::anything(),
    };
    if only_on.is_empty() {
        return Some(Some(accept));
    }
    Some(Some(accept.only_on(only_on.iter().map(String::as_str)).ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_manifest_out_of_a_workspace_still_says_whose_it_is() {
        let identity = Identity::of(
            "[project]\nname = \"a/b\"\nversion = \"1.0\"\n[needs.run]\nx = \"agreed\"\ny = \">=1,<2\"\n\
             z = { accept = \"^1\", only-on = [\"linux/*\"] }\n[needs.test]\nt = \"*\"\n[unheard-of]\n",
        )
        .unwrap();
        let needs: Vec<String> = identity
            .needs
            .iter()
            .map(|(name, accept)| format!("{name} {}", accept.as_ref().map_or("?", ConstraintText::as_str)))
            .collect();
        assert_eq!((identity.name.as_str(), identity.version.as_deref()), ("a/b", Some("1.0")));
        assert_eq!(needs, ["x ?", "y >=1, <2", "z ^1 on linux/*"]);
        assert!(Identity::of("[project]\n").is_none() && Identity::of("name = 1").is_none());
    }
}
