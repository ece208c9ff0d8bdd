//! The document of a package: read, and written so that nothing is lost that only a later version understands.

use std::sync::Arc;

use serde_json::value::RawValue;

use super::record::{Met, Record, RecordError};
use super::{DOCUMENT_FORMAT, PackageDocument, Release, Statement};
use crate::json::{Members, laid_out, quoted};
use crate::layout::MOST_DOCUMENT;
use crate::name::PackageName;
use crate::numbering::NumberingTable;

/// Why a document is refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DocumentError {
    /// Not JSON, or not of the right shape. Lines and columns count from 1.
    #[error("line {line}, column {column}: {reason}")]
    Shape {
        /// Line.
        line: usize,
        /// Column.
        column: usize,
        /// What is wrong.
        reason: String,
    },
    /// A format this version does not know.
    #[error("it has format {0}; this yostel reads format 1")]
    Format(u32),
    /// It speaks of another package than its name says.
    #[error("it is about `{found}`, not about {expected}")]
    OtherPackage {
        /// The package asked for.
        expected: PackageName,
        /// The name inside.
        found: String,
    },
    /// A release has a part that breaks a rule.
    #[error("release `{}`: {reason}", version.escape_debug())]
    Release {
        /// The version as written.
        version: String,
        /// What is wrong.
        reason: String,
    },
    /// Two releases are at one place in the order.
    #[error("`{0}` and `{1}` are the same version")]
    Twice(String, String),
}

/// Turns what is wrong with a part of a text into where that is in the whole.
fn shape(text: &str, part: &str, error: &serde_json::Error) -> DocumentError {
    let whole = error.to_string();
    let reason = whole.split(" at line ").next().unwrap_or(&whole).to_owned();
    let start = (part.as_ptr() as usize).saturating_sub(text.as_ptr() as usize).min(text.len());
    let before = &text[..start];
    let lines = before.matches('\n').count();
    let column = match error.line() {
        0 | 1 => start - before.rfind('\n').map_or(0, |at| at + 1) + error.column(),
        _ => error.column(),
    };
    DocumentError::Shape { line: lines + error.line().max(1), column, reason }
}

