//! Laws: a turned or mirrored board must behave like the board itself.
//!
//! For a state and each of its moves: turning the board and then making the turned move must lead to
//! the turned outcomes, with the same chances, or be refused by the same statement. Level values turn
//! along. Only square boards can be turned. Runs on the reference executor.

use std::collections::BTreeMap;

use super::turned::Exchange;
use crate::model::*;
use crate::run::move_list;
use crate::run::{Eval, Outcome, RunFault};
use crate::state::Bound;
use crate::state::chance::Chance;

/// Turns or mirrors everything of one bound model.
pub struct Turner<'b> {
    b: &'b Bound,
    mirrored: bool,
    turned: Bound,
}

/// A state and a move on which a law does not hold.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Broken {
    /// The move, in words.
    pub moved: String,
    /// The turned move.
    pub turned: String,
    /// What happens on the board, and on the turned one.
    pub words: (String, String),
}

impl<'b> Turner<'b> {
    /// `None` where the board is not square, or holds what cannot be turned.
    #[must_use]
    pub fn new(b: &'b Bound, mirrored: bool) -> Option<Turner<'b>> {
        let model = &b.model;
        if b.rows == 0 || (b.rows != b.cols && !mirrored) {
            return None;
        }
        let fits = |def: &VarDef| {
            let keyed = |k: Keyed| matches!(k, Keyed::Row | Keyed::Column | Keyed::Pair(_));
            !matches!(def.shape, Extent::Array(k) | Extent::Lists(k, _) if keyed(k))
                && !matches!(
                    def.dom.scalar(),
                    Scalar::Placed(_)
                        | Scalar::Maybe(Base::Placed(_))
                        | Scalar::Record(_)
                        | Scalar::Maybe(Base::Record(_))
                )
        };
        if !model.vars.iter().all(fits) {
            return None;
        }
        let mut turner = Turner { b, mirrored, turned: b.clone() };
        let mut data = b.data.clone();
        for (v, def) in model.variables().filter(|(_, d)| !d.state) {
            turner.variable(v, def, &b.data, &mut data);
        }
        turner.turned.data = data;
        turner.turned.start = turner.state(&b.start);
        Some(turner)
    }

    /// A quarter turn clockwise, or left and right mirrored.
    fn exchange(&self) -> Exchange {
        Exchange { across: !self.mirrored, rows: false, columns: true }
    }

    fn cell(&self, c: i64) -> i64 {
        self.exchange().cell(self.b, c as i32).into()
    }

    fn scalar(&self, s: Scalar, v: i64) -> i64 {
        self.exchange().value(self.b, s, v as i32).map_or(v, i64::from)
    }

    fn variable(&self, v: VarId, def: &VarDef, from: &[i32], to: &mut [i32]) {
        let slot = &self.b.slots[v];
        let s = def.dom.scalar();
        let turn = |x: i32| self.scalar(s, x.into()) as i32;
        match def.shape {
            Extent::Grid | Extent::Set => {
                for c in 0..slot.len {
                    to[slot.base + self.cell(c as i64) as usize] = turn(from[slot.base + c]);
                }
            }
            Extent::One | Extent::Array(_) => {
                for i in slot.base..slot.base + slot.len {
                    to[i] = if slot.active { turn(from[i]) } else { from[i] };
                }
            }
            Extent::List(bag) | Extent::Lists(_, bag) => {
                for list in (slot.base..slot.base + slot.len).step_by(slot.cap + 1) {
                    let n = from[list] as usize;
                    to[list..=list + slot.cap].copy_from_slice(&from[list..=list + slot.cap]);
                    for x in &mut to[list + 1..=list + n] {
                        *x = turn(*x);
                    }
                    if bag {
                        to[list + 1..=list + n].sort_unstable();
                    }
                }
            }
        }
    }

    /// The turned state.
    #[must_use]
    pub fn state(&self, state: &[i32]) -> Vec<i32> {
        let mut out = state.to_vec();
        for (v, def) in self.b.model.variables().filter(|(_, d)| d.state) {
            self.variable(v, def, state, &mut out);
        }
        out
    }

    fn outcomes(&self, list: Vec<crate::run::Made>, turn: bool) -> BTreeMap<Vec<i32>, Chance> {
        let mut out: BTreeMap<Vec<i32>, Chance> = BTreeMap::new();
        for m in list {
            let state = if turn && !m.cut { self.state(&m.state) } else { m.state };
            let chance = out.get(&state).map_or(Some(m.chance), |c| c.or(m.chance));
            out.insert(state, chance.unwrap_or(m.chance));
        }
        out
    }

    /// The first move on which the law does not hold in a state.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub fn broken_at(&self, state: &[i32]) -> Result<Option<Broken>, RunFault> {
        let model = &self.b.model;
        let other = self.state(state);
        let mut here = Eval::new(self.b);
        let mut there = Eval::new(&self.turned);
        let (a, z) = (here.status(state)?, there.status(&other)?);
        let name = |of: usize, params: &[i64]| {
            let def = &model.moves[of];
            let words: Vec<String> = def
                .params
                .iter()
                .zip(params)
                .map(|(d, &v)| self.b.scalar_text(d.scalar(), v, false))
                .collect();
            format!("{} {}", def.name, words.join(" ")).trim_end().to_string()
        };
        if a != z {
            let words = |e: Option<usize>| {
                e.map_or("running".to_string(), |e| crate::state::ending_text(&model.endings[e]))
            };
            let none = "the status".to_string();
            return Ok(Some(Broken { moved: none.clone(), turned: none, words: (words(a), words(z)) }));
        }
        if a.is_some() {
            return Ok(None);
        }
        for (of, params) in move_list(self.b).unwrap_or_default() {
            let turned: Vec<i64> = model.moves[of]
                .params
                .iter()
                .zip(&params)
                .map(|(d, &v)| self.scalar(d.scalar(), v))
                .collect();
            let a = here.apply(state, of, &params)?;
            let z = there.apply(&other, of, &turned)?;
            let words = |o: &Outcome, b: &Bound| match o {
                Outcome::NotOffered => "not offered".to_string(),
                Outcome::Refused(site, _) => format!("refused: {}", model.refuses[*site].why),
                Outcome::Done(list) if list.len() == 1 => b.line(&list[0].state),
                Outcome::Done(list) => format!("{} ways, the first {}", list.len(), b.line(&list[0].state)),
            };
            let said = (words(&a, self.b), words(&z, &self.turned));
            let same = match (a, z) {
                (Outcome::Done(a), Outcome::Done(z)) => self.outcomes(a, true) == self.outcomes(z, false),
                (Outcome::Refused(a, _), Outcome::Refused(z, _)) => a == z,
                (Outcome::NotOffered, Outcome::NotOffered) => true,
                _ => false,
            };
            if !same {
                return Ok(Some(Broken { moved: name(of, &params), turned: name(of, &turned), words: said }));
            }
        }
        Ok(None)
    }
}
