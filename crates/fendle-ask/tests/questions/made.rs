//! What is made: drafted boards are as they are wanted, test cases say what the rules do, profiles tell what each level is.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::path::Path;
use std::sync::Arc;

use fendle_ask::audit::Job;
use fendle_ask::cases::cases;
use fendle_ask::game::Names;
use fendle_ask::load::Source;
use fendle_ask::making::boards::Template;
use fendle_ask::making::draft::{By, Draft, Order, Put, draft};
use fendle_ask::making::maps::{Tiles, imported, layers, table, to_map, to_table};
use fendle_ask::making::source_of;
use fendle_ask::making::wish::{Wish, figure};
use fendle_ask::profile::profile;
use fendle_ask::{End, Provider, Store};

use crate::common::{Dice, Map, Texts, budget, each_map, few, loaded, seeds};

/// A walker in a yard with walls and holes, who wants to get to a gate.
const YARD: &str = "model yard\nlevel wall: grid of bool = false\nlevel hole: grid of bool = false\nlevel gate: set of cells\nstate at: cell\n\
    show yard layered { \"A\" at; \"H\" wall; \"v\" hole; \"g\" gate; \".\" }\n\
    move go(d: dir4) {\n    refuse \"the rim\" unless at + d on board\n    refuse \"a wall\" unless not wall[at + d]\n    at = cell(at + d)\n}\n\
    goal at in gate\nlost when hole[at] because \"down a hole\"\nstatus goal, lost\n";

/// A yard as it is drawn, row by row.
struct Drawn(Vec<Vec<char>>);

/// What a plain walk finds out about a yard.
#[derive(Debug, PartialEq)]
struct Figures {
    moves: Option<f64>,
    states: f64,
    dead: f64,
    lost: f64,
    fatal_moves: f64,
}

impl Drawn {
    fn read(text: &str) -> Drawn {
        Drawn(text.lines().map(|l| l.chars().filter(|c| !c.is_whitespace()).collect()).collect())
    }

    fn near(&self, (r, c): (usize, usize)) -> Vec<(usize, usize)> {
        let all = [(r.wrapping_sub(1), c), (r, c + 1), (r + 1, c), (r, c.wrapping_sub(1))];
        let free =
            |at: &(usize, usize)| self.0.get(at.0).and_then(|row| row.get(at.1)).is_some_and(|x| *x != 'H');
        all.into_iter().filter(free).collect()
    }

    fn find(&self, what: char) -> Vec<(usize, usize)> {
        let all = self.0.iter().enumerate().flat_map(|(r, row)| (0..row.len()).map(move |c| (r, c)));
        all.filter(|(r, c)| self.0[*r][*c] == what).collect()
    }

    fn count(&self, what: char) -> usize {
        self.find(what).len()
    }

    fn figures(&self) -> Figures {
        let start = self.find('A')[0];
        let glyph = |at: (usize, usize)| self.0[at.0][at.1];
        let goes_on = |at: (usize, usize)| glyph(at) != 'g' && glyph(at) != 'v';
        let mut depth = BTreeMap::from([(start, 0u32)]);
        let mut work = VecDeque::from([start]);
        while let Some(at) = work.pop_front() {
            for to in self.near(at).into_iter().filter(|_| goes_on(at)) {
                if !depth.contains_key(&to) {
                    depth.insert(to, depth[&at] + 1);
                    work.push_back(to);
                }
            }
        }
        let mut can: BTreeSet<(usize, usize)> =
            depth.keys().copied().filter(|at| glyph(*at) == 'g').collect();
        let moves = can.iter().map(|at| depth[at]).min();
        loop {
            let more: Vec<_> = (depth.keys().copied())
                .filter(|at| {
                    goes_on(*at) && !can.contains(at) && self.near(*at).iter().any(|t| can.contains(t))
                })
                .collect();
            if more.is_empty() {
                break;
            }
            can.extend(more);
        }
        let lost = depth.keys().filter(|at| glyph(**at) == 'v').count();
        let dead = depth
            .keys()
            .filter(|at| goes_on(**at) && !can.contains(at) && !self.near(**at).is_empty())
            .count();
        let winnable = depth.keys().filter(|at| goes_on(**at) && can.contains(at));
        let fatal = winnable.flat_map(|at| self.near(*at)).filter(|to| !can.contains(to)).count();
        Figures {
            moves: moves.map(f64::from),
            states: depth.len() as f64,
            dead: dead as f64,
            lost: lost as f64,
            fatal_moves: fatal as f64,
        }
    }
}

