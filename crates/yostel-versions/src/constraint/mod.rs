//! Constraints: what a need accepts. Carries out docs/versions.md §5 and §6.
//!
//! Two forms. [`ConstraintText`] is the text as written, checked for its grammar alone, since the numbering of the package it
//! speaks of is not known where it is. [`Constraint`] is that text bound to a numbering: an exact set of versions.

mod condition;
mod moved;
mod set;
mod syntax;
#[cfg(test)]
mod tests;

use std::fmt;

pub use set::VersionSet;
pub use syntax::{ConstraintProblem, ConstraintText, ConstraintTextError};

use crate::lookup::Lookup;
use crate::version::{Numbering, Order, Version, VersionError};
use set::{Cut, Side};
use syntax::{Comparator, Sign};

/// A set of versions, exactly.
///
/// Pre-releases follow a rule of their own: one is accepted only where the text names a pre-release of the same
/// version. So the set has two parts, each a list of intervals: one that decides about releases, one about pre-releases.
/// Union, intersection, complement and comparison work part by part and are exact.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Constraint {
    order: Order,
    releases: VersionSet,
    pre_releases: VersionSet,
}

/// Why a text does not fit the numbering of the package it speaks of.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BindError {
    /// A version is not one in the package's order.
    #[error(transparent)]
    Version(#[from] VersionError),
    /// A sign that needs all positions has only some of them, which people read in two ways.
    #[error("`{sign}{version}` leaves numbers out")]
    Partial {
        /// The sign as written.
        sign: &'static str,
        /// The version as written.
        version: String,
        /// The readings, each spelled out.
        readings: Vec<String>,
    },
}

impl ConstraintText {
    /// Binds the text to the numbering of the package it speaks of.
    ///
    /// # Errors
    /// When a version is not one in that order, or leaves out positions where that could be read in two ways.
    pub fn bind(&self, numbering: &Numbering) -> Result<Constraint, BindError> {
        let order = numbering.order();
        let mut whole = Constraint::none(order);
        for group in self.groups() {
            let mut all = VersionSet::full();
            let mut named = VersionSet::empty();
            for comparator in group {
                let (set, version) = bind_one(comparator, numbering)?;
                all = all.intersection(&set);
                if let Some(version) = version.filter(Version::is_pre_release) {
                    let core = version.to_core();
                    named = named.union(&VersionSet::between(
                        Cut::At(version.to_lowest_pre_release(), Side::Before),
                        Cut::At(core, Side::Before),
                    ));
                }
            }
            let group = Constraint::from_parts(order, &all, &all.intersection(&named));
            whole = whole.union(&group);
        }
        Ok(whole)
    }
}

/// Texts that were bound: the same few stand in many releases, and binding is the dear part.
#[derive(Debug, Default)]
pub struct Bindings(Lookup<(Numbering, ConstraintText), Option<Constraint>>);

impl Bindings {
    /// Binds a text; nothing when it does not fit the numbering.
    pub fn bind(&mut self, accept: &ConstraintText, numbering: &Numbering) -> Option<&Constraint> {
        let bound = self.0.get_or_insert_with((numbering.clone(), accept.clone()), || accept.bind(numbering).ok());
        bound.as_ref()
    }
}

fn bind_one(comparator: &Comparator, numbering: &Numbering) -> Result<(VersionSet, Option<Version>), BindError> {
    let version = || fill_up(comparator, numbering);
    let at = |version: &Version, side| Cut::At(version.clone(), side);
    Ok(match comparator.sign {
        Sign::Any => (VersionSet::full(), None),
        Sign::Prefix => {
            let positions = comparator.version.split('.').count();
            let low = version()?;
            let set = VersionSet::between(
                at(&low.to_lowest_pre_release(), Side::Before),
                at(&low.raised_at(positions).to_lowest_pre_release(), Side::Before),
            );
            (set, None)
        }
        Sign::Caret => {
            let low = version()?;
            let high =
                numbering.next_line(&low).map_or(Cut::End, |next| at(&next.to_lowest_pre_release(), Side::Before));
            (VersionSet::between(at(&low, Side::Before), high), Some(low))
        }
        sign => {
            let v = version()?;
            let set = match sign {
                Sign::AtLeast => VersionSet::between(at(&v, Side::Before), Cut::End),
                Sign::Above => VersionSet::between(at(&v, Side::After), Cut::End),
                Sign::Below => VersionSet::between(Cut::Start, at(&v, Side::Before)),
                Sign::AtMost => VersionSet::between(Cut::Start, at(&v, Side::After)),
                Sign::Exactly | Sign::Not => VersionSet::between(at(&v, Side::Before), at(&v, Side::After)),
                Sign::Any | Sign::Prefix | Sign::Caret => unreachable!("handled above"),
            };
            (if sign == Sign::Not { set.complement() } else { set }, Some(v))
        }
    })
}

