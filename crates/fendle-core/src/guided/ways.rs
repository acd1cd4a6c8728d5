//! A puzzle of ways as ground. Where an agent walks and can always walk back, all states that differ in where it stands within its reach are
//! one: only what it moves counts as a step.

use std::collections::HashMap;
use std::ops::Range;

use super::ground::{Ground, Reach, Reached, Request, Scout};
use crate::model::{Layout, MoveId, Stopped};
use crate::relaxed::bounds::Judge;
use crate::relaxed::task::Link;
use crate::relaxed::tree::{Ask, Tree};
use crate::relaxed::{Bounds, Task, Turn};

/// Steps of the agent alone, by the value that says where it is: where each leads, and what it asks of other places.
type Walks = HashMap<i32, Vec<(i32, Vec<(u32, i32)>)>>;

/// The agent, whose walks are folded.
struct Agent {
    /// The place that says where it is.
    place: u32,
    /// Where it may be by number: the values of its place, in order.
    from: Vec<Vec<Walk>>,
    /// What walks ask, one walk's after the other's.
    asks: Vec<(u32, i32)>,
}

/// A step of the agent alone: the number of where it leads, and what it asks, as a part of what all ask.
struct Walk {
    to: u32,
    asks: Range<u32>,
}

impl Agent {
    fn new(task: &Task, place: u32, walks: &Walks) -> Agent {
        let known = &task.values[place as usize];
        let mut asks = vec![];
        // Where it can never be no walk leads.
        let mut walk = |(to, of_walk): &(i32, Vec<(u32, i32)>)| {
            let to = known.binary_search(to).ok()? as u32;
            let first = asks.len() as u32;
            asks.extend_from_slice(of_walk);
            Some(Walk { to, asks: first..asks.len() as u32 })
        };
        let of_value = |value| walks.get(value).into_iter().flatten().filter_map(&mut walk).collect();
        let from = known.iter().map(of_value).collect();
        Agent { place, from, asks }
    }

    fn may(&self, walk: &Walk, values: &[i32]) -> bool {
        let asks = &self.asks[walk.asks.start as usize..walk.asks.end as usize];
        asks.iter().all(|(place, value)| values[*place as usize] == *value)
    }
}

/// A puzzle of ways that is searched.
pub struct WaysGround<'t> {
    task: &'t Task,
    bounds: &'t Bounds,
    /// Places with more than one value: the place, its first bit, its bits.
    fields: Vec<(u32, u32, u32)>,
    layout: Layout,
    /// Ways that are steps, by number.
    tree: Tree,
    steps: Vec<u32>,
    /// The agent, where walks are folded.
    agent: Option<Agent>,
    /// For each way to turn the board, and each field: the first bit of the field that it becomes, and its code there for each code.
    turns: Vec<Vec<(u32, Vec<u64>)>>,
}

