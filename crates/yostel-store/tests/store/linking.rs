//! Where links lead, against a naive twin: it really makes the tree in a folder, and asks the system.
//! The accident this prevents: a link that leaves its package in two steps, each of which looks harmless.

use std::fs;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

use yostel_documents::check_links;

/// A tree: paths, with targets where they are links.
type Nodes = Vec<(String, Option<String>)>;

struct Random(u64);

impl Random {
    fn below(&mut self, limit: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 >> 11) % limit
    }

    fn path(&mut self, most: u64, up: u64) -> String {
        let length = 1 + self.below(most);
        let part = |random: &mut Self| match random.below(10) {
            n if n < up => "..",
            9 if up > 0 => ".",
            n => ["a", "b", "c"][(n % 3) as usize],
        };
        (0..length).map(|_| part(self)).collect::<Vec<_>>().join("/")
    }

    /// A tree in which no path is below a file or a link.
    fn tree(&mut self) -> Nodes {
        let mut nodes = Nodes::new();
        for _ in 0..2 + self.below(9) {
            let path = self.path(3, 0);
            let clashes = |(other, _): &(String, Option<String>)| {
                *other == path || path.starts_with(&format!("{other}/")) || other.starts_with(&format!("{path}/"))
            };
            if !nodes.iter().any(clashes) {
                let target = (self.below(4) > 0).then(|| self.path(6, 4));
                nodes.push((path, target));
            }
        }
        nodes.sort();
        nodes
    }
}

fn make(root: &Path, nodes: &Nodes) {
    for (path, target) in nodes {
        let path = root.join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        match target {
            Some(target) => symlink(target, path).unwrap(),
            None => fs::write(path, "").unwrap(),
        }
    }
}

const LOOP: i32 = 40;

/// Tells whether a link leads out of the folder or in a circle, by walking it with the system's help.
fn is_evil(root: &Path, link: &Path, target: &str) -> bool {
    if fs::metadata(link).is_err_and(|error| error.raw_os_error() == Some(LOOP)) {
        return true;
    }
    let mut at: PathBuf = link.parent().unwrap().canonicalize().unwrap();
    // Parts below `at` that are not there.
    let mut missing = 0usize;
    let mut followed = 1;
    let mut open: Vec<String> = target.rsplit('/').map(str::to_owned).collect();
    while let Some(part) = open.pop() {
        match part.as_str() {
            "." | "" => continue,
            ".." if missing > 0 => {
                missing -= 1;
                continue;
            }
            _ if missing > 0 => {
                missing += 1;
                continue;
            }
            _ => {}
        }
        if at.is_file() {
            return false;
        }
        let next = at.join(&part);
        match next.canonicalize() {
            Ok(there) if !there.starts_with(root) => return true,
            Ok(there) => at = there,
            Err(error) if error.raw_os_error() == Some(LOOP) => return true,
            // A link that leads to nothing leads on from where it is.
            Err(_) => match fs::read_link(&next) {
                Ok(_) if followed == 40 => return true,
                Ok(target) => {
                    followed += 1;
                    open.extend(target.to_str().unwrap().rsplit('/').map(str::to_owned));
                }
                Err(_) => missing += 1,
            },
        }
    }
    false
}

#[test]
#[allow(clippy::disallowed_macros, reason = "how many there were is worth seeing")]
fn the_verdict_on_random_trees_of_links_is_the_systems() {
    let trees = std::env::var("YOSTEL_TREES").ok().and_then(|text| text.parse().ok()).unwrap_or(3000);
    let mut random = Random(0x9e37_79b9_7f4a_7c15);
    // In memory where there is such a folder: many small trees are made.
    let shared = tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir()).unwrap();
    let (mut refused, mut with_links) = (0, 0);
    for number in 0..trees {
        let nodes = random.tree();
        // No part is named like the folder, so that nothing that leaves comes back.
        let root = shared.path().join(format!("{number}/deep/root"));
        fs::create_dir_all(&root).unwrap();
        let root = root.canonicalize().unwrap();
        make(&root, &nodes);
        let links = nodes.iter().filter_map(|(path, target)| Some((path, target.as_deref()?)));
        let evil: Vec<&String> = links
            .clone()
            .filter(|(path, target)| is_evil(&root, &root.join(path), target))
            .map(|(path, _)| path)
            .collect();
        let verdict = check_links(nodes.iter().map(|(path, target)| (path.as_str(), target.as_deref())));
        match verdict {
            Ok(()) => assert!(evil.is_empty(), "tree {number}: {nodes:?}: {evil:?} pass"),
            Err((path, fault)) => {
                assert!(
                    evil.iter().any(|evil| *evil == path),
                    "tree {number}: {nodes:?}: {path} is refused, {fault:?}"
                );
                refused += 1;
            }
        }
        with_links += usize::from(links.count() > 0);
        fs::remove_dir_all(shared.path().join(number.to_string())).unwrap();
    }
    println!("{trees} trees, {with_links} with links, {refused} refused");
    assert!(refused > trees / 10 && refused < trees * 9 / 10, "{refused} of {trees}");
}
