//! The exit status, all of it: docs/errors.md §1.

use yostel_flows::FlowClass;

/// How the program ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Exit {
    /// Fine.
    Fine,
    /// Findings: an audit or a verification found something.
    Findings,
    /// Usage or manifest error.
    Usage,
    /// No consistent set.
    NoResolution,
    /// Integrity failure.
    Integrity,
    /// Source unavailable.
    SourceUnavailable,
    /// Lockfile out of date, or not installed.
    Stale,
    /// The machine refused: permissions, space.
    Machine,
    /// Our own fault.
    Internal,
    /// It was told to stop.
    Stopped,
    /// What a command that was run ended with.
    OfCommand(u8),
}

impl Exit {
    /// Returns the number.
    pub(crate) fn status(self) -> u8 {
        match self {
            Self::Fine => 0,
            Self::Findings => 1,
            Self::Usage => 2,
            Self::NoResolution => 3,
            Self::Integrity => 4,
            Self::SourceUnavailable => 5,
            Self::Stale => 6,
            Self::Machine => 7,
            Self::Internal => 70,
            Self::Stopped => 130,
            Self::OfCommand(status) => status,
        }
    }
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
            FlowClass::Stopped => Self::Stopped,
        }
    }
}
