//! Random maps with chance, against values that are worked out on the map: by going round until nothing changes.

use fendle_ask::explore::{How, explore};
use fendle_ask::guide::{best_moves, chances};
use fendle_ask::odds::{self, ask};
use fendle_ask::{Loaded, Store, within};
use fendle_core::odds::Value;
use fendle_core::simulate::Policy;

use crate::common::{self, Dice, MOVES, Map, budget, loaded, seeds};

/// Goes round until no value changes by more than doubles can tell.
fn settled(mut values: Vec<f64>, round: impl Fn(&[f64]) -> Vec<f64>) -> Vec<f64> {
    loop {
        let next = round(&values);
        let far = values.iter().zip(&next).map(|(a, b)| (a - b).abs()).fold(0.0, f64::max);
        values = next;
        if far < 1e-14 {
            return values;
        }
    }
}

/// What is wanted of a value.
#[derive(Clone, Copy, PartialEq)]
enum Wanted {
    Most,
    Least,
    /// Each allowed move as likely as the others.
    Any,
}

fn outcome_sum(to: &[(usize, u32)], value: impl Fn(usize) -> f64) -> f64 {
    let all: u32 = to.iter().map(|t| t.1).sum();
    to.iter().map(|(t, weight)| f64::from(*weight) / f64::from(all) * value(*t)).sum()
}

/// One round: what each landing is worth when its moves lead to landings of these values.
fn round(map: &Map, values: &[f64], wanted: Wanted, end: impl Fn(usize) -> f64) -> Vec<f64> {
    let one = |at: usize| {
        let moves: Vec<f64> = map.allowed(at).iter().map(|(_, to)| outcome_sum(to, |t| values[t])).collect();
        match (moves.is_empty(), wanted) {
            (true, _) => end(at),
            (_, Wanted::Most) => moves.into_iter().fold(f64::MIN, f64::max),
            (_, Wanted::Least) => moves.into_iter().fold(f64::MAX, f64::min),
            (_, Wanted::Any) => moves.iter().sum::<f64>() / moves.len() as f64,
        }
    };
    (0..map.len()).map(one).collect()
}

fn is_won(map: &Map, at: usize) -> f64 {
    f64::from(u8::from(map.won[at]))
}

/// The chance to win from each landing.
fn chance(map: &Map, wanted: Wanted) -> Vec<f64> {
    let values: Vec<f64> = (0..map.len()).map(|at| is_won(map, at)).collect();
    settled(values, |values| round(map, values, wanted, |at| is_won(map, at)))
}

/// Where some way of playing wins against every draw.
fn certain(map: &Map) -> Vec<bool> {
    let mut wins = map.won.clone();
    for _ in 0..map.len() {
        for at in 0..map.len() {
            wins[at] |= map.allowed(at).iter().any(|(_, to)| to.iter().all(|t| wins[t.0]));
        }
    }
    wins
}

/// Where some way of playing wins with probability 1: the greatest set in which one can stay and come nearer.
fn almost_certain(map: &Map) -> Vec<bool> {
    let mut inside = vec![true; map.len()];
    loop {
        let mut near = map.won.clone();
        for _ in 0..map.len() {
            for at in 0..map.len() {
                let stays =
                    |to: &[(usize, u32)]| to.iter().all(|t| inside[t.0]) && to.iter().any(|t| near[t.0]);
                near[at] |= map.allowed(at).iter().any(|(_, to)| stays(to));
            }
        }
        if near == inside {
            return inside;
        }
        inside = near;
    }
}

fn reached(map: &Map) -> Vec<bool> {
    map.depths(&[0]).iter().map(Option::is_some).collect()
}

/// Where a goal can be reached, if everything falls well.
fn winnable(map: &Map) -> Vec<bool> {
    let mut can = map.won.clone();
    for _ in 0..map.len() {
        for at in 0..map.len() {
            can[at] |= map.allowed(at).iter().any(|(_, to)| to.iter().any(|t| can[t.0]));
        }
    }
    can
}

#[track_caller]
fn holds(value: &Value, exact: f64, text: &str) {
    let (low, high) = (value.low() - 1e-9, value.high() + 1e-9);
    assert!(low <= exact && exact <= high, "{exact} is not in {low}..{high}: {text}");
    assert!(high - low < 1e-6, "{low}..{high} says little: {text}");
}

/// Calls `ask` with some maps with chance, their models, and their levels.
fn each_map(seeds: std::ops::Range<u64>, mut ask: impl FnMut(&Map, &str, &mut Store, Loaded)) {
    common::each_map(seeds, true, |map, store, level| ask(map, &map.model(), store, level));
}

