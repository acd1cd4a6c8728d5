//! What moves cost and score, several starts, and what can be forced: against sums, means and turns that are worked out on the map.

use std::fmt::Write as _;

use fendle_ask::counting::solve_counting;
use fendle_ask::explore::{How, explore};
use fendle_ask::find::{Draws, find};
use fendle_ask::hunt::Promise;
use fendle_ask::near::{Plays, near};
use fendle_ask::odds::{self, AimAnswer, ask};
use fendle_ask::solve::solve;
use fendle_ask::{End, Loaded, Store};
use fendle_core::odds::AimValue;

use crate::common::{Dice, MOVES, Map, Texts, budget, few, loaded, seeds};

/// A number for each landing and move.
type Figures = Vec<[i64; 3]>;

fn any_figures(dice: &mut Dice, map: &Map, least: i64, most: i64) -> Figures {
    let one = |dice: &mut Dice| least + dice.below((most - least + 1) as usize) as i64;
    (0..map.len()).map(|_| std::array::from_fn(|_| one(dice))).collect()
}

/// The figures of one move as an expression.
fn by_landing(figures: &Figures, m: usize) -> String {
    let mut out = String::new();
    for (at, row) in figures.iter().enumerate() {
        let _ = write!(out, "if at == {} then {} else ", at + 1, row[m]);
    }
    out + "0"
}

fn level_of(model: &str, store: &mut Store) -> Loaded {
    let texts = Texts::new([
        ("walk.fendle", model),
        ("walk.toml", "model = 'walk.fendle'\n[[level]]\nname = 'map'\n"),
    ]);
    loaded(store, &texts, "walk.toml", "map", None)
}

#[test]
fn the_cheapest_way_is_found_and_proved() {
    let (mut dearer, mut undecided) = (0, 0);
    for seed in seeds(5000..5100) {
        let mut dice = Dice::new(seed);
        let map = Map::any(&mut dice, false);
        let toil = any_figures(&mut dice, &map, 0, 9);
        let mut model = map.model();
        for (m, name) in MOVES.iter().enumerate() {
            let _ = writeln!(model, "cost toil of {name} = {}", by_landing(&toil, m));
        }
        // The least cost from each landing, until nothing changes.
        let mut cost: Vec<Option<i64>> = map.won.iter().map(|won| won.then_some(0)).collect();
        for _ in 0..map.len() {
            for at in 0..map.len() {
                for (m, to) in map.allowed(at) {
                    let new = cost[to[0].0].map(|c| c + toil[at][m]);
                    cost[at] = [cost[at], new].into_iter().flatten().min();
                }
            }
        }
        let mut store = Store::default();
        let level = level_of(&model, &mut store);
        let of = |most: Option<u64>| {
            let budget = most.map_or(budget(), few);
            solve_counting(&store, &level, ("toil", Promise::Best), &budget).expect("an answer")
        };
        let whole = of(None);
        assert_eq!(whole.end(), if cost[0].is_some() { End::Yes } else { End::No }, "{model}");
        let Some(cheapest) = cost[0] else { continue };
        let counting = whole.found.counting.as_ref().expect("something else than moves is counted");
        assert_eq!(
            (counting.count, counting.least),
            (Some(cheapest as u32), Some(cheapest as u32)),
            "{model}"
        );
        assert!(whole.found.shortest, "{model}");
        // The way that is told costs what is told.
        let (mut at, mut sum) = (0, 0);
        for name in whole.found.solution.as_ref().expect("a solution") {
            let m = MOVES.iter().position(|m| m == name).expect("a move");
            sum += toil[at][m];
            at = map.ways[at][m][0].0;
        }
        assert!(map.won[at] && sum == cheapest, "{sum}, not {cheapest}: {model}");
        let moves = solve(&store, &level, Promise::Best, &budget(), None).expect("an answer").found.moves;
        dearer += u32::from(whole.found.moves > moves);
        // Moves of one kind are counted without any cost.
        let across = solve_counting(&store, &level, ("across", Promise::Best), &budget()).expect("an answer");
        let counting = across.found.counting.expect("something else than moves is counted");
        let made = across.found.solution.expect("a solution").iter().filter(|m| *m == "across").count();
        assert_eq!((counting.count, counting.least), (Some(made as u32), Some(made as u32)), "{model}");
        for most in 1..map.len() as u64 {
            let cut = of(Some(most));
            undecided += u32::from(cut.end() == End::Undecided);
            assert_ne!(cut.end(), End::No, "{most} states: {model}");
            let counting = cut.found.counting.as_ref().expect("something else than moves is counted");
            assert!(counting.least.is_none_or(|l| i64::from(l) <= cheapest), "{most} states: {model}");
            assert!(counting.count.is_none_or(|c| i64::from(c) >= cheapest), "{most} states: {model}");
        }
    }
    assert!(dearer > 1 && undecided > 20, "{dearer} ways with more moves, {undecided} undecided");
}

