//! State graphs: what is known of each state, where it is laid, and how it is drawn.
//!
//! A status is told by shape first and by colour second: the start is a ring, a goal a filled diamond, lost a cross, dead a
//! hollow circle, stuck a hollow square, winnable a filled disk, over a bar, what is not decided a dot.

use rayon::prelude::*;

use crate::scene::{Anchor, Rgb, Scene, Shape, Style, text_width};
use crate::tiles::{Palette, Theme, Thing};
use fendle_core::numbers::grouped;

/// What is known of a state.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Status {
    /// Won.
    Goal,
    /// Lost.
    Lost,
    /// Ended otherwise.
    Over,
    /// It goes on, and no move is allowed.
    Stuck,
    /// Moves are left, and no goal can be reached.
    Dead,
    /// A goal can be reached.
    Winnable,
    /// It goes on, and there is no goal.
    Free,
    /// Not decided.
    Open,
}

impl Status {
    /// All of them, in the order of their numbers.
    pub const ALL: [Status; 8] = [
        Status::Goal,
        Status::Lost,
        Status::Over,
        Status::Stuck,
        Status::Dead,
        Status::Winnable,
        Status::Free,
        Status::Open,
    ];

    /// In one word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Status::Goal => "won",
            Status::Lost => "lost",
            Status::Over => "over",
            Status::Stuck => "stuck",
            Status::Dead => "dead",
            Status::Winnable => "winnable",
            Status::Free => "free",
            Status::Open => "open",
        }
    }

    /// Its number.
    #[must_use]
    pub fn number(self) -> usize {
        Status::ALL.iter().position(|s| *s == self).unwrap_or(0)
    }

    fn colour(self, p: &Palette) -> Rgb {
        match self {
            Status::Goal => p.paints[1],
            Status::Winnable | Status::Free => p.paints[0],
            Status::Lost | Status::Over => p.paints[3],
            Status::Stuck | Status::Dead => p.faint,
            Status::Open => p.grid,
        }
    }
}

/// A state.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Node {
    /// The position as it is written.
    pub text: String,
    /// Moves from the nearest start.
    pub depth: u32,
    /// What is known of it.
    pub status: Status,
    /// Play begins here.
    pub start: bool,
    /// Every way to a goal passes it.
    pub must_pass: bool,
    /// It lies on the shown shortest solution.
    pub on_way: bool,
    /// How many states it stands for.
    pub count: u64,
}

impl Node {
    /// A state by itself, with nothing known of it but its status.
    #[must_use]
    pub fn plain(text: String, depth: u32, status: Status) -> Node {
        Node { text, depth, status, start: false, must_pass: false, on_way: false, count: 1 }
    }
}

/// The boards of the nodes: which kinds of cells there are, and for each node the kind of each of its cells.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Boards {
    /// Rows.
    pub rows: usize,
    /// Columns.
    pub cols: usize,
    /// Whether piles stand side by side.
    pub piles: bool,
    /// What stands on a cell of each kind.
    pub kinds: Vec<Vec<Thing>>,
    /// For each node its cells, row by row.
    pub cells: Vec<Vec<u16>>,
}

/// A transition.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Arrow {
    /// From this node.
    pub from: u32,
    /// To this one.
    pub to: u32,
    /// The move, by its number in [`Net::names`].
    pub name: u32,
    /// All that follows is dead, stuck, lost or over.
    pub fatal: bool,
}

/// A state graph.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Net {
    /// What it is of.
    pub title: String,
    /// The states.
    pub nodes: Vec<Node>,
    /// The transitions.
    pub arrows: Vec<Arrow>,
    /// The moves.
    pub names: Vec<String>,
    /// What was left out, and the like: written on every picture.
    pub notes: Vec<String>,
    /// The boards of the nodes, if they are to be seen.
    pub boards: Option<Boards>,
}

/// Kinds of moves that are told apart by colour, at the most.
const KINDS: usize = 8;

