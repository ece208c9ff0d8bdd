//! Graphs: laid out so that nothing overlaps, and folded so that nothing is lost.
//! The accident this prevents: a picture in which one label hides another, and a fold that hides what was found.

use std::collections::{BTreeMap, BTreeSet};

use proptest::prelude::*;
use yostel_documents::PackageName;
use yostel_findings::{Folding, Graph, GraphEdge, GraphNode, Layout, Mark, NodeKind, folded, lay_out};
use yostel_versions::{Order, Version};

fn name(number: usize) -> PackageName {
    PackageName::parse(&format!("p{number}")).unwrap()
}

/// A graph whose first `projects` nodes are projects. What is marked is told by the number.
fn graph(projects: usize, nodes: usize, edges: &[(usize, usize)]) -> Graph {
    let version = Version::parse("1.0.0", &Order::Semver).unwrap();
    let node = |number: usize| GraphNode {
        what: match number < projects {
            true => NodeKind::Project { name: name(number), version: None },
            false => NodeKind::Release { package: name(number), version: version.clone() },
        },
        purposes: BTreeSet::new(),
        marks: if number % 7 == 3 { BTreeSet::from([Mark::Advisory]) } else { BTreeSet::new() },
        change: None,
    };
    let unique: BTreeSet<&(usize, usize)> = edges.iter().filter(|(from, to)| from != to).collect();
    let edge =
        |&&(from, to): &&(usize, usize)| GraphEdge { from, to, accepts: BTreeSet::new(), purposes: BTreeSet::new() };
    Graph { nodes: (0..nodes).map(node).collect(), edges: unique.iter().map(edge).collect() }
}

fn pairs(graph: &Graph) -> Vec<(usize, usize)> {
    graph.edges.iter().map(|edge| (edge.from, edge.to)).collect()
}

/// The names of each node, a fold's all.
fn names(node: &GraphNode) -> Vec<String> {
    match &node.what {
        NodeKind::Folded { packages, .. } => packages.iter().map(|(name, _)| name.to_string()).collect(),
        _ => vec![node.name().unwrap().to_string()],
    }
}

/// What is wrong with a picture of boxes of these sizes, and lines between them.
fn flaws(sizes: &[(f64, f64)], edges: &[(usize, usize)], layout: &Layout) -> Vec<String> {
    let mut flaws = Vec::new();
    for (at, (one, size)) in layout.boxes.iter().zip(sizes).enumerate() {
        if (one.width, one.height) != *size {
            flaws.push(format!("{at} is {one:?}, not {size:?}"));
        }
        let is_inside =
            one.x >= 0.0 && one.y >= 0.0 && one.x + one.width <= layout.width && one.y + one.height <= layout.height;
        if !is_inside {
            flaws.push(format!("{at} is outside: {one:?}"));
        }
        for (number, other) in layout.boxes.iter().enumerate().skip(at + 1) {
            let beside = one.x + one.width <= other.x || other.x + other.width <= one.x;
            let above = one.y + one.height <= other.y + 1e-6 || other.y + other.height <= one.y + 1e-6;
            if !beside && !above {
                flaws.push(format!("{at} and {number} overlap: {one:?} {other:?}"));
            }
        }
    }
    for (&(from, to), line) in edges.iter().zip(&layout.lines) {
        let (first, last) = (line[0], line[line.len() - 1]);
        let (one, other) = (layout.boxes[from], layout.boxes[to]);
        let touches = |(x, y): (f64, f64), at: yostel_findings::Rect| {
            ((x - at.x).abs() < 1e-6 || (x - at.x - at.width).abs() < 1e-6) && (y - at.y - at.height / 2.0).abs() < 1e-6
        };
        if !touches(first, one) || !touches(last, other) {
            flaws.push(format!("the line of {from} and {to} leads from {first:?} to {last:?}"));
        }
        // Through a column it leads straight, and past every box there.
        for through in line[1..line.len() - 1].chunks(2) {
            let ((left, y), (right, _)) = (through[0], through[1]);
            let (left, right) = (left.min(right), left.max(right));
            for (number, at) in layout.boxes.iter().enumerate() {
                let meets = at.x < right && left < at.x + at.width && at.y < y && y < at.y + at.height;
                if meets {
                    flaws.push(format!("the line of {from} and {to} crosses {number}"));
                }
            }
        }
    }
    flaws
}

