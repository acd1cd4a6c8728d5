//! Pages that stand alone: no network, no script but their own. All that comes from a model or a file is data or escaped
//! text.

use std::io::{self, Write};

use serde::{Serialize, Serializer};
use serde_json::json;

use crate::net::{Boards, Net, Spots, Status, kinds};
use crate::scene::{Rgb, Scene, Shape, Style, escaped, outline};
use crate::tiles::{CELL, Theme, Tiles};

/// JSON inside a page: nothing of it can end the script element. What is written comes in whole characters.
struct Data<'w>(&'w mut dyn Write);

impl Write for Data<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let mut rest = bytes;
        while let Some(at) = rest.iter().position(|b| matches!(b, b'<' | 0xe2)) {
            self.0.write_all(&rest[..at])?;
            let (stands_for, len): (&[u8], usize) = match &rest[at..] {
                [b'<', ..] => (b"\\u003c", 1),
                [0xe2, 0x80, 0xa8, ..] => (b"\\u2028", 3),
                [0xe2, 0x80, 0xa9, ..] => (b"\\u2029", 3),
                other => (&other[..1], 1),
            };
            self.0.write_all(stands_for)?;
            rest = &rest[at + len..];
        }
        self.0.write_all(rest)?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}

/// A list of what an iterator gives, which is never held as a list: a graph may have millions of arrows.
struct Each<I>(I);

impl<I: Iterator<Item: Serialize> + Clone> Serialize for Each<I> {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        s.collect_seq(self.0.clone())
    }
}

/// Writes state graphs to look into: pan, zoom, find, walk, and play the shortest solution. Each is drawn on one canvas. With two
/// of them, `pairs` says which nodes of the first match which of the second: what is taken in one is taken in both.
///
/// # Errors
///
/// Those of the output.
pub fn write_graph(
    out: &mut dyn Write,
    title: &str,
    views: &[(&Net, &Spots)],
    pairs: &[(u32, u32)],
) -> io::Result<()> {
    #[derive(Serialize)]
    struct Page<'a, V> {
        pairs: &'a [(u32, u32)],
        statuses: [&'a str; Status::ALL.len()],
        views: V,
    }
    let (before, after) = parts(include_str!("../assets/graph.html"), title, "@DATA@");
    out.write_all(before.as_bytes())?;
    let views = Each(views.iter().map(|(net, spots)| View { net, spots }));
    let page = Page { pairs, statuses: Status::ALL.map(Status::word), views };
    serde_json::to_writer(Data(out), &page)?;
    out.write_all(after.as_bytes())
}

/// One graph as data.
struct View<'a> {
    net: &'a Net,
    spots: &'a Spots,
}

impl Serialize for View<'_> {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        use serde::ser::SerializeMap as _;
        let View { net, spots } = self;
        let round = |v: f32| (f64::from(v) * 100.0).round() / 100.0;
        let (nodes, arrows) = (&net.nodes, &net.arrows);
        let mut way: Vec<usize> = (0..nodes.len()).filter(|i| nodes[*i].on_way).collect();
        way.sort_by_key(|i| nodes[*i].depth);
        let (kinds, kind) = kinds(&net.names);
        let sizes = nodes.iter().enumerate().filter(|(_, n)| n.count > 1).map(|(i, n)| (i, n.count));
        let mut map = s.serialize_map(None)?;
        map.serialize_entry("boards", &net.boards.as_ref().map(boards))?;
        map.serialize_entry("depth", &Each(nodes.iter().map(|n| n.depth)))?;
        map.serialize_entry("fatal", &Each((0..arrows.len()).filter(|i| arrows[*i].fatal)))?;
        map.serialize_entry("from", &Each(arrows.iter().map(|a| a.from)))?;
        map.serialize_entry("gap", &round(gap(net, spots)))?;
        map.serialize_entry("kind", &kind)?;
        map.serialize_entry("kinds", &kinds)?;
        map.serialize_entry("must", &Each((0..nodes.len()).filter(|i| nodes[*i].must_pass)))?;
        map.serialize_entry("name", &Each(arrows.iter().map(|a| a.name)))?;
        map.serialize_entry("names", &net.names)?;
        map.serialize_entry("notes", &net.notes)?;
        map.serialize_entry("size", &Each(sizes))?;
        map.serialize_entry("start", &Each((0..nodes.len()).filter(|i| nodes[*i].start)))?;
        map.serialize_entry("status", &Each(nodes.iter().map(|n| n.status.number())))?;
        map.serialize_entry("text", &Each(nodes.iter().map(|n| n.text.as_str())))?;
        map.serialize_entry("title", &net.title)?;
        map.serialize_entry("to", &Each(arrows.iter().map(|a| a.to)))?;
        map.serialize_entry("way", &way)?;
        map.serialize_entry("x", &Each(spots.iter().map(|p| round(p.0))))?;
        map.serialize_entry("y", &Each(spots.iter().map(|p| round(p.1))))?;
        map.end()
    }
}

