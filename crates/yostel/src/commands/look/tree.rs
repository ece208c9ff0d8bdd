//! `tree`: the graph from the project down.

use clap::Args;
use yostel_answers::answers::look::TreeAnswer;
use yostel_answers::words::size;
use yostel_documents::{Asker, PackageName, Purpose};
use yostel_flows::{AskerNode, FlowError, MOST_LEVELS, TreeNode, TreeRequest, Upward, tree, upward};

use crate::answer::{Answer, Said};
use crate::call::Call;
use crate::exit::Exit;
use crate::options::{package_name, word};
use crate::render::{Role, paint};
use crate::sanitise::sanitise;

/// Draw what needs what: from the project down, or from a package up
#[derive(Debug, Args)]
pub(crate) struct Tree {
    /// How many levels to draw; 60 when left out, and at most
    #[arg(long, value_name = "LEVELS")]
    depth: Option<usize>,

    /// From this package up: who needs it, and who needs those
    #[arg(long, value_name = "PACKAGE", value_parser = package_name, conflicts_with_all = ["to", "purpose"])]
    up: Option<PackageName>,

    /// Only the ways that lead to this package
    #[arg(long, value_name = "PACKAGE", value_parser = package_name)]
    to: Option<PackageName>,

    /// Only what is needed for this purpose
    #[arg(long = "for", value_name = "PURPOSE", value_parser = word)]
    purpose: Option<Purpose>,

    /// Say beside each package how large its archive is
    #[arg(long, conflicts_with = "up")]
    sizes: bool,

    /// Mark packages of which an audit finds something
    #[arg(long, conflicts_with = "up")]
    marks: bool,
}

pub(crate) fn run(arguments: Tree, call: &Call) -> Result<Answer, FlowError> {
    let project = call.project()?;
    if let Some(package) = &arguments.up {
        let all = upward(&project, package, arguments.depth.unwrap_or(MOST_LEVELS), &call.context())?;
        return Ok(Answer::either(call, Exit::Fine, Said::Result, || TreeAnswer::from(&all[..]), || up_words(&all)));
    }
    let request =
        TreeRequest { levels: arguments.depth, purpose: arguments.purpose, to: arguments.to, marked: arguments.marks };
    let trees = tree(&project, &request, &call.context())?;
    if call.json() {
        return Ok(Answer::document(call, Exit::Fine, &TreeAnswer::from(&trees[..])));
    }
    let mut text = String::new();
    for tree in &trees {
        let version = tree.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
        text.push_str(&format!("{}{version}\n", paint(Role::Title, &tree.project)));
        draw(&tree.roots, "", arguments.sizes, &mut text);
    }
    Ok(Answer::words(Exit::Fine, text))
}

fn up_words(all: &[Upward]) -> String {
    let mut text = String::new();
    for one in all {
        text.push_str(&format!("{} {}\n", paint(Role::Package, &one.package), sanitise(&one.version.to_string())));
        draw_up(&one.askers, "", &mut text);
    }
    text
}

/// What leads to an entry, and what is before all that hangs on it.
fn branches(is_last: bool) -> (&'static str, &'static str) {
    if is_last { ("└─ ", "   ") } else { ("├─ ", "│  ") }
}

/// Says what something is needed for; nothing of what is needed to run, which goes without saying.
fn purpose_words(purpose: Option<&Purpose>) -> String {
    purpose.filter(|purpose| purpose.as_str() != "run").map(|purpose| format!(" (for {purpose})")).unwrap_or_default()
}

fn draw_up(nodes: &[AskerNode], indent: &str, text: &mut String) {
    for (i, node) in nodes.iter().enumerate() {
        let (branch, below) = branches(i + 1 == nodes.len());
        let purpose = purpose_words(node.purpose.as_ref());
        let again = match (node.repeated, node.cut) {
            (true, _) => " (shown above)",
            (_, true) => " (and who needs it)",
            _ => "",
        };
        let who = match &node.who {
            Asker::Project(name) => paint(Role::Title, name),
            Asker::Release(name, version) => {
                format!("{} {}", paint(Role::Package, name), sanitise(&version.to_string()))
            }
        };
        let accept = paint(Role::Quiet, format!("{}{purpose}{again}", node.accept));
        text.push_str(&format!("{indent}{branch}{who}  {accept}\n"));
        draw_up(&node.askers, &format!("{indent}{below}"), text);
    }
}

fn draw(nodes: &[TreeNode], indent: &str, sizes: bool, text: &mut String) {
    for (i, node) in nodes.iter().enumerate() {
        let (branch, below) = branches(i + 1 == nodes.len());
        let purpose = purpose_words(node.purpose.as_ref());
        let from = match node.from.source() {
            Some(_) => String::new(),
            None => format!(", {}", node.from),
        };
        let again = match (node.repeated, node.cut) {
            (true, _) => " (shown above)",
            (_, true) => " (and what it needs)",
            _ => "",
        };
        let bytes = node.size.filter(|_| sizes).map(|bytes| format!(", {}", size(bytes))).unwrap_or_default();
        let asked = paint(Role::Quiet, format!("{}{from}{bytes}{purpose}{again}", node.accept));
        let marks = match node.marks.is_empty() {
            true => String::new(),
            false => format!("  {}", paint(Role::Notice, format!("! {}", node.marks.join(", ")))),
        };
        let (package, version) = (paint(Role::Package, &node.package), sanitise(&node.version.to_string()));
        text.push_str(&format!("{indent}{branch}{package} {version}  {asked}{marks}\n"));
        draw(&node.needs, &format!("{indent}{below}"), sizes, text);
    }
}
