//! Installs: what is there, and the environment made of it.

use crate::code::Code;
use crate::diagnostic::{Diagnostic, Suggestion};
use yostel_flows::InstallError;

use super::tell;

/// Tells why what is installed cannot be used.
pub(super) fn of_install(error: &InstallError) -> Diagnostic {
    let headline = error.to_string();
    match error {
        InstallError::Variable { package, .. } => tell(
            Code::VariableRefused,
            headline,
            format!("permit it, below [policy] of yostel.toml: trusted-variables = [\"{package}\"]"),
        )
        .or(Suggestion::run(format!("yostel explain {package}"), "to see what brought it in")),
        InstallError::Separator(_) => {
            tell(Code::Separator, headline, "move the project to a folder without `:` in its path")
        }
        InstallError::NotInstalled => tell(
            Code::NotInstalled,
            "the locked packages are not installed here",
            Suggestion::command("yostel install"),
        ),
    }
}