fn texts(rows: &[&str]) -> Texts {
    let level = format!(
        "model = 'yard.fendle'\n[[level]]\nname = 'yard'\nstart.yard = '''\n{}\n'''\n",
        rows.join("\n")
    );
    Texts::new([("yard.fendle", YARD), ("yard.toml", &level)])
}

fn plain_order(by: By) -> Order {
    Order {
        by,
        wish: None,
        most: None,
        keep: 8,
        tries: 120,
        shuffles: (3, 9),
        backwards: false,
        put: vec![],
        may: BTreeSet::new(),
        fixed: BTreeSet::new(),
        cells: vec![],
        tune: vec![],
        first: None,
        earlier: (vec![], 0),
        mirrored: None,
        apart: BTreeSet::new(),
    }
}

/// Drafts boards from a yard, by an order that is made for its glyphs.
fn drafted(rows: &[&str], seed: u64, order: impl FnOnce(&Template, Order) -> Order, by: By) -> (Draft, End) {
    drafted_by(fendle_ask::Wanted { seed, ..fendle_ask::Wanted::default() }, rows, order, by)
}

fn drafted_by(
    wanted: fendle_ask::Wanted,
    rows: &[&str],
    order: impl FnOnce(&Template, Order) -> Order,
    by: By,
) -> (Draft, End) {
    let texts = texts(rows);
    let mut store = Store::default();
    let level = loaded(&mut store, &texts, "yard.toml", "yard", None);
    let asked = fendle_ask::Wish { file: "yard.toml".into(), ..fendle_ask::Wish::default() };
    let (source, _) = source_of(&mut store, &texts, &asked).expect("a sound file");
    let template = Template::new(&level, source);
    let order = order(&template, plain_order(by));
    let answer = draft(&store, &level, &template, &order, &Arc::new(fendle_ask::Budget::plain(wanted)));
    match answer {
        Ok(answer) => (answer.found.clone(), answer.end()),
        Err(t) => panic!("{t:?}"),
    }
}

/// The yard of a drafted board, from the text of its level.
fn board_of(text: &str) -> Drawn {
    let begun = text.split("'''").nth(1).unwrap_or_else(|| panic!("no drawing in {text}"));
    Drawn::read(begun.trim_matches('\n'))
}

/// Every figure that a board is said to have is that of the board.
fn figures_are_true(drafted: &fendle_ask::making::draft::Drafted) -> Figures {
    let own = board_of(&drafted.text).figures();
    let told = |name: &str| drafted.figures.get(name).copied().flatten();
    for (name, want) in [
        ("moves", own.moves),
        ("states", Some(own.states)),
        ("dead", Some(own.dead)),
        ("lost", Some(own.lost)),
        ("fatal_moves", Some(own.fatal_moves)),
        ("solvable", Some(f64::from(u8::from(own.moves.is_some())))),
    ] {
        assert!(
            told(name).is_none() || told(name) == want,
            "{name}: {:?}, {want:?}: {}",
            told(name),
            drafted.text
        );
    }
    own
}

