//! Packs: facts written down and held against later ones, profiles, wishes, mending; and spaces side by side.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::path::Path;
use std::sync::Arc;

use fendle_ask::audit::{self, Audited, Job};
use fendle_ask::compare::{Shapes, compare};
use fendle_ask::load::Source;
use fendle_ask::making::boards::Template;
use fendle_ask::making::figures::{Figures, Judged, judge};
use fendle_ask::making::mend::{Order, mend};
use fendle_ask::making::source_of;
use fendle_ask::making::wish::Wish;
use fendle_ask::profile::profile;
use fendle_ask::{End, Loaded, Provider, Store, frozen};
use fendle_core::Limits;

use crate::common::{Dice, Map, Texts, budget, few, loaded, seeds};

/// The same map with its landings in another order; the start stays the first.
fn shuffled(map: &Map, dice: &mut Dice) -> Map {
    let mut order: Vec<usize> = (1..map.len()).collect();
    for i in (1..order.len()).rev() {
        order.swap(i, dice.below(i + 1));
    }
    order.insert(0, 0);
    // `order[i]` is the landing that is number i from now on.
    let new = |old: usize| order.iter().position(|o| *o == old).expect("each is somewhere");
    let ways =
        |old: &usize| map.ways[*old].clone().map(|list| list.into_iter().map(|(t, w)| (new(t), w)).collect());
    Map {
        ways: order.iter().map(ways).collect(),
        won: order.iter().map(|old| map.won[*old]).collect(),
        lost: order.iter().map(|old| map.lost[*old]).collect(),
    }
}

#[test]
fn renumbered_maps_have_the_same_shape() {
    for seed in seeds(3000..3080) {
        let mut dice = Dice::new(seed);
        let map = Map::any(&mut dice, seed % 2 == 1);
        let other = shuffled(&map, &mut dice);
        let mut store = Store::default();
        let a = loaded(&mut store, &map.texts(), "walk.toml", "map", None);
        let mut second = Store::default();
        let b = loaded(&mut second, &other.texts(), "walk.toml", "map", None);
        let answer = compare(&store, &a, &b, &budget()).expect("an answer");
        assert!(matches!(answer.found.shapes, Shapes::Same), "{}\n{}", map.model(), other.model());
        assert_eq!(answer.found.first.counts.named(), answer.found.second.counts.named());
        // With one more won landing among those that can be reached the statuses differ, or what can be reached.
        let mut third = map.clone();
        let Some(at) = map.allowed(0).first().map(|(_, to)| to[0].0).filter(|at| *at > 0 && !map.won[*at])
        else {
            continue;
        };
        (third.won[at], third.lost[at]) = (true, false);
        let mut store_of_third = Store::default();
        let c = loaded(&mut store_of_third, &third.texts(), "walk.toml", "map", None);
        let answer = compare(&store, &a, &c, &budget()).expect("an answer");
        assert!(matches!(answer.found.shapes, Shapes::Different(_)), "{}\n{}", map.model(), third.model());
        assert_eq!(answer.end(), End::No);
    }
}

/// The same map with some ways closed, and some landings won or lost.
fn changed(map: &Map, dice: &mut Dice) -> Map {
    let mut other = map.clone();
    for _ in 0..1 + dice.below(3) {
        let at = dice.below(map.len());
        match dice.below(3) {
            0 => other.ways[at][dice.below(3)] = vec![],
            1 => other.ways[at][dice.below(3)] = vec![(dice.below(map.len()), 1)],
            _ if at > 0 => (other.won[at], other.lost[at]) = (!other.won[at], false),
            _ => {}
        }
    }
    other
}

