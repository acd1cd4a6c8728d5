//! A limit is "undecided", never "no": every question under every limit of states, against what is known of the map.

use fendle_ask::count::count_solutions;
use fendle_ask::explore::{How, SpaceVerdict, explore};
use fendle_ask::find::{Draws, find};
use fendle_ask::graph::{Cut, Keep, graph};
use fendle_ask::hunt::Promise;
use fendle_ask::moves::moves;
use fendle_ask::odds::{self, ask};
use fendle_ask::solve::solve;
use fendle_ask::trace::trace;
use fendle_ask::why::{Reason, one_position};
use fendle_ask::{Answer, Budget, End, Loaded, Store, Surroundings, Trouble, Wanted, within};
use fendle_core::Limit;
use fendle_core::simulate::Policy;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use crate::common::{Dice, MOVES, Map, budget, few, loaded};

/// Calls `ask` with some maps and their levels.
fn each_map(seeds: std::ops::Range<u64>, draws: bool, mut ask: impl FnMut(&Map, &mut Store, Loaded)) {
    for seed in seeds {
        let map = Map::any(&mut Dice::new(seed), draws);
        let mut store = Store::default();
        let level = loaded(&mut store, &map.texts(), "walk.toml", "map", None);
        ask(&map, &mut store, level);
    }
}

/// What ended an answer, where it was decided or not.
fn end_of<T>(answer: &Result<Answer<T>, Trouble>) -> End {
    match answer {
        Ok(answer) => answer.end(),
        Err(Trouble::Limit(Limit::Interrupted)) => End::Interrupted,
        Err(Trouble::Limit(_) | Trouble::Undecided(_)) => End::Undecided,
        Err(other) => panic!("{other:?}"),
    }
}

#[test]
fn spaces_are_cut_exactly_and_claim_nothing_of_the_rest() {
    let (mut cut, mut solved) = (0, 0);
    each_map(4000..4080, false, |map, store, level| {
        let whole = explore(store, &level, How::default(), &budget()).expect("an answer").found.counts;
        for most in 1..=whole.states + 1 {
            let answer = explore(store, &level, How::default(), &few(most)).expect("an answer");
            let c = &answer.found.counts;
            let text = format!("{most} of {} states: {}", whole.states, map.model());
            assert_eq!(c.states, most.min(whole.states), "{text}");
            if most >= whole.states {
                assert_eq!((c.named(), answer.end()), (whole.named(), End::Yes), "{text}");
                continue;
            }
            cut += 1;
            assert_eq!((answer.limit(), answer.end()), (Some(Limit::MaxStates), End::Undecided), "{text}");
            // What is told of single states is told of them for good.
            assert!(!c.complete && c.dead <= whole.dead && c.stuck <= whole.stuck, "{text}");
            assert!(c.goal <= whole.goal && c.winnable <= whole.winnable, "{text}");
            match SpaceVerdict::of(c) {
                SpaceVerdict::Solvable(moves) => {
                    assert!(whole.shortest.is_some() && moves >= whole.shortest, "{text}");
                    solved += 1;
                }
                verdict => assert_ne!(verdict, SpaceVerdict::Unsolvable, "{text}"),
            }
        }
    });
    assert!(cut > 100 && solved > 5, "{cut} cut spaces, {solved} of them with a goal");
}

#[test]
fn solving_never_says_no_for_want_of_states() {
    let mut undecided = 0;
    each_map(4080..4160, false, |map, store, level| {
        let whole = solve(store, &level, Promise::Best, &budget(), None).expect("an answer");
        for most in 1..=map.len() as u64 {
            let answer = solve(store, &level, Promise::Best, &few(most), None).expect("an answer");
            let text = format!("{most} states: {}", map.model());
            match answer.end() {
                End::Undecided => undecided += 1,
                end => assert_eq!(end, whole.end(), "{text}"),
            }
            if answer.end() == End::Yes {
                let moves = answer.found.moves.expect("a solution");
                assert!(Some(moves) >= whole.found.moves, "{text}");
                assert!(!answer.found.shortest || Some(moves) == whole.found.moves, "{text}");
            }
            let (least, most) = (answer.found.least, whole.found.moves);
            assert!(
                least.is_none_or(|l| most.is_none_or(|m| l as usize <= m)),
                "{least:?}, {most:?}: {text}"
            );
        }
    });
    assert!(undecided > 50, "{undecided} undecided");
}

