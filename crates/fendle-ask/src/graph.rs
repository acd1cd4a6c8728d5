//! State graphs: which states and moves are shown, what stands together, and how two graphs match.

use std::collections::{BTreeMap, HashMap, HashSet};

use fendle_core::graph::{Arrows, Parts};
use fendle_core::shape::{Likeness, likeness};
use fendle_core::structure::{OnWay, structure};
use fendle_core::{Class, Expansion, Explored, Limit, Model as _, Pace, Progress, StateId};
use fendle_lang::model::{Extent, Scalar};
use fendle_lang::{Bound, FileId, Game};
use serde::{Serialize, Serializer};
use serde_json::json;

use crate::answer::{Answer, Asked, Trouble, Verdict};
use crate::budget::{Budget, Share};
use crate::explore::searched_in_part;
use crate::knowledge::needs_known;
use crate::load::{Loaded, Store};
use fendle_core::numbers::{counted, grouped};

/// Edges that may be looked at while a renaming is looked for.
const BUDGET: u64 = 100_000_000;

/// States that stand for themselves where time or memory ran out or somebody interrupted: more would take long to be written.
const STOPPED_NODES: usize = 10_000;

/// The part of the time after which no more states are looked at, and that after which nodes and arrows have to stand: laying them out needs
/// the rest.
const SEARCHED: f64 = 0.5;
const BUILT: f64 = 0.8;
/// The part of the memory that is given to the states; nodes and arrows need the rest.
const SEARCH_MEMORY: f64 = 0.4;

/// Which states of a graph are kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Keep {
    /// All of them.
    All,
    /// Without lost, dead and stuck ones.
    Alive,
    /// Only those that can be won, and goals.
    Winnable,
    /// Only those on shortest solutions.
    Shortest,
}

/// Which part of a state graph is wanted, and how it is folded.
#[derive(Clone, Debug)]
pub struct Cut {
    /// Which states.
    pub keep: Keep,
    /// Only those near this position, at most so many moves either way.
    pub around: Option<(String, u32)>,
    /// Fold states that reach each other to one node.
    pub rooms: bool,
    /// The most states that stand for themselves; the others stand together by depth and status.
    pub most: usize,
}

/// One node: a state, or several that stand together.
#[derive(Clone, Debug, PartialEq)]
pub struct Node {
    /// The state, or one of them.
    pub state: StateId,
    /// Its depth in moves.
    pub depth: u32,
    /// Its class.
    pub class: Class,
    /// A start is among them.
    pub start: bool,
    /// It lies on the shortest solution.
    pub on_way: bool,
    /// Every solution passes it.
    pub must_pass: bool,
    /// How many states.
    pub count: u64,
}

/// One arrow: a move from one node to another.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Arrow {
    /// From this node.
    pub from: u32,
    /// To this one.
    pub to: u32,
    /// The number of its name.
    pub name: u32,
    /// It is a fatal move.
    pub fatal: bool,
}

/// A state graph.
pub struct Graph {
    /// The level's title.
    pub title: String,
    /// The nodes, nearest first.
    pub nodes: Vec<Node>,
    /// The arrows.
    pub arrows: Vec<Arrow>,
    /// Names of moves.
    pub names: Vec<String>,
    /// What has to be said of it.
    pub notes: Vec<String>,
    /// For every kept state its node.
    pub members: Vec<(StateId, u32)>,
    /// The space behind it.
    pub found: Explored,
}

impl Serialize for Graph {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        json!({
            "level": self.title,
            "nodes": self.nodes.len(),
            "arrows": self.arrows.len(),
            "states": self.nodes.iter().map(|n| n.count).sum::<u64>(),
            "notes": self.notes,
        })
        .serialize(s)
    }
}

impl Graph {
    /// The values of the state that a node stands for.
    #[must_use]
    pub fn state(&self, game: &Game, node: usize) -> Vec<i32> {
        game.unpack(&self.found.space.state(self.nodes[node].state))
    }

    /// A node as its position is written.
    #[must_use]
    pub fn text(&self, game: &Game, node: usize) -> String {
        game.bound.line(&self.state(game, node))
    }
}

