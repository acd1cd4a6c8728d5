//! `fendle why`: why a position cannot be won, or what its fatal moves destroy.

use std::collections::BTreeSet;

use fendle_core::{Class, Explored, Model as _, Progress, Watch as _, explore};
use fendle_lang::play::{Step, merged, step};
use fendle_lang::reasons::dead::{
    DeadPart, Fact, Typed, cells_of, fact_text, gallery, is_bad, minimal_part, typed_states,
};
use fendle_lang::reasons::effects::{Effects, WAYS_MAX, goal_ways};
use fendle_lang::reasons::invariant::{Apart, Invariants, Quantity};
use fendle_lang::reasons::keeps::{Proof, proof};
use fendle_lang::run::Eval;
use fendle_lang::state::ending_text;
use fendle_lang::{Bound, Game};
use fendle_view::board::{Board, side_by_side};
use fendle_view::scene::Scene;
use fendle_view::text::{counted, grouped, wrapped};
use fendle_view::tiles::sheet;
use serde_json::{Value, json};

use super::solve::{found_json, found_line, proof_json, proof_lines};
use super::{WIDTH, call_text, class_word, head, title};
use crate::args::{Format, LevelArgs, PictureArgs};
use crate::files::{Loaded, load};
use crate::look::{part, write_scene};
use crate::watch::{Watcher, limit_text, limits};
use crate::{Exit, Session, Trouble};

/// Transitions above which quantities are not looked for in what was seen.
const SEEN_MAX: u64 = 500_000;
/// Kept quantities shown where none of them decides.
const KEPT_SHOWN: usize = 4;
/// Terms of a quantity that was only checked: more would say nothing to anybody.
const TERMS_SEEN: usize = 6;

/// The space over which something is called dead.
pub struct Ground {
    /// The game with its starts there.
    pub game: Game,
    /// What was found.
    pub found: Explored,
    /// Over which states, in words.
    pub over: String,
    /// For programs.
    pub kind: &'static str,
}

/// The words for questions that take the layout as known.
pub fn needs_known(game: &Game, known: bool, what: &str) -> Result<(), Trouble> {
    if game.bound.model.hides() && !known {
        return Err(Trouble::Message(format!(
            "`{what}` speaks of positions of one layout, and this level hides things from the player: --known takes the \
             layout as known; `fendle infer` and `fendle explore` speak of what can be known"
        )));
    }
    Ok(())
}

/// Explores a game, with its faults as trouble.
pub fn explored(s: &Session, game: &Game, watcher: &Watcher) -> Result<Explored, Trouble> {
    let found = explore(game, limits(&s.common), false, watcher)
        .map_err(|f| Trouble::Message(format!("the start breaks the model: {}", game.run_fault(&f))))?;
    if let Some(fault) = &found.fault {
        return Err(Trouble::Message(format!("model fault: {}", game.run_fault(&fault.fault))));
    }
    Ok(found)
}

/// The level's own space from where its play begins, with every state standing for itself.
fn level_ground(s: &Session, loaded: &Loaded, start: &[i32], watcher: &Watcher) -> Result<Ground, Trouble> {
    let game = loaded.game.apart().at(start.to_vec());
    let found = explored(s, &game, watcher)?;
    let over = format!("the {} of this level", counted(found.counts.states, "state", "states"));
    Ok(Ground { game, found, over, kind: "reached" })
}

/// All typed states, or all placements of the same pieces; `None` where there are too many.
fn typed_ground(s: &Session, game: &Game, all: bool, watcher: &Watcher) -> Result<Option<Ground>, Trouble> {
    let mut stop = || watcher.look(&Progress::default()).is_some();
    let effects = Effects::of(&game.bound, WAYS_MAX, &mut stop);
    let Some((typed, states)) = typed_states(game, effects.as_ref(), all) else { return Ok(None) };
    if states.is_empty() {
        return Ok(None);
    }
    let mut game = game.apart();
    game.starts = states.into_iter().map(|s| (s, 1)).collect();
    let found = explore(&game, limits(&s.common), false, watcher);
    let Ok(found) = found else { return Ok(None) };
    if found.fault.is_some() {
        return Ok(None);
    }
    let n = counted(found.counts.states, "state", "states");
    let (over, kind) = match typed {
        Typed::All => (format!("all {n} that the types allow, reachable or not"), "typed"),
        Typed::Placements => {
            (format!("{n}: every placement of the same pieces, and what follows from them"), "placements")
        }
    };
    Ok(Some(Ground { game, found, over, kind }))
}

