//! Which findings let an audit fail: those that nobody accepted until a day, and that are bad enough.

use std::collections::{BTreeMap, BTreeSet};

use jiff::civil::Date;
use yostel_documents::{Baseline, Known};

use crate::audit::Rating;
use crate::finding::{AuditReport, Finding};
use crate::kind::{FindingGroup, FindingKind};

/// What a baseline says of a finding.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Standing<'b> {
    /// Nothing.
    New,
    /// It is known, and its day has not passed.
    Known(&'b Known),
    /// It was known until a day that has passed.
    Ended(&'b Known),
}

/// Says what a baseline says of a finding on a day; the last day itself still counts. A finding that may not be in a baseline
/// is new whatever it says.
fn standing<'b>(finding: &Finding<'_>, known: &BTreeMap<&str, &'b Known>, today: Date) -> Standing<'b> {
    // What somebody changed behind one's back is nothing to be used to.
    if finding.kind().group().is_none() {
        return Standing::New;
    }
    match known.get(finding.id.as_str()) {
        None => Standing::New,
        Some(known) if known.until < today => Standing::Ended(known),
        Some(known) => Standing::Known(known),
    }
}

/// A finding, judged.
#[derive(Debug, Clone)]
pub struct Judged<'r> {
    /// The finding.
    pub finding: Finding<'r>,
    /// What the baseline says of it.
    pub standing: Standing<'r>,
    /// Whether it lets the audit fail.
    pub fails: bool,
}

/// What comes of an audit.
#[derive(Debug, Clone)]
pub struct Verdict<'r> {
    /// All that was found, in the order of [`AuditReport::findings`].
    pub all: Vec<Judged<'r>>,
    /// What the baseline knows and was not found, though it was looked for.
    pub gone: Vec<&'r Known>,
}

/// Judges what was found, on a day. `was_looked_for` tells of a kind whether it was.
pub fn judge<'r>(
    report: &'r AuditReport,
    baseline: &'r Baseline,
    today: Date,
    bar: &Bar,
    was_looked_for: impl Fn(FindingKind) -> bool,
) -> Verdict<'r> {
    let known: BTreeMap<&str, &Known> = baseline.known.iter().map(|known| (known.id.as_str(), known)).collect();
    let judged = report.findings().into_iter().map(|finding| {
        let standing = standing(&finding, &known, today);
        let fails = !matches!(standing, Standing::Known(_)) && bar.is_reached(&finding);
        Judged { finding, standing, fails }
    });
    let all: Vec<Judged<'r>> = judged.collect();
    let found: BTreeSet<&str> = all.iter().map(|judged| judged.finding.id.as_str()).collect();
    let was_looked_for = |known: &Known| kind_of(&known.id).is_some_and(&was_looked_for);
    let gone = baseline.known.iter().filter(|known| !found.contains(known.id.as_str()) && was_looked_for(known));
    Verdict { gone: gone.collect(), all }
}

/// Reads the kind of a finding off its name; nothing when it is none that this version knows.
fn kind_of(id: &str) -> Option<FindingKind> {
    let word = id.split(':').next().unwrap_or_default();
    FindingKind::ALL.into_iter().find(|kind| kind.word() == word)
}

/// Makes a baseline of what was found: what is known today stays as it is written, what is new, or was known until a day that
/// is past, is known until `until`, and what was not found any more is left out. Of kinds that were not looked for, or that
/// only a later version knows, everything stays.
pub fn renewed(
    found: &[Finding<'_>],
    before: &Baseline,
    (today, until): (Date, Date),
    was_looked_for: impl Fn(FindingKind) -> bool,
) -> Baseline {
    let mut known: BTreeMap<String, Known> = BTreeMap::new();
    for finding in found.iter().filter(|finding| finding.kind().group().is_some()) {
        let new = Known { id: finding.id.clone(), until, why: None };
        known.insert(finding.id.clone(), new);
    }
    for entry in &before.known {
        match known.get_mut(&entry.id) {
            Some(new) if entry.until < today => new.why.clone_from(&entry.why),
            Some(new) => new.clone_from(entry),
            None if !kind_of(&entry.id).is_some_and(&was_looked_for) => {
                known.insert(entry.id.clone(), entry.clone());
            }
            None => {}
        }
    }
    Baseline { known: known.into_values().collect() }
}

/// Which findings are bad enough for an audit to fail: those of any of these kinds and severities.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Bar(pub Vec<(Option<FindingGroup>, Rating)>);

impl Default for Bar {
    /// Whatever is found.
    fn default() -> Self {
        Self(vec![(None, Rating::None)])
    }
}

impl Bar {
    /// Tells whether a finding is bad enough. An alarm always is.
    pub fn is_reached(&self, finding: &Finding<'_>) -> bool {
        let group = finding.kind().group();
        let reaches = |(of, least): &(Option<FindingGroup>, Rating)| {
            (of.is_none() || *of == group) && finding.severity() >= *least
        };
        group.is_none() || self.0.iter().any(reaches)
    }
}
