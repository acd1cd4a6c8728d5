//! Every file in `tests/bad` has its diagnostics in a snapshot beside it; one of them is listed
//! in full here, span by span.

use fendle_lang::{Sources, compile};

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
        (15, 11, "S010"),
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
        ("later", include_str!("bad/later.fendle")),
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
