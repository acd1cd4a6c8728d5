//! Positions and moves as text, both ways.

use crate::common;

use std::collections::HashSet;
use std::sync::Arc;

use common::{SHOVE, SLIDE, game, games, model};
use fendle_lang::play::{MoveTable, Tried, step};
use fendle_lang::{Diagnostic, FileId, Game, Sources, bind, level};
use rand::{Rng, SeedableRng, rngs::SmallRng};

/// A model with a variable of every kind, and a drawing that covers some of them.
const MIXED: &str = r#"
model mixed
enum kind { oak, elm }
level wall: grid of bool
level depth: grid of 0..9
state crate_: grid of 0..2
state wood: grid of kind
state heap: grid of -5..5
state mark: set of cells
state at: cell
state face: dir8
state stock: array kind of 0..9
state n: -9..9
state flag: bool
show yard { "." ; "H" wall ; "c" crate_ = 1 ; "P" at ; "C" crate_ = 1, at }
show heap { 0 "." ; 5 "top" }
show wood joined { oak "o" ; elm "e" }
move go(d: dir4) { n = 0 }
move set_(c: cell, k: kind) { n = 1 }
move wait { n = 2 }
goal n == 9
"#;

const MIXED_LEVEL: &str = r#"
model = 'm'
[[level]]
values.depth = '''
1 2 3
4 5 6
'''
start.yard = '''
P.c
H..
'''
start.wood = '''
ooe
eoo
'''
start.heap = '''
. top -5
3 .   2
'''
start.mark = '''
x..
..x
'''
start.face = 'up_left'
start.stock = { elm = 3, oak = 4 }
start.n = -4
start.flag = true
"#;

fn mixed() -> Game {
    games(&model(MIXED), MIXED_LEVEL).remove(0)
}

fn parse(g: &Game, text: &str) -> Result<Vec<i32>, String> {
    let mut sources = Sources::default();
    sources.add("model", "");
    let file = sources.add("--at", text);
    let mut errors: Vec<Diagnostic> = vec![];
    g.bound.parse_line(text, file, &mut errors).ok_or_else(|| {
        errors
            .iter()
            .map(|e| {
                format!("{}:{}", sources.line_col(e.labels[0].file, e.labels[0].span.start).1, e.message)
            })
            .collect::<Vec<_>>()
            .join("; ")
    })
}

#[test]
fn every_kind_of_variable_has_a_text_form() {
    let g = mixed();
    let line = g.bound.line(&g.bound.position);
    assert_eq!(
        line,
        "yard=P.c/H..; wood=ooe/eoo; heap=. top -5/3 . 2; mark=x../..x; face=up_left; \
         stock=oak: 4, elm: 3; n=-4; flag=true"
    );
    assert_eq!(parse(&g, &line), Ok(g.bound.position.clone()));
}

#[test]
fn a_position_that_the_drawing_cannot_show_is_written_variable_by_variable() {
    let g = mixed();
    let mut state = g.bound.position.clone();
    // Two in a crate have no glyph.
    let slot = &g.bound.slots[g.bound.model.var("crate_").expect("declared")];
    state[slot.base + 4] = 2;
    let line = g.bound.line(&state);
    assert!(line.contains("crate_=0 0 1/0 2 0") && line.contains("at=r1c1"), "{line}");
    assert_eq!(parse(&g, &line), Ok(state));
}

#[test]
fn random_positions_survive_the_line_and_the_bits() {
    let g = mixed();
    let mut rng = SmallRng::seed_from_u64(3);
    for _ in 0..500 {
        let mut state = g.bound.position.clone();
        for (v, def) in g.bound.model.variables().filter(|(_, d)| d.state) {
            let slot = &g.bound.slots[v];
            for x in &mut state[slot.base..slot.base + slot.len] {
                *x = rng.random_range(slot.lo..=slot.hi) as i32;
            }
            assert!(def.rearranged.is_none());
        }
        let line = g.bound.line(&state);
        assert_eq!(parse(&g, &line), Ok(state.clone()), "{line}");
        assert_eq!(g.unpack(&g.pack(&state)), state, "{line}");
    }
}

