//! Add a need, telling what it accepts today.

use std::collections::BTreeMap;
use std::io::Read;
use std::path::{Path, PathBuf};

use yostel_documents::{
    ArchiveDigest, EditError, Elsewhere, GitPlace, ListedRelease, NeedForm, Origin, PackageName, Purpose, Sha256,
    add_agreed, add_need,
};
use yostel_sources::{ArchiveError, commit_of, open_archive};
use yostel_versions::{Constraint, ConstraintText, Version};

use crate::context::Context;
use crate::error::{ContentError, FlowError, ProjectError, SearchError};
use crate::project::LoadedProject;
use crate::project::places::{is_relative, path_from, read_package};
use crate::project::write::{Texts, write_manifests};
use crate::search::drive::unknown_package;

/// A need to add.
#[derive(Debug, Clone)]
pub struct AddRequest {
    /// The package.
    pub package: PackageName,
    /// Which versions will do; none = on the compatible line of the newest.
    pub accept: Option<ConstraintText>,
    /// For what.
    pub purpose: Purpose,
    /// Whether to agree on the constraint for every package, and need what is agreed.
    pub agreed: bool,
    /// Why to deviate from what is agreed.
    pub why: Option<String>,
}

/// What adding came to.
#[derive(Debug)]
pub struct AddReport {
    /// The manifest's file.
    pub path: PathBuf,
    /// The manifest in which a constraint was agreed on, when one was.
    pub agreed_in: Option<PathBuf>,
    /// The package.
    pub package: PackageName,
    /// The purpose.
    pub purpose: Purpose,
    /// The constraint, as written or as agreed.
    pub accept: ConstraintText,
    /// How the need refers to it.
    pub form: NeedForm,
    /// The same, bound to the package's numbering.
    pub constraint: Constraint,
    /// The constraint that was there before.
    pub before: Option<String>,
    /// The source that has the package.
    pub source: Origin,
    /// The releases accepted today, rising; never empty.
    pub accepted: Vec<Version>,
    /// The newest release of all, when it is not accepted.
    pub newest_not_accepted: Option<Version>,
    /// How many releases there are.
    pub releases: usize,
    /// Why a release on the list must not be chosen: withdrawn ones are left out and counted here.
    pub withdrawn: usize,
    /// Set when its author gave the newest accepted release up: why, and what replaced the package.
    pub deprecated: Option<(String, Option<PackageName>)>,
}

fn refuse_itself(project: &LoadedProject, package: &PackageName) -> Result<(), ProjectError> {
    if project.here().name() == package { Err(ProjectError::NeedsItself(package.clone())) } else { Ok(()) }
}

/// Adds needs to the project's manifest, in place: all, or none when one cannot be.
///
/// # Errors
/// `NeedsItself`, `UnknownPackage`, `Unreadable`, `AcceptsNothing`, `NoSources`, `Source`, `Edit`, `Store`. The manifest is
/// then as it was.
pub fn add(
    project: &LoadedProject,
    requests: Vec<AddRequest>,
    context: &Context<'_>,
) -> Result<Vec<AddReport>, FlowError> {
    let mut texts = Texts::new();
    let mut reports = Vec::new();
    for request in requests {
        // What the needs before it changed counts for the next.
        let after: BTreeMap<String, String> =
            texts.iter().map(|(file, (_, after))| (file.clone(), after.clone())).collect();
        let (report, changed) = match after.is_empty() {
            true => added(project, request)?,
            false => added(&project.with_texts(&after).ok_or(EditError::Unreadable)?, request)?,
        };
        for (file, (before, after)) in changed {
            texts.entry(file).or_insert_with(|| (before, String::new())).1 = after;
        }
        reports.push(report);
    }
    // What is agreed binds other projects too, which may say otherwise.
    project.check_texts(&texts.iter().map(|(file, (_, after))| (file.clone(), after.clone())).collect())?;
    write_manifests(project, &texts, context)?;
    Ok(reports)
}

