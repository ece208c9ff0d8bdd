//! Where packages come from, as a manifest says it.

use std::fmt;
use std::ops::Range;

use super::NamePattern;
use crate::web_address::{WebAddress, WebAddressError};

/// Where the registry of a source is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SourcePlace {
    /// In a folder, relative to the manifest's.
    Folder(String),
    /// On web servers: the same registry at each of these addresses, of which there is one at least, the preferred one first.
    Web(Vec<WebAddress>),
}

impl SourcePlace {
    /// Reads what somebody typed: an address of the web, or else a folder.
    ///
    /// # Errors
    /// [`WebAddressError`] of what begins as an address does, and is none.
    pub fn typed(text: &str) -> Result<Self, WebAddressError> {
        let lower = text.to_ascii_lowercase();
        match lower.starts_with("http://") || lower.starts_with("https://") {
            true => Ok(Self::Web(vec![WebAddress::parse(text)?])),
            false => Ok(Self::Folder(text.to_owned())),
        }
    }

    /// Returns the folder, relative to the manifest's.
    pub fn folder(&self) -> Option<&str> {
        match self {
            Self::Folder(folder) => Some(folder),
            Self::Web(_) => None,
        }
    }
}

impl fmt::Display for SourcePlace {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Folder(folder) => f.write_str(folder),
            Self::Web(addresses) => {
                let addresses: Vec<&str> = addresses.iter().map(WebAddress::as_str).collect();
                f.write_str(&addresses.join(" or "))
            }
        }
    }
}

/// One `[sources.<name>]` table.
#[derive(Debug, Clone)]
pub struct SourceDeclaration {
    /// Where its registry is.
    pub place: SourcePlace,
    /// Names that come from here and nowhere else.
    pub reserves: Vec<NamePattern>,
    /// Byte range of the source's name in the manifest.
    pub span: Range<usize>,
}
