//! From errors to words: the only file that knows them. Exhaustive on purpose: a new error does not compile until it
//! has its words. Codes are explained in docs/errors.md.

use std::error::Error;
use std::io;

use jiff::Timestamp;
use yostel_core::{
    ANY_PLATFORM, AcceptError, AcceptProblem, BindError, Collision, Diagnostic, Difference, EditError, Hunk,
    LockfileError, ManifestProblem, ManifestProblemKind, Mark, NameError, PackageName, Place, Purpose, Rejected,
    RejectedReason, Requirement, Version, nearest,
};
use yostel_flows::{FlowError, NotAltered, PatchProblem, Republished, RulePlace, Seen, WishPlace};
use yostel_registry::RegistryError;
use yostel_sources::{SourceError, SourceErrorKind};
use yostel_store::{AdmitError, AlterError, FileChange, StoreError, UnpackRefusal};

use crate::context::Context;
use crate::render::{age, count, join};

/// How many of a kind are told in one message.
const TOLD: usize = 5;

/// How many lines of differing files are told in one message.
const TOLD_LINES: usize = 12;

/// Every code, for the tests that hold the page and the words together.
#[cfg(test)]
pub(crate) const CODES: &[&str] = &[
    "ambiguous-source",
    "already-a-project",
    "already-published",
    "archive-differs",
    "archive-refused",
    "bad-epoch",
    "cannot-read",
    "cannot-run",
    "cannot-write",
    "collision",
    "constraint",
    "disk-full",
    "internal",
    "kit",
    "lockfile-broken",
    "lockfile-changed",
    "lockfile-later-format",
    "lockfile-merge",
    "lockfile-missing",
    "lockfile-stale",
    "manifest",
    "manifest-agreed",
    "manifest-contradiction",
    "manifest-missing-key",
    "manifest-syntax",
    "manifest-type",
    "manifest-unknown-key",
    "manifest-value",
    "name",
    "needs-itself",
    "no-artifact",
    "no-cache-folder",
    "no-folder",
    "no-permission",
    "no-project",
    "no-releases-admitted",
    "no-source",
    "no-such-need",
    "no-such-registry",
    "no-such-release",
    "no-such-repair",
    "no-version",
    "not-altered",
    "not-in-cache",
    "not-installed",
    "not-locked",
    "numbering",
    "other-tool",
    "patch-rejected",
    "patch-syntax",
    "patch-unreadable",
    "registry-broken",
    "registry-later-format",
    "registry-missing",
    "registry-occupied",
    "out-of-time",
    "republished",
    "source-archive-missing",
    "source-broken",
    "source-missing",
    "tree-differs",
    "unknown-package",
    "unknown-purpose",
    "unknown-source",
    "version",
];

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
pub(crate) fn diagnostics_of(error: &FlowError, context: &Context) -> Vec<Diagnostic> {
    match error {
        FlowError::Several(errors) => errors.iter().flat_map(|error| diagnostics_of(error, context)).collect(),
        FlowError::Manifest { path, text, problems } => {
            let file = context.show(path);
            problems.iter().take(TOLD).map(|problem| of_manifest(problem, &file, text)).collect()
        }
        FlowError::Collision { collision, places, rules, proof } => {
            let all = std::iter::once(&**collision).chain(&collision.others);
            let mut told: Vec<Diagnostic> = all.map(|collision| of_collision(collision, places)).collect();
            if let (Some(folder), Some(last)) = (proof, told.last_mut()) {
                last.notes.push(format!("{} holds problem.cnf, variables.tsv and proof.drat", context.show(folder)));
            }
            if let Some(first) = told.first_mut() {
                let says = |rule: &RulePlace| {
                    format!("yostel.toml:{}: [{}] {} {}", rule.line, rule.table, rule.package, rule.says)
                };
                first.notes.extend(rules.iter().map(says));
            }
            // What to do is the same for all of them and is said once, at the end.
            for earlier in told.iter_mut().rev().skip(1) {
                earlier.next = vec!["see below; this one collides by itself".into()];
            }
            told
        }
        other => vec![diagnostic_of(other, context)],
    }
}

