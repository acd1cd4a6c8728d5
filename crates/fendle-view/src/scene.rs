//! Pictures as lists of shapes, written as SVG or PNG.
//!
//! Text is drawn as outlines from a table that is built in, so that a picture is the same on a machine without any font.
//! SVG keeps the words as titles, for readers that cannot see shapes.

use std::collections::HashMap;
use std::fmt::Write as _;
use std::sync::OnceLock;

use tiny_skia::{Color, FillRule, LineCap, LineJoin, Paint, Path, PathBuilder, Pixmap, Stroke, Transform};

/// A colour: red, green, blue from 0 to 255.
pub type Rgb = (u8, u8, u8);

/// Where a text stands to its point.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Anchor {
    /// It begins there.
    Start,
    /// It is centred there.
    Middle,
    /// It ends there.
    End,
}

/// How a shape is filled and outlined.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Style {
    /// Colour inside.
    pub fill: Option<Rgb>,
    /// Colour and width of the outline.
    pub line: Option<(Rgb, f32)>,
    /// Dashes: length of stroke and gap.
    pub dash: Option<f32>,
}

impl Style {
    /// Only filled.
    #[must_use]
    pub fn fill(c: Rgb) -> Style {
        Style { fill: Some(c), ..Style::default() }
    }
    /// Only outlined.
    #[must_use]
    pub fn line(c: Rgb, width: f32) -> Style {
        Style { line: Some((c, width)), ..Style::default() }
    }
    /// With an outline too.
    #[must_use]
    pub fn with_line(self, c: Rgb, width: f32) -> Style {
        Style { line: Some((c, width)), ..self }
    }
}

/// One shape.
#[derive(Clone, Debug, PartialEq)]
pub enum Shape {
    /// A rectangle with rounded corners: left, top, width, height, radius.
    Rect(f32, f32, f32, f32, f32, Style),
    /// A circle: centre and radius.
    Circle(f32, f32, f32, Style),
    /// Points joined by lines; `true` closes it.
    Lines(Vec<(f32, f32)>, bool, Style),
    /// Words at a point on their base line, of this height.
    Text(f32, f32, f32, Anchor, String, Rgb),
}

/// A picture.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Scene {
    /// Width in pixels.
    pub width: f32,
    /// Height in pixels.
    pub height: f32,
    /// What it shows, for those who cannot see it.
    pub title: String,
    /// What is drawn, the first at the back.
    pub shapes: Vec<Shape>,
}

/// An outline in units of 2048 to the em, with its advance.
struct Letter {
    advance: f32,
    steps: Vec<PathStep>,
}

enum PathStep {
    Move(f32, f32),
    Line(f32, f32),
    Quad(f32, f32, f32, f32),
    Close,
}

const EM: f32 = 2048.0;

fn letters() -> &'static HashMap<char, Letter> {
    static TABLE: OnceLock<HashMap<char, Letter>> = OnceLock::new();
    TABLE.get_or_init(|| {
        let mut out = HashMap::new();
        for line in include_str!("../data/letters.txt").lines() {
            let mut parts = line.splitn(3, ' ');
            let number = |s: Option<&str>| s.and_then(|s| s.parse::<u32>().ok());
            let (Some(code), Some(advance)) = (number(parts.next()), number(parts.next())) else { continue };
            let Some(c) = char::from_u32(code) else { continue };
            let steps = steps_of(parts.next().unwrap_or(""));
            out.insert(c, Letter { advance: advance as f32, steps });
        }
        out
    })
}

fn steps_of(text: &str) -> Vec<PathStep> {
    let mut out = vec![];
    let mut rest = text;
    while let Some(kind) = rest.chars().next() {
        let end = rest[1..].find(|c: char| c.is_ascii_uppercase()).map_or(rest.len(), |i| i + 1);
        let n: Vec<f32> = rest[1..end].split(' ').filter_map(|s| s.parse().ok()).collect();
        match (kind, n.as_slice()) {
            ('M', [x, y]) => out.push(PathStep::Move(*x, *y)),
            ('L', [x, y]) => out.push(PathStep::Line(*x, *y)),
            ('Q', [a, b, x, y]) => out.push(PathStep::Quad(*a, *b, *x, *y)),
            _ => out.push(PathStep::Close),
        }
        rest = &rest[end..];
    }
    out
}