/// The kinds of moves, and for each name its kind: by the first word in which they differ in few ways, such as the
/// direction. One kind where there is no such word.
#[must_use]
pub fn kinds(names: &[String]) -> (Vec<String>, Vec<usize>) {
    let words: Vec<Vec<&str>> = names.iter().map(|n| n.split_whitespace().collect()).collect();
    let most = words.iter().map(Vec::len).max().unwrap_or(0);
    for k in 0..most {
        let mut seen: Vec<&str> = words.iter().map(|w| w.get(k).copied().unwrap_or("")).collect();
        seen.sort_unstable();
        seen.dedup();
        if (2..=KINDS).contains(&seen.len()) {
            let of =
                |w: &Vec<&str>| seen.iter().position(|s| *s == w.get(k).copied().unwrap_or("")).unwrap_or(0);
            let kind = words.iter().map(of).collect();
            let lead = match words.iter().all(|w| w.get(..k) == words[0].get(..k)) {
                true => words[0][..k.min(words[0].len())].iter().map(|w| format!("{w} ")).collect(),
                false => "\u{2026} ".to_string(),
            };
            let tail = if words.iter().any(|w| w.len() > k + 1) { " \u{2026}" } else { "" };
            let name = |s: &&str| format!("{lead}{}{tail}", if s.is_empty() { "without" } else { s });
            return (seen.iter().map(name).collect(), kind);
        }
    }
    let all = if names.is_empty() { vec![] } else { vec!["every move".to_string()] };
    (all, vec![0; names.len()])
}

/// Where the nodes are.
pub type Spots = Vec<(f32, f32)>;

/// The nodes in layers by depth, the start at the top; within a layer ordered by the mean place of their neighbours, so
/// that arrows cross less (Sugiyama, Tagawa, Toda, 1981). O(rounds times arrows).
#[must_use]
pub fn layers(net: &Net) -> Spots {
    let depth = net.nodes.iter().map(|n| n.depth).max().unwrap_or(0) as usize;
    let mut rows: Vec<Vec<u32>> = vec![vec![]; depth + 1];
    for (i, n) in net.nodes.iter().enumerate() {
        rows[n.depth as usize].push(i as u32);
    }
    let mut x = vec![0.0f32; net.nodes.len()];
    let spread = |rows: &[Vec<u32>], x: &mut Vec<f32>| {
        for row in rows {
            for (k, i) in row.iter().enumerate() {
                x[*i as usize] = k as f32 - (row.len() as f32 - 1.0) / 2.0;
            }
        }
    };
    spread(&rows, &mut x);
    for round in 0..8 {
        let mut sum = vec![(0.0f32, 0u32); net.nodes.len()];
        for a in &net.arrows {
            let (f, t) = (a.from as usize, a.to as usize);
            let (df, dt) = (net.nodes[f].depth, net.nodes[t].depth);
            // Downwards after what is above, upwards after what is below.
            let (at, other) = match df.cmp(&dt) {
                std::cmp::Ordering::Less => (t, f),
                std::cmp::Ordering::Greater => (f, t),
                std::cmp::Ordering::Equal => continue,
            };
            let (at, other) = if round % 2 == 0 { (at, other) } else { (other, at) };
            sum[at].0 += x[other];
            sum[at].1 += 1;
        }
        for row in &mut rows {
            let key = |i: &u32| {
                let (s, n) = sum[*i as usize];
                if n == 0 { x[*i as usize] } else { s / n as f32 }
            };
            row.sort_by(|a, b| key(a).total_cmp(&key(b)).then(a.cmp(b)));
        }
        spread(&rows, &mut x);
    }
    let widest = rows.iter().map(Vec::len).max().unwrap_or(1).max(1) as f32;
    let tall = (depth as f32).max(1.0);
    // Rows are drawn as wide as the picture, not as crowded as the widest of them.
    (0..net.nodes.len())
        .map(|i| {
            let row = rows[net.nodes[i].depth as usize].len().max(1) as f32;
            let share = (row / widest).powf(0.6) / row;
            (x[i] * share * tall * 1.6, net.nodes[i].depth as f32)
        })
        .collect()
}

