//! Where to draw what: in columns from left to right, whoever asks to the left of whom it asks for.
//!
//! Sugiyama, Tagawa and Toda, "Methods for visual understanding of hierarchical system structures" (1981). The layers are
//! made here: each is one further right than the last who asks for it, after needs that close a circle were turned round.
//! A need that passes over layers gets an empty place in each, so its line leads past what is drawn there. The library then
//! finds the order within the layers that crosses few lines. Where along its layer each is, is found here: so nothing
//! overlaps whatever it answers, and a picture is no higher than it must be.

use std::collections::{BTreeMap, BTreeSet};

use rust_sugiyama::configure::Config;
use rust_sugiyama::from_vertices_and_edges;

/// Empty space between what is above each other, in the unit of the sizes.
const BETWEEN_ROWS: f64 = 12.0;

/// What a line needs that leads past.
const LINE_HEIGHT: f64 = 6.0;

/// Empty space between columns: more where more lines have to find their way.
const BETWEEN_COLUMNS: (f64, f64) = (56.0, 160.0);

/// Empty space around everything.
const MARGIN: f64 = 16.0;

/// Most empty places for lines that lead past: beyond, the longest lines lead behind what is drawn.
const MOST_PLACES: usize = 1_200;

/// Where something is drawn.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Rect {
    /// Left edge.
    pub x: f64,
    /// Upper edge.
    pub y: f64,
    /// Width.
    pub width: f64,
    /// Height.
    pub height: f64,
}

/// Where to draw what.
#[derive(Debug, Clone, PartialEq)]
pub struct Layout {
    /// Where each node is.
    pub boxes: Vec<Rect>,
    /// Which way each line takes: points from the one to the other, two to each column that it passes.
    pub lines: Vec<Vec<(f64, f64)>>,
    /// Width of everything.
    pub width: f64,
    /// Height of everything.
    pub height: f64,
}

/// One place in a layer: of a node, or of a line that leads past.
struct Place {
    layer: usize,
    height: f64,
    wish: f64,
}

/// Lays out nodes of some sizes (width, height), and the lines between them, none from a node to itself.
///
/// The same in, the same out. Linear in the places, but for the library's part, which grows faster (docs/performance.md).
pub fn lay_out(sizes: &[(f64, f64)], edges: &[(usize, usize)]) -> Layout {
    let forward = turned(sizes.len(), edges);
    let layers = layers_of(sizes.len(), &forward);
    let mut places: Vec<Place> =
        sizes.iter().zip(&layers).map(|(size, &layer)| Place { layer, height: size.1, wish: 0.0 }).collect();
    // Of each line, the places that it leads through, its ends among them.
    let mut ways: Vec<Vec<usize>> = vec![Vec::new(); edges.len()];
    let mut shortest_first: Vec<usize> = (0..edges.len()).collect();
    shortest_first.sort_by_key(|&edge| (layers[forward[edge].1] - layers[forward[edge].0], edge));
    let mut links: Vec<(u32, u32)> = Vec::new();
    for edge in shortest_first {
        let (from, to) = forward[edge];
        let between = layers[from] + 1..layers[to];
        let way = &mut ways[edge];
        way.push(from);
        if places.len() + between.len() <= sizes.len() + MOST_PLACES {
            for layer in between {
                way.push(places.len());
                places.push(Place { layer, height: LINE_HEIGHT, wish: 0.0 });
            }
            way.push(to);
            links.extend(way.windows(2).map(|two| (number(two[0]), number(two[1]))));
        } else {
            way.push(to);
        }
    }
    links.sort_unstable();
    links.dedup();
    let part_of = wish(&mut places, &links);
    let tops = settle(&places, sizes.len(), &part_of, &links);
    let columns = columns(sizes, &layers, &forward);
    let boxes: Vec<Rect> = sizes
        .iter()
        .enumerate()
        .map(|(node, &(width, height))| Rect { x: columns[layers[node]].0, y: tops[node], width, height })
        .collect();
    let line = |edge: usize| -> Vec<(f64, f64)> {
        let way = &ways[edge];
        let middle = |place: usize| tops[place] + places[place].height / 2.0;
        let (first, last) = (way[0], way[way.len() - 1]);
        let mut points = vec![(boxes[first].x + boxes[first].width, middle(first))];
        for &place in &way[1..way.len() - 1] {
            let (left, width) = columns[places[place].layer];
            points.extend([(left, middle(place)), (left + width, middle(place))]);
        }
        points.push((boxes[last].x, middle(last)));
        if forward[edge] != edges[edge] {
            points.reverse();
        }
        points
    };
    let lines: Vec<Vec<(f64, f64)>> = (0..edges.len()).map(line).collect();
    let bottom = places.iter().zip(&tops).map(|(place, top)| top + place.height).fold(0.0, f64::max);
    let right = boxes.iter().map(|at| at.x + at.width).fold(0.0, f64::max);
    Layout { boxes, lines, width: right + MARGIN, height: bottom + MARGIN }
}

