//! Every question, ended at whatever moment: what is told then is what is told of the whole, or less.

use std::sync::atomic::{AtomicI64, Ordering::SeqCst};
use std::sync::{Mutex, PoisonError};

use fendle_ask::count::count_solutions;
use fendle_ask::explore::{How, SpaceVerdict, explore};
use fendle_ask::fairness::fairness;
use fendle_ask::find::{Draws, find};
use fendle_ask::graph::{Cut, Keep, graph};
use fendle_ask::guide::best_moves;
use fendle_ask::hunt::Promise;
use fendle_ask::infer::infer;
use fendle_ask::moves::moves;
use fendle_ask::near::{Plays, near};
use fendle_ask::odds::{self, ask};
use fendle_ask::proof::{opened, payload, proof_of, recheck};
use fendle_ask::review::review;
use fendle_ask::solve::{solve, solve_knowing};
use fendle_ask::trace::trace;
use fendle_ask::why::{Reason, one_position};
use fendle_ask::{Budget, End, Store, Surroundings, Trouble, Wanted, within};
use fendle_core::simulate::Policy;
use fendle_core::space::Class;

use crate::buried::each_row;
use crate::common::{MOVES, Map, budget, each_map};

/// How often memory may still be asked about before there is none left.
static LEFT: AtomicI64 = AtomicI64::new(0);
/// One at a time.
static ALONE: Mutex<()> = Mutex::new(());

fn now() -> u64 {
    if LEFT.fetch_sub(1, SeqCst) > 0 { 0 } else { u64::MAX }
}

/// Calls `ask` with budgets that end at the first moment, the second, and so on, until one is enough. Gives how many were not.
fn each_halt(mut ask: impl FnMut(&Budget, i64)) -> usize {
    let _alone = ALONE.lock().unwrap_or_else(PoisonError::into_inner);
    let mut halts = 0;
    let mut k = 0;
    loop {
        LEFT.store(k, SeqCst);
        let around = Surroundings { memory_now: Some(now), ..Surroundings::default() };
        let budget = Budget::new(Wanted { threads: 1, ..Wanted::default() }, around);
        ask(&budget, k);
        if LEFT.load(SeqCst) > 0 || k > 5_000 {
            return halts;
        }
        halts += 1;
        // The first moments one by one, then fewer.
        k += 1 + k / 12;
    }
}

/// An answer, or nothing where it was not begun.
fn some<T>(answer: Result<T, Trouble>) -> Option<T> {
    match answer {
        Ok(answer) => Some(answer),
        Err(Trouble::Limit(_) | Trouble::Undecided(_)) => None,
        Err(other) => panic!("{other:?}"),
    }
}

/// What is claimed ends as the whole does, or is not decided.
fn agrees(end: End, whole: End, text: &str) -> bool {
    assert!(end == whole || end == End::Undecided, "{end:?} and not {whole:?}: {text}");
    end == End::Undecided
}

#[test]
fn spaces_and_their_structure() {
    let (mut halts, mut structures) = (0, 0);
    each_map(8000..8024, true, |map, store, level| {
        let how = || How { structure: Some(true), charts: true, ..How::default() };
        let whole = explore(store, &level, how(), &budget()).expect("an answer");
        let all = &whole.found.counts;
        halts += each_halt(|budget, k| {
            let Some(answer) = some(explore(store, &level, how(), budget)) else { return };
            let text = format!("at {k}: {}", map.model());
            let c = &answer.found.counts;
            assert!(c.goal <= all.goal && c.lost <= all.lost && c.stuck <= all.stuck, "{text}");
            assert!(c.dead <= all.dead && c.winnable <= all.winnable && c.states <= all.states, "{text}");
            assert!(c.certain <= all.certain && c.almost_certain <= all.almost_certain, "{text}");
            assert!(c.fatal_moves <= all.fatal_moves, "{text}");
            assert!(c.shortest.is_none() || c.shortest == all.shortest, "{text}");
            assert!(!c.complete || c.named() == all.named(), "{text}");
            match SpaceVerdict::of(c) {
                SpaceVerdict::Unsolvable => {
                    assert_eq!(SpaceVerdict::of(all), SpaceVerdict::Unsolvable, "{text}")
                }
                SpaceVerdict::Solvable(_) => assert!(all.goal > 0, "{text}"),
                _ => {}
            }
            let json = |a: &fendle_ask::explore::Space| {
                serde_json::to_value(a).expect("text keys")["structure"].clone()
            };
            let (own, want) = (json(&answer.found), json(&whole.found));
            let told = own.is_object() && own.get("fatal_by_depth").is_some();
            assert!(!told || own == want, "{own} {want}: {text}");
            structures += usize::from(told);
        });
    });
    assert!(halts > 300 && structures > 20, "{halts} {structures}");
}

