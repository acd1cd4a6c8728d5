//! One small mistake in a level file: its code, and the very text that is underlined, in whichever file it stands.

use std::sync::Arc;

use fendle_lang::{Sources, bind, compile, level};

const FRAME: &str = "model stall\n\
enum ware { salt, tar }\n\
shapes crate_ {\n pole \"@x\"\n knee \"@x/x.\"\n}\n\
level deep: 0..9 = 3\n\
level wall: grid of bool = false\n\
level wares: list of ware max 3\n\
state at: cell\n\
state pile: array 1..2 of list of 0..9 max deep\n\
state load: placed crate_\n\
state tired: 0..deep = 0\n\
show yard { \".\" \n \"H\" wall \n \"a\" at \n }\n\
show stack { \".\" \n \"o\" load \n }\n\
move walk(d: dir4) { let there = at + d \n refuse \"no\" unless there on wall \n at = there }\n\
goal tired == 1\nlost when tired == 2 because \"too tired\"\nstatus goal, lost\n";

const LEVEL: &str = "model = \"stall\"\ntitle = \"Stalls\"\n[[level]]\nname = \"one\"\nvalues.wares = \"salt tar\"\n\
start.yard = '''\na..\n.H.\n'''\nstart.pile = { 1 = \"3 2\", 2 = \"\" }\nstart.load = \"pole.1@r2c1\"\n";

/// What is wrong with a model and a level of it: (code, underlined text).
fn errors_of(model_text: &str, level_text: &str) -> Vec<(String, String)> {
    let mut sources = Sources::default();
    let mut errors = vec![];
    let file = sources.add("stall", model_text);
    let model = compile(file, model_text, &mut errors).map(Arc::new);
    let Some(model) = model else { panic!("{errors:?}\n{model_text}") };
    let file = sources.add("level", level_text);
    if let Some(levels) = level::read(file, level_text, &mut errors) {
        for l in &levels.levels {
            bind(&model, levels.file, l, &[], &mut errors);
        }
    }
    let part = |e: &fendle_lang::Diagnostic| {
        let text = if e.labels[0].file == file { level_text } else { model_text };
        text[e.labels[0].span.range()].to_string()
    };
    errors.iter().map(|e| (e.code.to_string(), part(e))).collect()
}

/// The sound level with one part replaced.
fn with(from: &str, to: &str) -> Vec<(String, String)> {
    assert!(LEVEL.contains(from), "{from}");
    errors_of(FRAME, &LEVEL.replacen(from, to, 1))
}

fn one(code: &str, under: &str) -> Vec<(String, String)> {
    vec![(code.to_string(), under.to_string())]
}

#[test]
fn the_frame_is_sound() {
    assert_eq!(errors_of(FRAME, LEVEL), []);
}

#[test]
fn mistakes_in_the_form_of_a_file() {
    for (from, to, code, under) in [
        ("model = \"stall\"", "model = 3", "L002", "3"),
        ("title = \"Stalls\"", "title = 3", "L008", "3"),
        ("name = \"one\"", "name = [1]", "L008", "[1]"),
        ("values.wares = \"salt tar\"", "values = 3", "L011", "3"),
        ("start.load = \"pole.1@r2c1\"", "expect = 3", "L011", "3"),
        ("[[level]]", "[[level]]\nsize = [2]", "L009", "[2]"),
        ("[[level]]", "[[level]]\nexpect.moves = \"two\"", "L010", "\"two\""),
        ("[[level]]", "[[level]]\nexpects.moves = 2", "L007", "expects"),
        ("title = \"Stalls\"", "titel = \"Stalls\"", "L007", "titel"),
    ] {
        let got = with(from, to);
        assert_eq!(got.first(), one(code, under).first(), "{to}: {got:?}");
    }
}

