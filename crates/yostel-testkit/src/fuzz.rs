//! What a fuzzer calls with whatever it made up, one function a kind of input. Each panics only where something is
//! wrong: reading never does, and what was read and written reads the same again.
//!
//! `fuzz/` outside the workspace has a target for each (docs/security.md §6 tells how they are run); the corpus there is replayed
//! by a test of this crate, so that what was found once stays found.

use std::io::Cursor;
use std::path::{Component, Path};

use yostel_documents::{
    About, Dismissal, Identity, Inventory, InventoryForm, Listing, Lockfile, Manifest, OpenVex, PackageDocument,
    PackageName, PackageUrl, Patch, TreeFile,
};
use yostel_sources::CommitFile;
use yostel_store::{Cache, UnpackConfig, unpack};
use yostel_versions::{ConstraintText, Numbering, Order, Version};

/// Reads a manifest, and edits one that can be read.
pub fn manifest(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    Identity::of(text);
    Manifest::offers_of(text);
    if let Ok(manifest) = Manifest::parse(text) {
        let name = PackageName::parse("a/b").expect("that is a name");
        let purpose = yostel_documents::run_purpose();
        let need = yostel_documents::NeedForm::Constraint(ConstraintText::anything());
        if let Ok(edit) = yostel_documents::add_need(text, &purpose, &name, &need) {
            assert!(
                Manifest::parse(&edit.text).is_ok() || manifest.needs.is_empty(),
                "an edit broke it: {}",
                edit.text
            );
        }
    }
}

/// Reads a lockfile; its seal is made to fit, since no fuzzer guesses one.
pub fn lockfile(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    Lockfile::header(text);
    let sealed = text.split_once("seal = ").and_then(|(head, rest)| {
        let (_, body) = rest.split_once('\n')?;
        Some(format!("{head}seal = \"{}\"\n{body}", yostel_documents::Seal::of(body.replace("\r\n", "\n").as_bytes())))
    });
    for text in [text.to_owned(), sealed.unwrap_or_default()] {
        if let Ok(lockfile) = Lockfile::parse(&text) {
            assert_eq!(Lockfile::parse(&lockfile.write()).as_ref(), Ok(&lockfile), "what was written reads as another");
        }
    }
}

/// Reads a document of releases.
pub fn document(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let name = PackageName::parse("gust-model").expect("that is a name");
    if let Ok(document) = PackageDocument::parse(text, &name) {
        let written = document.write();
        let again = PackageDocument::parse(&written, &name).expect("what was written can be read");
        let told = |document: &PackageDocument| {
            document
                .releases
                .iter()
                .map(|release| (release.whole().record(), release.withdrawn().cloned()))
                .collect::<Vec<_>>()
        };
        assert_eq!((again.write(), told(&again)), (written, told(&document)));
    }
}

/// Reads the head of a registry.
pub fn head(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    if let Some(head) = yostel_documents::RegistryHead::parse(text) {
        assert_eq!(yostel_documents::RegistryHead::parse(&head.write()), Some(head));
    }
}

/// Reads an advisory, and asks it about releases.
pub fn advisory(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let Ok(advisory) = yostel_documents::Advisory::parse(text) else { return };
    let numberings = [Numbering::default(), Numbering::new(Order::words(), None).unwrap()];
    for numbering in &numberings {
        for version in ["0.0.0", "1.0.0", "2.2.1"].map(|text| numbering.parse_version(text).unwrap()) {
            for affected in &advisory.affected {
                yostel_findings::is_affected(affected, numbering, &version);
            }
        }
    }
    for about in advisory.affected.iter().flat_map(yostel_documents::Affected::about) {
        if let About::Url(url) = &about {
            assert_eq!(PackageUrl::parse(&url.to_string()).as_ref(), Ok(url), "it is not canonical");
        }
        let (repository, ancestry) = ("example.org/a", yostel_findings::Ancestry::default());
        let at = yostel_findings::AtCommit { repository, commit: "0", tag: Some("v1"), ancestry: &ancestry };
        advisory.affected.iter().filter(|affected| yostel_findings::is_commit_affected(affected, &at)).count();
        assert!(about.number() < 1 << 48);
    }
}

/// Reads statements on advisories, adds one, and takes it back.
pub fn statements(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let Ok(mut vex) = OpenVex::parse(text) else { return };
    let now = jiff::Timestamp::UNIX_EPOCH;
    let dismissal = Dismissal {
        name: "A-1".into(),
        aliases: Vec::new(),
        project: "pkg:generic/a".into(),
        package: "pkg:generic/b@1".into(),
        why: "so".into(),
        justification: None,
        until: None,
    };
    vex.dismiss(&dismissal, now);
    let read = OpenVex::parse(&vex.to_text()).expect("what was read is written so that it can be read");
    assert_eq!(read.statements, vex.statements);
    assert!(vex.take_back("A-1", Some("pkg:generic/b@1"), now) > 0);
}

/// Reads a list of what another project uses, and how it is called here.
pub fn inventory(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    yostel_documents::read_names(text).ok();
    for form in [None, Some(InventoryForm::Urls), Some(InventoryForm::Csv)] {
        let Ok(inventory) = Inventory::parse(text, form) else { continue };
        let parts = inventory.parts.len();
        let relations = inventory.relations.iter().flat_map(|(from, to)| std::iter::once(from).chain(to));
        let direct = inventory.direct.iter().flatten().map(|need| &need.part);
        assert!(relations.chain(direct).all(|part| *part < parts), "something is needed that is not listed");
        assert!(inventory.parts.iter().all(|part| !part.name.is_empty()));
    }
}

