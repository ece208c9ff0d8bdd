//! The graph in the DOT language of Graphviz, for whoever wants to draw it otherwise.

use yostel_answers::answers::graph::{GraphAnswer, NodeTold};

use super::{label, title};
use crate::sanitise::sanitise;

/// What says near the beginning of a file that it is one of ours.
pub(crate) const MARK: &str = "// made by yostel graph";

/// Writes the document.
pub(crate) fn document(answer: &GraphAnswer, notes: &[String]) -> String {
    let heading: Vec<String> = std::iter::once(title(answer)).chain(notes.iter().cloned()).collect();
    let mut text = format!(
        "{MARK}\ndigraph {} {{\n  graph [rankdir=LR, label={}, labelloc=t, fontname=monospace];\n  \
         node [shape=box, style=rounded, fontname=monospace, fontsize=11];\n  edge [fontname=monospace, fontsize=9];\n",
        quoted(&answer.project),
        lines(&heading)
    );
    for (number, node) in answer.nodes.iter().enumerate() {
        text.push_str(&format!("  n{number} [label={}{}];\n", lines(&label_lines(node)), look(node)));
    }
    for edge in &answer.edges {
        let runs = edge.purposes.iter().any(|purpose| purpose == "run");
        let style = if runs { "" } else { ", style=dashed" };
        let accepts = edge.accepts.join(" and ");
        text.push_str(&format!("  n{} -> n{} [tooltip={}{style}];\n", edge.from, edge.to, quoted(&accepts)));
    }
    text + "}\n"
}

/// Signs are words here.
fn label_lines(node: &NodeTold) -> Vec<String> {
    let mut lines = vec![label(node)];
    match (node.change, &node.was) {
        (Some(change), Some(was)) => lines.push(format!("{change}, was {was}")),
        (Some(change), None) => lines.push(change.to_owned()),
        (None, _) => {}
    }
    if !node.marks.is_empty() {
        lines.push(node.marks.join(", "));
    }
    lines
}

fn look(node: &NodeTold) -> &'static str {
    match node.kind {
        "project" => ", style=bold",
        "folded" => ", style=dashed",
        _ if node.marks.iter().any(|mark| ["alarm", "advisory"].contains(mark)) => ", color=\"#c24a00\", penwidth=2",
        _ => "",
    }
}

/// Writes lines as one label.
fn lines(all: &[String]) -> String {
    let inner: Vec<String> = all.iter().map(|line| inner(line)).collect();
    format!("\"{}\"", inner.join("\\n"))
}

fn quoted(text: &str) -> String {
    format!("\"{}\"", inner(text))
}

/// Escapes what ends a text, or means something in it.
fn inner(text: &str) -> String {
    sanitise(text).replace('\\', "\\\\").replace('"', "\\\"")
}