/// The letter that stands for characters that are not in the table.
fn letter(c: char) -> &'static Letter {
    static EMPTY: Letter = Letter { advance: 1200.0, steps: vec![] };
    let table = letters();
    table.get(&c).or_else(|| table.get(&'?')).unwrap_or(&EMPTY)
}

/// How wide a text of this height is.
#[must_use]
pub fn text_width(text: &str, size: f32) -> f32 {
    text.chars().map(|c| letter(c).advance).sum::<f32>() * size / EM
}

/// Text for XML and HTML: nothing of it can end a tag or an attribute.
#[must_use]
pub fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\'' => out.push_str("&#39;"),
            // Not allowed in XML at all.
            c if c < ' ' && !matches!(c, '\n' | '\t') || matches!(c, '\u{fffe}' | '\u{ffff}') => {
                out.push(' ')
            }
            c => out.push(c),
        }
    }
    out
}

fn hex((r, g, b): Rgb) -> String {
    format!("#{r:02x}{g:02x}{b:02x}")
}

fn begin_x(x: f32, anchor: Anchor, text: &str, size: f32) -> f32 {
    match anchor {
        Anchor::Start => x,
        Anchor::Middle => x - text_width(text, size) / 2.0,
        Anchor::End => x - text_width(text, size),
    }
}

impl Scene {
    /// An empty picture.
    #[must_use]
    pub fn new(width: f32, height: f32, title: impl Into<String>) -> Scene {
        Scene { width, height, title: title.into(), shapes: vec![] }
    }

    /// Puts another picture into this one, its corner at a point, scaled.
    pub fn place(&mut self, other: &Scene, x: f32, y: f32, scale: f32) {
        let look = |l: &Style| Style {
            line: l.line.map(|(c, w)| (c, w * scale)),
            dash: l.dash.map(|d| d * scale),
            ..*l
        };
        for s in &other.shapes {
            let at = |a: f32, b: f32| (x + a * scale, y + b * scale);
            self.shapes.push(match s {
                Shape::Rect(a, b, w, h, r, l) => {
                    let (a, b) = at(*a, *b);
                    Shape::Rect(a, b, w * scale, h * scale, r * scale, look(l))
                }
                Shape::Circle(a, b, r, l) => {
                    let (a, b) = at(*a, *b);
                    Shape::Circle(a, b, r * scale, look(l))
                }
                Shape::Lines(p, closed, l) => {
                    Shape::Lines(p.iter().map(|(a, b)| at(*a, *b)).collect(), *closed, look(l))
                }
                Shape::Text(a, b, size, anchor, text, c) => {
                    let (a, b) = at(*a, *b);
                    Shape::Text(a, b, size * scale, *anchor, text.clone(), *c)
                }
            });
        }
    }

    /// The picture as SVG, complete in itself.
    #[must_use]
    pub fn svg(&self) -> String {
        let mut out = String::new();
        let (w, h) = (self.width, self.height);
        let title = escaped(&self.title);
        // Writing to a string does not fail.
        let _ = write!(
            out,
            "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{w}\" height=\"{h}\" viewBox=\"0 0 {w} {h}\" \
             role=\"img\" aria-label=\"{title}\"><title>{title}</title>"
        );
        for s in &self.shapes {
            match s {
                Shape::Rect(x, y, w, h, r, l) => {
                    let _ = write!(
                        out,
                        "<rect x=\"{x:.1}\" y=\"{y:.1}\" width=\"{w:.1}\" height=\"{h:.1}\" rx=\"{r:.1}\"{}/>",
                        svg_look(l)
                    );
                }
                Shape::Circle(x, y, r, l) => {
                    let _ = write!(out, "<circle cx=\"{x:.1}\" cy=\"{y:.1}\" r=\"{r:.1}\"{}/>", svg_look(l));
                }
                Shape::Lines(points, closed, l) => {
                    let list: Vec<String> = points.iter().map(|(x, y)| format!("{x:.1},{y:.1}")).collect();
                    let tag = if *closed { "polygon" } else { "polyline" };
                    let _ = write!(out, "<{tag} points=\"{}\"{}/>", list.join(" "), svg_look(l));
                }
                Shape::Text(x, y, size, anchor, text, colour) => {
                    let _ =
                        write!(out, "<path fill=\"{}\" aria-label=\"{}\" d=\"", hex(*colour), escaped(text));
                    out.push_str(&outline(*x, *y, *size, *anchor, text));
                    out.push_str("\"/>");
                }
            }
        }
        out.push_str("</svg>\n");
        out
    }

