//! Boards from other programs: tables of cells (CSV) and tile maps (XML), as map editors write them; a file says what their cells stand for.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use fendle_lang::model::{Model, Show, VarId};
use fendle_lang::syntax::level::{CELLS_MAX, Key};
use fendle_lang::{Diagnostic, Span};

use super::boards::glyphs;
use crate::answer::Trouble;
use crate::load::{Provider, Store};

/// Bits of a tile number that say how the tile is turned.
const TURNED: u32 = 0xE000_0000;

/// What the cells of other programs stand for.
#[derive(Clone, Debug, Default)]
pub struct Tiles {
    /// Glyphs of the model's drawing by the cell's text.
    cells: BTreeMap<String, String>,
    /// For each layer of a tile map what its tiles say: variables of the drawing by the number of the tile.
    layers: BTreeMap<String, BTreeMap<u32, String>>,
}

impl Tiles {
    /// Reads them from the text of a TOML file: `[cells]` with texts and glyphs, `[layers.NAME]` with tile numbers and variables.
    ///
    /// # Errors
    ///
    /// What is wrong with it, in words.
    pub fn read(text: &str) -> Result<Tiles, String> {
        let read: toml_edit::DocumentMut = text.parse().map_err(|e: toml_edit::TomlError| e.to_string())?;
        let mut out = Tiles::default();
        for (table, item) in read.iter() {
            let rows = item.as_table_like().ok_or_else(|| format!("{table} is no table"))?;
            for (key, value) in rows.iter() {
                match table {
                    "cells" => {
                        let glyph = value
                            .as_str()
                            .ok_or_else(|| format!("[cells] {key}: a glyph is a text in quotes"))?;
                        out.cells.insert(key.into(), glyph.into());
                    }
                    "layers" => {
                        let tiles =
                            value.as_table_like().ok_or_else(|| format!("[layers.{key}] is no table"))?;
                        let layer = out.layers.entry(key.into()).or_default();
                        for (number, what) in tiles.iter() {
                            let number = number
                                .parse()
                                .map_err(|_| format!("[layers.{key}] {number} is no tile number"))?;
                            let what = what.as_str().ok_or_else(|| {
                                format!("[layers.{key}] {number}: what it stands for is a text in quotes")
                            })?;
                            layer.insert(number, what.into());
                        }
                    }
                    other => {
                        return Err(format!("[{other}] is not known; there are [cells] and [layers.NAME]"));
                    }
                }
            }
        }
        Ok(out)
    }
}

/// The cells of a table. Cells are parted by the first of tab, semicolon and comma that the text has.
///
/// # Errors
///
/// The line that is wrong, and why.
pub fn table(text: &str) -> Result<Vec<Vec<String>>, String> {
    let gap = ['\t', ';', ','].into_iter().find(|g| text.contains(*g)).unwrap_or(',');
    let mut rows: Vec<Vec<String>> = vec![];
    for (n, line) in text.lines().enumerate().filter(|l| !l.1.trim().is_empty()) {
        let cell = |c: &str| c.trim().trim_matches('"').to_string();
        let row: Vec<String> = line.split(gap).map(cell).collect();
        if let Some(first) = rows.first().filter(|f| f.len() != row.len()) {
            return Err(format!("{}: {} cells, and {} in the first row", n + 1, row.len(), first.len()));
        }
        rows.push(row);
    }
    match rows.len() * rows.first().map_or(0, Vec::len) {
        0 => Err("1: there are no cells".into()),
        n if n > CELLS_MAX => Err(format!("1: {n} cells; a board has at most {CELLS_MAX}")),
        _ => Ok(rows),
    }
}

/// A layer of a tile map: its name, and the numbers of its tiles, row by row; 0 where there is none.
pub type Layer = (String, Vec<Vec<u32>>);

