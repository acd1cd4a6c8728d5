//! Boards as pictures: cells with what stands on them, in layers.
//!
//! Things differ in form first and in colour second. Which form and colour a thing has is said by whoever makes the
//! [`Tiles`].

use crate::scene::{Anchor, Rgb, Scene, Shape, Style, text_width};

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
pub struct Palette {
    /// Behind everything.
    pub ground: Rgb,
    /// An empty cell.
    pub cell: Rgb,
    /// Lines between cells.
    pub grid: Rgb,
    /// Letters and outlines.
    pub ink: Rgb,
    /// What is less important.
    pub faint: Rgb,
    /// What never moves.
    pub fixed: Rgb,
    /// Where something is wanted.
    pub wish: Rgb,
    /// Marks on cells.
    pub mark: Rgb,
    /// The named colours, in the order of [`PAINTS`]; the first eight tell pieces apart.
    pub paints: [Rgb; 12],
}

/// The names of the colours.
pub const PAINTS: [&str; 12] =
    ["blue", "ochre", "sky", "brown", "navy", "sand", "teal", "clay", "slate", "rust", "ink", "chalk"];

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
                paints: [
                    (38, 84, 138),
                    (196, 142, 44),
                    (104, 148, 188),
                    (138, 98, 28),
                    (20, 52, 92),
                    (226, 192, 120),
                    (70, 116, 128),
                    (170, 122, 74),
                    (92, 104, 112),
                    (138, 60, 24),
                    (29, 39, 51),
                    (252, 251, 247),
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
                paints: [
                    (112, 164, 220),
                    (222, 172, 76),
                    (64, 104, 148),
                    (176, 134, 64),
                    (150, 186, 214),
                    (240, 214, 156),
                    (92, 148, 160),
                    (196, 150, 104),
                    (118, 130, 140),
                    (234, 150, 100),
                    (232, 229, 218),
                    (46, 56, 66),
                ],
            },
        }
    }
}

/// The form of a thing on a cell.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Figure {
    /// Fills its cell.
    Block,
    /// Fills it with waves.
    Waves,
    /// Fills it with dots.
    Gravel,
    /// Fills it with slanted lines.
    Hatch,
    /// A rounded block.
    Slab,
    /// A filled circle.
    Disk,
    /// A thick circle.
    Ring,
    /// A square on its corner.
    Diamond,
    /// A triangle, its point up.
    Wedge,
    /// Six sides.
    Hexagon,
    /// A dashed frame.
    Frame,
    /// Two strokes.
    Cross,
    /// A lying bar.
    Bar,
    /// A small filled circle.
    Dot,
    /// A ring with a dot in it.
    Buoy,
    /// Only words.
    Label,
    /// Not drawn.
    Nothing,
}

impl Figure {
    /// All of them, with their names.
    pub const ALL: [(&'static str, Figure); 17] = [
        ("block", Figure::Block),
        ("waves", Figure::Waves),
        ("gravel", Figure::Gravel),
        ("hatch", Figure::Hatch),
        ("slab", Figure::Slab),
        ("disk", Figure::Disk),
        ("ring", Figure::Ring),
        ("diamond", Figure::Diamond),
        ("wedge", Figure::Wedge),
        ("hexagon", Figure::Hexagon),
        ("frame", Figure::Frame),
        ("cross", Figure::Cross),
        ("bar", Figure::Bar),
        ("dot", Figure::Dot),
        ("buoy", Figure::Buoy),
        ("label", Figure::Label),
        ("nothing", Figure::Nothing),
    ];

    /// What fills its cell lies under what does not.
    fn layer(self) -> u8 {
        match self {
            Figure::Block | Figure::Waves | Figure::Gravel | Figure::Hatch => 0,
            Figure::Frame => 1,
            _ => 2,
        }
    }
}

/// A colour: one of the palette, or its own.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Paint {
    /// By its number in [`PAINTS`].
    Named(usize),
    /// The same in every theme.
    Rgb(Rgb),
}

impl Palette {
    /// A colour as this theme has it.
    #[must_use]
    pub fn paint(&self, paint: Paint) -> Rgb {
        match paint {
            Paint::Named(n) => self.paints[n % self.paints.len()],
            Paint::Rgb(c) => c,
        }
    }
}

