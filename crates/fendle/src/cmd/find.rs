//! `fendle find`: the nearest reachable position in which a condition holds, and how many there are.

use std::collections::BTreeSet;

use fendle_core::{Class, Explored, Limit, Progress, StateId, Watch, explore};
use fendle_lang::check::alike::tells_apart;
use fendle_lang::code::lower::with_condition;
use fendle_lang::code::machine::Machine;
use fendle_lang::model::{And, Asked, Body, conjuncts_of};
use fendle_lang::question;
use fendle_lang::run::Eval;
use fendle_view::board::side_by_side;
use fendle_view::text::{counted, grouped};
use serde_json::json;

use super::{WIDTH, fault_trouble, lucky_names, move_lines, played_route, position_lines, title};
use crate::args::{DrawsArg, Format, LevelArgs};
use crate::files::{Loaded, load_all, report};
use crate::watch::{Watcher, effort, limit_text, limits};
use crate::{Exit, Session, Trouble};

/// Runs the command.
pub fn run(
    s: &mut Session,
    args: &LevelArgs,
    condition: &str,
    draws: DrawsArg,
    before: u32,
) -> Result<Exit, Trouble> {
    let mut loaded = load_all(s, args)?;
    let model_file = loaded.game.bound.model.file;
    let file = loaded.store.sources.add("CONDITION", condition);
    let mut errors = vec![];
    let text = loaded.store.sources.text(model_file).to_string();
    let Some(body) = question((model_file, &text), file, condition, &mut errors) else {
        return Err(report(s, &loaded.store, &errors));
    };
    // A question that tells apart what is alike is asked of every state by itself.
    if (loaded.game.bound.model.alike.iter()).any(|d| tells_apart(&loaded.game.bound.model, d, &body)) {
        loaded.game = loaded.game.apart();
    }
    let game = &loaded.game;
    let watcher = Watcher::new(&s.common);
    let found = explore(game, limits(&s.common), false, &watcher)
        .map_err(|f| Trouble::Message(format!("the start breaks the model: {}", game.run_fault(&f))))?;
    if let Some(fault) = &found.fault {
        watcher.finish();
        return Err(fault_trouble(s, &loaded.store, game, fault));
    }
    let (mut marked, stopped) = holding(&loaded, &found, &body, &watcher)?;
    for _ in 0..before {
        marked = one_before(&found, &marked, draws);
    }
    let seconds = watcher.seconds();
    watcher.finish();
    let mut count = 0u64;
    let mut nearest: Option<(u32, Vec<StateId>)> = None;
    for depth in 0..found.space.levels_len() {
        let here: Vec<StateId> = found.space.level(depth).filter(|id| marked[id.0 as usize]).collect();
        count += here.len() as u64;
        if nearest.is_none() && !here.is_empty() {
            nearest = Some((depth, here));
        }
    }
    // What is not known: states that were not seen, or not asked, or set aside.
    let limit = found.counts.limit.or(stopped).or(found.counts.cut.then_some(Limit::SetAside));
    let whole = limit.is_none();
    let route = nearest.and_then(|(depth, ids)| found.route_to(game, depth, &ids, false));
    // Where things are alike, the position that the way really leads to.
    let last = route.as_ref().map(|r| match played_route(game, &loaded.moves, r) {
        Ok(played) => played.states.last().cloned().unwrap_or_default(),
        Err(_) => game.unpack(r.states.last().expect("a route has a start")),
    });
    let c = &found.counts;
    if s.common.format == Format::Json {
        s.json(&json!({
            "level": loaded.level.name,
            "begin": loaded.begin.json(),
            "condition": condition,
            "moves_before": before,
            "draws": draws.word(),
            "count": count,
            "depth": route.as_ref().map(|r| r.moves.len()),
            "moves": route.as_ref().map(|r| lucky_names(game, &loaded.moves, r)),
            "position": last.as_ref().map(|s| game.bound.line(s)),
            "complete": whole,
            "states": c.states,
            "effort": effort(seconds, c.states),
        }))?;
    } else {
        s.line(title(&loaded))?;
        if let Some(words) = loaded.begin.words() {
            s.line(words)?;
        }
        if loaded.game.bound.model.hides() {
            s.line("among all positions of this layout, whoever knows it or not")?;
        }
        s.line("")?;
        let so_far = if whole { "" } else { " so far" };
        match &route {
            Some(route) => {
                let depth = route.moves.len() as u64;
                s.line(format!(
                    "{}{so_far}, among {}; the nearest after {}",
                    counted(count, "such position", "such positions"),
                    counted(c.states, "state", "states"),
                    counted(depth, "move", "moves")
                ))?;
                let names = lucky_names(game, &loaded.moves, route);
                s.lines(&move_lines(&names))?;
                s.line("")?;
                let last = last.as_ref().expect("where there is a route");
                let mut block = vec![];
                block.extend(position_lines(&game.bound, last, &BTreeSet::new()));
                s.lines(&side_by_side(&[block], 4, WIDTH))?;
                s.line("")?;
                s.line(format!("as --at takes it: {}", game.bound.line(last)))?;
            }
            None if whole => s.line(format!(
                "no such position: proved by looking at all {} reachable states",
                grouped(c.states)
            ))?,
            None => s.line(format!(
                "undecided: none among the {} that were seen",
                counted(c.states, "state", "states")
            ))?,
        }
        if let Some(limit) = limit {
            s.line(format!("not seen whole: {}", limit_text(limit, &s.common)))?;
        }
    }
    Ok(match (&route, limit) {
        (_, Some(Limit::Interrupted)) => Exit::Interrupted,
        (Some(_), _) => Exit::Yes,
        (None, None) => Exit::No,
        (None, Some(_)) => Exit::Undecided,
    })
}

