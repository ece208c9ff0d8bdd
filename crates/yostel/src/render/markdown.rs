//! Findings as Markdown (CommonMark, with tables), for a comment in a review.

use yostel_answers::answers::findings::FindingTold;

use super::count;
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
