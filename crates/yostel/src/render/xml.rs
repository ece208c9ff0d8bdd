//! Text in XML and HTML.

use crate::sanitise::sanitise;

/// Writes a text so that it is nothing but text in XML 1.0 (§2.2: most control characters cannot be there at all) and in
/// HTML, steers no terminal, and turns no line of letters round.
pub(crate) fn escaped(text: &str) -> String {
    let mut escaped = String::with_capacity(text.len());
    for c in sanitise(text).chars() {
        match c {
            '&' => escaped.push_str("&amp;"),
            '<' => escaped.push_str("&lt;"),
            '>' => escaped.push_str("&gt;"),
            '"' => escaped.push_str("&quot;"),
            '\'' => escaped.push_str("&#39;"),
            '\u{fffe}' | '\u{ffff}' => escaped.push('\u{fffd}'),
            c => escaped.push(c),
        }
    }
    escaped
}
