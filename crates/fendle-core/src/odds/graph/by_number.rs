//! A space that is written out with states by number: when that pays, and what happens when a state has none.

use std::sync::Arc;

use rayon::prelude::*;

use super::found::{NODE, Nodes, RANGE_MAX, States, UNNUMBERED};
use super::write::{Builder, MOST};
use crate::bits::Bits;
use crate::model::{Fault, Layout, Model, Numbering};
use crate::space::number_bits;
use crate::space::table::StateTable;

/// Numbers of a range up to this need little room, whatever few of them are met.
const SMALL_RANGE: u64 = 1 << 27;
/// One in so many numbers should be met.
const SPARSE: u64 = 1 << 12;
/// Entries of a table by which numbers are renamed.
const TABLE_MAX: u64 = 1 << 22;
/// States that are looked through between two looks at the watch.
const LOOK_AFTER: usize = 1 << 10;
/// Numbers that one thread renames at a time.
const PIECE: usize = 1 << 12;

/// A model that gives states by number, where it is another one, and the numbers.
pub(super) type Numbers<'m> = (Option<Box<dyn Model + 'm>>, Arc<dyn Numbering>);

impl<'m> Builder<'m> {
    /// Numbers for the states, if they are of use: a small range, or the rules run faster on them. What was seen so far tells
    /// how small a range can be where the rules themselves do not.
    pub(super) fn numbers(&self) -> Option<Numbers<'m>> {
        let states = self.g.states.len();
        let progress = self.progress();
        let mut stop = || self.watch.look(&progress).is_some();
        let proved = self.model.numbering(states, &mut stop).filter(|n| self.positions_of(&**n).is_some());
        if let Some(numbering) = proved.as_ref().filter(|n| self.is_small(&***n)) {
            return Some((None, Arc::clone(numbering)));
        }
        let mut stopped = false;
        let mut seen = (0..states).map_while(|i| {
            stopped = i % LOOK_AFTER == 0 && stop();
            (!stopped).then(|| self.g.states.state(i))
        });
        let narrow = self.model.narrowed(&mut seen);
        if stopped {
            // It ends without numbers as well.
            return None;
        }
        let narrow = narrow.and_then(|model| {
            let numbering = model.numbering(states, &mut stop)?;
            Some((Some(model), numbering))
        });
        if let Some(found) = narrow.filter(|(_, n)| self.is_small(&**n)) {
            return Some(found);
        }
        // In a table, as numbers.
        let numbering = proved.filter(|n| n.is_fast() && self.numbering.is_none())?;
        Some((None, numbering))
    }

    /// Wider numbers, which these packed states have, too. `None` when the range would be too large.
    pub(super) fn wider(&self, strays: &[u64]) -> Option<(Box<dyn Model + 'm>, Arc<dyn Numbering>)> {
        let words = self.model.layout().words();
        let model = self.model.narrowed(&mut strays.chunks_exact(words).map(<[u64]>::to_vec))?;
        let numbering = model.numbering(self.g.states.len(), &mut || false)?;
        self.positions_of(&*numbering).is_some_and(|range| self.fits(range)).then_some((model, numbering))
    }

    /// The range of the numbers of positions before a draw, or of states where moves do not stop there. `None` when moves
    /// stop and positions have no numbers.
    fn positions_of(&self, numbering: &dyn Numbering) -> Option<u64> {
        match self.form {
            Some(_) => numbering.positions(),
            None => Some(numbering.range()),
        }
    }

    /// Whether a bit for every number is a good way to find states.
    fn is_small(&self, numbering: &dyn Numbering) -> bool {
        let states = self.g.states.len() as u64;
        let few = |range: u64| self.fits(range) && (range <= SMALL_RANGE || range / SPARSE <= states);
        self.positions_of(numbering).is_some_and(few)
    }

    /// Whether there is room for a bit for every state and every position below a range: a quarter of the memory at most.
    fn fits(&self, range: u64) -> bool {
        range <= RANGE_MAX && range <= self.limits.memory_bytes
    }

    /// Begins again: with states by number, or packed ones for good.
    pub(super) fn again<'n>(
        self,
        model: &'n dyn Model,
        numbering: Option<Arc<dyn Numbering>>,
    ) -> Result<Builder<'n>, Fault>
    where
        'm: 'n,
    {
        let mut new = Builder::new(model, &self.limits, self.watch, self.apart);
        (new.most, new.ask_at) = (self.most, self.ask_at);
        match numbering {
            None => new.ask_at = usize::MAX,
            Some(numbering) => {
                let positions = self.positions_of(&*numbering).unwrap_or(1);
                new.g.layout = Layout::new(number_bits(numbering.range()));
                if self.is_small(&*numbering) {
                    new.nodes = Nodes::Numbers(Bits::below(positions), vec![]);
                    new.g.states = States::numbers(Arc::clone(&numbering));
                } else {
                    let table = StateTable::new(Layout::new(number_bits(positions)), MOST);
                    new.nodes = Nodes::Table(table, vec![]);
                    let table = StateTable::new(new.g.layout, MOST);
                    new.g.states = States::Table(table, Some(Arc::clone(&numbering)));
                }
                new.numbering = Some(numbering);
                new.crew = new.crew.by_number().into();
            }
        }
        new.starts()?;
        Ok(new)
    }

    /// Goes on with wider numbers: everything that was written is renamed.
    pub(super) fn renumbered<'n>(mut self, model: &'n dyn Model, numbering: Arc<dyn Numbering>) -> Builder<'n>
    where
        'm: 'n,
    {
        let old = self.numbering.take().expect("only numbers are made wider");
        let (range, wide) = (old.range(), numbering.range());
        // Each place counts for itself: what the two halves of a number say of a state can be looked up.
        let divisor = old.divisor();
        let renamed_slowly = |n: u64, values: &mut Vec<i32>| {
            old.values(n, values);
            numbering.number_of(values).expect("a wider range holds what a narrower one held")
        };
        let mut values = vec![];
        let zero = renamed_slowly(0, &mut values);
        let mut halves = (0..divisor, 0..range.div_ceil(divisor));
        if divisor.max(range.div_ceil(divisor)) > TABLE_MAX {
            // One place counts for nearly all of the range: each number by itself.
            halves = (0..0, 0..0);
        }
        let low: Vec<u64> = halves.0.map(|n| renamed_slowly(n, &mut values)).collect();
        let high = halves.1.map(|n| renamed_slowly(n * divisor, &mut values).wrapping_sub(zero));
        let high: Vec<u64> = high.collect();
        let renamed = |n: u64| {
            let (above, n) = if n < range { (0, n) } else { (n / range * wide, n % range) };
            let new = match (high.get((n / divisor) as usize), low.get((n % divisor) as usize)) {
                (Some(high), Some(low)) => high.wrapping_add(*low),
                _ => renamed_slowly(n, &mut vec![]),
            };
            above + new
        };
        let pool = std::mem::take(&mut self.g.pool);
        let threads = crate::explore::pool(&pool, self.limits.threads);
        let put = |list: &mut [u32]| {
            let one = |piece: &mut [u32]| {
                for v in piece.iter_mut().filter(|v| **v & NODE == 0 || **v & UNNUMBERED == 0) {
                    *v = *v & NODE | renamed((*v & !NODE).into()) as u32;
                }
            };
            threads.install(|| list.par_chunks_mut(PIECE).for_each(one));
        };
        let positions = self.positions_of(&*numbering).unwrap_or(1);
        if let States::Numbers { numbering: held, met, list } = &mut self.g.states {
            put(list);
            *met = Bits::below(wide);
            for n in list.iter() {
                met.insert(*n);
            }
            *held = Arc::clone(&numbering);
        }
        if let Nodes::Numbers(met, list) = &mut self.nodes {
            list.iter_mut().filter(|n| **n == NODE).for_each(|n| *n = NODE | UNNUMBERED);
            put(list);
            list.iter_mut().filter(|n| **n & NODE != 0).for_each(|n| *n = NODE);
            *met = Bits::below(positions);
            for n in list.iter().filter(|n| **n != NODE) {
                met.insert(*n);
            }
        }
        put(&mut self.g.arc_to);
        put(&mut self.g.out_to);
        for (start, _) in &mut self.g.starts {
            *start = renamed((*start).into()) as u32;
        }
        if let Some(pending) = &mut self.pending {
            let outcomes = pending.lanes.iter_mut().flat_map(|l| &mut l.out.outcomes);
            for n in outcomes.chain(&mut pending.positions) {
                *n = renamed(*n);
            }
        }
        self.g.layout = Layout::new(number_bits(wide));
        self.g.pool = pool;
        Builder {
            model,
            numbering: Some(numbering),
            crew: self.crew.on(model).into(),
            watch: self.watch,
            limits: self.limits,
            apart: self.apart,
            g: self.g,
            form: self.form,
            nodes: self.nodes,
            ask_at: self.ask_at,
            end: self.end,
            pending: self.pending,
            index: self.index,
            pattern_bytes: self.pattern_bytes,
            recent: self.recent,
            scored: self.scored,
            most: self.most,
            expanded: self.expanded,
        }
    }
}