/// Nodes that repel each other and arrows that pull (Fruchterman, Reingold, 1991), far nodes taken together (Barnes, Hut,
/// 1986). The same seed gives the same picture, on any number of threads. O(rounds times n log n). `stop` ends it before all
/// rounds are done: what is laid out then is rougher, and where it is depends on when.
#[must_use]
pub fn force(net: &Net, seed: u64, rounds: usize, stop: &(dyn Fn() -> bool + Sync)) -> Spots {
    let n = net.nodes.len();
    let mut state = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    let mut random = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        (state >> 40) as f32 / (1u64 << 24) as f32
    };
    // Rings by depth to begin with: most of the shape is there already.
    let mut at: Spots = net
        .nodes
        .iter()
        .map(|node| {
            let (angle, r) = (random() * std::f32::consts::TAU, node.depth as f32 + random());
            (r * angle.cos(), r * angle.sin())
        })
        .collect();
    if n < 2 {
        return at;
    }
    let scale = (n as f32).sqrt() / net.nodes.iter().map(|n| n.depth).max().unwrap_or(1).max(1) as f32;
    at.iter_mut().for_each(|p| *p = (p.0 * scale, p.1 * scale));
    let mut first = vec![0u32; n + 1];
    for a in &net.arrows {
        first[a.from as usize + 1] += 1;
        first[a.to as usize + 1] += 1;
    }
    for i in 0..n {
        first[i + 1] += first[i];
    }
    let mut next = first.clone();
    let mut beside = vec![0u32; net.arrows.len() * 2];
    for a in &net.arrows {
        for (x, y) in [(a.from, a.to), (a.to, a.from)] {
            beside[next[x as usize] as usize] = y;
            next[x as usize] += 1;
        }
    }
    let mut heat = (n as f32).sqrt() * 0.15;
    let cool = (0.02 / heat).powf(1.0 / rounds.max(1) as f32);
    for _ in 0..rounds {
        if stop() {
            break;
        }
        let tree = Tree::of(&at);
        let moved: Spots = (0..n)
            .into_par_iter()
            .map(|i| {
                let (x, y) = at[i];
                let (mut fx, mut fy) = tree.push(x, y);
                for j in &beside[first[i] as usize..first[i + 1] as usize] {
                    let (dx, dy) = (at[*j as usize].0 - x, at[*j as usize].1 - y);
                    let d = (dx * dx + dy * dy).sqrt();
                    fx += dx * d;
                    fy += dy * d;
                }
                let len = (fx * fx + fy * fy).sqrt().max(1e-6);
                let step = len.min(heat);
                (x + fx / len * step, y + fy / len * step)
            })
            .collect();
        at = moved;
        heat *= cool;
    }
    at
}

/// Squares in squares with the centre and number of what lies in them.
struct Tree {
    /// Centre of mass and mass.
    mass: Vec<(f32, f32, f32)>,
    side: Vec<f32>,
    /// The first of four children; 0 for none.
    child: Vec<u32>,
}

const DEEP: u32 = 24;
/// Squares seen under less than this angle are taken as one.
const NEAR: f32 = 1.1;

impl Tree {
    fn of(at: &Spots) -> Tree {
        let (mut lo, mut hi) = ((f32::MAX, f32::MAX), (f32::MIN, f32::MIN));
        for p in at {
            lo = (lo.0.min(p.0), lo.1.min(p.1));
            hi = (hi.0.max(p.0), hi.1.max(p.1));
        }
        let side = (hi.0 - lo.0).max(hi.1 - lo.1).max(1e-3) * 1.001;
        let mut t = Tree { mass: vec![(0.0, 0.0, 0.0)], side: vec![side], child: vec![0] };
        for &(x, y) in at {
            t.add(x, y, lo);
        }
        for m in &mut t.mass {
            if m.2 > 0.0 {
                *m = (m.0 / m.2, m.1 / m.2, m.2);
            }
        }
        t
    }

    fn add(&mut self, x: f32, y: f32, mut corner: (f32, f32)) {
        let mut node = 0usize;
        let mut deep = 0;
        loop {
            let (was, side) = (self.mass[node], self.side[node]);
            self.mass[node] = (was.0 + x, was.1 + y, was.2 + 1.0);
            if was.2 == 0.0 || deep == DEEP {
                return;
            }
            let half = side / 2.0;
            if self.child[node] == 0 {
                self.child[node] = self.mass.len() as u32;
                for _ in 0..4 {
                    self.mass.push((0.0, 0.0, 0.0));
                    self.side.push(half);
                    self.child.push(0);
                }
                // The one that was alone here moves down.
                let q = Tree::quarter(was.0, was.1, corner, half);
                self.mass[self.child[node] as usize + q] = was;
            }
            let q = Tree::quarter(x, y, corner, half);
            corner = (corner.0 + half * (q % 2) as f32, corner.1 + half * (q / 2) as f32);
            node = self.child[node] as usize + q;
            deep += 1;
        }
    }

