//! The most promising state first.
//!
//! With weight 1 on what was paid and what is still to be paid at the least, ways are shortest (Hart, Nilsson and Raphael 1968); with more weight on what
//! is still to come, one is found sooner (Pohl 1970). The lower bound of both is the least sum over all states that are still open.

use rayon::prelude::*;

use super::ground::{Ground, Reach, Reached, Request, Scout};
use super::{Found, REACH_STEPS, Steps, scouts};
use crate::limits::{Limit, Limits, Pace, Progress, Watch};
use crate::model::{Layout, Stopped};
use crate::space::id::hash;
use crate::space::table::StateTable;

/// How states are put in order: by `paid` times what was paid, `least` times what is due at the least, `guess` times the guess.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Order {
    /// Weight of what was paid.
    pub paid: u32,
    /// Weight of what is still due at the least.
    pub least: u32,
    /// Weight of the guess.
    pub guess: u32,
}

impl Order {
    /// Shortest ways first.
    pub const SHORTEST: Order = Order { paid: 1, least: 1, guess: 0 };
}

/// What a search is asked to do.
#[derive(Clone, Copy, Debug)]
pub struct Ask {
    /// The order.
    pub order: Order,
    /// Whether the first way is enough.
    pub any: bool,
    /// Only ways that cost less than this are looked for.
    pub below: u32,
    /// States after which it gives up.
    pub states: u64,
}

/// States that are expanded together.
const BATCH: usize = 512;
/// From so many on several threads expand them.
const SHARED_FROM: usize = 48;
/// Keys above this are one.
const KEYS: usize = 1 << 18;

#[derive(Clone, Copy)]
struct Node {
    parent: u32,
    label: u32,
    paid: u32,
    least: u16,
    guess: u16,
    /// It waits to be expanded.
    open: bool,
}

impl Node {
    fn new(r: &Reached, (parent, paid): (u32, u32)) -> Node {
        let short = |n: u32| n.min(u32::from(u16::MAX)) as u16;
        Node { parent, label: r.label, paid, least: short(r.least), guess: short(r.guess), open: false }
    }
}

struct Search {
    table: StateTable,
    nodes: Vec<Node>,
    queues: Vec<Vec<u32>>,
    /// The first queue that may hold something.
    first: usize,
    /// How many open states there are for each sum of what was paid and what is due.
    due: Vec<u32>,
    order: Order,
    waiting: usize,
}

impl Search {
    /// Room for so many states.
    fn new(layout: Layout, most: usize, order: Order) -> Search {
        let table = StateTable::new(layout, most);
        Search { table, nodes: vec![], queues: vec![], first: 0, due: vec![], order, waiting: 0 }
    }

    fn key(&self, n: &Node) -> usize {
        let o = &self.order;
        let key = u64::from(o.paid) * u64::from(n.paid)
            + u64::from(o.least) * u64::from(n.least)
            + u64::from(o.guess) * u64::from(n.guess);
        (key as usize).min(KEYS - 1)
    }

    fn open(&mut self, number: u32) {
        let node = self.nodes[number as usize];
        let key = self.key(&node);
        if self.queues.len() <= key {
            self.queues.resize_with(key + 1, Vec::new);
        }
        self.queues[key].push(number);
        self.waiting += 1;
        self.first = self.first.min(key);
        let due = (node.paid + u32::from(node.least)) as usize;
        if self.due.len() <= due {
            self.due.resize(due + 1, 0);
        }
        self.due[due] += 1;
        self.nodes[number as usize].open = true;
    }

    fn close(&mut self, number: u32) {
        let node = &mut self.nodes[number as usize];
        node.open = false;
        self.due[(node.paid + u32::from(node.least)) as usize] -= 1;
    }

