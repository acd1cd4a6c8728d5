//! From what a player was told to clues that count.
//!
//! Every `tell` at every position that was seen is evaluated with the hidden cells as unknowns. Where the result
//! is a sum over cells, or a comparison of one, it becomes a [`Clue`]; so do the prior's conditions, the `always`
//! laws (no world breaks them) and the conditions of ends (the game is seen to go on). Anything else is
//! [`NotCounts`], and the caller enumerates worlds instead.

mod danger;
mod reader;
mod sums;
mod watched;

use danger::WAYS_MAX;
pub use danger::{Danger, Way};
use reader::Item;
pub(crate) use reader::Reader;
use sums::{FAR, Formula, Lin, Symbolic};
pub(crate) use watched::Watched;

use crate::check::hidden::Depends;
use crate::model::*;
use crate::run::scatter::{bool_weights, exact_count, hidden_vars};
use crate::run::{Eval, RunFault};
use crate::state::Bound;
use crate::state::cell_name;
use crate::syntax::tree::QuantKind;
use fendle_core::infer::{Clue, System};
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

mod guess;
pub use guess::{Foreseen, Foresight, Left};
pub mod player;

/// Why what is told is not followed as counts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NotCounts {
    /// A hidden variable holds more than yes or no.
    NotBool(String),
    /// The rules change it, or the setup does.
    Changed(String),
    /// Something told is no count.
    Told(String),
    /// A model fault.
    Fault(RunFault),
}

impl From<RunFault> for NotCounts {
    fn from(f: RunFault) -> NotCounts {
        NotCounts::Fault(f)
    }
}

impl std::fmt::Display for NotCounts {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            NotCounts::NotBool(v) => write!(f, "`{v}` holds more than yes or no"),
            NotCounts::Changed(v) => write!(f, "`{v}` is changed by the rules"),
            NotCounts::Told(t) => write!(f, "{t} is no count over cells"),
            NotCounts::Fault(fault) => write!(f, "{fault}"),
        }
    }
}

/// Where a clue comes from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Source {
    /// A `tell`, its element, and what it said.
    Told {
        /// The number of the `tell`.
        tell: usize,
        /// The element that it is about.
        element: i64,
        /// What was told.
        value: i64,
        /// How many positions ago; 0 is now.
        ago: usize,
    },
    /// The number of cells that are filled.
    Total,
    /// Another condition of the prior.
    Prior,
    /// A law of the model.
    Law,
    /// The game is seen to go on.
    GoesOn,
}

/// A position as the player saw it.
#[derive(Clone, Debug)]
pub struct Sight {
    /// The state; hidden values in it are not read.
    pub state: Vec<i32>,
    /// What each `tell` said.
    pub told: Vec<Vec<Option<i64>>>,
}

/// Clues, and what they are about.
#[derive(Clone, Debug, Default)]
pub struct Known {
    /// The clues.
    pub system: System,
    /// For each unknown its place in the state.
    pub places: Vec<usize>,
    /// For each unknown its variable and its index there.
    pub cells: Vec<(VarId, usize)>,
    /// For each clue where it comes from.
    pub sources: Vec<Source>,
    by_place: Arc<HashMap<usize, u32>>,
    /// What was told, with the clue that it became, if it became one.
    said: HashMap<(usize, i64, i64), Option<usize>>,
    /// For each item of a reader what it said last, with its clue.
    said_last: Vec<Option<(i64, Option<usize>)>>,
    /// From what the items were read.
    watched: Watched,
}

