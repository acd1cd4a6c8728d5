//! Hidden rocks with weights of their own, setups that change what is likely, and readings that may be false: what can be known and what
//! is best, against sets of weighted layouts that are kept by hand.

use std::collections::{BTreeMap, BTreeSet};

use fendle_ask::explore::{How, explore};
use fendle_ask::fairness::fairness;
use fendle_ask::infer::infer;
use fendle_ask::load::load;
use fendle_ask::moves::moves;
use fendle_ask::odds::{self, ask};
use fendle_ask::{End, Loaded, Store, Want, Wish, within};
use fendle_core::numbers::gcd64;
use fendle_core::odds::Value;

use crate::common::{Dice, Texts, budget, few, seeds};

/// Rocks under water. A sounded cell tells how many of its neighbours hold one; a cell that is listened to tells the truth three times in four.
const SHOAL: &str = "model shoal\nlevel share: grid of 1..9\nlevel rocks: 0..9\nlevel readings: 0..2\nlevel kind: 0..2\n\
    hidden reef: grid of bool\n    each c (true weight share[c], false weight 5) with count(c on reef where reef[c]) == rocks\n\
    state seen: grid of bool = false\nstate more: 0..2 = 0\nstate heard: 0..2 = 0\nstate at: maybe cell = none\n\
    fn near(c: cell) = count(n in around4(c) where reef[n])\ntell near(c) for c on seen where seen[c]\n\
    setup {\n    more = readings\n\
    \x20   if kind == 1 { require not reef[r1c1] because \"the first cell is water\" }\n\
    \x20   if kind == 2 and reef[r1c1] {\n        reef[r1c1] = false\n\
    \x20       let x = draw on reef where not reef[x] and x != r1c1\n        reef[x] = true\n    }\n}\n\
    move sound(c: cell) {\n    refuse \"sounded already\" unless not seen[c]\n    if reef[c] { lose \"struck a rock\" }\n    seen[c] = true\n}\n\
    move listen(c: cell) {\n    refuse \"nothing to listen with\" unless more > 0\n    refuse \"sounded already\" unless not seen[c]\n\
    \x20   more -= 1\n    at = c\n    let honest = draw from (true weight 3, false weight 1)\n\
    \x20   heard = if reef[c] == honest then 1 else 2\n}\n\
    goal count(c on seen where not seen[c]) == rocks\n";

/// A bit for each cell.
type Layout = u32;
/// Layouts and how much each weighs.
type Weights = BTreeMap<Layout, u64>;

struct Shoal {
    size: (usize, usize),
    rocks: u32,
    readings: u32,
    kind: usize,
    share: Vec<u64>,
}

/// What is visible, and what may lie beneath: sounded cells, readings that are left, what was heard and where, whether a rock was struck.
type Known = (u32, u32, u32, Option<usize>, bool, Weights);

fn reduced(weights: Weights) -> Weights {
    let g = weights.values().fold(0, |g, w| gcd64(*w, g));
    weights.into_iter().map(|(l, w)| (l, w / g)).collect()
}

/// A move: `sound` or `listen`, and the cell.
type Call = (bool, usize);

impl Shoal {
    fn any(dice: &mut Dice) -> Shoal {
        let size = [(1, 3), (1, 4), (2, 2)][dice.below(3)];
        let cells = size.0 * size.1;
        let rocks = 1 + dice.below(cells - 2) as u32;
        let share = (0..cells).map(|_| 1 + dice.below(9) as u64).collect();
        Shoal { size, rocks, readings: dice.below(3) as u32, kind: dice.below(3), share }
    }

    fn cells(&self) -> usize {
        self.size.0 * self.size.1
    }

    fn near(&self, layout: Layout, at: usize) -> u32 {
        let (rows, cols) = self.size;
        let (r, c) = (at / cols, at % cols);
        let is = |r: usize, c: usize| r < rows && c < cols && layout >> (r * cols + c) & 1 == 1;
        [(r.wrapping_sub(1), c), (r, c.wrapping_sub(1)), (r, c + 1), (r + 1, c)]
            .into_iter()
            .filter(|(r, c)| is(*r, *c))
            .count() as u32
    }

