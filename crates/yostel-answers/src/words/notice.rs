//! What is said of a release since it was published, in a sentence.

use yostel_findings::Notice;

use super::texts::day;

/// Says what is said of a locked release, without a full stop.
pub fn notice_words(notice: &Notice) -> String {
    let Notice { package, version, .. } = notice;
    let mut said = Vec::new();
    if let Some(withdrawal) = &notice.withdrawn {
        said.push(format!("was withdrawn {}: {}", day(withdrawal.on), withdrawal.why.trim_end_matches('.')));
    }
    if let Some(why) = &notice.deprecated {
        let instead = notice.replaced_by.as_ref().map(|other| format!("; {other} took its place")).unwrap_or_default();
        said.push(format!("is deprecated: {}{instead}", why.trim_end_matches('.')));
    }
    format!("{package} {version} {}", said.join(", and "))
}

/// Says the same in a few words, for a table.
pub fn notice_mark(notice: &Notice) -> String {
    let mut said = Vec::new();
    if let Some(withdrawal) = &notice.withdrawn {
        said.push(format!("withdrawn {}", day(withdrawal.on)));
    }
    if notice.deprecated.is_some() {
        let instead = notice.replaced_by.as_ref().map(|other| format!(", use {other}")).unwrap_or_default();
        said.push(format!("deprecated{instead}"));
    }
    said.join(", ")
}
