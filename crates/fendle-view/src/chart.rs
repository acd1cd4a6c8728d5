//! Bars made of text, and charts as pictures.

use crate::net::Status;
use crate::scene::{Anchor, Scene, Shape, Style, text_width};
use crate::tiles::Theme;
use fendle_core::numbers::grouped;

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
    s.shapes.push(Shape::Rect(0.0, 0.0, width, height, 0.0, Style::fill(p.ground)));
    s.shapes.push(Shape::Text(20.0, 30.0, 17.0, Anchor::Start, title.into(), p.ink));
    let most = top_of(values.iter().map(|v| v.iter().sum::<u64>()).max().unwrap_or(0));
    rules(&mut s, (left, top, wide, tall), most, theme);
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

/// A chart with its title above, words under it, and where its scale stands: left, top, width, height.
fn framed(
    title: &str,
    under: &str,
    (width, height): (f32, f32),
    theme: Theme,
) -> (Scene, (f32, f32, f32, f32)) {
    let p = theme.palette();
    let (left, top) = (78.0f32, 52.0f32);
    let (wide, tall) = (width - left - 24.0, height - top - 64.0);
    let mut s = Scene::new(width, height, format!("{title}, {under}"));
    s.shapes.push(Shape::Rect(0.0, 0.0, width, height, 0.0, Style::fill(p.ground)));
    s.shapes.push(Shape::Text(20.0, 30.0, 16.0, Anchor::Start, title.into(), p.ink));
    let at = (left + wide / 2.0, top + tall + 42.0);
    s.shapes.push(Shape::Text(at.0, at.1, 13.0, Anchor::Middle, under.into(), p.ink));
    (s, (left, top, wide, tall))
}

/// Upright bars with their names below, such as states by number of moves. `size`: width and height.
#[must_use]
pub fn columns(title: &str, under: &str, bars: &[Bar], size: (f32, f32), theme: Theme) -> Scene {
    let p = theme.palette();
    let (mut s, (left, top, wide, tall)) = framed(title, under, size, theme);
    let most = top_of(bars.iter().map(|b| b.1).max().unwrap_or(0));
    rules(&mut s, (left, top, wide, tall), most, theme);
    let step = wide / bars.len().max(1) as f32;
    let bar = (step * 0.8).min(46.0);
    let widest = bars.iter().map(|b| text_width(&b.0, 12.0)).fold(0.0, f32::max) + 8.0;
    let every = ((widest / step).ceil() as usize).max(1);
    for (i, (name, n)) in bars.iter().enumerate() {
        let x = left + step * (i as f32 + 0.5);
        if *n > 0 {
            let h = (tall * *n as f32 / most as f32).max(0.8);
            let look = Style::fill(p.paints[0]);
            s.shapes.push(Shape::Rect(x - bar / 2.0, top + tall - h, bar, h, 0.0, look));
        }
        if i % every == 0 {
            s.shapes.push(Shape::Text(x, top + tall + 18.0, 12.0, Anchor::Middle, name.clone(), p.faint));
        }
    }
    s
}

/// What is drawn above one place of a scale: its name, the least, the mean and the most.
pub type Range = (String, u64, f64, u64);

/// Upright lines from the least to the most with a dot at the mean, such as depths by the number of shuffles. `line`: a level line with its words.
#[must_use]
pub fn ranges(
    (title, under): (&str, &str),
    list: &[Range],
    line: Option<(u64, &str)>,
    size: (f32, f32),
    theme: Theme,
) -> Scene {
    let p = theme.palette();
    let (mut s, (left, top, wide, tall)) = framed(title, under, size, theme);
    let highest = list.iter().map(|r| r.3).max().unwrap_or(0);
    let most = top_of(line.map_or(highest, |l| l.0.max(highest)));
    rules(&mut s, (left, top, wide, tall), most, theme);
    let y = |v: f64| top + tall * (1.0 - (v / most as f64) as f32);
    if let Some((at, words)) = line {
        let at = y(at as f64);
        s.shapes.push(Shape::Lines(
            vec![(left, at), (left + wide, at)],
            false,
            Style::line(p.paints[1], 1.6),
        ));
        s.shapes.push(Shape::Text(left + 6.0, at - 6.0, 13.0, Anchor::Start, words.into(), p.ink));
    }
    let step = wide / list.len().max(1) as f32;
    let widest = list.iter().map(|r| text_width(&r.0, 12.0)).fold(0.0, f32::max) + 8.0;
    let every = ((widest / step).ceil() as usize).max(1);
    for (i, (name, low, mean, high)) in list.iter().enumerate() {
        let x = left + step * (i as f32 + 0.5);
        let ends = vec![(x, y(*low as f64)), (x, y(*high as f64))];
        s.shapes.push(Shape::Lines(ends, false, Style::line(p.paints[2], (step * 0.4).clamp(1.5, 6.0))));
        let dot = (step * 0.35).clamp(2.0, 5.0);
        s.shapes.push(Shape::Circle(x, y(*mean), dot, Style::fill(p.paints[0])));
        if i % every == 0 {
            s.shapes.push(Shape::Text(x, top + tall + 18.0, 12.0, Anchor::Middle, name.clone(), p.faint));
        }
    }
    s
}