impl Ground {
    /// What the space says of a state.
    fn class(&self, state: &[i32]) -> Option<Class> {
        let id = self.found.space.find(&self.game.pack(state))?;
        Some(self.found.space.class(id))
    }

    fn part(&self, state: &[i32]) -> Option<DeadPart> {
        minimal_part(&self.game, &self.found.space, state)
    }

    fn has_hope(&self) -> bool {
        let c = &self.found.counts;
        c.winnable + c.goal + c.open + c.free > 0
    }
}

/// A part as lines: the board blanked but for the cells of the part and the walls beside them, then its other facts.
pub fn part_lines(b: &Bound, state: &[i32], facts: &[Fact]) -> Vec<String> {
    let (cells, beside) = cells_of(b, facts);
    let shown: BTreeSet<usize> = cells.iter().chain(&beside).copied().collect();
    let mut blocks: Vec<Vec<String>> = vec![];
    let pictures = b.draw(state).pictures;
    let many = pictures.len() > 1;
    for p in pictures {
        let mut rows = p.rows;
        for (r, row) in rows.iter_mut().enumerate() {
            for (c, text) in row.iter_mut().enumerate() {
                if !shown.contains(&(r * b.cols + c)) {
                    text.clear();
                }
            }
        }
        if shown.is_empty() {
            continue;
        }
        let mut lines = Board { rows, marks: BTreeSet::new() }.lines();
        if many {
            lines.insert(0, p.name);
        }
        blocks.push(lines);
    }
    let mut out = side_by_side(&blocks, 4, WIDTH);
    let words: Vec<String> = facts.iter().map(|f| fact_text(b, *f)).collect();
    out.extend(wrapped(&words.join(", "), WIDTH));
    out
}

fn part_json(b: &Bound, part: &DeadPart) -> Value {
    part.facts.iter().map(|f| json!(fact_text(b, *f))).collect()
}

/// Quantities that are kept on every transition that was seen from a position, and separate it from every goal.
fn seen_apart(game: &Game, found: &Explored) -> Option<Vec<Apart>> {
    let (b, space) = (&game.bound, &found.space);
    if found.counts.transitions > SEEN_MAX || found.counts.limit.is_some() || game.bound.canon.is_some() {
        return None;
    }
    let ways = goal_ways(b).filter(|w| !w.is_empty() && w.len() <= 16)?;
    let mut pairs = vec![];
    for depth in 0..space.levels_len() {
        space.each_edges(depth, |id, edges| pairs.extend(edges.iter().map(|e| (id, e.to))));
    }
    let states = pairs.into_iter().map(|(a, b)| (game.unpack(&space.state(a)), game.unpack(&space.state(b))));
    let effects = Effects::seen(states, 50_000)?;
    let invariants = Invariants::new(b, &effects);
    let mut out: Vec<Apart> = vec![];
    for pins in &ways {
        let apart = invariants.separates(&b.position, pins, false)?;
        if apart.quantity.terms.len() > TERMS_SEEN {
            return None;
        }
        if !out.contains(&apart) {
            out.push(apart);
        }
    }
    Some(out)
}

/// Quantities that no move changes, by the rules alone, with their values here.
fn kept_list(b: &Bound) -> Vec<(Quantity, i64)> {
    let Some(effects) = Effects::of(b, WAYS_MAX, &mut || false) else { return vec![] };
    let invariants = Invariants::new(b, &effects);
    let list = invariants.list(KEPT_SHOWN);
    list.into_iter().map(|q| (invariants.value_in(&q, &b.position), q)).map(|(v, q)| (q, v)).collect()
}

/// Runs the command.
pub fn run(
    s: &mut Session,
    args: &LevelArgs,
    (all, typed, most): (bool, bool, usize),
    picture: &PictureArgs,
) -> Result<Exit, Trouble> {
    let loaded = load(s, args)?;
    let game = &loaded.game;
    needs_known(game, args.known, "why")?;
    if !game.has_goal() {
        return Err(Trouble::Message(
            "this model has no goal, so no position is dead; `fendle odds` asks how good its aim can be made"
                .into(),
        ));
    }
    if all {
        return run_all(s, &loaded, typed, most, Some(picture));
    }
    if picture.output.is_some() {
        return Err(Trouble::Message("-o draws the dead parts of a level: it wants --all".into()));
    }
    one_position(s, &loaded, typed)
}

