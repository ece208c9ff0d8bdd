//! `list`: what is locked.

use clap::Args;
use yostel_answers::answers::look::ListAnswer;
use yostel_answers::words::notice_mark;
use yostel_flows::{FlowError, ListRow, list};

use crate::answer::Answer;
use crate::call::Call;
use crate::exit::Exit;
use crate::render::{Columns, Head, count, join};

/// List the locked packages
#[derive(Debug, Args)]
pub(crate) struct List {
    /// Only what the project asks for itself
    #[arg(long)]
    direct: bool,

    /// Name everyone who asks for a package
    #[arg(short, long, conflicts_with = "quiet")]
    verbose: bool,
}

pub(crate) fn run(arguments: List, call: &Call) -> Result<Answer, FlowError> {
    let project = call.project()?;
    let mut report = list(&project, &call.context())?;
    report.rows.retain(|row| row.direct || !arguments.direct);
    if call.json() {
        return Ok(Answer::document(call, Exit::Fine, &ListAnswer::from(&report)));
    }
    let marked = report.rows.iter().any(|row| !marks(row).is_empty());
    let heads = [
        Head::package("package"),
        Head::plain("version"),
        Head::plain("for"),
        Head::words("from").spare(),
        Head::words("asked for by"),
    ];
    let mut columns = Columns::new(heads.into_iter().chain(marked.then_some(Head::words("remarks"))));
    for row in &report.rows {
        let purposes: Vec<&str> = row.purposes.iter().map(|purpose| purpose.as_str()).collect();
        let mut asked: Vec<String> = row.asked_by.iter().take(2).cloned().collect();
        if row.asked_by.len() > 2 && !arguments.verbose {
            asked.push(format!("{} more", row.asked_by.len() - 2));
        } else {
            asked.extend(row.asked_by.iter().skip(2).cloned());
        }
        columns.row(
            [
                row.package.to_string(),
                row.version.to_string(),
                purposes.join(", "),
                row.from.to_string(),
                asked.join(", "),
            ]
            .into_iter()
            .chain(marked.then(|| marks(row).join("; "))),
        );
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

/// Says what is particular about a locked package, a few words each.
fn marks(row: &ListRow) -> Vec<String> {
    let instead: Vec<String> = row.stands_in_for.iter().map(ToString::to_string).collect();
    let marks = [
        row.version.is_pre_release().then(|| "pre-release".to_owned()),
        row.notice.as_ref().map(notice_mark),
        row.forced.then(|| "forced".to_owned()),
        (!instead.is_empty()).then(|| format!("in place of {}", join(&instead))),
        row.altered.then(|| "changed here".to_owned()),
    ];
    marks.into_iter().flatten().collect()
}