/// Explores a level and makes its graph, in a part of the time that is left: 1 for all of it, laying out included.
///
/// # Errors
///
/// [`Trouble`] where that cannot be asked.
pub fn graph(
    store: &Store,
    level: &Loaded,
    cut: &Cut,
    part: f64,
    budget: &Budget,
) -> Result<Answer<Graph>, Trouble> {
    needs_known(level, "graph")?;
    let memory = (budget.limits().memory_bytes as f64 * SEARCH_MEMORY) as u64;
    let share = budget.share(part * BUILT);
    let found = searched_in_part(store, level, part * SEARCHED, memory, budget)?;
    let mut limit = found.counts.cut_short();
    let mut notes = vec![];
    if let Some(hit) = found.counts.limit {
        notes.push(format!("not everything was seen: stopped by {}", budget.words(hit)));
    }
    let progress = Progress { states: found.counts.states, ..Progress::default() };
    // After a limit what was seen is still put in order, for as long as the budget allows.
    let pace = if limit.is_some() { Pace::wrapping_up(&share) } else { Pace::new(&share) };
    let most = match limit {
        Some(Limit::Time | Limit::Memory | Limit::Interrupted) => cut.most.min(STOPPED_NODES),
        _ => cut.most,
    };
    let cut = Cut { most, ..cut.clone() };
    let mut builder = Builder {
        level,
        found: &found,
        cut: &cut,
        budget,
        share: &share,
        pace: pace.at(progress),
        out: Graph {
            title: level.title(),
            nodes: vec![],
            arrows: vec![],
            names: vec![],
            notes,
            members: vec![],
            found: Explored::empty(level.game.layout()),
        },
    };
    let built = builder.build();
    let mut out = builder.out;
    match built {
        Ok(()) => {}
        Err(Stopped::Trouble(trouble)) => return Err(trouble),
        Err(Stopped::Limit(hit)) => {
            out.notes.push(format!("stopped by {}: the graph is not whole", budget.words(hit)));
            out.arrows.retain(|a| a.from.max(a.to) < out.nodes.len() as u32);
            limit = limit.or(Some(hit));
        }
    }
    out.found = found;
    let holds = if limit.is_none() { Verdict::Holds } else { Verdict::Undecided };
    let states = out.found.counts.states;
    Ok(Answer::new(Asked::of(level), holds, out).stopped(limit, budget).took(budget, states))
}

enum Stopped {
    Limit(Limit),
    Trouble(Trouble),
}

impl From<Limit> for Stopped {
    fn from(limit: Limit) -> Stopped {
        Stopped::Limit(limit)
    }
}

/// Builds the graph that is asked for.
struct Builder<'g> {
    level: &'g Loaded,
    found: &'g Explored,
    cut: &'g Cut,
    budget: &'g Budget,
    share: &'g Share<'g>,
    pace: Pace<'g>,
    out: Graph,
}

