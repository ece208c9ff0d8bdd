//! From errors to words: the only room that knows them. Exhaustive on purpose: a new error does not compile until it
//! has its words. Codes are explained in docs/errors.md.

#[cfg(test)]
mod codes;
mod collision;
mod content;
mod dispute;
mod manifest;
mod patch;
mod place;

use yostel_answers::{Diagnostic, Place};
use yostel_documents::{EditError, NameError, PackageName, Purpose, nearest};
use yostel_flows::{FlowError, ForeignProblem, NotAltered, PathProblem, RulePlace, WishPlace};
use yostel_versions::{AcceptError, AcceptProblem, BindError};

pub(crate) use collision::story;
use collision::{of_collision, some_versions};
pub(crate) use content::changes_told;
use content::{of_admit, of_republished, with_seen};
pub(crate) use dispute::dispute_words;
use dispute::of_disputes;
use manifest::{of_lockfile, of_manifest, of_stale, of_workspace};
use patch::{of_not_altered, of_patch};
use place::{of_git, of_io, of_registry, of_source, of_store};

use crate::call::Call;
use crate::render::join;

/// How many of a kind are told in one message.
const TOLD: usize = 5;

/// How many lines of differing files are told in one message.
const TOLD_LINES: usize = 12;

fn tell(code: &'static str, headline: impl Into<String>, next: impl Into<String>) -> Diagnostic {
    Diagnostic { code, headline: headline.into(), place: None, notes: Vec::new(), next: vec![next.into()] }
}

/// Small steps of building a diagnostic.
trait Also {
    /// Adds a note.
    fn note(self, note: impl Into<String>) -> Self;
    /// Adds another thing to do.
    fn or(self, next: impl Into<String>) -> Self;
}

impl Also for Diagnostic {
    fn note(mut self, note: impl Into<String>) -> Self {
        self.notes.push(note.into());
        self
    }

    fn or(mut self, next: impl Into<String>) -> Self {
        self.next.push(next.into());
        self
    }
}

/// Tells an error; several failures are told one by one.
pub(crate) fn diagnostics_of(error: &FlowError, call: &Call) -> Vec<Diagnostic> {
    match error {
        FlowError::Several(errors) => errors.iter().flat_map(|error| diagnostics_of(error, call)).collect(),
        FlowError::Manifest { path, text, problems } => {
            let file = call.show(path);
            problems.iter().take(TOLD).map(|problem| of_manifest(problem, &file, text)).collect()
        }
        FlowError::Collision { collision, places, rules, proof } => {
            let all = std::iter::once(&**collision).chain(&collision.others);
            let mut told: Vec<Diagnostic> = all.map(|collision| of_collision(collision, places)).collect();
            if let (Some(folder), Some(last)) = (proof, told.last_mut()) {
                last.notes.push(format!("{} holds problem.cnf, variables.tsv and proof.drat", call.show(folder)));
            }
            if let Some(first) = told.first_mut() {
                let says = |rule: &RulePlace| {
                    format!("yostel.toml:{}: [{}] {} {}", rule.line, rule.table, rule.package, rule.says)
                };
                first.notes.extend(rules.iter().map(says));
            }
            // What to do is the same for all of them and is said once, at the end.
            for earlier in told.iter_mut().rev().skip(1) {
                earlier.next = vec!["this is a separate collision; the step at the end is for all of them".into()];
            }
            told
        }
        other => vec![diagnostic_of(other, call)],
    }
}

