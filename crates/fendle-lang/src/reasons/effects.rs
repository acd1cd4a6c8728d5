//! What the moves can do to single values, whatever the state: every effect that the rules and the types allow.
//!
//! A move is run on a state of which nothing is known. A value is settled when it is read or written, in every way that its
//! type allows; a test for equality settles only whether it holds. So a rule that reads a few cells has few effects on
//! a board of any size, and a rule that reads the whole board has too many: then nothing is claimed.
//!
//! The effects hold for all typed states, reachable or not, which is more than a reachable state can do. What they
//! keep is proved.

use std::collections::{BTreeMap, BTreeSet};

use crate::model::*;
use crate::run::move_list;
pub use crate::run::ways::Change;
use crate::run::{Eval, Followed, OpenValue};
use crate::state::Bound;
use crate::syntax::tree::QuantKind;

/// Ways through the moves above which effects are not followed, while a level is loaded or solved.
pub const QUICK_WAYS: usize = 6_000;
/// The same before a search for a solution: about a second.
pub const SOLVE_WAYS: usize = 100_000;
/// The same when the question is why.
pub const WAYS_MAX: usize = 400_000;
/// Ways in which a goal can hold that are told apart.
const GOAL_WAYS: usize = 2_000;

/// All effects of the moves, each once; a move that changes nothing has none.
#[derive(Clone, Debug, Default)]
pub struct Effects {
    /// The changes of each effect, by place.
    pub list: Vec<Vec<Change>>,
}

impl Effects {
    /// The effects of all moves of a bound model. `None` when there are more than `most` ways, when something is read that
    /// is not followed (lists, other moves), or when `stop`, which is asked now and then, says so.
    #[must_use]
    pub fn of(b: &Bound, most: usize, stop: &mut dyn FnMut() -> bool) -> Option<Effects> {
        if b.model.cuts {
            return None;
        }
        let mut list: BTreeSet<Vec<Change>> = BTreeSet::new();
        let (mut left, mut asked) = (most, 0u64);
        for (of, params) in move_list(b).ok()? {
            let followed = Eval::new(b).open_ways(of, &params, &mut |way, cost| {
                left = left.saturating_sub(cost);
                asked += 1;
                if let Followed::Made(way) = way {
                    let mut changes: Vec<Change> = way
                        .seen
                        .iter()
                        .filter(|(at, was)| way.after[*at] != *was)
                        .map(|(at, was)| (*at, *was, way.after[*at]))
                        .collect();
                    changes.sort_unstable();
                    if !changes.is_empty() {
                        list.insert(changes);
                    }
                }
                left > 0 && !(asked % 1024 == 0 && stop())
            });
            if !followed {
                return None;
            }
        }
        Some(Effects { list: list.into_iter().collect() })
    }

    /// The effects seen on transitions of a space: pairs of states.
    pub fn seen(pairs: impl Iterator<Item = (Vec<i32>, Vec<i32>)>, most: usize) -> Option<Effects> {
        let mut list: BTreeSet<Vec<Change>> = BTreeSet::new();
        for (from, to) in pairs {
            let changes: Vec<Change> =
                (0..from.len()).filter(|i| from[*i] != to[*i]).map(|i| (i, from[i], to[i])).collect();
            if !changes.is_empty() {
                list.insert(changes);
            }
            if list.len() > most {
                return None;
            }
        }
        Some(Effects { list: list.into_iter().collect() })
    }
}

/// The state variable that each place of a state belongs to; `None` for what ends the game.
pub(crate) fn var_of_places(b: &Bound) -> Vec<Option<VarId>> {
    let mut out = vec![None; b.start.len()];
    for (v, _) in b.model.variables().filter(|(_, def)| def.state) {
        let slot = &b.slots[v];
        out[slot.base..slot.base + slot.len].fill(Some(v));
    }
    out
}

/// Whether the values of a rearranged grid all differ, so that an arrangement is odd or even.
pub(crate) fn has_sign(b: &Bound, v: VarId) -> bool {
    let slot = &b.slots[v];
    let mut values = b.start[slot.base..slot.base + slot.len].to_vec();
    values.sort_unstable();
    b.model.vars[v].rearranged.is_some() && values.windows(2).all(|w| w[0] != w[1])
}

/// Whether a change of a rearranged grid, given by its places, is an odd rearrangement. `None` when it is none.
pub(crate) fn is_odd(changes: &[Change]) -> Option<bool> {
    let from: BTreeMap<i32, usize> = changes.iter().enumerate().map(|(i, c)| (c.1, i)).collect();
    let to: Vec<usize> = changes.iter().map(|c| from.get(&c.2).copied()).collect::<Option<_>>()?;
    if from.len() != changes.len() || to.iter().collect::<BTreeSet<_>>().len() != to.len() {
        return None;
    }
    let mut odd = false;
    for i in 0..to.len() {
        for j in 0..i {
            odd ^= to[j] > to[i];
        }
    }
    Some(odd)
}

