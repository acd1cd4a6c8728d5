//! `fendle explore`: the whole reachable space, counted and classified.

use std::collections::BTreeSet;
use std::path::Path;

use fendle_core::graph::{Arrows, Distances, by_moves};
use fendle_core::knowledge::Knowing;
use fendle_core::odds::odds;
use fendle_core::{Class, Exploration, Explored, Limit, Limits, Model as _, explore};
use fendle_lang::reasons::dead::{Pattern, gallery};
use fendle_lang::{Bound, Game};
use fendle_view::board::side_by_side;
use fendle_view::chart::{bars, by_depth, columns, depths};
use fendle_view::page::{Part, report};
use fendle_view::text::{bytes, counted, grouped};
use fendle_view::tiles::sheet;
use serde_json::json;

use super::graph::status;
use super::odds::{value_json, value_text};
use super::{WIDTH, fault_json, fault_trouble, lucky_names, move_lines, move_names, position_lines, title};
use crate::args::{ChartArg, Format, LevelArgs, PictureArgs};
use crate::files::{Loaded, load_all};
use crate::know::{Play, begin_words, fault_words, play_or_say};
use crate::look::{ending, part, tiles, write_file, write_scene};
use crate::watch::{Watcher, effort, limit_text, peak_memory};
use crate::{Exit, Session, Trouble};

/// Most bars of the chart of depths.
const BARS: usize = 24;

/// Runs the command.
pub fn run(
    s: &mut Session,
    args: &LevelArgs,
    past_goals: bool,
    structure: Option<bool>,
    (picture, chart): (&PictureArgs, ChartArg),
) -> Result<Exit, Trouble> {
    let loaded = load_all(s, args)?;
    let game = &loaded.game;
    let Some(play) = play_or_say(s, &loaded, args)? else { return Ok(Exit::Undecided) };
    let (model, worlds, limits) = play.on(game, &s.common);
    let watcher = Watcher::new(&s.common);
    // Without the structure nothing asks for the edges again.
    let limits =
        Limits { drop_edges: structure.is_none() && worlds == 0 && picture.output.is_none(), ..limits };
    let found = explore(model, limits, past_goals, &watcher);
    let seconds = watcher.seconds();
    let found = found
        .map_err(|f| Trouble::Message(format!("the start breaks the model: {}", fault_words(game, &f))))?;
    let states = Drawn { game, knowing: if let Play::Knowing(k, _) = &play { Some(k) } else { None } };
    // With knowledge the best chance to win belongs to the space.
    let chance = match (worlds > 0 && found.counts.limit.is_none() && found.fault.is_none(), game.has_goal())
    {
        (true, true) => odds(model, &found, &limits, &watcher).ok().flatten().and_then(|a| a.win),
        _ => None,
    };
    let with_structure = match structure.filter(|_| found.fault.is_none()) {
        Some(idle) => {
            let known = matches!(play, Play::Open);
            Some(super::structure::ask(&loaded, model, &found, &limits, (known, idle), &watcher, &s.common))
        }
        None => None,
    };
    watcher.finish();
    let c = &found.counts;
    if let Some(path) = &picture.output {
        write_picture(path, (picture, chart), &loaded, &found, worlds > 0, &limits)?;
    }
    if s.common.format == Format::Json {
        let mut value = json!(c);
        value["level"] = json!(loaded.level.name);
        value["past_goals"] = json!(past_goals);
        value["begin"] = loaded.begin.json();
        value["nearest_fatal_move"] = match &found.nearest_fatal {
            Some(route) => json!({
                "moves": move_names(game, route),
                "depth": route.moves.len().saturating_sub(1),
                "position": route.states.iter().rev().nth(1).map(|w| states.line(w)),
            }),
            None => json!(null),
        };
        value["played"] = json!(if worlds > 0 { "with knowledge" } else { "layout known" });
        if worlds > 0 {
            value["layouts"] = json!(worlds);
            value["best_probability"] = json!(chance.as_ref().map(value_json));
        }
        if let (Some(fault), 0) = (&found.fault, worlds) {
            value["fault"] = fault_json(&loaded.store, game, fault);
        }
        if let Some(asked) = &with_structure {
            value["structure"] = asked.json(&loaded, &|w| states.line(w));
        }
        value["effort"] = effort(seconds, c.states);
        s.json(&value)?;
    } else {
        s.line(title(&loaded))?;
        if let Some(words) = begin_words(&loaded, args) {
            s.line(words)?;
        }
        s.line("")?;
        if worlds > 0 {
            s.line(format!(
                "played with what can be known: states are what a player can know ({} at the start)",
                counted(worlds as u64, "layout", "layouts")
            ))?;
        }
        if let Some(v) = &chance {
            s.line(format!("best chance to win: {}", value_text(v, true)))?;
        }
        write_text(s, &loaded, &found, &states)?;
        if let Some(asked) = &with_structure {
            asked.write(s, &loaded, &found, &|w| states.lines(w), worlds > 0)?;
        }
        if s.common.verbose {
            s.line("")?;
            let rate = (c.transitions as f64 / seconds.max(1e-9)) as u64;
            s.line(format!(
                "{seconds:.3} s, {} transitions a second, {} peak memory, {} of tables",
                grouped(rate),
                bytes(peak_memory()),
                bytes(found.space.bytes())
            ))?;
        }
    }
    if let (Some(path), true) = (&picture.output, s.common.format == Format::Text) {
        s.line("")?;
        s.line(format!("wrote {}", path.display()))?;
    }
    if let (Some(fault), true) = (&found.fault, worlds > 0) {
        let words = fault_words(game, &fault.fault);
        return Err(Trouble::Message(format!("model fault: {words}; --known shows where")));
    }
    if let Some(fault) = &found.fault {
        return Err(fault_trouble(s, &loaded.store, game, fault));
    }
    Ok(match c.limit {
        None => Exit::Yes,
        Some(Limit::Interrupted) => Exit::Interrupted,
        Some(_) => Exit::Undecided,
    })
}

