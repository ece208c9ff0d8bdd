//! Reading a lockfile: the seal first, then every field by its rule.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use serde::Deserialize;
use toml::Spanned;
use yostel_versions::{ConstraintText, Numbering};

use super::write::{SEAL_KEY, head, seal_of};
use super::{Alteration, AskedBy, LOCKFILE_FORMAT, LockedPackage, Lockfile, LockfileHeader};
use crate::chosen::Chosen;
use crate::digest::{ArchiveDigest, ContentDigest, RecordDigest, Seal, TreeDigest};
use crate::merge_mark::{is_merge_mark, merge_mark};
use crate::name::{PackageName, SourceName, Word, run_purpose};
use crate::numbering::NumberingTable;
use crate::origin::{GitAt, GitPlace, Origin};
use crate::release::{Artifact, check_platform};
use crate::requirement::Asker;

/// Why a lockfile is refused. Spans are byte ranges of the text.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum LockfileError {
    /// Two branches were merged and left their marks.
    #[error("the lockfile holds the marks of an unfinished merge")]
    MergeMarks {
        /// The first mark.
        span: Range<usize>,
    },
    /// There is no line with a seal.
    #[error("the lockfile has no seal")]
    NoSeal,
    /// The content is not what the seal vouches for.
    #[error("the lockfile was changed by hand or merged badly: its seal does not fit its content")]
    SealDiffers {
        /// The seal as written.
        written: Seal,
        /// The seal of the content.
        found: Seal,
        /// The line of the seal.
        span: Range<usize>,
    },
    /// A later format.
    #[error("the lockfile has format {found}; this yostel reads format 1")]
    Format {
        /// The format it has.
        found: u32,
    },
    /// A part breaks a rule.
    #[error("{reason}")]
    Part {
        /// Where.
        span: Range<usize>,
        /// What is wrong.
        reason: String,
    },
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawLockfile {
    format: u32,
    #[serde(rename = "seal")]
    _seal: String,
    declarations: Spanned<String>,
    #[serde(default)]
    chosen: Vec<Spanned<RawChosen>>,
}

/// What is before the first block.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Head {
    format: u32,
    #[serde(rename = "seal")]
    _seal: String,
    declarations: Spanned<String>,
}

