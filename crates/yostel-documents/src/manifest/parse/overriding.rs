//! What a manifest says about packages wherever they turn up, and what it changes in them.

use std::collections::BTreeMap;
use std::ops::Range;

use jiff::civil::Date;
use toml::de::DeValue;
use yostel_versions::ConstraintText;

use super::super::{Admit, Alter, Force, LicenceException, Swap};
use super::{ManifestProblemKind, Reader, Table, Value};
use crate::name::PackageName;

/// Whether it is a version is for the package's numbering to say; that it is no constraint can be told here.
fn check_one_version(text: &str) -> Result<(), &'static str> {
    let legal = text.starts_with(|c: char| c.is_ascii_alphanumeric()) && !text.contains([',', '|', '*', ' ']);
    if legal { Ok(()) } else { Err("it is one version, without a sign, like \"3.2.7\"") }
}

/// The patch goes where the project goes, so it must be in it.
fn check_patch_path(path: &str) -> Result<(), &'static str> {
    if path.is_empty() || path.starts_with('/') || path.split('/').any(|part| part == "..") || path.contains('\\') {
        Err("it is a file in the project, as a path from the manifest with `/` between its parts")
    } else {
        Ok(())
    }
}

/// An entry of `[force]` or `[admit]`.
struct OneVersion {
    version: String,
    accept: ConstraintText,
    why: String,
    until: Option<Date>,
    span: Range<usize>,
}

