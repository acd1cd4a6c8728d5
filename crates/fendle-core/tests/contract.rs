//! The harness that checks models: it accepts sound ones, and names each promise that is broken.

use crate::twins;

use fendle_core::contract::check_model;
use fendle_core::table::{Row, Table};
use fendle_core::{
    Expansion, Fault, Layout, Limit, Limits, Model, MoveId, NoWatch, Odds, Progress, Refusal, Start, Status,
    Watch, Worker, explore, solve,
};
use rand::{SeedableRng, rngs::SmallRng};
use twins::{Shove, random_yard};

/// A counter up to 3 with one fault of its own.
#[derive(Clone, Copy, PartialEq)]
enum Flaw {
    None,
    StrayBit,
    NoHead,
    Order,
    EndedMoves,
    Forgets,
    Unsure,
    Weight,
    Names,
    NoStart,
    OtherStatus,
    Allowed,
}

struct Counter(Flaw);

impl Model for Counter {
    fn layout(&self) -> Layout {
        Layout::new(2)
    }
    fn starts(&self) -> Result<Vec<Start>, Fault> {
        let start = Start { state: vec![0], weight: u64::from(self.0 != Flaw::Weight) };
        Ok(if self.0 == Flaw::NoStart { vec![] } else { vec![start] })
    }
    fn moves_len(&self) -> usize {
        2
    }
    fn move_name(&self, of: MoveId) -> String {
        if self.0 == Flaw::Names { "on".into() } else { of.to_string() }
    }
    fn has_goal(&self) -> bool {
        true
    }
    fn is_sure(&self) -> bool {
        true
    }
    fn reason(&self, _: u16) -> String {
        String::new()
    }
    fn fault_text(&self, _: &Fault) -> String {
        String::new()
    }
    fn worker(&self) -> Box<dyn Worker + '_> {
        Box::new(Counting(self.0, 0))
    }
}

struct Counting(Flaw, u64);

impl Worker for Counting {
    fn status(&mut self, state: &[u64]) -> Result<Status, Fault> {
        let other = self.0 == Flaw::OtherStatus && state[0] == 1;
        Ok(if state[0] == 3 || other { Status::Goal } else { Status::Running })
    }
    fn expand(&mut self, states: &[u64], _: bool, out: &mut Expansion) {
        for &s in states {
            self.1 += 1;
            if self.0 == Flaw::NoHead && s == 1 {
                continue;
            }
            let status = if s == 3 { Status::Goal } else { Status::Running };
            if status == Status::Running || self.0 == Flaw::EndedMoves {
                let to = if self.0 == Flaw::StrayBit { (s + 1) | (4 * (s & 1)) } else { (s + 1) % 4 };
                let to = if self.0 == Flaw::Forgets && self.1 > 6 { 0 } else { to };
                let order = if self.0 == Flaw::Order { [1, 0] } else { [0, 1] };
                for m in order {
                    out.outcome(&[to]);
                    if self.0 == Flaw::Unsure {
                        out.outcome(&[0]);
                    }
                    out.end_move(MoveId(m));
                }
            }
            out.end_state(status, None);
        }
    }
    fn allowed(&mut self, _: &[u64]) -> Result<Vec<MoveId>, Fault> {
        Ok(if self.0 == Flaw::Allowed { vec![] } else { vec![MoveId(0), MoveId(1)] })
    }
    fn refusals(&mut self, _: &[u64]) -> Result<Vec<Refusal>, Fault> {
        Ok(vec![])
    }
}

#[test]
fn each_broken_promise_is_named() {
    let kept = check_model(&Counter(Flaw::None), 100).expect("sound");
    assert_eq!((kept.states, kept.all), (4, true));
    assert!(!check_model(&Counter(Flaw::None), 2).expect("sound").all);
    for (flaw, words) in [
        (Flaw::StrayBit, "past the 2 promised"),
        (Flaw::NoHead, "exactly one head"),
        (Flaw::Order, "in their order"),
        (Flaw::EndedMoves, "still has moves"),
        (Flaw::Forgets, "differently"),
        (Flaw::Unsure, "calls itself sure"),
        (Flaw::Weight, "weight 0"),
        (Flaw::Names, "no name of its own"),
        (Flaw::NoStart, "no start"),
        (Flaw::OtherStatus, "its status is"),
        (Flaw::Allowed, "called allowed"),
    ] {
        let broken = check_model(&Counter(flaw), 100).expect_err(words);
        assert!(broken.to_string().contains(words), "{words}: {broken}");
    }
}

#[test]
fn the_twins_and_tables_keep_their_promises() {
    let mut rng = SmallRng::seed_from_u64(3);
    for _ in 0..20 {
        check_model(&Shove::read(&random_yard(&mut rng)), 2_000).expect("a sound twin");
    }
    let odds = |w| Odds::scored(w, 1);
    let table = Table::new([
        Row::running([("wait", 0)]).draws("roll", [(1, odds(1)), (2, odds(2))]).breaks_on("fall", 5),
        Row::goal().makes("wait", 0),
        Row::lost(),
    ]);
    assert!(check_model(&table, 100).is_ok());
    assert_eq!(table.move_name(MoveId(1)), "roll");
    let fault =
        explore(&table, Limits::default(), false, &NoWatch).expect("a start").fault.expect("it breaks");
    assert_eq!((fault.fault.value, fault.fault.during), (5, Some(MoveId(2))));
}

