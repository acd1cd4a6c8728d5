//! Guided search on boards that are small enough to be looked through: what it finds and what it proves, with and without limits.

use fendle_ask::bound::puzzle;
use fendle_ask::hunt::{Hunt, Hunted, Promise, first_relaxed};
use fendle_ask::{Loaded, Store};
use fendle_core::{Expansion, Limits, Model, NoWatch, Status, Verdict, solve};

use crate::common::{Dice, Map, Texts, budget, few, loaded, seeds};

/// Moves of a shortest solution, by looking through everything.
fn shortest(level: &Loaded) -> Option<u32> {
    match solve(&level.game, Limits::default(), &NoWatch).expect("a start").verdict {
        Verdict::Solvable(route) => Some(route.moves.len() as u32),
        Verdict::Unsolvable => None,
        other => panic!("{other:?}"),
    }
}

/// Hunts with the relaxed puzzles of the level, where it has some.
fn hunted(level: &Loaded, promise: Promise, most: Option<u64>) -> Hunted {
    let budget = most.map_or(budget(), few);
    let relaxed =
        puzzle(&level.game, &budget).and_then(|task| first_relaxed(&level.game, task, &budget).ok());
    Hunt::new(&level.game, promise, 0, &budget).run(relaxed)
}

/// What was found holds, whatever ended the hunt; tells how many moves its solution has.
fn checked(level: &Loaded, found: &Hunted, shortest: Option<u32>, text: &str) -> Option<u32> {
    match (found.least, shortest) {
        (None, None) => assert!(found.why_none.is_some(), "it is not told why: {text}"),
        (None, Some(moves)) => panic!("it has a solution of {moves} moves: {text}"),
        (Some(least), Some(moves)) => {
            assert!(least <= moves, "{least} at the least, but {moves} are enough: {text}")
        }
        (Some(_), None) => {}
    }
    assert!(found.fault.is_none(), "{text}");
    let (game, route) = found.route.as_ref()?;
    let words = game.layout().words();
    let (mut worker, mut out) = (game.worker(), Expansion::default());
    let starts = game.starts().expect("a start");
    assert_eq!(starts[0].state, route.states[0], "{text}");
    for (of, pair) in route.moves.iter().zip(route.states.windows(2)) {
        out.clear();
        worker.expand(&pair[0], false, &mut out);
        let made = out.runs.iter().zip(out.outcomes.chunks_exact(words));
        assert!(made.into_iter().any(|(run, to)| run.of == *of && to == pair[1]), "no such move: {text}");
    }
    let last = route.states.last().expect("a start");
    assert_eq!(worker.status(last), Ok(Status::Goal), "{text}");
    let moves = route.moves.len() as u32;
    assert!(shortest.is_some_and(|s| s <= moves), "{moves}, {shortest:?}: {text}");
    assert!(level.game.moves_len() > 0, "{text}");
    Some(moves)
}

/// All promises, without a limit and with some.
fn each_hunt(level: &Loaded, text: &str) -> (bool, u32) {
    let shortest = shortest(level);
    let mut cut = 0;
    for promise in [Promise::Best, Promise::Any, Promise::Shortest] {
        let whole = hunted(level, promise, None);
        let moves = checked(level, &whole, shortest, text);
        assert_eq!(moves.is_some(), shortest.is_some(), "{promise:?}: {text}");
        if promise != Promise::Any {
            assert_eq!((moves, whole.least), (shortest, shortest), "{promise:?}: {text}");
        }
        for most in [1, 2, 3, 5, 8, 13, 30, 80, 200, 1_000] {
            let found = hunted(level, promise, Some(most));
            let text = format!("{promise:?}, {most} states: {text}");
            assert!(found.states <= most, "{} states: {text}", found.states);
            let moves = checked(level, &found, shortest, &text);
            if found.limit.is_none() && promise != Promise::Any {
                assert_eq!((moves, found.least), (shortest, shortest), "no limit, no doubt: {text}");
            }
            cut += u32::from(found.limit.is_some());
        }
    }
    (shortest.is_some(), cut)
}

