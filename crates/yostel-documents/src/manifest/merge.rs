//! Merging what two sides made of a manifest, key by key: what one side changed is taken, in its words and with its remarks.

use std::collections::BTreeSet;

use toml::{Table, Value};
use toml_edit::{DocumentMut, Item, TableLike};

/// Merges two manifests that came from one. Of keys that one side alone changed, its value is taken; of lists, what either side
/// put in or took out.
///
/// # Errors
/// The keys that both sides changed, each to something else, written with `.`; none when one of the texts is not TOML.
///
/// # Examples
/// ```
/// use yostel_documents::merge_manifests;
/// let base = "[needs.run]\ngust = \"^1\"\n";
/// let ours = "[needs.run]\ngust = \"^2\" # calmer\n";
/// let theirs = "[needs.run]\ngust = \"^1\"\nbell = \"^3\"\n";
/// assert_eq!(merge_manifests(base, ours, theirs).unwrap(), "[needs.run]\ngust = \"^2\" # calmer\nbell = \"^3\"\n");
/// assert_eq!(merge_manifests(base, ours, &base.replace('1', "4")), Err(vec!["needs.run.gust".to_owned()]));
/// ```
pub fn merge_manifests(base: &str, ours: &str, theirs: &str) -> Result<String, Vec<String>> {
    let values = |text: &str| text.parse::<Table>().map_err(|_| Vec::new());
    let document = |text: &str| text.parse::<DocumentMut>().map_err(|_| Vec::new());
    let (base, ours_values, theirs_values) = (values(base)?, values(ours)?, values(theirs)?);
    let (mut merged, theirs) = (document(ours)?, document(theirs)?);
    let mut both = Vec::new();
    let sides = Sides { base: Some(&base), ours: &ours_values, theirs: &theirs_values };
    merge_table(&sides, merged.as_table_mut(), theirs.as_table(), "", &mut both);
    if both.is_empty() { Ok(merged.to_string()) } else { Err(both) }
}

/// What the sides have in a table.
struct Sides<'t> {
    base: Option<&'t Table>,
    ours: &'t Table,
    theirs: &'t Table,
}

// It goes no deeper than the reader of TOML went.
fn merge_table(
    sides: &Sides<'_>,
    into: &mut dyn TableLike,
    theirs: &dyn TableLike,
    path: &str,
    both: &mut Vec<String>,
) {
    let in_base = sides.base.into_iter().flat_map(Table::keys);
    let new = theirs.iter().map(|(key, _)| key).filter(|key| sides.base.is_none_or(|base| !base.contains_key(*key)));
    for key in in_base.map(String::as_str).chain(new).collect::<Vec<&str>>() {
        let was = sides.base.and_then(|base| base.get(key));
        let (here, there) = (sides.ours.get(key), sides.theirs.get(key));
        if there == was || there == here {
            continue;
        }
        if here == was {
            take(into, theirs, key);
            continue;
        }
        let name = if path.is_empty() { key.to_owned() } else { format!("{path}.{key}") };
        match (was, here, there) {
            (_, Some(Value::Table(here)), Some(Value::Table(there))) => {
                let base = was.and_then(Value::as_table);
                let sides = Sides { base, ours: here, theirs: there };
                let tables = (into.get_mut(key).and_then(Item::as_table_like_mut), theirs.get(key));
                match (tables.0, tables.1.and_then(Item::as_table_like)) {
                    (Some(into), Some(theirs)) => merge_table(&sides, into, theirs, &name, both),
                    _ => both.push(name),
                }
            }
            (_, Some(Value::Array(here)), Some(Value::Array(there))) if is_of_texts(here) && is_of_texts(there) => {
                let empty = Vec::new();
                let was = was.and_then(Value::as_array).unwrap_or(&empty);
                match into.get_mut(key).and_then(Item::as_array_mut) {
                    Some(list) => merge_list(was, there, list),
                    None => both.push(name),
                }
            }
            _ => both.push(name),
        }
    }
}

fn is_of_texts(list: &[Value]) -> bool {
    list.iter().all(Value::is_str)
}

/// Takes what they have of a key: its value, and the remarks at it.
fn take(into: &mut dyn TableLike, theirs: &dyn TableLike, key: &str) {
    let Some((their_key, item)) = theirs.get_key_value(key) else {
        into.remove(key);
        return;
    };
    match into.get_mut(key) {
        Some(place) => *place = item.clone(),
        None => drop(into.entry_format(their_key).or_insert(item.clone())),
    }
}

/// Puts into a list what they put in, and takes out of it what they took out.
fn merge_list(was: &[Value], theirs: &[Value], list: &mut toml_edit::Array) {
    let texts = |list: &[Value]| list.iter().filter_map(Value::as_str).map(str::to_owned).collect::<Vec<String>>();
    let (was, theirs) = (texts(was), texts(theirs));
    let gone: BTreeSet<&String> = was.iter().filter(|text| !theirs.contains(text)).collect();
    list.retain(|value| value.as_str().is_none_or(|text| !gone.iter().any(|gone| *gone == text)));
    for text in theirs.iter().filter(|text| !was.contains(text)) {
        if !list.iter().any(|value| value.as_str() == Some(text)) {
            list.push(text.as_str());
        }
    }
}
