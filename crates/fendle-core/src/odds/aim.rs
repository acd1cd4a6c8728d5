//! The best value of an aim.

use std::collections::HashSet;

use num_rational::BigRational;
use num_traits::Zero;

use super::graph::Graph;
use super::values::{Gain, Task, Values, weighted};
use super::{AimValue, NoOdds, Value};
use crate::explore::Explored;
use crate::limits::Pace;
use crate::model::{Aim, Model};
use crate::route::Route;
use crate::space::{Class, StateId};

pub(super) type AimAnswer = (AimValue, Vec<Option<Value>>, Option<Route>);

pub(super) fn aim_value(
    model: &dyn Model,
    found: &Explored,
    g: &Graph,
    aim: Aim,
    budget: u64,
    pace: &mut Pace<'_>,
) -> Result<AimAnswer, NoOdds> {
    let space = &found.space;
    let unknown = |why| Ok((AimValue::Unknown(why), vec![], None));
    if found.counts.open > 0 {
        return unknown("states are open: not everything was seen");
    }
    let running = |s: u32| matches!(g.classes[s as usize], Class::Winnable | Class::Dead | Class::Free);
    let seen: Vec<bool> = {
        let mut seen = vec![false; g.classes.len()];
        space.ids().for_each(|id| seen[id.index()] = true);
        seen
    };
    let parts = g.parts(|s| seen[s as usize] && running(s), pace)?;
    let loops: Vec<&Vec<u32>> = parts.iter().filter(|p| g.has_loop(p)).collect();
    let mut measured = vec![0i64; g.classes.len()];
    let ends = (0..g.classes.len()).any(|s| seen[s] && !running(s as u32));
    if !aim.is_score() {
        let mut worker = model.worker();
        for s in (0..g.classes.len()).filter(|&s| seen[s] && (!ends || !running(s as u32))) {
            pace.step(16)?;
            measured[s] = worker.measure(&space.state(StateId::from_number(s as u32)))?;
        }
        if !ends {
            // Play never ends: the best that is ever reached.
            let all = (0..g.classes.len()).filter(|&s| seen[s]).map(|s| measured[s]);
            let best = if aim.wants_most() { all.max() } else { all.min() };
            let value = BigRational::from_integer(best.unwrap_or(0).into());
            return Ok((AimValue::Best(Value::Exact(value)), vec![], None));
        }
    }
    if !loops.is_empty() {
        let inside = |part: &[u32]| {
            let set: HashSet<u32> = part.iter().copied().collect();
            let scores: Vec<(i64, i64)> = part
                .iter()
                .flat_map(|s| g.runs(*s))
                .flat_map(|r| g.outcomes(*r))
                .filter(|(t, _)| set.contains(t))
                .map(|(_, o)| (o.least, o.most))
                .collect();
            scores
        };
        if aim.is_score() {
            let scores: Vec<(i64, i64)> = loops.iter().flat_map(|p| inside(p)).collect();
            let gains = |s: &(i64, i64)| if aim == Aim::MostScore { s.1 > 0 } else { s.0 < 0 };
            let costs = |s: &(i64, i64)| if aim == Aim::MostScore { s.0 < 0 } else { s.1 > 0 };
            if scores.iter().any(gains) {
                if model.is_sure() && !scores.iter().any(costs) {
                    return Ok((AimValue::Unbounded, vec![], None));
                }
                return unknown("the space has cycles that gain and cost, or whose gain depends on chance");
            }
        }
        if !model.is_sure() {
            return unknown("the space has cycles, and chance takes part");
        }
        return Ok((looped_aim(g, &parts, &measured, aim, space.starts()), vec![], None));
    }
    let task = Task {
        g,
        fixed: Box::new(|s| {
            (!seen[s as usize] || !running(s)).then(|| (measured[s as usize], measured[s as usize]))
        }),
        allowed: Box::new(|_| true),
        most: aim.wants_most(),
        gain: if aim.is_score() { Gain::Score } else { Gain::Nothing },
    };
    let Some(values) = task.exact(&parts, budget, pace)? else {
        return unknown("the fractions grow past the budget");
    };
    let by_move = match space.starts() {
        [one] => {
            g.runs(one.number()).iter().map(|r| Some(Value::Exact(task.exact_run(*r, &values)))).collect()
        }
        _ => vec![],
    };
    let play = match space.starts() {
        [one] if model.is_sure() => {
            let mut play = Route { moves: vec![], states: vec![space.state(*one)] };
            let mut s = one.number();
            // Without cycles every step leads on, and play ends.
            while let Some(r) = g
                .runs(s)
                .iter()
                .filter(|_| running(s))
                .find(|r| task.exact_run(**r, &values) == values[s as usize])
            {
                s = g.to[r.first as usize];
                play.moves.push(r.of);
                play.states.push(space.state(StateId::from_number(s)));
            }
            Some(play)
        }
        _ => None,
    };
    let best = weighted(space.starts(), space.start_weights(), &Values::Exact(values));
    Ok((AimValue::Best(best), by_move, play))
}

/// Without chance, and with cycles that gain nothing: the best way out of each part.
pub(super) fn looped_aim(
    g: &Graph,
    parts: &[Vec<u32>],
    measured: &[i64],
    aim: Aim,
    starts: &[StateId],
) -> AimValue {
    let mut best: Vec<Option<i64>> = measured
        .iter()
        .enumerate()
        .map(|(s, m)| {
            (!matches!(g.classes[s], Class::Winnable | Class::Dead | Class::Free))
                .then_some(if aim.is_score() { 0 } else { *m })
        })
        .collect();
    for part in parts {
        let set: HashSet<u32> = part.iter().copied().collect();
        let mut value: Option<i64> = None;
        for r in part.iter().flat_map(|s| g.runs(*s)) {
            for (t, o) in g.outcomes(*r) {
                if set.contains(&t) {
                    continue;
                }
                let gain = if aim.is_score() { o.score } else { 0 };
                if let Some(v) = best[t as usize].map(|v| v + gain) {
                    value =
                        Some(value.map_or(v, |old| if aim.wants_most() { old.max(v) } else { old.min(v) }));
                }
            }
        }
        for s in part {
            best[*s as usize] = value;
        }
    }
    match starts.first().and_then(|s| best[s.index()]) {
        Some(v) if starts.len() == 1 => AimValue::Best(Value::Exact(BigRational::from_integer(v.into()))),
        Some(_) => AimValue::Unknown("several starts"),
        // Play can only go round for ever: it gains nothing.
        None if aim.is_score() => AimValue::Best(Value::Exact(BigRational::zero())),
        None => AimValue::Unknown("play from here never ends"),
    }
}
