//! Chances of spaces whose states are given by number: the same as with packed states, whatever is known of the range before.

use crate::common;

use common::{afresh, game, games, model, odds_agree, odds_as_text};
use fendle_core::{Limits, Model as _};
use fendle_lang::code::native::WhenItPays;

const MERGE: &str = include_str!("../../../models/merge.fendle");

const CORPUS: [(&str, &str); 6] = [
    (MERGE, include_str!("../../../models/merge.start.toml")),
    (include_str!("../../../models/slide.fendle"), include_str!("../../../packs/harbour/deck.toml")),
    (include_str!("../../../models/fall.fendle"), include_str!("../../../packs/harbour/hold.toml")),
    (include_str!("../../../models/match.fendle"), include_str!("../../../packs/harbour/market.toml")),
    (include_str!("../../../models/clump.fendle"), include_str!("../../../packs/harbour/nets.toml")),
    (include_str!("../../../models/shove.fendle"), include_str!("../../../packs/harbour/yard.toml")),
];

#[test]
fn chances_by_number_are_those_of_packed_states() {
    for (m, text) in CORPUS {
        for game in games(&model(m), text) {
            odds_agree(&game, 2_000);
        }
    }
}

/// Small boards seen to the end, whose tiles grow past what was seen when numbers were given: the numbers are made wider,
/// again and again.
#[test]
fn numbers_are_made_wider_when_something_new_is_met() {
    for (high, wide, top) in [(2, 2, 4), (2, 3, 4), (1, 5, 3), (3, 2, 5)] {
        let board = vec![vec!["."; wide].join(" "); high].join("\n").replacen(". .", "2 2", 1);
        let values = format!(
            "values = {{ high = {high}, wide = {wide}, top = {top} }}\nstart.tile = '''\n{board}\n'''"
        );
        odds_agree(&game(MERGE, &values), u64::MAX);
    }
}

/// A draw that no number foresees, in a place that never changed before.
#[test]
fn a_value_that_comes_late_has_a_number_when_it_comes() {
    let text = r#"
model storm
state water: 0..40
state tide: 0..9
move wait() {
    tide = (tide + 1) mod 10
    let more = draw from (0 weight 3, 1 weight 1)
    water = min(water + more, 39)
    if tide == 9 and water > 2 { water = 40 }
}
goal water == 40
over when water >= 30 and water < 40
status goal, over
"#;
    odds_agree(&game(text, "start.water = 0\nstart.tide = 0"), u64::MAX);
}

/// A narrow numbering holds what was seen and no more, and a wider one holds it all.
#[test]
fn narrow_numbers_hold_what_was_seen() {
    let g = game(MERGE, "values = { high = 2, wide = 2, top = 4 }\nstart.tile = '''\n2 2\n. .\n'''");
    let mut g = afresh(&g);
    g.native = WhenItPays::by(fendle_native::make);
    let start = g.starts().expect("sound").remove(0).state;
    let narrow = g.narrowed(&mut std::iter::once(start.clone())).expect("few numbers");
    let numbers = narrow.numbering(1, &mut || false).expect("it has numbers");
    // Cells were seen to hold one thing each.
    assert_eq!(numbers.range(), 1);
    assert_eq!((numbers.number(&start), numbers.state(0)), (Some(0), start.clone()));
    let other = g.pack(&[2, 0, 1, 3, 0]);
    assert_eq!(numbers.number(&other), None);
    let wider = narrow.narrowed(&mut std::iter::once(other.clone())).expect("few numbers");
    let numbers = wider.numbering(1, &mut || false).expect("it has numbers");
    // Every cell that changes can hold 0, 1, 2 and 3.
    assert_eq!(numbers.range(), 4u64.pow(4));
    for state in [&start, &other] {
        let n = numbers.number(state).expect("it was seen");
        assert_eq!(numbers.state(n), *state);
    }
    // All states have a number of their own, and halves of a number are about different cells.
    let d = numbers.divisor();
    let (mut a, mut b, mut c) = (vec![], vec![], vec![]);
    for n in 0..numbers.range() {
        numbers.values(n, &mut a);
        assert_eq!(numbers.number_of(&a), Some(n));
        numbers.values(n / d * d, &mut b);
        numbers.values(n % d, &mut c);
        assert!(a.iter().zip(&b).zip(&c).all(|((a, b), c)| a == b || a == c), "{n}");
    }
}

#[test]
fn limits_cut_a_space_by_number_where_they_cut_packed_states() {
    let g = game(MERGE, "values = { high = 2, wide = 3, top = 5 }\nstart.tile = '''\n2 2 .\n. . .\n'''");
    for max_states in [1, 2, 17, 400, 3_001] {
        odds_agree(&g, max_states);
        let limits = Limits { max_states, number_from: 1, threads: 2, ..Limits::default() };
        let said = odds_as_text(&g, &limits);
        assert!(said.contains(&format!("states: {max_states},")), "{said}");
    }
}