#[test]
fn positions_are_found_or_not_decided() {
    let mut undecided = 0;
    each_map(4160..4200, false, |map, store, mut level| {
        for at in 1..=map.len() {
            let condition = format!("at == {at}");
            let mut of = |most: Option<u64>| {
                let budget = most.map_or(budget(), few);
                find(store, &mut level, &condition, (Draws::Some, 0), &budget).expect("an answer")
            };
            let whole = of(None);
            for most in 1..=map.len() as u64 {
                let answer = of(Some(most));
                let text = format!("{condition}, {most} states: {}", map.model());
                match answer.end() {
                    End::Undecided => undecided += 1,
                    end => assert_eq!(end, whole.end(), "{text}"),
                }
                assert!(answer.found.count <= whole.found.count, "{text}");
                if let Some(depth) = answer.found.depth {
                    assert_eq!(Some(depth), whole.found.depth, "{text}");
                }
            }
        }
    });
    assert!(undecided > 50, "{undecided} undecided");
}

#[test]
fn why_tells_what_holds_or_that_it_is_not_decided() {
    let mut undecided = 0;
    each_map(4200..4260, false, |map, store, level| {
        let whole = one_position(store, &level, false, &budget()).expect("an answer").found.reason;
        for most in 1..=map.len() as u64 {
            let reason = one_position(store, &level, false, &few(most)).expect("an answer").found.reason;
            let text = format!("{most} states: {}", map.model());
            match (&reason, &whole) {
                (Reason::Undecided { states, .. }, _) => {
                    assert!(*states <= most, "{text}");
                    undecided += 1;
                }
                (Reason::Dead(part), Reason::Dead(all)) => assert_eq!(part.class, all.class, "{text}"),
                (Reason::Winnable(part), Reason::Winnable(all)) => {
                    assert!(part.far >= all.far && part.moves == all.moves, "{text}");
                    let names = |w: &fendle_ask::why::Winnable| {
                        w.fatal.iter().map(|f| f.name.clone()).collect::<Vec<_>>()
                    };
                    assert!(names(part).iter().all(|n| names(all).contains(n)), "{text}");
                }
                (Reason::Kept(_), Reason::Kept(_) | Reason::Dead(_)) => {}
                (Reason::Ended(_), Reason::Ended(_)) => {}
                other => panic!("{other:?}: {text}"),
            }
        }
    });
    assert!(undecided > 20, "{undecided} undecided");
}

#[test]
fn chances_under_a_limit_are_bounds_that_hold() {
    let mut open = 0;
    each_map(4260..4320, true, |map, store, level| {
        let whole = ask(store, &level, odds::How::default(), &budget()).expect("an answer").found;
        let exact = whole.best_probability.as_ref().expect("a goal").middle();
        for most in 1..=map.len() as u64 {
            let text = format!("{most} states: {}", map.model());
            // Two games are enough here: a cut space is played on, and some maps never end.
            let how = odds::How { plays: Some(2), policies: vec![Policy::Random], ..odds::How::default() };
            let answer = ask(store, &level, how, &few(most)).expect("an answer");
            let found = &answer.found;
            if let Some(bounds) = &found.best_probability {
                assert!(
                    bounds.low() <= exact + 1e-9 && exact <= bounds.high() + 1e-9,
                    "{bounds:?}, {exact}: {text}"
                );
            }
            if let (Some(some), Some(all)) = (&found.least_expected_moves, &whole.least_expected_moves) {
                let exact = all.middle();
                assert!(
                    some.low() <= exact + 1e-9 && exact <= some.high() + 1e-9,
                    "{some:?}, {exact}: {text}"
                );
            }
            for (some, all) in [
                (found.possible, whole.possible),
                (found.certain, whole.certain),
                (found.almost_certain, whole.almost_certain),
            ] {
                assert!(some.is_none() || some == all, "{some:?}, {all:?}: {text}");
            }
            open += u32::from(answer.end() == End::Undecided);
            let near = within::ask(&level, 4, &few(most)).expect("an answer");
            let all = within::ask(&level, 4, &budget()).expect("an answer").found;
            if let (Some(some), Some(all)) = (&near.found.best_probability, &all.best_probability) {
                let exact = all.middle();
                assert!(
                    some.low() <= exact + 1e-9 && exact <= some.high() + 1e-9,
                    "{some:?}, {exact}: {text}"
                );
            }
            if let (Some(some), Some(all)) = (&near.found.least_ruin, &all.least_ruin) {
                let exact = all.middle();
                assert!(
                    some.low() <= exact + 1e-9 && exact <= some.high() + 1e-9,
                    "{some:?}, {exact}: {text}"
                );
            }
        }
    });
    assert!(open > 50, "{open} open answers");
}