    /// The layouts with which play begins, as the setup leaves them.
    fn prior(&self) -> Weights {
        let n = self.cells();
        let all = (0..1u32 << n).filter(|l| l.count_ones() == self.rocks);
        let weight =
            |l: Layout| (0..n).map(|c| if l >> c & 1 == 1 { self.share[c] } else { 5 }).product::<u64>();
        let mut out = Weights::new();
        // Where the first cell's rock goes elsewhere it may go to as many cells.
        let free = (n as u32 - self.rocks) as u64;
        for l in all {
            let w = weight(l);
            match self.kind {
                1 if l & 1 == 1 => {}
                2 if l & 1 == 1 => {
                    for x in (1..n).filter(|x| l >> x & 1 == 0) {
                        *out.entry(l & !1 | 1 << x).or_default() += w;
                    }
                }
                2 => *out.entry(l).or_default() += w * free,
                _ => *out.entry(l).or_default() += w,
            }
        }
        reduced(out)
    }

    fn start(&self) -> Known {
        (0, self.readings, 0, None, false, self.prior())
    }

    fn is_won(&self, known: &Known) -> bool {
        !known.4 && self.cells() as u32 - known.0.count_ones() == self.rocks
    }

    /// The moves, and what each shows with how much weight, on one scale.
    fn moves(&self, known: &Known) -> Vec<(Call, Vec<(Known, u64)>)> {
        if known.4 || self.is_won(known) {
            return vec![];
        }
        let (seen, left, heard, at, _, layouts) = known;
        let closed = (0..self.cells()).filter(|c| seen >> c & 1 == 0);
        let mut out = vec![];
        /// What is visible, and what was told.
        type Shown = (u32, u32, u32, Option<usize>, bool, u32);
        let shown = |parts: BTreeMap<Shown, Weights>| {
            parts
                .into_iter()
                .map(|((seen, left, heard, at, lost, _), w)| {
                    let sum = w.values().sum();
                    ((seen, left, heard, at, lost, reduced(w)), sum)
                })
                .collect::<Vec<_>>()
        };
        for c in closed.clone() {
            let mut parts: BTreeMap<_, Weights> = BTreeMap::new();
            for (l, w) in layouts {
                let key = match l >> c & 1 {
                    1 => (*seen, *left, *heard, *at, true, 0),
                    _ => (seen | 1 << c, *left, *heard, *at, false, self.near(*l, c)),
                };
                *parts.entry(key).or_default().entry(*l).or_default() += w;
            }
            out.push(((true, c), shown(parts)));
        }
        for c in closed.filter(|_| *left > 0) {
            let mut parts: BTreeMap<_, Weights> = BTreeMap::new();
            for (l, w) in layouts {
                for (honest, times) in [(true, 3), (false, 1)] {
                    let heard = if (l >> c & 1 == 1) == honest { 1 } else { 2 };
                    let key = (*seen, left - 1, heard, Some(c), false, 0);
                    *parts.entry(key).or_default().entry(*l).or_default() += w * times;
                }
            }
            out.push(((false, c), shown(parts)));
        }
        out
    }

    /// Everything that can come to be known.
    fn all_known(&self) -> BTreeSet<Known> {
        let start = self.start();
        let (mut met, mut work) = (BTreeSet::from([start.clone()]), vec![start]);
        while let Some(known) = work.pop() {
            for (next, _) in self.moves(&known).into_iter().flat_map(|m| m.1) {
                if met.insert(next.clone()) {
                    work.push(next);
                }
            }
        }
        met
    }

    /// The best chance to win, within so many moves where that is said.
    fn best(
        &self,
        known: &Known,
        within: Option<u32>,
        seen: &mut BTreeMap<(Known, Option<u32>), f64>,
    ) -> f64 {
        if self.is_won(known) {
            return 1.0;
        }
        if within == Some(0) {
            return 0.0;
        }
        let key = (known.clone(), within);
        if let Some(best) = seen.get(&key) {
            return *best;
        }
        let less = within.map(|n| n - 1);
        let best = self.moves(known).iter().map(|m| self.worth(&m.1, less, seen)).fold(0.0, f64::max);
        seen.insert(key, best);
        best
    }

