//! `fendle graph`: the state graph as a page, a picture, or a standard graph file.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::PathBuf;

use fendle_core::graph::{Arrows, Parts};
use fendle_core::shape::{Likeness, likeness};
use fendle_core::structure::structure;
use fendle_core::{Class, Expansion, Explored, Model as _, NoWatch, StateId};
use fendle_lang::model::{Scalar, Shape};
use fendle_lang::{Bound, Game};
use fendle_view::net::{Arrow, Boards, Net, Node, Spots, Status, force, layers, scene};
use fendle_view::text::{counted, grouped};
use fendle_view::tiles::Thing;
use fendle_view::{export, page};
use serde_json::json;

use super::title;
use super::why::{explored, needs_known};
use crate::args::{ArrowsArg, Format, GraphArgs, KeepArg, LayoutArg, LevelArgs};
use crate::files::{Loaded, load_all};
use crate::look::{ending, write_file, write_scene};
use crate::watch::{Watcher, limit_text};
use crate::{Exit, Session, Trouble};

/// Nodes that a picture holds; a page holds more.
const PICTURE_NODES: usize = 4_000;
const PAGE_NODES: usize = 100_000;
/// Nodes that a file for other programs holds.
const FILE_NODES: usize = 5_000_000;
/// Cells of boards that a page holds; above it shows the positions as text.
const BOARD_CELLS: usize = 4_000_000;
/// Kinds of cells that a page tells apart.
const KINDS_MAX: u16 = 40_000;
/// Edges that may be looked at while a renaming is looked for.
const BUDGET: u64 = 100_000_000;
/// Rounds of the layout by force.
const ROUNDS: usize = 120;

/// A class as pictures show it.
pub fn status(class: Class) -> Status {
    match class {
        Class::Goal => Status::Goal,
        Class::Lost => Status::Lost,
        Class::Over => Status::Over,
        Class::Stuck => Status::Stuck,
        Class::Dead => Status::Dead,
        Class::Winnable => Status::Winnable,
        Class::Free => Status::Free,
        Class::Open | Class::Running | Class::Idle => Status::Open,
    }
}

fn is_bad(s: Status) -> bool {
    matches!(s, Status::Dead | Status::Stuck | Status::Lost | Status::Over)
}

/// Builds the graph that is asked for.
struct Builder<'g> {
    game: &'g Game,
    found: &'g Explored,
    args: &'g GraphArgs,
    most: usize,
    notes: Vec<String>,
}

