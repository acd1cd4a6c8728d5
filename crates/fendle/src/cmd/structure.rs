//! The structure of a space, for `explore --structure`: where it dies and how late that shows, what every solution must
//! do, how wide the way is, what of the level is not needed.

use fendle_core::graph::Distances;
use fendle_core::structure::{NotSeen, Share, Structure, structure};
use fendle_core::{Class, Explored, Limit, Limits, Model, Progress, StateId, Verdict, Watch, solve};
use fendle_lang::Game;
use fendle_lang::reasons::parts::{Removed, goal_done, without_each};
use fendle_lang::run::Eval;
use fendle_view::board::side_by_side;
use fendle_view::text::{bytes, counted, grouped, wrapped};
use serde_json::{Value, json};

use super::{WIDTH, call_text, played_route};
use crate::args::Common;
use crate::files::Loaded;
use crate::watch::{Watcher, limit_text};
use crate::{Session, Trouble};

/// States that may be searched, all levels with something taken out together, without being asked to.
const IDLE_STATES: u64 = 4_000_000;
/// States above which the model's bound is looked at on the solution only.
const BOUND_STATES: u64 = 300_000;
/// Most must-pass states that are drawn.
const DRAWN: usize = 12;

/// A move of a shortest solution that seems to go away from the goal.
struct Detour {
    number: usize,
    name: String,
    /// The bound before and after, where it grows.
    bound: Option<(i64, i64)>,
    /// Parts of the goal that were done and are not any more.
    undone: usize,
}

/// What the model's bound on the moves left is worth.
struct BoundCheck {
    /// States looked at.
    states: u64,
    whole: bool,
    /// Where it says more moves than are needed: how often, and the first such state, what it says, what is true.
    broken: u64,
    first: Option<(Vec<i32>, i64, u32)>,
}

/// Walls, pieces and cells without which nothing changes.
struct Idle {
    tried: usize,
    idle: Vec<(Removed, String, String)>,
    /// Not decided within the limits.
    open: usize,
}

/// What was asked of the structure.
pub struct Asked {
    found: Result<Structure, NotSeen>,
    must_pass: Vec<Vec<u64>>,
    /// Names of the moves of a shortest solution that lead through a one-way door, where the chain is one.
    detours: Option<Vec<Detour>>,
    bound: Option<BoundCheck>,
    idle: Result<Idle, String>,
    sure: bool,
}

/// Computes the structure and what belongs to it. `known`: the layout is, or nothing is hidden; `idle`: idle parts are
/// tried however long it takes.
pub fn ask(
    loaded: &Loaded,
    model: &dyn Model,
    found: &Explored,
    limits: &Limits,
    (known, idle): (bool, bool),
    watcher: &Watcher,
    common: &Common,
) -> Asked {
    let game = &loaded.game;
    let (found_structure, far) = match structure(model, found, limits, watcher) {
        Ok((s, far)) => (Ok(s), Some(far)),
        Err(e) => (Err(e), None),
    };
    let must_pass = match &found_structure {
        Ok(s) => s.must_pass.iter().map(|id| found.space.state(*id)).collect(),
        Err(_) => vec![],
    };
    let plain = known && game.starts.len() <= 1;
    let far = far.filter(|_| plain);
    let idle = match (plain && found_structure.is_ok(), game.has_goal()) {
        (true, true) => idle_parts(game, found, limits, idle, watcher, common),
        _ => Err("asked of levels with one start, a goal and nothing hidden, seen whole".into()),
    };
    Asked {
        detours: far.as_ref().and_then(|_| detours(loaded, found)),
        bound: far.as_ref().and_then(|far| check_bound(game, found, far)),
        found: found_structure,
        must_pass,
        idle,
        sure: model.is_sure(),
    }
}

fn goals_at(found: &Explored, depth: u32) -> Vec<StateId> {
    found.space.level(depth).filter(|id| found.space.class(*id) == Class::Goal).collect()
}