#[test]
fn walks_are_hunted_as_they_are_looked_through() {
    let (mut solved, mut cut) = (0, 0);
    for seed in seeds(6000..6040) {
        let map = Map::any(&mut Dice::new(seed), false);
        let mut store = Store::default();
        let level = loaded(&mut store, &map.texts(), "walk.toml", "map", None);
        let (solvable, cuts) = each_hunt(&level, &map.model());
        solved += u32::from(solvable);
        cut += cuts;
    }
    assert!(solved > 10 && cut > 100, "{solved} solved, {cut} cut");
}

#[test]
fn yards_are_hunted_as_they_are_looked_through() {
    const SHOVE: &str = include_str!("../../../../models/shove.fendle");
    let (mut solved, mut unsolved, mut cut) = (0, 0, 0);
    for seed in seeds(0..30) {
        let mut dice = Dice::new(seed);
        let (rows, cols) = (3 + dice.below(2), 3 + dice.below(2));
        let mut cells: Vec<char> =
            (0..rows * cols).map(|_| if dice.below(7) == 0 { 'H' } else { '.' }).collect();
        // Room inside for a barge and the agent.
        let inside =
            |at: &usize| (1..rows - 1).contains(&(at / cols)) && (1..cols - 1).contains(&(at % cols));
        if (0..cells.len()).filter(|at| inside(at) && cells[*at] == '.').count() < 2 {
            continue;
        }
        let mut put = |what: char| {
            loop {
                let at = dice.below(cells.len());
                // A barge at the rim stays there.
                if cells[at] == '.' && (what != 'o' || inside(&at)) {
                    cells[at] = what;
                    return;
                }
            }
        };
        put('A');
        put('o');
        put('_');
        let rows: Vec<String> = cells.chunks(cols).map(|r| r.iter().collect()).collect();
        let yard = rows.join("\n");
        let level =
            format!("model = 'shove.fendle'\n[[level]]\nname = 'yard'\nstart.yard = '''\n{yard}\n'''\n");
        let texts = Texts::new([("shove.fendle", SHOVE), ("shove.toml", &level)]);
        let mut store = Store::default();
        let level = loaded(&mut store, &texts, "shove.toml", "yard", None);
        let (solvable, cuts) = each_hunt(&level, &yard);
        solved += u32::from(solvable);
        unsolved += u32::from(!solvable);
        cut += cuts;
    }
    assert!(solved > 8 && unsolved > 1 && cut > 50, "{solved} solved, {unsolved} not, {cut} cut");
}

#[test]
fn trays_are_hunted_as_they_are_looked_through() {
    const SLIDE: &str = include_str!("../../../../models/slide.fendle");
    let mut parity = [0, 0];
    for seed in seeds(0..12) {
        let mut dice = Dice::new(seed);
        let mut tiles: Vec<usize> = (0..6).collect();
        for i in (1..6).rev() {
            tiles.swap(i, dice.below(i + 1));
        }
        let glyph = |t: &usize| if *t == 0 { ".".to_string() } else { t.to_string() };
        let rows: Vec<String> =
            tiles.chunks(3).map(|r| r.iter().map(glyph).collect::<Vec<_>>().join(" ")).collect();
        let board = rows.join("\n");
        let level = format!(
            "model = 'slide.fendle'\nvalues.target = '''\n1 2 3\n4 5 .\n'''\n[[level]]\nname = 'tray'\nstart.tile = '''\n{board}\n'''\n"
        );
        let texts = Texts::new([("slide.fendle", SLIDE), ("slide.toml", &level)]);
        let mut store = Store::default();
        let level = loaded(&mut store, &texts, "slide.toml", "tray", None);
        let (solvable, _) = each_hunt(&level, &board);
        parity[usize::from(solvable)] += 1;
    }
    // Half of all arrangements can be reached.
    assert!(parity.iter().all(|n| *n > 2), "{parity:?}");
}