/// What each way in which the game can be won pins down: places and their values. `None` when that is not known: when
/// there are too many ways, or a statement can win.
#[must_use]
pub fn goal_ways(b: &Bound) -> Option<Vec<BTreeMap<usize, i32>>> {
    goal_ways_told(b).map(|w| w.0)
}

/// The same, and whether a state that holds one of them is won for sure: no test rules out more.
pub(crate) fn goal_ways_told(b: &Bound) -> Option<(Vec<BTreeMap<usize, i32>>, bool)> {
    let model = &b.model;
    if model.wins_by_statement() {
        return None;
    }
    let (mut out, mut exact) = (vec![], true);
    for s in model.statuses.iter().filter(|s| model.endings[s.ending].kind == EndKind::Goal) {
        let frame = vec![0; s.cond.locals.len()];
        let ways = Eval::new(b).open_values_told(&s.cond.expr, &frame, GOAL_WAYS)?;
        for ((seen, value), is_all) in ways {
            if value != 0 {
                out.push(seen.into_iter().collect());
                exact &= is_all;
            }
        }
    }
    Some((out, exact))
}

/// A sum of weights of single values, and of the signs of rearranged grids; modulo a number, or exact.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Form {
    /// What a value at a place counts.
    pub weights: BTreeMap<(usize, i32), i64>,
    /// What an odd arrangement counts.
    pub signs: BTreeMap<VarId, i64>,
    /// The modulus.
    pub modulus: Option<i64>,
}

impl Form {
    /// Reads a quantity as such a sum, if it is one.
    #[must_use]
    pub fn of(b: &Bound, quantity: &Body) -> Option<Form> {
        let mut form = Form::default();
        let mut e = &quantity.expr;
        let frame = vec![0; quantity.locals.len()];
        if let Ek::Arith(Arith::Mod, inner, m) = &e.kind {
            form.modulus = Some(known(b, m, &frame).filter(|m| *m > 0)?);
            e = inner;
        }
        form.add(b, e, &frame, 1)?;
        form.weights.retain(|_, w| *w != 0);
        Some(form)
    }

    fn add(&mut self, b: &Bound, e: &Expr, frame: &[i64], by: i64) -> Option<()> {
        match &e.kind {
            Ek::Arith(Arith::Add, x, y) => {
                self.add(b, x, frame, by)?;
                self.add(b, y, frame, by)
            }
            Ek::Arith(Arith::Sub, x, y) => {
                self.add(b, x, frame, by)?;
                self.add(b, y, frame, by.checked_neg()?)
            }
            Ek::Neg(x) => self.add(b, x, frame, by.checked_neg()?),
            Ek::Arith(Arith::Mul, x, y) => match (known(b, x, frame), known(b, y, frame)) {
                (Some(k), _) => self.add(b, y, frame, by.checked_mul(k)?),
                (_, Some(k)) => self.add(b, x, frame, by.checked_mul(k)?),
                _ => None,
            },
            Ek::Builtin(Builtin::Parity, args) => {
                let Ek::Var(When::Now, v) = args[0].kind else { return None };
                if has_sign(b, v) {
                    *self.signs.entry(v).or_default() += by;
                    return Some(());
                }
                None
            }
            Ek::Call(f, args) if args.is_empty() => {
                let def = &b.model.fns[*f];
                self.add(b, &def.body, &vec![0; def.locals.len()], by)
            }
            Ek::Quant(q) if matches!(q.kind, QuantKind::Count | QuantKind::Sum) => {
                // What it runs over must not depend on the state, unless it is the members of a set.
                let (over, members) = match &q.over {
                    Range::Board => (Range::Board, None),
                    Range::Cells(set) => match set.kind {
                        Ek::Var(When::Now, v) if b.model.vars[v].state => (Range::Board, Some(v)),
                        Ek::Var(_, v) if !b.model.vars[v].state => (q.over.clone(), None),
                        _ => return None,
                    },
                    other @ (Range::Enum(_) | Range::Dirs(_)) => (other.clone(), None),
                    Range::Ints(lo, hi) => {
                        known(b, lo, frame)?;
                        known(b, hi, frame)?;
                        (q.over.clone(), None)
                    }
                    _ => return None,
                };
                let one = Expr { kind: Ek::Const(1), ty: Ty::Int, span: e.span };
                let mut body = q.body.clone().filter(|_| q.kind == QuantKind::Sum).unwrap_or(one);
                let none = Expr { kind: Ek::Const(0), ty: Ty::Int, span: e.span };
                let mut conds: Vec<Expr> = q.filter.iter().cloned().collect();
                if let Some(v) = members {
                    let var = Expr { kind: Ek::Var(When::Now, v), ty: Ty::Set, span: e.span };
                    let at = Expr { kind: Ek::Local(q.local), ty: Ty::Cell, span: e.span };
                    let index = Ek::Index(Box::new(var), Box::new(at));
                    conds.push(Expr { kind: index, ty: Ty::Bool, span: e.span });
                }
                for c in conds {
                    let kind = Ek::Cond(Box::new(c), Box::new(body), Box::new(none.clone()));
                    body = Expr { kind, ty: Ty::Int, span: e.span };
                }
                let mut frame = frame.to_vec();
                for x in Eval::new(b).range_in(&over, &frame).ok()? {
                    frame[q.local] = x;
                    self.leaf(b, &body, &frame, by)?;
                }
                Some(())
            }
            _ => self.leaf(b, e, frame, by),
        }
    }

