//! Boards as pictures: cells with what stands on them, in layers.
//!
//! What is fixed, what is wanted, pieces and agents differ in shape first and in colour second: fixed things fill their
//! cell with a pattern, wishes are dashed frames, pieces are rounded blocks with their name or number, agents are disks.

use crate::scene::{Anchor, Look, Rgb, Scene, Shape, text_width};

/// Light or dark.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Theme {
    /// Dark on light.
    #[default]
    Light,
    /// Light on dark.
    Dark,
}

/// The colours of a theme: a range from blue to ochre that colour-blind eyes can tell apart.
#[derive(Clone, Copy, Debug)]
#[allow(missing_docs)]
pub struct Palette {
    pub ground: Rgb,
    pub cell: Rgb,
    pub grid: Rgb,
    pub ink: Rgb,
    pub faint: Rgb,
    pub fixed: Rgb,
    pub wish: Rgb,
    pub mark: Rgb,
    pub pieces: [Rgb; 8],
}

impl Theme {
    /// Its colours.
    #[must_use]
    pub fn palette(self) -> Palette {
        match self {
            Theme::Light => Palette {
                ground: (250, 249, 245),
                cell: (240, 238, 230),
                grid: (208, 204, 192),
                ink: (29, 39, 51),
                faint: (122, 128, 132),
                fixed: (92, 104, 112),
                wish: (150, 106, 20),
                mark: (138, 60, 24),
                pieces: [
                    (38, 84, 138),
                    (196, 142, 44),
                    (104, 148, 188),
                    (138, 98, 28),
                    (20, 52, 92),
                    (226, 192, 120),
                    (70, 116, 128),
                    (170, 122, 74),
                ],
            },
            Theme::Dark => Palette {
                ground: (20, 26, 33),
                cell: (31, 39, 48),
                grid: (58, 68, 78),
                ink: (232, 229, 218),
                faint: (140, 148, 154),
                fixed: (118, 130, 140),
                wish: (222, 178, 92),
                mark: (234, 150, 100),
                pieces: [
                    (112, 164, 220),
                    (222, 172, 76),
                    (64, 104, 148),
                    (176, 134, 64),
                    (150, 186, 214),
                    (240, 214, 156),
                    (92, 148, 160),
                    (196, 150, 104),
                ],
            },
        }
    }
}

/// What kind of thing stands on a cell.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Kind {
    /// Part of the level that never moves: walls, water.
    Fixed,
    /// What the goal is about: a cell that wants something.
    Wish,
    /// A piece.
    Piece,
    /// What the player moves.
    Agent,
    /// Only words.
    Word,
}

/// One thing on a cell.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Thing {
    /// What it is.
    pub kind: Kind,
    /// Which of its kind: gives colour and pattern.
    pub number: usize,
    /// What is written on it.
    pub label: String,
    /// Joined with the same thing above, right, below, left.
    pub joined: [bool; 4],
}

impl Thing {
    /// A thing by itself.
    #[must_use]
    pub fn new(kind: Kind, number: usize, label: impl Into<String>) -> Thing {
        Thing { kind, number, label: label.into(), joined: [false; 4] }
    }
}

/// A board to be drawn.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Tiles {
    /// Its name, drawn above it; may be empty.
    pub title: String,
    /// Rows.
    pub rows: usize,
    /// Columns.
    pub cols: usize,
    /// What stands on each cell, row by row, the first at the back.
    pub cells: Vec<Vec<Thing>>,
    /// Marked cells: refusing, clues, a dead part.
    pub marks: Vec<usize>,
    /// Cells that are left out, when only a part is shown.
    pub blank: Vec<bool>,
    /// Words below: values that are on no cell.
    pub lines: Vec<String>,
}

/// Side of a cell in pixels.
pub const CELL: f32 = 44.0;
const EDGE: f32 = 26.0;

