//! Reading `[offers]` and `[policy]`.

use std::collections::BTreeSet;

use super::super::{AlsoAudit, Policy, Take};
use super::{ManifestProblemKind, Reader, Table};
use crate::licence::AllowedLicence;
use crate::name::{PackageName, Word};
use crate::release::{Offers, check_offered_path, check_variable};

/// Reads `7 days` or `2 weeks`.
pub(super) fn days(text: &str) -> Option<u32> {
    let (number, unit) = text.split_once(' ')?;
    let number: u32 = number.parse().ok()?;
    match unit {
        "day" | "days" => Some(number),
        "week" | "weeks" => number.checked_mul(7),
        _ => None,
    }
}

/// Reads how many days `7 days`, `2 weeks`, `18 months` or `2 years` are, of 30 and 365 days each.
pub fn days_of(text: &str) -> Option<u32> {
    let (number, unit) = text.split_once(' ')?;
    let number: u32 = number.parse().ok()?;
    match unit {
        "month" | "months" => number.checked_mul(30),
        "year" | "years" => number.checked_mul(365),
        _ => days(text),
    }
}

impl Reader<'_> {
    pub(super) fn offers(&mut self, table: &Table<'_>) -> Offers {
        self.check_keys("offers", table);
        let mut offers = Offers::default();
        if let Some(list) = table.get("roles") {
            for (text, span) in self.strings("roles", list) {
                let role = self.keep(span.clone(), Word::parse(&text));
                if role.as_ref().is_some_and(|role| offers.roles.contains(role)) {
                    self.problem(span, ManifestProblemKind::ListedTwice(text));
                    continue;
                }
                offers.roles.extend(role);
            }
        }
        if let Some(list) = table.get("programs") {
            for (text, span) in self.strings("programs", list) {
                self.check("programs", &text, span, check_offered_path);
                offers.programs.push(text);
            }
        }
        if let Some(variables) = table.get("variables").and_then(|value| self.table("variables", value)) {
            for (key, value) in variables {
                self.check("variables", key.get_ref(), key.span(), check_variable);
                if let Some(path) = self.string(key.get_ref(), value) {
                    self.check("variables", path, value.span(), check_offered_path);
                    offers.variables.insert(key.get_ref().to_string(), path.to_owned());
                }
            }
        }
        if let Some(list) = table.get("mentions") {
            for (text, span) in self.strings("mentions", list) {
                if text.trim().is_empty() || text.len() > 200 || text.chars().any(char::is_control) {
                    let reason = "it is a text of one line, of at most 200 bytes";
                    self.problem(span, ManifestProblemKind::Value { key: "mentions", value: text, reason });
                } else {
                    offers.mentions.push(text);
                }
            }
        }
        offers
    }

    /// Reads a list of paths, none of them empty or named twice.
    fn paths(&mut self, key: &'static str, table: &Table<'_>) -> Vec<String> {
        let mut paths: Vec<String> = Vec::new();
        for (text, span) in table.get(key).map(|list| self.strings(key, list)).into_iter().flatten() {
            if text.is_empty() || text.contains('\0') {
                let reason = "it is a path, relative to the manifest";
                self.problem(span, ManifestProblemKind::Value { key, value: text, reason });
            } else if paths.contains(&text) {
                self.problem(span, ManifestProblemKind::ListedTwice(text));
            } else {
                paths.push(text);
            }
        }
        paths
    }

    fn also_audit(&mut self, table: &Table<'_>) -> BTreeSet<AlsoAudit> {
        let mut all = BTreeSet::new();
        for (text, span) in table.get("also-audit").map(|list| self.strings("also-audit", list)).into_iter().flatten() {
            match AlsoAudit::parse(&text) {
                Some(what) => drop(all.insert(what)),
                None => {
                    let reason = "it is `unbounded`, `lower-bounds`, `only-here`, `unused` or `provenance`";
                    self.problem(span, ManifestProblemKind::Value { key: "also-audit", value: text, reason });
                }
            }
        }
        all
    }

    pub(super) fn policy(&mut self, table: &Table<'_>) -> Policy {
        self.check_keys("policy", table);
        let (advisories, statements) = (self.paths("advisories", table), self.paths("statements", table));
        let also_audit = self.also_audit(table);
        let mut policy = Policy { advisories, statements, also_audit, ..Policy::default() };
        if let Some(value) = table.get("minimum-age")
            && let Some(text) = self.string("minimum-age", value)
        {
            policy.minimum_age_days = days(text);
            if policy.minimum_age_days.is_none() {
                let reason = "it is a number of days or weeks, like \"7 days\"";
                let value_text = text.to_owned();
                let kind = ManifestProblemKind::Value { key: "minimum-age", value: value_text, reason };
                self.problem(value.span(), kind);
            }
        }
        if let Some(value) = table.get("quiet-after")
            && let Some(text) = self.string("quiet-after", value)
        {
            policy.quiet_after_days = days_of(text);
            if policy.quiet_after_days.is_none() {
                let reason = "it is a number of days, weeks, months or years, like \"2 years\"";
                let kind = ManifestProblemKind::Value { key: "quiet-after", value: text.to_owned(), reason };
                self.problem(value.span(), kind);
            }
        }
        if let Some(list) = table.get("allowed-licences") {
            let mut allowed = Vec::new();
            for (text, span) in self.strings("allowed-licences", list) {
                match AllowedLicence::parse(&text) {
                    Ok(licence) => allowed.push(licence),
                    Err(_) => {
                        let reason = "it is one licence of the SPDX list, like \"MIT\" or \"GPL-3.0-only\"";
                        self.problem(span, ManifestProblemKind::Value { key: "allowed-licences", value: text, reason });
                    }
                }
            }
            policy.allowed_licences = Some(allowed);
        }
        if let Some(list) = table.get("share-roles") {
            for (text, span) in self.strings("share-roles", list) {
                policy.share_roles.extend(self.keep(span, Word::parse(&text)));
            }
        }
        if let Some(list) = table.get("coexist") {
            for (text, span) in self.strings("coexist", list) {
                policy.coexist.extend(self.keep(span, PackageName::parse(&text)));
            }
        }
        if let Some(list) = table.get("trusted-variables") {
            for (text, span) in self.strings("trusted-variables", list) {
                policy.trusted_variables.extend(self.keep(span, PackageName::parse(&text)));
            }
        }
        if let Some(list) = table.get("git-schemes") {
            for (text, span) in self.strings("git-schemes", list) {
                if ["git", "http"].contains(&text.as_str()) {
                    policy.git_schemes.insert(text);
                } else {
                    let reason = "it is `git` or `http`; `https`, `ssh` and `file` need no permission";
                    self.problem(span, ManifestProblemKind::Value { key: "git-schemes", value: text, reason });
                }
            }
        }
        if let Some(value) = table.get("take")
            && let Some(text) = self.string("take", value)
        {
            policy.take = match text {
                "newest" => Some(Take::Newest),
                "oldest" => Some(Take::Oldest),
                _ => {
                    let reason = "it is `newest` or `oldest`";
                    let kind = ManifestProblemKind::Value { key: "take", value: text.to_owned(), reason };
                    self.problem(value.span(), kind);
                    None
                }
            };
        }
        policy
    }
}