    /// Takes the next states to be expanded: their numbers, and the states one after the other. Of those that lead to nothing below `best`
    /// none is taken.
    fn next_batch(&mut self, best: u32, batch: &mut Vec<u32>, packed: &mut Vec<u64>) {
        batch.clear();
        packed.clear();
        while self.queues[self.first].is_empty() {
            self.first += 1;
        }
        while batch.len() < BATCH {
            let Some(number) = self.queues[self.first].pop() else { break };
            self.waiting -= 1;
            let node = self.nodes[number as usize];
            // It was opened again with less paid, or nothing better lies behind it.
            if !node.open || self.key(&node) != self.first {
                continue;
            }
            self.close(number);
            if node.paid + u32::from(node.least) < best {
                batch.push(number);
                self.table.push_state(number as usize, packed);
            }
        }
    }

    /// Notes a state that was reached from a parent, with what was paid on the way: it waits where it is new, or was dearer before. False where
    /// the table holds no more.
    fn meet(&mut self, state: &[u64], r: &Reached, (parent, paid): (u32, u32)) -> bool {
        let Some((number, new)) = self.table.insert(state, hash(state)) else { return false };
        if new {
            self.nodes.push(Node::new(r, (parent, paid)));
            self.open(number);
        } else if paid < self.nodes[number as usize].paid {
            if self.nodes[number as usize].open {
                self.close(number);
            }
            let node = &mut self.nodes[number as usize];
            (node.parent, node.label, node.paid) = (parent, r.label, paid);
            self.open(number);
        }
        true
    }

    /// The least sum over all open states.
    fn least(&self) -> Option<u32> {
        self.due.iter().position(|n| *n > 0).map(|n| n as u32)
    }

    fn bytes(&self) -> u64 {
        self.table.bytes() + (self.nodes.capacity() * size_of::<Node>() + 8 * self.waiting) as u64
    }

    fn progress(&self, depth: u32) -> Progress {
        let states = self.nodes.len();
        let expanded = (states - self.waiting.min(states)) as u64;
        Progress { states: states as u64, expanded, depth, bytes: self.bytes(), numbers: None }
    }

