//! Bars made of text.

use crate::text::grouped;

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