/// In `semver`, positions left out are zero, where that is the only way to read it.
fn fill_up(comparator: &Comparator, numbering: &Numbering) -> Result<Version, BindError> {
    let text = comparator.version.as_str();
    let missing = 3usize.saturating_sub(text.split('.').count());
    let bare = text.bytes().all(|b| b.is_ascii_digit() || b == b'.');
    if *numbering.order() != Order::Semver || missing == 0 || !bare {
        return Ok(numbering.parse_version(text)?);
    }
    let full = format!("{text}{}", ".0".repeat(missing));
    let version = numbering.parse_version(&full)?;
    let after = || version.raised_at(3 - missing);
    let readings = match comparator.sign {
        Sign::Exactly => vec![format!("={full}"), format!("{text}.*")],
        Sign::Not => vec![format!("!={full}"), format!("<{full} || >={}", after())],
        Sign::Above => vec![format!(">{full}"), format!(">={}", after())],
        Sign::AtMost => vec![format!("<={full}"), format!("<{}", after())],
        Sign::AtLeast | Sign::Below | Sign::Caret | Sign::Prefix | Sign::Any => return Ok(version),
    };
    Err(BindError::Partial { sign: comparator.sign.as_str(), version: text.into(), readings })
}

impl Constraint {
    /// Returns the constraint that accepts nothing.
    pub fn none(order: &Order) -> Self {
        Self { order: order.clone(), releases: VersionSet::empty(), pre_releases: VersionSet::empty() }
    }

    /// Returns the constraint that accepts every release and no pre-release.
    pub fn any(order: &Order) -> Self {
        Self { order: order.clone(), releases: VersionSet::full(), pre_releases: VersionSet::empty() }
    }

    /// Brings each part into its one form: cuts that separate the same versions of that part become the same cut.
    fn from_parts(order: &Order, releases: &VersionSet, pre_releases: &VersionSet) -> Self {
        Self {
            order: order.clone(),
            releases: releases.map_cuts(|version, side| match (version.is_pre_release(), side) {
                (true, _) => just_below(version.to_core()),
                (false, Side::Before) => just_below(version),
                (false, Side::After) => match version.successor() {
                    Some(next) => just_below(next.to_core()),
                    None => Cut::At(version, Side::After),
                },
            }),
            pre_releases: pre_releases.map_cuts(|version, side| {
                match (version.is_pre_release(), side, version.successor()) {
                    (true, Side::After, Some(next)) | (false, _, Some(next)) => just_below(next),
                    (true, Side::Before, Some(_)) => just_below(version),
                    (false, _, None) => Cut::At(version, Side::Before),
                    (true, side, None) => Cut::At(version, side),
                }
            }),
        }
    }

    /// Tells whether the version is accepted.
    ///
    /// # Examples
    /// ```
    /// use yostel_versions::{ConstraintText, Numbering};
    /// let numbering = Numbering::default();
    /// let constraint = ConstraintText::parse(">=2.1, <3").unwrap().bind(&numbering).unwrap();
    /// assert!(constraint.accepts(&numbering.parse_version("2.9.4").unwrap()));
    /// assert!(!constraint.accepts(&numbering.parse_version("3.0.0-rc.1").unwrap()));
    /// ```
    pub fn accepts(&self, version: &Version) -> bool {
        if version.is_pre_release() { self.pre_releases.contains(version) } else { self.releases.contains(version) }
    }

    /// Returns what both accept.
    pub fn intersection(&self, other: &Self) -> Self {
        Self {
            order: self.order.clone(),
            releases: self.releases.intersection(&other.releases),
            pre_releases: self.pre_releases.intersection(&other.pre_releases),
        }
    }

    /// Returns what either accepts.
    pub fn union(&self, other: &Self) -> Self {
        Self {
            order: self.order.clone(),
            releases: self.releases.union(&other.releases),
            pre_releases: self.pre_releases.union(&other.pre_releases),
        }
    }

    /// Returns what this one does not accept.
    pub fn complement(&self) -> Self {
        let (releases, pre_releases) = (self.releases.complement(), self.pre_releases.complement());
        Self { order: self.order.clone(), releases, pre_releases }
    }

    /// Tells whether `other` accepts all that this one does.
    pub fn is_subset(&self, other: &Self) -> bool {
        self.intersection(&other.complement()).is_empty()
    }

    /// Tells whether no version at all is accepted.
    pub fn is_empty(&self) -> bool {
        self.releases.is_empty() && self.pre_releases.is_empty()
    }

    /// Tells whether some version is too new for it.
    pub fn is_bounded_above(&self) -> bool {
        self.releases.ranges().last().is_none_or(|(_, high)| *high != Cut::End)
    }

