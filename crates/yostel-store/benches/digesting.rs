//! How fast are archives and trees digested?

#![allow(clippy::disallowed_methods, reason = "worlds are set up and looked at by hand")]
#![allow(missing_docs, clippy::unwrap_used, reason = "a bench")]

use std::fs;

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use yostel_documents::ArchiveDigest;
use yostel_files::Folder;
use yostel_store::{PickAll, UnpackConfig, compare_tree, pack, unpack};

fn benches(criterion: &mut Criterion) {
    let mut group = criterion.benchmark_group("digesting");
    let bytes: Vec<u8> = (0..8u32 << 20).map(|i| (i.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    group.throughput(Throughput::Bytes(bytes.len() as u64));
    group.bench_function("8 MiB in one piece", |b| b.iter(|| ArchiveDigest::of(&bytes)));

    let folder = tempfile::tempdir().unwrap();
    let tree = folder.path().join("tree");
    fs::create_dir(&tree).unwrap();
    for i in 0..1000usize {
        fs::write(tree.join(format!("{i}.txt")), format!("line {i}\n").repeat(500)).unwrap();
    }
    let archive = folder.path().join("archive");
    let held = Folder::open(folder.path()).unwrap();
    let tree = held.folder("tree").unwrap();
    let packed = pack(&tree, &mut PickAll, "any", Some(held.create("archive", 0o644).unwrap())).unwrap();
    group.throughput(Throughput::Bytes(packed.listing.size()));
    group.bench_function("a tree of 1000 files, compared with its listing", |b| {
        b.iter(|| assert!(compare_tree(Some(&tree), &packed.listing).unwrap().is_empty()));
    });
    let archive = fs::read(&archive).unwrap();
    group.sample_size(10).bench_function("an archive of 1000 files, unpacked", |b| {
        b.iter(|| {
            let into = tempfile::tempdir_in(folder.path()).unwrap();
            assert_eq!(unpack(&archive, into.path(), UnpackConfig::default()).unwrap(), packed.listing);
        });
    });
}

criterion_group!(all, benches);
criterion_main!(all);
