//! The structure of a space as text: a part of `explore --structure`.

use fendle_ask::Answer;
use fendle_ask::explore::Space;
use fendle_ask::structure::{BoundCheck, Idle, IdlePart, Parts, Structured};
use fendle_core::numbers::{bytes, counted, grouped};
use fendle_core::structure::{NotSeen, Share};
use fendle_lang::reasons::parts::Removed;
use fendle_view::text::wrapped as folded;

use super::{WIDTH, beside, headed, position_lines, wrapped};

/// Most must-pass states that are drawn.
const DRAWN: usize = 12;

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

fn indented(lines: Vec<String>) -> impl Iterator<Item = String> {
    lines.into_iter().map(|l| format!("    {l}"))
}

/// Appends the structure, or why there is none.
pub fn write(out: &mut Vec<String>, a: &Answer<Space>, s: &Structured) {
    out.push(String::new());
    let parts = match &s.0 {
        Ok(parts) => parts,
        Err(e) => {
            out.push(match e {
                NotSeen::Open => "no structure: it is asked of a space that was seen whole".to_string(),
                NotSeen::Memory { bytes: n } => format!(
                    "no structure: its graph takes {} beside the states, more than --memory leaves",
                    bytes(*n)
                ),
                NotSeen::Stopped(_) => {
                    let by = a.stopped_by.as_ref().map_or("a limit", |s| s.words.as_str());
                    format!("no structure: stopped by {by} before it was done")
                }
            });
            return;
        }
    };
    out.push("structure".into());
    if !parts.sure || a.found.is_knowing() {
        out.extend(wrapped(
            "with chance or hidden things: a way is one of moves and of what is drawn, every solution means every lucky \
             one, and a move is fatal when it is so whatever is drawn",
        ));
    }
    fatal(out, parts);
    rooms(out, parts);
    ways(out, parts);
    idle(out, a, parts);
    must_pass(out, parts);
}

fn fatal(out: &mut Vec<String>, parts: &Parts) {
    let st = &parts.structure;
    let fatal: u64 = st.fatal_by_depth.iter().sum();
    out.push(String::new());
    out.push("where it dies".into());
    out.push(row("fatal moves", grouped(fatal), "all that follows is dead, stuck or lost"));
    if fatal > 0 {
        let depths = st.fatal_by_depth.iter().enumerate().filter(|d| *d.1 > 0);
        let list: Vec<String> = depths.map(|(d, n)| format!("{d}: {}", grouped(*n))).collect();
        let most = 12;
        let more = match list.len() > most {
            true => format!(", ... to depth {}", st.fatal_by_depth.len() - 1),
            false => String::new(),
        };
        let text = format!("by depth              {}{more}", list[..list.len().min(most)].join(", "));
        out.extend(indented(folded(&text, WIDTH - 4)));
        let d = &st.delay;
        let words = "moves until a fatal move shows: stuck or lost, at the soonest";
        out.push(match d.mean() {
            Some(mean) => row(
                "delay of punishment",
                format!("{mean:.1}"),
                &format!("{words}; {} to {}", d.least, d.greatest),
            ),
            None => row("delay of punishment", "none", "no fatal move ever shows by itself"),
        });
        if d.never_shows > 0 {
            let words = "fatal moves after which play can only go on";
            out.push(row("never shows", grouped(d.never_shows), words));
        }
    }
    let r = &st.rooms;
    let depth = r.trap_depth.map_or(String::new(), |d| format!("; the nearest at depth {d}"));
    let words = format!("rooms of dead states that are never left{depth}");
    out.push(row("traps", grouped(r.traps), &words));
    if r.traps > 0 {
        out.push(row("  states in them", grouped(r.trap_states), ""));
    }
}

fn rooms(out: &mut Vec<String>, parts: &Parts) {
    let r = &parts.structure.rooms;
    out.push(String::new());
    out.push("rooms and doors".into());
    let words = format!("states that reach each other; the largest has {}", grouped(r.largest));
    out.push(row("rooms", grouped(r.rooms), &words));
    let words = "transitions that lead out of a room for good";
    out.push(row("one-way doors", grouped(r.doors), words));
    if r.winnable_rooms > 0 {
        out.push(row("winnable rooms", grouped(r.winnable_rooms), ""));
        let words = match r.essentially_unique {
            true => "one chain carries every solution: essentially unique",
            false => "doors that keep the game winnable",
        };
        out.push(row("doors between them", grouped(r.winnable_doors), words));
    }
}

