//! Every question once, and what cannot be asked.

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use fendle_ask::audit::{self, Job};
use fendle_ask::check::{self, Item};
use fendle_ask::explore::{CLASSES, How, SpaceVerdict, explore};
use fendle_ask::find::{Draws, find};
use fendle_ask::graph::{Cut, Keep, graph, matching};
use fendle_ask::hunt::Promise;
use fendle_ask::load::{Source, load};
use fendle_ask::moves::moves;
use fendle_ask::odds::{self, ask};
use fendle_ask::proof::{opened, payload, proof_of, recheck};
use fendle_ask::review::review;
use fendle_ask::show::show;
use fendle_ask::solve::solve;
use fendle_ask::trace::trace;
use fendle_ask::why::{Reason, dead_parts, one_position};
use fendle_ask::{Budget, End, Loaded, Provider, Store, Surroundings, Trouble, Verdict, Want, Wanted, Wish};
use fendle_core::Limit;
use fendle_core::odds::Value;
use fendle_core::simulate::Policy;

use crate::common::{Texts, budget};

/// A barrow on a lane of cells: pushed to the right end it is won, pushed to the left end it stays there for ever.
const LANE: &str = "model lane\nlevel long: 3..40 = 5\nstate at: 1..long = 2\n\
    move pull {\n    refuse \"it stands at the end\" unless at > 1\n    at -= 1\n}\n\
    move push {\n    refuse \"it is stuck in the mud\" unless at > 1\n    refuse \"the end\" unless at < long\n    at += 1\n}\n\
    goal at == long\n";
const LEVELS: &str = "model = 'lane.fendle'\n[[level]]\nname = 'short'\nexpect = { solvable = true, moves = 3, states = 5 }\n\
    [[level]]\nname = 'longer'\nvalues.long = 9\nexpect.moves = 6\n[[level]]\nname = 'mud'\nstart.at = 1\n";
/// One throw of a fair coin; heads are wanted, and there is one more try.
const COIN: &str = "model coin\nstate tries: 0..2 = 0\nstate heads: bool = false\n\
    move toss {\n    refuse \"no try is left\" unless tries < 2\n    tries += 1\n    heads = draw from (false, true)\n}\ngoal heads\n";

fn texts() -> Texts {
    Texts::new([
        ("lane.fendle", LANE),
        ("lane.toml", LEVELS),
        ("coin.fendle", COIN),
        ("coin.toml", "model = 'coin.fendle'\n[[level]]\nname = 'coin'\n"),
    ])
}

fn loaded(store: &mut Store, file: &str, level: &str, budget: &Arc<Budget>) -> Loaded {
    let wish = Wish { file: file.into(), level: Some(level.into()), ..Wish::default() };
    load(store, &texts(), &wish, Want::All, budget).expect("a sound level")
}

#[test]
fn an_ending_is_decided_by_verdict_limit_and_fault_alone() {
    let limits =
        [Limit::MaxStates, Limit::Memory, Limit::Time, Limit::SetAside, Limit::TableFull, Limit::Outcomes];
    for verdict in [Verdict::Holds, Verdict::Fails, Verdict::Undecided] {
        assert_eq!(End::of(verdict, Some(Limit::Time), true), End::Bad);
        assert_eq!(End::of(verdict, Some(Limit::Interrupted), false), End::Interrupted);
        for limit in limits {
            let end = End::of(verdict, Some(limit), false);
            assert_ne!(end, End::No, "a limit is never a no: {verdict:?} {limit:?}");
            assert_eq!(end == End::Yes, verdict == Verdict::Holds);
        }
    }
    assert_eq!(End::of(Verdict::Fails, None, false), End::No);
    assert_eq!(End::of_all([]), End::Yes);
    assert_eq!(End::of_all([End::Yes, End::Undecided, End::No]), End::No);
    assert_eq!(End::of_all([End::No, End::Bad, End::Undecided]), End::Bad);
    assert_eq!(
        [End::Yes, End::No, End::Bad, End::Undecided, End::Interrupted].map(End::code),
        [0, 1, 2, 3, 130]
    );
}

