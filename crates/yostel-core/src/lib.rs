//! Versions, constraints, manifests, locks, resolving and auditing as pure functions.
