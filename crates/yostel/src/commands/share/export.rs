//! `export`: a bill of materials, for others.

use clap::{Args, ValueEnum};
use yostel_flows::{FlowError, bill_of_materials};

use crate::answer::{Answer, Door};
use crate::call::Call;
use crate::exit::Exit;
use crate::render::bills::{cyclonedx, spdx};

/// Write a bill of materials of what is locked
///
/// The same project, lockfile and releases give the same bytes, whenever and wherever it is written.
#[derive(Debug, Args)]
pub(crate) struct Export {
    /// In which form
    #[arg(value_enum)]
    form: Form,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Form {
    /// CycloneDX 1.6, in JSON
    Cyclonedx,
    /// SPDX 2.3, in JSON
    Spdx,
}

pub(crate) fn run(arguments: Export, call: &Call) -> Result<Answer, FlowError> {
    let bill = bill_of_materials(&call.project()?, &call.context())?;
    let stdout = match arguments.form {
        Form::Cyclonedx => cyclonedx::document(&bill),
        Form::Spdx => spdx::document(&bill),
    };
    Ok(Answer { door: Door::Document, ..Answer::words(Exit::Fine, stdout) })
}