#[test]
fn a_lane_is_asked_everything() {
    let (mut store, budget) = (Store::default(), budget());
    let mut level = loaded(&mut store, "lane.toml", "short", &budget);
    assert_eq!(show(&level).found.position.line, "2");
    // From 2 to 5 in three moves; left of 2 lies the mud.
    let solved = solve(&store, &level, Promise::Best, &budget, None).expect("an answer");
    assert_eq!((solved.found.moves, solved.end()), (Some(3), End::Yes));
    assert_eq!(solved.found.positions.len(), 4);
    let space = explore(&store, &level, How { charts: true, ..How::default() }, &budget).expect("an answer");
    let c = &space.found.counts;
    assert_eq!((c.states, c.goal, c.stuck + c.dead, c.winnable, c.fatal_moves), (5, 1, 1, 3, 1));
    assert_eq!(SpaceVerdict::of(c), SpaceVerdict::Solvable(Some(3)));
    let depths = &space.found.charts.as_ref().expect("charts were asked for").depths;
    let total: u64 = depths.iter().flatten().sum();
    assert_eq!((total, CLASSES.len()), (5, 8));
    let fatal = space.found.nearest_fatal_move.as_ref().expect("one");
    assert_eq!((fatal.moves.as_slice(), fatal.depth), (&["pull".to_string()][..], 0));
    let listed = moves(&store, &level, &budget).expect("an answer").found;
    assert_eq!((listed.allowed.len(), listed.refused.len()), (2, 0));
    let found = find(&mut store, &mut level, "at == 4", (Draws::Some, 0), &budget).expect("an answer");
    assert_eq!((found.found.count, found.found.depth, found.end()), (1, Some(2), End::Yes));
    let none = find(&mut store, &mut level, "at > 5", (Draws::Some, 0), &budget).expect("an answer");
    assert_eq!(none.end(), End::No);
    let played = trace(&mut store, &level, "push; pull; pull; push", true, &budget).expect("an answer");
    assert_eq!((played.found.first_fatal_move, played.end()), (Some(3), End::No));
    let stopped = played.found.stopped.as_ref().expect("the last move is refused");
    assert_eq!(stopped.why, "it is stuck in the mud");
    let seen = review(&mut store, &level, "push; pull; push; push; push", &budget).expect("an answer").found;
    assert_eq!((seen.moves_lost, seen.minimum, seen.first_fatal_move), (2, Some(3), None));
    let reason = one_position(&store, &level, false, &budget).expect("an answer").found.reason;
    let Reason::Winnable(w) = reason else { panic!("{reason:?}") };
    assert_eq!((w.far, w.fatal.len()), (Some(3), 1));
}

#[test]
fn a_value_is_the_same_for_whoever_reads_it() {
    let (mut store, budget) = (Store::default(), budget());
    let level = loaded(&mut store, "lane.toml", "short", &budget);
    let solved =
        serde_json::to_value(solve(&store, &level, Promise::Best, &budget, None).expect("an answer"));
    let solved = solved.expect("values have text keys");
    assert_eq!(solved["solution"], serde_json::json!(["push", "push", "push"]));
    assert!(solved.get("stopped_by").is_none() && solved.get("effort").is_none(), "{solved}");
    assert_eq!(solved["begin"]["from"], "level");
}