/// Names a limit after so many looks, and another one, or none, while what was seen is put in order.
struct After(std::sync::atomic::AtomicU64, Limit, Option<Limit>);

impl Watch for After {
    fn look(&self, _: &Progress) -> Option<Limit> {
        let left = self.0.load(std::sync::atomic::Ordering::SeqCst);
        self.0.store(left.saturating_sub(1), std::sync::atomic::Ordering::SeqCst);
        (left == 0).then_some(self.1)
    }
    fn wrap_up(&self, _: &Progress) -> Option<Limit> {
        self.2
    }
}

/// A way of n steps, each of which can also fall into a pit; the goal lies at its end.
fn ladder(n: usize) -> Table {
    let step = |i: usize| Row::running([("on", i + 1), ("fall", n + 1)]);
    Table::new((0..n).map(step).chain([Row::goal(), Row::running([("turn", n + 1)])]))
}

/// Wherever a watch says stop, the counts still add up, nothing is called dead that is not, and the limit is named.
#[test]
fn a_search_that_is_stopped_anywhere_claims_nothing_false() {
    let table = ladder(60);
    for looks in 0..140 {
        for hard in [None, Some(Limit::Time)] {
            let watch = After(looks.into(), Limit::Time, hard);
            let found =
                explore(&table, Limits { threads: 1, ..Limits::default() }, false, &watch).expect("a start");
            let c = &found.counts;
            assert_eq!(c.goal + c.stuck + c.dead + c.winnable + c.open, c.states, "{looks}");
            assert!(c.dead <= 1 && c.complete == c.limit.is_none(), "{looks} {hard:?}: {c:?}");
            if c.complete {
                assert_eq!((c.goal, c.winnable, c.dead, c.fatal_moves), (1, 60, 1, 60));
            } else {
                assert_eq!(c.limit, Some(Limit::Time));
            }
            let solved = solve(
                &table,
                Limits { threads: 1, ..Limits::default() },
                &After(looks.into(), Limit::Time, hard),
            );
            assert!(!matches!(solved.expect("a start").verdict, fendle_core::Verdict::Unsolvable));
        }
    }
}

/// An interrupt is told even where memory had run short before it. Where all was seen when memory ran short, classes are found in what was left for them.
#[test]
fn an_interrupt_is_told_and_short_memory_ends_no_classification() {
    let table = ladder(60);
    let limits = Limits { threads: 1, ..Limits::default() };
    let [mut cut, mut whole] = [0; 2];
    for looks in 0..140 {
        let [calm, interrupted] = [None, Some(Limit::Interrupted)].map(|later| {
            let watch = After(looks.into(), Limit::Memory, later);
            explore(&table, limits, false, &watch).expect("a start").counts
        });
        assert!(interrupted.complete || interrupted.limit == Some(Limit::Interrupted), "{interrupted:?}");
        assert!(calm.complete || calm.limit == Some(Limit::Memory), "{calm:?}");
        assert_eq!(calm.states, interrupted.states);
        if calm.complete {
            whole += 1;
            assert_eq!((calm.winnable, calm.dead, calm.fatal_moves), (60, 1, 60));
        } else {
            cut += 1;
        }
        if calm.complete != interrupted.complete {
            assert_eq!(calm.states, 62, "all was seen");
        }
    }
    assert!(cut > 0 && whole > 0, "{cut} {whole}");
}

/// More starts than states are allowed: cut exactly, in the order of the starts.
#[test]
fn starts_count_against_the_states_that_are_allowed() {
    let table =
        Table::new((0..50).map(|i| Row::running([("on", (i + 1) % 50)]))).start((0..40).map(|i| (i, 1)));
    for most in [1, 5, 39, 40, 45, 50, 60] {
        let limits = Limits { max_states: most, ..Limits::default() };
        let c = explore(&table, limits, false, &NoWatch).expect("a start").counts;
        assert_eq!(c.states, most.min(50));
        assert_eq!(c.limit, (most < 50).then_some(Limit::MaxStates));
    }
}

#[test]
fn who_asks_only_where_moves_lead_is_told_no_odds() {
    let written = |left_out: bool| {
        let mut out = Expansion::default();
        if left_out {
            out.leave_out_odds();
        }
        for round in 0..2 {
            out.outcome(&[round]);
            out.end_move(MoveId(0));
            out.outcome_with(&[7], Odds::scored(2, 5));
            out.outcome_with(&[8], Odds::scored(1, 0));
            out.end_move(MoveId(1));
            out.end_state(Status::Running, None);
        }
        out
    };
    let (with, mut without) = (written(false), written(true));
    assert_eq!((with.odds.len(), without.odds.len()), (6, 0));
    assert!(without.leaves_out_odds() && !with.leaves_out_odds());
    assert_eq!((&with.outcomes, &with.runs, &with.heads), (&without.outcomes, &without.runs, &without.heads));
    // Whoever empties the buffers asks the same again.
    without.clear();
    without.outcome_with(&[7], Odds::scored(2, 5));
    assert!(without.odds.is_empty());
}
