//! A play under way: moves made, taken back and made again.

use crate::common;

use fendle_lang::play::{MoveTable, Session, Tried, Turn, step};
use fendle_lang::run::setup::Dice;

const LOTS: &str = "model lots\nstate n: 0..9 = 0\nstate last: 0..3 = 0\n\
    move throw {\n    refuse \"full\" unless n < 6\n    last = draw in 1..3\n    n += last\n}\n\
    move back_ {\n    offer n > 0\n    n -= 1\n}\n\
    lost when n == 7 because \"seven\"\ngoal n == 8\nstatus goal, lost\n";

fn number(moves: &MoveTable, name: &str) -> usize {
    (0..moves.list.len()).find(|n| moves.name(*n) == name).expect("a move of this name")
}

#[test]
fn what_is_taken_back_can_be_made_again_until_another_move_is_made() {
    let game = common::game(LOTS, "");
    let moves = MoveTable::new(&game.bound).expect("few moves");
    let (throw, back) = (number(&moves, "throw"), number(&moves, "back_"));
    for seed in 0..40 {
        let mut dice = Dice::new(seed);
        let mut play = Session::new(&game.bound, &moves);
        assert!(!play.undo() && !play.redo(), "nothing was made yet");
        let mut states = vec![play.state().to_vec()];
        for _ in 0..5 {
            match play.apply(throw, &mut dice).expect("no fault") {
                Turn::Made(played) => states.push(played.made.state.clone()),
                Turn::NotMade(_) => break,
            }
        }
        assert_eq!(play.made().len() + 1, states.len());
        // Back to the start, one state after the other, and on again with the same draws.
        for want in states.iter().rev().skip(1) {
            assert!(play.undo());
            assert_eq!(play.state(), want);
        }
        assert!(!play.undo() && play.made().is_empty());
        for want in &states[1..] {
            assert!(play.redo());
            assert_eq!(play.state(), want);
        }
        assert!(!play.redo());
        // Another move forgets what was taken back.
        play.undo();
        let here = play.state().to_vec();
        if play.ended().expect("no fault").is_none() && here[0] > 0 {
            assert!(matches!(play.apply(back, &mut dice), Ok(Turn::Made(_))));
            assert_eq!(play.state()[0], here[0] - 1);
            assert!(!play.redo());
        }
    }
}

#[test]
fn what_is_allowed_and_why_not_is_what_trying_gives() {
    let game = common::game(LOTS, "");
    let b = &game.bound;
    let moves = MoveTable::new(b).expect("few moves");
    let (throw, back) = (number(&moves, "throw"), number(&moves, "back_"));
    let mut play = Session::new(b, &moves);
    let at_start = play.options().expect("no fault");
    assert!(matches!(&at_start[throw].1, Tried::Made(list) if list.len() == 3), "three things can be drawn");
    assert!(matches!(at_start[back].1, Tried::NotOffered));
    // A move that is not offered leaves play where it stands.
    let before = play.state().to_vec();
    assert!(matches!(play.apply(back, &mut Dice::new(1)), Ok(Turn::NotMade(Tried::NotOffered))));
    assert_eq!((play.state(), play.made().len()), (before.as_slice(), 0));
    // Until the game ends each option is what the reference executor gives; then it is over for every move.
    let mut dice = Dice::new(3);
    while play.ended().expect("no fault").is_none() {
        for (n, tried) in play.options().expect("no fault") {
            assert_eq!(tried, step(b, &moves, play.state(), n, false).expect("no fault"));
        }
        if let Turn::NotMade(tried) = play.apply(throw, &mut dice).expect("no fault") {
            assert!(matches!(tried, Tried::Refused { .. }) && play.state()[0] >= 6, "{tried:?}");
            break;
        }
    }
    if play.ended().expect("no fault").is_some() {
        let all = play.options().expect("no fault");
        assert!(all.iter().all(|(_, t)| matches!(t, Tried::Ended(_))), "{all:?}");
    }
}