    fn quarter(x: f32, y: f32, corner: (f32, f32), half: f32) -> usize {
        usize::from(x >= corner.0 + half) + 2 * usize::from(y >= corner.1 + half)
    }

    /// The push on a point.
    fn push(&self, x: f32, y: f32) -> (f32, f32) {
        let (mut fx, mut fy) = (0.0f32, 0.0f32);
        let mut work = [0u32; 128];
        let mut len = 1;
        while len > 0 {
            len -= 1;
            let node = work[len] as usize;
            let (mx, my, m) = self.mass[node];
            if m == 0.0 {
                continue;
            }
            let (dx, dy) = (x - mx, y - my);
            let d2 = dx * dx + dy * dy;
            let side = self.side[node];
            if self.child[node] == 0 || side * side < NEAR * NEAR * d2 || len + 4 > work.len() {
                // Itself, or exactly on it.
                if d2 > 1e-9 {
                    let f = m / d2.max(0.01);
                    fx += dx * f;
                    fy += dy * f;
                }
                continue;
            }
            for k in 0..4 {
                work[len] = self.child[node] + k;
                len += 1;
            }
        }
        (fx, fy)
    }
}

/// How kinds of moves are dashed, in turn.
fn dash_of(kind: usize) -> Option<f32> {
    [None, Some(6.0), Some(2.0), Some(10.0)][kind % 4]
}

/// Draws a graph with its legend and notes. `tint`: arrows are coloured and dashed by the kind of move.
#[must_use]
pub fn scene(net: &Net, spots: &Spots, tint: bool, theme: Theme, (width, height): (f32, f32)) -> Scene {
    let p = theme.palette();
    let mut s = Scene::new(width, height, format!("{}: {} states", net.title, net.nodes.len()));
    s.shapes.push(Shape::Rect(0.0, 0.0, width, height, 0.0, Style::fill(p.ground)));
    s.shapes.push(Shape::Text(20.0, 30.0, 17.0, Anchor::Start, net.title.clone(), p.ink));
    let (mut lo, mut hi) = ((f32::MAX, f32::MAX), (f32::MIN, f32::MIN));
    for q in spots {
        lo = (lo.0.min(q.0), lo.1.min(q.1));
        hi = (hi.0.max(q.0), hi.1.max(q.1));
    }
    let legend = 190.0;
    let notes = 22.0 * net.notes.len() as f32;
    let (w, h) = (width - legend - 70.0, height - 100.0 - notes);
    let fit = |a: f32, lo: f32, hi: f32, from: f32, len: f32| {
        from + if hi - lo < 1e-6 { len / 2.0 } else { (a - lo) / (hi - lo) * len }
    };
    let at: Spots =
        spots.iter().map(|q| (fit(q.0, lo.0, hi.0, 35.0, w), fit(q.1, lo.1, hi.1, 60.0, h))).collect();
    let few = net.nodes.len() <= 400;
    let r = (220.0 / (net.nodes.len().max(1) as f32).sqrt()).min(0.48 * row_gap(&at)).clamp(1.2, 9.0);
    let faint = if few { p.faint } else { p.grid };
    let (kind_names, kind_of) = kinds(&net.names);
    for a in &net.arrows {
        let (f, t) = (at[a.from as usize], at[a.to as usize]);
        let way = net.nodes[a.from as usize].on_way
            && net.nodes[a.to as usize].on_way
            && net.nodes[a.to as usize].depth == net.nodes[a.from as usize].depth + 1;
        let kind = kind_of.get(a.name as usize).copied().unwrap_or(0);
        let (c, width) = match (way, a.fatal) {
            (true, _) => (p.wish, (r * 0.5).max(1.6)),
            (_, true) if !tint => (p.mark, if few { 1.2 } else { 0.5 }),
            _ if tint => (p.paints[kind % KINDS], if few { 1.3 } else { 0.5 }),
            _ => (faint, if few { 0.9 } else { 0.3 }),
        };
        let dash = if tint && few { dash_of(kind) } else { a.fatal.then_some(4.0) };
        let look = Style { dash: dash.filter(|_| !way), ..Style::line(c, width) };
        s.shapes.push(Shape::Lines(vec![f, t], false, look));
        if few {
            arrow_head(&mut s, f, t, r, c);
        }
    }
    if few && net.arrows.len() <= 60 {
        for a in &net.arrows {
            let (f, t) = (at[a.from as usize], at[a.to as usize]);
            let (x, y) = ((f.0 + 2.0 * t.0) / 3.0, (f.1 + 2.0 * t.1) / 3.0);
            let name = net.names.get(a.name as usize).cloned().unwrap_or_default();
            // On its own ground, so that a line does not strike it through.
            let wide = text_width(&name, 10.0) + 4.0;
            // Nor is it cut off at the rim.
            let x = x.min(width - wide / 2.0).max(wide / 2.0);
            s.shapes.push(Shape::Rect(x - wide / 2.0, y - 12.5, wide, 13.0, 2.0, Style::fill(p.ground)));
            s.shapes.push(Shape::Text(x, y - 3.0, 10.0, Anchor::Middle, name, p.faint));
        }
    }
    for (n, q) in net.nodes.iter().zip(&at) {
        node_shape(&mut s, n, *q, r, &p);
    }
    draw_legend(&mut s, net, tint.then_some(&kind_names[..]), (width - legend, 70.0), &p);
    for (i, note) in net.notes.iter().enumerate() {
        let y = height - 16.0 - 22.0 * (net.notes.len() - 1 - i) as f32;
        s.shapes.push(Shape::Text(20.0, y, 13.0, Anchor::Start, note.clone(), p.mark));
    }
    s
}

