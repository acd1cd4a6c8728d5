//! `audit` as text.

use fendle_ask::End;
use fendle_ask::audit::Audited;
use fendle_ask::making::wish::figure_text;
use fendle_ask::profile::{FIGURES, Profile, Profiled};
use fendle_core::Exploration;
use fendle_core::numbers::{counted, grouped};
use fendle_view::text::table;

use super::wrapped;

/// How one level went, in words.
pub fn went(a: &Audited) -> &'static str {
    match a.end {
        End::Yes if !a.expects => "nothing expected",
        End::Yes => "as expected",
        End::No => "DIFFERS",
        End::Undecided | End::Interrupted => "undecided",
        End::Bad => "BROKEN",
    }
}

/// How many are as expected.
pub fn sum(list: &[Audited]) -> String {
    let good = list.iter().filter(|r| r.end == End::Yes).count() as u64;
    format!("{} of {} as expected", grouped(good), counted(list.len() as u64, "level", "levels"))
}

/// The table of levels, and what differs.
pub fn lines(list: &[Audited]) -> Vec<String> {
    let row = |a: &Audited| {
        let count = |f: fn(&Exploration) -> u64| a.counts.as_ref().map_or("-".into(), |c| grouped(f(c)));
        vec![
            a.level.clone(),
            went(a).into(),
            a.verdict.clone(),
            a.moves.map_or("-".into(), grouped),
            count(|c| c.states),
            count(|c| c.dead),
            count(|c| c.fatal_moves),
        ]
    };
    let rows: Vec<Vec<String>> = list.iter().map(row).collect();
    let head = ["level", "audit", "verdict", "moves", "states", "dead", "fatal moves"];
    let mut out = table(&head, &rows);
    for a in list {
        out.extend(a.differs.iter().map(|d| format!("{}: {}: {d}", a.file, a.level)));
    }
    out.push(sum(list));
    out
}

/// A pack's levels side by side.
pub fn profile(p: &Profile) -> Vec<String> {
    let known = |name: &str| p.levels.iter().any(|l| l.figures.contains_key(name));
    let names: Vec<&str> = FIGURES.iter().map(|f| f.0).filter(|n| known(n)).collect();
    let words = |name: &&str| name.replace('_', " ");
    let heads: Vec<String> = names.iter().map(words).collect();
    let head: Vec<&str> = std::iter::once("level").chain(heads.iter().map(String::as_str)).collect();
    let row = |l: &Profiled| {
        let figure = |name: &&str| match l.figures.get(name) {
            Some(Some(v)) if v.fract() == 0.0 => grouped(*v as u64),
            Some(Some(v)) if *v < 10.0 => format!("{v:.2}"),
            Some(v) => v.map_or("-".into(), figure_text),
            None => String::new(),
        };
        std::iter::once(l.level.clone()).chain(names.iter().map(figure)).collect::<Vec<String>>()
    };
    let rows: Vec<Vec<String>> = p.levels.iter().map(row).collect();
    let mut out = table(&head, &rows);
    for l in &p.levels {
        out.extend(l.missing.iter().map(|why| format!("{}: not everything is known: {why}", l.level)));
    }
    if !p.jumps.is_empty() {
        out.push(String::new());
        out.push("jumps:".into());
        out.extend(p.jumps.iter().map(|j| {
            let (before, after) = (figure_text(j.before), figure_text(j.after));
            format!("  {}: {} {before} -> {after}", j.level, j.figure.replace('_', " "))
        }));
    }
    for alike in &p.alike {
        let [a, b] = &alike.levels;
        let same = alike.same.join(", and the same ");
        out.extend(wrapped(&format!("{a} and {b} have the same {same}: they ask the same of a player")));
    }
    out
}