/// The moves of the first shortest solution that go away from the goal.
fn detours(loaded: &Loaded, found: &Explored) -> Option<Vec<Detour>> {
    let game = &loaded.game;
    let b = &game.bound;
    let depth = found.counts.shortest?;
    let route = found.route_to(game, depth, &goals_at(found, depth), false)?;
    let played = played_route(game, &loaded.moves, &route).ok()?;
    let mut out = vec![];
    for (i, (pair, (n, p))) in played.states.windows(2).zip(&played.moves).enumerate() {
        let bound = b.model.bound.as_ref().and_then(|(body, _)| {
            let mut eval = Eval::new(b);
            let (was, is) = (eval.value_in(body, &pair[0]).ok()?, eval.value_in(body, &pair[1]).ok()?);
            (is > was).then_some((was, is))
        });
        let undone = match (goal_done(b, &pair[0]), goal_done(b, &pair[1])) {
            (Some(was), Some(is)) if was.len() == is.len() => {
                was.iter().zip(&is).filter(|(was, is)| **was && !**is).count()
            }
            _ => 0,
        };
        if bound.is_some() || undone > 0 {
            let name = call_text(loaded.moves.name(*n), p);
            out.push(Detour { number: i + 1, name, bound, undone });
        }
    }
    Some(out)
}

/// Compares the model's bound with the true distances.
fn check_bound(game: &Game, found: &Explored, far: &Distances) -> Option<BoundCheck> {
    let (body, _) = game.bound.model.bound.as_ref()?;
    let (space, mut eval) = (&found.space, Eval::new(&game.bound));
    let whole = found.counts.states <= BOUND_STATES;
    let mut out = BoundCheck { states: 0, whole, broken: 0, first: None };
    let levels = if whole { space.levels_len() } else { found.counts.shortest.unwrap_or(0).min(1) };
    for depth in 0..levels {
        for id in space.level(depth) {
            if !matches!(space.class(id), Class::Winnable | Class::Goal) {
                continue;
            }
            let Some(d) = far.get(id) else { continue };
            let state = game.unpack(&space.state(id));
            let Ok(says) = eval.value_in(body, &state) else { continue };
            out.states += 1;
            if says > i64::from(d) {
                out.broken += 1;
                out.first.get_or_insert((state, says, d));
            }
        }
    }
    Some(out)
}

/// Takes each wall, piece and cell out alone and solves the level again.
fn idle_parts(
    game: &Game,
    found: &Explored,
    limits: &Limits,
    anyway: bool,
    watcher: &Watcher,
    common: &Common,
) -> Result<Idle, String> {
    let list = without_each(&game.bound);
    let work = found.counts.states.saturating_mul(list.len() as u64);
    if work > IDLE_STATES && !anyway {
        return Err(format!(
            "not tried: {} levels with one part taken out, of about {} each; --idle tries them",
            grouped(list.len() as u64),
            counted(found.counts.states, "state", "states")
        ));
    }
    let most = found.counts.states.saturating_mul(8).saturating_add(100_000).min(limits.max_states);
    let limits = Limits { max_states: most, ..*limits };
    let mut out = Idle { tried: list.len(), idle: vec![], open: 0 };
    let verdict = found.counts.shortest;
    for without in list {
        if let Some(limit) = watcher.look(&Progress::default()) {
            return Err(format!("stopped by {}", limit_text(limit, common)));
        }
        let (kind, name, cell) = (without.kind, without.name.clone(), without.cell.clone());
        let Ok(game) = without.game() else { continue };
        match solve(&game, limits, watcher).map(|s| s.verdict) {
            Ok(Verdict::Solvable(route)) if verdict == Some(route.moves.len() as u32) => {
                out.idle.push((kind, name, cell))
            }
            Ok(Verdict::Unsolvable) if verdict.is_none() => out.idle.push((kind, name, cell)),
            Ok(Verdict::Undecided(Limit::Interrupted | Limit::Time)) => {
                return Err("stopped before all were tried".into());
            }
            Ok(Verdict::Undecided(_)) => out.open += 1,
            // A model that breaks without the part needs it.
            _ => {}
        }
    }
    Ok(out)
}