/// The charts of a space, or a report of the level with its board, numbers, shortest solution and dead parts.
fn write_picture(
    path: &Path,
    (picture, chart): (&PictureArgs, ChartArg),
    loaded: &Loaded,
    found: &Explored,
    knowing: bool,
    limits: &Limits,
) -> Result<(), Trouble> {
    let (space, c, b) = (&found.space, &found.counts, &loaded.game.bound);
    let theme = picture.theme.theme();
    let mut values = vec![[0u64; 8]; space.levels_len() as usize];
    for depth in 0..space.levels_len() {
        for id in space.level(depth) {
            values[depth as usize][status(space.class(id)).number()] += 1;
        }
    }
    let half = if chart == ChartArg::All { 620.0 } else { 1240.0 };
    let mut charts = vec![];
    let head = if chart == ChartArg::All { String::new() } else { format!("{}: ", title(loaded)) };
    if matches!(chart, ChartArg::All | ChartArg::Depth) {
        charts.push(depths(&title(loaded), &values, theme));
    }
    let few = |list: &[u64]| by_depth(list, 60);
    let missing =
        "this chart needs the transitions, and memory ran short: they were not kept; --memory gives more";
    if matches!(chart, ChartArg::Branching | ChartArg::Distance) && !space.has_edges() {
        return Err(Trouble::Message(missing.into()));
    }
    if matches!(chart, ChartArg::All | ChartArg::Branching) && space.has_edges() {
        let name = format!("{head}running states by number of allowed moves");
        charts.push(columns(&name, "allowed moves", &few(&by_moves(space)), (half, 340.0), theme));
    }
    if matches!(chart, ChartArg::All | ChartArg::Distance) && space.has_edges() {
        let list = Distances::of(space, &Arrows::backward(space)).to_goal(space);
        let under = if c.chance { "moves to a goal, if lucky" } else { "moves to a goal" };
        if list.is_empty() && chart == ChartArg::Distance {
            return Err(Trouble::Message("no goal was reached: there is no distance to draw".into()));
        }
        if !list.is_empty() {
            let name = format!("{head}winnable states by distance");
            charts.push(columns(&name, under, &few(&list), (half, 340.0), theme));
        }
    }
    let chart = sheet(&charts, 1240.0, theme, &format!("{}: charts", title(loaded)));
    if ending(path) != "html" {
        return write_scene(path, &chart);
    }
    let mut parts = vec![Part::Words(verdict_line(c))];
    let seen = Bound { as_player: b.as_player || knowing, ..b.clone() };
    let mut top = vec![];
    if let Some(t) = tiles(&seen, &b.position, "") {
        top.push(Part::Picture(t.scene(theme)));
    }
    let number = |name: &str, n: u64| (name.to_string(), grouped(n));
    if let Some(limit) = c.limit {
        parts.push(Part::Words(format!("not everything was seen: {limit:?}")));
    }
    let rows = [
        ("states", c.states),
        ("transitions", c.transitions),
        ("depth", c.depth.into()),
        ("won", c.goal),
        ("lost", c.lost),
        ("over", c.over),
        ("stuck", c.stuck),
        ("dead", c.dead),
        ("winnable", c.winnable),
        ("free", c.free),
        ("open", c.open),
        ("fatal moves", c.fatal_moves),
    ];
    let told = rows.into_iter().filter(|(n, v)| *v > 0 || matches!(*n, "won" | "dead" | "fatal moves"));
    top.push(Part::Table(told.map(|(n, v)| number(n, v)).collect()));
    parts.push(Part::Beside(top));
    parts.push(Part::Picture(chart));
    if !knowing && let Some(depth) = c.shortest.filter(|_| space.has_edges()) {
        let goals: Vec<_> = space.level(depth).filter(|id| space.class(*id) == Class::Goal).collect();
        if let Some(route) = found.route_to(&loaded.game, depth, &goals, false) {
            let names = lucky_names(&loaded.game, &loaded.moves, &route);
            parts
                .push(Part::Head(format!("A shortest solution: {}", counted(depth.into(), "move", "moves"))));
            parts.push(Part::Words(names.join("; ")));
            let words = std::iter::once("start".to_string())
                .chain(names.iter().enumerate().map(|(i, m)| format!("{}. {m}", i + 1)));
            let frames = route.states.iter().zip(words).take(40);
            let scenes: Vec<_> = frames
                .filter_map(|(w, t)| Some(tiles(b, &loaded.game.unpack(w), &t)?.scene(theme)))
                .collect();
            parts.push(Part::Picture(sheet(&scenes, 1240.0, theme, "solution")));
        }
    }
    // What each move is worth, where chance has a part in it.
    if !knowing
        && c.chance
        && c.limit.is_none()
        && let Ok(Some(a)) = odds(&loaded.game, found, limits, &fendle_core::NoWatch)
    {
        parts.push(Part::Head("Chance".into()));
        if let Some(v) = &a.win {
            parts.push(Part::Words(format!("best probability of a goal: {}", value_text(v, true))));
        }
        match super::odds::chart(loaded, &a, space.starts().len(), theme) {
            Ok(chart) => parts.push(Part::Picture(chart)),
            Err(why) => parts.push(Part::Words(format!("what each move is worth is not drawn: {why}"))),
        }
    }
    if !knowing && b.canon.is_none() && c.winnable > 0 && c.dead + c.stuck > 0 && c.states <= REPORT_STATES {
        let found = gallery(&loaded.game, space, 12, &mut || false);
        parts.push(Part::Head(format!(
            "Minimal dead parts: they explain {} of {}",
            grouped(found.explained),
            counted(found.dead, "dead or stuck state", "dead or stuck states")
        )));
        let one = |p: &Pattern| part(b, &p.example, &p.part.facts, &counted(p.states, "state", "states"));
        let scenes: Vec<_> = found.patterns.iter().filter_map(one).map(|t| t.scene(theme)).collect();
        parts.push(Part::Picture(sheet(&scenes, 1240.0, theme, "dead parts")));
    }
    write_file(path, report(&title(loaded), &parts).as_bytes())
}