/// The first character that stands for a kind of cell: few kinds are plain letters, many are letters of any script.
fn first_code(kinds: usize) -> u32 {
    if kinds <= 0x3f { 0x3f } else { 0x100 }
}

/// Boards as data: for each kind of cell what is painted, in both themes; for each node one character a cell.
fn boards(b: &Boards) -> serde_json::Value {
    let from = first_code(b.kinds.len());
    let frame = Tiles { piles: if b.piles { vec![String::new()] } else { vec![] }, ..Tiles::default() };
    let painted = |theme: Theme| -> Vec<serde_json::Value> {
        b.kinds.iter().map(|k| frame.one_cell(k, theme).iter().map(stroke).collect()).collect()
    };
    let line = |cells: &Vec<u16>| -> String {
        cells.iter().map(|k| char::from_u32(from + u32::from(*k)).unwrap_or('?')).collect()
    };
    json!({
        "rows": b.rows,
        "cols": b.cols,
        "side": CELL,
        "from": from,
        "light": painted(Theme::Light),
        "dark": painted(Theme::Dark),
        "cells": b.cells.iter().map(line).collect::<Vec<_>>(),
    })
}

/// One shape for the page's own painter: kind, measures, fill, line, width, dash.
fn stroke(shape: &Shape) -> serde_json::Value {
    let r = |v: f32| (f64::from(v) * 10.0).round() / 10.0;
    let colour = |c: Rgb| format!("#{:02x}{:02x}{:02x}", c.0, c.1, c.2);
    let look = |l: &Style| {
        let (line, width) = l.line.map_or((None, 0.0), |(c, w)| (Some(colour(c)), w));
        (l.fill.map(colour), line, r(width), l.dash.map_or(0.0, r))
    };
    match shape {
        Shape::Rect(x, y, w, h, round, l) => {
            let l = look(l);
            json!(["r", r(*x), r(*y), r(*w), r(*h), r(*round), l.0, l.1, l.2, l.3])
        }
        Shape::Circle(x, y, radius, l) => {
            let l = look(l);
            json!(["c", r(*x), r(*y), r(*radius), l.0, l.1, l.2, l.3])
        }
        Shape::Lines(points, closed, l) => {
            let flat: Vec<f64> = points.iter().flat_map(|p| [r(p.0), r(p.1)]).collect();
            let l = look(l);
            json!(["l", flat, closed, l.0, l.1, l.2, l.3])
        }
        Shape::Text(x, y, size, anchor, words, c) => {
            // Outlines, so that a board is the same on a machine without any font.
            json!(["p", outline(*x, *y, *size, *anchor, words), colour(*c)])
        }
    }
}

/// A page with its title and its one part put in; what they hold is not looked through again.
fn filled(page: &str, title: &str, mark: &str, part: &str) -> String {
    let (before, after) = parts(page, title, mark);
    before + part + &after
}