/// The states in which the condition holds, by id, and the limit that ended the asking.
fn holding(
    loaded: &Loaded,
    found: &Explored,
    body: &Body,
    watch: &dyn Watch,
) -> Result<(Vec<bool>, Option<Limit>), Trouble> {
    let game = &loaded.game;
    let b = &game.bound;
    let space = &found.space;
    let oracle = |state: &[i32], asked: Asked| -> i64 {
        let Some(id) = space.find(&game.pack(state)) else { return 0 };
        let class = space.class(id);
        i64::from(match asked {
            Asked::Running => matches!(class, Class::Winnable | Class::Dead | Class::Stuck | Class::Free),
            Asked::Won => class == Class::Goal,
            Asked::Lost => class == Class::Lost,
            Asked::Over => class == Class::Over,
            Asked::Stuck => class == Class::Stuck,
            Asked::Dead => class == Class::Dead,
            Asked::Winnable => class == Class::Winnable,
            Asked::Certain => space.is_certain(id),
            Asked::Depth => return space.depth_of(id).into(),
        })
    };
    // Parts of the condition that read the state alone run as code, and are asked first.
    let (quick, slow): (Vec<Body>, Vec<Body>) =
        conjuncts_of(body).into_iter().partition(|part| with_condition(b, &game.code, part).is_some());
    let quick = And::of(quick).and_then(|part| with_condition(b, &game.code, &part));
    let slow = And::of(slow);
    let mut machine = quick.as_ref().map(|(code, program)| (Machine::new(b, code), *program));
    let mut marked = vec![false; space.ids_len()];
    let broke = |what: String| Trouble::Message(format!("the condition breaks: {what}"));
    let mut eval = Eval::with_oracle(b, &oracle);
    for depth in 0..space.levels_len() {
        for (n, id) in space.level(depth).enumerate() {
            if n % 256 == 255
                && let Some(limit) =
                    watch.look(&Progress { states: space.states_len(), depth, ..Progress::default() })
            {
                return Ok((marked, Some(limit)));
            }
            // The state that stands for what was set aside is no position.
            if found.counts.cut && space.class(id) == Class::Open && space.edges_len(id) == 0 {
                continue;
            }
            let words = space.state(id);
            if let Some((machine, program)) = &mut machine {
                machine.load(&words);
                match machine.ask(*program) {
                    Ok(0) => continue,
                    Ok(_) => {}
                    Err(_) => {
                        // Said again by the reference executor, with its words.
                        if let Err(fault) = eval.value_in(body, &game.unpack(&words)) {
                            return Err(broke(fault.to_string()));
                        }
                    }
                }
            }
            let holds = match &slow {
                Some(part) => {
                    eval.value_in(part, &game.unpack(&words)).map_err(|f| broke(f.to_string()))? != 0
                }
                None => true,
            };
            marked[id.0 as usize] = holds;
        }
    }
    Ok((marked, None))
}

/// The states with a move some or all of whose outcomes are marked.
fn one_before(found: &Explored, marked: &[bool], draws: DrawsArg) -> Vec<bool> {
    let space = &found.space;
    let mut out = vec![false; marked.len()];
    for depth in 0..space.levels_len() {
        space.each_edges(depth, |id, edges| {
            out[id.0 as usize] = edges.split_inclusive(|e| e.last).any(|outcomes| {
                let mut hits = outcomes.iter().map(|e| marked[e.to.0 as usize]);
                match draws {
                    DrawsArg::SomeDraw => hits.any(|h| h),
                    DrawsArg::EveryDraw => hits.all(|h| h),
                }
            });
        });
    }
    out
}