/// Why one position cannot be won, or what its fatal moves destroy.
pub fn one_position(s: &mut Session, loaded: &Loaded, typed: bool) -> Result<Exit, Trouble> {
    let game = &loaded.game;
    let b = &game.bound;
    let ended = Eval::new(b)
        .status(&b.position)
        .map_err(|f| Trouble::Message(format!("the position breaks the model: {f}")))?;
    if let Some(e) = ended {
        let words = ending_text(&b.model.endings[e]);
        if s.common.format == Format::Json {
            s.json(&json!({"level": loaded.level.name, "status": words, "position": b.line(&b.position)}))?;
        } else {
            head(s, loaded)?;
            s.line(format!("this position has ended: {words}; that is all there is to say of it"))?;
        }
        return Ok(Exit::Yes);
    }
    let watcher = Watcher::new(&s.common);
    let mut stop = || watcher.look(&Progress::default()).is_some();
    let (kept, only_checked) = proof(&game.apart(), WAYS_MAX, &mut stop);
    if let (Some(kept), false) = (&kept, typed) {
        watcher.finish();
        write_kept(s, loaded, kept)?;
        return Ok(Exit::Yes);
    }
    // Over which states: those of the level, from where its play begins.
    let begun = loaded.history[0].clone();
    let mut ground = level_ground(s, loaded, &begun, &watcher)?;
    let mut class = ground.class(&b.position);
    if class.is_none() {
        // The position is none of this level's.
        ground = level_ground(s, loaded, &b.position, &watcher)?;
        ground.over =
            format!("the {} from this position on", counted(ground.found.counts.states, "state", "states"));
        class = ground.class(&b.position);
    }
    let class = class.unwrap_or(Class::Open);
    if class == Class::Open {
        watcher.finish();
        return undecided(s, loaded, &ground, only_checked.is_some());
    }
    let wide = if is_bad(class) && (typed || !ground.has_hope()) {
        typed_ground(s, game, typed, &watcher)?.filter(|g| g.class(&b.position).is_some_and(is_bad))
    } else {
        None
    };
    if is_bad(class) {
        let from_here = match begun == b.position && ground.kind == "reached" {
            true => None,
            false => Some(level_ground(s, loaded, &b.position, &watcher)?),
        };
        let own = from_here.as_ref().unwrap_or(&ground);
        let seen = if kept.is_none() { seen_apart(&own.game, &own.found) } else { None };
        let states = own.found.counts.states;
        let on = wide.as_ref().unwrap_or(&ground);
        let part = if on.has_hope() { on.part(&b.position) } else { None };
        watcher.finish();
        let dead =
            Dead { class, kept, seen, part, on, states, transitions: own.found.counts.transitions, typed };
        dead.write(s, loaded)?;
        return Ok(Exit::Yes);
    }
    let exit = write_winnable(s, loaded, &ground, class)?;
    watcher.finish();
    Ok(exit)
}

fn write_kept(s: &mut Session, loaded: &Loaded, kept: &Proof) -> Result<(), Trouble> {
    let b = &loaded.game.bound;
    if s.common.format == Format::Json {
        s.json(&json!({
            "level": loaded.level.name,
            "status": "dead",
            "position": b.line(&b.position),
            "reasons": [proof_json(b, kept)],
        }))?;
        return Ok(());
    }
    head(s, loaded)?;
    s.line("this position cannot be won, and no state was visited to know it")?;
    write_proof(s, b, kept)
}

/// A proof from kept quantities, with lines to be pasted into the model where they were found.
pub fn write_proof(s: &mut Session, b: &Bound, kept: &Proof) -> Result<(), Trouble> {
    for line in proof_lines(b, kept) {
        s.lines(&wrapped(&line, WIDTH))?;
    }
    if let Proof::Found(list) = kept {
        keeps_lines(s, b, list)?;
    }
    Ok(())
}

fn keeps_lines(s: &mut Session, b: &Bound, list: &[Apart]) -> Result<(), Trouble> {
    s.line("to be pasted into the model:")?;
    for a in list {
        s.lines(&a.quantity.keeps_line(b).lines().map(|l| format!("    {l}")).collect::<Vec<_>>())?;
    }
    Ok(())
}

/// What is known of a dead position.
struct Dead<'g> {
    class: Class,
    kept: Option<Proof>,
    seen: Option<Vec<Apart>>,
    part: Option<DeadPart>,
    on: &'g Ground,
    states: u64,
    transitions: u64,
    typed: bool,
}

