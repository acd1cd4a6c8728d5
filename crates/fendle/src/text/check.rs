//! `check` as text.

use fendle_ask::check::{Checked, CheckedLevel, Item, turns_alike};
use fendle_ask::{Answer, End};
use fendle_core::numbers::{counted, grouped};
use fendle_lang::model::{Model, ShapeTurns};
use fendle_view::text::table;

use super::{beside, headed, stopped_line};

/// What was checked, file by file.
pub fn lines(c: &Checked, verbose: bool) -> Vec<String> {
    let mut out = vec![];
    for item in &c.items {
        match item {
            Item::Model(n) => {
                let m = &c.models[*n];
                let passed = counted(m.examples_passed as u64, "example passes", "examples pass");
                let failing = match m.examples_failed.len() {
                    0 => String::new(),
                    n => format!(", {n} failing"),
                };
                out.push(format!("{}: model {}, {passed}{failing}", m.file, m.model));
            }
            Item::Levels { path, count, model, rows, keeps, laws } => {
                out.push(format!("{path}: {} of {model}", counted(*count as u64, "level", "levels")));
                levels(&mut out, c, rows, (*keeps, *laws), verbose);
            }
        }
    }
    out
}

fn levels(out: &mut Vec<String>, c: &Checked, rows: &[usize], (keeps, laws): (bool, bool), verbose: bool) {
    let list = || rows.iter().map(|n| &c.levels[*n]);
    for l in list() {
        if let Some(code) = &l.code {
            out.push(format!("code of `{}`:", l.level));
            out.push(code.clone());
        }
    }
    let table_rows: Vec<Vec<String>> = list()
        .map(|l| {
            let mut row = vec![
                l.level.clone(),
                if l.rows > 0 { format!("{} x {}", l.rows, l.cols) } else { "-".into() },
                grouped(l.bits_per_state.into()),
                l.numbers.as_ref().and_then(|n| n.bits).map_or("-".into(), |b| b.to_string()),
                grouped(l.moves as u64),
                l.start.clone(),
                l.two_statuses.clone(),
            ];
            if keeps {
                row.push(l.kept_quantities.join("; "));
            }
            if laws {
                row.push(l.laws.join("; "));
            }
            row
        })
        .collect();
    if table_rows.is_empty() {
        return;
    }
    let mut head = vec!["level", "board", "bits", "numbered", "moves", "start", "two statuses at once"];
    if keeps {
        head.push("kept quantities");
    }
    if laws {
        head.push("laws");
    }
    // What says nothing of any level is left out.
    let says = |c: usize| table_rows.iter().any(|r| r[c] != "-");
    let pick = |row: &[String]| -> Vec<String> {
        row.iter().enumerate().filter(|(c, _)| says(*c)).map(|(_, t)| t.clone()).collect()
    };
    let head: Vec<&str> = head.into_iter().enumerate().filter(|(c, _)| says(*c)).map(|(_, h)| h).collect();
    let table_rows: Vec<Vec<String>> = table_rows.iter().map(|r| pick(r)).collect();
    out.extend(table(&head, &table_rows).into_iter().map(|l| format!("  {l}")));
    if verbose {
        for l in list() {
            out.push(String::new());
            out.extend(numbers(l));
        }
    }
}