/// What lies before and behind the one part of a page, with its title put in.
fn parts(page: &str, title: &str, mark: &str) -> (String, String) {
    let title = escaped(title);
    let (before, after) = page.split_once(mark).unwrap_or((page, ""));
    (before.replace("@TITLE@", &title), after.replace("@TITLE@", &title))
}

/// The usual distance of neighbours: the median length of the arrows.
fn gap(net: &Net, spots: &Spots) -> f32 {
    let mut list: Vec<f32> = net
        .arrows
        .iter()
        .step_by(net.arrows.len() / 2000 + 1)
        .map(|a| {
            let (f, t) = (spots[a.from as usize], spots[a.to as usize]);
            ((f.0 - t.0).powi(2) + (f.1 - t.1).powi(2)).sqrt()
        })
        .filter(|d| *d > 0.0)
        .collect();
    list.sort_by(f32::total_cmp);
    list.get(list.len() / 2).copied().unwrap_or(1.0).max(0.01)
}

/// One part of a report.
pub enum Section {
    /// A heading.
    Head(String),
    /// A paragraph.
    Words(String),
    /// Numbers with their names.
    Table(Vec<(String, String)>),
    /// A picture.
    Picture(Scene),
    /// Parts side by side, where the window is wide enough.
    Beside(Vec<Section>),
}

/// A report: one page, no script.
#[must_use]
pub fn report(title: &str, parts: &[Section]) -> String {
    let mut out = format!(
        "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>{0}</title><style>\
         body{{margin:24px auto;max-width:1280px;padding:0 20px;font:15px/1.5 system-ui,sans-serif;color:#1d2733;background:#faf9f5}}\
         h1{{font-size:22px}}h2{{font-size:17px;margin-top:28px}}table{{border-collapse:collapse}}\
         td{{padding:2px 18px 2px 0;border-bottom:1px solid #d0ccc0}}td+td{{text-align:right;font-variant-numeric:tabular-nums}}\
         svg{{max-width:100%;height:auto}}.beside{{display:flex;flex-wrap:wrap;gap:8px 48px}}</style></head><body><h1>{0}</h1>\n",
        escaped(title)
    );
    parts.iter().for_each(|p| write_section(&mut out, p));
    out.push_str("</body></html>\n");
    out
}

fn write_section(out: &mut String, p: &Section) {
    match p {
        Section::Head(t) => out.push_str(&format!("<h2>{}</h2>\n", escaped(t))),
        Section::Words(t) => out.push_str(&format!("<p>{}</p>\n", escaped(t))),
        Section::Table(rows) => {
            let row = |(a, b): &(String, String)| {
                format!("<tr><td>{}</td><td>{}</td></tr>", escaped(a), escaped(b))
            };
            out.push_str(&format!("<table>{}</table>\n", rows.iter().map(row).collect::<String>()));
        }
        Section::Picture(s) => out.push_str(&s.svg()),
        Section::Beside(list) => {
            out.push_str("<div class=\"beside\">");
            for p in list {
                out.push_str("<div>");
                write_section(out, p);
                out.push_str("</div>");
            }
            out.push_str("</div>\n");
        }
    }
}

/// One row of a table: a small picture, words, numbers.
pub struct Row {
    /// The picture.
    pub picture: Option<Scene>,
    /// Words, one for each column of words.
    pub words: Vec<String>,
    /// Numbers, one for each column of numbers; `None` is written as a dash.
    pub numbers: Vec<Option<u64>>,
}

