//! Pieces that questions are made of, by themselves: limits and their words, conditions of which not all is known, figures and wishes, maps
//! of other programs, tests of draws, patterns, and games written down as models.

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use fendle_ask::budget::{Surroundings, Wanted};
use fendle_ask::by_rules::Unknown;
use fendle_ask::game::weights::{TESTED, Tries, two_sided};
use fendle_ask::game::written::written;
use fendle_ask::game::{Call, Speaks};
use fendle_ask::making::figures::Figures;
use fendle_ask::making::maps::{layers, table};
use fendle_ask::making::wish::Wish;
use fendle_ask::profile::patterns::{Asks, in_one_form};
use fendle_ask::{Budget, End, Verdict};
use fendle_core::{Limit, Progress, Watch};
use fendle_lang::model::Asked as Question;
use serde_json::value::{RawValue, to_raw_value};
use serde_json::{Value, json};

/// The whole table: a limit is never a "no", a fault is always bad, an interrupt says so.
#[test]
fn endings() {
    use Verdict::{Fails, Holds, Undecided};
    for (verdict, limit, faulted, end) in [
        (Holds, None, false, End::Yes),
        (Fails, None, false, End::No),
        (Undecided, None, false, End::Undecided),
        (Holds, Some(Limit::Time), false, End::Yes),
        (Fails, Some(Limit::Time), false, End::Undecided),
        (Fails, Some(Limit::SetAside), false, End::Undecided),
        (Fails, Some(Limit::Interrupted), false, End::Interrupted),
        (Holds, Some(Limit::Interrupted), false, End::Interrupted),
        (Holds, None, true, End::Bad),
        (Fails, Some(Limit::Interrupted), true, End::Bad),
    ] {
        assert_eq!(End::of(verdict, limit, faulted), end, "{verdict:?} {limit:?} {faulted}");
    }
    assert_eq!(End::of_all([End::Yes, End::No, End::Undecided]), End::No);
    assert_eq!(End::of_all([]), End::Yes);
    let codes: Vec<u8> =
        [End::Yes, End::No, End::Bad, End::Undecided, End::Interrupted].map(End::code).to_vec();
    assert_eq!(codes, [0, 1, 2, 3, 130]);
}

static STOP: AtomicBool = AtomicBool::new(false);

#[test]
fn a_share_of_the_time_is_used_up_before_the_time() {
    let hour = Wanted { time: Some(Duration::from_secs(3600)), ..Wanted::default() };
    let b = Budget::new(hour, Surroundings::default());
    for (part, over) in [(0.0, true), (0.5, false), (1.0, false)] {
        std::thread::sleep(Duration::from_millis(2));
        let share = b.share(part);
        std::thread::sleep(Duration::from_millis(2));
        let wanted = over.then_some(Limit::Time);
        assert_eq!((share.look(&Progress::default()), share.wrap_up(&Progress::default())), (wanted, wanted));
    }
    assert_eq!(b.stopped(), None, "the rest of the time is there");
    let endless = Budget::new(Wanted::default(), Surroundings::default());
    assert_eq!(endless.share(0.0).look(&Progress::default()), None);
}

#[test]
fn each_limit_says_its_own_name() {
    let around = || Surroundings { interrupted: &STOP, ..Surroundings::default() };
    let b = Budget::new(Wanted { time: Some(Duration::ZERO), ..Wanted::default() }, around());
    assert_eq!(b.look(&Progress::default()), Some(Limit::Time));
    assert_eq!(b.wrap_up(&Progress::default()), None, "a little more time");
    let full = Surroundings { memory_now: Some(|| u64::MAX), ..Surroundings::default() };
    assert_eq!(Budget::new(Wanted::default(), full).stopped(), Some(Limit::Memory));
    let b = Budget::new(Wanted::default(), around());
    assert_eq!(b.stopped(), None);
    STOP.store(true, Ordering::SeqCst);
    assert_eq!(b.stopped(), Some(Limit::Interrupted));
    let limits = [
        Limit::MaxStates,
        Limit::Memory,
        Limit::Time,
        Limit::Interrupted,
        Limit::SetAside,
        Limit::TableFull,
        Limit::Outcomes,
        Limit::TooFine,
        Limit::Layouts,
    ];
    let words: std::collections::BTreeSet<String> = limits.iter().map(|l| b.words(*l)).collect();
    assert_eq!(words.len(), limits.len());
}

