//! Reading `[project]` and its numbering.

use std::collections::BTreeSet;
use std::ops::Range;

use toml::de::DeValue;
use yostel_versions::{Numbering, Order};

use super::super::Project;
use super::{MOST_PLATFORMS, ManifestProblemKind, Reader, Table, Value, check_one_platform};
use crate::made_from::check_repository;
use crate::name::PackageName;
use crate::numbering::with_words;
use crate::purl::PackageUrl;
use crate::web_address::WebAddressError;

impl Reader<'_> {
    pub(super) fn project(&mut self, table: &Table<'_>, span: Range<usize>) -> Option<Project> {
        self.check_keys("project", table);
        // A version is judged by a numbering that is known, or not at all.
        let numbering = match table.get("numbering") {
            Some(value) => self.numbering(value),
            None => Some(Numbering::default()),
        };
        let name = match table.get("name") {
            Some(value) => {
                self.string("name", value).and_then(|text| self.keep(value.span(), PackageName::parse(text)))
            }
            None => {
                let example = "name = \"ropeway/console\"";
                self.problem(span, ManifestProblemKind::Missing { table: "project", key: "name", example });
                None
            }
        };
        let version = table.get("version").and_then(|value| {
            let text = self.string("version", value)?;
            self.keep(value.span(), numbering.as_ref()?.parse_version(text))
        });
        let mut platforms = BTreeSet::new();
        if let Some(list) = table.get("platforms") {
            for (text, span) in self.strings("platforms", list) {
                self.check("platforms", &text, span.clone(), check_one_platform);
                platforms.insert(text.clone());
                if platforms.len() > MOST_PLATFORMS {
                    let reason = "no more than 64 platforms can be served at once";
                    self.problem(span, ManifestProblemKind::Value { key: "platforms", value: text, reason });
                    break;
                }
            }
        }
        let yostel = table.get("yostel").and_then(|value| self.accept("yostel", value));
        let mut text = |key| table.get(key).and_then(|value| self.string(key, value)).map(str::to_owned);
        let (licence, about, notes) = (text("licence"), text("about"), text("notes"));
        let repository = text("repository");
        if let (Some(text), Some(value)) = (&repository, table.get("repository")) {
            match check_repository(text) {
                Ok(()) => {}
                Err(WebAddressError::Secret { instead }) => {
                    self.problem(value.span(), ManifestProblemKind::Secret { key: "repository", instead });
                }
                Err(WebAddressError::Unfit(reason)) => {
                    let kind = ManifestProblemKind::Value { key: "repository", value: text.clone(), reason };
                    self.problem(value.span(), kind);
                }
            }
        }
        let mut identities: Vec<PackageUrl> = Vec::new();
        for (text, span) in table.get("identities").map(|list| self.strings("identities", list)).into_iter().flatten() {
            match PackageUrl::parse(&text) {
                Ok(url) if identities.iter().any(|other| other.package() == url.package()) => {
                    self.problem(span, ManifestProblemKind::ListedTwice(text));
                }
                Ok(url) => identities.push(url),
                Err(reason) => {
                    self.problem(span, ManifestProblemKind::Value { key: "identities", value: text, reason });
                }
            }
        }
        let numbering = numbering.unwrap_or_default();
        let name = name?;
        Some(Project { name, version, numbering, platforms, yostel, licence, about, notes, repository, identities })
    }

    fn numbering(&mut self, value: &Value<'_>) -> Option<Numbering> {
        let table = self.table("numbering", value)?;
        self.check_keys("numbering", table);
        let order = match table.get("order") {
            None => Order::default(),
            Some(order) => {
                let text = self.string("order", order)?;
                match Order::parse(text) {
                    Some(known) => known,
                    None => {
                        let reason = "the orders are `semver` and `words`";
                        let value = text.to_owned();
                        self.problem(order.span(), ManifestProblemKind::Value { key: "order", value, reason });
                        return None;
                    }
                }
            }
        };
        let breaks_at = match table.get("breaks-at") {
            None => None,
            Some(position) => match position.get_ref() {
                DeValue::Integer(number) => match number.as_str().parse::<u8>() {
                    Ok(number) => Some(number),
                    Err(_) => {
                        let value = number.as_str().to_owned();
                        let reason = "it is a position, counted from 1; 0 = nothing ever breaks";
                        self.problem(position.span(), ManifestProblemKind::Value { key: "breaks-at", value, reason });
                        return None;
                    }
                },
                _ => {
                    self.wrong_type("breaks-at", position, "a whole number");
                    return None;
                }
            },
        };
        let mut listed = |key| Some(self.strings(key, table.get(key)?).into_iter().map(|(word, _)| word).collect());
        let (before, after) = (listed("before"), listed("after"));
        let order = self.keep(value.span(), with_words(order, before, after))?;
        self.keep(value.span(), Numbering::new(order, breaks_at))
    }
}