#[test]
fn mistakes_in_what_a_level_gives() {
    for (from, to, code, under) in [
        // A list over its bound, which the level may set itself.
        ("values.wares = \"salt tar\"", "values.wares = \"salt tar tar salt\"", "L038", "salt"),
        ("values.wares", "values.deep = 1\nvalues.wares", "L038", "2"),
        ("values.wares = \"salt tar\"", "values.wares = \"salt ash\"", "L024", "ash"),
        // A placed shape has a turn that no drawing tells.
        ("start.load = \"pole.1@r2c1\"", "start.stack = '''\noo.\n...\n'''", "L039", "o"),
        ("start.load = \"pole.1@r2c1\"", "start.load = \"plank.1@r2c1\"", "L024", "\"plank.1@r2c1\""),
        // A drawing is a board.
        ("start.load = \"pole.1@r2c1\"", "start.stack = 3\nstart.load = \"pole.1@r2c1\"", "L030", "3"),
        (
            "start.pile = { 1 = \"3 2\", 2 = \"\" }",
            "start.pile = { 1 = \"3 2\", 3 = \"\" }",
            "L026",
            "{ 1 = \"3 2\", 3 = \"\" }",
        ),
        ("a..\n.H.", "a..\n.Ha", "L028", "a..\n.Ha\n"),
        ("a..\n.H.", "a..\n.x.", "L027", "x"),
    ] {
        let got = with(from, to);
        assert_eq!(got.first().map(|e| e.0.as_str()), Some(code), "{to}: {got:?}");
        assert!(got[0].1.contains(under) || under.contains(got[0].1.trim()), "{to}: {got:?}");
    }
}

/// What the level's values make of the model's own expressions is told at the model.
#[test]
fn mistakes_that_only_the_level_shows() {
    let wide = FRAME.replace("level deep: 0..9 = 3", "level deep: 0..9999 = 3");
    let got = errors_of(&wide, &LEVEL.replace("values.wares", "values.deep = 9999\nvalues.wares"));
    assert_eq!(got.first(), one("L031", "deep").first(), "a list of 9,999 entries: {got:?}");
    let model = FRAME.replace("state tired: 0..deep = 0", "state tired: 0..12 / (deep - 3) = 0");
    let got = errors_of(&model, LEVEL);
    assert_eq!(got.first(), one("L036", "12 / (deep - 3)").first(), "a division by zero: {got:?}");
    let model = FRAME.replace("state tired: 0..deep = 0", "state tired: 2..deep");
    let text = LEVEL.replace("values.wares", "values.deep = 1\nvalues.wares");
    let got = errors_of(&model, &text.replace("\"3 2\"", "\"3\""));
    assert_eq!(got.first().map(|e| e.0.as_str()), Some("L031"), "an empty range: {got:?}");
    // Nothing says how large the board is.
    let model = "model bare\nstate lit: set of cells\nmove tick_(c: cell) { add c to lit }\ngoal all(c in lit: true)\n";
    let got = errors_of(model, "model = \"bare\"\n[[level]]\nname = \"x\"\n");
    assert_eq!(got.first().map(|e| e.0.as_str()), Some("L029"));
    let model = "model bare\nstate n: 0..3 = 0\nmove tick_(c: cell) { n = 1 }\ngoal n == 1\n";
    let got = errors_of(model, "model = \"bare\"\n[[level]]\nname = \"x\"\n");
    assert_eq!(got.first().map(|e| e.0.as_str()), Some("L029"));
    assert_eq!(errors_of(model, "model = \"bare\"\n[[level]]\nname = \"x\"\nsize = [2, 2]\n"), []);
}

const REEF: &str = "model reef\nlevel rocks: 0..9\n\
hidden rock: grid of bool\n with count(c on rock where rock[c]) == rocks\n\
state seen: grid of bool = false\n\
fn near(c: cell) = count(n in around4(c) where rock[n])\n\
tell near(c) for c on seen where seen[c]\n\
move sound(c: cell) { refuse \"seen\" at c unless not seen[c] \n if rock[c] { lose \"a rock\" } \n seen[c] = true }\n\
goal count(c on seen where not seen[c]) == rocks\n";

