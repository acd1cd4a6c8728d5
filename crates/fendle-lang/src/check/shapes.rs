//! Shapes from their drawings: the cells of each turn, as offsets from the anchor.

use crate::model::ShapeTurns;
use crate::source::Span;
use crate::syntax::tree::{BoardText, ShapeDef};

/// What is wrong with a drawing: where, what, and what to do.
pub type Wrong = (Span, String, String);

/// Cells with what each is a part of; 0 where shapes have no parts.
type Cells = Vec<((i64, i64), i64)>;

/// The cells of one drawing, and the anchor where one is drawn. `parts` are the values that letters stand for.
fn read(drawing: &BoardText, parts: Option<&[String]>) -> Result<(Cells, Option<(i64, i64)>), Wrong> {
    let span = drawing.span;
    let mut cells = vec![];
    let mut anchor = None;
    let rows = drawing.text.lines().map(str::trim).filter(|l| !l.is_empty());
    for (r, line) in rows.enumerate() {
        for (c, glyph) in line.chars().enumerate() {
            let at = (r as i64, c as i64);
            if matches!(glyph, '@' | '+') && anchor.replace(at).is_some() {
                let note = "one `@` or `+` is enough";
                return Err((span, "this drawing has two anchors".into(), note.into()));
            }
            match (glyph, parts) {
                ('x' | '@', None) => cells.push((at, 0)),
                ('.' | '+', _) => {}
                (letter, Some(parts)) => {
                    let named = |v: &&String| v.starts_with(letter);
                    let mut fitting = parts.iter().filter(named);
                    match (fitting.next(), fitting.next()) {
                        (Some(one), None) => {
                            let value = parts.iter().position(|v| v == one).expect("it is one of them");
                            cells.push((at, value as i64));
                        }
                        (Some(one), Some(other)) => {
                            let message = format!("`{letter}` may stand for `{one}` or `{other}`");
                            return Err((
                                span,
                                message,
                                "let their names begin with different letters".into(),
                            ));
                        }
                        (None, _) => {
                            let message = format!("`{letter}` means nothing in the drawing of this shape");
                            let note = format!(
                                "a letter is the first one of a part: {}; . is not covered",
                                parts.join(", ")
                            );
                            return Err((span, message, note));
                        }
                    }
                }
                (other, None) => {
                    return Err((
                        span,
                        format!("`{other}` means nothing in the drawing of a shape"),
                        "x is a covered cell, . is not; @ and + are the same at the anchor".into(),
                    ));
                }
            }
        }
    }
    if cells.is_empty() {
        return Err((span, "this shape covers no cell".into(), "draw its cells with x".into()));
    }
    Ok((cells, anchor))
}

/// What a shape is turned and mirrored about.
#[derive(Clone, Copy, PartialEq, Eq)]
enum About {
    /// The anchor cell.
    Cell,
    /// The corner above and left of the anchor.
    Corner,
    /// Nothing: of each turn the first cell in reading order is the anchor, so that turns that look the same are the same.
    Look,
}

/// Cells after a turn, in reading order.
fn in_reading_order(mut cells: Cells, about: About) -> Cells {
    cells.sort_unstable();
    if let (About::Look, Some(&((r, c), _))) = (about, cells.first()) {
        cells.iter_mut().for_each(|(cell, _)| *cell = (cell.0 - r, cell.1 - c));
    }
    cells
}

/// A quarter turn clockwise.
fn turn(cells: &Cells, about: About) -> Cells {
    let shift = i64::from(about == About::Corner);
    in_reading_order(cells.iter().map(|&((r, c), p)| ((c, -r - shift), p)).collect(), about)
}

/// Left and right exchanged.
fn mirror(cells: &Cells, about: About) -> Cells {
    let shift = i64::from(about == About::Corner);
    in_reading_order(cells.iter().map(|&((r, c), p)| ((r, -c - shift), p)).collect(), about)
}

/// Keeps one of turns that come round again: the least period of a circle of turns.
fn merged(mut circle: Vec<Cells>) -> Vec<Cells> {
    let drawn = circle.len();
    let period = (1..=drawn)
        .find(|p| drawn.is_multiple_of(*p) && (0..drawn).all(|i| circle[i] == circle[i % p]))
        .unwrap_or(drawn);
    circle.truncate(period);
    circle
}

/// All distinct turns of a shape. Turns are the same only when they cover the same cells about the anchor, with the same parts.
/// Mirrored ones follow where they differ. The cells of a turn come in reading order.
///
/// # Errors
///
/// What is wrong with the drawing.
pub fn turns(def: &ShapeDef, parts: Option<&[String]>, mirrored: bool) -> Result<ShapeTurns, Wrong> {
    let corner = def.corner.is_some();
    let mut about = if corner { About::Corner } else { About::Cell };
    let mut all: Vec<Cells> = vec![];
    for drawing in &def.turns {
        let (mut cells, anchor) = read(drawing, parts)?;
        let written = def.corner.or(def.cell.map(|(r, c)| (r - 1, c - 1)));
        let (r, c) = match (written, anchor) {
            (Some(at), None) => at,
            (None, Some(at)) => at,
            (Some(_), Some(_)) => {
                return Err((
                    drawing.span,
                    "this shape is said to turn about two things".into(),
                    "leave out the anchor in the drawing, or what stands behind `about`".into(),
                ));
            }
            // Letters leave no sign for the anchor.
            (None, None) if parts.is_some() => {
                about = About::Look;
                cells[0].0
            }
            (None, None) => {
                return Err((
                    drawing.span,
                    "nothing says what this shape turns about".into(),
                    "draw the anchor as @ (or + where it is not covered), or write `about corner ROWS, COLS`"
                        .into(),
                ));
            }
        };
        cells.iter_mut().for_each(|(cell, _)| *cell = (cell.0 - r, cell.1 - c));
        cells.sort_unstable();
        if cells.iter().any(|((r, c), _)| r.abs() > 64 || c.abs() > 64) {
            let note = "64 cells each way are allowed";
            return Err((drawing.span, "this shape is too large".into(), note.into()));
        }
        all.push(cells);
    }
    if all.len() == 1 {
        for _ in 0..3 {
            let next = turn(&all[all.len() - 1], about);
            all.push(next);
        }
    }
    let drawn = all.len() * if mirrored { 2 } else { 1 };
    let mut all = merged(all);
    let plain = all.len();
    let mut mirrors = vec![];
    if mirrored {
        let others: Vec<Cells> = all.iter().map(|c| mirror(c, about)).collect();
        if !others.iter().all(|o| all.contains(o)) {
            // Turned clockwise, too: mirroring turns the order of the turns round.
            let mut circle = vec![others[0].clone()];
            while circle.len() < plain {
                let next = turn(&circle[circle.len() - 1], about);
                circle.push(if def.turns.len() == 1 { next } else { others[circle.len()].clone() });
            }
            all.extend(circle);
        }
        let of = |cells: &Cells| all.iter().position(|c| *c == mirror(cells, about));
        mirrors = all.iter().map(|c| of(c).unwrap_or(0)).collect();
    }
    let parts = match parts {
        Some(_) => all.iter().map(|t| t.iter().map(|c| c.1).collect()).collect(),
        None => vec![],
    };
    let turns = all.iter().map(|t| t.iter().map(|c| c.0).collect()).collect();
    Ok(ShapeTurns { name: def.name.text.clone(), turns, drawn, corner, parts, plain, mirrors })
}
