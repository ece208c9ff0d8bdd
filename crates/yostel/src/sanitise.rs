//! Text from packages, registries and files is not ours: control characters in it must not steer the terminal.

/// Escapes control characters and those that turn the direction of writing; keeps everything else.
pub(crate) fn sanitise(text: &str) -> String {
    let hidden = |c: char| {
        c.is_control() || matches!(c, '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
    };
    if text.chars().any(|c| hidden(c) && c != '\t') {
        text.chars()
            .flat_map(|c| {
                let escaped: String =
                    if hidden(c) && c != '\t' { c.escape_unicode().to_string() } else { c.to_string() };
                escaped.chars().collect::<Vec<_>>()
            })
            .collect()
    } else {
        text.to_owned()
    }
}

#[cfg(test)]
mod tests {
    use super::sanitise;

    #[test]
    fn escape_sequences_and_turned_writing_show_as_text() {
        assert_eq!(sanitise("a\u{1b}[31mb"), "a\\u{1b}[31mb");
        assert_eq!(sanitise("a\u{202e}b"), "a\\u{202e}b");
        assert_eq!(sanitise("grün → ok\t."), "grün → ok\t.");
    }
}