/// One thing on a cell.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Thing {
    /// Its form.
    pub figure: Figure,
    /// Its colour.
    pub paint: Paint,
    /// What is written on it.
    pub label: String,
    /// Joined with the same thing above, right, below, left; above right, below right, below left, above left.
    pub joined: [bool; 8],
    /// Its width in hundredths of its cell, for what lies in a pile.
    pub wide: u8,
}

impl Thing {
    /// A thing by itself.
    #[must_use]
    pub fn new(figure: Figure, paint: Paint, label: impl Into<String>) -> Thing {
        Thing { figure, paint, label: label.into(), joined: [false; 8], wide: 100 }
    }
}

/// What is thought of a cell, drawn over it.
#[derive(Clone, Debug, PartialEq)]
pub struct Shade {
    /// From 0 to 1: how dark it is.
    pub share: f32,
    /// What is written.
    pub words: String,
    /// Known for certain, and that it is so.
    pub sure: Option<bool>,
}

/// A board to be drawn.
#[derive(Clone, Debug, Default, PartialEq)]
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
    /// Overlays by cell, such as probabilities; none where it is empty.
    pub shades: Vec<Option<Shade>>,
    /// Piles stand side by side instead of cells: what the columns are called.
    pub piles: Vec<String>,
    /// Every second row begins half a cell further to the right.
    pub shifted: bool,
    /// The position in words, for those who cannot see the picture.
    pub alt: String,
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
        let (w, h) = (self.wide() * CELL, self.rows as f32 * CELL);
        let words =
            self.lines.iter().map(|l| text_width(l, 13.0)).fold(text_width(&self.title, 15.0), f32::max);
        let width = (EDGE + w + 12.0).max(words + 24.0).ceil();
        let height = (top + h + 12.0 + 20.0 * self.lines.len() as f32).ceil();
        let mut s = Scene::new(width, height, self.words());
        s.shapes.push(Shape::Rect(0.0, 0.0, width, height, 0.0, Style::fill(p.ground)));
        if !self.title.is_empty() {
            s.shapes.push(Shape::Text(12.0, 20.0, 15.0, Anchor::Start, self.title.clone(), p.ink));
        }
        for c in 0..self.cols {
            let x = EDGE + (c as f32 + 0.5) * CELL;
            let name = self.piles.get(c).cloned().unwrap_or_else(|| (c + 1).to_string());
            s.shapes.push(Shape::Text(x, top - 8.0, 11.0, Anchor::Middle, name, p.faint));
        }
        for r in (0..self.rows).filter(|_| self.piles.is_empty()) {
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
        let mut s = Scene::new(self.wide() * cell, self.rows as f32 * cell, self.words());
        self.draw_cells(&mut s, 0.0, 0.0, cell, &theme.palette());
        s
    }

    /// How wide the board is, in cells.
    fn wide(&self) -> f32 {
        self.cols as f32 + if self.shifted && self.rows > 1 { 0.5 } else { 0.0 }
    }

    /// The upper left corner of a cell.
    fn corner(&self, cell: usize, left: f32, top: f32, side: f32) -> (f32, f32) {
        let (r, c) = (cell / self.cols.max(1), cell % self.cols.max(1));
        let half = if self.shifted && r % 2 == 1 { 0.5 } else { 0.0 };
        (left + (c as f32 + half) * side, top + r as f32 * side)
    }

    /// What the picture shows, for those who cannot see it.
    fn words(&self) -> String {
        if self.title.is_empty() { self.alt.clone() } else { format!("{}: {}", self.title, self.alt) }
    }

    /// What stands on one cell, drawn on a cell of side [`CELL`] at the origin.
    #[must_use]
    pub fn one_cell(&self, things: &[Thing], theme: Theme) -> Vec<Shape> {
        let p = theme.palette();
        let mut s = Scene::new(CELL, CELL, "");
        if self.piles.is_empty() {
            s.shapes.push(Shape::Rect(0.0, 0.0, CELL, CELL, 0.0, Style::fill(p.cell).with_line(p.grid, 1.0)));
        }
        self.draw_things(&mut s, things, 0.0, 0.0, CELL, &p);
        s.shapes
    }

    fn draw_things(&self, s: &mut Scene, things: &[Thing], x: f32, y: f32, cell: f32, p: &Palette) {
        for layer in 0..3 {
            for t in things.iter().filter(|t| t.figure.layer() == layer) {
                draw_thing(s, t, x, y, cell, p);
            }
        }
    }

    fn draw_cells(&self, s: &mut Scene, left: f32, top: f32, cell: f32, p: &Palette) {
        for i in 0..self.cells.len() {
            let (x, y) = self.corner(i, left, top, cell);
            if self.blank.get(i) == Some(&true) {
                s.shapes.push(Shape::Rect(
                    x,
                    y,
                    cell,
                    cell,
                    0.0,
                    Style { dash: Some(3.0), ..Style::line(p.grid, 0.5) },
                ));
                continue;
            }
            if self.piles.is_empty() {
                let look = Style::fill(p.cell).with_line(p.grid, cell / 44.0);
                s.shapes.push(Shape::Rect(x, y, cell, cell, 0.0, look));
            } else if i / self.cols.max(1) + 1 == self.rows {
                // What a pile stands on.
                let foot = y + cell * 0.94;
                let points = vec![(x + cell * 0.04, foot), (x + cell * 0.96, foot)];
                s.shapes.push(Shape::Lines(points, false, Style::line(p.faint, cell * 0.06)));
            }
        }
        // Grounds first: a piece of several cells lies over the lines between them.
        for (i, things) in self.cells.iter().enumerate().filter(|(i, _)| self.blank.get(*i) != Some(&true)) {
            let (x, y) = self.corner(i, left, top, cell);
            self.draw_things(s, things, x, y, cell, p);
        }
        for (i, shade) in self.shades.iter().enumerate().filter_map(|(i, s)| Some((i, s.as_ref()?))) {
            let (x, y) = self.corner(i, left, top, cell);
            draw_shade(s, shade, x, y, cell, p);
        }
        for &i in &self.marks {
            let (x, y) = self.corner(i, left, top, cell);
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
                // A light rim keeps it apart from what it lies on.
                s.shapes.push(Shape::Lines(points.clone(), false, Style::line(p.ground, cell * 0.12)));
                s.shapes.push(Shape::Lines(points, false, Style::line(p.mark, cell * 0.07)));
            }
        }
    }
}