impl Builder<'_> {
    /// The states that are kept, nearest first.
    fn kept(&mut self, loaded: &Loaded) -> Result<Vec<StateId>, Trouble> {
        let space = &self.found.space;
        let near = self.neighbourhood(loaded)?;
        let on_way: Option<Vec<bool>> = (self.args.keep == KeepArg::Shortest).then(|| self.on_shortest());
        let mut out = vec![];
        for depth in 0..space.levels_len() {
            for id in space.level(depth) {
                let class = space.class(id);
                let keep = match self.args.keep {
                    KeepArg::All => true,
                    KeepArg::Alive => !matches!(class, Class::Dead | Class::Stuck | Class::Lost),
                    KeepArg::Winnable => matches!(class, Class::Winnable | Class::Goal),
                    KeepArg::Shortest => on_way.as_ref().is_some_and(|w| w[id.0 as usize]),
                };
                if keep && near.as_ref().is_none_or(|n| n[id.0 as usize]) {
                    out.push(id);
                }
            }
        }
        let all = self.found.counts.states;
        if (out.len() as u64) < all {
            self.notes.push(format!(
                "{} of {} shown, as asked",
                grouped(out.len() as u64),
                counted(all, "state", "states")
            ));
        }
        Ok(out)
    }

    /// States at most so many moves from one, either way.
    fn neighbourhood(&self, loaded: &Loaded) -> Result<Option<Vec<bool>>, Trouble> {
        let Some(text) = &self.args.around else { return Ok(None) };
        let space = &self.found.space;
        let mut errors = vec![];
        let file = fendle_lang::FileId(0);
        let state = self.game.bound.parse_line(text, file, &mut errors).ok_or_else(|| {
            Trouble::Message(format!("--around is no position of {}: `{text}`", loaded.level.name))
        })?;
        let Some(id) = space.find(&self.game.pack(&state)) else {
            return Err(Trouble::Message("--around is no position that can be reached here".into()));
        };
        let (there, back) = (Arrows::forward(space), Arrows::backward(space));
        let mut near = vec![false; space.ids_len()];
        near[id.0 as usize] = true;
        let mut ring = vec![id.0];
        for _ in 0..self.args.steps {
            let mut next = vec![];
            for i in ring {
                for t in there.from(StateId(i)).iter().chain(back.from(StateId(i))) {
                    if !std::mem::replace(&mut near[*t as usize], true) {
                        next.push(*t);
                    }
                }
            }
            ring = next;
        }
        Ok(Some(near))
    }

    /// The states on any shortest solution.
    fn on_shortest(&self) -> Vec<bool> {
        let space = &self.found.space;
        let mut out = vec![false; space.ids_len()];
        let Some(length) = self.found.counts.shortest else { return out };
        for id in space.level(length).filter(|id| space.class(*id) == Class::Goal) {
            out[id.0 as usize] = true;
        }
        for d in (0..length).rev() {
            let mut here = vec![];
            space.each_edges(d, |id, edges| {
                if edges.iter().any(|e| out[e.to.0 as usize]) {
                    here.push(id.0);
                }
            });
            for i in here {
                out[i as usize] = true;
            }
        }
        out
    }

    /// The graph, and for every kept state its node.
    fn net(&mut self, loaded: &Loaded) -> Result<(Net, Vec<(StateId, u32)>), Trouble> {
        let kept = self.kept(loaded)?;
        let (game, space) = (self.game, &self.found.space);
        // Past the limit states stand together by depth and status; rooms are folded afterwards.
        let starts: HashSet<StateId> = space.starts().iter().copied().collect();
        let single = if self.args.rooms { kept.len() } else { kept.len().min(self.most) };
        let text = |id: StateId| game.bound.line(&game.unpack(&space.state(id)));
        let mut nodes: Vec<Node> = kept[..single]
            .iter()
            .map(|id| {
                let node = Node::plain(text(*id), space.depth_of(*id), status(space.class(*id)));
                Node { start: starts.contains(id), ..node }
            })
            .collect();
        let mut number = vec![u32::MAX; space.ids_len()];
        let mut bands: HashMap<(u32, Status), u32> = HashMap::new();
        for (i, id) in kept.iter().enumerate() {
            number[id.0 as usize] = if i < single {
                i as u32
            } else {
                let (depth, s) = (space.depth_of(*id), status(space.class(*id)));
                let band = *bands.entry((depth, s)).or_insert_with(|| {
                    nodes.push(Node { count: 0, ..Node::plain(text(*id), depth, s) });
                    nodes.len() as u32 - 1
                });
                nodes[band as usize].count += 1;
                nodes[band as usize].start |= starts.contains(id);
                band
            };
        }
        if single < kept.len() {
            self.notes.push(format!(
                "too many to be drawn one by one: the nearest {} of {} are, the others stand together by depth and status, in \
                 {} (--most asks for more)",
                grouped(single as u64),
                grouped(kept.len() as u64),
                counted(bands.len() as u64, "node", "nodes")
            ));
        }
        let mut out = Net { title: title(loaded), nodes, ..Net::default() };
        self.arrows(&mut out, &kept[..single], &number);
        if single < kept.len() {
            self.band_arrows(&mut out, single as u32, &number);
        }
        self.marks(&mut out, &number);
        let mut members: Vec<(StateId, u32)> = kept.iter().map(|id| (*id, number[id.0 as usize])).collect();
        if self.args.rooms {
            (out, members) = self.fold(&out, &kept);
        }
        out.notes.append(&mut self.notes);
        Ok((out, members))
    }

    /// The moves of the states that stand for themselves.
    fn arrows(&self, out: &mut Net, kept: &[StateId], number: &[u32]) {
        let (game, space) = (self.game, &self.found.space);
        let mut worker = game.worker();
        let words = game.layout().words();
        let mut expansion = Expansion::default();
        let mut names: BTreeMap<u32, u32> = BTreeMap::new();
        for (i, id) in kept.iter().enumerate() {
            expansion.clear();
            worker.expand(&space.state(*id), false, &mut expansion);
            let mut outcomes = expansion.outcomes.chunks_exact(words);
            for run in &expansion.runs {
                let name = *names.entry(run.of.0).or_insert_with(|| {
                    out.names.push(game.move_name(run.of));
                    out.names.len() as u32 - 1
                });
                let targets: Vec<StateId> =
                    outcomes.by_ref().take(run.outcomes as usize).filter_map(|s| space.find(s)).collect();
                let winnable = out.nodes[i].status == Status::Winnable;
                let fatal = winnable && targets.iter().all(|t| is_bad(status(space.class(*t))));
                for t in targets {
                    let to = number[t.0 as usize];
                    if to != u32::MAX {
                        out.arrows.push(Arrow { from: i as u32, to, name, fatal });
                    }
                }
            }
        }
    }

    /// Arrows from states that stand together, one for each pair of nodes; fatal if all of its moves are.
    fn band_arrows(&mut self, out: &mut Net, single: u32, number: &[u32]) {
        let space = &self.found.space;
        if !space.has_edges() {
            self.notes
                .push("memory ran short: arrows between states that stand together are left out".into());
            return;
        }
        let mut doors: BTreeMap<(u32, u32), bool> = BTreeMap::new();
        for depth in 0..space.levels_len() {
            space.each_edges(depth, |id, edges| {
                let from = number[id.0 as usize];
                if from == u32::MAX || from < single {
                    return;
                }
                let winnable = out.nodes[from as usize].status == Status::Winnable;
                for outcomes in edges.split_inclusive(|e| e.last) {
                    let fatal = winnable && outcomes.iter().all(|e| is_bad(status(space.class(e.to))));
                    for to in outcomes.iter().map(|e| number[e.to.0 as usize]).filter(|to| *to != u32::MAX) {
                        if to != from {
                            *doors.entry((from, to)).or_insert(true) &= fatal;
                        }
                    }
                }
            });
        }
        out.names.push("some move".into());
        let name = out.names.len() as u32 - 1;
        out.arrows.extend(doors.into_iter().map(|((from, to), fatal)| Arrow { from, to, name, fatal }));
    }

    /// The shortest solution, and what every solution passes.
    fn marks(&mut self, out: &mut Net, number: &[u32]) {
        let (game, space) = (self.game, &self.found.space);
        if let Some(depth) = self.found.counts.shortest {
            let goals: Vec<StateId> =
                space.level(depth).filter(|id| space.class(*id) == Class::Goal).collect();
            let route = self.found.route_to(game, depth, &goals, false);
            let mut left_out = false;
            for id in route.iter().flat_map(|r| &r.states).filter_map(|w| space.find(w)) {
                match out.nodes.get_mut(number[id.0 as usize] as usize) {
                    Some(n) => n.on_way = true,
                    None => left_out = true,
                }
            }
            if left_out {
                self.notes.push("the shortest solution goes on past what is shown".into());
            }
        }
        if let Ok((s, _)) = structure(game, self.found, &fendle_core::Limits::default(), &NoWatch) {
            for id in s.must_pass {
                if let Some(n) = out.nodes.get_mut(number[id.0 as usize] as usize).filter(|n| n.count == 1) {
                    n.must_pass = true;
                }
            }
        }
    }

    /// One node a room: states that reach each other.
    fn fold(&mut self, net: &Net, kept: &[StateId]) -> (Net, Vec<(StateId, u32)>) {
        let space = &self.found.space;
        let parts = Parts::of(space, &Arrows::forward(space));
        let mut rooms: HashMap<u32, u32> = HashMap::new();
        let mut out = Net { title: net.title.clone(), names: vec!["door".into()], ..Net::default() };
        let mut room_of = vec![];
        for (n, id) in net.nodes.iter().zip(kept) {
            let next = out.nodes.len() as u32;
            let room = *rooms.entry(parts.part(*id)).or_insert(next);
            if room == next {
                out.nodes.push(Node { count: 0, ..n.clone() });
            }
            let own = &mut out.nodes[room as usize];
            own.count += 1;
            own.start |= n.start;
            own.on_way |= n.on_way;
            own.must_pass |= n.must_pass;
            room_of.push(room);
        }
        let mut doors: BTreeMap<(u32, u32), bool> = BTreeMap::new();
        for a in &net.arrows {
            let (f, t) = (room_of[a.from as usize], room_of[a.to as usize]);
            if f != t {
                *doors.entry((f, t)).or_insert(true) &= a.fatal;
            }
        }
        out.arrows =
            doors.into_iter().map(|((from, to), fatal)| Arrow { from, to, name: 0, fatal }).collect();
        self.notes.push(format!(
            "rooms: each node stands for states that reach each other ({} for {})",
            grouped(out.nodes.len() as u64),
            counted(net.nodes.len() as u64, "state", "states")
        ));
        if out.nodes.len() > self.most {
            self.notes.push(format!(
                "too many to be drawn: the nearest {} of {} rooms (--most asks for more)",
                grouped(self.most as u64),
                out.nodes.len()
            ));
            out.nodes.truncate(self.most);
            let most = self.most as u32;
            out.arrows.retain(|a| a.from < most && a.to < most);
        }
        let members = kept.iter().copied().zip(room_of).collect();
        (out, members)
    }

    /// The boards of nodes that stand for one state; `None` where there is nothing to draw, or too much of it.
    fn boards(&self, net: &Net, members: &[(StateId, u32)]) -> Option<Boards> {
        let b = &self.game.bound;
        let mut out = Boards { cells: vec![vec![]; net.nodes.len()], ..Boards::default() };
        let mut kinds: HashMap<Vec<Thing>, u16> = HashMap::new();
        for (id, node) in members {
            if net.nodes.get(*node as usize).is_none_or(|n| n.count != 1) {
                continue;
            }
            let t = crate::look::cells(b, &self.game.unpack(&self.found.space.state(*id)))?;
            if out.rows == 0 {
                (out.rows, out.cols, out.piles) = (t.rows, t.cols, !t.piles.is_empty());
                if net.nodes.len() * t.cells.len() > BOARD_CELLS {
                    return None;
                }
            }
            if (t.rows, t.cols) != (out.rows, out.cols) {
                return None;
            }
            for things in t.cells {
                let next = u16::try_from(kinds.len()).ok().filter(|n| *n < KINDS_MAX)?;
                out.cells[*node as usize].push(*kinds.entry(things).or_insert(next));
            }
        }
        let mut list: Vec<(Vec<Thing>, u16)> = kinds.into_iter().collect();
        list.sort_by_key(|k| k.1);
        out.kinds = list.into_iter().map(|k| k.0).collect();
        Some(out).filter(|b| b.rows > 0)
    }
}

