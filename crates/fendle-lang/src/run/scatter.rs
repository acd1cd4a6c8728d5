//! Layouts of hidden variables: all of them with their weights, or one by seed.
//!
//! A prior is uniform over the layouts that satisfy its `with`, or gives every value weights of its own
//! (`each`). Where `with` fixes how many cells of a grid of bools are true, only such layouts are tried.

use crate::model::*;
use crate::run::setup::{Dice, NoStart};
use crate::run::{Eval, RunFault};
use crate::state::Bound;
use crate::syntax::tree::QuantKind;

/// States with weights.
pub type WeightedStates = Vec<(Vec<i32>, u64)>;

/// Most layouts that are tried for an enumeration.
pub const TRIED_MAX: u64 = 1 << 22;
/// Attempts at one layout.
const ATTEMPTS: u64 = 100_000;

/// How many cells of a hidden grid of bools are true, where its `with` says so.
#[must_use]
pub fn exact_count(b: &Bound, var: VarId) -> Option<i64> {
    let with = b.model.vars[var].prior.as_ref()?.with.as_ref()?;
    let counts = |e: &Expr| match &e.kind {
        Ek::Quant(q) if q.kind == QuantKind::Count && matches!(q.over, Range::Board) => match &q.filter {
            Some(Expr { kind: Ek::Index(base, at), .. }) => {
                matches!(base.kind, Ek::Var(When::Now, v) if v == var)
                    && matches!(at.kind, Ek::Local(l) if l == q.local)
            }
            _ => false,
        },
        _ => false,
    };
    conjuncts_of(with).iter().find_map(|part| match &part.expr.kind {
        Ek::Cmp(Cmp::Eq, x, y) => {
            let other = match (counts(x), counts(y)) {
                (true, false) => y,
                (false, true) => x,
                _ => return None,
            };
            let mut level = true;
            other.each(&mut |e| level &= !matches!(e.kind, Ek::Var(_, v) if b.model.vars[v].state));
            if level { Eval::new(b).lone(other).ok() } else { None }
        }
        _ => None,
    })
}

/// The hidden variables of a bound model that hold anything.
pub fn hidden_vars(b: &Bound) -> impl Iterator<Item = VarId> + '_ {
    b.model.var_ids().filter(|&v| b.model.vars[v].hidden && b.slots[v].active)
}

/// The state in which layouts are laid: with the lists of the position, where that is given and not drawn.
fn ground(b: &Bound) -> Vec<i32> {
    let mut state = b.start.clone();
    for v in hidden_vars(b).filter(|v| b.model.vars[*v].shuffled.is_some() && !b.drawn) {
        let part = b.slots[v].base..b.slots[v].base + b.slots[v].len;
        state[part.clone()].copy_from_slice(&b.position[part]);
    }
    state
}

/// The weights of the values of one place, in the order of the values: uniform without `each`.
fn weights(b: &Bound, var: VarId, at: usize) -> Result<Vec<(i32, u64)>, RunFault> {
    let slot = &b.slots[var];
    let each = b.model.vars[var].prior.as_ref().and_then(|p| p.each.as_ref());
    let Some((values, locals)) = each else {
        let none = slot.maybe.then_some((NONE as i32, 1));
        return Ok(none.into_iter().chain((slot.lo..=slot.hi).map(|v| (v as i32, 1))).collect());
    };
    let mut eval = Eval::new(b);
    let mut out: Vec<(i32, u64)> = vec![];
    for (v, w) in values {
        let (v, w) = eval.weighted_at(v, w, locals.len(), at as i64)?;
        if w > 0 {
            match out.iter_mut().find(|(x, _)| i64::from(*x) == v) {
                Some((_, sum)) => *sum += w,
                None => out.push((v as i32, w)),
            }
        }
    }
    Ok(out)
}

/// The chance weights of `true` and `false` at each place of a hidden grid of bools.
///
/// # Errors
///
/// A model fault.
pub fn bool_weights(b: &Bound, var: VarId) -> Result<Vec<(u64, u64)>, RunFault> {
    (0..b.slots[var].len)
        .map(|at| {
            let w = weights(b, var, at)?;
            let of = |v: i32| w.iter().find(|(x, _)| *x == v).map_or(0, |(_, w)| *w);
            Ok((of(1), of(0)))
        })
        .collect()
}

fn holds(b: &Bound, var: VarId, state: &[i32]) -> Result<bool, RunFault> {
    match b.model.vars[var].prior.as_ref().and_then(|p| p.with.as_ref()) {
        Some(with) => Ok(Eval::new(b).value_in(with, state)? != 0),
        None => Ok(true),
    }
}

