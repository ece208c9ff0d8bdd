//! Hard problems dressed as packages: what makes general searches sweat.

use crate::World;
use crate::random::Random;

/// Dresses a formula: a variable is a package with releases 1.0.0 (false) and 2.0.0 (true); a clause is a package with
/// one release for each of its literals, which needs that literal.
pub fn dress(variables: i64, clauses: &[Vec<i64>]) -> World {
    let mut text = String::from("console: ");
    let requirements: Vec<String> = (0..clauses.len()).map(|i| format!("clause{i} *")).collect();
    text.push_str(&requirements.join(", "));
    text.push('\n');
    for variable in 1..=variables {
        text.push_str(&format!("var{variable} 1.0.0\nvar{variable} 2.0.0\n"));
    }
    for (i, clause) in clauses.iter().enumerate() {
        for (j, literal) in clause.iter().enumerate() {
            let value = if *literal > 0 { 2 } else { 1 };
            text.push_str(&format!("clause{i} {}.0.0: var{} ={value}.0.0\n", j + 1, literal.abs()));
        }
    }
    World::parse(&text)
}

/// `pigeons` packages of which no two may have the same release, with one release fewer than there are packages.
pub fn pigeonhole(pigeons: usize) -> World {
    let holes = pigeons - 1;
    let mut text = String::from("console: ");
    text.push_str(&(0..pigeons).map(|p| format!("pigeon{p} *")).collect::<Vec<_>>().join(", "));
    text.push('\n');
    for pigeon in 0..pigeons {
        for hole in 1..=holes {
            // The hole belongs to the pigeon whose number its release bears.
            text.push_str(&format!("pigeon{pigeon} {hole}.0.0: hole{hole} ={}.0.0\n", pigeon + 1));
        }
    }
    for hole in 1..=holes {
        (1..=pigeons).for_each(|owner| text.push_str(&format!("hole{hole} {owner}.0.0\n")));
    }
    World::parse(&text)
}

/// Colours the corners of a graph: neighbours need an edge that their colours tell apart.
pub fn colouring(corners: usize, edges: &[(usize, usize)], colours: usize) -> World {
    let mut text = String::from("console: ");
    text.push_str(&(0..corners).map(|c| format!("corner{c} *")).collect::<Vec<_>>().join(", "));
    text.push('\n');
    for corner in 0..corners {
        for colour in 1..=colours {
            let needs: Vec<String> = edges
                .iter()
                .enumerate()
                .filter_map(|(i, (a, b))| match corner {
                    c if c == *a => Some(format!("edge{i}-{colour} =1.0.0")),
                    c if c == *b => Some(format!("edge{i}-{colour} =2.0.0")),
                    _ => None,
                })
                .collect();
            text.push_str(&format!("corner{corner} {colour}.0.0: {}\n", needs.join(", ")));
        }
    }
    for i in 0..edges.len() {
        (1..=colours).for_each(|colour| text.push_str(&format!("edge{i}-{colour} 1.0.0\nedge{i}-{colour} 2.0.0\n")));
    }
    World::parse(&text)
}

/// A trap for a search that goes back one step at a time: the newest of each of `depth` packages is tempting, and all
/// of them fail at the very last.
pub fn trap(depth: usize) -> World {
    let mut text = String::from("console: step0 *, gate =1.0.0\n");
    for step in 0..depth {
        let next = step + 1;
        text.push_str(&format!("step{step} 1.0.0: step{next} =1.0.0\n"));
        (2..=4).for_each(|v| text.push_str(&format!("step{step} {v}.0.0: step{next} >=2\n")));
    }
    text.push_str(&format!("step{depth} 1.0.0\n"));
    (2..=4).for_each(|v| text.push_str(&format!("step{depth} {v}.0.0: gate =2.0.0\n")));
    text.push_str("gate 1.0.0\ngate 2.0.0\n");
    World::parse(&text)
}

/// Makes a random formula of clauses of three different variables each; the same seed makes the same one.
pub fn three_sat(variables: u64, clauses: u64, seed: u64) -> Vec<Vec<i64>> {
    let mut random = Random::of(seed);
    let mut below = |limit: u64| random.below(limit);
    let mut clause = || {
        let mut clause: Vec<i64> = Vec::new();
        while clause.len() < 3 {
            let variable = below(variables) as i64 + 1;
            let literal = if below(2) == 0 { variable } else { -variable };
            if clause.iter().all(|other| other.abs() != variable) {
                clause.push(literal);
            }
        }
        clause
    };
    (0..clauses).map(|_| clause()).collect()
}
