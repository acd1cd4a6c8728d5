//! What models mean, case by case, from the language's definition and by hand.

use crate::common;

use common::game;
use fendle_core::{Limits, Model as _, NoWatch, explore};
use fendle_lang::Game;
use fendle_lang::play::{MoveTable, Tried, step};
use fendle_lang::run::{FaultKind, TraceEvent};

/// Plays moves from the start; gives the position in one line, or what stopped it.
fn play(g: &Game, moves: &str) -> String {
    let table = MoveTable::new(&g.bound).expect("few moves");
    let list = table.parse(moves, fendle_lang::FileId(0), 0).expect("moves of the model");
    let mut state = g.bound.position.clone();
    for m in list.iter().map(|c| c.number) {
        match step(&g.bound, &table, &state, m, false) {
            Ok(Tried::Made(list)) => state = list[0].made.state.clone(),
            Ok(Tried::Refused { site, .. }) => {
                return format!("refused: {}", g.bound.model.refuses[site].why);
            }
            Ok(Tried::NotOffered) => return "not offered".into(),
            Ok(Tried::Ended(e)) => return format!("ended: {:?}", g.bound.model.endings[e].kind),
            Err(f) => return format!("fault: {:?}", f.kind),
        }
    }
    g.bound.line(&state)
}

/// A model of a few numbers and one move `go`, started at a = 3, b = 5.
fn numbers(body: &str) -> String {
    let text =
        format!("model m\nstate a, b: -99..99\nstate s: set of cells\nmove go {{\n{body}\n}}\ngoal a == 99");
    play(
        &game(
            &text,
            "size = [2, 3]\nstart = { a = 3, b = 5, s = 'xx.\\nx..' }"
                .replace("'xx.\\nx..'", "\"\"\"\nxx.\nx..\"\"\"")
                .as_str(),
        ),
        "go",
    )
}

#[test]
fn numbers_round_down_and_never_wrap() {
    for (body, a) in [
        ("a = -7 / 2", "-4"),
        ("a = -7 mod 2", "1"),
        ("a = 7 / -2", "-3"),
        ("a = 2 ** 6 - 1", "63"),
        ("a = -a + b * 2", "7"),
        ("a = min(b, a, 4) + max(1, 2)", "5"),
        ("a = abs(a - b)", "2"),
        ("a = if a < b then 1 else 2", "1"),
        ("a += b; a *= 2; a -= 1", "15"),
        ("swap a, b", "5"),
        ("var i = 0\nrepeat at most 9 while i < 4 { i += 1 }\na = i", "4"),
        ("a = 0\nfor i in 1..5 where i mod 2 == 1 { a += i }", "9"),
        ("a = 0\nfor i in 5..1 { a += 1 }", "0"),
        ("a = sum(i in 1..10: i)", "55"),
        ("a = max(c in s: col(c)) * 10 + min(c in s: row(c))", "21"),
        ("a = count(c in s) * 10 + count(c on board where not c in s)", "33"),
        ("a = col(first(c on board where not c in s))", "3"),
    ] {
        let line = numbers(body);
        assert!(line.contains(&format!("a={a};")), "{body}: {line}");
    }
    for (body, kind) in [
        ("a = 1 / (a - 3)", "DivideByZero"),
        ("a = 1 mod 0", "DivideByZero"),
        ("a = 2 ** 70", "Overflow"),
        ("a = 2 ** -1", "Overflow"),
        ("a = 100", "OutOfDomain"),
        ("var x: 0..9 = 4\nx = a * b", "OutOfDomain"),
        ("a = min(c in s where row(c) > 2: 1)", "NoMatch"),
        ("a = row(the(c in s))", "TwoMatches"),
        ("a = row(first(c on board where row(c) == 3))", "NoMatch"),
        ("for i in 0..70000 { a = 1 }", "LoopTooLong"),
        ("repeat at most 3 while true { a = 1 }", "RepeatBound"),
    ] {
        assert_eq!(numbers(body), format!("fault: {kind}"), "{body}");
    }
}

#[test]
fn what_a_loop_runs_over_is_fixed_when_it_starts() {
    // Emptying the set while running over it still visits all three.
    let line = numbers("a = 0\nfor c in s { s = s - s\na += 1 }");
    assert!(line.contains("a=3;"), "{line}");
    // The filter is asked before the first round.
    let line = numbers("a = 0\nfor c on board where c in s { s = s - s\na += 1 }");
    assert!(line.contains("a=3;"), "{line}");
    let line = numbers("a = 0\nfor i in 1..4 where b == 5 { b = 0\na += i }");
    assert!(line.contains("a=10;"), "{line}");
}