impl Palette {
    /// A rim for a filled form: the colour itself, or the ink where it hardly differs from a cell.
    fn rim(&self, c: Rgb) -> Rgb {
        let far = |a: u8, b: u8| i32::from(a).abs_diff(i32::from(b));
        if far(c.0, self.cell.0) + far(c.1, self.cell.1) + far(c.2, self.cell.2) < 150 { self.ink } else { c }
    }
}

/// Relative luminance of a colour, from 0 to 1 (W3C, Web Content Accessibility Guidelines 2).
fn luminance((r, g, b): Rgb) -> f32 {
    let part = |v: u8| {
        let v = f32::from(v) / 255.0;
        if v <= 0.039_28 { v / 12.92 } else { ((v + 0.055) / 1.055).powf(2.4) }
    };
    0.2126 * part(r) + 0.7152 * part(g) + 0.0722 * part(b)
}

/// Contrast of two colours, from 1 to 21, by the same source.
fn contrast(a: Rgb, b: Rgb) -> f32 {
    let (a, b) = (luminance(a), luminance(b));
    (a.max(b) + 0.05) / (a.min(b) + 0.05)
}

/// Dark or light, whichever is read better on a colour.
fn ink_on(c: Rgb) -> Rgb {
    let (dark, light) = ((24, 30, 38), (250, 248, 240));
    if contrast(dark, c) >= contrast(light, c) { dark } else { light }
}

