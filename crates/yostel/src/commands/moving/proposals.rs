//! `proposals`: look at what is proposed, and decide.

use clap::{Args, Subcommand};
use yostel_answers::answers::proposals::{DecidedAnswer, ProposalAnswer, ProposalsAnswer};
use yostel_answers::words::day;
use yostel_documents::ProposalRecord;
use yostel_flows::{Decision, FlowError, ProposalError, decide, proposals};

use crate::answer::{Answer, Said};
use crate::call::Call;
use crate::exit::Exit;
use crate::options::Format;
use crate::render::markdown::for_terminal;
use crate::render::{Columns, Head, count, next_step, next_steps, note};
use crate::sanitise::sanitise;

/// Look at what is proposed, and decide
#[derive(Debug, Args)]
pub(crate) struct ProposalsOf {
    #[command(subcommand)]
    task: Task,
}

#[derive(Debug, Subcommand)]
enum Task {
    /// List proposals
    List {
        /// Also those that were decided
        #[arg(long)]
        all: bool,
    },
    /// Show one as a reviewer reads it
    Show {
        /// Its name
        name: String,
    },
    /// Merge one into the branch that it is for, which must be checked out
    Accept {
        /// Its name
        name: String,
        /// Why, for those who look later
        #[arg(long)]
        why: Option<String>,
    },
    /// Do not take one, until something newer is there
    Decline {
        /// Its name
        name: String,
        /// Why, for those who look later
        #[arg(long)]
        why: Option<String>,
    },
}

impl ProposalsOf {
    /// Tells whether one is shown.
    pub(crate) fn shows(&self) -> bool {
        matches!(self.task, Task::Show { .. })
    }
}

pub(crate) fn run(arguments: ProposalsOf, call: &Call) -> Result<Answer, FlowError> {
    let root = call.manifests()?.root;
    match arguments.task {
        Task::List { all } => {
            let mut records = proposals(&root, &call.context())?;
            records.retain(|record| all || record.is_open());
            let answer = || ProposalsAnswer::of(&records);
            Ok(Answer::either(call, Exit::Fine, Said::Result, answer, || list(&records, all)))
        }
        Task::Show { name } => {
            let records = proposals(&root, &call.context())?;
            let Some(record) = records.iter().find(|record| record.name == name) else {
                let known = records.into_iter().filter(ProposalRecord::is_open).map(|record| record.name).collect();
                return Err(ProposalError::NoSuch { name, known }.into());
            };
            if call.format == Format::Markdown {
                return Ok(Answer::raw(record.summary.clone()));
            }
            Ok(Answer::either(call, Exit::Fine, Said::Result, || ProposalAnswer::of(record), || show(record)))
        }
        Task::Accept { name, why } => decided(&root, &name, Decision::Accept, why.as_deref(), call),
        Task::Decline { name, why } => decided(&root, &name, Decision::Decline, why.as_deref(), call),
    }
}

fn decided(
    root: &std::path::Path,
    name: &str,
    decision: Decision,
    why: Option<&str>,
    call: &Call,
) -> Result<Answer, FlowError> {
    let record = decide(root, name, decision, why, &call.context())?;
    let words = || match decision {
        Decision::Accept => {
            let says = format!("Merged {} into {}.\n", sanitise(&record.subject), record.base_branch);
            says + &next_steps(["yostel install", "yostel propose, to make the others anew on that"])
        }
        Decision::Decline => format!("Declined {name}: it comes back when there is something newer.\n"),
    };
    Ok(Answer::done(call, Exit::Fine, || DecidedAnswer::of(&record), words))
}

fn list(records: &[ProposalRecord], all: bool) -> String {
    if records.is_empty() {
        let none = if all { "Nothing was proposed here" } else { "No proposal is open" };
        return format!("{none}.\n{}", next_step("yostel propose"));
    }
    let mut columns = Columns::new([
        Head::plain("proposal"),
        Head::plain("state"),
        Head::words("what"),
        Head::plain("checks"),
        Head::plain("opened"),
    ]);
    for record in records {
        let cells = [record.name.clone(), record.state.clone(), record.subject.clone(), record.checks.clone()];
        columns.row(cells.into_iter().chain([day(record.opened)]));
    }
    columns.finish() + &format!("{}.\n", count(records.len(), "proposal"))
}

fn show(record: &ProposalRecord) -> String {
    let mut text = format!("{}\n", sanitise(&record.subject));
    let branch = format!("the branch {}, for {}", record.branch(), record.base_branch);
    let state = match (&record.state[..], record.decided) {
        ("open", _) => format!("open since {}: {branch}", day(record.opened)),
        (state, Some(at)) => format!("{state} on {}", day(at)),
        (state, None) => state.to_owned(),
    };
    text.push_str(&note(state));
    if let Some(why) = &record.why {
        text.push_str(&note(format!("why: {why}")));
    }
    text.push('\n');
    text.push_str(&for_terminal(&record.summary));
    match record.is_open() {
        true => {
            let name = &record.name;
            text + &next_steps([
                format!("yostel proposals accept {name}"),
                format!("yostel proposals decline {name} --why …"),
            ])
        }
        false => text,
    }
}