    fn worth(
        &self,
        shown: &[(Known, u64)],
        within: Option<u32>,
        seen: &mut BTreeMap<(Known, Option<u32>), f64>,
    ) -> f64 {
        let all: u64 = shown.iter().map(|s| s.1).sum();
        shown.iter().map(|(known, w)| *w as f64 / all as f64 * self.best(known, within, seen)).sum()
    }

    fn name(&self, (sounds, cell): Call) -> String {
        let (r, c) = (cell / self.size.1 + 1, cell % self.size.1 + 1);
        format!("{} r{r}c{c}", if sounds { "sound" } else { "listen" })
    }

    fn loaded(&self, store: &mut Store) -> Loaded {
        let share: Vec<String> = self
            .share
            .chunks(self.size.1)
            .map(|r| r.iter().map(u64::to_string).collect::<Vec<_>>().join(" "))
            .collect();
        let level = format!(
            "model = 'shoal.fendle'\n[[level]]\nname = 'shoal'\nsize = [{}, {}]\nvalues.rocks = {}\nvalues.readings = {}\nvalues.kind = {}\nvalues.share = '''\n{}\n'''\n",
            self.size.0,
            self.size.1,
            self.rocks,
            self.readings,
            self.kind,
            share.join("\n")
        );
        let texts = Texts::new([("shoal.fendle", SHOAL), ("shoal.toml", level.as_str())]);
        let wish = Wish { file: "shoal.toml".into(), as_player: true, ..Wish::default() };
        load(store, &texts, &wish, Want::All, &budget()).unwrap_or_else(|t| panic!("{t:?}\n{level}"))
    }

    fn words(&self) -> String {
        format!(
            "{:?}, {} rocks, {} readings, setup {}, {:?}",
            self.size, self.rocks, self.readings, self.kind, self.share
        )
    }
}

fn each_shoal(range: std::ops::Range<u64>, mut ask: impl FnMut(&Shoal, &Store, &Loaded, String)) {
    for seed in seeds(range) {
        let shoal = Shoal::any(&mut Dice::new(seed));
        let mut store = Store::default();
        let level = shoal.loaded(&mut store);
        ask(&shoal, &store, &level, shoal.words());
    }
}

fn holds(value: &Value, exact: f64) -> bool {
    value.low() <= exact + 1e-9 && exact <= value.high() + 1e-9
}

#[test]
fn information_states_weigh_layouts_as_they_were_made_likely() {
    let (mut large, mut cut) = (0, 0);
    each_shoal(0..40, |shoal, store, level, words| {
        let all = shoal.all_known();
        let c = explore(store, level, How::default(), &budget()).expect("an answer").found.counts;
        let won = all.iter().filter(|k| shoal.is_won(k)).count() as u64;
        let lost = all.iter().filter(|k| k.4).count() as u64;
        assert_eq!((c.states, c.goal, c.lost), (all.len() as u64, won, lost), "{words}");
        assert_eq!((c.dead, c.stuck, c.winnable), (0, 0, all.len() as u64 - won - lost), "{words}");
        let ways: usize = all.iter().flat_map(|k| shoal.moves(k)).map(|m| m.1.len()).sum();
        assert_eq!(c.transitions as usize, ways, "{words}");
        large += usize::from(all.len() > 100);
        for most in [1, 2, all.len() as u64 / 2, all.len() as u64 - 1] {
            let answer = explore(store, level, How::default(), &few(most)).expect("an answer");
            assert!(answer.found.counts.states <= most, "{most}: {words}");
            cut += usize::from(answer.end() == End::Undecided);
        }
    });
    assert!(large > 8 && cut > 60, "{large} {cut}");
}

