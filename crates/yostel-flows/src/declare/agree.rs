//! Gather constraints that projects have in common.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

use yostel_documents::{EditError, NeedForm, PackageName, Purpose, add_agreed, add_need};
use yostel_versions::ConstraintText;

use crate::context::Context;
use crate::error::{FlowError, ProjectError};
use crate::project::write::{Texts, write_manifests};
use crate::project::{LoadedProject, ProjectFile};

/// Constraints that many projects had and that are agreed now.
#[derive(Debug)]
pub struct AgreeReport {
    /// The manifest with `[agreed]`.
    pub path: PathBuf,
    /// By package, what is agreed and who needs it.
    pub gathered: BTreeMap<PackageName, (ConstraintText, Vec<PackageName>)>,
    /// Packages that projects need by different constraints, each with who needs what: those stay.
    pub apart: BTreeMap<PackageName, Vec<(PackageName, ConstraintText)>>,
}

/// Moves constraints that two or more projects have in common into `[agreed]`; of these packages, or of all.
///
/// # Errors
/// `Edit`, `Store`. All manifests are changed, or none.
pub fn agree(project: &LoadedProject, only: &[PackageName], context: &Context<'_>) -> Result<AgreeReport, FlowError> {
    let mut needed: BTreeMap<PackageName, Vec<(&ProjectFile, &Purpose, ConstraintText)>> = BTreeMap::new();
    for file in project.projects() {
        for (purpose, needs) in &file.manifest.needs {
            for (package, need) in needs {
                // Between projects, and of what is elsewhere, there is nothing to agree on.
                let own = project.projects().any(|other| other.name() == package);
                if need.elsewhere.is_none() && !own && (only.is_empty() || only.contains(package)) {
                    // Where a need counts is its own affair, and stays with it.
                    needed.entry(package.clone()).or_default().push((file, purpose, need.accept.everywhere()));
                }
            }
        }
    }
    if let Some(unknown) = only.iter().find(|package| !needed.contains_key(*package)) {
        return Err(ProjectError::Edit(EditError::NoSuchNeed(unknown.clone())).into());
    }
    let top = &project.top;
    needed.retain(|package, _| !top.manifest.agreed.contains_key(package));
    let mut texts = Texts::new();
    let text_of = |file: &ProjectFile| (file.manifest_path(), (file.text.clone(), file.text.clone()));
    let (mut gathered, mut apart) = (BTreeMap::new(), BTreeMap::new());
    for (package, needs) in needed {
        let projects: BTreeSet<&PackageName> = needs.iter().map(|(file, ..)| file.name()).collect();
        if projects.len() < 2 {
            continue;
        }
        let accept = &needs[0].2;
        if needs.iter().any(|(_, _, other)| other != accept) {
            let told = needs.iter().map(|(file, _, accept)| (file.name().clone(), accept.clone()));
            apart.insert(package, told.collect());
            continue;
        }
        let (path, text) = text_of(top);
        let (_, text) = texts.entry(path).or_insert(text);
        *text = add_agreed(text, &package, accept)?;
        for (file, purpose, _) in &needs {
            let (path, text) = text_of(file);
            let (_, text) = texts.entry(path).or_insert(text);
            *text = add_need(text, purpose, &package, &NeedForm::Agreed)?.text;
        }
        let projects = projects.into_iter().cloned().collect();
        gathered.insert(package, (accept.clone(), projects));
    }
    write_manifests(project, &texts, context)?;
    Ok(AgreeReport { path: project.manifest_of(top), gathered, apart })
}
