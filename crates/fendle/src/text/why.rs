//! `why` as text.

use fendle_ask::answer::StoppedBy;
use fendle_ask::solve::{found_line, proof_lines};
use fendle_ask::why::{Dead, DeadParts, Fatal, Large, Part, Reason, Why, Winnable, all_of, undecided_words};
use fendle_ask::{Answer, Loaded};
use fendle_core::Class;
use fendle_core::numbers::{counted, grouped};
use fendle_lang::Bound;
use fendle_lang::reasons::dead::{cells_of, only_part};
use fendle_lang::reasons::invariant::Apart;
use fendle_lang::reasons::keeps::Proof;
use fendle_view::board::Board;

use super::{beside, head, headed, wrapped};

/// Why a position cannot be won, or what its fatal moves destroy.
pub fn lines(a: &Answer<Why>, level: &Loaded) -> Vec<String> {
    let why = &a.found;
    let mut out = head(&a.asked, &why.position);
    match &why.reason {
        Reason::Ended(words) => {
            out.push(format!("this position has ended: {words}; that is all there is to say of it"));
        }
        Reason::Kept(kept) => {
            out.push("this position cannot be won, and no state was visited to know it".into());
            proof(&mut out, level, kept);
        }
        Reason::Undecided { states, declared } => {
            out.extend(wrapped(&undecided_words(a.stopped_by.as_ref(), *states, *declared)));
        }
        Reason::Dead(dead) => dead_lines(&mut out, level, why, dead),
        Reason::Winnable(w) => winnable(&mut out, level, a, w),
        Reason::Large(l) => large(&mut out, level, l),
    }
    out
}

/// What is proved of a position of a level that is too large to be seen whole.
fn large(out: &mut Vec<String>, level: &Loaded, l: &Large) {
    let b = &level.game.bound;
    let alone =
        "cannot all get where the goal wants them, wherever the rest stands (a relaxed puzzle, seen whole)";
    if let Some(part) = &l.dead {
        out.push("this position is dead: no goal can be reached".into());
        out.push(String::new());
        out.extend(wrapped(&format!("dead part: these alone {alone}")));
        out.extend(part_lines(b, part));
        return;
    }
    // A solution has one move at the least: a bound that says no more says nothing.
    let least = l.least.filter(|least| *least > 1);
    let moves = |n: u64| counted(n, "move", "moves");
    out.extend(wrapped(&match (l.solution, least) {
        (Some(n), least) => {
            let found = format!("this position can be won: a solution of {} was found", moves(n as u64));
            match least {
                Some(least) if least as usize >= n => format!("{found}; none is shorter"),
                Some(least) => format!("{found}; none has fewer than {}", moves(least.into())),
                None => format!("{found}; how few are enough is not known"),
            }
        }
        (None, least) => {
            let open = "undecided: the level is too large to be seen whole, no solution was found, and no part of the position is \
                        proved dead";
            match least {
                Some(least) => format!("{open}; a solution has at least {}", moves(least.into())),
                None => open.into(),
            }
        }
    }));
    let moves = counted(l.moves as u64, "move is", "moves are");
    out.push(match l.fatal.len() {
        0 => format!("{moves} allowed; none is proved fatal"),
        n => format!("{moves} allowed; {n} proved fatal"),
    });
    for f in &l.fatal {
        out.push(String::new());
        match (&f.part, &f.ended) {
            (Some(part), _) => {
                out.extend(wrapped(&format!("{} is fatal: these alone {alone}", f.name)));
                out.extend(part_lines(b, part));
            }
            (_, Some(ended)) => out.push(format!("{} ends the game: {ended}", f.name)),
            _ => out.push(format!("{} is fatal", f.name)),
        }
    }
}

/// A proof from kept quantities, with lines to be pasted into the model where they were found.
pub fn proof(out: &mut Vec<String>, level: &Loaded, kept: &Proof) {
    for line in proof_lines(level, kept) {
        out.extend(wrapped(&line));
    }
    if let Proof::Found(list) = kept {
        keeps_lines(out, &level.game.bound, list);
    }
}

fn keeps_lines(out: &mut Vec<String>, b: &Bound, list: &[Apart]) {
    out.push("to be pasted into the model:".into());
    for a in list {
        out.extend(a.quantity.keeps_line(b).lines().map(|l| format!("    {l}")));
    }
}

