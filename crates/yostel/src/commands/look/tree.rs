//! `tree`: the graph from the project down.

use clap::Args;
use yostel_answers::answers::look::TreeAnswer;
use yostel_flows::{FlowError, MOST_LEVELS, TreeNode, tree};

use crate::answer::Answer;
use crate::call::Call;
use crate::exit::Exit;
use crate::render::{Role, paint};
use crate::sanitise::sanitise;

/// Draw what needs what, from the project down
#[derive(Debug, Args)]
pub(crate) struct Tree {
    /// How many levels to draw; 60 when left out, and at most
    #[arg(long, value_name = "LEVELS")]
    depth: Option<usize>,
}

pub(crate) fn run(arguments: Tree, call: &Call) -> Result<Answer, FlowError> {
    let trees = tree(&call.project()?, arguments.depth.unwrap_or(MOST_LEVELS), &call.context())?;
    if call.json() {
        return Ok(Answer::document(call, Exit::Fine, &TreeAnswer::from(&trees[..])));
    }
    let mut text = String::new();
    for tree in &trees {
        let version = tree.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
        text.push_str(&format!("{}{version}\n", paint(Role::Title, &tree.project)));
        draw(&tree.roots, "", &mut text);
    }
    Ok(Answer::words(Exit::Fine, text))
}

fn draw(nodes: &[TreeNode], indent: &str, text: &mut String) {
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
        let again = match (node.repeated, node.cut) {
            (true, _) => " (shown above)",
            (_, true) => " (and what it needs)",
            _ => "",
        };
        let asked = paint(Role::Quiet, format!("{}{from}{purpose}{again}", node.accept));
        let (package, version) = (paint(Role::Package, &node.package), sanitise(&node.version.to_string()));
        text.push_str(&format!("{indent}{branch}{package} {version}  {asked}\n"));
        draw(&node.needs, &format!("{indent}{below}"), text);
    }
}
