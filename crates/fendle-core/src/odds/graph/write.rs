//! Writes a space out: the rules run on all threads, batch by batch; what they give is put into the tables by one, in a fixed order.

use std::collections::HashMap;
use std::sync::{Arc, OnceLock};

use super::crew::{CHUNK, Crew, Lane, Work};
use super::found::{NODE, Nodes, States, UNNUMBERED, close_nodes, put_places};
use super::{Graph, Moves, Pattern, make_room};
use crate::explore::{class_of, pool};
use crate::limits::{Limit, Limits, Progress, Watch};
use crate::model::{Fault, Layout, Model, MoveId, Numbering, Odds};
use crate::space::Class;
use crate::space::table::StateTable;

/// Most states, and most nodes.
pub(super) const MOST: usize = (1 << 30) - 2;
/// Bytes that valuing takes for each vertex: its place in the order, its marks, its bounds.
const VALUED_BYTES: u64 = 22;

pub(super) enum Halted {
    Limit(Limit),
    Fault(Fault),
    /// It may pay to begin again with states by number.
    ByNumber,
    /// These states were met, packed, and have no number.
    NoNumber(Vec<u64>),
}

impl From<Limit> for Halted {
    fn from(limit: Limit) -> Halted {
        Halted::Limit(limit)
    }
}

/// Where the outcomes of a node that was met in this batch come from.
enum Fresh {
    /// The next position in the batch's list.
    Position,
    /// Written down by the move itself: the chunk, the first outcome there, and how many.
    Drawn(usize, usize, u32),
}

/// A batch whose states were put into the tables, and not yet all that is drawn from them.
#[derive(Default)]
pub(super) struct Pending {
    /// Chunks with outcomes that the moves themselves wrote down.
    pub(super) lanes: Vec<Lane>,
    fresh: Vec<Fresh>,
    /// The positions of the fresh nodes.
    pub(super) positions: Vec<u64>,
    /// How many fresh nodes are done, and how many positions.
    done: usize,
    drawn: usize,
}

/// A chunk of positions whose outcomes were made, and the next one to be put into the tables.
struct Drawn {
    lane: Lane,
    /// The numbers of its outcomes, and what kept the others out.
    ids: Vec<u32>,
    full: Option<Halted>,
    head: usize,
    run: usize,
    outcome: usize,
}

pub(super) struct Builder<'m> {
    pub(super) model: &'m dyn Model,
    pub(super) watch: &'m dyn Watch,
    pub(super) limits: Limits,
    /// Moves stop before their draws where that can be.
    pub(super) apart: bool,
    pub(super) g: Graph,
    /// The shape of positions before a draw, where moves stop there.
    pub(super) form: Option<Layout>,
    pub(super) nodes: Nodes,
    /// How states are numbered, where they are given by number.
    pub(super) numbering: Option<Arc<dyn Numbering>>,
    /// States after which numbers are asked for.
    pub(super) ask_at: usize,
    /// The level that is being expanded ends here.
    pub(super) end: usize,
    pub(super) pending: Option<Pending>,
    pub(super) index: HashMap<Pattern, u32>,
    /// Bytes that the patterns take, about.
    pub(super) pattern_bytes: u64,
    /// The pattern met last, by its number of outcomes.
    pub(super) recent: Vec<u32>,
    pub(super) scored: bool,
    /// Moves after which states are not gone on from.
    pub(super) most: Option<u32>,
    pub(super) crew: Arc<Crew<'m>>,
    /// States that were expanded.
    pub(super) expanded: usize,
}

