//! Mistakes that designers make with chance, cascades and falling pieces: the library model passes its
//! examples, and the same model with the mistake put in fails, breaks, or breaks a law.

use crate::common;

use std::sync::Arc;

use fendle_core::{Limits, NoWatch, explore};
use fendle_lang::Game;
use fendle_lang::play::examples::run_all;
use fendle_lang::run::setup;
use fendle_lang::run::{Eval, FaultKind};
use fendle_lang::state::Stop;

const MERGE: &str = include_str!("../../../models/merge.fendle");
const MATCH: &str = include_str!("../../../models/match.fendle");
const FALL: &str = include_str!("../../../models/fall.fendle");

/// The titles of the examples that fail.
fn failing(text: &str) -> Vec<String> {
    let model = common::model(text);
    let results = run_all(&model, text, &Stop::default()).expect("nobody says stop");
    results.into_iter().filter(|r| !r.failures.is_empty()).map(|r| r.title).collect()
}

/// The model with one place changed.
fn mistaken(text: &str, right: &str, wrong: &str) -> String {
    assert_eq!(text.matches(right).count(), 1, "{right}");
    text.replace(right, wrong)
}

fn game(text: &str, level: &str) -> Game {
    let model = common::model(text);
    common::games(&Arc::clone(&model), &format!("model = 'm'\n[[level]]\n{level}")).remove(0)
}

#[test]
fn the_library_passes_its_own_examples() {
    for text in [
        MERGE,
        MATCH,
        FALL,
        include_str!("../../../models/clump.fendle"),
        include_str!("../../../models/coil.fendle"),
    ] {
        assert_eq!(failing(text), Vec::<String>::new());
        let rules =
            text.lines().take_while(|l| !l.starts_with("example")).filter(|l| !l.trim().is_empty()).count();
        assert!(rules < 80, "{rules} lines");
    }
}

#[test]
fn a_move_that_changes_nothing_and_still_spawns() {
    let text = mistaken(MERGE, "    refuse \"nothing moves\" unless tile != before.tile\n", "");
    assert!(failing(&text).iter().any(|t| t.contains("changes nothing")));
}

#[test]
fn full_taken_for_over() {
    let text = format!("{MERGE}\nover when all(c on tile: tile[c] > 0)\nstatus goal, over\n");
    assert!(failing(&text).iter().any(|t| t.contains("a full board is not the end")));
}

#[test]
fn a_scan_that_misses_the_last_row_and_column() {
    // Over when no two neighbours are alike and nothing is free; the right one looks at every cell.
    let scan = |limit: &str| {
        format!(
            "{MERGE}\nover when not any(c on tile where {limit}: tile[c] == 0 or any(n in around(c, right, down): tile[n] == tile[c]))\nstatus goal, over\n\
             example \"the last row can still merge\" {{ level high = 2\nlevel wide = 2\nstart tile \"2 4/8 8\"\nstatus running }}\n"
        )
    };
    let right = failing(&scan("true"));
    assert_eq!(right, ["stuck in the last row and column, too"], "it is over there, not stuck: {right:?}");
    assert!(failing(&scan("row(c) < rows() and col(c) < cols()")).iter().any(|t| t.contains("the last row")));
}

#[test]
fn a_draw_on_a_full_board() {
    // The spawn comes first, and nobody asked whether there is room.
    let text = mistaken(
        MERGE,
        "    for lane in lanes(tile, d) {  ",
        "    spawn()\n    for lane in lanes(tile, d) {  ",
    );
    let text = mistaken(&text, "    refuse \"nothing moves\" unless tile != before.tile\n", "");
    let g = game(&text, "values = { high = 2, wide = 2 }\nstart.tile = '''\n2 4\n4 2\n'''");
    let found = explore(&g, Limits::default(), false, &NoWatch).expect("a start");
    let fault = g.run_fault(&found.fault.expect("nothing is free").fault);
    assert_eq!(fault.kind, FaultKind::NothingToDraw);
    assert!(fault.to_string().contains("nothing to draw"), "{fault}");
}

#[test]
fn a_tile_that_merges_twice() {
    let text = mistaken(MERGE, "                open = false\n", "");
    assert!(failing(&text).iter().any(|t| t.contains("merges once")));
}

#[test]
fn a_start_with_a_ready_made_run() {
    let text = mistaken(MATCH, "    require not any_run() because \"a run lies ready\"\n", "");
    let g = game(&text, "size = [4, 4]\nvalues.kinds = 2");
    let broken = (0..20).filter(|&seed| {
        let start = setup::sample(&g.bound, seed).expect("a start");
        matches!(Eval::new(&g.bound).status(&start.state), Err(f) if f.kind == FaultKind::AlwaysBroken)
    });
    assert!(broken.count() > 10, "the law of the model names every such start");
    // With the condition no start breaks it, and a level that gives such a start breaks it too.
    let g = game(MATCH, "values.kinds = 2\nstart.tile = '''\n111\n212\n'''");
    assert!(Eval::new(&g.bound).status(&g.bound.position).is_err());
}

#[test]
fn a_piece_that_passes_through_what_lies_there() {
    let text = mistaken(FALL, "c on stack and not stack[c])", "c on stack)");
    assert!(failing(&text).iter().any(|t| t.contains("rests on what lies there")));
}

#[test]
fn rows_that_are_read_while_they_move() {
    let wrong = "phase \"clear\" {\n\
        for r in 1..rows() { if all(c in 1..cols(): stack[cell_at(r, c)]) { for k in 1..r - 1 { for c in 1..cols() { stack[cell_at(r + 1 - k, c)] = stack[cell_at(r - k, c)] } } } }\n\
        }";
    let line = FALL.lines().find(|l| l.contains("phase \"clear\"")).expect("it clears");
    // From the top down that is right; from the bottom up a row is skipped when the one below it goes.
    let cells = "fn cell_at(r: 1..64, c: 1..64) = the(x on stack where row(x) == r and col(x) == c)\n";
    let upward = wrong.replace("for r in 1..rows() {", "for q in 1..rows() { let r = rows() + 1 - q\n");
    let model =
        |clear: &str| mistaken(FALL, line, clear).replace("proc enter(", &format!("{cells}proc enter("));
    assert!(
        failing(&model(&upward)).iter().any(|t| t.contains("two full rows")),
        "{:?}",
        failing(&model(&upward))
    );
}

#[test]
fn an_end_that_is_noticed_one_move_late() {
    let text =
        mistaken(MERGE, "goal any(c on tile where tile[c] >= top)", "state won: bool = false\ngoal won");
    let text = mistaken(
        &text,
        "move shift(d: dir4) {\n",
        "move shift(d: dir4) {\n    won = any(c on tile where tile[c] >= top)\n",
    );
    assert!(failing(&text).iter().any(|t| t.contains("noticed at once")));
}

#[test]
fn the_last_move_that_wins_and_uses_up_the_moves() {
    let text = mistaken(MATCH, "status goal, lost", "status lost, goal");
    assert!(failing(&text).iter().any(|t| t.contains("the last move wins")));
}
