//! Asking sources about packages, all at once. What comes first does not matter: answers are put into the order of the
//! names, and so is the error that is told when several cannot be fetched.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Mutex;

use yostel_documents::{Origin, PackageDocument, PackageName};
use yostel_sources::SourceSet;

use crate::error::FlowError;
use crate::observer::{Event, Observer, go_on};

/// What is known of packages, and from where; nothing of those that no source knows.
pub(crate) type Answers = BTreeMap<PackageName, Option<(Origin, PackageDocument)>>;

/// Asks the sources about packages.
pub(crate) fn ask(
    packages: &BTreeSet<PackageName>,
    sources: &SourceSet,
    observer: &dyn Observer,
) -> Result<Answers, FlowError> {
    ask_hearing(packages, sources, observer, &|_| ())
}

/// Like [`ask`], and whoever wants to hears of each document as it comes.
pub(crate) fn ask_hearing(
    packages: &BTreeSet<PackageName>,
    sources: &SourceSet,
    observer: &dyn Observer,
    hear: &(dyn Fn(&PackageDocument) + Sync),
) -> Result<Answers, FlowError> {
    go_on(observer)?;
    let answers = Mutex::new(BTreeMap::new());
    sources.documents(packages, &|package, answer| {
        observer.notice(Event::Advance(1));
        if let Ok(Some((_, document))) = &answer {
            hear(document);
        }
        answers.lock().expect("nobody panics while holding it").insert(package.clone(), answer);
    });
    go_on(observer)?;
    let answers = answers.into_inner().expect("nobody panicked while holding it");
    answers.into_iter().map(|(package, answer)| Ok((package, answer?))).collect()
}

/// Like [`ask`], for the documents alone of those that are known.
pub(crate) fn documents_of(
    packages: &BTreeSet<PackageName>,
    sources: &SourceSet,
    observer: &dyn Observer,
) -> Result<BTreeMap<PackageName, PackageDocument>, FlowError> {
    let answers = ask(packages, sources, observer)?.into_iter();
    Ok(answers.filter_map(|(package, found)| found.map(|(_, document)| (package, document))).collect())
}