/// All questions of a level, by name.
fn asked(store: &mut Store, level: &mut Loaded, budget: &Budget) -> Vec<(&'static str, End)> {
    let cut = Cut { keep: Keep::All, around: None, rooms: false, most: 100 };
    let found = find(store, level, "at == 2", (Draws::Some, 0), budget);
    let structure = How { structure: Some(true), charts: true, ..How::default() };
    vec![
        ("find", end_of(&found)),
        ("solve", end_of(&solve(store, level, Promise::Best, budget, None))),
        ("explore", end_of(&explore(store, level, structure, budget))),
        ("why", end_of(&one_position(store, level, false, budget))),
        ("graph", end_of(&graph(store, level, &cut, budget))),
        ("odds", end_of(&ask(store, level, odds::How::default(), budget))),
        ("within", end_of(&within::ask(level, 3, budget))),
        ("count", end_of(&count_solutions(store, level, budget))),
        ("trace", end_of(&trace(store, level, MOVES[0], true, budget))),
    ]
}

#[test]
fn no_time_and_an_interrupt_are_told_apart_in_every_question() {
    static CALM: AtomicBool = AtomicBool::new(false);
    static STOP: AtomicBool = AtomicBool::new(true);
    let around = |interrupted| Surroundings {
        interrupted,
        memory_now: None,
        listener: None,
        tables: None,
        teller: None,
    };
    // Landings in a row, and a way back: nothing ends at once.
    let way = |to: usize| vec![(to, 1)];
    let n = 6;
    let map = Map {
        ways: (0..n).map(|i| [way((i + 1) % n), way(i.max(1) - 1), vec![]]).collect(),
        won: (0..n).map(|i| i == n - 1).collect(),
        lost: vec![false; n],
    };
    let mut store = Store::default();
    let mut level = loaded(&mut store, &map.texts(), "walk.toml", "map", None);
    let no_time = Budget::new(Wanted { time: Some(Duration::ZERO), ..Wanted::default() }, around(&CALM));
    for (question, end) in asked(&mut store, &mut level, &no_time) {
        assert_eq!(end, End::Undecided, "{question} without time");
    }
    let stopped = Budget::new(Wanted::default(), around(&STOP));
    for (question, end) in asked(&mut store, &mut level, &stopped) {
        assert_eq!(end, End::Interrupted, "{question} interrupted");
    }
    for (question, end) in asked(&mut store, &mut level, &Budget::new(Wanted::default(), around(&CALM))) {
        assert_eq!(end, End::Yes, "{question}");
    }
    // What is asked of one position needs no search.
    assert_eq!(moves(&store, &level, &no_time).expect("an answer").found.allowed.len(), 2);
}

#[test]
fn threads_change_nothing() {
    each_map(4320..4340, true, |map, store, mut level| {
        let mut of = |threads| {
            let wanted = Wanted { threads, ..Wanted::default() };
            let budget = Budget::plain(wanted);
            let how = How { charts: true, report: true, ..How::default() };
            let space = explore(store, &level, how, &budget).expect("an answer").found;
            let solved = solve(store, &level, Promise::Best, &budget, None).expect("an answer").found;
            let odds = ask(store, &level, odds::How::default(), &budget).expect("an answer").found;
            let found = find(store, &mut level, "won", (Draws::Every, 0), &budget).expect("an answer").found;
            let text = |v: Result<serde_json::Value, serde_json::Error>| v.expect("text keys").to_string();
            [
                text(serde_json::to_value(space)),
                text(serde_json::to_value(solved)),
                text(serde_json::to_value(odds)),
                text(serde_json::to_value(found)),
            ]
        };
        let one = of(1);
        assert_eq!(of(2), one, "{}", map.model());
        assert_eq!(of(7), one, "{}", map.model());
    });
}