/// Where a state lies on one axis: from its values and its depth.
type Axis<'g> = Box<dyn Fn(&[i32], u32) -> f32 + 'g>;

/// Places nodes by what their states hold: `x=tug.col,y=tug.row`.
fn by_meaning(
    game: &Game,
    found: &Explored,
    net: &Net,
    members: &[(StateId, u32)],
    text: &str,
) -> Result<Spots, Trouble> {
    let b = &game.bound;
    let wrong = |what: &str| {
        Trouble::Message(format!(
            "--place wants x=VALUE,y=VALUE, where a value is `depth`, a number of the state, or a cell variable with .row or \
             .col; {what}"
        ))
    };
    let mut axes: [Option<&str>; 2] = [None, None];
    for part in text.split(',') {
        match part.split_once('=') {
            Some(("x", v)) => axes[0] = Some(v.trim()),
            Some(("y", v)) => axes[1] = Some(v.trim()),
            _ => return Err(wrong(&format!("this is `{part}`"))),
        }
    }
    let value = |axis: Option<&str>| -> Result<Axis<'_>, Trouble> {
        let name = axis.ok_or_else(|| wrong("one of them is missing"))?;
        if name == "depth" {
            return Ok(Box::new(|_, depth| depth as f32));
        }
        let (var, part) = name.split_once('.').map_or((name, ""), |(v, p)| (v, p));
        let v = b.model.var(var).filter(|v| b.model.vars[*v].state && b.model.vars[*v].shape == Shape::One);
        let v = v.ok_or_else(|| wrong(&format!("`{var}` is no single value of the state")))?;
        let (at, cols) = (b.slots[v].base, b.cols.max(1) as i32);
        match (b.model.vars[v].dom.scalar(), part) {
            (Scalar::Cell, "row") => Ok(Box::new(move |s, _| (s[at] / cols) as f32)),
            (Scalar::Cell, "col") => Ok(Box::new(move |s, _| (s[at] % cols) as f32)),
            (Scalar::Int | Scalar::Enum(_) | Scalar::Bool | Scalar::Dir, "") => {
                Ok(Box::new(move |s, _| s[at] as f32))
            }
            _ => Err(wrong(&format!("`{name}` is no number"))),
        }
    };
    let (x, y) = (value(axes[0])?, value(axes[1])?);
    // A node of many states lies in their middle.
    let mut sums = vec![(0.0f32, 0.0f32, 0.0f32); net.nodes.len()];
    for (id, node) in members {
        if let Some(sum) = sums.get_mut(*node as usize) {
            let state = game.unpack(&found.space.state(*id));
            let depth = found.space.depth_of(*id);
            *sum = (sum.0 + x(&state, depth), sum.1 + y(&state, depth), sum.2 + 1.0);
        }
    }
    let mut seen: HashMap<(i64, i64), u32> = HashMap::new();
    let one = |(sx, sy, n): (f32, f32, f32)| {
        let (x, y) = (sx / n.max(1.0), sy / n.max(1.0));
        // Nodes at one place stand in a small spiral round it.
        let k = seen.entry(((x * 64.0) as i64, (y * 64.0) as i64)).or_insert(0);
        *k += 1;
        let (angle, r) = (*k as f32 * 2.4, 0.42 * (1.0 - 1.0 / (*k as f32).sqrt()));
        (x + r * angle.cos(), y + r * angle.sin())
    };
    Ok(sums.into_iter().map(one).collect())
}

