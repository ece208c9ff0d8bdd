//! `tree`: the graph from the project down.

use clap::Args;
use serde_json::{Value, json};
use yostel_flows::{FlowError, TreeNode, tree};

use super::{Answer, origin_document};
use crate::context::Context;
use crate::exit::Exit;
use crate::render::{Role, paint};
use crate::sanitise::sanitise;

/// Draw what needs what, from the project down
#[derive(Debug, Args)]
pub(crate) struct Tree {
    /// How many levels to draw; all when left out
    #[arg(long, value_name = "LEVELS")]
    depth: Option<usize>,
}

pub(crate) fn run(arguments: Tree, context: &Context) -> Result<Answer, FlowError> {
    let trees = tree(&context.project()?)?;
    if context.json() {
        let one = |tree: &yostel_flows::Tree| {
            json!({
                "project": tree.project.as_str(),
                "version": tree.version.as_ref().map(|version| version.as_str()),
                "needs": tree.roots.iter().map(document).collect::<Vec<_>>(),
            })
        };
        let content = match &trees[..] {
            [tree] => one(tree),
            trees => json!({ "projects": trees.iter().map(one).collect::<Vec<_>>() }),
        };
        return Ok(Answer::document(Exit::Fine, "tree", content));
    }
    let mut text = String::new();
    for tree in &trees {
        let version = tree.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
        text.push_str(&format!("{}{version}\n", paint(Role::Title, &tree.project)));
        draw(&tree.roots, "", arguments.depth.unwrap_or(usize::MAX), &mut text);
    }
    Ok(Answer::words(Exit::Fine, text))
}

fn draw(nodes: &[TreeNode], indent: &str, depth: usize, text: &mut String) {
    if depth == 0 {
        return;
    }
    for (i, node) in nodes.iter().enumerate() {
        let last = i + 1 == nodes.len();
        let (branch, below) = if last { ("└─ ", "   ") } else { ("├─ ", "│  ") };
        let purpose = match &node.purpose {
            Some(purpose) if purpose.as_str() != "run" => format!(" (for {purpose})"),
            _ => String::new(),
        };
        let from = match node.from.source() {
            Some(_) => String::new(),
            None => format!(", {}", node.from),
        };
        let again = if node.repeated { " (told above)" } else { "" };
        let asked = paint(Role::Quiet, format!("{}{from}{purpose}{again}", node.accept));
        let line = format!("{} {}", node.package, node.version);
        text.push_str(&format!("{indent}{branch}{}  {asked}\n", sanitise(&line)));
        draw(&node.needs, &format!("{indent}{below}"), depth - 1, text);
    }
}

fn document(node: &TreeNode) -> Value {
    json!({
        "package": node.package.as_str(),
        "version": node.version.as_str(),
        "from": origin_document(&node.from),
        "accept": node.accept.as_str(),
        "purpose": node.purpose.as_ref().map(|purpose| purpose.as_str()),
        "repeated": node.repeated,
        "needs": node.needs.iter().map(document).collect::<Vec<_>>(),
    })
}