impl Known {
    /// What is known at the last of these positions, the first being where play began.
    ///
    /// # Errors
    ///
    /// [`NotCounts`].
    pub fn new(b: &Bound, sights: &[Sight]) -> Result<Known, NotCounts> {
        let model = &b.model;
        changed(model)?;
        let mut known = Known::default();
        let mut by_place = HashMap::new();
        for v in hidden_vars(b) {
            let def = &model.vars[v];
            if def.dom.scalar() != Scalar::Bool || def.has_fixed_values() {
                return Err(NotCounts::NotBool(def.name.clone()));
            }
            for (i, w) in bool_weights(b, v)?.into_iter().enumerate() {
                by_place.insert(b.slots[v].base + i, known.places.len() as u32);
                known.places.push(b.slots[v].base + i);
                known.cells.push((v, i));
                known.system.weights.push(w);
                known.system.fixed.push(match w {
                    (0, _) => Some(false),
                    (_, 0) => Some(true),
                    _ => None,
                });
            }
        }
        known.by_place = by_place.into();
        let mut reader = Reader::new(b, &known)?;
        known.said_last = vec![None; reader.items.len()];
        known.watched = Watched::new(reader.items.len());
        for v in hidden_vars(b) {
            let Some(with) = model.vars[v].prior.as_ref().and_then(|p| p.with.as_ref()) else { continue };
            let count = exact_count(b, v).is_some();
            let parts = conjuncts_of(with);
            let mut s = Symbolic::new(b, Arc::clone(&known.by_place));
            for part in &parts {
                let mut frame = vec![0; part.locals.len()];
                let f = s.formula(&part.expr, &mut frame)?;
                let whole = |f: &Formula| matches!(f, Formula::In(l, ..) if l.terms.len() > 1 && l.terms.len() == b.slots[v].len);
                let is_total = count && known.system.total.is_none() && whole(&f);
                if is_total {
                    known.system.total = Some(known.system.clues.len());
                }
                known.assert(f, true, &if is_total { Source::Total } else { Source::Prior })?;
            }
        }
        for sight in sights {
            known.see_by(&mut reader, sight)?;
        }
        Ok(known)
    }

    /// Adds what is told at one more position, the one after those before.
    ///
    /// # Errors
    ///
    /// [`NotCounts`].
    pub fn see(&mut self, b: &Bound, sight: &Sight) -> Result<(), NotCounts> {
        self.see_by(&mut Reader::new(b, self)?, sight)
    }

    /// The same by a reader that was made for this knowledge. What would be read as before is not read again.
    ///
    /// # Errors
    ///
    /// [`NotCounts`].
    pub(crate) fn see_by(&mut self, reader: &mut Reader<'_>, sight: &Sight) -> Result<(), NotCounts> {
        let (b, model) = (reader.b(), &reader.b().model);
        for source in &mut self.sources {
            if let Source::Told { ago, .. } = source {
                *ago += 1;
            }
        }
        self.watched.turn_to(&sight.state);
        reader.symbolic.eval.look_at(&sight.state);
        let goes_on = sight.state[b.ended_at()] == 0;
        for item in 0..reader.items.len() {
            match reader.items[item].clone() {
                Item::Tell { tell, element, place } => {
                    let Some(value) = sight.told[tell].get(place).copied().flatten() else { continue };
                    let is_lasting = reader.lasting[tell];
                    let mut clue = None;
                    if let Some((said, before)) = self.said_last[item]
                        && said == value
                        && !self.watched.is_stale(item)
                    {
                        clue = Some(before);
                    } else if is_lasting {
                        // The same said again is no new clue; it is a clue of now.
                        clue = self.said.get(&(tell, element, value)).copied();
                    }
                    if let Some(clue) = clue {
                        if let Some(Some(Source::Told { ago, .. })) = clue.map(|c| self.sources.get_mut(c)) {
                            *ago = 0;
                        }
                        self.said_last[item] = Some((value, clue));
                        continue;
                    }
                    let source = Source::Told { tell, element, value, ago: 0 };
                    let s = &mut reader.symbolic;
                    s.eval.note();
                    let f = s.says(&model.tells[tell], element, value)?;
                    self.watched.worked_out(item, s.eval.noted());
                    let before = self.sources.len();
                    self.assert(f, true, &source)?;
                    let clue = (self.sources.len() > before).then_some(before);
                    self.said.insert((tell, element, value), clue);
                    self.said_last[item] = Some((value, clue));
                }
                Item::Condition { condition, is_law, .. } => {
                    // The game is seen to go on.
                    if !self.watched.is_stale(item) || !is_law && !goes_on {
                        continue;
                    }
                    let source = if is_law { Source::Law } else { Source::GoesOn };
                    let s = &mut reader.symbolic;
                    s.eval.note();
                    let (f, truth) = condition.formula(s)?;
                    self.watched.worked_out(item, s.eval.noted());
                    self.assert(f, truth, &source)?;
                }
            }
        }
        Ok(())
    }