/// Runs the command.
pub fn run(s: &mut Session, args: &GraphArgs) -> Result<Exit, Trouble> {
    let loaded = load_all(s, &args.level)?;
    needs_known(&loaded.game, args.level.known, "graph")?;
    if args.second.is_none() && args.with.is_none() {
        let (net, files, whole) = write(s, &loaded, args)?;
        return said(s, &[&net], &files, None, whole);
    }
    if ending(&args.output) != "html" {
        return Err(Trouble::Message(
            "two graphs side by side are a page: -o wants a name ending in .html".into(),
        ));
    }
    let other = LevelArgs {
        file: args.second.clone().unwrap_or_else(|| args.level.file.clone()),
        level: args.with.clone(),
        at: None,
        after: None,
        ..args.level.clone()
    };
    let second = load_all(s, &other)?;
    needs_known(&second.game, args.level.known, "graph")?;
    if args.around.is_some() {
        return Err(Trouble::Message("--around is about one level: leave it out for two".into()));
    }
    let a = drawn(s, &loaded, args, PAGE_NODES / 2)?;
    let b = drawn(s, &second, args, PAGE_NODES / 2)?;
    let (pairs, how) = matching((&loaded.game, &a), (&second.game, &b));
    let heading = format!("{} beside {}", a.net.title, b.net.title);
    let page = page::graph(&heading, &[(&a.net, &a.spots), (&b.net, &b.spots)], &pairs);
    write_file(&args.output, page.as_bytes())?;
    let whole = a.found.counts.limit.is_none() && b.found.counts.limit.is_none();
    said(s, &[&a.net, &b.net], std::slice::from_ref(&args.output), Some((pairs.len(), how)), whole)
}

