//! Copy releases from one registry to another.

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::sync::Mutex;

use yostel_documents::{Advisory, Artifact, NamePattern, PackageDocument, PackageName, Release, SourceName, Word};
use yostel_files::NewFile;
use yostel_registry::{Backend, CopiedPackage, copy_package};
use yostel_sources::{AdvisoryReader, FileStamp, RegistryPlace, Source, SourceError, SourceSet};

use super::target::{OpenTarget, RegistryTarget, with_target};
use crate::content::ask::documents_of;
use crate::content::fetch::fetch;
use crate::context::Context;
use crate::error::{ContentError, FlowError};
use crate::observer::{Event, go_on};

/// What is copied.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CopyWhat {
    /// All packages whose names one of these covers; all when there are none.
    Named(Vec<NamePattern>),
    /// These versions of these packages.
    Versions(BTreeSet<(PackageName, String)>),
}

/// Where it is copied from.
#[derive(Debug, Clone)]
pub struct CopyFrom {
    /// What it is called: the source's name, where it is one of the manifest.
    pub name: Option<SourceName>,
    /// Where it is.
    pub place: RegistryPlace,
    /// A file with certificates to trust besides the machine's.
    pub certificates: Option<std::path::PathBuf>,
}

/// What copying came to.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct CopyReport {
    /// What came of each package that was looked at.
    pub packages: BTreeMap<PackageName, CopiedPackage>,
    /// Names or patterns that were wanted, and of which the first registry has nothing; with the version where one was wanted.
    pub missing: Vec<(String, Option<String>)>,
    /// Files with advisories that are there now and were not, or were other ones.
    pub advisories: usize,
    /// What the two registries are called, and how many files with advisories name the first, so that they say nothing in the
    /// second; where the names differ and there are any.
    pub renamed: Option<Renamed>,
}

/// What follows from another name of the registry that is copied to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Renamed {
    /// What the registry is called that is copied from.
    pub from: String,
    /// What that is called to which it is copied.
    pub to: String,
    /// How many files with advisories speak of packages of the first.
    pub advisories: usize,
}

impl CopyWhat {
    fn wants(&self, package: &PackageName, release: &Release) -> bool {
        match self {
            Self::Named(_) => true,
            Self::Versions(versions) => versions.contains(&(package.clone(), release.version.to_string())),
        }
    }
}

/// Copies releases with their archives, whatever was said of them, and advisories. What is there already is not fetched,
/// so a copy that was ended goes on where it was.
///
/// # Errors
/// `Source`, `Registry`, `Content` when an archive is not what it should be, `Stopped`. What was copied before that is there.
pub fn copy_registry(
    from: CopyFrom,
    to: &RegistryTarget,
    what: &CopyWhat,
    context: &Context<'_>,
) -> Result<CopyReport, FlowError> {
    let is_named = from.name.is_some();
    copy_from(from, to, what, context).map_err(|error| match error {
        // It is no manifest's, so it has no name.
        FlowError::Content(error) if !is_named => match error {
            ContentError::Source(error) => SourceError { source_name: None, ..error }.into(),
            other => other.into(),
        },
        other => other,
    })
}

fn copy_from(
    from: CopyFrom,
    to: &RegistryTarget,
    what: &CopyWhat,
    context: &Context<'_>,
) -> Result<CopyReport, FlowError> {
    let settings = context.settings;
    let name = from.name.unwrap_or_else(|| Word::parse("registry").expect("it is a word"));
    let asking = settings.asking(from.certificates);
    let source = settings.sources.open(name.clone(), from.place.clone(), &asking)?;
    let names: BTreeSet<PackageName> = match what {
        CopyWhat::Versions(versions) => versions.iter().map(|(package, _)| package.clone()).collect(),
        CopyWhat::Named(patterns) => {
            let all = source.names()?.into_iter();
            all.filter(|name| patterns.is_empty() || patterns.iter().any(|pattern| pattern.covers(name))).collect()
        }
    };
    let mut set = SourceSet::default();
    set.add(source, Vec::new());
    let source = set.source(&name).expect("it was just added");
    let documents = documents_of(&names, &set, context.observer)?;
    let mut report = CopyReport::default();
    context.observer.notice(Event::Begin("copying", documents.len() as u64));
    let target = to.open(settings)?.copying_from(&from.place);
    for (package, document) in &documents {
        go_on(context.observer)?;
        let wants = |release: &Release| what.wants(package, release);
        let mut bring = |release: &Release, artifact: &Artifact, file: NewFile| {
            bring(source, (package, release), artifact, file, context)
        };
        let copied: Result<CopiedPackage, FlowError> =
            with_target!(&target, target => copy_package(target, document, &wants, &mut bring));
        let copied = copied?;
        report.packages.insert(package.clone(), copied);
        context.observer.notice(Event::Advance(1));
    }
    context.observer.notice(Event::End);
    report.missing = missing(what, &names, &documents);
    (report.advisories, report.renamed) = advisories(source, &target)?;
    Ok(report)
}