    /// Says in words what is accepted: `at least 2.1.0 and below 3.0.0`.
    pub fn to_words(&self) -> String {
        let mut parts = Vec::new();
        for (low, high) in self.releases.ranges() {
            parts.push(match (low, high) {
                (Cut::Start, Cut::End) => "every release".to_owned(),
                (low, high) if is_point(low, high) => format!("exactly {}", text_of(low)),
                (Cut::Start, high) => upper_words(high),
                (low, Cut::End) => lower_words(low),
                (low, high) => format!("{} and {}", lower_words(low), upper_words(high)),
            });
        }
        if !self.pre_releases.is_empty() {
            let named: Vec<String> =
                self.pre_release_pieces().into_iter().flatten().map(|p| p.core.to_string()).collect();
            parts.push(if named.is_empty() {
                "pre-releases".into()
            } else {
                format!("pre-releases of {}", named.join(", "))
            });
        }
        if parts.is_empty() { "nothing at all".into() } else { parts.join(", or ") }
    }

    /// Splits the pre-release part into pieces that each are inside one version's pre-releases; none when some piece
    /// does not, which no text can say.
    fn pre_release_pieces(&self) -> Option<Vec<Piece>> {
        let mut pieces = Vec::new();
        for (low, high) in self.pre_releases.ranges() {
            let mut low = match low {
                Cut::Start => Cut::At(Version::lowest_pre_release(&self.order)?, Side::Before),
                low => low.clone(),
            };
            loop {
                let Cut::At(start, _) = &low else { return None };
                if !start.is_pre_release() || pieces.len() > 64 {
                    return None;
                }
                let core = start.to_core();
                // The same form that `from_parts` gives the end of a version's pre-releases.
                let end = match core.successor() {
                    Some(next) => Cut::At(next, Side::Before),
                    None => Cut::At(core.clone(), Side::Before),
                };
                let to = end.clone().min(high.clone());
                let whole_tail = to == end;
                pieces.push(Piece { core, low: low.clone(), high: (!whole_tail).then(|| to.clone()) });
                if to == *high {
                    break;
                }
                low = to;
            }
        }
        Some(pieces)
    }
}

/// Returns the cut just below a version; below the lowest version of its kind that is the start.
fn just_below(version: Version) -> Cut {
    if version.is_lowest_of_its_kind() { Cut::Start } else { Cut::At(version, Side::Before) }
}

/// Pre-releases of `core`, from `low` up to `high` or up to `core` itself.
struct Piece {
    core: Version,
    low: Cut,
    high: Option<Cut>,
}

fn is_point(low: &Cut, high: &Cut) -> bool {
    match (low, high) {
        (Cut::At(a, Side::Before), Cut::At(b, Side::After)) => a == b,
        (Cut::At(a, Side::Before), Cut::At(b, Side::Before)) => a.successor().is_some_and(|next| next.to_core() == *b),
        _ => false,
    }
}

fn text_of(cut: &Cut) -> String {
    match cut {
        Cut::At(version, _) => version.to_string(),
        Cut::Start | Cut::End => String::new(),
    }
}

fn lower_words(cut: &Cut) -> String {
    let word = if matches!(cut, Cut::At(_, Side::After)) { "above" } else { "at least" };
    format!("{word} {}", text_of(cut))
}

fn upper_words(cut: &Cut) -> String {
    let word = if matches!(cut, Cut::At(_, Side::After)) { "at most" } else { "below" };
    format!("{word} {}", text_of(cut))
}

fn write_range(low: &Cut, high: &Cut) -> String {
    let lower = match low {
        Cut::At(v, Side::Before) => Some(format!(">={v}")),
        Cut::At(v, Side::After) => Some(format!(">{v}")),
        Cut::Start | Cut::End => None,
    };
    let upper = match high {
        Cut::At(v, Side::Before) => Some(format!("<{v}")),
        Cut::At(v, Side::After) => Some(format!("<={v}")),
        Cut::Start | Cut::End => None,
    };
    match (lower, upper) {
        (None, None) => "*".into(),
        (Some(one), None) | (None, Some(one)) => one,
        (Some(lower), Some(upper)) => format!("{lower}, {upper}"),
    }
}

impl fmt::Display for Constraint {
    /// Prints the one canonical text. Sets that no text can say (some complements) are marked as such.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let pieces = self.pre_release_pieces();
        let mut parts = Vec::new();
        let mut attached = vec![false; pieces.as_ref().map_or(0, Vec::len)];
        for (low, high) in self.releases.ranges() {
            let mut from = low.clone();
            for (i, piece) in pieces.iter().flatten().enumerate() {
                if piece.high.is_none() && *low == Cut::At(piece.core.clone(), Side::Before) {
                    from = piece.low.clone();
                    attached[i] = true;
                }
            }
            let point = from == *low && is_point(low, high);
            parts.push(if point { format!("={}", text_of(low)) } else { write_range(&from, high) });
        }
        for (i, piece) in pieces.iter().flatten().enumerate() {
            if !attached[i] {
                let high = piece.high.clone().unwrap_or_else(|| Cut::At(piece.core.clone(), Side::Before));
                parts.push(write_range(&piece.low, &high));
            }
        }
        if parts.is_empty() {
            parts.push("nothing".into());
        }
        f.write_str(&parts.join(" || "))?;
        if pieces.is_none() { f.write_str(" (and pre-releases)") } else { Ok(()) }
    }
}