#[test]
fn positions_reached_by_play_survive_too() {
    let mut rng = SmallRng::seed_from_u64(4);
    for (text, levels) in [
        (SLIDE, include_str!("../../../packs/harbour/ferry.toml")),
        (SHOVE, include_str!("../../../packs/harbour/yard.toml")),
    ] {
        for g in games(&model(text), levels) {
            let table = MoveTable::new(&g.bound).expect("few");
            let mut state = g.bound.position.clone();
            for _ in 0..200 {
                let m = rng.random_range(0..table.list.len());
                if let Ok(Tried::Made(list)) = step(&g.bound, &table, &state, m, true) {
                    let next = list[0].made.state.clone();
                    state = next;
                }
                let line = g.bound.line(&state);
                assert_eq!(parse(&g, &line), Ok(state.clone()), "{line}");
            }
        }
    }
}

#[test]
fn different_positions_have_different_lines_and_different_bits() {
    let g = games(&model(SHOVE), "model='m'\n[[level]]\nstart.yard='''\nAo.\n._.\n'''").remove(0);
    let table = MoveTable::new(&g.bound).expect("few");
    let mut states = vec![g.bound.position.clone()];
    let mut i = 0;
    while i < states.len() {
        for m in 0..4 {
            if let Ok(Tried::Made(list)) = step(&g.bound, &table, &states[i].clone(), m, true)
                && let state = list[0].made.state.clone()
                && !states.contains(&state)
            {
                states.push(state);
            }
        }
        i += 1;
    }
    let lines: HashSet<String> = states.iter().map(|s| g.bound.line(s)).collect();
    let words: HashSet<Vec<u64>> = states.iter().map(|s| g.pack(s)).collect();
    assert_eq!((lines.len(), words.len()), (states.len(), states.len()));
    assert!(states.len() > 10);
}

#[test]
fn what_is_wrong_with_a_position_is_told_at_its_column() {
    let g = mixed();
    for (text, want) in [
        ("n=10", "3:`n` holds -9 to 9, this is 10"),
        ("n=1; face=north", "11:`north` is no value of `face`"),
        ("at=r9c1", "4:`r9c1` is no value of `at`"),
        ("mark=x../.?x", "11:`?` is no value of `mark`"),
        ("heap=. . ./. . 6", "16:`heap` holds -5 to 5, this is 6"),
        ("stock=oak: 1", "7:`stock` has no value for `elm`"),
        ("stock=oak: 1, ash: 2", "14:`ash` is no key of `stock`"),
        ("yard=P.c/...", "6:`wall` differs from the level's"),
        ("yard=PPc/H..", "7:a second `at`, and one is wanted"),
        ("wall=.../...", "1:the model `mixed` has no state variable or drawing named `wall`"),
        ("ended=3", "7:this is no ending of the model"),
        ("n=1; wait", "5:write `name=value; name=value`"),
    ] {
        assert_eq!(parse(&g, text), Err(want.to_string()), "{text}");
    }
}

#[test]
fn moves_are_read_with_short_forms_and_repeats() {
    let g = mixed();
    let table = MoveTable::new(&g.bound).expect("few");
    let names = |text: &str| -> Result<Vec<String>, String> {
        table
            .parse(text, FileId(0), 0)
            .map(|l| l.iter().map(|m| table.name(m.number).to_string()).collect())
            .map_err(|e| e.message.clone() + &e.notes.join("|"))
    };
    assert_eq!(names("go up; left"), Ok(vec!["go up".into(), "go left".into()]));
    assert_eq!(names(" wait x 3 ;"), Ok(vec!["wait".into(); 3]));
    assert_eq!(names("r2c3 elm, set_ r1c1 oak\nwait"), {
        Ok(vec!["set_ r2c3 elm".into(), "set_ r1c1 oak".into(), "wait".into()])
    });
    assert_eq!(names(""), Ok(vec![]));
    assert!(names("go upp").expect_err("a slip").contains("did you mean `go up`?"));
    assert!(names("go").expect_err("no direction").contains("no move"));
    assert!(names("xyz").expect_err("nothing").contains("moves are: go up, go right"));
    assert_eq!(table.list.len(), 4 + 6 * 2 + 1);
    assert_eq!(table.name(4), "set_ r1c1 oak");
    assert_eq!(table.name(7), "set_ r1c2 elm");
}

