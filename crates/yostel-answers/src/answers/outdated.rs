//! What is behind, in the answer of `audit`.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;
use yostel_findings::{Holder, News, Outdated, Trial};

use super::parts::{EditTold, told};

/// A package for which something newer exists.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct OutdatedTold {
    /// The package.
    pub package: String,
    /// Whether a project asks for it itself.
    pub direct: bool,
    /// The locked version.
    pub locked: String,
    /// When it was published; null when no source tells any more.
    pub published: Option<String>,
    /// How many days ago that was.
    pub age_days: Option<i64>,
    /// The release that would be chosen if nothing were kept; null when that is the locked one.
    pub accepted: Option<String>,
    /// Whether everyone who asks accepts something newer that something further away, or a rule, keeps out.
    pub kept_out: bool,
    /// The newest of all.
    pub newest: String,
    /// When that was published.
    pub newest_published: String,
    /// Whether the newest is on another compatible line.
    pub crosses_line: bool,
    /// How many newer releases there are; neither pre-releases nor what was withdrawn counts.
    pub releases_behind: usize,
    /// How many other compatible lines those are on.
    pub lines_behind: usize,
    /// Who does not accept the newest.
    pub held_by: Vec<HolderTold>,
    /// Whether it can have the newest now; null when that was not tried: too much else was, or several versions are locked.
    pub tried: Option<TrialTold>,
    /// What newer releases say that is new in them, rising; empty without `--notes`.
    pub news: Vec<NewsTold>,
}

/// What is new in a release.
#[derive(Debug, Serialize, JsonSchema)]
pub struct NewsTold {
    /// Its version.
    pub version: String,
    /// When it was published.
    pub published: String,
    /// What it says; null when it does not.
    pub notes: Option<String>,
}

impl From<&News> for NewsTold {
    fn from(news: &News) -> Self {
        let (version, published) = (news.version.to_string(), news.published.to_string());
        Self { version, published, notes: news.notes.clone() }
    }
}

/// Whether a package can have its newest release, with what else is locked kept where it can stay.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TrialTold {
    /// Whether it can.
    pub possible: bool,
    /// The project's own needs to change for that; empty when it cannot, and when they accept it.
    pub edits: Vec<EditTold>,
    /// How many other packages move, come or go then; null when it cannot.
    pub others: Option<usize>,
}

impl From<&Trial> for TrialTold {
    fn from(trial: &Trial) -> Self {
        match trial {
            Trial::Free { edits, others } => Self { possible: true, edits: told(edits), others: Some(*others) },
            Trial::Blocked => Self { possible: false, edits: Vec::new(), others: None },
        }
    }
}

/// Who holds a package back.
#[derive(Debug, Serialize, JsonSchema)]
pub struct HolderTold {
    /// Who asks.
    pub who: String,
    /// The constraint.
    pub accept: String,
}

impl From<&Holder> for HolderTold {
    fn from(holder: &Holder) -> Self {
        Self { who: holder.who.to_string(), accept: holder.accept.to_string() }
    }
}

impl OutdatedTold {
    pub(super) fn of(outdated: &Outdated, now: Timestamp) -> Self {
        let days = |then: Timestamp| (now.as_second() - then.as_second()) / 86_400;
        Self {
            package: outdated.package.to_string(),
            direct: outdated.direct,
            locked: outdated.locked.to_string(),
            published: outdated.published.map(|published| published.to_string()),
            age_days: outdated.published.map(days),
            kept_out: outdated.kept_out,
            accepted: outdated.accepted.as_ref().map(ToString::to_string),
            newest: outdated.newest.to_string(),
            newest_published: outdated.newest_published.to_string(),
            crosses_line: outdated.crosses_line,
            releases_behind: outdated.releases_behind,
            lines_behind: outdated.lines_behind,
            held_by: told(&outdated.held_by),
            tried: outdated.tried.as_ref().map(TrialTold::from),
            news: told(&outdated.news),
        }
    }
}
