//! Reading `[contents]`.

use super::super::contents::{Contents, FilePattern};
use super::{ManifestProblemKind, Reader, Table};

impl Reader<'_> {
    pub(super) fn contents(&mut self, root: &Table<'_>) -> Contents {
        let mut contents = Contents::default();
        let Some(table) = root.get("contents").and_then(|value| self.table("contents", value)) else {
            return contents;
        };
        self.check_keys("contents", table);
        for (key, into) in [("leave-out", &mut contents.leave_out), ("no-secrets", &mut contents.no_secrets)] {
            let Some(list) = table.get(key) else { continue };
            for (text, span) in self.strings(key, list) {
                match FilePattern::parse(&text) {
                    Ok(pattern) => into.push(pattern),
                    Err(reason) => self.problem(span, ManifestProblemKind::Value { key, value: text, reason }),
                }
            }
        }
        contents
    }
}