impl Reader<'_> {
    pub(super) fn alter(&mut self, table: &Table<'_>, span: Range<usize>) -> Option<Alter> {
        self.check_keys("alter.*", table);
        let mut text = |key: &'static str, example| {
            let Some(value) = table.get(key) else {
                self.problem(span.clone(), ManifestProblemKind::Missing { table: "alter.*", key, example });
                return None;
            };
            Some((self.string(key, value)?.to_owned(), value.span()))
        };
        let patch = text("patch", "patch = \"patches/gust-model.patch\"");
        let why = text("why", "why = \"rounds the wrong way\"");
        let (patch, place) = patch?;
        self.check("patch", &patch, place, check_patch_path);
        Some(Alter { patch, why: why?.0, span })
    }

    pub(super) fn forces(&mut self, root: &Table<'_>) -> BTreeMap<PackageName, Force> {
        let force = |one: OneVersion| Force { accept: one.accept, why: one.why, until: one.until, span: one.span };
        let forces = self.versions("force", "force.*", "why = \"3.3 drops frames\"", root);
        forces.into_iter().map(|(name, one)| (name, force(one))).collect()
    }

    pub(super) fn admits(&mut self, root: &Table<'_>) -> BTreeMap<PackageName, Admit> {
        let admit = |one: OneVersion| Admit { version: one.version, why: one.why, until: one.until, span: one.span };
        let admits = self.versions("admit", "admit.*", "why = \"mends the leak of 1.2.1\"", root);
        admits.into_iter().map(|(name, one)| (name, admit(one))).collect()
    }

    pub(super) fn licence_exceptions(&mut self, root: &Table<'_>) -> BTreeMap<PackageName, LicenceException> {
        let mut exceptions = BTreeMap::new();
        for (key, value) in self.entries("licence-exceptions", root) {
            let name = self.keep(key.span(), PackageName::parse(key.get_ref()));
            let Some(table) = self.table(&format!("licence-exceptions.{}", key.get_ref()), value) else { continue };
            let entry = "licence-exceptions.*";
            self.check_keys(entry, table);
            let licence = self.wanted(entry, table, "licence", "licence = \"GPL-3.0-only\"", key.span());
            let why = self.wanted(entry, table, "why", "why = \"runs in tests alone\"", key.span());
            let until = self.until(table);
            let licence = licence.and_then(|value| self.string("licence", value)).map(str::to_owned);
            let why = why.and_then(|value| self.string("why", value)).map(str::to_owned);
            if let (Some(name), Some(licence), Some(why)) = (name, licence, why) {
                exceptions.insert(name, LicenceException { licence, why, until, span: key.span() });
            }
        }
        exceptions
    }

    /// Reads a table of one version a package, each with a reason and maybe a day.
    fn versions(
        &mut self,
        table_name: &'static str,
        entry_name: &'static str,
        example: &'static str,
        root: &Table<'_>,
    ) -> Vec<(PackageName, OneVersion)> {
        let mut versions = Vec::new();
        for (key, value) in self.entries(table_name, root) {
            let name = self.keep(key.span(), PackageName::parse(key.get_ref()));
            let Some(table) = self.table(&format!("{table_name}.{}", key.get_ref()), value) else { continue };
            self.check_keys(entry_name, table);
            let version = self.wanted(entry_name, table, "version", "version = \"3.2.7\"", key.span());
            let why = self.wanted(entry_name, table, "why", example, key.span());
            let until = self.until(table);
            let accept = version.and_then(|value| {
                let text = self.string("version", value)?;
                self.check("version", text, value.span(), check_one_version);
                check_one_version(text).ok()?;
                Some((text.to_owned(), self.keep(value.span(), ConstraintText::parse(&format!("={text}")))?))
            });
            let why = why.and_then(|value| self.string("why", value)).map(str::to_owned);
            if let (Some(name), Some((version, accept)), Some(why)) = (name, accept, why) {
                versions.push((name, OneVersion { version, accept, why, until, span: key.span() }));
            }
        }
        versions
    }

    pub(super) fn swaps(&mut self, root: &Table<'_>) -> BTreeMap<PackageName, Swap> {
        let mut swaps = BTreeMap::new();
        for (key, value) in self.entries("swap", root) {
            let name = self.keep(key.span(), PackageName::parse(key.get_ref()));
            let Some(table) = self.table(&format!("swap.{}", key.get_ref()), value) else { continue };
            self.check_keys("swap.*", table);
            let elsewhere = self.elsewhere(table);
            // The same package, from elsewhere, needs no other name.
            let by = match (table.get("use"), &elsewhere) {
                (None, Some(_)) => name.clone(),
                _ => {
                    let by = self.wanted("swap.*", table, "use", "use = \"plain-logger\"", key.span());
                    by.and_then(|value| {
                        let text = self.string("use", value)?;
                        self.keep(value.span(), PackageName::parse(text))
                    })
                }
            };
            let why = self.wanted("swap.*", table, "why", "why = \"no longer maintained\"", key.span());
            let why = why.and_then(|value| self.string("why", value)).map(str::to_owned);
            let accept = table.get("accept").and_then(|value| self.accept("accept", value));
            let until = self.until(table);
            if let (Some(name), Some(by), Some(why)) = (name, by, why) {
                swaps.insert(name, Swap { by, accept, elsewhere, why, until, span: key.span() });
            }
        }
        swaps
    }

    /// Refuses what contradicts itself.
    pub(super) fn check_overrides(&mut self, force: &BTreeMap<PackageName, Force>, swap: &BTreeMap<PackageName, Swap>) {
        for (package, entry) in swap {
            if entry.is_of_place(package) {
                if let Some(forced) = force.get(package) {
                    self.problem(forced.span.clone(), ManifestProblemKind::ForcedAndSwapped(package.clone()));
                }
                continue;
            }
            let mut at = &entry.by;
            let mut steps = 0;
            while let Some(next) = swap.get(at).filter(|_| at != package && steps < swap.len()) {
                at = &next.by;
                steps += 1;
            }
            if at == package {
                self.problem(entry.span.clone(), ManifestProblemKind::SwapCircle(package.clone()));
            }
            if let Some(forced) = force.get(package) {
                self.problem(forced.span.clone(), ManifestProblemKind::ForcedAndSwapped(package.clone()));
            }
        }
    }

    /// Returns a value that must be there.
    fn wanted<'a, 'i>(
        &mut self,
        name: &'static str,
        table: &'a Table<'i>,
        key: &'static str,
        example: &'static str,
        span: Range<usize>,
    ) -> Option<&'a Value<'i>> {
        let value = table.get(key);
        if value.is_none() {
            self.problem(span, ManifestProblemKind::Missing { table: name, key, example });
        }
        value
    }

    /// Reads a day, as TOML writes one.
    pub(super) fn until(&mut self, table: &Table<'_>) -> Option<Date> {
        let value = table.get("until")?;
        let text = match value.get_ref() {
            DeValue::Datetime(date) => date.to_string(),
            DeValue::String(text) => text.to_string(),
            _ => {
                self.wrong_type("until", value, "a day, like 2027-03-01");
                return None;
            }
        };
        let date = text.parse().ok();
        if date.is_none() {
            let kind = ManifestProblemKind::Value { key: "until", value: text, reason: "it is a day, like 2027-03-01" };
            self.problem(value.span(), kind);
        }
        date
    }
}