#[test]
fn a_dead_start_is_proved_and_the_proof_is_rechecked() {
    let (mut store, budget) = (Store::default(), budget());
    let level = loaded(&mut store, "lane.toml", "mud", &budget);
    let mut closed = None;
    let mut see = |space: &fendle_core::Space| closed = Some(payload(space));
    let answer = solve(&store, &level, Promise::Best, &budget, Some(&mut see)).expect("an answer");
    assert_eq!(answer.end(), End::No);
    let sealed = proof_of(&store, &level, &answer, closed, &budget).expect("it is proved");
    let proof = opened(&sealed.bytes).expect("a proof file");
    assert_eq!(recheck(&mut store, &level, &proof, &budget).expect("an answer").end(), End::Yes);
    // For a level that is won it says nothing.
    let other = loaded(&mut store, "lane.toml", "short", &budget);
    let refused = recheck(&mut store, &other, &proof, &budget).expect("an answer");
    assert_eq!((refused.end(), refused.found.proof), (End::No, "refused"));
    assert!(opened(&sealed.bytes[..sealed.bytes.len() - 1]).is_err());
}

#[test]
fn chance_is_exact_and_limits_are_told_apart() {
    let (mut store, free) = (Store::default(), budget());
    let level = loaded(&mut store, "coin.toml", "coin", &free);
    let odds = ask(&store, &level, odds::How::default(), &free).expect("an answer");
    assert_eq!(odds.found.best_probability, Some(Value::Exact("3/4".parse().expect("a fraction"))));
    assert_eq!((odds.found.certain, odds.end()), (Some(false), End::Yes));
    let few = Arc::new(Budget::plain(Wanted { max_states: Some(2), ..Wanted::default() }));
    let how = odds::How { plays: Some(10), policies: vec![Policy::Random], ..odds::How::default() };
    let cut = ask(&store, &level, how, &few).expect("an answer");
    assert_eq!((cut.limit(), cut.end()), (Some(Limit::MaxStates), End::Undecided));
    let bounds = cut.found.best_probability.as_ref().expect("bounds");
    assert!(bounds.low() <= 0.75 && bounds.high() >= 0.75 && bounds.low() < bounds.high(), "{bounds:?}");
    assert!(!cut.found.complete && !cut.found.estimates.is_empty());
}

#[test]
fn one_budget_ends_every_phase() {
    static STOP: AtomicBool = AtomicBool::new(false);
    static HELD: AtomicU64 = AtomicU64::new(0);
    let mut store = Store::default();
    let free = budget();
    let level = loaded(&mut store, "lane.toml", "longer", &free);
    let around = || Surroundings {
        interrupted: &STOP,
        memory_now: Some(|| HELD.load(Ordering::SeqCst)),
        listener: None,
        tables: None,
        teller: None,
    };
    let none_left =
        || Arc::new(Budget::new(Wanted { time: Some(Duration::ZERO), ..Wanted::default() }, around()));
    let asked = |budget: &Budget| {
        let solved = solve(&store, &level, Promise::Best, budget, None).map(|a| (a.limit(), a.end()));
        let space = explore(&store, &level, How::default(), budget).map(|a| (a.limit(), a.end()));
        (solved, space)
    };
    let time = Ok((Some(Limit::Time), End::Undecided));
    assert_eq!(asked(&none_left()), (time.clone(), time));
    HELD.store(u64::MAX, Ordering::SeqCst);
    let memory = Ok((Some(Limit::Memory), End::Undecided));
    assert_eq!(asked(&Budget::new(Wanted::default(), around())), (memory.clone(), memory));
    HELD.store(0, Ordering::SeqCst);
    STOP.store(true, Ordering::SeqCst);
    let stop = Ok((Some(Limit::Interrupted), End::Interrupted));
    assert_eq!(asked(&Budget::new(Wanted::default(), around())), (stop.clone(), stop));
}