fn percent(s: Share) -> String {
    if s.all == 0 { "none".into() } else { format!("{:.1} %", 100.0 * s.part as f64 / s.all as f64) }
}

fn of_all(s: Share) -> String {
    format!("{} of {} allowed moves keep the game winnable", grouped(s.part), grouped(s.all))
}

fn row(name: &str, value: impl std::fmt::Display, words: &str) -> String {
    let value = value.to_string();
    let gap = if words.is_empty() { "" } else { "   " };
    format!("  {name:<24} {value:>12}{gap}{words}")
}

fn decimal(n: u64, d: u64) -> String {
    if d == 0 { "none".into() } else { format!("{:.2}", n as f64 / d as f64) }
}

impl Asked {
    /// As text. `lines` draws a packed state; `knowing`: states are what a player can know.
    pub fn write(
        &self,
        s: &mut Session,
        loaded: &Loaded,
        found: &Explored,
        lines: &dyn Fn(&[u64]) -> Vec<String>,
        knowing: bool,
    ) -> Result<(), Trouble> {
        s.line("")?;
        let st = match &self.found {
            Ok(st) => st,
            Err(e) => {
                s.line(match e {
                    NotSeen::Open => "no structure: it is asked of a space that was seen whole".to_string(),
                    NotSeen::Memory { bytes: n } => format!(
                        "no structure: its graph takes {} beside the states, more than --memory leaves",
                        bytes(*n)
                    ),
                    NotSeen::Stopped => "no structure: it was stopped before it was done".into(),
                })?;
                return Ok(());
            }
        };
        s.line("structure")?;
        if !self.sure || knowing {
            s.lines(&wrapped(
                "with chance or hidden things: a way is one of moves and of what is drawn, every solution means every lucky \
                 one, and a move is fatal when it is so whatever is drawn",
                WIDTH,
            ))?;
        }
        self.write_fatal(s, st)?;
        self.write_rooms(s, st)?;
        self.write_ways(s, loaded, st)?;
        self.write_idle(s)?;
        self.write_must_pass(s, found, st, lines)
    }

    fn write_fatal(&self, s: &mut Session, st: &Structure) -> Result<(), Trouble> {
        let fatal: u64 = st.fatal_by_depth.iter().sum();
        s.line("")?;
        s.line("where it dies")?;
        s.line(row("fatal moves", grouped(fatal), "all that follows is dead, stuck or lost"))?;
        if fatal > 0 {
            let depths = st.fatal_by_depth.iter().enumerate().filter(|d| *d.1 > 0);
            let list: Vec<String> = depths.map(|(d, n)| format!("{d}: {}", grouped(*n))).collect();
            let most = 12;
            let more = if list.len() > most {
                format!(", ... to depth {}", st.fatal_by_depth.len() - 1)
            } else {
                String::new()
            };
            let text = format!("by depth              {}{more}", list[..list.len().min(most)].join(", "));
            s.lines(&wrapped(&text, WIDTH - 4).iter().map(|l| format!("    {l}")).collect::<Vec<_>>())?;
            let d = &st.delay;
            let words = "moves until a fatal move shows: stuck or lost, at the soonest";
            match d.mean() {
                Some(mean) => {
                    let range = format!("{mean:.1}");
                    s.line(row(
                        "delay of punishment",
                        range,
                        &format!("{words}; {} to {}", d.least, d.greatest),
                    ))?;
                }
                None => s.line(row("delay of punishment", "none", "no fatal move ever shows by itself"))?,
            }
            if d.never_shows > 0 {
                s.line(row(
                    "never shows",
                    grouped(d.never_shows),
                    "fatal moves after which play can only go on",
                ))?;
            }
        }
        let r = &st.rooms;
        let depth = r.trap_depth.map_or(String::new(), |d| format!("; the nearest at depth {d}"));
        let words = format!("rooms of dead states that are never left{depth}");
        s.line(row("traps", grouped(r.traps), &words))?;
        if r.traps > 0 {
            s.line(row("  states in them", grouped(r.trap_states), ""))?;
        }
        Ok(())
    }