#[test]
fn assignments_are_seen_at_once_and_before_is_not() {
    let line = numbers("a = 10\nb = a + before.a + start.b");
    assert!(line.contains("a=10; b=18"), "{line}");
}

#[test]
fn conditions_look_only_at_what_they_need() {
    for body in [
        "if a == 3 or 1 / 0 == 1 { b = 1 }",
        "if a == 4 and 1 / 0 == 1 { b = 2 } else { b = 1 }",
        "b = if a == 3 then 1 else 1 / 0",
        "if any(c in s where row(c) == 1 or 1 / 0 == 1) { b = 1 }",
    ] {
        let line = numbers(body);
        assert!(line.contains("b=1"), "{body}: {line}");
    }
}

#[test]
fn a_refused_move_changes_nothing() {
    let text = "model m\nstate n: 0..9\ntally t\nmove go { n = 7\n t += 1\n refuse \"late\" unless before.n > 3 }\nmove ok { n += 1 }\ngoal n == 9";
    let g = game(text, "start.n = 2");
    assert_eq!(play(&g, "go"), "refused: late");
    assert_eq!(play(&g, "ok; ok; go"), "7");
    let found = explore(&g, Limits::default(), false, &NoWatch).expect("sound");
    // 2 to 9; from 2 and 3 `go` is refused, from 4 to 8 it leads to 7: 7 of `ok` and 5 of `go`.
    assert_eq!((found.counts.states, found.counts.transitions), (8, 12));
    // From 7 `go` leads back to 7: a transition, and one more edge; from 6 both lead to 7.
    assert_eq!(found.counts.edges, 11);
}

#[test]
fn offers_drop_and_refusals_list() {
    let text = "model m\nstate n: 0..9\nmove put(k: 1..3, twice: bool) {\n offer k != 2\n refuse \"no room\" unless n + k <= 9\n n += k\n if twice and n + k <= 9 { n += k }\n}\ngoal n == 9";
    let g = game(text, "start.n = 7");
    let start = g.starts().expect("sound").remove(0).state;
    let refused: Vec<String> =
        g.worker().refusals(&start).expect("sound").iter().map(|r| g.move_name(r.of)).collect();
    assert_eq!(refused, ["put 3 false", "put 3 true"]);
    assert_eq!(play(&g, "put 2 true"), "not offered");
    assert_eq!(play(&g, "put 1 true"), "9");
    assert_eq!(g.moves_len(), 6);
    assert_eq!(g.move_name(fendle_core::MoveId(1)), "put 1 true", "values in the order they are written");
}

#[test]
fn endings_come_in_the_order_that_is_written() {
    let text = |order: &str| {
        format!(
            "model m\nstate n: 0..9\nmove go {{ n += 1 }}\ngoal n >= 3\nlost when n == 3 because \"three\"\nover when n == 2 because \"two\"\nstatus {order}"
        )
    };
    for (order, moves, want) in
        [("goal, lost, over", "go; go", "2"), ("goal, lost, over", "go x 3", "ended: Over")]
    {
        assert_eq!(play(&game(&text(order), "start.n = 0"), moves), want);
    }
    let counts = |order: &str, start: &str| {
        let g = game(&text(order), start);
        let c = explore(&g, Limits::default(), false, &NoWatch).expect("sound").counts;
        (c.states, c.goal, c.lost, c.over)
    };
    assert_eq!(counts("goal, lost, over", "start.n = 0"), (3, 0, 0, 1));
    assert_eq!(counts("goal, lost, over", "start.n = 3"), (1, 1, 0, 0));
    assert_eq!(counts("lost, goal, over", "start.n = 3"), (1, 0, 1, 0));
    assert_eq!(counts("lost, goal, over", "start.n = 4"), (1, 1, 0, 0));
}