fn diagnostic_of(error: &FlowError, context: &Context) -> Diagnostic {
    let headline = error.to_string();
    match error {
        FlowError::Several(_) | FlowError::Manifest { .. } => tell("manifest", headline, "see above"),
        FlowError::NoProject(_) => tell("no-project", headline, "yostel init, to start one here")
            .or("yostel -C FOLDER …, to work on one elsewhere"),
        FlowError::Read { path, cause } => of_io("cannot-read", format!("{}: {cause}", context.show(path)), cause),
        FlowError::OtherTool { accept, .. } => {
            let or = "change `yostel = …` in [project], if this one will do after all";
            tell("other-tool", headline, format!("install a yostel that {accept} admits")).or(or)
        }
        FlowError::AlreadyAProject(path) => {
            let headline = format!("{} is there already", context.show(path));
            tell("already-a-project", headline, "yostel add NAME, to add a need to it")
        }
        FlowError::NoLockfile(path) => tell(
            "lockfile-missing",
            format!("there is no {}", context.show(path)),
            "yostel lock, to resolve and write it",
        ),
        FlowError::Lockfile { path, text, error } => of_lockfile(error, &context.show(path), text),
        FlowError::Stale(differences) => of_stale(differences),
        FlowError::NoSources => tell(
            "no-source",
            "the manifest names no source to get packages from",
            "add to yostel.toml: [sources.depot] and below it folder = \"../depot\"",
        ),
        FlowError::UnknownPackage { package, wish, near, sources } => {
            let sources: Vec<String> = sources.iter().map(ToString::to_string).collect();
            let next = match near {
                Some(near) => format!("write {near}, if that was meant"),
                None => "name the source that has it in [sources], or correct the name".to_owned(),
            };
            let diagnostic = tell("unknown-package", format!("{package} is in no source ({})", join(&sources)), next);
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
            tell("no-releases-admitted", format!("{package} {accept} admits no release that there is"), next)
                .note(format!("there is {}", some_versions(known)))
                .note("the manifest is as it was")
        }
        FlowError::Collision { collision, places, .. } => of_collision(collision, places),
        FlowError::Kit { path, error } => {
            let next = "copy the file again, or save it again where it came from";
            let told = tell("kit", format!("{} is of no use: {error}", context.show(path)), next);
            told.note("the cache is as it was")
        }
        FlowError::OutOfTime(_) => tell("out-of-time", headline, "give it more time: --time-limit 10m")
            .or("narrow the constraints of what you need, so that there is less to search through"),
        FlowError::WrongAnswer(_) => internal(headline),
        FlowError::Republished(releases) => of_republished(releases, context),
        FlowError::Source(error) => of_source(error),
        FlowError::UnknownSource { source_name, .. } => {
            let next = format!("name it again: [sources.{source_name}] and below it folder = \"…\"");
            tell("unknown-source", headline, next).or("yostel lock --fresh, to take the package from another source")
        }
        FlowError::Admit { package, version, place, seen, error } => {
            with_seen(of_admit(error, package, version, place), seen.as_ref(), context)
        }
        FlowError::NotInCache(packages) => {
            let names: Vec<String> =
                packages.iter().take(TOLD).map(|(name, version)| format!("{name} {version}")).collect();
            let more = packages.len().saturating_sub(TOLD);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            let names = if more.is_empty() { join(&names) } else { names.join(", ") };
            let headline = format!("the cache does not hold {names}{more}");
            tell("not-in-cache", headline, "yostel install, without --offline, to fetch what is missing")
                .note(format!("the cache is {}", context.settings.cache.display()))
        }
        FlowError::NoArtifact { package, version, wanted, offered } => {
            let first = offered.first().map_or("PLATFORM", String::as_str);
            let headline = format!("{package} {version} is locked for {}, not for {wanted}", join(offered));
            tell("no-artifact", headline, format!("list \"{wanted}\" in platforms of [project], then yostel lock"))
                .or(format!("yostel install --platform {first}"))
        }
        FlowError::Deviates { package, agreed: Some(agreed) } => {
            let headline = format!("{package} is agreed to be {agreed}");
            tell("manifest-agreed", headline, format!("yostel add {package}, to need what is agreed"))
                .or(format!("yostel add {package} CONSTRAINT --agreed, to agree on something else"))
                .or(format!("yostel add {package} CONSTRAINT --why \"…\", to deviate from it"))
                .note("the manifest is as it was")
        }
        FlowError::Deviates { package, agreed: None } => {
            let headline = format!("nothing is agreed on {package}, so there is nothing to deviate from");
            tell("manifest-agreed", headline, format!("yostel add {package} CONSTRAINT, without --why"))
        }
        FlowError::UnknownPurpose { purpose, known } => {
            let near = nearest(purpose.as_str(), known.iter().map(Purpose::as_str));
            let words: Vec<String> = known.iter().map(ToString::to_string).collect();
            let next = near.map_or_else(
                || format!("yostel add NAME --for {purpose}"),
                |near| format!("write {near}, if that was meant"),
            );
            tell("unknown-purpose", format!("the project needs nothing for {purpose}"), next)
                .note(format!("it has needs for {}", join(&words)))
        }
        FlowError::NotInstalled => {
            tell("not-installed", "the locked packages are not installed here", "yostel install")
        }
        FlowError::NotLocked { package, near } => {
            let next = match near {
                Some(near) => format!("write {near}, if that was meant"),
                None => format!("yostel add {package}, to need it"),
            };
            tell("not-locked", headline, next)
        }
        FlowError::NoSuchVersion { known, .. } => {
            let next = match known.last() {
                Some(newest) => format!("name one of its releases, like {newest}"),
                None => "yostel audit, to see which packages no source knows any more".to_owned(),
            };
            tell("no-such-release", headline, next).note(format!("there is {}", some_versions(known)))
        }
        FlowError::Patch { package, path, text, problem } => of_patch(problem, package, &context.show(path), text),
        FlowError::NotAltered { package, why } => of_not_altered(why, package),
        FlowError::Edit(EditError::NoSuchAlter(package)) => of_not_altered(&NotAltered::NotOpen, package),
        FlowError::Edit(EditError::NoSuchNeed(package)) => tell(
            "no-such-need",
            format!("the manifest does not need {package}"),
            "yostel list --direct, to see what it needs",
        ),
        FlowError::Edit(EditError::Unreadable) => {
            tell("manifest", "the manifest cannot be edited as it is", "yostel lock, to hear what is wrong with it")
        }
        FlowError::Registry(error) => of_registry(error, context),
        FlowError::Store(error) => of_store(error),
    }
}