/// A part as lines: the board blanked but for the cells of the part and the walls beside them, then its other facts.
fn part_lines(b: &Bound, part: &Part) -> Vec<String> {
    let (cells, beside_them) = cells_of(b, &part.facts);
    let shown = |i: usize| cells.contains(&i) || beside_them.contains(&i);
    let mut out = vec![];
    if !cells.is_empty() {
        let alone = only_part(b, &part.position.state, &part.facts);
        let drawn = b.draw(&alone);
        let many = drawn.pictures.len() > 1;
        let mut blocks = vec![];
        for p in drawn.pictures {
            let mut rows = p.rows;
            for (r, row) in rows.iter_mut().enumerate() {
                for (c, text) in row.iter_mut().enumerate() {
                    if !shown(r * b.cols + c) {
                        text.clear();
                    }
                }
            }
            let mut lines = Board { rows, ..Board::default() }.lines();
            if many {
                lines.insert(0, p.name);
            }
            blocks.push(lines);
        }
        out = beside(&blocks);
    }
    out.extend(wrapped(&part.words.join(", ")));
    out
}

fn dead_lines(out: &mut Vec<String>, level: &Loaded, why: &Why, d: &Dead) {
    let b = &level.game.bound;
    out.push(match d.class {
        Class::Stuck => "this position is stuck: no move is allowed".into(),
        _ => "this position is dead: moves are left, and no goal can be reached".into(),
    });
    if !why.sure {
        out.push("dead means: whatever is drawn".into());
    }
    if let Some(kept) = &d.kept {
        out.push(String::new());
        proof(out, level, kept);
    }
    if let Some(list) = &d.seen {
        out.push(String::new());
        let how = format!("found, and checked on all {} transitions from here", grouped(d.transitions));
        for a in list {
            out.extend(wrapped(&found_line(level, a, &how, list.len())));
        }
        keeps_lines(out, b, list);
    }
    out.push(String::new());
    match &d.part {
        Some(p) if p.is_reason() => {
            out.extend(wrapped(&format!(
                "minimal dead part, over {}: {} dead, stuck or lost, and nothing of it can be left out",
                d.over,
                all_of(p.agreeing, "agrees here", "agree here")
            )));
            out.extend(part_lines(b, p));
        }
        Some(_) => out.extend(wrapped(&format!(
            "no part of it alone is to blame, over {}: whatever tells it from all that can be won holds in no other state",
            d.over
        ))),
        None if d.too_many_typed => out.push(
            "the typed states are too many to be enumerated, and so are the placements of its pieces".into(),
        ),
        None if !d.has_hope => out.push("no part of it alone is to blame: nothing here can be won".into()),
        None => {}
    }
    out.push(String::new());
    out.push(match d.states {
        1 => "the space from here is exhausted: it is this state alone".to_string(),
        n => {
            format!("the space from here is exhausted: none of its {} is won", counted(n, "state", "states"))
        }
    });
}

fn winnable(out: &mut Vec<String>, level: &Loaded, a: &Answer<Why>, w: &Winnable) {
    let b = &level.game.bound;
    let lucky = if a.found.sure { "" } else { " if lucky" };
    let at_least = w.far.map_or(String::new(), |n| {
        format!(", in {}{lucky} at the least", counted(n.into(), "move", "moves"))
    });
    out.push(format!("this position can be won{at_least}"));
    if w.unknown > 0 {
        out.extend(wrapped(&not_known(w, a.stopped_by.as_ref())));
    }
    let moves = w.moves as u64;
    match w.fatal.len() {
        0 if w.unknown > 0 => {}
        0 if moves == 1 => out.push("its only move is not fatal".into()),
        0 => out.push(format!("none of its {} is fatal", counted(moves, "move", "moves"))),
        n => {
            let verb = if n == 1 { "is" } else { "are" };
            let of = if moves == 1 { "1 move is".into() } else { format!("{moves} moves {verb}") };
            out.push(format!("{n} of its {of} fatal:"));
        }
    }
    w.fatal.iter().for_each(|m| fatal(out, b, m, w.complete));
    if !w.draws.is_empty() {
        out.push(String::new());
        out.push(format!(
            "{}: outcomes from which nothing can be won, of moves that also have others",
            counted(w.draws.iter().map(|d| d.outcomes as u64).sum(), "fatal draw", "fatal draws")
        ));
        w.draws.iter().take(6).for_each(|m| fatal(out, b, m, w.complete));
    }
    if !w.kept.is_empty() {
        out.push(String::new());
        out.push(
            "kept by every move, found and proved from the rules; the same here as wherever it can be won:"
                .into(),
        );
        for q in &w.kept {
            out.extend(wrapped(&format!("  {}: {}", q.words, q.here)));
            out.extend(q.keeps.lines().map(|l| format!("    {l}")));
        }
    }
}