/// From the colour of a cell to ochre; certain cells have a sign, and what is certainly not so is blue.
fn draw_shade(s: &mut Scene, shade: &Shade, x: f32, y: f32, cell: f32, p: &Palette) {
    let k = shade.share.clamp(0.0, 1.0);
    let mix = |a: u8, b: u8| (f32::from(a) + (f32::from(b) - f32::from(a)) * k) as u8;
    let (from, to) = (p.cell, p.paints[1]);
    let c = match shade.sure {
        Some(false) => p.paints[2],
        _ => (mix(from.0, to.0), mix(from.1, to.1), mix(from.2, to.2)),
    };
    s.shapes.push(Shape::Rect(x, y, cell, cell, 0.0, Style::fill(c).with_line(p.grid, cell / 44.0)));
    let (cx, cy) = (x + cell / 2.0, y + cell / 2.0);
    match shade.sure {
        Some(true) => {
            let r = cell * 0.26;
            let look = Style::line(ink_on(c), cell * 0.09);
            s.shapes.push(Shape::Lines(vec![(cx - r, cy - r), (cx + r, cy + r)], false, look));
            s.shapes.push(Shape::Lines(vec![(cx + r, cy - r), (cx - r, cy + r)], false, look));
        }
        Some(false) => s.shapes.push(Shape::Circle(cx, cy, cell * 0.22, Style::line(ink_on(c), cell * 0.08))),
        None => {
            let size =
                (cell * 0.4).min(cell * 0.4 * cell * 0.8 / text_width(&shade.words, cell * 0.4).max(1.0));
            s.shapes.push(Shape::Text(
                cx,
                cy + size * 0.36,
                size,
                Anchor::Middle,
                shade.words.clone(),
                ink_on(c),
            ));
        }
    }
}

