//! Which release something is said of, where, and why: what `withdraw` and `deprecate` share.

use clap::Args;
use yostel_documents::PackageName;
use yostel_flows::{FlowError, SayingWhat, say_of_release};

use crate::answer::Answer;
use crate::call::Call;
use crate::commands::share::place::registry_there;
use crate::options::package_name;

#[derive(Debug, Args)]
pub(super) struct OfRelease {
    /// The package
    #[arg(value_parser = package_name)]
    pub(super) package: PackageName,

    /// The version
    pub(super) version: String,

    /// The registry: a source of the manifest, a folder, or oci://HOST/NAME
    #[arg(long, value_name = "REGISTRY")]
    from: String,

    /// Why that is so, or why it is taken back
    #[arg(long, value_name = "REASON")]
    pub(super) why: String,

    /// Take it back
    #[arg(long)]
    pub(super) take_back: bool,
}

impl OfRelease {
    /// Says it. Returns whether it is new, or the answer that there is no such registry.
    pub(super) fn say(&self, what: SayingWhat<'_>, call: &Call) -> Result<Result<bool, Answer>, FlowError> {
        let registry = match registry_there(&self.from, call.manifests().ok().as_ref(), call) {
            Ok(registry) => registry,
            Err(none) => return Ok(Err(none)),
        };
        say_of_release(&registry, (&self.package, &self.version), (what, &self.why), &call.settings).map(Ok)
    }
}
