//! The exit status, all of it: docs/errors.md §1.

use yostel_flows::FlowClass;

/// How the program ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Exit {
    /// Fine.
    Fine = 0,
    /// Findings: an audit or a verification found something.
    Findings = 1,
    /// Usage or manifest error.
    Usage = 2,
    /// No consistent set.
    NoResolution = 3,
    /// Integrity failure.
    Integrity = 4,
    /// Source unavailable.
    SourceUnavailable = 5,
    /// Lockfile out of date, or not installed.
    Stale = 6,
    /// The machine refused: permissions, space.
    Machine = 7,
    /// Our own fault.
    Internal = 70,
}

impl From<FlowClass> for Exit {
    fn from(class: FlowClass) -> Self {
        match class {
            FlowClass::Usage => Self::Usage,
            FlowClass::NoResolution => Self::NoResolution,
            FlowClass::Integrity => Self::Integrity,
            FlowClass::SourceUnavailable => Self::SourceUnavailable,
            FlowClass::Stale => Self::Stale,
            FlowClass::Machine => Self::Machine,
            FlowClass::Internal => Self::Internal,
        }
    }
}
