//! Edits in place of what a manifest says beside its needs.

use toml_edit::{Array, InlineTable, Item, Table, TableLike, Value};
use yostel_versions::ConstraintText;

use super::edit::{EditError, edit, place_sorted, put};
use super::parse::AGREED;
use super::{NamePattern, SourcePlace};
use crate::name::{PackageName, SourceName, Word};
use crate::oci::OciPlace;
use crate::web_address::WebAddress;

/// The key of the table of sources.
const SOURCES: &str = "sources";

/// Agrees on a constraint for a package, in place of the one that is agreed.
///
/// # Errors
/// `Unreadable` when the text is no manifest.
pub fn add_agreed(text: &str, package: &PackageName, accept: &ConstraintText) -> Result<String, EditError> {
    in_table(text, AGREED, |entries| match entries.get_mut(package.as_str()) {
        Some(Item::Value(value)) => {
            put(value, accept.as_str());
            Ok(())
        }
        Some(_) => Err(EditError::Unreadable),
        None => {
            entries.insert(package.as_str(), toml_edit::value(accept.as_str()));
            place_sorted(entries, package.as_str());
            Ok(())
        }
    })
}

/// A table of one version per package, each with a reason.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum VersionTable {
    /// `[force]`.
    Force,
    /// `[admit]`.
    Admit,
}

impl VersionTable {
    fn name(self) -> &'static str {
        match self {
            Self::Force => "force",
            Self::Admit => "admit",
        }
    }
}

/// Names a version of a package in such a table, in place of what is there, and why.
///
/// # Errors
/// `Unreadable` when the text is no manifest.
pub fn add_version(
    text: &str,
    table: VersionTable,
    package: &PackageName,
    version: &str,
    why: &str,
) -> Result<String, EditError> {
    in_table(text, table.name(), |entries| put_entry(entries, package, &[("version", version), ("why", why)]))
}

/// Has one package stand in for another, at versions that a constraint accepts if one is given, and says why; of one that
/// stands in already, only the constraint is changed.
///
/// # Errors
/// `Unreadable` when the text is no manifest.
pub fn add_swap(
    text: &str,
    package: &PackageName,
    by: &PackageName,
    accept: Option<&ConstraintText>,
    why: &str,
) -> Result<String, EditError> {
    in_table(text, "swap", |entries| {
        let accept = accept.map(|accept| ("accept", accept.as_str()));
        match entries.contains_key(package.as_str()) {
            true => put_entry(entries, package, &accept.into_iter().collect::<Vec<_>>()),
            false => {
                let pairs = [("use", by.as_str())].into_iter().chain(accept).chain([("why", why)]);
                put_entry(entries, package, &pairs.collect::<Vec<_>>())
            }
        }
    })
}

/// Removes what `[force]` or `[swap]` says of a package, and the table with the last entry.
///
/// # Errors
/// `Unreadable` when the text is no manifest, or says nothing of it.
pub fn remove_rule(text: &str, table: &'static str, package: &PackageName) -> Result<String, EditError> {
    remove_entry(text, table, package.as_str(), &EditError::Unreadable)
}

/// Permits a package to be locked at one version per compatible line.
///
/// # Errors
/// `Unreadable` when the text is no manifest.
pub fn add_coexist(text: &str, package: &PackageName) -> Result<String, EditError> {
    add_to_list(text, "coexist", package.as_str())
}

/// Permits a package to be locked at one version only, and leaves the key out with the last package.
///
/// # Errors
/// `Unreadable` when the text is no manifest, or does not permit it several.
pub fn remove_coexist(text: &str, package: &PackageName) -> Result<String, EditError> {
    in_table(text, "policy", |policy| {
        let list = policy.get_mut("coexist").and_then(Item::as_array_mut).ok_or(EditError::Unreadable)?;
        list.retain(|one| one.as_str() != Some(package.as_str()));
        if list.is_empty() {
            policy.remove("coexist");
        }
        Ok(())
    })
}

/// Permits several packages in a role.
///
/// # Errors
/// `Unreadable` when the text is no manifest.
pub fn add_shared_role(text: &str, role: &Word) -> Result<String, EditError> {
    add_to_list(text, "share-roles", role.as_str())
}

/// Lists a platform no longer.
///
/// # Errors
/// `Unreadable` when the text is no manifest.
pub fn remove_platform(text: &str, platform: &str) -> Result<String, EditError> {
    in_table(text, "project", |project| {
        let list = project.get_mut("platforms").and_then(Item::as_array_mut).ok_or(EditError::Unreadable)?;
        list.retain(|one| one.as_str() != Some(platform));
        Ok(())
    })
}

