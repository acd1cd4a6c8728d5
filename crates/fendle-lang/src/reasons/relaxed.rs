//! A level as a puzzle of ways, from which relaxed puzzles are made; and what these are about, in words.

use std::collections::BTreeSet;

use fendle_core::MoveId;
use fendle_core::relaxed::bounds::Weights;
use fendle_core::relaxed::task::Link;
use fendle_core::relaxed::{Kind, Pattern, Task, TaskWay};

use super::effects::{Form, goal_ways_told, var_of_places};
use super::turned::turns_of;
use crate::code::Game;
use crate::model::{EndKind, Extent, VarId};
use crate::run::ways::{Count, Ways};
use crate::state::{Bound, cell_name};

/// Ways above which a level is not made into a puzzle of ways.
pub const TASK_WAYS: usize = 120_000;

/// The puzzle of ways of a level without chance of being cut off and without hidden things. `None` where its moves or its goal are not followed,
/// where it has several starts, or when `stop` says so.
#[must_use]
pub fn task_of(game: &Game, most: usize, stop: &mut dyn FnMut() -> bool) -> Option<Task> {
    let game = game.apart();
    let b = &game.bound;
    if b.model.cuts || b.model.hides() || game.starts.len() > 1 {
        return None;
    }
    let (goals, goals_exact) = goal_ways_told(b)?;
    let ways = Ways::of(b, most, stop)?;
    let can = ways.can_be(&[&b.position]);
    let vars = var_of_places(b);
    let ended = b.ended_at();
    let mut task = Task {
        start: b.position.clone(),
        values: can.values.clone(),
        group: vec![None; b.position.len()],
        names: (0..b.position.len()).map(|at| place_name(b, &vars, at)).collect(),
        exact: goals_exact && ways.list.iter().zip(&can.open).filter(|w| *w.1).all(|w| w.0.exact),
        ..Task::default()
    };
    let fixed = |at: usize| can.values[at].len() <= 1 || at == ended;
    for (way, _) in ways.list.iter().zip(&can.open).filter(|w| *w.1) {
        // What always holds need not be asked.
        let reads = way.reads.iter().filter(|r| !fixed(r.0)).map(|r| (r.0 as u32, r.1)).collect();
        let changes: Vec<(u32, i32, i32)> =
            way.changes.iter().filter(|c| !fixed(c.0)).map(|c| (c.0 as u32, c.1, c.2)).collect();
        if !changes.is_empty() {
            task.ways.push(TaskWay { of: MoveId(way.of), count: way.count, reads, changes });
        }
    }
    for goal in goals {
        let can_hold = goal.iter().all(|(at, value)| can.values[*at].contains(value));
        if can_hold {
            let pins = goal.into_iter().filter(|(at, _)| !fixed(*at));
            task.goals.push(pins.map(|(at, value)| (at as u32, value)).collect());
        }
    }
    let mut groups = 0;
    for (v, def) in b.model.variables().filter(|(_, d)| d.state) {
        let slot = &b.slots[v];
        let places = slot.base..slot.base + slot.len;
        if !matches!(def.shape, Extent::Grid | Extent::Set) || !slot.active || places.clone().all(fixed) {
            continue;
        }
        let values: BTreeSet<i32> = places.clone().flat_map(|at| can.values[at].iter().copied()).collect();
        let count = |value: i32| places.clone().filter(|at| b.position[*at] == value).count();
        // What most places hold is the ground on which the things lie.
        let ground = match def.shape {
            Extent::Set => Some(0),
            _ => values.iter().copied().max_by_key(|v| (count(*v), -v)).filter(|v| count(*v) > 1),
        };
        let mut found = false;
        for value in values {
            let kept = can.count(&ways, places.clone(), value);
            let n = count(value);
            if Some(value) == ground || kept == Count::Free || n == 0 {
                continue;
            }
            found = true;
            let text = b.scalar_text(def.dom.scalar(), value.into(), false);
            task.kinds.push(Kind {
                name: if def.shape == Extent::Set {
                    def.name.clone()
                } else {
                    format!("{} {text}", def.name)
                },
                group: groups,
                value,
                places: places
                    .clone()
                    .filter(|at| can.values[*at].contains(&value))
                    .map(|at| at as u32)
                    .collect(),
                count: n as u32,
                falls: kept == Count::Falls,
            });
        }
        if found {
            places.for_each(|at| task.group[at] = Some(groups));
            groups += 1;
        }
    }
    task.turns = turns_of(b, &task);
    Some(task)
}

/// Whether the game can end otherwise than won.
#[must_use]
pub fn ends_otherwise(game: &Game) -> bool {
    game.bound.model.endings.iter().any(|e| e.kind != EndKind::Goal)
}

/// The author's bound as a sum of what single places hold, if it is one.
#[must_use]
pub fn declared_bound(game: &Game) -> Option<Weights> {
    let b = &game.bound;
    let (body, _) = b.model.bound.as_ref()?;
    let form = Form::of(b, body).filter(|f| f.signs.is_empty() && f.modulus.is_none())?;
    let mut of: Vec<Vec<(i32, i64)>> = vec![vec![]; b.position.len()];
    for ((at, value), weight) in form.weights {
        of[at].push((value, weight));
    }
    Some(Weights { of, base: 0 })
}

fn place_name(b: &Bound, vars: &[Option<VarId>], at: usize) -> String {
    let Some(v) = vars[at] else { return "the ending".into() };
    let def = &b.model.vars[v];
    let i = at - b.slots[v].base;
    match def.shape {
        Extent::One => def.name.clone(),
        Extent::Grid | Extent::Set => cell_name(i, b.cols),
        Extent::Array(key) => format!("{}[{}]", def.name, b.key_names(key)[i]),
        Extent::List(_) | Extent::Lists(..) => format!("{} {i}", def.name),
    }
}

/// What a relaxed puzzle is about: `tile 1, tile 2, tile 5 and the gap`-like words.
#[must_use]
pub fn pattern_words(task: &Task, pattern: &Pattern) -> String {
    let links = task.links();
    let mut own = vec![];
    let mut beside = vec![];
    for &(k, keep) in &pattern.kinds {
        let kind = &task.kinds[k as usize];
        let name = if kind.count == 1 {
            kind.name.clone()
        } else if keep == kind.count {
            format!("all {keep} of {}", kind.name)
        } else {
            format!("any {keep} of {}", kind.name)
        };
        if links.contains(&Link::Kind(k)) { beside.push(name) } else { own.push(name) }
    }
    for &p in &pattern.places {
        let name = task.names[p as usize].clone();
        if links.contains(&Link::Place(p)) { beside.push(name) } else { own.push(name) }
    }
    let list = shortened(&own);
    match (own.is_empty(), beside.is_empty()) {
        (true, _) => shortened(&beside),
        (false, true) => list,
        (false, false) => format!("{list} with {}", shortened(&beside)),
    }
}

/// `tile 1, 2 and 5` of `tile 1`, `tile 2`, `tile 5`.
fn shortened(names: &[String]) -> String {
    let first = |n: &str| n.split_once(' ').map(|p| p.0.to_string());
    let same = names.len() > 1 && names.iter().all(|n| first(n).is_some() && first(n) == first(&names[0]));
    let list: Vec<String> = (names.iter().enumerate())
        .map(
            |(i, n)| {
                if same && i > 0 { n.split_once(' ').map_or(n.clone(), |p| p.1.into()) } else { n.clone() }
            },
        )
        .collect();
    match list.as_slice() {
        [] => String::new(),
        [one] => one.clone(),
        [most @ .., last] => format!("{} and {last}", most.join(", ")),
    }
}