impl<'m> Builder<'m> {
    pub(super) fn new(
        model: &'m dyn Model,
        limits: &Limits,
        watch: &'m dyn Watch,
        apart: bool,
    ) -> Builder<'m> {
        let layout = model.layout();
        let waits = |m: usize| model.is_waiting(MoveId(m as u32));
        let waiting: Vec<bool> = (0..model.moves_len()).map(waits).collect();
        let waiting = if waiting.contains(&true) { waiting } else { vec![] };
        // What only waits is told from the outcomes themselves.
        let form = model.positions().filter(|_| apart && waiting.is_empty());
        let scored = model.aim().is_some_and(|a| a.is_score());
        Builder {
            model,
            watch,
            limits: *limits,
            apart,
            g: Graph {
                layout,
                states: States::packed(layout, MOST),
                starts: vec![],
                classes: vec![],
                levels: vec![0],
                node_levels: vec![0],
                arc_first: vec![0],
                arc_to: vec![],
                arc_of: Moves::below(model.moves_len()),
                arc_score: vec![],
                node_first: vec![0],
                out_to: vec![],
                pattern: vec![],
                patterns: vec![Pattern { weights: [].into(), scores: [].into() }],
                limit: None,
                set_aside: false,
                aside: vec![],
                threads: limits.threads,
                pool: OnceLock::new(),
            },
            nodes: Nodes::Table(StateTable::new(form.unwrap_or(layout), MOST), vec![]),
            form,
            numbering: None,
            ask_at: usize::try_from(limits.number_from).unwrap_or(usize::MAX),
            end: 0,
            pending: None,
            index: HashMap::new(),
            pattern_bytes: 0,
            recent: vec![0; CHUNK],
            scored,
            most: None,
            crew: Crew::new(model, watch, false, waiting).into(),
            expanded: 0,
        }
    }

    pub(super) fn starts(&mut self) -> Result<(), Fault> {
        for start in self.model.starts()? {
            let mut state = start.state;
            if let Some(numbering) = &self.numbering {
                let number = numbering.number(&state).expect("starts have numbers");
                state = vec![number];
            }
            let full = self.g.states.len() as u64 >= self.limits.max_states;
            if full && self.g.states.find(&state).is_none() {
                self.g.limit = Some(Limit::MaxStates);
                continue;
            }
            let Some((s, new)) = self.g.states.insert(&state) else { continue };
            if new {
                self.g.starts.push((s, start.weight));
                self.g.classes.push(Class::Open);
            } else if let Some(known) = self.g.starts.iter_mut().find(|k| k.0 == s) {
                known.1 = known.1.saturating_add(start.weight);
            }
        }
        Ok(())
    }

    pub(super) fn progress(&self) -> Progress {
        Progress {
            states: self.g.states.len() as u64,
            expanded: self.expanded as u64,
            depth: (self.g.levels.len() as u32).saturating_sub(1),
            bytes: self.bytes(),
            numbers: None,
        }
    }

    fn bytes(&self) -> u64 {
        self.g.bytes() + self.pattern_bytes + self.nodes.bytes() + self.model.bytes()
    }

    /// Writes down everything, or goes on with it.
    pub(super) fn run(&mut self) -> Result<(), Halted> {
        if let Some(limit) = self.g.limit {
            return Err(limit.into());
        }
        let batch = 128 * self.model.batch().max(1) as usize;
        loop {
            if self.pending.is_some() {
                self.draw()?;
            }
            if self.expanded == self.end {
                let end = self.g.states.len();
                if !self.g.states.is_numbered() && end >= self.ask_at {
                    self.ask_at = end.saturating_mul(4);
                    return Err(Halted::ByNumber);
                }
                if self.g.levels.len() > 1 {
                    self.g.node_levels.push(self.g.pattern.len() as u32);
                }
                if self.expanded == end || self.is_last() {
                    return Ok(());
                }
                self.g.levels.push(end as u32);
                self.end = end;
            }
            let progress = self.progress();
            if let Some(limit) = self.watch.look(&progress) {
                return Err(limit.into());
            }
            // Room for the next batch; and for the values, which come when what finds states is gone.
            let found_by = self.nodes.bytes() + self.g.states.index_bytes();
            let valued = progress.bytes - found_by + VALUED_BYTES * self.g.vertices_len() as u64;
            if (progress.bytes + progress.bytes / 6).max(valued) > self.limits.memory_bytes {
                return Err(Limit::Memory.into());
            }
            self.batch((self.expanded + batch).min(self.end), &progress)?;
        }
    }

    /// Whether states of the level that is being expanded are not gone on from.
    fn is_last(&self) -> bool {
        self.most.is_some_and(|m| self.g.levels.len() as u32 == m + 2)
    }

    /// Expands states up to `to`, or the first of them.
    fn batch(&mut self, to: usize, progress: &Progress) -> Result<(), Halted> {
        let from = self.expanded;
        let words = self.g.layout.words();
        let mut source = Vec::with_capacity((to - from) * words);
        (from..to).for_each(|i| self.g.states.push_state(i, &mut source));
        let work = if self.form.is_some() { Work::ExpandToDraws } else { Work::Expand };
        let last = self.is_last();
        let (mut pending, mut done, mut strays) = (Pending::default(), 0, vec![]);
        self.run_crew((&source, words), work, progress, &mut |b, lane| {
            if !lane.out.strays.is_empty() {
                strays.clone_from(&lane.out.strays);
                return Ok(false);
            }
            if last {
                b.put_classes(from + done, &lane)?;
            } else {
                b.put_states(from + done, &lane, &mut pending)?;
            }
            done += lane.out.heads.len();
            let early = lane.early;
            let is_drawn = |f: &Fresh| matches!(f, Fresh::Drawn(chunk, ..) if *chunk == pending.lanes.len());
            if pending.fresh.iter().rev().take(lane.out.runs.len()).any(is_drawn) {
                pending.lanes.push(lane);
            } else {
                b.crew.spare(lane);
            }
            Ok(!early)
        })?;
        if done == 0 && !strays.is_empty() {
            return Err(Halted::NoNumber(strays));
        }
        // States that were met without a number are met again by the next batch.
        self.expanded += done;
        self.pending = Some(pending);
        Ok(())
    }

    /// Lets the crew work, and puts what it has done.
    fn run_crew(
        &mut self,
        source: (&[u64], usize),
        work: Work,
        progress: &Progress,
        put: &mut dyn FnMut(&mut Self, Lane) -> Result<bool, Halted>,
    ) -> Result<(), Halted> {
        let crew = Arc::clone(&self.crew);
        let cell = std::mem::take(&mut self.g.pool);
        let threads = pool(&cell, self.limits.threads);
        let said = crew.run(threads, source, work, progress, &mut |lane| put(self, lane));
        self.g.pool = cell;
        said
    }

    /// Notes the classes of the states of a chunk, from state `first` on, and nothing of what follows them.
    fn put_classes(&mut self, first: usize, lane: &Lane) -> Result<(), Halted> {
        if let Some((_, fault)) = lane.out.faults.first() {
            return Err(Halted::Fault(*fault));
        }
        for (k, head) in lane.out.heads.iter().enumerate() {
            let class = class_of(head);
            self.g.set_aside |= class == Class::Open;
            self.g.classes[first + k] = class;
        }
        for (k, _) in &lane.out.unfinished {
            // It has moves: it is not stuck.
            self.g.classes[first + *k as usize] = Class::Running;
        }
        Ok(())
    }

    /// Puts the expanded states of a chunk into the tables, from state `first` on.
    fn put_states(&mut self, first: usize, lane: &Lane, pending: &mut Pending) -> Result<(), Halted> {
        let (words, out) = (self.g.layout.words(), &lane.out);
        let Pending { lanes, fresh, positions, .. } = pending;
        make_room(&mut self.g.arc_to, out.runs.len());
        make_room(&mut self.g.arc_first, out.heads.len());
        self.g.arc_of.make_room(out.runs.len());
        if let Some((_, fault)) = out.faults.first() {
            return Err(Halted::Fault(*fault));
        }
        let form = self.position_words();
        let met = self.nodes_of(&out.positions)?;
        let mut unfinished = out.unfinished.iter().peekable();
        let (mut run, mut outcome, mut position) = (0, 0, 0);
        for (k, head) in out.heads.iter().enumerate() {
            let s = first + k;
            let arcs = self.g.arc_to.len();
            let open = unfinished.next_if(|u| u.0 as usize == k).map(|u| u.1);
            for r in &out.runs[run..run + head.runs as usize] {
                let odds = || out.odds.get(outcome).copied().unwrap_or(Odds::SURE);
                // A mean that is no whole number is a draw with one outcome.
                let whole = |odds: Odds| odds.score % odds.weight.max(1) as i64 == 0;
                let (to, score) = match r.outcomes {
                    0 => {
                        let (node, new) = met[position];
                        if new {
                            fresh.push(Fresh::Position);
                            positions
                                .extend_from_slice(&out.positions[position * form..(position + 1) * form]);
                        }
                        position += 1;
                        (node, out.position_scores[position - 1])
                    }
                    1 if whole(odds()) => {
                        let to = self.state(&out.outcomes[outcome * words..(outcome + 1) * words])?;
                        (to, odds().score / odds().weight.max(1) as i64)
                    }
                    n => {
                        fresh.push(Fresh::Drawn(lanes.len(), outcome, n));
                        (self.unnumbered_node()?, 0)
                    }
                };
                outcome += r.outcomes as usize;
                self.g.arc_to.push(to);
                self.g.arc_of.push(r.of);
                self.put_score(score);
            }
            run += head.runs as usize;
            let mut class = class_of(head);
            if class == Class::Open {
                self.g.set_aside = true;
                self.g.aside.push(s as u32);
            }
            if let Some(limit) = open {
                // Not all of its moves are known.
                class = Class::Open;
                self.g.limit = self.g.limit.or(Some(limit));
                self.g.arc_to.truncate(arcs);
                self.g.arc_of.truncate(arcs);
                self.g.arc_score.truncate(arcs);
            }
            self.g.classes[s] = class;
            if self.g.arc_to.len() >= (u32::MAX - 1) as usize / 2 {
                return Err(Limit::TableFull.into());
            }
            self.g.arc_first.push(self.g.arc_to.len() as u32);
        }
        for k in &lane.idle {
            self.g.classes[first + *k as usize] = Class::Idle;
        }
        Ok(())
    }

    fn put_score(&mut self, score: i64) {
        if !self.scored || score == 0 && self.g.arc_score.is_empty() {
            return;
        }
        self.g.arc_score.resize(self.g.arc_to.len() - 1, 0);
        self.g.arc_score.push(score);
    }

    /// What stands for a state in the tables, new or not.
    fn state(&mut self, state: &[u64]) -> Result<u32, Halted> {
        let full = self.g.states.len() as u64 >= self.limits.max_states;
        if full {
            return self.g.states.find(state).ok_or(Limit::MaxStates.into());
        }
        let (s, new) = self.g.states.insert(state).ok_or(Limit::TableFull)?;
        if new {
            make_room(&mut self.g.classes, 1);
            self.g.classes.push(Class::Open);
        }
        Ok(s)
    }

    fn new_node(&mut self) -> Result<u32, Halted> {
        let n = self.g.pattern.len();
        if n >= MOST {
            return Err(Limit::TableFull.into());
        }
        self.g.pattern.push(0);
        Ok(n as u32)
    }

    /// A node that stands for no position: what stands for it in the tables.
    fn unnumbered_node(&mut self) -> Result<u32, Halted> {
        let n = self.new_node()?;
        match &mut self.nodes {
            Nodes::Table(..) => Ok(NODE | n),
            Nodes::Numbers(_, list) => {
                list.push(NODE);
                Ok(NODE | UNNUMBERED | n)
            }
        }
    }

    /// Words of a position before a draw, as it is kept.
    fn position_words(&self) -> usize {
        if self.numbering.is_some() { 1 } else { self.form.map_or(1, Layout::words) }
    }

    /// What stands for the nodes of positions, and whether each is new.
    fn nodes_of(&mut self, positions: &[u64]) -> Result<Vec<(u32, bool)>, Halted> {
        let mut out: Vec<(u32, bool)> = Vec::with_capacity(positions.len());
        make_room(&mut self.g.pattern, positions.len());
        match &mut self.nodes {
            Nodes::Table(_, list) | Nodes::Numbers(_, list) => make_room(list, positions.len()),
        }
        match &mut self.nodes {
            Nodes::Table(table, _) => {
                let all = table.insert_all(positions, |number, new| {
                    out.push((number, new));
                    true
                });
                if !all {
                    return Err(Limit::TableFull.into());
                }
            }
            Nodes::Numbers(met, list) => {
                for p in positions {
                    let new = met.insert(*p as u32);
                    if new {
                        list.push(*p as u32);
                    }
                    out.push((NODE | *p as u32, new));
                }
                let most = MOST.saturating_sub(self.g.pattern.len());
                let new = out.iter().filter(|p| p.1).count();
                if new > most {
                    return Err(Limit::TableFull.into());
                }
                self.g.pattern.resize(self.g.pattern.len() + new, 0);
                return Ok(out);
            }
        }
        for met in &mut out {
            let new = met.1.then(|| self.new_node()).transpose()?;
            let Nodes::Table(_, of) = &mut self.nodes else { unreachable!("nodes stay as they are kept") };
            of.extend(new);
            met.0 = NODE | of[met.0 as usize];
        }
        Ok(out)
    }

    /// Puts the outcomes of the nodes that were met in the batch that waits into the tables.
    fn draw(&mut self) -> Result<(), Halted> {
        let Some(mut pending) = self.pending.take() else { return Ok(()) };
        let form = self.position_words();
        loop {
            self.put_written(&mut pending)?;
            if pending.done == pending.fresh.len() {
                break;
            }
            let positions = std::mem::take(&mut pending.positions);
            let rest = &positions[pending.drawn * form..];
            let (progress, mut strays) = (self.progress(), vec![]);
            self.run_crew((rest, form), Work::Draw, &progress, &mut |b, lane| {
                if !lane.out.strays.is_empty() {
                    strays.clone_from(&lane.out.strays);
                    return Ok(false);
                }
                let early = lane.early;
                b.put_lane(&mut pending, lane)?;
                Ok(!early)
            })?;
            pending.positions = positions;
            if !strays.is_empty() {
                self.pending = Some(pending);
                return Err(Halted::NoNumber(strays));
            }
        }
        pending.lanes.into_iter().for_each(|lane| self.crew.spare(lane));
        Ok(())
    }

    /// Puts the outcomes of the next nodes into the tables that the moves themselves wrote down.
    fn put_written(&mut self, pending: &mut Pending) -> Result<(), Halted> {
        let words = self.g.layout.words();
        while let Some(Fresh::Drawn(chunk, first, len)) = pending.fresh.get(pending.done) {
            let (out, first, len) = (&pending.lanes[*chunk].out, *first, *len as usize);
            let mut ids = vec![];
            self.states(&out.outcomes[first * words..(first + len) * words], &mut ids)?;
            self.put_outcomes(&ids, out.odds.get(first..first + len).unwrap_or(&[]), None)?;
            pending.done += 1;
        }
        Ok(())
    }

    /// Puts the outcomes of the positions of a chunk into the tables, and of the nodes between them.
    fn put_lane(&mut self, pending: &mut Pending, lane: Lane) -> Result<(), Halted> {
        let mut ids = vec![];
        let full = self.states(&lane.out.outcomes, &mut ids).err();
        let (head, run, outcome) = (0, 0, 0);
        let mut drawn = Drawn { lane, ids, full, head, run, outcome };
        pending.drawn += drawn.lane.out.heads.len();
        while drawn.head < drawn.lane.out.heads.len() {
            self.put_written(pending)?;
            self.put_drawn(&mut drawn)?;
            pending.done += 1;
        }
        self.crew.spare(drawn.lane);
        Ok(())
    }

    /// Puts the outcomes of the next position of a chunk into the tables.
    fn put_drawn(&mut self, lane: &mut Drawn) -> Result<(), Halted> {
        let out = &lane.lane.out;
        if let Some((_, fault)) = out.faults.first() {
            return Err(Halted::Fault(*fault));
        }
        let runs = out.heads[lane.head].runs as usize;
        let len = out.runs[lane.run..lane.run + runs].first().map_or(0, |r| r.outcomes as usize);
        let limit = out.unfinished.iter().find(|u| u.0 as usize == lane.head).map(|u| u.1);
        let Some(ids) = lane.ids.get(lane.outcome..lane.outcome + len) else {
            return Err(lane.full.take().unwrap_or(Halted::Limit(Limit::MaxStates)));
        };
        self.put_outcomes(ids, out.odds.get(lane.outcome..lane.outcome + len).unwrap_or(&[]), limit)?;
        lane.head += 1;
        lane.run += runs;
        lane.outcome += len;
        Ok(())
    }

    /// The numbers of states, new or not.
    fn states(&mut self, states: &[u64], ids: &mut Vec<u32>) -> Result<(), Halted> {
        let words = self.g.layout.words();
        let count = states.len() / words;
        if self.g.states.len() as u64 + count as u64 > self.limits.max_states {
            for state in states.chunks_exact(words) {
                ids.push(self.state(state)?);
            }
            return Ok(());
        }
        let all = self.g.states.insert_all(states, |s| ids.push(s));
        let new = self.g.states.len() - self.g.classes.len();
        make_room(&mut self.g.classes, new);
        self.g.classes.resize(self.g.states.len(), Class::Open);
        if all { Ok(()) } else { Err(Limit::TableFull.into()) }
    }

    /// Puts the outcomes of the next node into the tables.
    fn put_outcomes(&mut self, ids: &[u32], odds: &[Odds], limit: Option<Limit>) -> Result<(), Halted> {
        let n = self.g.node_first.len() - 1;
        self.g.limit = self.g.limit.or(limit);
        make_room(&mut self.g.out_to, ids.len());
        make_room(&mut self.g.node_first, 1);
        self.g.out_to.extend_from_slice(ids);
        self.g.pattern[n] = self.pattern(odds, ids.len());
        if self.g.out_to.len() >= (u32::MAX - 1) as usize / 2 {
            return Err(Limit::TableFull.into());
        }
        self.g.node_first.push(self.g.out_to.len() as u32);
        Ok(())
    }

    /// The number of a pattern.
    fn pattern(&mut self, odds: &[Odds], len: usize) -> u32 {
        let scored = self.scored && odds.iter().any(|o| o.score != 0);
        let slot = len % CHUNK;
        let recent = &self.g.patterns[self.recent[slot] as usize];
        let like = recent.weights.len() == len
            && (0..len).all(|i| recent.weights[i] == odds.get(i).map_or(1, |o| o.weight))
            && recent.scores.is_empty() != scored
            && (!scored || (0..len).all(|i| recent.scores[i] == odds[i].score));
        if like {
            return self.recent[slot];
        }
        let pattern = Pattern {
            weights: (0..len).map(|i| odds.get(i).map_or(1, |o| o.weight)).collect(),
            scores: if scored { odds.iter().map(|o| o.score).collect() } else { [].into() },
        };
        let next = self.g.patterns.len() as u32;
        let number = *self.index.entry(pattern.clone()).or_insert(next);
        if number == next {
            // It lies in the list and in the index.
            self.pattern_bytes += 2 * (48 + 8 * (pattern.weights.len() + pattern.scores.len())) as u64;
            self.g.patterns.push(pattern);
        }
        self.recent[slot] = number;
        number
    }

    /// Closes the tables, whatever was left out.
    pub(super) fn finish(mut self) -> Graph {
        let g = &mut self.g;
        let states = g.classes.len();
        let arcs = *g.arc_first.last().expect("one more entry");
        g.arc_to.truncate(arcs as usize);
        g.arc_of.truncate(arcs as usize);
        g.arc_first.resize(states + 1, arcs);
        g.node_first.resize(g.pattern.len() + 1, g.out_to.len() as u32);
        if !g.arc_score.is_empty() {
            g.arc_score.resize(arcs as usize, 0);
        }
        if *g.levels.last().expect("a level") as usize != states {
            g.levels.push(states as u32);
        }
        let (states_of, nodes) = (&mut g.states, self.nodes);
        let close = || rayon::join(|| states_of.close(), || close_nodes(nodes));
        let (places, node_places) = pool(&g.pool, self.limits.threads).install(close);
        let (mut arcs, mut outcomes) = (std::mem::take(&mut g.arc_to), std::mem::take(&mut g.out_to));
        g.on_threads(|| {
            put_places(&mut arcs, places.as_ref(), node_places.as_ref(), states as u32);
            if places.is_some() {
                put_places(&mut outcomes, places.as_ref(), None, states as u32);
            }
        });
        (g.arc_to, g.out_to) = (arcs, outcomes);
        for (start, _) in &mut g.starts {
            put_places(std::slice::from_mut(start), places.as_ref(), None, states as u32);
        }
        g.arc_to.shrink_to_fit();
        g.out_to.shrink_to_fit();
        g.classes.shrink_to_fit();
        self.g
    }
}
