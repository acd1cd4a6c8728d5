//! The moves of a model on one level: every move with every value of its parameters.

use crate::model::{Dom, Ek, Expr};
use crate::run::Eval;
use crate::state::Bound;

/// Most moves with their parameters filled in.
pub const MOVES_MAX: u64 = 1 << 16;

/// Why a bound model has no code.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TooLarge {
    /// More moves than can be numbered.
    Moves {
        /// How many there would be.
        given: u64,
    },
    /// More operations than are allowed.
    Operations,
}

/// All moves with their parameters filled in, in move order: (move, parameters). Moves that the level never offers are left out.
///
/// # Errors
///
/// [`TooLarge::Moves`] when there are too many.
pub fn move_list(b: &Bound) -> Result<Vec<(usize, Vec<i64>)>, TooLarge> {
    let mut out = vec![];
    let mut total = 0u64;
    for (of, def) in b.model.moves.iter().enumerate() {
        if def.offers.iter().any(|e| is_never(b, e)) {
            continue;
        }
        let ranges: Vec<(i64, i64)> = def.params.iter().map(|d| range_of(b, d)).collect();
        let count = ranges
            .iter()
            .try_fold(1u64, |n, (lo, hi)| n.checked_mul((hi - lo + 1).max(0) as u64))
            .unwrap_or(u64::MAX);
        total = total.saturating_add(count);
        if total > MOVES_MAX {
            return Err(TooLarge::Moves { given: total });
        }
        for mut n in 0..count {
            let mut params = vec![0; ranges.len()];
            for (p, (lo, hi)) in params.iter_mut().zip(&ranges).rev() {
                let len = (hi - lo + 1) as u64;
                *p = lo + (n % len) as i64;
                n /= len;
            }
            out.push((of, params));
        }
    }
    Ok(out)
}

/// Whether an offer has a part that reads nothing but the level, and does not hold there.
fn is_never(b: &Bound, offer: &Expr) -> bool {
    if let Ek::And(first, second) = &offer.kind {
        return is_never(b, first) || is_never(b, second);
    }
    let mut by_level = true;
    offer.each(&mut |e| {
        by_level &= match e.kind {
            Ek::Local(_)
            | Ek::Call(..)
            | Ek::Quant(_)
            | Ek::Flood(_)
            | Ek::Can(_)
            | Ek::Leads(..)
            | Ek::Asked(_) => false,
            Ek::Var(_, v) => !b.model.vars[v].state,
            _ => true,
        };
    });
    by_level && Eval::new(b).lone(offer) == Ok(0)
}

pub(crate) fn range_of(b: &Bound, dom: &Dom) -> (i64, i64) {
    let mut eval = Eval::new(b);
    match dom {
        Dom::First(_, count) => (0, eval.lone(count).unwrap_or(0) - 1),
        Dom::Range(lo, hi) => (eval.lone(lo).unwrap_or(0), eval.lone(hi).unwrap_or(-1)),
        Dom::Maybe(inner) => range_of(b, inner),
        _ => b.plain_range(dom),
    }
}
