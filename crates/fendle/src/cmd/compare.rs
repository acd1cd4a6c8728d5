//! `fendle compare A B --spaces`: two levels' spaces side by side.

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};

use fendle_core::shape::{Difference, Likeness, likeness};
use fendle_core::{Explored, StateId};
use fendle_view::text::{counted, grouped, table, wrapped};
use serde_json::{Value, json};

use super::why::{explored, needs_known};
use super::{WIDTH, title};
use crate::args::{Format, LevelArgs, ViewArg};
use crate::files::{Loaded, load_all};
use crate::watch::Watcher;
use crate::{Exit, Session, Trouble};

/// Edges that may be looked at while a renaming is looked for.
const BUDGET: u64 = 400_000_000;
/// States above which they are not matched one by one.
const MATCH_MAX: u64 = 1_000_000;
/// Examples of what is only in one.
const EXAMPLES: usize = 5;

fn args_of(file: &Path, level: Option<&String>, known: bool) -> LevelArgs {
    LevelArgs {
        file: file.to_path_buf(),
        level: level.cloned(),
        at: None,
        after: None,
        view: ViewArg::Author,
        known,
        sets: vec![],
    }
}

/// One of the two.
struct Side {
    loaded: Loaded,
    found: Explored,
}

fn side(s: &Session, file: &Path, level: Option<&String>, known: bool) -> Result<Side, Trouble> {
    let loaded = load_all(s, &args_of(file, level, known))?;
    needs_known(&loaded.game, known, "compare")?;
    let watcher = Watcher::new(&s.common);
    let found = explored(s, &loaded.game, &watcher);
    watcher.finish();
    Ok(Side { found: found?, loaded })
}

impl Side {
    /// Every state as it is written, with its number.
    fn written(&self) -> HashMap<String, StateId> {
        let (game, space) = (&self.loaded.game, &self.found.space);
        let mut out = HashMap::new();
        for depth in 0..space.levels_len() {
            for id in space.level(depth) {
                out.insert(game.bound.line(&game.unpack(&space.state(id))), id);
            }
        }
        out
    }
}

/// What states that are written the same tell.
struct Matched {
    both: u64,
    /// Examples and count of states in one only.
    only: [(u64, Vec<String>); 2],
    /// Of edges between states that are in both.
    edges_only: [(u64, Vec<String>); 2],
    /// States in both with another status.
    statuses: u64,
}