impl Builder<'_> {
    fn build(&mut self) -> Result<(), Stopped> {
        let kept = self.kept()?;
        let space = &self.found.space;
        // Past the limit states stand together by depth and status; rooms are folded afterwards.
        let starts: HashSet<StateId> = space.starts().iter().copied().collect();
        let single = if self.cut.rooms { kept.len() } else { kept.len().min(self.cut.most) };
        let node = |id: StateId, count| Node {
            state: id,
            depth: space.depth_of(id),
            class: space.class(id),
            start: starts.contains(&id),
            on_way: false,
            must_pass: false,
            count,
        };
        let mut number = vec![u32::MAX; space.ids_len()];
        let mut bands: HashMap<(u32, Class), u32> = HashMap::new();
        self.out.members.reserve_exact(kept.len());
        for (i, id) in kept.iter().enumerate() {
            self.pace.step(8)?;
            let at = if i < single {
                self.out.nodes.push(node(*id, 1));
                i as u32
            } else {
                let band = (space.depth_of(*id), space.class(*id));
                let at = *bands.entry(band).or_insert_with(|| {
                    self.out.nodes.push(node(*id, 0));
                    self.out.nodes.len() as u32 - 1
                });
                self.out.nodes[at as usize].count += 1;
                self.out.nodes[at as usize].start |= starts.contains(id);
                at
            };
            number[id.index()] = at;
            self.out.members.push((*id, at));
        }
        if single < kept.len() {
            self.out.notes.push(format!(
                "too many to be drawn one by one: the nearest {} of {} are, the others stand together by depth and status, in \
                 {} (--most asks for more)",
                grouped(single as u64),
                grouped(kept.len() as u64),
                counted(bands.len() as u64, "node", "nodes")
            ));
        }
        self.arrows(&kept[..single], &number)?;
        if single < kept.len() {
            self.band_arrows(single as u32, &number)?;
        }
        self.marks(&number)?;
        if self.cut.rooms {
            self.fold(&kept)?;
        }
        Ok(())
    }

    /// The states that are kept, nearest first.
    fn kept(&mut self) -> Result<Vec<StateId>, Stopped> {
        let space = &self.found.space;
        let near = self.neighbourhood()?;
        let on_way = match (self.cut.keep, self.found.counts.shortest) {
            (Keep::Shortest, Some(length)) => Some(OnWay::of(space, length, &mut self.pace)?),
            _ => None,
        };
        let mut out = vec![];
        if self.cut.keep == Keep::All && near.is_none() {
            out.reserve_exact(self.found.counts.states as usize);
        }
        for id in space.ids() {
            self.pace.step(2)?;
            let class = space.class(id);
            let keep = match self.cut.keep {
                Keep::All => true,
                Keep::Alive => !matches!(class, Class::Dead | Class::Stuck | Class::Lost),
                Keep::Winnable => class.is_hopeful(),
                Keep::Shortest => on_way.as_ref().is_some_and(|w| w.holds(space, id)),
            };
            if keep && near.as_ref().is_none_or(|n| n[id.index()]) {
                out.push(id);
            }
        }
        let all = self.found.counts.states;
        if (out.len() as u64) < all {
            self.out.notes.push(format!(
                "{} of {} shown, as asked",
                grouped(out.len() as u64),
                counted(all, "state", "states")
            ));
        }
        Ok(out)
    }

    /// States at most so many moves from one, either way.
    fn neighbourhood(&mut self) -> Result<Option<Vec<bool>>, Stopped> {
        let Some((text, steps)) = &self.cut.around else { return Ok(None) };
        let space = &self.found.space;
        let game = &self.level.game;
        let trouble = |words: String| Stopped::Trouble(Trouble::Message(words));
        let state = game
            .bound
            .parse_line(text, FileId(0), &mut vec![])
            .ok_or_else(|| trouble(format!("--around is no position of {}: `{text}`", self.level.name)))?;
        let Some(id) = space.find(&game.pack(&state)) else {
            return Err(trouble("--around is no position that can be reached here".into()));
        };
        let there = Arrows::forward(space, &mut self.pace)?;
        let back = Arrows::backward(space, &mut self.pace)?;
        let mut near = vec![false; space.ids_len()];
        near[id.index()] = true;
        let mut ring = vec![id];
        for _ in 0..*steps {
            let mut next = vec![];
            for i in ring {
                self.pace.step(1)?;
                for t in there.from(i).iter().chain(back.from(i)) {
                    if !std::mem::replace(&mut near[*t as usize], true) {
                        next.push(StateId::from_number(*t));
                    }
                }
            }
            ring = next;
        }
        Ok(Some(near))
    }

    /// The moves of the states that stand for themselves.
    fn arrows(&mut self, kept: &[StateId], number: &[u32]) -> Result<(), Limit> {
        let (game, space) = (&self.level.game, &self.found.space);
        let mut worker = game.worker();
        let words = game.layout().words();
        let mut expansion = Expansion::default();
        let mut names: BTreeMap<u32, u32> = BTreeMap::new();
        for (i, id) in kept.iter().enumerate() {
            self.pace.step(64)?;
            expansion.clear();
            worker.expand(&space.state(*id), false, &mut expansion);
            let mut outcomes = expansion.outcomes.chunks_exact(words);
            for run in &expansion.runs {
                let name = *names.entry(run.of.0).or_insert_with(|| {
                    self.out.names.push(game.move_name(run.of));
                    self.out.names.len() as u32 - 1
                });
                let targets: Vec<StateId> =
                    outcomes.by_ref().take(run.outcomes as usize).filter_map(|s| space.find(s)).collect();
                let winnable = self.out.nodes[i].class == Class::Winnable;
                let fatal = winnable && targets.iter().all(|t| space.class(*t).is_bad());
                for t in targets {
                    let to = number[t.index()];
                    if to != u32::MAX {
                        self.out.arrows.push(Arrow { from: i as u32, to, name, fatal });
                    }
                }
            }
        }
        Ok(())
    }

    /// Arrows from states that stand together, one for each pair of nodes; fatal if all of its moves are.
    fn band_arrows(&mut self, single: u32, number: &[u32]) -> Result<(), Limit> {
        let space = &self.found.space;
        if !space.has_edges() {
            let note = "memory ran short: arrows between states that stand together are left out";
            self.out.notes.push(note.into());
            return Ok(());
        }
        let mut doors: BTreeMap<(u32, u32), bool> = BTreeMap::new();
        let (nodes, pace) = (&self.out.nodes, &mut self.pace);
        for depth in 0..space.levels_len() {
            // One level may hold most of a space.
            let mut looked = Ok(());
            space.each_edges(depth, |id, edges| {
                let from = number[id.index()];
                if looked.is_err() || from == u32::MAX || from < single {
                    return;
                }
                looked = pace.step(8 + edges.len() as u64);
                let winnable = nodes[from as usize].class == Class::Winnable;
                for outcomes in edges.split_inclusive(|e| e.last) {
                    let fatal = winnable && outcomes.iter().all(|e| space.class(e.to).is_bad());
                    for to in outcomes.iter().map(|e| number[e.to.index()]).filter(|to| *to != u32::MAX) {
                        if to != from {
                            *doors.entry((from, to)).or_insert(true) &= fatal;
                        }
                    }
                }
            });
            looked?;
            pace.step(8 * space.level_len(depth))?;
        }
        self.out.names.push("some move".into());
        let name = self.out.names.len() as u32 - 1;
        let arrows = doors.into_iter().map(|((from, to), fatal)| Arrow { from, to, name, fatal });
        self.out.arrows.extend(arrows);
        Ok(())
    }

    /// The shortest solution, and what every solution passes.
    fn marks(&mut self, number: &[u32]) -> Result<(), Limit> {
        let (game, space) = (&self.level.game, &self.found.space);
        self.pace.now()?;
        let route = self.found.solution(game, self.share)?;
        let mut left_out = false;
        for id in route.iter().flat_map(|r| &r.states).filter_map(|w| space.find(w)) {
            match self.out.nodes.get_mut(number[id.index()] as usize) {
                Some(n) => n.on_way = true,
                None => left_out = true,
            }
        }
        if left_out {
            self.out.notes.push("the shortest solution goes on past what is shown".into());
        }
        if let Ok((s, _)) = structure(game, self.found, &self.budget.limits(), self.share) {
            for id in s.must_pass {
                let at = number[id.index()] as usize;
                if let Some(n) = self.out.nodes.get_mut(at).filter(|n| n.count == 1) {
                    n.must_pass = true;
                }
            }
        }
        Ok(())
    }

    /// One node a room: states that reach each other.
    fn fold(&mut self, kept: &[StateId]) -> Result<(), Limit> {
        let space = &self.found.space;
        let parts = Parts::of(space, &Arrows::forward(space, &mut self.pace)?, &mut self.pace)?;
        let mut rooms: HashMap<u32, u32> = HashMap::new();
        let states = std::mem::take(&mut self.out.nodes);
        let arrows = std::mem::take(&mut self.out.arrows);
        let mut room_of = vec![];
        for (n, id) in states.iter().zip(kept) {
            let next = self.out.nodes.len() as u32;
            let room = *rooms.entry(parts.part(*id)).or_insert(next);
            if room == next {
                self.out.nodes.push(Node { count: 0, ..n.clone() });
            }
            let own = &mut self.out.nodes[room as usize];
            own.count += 1;
            own.start |= n.start;
            own.on_way |= n.on_way;
            own.must_pass |= n.must_pass;
            room_of.push(room);
        }
        let mut doors: BTreeMap<(u32, u32), bool> = BTreeMap::new();
        for a in &arrows {
            let (f, t) = (room_of[a.from as usize], room_of[a.to as usize]);
            if f != t {
                *doors.entry((f, t)).or_insert(true) &= a.fatal;
            }
        }
        self.out.names = vec!["door".into()];
        self.out.arrows =
            doors.into_iter().map(|((from, to), fatal)| Arrow { from, to, name: 0, fatal }).collect();
        self.out.notes.push(format!(
            "rooms: each node stands for states that reach each other ({} for {})",
            grouped(self.out.nodes.len() as u64),
            counted(states.len() as u64, "state", "states")
        ));
        let most = self.cut.most;
        if self.out.nodes.len() > most {
            self.out.notes.push(format!(
                "too many to be drawn: the nearest {} of {} rooms (--most asks for more)",
                grouped(most as u64),
                self.out.nodes.len()
            ));
            self.out.nodes.truncate(most);
            self.out.arrows.retain(|a| (a.from.max(a.to) as usize) < most);
        }
        self.out.members = kept.iter().copied().zip(room_of).collect();
        Ok(())
    }
}