    /// The picture as PNG, `scale` pixels to a unit. `None` when it would be too large to be held.
    #[must_use]
    pub fn png(&self, scale: f32) -> Option<Vec<u8>> {
        let (w, h) = ((self.width * scale).ceil() as u32, (self.height * scale).ceil() as u32);
        if u64::from(w) * u64::from(h) > 1 << 28 {
            return None;
        }
        let mut map = Pixmap::new(w.max(1), h.max(1))?;
        let by = Transform::from_scale(scale, scale);
        for s in &self.shapes {
            match s {
                Shape::Text(x, y, size, anchor, text, colour) => {
                    if let Some(path) = text_path(*x, *y, *size, *anchor, text) {
                        fill(&mut map, &path, *colour, by);
                    }
                }
                Shape::Rect(_, _, _, _, _, l) | Shape::Circle(_, _, _, l) | Shape::Lines(_, _, l) => {
                    let Some(path) = path_of(s) else { continue };
                    if let Some(c) = l.fill {
                        fill(&mut map, &path, c, by);
                    }
                    if let Some((c, width)) = l.line {
                        let stroke = Stroke {
                            width,
                            line_cap: LineCap::Round,
                            line_join: LineJoin::Round,
                            dash: l.dash.and_then(|d| tiny_skia::StrokeDash::new(vec![d, d], 0.0)),
                            ..Stroke::default()
                        };
                        map.stroke_path(&path, &paint(c), &stroke, by, None);
                    }
                }
            }
        }
        map.encode_png().ok()
    }
}

fn paint((r, g, b): Rgb) -> Paint<'static> {
    let mut out = Paint { anti_alias: true, ..Paint::default() };
    out.set_color(Color::from_rgba8(r, g, b, 255));
    out
}

fn fill(map: &mut Pixmap, path: &Path, c: Rgb, by: Transform) {
    map.fill_path(path, &paint(c), FillRule::Winding, by, None);
}

/// Words as the data of an SVG path.
#[must_use]
pub fn outline(x: f32, y: f32, size: f32, anchor: Anchor, text: &str) -> String {
    let scale = size / EM;
    let mut x = begin_x(x, anchor, text, size);
    let mut out = String::new();
    for c in text.chars() {
        let l = letter(c);
        for s in &l.steps {
            let at = |a: f32, b: f32| format!("{:.1} {:.1}", x + a * scale, y - b * scale);
            // Writing to a string does not fail.
            let _ = match s {
                PathStep::Move(a, b) => write!(out, "M{}", at(*a, *b)),
                PathStep::Line(a, b) => write!(out, "L{}", at(*a, *b)),
                PathStep::Quad(a, b, c, d) => write!(out, "Q{} {}", at(*a, *b), at(*c, *d)),
                PathStep::Close => write!(out, "Z"),
            };
        }
        x += l.advance * scale;
    }
    out
}

fn svg_look(l: &Style) -> String {
    let fill = l.fill.map_or("none".to_string(), hex);
    let mut out = format!(" fill=\"{fill}\"");
    if let Some((c, w)) = l.line {
        let _ = write!(out, " stroke=\"{}\" stroke-width=\"{w:.2}\" stroke-linejoin=\"round\"", hex(c));
        if let Some(d) = l.dash {
            let _ = write!(out, " stroke-dasharray=\"{d:.1}\"");
        }
    }
    out
}

