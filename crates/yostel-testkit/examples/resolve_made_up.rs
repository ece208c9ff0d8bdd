//! Times the resolution of a made-up world, in memory, beside a general solver on the same problem fully encoded.
//!
//! Usage: `cargo run --release -p yostel-testkit --example resolve_made_up -- KIND NUMBERS`, as `yostel_testkit::named` has
//! them.
//!
//! In the environment, `CNF=FILE` writes the whole problem there as clauses, and what they mean beside it, into
//! `FILE.questions`: the packages that are needed directly in one line, then a line for each release, newest first, with its
//! package, version, variable and what it needs, between tabs. `GENERAL=1` solves it by a general solver
//! of the MiniSat kind: for the verdict, and for the optimum by repeated calls (docs/resolution.md §2, newest first);
//! `TABLE=1` ends with the figures in one line.

#![allow(clippy::unwrap_used, reason = "a tool for benches fails by panicking")]

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;
use std::time::{Duration, Instant};

use yostel_documents::PackageName;
use yostel_resolve::{Formula, Outcome, Resolution, Resolver, SearchStats, Step};
use yostel_testkit::{World, best_by_general_solver, named, versions_of};

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let world = named(&arguments);
    let before = kibibytes("VmRSS:");
    let (found, ours, stats) = resolve(&world);
    let memory = (kibibytes("VmHWM:") - before) / 1024;
    println!("memory: the world {} MiB, resolving {memory} MiB more", before / 1024);
    let general = std::env::var_os("GENERAL").is_some();
    let file = std::env::var_os("CNF");
    if !general && file.is_none() {
        return;
    }
    let mut whole = Resolver::with_edits(world.problem(&[]));
    world.drive(&mut whole, |answers| answers).unwrap();
    let formula = whole.formula();
    if let Some(file) = file {
        std::fs::write(&file, &formula.cnf).unwrap();
        let mut beside = file;
        beside.push(".questions");
        std::fs::write(beside, questions(&world, &formula)).unwrap();
    }
    let mut theirs = ["nan".to_owned(), "nan".to_owned()];
    if general {
        let general = best_by_general_solver(&world, &formula);
        let ours_best = found.as_ref().map(versions_of);
        assert_eq!(general.best, ours_best, "the best sets differ");
        let (verdict, best) = (general.verdict, general.whole);
        println!("general solver: verdict {verdict:.1?}, best set {best:.1?}");
        let ratio = |ours: Duration, theirs: Duration| ours.div_duration_f64(theirs);
        println!("verdict: ours / general = {:.3}; best set: {:.3}", ratio(ours[0], verdict), ratio(ours[1], best));
        theirs = [verdict, best].map(|time| time.as_secs_f64().to_string());
    }
    if std::env::var_os("TABLE").is_some() {
        let times = ours.map(|time| time.as_secs_f64().to_string());
        let [known, looked_at] = [stats.releases, stats.looked_at];
        println!("{}\t{known}\t{looked_at}\t{}\t{}\t{memory}", stats.packages, times.join("\t"), theirs.join("\t"));
    }
}

/// Writes down what somebody else has to know who looks for the best set.
fn questions(world: &World, formula: &Formula) -> String {
    let direct: BTreeSet<&str> = world.requirements.iter().map(|one| one.package.as_str()).collect();
    let mut text = direct.into_iter().collect::<Vec<_>>().join(" ") + "\n";
    let variables = formula.variables.lines().map(|line| line.split('\t').collect::<Vec<_>>());
    for fields in variables.filter(|fields| fields[1] == "release") {
        let (name, version) = fields[2].split_once(' ').unwrap();
        let document = &world.documents[&PackageName::parse(name).unwrap()];
        let release = document.releases.iter().find(|release| release.version.as_str() == version).unwrap().whole();
        let needs: Vec<&str> = release.needs.values().flatten().map(|(package, _)| package.as_str()).collect();
        writeln!(text, "{name}\t{version}\t{}\t{}", fields[0], needs.join(" ")).unwrap();
    }
    text
}

/// Reads a line of what the system says of this process; 0 where it does not say.
fn kibibytes(line: &str) -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let found = status.lines().find_map(|l| l.strip_prefix(line));
    found.and_then(|rest| rest.split_whitespace().next()?.parse().ok()).unwrap_or(0)
}

fn resolve(world: &World) -> (Option<Resolution>, [Duration; 2], SearchStats) {
    let started = Instant::now();
    let mut resolver = Resolver::new(world.problem(&[]));
    let mut arrived = Vec::new();
    let mut answering = Duration::ZERO;
    let mut phases: BTreeMap<String, Duration> = BTreeMap::new();
    let mut phase = "Any".to_owned();
    let outcome = loop {
        let began = Instant::now();
        let step = resolver.step(arrived).unwrap();
        *phases.entry(phase.clone()).or_default() += began.elapsed();
        match step {
            Step::Need(wanted) => {
                let asked = Instant::now();
                arrived = world.answer(&wanted);
                answering += asked.elapsed();
            }
            Step::Going(next) => {
                phase = format!("{next:?}");
                arrived = Vec::new();
            }
            Step::Done(outcome) => break outcome,
        }
    };
    let took = started.elapsed() - answering;
    let (found, told) = match outcome {
        Outcome::Resolved(resolution) => {
            let told = format!("{} chosen", resolution.chosen.len());
            (Some(resolution), told)
        }
        Outcome::Collision(collision) => (None, format!("collision of {} needs", collision.requirements.len())),
        Outcome::Stopped(_) => unreachable!("nobody says stop"),
    };
    println!("yostel: {told} in {took:.1?}, of which {phases:.1?}");
    println!("{:?}", resolver.stats());
    // Of a collision, a general solver gives the verdict alone.
    let verdict = phases["Any"];
    let best = if found.is_some() { took } else { verdict };
    (found, [verdict, best], resolver.stats())
}