#[test]
fn solutions_and_proofs() {
    let (mut halts, mut undecided, mut proofs) = (0, 0, 0);
    each_map(8030..8060, false, |map, store, level| {
        for promise in [Promise::Best, Promise::Any, Promise::Shortest] {
            let mut closed = None;
            let whole = solve(store, &level, promise, &budget(), Some(&mut |s| closed = Some(payload(s))));
            let whole = whole.expect("an answer");
            halts += each_halt(|budget, k| {
                let mut set = None;
                let Some(answer) =
                    some(solve(store, &level, promise, budget, Some(&mut |s| set = Some(payload(s)))))
                else {
                    return;
                };
                let text = format!("{promise:?} at {k}: {}", map.model());
                undecided += usize::from(agrees(answer.end(), whole.end(), &text));
                let (found, all) = (&answer.found, &whole.found);
                assert!(found.moves.is_none() || found.moves >= all.moves && all.moves.is_some(), "{text}");
                assert!(!found.shortest || found.moves == all.moves, "{text}");
                let least = found.least.is_none_or(|l| all.moves.is_none_or(|m| l as usize <= m));
                assert!(least, "{:?}: {text}", found.least);
                // A proof of what was said so far holds, whatever was not seen.
                let sealed = proof_of(
                    store,
                    &level,
                    &answer,
                    set.filter(|_| answer.end() == End::No),
                    &crate::common::budget(),
                );
                if let Some(sealed) = sealed {
                    let proof = opened(&sealed.bytes).expect("whole");
                    let again = recheck(store, &level, &proof, &crate::common::budget()).expect("an answer");
                    assert_eq!(again.end(), End::Yes, "{:?}: {text}", again.found.why);
                    proofs += 1;
                }
            });
        }
    });
    assert!(halts > 200 && undecided > 60 && proofs > 60, "{halts} {undecided} {proofs}");
}

#[test]
fn positions_that_are_looked_for() {
    let (mut halts, mut undecided) = (0, 0);
    each_map(8070..8090, true, |map, store, mut level| {
        for condition in [
            "at == 3",
            "dead",
            "not winnable",
            "stuck",
            "not certain and running",
            "some outcome of any: won",
        ] {
            for (draws, before) in [(Draws::Some, 0), (Draws::Every, 1)] {
                let whole =
                    find(store, &mut level, condition, (draws, before), &budget()).expect("an answer");
                halts += each_halt(|budget, k| {
                    let Some(answer) = some(find(store, &mut level, condition, (draws, before), budget))
                    else {
                        return;
                    };
                    let text = format!("{condition}, {before} before, at {k}: {}", map.model());
                    undecided += usize::from(agrees(answer.end(), whole.end(), &text));
                    assert!(answer.found.count <= whole.found.count, "{text}");
                });
            }
        }
        for (plays, draws) in [(Plays::Some, Draws::Every), (Plays::Every, Draws::Some)] {
            let how = (3, plays, draws);
            let whole = near(store, &mut level, "running and at > 2", how, &budget()).expect("an answer");
            halts += each_halt(|budget, k| {
                let Some(answer) = some(near(store, &mut level, "running and at > 2", how, budget)) else {
                    return;
                };
                let text = format!("{plays:?} {draws:?} at {k}: {}", map.model());
                undecided += usize::from(agrees(answer.end(), whole.end(), &text));
            });
        }
    });
    assert!(halts > 300 && undecided > 60, "{halts} {undecided}");
}