/// The layers of a tile map.
///
/// # Errors
///
/// The line that is wrong, and why.
pub fn layers(text: &str) -> Result<Vec<Layer>, String> {
    let read = roxmltree::Document::parse(text).map_err(|e| format!("{}: {e}", e.pos().row))?;
    let line = |node: roxmltree::Node<'_, '_>| read.text_pos_at(node.range().start).row;
    let mut out: Vec<Layer> = vec![];
    for layer in read.descendants().filter(|n| n.has_tag_name("layer")) {
        let at = line(layer);
        let name = layer.attribute("name").unwrap_or("layer").to_string();
        let Some(data) = layer.children().find(|n| n.has_tag_name("data")) else {
            return Err(format!("{at}: the layer {name} has no data"));
        };
        match data.attribute("encoding") {
            Some("csv") => {}
            other => {
                let other = other.unwrap_or("XML");
                return Err(format!(
                    "{}: the data of {name} is written as {other}; CSV can be read (the map's settings say how layers are written)",
                    line(data)
                ));
            }
        }
        let text: String = data.children().filter_map(|n| n.text()).collect();
        let mut rows: Vec<Vec<u32>> = vec![];
        for row in text.lines().map(str::trim).filter(|r| !r.is_empty()) {
            let tile = |c: &str| c.trim().parse::<u32>().map(|n| n & !TURNED);
            let row: Result<Vec<u32>, _> = row.trim_end_matches(',').split(',').map(tile).collect();
            rows.push(row.map_err(|e| format!("{at}: a tile of {name} is no number: {e}"))?);
        }
        let size = |rows: &Vec<Vec<u32>>| (rows.len(), rows.first().map_or(0, Vec::len));
        if rows.iter().any(|r| r.len() != size(&rows).1) || size(&rows).1 == 0 {
            return Err(format!("{at}: the rows of {name} are not of one length"));
        }
        if let Some((first, other)) = out.first().filter(|(_, other)| size(other) != size(&rows)) {
            let ((r, c), (r1, c1)) = (size(&rows), size(other));
            return Err(format!("{at}: {name} has {r} x {c} tiles, and {first} has {r1} x {c1}"));
        }
        out.push((name, rows));
    }
    match out.is_empty() {
        true => Err("1: there is no layer of tiles in it".into()),
        false => Ok(out),
    }
}

/// The model's drawing: its name, and its glyphs with what they say.
struct Drawing {
    name: String,
    facts: BTreeMap<String, BTreeSet<(VarId, i64)>>,
    joined: bool,
}

fn drawing(model: &Model) -> Option<Drawing> {
    let of = |show: &Show| match show {
        Show::Drawing { name, .. } => Drawing { name: name.clone(), facts: glyphs(show), joined: true },
        Show::Values { var, joined, .. } => {
            Drawing { name: model.vars[*var].name.clone(), facts: glyphs(show), joined: *joined }
        }
    };
    let first = model.shows.iter().find(|s| matches!(s, Show::Drawing { .. }));
    first.or(model.shows.first()).map(of)
}

/// A variable of a model with a value, from words such as `barge` or `plate = 2`.
fn fact(model: &Model, words: &str) -> Result<(VarId, i64), String> {
    let (name, value) = words.split_once('=').map_or((words.trim(), "1"), |(n, v)| (n.trim(), v.trim()));
    let var = model.var_where(|v| v.name == name);
    let var = var.ok_or_else(|| format!("`{name}` is no variable of the model {}", model.name))?;
    let value = value.parse().map_err(|_| format!("`{value}` is no number, in `{words}`"))?;
    Ok((var, value))
}

/// Boards of other programs as one level file. Each of the files is a level, by its name. `model` is named as in a level file at `output`.
///
/// # Errors
///
/// [`Trouble`] that names the file and the place.
pub fn imported(
    store: &mut Store,
    texts: &dyn Provider,
    (model_name, output): (&str, &Path),
    files: &[(String, String)],
    tiles: &Tiles,
) -> Result<String, Trouble> {
    let file = store.sources.add("--model", model_name);
    let key = Key { text: model_name.into(), span: Span::new(0, model_name.len()) };
    let mut errors: Vec<Diagnostic> = vec![];
    let Some(model) = store.model(texts, &key, file, output, &mut errors) else {
        return Err(Trouble::Diagnostics(errors));
    };
    let Some(drawing) = drawing(&model) else {
        return Err(Trouble::Message(format!("the model {} draws no board", model.name)));
    };
    let mut out = format!("model = {}\n", serde_json::json!(model_name));
    let mut names = BTreeSet::new();
    for (path, text) in files {
        let at = |words: String| Trouble::Message(format!("{path}:{words}"));
        let rows = if text.trim_start().starts_with('<') {
            from_layers(&model, &drawing, tiles, &layers(text).map_err(at)?)
                .map_err(|e| at(format!(" {e}")))?
        } else {
            from_cells(&drawing, tiles, &table(text).map_err(at)?).map_err(|e| at(format!(" {e}")))?
        };
        let stem = Path::new(path).file_stem().map_or("board".into(), |s| s.to_string_lossy().into_owned());
        // Two files of one name lie in different folders.
        let name = if names.insert(stem.clone()) { stem } else { path.clone() };
        let gap = if drawing.joined { "" } else { " " };
        let rows: Vec<String> = rows.iter().map(|r| r.join(gap)).collect();
        out.push_str(&format!(
            "\n[[level]]\nname = {}\nstart.{} = '''\n{}\n'''\n",
            serde_json::json!(name),
            drawing.name,
            rows.join("\n")
        ));
    }
    Ok(out)
}

