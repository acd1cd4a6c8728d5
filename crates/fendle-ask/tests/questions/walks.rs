//! Random maps without chance: every question against a plain look at the map.

use std::collections::BTreeSet;

use fendle_ask::count::count_solutions;
use fendle_ask::explore::{How, SpaceVerdict, explore};
use fendle_ask::find::{Draws, find};
use fendle_ask::graph::{Cut, Keep, graph, matching};
use fendle_ask::hunt::Promise;
use fendle_ask::moves::moves;
use fendle_ask::near::{Plays, near};
use fendle_ask::review::review;
use fendle_ask::solve::solve;
use fendle_ask::trace::trace;
use fendle_ask::why::{Reason, one_position};
use fendle_ask::{End, Loaded, Store};
use fendle_core::space::Class;

use crate::common::{self, Dice, MOVES, Map, budget, loaded, seeds};

/// What the map itself says.
struct Look {
    /// Moves from the start, of what can be reached.
    depth: Vec<Option<u32>>,
    /// Moves to the nearest goal.
    far: Vec<Option<u32>>,
    class: Vec<Class>,
}

impl Look {
    fn at(map: &Map) -> Look {
        Look { depth: map.depths(&[0]), far: map.far(), class: map.classes() }
    }

    fn reached(&self) -> impl Iterator<Item = usize> + '_ {
        (0..self.depth.len()).filter(|at| self.depth[*at].is_some())
    }

    fn count(&self, class: Class) -> u64 {
        self.reached().filter(|at| self.class[*at] == class).count() as u64
    }

    /// The fatal moves of a landing.
    fn fatal(&self, map: &Map, at: usize) -> Vec<usize> {
        let fatal = map.allowed(at).into_iter().filter(|(_, to)| self.class[to[0].0].is_bad());
        if self.class[at] == Class::Winnable { fatal.map(|(m, _)| m).collect() } else { vec![] }
    }

    /// What can be reached from a landing, that landing among it, without passing `shut`.
    fn from(map: &Map, start: usize, shut: Option<usize>) -> Vec<bool> {
        let mut met = vec![false; map.len()];
        let mut work: Vec<usize> = (Some(start) != shut).then_some(start).into_iter().collect();
        while let Some(at) = work.pop() {
            if !std::mem::replace(&mut met[at], true) {
                work.extend(map.allowed(at).iter().map(|(_, to)| to[0].0).filter(|to| Some(*to) != shut));
            }
        }
        met
    }
}

/// Calls `ask` with some maps without chance, what they say themselves, and their levels.
fn each_map(seeds: std::ops::Range<u64>, mut ask: impl FnMut(&Map, &Look, &mut Store, Loaded)) {
    common::each_map(seeds, false, |map, store, level| ask(map, &Look::at(map), store, level));
}

#[test]
fn spaces_hold_what_the_map_holds() {
    each_map(0..150, |map, look, store, level| {
        let answer = explore(store, &level, How::default(), &budget()).expect("an answer");
        let c = &answer.found.counts;
        let text = map.model();
        assert_eq!(c.states, look.reached().count() as u64, "{text}");
        let classes = [Class::Goal, Class::Lost, Class::Stuck, Class::Dead, Class::Winnable];
        assert_eq!([c.goal, c.lost, c.stuck, c.dead, c.winnable], classes.map(|k| look.count(k)), "{text}");
        let transitions: usize = look.reached().map(|at| map.allowed(at).len()).sum();
        let pairs: BTreeSet<(usize, usize)> = look
            .reached()
            .flat_map(|at| map.allowed(at).into_iter().map(move |(_, to)| (at, to[0].0)))
            .collect();
        assert_eq!((c.transitions, c.edges), (transitions as u64, pairs.len() as u64), "{text}");
        assert_eq!(c.depth, look.reached().filter_map(|at| look.depth[at]).max().expect("the start"));
        let fatal: Vec<(usize, usize)> =
            look.reached().flat_map(|at| look.fatal(map, at).into_iter().map(move |m| (at, m))).collect();
        assert_eq!(c.fatal_moves, fatal.len() as u64, "{text}");
        let nearest = fatal.iter().filter_map(|(at, _)| look.depth[*at]).min();
        assert_eq!(c.first_fatal_depth, nearest, "{text}");
        assert_eq!(answer.found.nearest_fatal_move.as_ref().map(|f| f.depth as u32), nearest);
        let verdict =
            if c.shortest.is_some() { SpaceVerdict::Solvable(look.far[0]) } else { SpaceVerdict::Unsolvable };
        assert_eq!(
            (SpaceVerdict::of(c), c.shortest, answer.end()),
            (verdict, look.far[0], End::Yes),
            "{text}"
        );
    });
}