/// States up to which a report looks for dead parts.
const REPORT_STATES: u64 = 200_000;

/// The verdict on a space in one sentence.
pub fn verdict_line(c: &Exploration) -> String {
    if c.goal > 0 {
        match c.shortest {
            Some(0) => "the start is won already".into(),
            Some(n) if c.chance => {
                let what = if c.certain == c.winnable && c.dead + c.lost + c.stuck + c.over == 0 {
                    "certain: every running state can be won against every draw"
                } else {
                    "possible"
                };
                format!("{what}; shortest if lucky: {}", counted(n.into(), "move", "moves"))
            }
            Some(n) => format!("solvable, in {} at the least", counted(n.into(), "move", "moves")),
            None => "solvable".into(),
        }
    } else if c.free > 0 {
        "this model has no goal: no state is dead".into()
    } else if c.cut && c.complete {
        "undecided: no goal was seen, and branches of chance were set aside".into()
    } else if c.complete {
        "unsolvable: the space is exhausted and holds no goal".into()
    } else {
        "undecided: no goal was seen, and not everything was seen".into()
    }
}

/// Draws states of a game, or of what is known of it.
struct Drawn<'g> {
    game: &'g Game,
    knowing: Option<&'g Knowing<'g>>,
}

impl Drawn<'_> {
    /// One state that stands for this one, and as whom to draw it.
    fn state(&self, words: &[u64]) -> (Bound, Vec<i32>) {
        match self.knowing {
            None => (self.game.bound.clone(), self.game.unpack(words)),
            Some(k) => {
                let worlds = k.worlds(words[0] as u32);
                let bound = Bound {
                    as_player: true,
                    seen: vec![None; self.game.bound.seen.len()],
                    ..self.game.bound.clone()
                };
                (bound, self.game.unpack(&worlds[0].0))
            }
        }
    }
    fn lines(&self, words: &[u64]) -> Vec<String> {
        let (b, state) = self.state(words);
        position_lines(&b, &state, &BTreeSet::new())
    }
    fn line(&self, words: &[u64]) -> String {
        let (b, state) = self.state(words);
        if self.knowing.is_some() { b.player_line(&state) } else { b.line(&state) }
    }
}