impl<'t> WaysGround<'t> {
    /// Prepares a puzzle.
    #[must_use]
    pub fn new(task: &'t Task, bounds: &'t Bounds) -> WaysGround<'t> {
        let mut fields = vec![];
        let mut bit = 0;
        for (place, values) in task.values.iter().enumerate().filter(|v| v.1.len() > 1) {
            let bits = usize::BITS - (values.len() - 1).leading_zeros();
            // No field lies across two words.
            if bit / 64 != (bit + bits - 1) / 64 {
                bit = bit.next_multiple_of(64);
            }
            fields.push((place as u32, bit, bits));
            bit += bits;
        }
        let agent = agent_of(task);
        let is_walk = |w: u32| {
            let changes = &task.ways[w as usize].changes;
            agent.as_ref().is_some_and(|a| changes.len() == 1 && changes[0].0 == a.place)
        };
        let steps: Vec<u32> = (0..task.ways.len() as u32).filter(|w| !is_walk(*w)).collect();
        let asks = |w: &u32| task.ways[*w as usize].reads.iter().map(|(p, v)| Ask::Holds(*p, *v)).collect();
        let tree = Tree::new(steps.iter().map(asks));
        let bit_of = |place: u32| fields.iter().find(|f| f.0 == place).map_or(0, |f| f.1);
        let turned = |turn: &Turn, place: u32| {
            let there = turn.to[place as usize];
            let names = &task.values[there as usize];
            let codes =
                turn.values[place as usize].iter().map(|v| names.binary_search(v).unwrap_or(0) as u64);
            (bit_of(there), codes.collect())
        };
        let turns = task.turns.iter().map(|t| fields.iter().map(|f| turned(t, f.0)).collect()).collect();
        WaysGround { task, bounds, fields, layout: Layout::new(bit), tree, steps, agent, turns }
    }

    /// Whether walks are folded.
    #[must_use]
    pub fn is_folded(&self) -> bool {
        self.agent.is_some()
    }

    fn pack(&self, values: &[i32], out: &mut [u64]) {
        out.fill(0);
        for &(place, bit, _) in &self.fields {
            let list = &self.task.values[place as usize];
            let code = list.binary_search(&values[place as usize]).unwrap_or(0) as u64;
            out[bit as usize / 64] |= code << (bit % 64);
        }
    }

    fn unpack(&self, state: &[u64], values: &mut [i32]) {
        for &(place, bit, bits) in &self.fields {
            let code = state[bit as usize / 64] >> (bit % 64) & (u64::MAX >> (64 - bits));
            values[place as usize] = self.task.values[place as usize][code as usize];
        }
    }

    /// Turns a packed state to the one that stands for all that only are turned or mirrored: the least. `near` holds the numbers of what the
    /// agent's place may hold within its reach. Gives which turn that was, if any.
    fn turn(&self, words: &mut [u64], near: &[u32], scratch: &mut Vec<u64>) -> Option<usize> {
        let mut best = None;
        scratch.clear();
        scratch.extend_from_slice(words);
        let mut image = vec![0; words.len()];
        for (number, turn) in self.turns.iter().enumerate() {
            image.fill(0);
            for (&(place, bit, bits), (there, codes)) in self.fields.iter().zip(turn) {
                let code = match &self.agent {
                    Some(agent) if agent.place == place => {
                        near.iter().map(|number| codes[*number as usize]).min().unwrap_or(0)
                    }
                    _ => {
                        codes[(scratch[bit as usize / 64] >> (bit % 64) & (u64::MAX >> (64 - bits))) as usize]
                    }
                };
                image[*there as usize / 64] |= code << (there % 64);
            }
            if *image < *words {
                words.copy_from_slice(&image);
                best = Some(number);
            }
        }
        best
    }

    /// The moves of steps that were found, walks between them.
    #[must_use]
    pub fn moves(&self, steps: &[u32]) -> Vec<MoveId> {
        // The position as the search saw it, and for each way there the way on the board as it lies.
        let mut values = self.task.start.clone();
        let mut board: Vec<u32> = (0..self.task.ways.len() as u32).collect();
        let mut scout = self.make();
        let mut out = vec![];
        let mut list = vec![];
        self.turn_along(&mut scout, &mut values, &mut board);
        for &step in steps {
            list.clear();
            let way = self.steps[step as usize];
            if let Some(agent) = &self.agent {
                let reads = &self.task.ways[way as usize].reads;
                let wanted = reads.iter().find(|r| r.0 == agent.place).map(|r| r.1);
                self.walk(agent, wanted, &mut values, &mut list);
            }
            self.task.ways[way as usize].changes.iter().for_each(|c| values[c.0 as usize] = c.2);
            list.push(way);
            out.extend(list.iter().map(|w| self.task.ways[board[*w as usize] as usize].of));
            self.turn_along(&mut scout, &mut values, &mut board);
        }
        if let Some(agent) = &self.agent
            && !self.task.is_goal(&values)
        {
            let place = &agent.place;
            let goal = self.task.goals.iter().find(|g| {
                g.iter().all(|&(p, v)| p == *place || values[p as usize] == v)
                    && g.iter().any(|p| p.0 == *place)
            });
            let wanted = goal.and_then(|g| g.iter().find(|p| p.0 == *place)).map(|p| p.1);
            list.clear();
            self.walk(agent, wanted, &mut values, &mut list);
            out.extend(list.iter().map(|w| self.task.ways[board[*w as usize] as usize].of));
        }
        out
    }

    /// Turns a position as the search does, and what ways are called on the board with it.
    fn turn_along(&self, scout: &mut WaysScout<'_>, values: &mut Vec<i32>, board: &mut Vec<u32>) {
        if self.turns.is_empty() {
            return;
        }
        let mut settled = values.clone();
        scout.settle(&mut settled);
        let mut words = vec![0; self.layout.words()];
        self.pack(&settled, &mut words);
        if let Some(turn) = self.turn(&mut words, &scout.near, &mut vec![]) {
            let turn = &self.task.turns[turn];
            *values = turn.position(self.task, values);
            *board = turn.back.iter().map(|w| board[*w as usize]).collect();
        }
    }

    /// Walks to where the agent is wanted, on a shortest way; gives the ways.
    fn walk(&self, agent: &Agent, to: Option<i32>, values: &mut [i32], out: &mut Vec<u32>) {
        let place = agent.place;
        let known = &self.task.values[place as usize];
        let Some(to) = to else { return };
        let number = |value: i32| known.binary_search(&value).ok();
        let (Some(first), Some(last)) = (number(values[place as usize]), number(to)) else { return };
        // For each number the one before it on the way, once it was met.
        let mut before: Vec<Option<usize>> = vec![None; known.len()];
        before[first] = Some(first);
        let mut list = vec![first];
        let mut next = 0;
        while next < list.len() && before[last].is_none() {
            for walk in &agent.from[list[next]] {
                let there = walk.to as usize;
                if before[there].is_none() && agent.may(walk, values) {
                    before[there] = Some(list[next]);
                    list.push(there);
                }
            }
            next += 1;
        }
        let mut path = vec![];
        let mut at = last;
        while at != first {
            let Some(b) = before[at] else { return };
            path.push((known[b], known[at]));
            at = b;
        }
        for (a, b) in path.into_iter().rev() {
            let fits = |w: &&crate::relaxed::TaskWay| {
                w.changes.as_slice() == [(place, a, b)]
                    && w.reads
                        .iter()
                        .all(|(p, v)| if *p == place { *v == a } else { values[*p as usize] == *v })
            };
            if let Some(way) = self.task.ways.iter().position(|w| fits(&w)) {
                out.push(way as u32);
            }
        }
        values[place as usize] = to;
    }
}

