//! Hidden things in a row of pots: what can be known, and what is best, against all layouts one by one.

use std::collections::{BTreeMap, BTreeSet};

use fendle_ask::explore::{How, explore};
use fendle_ask::fairness::fairness;
use fendle_ask::infer::infer;
use fendle_ask::load::load;
use fendle_ask::odds::{self, ask};
use fendle_ask::{End, Loaded, Store, Want, Wish, within};
use fendle_core::odds::Value;

use crate::common::{Dice, Texts, budget, few};

/// Pots in a row; some hold a crab. An empty one tells how many of its neighbours hold one.
const POTS: &str = "model pots\nlevel crabs: 0..9\nhidden crab: grid of bool with count(c on crab where crab[c]) == crabs\n\
    state lifted: grid of bool = false\n\
    fn near(c: cell) = count(n in around4(c) where crab[n])\n\
    tell near(c) for c on lifted where lifted[c]\n\
    move lift(c: cell) {\n    refuse \"lifted already\" unless not lifted[c]\n    if crab[c] { lose \"a crab\" }\n    lifted[c] = true\n}\n\
    goal count(c on lifted where not lifted[c]) == crabs\n\
    always not any(c on lifted where lifted[c]: crab[c]) because \"what was lifted holds none\"\n";

/// A layout: a bit for each pot.
type Layout = u32;

/// A row, what lies in it, and which pots were lifted.
pub struct Row {
    len: usize,
    crabs: u32,
    layout: Layout,
    lifted: u32,
}

impl Row {
    fn any(dice: &mut Dice) -> Row {
        let len = 3 + dice.below(4);
        let crabs = 1 + dice.below(len - 2) as u32;
        let mut layout: Layout = 0;
        while layout.count_ones() < crabs {
            layout |= 1 << dice.below(len);
        }
        let free: Vec<usize> = (0..len).filter(|i| layout >> i & 1 == 0).collect();
        // At least one pot stays closed that could be lifted.
        let lifted = free.iter().skip(1).filter(|_| dice.below(2) == 0).fold(0, |bits, i| bits | 1 << i);
        Row { len, crabs, layout, lifted }
    }

    fn all(&self) -> Vec<Layout> {
        (0..1 << self.len).filter(|l: &Layout| l.count_ones() == self.crabs).collect()
    }

    fn near(layout: Layout, pot: usize) -> u32 {
        (layout << 1 >> pot & 1) + (layout >> 1 >> pot & 1)
    }

    /// The layouts that agree with what the lifted pots tell.
    fn possible(&self, lifted: u32) -> Vec<Layout> {
        let told = |pot: &usize| lifted >> pot & 1 == 1;
        let agrees = |l: &Layout| {
            l & lifted == 0
                && (0..self.len).filter(told).all(|pot| Row::near(*l, pot) == Row::near(self.layout, pot))
        };
        self.all().into_iter().filter(agrees).collect()
    }

    fn is_done(&self, lifted: u32) -> bool {
        self.len as u32 - lifted.count_ones() == self.crabs
    }

    /// The best number of layouts, of these, that one way of playing wins.
    fn best(&self, lifted: u32, layouts: &[Layout], seen: &mut BTreeMap<(u32, Vec<Layout>), u32>) -> u32 {
        if self.is_done(lifted) {
            return layouts.len() as u32;
        }
        if let Some(best) = seen.get(&(lifted, layouts.to_vec())) {
            return *best;
        }
        let mut best = 0;
        for pot in (0..self.len).filter(|pot| lifted >> pot & 1 == 0) {
            best = best.max(self.worth(pot, lifted, layouts, seen));
        }
        seen.insert((lifted, layouts.to_vec()), best);
        best
    }

    /// The same, when this pot is lifted first.
    fn worth(
        &self,
        pot: usize,
        lifted: u32,
        layouts: &[Layout],
        seen: &mut BTreeMap<(u32, Vec<Layout>), u32>,
    ) -> u32 {
        let mut told: BTreeMap<u32, Vec<Layout>> = BTreeMap::new();
        for layout in layouts.iter().filter(|l| *l >> pot & 1 == 0) {
            told.entry(Row::near(*layout, pot)).or_default().push(*layout);
        }
        told.values().map(|group| self.best(lifted | 1 << pot, group, seen)).sum()
    }