fn add_to_list(text: &str, key: &str, name: &str) -> Result<String, EditError> {
    in_table(text, "policy", |policy| {
        let list = policy.entry(key).or_insert_with(|| toml_edit::value(Array::new()));
        let list = list.as_array_mut().ok_or(EditError::Unreadable)?;
        if !list.iter().any(|one| one.as_str() == Some(name)) {
            list.push(name);
        }
        Ok(())
    })
}

/// Changes a table, which is made when it is not there.
fn in_table(
    text: &str,
    table: &str,
    change: impl FnOnce(&mut dyn TableLike) -> Result<(), EditError>,
) -> Result<String, EditError> {
    let edited = edit(text, |document| {
        let entries = document.entry(table).or_insert_with(|| Item::Table(Table::new()));
        change(entries.as_table_like_mut().ok_or(EditError::Unreadable)?)?;
        Ok((None, Vec::new()))
    })?;
    Ok(edited.text)
}

/// Writes pairs into an entry: into the one that is there, or into a new one.
fn put_entry(entries: &mut dyn TableLike, package: &PackageName, pairs: &[(&str, &str)]) -> Result<(), EditError> {
    match entries.get_mut(package.as_str()) {
        Some(there) => {
            let there = there.as_table_like_mut().ok_or(EditError::Unreadable)?;
            for (key, new) in pairs {
                match there.get_mut(key) {
                    Some(Item::Value(value)) => put(value, new),
                    _ => drop(there.insert(key, toml_edit::value(*new))),
                }
            }
        }
        None => {
            let entry: InlineTable = pairs.iter().map(|(key, new)| (*key, Value::from(*new))).collect();
            entries.insert(package.as_str(), toml_edit::value(entry));
            place_sorted(entries, package.as_str());
        }
    }
    Ok(())
}

/// Names a source and where it is, in place of what is said of one of that name; its reserved names too, where any are given.
///
/// # Errors
/// `Unreadable` when the text is no manifest.
pub fn add_source(
    text: &str,
    name: &SourceName,
    place: &SourcePlace,
    reserves: &[NamePattern],
) -> Result<String, EditError> {
    let reserves: Array = reserves.iter().map(ToString::to_string).collect();
    let edited = edit(text, |document| {
        let sources = document.entry(SOURCES).or_insert_with(|| {
            let mut table = Table::new();
            table.set_implicit(true);
            Item::Table(table)
        });
        let sources = sources.as_table_like_mut().ok_or(EditError::Unreadable)?;
        let entry = sources.entry(name.as_str()).or_insert_with(|| Item::Table(Table::new()));
        let entry = entry.as_table_like_mut().ok_or(EditError::Unreadable)?;
        let (key, places): (&str, Vec<&str>) = match place {
            SourcePlace::Folder(folder) => ("folder", vec![folder]),
            SourcePlace::Web(addresses) => ("url", addresses.iter().map(WebAddress::as_str).collect()),
            SourcePlace::Oci(places) => ("oci", places.iter().map(OciPlace::as_str).collect()),
        };
        for other in ["folder", "url", "oci"].into_iter().filter(|other| *other != key) {
            entry.remove(other);
        }
        match (&places[..], entry.get_mut(key)) {
            ([one], Some(Item::Value(value))) => put(value, one),
            ([one], _) => drop(entry.insert(key, toml_edit::value(*one))),
            (all, _) => {
                let all: Array = all.iter().copied().collect();
                entry.insert(key, toml_edit::value(all));
            }
        }
        if !reserves.is_empty() {
            entry.insert("reserves", toml_edit::value(reserves));
        }
        Ok((None, Vec::new()))
    })?;
    Ok(edited.text)
}

/// Removes a source, and the table with the last one.
///
/// # Errors
/// `NoSuchSource`, or `Unreadable` when the text is no manifest.
pub fn remove_source(text: &str, name: &SourceName) -> Result<String, EditError> {
    remove_entry(text, SOURCES, name.as_str(), &EditError::NoSuchSource(name.clone()))
}

/// Removes an entry of a table, and the table with the last one.
fn remove_entry(text: &str, table: &str, key: &str, missing: &EditError) -> Result<String, EditError> {
    let edited = edit(text, |document| {
        let entries = document.get_mut(table).and_then(Item::as_table_like_mut).ok_or_else(|| missing.clone())?;
        entries.remove(key).ok_or_else(|| missing.clone())?;
        if entries.is_empty() {
            document.remove(table);
        }
        Ok((None, Vec::new()))
    })?;
    Ok(edited.text)
}