/// The model of a map with scores: what a move gains stands before where it leads to.
fn scored(map: &Map, gains: &Figures) -> String {
    let mut model = map.model();
    for (m, name) in MOVES.iter().enumerate() {
        let head = format!("move {name} {{\n");
        model = model.replace(&head, &format!("fn gain_{name}() = {}\n{head}", by_landing(gains, m)));
        let first = format!("move {name} {{\n    refuse \"no way {name}\" unless ");
        let at = model.find(&first).expect("the move stands there");
        let line_end = at + first.len() + model[at + first.len()..].find('\n').expect("a line") + 1;
        model.insert_str(line_end, &format!("    score gain_{name}()\n"));
    }
    model + "aim most score\n"
}

#[test]
fn the_best_score_is_that_of_the_best_play_that_ends() {
    let (mut best_ones, mut unbounded, mut endless) = (0, 0, 0);
    for seed in seeds(5100..5220) {
        let mut dice = Dice::new(seed);
        let map = Map::any(&mut dice, false);
        // Gains that are mostly costs, so that not every cycle pays.
        let gains = any_figures(&mut dice, &map, -4, 2);
        let model = scored(&map, &gains);
        let mut store = Store::default();
        let level = level_of(&model, &mut store);
        let found = ask(&store, &level, odds::How::default(), &budget()).expect("an answer").found;
        let AimAnswer(aim) = found.aim.as_ref().expect("there is an aim");
        // The longest way to an end: after as many rounds as there are landings it grows only round a cycle that pays.
        let ends: Vec<bool> = (0..map.len()).map(|at| map.allowed(at).is_empty()).collect();
        let mut best: Vec<Option<i64>> = ends.iter().map(|end| end.then_some(0)).collect();
        let round = |best: &[Option<i64>]| -> Vec<Option<i64>> {
            let one = |at: usize| {
                let on = map.allowed(at).into_iter();
                let values = on.filter_map(|(m, to)| Some(best[to[0].0]? + gains[at][m]));
                values.chain(best[at]).max()
            };
            (0..map.len()).map(one).collect()
        };
        for _ in 0..map.len() {
            best = round(&best);
        }
        let grown = round(&best);
        // What still grows, and what leads there.
        let mut pays: Vec<bool> = (0..map.len()).map(|at| grown[at] > best[at]).collect();
        for _ in 0..map.len() {
            for at in 0..map.len() {
                pays[at] |= map.allowed(at).iter().any(|(_, to)| pays[to[0].0]);
            }
        }
        match (aim, best[0], pays[0]) {
            (AimValue::Best(value), Some(best), false) => {
                assert!(
                    value.low() <= best as f64 && best as f64 <= value.high(),
                    "{value:?}, {best}: {model}"
                );
                assert!(value.high() - value.low() < 1e-6, "{value:?}: {model}");
                best_ones += 1;
            }
            (AimValue::Unbounded(_), Some(_), true) => unbounded += 1,
            // Where no play ends, what goes round may gain without bound all the same.
            (AimValue::NeverEnds | AimValue::Unbounded(_), None, _) => endless += 1,
            other => panic!("{other:?}: {model}"),
        }
    }
    assert!(
        best_ones > 20 && unbounded > 5 && endless > 3,
        "{best_ones} values, {unbounded} without bound, {endless} without end"
    );
}

