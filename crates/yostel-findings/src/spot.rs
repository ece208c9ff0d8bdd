//! A place in a file.

/// Line and column of a file, from 1; columns count characters.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Spot {
    /// The file, relative to the workspace's root.
    pub file: String,
    /// The line.
    pub line: usize,
    /// The column.
    pub column: usize,
}