/// A round step for level lines: 1, 2 or 5 times a power of ten, at most five of them up to `most`.
fn round_step(most: u64) -> u64 {
    let mut step = 1u64;
    for times in [2, 5, 10].iter().cycle() {
        if most.div_ceil(step) <= 5 {
            break;
        }
        let power = 10u64.pow(step.ilog10());
        step = power.saturating_mul(*times);
    }
    step
}

/// The upper end of a scale that holds `most`.
fn top_of(most: u64) -> u64 {
    let step = round_step(most.max(1));
    most.max(1).div_ceil(step).saturating_mul(step)
}

/// Level lines with their numbers, from 0 to the end of the scale.
fn rules(s: &mut Scene, (left, top, wide, tall): (f32, f32, f32, f32), most: u64, theme: Theme) {
    let p = theme.palette();
    let step = round_step(most);
    for k in 0..=most / step {
        let y = top + tall * (1.0 - (k * step) as f32 / most as f32);
        s.shapes.push(Shape::Lines(vec![(left, y), (left + wide, y)], false, Style::line(p.grid, 0.8)));
        s.shapes.push(Shape::Text(left - 8.0, y + 4.0, 12.0, Anchor::End, grouped(k * step), p.faint));
    }
}

/// One lying bar: a name, a value from 0 to the end of the scale, or what it lies between, and words behind it.
#[derive(Clone, Debug, PartialEq)]
pub struct Lane {
    /// Its name.
    pub name: String,
    /// The least it can be.
    pub low: f64,
    /// The most it can be.
    pub high: f64,
    /// Words behind it.
    pub words: String,
    /// One of the best: said by a sign as well as by its colour.
    pub best: bool,
}

/// Lying bars, such as chances by move. `end`: the value at the right, and how it is written.
#[must_use]
pub fn lanes(title: &str, under: &str, list: &[Lane], end: (f64, &str), theme: Theme) -> Scene {
    let p = theme.palette();
    let row = 30.0f32;
    let names = list.iter().map(|l| text_width(&l.name, 14.0)).fold(80.0, f32::max).min(420.0);
    let behind = list.iter().map(|l| text_width(&l.words, 13.0)).fold(40.0, f32::max);
    let (left, top) = (names + 36.0, 64.0f32);
    let wide = (1240.0 - left - behind - 40.0).max(240.0);
    let tall = row * list.len() as f32;
    let (width, height) = (left + wide + behind + 40.0, top + tall + 60.0);
    let mut s = Scene::new(width, height, format!("{title}: {under}"));
    s.shapes.push(Shape::Rect(0.0, 0.0, width, height, 0.0, Style::fill(p.ground)));
    s.shapes.push(Shape::Text(20.0, 32.0, 17.0, Anchor::Start, title.into(), p.ink));
    for k in 0..=4 {
        let x = left + wide * k as f32 / 4.0;
        s.shapes.push(Shape::Lines(vec![(x, top - 8.0), (x, top + tall)], false, Style::line(p.grid, 0.8)));
        let words = format!("{}{}", short(end.0 * f64::from(k) / 4.0), end.1);
        s.shapes.push(Shape::Text(x, top + tall + 18.0, 12.0, Anchor::Middle, words, p.faint));
    }
    let at = |v: f64| left + wide * (v / end.0.max(1e-12)).clamp(0.0, 1.0) as f32;
    for (i, l) in list.iter().enumerate() {
        let y = top + row * i as f32;
        let size = 14.0f32.min(14.0 * names / text_width(&l.name, 14.0).max(1.0));
        s.shapes.push(Shape::Text(left - 12.0, y + 19.0, size, Anchor::End, l.name.clone(), p.ink));
        let c = if l.best { p.paints[1] } else { p.paints[0] };
        let w = (at(l.low) - left).max(if l.high > 0.0 { 1.5 } else { 0.0 });
        s.shapes.push(Shape::Rect(left, y + 5.0, w, row - 12.0, 2.0, Style::fill(c)));
        if at(l.high) - at(l.low) > 0.5 {
            // What it can be at the most.
            let look = Style { dash: Some(3.0), ..Style::line(c, 1.2) };
            s.shapes.push(Shape::Rect(at(l.low), y + 5.0, at(l.high) - at(l.low), row - 12.0, 2.0, look));
        }
        if l.best && l.high > 0.0 {
            let (x, y) = (left + 10.0, y + 5.0 + (row - 12.0) / 2.0);
            let points = vec![(x, y - 5.0), (x + 5.0, y), (x, y + 5.0), (x - 5.0, y)];
            s.shapes.push(Shape::Lines(points, true, Style::fill(p.ink)));
        }
        s.shapes.push(Shape::Text(left + wide + 16.0, y + 19.0, 13.0, Anchor::Start, l.words.clone(), p.ink));
    }
    s.shapes.push(Shape::Text(
        left + wide / 2.0,
        top + tall + 42.0,
        13.0,
        Anchor::Middle,
        under.into(),
        p.ink,
    ));
    s
}

