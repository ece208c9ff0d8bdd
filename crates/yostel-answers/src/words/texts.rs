//! Small pieces of sentences: counts, sizes, ages, lists.

use jiff::Timestamp;

/// Writes a size in bytes with its unit.
pub fn size(bytes: u64) -> String {
    let mut value = bytes as f64;
    let mut unit = "bytes";
    for next in ["KiB", "MiB", "GiB", "TiB"] {
        if value < 1024.0 {
            break;
        }
        value /= 1024.0;
        unit = next;
    }
    match unit {
        "bytes" => count(bytes as usize, "byte"),
        unit => format!("{value:.1} {unit}"),
    }
}

/// Writes a count with its noun.
pub fn count(number: usize, noun: &str) -> String {
    let plural = match noun {
        "copy" => "copies".to_owned(),
        "advisory" => "advisories".to_owned(),
        noun => format!("{noun}s"),
    };
    if number == 1 { format!("1 {noun}") } else { format!("{number} {plural}") }
}

/// Writes how long ago something was, in the unit that says it best.
pub fn age(then: Timestamp, now: Timestamp) -> String {
    let days = (now.as_second() - then.as_second()).max(0) / 86_400;
    match days {
        0 => "today".into(),
        1 => "1 day".into(),
        2..=60 => format!("{days} days"),
        61..=729 => format!("{} months", days / 30),
        _ => format!("{} years", days / 365),
    }
}

/// Writes how long ago something was that one remembers doing.
pub fn ago(then: Timestamp, now: Timestamp) -> String {
    match (now.as_second() - then.as_second()).max(0) {
        0..60 => "just now".into(),
        seconds @ 60..3_600 => format!("{} ago", count((seconds / 60) as usize, "minute")),
        seconds @ 3_600..86_400 => format!("{} ago", count((seconds / 3_600) as usize, "hour")),
        _ => format!("{} ago", age(then, now)),
    }
}

/// Writes how far a time is behind a later one, in the unit that says it best.
pub fn lag(then: Timestamp, later: Timestamp) -> String {
    match later.as_second() - then.as_second() {
        seconds if seconds < 86_400 => "hours".into(),
        _ => age(then, later),
    }
}

/// Writes a text as one word of a shell's command, in quotes where it needs them.
pub fn shell_word(text: &str) -> String {
    let is_plain = |c: char| c.is_alphanumeric() || "-_./:@%+=,".contains(c);
    if !text.is_empty() && text.chars().all(is_plain) { text.to_owned() } else { yostel_flows::quoted(text) }
}

/// Writes the day of a time, in UTC.
pub fn day(time: Timestamp) -> String {
    time.strftime("%Y-%m-%d").to_string()
}

/// Joins texts of which one is to be picked, as a sentence does.
pub(super) fn join_or(texts: &[String]) -> String {
    match texts {
        [most @ .., last] if !most.is_empty() => format!("{} or {last}", most.join(", ")),
        _ => texts.concat(),
    }
}

/// Joins the first of some texts as a sentence does, and says how many more there are.
pub fn join_first(texts: impl ExactSizeIterator<Item = String>, most: usize) -> String {
    let all = texts.len();
    let mut named: Vec<String> = texts.take(most).collect();
    match all - named.len() {
        0 => join(&named),
        more => {
            let last = named.pop().unwrap_or_default();
            named.push(format!("{last} and {more} more"));
            named.join(", ")
        }
    }
}

/// Joins texts as a sentence does.
pub fn join(texts: &[String]) -> String {
    match texts {
        [] => String::new(),
        [one] => one.clone(),
        [most @ .., last] => format!("{} and {last}", most.join(", ")),
    }
}