fn path_of(shape: &Shape) -> Option<Path> {
    let mut p = PathBuilder::new();
    match shape {
        Shape::Rect(x, y, w, h, r, _) => {
            let r = r.min(w / 2.0).min(h / 2.0);
            // A quarter circle by one cubic.
            let k = r * 0.447_715;
            p.move_to(x + r, *y);
            p.line_to(x + w - r, *y);
            p.cubic_to(x + w - k, *y, x + w, y + k, x + w, y + r);
            p.line_to(x + w, y + h - r);
            p.cubic_to(x + w, y + h - k, x + w - k, y + h, x + w - r, y + h);
            p.line_to(x + r, y + h);
            p.cubic_to(x + k, y + h, *x, y + h - k, *x, y + h - r);
            p.line_to(*x, y + r);
            p.cubic_to(*x, y + k, x + k, *y, x + r, *y);
            p.close();
        }
        Shape::Circle(x, y, r, _) => p.push_circle(*x, *y, *r),
        Shape::Lines(points, closed, _) => {
            let mut points = points.iter();
            let (x, y) = points.next()?;
            p.move_to(*x, *y);
            points.for_each(|(x, y)| p.line_to(*x, *y));
            if *closed {
                p.close();
            }
        }
        Shape::Text(..) => return None,
    }
    p.finish()
}

fn text_path(x: f32, y: f32, size: f32, anchor: Anchor, text: &str) -> Option<Path> {
    let scale = size / EM;
    let mut x = begin_x(x, anchor, text, size);
    let mut p = PathBuilder::new();
    for c in text.chars() {
        let l = letter(c);
        for s in &l.steps {
            match s {
                PathStep::Move(a, b) => p.move_to(x + a * scale, y - b * scale),
                PathStep::Line(a, b) => p.line_to(x + a * scale, y - b * scale),
                PathStep::Quad(a, b, c, d) => {
                    p.quad_to(x + a * scale, y - b * scale, x + c * scale, y - d * scale);
                }
                PathStep::Close => p.close(),
            }
        }
        x += l.advance * scale;
    }
    p.finish()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_printable_character_has_an_outline() {
        for c in ' '..='~' {
            assert!(letters().contains_key(&c), "{c}");
            assert!(c == ' ' || !letter(c).steps.is_empty(), "{c}");
        }
        assert!(text_width("iii", 10.0) < text_width("WWW", 10.0));
        assert_eq!(text_width("ab", 20.0), 2.0 * text_width("ab", 10.0));
    }

    #[test]
    fn words_cannot_leave_their_place_in_the_file() {
        let mut s = Scene::new(10.0, 10.0, "<script>alert('x')</script>\u{7}");
        s.shapes.push(Shape::Text(0.0, 0.0, 8.0, Anchor::Start, "\"><b>&".into(), (0, 0, 0)));
        let svg = s.svg();
        assert!(!svg.contains("<script") && !svg.contains("<b>") && !svg.contains('\u{7}'));
        assert!(svg.contains("&lt;script&gt;") && svg.contains("&quot;&gt;&lt;b&gt;&amp;"));
    }

    /// The pixels are where the shapes are.
    #[test]
    fn shapes_are_drawn_where_they_stand() {
        let mut s = Scene::new(20.0, 10.0, "two");
        s.shapes.push(Shape::Rect(0.0, 0.0, 20.0, 10.0, 0.0, Style::fill((255, 255, 255))));
        s.shapes.push(Shape::Circle(5.0, 5.0, 3.0, Style::fill((255, 0, 0))));
        s.shapes.push(Shape::Text(15.0, 9.0, 10.0, Anchor::Middle, "I".into(), (0, 0, 255)));
        let png = s.png(2.0).expect("small");
        let map = Pixmap::decode_png(&png).expect("what was written is read");
        assert_eq!((map.width(), map.height()), (40, 20));
        let at = |x: u32, y: u32| {
            let p = map.pixel(x, y).expect("inside").demultiply();
            (p.red(), p.green(), p.blue())
        };
        assert_eq!(at(10, 10), (255, 0, 0));
        assert_eq!(at(20, 10), (255, 255, 255));
        assert_eq!(at(30, 12), (0, 0, 255));
        assert_eq!(Scene::new(1e6, 1e6, "").png(1.0), None);
    }
}
