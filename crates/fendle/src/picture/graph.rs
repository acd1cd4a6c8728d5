//! State graphs: laid out, as a picture, a page, or a file for other programs.

use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};

use fendle_ask::graph::{Graph, Matching, Node, by_meaning};
use fendle_ask::{Budget, Loaded, Patience};
use fendle_core::{Class, Limit};
use fendle_view::net::{Arrow, Boards, Net, Node as Drawn, Spots, Status, force, layers, scene};
use fendle_view::tiles::Thing;
use fendle_view::{columns, export, page};

use super::look::cells;
use super::{Drawing, write as write_drawing};
use crate::args::{ArrowsArg, GraphArgs, LayoutArg};
use crate::files::{Files, ending};
use crate::session::Trouble;

/// Nodes that a picture holds; a page holds more.
pub const PICTURE_NODES: usize = 4_000;
/// Nodes that a page holds.
pub const PAGE_NODES: usize = 100_000;
/// Nodes that a file for other programs holds.
pub const FILE_NODES: usize = 5_000_000;
/// Cells of boards that a page holds; above it shows the positions as text.
const BOARD_CELLS: usize = 4_000_000;
/// Kinds of cells that a page tells apart.
const KINDS_MAX: u16 = 40_000;
/// Positions that are written between two looks at the clock.
const TEXTS_LOOK: usize = 16;
/// Rounds of the layout by force.
const ROUNDS: usize = 120;
/// Width and height of a picture.
const SIZE: (f32, f32) = (1280.0, 800.0);

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

/// The most nodes that a file of this kind holds.
///
/// # Errors
///
/// Words for a kind that cannot be written.
pub fn nodes_of(path: &Path) -> Result<usize, Trouble> {
    Ok(match ending(path).as_str() {
        "html" => PAGE_NODES,
        "svg" | "png" => PICTURE_NODES,
        "graphml" | "dot" | "json" | "csv" | "parquet" => FILE_NODES,
        other => {
            return Err(Trouble::words(format!(
                "-o wants a name ending in .html, .svg, .png, .graphml, .dot, .json, .csv or .parquet, not .{other}"
            )));
        }
    })
}

/// A graph with its places. Where it goes to a file for other programs it has none, and its nodes no texts: those are made as
/// they are written.
pub struct Laid {
    net: Net,
    spots: Spots,
}

/// The text of a node, as long as there is time: now and then it looks at the clock.
fn text_in_time(
    level: &Loaded,
    graph: &Graph,
    node: usize,
    patience: &Patience<'_>,
) -> Result<String, Limit> {
    let over = if node.is_multiple_of(TEXTS_LOOK) { patience.look() } else { patience.is_over() };
    over.map_or_else(|| Ok(graph.text(&level.game, node)), Err)
}

/// Lays a graph out for the file it goes to.
///
/// # Errors
///
/// Words where `--place` names no place, and the limit that was hit long before all nodes had their texts.
pub fn lay_out(level: &Loaded, graph: &Graph, args: &GraphArgs, budget: &Budget) -> Result<Laid, Trouble> {
    let game = &level.game;
    let kind = ending(&args.output);
    let drawn = matches!(kind.as_str(), "html" | "svg" | "png");
    let patience = budget.patience();
    let node = |(i, n): (usize, &Node)| {
        let text = if drawn { text_in_time(level, graph, i, &patience)? } else { String::new() };
        Ok::<_, fendle_ask::Trouble>(Drawn {
            start: n.start,
            must_pass: n.must_pass,
            on_way: n.on_way,
            count: n.count,
            ..Drawn::plain(text, n.depth, status(n.class))
        })
    };
    let arrows = graph.arrows.iter();
    let mut net = Net {
        title: graph.title.clone(),
        nodes: graph.nodes.iter().enumerate().map(node).collect::<Result<_, _>>()?,
        arrows: arrows.map(|a| Arrow { from: a.from, to: a.to, name: a.name, fatal: a.fatal }).collect(),
        names: graph.names.clone(),
        notes: graph.notes.clone(),
        boards: None,
    };
    if kind == "html" {
        net.boards = boards(level, graph);
    }
    let spots = match (&args.place, drawn) {
        (_, false) => vec![],
        (Some(text), _) => by_meaning(game, graph, text)?,
        (None, _) if args.layout == LayoutArg::Layers => layers(&net),
        (None, _) => force(&net, budget.wanted().seed, ROUNDS, &|| budget.is_stopped()),
    };
    Ok(Laid { net, spots })
}

