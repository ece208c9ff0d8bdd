//! The marks that version control leaves where it could not merge.

use std::ops::Range;

/// Tells whether a line is such a mark.
pub(crate) fn is_merge_mark(line: &str) -> bool {
    line.starts_with(['<', '=', '>'])
        && (line.starts_with("<<<<<<< ") || line.starts_with(">>>>>>> ") || line.trim_end() == "=======")
}

/// Finds the first mark.
pub(crate) fn merge_mark(text: &str) -> Option<Range<usize>> {
    let mut at = 0;
    for line in text.split_inclusive('\n') {
        if is_merge_mark(line) {
            return Some(at..at + line.trim_end().len());
        }
        at += line.len();
    }
    None
}
