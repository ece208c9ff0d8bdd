//! `publish`: pack this package and give it to a registry.

use std::path::PathBuf;

use clap::Args;
use serde_json::json;
use yostel_core::{ANY_PLATFORM, Diagnostic, PackageName, SourceName, check_platform};
use yostel_flows::{FlowError, publish};
use yostel_registry::ReleaseRemarks;

use super::{Answer, package_name, word};
use crate::context::{Context, failure_of};
use crate::exit::Exit;
use crate::render::{Role, count, paint, size};

/// Publish the package in this folder to a registry
///
/// The same files make the same archive byte for byte. A version can be published once: the same again changes nothing,
/// other content under it is refused.
#[derive(Debug, Args)]
pub(crate) struct Publish {
    /// A source of this manifest, or the registry's folder
    #[arg(long, value_name = "SOURCE")]
    to: String,

    /// What is in this folder was made for this platform alone, like linux/arm64; publish the same version once for each
    #[arg(long, value_name = "PLATFORM", value_parser = platform)]
    platform: Option<String>,

    /// Mark the package as deprecated, and say why
    #[arg(long, value_name = "WHY")]
    deprecated: Option<String>,

    /// Name the package that takes its place
    #[arg(long, value_name = "PACKAGE", value_parser = package_name)]
    replaced_by: Option<PackageName>,
}

/// Reads a platform from the command line.
fn platform(text: &str) -> Result<String, String> {
    check_platform(text).map_err(str::to_owned)?;
    if text == ANY_PLATFORM { Err("without --platform, it fits any".to_owned()) } else { Ok(text.to_owned()) }
}

pub(crate) fn run(arguments: Publish, context: &Context) -> Result<Answer, FlowError> {
    let project = context.project()?;
    let declared = word(&arguments.to).ok().and_then(|name: SourceName| project.manifest().sources.get(&name));
    let registry: PathBuf = match declared {
        Some(source) => project.root.join(&source.folder),
        None => context.folder.join(&arguments.to),
    };
    if !registry.exists() {
        let diagnostic = Diagnostic {
            code: "no-such-registry",
            headline: format!("`{}` is neither a source of this manifest nor a folder", arguments.to),
            place: None,
            notes: Vec::new(),
            next: vec![format!("yostel registry create {}, to make one there", arguments.to)],
        };
        return Ok(failure_of(&[diagnostic], Exit::Usage, context.format));
    }
    let remarks = ReleaseRemarks {
        platform: arguments.platform,
        deprecated: arguments.deprecated,
        replaced_by: arguments.replaced_by,
    };
    let published = publish(&project, &registry, remarks, &context.settings)?;
    let artifact = &published.release.artifacts[0];
    let name = project.here().name();
    Ok(Answer::either(
        context,
        Exit::Fine,
        "publish",
        || {
            json!({
                "package": name.as_str(),
                "version": published.release.version.as_str(),
                "new": published.is_new,
                "files": published.files,
                "platform": artifact.platform,
                "bytes": artifact.size,
                "digest": artifact.digest.to_string(),
                "tree": artifact.tree.to_string(),
            })
        },
        || {
            let version = &published.release.version;
            let mut files = format!("{}, {}", count(published.files, "file"), size(artifact.size));
            if artifact.platform != ANY_PLATFORM {
                files.push_str(&format!(", for {}", artifact.platform));
            }
            let mut text = if published.is_new {
                format!("Published {name} {version} ({files}).\n")
            } else {
                format!("{name} {version} is published already, with the very same content ({files}).\n")
            };
            text.push_str(&format!("  archive {}\n  tree    {}\n", artifact.digest, artifact.tree));
            if project.here().manifest.project.licence.is_none() {
                let line = "licence = \"MIT\" in [project] would tell its users what they may do";
                text.push_str(&format!("  {} no licence; {line}\n", paint(Role::Notice, "note:")));
            }
            text
        },
    ))
}