fn from_cells(drawing: &Drawing, tiles: &Tiles, rows: &[Vec<String>]) -> Result<Vec<Vec<String>>, String> {
    let glyph = |(r, c): (usize, usize), text: &String| {
        let glyph = tiles.cells.get(text).unwrap_or(text);
        match drawing.facts.contains_key(glyph) || drawing.facts.is_empty() || !drawing.joined {
            true => Ok(glyph.clone()),
            false => Err(format!(
                "r{}c{} is `{text}`, which is no glyph of {} and not among the [cells] of --tiles",
                r + 1,
                c + 1,
                drawing.name
            )),
        }
    };
    let row = |(r, row): (usize, &Vec<String>)| {
        row.iter().enumerate().map(|(c, text)| glyph((r, c), text)).collect()
    };
    rows.iter().enumerate().map(row).collect()
}

fn from_layers(
    model: &Model,
    drawing: &Drawing,
    tiles: &Tiles,
    layers: &[Layer],
) -> Result<Vec<Vec<String>>, String> {
    let (rows, cols) = (layers[0].1.len(), layers[0].1[0].len());
    let glyph = |r: usize, c: usize| -> Result<String, String> {
        let mut facts = BTreeSet::new();
        for (name, numbers) in layers {
            let number = numbers[r][c];
            let what = tiles.layers.get(name).and_then(|l| l.get(&number));
            match what {
                Some(words) if words.is_empty() => {}
                Some(words) => {
                    for words in words.split(',') {
                        facts.insert(fact(model, words)?);
                    }
                }
                None if number == 0 => {}
                None => {
                    return Err(format!(
                        "r{}c{}: tile {number} of the layer {name} is not among [layers.{name}] of --tiles",
                        r + 1,
                        c + 1
                    ));
                }
            }
        }
        let found = drawing.facts.iter().find(|(_, f)| **f == facts);
        found.map(|(glyph, _)| glyph.clone()).ok_or_else(|| {
            let words: Vec<String> =
                facts.iter().map(|(v, n)| format!("{} = {n}", model.vars[*v].name)).collect();
            format!(
                "r{}c{}: no glyph of {} says {} together",
                r + 1,
                c + 1,
                drawing.name,
                words.join(" and ")
            )
        })
    };
    (0..rows).map(|r| (0..cols).map(|c| glyph(r, c)).collect()).collect()
}

/// A board as a table of cells, with commas (or, where cells have commas, semicolons or tabs) between them.
///
/// # Errors
///
/// Words, where cells have all of these.
pub fn to_table(board: &[Vec<String>], tiles: &Tiles) -> Result<String, String> {
    let text = |glyph: &String| {
        let told = tiles.cells.iter().find(|(_, g)| *g == glyph);
        told.map_or(glyph.clone(), |(text, _)| text.clone())
    };
    let rows: Vec<Vec<String>> = board.iter().map(|r| r.iter().map(text).collect()).collect();
    // A reader takes the first of tab, semicolon and comma that the text has.
    let has = |c: char| rows.iter().flatten().any(|t| t.contains(c));
    let gap = match (has(','), has(';'), has('\t')) {
        (false, false, false) => ",",
        (_, false, false) => ";",
        (_, _, false) => "\t",
        _ => return Err("cells have commas, semicolons and tabs: no table of cells can be written".into()),
    };
    Ok(rows.iter().map(|r| r.join(gap) + "\n").collect())
}

/// A tile: its number, and what it says.
type Tile = (u32, BTreeSet<(VarId, i64)>);