#[test]
fn what_is_only_in_one_is_told_only_where_the_other_was_seen() {
    type Edges = BTreeSet<(usize, usize)>;
    let reached = |map: &Map| -> BTreeSet<usize> {
        map.depths(&[0]).iter().enumerate().filter(|(_, d)| d.is_some()).map(|(at, _)| at).collect()
    };
    let edges = |map: &Map, both: &BTreeSet<usize>| -> Edges {
        let of = |at: &usize| -> Vec<(usize, usize)> {
            map.allowed(*at).iter().flat_map(|m| m.1.iter().map(|t| (*at, t.0))).collect()
        };
        both.iter().flat_map(of).filter(|e| both.contains(&e.1)).collect()
    };
    let (mut told, mut kept_back) = (0, 0);
    for seed in seeds(3700..3740) {
        let mut dice = Dice::new(seed);
        let map = Map::any(&mut dice, seed % 2 == 0);
        let other = changed(&map, &mut dice);
        let (mut one, mut two) = (Store::default(), Store::default());
        let a = loaded(&mut one, &map.texts(), "walk.toml", "map", None);
        let b = loaded(&mut two, &other.texts(), "walk.toml", "map", None);
        let (ra, rb) = (reached(&map), reached(&other));
        let both: BTreeSet<usize> = ra.intersection(&rb).copied().collect();
        let (ea, eb) = (edges(&map, &both), edges(&other, &both));
        for most in 1..=map.len() as u64 + 1 {
            let whole = most > map.len() as u64;
            let limits = if whole { budget() } else { few(most) };
            let found = compare(&one, &a, &b, &limits).expect("an answer").found;
            let text = format!("{most} states: {} {}", map.model(), other.model());
            let m = found.matched.as_ref().expect("they begin alike");
            assert!(m.states_in_both as usize <= both.len(), "{text}");
            let ended = |map: &Map, at: usize| (map.won[at], map.lost[at], map.allowed(at).is_empty());
            let least = both.iter().filter(|at| ended(&map, **at) != ended(&other, **at)).count();
            assert!(!whole || m.other_status as usize >= least, "{text}");
            let seen = (found.first.counts.complete, found.second.counts.complete);
            for (only, want, is_seen) in [
                (&m.states_only_in_first, ra.difference(&rb).count(), seen.1),
                (&m.states_only_in_second, rb.difference(&ra).count(), seen.0),
                (&m.edges_only_in_first, ea.difference(&eb).count(), seen.1),
                (&m.edges_only_in_second, eb.difference(&ea).count(), seen.0),
            ] {
                assert_eq!(only.is_some(), is_seen, "{text}");
                let Some(only) = only else {
                    kept_back += 1;
                    continue;
                };
                told += 1;
                assert!(only.count as usize <= want, "{only:?}, {want}: {text}");
                assert!(!whole || only.count as usize == want, "{only:?}, {want}: {text}");
            }
        }
    }
    assert!(told > 300 && kept_back > 300, "{told} {kept_back}");
}

/// Audits the levels of one file.
fn audited(texts: &Texts, file: &str) -> Vec<Audited> {
    let mut store = Store::default();
    let mut errors = vec![];
    let jobs = jobs(&mut store, texts, file);
    let list = audit::audit(&store, &jobs, &budget(), &mut errors);
    assert!(errors.is_empty(), "{errors:?}");
    list
}

fn jobs(store: &mut Store, texts: &Texts, file: &str) -> Vec<Job> {
    let mut errors = vec![];
    let text = texts.read(Path::new(file)).expect("it is there");
    let (levels, model) = store.levels(texts, Path::new(file), text, &mut errors).expect("a sound file");
    let job = |level: &fendle_lang::syntax::level::Level| Job {
        path: file.into(),
        source: Source {
            file: levels.file,
            file_title: String::new(),
            model: Arc::clone(&model),
            level: level.clone(),
        },
    };
    levels.levels.iter().map(job).collect()
}

/// A barrow on a lane: pulled into the mud at its left end it stays there.
fn lane(levels: &[(&str, u32)]) -> Texts {
    let model = "model lane\nlevel long: 3..40 = 5\nstate at: 1..long = 2\n\
        move pull {\n    refuse \"the end\" unless at > 1\n    at -= 1\n}\n\
        move push {\n    refuse \"mud\" unless at > 1\n    refuse \"the end\" unless at < long\n    at += 1\n}\n\
        goal at == long\n";
    let text: String = levels
        .iter()
        .map(|(name, long)| format!("[[level]]\nname = '{name}'\nvalues.long = {long}\n"))
        .collect();
    Texts::new([("lane.fendle", model), ("lane.toml", &format!("model = 'lane.fendle'\n{text}"))])
}

