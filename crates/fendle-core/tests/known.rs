//! What a player can know: information states against sets of worlds that are kept by hand.

use std::collections::{BTreeMap, HashMap};

use fendle_core::knowledge::{Knowing, NotKnown};
use fendle_core::numbers::gcd64;
use fendle_core::odds::{Fractions, odds};
use fendle_core::worlds::best_move;
use fendle_core::{Class, Limits, Model, MoveId, NoWatch, Status, explore};
use rand::{Rng, SeedableRng, rngs::SmallRng};

use crate::games::Game;

/// Worlds and how much each weighs, without what the weights have in common.
type Belief = BTreeMap<usize, u64>;

/// Weighted states as what can be told apart, with the weight of each, in the order of their first ones.
fn split(game: &Game, worlds: &[(usize, u64)]) -> Vec<(Belief, u64)> {
    let mut parts: Vec<((u64, Status), Belief)> = vec![];
    for &(s, weight) in worlds {
        let seen = (game.told[s], game.status[s]);
        if parts.iter().all(|p| p.0 != seen) {
            parts.push((seen, Belief::new()));
        }
        let part = parts.iter_mut().find(|p| p.0 == seen).expect("it was put there");
        *part.1.entry(s).or_default() += weight;
    }
    let sum = |b: &Belief| b.values().sum::<u64>();
    let all = parts.iter().fold(0, |g, p| gcd64(sum(&p.1), g));
    let reduced = |b: &Belief| {
        let g = b.values().fold(0, |g, w| gcd64(*w, g));
        b.iter().map(|(s, w)| (*s, w / g)).collect()
    };
    parts.iter().map(|p| (reduced(&p.1), sum(&p.1) / all)).collect()
}

/// The moves that every world allows, with what each shows.
fn moves(game: &Game, belief: &Belief) -> Vec<(u32, Vec<(Belief, u64)>)> {
    let of = |s: usize, m: u32| game.open(s).iter().find(|own| own.0 == m);
    (0..4)
        .filter(|m| belief.keys().all(|s| of(*s, *m).is_some()))
        .map(|m| {
            let sums: Vec<u64> =
                belief.keys().map(|s| of(*s, m).expect("allowed").1.iter().map(|o| o.1).sum()).collect();
            let common = sums.iter().fold(1, |l, s| l / gcd64(l, *s) * s);
            let next = belief.iter().zip(&sums).flat_map(|((s, weight), sum)| {
                let to = &of(*s, m).expect("allowed").1;
                to.iter().map(move |o| (o.0, weight * o.1 * (common / sum)))
            });
            (m, split(game, &next.collect::<Vec<_>>()))
        })
        .collect()
}

/// Everything that can come to be known, nearest first, with the least number of moves; `None` where that is more than `most`.
fn reached(game: &Game, starts: &[(Belief, u64)], most: usize) -> Option<Vec<(Belief, u32)>> {
    let mut list: Vec<(Belief, u32)> = vec![];
    for (b, _) in starts {
        if list.iter().all(|l| l.0 != *b) {
            list.push((b.clone(), 0));
        }
    }
    let mut index: HashMap<Belief, ()> = list.iter().map(|l| (l.0.clone(), ())).collect();
    let mut at = 0;
    while at < list.len() {
        let (belief, depth) = list[at].clone();
        at += 1;
        for (b, _) in moves(game, &belief).into_iter().flat_map(|m| m.1) {
            if index.insert(b.clone(), ()).is_none() {
                list.push((b, depth + 1));
            }
        }
        if list.len() > most {
            return None;
        }
    }
    Some(list)
}

fn status(game: &Game, belief: &Belief) -> Status {
    game.status[*belief.keys().next().expect("a world")]
}

/// Some game, and worlds of which one is true. With draws play goes on and on to later states: what can be known is then finite.
fn hidden(seed: u64) -> (Game, Vec<(usize, u64)>) {
    let mut rng = SmallRng::seed_from_u64(seed);
    let states = rng.random_range(4..12);
    let draws = seed.is_multiple_of(2);
    let mut game = Game::any(&mut rng, states, draws);
    if draws {
        for (s, own) in game.moves.iter_mut().enumerate() {
            own.iter_mut().for_each(|m| m.1.retain(|o| o.0 > s));
            own.retain(|m| !m.1.is_empty());
        }
    }
    let mut worlds: Vec<(usize, u64)> = vec![];
    for _ in 0..rng.random_range(1..6) {
        let s = rng.random_range(0..states);
        if worlds.iter().all(|w| w.0 != s) {
            worlds.push((s, rng.random_range(1..4)));
        }
    }
    (game, worlds)
}

