//! Where the links of a tree lead: resolved through the tree's own links, as the system would. Carries out
//! docs/formats.md §5.
//!
//! A target is judged twice: as it is written, and with all names folded, since some file systems take names for one
//! that differ in case alone. A part that is not there counts as a folder, so that no file which comes later turns a
//! harmless link into one that leaves.

use std::collections::BTreeMap;

use unicode_normalization::UnicodeNormalization;

/// Links that may be followed on the way to one target, the first included: as many as Linux follows.
const MOST_FOLLOWED: u32 = 40;

/// Parts of targets that are looked at in one tree: a bound on the work that links which lead to links can make.
const MOST_PARTS: u32 = 4_000_000;

/// What is wrong with a link.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum LinkFault {
    /// Its target is empty, or holds a control character or `\`.
    Target,
    /// It leads out of the tree: by an absolute target, by itself or through other links.
    Leaves,
    /// It leads to itself, or through more than 40 links.
    Loops,
    /// The links of the tree lead through one another too often to tell.
    Tangled,
}

impl LinkFault {
    /// Says it of a link, as in `its link … …`.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Target => "has a target that no package may hold",
            Self::Leaves => "points out of the package",
            Self::Loops => "leads in a circle, or through more than 40 links",
            Self::Tangled => "belongs to links that lead through one another too often",
        }
    }
}

/// Returns what paths have in common that some file system takes for one: lower case, and Unicode's normal form C.
pub fn fold(path: &str) -> String {
    if path.is_ascii() {
        path.to_ascii_lowercase()
    } else {
        path.nfc().collect::<String>().to_lowercase().nfc().collect()
    }
}

/// Checks the links of a tree: its paths, each with its target where it is a link. Returns the first link, by path, with
/// which something is wrong.
///
/// # Errors
/// The link's path, and what is wrong with it.
pub fn check_links<'t>(
    nodes: impl IntoIterator<Item = (&'t str, Option<&'t str>)>,
) -> Result<(), (&'t str, LinkFault)> {
    let nodes: BTreeMap<&str, Option<&str>> = nodes.into_iter().collect();
    let links = || nodes.iter().filter_map(|(path, target)| Some((*path, (*target)?)));
    if links().next().is_none() {
        return Ok(());
    }
    for (path, target) in links() {
        if target.starts_with('/') {
            return Err((path, LinkFault::Leaves));
        }
        if target.is_empty() || target.chars().any(|c| c.is_control() || c == '\\') {
            return Err((path, LinkFault::Target));
        }
    }
    let exact = |path: &str| nodes.get(path).copied();
    let mut left = MOST_PARTS;
    for (path, target) in links() {
        follow(path, target, &exact, &mut left).map_err(|fault| (path, fault))?;
    }
    let folded: BTreeMap<String, Option<String>> =
        nodes.iter().map(|(path, target)| (fold(path), target.map(fold))).collect();
    let found = |path: &str| folded.get(path).map(Option::as_deref);
    for (path, _) in links() {
        let path_folded = fold(path);
        let Some((_, Some(target))) = folded.get_key_value(&path_folded) else { continue };
        follow(&path_folded, target, &found, &mut left).map_err(|fault| (path, fault))?;
    }
    Ok(())
}

/// Follows one link to its end. `find` tells what is at a path: nothing, a file (none), or a link with its target.
fn follow<'t>(
    path: &str,
    target: &'t str,
    find: &impl Fn(&str) -> Option<Option<&'t str>>,
    left: &mut u32,
) -> Result<(), LinkFault> {
    let mut at = path.rsplit_once('/').map_or(String::new(), |(parent, _)| parent.to_owned());
    let mut open: Vec<&str> = target.rsplit('/').collect();
    let mut followed = 1;
    while let Some(part) = open.pop() {
        *left = left.checked_sub(1).ok_or(LinkFault::Tangled)?;
        match part {
            "" | "." => {}
            ".." if at.is_empty() => return Err(LinkFault::Leaves),
            ".." => at.truncate(at.rfind('/').unwrap_or(0)),
            name => {
                let length = at.len();
                if !at.is_empty() {
                    at.push('/');
                }
                at.push_str(name);
                match find(&at) {
                    Some(Some(target)) => {
                        followed += 1;
                        if followed > MOST_FOLLOWED {
                            return Err(LinkFault::Loops);
                        }
                        at.truncate(length);
                        open.extend(target.rsplit('/'));
                    }
                    // Nothing is below a file, so the rest leads nowhere.
                    Some(None) if !open.is_empty() => return Ok(()),
                    Some(None) | None => {}
                }
            }
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn judge(nodes: &[(&str, &str)]) -> Result<(), LinkFault> {
        let nodes = nodes.iter().map(|(path, target)| (*path, (!target.is_empty()).then_some(*target)));
        check_links(nodes).map_err(|(_, fault)| fault)
    }

    #[test]
    fn a_link_is_followed_through_the_links_it_meets() {
        use LinkFault::{Leaves, Loops, Target};
        for (nodes, verdict) in [
            (&[("a/b", "../c"), ("c", "")][..], Ok(())),
            (&[("a/b", "../../c")], Err(Leaves)),
            (&[("a", "b/../../c")], Err(Leaves)),
            (&[("a", "/etc/passwd")], Err(Leaves)),
            (&[("a", "b\\c")], Err(Target)),
            (&[("d/e/s", "../.."), ("out", "d/e/s/../../..")], Err(Leaves)),
            (&[("d/e/s", "../.."), ("in", "d/e/s/d")], Ok(())),
            (&[("a", "b"), ("b", "a")], Err(Loops)),
            (&[("a", "a")], Err(Loops)),
            (&[("f", ""), ("a", "f/../../..")], Ok(())),
            (&[("missing-way", "x/../y")], Ok(())),
            (&[("d/e/s", "../.."), ("out", "D/E/S/../../..")], Err(Leaves)),
        ] {
            assert_eq!(judge(nodes), verdict, "{nodes:?}");
        }
    }

    #[test]
    fn forty_links_are_followed_and_no_more() {
        let chain = |length: usize| {
            let mut nodes: Vec<(String, String)> =
                (0..length).map(|i| (format!("l{i}"), format!("l{}", i + 1))).collect();
            nodes.push((format!("l{length}"), String::new()));
            nodes
        };
        let judge_chain = |length| {
            let nodes = chain(length);
            let nodes: Vec<(&str, &str)> =
                nodes.iter().map(|(path, target)| (path.as_str(), target.as_str())).collect();
            judge(&nodes)
        };
        assert_eq!((judge_chain(40), judge_chain(41)), (Ok(()), Err(LinkFault::Loops)));
    }

    #[test]
    fn links_that_double_at_each_step_end_in_time() {
        let nodes: Vec<(String, String)> = (0..2000).map(|i| (format!("d{i}/l"), "x/".repeat(500) + "y")).collect();
        let nodes: Vec<(&str, &str)> = nodes.iter().map(|(path, target)| (path.as_str(), target.as_str())).collect();
        assert_eq!(judge(&nodes), Ok(()));
        let nodes: Vec<(String, String)> = (0..9000).map(|i| (format!("d{i}/l"), "x/".repeat(500) + "y")).collect();
        let nodes: Vec<(&str, &str)> = nodes.iter().map(|(path, target)| (path.as_str(), target.as_str())).collect();
        assert_eq!(judge(&nodes), Err(LinkFault::Tangled));
    }
}