fn matched(a: &Side, b: &Side) -> Option<Matched> {
    if a.found.counts.states.max(b.found.counts.states) > MATCH_MAX {
        return None;
    }
    let (wa, wb) = (a.written(), b.written());
    let only = |x: &HashMap<String, StateId>, y: &HashMap<String, StateId>| {
        let mut list: Vec<&String> = x.keys().filter(|k| !y.contains_key(*k)).collect();
        list.sort_unstable();
        (list.len() as u64, list.into_iter().take(EXAMPLES).cloned().collect())
    };
    let pairs: Vec<(&String, StateId, StateId)> =
        wa.iter().filter_map(|(k, i)| Some((k, *i, *wb.get(k)?))).collect();
    if pairs.is_empty() {
        return None;
    }
    let edges = |side: &Side, pick: &dyn Fn(&(&String, StateId, StateId)) -> StateId| {
        let name: HashMap<StateId, usize> = pairs.iter().enumerate().map(|(i, p)| (pick(p), i)).collect();
        let mut out: HashSet<(usize, usize)> = HashSet::new();
        let space = &side.found.space;
        for depth in 0..space.levels_len() {
            space.each_edges(depth, |id, list| {
                let Some(from) = name.get(&id) else { return };
                out.extend(list.iter().filter_map(|e| Some((*from, *name.get(&e.to)?))));
            });
        }
        out
    };
    let (ea, eb) = (edges(a, &|p| p.1), edges(b, &|p| p.2));
    let edges_only = |x: &HashSet<(usize, usize)>, y: &HashSet<(usize, usize)>| {
        let list = x.difference(y).map(|(f, t)| format!("{} -> {}", pairs[*f].0, pairs[*t].0));
        let mut list: Vec<String> = list.collect();
        list.sort_unstable();
        (list.len() as u64, list.into_iter().take(EXAMPLES).collect())
    };
    let status = |p: &&(&String, StateId, StateId)| a.found.space.class(p.1) != b.found.space.class(p.2);
    Some(Matched {
        both: pairs.len() as u64,
        only: [only(&wa, &wb), only(&wb, &wa)],
        edges_only: [edges_only(&ea, &eb), edges_only(&eb, &ea)],
        statuses: pairs.iter().filter(status).count() as u64,
    })
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

/// Runs the command.
pub fn run(
    s: &mut Session,
    (a, b): (PathBuf, Option<PathBuf>),
    levels: (Option<String>, Option<String>),
    known: bool,
) -> Result<Exit, Trouble> {
    if b.is_none() && levels.1.is_none() {
        return Err(Trouble::Message(
            "name a second level: another file, or --with LEVEL of the same one".into(),
        ));
    }
    let second = b.as_deref().unwrap_or(&a);
    let first = side(s, &a, levels.0.as_ref(), known)?;
    let other = side(s, second, levels.1.as_ref(), known)?;
    let whole = [&first, &other].iter().all(|x| x.found.counts.limit.is_none() && !x.found.counts.cut);
    let shape = match whole {
        true => likeness(&first.found.space, &other.found.space, BUDGET),
        false => Likeness::Unknown,
    };
    let matched = matched(&first, &other);
    let exit = match &shape {
        Likeness::Same(_) => Exit::Yes,
        Likeness::Different(_) => Exit::No,
        Likeness::Unknown => Exit::Undecided,
    };
    let words = match &shape {
        Likeness::Same(_) => "the same shape: the spaces are equal up to renaming, edge by edge".to_string(),
        Likeness::Different(d) => format!("not the same shape: {}", difference_text(*d)),
        Likeness::Unknown if whole => {
            "not told apart, and no renaming found within the budget: nothing is claimed".into()
        }
        Likeness::Unknown => "nothing is claimed of their shape: not everything was seen".into(),
    };
    if s.common.format == Format::Json {
        let one = |x: &Side| json!({"level": x.loaded.level.name, "counts": x.found.counts});
        let list = |l: &(u64, Vec<String>)| json!({"count": l.0, "examples": l.1});
        let matched: Value = matched.as_ref().map_or(Value::Null, |m| {
            json!({
                "states_in_both": m.both,
                "other_status": m.statuses,
                "states_only_in_first": list(&m.only[0]),
                "states_only_in_second": list(&m.only[1]),
                "edges_only_in_first": list(&m.edges_only[0]),
                "edges_only_in_second": list(&m.edges_only[1]),
            })
        });
        s.json(&json!({
            "first": one(&first),
            "second": one(&other),
            "same_shape": match shape { Likeness::Same(_) => json!(true), Likeness::Different(_) => json!(false), Likeness::Unknown => Value::Null },
            "why": words,
            "matched": matched,
        }))?;
        return Ok(exit);
    }
    s.line(format!("first:  {}", title(&first.loaded)))?;
    s.line(format!("second: {}", title(&other.loaded)))?;
    s.line("")?;
    let (x, y) = (&first.found.counts, &other.found.counts);
    let number = |n: Option<u32>| n.map_or("none".to_string(), |n| grouped(n.into()));
    let rows: Vec<Vec<String>> = [
        ("states", grouped(x.states), grouped(y.states)),
        ("transitions", grouped(x.transitions), grouped(y.transitions)),
        ("edges", grouped(x.edges), grouped(y.edges)),
        ("depth", grouped(x.depth.into()), grouped(y.depth.into())),
        ("won", grouped(x.goal), grouped(y.goal)),
        ("lost", grouped(x.lost), grouped(y.lost)),
        ("over", grouped(x.over), grouped(y.over)),
        ("stuck", grouped(x.stuck), grouped(y.stuck)),
        ("dead", grouped(x.dead), grouped(y.dead)),
        ("winnable", grouped(x.winnable), grouped(y.winnable)),
        ("free", grouped(x.free), grouped(y.free)),
        ("open", grouped(x.open), grouped(y.open)),
        ("fatal moves", grouped(x.fatal_moves), grouped(y.fatal_moves)),
        ("least moves", number(x.shortest), number(y.shortest)),
    ]
    .into_iter()
    .map(|(name, a, b)| {
        let differs = if a == b { "" } else { "differs" };
        vec![name.into(), a, b, differs.into()]
    })
    .collect();
    s.lines(&table(&["", "first", "second", ""], &rows).iter().map(|l| l.trim_end()).collect::<Vec<_>>())?;
    s.line("")?;
    s.lines(&wrapped(&words, WIDTH))?;
    s.line("")?;
    let Some(m) = matched else {
        s.line("their states are not written alike, or are too many: they cannot be matched one by one")?;
        return Ok(exit);
    };
    s.line(format!(
        "{} in both, as they are written; {} of them with another status",
        counted(m.both, "state is", "states are"),
        grouped(m.statuses)
    ))?;
    for (which, what, one, many) in [
        ("first", &m.only[0], "state", "states"),
        ("second", &m.only[1], "state", "states"),
        ("first", &m.edges_only[0], "edge between states of both", "edges between states of both"),
        ("second", &m.edges_only[1], "edge between states of both", "edges between states of both"),
    ] {
        s.line(format!("{} only in the {which}", counted(what.0, one, many)))?;
        s.lines(&what.1.iter().map(|e| format!("  {e}")).collect::<Vec<_>>())?;
        if what.0 > what.1.len() as u64 {
            s.line(format!("  ... and {} more", grouped(what.0 - what.1.len() as u64)))?;
        }
    }
    Ok(exit)
}