fn ways(out: &mut Vec<String>, parts: &Parts) {
    let st = &parts.structure;
    out.push(String::new());
    out.push("the way".into());
    let branching = match st.branching.all {
        0 => "none".into(),
        all => format!("{:.2}", st.branching.part as f64 / all as f64),
    };
    let words = format!("allowed moves of a running state; {} at the most", st.widest);
    out.push(row("branching", branching, &words));
    let Some(short) = &st.shortest else { return };
    let digits = short.count.parse::<u64>().map_or(short.count.clone(), grouped);
    out.push(row("least moves", short.moves, ""));
    let words = format!("through {}", counted(short.states, "state", "states"));
    out.push(row("shortest solutions", digits, &words));
    if let Some(n) = short.up_to_swaps {
        out.push(row("  up to swaps", grouped(n), "of neighbouring moves with the same result"));
    }
    let words = "on every way to a goal, the ends among them";
    out.push(row("must-pass states", grouped(parts.must_pass.len() as u64), words));
    out.push(row("corridor, on the way", percent(short.corridor), &of_all(short.corridor)));
    out.push(row("corridor, everywhere", percent(st.corridor), &of_all(st.corridor)));
    if let Some(list) = &parts.detours {
        out.push(row("detours", list.len(), "moves that undo a part of the goal or go away from it"));
        for d in list {
            let mut why = vec![];
            if let Some((was, is)) = d.bound {
                why.push(format!("the bound goes from {was} to {is}"));
            }
            if d.parts_undone > 0 {
                why.push(format!("{} undone", counted(d.parts_undone as u64, "part", "parts")));
            }
            out.push(format!("    move {}, {}: {}", d.number, d.name, why.join(", ")));
        }
    }
    if let Some(c) = &parts.bound {
        bound(out, c);
    }
}

fn bound(out: &mut Vec<String>, c: &BoundCheck) {
    let over = match c.whole {
        true => format!("on all {} that can be won", counted(c.states, "state", "states")),
        false => "on the start; the space is too large to look at all of it".into(),
    };
    match &c.first {
        None => out.push(row("the model's bound", "holds", &over)),
        Some(first) => {
            let words = format!("in {} of them, {over}", grouped(c.broken));
            out.push(row("the model's bound", "broken", &words));
            out.push(format!("    first here, where it says {} and {} are enough:", first.says, first.moves));
            out.push(format!("    {}", first.position.line));
        }
    }
}

fn idle(out: &mut Vec<String>, a: &Answer<Space>, parts: &Parts) {
    out.push(String::new());
    out.push(
        "idle parts: each taken out alone changes neither the verdict nor the least number of moves".into(),
    );
    match &parts.idle {
        Idle::NotTried(why) => out.extend(wrapped(&format!("  {why}"))),
        Idle::Stopped(_) => {
            let by = a.stopped_by.as_ref().map_or("a limit", |s| s.words.as_str());
            out.push(format!("  stopped by {by} before all were tried"));
        }
        Idle::Tried { tried: 0, .. } => {
            out.push("  this level has no wall, piece or cell to be taken out".into());
        }
        Idle::Tried { tried, idle, open } => {
            for kind in [Removed::Wall, Removed::Piece, Removed::Cell] {
                let list: Vec<&IdlePart> = idle.iter().filter(|i| i.kind == kind).collect();
                out.push(row(&format!("{}s", kind.word()), list.len(), ""));
                for group in list.chunk_by(|a, b| a.name == b.name) {
                    let cells: Vec<&str> = group.iter().map(|i| i.cell.as_str()).collect();
                    let name = match group[0].name.as_str() {
                        "" => String::new(),
                        name => format!("{name}: "),
                    };
                    out.extend(indented(folded(&format!("{name}{}", cells.join(" ")), WIDTH - 4)));
                }
            }
            let open = match open {
                0 => String::new(),
                n => format!(", {n} not decided within the limits"),
            };
            out.push(format!("  of {tried} tried{open}"));
        }
    }
}

fn must_pass(out: &mut Vec<String>, parts: &Parts) {
    if parts.must_pass.is_empty() {
        return;
    }
    out.push(String::new());
    let more = parts.must_pass.len().saturating_sub(DRAWN);
    let cut = if more > 0 { format!(" (the first {DRAWN}; {more} more)") } else { String::new() };
    out.push(format!("must-pass states in their order{cut}"));
    let states = parts.must_pass.iter().zip(&parts.must_pass_depths).take(DRAWN);
    let blocks: Vec<Vec<String>> =
        states.map(|(p, depth)| headed(format!("depth {depth}"), position_lines(p))).collect();
    out.extend(beside(&blocks));
}
