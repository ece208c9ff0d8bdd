//! `withdraw`: keep a bad release for those locked to it, and from everybody else.

use clap::Args;
use yostel_answers::answers::share::WithdrawAnswer;
use yostel_documents::TakenBack;
use yostel_flows::{FlowError, SayingWhat};

use crate::answer::Answer;
use crate::call::Call;
use crate::commands::share::of_release::OfRelease;
use crate::exit::Exit;

/// Withdraw a bad release: never newly chosen, kept for those locked to it
#[derive(Debug, Args)]
pub(crate) struct Withdraw {
    #[command(flatten)]
    of: OfRelease,
}

pub(crate) fn run(arguments: Withdraw, call: &Call) -> Result<Answer, FlowError> {
    let of = &arguments.of;
    let what = if of.take_back { SayingWhat::TakenBack(TakenBack::Withdrawn) } else { SayingWhat::Withdrawn };
    let new = match of.say(what, call)? {
        Ok(new) => new,
        Err(none) => return Ok(none),
    };
    let (package, version) = (&of.package, &of.version);
    Ok(Answer::done(
        call,
        Exit::Fine,
        || WithdrawAnswer {
            package: package.to_string(),
            version: version.clone(),
            taken_back: of.take_back,
            new,
            why: of.why.clone(),
        },
        || match (of.take_back, new) {
            (false, true) => {
                format!("Withdrew {package} {version}: it is never newly chosen, and stays for those locked to it.\n")
            }
            (false, false) => format!("{package} {version} was withdrawn already.\n"),
            (true, true) => format!("{package} {version} is no longer withdrawn: it may be chosen again.\n"),
            (true, false) => format!("{package} {version} is not withdrawn.\n"),
        },
    ))
}
