//! A numbering as documents have it: the table of docs/formats.md §2, in JSON and TOML alike.

use serde::{Deserialize, Serialize};
use yostel_versions::{Numbering, Order, Words};

/// The table as it is; a key that is left out has its default.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct NumberingTable {
    #[serde(skip_serializing_if = "Option::is_none")]
    order: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    breaks_at: Option<u8>,
    #[serde(skip_serializing_if = "Option::is_none")]
    before: Option<Vec<String>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    after: Option<Vec<String>>,
}

impl NumberingTable {
    /// Writes a numbering; what is as by default is left out.
    pub(crate) fn of(numbering: &Numbering) -> Self {
        if *numbering == Numbering::default() {
            return Self::default();
        }
        let usual = Words::default();
        let listed = |list: fn(&Words) -> &[String]| {
            numbering.words().map(list).filter(|words| *words != list(&usual)).map(<[String]>::to_vec)
        };
        Self {
            order: Some(numbering.order().as_str().to_owned()),
            breaks_at: numbering.breaks_at(),
            before: listed(Words::before),
            after: listed(Words::after),
        }
    }

    /// Tells whether it is the default.
    pub(crate) fn is_default(&self) -> bool {
        *self == Self::default()
    }

    /// Reads the numbering.
    ///
    /// # Errors
    /// What is wrong with it, as a sentence.
    pub(crate) fn read(self) -> Result<Numbering, String> {
        let order = match self.order.as_deref().map_or(Some(Order::default()), Order::parse) {
            Some(order) => with_words(order, self.before, self.after),
            None => return Err("its numbering has an order that this yostel does not know".to_owned()),
        };
        order.and_then(|order| Numbering::new(order, self.breaks_at)).map_err(|error| error.to_string())
    }

    /// Writes it as an inline table of TOML.
    pub(crate) fn to_toml(&self) -> String {
        let list = |words: &[String]| words.iter().map(|word| format!("\"{word}\"")).collect::<Vec<_>>().join(", ");
        let order = self.order.iter().map(|order| format!("order = \"{order}\""));
        let breaks_at = self.breaks_at.iter().map(|position| format!("breaks-at = {position}"));
        let before = self.before.iter().map(|words| format!("before = [{}]", list(words)));
        let after = self.after.iter().map(|words| format!("after = [{}]", list(words)));
        let keys: Vec<String> = order.chain(breaks_at).chain(before).chain(after).collect();
        format!("{{ {} }}", keys.join(", "))
    }
}

/// Gives an order the words that are listed; a list that is left out is as by default.
pub(crate) fn with_words(
    order: Order,
    before: Option<Vec<String>>,
    after: Option<Vec<String>>,
) -> Result<Order, yostel_versions::NumberingError> {
    match (order, before, after) {
        (order, None, None) => Ok(order),
        (Order::Semver, ..) => Err(yostel_versions::NumberingError::WordsOfSemver),
        (Order::Words(usual), before, after) => {
            let before = before.unwrap_or_else(|| usual.before().to_vec());
            Words::new(before, after.unwrap_or_else(|| usual.after().to_vec())).map(Order::Words)
        }
    }
}
