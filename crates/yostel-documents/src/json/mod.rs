//! JSON as text: taken apart without losing a byte, written anew with its layout only, and brought into the one form that
//! is digested.

mod object;

use std::fmt;

use serde::de::{DeserializeSeed, Deserializer, Error, MapAccess, SeqAccess, Visitor};

pub(crate) use object::{Entries, Object, Text, read_as_objects, read_object};
use object::{Names, twice};

/// The largest whole number that every reader of JSON takes for the same (RFC 7493 §2.2).
const MOST_WHOLE: u64 = (1 << 53) - 1;

/// Brings a JSON text into its canonical form: that of RFC 8785, of texts whose numbers are whole.
///
/// # Errors
/// When it is not JSON, a name is there twice in an object, or a number is not a whole one of at most 2^53 - 1.
pub(crate) fn canonical(text: &str) -> serde_json::Result<String> {
    let mut out = String::with_capacity(text.len());
    let mut reader = serde_json::Deserializer::from_str(text);
    Canonical(&mut out).deserialize(&mut reader)?;
    reader.end()?;
    Ok(out)
}

/// Takes any value that has a canonical form.
pub(crate) struct Looked;

impl<'de> DeserializeSeed<'de> for Looked {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Looked {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a value")
    }

    fn visit_unit<E: Error>(self) -> Result<(), E> {
        Ok(())
    }

    fn visit_bool<E: Error>(self, _: bool) -> Result<(), E> {
        Ok(())
    }

    fn visit_u64<E: Error>(self, value: u64) -> Result<(), E> {
        check_whole(value)
    }

    fn visit_i64<E: Error>(self, value: i64) -> Result<(), E> {
        check_whole(value.unsigned_abs())
    }

    fn visit_f64<E: Error>(self, _: f64) -> Result<(), E> {
        Err(E::custom("a number is not a whole one"))
    }

