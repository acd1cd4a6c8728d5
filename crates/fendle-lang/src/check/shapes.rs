//! Shapes from their drawings: the cells of each turn, as offsets from the anchor.

use crate::model::ShapeTurns;
use crate::source::Span;
use crate::syntax::tree::ShapeDef;

/// What is wrong with a drawing: where, what, and what to do.
pub type Wrong = (Span, String, &'static str);

type Cells = Vec<(i64, i64)>;

/// The cells of one drawing, and the anchor where one is drawn.
fn read(text: &str, span: Span) -> Result<(Cells, Option<(i64, i64)>), Wrong> {
    let mut cells = vec![];
    let mut anchor = None;
    let rows = text.lines().map(str::trim).filter(|l| !l.is_empty());
    for (r, line) in rows.enumerate() {
        for (c, glyph) in line.chars().enumerate() {
            let at = (r as i64, c as i64);
            if matches!(glyph, '@' | '+') && anchor.replace(at).is_some() {
                return Err((span, "this drawing has two anchors".into(), "one `@` or `+` is enough"));
            }
            match glyph {
                'x' | '@' => cells.push(at),
                '.' | '+' => {}
                other => {
                    return Err((
                        span,
                        format!("`{other}` means nothing in the drawing of a shape"),
                        "x is a covered cell, . is not; @ and + are the same at the anchor",
                    ));
                }
            }
        }
    }
    if cells.is_empty() {
        return Err((span, "this shape covers no cell".into(), "draw its cells with x"));
    }
    Ok((cells, anchor))
}

/// A quarter turn clockwise about a cell, or about the corner above and left of it.
fn turn(cells: &Cells, corner: bool) -> Cells {
    let shift = i64::from(corner);
    let mut out: Cells = cells.iter().map(|&(r, c)| (c, -r - shift)).collect();
    out.sort_unstable();
    out
}

/// All distinct turns of a shape. Turns are the same only when they cover the same cells about the anchor.
///
/// # Errors
///
/// What is wrong with the drawing.
pub fn turns(def: &ShapeDef) -> Result<ShapeTurns, Wrong> {
    let corner = def.corner.is_some();
    let mut all: Vec<Cells> = vec![];
    for drawing in &def.turns {
        let (mut cells, anchor) = read(&drawing.text, drawing.span)?;
        let (r, c) = match (def.corner, anchor) {
            (Some(at), None) => at,
            (None, Some(at)) => at,
            (Some(_), Some(_)) => {
                return Err((
                    drawing.span,
                    "this shape has a corner and an anchor cell".into(),
                    "leave one of them out",
                ));
            }
            (None, None) => {
                return Err((
                    drawing.span,
                    "nothing says what this shape turns about".into(),
                    "draw the anchor as @ (or + where it is not covered), or write `about corner ROWS, COLS`",
                ));
            }
        };
        cells.iter_mut().for_each(|cell| *cell = (cell.0 - r, cell.1 - c));
        cells.sort_unstable();
        if cells.iter().any(|(r, c)| r.abs() > 64 || c.abs() > 64) {
            return Err((drawing.span, "this shape is too large".into(), "64 cells each way are allowed"));
        }
        all.push(cells);
    }
    if all.len() == 1 {
        for _ in 0..3 {
            let next = turn(&all[all.len() - 1], corner);
            all.push(next);
        }
    }
    let drawn = all.len();
    // The least period of the turns.
    let period = (1..=drawn)
        .find(|p| drawn.is_multiple_of(*p) && (0..drawn).all(|i| all[i] == all[i % p]))
        .unwrap_or(drawn);
    all.truncate(period);
    Ok(ShapeTurns { name: def.name.text.clone(), turns: all, drawn, corner })
}
