//! Is the cache sound, and how large is it.

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicBool, Ordering};

use yostel_documents::{ArchiveDigest, TreeDigest};
use yostel_files::{FileError, is_unfinished};

use super::Cache;
use super::notes::files_below;
use super::stage::digest_file;
use crate::install::Placing;
use crate::verify::compare_tree;
use yostel_files::for_each_in_parallel;

/// One object of the cache that is not what its name says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CacheProblem {
    /// An archive with other content.
    Archive {
        /// The digest in its name.
        named: ArchiveDigest,
        /// The digest it has.
        found: ArchiveDigest,
    },
    /// A tree with other files.
    Tree {
        /// The digest in its name.
        named: TreeDigest,
        /// How many files differ; none when its listing is lost.
        differing: Option<usize>,
    },
    /// The path in the cache of something that is no object, or cannot be read.
    Stranger(String),
}

/// What a check of the whole cache found.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
#[must_use = "a report with problems must be told"]
pub struct CacheReport {
    /// Archives that were read.
    pub archives: usize,
    /// Trees that were read.
    pub trees: usize,
    /// What is wrong, archives first.
    pub problems: Vec<CacheProblem>,
}

/// How much the cache holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct CacheStats {
    /// Archives.
    pub archives: usize,
    /// Their size in bytes.
    pub archive_bytes: u64,
    /// Trees.
    pub trees: usize,
    /// Files in them.
    pub files: u64,
    /// Their size in bytes.
    pub tree_bytes: u64,
    /// Of these, bytes that take no room of their own, because releases of a package share files.
    pub tree_bytes_shared: u64,
    /// Projects that were installed from it.
    pub projects: usize,
    /// Bytes of installed files that take no room of their own, because projects share the cache's.
    pub shared_bytes: u64,
}

impl Cache {
    /// Reads every archive and every file of every tree and lists what is not what its name says. Calls `progress` after
    /// each, which tells whether to go on.
    ///
    /// # Errors
    /// When a folder of the cache cannot be read, or `progress` said no.
    pub fn verify(&self, progress: impl Fn() -> bool + Sync) -> Result<CacheReport, FileError> {
        let mut report = CacheReport::default();
        let Some(root) = self.folder_if_there()? else { return Ok(report) };
        let (archives, trees) = (self.names("archives/sha256")?, self.names("trees")?);
        let stopped = AtomicBool::new(false);
        // Once it is to end, what is left is passed over.
        let ends = || stopped.load(Ordering::Relaxed);
        let advance = || stopped.fetch_or(!progress(), Ordering::Relaxed);
        let checked = for_each_in_parallel(&archives, |name| {
            if ends() {
                return None;
            }
            let stranger = || Some(CacheProblem::Stranger(format!("archives/sha256/{name}")));
            let problem = match ArchiveDigest::parse(&format!("sha256:{name}")) {
                Err(_) => stranger(),
                Ok(named) => digest_file(&root, &Self::archive_name(named)).map_or_else(
                    |_| stranger(),
                    |(found, _)| (found != named).then_some(CacheProblem::Archive { named, found }),
                ),
            };
            advance();
            problem
        });
        report.archives = archives.len();
        report.problems.extend(checked.into_iter().flatten());
        let checked = for_each_in_parallel(&trees, |name| {
            if ends() {
                return None;
            }
            let problem = match TreeDigest::parse(&format!("sha256:{name}")) {
                Err(_) => Some(CacheProblem::Stranger(format!("trees/{name}"))),
                Ok(named) => {
                    let differing = self.listing(named).ok().and_then(|listing| {
                        let files = self.tree(named).ok();
                        compare_tree(files.as_ref(), &listing).ok().map(|differences| differences.len())
                    });
                    (differing != Some(0)).then_some(CacheProblem::Tree { named, differing })
                }
            };
            advance();
            problem
        });
        report.trees = trees.len();
        report.problems.extend(checked.into_iter().flatten());
        if ends() { Err(FileError::stop("read", root.path())) } else { Ok(report) }
    }

    /// Counts what the cache holds, from names, sizes and listings.
    ///
    /// # Errors
    /// When a folder of the cache cannot be read.
    pub fn stats(&self) -> Result<CacheStats, FileError> {
        let mut sizes: Vec<(TreeDigest, u64)> = Vec::new();
        let mut inodes = BTreeSet::new();
        let mut stats = CacheStats { projects: self.names("projects")?.len(), ..CacheStats::default() };
        let Some(root) = self.folder_if_there()? else { return Ok(stats) };
        for name in self.names("archives/sha256")? {
            stats.archives += 1;
            stats.archive_bytes += root.meta(format!("archives/sha256/{name}"))?.size;
        }
        for name in self.names("trees")? {
            let listing = TreeDigest::parse(&format!("sha256:{name}")).ok().and_then(|tree| self.listing(tree).ok());
            if let Some(listing) = listing {
                stats.trees += 1;
                stats.files += listing.entries.len() as u64;
                stats.tree_bytes += listing.size();
                let files = files_below(self.tree(listing.digest())).into_iter();
                let again = files.filter(|(inode, _)| !inodes.insert(*inode));
                stats.tree_bytes_shared += again.map(|(_, size)| size).sum::<u64>();
                sizes.push((listing.digest(), listing.size()));
            }
        }
        for record in self.project_records()?.iter().filter(|record| record.project.is_dir()) {
            // Copies share nothing; and a release that is only the base of local changes is needed, but not installed.
            let links = record.placing != Placing::Copy;
            let is_installed = |tree: &&(TreeDigest, u64)| {
                record.trees.contains(&tree.0.to_string())
                    && record.stamps.keys().any(|folder| folder.ends_with(&format!("-{}", tree.0.to_short())))
            };
            stats.shared_bytes +=
                sizes.iter().filter(|tree| links && is_installed(tree)).map(|(_, size)| size).sum::<u64>();
        }
        Ok(stats)
    }

    /// Lists the names in a folder of the cache, sorted; none when it is not there.
    pub(super) fn names(&self, folder: &str) -> Result<Vec<String>, FileError> {
        let entries = match self.folder_if_there()? {
            Some(root) => root.entries_of(folder)?,
            None => Vec::new(),
        };
        Ok(entries.iter().filter(|entry| !is_unfinished(&entry.name)).map(|entry| entry.text().into_owned()).collect())
    }
}