/// Memory that ran short and was given back ends nothing; the limit that ends the search later still leaves a moment for putting in order what was seen.
#[test]
fn memory_that_was_given_back_takes_no_time_from_wrapping_up() {
    static HELD: AtomicU64 = AtomicU64::new(u64::MAX);
    static ENOUGH: AtomicBool = AtomicBool::new(false);
    let now = || HELD.load(Ordering::SeqCst);
    let around = Surroundings { interrupted: &ENOUGH, memory_now: Some(now), ..Surroundings::default() };
    let b = Budget::new(Wanted::default(), around);
    let progress = Progress::default();
    assert_eq!(b.look(&progress), Some(Limit::Memory));
    HELD.store(0, Ordering::SeqCst);
    assert_eq!(b.look(&progress), None);
    std::thread::sleep(Duration::from_millis(450));
    ENOUGH.store(true, Ordering::SeqCst);
    assert_eq!(b.look(&progress), Some(Limit::Interrupted));
    assert_eq!(b.wrap_up(&progress), None, "a little more time");
    // It is given once.
    std::thread::sleep(Duration::from_millis(450));
    assert_eq!(b.look(&progress), Some(Limit::Interrupted));
    assert_eq!(b.wrap_up(&progress), Some(Limit::Interrupted));
}

/// Where memory ran short what was seen is put in order in what was left for that, for as long as it takes; an interrupt leaves a moment.
#[test]
fn memory_that_ran_short_says_nothing_of_time() {
    static HELD: AtomicU64 = AtomicU64::new(u64::MAX);
    static ENOUGH: AtomicBool = AtomicBool::new(false);
    let now = || HELD.load(Ordering::SeqCst);
    let around = Surroundings { interrupted: &ENOUGH, memory_now: Some(now), ..Surroundings::default() };
    let wanted = Wanted { memory: 64 << 20, ..Wanted::default() };
    let b = Budget::new(wanted, around);
    let progress = Progress::default();
    // Just below the whole of it, where a search ends.
    HELD.store((64 << 20) - 1, Ordering::SeqCst);
    assert_eq!(b.look(&progress), Some(Limit::Memory));
    std::thread::sleep(Duration::from_millis(450));
    assert_eq!(b.wrap_up(&progress), None);
    HELD.store((64 << 20) + 1, Ordering::SeqCst);
    assert_eq!(b.wrap_up(&progress), Some(Limit::Memory));
    HELD.store(0, Ordering::SeqCst);
    ENOUGH.store(true, Ordering::SeqCst);
    assert_eq!(b.wrap_up(&progress), None, "a moment");
    std::thread::sleep(Duration::from_millis(450));
    assert_eq!(b.wrap_up(&progress), Some(Limit::Interrupted));
}

/// What a condition of three unknown answers says, against all of their cases at once.
#[test]
fn a_condition_is_told_where_all_cases_say_the_same() {
    let asked = [Question::Dead, Question::Winnable, Question::Stuck];
    // Every function of three answers, one bit for each of the eight cases.
    for table in 0..256u32 {
        for needed in 0..3 {
            let unknown = Unknown::default();
            let mut runs = 0;
            let told = unknown.in_every_case(|| {
                runs += 1;
                // The later questions are asked only where the earlier ones are answered by yes.
                let mut case = 0;
                for (i, asked) in asked.iter().enumerate() {
                    let yes = unknown.answer(&[7], *asked) != 0;
                    case |= u32::from(yes) << i;
                    if !yes && i < needed {
                        break;
                    }
                }
                Ok(table >> case & 1 == 1)
            });
            let cases: Vec<u32> =
                (0..8).filter(|case| (0..needed).all(|i| case >> i & 1 == 1 || *case < 1 << i)).collect();
            let says: Vec<bool> = cases.iter().map(|case| table >> case & 1 == 1).collect();
            let same = says.iter().all(|s| *s == says[0]);
            assert_eq!(told, Ok(same.then_some(says[0])), "{table:08b}, {needed}");
            assert!(runs <= cases.len(), "{runs} of {cases:?}");
        }
    }
}

