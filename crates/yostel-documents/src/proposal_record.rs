//! What is remembered of a proposal, in the repository that it is made in. Carries out docs/formats.md §15.

use std::collections::BTreeMap;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::name::PackageName;

/// Returns how a proposal is called in references of git's: levels as everywhere, so that a name is never a level of another, and
/// what git does not take in other words (git-check-ref-format(1)).
///
/// # Examples
/// ```
/// use yostel_documents::proposal_path;
/// assert_eq!(proposal_path("valley/mast"), "valley_/mast");
/// assert_eq!(proposal_path("a..b/c.lock"), "a.%2eb_/c%2elock");
/// ```
pub fn proposal_path(name: &str) -> String {
    let path = PackageName::parse(name).map_or_else(|_| name.to_owned(), |name| name.to_path());
    let part = |part: &str| {
        let part = part.replace("..", ".%2e");
        part.strip_suffix(".lock").map_or(part.clone(), |rest| format!("{rest}%2elock"))
    };
    path.split('/').map(part).collect::<Vec<String>>().join("/")
}

/// The format number that this version writes and reads.
const FORMAT: u32 = 1;

/// What is remembered of a proposal.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct ProposalRecord {
    /// The format's number.
    pub format: u32,
    /// Its name: that of a package or of a group.
    pub name: String,
    /// `open`, `accepted`, `declined` or `closed`.
    pub state: String,
    /// The branch that it is to be merged into.
    pub base_branch: String,
    /// The commit of that which it is made on.
    pub base: String,
    /// Its own commit.
    pub commit: String,
    /// Digest of what it writes.
    pub digest: String,
    /// Where its own packages are with it, by name.
    pub targets: BTreeMap<String, String>,
    /// What moves: from and to which version, by package; nothing where it was not there, or is not any more.
    pub moves: BTreeMap<String, (Option<String>, Option<String>)>,
    /// Whether it ends an advisory.
    pub urgent: bool,
    /// What the checks came to: `passed`, `failed`, or `none` when there were none to run.
    pub checks: String,
    /// When it was opened.
    pub opened: Timestamp,
    /// When somebody decided, or nothing was left of it.
    pub decided: Option<Timestamp>,
    /// Why it was decided so.
    pub why: Option<String>,
    /// What it is, in a line.
    pub subject: String,
    /// What a reviewer should know, in Markdown.
    pub summary: String,
}

impl ProposalRecord {
    /// Begins a record of an open proposal.
    pub fn open(name: &str, opened: Timestamp) -> Self {
        Self {
            format: FORMAT,
            name: name.to_owned(),
            state: "open".to_owned(),
            base_branch: String::new(),
            base: String::new(),
            commit: String::new(),
            digest: String::new(),
            targets: BTreeMap::new(),
            moves: BTreeMap::new(),
            urgent: false,
            checks: "none".to_owned(),
            opened,
            decided: None,
            why: None,
            subject: String::new(),
            summary: String::new(),
        }
    }

    /// Reads a record; nothing when it is none of this format.
    pub fn parse(text: &str) -> Option<Self> {
        serde_json::from_str(text).ok().filter(|record: &Self| {
            let states = ["open", "accepted", "declined", "closed"];
            record.format == FORMAT && states.contains(&record.state.as_str())
        })
    }

    /// Writes the record.
    pub fn to_text(&self) -> String {
        serde_json::to_string_pretty(self).expect("texts and maps with text keys serialise") + "\n"
    }

    /// Returns the name of its branch.
    pub fn branch(&self) -> String {
        format!("proposals/{}", proposal_path(&self.name))
    }

    /// Tells whether somebody has yet to decide.
    pub fn is_open(&self) -> bool {
        self.state == "open"
    }
}