fn internal(headline: String) -> Diagnostic {
    tell("internal", headline, "report this with your yostel.toml; nothing was written")
        .note("this is a fault in yostel")
}

fn with_wish(mut diagnostic: Diagnostic, place: Option<&WishPlace>) -> Diagnostic {
    if let Some(place) = place {
        diagnostic.notes.insert(0, format!("yostel.toml:{}: {}", place.line, place.wish));
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
    let signs = "signs are = != > >= < <= and ^, joined by `,` (and) or `||` (or)";
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
            tell("constraint", headline, format!("{}, for example; `*` admits every release", write("^1.4.2")))
        }
        AcceptProblem::TooLong
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
                format!("{package} {accept}: `{sign}{version}` leaves positions out and can be read in two ways");
            let mut diagnostic = tell("constraint", headline, format!("write \"{}\"", readings[0]));
            diagnostic.next.extend(readings.iter().skip(1).map(|reading| format!("write \"{reading}\"")));
            diagnostic
        }
        BindError::Version(error) => {
            let next = match &error.suggestion {
                Some(works) => format!("write {works}"),
                None => format!("see what versions {package} has: yostel registry contents FOLDER"),
            };
            tell("version", format!("{package} {accept}: {error}"), next)
        }
    }
}

fn of_manifest(problem: &ManifestProblem, file: &str, text: &str) -> Diagnostic {
    let headline = problem.to_string();
    let mut diagnostic = match &problem.kind {
        ManifestProblemKind::Syntax(_) => {
            tell("manifest-syntax", headline, "correct the line; values are in quotes, tables in [ ]")
        }
        ManifestProblemKind::UnknownKey { key, near, known, .. } => {
            let next = match near {
                Some(near) => format!("write `{near}` instead of `{}`", key.escape_debug()),
                None => {
                    format!("the keys here are {}", join(&known.iter().map(|k| format!("`{k}`")).collect::<Vec<_>>()))
                }
            };
            tell("manifest-unknown-key", headline, next)
        }
        ManifestProblemKind::WrongType { expected, .. } => tell("manifest-type", headline, format!("write {expected}")),
        ManifestProblemKind::Missing { example, .. } => tell(
            "manifest-missing-key",
            headline,
            format!("write, for example: {}", example.replace('\n', " and below it ")),
        ),
        ManifestProblemKind::Name(error) => bad_name(error),
        ManifestProblemKind::Accept(error) => bad_accept(error, None),
        ManifestProblemKind::Version(error) => {
            let next = error.suggestion.as_ref().map(|works| format!("write \"{works}\""));
            tell("version", headline, next.unwrap_or_else(|| "write a version like \"1.4.2\"".into()))
        }
        ManifestProblemKind::Numbering(_) => {
            tell("manifest-value", headline, "write { order = \"semver\", breaks-at = 1 }, for example")
        }
        ManifestProblemKind::Value { reason, .. } => tell("manifest-value", headline, format!("correct it: {reason}")),
        ManifestProblemKind::NotAgreed(package) => {
            tell("manifest-agreed", headline, format!("add to [agreed]: {package} = \"^1\", or whatever will do"))
        }
        ManifestProblemKind::Deviates { package, agreed } => {
            tell("manifest-agreed", headline, format!("write {package} = \"agreed\", which is {agreed}"))
                .or("say why: { accept = \"…\", why = \"…\" }")
        }
        ManifestProblemKind::SwapCircle(_) => {
            tell("manifest-contradiction", headline, "remove one of the swaps that lead back")
        }
        ManifestProblemKind::ForcedAndSwapped(package) => {
            tell("manifest-contradiction", headline, format!("remove {package} from [force], or from [swap]"))
        }
        ManifestProblemKind::NeedsItself(_) => tell("needs-itself", headline, "remove the line"),
    };
    diagnostic.place = Some(Place::of(file, text, &problem.span));
    diagnostic
}

