//! `audit --under`: one audit over many projects.

use std::path::Path;

use yostel_answers::answers::under::UnderAnswer;
use yostel_findings::{Bar, FindingGroup, FindingKind, Rating};
use yostel_flows::{AuditRequest, FlowError, audit_under};

use crate::answer::Answer;
use crate::call::Call;
use crate::exit::Exit;
use crate::render::{Columns, Head, Role, count, join_first, note, paint};

/// How many folders a cell names.
const MOST_FOLDERS: usize = 4;

/// Most packages at several versions that are told, where nobody asks for all.
const MOST_PACKAGES: usize = 20;

pub(super) fn run(
    folder: &Path,
    request: &AuditRequest,
    bar: &Bar,
    verbose: bool,
    call: &Call,
) -> Result<Answer, FlowError> {
    let report = audit_under(&call.folder.join(folder), request, &call.context())?;
    let answer = UnderAnswer::of(&report, bar, request.looks_for(FindingGroup::Outdated), &call.viewpoint());
    let audited = || report.projects.iter().filter_map(|one| one.outcome.as_ref().ok());
    let failed = report.projects.iter().find_map(|one| one.outcome.as_ref().err());
    let exit = match failed {
        _ if audited().any(|one| !one.report.alarms.is_empty()) => Exit::Integrity,
        Some(error) => error.class().into(),
        None if answer.projects.iter().any(|one| one.findings.iter().any(|finding| finding.fails)) => Exit::Findings,
        None => Exit::Fine,
    };
    Ok(match call.json() {
        true => Answer::document(call, exit, &answer),
        false => Answer::words(exit, words(&answer, verbose)),
    })
}

fn words(answer: &UnderAnswer, verbose: bool) -> String {
    let mut text = match answer.projects.len() {
        0 => "There is no project with a lockfile.\n".to_owned(),
        many if answer.projects.iter().any(|one| one.years.is_some()) => {
            format!("{}, the furthest behind first.\n", count(many, "project"))
        }
        many => format!("{}.\n", count(many, "project")),
    };
    if !answer.projects.is_empty() {
        text.push_str(&projects(answer));
    }
    if !answer.advisories.is_empty() {
        text.push_str(&format!("\n{}\n", paint(Role::Title, "Advisories")));
        let heads = [Head::plain("advisory"), Head::plain("severity"), Head::package("package"), Head::words("in")];
        let mut columns = Columns::new(heads);
        for one in &answer.advisories {
            columns.row([one.id.clone(), one.severity.to_owned(), one.package.clone(), folders(&one.projects)]);
        }
        text.push_str(&columns.finish());
    }
    if !answer.versions.is_empty() {
        text.push_str(&format!("\n{}\n", paint(Role::Title, "At several versions")));
        let most = if verbose { usize::MAX } else { MOST_PACKAGES };
        let mut columns = Columns::new([Head::package("package"), Head::plain("version"), Head::words("in")]);
        for one in answer.versions.iter().take(most) {
            for (at, version) in one.versions.iter().enumerate() {
                let package = if at == 0 { one.package.clone() } else { String::new() };
                columns.row([package, version.version.clone(), folders(&version.projects)]);
            }
        }
        text.push_str(&columns.finish());
        if answer.versions.len() > most {
            text.push_str(&note(format!("{} with --verbose", count(answer.versions.len() - most, "more package"))));
        }
    }
    if !answer.without_lockfile.is_empty() {
        let have = if answer.without_lockfile.len() == 1 { "has" } else { "have" };
        let projects = count(answer.without_lockfile.len(), "project");
        text.push_str(&note(format!("{projects} {have} no lockfile: {}", folders(&answer.without_lockfile))));
    }
    if answer.unreadable > 0 {
        text.push_str(&note(format!("{} cannot be read", count(answer.unreadable, "folder"))));
    }
    text
}

fn projects(answer: &UnderAnswer) -> String {
    let has_errors = answer.projects.iter().any(|one| one.error.is_some());
    let looks_behind = answer.projects.iter().any(|one| one.years.is_some());
    let mut heads = vec![Head::place("folder"), Head::number("packages")];
    heads.extend([Head::number("years"), Head::number("releases")].into_iter().filter(|_| looks_behind));
    heads.extend([Head::number("advisories"), Head::plain("worst"), Head::number("other")]);
    heads.extend(has_errors.then_some(Head::words("error")));
    let mut columns = Columns::new(heads);
    let text = |number: usize| if number == 0 { "-".to_owned() } else { number.to_string() };
    for one in &answer.projects {
        let is_advisory = |kind: FindingKind| kind == FindingKind::Advisory;
        let threats: Vec<_> = one.findings.iter().filter(|finding| is_advisory(finding.of)).collect();
        let rated = |word: &&str| threats.iter().any(|finding| finding.severity == *word);
        let worst = Rating::ALL.iter().rev().map(|rating| rating.word()).find(rated);
        let is_other = |kind: FindingKind| !is_advisory(kind) && kind != FindingKind::Outdated;
        let others = one.findings.iter().filter(|finding| is_other(finding.of)).count();
        let mut cells = vec![one.folder.clone(), text(one.packages)];
        if looks_behind {
            let years = one.years.filter(|years| *years > 0.0).map(|years| format!("{years:.1}"));
            cells.extend([years.unwrap_or_else(|| "-".to_owned()), text(one.releases.unwrap_or(0))]);
        }
        cells.extend([text(threats.len()), worst.unwrap_or("-").to_owned(), text(others)]);
        cells.extend(has_errors.then(|| one.error.clone().unwrap_or_default()));
        columns.row(cells);
    }
    columns.finish()
}

fn folders(all: &[String]) -> String {
    join_first(all.iter().cloned(), MOST_FOLDERS)
}