    fn write_rooms(&self, s: &mut Session, st: &Structure) -> Result<(), Trouble> {
        let r = &st.rooms;
        s.line("")?;
        s.line("rooms and doors")?;
        s.line(row(
            "rooms",
            grouped(r.rooms),
            &format!("states that reach each other; the largest has {}", grouped(r.largest)),
        ))?;
        s.line(row("one-way doors", grouped(r.doors), "transitions that lead out of a room for good"))?;
        if r.winnable_rooms > 0 {
            s.line(row("winnable rooms", grouped(r.winnable_rooms), ""))?;
            let words = match r.essentially_unique {
                true => "one chain carries every solution: essentially unique",
                false => "doors that keep the game winnable",
            };
            s.line(row("doors between them", grouped(r.winnable_doors), words))?;
        }
        Ok(())
    }

    fn write_ways(&self, s: &mut Session, loaded: &Loaded, st: &Structure) -> Result<(), Trouble> {
        s.line("")?;
        s.line("the way")?;
        s.line(row(
            "branching",
            decimal(st.branching.part, st.branching.all),
            &format!("allowed moves of a running state; {} at the most", st.widest),
        ))?;
        let Some(short) = &st.shortest else { return Ok(()) };
        let digits = short.count.parse::<u64>().map_or(short.count.clone(), grouped);
        s.line(row("least moves", short.moves, ""))?;
        s.line(row(
            "shortest solutions",
            digits,
            &format!("through {}", counted(short.states, "state", "states")),
        ))?;
        if let Some(n) = short.up_to_swaps {
            s.line(row("  up to swaps", grouped(n), "of neighbouring moves with the same result"))?;
        }
        s.line(row(
            "must-pass states",
            grouped(st.must_pass.len() as u64),
            "on every way to a goal, the ends among them",
        ))?;
        s.line(row("corridor, on the way", percent(short.corridor), &of_all(short.corridor)))?;
        s.line(row("corridor, everywhere", percent(st.corridor), &of_all(st.corridor)))?;
        if let Some(list) = &self.detours {
            s.line(row("detours", list.len(), "moves that undo a part of the goal or go away from it"))?;
            for d in list {
                let mut why = vec![];
                if let Some((was, is)) = d.bound {
                    why.push(format!("the bound goes from {was} to {is}"));
                }
                if d.undone > 0 {
                    why.push(format!("{} undone", counted(d.undone as u64, "part", "parts")));
                }
                s.line(format!("    move {}, {}: {}", d.number, d.name, why.join(", ")))?;
            }
        }
        if let Some(c) = &self.bound {
            self.write_bound(s, loaded, c)?;
        }
        Ok(())
    }

    fn write_bound(&self, s: &mut Session, loaded: &Loaded, c: &BoundCheck) -> Result<(), Trouble> {
        let over = match c.whole {
            true => format!("on all {} that can be won", counted(c.states, "state", "states")),
            false => "on the start; the space is too large to look at all of it".into(),
        };
        match &c.first {
            None => s.line(row("the model's bound", "holds", &over))?,
            Some((state, says, is)) => {
                s.line(row(
                    "the model's bound",
                    "broken",
                    &format!("in {} of them, {over}", grouped(c.broken)),
                ))?;
                s.line(format!("    first here, where it says {says} and {is} are enough:"))?;
                s.line(format!("    {}", loaded.game.bound.line(state)))?;
            }
        }
        Ok(())
    }

