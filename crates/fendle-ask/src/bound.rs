//! What relaxed puzzles say of a level: which there are, how large, and how many moves its position needs at the least.

use fendle_core::numbers::counted;
use fendle_core::relaxed::bounds::{Judge, NoWay};
use fendle_core::relaxed::cache::{name_of, read, table_name, write};
use fendle_core::relaxed::choose::{self, Effort};
use fendle_core::relaxed::pattern::{Counts, FAR, NEVER};
use fendle_core::relaxed::{Bounds, Pattern, Table, Task};
use fendle_core::{Limit, Model as _};
use fendle_lang::Game;
use fendle_lang::play::is_won;
use fendle_lang::reasons::relaxed::{TASK_WAYS, declared_bound, pattern_words, task_of};
use serde::Serialize;

use crate::answer::{Answer, Asked, Trouble, Verdict};
use crate::budget::Budget;
use crate::explore::seen_whole;
use crate::knowledge::needs_layout;
use crate::load::Loaded;
use crate::position::Position;

/// Where tables are kept from one run to the next. What is fetched is checked before it is used.
pub trait TableStore: Send + Sync {
    /// The bytes under a name, if there are any.
    fn fetch(&self, name: &str) -> Option<Vec<u8>>;
    /// Keeps bytes under a name, as well as it can.
    fn keep(&self, name: &str, bytes: &[u8]);
}

/// Tables smaller than this are made faster than fetched.
const KEPT_FROM: u64 = 1 << 18;

/// A level as a puzzle of ways, and its relaxed puzzles.
pub struct Relaxed {
    /// The puzzle.
    pub task: Task,
    /// What is known of it.
    pub bounds: Bounds,
    /// How many tables were fetched, not made.
    pub fetched: usize,
    /// Tables that were kept under their name, but are damaged: they were made again.
    pub damaged: usize,
    /// The author's bound is proved, and counts.
    pub declared: bool,
    /// How large they may be.
    pub effort: Effort,
}

/// The puzzle of ways of a level, where there is one.
#[must_use]
pub fn puzzle(game: &Game, budget: &Budget) -> Option<Task> {
    task_of(game, TASK_WAYS, &mut || budget.is_stopped())
}

/// States of a level that is seen whole in no time.
const SOON: u64 = 1 << 16;

/// The same for a level that is too large to be seen whole: its ways tell of more than `2^bits` states. `None` where they tell of fewer, where they
/// are not followed or draw, and for a level that is seen whole in no time: following its ways may take seconds.
#[must_use]
pub fn puzzle_of_large(game: &Game, bits: f64, budget: &Budget) -> Option<Task> {
    if !game.is_sure() || seen_whole(game, SOON, budget).is_some() {
        return None;
    }
    puzzle(game, budget).filter(|task| task.size_log2() > bits)
}

/// Finds relaxed puzzles of a level: by their size at most `effort`.
///
/// # Errors
///
/// The [`Limit`] that stopped it.
pub fn relax(game: &Game, task: Task, effort: Effort, budget: &Budget) -> Result<Relaxed, Limit> {
    relax_by(game, task, (effort, false), budget)
}

/// The same, if all of its large tables were kept from an earlier run; `None` if not.
#[must_use]
pub fn relax_kept(game: &Game, task: &Task, effort: Effort, budget: &Budget) -> Option<Relaxed> {
    budget.tables()?;
    relax_by(game, task.clone(), (effort, true), budget).ok()
}