impl Tiles {
    /// The picture, with row and column numbers.
    #[must_use]
    pub fn scene(&self, theme: Theme) -> Scene {
        let p = theme.palette();
        let title_room = if self.title.is_empty() { 0.0 } else { 26.0 };
        let top = EDGE + title_room;
        let (w, h) = (self.cols as f32 * CELL, self.rows as f32 * CELL);
        let words =
            self.lines.iter().map(|l| text_width(l, 13.0)).fold(text_width(&self.title, 15.0), f32::max);
        let width = (EDGE + w + 12.0).max(words + 24.0).ceil();
        let height = (top + h + 12.0 + 20.0 * self.lines.len() as f32).ceil();
        let mut s = Scene::new(width, height, self.words());
        s.shapes.push(Shape::Rect(0.0, 0.0, width, height, 0.0, Look::fill(p.ground)));
        if !self.title.is_empty() {
            s.shapes.push(Shape::Text(12.0, 20.0, 15.0, Anchor::Start, self.title.clone(), p.ink));
        }
        for c in 0..self.cols {
            let x = EDGE + (c as f32 + 0.5) * CELL;
            s.shapes.push(Shape::Text(x, top - 8.0, 11.0, Anchor::Middle, (c + 1).to_string(), p.faint));
        }
        for r in 0..self.rows {
            let y = top + (r as f32 + 0.5) * CELL + 4.0;
            s.shapes.push(Shape::Text(EDGE - 8.0, y, 11.0, Anchor::End, (r + 1).to_string(), p.faint));
        }
        self.draw_cells(&mut s, EDGE, top, CELL, &p);
        for (i, l) in self.lines.iter().enumerate() {
            let y = top + h + 20.0 * (i as f32 + 1.0);
            s.shapes.push(Shape::Text(12.0, y, 13.0, Anchor::Start, l.clone(), p.ink));
        }
        s
    }

    /// The board alone, without names, for small pictures.
    #[must_use]
    pub fn small(&self, theme: Theme, cell: f32) -> Scene {
        let mut s = Scene::new(self.cols as f32 * cell, self.rows as f32 * cell, self.words());
        self.draw_cells(&mut s, 0.0, 0.0, cell, &theme.palette());
        s
    }

    /// The board in words, row by row.
    fn words(&self) -> String {
        fn cell(things: &[Thing]) -> &str {
            things.iter().rev().map(|t| t.label.as_str()).find(|l| !l.is_empty()).unwrap_or(".")
        }
        let rows: Vec<String> = self
            .cells
            .chunks(self.cols.max(1))
            .map(|row| row.iter().map(|c| cell(c)).collect::<Vec<_>>().join(" "))
            .collect();
        let mut out = if self.title.is_empty() { String::new() } else { format!("{}: ", self.title) };
        out.push_str(&rows.join(" / "));
        out
    }

    fn draw_cells(&self, s: &mut Scene, left: f32, top: f32, cell: f32, p: &Palette) {
        for (i, things) in self.cells.iter().enumerate() {
            let x = left + (i % self.cols.max(1)) as f32 * cell;
            let y = top + (i / self.cols.max(1)) as f32 * cell;
            if self.blank.get(i) == Some(&true) {
                s.shapes.push(Shape::Rect(
                    x,
                    y,
                    cell,
                    cell,
                    0.0,
                    Look { dash: Some(3.0), ..Look::line(p.grid, 0.5) },
                ));
                continue;
            }
            s.shapes.push(Shape::Rect(
                x,
                y,
                cell,
                cell,
                0.0,
                Look::fill(p.cell).with_line(p.grid, cell / 44.0),
            ));
            for t in things {
                draw_thing(s, t, x, y, cell, p);
            }
        }
        for &i in &self.marks {
            let x = left + (i % self.cols.max(1)) as f32 * cell;
            let y = top + (i / self.cols.max(1)) as f32 * cell;
            let k = cell * 0.06;
            // Corners of a frame: seen beside every colour.
            for (cx, cy, dx, dy) in [
                (x + k, y + k, 1.0, 1.0),
                (x + cell - k, y + k, -1.0, 1.0),
                (x + k, y + cell - k, 1.0, -1.0),
                (x + cell - k, y + cell - k, -1.0, -1.0),
            ] {
                let arm = cell * 0.26;
                let points = vec![(cx + dx * arm, cy), (cx, cy), (cx, cy + dy * arm)];
                s.shapes.push(Shape::Lines(points, false, Look::line(p.mark, cell * 0.07)));
            }
        }
    }
}

/// Black or white, whichever is read better on a colour.
fn ink_on((r, g, b): Rgb) -> Rgb {
    let light = 0.299 * f32::from(r) + 0.587 * f32::from(g) + 0.114 * f32::from(b);
    if light > 150.0 { (24, 30, 38) } else { (250, 248, 240) }
}

