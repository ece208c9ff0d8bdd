//! The graph as a picture, in forms that other programs show.

pub(crate) mod dot;
#[cfg(feature = "png")]
pub(crate) mod png;
mod signs;
pub(crate) mod svg;

use yostel_answers::answers::graph::{GraphAnswer, NodeTold};

use super::{count, join_first};

/// Says in a few words what is drawn.
pub(crate) fn title(answer: &GraphAnswer) -> String {
    let is_one = |kind: &str| answer.nodes.iter().filter(|node| node.kind == kind).count();
    let (projects, packages, folded) = (is_one("project"), is_one("package"), is_one("folded"));
    let mut parts = Vec::new();
    if projects > 1 {
        parts.push(count(projects, "project"));
    }
    // A project that others need is locked as a package too, and told as a project.
    let needed = answer.nodes.iter().filter(|node| node.kind == "project" && !node.purposes.is_empty()).count();
    let all = answer.packages - needed.min(answer.packages);
    parts.push(match all == packages {
        true => count(packages, "package"),
        false => format!("{packages} of {}", count(all, "package")),
    });
    if folded > 0 {
        parts.push(count(folded, "fold"));
    }
    parts.push(count(answer.edges.len(), "need"));
    format!("{}: {}", answer.project, parts.join(", "))
}

/// Says, a sentence each, what is not drawn by itself, and what is not told.
pub(crate) fn notes(answer: &GraphAnswer) -> Vec<String> {
    let mut notes = Vec::new();
    if answer.out_of_focus > 0 {
        let are = if answer.out_of_focus == 1 { "is" } else { "are" };
        notes.push(format!("{} {are} further away and left out", answer.out_of_focus));
    }
    for (why, &folded) in &answer.folded {
        let packages = count(folded, "package");
        notes.push(match *why {
            "leaves" => format!("{packages} that need nothing are folded, those together that the same ask for"),
            "projects" => format!("{packages} that only one project needs are folded, project by project"),
            _ => format!("{packages}, the furthest from a project, are folded, so that the picture stays readable"),
        });
    }
    if !answer.gone.is_empty() {
        let since = answer.since.as_deref().unwrap_or_default();
        let names = join_first(answer.gone.iter().map(|package| package.package.clone()), 4);
        notes.push(format!("gone since {since}: {names}"));
    }
    // Why names folders of this machine, and pictures are handed round.
    if answer.untold.is_some() {
        notes.push("what an audit would find is not marked".to_owned());
    }
    notes
}

/// The name and version of a node, or what is folded in it.
fn label(node: &NodeTold) -> String {
    match (&node.name, &node.version) {
        (Some(name), Some(version)) => format!("{} {}", shortened(name, 40), shortened(version, 24)),
        (Some(name), None) => shortened(name, 40),
        (None, _) => count(node.packages.len(), "package"),
    }
}

/// Leaves the middle of a long text out.
fn shortened(text: &str, most: usize) -> String {
    let letters: Vec<char> = text.chars().collect();
    if letters.len() <= most {
        return text.to_owned();
    }
    let (first, last) = (&letters[..most / 2], &letters[letters.len() - (most / 2 - 1)..]);
    first.iter().chain(std::iter::once(&'…')).chain(last).collect()
}