    /// The clues, were this seen next; what is known stays as it is.
    ///
    /// # Errors
    ///
    /// [`NotCounts`].
    pub(crate) fn system_with(&self, reader: &mut Reader<'_>, sight: &Sight) -> Result<System, NotCounts> {
        let (b, model) = (reader.b(), &reader.b().model);
        let stale = self.watched.stale_in(&sight.state);
        reader.symbolic.eval.look_at(&sight.state);
        let goes_on = sight.state[b.ended_at()] == 0;
        let mut next = Known { system: self.system.clone(), ..Known::default() };
        for (item, stale) in stale.into_iter().enumerate() {
            let (f, truth) = match reader.items[item].clone() {
                Item::Tell { tell, element, place } => {
                    let Some(value) = sight.told[tell].get(place).copied().flatten() else { continue };
                    let as_before = !stale && self.said_last[item].is_some_and(|(said, _)| said == value);
                    let is_lasting = reader.lasting[tell];
                    if as_before || is_lasting && self.said.contains_key(&(tell, element, value)) {
                        continue;
                    }
                    (reader.symbolic.says(&model.tells[tell], element, value)?, true)
                }
                Item::Condition { condition, is_law, .. } => {
                    if !stale || !is_law && !goes_on {
                        continue;
                    }
                    condition.formula(&mut reader.symbolic)?
                }
            };
            next.assert(f, truth, &Source::Law)?;
        }
        Ok(next.system)
    }

    /// The unknown at a place of the state.
    #[must_use]
    pub fn cell_at(&self, place: usize) -> Option<u32> {
        self.by_place.get(&place).copied()
    }

    /// A clue in words.
    #[must_use]
    pub fn clue_text(&self, b: &Bound, clue: usize) -> String {
        match &self.sources[clue] {
            Source::Told { tell, element, value, ago } => {
                let t = &b.model.tells[*tell];
                let at = match &t.over {
                    Some((_, Range::Board)) => format!(" at {}", cell_name(*element as usize, b.cols)),
                    Some(_) => format!(" {element}"),
                    None => String::new(),
                };
                let value =
                    t.value.ty.scalar().map_or(value.to_string(), |s| b.scalar_text(s, *value, false));
                let ago = match ago {
                    0 => String::new(),
                    1 => " (seen a move ago)".into(),
                    n => format!(" (seen {n} moves ago)"),
                };
                format!("{value}{at}{ago}")
            }
            Source::Total => {
                let c = &self.system.clues[clue];
                format!("{} in all", c.lo)
            }
            Source::Prior => "what is known beforehand".into(),
            Source::Law => "a law of the model".into(),
            Source::GoesOn => "the game goes on".into(),
        }
    }

    fn push(&mut self, lin: &Lin, lo: i64, hi: i64, source: &Source) {
        let (mut least, mut most) = (0, 0);
        for k in lin.terms.values() {
            least += (*k).min(0);
            most += (*k).max(0);
        }
        let (lo, hi) = ((lo - lin.k).max(least), (hi - lin.k).min(most));
        // One cell alone is a fact.
        if let (1, Some((&c, &k))) = (lin.terms.len(), lin.terms.first_key_value()) {
            let can = |v: i64| v * k >= lo && v * k <= hi;
            let fixed = &mut self.system.fixed[c as usize];
            match (can(0), can(1)) {
                (true, true) => return,
                (false, true) if *fixed != Some(false) => {
                    *fixed = Some(true);
                    return;
                }
                (true, false) if *fixed != Some(true) => {
                    *fixed = Some(false);
                    return;
                }
                _ => {}
            }
        }
        let cells = lin.terms.iter().map(|(c, k)| (*c, *k as i32)).collect();
        self.system.clues.push(Clue { cells, lo, hi });
        self.sources.push(source.clone());
    }