/// A number without needless noughts.
fn short(x: f64) -> String {
    let text = format!("{x:.2}");
    text.trim_end_matches('0').trim_end_matches('.').to_string()
}

/// A part of a bar: filled for what can be won, hollow for what is dead, striped for what ended.
fn segment(s: &mut Scene, status: Status, (x, y, w, h): (f32, f32, f32, f32), theme: Theme) {
    let p = theme.palette();
    let look = match status {
        Status::Winnable | Status::Free => Style::fill(p.paints[0]),
        // An outline would hide what is thinner than itself.
        Status::Goal if h < 4.0 => Style::fill(p.paints[1]),
        Status::Goal => Style::fill(p.paints[1]).with_line(p.ink, 0.8),
        Status::Dead => Style::fill(p.cell).with_line(p.faint, 1.0),
        Status::Stuck => Style::fill(p.faint),
        Status::Lost | Status::Over => Style::fill(p.ground).with_line(p.paints[3], 1.2),
        Status::Open => Style { dash: Some(3.0), ..Style::line(p.faint, 1.0) },
    };
    s.shapes.push(Shape::Rect(x, y, w, h, 0.0, look));
    if matches!(status, Status::Lost | Status::Over) {
        let mut at = 3.0;
        while at < h {
            s.shapes.push(Shape::Lines(
                vec![(x, y + at), (x + w, y + at)],
                false,
                Style::line(p.paints[3], 0.8),
            ));
            at += 4.0;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scene::Scene;

    fn widths(s: &Scene) -> Vec<f32> {
        let wide = |x: &Shape| {
            if let Shape::Rect(_, _, w, h, r, _) = x { (*h == 18.0 && *r == 2.0).then_some(*w) } else { None }
        };
        s.shapes.iter().filter_map(wide).collect()
    }

    /// A bar is as long as its share of the scale; what lies between two values has both.
    #[test]
    fn lying_bars_are_as_long_as_their_values() {
        let lane = |low, high, best| Lane { name: "up".into(), low, high, words: String::new(), best };
        let list =
            [lane(1.0, 1.0, true), lane(0.25, 0.25, false), lane(0.25, 0.75, false), lane(0.0, 0.0, false)];
        let w = widths(&lanes("t", "u", &list, (1.0, ""), Theme::Light));
        assert_eq!(w.len(), 5, "{w:?}");
        assert!(
            (w[1] / w[0] - 0.25).abs() < 1e-3 && (w[3] / w[0] - 0.5).abs() < 1e-3 && w[4] == 0.0,
            "{w:?}"
        );
    }

    /// A scale holds what it is for, with few round steps.
    #[test]
    fn scales_end_at_a_round_number() {
        for most in (1..3000).chain([26, 99_999, 1_000_001, 123_456_789_012]) {
            let (step, top) = (round_step(most), top_of(most));
            assert!(top >= most && top - most < step && top % step == 0 && top / step <= 5, "{most}");
            let lead = step / 10u64.pow(step.ilog10());
            assert!([1, 2, 5].contains(&lead) && lead * 10u64.pow(step.ilog10()) == step, "{most} {step}");
        }
    }

    /// The areas of upright bars are as their values.
    #[test]
    fn upright_bars_are_as_tall_as_their_values() {
        let bars: Vec<Bar> = [("0", 4), ("1", 0), ("2", 8)].map(|(n, v)| (n.to_string(), v)).to_vec();
        let s = columns("t", "u", &bars, (600.0, 300.0), Theme::Dark);
        let tall: Vec<f32> = s
            .shapes
            .iter()
            .skip(1)
            .filter_map(|x| if let Shape::Rect(_, _, _, h, _, _) = x { Some(*h) } else { None })
            .collect();
        assert_eq!(tall.len(), 2, "nothing is drawn for nought");
        assert!((tall[0] * 2.0 - tall[1]).abs() < 1e-3);
    }

    #[test]
    fn folded_depths_keep_their_sum() {
        let values: Vec<u64> = (0..100).collect();
        let bars = by_depth(&values, 24);
        assert!(bars.len() <= 24);
        assert_eq!(bars.iter().map(|b| b.1).sum::<u64>(), 4950);
        assert_eq!(bars[0].0, "0-4");
    }
}