fn packed(worlds: &[(usize, u64)]) -> Vec<(Vec<u64>, u64)> {
    worlds.iter().map(|w| (vec![w.0 as u64], w.1)).collect()
}

fn belief_of(knowing: &Knowing<'_>, id: u32) -> Belief {
    knowing.worlds(id).into_iter().map(|(state, weight)| (state[0] as usize, weight)).collect()
}

const MOST: usize = 3_000;

#[test]
fn all_that_can_come_to_be_known_is_explored() {
    let (mut many, mut classes) = (0, BTreeMap::new());
    for seed in 0..400 {
        let (game, worlds) = hidden(seed);
        let starts = split(&game, &worlds);
        let Some(plain) = reached(&game, &starts, MOST) else { continue };
        let table = game.table();
        for threads in [1, 3] {
            let knowing = Knowing::new(&table, &packed(&worlds), None).expect("some worlds");
            let begins: Vec<(Belief, u64)> =
                knowing.begins().iter().map(|b| (belief_of(&knowing, b.0), b.1)).collect();
            assert_eq!(begins, starts, "{game:?}");
            assert_eq!(knowing.layouts(), worlds.len() as u128, "{game:?}");
            let limits = Limits { threads, ..Limits::default() };
            let found = explore(&knowing, limits, false, &NoWatch).expect("starts");
            let c = &found.counts;
            assert!(c.complete && c.chance, "{game:?}");
            assert_eq!(c.states as usize, plain.len(), "{worlds:?} {game:?}");
            let ways = plain.iter().map(|(b, _)| moves(&game, b).iter().map(|m| m.1.len()).sum::<usize>());
            assert_eq!(c.transitions as usize, ways.sum::<usize>(), "{worlds:?} {game:?}");
            // What is won, and what can be: by the plainest fixed point.
            let mut can: HashMap<&Belief, bool> =
                plain.iter().map(|(b, _)| (b, status(&game, b) == Status::Goal)).collect();
            for _ in 0..plain.len() {
                let before = can.clone();
                for (b, _) in &plain {
                    let on = moves(&game, b).into_iter().flat_map(|m| m.1).any(|(to, _)| before[&to]);
                    can.entry(b).and_modify(|c| *c |= on);
                }
                if can == before {
                    break;
                }
            }
            for (b, depth) in &plain {
                let here =
                    (0..knowing_len(&found)).map(|i| i as u32).find(|id| belief_of(&knowing, *id) == *b);
                let here = here.unwrap_or_else(|| panic!("{b:?} was not met: {game:?}"));
                let state = knowing.packed(here);
                assert_eq!(knowing.number(&state), here);
                let id = found.space.find(&state).expect("it was explored");
                assert_eq!(found.space.depth_of(id), *depth, "{b:?} {game:?}");
                let want = match status(&game, b) {
                    Status::Goal => Class::Goal,
                    Status::Lost(_) => Class::Lost,
                    Status::Over(_) => Class::Over,
                    _ if moves(&game, b).is_empty() => Class::Stuck,
                    _ if can[b] => Class::Winnable,
                    _ => Class::Dead,
                };
                assert_eq!(found.space.class(id), want, "{b:?} {game:?}");
                *classes.entry(format!("{want:?}")).or_insert(0) += 1;
                // What a move shows is what is known behind it.
                for (m, shown) in moves(&game, b) {
                    for (to, _) in shown {
                        let world = *to.keys().next().expect("a world");
                        let after = knowing.after(here, MoveId(m), &[world as u64]).expect("it can be");
                        assert_eq!(belief_of(&knowing, after), to, "{b:?} by {m}: {game:?}");
                    }
                }
            }
            many += usize::from(plain.iter().any(|(b, _)| b.len() > 2));
        }
    }
    assert!(many > 30 && classes.len() == 6 && classes.values().all(|n| *n > 20), "{many} {classes:?}");
}

/// How many information states were met: those that were explored, and the starts.
fn knowing_len(found: &fendle_core::Explored) -> u64 {
    found.counts.states
}

