//! Sources, registries, and what the machine refuses.

use std::error::Error;
use std::io;

use crate::code::Code;
use crate::diagnostic::{Diagnostic, Suggestion};
use jiff::Timestamp;
use yostel_documents::{FilePattern, PackageName, Word};
use yostel_files::{FileError, says_too_many_open};
use yostel_registry::RegistryError;
use yostel_sources::{GitError, SourceError, SourceErrorKind, WebFault};

use super::story::some_versions;
use super::{TOLD, Viewpoint, ago, shell_word, tell};

pub(super) fn of_source(error: &SourceError, view: &Viewpoint<'_>) -> Diagnostic {
    let source = error.source_name.as_ref().map_or("NAME", Word::as_str);
    let headline = error.to_string();
    match &error.kind {
        SourceErrorKind::Missing(_) | SourceErrorKind::NotARegistry(_) => {
            let name = Suggestion::run(format!("yostel sources add {source} FOLDER"), "with the registry's folder");
            let remove = Suggestion::run(format!("yostel sources remove {source}"), "when nothing should come from it");
            let create = "yostel registry create FOLDER, to make one in a folder that is empty or not there yet";
            let told = tell(Code::SourceMissing, headline, name);
            let told = match error.kind {
                SourceErrorKind::NotARegistry(_) => told.or(create),
                _ => told,
            };
            told.or(remove)
        }
        SourceErrorKind::NotARegistryAt(_) if error.source_name.is_none() => {
            tell(Code::SourceMissing, headline, "name the address of the folder with registry.json")
        }
        SourceErrorKind::NotARegistryAt(_) => {
            let name = Suggestion::run(format!("yostel sources add {source} URL"), "with the registry's address");
            let remove = Suggestion::run(format!("yostel sources remove {source}"), "when nothing should come from it");
            tell(Code::SourceMissing, headline, name).or(remove)
        }
        SourceErrorKind::NotAnOciRegistry(place) => {
            let make = Suggestion::run(format!("yostel registry create {place}"), "to make one there");
            let remove = Suggestion::run(format!("yostel sources remove {source}"), "when nothing should come from it");
            let told = tell(Code::SourceMissing, headline, make);
            if error.source_name.is_some() { told.or(remove) } else { told }
        }
        SourceErrorKind::Occupied(place) => {
            let next = Suggestion::run(format!("yostel registry list {place}"), "to see what it holds");
            tell(Code::RegistryOccupied, headline, next)
        }
        SourceErrorKind::Name { package, .. } => {
            let next = format!("publish {package} to a registry in a folder, or give it a name that both can have");
            tell(Code::NotPacked, headline, next)
        }
        SourceErrorKind::Web { address, fault, seen } => of_web(error, (address, fault), *seen, view),
        SourceErrorKind::Format { .. } => tell(Code::RegistryLaterFormat, headline, "use a newer yostel"),
        SourceErrorKind::Document { path, cause, .. } => tell(
            Code::SourceBroken,
            headline,
            "get the file back from a copy of the registry, or publish the package again",
        )
        .note(format!("{}: {cause}", path.display())),
        SourceErrorKind::ArchiveMissing(_) => tell(
            Code::SourceArchiveMissing,
            headline,
            "get the archive back from a copy of the registry, or lock another version",
        ),
        SourceErrorKind::Read { cause, .. } => of_io(Code::SourceBroken, format!("{headline}: {cause}"), cause),
        SourceErrorKind::Ambiguous { package, .. } => {
            let place = format!("say whose it is, below [sources.{source}] (or the other): reserves = [\"{package}\"]");
            tell(Code::AmbiguousSource, headline, place)
                .note("a name that two sources have could be a stranger's package")
        }
    }
}

/// What helps where no more files may be open.
const MORE_FILES: &str =
    "let more files be open at once, for instance with ulimit -n 1024, then run the same command again";

/// How long ago a server was reached that is not said to have been, in seconds: it is there, and something else is wrong.
const JUST_NOW: i64 = 60;