/// A graph with its places.
struct DrawnNet {
    net: Net,
    spots: Spots,
    members: Vec<(StateId, u32)>,
    found: Explored,
}

/// Explores a level and lays its graph out.
fn drawn(s: &Session, loaded: &Loaded, args: &GraphArgs, most: usize) -> Result<DrawnNet, Trouble> {
    let kind = ending(&args.output);
    let watcher = Watcher::new(&s.common);
    let found = explored(s, &loaded.game, &watcher)?;
    let most = args.most.unwrap_or(most);
    let mut builder = Builder { game: &loaded.game, found: &found, args, most, notes: vec![] };
    if let Some(limit) = found.counts.limit {
        builder.notes.push(format!("not everything was seen: stopped by {}", limit_text(limit, &s.common)));
    }
    let (mut net, members) = builder.net(loaded)?;
    if kind == "html" {
        net.boards = builder.boards(&net, &members);
    }
    let wanted = matches!(kind.as_str(), "html" | "svg" | "png");
    let spots = match (&args.place, wanted) {
        (_, false) => vec![],
        (Some(text), _) => by_meaning(&loaded.game, &found, &net, &members, text)?,
        (None, _) if args.layout == LayoutArg::Layers => layers(&net),
        (None, _) => force(&net, s.common.seed, ROUNDS),
    };
    watcher.finish();
    Ok(DrawnNet { net, spots, members, found })
}

