//! Settings of the search. Every combination gives the same verdict; only the way there differs.

use std::sync::Arc;
use std::sync::atomic::AtomicBool;

/// Settings of the search.
#[derive(Debug, Clone)]
pub struct Config {
    /// Shortens each learned clause by literals that its others imply. Default: on.
    pub minimise: bool,
    /// Conflicts in the first run before a restart; later runs follow the Luby sequence. 0 = never restart. Default: 100.
    pub restart_after: u64,
    /// Learned clauses kept before the less active half is dropped; grows by a tenth each time. Default: 4000.
    pub keep_learned: usize,
    /// How many levels are undone at most so that a learned clause forces its literal where it first could. Where it would be
    /// more, only the last level is, and the literal is noted as of the earlier one: what has no part in the conflict stays
    /// (chronological backtracking, Nadel and Ryvchin 2018). Default: 100.
    pub most_undone: u32,
    /// Records every learned and deleted clause, so that a checker can follow. Default: off.
    pub record_proof: bool,
    /// Conflicts after which a call gives up with `Outcome::Stopped`. Default: none.
    pub conflict_limit: Option<u64>,
    /// Literals forced by a clause after which a call gives up with `Outcome::Stopped`: what bounds the time it takes, and
    /// ends it at the same place on every machine. Default: none.
    pub forced_limit: Option<u64>,
    /// Keeps what the assumptions of a call force for the next call, as far as both begin with the same ones: for many calls
    /// that differ at the end. Default: off.
    pub hold_assumptions: bool,
    /// Once set, from anywhere, the call under way gives up with `Outcome::Stopped`. Default: none.
    pub stop: Option<Arc<AtomicBool>>,
}

impl Default for Config {
    fn default() -> Self {
        Self {
            minimise: true,
            restart_after: 100,
            most_undone: 100,
            keep_learned: 4000,
            record_proof: false,
            conflict_limit: None,
            forced_limit: None,
            hold_assumptions: false,
            stop: None,
        }
    }
}
