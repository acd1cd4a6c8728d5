//! Guided searches over the moves of small random games: what they find is a way, what they prove is so, and their limits hold.

use fendle_core::Limit;
use fendle_core::guided::Found;
use fendle_core::guided::beam::{self, Wide};
use fendle_core::guided::best::{self, Ask, Order};
use fendle_core::guided::dive::{self, Dive, Prefer};
use fendle_core::guided::ground::Moves;
use fendle_core::guided::shorten::shorten;
use fendle_core::table::Table;
use fendle_core::{Limits, MoveId, NoWatch, Route, Status};
use rand::{Rng, SeedableRng, rngs::SmallRng};

use crate::games::Game;

/// A game without chance that begins at state 0.
fn sure(seed: u64, most: usize) -> Game {
    let mut rng = SmallRng::seed_from_u64(seed);
    let states = rng.random_range(4..most);
    let mut game = Game::any(&mut rng, states, false);
    game.starts = vec![(0, 1)];
    // Fewer ends than the others have, so that ways are longer.
    for s in 1..game.len() {
        if game.status[s] != Status::Running && rng.random_range(0..3) > 0 {
            game.status[s] = Status::Running;
        }
    }
    game
}

/// Moves to the nearest goal.
fn nearest(game: &Game) -> Option<u32> {
    let depths = game.depths();
    (0..game.len()).filter(|s| game.status[*s] == Status::Goal).filter_map(|s| depths[s]).min()
}

/// The states that some moves lead through from the start, if each can be made.
fn led(game: &Game, steps: &[u32]) -> Option<Vec<usize>> {
    let mut through = vec![0];
    for step in steps {
        let own = game.open(through[through.len() - 1]).iter().find(|m| m.0 == *step)?;
        through.push(own.1[0].0);
    }
    Some(through)
}

/// What was found is a way to a goal, and no more was seen than was allowed. Says how long the way is.
fn checked(game: &Game, found: &Found, most: u64, what: &str) -> Option<u32> {
    assert!(found.states <= most, "{} of {most} states, {what}: {game:?}", found.states);
    assert!(!found.broke && found.cut == 0, "{what}: {game:?}");
    assert!(found.limit.is_none() || found.limit == Some(Limit::MaxStates), "{what}: {game:?}");
    if let Some(nearest) = nearest(game) {
        assert!(found.least.is_some_and(|l| l <= nearest), "{:?}, {nearest}, {what}: {game:?}", found.least);
    }
    let steps = found.steps.as_ref()?;
    let through = led(game, steps).unwrap_or_else(|| panic!("{steps:?}, {what}: {game:?}"));
    assert_eq!(game.status[through[through.len() - 1]], Status::Goal, "{what}: {game:?}");
    Some(steps.len() as u32)
}

/// A game as the moves of a guided search, which is told nothing more of it.
fn ground(table: &Table) -> Moves<'_> {
    Moves { model: table, start: vec![0], bounds: None, asks_promise: false, counts: false }
}

fn each_limit(mut ask: impl FnMut(Limits)) {
    for most in [1, 2, 3, 5, 9, 20, u64::MAX] {
        for threads in [1, 2] {
            ask(Limits { max_states: most, threads, ..Limits::default() });
        }
    }
}

#[test]
fn the_least_sum_first_finds_and_proves_what_breadth_does() {
    let (mut found_some, mut proved_none, mut cut) = (0, 0, 0);
    for seed in 0..150 {
        let game = sure(seed, 40);
        let table = game.table();
        let ground = ground(&table);
        each_limit(|limits| {
            let ask = Ask { order: Order::SHORTEST, any: false, below: u32::MAX, states: u64::MAX };
            let found = best::search(&ground, ask, &limits, &NoWatch);
            let length = checked(&game, &found, limits.max_states, "shortest");
            if found.limit.is_some() {
                assert!(limits.max_states < game.len() as u64, "{game:?}");
                cut += 1;
                return;
            }
            assert_eq!(length, nearest(&game), "{game:?}");
            assert_eq!(found.has_seen_all(), length.is_none(), "{game:?}");
            found_some += usize::from(length.is_some());
            proved_none += usize::from(length.is_none());
            // Where one is known, only shorter ones are looked for.
            if let Some(length) = length {
                let none = best::search(&ground, Ask { below: length, ..ask }, &limits, &NoWatch);
                assert_eq!((none.steps, none.least), (None, Some(length)), "{game:?}");
                let any = best::search(&ground, Ask { any: true, ..ask }, &limits, &NoWatch);
                assert!(checked(&game, &any, limits.max_states, "any").is_some_and(|n| n >= length));
            }
        });
    }
    assert!(found_some > 100 && proved_none > 100 && cut > 100, "{found_some} {proved_none} {cut}");
}

