//! Large graphs made readable: only what is near something, or several drawn as one.

use std::collections::{BTreeMap, BTreeSet, VecDeque};

use yostel_documents::PackageName;

use super::{Graph, GraphEdge, GraphNode, NodeKind};

/// Why several are drawn as one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Folding {
    /// The same ask for them, and they need nothing.
    Leaves,
    /// Only one project needs them.
    Projects,
    /// There are too many to draw each, and these are the furthest from a project.
    Furthest,
}

impl Folding {
    /// Returns its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Leaves => "leaves",
            Self::Projects => "projects",
            Self::Furthest => "furthest",
        }
    }
}

/// What is not drawn by itself.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Left {
    /// How many are further away from what is looked at than was asked for.
    pub out_of_focus: usize,
    /// How many are drawn with others, by why.
    pub folded: BTreeMap<Folding, usize>,
}

/// Leaves out what is further than a number of needs from a package, then folds what was asked for, and as much as it takes
/// until no more than `most` nodes are left: first leaves, then those furthest from a project.
pub fn folded(
    mut graph: Graph,
    focus: Option<(&PackageName, usize)>,
    fold: Option<Folding>,
    most: usize,
) -> (Graph, Left) {
    let mut left = Left::default();
    if let Some((package, distance)) = focus {
        let all = graph.nodes.len();
        graph = near(graph, package, distance);
        left.out_of_focus = all - graph.nodes.len();
    }
    if let Some(folding) = fold {
        graph = fold_by(graph, folding, most);
    }
    for folding in [Folding::Leaves, Folding::Furthest] {
        if graph.nodes.len() > most {
            graph = fold_by(graph, folding, most);
        }
    }
    for node in &graph.nodes {
        if let NodeKind::Folded { why, packages } = &node.what {
            *left.folded.entry(*why).or_default() += packages.len();
        }
    }
    (graph, left)
}

/// Keeps what leads to a package, or from it on, by at most so many needs.
fn near(graph: Graph, package: &PackageName, distance: usize) -> Graph {
    let start: Vec<usize> = numbers_where(&graph, |node| node.name() == Some(package));
    let mut kept: BTreeSet<usize> = start.iter().copied().collect();
    for neighbours in [graph.needed_by_each(), graph.askers_of_each()] {
        let distances = distances_from(&start, &neighbours);
        kept.extend((0..graph.nodes.len()).filter(|&number| distances[number].is_some_and(|far| far <= distance)));
    }
    let groups = (0..graph.nodes.len()).map(|number| kept.contains(&number).then_some(number)).collect();
    joined(graph, groups, Folding::Furthest)
}

fn fold_by(graph: Graph, folding: Folding, most: usize) -> Graph {
    let groups = match folding {
        Folding::Leaves => leaves(&graph),
        Folding::Projects => by_project(&graph),
        Folding::Furthest => furthest(&graph, most),
    };
    joined(graph, groups, folding)
}

/// By its number, with which other each is drawn; nothing when it is left out.
type Groups = Vec<Option<usize>>;

fn leaves(graph: &Graph) -> Groups {
    let (needed, askers) = (graph.needed_by_each(), graph.askers_of_each());
    let mut first_of: BTreeMap<&[usize], usize> = BTreeMap::new();
    let group = |number: usize| match needed[number].is_empty() && graph.nodes[number].is_release() {
        true => *first_of.entry(&askers[number]).or_insert(number),
        false => number,
    };
    (0..graph.nodes.len()).map(group).map(Some).collect()
}

fn by_project(graph: &Graph) -> Groups {
    let needed = graph.needed_by_each();
    // Of each: reached by nobody, by one project, or by several. It changes twice at most.
    let mut reached: Vec<Option<Option<usize>>> = vec![None; graph.nodes.len()];
    let mut open: VecDeque<(usize, Option<usize>)> =
        numbers_where(graph, |node| !node.is_release()).into_iter().map(|project| (project, Some(project))).collect();
    while let Some((number, by)) = open.pop_front() {
        for &next in &needed[number] {
            let new = match reached[next] {
                None => by,
                Some(known) if known == by => continue,
                Some(_) => None,
            };
            if reached[next] != Some(new) {
                reached[next] = Some(new);
                // A project that others need asks in its own name.
                if graph.nodes[next].is_release() {
                    open.push_back((next, new));
                }
            }
        }
    }
    let mut first_of: BTreeMap<usize, usize> = BTreeMap::new();
    let group = |number: usize| match reached[number] {
        Some(Some(project)) if graph.nodes[number].is_release() => *first_of.entry(project).or_insert(number),
        _ => number,
    };
    (0..graph.nodes.len()).map(group).map(Some).collect()
}