impl PackageDocument {
    /// Reads the document of `expected`.
    ///
    /// # Errors
    /// [`DocumentError`]; members it does not know are passed over, since a later format number would announce those
    /// that matter.
    pub fn parse(text: &str, expected: &PackageName) -> Result<Self, DocumentError> {
        let whole = |error: serde_json::Error| shape(text, text, &error);
        let mut members: Members<'_> = serde_json::from_str(text).map_err(whole)?;
        let mut must = |name: &'static str| {
            members.take(name).ok_or_else(|| whole(serde::de::Error::custom(format_args!("missing field `{name}`"))))
        };
        let format: u32 = read(text, must("format")?)?;
        if format != DOCUMENT_FORMAT {
            return Err(DocumentError::Format(format));
        }
        let name: String = read(text, must("name")?)?;
        if name != expected.as_str() {
            return Err(DocumentError::OtherPackage { expected: expected.clone(), found: name });
        }
        let listed: Vec<&RawValue> = read(text, must("releases")?)?;
        let numbering = match members.take("numbering") {
            Some(raw) => {
                let table: NumberingTable = read(text, raw)?;
                table.read().map_err(|reason| shape(text, raw.get(), &serde::de::Error::custom(reason)))?
            }
            None => Default::default(),
        };
        let mut releases = Vec::with_capacity(listed.len());
        let mut met = Met::default();
        for raw in listed {
            releases.push(Arc::new(release(text, raw, |record| Record::read(record, &numbering, &mut met))?));
        }
        releases.sort_by(|a: &Arc<Release>, b| a.version.cmp(&b.version));
        if let Some(pair) = releases.windows(2).find(|pair| pair[0].version == pair[1].version) {
            return Err(DocumentError::Twice(pair[0].version.to_string(), pair[1].version.to_string()));
        }
        Ok(Self { name: expected.clone(), numbering, releases, others: members.rest() })
    }

    /// Makes one document of several of the same package, with more statements on each release. Of two releases at one place
    /// in the order, the one that was published first counts, and of those the one whose record has the lower digest.
    ///
    /// # Errors
    /// [`DocumentError::Release`], of numberings that cannot be joined, or a statement that is none.
    pub fn joined(
        package: &PackageName,
        parts: &[Self],
        more: impl Fn(&Release) -> Vec<String>,
    ) -> Result<Self, DocumentError> {
        let mut joined = Self::new(package.clone(), Default::default());
        let Some(first) = parts.first() else { return Ok(joined) };
        joined.numbering.clone_from(&first.numbering);
        for part in parts {
            let Some(numbering) = joined.numbering.joined(&part.numbering).cloned() else {
                let version = part.releases.first().map(|release| release.version.to_string()).unwrap_or_default();
                let reason = format!("it numbers by {}, and others by {}", part.numbering, joined.numbering);
                return Err(DocumentError::Release { version, reason });
            };
            joined.numbering = numbering;
            let is_new = |(name, _): &&(String, Box<str>)| joined.others.iter().all(|(other, _)| other != name);
            let others: Vec<_> = part.others.iter().filter(is_new).cloned().collect();
            joined.others.extend(others);
        }
        let mut met = Met::default();
        for release in parts.iter().flat_map(|part| &part.releases) {
            // Read anew: its version is compared by the words that all of them know.
            let mut release = Release::clone(release);
            release.statements.extend(more(&release).into_iter().map(Arc::from));
            let Some(text) = entry(&release) else { continue };
            let raw: &RawValue = read(&text, serde_json::from_str(&text).expect("it was written here"))?;
            let release = self::release(&text, raw, |record| Record::read(record, &joined.numbering, &mut met))?;
            let comes_first =
                |there: &Arc<Release>| (there.published, there.record()) <= (release.published, release.record());
            if !joined.release(&release.version).is_some_and(comes_first) {
                joined.insert(release);
            }
        }
        Ok(joined)
    }

    /// Returns the same with only this release.
    #[must_use]
    pub fn with_only(&self, release: Release) -> Self {
        Self {
            releases: vec![Arc::new(release)],
            others: self.others.clone(),
            ..Self::new(self.name.clone(), self.numbering.clone())
        }
    }

    /// Writes the document: releases rising, laid out, with a final newline. Records, and what this version does not know,
    /// are as they were.
    pub fn write(&self) -> String {
        let mut members =
            vec![format!("\"format\":{DOCUMENT_FORMAT}"), format!("\"name\":{}", quoted(self.name.as_str()))];
        let numbering = NumberingTable::of(&self.numbering);
        if !numbering.is_default() {
            let table = serde_json::to_string(&numbering).expect("texts and numbers always serialise");
            members.push(format!("\"numbering\":{table}"));
        }
        let releases: Vec<String> = self.releases.iter().filter_map(|release| entry(release)).collect();
        members.push(format!("\"releases\":[{}]", releases.join(",")));
        members.extend(self.others.iter().map(|(name, value)| format!("{}:{value}", quoted(name))));
        let most = usize::try_from(MOST_DOCUMENT).unwrap_or(usize::MAX);
        let mut text = laid_out(&format!("{{{}}}", members.join(",")), most);
        text.push('\n');
        text
    }
}

fn read<'t, T: serde::Deserialize<'t>>(text: &str, raw: &'t RawValue) -> Result<T, DocumentError> {
    serde_json::from_str(raw.get()).map_err(|error| shape(text, raw.get(), &error))
}

/// Reads an entry: a record, and the statements beside it.
fn release<'t>(
    text: &'t str,
    raw: &'t RawValue,
    read_record: impl FnOnce(&'t str) -> Result<Release, RecordError>,
) -> Result<Release, DocumentError> {
    let mut members: Members<'t> = read(text, raw)?;
    let missing = || shape(text, raw.get(), &serde::de::Error::custom("a release has no `record`"));
    let record = members.take("record").ok_or_else(missing)?;
    let mut release = read_record(record.get()).map_err(|error| match error {
        RecordError::Shape(error) => shape(text, record.get(), &error),
        RecordError::Part(version, reason) => DocumentError::Release { version, reason },
    })?;
    let statements: Vec<&RawValue> = match members.take("statements") {
        Some(list) => read(text, list)?,
        None => Vec::new(),
    };
    for raw in statements {
        match Statement::read(raw.get()).map_err(|error| shape(text, raw.get(), &error))? {
            // A later version's.
            Ok(None) => Ok(()),
            Ok(Some(statement)) => statement.apply_to(&mut release),
            Err(reason) => Err(reason),
        }
        .map_err(|reason| DocumentError::Release { version: release.version.to_string(), reason })?;
        release.statements.push(raw.get().into());
    }
    release.others = members.rest();
    Ok(release)
}

/// Writes an entry; nothing for what was never published.
fn entry(release: &Release) -> Option<String> {
    let mut members = vec![format!("\"record\":{}", release.record.as_ref()?.text())];
    if !release.statements.is_empty() {
        members.push(format!("\"statements\":[{}]", release.statements.join(",")));
    }
    members.extend(release.others.iter().map(|(name, value)| format!("{}:{value}", quoted(name))));
    Some(format!("{{{}}}", members.join(",")))
}
