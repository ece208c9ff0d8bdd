//! `explain --releases`: which releases of a package there are, and what speaks for and against each.

use yostel_answers::words::{day, shell_word};
use yostel_documents::Requirement;
use yostel_flows::{ReleaseSeen, ReleasesReport};
use yostel_resolve::Barred;

use crate::render::{Role, count, join, next_step, paint};
use crate::sanitise::sanitise;

/// How many that do not accept a release are named.
const MOST_NAMED: usize = 2;

/// Lists the releases, the newest first, each with the first line of its notes.
pub(super) fn words(report: &ReleasesReport) -> String {
    let ReleasesReport { package, from, releases } = report;
    let headline = format!("{package}: {} in {from}", count(releases.len(), "release"));
    let mut text = format!("{}\n", paint(Role::Title, sanitise(&headline)));
    let width = releases.iter().map(|seen| seen.release.version.as_str().len()).max().unwrap_or_default();
    for seen in releases {
        let version = format!("{:<width$}", seen.release.version.as_str());
        let version = if seen.locked { paint(Role::Title, version) } else { version };
        let line = format!("  {version}  {}  {}", day(seen.release.published), remarks(seen));
        text.push_str(&format!("{}\n", line.trim_end()));
        if let Some(notes) =
            seen.release.notes.as_deref().and_then(|notes| notes.lines().find(|line| !line.trim().is_empty()))
        {
            text.push_str(&format!("      {}\n", sanitise(notes.trim())));
        }
    }
    let may_take = |seen: &&ReleaseSeen| seen.barred.is_none() && !seen.release.version.is_pre_release();
    let newest = releases.iter().find(may_take);
    let is_locked = releases.iter().any(|seen| seen.locked);
    let name = shell_word(package.as_str());
    let next = match newest {
        Some(newest) if is_locked && !newest.locked => {
            Some(format!("yostel explain {name} --instead {}, to see what that would take", newest.release.version))
        }
        Some(newest) if !is_locked => match &newest.release.replaced_by {
            Some(other) => Some(format!("yostel add {}, which took its place", shell_word(other.as_str()))),
            None => Some(format!("yostel add {name}")),
        },
        _ => None,
    };
    if let Some(next) = next {
        text.push_str(&next_step(next));
    }
    text
}

fn remarks(seen: &ReleaseSeen) -> String {
    let mut said = Vec::new();
    if seen.locked {
        said.push("locked".to_owned());
    }
    if seen.release.version.is_pre_release() {
        said.push("pre-release".to_owned());
    }
    if let Some(withdrawal) = &seen.release.withdrawn {
        said.push(format!("withdrawn {}: {}", day(withdrawal.on), withdrawal.why.trim_end_matches('.')));
    }
    if let Some(why) = &seen.release.deprecated {
        let instead = seen.release.replaced_by.as_ref().map(|other| format!(" ({other} took its place)"));
        said.push(format!("deprecated: {}{}", why.trim_end_matches('.'), instead.unwrap_or_default()));
    }
    match &seen.barred {
        Some(Barred::TooYoung(Some(from))) => said.push(format!("too young until {}", day(*from))),
        Some(Barred::TooYoung(None)) => said.push("too young".to_owned()),
        _ => {}
    }
    if !seen.not_accepted.is_empty() {
        said.push(format!("not accepted by {}", refusing(&seen.not_accepted)));
    }
    if !seen.unserved.is_empty() {
        said.push(format!("nothing for {}", join(&seen.unserved)));
    }
    sanitise(&said.join("; "))
}

fn refusing(needs: &[Requirement]) -> String {
    let mut named: Vec<String> =
        needs.iter().take(MOST_NAMED).map(|need| format!("{} ({})", need.asker, need.accept)).collect();
    if needs.len() > MOST_NAMED {
        named.push(format!("{} more", needs.len() - MOST_NAMED));
    }
    join(&named)
}
