//! Made-up worlds in layers: what is locked is small, what its older releases needed is not.

use crate::World;
use crate::large::version;
use crate::random::Random;

/// How large a world in layers is.
#[derive(Debug, Clone, Copy)]
pub struct LayeredWorld {
    /// Layers, of which each needs the next; the longest chain of needs has as many packages.
    pub layers: u64,
    /// Packages of each layer.
    pub across: u64,
    /// Releases of each package.
    pub releases: u64,
    /// Packages that are reached: those of the layers, and those that only older releases of them need.
    pub packages: u64,
    /// The same seed makes the same world.
    pub seed: u64,
}

impl LayeredWorld {
    /// Makes the world. The project needs all of the first layer. Each release of a package needs the one below it and two
    /// more of the next layer, from around the time it was made; all but the newest also need packages that were given up
    /// since.
    ///
    /// # Panics
    /// Never, for sizes that fit in memory.
    pub fn make(self) -> World {
        let mut random = Random::at(self.seed.max(1));
        let mut below = |limit: u64| random.number() % limit.max(1);
        let newest = self.releases.saturating_sub(1);
        let name = |layer: u64, at: u64| format!("p{}", layer * self.across + at);
        let wanted: Vec<String> = (0..self.across).map(|at| format!("{} >=1.0.0", name(0, at))).collect();
        let mut text = format!("console: {}\n", wanted.join("; "));
        let mut given_up = self.layers * self.across..self.packages;
        let older = self.layers * self.across * newest;
        let of_each = (self.packages.saturating_sub(self.layers * self.across)).div_ceil(older.max(1));
        for layer in 0..self.layers {
            for at in 0..self.across {
                let mut targets = vec![at, below(self.across), below(self.across)];
                targets.sort_unstable();
                targets.dedup();
                targets.retain(|_| layer + 1 < self.layers);
                for release in 0..self.releases {
                    let mut needs: Vec<String> = targets
                        .iter()
                        .map(|target| {
                            let around = release.saturating_sub(below(3));
                            format!("{} ^{}", name(layer + 1, *target), version(around))
                        })
                        .collect();
                    if release < newest {
                        needs.extend(given_up.by_ref().take(of_each as usize).map(|old| format!("p{old} *")));
                    }
                    text.push_str(&format!("{} {}: {}\n", name(layer, at), version(release), needs.join("; ")));
                }
            }
        }
        for old in self.layers * self.across..self.packages {
            for release in 0..self.releases {
                text.push_str(&format!("p{old} {}:\n", version(release)));
            }
        }
        World::parse(&text)
    }
}