fn diagnostic_of(error: &FlowError, call: &Call) -> Diagnostic {
    // Long: an arm an error, so that a new error does not compile until it has its words.
    let headline = error.to_string();
    match error {
        FlowError::Several(_) | FlowError::Manifest { .. } => tell("manifest", headline, "see above"),
        FlowError::Workspace { path, text, span, problem } => of_workspace(problem, &call.show(path), text, span),
        FlowError::NoSuchProject { name, known } => {
            let near = nearest(name.as_str(), known.iter().map(PackageName::as_str));
            let known: Vec<String> = known.iter().map(ToString::to_string).collect();
            let next = near.map_or_else(
                || "name a project of this workspace".to_owned(),
                |near| format!("{near} exists, if that is the one"),
            );
            tell("no-such-project", headline, next).note(format!("the projects are {}", join(&known)))
        }
        FlowError::Path { package, problem: PathProblem::NoFolder, .. } => {
            tell("path", headline, format!("name a folder that exists as the `path` of {package}"))
        }
        FlowError::Path { problem: PathProblem::OtherName(found), .. } => {
            tell("path", headline, format!("need it as {found}, which is what its manifest says"))
        }
        FlowError::Git { package, commit, error } => of_git(error, package, commit.as_deref()),
        FlowError::Archive { package, .. } => {
            tell("archive-missing", headline, format!("correct `archive` of {package}"))
                .or("get the archive back at that address; one with its digest elsewhere will do too")
        }
        FlowError::Foreign { problem, .. } => tell(
            "foreign-manifest",
            headline,
            match problem {
                ForeignProblem::OtherName(found) => format!("need it as {found}"),
                ForeignProblem::Unfit(_) => "take another commit, and tell whoever keeps the repository".into(),
                ForeignProblem::Manifest(_) => "take another commit or archive, one with a manifest in order".into(),
                ForeignProblem::Place(needed, place) => {
                    format!("say the place in your manifest too: {needed}, from {place}")
                }
            },
        ),
        FlowError::NoProject(_) => tell("no-project", headline, "yostel init, to start one here")
            .or("yostel -C FOLDER …, to work on one elsewhere"),
        FlowError::Read { path, cause } => of_io("cannot-read", format!("{}: {cause}", call.show(path)), cause),
        FlowError::OtherTool { accept, .. } => {
            let or = "change `yostel = …` in [project], if this one will do after all";
            tell("other-tool", headline, format!("install a yostel version that {accept} accepts")).or(or)
        }
        FlowError::AlreadyAProject(path) => {
            let headline = format!("{} is there already", call.show(path));
            tell("already-a-project", headline, "yostel add NAME, to add a need to it")
        }
        FlowError::NoLockfile(path) => {
            tell("lockfile-missing", format!("there is no {}", call.show(path)), "yostel lock, to resolve and write it")
        }
        FlowError::Lockfile { path, text, error } => of_lockfile(error, &call.show(path), text),
        FlowError::Stale(differences) => of_stale(differences),
        FlowError::NoSources => tell(
            "no-source",
            "the manifest names no source to get packages from",
            "add to yostel.toml: [sources.station] and below it folder = \"../station\"",
        ),
        FlowError::UnknownPackage { package, wish, near, sources } => {
            let sources: Vec<String> = sources.iter().map(ToString::to_string).collect();
            let next = match near {
                Some(near) => format!("{near} exists, if that is the one"),
                None => "name the source that has it in [sources], or correct the name".to_owned(),
            };
            let diagnostic =
                tell("unknown-package", format!("no source has {package} (asked: {})", join(&sources)), next);
            with_wish(diagnostic, wish.as_deref())
        }
        FlowError::Unreadable { package, accept, wish, cause } => {
            with_wish(of_bind(cause, package, accept.as_str()), wish.as_deref())
        }
        FlowError::AdmitsNothing { package, accept, known } => {
            let next = match known.last() {
                Some(newest) => format!("yostel add {package} '^{newest}', for what is compatible with the newest"),
                None => "wait for a release, or take another package".to_owned(),
            };
            tell("no-releases-accepted", format!("no release of {package} meets {accept}"), next)
                .note(format!("its releases are {}", some_versions(known)))
                .note("the manifest is as it was")
        }
        FlowError::Collision { collision, places, .. } => of_collision(collision, places),
        FlowError::Kit { path, error } => {
            let next = "copy the file again, or save it again where it came from";
            let told = tell("kit", format!("{} cannot be used: {error}", call.show(path)), next);
            told.note("the cache is as it was")
        }
        FlowError::OutOfTime(_) => tell("out-of-time", headline, "give it more time: --time-limit 10m")
            .or("narrow the constraints of what you need, so that there is less to search through"),
        FlowError::WrongAnswer(_) => internal(headline),
        FlowError::Variable { package, .. } => tell(
            "variable-refused",
            headline,
            format!("permit it, below [policy] of yostel.toml: trusted-variables = [\"{package}\"]"),
        )
        .or(format!("yostel explain {package}, to see through whom it came")),
        FlowError::Separator(_) => tell("separator", headline, "move the project to a folder without `:` in its path"),
        FlowError::Disputed(disputes) => of_disputes(disputes),
        FlowError::NotReadableBack { longest: Some((package, who, length)), problem } => tell(
            "lockfile-unreadable",
            format!("{who} needs {package} with a constraint of {length} bytes, which no lockfile can hold"),
            format!("agree on a shorter constraint for {package}, or force or swap it"),
        )
        .note(problem.clone())
        .note("the lockfile is as it was"),
        FlowError::NotReadableBack { longest: None, .. } => internal(headline),
        FlowError::ForcedOutsideAgreed { package, path, text, span, .. } => {
            let next = format!("force a version of {package} that is agreed, or agree on one that is forced");
            let mut told = tell("manifest-contradiction", headline, next).note("the lockfile is as it was");
            told.place = Some(Place::of(call.show(path), text, span));
            told
        }
        FlowError::NotShareable(packages) => {
            let named: Vec<String> = packages.iter().map(|(name, from)| format!("{name} ({from})")).collect();
            let headline = format!("only this machine has {}", join(&named));
            let next = "name a release, a commit or an archive of it instead, then yostel lock";
            tell("not-shareable", headline, next).note("the lockfile is as it was")
        }
        FlowError::Republished(releases) => of_republished(releases, call),
        FlowError::Source(error) => of_source(error),
        FlowError::UnknownSource { source_name, .. } => {
            let next = format!("name it again: [sources.{source_name}] and below it folder = \"…\"");
            tell("unknown-source", headline, next).or("yostel lock --fresh, to take the package from another source")
        }
        FlowError::Admit { package, version, place, seen, error } => {
            with_seen(of_admit(error, package, version.as_ref(), place), seen.as_ref(), call)
        }
        FlowError::NotInCache(packages) => {
            let names: Vec<String> =
                packages.iter().take(TOLD).map(|(name, version)| format!("{name} {version}")).collect();
            let more = packages.len().saturating_sub(TOLD);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            let names = if more.is_empty() { join(&names) } else { names.join(", ") };
            let headline = format!("the cache does not hold {names}{more}");
            tell("not-in-cache", headline, "yostel install, without --offline, to fetch what is missing")
                .note(format!("the cache is {}", call.settings.cache.display()))
        }
        FlowError::NoArtifact { package, version, wanted, offered } => {
            let first = offered.first().map_or("PLATFORM", String::as_str);
            let headline = format!("{package} {version} is locked for {}, not for {wanted}", join(offered));
            tell("no-artifact", headline, format!("list \"{wanted}\" in platforms of [project], then yostel lock"))
                .or(format!("yostel install --platform {first}"))
        }
        FlowError::Deviates { package, agreed: Some(agreed) } => {
            let headline = format!("[agreed] has {package} at {agreed}");
            tell("manifest-agreed", headline, format!("yostel add {package}, to use the agreed constraint"))
                .or(format!("yostel add {package} CONSTRAINT --agreed, to agree on something else"))
                .or(format!("yostel add {package} CONSTRAINT --why \"…\", to deviate from it"))
                .note("the manifest is as it was")
        }
        FlowError::Deviates { package, agreed: None } => {
            let headline = format!("[agreed] has no entry for {package}, so there is nothing to deviate from");
            tell("manifest-agreed", headline, format!("yostel add {package} CONSTRAINT, without --why"))
        }
        FlowError::UnknownPurpose { purpose, known } => {
            let near = nearest(purpose.as_str(), known.iter().map(Purpose::as_str));
            let words: Vec<String> = known.iter().map(ToString::to_string).collect();
            let next = near.map_or_else(
                || format!("yostel add NAME --for {purpose}"),
                |near| format!("{near} exists, if that is the one"),
            );
            tell("unknown-purpose", format!("the project needs nothing for {purpose}"), next)
                .note(format!("it has needs for {}", join(&words)))
        }
        FlowError::NotInstalled => {
            tell("not-installed", "the locked packages are not installed here", "yostel install")
        }
        FlowError::NotLocked { package, near } => {
            let next = match near {
                Some(near) => format!("{near} exists, if that is the one"),
                None => format!("yostel add {package}, to need it"),
            };
            tell("not-locked", headline, next)
        }
        FlowError::NoSuchVersion { known, .. } => {
            let next = match known.last() {
                Some(newest) => format!("name one of its releases, like {newest}"),
                None => "yostel audit, to see which packages no source knows any more".to_owned(),
            };
            tell("no-such-release", headline, next).note(format!("its releases are {}", some_versions(known)))
        }
        FlowError::Patch { package, path, text, problem } => of_patch(problem, package, &call.show(path), text),
        FlowError::NotAltered { package, why } => of_not_altered(why, package),
        FlowError::Edit(EditError::NoSuchAlter(package)) => of_not_altered(&NotAltered::NotOpen, package),
        FlowError::Edit(EditError::NoSuchNeed(package)) => tell(
            "no-such-need",
            format!("yostel.toml has no need named `{package}`"),
            "yostel list --direct, to see what it needs",
        ),
        FlowError::Edit(EditError::Unreadable) => {
            tell("manifest", "the manifest cannot be edited as it is", "yostel lock, to hear what is wrong with it")
        }
        FlowError::Registry(error) => of_registry(error, call),
        FlowError::Store(error) => of_store(error),
    }
}