/// Reads a constraint and, as lines, versions; binds and asks it.
pub fn constraint(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let mut lines = text.lines();
    let Ok(accept) = ConstraintText::parse(lines.next().unwrap_or_default()) else { return };
    assert_eq!(ConstraintText::parse_joined(accept.as_str()).as_ref(), Ok(&accept), "it is not canonical");
    let joined = accept.and(&accept);
    for order in [Order::Semver, Order::words()] {
        let Ok(numbering) = Numbering::new(order.clone(), None) else { continue };
        let (Ok(one), Ok(two)) = (accept.bind(&numbering), joined.bind(&numbering)) else { continue };
        for version in lines.clone().filter_map(|line| Version::parse(line, &order).ok()) {
            assert_eq!(one.accepts(&version), two.accepts(&version), "joined with itself it accepts another set");
        }
    }
}

/// Reads a patch, and makes it to a file.
pub fn patch(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let Ok(patch) = Patch::parse(text) else { return };
    assert_eq!(Patch::parse(&patch.write()).map(|again| again.files.len()), Ok(patch.files.len()));
    let file = TreeFile { kind: yostel_documents::EntryKind::File, content: b"one\ntwo\nthree\n".to_vec() };
    for change in &patch.files {
        change.apply(Some(&file)).ok();
        change.apply(None).ok();
    }
}

/// Reads the listing of a tree.
pub fn listing(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    if let Ok(listing) = Listing::parse(text) {
        assert_eq!(listing.write(), text, "there is one text for a listing");
    }
}

/// Reads what git lists of a commit: no path that is taken may lead out of its folder.
pub fn commit(data: &[u8]) {
    let Ok(files) = CommitFile::list(data) else { return };
    for file in files {
        let folders = Path::new(&file.path).components().all(|part| matches!(part, Component::Normal(_)));
        assert!(folders && !file.path.is_empty() && !file.path.contains('\0'), "{:?}", file.path);
    }
}

/// Limits that a fuzzer meets soon.
const SMALL: UnpackConfig =
    UnpackConfig { bytes: 1 << 20, entries: 200, path_bytes: 1 << 16, window_log: 20, growth: 1000 };

/// A folder in memory where there is one.
fn work_folder() -> Option<tempfile::TempDir> {
    tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir()).ok()
}

/// Unpacks an archive: nothing is ever beside its folder, and what is in it is what was told.
pub fn archive(data: &[u8]) {
    // A tar alone is most of what there is to find; its checksums are made to fit.
    let mut fitted = data.to_vec();
    for head in fitted.chunks_exact_mut(512) {
        if &head[257..262] == b"ustar" {
            head[148..156].fill(b' ');
            let sum: u32 = head.iter().map(|byte| u32::from(*byte)).sum();
            head[148..156].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
        }
    }
    for bytes in [data, &fitted] {
        let Some(outer) = work_folder() else { return };
        let into = outer.path().join("in");
        if std::fs::create_dir(&into).is_err() {
            return;
        }
        let outcome = unpack(bytes, &into, SMALL);
        assert_eq!(std::fs::read_dir(outer.path()).map(Iterator::count).ok(), Some(1), "something is beside it");
        if let Ok(listing) = outcome {
            let folder = yostel_files::Folder::open(&into).expect("it is there");
            let again = yostel_store::list_tree(&folder).expect("what was unpacked could be packed");
            assert_eq!(again, listing);
        }
    }
}

/// Loads a carry-kit into an empty cache.
pub fn kit(data: &[u8]) {
    let Some(folder) = work_folder() else { return };
    let root = folder.path().join("cache");
    let cache = Cache::open(&root);
    let loaded = cache.load_kit(&mut Cursor::new(data), |_| {});
    drop(cache);
    assert!(loaded.is_ok() || !has_files(&root), "a kit that was refused left something");
}

fn has_files(folder: &Path) -> bool {
    std::fs::read_dir(folder)
        .into_iter()
        .flatten()
        .flatten()
        .any(|entry| entry.path().is_file() || has_files(&entry.path()))
}

/// A kind of input: the name of its target and corpus, and what is run on it.
pub type Target = (&'static str, fn(&[u8]));

/// The kinds of input.
pub const TARGETS: [Target; 13] = [
    ("manifest", manifest),
    ("lockfile", lockfile),
    ("document", document),
    ("head", head),
    ("advisory", advisory),
    ("statements", statements),
    ("inventory", inventory),
    ("constraint", constraint),
    ("patch", patch),
    ("listing", listing),
    ("archive", archive),
    ("commit", commit),
    ("kit", kit),
];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_corpus_of_the_fuzzer_is_replayed() {
        let fuzz = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz");
        for (name, run) in TARGETS {
            let entries =
                std::fs::read_dir(fuzz.join("corpus").join(name)).unwrap_or_else(|_| panic!("{name} has a corpus"));
            let files: Vec<_> = entries.map(|entry| entry.unwrap().path()).collect();
            assert!(!files.is_empty(), "{name} has seeds");
            files.iter().for_each(|path| run(&std::fs::read(path).unwrap()));
            assert!(fuzz.join(format!("fuzz_targets/{name}.rs")).is_file(), "{name} has a target");
        }
    }
}