#[test]
fn reasons_graphs_counts_and_plays() {
    let mut halts = 0;
    each_map(8100..8130, false, |map, store, level| {
        let whole = one_position(store, &level, false, &budget()).expect("an answer").found.reason;
        halts += each_halt(|budget, k| {
            let Some(answer) = some(one_position(store, &level, false, budget)) else { return };
            let text = format!("at {k}: {}", map.model());
            match (&answer.found.reason, &whole) {
                (Reason::Undecided { .. }, _) => {}
                (Reason::Dead(part), Reason::Dead(all)) => assert_eq!(part.class, all.class, "{text}"),
                (Reason::Winnable(part), Reason::Winnable(all)) => {
                    assert_eq!((part.far, part.moves), (all.far, all.moves), "{text}");
                }
                (Reason::Kept(_), Reason::Kept(_) | Reason::Dead(_)) => {}
                (Reason::Ended(_), Reason::Ended(_)) => {}
                other => panic!("{other:?}: {text}"),
            }
        });
        for keep in [Keep::All, Keep::Alive] {
            let cut = Cut { keep, around: None, rooms: false, most: 100 };
            let whole = graph(store, &level, &cut, 1.0, &budget()).expect("an answer").found;
            let known: Vec<(String, Class)> =
                (0..whole.nodes.len()).map(|n| (whole.text(&level.game, n), whole.nodes[n].class)).collect();
            halts += each_halt(|budget, k| {
                let Some(answer) = some(graph(store, &level, &cut, 1.0, budget)) else { return };
                let g = &answer.found;
                for (n, node) in g.nodes.iter().enumerate().filter(|n| n.1.class != Class::Open) {
                    let own = (g.text(&level.game, n), node.class);
                    // What is drawn of a whole graph and left out of it may be drawn of a cut one.
                    let same = known.iter().all(|k| k.0 != own.0) || known.contains(&own);
                    assert!(same, "{own:?} at {k}: {}", map.model());
                }
            });
        }
        let counted = count_solutions(store, &level, &budget()).expect("an answer").found;
        halts += each_halt(|budget, k| {
            let Some(answer) = some(count_solutions(store, &level, budget)) else { return };
            let (found, text) = (&answer.found, format!("at {k}: {}", map.model()));
            assert!(found.won <= counted.won, "{text}");
            assert!(found.all.is_none() || found.all == counted.all, "{text}");
            assert!(found.shortest.is_none() || found.shortest == counted.shortest, "{text}");
        });
        let play = first_play(map);
        if play.is_empty() {
            return;
        }
        let whole = review(store, &level, &play, &budget()).expect("an answer").found;
        halts += each_halt(|budget, k| {
            let Some(answer) = some(review(store, &level, &play, budget)) else { return };
            let (found, text) = (&answer.found, format!("{play} at {k}: {}", map.model()));
            assert!(found.minimum.is_none() || found.minimum == whole.minimum, "{text}");
            for (some, all) in found.steps.iter().zip(&whole.steps) {
                assert!(some.after.class == Class::Open || some.after.class == all.after.class, "{text}");
                assert!(some.after.far.is_none() || some.after.far == all.after.far, "{text}");
            }
        });
        let whole = trace(store, &level, &play, true, &budget()).expect("an answer").found;
        halts += each_halt(|budget, k| {
            let Some(answer) = some(trace(store, &level, &play, true, budget)) else { return };
            for (some, all) in answer.found.steps.iter().zip(&whole.steps) {
                assert_eq!(some.position.line, all.position.line, "{play} at {k}: {}", map.model());
                let known = some.class.is_none_or(|c| c == Class::Open) || some.class == all.class;
                assert!(known && (!some.fatal || all.fatal), "{play} at {k}: {}", map.model());
            }
        });
        // What can be done here is seen at once.
        let whole = moves(store, &level, &budget()).expect("an answer").found.allowed.len();
        halts += each_halt(|budget, k| {
            let Some(answer) = some(moves(store, &level, budget)) else { return };
            assert_eq!(answer.found.allowed.len(), whole, "at {k}: {}", map.model());
        });
    });
    assert!(halts > 500, "{halts}");
}

/// Along the first allowed move of each landing.
fn first_play(map: &Map) -> String {
    let (mut at, mut play) = (0, vec![]);
    while let Some((m, to)) = map.allowed(at).first().filter(|_| play.len() < 5) {
        play.push(MOVES[*m]);
        at = to[0].0;
    }
    play.join("; ")
}

