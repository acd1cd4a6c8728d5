//! A limit is "undecided", never "no": every question under every limit of states, against what is known of the map.

use fendle_ask::count::count_solutions;
use fendle_ask::explore::{How, SpaceVerdict, explore};
use fendle_ask::find::{Draws, find};
use fendle_ask::graph::{Cut, Keep, graph};
use fendle_ask::hunt::Promise;
use fendle_ask::moves::moves;
use fendle_ask::odds::{self, ask};
use fendle_ask::review::review;
use fendle_ask::solve::solve;
use fendle_ask::trace::trace;
use fendle_ask::why::{Reason, one_position};
use fendle_ask::{Answer, Budget, End, Loaded, Store, Surroundings, Trouble, Wanted, within};
use fendle_core::Limit;
use fendle_core::simulate::Policy;
use fendle_core::space::Class;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use crate::common::{MOVES, Map, budget, each_map, few, loaded};

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
    assert!(cut > 100 && solved > 2, "{cut} cut spaces, {solved} of them with a goal");
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

/// Of two conditions one may be told where the other is not: what is found of both together, of either, and of each adds up.
#[test]
fn what_is_not_known_keeps_nothing_back_that_is() {
    let (mut either, mut told) = (0, 0);
    each_map(4320..4340, true, |map, store, mut level| {
        for most in 1..=map.len() as u64 {
            let mut count = |condition: &str| {
                let answer = find(store, &mut level, condition, (Draws::Some, 0), &few(most));
                let found = answer.expect("an answer").found;
                (found.count, found.states)
            };
            for word in ["dead", "winnable", "certain", "not dead", "not certain"] {
                let text = format!("{word}, {most} states: {}", map.model());
                let (known, seen) = count(word);
                for at in 1..=map.len() {
                    let (here, both) =
                        (count(&format!("at == {at}")).0, count(&format!("at == {at} and {word}")).0);
                    let some = count(&format!("{word} or at == {at}")).0;
                    assert_eq!(some + both, known + here, "{at}: {text}");
                    either += some;
                }
                // It is so or it is not, whatever is known of it.
                assert_eq!(count(&format!("({word}) or not ({word})")).0, seen, "{text}");
                assert_eq!(count(&format!("({word}) and not ({word})")).0, 0, "{text}");
                told += seen - known;
            }
        }
    });
    assert!(either > 1_000 && told > 500, "{either} found, {told} by either way");
}

