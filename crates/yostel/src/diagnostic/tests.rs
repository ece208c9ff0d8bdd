//! Every code is told, listed and explained.

use std::collections::BTreeSet;

use super::codes::CODES;

/// The words are in this file and in the few commands that refuse their own arguments.
const SOURCES: [&str; 13] = [
    include_str!("mod.rs"),
    include_str!("collision.rs"),
    include_str!("content.rs"),
    include_str!("dispute.rs"),
    include_str!("manifest.rs"),
    include_str!("patch.rs"),
    include_str!("place.rs"),
    include_str!("../call.rs"),
    include_str!("../usage.rs"),
    include_str!("../commands/learn/walk.rs"),
    include_str!("../commands/using/run.rs"),
    include_str!("../commands/share/registry.rs"),
    include_str!("../commands/decide/settle.rs"),
];

#[test]
fn every_code_is_listed_once_used_and_explained_on_the_page() {
    let page = include_str!("../../../../docs/errors.md");
    let listed: BTreeSet<&str> = CODES.iter().copied().collect();
    assert_eq!(listed.len(), CODES.len(), "a code stands twice");
    for code in CODES {
        let quoted = format!("\"{code}\"");
        let uses: usize = SOURCES.iter().map(|source| source.matches(&quoted).count()).sum();
        assert!(uses >= 1, "{code} is listed and never told");
        assert!(page.contains(&format!("| `{code}` |")), "{code} is not on the page");
    }
    let rows = page.lines().filter_map(|line| line.strip_prefix("| `")?.split('`').next());
    for row in rows.filter(|row| !row.chars().all(|c| c.is_ascii_digit())) {
        assert!(listed.contains(row), "the page explains `{row}`, which nobody tells");
    }
}