/// A board as the numbers of tiles, layer by layer in the order of their names: what the tiles of a cell say together is what its glyph says.
///
/// # Errors
///
/// The cell that no tiles say, in words.
fn to_layers(model: &Model, board: &[Vec<String>], tiles: &Tiles) -> Result<Vec<Layer>, String> {
    let drawing = drawing(model).ok_or("the model draws no board")?;
    let mut said: Vec<(&String, Vec<Tile>)> = vec![];
    for (name, numbers) in &tiles.layers {
        let mut list = vec![(0, BTreeSet::new())];
        for (number, words) in numbers {
            let facts = words.split(',').filter(|w| !w.trim().is_empty()).map(|w| fact(model, w));
            list.push((*number, facts.collect::<Result<_, String>>()?));
        }
        said.push((name, list));
    }
    if said.is_empty() {
        return Err("a tile map wants --tiles with tables layers.NAME: which tile says what".into());
    }
    /// One tile of each layer from here on, so that they say these facts together.
    fn pick(
        layers: &[(&String, Vec<Tile>)],
        wanted: &BTreeSet<(VarId, i64)>,
        open: &BTreeSet<(VarId, i64)>,
    ) -> Option<Vec<u32>> {
        let Some(((_, tiles), rest)) = layers.split_first() else { return open.is_empty().then(Vec::new) };
        // The tile that says most comes first.
        let mut fitting: Vec<_> = tiles.iter().filter(|t| t.1.is_subset(wanted)).collect();
        fitting.sort_by_key(|t| std::cmp::Reverse(t.1.len()));
        fitting.into_iter().find_map(|(number, facts)| {
            let left = open.difference(facts).copied().collect();
            let mut more = pick(rest, wanted, &left)?;
            more.insert(0, *number);
            Some(more)
        })
    }
    let mut out: Vec<Layer> = said.iter().map(|(name, _)| ((*name).clone(), vec![])).collect();
    for (r, row) in board.iter().enumerate() {
        out.iter_mut().for_each(|l| l.1.push(vec![]));
        for (c, glyph) in row.iter().enumerate() {
            let facts = drawing.facts.get(glyph).cloned().unwrap_or_default();
            let numbers = pick(&said, &facts, &facts).ok_or_else(|| {
                let words: Vec<String> =
                    facts.iter().map(|(v, n)| format!("{} = {n}", model.vars[*v].name)).collect();
                format!(
                    "r{}c{} is `{glyph}`: no tiles of --tiles say {} together",
                    r + 1,
                    c + 1,
                    words.join(" and ")
                )
            })?;
            for (layer, number) in out.iter_mut().zip(numbers) {
                layer.1[r].push(number);
            }
        }
    }
    Ok(out)
}

/// The data of a layer.
fn data_text(rows: &[Vec<u32>]) -> String {
    let row = |r: &Vec<u32>| r.iter().map(ToString::to_string).collect::<Vec<_>>().join(",");
    format!("\n{}\n", rows.iter().map(row).collect::<Vec<_>>().join(",\n"))
}

/// A board as a tile map. `like`: the text of a map whose layers get the new numbers, and that stays as it is otherwise.
///
/// # Errors
///
/// What is wrong, in words.
pub fn to_map(
    model: &Model,
    board: &[Vec<String>],
    tiles: &Tiles,
    like: Option<&str>,
) -> Result<String, String> {
    let made = to_layers(model, board, tiles)?;
    let (rows, cols) = (board.len(), board.first().map_or(0, Vec::len));
    let Some(like) = like else {
        let mut out = format!(
            "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<map version=\"1.10\" orientation=\"orthogonal\" width=\"{cols}\" height=\"{rows}\" tilewidth=\"16\" tileheight=\"16\">\n"
        );
        for (n, (name, numbers)) in made.iter().enumerate() {
            let name = name.replace('&', "&amp;").replace('<', "&lt;").replace('"', "&quot;");
            out.push_str(&format!(
                " <layer id=\"{}\" name=\"{name}\" width=\"{cols}\" height=\"{rows}\">\n  <data encoding=\"csv\">{}</data>\n </layer>\n",
                n + 1,
                data_text(numbers)
            ));
        }
        return Ok(out + "</map>\n");
    };
    let known = layers(like)?;
    let read = roxmltree::Document::parse(like).map_err(|e| format!("{}: {e}", e.pos().row))?;
    let mut changes: Vec<(std::ops::Range<usize>, String)> = vec![];
    for (name, numbers) in &made {
        let Some((_, before)) = known.iter().find(|(n, _)| n == name) else {
            return Err(format!("1: the map has no layer {name}"));
        };
        if (before.len(), before[0].len()) != (rows, cols) {
            return Err(format!(
                "1: {name} has {} x {} tiles, and the board {rows} x {cols}",
                before.len(),
                before[0].len()
            ));
        }
        let layer = read.descendants().find(|n| n.has_tag_name("layer") && n.attribute("name") == Some(name));
        let data = layer.and_then(|l| l.children().find(|n| n.has_tag_name("data")));
        let texts: Vec<std::ops::Range<usize>> =
            data.into_iter().flat_map(|d| d.children()).map(|n| n.range()).collect();
        if let (Some(first), Some(last)) = (texts.first(), texts.last()) {
            changes.push((first.start..last.end, data_text(numbers)));
        }
    }
    changes.sort_by_key(|c| std::cmp::Reverse(c.0.start));
    let mut out = like.to_string();
    for (range, text) in changes {
        out.replace_range(range, &text);
    }
    Ok(out)
}
