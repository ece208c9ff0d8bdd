//! Times the resolution of a made-up world, in memory, beside a general solver on the same problem fully encoded.
//!
//! Usage: `cargo run --release -p yostel-testkit --example resolve_made_up -- KIND NUMBERS`, where KIND and NUMBERS are
//! - `wide DIRECT PACKAGES RELEASES NEEDS SEED`: packages whose constraints drift upwards with their versions;
//! - `tight DIRECT PACKAGES RELEASES NEEDS STALE BOUNDED PLANTED SEED`: bounds that bite;
//! - `sat VARIABLES CLAUSES SEED`: a random formula of three literals a clause;
//! - `pigeons NUMBER`, `colours CORNERS EDGES COLOURS SEED`, `trap DEPTH`.
//!
//! In the environment, `CNF=FILE` writes the whole problem there as clauses, and `GENERAL=1` solves it by a general solver
//! of the MiniSat kind: for the verdict, and for the optimum by repeated calls (docs/resolution.md §2, newest first);
//! `TABLE=1` ends with the figures in one line.

#![allow(clippy::unwrap_used, reason = "a tool for benches fails by panicking")]

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use yostel_resolve::{Outcome, Resolution, Resolver, SearchStats, Step};
use yostel_testkit::{
    LargeWorld, TightWorld, World, best_by_general_solver, colouring, dress, pigeonhole, three_sat, trap, versions_of,
};

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let kind = arguments.first().map_or("wide", String::as_str);
    let number = |at: usize, default: u64| arguments.get(at).map_or(default, |text| text.parse().unwrap());
    let world = match kind {
        "wide" => LargeWorld {
            direct: number(1, 300),
            packages: number(2, 5000),
            releases: number(3, 20),
            needs: number(4, 4),
            seed: number(5, 1),
        }
        .make(),
        "tight" => TightWorld {
            direct: number(1, 300),
            packages: number(2, 5000),
            releases: number(3, 30),
            needs: number(4, 4),
            stale: number(5, 20),
            bounded: number(6, 80),
            planted: number(7, 1) == 1,
            seed: number(8, 1),
        }
        .make(),
        "sat" => dress(number(1, 150) as i64, &three_sat(number(1, 150), number(2, 639), number(3, 1))),
        "pigeons" => pigeonhole(number(1, 8) as usize),
        "colours" => {
            let (corners, edges) = (number(1, 60), number(2, 140));
            let ends = three_sat(corners, edges, number(4, 1));
            let ends: Vec<(usize, usize)> =
                ends.iter().map(|e| (e[0].unsigned_abs() as usize - 1, e[1].unsigned_abs() as usize - 1)).collect();
            colouring(corners as usize, &ends, number(3, 3) as usize)
        }
        "trap" => trap(number(1, 100) as usize),
        other => panic!("{other} is no kind of world"),
    };
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
        std::fs::write(file, &formula.cnf).unwrap();
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