impl Dead<'_> {
    fn write(&self, s: &mut Session, loaded: &Loaded) -> Result<(), Trouble> {
        let b = &loaded.game.bound;
        let agree = self.part.as_ref().map(|p| agreeing(self.on, p));
        if s.common.format == Format::Json {
            let mut reasons: Vec<Value> = self.kept.iter().map(|k| proof_json(b, k)).collect();
            if let Some(list) = &self.seen {
                reasons.push(json!({
                    "kind": "kept quantity",
                    "found": true,
                    "how": "checked on every transition of this space",
                    "transitions": self.transitions,
                    "quantities": list.iter().map(|a| found_json(b, a)).collect::<Vec<_>>(),
                }));
            }
            if let Some(p) = &self.part {
                reasons.push(json!({
                    "kind": "dead part",
                    "part": part_json(b, p),
                    "over": self.on.kind,
                    "states": self.on.found.counts.states,
                    "agreeing": agree,
                }));
            }
            reasons.push(json!({"kind": "exhausted space", "states": self.states}));
            s.json(&json!({
                "level": loaded.level.name,
                "status": class_word(self.class),
                "position": b.line(&b.position),
                "reasons": reasons,
            }))?;
            return Ok(());
        }
        head(s, loaded)?;
        s.line(match self.class {
            Class::Stuck => "this position is stuck: no move is allowed",
            _ => "this position is dead: moves are left, and no goal can be reached",
        })?;
        if !loaded.game.is_sure() {
            s.line("dead means: whatever is drawn")?;
        }
        if let Some(kept) = &self.kept {
            s.line("")?;
            write_proof(s, b, kept)?;
        }
        if let Some(list) = &self.seen {
            s.line("")?;
            let how =
                format!("found, and checked on all {} transitions from here", grouped(self.transitions));
            for a in list {
                s.lines(&wrapped(&found_line(b, a, &how, list.len()), WIDTH))?;
            }
            keeps_lines(s, b, list)?;
        }
        s.line("")?;
        match &self.part {
            Some(p) => {
                s.lines(&wrapped(
                    &format!(
                        "minimal dead part, over {}: {} dead, stuck or lost, and nothing of it can be left out",
                        self.on.over,
                        all_of(agree.unwrap_or(0), "agrees here", "agree here")
                    ),
                    WIDTH,
                ))?;
                s.lines(&part_lines(b, &b.position, &p.facts))?;
            }
            None if self.typed => s.line(
                "the typed states are too many to be enumerated, and so are the placements of its pieces",
            )?,
            None if !self.on.has_hope() => {
                s.line("no part of it alone is to blame: nothing here can be won")?;
            }
            None => {}
        }
        s.line("")?;
        s.line(match self.states {
            1 => "the space from here is exhausted: it is this state alone".to_string(),
            n => format!(
                "the space from here is exhausted: none of its {} is won",
                counted(n, "state", "states")
            ),
        })?;
        Ok(())
    }
}

/// `the one state that ... is`, `all 45 states that ... are`.
fn all_of(n: u64, one: &str, many: &str) -> String {
    match n {
        1 => format!("the one state that {one} is"),
        n => format!("all {} states that {many} are", grouped(n)),
    }
}

/// States of a ground that hold a part.
fn agreeing(on: &Ground, part: &DeadPart) -> u64 {
    let space = &on.found.space;
    let mut n = 0;
    for depth in 0..space.levels_len() {
        for id in space.level(depth) {
            let state = on.game.unpack(&space.state(id));
            n += u64::from(part.facts.iter().all(|f| state[f.at] == f.value));
        }
    }
    n
}

fn undecided(s: &mut Session, loaded: &Loaded, ground: &Ground, declared: bool) -> Result<Exit, Trouble> {
    let c = &ground.found.counts;
    let why = match c.limit {
        Some(limit) => limit_text(limit, &s.common),
        None => "branches of chance that were set aside".into(),
    };
    let text = format!(
        "undecided: stopped by {why} after {}; no kept quantity that is proved separates this position from a goal{}",
        counted(c.states, "state", "states"),
        if declared { ", and a declared one that would is not proved" } else { "" }
    );
    if s.common.format == Format::Json {
        s.json(&json!({"level": loaded.level.name, "status": "undecided", "why": text, "states": c.states}))?;
    } else {
        head(s, loaded)?;
        s.lines(&wrapped(&text, WIDTH))?;
    }
    Ok(if c.limit == Some(fendle_core::Limit::Interrupted) { Exit::Interrupted } else { Exit::Undecided })
}

/// One allowed move of a winnable position.
struct After {
    name: String,
    /// Classes of its outcomes with the states.
    outcomes: Vec<(Class, Vec<i32>, String)>,
}

