//! `fendle graph`: the state graph as a page, a picture, or a standard graph file.

use std::collections::{BTreeMap, HashMap};
use std::fmt::Write as _;
use std::path::{Path, PathBuf};

use fendle_core::graph::{Arrows, Parts};
use fendle_core::structure::structure;
use fendle_core::{Class, Expansion, Explored, Model as _, NoWatch, StateId};
use fendle_lang::Game;
use fendle_lang::hir::{Scalar, Shape};
use fendle_view::net::{Arrow, Net, Node, Spots, Status, force, layers, scene};
use fendle_view::page;
use fendle_view::scene::escaped;
use fendle_view::text::{counted, grouped};

use super::title;
use super::why::{explored, needs_known};
use crate::args::{GraphArgs, KeepArg, LayoutArg};
use crate::files::{Loaded, load_all};
use crate::look::{ending, write_file, write_scene};
use crate::watch::{Watcher, limit_text};
use crate::{Exit, Session, Trouble};

/// Nodes that a picture holds; a page holds more.
const PICTURE_NODES: usize = 4_000;
const PAGE_NODES: usize = 100_000;
/// Nodes that a file for other programs holds.
const FILE_NODES: usize = 5_000_000;
/// Seed and rounds of the layout by force.
const ROUNDS: usize = 120;

/// A class as pictures show it.
pub fn status(class: Class) -> Status {
    match class {
        Class::Goal => Status::Goal,
        Class::Lost => Status::Lost,
        Class::Over => Status::Over,
        Class::Stuck => Status::Stuck,
        Class::Dead => Status::Dead,
        Class::Winnable => Status::Winnable,
        Class::Free => Status::Free,
        Class::Open | Class::Running | Class::Idle => Status::Open,
    }
}

fn is_bad(s: Status) -> bool {
    matches!(s, Status::Dead | Status::Stuck | Status::Lost | Status::Over)
}

/// Builds the graph that is asked for.
struct Builder<'g> {
    game: &'g Game,
    found: &'g Explored,
    args: &'g GraphArgs,
    most: usize,
    notes: Vec<String>,
}

