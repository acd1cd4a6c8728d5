//! Expansions: what is written state by state, move by move, or for many states at once.

use fendle_core::model::{Head, Run};
use fendle_core::{Expansion, Fault, Limit, MoveId, Odds, Status};
use rand::{Rng, SeedableRng, rngs::SmallRng};

/// A state that was expanded: its status, and its moves, each with where it leads and with what odds.
type Expanded = (Status, Vec<(MoveId, Vec<(Vec<u64>, Odds)>)>);

/// Moves with one outcome each, of weight 1 and without a score.
fn sure_state(random: &mut SmallRng, words: usize) -> Expanded {
    let ended = random.random_bool(0.2);
    let moves = if ended { 0 } else { random.random_range(0..5) };
    let state = |random: &mut SmallRng| (0..words).map(|_| random.random()).collect::<Vec<u64>>();
    let moves = (0..moves).map(|m| (MoveId(m * 2), vec![(state(random), Odds::SURE)])).collect();
    (if ended { Status::Goal } else { Status::Running }, moves)
}

/// Moves with up to four outcomes, some of them weighted.
fn drawn_state(random: &mut SmallRng, words: usize) -> Expanded {
    let (status, mut moves) = sure_state(random, words);
    for (_, outcomes) in &mut moves {
        for _ in 0..random.random_range(0..4) {
            outcomes.push(((0..words).map(|_| random.random()).collect(), Odds::SURE));
        }
        if random.random_bool(0.5) {
            outcomes
                .iter_mut()
                .for_each(|o| o.1 = Odds::scored(random.random_range(1..9), random.random_range(-3..9)));
        }
    }
    (status, moves)
}

fn write(out: &mut Expansion, states: &[Expanded]) {
    for (status, moves) in states {
        for (of, outcomes) in moves {
            for (state, odds) in outcomes {
                if *odds == Odds::SURE { out.outcome(state) } else { out.outcome_with(state, *odds) }
            }
            out.end_move(*of);
        }
        out.end_state(*status, None);
    }
}

fn write_at_once(out: &mut Expansion, states: &[Expanded]) {
    let heads = states.iter().map(|(status, moves)| Head { status: *status, runs: moves.len() as u32 });
    let moves: Vec<MoveId> = states.iter().flat_map(|s| s.1.iter().map(|m| m.0)).collect();
    let outcomes: Vec<u64> =
        states.iter().flat_map(|s| s.1.iter().flat_map(|m| m.1.iter().flat_map(|o| o.0.clone()))).collect();
    out.sure_states(heads, moves.into_iter(), &outcomes);
}

/// What can be read from an expansion, whatever way it was written.
fn read(out: &Expansion, words: usize) -> Vec<Expanded> {
    assert!(out.odds.is_empty() || out.odds.len() == out.outcomes_len());
    assert_eq!(out.outcomes.len(), out.outcomes_len() * words);
    let mut runs = out.runs.iter();
    let mut outcomes = out.outcomes.chunks_exact(words).enumerate();
    let states = out.heads.iter().map(|head| {
        let moves = runs.by_ref().take(head.runs as usize).map(|Run { of, outcomes: n }| {
            let one = |(i, state): (usize, &[u64])| {
                (state.to_vec(), out.odds.get(i).copied().unwrap_or(Odds::SURE))
            };
            (*of, outcomes.by_ref().take(*n as usize).map(one).collect())
        });
        (head.status, moves.collect())
    });
    let states = states.collect();
    assert!(runs.next().is_none() && outcomes.next().is_none(), "nothing is left over");
    states
}

#[test]
fn many_states_at_once_are_what_they_are_one_by_one() {
    let mut random = SmallRng::seed_from_u64(1);
    for round in 0..300 {
        let words = 1 + round % 3;
        let (mut out, mut all) = (Expansion::default(), vec![]);
        for _ in 0..random.random_range(1..6) {
            let at_once = random.random_bool(0.5);
            let len = random.random_range(0..7);
            let states: Vec<Expanded> =
                (0..len)
                    .map(|_| {
                        if at_once { sure_state(&mut random, words) } else { drawn_state(&mut random, words) }
                    })
                    .collect();
            if at_once {
                write_at_once(&mut out, &states);
            } else {
                write(&mut out, &states);
            }
            all.extend(states);
        }
        assert_eq!(read(&out, words), all, "round {round}");
        out.clear();
        assert!(read(&out, words).is_empty());
    }
}

#[test]
fn a_move_that_is_given_up_leaves_what_came_before() {
    let mut random = SmallRng::seed_from_u64(2);
    for round in 0..200 {
        let words = 1 + round % 2;
        let before: Vec<Expanded> = (0..3).map(|_| drawn_state(&mut random, words)).collect();
        let (status, moves) = drawn_state(&mut random, words);
        let mut out = Expansion::default();
        write(&mut out, &before);
        let whole = moves.len() / 2;
        for (i, (of, outcomes)) in moves.iter().enumerate().take(whole + 1) {
            for (state, odds) in outcomes {
                out.outcome_with(state, *odds);
            }
            if i < whole {
                out.end_move(*of);
            } else {
                out.give_up(Limit::Outcomes);
            }
        }
        out.end_state(status, None);
        let wanted: Vec<Expanded> = before.into_iter().chain([(status, moves[..whole].to_vec())]).collect();
        assert_eq!(read(&out, words), wanted);
        let unfinished: &[(u32, Limit)] = if moves.is_empty() { &[] } else { &[(3, Limit::Outcomes)] };
        assert_eq!(out.unfinished, unfinished);
    }
}

#[test]
fn positions_before_a_draw_are_runs_without_outcomes_and_faults_name_their_state() {
    let mut out = Expansion::default();
    out.outcome(&[5]);
    out.end_move(MoveId(1));
    // A move without outcomes is not listed; one that stops before its draw is.
    out.end_move(MoveId(2));
    out.positions.push(77);
    out.end_before_draw(MoveId(3), 4);
    out.end_state(Status::Running, None);
    let fault = Fault { site: 9, value: -1, during: Some(MoveId(2)) };
    out.end_state(Status::Running, Some(fault));
    assert_eq!(out.runs, [Run { of: MoveId(1), outcomes: 1 }, Run { of: MoveId(3), outcomes: 0 }]);
    assert_eq!((out.positions.as_slice(), out.position_scores.as_slice()), (&[77][..], &[4][..]));
    assert_eq!(out.heads, [2, 0].map(|runs| Head { status: Status::Running, runs }));
    assert_eq!(out.faults, [(1, fault)]);
}