#[test]
fn a_number_that_is_not_known_leaves_the_condition_open() {
    let unknown = Unknown::default();
    let asked = |question| unknown.in_every_case(|| Ok(unknown.answer(&[1], question) < 2));
    assert_eq!(asked(Question::Depth), Ok(None));
    assert_eq!(asked(Question::Dead), Ok(Some(true)));
    let same = unknown
        .in_every_case(|| Ok(unknown.answer(&[1], Question::Dead) == unknown.answer(&[1], Question::Dead)));
    assert_eq!(same, Ok(Some(true)), "the same question of the same state has one answer");
    let other = unknown
        .in_every_case(|| Ok(unknown.answer(&[1], Question::Dead) == unknown.answer(&[2], Question::Dead)));
    assert_eq!(other, Ok(None), "that of another state may have another");
}

#[test]
fn conditions_are_read_and_asked_in_three_values() {
    let wish = Wish::read("moves >= 12 and (dead == 0 or not fatal_moves > 3)").expect("it is one");
    let mut figures = Figures::new();
    assert_eq!(wish.holds(&figures), None);
    figures.insert("moves", 11.0);
    assert_eq!(wish.holds(&figures), Some(false), "one side is enough");
    assert_eq!(wish.failing(&figures).as_deref(), Some("not moves >= 12"));
    figures.insert("moves", 12.0);
    figures.insert("dead", 4.0);
    assert_eq!(wish.holds(&figures), None);
    figures.insert("fatal_moves", 3.0);
    assert_eq!(wish.holds(&figures), Some(true));
    assert_eq!(wish.names().len(), 3);
    assert_eq!(Wish::read(&wish.words()), Ok(wish), "words are read back");
    // What there is not fails every comparison; what never comes is later than anything.
    figures.insert("moves", f64::NAN);
    assert_eq!(Wish::read("moves < 99").expect("it is one").holds(&figures), Some(false));
    figures.insert("first_fatal_depth", f64::INFINITY);
    assert_eq!(Wish::read("first_fatal_depth >= 5").expect("it is one").holds(&figures), Some(true));
}

#[test]
fn mistakes_in_conditions_are_named() {
    assert!(Wish::read("move > 3").unwrap_err().contains("did you mean `moves`?"));
    assert!(Wish::read("moves >").unwrap_err().contains("a number is missing"));
    assert!(Wish::read("(moves > 3").unwrap_err().contains("`)` is missing"));
    assert!(Wish::read("moves > 3 dead").unwrap_err().contains("was not expected"));
    assert!(Wish::read("moves > much").unwrap_err().contains("no number"));
}

#[test]
fn a_wish_that_is_nearer_falls_less_short() {
    let wish = Wish::read("moves >= 20 and (fatal_moves > 9 or dead == 0)").expect("it is one");
    let of = |moves: f64, fatal: f64, dead: f64| {
        wish.shortfall(&Figures::from([("moves", moves), ("fatal_moves", fatal), ("dead", dead)]))
    };
    assert_eq!(of(20.0, 10.0, 5.0), 0.0);
    assert_eq!(of(25.0, 0.0, 0.0), 0.0);
    assert!(of(19.0, 10.0, 5.0) < of(10.0, 10.0, 5.0));
    assert!(of(10.0, 10.0, 5.0) < of(f64::NAN, 10.0, 5.0), "no solution is farther than any");
    assert!(of(20.0, 8.0, 1.0) > 0.0);
    assert_eq!(wish.shortfall(&Figures::new()), 2.0, "what is not known counts 1 each");
}

#[test]
fn tables_and_maps_name_the_line_that_is_wrong() {
    assert_eq!(table("a;b\nc;d\n").map(|t| t.concat().concat()), Ok("abcd".into()));
    assert!(table("a,b\n\nc\n").unwrap_err().starts_with("3: 1 cells, and 2"));
    assert!(table("").is_err());
    let map = |data: &str| {
        format!("<map>\n<layer name=\"x\"><data encoding=\"csv\">\n{data}\n</data></layer></map>")
    };
    assert_eq!(layers(&map("1,2,\n3,4")), Ok(vec![("x".into(), vec![vec![1, 2], vec![3, 4]])]));
    // The highest bits say how a tile is turned.
    assert_eq!(layers(&map("2147483649")), Ok(vec![("x".into(), vec![vec![1]])]));
    assert!(layers(&map("1,2\n3")).unwrap_err().starts_with("2: the rows of x"));
    assert!(layers(&map("1,z")).unwrap_err().contains("no number"));
    assert!(layers("<map>\n<layer></map>").unwrap_err().starts_with("2:"));
    assert!(
        layers("<map><layer><data encoding=\"base64\">x</data></layer></map>")
            .unwrap_err()
            .contains("base64")
    );
    assert!(layers("<map/>").unwrap_err().contains("no layer"));
}

