//! `drift`: how far behind a project is, and was.

use clap::Args;
use yostel_answers::answers::drift::{CurvePointTold, DriftAnswer, DriftPointTold, LagTold};
use yostel_flows::{FlowError, drift};

use crate::answer::Answer;
use crate::call::Call;
use crate::exit::Exit;
use crate::options::Format;
use crate::render::{Columns, Head, Role, commit_of, count, day_of, float, note, paint, width};

/// Most rows of a table that nobody asked to see whole.
const MOST_ROWS: usize = 12;

/// Most packages that are named.
const MOST_PACKAGES: usize = 8;

/// Columns of a line that its bars cannot have.
const BESIDE_BARS: usize = 34;

/// Heights of a bar, rising.
const BARS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// Tell how far behind the project is, and was at each commit of its lockfile
///
/// In years between the locked and the newest release, in releases, in compatible lines and in advisories, each summed over
/// what is locked, as it was at the time. With --format also csv.
#[derive(Debug, Args)]
pub(crate) struct Drift {
    /// Show every commit, and every package that is behind
    #[arg(short, long, conflicts_with = "quiet")]
    verbose: bool,
}

pub(crate) fn run(arguments: Drift, call: &Call) -> Result<Answer, FlowError> {
    let answer = DriftAnswer::from(&drift(&call.project()?, &call.context())?);
    Ok(match call.format {
        Format::Json => Answer::document(call, Exit::Fine, &answer),
        Format::Csv => Answer::raw(csv(&answer)),
        _ => Answer::words(Exit::Fine, words(&answer, arguments.verbose)),
    })
}

/// Writes the points as comma-separated values (RFC 4180), a row each; nothing in them needs quotes.
fn csv(answer: &DriftAnswer) -> String {
    let mut text = "at,commit,packages,unknown,years,releases,lines,advisories\r\n".to_owned();
    for point in &answer.points {
        let DriftPointTold { at, commit, packages, unknown, lag, .. } = point;
        let LagTold { years, releases, lines, advisories } = lag;
        let commit = commit.as_deref().unwrap_or_default();
        text.push_str(&format!("{at},{commit},{packages},{unknown},{years:.3},{releases},{lines},{advisories}\r\n"));
    }
    text
}

fn words(answer: &DriftAnswer, in_full: bool) -> String {
    let Some(now) = answer.points.last() else { return String::new() };
    let LagTold { years, releases, lines, advisories } = &now.lag;
    let (packages, releases) = (count(now.packages, "package"), count(*releases, "release"));
    let advisories = if *advisories == 1 { "1 advisory".to_owned() } else { format!("{advisories} advisories") };
    let mut text = format!(
        "{packages}: {years:.1} years, {releases} and {} behind; {advisories}.\n",
        count(*lines, "compatible line")
    );
    if !answer.curve.is_empty() {
        text.push('\n');
        text.push_str(&curves(&answer.curve));
        text.push('\n');
        text.push_str(&table(&answer.points, in_full));
    }
    let most = if in_full { answer.packages.len() } else { MOST_PACKAGES };
    if !answer.packages.is_empty() {
        text.push('\n');
        let mut columns = Columns::new([Head::package("behind now"), Head::plain("locked")].into_iter().chain(LAGS));
        for one in answer.packages.iter().take(most) {
            columns.row([one.package.clone(), one.version.clone()].into_iter().chain(cells(&one.lag)));
        }
        text.push_str(&columns.finish());
    }
    text + &notes(answer, most)
}

/// The columns that say how far behind something is.
const LAGS: [Head; 4] =
    [Head::number("years"), Head::number("releases"), Head::number("lines"), Head::number("advisories")];

fn cells(lag: &LagTold) -> [String; 4] {
    let text = |number: usize| if number == 0 { "-".to_owned() } else { number.to_string() };
    let years = if lag.years == 0.0 { "-".to_owned() } else { format!("{:.1}", lag.years) };
    [years, text(lag.releases), text(lag.lines), text(lag.advisories)]
}

/// Draws each measure as a row of bars, the highest of them over the whole height.
fn curves(curve: &[CurvePointTold]) -> String {
    type Measure = (&'static str, fn(&LagTold) -> f64, usize);
    let measures: [Measure; 4] = [
        ("years", |lag| lag.years, 1),
        ("releases", |lag| float(lag.releases), 0),
        ("lines", |lag| float(lag.lines), 0),
        ("advisories", |lag| float(lag.advisories), 0),
    ];
    let mut text = String::new();
    for (what, of, digits) in measures {
        let values: Vec<f64> = curve.iter().map(|point| of(&point.lag)).collect();
        let (first, last) = (values[0], values[values.len() - 1]);
        let bars = paint(Role::Package, bars(&fewer(&values, width().saturating_sub(BESIDE_BARS))));
        text.push_str(&format!("  {what:<11}{bars}  {first:.digits$} -> {last:.digits$}\n"));
    }
    text
}

/// Takes as many values as there is room for, the last among them.
fn fewer(values: &[f64], most: usize) -> Vec<f64> {
    let columns = values.len().min(most.max(8));
    (1..=columns).map(|column| values[column * values.len() / columns - 1]).collect()
}

fn bars(values: &[f64]) -> String {
    let most = values.iter().copied().fold(0.0, f64::max);
    let steps = BARS.len() - 1;
    let bar = |value: &f64| BARS[(0..steps).filter(|step| *value > most * float(*step) / float(steps)).count()];
    values.iter().map(bar).collect()
}

fn table(points: &[DriftPointTold], in_full: bool) -> String {
    let heads = [Head::plain("date"), Head::plain("commit"), Head::number("packages")];
    let mut columns = Columns::new(heads.into_iter().chain(LAGS));
    let skipped = if in_full { 0 } else { points.len().saturating_sub(MOST_ROWS) };
    for point in &points[skipped..] {
        let commit = commit_of(point.commit.as_deref()).to_owned();
        let row = [day_of(&point.at).to_owned(), commit, point.packages.to_string()];
        columns.row(row.into_iter().chain(cells(&point.lag)));
    }
    let mut text = columns.finish();
    if skipped > 0 {
        text.push_str(&format!("  {}\n", paint(Role::Quiet, format!("{skipped} earlier ones with --verbose"))));
    }
    text
}

fn notes(answer: &DriftAnswer, most: usize) -> String {
    let mut notes = Vec::new();
    if answer.packages.len() > most {
        notes.push(format!("{} with --verbose", count(answer.packages.len() - most, "more package")));
    }
    if let Some(why) = &answer.no_history {
        notes.push(format!("there is no history to tell of: {why}"));
    }
    if answer.shallow {
        notes.push("only a part of git's history is here; git fetch --unshallow brings the rest".to_owned());
    }
    if answer.left_out > 0 {
        notes.push(format!("{} left out evenly between those that are told", count(answer.left_out, "commit")));
    }
    if answer.unreadable > 0 {
        let lockfiles = count(answer.unreadable, "earlier lockfile");
        let are = if answer.unreadable == 1 { "is" } else { "are" };
        notes.push(format!("{lockfiles} cannot be read or {are} dated later than now, and {are} left out"));
    }
    let unknown = answer.points.last().map_or(0, |now| now.unknown);
    if unknown > 0 {
        let counts = if unknown == 1 { "it does not count" } else { "they do not count" };
        notes.push(format!("{} that no source has any more: {counts}", count(unknown, "locked release")));
    }
    if !answer.unread_advisories.is_empty() {
        let files = count(answer.unread_advisories.len(), "advisory file");
        notes.push(format!("{files} cannot be read; yostel audit advisories names them"));
    }
    notes.iter().map(note).collect()
}