/// A part of the text after that.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Blocks {
    chosen: Vec<Spanned<RawChosen>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct RawChosen {
    name: String,
    version: String,
    #[serde(default)]
    numbering: NumberingTable,
    from: RawOrigin,
    record: Option<String>,
    #[serde(default)]
    forced: bool,
    #[serde(default)]
    stands_in_for: Vec<String>,
    patch: Option<String>,
    purposes: Vec<String>,
    asked_by: Vec<RawAskedBy>,
    #[serde(default)]
    artifacts: Vec<RawArtifact>,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum RawOrigin {
    Source(String),
    Elsewhere(RawElsewhere),
}

#[derive(Deserialize, Default)]
#[serde(deny_unknown_fields, default)]
struct RawElsewhere {
    git: Option<String>,
    at: Option<String>,
    tag: Option<String>,
    branch: Option<String>,
    inside: Option<String>,
    commit: Option<String>,
    archive: Option<String>,
    path: Option<String>,
    project: Option<String>,
}

impl RawOrigin {
    fn read(self) -> Result<Origin, String> {
        let raw = match self {
            Self::Source(name) => return Word::parse(&name).map(Origin::Source).map_err(|error| error.to_string()),
            Self::Elsewhere(raw) => raw,
        };
        let RawElsewhere { git, at, tag, branch, inside, commit, archive, path, project } = raw;
        match (git, archive, path, project) {
            (Some(address), None, None, None) => {
                let (at, commit) = match (at, tag, branch, commit) {
                    (Some(at), None, None, None) => (GitAt::Commit(at.clone()), at),
                    (None, Some(tag), None, Some(commit)) => (GitAt::Tag(tag), commit),
                    (None, None, Some(branch), Some(commit)) => (GitAt::Branch(branch), commit),
                    (None, None, None, Some(commit)) => (GitAt::Head, commit),
                    _ => return Err("the commit of a repository is missing, or told twice".into()),
                };
                Ok(Origin::Git { place: GitPlace { address, at, folder: inside }, commit })
            }
            (None, Some(address), None, None) => Ok(Origin::Archive { address }),
            (None, None, Some(folder), None) => Ok(Origin::Path { folder }),
            (None, None, None, Some(folder)) => Ok(Origin::Project { folder }),
            _ => Err("`from` tells of no place, or of several".into()),
        }
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawAskedBy {
    who: String,
    purpose: Option<String>,
    accept: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawArtifact {
    platform: String,
    size: u64,
    digest: String,
    tree: String,
    altered: Option<String>,
}

pub(super) fn read(original: &str) -> Result<Lockfile, LockfileError> {
    if let Some(span) = merge_mark(original) {
        return Err(LockfileError::MergeMarks { span });
    }
    if let Some(found) = announced_format(original).filter(|format| *format != LOCKFILE_FORMAT) {
        return Err(LockfileError::Format { found });
    }
    check_seal(original)?;
    let raw = match block_by_block(original) {
        Some(raw) => raw,
        None => toml::from_str(original).map_err(|error| LockfileError::Part {
            span: error.span().unwrap_or(0..0),
            reason: error.message().to_owned(),
        })?,
    };
    debug_assert_eq!(raw.format, LOCKFILE_FORMAT);
    let declarations = Seal::parse(raw.declarations.get_ref())
        .map_err(|error| LockfileError::Part { span: raw.declarations.span(), reason: error.to_string() })?;
    let versions: BTreeSet<(String, String)> =
        raw.chosen.iter().map(|c| (c.get_ref().name.clone(), c.get_ref().version.clone())).collect();
    let mut chosen: Vec<(PackageName, (LockedPackage, Asked))> = Vec::new();
    for block in raw.chosen {
        let span = block.span();
        let part = |reason: String| LockfileError::Part { span: span.clone(), reason };
        let (name, locked) = read_chosen(block.into_inner(), &versions).map_err(&part)?;
        if chosen.iter().rev().take_while(|(n, _)| *n == name).any(|(_, (l, _))| l.version == locked.0.version)
            || (chosen.last().is_some_and(|(last, _)| *last > name) && chosen.iter().any(|(n, _)| *n == name))
        {
            return Err(part(format!("{name} is locked twice")));
        }
        chosen.push((name, locked));
    }
    // Versions of who asks can be read only once every package's numbering is known.
    let numberings: BTreeMap<PackageName, Numbering> =
        chosen.iter().map(|(n, (l, _))| (n.clone(), l.numbering.clone())).collect();
    let mut whole = Chosen::default();
    for (name, (mut locked, asked)) in chosen {
        for (who, purpose, accept) in asked {
            let asker = read_asker(&who, &numberings)
                .map_err(|reason| LockfileError::Part { span: 0..0, reason: format!("{name}: {reason}") })?;
            locked.asked_by.insert(AskedBy { who: asker, purpose, accept });
        }
        whole.insert(name, locked);
    }
    Ok(Lockfile { declarations, chosen: whole })
}

/// Reads one block after the other, which takes a small part of the memory that the whole text would. Nothing when a block
/// cannot be read alone: reading the whole text tells why.
fn block_by_block(text: &str) -> Option<RawLockfile> {
    const BLOCK: &str = "[[chosen]]\n";
    let starts = text.match_indices(BLOCK).map(|(at, _)| at).filter(|at| text[..*at].ends_with('\n'));
    let mut starts = starts.chain([text.len()]);
    let mut start = starts.next()?;
    let Head { format, _seal, declarations } = toml::from_str(&text[..start]).ok()?;
    let mut chosen = Vec::new();
    for end in starts {
        let Blocks { chosen: blocks } = toml::from_str(&text[start..end]).ok()?;
        chosen.extend(blocks.into_iter().map(|block| {
            let span = block.span();
            Spanned::new(start + span.start..start + span.end, block.into_inner())
        }));
        start = end;
    }
    Some(RawLockfile { format, _seal, declarations, chosen })
}

/// Looks at what can be told without reading every block; nothing when the text must be read in full.
pub(super) fn header(original: &str) -> Option<LockfileHeader> {
    let seal = check_seal(original).ok()?;
    // What is before the body is not sealed: it must be what we write, to the byte.
    let mut lines = original.strip_prefix(&head(seal))?.lines();
    let declarations = lines.next()?.strip_prefix("declarations = \"")?.strip_suffix('"')?;
    let (mut packages, mut sources) = (0, BTreeSet::new());
    let mut last = "";
    for line in lines {
        if is_merge_mark(line) {
            return None;
        }
        packages += usize::from(line == "[[chosen]]");
        // Of thousands of packages nearly all come from the source of the one before.
        if let Some(name) = line.strip_prefix("from = \"").and_then(|rest| rest.strip_suffix('"'))
            && name != last
        {
            sources.insert(SourceName::parse(name).ok()?);
            last = name;
        }
    }
    Some(LockfileHeader { seal, declarations: Seal::parse(declarations).ok()?, packages, sources })
}

/// A later format may not even be readable, so its number is taken from its line before anything else is read.
fn announced_format(text: &str) -> Option<u32> {
    text.lines().find_map(|line| line.strip_prefix("format = ")?.trim_end().parse().ok())
}

/// Version control may have turned line endings: they are no change of content.
fn check_seal(original: &str) -> Result<Seal, LockfileError> {
    let mut at = 0;
    for line in original.split_inclusive('\n') {
        let end = at + line.len();
        if let Some(rest) = line.strip_prefix(SEAL_KEY) {
            let span = at..at + line.trim_end().len();
            let written = rest.trim_end().strip_suffix('"').and_then(|text| Seal::parse(text).ok());
            let Some(written) = written else {
                return Err(LockfileError::Part { span, reason: "the seal is not a digest".into() });
            };
            let body = &original[end..];
            let found = if body.contains('\r') { seal_of(&body.replace("\r\n", "\n")) } else { seal_of(body) };
            return if written == found { Ok(found) } else { Err(LockfileError::SealDiffers { written, found, span }) };
        }
        at = end;
    }
    Err(LockfileError::NoSeal)
}

type Asked = Vec<(String, Word, ConstraintText)>;

fn read_chosen(
    raw: RawChosen,
    versions: &BTreeSet<(String, String)>,
) -> Result<(PackageName, (LockedPackage, Asked)), String> {
    let text = |error: &dyn std::fmt::Display| error.to_string();
    let name = PackageName::parse(&raw.name).map_err(|e| text(&e))?;
    let numbering = raw.numbering.read().map_err(|reason| format!("{name}: {reason}"))?;
    let (mut artifacts, mut trees) = (Vec::new(), Vec::new());
    for artifact in raw.artifacts {
        if let Some(tree) = &artifact.altered {
            trees.push(TreeDigest::parse(tree).map_err(|e| text(&e))?);
        }
        check_platform(&artifact.platform).map_err(|reason| format!("{name}: {reason}"))?;
        artifacts.push(Artifact {
            platform: artifact.platform,
            digest: ArchiveDigest::parse(&artifact.digest).map_err(|e| text(&e))?,
            size: artifact.size,
            tree: TreeDigest::parse(&artifact.tree).map_err(|e| text(&e))?,
        });
    }
    let from = raw.from.read().map_err(|reason| format!("{name}: {reason}"))?;
    let record = raw.record.as_deref().map(RecordDigest::parse).transpose().map_err(|e| text(&e))?;
    if record.is_some() != from.source().is_some() {
        return Err(format!("{name} is locked without the digest of its record, or with one where there can be none"));
    }
    if artifacts.is_empty() != from.local_folder().is_some() {
        return Err(format!("{name} is locked without artifacts, or with some where there can be none"));
    }
    if raw.asked_by.is_empty() || raw.purposes.is_empty() {
        return Err(format!("{name} is locked without purposes or without anyone who asks for it"));
    }
    let patch = raw.patch.as_deref().map(ContentDigest::parse).transpose().map_err(|e| text(&e))?;
    let altered = match patch {
        None if trees.is_empty() => None,
        Some(patch) if trees.len() == artifacts.len() => Some(Alteration { patch, trees }),
        _ => return Err(format!("{name} has a patch without `altered` in each artifact, or the other way round")),
    };
    let stands_in_for: Result<BTreeSet<PackageName>, _> =
        raw.stands_in_for.iter().map(|name| PackageName::parse(name)).collect();
    let purposes: Result<BTreeSet<Word>, _> = raw.purposes.iter().map(|p| Word::parse(p)).collect();
    let mut asked = Vec::new();
    for entry in raw.asked_by {
        let purpose = entry.purpose.map_or_else(|| Ok(run_purpose()), |p| Word::parse(&p)).map_err(|e| text(&e))?;
        if let Some((who, version)) = entry.who.split_once(' ')
            && !versions.contains(&(who.to_owned(), version.to_owned()))
        {
            return Err(format!("{name} is asked for by {}, which is not locked", entry.who.escape_debug()));
        }
        asked.push((entry.who, purpose, ConstraintText::parse_joined(&entry.accept).map_err(|e| text(&e))?));
    }
    let locked = LockedPackage {
        version: numbering.parse_version(&raw.version).map_err(|e| text(&e))?,
        numbering,
        from,
        record,
        purposes: purposes.map_err(|e| text(&e))?,
        asked_by: BTreeSet::new(),
        artifacts,
        altered,
        forced: raw.forced,
        stands_in_for: stands_in_for.map_err(|e| text(&e))?,
    };
    Ok((name, (locked, asked)))
}

fn read_asker(who: &str, numberings: &BTreeMap<PackageName, Numbering>) -> Result<Asker, String> {
    match who.split_once(' ') {
        None => PackageName::parse(who).map(Asker::Project).map_err(|e| e.to_string()),
        Some((name, version)) => {
            let name = PackageName::parse(name).map_err(|e| e.to_string())?;
            let numbering = numberings.get(&name).cloned().unwrap_or_default();
            let version = numbering.parse_version(version).map_err(|e| e.to_string())?;
            Ok(Asker::Release(name, version))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const HEAD: &str = "format = 1\nseal = \"s\"\ndeclarations = \"d\"\n";

    fn block(name: &str, more: &str) -> String {
        format!(
            "\n[[chosen]]\nname = \"{name}\"\nversion = \"1.0.0\"\nfrom = \"station\"\npurposes = [\"run\"]\nasked-by = []\n{more}"
        )
    }

    #[test]
    fn a_lockfile_is_the_same_read_block_by_block() {
        let more = "[chosen.numbering]\nbreaks-at = 2\n";
        let text = [HEAD, &block("a", ""), &block("b", more), &block("c", "")].concat();
        let places = |raw: RawLockfile| {
            let place = |block: Spanned<RawChosen>| (block.span(), block.into_inner().name);
            raw.chosen.into_iter().map(place).collect::<Vec<_>>()
        };
        assert_eq!(places(block_by_block(&text).unwrap()), places(toml::from_str(&text).unwrap()));
        assert_eq!(places(block_by_block(HEAD).unwrap()), []);
    }

    /// What cannot be told apart into blocks is left to those who read all of it.
    #[test]
    fn what_only_looks_like_blocks_is_not_read_as_such() {
        let in_a_text = block("a", "patch = \"\"\"\n[[chosen]]\n\"\"\"\n");
        let unknown = block("a", "[other]\n");
        let listed = "chosen = []\n".to_owned() + &block("a", "");
        let returns = block("a", "").replace('\n', "\r\n");
        for refused in [&in_a_text, &unknown, &listed, &returns] {
            let text = HEAD.to_owned() + refused;
            let by_block = block_by_block(&text);
            assert!(by_block.is_none() || toml::from_str::<RawLockfile>(&text).is_ok(), "{text}");
        }
        assert!(block_by_block(&(HEAD.to_owned() + &in_a_text)).is_none());
        assert!(block_by_block(&(HEAD.to_owned() + &returns)).is_none());
    }
}