/// How the nodes of two graphs match.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Matching {
    /// Nodes of the first and of the second that are one.
    pub pairs: Vec<(u32, u32)>,
    /// How they were matched.
    pub how: &'static str,
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
/// renaming that makes the spaces one.
#[must_use]
pub fn matching((ga, a): (&Game, &Graph), (gb, b): (&Game, &Graph), budget: &Budget) -> Matching {
    let one = |d: &Graph, m: &(StateId, u32)| d.nodes.get(m.1 as usize).is_some_and(|n| n.count == 1);
    let mut pairs: Vec<(u32, u32)> = vec![];
    if same_variables(&ga.bound, &gb.bound) {
        let states = |g: &Game, d: &Graph| -> Vec<(Vec<i32>, u32)> {
            let list = d.members.iter().filter(|m| one(d, m));
            list.map(|m| (g.unpack(&d.found.space.state(m.0)), m.1)).collect()
        };
        let there: HashMap<Vec<i32>, u32> = states(gb, b).into_iter().collect();
        pairs.extend(states(ga, a).into_iter().filter_map(|(s, i)| Some((i, *there.get(&s)?))));
        pairs.sort_unstable();
    }
    let all = |d: &Graph| d.nodes.iter().filter(|n| n.count == 1).count();
    if !pairs.is_empty() && pairs.len() == all(a).min(all(b)) {
        return Matching { pairs, how: "by what their variables hold" };
    }
    // Only whole spaces have a shape.
    let whole = [a, b].iter().all(|d| d.found.counts.limit.is_none());
    let shapes = match whole {
        true => likeness(&a.found.space, &b.found.space, BUDGET, budget).unwrap_or(Likeness::Unknown),
        false => Likeness::Unknown,
    };
    if let Likeness::Same(list) = &shapes {
        let of = |d: &Graph| -> HashMap<StateId, u32> {
            d.members.iter().filter(|m| one(d, m)).copied().collect()
        };
        let (na, nb) = (of(a), of(b));
        let mut renamed: Vec<(u32, u32)> =
            list.iter().filter_map(|(x, y)| Some((*na.get(x)?, *nb.get(y)?))).collect();
        if renamed.len() > pairs.len() {
            renamed.sort_unstable();
            return Matching { pairs: renamed, how: "by a renaming: the spaces have the same shape" };
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
    Matching { pairs, how }
}

/// Where a state lies on one axis: from its values and its depth.
type Axis<'g> = Box<dyn Fn(&[i32], u32) -> f32 + 'g>;

/// Places nodes by what their states hold: `x=tug.col,y=tug.row`.
///
/// # Errors
///
/// Words for what is no such place.
pub fn by_meaning(game: &Game, graph: &Graph, text: &str) -> Result<Vec<(f32, f32)>, Trouble> {
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
        let (var, part) = name.split_once('.').unwrap_or((name, ""));
        let v = b.model.var(var).filter(|v| b.model.vars[*v].state && b.model.vars[*v].shape == Extent::One);
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
    let mut sums = vec![(0.0f32, 0.0f32, 0.0f32); graph.nodes.len()];
    for (id, node) in &graph.members {
        if let Some(sum) = sums.get_mut(*node as usize) {
            let state = game.unpack(&graph.found.space.state(*id));
            let depth = graph.found.space.depth_of(*id);
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
