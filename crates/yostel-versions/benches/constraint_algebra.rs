//! How long does it take to read, bind, combine and ask constraints?

#![allow(missing_docs, clippy::unwrap_used, reason = "a bench")]

use criterion::{Criterion, criterion_group, criterion_main};
use yostel_versions::{Constraint, ConstraintText, Numbering};

const TEXTS: [&str; 6] =
    ["^2.1", ">=2.1, <3", "^1 || ^3.2", ">=1.2.3, !=1.4.0, <2", "=2.0.0-rc.1", "1.4.* || >=2.0.0-beta, <3"];

fn bind(text: &str) -> Constraint {
    ConstraintText::parse(text).unwrap().bind(&Numbering::default()).unwrap()
}

fn benches(criterion: &mut Criterion) {
    let bound: Vec<Constraint> = TEXTS.iter().map(|text| bind(text)).collect();
    let numbering = Numbering::default();
    let versions: Vec<_> =
        (0..100).map(|i| numbering.parse_version(&format!("{}.{}.0", i / 20, i % 20)).unwrap()).collect();
    criterion.bench_function("read and bind 6 constraints", |b| {
        b.iter(|| TEXTS.iter().map(|text| bind(text)).filter(|c| !c.is_empty()).count());
    });
    criterion.bench_function("intersect, join and compare all 36 pairs", |b| {
        b.iter(|| {
            let pairs = bound.iter().flat_map(|a| bound.iter().map(move |b| (a, b)));
            let subsets = pairs.filter(|(a, b)| a.intersection(b).is_subset(&a.union(b))).count();
            assert_eq!(subsets, 36);
        });
    });
    criterion.bench_function("ask 6 constraints about 100 versions", |b| {
        b.iter(|| {
            let accepted: usize = bound.iter().map(|c| versions.iter().filter(|v| c.accepts(v)).count()).sum();
            assert_eq!(accepted, 113);
        });
    });
}

criterion_group!(all, benches);
criterion_main!(all);
