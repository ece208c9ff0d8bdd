//! `login` and `logout`: what shows a host who asks.

use std::io::{self, IsTerminal, Read};
use std::path::PathBuf;

use clap::Args;
use dialoguer::Password;
use dialoguer::console::Term;
use yostel_answers::answers::share::{LoginAnswer, LogoutAnswer};
use yostel_answers::{Code, Diagnostic, Suggestion};
use yostel_documents::{Credential, CredentialEntry, Secret, credential_host};
use yostel_flows::FlowError;
use yostel_sources::change_credentials;

use crate::answer::{Answer, failure_of};
use crate::call::{Call, credentials_file};
use crate::exit::Exit;
use crate::render::note;

/// Longest token or password that is read, in bytes.
const MOST: u64 = 64 << 10;

/// Store a token or password for a host
///
/// It is read from standard input, or asked for on a terminal without showing it. The file is yours alone.
#[derive(Debug, Args)]
pub(crate) struct Login {
    /// The host, with its port where it has one, like station.example:8443
    #[arg(value_parser = host)]
    host: String,

    /// Store a password for this user, in place of a token
    #[arg(long, value_name = "USER")]
    user: Option<String>,
}

/// Remove what is stored for a host
#[derive(Debug, Args)]
pub(crate) struct Logout {
    /// The host, with its port where it has one
    #[arg(value_parser = host)]
    host: String,
}

fn host(text: &str) -> Result<String, String> {
    credential_host(text).map_err(str::to_owned)
}

/// Finds the file, or says why there is none.
fn file(call: &Call) -> Result<PathBuf, Answer> {
    credentials_file().ok_or_else(|| {
        let headline = "neither XDG_CONFIG_HOME nor HOME says where to store it";
        failed(call, Diagnostic::new(Code::Credentials, headline, "set HOME, or XDG_CONFIG_HOME to a folder"))
    })
}

fn failed(call: &Call, diagnostic: Diagnostic) -> Answer {
    failure_of(&[diagnostic], Exit::Usage, call.format)
}

/// Reads what is to be stored.
fn secret(what: &str, host: &str) -> io::Result<String> {
    if io::stdin().is_terminal() && io::stderr().is_terminal() {
        let asked = Password::new().with_prompt(format!("The {what} for {host}")).allow_empty_password(true);
        return asked.interact_on(&Term::stderr()).map_err(|dialoguer::Error::IO(error)| error);
    }
    let mut text = String::new();
    io::stdin().take(MOST + 1).read_to_string(&mut text)?;
    Ok(text)
}

pub(crate) fn login(arguments: Login, call: &Call) -> Result<Answer, FlowError> {
    let file = match file(call) {
        Ok(file) => file,
        Err(none) => return Ok(none),
    };
    let (host, what) = (arguments.host, if arguments.user.is_some() { "password" } else { "token" });
    let usage = |headline: String, next: String| Ok(failed(call, Diagnostic::new(Code::Credentials, headline, next)));
    let typed = match secret(what, &host) {
        Ok(typed) => typed,
        Err(_) if call.settings.patience.is_stopped() => return Err(FlowError::Stopped),
        Err(error) => {
            return usage(format!("the {what} cannot be read: {error}"), format!("pass the {what} on standard input"));
        }
    };
    let typed = typed.trim_end_matches(['\n', '\r']);
    let is_fit = |c: char| !c.is_control() && (what == "password" || c.is_ascii_graphic());
    if typed.is_empty() || typed.len() as u64 > MOST || !typed.chars().all(is_fit) {
        let next = format!("pass the {what} on standard input: yostel login {host} < FILE");
        return usage(
            format!("what was read is not a {what}: it is empty, too long, or holds blanks or control characters"),
            next,
        );
    }
    let credential = match arguments.user {
        Some(user) if user.contains(':') || user.chars().any(char::is_control) || user.is_empty() => {
            return usage("a user has a name without `:`".to_owned(), format!("yostel login {host} --user NAME"));
        }
        Some(user) => Credential::Password { user, password: Secret::new(typed) },
        None => Credential::Token(Secret::new(typed)),
    };
    let stored = change_credentials(&file, |credentials| {
        credentials.hosts.insert(host.clone(), CredentialEntry::Known(credential)).is_some()
    });
    let replaced = match stored {
        Ok(replaced) => replaced,
        Err(why) => return usage(why, format!("correct that, then yostel login {host}")),
    };
    Ok(Answer::done(
        call,
        Exit::Fine,
        || LoginAnswer { host: host.clone(), file: file.clone(), replaced },
        || {
            let instead = if replaced { ", in place of what was there" } else { "" };
            let said = format!("Stored the {what} for {host} in {}{instead}.\n", call.show(&file));
            said + &note("whether the host accepts it shows when it is next asked".to_owned())
        },
    ))
}

pub(crate) fn logout(arguments: Logout, call: &Call) -> Result<Answer, FlowError> {
    let file = match file(call) {
        Ok(file) => file,
        Err(none) => return Ok(none),
    };
    let host = arguments.host;
    let removed = match change_credentials(&file, |credentials| credentials.hosts.remove(&host).is_some()) {
        Ok(removed) => removed,
        Err(why) => {
            let next = Suggestion::run(format!("yostel logout {host}"), "once that is corrected");
            return Ok(failed(call, Diagnostic::new(Code::Credentials, why, next)));
        }
    };
    Ok(Answer::done(
        call,
        Exit::Fine,
        || LogoutAnswer { host: host.clone(), file: file.clone(), removed },
        || match removed {
            true => format!("Removed what was stored for {host} from {}.\n", call.show(&file)),
            false => format!("Nothing is stored for {host} in {}.\n", call.show(&file)),
        },
    ))
}