fn write_text(s: &mut Session, loaded: &Loaded, found: &Explored, states: &Drawn<'_>) -> Result<(), Trouble> {
    let c = &found.counts;
    match c.limit {
        None if found.fault.is_some() => {
            s.line("incomplete: the model broke; the counts are of what was seen")?
        }
        None => s.line("complete: everything reachable was seen")?,
        Some(limit) => s.line(format!(
            "incomplete: stopped by {}; the counts are of what was seen",
            limit_text(limit, &s.common)
        ))?,
    }
    s.line(verdict_line(c))?;
    if !c.edges_kept {
        s.line("memory ran short: transitions were not kept but made again where they were needed")?;
    }
    s.line("")?;
    s.line(format!("states       {:>14}   {} bits each", grouped(c.states), c.bits_per_state))?;
    s.line(format!(
        "transitions  {:>14}   {} edges between distinct pairs",
        grouped(c.transitions),
        grouped(c.edges)
    ))?;
    s.line(format!("depth        {:>14}   moves to the farthest state", grouped(c.depth.into())))?;
    s.line("")?;
    let classes = [
        ("goal", c.goal, "won"),
        ("lost", c.lost, "lost"),
        ("over", c.over, "ended otherwise"),
        ("stuck", c.stuck, "running, no move allowed"),
        ("dead", c.dead, "moves are left, no goal can be reached"),
        ("winnable", c.winnable, "a goal can be reached"),
        ("free", c.free, "running, and there is no goal"),
        ("open", c.open, "not decided: a limit was hit, or chance was set aside"),
    ];
    for (name, n, words) in classes {
        if n > 0 || matches!(name, "goal" | "dead") {
            let share = 100.0 * n as f64 / c.states.max(1) as f64;
            s.line(format!("{name:<12} {:>14}  {share:5.1} %  {words}", grouped(n)))?;
        }
        if c.chance && name == "winnable" && n > 0 {
            let part = |name: &str, n: u64, words: &str| {
                format!("  {name:<14} {:>10}           {words}", grouped(n))
            };
            s.line(part("certain", c.certain, "some way of playing wins against every draw"))?;
            s.line(part("almost certain", c.almost_certain, "with probability 1, by trying again"))?;
        }
    }
    if c.cut {
        s.line("branches of chance were set aside: one open state stands for them")?;
    }
    if c.chance && c.winnable > 0 {
        s.line(format!(
            "{}: outcomes from which nothing can be won, of moves that also have others",
            counted(c.fatal_draws, "fatal draw", "fatal draws")
        ))?;
    }
    s.line("")?;
    match (&found.nearest_fatal, c.first_fatal_depth) {
        (Some(route), Some(depth)) => {
            let game = &loaded.game;
            let names = match states.knowing {
                Some(_) => route.moves.iter().map(|&m| game.move_name(m)).collect(),
                None => lucky_names(game, &loaded.moves, route),
            };
            s.line(format!(
                "{}; the nearest after {}:",
                counted(c.fatal_moves, "fatal move", "fatal moves"),
                counted(depth.into(), "move", "moves")
            ))?;
            s.lines(&move_lines(&names))?;
            let mut blocks = vec![];
            let from = route.states.len().saturating_sub(2);
            for (i, words) in route.states.iter().enumerate().skip(from) {
                let head = if i == from {
                    "can still be won".into()
                } else {
                    format!("no more, after {}", names[i - 1])
                };
                let mut block = vec![head];
                block.extend(states.lines(words));
                blocks.push(block);
            }
            s.lines(&side_by_side(&blocks, 4, WIDTH))?;
        }
        _ if c.winnable > 0 && !c.complete => s.line("no fatal move was seen so far")?,
        _ if c.winnable > 0 => s.line("no fatal move")?,
        _ => {}
    }
    if c.winnable > 0 || found.nearest_fatal.is_some() {
        s.line("")?;
    }
    s.line("states at each depth")?;
    s.lines(&bars(&by_depth(&c.per_depth, BARS), 60))?;
    Ok(())
}