fn of_lockfile(error: &LockfileError, file: &str, text: &str) -> Diagnostic {
    let place = |span| Some(Place::of(file, text, span));
    match error {
        LockfileError::MergeMarks { span } => Diagnostic {
            place: place(span),
            ..tell(
                "lockfile-merge",
                error.to_string(),
                "take one side whole: git checkout --theirs yostel.lock, then: yostel lock",
            )
        },
        LockfileError::NoSeal => tell(
            "lockfile-changed",
            format!("{file} has no seal, so nothing vouches for it"),
            "get it back from version control",
        )
        .or("yostel lock --fresh, to resolve anew"),
        LockfileError::SealDiffers { written, found, span } => {
            let mut diagnostic =
                tell("lockfile-changed", error.to_string(), "get it back from version control, then: yostel lock")
                    .note(format!("its seal says {written}"))
                    .note(format!("its content has {found}"))
                    .or("yostel lock --fresh, to resolve anew");
            diagnostic.place = place(span);
            diagnostic
        }
        LockfileError::Format { .. } => {
            tell("lockfile-later-format", error.to_string(), "use the yostel that wrote it, or a newer one")
        }
        LockfileError::Part { span, .. } => {
            let headline = format!("{file} cannot be used: {error}");
            let mut diagnostic = tell("lockfile-broken", headline, "get it back from version control")
                .or("yostel lock --fresh, to resolve anew");
            if !span.is_empty() {
                diagnostic.place = place(span);
            }
            diagnostic
        }
    }
}

fn of_stale(differences: &[Difference]) -> Diagnostic {
    let mut diagnostic = tell(
        "lockfile-stale",
        "yostel.lock no longer fits yostel.toml",
        "yostel lock, to bring it up to date with the fewest moves",
    );
    diagnostic.notes = differences.iter().take(TOLD).map(ToString::to_string).collect();
    if differences.len() > TOLD {
        diagnostic.notes.push(format!("and {} more", differences.len() - TOLD));
    }
    diagnostic
}

fn some_versions(versions: &[Version]) -> String {
    let shown: Vec<String> = versions.iter().rev().take(TOLD).map(ToString::to_string).collect();
    match versions.len().checked_sub(TOLD).filter(|more| *more > 0) {
        _ if versions.is_empty() => "nothing".into(),
        None => join(&shown),
        Some(more) => format!("{} and {more} older", shown.join(", ")),
    }
}

/// Tells a collision as a story: the wishes, then each fact with what it admits, in the order one follows them.
fn of_collision(collision: &Collision, places: &[WishPlace]) -> Diagnostic {
    let headline = match &collision.wishes[..] {
        [one] => format!("{one}: no release can meet that"),
        wishes => {
            let names: Vec<String> = wishes.iter().map(|w| format!("{} {}", w.package, w.accept)).collect();
            format!("{} cannot be met together", join(&names))
        }
    };
    let next = "yostel settle, for the smallest edits that end this, each proved by resolving it";
    let mut diagnostic = tell("collision", headline, next);
    diagnostic.notes = story(collision, places, None);
    if !collision.minimal {
        diagnostic.notes.push("not all of this may matter: to find out would have taken too long".into());
    }
    if let Some(clash) = collision.roles.first() {
        let newest = collision.reach.iter().filter(|reach| reach.package == clash.other);
        let newest = newest.filter_map(|reach| reach.versions.last()).max();
        let accept = newest.map(|version| format!(", accept = \"^{version}\"")).unwrap_or_default();
        let swap = format!(
            "{} = {{ for = \"{}\"{accept}, why = \"…\" }} in [swap], to have one of them only",
            clash.one, clash.other
        );
        diagnostic.next.push(swap);
        diagnostic.next.push(format!("share-roles = [\"{}\"] in [policy], if both may be there", clash.role));
    }
    if collision.reach.iter().any(|reach| reach.versions.is_empty() && reach.barred > 0) {
        diagnostic.next.push("a later --as-of or a smaller minimum-age, where that is what keeps releases away".into());
    }
    diagnostic
}

