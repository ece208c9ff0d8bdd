//! Made-up worlds by the words that benches and checks call them by.

use crate::{LargeWorld, LayeredWorld, TightWorld, World, colouring, dress, pigeonhole, three_sat, trap};

/// Makes a world of `KIND NUMBERS`; the same words make the same one, and numbers at the end may be left out:
///
/// - `wide DIRECT PACKAGES RELEASES NEEDS SEED`: packages whose constraints drift upwards with their versions;
/// - `layers LAYERS ACROSS RELEASES PACKAGES SEED`: few are locked of many that are reached;
/// - `tight DIRECT PACKAGES RELEASES NEEDS STALE BOUNDED PLANTED SEED`: bounds that bite;
/// - `sat VARIABLES CLAUSES SEED`: a random formula of three literals a clause;
/// - `pigeons NUMBER`, `colours CORNERS EDGES COLOURS SEED`, `trap DEPTH`.
///
/// # Panics
/// Where a word is no kind of world, or no number.
pub fn named(words: &[String]) -> World {
    let kind = words.first().map_or("wide", String::as_str);
    let number = |at: usize, default: u64| words.get(at).map_or(default, |text| text.parse().unwrap());
    match kind {
        "wide" => LargeWorld {
            direct: number(1, 300),
            packages: number(2, 5000),
            releases: number(3, 20),
            needs: number(4, 4),
            seed: number(5, 1),
        }
        .make(),
        "layers" => LayeredWorld {
            layers: number(1, 12),
            across: number(2, 25),
            releases: number(3, 30),
            packages: number(4, 5000),
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
    }
}
