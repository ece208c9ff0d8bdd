//! `list`: what is locked.

use clap::Args;
use yostel_answers::answers::look::ListAnswer;
use yostel_flows::{FlowError, list};

use crate::answer::Answer;
use crate::call::Call;
use crate::exit::Exit;
use crate::render::{Columns, count};

/// List the locked packages
#[derive(Debug, Args)]
pub(crate) struct List {
    /// Only what the project asks for itself
    #[arg(long)]
    direct: bool,
}

pub(crate) fn run(arguments: List, call: &Call) -> Result<Answer, FlowError> {
    let project = call.project()?;
    let mut report = list(&project, &call.context())?;
    report.rows.retain(|row| row.direct || !arguments.direct);
    if call.json() {
        return Ok(Answer::document(call, Exit::Fine, &ListAnswer::from(&report)));
    }
    let mut columns = Columns::new(&["package", "version", "for", "from", "asked for by"]);
    for row in &report.rows {
        let purposes: Vec<&str> = row.purposes.iter().map(|purpose| purpose.as_str()).collect();
        let mut asked: Vec<String> = row.asked_by.iter().take(2).cloned().collect();
        if row.asked_by.len() > 2 && !call.verbose {
            asked.push(format!("{} more", row.asked_by.len() - 2));
        } else {
            asked.extend(row.asked_by.iter().skip(2).cloned());
        }
        columns.row([
            row.package.to_string(),
            row.version.to_string(),
            purposes.join(", "),
            row.from.to_string(),
            asked.join(", "),
        ]);
    }
    let direct = report.rows.iter().filter(|row| row.direct).count();
    let total = match project.below.is_empty() || project.here().name() != project.top.name() {
        true => {
            let packages = count(report.rows.len(), "package");
            format!("{packages}, {direct} of them asked for by {} itself.\n", report.project)
        }
        false => format!(
            "{}, {direct} of them asked for by one of {}.\n",
            count(report.rows.len(), "package"),
            count(project.projects().count(), "project")
        ),
    };
    Ok(Answer::words(Exit::Fine, columns.finish() + &total))
}
