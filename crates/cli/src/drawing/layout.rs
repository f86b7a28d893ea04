//! Where the nodes of a picture stand: in columns, what is needed on the left.
//!
//! Columns are the longest ways from the left. An edge over several columns becomes a thread through one
//! point in each, and all edges of a node that go far share its thread, so that a file that many steps read
//! is one line that branches. The order within a column, with as few crossings as can be, is the layered
//! method of Sugiyama as the library `rust-sugiyama` has it, which draws from top to bottom: its x is our y.
//! Then everything is drawn towards what it is tied to, as far as the order and the room allow.

use rust_sugiyama::configure::Config;
use rust_sugiyama::configure::CrossingMinimization;
use rust_sugiyama::configure::RankingType;

/// Space between two nodes of a column, between a thread and its neighbour, and between two columns.
const GAP: f64 = 6.0;
const THREAD: f64 = 3.0;
const BETWEEN: f64 = 34.0;

/// How often everything is drawn towards its neighbours, and how many lines are drawn at most.
const SWEEPS: usize = 80;
const WORK: usize = 400_000;

/// Where something stands: its left upper corner and its size.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Rect {
    /// From the left.
    pub x: f64,
    /// From above.
    pub y: f64,
    /// How wide.
    pub width: f64,
    /// How high.
    pub height: f64,
}

impl Rect {
    /// Half its height.
    pub fn middle(self) -> f64 {
        self.y + self.height / 2.0
    }
}

/// A line from one place to the next; a place beyond the nodes is a thread's.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Segment {
    /// Where it begins.
    pub from: usize,
    /// Where it ends.
    pub to: usize,
    /// An edge that it is a part of.
    pub edge: usize,
    /// Against the direction, since nodes need each other in a circle.
    pub back: bool,
}

/// A picture's places.
#[derive(Debug, Default)]
pub struct GraphLayout {
    /// First those of the nodes, then those of threads in their columns.
    pub places: Vec<Rect>,
    /// How many nodes there are.
    pub nodes: usize,
    /// All lines.
    pub lines: Vec<Segment>,
    /// How wide and high all of it is.
    pub width: f64,
    /// How high.
    pub height: f64,
    /// The left side and the width of each column.
    pub columns: Vec<(f64, f64)>,
}

/// Places nodes of these sizes, given the edges between them.
pub fn lay_out(sizes: &[(f64, f64)], edges: &[(usize, usize)]) -> GraphLayout {
    let back = back_edges(sizes.len(), edges);
    let forward: Vec<(usize, usize)> = edges
        .iter()
        .zip(&back)
        .filter(|(_, back)| !**back)
        .map(|(edge, _)| *edge)
        .collect();
    let columns = columns(sizes.len(), &forward);
    let mut layout = GraphLayout {
        nodes: sizes.len(),
        ..GraphLayout::default()
    };
    layout.places = sizes
        .iter()
        .map(|&(width, height)| Rect {
            width,
            height,
            ..Rect::default()
        })
        .collect();
    let mut column_of = columns.clone();
    // For each node the places of its thread, one for each column behind its own.
    let mut threads: Vec<Vec<usize>> = vec![Vec::new(); sizes.len()];
    for (edge, (&(from, to), &back)) in edges.iter().zip(&back).enumerate() {
        if back {
            layout.lines.push(Segment {
                from,
                to,
                edge,
                back,
            });
            continue;
        }
        let mut last = from;
        for column in columns[from] + 1..columns[to] {
            let along = column - columns[from] - 1;
            if threads[from].len() == along {
                let place = layout.places.len();
                layout.places.push(Rect {
                    height: THREAD,
                    ..Rect::default()
                });
                column_of.push(column);
                threads[from].push(place);
                layout.lines.push(Segment {
                    from: last,
                    to: place,
                    edge,
                    back,
                });
            }
            last = threads[from][along];
        }
        layout.lines.push(Segment {
            from: last,
            to,
            edge,
            back,
        });
    }
    let heights = heights(&layout);
    place(&mut layout, &column_of, &heights);
    layout
}

/// Edges that would close a circle.
fn back_edges(nodes: usize, edges: &[(usize, usize)]) -> Vec<bool> {
    let mut behind: Vec<Vec<usize>> = vec![Vec::new(); nodes];
    for (edge, &(from, _)) in edges.iter().enumerate() {
        behind[from].push(edge);
    }
    let mut back = vec![false; edges.len()];
    // 0: not seen, 1: on the way, 2: done
    let mut seen = vec![0u8; nodes];
    for start in 0..nodes {
        let mut way: Vec<(usize, usize)> = Vec::new();
        if seen[start] == 0 {
            seen[start] = 1;
            way.push((start, 0));
        }
        while let Some((at, next)) = way.last_mut() {
            let Some(&edge) = behind[*at].get(*next) else {
                seen[*at] = 2;
                way.pop();
                continue;
            };
            *next += 1;
            let to = edges[edge].1;
            match seen[to] {
                0 => {
                    seen[to] = 1;
                    way.push((to, 0));
                }
                1 => back[edge] = true,
                _ => {}
            }
        }
    }
    back
}