/// Whether two levels have the same state variables in the same places, so that their states can be compared.
fn same_variables(a: &Bound, b: &Bound) -> bool {
    let state = |b: &Bound| -> Vec<(String, usize, usize)> {
        let vars = b.model.vars.iter().zip(&b.slots).filter(|(d, s)| d.state && s.active);
        vars.map(|(d, s)| (d.name.clone(), s.base, s.len)).collect()
    };
    (a.rows, a.cols) == (b.rows, b.cols) && state(a) == state(b)
}

/// Which nodes of two graphs match: those whose variables hold the same, or, where that gives more, those of a
/// renaming that makes the spaces one. And how they were matched.
fn matching((ga, a): (&Game, &DrawnNet), (gb, b): (&Game, &DrawnNet)) -> (Vec<(u32, u32)>, &'static str) {
    let one = |d: &DrawnNet, m: &(StateId, u32)| d.net.nodes.get(m.1 as usize).is_some_and(|n| n.count == 1);
    let mut pairs: Vec<(u32, u32)> = vec![];
    if same_variables(&ga.bound, &gb.bound) {
        let states = |g: &Game, d: &DrawnNet| -> Vec<(Vec<i32>, u32)> {
            let list = d.members.iter().filter(|m| one(d, m));
            list.map(|m| (g.unpack(&d.found.space.state(m.0)), m.1)).collect()
        };
        let there: HashMap<Vec<i32>, u32> = states(gb, b).into_iter().collect();
        pairs.extend(states(ga, a).into_iter().filter_map(|(s, i)| Some((i, *there.get(&s)?))));
        pairs.sort_unstable();
    }
    let all = |d: &DrawnNet| d.net.nodes.iter().filter(|n| n.count == 1).count();
    if !pairs.is_empty() && pairs.len() == all(a).min(all(b)) {
        return (pairs, "by what their variables hold");
    }
    // Only whole spaces have a shape.
    let whole = [a, b].iter().all(|d| d.found.counts.limit.is_none());
    let shapes = if whole { likeness(&a.found.space, &b.found.space, BUDGET) } else { Likeness::Unknown };
    if let Likeness::Same(list) = &shapes {
        let of = |d: &DrawnNet| -> HashMap<StateId, u32> {
            d.members.iter().filter(|m| one(d, m)).copied().collect()
        };
        let (na, nb) = (of(a), of(b));
        let mut renamed: Vec<(u32, u32)> =
            list.iter().filter_map(|(x, y)| Some((*na.get(x)?, *nb.get(y)?))).collect();
        if renamed.len() > pairs.len() {
            renamed.sort_unstable();
            return (renamed, "by a renaming: the spaces have the same shape");
        }
    }
    let how = match (pairs.is_empty(), shapes) {
        (false, _) => "by what their variables hold",
        (true, Likeness::Same(_)) => "by nothing: no state that is drawn alone is in both",
        (true, Likeness::Different(_)) => {
            "by nothing: no state is in both, and the spaces have not the same shape"
        }
        (true, Likeness::Unknown) => {
            "by nothing: no state is in both; whether the spaces have the same shape was not found out"
        }
    };
    (pairs, how)
}

