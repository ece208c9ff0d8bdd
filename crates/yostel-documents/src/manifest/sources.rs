//! Where packages come from, as a manifest says it.

use std::fmt;
use std::ops::Range;

use super::NamePattern;
use crate::oci::OciPlace;
use crate::web_address::{WebAddress, WebAddressError};

/// Where the registry of a source is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SourcePlace {
    /// In a folder, relative to the manifest's.
    Folder(String),
    /// On web servers: the same registry at each of these addresses, of which there is one at least, the preferred one first.
    Web(Vec<WebAddress>),
    /// In OCI registries: the same registry at each of these places, of which there is one at least.
    Oci(Vec<OciPlace>),
}

impl SourcePlace {
    /// Reads what somebody typed: an address of the web, `oci://` and a place in an OCI registry, or else a folder.
    ///
    /// # Errors
    /// [`WebAddressError`] of what begins as an address does, and is none.
    pub fn typed(text: &str) -> Result<Self, WebAddressError> {
        let lower = text.to_ascii_lowercase();
        if lower.starts_with("oci://") {
            let place = OciPlace::parse(&text["oci://".len()..]).map_err(|error| match error {
                WebAddressError::Secret { instead } => {
                    WebAddressError::Secret { instead: format!("oci://{}", instead.trim_start_matches("https://")) }
                }
                other @ WebAddressError::Unfit(_) => other,
            })?;
            return Ok(Self::Oci(vec![place]));
        }
        match lower.starts_with("http://") || lower.starts_with("https://") {
            true => Ok(Self::Web(vec![WebAddress::parse(text)?])),
            false => Ok(Self::Folder(text.to_owned())),
        }
    }

    /// Returns the folder, relative to the manifest's.
    pub fn folder(&self) -> Option<&str> {
        match self {
            Self::Folder(folder) => Some(folder),
            Self::Web(_) | Self::Oci(_) => None,
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
            Self::Oci(places) => {
                let places: Vec<String> = places.iter().map(ToString::to_string).collect();
                f.write_str(&places.join(" or "))
            }
        }
    }
}

/// One `[sources.<name>]` table.
#[derive(Debug, Clone)]
pub struct SourceDeclaration {
    /// Where its registry is.
    pub place: SourcePlace,
    /// A file with certificates that servers may show besides those that the machine trusts, relative to the manifest's
    /// folder.
    pub certificates: Option<String>,
    /// Names that come from here and nowhere else.
    pub reserves: Vec<NamePattern>,
    /// Byte range of the source's name in the manifest.
    pub span: Range<usize>,
}