fn relax_by(
    game: &Game,
    task: Task,
    (effort, only_kept): (Effort, bool),
    budget: &Budget,
) -> Result<Relaxed, Limit> {
    let own = name_of(&task);
    let store = budget.tables();
    let (mut fetched, mut damaged) = (0, 0);
    let mut maker = |task: &Task, wanted: &[(Pattern, bool)]| {
        let mut out: Vec<Option<Table>> = vec![];
        let mut missing = vec![];
        for (i, (pattern, fold)) in wanted.iter().enumerate() {
            let large = Table::size(task, pattern).is_some_and(|s| s >= KEPT_FROM);
            let name = table_name(&own, pattern, *fold);
            let bytes = store.filter(|_| large).and_then(|s| s.fetch(&hex(&name)));
            let table = bytes.as_ref().and_then(|b| read(b, &name, task, pattern));
            fetched += usize::from(table.is_some());
            damaged += usize::from(bytes.is_some() && table.is_none());
            if table.is_none() && only_kept && large {
                return Err(Limit::Memory);
            }
            if table.is_none() {
                missing.push(i);
            }
            out.push(table);
        }
        let list: Vec<(Pattern, bool)> = missing.iter().map(|i| wanted[*i].clone()).collect();
        for (i, table) in missing.into_iter().zip(choose::make(task, &list, budget)?) {
            let (pattern, fold) = &wanted[i];
            if let (Some(table), Some(store)) = (&table, store)
                && Table::size(task, pattern).is_some_and(|s| s >= KEPT_FROM)
            {
                let name = table_name(&own, pattern, *fold);
                store.keep(&hex(&name), &write(table, &name));
            }
            out[i] = table;
        }
        Ok(out)
    };
    // Tables, and what waits while they are made, have to fit the memory.
    let memory = budget.wanted().memory;
    let fitting = Effort { positions: effort.positions.min(memory / 24), all: effort.all.min(memory / 8) };
    let mut bounds = choose::choose(&task, fitting, budget.wanted().seed, &mut maker)?;
    // The author speaks of moves.
    let own_bound = declared_bound(game).filter(|_| game.bound.model.counted.is_none());
    bounds.declared = own_bound.filter(|w| w.is_proved(&task));
    let declared = bounds.declared.is_some();
    Ok(Relaxed { task, bounds, fetched, damaged, declared, effort })
}

fn hex(name: &[u8; 32]) -> String {
    name.iter().map(|b| format!("{b:02x}")).collect()
}

/// One relaxed puzzle, as it is shown.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ShownPuzzle {
    /// The things that are kept, in words.
    pub about: String,
    /// Positions.
    pub positions: u64,
    /// Bytes of its table.
    pub bytes: u64,
    /// `moves`: all moves count. `own moves`: those alone that move one of its things.
    pub counts: &'static str,
    /// Moves that it needs from here at the least; `None`: there is no way even there.
    pub here: Option<u32>,
    /// The most that it needs from anywhere.
    pub most: u32,
    /// Positions from which there is no way.
    pub no_way: u64,
}

/// What relaxed puzzles say of a position.
#[derive(Clone, Debug, Serialize)]
pub struct Bounded {
    /// Moves that a goal needs at the least; `None`: no goal can be reached.
    pub least: Option<u32>,
    /// It is won already.
    pub won: bool,
    /// Why nothing is known, where the rules are not followed.
    pub unknown: Option<&'static str>,
    /// What makes the bound, in words.
    pub words: Vec<String>,
    /// The relaxed puzzles.
    pub parts: Vec<ShownPuzzle>,
    /// The number that adds up, where several count different moves.
    pub sum: Option<u32>,
    /// The author's bound here, where the model has one; and whether it is proved.
    pub declared: Option<(i64, bool)>,
    /// Things that alone have no way, where that is the reason.
    pub dead_part: Option<Vec<String>>,
    /// Bytes of all tables.
    pub bytes: u64,
    /// Tables that were kept from an earlier run.
    pub fetched: usize,
    /// Damaged ones that were made again.
    pub damaged: usize,
    /// The position.
    pub position: Position,
}

/// How large relaxed puzzles may be when a bound is asked for.
pub const BOUND_EFFORT: Effort = Effort { positions: 8 << 20, all: 64 << 20 };

/// Things that alone have no way, each with where it is.
#[must_use]
pub fn no_way_words(task: &Task, values: &[i32], no_way: &NoWay) -> Vec<String> {
    let thing = |place: &u32| {
        let kind = task.kind_of(*place, values[*place as usize]);
        let name = kind.map_or("something", |k| task.kinds[k].name.as_str());
        format!("{name} at {}", task.names[*place as usize])
    };
    no_way.things.iter().map(thing).collect()
}

/// `barge at r2c2 alone cannot get where the goal wants it`; `wants`: who wants it.
#[must_use]
pub fn alone_words(part: &[String], wants: &str) -> String {
    let it = if part.len() == 1 { "it" } else { "them" };
    format!("{} alone cannot get where {wants} wants {it}", part.join(" and "))
}