fn draw_thing(s: &mut Scene, t: &Thing, x: f32, y: f32, cell: f32, p: &Palette) {
    let (cx, cy) = (x + cell / 2.0, y + cell / 2.0);
    let colour = p.pieces[t.number % p.pieces.len()];
    let write = |s: &mut Scene, ink: Rgb, most: f32| {
        if t.label.is_empty() {
            return;
        }
        let mut size = cell * 0.46;
        let wide = text_width(&t.label, size);
        if wide > most {
            size *= most / wide;
        }
        s.shapes.push(Shape::Text(cx, cy + size * 0.36, size, Anchor::Middle, t.label.clone(), ink));
    };
    match t.kind {
        Kind::Fixed => {
            s.shapes.push(Shape::Rect(
                x,
                y,
                cell,
                cell,
                0.0,
                Look::fill(if t.number == 0 { p.fixed } else { p.pieces[(t.number * 2) % 8] }),
            ));
            // A pattern for each kind: none, waves, dots, slashes.
            let line = Look::line(p.cell, cell * 0.035);
            match t.number % 4 {
                1 => {
                    for k in 0..3 {
                        let y = y + cell * (0.25 + 0.25 * k as f32);
                        let wave = (0..=8).map(|i| {
                            (
                                x + cell * (0.1 + 0.1 * i as f32),
                                y + if i % 2 == 0 { -cell * 0.04 } else { cell * 0.04 },
                            )
                        });
                        s.shapes.push(Shape::Lines(wave.collect(), false, line));
                    }
                }
                2 => {
                    for k in 0..4 {
                        let (dx, dy) = (0.3 + 0.4 * (k % 2) as f32, 0.3 + 0.4 * (k / 2) as f32);
                        s.shapes.push(Shape::Circle(
                            x + cell * dx,
                            y + cell * dy,
                            cell * 0.06,
                            Look::fill(p.cell),
                        ));
                    }
                }
                3 => {
                    for k in 1..4 {
                        let d = cell * 0.25 * k as f32;
                        s.shapes.push(Shape::Lines(
                            vec![(x + d, y + cell * 0.1), (x + d - cell * 0.2, y + cell * 0.9)],
                            false,
                            line,
                        ));
                    }
                }
                _ => {}
            }
        }
        Kind::Wish => {
            let k = cell * (0.12 + 0.05 * (t.number % 3) as f32);
            let look = Look { dash: Some(cell * 0.1), ..Look::line(p.wish, cell * 0.05) };
            s.shapes.push(Shape::Rect(x + k, y + k, cell - 2.0 * k, cell - 2.0 * k, cell * 0.1, look));
        }
        Kind::Piece => {
            let k = cell * 0.09;
            // A little over the edge, so that no seam shows.
            let j = |on: bool| if on { -cell * 0.01 } else { k };
            let (l, u) = (x + j(t.joined[3]), y + j(t.joined[0]));
            let (r, d) = (x + cell - j(t.joined[1]), y + cell - j(t.joined[2]));
            let round = if t.joined.contains(&true) { 0.0 } else { cell * 0.16 };
            s.shapes.push(Shape::Rect(l, u, r - l, d - u, round, Look::fill(colour)));
            write(s, ink_on(colour), cell * 0.72);
        }
        Kind::Agent => {
            s.shapes.push(Shape::Circle(
                cx,
                cy,
                cell * 0.34,
                Look::fill(p.ground).with_line(colour, cell * 0.08),
            ));
            s.shapes.push(Shape::Circle(cx, cy, cell * 0.12, Look::fill(colour)));
        }
        Kind::Word => write(s, p.ink, cell * 0.84),
    }
}

/// Several pictures in rows, at most `most` wide.
#[must_use]
pub fn sheet(parts: &[Scene], most: f32, theme: Theme, title: &str) -> Scene {
    let (mut x, mut y, mut tall, mut wide) = (0.0f32, 0.0f32, 0.0f32, 0.0f32);
    let mut spots = vec![];
    for p in parts {
        if x > 0.0 && x + p.width > most {
            y += tall;
            x = 0.0;
            tall = 0.0;
        }
        spots.push((x, y));
        x += p.width;
        wide = wide.max(x);
        tall = tall.max(p.height);
    }
    let mut out = Scene::new(wide, y + tall, title);
    out.shapes.push(Shape::Rect(0.0, 0.0, wide, y + tall, 0.0, Look::fill(theme.palette().ground)));
    for (p, (x, y)) in parts.iter().zip(spots) {
        out.place(p, x, y, 1.0);
    }
    out
}