fn write_winnable(s: &mut Session, loaded: &Loaded, ground: &Ground, class: Class) -> Result<Exit, Trouble> {
    let b = &loaded.game.bound;
    let space = &ground.found.space;
    let mut moves = vec![];
    for n in 0..loaded.moves.list.len() {
        let made = step(b, &loaded.moves, &b.position, n, false)
            .map_err(|f| Trouble::Message(format!("model fault: {f}")))?;
        let Step::Made(list) = made else { continue };
        let outcomes = merged(list)
            .into_iter()
            .map(|p| {
                let class = ground.class(&p.made.state).unwrap_or(Class::Open);
                let name = call_text(loaded.moves.name(n), &p);
                (class, p.made.state, name)
            })
            .collect();
        moves.push(After { name: loaded.moves.name(n).to_string(), outcomes });
    }
    let fatal: Vec<&After> = moves.iter().filter(|m| m.outcomes.iter().all(|o| is_bad(o.0))).collect();
    let draws: Vec<&(Class, Vec<i32>, String)> = moves
        .iter()
        .filter(|m| !m.outcomes.iter().all(|o| is_bad(o.0)))
        .flat_map(|m| m.outcomes.iter().filter(|o| is_bad(o.0)))
        .collect();
    let far = {
        let back = fendle_core::graph::Arrows::backward(space);
        let far = fendle_core::graph::Distances::of(space, &back);
        space.find(&ground.game.pack(&b.position)).and_then(|id| far.get(id))
    };
    let kept = kept_list(b);
    if s.common.format == Format::Json {
        let destroys = |state: &[i32]| ground.part(state).map(|p| part_json(b, &p));
        s.json(&json!({
            "level": loaded.level.name,
            "status": class_word(class),
            "position": b.line(&b.position),
            "moves_to_goal": far,
            "moves": moves.len(),
            "fatal_moves": fatal.iter().map(|m| json!({
                "move": m.name,
                "leads_to": class_word(m.outcomes[0].0),
                "dead_part": destroys(&m.outcomes[0].1),
            })).collect::<Vec<_>>(),
            "fatal_draws": draws.iter().map(|o| json!({
                "draw": o.2, "leads_to": class_word(o.0), "dead_part": destroys(&o.1),
            })).collect::<Vec<_>>(),
            "over": ground.kind,
            "kept": kept.iter().map(|(q, v)| json!({
                "quantity": q.text(b), "words": q.words(b), "keeps": q.keeps_line(b), "here": v,
            })).collect::<Vec<_>>(),
        }))?;
        return Ok(Exit::Yes);
    }
    head(s, loaded)?;
    let lucky = if loaded.game.is_sure() { "" } else { " if lucky" };
    let at_least = far.map_or(String::new(), |n| {
        format!(", in {}{lucky} at the least", counted(n.into(), "move", "moves"))
    });
    s.line(format!("this position can be won{at_least}"))?;
    s.line(match fatal.len() {
        0 => format!("none of its {} is fatal", counted(moves.len() as u64, "move", "moves")),
        n => format!(
            "{} of its {} fatal:",
            n,
            match moves.len() {
                1 => "1 move is".into(),
                m => format!("{m} moves {}", if n == 1 { "is" } else { "are" }),
            }
        ),
    })?;
    let one = |s: &mut Session, name: &str, class: Class, state: &[i32]| -> Result<(), Trouble> {
        s.line("")?;
        match class {
            Class::Lost | Class::Over => {
                let why = Eval::new(b).status(state).ok().flatten();
                let words = why.map_or(String::new(), |e| ending_text(&b.model.endings[e]));
                s.line(format!("{name}: the game ends: {words}"))?;
                return Ok(());
            }
            Class::Stuck => s.line(format!("{name}: stuck, no move is allowed"))?,
            _ => s.line(format!("{name}: dead afterwards"))?,
        }
        if let Some(p) = ground.part(state) {
            let n = agreeing(ground, &p);
            s.lines(&wrapped(
                &format!(
                    "  what it leaves behind is dead wherever it stands: {} dead, stuck or lost",
                    all_of(n, "holds it", "hold it")
                ),
                WIDTH,
            ))?;
            s.lines(&part_lines(b, state, &p.facts))?;
        }
        Ok(())
    };
    for m in &fatal {
        let (class, state, _) = &m.outcomes[0];
        one(s, &m.name, *class, state)?;
    }
    if !draws.is_empty() {
        s.line("")?;
        s.line(format!(
            "{}: outcomes from which nothing can be won, of moves that also have others",
            counted(draws.len() as u64, "fatal draw", "fatal draws")
        ))?;
        for (class, state, name) in draws.into_iter().take(6) {
            one(s, name, *class, state)?;
        }
    }
    if !kept.is_empty() {
        s.line("")?;
        s.line(
            "kept by every move, found and proved from the rules; the same here as wherever it can be won:",
        )?;
        for (q, value) in &kept {
            s.lines(&wrapped(&format!("  {}: {value}", q.words(b)), WIDTH))?;
            s.lines(&q.keeps_line(b).lines().map(|l| format!("    {l}")).collect::<Vec<_>>())?;
        }
    }
    Ok(Exit::Yes)
}