#[test]
fn chances_and_what_is_best() {
    let (mut halts, mut told) = (0, 0);
    each_map(8140..8164, true, |map, store, level| {
        let how = || odds::How { plays: Some(2), policies: vec![Policy::Random], ..odds::How::default() };
        let whole = ask(store, &level, how(), &budget()).expect("an answer").found;
        let exact = whole.best_probability.as_ref().expect("a goal").middle();
        halts += each_halt(|budget, k| {
            let Some(answer) = some(ask(store, &level, how(), budget)) else { return };
            let (found, text) = (&answer.found, format!("at {k}: {}", map.model()));
            if let Some(p) = &found.best_probability {
                assert!(p.low() <= exact + 1e-9 && exact <= p.high() + 1e-9, "{p:?}, {exact}: {text}");
                told += 1;
            }
            for (some, all) in [
                (found.possible, whole.possible),
                (found.certain, whole.certain),
                (found.almost_certain, whole.almost_certain),
            ] {
                assert!(some.is_none() || some == all, "{some:?}, {all:?}: {text}");
            }
            assert!(found.fatal_moves <= whole.fatal_moves, "{text}");
        });
        let whole = within::ask(&level, 3, &budget()).expect("an answer").found;
        let exact = whole.best_probability.as_ref().expect("a goal").middle();
        halts += each_halt(|budget, k| {
            let Some(answer) = some(within::ask(&level, 3, budget)) else { return };
            if let Some(p) = &answer.found.best_probability {
                let text = format!("at {k}: {}", map.model());
                assert!(p.low() <= exact + 1e-9 && exact <= p.high() + 1e-9, "{p:?}, {exact}: {text}");
            }
        });
        let lines = |budget: &Budget| {
            let best = some(best_moves(store, &level, budget))?;
            let mut out = vec![];
            best.each(&mut |state, of, chance| {
                out.push((state.to_string(), of.to_string(), chance));
                Ok(())
            })
            .expect("it is only written down");
            Some(out)
        };
        let whole = lines(&budget()).expect("an answer");
        halts += each_halt(|budget, k| {
            if let Some(found) = lines(budget) {
                assert_eq!(found, whole, "at {k}: {}", map.model());
            }
        });
    });
    assert!(halts > 300 && told > 100, "{halts} {told}");
}

#[test]
fn what_can_be_known_of_hidden_things() {
    let (mut halts, mut undecided, mut fair) = (0, 0, 0);
    each_row(300..316, |row, words| {
        let mut store = Store::default();
        let level = row.loaded(&mut store);
        let whole = infer(&store, &level, None, &budget()).expect("an answer").found;
        halts += each_halt(|budget, k| {
            let Some(answer) = some(infer(&store, &level, None, budget)) else { return };
            for own in &answer.found.moves {
                let all = whole.moves.iter().find(|m| m.name == own.name);
                let all = all.unwrap_or_else(|| panic!("{} at {k}: {words}", own.name));
                let (some, all) =
                    (own.risk.as_ref().map(ToString::to_string), all.risk.as_ref().map(ToString::to_string));
                assert!(some.is_none() || some == all, "{some:?}, {all:?} at {k}: {words}");
            }
            assert!(answer.found.best.is_none() || answer.found.best == whole.best, "at {k}: {words}");
        });
        let whole = fairness(&level, &budget()).expect("an answer").found;
        halts += each_halt(|budget, k| {
            let Some(answer) = some(fairness(&level, budget)) else { return };
            if answer.end() != End::Undecided {
                assert_eq!(answer.found.no_guess, whole.no_guess, "at {k}: {words}");
                fair += 1;
            }
        });
        let whole = solve_knowing(&store, &level, &budget()).expect("an answer");
        halts += each_halt(|budget, k| {
            let Some(answer) = some(solve_knowing(&store, &level, budget)) else { return };
            undecided += usize::from(agrees(answer.end(), whole.end(), &format!("at {k}: {words}")));
        });
        let whole = explore(&store, &level, How::default(), &budget()).expect("an answer").found.counts;
        halts += each_halt(|budget, k| {
            let Some(answer) = some(explore(&store, &level, How::default(), budget)) else { return };
            let c = answer.found.counts;
            assert!(c.goal <= whole.goal && c.lost <= whole.lost && c.dead <= whole.dead, "at {k}: {words}");
            assert!(!c.complete || c.named() == whole.named(), "at {k}: {words}");
        });
    });
    assert!(halts > 200 && undecided > 20 && fair > 10, "{halts} {undecided} {fair}");
}
