//! `publish`: pack this package and give it to a registry.

use clap::Args;
use yostel_answers::answers::share::PublishAnswer;
use yostel_documents::{ANY_PLATFORM, MadeFrom, PackageName, check_platform};
use yostel_flows::{FlowError, NeedsVerdict, PublishRequest, PublishedPackage, publish};
use yostel_registry::ReleaseRemarks;
use yostel_sources::{CheckedOut, GitError};

use crate::answer::{Answer, Said};
use crate::call::Call;
use crate::commands::share::place::registry_there;
use crate::exit::Exit;
use crate::options::package_name;
use crate::render::{Columns, Head, count, join, note, size};
use crate::sanitise::sanitise;

/// Publish the package in this folder to a registry
///
/// The same files make the same archive byte for byte. A version can be published once: publishing the same content again
/// changes nothing; different content is refused.
///
/// Before anything is published, what the package needs to run is resolved as its users will resolve it. Files that look as
/// if they held keys or passwords are refused, and so is a licence that is no SPDX expression. The manifest says what to
/// leave out, in `leave-out`.
#[derive(Debug, Args)]
pub(crate) struct Publish {
    /// The registry: a source of the manifest, a folder, or oci://HOST/NAME
    #[arg(long, value_name = "REGISTRY")]
    to: String,

    /// The files in this folder are for this platform only, like linux/arm64; publish the version once for each
    #[arg(long, value_name = "PLATFORM", value_parser = platform)]
    platform: Option<String>,

    /// Mark the package as deprecated, and say why
    #[arg(long, value_name = "WHY")]
    deprecated: Option<String>,

    /// Name the package that takes its place
    #[arg(long, value_name = "PACKAGE", value_parser = package_name)]
    replaced_by: Option<PackageName>,

    /// Publish every package of the workspace that has a version, those before others that need them; what is published
    /// already is left out
    #[arg(long, conflicts_with_all = ["deprecated", "replaced_by"])]
    each: bool,

    /// Give an older line one more release: a version below others that are published
    #[arg(long)]
    backport: bool,

    /// Do not try whether what the package needs can be resolved
    #[arg(long)]
    untried: bool,

    /// Only show what would be published: each file, the archive's size and digests
    #[arg(long)]
    preview: bool,
}

/// Reads a platform from the command line.
fn platform(text: &str) -> Result<String, String> {
    check_platform(text).map_err(str::to_owned)?;
    if text == ANY_PLATFORM { Err("without --platform, it fits any".to_owned()) } else { Ok(text.to_owned()) }
}

pub(crate) fn run(arguments: Publish, call: &Call) -> Result<Answer, FlowError> {
    let project = call.project()?;
    let registry = match registry_there(&arguments.to, Some(&project), call) {
        Ok(registry) => registry,
        Err(none) => return Ok(none),
    };
    let remarks = ReleaseRemarks {
        platform: arguments.platform,
        deprecated: arguments.deprecated,
        replaced_by: arguments.replaced_by,
    };
    let request = PublishRequest {
        remarks,
        each: arguments.each,
        backport: arguments.backport,
        untried: arguments.untried,
        preview: arguments.preview,
    };
    let report = publish(&project, &registry, &request, &call.context())?;
    Ok(Answer::either(
        call,
        Exit::Fine,
        Said::previewing(request.preview),
        || PublishAnswer::of(&report, request.preview),
        || {
            let mut text = String::new();
            for package in &report.packages {
                text.push_str(&told(package, &request));
            }
            if report.packages.is_empty() {
                text.push_str("Nothing to publish: no project here has a version.\n");
            } else if !report.without_version.is_empty() {
                let names = join(&report.without_version.iter().map(ToString::to_string).collect::<Vec<_>>());
                text.push_str(&note(format!("without a version, and left out: {names}")));
            }
            text
        },
    ))
}

/// Says why nobody knows which commit a package is made from; nothing where that is known.
fn untold(checked_out: &Result<CheckedOut, GitError>) -> Option<String> {
    match checked_out {
        Ok(CheckedOut::Commit(_)) => None,
        Ok(CheckedOut::NoRepository) => Some("its folder is in no repository of git".to_owned()),
        Ok(CheckedOut::NothingCommitted) => Some("nothing of its folder is committed".to_owned()),
        Ok(CheckedOut::Changed(path)) => Some(format!("{} is not as it was committed, byte for byte", sanitise(path))),
        Ok(CheckedOut::Nested(path)) => Some(format!("{} is a repository of its own", sanitise(path))),
        Err(error) => Some(sanitise(&error.to_string())),
    }
}

/// Tells what became of one package.
fn told(package: &PublishedPackage, request: &PublishRequest) -> String {
    let (name, published) = (&package.name, &package.published);
    let version = &published.release.version;
    let artifact = &published.release.artifacts[0];
    let mut files = format!("{}, {}", count(published.files.len(), "file"), size(artifact.size));
    if artifact.platform != ANY_PLATFORM {
        files.push_str(&format!(", for {}", artifact.platform));
    }
    let mut text = if published.is_new && request.preview {
        format!("{name} {version} would be published ({files}); nothing was:\n")
    } else if published.is_new {
        format!("Published {name} {version} ({files}).\n")
    } else {
        format!("{name} {version} is published already, with the very same content ({files}).\n")
    };
    if published.is_deprecated_now {
        let line = if request.preview { "  It would be deprecated.\n" } else { "  It is deprecated now.\n" };
        text.push_str(line);
    }
    // Of many, what is there already needs no lines.
    if request.each && !published.is_new {
        return text;
    }
    if request.preview {
        let mut columns = Columns::new([Head::number("size"), Head::place("file")]);
        for (path, bytes) in &published.files {
            columns.row([size(*bytes), sanitise(path)]);
        }
        text.push_str(&columns.finish());
    }
    text.push_str(&format!("  archive {}\n  tree    {}\n", artifact.digest, artifact.tree));
    if let Some(MadeFrom { repository, commit: Some(commit) }) = &published.release.made_from {
        text.push_str(&format!("  commit  {commit} of {}\n", sanitise(repository)));
    }
    for folder in &published.absent {
        let why = match published.files.iter().any(|(path, _)| path == folder) {
            true => "which is a file: name the folder that it is in",
            false => "which is no folder with files in the package",
        };
        text.push_str(&note(format!("it offers {folder}, {why}")));
    }
    if !package.has_licence {
        text.push_str(&note("no licence; licence = \"MIT\" in [project] would tell its users what they may do"));
    }
    if let Some(why) = package.checked_out.as_ref().filter(|_| published.is_new).and_then(untold) {
        text.push_str(&note(format!("the release does not say which commit it is made from: {why}")));
    }
    match package.needs {
        NeedsVerdict::Undecided => {
            text.push_str(&note("whether what it needs can be resolved was not found out in a minute"));
        }
        NeedsVerdict::Untried => text.push_str(&note("whether what it needs can be resolved was not tried")),
        NeedsVerdict::None | NeedsVerdict::Resolved => {}
    }
    text
}