/// Fetches an archive, checks it, and writes it into a file.
fn bring(
    source: &dyn Source,
    (package, release): (&PackageName, &Release),
    artifact: &Artifact,
    mut file: NewFile,
    context: &Context<'_>,
) -> Result<(), FlowError> {
    let staged = fetch(source, (package, &release.version), artifact, context)?;
    let mut content = staged.open()?;
    io::copy(&mut content, &mut file).map_err(|cause| file.failed(cause))?;
    Ok(file.sync()?)
}

/// Lists what was wanted by name and is not there.
fn missing(
    what: &CopyWhat,
    names: &BTreeSet<PackageName>,
    documents: &BTreeMap<PackageName, PackageDocument>,
) -> Vec<(String, Option<String>)> {
    match what {
        CopyWhat::Versions(versions) => {
            let is_there = |(package, version): &&(PackageName, String)| {
                let there = documents.get(package);
                there.is_some_and(|there| there.releases.iter().any(|release| release.version.as_str() == version))
            };
            let missing = versions.iter().filter(|wanted| !is_there(wanted));
            missing.map(|(package, version)| (package.to_string(), Some(version.clone()))).collect()
        }
        CopyWhat::Named(patterns) => {
            let whole = patterns.iter().filter(|pattern| !names.iter().any(|name| pattern.covers(name)));
            whole.map(|pattern| (pattern.to_string(), None)).collect()
        }
    }
}

/// Takes all advisories as they are.
#[derive(Default)]
struct All(Mutex<Vec<(String, io::Result<String>)>>);

impl AdvisoryReader for All {
    fn wants(&self, _file: &str, _stamp: Option<FileStamp>) -> bool {
        true
    }

    fn take(&self, file: &str, _stamp: Option<FileStamp>, text: io::Result<String>) {
        self.0.lock().expect("nobody panics while holding it").push((file.to_owned(), text));
    }
}

/// Copies the advisories; returns how many changed, and what the registry's name makes of them.
fn advisories(source: &dyn Source, target: &OpenTarget) -> Result<(usize, Option<Renamed>), FlowError> {
    let all = All::default();
    source.advisories(&all)?;
    let (from, to) = (source.registry(), target.name());
    let (mut changed, mut named) = (0, 0);
    let mut taken = all.0.into_inner().expect("nobody panicked while holding it");
    taken.sort_by(|a, b| a.0.cmp(&b.0));
    for (file, text) in taken {
        // One that cannot be read is of no use to anybody.
        let Ok(text) = text else { continue };
        changed += usize::from(with_target!(target, target => put(target, &file, &text))?);
        named += usize::from(from != to && is_about(&text, from));
    }
    if let OpenTarget::Folder(registry) = target {
        registry.write_index()?;
    }
    let renamed = Renamed { from: from.to_owned(), to: to.to_owned(), advisories: named };
    Ok((changed, (named > 0).then_some(renamed)))
}

/// Tells whether an advisory names a registry as that of a package.
fn is_about(text: &str, registry: &str) -> bool {
    let Ok(advisory) = Advisory::parse(text) else { return false };
    let mut packages = advisory.affected.iter().filter_map(|affected| affected.package.as_ref());
    packages.any(|package| package.ecosystem == registry)
}

fn put<B: Backend>(target: &B, file: &str, text: &str) -> Result<bool, B::Error> {
    let guard = target.guard()?;
    target.put_advisory(&guard, file, text)
}
