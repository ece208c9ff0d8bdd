//! Large made-up worlds for timings: many packages, many releases, constraints that drift upwards with the versions.

use crate::World;
use crate::random::Random;

/// How large a world is.
#[derive(Debug, Clone, Copy)]
pub struct LargeWorld {
    /// Direct needs of the project.
    pub direct: u64,
    /// Packages.
    pub packages: u64,
    /// Releases of each package.
    pub releases: u64,
    /// Needs of each release, at most.
    pub needs: u64,
    /// The same seed makes the same world.
    pub seed: u64,
}

impl LargeWorld {
    /// Makes the world. Package `p` needs packages with higher numbers only; release `r` of it was made when those had
    /// about as many releases, and needs `^` of one from around then. There is always a set: the first releases of
    /// all need nothing newer than the first.
    ///
    /// # Panics
    /// Never, for sizes that fit in memory.
    pub fn make(self) -> World {
        let mut random = Random::at(self.seed.max(1));
        let mut below = |limit: u64| random.number() % limit.max(1);
        let mut text = String::new();
        let mut wanted: Vec<u64> = (0..self.direct).map(|i| i * self.packages / self.direct.max(1) / 2).collect();
        wanted.dedup();
        let requirements: Vec<String> =
            wanted.iter().map(|p| format!("p{p} >={}", version(below(self.releases / 2)))).collect();
        text.push_str(&format!("console: {}\n", requirements.join("; ")));
        for package in 0..self.packages {
            let mut targets: Vec<u64> = (0..self.needs)
                .map(|_| package + 1 + below((self.packages / 10).max(20)))
                .filter(|target| *target < self.packages)
                .collect();
            targets.sort_unstable();
            targets.dedup();
            for release in 0..self.releases {
                let needs: Vec<String> = targets
                    .iter()
                    .map(|target| {
                        let around = release.saturating_sub(below(4));
                        format!("p{target} ^{}", version(around))
                    })
                    .collect();
                text.push_str(&format!("p{package} {}: {}\n", version(release), needs.join("; ")));
            }
        }
        World::parse(&text)
    }
}

/// Returns the version of a release by its number: a major one every eighth.
pub(crate) fn version(release: u64) -> String {
    format!("{}.{}.0", 1 + release / 8, release % 8)
}
