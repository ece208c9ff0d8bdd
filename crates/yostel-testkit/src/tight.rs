//! Large made-up worlds whose bounds bite: what was released together fits together, and the newest of all does not.

use crate::World;
use crate::random::Random;

/// How large a world is, and how tight.
#[derive(Debug, Clone, Copy)]
pub struct TightWorld {
    /// Direct needs of the project.
    pub direct: u64,
    /// Packages.
    pub packages: u64,
    /// Releases of each package.
    pub releases: u64,
    /// Needs of each release, at most, besides one of a package that everybody needs.
    pub needs: u64,
    /// Of a hundred packages, how many had their last release long ago.
    pub stale: u64,
    /// Of a hundred needs, how many end at the next line of what was current.
    pub bounded: u64,
    /// Whether a set was planted: releases around one day, each of which needs nothing but what the others accept.
    pub planted: bool,
    /// The same seed makes the same world.
    pub seed: u64,
}

/// When things happen, from the first release of all to the last.
const DAYS: u64 = 10_000;

/// A release to be.
struct Draft {
    day: u64,
    version: (u64, u64),
}

impl TightWorld {
    /// Makes the world. Packages need packages with higher numbers only, and one in a hundred is a package that everybody
    /// needs. A need begins around what was current on the day of the release that has it, and often ends at the next line of
    /// that; packages that had their last release long ago hold the lines of those days.
    ///
    /// # Panics
    /// Never, for sizes that fit in memory.
    pub fn make(self) -> World {
        let mut random = Random::of(self.seed);
        let mut below = |limit: u64| random.below(limit);
        let shared = (self.packages / 100).max(3);
        let first_shared = self.packages - shared;
        let mut drafts: Vec<Vec<Draft>> = Vec::new();
        let mut planted: Vec<usize> = Vec::new();
        for package in 0..self.packages {
            let is_shared = package >= first_shared;
            let is_stale = !is_shared && below(100) < self.stale;
            let end = if is_stale { DAYS / 2 + below(DAYS / 3) } else { DAYS };
            let mut days: Vec<u64> = (0..self.releases).map(|_| below(end)).collect();
            days.sort_unstable();
            let line = 4 + below(10);
            let draft = |(at, day): (u64, &u64)| Draft { day: *day, version: (1 + at / line, at % line) };
            drafts.push((0..).zip(&days).map(draft).collect());
            let around = DAYS * 6 / 10 + below(DAYS / 20);
            planted.push(days.partition_point(|day| *day <= around).saturating_sub(1));
        }
        let version = |(line, at): (u64, u64)| format!("{line}.{at}.0");
        let mut text = String::new();
        let mut wanted: Vec<u64> = (0..self.direct).map(|i| i * self.packages / self.direct.max(1) / 2).collect();
        wanted.dedup();
        let mut requirements = Vec::new();
        for package in wanted {
            let plant = planted[package as usize];
            let from = plant - below(plant as u64 + 1).min(4) as usize;
            requirements.push(format!("p{package} >={}", version(drafts[package as usize][from].version)));
        }
        text.push_str(&format!("console: {}\n", requirements.join("; ")));
        for package in 0..self.packages {
            let mut targets: Vec<u64> = (0..self.needs)
                .map(|_| package + 1 + below((self.packages / 10).max(20)))
                .filter(|target| *target < first_shared)
                .collect();
            targets.push(first_shared.max(package + 1) + below(shared));
            targets.retain(|target| *target < self.packages);
            targets.sort_unstable();
            targets.dedup();
            for (at, release) in drafts[package as usize].iter().enumerate() {
                let mut needs = Vec::new();
                for target in &targets {
                    let of_target = &drafts[*target as usize];
                    let current = of_target.partition_point(|other| other.day <= release.day).saturating_sub(1);
                    let mut from = current - below(current as u64 + 1).min(below(5)) as usize;
                    let mut line = of_target[current].version.0;
                    let plant = planted[*target as usize];
                    if self.planted && planted[package as usize] == at {
                        from = from.min(plant);
                        line = line.max(of_target[plant].version.0);
                    }
                    let from = version(of_target[from].version);
                    needs.push(match below(100) < self.bounded {
                        true => format!("p{target} >={from}&<{}", version((line + 1, 0))),
                        false => format!("p{target} >={from}"),
                    });
                }
                text.push_str(&format!("p{package} {}: {}\n", version(release.version), needs.join("; ")));
            }
        }
        World::parse(&text)
    }
}
