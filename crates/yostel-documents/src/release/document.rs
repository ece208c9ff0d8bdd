//! The document of a package: read, and written so that nothing is lost that only a later version understands.

use std::sync::Arc;

use serde::Deserialize;
use serde::de::MapAccess;
use serde_json::value::RawValue;
use yostel_versions::Version;

use super::listed::{ListedRelease, entry};
use super::packed::Packing;
use super::record::{Met, Record, RecordError, Seen};
use super::{DOCUMENT_FORMAT, Others, PackageDocument, Release, Statement};
use crate::json::{Object, Text, laid_out, push_closed_up, quoted, read_as_objects};
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
        let raw: RawDocument<'_> = match serde_json::from_str(text) {
            Ok(raw) => raw,
            // What a later format looks like, only later versions know.
            Err(error) => return Err(later_format(text).unwrap_or_else(|| shape(text, text, &error))),
        };
        if raw.format != DOCUMENT_FORMAT {
            return Err(DocumentError::Format(raw.format));
        }
        if *raw.name != *expected.as_str() {
            return Err(DocumentError::OtherPackage { expected: expected.clone(), found: raw.name.into_owned() });
        }
        let numbering = match raw.numbering {
            Some(raw) => {
                let table: NumberingTable = read(text, raw)?;
                table.read().map_err(|reason| shape(text, raw.get(), &serde::de::Error::custom(reason)))?
            }
            None => Default::default(),
        };
        let mut met = Met::default();
        let (mut packing, mut alone, mut others) = (Packing::default(), Vec::new(), Vec::new());
        for entry in raw.releases {
            let seen = entry.check(text, |record| Record::check(record, &numbering, &mut met))?;
            if entry.is_record_alone() {
                packing.push(|text| push_closed_up(text, entry.record()));
                alone.push(seen);
            } else {
                others.push(entry.release(text, seen.version, &mut met)?.into());
            }
        }
        let alone = alone.into_iter().zip(packing.finish()).map(|(seen, record)| ListedRelease::unread(seen, record));
        let mut releases: Vec<ListedRelease> = alone.chain(others).collect();
        releases.sort_by(|a, b| a.version.cmp(&b.version));
        if let Some(pair) = releases.windows(2).find(|pair| pair[0].version == pair[1].version) {
            return Err(DocumentError::Twice(pair[0].version.to_string(), pair[1].version.to_string()));
        }
        Ok(Self { name: expected.clone(), numbering, releases: Arc::new(releases), others: raw.others })
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
        for release in parts.iter().flat_map(|part| &*part.releases) {
            // Read anew: its version is compared by the words that all of them know.
            let mut release = Release::clone(release.whole());
            release.statements.extend(more(&release).into_iter().map(Arc::from));
            let Some(text) = entry(&release) else { continue };
            let read: Entry<'_> = serde_json::from_str(&text).map_err(|error| shape(&text, &text, &error))?;
            let seen = read.check(&text, |record| Record::check(record, &joined.numbering, &mut met))?;
            let release = read.release(&text, seen.version, &mut met)?;
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
            releases: Arc::new(vec![release.into()]),
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
        let releases: Vec<String> = self.releases.iter().filter_map(|release| release.entry()).collect();
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

/// A document as it is.
#[derive(Default)]
struct RawDocument<'t> {
    format: u32,
    name: Text<'t>,
    numbering: Option<&'t RawValue>,
    releases: Vec<Entry<'t>>,
    others: Others,
}

impl<'t> Object<'t> for RawDocument<'t> {
    const MUST: &'static [&'static str] = &["format", "name", "releases"];

    fn member<A: MapAccess<'t>>(&mut self, name: &str, members: &mut A) -> Result<(), A::Error> {
        match name {
            "format" => self.format = members.next_value()?,
            "name" => self.name = members.next_value()?,
            "numbering" => self.numbering = Some(members.next_value()?),
            "releases" => self.releases = members.next_value()?,
            other => self.others.push((other.to_owned(), members.next_value::<&RawValue>()?.get().into())),
        }
        Ok(())
    }
}

read_as_objects!(RawDocument, Entry);

/// Returns the refusal of a document whose format this version does not know.
fn later_format(text: &str) -> Option<DocumentError> {
    #[derive(Deserialize)]
    struct Format {
        format: u32,
    }
    let Format { format } = serde_json::from_str(text).ok()?;
    (format != DOCUMENT_FORMAT).then_some(DocumentError::Format(format))
}

/// An entry as it is in a document: a record, and what is beside it.
#[derive(Default)]
struct Entry<'t> {
    record: Option<&'t RawValue>,
    statements: Vec<&'t RawValue>,
    others: Others,
}

impl<'t> Object<'t> for Entry<'t> {
    const MUST: &'static [&'static str] = &["record"];

    fn member<A: MapAccess<'t>>(&mut self, name: &str, members: &mut A) -> Result<(), A::Error> {
        match name {
            "record" => self.record = Some(members.next_value()?),
            "statements" => self.statements = members.next_value()?,
            other => self.others.push((other.to_owned(), members.next_value::<&RawValue>()?.get().into())),
        }
        Ok(())
    }
}

impl<'t> Entry<'t> {
    fn record(&self) -> &'t str {
        self.record.expect("it must be there to be read").get()
    }

    fn is_record_alone(&self) -> bool {
        self.statements.is_empty() && self.others.is_empty()
    }

    /// Checks its record; `text` is the whole that it is part of.
    fn check(&self, text: &str, check: impl FnOnce(&str) -> Result<Seen, RecordError>) -> Result<Seen, DocumentError> {
        check(self.record()).map_err(|error| match error {
            RecordError::Shape(error) => shape(text, self.record(), &error),
            RecordError::Part(version, reason) => DocumentError::Release { version, reason },
        })
    }

    /// Reads the release, of which the record was checked; `text` is the whole that it is part of.
    fn release(self, text: &str, version: Version, met: &mut Met) -> Result<Release, DocumentError> {
        let mut release = Record::release(self.record(), version, met);
        for raw in self.statements {
            match Statement::read(raw.get()).map_err(|error| shape(text, raw.get(), &error))? {
                // A later version's.
                Ok(None) => Ok(()),
                Ok(Some(statement)) => statement.apply_to(&mut release),
                Err(reason) => Err(reason),
            }
            .map_err(|reason| DocumentError::Release { version: release.version.to_string(), reason })?;
            release.statements.push(raw.get().into());
        }
        release.others = self.others;
        Ok(release)
    }
}