/// What can be in play from the start of a level.
fn numbers(l: &CheckedLevel) -> Vec<String> {
    let Some(n) = &l.numbers else {
        return vec![format!("what can be in `{}`: not looked at where things are hidden", l.level)];
    };
    let how =
        if n.followed { "followed from its start" } else { "by the types alone: its rules read too much" };
    let mut out = vec![format!("what can be in `{}`, {how}:", l.level)];
    let rows: Vec<Vec<String>> = (n.variables.iter())
        .map(|v| vec![v.name.clone(), v.holds.clone(), v.contents.map_or(String::new(), grouped)])
        .collect();
    out.extend(table(&["variable", "holds", "contents"], &rows).into_iter().map(|r| format!("  {r}")));
    for v in n.variables.iter().filter(|_| n.followed) {
        let Some(cells) = v.values_in_cells.as_ref().filter(|c| c.iter().flatten().any(|n| *n > 1)) else {
            continue;
        };
        out.push(format!("  values that each cell of {} can hold (`.`: always the same)", v.name));
        for row in cells {
            let line: String =
                row.iter().map(|n| if *n > 1 { format!("{n:>4}") } else { "   .".into() }).collect();
            out.push(format!("  {line}"));
        }
    }
    out.push(match (n.range, n.bits) {
        (Some(range), Some(bits)) => format!(
            "  a state is a number below {}: {bits} bits, where {} are packed",
            grouped(range),
            l.bits_per_state
        ),
        _ => "  no range of numbers is small enough: states are packed".into(),
    });
    if n.can_return {
        out.push("  every move between running states can be taken back".into());
    }
    out
}

/// Every shape of the models in all its turns.
pub fn shapes(c: &Checked) -> Vec<String> {
    let mut out: Vec<String> = c.models.iter().flat_map(|m| shapes_of(&m.definition)).collect();
    out.push(String::new());
    out
}

fn shapes_of(model: &Model) -> Vec<String> {
    let mut out = vec![];
    for group in &model.shapes {
        out.push(String::new());
        out.push(format!("shapes {} of {}", group.name, model.name));
        let letters: Vec<char> =
            group.of.iter().flat_map(|e| &model.enums[*e].values).filter_map(|v| v.chars().next()).collect();
        group.shapes.iter().for_each(|s| shape(&mut out, s, &letters));
    }
    out
}

fn shape(out: &mut Vec<String>, shape: &ShapeTurns, letters: &[char]) {
    let cells = || shape.turns.iter().flatten().copied().chain([(0, 0)]);
    let ends = |of: fn(&(i64, i64)) -> i64| {
        let list: Vec<i64> = cells().map(|c| of(&c)).collect();
        list.iter().copied().min().unwrap_or(0)..=list.iter().copied().max().unwrap_or(0)
    };
    let (rows, cols) = (ends(|c| c.0), ends(|c| c.1));
    let about = match shape.corner {
        true => "a corner: the upper left one of the marked cell",
        false => "the marked cell",
    };
    let alike: Vec<String> = turns_alike(shape).iter().map(|(i, j)| format!("{i} and {j}")).collect();
    let alike = match alike.is_empty() {
        true => String::new(),
        false => format!("; turns {} look alike and lie differently", alike.join(", ")),
    };
    out.push(String::new());
    out.push(format!(
        "  {}: {} of {} drawn turns differ, about {about}{alike}",
        shape.name,
        shape.turns.len(),
        shape.drawn
    ));
    let glyph = |t: usize, at: (i64, i64)| {
        let cell = shape.turns[t].iter().position(|c| *c == at);
        let letter = cell.and_then(|i| letters.get(*shape.parts.get(t)?.get(i)? as usize));
        match (letter, cell.is_some(), at == (0, 0)) {
            (Some(letter), ..) => *letter,
            (None, true, true) => '@',
            (None, false, true) => '+',
            (None, true, false) => 'x',
            (None, false, false) => '.',
        }
    };
    let block = |t: usize| {
        let row = |r: i64| cols.clone().map(|c| glyph(t, (r, c)).to_string()).collect::<Vec<_>>().join(" ");
        let name = if t >= shape.plain { format!("turn {t}, mirrored") } else { format!("turn {t}") };
        headed(name, rows.clone().map(row).collect())
    };
    let blocks: Vec<Vec<String>> = (0..shape.turns.len()).map(block).collect();
    out.extend(beside(&blocks).into_iter().map(|l| format!("  {l}")));
}

/// The last line.
pub fn last(a: &Answer<Checked>, end: End) -> Option<String> {
    match end {
        End::Yes => Some("all is well".into()),
        End::Undecided | End::Interrupted => {
            Some(format!("undecided: {}; what is above was checked", stopped_line(a).unwrap_or_default()))
        }
        End::No | End::Bad => None,
    }
}