/// Tells a collision line by line: the wishes with their places, then each fact with what it admits. The wish that only
/// stands for a question is told as such.
pub(crate) fn story(collision: &Collision, places: &[WishPlace], asked: Option<&Requirement>) -> Vec<String> {
    let mut lines: Vec<String> =
        asked.iter().map(|wish| format!("asked for: {} {}", wish.package, wish.accept)).collect();
    let line = |wish: &Requirement| places.iter().find(|place| place.wish == *wish).map(|place| place.line);
    let admits = |package: &PackageName, accept: &yostel_core::Accept| {
        let reach = collision.reach.iter().find(|reach| reach.package == *package && reach.accept == *accept);
        match reach {
            Some(reach) if !reach.known => format!("; no source has {package}"),
            Some(reach) if reach.versions.is_empty() && reach.unserved.0 > 0 => {
                let platforms: Vec<String> = reach.unserved.1.iter().cloned().collect();
                let verb = if reach.unserved.0 == 1 { "offers" } else { "offer" };
                let releases = count(reach.unserved.0, "release");
                format!("; {releases} would be that, but {verb} nothing for {}", join(&platforms))
            }
            Some(reach) if reach.versions.is_empty() && reach.barred > 0 => {
                format!("; {} would be that, withdrawn or published too late", count(reach.barred, "release"))
            }
            Some(reach) if reach.versions.is_empty() => "; no release is that".to_owned(),
            Some(reach) => format!("; that is {}", some_versions(&reach.versions)),
            None => String::new(),
        }
    };
    for wish in &collision.wishes {
        if asked == Some(wish) {
            continue;
        }
        let place = line(wish).map(|line| format!("yostel.toml:{line}: ")).unwrap_or_default();
        lines.push(format!("{place}{wish}{}", admits(&wish.package, &wish.accept)));
    }
    for fact in collision.facts.iter().take(2 * TOLD) {
        let versions: Vec<String> = fact.versions.iter().map(ToString::to_string).collect();
        let versions = if versions.len() > 3 {
            format!("{} to {} ({} releases)", versions[0], versions[versions.len() - 1], versions.len())
        } else {
            join(&versions)
        };
        let verb = if fact.versions.len() == 1 { "needs" } else { "need" };
        let reach = admits(&fact.package, &fact.accept);
        lines.push(format!("{} {versions} {verb} {} {}{reach}", fact.asker, fact.package, fact.accept));
    }
    for clash in &collision.roles {
        lines.push(format!("{} and {} both fill the role {}", clash.one, clash.other, clash.role));
    }
    for apart in &collision.lines {
        let (apart_lines, position) = (join(&apart.lines), apart.breaks_at);
        let package = &apart.package;
        lines.push(format!(
            "{apart_lines} of {package} are different lines: its numbering breaks at position {position}"
        ));
    }
    if collision.facts.len() > 2 * TOLD {
        lines.push(format!("and {} more facts of this kind", collision.facts.len() - 2 * TOLD));
    }
    lines
}

fn of_source(error: &SourceError) -> Diagnostic {
    let source = &error.source_name;
    let headline = error.to_string();
    match &error.kind {
        SourceErrorKind::Missing(_) => {
            tell("source-missing", headline, format!("correct folder = … in [sources.{source}] of yostel.toml"))
        }
        SourceErrorKind::NotARegistry(path) => {
            tell("source-missing", headline, format!("correct folder = … in [sources.{source}] of yostel.toml"))
                .or(format!("yostel registry create {}, if one should be there", path.display()))
        }
        SourceErrorKind::Format { .. } => tell("registry-later-format", headline, "use a newer yostel"),
        SourceErrorKind::Document { path, cause, .. } => tell(
            "source-broken",
            headline,
            "get the file back from a copy of the registry, or publish the package again",
        )
        .note(format!("{}: {cause}", path.display())),
        SourceErrorKind::ArchiveMissing(_) => tell(
            "source-archive-missing",
            headline,
            "get the archive back from a copy of the registry, or lock another version",
        ),
        SourceErrorKind::Read { cause, .. } => of_io("source-broken", format!("{headline}: {cause}"), cause),
        SourceErrorKind::Ambiguous { package, .. } => {
            let place = format!("say whose it is, below [sources.{source}] (or the other): reserves = [\"{package}\"]");
            tell("ambiguous-source", headline, place).note("a name that two sources have could be a stranger's package")
        }
    }
}