#[test]
fn solutions_are_the_first_shortest_ways() {
    each_map(150..300, |map, look, store, level| {
        let answer = solve(store, &level, Promise::Best, &budget(), None).expect("an answer");
        // Of all moves that come nearer the first one, at each landing.
        let mut want = vec![];
        let mut at = 0;
        while let Some(left) = look.far[at].filter(|d| *d > 0) {
            let nearer = |to: usize| look.far[to] == Some(left - 1);
            let (m, to) = map.allowed(at).into_iter().find(|(_, to)| nearer(to[0].0)).expect("a way goes on");
            want.push(MOVES[m].to_string());
            at = to[0].0;
        }
        let text = map.model();
        assert_eq!(answer.found.solution, look.far[0].map(|_| want), "{text}");
        assert_eq!(
            answer.found.verdict,
            if look.far[0].is_some() { "solvable" } else { "unsolvable" },
            "{text}"
        );
        assert!(answer.found.shortest || look.far[0].is_none(), "{text}");
        let lines: Vec<&str> = answer.found.positions.iter().map(|p| p.line.as_str()).collect();
        if look.far[0].is_some() {
            assert_eq!((lines[0], lines[lines.len() - 1]), ("1", (at + 1).to_string().as_str()), "{text}");
        }
    });
}

/// The ways to a goal, counted by the landings that they lead over; `None` where there is no end of them.
fn ways(map: &Map, look: &Look, at: usize, on_way: &mut Vec<usize>) -> Option<u64> {
    if map.won[at] {
        return Some(1);
    }
    if look.far[at].is_none() {
        return Some(0);
    }
    if on_way.contains(&at) {
        return None;
    }
    on_way.push(at);
    let sum = map.allowed(at).iter().map(|(_, to)| ways(map, look, to[0].0, on_way)).sum();
    on_way.pop();
    sum
}

#[test]
fn solutions_are_counted() {
    let (mut endless, mut several) = (0, 0);
    each_map(300..450, |map, look, store, level| {
        let found = count_solutions(store, &level, &budget()).expect("an answer").found;
        let text = map.model();
        assert_eq!((found.won, found.moves), (look.count(Class::Goal), look.far[0]), "{text}");
        let ended = look.count(Class::Lost) + look.count(Class::Stuck);
        assert_eq!((found.ended_otherwise, found.complete), (ended, true), "{text}");
        if look.far[0].is_none() {
            return;
        }
        let all = ways(map, look, 0, &mut vec![]);
        assert_eq!((found.all.clone(), found.endless), (all.map(|n| n.to_string()), all.is_none()), "{text}");
        fn shortest(map: &Map, look: &Look, at: usize) -> u64 {
            let nearer = |to: usize| look.far[to].map(|d| d + 1) == look.far[at];
            if map.won[at] {
                return 1;
            }
            let list = map.allowed(at);
            list.iter().filter(|(_, to)| nearer(to[0].0)).map(|(_, to)| shortest(map, look, to[0].0)).sum()
        }
        let few = shortest(map, look, 0);
        assert_eq!(found.shortest, Some(few.to_string()), "{text}");
        endless += u32::from(all.is_none());
        several += u32::from(few > 1);
    });
    assert!(endless > 10 && several > 5, "{endless} maps without end, {several} with several ways");
}

