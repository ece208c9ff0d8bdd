//! From errors to words: the only room that knows them. Exhaustive on purpose: a new error does not compile until it
//! has its words. Codes are explained in docs/errors.md.

mod collision;
mod content;
mod dispute;
mod manifest;
mod patch;
mod place;
mod texts;

use std::path::Path;

use jiff::Timestamp;
use yostel_documents::{EditError, NameError, PackageName, Purpose, nearest};
use yostel_flows::{FlowError, ForeignProblem, NotAltered, PathProblem, RequirementPlace, RulePlace};
use yostel_versions::{BindError, ConstraintProblem, ConstraintTextError};

pub use collision::story;
use collision::{of_collision, some_versions};
pub use content::changes_told;
use content::{of_admit, of_republished, with_seen};
pub use dispute::dispute_words;
use dispute::of_disputes;
use manifest::{of_lockfile, of_manifest, of_stale, of_workspace};
use patch::{of_not_altered, of_patch};
use place::{of_git, of_io, of_registry, of_source, of_store};
pub use texts::{age, count, join, shell_word, size};

use crate::code::Code;
use crate::diagnostic::{Diagnostic, Note, Place, Suggestion};

/// How many of a kind are told in one message.
const TOLD: usize = 5;

/// How many lines of differing files are told in one message.
const TOLD_LINES: usize = 12;

/// From where and when words are read: paths are told as seen from there, ages up to then.
#[derive(Debug, Clone, Copy)]
pub struct Viewpoint<'v> {
    /// The folder in which the reader is.
    pub folder: &'v Path,
    /// The cache's folder.
    pub cache: &'v Path,
    /// The time.
    pub now: Timestamp,
}

impl Viewpoint<'_> {
    /// Shortens a path for people: relative to where they are, when it is below.
    pub fn show(&self, path: &Path) -> String {
        match path.strip_prefix(self.folder) {
            Ok(here) if here.as_os_str().is_empty() => ".".to_owned(),
            below => below.unwrap_or(path).display().to_string(),
        }
    }
}

fn tell(code: Code, headline: impl Into<String>, next: impl Into<Suggestion>) -> Diagnostic {
    Diagnostic::new(code, headline, next)
}

/// Tells an error; several failures are told one by one.
pub fn diagnostics_of(error: &FlowError, view: &Viewpoint<'_>) -> Vec<Diagnostic> {
    match error {
        FlowError::Several(errors) => errors.iter().flat_map(|error| diagnostics_of(error, view)).collect(),
        FlowError::Manifest { path, text, problems } => {
            let file = view.show(path);
            problems.iter().take(TOLD).map(|problem| of_manifest(problem, &file, text)).collect()
        }
        FlowError::Collision { collision, places, rules, proof } => {
            let all = std::iter::once(&**collision).chain(&collision.others);
            let mut told: Vec<Diagnostic> = all.map(|collision| of_collision(collision, places)).collect();
            if let (Some(folder), Some(last)) = (proof, told.last_mut()) {
                last.notes
                    .push(format!("{} holds problem.cnf, variables.tsv and proof.drat", view.show(folder)).into());
            }
            if let Some(first) = told.first_mut() {
                let says = |rule: &RulePlace| {
                    Note::at("yostel.toml", rule.line, format!("[{}] {} {}", rule.table, rule.package, rule.says))
                };
                first.notes.extend(rules.iter().map(says));
            }
            // What to do is the same for all of them and is said once, at the end.
            for earlier in told.iter_mut().rev().skip(1) {
                earlier.next = vec!["this is a separate collision; the step at the end is for all of them".into()];
            }
            told
        }
        other => vec![diagnostic_of(other, view)],
    }
}

