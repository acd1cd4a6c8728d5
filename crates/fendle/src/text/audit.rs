//! `audit` as text.

use fendle_ask::End;
use fendle_ask::audit::Audited;
use fendle_core::Exploration;
use fendle_core::numbers::{counted, grouped};
use fendle_view::text::table;

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