#[test]
fn structure_is_what_taking_landings_away_shows() {
    let mut passed = 0;
    each_map(450..600, |map, look, store, level| {
        let how = How { structure: Some(true), ..How::default() };
        let found = explore(store, &level, how, &budget()).expect("an answer").found;
        let parts = found.structure.expect("it was asked for").0.expect("a small space");
        let s = &parts.structure;
        let text = map.model();
        // Rooms: landings that reach each other.
        let reach: Vec<Vec<bool>> = (0..map.len()).map(|at| Look::from(map, at, None)).collect();
        let room = |at: usize| (0..map.len()).find(|other| reach[at][*other] && reach[*other][at]);
        let rooms: BTreeSet<_> = look.reached().map(room).collect();
        let size = |r: &Option<usize>| look.reached().filter(|at| room(*at) == *r).count() as u64;
        assert_eq!(
            (s.rooms.rooms, s.rooms.largest),
            (rooms.len() as u64, rooms.iter().map(size).max().unwrap_or(0)),
            "{text}"
        );
        let doors: BTreeSet<(usize, usize)> = look
            .reached()
            .flat_map(|at| map.allowed(at).into_iter().map(move |(_, to)| (at, to[0].0)))
            .filter(|(a, b)| room(*a) != room(*b))
            .collect();
        assert_eq!(s.rooms.doors, doors.len() as u64, "{text}");
        // A trap: dead landings that reach each other, of which no door leads out.
        let traps: Vec<_> = rooms
            .iter()
            .filter(|r| look.reached().any(|at| room(at) == **r && look.class[at] == Class::Dead))
            .filter(|r| doors.iter().all(|(a, _)| room(*a) != **r))
            .collect();
        let in_traps: u64 = traps.iter().map(|r| size(r)).sum();
        assert_eq!((s.rooms.traps, s.rooms.trap_states), (traps.len() as u64, in_traps), "{text}");
        // Delay: moves from where a fatal move leads until the game shows it.
        let shows = |at: usize| {
            let mut ring = BTreeSet::from([at]);
            let mut met = ring.clone();
            for delay in 0.. {
                let ended = |at: &usize| !matches!(look.class[*at], Class::Dead);
                if ring.iter().any(ended) {
                    return Some(delay);
                }
                let next = ring.iter().flat_map(|at| map.allowed(*at)).map(|(_, to)| to[0].0);
                ring = next.filter(|to| met.insert(*to)).collect();
                if ring.is_empty() {
                    return None;
                }
            }
            None
        };
        let fatal = look.reached().flat_map(|at| look.fatal(map, at).into_iter().map(move |m| (at, m)));
        let delays: Vec<Option<u32>> = fatal.map(|(at, m)| shows(map.ways[at][m][0].0)).collect();
        let (seen, never) =
            (delays.iter().flatten().count() as u64, delays.iter().filter(|d| d.is_none()).count() as u64);
        assert_eq!((s.delay.shows, s.delay.never_shows), (seen, never), "{text}");
        assert_eq!(s.delay.sum, delays.iter().flatten().map(|d| u64::from(*d)).sum::<u64>(), "{text}");
        if look.far[0].is_none() {
            assert!(s.must_pass.is_empty() && s.shortest.is_none(), "{text}");
            return;
        }
        // Must-pass: without it no goal is left to be reached. Goals are no landings on the way.
        let must: BTreeSet<String> = look
            .reached()
            .filter(|at| !Look::from(map, 0, Some(*at)).iter().zip(&map.won).any(|(met, won)| *met && *won))
            .map(|at| (at + 1).to_string())
            .collect();
        let told: BTreeSet<String> = parts.must_pass.iter().map(|p| p.line.clone()).collect();
        assert_eq!(told, must, "{text}");
        passed += must.len();
        let shortest = s.shortest.as_ref().expect("it can be won");
        let on_way = look.reached().filter(|at| match (look.depth[*at], look.far[*at], look.far[0]) {
            (Some(here), Some(left), Some(all)) => here + left == all,
            _ => false,
        });
        assert_eq!((Some(shortest.moves), shortest.states), (look.far[0], on_way.count() as u64), "{text}");
        // The corridor: moves that keep the game winnable.
        let of_winnable = || look.reached().filter(|at| look.class[*at] == Class::Winnable);
        let all: usize = of_winnable().map(|at| map.allowed(at).len()).sum();
        let lost: usize = of_winnable().map(|at| look.fatal(map, at).len()).sum();
        assert_eq!((s.corridor.part, s.corridor.all), ((all - lost) as u64, all as u64), "{text}");
    });
    assert!(passed > 80, "{passed} landings that must be passed");
}

