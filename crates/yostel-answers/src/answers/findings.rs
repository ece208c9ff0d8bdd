//! Findings of every kind, told alike.

use schemars::JsonSchema;
use serde::Serialize;
use yostel_findings::{AuditReport, FindingKind, Judged, Matter, Spot, Standing, TextEdit};

use super::parts::{texts, told};
use crate::words::{finding_notes, finding_words, remedy_words};

/// One thing that was found.
#[derive(Debug, Clone, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct FindingTold {
    /// Its name: the same as long as the matter is the same.
    pub id: String,
    /// Its kind, such as `advisory` or `outdated`.
    pub kind: &'static str,
    /// `none`, `low`, `medium`, `high` or `critical`.
    pub severity: &'static str,
    /// The packages that it is about.
    pub packages: Vec<PackageTold>,
    /// From a project to who asks for the first of those, each asked for by the one before; empty where nobody does.
    pub way: Vec<String>,
    /// Where a manifest says what it comes from; null where none does.
    pub place: Option<SpotTold>,
    /// What it is, in a sentence.
    pub says: String,
    /// What else is to be known.
    pub notes: Vec<String>,
    /// What ends it; null where nothing is known to.
    pub remedy: Option<RemedyTold>,
    /// Whether it lets the audit fail.
    pub fails: bool,
    /// What the baseline says of it; null when nothing.
    pub known: Option<KnownTold>,
    /// Its kind as a value.
    #[serde(skip)]
    pub of: FindingKind,
    /// The CVSS score, where it is an advisory that has one.
    #[serde(skip)]
    pub score: Option<f64>,
    /// The advisory's name, where it is one.
    #[serde(skip)]
    pub advisory: Option<String>,
}

/// A package, and its version where one is meant.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct PackageTold {
    /// The package.
    pub package: String,
    /// The locked version; null where all of its versions are meant.
    pub version: Option<String>,
}

/// A place in a manifest, counted from 1; columns count characters.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct SpotTold {
    /// The file, from the root.
    pub file: String,
    /// The line.
    pub line: usize,
    /// The column.
    pub column: usize,
}

impl From<&Spot> for SpotTold {
    fn from(spot: &Spot) -> Self {
        Self { file: spot.file.clone(), line: spot.line, column: spot.column }
    }
}

/// What ends a finding: first the edits, all of them made in the manifests as they are, then the commands.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct RemedyTold {
    /// That, as a person would do it.
    pub says: String,
    /// Edits of manifests.
    pub edits: Vec<TextEditTold>,
    /// Commands to run one after the other, at the root.
    pub commands: Vec<String>,
}

/// A part of a file to write anew, counted from 1; columns count characters.
#[derive(Debug, Clone, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct TextEditTold {
    /// The file, from the root.
    pub file: String,
    /// The line where it begins.
    pub line: usize,
    /// The column where it begins.
    pub column: usize,
    /// The line where what stays goes on.
    pub end_line: usize,
    /// The column where what stays goes on.
    pub end_column: usize,
    /// What to write there.
    pub with: String,
}

impl From<&TextEdit> for TextEditTold {
    fn from(edit: &TextEdit) -> Self {
        let ((line, column), (end_line, end_column)) = (edit.from, edit.to);
        Self { file: edit.file.clone(), line, column, end_line, end_column, with: edit.with.clone() }
    }
}

/// What a baseline says of a finding.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct KnownTold {
    /// The last day on which it lets no audit fail.
    pub until: String,
    /// Whether that day is past, so that it counts again.
    pub ended: bool,
    /// Why it is known; null where nobody says.
    pub why: Option<String>,
}

impl FindingTold {
    /// Tells a finding of a report.
    pub fn of(judged: &Judged<'_>, report: &AuditReport) -> Self {
        let finding = &judged.finding;
        let packages = finding.packages();
        let first = packages.first().map(|(package, _)| *package);
        let way = first.map(|package| texts(report.ways.way_to(package))).unwrap_or_default();
        let place = match finding.matter {
            Matter::DueRule(upkeep) => Some(SpotTold { file: upkeep.file.clone(), line: upkeep.line, column: 1 }),
            Matter::Concern(concern) if concern.place.is_some() => concern.place.as_ref().map(SpotTold::from),
            _ => first.and_then(|package| report.ways.place_of(package)).map(SpotTold::from),
        };
        let known = match judged.standing {
            Standing::New => None,
            Standing::Known(known) => Some((known, false)),
            Standing::Ended(known) => Some((known, true)),
        };
        let known = known.map(|(known, ended)| {
            let (until, why) = (known.until.to_string(), known.why.clone());
            KnownTold { until, ended, why }
        });
        let threat = match finding.matter {
            Matter::Advisory(advised) => Some(&advised.threat),
            _ => None,
        };
        let package = |(package, version): &(&_, Option<&_>)| PackageTold {
            package: ToString::to_string(package),
            version: version.map(ToString::to_string),
        };
        Self {
            id: finding.id.clone(),
            kind: finding.kind().word(),
            severity: finding.severity().word(),
            packages: packages.iter().map(package).collect(),
            way,
            place,
            says: finding_words(finding),
            notes: finding_notes(finding),
            remedy: report.remedies.get(&finding.id).map(|remedy| RemedyTold {
                says: remedy_words(finding, report).unwrap_or_default(),
                edits: told(&remedy.edits),
                commands: remedy.commands.clone(),
            }),
            fails: judged.fails,
            known,
            of: finding.kind(),
            score: threat.and_then(|threat| threat.severity).map(|(_, score)| score),
            advisory: threat.map(|threat| threat.id.clone()),
        }
    }
}