#[test]
fn odds_are_what_going_round_and_round_settles_at() {
    let (mut between, mut sure) = (0, 0);
    each_map(1000..1120, |map, text, store, level| {
        let found = ask(store, &level, odds::How::default(), &budget()).expect("an answer").found;
        let best = chance(map, Wanted::Most);
        holds(found.best_probability.as_ref().expect("there is a goal"), best[0], text);
        assert_eq!(found.possible, Some(winnable(map)[0]), "{text}");
        assert_eq!(found.certain, Some(certain(map)[0]), "{text}");
        assert_eq!(found.almost_certain, Some(almost_certain(map)[0]), "{text}");
        let moves = found.moves.as_ref().expect("it is answered");
        let allowed = map.allowed(0);
        assert_eq!(moves.len(), allowed.len(), "{text}");
        for (worth, (m, to)) in moves.iter().zip(&allowed) {
            assert_eq!((worth.name.as_str(), worth.outcomes as usize), (MOVES[*m], to.len()), "{text}");
            let value = worth.best_probability.as_ref().expect("there is a goal");
            holds(value, outcome_sum(to, |t| best[t]), text);
        }
        // The least expected number of moves, where one surely gets there.
        let inside = almost_certain(map);
        if inside[0] && !map.won[0] {
            let left = settled(vec![0.0; map.len()], |left| {
                let one = |at: usize| {
                    let moves = map.allowed(at).into_iter().filter(|(_, to)| to.iter().all(|t| inside[t.0]));
                    let least = moves.map(|(_, to)| outcome_sum(to, |t| left[t])).fold(f64::MAX, f64::min);
                    if map.has_ended(at) || !inside[at] { 0.0 } else { 1.0 + least }
                };
                (0..map.len()).map(one).collect()
            });
            let value = found.least_expected_moves.as_ref().expect("it surely comes to an end");
            assert!((value.middle() - left[0]).abs() < 1e-6, "{} moves, {value:?}: {text}", left[0]);
        }
        between += u32::from(best[0] > 0.01 && best[0] < 0.99);
        sure += u32::from(inside[0]);
    });
    assert!(between > 10 && sure > 20, "{between} maps between, {sure} sure ones");
}

#[test]
fn spaces_with_chance_hold_what_the_map_holds() {
    let mut draws = 0;
    each_map(1120..1260, |map, text, store, level| {
        let c = explore(store, &level, How::default(), &budget()).expect("an answer").found.counts;
        let (met, can) = (reached(map), winnable(map));
        let there = || (0..map.len()).filter(|at| met[*at]);
        assert_eq!(c.states, there().count() as u64, "{text}");
        let triples: usize = there().flat_map(|at| map.allowed(at)).map(|(_, to)| to.len()).sum();
        assert_eq!(c.transitions, triples as u64, "{text}");
        let can_win = |at: &usize| can[*at] && !map.has_ended(*at);
        assert_eq!(c.winnable, there().filter(can_win).count() as u64, "{text}");
        let of = |marks: Vec<bool>| there().filter(can_win).filter(|at| marks[*at]).count() as u64;
        let chance = there().any(|at| map.allowed(at).iter().any(|(_, to)| to.len() > 1));
        if c.chance {
            assert_eq!((c.certain, c.almost_certain), (of(certain(map)), of(almost_certain(map))), "{text}");
        } else {
            assert!(!chance, "{text}");
        }
        let (mut moves, mut fatal_draws) = (0, 0);
        for (_, to) in there().filter(can_win).flat_map(|at| map.allowed(at)) {
            let bad = to.iter().filter(|t| !can[t.0]).count();
            if bad == to.len() {
                moves += 1;
            } else {
                fatal_draws += bad as u64;
            }
        }
        assert_eq!((c.fatal_moves, c.fatal_draws), (moves, fatal_draws), "{text}");
        draws += fatal_draws;
    });
    assert!(draws > 50, "{draws} fatal draws");
}

#[test]
fn the_next_moves_are_valued_move_by_move() {
    each_map(1260..1320, |map, text, _, level| {
        let ruined = |at: usize| f64::from(u8::from(!map.won[at]));
        let mut win: Vec<f64> = (0..map.len()).map(|at| is_won(map, at)).collect();
        let bad = |at: usize| if map.allowed(at).is_empty() { ruined(at) } else { 0.0 };
        let mut ruin: Vec<f64> = (0..map.len()).map(bad).collect();
        let mut wins_by = map.won.clone();
        let mut sure_win = map.won[0].then_some(0);
        for moves in 1..7 {
            let (win_before, ruin_before) = (win.clone(), ruin.clone());
            win = round(map, &win, Wanted::Most, |at| is_won(map, at));
            ruin = round(map, &ruin, Wanted::Least, ruined);
            let by = |at: usize| {
                map.won[at] || map.allowed(at).iter().any(|(_, to)| to.iter().all(|t| wins_by[t.0]))
            };
            wins_by = (0..map.len()).map(by).collect();
            sure_win = sure_win.or(wins_by[0].then_some(moves));
            let near = within::ask(&level, moves, &budget()).expect("an answer").found;
            assert!(near.complete, "{text}");
            holds(near.best_probability.as_ref().expect("there is a goal"), win[0], text);
            holds(near.least_ruin.as_ref().expect("it is answered"), ruin[0], text);
            assert_eq!(near.sure_win, sure_win, "within {moves}: {text}");
            for (worth, (m, to)) in near.moves.iter().zip(map.allowed(0)) {
                assert_eq!(worth.name, MOVES[m]);
                holds(&worth.best_probability, outcome_sum(to, |t| win_before[t]), text);
                holds(&worth.least_ruin, outcome_sum(to, |t| ruin_before[t]), text);
            }
        }
    });
}

