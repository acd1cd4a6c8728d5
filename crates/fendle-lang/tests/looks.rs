//! The `picture` block: what a value looks like by its rules, and what is told of a rule that cannot be.

use crate::common;

use common::model;
use fendle_lang::model::{Drawee, FIGURES, Look, PAINTS, Paint};
use fendle_lang::{Sources, compile};

/// A model with several kinds of variables and a `picture` block.
fn text(rules: &str) -> String {
    format!(
        "model shed\nenum ware {{ none_, salt, tar }}\nconst MANY = 4\nlevel wall: grid of bool = false\nlevel goods: grid of ware\n\
         state crate: rearranged goods\nstate full: grid of 0..9\nstate spots: set of cells\nstate man: cell\n\
         state tired: 0..5 = 0\nproc rest() {{ let more = tired + 1 \n tired = more }}\n\
         move walk(d: dir4) {{ let there = man + d \n refuse \"no\" unless there on wall \n man = there \n rest() }}\n\
         goal man in spots\npicture {{\n{rules}\n}}\n"
    )
}

fn figure(word: &str) -> Option<usize> {
    FIGURES.iter().position(|w| *w == word)
}

fn paint(word: &str) -> Option<Paint> {
    PAINTS.iter().position(|w| *w == word).map(Paint::Named)
}

#[test]
fn each_part_comes_from_the_first_line_that_names_it() {
    let m = model(&text(
        "    full = 9: rgb(1, 2, 3) \"!\"\n    full = 2..MANY: ring sky\n    full: disk clay \"n\"\n    man: buoy\n    wall = true: hatch",
    ));
    let full = Drawee::Var(m.var("full").expect("declared"));
    let look = |value, plain| m.look(full, value, plain);
    let want = |figure_: &str, paint_: Option<Paint>, label: &str| {
        Some(Look { figure: figure(figure_), paint: paint_, label: Some(label.into()) })
    };
    assert_eq!(look(9, false), want("disk", Some(Paint::Rgb(1, 2, 3)), "!"));
    assert_eq!(look(1, false), want("disk", paint("clay"), "n"));
    for v in 2..=4 {
        assert_eq!(look(v, false), want("ring", paint("sky"), "n"));
    }
    assert_eq!(look(5, false), want("disk", paint("clay"), "n"));
    // A line without values leaves the plain value alone.
    assert_eq!(look(0, true), None);
    let man = Drawee::Var(m.var("man").expect("declared"));
    assert_eq!(m.look(man, 7, false), Some(Look { figure: figure("buoy"), ..Look::default() }));
    let wall = Drawee::Var(m.var("wall").expect("declared"));
    assert_eq!(m.look(wall, 1, false).and_then(|l| l.figure), figure("hatch"));
    assert_eq!(m.look(Drawee::Var(m.var("spots").expect("declared")), 1, false), None);
}

/// Values of an enum go by their names; a target looks like the grid that is rearranged to it.
#[test]
fn values_have_their_names_and_targets_their_twins() {
    let m = model(&text("    crate = salt: wedge chalk\n    crate = tar: block ink"));
    let value = |name: &str| {
        let list = &m.enums[0].values;
        list.iter().position(|v| v == name).expect("a value") as i64
    };
    for name in ["crate", "goods"] {
        let of = Drawee::Var(m.var(name).expect("declared"));
        assert_eq!(m.look(of, value("salt"), false).and_then(|l| l.figure), figure("wedge"), "{name}");
        assert_eq!(m.look(of, value("tar"), false).and_then(|l| l.paint), paint("ink"), "{name}");
        assert_eq!(m.look(of, value("none_"), true), None, "{name}");
    }
}

/// What is told and what is hidden may have one name: a line is about both.
#[test]
fn what_is_told_can_be_drawn() {
    let m = model(
        "model deck\nlevel deal: grid of 1..3\nhidden card: rearranged deal\nstate open: grid of bool = false\n\
         tell card[c] for c on open where open[c]\nmove turn(c: cell) { open[c] = true }\ngoal all(c on open: open[c])\n\
         picture { card: disk sand }\n",
    );
    assert_eq!(m.looks.len(), 1);
    assert_eq!(m.looks[0].of.len(), 2);
    assert_eq!(
        m.look(Drawee::Tell(0), 2, false),
        m.look(Drawee::Var(m.var("card").expect("declared")), 2, false)
    );
}

#[test]
fn a_line_that_cannot_be_is_told_where_and_why() {
    let errors_of = |rules: &str| -> Vec<(&'static str, String, String)> {
        let text = text(rules);
        let mut sources = Sources::default();
        let mut errors = vec![];
        let file = sources.add("shed", &text);
        assert!(compile(file, &text, &mut errors).is_none(), "{rules}");
        let part = |e: &fendle_lang::Diagnostic| {
            let span = e.labels[0].span;
            text[span.start as usize..span.end as usize].to_string()
        };
        errors.iter().map(|e| (e.code, part(e), format!("{} {}", e.message, e.notes.join("; ")))).collect()
    };
    for (rules, code, at, words) in [
        ("full: dusk", "M068", "dusk", "did you mean `disk`?"),
        ("full: purple", "M068", "purple", "colours: blue, ochre"),
        ("ful: disk", "M010", "ful", "did you mean `full`?"),
        ("nothing_there: disk", "M010", "nothing_there", "no variable is named"),
        ("tired: disk", "M067", "tired", "stands on no cell"),
        ("walk: disk", "M023", "walk", "is a move, not a variable"),
        ("full: disk ring", "M068", "ring", "one form and one colour are enough"),
        ("full: sky rgb(1, 2, 3)", "M068", "rgb", "one form and one colour are enough"),
        ("full: rgb(1, 2, 300)", "M068", "rgb", "from 0 to 255"),
        ("full:", "M068", "full", "this says nothing"),
        ("man = 3: disk", "M067", "man", "there or not"),
        ("full = tired: disk", "M033", "tired", "the level alone decides"),
        ("full = rows(): disk", "M041", "rows()", "a plain value"),
    ] {
        let errors = errors_of(rules);
        assert_eq!(errors.len(), 1, "{rules}: {errors:?}");
        let (c, part, all) = &errors[0];
        assert!(*c == code && part == at && all.contains(words), "{rules}: {errors:?}");
    }
    // What is missing in the line itself is the parser's.
    assert_eq!(errors_of("full disk")[0].0, "S010");
    assert_eq!(errors_of("full: rgb(1, 2)")[0].0, "S010");
}