#[test]
fn filled_boards_hold_what_was_put_and_are_as_they_are_wanted() {
    let (mut boards, mut fell) = (0, 0);
    for seed in seeds(1..13) {
        let (walls, holes) = (1 + seed as usize % 4, seed as usize % 3);
        let wish = [
            "moves >= 5 and dead == 0",
            "fatal_moves >= 2",
            "moves >= 4 and lost <= 1",
            "states <= 9 and solvable",
        ][seed as usize % 4];
        let order = |_: &Template, order: Order| {
            let put =
                |glyph: &str, least, greatest| Put { glyph: glyph.into(), least, greatest, within: None };
            let put = vec![put("H", walls, walls + 2), put("v", holes, holes)];
            let may = BTreeSet::from(["H".to_string(), "v".to_string()]);
            Order { wish: Some(Wish::read(wish).expect("a wish")), put, may, ..order }
        };
        let (found, end) = drafted(&["A...", "....", "...g"], seed, order, By::Fill);
        assert_eq!(end == End::Yes, !found.boards.is_empty(), "{wish}");
        let mut met = BTreeSet::new();
        for b in &found.boards {
            let drawn = board_of(&b.text);
            assert!((walls..=walls + 2).contains(&drawn.count('H')), "{}", b.text);
            assert_eq!((drawn.count('v'), drawn.count('A'), drawn.count('g')), (holes, 1, 1), "{}", b.text);
            let own = figures_are_true(b);
            let holds = match seed % 4 {
                0 => own.moves.is_some_and(|m| m >= 5.0) && own.dead == 0.0,
                1 => own.fatal_moves >= 2.0,
                2 => own.moves.is_some_and(|m| m >= 4.0) && own.lost <= 1.0,
                _ => own.states <= 9.0 && own.moves.is_some(),
            };
            assert!(holds, "{wish}: {own:?}: {}", b.text);
            assert!(met.insert(b.text.split("'''").nth(1).map(String::from)), "twice: {}", b.text);
            boards += 1;
        }
        assert!(found.good as usize >= found.boards.len() && found.tried <= 120, "{wish}");
        fell += found.fell.values().sum::<u64>();
    }
    assert!(boards > 30 && fell > 100, "{boards} boards, {fell} fell away");
}

#[test]
fn boards_that_were_not_decided_are_no_no() {
    let order = |wish: &'static str| {
        move |_: &Template, order: Order| {
            let put = vec![Put { glyph: "H".into(), least: 1, greatest: 2, within: None }];
            Order { put, tries: 10, wish: Some(Wish::read(wish).expect("a wish")), ..order }
        }
    };
    let rows = ["A...", "....", "...g"];
    // Twelve cells are no board of forty moves.
    assert_eq!(drafted(&rows, 1, order("moves >= 40"), By::Fill).1, End::No);
    let within = |most| fendle_ask::Wanted { max_states: Some(most), ..fendle_ask::Wanted::default() };
    let (found, end) = drafted_by(within(2), &rows, order("dead >= 0 and moves >= 40"), By::Fill);
    assert_eq!(
        end,
        if found.fell.keys().any(|why| why.contains("not decided")) { End::Undecided } else { End::No }
    );
    let (found, end) = drafted_by(within(2), &rows, order("states >= 11"), By::Fill);
    assert!(found.boards.is_empty() && end == End::Undecided, "{:?}", found.fell);
}

#[test]
fn edited_boards_keep_what_is_fixed() {
    let mut boards = 0;
    for seed in seeds(20..28) {
        let rows = ["A.H.", "....", ".H.g"];
        let order = |_: &Template, order: Order| Order {
            wish: Some(Wish::read("moves >= 5").expect("a wish")),
            may: BTreeSet::from(["H".to_string()]),
            fixed: BTreeSet::from([1, 2, 9]),
            ..order
        };
        let (found, _) = drafted(&rows, seed, order, By::Edit);
        for b in &found.boards {
            let drawn = board_of(&b.text);
            let at = |n: usize| drawn.0[n / 4][n % 4];
            assert_eq!((at(0), at(1), at(2), at(9), at(11)), ('A', '.', 'H', 'H', 'g'), "{}", b.text);
            let own = figures_are_true(b);
            assert!(own.moves.is_some_and(|m| m >= 5.0), "{}", b.text);
            boards += 1;
        }
    }
    assert!(boards > 8, "{boards}");
}