#[test]
fn beams_and_dives_find_ways_or_give_up() {
    let (mut beams, mut dives, mut gave_up) = (0, 0, 0);
    for seed in 200..350 {
        let game = sure(seed, 40);
        let table = game.table();
        let ground = ground(&table);
        let nearest = nearest(&game);
        each_limit(|limits| {
            for (width, many) in [(1, false), (3, true), (100, false)] {
                let wide = Wide { width, least: 1, guess: 0, below: u32::MAX, states: 10_000, seed, many };
                let found = beam::search(&ground, wide, &limits, &NoWatch);
                let length = checked(&game, &found, limits.max_states, "beam");
                // One that keeps everything goes by depth.
                if width == 100 && limits.max_states == u64::MAX {
                    assert_eq!(length, nearest, "{game:?}");
                }
                assert!(length.is_none() || length >= nearest, "{game:?}");
                beams += usize::from(length.is_some());
                gave_up += usize::from(found.gave_up);
            }
            for prefer in [Prefer::Few, Prefer::Many] {
                let found = dive::search(&ground, Dive { prefer, states: 10_000, seed }, &limits, &NoWatch);
                let length = checked(&game, &found, limits.max_states, "dive");
                if limits.max_states == u64::MAX {
                    assert_eq!(
                        length.is_some(),
                        nearest.is_some(),
                        "it goes back where nothing is left: {game:?}"
                    );
                }
                assert!(length.is_none() || length >= nearest, "{game:?}");
                dives += usize::from(length.is_some());
            }
        });
    }
    assert!(beams > 200 && dives > 200 && gave_up > 50, "{beams} {dives} {gave_up}");
}

#[test]
fn a_way_is_shortened_and_stays_a_way() {
    let (mut shorter, mut shortest) = (0, 0);
    for seed in 400..600 {
        let game = sure(seed, 200);
        let table = game.table();
        let ground = ground(&table);
        let dive = Dive { prefer: Prefer::Many, states: 10_000, seed };
        let Some(steps) = dive::search(&ground, dive, &Limits::default(), &NoWatch).steps else { continue };
        let through = led(&game, &steps).expect("a way");
        let mut route = Route {
            moves: steps.iter().map(|s| MoveId(*s)).collect(),
            states: through.iter().map(|s| vec![*s as u64]).collect(),
        };
        let mut told = vec![];
        assert_eq!(shorten(&table, &mut route, 1_000, &NoWatch, &mut |n| told.push(n)), None);
        let again: Vec<u32> = route.moves.iter().map(|m| m.0).collect();
        let now = led(&game, &again).unwrap_or_else(|| panic!("{again:?}: {game:?}"));
        assert_eq!(now.iter().map(|s| vec![*s as u64]).collect::<Vec<_>>(), route.states, "{game:?}");
        assert_eq!(game.status[now[now.len() - 1]], Status::Goal, "{game:?}");
        assert!(again.len() <= steps.len() && told.windows(2).all(|w| w[0] > w[1]), "{told:?}: {game:?}");
        assert_eq!(told.last().copied().unwrap_or(steps.len()), again.len(), "{game:?}");
        shorter += usize::from(again.len() < steps.len());
        shortest += usize::from(Some(again.len() as u32) == nearest(&game));
    }
    assert!(shorter > 5 && shortest > 15, "{shorter} {shortest}");
}