fn of_admit(error: &AdmitError, package: &PackageName, version: &Version, place: &str) -> Diagnostic {
    let label = format!("{package} {version}");
    match error {
        AdmitError::ArchiveDiffers { expected, found, bytes, expected_bytes } => {
            let size = match bytes.cmp(expected_bytes) {
                std::cmp::Ordering::Equal => format!("both have {}", count(*bytes as usize, "byte")),
                std::cmp::Ordering::Less => {
                    format!("it has {bytes} bytes, {expected_bytes} were announced: it was cut short")
                }
                std::cmp::Ordering::Greater => format!("more than the {expected_bytes} bytes that were announced"),
            };
            tell(
                "archive-differs",
                format!("{label} is not the archive that was locked; nothing was installed"),
                "ask whoever keeps that source: its archive was changed or damaged",
            )
            .note(format!("locked {expected}"))
            .note(format!("found  {found} ({size})"))
            .note(format!("from   {place}"))
            .or("yostel install again, once the source is repaired")
        }
        AdmitError::TreeDiffers { expected, found } => tell(
            "tree-differs",
            format!("{label} does not unpack to the files that were locked; nothing was installed"),
            "ask whoever published it: its document and its archive do not belong together",
        )
        .note(format!("locked tree {expected}"))
        .note(format!("found  tree {found}"))
        .note(format!("from   {place}")),
        AdmitError::Refused(refusal) => {
            let why = match refusal {
                UnpackRefusal::UnknownFormat => "a file that is no archive, or a page of words in place of one",
                UnpackRefusal::Malformed(_) => "an archive that was cut short or damaged",
                UnpackRefusal::TooMuch { .. } => "an archive that fills the disk",
                UnpackRefusal::Leaves(_)
                | UnpackRefusal::LinkLeaves { .. }
                | UnpackRefusal::BelowLink(_)
                | UnpackRefusal::Kind { .. } => "an archive like this can overwrite files outside the project",
                UnpackRefusal::Name { .. } | UnpackRefusal::Twice(..) => {
                    "an archive like this unpacks differently elsewhere"
                }
            };
            tell(
                "archive-refused",
                format!("{label} is refused: {refusal}"),
                format!("do not use it, and ask whoever published it: {why}"),
            )
            .note(format!("from {place}"))
            .note("nothing was installed")
        }
        AdmitError::Read { bytes, cause } => {
            of_io("source-broken", format!("{label}: reading it broke off after {bytes} bytes: {cause}"), cause)
                .note(format!("from {place}"))
        }
        AdmitError::Store(error) => of_store(error),
    }
}

/// Tells releases that were published again: what was locked, what is offered now, and what differs.
fn of_republished(releases: &[Republished], context: &Context) -> Diagnostic {
    let names: Vec<String> =
        releases.iter().map(|release| format!("{} {}", release.package, release.version)).collect();
    let headline = format!("{} was published again with other content than is locked", join(&names));
    let here = releases.iter().all(|release| release.changes.is_some());
    let next = if here {
        "ask who published it why; what is locked still installs from the cache"
    } else {
        "ask who published it why; where a cache still has it, yostel cache save FILE there and yostel cache load FILE here"
    };
    let mut told = tell("republished", headline, next)
        .or("yostel lock --fresh, to take the new content (and newer versions) over")
        .note("a release should never change: whoever locked it before gets other files than you would");
    for release in releases.iter().take(TOLD) {
        if releases.len() > 1 {
            told = told.note(format!("{} {}:", release.package, release.version));
        }
        told = told.note(format!("locked {}", release.locked.digest));
        told = with_seen(told, release.seen.as_ref(), context);
        told = told.note(format!("found  {}", release.offered.digest)).note(format!("from   {}", release.place));
        told = match &release.changes {
            None => told.note("what differs cannot be told: the cache does not hold what is locked"),
            Some(changes) if changes.is_empty() => {
                told.note("the files in both are the same; only the archive was made anew")
            }
            Some(changes) => {
                let told = told.note("what differs, from locked to found:");
                changes_told(changes, TOLD_LINES).into_iter().fold(told, Also::note)
            }
        };
    }
    told
}

/// Adds when the right content was last here.
fn with_seen(told: Diagnostic, seen: Option<&Seen>, context: &Context) -> Diagnostic {
    let Some(seen) = seen else { return told };
    let ago = |second: i64| match Timestamp::from_second(second) {
        Ok(then) => match age(then, context.settings.now).as_str() {
            "today" => "today".to_owned(),
            age => format!("{age} ago"),
        },
        Err(_) => "some day".to_owned(),
    };
    let by = match context.show(&seen.by) {
        here if here.is_empty() || here == "." => "this project".to_owned(),
        there => there,
    };
    let (brought, used) = (ago(seen.brought), ago(seen.used));
    told.note(format!("seen   {brought}, brought here from {} by {by}; last used {used}", seen.from))
}

/// Tells what differs in files, in so many lines at most.
pub(crate) fn changes_told(changes: &[FileChange], most: usize) -> Vec<String> {
    let mut lines = Vec::new();
    let mut more = 0;
    for change in changes {
        if lines.len() >= most {
            more += 1;
            continue;
        }
        let unsaid = if change.patch.is_none() { ", which is not text" } else { "" };
        lines.push(format!("{}: {}{unsaid}", change.path, change.word()));
        let hunks = change.patch.iter().flat_map(|patch| &patch.hunks);
        let text: Vec<String> = hunks.flat_map(told_lines).collect();
        let room = most.saturating_sub(lines.len()).max(2);
        lines.extend(text.iter().take(room).cloned());
        if text.len() > room {
            lines.push(format!("    … and {} more of this file", count(text.len() - room, "line")));
        }
    }
    if more > 0 {
        lines.push(format!("and {} more", count(more, "file")));
    }
    lines
}

