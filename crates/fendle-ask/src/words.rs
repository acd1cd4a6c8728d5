//! Numbers and lists in words, as answers say them.

/// `1,234,567`.
#[must_use]
pub fn grouped(n: u64) -> String {
    let digits = n.to_string();
    let mut out = String::new();
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(',');
        }
        out.push(c);
    }
    out
}

/// `1 state`, `4,096 states`.
#[must_use]
pub fn counted(n: u64, one: &str, many: &str) -> String {
    format!("{} {}", grouped(n), if n == 1 { one } else { many })
}

/// Bytes with a unit, to one place.
#[must_use]
pub fn bytes(n: u64) -> String {
    let scaled = |unit: f64| n as f64 / unit;
    match n {
        0..1024 => format!("{n} B"),
        1024..1_048_576 => format!("{:.1} KiB", scaled(1024.0)),
        1_048_576..1_073_741_824 => format!("{:.1} MiB", scaled(1_048_576.0)),
        _ => format!("{:.1} GiB", scaled(1_073_741_824.0)),
    }
}