impl Builder<'_> {
    /// The states that are kept, nearest first.
    fn kept(&mut self, loaded: &Loaded) -> Result<Vec<StateId>, Trouble> {
        let space = &self.found.space;
        let near = self.neighbourhood(loaded)?;
        let on_way: Option<Vec<bool>> = (self.args.keep == KeepArg::Shortest).then(|| self.on_shortest());
        let mut out = vec![];
        for depth in 0..space.levels_len() {
            for id in space.level(depth) {
                let class = space.class(id);
                let keep = match self.args.keep {
                    KeepArg::All => true,
                    KeepArg::Alive => !matches!(class, Class::Dead | Class::Stuck | Class::Lost),
                    KeepArg::Winnable => matches!(class, Class::Winnable | Class::Goal),
                    KeepArg::Shortest => on_way.as_ref().is_some_and(|w| w[id.0 as usize]),
                };
                if keep && near.as_ref().is_none_or(|n| n[id.0 as usize]) {
                    out.push(id);
                }
            }
        }
        let all = self.found.counts.states;
        if (out.len() as u64) < all {
            self.notes.push(format!(
                "{} of {} shown, as asked",
                grouped(out.len() as u64),
                counted(all, "state", "states")
            ));
        }
        if out.len() > self.most && !self.args.rooms {
            self.notes.push(format!(
                "too many to be drawn: the nearest {} of {} (--most asks for more)",
                grouped(self.most as u64),
                grouped(out.len() as u64)
            ));
            out.truncate(self.most);
        }
        Ok(out)
    }

    /// States at most so many moves from one, either way.
    fn neighbourhood(&self, loaded: &Loaded) -> Result<Option<Vec<bool>>, Trouble> {
        let Some(text) = &self.args.around else { return Ok(None) };
        let space = &self.found.space;
        let mut errors = vec![];
        let file = fendle_lang::FileId(0);
        let state = self.game.bound.parse_line(text, file, &mut errors).ok_or_else(|| {
            Trouble::Message(format!("--around is no position of {}: `{text}`", loaded.level.name))
        })?;
        let Some(id) = space.find(&self.game.pack(&state)) else {
            return Err(Trouble::Message("--around is no position that can be reached here".into()));
        };
        let (there, back) = (Arrows::forward(space), Arrows::backward(space));
        let mut near = vec![false; space.ids_len()];
        near[id.0 as usize] = true;
        let mut ring = vec![id.0];
        for _ in 0..self.args.steps {
            let mut next = vec![];
            for i in ring {
                for t in there.from(StateId(i)).iter().chain(back.from(StateId(i))) {
                    if !std::mem::replace(&mut near[*t as usize], true) {
                        next.push(*t);
                    }
                }
            }
            ring = next;
        }
        Ok(Some(near))
    }

    /// The states on any shortest solution.
    fn on_shortest(&self) -> Vec<bool> {
        let space = &self.found.space;
        let mut out = vec![false; space.ids_len()];
        let Some(length) = self.found.counts.shortest else { return out };
        for id in space.level(length).filter(|id| space.class(*id) == Class::Goal) {
            out[id.0 as usize] = true;
        }
        for d in (0..length).rev() {
            let mut here = vec![];
            space.each_edges(d, |id, edges| {
                if edges.iter().any(|e| out[e.to.0 as usize]) {
                    here.push(id.0);
                }
            });
            for i in here {
                out[i as usize] = true;
            }
        }
        out
    }

    fn net(&mut self, loaded: &Loaded) -> Result<Net, Trouble> {
        let kept = self.kept(loaded)?;
        let (game, space) = (self.game, &self.found.space);
        let mut number = vec![u32::MAX; space.ids_len()];
        for (i, id) in kept.iter().enumerate() {
            number[id.0 as usize] = i as u32;
        }
        let text = |id: StateId| game.bound.line(&game.unpack(&space.state(id)));
        let nodes: Vec<Node> = kept
            .iter()
            .map(|id| Node {
                text: text(*id),
                depth: space.depth_of(*id),
                status: status(space.class(*id)),
                start: space.starts().contains(id),
                must_pass: false,
                on_way: false,
            })
            .collect();
        let mut out = Net { title: title(loaded), nodes, ..Net::default() };
        let mut worker = game.worker();
        let words = game.layout().words();
        let mut expansion = Expansion::default();
        let mut names: BTreeMap<u32, u32> = BTreeMap::new();
        for (i, id) in kept.iter().enumerate() {
            expansion.clear();
            worker.expand(&space.state(*id), false, &mut expansion);
            let mut outcomes = expansion.outcomes.chunks_exact(words);
            for run in &expansion.runs {
                let name = *names.entry(run.of.0).or_insert_with(|| {
                    out.names.push(game.move_name(run.of));
                    out.names.len() as u32 - 1
                });
                let targets: Vec<StateId> =
                    outcomes.by_ref().take(run.outcomes as usize).filter_map(|s| space.find(s)).collect();
                let winnable = out.nodes[i].status == Status::Winnable;
                let fatal = winnable && targets.iter().all(|t| is_bad(status(space.class(*t))));
                for t in targets {
                    let to = number[t.0 as usize];
                    if to != u32::MAX {
                        out.arrows.push(Arrow { from: i as u32, to, name, fatal });
                    }
                }
            }
        }
        if let Some(depth) = self.found.counts.shortest {
            let goals: Vec<StateId> =
                space.level(depth).filter(|id| space.class(*id) == Class::Goal).collect();
            let route = self.found.route_to(game, depth, &goals, false);
            let mut left_out = false;
            for id in route.iter().flat_map(|r| &r.states).filter_map(|w| space.find(w)) {
                match out.nodes.get_mut(number[id.0 as usize] as usize) {
                    Some(n) => n.on_way = true,
                    None => left_out = true,
                }
            }
            if left_out {
                self.notes.push("the shortest solution goes on past what is shown".into());
            }
        }
        if let Ok((s, _)) = structure(game, self.found, &fendle_core::Limits::default(), &NoWatch) {
            for id in s.must_pass {
                if let Some(n) = out.nodes.get_mut(number[id.0 as usize] as usize) {
                    n.must_pass = true;
                }
            }
        }
        if self.args.rooms {
            out = self.fold(&out, &kept);
        }
        out.notes.append(&mut self.notes);
        Ok(out)
    }

    /// One node a room: states that reach each other.
    fn fold(&mut self, net: &Net, kept: &[StateId]) -> Net {
        let space = &self.found.space;
        let parts = Parts::of(space, &Arrows::forward(space));
        let mut rooms: HashMap<u32, u32> = HashMap::new();
        let mut out = Net { title: net.title.clone(), names: vec!["door".into()], ..Net::default() };
        let mut sizes = vec![];
        let mut room_of = vec![];
        for (n, id) in net.nodes.iter().zip(kept) {
            let next = out.nodes.len() as u32;
            let room = *rooms.entry(parts.part(*id)).or_insert(next);
            if room == next {
                out.nodes.push(n.clone());
                sizes.push(0u64);
            }
            let own = &mut out.nodes[room as usize];
            sizes[room as usize] += 1;
            own.start |= n.start;
            own.on_way |= n.on_way;
            own.must_pass |= n.must_pass;
            room_of.push(room);
        }
        let mut doors: BTreeMap<(u32, u32), bool> = BTreeMap::new();
        for a in &net.arrows {
            let (f, t) = (room_of[a.from as usize], room_of[a.to as usize]);
            if f != t {
                *doors.entry((f, t)).or_insert(true) &= a.fatal;
            }
        }
        out.arrows =
            doors.into_iter().map(|((from, to), fatal)| Arrow { from, to, name: 0, fatal }).collect();
        for (n, size) in out.nodes.iter_mut().zip(&sizes) {
            n.text = format!("{}/{}", counted(*size, "state", "states"), n.text);
        }
        self.notes.push(format!(
            "rooms: each node stands for states that reach each other ({} for {})",
            grouped(out.nodes.len() as u64),
            counted(net.nodes.len() as u64, "state", "states")
        ));
        if out.nodes.len() > self.most {
            self.notes.push(format!(
                "the nearest {} of {} rooms",
                grouped(self.most as u64),
                out.nodes.len()
            ));
            out.nodes.truncate(self.most);
            let most = self.most as u32;
            out.arrows.retain(|a| a.from < most && a.to < most);
        }
        out
    }
}