fn diagnostic_of(error: &FlowError, view: &Viewpoint<'_>) -> Diagnostic {
    // Long: an arm an error, so that a new error does not compile until it has its words.
    let headline = error.to_string();
    match error {
        FlowError::Several(_) | FlowError::Manifest { .. } => tell(Code::Manifest, headline, "see above"),
        FlowError::Workspace { path, text, span, problem } => of_workspace(problem, &view.show(path), text, span),
        FlowError::NoSuchProject { name, known } => {
            let near = nearest(name.as_str(), known.iter().map(PackageName::as_str));
            let known: Vec<String> = known.iter().map(ToString::to_string).collect();
            let next = near.map_or_else(
                || "name a project of this workspace".to_owned(),
                |near| format!("{near} exists, if that is the one"),
            );
            tell(Code::NoSuchProject, headline, next).note(format!("the projects are {}", join(&known)))
        }
        FlowError::Path { package, problem: PathProblem::NoFolder, .. } => {
            tell(Code::Path, headline, format!("name a folder that exists as the `path` of {package}"))
        }
        FlowError::Path { problem: PathProblem::OtherName(found), .. } => {
            tell(Code::Path, headline, format!("need it as {found}, which is what its manifest says"))
        }
        FlowError::Git { package, commit, error } => of_git(error, package, commit.as_deref()),
        FlowError::Archive { package, .. } => {
            tell(Code::ArchiveMissing, headline, format!("correct `archive` of {package}"))
                .or("get the archive back at that address; one with its digest elsewhere will do too")
        }
        FlowError::Foreign { problem, .. } => tell(
            Code::ForeignManifest,
            headline,
            match problem {
                ForeignProblem::OtherName(found) => format!("need it as {found}"),
                ForeignProblem::Unfit(_) => "take another commit, and tell whoever keeps the repository".into(),
                ForeignProblem::Manifest(_) => "take another commit or archive, one with a manifest in order".into(),
                ForeignProblem::Place(needed, place) => {
                    format!("name the place in your manifest too: {needed}, from {place}")
                }
            },
        ),
        FlowError::NoProject(_) => tell(Code::NoProject, headline, Suggestion::run("yostel init", "to start one here"))
            .or(Suggestion::run("yostel -C FOLDER …", "to work on one elsewhere")),
        FlowError::Read { path, cause } => of_io(Code::CannotRead, format!("{}: {cause}", view.show(path)), cause),
        FlowError::OtherTool { accept, .. } => {
            let or = "change `yostel = …` in [project], if this one will do after all";
            tell(Code::OtherTool, headline, format!("install a yostel version that {accept} accepts")).or(or)
        }
        FlowError::AlreadyAProject(path) => {
            let headline = format!("{} is there already", view.show(path));
            tell(Code::AlreadyAProject, headline, Suggestion::run("yostel add NAME", "to add a need to it"))
        }
        FlowError::NoLockfile(path) => tell(
            Code::LockfileMissing,
            format!("there is no {}", view.show(path)),
            Suggestion::run("yostel lock", "to resolve and write it"),
        ),
        FlowError::Lockfile { path, text, error } => of_lockfile(error, &view.show(path), text),
        FlowError::Stale(differences) => of_stale(differences),
        FlowError::NoSources => tell(
            Code::NoSource,
            "the manifest names no source to get packages from",
            "add to yostel.toml: [sources.station] and below it folder = \"../station\"",
        ),
        FlowError::UnknownPackage { package, requirement, near, sources } => {
            let sources: Vec<String> = sources.iter().map(ToString::to_string).collect();
            let next = match near {
                Some(near) => format!("{near} exists, if that is the one"),
                None => "name the source that has it in [sources], or correct the name".to_owned(),
            };
            let diagnostic =
                tell(Code::UnknownPackage, format!("no source has {package} (asked: {})", join(&sources)), next);
            with_requirement(diagnostic, requirement.as_deref())
        }
        FlowError::Unreadable { package, accept, requirement, cause } => {
            with_requirement(of_bind(cause, package, accept.as_str()), requirement.as_deref())
        }
        FlowError::AcceptsNothing { package, accept, known } => {
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
        FlowError::Collision { collision, places, .. } => of_collision(collision, places),
        FlowError::Kit { path, error } => {
            let next = "copy the file again, or save it again where it came from";
            let told = tell(Code::Kit, format!("{} cannot be used: {error}", view.show(path)), next);
            told.note("the cache is as it was")
        }
        FlowError::Stopped => stopped(),
        FlowError::OutOfTime(_) => tell(Code::OutOfTime, headline, "give it more time: --time-limit 10m")
            .or("narrow the constraints of what you need, so that there is less to search through"),
        FlowError::WrongAnswer(_) => internal(headline),
        FlowError::Variable { package, .. } => tell(
            Code::VariableRefused,
            headline,
            format!("permit it, below [policy] of yostel.toml: trusted-variables = [\"{package}\"]"),
        )
        .or(Suggestion::run(format!("yostel explain {package}"), "to see what brought it in")),
        FlowError::Separator(_) => {
            tell(Code::Separator, headline, "move the project to a folder without `:` in its path")
        }
        FlowError::Disputed(disputes) => of_disputes(disputes),
        FlowError::NotReadableBack { longest: Some((package, who, length)), problem } => tell(
            Code::LockfileUnreadable,
            format!("{who} needs {package} with a constraint of {length} bytes, which no lockfile can hold"),
            format!("agree on a shorter constraint for {package}, or force or swap it"),
        )
        .note(problem.clone())
        .note("the lockfile is as it was"),
        FlowError::NotReadableBack { longest: None, .. } => internal(headline),
        FlowError::ForcedOutsideAgreed { package, path, text, span, .. } => {
            let next = format!("force a version of {package} that is agreed, or agree on one that is forced");
            let mut told = tell(Code::ManifestContradiction, headline, next).note("the lockfile is as it was");
            told.place = Some(Place::of(view.show(path), text, span));
            told
        }
        FlowError::NotShareable(packages) => {
            let named: Vec<String> = packages.iter().map(|(name, from)| format!("{name} ({from})")).collect();
            let headline = format!("only this machine has {}", join(&named));
            let next = "name a release, a commit or an archive of it instead, then yostel lock";
            tell(Code::NotShareable, headline, next).note("the lockfile is as it was")
        }
        FlowError::Republished(releases) => of_republished(releases, view),
        FlowError::Source(error) => of_source(error),
        FlowError::UnknownSource { source_name, .. } => {
            let next = format!("name it again: [sources.{source_name}] and below it folder = \"…\"");
            tell(Code::UnknownSource, headline, next)
                .or(Suggestion::run("yostel lock --fresh", "to take the package from another source"))
        }
        FlowError::Admit { package, version, place, seen, error } => {
            with_seen(of_admit(error, package, version.as_ref(), place), seen.as_ref(), view)
        }
        FlowError::NotInCache(packages) => {
            let names: Vec<String> =
                packages.iter().take(TOLD).map(|(name, version)| format!("{name} {version}")).collect();
            let more = packages.len().saturating_sub(TOLD);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            let names = if more.is_empty() { join(&names) } else { names.join(", ") };
            let headline = format!("the cache does not hold {names}{more}");
            tell(
                Code::NotInCache,
                headline,
                Suggestion::run("yostel install", "without --offline, to fetch what is missing"),
            )
            .note(format!("the cache is {}", view.cache.display()))
        }
        FlowError::NoArtifact { package, version, wanted, offered } => {
            let first = offered.first().map_or("PLATFORM", String::as_str);
            let headline = format!("{package} {version} is locked for {}, not for {wanted}", join(offered));
            tell(Code::NoArtifact, headline, format!("list \"{wanted}\" in platforms of [project], then yostel lock"))
                .or(Suggestion::command(format!("yostel install --platform {first}")))
        }
        FlowError::Deviates { package, agreed: Some(agreed) } => {
            let headline = format!("[agreed] has {package} at {agreed}");
            tell(
                Code::ManifestAgreed,
                headline,
                Suggestion::run(format!("yostel add {package}"), "to use the agreed constraint"),
            )
            .or(Suggestion::run(format!("yostel add {package} CONSTRAINT --agreed"), "to agree on something else"))
            .or(Suggestion::run(format!("yostel add {package} CONSTRAINT --why \"…\""), "to deviate from it"))
            .note("the manifest is as it was")
        }
        FlowError::Deviates { package, agreed: None } => {
            let headline = format!("[agreed] has no entry for {package}, so there is nothing to deviate from");
            tell(
                Code::ManifestAgreed,
                headline,
                Suggestion::run(format!("yostel add {package} CONSTRAINT"), "without --why"),
            )
        }
        FlowError::UnknownPurpose { purpose, known } => {
            let near = nearest(purpose.as_str(), known.iter().map(Purpose::as_str));
            let words: Vec<String> = known.iter().map(ToString::to_string).collect();
            let next = near.map_or_else(
                || Suggestion::command(format!("yostel add NAME --for {purpose}")),
                |near| format!("{near} exists, if that is the one").into(),
            );
            tell(Code::UnknownPurpose, format!("the project needs nothing for {purpose}"), next)
                .note(format!("it has needs for {}", join(&words)))
        }
        FlowError::NotInstalled => tell(
            Code::NotInstalled,
            "the locked packages are not installed here",
            Suggestion::command("yostel install"),
        ),
        FlowError::NotLocked { package, near } => {
            let next = match near {
                Some(near) => format!("{near} exists, if that is the one").into(),
                None => Suggestion::run(format!("yostel add {package}"), "to need it"),
            };
            tell(Code::NotLocked, headline, next)
        }
        FlowError::NoSuchVersion { known, .. } => {
            let next = match known.last() {
                Some(newest) => format!("name one of its releases, like {newest}").into(),
                None => Suggestion::run("yostel audit", "to see which packages no source knows any more"),
            };
            tell(Code::NoSuchRelease, headline, next).note(format!("its releases are {}", some_versions(known)))
        }
        FlowError::Patch { package, path, text, problem } => of_patch(problem, package, &view.show(path), text),
        FlowError::NotAltered { package, why } => of_not_altered(why, package),
        FlowError::Edit(EditError::NoSuchAlter(package)) => of_not_altered(&NotAltered::NotOpen, package),
        FlowError::Edit(EditError::NoSuchNeed(package)) => tell(
            Code::NoSuchNeed,
            format!("yostel.toml has no need named `{package}`"),
            Suggestion::run("yostel list --direct", "to see what it needs"),
        ),
        FlowError::Edit(EditError::Unreadable) => tell(
            Code::Manifest,
            "the manifest cannot be edited as it is",
            Suggestion::run("yostel lock", "to see what is wrong with it"),
        ),
        FlowError::Registry(error) => of_registry(error, view),
        FlowError::Store(error) => of_store(error),
    }
}

/// Tells that the work ended because somebody wanted it to.
pub fn stopped() -> Diagnostic {
    tell(Code::Stopped, "stopped; nothing was left half-done", "run the same command again to go on")
}

fn internal(headline: String) -> Diagnostic {
    tell(Code::Internal, headline, "report this with your yostel.toml; nothing was written")
        .note("this is a fault in yostel")
}

fn with_requirement(mut diagnostic: Diagnostic, place: Option<&RequirementPlace>) -> Diagnostic {
    if let Some(place) = place {
        diagnostic.notes.insert(0, Note::at(&place.file, place.line, place.requirement.to_string()));
    }
    diagnostic
}

/// Tells a name that cannot be one.
pub fn bad_name(error: &NameError) -> Diagnostic {
    let next: Suggestion = match &error.suggestion {
        Some(works) => format!("write {works}").into(),
        None => "names are lower-case words with digits, `-`, `.`, `_`, and levels by `/`".into(),
    };
    tell(Code::Name, error.to_string(), next)
}

/// Tells a constraint that is none.
pub fn bad_constraint(error: &ConstraintTextError, package: Option<&PackageName>) -> Diagnostic {
    // What is typed on a command line is typed again; what is in a file is written there.
    let write = |text: &str, purpose: &str| match package {
        Some(package) => Suggestion::run(format!("yostel add {package} '{text}'"), purpose),
        None => Suggestion::edit(text, format!("write \"{text}\", {purpose}")),
    };
    let signs = "comparisons are = != > >= < <= and ^, joined by `,` (and) or `||` (or)";
    let headline = error.to_string();
    match &error.problem {
        ConstraintProblem::BareVersion { readings: [exact, compatible] } => {
            let all = match exact.strip_suffix(".*") {
                Some(start) => format!("for every version that begins with {start}"),
                None => "for exactly that version".to_owned(),
            };
            tell(Code::Constraint, headline, write(exact, &all))
                .or(write(compatible, "for it and what is compatible with it"))
        }
        ConstraintProblem::Tilde { range } => tell(Code::Constraint, headline, write(range, "which says the range")),
        ConstraintProblem::Missing | ConstraintProblem::MissingVersion(_) => {
            tell(Code::Constraint, headline, write("^1.4.2", "for example; `*` accepts every release"))
        }
        ConstraintProblem::NotPlatforms(_) => {
            tell(Code::Constraint, headline, "write a system and an architecture: linux/*, */arm64 or !windows/*")
        }
        ConstraintProblem::TooLong(_)
        | ConstraintProblem::TooManyAlternatives
        | ConstraintProblem::VersionTooLong
        | ConstraintProblem::UnknownSign(_)
        | ConstraintProblem::NotAVersion
        | ConstraintProblem::MisplacedStar
        | ConstraintProblem::SingleBar
        | ConstraintProblem::MissingComma => {
            tell(Code::Constraint, headline, write(">=1.4, <3 || ^4", "for example")).note(signs)
        }
    }
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
