//! `publish`: pack this package and give it to a registry.

use clap::Args;
use yostel_answers::answers::share::PublishAnswer;
use yostel_documents::{ANY_PLATFORM, PackageName, check_platform};
use yostel_flows::{FlowError, publish};
use yostel_registry::ReleaseRemarks;

use crate::answer::{Answer, Said};
use crate::call::Call;
use crate::commands::share::place::registry_there;
use crate::exit::Exit;
use crate::options::package_name;
use crate::render::{Columns, Head, count, note, size};
use crate::sanitise::sanitise;

/// Publish the package in this folder to a registry
///
/// The same files make the same archive byte for byte. A version can be published once: publishing the same content again
/// changes nothing; different content is refused.
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
    let published = publish(&project, &registry, remarks, arguments.preview, &call.settings)?;
    let artifact = &published.release.artifacts[0];
    let name = project.here().name();
    Ok(Answer::either(
        call,
        Exit::Fine,
        Said::previewing(arguments.preview),
        || PublishAnswer::of(&published, name, arguments.preview),
        || {
            let version = &published.release.version;
            let mut files = format!("{}, {}", count(published.files.len(), "file"), size(artifact.size));
            if artifact.platform != ANY_PLATFORM {
                files.push_str(&format!(", for {}", artifact.platform));
            }
            let mut text = if published.is_new && arguments.preview {
                format!("{name} {version} would be published ({files}); nothing was:\n")
            } else if published.is_new {
                format!("Published {name} {version} ({files}).\n")
            } else {
                format!("{name} {version} is published already, with the very same content ({files}).\n")
            };
            if published.is_deprecated_now {
                text.push_str(if arguments.preview {
                    "  It would be deprecated.\n"
                } else {
                    "  It is deprecated now.\n"
                });
            }
            if arguments.preview {
                let mut columns = Columns::new([Head::number("size"), Head::place("file")]);
                for (path, bytes) in &published.files {
                    columns.row([size(*bytes), sanitise(path)]);
                }
                text.push_str(&columns.finish());
            }
            text.push_str(&format!("  archive {}\n  tree    {}\n", artifact.digest, artifact.tree));
            for folder in &published.absent {
                let why = match published.files.iter().any(|(path, _)| path == folder) {
                    true => "which is a file: name the folder that it is in",
                    false => "which is no folder with files in the package",
                };
                text.push_str(&note(format!("it offers {folder}, {why}")));
            }
            if project.here().manifest.project.licence.is_none() {
                let line = "licence = \"MIT\" in [project] would tell its users what they may do";
                text.push_str(&note(format!("no licence; {line}")));
            }
            text
        },
    ))
}
