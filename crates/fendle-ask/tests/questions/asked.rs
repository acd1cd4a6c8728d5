//! Random conditions about positions, with a limit and without: what is found against what the map says of each landing.

use fendle_ask::find::{Draws, find};
use fendle_ask::near::{Plays, near};
use fendle_ask::{End, Store, Trouble};
use fendle_core::space::Class;

use crate::common::{Dice, MOVES, Map, budget, few, loaded, seeds};

/// A condition about a landing.
#[derive(Clone, Debug)]
enum Condition {
    At(usize),
    Word(&'static str),
    Depth(&'static str, u32),
    Can(Option<usize>),
    /// Some outcome or every one, of a move or of any.
    Leads(bool, Option<usize>, Box<Condition>),
    Not(Box<Condition>),
    And(Box<Condition>, Box<Condition>),
    Or(Box<Condition>, Box<Condition>),
}

use Condition::*;

const WORDS: [&str; 7] = ["running", "won", "lost", "stuck", "dead", "winnable", "certain"];

impl Condition {
    fn any(dice: &mut Dice, map: &Map, size: usize) -> Condition {
        let of = |dice: &mut Dice| if dice.below(2) == 0 { None } else { Some(dice.below(3)) };
        let part = |dice: &mut Dice| Box::new(Condition::any(dice, map, size - 1));
        match dice.below(if size == 0 { 7 } else { 13 }) {
            0 => At(1 + dice.below(map.len())),
            1..=4 => Word(WORDS[dice.below(WORDS.len())]),
            5 => Depth(["<", ">=", "=="][dice.below(3)], dice.below(4) as u32),
            6 => Can(of(dice)),
            7 | 8 => Not(part(dice)),
            9 => And(part(dice), part(dice)),
            10 => Or(part(dice), part(dice)),
            _ => Leads(dice.below(2) == 0, of(dice), part(dice)),
        }
    }

    /// As it is written.
    fn text(&self) -> String {
        let named = |m: &Option<usize>| m.map_or("any", |m| MOVES[m]);
        match self {
            At(n) => format!("at == {n}"),
            Word(word) => (*word).to_string(),
            Depth(op, n) => format!("depth {op} {n}"),
            Can(m) => format!("can {}", named(m)),
            Leads(every, m, c) => {
                format!("({} outcome of {}: {})", if *every { "every" } else { "some" }, named(m), c.text())
            }
            Not(c) => format!("not ({})", c.text()),
            And(a, b) => format!("({} and {})", a.text(), b.text()),
            Or(a, b) => format!("({} or {})", a.text(), b.text()),
        }
    }

    /// Whether it is so on a landing.
    fn holds(&self, at: usize, look: &Look) -> bool {
        let map = look.map;
        let outcomes = |m: &Option<usize>| -> Vec<usize> {
            let moves = map.allowed(at).into_iter().filter(|own| m.is_none_or(|m| m == own.0));
            moves.flat_map(|(_, to)| to.iter().map(|t| t.0)).collect()
        };
        let class = look.class[at];
        match self {
            At(n) => at + 1 == *n,
            Word("running") => !map.has_ended(at),
            Word("won") => class == Class::Goal,
            Word("lost") => class == Class::Lost,
            Word("stuck") => class == Class::Stuck,
            Word("dead") => class == Class::Dead,
            Word("winnable") => class == Class::Winnable,
            Word(_) => look.certain[at],
            Depth(op, n) => {
                let depth = look.depth[at].expect("only what can be reached is asked");
                match *op {
                    "<" => depth < *n,
                    ">=" => depth >= *n,
                    _ => depth == *n,
                }
            }
            Can(m) => !outcomes(m).is_empty(),
            Leads(true, m, c) => {
                let to = outcomes(m);
                !to.is_empty() && to.iter().all(|t| c.holds(*t, look))
            }
            Leads(false, m, c) => outcomes(m).iter().any(|t| c.holds(*t, look)),
            Not(c) => !c.holds(at, look),
            And(a, b) => a.holds(at, look) && b.holds(at, look),
            Or(a, b) => a.holds(at, look) || b.holds(at, look),
        }
    }

    /// Whether a word of it asks of the whole space.
    fn asks_of_all(&self) -> bool {
        match self {
            Word(word) => ["dead", "winnable", "certain"].contains(word),
            Leads(_, _, c) | Not(c) => c.asks_of_all(),
            And(a, b) | Or(a, b) => a.asks_of_all() || b.asks_of_all(),
            _ => false,
        }
    }

    /// How many moves on its depths are asked for.
    fn depth_asked(&self, on: u32) -> Option<u32> {
        match self {
            Depth(..) => Some(on),
            Leads(_, _, c) => c.depth_asked(on + 1),
            Not(c) => c.depth_asked(on),
            And(a, b) | Or(a, b) => a.depth_asked(on).max(b.depth_asked(on)),
            _ => None,
        }
    }
}

/// What the map itself says.
struct Look<'m> {
    map: &'m Map,
    depth: Vec<Option<u32>>,
    class: Vec<Class>,
    /// Some way of playing wins, whatever is drawn.
    certain: Vec<bool>,
}

impl Look<'_> {
    fn at(map: &Map) -> Look<'_> {
        let n = map.len();
        let mut certain = map.won.clone();
        // Again and again, until nothing changes: as slow as it is plain.
        for _ in 0..n {
            for at in 0..n {
                for (_, to) in map.allowed(at) {
                    certain[at] |= to.iter().all(|t| certain[t.0]);
                }
            }
        }
        Look { map, depth: map.depths(&[0]), class: map.classes(), certain }
    }

    /// The landings that can be reached on which a condition holds.
    fn held(&self, condition: &Condition) -> Vec<bool> {
        (0..self.map.len()).map(|at| self.depth[at].is_some() && condition.holds(at, self)).collect()
    }

    /// Landings with a move some or all of whose outcomes are among some.
    fn before(&self, held: &[bool], draws: Draws) -> Vec<bool> {
        let leads = |to: &[(usize, u32)]| match draws {
            Draws::Some => to.iter().any(|t| held[t.0]),
            Draws::Every => to.iter().all(|t| held[t.0]),
        };
        (0..self.map.len())
            .map(|at| self.depth[at].is_some() && self.map.allowed(at).iter().any(|m| leads(m.1)))
            .collect()
    }

    /// The least number of moves within which some play, or every one, comes to one of these landings from the start.
    fn soon(&self, held: &[bool], within: u32, plays: Plays, draws: Draws) -> Option<u32> {
        let mut now = held.to_vec();
        for k in 0..=within {
            if now[0] {
                return Some(k);
            }
            let was = now.clone();
            let leads = |m: &(usize, &[(usize, u32)])| match draws {
                Draws::Some => m.1.iter().any(|t| was[t.0]),
                Draws::Every => m.1.iter().all(|t| was[t.0]),
            };
            for (at, now) in now.iter_mut().enumerate() {
                let moves = self.map.allowed(at);
                *now |= match plays {
                    Plays::Some => moves.iter().any(leads),
                    Plays::Every => !moves.is_empty() && moves.iter().all(leads),
                };
            }
        }
        None
    }
}