/// How near neighbours in one row stand: nine of ten are farther apart. Great where nodes stand in no rows.
fn row_gap(at: &Spots) -> f32 {
    let mut order: Vec<&(f32, f32)> = at.iter().collect();
    order.sort_by(|a, b| a.1.total_cmp(&b.1).then(a.0.total_cmp(&b.0)));
    let mut gaps: Vec<f32> =
        order.windows(2).filter(|w| w[0].1 == w[1].1).map(|w| w[1].0 - w[0].0).filter(|g| *g > 0.0).collect();
    if gaps.is_empty() || gaps.len() * 2 < at.len() {
        return f32::MAX;
    }
    gaps.sort_by(f32::total_cmp);
    gaps[gaps.len() / 10]
}

fn arrow_head(s: &mut Scene, f: (f32, f32), t: (f32, f32), r: f32, c: Rgb) {
    let (dx, dy) = (t.0 - f.0, t.1 - f.1);
    let d = (dx * dx + dy * dy).sqrt();
    if d < 3.0 * r {
        return;
    }
    let (ux, uy) = (dx / d, dy / d);
    let tip = (t.0 - ux * r * 1.3, t.1 - uy * r * 1.3);
    let back = (tip.0 - ux * r * 0.9, tip.1 - uy * r * 0.9);
    let side = r * 0.45;
    let points =
        vec![tip, (back.0 - uy * side, back.1 + ux * side), (back.0 + uy * side, back.1 - ux * side)];
    s.shapes.push(Shape::Lines(points, true, Style::fill(c)));
}

