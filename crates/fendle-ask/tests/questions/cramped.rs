//! Larger yards, of tens of thousands of states, which are kept by number, under limits of states: counts are those of a plain look at all
//! states, and what a limit leaves open is never told as "no".

use std::collections::{BTreeMap, HashMap};

use fendle_ask::End;
use fendle_ask::explore::{How, SpaceVerdict, explore};
use fendle_ask::find::{Draws, find};
use fendle_ask::hunt::Promise;
use fendle_ask::solve::solve;
use fendle_ask::why::{Reason, one_position};
use fendle_core::Limit;
use fendle_core::space::Class;

use crate::common::{Dice, budget, few, seeds};
use crate::yards::{At, Yard};

/// All states of a yard, by plain search: how deep they lie, how far they are from a goal, and what they are.
struct Look {
    depth: HashMap<At, u32>,
    far: HashMap<At, u32>,
    class: HashMap<At, Class>,
    fatal: u64,
    transitions: u64,
}

impl Look {
    fn at(yard: &Yard) -> Look {
        let mut depth = HashMap::from([(yard.start, 0)]);
        let mut before: HashMap<At, Vec<At>> = HashMap::new();
        let (mut ring, mut transitions) = (vec![yard.start], 0);
        while !ring.is_empty() {
            let mut next = vec![];
            for at in ring {
                for (_, to) in yard.moves(at) {
                    transitions += 1;
                    before.entry(to).or_default().push(at);
                    if !depth.contains_key(&to) {
                        depth.insert(to, depth[&at] + 1);
                        next.push(to);
                    }
                }
            }
            ring = next;
        }
        let mut ring: Vec<At> = depth.keys().copied().filter(|at| yard.is_won(*at)).collect();
        let mut far: HashMap<At, u32> = ring.iter().map(|at| (*at, 0)).collect();
        while !ring.is_empty() {
            let mut next = vec![];
            for at in ring {
                for from in before.get(&at).into_iter().flatten() {
                    if !far.contains_key(from) {
                        far.insert(*from, far[&at] + 1);
                        next.push(*from);
                    }
                }
            }
            ring = next;
        }
        let class = |at: &At| match () {
            () if yard.is_won(*at) => Class::Goal,
            () if yard.is_lost(*at) => Class::Lost,
            () if yard.moves(*at).is_empty() => Class::Stuck,
            () if far.contains_key(at) => Class::Winnable,
            () => Class::Dead,
        };
        let class: HashMap<At, Class> = depth.keys().map(|at| (*at, class(at))).collect();
        let of = |at: &At| yard.moves(*at).iter().filter(|m| class[&m.1].is_bad()).count() as u64;
        let fatal = class.iter().filter(|c| *c.1 == Class::Winnable).map(|c| of(c.0)).sum();
        Look { depth, far, class, fatal, transitions }
    }

    fn count(&self, class: Class) -> u64 {
        self.class.values().filter(|c| **c == class).count() as u64
    }
}

/// Some yard of this size with three barges and at least so many states.
fn large(seed: u64, size: (usize, usize), least: usize) -> (Yard, Look) {
    let mut dice = Dice::new(seed);
    for _ in 0..200 {
        let yard = Yard::sized(&mut dice, size, 3, 5);
        if yard.is_won(yard.start) || yard.is_lost(yard.start) || yard.start.1.count_ones() < 3 {
            continue;
        }
        let look = Look::at(&yard);
        if look.depth.len() >= least && look.far.contains_key(&yard.start) != seed.is_multiple_of(3) {
            return (yard, look);
        }
    }
    panic!("there are many such yards");
}

