//! `[sources.NAME]`: where packages come from.

use std::fmt;
use std::ops::Range;

use toml::de::DeValue;

use super::super::{NamePattern, SourceDeclaration, SourcePlace};
use super::{ManifestProblemKind, Reader, Table, Value};
use crate::oci::OciPlace;
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
        let places: Vec<&'static str> =
            ["folder", "url", "oci"].into_iter().filter(|key| table.contains_key(*key)).collect();
        if let [one, other, ..] = places[..] {
            let span = table.get(other).map_or(span, |value| value.span());
            self.problem(span, ManifestProblemKind::TwoPlaces { one, other });
            return None;
        }
        let place = match (table.get("folder"), table.get("url"), table.get("oci")) {
            (Some(folder), ..) => SourcePlace::Folder(self.string("folder", folder)?.to_owned()),
            (_, Some(url), _) => SourcePlace::Web(self.addresses("url", url, WebAddress::parse)?),
            (.., Some(oci)) => SourcePlace::Oci(self.addresses("oci", oci, OciPlace::parse)?),
            (None, None, None) => {
                let example = "folder = \"../station\"";
                self.problem(span, ManifestProblemKind::Missing { table: "sources.*", key: "folder", example });
                return None;
            }
        };
        let certificates = match table.get("certificates") {
            Some(value) => Some(self.string("certificates", value)?.to_owned()),
            None => None,
        };
        Some(SourceDeclaration { place, certificates, reserves, span })
    }

    /// Reads one address, or several of the same registry.
    fn addresses<T: PartialEq + fmt::Display>(
        &mut self,
        key: &'static str,
        value: &Value<'_>,
        parse: impl Fn(&str) -> Result<T, WebAddressError>,
    ) -> Option<Vec<T>> {
        let texts = match value.get_ref() {
            DeValue::Array(_) => self.strings(key, value),
            _ => vec![(self.string(key, value)?.to_owned(), value.span())],
        };
        let mut addresses = Vec::new();
        for (text, span) in &texts {
            match parse(text) {
                Ok(address) if addresses.contains(&address) => {
                    self.problem(span.clone(), ManifestProblemKind::ListedTwice(address.to_string()));
                }
                Ok(address) => addresses.push(address),
                // What may be a password is told to nobody.
                Err(WebAddressError::Secret { instead }) => {
                    self.problem(span.clone(), ManifestProblemKind::Secret { key, instead });
                }
                Err(error @ WebAddressError::Unfit(_)) => {
                    let kind = ManifestProblemKind::Value { key, value: text.clone(), reason: error.reason() };
                    self.problem(span.clone(), kind);
                }
            }
        }
        if texts.is_empty() && value.get_ref().as_array().is_some_and(|list| list.is_empty()) {
            let reason = "it lists at least one address";
            self.problem(value.span(), ManifestProblemKind::Value { key, value: "[]".to_owned(), reason });
        }
        (!addresses.is_empty()).then_some(addresses)
    }
}