#[test]
fn mistakes_about_hidden_things() {
    let level = |more: &str| format!("model = \"reef\"\n[[level]]\nname = \"x\"\nvalues.rocks = 1\n{more}\n");
    let sound = "start.rock = '''\n.x\n..\n'''\n";
    assert_eq!(errors_of(REEF, &level(sound)), []);
    assert_eq!(errors_of(REEF, &level("told.near = '''\n1 ~\n~ ~\n'''\n")), []);
    // Three values where four are told.
    let got = errors_of(REEF, &level("size = [2, 2]\ntold.near = '''\n1 ~\n~\n'''\n"));
    assert!(matches!(got[0].0.as_str(), "L021" | "L023" | "L082"), "{got:?}");
    let got = errors_of(REEF, &level(&format!("{sound}told.near = '''\n1 ~\n~ ~\n'''\n")));
    assert_eq!(got[0].0, "L083", "the layout and what is told of it: {got:?}");
    let got = errors_of(REEF, &level("start.rock = '''\nxx\n..\n'''\n"));
    assert_eq!(got[0].0, "L084", "two rocks where one is wanted: {got:?}");
    assert!(got[0].1.contains("xx"), "{got:?}");
}

#[test]
fn more_names_than_can_be_tried_are_told() {
    let names: Vec<String> = (1..=9).map(|i| format!("k{i}")).collect();
    let model = format!(
        "model dyes\nenum dye {{ {} }}\nalike dye\nstate pot: grid of dye\nstate next_: array dye of maybe dye = none\n\
         move dip(c: cell, k: dye) {{ next_[pot[c]] = k \n pot[c] = k }}\ngoal all(c on pot: all(d on pot: pot[c] == pot[d]))\n",
        names.join(", ")
    );
    let board: Vec<&str> = names.iter().map(String::as_str).collect();
    let level =
        format!("model = \"dyes\"\n[[level]]\nname = \"x\"\nstart.pot = '''\n{}\n'''\n", board.join(" "));
    let got = errors_of(&model, &level);
    assert_eq!(got.first().map(|e| e.0.as_str()), Some("L081"), "9! ways to rename: {got:?}");
}

/// What `--at` takes, read back: a position that says something else than it may.
#[test]
fn positions_in_one_line_are_read_with_care() {
    let mut sources = Sources::default();
    let mut errors = vec![];
    let file = sources.add("stall", FRAME);
    let model = Arc::new(compile(file, FRAME, &mut errors).expect("sound"));
    let level_file = sources.add("level", LEVEL);
    let levels = level::read(level_file, LEVEL, &mut errors).expect("sound");
    let b = bind(&model, level_file, &levels.levels[0], &[], &mut errors).expect("sound");
    let line = b.line(&b.position);
    let read = |text: &str| -> Result<Vec<i32>, String> {
        let mut errors = vec![];
        match b.parse_line(text, level_file, &mut errors) {
            Some(state) => Ok(state),
            None => Err(errors.first().map_or("none".to_string(), |e| e.code.to_string())),
        }
    };
    assert_eq!(read(&line), Ok(b.position.clone()), "{line}");
    assert_eq!(read(&format!("{line}; loose")), Err("L040".into()));
    assert_eq!(read(&format!("{line}; ended=7")), Err("L041".into()));
    // Another wall is another level.
    assert!(line.contains(".H."), "{line}");
    assert_eq!(read(&line.replace(".H.", "HH.")), Err("L042".into()));
    assert_eq!(read(&line.replace("tired=0", "tired=9")), Err("L025".into()));
    assert_eq!(read(&line.replace("tired=0", "tried=0")), Err("L035".into()));
}