fn sizes(nodes: usize) -> Vec<(f64, f64)> {
    (0..nodes).map(|number| (40.0 + f64::from(u32::try_from(number * 37 % 160).unwrap()), 28.0)).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn no_two_boxes_overlap_no_line_crosses_one_and_the_same_graph_looks_the_same(
        nodes in 1_usize..40,
        raw in prop::collection::vec((0_usize..40, 0_usize..40), 0..90),
    ) {
        let edges = pairs(&graph(1, nodes, &raw.iter().map(|(from, to)| (from % nodes, to % nodes)).collect::<Vec<_>>()));
        let layout = lay_out(&sizes(nodes), &edges);
        prop_assert!(flaws(&sizes(nodes), &edges, &layout).is_empty(), "{:?}", flaws(&sizes(nodes), &edges, &layout));
        prop_assert_eq!(&lay_out(&sizes(nodes), &edges), &layout);
        // Whoever asks is to the left, unless that would close a circle.
        let leftward = edges.iter().filter(|(from, to)| layout.boxes[*from].x >= layout.boxes[*to].x).count();
        if edges.iter().all(|(from, to)| from < to) {
            prop_assert_eq!(leftward, 0);
        }
    }

    #[test]
    fn folding_loses_nothing_and_keeps_to_its_limit(
        nodes in 3_usize..60,
        projects in 1_usize..3,
        raw in prop::collection::vec((0_usize..60, 0_usize..60), 0..120),
        most in 2_usize..30,
        fold in prop::sample::select(vec![None, Some(Folding::Leaves), Some(Folding::Projects)]),
    ) {
        let whole = graph(projects, nodes, &raw.iter().map(|(from, to)| (from % nodes, to % nodes)).collect::<Vec<_>>());
        let (small, left) = folded(whole.clone(), None, fold, most);
        prop_assert!(small.nodes.len() <= most.max(2));
        let mut all: Vec<String> = small.nodes.iter().flat_map(names).collect();
        all.sort();
        let mut before: Vec<String> = whole.nodes.iter().flat_map(names).collect();
        before.sort();
        prop_assert_eq!(all, before);
        let folds: usize = small.nodes.iter().filter(|node| node.name().is_none()).map(GraphNode::size).sum();
        prop_assert_eq!(left.folded.values().sum::<usize>(), folds);
        // Each need is there still, between those that hold the two; and what was found is marked where they are.
        let holder: BTreeMap<String, usize> =
            small.nodes.iter().enumerate().flat_map(|(at, node)| names(node).into_iter().map(move |name| (name, at))).collect();
        let kept: BTreeSet<(usize, usize)> = pairs(&small).into_iter().collect();
        let needed: BTreeSet<(usize, usize)> = pairs(&whole)
            .iter()
            .map(|(from, to)| (holder[&format!("p{from}")], holder[&format!("p{to}")]))
            .filter(|(from, to)| from != to)
            .collect();
        prop_assert_eq!(kept, needed);
        for (number, node) in whole.nodes.iter().enumerate() {
            let at = holder[&format!("p{number}")];
            prop_assert!(node.marks.is_subset(&small.nodes[at].marks));
        }
    }
}

#[test]
fn leaves_are_folded_by_who_asks_and_projects_by_what_only_they_need() {
    // 0 and 1 are projects. 0 needs 2, 3 and 4; 1 needs 4 and 5; 2 needs 6; 5 needs 7, which needs 8.
    let whole = graph(2, 9, &[(0, 2), (0, 3), (0, 4), (1, 4), (1, 5), (2, 6), (5, 7), (7, 8), (0, 8)]);
    let folds = |fold| {
        let (small, _) = folded(whole.clone(), None, Some(fold), 100);
        small.nodes.iter().filter(|node| node.name().is_none()).map(names).collect::<Vec<_>>()
    };
    // 8 is asked for by 7 and 0, 3 by 0 alone, 4 by both: no two leaves are asked for by the same.
    assert!(folds(Folding::Leaves).is_empty());
    // 4 and 8 both need.
    assert_eq!(folds(Folding::Projects), [vec!["p2", "p3", "p6"], vec!["p5", "p7"]]);
    let (small, _) = folded(graph(1, 5, &[(0, 1), (0, 2), (0, 3), (3, 4)]), None, Some(Folding::Leaves), 100);
    let kinds: Vec<Vec<String>> = small.nodes.iter().map(names).collect();
    assert_eq!(kinds, [vec!["p0"], vec!["p3"], vec!["p4"], vec!["p1", "p2"]]);
}

#[test]
fn a_focus_shows_who_asks_and_what_is_needed_and_none_of_their_others() {
    // A chain from 0 to 5, and 6 beside it, which 2 needs too.
    let whole = graph(1, 8, &[(0, 1), (1, 2), (2, 3), (3, 4), (4, 5), (2, 6), (7, 5)]);
    let shown = |distance| {
        let (small, left) = folded(whole.clone(), Some((&name(3), distance)), None, 100);
        (small.nodes.iter().flat_map(names).collect::<Vec<_>>(), left.out_of_focus)
    };
    assert_eq!(shown(0), (vec!["p3".to_owned()], 7));
    assert_eq!(shown(1), (["p2", "p3", "p4"].map(str::to_owned).to_vec(), 5));
    assert_eq!(shown(9), (["p0", "p1", "p2", "p3", "p4", "p5"].map(str::to_owned).to_vec(), 2));
}

#[test]
fn a_chain_of_20000_to_each_of_which_the_project_has_a_need_too_is_folded_and_drawn() {
    let mut edges: Vec<(usize, usize)> = (0..19_999).map(|at| (at, at + 1)).collect();
    edges.extend((2..20_000).map(|to| (0, to)));
    let (small, left) = folded(graph(1, 20_000, &edges), None, None, 300);
    assert_eq!((small.nodes.len(), left.folded[&Folding::Furthest]), (300, 19_701));
    let layout = lay_out(&sizes(300), &pairs(&small));
    assert_eq!((layout.boxes.len(), layout.lines.len()), (300, small.edges.len()));
    let longest_leads_behind = layout.lines.iter().filter(|line| line.len() == 2).count();
    assert!(longest_leads_behind > 300, "{longest_leads_behind}");
}