fn node_shape(s: &mut Scene, n: &Node, (x, y): (f32, f32), r: f32, p: &Palette) {
    let c = n.status.colour(p);
    let thin = (r * 0.3).max(0.6);
    let hollow = Style::fill(p.ground).with_line(c, thin);
    match n.status {
        Status::Goal => {
            let r = r * 1.5;
            let points = vec![(x, y - r), (x + r, y), (x, y + r), (x - r, y)];
            s.shapes.push(Shape::Lines(points, true, Style::fill(c).with_line(p.ink, thin * 0.6)));
        }
        Status::Lost => {
            let look = Style::line(c, thin * 1.4);
            s.shapes.push(Shape::Lines(vec![(x - r, y - r), (x + r, y + r)], false, look));
            s.shapes.push(Shape::Lines(vec![(x - r, y + r), (x + r, y - r)], false, look));
        }
        Status::Over => {
            s.shapes.push(Shape::Lines(vec![(x - r, y), (x + r, y)], false, Style::line(c, thin * 2.0)))
        }
        Status::Stuck => {
            s.shapes.push(Shape::Rect(x - r * 0.9, y - r * 0.9, r * 1.8, r * 1.8, 0.0, hollow));
        }
        Status::Dead => s.shapes.push(Shape::Circle(x, y, r * 0.9, hollow)),
        Status::Open => s.shapes.push(Shape::Circle(x, y, r * 0.4, Style::fill(p.faint))),
        Status::Winnable | Status::Free => s.shapes.push(Shape::Circle(x, y, r, Style::fill(c))),
    }
    if n.count > 1 {
        for k in [1.5, 1.9] {
            s.shapes.push(Shape::Circle(x, y, r * k, Style::line(p.faint, thin * 0.7)));
        }
    }
    if n.must_pass {
        let r = r * 1.7;
        s.shapes.push(Shape::Rect(x - r, y - r, 2.0 * r, 2.0 * r, r * 0.4, Style::line(p.wish, thin)));
    }
    if n.start {
        s.shapes.push(Shape::Circle(x, y, r * 2.1, Style::line(p.ink, thin * 1.2)));
    }
}

