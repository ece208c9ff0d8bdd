//! Statements that an advisory does not affect a project: read wherever they are, and written for what was looked at here.

use std::collections::BTreeSet;
use std::fs::File;
use std::io;
use std::path::PathBuf;

use jiff::civil::Date;
use jiff::tz::TimeZone;
use yostel_documents::{Dismissal, MOST_OPENVEX, OpenVex, PackageName};
use yostel_files::{Hold, lock, write_atomically};
use yostel_findings::{Threat, package_url, threats};

use crate::content::trust::told_by_sources;
use crate::context::Context;
use crate::error::{FlowError, ProjectError};
use crate::look::gather::{Sought, gather};
use crate::observer::{Event, waiting};
use crate::project::LoadedProject;
use crate::project::prepared::Prepared;
use crate::search::rules::Keep;

/// The file beside the manifest in which a project says it.
pub const STATEMENTS_NAME: &str = "yostel.openvex.json";

/// Reads a project's own statements, and those of the documents that its policy names.
///
/// # Errors
/// `Read` and `Statements`: one that is left out without a word would bring back what was settled.
pub(crate) fn statements_of(project: &LoadedProject) -> Result<Vec<(String, OpenVex)>, FlowError> {
    let mut all = Vec::new();
    for file in &project.manifest().policy.statements {
        let read = read(project, file)?;
        let missing = || ProjectError::Read { path: project.root.join(file), cause: io::ErrorKind::NotFound.into() };
        all.push((file.clone(), read.ok_or_else(missing)?));
    }
    // What the project says itself is read last, so that it counts where two were said at one time.
    if !all.iter().any(|(file, _)| file == STATEMENTS_NAME) {
        all.extend(read(project, STATEMENTS_NAME)?.map(|vex| (STATEMENTS_NAME.to_owned(), vex)));
    }
    Ok(all)
}

fn read(project: &LoadedProject, file: &str) -> Result<Option<OpenVex>, FlowError> {
    let path = project.root.join(file);
    match project.files.read(&path, MOST_OPENVEX) {
        Ok(text) => match OpenVex::parse(&text) {
            Ok(vex) => Ok(Some(vex)),
            Err(why) => Err(ProjectError::Statements { path, why }.into()),
        },
        Err(cause) if cause.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(cause) => Err(ProjectError::Read { path, cause }.into()),
    }
}

/// What to say of an advisory.
#[derive(Debug, Clone)]
pub struct DismissRequest {
    /// The advisory, by any of its names.
    pub id: String,
    /// Only of these packages; of all that it affects when there are none.
    pub packages: BTreeSet<PackageName>,
    /// What to say; nothing to take back what was said.
    pub say: Option<Saying>,
}

/// Why an advisory does not affect a project.
#[derive(Debug, Clone)]
pub struct Saying {
    /// Why, in words.
    pub why: String,
    /// The same as a word of the OpenVEX specification.
    pub justification: Option<&'static str>,
    /// The last day on which it counts.
    pub until: Option<Date>,
    /// Who says it; the project when nobody else does.
    pub author: Option<String>,
}

/// What was said of an advisory.
#[derive(Debug)]
pub struct DismissReport {
    /// The document.
    pub path: PathBuf,
    /// The advisory, as it was named.
    pub id: String,
    /// What does not count any more.
    pub dismissed: Vec<Threat>,
    /// How many statements were taken back.
    pub taken_back: usize,
}

/// Says that an advisory does not affect what is locked, or takes that back.
///
/// # Errors
/// As an audit; `NoSuchAdvisory`, `NotDismissed`, `Past`, `Statements`, `Store`.
pub fn dismiss(
    project: &LoadedProject,
    request: &DismissRequest,
    context: &Context<'_>,
) -> Result<DismissReport, FlowError> {
    let today = context.settings.now.to_zoned(TimeZone::UTC).date();
    if let Some(until) = request.say.as_ref().and_then(|say| say.until).filter(|until| *until < today) {
        return Err(ProjectError::Past(until).into());
    }
    let concerned = match &request.say {
        Some(_) => concerned(project, request, context)?,
        None => Vec::new(),
    };
    let path = project.root.join(STATEMENTS_NAME);
    let name = project.top.name();
    // Of several that say something at once, one reads and writes at a time.
    let root = File::open(&project.root).ok();
    if let Some(root) = &root {
        lock(root, Hold::Alone, &project.root, waiting(context.observer, Event::Wait)).ok();
    }
    let author = request.say.as_ref().and_then(|say| say.author.as_deref()).unwrap_or(name.as_str());
    let mut vex = read(project, STATEMENTS_NAME)?.unwrap_or_else(|| OpenVex::new(author, context.settings.now));
    let mut taken_back = 0;
    match &request.say {
        Some(say) => {
            for (threat, package) in &concerned {
                let dismissal = Dismissal {
                    name: threat.id.clone(),
                    aliases: threat.aliases.clone(),
                    project: package_url(name, None, None),
                    package: package.clone(),
                    why: say.why.clone(),
                    justification: say.justification,
                    until: say.until,
                };
                vex.dismiss(&dismissal, context.settings.now);
            }
        }
        None if request.packages.is_empty() => taken_back = vex.take_back(&request.id, None, context.settings.now),
        None => {
            for package in &request.packages {
                taken_back += vex.take_back(&request.id, Some(&package_url(package, None, None)), context.settings.now);
            }
        }
    }
    if concerned.is_empty() && taken_back == 0 {
        return Err(ProjectError::NotDismissed { id: request.id.clone(), path }.into());
    }
    write_atomically(&path, vex.to_text().as_bytes())?;
    let dismissed = concerned.into_iter().map(|(threat, _)| threat).collect();
    Ok(DismissReport { path, id: request.id.clone(), dismissed, taken_back })
}

/// Lists what an advisory affects, each with its package URL.
fn concerned(
    project: &LoadedProject,
    request: &DismissRequest,
    context: &Context<'_>,
) -> Result<Vec<(Threat, String)>, FlowError> {
    let Prepared { lockfile, .. } = project.prepare_to_look(context.observer)?;
    let from_source = lockfile.chosen.iter().filter(|(_, locked)| locked.from.source().is_some());
    let names: BTreeSet<PackageName> = from_source.map(|(name, _)| name.clone()).collect();
    let documents = told_by_sources(project, &names, context.observer)?;
    let sources = project.sources_and_elsewhere(Some(&lockfile), &Keep::Nothing, context)?;
    let (advisories, _) = gather(&Sought::on(&lockfile), &documents, (project, &sources), context)?;
    let mut all = threats(&lockfile, &documents, &advisories);
    let is_it = |threat: &Threat| threat.id == request.id || threat.aliases.contains(&request.id);
    all.retain(|threat| is_it(threat) && (request.packages.is_empty() || request.packages.contains(&threat.package)));
    if all.is_empty() {
        let packages = request.packages.iter().cloned().collect();
        return Err(ProjectError::NoSuchAdvisory { id: request.id.clone(), packages }.into());
    }
    let url = |threat: &Threat| {
        let locked = lockfile.chosen.at(&threat.package, &threat.version);
        package_url(&threat.package, Some(threat.version.as_str()), locked.map(|locked| &locked.from))
    };
    Ok(all.into_iter().map(|threat| (threat.clone(), url(&threat))).collect())
}
