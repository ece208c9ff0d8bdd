//! How long does it take to write and read a lockfile of 300 packages, and to tell that it is fresh?

#![allow(missing_docs, clippy::unwrap_used, reason = "a bench")]

use criterion::{Criterion, criterion_group, criterion_main};
use yostel_documents::Lockfile;
use yostel_resolve::Outcome;
use yostel_testkit::World;

/// 300 packages, each needing the next three.
fn world() -> World {
    let mut text = String::from("console: p0 ^1, p1 ^1, p2 ^1\n");
    for i in 0..300 {
        let needs: Vec<String> = (i + 1..300.min(i + 4)).map(|j| format!("p{j} ^1")).collect();
        for minor in 0..5 {
            text.push_str(&format!("p{i} 1.{minor}.0: {}\n", needs.join(", ")));
        }
    }
    World::parse(&text)
}

fn benches(criterion: &mut Criterion) {
    let world = world();
    let Ok(Outcome::Resolved(resolution)) = world.resolve(&[]) else { panic!("the world can be met") };
    let lockfile = resolution.to_lockfile(&world.requirements.clone().into());
    assert_eq!(lockfile.chosen.len(), 300);
    let text = lockfile.write();
    criterion
        .bench_function("write 300 locked packages", |b| b.iter(|| assert_eq!(lockfile.write().len(), text.len())));
    criterion.bench_function("read 300 locked packages", |b| {
        b.iter(|| assert_eq!(Lockfile::parse(&text).unwrap().chosen.len(), 300));
    });
    criterion.bench_function("tell that 300 locked packages are fresh", |b| {
        b.iter(|| assert!(lockfile.differences(&world.requirements.clone().into()).is_empty()));
    });
    criterion.bench_function("resolve 300 packages of 5 releases", |b| {
        b.iter(|| assert!(matches!(world.resolve(&[]), Ok(Outcome::Resolved(_)))));
    });
}

criterion_group!(all, benches);
criterion_main!(all);