/// The column of each node: behind all that lead to it; what nothing leads to stands right before the
/// first that it leads to.
fn columns(nodes: usize, edges: &[(usize, usize)]) -> Vec<usize> {
    let mut behind: Vec<Vec<usize>> = vec![Vec::new(); nodes];
    let mut waiting = vec![0usize; nodes];
    for &(from, to) in edges {
        behind[from].push(to);
        waiting[to] += 1;
    }
    let is_first: Vec<bool> = waiting.iter().map(|count| *count == 0).collect();
    let mut columns = vec![0usize; nodes];
    let mut open: Vec<usize> = (0..nodes).filter(|&node| is_first[node]).collect();
    while let Some(node) = open.pop() {
        for &to in &behind[node] {
            columns[to] = columns[to].max(columns[node] + 1);
            waiting[to] -= 1;
            if waiting[to] == 0 {
                open.push(to);
            }
        }
    }
    for node in (0..nodes).filter(|&node| is_first[node]) {
        let nearest = behind[node].iter().map(|&to| columns[to]).min();
        columns[node] = nearest.map_or(0, |column| column.saturating_sub(1));
    }
    columns
}

/// How far from the top the middle of each place is to be, as the library finds it.
fn heights(layout: &GraphLayout) -> Vec<f64> {
    let config = Config {
        minimum_length: 1,
        vertex_spacing: GAP,
        dummy_vertices: true,
        dummy_size: 1.0,
        ranking_type: RankingType::MinimizeEdgeLength,
        c_minimization: CrossingMinimization::Barycenter,
        transpose: layout.places.len() < 400,
    };
    let number = |at: usize| u32::try_from(at).unwrap_or(u32::MAX);
    let vertices: Vec<(u32, (f64, f64))> = (0..)
        .zip(&layout.places)
        .map(|(at, place)| (at, (place.height, 1.0)))
        .collect();
    let edges: Vec<(u32, u32)> = layout
        .lines
        .iter()
        .filter(|line| !line.back)
        .map(|line| (number(line.from), number(line.to)))
        .collect();
    let mut heights = vec![0.0; layout.places.len()];
    let mut below = 0.0;
    for (places, ..) in rust_sugiyama::from_vertices_and_edges(&vertices, &edges, &config) {
        let tops = places
            .iter()
            .map(|&(at, (x, _))| x - layout.places[at].height / 2.0);
        let least = tops.fold(f64::INFINITY, f64::min);
        let mut lowest = below;
        for (at, (x, _)) in places {
            heights[at] = x - least + below;
            lowest = f64::max(lowest, heights[at] + layout.places[at].height / 2.0);
        }
        below = lowest + 2.0 * GAP;
    }
    heights
}

/// Puts everything at its place: columns beside each other, and in each what stands in each other's way
/// further down.
fn place(layout: &mut GraphLayout, column_of: &[usize], heights: &[f64]) {
    let count = column_of.iter().max().map_or(0, |last| last + 1);
    let mut columns: Vec<Vec<usize>> = vec![Vec::new(); count];
    for (at, &column) in column_of.iter().enumerate() {
        columns[column].push(at);
    }
    for column in &mut columns {
        column.sort_by(|&a, &b| heights[a].total_cmp(&heights[b]).then(a.cmp(&b)));
    }
    let middles = relax(layout, &columns, heights);
    let mut x = 0.0;
    for column in &columns {
        let widths = column.iter().map(|&at| layout.places[at].width);
        let width = widths.fold(0.0, f64::max);
        for &at in column {
            let place = &mut layout.places[at];
            place.x = x;
            if at >= layout.nodes {
                place.width = width;
            }
            place.y = middles[at] - place.height / 2.0;
        }
        layout.columns.push((x, width));
        x += width + BETWEEN;
    }
    let top = layout.places.iter().map(|place| place.y);
    let top = top.fold(f64::INFINITY, f64::min);
    for place in &mut layout.places {
        place.y -= top;
    }
    layout.width = (x - BETWEEN).max(0.0);
    let bottoms = layout.places.iter().map(|place| place.y + place.height);
    layout.height = bottoms.fold(0.0, f64::max);
}

/// Draws everything towards the mean of what it is tied to; gives the middles.
fn relax(layout: &GraphLayout, columns: &[Vec<usize>], heights: &[f64]) -> Vec<f64> {
    let mut tied: Vec<Vec<usize>> = vec![Vec::new(); layout.places.len()];
    for line in layout.lines.iter().filter(|line| !line.back) {
        tied[line.from].push(line.to);
        tied[line.to].push(line.from);
    }
    let mut middles = heights.to_vec();
    let sweeps = (WORK / layout.lines.len().max(1)).clamp(1, SWEEPS);
    for sweep in 0..=sweeps {
        for column in columns {
            let wanted: Vec<f64> = column
                .iter()
                .map(|&at| match &tied[at][..] {
                    [] => middles[at],
                    // The first sweep only makes room.
                    _ if sweep == 0 => middles[at],
                    near => near.iter().map(|&at| middles[at]).sum::<f64>() / count(near.len()),
                })
                .collect();
            for (&at, middle) in column.iter().zip(in_order(layout, column, &wanted)) {
                middles[at] = middle;
            }
        }
    }
    middles
}

