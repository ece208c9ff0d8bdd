//! Edits told by line and column: whoever makes them gets the text that was meant.

use proptest::prelude::*;
use yostel_findings::TextEdit;

/// Texts of few kinds of lines, so that many are in both.
fn text() -> impl Strategy<Value = String> {
    let line = prop_oneof!["a", "wört", "", "b = 1", "𝄞"];
    let end = prop_oneof![4 => Just("\n"), 1 => Just("\r\n")];
    (prop::collection::vec((line, end), 0..8), prop_oneof![Just(""), Just("last"), Just("ö")])
        .prop_map(|(lines, last)| lines.iter().map(|(line, end)| format!("{line}{end}")).collect::<String>() + last)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]

    #[test]
    fn an_edit_between_two_texts_makes_one_of_the_other_and_no_more_lines_than_differ(before in text(), after in text()) {
        let Some(edit) = TextEdit::between("f", &before, &after) else {
            prop_assert_eq!(before, after);
            return Ok(());
        };
        prop_assert_eq!(edit.apply(&before), after.clone());
        prop_assert!(edit.from <= edit.to && edit.from >= (1, 1));
        // What was cut off the ends is what both begin and end with.
        let old: Vec<&str> = before.split_inclusive('\n').collect();
        let new: Vec<&str> = after.split_inclusive('\n').collect();
        let start = old.iter().zip(&new).take_while(|(one, other)| one == other).count();
        prop_assert!(edit.from.0 >= start.max(1));
    }
}

#[test]
fn a_line_that_changes_goes_or_comes_is_told_as_that_line() {
    let told = |before: &str, after: &str| {
        let edit = TextEdit::between("f", before, after).unwrap();
        (edit.from, edit.to, edit.with)
    };
    assert_eq!(told("a\nb\nc\n", "a\nx\nc\n"), ((2, 1), (3, 1), "x\n".to_owned()));
    assert_eq!(told("a\nb\nc\n", "a\nc\n"), ((2, 1), (3, 1), String::new()));
    assert_eq!(told("a\nc\n", "a\nb\nc\n"), ((2, 1), (2, 1), "b\n".to_owned()));
    assert_eq!(told("a\nöx", "a\nb\n"), ((2, 1), (2, 3), "b\n".to_owned()));
    assert_eq!(TextEdit::between("f", "a", "a"), None);
}
