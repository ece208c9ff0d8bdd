//! The graph as SVG 1.1, by itself or within a page.

use std::collections::BTreeSet;

use yostel_answers::answers::graph::{EdgeTold, GraphAnswer, NodeTold};
use yostel_findings::{Layout, Rect, lay_out};

use super::signs::{CHANGES, MARKS, Sign, sign};
use super::{label, title};
use crate::render::float;
use crate::render::xml::escaped;

/// What says near the beginning of a file that it is one of ours.
pub(crate) const MARK: &str = "<!-- made by yostel graph -->";

/// Width of a letter: the font has one width, and each text is told which width to take, so boxes fit whatever the font is.
const LETTER: f64 = 7.2;

/// Height of a box.
const HEIGHT: f64 = 28.0;

/// From the edge of a box to what is in it.
const PADDING: f64 = 9.0;

/// Width of a sign, with what is between it and its neighbour.
const SIGN: f64 = 18.0;

/// Height of a line of the title or the legend.
const LINE: f64 = 20.0;

/// Width of a legend by itself.
const LEGEND_WIDTH: f64 = 1_100.0;

/// Least width of a picture, so that its legend has room.
const LEAST_WIDTH: f64 = 560.0;

/// Colours and fonts; for the dark, too, where whoever looks prefers it, and never on paper.
pub(crate) const STYLE: &str = "\
.g{font:12px ui-monospace,'DejaVu Sans Mono',Menlo,Consolas,monospace}
.g .bg{fill:#fff}.g text{fill:#1b1f24}.g .q{fill:#57606a}
.g .n rect{fill:#f6f8fa;stroke:#57606a;stroke-width:1}
.g .p rect{fill:#e3ecf5;stroke:#1b1f24;stroke-width:2}
.g .f rect{stroke-dasharray:5 3;fill:#fff}
.g .e{fill:none;stroke:#7d8590;stroke-width:1.2}.g .o{stroke-dasharray:5 3}.g .h{fill:#7d8590}
@media screen and (prefers-color-scheme:dark){
.g .bg{fill:#14181d}.g text{fill:#e6edf3}.g .q{fill:#9aa5b1}
.g .n rect{fill:#222a33;stroke:#8b96a3}.g .p rect{fill:#24384d;stroke:#e6edf3}.g .f rect{fill:#14181d}
.g .e{stroke:#8b96a3}.g .h{fill:#8b96a3}.g .s{filter:brightness(1.7)}}
";

/// A picture, and its size in points.
pub(crate) struct Picture {
    pub(crate) text: String,
    pub(crate) width: f64,
    pub(crate) height: f64,
}

/// Writes the picture with title, notes and legend, as a document of its own.
pub(crate) fn document(answer: &GraphAnswer, notes: &[String]) -> Picture {
    let layout = layout_of(answer);
    let heading: Vec<String> = std::iter::once(title(answer)).chain(notes.iter().cloned()).collect();
    let widest = heading.iter().map(|line| width_of(line)).fold(LEAST_WIDTH, f64::max);
    let top = 12.0 + LINE * float(heading.len());
    let width = layout.width.max(widest + 32.0);
    let (legend, legend_height) = legend(answer, width, top + layout.height);
    let height = top + layout.height + legend_height;
    let mut text = format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n{MARK}\n\
         <svg xmlns=\"http://www.w3.org/2000/svg\" class=\"g\" width=\"{width:.0}\" height=\"{height:.0}\" viewBox=\"0 0 {width:.0} \
         {height:.0}\" role=\"img\" aria-labelledby=\"what\">\n<title id=\"what\">{}</title>\n<style>{STYLE}</style>\n\
         <rect class=\"bg\" width=\"100%\" height=\"100%\"/>\n",
        escaped(&heading[0])
    );
    for (at, line) in heading.iter().enumerate() {
        let (y, quiet) = (26.0 + LINE * float(at), if at == 0 { " font-weight=\"bold\"" } else { " class=\"q\"" });
        text.push_str(&words(16.0, y, line, quiet));
    }
    text.push_str(&format!("<g transform=\"translate(0 {top:.1})\">\n{}</g>\n", drawing(answer, &layout)));
    text.push_str(&legend);
    text.push_str("</svg>\n");
    Picture { text, width, height }
}

/// Draws the graph and, apart from it, its legend, for a page whose style has [`STYLE`].
pub(crate) fn figures(answer: &GraphAnswer) -> (String, String) {
    let layout = layout_of(answer);
    let (width, height) = (layout.width, layout.height);
    let head = "<svg xmlns=\"http://www.w3.org/2000/svg\" class=\"g\"";
    let graph = format!(
        "{head} role=\"group\" aria-label=\"{}\" viewBox=\"0 0 {width:.0} {height:.0}\">{}</svg>",
        escaped(&title(answer)),
        drawing(answer, &layout)
    );
    let (legend, height) = legend(answer, LEGEND_WIDTH, 0.0);
    let legend = format!(
        "{head} role=\"img\" aria-label=\"Legend\" width=\"{LEGEND_WIDTH:.0}\" height=\"{height:.0}\">{legend}</svg>"
    );
    (graph, legend)
}

/// Lays a graph out with boxes in which everything finds room.
fn layout_of(answer: &GraphAnswer) -> Layout {
    let sizes: Vec<(f64, f64)> = answer.nodes.iter().map(|node| (width_of_box(node), HEIGHT)).collect();
    let edges: Vec<(usize, usize)> = answer.edges.iter().map(|edge| (edge.from, edge.to)).collect();
    lay_out(&sizes, &edges)
}

/// Draws lines and boxes.
fn drawing(answer: &GraphAnswer, layout: &Layout) -> String {
    let mut text =
        "<defs><marker id=\"head\" viewBox=\"0 0 8 8\" refX=\"7.5\" refY=\"4\" markerWidth=\"8\" markerHeight=\"8\" markerUnits=\"userSpaceOnUse\" \
                    orient=\"auto\"><path class=\"h\" d=\"M0 0.8l8 3.2-8 3.2z\"/></marker></defs>\n"
            .to_owned();
    for (edge, points) in answer.edges.iter().zip(&layout.lines) {
        text.push_str(&line(edge, points, answer));
    }
    for (number, (node, place)) in answer.nodes.iter().zip(&layout.boxes).enumerate() {
        text.push_str(&box_of(number, node, *place));
    }
    text
}

fn line(edge: &EdgeTold, points: &[(f64, f64)], answer: &GraphAnswer) -> String {
    let mut path = format!("M{:.1} {:.1}", points[0].0, points[0].1);
    for (at, two) in points.windows(2).enumerate() {
        let ((x, y), (to_x, to_y)) = (two[0], two[1]);
        // Between columns a line bends, through a column it leads straight.
        match at % 2 {
            0 => {
                let bend = (to_x - x) / 2.0;
                path.push_str(&format!("C{:.1} {y:.1} {:.1} {to_y:.1} {to_x:.1} {to_y:.1}", x + bend, to_x - bend));
            }
            _ => path.push_str(&format!("L{to_x:.1} {to_y:.1}")),
        }
    }
    let runs = edge.purposes.iter().any(|purpose| purpose == "run");
    let class = if runs { "e" } else { "e o" };
    let (from, to) = (&answer.nodes[edge.from], &answer.nodes[edge.to]);
    let what_for = if edge.purposes.is_empty() { String::new() } else { format!(" for {}", edge.purposes.join(", ")) };
    let says = format!("{} needs {}, {}{what_for}", label(from), label(to), edge.accepts.join(" and "));
    format!(
        "<path class=\"{class}\" data-from=\"{}\" data-to=\"{}\" marker-end=\"url(#head)\" d=\"{path}\"><title>{}</title></path>\n",
        edge.from,
        edge.to,
        escaped(&says)
    )
}

/// The text in a box: its name, and the version that it had.
fn text_of(node: &NodeTold) -> String {
    let was = node.was.as_ref().map(|was| format!(", was {}", super::shortened(was, 24))).unwrap_or_default();
    format!("{}{was}", label(node))
}

fn width_of_box(node: &NodeTold) -> f64 {
    let signs = node.marks.len() + usize::from(node.change.is_some());
    2.0 * PADDING + width_of(&text_of(node)) + SIGN * float(signs)
}

fn box_of(number: usize, node: &NodeTold, at: Rect) -> String {
    let class = match node.kind {
        "project" => "n p",
        "folded" => "n f",
        _ => "n",
    };
    let mut text = format!(
        "<g class=\"{class}\" id=\"node-{number}\" data-node=\"{number}\"><title>{}</title>",
        escaped(&told(node))
    );
    let round = if node.kind == "project" { 0 } else { 6 };
    text.push_str(&format!(
        "<rect x=\"{:.1}\" y=\"{:.1}\" width=\"{:.1}\" height=\"{:.1}\" rx=\"{round}\"/>",
        at.x, at.y, at.width, at.height
    ));
    let mut x = at.x + PADDING;
    let sign_y = at.y + (at.height - 14.0) / 2.0;
    if let Some(sign) = node.change.and_then(|change| sign(&CHANGES, change)) {
        text.push_str(&sign.at(x, sign_y));
        x += SIGN;
    }
    let says = text_of(node);
    text.push_str(&words(x, at.y + at.height / 2.0 + 4.0, &says, ""));
    x += width_of(&says) + SIGN - 14.0;
    for sign in node.marks.iter().filter_map(|mark| sign(&MARKS, mark)) {
        text.push_str(&sign.at(x, sign_y));
        x += SIGN;
    }
    text + "</g>\n"
}

/// All that is told of a box, for who points at it.
fn told(node: &NodeTold) -> String {
    /// A fold may hold thousands.
    const MOST: usize = 30;
    let mut lines = vec![match &node.version {
        Some(version) => format!("{} {version}", node.name.as_deref().unwrap_or_default()),
        None => node.name.clone().unwrap_or_else(|| label(node)),
    }];
    let package = |package: &yostel_answers::answers::findings::PackageTold| match &package.version {
        Some(version) => format!("{} {version}", package.package),
        None => package.package.clone(),
    };
    lines.extend(node.packages.iter().take(MOST).map(package));
    if node.packages.len() > MOST {
        lines.push(format!("and {} more", node.packages.len() - MOST));
    }
    lines.extend(node.findings.iter().take(MOST).cloned());
    lines.join("; ")
}

/// Writes one line of text, as wide as it was counted.
fn words(x: f64, y: f64, says: &str, more: &str) -> String {
    let width = width_of(says);
    format!(
        "<text x=\"{x:.1}\" y=\"{y:.1}\" textLength=\"{width:.1}\" lengthAdjust=\"spacingAndGlyphs\"{more}>{}</text>\n",
        escaped(says)
    )
}

fn width_of(text: &str) -> f64 {
    LETTER * float(crate::sanitise::sanitise(text).chars().count())
}

/// Explains the signs and lines that are there. Returns it, and its height.
fn legend(answer: &GraphAnswer, width: f64, top: f64) -> (String, f64) {
    let mut entries: Vec<(String, &str)> =
        signs_of(answer).iter().map(|sign| (sign.at(0.0, 0.0), sign.means)).collect();
    let line = |class: &str| format!("<path class=\"{class}\" d=\"M0 7h14\"/>");
    let of_run = |edge: &EdgeTold| edge.purposes.iter().any(|purpose| purpose == "run");
    if answer.edges.iter().any(of_run) {
        entries.push((line("e"), "needed to run"));
    }
    if answer.edges.iter().any(|edge| !of_run(edge)) {
        entries.push((line("e o"), "needed for something else"));
    }
    let (mut x, mut y) = (16.0, top + 8.0);
    let mut text = String::new();
    for (drawn, means) in entries {
        let wide = 20.0 + width_of(means) + 24.0;
        if x + wide > width && x > 16.0 {
            (x, y) = (16.0, y + LINE);
        }
        text.push_str(&format!("<g transform=\"translate({x:.1} {y:.1})\">{drawn}</g>"));
        text.push_str(&words(x + 20.0, y + 11.0, means, " class=\"q\""));
        x += wide;
    }
    let height = y + LINE + 10.0 - top;
    (text, height)
}

/// The signs that are in a picture.
fn signs_of(answer: &GraphAnswer) -> Vec<&'static Sign> {
    let marks: BTreeSet<&str> = answer.nodes.iter().flat_map(|node| node.marks.iter().copied()).collect();
    let changes: BTreeSet<&str> = answer.nodes.iter().filter_map(|node| node.change).collect();
    let of = |signs: &'static [Sign], words: &BTreeSet<&str>| {
        signs.iter().filter(|sign| words.contains(sign.word)).collect::<Vec<_>>()
    };
    [of(&CHANGES, &changes), of(&MARKS, &marks)].concat()
}
