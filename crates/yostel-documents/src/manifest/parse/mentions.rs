//! Reading `[mentions]`.

use std::collections::BTreeMap;

use toml::de::DeValue;

use super::super::mentions::{MentionOf, MentionPattern, MentionedIn};
use super::{ManifestProblemKind, Reader, Table, Value};
use crate::name::PackageName;
use crate::release::check_offered_path;

impl Reader<'_> {
    /// Reads `[mentions]`.
    pub(super) fn mentions(&mut self, root: &Table<'_>) -> BTreeMap<PackageName, Vec<MentionedIn>> {
        let mut mentions = BTreeMap::new();
        for (key, value) in self.entries("mentions", root) {
            let name = self.keep(key.span(), PackageName::parse(key.get_ref()));
            let Some(table) = self.table(&format!("mentions.{}", key.get_ref()), value) else { continue };
            let mut files = Vec::new();
            for (file, value) in table {
                let patterns = self.mention_patterns(value);
                let is_ours = |part: &str| part.starts_with("yostel.") || [".git", ".yostel"].contains(&part);
                if check_offered_path(file.get_ref()).is_err() || file.get_ref().split('/').any(is_ours) {
                    let reason = "it is another file of the project, by its path from here, with `/`";
                    let kind =
                        ManifestProblemKind::Value { key: "mentions", value: file.get_ref().to_string(), reason };
                    self.problem(file.span(), kind);
                    continue;
                }
                files.push(MentionedIn { file: file.get_ref().to_string(), patterns, span: file.span() });
            }
            if let Some(name) = name {
                mentions.insert(name, files);
            }
        }
        mentions
    }

    /// Reads a text or a list of them, in which versions stand; or a table of these.
    fn mention_patterns(&mut self, value: &Value<'_>) -> Vec<MentionPattern> {
        let DeValue::Table(table) = value.get_ref() else { return self.patterns_of(value, MentionOf::Version) };
        self.check_keys("mentions.*.*", table);
        let all = MentionOf::ALL.into_iter().filter_map(|of| Some((of, table.get(of.word())?)));
        all.flat_map(|(of, value)| self.patterns_of(value, of)).collect()
    }

    fn patterns_of(&mut self, value: &Value<'_>, of: MentionOf) -> Vec<MentionPattern> {
        let texts = match value.get_ref() {
            DeValue::Array(_) => self.strings(of.word(), value),
            _ => self.string(of.word(), value).map(|text| (text.to_owned(), value.span())).into_iter().collect(),
        };
        let mut patterns = Vec::new();
        for (text, span) in texts {
            match MentionPattern::parse(&text, of) {
                Ok(pattern) => patterns.push(pattern),
                Err(reason) => {
                    self.problem(span, ManifestProblemKind::Value { key: "mentions", value: text, reason });
                }
            }
        }
        patterns
    }
}