#[test]
fn climbing_keeps_the_most_of_a_figure_and_tells_the_truth_of_it() {
    for seed in seeds(30..36) {
        let of = |tries| {
            let order = move |_: &Template, order: Order| {
                let put = vec![Put { glyph: "v".into(), least: 2, greatest: 4, within: None }];
                let most = Some(figure("fatal_moves").expect("a figure"));
                Order { put, tries, most, may: BTreeSet::from(["v".into()]), ..order }
            };
            drafted(&["A...", "....", "....", "...g"], seed, order, By::Fill).0
        };
        let fatal = |found: &Draft| -> Vec<f64> {
            found.boards.iter().map(|b| figures_are_true(b).fatal_moves).collect()
        };
        let (some, more) = (fatal(&of(64)), fatal(&of(640)));
        for list in [&some, &more] {
            assert!(list.len() == 8 && list.windows(2).all(|w| w[0] >= w[1]), "the best first: {list:?}");
        }
        assert!(more.iter().sum::<f64>() > some.iter().sum(), "more tries come further: {some:?} {more:?}");
        // Four holes with four sides each.
        assert!(more[0] >= 11.0 && more[0] <= 16.0, "{more:?}");
    }
}

#[test]
fn the_farthest_positions_are_those_that_a_walk_finds() {
    for rows in [&["A..H", ".H..", "...g"][..], &["A.v.", "....", ".H.g"], &["A....", ".HHH.", "....g"]] {
        let (found, _) = drafted(rows, 1, |_, order| Order { keep: 20, ..order }, By::Deepest);
        let deepest = found.deepest.expect("all were looked at");
        let drawn = Drawn::read(&rows.join("\n"));
        // From each cell that can be reached: how far it is.
        let mut far: BTreeMap<(usize, usize), f64> = BTreeMap::new();
        let start = drawn.find('A')[0];
        for r in 0..drawn.0.len() {
            for c in 0..drawn.0[0].len() {
                if drawn.0[r][c] == 'H' || drawn.0[r][c] == 'v' || drawn.0[r][c] == 'g' {
                    continue;
                }
                let mut moved = Drawn(drawn.0.clone());
                moved.0[start.0][start.1] = '.';
                moved.0[r][c] = 'A';
                if let Some(moves) = moved.figures().moves {
                    far.insert((r, c), moves);
                }
            }
        }
        let most = far.values().copied().fold(0.0, f64::max);
        assert_eq!(f64::from(deepest.moves), most, "{rows:?}: {far:?}");
        assert_eq!(deepest.count as usize, far.values().filter(|m| **m == most).count(), "{rows:?}: {far:?}");
        for b in &found.boards {
            assert_eq!(board_of(&b.text).figures().moves, Some(most), "{}", b.text);
        }
    }
}

#[test]
fn test_cases_say_what_the_map_says() {
    let (mut made, mut refused, mut ended, mut drawn) = (0, 0, 0, 0);
    let mut check = |map: &Map, store: &mut Store, level: fendle_ask::Loaded| {
        let whole = cases(store, &level, (&Names::default(), 60), &budget()).expect("an answer").found;
        let text = map.model();
        assert!(whole.complete && !whole.cases.is_empty(), "{text}");
        let depths = map.depths(&[0]);
        for case in &whole.cases {
            let at = case.at.trim_start_matches("at=").parse::<usize>().expect("a landing") - 1;
            let m = crate::common::MOVES.iter().position(|m| *m == case.of).expect("a move");
            assert!(depths[at].is_some(), "{} cannot be reached: {text}", case.at);
            let status = |at: usize| match () {
                () if map.won[at] => "won",
                () if map.lost[at] => "lost",
                () => "running",
            };
            assert_eq!(case.status, status(at), "{}: {text}", case.name);
            let to = &map.ways[at][m];
            let after = case.expect.at.trim_start_matches("at=").parse::<usize>().expect("a landing") - 1;
            // Past a won position moves are made; a lost one has none.
            if case.expect.allowed {
                assert!(!map.lost[at] && to.iter().any(|t| t.0 == after), "{}: {text}", case.name);
                let stuck = !map.has_ended(after) && map.allowed(after).is_empty();
                let want = if stuck { "stuck" } else { status(after) };
                assert_eq!(case.expect.status, want, "{}: {text}", case.name);
                drawn += usize::from(to.len() > 1);
                made += 1;
            } else {
                assert_eq!(after, at, "{}: {text}", case.name);
                ended += usize::from(map.has_ended(at));
                refused += usize::from(!map.has_ended(at));
                let open = !map.has_ended(at) && !to.is_empty();
                assert!(!open, "{}: {text}", case.name);
            }
            assert_eq!(case.draws.is_empty(), to.len() < 2 || !case.expect.allowed, "{}: {text}", case.name);
        }
        assert!(whole.coverage.ways <= whole.coverage.of, "{text}");
        assert!(whole.sharpness.caught <= whole.sharpness.variants, "{text}");
        // Fewer are the first of all.
        let some = cases(store, &level, (&Names::default(), 3), &budget()).expect("an answer").found;
        let name = |c: &fendle_ask::cases::Case| c.name.clone();
        assert!(some.cases.len() <= 3);
        let all: Vec<String> = whole.cases.iter().map(name).collect();
        assert!(some.cases.iter().map(name).all(|n| all.contains(&n)), "{text}");
        // Within a limit of states less is known, and nothing else.
        let cut = cases(store, &level, (&Names::default(), 60), &few(2)).expect("an answer").found;
        assert!(cut.positions <= 2 && cut.cases.len() <= whole.cases.len().max(6), "{text}");
    };
    each_map(9000..9012, false, |map, store, level| check(map, store, level));
    each_map(9012..9024, true, |map, store, level| check(map, store, level));
    assert!(made > 80 && refused > 20 && drawn > 10, "{made} {refused} {ended} {drawn}");
}