#[expect(clippy::too_many_lines, reason = "one arm for each form")]
fn draw_thing(s: &mut Scene, t: &Thing, x: f32, y: f32, cell: f32, p: &Palette) {
    let (cx, cy) = (x + cell / 2.0, y + cell / 2.0);
    let colour = p.paint(t.paint);
    let write = |s: &mut Scene, ink: Rgb, most: f32, dy: f32| {
        if t.label.is_empty() {
            return;
        }
        let mut size = cell * 0.46;
        let wide = text_width(&t.label, size);
        if wide > most {
            size *= most / wide;
        }
        s.shapes.push(Shape::Text(cx, cy + dy + size * 0.36, size, Anchor::Middle, t.label.clone(), ink));
    };
    let round = |n: usize, r: f32, turn: f32| -> Vec<(f32, f32)> {
        (0..n)
            .map(|i| {
                let a = std::f32::consts::TAU * (i as f32 + turn) / n as f32;
                (cx + r * a.sin(), cy - r * a.cos())
            })
            .collect()
    };
    // A dark rim, so that a light colour is seen on a light ground.
    let filled = Style::fill(colour).with_line(p.rim(colour), cell * 0.02);
    match t.figure {
        Figure::Nothing => {}
        Figure::Block | Figure::Waves | Figure::Gravel | Figure::Hatch => {
            s.shapes.push(Shape::Rect(x, y, cell, cell, 0.0, Style::fill(colour)));
            pattern(s, t.figure, x, y, cell, p.cell);
            write(s, ink_on(colour), cell * 0.84, 0.0);
        }
        Figure::Slab => {
            let k = cell * 0.12;
            let side = (cell - 2.0 * k) * (1.0 - f32::from(t.wide.min(100)) / 100.0) / 2.0;
            let (l, u, r, d) = (x + k + side, y + k, x + cell - k - side, y + cell - k);
            let mut fill = |l: f32, u: f32, r: f32, d: f32, round: f32| {
                s.shapes.push(Shape::Rect(l, u, r - l, d - u, round, Style::fill(colour)));
            };
            let together = t.joined.contains(&true);
            fill(l, u, r, d, if together { 0.0 } else { cell * 0.16 });
            if together {
                // Arms to the neighbours, a little over the edge so that no seam shows; corners where all four meet.
                let (j, m) = (cell * 0.01, cell / 2.0);
                let [up, right, down, left, up_right, down_right, down_left, up_left] = t.joined;
                for (on, l, u, r, d) in [
                    (up, l, y - j, r, y + m),
                    (right, x + m, u, x + cell + j, d),
                    (down, l, y + m, r, y + cell + j),
                    (left, x - j, u, x + m, d),
                    (up && right && up_right, x + m, y - j, x + cell + j, y + m),
                    (down && right && down_right, x + m, y + m, x + cell + j, y + cell + j),
                    (down && left && down_left, x - j, y + m, x + m, y + cell + j),
                    (up && left && up_left, x - j, y - j, x + m, y + m),
                ] {
                    if on {
                        fill(l, u, r, d, 0.0);
                    }
                }
            }
            write(s, ink_on(colour), (r - l) * 0.88, 0.0);
        }
        Figure::Disk => {
            s.shapes.push(Shape::Circle(cx, cy, cell * 0.38, filled));
            write(s, ink_on(colour), cell * 0.6, 0.0);
        }
        Figure::Ring => {
            s.shapes.push(Shape::Circle(cx, cy, cell * 0.32, Style::line(colour, cell * 0.11)));
            write(s, p.ink, cell * 0.44, 0.0);
        }
        Figure::Diamond => {
            s.shapes.push(Shape::Lines(round(4, cell * 0.42, 0.0), true, filled));
            write(s, ink_on(colour), cell * 0.44, 0.0);
        }
        Figure::Wedge => {
            s.shapes.push(Shape::Lines(
                vec![
                    (cx, y + cell * 0.12),
                    (x + cell * 0.9, y + cell * 0.84),
                    (x + cell * 0.1, y + cell * 0.84),
                ],
                true,
                filled,
            ));
            write(s, ink_on(colour), cell * 0.4, cell * 0.12);
        }
        Figure::Hexagon => {
            s.shapes.push(Shape::Lines(round(6, cell * 0.42, 0.5), true, filled));
            write(s, ink_on(colour), cell * 0.56, 0.0);
        }
        Figure::Frame => {
            // Wider than what may stand on it.
            let k = cell * 0.06;
            let look = Style { dash: Some(cell * 0.1), ..Style::line(colour, cell * 0.05) };
            s.shapes.push(Shape::Rect(x + k, y + k, cell - 2.0 * k, cell - 2.0 * k, cell * 0.1, look));
            write(s, p.ink, cell * 0.6, 0.0);
        }
        Figure::Cross => {
            let k = cell * 0.26;
            for (a, b) in [
                ((x + k, y + k), (x + cell - k, y + cell - k)),
                ((x + cell - k, y + k), (x + k, y + cell - k)),
            ] {
                s.shapes.push(Shape::Lines(vec![a, b], false, Style::line(colour, cell * 0.11)));
            }
        }
        Figure::Bar => {
            s.shapes.push(Shape::Rect(
                x + cell * 0.12,
                cy - cell * 0.14,
                cell * 0.76,
                cell * 0.28,
                cell * 0.08,
                Style::fill(colour),
            ));
        }
        Figure::Dot => s.shapes.push(Shape::Circle(cx, cy, cell * 0.13, filled)),
        Figure::Buoy => {
            s.shapes.push(Shape::Circle(
                cx,
                cy,
                cell * 0.34,
                Style::fill(p.ground).with_line(colour, cell * 0.08),
            ));
            if t.label.is_empty() {
                s.shapes.push(Shape::Circle(cx, cy, cell * 0.12, Style::fill(colour)));
            }
            write(s, p.ink, cell * 0.46, 0.0);
        }
        Figure::Label => write(s, p.ink, cell * 0.84, 0.0),
    }
}