#[test]
fn play_begins_in_what_looks_like_the_truth() {
    let mut apart = 0;
    for seed in 1000..1200 {
        let (game, worlds) = hidden(seed);
        let table = game.table();
        let starts = split(&game, &worlds);
        for &(truth, _) in &worlds {
            let knowing =
                Knowing::new(&table, &packed(&worlds), Some(&[truth as u64])).expect("the truth is a world");
            let want = starts.iter().find(|s| s.0.contains_key(&truth)).expect("it looks like one");
            assert_eq!(knowing.begins().len(), 1, "{game:?}");
            assert_eq!(belief_of(&knowing, knowing.begins()[0].0), want.0, "{truth} of {worlds:?}: {game:?}");
            apart += usize::from(starts.len() > 1);
        }
        // What no world looks like cannot be the truth.
        let strange = (0..game.len()).find(|s| {
            let seen = |s: usize| (game.told[s], game.status[s]);
            worlds.iter().all(|w| seen(w.0) != seen(*s))
        });
        if let Some(strange) = strange {
            let none = Knowing::new(&table, &packed(&worlds), Some(&[strange as u64]));
            assert!(matches!(none, Err(NotKnown::NoWorld)), "{strange}: {game:?}");
        }
    }
    assert!(apart > 200, "{apart}");
}

/// The best chance to win of everything that can be known, counted until nothing changes.
fn best_chances(game: &Game, plain: &[(Belief, u32)]) -> HashMap<Belief, f64> {
    let index: HashMap<&Belief, usize> = plain.iter().enumerate().map(|(i, p)| (&p.0, i)).collect();
    let ways: Vec<Vec<Vec<(usize, f64)>>> = (plain.iter())
        .map(|(b, _)| {
            let shares = |shown: Vec<(Belief, u64)>| -> Vec<(usize, f64)> {
                let all: u64 = shown.iter().map(|o| o.1).sum();
                shown.iter().map(|(to, w)| (index[to], *w as f64 / all as f64)).collect()
            };
            moves(game, b).into_iter().map(|m| shares(m.1)).collect()
        })
        .collect();
    let mut value: Vec<f64> =
        plain.iter().map(|(b, _)| f64::from(u8::from(status(game, b) == Status::Goal))).collect();
    for _ in 0..2_000 {
        let before = value.clone();
        for (i, own) in ways.iter().enumerate() {
            let best = own.iter().map(|m| m.iter().map(|(to, p)| p * before[*to]).sum::<f64>());
            if let Some(best) = best.reduce(f64::max) {
                value[i] = best;
            }
        }
        if value == before {
            break;
        }
    }
    plain.iter().map(|p| p.0.clone()).zip(value).collect()
}

#[test]
fn chances_of_one_who_does_not_know_are_those_of_sets_of_worlds() {
    let (mut between, mut tried, mut best) = (0, 0, 0);
    for seed in 2000..2300 {
        let (game, worlds) = hidden(seed);
        let starts = split(&game, &worlds);
        let Some(plain) = reached(&game, &starts, 400) else { continue };
        let values = best_chances(&game, &plain);
        let table = game.table();
        let knowing = Knowing::new(&table, &packed(&worlds), None).expect("some worlds");
        let limits = Limits { threads: 1, ..Limits::default() };
        let answers = odds(&knowing, &limits, Fractions::WhereSmall, &NoWatch).expect("sound");
        let all: u64 = starts.iter().map(|s| s.1).sum();
        let truth = starts.iter().map(|(b, w)| *w as f64 * values[b]).sum::<f64>() / all as f64;
        let told = answers.win.expect("a goal");
        let holds = told.low() <= truth + 1e-9 && truth - 1e-9 <= told.high();
        assert!(holds && told.high() - told.low() < 1e-6, "{told:?}, {truth}: {worlds:?} {game:?}");
        between += usize::from(truth > 0.01 && truth < 0.99);
        // Nobody knows less than nothing: with the layout known one does as well or better.
        let seen: f64 = worlds.iter().map(|w| w.1 as f64 * game.win()[w.0]).sum();
        let weight: u64 = worlds.iter().map(|w| w.1).sum();
        assert!(truth <= seen / weight as f64 + 1e-6, "{truth}: {worlds:?} {game:?}");
        // What is tried out over the same worlds never promises more than can be had.
        if table.is_sure() {
            for (belief, _) in starts.iter().filter(|s| status(&game, &s.0) == Status::Running) {
                let weight: u64 = belief.values().sum();
                let list: Vec<(Vec<u64>, f64)> =
                    belief.iter().map(|(s, w)| (vec![*s as u64], *w as f64 / weight as f64)).collect();
                let mut worker = table.worker();
                let Some((of, chance)) = best_move(&table, &mut *worker, &list, 100_000) else { continue };
                assert!(moves(&game, belief).iter().any(|m| m.0 == of.0), "{of:?}: {belief:?} {game:?}");
                assert!(chance <= values[belief] + 1e-9, "{chance}, {}: {belief:?} {game:?}", values[belief]);
                tried += 1;
                best += usize::from((chance - values[belief]).abs() < 1e-9);
            }
        }
    }
    assert!(between > 40 && tried > 40 && best * 2 > tried, "{between} {tried} {best}");
}