#[test]
fn the_exact_test_is_the_sum_of_what_is_as_unlikely() {
    // Ten fair coins, nine heads: 0, 1, 9 and 10 heads are as unlikely or more so, 22 of 1,024.
    assert!((two_sided(9, 10, 0.5) - 22.0 / 1024.0).abs() < 1e-12);
    assert!((two_sided(5, 10, 0.5) - 1.0).abs() < 1e-9);
    // Three dice, three sixes: 1 of 216.
    assert!((two_sided(3, 3, 1.0 / 6.0) - 1.0 / 216.0).abs() < 1e-12);
    assert_eq!(two_sided(1, 4, 0.0), 0.0);
    assert_eq!(two_sided(4, 4, 1.0), 1.0);
}

#[test]
fn nothing_more_is_taken_than_there_is() {
    let mut tries = Tries::default();
    assert_eq!((0..50).filter(|_| tries.take()).count(), TESTED as usize);
}

#[test]
fn turned_and_moved_parts_are_one() {
    let part = |list: &[(i64, i64, &str)]| {
        let on = list.iter().map(|(r, c, w)| (*r, *c, (*w).to_string())).collect();
        in_one_form(&(on, BTreeSet::new()))
    };
    let corner = part(&[(0, 0, "wall"), (0, 1, "wall"), (1, 0, "wall"), (1, 1, "barge")]);
    let other = part(&[(7, 9, "wall"), (7, 8, "wall"), (6, 9, "wall"), (6, 8, "barge")]);
    assert_eq!(corner, other);
    assert_ne!(corner, part(&[(0, 0, "wall"), (0, 1, "wall"), (1, 1, "barge")]));
    let asks = |passed: &[u32]| Asks { passed: passed.to_vec(), ..Asks::default() };
    assert_eq!(asks(&[0, 2, 5, 9]).in_common(&asks(&[0, 2, 5, 9])), ["must-pass pattern"]);
    assert!(asks(&[0, 2, 9]).in_common(&asks(&[0, 2, 9])).is_empty(), "too little to be a pattern");
}

/// A lamp whose names are words of the language, and names that the written model needs for itself.
struct Lamp(bool);

impl Speaks for Lamp {
    fn call_all(&mut self, calls: &[Call]) -> Vec<Result<Box<RawValue>, String>> {
        let text = |v: Value| to_raw_value(&v).map_err(|e| e.to_string());
        calls
            .iter()
            .map(|call| self.answer(call.method, &serde_json::from_str(&call.params).unwrap()).and_then(text))
            .collect()
    }
}

impl Lamp {
    fn answer(&mut self, method: &str, params: &Value) -> Result<Value, String> {
        match method {
            "about" => return Ok(json!({"name": "lamp", "places": true, "tells_allowed": true})),
            "allowed" => return Ok(json!({"moves": ["if", "at_"]})),
            "begin" => self.0 = false,
            "place" => self.0 = params["position"]["values"]["goal"] == json!("lit"),
            "move" => self.0 |= params["move"] == json!("if"),
            other => return Err(other.into()),
        }
        let (glyph, word) = if self.0 { ("\"", "lit") } else { (" ", "dark") };
        let status = if self.0 { "won" } else { "running" };
        let position = json!({"boards": {"look_me": [[glyph, "x"]]}, "values": {"goal": word, "at_": 3}});
        Ok(json!({"position": position, "status": status}))
    }
}

#[test]
fn names_and_glyphs_of_a_game_never_break_the_model() {
    let written = written(&mut Lamp(false), Some("one"), &Budget::plain(Wanted::default()));
    let written = written.expect("it can be written down");
    let mut errors = vec![];
    let model = fendle_lang::compile(fendle_lang::FileId(0), &written.model, &mut errors);
    let model = model.unwrap_or_else(|| panic!("{errors:?}\n{}", written.model));
    assert_eq!(model.moves.len(), 2, "{}", written.model);
    let levels = fendle_lang::syntax::level::read_on(fendle_lang::FileId(1), &written.level, &mut errors);
    let levels = levels.expect("a level file");
    let bound =
        fendle_lang::bind(&std::sync::Arc::new(model), levels.file, &levels.levels[0], &[], &mut errors);
    assert!(bound.is_some(), "{errors:?}\n{}", written.level);
}