fn internal(headline: String) -> Diagnostic {
    tell("internal", headline, "report this with your yostel.toml; nothing was written")
        .note("this is a fault in yostel")
}

fn with_wish(mut diagnostic: Diagnostic, place: Option<&WishPlace>) -> Diagnostic {
    if let Some(place) = place {
        diagnostic.notes.insert(0, format!("{}:{}: {}", place.file, place.line, place.wish));
    }
    diagnostic
}

/// Tells a name that cannot be one.
pub(crate) fn bad_name(error: &NameError) -> Diagnostic {
    let next = match &error.suggestion {
        Some(works) => format!("write {works}"),
        None => "names are lower-case words with digits, `-`, `.`, `_`, and levels by `/`".to_owned(),
    };
    tell("name", error.to_string(), next)
}

/// Tells a constraint that is none.
pub(crate) fn bad_accept(error: &AcceptError, package: Option<&PackageName>) -> Diagnostic {
    let write = |text: &str| match package {
        Some(package) => format!("yostel add {package} '{text}'"),
        None => format!("write \"{text}\""),
    };
    let signs = "comparisons are = != > >= < <= and ^, joined by `,` (and) or `||` (or)";
    let headline = error.to_string();
    match &error.problem {
        AcceptProblem::BareVersion { readings: [exact, compatible] } => {
            tell("constraint", headline, format!("{}, for exactly that version", write(exact)))
                .or(format!("{}, for it and what is compatible with it", write(compatible)))
        }
        AcceptProblem::Tilde { range } => {
            tell("constraint", headline, format!("{}, which says the range", write(range)))
        }
        AcceptProblem::Missing | AcceptProblem::MissingVersion(_) => {
            tell("constraint", headline, format!("{}, for example; `*` accepts every release", write("^1.4.2")))
        }
        AcceptProblem::NotPlatforms(_) => {
            tell("constraint", headline, "write a system and an architecture: linux/*, */arm64 or !windows/*")
        }
        AcceptProblem::TooLong(_)
        | AcceptProblem::TooManyAlternatives
        | AcceptProblem::VersionTooLong
        | AcceptProblem::UnknownSign(_)
        | AcceptProblem::NotAVersion
        | AcceptProblem::MisplacedStar
        | AcceptProblem::SingleBar
        | AcceptProblem::MissingComma => {
            tell("constraint", headline, format!("{}, for example", write(">=1.4, <3 || ^4"))).note(signs)
        }
    }
}

fn of_bind(error: &BindError, package: &PackageName, accept: &str) -> Diagnostic {
    match error {
        BindError::Partial { sign, version, readings } => {
            let headline =
                format!("{package} {accept}: `{sign}{version}` leaves numbers out, and can be read in two ways");
            let mut diagnostic = tell("constraint", headline, format!("write \"{}\"", readings[0]));
            diagnostic.next.extend(readings.iter().skip(1).map(|reading| format!("write \"{reading}\"")));
            diagnostic
        }
        BindError::Version(error) => {
            let next = match &error.suggestion {
                Some(works) => format!("write {works}"),
                None => format!("see what versions {package} has: yostel registry list REGISTRY"),
            };
            tell("version", format!("{package} {accept}: {error}"), next)
        }
    }
}

#[cfg(test)]
mod tests;
