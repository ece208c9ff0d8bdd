//! Counts of what the search did.

/// Counts since the solver was made.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Stats {
    /// Calls of `solve`.
    pub calls: u64,
    /// Literals chosen freely (assumptions not counted).
    pub decisions: u64,
    /// Literals forced by a clause.
    pub propagations: u64,
    /// Clauses found falsified.
    pub conflicts: u64,
    /// Clauses learned.
    pub learned: u64,
    /// Learned clauses dropped again.
    pub forgotten: u64,
    /// Restarts.
    pub restarts: u64,
}