    fn write_idle(&self, s: &mut Session) -> Result<(), Trouble> {
        s.line("")?;
        s.line("idle parts: each taken out alone changes neither the verdict nor the least number of moves")?;
        match &self.idle {
            Err(why) => s.lines(&wrapped(&format!("  {why}"), WIDTH))?,
            Ok(idle) if idle.tried == 0 => {
                s.line("  this level has no wall, piece or cell to be taken out")?;
            }
            Ok(idle) => {
                for kind in [Removed::Wall, Removed::Piece, Removed::Cell] {
                    let list: Vec<_> = idle.idle.iter().filter(|i| i.0 == kind).collect();
                    s.line(row(&format!("{}s", kind.word()), list.len(), ""))?;
                    for group in list.chunk_by(|a, b| a.1 == b.1) {
                        let cells: Vec<&str> = group.iter().map(|i| i.2.as_str()).collect();
                        let name =
                            if group[0].1.is_empty() { String::new() } else { format!("{}: ", group[0].1) };
                        let lines = wrapped(&format!("{name}{}", cells.join(" ")), WIDTH - 4);
                        s.lines(&lines.iter().map(|l| format!("    {l}")).collect::<Vec<_>>())?;
                    }
                }
                let open = match idle.open {
                    0 => String::new(),
                    n => format!(", {n} not decided within the limits"),
                };
                s.line(format!("  of {} tried{open}", idle.tried))?;
            }
        }
        Ok(())
    }

    fn write_must_pass(
        &self,
        s: &mut Session,
        found: &Explored,
        st: &Structure,
        lines: &dyn Fn(&[u64]) -> Vec<String>,
    ) -> Result<(), Trouble> {
        if self.must_pass.is_empty() {
            return Ok(());
        }
        s.line("")?;
        let more = self.must_pass.len().saturating_sub(DRAWN);
        let cut = if more > 0 { format!(" (the first {DRAWN}; {more} more)") } else { String::new() };
        s.line(format!("must-pass states in their order{cut}"))?;
        let blocks: Vec<Vec<String>> = self
            .must_pass
            .iter()
            .zip(&st.must_pass)
            .take(DRAWN)
            .map(|(w, id)| {
                let mut block = vec![format!("depth {}", found.space.depth_of(*id))];
                block.extend(lines(w));
                block
            })
            .collect();
        s.lines(&side_by_side(&blocks, 4, WIDTH))?;
        Ok(())
    }

    /// For programs. `line` writes a packed state.
    pub fn json(&self, loaded: &Loaded, line: &dyn Fn(&[u64]) -> String) -> Value {
        let st = match &self.found {
            Ok(st) => st,
            Err(e) => {
                return json!({"computed": false, "why": match e {
                    NotSeen::Open => "the space was not seen whole".to_string(),
                    NotSeen::Memory { bytes } => format!("it takes {bytes} bytes more"),
                    NotSeen::Stopped => "stopped".into(),
                }});
            }
        };
        let mut out = json!(st);
        out["computed"] = json!(true);
        out["delay"]["mean"] = json!(st.delay.mean());
        out["must_pass"] = self.must_pass.iter().map(|w| json!(line(w))).collect();
        out["detours"] = json!(self.detours.as_ref().map(|list| {
            list.iter()
                .map(|d| {
                    json!({
                        "number": d.number, "move": d.name, "parts_undone": d.undone,
                        "bound": d.bound.map(|(was, is)| json!([was, is])),
                    })
                })
                .collect::<Vec<_>>()
        }));
        out["bound"] = json!(self.bound.as_ref().map(|c| json!({
            "states": c.states, "whole": c.whole, "broken": c.broken,
            "first": c.first.as_ref().map(|(state, says, is)| json!({
                "position": loaded.game.bound.line(state), "says": says, "moves": is,
            })),
        })));
        out["idle"] = match &self.idle {
            Err(why) => json!({"tried": 0, "why": why}),
            Ok(i) => json!({
                "tried": i.tried,
                "undecided": i.open,
                "idle": i.idle.iter().map(|(k, n, c)| json!({"kind": k.word(), "what": n, "at": c})).collect::<Vec<_>>(),
            }),
        };
        out
    }
}
