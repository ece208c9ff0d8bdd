//! Searches: packages that nobody knows, constraints that no release meets, needs that collide.

use crate::code::Code;
use crate::diagnostic::{Diagnostic, Note, Suggestion};
use yostel_documents::PackageName;
use yostel_flows::{RequirementPlace, SearchError};
use yostel_versions::BindError;

use super::collision::of_collisions;
use super::place::of_store;
use super::story::{Telling, some_versions, story};
use super::{Viewpoint, internal, join, shell_word, tell};

/// Tells why no set of packages was found.
pub(super) fn of_search(error: &SearchError, view: &Viewpoint<'_>) -> Vec<Diagnostic> {
    let headline = error.to_string();
    let told = match error {
        SearchError::NoSources => tell(
            Code::NoSource,
            "the manifest names no source to get packages from",
            Suggestion::run("yostel sources add NAME FOLDER", "with the folder of a registry"),
        ),
        SearchError::UnknownPackage { package, requirement, near, sources } => {
            let sources: Vec<String> = sources.iter().map(ToString::to_string).collect();
            let next = match near {
                Some(near) => format!("{near} exists, if that is the one").into(),
                None => {
                    Suggestion::run("yostel sources add NAME FOLDER", "to name one that has it, or correct the name")
                }
            };
            let diagnostic =
                tell(Code::UnknownPackage, format!("no source has {package} (asked: {})", join(&sources)), next);
            with_requirement(diagnostic, requirement.as_deref())
        }
        SearchError::Unreadable { package, accept, requirement, cause } => {
            with_requirement(of_bind(cause, package, accept.as_str()), requirement.as_deref())
        }
        SearchError::AcceptsNothing { package, accept, known } => {
            let next = match known.last() {
                Some(newest) => Suggestion::run(
                    format!("yostel add {package} '^{newest}'"),
                    "for what is compatible with the newest",
                ),
                None => "wait for a release, or take another package".into(),
            };
            tell(Code::NoReleasesAccepted, format!("no release of {package} meets {accept}"), next)
                .note(format!("its releases are {}", some_versions(known)))
                .note("the manifest is as it was")
        }
        SearchError::NotAccepted { requirement, place, asked } => {
            let package = &requirement.package;
            let headline = format!("{requirement}, which accepts nothing of {asked}");
            let edit = Suggestion::run(
                format!("yostel update {package} {} --edit", shell_word(asked.as_str())),
                "to edit the constraint too",
            );
            with_requirement(tell(Code::NotAccepted, headline, edit), place.as_deref())
        }
        SearchError::OutOfReach { asked, collision, places, rules } => {
            let headline = format!("{} {} cannot be had now", asked.package, asked.accept);
            let newest = Suggestion::run(format!("yostel update {}", asked.package), "for as new as it can be");
            let mut told = tell(Code::OutOfReach, headline, newest);
            told.notes = story(collision, &Telling { places, rules, asked: Some(asked) });
            told
        }
        SearchError::Collision { collision, places, rules, proof, unproved, .. } => {
            let with = Telling { places, rules, asked: None };
            let mut told = of_collisions(collision, &with, proof.as_deref().map(|folder| view.show(folder)), view);
            told.extend(unproved.as_deref().map(|error| of_store(error).note("so no proof was written")));
            return told;
        }
        SearchError::OutOfTime(_) => tell(Code::OutOfTime, headline, "give it more time: --time-limit 10m")
            .or("narrow the constraints of what you need, so that there is less to search through"),
        SearchError::WrongAnswer(_) => internal(headline),
        SearchError::NoSuchVersion { known, .. } => {
            let next = match known.last() {
                Some(newest) => format!("name one of its releases, like {newest}").into(),
                None => Suggestion::run("yostel audit", "to see which packages no source knows any more"),
            };
            tell(Code::NoSuchRelease, headline, next).note(format!("its releases are {}", some_versions(known)))
        }
    };
    vec![told]
}

fn with_requirement(mut diagnostic: Diagnostic, place: Option<&RequirementPlace>) -> Diagnostic {
    if let Some(place) = place {
        diagnostic.notes.insert(0, Note::at(&place.file, place.line, place.requirement.to_string()));
    }
    diagnostic
}

fn of_bind(error: &BindError, package: &PackageName, accept: &str) -> Diagnostic {
    match error {
        BindError::Partial { sign, version, readings } => {
            let headline =
                format!("{package} {accept}: `{sign}{version}` leaves numbers out, and can be read in two ways");
            let write = |reading: &String| Suggestion::from(format!("write \"{reading}\""));
            let told = tell(Code::Constraint, headline, write(&readings[0]));
            readings[1..].iter().map(write).fold(told, Diagnostic::or)
        }
        BindError::Version(error) => {
            let next = match &error.suggestion {
                Some(works) => format!("write {works}"),
                None => format!("see what versions {package} has: yostel registry list REGISTRY"),
            };
            tell(Code::Version, format!("{package} {accept}: {error}"), next)
        }
    }
}