fn furthest(graph: &Graph, most: usize) -> Groups {
    let starts = numbers_where(graph, |node| !node.is_release());
    let distances = distances_from(&starts, &graph.needed_by_each());
    let mut order: Vec<usize> = (0..graph.nodes.len()).collect();
    order.sort_by_key(|&number| (distances[number].unwrap_or(usize::MAX), number));
    let mut groups: Groups = (0..graph.nodes.len()).map(Some).collect();
    let rest = &order[most.saturating_sub(1).min(order.len())..];
    if let Some(&first) = rest.iter().min() {
        rest.iter().for_each(|&number| groups[number] = Some(first));
    }
    groups
}

/// Draws those of a group as one; a group of one stays what it is.
fn joined(graph: Graph, groups: Groups, why: Folding) -> Graph {
    let mut members: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
    for (number, group) in groups.iter().enumerate() {
        if let Some(group) = group {
            members.entry(*group).or_default().push(number);
        }
    }
    // What was folded comes last, so the numbers of the others keep their order.
    let mut order: Vec<(&usize, &Vec<usize>)> = members.iter().collect();
    order.sort_by_key(|(group, members)| (members.len() > 1, **group));
    let number_of: BTreeMap<usize, usize> = order.iter().enumerate().map(|(new, (group, _))| (**group, new)).collect();
    let node = |members: &Vec<usize>| match members.as_slice() {
        [one] => graph.nodes[*one].clone(),
        several => {
            let nodes = || several.iter().map(|&number| &graph.nodes[number]);
            GraphNode {
                what: NodeKind::Folded { packages: nodes().flat_map(GraphNode::members).collect(), why },
                purposes: nodes().flat_map(|node| node.purposes.iter().cloned()).collect(),
                marks: nodes().flat_map(|node| node.marks.iter().copied()).collect(),
                change: None,
            }
        }
    };
    let nodes = order.iter().map(|(_, members)| node(members)).collect();
    let new_number = |old: usize| groups[old].and_then(|group| number_of.get(&group).copied());
    let mut edges: BTreeMap<(usize, usize), GraphEdge> = BTreeMap::new();
    for edge in graph.edges {
        let (Some(from), Some(to)) = (new_number(edge.from), new_number(edge.to)) else { continue };
        if from == to {
            continue;
        }
        match edges.get_mut(&(from, to)) {
            None => drop(edges.insert((from, to), GraphEdge { from, to, ..edge })),
            Some(known) => {
                known.accepts.extend(edge.accepts);
                known.purposes.extend(edge.purposes);
            }
        }
    }
    Graph { nodes, edges: edges.into_values().collect() }
}

fn numbers_where(graph: &Graph, test: impl Fn(&GraphNode) -> bool) -> Vec<usize> {
    (0..graph.nodes.len()).filter(|&number| test(&graph.nodes[number])).collect()
}

/// Counts the needs between some and each that they lead to.
fn distances_from(start: &[usize], neighbours: &[Vec<usize>]) -> Vec<Option<usize>> {
    let mut distances: Vec<Option<usize>> = vec![None; neighbours.len()];
    let mut open: VecDeque<(usize, usize)> = start.iter().map(|&number| (number, 0)).collect();
    while let Some((number, distance)) = open.pop_front() {
        if distances[number].is_none() {
            distances[number] = Some(distance);
            open.extend(neighbours[number].iter().map(|&next| (next, distance + 1)));
        }
    }
    distances
}

impl Graph {
    fn needed_by_each(&self) -> Vec<Vec<usize>> {
        let mut needed = vec![Vec::new(); self.nodes.len()];
        self.edges.iter().for_each(|edge| needed[edge.from].push(edge.to));
        needed
    }

    fn askers_of_each(&self) -> Vec<Vec<usize>> {
        let mut askers = vec![Vec::new(); self.nodes.len()];
        self.edges.iter().for_each(|edge| askers[edge.to].push(edge.from));
        askers
    }
}

impl GraphNode {
    fn is_release(&self) -> bool {
        !matches!(self.what, NodeKind::Project { .. })
    }

    fn members(&self) -> Vec<(PackageName, Option<String>)> {
        match &self.what {
            NodeKind::Project { name, version } => vec![(name.clone(), version.clone())],
            NodeKind::Release { package, version } => vec![(package.clone(), Some(version.to_string()))],
            NodeKind::Folded { packages, .. } => packages.clone(),
        }
    }
}
