//! What is told, as data: the answers of all commands, and problems with their words.
//!
//! A program reads [`answers`], each of which has a JSON Schema ([`schema`]); a person or an editor reads a
//! [`Diagnostic`], which [`words`] makes of an error of the flows. Nothing here knows a terminal: how a text is coloured or
//! laid out is for whoever shows it.
//!
//! # Examples
//! ```
//! use yostel_answers::{Code, Diagnostic, Suggestion};
//! let told = Diagnostic::new(Code::NoProject, "there is no yostel.toml here", Suggestion::run("yostel init", "to start one"));
//! assert_eq!(told.next[0].to_string(), "yostel init, to start one");
//! assert_eq!(serde_json::to_value(&told).unwrap()["next"][0]["command"], "yostel init");
//! ```

#![deny(missing_docs)]

pub mod answers;
mod code;
mod collision;
mod diagnostic;
pub mod schema;
pub mod words;

pub use code::Code;
pub use collision::CollisionTold;
pub use diagnostic::{Diagnostic, Note, Place, Severity, Suggestion};