#[test]
fn a_profile_tells_of_each_level_what_it_is() {
    for seed in seeds(40..46) {
        let mut dice = Dice::new(seed);
        let mut boards = vec![];
        while boards.len() < 4 {
            let mut cells: Vec<char> = (0..12).map(|_| if dice.below(5) < 2 { 'H' } else { '.' }).collect();
            (cells[0], cells[11]) = ('A', 'g');
            let rows: Vec<String> = cells.chunks(4).map(|r| r.iter().collect()).collect();
            let drawn = Drawn::read(&rows.join("\n"));
            if drawn.figures().moves.is_some() {
                boards.push(rows.join("\n"));
            }
        }
        // The last one is the same as the one before.
        boards.push(boards[3].clone());
        let levels: String = (boards.iter().enumerate())
            .map(|(i, b)| format!("[[level]]\nname = 'yard {i}'\nstart.yard = '''\n{b}\n'''\n"))
            .collect();
        let texts =
            Texts::new([("yard.fendle", YARD), ("pack.toml", &format!("model = 'yard.fendle'\n{levels}"))]);
        let mut store = Store::default();
        let mut errors = vec![];
        let text = texts.read(Path::new("pack.toml")).expect("it is there");
        let (file, model) =
            store.levels(&texts, Path::new("pack.toml"), text, &mut errors).expect("a sound file");
        let jobs: Vec<Job> = (file.levels.iter())
            .map(|level| Job {
                path: "pack.toml".into(),
                source: Source {
                    file: file.file,
                    file_title: String::new(),
                    model: Arc::clone(&model),
                    level: level.clone(),
                },
            })
            .collect();
        let found = profile(&store, &jobs, &budget(), &mut errors);
        assert!(errors.is_empty(), "{errors:?}");
        assert_eq!(found.levels.len(), boards.len());
        let figures: Vec<Figures> = boards.iter().map(|b| Drawn::read(b).figures()).collect();
        for (level, own) in found.levels.iter().zip(&figures) {
            let told = |name: &str| level.figures.get(name).copied().flatten();
            assert_eq!((told("moves"), told("states")), (own.moves, Some(own.states)), "{}", level.level);
            assert_eq!(told("fatal_moves"), Some(own.fatal_moves), "{}", level.level);
        }
        // Where a figure is twice as much, or half, and nowhere else.
        for pair in 0..boards.len() - 1 {
            let (a, b) = (figures[pair].moves.expect("solvable"), figures[pair + 1].moves.expect("solvable"));
            let jumps = a.max(b) >= 2.0 * a.min(b) && a != b;
            let name = format!("yard {}", pair + 1);
            let told = found.jumps.iter().any(|j| j.figure == "moves" && j.level == name);
            assert_eq!(told, jumps, "{a} and {b}: {:?}", found.jumps);
        }
        let same = found.alike.iter().any(|a| {
            a.levels == ["yard 3".to_string(), "yard 4".into()] && a.same.contains(&"shape of space")
        });
        assert!(same, "{:?}", found.alike);
    }
}