/// Says what helps where a server is not reached, or does not answer as it should.
fn of_web(
    error: &SourceError,
    (address, fault): (&str, &WebFault),
    seen: Option<Timestamp>,
    view: &Viewpoint<'_>,
) -> Diagnostic {
    let (host, headline) = (host_in(address), error.to_string());
    let unreachable = |next: Suggestion| tell(Code::SourceUnreachable, headline.clone(), next);
    match fault {
        WebFault::Redirected { .. } if error.source_name.is_some() => {
            let source = error.source_name.as_ref().map_or("NAME", Word::as_str);
            let name = format!("yostel sources add {source} URL");
            unreachable(Suggestion::run(name, "with the address that it has now"))
        }
        WebFault::AccessDenied(_) => {
            unreachable(Suggestion::run(format!("yostel login {host}"), "with a token that it accepts"))
                .or("ask whoever runs the server to let this machine read it")
        }
        WebFault::HeldBack => unreachable(format!("name {host} by https://").into()),
        WebFault::Credentials(_) | WebFault::Certificates { .. } => {
            tell(Code::Credentials, headline, "correct that, then try again")
        }
        // The server is not to blame.
        WebFault::TooManyOpen(_) => tell(Code::CannotRead, headline, MORE_FILES),
        WebFault::NotCached => unreachable("leave out --offline, where the server can be reached".into()),
        WebFault::Artifact(_) => {
            let next = "see who else writes below that name in the OCI registry, and remove what does not belong there";
            tell(Code::SourceBroken, headline, next)
        }
        WebFault::Untrusted(_) => {
            let file = "a file with the certificate of whoever signed it, below the source";
            unreachable(format!("name {file}: certificates = \"FILE.pem\"").into())
        }
        _ => {
            let told = unreachable("try again later, or name another address of the registry".into());
            let told = match seen.filter(|seen| seen.as_second() + JUST_NOW < view.now.as_second()) {
                Some(seen) => told
                    .or(Suggestion::run("yostel lock --offline", "to go by what the cache has of it"))
                    .note(format!("it was last reached {}", ago(seen, view.now))),
                None => told,
            };
            match &error.source_name {
                Some(_) => told.note("what is locked and in the cache is installed without asking any source"),
                None => told,
            }
        }
    }
}

/// Returns the host of an address, with its port where it has one.
fn host_in(address: &str) -> &str {
    let rest = address.split_once("://").map_or(address, |(_, rest)| rest);
    rest.split('/').next().unwrap_or_default()
}

pub(super) fn of_git(error: &GitError, package: &PackageName, commit: Option<&str>) -> Diagnostic {
    let headline = format!("{package}: {error}");
    let told = match error {
        GitError::NoProgram(cause) => {
            return tell(Code::GitMissing, format!("{headline}: {cause}"), "install git, or put its folder on PATH");
        }
        GitError::Write { cause, .. } => return of_io(Code::CannotWrite, format!("{headline}: {cause}"), cause),
        GitError::Unreachable { address, .. } => tell(
            Code::Git,
            headline,
            Suggestion::run(format!("git ls-remote {}", shell_word(address)), "to see what is wrong"),
        )
        .or(format!("correct `git` of {package}, if it moved, then yostel lock")),
        GitError::NoSuchRef { address, .. } => tell(
            Code::Git,
            headline,
            Suggestion::run(
                format!("git ls-remote {}", shell_word(address)),
                format!("to see what there is, and correct the need of {package}"),
            ),
        ),
        GitError::NoSuchCommit { .. } => {
            tell(Code::Git, headline, Suggestion::run("yostel lock --fresh", "to take the commit that is there now"))
                .or("get the commit back: yostel cache save, on a machine that still has it, carries it here")
                .note("its branch or tag was rewritten, or its repository was made anew")
        }
        GitError::Shallow(_) => {
            tell(Code::Git, headline, format!("name a repository with all of it in the need of {package}"))
        }
        GitError::NoSuchFolder { .. } => tell(Code::Git, headline, format!("correct `inside` of {package}"))
            .note("a link in a repository is not followed: its folder must be one itself"),
        GitError::OutOfTime { address, seconds, .. } => {
            let variable =
                if error.to_string().ends_with("long") { "YOSTEL_TOTAL_SECONDS" } else { "YOSTEL_IDLE_SECONDS" };
            tell(
                Code::GitOutOfTime,
                headline,
                Suggestion::run(format!("git ls-remote {}", shell_word(address)), "to see whether it answers at all"),
            )
            .or(format!("set {variable} to more than {seconds}, if it is only slow"))
        }
        GitError::Address { scheme: Some(scheme), .. } => {
            tell(Code::GitAddress, headline, "use its https:// or ssh:// address, if it has one")
                .or(format!("permit it, below [policy] of yostel.toml: git-schemes = [\"{scheme}\"]"))
        }
        GitError::Address { scheme: None, .. } => {
            tell(Code::GitAddress, headline, format!("correct `git` of {package}: https://…, ssh://…, or a path"))
        }
        GitError::Unfit { .. } => {
            tell(Code::GitRefused, headline, "take another commit, and tell whoever keeps the repository")
        }
        GitError::Stopped(_) => return super::stopped(),
        GitError::Garbled { .. } => tell(Code::Git, headline, "see what `git --version` says; 2.36 or newer is needed"),
    };
    match commit.filter(|commit| !told.headline.contains(commit)) {
        Some(commit) => told.note(format!("commit {commit} is wanted, and the cache does not hold it")),
        None => told,
    }
}