    fn bits(&self, bits: u32) -> String {
        (0..self.len).map(|i| if bits >> i & 1 == 1 { 'x' } else { '.' }).collect()
    }

    pub fn loaded(&self, store: &mut Store) -> Loaded {
        let level = format!(
            "model = 'pots.fendle'\n[[level]]\nname = 'row'\nvalues.crabs = {}\nstart.crab = '''\n{}\n'''\nstart.lifted = '''\n{}\n'''\n",
            self.crabs,
            self.bits(self.layout),
            self.bits(self.lifted)
        );
        let texts = Texts::new([("pots.fendle", POTS), ("row.toml", level.as_str())]);
        let wish = Wish { file: "row.toml".into(), as_player: true, ..Wish::default() };
        load(store, &texts, &wish, Want::All, &budget()).unwrap_or_else(|t| panic!("{t:?}\n{level}"))
    }
}

pub fn each_row(seeds: std::ops::Range<u64>, mut ask: impl FnMut(&Row, String)) {
    for seed in crate::common::seeds(seeds) {
        let row = Row::any(&mut Dice::new(seed));
        let words = format!("{} crabs, {}, lifted {}", row.crabs, row.bits(row.layout), row.bits(row.lifted));
        ask(&row, words);
    }
}

fn exact(part: u32, all: usize) -> Value {
    Value::Exact(format!("{part}/{all}").parse().expect("a fraction"))
}

#[test]
fn risks_and_chances_are_counted_over_all_layouts() {
    let mut guesses = 0;
    each_row(0..60, |row, words| {
        let mut store = Store::default();
        let level = row.loaded(&mut store);
        let possible = row.possible(row.lifted);
        let answer = infer(&store, &level, None, &budget()).expect("an answer");
        let found = answer.found;
        let closed: Vec<usize> = (0..row.len).filter(|pot| row.lifted >> pot & 1 == 0).collect();
        assert_eq!(found.moves.len(), closed.len(), "{words}");
        let mut seen = BTreeMap::new();
        for of in &found.moves {
            let pot = (closed.iter().copied()).find(|pot| of.name == format!("lift r1c{}", pot + 1));
            let pot = pot.unwrap_or_else(|| panic!("{}: {words}", of.name));
            let risky = possible.iter().filter(|l| *l >> pot & 1 == 1).count();
            let risk = of.risk.as_ref().expect("it is counted").to_string();
            let want = exact(risky as u32, possible.len());
            let Value::Exact(want) = &want else { unreachable!("made above") };
            assert_eq!(risk, want.to_string(), "{}: {words}", of.name);
            if let Some(win) = &of.win {
                let best = row.worth(pot, row.lifted, &possible, &mut seen);
                assert_eq!(*win, exact(best, possible.len()), "{}: {words}", of.name);
            }
        }
        let best = row.best(row.lifted, &possible, &mut seen);
        let odds = ask(&store, &level, odds::How::default(), &budget()).expect("an answer").found;
        assert_eq!(odds.best_probability, Some(exact(best, possible.len())), "{words}");
        assert_eq!(odds.certain, Some(best as usize == possible.len()), "{words}");
        guesses += u32::from((best as usize) < possible.len());
    });
    assert!(guesses > 10, "{guesses} rows cannot be won for certain");
}

#[test]
fn a_careful_play_guesses_only_where_nothing_is_safe() {
    let (mut fair, mut unfair) = (0, 0);
    each_row(60..140, |row, words| {
        let mut store = Store::default();
        let level = row.loaded(&mut store);
        // Lift what is safe in all layouts that are possible, again and again.
        let mut lifted = row.lifted;
        let no_guess = loop {
            if row.is_done(lifted) {
                break true;
            }
            let possible = row.possible(lifted);
            let safe = (0..row.len)
                .filter(|pot| lifted >> pot & 1 == 0 && possible.iter().all(|l| l >> pot & 1 == 0))
                .fold(0, |bits, pot| bits | 1 << pot);
            if safe == 0 {
                break false;
            }
            lifted |= safe;
        };
        let found = fairness(&level, &budget()).expect("an answer").found;
        assert_eq!(found.no_guess, no_guess, "{words}");
        assert_eq!(found.guesses.is_empty(), no_guess, "{words}");
        if no_guess {
            assert!(found.finished && found.chance_to_survive_all.to_string() == "1", "{words}");
            fair += 1;
        } else {
            // The first guess comes where nothing is safe any more.
            let safe_moves = (lifted & !row.lifted).count_ones() as usize;
            assert_eq!(found.guesses[0].after, safe_moves, "{words}");
            unfair += 1;
        }
    });
    assert!(fair > 10 && unfair > 10, "{fair} fair rows, {unfair} others");
}