/// Edits the texts of manifests so that they have a need more.
fn added(project: &LoadedProject, request: AddRequest) -> Result<(AddReport, Texts), FlowError> {
    refuse_itself(project, &request.package)?;
    let sources = project.sources()?;
    let Some((source, document)) = sources.document(&request.package)? else {
        return Err(unknown_package(&request.package, None, project, &sources).into());
    };
    let there = project.manifest().agreed.get(&request.package).map(|agreed| &agreed.accept);
    let accept = match (request.accept.or_else(|| there.cloned()), document.newest()) {
        (Some(accept), _) => accept,
        (None, Some(newest)) => {
            ConstraintText::parse(&format!("^{}", newest.version)).expect("a version makes a constraint")
        }
        (None, None) => ConstraintText::parse("*").expect("a star is a constraint"),
    };
    let form = match (request.agreed, there, request.why) {
        (true, ..) => NeedForm::Agreed,
        (false, Some(agreed), _) if *agreed == accept => NeedForm::Agreed,
        (false, Some(_), Some(why)) => NeedForm::Deviation(accept.clone(), why),
        (false, Some(agreed), None) => {
            return Err(ProjectError::Deviates { package: request.package, agreed: Some(agreed.clone()) }.into());
        }
        (false, None, Some(_)) => return Err(ProjectError::Deviates { package: request.package, agreed: None }.into()),
        (false, None, None) => NeedForm::Constraint(accept.clone()),
    };
    let constraint = accept.bind(&document.numbering).map_err(|cause| SearchError::Unreadable {
        package: request.package.clone(),
        accept: accept.clone(),
        requirement: None,
        cause,
    })?;
    let inside: Vec<&ListedRelease> = document.releases.iter().filter(|r| constraint.accepts(&r.version)).collect();
    let admitted = project.manifest().admit.get(&request.package).map(|admit| admit.version.as_str());
    let is_open = |r: &ListedRelease| r.withdrawn().is_none() || admitted == Some(r.version.as_str());
    let open: Vec<&ListedRelease> = inside.iter().copied().filter(|r| is_open(r)).collect();
    let Some(last) = open.last() else {
        let known = document.releases.iter().filter(|r| is_open(r)).map(|r| r.version.clone()).collect();
        return Err(SearchError::AcceptsNothing { package: request.package, accept, known }.into());
    };
    let (top, here) = (&project.top, project.here());
    let mut texts = Texts::new();
    if request.agreed {
        let agreed = add_agreed(&top.text, &request.package, &accept)?;
        texts.insert(top.manifest_path(), (top.text.clone(), agreed));
    }
    let (_, text) = texts.entry(here.manifest_path()).or_insert_with(|| (here.text.clone(), here.text.clone()));
    let edit = add_need(text, &request.purpose, &request.package, &form)?;
    *text = edit.text;
    let newest = document.newest().map(|release| release.version.clone());
    let report = AddReport {
        path: project.manifest_of(here),
        agreed_in: request.agreed.then(|| project.manifest_of(top)),
        package: request.package,
        purpose: request.purpose,
        constraint,
        before: edit.before,
        source,
        newest_not_accepted: newest.filter(|newest| *newest > last.version),
        releases: document.releases.len(),
        withdrawn: inside.len() - open.len(),
        deprecated: last.whole().deprecated.clone().map(|why| (why, last.whole().replaced_by.clone())),
        accepted: open.iter().map(|release| release.version.clone()).collect(),
        accept,
        form,
    };
    Ok((report, texts))
}

/// Where to take a package from, as somebody says it where they are.
#[derive(Debug, Clone)]
pub enum TakeFrom {
    /// A repository.
    Git(GitPlace),
    /// A folder, absolute.
    Path(PathBuf),
    /// An archive; without a digest, that of what is there now.
    Archive(String, Option<ArchiveDigest>),
}

/// What adding a need of a package from elsewhere came to.
#[derive(Debug)]
pub struct AddedElsewhere {
    /// The manifest's file.
    pub path: PathBuf,
    /// Where the package is taken from, as written.
    pub elsewhere: Elsewhere,
    /// The commit that is there now, of a repository.
    pub commit: Option<String>,
    /// The constraint that was there before.
    pub before: Option<String>,
}

/// Adds a need of a package that is elsewhere than in a source, after a look whether it is there; relative addresses
/// are so to the folder where one is.
///
/// # Errors
/// `Git`, `Path`, `Archive`, `Workspace`, `Edit`, `Store`. The manifest is then as it was.
pub fn add_elsewhere(
    project: &LoadedProject,
    package: &PackageName,
    purpose: &Purpose,
    (from, stand): (TakeFrom, &Path),
    accept: Option<ConstraintText>,
    context: &Context<'_>,
) -> Result<AddedElsewhere, FlowError> {
    refuse_itself(project, package)?;
    let here = project.here();
    let folder = project.folder_of(here);
    let mut commit = None;
    // What is relative is so to where one is, and is written down as seen from the manifest.
    let seen_from = |address: &str| match is_relative(address) {
        true => stand.join(address).to_string_lossy().into_owned(),
        false => address.to_owned(),
    };
    let written = |address: String| match is_relative(&address) {
        true => path_from(&folder, &stand.join(&address)),
        false => address,
    };
    let elsewhere = match from {
        TakeFrom::Git(place) => {
            let fail = |error| ContentError::Git { package: package.clone(), commit: None, error };
            commit = Some(commit_of(&seen_from(&place.address), &place.at, &project.git_config()).map_err(fail)?);
            Elsewhere::Git(GitPlace { address: written(place.address), ..place })
        }
        TakeFrom::Path(path) => {
            read_package(&*project.files, package, &path)?;
            Elsewhere::Path(path_from(&folder, &path))
        }
        TakeFrom::Archive(address, Some(digest)) => Elsewhere::Archive { address: written(address), digest },
        TakeFrom::Archive(address, None) => {
            let fail = |error| ContentError::Archive { package: package.clone(), error };
            let unread = |cause| fail(ArchiveError { address: address.clone(), cause });
            let mut stream = open_archive(&address, stand, &project.asking.patience).map_err(fail)?;
            let mut digest = Sha256::default();
            let mut buffer = vec![0; 128 * 1024];
            loop {
                match stream.read(&mut buffer).map_err(unread)? {
                    0 => break,
                    n => digest.update(&buffer[..n]),
                }
            }
            let digest = ArchiveDigest::new(digest.finish());
            Elsewhere::Archive { address: written(address), digest }
        }
    };
    let edit = add_need(&here.text, purpose, package, &NeedForm::Elsewhere(elsewhere.clone(), accept))?;
    // A place that contradicts another is refused here, not when it is locked; a folder that is gone is another's affair.
    let edited = project.with_texts(&[(here.manifest_path(), edit.text.clone())].into());
    if let Some(Err(error @ ProjectError::Workspace { .. })) = edited.map(|mut edited| edited.read_places()) {
        return Err(error.into());
    }
    let path = project.manifest_of(here);
    let texts = [(here.manifest_path(), (here.text.clone(), edit.text))].into();
    write_manifests(project, &texts, context)?;
    Ok(AddedElsewhere { path, elsewhere, commit, before: edit.before })
}