#[test]
fn best_moves_keep_the_best_chance_and_plays_are_valued_by_it() {
    let mut given = 0;
    for seed in seeds(1320..1400) {
        let mut dice = Dice::new(seed);
        let map = Map::any(&mut dice, true);
        let text = map.model();
        let mut store = Store::default();
        let level = loaded(&mut store, &map.texts(), "walk.toml", "map", None);
        let (met, can, best) = (reached(&map), winnable(&map), chance(&map, Wanted::Most));
        let mut lines = 0;
        let table = best_moves(&store, &level, &budget()).expect("an answer");
        let told = table.each(&mut |line, of, win| {
            let at: usize = line.parse::<usize>().expect("a number") - 1;
            let m = MOVES.iter().position(|name| *name == of).expect("a move");
            let (_, to) = map.allowed(at).into_iter().find(|a| a.0 == m).expect("it is allowed");
            assert!((outcome_sum(to, |t| best[t]) - best[at]).abs() < 1e-9, "{of} at {line}: {text}");
            assert!(win.0 - 1e-9 <= best[at] && best[at] <= win.1 + 1e-9, "{of} at {line}: {text}");
            lines += 1;
            Ok(())
        });
        told.expect("nothing is written");
        let there = (0..map.len()).filter(|at| met[*at] && can[*at] && !map.has_ended(*at));
        assert_eq!(lines, there.count(), "{text}");
        // Some play: what each move gave away is what it is worth less than the best one.
        let (mut at, mut play, mut want) = (0, vec![], vec![]);
        for (m, next) in map.play(&mut dice, 6) {
            play.push((vec![at as i32 + 1, 0], m, vec![next as i32 + 1, 0]));
            want.push((best[at], outcome_sum(&map.ways[at][m], |t| best[t]), best[next]));
            at = next;
        }
        let told = chances(&store, &level, &play, &budget()).expect("an answer");
        assert_eq!(told.len(), play.len(), "{text}");
        for (told, (before, moved, after)) in told.iter().zip(want) {
            let told = told.expect("a small space");
            for (bounds, exact) in [(told.before, before), (told.moved, moved), (told.after, after)] {
                assert!(
                    (f64::midpoint(bounds.0, bounds.1) - exact).abs() < 1e-6,
                    "{exact}, {bounds:?}: {text}"
                );
            }
            let (least, most) = told.given_away();
            assert!(least <= before - moved + 1e-9 && before - moved <= most + 1e-9, "{text}");
            given += u32::from(least > 0.01);
        }
    }
    assert!(given > 10, "{given} moves gave something away");
}

#[test]
fn random_games_are_won_as_often_as_they_should_be() {
    const PLAYS: u64 = 1_000;
    let mut played = 0;
    each_map(1400..1500, |map, text, store, level| {
        // Games that go round for ever take long.
        let ends = |at: usize| f64::from(u8::from(map.allowed(at).is_empty()));
        let at_end = settled((0..map.len()).map(ends).collect(), |v| round(map, v, Wanted::Any, ends));
        if at_end[0] < 0.999 {
            return;
        }
        played += 1;
        let how = odds::How { plays: Some(PLAYS), policies: vec![Policy::Random], ..odds::How::default() };
        let found = ask(store, &level, how, &budget()).expect("an answer").found;
        let [estimate] = &found.estimates[..] else { panic!("one policy, one estimate: {text}") };
        let exact = chance(map, Wanted::Any)[0];
        let share = estimate.won as f64 / PLAYS as f64;
        // Six standard deviations: one in a thousand million.
        let off = 6.0 * (exact * (1.0 - exact) / PLAYS as f64).sqrt() + 1e-9;
        assert_eq!((estimate.plays, estimate.policy.as_str()), (PLAYS, "random"), "{text}");
        assert!((share - exact).abs() <= off, "{share} of games, {exact} by the map: {text}");
    });
    assert!(played > 10, "games on {played} maps");
}
