//! Which files of a folder are packed, and which of them look as if they held secrets.

use yostel_documents::Contents;
use yostel_store::Picking;

use crate::secrets::{BY_CONTENT, BY_NAME, KeySearch, is_secret_name};

/// The manifest's file name inside a package.
pub(crate) const MANIFEST_FILE: &str = "yostel.toml";

/// Picks the files of a package by what its manifest says.
#[derive(Debug)]
pub(crate) struct Picker<'p> {
    contents: &'p Contents,
    /// Folders that are packages of their own.
    without: &'p [String],
    /// The file that goes by, and what was seen of it.
    at: Option<(String, KeySearch)>,
    suspects: Vec<(String, &'static str)>,
}

impl<'p> Picker<'p> {
    pub(crate) fn new(contents: &'p Contents, without: &'p [String]) -> Self {
        Self { contents, without, at: None, suspects: Vec::new() }
    }

    /// Lists the files that look as if they held secrets, each with why, of all these that were packed.
    pub(crate) fn suspects<'f>(mut self, files: impl Iterator<Item = &'f String>) -> Vec<(String, &'static str)> {
        self.end_file();
        let named = files.filter(|path| is_secret_name(path) && !self.contents.holds_no_secret(path));
        let mut suspects: Vec<_> = named.map(|path| (path.clone(), BY_NAME)).collect();
        suspects.append(&mut self.suspects);
        suspects.sort();
        suspects.dedup_by(|a, b| a.0 == b.0);
        suspects
    }

    fn end_file(&mut self) {
        if let Some((path, search)) = self.at.take()
            && search.found()
            && !self.contents.holds_no_secret(&path)
        {
            self.suspects.push((path, BY_CONTENT));
        }
    }
}

impl Picking for Picker<'_> {
    fn leaves_out(&self, path: &str) -> bool {
        // Without its manifest a package could not say what it is.
        path != MANIFEST_FILE && (self.without.iter().any(|folder| folder == path) || self.contents.leaves_out(path))
    }

    fn see(&mut self, path: &str, piece: &[u8]) {
        if self.at.as_ref().is_none_or(|(at, _)| at != path) {
            self.end_file();
            self.at = Some((path.to_owned(), KeySearch::default()));
        }
        if let Some((_, search)) = &mut self.at {
            search.see(piece);
        }
    }
}