/// What tells filled cells apart without their colour.
fn pattern(s: &mut Scene, figure: Figure, x: f32, y: f32, cell: f32, c: Rgb) {
    let line = Style::line(c, cell * 0.035);
    match figure {
        Figure::Waves => {
            for k in 0..3 {
                let y = y + cell * (0.25 + 0.25 * k as f32);
                let up = |i: i32| if i % 2 == 0 { -cell * 0.04 } else { cell * 0.04 };
                let wave = (0..=8).map(|i| (x + cell * (0.1 + 0.1 * i as f32), y + up(i)));
                s.shapes.push(Shape::Lines(wave.collect(), false, line));
            }
        }
        Figure::Gravel => {
            for k in 0..4 {
                let (dx, dy) = (0.3 + 0.4 * (k % 2) as f32, 0.3 + 0.4 * (k / 2) as f32);
                s.shapes.push(Shape::Circle(x + cell * dx, y + cell * dy, cell * 0.06, Style::fill(c)));
            }
        }
        Figure::Hatch => {
            for k in 1..4 {
                let d = cell * 0.25 * k as f32;
                let points = vec![(x + d, y + cell * 0.1), (x + d - cell * 0.2, y + cell * 0.9)];
                s.shapes.push(Shape::Lines(points, false, line));
            }
        }
        _ => {}
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
    out.shapes.push(Shape::Rect(0.0, 0.0, wide, y + tall, 0.0, Style::fill(theme.palette().ground)));
    for (p, (x, y)) in parts.iter().zip(spots) {
        out.place(p, x, y, 1.0);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What is written can be read: on every colour, in both themes, and so can words beside a board.
    #[test]
    fn words_stand_out_from_what_they_are_written_on() {
        assert!((contrast((0, 0, 0), (255, 255, 255)) - 21.0).abs() < 0.01);
        assert!((contrast((9, 9, 9), (9, 9, 9)) - 1.0).abs() < 0.01);
        for theme in [Theme::Light, Theme::Dark] {
            let p = theme.palette();
            for (name, c) in PAINTS.iter().zip(p.paints) {
                assert!(contrast(ink_on(c), c) >= 4.2, "{theme:?} {name}");
            }
            for ground in [p.ground, p.cell] {
                assert!(contrast(p.ink, ground) >= 7.0, "{theme:?}");
                assert!(contrast(p.faint, ground) >= 3.0, "{theme:?}");
                assert!(contrast(p.mark, ground) >= 4.5, "{theme:?}");
            }
        }
    }

    fn board(things: Vec<Thing>) -> Tiles {
        Tiles {
            rows: 1,
            cols: 1,
            cells: vec![things],
            title: "t".into(),
            alt: "one cell".into(),
            ..Tiles::default()
        }
    }

    /// Every form has its own outline, whatever its colour; `nothing` has none.
    #[test]
    fn forms_differ_without_their_colours() {
        let bare = board(vec![]).scene(Theme::Light).shapes.len();
        let mut seen: Vec<(String, &str)> = vec![];
        for (name, figure) in Figure::ALL {
            let s = board(vec![Thing::new(figure, Paint::Rgb((1, 2, 3)), "")]).scene(Theme::Light);
            let own = format!("{:?}", &s.shapes[bare..]);
            if matches!(figure, Figure::Nothing | Figure::Label) {
                assert_eq!(s.shapes.len(), bare, "{name}");
                continue;
            }
            assert!(s.shapes.len() > bare, "{name}");
            let twin = seen.iter().find(|(o, _)| *o == own);
            assert!(twin.is_none(), "{name} looks like {:?}", twin.map(|t| t.1));
            seen.push((own, name));
        }
    }

    /// What fills a cell lies below, frames in the middle, the rest above, in whatever order they are given.
    #[test]
    fn what_fills_a_cell_hides_nothing() {
        let thing = |f, n| Thing::new(f, Paint::Rgb((n, n, n)), "");
        let list = vec![
            thing(Figure::Disk, 1),
            thing(Figure::Frame, 2),
            thing(Figure::Block, 3),
            thing(Figure::Dot, 4),
        ];
        let s = board(list).scene(Theme::Dark);
        let order: Vec<u8> = s
            .shapes
            .iter()
            .filter_map(|shape| match shape {
                Shape::Rect(.., l) | Shape::Circle(.., l) => l.fill.or(l.line.map(|x| x.0)),
                _ => None,
            })
            .filter(|c| c.0 == c.1 && c.1 == c.2 && c.0 < 5)
            .map(|c| c.0)
            .collect();
        assert_eq!(order, [3, 2, 1, 4]);
    }

    /// A piece of several cells covers where its cells meet, and only that: by area, an L of three cells and a square.
    #[test]
    fn every_second_row_of_a_shifted_board_is_half_a_cell_further() {
        let board = |shifted| Tiles { rows: 2, cols: 3, cells: vec![vec![]; 6], shifted, ..Tiles::default() };
        let (plain, six) = (board(false), board(true));
        assert_eq!(six.small(Theme::Light, 10.0).width - plain.small(Theme::Light, 10.0).width, 5.0);
        assert_eq!(
            (plain.corner(3, 0.0, 0.0, 10.0), six.corner(3, 0.0, 0.0, 10.0)),
            ((0.0, 10.0), (5.0, 10.0))
        );
        assert_eq!(six.corner(1, 0.0, 0.0, 10.0), (10.0, 0.0));
    }

    #[test]
    fn joined_cells_make_one_piece() {
        // Whether a point of a board is covered.
        let covered = |cells: &[(usize, usize)], x: f32, y: f32| -> bool {
            let has = |r: i32, c: i32| cells.iter().any(|p| (p.0 as i32, p.1 as i32) == (r, c));
            let mut t = Tiles { rows: 2, cols: 2, cells: vec![vec![]; 4], ..Tiles::default() };
            for &(r, c) in cells {
                let (i, j) = (r as i32, c as i32);
                let beside = [(-1, 0), (0, 1), (1, 0), (0, -1), (-1, 1), (1, 1), (1, -1), (-1, -1)];
                let mut thing = Thing::new(Figure::Slab, Paint::Rgb((1, 2, 3)), "");
                thing.joined = beside.map(|(a, b)| has(i + a, j + b));
                t.cells[r * 2 + c].push(thing);
            }
            t.small(Theme::Light, 100.0).shapes.iter().any(|s| match s {
                Shape::Rect(l, u, w, h, _, look) if look.fill == Some((1, 2, 3)) => {
                    (*l..=l + w).contains(&x) && (*u..=u + h).contains(&y)
                }
                _ => false,
            })
        };
        let square = [(0, 0), (0, 1), (1, 0), (1, 1)];
        let knee = [(0, 0), (1, 0), (1, 1)];
        for (x, y) in [(100.0, 50.0), (50.0, 100.0), (100.0, 100.0), (50.0, 50.0), (150.0, 150.0)] {
            assert!(covered(&square, x, y), "{x} {y}");
        }
        assert!(covered(&knee, 50.0, 100.0) && covered(&knee, 100.0, 150.0));
        // The inner corner of the knee is free, and so is the fourth cell.
        assert!(!covered(&knee, 95.0, 95.0) && !covered(&knee, 105.0, 95.0) && !covered(&knee, 150.0, 50.0));
        // Nothing joins what is not joined.
        assert!(!covered(&[(0, 0), (1, 1)], 100.0, 100.0));
    }

    /// A shade says more than its colour: a sign where it is certain, a number where it is not.
    #[test]
    fn shades_are_told_without_their_colours() {
        let shade = |sure, words: &str| {
            let mut t = board(vec![]);
            t.shades = vec![Some(Shade { share: 0.5, words: words.into(), sure })];
            t.scene(Theme::Light).shapes
        };
        let has = |shapes: &[Shape], test: &dyn Fn(&Shape) -> bool| shapes.iter().any(test);
        let line = |s: &Shape| matches!(s, Shape::Lines(p, false, _) if p.len() == 2);
        let ring = |s: &Shape| matches!(s, Shape::Circle(..));
        let number = |s: &Shape| matches!(s, Shape::Text(_, _, _, _, t, _) if t == "50%");
        let (yes, no, maybe) = (shade(Some(true), ""), shade(Some(false), ""), shade(None, "50%"));
        assert!(has(&yes, &line) && !has(&yes, &ring));
        assert!(has(&no, &ring) && !has(&no, &line));
        assert!(has(&maybe, &number) && !has(&maybe, &ring));
    }

    /// Words that are too long for their place are made smaller, not cut.
    #[test]
    fn long_labels_shrink_to_their_cell() {
        for figure in [Figure::Slab, Figure::Disk, Figure::Block, Figure::Hexagon, Figure::Label] {
            let s = board(vec![Thing::new(figure, Paint::Named(0), "131072")]).small(Theme::Light, 60.0);
            let text = s.shapes.iter().find_map(|x| match x {
                Shape::Text(x, _, size, _, t, _) => Some((*x, text_width(t, *size))),
                _ => None,
            });
            let (x, wide) = text.expect("it is written");
            assert!(wide <= 60.0 && x - wide / 2.0 >= 0.0 && x + wide / 2.0 <= 60.0, "{figure:?} {wide}");
        }
    }
}
