//! Makes the leaps of a level: how its states lead to each other by number, from the ways of its moves.

use std::collections::BTreeSet;

use crate::code::Game;
use crate::code::ir::{Op, Role};
use crate::code::leaps::{Endings, Fields, LeapPlan, Leaps, Plain};
use crate::model::VarId;
use crate::run::Eval;
use crate::run::ways::{CanBe, Ways};
use crate::state::Keys;

/// Ways in which one ending can come about that are told apart.
const ENDING_WAYS: usize = 64;
/// Endings that are told apart: a status code is one byte.
const ENDINGS_MAX: usize = 250;
/// Digits on which a status may depend, above which it is not kept for each of them.
const KEPT_MAX: u64 = 1 << 26;

/// The leaps of a level. `None` where moves draw, where something is checked on each transition, where a statement ends the
/// game, or where too little is known of what the moves read.
#[must_use]
pub fn leaps(game: &Game, ways: &Ways, can: &CanBe, keys: &Keys) -> Option<LeapPlan> {
    let b = &game.bound;
    let ended = b.ended_at();
    if b.model.endings.len() > ENDINGS_MAX
        || !game.code.points.is_empty()
        || game.checked.contains(&true)
        || can.values[ended].len() > 1
    {
        return None;
    }
    let fields = Fields::of(keys);
    let open = || ways.list.iter().zip(&can.open).filter(|w| *w.1).map(|w| w.0);
    let ends = |changes: &[(usize, i32, i32)]| changes.iter().any(|c| c.0 == ended);
    let made = open().chain(ways.idle.iter().filter(|w| can.allows(&w.reads))).map(|way| Plain {
        of: way.of,
        reads: way.reads.clone(),
        changes: Some(way.changes.clone()).filter(|c| way.exact && !ends(c)),
    });
    let broken = ways.broken.iter().filter(|reads| can.allows(reads));
    let broken = broken.map(|reads| Plain { of: u32::MAX, reads: reads.clone(), changes: None });
    let forwards = Leaps::new(&fields, &can.values, made.chain(broken))?;
    let backwards = if open().all(|w| w.exact && !ends(&w.changes)) {
        let turned = open().map(|way| {
            let after = |at: usize, was: i32| way.changes.iter().find(|c| c.0 == at).map_or(was, |c| c.2);
            Plain {
                of: way.of,
                reads: way.reads.iter().map(|(at, was)| (*at, after(*at, *was))).collect(),
                changes: Some(way.changes.iter().map(|c| (c.0, c.2, c.1)).collect()),
            }
        });
        Leaps::new(&fields, &can.values, turned).filter(|l| !l.root.asks())
    } else {
        None
    };
    Some(LeapPlan { forwards, backwards, endings: endings(game, &fields, keys.range()) })
}

/// How the status of a state is found.
fn endings(game: &Game, fields: &Fields<'_>, range: u64) -> Endings {
    by_answers(game, fields).or_else(|| by_digits(game, fields, range)).unwrap_or(Endings::ByRules)
}

/// Each ending by what has to hold for it.
fn by_answers(game: &Game, fields: &Fields<'_>) -> Option<Endings> {
    let (b, model) = (&game.bound, &game.bound.model);
    if !model.always.is_empty() || b.drawn {
        return None;
    }
    let mut all = vec![];
    for s in &model.statuses {
        let frame = vec![0; s.cond.locals.len()];
        for ((seen, value), exact) in Eval::new(b).open_values_told(&s.cond.expr, &frame, ENDING_WAYS)? {
            if value == 0 {
                continue;
            }
            let Some((asks, known)) = fields.asks(&seen) else { continue };
            if !exact || !known {
                return None;
            }
            all.push((asks, s.ending as u32 + 1));
        }
    }
    Some(Endings::ByAnswers(all))
}

/// The digits on which all endings and laws depend, where these stand in a row and are few beside the range.
fn by_digits(game: &Game, fields: &Fields<'_>, range: u64) -> Option<Endings> {
    let mut read = BTreeSet::new();
    for program in [game.code.status, game.code.laws] {
        read.extend(places_read(game, program)?);
    }
    let holding: Vec<usize> = fields.holding(|at| read.contains(&at)).into_iter().collect();
    let (Some(first), Some(last)) = (holding.first(), holding.last()) else {
        return Some(Endings::ByDigits { stride: 1, len: 1 });
    };
    let (stride, _) = fields.stride(*first);
    let (end, digits) = fields.stride(*last);
    let len = end / stride * digits;
    // A status that is kept for nearly each state is found no faster than by asking.
    (holding.len() == last - first + 1 && len <= KEPT_MAX && len <= range / 8)
        .then_some(Endings::ByDigits { stride, len })
}

/// The places of the state that a program may read: of a variable of which it reads one place that it computes, all. `None` where
/// that is not known.
fn places_read(game: &Game, program: u32) -> Option<BTreeSet<usize>> {
    let (b, code) = (&game.bound, &game.code);
    let program = &code.programs[program as usize];
    let mut out = BTreeSet::new();
    let mut known = true;
    for op in &code.ops[program.entry as usize..program.end as usize] {
        known &= !matches!(
            op,
            Op::LoadFrom { .. }
                | Op::ListCopy { .. }
                | Op::ListCheck { .. }
                | Op::ListSame { .. }
                | Op::ListFind { .. }
                | Op::ListAdd { .. }
                | Op::ListTail { .. }
                | Op::ListJoin { .. }
                | Op::ListDrop { .. }
                | Op::PutInto { .. }
        );
        op.roles(&mut |role| {
            let Role::Block(base, len) = role else { return };
            let base = base.0 as usize;
            // Where a place in a block is computed, the block may begin one before it.
            let len =
                if matches!(op, Op::LoadAt { .. }) { 1 } else { len.map_or(b.cells(), |n| n as usize + 1) };
            for copy in [code.before as usize, code.now as usize] {
                let places = base.max(copy)..(base + len).min(copy + code.state_len as usize);
                for at in places.map(|m| m - copy) {
                    out.insert(at);
                    let held = |v: &VarId| {
                        let slot = &b.slots[*v];
                        (slot.base..slot.base + slot.len).contains(&at)
                    };
                    let vars = b.model.variables().filter(|(_, d)| d.state).map(|(v, _)| v);
                    for slot in vars.filter(held).map(|v| &b.slots[v]) {
                        out.extend(slot.base..slot.base + slot.len);
                    }
                }
            }
        });
    }
    known.then_some(out)
}
