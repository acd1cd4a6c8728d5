//! Play that begins at one of several landings, by chance: what is told of all of them together.

use std::collections::BTreeSet;

use fendle_ask::count::count_solutions;
use fendle_ask::explore::{How, explore};
use fendle_ask::find::{Draws, find};
use fendle_ask::graph::{Cut, Keep, graph};
use fendle_ask::hunt::Promise;
use fendle_ask::near::{Plays, near};
use fendle_ask::solve::solve;
use fendle_ask::{End, Loaded, Store};

use fendle_core::Model as _;

use crate::common::{Dice, MOVES, Map, Texts, budget, few, loaded, seeds};

/// A map, and the landings at one of which play begins.
struct Begun {
    map: Map,
    starts: Vec<usize>,
}

impl Begun {
    fn any(seed: u64) -> Begun {
        let mut dice = Dice::new(seed);
        let map = Map::any(&mut dice, seed.is_multiple_of(2));
        let mut starts = BTreeSet::new();
        for _ in 0..2 + dice.below(3) {
            let at = dice.below(map.len());
            // The game goes on there: an ended start is no start to play from.
            if !map.has_ended(at) {
                starts.insert(at);
            }
        }
        starts.insert(0);
        Begun { map, starts: starts.into_iter().collect() }
    }

    fn model(&self) -> String {
        let list: Vec<String> = self.starts.iter().map(|at| (at + 1).to_string()).collect();
        format!("{}setup {{ at = draw from ({}) }}\n", self.map.model(), list.join(", "))
    }

    fn loaded(&self, store: &mut Store) -> Loaded {
        let texts = Texts::new([
            ("walk.fendle", self.model().as_str()),
            ("walk.toml", "model = 'walk.fendle'\n[[level]]\nname = 'map'\n"),
        ]);
        loaded(store, &texts, "walk.toml", "map", None)
    }

    /// Moves from the nearest start.
    fn depths(&self) -> Vec<Option<u32>> {
        self.map.depths(&self.starts)
    }

    /// Whether moves by name lead from a start, given as `--at` takes it, to a landing, in as many moves as there are.
    fn leads(&self, begins: Option<&str>, moves: &[String], to: usize) -> bool {
        let begins =
            begins.map(|line| line.trim_start_matches("at=").parse::<usize>().expect("a landing") - 1);
        let mut here: BTreeSet<usize> =
            begins.map_or(self.starts.iter().copied().collect(), |at| [at].into());
        if !here.iter().all(|at| self.starts.contains(at)) {
            return false;
        }
        for name in moves {
            let name = name.split(" / ").next().expect("a name");
            let m = MOVES.iter().position(|m| *m == name).expect("a move");
            let next = here.iter().flat_map(|at| self.map.allowed(*at)).filter(|own| own.0 == m);
            here = next.flat_map(|own| own.1.iter().map(|t| t.0)).collect();
        }
        here.contains(&to)
    }
}

fn each_begun(range: std::ops::Range<u64>, mut ask: impl FnMut(&Begun, &mut Store, Loaded, String)) {
    for seed in seeds(range) {
        let begun = Begun::any(seed);
        let mut store = Store::default();
        let level = begun.loaded(&mut store);
        ask(&begun, &mut store, level, begun.model());
    }
}

#[test]
fn all_that_can_be_reached_from_any_start_is_seen() {
    let mut several = 0;
    each_begun(0..60, |begun, store, level, text| {
        let depths = begun.depths();
        let reached = || (0..begun.map.len()).filter(|at| depths[*at].is_some());
        let c = explore(store, &level, How::default(), &budget()).expect("an answer").found.counts;
        assert_eq!(c.states as usize, reached().count(), "{text}");
        let most = depths.iter().flatten().max().copied().unwrap_or(0);
        let at_depth = |d: u32| depths.iter().filter(|own| **own == Some(d)).count() as u64;
        assert_eq!(c.per_depth, (0..=most).map(at_depth).collect::<Vec<_>>(), "{text}");
        assert_eq!(c.goal as usize, reached().filter(|at| begun.map.won[*at]).count(), "{text}");
        assert_eq!(c.lost as usize, reached().filter(|at| begun.map.lost[*at]).count(), "{text}");
        let all = Cut { keep: Keep::All, around: None, rooms: false, most: 100 };
        let g = graph(store, &level, &all, 1.0, &budget()).expect("an answer").found;
        let starts: BTreeSet<String> =
            (0..g.nodes.len()).filter(|n| g.nodes[*n].start).map(|n| g.text(&level.game, n)).collect();
        assert_eq!(starts, begun.starts.iter().map(|at| (at + 1).to_string()).collect(), "{text}");
        let counted = count_solutions(store, &level, &budget());
        if let Ok(counted) = counted {
            assert_eq!(counted.found.won, c.goal, "{text}");
        }
        several += usize::from(begun.starts.len() > 1);
    });
    assert!(several > 20, "{several}");
}