    /// An expression that depends on one value of the state, or on where the one value stands that a rearranged grid holds
    /// once.
    fn leaf(&mut self, b: &Bound, e: &Expr, frame: &[i64], by: i64) -> Option<()> {
        let ways = Eval::new(b).open_values(e, frame, 4096)?;
        let places: BTreeSet<usize> = ways.iter().flat_map(|w| w.0.iter().map(|r| r.0)).collect();
        let mut put = |at: usize, value: i32, weight: i64| -> Option<()> {
            let w = self.weights.entry((at, value)).or_default();
            *w = w.checked_add(by.checked_mul(weight)?)?;
            Some(())
        };
        if places.len() <= 1 {
            let Some(at) = places.first().copied() else { return Some(()) };
            let rest: BTreeSet<i64> = ways.iter().filter(|w| w.0.is_empty()).map(|w| w.1).collect();
            if rest.len() > 1 {
                return None;
            }
            let v = var_of_places(b)[at]?;
            for value in values_of(b, v) {
                let told = ways.iter().find(|w| w.0.first().is_some_and(|r| r.1 == value));
                put(at, value, told.map(|w| w.1).or(rest.first().copied())?)?;
            }
            return Some(());
        }
        // Each way says at which place the one value stands.
        let (at, value) = *ways.first()?.0.first()?;
        let v = var_of_places(b)[at]?;
        let slot = &b.slots[v];
        let start = &b.start[slot.base..slot.base + slot.len];
        let once = b.model.vars[v].rearranged.is_some() && start.iter().filter(|x| **x == value).count() == 1;
        let plain = |w: &OpenValue| {
            w.0.len() == 1 && w.0[0].1 == value && w.0[0].0 >= slot.base && w.0[0].0 < slot.base + slot.len
        };
        if !once || places.len() != slot.len || ways.len() != slot.len || !ways.iter().all(plain) {
            return None;
        }
        for (reads, weight) in ways {
            put(reads[0].0, value, weight)?;
        }
        Some(())
    }

    /// Whether no effect changes it.
    #[must_use]
    pub fn is_kept_by(&self, b: &Bound, effects: &Effects) -> bool {
        let vars = var_of_places(b);
        effects.list.iter().all(|changes| {
            let weight =
                |at: usize, value: i32| i128::from(self.weights.get(&(at, value)).copied().unwrap_or(0));
            let mut sum: i128 =
                changes.iter().map(|(at, was, is)| weight(*at, *is) - weight(*at, *was)).sum();
            for (v, by) in &self.signs {
                let here: Vec<Change> = changes.iter().copied().filter(|c| vars[c.0] == Some(*v)).collect();
                match is_odd(&here) {
                    Some(false) => {}
                    // From odd to even it falls, from even to odd it rises: the same only modulo 2.
                    Some(true) if self.modulus == Some(2) => sum += i128::from(*by),
                    _ => return false,
                }
            }
            match self.modulus {
                Some(m) => sum.rem_euclid(m.into()) == 0,
                None => sum == 0,
            }
        })
    }
}

/// The value of an expression that does not depend on the state.
fn known(b: &Bound, e: &Expr, frame: &[i64]) -> Option<i64> {
    let ways = Eval::new(b).open_values(e, frame, 1)?;
    ways.first().filter(|w| w.0.is_empty()).map(|w| w.1)
}

/// The values that a variable can hold at one place.
pub(crate) fn values_of(b: &Bound, v: VarId) -> Vec<i32> {
    let (def, slot) = (&b.model.vars[v], &b.slots[v]);
    if def.rearranged.is_some() {
        let mut values = b.start[slot.base..slot.base + slot.len].to_vec();
        values.sort_unstable();
        values.dedup();
        return values;
    }
    if !slot.active {
        return vec![slot.pad() as i32];
    }
    let none = slot.maybe.then_some(NONE as i32);
    none.into_iter().chain(slot.lo as i32..=slot.hi as i32).collect()
}
