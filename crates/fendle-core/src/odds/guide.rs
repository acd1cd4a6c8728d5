//! The best move of every state, and what any move gives away.

use std::collections::HashMap;

use super::classes::Marks;
use super::graph::Graph;
use super::order::Parts;
use super::values::{Gain, Task};
use super::{Bounds, NoOdds, counted, seen, within_one};
use crate::explore::Exploration;
use crate::limits::{Limits, Pace, Watch};
use crate::model::{Model, MoveId, Stopped};
use crate::space::Class;

/// The best chance to win from every state that can be reached, and after each of its moves, as bounds that hold.
///
/// Takes 16 bytes a state beside the graph that [`super::odds`] writes out.
pub struct Guide {
    g: Graph,
    marks: Marks,
    values: Vec<Bounds>,
    /// What was counted.
    pub counts: Exploration,
}

impl Guide {
    /// Values the space of a model with a goal. A limit is named in the counts; the bounds hold whatever was not seen.
    ///
    /// # Errors
    ///
    /// [`NoOdds`] when the model breaks, or a limit is hit after the space was written out.
    pub fn new(model: &dyn Model, limits: &Limits, watch: &dyn Watch) -> Result<Guide, NoOdds> {
        let mut g = Graph::written(model, limits, watch)?;
        let made = Guide::valued(model, &mut g, watch);
        match made {
            Ok((marks, values, counts)) => Ok(Guide { g, marks, values, counts }),
            Err(Stopped::Fault(fault)) => Err(NoOdds::Fault(fault)),
            Err(Stopped::Limit(limit)) => {
                let limit = g.limit.unwrap_or(limit);
                let counts = Exploration { limit: Some(limit), complete: false, ..seen(model, &g) };
                Err(NoOdds::Limit(limit, counts.into()))
            }
        }
    }

    fn valued(
        model: &dyn Model,
        g: &mut Graph,
        watch: &dyn Watch,
    ) -> Result<(Marks, Vec<Bounds>, Exploration), Stopped> {
        let mut pace = if g.limit.is_some() { Pace::wrapping_up(watch) } else { Pace::new(watch) };
        let parts = Parts::of(g, &mut pace)?;
        let marks = Marks::find(g, &parts, model.has_goal(), &mut pace)?;
        let counts = counted(model, g, &marks);
        let values = Guide::task(g, &marks).solve(&parts, false, &mut pace)?.values;
        Ok((marks, values, counts))
    }

    fn task<'g>(g: &'g Graph, marks: &'g Marks) -> Task<'g> {
        Task { g, marks, most: true, gain: Gain::Nothing, mark: None, breaks_off: false, at_end: &|_| 0 }
    }

    /// How many states there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.g.states_len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// A state, packed. They are numbered nearest first.
    #[must_use]
    pub fn state(&self, number: u32) -> Vec<u64> {
        self.g.state(number)
    }

    /// What is known of a state.
    #[must_use]
    pub fn class(&self, number: u32) -> Class {
        self.g.classes[number as usize]
    }

    /// The best chance to win from a state: at least, at most.
    #[must_use]
    pub fn win(&self, number: u32) -> (f64, f64) {
        within_one(self.values[number as usize])
    }

    /// The moves of a state and the best chance to win after each: at least, at most.
    #[must_use]
    pub fn moves(&self, number: u32) -> Vec<(MoveId, (f64, f64))> {
        let task = Guide::task(&self.g, &self.marks);
        self.g.arcs(number).map(|a| (self.g.of(a), within_one(task.arc(a, &self.values)))).collect()
    }

    /// The move after which winning is likeliest, the first of equals in move order; `None` where nothing can be done.
    #[must_use]
    pub fn best(&self, number: u32) -> Option<(MoveId, (f64, f64))> {
        let mut best: Option<(MoveId, (f64, f64))> = None;
        for (of, bounds) in self.moves(number) {
            // Bounds that overlap within the width of their rounding are equals.
            if best.is_none_or(|b| bounds.0 > b.1.0 && bounds.1 > b.1.1 && bounds.0 - b.1.0 > 1e-12) {
                best = Some((of, bounds));
            }
        }
        best
    }

    /// The numbers of these states, where they were seen: one pass over all of them.
    #[must_use]
    pub fn find(&self, wanted: &[Vec<u64>]) -> Vec<Option<u32>> {
        let mut index: HashMap<&[u64], Option<u32>> = wanted.iter().map(|w| (w.as_slice(), None)).collect();
        let mut left = index.len();
        for number in 0..self.len() as u32 {
            if left == 0 {
                break;
            }
            if let Some(found) = index.get_mut(self.state(number).as_slice()) {
                *found = Some(number);
                left -= 1;
            }
        }
        wanted.iter().map(|w| index[w.as_slice()]).collect()
    }
}