#[test]
fn facts_that_were_frozen_are_held_against_later_ones() {
    let before = audited(&lane(&[("short", 5), ("long", 9), ("gone", 4)]), "lane.toml");
    let facts = |list: &[Audited]| frozen::facts(list, Path::new(""), &budget());
    let written = facts(&before);
    assert_eq!(written.levels.len(), 3);
    // Five cells: the goal, the mud, three between; one fatal move, out of cell 2.
    let of = |name: &str, fact: &str| {
        let level = written.levels.iter().find(|l| l.level == name).expect("a level");
        level.facts[fact].clone()
    };
    assert_eq!(of("short", "states"), 5);
    assert_eq!((of("short", "moves"), of("long", "moves")), (3.into(), 7.into()));
    assert_eq!((of("long", "fatal_moves"), of("long", "verdict")), (1.into(), "solvable".into()));
    let text = serde_json::to_string(&written).expect("text keys");
    assert_eq!(frozen::read(&text, "facts.json").expect("it was just written"), written);
    assert!(
        frozen::read(&text.replace("\"fendle_frozen\":1", "\"fendle_frozen\":7"), "f")
            .expect_err("7")
            .contains("version 7")
    );
    assert!(frozen::read("{}", "f").expect_err("nothing").contains("no frozen facts"));
    // The same again: nothing to be said. Then `long` has grown, one level is gone and one is new.
    let mut same = audited(&lane(&[("short", 5), ("long", 9), ("gone", 4)]), "lane.toml");
    let now = facts(&same);
    assert!(frozen::compare(&mut same, &written, &now).is_empty());
    assert!(same.iter().all(|a| a.end == End::Yes && a.differs.is_empty()));
    let mut later = audited(&lane(&[("short", 5), ("long", 11), ("new", 6)]), "lane.toml");
    let now = facts(&later);
    let said = frozen::compare(&mut later, &written, &now);
    assert_eq!(
        said,
        ["lane.toml, new: not frozen yet", "lane.toml, gone: frozen, and not in the pack any more"]
    );
    assert_eq!(later.iter().map(|a| a.end).collect::<Vec<_>>(), [End::Yes, End::No, End::Yes]);
    assert!(later[1].differs.contains(&"frozen: moves was 7, is 9".to_string()), "{:?}", later[1].differs);
    assert!(later[1].differs.contains(&"frozen: states was 9, is 11".to_string()), "{:?}", later[1].differs);
}

#[test]
fn a_profile_tells_figures_and_where_they_jump() {
    let texts = lane(&[("one", 5), ("two", 6), ("three", 20), ("four", 20)]);
    let mut store = Store::default();
    let jobs = jobs(&mut store, &texts, "lane.toml");
    let mut errors = vec![];
    let found = profile(&store, &jobs, &budget(), &mut errors);
    assert!(errors.is_empty(), "{errors:?}");
    let figure = |level: usize, name: &str| found.levels[level].figures[name];
    for (level, long) in [5.0, 6.0, 20.0, 20.0].into_iter().enumerate() {
        assert_eq!((figure(level, "moves"), figure(level, "states")), (Some(long - 2.0), Some(long)));
        assert_eq!(
            (figure(level, "fatal_moves"), figure(level, "first_fatal_depth")),
            (Some(1.0), Some(0.0))
        );
    }
    let moves: Vec<(&str, f64, f64)> = found
        .jumps
        .iter()
        .filter(|j| j.figure == "moves")
        .map(|j| (j.level.as_str(), j.before, j.after))
        .collect();
    assert_eq!(moves, [("three", 4.0, 18.0)]);
    let alike: Vec<_> =
        found.alike.iter().map(|a| (a.levels.clone(), a.same.contains(&"shape of space"))).collect();
    assert!(alike.contains(&(["three".into(), "four".into()], true)), "{alike:?}");
    assert!(!alike.iter().any(|a| a.1 && a.0[0] != "three"), "{alike:?}");
}

