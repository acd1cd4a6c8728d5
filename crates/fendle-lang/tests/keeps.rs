//! Kept quantities: what is proved, what is only checked, and what is not kept at all.

use crate::common;

use common::game;
use fendle_core::{Limits, NoWatch, explore};
use fendle_lang::reasons::keeps::{Kept, enumerate, kept, separations};
use fendle_lang::run::FaultKind;

/// A walker that goes two cells at a time never changes the colour of its cell.
const LEAPER: &str = r#"
model leaper
state at: cell
state trips: 0..9
level home: cell
move leap(d: dir4) {
    let next = at + 2 * d
    refuse "the edge" unless next on board
    at = next
    RULE
}
goal at == home
keeps ((row(at) + col(at)) mod 2) because "a leap crosses two cells"
"#;

#[test]
fn a_colouring_argument_is_proved_from_the_rules() {
    let text = LEAPER.replace("RULE", "");
    let level = "size = [5, 5]\nvalues.home = 'r1c2'\nstart.at = 'r1c1'\nstart.trips = 0";
    let g = game(&text, level);
    assert_eq!(kept(&g), [Kept::ProvedFromRules]);
    let sep = &separations(&g)[0];
    assert_eq!((sep.here, sep.wanted), (0, 1));
}

#[test]
fn a_rule_that_breaks_it_is_never_called_proved() {
    for rule in [
        "at = next + left",
        "if trips == 0 { at = the(c on board where row(c) == 1 and col(c) == 2) }",
        "for d2 in dir4 { let p = at + d2\n if p on board { at = p } }",
        "repeat at most 3 while col(at) < 4 { let p = at + right\n if p on board { at = p } }",
    ] {
        let rule = rule.replace("at = next + left", "let p = next + left\n if p on board { at = p }");
        let text = LEAPER.replace("RULE", &rule);
        let level = "size = [5, 5]\nvalues.home = 'r1c2'\nstart.at = 'r3c3'\nstart.trips = 0";
        let g = game(&text, level);
        assert_eq!(kept(&g), [Kept::Checked], "{rule}");
        assert_eq!(enumerate(&g, 0, &mut || false), None, "{rule}");
        // Checked on every transition: the first one that changes it is reported.
        let found = explore(&g, Limits::default(), false, &NoWatch).expect("a sound start");
        let fault = found.fault.unwrap_or_else(|| panic!("{rule} was not noticed"));
        assert_eq!(g.run_fault(&fault.fault).kind, FaultKind::KeepsBroken, "{rule}");
    }
}

#[test]
fn what_the_rules_do_not_show_is_proved_by_enumeration() {
    // The column is kept because of a condition, which the effects of the moves show.
    let text = r#"
model drop
state at: cell
level home: cell
move go(d: dir4) {
    let next = at + d
    refuse "the edge" unless next on board
    refuse "only up and down" unless d == up or d == down
    at = next
}
goal at == home
keeps (col(at)) because "nothing moves sideways"
"#;
    let g = game(text, "size = [4, 3]\nvalues.home = 'r1c2'\nstart.at = 'r4c1'");
    assert_eq!(kept(&g), [Kept::ProvedFromRules]);
    assert_eq!(separations(&g).len(), 1);
    // What is greater of two is no sum: only trying every state shows that changing places keeps it.
    let text = r#"
model turns
state a, b: 0..4
move change { let was = a
    a = b
    b = was }
goal a == 1 and b == 2
keeps (max(a, b)) because "they only change places"
"#;
    let g = game(text, "start = { a = 3, b = 0 }");
    assert_eq!(kept(&g), [Kept::Checked]);
    assert_eq!(enumerate(&g, 0, &mut || false), Some(Kept::ProvedByEnumeration { states: 25 }));
    assert_eq!(separations(&g).len(), 1);
}

#[test]
fn numbers_that_move_together_are_followed() {
    let text = r#"
model purse
state coins, goods: 0..20
move buy { refuse "no coin" unless coins > 0 and goods <= 18
    coins -= 1
    goods += 2 }
move sell(n: 1..3) { refuse "nothing to sell" unless goods >= 2 * n and coins + n <= 20
    goods -= 2 * n
    coins += n }
goal goods == 9 and coins == 1
keeps (2 * coins + goods) because "two goods for a coin"
"#;
    let g = game(text, "start = { coins = 5, goods = 0 }");
    assert_eq!(kept(&g), [Kept::ProvedFromRules]);
    assert!(enumerate(&g, 0, &mut || false).is_some_and(Kept::is_proved));
    let sep = &separations(&g)[0];
    assert_eq!((sep.here, sep.wanted), (10, 11));
}

#[test]
fn equal_values_never_prove_anything_solvable() {
    let text = LEAPER.replace("RULE", "");
    let g = game(&text, "size = [5, 5]\nvalues.home = 'r1c3'\nstart.at = 'r1c1'\nstart.trips = 0");
    assert!(separations(&g).is_empty());
}
