//! What new releases say of themselves.

use std::collections::BTreeMap;

use yostel_documents::{PackageDocument, PackageName};
use yostel_findings::{Comparison, MoveKind, News, news_between};

/// Reads what new releases say, of each package that moved up.
pub(crate) fn news_of(
    comparison: &Comparison,
    documents: &BTreeMap<PackageName, PackageDocument>,
) -> BTreeMap<PackageName, Vec<News>> {
    let mut all = BTreeMap::new();
    for one in &comparison.moves {
        if let MoveKind::Moved { from, to, .. } = &one.moved.kind
            && let Some(document) = documents.get(&one.moved.package)
            && from < to
        {
            all.insert(one.moved.package.clone(), news_between(document, from, to));
        }
    }
    all
}