/// The boards of nodes that stand for one state; `None` where there is nothing to draw, or too much of it.
fn boards(level: &Loaded, graph: &Graph) -> Option<Boards> {
    let b = &level.game.bound;
    let mut out = Boards { cells: vec![vec![]; graph.nodes.len()], ..Boards::default() };
    let mut kinds: HashMap<Vec<Thing>, u16> = HashMap::new();
    for (id, node) in &graph.members {
        if graph.nodes.get(*node as usize).is_none_or(|n| n.count != 1) {
            continue;
        }
        let t = cells(b, &level.game.unpack(&graph.found.space.state(*id)))?;
        if out.rows == 0 {
            (out.rows, out.cols, out.piles) = (t.rows, t.cols, !t.piles.is_empty());
            if graph.nodes.len() * t.cells.len() > BOARD_CELLS {
                return None;
            }
        }
        if (t.rows, t.cols) != (out.rows, out.cols) {
            return None;
        }
        for things in t.cells {
            let next = u16::try_from(kinds.len()).ok().filter(|n| *n < KINDS_MAX)?;
            out.cells[*node as usize].push(*kinds.entry(things).or_insert(next));
        }
    }
    let mut list: Vec<(Vec<Thing>, u16)> = kinds.into_iter().collect();
    list.sort_by_key(|k| k.1);
    out.kinds = list.into_iter().map(|k| k.0).collect();
    Some(out).filter(|b| b.rows > 0)
}

/// What writes nodes with their texts.
type Export = fn(&Net, export::Text<'_>, &mut dyn io::Write) -> io::Result<()>;

/// Writes one graph; gives the files.
///
/// # Errors
///
/// Words where a file cannot be written, and the limit that was hit long before it was whole.
pub fn write(
    files: &Files,
    level: &Loaded,
    graph: &Graph,
    laid: &Laid,
    args: &GraphArgs,
    budget: &Budget,
) -> Result<Vec<PathBuf>, Trouble> {
    let Laid { net, spots } = laid;
    let (path, patience) = (&args.output, &budget.patience());
    // Many texts may be made before any is written: once the time is over, none is.
    let text = |i: usize| text_in_time(level, graph, i, patience).unwrap_or_default();
    let with_texts =
        |path: &Path, export: Export| files.write_in_time(path, patience, |out| export(net, &text, out));
    match ending(path).as_str() {
        "html" => files
            .write_in_time(path, patience, |out| page::write_graph(out, &net.title, &[(net, spots)], &[]))?,
        "svg" | "png" => {
            let tint = args.arrows == ArrowsArg::Moves;
            let picture = scene(net, spots, tint, args.theme.theme(), SIZE);
            write_drawing(files, path, &Drawing::Picture(picture))?;
        }
        "graphml" => with_texts(path, export::graphml)?,
        "dot" => with_texts(path, export::dot)?,
        "json" => with_texts(path, export::json)?,
        "parquet" => {
            let [states, edges, figures] =
                ["states.parquet", "edges.parquet", "figures.parquet"].map(|end| path.with_extension(end));
            files.write_in_time(&states, patience, |out| columns::states(net, &text, out))?;
            files.write_in_time(&edges, patience, |out| columns::edges(net, out))?;
            let counts = &graph.found.counts;
            let mut named: Vec<(&str, u64)> = counts.named().into_iter().collect();
            let besides = [("moves", counts.shortest), ("first_fatal_depth", counts.first_fatal_depth)];
            named.extend(besides.into_iter().filter_map(|(name, n)| Some((name, u64::from(n?)))));
            files.write(&figures, |out| columns::figures(&named, out))?;
            return Ok(vec![states, edges, figures]);
        }
        _ => {
            let list = [path.with_extension("nodes.csv"), path.with_extension("edges.csv")];
            with_texts(&list[0], export::csv_nodes)?;
            files.write_in_time(&list[1], patience, |out| export::csv_edges(net, out))?;
            return Ok(list.to_vec());
        }
    }
    Ok(vec![path.clone()])
}

/// Writes two graphs side by side on one page.
///
/// # Errors
///
/// As for one graph.
pub fn write_beside(
    (files, budget): (&Files, &Budget),
    path: &Path,
    (a, b): (&Laid, &Laid),
    matching: &Matching,
) -> Result<Vec<PathBuf>, Trouble> {
    let heading = format!("{} beside {}", a.net.title, b.net.title);
    let views = [(&a.net, &a.spots), (&b.net, &b.spots)];
    files.write_in_time(path, &budget.patience(), |out| {
        page::write_graph(out, &heading, &views, &matching.pairs)
    })?;
    Ok(vec![path.to_path_buf()])
}