    fn assert(&mut self, f: Formula, truth: bool, source: &Source) -> Result<(), NotCounts> {
        match (f, truth) {
            (Formula::Const(v), truth) => {
                if v != truth {
                    // Nothing agrees with this.
                    self.system.clues.push(Clue { cells: vec![], lo: 1, hi: 1 });
                    self.sources.push(source.clone());
                }
                Ok(())
            }
            (Formula::Not(f), truth) => self.assert(*f, !truth, source),
            (Formula::And(parts), true) => parts.into_iter().try_for_each(|p| self.assert(p, true, source)),
            (Formula::Or(parts), false) => parts.into_iter().try_for_each(|p| self.assert(p, false, source)),
            (Formula::In(lin, lo, hi), true) => {
                self.push(&lin, lo, hi, source);
                Ok(())
            }
            (Formula::In(lin, lo, hi), false) => {
                let (mut least, mut most) = (lin.k, lin.k);
                for k in lin.terms.values() {
                    least += (*k).min(0);
                    most += (*k).max(0);
                }
                if lo <= least {
                    self.push(&lin, hi + 1, FAR, source);
                } else if hi >= most {
                    self.push(&lin, -FAR, lo - 1, source);
                } else {
                    return Err(NotCounts::Told("what is told not to be so".into()));
                }
                Ok(())
            }
            // Not all of them, or at least one: a sum as well.
            (Formula::And(parts) | Formula::Or(parts), truth) => {
                let many = parts.len() as i64;
                let mut sum = Lin::num(0);
                for p in &parts {
                    match p.indicator() {
                        Some(l) => sum = sum.add(&l, 1),
                        None => return Err(NotCounts::Told("what is told".into())),
                    }
                }
                if truth {
                    self.push(&sum, 1, FAR, source);
                } else {
                    self.push(&sum, -FAR, many - 1, source);
                }
                Ok(())
            }
        }
    }
}

/// Whether an expression reads the state beside what is hidden.
fn reads_now(model: &Model, e: &Expr) -> bool {
    let mut reads = false;
    let mut fns = vec![];
    e.each(&mut |e| match &e.kind {
        Ek::Var(_, v) => reads |= model.vars[*v].state && !model.vars[*v].hidden,
        Ek::Call(f, _) => fns.push(*f),
        _ => {}
    });
    reads || fns.into_iter().any(|f| reads_now(model, &model.fns[f].body))
}

/// An error when any rule, or the setup, changes what is hidden.
fn changed(model: &Model) -> Result<(), NotCounts> {
    let mut bad = None;
    let mut look = |block: &[Stmt]| {
        for s in block {
            s.each(&mut |s| {
                for v in s.written() {
                    if model.vars[v].hidden {
                        bad = Some(model.vars[v].name.clone());
                    }
                }
            });
        }
    };
    model.moves.iter().for_each(|m| look(&m.body));
    model.procs.iter().chain(&model.after).for_each(|p| look(&p.body));
    model.ticks.iter().for_each(|t| look(&t.body.body));
    if let Some(s) = &model.setup {
        look(&s.body.body);
    }
    if let Some(v) = model.vars.iter().find(|v| v.untold) {
        return Err(NotCounts::Changed(v.name.clone()));
    }
    bad.map_or(Ok(()), |v| Err(NotCounts::Changed(v)))
}

impl Known {
    /// In which ways a move can lose the game or not, by the hidden cells that decide. `None` where that is
    /// not followed.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub(crate) fn ways(
        &self,
        eval: &mut Eval<'_>,
        danger: &Danger<'_>,
        state: &[i32],
        (of, params): (usize, &[i64]),
        fixed: &Arc<HashMap<usize, i32>>,
    ) -> Result<Option<Vec<Way>>, RunFault> {
        let (body, after, status) = danger.part(of);
        let ways = eval.ways_to_lose(state, (of, params), (body, &after, status), fixed, WAYS_MAX)?;
        Ok(ways.and_then(|ways| {
            ways.into_iter()
                .map(|w| {
                    let cells: Option<Vec<(u32, bool)>> =
                        w.reads.iter().map(|(p, v)| Some((self.cell_at(*p)?, *v != 0))).collect();
                    Some(Way { cells: cells?, lost: w.lost, chance: (w.chance.num, w.chance.den) })
                })
                .collect()
        }))
    }
}