/// What a player can come to know: which pots are lifted, which layouts are possible, and whether a crab was met.
type Known = (u32, Vec<Layout>, bool);

impl Row {
    /// Everything that can be known, from what the row tells at the start.
    fn all_known(&self) -> BTreeSet<Known> {
        let start = (self.lifted, self.possible(self.lifted), false);
        let (mut met, mut work) = (BTreeSet::from([start.clone()]), vec![start]);
        while let Some((lifted, layouts, ended)) = work.pop() {
            if ended || self.is_done(lifted) {
                continue;
            }
            for pot in (0..self.len).filter(|pot| lifted >> pot & 1 == 0) {
                let mut next: BTreeMap<Option<u32>, Vec<Layout>> = BTreeMap::new();
                for layout in &layouts {
                    let told = (layout >> pot & 1 == 0).then(|| Row::near(*layout, pot));
                    next.entry(told).or_default().push(*layout);
                }
                for (told, group) in next {
                    let lifted = if told.is_some() { lifted | 1 << pot } else { lifted };
                    let known = (lifted, group, told.is_none());
                    if met.insert(known.clone()) {
                        work.push(known);
                    }
                }
            }
        }
        met
    }
}

#[test]
fn states_are_what_can_be_known() {
    let mut cut = 0;
    each_row(140..200, |row, words| {
        let mut store = Store::default();
        let level = row.loaded(&mut store);
        let known = row.all_known();
        let answer = explore(&store, &level, How::default(), &budget()).expect("an answer");
        let c = &answer.found.counts;
        let won = known.iter().filter(|(lifted, _, ended)| !ended && row.is_done(*lifted)).count();
        let lost = known.iter().filter(|k| k.2).count();
        assert_eq!((c.states, c.goal, c.lost), (known.len() as u64, won as u64, lost as u64), "{words}");
        // From everything that is known and not at an end one can still be lucky.
        assert_eq!((c.dead, c.stuck, c.winnable), (0, 0, (known.len() - won - lost) as u64), "{words}");
        for most in 1..known.len() as u64 {
            let answer = explore(&store, &level, How::default(), &few(most)).expect("an answer");
            assert_eq!((answer.found.counts.states, answer.end()), (most, End::Undecided), "{most}: {words}");
            cut += 1;
        }
    });
    assert!(cut > 200, "{cut} cut spaces");
}

#[test]
fn chances_of_what_is_hidden_are_bounds_under_a_limit() {
    let mut open = 0;
    each_row(200..240, |row, words| {
        let mut store = Store::default();
        let level = row.loaded(&mut store);
        let possible = row.possible(row.lifted);
        let best = row.best(row.lifted, &possible, &mut BTreeMap::new());
        let exact = f64::from(best) / possible.len() as f64;
        for most in 1..row.all_known().len() as u64 + 2 {
            let how = odds::How { plays: Some(2), ..odds::How::default() };
            let answer = ask(&store, &level, how, &few(most)).expect("an answer");
            let Some(value) = &answer.found.best_probability else { continue };
            assert!(
                value.low() <= exact + 1e-9 && exact <= value.high() + 1e-9,
                "{most}, {value:?}, {exact}: {words}"
            );
            let certain = answer.found.certain;
            assert!(certain.is_none_or(|c| c == (best as usize == possible.len())), "{most}: {words}");
            open += u32::from(answer.end() == End::Undecided);
            let near = within::ask(&level, 2, &few(most)).expect("an answer").found;
            let whole = within::ask(&level, 2, &budget()).expect("an answer").found;
            if let (Some(some), Some(all)) = (near.best_probability, whole.best_probability) {
                let all = all.middle();
                assert!(
                    some.low() <= all + 1e-9 && all <= some.high() + 1e-9,
                    "{most}, {some:?}, {all}: {words}"
                );
            }
        }
    });
    assert!(open > 100, "{open} open answers");
}