/// The dead parts of a whole level.
pub fn run_all(
    s: &mut Session,
    loaded: &Loaded,
    typed: bool,
    most: usize,
    picture: Option<&PictureArgs>,
) -> Result<Exit, Trouble> {
    let b = &loaded.game.bound;
    let watcher = Watcher::new(&s.common);
    let mut ground = level_ground(s, loaded, &loaded.history[0], &watcher)?;
    if typed || !ground.has_hope() {
        match typed_ground(s, &loaded.game, typed, &watcher)? {
            Some(wide) => ground = wide,
            None if typed => {
                watcher.finish();
                return Err(Trouble::Message(
                    "the typed states are too many to be enumerated, and so are the placements of the pieces; \
                     without --typed the states of the level are looked at"
                        .into(),
                ));
            }
            None => {}
        }
    }
    if !ground.has_hope() {
        watcher.finish();
        return Err(Trouble::Message(
            "nothing in this level can be won, so no part of a position is to blame more than another; `fendle why` \
             without --all says why"
                .into(),
        ));
    }
    let mut stop = || watcher.look(&Progress::default()).is_some();
    let found = gallery(&ground.game, &ground.found.space, most, &mut stop);
    watcher.finish();
    if let Some((picture, path)) = picture.and_then(|p| Some((p, p.output.as_ref()?))) {
        let theme = picture.theme.theme();
        let words = |n| counted(n, "state", "states");
        let parts =
            found.patterns.iter().filter_map(|p| part(b, &p.example, &p.part.facts, &words(p.states)));
        let scenes: Vec<Scene> = parts.map(|t| t.scene(theme)).collect();
        write_scene(path, &sheet(&scenes, 1240.0, theme, &title(loaded)))?;
    }
    let complete = ground.found.counts.limit.is_none();
    if s.common.format == Format::Json {
        s.json(&json!({
            "level": loaded.level.name,
            "over": ground.kind,
            "states": ground.found.counts.states,
            "complete": complete,
            "dead_states": found.dead,
            "explained": found.explained,
            "capped": found.explained < found.dead,
            "parts": found.patterns.iter().map(|p| json!({
                "states": p.states,
                "part": part_json(b, &p.part),
                "example": b.line(&p.example),
            })).collect::<Vec<_>>(),
        }))?;
        return Ok(if complete { Exit::Yes } else { Exit::Undecided });
    }
    s.line(title(loaded))?;
    s.line("")?;
    s.lines(&wrapped(
        &format!(
            "{} over {}: each holds in no state that can be won, and nothing of it can be left out",
            counted(found.patterns.len() as u64, "minimal dead part", "minimal dead parts"),
            ground.over
        ),
        WIDTH,
    ))?;
    let share = |n: u64| 100.0 * n as f64 / found.dead.max(1) as f64;
    s.line(format!(
        "they explain {} of {} ({:.1} %)",
        grouped(found.explained),
        counted(found.dead, "dead or stuck state", "dead or stuck states"),
        share(found.explained)
    ))?;
    if found.explained < found.dead {
        s.line(format!("the others hold further parts: capped at {most} (--most asks for more)"))?;
    }
    if !complete {
        s.line("not everything was seen: states that are not decided count as hopeful")?;
    }
    let blocks: Vec<Vec<String>> = found
        .patterns
        .iter()
        .map(|p| {
            let mut block =
                vec![format!("{} ({:.1} %)", counted(p.states, "state", "states"), share(p.states))];
            block.extend(part_lines(b, &p.example, &p.part.facts));
            block
        })
        .collect();
    s.line("")?;
    s.lines(&side_by_side(&blocks, 4, WIDTH))?;
    Ok(if complete { Exit::Yes } else { Exit::Undecided })
}
