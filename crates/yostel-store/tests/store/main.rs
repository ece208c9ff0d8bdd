//! The store on its own: packing, unpacking, trees, the cache, installs.
//! The accidents this prevents: a tree that differs from machine to machine; a file that is nobody's and stays.

#![allow(clippy::disallowed_methods, reason = "worlds are set up and looked at by hand")]
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod attacks;
mod caching;
mod linking;
mod many;
mod packing;
mod power;
mod zips;

use std::fs;
use std::io::Cursor;
use std::path::{Path, PathBuf};

use yostel_documents::{Artifact, Asker, Listing, PackageName, Seal, TreeDigest};
use yostel_files::Folder;
use yostel_store::{
    Cache, InstallPlan, Link, PackError, Packed, PlannedPackage, TreeDifference, UnpackConfig, compare_tree, pack,
};
use yostel_versions::Numbering;

/// Writes files below a folder.
fn write_files(folder: &Path, files: &[(&str, &str)]) {
    for (path, content) in files {
        let path = folder.join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, content).unwrap();
    }
}

/// Packs files and returns the archive's bytes with its artifact.
fn packed(files: &[(&str, &str)]) -> (Vec<u8>, Artifact) {
    let folder = tempfile::tempdir().unwrap();
    write_files(&folder.path().join("in"), files);
    let to = folder.path().join("out.tar.zst");
    let made = pack_to(&folder.path().join("in"), &to).unwrap();
    (fs::read(to).unwrap(), made.artifact)
}

/// Packs a folder into a new file.
fn pack_to(from: &Path, to: &Path) -> Result<Packed, PackError> {
    let file = Folder::open(to.parent().unwrap())?.create(to.file_name().unwrap(), 0o644)?;
    pack(&Folder::open(from)?, &mut yostel_store::PickAll, "any", Some(file))
}

/// Compares a folder with a listing.
fn compare(folder: &Path, listing: &Listing) -> Vec<TreeDifference> {
    compare_tree(Some(&Folder::open(folder).unwrap()), listing).unwrap()
}

/// Returns where a tree's files are.
fn tree_files(cache: &Cache, tree: TreeDigest) -> PathBuf {
    cache.tree(tree).unwrap().path().to_owned()
}

/// Takes an archive into the cache.
fn admit(cache: &Cache, bytes: &[u8], artifact: &Artifact) {
    let archive = cache.stage_archive(artifact, &mut Cursor::new(bytes), |_| {}).unwrap();
    let tree = cache.stage_tree(artifact, Some(&archive), UnpackConfig::default(), None).unwrap();
    cache.commit(vec![archive], vec![tree]).unwrap();
}

/// A plan with one package and a link to it.
fn plan(name: &str, artifact: &Artifact) -> InstallPlan {
    let name = PackageName::parse(name).unwrap();
    let version = Numbering::default().parse_version("1.0.0").unwrap();
    let link_to = version.clone();
    let package = PlannedPackage { name: name.clone(), version, artifact: artifact.clone(), altered: None };
    InstallPlan {
        platform: "linux/amd64".into(),
        purposes: Default::default(),
        projects: Default::default(),
        local: Default::default(),
        lock: Seal::of(b"lock"),
        packages: [(name.clone(), package)].into_iter().collect(),
        links: vec![Link {
            who: Asker::Project(PackageName::parse("console").unwrap()),
            purpose: "run".into(),
            package: name,
            version: link_to,
        }],
    }
}