/// Of which moves it is not known whether they are fatal, and why.
fn not_known(w: &Winnable, stopped: Option<&StoppedBy>) -> String {
    let (are, they) = if w.unknown == 1 { ("is", "it leads") } else { ("are", "they lead") };
    let moves = counted(w.moves as u64, "move", "moves");
    let which = match (w.unknown, w.moves) {
        (1, 1) => "its only move".to_string(),
        (n, all) if n == all => format!("its {moves}"),
        (n, _) => format!("{n} of its {moves}"),
    };
    let others = match w.moves - w.unknown - w.fatal.len() {
        0 => "",
        _ if w.fatal.is_empty() => "; the others are not",
        _ => "; the others that are not named are not",
    };
    let why = stopped.map_or(String::new(), |s| format!(", since the search was stopped by {}", s.words));
    format!("whether {which} {are} fatal is not known: not all that {they} to was seen{why}{others}")
}

/// A fatal move or draw; `complete`: what is said of its part holds wherever it stands, not only where it was seen.
fn fatal(out: &mut Vec<String>, b: &Bound, m: &Fatal, complete: bool) {
    out.push(String::new());
    match m.class {
        Class::Lost | Class::Over => {
            out.push(format!("{}: the game ends: {}", m.name, m.ended.as_deref().unwrap_or_default()));
            return;
        }
        Class::Stuck => out.push(format!("{}: stuck, no move is allowed", m.name)),
        _ => out.push(format!("{}: dead afterwards", m.name)),
    }
    if let Some(p) = m.part.as_ref().filter(|p| p.is_reason()) {
        out.extend(wrapped(&if complete {
            let all = all_of(p.agreeing, "holds it", "hold it");
            format!("  what it leaves behind is dead wherever it stands: {all} dead, stuck or lost")
        } else {
            let all = all_of(p.agreeing, "was seen to hold it", "were seen to hold it");
            format!("  what it leaves behind was dead wherever it was seen: {all} dead, stuck or lost")
        }));
        out.extend(part_lines(b, p));
    }
}

/// The dead parts of a level.
pub fn dead_parts(a: &Answer<DeadParts>, level: &Loaded) -> Vec<String> {
    let (d, b) = (&a.found, &level.game.bound);
    let mut out = vec![a.asked.title.clone(), String::new()];
    out.extend(wrapped(&format!(
        "{} over {}: each holds in no state that can be won, and nothing of it can be left out",
        counted(d.parts.len() as u64, "minimal dead part", "minimal dead parts"),
        d.over_words
    )));
    let share = |n: u64| 100.0 * n as f64 / d.dead_states.max(1) as f64;
    out.push(format!(
        "they explain {} of {} ({:.1} %)",
        grouped(d.explained),
        counted(d.dead_states, "dead or stuck state", "dead or stuck states"),
        share(d.explained)
    ));
    if d.alone > 0 {
        out.push(format!(
            "{}: what tells it from all that can be won holds in no other state",
            counted(d.alone, "further state stands alone", "further states stand alone")
        ));
    }
    if d.capped && d.complete {
        out.push(format!("the others hold further parts: capped at {} (--most asks for more)", d.most));
    }
    if !d.complete {
        out.push("not everything was seen: states that are not decided count as hopeful".into());
    }
    if let Some(by) = super::stopped_line(a) {
        out.push(by);
    }
    let blocks: Vec<Vec<String>> = d
        .parts
        .iter()
        .map(|p| {
            let words = format!("{} ({:.1} %)", counted(p.states, "state", "states"), share(p.states));
            headed(words, part_lines(b, &p.part))
        })
        .collect();
    out.push(String::new());
    out.extend(beside(&blocks));
    out
}