#[test]
fn every_landing_is_told_why() {
    each_map(600..660, |map, look, _, _| {
        let text = map.model();
        for at in look.reached() {
            let mut store = Store::default();
            let here = (at + 1).to_string();
            let level = loaded(&mut store, &map.texts(), "walk.toml", "map", Some(&here));
            let why = one_position(&store, &level, false, &budget()).expect("an answer").found;
            assert_eq!(why.position.line, here);
            match (&why.reason, look.class[at]) {
                (Reason::Ended(_), Class::Goal | Class::Lost) => {}
                (Reason::Dead(dead), Class::Dead | Class::Stuck) => {
                    assert_eq!(dead.class, look.class[at], "{at} of {text}");
                    let from = Look::from(map, at, None);
                    assert_eq!(dead.states, from.iter().filter(|met| **met).count() as u64, "{at} of {text}");
                }
                (Reason::Winnable(w), Class::Winnable) => {
                    assert_eq!((w.far, w.moves), (look.far[at], map.allowed(at).len()), "{at} of {text}");
                    let fatal: Vec<&str> = look.fatal(map, at).into_iter().map(|m| MOVES[m]).collect();
                    let told: Vec<&str> = w.fatal.iter().map(|f| f.name.as_str()).collect();
                    assert_eq!(told, fatal, "{at} of {text}");
                }
                (Reason::Kept(_), Class::Dead | Class::Stuck) => {}
                (reason, class) => panic!("{class:?} is told as {reason:?}: {at} of {text}"),
            }
            let listed = moves(&store, &level, &budget()).expect("an answer").found;
            // Past a won position moves are told, too; past a lost one there are none.
            let open = map.ways[at].iter().filter(|to| !to.is_empty()).count();
            let told = (listed.allowed.len(), listed.refused.len());
            assert_eq!(told, if map.lost[at] { (0, 0) } else { (open, 3 - open) }, "{at} of {text}");
        }
    });
}

#[test]
fn conditions_are_found_where_they_hold_first() {
    each_map(660..720, |map, look, store, mut level| {
        let text = map.model();
        for at in 0..map.len() {
            let condition = format!("at == {}", at + 1);
            let found = find(store, &mut level, &condition, (Draws::Some, 0), &budget()).expect("an answer");
            assert_eq!(found.found.count, u64::from(look.depth[at].is_some()), "{condition}: {text}");
            assert_eq!(found.found.depth.map(|d| d as u32), look.depth[at], "{condition}: {text}");
            assert_eq!(found.end(), if look.depth[at].is_some() { End::Yes } else { End::No });
            for within in [0, 2, 5] {
                let how = (within, Plays::Some, Draws::Some);
                let near = near(store, &mut level, &condition, how, &budget()).expect("an answer").found;
                let soon = look.depth[at].filter(|d| *d <= within);
                assert_eq!(near.after, soon, "{condition} within {within}: {text}");
                assert_eq!(near.first.is_empty(), soon.is_none_or(|d| d == 0), "{condition}: {text}");
            }
        }
        for (word, class) in
            [("dead", Class::Dead), ("stuck", Class::Stuck), ("won", Class::Goal), ("lost", Class::Lost)]
        {
            let found = find(store, &mut level, word, (Draws::Some, 0), &budget()).expect("an answer");
            let some = look.reached().filter(|at| look.class[*at] == class);
            let depths: Vec<u32> = some.filter_map(|at| look.depth[at]).collect();
            assert_eq!(found.found.count, depths.len() as u64, "{word}: {text}");
            assert_eq!(found.found.depth.map(|d| d as u32), depths.iter().min().copied(), "{word}: {text}");
        }
    });
}