/// Where a state lies on one axis: from its values and its depth.
type Axis<'g> = Box<dyn Fn(&[i32], u32) -> f32 + 'g>;

/// Places nodes by what their states hold: `x=tug.col,y=tug.row`.
fn by_meaning(
    game: &Game,
    found: &Explored,
    net: &Net,
    kept: &[StateId],
    text: &str,
) -> Result<Spots, Trouble> {
    let b = &game.bound;
    let wrong = |what: &str| {
        Trouble::Message(format!(
            "--place wants x=VALUE,y=VALUE, where a value is `depth`, a number of the state, or a cell variable with .row or \
             .col; {what}"
        ))
    };
    let mut axes: [Option<&str>; 2] = [None, None];
    for part in text.split(',') {
        match part.split_once('=') {
            Some(("x", v)) => axes[0] = Some(v.trim()),
            Some(("y", v)) => axes[1] = Some(v.trim()),
            _ => return Err(wrong(&format!("this is `{part}`"))),
        }
    }
    let value = |axis: Option<&str>| -> Result<Axis<'_>, Trouble> {
        let name = axis.ok_or_else(|| wrong("one of them is missing"))?;
        if name == "depth" {
            return Ok(Box::new(|_, depth| depth as f32));
        }
        let (var, part) = name.split_once('.').map_or((name, ""), |(v, p)| (v, p));
        let v = b.model.var(var).filter(|v| b.model.vars[*v].state && b.model.vars[*v].shape == Shape::One);
        let v = v.ok_or_else(|| wrong(&format!("`{var}` is no single value of the state")))?;
        let (at, cols) = (b.slots[v].base, b.cols.max(1) as i32);
        match (b.model.vars[v].dom.scalar(), part) {
            (Scalar::Cell, "row") => Ok(Box::new(move |s, _| (s[at] / cols) as f32)),
            (Scalar::Cell, "col") => Ok(Box::new(move |s, _| (s[at] % cols) as f32)),
            (Scalar::Int | Scalar::Enum(_) | Scalar::Bool | Scalar::Dir, "") => {
                Ok(Box::new(move |s, _| s[at] as f32))
            }
            _ => Err(wrong(&format!("`{name}` is no number"))),
        }
    };
    let (x, y) = (value(axes[0])?, value(axes[1])?);
    let mut seen: HashMap<(i64, i64), u32> = HashMap::new();
    Ok(net
        .nodes
        .iter()
        .zip(kept)
        .map(|(n, id)| {
            let state = game.unpack(&found.space.state(*id));
            let (x, y) = (x(&state, n.depth), y(&state, n.depth));
            // States at one place stand in a small spiral round it.
            let k = seen.entry(((x * 64.0) as i64, (y * 64.0) as i64)).or_insert(0);
            *k += 1;
            let (angle, r) = (*k as f32 * 2.4, 0.42 * (1.0 - 1.0 / (*k as f32).sqrt()));
            (x + r * angle.cos(), y + r * angle.sin())
        })
        .collect())
}