#[test]
fn large_yards_are_counted_by_number() {
    let mut by_number = 0;
    for seed in seeds(9_000..9_002) {
        let (yard, look) = large(seed, (5, 6), 33_000);
        let (store, level) = yard.level();
        let text = yard.drawn(yard.start);
        let c = explore(&store, &level, How::default(), &budget()).expect("an answer").found.counts;
        assert_eq!((c.states, c.transitions), (look.depth.len() as u64, look.transitions), "{text}");
        let told = [c.goal, c.lost, c.stuck, c.dead, c.winnable];
        let wanted = [Class::Goal, Class::Lost, Class::Stuck, Class::Dead, Class::Winnable]
            .map(|class| look.count(class));
        assert_eq!(told, wanted, "{text}");
        assert_eq!(c.fatal_moves, look.fatal, "{text}");
        assert_eq!(c.shortest, look.far.get(&yard.start).copied(), "{text}");
        let mut per_depth: BTreeMap<u32, u64> = BTreeMap::new();
        look.depth.values().for_each(|d| *per_depth.entry(*d).or_default() += 1);
        assert_eq!(c.per_depth, per_depth.into_values().collect::<Vec<_>>(), "{text}");
        by_number += u32::from(c.numbers.is_some());
    }
    assert!(by_number >= 1, "{by_number} spaces by number");
}

#[test]
fn limits_cut_large_yards_exactly_and_claim_nothing_of_the_rest() {
    for seed in seeds(9_100..9_103) {
        let (yard, look) = large(seed, (4, 5), 4_000);
        let (mut store, mut level) = yard.level();
        let text = yard.drawn(yard.start);
        let all = look.depth.len() as u64;
        let least = look.far.get(&yard.start).copied();
        for most in [1, 2, 77, 1_000, all / 2, all - 1, all] {
            let budget = few(most);
            let answer = explore(&store, &level, How::default(), &budget).expect("an answer");
            let c = &answer.found.counts;
            assert_eq!(c.states, most, "{most} of {all}: {text}");
            let cut = most < all;
            let limit = cut.then_some(Limit::MaxStates);
            assert_eq!((answer.limit(), c.complete), (limit, !cut), "{most} of {all}: {text}");
            for (told, class) in [
                (c.goal, Class::Goal),
                (c.lost, Class::Lost),
                (c.stuck, Class::Stuck),
                (c.dead, Class::Dead),
                (c.winnable, Class::Winnable),
            ] {
                assert!(told <= look.count(class), "{class:?}, {most} of {all}: {text}");
            }
            match SpaceVerdict::of(c) {
                SpaceVerdict::Solvable(moves) => {
                    assert!(least.is_some() && moves >= least, "{most} of {all}: {text}");
                }
                SpaceVerdict::Unsolvable => assert!(least.is_none() && !cut, "{most} of {all}: {text}"),
                _ => assert!(cut, "{most} of {all}: {text}"),
            }

            let solved = solve(&store, &level, Promise::Best, &budget, None).expect("an answer");
            match solved.end() {
                End::Yes => {
                    let moves = solved.found.moves.expect("a solution") as u32;
                    let least = least.expect("it can be won");
                    assert!(moves >= least && (!solved.found.shortest || moves == least), "{most}: {text}");
                }
                End::No => assert!(least.is_none(), "{most} of {all}: {text}"),
                end => assert!(cut && end == End::Undecided, "{end:?}, {most} of {all}: {text}"),
            }

            for (word, class) in [("dead", Class::Dead), ("won", Class::Goal), ("stuck", Class::Stuck)] {
                let found = find(&mut store, &mut level, word, (Draws::Some, 0), &budget).expect("an answer");
                let there = look.count(class);
                match found.end() {
                    End::Yes => assert!((1..=there).contains(&found.found.count), "{word}, {most}: {text}"),
                    End::No => assert_eq!(there, 0, "{word}, {most} of {all}: {text}"),
                    end => assert!(cut && end == End::Undecided, "{word}, {end:?}, {most}: {text}"),
                }
                assert!(cut || found.found.count == there, "{word}: {text}");
            }

            let why = one_position(&store, &level, false, &budget).expect("an answer").found;
            match (&why.reason, least) {
                (Reason::Winnable(w), Some(least)) => {
                    assert!(w.far.is_none_or(|far| far >= least), "{most} of {all}: {text}");
                    assert!(w.fatal.len() as u64 <= look.fatal, "{most} of {all}: {text}");
                }
                (Reason::Dead(_) | Reason::Kept(_), None)
                | (Reason::Undecided { .. } | Reason::Large(_), _) => {}
                (reason, _) => panic!("{reason:?}, {most} of {all}: {text}"),
            }
        }
    }
}
