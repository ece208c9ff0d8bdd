//! Carry-kits: everything a lockfile needs in one file, for machines without a network.
//!
//! A kit is an OCI image layout (image-spec 1.1, "image-layout") inside a tar: `oci-layout`, `index.json`, and one blob a
//! file under `blobs/sha256/`. Its one manifest lists the lockfile and the archives as layers; docs/formats.md §10. What
//! is read from a kit is checked like what comes from anywhere else: every blob has the digest of its name, or nothing of
//! the kit is taken in.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Read, Write};

use serde::Deserialize;
use serde_json::{Map, Value, json};
use yostel_documents::{ArchiveDigest, Artifact, Lockfile, TreeDigest};
use yostel_files::FileError;

use super::stage::digest_file;
use super::{Cache, StagedArchive};
use crate::error::AdmitError;
use crate::pack::FIXED_TIME;

const MANIFEST_TYPE: &str = "application/vnd.oci.image.manifest.v1+json";
const KIT_TYPE: &str = "application/vnd.yostel.kit.v1";
const ARCHIVE_TYPE: &str = "application/vnd.yostel.archive.v1";
const LOCK_TYPE: &str = "application/vnd.yostel.lock.v1+toml";
const EMPTY_TYPE: &str = "application/vnd.oci.empty.v1+json";
const LAYOUT: &str = "{\"imageLayoutVersion\":\"1.0.0\"}";
/// Longest index, manifest or lockfile that is read, in bytes.
const MOST_TEXT: u64 = 16 << 20;
/// Most entries of a kit.
const MOST_ENTRIES: usize = 200_000;

/// An archive to carry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Carried {
    /// The package.
    pub package: String,
    /// The version.
    pub version: String,
    /// The source that the lockfile names.
    pub from: String,
    /// The archive.
    pub artifact: Artifact,
}

/// What came out of a kit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Loaded {
    /// What it carried.
    pub carried: Vec<Carried>,
    /// How many of these the cache did not have.
    pub new: usize,
    /// The lockfile it was made for.
    pub lockfile: String,
}