/// A condition over figures, as a tree of its own, with what it comes to.
fn any_wish(dice: &mut Dice, figures: &[(&'static str, Option<f64>)], depth: u32) -> (String, Option<bool>) {
    match dice.below(if depth == 0 { 1 } else { 4 }) {
        1 => {
            let ((a, x), (b, y)) = (any_wish(dice, figures, depth - 1), any_wish(dice, figures, depth - 1));
            let holds = match (x, y) {
                (Some(false), _) | (_, Some(false)) => Some(false),
                (Some(true), Some(true)) => Some(true),
                _ => None,
            };
            (format!("({a}) and ({b})"), holds)
        }
        2 => {
            let ((a, x), (b, y)) = (any_wish(dice, figures, depth - 1), any_wish(dice, figures, depth - 1));
            let holds = match (x, y) {
                (Some(true), _) | (_, Some(true)) => Some(true),
                (Some(false), Some(false)) => Some(false),
                _ => None,
            };
            (format!("({a}) or ({b})"), holds)
        }
        3 => {
            let (a, x) = any_wish(dice, figures, depth - 1);
            (format!("not ({a})"), x.map(|x| !x))
        }
        _ => {
            let (name, value) = figures[dice.below(figures.len())];
            let number = dice.below(4) as f64;
            let (sign, holds): (&str, fn(f64, f64) -> bool) = match dice.below(6) {
                0 => ("<", |x, y| x < y),
                1 => ("<=", |x, y| x <= y),
                2 => (">", |x, y| x > y),
                3 => (">=", |x, y| x >= y),
                4 => ("==", |x, y| x == y),
                _ => ("!=", |x, y| x != y),
            };
            (format!("{name} {sign} {number}"), value.map(|x| holds(x, number)))
        }
    }
}

#[test]
fn wishes_are_what_logic_makes_of_them() {
    let mut unknown = 0;
    for seed in seeds(0..400) {
        let mut dice = Dice::new(seed);
        let figures: Vec<(&'static str, Option<f64>)> = ["moves", "dead", "states", "corridor"]
            .into_iter()
            .map(|name| (name, (dice.below(4) > 0).then(|| dice.below(4) as f64)))
            .collect();
        let known: Figures = figures.iter().filter_map(|(n, v)| Some((*n, (*v)?))).collect();
        let (text, holds) = any_wish(&mut dice, &figures, 3);
        let wish = Wish::read(&text).unwrap_or_else(|e| panic!("{e}: {text}"));
        assert_eq!(wish.holds(&known), holds, "{text} of {known:?}");
        unknown += u32::from(holds.is_none());
        // As it is written it reads the same.
        let again = Wish::read(&wish.words()).unwrap_or_else(|e| panic!("{e}: {}", wish.words()));
        assert_eq!((again.holds(&known), again.names()), (holds, wish.names()), "{text}: {}", wish.words());
        // It falls short exactly where it does not hold; where a figure is not known, it may.
        if holds.is_some() && known.len() == figures.len() {
            assert_eq!(wish.shortfall(&known) == 0.0, holds == Some(true), "{text} of {known:?}");
        }
        assert!(holds == Some(false) || wish.failing(&known).is_none(), "{text} of {known:?}");
    }
    assert!(unknown > 20, "{unknown} wishes are not decided");
}

#[test]
fn boards_are_judged_by_the_figures_of_their_spaces() {
    let (mut good, mut bad) = (0, 0);
    for seed in seeds(3200..3300) {
        let mut dice = Dice::new(seed);
        let map = Map::any(&mut dice, false);
        let mut store = Store::default();
        let level = loaded(&mut store, &map.texts(), "walk.toml", "map", None);
        let found = fendle_core::explore(&level.game, Limits::default(), false, &*budget()).expect("a start");
        let c = &found.counts;
        let figures = [
            ("solvable", Some(f64::from(u8::from(c.shortest.is_some())))),
            ("states", Some(c.states as f64)),
            ("dead", Some(c.dead as f64)),
            ("goal", Some(c.goal as f64)),
            ("fatal_moves", Some(c.fatal_moves as f64)),
        ];
        let (text, holds) = any_wish(&mut dice, &figures, 2);
        let wish = Wish::read(&text).expect("a wish");
        let judged = judge(&store, &level, (&wish, &BTreeSet::new()), &Limits::default(), &budget());
        match judged {
            Judged::Good(_) => {
                assert_eq!(holds, Some(true), "{text}: {}", map.model());
                good += 1;
            }
            Judged::Bad(why, _) => {
                assert_eq!(holds, Some(false), "{text}, {why}: {}", map.model());
                bad += 1;
            }
            other => panic!("{other:?}: {text}"),
        }
    }
    assert!(good > 15 && bad > 15, "{good} good ones, {bad} others");
}

/// A walker in a yard with walls, who wants to get to a gate.
const YARD: &str = "model yard\nlevel wall: grid of bool = false\nlevel gate: set of cells\nstate at: cell\n\
    show yard layered { \"A\" at; \"H\" wall; \"g\" gate; \".\" }\n\
    move go(d: dir4) {\n    refuse \"the rim\" unless at + d on board\n    refuse \"a wall\" unless not wall[at + d]\n    at = cell(at + d)\n}\n\
    goal at in gate\n";

struct Yard {
    rows: usize,
    cols: usize,
    /// `H` for a wall; the walker stands on the first cell, the gate is the last one.
    cells: Vec<char>,
}

impl Yard {
    fn any(dice: &mut Dice) -> Yard {
        let (rows, cols) = (2 + dice.below(2), 3 + dice.below(2));
        let mut cells: Vec<char> =
            (0..rows * cols).map(|_| if dice.below(5) < 3 { 'H' } else { '.' }).collect();
        let last = cells.len() - 1;
        (cells[0], cells[last]) = ('A', 'g');
        Yard { rows, cols, cells }
    }

    /// The fewest walls on a way to the gate: a walk that takes free steps first.
    fn walls_on_way(&self) -> u32 {
        let mut cost: BTreeMap<usize, u32> = BTreeMap::from([(0, 0)]);
        let mut work = VecDeque::from([0usize]);
        while let Some(at) = work.pop_front() {
            let (row, col) = (at / self.cols, at % self.cols);
            let near = [
                (row > 0).then(|| at - self.cols),
                (row + 1 < self.rows).then(|| at + self.cols),
                (col > 0).then(|| at - 1),
                (col + 1 < self.cols).then(|| at + 1),
            ];
            for to in near.into_iter().flatten() {
                let new = cost[&at] + u32::from(self.cells[to] == 'H');
                if cost.get(&to).is_none_or(|old| new < *old) {
                    cost.insert(to, new);
                    work.push_back(to);
                }
            }
        }
        cost[&(self.cells.len() - 1)]
    }

    fn texts(&self) -> Texts {
        let rows: Vec<String> = self.cells.chunks(self.cols).map(|r| r.iter().collect()).collect();
        let level = format!(
            "model = 'yard.fendle'\n[[level]]\nname = 'yard'\nstart.yard = '''\n{}\n'''\n",
            rows.join("\n")
        );
        Texts::new([("yard.fendle", YARD), ("yard.toml", &level)])
    }
}

#[test]
fn mending_takes_away_the_fewest_walls() {
    let mut costs = BTreeMap::new();
    for seed in seeds(0..60) {
        let yard = Yard::any(&mut Dice::new(seed));
        let texts = yard.texts();
        let want = yard.walls_on_way();
        if want > 2 {
            continue;
        }
        let mut store = Store::default();
        let level: Loaded = loaded(&mut store, &texts, "yard.toml", "yard", None);
        let asked = fendle_ask::Wish { file: "yard.toml".into(), ..fendle_ask::Wish::default() };
        let (source, _) = source_of(&mut store, &texts, &asked).expect("a sound file");
        let template = Template::new(&level, source);
        let order = Order {
            wish: Wish::read("solvable").expect("a wish"),
            may: template.may("H").expect("a glyph"),
            fixed: BTreeSet::new(),
            costs: BTreeMap::new(),
            most: 2,
        };
        let answer = mend(&store, &level, &template, &order, &budget());
        let found = match answer {
            Ok(answer) => answer.found,
            Err(_) => panic!("walls may be changed: {:?}", yard.cells),
        };
        assert_eq!((found.cost, found.proved), (Some(want), true), "{:?}", yard.cells);
        for mend in &found.mends {
            assert_eq!(mend.changes.len(), want as usize);
            assert!(
                mend.changes.iter().all(|c| (c.from.as_str(), c.to.as_str()) == ("H", ".")),
                "{:?}",
                mend.changes
            );
        }
        *costs.entry(want).or_insert(0) += 1;
    }
    assert!(costs.len() == 3 && costs.values().all(|n| *n > 4), "{costs:?}");
}