#[test]
fn statements_end_the_game_at_once() {
    let text = "model m\nstate n: 0..9\nmove a { n = 4\n win }\nmove b { n = 5\n lose \"sunk\" }\nmove c { if n == 0 { stop \"enough\" }\n n = 6 }\nmove d { n = 3\n judge\n n = 9 }\nafter { n = 8 }\ngoal n == 3\nlost when n == 5 because \"sunk\"\nstatus goal, lost";
    let g = game(text, "start.n = 0");
    // `after` does not run behind an ending; the ending is told with the position.
    assert_eq!(play(&g, "a"), "n=4; ended=1".replace("=1", &format!("={}", ending(&g, "Goal"))));
    // Lost by the statement and by the condition alike: one state, without an ended part.
    assert_eq!(play(&g, "b"), "5");
    assert!(play(&g, "c").starts_with("n=0; ended="));
    assert_eq!(play(&g, "d"), "3");
    let found = explore(&g, Limits::default(), false, &NoWatch).expect("sound").counts;
    assert_eq!((found.states, found.goal, found.lost, found.over), (5, 2, 1, 1));
    // Past the goals a won state is played on as if it were running.
    let past = explore(&g, Limits::default(), true, &NoWatch).expect("sound").counts;
    assert!(past.complete && past.states > found.states);
    assert_eq!(g.layout().bits, 4 + 2, "three endings and none, in two bits");
}

/// The number of the first ending of a kind, as positions write it.
fn ending(g: &Game, kind: &str) -> usize {
    1 + g.bound.model.endings.iter().position(|e| format!("{:?}", e.kind) == kind).expect("an ending")
}

#[test]
fn phases_and_notes_come_in_order() {
    let text = "model m\nstate at: cell\nmove go(d: dir4) {\n let p = at + d\n note \"looks\" at p\n phase \"step\" { refuse \"edge\" unless p on board\n at = p }\n phase \"rest\" { note \"rests\" }\n}\ngoal false";
    let g = game(text, "size = [1, 3]\nstart.at = 'r1c1'");
    let table = MoveTable::new(&g.bound).expect("few");
    let right = table.parse("right", fendle_lang::FileId(0), 0).expect("a move")[0].number;
    let Ok(Tried::Made(list)) = step(&g.bound, &table, &g.bound.position, right, false) else {
        panic!("allowed")
    };
    let words: Vec<String> = list[0]
        .made
        .events
        .iter()
        .map(|e| match e {
            TraceEvent::Note { text, at } => format!("{text} {at:?}"),
            TraceEvent::Phase { name, state } => format!("[{name} {}]", g.bound.line(state)),
            TraceEvent::Draw { what, .. } => what.clone(),
        })
        .collect();
    assert_eq!(words, ["looks Some((0, 1))", "[step r1c2]", "rests None", "[rest r1c2]"]);
}

#[test]
fn lanes_begin_at_the_wall_that_is_pointed_at() {
    let text = "model m\nlevel plan: grid of 0..9\nstate n: 0..999999\nmove read(d: dir4) {\n n = 0\n for lane in lanes(plan, d) { for c in lane { n = n * 10 + plan[c] } }\n}\ngoal false";
    let g = game(text, "values.plan = \"\"\"\n1 2 3\n4 5 6\"\"\"\nstart.n = 0");
    for (d, want) in [("left", "123456"), ("right", "321654"), ("up", "142536"), ("down", "415263")] {
        assert_eq!(play(&g, d), want, "{d}");
    }
}

#[test]
fn floods_stay_inside_their_condition_and_rims_reach_one_further() {
    let text = "model m\nlevel wall: grid of bool\nstate s: set of cells\nmove wet(c: cell, how: 1..4) {\n\
        if how == 1 { s = flood(x from c by around4 while not wall[x]) }\n\
        if how == 2 { s = flood(x from c by around8 while not wall[x]) }\n\
        if how == 3 { s = flood(x from c by around4 while not wall[x], rim) }\n\
        if how == 4 { s = flood(x from c by around(2 * right, 2 * left) while not wall[x]) }\n}\ngoal false";
    let g =
        game(text, "values.wall = \"\"\"\n.x..\nx...\n..x.\"\"\"\nstart.s = \"\"\"\n....\n....\n....\"\"\"");
    for (moves, want) in [
        ("wet r1c1 1", "x.../..../...."),
        ("wet r1c1 2", "x.xx/.xxx/xx.x"),
        ("wet r1c1 3", "xx../x.../...."),
        ("wet r1c2 1", "..../..../...."),
        ("wet r1c2 3", "..../..../...."),
        ("wet r1c1 4", "x.x./..../...."),
        ("wet r2c2 1", "..xx/.xxx/xx.x"),
    ] {
        assert_eq!(play(&g, moves), want, "{moves}");
    }
}

