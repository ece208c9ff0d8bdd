//! `[sources.NAME]`: where packages come from.

use std::ops::Range;

use toml::de::DeValue;

use super::super::{NamePattern, SourceDeclaration, SourcePlace};
use super::{ManifestProblemKind, Reader, Table, Value};
use crate::web_address::{WebAddress, WebAddressError};

impl Reader<'_> {
    /// Reads one source.
    pub(super) fn source(&mut self, table: &Table<'_>, span: Range<usize>) -> Option<SourceDeclaration> {
        self.check_keys("sources.*", table);
        let mut reserves = Vec::new();
        if let Some(list) = table.get("reserves") {
            for (text, span) in self.strings("reserves", list) {
                reserves.extend(self.keep(span, NamePattern::parse(&text)));
            }
        }
        let place = match (table.get("folder"), table.get("url")) {
            (Some(_), Some(url)) => {
                self.problem(url.span(), ManifestProblemKind::TwoPlaces { one: "folder", other: "url" });
                return None;
            }
            (Some(folder), None) => SourcePlace::Folder(self.string("folder", folder)?.to_owned()),
            (None, Some(url)) => SourcePlace::Web(self.addresses(url)?),
            (None, None) => {
                let example = "folder = \"../station\"";
                self.problem(span, ManifestProblemKind::Missing { table: "sources.*", key: "folder", example });
                return None;
            }
        };
        Some(SourceDeclaration { place, reserves, span })
    }

    /// Reads one address, or several of the same registry.
    fn addresses(&mut self, value: &Value<'_>) -> Option<Vec<WebAddress>> {
        let texts = match value.get_ref() {
            DeValue::Array(_) => self.strings("url", value),
            _ => vec![(self.string("url", value)?.to_owned(), value.span())],
        };
        let mut addresses = Vec::new();
        for (text, span) in &texts {
            match WebAddress::parse(text) {
                Ok(address) if addresses.contains(&address) => {
                    self.problem(span.clone(), ManifestProblemKind::ListedTwice(address.to_string()));
                }
                Ok(address) => addresses.push(address),
                // What may be a password is told to nobody.
                Err(WebAddressError::Secret { instead }) => {
                    self.problem(span.clone(), ManifestProblemKind::Secret { key: "url", instead });
                }
                Err(error @ WebAddressError::Unfit(_)) => {
                    let kind = ManifestProblemKind::Value { key: "url", value: text.clone(), reason: error.reason() };
                    self.problem(span.clone(), kind);
                }
            }
        }
        if texts.is_empty() && value.get_ref().as_array().is_some_and(|list| list.is_empty()) {
            let reason = "it lists at least one address";
            self.problem(value.span(), ManifestProblemKind::Value { key: "url", value: "[]".to_owned(), reason });
        }
        (!addresses.is_empty()).then_some(addresses)
    }
}