#[test]
fn plays_are_traced_and_reviewed_move_by_move() {
    let mut seen_fatal = 0;
    for seed in seeds(720..840) {
        let mut dice = Dice::new(seed);
        let map = Map::any(&mut dice, false);
        let look = Look::at(&map);
        // Some play: moves that are allowed, with a refused one now and then.
        let (mut at, mut play, mut places) = (0, vec![], vec![0]);
        for (m, to) in map.play(&mut dice, 8) {
            if let Some(closed) = (0..3).find(|m| map.ways[at][*m].is_empty()).filter(|_| dice.below(3) == 0)
            {
                play.push((MOVES[closed], false));
            }
            play.push((MOVES[m], true));
            at = to;
            places.push(at);
        }
        let mut store = Store::default();
        let level = loaded(&mut store, &map.texts(), "walk.toml", "map", None);
        let text = map.model();
        let is_fatal = |w: &[usize]| look.class[w[0]] == Class::Winnable && look.class[w[1]].is_bad();
        let fatal = places.windows(2).position(is_fatal).map(|i| i + 1);
        seen_fatal += u32::from(fatal.is_some());
        let made: Vec<&str> = play.iter().filter(|m| m.1).map(|m| m.0).collect();
        let traced = trace(&mut store, &level, &made.join("; "), true, &budget()).expect("an answer");
        let lines: Vec<String> = traced.found.steps.iter().map(|s| s.position.line.clone()).collect();
        let want: Vec<String> = places[1..].iter().map(|p| (p + 1).to_string()).collect();
        assert_eq!((lines, traced.found.first_fatal_move), (want, fatal), "{made:?}: {text}");
        assert!(traced.found.stopped.is_none() && traced.end() == End::Yes, "{made:?}: {text}");
        if let Some(first) = play.iter().position(|m| !m.1) {
            let until: Vec<&str> = play[..=first].iter().map(|m| m.0).collect();
            let refused = trace(&mut store, &level, &until.join("; "), false, &budget()).expect("an answer");
            let stopped = refused.found.stopped.as_ref().expect("the last one is refused");
            assert_eq!(
                (refused.found.steps.len(), stopped.why.clone()),
                (first, format!("no way {}", until[first]))
            );
            assert_eq!(refused.end(), End::No);
        }
        if play.is_empty() {
            continue;
        }
        let all: Vec<&str> = play.iter().map(|m| m.0).collect();
        let seen = review(&mut store, &level, &all.join("; "), &budget()).expect("an answer").found;
        assert_eq!((seen.moves, seen.refused), (made.len(), all.len() - made.len()), "{all:?}: {text}");
        assert_eq!((seen.minimum, seen.first_fatal_move), (look.far[0], fatal), "{all:?}: {text}");
        // A move that comes nearer costs nothing, one that stays one, one that goes back two.
        let until = fatal.map_or(places.len(), |f| f);
        let cost = |w: &[usize]| Some(look.far[w[1]]? + 1 - look.far[w[0]]?);
        let lost: u32 = places[..until].windows(2).filter_map(cost).sum();
        assert_eq!(seen.moves_lost, lost, "{all:?}: {text}");
        assert_eq!(seen.went_on, fatal.map(|f| places.len() - 1 - f), "{all:?}: {text}");
    }
    assert!(seen_fatal > 8, "{seen_fatal} plays with a fatal move");
}

#[test]
fn graphs_are_cut_as_the_map_can_be() {
    each_map(840..920, |map, look, store, level| {
        let text = map.model();
        let cut = |keep| Cut { keep, around: None, rooms: false, most: 100 };
        let of = |cut: &Cut| graph(store, &level, cut, 1.0, &budget()).expect("an answer").found;
        let all = of(&cut(Keep::All));
        assert_eq!(all.nodes.len(), look.reached().count(), "{text}");
        let fatal: usize = look.reached().map(|at| look.fatal(map, at).len()).sum();
        assert_eq!(all.arrows.iter().filter(|a| a.fatal).count(), fatal, "{text}");
        for (node, n) in all.nodes.iter().enumerate() {
            let at: usize = all.text(&level.game, node).parse::<usize>().expect("a number") - 1;
            assert_eq!(
                (Some(n.depth), n.class, n.start),
                (look.depth[at], look.class[at], at == 0),
                "{text}"
            );
        }
        let kept = |keep: Keep| {
            look.reached()
                .filter(|at| match keep {
                    Keep::All => true,
                    Keep::Alive => matches!(look.class[*at], Class::Goal | Class::Winnable) || *at == 0,
                    Keep::Winnable => matches!(look.class[*at], Class::Goal | Class::Winnable),
                    Keep::Shortest => match (look.depth[*at], look.far[*at], look.far[0]) {
                        (Some(here), Some(left), Some(all)) => here + left == all,
                        _ => false,
                    },
                })
                .count()
        };
        if look.far[0].is_some() {
            for keep in [Keep::Alive, Keep::Winnable, Keep::Shortest] {
                assert_eq!(of(&cut(keep)).nodes.len(), kept(keep), "{keep:?}: {text}");
            }
        }
        let rooms = of(&Cut { rooms: true, ..cut(Keep::All) });
        assert_eq!(rooms.nodes.iter().map(|n| n.count).sum::<u64>(), look.reached().count() as u64, "{text}");
        let same = matching((&level.game, &all), (&level.game, &of(&cut(Keep::All))), &budget());
        assert_eq!(same.pairs.len(), all.nodes.len(), "{text}");
    });
}