/// The agent, if each of its walks can be taken back as it came.
fn agent_of(task: &Task) -> Option<Agent> {
    let links = task.links();
    let [Link::Place(place)] = links.as_slice() else { return None };
    let mut walks: Walks = HashMap::new();
    for way in task.ways.iter().filter(|w| w.changes.len() == 1 && w.changes[0].0 == *place) {
        let (_, from, to) = way.changes[0];
        let others: Vec<(u32, i32)> = way.reads.iter().copied().filter(|r| r.0 != *place).collect();
        walks.entry(from).or_default().push((to, others));
    }
    if walks.is_empty() {
        return None;
    }
    // Back again: what is asked for that was read on the way, or holds whenever the agent is where it came from.
    let returns = |from: i32, to: i32, reads: &[(u32, i32)]| {
        walks.get(&to).into_iter().flatten().any(|(back, asked)| {
            *back == from && asked.iter().all(|a| reads.contains(a) || holds_at(task, *place, from, *a))
        })
    };
    let fine = walks.iter().all(|(from, list)| list.iter().all(|(to, reads)| returns(*from, *to, reads)));
    fine.then(|| Agent::new(task, *place, &walks))
}

/// Whether a place holds a value in every state that can be reached in which the agent is at `at`: it does at the start, and every way that
/// leaves the agent there leaves it so.
fn holds_at(task: &Task, agent: u32, at: i32, (place, value): (u32, i32)) -> bool {
    if task.start[agent as usize] == at && task.start[place as usize] != value {
        return false;
    }
    task.ways.iter().all(|way| {
        let before = |p: u32| way.reads.iter().find(|r| r.0 == p).map(|r| r.1);
        let after = |p: u32| way.changes.iter().find(|c| c.0 == p).map(|c| c.2).or(before(p));
        // Every way reads where the agent is.
        if after(agent) != Some(at) {
            return true;
        }
        match after(place) {
            Some(is) => is == value,
            None => before(agent) == Some(at),
        }
    })
}

struct WaysScout<'g> {
    ground: &'g WaysGround<'g>,
    judge: Judge<'g>,
    values: Vec<i32>,
    next: Vec<i32>,
    words: Vec<u64>,
    /// Where the agent may be within its reach: numbers of values of its place.
    reach: Vec<u32>,
    near: Vec<u32>,
    met: Vec<bool>,
    turning: Vec<u64>,
    found: Vec<u32>,
}

impl Ground for WaysGround<'_> {
    fn layout(&self) -> Layout {
        self.layout
    }

    fn start(&self) -> Vec<u64> {
        let mut out = vec![0; self.layout.words()];
        let mut values = self.task.start.clone();
        let mut scout = self.make();
        scout.settle(&mut values);
        self.pack(&values, &mut out);
        self.turn(&mut out, &scout.near, &mut vec![]);
        out
    }

    fn scout(&self) -> Box<dyn Scout + '_> {
        Box::new(self.make())
    }
}

