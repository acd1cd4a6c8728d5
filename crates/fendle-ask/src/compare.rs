//! Two levels' spaces side by side: counts, whether they have the same shape, and what is only in one.

use std::collections::{HashMap, HashSet};

use fendle_core::shape::{Difference, Likeness, likeness};
use fendle_core::{Class, Exploration, Explored, Limit, Pace, StateId};
use serde::{Serialize, Serializer};
use serde_json::json;

use crate::answer::{Answer, Asked, Trouble, Verdict};
use crate::budget::Budget;
use crate::explore::searched_in_part;
use crate::knowledge::needs_known;
use crate::load::{Loaded, Store};

/// Edges that may be looked at while a renaming is looked for.
const BUDGET: u64 = 400_000_000;
/// States above which they are not matched one by one.
const MATCH_MAX: u64 = 1_000_000;
/// Examples of what is only in one.
const EXAMPLES: usize = 5;

/// Things that are only in one: how many, and examples.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Only {
    /// How many.
    pub count: u64,
    /// Some of them.
    pub examples: Vec<String>,
}

impl Only {
    fn of(mut list: Vec<String>) -> Only {
        list.sort_unstable();
        Only { count: list.len() as u64, examples: list.into_iter().take(EXAMPLES).collect() }
    }
}

/// What states that are written the same tell.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Matched {
    /// States in both.
    pub states_in_both: u64,
    /// Of these, with another status, where both are known.
    pub other_status: u64,
    /// States in the first only; not known where not everything of the second was seen.
    pub states_only_in_first: Option<Only>,
    /// States in the second only; not known where not everything of the first was seen.
    pub states_only_in_second: Option<Only>,
    /// Edges between states of both, in the first only; known where states are.
    pub edges_only_in_first: Option<Only>,
    /// Edges between states of both, in the second only; known where states are.
    pub edges_only_in_second: Option<Only>,
}

/// One of the two levels.
#[derive(Clone, Debug, Serialize)]
pub struct Side {
    /// The level.
    pub level: String,
    /// Its counts.
    pub counts: Exploration,
    /// Its title.
    #[serde(skip)]
    pub title: String,
}

/// What is known of the shapes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shapes {
    /// Equal up to renaming, edge by edge.
    Same,
    /// Not equal, and what tells them apart.
    Different(Difference),
    /// Not told apart, and no renaming found within the budget.
    Unknown,
    /// Not asked: not everything was seen.
    NotSeen,
}

impl Shapes {
    /// In words.
    #[must_use]
    pub fn words(self) -> String {
        match self {
            Shapes::Same => "the same shape: the spaces are equal up to renaming, edge by edge".into(),
            Shapes::Different(d) => format!("not the same shape: {}", difference_text(d)),
            Shapes::Unknown => {
                "not told apart, and no renaming found within the budget: nothing is claimed".into()
            }
            Shapes::NotSeen => "nothing is claimed of their shape: not everything was seen".into(),
        }
    }
}

fn difference_text(d: Difference) -> &'static str {
    match d {
        Difference::States => "they have different numbers of states",
        Difference::Edges => "they have different numbers of transitions between states",
        Difference::Statuses => "the statuses at some depth are different",
        Difference::Neighbourhoods => "what leads into and out of their states is different",
        Difference::EveryRenaming => "every renaming that could fit was tried, and none does",
    }
}

/// Two spaces compared.
#[derive(Clone, Debug)]
pub struct Compared {
    /// The first level.
    pub first: Side,
    /// The second.
    pub second: Side,
    /// What is known of their shapes.
    pub shapes: Shapes,
    /// What states that are written the same tell; `None` where none is, or they are too many.
    pub matched: Option<Matched>,
}

impl Serialize for Compared {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        let same = match self.shapes {
            Shapes::Same => Some(true),
            Shapes::Different(_) => Some(false),
            Shapes::Unknown | Shapes::NotSeen => None,
        };
        json!({
            "first": self.first,
            "second": self.second,
            "same_shape": same,
            "why": self.shapes.words(),
            "matched": self.matched,
        })
        .serialize(s)
    }
}

/// The part of the time and of the memory that both spaces may take: comparing them needs the rest.
const SEARCH: f64 = 0.8;

