//! Text from packages, registries and files is not ours: what is in it must not steer the terminal.
//!
//! Everything that is written for people passes [`shown`], once, at the very end; so no command can forget it. Paint is
//! put in as marks that are no characters of any text (Unicode noncharacters) and becomes escape sequences only there;
//! an escape sequence that was in a text shows as text. What is written for programs passes [`plain_json`].

use anstyle::Style;

use crate::role::Role;

/// The marks that begin paint: one for each role, from here on.
const PAINT: u32 = 0xFDD0;

/// The mark that ends paint.
const END: char = '\u{FDDF}';

/// The marks around what is said beside a result, notes and next steps: `--quiet` leaves that out.
const ASIDE: char = '\u{FDE3}';
const ASIDE_END: char = '\u{FDE4}';

/// Tells whether a character shows as nothing, or changes how others show.
fn is_hidden(c: char) -> bool {
    c.is_control()
        || matches!(c,
            '\u{ad}' | '\u{61c}' | '\u{200b}' | '\u{200e}' | '\u{200f}' | '\u{2028}'..='\u{202e}'
            | '\u{2060}'..='\u{2069}' | '\u{feff}' | '\u{fdd0}'..='\u{fdef}' | '\u{e0000}'..='\u{e007f}')
}

/// Escapes what is hidden, line ends too; keeps everything else.
pub(crate) fn sanitise(text: &str) -> String {
    escape(text, |c| is_hidden(c) && c != '\t')
}

fn escape(text: &str, hidden: impl Fn(char) -> bool) -> String {
    if !text.chars().any(&hidden) {
        return text.to_owned();
    }
    let mut escaped = String::with_capacity(text.len() + 8);
    for c in text.chars() {
        if hidden(c) { escaped.extend(c.escape_unicode()) } else { escaped.push(c) }
    }
    escaped
}

/// Marks text to be painted.
pub(crate) fn painted(role: Role, text: impl std::fmt::Display) -> String {
    let mark = char::from_u32(PAINT + role as u32).expect("there are fewer roles than marks");
    format!("{mark}{text}{END}")
}

/// Marks text that is said beside a result.
pub(crate) fn aside(text: &str) -> String {
    format!("{ASIDE}{text}{ASIDE_END}")
}

/// Leaves out what is said beside a result.
pub(crate) fn without_asides(text: &str) -> String {
    let mut open = text;
    let mut kept = String::with_capacity(text.len());
    while let Some((before, rest)) = open.split_once(ASIDE) {
        kept.push_str(before);
        open = rest.split_once(ASIDE_END).map_or("", |(_, after)| after);
    }
    kept + open
}

/// Makes of what a command says what may be written to a terminal: paint becomes escape sequences (which the stream takes
/// out where there is no terminal), and everything else that is hidden is escaped.
pub(crate) fn shown(text: &str) -> String {
    let mut written = String::with_capacity(text.len() + text.len() / 8);
    let mut style: Option<Style> = None;
    for c in text.chars() {
        let role = u32::from(c).checked_sub(PAINT).and_then(Role::of);
        match (c, role) {
            (_, Some(role)) => {
                let new = role.style();
                written.push_str(&new.render().to_string());
                style = Some(new);
            }
            (END, _) => {
                if let Some(style) = style.take() {
                    written.push_str(&style.render_reset().to_string());
                }
            }
            (ASIDE | ASIDE_END, _) => {}
            ('\n' | '\t', _) => written.push(c),
            (c, _) if is_hidden(c) => written.extend(c.escape_unicode()),
            (c, _) => written.push(c),
        }
    }
    written
}

/// Escapes what is hidden in a JSON document, as JSON does; outside its strings there is none.
pub(crate) fn plain_json(document: &str) -> String {
    let hidden = |c: char| is_hidden(c) && !matches!(c, '\n' | '\t');
    if !document.chars().any(hidden) {
        return document.to_owned();
    }
    let mut escaped = String::with_capacity(document.len() + 8);
    for c in document.chars() {
        if hidden(c) {
            let mut units = [0; 2];
            c.encode_utf16(&mut units).iter().for_each(|unit| escaped.push_str(&format!("\\u{unit:04x}")));
        } else {
            escaped.push(c);
        }
    }
    escaped
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn escape_sequences_and_turned_writing_show_as_text() {
        assert_eq!(sanitise("a\u{1b}[31mb"), "a\\u{1b}[31mb");
        assert_eq!(sanitise("a\u{202e}b\u{9b}"), "a\\u{202e}b\\u{9b}");
        assert_eq!(sanitise("grün → ok\t."), "grün → ok\t.");
    }

    #[test]
    fn only_our_paint_reaches_the_terminal() {
        let text = format!("{} \u{1b}[8mgone\r\u{9b}K\n", painted(Role::Good, "fine \u{1b}[0m"));
        let written = shown(&text);
        assert_eq!(written, "\u{1b}[32mfine \\u{1b}[0m\u{1b}[0m \\u{1b}[8mgone\\u{d}\\u{9b}K\n");
        assert_eq!(shown(&format!("a\n{}b", aside("note"))), "a\nnoteb");
        assert_eq!(without_asides(&format!("a\n{}b{}", aside("note\nmore\n"), aside("next"))), "a\nb");
        // A mark in a text is paint at the worst.
        assert_eq!(shown("\u{fddf}a\u{fde0}"), "a\\u{fde0}");
    }

    #[test]
    fn json_stays_json_and_shows_what_it_holds() {
        let value = serde_json::json!({ "a": "\u{9b}31m \u{202e} \u{e0041} ü" });
        let text = plain_json(&format!("{value:#}"));
        assert!(text.is_char_boundary(0) && !text.chars().any(|c| is_hidden(c) && c != '\n'), "{text}");
        assert_eq!(serde_json::from_str::<serde_json::Value>(&text).unwrap(), value);
    }
}