impl<'g> WaysGround<'g> {
    fn make(&'g self) -> WaysScout<'g> {
        WaysScout {
            ground: self,
            judge: self.bounds.judge(self.task),
            values: self.task.start.clone(),
            next: self.task.start.clone(),
            words: vec![0; self.layout.words()],
            reach: vec![],
            near: vec![],
            met: vec![],
            turning: vec![],
            found: vec![],
        }
    }
}

impl WaysScout<'_> {
    /// Finds where the agent may be within its reach.
    fn walk_all(&mut self, values: &[i32], into_near: bool) {
        let Some(agent) = &self.ground.agent else { return };
        let list = if into_near { &mut self.near } else { &mut self.reach };
        list.clear();
        let known = &self.ground.task.values[agent.place as usize];
        self.met.clear();
        self.met.resize(known.len(), false);
        let here = known.binary_search(&values[agent.place as usize]).unwrap_or(0);
        self.met[here] = true;
        list.push(here as u32);
        let mut next = 0;
        while next < list.len() {
            for walk in &agent.from[list[next] as usize] {
                let met = &mut self.met[walk.to as usize];
                if !*met && agent.may(walk, values) {
                    *met = true;
                    list.push(walk.to);
                }
            }
            next += 1;
        }
    }

    /// Puts the agent where it stands for all that is within its reach.
    fn settle(&mut self, values: &mut [i32]) {
        if let Some(Agent { place, .. }) = &self.ground.agent {
            self.walk_all(values, true);
            let least = *self.near.iter().min().expect("it stands somewhere");
            values[*place as usize] = self.ground.task.values[*place as usize][least as usize];
        }
    }

    fn is_goal(&self, values: &[i32]) -> bool {
        match &self.ground.agent {
            None => self.ground.task.is_goal(values),
            Some(Agent { place, .. }) => {
                let known = &self.ground.task.values[*place as usize];
                let is_near = |v| known.binary_search(&v).is_ok_and(|n| self.near.contains(&(n as u32)));
                let holds = |&(p, v): &(u32, i32)| {
                    if p == *place { is_near(v) } else { values[p as usize] == v }
                };
                self.ground.task.goals.iter().any(|goal| goal.iter().all(holds))
            }
        }
    }

    fn seen(&mut self, values: &[i32], label: u32) -> Option<Reached> {
        if self.is_goal(values) {
            return Some(Reached { label, cost: 1, least: 0, guess: 0, goal: true });
        }
        let says = self.judge.says(values);
        let least = says.least?;
        // Steps of the agent are not counted here, so what they take does not count either.
        let least = if self.ground.is_folded() { says.sum } else { least };
        Some(Reached { label, cost: 1, least, guess: says.least.unwrap_or(0), goal: false })
    }
}

impl Scout for WaysScout<'_> {
    fn reach(&mut self, state: &[u64], wanted: Request<'_>, out: &mut Reach) -> Result<(), Stopped> {
        let ground = self.ground;
        let mut values = std::mem::take(&mut self.values);
        ground.unpack(state, &mut values);
        let mut found = std::mem::take(&mut self.found);
        found.clear();
        if let Some(Agent { place, .. }) = &ground.agent {
            self.walk_all(&values, false);
            for at in &self.reach {
                values[*place as usize] = ground.task.values[*place as usize][*at as usize];
                ground.tree.each(&values, &[], &mut |step| found.push(step));
            }
        } else {
            ground.tree.each(&values, &[], &mut |step| found.push(step));
        }
        found.sort_unstable();
        let mut next = std::mem::take(&mut self.next);
        let mut words = std::mem::take(&mut self.words);
        for &step in &found {
            let way = &ground.task.ways[ground.steps[step as usize] as usize];
            next.copy_from_slice(&values);
            way.changes.iter().for_each(|c| next[c.0 as usize] = c.2);
            self.settle(&mut next);
            ground.pack(&next, &mut words);
            ground.turn(&mut words, &self.near, &mut self.turning);
            match wanted.remembered(&words, step, 1).or_else(|| self.seen(&next, step)) {
                None => out.cut += 1,
                Some(reached) => {
                    out.states.extend_from_slice(&words);
                    out.list.push(reached);
                }
            }
        }
        (self.values, self.next, self.words, self.found) = (values, next, words, found);
        Ok(())
    }

    fn start(&mut self, state: &[u64]) -> Result<Option<Reached>, Stopped> {
        let mut values = self.ground.task.start.clone();
        self.ground.unpack(state, &mut values);
        self.walk_all(&values, true);
        Ok(self.seen(&values, u32::MAX))
    }
}