/// The lines of a hunk that go or come, and one of those around them on each side.
fn told_lines(hunk: &Hunk) -> Vec<String> {
    let changed = |at: usize| hunk.lines.get(at).is_some_and(|line| line.mark != Mark::Same);
    let mut number = hunk.old_start;
    let mut told = Vec::new();
    for (at, line) in hunk.lines.iter().enumerate() {
        let near = changed(at) || changed(at + 1) || at > 0 && changed(at - 1);
        let place = if line.mark == Mark::Added { String::new() } else { number.to_string() };
        number += usize::from(line.mark != Mark::Added);
        if near {
            told.push(format!("{place:>6} {} {}", line.mark.sign(), line.text.trim_end_matches('\n')));
        }
    }
    told
}

/// Tells a patch that cannot be used: where it is wrong, or which of its hunks fits nowhere.
fn of_patch(problem: &PatchProblem, package: &PackageName, file: &str, text: &str) -> Diagnostic {
    let drop = format!("yostel alter {package} --drop, to do without the patch");
    let at = |line: usize| {
        let start: usize = text.split_inclusive('\n').take(line.saturating_sub(1)).map(str::len).sum();
        let length = text[start..].lines().next().map_or(0, str::len);
        Place::of(file, text, &(start..start + length))
    };
    match problem {
        PatchProblem::Unreadable(cause) => {
            let next = format!("get {file} back from version control");
            tell("patch-unreadable", format!("the patch of {package} cannot be read: {cause}"), next)
                .or(drop)
                .note(format!("[alter] in yostel.toml names {file}"))
        }
        PatchProblem::Syntax(error) => {
            let headline = format!("{file} is no unified diff: {}", error.reason);
            let mut told = tell("patch-syntax", headline, "write it as `diff -u` does").or(drop);
            told.place = Some(at(error.line));
            told
        }
        PatchProblem::NotMade { platform, error } => {
            let of = if platform == ANY_PLATFORM { String::new() } else { format!(" for {platform}") };
            match error {
                AlterError::Rejected(rejected) => of_rejected(rejected, package, &of, &at, drop),
                AlterError::TreeDiffers { expected, found } => {
                    let headline = format!("the patch of {package}{of} makes other files than were locked");
                    tell("tree-differs", headline, "yostel lock, to lock what it makes now")
                        .note(format!("locked tree {expected}"))
                        .note(format!("found  tree {found}"))
                }
                AlterError::Store(error) => of_store(error),
                AlterError::LinkLeaves(_) | AlterError::InTheWay(_) => {
                    tell("patch-rejected", format!("{package}{of}: {error}"), format!("correct {file}")).or(drop)
                }
            }
        }
    }
}

fn of_rejected(
    rejected: &Rejected,
    package: &PackageName,
    of: &str,
    at: &dyn Fn(usize) -> Place,
    drop: String,
) -> Diagnostic {
    let path = &rejected.path;
    let why = match &rejected.reason {
        RejectedReason::Missing => format!("`{path}` is not there any more"),
        RejectedReason::AlreadyThere => format!("`{path}` is there already"),
        RejectedReason::OtherKind => format!("`{path}` is of another kind, or holds more than the patch removes"),
        RejectedReason::NotText => format!("`{path}` is not text"),
        RejectedReason::Hunk { .. } => format!("these lines of `{path}` are not as it expects them"),
    };
    let headline = format!("the patch of {package}{of} does not fit: {why}");
    let again = format!("yostel alter {package} --drop, then yostel alter {package} and make the change anew");
    let mut told = tell("patch-rejected", headline, again);
    if let RejectedReason::Hunk { hunk, found } = &rejected.reason {
        told.place = (hunk.at > 0).then(|| at(hunk.at));
        let lines = hunk.to_string();
        let lines: Vec<&str> = lines.lines().skip(1).collect();
        told.notes.extend(lines.iter().take(2 * TOLD_LINES).map(|line| (*line).to_owned()));
        told.notes.push(if found.is_empty() { "the file ends before that" } else { "there it has:" }.to_owned());
        told.notes.extend(found.iter().take(TOLD_LINES).map(|line| format!(" {}", line.trim_end_matches('\n'))));
    }
    told.note("the lockfile is as it was").or(format!("lock the release it was made for; or {drop}"))
}