#[test]
fn packs_are_checked_and_audited() {
    let (mut store, budget) = (Store::default(), budget());
    let checked =
        check::check(&mut store, &texts(), &["lane.toml".into(), "gone.toml".into()], false, &budget);
    assert_eq!((checked.found.levels.len(), checked.found.models.len()), (3, 1));
    assert!(matches!(&checked.found.items[..], [Item::Model(0), Item::Levels { count: 3, .. }]));
    // The file that is not there outweighs that all is well with the other.
    assert_eq!((checked.found.unreadable.len(), check::end_of(&checked)), (1, End::Bad));
    let mut errors = vec![];
    let text = texts().read(Path::new("lane.toml")).expect("it is there");
    let (levels, model) =
        store.levels(&texts(), Path::new("lane.toml"), text, &mut errors).expect("a sound file");
    let jobs: Vec<Job> = levels
        .levels
        .iter()
        .map(|level| Job {
            path: "lane.toml".into(),
            source: Source {
                file: levels.file,
                file_title: String::new(),
                model: Arc::clone(&model),
                level: level.clone(),
            },
        })
        .collect();
    let list = audit::audit(&store, &jobs, &budget, &mut errors);
    let ends: Vec<End> = list.iter().map(|a| a.end).collect();
    // `longer` takes seven moves, not six.
    assert_eq!(ends, [End::Yes, End::No, End::Yes]);
    assert_eq!(list[1].differs, ["expected moves = 6, it takes 7"]);
    assert_eq!(audit::end_of(&list, &errors), End::No);
}

#[test]
fn graphs_keep_what_is_asked_for_and_match() {
    let (mut store, budget) = (Store::default(), budget());
    let (a, b) = (
        loaded(&mut store, "lane.toml", "short", &budget),
        loaded(&mut store, "lane.toml", "short", &budget),
    );
    let cut = |keep| Cut { keep, around: None, rooms: false, most: 100 };
    let of = |level, cut: &Cut| graph(&store, level, cut, 1.0, &budget).expect("an answer").found;
    // Five cells; between neighbours two arrows, none out of the mud, none out of the goal.
    let all = of(&a, &cut(Keep::All));
    assert_eq!((all.nodes.len(), all.arrows.len(), all.arrows.iter().filter(|a| a.fatal).count()), (5, 6, 1));
    assert_eq!(of(&a, &cut(Keep::Winnable)).nodes.len(), 4);
    assert_eq!(of(&a, &cut(Keep::Shortest)).nodes.len(), 4);
    let rooms = of(&a, &Cut { rooms: true, ..cut(Keep::All) });
    assert_eq!(rooms.nodes.iter().map(|n| n.count).collect::<Vec<_>>(), [3, 1, 1]);
    let near = of(&a, &Cut { around: Some(("5".into(), 1)), ..cut(Keep::All) });
    assert_eq!(near.nodes.len(), 2);
    let other = of(&b, &cut(Keep::All));
    assert_eq!(matching((&a.game, &all), (&b.game, &other), &budget).pairs.len(), 5);
}

#[test]
fn what_cannot_be_asked_is_told_in_words() {
    let (mut store, budget) = (Store::default(), budget());
    let wish =
        |file: &str, level: &str| Wish { file: file.into(), level: Some(level.into()), ..Wish::default() };
    let told = |store: &mut Store, wish: &Wish| match load(store, &texts(), wish, Want::One, &budget) {
        Err(Trouble::Message(words)) => words,
        other => panic!("{other:?}"),
    };
    assert!(told(&mut store, &wish("lane.fendle", "short")).contains("is a model"));
    assert!(told(&mut store, &wish("lane.toml", "shrot")).contains("short"));
    assert!(told(&mut store, &wish("gone.toml", "x")).contains("is not here"));
    let wrong = Wish { sets: vec!["long=99".into()], ..wish("lane.toml", "short") };
    assert!(matches!(
        load(&mut store, &texts(), &wrong, Want::One, &budget),
        Err(Trouble::Diagnostics(list)) if list.len() == 1
    ));
    let level = loaded(&mut store, "lane.toml", "mud", &budget);
    // Nothing here can be won: parts are told over all placements, of which four can.
    let parts = dead_parts(&store, &level, (false, 9), &budget).expect("an answer").found;
    assert_eq!((parts.over, parts.states, parts.dead_states), ("placements", 5, 1));
}