/// A page with one table, sorted by the column whose head is pressed.
#[must_use]
pub fn sorted_table(title: &str, words: &[&str], numbers: &[&str], rows: &[Row]) -> String {
    let head = |h: &&str| format!("<th><button>{}</button></th>", escaped(h));
    let mut table = String::from("<thead><tr><th>board</th>");
    table.extend(words.iter().map(head));
    table.extend(numbers.iter().map(head));
    table.push_str("</tr></thead><tbody>");
    for r in rows {
        table.push_str("<tr><td>");
        table.push_str(&r.picture.as_ref().map_or(String::new(), Scene::svg));
        table.push_str("</td>");
        table.extend(r.words.iter().map(|w| format!("<td>{}</td>", escaped(w))));
        let number = |n: &Option<u64>| match n {
            Some(n) => format!("<td class=\"n\" data-n=\"{n}\">{}</td>", fendle_core::numbers::grouped(*n)),
            None => "<td class=\"n\" data-n=\"-1\">-</td>".to_string(),
        };
        table.extend(r.numbers.iter().map(number));
        table.push_str("</tr>");
    }
    table.push_str("</tbody>");
    filled(include_str!("../assets/table.html"), title, "@TABLE@", &table)
}

/// A play, one picture a move.
#[must_use]
pub fn frames(title: &str, list: &[(String, Scene)]) -> String {
    let frames: Vec<String> = list
        .iter()
        .map(|(words, scene)| {
            format!("<div class=\"frame\" data-words=\"{}\">{}</div>", escaped(words), scene.svg())
        })
        .collect();
    filled(include_str!("../assets/frames.html"), title, "@FRAMES@", &frames.join("\n"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::net::{Arrow, Node, layers};
    use crate::tiles::{Figure, Paint, Thing};

    /// The page paints statuses in the colours of pictures, light and dark.
    #[test]
    fn pages_have_the_colours_of_pictures() {
        let page = include_str!("../assets/graph.html");
        let (light, dark) = page.split_once("prefers-color-scheme: dark").expect("both themes");
        for (part, theme) in [(light, Theme::Light), (dark, Theme::Dark)] {
            let p = theme.palette();
            for (name, (r, g, b)) in [
                ("ground", p.ground),
                ("ink", p.ink),
                ("blue", p.paints[0]),
                ("ochre", p.paints[1]),
                ("brown", p.paints[3]),
                ("fatal", p.mark),
                ("way", p.wish),
            ] {
                let line = format!("--{name}: #{r:02x}{g:02x}{b:02x}");
                assert!(part.contains(&line), "{line}");
            }
        }
    }

    /// A page that is one document: elements that are opened are closed, in their order, and texts hold no bare signs.
    fn well_formed(xml: &str) -> Result<(), String> {
        let empty = ["meta", "input", "br"];
        let mut open: Vec<&str> = vec![];
        let mut rest = xml;
        while let Some(i) = rest.find('<') {
            if rest[..i].contains('>') {
                return Err(format!("a bare > in {:?}", &rest[..i]));
            }
            let Some(end) = rest[i..].find('>') else { return Err("an element that never ends".into()) };
            let tag = &rest[i + 1..i + end];
            rest = &rest[i + end + 1..];
            if tag.starts_with('!') {
                continue;
            }
            let name = tag.trim_start_matches('/').split([' ', '\n', '/']).next().unwrap_or("");
            if tag.matches('"').count() % 2 == 1 {
                return Err(format!("a quote that never ends in {tag}"));
            }
            if tag.starts_with('/') {
                if open.pop() != Some(name) {
                    return Err(format!("</{name}> closes nothing"));
                }
            } else if !tag.ends_with('/') && !empty.contains(&name) {
                open.push(name);
            }
            // Style and script have a grammar of their own.
            if !tag.starts_with('/') && (name == "style" || name == "script") {
                let Some(end) = rest.find(&format!("</{name}>")) else {
                    return Err(format!("{name} never ends"));
                };
                rest = &rest[end..];
            }
        }
        if open.is_empty() { Ok(()) } else { Err(format!("{open:?} are never closed")) }
    }

    #[test]
    fn pages_and_pictures_are_well_formed() {
        let evil = "<b>\"&amp;'</svg></td></div>";
        let mut tiles = Tiles {
            rows: 1,
            cols: Figure::ALL.len(),
            title: evil.into(),
            alt: evil.into(),
            ..Tiles::default()
        };
        for (_, figure) in Figure::ALL {
            tiles.cells.push(vec![Thing::new(figure, Paint::Named(3), evil)]);
        }
        tiles.lines.push(evil.into());
        tiles.marks.push(0);
        let scene = tiles.scene(Theme::Dark);
        assert_eq!(well_formed(&scene.svg()), Ok(()));
        let parts = vec![
            Section::Head(evil.into()),
            Section::Beside(vec![
                Section::Picture(scene.clone()),
                Section::Table(vec![(evil.into(), evil.into())]),
            ]),
            Section::Words(evil.into()),
        ];
        assert_eq!(well_formed(&report(evil, &parts)), Ok(()));
        assert_eq!(well_formed(&frames(evil, &[(evil.into(), scene.clone())])), Ok(()));
        let row = Row { picture: Some(scene), words: vec![evil.into()], numbers: vec![Some(3), None] };
        assert_eq!(well_formed(&sorted_table(evil, &[evil], &["n", "m"], &[row])), Ok(()));
        let net = Net {
            nodes: vec![Node::plain(evil.into(), 0, Status::Goal)],
            title: evil.into(),
            ..Net::default()
        };
        assert_eq!(well_formed(&graph(evil, &[(&net, &layers(&net))], &[])), Ok(()));
        // And the checker sees what is wrong.
        for bad in ["<a><b></a></b>", "<a>", "<a b=\"c></a>", "</a>"] {
            assert!(well_formed(bad).is_err(), "{bad}");
        }
    }

    fn graph(title: &str, views: &[(&Net, &Spots)], pairs: &[(u32, u32)]) -> String {
        let mut out = vec![];
        write_graph(&mut out, title, views, pairs).expect("memory takes it all");
        String::from_utf8(out).expect("text")
    }

    /// Data of a page reads back as what it was, and holds nothing that a page would take for its own.
    #[test]
    fn data_is_escaped_and_reads_back() {
        let pieces =
            ["<", "</script>", "\u{2028}", "\u{2029}", "\u{2013}", "\u{20ac}", "\u{e2}", "\"", "\\", "a", ""];
        for n in 0..pieces.len().pow(3) {
            let text = pieces[n % pieces.len()].to_string()
                + pieces[n / pieces.len() % pieces.len()]
                + pieces[n / pieces.len().pow(2)];
            let mut out = vec![];
            serde_json::to_writer(Data(&mut out), &[&text]).expect("memory takes it all");
            let out = String::from_utf8(out).expect("text");
            assert!(!out.contains(['<', '\u{2028}', '\u{2029}']), "{out}");
            assert_eq!(serde_json::from_str::<Vec<String>>(&out).expect("JSON"), [text]);
        }
    }

    #[test]
    fn what_comes_from_a_level_cannot_leave_its_place() {
        let node =
            |text: &str| Node { start: true, on_way: true, ..Node::plain(text.into(), 0, Status::Goal) };
        let evil = "</script><script>alert(1)</script>";
        let net = Net {
            title: evil.into(),
            nodes: vec![node(evil), node("b\u{2028}")],
            arrows: vec![Arrow { from: 0, to: 1, name: 0, fatal: true }],
            names: vec![evil.into()],
            notes: vec![evil.into()],
            boards: Some(Boards {
                rows: 1,
                cols: 1,
                piles: false,
                kinds: vec![vec![Thing::new(Figure::Slab, Paint::Named(0), evil)]],
                cells: vec![vec![0], vec![0]],
            }),
        };
        let page = graph(evil, &[(&net, &layers(&net))], &[]);
        assert_eq!(page.matches("<script").count(), 2, "its own data and its own code");
        assert!(!page.contains("alert(1)</script>"));
        assert!(!page.contains("http://") && !page.contains("https://"), "nothing is fetched");
        let two = graph(evil, &[(&net, &layers(&net)), (&net, &layers(&net))], &[(0, 1)]);
        assert_eq!(two.matches("<script").count(), 2);
        let page = frames(evil, &[(evil.into(), Scene::new(4.0, 4.0, evil))]);
        assert_eq!(page.matches("<script").count(), 1);
    }
}