fn of_not_altered(why: &NotAltered, package: &PackageName) -> Diagnostic {
    let open = format!("yostel alter {package}, to open it");
    let headline = format!("{package}: {why}");
    match why {
        NotAltered::NotOpen => tell("not-altered", headline, open),
        NotAltered::Nothing => {
            let next = format!("change something in altered/{}", package.to_path_element());
            tell("not-altered", headline, next).or(format!("yostel alter {package} --drop, to close it"))
        }
        NotAltered::NotText(files) => {
            let next = "publish a package of your own with these files, since a patch cannot hold them";
            tell("not-altered", headline, next).note(join(files)).or("put them back as they were")
        }
        NotAltered::NoReason => tell(
            "not-altered",
            headline,
            format!("yostel alter {package} --keep --why \"…\", for those who come after"),
        ),
        NotAltered::OtherRelease { .. } => {
            let next = format!("yostel alter {package} --drop, which saves what was changed, then {open}");
            tell("not-altered", headline, next)
        }
    }
}

fn of_registry(error: &RegistryError, context: &Context) -> Diagnostic {
    let headline = error.to_string();
    match error {
        RegistryError::Occupied(path) => tell(
            "registry-occupied",
            headline,
            format!("name a folder that is empty, like {}-registry", context.show(path)),
        ),
        RegistryError::NotARegistry(path) => {
            tell("registry-missing", headline, format!("yostel registry create {}", context.show(path)))
        }
        RegistryError::Format(_) => tell("registry-later-format", headline, "use a newer yostel"),
        RegistryError::NoVersion(_) => tell("no-version", headline, "add to [project]: version = \"1.0.0\""),
        RegistryError::AlreadyPublished { package, version, differs } => {
            let headline = format!("{package} {version} is published already, and {differs} differ");
            tell("already-published", headline, "give it a new version in [project], then publish again")
                .note("whoever locked it relies on its content, so it never changes")
        }
        RegistryError::Numbering { before, .. } => {
            tell("numbering", headline, format!("keep numbering by {before}; a package has one order for good"))
        }
        RegistryError::NoSuchRelease { known, .. } => {
            tell("no-such-release", headline, "yostel registry contents FOLDER, to see what there is")
                .note(format!("there is {}", some_versions(known)))
        }
        RegistryError::Version(error) => {
            let next = error.suggestion.as_ref().map(|works| format!("write {works}"));
            tell("version", headline, next.unwrap_or_else(|| "write a version like 1.4.2".into()))
        }
        RegistryError::Document { cause, .. } => {
            tell("registry-broken", headline, "get the file back from a copy of the registry").note(cause.to_string())
        }
        RegistryError::Store(error) => of_store(error),
    }
}

fn of_store(error: &StoreError) -> Diagnostic {
    let cause = error.source().map(|cause| format!(": {cause}")).unwrap_or_default();
    of_io("cannot-write", format!("{error}{cause}"), &error.cause)
}

/// What the machine refused has a remedy by its kind, whatever was being done.
fn of_io(code: &'static str, headline: String, cause: &io::Error) -> Diagnostic {
    match cause.kind() {
        io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded | io::ErrorKind::FileTooLarge => {
            tell("disk-full", headline, "make room on that disk, then run the same command again")
                .note("nothing was left half-written")
        }
        io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem => {
            tell("no-permission", headline, "get permission to write there, or work in a copy")
                .note("nothing was changed")
        }
        _ => tell(code, headline, "look at that path; when it is as it should be, run the same command again"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    /// The words are in this file and in the few commands that refuse their own arguments.
    const SOURCES: [&str; 6] = [
        include_str!("diagnostic.rs"),
        include_str!("context.rs"),
        include_str!("demo.rs"),
        include_str!("commands/run.rs"),
        include_str!("commands/publish.rs"),
        include_str!("commands/settle.rs"),
    ];

    #[test]
    fn every_code_is_listed_once_used_and_explained_on_the_page() {
        let page = include_str!("../../../docs/errors.md");
        let listed: BTreeSet<&str> = CODES.iter().copied().collect();
        assert_eq!(listed.len(), CODES.len(), "a code stands twice");
        for code in CODES {
            let quoted = format!("\"{code}\"");
            let uses: usize = SOURCES.iter().map(|source| source.matches(&quoted).count()).sum();
            assert!(uses >= 2, "{code} is listed and never told");
            assert!(page.contains(&format!("| `{code}` |")), "{code} is not on the page");
        }
        let rows = page.lines().filter_map(|line| line.strip_prefix("| `")?.split('`').next());
        for row in rows.filter(|row| !row.chars().all(|c| c.is_ascii_digit())) {
            assert!(listed.contains(row), "the page explains `{row}`, which nobody tells");
        }
    }
}