/// Why a kit was not taken in.
#[derive(Debug, thiserror::Error)]
pub enum KitError {
    /// It is not a kit, or a damaged one.
    #[error("it is not a whole kit: {0}")]
    Malformed(String),
    /// A blob is not what its name says, or could not be taken in.
    #[error("its blob {name}: {error}")]
    Blob {
        /// The digest in its name.
        name: String,
        /// What is wrong.
        #[source]
        error: AdmitError,
    },
    /// The machine refused.
    #[error(transparent)]
    Store(#[from] FileError),
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Index {
    schema_version: u32,
    manifests: Vec<Descriptor>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Manifest {
    schema_version: u32,
    artifact_type: Option<String>,
    layers: Vec<Descriptor>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Descriptor {
    media_type: String,
    digest: String,
    size: u64,
    #[serde(default)]
    annotations: BTreeMap<String, String>,
}

fn descriptor(media_type: &str, digest: ArchiveDigest, size: u64) -> Map<String, Value> {
    let mut map = Map::new();
    map.insert("mediaType".into(), media_type.into());
    map.insert("digest".into(), digest.to_string().into());
    map.insert("size".into(), size.into());
    map
}

impl Cache {
    /// Writes a kit: the same lockfile and archives make the same bytes.
    ///
    /// # Errors
    /// `Blob` when an archive is not in the cache or rotted there; `Store` when `to` cannot be written.
    pub fn write_kit(
        &self,
        lockfile: &str,
        carried: &[Carried],
        to: &mut dyn Write,
        progress: impl Fn(u64),
    ) -> Result<(), KitError> {
        let unwritten = |cause| KitError::Store(FileError { doing: "write", path: "the kit".into(), cause });
        let mut layers = Vec::new();
        let lock_digest = ArchiveDigest::of(lockfile.as_bytes());
        let mut lock = descriptor(LOCK_TYPE, lock_digest, lockfile.len() as u64);
        lock.insert("annotations".into(), json!({ "org.opencontainers.image.title": "yostel.lock" }));
        layers.push(Value::Object(lock));
        for one in carried {
            let mut layer = descriptor(ARCHIVE_TYPE, one.artifact.digest, one.artifact.size);
            let annotations = json!({
                "org.opencontainers.image.title": format!("{}-{}.tar.zst", one.package.replace('/', "+"), one.version),
                "yostel.from": one.from, "yostel.package": one.package, "yostel.platform": one.artifact.platform,
                "yostel.tree": one.artifact.tree.to_string(), "yostel.version": one.version,
            });
            layer.insert("annotations".into(), annotations);
            layers.push(Value::Object(layer));
        }
        let empty = ArchiveDigest::of(b"{}");
        let manifest = json!({
            "schemaVersion": 2, "mediaType": MANIFEST_TYPE, "artifactType": KIT_TYPE,
            "config": descriptor(EMPTY_TYPE, empty, 2), "layers": layers,
        })
        .to_string();
        let manifest_digest = ArchiveDigest::of(manifest.as_bytes());
        let index = json!({
            "schemaVersion": 2, "mediaType": "application/vnd.oci.image.index.v1+json",
            "manifests": [descriptor(MANIFEST_TYPE, manifest_digest, manifest.len() as u64)],
        })
        .to_string();
        let mut kit = tar::Builder::new(to);
        let blob = |digest: ArchiveDigest| format!("blobs/sha256/{}", digest.to_hex());
        let texts = [
            ("oci-layout".to_owned(), LAYOUT),
            ("index.json".to_owned(), &index),
            (blob(empty), "{}"),
            (blob(manifest_digest), &manifest),
            (blob(lock_digest), lockfile),
        ];
        for (path, text) in texts {
            append(&mut kit, &path, text.len() as u64, text.as_bytes()).map_err(unwritten)?;
        }
        let mut written = BTreeSet::new();
        for one in carried.iter().filter(|one| written.insert(one.artifact.digest)) {
            let Artifact { digest, size, .. } = one.artifact;
            let (root, path) = (self.folder()?, Self::archive_name(digest));
            let (found, bytes) = digest_file(&root, &path)?;
            if found != digest {
                let error = AdmitError::ArchiveDiffers { expected: digest, found, bytes, expected_bytes: size };
                return Err(KitError::Blob { name: digest.to_string(), error });
            }
            let file = root.open_file(&path)?;
            append(&mut kit, &blob(digest), bytes, file).map_err(unwritten)?;
            progress(bytes);
        }
        kit.into_inner().and_then(|to| to.flush()).map_err(unwritten)
    }

    /// Takes in all that a kit carries, or nothing.
    ///
    /// # Errors
    /// `Malformed`, `Blob` when a blob is not what its name says, `Store` when the cache cannot be written.
    pub fn load_kit(&self, from: &mut dyn Read, progress: impl Fn(u64)) -> Result<Loaded, KitError> {
        let malformed = |reason: &str| KitError::Malformed(reason.to_owned());
        // What the library says of it quotes the file.
        let unread = |_: io::Error| malformed("it is not a tar file, or was cut short");
        let mut blobs: BTreeMap<ArchiveDigest, StagedArchive> = BTreeMap::new();
        let mut index = None;
        let mut kit = tar::Archive::new(from);
        // Raw: a kit has no entry whose name needs another, and the library would read such a name whole.
        for (number, entry) in kit.entries().map_err(unread)?.raw(true).enumerate() {
            let mut entry = entry.map_err(unread)?;
            if number >= MOST_ENTRIES {
                return Err(KitError::Malformed(format!("it has more than {MOST_ENTRIES} entries")));
            }
            let path = String::from_utf8_lossy(&entry.header().path_bytes()).into_owned();
            let path = path.strip_prefix("./").unwrap_or(&path).to_owned();
            let size = entry.size();
            match entry.header().entry_type() {
                kind if kind.is_file() => {}
                tar::EntryType::GNULongName | tar::EntryType::GNULongLink | tar::EntryType::XHeader => {
                    return Err(malformed("it has names that a kit never has"));
                }
                _ => continue,
            }
            if path == "index.json" {
                index = Some(text_of(&mut entry, size)?);
            } else if let Some(hex) = path.strip_prefix("blobs/sha256/") {
                let digest = ArchiveDigest::parse(&format!("sha256:{hex}"))
                    .map_err(|_| KitError::Malformed(format!("`{}` is not a digest", hex.escape_debug())))?;
                let expected = Artifact { platform: String::new(), digest, size, tree: TreeDigest::of(b"") };
                let staged = self
                    .stage_archive(&expected, &mut entry, &progress)
                    .map_err(|error| KitError::Blob { name: digest.to_string(), error })?;
                blobs.insert(digest, staged);
            }
        }
        let index: Index = read_json(&index.ok_or_else(|| malformed("it has no index.json"))?, "its index")?;
        let [manifest] = &index.manifests[..] else { return Err(malformed("it should have one manifest")) };
        let manifest: Manifest = read_json(&blob_text(&blobs, manifest)?, "its manifest")?;
        if (index.schema_version, manifest.schema_version) != (2, 2) {
            return Err(malformed("its schema is not version 2"));
        }
        if manifest.artifact_type.as_deref() != Some(KIT_TYPE) {
            return Err(malformed("it is an image of something else"));
        }
        let mut lockfile = None;
        let mut carried = Vec::new();
        for layer in &manifest.layers {
            match layer.media_type.as_str() {
                LOCK_TYPE => lockfile = Some(blob_text(&blobs, layer)?),
                ARCHIVE_TYPE => carried.push(carried_of(layer)?),
                _ => {}
            }
        }
        let lockfile = lockfile.ok_or_else(|| malformed("it has no lockfile"))?;
        let locked =
            Lockfile::parse(&lockfile).map_err(|error| KitError::Malformed(format!("its lockfile: {error}")))?;
        let vouched: BTreeSet<&Artifact> = locked.chosen.values().flat_map(|locked| &locked.artifacts).collect();
        if let Some(one) = carried.iter().find(|one| !vouched.contains(&one.artifact)) {
            return Err(KitError::Malformed(format!("its lockfile has no blob {}", one.artifact.digest)));
        }
        let mut archives = Vec::new();
        let mut seen = BTreeSet::new();
        for one in carried.iter().filter(|one| seen.insert(one.artifact.digest)) {
            let digest = one.artifact.digest;
            let staged = blobs.remove(&digest).ok_or_else(|| malformed(&format!("blob {digest} is missing")))?;
            if !self.has_archive(digest) {
                archives.push(staged);
            }
        }
        let new = archives.len();
        self.commit(archives, Vec::new())?;
        Ok(Loaded { carried, new, lockfile })
    }
}

fn carried_of(layer: &Descriptor) -> Result<Carried, KitError> {
    let note = |key: &str| {
        let found = layer.annotations.get(key).cloned();
        found.ok_or_else(|| KitError::Malformed(format!("blob {} has no `{key}`", layer.digest.escape_debug())))
    };
    let digest = ArchiveDigest::parse(&layer.digest).map_err(|error| KitError::Malformed(error.to_string()))?;
    let tree = TreeDigest::parse(&note("yostel.tree")?).map_err(|error| KitError::Malformed(error.to_string()))?;
    let artifact = Artifact { platform: note("yostel.platform")?, digest, size: layer.size, tree };
    let (package, version, from) = (note("yostel.package")?, note("yostel.version")?, note("yostel.from")?);
    Ok(Carried { package, version, from, artifact })
}

fn blob_text(blobs: &BTreeMap<ArchiveDigest, StagedArchive>, of: &Descriptor) -> Result<String, KitError> {
    let digest = ArchiveDigest::parse(&of.digest).map_err(|error| KitError::Malformed(error.to_string()))?;
    let staged = blobs.get(&digest).ok_or_else(|| KitError::Malformed(format!("blob {digest} is missing")))?;
    let (folder, name) = staged.made.at();
    text_of(&mut folder.open_file(name)?, folder.meta(name)?.size)
}

fn text_of(from: &mut dyn Read, size: u64) -> Result<String, KitError> {
    if size > MOST_TEXT {
        return Err(KitError::Malformed(format!("a description of {size} bytes is too long")));
    }
    let mut text = String::new();
    from.read_to_string(&mut text).map_err(|error| KitError::Malformed(error.to_string()))?;
    Ok(text)
}

fn read_json<T: serde::de::DeserializeOwned>(text: &str, what: &str) -> Result<T, KitError> {
    serde_json::from_str(text).map_err(|error| KitError::Malformed(format!("{what}: {error}")))
}

fn append(kit: &mut tar::Builder<&mut dyn Write>, path: &str, size: u64, content: impl Read) -> io::Result<()> {
    let mut header = tar::Header::new_ustar();
    header.set_size(size);
    header.set_mode(0o644);
    header.set_mtime(FIXED_TIME);
    header.set_entry_type(tar::EntryType::Regular);
    kit.append_data(&mut header, path, content)
}