/// Places are few: the graph was folded, and the empty ones are bounded.
fn number(place: usize) -> u32 {
    u32::try_from(place).expect("fewer places than fit into 32 bits")
}

/// Turns lines round that would close a circle, found by walking in depth.
fn turned(nodes: usize, edges: &[(usize, usize)]) -> Vec<(usize, usize)> {
    let mut out: Vec<Vec<usize>> = vec![Vec::new(); nodes];
    let mut is_asked_for = vec![false; nodes];
    for (edge, &(from, to)) in edges.iter().enumerate() {
        out[from].push(edge);
        is_asked_for[to] = true;
    }
    #[derive(Clone, Copy, PartialEq)]
    enum Seen {
        Not,
        OnTheWay,
        Done,
    }
    let mut seen = vec![Seen::Not; nodes];
    let mut forward = edges.to_vec();
    // Those first that nobody asks for: then as few as possible are turned.
    let (first, then): (Vec<usize>, Vec<usize>) = (0..nodes).partition(|&node| !is_asked_for[node]);
    for start in first.into_iter().chain(then) {
        if seen[start] != Seen::Not {
            continue;
        }
        seen[start] = Seen::OnTheWay;
        let mut way: Vec<(usize, usize)> = vec![(start, 0)];
        while let Some((node, next)) = way.last_mut() {
            let Some(&edge) = out[*node].get(*next) else {
                seen[*node] = Seen::Done;
                way.pop();
                continue;
            };
            *next += 1;
            let (from, to) = edges[edge];
            match seen[to] {
                Seen::Not => {
                    seen[to] = Seen::OnTheWay;
                    way.push((to, 0));
                }
                Seen::OnTheWay => forward[edge] = (to, from),
                Seen::Done => {}
            }
        }
    }
    forward
}

/// Puts each one layer further than the last who asks for it.
fn layers_of(nodes: usize, forward: &[(usize, usize)]) -> Vec<usize> {
    let mut out: Vec<Vec<usize>> = vec![Vec::new(); nodes];
    let mut open_askers = vec![0_usize; nodes];
    for &(from, to) in forward {
        out[from].push(to);
        open_askers[to] += 1;
    }
    let mut layers = vec![0; nodes];
    let mut ready: Vec<usize> = (0..nodes).filter(|&node| open_askers[node] == 0).collect();
    while let Some(node) = ready.pop() {
        for &to in &out[node] {
            layers[to] = layers[to].max(layers[node] + 1);
            open_askers[to] -= 1;
            if open_askers[to] == 0 {
                ready.push(to);
            }
        }
    }
    layers
}

/// Asks the library in which order the places of each layer should be. Returns for each place to which of the parts that
/// hang together it belongs, the largest first.
fn wish(places: &mut [Place], links: &[(u32, u32)]) -> Vec<usize> {
    let vertices: Vec<(u32, (f64, f64))> =
        places.iter().enumerate().map(|(at, place)| (number(at), (place.height, 1.0))).collect();
    let config = Config { vertex_spacing: BETWEEN_ROWS, transpose: false, ..Config::default() };
    let mut parts = from_vertices_and_edges(&vertices, links, &config);
    let first = |part: &[(usize, (f64, f64))]| part.iter().map(|(place, _)| *place).min();
    parts.sort_by_key(|(part, _, _)| (std::cmp::Reverse(part.len()), first(part)));
    let mut part_of = vec![0; places.len()];
    for (at, (part, _, _)) in parts.iter().enumerate() {
        for &(place, (along, _)) in part {
            places[place].wish = along;
            part_of[place] = at;
        }
    }
    part_of
}

