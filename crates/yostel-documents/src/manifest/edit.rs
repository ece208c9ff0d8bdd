//! Edits of a manifest in place: comments, order and spacing stay, and so does the kind of line ending.

use toml_edit::{DocumentMut, Item, Table, Value};
use yostel_versions::ConstraintText;

use super::parse::AGREED;
use crate::name::{PackageName, Purpose, SourceName};
use crate::origin::{Elsewhere, GitPlace};

/// Why an edit is not possible.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EditError {
    /// The text is not a manifest; [`super::Manifest::parse`] says why.
    #[error("the manifest cannot be read")]
    Unreadable,
    /// There is no such need.
    #[error("yostel.toml has no need named `{0}`")]
    NoSuchNeed(PackageName),
    /// There is no such source.
    #[error("yostel.toml has no source named `{0}`")]
    NoSuchSource(SourceName),
    /// There is no such local change.
    #[error("the manifest does not change {0} locally")]
    NoSuchAlter(PackageName),
}

/// What an edit did.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NeedEdit {
    /// The whole manifest afterwards.
    pub text: String,
    /// The constraint that was there before, if one did.
    pub before: Option<String>,
    /// Purposes that were touched, sorted.
    pub purposes: Vec<String>,
}

/// Writes a first manifest.
pub fn new_manifest(name: &PackageName, version: &str) -> String {
    format!("[project]\nname = \"{name}\"\nversion = \"{version}\"\n\n[needs.run]\n")
}

/// What to write for a need.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NeedForm {
    /// A constraint.
    Constraint(ConstraintText),
    /// What is agreed.
    Agreed,
    /// A constraint in place of the one that is agreed, and why.
    Deviation(ConstraintText, String),
    /// Where it is, and a constraint if there is one.
    Elsewhere(Elsewhere, Option<ConstraintText>),
}

/// Adds a need, or gives the one that is there a new constraint.
///
/// # Errors
/// `Unreadable` when the text is no manifest.
pub fn add_need(text: &str, purpose: &Purpose, package: &PackageName, form: &NeedForm) -> Result<NeedEdit, EditError> {
    let accept = match form {
        NeedForm::Constraint(accept) | NeedForm::Deviation(accept, _) => Some(accept),
        NeedForm::Agreed => None,
        NeedForm::Elsewhere(_, accept) => accept.as_ref(),
    };
    let accept = match (accept, form) {
        (Some(accept), _) => accept.everywhere(),
        (None, _) => ConstraintText::anything(),
    };
    let accept = if matches!(form, NeedForm::Agreed) { AGREED } else { accept.as_str() };
    edit(text, |document| {
        let needs = document.entry("needs").or_insert_with(|| {
            let mut table = Table::new();
            table.set_implicit(true);
            Item::Table(table)
        });
        let needs = needs.as_table_like_mut().ok_or(EditError::Unreadable)?;
        let entries = needs.entry(purpose.as_str()).or_insert_with(|| Item::Table(Table::new()));
        let entries = entries.as_table_like_mut().ok_or(EditError::Unreadable)?;
        let mut before = None;
        match entries.get_mut(package.as_str()) {
            // A table for the reason's sake alone is not needed where no reason is given.
            Some(Item::Value(value)) if is_only_a_deviation(value) => {
                let there = value.as_inline_table().and_then(|table| table.get("accept"));
                before = there.and_then(Value::as_str).map(str::to_owned);
                let decor = value.decor().clone();
                *value = need_value(accept, form);
                *value.decor_mut() = decor;
            }
            Some(Item::Value(Value::InlineTable(table))) if !matches!(form, NeedForm::Elsewhere(..)) => {
                before = table.get("accept").and_then(Value::as_str).map(str::to_owned);
                match table.get_mut("accept") {
                    Some(value) => put(value, accept),
                    None => drop(table.insert("accept", accept.into())),
                }
                let patterns = form.patterns();
                if !patterns.is_empty() {
                    table.insert("only-on", Value::Array(patterns.into_iter().collect()));
                }
                if let NeedForm::Deviation(_, why) = form {
                    table.insert("why", why.as_str().into());
                }
            }
            Some(Item::Value(value)) => {
                // A table that says where the package is may leave its constraint out.
                before = match value.as_inline_table() {
                    Some(table) => Some(table.get("accept").and_then(Value::as_str).unwrap_or("*").to_owned()),
                    None => value.as_str().map(str::to_owned),
                };
                let decor = value.decor().clone();
                *value = need_value(accept, form);
                *value.decor_mut() = decor;
            }
            Some(_) => return Err(EditError::Unreadable),
            None => {
                entries.insert(package.as_str(), Item::Value(need_value(accept, form)));
                place_sorted(entries, package.as_str());
            }
        }
        Ok((before, vec![purpose.as_str().to_owned()]))
    })
}