#[test]
fn chances_are_those_of_the_best_way_to_sound_and_listen() {
    let (mut helped, mut sure) = (0, 0);
    each_shoal(50..100, |shoal, store, level, words| {
        let start = shoal.start();
        let mut seen = BTreeMap::new();
        let best = shoal.best(&start, None, &mut seen);
        let found = ask(store, level, odds::How::default(), &budget()).expect("an answer").found;
        let told = found.best_probability.as_ref().expect("a goal");
        assert!(holds(told, best) && told.high() - told.low() < 1e-6, "{told:?}, {best}: {words}");
        assert_eq!(found.almost_certain, Some(best > 1.0 - 1e-12), "{words}");
        for worth in found.moves.iter().flatten() {
            let own = shoal.moves(&start).into_iter().find(|m| shoal.name(m.0) == worth.name);
            let own = own.unwrap_or_else(|| panic!("{}: {words}", worth.name));
            let want = shoal.worth(&own.1, None, &mut seen);
            let told = worth.best_probability.as_ref().expect("a goal");
            assert!(holds(told, want), "{}: {told:?}, {want}: {words}", worth.name);
        }
        let deaf = Shoal { readings: 0, share: shoal.share.clone(), ..*shoal };
        let without = deaf.best(&deaf.start(), None, &mut BTreeMap::new());
        assert!(without <= best + 1e-12, "who listens loses nothing: {words}");
        helped += usize::from(without + 1e-9 < best);
        sure += usize::from(best > 1.0 - 1e-12);
        for moves in 0..4 {
            let near = within::ask(level, moves, &budget()).expect("an answer").found;
            let want = shoal.best(&start, Some(moves), &mut seen);
            let told = near.best_probability.as_ref().expect("a goal");
            assert!(
                holds(told, want) && told.high() - told.low() < 1e-9,
                "{told:?}, {want} in {moves}: {words}"
            );
        }
        for most in [1, 3, 10, 40] {
            let how = odds::How { plays: Some(1), ..odds::How::default() };
            let cut = ask(store, level, how, &few(most)).expect("an answer").found;
            let told = cut.best_probability.as_ref().expect("a goal");
            assert!(holds(told, best), "{told:?}, {best} in {most} states: {words}");
        }
    });
    assert!(helped > 8 && sure < 40, "{helped} {sure}");
}

#[test]
fn risks_are_shares_of_the_weight() {
    let (mut risks, mut safe) = (0, 0);
    each_shoal(100..150, |shoal, store, level, words| {
        let prior = shoal.prior();
        let all: u64 = prior.values().sum();
        let allowed = moves(store, level, &budget()).expect("an answer").found.allowed.len();
        assert_eq!(allowed, shoal.moves(&shoal.start()).len(), "{words}");
        let Ok(answer) = infer(store, level, None, &budget()) else { return };
        let mut seen = BTreeMap::new();
        for of in &answer.found.moves {
            let own = shoal.moves(&shoal.start()).into_iter().find(|m| shoal.name(m.0) == of.name);
            let ((sounds, cell), shown) = own.unwrap_or_else(|| panic!("{}: {words}", of.name));
            let struck: u64 = prior.iter().filter(|l| l.0 >> cell & 1 == 1).map(|l| l.1).sum();
            let struck = if sounds { struck } else { 0 };
            if let Some(risk) = &of.risk {
                let g = gcd64(struck, all);
                let want = if struck == 0 { "0".into() } else { format!("{}/{}", struck / g, all / g) };
                let want = if struck == all { "1".into() } else { want };
                assert_eq!(risk.to_string(), want, "{}: {words}", of.name);
                risks += 1;
                safe += usize::from(struck == 0);
            }
            if let Some(win) = &of.win {
                let want = shoal.worth(&shown, None, &mut seen);
                assert!(holds(win, want), "{}: {win:?}, {want}: {words}", of.name);
            }
        }
        // Without readings a careful play sounds what is water in every layout, and nothing else.
        if shoal.readings == 0 {
            let Ok(fair) = fairness(level, &budget()) else { return };
            let sure = shoal.best(&shoal.start(), None, &mut seen) > 1.0 - 1e-12;
            assert!(!fair.found.no_guess || sure, "{words}");
        }
    });
    assert!(risks > 60 && safe > 5, "{risks} {safe}");
}
