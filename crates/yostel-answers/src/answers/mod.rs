//! What each command answers to a program: one type per command, so that no answer has a shape of its own by chance.
//!
//! Each type says its command's name and is made from what the flow returned. The order of the fields is the order in the
//! document. [`crate::schema`] makes a JSON Schema of every one of them.

pub mod advisories;
pub mod audit;
pub mod compare;
pub mod decide;
pub mod declare;
pub mod dismiss;
pub mod drift;
pub mod findings;
pub mod graph;
pub mod import;
pub mod keep;
pub mod look;
pub mod moving;
pub mod outdated;
pub mod parts;
pub mod proposals;
pub mod releases;
pub mod report;
pub mod share;
pub mod sources;
pub mod under;
pub mod using;

use schemars::JsonSchema;
use serde::Serialize;

/// The number of the format of all answers. A field may be added without another; one that is renamed or means something
/// else raises it.
pub const ANSWER_FORMAT: u32 = 1;

/// An answer of a command.
pub trait Told: Serialize + JsonSchema {
    /// The command, as the document names it.
    const COMMAND: &'static str;

    /// Whether it tells of what is locked even when that no longer fits the manifests.
    const LOOKS: bool = false;
}

#[derive(Serialize)]
struct Document<'a, T> {
    format: u32,
    command: &'a str,
    #[serde(flatten)]
    content: &'a T,
    #[serde(skip_serializing_if = "<[String]>::is_empty")]
    stale: &'a [String],
}

/// Writes the document of an answer, with a final newline. `stale` says why the lockfile no longer fits the manifests, where
/// the answer is about a lockfile and it does not.
pub fn document<T: Told>(content: &T, stale: &[String]) -> String {
    let document = Document { format: ANSWER_FORMAT, command: T::COMMAND, content, stale };
    let mut text = serde_json::to_string_pretty(&document).expect("texts, numbers and maps with text keys serialise");
    text.push('\n');
    text
}
