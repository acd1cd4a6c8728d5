//! Mistakes that designers make, put into copies of the newer library models: what Fendle says of each.

use crate::common::{dir_with, fendle};

/// The library model with one place changed, and a level for it.
fn checked(family: &str, right: &str, wrong: &str, level: &str) -> (i32, String) {
    let dir = dir_with(&[]);
    assert_eq!(fendle(dir.path(), &["new", family]).code, 0);
    let file = dir.path().join(format!("{family}/{family}.fendle"));
    let text = std::fs::read_to_string(&file).expect("it was written");
    assert_eq!(text.matches(right).count(), 1, "{right}");
    std::fs::write(&file, text.replace(right, wrong)).expect("writable");
    let level = format!("model = \"{family}.fendle\"\n[[level]]\n{level}");
    std::fs::write(dir.path().join(format!("{family}/first.toml")), level).expect("writable");
    let r = fendle(dir.path(), &["check", family]);
    if r.code != 0 {
        return (r.code, format!("{}{}", r.out, r.err));
    }
    // What must always hold is asked of every state that is reached.
    let seen = fendle(dir.path(), &["explore", &format!("{family}/first.toml")]);
    (if seen.code == 2 { 2 } else { 0 }, format!("{}{}{}{}", r.out, r.err, seen.out, seen.err))
}

/// A mistake that `check` or `explore` finds, by words of what they say.
fn caught(family: &str, right: &str, wrong: &str, level: &str, words: &str) {
    let (sound, said) = checked(family, right, right, level);
    assert_eq!(sound, 0, "{family} as it is\n{said}");
    let (code, said) = checked(family, right, wrong, level);
    assert!(code != 0 && said.contains(words), "{family}: {wrong}\n{code} {said}");
}

const DEAL: &str = "[level.values]\nsuits = 2\nranks = 5\npiles = 3\nheight = [1, 2, 3]\nfaced = [0, 1, 2]\ntall = 8\nredeals = 1\n\
deal = \"4.rope 3.rope 1.rope 2.tar 3.tar 5.rope 4.tar 5.tar 2.rope 1.tar\"\n";

#[test]
fn cards_that_go_home_too_early() {
    // A card that still has to carry another one.
    let level = "[level.values]\nsuits = 2\nranks = 5\npiles = 4\nheight = [2, 3, 3, 2]\ntall = 10\nredeals = 0\n\
                 deal = \"5.tar 4.rope 2.tar 3.tar 2.rope 5.rope 1.rope 1.tar 4.tar 3.rope\"\n";
    let right = "len(home[s]) >= c.rank - 1";
    let wrong = "len(home[s]) >= c.rank - 9";
    caught("patience", right, wrong, level, "a safe card may always go home");
}

#[test]
fn a_pile_is_moved_without_what_lies_on_it() {
    caught(
        "patience",
        "take last n of pile[a] onto pile[b]",
        "take last 1 of pile[a] onto pile[b]",
        DEAL,
        "a run is moved",
    );
}

#[test]
fn a_card_that_is_lost_on_the_way() {
    let right = "        for k in 1..min(dealt, len(stock)) { take last 1 of stock onto waste }";
    let wrong = "        for k in 1..min(dealt, len(stock)) { stock.pop() }";
    caught("patience", right, wrong, DEAL, "no longer hold each of their values once");
}

#[test]
fn a_refused_move_that_turns_a_card_up() {
    // The card is turned up before the move is refused: a refused move changes nothing, whatever stands before it.
    let right = "    refuse \"it does not fit there\" unless takes(b, pile[a][foot])\n";
    let wrong = "    turn_up(a)\n    refuse \"it does not fit there\" unless takes(b, pile[a][foot])\n";
    let (code, said) = checked("patience", right, wrong, DEAL);
    assert_eq!(code, 0, "{said}");
}

const PICTURE: &str = "values.picture = \"open white red/blue blue white\"\nvalues.count = { dot = 1, pair = 1, knee = 1, long = 0, hook = 0 }\n";

#[test]
fn pieces_that_overlap() {
    let right = "x on picture and not x in filled and not wall[x]";
    caught("inlay", right, "x on picture and not wall[x]", PICTURE, "no two pieces lie on each other");
}

#[test]
fn a_turn_that_looks_right_and_is_refused() {
    // What counts is how it looks: whoever asks for the turn refuses a piece that lies rightly.
    let right = "and part(p, x) == picture[x] and picture[x] != open)";
    let wrong = "and part(p, x) == picture[x] and picture[x] != open) and turn(p) == 0";
    caught("inlay", right, wrong, PICTURE, "a piece is laid where its colours are wanted");
}

#[test]
fn a_tool_that_goes_through_a_crate() {
    let level =
        "size = [4, 4]\nvalues.berth = 'r2c4'\nstart = { at = ['r3c2'], face = ['up'], crate = 'r2c3' }\n";
    let right = "        enter(tip(h) + to, to)\n";
    caught("crew", right, "", level, "example");
}

#[test]
fn a_plank_whose_sides_stay_as_they_are_when_it_rolls() {
    let level = "size = [5, 6]\nvalues = { tar = 'r1c3 r1c4 r2c3 r2c4' }\nstart = { hand = 'r4c1', foot = ['r3c3'], near = ['0.0'], far = ['0.0'] }\n";
    let right = "near[k] = half(upper: near[k].lower, lower: near[k].upper)";
    caught(
        "roll",
        right,
        "near[k] = half(upper: near[k].upper, lower: near[k].lower)",
        level,
        "a plank rolls",
    );
}

#[test]
fn a_peg_that_hops_over_nothing() {
    let level = "start.rack = 'oo_o'\n";
    caught("hop", "unless over in peg\n", "unless over in hole\n", level, "there has to be one, and room");
}

#[test]
fn a_row_of_barges_that_is_too_long() {
    let level = "values.strength = 2\nstart.yard = 'Aooo._'\n";
    caught(
        "shove",
        "unless row_ <= strength",
        "unless row_ <= strength + 1",
        level,
        "two are pushed in a row",
    );
}

#[test]
fn a_gate_that_only_the_tug_holds_open() {
    let level = "start.yard = 'Aopg_/.....'\n";
    let right = "not (x in barge or x == tug)";
    caught("shove", right, "not x == tug", level, "a gate is open while something lies on its plate");
}

#[test]
fn paint_poured_onto_another_colour() {
    let level = "values.tubes = 3\nstart.tube = ['tar rust', 'rust tar', 'empty']\n";
    let right = "unless len(tube[b]) == 0 or tube[b].last == tube[a].last";
    caught(
        "tubes",
        right,
        "unless len(tube[b]) == 0 or len(tube[b]) < high",
        level,
        "all of one colour goes over at once",
    );
}

#[test]
fn a_bag_that_is_refilled_before_it_is_empty() {
    let level = "size = [6, 4]\nvalues.share = { keg = 1, pole = 0, knee = 1, bale = 1 }\n";
    let right = "if all(k in cargo: rest[k] == 0)";
    caught(
        "hoist",
        right,
        "if any(k in cargo: rest[k] == 0)",
        level,
        "every piece of a bag comes before the next bag is opened",
    );
}

#[test]
fn an_end_that_is_noticed_after_the_next_piece() {
    let level = "size = [6, 4]\n";
    caught("hoist", "    judge\n", "", level, "the row that wins is noticed before the next piece comes in");
}