#[test]
fn the_nearest_start_is_named_with_the_way_from_it() {
    let (mut found_some, mut solved) = (0, 0);
    each_begun(100..160, |begun, store, mut level, text| {
        let depths = begun.depths();
        for (at, depth) in depths.iter().enumerate() {
            let condition = format!("at == {}", at + 1);
            let answer = find(store, &mut level, &condition, (Draws::Some, 0), &budget()).expect("an answer");
            let found = &answer.found;
            assert_eq!(found.depth.map(|d| d as u32), *depth, "{condition}: {text}");
            if let Some(moves) = &found.moves {
                assert_eq!(Some(moves.len() as u32), *depth, "{condition}: {text}");
                let leads = begun.leads(found.begins_at.as_deref(), moves, at);
                assert!(leads, "{moves:?} from {:?} to {}: {text}", found.begins_at, at + 1);
                assert!(found.begins_at.is_some() || begun.starts.len() == 1, "{condition}: {text}");
                found_some += 1;
            }
            for most in [1, 3, 5] {
                let cut =
                    find(store, &mut level, &condition, (Draws::Some, 0), &few(most)).expect("an answer");
                assert!(
                    cut.end() == answer.end() || cut.end() == End::Undecided,
                    "{most}, {condition}: {text}"
                );
            }
        }
        let answer = solve(store, &level, Promise::Best, &budget(), None).expect("an answer");
        let goal = (0..begun.map.len()).filter(|at| begun.map.won[*at]).filter_map(|at| depths[at]).min();
        assert_eq!(answer.found.moves.map(|n| n as u32), goal, "{text}");
        if let Some(moves) = &answer.found.solution {
            let won = (0..begun.map.len()).filter(|at| begun.map.won[*at]);
            let leads = won.into_iter().any(|at| begun.leads(answer.found.begins_at.as_deref(), moves, at));
            assert!(leads, "{moves:?} from {:?}: {text}", answer.found.begins_at);
            assert_eq!(answer.found.if_lucky, begun.starts.len() > 1 || !level.game.is_sure(), "{text}");
            solved += 1;
        }
    });
    assert!(found_some > 200 && solved > 10, "{found_some} {solved}");
}

#[test]
fn within_some_moves_from_one_start_or_from_each() {
    let (mut some, mut every) = (0, 0);
    each_begun(200..240, |begun, store, mut level, text| {
        for at in 0..begun.map.len() {
            let condition = format!("at == {}", at + 1);
            // How soon it can be brought about from each landing, by some play, for some draws or for all.
            let soon = |draws: Draws| -> Vec<Option<u32>> {
                let mut out: Vec<Option<u32>> =
                    (0..begun.map.len()).map(|n| (n == at).then_some(0)).collect();
                for k in 1..=4 {
                    let was = out.clone();
                    for n in (0..begun.map.len()).filter(|n| was[*n].is_none()) {
                        let leads = begun.map.allowed(n).into_iter().any(|(_, to)| match draws {
                            Draws::Some => to.iter().any(|t| was[t.0].is_some()),
                            Draws::Every => to.iter().all(|t| was[t.0].is_some()),
                        });
                        if leads {
                            out[n] = Some(k);
                        }
                    }
                }
                out
            };
            for draws in [Draws::Some, Draws::Every] {
                let how = (4, Plays::Some, draws);
                let found = near(store, &mut level, &condition, how, &budget()).expect("an answer");
                let each: Vec<Option<u32>> = begun.starts.iter().map(|s| soon(draws)[*s]).collect();
                // Where play begins is drawn, too.
                let want = match draws {
                    Draws::Some => each.iter().flatten().min().copied(),
                    Draws::Every if each.iter().any(Option::is_none) => None,
                    Draws::Every => each.iter().flatten().max().copied(),
                };
                assert_eq!(found.found.after, want, "{draws:?} {condition}: {text}");
                assert_eq!(found.end() == End::Yes, want.is_some(), "{draws:?} {condition}: {text}");
                match draws {
                    Draws::Some => some += usize::from(want.is_some()),
                    Draws::Every => every += usize::from(want.is_some()),
                }
            }
        }
    });
    assert!(some > 100 && every > 10, "{some} {every}");
}