/// Middles as near to the wanted ones as the order and the room allow, by least squares: neighbours that
/// would stand in each other's way move together (the method of pooling adjacent violators).
fn in_order(layout: &GraphLayout, column: &[usize], wanted: &[f64]) -> Vec<f64> {
    // Each is measured from where it would stand if all stood close together from the top.
    let mut close = Vec::with_capacity(column.len());
    let mut at = 0.0;
    for (index, &place) in column.iter().enumerate() {
        if let Some(before) = index.checked_sub(1) {
            let both = [column[before], place];
            let halves = both.iter().map(|&at| layout.places[at].height / 2.0);
            let threads = both.iter().all(|&at| at >= layout.nodes);
            at += halves.sum::<f64>() + if threads { THREAD } else { GAP };
        }
        close.push(at);
    }
    // Pools: their mean, and how many are in them.
    let mut pools: Vec<(f64, usize)> = Vec::new();
    for (wanted, close) in wanted.iter().zip(&close) {
        let mut pool = (wanted - close, 1);
        while let Some(&(mean, members)) = pools.last()
            && mean > pool.0
        {
            pools.pop();
            let all = members + pool.1;
            pool = (
                (mean * count(members) + pool.0 * count(pool.1)) / count(all),
                all,
            );
        }
        pools.push(pool);
    }
    let means = pools
        .iter()
        .flat_map(|&(mean, members)| std::iter::repeat_n(mean, members));
    means.zip(close).map(|(mean, close)| mean + close).collect()
}

#[expect(clippy::cast_precision_loss, reason = "a number of lines")]
fn count(count: usize) -> f64 {
    count as f64
}

#[cfg(test)]
mod tests {
    use super::*;

    fn overlap(layout: &GraphLayout) -> bool {
        let places = &layout.places;
        places.iter().enumerate().any(|(at, one)| {
            places[at + 1..].iter().any(|other| {
                one.x < other.x + other.width
                    && other.x < one.x + one.width
                    && one.y < other.y + other.height
                    && other.y < one.y + one.height
            })
        })
    }

    #[test]
    fn what_is_needed_stands_left_and_far_edges_share_a_thread() {
        let sizes = [(50.0, 20.0); 5];
        let edges = [(0, 1), (1, 2), (2, 3), (0, 3), (0, 4), (3, 4)];
        let layout = lay_out(&sizes, &edges);
        let xs: Vec<f64> = layout.places[..5].iter().map(|place| place.x).collect();
        assert_eq!(xs, [0.0, 84.0, 168.0, 252.0, 336.0]);
        // One place in each of the columns that 0 passes, not one for each of its two far edges.
        assert_eq!(layout.places.len(), 5 + 3);
        assert!(!overlap(&layout), "{layout:?}");
    }

    #[test]
    fn circles_and_lonely_nodes_have_places() {
        let layout = lay_out(&[(10.0, 10.0); 4], &[(0, 1), (1, 2), (2, 0)]);
        assert_eq!(layout.lines.iter().filter(|line| line.back).count(), 1);
        assert!(!overlap(&layout), "{layout:?}");
        assert_eq!(lay_out(&[], &[]).height, 0.0);
        assert_eq!(lay_out(&[(10.0, 10.0)], &[]).height, 10.0);
    }

    #[test]
    fn nothing_stands_on_anything_else() {
        // Numbers of the generator of Park and Miller, so that each run sees the same graphs.
        let mut seed: u64 = 7;
        let mut next = |below: usize| {
            seed = seed * 48271 % 2_147_483_647;
            usize::try_from(seed).unwrap() % below
        };
        for _ in 0..120 {
            let nodes = 1 + next(30);
            let sizes: Vec<(f64, f64)> = (0..nodes)
                .map(|_| (20.0 + next(60) as f64, 14.0 + next(30) as f64))
                .collect();
            let mut edges: Vec<(usize, usize)> = (0..next(60))
                .map(|_| (next(nodes), next(nodes)))
                .filter(|(from, to)| from != to)
                .collect();
            edges.sort_unstable();
            edges.dedup();
            let layout = lay_out(&sizes, &edges);
            assert!(!overlap(&layout), "{sizes:?} {edges:?}");
            let inside = |place: &Rect| {
                place.x >= 0.0
                    && place.y >= 0.0
                    && place.x + place.width <= layout.width + 1e-6
                    && place.y + place.height <= layout.height + 1e-6
            };
            assert!(layout.places.iter().all(inside), "{layout:?}");
        }
    }
}
