//! Places releases come from, one client a file.
