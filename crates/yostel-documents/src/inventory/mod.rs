//! Lists of what another project uses, at which versions: bills of materials, package URLs, tables. They are read to take a
//! project over, so all that is asked of them is which packages there are, and who needs whom.

mod cyclonedx;
mod list;
mod spdx;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use serde_json::Value;

use crate::name::Purpose;
use crate::purl::PackageUrl;

pub use list::read_names;

/// Longest list that is read, in bytes.
pub const MOST_INVENTORY: u64 = 256 << 20;

/// Most packages that a list may have.
const MOST_LISTED: usize = 200_000;

/// The form of a list.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum InventoryForm {
    /// CycloneDX 1.2 to 1.7, in JSON.
    CycloneDx,
    /// SPDX 2.2 or 2.3, in JSON.
    Spdx,
    /// A package URL on each line.
    Urls,
    /// A table whose first line names its columns (RFC 4180).
    Csv,
}

/// What a list holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Inventory {
    /// Its form.
    pub form: InventoryForm,
    /// The name of what it is of, where it says.
    pub of: Option<String>,
    /// What is listed, in the order of the list.
    pub parts: Vec<Listed>,
    /// What that is of needs itself; nothing where the list has no relations.
    pub direct: Option<Vec<DirectNeed>>,
    /// Which of the parts need which others, by their places in the list.
    pub relations: BTreeMap<usize, BTreeSet<usize>>,
}

/// A package of a list.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Listed {
    /// Its name as it is written, levels parted by `/`.
    pub name: String,
    /// The same without levels.
    pub last: String,
    /// What it is in the open world.
    pub url: Option<PackageUrl>,
    /// Its version, where the list has one.
    pub version: Option<String>,
    /// The digests of its archives (SHA-256, in lower-case hexadecimal), where the list has some.
    pub digests: BTreeSet<String>,
    /// Where it comes from, when that is no registry: an address.
    pub place: Option<String>,
    /// What it is needed for, where the list says.
    pub purposes: BTreeSet<Purpose>,
    /// The line of the list, counted from 1; none where that says nothing.
    pub line: Option<usize>,
}

/// Something that is needed by what a list is of.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct DirectNeed {
    /// Its place in the list.
    pub part: usize,
    /// What for; nothing where the list does not say.
    pub purpose: Option<Purpose>,
    /// Which versions will do, as it is written; nothing where the list does not say.
    pub accept: Option<String>,
}

/// Why a list cannot be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InventoryError {
    /// The line, counted from 1, where that is known.
    pub line: Option<usize>,
    /// Why, in words.
    pub says: String,
}

impl InventoryError {
    pub(crate) fn at(line: usize, says: impl fmt::Display) -> Self {
        Self { line: Some(line), says: says.to_string() }
    }

    pub(crate) fn new(says: impl fmt::Display) -> Self {
        Self { line: None, says: says.to_string() }
    }
}

impl fmt::Display for InventoryError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.says)
    }
}

impl std::error::Error for InventoryError {}

impl Inventory {
    /// Reads a list; its form is told by its content where none is given.
    ///
    /// # Errors
    /// Why it cannot be read, and where.
    ///
    /// # Examples
    /// ```
    /// use yostel_documents::Inventory;
    /// let list = Inventory::parse("pkg:generic/valley/gust-model@2.2.0\n", None).unwrap();
    /// assert_eq!((list.parts[0].name.as_str(), list.parts[0].version.as_deref()), ("valley/gust-model", Some("2.2.0")));
    /// assert!(Inventory::parse("pkg:gust-model\n", None).unwrap_err().line == Some(1));
    /// ```
    pub fn parse(text: &str, form: Option<InventoryForm>) -> Result<Self, InventoryError> {
        let text = text.strip_prefix('\u{feff}').unwrap_or(text);
        let inventory = match form {
            Some(InventoryForm::Urls) => list::urls(text)?,
            Some(InventoryForm::Csv) => list::table(text)?,
            Some(InventoryForm::CycloneDx) => cyclonedx::read(&json(text)?)?,
            Some(InventoryForm::Spdx) => spdx::read(&json(text)?)?,
            None => match text.trim_start().chars().next() {
                None => return Err(InventoryError::new("it is empty")),
                Some('{' | '[') => {
                    let document = json(text)?;
                    match (document.get("bomFormat"), document.get("spdxVersion"), document.get("@graph")) {
                        (Some(_), _, _) => cyclonedx::read(&document)?,
                        (_, Some(_), _) => spdx::read(&document)?,
                        (_, _, Some(_)) => return Err(InventoryError::new(spdx::LATER)),
                        _ => {
                            let says = "it is JSON, and neither CycloneDX (`bomFormat`) nor SPDX 2 (`spdxVersion`)";
                            return Err(InventoryError::new(says));
                        }
                    }
                }
                Some('<') => return Err(InventoryError::new("it is XML; export it as JSON")),
                Some(_) if text.starts_with("SPDXVersion:") => {
                    return Err(InventoryError::at(1, "it is SPDX as tags and values; convert it to JSON"));
                }
                Some(_) if list::is_of_urls(text) => list::urls(text)?,
                Some(_) => list::table(text)?,
            },
        };
        if inventory.parts.len() > MOST_LISTED {
            return Err(InventoryError::new(format!("it lists more than {MOST_LISTED} packages")));
        }
        Ok(inventory)
    }
}

fn json(text: &str) -> Result<Value, InventoryError> {
    serde_json::from_str(text).map_err(|error| InventoryError::at(error.line(), error))
}

impl Listed {
    /// Takes up what a package URL says where nothing is said yet.
    fn fill_from_url(&mut self, text: &str) -> Result<(), &'static str> {
        let url = PackageUrl::parse(text)?;
        if self.name.is_empty() {
            self.name = url.name();
        }
        if self.version.is_none() {
            self.version = url.version().map(str::to_owned);
        }
        if self.place.is_none() {
            self.place = place_in(text);
        }
        self.last = self.name.rsplit('/').next().unwrap_or_default().to_owned();
        self.url = Some(url);
        Ok(())
    }
}

/// Finds the address among the qualifiers of a package URL.
fn place_in(url: &str) -> Option<String> {
    let (_, qualifiers) = url.split('#').next()?.split_once('?')?;
    let value = |key: &str| {
        qualifiers.split('&').find_map(|one| one.split_once('=').filter(|(name, _)| name.eq_ignore_ascii_case(key)))
    };
    let (_, encoded) = value("vcs_url").or_else(|| value("download_url"))?;
    PackageUrl::decode(encoded).ok()
}

fn text_of<'v>(object: &'v Value, key: &str) -> Option<&'v str> {
    object.get(key).and_then(Value::as_str).filter(|text| !text.is_empty())
}

fn list_of<'v>(object: &'v Value, key: &str) -> &'v [Value] {
    object.get(key).and_then(Value::as_array).map_or(&[], Vec::as_slice)
}
