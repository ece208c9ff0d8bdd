//! Archives of very many entries.

use std::io::Write;

use yostel_store::{UnpackConfig, unpack};

use crate::attacks::{Evil, file, link, tar_of};

#[test]
fn an_archive_of_very_many_files_is_judged_before_most_of_them_are_written() {
    let names: Vec<String> = (0..3_000).map(|i| format!("d{}/f{i}", i / 1000)).collect();
    let mut entries: Vec<Evil<'_>> = names.iter().map(|name| file(name, "")).collect();
    entries.push(link("d0/link", "f7"));
    let gzip = |entries: &[Evil<'_>]| {
        let mut writer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        writer.write_all(&tar_of(entries)).unwrap();
        writer.finish().unwrap()
    };
    let listing = {
        let into = in_memory();
        let listing = unpack(&gzip(&entries), into.path(), UnpackConfig::default()).unwrap();
        let folder = yostel_files::Folder::open(into.path()).unwrap();
        assert_eq!(yostel_store::list_tree(&folder).unwrap(), listing);
        listing
    };
    assert_eq!(listing.entries.len(), 3_001);
    entries.push(link("d1/out", "../../out"));
    let few = UnpackConfig { entries: 2_999, ..UnpackConfig::default() };
    for (archive, config) in [(gzip(&entries), UnpackConfig::default()), (gzip(&entries[..3_000]), few)] {
        let into = in_memory();
        unpack(&archive, into.path(), config).unwrap_err();
        let written = yostel_store::list_tree(&yostel_files::Folder::open(into.path()).unwrap()).unwrap();
        assert!(written.entries.len() < 2_000, "{} were written", written.entries.len());
    }
}

/// A folder in memory, where there is one: tens of thousands of files are made.
fn in_memory() -> tempfile::TempDir {
    tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir()).unwrap()
}