/// Compares the spaces of two levels.
///
/// # Errors
///
/// [`Trouble`] where they cannot be explored.
pub fn compare(
    store: &Store,
    first: &Loaded,
    second: &Loaded,
    budget: &Budget,
) -> Result<Answer<Compared>, Trouble> {
    needs_known(first, "compare")?;
    needs_known(second, "compare")?;
    let memory = (budget.limits().memory_bytes as f64 * SEARCH) as u64;
    let a = searched_in_part(store, first, SEARCH / 2.0, memory / 2, budget)?;
    let left = memory.saturating_sub(a.space.bytes()).max(memory / 2);
    let b = searched_in_part(store, second, SEARCH, left, budget)?;
    let mut limit = a.counts.cut_short().or(b.counts.cut_short());
    let shapes = match limit {
        Some(_) => Shapes::NotSeen,
        None => match likeness(&a.space, &b.space, BUDGET, budget) {
            Ok(Likeness::Same(_)) => Shapes::Same,
            Ok(Likeness::Different(d)) => Shapes::Different(d),
            Ok(Likeness::Unknown) => Shapes::Unknown,
            Err(hit) => {
                limit = Some(hit);
                Shapes::Unknown
            }
        },
    };
    let matched = match matched((first, &a), (second, &b), budget) {
        Ok(matched) => matched,
        Err(hit) => {
            limit = limit.or(Some(hit));
            None
        }
    };
    let holds = match shapes {
        Shapes::Same => Verdict::Holds,
        Shapes::Different(_) => Verdict::Fails,
        Shapes::Unknown | Shapes::NotSeen => Verdict::Undecided,
    };
    let states = a.counts.states + b.counts.states;
    let side = |l: &Loaded, x: Explored| Side { level: l.name.clone(), title: l.title(), counts: x.counts };
    let found = Compared { first: side(first, a), second: side(second, b), shapes, matched };
    // What is different is so, whatever else was not looked at.
    let limit = limit.filter(|l| holds == Verdict::Undecided || *l == Limit::Interrupted);
    Ok(Answer::new(Asked::of(first), holds, found).stopped(limit, budget).took(budget, states))
}

/// Every state as it is written, with its number.
fn written(level: &Loaded, found: &Explored, pace: &mut Pace<'_>) -> Result<HashMap<String, StateId>, Limit> {
    let (game, space) = (&level.game, &found.space);
    let mut out = HashMap::new();
    for id in space.ids() {
        pace.step(64)?;
        out.insert(game.bound.line(&game.unpack(&space.state(id))), id);
    }
    Ok(out)
}

/// A state of both: as it is written, with its numbers.
type Pair<'w> = (&'w String, StateId, StateId);

fn matched(
    (a, fa): (&Loaded, &Explored),
    (b, fb): (&Loaded, &Explored),
    budget: &Budget,
) -> Result<Option<Matched>, Limit> {
    if fa.counts.states.max(fb.counts.states) > MATCH_MAX {
        return Ok(None);
    }
    let mut pace = Pace::new(budget);
    let (wa, wb) = (written(a, fa, &mut pace)?, written(b, fb, &mut pace)?);
    // What lies beyond a limit may be there all the same.
    let (known_a, known_b) = (fa.counts.is_whole(), fb.counts.is_whole());
    let only = |x: &HashMap<String, StateId>, y: &HashMap<String, StateId>| {
        Only::of(x.keys().filter(|k| !y.contains_key(*k)).cloned().collect())
    };
    let pairs: Vec<Pair<'_>> = wa.iter().filter_map(|(k, i)| Some((k, *i, *wb.get(k)?))).collect();
    if pairs.is_empty() {
        return Ok(None);
    }
    let mut edges = |found: &Explored, pick: &dyn Fn(&Pair<'_>) -> StateId| {
        let name: HashMap<StateId, usize> = pairs.iter().enumerate().map(|(i, p)| (pick(p), i)).collect();
        let mut out: HashSet<(usize, usize)> = HashSet::new();
        let space = &found.space;
        for depth in 0..space.levels_len() {
            space.each_edges(depth, |id, list| {
                let Some(from) = name.get(&id) else { return };
                out.extend(list.iter().filter_map(|e| Some((*from, *name.get(&e.to)?))));
            });
            pace.step(16 * space.level_len(depth))?;
        }
        Ok(out)
    };
    let (ea, eb) = (edges(fa, &|p| p.1)?, edges(fb, &|p| p.2)?);
    let edges_only = |x: &HashSet<(usize, usize)>, y: &HashSet<(usize, usize)>| {
        Only::of(x.difference(y).map(|(f, t)| format!("{} -> {}", pairs[*f].0, pairs[*t].0)).collect())
    };
    let status = |p: &&Pair<'_>| {
        let (a, b) = (fa.space.class(p.1), fb.space.class(p.2));
        a != b && a != Class::Open && b != Class::Open
    };
    Ok(Some(Matched {
        states_in_both: pairs.len() as u64,
        other_status: pairs.iter().filter(status).count() as u64,
        states_only_in_first: known_b.then(|| only(&wa, &wb)),
        states_only_in_second: known_a.then(|| only(&wb, &wa)),
        edges_only_in_first: known_b.then(|| edges_only(&ea, &eb)),
        edges_only_in_second: known_a.then(|| edges_only(&eb, &ea)),
    }))
}