#[test]
fn expected_scores_are_means_over_what_is_drawn() {
    let mut drawn = 0;
    for seed in seeds(5220..5300) {
        let mut dice = Dice::new(seed);
        let mut map = Map::any(&mut dice, true);
        // Only onward: every play ends.
        for at in 0..map.len() {
            for to in &mut map.ways[at] {
                to.retain(|t| t.0 > at);
            }
        }
        let gains = any_figures(&mut dice, &map, -4, 6);
        let model = scored(&map, &gains);
        let mut store = Store::default();
        let level = level_of(&model, &mut store);
        let worth = |best: &[f64], at: usize, (m, to): (usize, &[(usize, u32)])| {
            let all: u32 = to.iter().map(|t| t.1).sum();
            let behind = to.iter().map(|t| f64::from(t.1) / f64::from(all) * best[t.0]).sum::<f64>();
            gains[at][m] as f64 + behind
        };
        let mut best = vec![0.0; map.len()];
        for at in (0..map.len()).rev() {
            let moves = map.allowed(at).into_iter().map(|of| worth(&best, at, of));
            best[at] = moves.reduce(f64::max).unwrap_or(0.0);
        }
        let found = ask(&store, &level, odds::How::default(), &budget()).expect("an answer").found;
        let Some(AimAnswer(AimValue::Best(value))) = &found.aim else { panic!("{:?}: {model}", found.aim) };
        assert!((value.middle() - best[0]).abs() < 1e-9, "{value:?}, {}: {model}", best[0]);
        for (told, of) in found.moves.as_ref().expect("it is answered").iter().zip(map.allowed(0)) {
            let aim = told.aim.as_ref().expect("every play ends");
            assert!((aim.middle() - worth(&best, 0, of)).abs() < 1e-9, "{}: {model}", told.name);
            drawn += u32::from(of.1.len() > 1);
        }
        // Under a limit nothing is claimed that is not so.
        for most in 1..map.len() as u64 {
            let how = odds::How { plays: Some(1), ..odds::How::default() };
            let cut = ask(&store, &level, how, &few(most)).expect("an answer").found;
            if let Some(AimAnswer(AimValue::Best(value))) = &cut.aim {
                let holds = value.low() <= best[0] + 1e-9 && best[0] <= value.high() + 1e-9;
                assert!(holds, "{most} states, {value:?}, {}: {model}", best[0]);
            }
        }
    }
    assert!(drawn > 20, "{drawn} moves from the start draw");
}

