//! Findings as Markdown (CommonMark, with tables), for a comment in a review.

use yostel_answers::answers::findings::FindingTold;

use super::{Columns, Head, count, indented};
use crate::sanitise::sanitise;

/// Writes what lets the audit fail first, then what does not, and counts what is known.
pub(crate) fn document(findings: &[FindingTold], project: &str, packages: usize) -> String {
    let is_known = |finding: &&FindingTold| finding.known.as_ref().is_some_and(|known| !known.ended);
    let known = findings.iter().filter(is_known).count();
    let failing: Vec<&FindingTold> = findings.iter().filter(|finding| finding.fails).collect();
    let others = findings.iter().filter(|finding| !finding.fails && !is_known(finding));
    let others: Vec<&FindingTold> = others.collect();
    let mut text = format!("## Audit of {}\n\n", escaped(project));
    text.push_str(&match (failing.len(), others.len()) {
        (0, 0) => format!("{}, nothing found", count(packages, "package")),
        (failing, others) => format!("{}, {}", count(packages, "package"), count(failing + others, "finding")),
    });
    if known > 0 {
        text.push_str(&format!("; {} left out", count(known, "known finding")));
    }
    text.push_str(".\n");
    table(&mut text, &failing);
    if !failing.is_empty() && !others.is_empty() {
        text.push_str("\nThese do not let the audit fail:\n");
    }
    table(&mut text, &others);
    text
}

fn table(text: &mut String, findings: &[&FindingTold]) {
    if findings.is_empty() {
        return;
    }
    text.push_str("\n| severity | what | to end it |\n| --- | --- | --- |\n");
    for finding in findings {
        let notes: String = finding.notes.iter().map(|note| format!("; {}", escaped(note))).collect();
        let end = finding.remedy.as_ref().map(|remedy| escaped(&remedy.says)).unwrap_or_default();
        text.push_str(&format!("| {} | {}{notes} | {} |\n", finding.severity, escaped(&finding.says), end));
    }
}

/// Writes a text so that it is nothing but text: no markup, no link, nobody's name called.
pub(crate) fn escaped(text: &str) -> String {
    let mut escaped = String::with_capacity(text.len() + 8);
    for c in sanitise(text).chars() {
        match c {
            '&' => escaped.push_str("&amp;"),
            '<' => escaped.push_str("&lt;"),
            '>' => escaped.push_str("&gt;"),
            // Where comments call people by `@name`, a comment between the two keeps them asleep.
            '@' => escaped.push_str("@<!-- -->"),
            '\\' | '`' | '*' | '_' | '{' | '}' | '[' | ']' | '#' | '|' | '~' | '!' | '$' => {
                escaped.push('\\');
                escaped.push(c);
            }
            c => escaped.push(c),
        }
    }
    // What looks like an address becomes a link in some places.
    escaped.replace("://", ":<!-- -->//").replace("www.", "www<!-- -->.")
}

/// Takes back what [`escaped`] did, and takes bold for plain.
fn plain(text: &str) -> String {
    let mut plain = String::with_capacity(text.len());
    let mut rest = text.trim();
    while let Some(c) = rest.chars().next() {
        let entities = [("<!-- -->", ""), ("**", ""), ("&lt;", "<"), ("&gt;", ">"), ("&amp;", "&")];
        match entities.iter().find(|(escape, _)| rest.starts_with(escape)) {
            Some((escape, says)) => {
                plain.push_str(says);
                rest = &rest[escape.len()..];
            }
            None => {
                let skipped = if c == '\\' { &rest[1..] } else { rest };
                let Some(c) = skipped.chars().next() else { break };
                plain.push(c);
                rest = &skipped[c.len_utf8()..];
            }
        }
    }
    plain
}

/// Takes a row of a table apart.
fn cells(line: &str) -> Vec<String> {
    let (mut cells, mut cell, mut is_escaped) = (Vec::new(), String::new(), false);
    for c in line.trim().trim_start_matches('|').chars() {
        if c == '|' && !is_escaped {
            cells.push(plain(&cell));
            cell.clear();
        } else {
            cell.push(c);
        }
        is_escaped = c == '\\' && !is_escaped;
    }
    cells
}

/// The titles of columns in what this program writes.
const TITLES: [&str; 12] = [
    "what",
    "package",
    "versions",
    "because",
    "line",
    "published",
    "needed by",
    "files that differ",
    "check",
    "project",
    "result",
    "time",
];

/// Writes for a terminal what this program wrote as Markdown: tables as tables, and the rest as the text that it is.
pub(crate) fn for_terminal(markdown: &str) -> String {
    let mut text = String::new();
    let mut table: Vec<Vec<String>> = Vec::new();
    for line in markdown.lines().chain([""]) {
        if line.starts_with('|') {
            table.push(cells(line));
            continue;
        }
        if let [heads, _, rows @ ..] = &table[..] {
            let known = |head: &String| TITLES.iter().find(|title| **title == head.as_str()).copied().unwrap_or("");
            let heads: Vec<Head> = heads.iter().map(|head| Head::words(known(head))).collect();
            let width = heads.len();
            let mut columns = Columns::new(heads);
            for row in rows {
                columns.row((0..width).map(|at| row.get(at).cloned().unwrap_or_default()));
            }
            text.push_str(&columns.finish());
        }
        table.clear();
        // What is indented is said by a check.
        match line.strip_prefix("    ") {
            Some(said) => text.push_str(&format!("    {}\n", sanitise(said))),
            None => text.push_str(&indented(0, plain(line))),
        }
    }
    text.trim_end().to_owned() + "\n"
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_escaped_is_taken_back_and_cells_end_where_they_end() {
        let odd = "a|b \\| <b>*x*</b> @you https://h & \\";
        assert_eq!(plain(&escaped(odd)), odd);
        assert_eq!(cells(&format!("| {} | **c** |", escaped(odd))), [odd, "c"]);
    }
}