/// Runs the command.
pub fn run(s: &mut Session, args: &GraphArgs) -> Result<Exit, Trouble> {
    let loaded = load_all(s, &args.level)?;
    needs_known(&loaded.game, args.level.known, "graph")?;
    let (net, files) = write(s, &loaded, args)?;
    said(s, &net, &files)
}

/// Writes the graph of a level; gives what was written, and where.
///
/// # Errors
///
/// A message.
pub fn write(s: &Session, loaded: &Loaded, args: &GraphArgs) -> Result<(Net, Vec<PathBuf>), Trouble> {
    let kind = ending(&args.output);
    let most = args.most.unwrap_or(match kind.as_str() {
        "html" => PAGE_NODES,
        "svg" | "png" => PICTURE_NODES,
        "graphml" | "dot" | "json" | "csv" => FILE_NODES,
        other => {
            return Err(Trouble::Message(format!(
                "-o wants a name ending in .html, .svg, .png, .graphml, .dot, .json or .csv, not .{other}"
            )));
        }
    });
    let watcher = Watcher::new(&s.common);
    let found = explored(s, &loaded.game, &watcher)?;
    let mut builder = Builder { game: &loaded.game, found: &found, args, most, notes: vec![] };
    if let Some(limit) = found.counts.limit {
        builder.notes.push(format!("not everything was seen: stopped by {}", limit_text(limit, &s.common)));
    }
    let net = builder.net(loaded)?;
    let drawn = matches!(kind.as_str(), "html" | "svg" | "png");
    let spots = match (&args.place, drawn) {
        (_, false) => vec![],
        (Some(_), _) if args.rooms => {
            return Err(Trouble::Message(
                "--place lays out states, and --rooms folds them: take one of them".into(),
            ));
        }
        (Some(text), _) => {
            let mut again = Builder { game: &loaded.game, found: &found, args, most, notes: vec![] };
            let kept = again.kept(loaded)?;
            by_meaning(&loaded.game, &found, &net, &kept, text)?
        }
        (None, _) if args.layout == LayoutArg::Layers => layers(&net),
        (None, _) => force(&net, s.common.seed, ROUNDS),
    };
    watcher.finish();
    let theme = args.theme.theme();
    match kind.as_str() {
        "html" => write_file(&args.output, page::graph(&net, &spots).as_bytes())?,
        "svg" | "png" => write_scene(&args.output, &scene(&net, &spots, theme, (1280.0, 800.0)))?,
        "graphml" => write_file(&args.output, graphml(&net).as_bytes())?,
        "dot" => write_file(&args.output, dot(&net).as_bytes())?,
        "json" => write_file(&args.output, json(&net).as_bytes())?,
        _ => {
            let files = csv(&args.output, &net)?;
            return Ok((net, files));
        }
    }
    Ok((net, vec![args.output.clone()]))
}

fn said(s: &mut Session, net: &Net, files: &[PathBuf]) -> Result<Exit, Trouble> {
    let names: Vec<String> = files.iter().map(|f| f.display().to_string()).collect();
    s.line(format!(
        "wrote {}: {}, {}",
        names.join(" and "),
        counted(net.nodes.len() as u64, "node", "nodes"),
        counted(net.arrows.len() as u64, "arrow", "arrows")
    ))?;
    for n in &net.notes {
        s.line(n)?;
    }
    Ok(Exit::Yes)
}