impl Bounded {
    /// Takes what each relaxed puzzle says of a position, and what they say together.
    fn take_parts(&mut self, relaxed: &Relaxed, judge: &mut Judge<'_>, position: &[i32]) {
        let (task, bounds) = (&relaxed.task, &relaxed.bounds);
        for (t, table) in bounds.tables.iter().enumerate() {
            let here = judge.greatest(t, position);
            self.parts.push(ShownPuzzle {
                about: pattern_words(task, &table.pattern),
                positions: table.positions(),
                bytes: table.bytes(),
                counts: if table.pattern.counts == Counts::Own { "own moves" } else { "moves" },
                here: (here != NEVER).then_some(here.into()),
                most: table.most.into(),
                no_way: table.never,
            });
        }
        let need = |n: u32| counted(n.into(), "move", "moves");
        for (number, sum) in bounds.sums.iter().enumerate() {
            let all = judge.sum(number, position);
            self.sum = self.sum.max(all);
            for a in &sum.assigns {
                let assign = &bounds.assigns[*a];
                let things = counted(assign.to.len() as u64, "thing", "things");
                let kind = &task.kinds[assign.kind as usize].name;
                self.words.push(format!("{things} of {kind}, each to a place of its own"));
            }
            let parts = sum.tables.len() + sum.assigns.len();
            if let Some(all) = all.filter(|_| parts > 0) {
                let add = if parts > 1 { ", added up: no move is counted twice" } else { "" };
                self.words.push(format!("moves of these things alone: {}{add}", need(all)));
            }
        }
        for part in self.parts.iter().filter(|p| p.counts == "moves") {
            if let Some(here) = part.here.filter(|n| Some(*n) == self.least && *n > 0) {
                let more = if here == u32::from(FAR) { " or more" } else { "" };
                self.words.push(format!("{} alone: {}{more}", part.about, need(here)));
            }
        }
    }
}

/// What relaxed puzzles say of the position of a level.
///
/// # Errors
///
/// [`Trouble`] where that cannot be asked, or a limit was hit.
pub fn bound(level: &Loaded, effort: Effort, budget: &Budget) -> Result<Answer<Bounded>, Trouble> {
    if level.known {
        needs_layout(level, "bound --known")?;
    }
    let game = &level.game;
    let b = &game.bound;
    if !b.model.has_goal() {
        return Err("this model has no goal, so there are no moves to one to be bounded".into());
    }
    let mut out = Bounded {
        least: Some(0),
        won: is_won(b, &b.position),
        unknown: None,
        words: vec![],
        parts: vec![],
        sum: None,
        declared: None,
        dead_part: None,
        bytes: 0,
        fetched: 0,
        damaged: 0,
        position: Position::new(b, &b.position),
    };
    let task = puzzle(game, budget);
    if let Some(limit) = budget.stopped() {
        return Err(limit.into());
    }
    let Some(task) = task else {
        out.unknown = Some(if game.starts.len() > 1 {
            "the level has several starts; `--at` takes one of them"
        } else if b.model.hides() {
            "the model hides something"
        } else {
            "its moves or its goal read too much at once (lists, whole boards) for their ways to be followed"
        });
        return Ok(Answer::new(Asked::of(level), Verdict::Undecided, out).took(budget, 0));
    };
    let relaxed = relax(game, task, effort, budget)?;
    let (task, bounds) = (&relaxed.task, &relaxed.bounds);
    let mut judge = bounds.judge(task);
    out.least = judge.says(&b.position).least;
    if out.won {
        out.least = Some(0);
    }
    out.take_parts(&relaxed, &mut judge, &b.position);
    if let Some((body, _)) = &b.model.bound {
        let here = fendle_lang::run::Eval::new(b).value_in(body, &b.position).unwrap_or(0);
        out.declared = Some((here, relaxed.declared));
    }
    if out.least.is_none()
        && let Some(no_way) = judge.no_way(&b.position)
    {
        out.dead_part = Some(no_way_words(task, &b.position, &no_way));
    }
    out.bytes = bounds.bytes();
    (out.fetched, out.damaged) = (relaxed.fetched, relaxed.damaged);
    let holds = if out.least.is_some() { Verdict::Holds } else { Verdict::Fails };
    Ok(Answer::new(Asked::of(level), holds, out).took(budget, 0))
}