#[test]
fn why_tells_what_holds_or_that_it_is_not_decided() {
    let (mut undecided, mut open) = (0, 0);
    each_map(4_200..4_700, false, |map, store, level| {
        let whole = one_position(store, &level, false, &budget()).expect("an answer").found.reason;
        for most in 1..=map.len() as u64 {
            let answer = one_position(store, &level, false, &few(most)).expect("an answer");
            let text = format!("{most} states: {}", map.model());
            let reason = &answer.found.reason;
            if let Reason::Winnable(w) = reason {
                assert_eq!(answer.end(), if w.unknown > 0 { End::Undecided } else { End::Yes }, "{text}");
            }
            match (reason, &whole) {
                (Reason::Undecided { states, .. }, _) => {
                    assert!(*states <= most, "{text}");
                    undecided += 1;
                }
                (Reason::Dead(part), Reason::Dead(all)) => assert_eq!(part.class, all.class, "{text}"),
                (Reason::Winnable(part), Reason::Winnable(all)) => {
                    assert_eq!((part.far, part.moves), (all.far, all.moves), "{text}");
                    let names = |w: &fendle_ask::why::Winnable| {
                        w.fatal.iter().map(|f| f.name.clone()).collect::<Vec<_>>()
                    };
                    assert!(names(part).iter().all(|n| names(all).contains(n)), "{text}");
                    // A move is told to be fatal, told not to be, or told not to be known.
                    let kept_back = names(all).iter().filter(|n| !names(part).contains(n)).count();
                    assert!(kept_back <= part.unknown && part.moves == all.moves, "{text}");
                    assert!(all.complete && all.unknown == 0, "{text}");
                    open += u32::from(part.unknown > 0);
                }
                (Reason::Kept(_), Reason::Kept(_) | Reason::Dead(_)) => {}
                (Reason::Ended(_), Reason::Ended(_)) => {}
                other => panic!("{other:?}: {text}"),
            }
        }
    });
    assert!(undecided > 20 && open > 3, "{undecided} undecided, {open} with moves of which it is not known");
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
            let lucky = found.shortest_if_lucky;
            assert!(lucky.is_none() || lucky == whole.shortest_if_lucky, "{lucky:?}: {text}");
            assert!(found.fatal_moves <= whole.fatal_moves, "{text}");
            assert!(found.blunders.is_none_or(|n| whole.blunders.is_some_and(|all| n <= all)), "{text}");
            for (worth, all) in found.moves.iter().flatten().zip(whole.moves.iter().flatten()) {
                let (Some(some), Some(all)) = (&worth.best_probability, &all.best_probability) else {
                    continue;
                };
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
        ("graph", end_of(&graph(store, level, &cut, 1.0, budget))),
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

#[test]
fn reviews_under_a_limit_tell_no_distance_that_is_not_so() {
    let mut open = 0;
    each_map(4340..4420, false, |map, store, level| {
        // Along the first allowed move of each landing.
        let (mut at, mut play) = (0, vec![]);
        while let Some((m, to)) = map.allowed(at).first().filter(|_| play.len() < 5) {
            play.push(MOVES[*m]);
            at = to[0].0;
        }
        if play.is_empty() {
            return;
        }
        let moves = play.join("; ");
        let whole = review(store, &level, &moves, &budget()).expect("an answer").found;
        for most in 1..=map.len() as u64 {
            let found = review(store, &level, &moves, &few(most)).expect("an answer").found;
            let text = format!("{most} states, {moves}: {}", map.model());
            assert!(found.minimum.is_none() || found.minimum == whole.minimum, "{text}");
            assert!(found.moves_lost <= whole.moves_lost, "{text}");
            for (some, all) in found.steps.iter().zip(&whole.steps) {
                for (some, all) in [(some.before, all.before), (some.after, all.after)] {
                    assert!(some.far.is_none() || some.far == all.far, "{some:?}, {all:?}: {text}");
                    let least = some.least.is_none_or(|l| all.far.is_none_or(|f| l <= f));
                    assert!(least, "{some:?}, {all:?}: {text}");
                    assert!(
                        some.class == Class::Open || some.class == all.class,
                        "{some:?}, {all:?}: {text}"
                    );
                }
                // What was not decided before a move may have been lost already: the review says that it is the first one proved.
                let told = some.is_fatal() && some.before.class != Class::Open;
                assert!(!told || all.is_fatal(), "{text}");
            }
            open += u32::from(!found.complete);
        }
    });
    assert!(open > 50, "{open} reviews were cut");
}

#[test]
fn graphs_counts_and_traces_under_a_limit_are_parts_of_the_whole() {
    let mut cut_graphs = 0;
    each_map(4420..4480, false, |map, store, level| {
        let all_of = Cut { keep: Keep::All, around: None, rooms: false, most: 100 };
        let text_of = |g: &fendle_ask::graph::Graph, node: u32| g.text(&level.game, node as usize);
        let whole = graph(store, &level, &all_of, 1.0, &budget()).expect("an answer").found;
        let arrows_of = |g: &fendle_ask::graph::Graph| -> BTreeSet<(String, String, String, bool)> {
            let one = |a: &fendle_ask::graph::Arrow| {
                (text_of(g, a.from), text_of(g, a.to), g.names[a.name as usize].clone(), a.fatal)
            };
            g.arrows.iter().map(one).collect()
        };
        let of_whole: BTreeMap<String, &fendle_ask::graph::Node> =
            (0..whole.nodes.len()).map(|n| (text_of(&whole, n as u32), &whole.nodes[n])).collect();
        let (arrows, counted) =
            (arrows_of(&whole), count_solutions(store, &level, &budget()).expect("an answer").found);
        // Along the last allowed move of each landing.
        let (mut at, mut play) = (0, vec![]);
        while let Some((m, to)) = map.allowed(at).last().filter(|_| play.len() < 4) {
            play.push(MOVES[*m]);
            at = to[0].0;
        }
        let traced = trace(store, &level, &play.join("; "), true, &budget()).expect("an answer").found;
        for most in 1..=map.len() as u64 {
            let text = format!("{most} states: {}", map.model());
            let part = graph(store, &level, &all_of, 1.0, &few(most)).expect("an answer").found;
            assert!(part.nodes.len() as u64 <= most, "{text}");
            for (n, node) in part.nodes.iter().enumerate() {
                let all = of_whole[&text_of(&part, n as u32)];
                assert!(node.class == Class::Open || node.class == all.class, "{node:?}, {all:?}: {text}");
                assert_eq!((node.depth, node.start), (all.depth, all.start), "{text}");
                assert!(!node.must_pass || all.must_pass, "{text}");
            }
            for (from, to, name, fatal) in arrows_of(&part) {
                let known = |f: bool| arrows.contains(&(from.clone(), to.clone(), name.clone(), f));
                assert!(known(true) || !fatal && known(false), "{from} to {to} by {name}, {fatal}: {text}");
            }
            cut_graphs += u32::from(part.nodes.len() < whole.nodes.len());
            let some = count_solutions(store, &level, &few(most)).expect("an answer");
            assert!(some.found.won <= counted.won, "{text}");
            assert!(
                some.found.all.is_none() || some.found.all == counted.all,
                "{:?}: {text}",
                some.found.all
            );
            assert!(some.found.shortest.is_none() || some.found.shortest == counted.shortest, "{text}");
            assert!(!some.found.complete || some.end() != End::Undecided, "{text}");
            let seen = trace(store, &level, &play.join("; "), true, &few(most)).expect("an answer").found;
            assert_eq!(seen.steps.len(), traced.steps.len(), "{text}");
            for (some, all) in seen.steps.iter().zip(&traced.steps) {
                assert_eq!(some.position.line, all.position.line, "{text}");
                let known = some.class.is_none_or(|c| c == Class::Open) || some.class == all.class;
                assert!(known && (!some.fatal || all.fatal), "{:?}, {:?}: {text}", some.class, all.class);
            }
        }
    });
    assert!(cut_graphs > 50, "{cut_graphs} graphs were cut");
}
