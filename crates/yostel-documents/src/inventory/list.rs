//! Lists without relations: package URLs, one a line, and tables (RFC 4180) whose first line names the columns.

use std::collections::{BTreeMap, BTreeSet};

use super::{Inventory, InventoryError, InventoryForm, Listed};
use crate::name::{PackageName, Purpose};

/// Tells whether the first line that says something is a package URL.
pub(super) fn is_of_urls(text: &str) -> bool {
    let first = text.lines().map(str::trim).find(|line| !line.is_empty() && !line.starts_with('#'));
    first.is_some_and(|line| line.get(..4).is_some_and(|scheme| scheme.eq_ignore_ascii_case("pkg:")))
}

/// Reads package URLs; lines that begin with `#` are remarks.
pub(super) fn urls(text: &str) -> Result<Inventory, InventoryError> {
    let mut parts = Vec::new();
    for (at, line) in text.lines().enumerate() {
        let line = line.trim();
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        let mut listed = Listed { line: Some(at + 1), ..Listed::default() };
        listed
            .fill_from_url(line)
            .map_err(|why| InventoryError::at(at + 1, format!("that is no package URL: {why}")))?;
        parts.push(listed);
    }
    Ok(Inventory { form: InventoryForm::Urls, of: None, parts, direct: None, relations: BTreeMap::new() })
}

/// The columns of a table that mean something.
#[derive(Default)]
struct Columns {
    name: Option<usize>,
    url: Option<usize>,
    version: Option<usize>,
    purpose: Option<usize>,
}

impl Columns {
    fn of(header: &csv::StringRecord) -> Result<Self, InventoryError> {
        let mut columns = Self::default();
        for (at, title) in header.iter().enumerate() {
            let place = match title.trim().to_ascii_lowercase().as_str() {
                "name" | "package" => &mut columns.name,
                "purl" | "url" => &mut columns.url,
                "version" => &mut columns.version,
                "purpose" => &mut columns.purpose,
                _ => continue,
            };
            if place.replace(at).is_some() {
                return Err(InventoryError::at(1, format!("two columns are called `{}`", title.trim())));
            }
        }
        match (columns.name, columns.url) {
            (None, None) => {
                let says =
                    "its first line has to name the columns: `name` or `purl`, and `version`; `purpose` may be there";
                Err(InventoryError::at(1, says))
            }
            _ => Ok(columns),
        }
    }
}

/// Reads a table.
pub(super) fn table(text: &str) -> Result<Inventory, InventoryError> {
    let mut reader = reader(text);
    let columns = Columns::of(reader.headers().map_err(unreadable)?)?;
    let mut parts = Vec::new();
    for record in reader.records() {
        let record = record.map_err(unreadable)?;
        let line = record.position().map_or(0, |at| usize::try_from(at.line()).unwrap_or(usize::MAX));
        let cell = |at: Option<usize>| at.and_then(|at| record.get(at)).map(str::trim).filter(|text| !text.is_empty());
        let name = cell(columns.name).unwrap_or_default().to_owned();
        let mut listed = Listed {
            last: name.rsplit('/').next().unwrap_or_default().to_owned(),
            name,
            version: cell(columns.version).map(str::to_owned),
            line: Some(line),
            ..Listed::default()
        };
        if let Some(url) = cell(columns.url) {
            let wrong = |why| InventoryError::at(line, format!("`{url}` is no package URL: {why}"));
            listed.fill_from_url(url).map_err(wrong)?;
        }
        if listed.name.is_empty() {
            return Err(InventoryError::at(line, "it names no package"));
        }
        if let Some(purpose) = cell(columns.purpose) {
            listed.purposes =
                BTreeSet::from([Purpose::parse(purpose).map_err(|error| InventoryError::at(line, error))?]);
        }
        parts.push(listed);
    }
    Ok(Inventory { form: InventoryForm::Csv, of: None, parts, direct: None, relations: BTreeMap::new() })
}

/// Reads how listed packages are called here: a table with the columns `listed` (a name as it is listed, or a package URL without
/// a version) and `package`; where that is empty, what is listed is left out.
///
/// # Errors
/// Why it cannot be read, and where.
///
/// # Examples
/// ```
/// let names = yostel_documents::read_names("listed,package\nzlib,valley/zlib\nglibc,\n").unwrap();
/// assert_eq!(names["zlib"].as_ref().unwrap().as_str(), "valley/zlib");
/// assert!(names["glibc"].is_none());
/// ```
pub fn read_names(text: &str) -> Result<BTreeMap<String, Option<PackageName>>, InventoryError> {
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    let mut reader = reader(text);
    let header = reader.headers().map_err(unreadable)?;
    let column = |name: &str| header.iter().position(|title| title.trim().eq_ignore_ascii_case(name));
    let (Some(listed), Some(package)) = (column("listed"), column("package")) else {
        return Err(InventoryError::at(1, "its first line has to name the columns: `listed,package`"));
    };
    let mut names = BTreeMap::new();
    for record in reader.records() {
        let record = record.map_err(unreadable)?;
        let line = record.position().map_or(0, |at| usize::try_from(at.line()).unwrap_or(usize::MAX));
        let cell = |at: usize| record.get(at).map(str::trim).unwrap_or_default();
        let name = match cell(package) {
            "" => None,
            name => Some(PackageName::parse(name).map_err(|error| InventoryError::at(line, error))?),
        };
        if names.insert(cell(listed).to_owned(), name).is_some() {
            return Err(InventoryError::at(line, format!("`{}` is listed twice", cell(listed))));
        }
    }
    Ok(names)
}

fn reader(text: &str) -> csv::Reader<&[u8]> {
    csv::ReaderBuilder::new().flexible(true).comment(Some(b'#')).from_reader(text.as_bytes())
}

fn unreadable(error: csv::Error) -> InventoryError {
    let line = error.position().map(|at| usize::try_from(at.line()).unwrap_or(usize::MAX));
    InventoryError { line, says: error.to_string() }
}