/// The graph in the GraphML format.
fn graphml(net: &Net) -> String {
    let mut out = String::from(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<graphml xmlns=\"http://graphml.graphdrawing.org/xmlns\">\n",
    );
    for (id, on, kind) in [
        ("position", "node", "string"),
        ("depth", "node", "int"),
        ("status", "node", "string"),
        ("start", "node", "boolean"),
        ("must_pass", "node", "boolean"),
        ("on_shortest", "node", "boolean"),
        ("move", "edge", "string"),
        ("fatal", "edge", "boolean"),
    ] {
        let _ = writeln!(out, "  <key id=\"{id}\" for=\"{on}\" attr.name=\"{id}\" attr.type=\"{kind}\"/>");
    }
    let _ = writeln!(out, "  <graph id=\"{}\" edgedefault=\"directed\">", escaped(&net.title));
    for (i, n) in net.nodes.iter().enumerate() {
        let _ = writeln!(
            out,
            "    <node id=\"n{i}\"><data key=\"position\">{}</data><data key=\"depth\">{}</data><data key=\"status\">{}</data>\
             <data key=\"start\">{}</data><data key=\"must_pass\">{}</data><data key=\"on_shortest\">{}</data></node>",
            escaped(&n.text),
            n.depth,
            n.status.word(),
            n.start,
            n.must_pass,
            n.on_way
        );
    }
    for (i, a) in net.arrows.iter().enumerate() {
        let _ = writeln!(
            out,
            "    <edge id=\"e{i}\" source=\"n{}\" target=\"n{}\"><data key=\"move\">{}</data><data key=\"fatal\">{}</data></edge>",
            a.from,
            a.to,
            escaped(&net.names[a.name as usize]),
            a.fatal
        );
    }
    out.push_str("  </graph>\n</graphml>\n");
    out
}

/// The graph in the DOT language.
fn dot(net: &Net) -> String {
    let quoted = |t: &str| format!("\"{}\"", t.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', " "));
    let mut out = format!("digraph {} {{\n", quoted(&net.title));
    for (i, n) in net.nodes.iter().enumerate() {
        let shape = match n.status {
            Status::Goal => "diamond",
            Status::Stuck => "square",
            Status::Lost | Status::Over => "point",
            _ => "ellipse",
        };
        let _ = writeln!(
            out,
            "  n{i} [label={}, shape={shape}, status={}, depth={}, start={}, must_pass={}];",
            quoted(&n.text),
            quoted(n.status.word()),
            n.depth,
            n.start,
            n.must_pass
        );
    }
    for a in &net.arrows {
        let _ = writeln!(
            out,
            "  n{} -> n{} [label={}, fatal={}];",
            a.from,
            a.to,
            quoted(&net.names[a.name as usize]),
            a.fatal
        );
    }
    out.push_str("}\n");
    out
}

fn json(net: &Net) -> String {
    let nodes: Vec<serde_json::Value> = net
        .nodes
        .iter()
        .map(|n| {
            serde_json::json!({
                "position": n.text, "depth": n.depth, "status": n.status.word(), "start": n.start,
                "must_pass": n.must_pass, "on_shortest": n.on_way,
            })
        })
        .collect();
    let edges: Vec<serde_json::Value> = net
        .arrows
        .iter()
        .map(|a| {
            serde_json::json!({
                "from": a.from, "to": a.to, "move": net.names[a.name as usize], "fatal": a.fatal,
            })
        })
        .collect();
    serde_json::json!({"title": net.title, "notes": net.notes, "nodes": nodes, "edges": edges}).to_string()
        + "\n"
}

/// Two tables: `NAME.nodes.csv` and `NAME.edges.csv`.
fn csv(path: &Path, net: &Net) -> Result<Vec<PathBuf>, Trouble> {
    let quoted = |t: &str| {
        // A field that begins like a formula would be run by a spreadsheet.
        let t = if t.starts_with(['=', '+', '-', '@']) { format!("'{t}") } else { t.to_string() };
        format!("\"{}\"", t.replace('"', "\"\""))
    };
    let mut nodes = String::from("node,position,depth,status,start,must_pass,on_shortest\n");
    for (i, n) in net.nodes.iter().enumerate() {
        let _ = writeln!(
            nodes,
            "{i},{},{},{},{},{},{}",
            quoted(&n.text),
            n.depth,
            n.status.word(),
            n.start,
            n.must_pass,
            n.on_way
        );
    }
    let mut edges = String::from("from,to,move,fatal\n");
    for a in &net.arrows {
        let _ = writeln!(edges, "{},{},{},{}", a.from, a.to, quoted(&net.names[a.name as usize]), a.fatal);
    }
    let files = [path.with_extension("nodes.csv"), path.with_extension("edges.csv")];
    write_file(&files[0], nodes.as_bytes())?;
    write_file(&files[1], edges.as_bytes())?;
    Ok(files.to_vec())
}