/// Tells whether a need is a table of nothing but a constraint and the reason for it.
fn is_only_a_deviation(value: &Value) -> bool {
    let Value::InlineTable(table) = value else { return false };
    table.len() == 2 && table.contains_key("accept") && table.contains_key("why")
}

impl NeedForm {
    /// Returns the patterns of the platforms on which the need counts; none when it counts everywhere.
    fn patterns(&self) -> Vec<String> {
        match self {
            Self::Constraint(accept) | Self::Deviation(accept, _) => accept.patterns(),
            Self::Elsewhere(_, accept) => accept.as_ref().map(ConstraintText::patterns).unwrap_or_default(),
            Self::Agreed => Vec::new(),
        }
    }
}

fn need_value(accept: &str, form: &NeedForm) -> Value {
    let patterns = form.patterns();
    let mut value = plain_need_value(accept, form);
    if !patterns.is_empty() {
        let mut table = match value {
            Value::InlineTable(table) => table,
            other => [("accept", other)].into_iter().collect(),
        };
        table.insert("only-on", Value::Array(patterns.into_iter().collect()));
        value = Value::InlineTable(table);
    }
    value
}

fn plain_need_value(accept: &str, form: &NeedForm) -> Value {
    match form {
        NeedForm::Constraint(_) | NeedForm::Agreed => accept.into(),
        NeedForm::Deviation(_, why) => {
            let mut table = toml_edit::InlineTable::new();
            table.insert("accept", accept.into());
            table.insert("why", why.as_str().into());
            Value::InlineTable(table)
        }
        NeedForm::Elsewhere(elsewhere, accept) => {
            let mut table = toml_edit::InlineTable::new();
            let mut put = |key: &str, value: &str| drop(table.insert(key, value.into()));
            if let Some(accept) = accept.as_ref().map(ConstraintText::everywhere) {
                put("accept", accept.as_str());
            }
            match elsewhere {
                Elsewhere::Git(GitPlace { address, at, folder }) => {
                    put("git", address);
                    at.to_pair().into_iter().for_each(|(key, value)| put(key, value));
                    folder.iter().for_each(|folder| put("inside", folder));
                }
                Elsewhere::Path(path) => put("path", path),
                Elsewhere::Archive { address, digest } => {
                    put("archive", address);
                    put("digest", &digest.to_string());
                }
            }
            Value::InlineTable(table)
        }
    }
}

/// Removes a need, from one purpose or from all.
///
/// # Errors
/// `NoSuchNeed`, or `Unreadable` when the text is no manifest.
pub fn remove_need(text: &str, purpose: Option<&Purpose>, package: &PackageName) -> Result<NeedEdit, EditError> {
    edit(text, |document| {
        let mut before = None;
        let mut purposes = Vec::new();
        if let Some(needs) = document.get_mut("needs").and_then(Item::as_table_like_mut) {
            for (key, entries) in needs.iter_mut() {
                let wanted = purpose.is_none_or(|purpose| purpose.as_str() == key.get());
                let Some(entries) = entries.as_table_like_mut().filter(|_| wanted) else { continue };
                if let Some(removed) = entries.remove(package.as_str()) {
                    let accept = removed.as_str().or_else(|| removed.get("accept").and_then(Item::as_str));
                    before = accept.map(str::to_owned);
                    purposes.push(key.get().to_owned());
                }
            }
        }
        if purposes.is_empty() {
            return Err(EditError::NoSuchNeed(package.clone()));
        }
        purposes.sort();
        Ok((before, purposes))
    })
}

