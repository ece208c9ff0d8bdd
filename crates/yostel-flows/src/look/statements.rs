//! Statements that an advisory does not affect a project: read wherever they are, and written for what was looked at here.

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::path::PathBuf;

use jiff::civil::Date;
use jiff::tz::TimeZone;
use yostel_documents::{Dismissal, Lockfile, MOST_OPENVEX, OpenVex, PackageDocument, PackageName};
use yostel_findings::{Advisories, Dismissed, Dismissing, Threat, dismissing, package_url, threats};

use crate::content::trust::{from_sources, told_by_sources};
use crate::context::Context;
use crate::error::{FlowError, ProjectError};
use crate::look::gather::{Sought, gather};
use crate::project::LoadedProject;
use crate::project::files::STATEMENTS_NAME;
use crate::project::prepared::Prepared;
use crate::project::write::{Writing, hold_files};
use crate::search::rules::Keep;

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

/// What becomes of the advisories that affect something.
#[derive(Default)]
pub(crate) struct Sorted {
    pub(crate) stand: Vec<Threat>,
    pub(crate) dismissed: Vec<Dismissed>,
    pub(crate) lapsed: Vec<Dismissed>,
}

/// Sorts advisories by what the project and others say of them.
///
/// # Errors
/// As reading statements.
pub(crate) fn sorted(
    advisories: &Advisories,
    (lockfile, documents): (&Lockfile, &BTreeMap<PackageName, PackageDocument>),
    project: &LoadedProject,
    context: &Context<'_>,
) -> Result<Sorted, FlowError> {
    let statements = statements_of(project)?;
    let today = context.settings.now.to_zoned(TimeZone::UTC).date();
    let name = project.top.name();
    let mut sorted = Sorted::default();
    for threat in threats(lockfile, documents, advisories) {
        let Some(locked) = lockfile.chosen.at(&threat.package, &threat.version) else { continue };
        match dismissing(&threat, (name, locked, documents.get(&threat.package)), &statements, today) {
            Dismissing::Stands => sorted.stand.push(threat),
            Dismissing::Dismissed(dismissed) => sorted.dismissed.push(dismissed),
            Dismissing::Lapsed(lapsed) => {
                sorted.lapsed.push(lapsed);
                sorted.stand.push(threat);
            }
        }
    }
    Ok(sorted)
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
    /// Those of them that count all the same, since another document said otherwise later.
    pub contradicted: Vec<Threat>,
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
    match &request.say {
        Some(say) => say_it(project, request, say, context),
        None => take_it_back(project, request, context),
    }
}

fn say_it(
    project: &LoadedProject,
    request: &DismissRequest,
    say: &Saying,
    context: &Context<'_>,
) -> Result<DismissReport, FlowError> {
    let today = context.settings.now.to_zoned(TimeZone::UTC).date();
    if let Some(until) = say.until.filter(|until| *until < today) {
        return Err(ProjectError::Past(until).into());
    }
    let Prepared { lockfile, .. } = project.prepare_to_look(context.observer)?;
    let documents = told_by_sources(project, &from_sources(&lockfile), context.observer)?;
    let sources = project.sources_and_elsewhere(Some(&lockfile), &Keep::Nothing, context)?;
    let (advisories, _) = gather(&Sought::on(&lockfile), &documents, (project, &sources), context)?;
    let mut threats = threats(&lockfile, &documents, &advisories);
    let is_it = |threat: &Threat| threat.id == request.id || threat.aliases.contains(&request.id);
    let is_meant = |threat: &Threat| request.packages.is_empty() || request.packages.contains(&threat.package);
    threats.retain(|threat| is_it(threat) && is_meant(threat));
    if threats.is_empty() {
        let packages = request.packages.iter().cloned().collect();
        return Err(ProjectError::NoSuchAdvisory { id: request.id.clone(), packages }.into());
    }
    let name = project.top.name();
    let locked = |threat: &Threat| lockfile.chosen.at(&threat.package, &threat.version);
    edit(project, say.author.as_deref(), context, |vex| {
        for threat in &threats {
            let from = locked(threat).map(|locked| &locked.from);
            let dismissal = Dismissal {
                name: threat.id.clone(),
                aliases: threat.aliases.clone(),
                project: package_url(name, None, None),
                package: package_url(&threat.package, Some(threat.version.as_str()), from),
                why: say.why.clone(),
                justification: say.justification,
                until: say.until,
            };
            vex.dismiss(&dismissal, context.settings.now);
        }
        Ok(())
    })?;
    let statements = statements_of(project)?;
    let counts = |threat: &&Threat| {
        let Some(locked) = locked(threat) else { return false };
        let told = dismissing(threat, (name, locked, documents.get(&threat.package)), &statements, today);
        !matches!(told, Dismissing::Dismissed(_))
    };
    let contradicted = threats.iter().filter(counts).cloned().collect();
    let (path, id) = (project.root.join(STATEMENTS_NAME), request.id.clone());
    Ok(DismissReport { path, id, dismissed: threats, contradicted, taken_back: 0 })
}

fn take_it_back(
    project: &LoadedProject,
    request: &DismissRequest,
    context: &Context<'_>,
) -> Result<DismissReport, FlowError> {
    let (path, id) = (project.root.join(STATEMENTS_NAME), request.id.clone());
    let packages = request.packages.iter().map(|package| package_url(package, None, None));
    let packages: Vec<Option<String>> = match request.packages.is_empty() {
        true => vec![None],
        false => packages.map(Some).collect(),
    };
    let taken_back = edit(project, None, context, |vex| {
        let gone = packages.iter().map(|package| vex.take_back(&id, package.as_deref(), context.settings.now)).sum();
        match gone {
            0 => Err(ProjectError::NotDismissed { id: id.clone(), path: path.clone() }.into()),
            gone => Ok(gone),
        }
    })?;
    Ok(DismissReport { path, id, dismissed: Vec::new(), contradicted: Vec::new(), taken_back })
}

/// Edits what the project says itself, in a document that is begun where there is none; whole, or not at all.
fn edit<T>(
    project: &LoadedProject,
    author: Option<&str>,
    context: &Context<'_>,
    edit: impl FnOnce(&mut OpenVex) -> Result<T, FlowError>,
) -> Result<T, FlowError> {
    // Of several that say something at once, one reads and writes at a time.
    let _held = hold_files(&project.root, context)?;
    let new = || OpenVex::new(author.unwrap_or(project.top.name().as_str()), context.settings.now);
    let mut vex = read(project, STATEMENTS_NAME)?.unwrap_or_else(new);
    let edited = edit(&mut vex)?;
    Writing::at(&project.root, context).put(STATEMENTS_NAME, Some(vex.to_text().as_bytes()))?;
    Ok(edited)
}