#[test]
fn a_part_that_is_off_costs_nothing() {
    let text = "model m\nlevel turning: bool = false\nstate at: cell\nstate face: dir4 if turning = down\nmove go(d: dir4) {\n let p = at + d\n refuse \"edge\" unless p on board\n at = p\n if turning { face = d }\n}\ngoal false";
    let bits = |level: &str| game(text, level).layout().bits;
    assert_eq!(bits("size = [2, 2]\nstart.at = 'r1c1'"), 2);
    assert_eq!(bits("size = [2, 2]\nvalues.turning = true\nstart.at = 'r1c1'"), 4);
    let on = game(text, "size = [2, 2]\nvalues.turning = true\nstart.at = 'r1c1'");
    assert_eq!(play(&on, "right"), "at=r1c2; face=right");
}

#[test]
fn a_grid_that_is_no_rearrangement_any_more_is_a_fault() {
    let text = "model m\nlevel want: grid of 0..9\nstate tile: rearranged want\nmove spoil(c: cell) { tile[c] = 1 }\ngoal tile == want";
    let g = game(text, "values.want = '0 1 2'\nstart.tile = '1 0 2'");
    let found = explore(&g, Limits::default(), false, &NoWatch).expect("sound");
    let fault = found.fault.expect("two ones");
    assert_eq!(g.run_fault(&fault.fault).kind, FaultKind::NotRearranged);
    assert_eq!(
        fault.fault.during.map(|m| g.move_name(m)),
        Some("spoil r1c2".into()),
        "the first in move order"
    );
}

/// What the level and the parameters alone decide against a move takes it out of what is tried in each state, unless
/// something that may break stands before it.
#[test]
fn moves_that_are_never_offered_are_not_tried() {
    let text = |offer: &str| {
        format!(
            "model m\nlevel far: bool = false\nstate at: 0..9 = 3\nmove go(a: 1..3, b: 1..3) {{\n    offer {offer}\n    at = b\n}}\ngoal at == 9"
        )
    };
    let tried = |offer: &str| {
        let game = common::game(&text(offer), "name = 'a'");
        game.code.tried.iter().map(|m| game.code.moves[*m as usize].params.clone()).collect::<Vec<_>>()
    };
    let unequal = vec![vec![1, 2], vec![1, 3], vec![2, 1], vec![2, 3], vec![3, 1], vec![3, 2]];
    assert_eq!(tried("a != b"), unequal);
    // What reads the state decides nothing, and cannot break.
    assert_eq!(tried("at + a < 9 and a != b"), unequal);
    assert_eq!(tried("at > 2 and (far or b == 2)").len(), 3);
    // This may break: it has to be asked.
    assert_eq!(tried("9 / at > 0 and a != b").len(), 9);
    assert_eq!(tried("a == b or at > 4").len(), 9);
    assert!(tried("far").is_empty());
}

/// What bounds, keys, conditions and most entries count, sum or reach is found from the level, as anywhere else.
#[test]
fn bounds_may_count_and_sum_over_a_board() {
    let model = "model bounds\nlevel lamp: grid of bool\nlevel most: 1..99 = count(c on lamp where lamp[c])\n\
        state n: 0..sum(c on lamp: if lamp[c] then 2 else 1) = 0\n\
        state few: list of 0..9 max count(c on lamp where lamp[c])\n\
        state lit: array 1..count(c on lamp where lamp[c]) of bool = false\n\
        state some: bool if any(c on lamp: lamp[c]) = false\nstate every: bool if all(c on lamp: lamp[c]) = false\n\
        state near: 0..count(c in flood(x to y from r1c1 by around4 while lamp[y])) = 0\n\
        move light(i: 1..count(c on lamp where lamp[c])) {\noffer not lit[i]\nlit[i] = true\nn += 1\nfew.push(i)\n}\n\
        goal n == most\n";
    let g = game(model, "values.lamp = \"\"\"\nx.x\n.xx\n\"\"\"");
    let mut slots = g.bound.model.vars.iter().zip(&g.bound.slots);
    let mut slot = |name: &str| slots.find(|(v, _)| v.name == name).expect("in their order").1;
    assert_eq!((slot("n").hi, slot("few").cap, slot("lit").len), (10, 4, 4));
    assert!(slot("some").active && !slot("every").active);
    assert_eq!(slot("near").hi, 1);

    // One for each order in which some of four are lit: 1 + 4 + 12 + 24 + 24.
    let found = explore(&g, Limits::default(), false, &NoWatch).expect("no fault");
    assert_eq!((found.counts.states, found.counts.goal), (65, 24));
}