#[test]
fn a_board_without_blanks_is_one_mistake_wherever_it_stands() {
    let text = "model slips\nlevel target: grid of 0..9\nstate tile: rearranged target\n\
move go(d: dir4, c: cell) { refuse \"no\" unless c + d on board \n swap tile[c], tile[cell(c + d)] }\ngoal tile == target\n";
    let level = |target: &str, tile: &str| {
        format!("model = 's'\n[[level]]\nname = 'a'\nvalues.target = \"{target}\"\nstart.tile = \"{tile}\"\n")
    };
    let sound = level("1 2 3/4 5 6", "1 2 3/4 6 5");
    assert_eq!(errors_of(text, &sound), []);
    // The other board, right or wrong as this one, says nothing more.
    assert_eq!(errors_of(text, &level("123/456", "1 2 3/4 6 5")), one("L024", "123"));
    assert_eq!(errors_of(text, &level("1 2 3/4 5 6", "123/465")), one("L024", "123"));
    assert_eq!(errors_of(text, &level("123/456", "123/465")), one("L024", "123"));
}

/// Where the keys, the entries or the values of one thing depend on another one with a mistake, nothing is said of what is given for it.
#[test]
fn what_depends_on_a_mistake_is_not_judged() {
    let model = "model posts\nlevel posts: 1..3\nlevel height: array 1..posts of 0..9\nlevel last: 1..posts = 1\n\
        state pile: array 1..posts of list of 0..posts max posts\nstate at: maybe 1..posts = none\nstate n: 0..9\n\
        move rest() { n = 0 }\ngoal n == 0\n";
    let level = |posts: &str, height: &str, n: &str| {
        format!(
            "model = \"posts\"\n[[level]]\nname = \"one\"\nvalues.posts = {posts}\nvalues.height = {height}\nvalues.last = 3\n\
            start = {{ pile = [\"1 3\", \"2\", \"\"], at = 3, n = {n} }}\n"
        )
    };
    assert_eq!(errors_of(model, &level("3", "[1, 2, 3]", "4")), []);
    assert_eq!(errors_of(model, &level("5", "[1, 2, 3, 4, 5]", "4")), one("L025", "5"));
    // What does not depend on it is.
    let both = [one("L025", "5"), one("L025", "40")].concat();
    assert_eq!(errors_of(model, &level("5", "[1, 2, 3, 4, 5]", "40")), both);
    // Without a mistake there each of them is judged.
    let codes = |errors: Vec<(String, String)>| errors.into_iter().map(|e| e.0).collect::<Vec<String>>();
    assert_eq!(codes(errors_of(model, &level("2", "[1, 2, 3]", "4"))), ["L037", "L025", "L037", "L025"]);
}

/// A value that the model gives, made of one with a mistake, is not judged either.
#[test]
fn a_default_that_depends_on_a_mistake_is_not_judged() {
    let model = "model shares\nenum side { port, lee }\nlevel hands: 0..3\nlevel each: 0..9 = 9 / hands\nlevel rest: array side of 0..9 = (port: 9 mod hands, lee: 0)\n\
        level lamp: grid of bool\nlevel lit: 1..9 = count(c on lamp where lamp[c])\nstate n: 0..each = 0\n\
        move take_() { n += lit }\ngoal n == each\n";
    let level = |hands: &str, lamps: &str| {
        format!(
            "model = \"shares\"\n[[level]]\nname = \"one\"\nvalues.hands = {hands}\nvalues.lamp = \"{lamps}\"\n"
        )
    };
    assert_eq!(errors_of(model, &level("3", "x.x")), []);
    assert_eq!(errors_of(model, &level("7", "x.x")), one("L025", "7"));
    assert_eq!(errors_of(model, &level("3", "#.#")), one("L024", "#"));
    // Without a mistake they are.
    let codes = |errors: Vec<(String, String)>| errors.into_iter().map(|e| e.0).collect::<Vec<String>>();
    assert_eq!(codes(errors_of(model, &level("0", "..."))), ["L036", "L036", "L025"]);
}