fn each_condition(
    range: std::ops::Range<u64>,
    mut ask: impl FnMut(&Look<'_>, &Condition, &mut Dice, String),
) {
    for seed in seeds(range) {
        let mut dice = Dice::new(seed);
        let map = Map::any(&mut dice, seed % 2 == 0);
        let look = Look::at(&map);
        for _ in 0..6 {
            let condition = Condition::any(&mut dice, &map, 3);
            let text = format!("{}: {}", condition.text(), map.model());
            ask(&look, &condition, &mut dice, text);
        }
    }
}

#[test]
fn positions_are_found_where_the_condition_holds_and_nowhere_else() {
    let (mut some, mut none, mut undecided) = (0, 0, 0);
    each_condition(7000..7050, |look, condition, dice, text| {
        let draws = if dice.below(2) == 0 { Draws::Some } else { Draws::Every };
        let before = dice.below(3) as u32;
        let held = (0..before).fold(look.held(condition), |held, _| look.before(&held, draws));
        let all: Vec<usize> = (0..held.len()).filter(|at| held[*at]).collect();
        let nearest = all.iter().filter_map(|at| look.depth[*at]).min();
        let mut store = Store::default();
        let mut level = loaded(&mut store, &look.map.texts(), "walk.toml", "map", None);
        let asked = condition.text();
        let mut of = |most: Option<u64>| {
            let budget = most.map_or(budget(), few);
            find(&mut store, &mut level, &asked, (draws, before), &budget)
                .unwrap_or_else(|t| panic!("{t:?}: {text}"))
        };
        let whole = of(None);
        let text = format!("{draws:?}, {before} moves before, {text}");
        assert_eq!(whole.found.count as usize, all.len(), "{text}");
        assert_eq!(whole.found.depth.map(|d| d as u32), nearest, "{text}");
        assert_eq!(whole.end(), if all.is_empty() { End::No } else { End::Yes }, "{text}");
        some += usize::from(!all.is_empty());
        none += usize::from(all.is_empty());
        for most in 1..=look.map.len() as u64 {
            let cut = of(Some(most));
            let text = format!("{most} states, {text}");
            match cut.end() {
                End::Undecided => undecided += 1,
                end => assert_eq!(end, whole.end(), "{text}"),
            }
            assert!(cut.found.count as usize <= all.len(), "{}: {text}", cut.found.count);
            if let Some(position) = &cut.found.position {
                let at = position.line.parse::<usize>().expect("a landing") - 1;
                assert!(held[at], "{at}: {text}");
                assert_eq!(cut.found.depth.map(|d| d as u32), look.depth[at], "{text}");
            }
        }
    });
    assert!(some > 60 && none > 40 && undecided > 100, "{some} {none} {undecided}");
}

#[test]
fn what_comes_soon_is_told_as_the_map_says() {
    let (mut soon, mut never, mut refused, mut undecided) = (0, 0, 0, 0);
    each_condition(7200..7222, |look, condition, _, text| {
        let mut store = Store::default();
        let mut level = loaded(&mut store, &look.map.texts(), "walk.toml", "map", None);
        let asked = condition.text();
        for (plays, draws) in [
            (Plays::Some, Draws::Some),
            (Plays::Some, Draws::Every),
            (Plays::Every, Draws::Some),
            (Plays::Every, Draws::Every),
        ] {
            for within in [0, 1, 2, 4] {
                let text = format!("{plays:?}, {draws:?} within {within}, {text}");
                let mut of = |most: Option<u64>| {
                    let budget = most.map_or(budget(), few);
                    near(&mut store, &mut level, &asked, (within, plays, draws), &budget)
                };
                let whole = match of(None) {
                    Ok(answer) => answer,
                    Err(Trouble::Message(_)) => {
                        let far = condition.depth_asked(0).is_some_and(|on| on > 1);
                        assert!(condition.asks_of_all() || far, "{text}");
                        refused += 1;
                        continue;
                    }
                    Err(other) => panic!("{other:?}: {text}"),
                };
                assert!(!condition.asks_of_all(), "{text}");
                let held = look.held(condition);
                let after = look.soon(&held, within, plays, draws);
                assert_eq!(whole.found.after, after, "{text}");
                assert_eq!(whole.end(), if after.is_some() { End::Yes } else { End::No }, "{text}");
                soon += usize::from(after.is_some_and(|n| n > 0));
                never += usize::from(after.is_none());
                for most in 1..=look.map.len() as u64 {
                    let Ok(cut) = of(Some(most)) else { continue };
                    match cut.end() {
                        End::Undecided => undecided += 1,
                        end => assert_eq!(end, whole.end(), "{most} states, {text}"),
                    }
                }
            }
        }
    });
    assert!(
        soon > 40 && never > 80 && refused > 60 && undecided > 80,
        "{soon} {never} {refused} {undecided}"
    );
}

/// A long way without an end, on which one can go back: nothing is stuck, nothing is dead.
const ROAD: &str = "model road\nstate at: 1..900 = 1\nmove forth {\n    refuse \"the end\" unless at < 900\n    at += 1\n}\n\
    move back {\n    refuse \"the beginning\" unless at > 1\n    at -= 1\n}\ngoal at == 900\n";

#[test]
fn what_was_not_seen_to_its_end_is_neither_winnable_nor_not() {
    let texts = crate::common::Texts::new([
        ("road.fendle", ROAD),
        ("road.toml", "model = 'road.fendle'\n[[level]]\nname = 'long'\n"),
    ]);
    let mut store = Store::default();
    let mut level = loaded(&mut store, &texts, "road.toml", "long", None);
    for (condition, count) in [
        ("running", 50),
        ("not running", 0),
        ("can any", 50),
        ("not can any", 0),
        ("stuck", 0),
        ("not stuck", 50),
        ("won or lost", 0),
        ("winnable", 0),
        ("not winnable", 0),
        ("dead", 0),
        ("not dead", 0),
        ("certain", 0),
        ("not certain", 0),
        ("at == 3 or winnable", 1),
        ("some outcome of any: running", 50),
        ("some outcome of any: not running", 0),
        ("some outcome of forth: not winnable", 0),
        ("depth >= 40", 10),
    ] {
        let answer = find(&mut store, &mut level, condition, (Draws::Some, 0), &few(50)).expect("an answer");
        assert_eq!(answer.found.count, count, "{condition}");
        assert_eq!(answer.end(), if count > 0 { End::Yes } else { End::Undecided }, "{condition}");
    }
    for (condition, end) in
        [("running", End::Yes), ("not running", End::No), ("stuck", End::No), ("at == 4", End::Yes)]
    {
        let how = (3, Plays::Some, Draws::Some);
        let answer = near(&mut store, &mut level, condition, how, &budget()).expect("an answer");
        assert_eq!(answer.end(), end, "{condition}");
    }
}