#[test]
fn several_starts_are_weighed() {
    for seed in seeds(5300..5380) {
        let mut dice = Dice::new(seed);
        let map = Map::any(&mut dice, false);
        let mut starts: Vec<(usize, u32)> = vec![];
        for _ in 0..3 {
            let at = dice.below(map.len());
            if starts.iter().all(|s| s.0 != at) {
                starts.push((at, 1 + dice.below(3) as u32));
            }
        }
        let list: Vec<String> = starts.iter().map(|(at, w)| format!("{} weight {w}", at + 1)).collect();
        let model = map.model() + &format!("setup {{ at = draw from ({}) }}\n", list.join(", "));
        let mut store = Store::default();
        let mut level = level_of(&model, &mut store);
        let all: Vec<usize> = starts.iter().map(|s| s.0).collect();
        let reached = map.depths(&all);
        let c = explore(&store, &level, How::default(), &budget()).expect("an answer").found.counts;
        assert_eq!(c.states, reached.iter().flatten().count() as u64, "{model}");
        let goals = (0..map.len()).filter(|at| map.won[*at]).filter_map(|at| reached[at]);
        let nearest = goals.min();
        assert_eq!(c.shortest, nearest, "{model}");
        // Without draws a start is won or it is not.
        let wins = |at: usize| map.depths(&[at]).iter().zip(&map.won).any(|(d, won)| d.is_some() && *won);
        let total: u32 = starts.iter().map(|s| s.1).sum();
        let part: u32 = starts.iter().filter(|s| wins(s.0)).map(|s| s.1).sum();
        let odds = ask(&store, &level, odds::How::default(), &budget()).expect("an answer").found;
        let best = odds.best_probability.expect("there is a goal").middle();
        assert!((best - f64::from(part) / f64::from(total)).abs() < 1e-12, "{best}: {model}");
        for (at, nearest) in reached.iter().enumerate() {
            let condition = format!("at == {}", at + 1);
            let found = find(&mut store, &mut level, &condition, (Draws::Some, 0), &budget())
                .expect("an answer")
                .found;
            assert_eq!(found.depth.map(|d| d as u32), *nearest, "{condition}: {model}");
            if let (Some(depth), Some(begins)) = (found.depth, &found.begins_at) {
                let begin: usize = begins.parse::<usize>().expect("a landing") - 1;
                assert!(all.contains(&begin), "{condition} from {begins}: {model}");
                assert_eq!(
                    map.depths(&[begin])[at],
                    Some(depth as u32),
                    "{condition} from {begins}: {model}"
                );
            }
        }
    }
}

#[test]
fn what_can_be_forced_is_a_matter_of_turns() {
    let (mut forced, mut not) = (0, 0);
    for seed in seeds(5400..5460) {
        let map = Map::any(&mut Dice::new(seed), true);
        let mut store = Store::default();
        let mut level = loaded(&mut store, &map.texts(), "walk.toml", "map", None);
        for wanted in 0..map.len() {
            let condition = format!("at == {}", wanted + 1);
            for (plays, draws) in [
                (Plays::Some, Draws::Some),
                (Plays::Some, Draws::Every),
                (Plays::Every, Draws::Some),
                (Plays::Every, Draws::Every),
            ] {
                let mut holds: Vec<bool> = (0..map.len()).map(|at| at == wanted).collect();
                let mut after = holds[0].then_some(0);
                for turn in 1..=4 {
                    let one = |at: usize| {
                        let leads = |to: &[(usize, u32)]| match draws {
                            Draws::Some => to.iter().any(|t| holds[t.0]),
                            Draws::Every => to.iter().all(|t| holds[t.0]),
                        };
                        let moves = map.allowed(at);
                        let by_moves = match plays {
                            Plays::Some => moves.iter().any(|(_, to)| leads(to)),
                            Plays::Every => !moves.is_empty() && moves.iter().all(|(_, to)| leads(to)),
                        };
                        holds[at] || by_moves
                    };
                    holds = (0..map.len()).map(one).collect();
                    after = after.or(holds[0].then_some(turn));
                }
                let how = (4, plays, draws);
                let text = format!("{condition}, {plays:?}, {draws:?}: {}", map.model());
                let answer = near(&mut store, &mut level, &condition, how, &budget()).expect("an answer");
                assert_eq!(answer.found.after, after, "{text}");
                assert_eq!(answer.end(), if after.is_some() { End::Yes } else { End::No }, "{text}");
                if after.is_some_and(|n| n > 0) {
                    forced += 1
                } else {
                    not += 1
                }
                for most in [1, 2, 3, 5] {
                    let cut = near(&mut store, &mut level, &condition, how, &few(most)).expect("an answer");
                    let known = cut.end() == End::Undecided || cut.end() == answer.end();
                    assert!(known, "{most} states, {:?}: {text}", cut.end());
                    assert!(cut.end() != End::Yes || cut.found.after >= after, "{most} states: {text}");
                }
            }
        }
    }
    assert!(forced > 200 && not > 200, "{forced} forced, {not} not");
}