/// Names a patch for a package, in place of the one that is named for it, and why.
///
/// # Errors
/// `Unreadable` when the text is no manifest.
pub fn add_alter(text: &str, package: &PackageName, patch: &str, why: &str) -> Result<String, EditError> {
    let edited = edit(text, |document| {
        let entries = document.entry("alter").or_insert_with(|| Item::Table(Table::new()));
        let entries = entries.as_table_like_mut().ok_or(EditError::Unreadable)?;
        match entries.get_mut(package.as_str()).and_then(Item::as_table_like_mut) {
            Some(there) => {
                for (key, new) in [("patch", patch), ("why", why)] {
                    match there.get_mut(key) {
                        Some(Item::Value(value)) => put(value, new),
                        _ => drop(there.insert(key, toml_edit::value(new))),
                    }
                }
            }
            None => {
                let mut entry = toml_edit::InlineTable::new();
                entry.insert("patch", patch.into());
                entry.insert("why", why.into());
                entries.insert(package.as_str(), toml_edit::value(entry));
                place_sorted(entries, package.as_str());
            }
        }
        Ok((None, Vec::new()))
    })?;
    Ok(edited.text)
}

/// Removes a local change, and the table with the last one.
///
/// # Errors
/// `NoSuchAlter`, or `Unreadable` when the text is no manifest.
pub fn remove_alter(text: &str, package: &PackageName) -> Result<String, EditError> {
    let edited = edit(text, |document| {
        let entries = document.get_mut("alter").and_then(Item::as_table_like_mut);
        let entries = entries.ok_or_else(|| EditError::NoSuchAlter(package.clone()))?;
        entries.remove(package.as_str()).ok_or_else(|| EditError::NoSuchAlter(package.clone()))?;
        if entries.is_empty() {
            document.remove("alter");
        }
        Ok((None, Vec::new()))
    })?;
    Ok(edited.text)
}

type Touched = (Option<String>, Vec<String>);

pub(super) fn edit(
    text: &str,
    change: impl FnOnce(&mut DocumentMut) -> Result<Touched, EditError>,
) -> Result<NeedEdit, EditError> {
    let mut document: DocumentMut = text.parse().map_err(|_| EditError::Unreadable)?;
    let (before, purposes) = change(&mut document)?;
    // The library writes LF everywhere.
    Ok(NeedEdit { text: with_endings_of(text, &document.to_string()), before, purposes })
}

/// Ends the lines of an edited text as they were ended before, and each new one like the line above it.
fn with_endings_of(before: &str, after: &str) -> String {
    if !before.contains("\r\n") {
        return after.to_owned();
    }
    let (old, new): (Vec<_>, Vec<_>) = (lines_and_endings(before).collect(), lines_and_endings(after).collect());
    let same = |(one, other): &(&(&str, &str), &(&str, &str))| one.0 == other.0;
    let above = old.iter().zip(&new).take_while(same).count();
    let most_below = old.len().min(new.len()) - above;
    let below = old.iter().rev().zip(new.iter().rev()).take(most_below).take_while(same).count();
    let mut ending = old[0].1;
    let mut text = String::with_capacity(after.len());
    for (at, (line, written)) in new.iter().enumerate() {
        let was = if at < above {
            Some(old[at].1)
        } else {
            (at + below >= new.len()).then(|| old[old.len() + at - new.len()].1)
        };
        ending = was.filter(|was| !was.is_empty()).unwrap_or(ending);
        text.push_str(line);
        text.push_str(if written.is_empty() { "" } else { ending });
    }
    text
}

/// Lists the lines of a text, each apart from what ends it: `\r\n`, `\n`, or nothing at the end of the text.
fn lines_and_endings(text: &str) -> impl Iterator<Item = (&str, &str)> {
    text.split_inclusive('\n').map(|line| {
        let bare = line.strip_suffix('\n').map_or(line, |line| line.strip_suffix('\r').unwrap_or(line));
        (bare, &line[bare.len()..])
    })
}

/// Replaces a value but keeps the comment and spacing around it.
pub(super) fn put(value: &mut Value, text: &str) {
    let decor = value.decor().clone();
    *value = text.into();
    *value.decor_mut() = decor;
}

/// Moves the newest entry to its place, when the entries before it were sorted; else it stays last.
pub(super) fn place_sorted(entries: &mut dyn toml_edit::TableLike, newest: &str) {
    let others: Vec<String> = entries.iter().map(|(key, _)| key.to_owned()).filter(|key| key != newest).collect();
    // A comment above an entry belongs to it and moves with it, so sorting is safe only where order already was.
    if others.is_sorted() {
        entries.sort_values();
    }
}