#[test]
fn boards_go_to_other_programs_and_come_back() {
    const TILES: &str =
        "[layers.ground]\n1 = \"\"\n2 = \"wall\"\n3 = \"gate\"\n7 = \"hole\"\n[layers.people]\n5 = \"at\"\n";
    // What other programs call the same cells.
    const NAMED: &str = "[cells]\n\"#1\" = \"H\"\nwalker = \"A\"\n\"a, b\" = \"v\"\n\"end;\" = \"g\"\n";
    let tiles = Tiles::read(TILES).expect("tiles");
    let named = Tiles::read(NAMED).expect("names");
    for seed in seeds(60..100) {
        let mut dice = Dice::new(seed);
        let (rows, cols) = (1 + dice.below(5), 2 + dice.below(5));
        let mut cells: Vec<char> =
            (0..rows * cols).map(|_| ['.', '.', 'H', 'v', 'g'][dice.below(5)]).collect();
        let at = dice.below(cells.len());
        cells[at] = 'A';
        let board: Vec<Vec<String>> =
            cells.chunks(cols).map(|r| r.iter().map(char::to_string).collect()).collect();
        let drawn: Vec<String> = cells.chunks(cols).map(|r| r.iter().collect()).collect();
        let drawn = drawn.join("\n");
        let mut store = Store::default();
        let texts = Texts::new([("yard.fendle", YARD)]);
        let mut back = |name: &str, text: String, tiles: &Tiles| {
            let files = [(name.to_string(), text.clone())];
            let asked = ("yard.fendle", Path::new("out.toml"));
            let level = imported(&mut store, &texts, asked, &files, tiles)
                .unwrap_or_else(|t| panic!("{t:?}: {text}"));
            assert!(level.contains(&format!("'''\n{drawn}\n'''")), "{level}\n{text}");
            assert!(level.contains("name = \"board\""), "{level}");
        };
        let plain = to_table(&board, &Tiles::default()).expect("no commas");
        assert_eq!(table(&plain), Ok(board.clone()), "{plain}");
        back("maps/board.csv", plain, &Tiles::default());
        // Cells with commas and semicolons are parted by tabs.
        let text = to_table(&board, &named).expect("tabs are left");
        back("board.csv", text, &named);
        let level =
            format!("model = 'yard.fendle'\n[[level]]\nname = 'yard'\nstart.yard = '''\n{drawn}\n'''\n");
        let own = Texts::new([("yard.fendle", YARD), ("yard.toml", level.as_str())]);
        let mut other = Store::default();
        let model = Arc::clone(&loaded(&mut other, &own, "yard.toml", "yard", None).game.bound.model);
        let map = to_map(&model, &board, &tiles, None).expect("each cell has its tiles");
        let read = layers(&map).expect("it is a map");
        assert_eq!(read.iter().map(|l| l.0.as_str()).collect::<Vec<_>>(), ["ground", "people"]);
        assert_eq!(read[0].1.len() * read[0].1[0].len(), cells.len());
        back("board.xml", map.clone(), &tiles);
        // Into the same map with the board mirrored, and back again: as it was.
        let mirrored: Vec<Vec<String>> = board.iter().map(|r| r.iter().rev().cloned().collect()).collect();
        let there = to_map(&model, &mirrored, &tiles, Some(&map)).expect("of one size");
        assert_eq!(to_map(&model, &board, &tiles, Some(&there)), Ok(map.clone()));
        assert_eq!(there == map, mirrored == board);
        if rows > 1 {
            let smaller = &board[1..];
            let wrong = to_map(&model, smaller, &tiles, Some(&map)).expect_err("another size");
            assert!(wrong.contains("tiles, and the board"), "{wrong}");
        }
    }
}