    /// Expands whole states, on several threads where they are many; see [`expand`].
    fn expand_batch<'g>(
        &self,
        (scouts, reaches): (&mut [Box<dyn Scout + 'g>], &mut [Reach]),
        packed: &[u64],
        words: usize,
        (guess, pace): (bool, &(dyn Fn() -> Pace<'g> + Sync)),
    ) -> Vec<Result<Vec<u32>, (usize, Stopped)>> {
        let met = |state: &[u64]| {
            let node = &self.nodes[self.table.find(state, hash(state))? as usize];
            Some((node.least.into(), node.guess.into()))
        };
        let wanted = Request { met: &met, guess };
        let len = packed.len() / words;
        if len < SHARED_FROM {
            return vec![expand(&mut *scouts[0], packed, words, (wanted, pace()), &mut reaches[0])];
        }
        let each = len.div_ceil(scouts.len());
        (scouts.par_iter_mut().zip(reaches).zip(packed.par_chunks(each * words)))
            .map(|((scout, reach), states)| expand(&mut **scout, states, words, (wanted, pace()), reach))
            .collect()
    }

    /// The steps to a state, and one more.
    fn steps(&self, last: u32, label: u32) -> Steps {
        let mut out = self.steps_to(last);
        out.push(label);
        out
    }

    fn steps_to(&self, state: u32) -> Steps {
        let (mut at, mut out) = (state, vec![]);
        while at != 0 {
            let node = &self.nodes[at as usize];
            out.push(node.label);
            at = node.parent;
        }
        out.reverse();
        out
    }
}

/// Searches a ground.
pub fn search(ground: &dyn Ground, ask: Ask, limits: &Limits, watch: &dyn Watch) -> Found {
    let layout = ground.layout();
    let words = layout.words();
    let mut scouts = scouts(ground, limits);
    let mut reaches: Vec<Reach> = vec![Reach::default(); scouts.len()];
    let start = ground.start();
    let (mut found, first) = match Found::begun().look_at_start(&mut *scouts[0], &start) {
        Ok(looked) => looked,
        Err(found) => return found,
    };
    let most = limits.max_states.clamp(1, u64::from(u32::MAX >> 1)) as usize;
    let mut s = Search::new(layout, most, ask.order);
    s.meet(&start, &first, (0, 0));
    let mut best = ask.below;
    let mut batch: Vec<u32> = vec![];
    let mut packed: Vec<u64> = vec![];
    loop {
        let progress = s.progress(found.least.unwrap_or(0));
        found.states = progress.states;
        found.limit = found.limited(&progress, limits, watch);
        if progress.states >= ask.states {
            found.gave_up = true;
        }
        let least = s.least();
        if found.limit.is_some() || found.gave_up {
            found.least = Some(least.map_or(best, |l| l.min(best)));
            return found;
        }
        // Nothing is open that could cost less.
        if least.is_none_or(|l| l >= best) {
            found.least = (best != u32::MAX).then_some(best);
            return found;
        }
        found.least = least;
        s.next_batch(best, &mut batch, &mut packed);
        if batch.is_empty() {
            continue;
        }
        let guess = ask.order.guess > 0;
        let pace = || Pace::new(watch).at(progress);
        let ends = s.expand_batch((&mut scouts, &mut reaches), &packed, words, (guess, &pace));
        let mut from = batch.iter();
        for (counts, reach) in ends.into_iter().zip(&reaches) {
            let counts = match counts {
                Ok(counts) => counts,
                Err((done, stopped)) => {
                    found.least = Some(least.unwrap_or(0));
                    if let (Stopped::Fault(fault), Some(&at)) = (stopped, from.nth(done)) {
                        found.broken = Some((s.steps_to(at), fault));
                    }
                    return found.stopped(stopped);
                }
            };
            let mut at = 0;
            for n in counts {
                let parent = *from.next().expect("a state for each count");
                let paid_before = s.nodes[parent as usize].paid;
                for i in at..at + n as usize {
                    let r = &reach.list[i];
                    let state = &reach.states[i * words..(i + 1) * words];
                    let paid = paid_before + r.cost;
                    if paid + r.least >= best {
                        continue;
                    }
                    if r.goal {
                        best = paid;
                        found.steps = Some(s.steps(parent, r.label));
                        found.cost = paid;
                        if ask.any {
                            found.states = s.nodes.len() as u64;
                            found.least = least;
                            return found;
                        }
                        continue;
                    }
                    if !s.meet(state, r, (parent, paid)) {
                        let by_wish = most as u64 >= limits.max_states;
                        found.limit = Some(if by_wish { Limit::MaxStates } else { Limit::TableFull });
                        found.states = s.nodes.len() as u64;
                        return found;
                    }
                }
                at += n as usize;
            }
        }
        for reach in &mut reaches {
            found.cut += std::mem::take(&mut reach.cut);
            reach.clear();
        }
    }
}

/// Expands whole states one after the other; gives how many each leads to, or which of them could not be expanded. On a large board a few of them may take
/// seconds, so the watch is asked meanwhile.
pub(super) fn expand(
    scout: &mut dyn Scout,
    states: &[u64],
    words: usize,
    (wanted, mut pace): (Request<'_>, Pace<'_>),
    reach: &mut Reach,
) -> Result<Vec<u32>, (usize, Stopped)> {
    let mut counts = Vec::with_capacity(states.len() / words);
    for state in states.chunks_exact(words) {
        let before = reach.list.len();
        scout.reach(state, wanted, reach).map_err(|stopped| (counts.len(), stopped))?;
        let count = reach.list.len() - before;
        counts.push(count as u32);
        pace.step(REACH_STEPS * (1 + count as u64)).map_err(|limit| (counts.len(), Stopped::Limit(limit)))?;
    }
    Ok(counts)
}