pub(super) fn of_registry(error: &RegistryError, view: &Viewpoint<'_>) -> Diagnostic {
    let headline = error.to_string();
    match error {
        RegistryError::Occupied(path, true) => {
            let shown = view.show(path);
            let next = Suggestion::run(format!("yostel registry list {}", shell_word(&shown)), "to see what it holds");
            tell(Code::RegistryOccupied, format!("{shown} is a registry already"), next)
        }
        RegistryError::Occupied(path, false) => {
            let shown = view.show(path);
            let next = Suggestion::run(
                format!("yostel registry create {}", shell_word(&format!("{shown}/registry"))),
                "to make it in a folder of its own",
            );
            tell(Code::RegistryOccupied, format!("{shown} is not empty"), next)
        }
        RegistryError::NotARegistry(_) => {
            let create = "yostel registry create FOLDER, to make one in a folder that is empty or not there yet";
            tell(Code::RegistryMissing, headline, "name a source of the manifest, or the folder of a registry")
                .or(create)
        }
        RegistryError::Format(_) => tell(Code::RegistryLaterFormat, headline, "use a newer yostel"),
        RegistryError::NeedsElsewhere { needed, .. } => {
            tell(Code::NeedsElsewhere, headline, format!("publish {needed} too, and need it by a constraint"))
        }
        RegistryError::NoVersion(_) => tell(Code::NoVersion, headline, "add to [project]: version = \"1.0.0\"")
            .or("--each, in a workspace, for every project of it that has one"),
        RegistryError::Licence { .. } => {
            tell(Code::Licence, headline, "write names of the SPDX list, like MIT OR Apache-2.0")
                .or("LicenseRef-NAME, for a licence that is not on that list")
        }
        RegistryError::Secrets { files, .. } => of_secrets(headline, files),
        RegistryError::Older { package, newest, .. } => {
            let next = format!("give it a version in [project] that is higher than {newest}");
            tell(Code::OlderVersion, headline, next)
                .or(format!("--backport, if an older line of {package} is to get one more release"))
        }
        RegistryError::AlreadyPublished { package, version, differs } => {
            let headline = format!("{package} {version} is published already, and differs in {differs}");
            tell(Code::AlreadyPublished, headline, "give it a new version in [project], then publish again")
                .note("whoever locked it relies on its content, so it never changes")
        }
        RegistryError::Contested(..) => {
            tell(Code::AlreadyPublished, headline, "agree with them who publishes it, then publish again")
        }
        RegistryError::Numbering { before, .. } => {
            tell(Code::Numbering, headline, format!("keep numbering by {before}; a package has one order for good"))
                .note("words may be added, at the start of `before` and at the end of `after`: that changes no order")
        }
        RegistryError::TooLong(package) => {
            tell(Code::DocumentTooLong, headline, format!("publish what comes next under another name than {package}"))
                .note("nothing was published or withdrawn")
        }
        RegistryError::NoSuchRelease { known, .. } => tell(
            Code::NoSuchRelease,
            headline,
            Suggestion::run("yostel registry list REGISTRY", "to see what there is"),
        )
        .note(format!("its releases are {}", some_versions(known))),
        RegistryError::Version(error) => {
            let next = error.suggestion.as_ref().map(|works| format!("write {works}"));
            tell(Code::Version, headline, next.unwrap_or_else(|| "write a version like 1.4.2".into()))
        }
        RegistryError::Document { cause, .. } => {
            tell(Code::RegistryBroken, headline, "get the file back from a copy of the registry")
                .note(cause.to_string())
        }
        RegistryError::Unfit(_) => tell(Code::NotPacked, headline, "remove or correct that file, then publish again")
            .note("nothing was published"),
        RegistryError::Store(error) => of_store(error),
    }
}

/// Tells files that look as if they held secrets.
fn of_secrets(headline: String, files: &[(String, &'static str)]) -> Diagnostic {
    let quoted = |path: &String| serde_json::Value::from(FilePattern::text_of(path)).to_string();
    let all: Vec<String> = files.iter().take(TOLD).map(|(path, _)| quoted(path)).collect();
    let list = format!("[{}]", all.join(", "));
    let (them, they_are) = if files.len() == 1 { ("it", "it is no secret") } else { ("them", "they are no secrets") };
    let told = tell(Code::LooksSecret, headline, format!("leave {them} out, in [contents]: leave-out = {list}"))
        .or(format!("if {they_are}, say so in [contents]: no-secrets = {list}"));
    let told = files.iter().take(TOLD).fold(told, |told, (path, why)| told.note(format!("{path}: {why}")));
    let told = match files.len().saturating_sub(TOLD) {
        0 => told,
        more => told.note(format!("and {more} more")),
    };
    told.note("nothing was published")
}

pub(super) fn of_store(error: &FileError) -> Diagnostic {
    let cause = error.source().map(|cause| format!(": {cause}")).unwrap_or_default();
    of_io(Code::CannotWrite, format!("{error}{cause}"), &error.cause)
}

/// What the machine refused has a remedy by its kind, whatever was being done.
pub(super) fn of_io(code: Code, headline: String, cause: &io::Error) -> Diagnostic {
    match cause.kind() {
        _ if says_too_many_open(cause) => tell(code, headline, MORE_FILES),
        io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded | io::ErrorKind::FileTooLarge => {
            tell(Code::DiskFull, headline, "make room on that disk, then run the same command again")
                .note("nothing was left half-written")
        }
        io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem => {
            tell(Code::NoPermission, headline, "get permission to write there, or work in a copy")
                .note("nothing was changed")
        }
        _ => tell(code, headline, "look at that path; when it is as it should be, run the same command again"),
    }
}