/// Finds the upper edge of each place: in the order that was wished for, never nearer to each other than they may be, and
/// so that lines are short; each part below the one before.
fn settle(places: &[Place], nodes: usize, part_of: &[usize], links: &[(u32, u32)]) -> Vec<f64> {
    let mut parts: BTreeMap<usize, BTreeMap<usize, Vec<usize>>> = BTreeMap::new();
    for (at, place) in places.iter().enumerate() {
        parts.entry(part_of[at]).or_default().entry(place.layer).or_default().push(at);
    }
    let mut neighbours: Vec<[Vec<usize>; 2]> = vec![[Vec::new(), Vec::new()]; places.len()];
    for &(from, to) in links {
        neighbours[from as usize][1].push(to as usize);
        neighbours[to as usize][0].push(from as usize);
    }
    let mut middles = vec![0.0; places.len()];
    let mut begin = MARGIN;
    for layers in parts.values_mut() {
        let mut layers: Vec<&mut Vec<usize>> = layers.values_mut().collect();
        for layer in &mut layers {
            layer.sort_by(|&one, &other| places[one].wish.total_cmp(&places[other].wish).then(one.cmp(&other)));
            // To begin with, as near to each other as they may be, around the same height.
            let heights = spread(layer, places, nodes, &vec![0.0; layer.len()]);
            layer.iter().zip(heights).for_each(|(&at, height)| middles[at] = height);
        }
        for round in 0..ROUNDS {
            let (side, order): (usize, Vec<usize>) = match round % 2 {
                0 => (0, (0..layers.len()).collect()),
                _ => (1, (0..layers.len()).rev().collect()),
            };
            // The last ones look to both sides.
            let both = round + 2 >= ROUNDS;
            for number in order {
                let layer = &layers[number];
                let wished = layer.iter().map(|&at| {
                    let near = neighbours[at].iter().enumerate().filter(|(of, _)| both || *of == side);
                    mean(near.flat_map(|(_, all)| all).map(|&other| middles[other])).unwrap_or(middles[at])
                });
                let heights = spread(layer, places, nodes, &wished.collect::<Vec<f64>>());
                layer.iter().zip(heights).for_each(|(&at, height)| middles[at] = height);
            }
        }
        let members = || layers.iter().flat_map(|layer| layer.iter().copied());
        let highest = members().map(|at| middles[at] - places[at].height / 2.0).fold(f64::INFINITY, f64::min);
        for at in members() {
            middles[at] += begin - highest;
        }
        let lowest = members().map(|at| middles[at] + places[at].height / 2.0).fold(begin, f64::max);
        begin = lowest + 2.0 * BETWEEN_ROWS;
    }
    places.iter().zip(&middles).map(|(place, middle)| middle - place.height / 2.0).collect()
}

/// How often the layers are gone through to make lines short, from left to right and back.
const ROUNDS: usize = 12;

fn mean(values: impl Iterator<Item = f64>) -> Option<f64> {
    let (sum, count) = values.fold((0.0, 0.0), |(sum, count), value| (sum + value, count + 1.0));
    (count > 0.0).then(|| sum / count)
}

/// Places a layer in its order as near as possible to where each wishes to be, in the sense of least squares, and no two
/// nearer than they may be: pool adjacent violators (Ayer and others, 1955) over the wishes less the room that is before
/// each. Returns the middle of each.
fn spread(layer: &[usize], places: &[Place], nodes: usize, wished: &[f64]) -> Vec<f64> {
    let gap = |at: usize| if at < nodes { BETWEEN_ROWS } else { LINE_HEIGHT };
    let mut room = 0.0;
    let mut rooms = Vec::with_capacity(layer.len());
    for (number, &at) in layer.iter().enumerate() {
        if number > 0 {
            let before = layer[number - 1];
            room += (places[before].height + places[at].height) / 2.0 + gap(before).max(gap(at));
        }
        rooms.push(room);
    }
    // Runs that are as near as they may be: the sum of their wishes, and how many they are.
    let mut runs: Vec<(f64, f64)> = Vec::new();
    for (wish, room) in wished.iter().zip(&rooms) {
        let mut run = (wish - room, 1.0);
        while let Some(&(sum, count)) = runs.last()
            && sum / count > run.0 / run.1
        {
            runs.pop();
            run = (run.0 + sum, run.1 + count);
        }
        runs.push(run);
    }
    let mut middles = Vec::with_capacity(layer.len());
    for (sum, count) in runs {
        let mut left = count;
        while left > 0.5 {
            middles.push(sum / count + rooms[middles.len()]);
            left -= 1.0;
        }
    }
    middles
}

/// Returns the left edge and the width of each column.
fn columns(sizes: &[(f64, f64)], layers: &[usize], forward: &[(usize, usize)]) -> Vec<(f64, f64)> {
    let count = layers.iter().max().map_or(0, |last| last + 1);
    let mut widths = vec![0.0_f64; count];
    for (size, &layer) in sizes.iter().zip(layers) {
        widths[layer] = widths[layer].max(size.0);
    }
    // What bends between two columns: lines at different heights there.
    let mut bends: Vec<BTreeSet<usize>> = vec![BTreeSet::new(); count];
    for &(from, to) in forward {
        bends[layers[from]].insert(from);
        bends[layers[to] - 1].insert(to);
    }
    let mut left = MARGIN;
    let mut columns = Vec::with_capacity(count);
    for (width, bends) in widths.iter().zip(&bends) {
        columns.push((left, *width));
        let (least, most) = BETWEEN_COLUMNS;
        let lines = u32::try_from(bends.len()).map_or(most, f64::from);
        left += width + (least + 2.0 * lines).min(most);
    }
    columns
}