/// Writes the graph of a level; gives what was written, where, and whether the space was seen whole.
///
/// # Errors
///
/// A message.
pub fn write(s: &Session, loaded: &Loaded, args: &GraphArgs) -> Result<(Net, Vec<PathBuf>, bool), Trouble> {
    let kind = ending(&args.output);
    let most = match kind.as_str() {
        "html" => PAGE_NODES,
        "svg" | "png" => PICTURE_NODES,
        "graphml" | "dot" | "json" | "csv" => FILE_NODES,
        other => {
            return Err(Trouble::Message(format!(
                "-o wants a name ending in .html, .svg, .png, .graphml, .dot, .json or .csv, not .{other}"
            )));
        }
    };
    let DrawnNet { net, spots, found, .. } = drawn(s, loaded, args, most)?;
    let whole = found.counts.limit.is_none();
    let theme = args.theme.theme();
    let tint = args.arrows == ArrowsArg::Moves;
    match kind.as_str() {
        "html" => write_file(&args.output, page::graph(&net.title, &[(&net, &spots)], &[]).as_bytes())?,
        "svg" | "png" => write_scene(&args.output, &scene(&net, &spots, tint, theme, (1280.0, 800.0)))?,
        "graphml" => write_file(&args.output, export::graphml(&net).as_bytes())?,
        "dot" => write_file(&args.output, export::dot(&net).as_bytes())?,
        "json" => write_file(&args.output, export::json(&net).as_bytes())?,
        _ => {
            let (nodes, edges) = export::csv(&net);
            let files = [args.output.with_extension("nodes.csv"), args.output.with_extension("edges.csv")];
            write_file(&files[0], nodes.as_bytes())?;
            write_file(&files[1], edges.as_bytes())?;
            return Ok((net, files.to_vec(), whole));
        }
    }
    Ok((net, vec![args.output.clone()], whole))
}

fn said(
    s: &mut Session,
    nets: &[&Net],
    files: &[PathBuf],
    matched: Option<(usize, &str)>,
    whole: bool,
) -> Result<Exit, Trouble> {
    // What was not seen may hold anything.
    let exit = if whole { Exit::Yes } else { Exit::Undecided };
    if s.common.format == Format::Json {
        let one = |net: &&Net| {
            json!({
                "level": net.title,
                "nodes": net.nodes.len(),
                "arrows": net.arrows.len(),
                "states": net.nodes.iter().map(|n| n.count).sum::<u64>(),
                "notes": net.notes,
            })
        };
        s.json(&json!({
            "wrote": files,
            "graphs": nets.iter().map(one).collect::<Vec<_>>(),
            "matched": matched.map(|m| json!({"states": m.0, "how": m.1})),
            "complete": whole,
        }))?;
        return Ok(exit);
    }
    let names: Vec<String> = files.iter().map(|f| f.display().to_string()).collect();
    let sizes: Vec<String> = nets
        .iter()
        .map(|net| {
            format!(
                "{}, {}",
                counted(net.nodes.len() as u64, "node", "nodes"),
                counted(net.arrows.len() as u64, "arrow", "arrows")
            )
        })
        .collect();
    s.line(format!("wrote {}: {}", names.join(" and "), sizes.join("; beside it ")))?;
    if let Some((n, how)) = matched {
        s.line(format!("{} in both, matched {how}", counted(n as u64, "state", "states")))?;
    }
    for n in nets.iter().flat_map(|net| &net.notes) {
        s.line(n)?;
    }
    Ok(exit)
}
