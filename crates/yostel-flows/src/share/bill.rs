//! A bill of materials of what is locked.

use std::collections::BTreeMap;

use yostel_documents::PackageName;
use yostel_findings::{Bill, Subject, bill};

use crate::content::trust::{from_sources, told_by_sources};
use crate::context::Context;
use crate::error::FlowError;
use crate::project::prepared::Prepared;
use crate::project::{LoadedProject, ProjectFile};

/// Makes a bill of materials of a project, or of all projects of a workspace: a pure function of the manifests, the lockfile
/// and what sources tell of the releases in it.
///
/// # Errors
/// As loading a lockfile, which must fit the manifests; those of asking the sources.
pub fn bill_of_materials(project: &LoadedProject, context: &Context<'_>) -> Result<Bill, FlowError> {
    let Prepared { lockfile, declared, .. } = project.prepare()?;
    let names = from_sources(&lockfile);
    let documents = told_by_sources(project, &names, context.observer)?;
    let subject = |file: &ProjectFile| {
        let project = &file.manifest.project;
        let version = project.version.as_ref().map(ToString::to_string);
        Subject { name: project.name.clone(), version, licence: project.licence.clone(), needs: Vec::new() }
    };
    let projects: Vec<Subject> = project.projects().map(subject).collect();
    let alter = &project.manifest().alter;
    let patches: BTreeMap<PackageName, (String, String)> =
        alter.iter().map(|(package, alter)| (package.clone(), (alter.patch.clone(), alter.why.clone()))).collect();
    Ok(bill(&lockfile, &declared, &projects, &documents, &patches))
}