    fn visit_str<E: Error>(self, _: &str) -> Result<(), E> {
        Ok(())
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<(), A::Error> {
        while items.next_element_seed(Self)?.is_some() {}
        Ok(())
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<(), A::Error> {
        let mut names = Names::default();
        while let Some(name) = map.next_key()? {
            names.insert(name)?;
            map.next_value_seed(Self)?;
        }
        Ok(())
    }
}

/// Writes a JSON text without the blanks and line ends that lay it out, but for those within a line. No text in JSON has a
/// line end, so what is at the end of a line is layout.
pub(crate) fn push_closed_up(out: &mut String, text: &str) {
    let mut rest = text;
    while let Some(end) = memchr::memchr(b'\n', rest.as_bytes()) {
        out.push_str(rest[..end].trim_ascii());
        rest = &rest[end + 1..];
    }
    out.push_str(rest.trim_ascii());
}

pub(crate) fn check_whole<E: Error>(size: u64) -> Result<(), E> {
    match size > MOST_WHOLE {
        true => Err(E::custom("a number is larger than 9007199254740991, or smaller than -9007199254740991")),
        false => Ok(()),
    }
}

struct Canonical<'o>(&'o mut String);

impl<'de> DeserializeSeed<'de> for Canonical<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Canonical<'_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a value")
    }

    fn visit_unit<E: Error>(self) -> Result<(), E> {
        self.0.push_str("null");
        Ok(())
    }

    fn visit_bool<E: Error>(self, value: bool) -> Result<(), E> {
        self.0.push_str(if value { "true" } else { "false" });
        Ok(())
    }

    fn visit_u64<E: Error>(self, value: u64) -> Result<(), E> {
        check_whole(value)?;
        self.0.push_str(&value.to_string());
        Ok(())
    }

    fn visit_i64<E: Error>(self, value: i64) -> Result<(), E> {
        check_whole(value.unsigned_abs())?;
        self.0.push_str(&value.to_string());
        Ok(())
    }

    fn visit_f64<E: Error>(self, _: f64) -> Result<(), E> {
        Err(E::custom("a number is not a whole one"))
    }

    fn visit_str<E: Error>(self, value: &str) -> Result<(), E> {
        self.0.push_str(&quoted(value));
        Ok(())
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<(), A::Error> {
        self.0.push('[');
        let mut first = true;
        loop {
            let before = self.0.len();
            if !first {
                self.0.push(',');
            }
            if items.next_element_seed(Canonical(self.0))?.is_none() {
                self.0.truncate(before);
                break;
            }
            first = false;
        }
        self.0.push(']');
        Ok(())
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<(), A::Error> {
        let mut members: Vec<(String, String)> = Vec::new();
        while let Some(name) = map.next_key::<String>()? {
            let mut value = String::new();
            map.next_value_seed(Canonical(&mut value))?;
            members.push((name, value));
        }
        // By UTF-16 units, as RFC 8785 §3.2.3 says.
        members.sort_by(|(a, _), (b, _)| a.encode_utf16().cmp(b.encode_utf16()));
        if let Some(pair) = members.windows(2).find(|pair| pair[0].0 == pair[1].0) {
            return Err(twice(&pair[0].0));
        }
        self.0.push('{');
        for (at, (name, value)) in members.iter().enumerate() {
            if at > 0 {
                self.0.push(',');
            }
            self.0.push_str(&quoted(name));
            self.0.push(':');
            self.0.push_str(value);
        }
        self.0.push('}');
        Ok(())
    }
}

/// Writes a text as JSON has it: with the escapes of RFC 8785 §3.2.2.2.
pub(crate) fn quoted(text: &str) -> String {
    serde_json::to_string(text).expect("a text always serialises")
}

/// Lays a JSON text out, two blanks per level; numbers, texts and the order of members stay as they are. A text that would
/// be longer than `most` bytes stays as it is altogether: one that is nested deep is mostly blanks.
pub(crate) fn laid_out(text: &str, most: usize) -> String {
    let mut out = String::with_capacity(text.len().min(most) * 2);
    let (mut depth, mut inside, mut escaped) = (0usize, false, false);
    let mut characters = text.chars().peekable();
    let line = |out: &mut String, depth: usize| {
        out.push('\n');
        out.extend(std::iter::repeat_n("  ", depth));
    };
    while let Some(c) = characters.next() {
        if out.len() > most {
            return text.to_owned();
        }
        if inside {
            out.push(c);
            inside = escaped || c != '"';
            escaped = !escaped && c == '\\';
            continue;
        }
        match c {
            ' ' | '\t' | '\n' | '\r' => {}
            '"' => {
                inside = true;
                out.push(c);
            }
            '{' | '[' => {
                while characters.next_if(|next| next.is_ascii_whitespace()).is_some() {}
                out.push(c);
                match characters.next_if(|next| matches!(next, '}' | ']')) {
                    Some(end) => out.push(end),
                    None => {
                        depth += 1;
                        line(&mut out, depth);
                    }
                }
            }
            '}' | ']' => {
                depth = depth.saturating_sub(1);
                line(&mut out, depth);
                out.push(c);
            }
            ',' => {
                out.push(c);
                line(&mut out, depth);
            }
            ':' => out.push_str(": "),
            other => out.push(other),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn has_canonical_form(text: &str) -> serde_json::Result<()> {
        let mut reader = serde_json::Deserializer::from_str(text);
        Looked.deserialize(&mut reader)?;
        reader.end()
    }

    #[test]
    fn the_canonical_form_is_that_of_the_rfc() {
        // The names of RFC 8785 §3.2.3, in the order that it gives.
        let names = r#"{"€":"Euro Sign","\r":"Carriage Return","\ufb33":"Hebrew Letter Dalet With Dagesh","1":"One","😀":"Emoji: Grinning Face","\u0080":"Control","ö":"Latin Small Letter O With Diaeresis"}"#;
        let sorted = canonical(names).unwrap();
        let order = ["Carriage", "One", "Control", "Latin", "Euro", "Emoji", "Hebrew"];
        assert!(order.map(|name| sorted.find(name).unwrap()).is_sorted(), "{sorted}");
        // The text of §3.2.2.2, but for its numbers.
        let text = r#" { "string" : "\u20ac$\u000F\u000aA'\u0042\u0022\u005c\\\"\/", "literals":[null,true,false],"n":-0 ,"m": 9007199254740991 } "#;
        let out = canonical(&text.replace("\"n\":-0 ,", "")).unwrap();
        assert_eq!(out, r#"{"literals":[null,true,false],"m":9007199254740991,"string":"€$\u000f\nA'B\"\\\\\"/"}"#);
        assert_eq!(canonical(&out).unwrap(), out);
        for refused in
            ["1.5", "1e3", "9007199254740992", "-9007199254740992", r#"{"a":1,"b":{"c":1,"c":2}}"#, "[1", "1 2"]
        {
            assert!(canonical(refused).is_err() && has_canonical_form(refused).is_err(), "{refused}");
        }
        assert!(has_canonical_form(names).is_ok() && has_canonical_form(&out).is_ok());
        assert!(has_canonical_form(r#"{"a":1,"\u0061":2}"#).is_err(), "the same name, written in two ways");
    }

    #[test]
    fn closing_up_changes_the_layout_alone() {
        let text = "{\r\n\t\"a\": \"  two  \",\n\n  \"b\" : [\n 1 ,\n null ]\n}";
        let mut out = String::new();
        push_closed_up(&mut out, text);
        assert_eq!(out, r#"{"a": "  two  ","b" : [1 ,null ]}"#);
        assert_eq!(canonical(&out).unwrap(), canonical(text).unwrap());
        assert!(canonical("{\"a\": \"x\ny\"}").is_err(), "no text has a line end, or it would be lost");
    }

    #[test]
    fn laying_out_changes_the_layout_alone() {
        let text = r#"{"a":[ ],"b":{ },"c":[1.50,{"d":"x, [y]: \"{\\"}],"e":1e400}"#;
        let out = laid_out(text, 1000);
        assert_eq!(
            out,
            "{\n  \"a\": [],\n  \"b\": {},\n  \"c\": [\n    1.50,\n    {\n      \"d\": \"x, [y]: \\\"{\\\\\"\n    }\n  ],\n  \"e\": 1e400\n}"
        );
        assert_eq!(laid_out(&out, 1000), out);
        let deep = format!("{}{}", "[".repeat(20_000), "]".repeat(20_000));
        assert_eq!(laid_out(&deep, 1 << 20), deep);
    }
}