/// All layouts of everything hidden, as starts with weights. `None` when there are more than `most`, or too
/// many would have to be tried.
///
/// # Errors
///
/// A model fault.
pub fn layouts(b: &Bound, most: usize) -> Result<Option<WeightedStates>, RunFault> {
    let ground = ground(b);
    let mut out = vec![(ground.clone(), 1u64)];
    for var in hidden_vars(b) {
        let part = b.hidden_places(var, &ground);
        let mut next = vec![];
        for (state, weight) in &out {
            let mut tried = 0u64;
            let mut go = |layout: &[i32], w: u64| -> Result<bool, RunFault> {
                tried += 1;
                Eval::new(b).go_on(b.model.vars[var].span)?;
                let mut s = state.clone();
                s[part.clone()].copy_from_slice(layout);
                if holds(b, var, &s)? {
                    next.push((s, weight.saturating_mul(w)));
                }
                Ok(tried <= TRIED_MAX && next.len() <= most)
            };
            if !each_layout(b, var, &ground[part.clone()], &mut go)? {
                return Ok(None);
            }
        }
        out = next;
    }
    Ok((out.len() <= most).then_some(out))
}

/// Layouts between two questions whether to stop.
const ASKED_AFTER: usize = 1 << 12;

/// The layouts of a rearranged grid of names, each once for all that differ only in names of one group; all weigh the same.
/// `None` when there are more than `most`, or where `stop` says so, which is asked now and then.
#[must_use]
pub fn layouts_by_names(
    b: &Bound,
    var: VarId,
    groups: &[Vec<i32>],
    (most, stop): (usize, &dyn Fn() -> bool),
) -> Option<WeightedStates> {
    struct Go<'g> {
        groups: &'g [Vec<i32>],
        /// For each group how many of each name are left, and how many names have been used.
        left: Vec<Vec<usize>>,
        used: Vec<usize>,
        layout: Vec<i32>,
        out: Vec<Vec<i32>>,
        most: usize,
        stop: &'g dyn Fn() -> bool,
    }
    impl Go<'_> {
        fn from(&mut self, at: usize) -> bool {
            if at == self.layout.len() {
                self.out.push(self.layout.clone());
                let asks = self.out.len().is_multiple_of(ASKED_AFTER);
                return self.out.len() <= self.most && !(asks && (self.stop)());
            }
            for g in 0..self.groups.len() {
                // Those that were met, and the next one.
                for i in 0..self.groups[g].len().min(self.used[g] + 1) {
                    if self.left[g][i] == 0 {
                        continue;
                    }
                    let fresh = i == self.used[g];
                    self.layout[at] = self.groups[g][i];
                    self.left[g][i] -= 1;
                    self.used[g] += usize::from(fresh);
                    let more = self.from(at + 1);
                    self.used[g] -= usize::from(fresh);
                    self.left[g][i] += 1;
                    if !more {
                        return false;
                    }
                }
            }
            true
        }
    }
    let slot = &b.slots[var];
    let part = &b.start[slot.base..slot.base + slot.len];
    let often = |x: &i32| part.iter().filter(|y| *y == x).count();
    let mut go = Go {
        groups,
        left: groups.iter().map(|g| g.iter().map(often).collect()).collect(),
        used: vec![0; groups.len()],
        layout: part.to_vec(),
        out: vec![],
        most,
        stop,
    };
    if !go.from(0) {
        return None;
    }
    let state = |layout: Vec<i32>| {
        let mut s = b.start.clone();
        s[slot.base..slot.base + slot.len].copy_from_slice(&layout);
        (s, 1)
    };
    Some(go.out.into_iter().map(state).collect())
}

type Go<'g> = &'g mut dyn FnMut(&[i32], u64) -> Result<bool, RunFault>;

