//! How commands that edit a manifest end: with what to do next, or by doing it.

use yostel_answers::answers::Told;
use yostel_flows::{FlowError, InstallReport, LockReport, LockRequest, lock};

use crate::answer::{Answer, failure};
use crate::call::Call;
use crate::commands::decide::lock::words_after_edit;
use crate::commands::using::install::{go_on_to_install, words_after};
use crate::exit::Exit;
use crate::options::GoOn;
use crate::render::next_step;

/// Answers for a command that edited a manifest; it locks and installs first, if that was asked for. What the command did
/// is told even when that fails.
pub(super) fn finish<T: Told>(
    go_on: GoOn,
    call: &Call,
    said: impl Fn() -> String,
    content: impl FnOnce(Option<(&LockReport, &InstallReport)>) -> T,
) -> Result<Answer, FlowError> {
    if !go_on.install {
        let next = || said() + &next_step("yostel lock");
        return Ok(Answer::done(call, Exit::Fine, || content(None), next));
    }
    let locked = call.project().and_then(|project| lock(&project, LockRequest::default(), &call.context()));
    let locked = match locked {
        Ok(locked) => locked,
        Err(error) => return Ok(failure(&error, call).after(call, said)),
    };
    let said = || said() + &words_after_edit(&locked, call);
    let installed = match go_on_to_install(go_on, call) {
        Ok(installed) => installed,
        Err(error) => return Ok(failure(&error, call).after(call, said)),
    };
    let words = || said() + &words_after(installed.as_ref());
    let then = installed.as_ref().map(|installed| (&locked, installed));
    Ok(Answer::done(call, Exit::Fine, || content(then), words))
}
