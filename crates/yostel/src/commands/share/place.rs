//! Which registry somebody means: a source of the manifest, a folder, or a place in an OCI registry.

use yostel_answers::{Code, Diagnostic, Suggestion};
use yostel_documents::{SourceName, SourcePlace, Word, nearest};
use yostel_flows::{LoadedProject, RegistryTarget};

use crate::answer::{Answer, failure_of};
use crate::call::Call;
use crate::exit::Exit;
use crate::options::word;

/// Returns the registry that is named as a source of the manifest, where there is one, or else by its folder or `oci://`.
pub(super) fn target(named: &str, project: Option<&LoadedProject>, call: &Call) -> Result<RegistryTarget, Answer> {
    let refuse = |headline: String, next: &str| {
        Err(failure_of(&[Diagnostic::new(Code::NoSuchRegistry, headline, next)], Exit::Usage, call.format))
    };
    let source = word(named).ok().and_then(|name: SourceName| {
        let project = project?;
        Some((name.clone(), project, project.manifest().sources.get(&name)?))
    });
    let typed = match source {
        Some((name, project, declared)) => match &declared.place {
            SourcePlace::Folder(folder) => return Ok(RegistryTarget::Folder(project.root.join(folder))),
            SourcePlace::Oci(places) => {
                let certificates = declared.certificates.as_ref().map(|file| project.root.join(file));
                return Ok(RegistryTarget::Oci { place: places[0].clone(), name: Some(name), certificates });
            }
            place @ SourcePlace::Web(_) => {
                let headline = format!("source {named} is on a web server, {place}, which cannot be written to");
                return refuse(headline, "name the folder that the server serves");
            }
        },
        None => SourcePlace::typed(named),
    };
    match typed {
        Ok(SourcePlace::Folder(folder)) => Ok(RegistryTarget::Folder(call.folder.join(folder))),
        Ok(SourcePlace::Oci(mut places)) => {
            Ok(RegistryTarget::Oci { place: places.remove(0), name: None, certificates: None })
        }
        Ok(place @ SourcePlace::Web(_)) => refuse(
            format!("{place} is a web server, which cannot be written to"),
            "name the folder that the server serves, or oci://HOST/NAME in an OCI registry",
        ),
        Err(error) => refuse(
            format!("that is not the place of a registry: {error}"),
            "name a source of the manifest, a folder, or oci://HOST/NAME",
        ),
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