#[test]
fn levels_say_what_is_missing_doubled_or_too_large() {
    let m: Arc<_> = model(MIXED);
    let bad = |change: &dyn Fn(String) -> String| -> String {
        let text = change(MIXED_LEVEL.to_string());
        let mut sources = Sources::default();
        sources.add("model", MIXED);
        let file = sources.add("l", text.as_str());
        let mut errors = vec![];
        if let Some(levels) = level::read(file, &text, &mut errors) {
            for l in &levels.levels {
                assert!(bind(&m, file, l, &[], &mut errors).is_none(), "{text}");
            }
        }
        errors.iter().map(|e| e.code.to_string() + " " + &e.message).collect::<Vec<_>>().join("; ")
    };
    let replace = |from: &'static str, to: &'static str| {
        bad(&move |t: String| {
            assert!(t.contains(from), "{from}");
            t.replacen(from, to, 1)
        })
    };
    assert_eq!(replace("start.n = -4\n", ""), "L033 this level gives no `n`");
    assert_eq!(replace("start.n = -4", "start.n = -44"), "L025 `n` holds -9 to 9, this is -44");
    assert_eq!(replace("start.n = -4", "start.n = 'many'"), "L024 `many` is no value of `n`");
    assert_eq!(
        replace("start.n = -4", "start.n = 1.5"),
        "L012 only texts, whole numbers, true and false are values here"
    );
    assert_eq!(replace("start.flag = true", "start.flag = [1]"), "L037 this is no value for `flag`");
    assert_eq!(
        replace("start.n = -4", "start.n = -4\nstart.at = 'r1c1'"),
        "L032 `at` is in the drawing already"
    );
    assert_eq!(replace("elm = 3, oak = 4", "elm = 3"), "L026 `stock` has no value for `oak`");
    assert_eq!(replace("elm = 3, oak", "ash = 3, oak"), "L026 `ash` is no key of `stock`");
    assert_eq!(
        replace("start.face", "start.fase"),
        "L035 the model `mixed` has no state variable or drawing named `fase`"
    );
    assert_eq!(replace("start.n", "values.n"), "L035 the model `mixed` has no level value named `n`");
    assert_eq!(replace("x..\n..x", "x..\n..xx"), "L021 row 2 has 4 cells, row 1 has 3");
    assert_eq!(replace("x..\n..x", "x..\n..x\n..."), "L023 this board is 3 x 3, the level's is 2 x 3");
    assert_eq!(replace("P.c", "..c"), "L028 this board holds no `at`, and one is wanted");
    assert_eq!(replace("ooe\neoo", "ooe\neo7"), "L024 `7` is no value of `wood`");
    assert_eq!(
        replace("[[level]]", "[[level]]\nsize = [2, 4]"),
        "L023 this board is 2 x 3, the level's is 2 x 4"
    );
    assert_eq!(
        replace("[[level]]", "[[level]]\nsize = 'big'"),
        "L009 `size` is `[rows, columns]`, both at least 1"
    );
    assert_eq!(replace("[[level]]", "[level]"), "L004 levels are written as `[[level]]`");
    assert_eq!(replace("[[level]]", "[[level]]\nexpect.moves = -1"), "L010 `moves` is a count");
    assert_eq!(replace("[[level]]", "[[level]]\nnote = 'x'"), "L007 a level has no key `note`");
}

#[test]
fn the_code_of_a_small_model_is_as_it_was_read() {
    let g = game(
        "model lamps\nlevel wanted: set of cells\nstate lit: set of cells\n\
         move press(c: cell) {\n    refuse \"lit\" at c unless not lit[c]\n    lit[c] = true\n    \
         for n in around4(c) { lit[n] = not lit[n] }\n}\ngoal lit == wanted\n",
        "values.wanted = 'xxx'\nstart.lit = '...'",
    );
    insta::assert_snapshot!(g.code.print());
}
