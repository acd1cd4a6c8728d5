//! Bars made of text, and charts as pictures.

use crate::net::Status;
use crate::scene::{Anchor, Look, Scene, Shape};
use crate::text::grouped;
use crate::tiles::Theme;

/// One bar: its label and its value.
pub type Bar = (String, u64);

/// Bars under each other, scaled to the greatest; what is not zero shows at least a sliver.
///
/// ```
/// use fendle_view::chart::bars;
/// let lines = bars(&[("0".into(), 1), ("1".into(), 4)], 8);
/// assert_eq!(lines, ["0  1  ##", "1  4  ########"]);
/// ```
#[must_use]
pub fn bars(list: &[Bar], width: usize) -> Vec<String> {
    let most = list.iter().map(|b| b.1).max().unwrap_or(0).max(1);
    let label = list.iter().map(|b| b.0.len()).max().unwrap_or(0);
    let numbers: Vec<String> = list.iter().map(|b| grouped(b.1)).collect();
    let number = numbers.iter().map(String::len).max().unwrap_or(0);
    list.iter()
        .zip(numbers)
        .map(|((name, value), text)| {
            let len = (*value as f64 / most as f64 * width as f64).round() as usize;
            let len = if *value > 0 { len.max(1) } else { 0 };
            format!("{name:>label$}  {text:>number$}  {}", "#".repeat(len)).trim_end().to_string()
        })
        .collect()
}

/// Values by depth, several depths to a bar when there are more than `most` of them.
#[must_use]
pub fn by_depth(values: &[u64], most: usize) -> Vec<Bar> {
    let step = values.len().div_ceil(most.max(1)).max(1);
    values
        .chunks(step)
        .enumerate()
        .map(|(i, chunk)| {
            let from = i * step;
            let label = if chunk.len() == 1 {
                from.to_string()
            } else {
                format!("{from}-{}", from + chunk.len() - 1)
            };
            (label, chunk.iter().sum())
        })
        .collect()
}

/// States by depth, a bar a depth, stacked by what is known of them. Kinds differ in pattern as well as in colour.
/// `values`: for each depth how many states of each of [`Status::ALL`].
#[must_use]
pub fn depths(title: &str, values: &[[u64; 8]], theme: Theme) -> Scene {
    let p = theme.palette();
    let (width, height) = (1240.0f32, 420.0f32);
    let (left, top, wide, tall) = (78.0f32, 52.0f32, 940.0f32, 300.0f32);
    let mut s = Scene::new(width, height, format!("{title}: states by depth"));
    s.shapes.push(Shape::Rect(0.0, 0.0, width, height, 0.0, Look::fill(p.ground)));
    s.shapes.push(Shape::Text(20.0, 30.0, 17.0, Anchor::Start, title.into(), p.ink));
    let most = values.iter().map(|v| v.iter().sum::<u64>()).max().unwrap_or(0).max(1);
    for k in 0..=4u64 {
        let y = top + tall * (1.0 - k as f32 / 4.0);
        s.shapes.push(Shape::Lines(vec![(left, y), (left + wide, y)], false, Look::line(p.grid, 0.8)));
        if most >= 4 || k % 4 == 0 {
            s.shapes.push(Shape::Text(
                left - 8.0,
                y + 4.0,
                12.0,
                Anchor::End,
                grouped(most * k / 4),
                p.faint,
            ));
        }
    }
    let step = wide / values.len().max(1) as f32;
    let bar = (step * 0.8).min(46.0);
    // Winnable at the foot, goals on top: what is lost lies between.
    let order = [5usize, 6, 4, 3, 1, 2, 7, 0];
    for (d, v) in values.iter().enumerate() {
        let x = left + step * (d as f32 + 0.5) - bar / 2.0;
        let mut y = top + tall;
        for k in order {
            let h = tall * v[k] as f32 / most as f32;
            if v[k] > 0 {
                let h = h.max(0.8);
                y -= h;
                segment(&mut s, Status::ALL[k], (x, y, bar, h), theme);
            }
        }
        let every = (values.len() / 24 + 1).max(1);
        if d % every == 0 {
            let at = left + step * (d as f32 + 0.5);
            s.shapes.push(Shape::Text(at, top + tall + 18.0, 12.0, Anchor::Middle, d.to_string(), p.faint));
        }
    }
    let under = left + wide / 2.0;
    s.shapes.push(Shape::Text(
        under,
        top + tall + 42.0,
        13.0,
        Anchor::Middle,
        "moves from the start".into(),
        p.ink,
    ));
    let mut y = top + 10.0;
    for (k, status) in Status::ALL.iter().enumerate() {
        let n: u64 = values.iter().map(|v| v[k]).sum();
        if n > 0 {
            segment(&mut s, *status, (left + wide + 30.0, y - 12.0, 22.0, 16.0), theme);
            let words = format!("{} {}", grouped(n), status.word());
            s.shapes.push(Shape::Text(left + wide + 62.0, y, 13.0, Anchor::Start, words, p.ink));
            y += 28.0;
        }
    }
    s
}

/// A part of a bar: filled for what can be won, hollow for what is dead, striped for what ended.
fn segment(s: &mut Scene, status: Status, (x, y, w, h): (f32, f32, f32, f32), theme: Theme) {
    let p = theme.palette();
    let look = match status {
        Status::Winnable | Status::Free => Look::fill(p.pieces[0]),
        // An outline would hide what is thinner than itself.
        Status::Goal if h < 4.0 => Look::fill(p.pieces[1]),
        Status::Goal => Look::fill(p.pieces[1]).with_line(p.ink, 0.8),
        Status::Dead => Look::fill(p.cell).with_line(p.faint, 1.0),
        Status::Stuck => Look::fill(p.faint),
        Status::Lost | Status::Over => Look::fill(p.ground).with_line(p.pieces[3], 1.2),
        Status::Open => Look { dash: Some(3.0), ..Look::line(p.faint, 1.0) },
    };
    s.shapes.push(Shape::Rect(x, y, w, h, 0.0, look));
    if matches!(status, Status::Lost | Status::Over) {
        let mut at = 3.0;
        while at < h {
            s.shapes.push(Shape::Lines(
                vec![(x, y + at), (x + w, y + at)],
                false,
                Look::line(p.pieces[3], 0.8),
            ));
            at += 4.0;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folded_depths_keep_their_sum() {
        let values: Vec<u64> = (0..100).collect();
        let bars = by_depth(&values, 24);
        assert!(bars.len() <= 24);
        assert_eq!(bars.iter().map(|b| b.1).sum::<u64>(), 4950);
        assert_eq!(bars[0].0, "0-4");
    }
}