/// Tries every layout of one variable, of which some layout is given; false when `go` said to stop.
fn each_layout(b: &Bound, var: VarId, values: &[i32], go: Go<'_>) -> Result<bool, RunFault> {
    let slot = &b.slots[var];
    let mut layout = values.to_vec();
    if b.model.vars[var].has_fixed_values() {
        // Distinct arrangements in lexicographic order (Knuth, TAOCP 4A, algorithm L).
        layout.sort_unstable();
        loop {
            if !go(&layout, 1)? {
                return Ok(false);
            }
            let Some(i) = (1..layout.len()).rev().find(|&i| layout[i - 1] < layout[i]) else {
                return Ok(true);
            };
            let j = (i..layout.len()).rev().find(|&j| layout[j] > layout[i - 1]).unwrap_or(i);
            layout.swap(i - 1, j);
            layout[i..].reverse();
        }
    }
    let choices: Vec<Vec<(i32, u64)>> =
        (0..slot.len).map(|at| weights(b, var, at)).collect::<Result<_, _>>()?;
    let count = exact_count(b, var);
    fn fill(
        choices: &[Vec<(i32, u64)>],
        at: usize,
        left: Option<i64>,
        weight: u64,
        layout: &mut Vec<i32>,
        go: Go<'_>,
    ) -> Result<bool, RunFault> {
        let room = (choices.len() - at) as i64;
        if left.is_some_and(|n| n < 0 || n > room) {
            return Ok(true);
        }
        if at == choices.len() {
            return go(layout, weight);
        }
        for &(v, w) in &choices[at] {
            layout[at] = v;
            let left = left.map(|n| n - i64::from(v));
            if !fill(choices, at + 1, left, weight.saturating_mul(w), layout, go)? {
                return Ok(false);
            }
        }
        Ok(true)
    }
    fill(&choices, 0, count, 1, &mut layout, go)
}

/// A state that differs in one hidden place, or in two that are exchanged where the prior says how many of each value there are; chosen by the
/// dice. `None` where the places that were chosen hold the same, or the prior forbids the new layout.
///
/// # Errors
///
/// A model fault.
pub fn another_layout(b: &Bound, state: &[i32], dice: &mut Dice) -> Result<Option<Vec<i32>>, RunFault> {
    let vars: Vec<VarId> = hidden_vars(b).collect();
    if vars.is_empty() {
        return Ok(None);
    }
    let var = vars[dice.below(vars.len() as u64) as usize];
    let part = b.hidden_places(var, state);
    let mut out = state.to_vec();
    if part.is_empty() {
        return Ok(None);
    }
    let one = dice.below(part.len() as u64) as usize;
    if b.model.vars[var].has_fixed_values() || exact_count(b, var).is_some() {
        let other = dice.below(part.len() as u64) as usize;
        out.swap(part.start + one, part.start + other);
    } else {
        let choices = weights(b, var, one)?;
        if choices.is_empty() {
            return Ok(None);
        }
        out[part.start + one] = choices[dice.below(choices.len() as u64) as usize].0;
    }
    let fits = out != state && holds(b, var, &out)?;
    Ok(fits.then_some(out))
}

/// Draws a layout of every hidden variable that the level does not give, by the dice.
///
/// # Errors
///
/// [`NoStart`].
pub fn scatter(b: &Bound, dice: &mut Dice) -> Result<Vec<i32>, NoStart> {
    let mut state = b.start.clone();
    for var in hidden_vars(b).filter(|v| b.scattered.contains(v)) {
        let slot = b.slots[var].clone();
        let def = &b.model.vars[var];
        let plain = def.prior.as_ref().is_none_or(|p| p.each.is_none());
        let count = exact_count(b, var).filter(|n| plain && (0..=slot.len as i64).contains(n));
        let choices: Vec<Vec<(i32, u64)>> = if count.is_some() || def.has_fixed_values() {
            vec![]
        } else {
            (0..slot.len).map(|at| weights(b, var, at)).collect::<Result<_, _>>().map_err(NoStart::Fault)?
        };
        let mut attempts = 0;
        loop {
            attempts += 1;
            Eval::new(b).go_on(def.span).map_err(NoStart::Fault)?;
            let part = b.hidden_places(var, &b.start);
            if let Some(n) = count {
                state[part.clone()].fill(0);
                state[slot.base..slot.base + n as usize].fill(1);
            }
            if count.is_some() || def.has_fixed_values() {
                // Every order equally often (Fisher and Yates; Durstenfeld, 1964).
                for i in (1..part.len()).rev() {
                    let j = dice.below(i as u64 + 1) as usize;
                    state.swap(part.start + i, part.start + j);
                }
            } else {
                for (at, c) in choices.iter().enumerate() {
                    let w: Vec<u64> = c.iter().map(|c| c.1).collect();
                    if w.is_empty() {
                        return Err(NoStart::Dropped { attempts, at: def.span });
                    }
                    state[slot.base + at] = c[dice.pick(&w)].0;
                }
            }
            if holds(b, var, &state).map_err(NoStart::Fault)? {
                break;
            }
            if attempts == ATTEMPTS {
                return Err(NoStart::Dropped { attempts, at: def.span });
            }
        }
    }
    Ok(state)
}