fn draw_legend(s: &mut Scene, net: &Net, kinds: Option<&[String]>, (x, y): (f32, f32), p: &Palette) {
    let mut y = y;
    let mut row = |s: &mut Scene, node: Node, words: String| {
        node_shape(s, &node, (x + 12.0, y), 6.0, p);
        s.shapes.push(Shape::Text(x + 34.0, y + 5.0, 13.0, Anchor::Start, words, p.ink));
        y += 30.0;
    };
    let plain = |status| Node::plain(String::new(), 0, status);
    let common = net.nodes.iter().find(|n| n.start).map_or(Status::Winnable, |n| n.status);
    row(s, Node { start: true, ..plain(common) }, "start".into());
    for status in Status::ALL {
        let n: u64 = net.nodes.iter().filter(|n| n.status == status).map(|n| n.count).sum();
        if n > 0 {
            row(s, plain(status), format!("{} {}", grouped(n), status.word()));
        }
    }
    if net.nodes.iter().any(|n| n.count > 1) {
        row(s, Node { count: 2, ..plain(common) }, "many states as one".into());
    }
    let must = net.nodes.iter().filter(|n| n.must_pass).count();
    if must > 0 {
        row(
            s,
            Node { must_pass: true, ..plain(Status::Winnable) },
            format!("{} must pass", grouped(must as u64)),
        );
    }
    for (k, name) in kinds.unwrap_or_default().iter().enumerate() {
        let look = Style { dash: dash_of(k), ..Style::line(p.paints[k % KINDS], 2.0) };
        s.shapes.push(Shape::Lines(vec![(x, y), (x + 26.0, y)], false, look));
        s.shapes.push(Shape::Text(x + 34.0, y + 5.0, 13.0, Anchor::Start, name.clone(), p.ink));
        y += 30.0;
    }
    for (name, look) in [
        ("shortest solution", Style::line(p.wish, 3.0)),
        ("fatal move", Style { dash: Some(4.0), ..Style::line(p.mark, 1.5) }),
    ] {
        let there = if name == "fatal move" {
            kinds.is_none() && net.arrows.iter().any(|a| a.fatal)
        } else {
            net.nodes.iter().any(|n| n.on_way)
        };
        if there {
            s.shapes.push(Shape::Lines(vec![(x, y), (x + 26.0, y)], false, look));
            s.shapes.push(Shape::Text(x + 34.0, y + 5.0, 13.0, Anchor::Start, name.into(), p.ink));
            y += 30.0;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn chain(n: u32) -> Net {
        let node = |d| {
            let status = if d + 1 == n { Status::Goal } else { Status::Winnable };
            Node { start: d == 0, must_pass: true, on_way: true, ..Node::plain(format!("s{d}"), d, status) }
        };
        Net {
            title: "chain".into(),
            nodes: (0..n).map(node).collect(),
            arrows: (1..n).map(|i| Arrow { from: i - 1, to: i, name: 0, fatal: false }).collect(),
            names: vec!["go".into()],
            ..Net::default()
        }
    }

    #[test]
    fn layers_follow_the_depth() {
        let spots = layers(&chain(9));
        assert!(spots.windows(2).all(|w| w[0].1 < w[1].1));
    }

    /// A ring is laid out as one: neighbours are near, what is opposite is far; the same for the same seed.
    #[test]
    fn forces_spread_a_ring_and_repeat_themselves() {
        let mut net = chain(40);
        net.arrows.push(Arrow { from: 39, to: 0, name: 0, fatal: false });
        let spots = force(&net, 3, 400, &|| false);
        assert_eq!(spots, force(&net, 3, 400, &|| false));
        let far = |i: usize, j: usize| {
            let (a, b) = (spots[i % 40], spots[j % 40]);
            ((a.0 - b.0).powi(2) + (a.1 - b.1).powi(2)).sqrt()
        };
        let near: f32 = (0..40).map(|i| far(i, i + 1)).sum::<f32>() / 40.0;
        let across: f32 = (0..40).map(|i| far(i, i + 20)).sum::<f32>() / 40.0;
        assert!(across > 4.0 * near, "{near} {across}");
        assert!(spots.iter().all(|p| p.0.is_finite() && p.1.is_finite()));
    }

    /// The push of the tree is that of all nodes one by one, nearly.
    #[test]
    fn far_nodes_together_push_like_each_alone() {
        let net = chain(200);
        let spots = force(&net, 5, 10, &|| false);
        let tree = Tree::of(&spots);
        for &(x, y) in spots.iter().step_by(17) {
            let (mut fx, mut fy, mut all) = (0.0f32, 0.0f32, 0.0f32);
            for q in &spots {
                let (dx, dy) = (x - q.0, y - q.1);
                let d2 = dx * dx + dy * dy;
                if d2 > 1e-9 {
                    fx += dx / d2.max(0.01);
                    fy += dy / d2.max(0.01);
                    all += 1.0 / d2.max(0.01).sqrt();
                }
            }
            let (tx, ty) = tree.push(x, y);
            assert!((fx - tx).abs() + (fy - ty).abs() < 0.25 * all, "({fx}, {fy}) ({tx}, {ty})");
        }
    }

    #[test]
    fn moves_are_told_apart_by_the_word_in_which_they_differ() {
        let of = |list: &[&str]| kinds(&list.iter().map(|s| (*s).to_string()).collect::<Vec<_>>());
        let (names, kind) = of(&["go left", "go up", "go left"]);
        assert_eq!((names, kind), (vec!["go left".to_string(), "go up".into()], vec![0, 1, 0]));
        assert_eq!(
            of(&["push 1 up", "pull 1 up", "wait"]).0,
            ["pull \u{2026}", "push \u{2026}", "wait \u{2026}"]
        );
        assert_eq!(of(&["lift r1c1", "lift"]).0, ["lift without", "lift r1c1"]);
        let far: Vec<String> =
            (0..20).map(|i| format!("push r1c{i} {}", if i % 2 == 0 { "up" } else { "down" })).collect();
        assert_eq!(kinds(&far).0, ["\u{2026} down", "\u{2026} up"]);
        let many: Vec<String> = (0..20).map(|i| format!("lift r1c{i}")).collect();
        assert_eq!(kinds(&many), (vec!["every move".to_string()], vec![0; 20]));
        assert_eq!(of(&[]), (vec![], vec![]));
    }

    /// A colour as eyes without one kind of cones see it, by its three parts from 0 to 255 (Viénot, Brettel, Mollon, 1999).
    fn seen_without(c: Rgb, green: bool) -> [f32; 3] {
        let linear = |v: u8| {
            let v = f32::from(v) / 255.0;
            if v <= 0.040_45 { v / 12.92 } else { ((v + 0.055) / 1.055).powf(2.4) }
        };
        let back = |v: f32| {
            let v = v.clamp(0.0, 1.0);
            255.0 * if v <= 0.003_130_8 { 12.92 * v } else { 1.055 * v.powf(1.0 / 2.4) - 0.055 }
        };
        let (r, g, b) = (linear(c.0), linear(c.1), linear(c.2));
        let (share, rest) = if green { (0.292_75, -0.022_34) } else { (0.112_38, 0.004_01) };
        let red_green = share * r + (1.0 - share) * g;
        [back(red_green), back(red_green), back(rest * (r - g) + b)]
    }

    #[test]
    fn colours_are_told_apart_by_eyes_that_miss_red_or_green() {
        for theme in [Theme::Light, Theme::Dark] {
            let p = theme.palette();
            let colours = [Status::Goal, Status::Winnable, Status::Lost, Status::Dead].map(|s| s.colour(&p));
            for green in [false, true] {
                for (i, a) in colours.iter().enumerate() {
                    for b in colours[..i].iter().chain([&p.ground]) {
                        let (a, b) = (seen_without(*a, green), seen_without(*b, green));
                        let far: f32 = a.iter().zip(b).map(|(x, y)| (x - y).powi(2)).sum::<f32>().sqrt();
                        assert!(far > 50.0, "{theme:?} {a:?} {b:?}: {far}");
                    }
                }
            }
        }
    }

    /// Each status is a shape of its own.
    #[test]
    fn statuses_differ_without_their_colours() {
        let p = Theme::Light.palette();
        let shapes: Vec<String> = Status::ALL
            .iter()
            .map(|status| {
                let mut s = Scene::new(20.0, 20.0, "");
                node_shape(&mut s, &Node::plain(String::new(), 0, *status), (10.0, 10.0), 5.0, &p);
                let mut text = format!("{:?}", s.shapes);
                // Colours are left out: what is filled stays filled.
                while let Some(i) = text.find("Some((") {
                    let end = text[i..].find(')').map_or(text.len(), |j| i + j + 1);
                    text.replace_range(i..end, "colour");
                }
                text
            })
            .collect();
        for (i, a) in shapes.iter().enumerate() {
            for (j, b) in shapes[..i].iter().enumerate() {
                // Winnable and free never stand in one picture: there is a goal, or there is none.
                let one_meaning = [Status::ALL[i], Status::ALL[j]] == [Status::Free, Status::Winnable];
                assert!(one_meaning || a != b, "{:?} {:?}", Status::ALL[i], Status::ALL[j]);
            }
        }
    }

    /// Within a layer nodes keep apart, and crossings do not grow over the order of the files.
    #[test]
    fn layers_cross_less_than_the_order_given() {
        let mut seed = 7u32;
        let mut random = |n: u32| {
            seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            (seed >> 8) % n
        };
        let (mut before, mut after) = (0, 0);
        for _ in 0..30 {
            let mut net = Net::default();
            for depth in 0..5 {
                for _ in 0..8 {
                    net.nodes.push(Node::plain(String::new(), depth, Status::Winnable));
                }
            }
            for i in 0..32 {
                for _ in 0..2 {
                    let to = (i / 8 + 1) * 8 + random(8);
                    net.arrows.push(Arrow { from: i, to, name: 0, fatal: false });
                }
            }
            let spots = layers(&net);
            for row in 0..5usize {
                let mut x: Vec<f32> = spots[row * 8..row * 8 + 8].iter().map(|p| p.0).collect();
                x.sort_by(f32::total_cmp);
                assert!(x.windows(2).all(|w| w[1] - w[0] > 1e-3), "{x:?}");
            }
            let crossings = |x: &dyn Fn(u32) -> f32| -> i32 {
                let mut n = 0;
                for (k, a) in net.arrows.iter().enumerate() {
                    for b in &net.arrows[..k] {
                        let same = net.nodes[a.from as usize].depth == net.nodes[b.from as usize].depth;
                        n += i32::from(same && (x(a.from) - x(b.from)) * (x(a.to) - x(b.to)) < 0.0);
                    }
                }
                n
            };
            before += crossings(&|i| (i % 8) as f32);
            after += crossings(&|i| spots[i as usize].0);
        }
        assert!(after * 5 < before * 4, "{after} of {before}");
    }

    #[test]
    fn a_picture_names_what_it_shows() {
        let mut net = chain(5);
        net.notes.push("4 of 9 states".into());
        net.title = "a <b>".into();
        let svg = scene(&net, &layers(&net), false, Theme::Light, (900.0, 600.0)).svg();
        assert!(svg.contains("aria-label=\"4 of 9 states\"") && svg.contains("must pass"));
        assert!(!svg.contains("<b>"));
    }
}
