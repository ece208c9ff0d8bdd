//! Which registry somebody means: a source of the manifest, a folder, or a place in an OCI registry.

use std::path::PathBuf;

use yostel_answers::{Code, Diagnostic, Suggestion};
use yostel_documents::{SourceName, SourcePlace, Word, nearest};
use yostel_flows::{LoadedProject, RegistryTarget};

use crate::answer::{Answer, failure_of};
use crate::call::Call;
use crate::exit::Exit;
use crate::options::word;

/// A registry that somebody named.
pub(super) struct Named {
    /// The source's name, where it is one of the manifest.
    pub(super) name: Option<SourceName>,
    pub(super) place: SourcePlace,
    /// What a folder is relative to.
    pub(super) root: PathBuf,
    pub(super) certificates: Option<PathBuf>,
}

/// Finds out what somebody named: a source of the manifest, where there is one, or else a folder or an address.
pub(super) fn named(text: &str, project: Option<&LoadedProject>, call: &Call) -> Result<Named, Answer> {
    let source = word(text).ok().and_then(|name: SourceName| {
        let project = project?;
        Some((name.clone(), project, project.manifest().sources.get(&name)?))
    });
    if let Some((name, project, declared)) = source {
        let (place, root) = (declared.place.clone(), project.root.clone());
        let certificates = declared.certificates.as_ref().map(|file| root.join(file));
        return Ok(Named { name: Some(name), place, root, certificates });
    }
    match SourcePlace::typed(text) {
        Ok(place) => Ok(Named { name: None, place, root: call.folder.clone(), certificates: None }),
        Err(error) => Err(refused(
            format!("that is not the place of a registry: {error}"),
            "name a source of the manifest, a folder, oci://HOST/NAME, or an address of the web",
            call,
        )),
    }
}

fn refused(headline: String, next: &str, call: &Call) -> Answer {
    failure_of(&[Diagnostic::new(Code::NoSuchRegistry, headline, next)], Exit::Usage, call.format)
}

/// Returns the registry that somebody named, to be written to.
pub(super) fn target(text: &str, project: Option<&LoadedProject>, call: &Call) -> Result<RegistryTarget, Answer> {
    let Named { name, place, root, certificates } = named(text, project, call)?;
    match place {
        SourcePlace::Folder(folder) => Ok(RegistryTarget::Folder(root.join(folder))),
        SourcePlace::Oci(mut places) => Ok(RegistryTarget::Oci { place: places.remove(0), name, certificates }),
        place @ SourcePlace::Web(_) => {
            let headline = match name {
                Some(name) => format!("source {name} is on a web server, {place}, which cannot be written to"),
                None => format!("{place} is on a web server, which cannot be written to"),
            };
            let next = "name the folder that the server serves, or oci://HOST/NAME in an OCI registry";
            Err(refused(headline, next, call))
        }
    }
}

/// Like [`target`], of one that is there; else the answer that says so.
pub(super) fn registry_there(
    named: &str,
    project: Option<&LoadedProject>,
    call: &Call,
) -> Result<RegistryTarget, Answer> {
    let target = target(named, project, call)?;
    let folder = match &target {
        RegistryTarget::Folder(folder) if !folder.exists() => folder,
        _ => return Ok(target),
    };
    let sources: Vec<&str> =
        project.map_or_else(Vec::new, |project| project.manifest().sources.keys().map(Word::as_str).collect());
    let headline = match sources.contains(&named) {
        true => format!("source {named}: there is no folder {}", call.show(folder)),
        false => format!("`{named}` is neither a source of the manifest nor a folder"),
    };
    let near = nearest(named, sources.iter().copied().filter(|source| *source != named));
    let make = Suggestion::run(format!("yostel registry create {named}"), "to make one there");
    let diagnostic = match near {
        Some(near) => {
            let exists = format!("{near} exists, if that is the one");
            Diagnostic::new(Code::NoSuchRegistry, headline, exists).or(make)
        }
        None => Diagnostic::new(Code::NoSuchRegistry, headline, make),
    };
    Err(failure_of(&[diagnostic], Exit::Usage, call.format))
}

/// Shows where a registry is.
pub(super) fn shown(target: &RegistryTarget, call: &Call) -> String {
    match target {
        RegistryTarget::Folder(folder) => call.show(folder),
        RegistryTarget::Oci { place, .. } => place.to_string(),
    }
}
