//! Every file in `tests/bad` has its diagnostics in a snapshot beside it; one of them is listed
//! in full here, span by span.

use std::sync::Arc;

use fendle_core::{Limits, NoWatch, explore};
use fendle_lang::model::Model;
use fendle_lang::{Game, Sources, bind, compile, level};

fn diagnose(name: &str, text: &str) -> (Vec<(usize, usize, &'static str)>, String) {
    let mut sources = Sources::default();
    let mut errors = vec![];
    let file = sources.add(name, text);
    assert!(compile(file, text, &mut errors).is_none(), "{name} should not compile");
    let spots = errors
        .iter()
        .map(|e| {
            let (line, col) = sources.line_col(e.labels[0].file, e.labels[0].span.start);
            (line, col, e.code)
        })
        .collect();
    let shown: Vec<String> = errors.iter().map(|e| e.plain(&sources)).collect();
    (spots, shown.join("\n"))
}

#[test]
fn ten_mistakes_are_ten_diagnostics_at_ten_places() {
    let (spots, text) = diagnose("ten.fendle", include_str!("bad/ten.fendle"));
    let want = [
        (2, 13, "S001"),
        (3, 18, "M002"),
        (5, 13, "M013"),
        (6, 13, "M013"),
        (8, 21, "M015"),
        (12, 5, "M010"),
        (13, 20, "S010"),
        (15, 11, "S018"),
        (16, 11, "M020"),
        (17, 14, "M005"),
    ];
    let mut want = want.to_vec();
    want.sort_unstable();
    let mut spots = spots;
    spots.sort_unstable();
    assert_eq!(spots, want, "{text}");
    for near in ["`rearranged`", "`cell`", "`steps`"] {
        assert!(text.contains(&format!("did you mean {near}?")), "{near}\n{text}");
    }
}

#[test]
fn bad_models_say_what_is_wrong() {
    let mut all = String::new();
    for (name, text) in [
        ("empty", include_str!("bad/empty.fendle")),
        ("broken", include_str!("bad/broken.fendle")),
        ("flow", include_str!("bad/flow.fendle")),
        ("twobounds", include_str!("bad/twobounds.fendle")),
        ("names", include_str!("bad/names.fendle")),
        ("show", include_str!("bad/show.fendle")),
    ] {
        let (_, shown) = diagnose(&format!("{name}.fendle"), text);
        all.push_str(&shown);
        all.push_str("\n\n");
    }
    insta::assert_snapshot!(all);
}

/// No text makes the front end panic or hang: every cut and many changes of the library models.
#[test]
fn no_damaged_text_makes_the_front_end_panic() {
    for text in [include_str!("../../../models/slide.fendle"), include_str!("../../../models/shove.fendle")] {
        let tries = (0..text.len()).step_by(7).filter(|&i| text.is_char_boundary(i));
        for i in tries {
            for damaged in [
                text[..i].to_string(),
                text[i..].to_string(),
                format!("{}{{{}", &text[..i], &text[i..]),
                format!("{}(({}", &text[..i], &text[i..]),
                format!("{}\"{}", &text[..i], &text[i..]),
                format!("{} \u{1F6A2}\0 {}", &text[..i], &text[i..]),
                format!("{}99999999999999{}", &text[..i], &text[i..]),
            ] {
                let mut sources = Sources::default();
                let file = sources.add("damaged", damaged.as_str());
                let _ = compile(file, &damaged, &mut vec![]);
            }
        }
    }
    for deep in [
        "(",
        "not ",
        "-",
        "if true then ",
        "{",
        "flood(x from ",
        "a[",
        "1 + ",
        "a and ",
        "2 ** ",
        "a[b] outside ",
    ] {
        let text = format!("model m\nmove go {{ n = {} }}\ngoal {}", deep.repeat(5000), deep.repeat(5000));
        let mut sources = Sources::default();
        let file = sources.add("deep", text.as_str());
        assert!(compile(file, &text, &mut vec![]).is_none());
    }
}

/// The levels of a file, each as a file of its own, with what stands before the first one.
fn one_by_one(text: &str) -> impl Iterator<Item = String> {
    let mut parts = text.split_inclusive("[[level]]");
    let head = parts.next().expect("a file has a beginning");
    let head = head.strip_suffix("[[level]]").expect("a file with levels");
    parts.map(move |p| format!("{head}[[level]]{}", p.strip_suffix("[[level]]").unwrap_or(p)))
}

/// No level file makes reading, binding, or a short search panic: characters taken out, doubled
/// and replaced, all over files that are sound.
#[test]
fn no_damaged_level_makes_anything_panic() {
    let pairs = [
        (include_str!("../../../models/slide.fendle"), include_str!("../../../packs/harbour/ferry.toml")),
        (include_str!("../../../models/shove.fendle"), include_str!("../../../packs/harbour/yard.toml")),
    ];
    let mut used = 0;
    for (model, text) in pairs {
        let mut sources = Sources::default();
        let file = sources.add("model", model);
        let model = Arc::new(compile(file, model, &mut vec![]).expect("a library model"));
        for text in one_by_one(text) {
            used += damage(&model, &text);
        }
    }
    assert!(used > 100, "{used}");
}

/// Damages a file in every third place in eight ways; how often a level that can still be bound was searched.
fn damage(model: &Arc<Model>, text: &str) -> usize {
    let mut used = 0;
    for i in (0..text.len()).step_by(3) {
        let mut sources = Sources::default();
        for new in ["", "9", "..", "A", "\n", "'", " ", "-1 "] {
            let damaged = format!("{}{new}{}", &text[..i], &text[i + 1..]);
            let mut errors = vec![];
            let file = sources.add("level", damaged.as_str());
            let Some(levels) = level::read(file, &damaged, &mut errors) else {
                assert!(!errors.is_empty());
                continue;
            };
            for l in &levels.levels {
                let before = errors.len();
                match bind(model, file, l, &[], &mut errors) {
                    None => assert!(errors.len() > before, "refused without a word"),
                    Some(b) if i % 15 == 0 => {
                        let game = Game::new(b).expect("small");
                        let limits = Limits { max_states: 50, threads: 1, ..Limits::default() };
                        let _ = explore(&game, limits, false, &NoWatch);
                        used += 1;
                    }
                    Some(_) => {}
                }
            }
            for e in &errors {
                // Every span lies in its file.
                let _ = e.plain(&sources);
            }
        }
    }
    used
}

#[test]
fn a_model_without_a_board_may_speak_of_one() {
    let text = "model m\nstate n: 0..3\nmove go { n = count(c on board) }\ngoal all(c in board: row(c) > n) and n == 1";
    let mut sources = Sources::default();
    let file = sources.add("m", text);
    let model = Arc::new(compile(file, text, &mut vec![]).expect("sound"));
    let toml = "model='m'\n[[level]]\nstart.n = 2";
    let file = sources.add("l", toml);
    let levels = level::read(file, toml, &mut vec![]).expect("sound");
    let game =
        Game::new(bind(&model, file, &levels.levels[0], &[], &mut vec![]).expect("sound")).expect("small");
    let found = explore(&game, Limits::default(), false, &NoWatch).expect("sound");
    assert_eq!(found.counts.states, 2);
}
