//! One small mistake a line: its code, and the very text that is underlined.
//!
//! Each case is what stands in a model beside a sound frame; the frame alone compiles.

use fendle_lang::{Severity, Sources, compile};

/// Compiles `frame` with `extra` items and gives (code, underlined text) of each error.
fn errors_of(extra: &str) -> Vec<(String, String)> {
    let text = format!(
        "model m\n\
         enum kind {{ oak, elm }}\n\
         const most = 5\n\
         level wall: grid of bool outside true\n\
         level plan: grid of 0..9\n\
         level size_: 0..most\n\
         state at: cell\n\
         state n: 0..9\n\
         state flag: bool\n\
         state tree: kind\n\
         state mark: set of cells\n\
         state stock: array kind of 0..9\n\
         tally trips\n\
         fn here() = count(c in mark)\n\
         proc step_(k: 0..3) {{ n = k }}\n\
         move stay {{ n = 0 }}\n\
         {extra}\n"
    );
    let mut sources = Sources::default();
    let mut errors = vec![];
    let file = sources.add("m", text.as_str());
    let model = compile(file, &text, &mut errors);
    assert_eq!(model.is_some(), errors.iter().all(|e| e.severity == Severity::Warning), "{extra}");
    errors.iter().map(|e| (e.code.to_string(), text[e.labels[0].span.range()].to_string())).collect()
}

/// Inside a move with a direction `d` and a cell `c`.
fn in_move(body: &str) -> Vec<(String, String)> {
    errors_of(&format!("move go(d: dir4, c: cell) {{\n{body}\n}}"))
}

fn check(cases: &[(&str, &str, &str)], run: impl Fn(&str) -> Vec<(String, String)>) {
    for (text, code, under) in cases {
        let got = run(text);
        assert_eq!(got, [(code.to_string(), under.to_string())], "{text}");
    }
}

#[test]
fn the_frame_is_sound() {
    assert_eq!(errors_of(""), []);
    assert_eq!(in_move("n = 1"), []);
}

#[test]
fn mistakes_in_items() {
    check(
        &[
            ("state n: 0..3", "M002", "n"),
            ("state up: 0..3", "M001", "up"),
            ("const board = 3", "M001", "board"),
            ("enum empty { }", "M007", "empty"),
            ("enum twice { a, b, a }", "M002", "a"),
            ("state x: 5..2", "M011", "5..2"),
            ("state x: gird of bool", "M013", "gird"),
            ("state x: colour", "M013", "colour"),
            ("state x: grid of grid of bool", "M012", "grid of bool"),
            ("state x: array most of bool", "M010", "most"),
            ("state x: rearranged wall_", "M009", "wall_"),
            ("level x: rearranged plan", "M008", "rearranged plan"),
            ("state x: bool if n > 2", "M033", "n"),
            ("level x: 0..3 if size_ > 2", "M008", "0..3"),
            ("state x: 0..3 outside 2", "M008", "0..3"),
            ("state x: 0..3 = flag", "M033", "flag"),
            ("state x: 0..3 = true", "M020", "true"),
            ("const x = x + 1 == 2 and size_", "M033", "size_"),
            ("goal n == 1\ngoal n == 2", "M003", "goal"),
            ("after { n = 1 }\nafter { n = 2 }", "M003", "after"),
            ("goal n", "M020", "n"),
            ("lost when at because \"x\"", "M020", "at"),
            ("always n because \"x\"", "M020", "n"),
            ("keeps (flag) because \"x\"", "M020", "flag"),
            ("keeps (n) when n == 1 because \"x\"", "M033", "n"),
            ("status goal, won", "M005", "won"),
            ("status goal, goal", "M005", "goal"),
            ("move walk(p: place) { n = 1 }", "M016", "place"),
            ("fn loop_(k: 0..9) = loop_(k)", "M015", "loop_"),
            ("fn f() = plan", "M014", "plan"),
            ("bound true", "M020", "true"),
            ("tell n", "M064", "tell n"),
            (
                "hidden x: grid of bool\ntell x[c] for c in set(c on x where n > 0)",
                "M066",
                "set(c on x where n > 0)",
            ),
            ("hidden x: list of 0..3 max 2", "M063", "x"),
            ("alike n", "M010", "n"),
            ("alike piles of n", "M062", "n"),
            ("stat x: bool", "S011", "stat"),
            ("state x: bag of 0..3", "S010", "\n"),
            ("state x: list of 0..3 max flag", "M033", "flag"),
            ("state x: list of 0..3 max 4 = 2", "M008", "list of 0..3 max 4"),
            ("state x: maybe bool", "M012", "maybe bool"),
            ("state x: placed things", "M010", "things"),
            ("record pair { a: 0..1, a: 0..2 }", "M002", "a"),
            ("record none_ { }", "M007", "none_"),
            ("shapes bits { one \"x\" }", "M049", "\"x\""),
            ("shapes bits { one \"@@\" }", "M049", "\"@@\""),
            ("shapes bits { one about corner 1, 1 \"@\" }", "M049", "\"@\""),
            ("shapes bits { one \"#\" }", "M049", "\"#\""),
            ("tick on wait { n = 0 }", "M047", "wait"),
            ("tick every 2 moves { refuse \"no\" }", "M022", "refuse \"no\""),
            ("setup { refuse \"no\" }", "M022", "refuse \"no\""),
            ("law bent because \"x\"", "M048", "bent"),
            ("goal can any", "M056", "can any"),
            ("model other", "S022", "other"),
            ("show trips { }", "M040", "trips"),
            ("show n { 1 \"a\" }", "M040", "n"),
            ("show yard { \"ab\" wall\n \".\" }", "M043", "\"ab\""),
            ("show yard { \"a\" wall }", "M045", "yard"),
            ("show yard { \"a\" wall\n \"b\" wall\n \".\" }", "M042", "\"b\""),
            ("show yard { \"a\" n\n \".\" }", "M044", "n"),
            ("show plan { 1 \"a\" ; 1 \"b\" }", "M042", "\"b\""),
            ("show plan { size_ \"a\" }", "M041", "size_"),
            ("example \"x\" { shout }", "S012", "shout"),
            ("example \"x\" { level wal \"x\" }", "M010", "wal"),
        ],
        errors_of,
    );
}

#[test]
fn mistakes_in_statements() {
    check(
        &[
            ("m = 1", "M010", "m"),
            ("size_ = 1", "M025", "size_"),
            ("most = 1", "M025", "most"),
            ("d = up", "M025", "d"),
            ("let x = 1\nx = 2", "M025", "x"),
            ("before.n = 1", "M025", "before.n"),
            ("n = true", "M020", "true"),
            ("flag = 1", "M020", "1"),
            ("at = at + d", "M028", "at + d"),
            ("plan[at] = 1", "M025", "plan"),
            ("mark[at + d] = true", "M028", "at + d"),
            ("stock[at] = 1", "M020", "at"),
            ("n[at] = 1", "M027", "n"),
            ("trips = 1", "M018", "trips = 1"),
            ("n = trips", "M035", "trips"),
            ("swap n, flag", "M020", "swap n, flag"),
            ("swap mark, mark", "M020", "swap mark, mark"),
            ("add at + d to mark", "M028", "at + d"),
            ("add at to n", "M020", "n"),
            ("n = 1\noffer flag", "M021", "offer flag"),
            ("win\nn = 1", "M017", "n = 1"),
            ("refuse \"no\"\nn = 1", "M017", "n = 1"),
            ("teleport(3)", "M010", "teleport"),
            ("here(3)", "M023", "here"),
            ("step_(1, 2)", "M024", "step_"),
            ("step_(flag)", "M020", "flag"),
            ("for x in n { n = 1 }", "M029", "n"),
            ("for x on n { n = 1 }", "M030", "n"),
            ("for c in mark { n = 1 }", "M002", "c"),
            ("let n = 1", "M002", "n"),
            ("let left = 1", "M001", "left"),
            ("if n { n = 1 }", "M020", "n"),
            ("repeat at most flag while flag { n = 1 }", "M020", "flag"),
            ("note \"x\" at n", "M020", "n"),
            ("score flag", "M020", "flag"),
            ("let x = draw on plan\nrefuse \"no\" unless flag", "M046", "refuse \"no\" unless flag"),
            ("n = draw from (1 weight -2, 2)", "M050", "-2"),
            ("n = draw from (1, true)", "M020", "true"),
            (
                "for q in 1..2 { refuse \"no\" unless flag\nlet x = draw on plan }",
                "M046",
                "for q in 1..2 { refuse \"no\" unless flag\nlet x = draw on plan }",
            ),
            (
                "repeat at most 2 while flag { n = 1 } else cut",
                "M052",
                "repeat at most 2 while flag { n = 1 } else cut",
            ),
            ("require flag", "M054", "require flag"),
            ("n = none", "M020", "none"),
            ("var q = list(i in 1..2: i)", "M058", "q"),
            ("let q = list(i in 1..2: i)\nq.push(1)", "M025", "q"),
            ("var q: list of 0..3 max 2\nq.shove(1)", "M051", "shove"),
            ("var q: list of 0..3 max 2\nq.push(flag)", "M020", "flag"),
            ("var q: list of 0..3 max 2\nadd 1 to q", "M051", "add 1 to q"),
            ("cut q in dir4 where true out of plan, 0 from up", "M053", "dir4"),
            ("write 1, then 0, into n along c", "M020", "n"),
            ("n = len(n)", "M020", "n"),
            ("let q = given(n)", "M020", "n"),
            ("n = c.rank", "M037", "rank"),
            ("n == 1", "S010", "=="),
            ("rpeat at most 3", "S010", "at"),
        ],
        in_move,
    );
    check(&[("after { refuse \"no\" unless flag }", "M022", "refuse \"no\" unless flag")], errors_of);
}

#[test]
fn mistakes_in_expressions() {
    let in_goal = |e: &str| errors_of(&format!("goal {e}"));
    check(
        &[
            ("before.n == 1", "M036", "before.n"),
            ("start.size_ == 1", "M036", "start.size_"),
            ("start.m == 1", "M010", "m"),
            ("kind.ash == tree", "M010", "ash"),
            ("at.row == 1", "M037", "row"),
            ("n + flag == 1", "M020", "n + flag"),
            ("n < flag", "M020", "n < flag"),
            ("n == flag", "M020", "flag"),
            ("tree == 1", "M020", "1"),
            ("wall[at + up] and plan[at + up] > 0", "M028", "at + up"),
            ("n[at] == 1", "M027", "n"),
            ("here == 1", "M023", "here"),
            ("kind == tree", "M023", "kind"),
            ("nothing(1) == 1", "M010", "nothing"),
            ("abs(1, 2) == 1", "M024", "abs"),
            ("parity(n) == 1", "M020", "n"),
            ("around4(at) == mark", "M038", "around4"),
            ("count(x on mark: flag) == 1", "M039", "flag"),
            ("all(x on mark where flag)", "M039", "all(x on mark where flag)"),
            ("sum(x on mark) == 1", "M039", "sum(x on mark)"),
            ("any(x on mark)", "M039", "any(x on mark)"),
            ("set(d in dir4) == mark", "M039", "set(d in dir4)"),
            ("flood(x from at by near while flag) == mark", "M032", "near"),
            ("(if flag then mark else mark) == mark", "M014", "(if flag then mark else mark)"),
            ("at in n", "M020", "n"),
            ("n in mark", "M020", "n"),
            ("at on n", "M030", "n"),
            ("1 < n < 3", "S017", "<"),
            ("n == 99999999999999", "S001", "99999999999999"),
            ("n == 3x", "S001", "3x"),
            ("n == \"a\\q\"", "S003", "\\q"),
            ("n ? 1", "S005", "?"),
            ("count(x on mark where not x on mark and plan[x + up] == 1) == 0", "M028", "x + up"),
        ],
        |e| {
            // The lexer's complaints come with a second one from the parser: the first counts.
            let mut list = in_goal(e);
            if list.len() > 1 && list.iter().any(|x| x.0 == "S003" || x.0 == "S005") {
                list.retain(|x| x.0 == "S003" || x.0 == "S005");
            }
            list
        },
    );
}

#[test]
fn places_become_cells_where_they_are_tested() {
    for sound in [
        "let p = at + d\nrefuse \"edge\" unless p on board\nat = p",
        "let p = at + d\nrefuse \"edge\" unless n == 1 and p on wall and flag\nat = p",
        "let p = at + d\nif p on board { at = p }",
        "let p = at + d\nif not (p on board) { n = 1 } else { at = p }",
        "let p = at + d\nif not p on board or flag { n = 1 } else { at = p }",
        "let p = at + d\nflag = p on board and mark[p]",
        "let p = at + d\nflag = not p on board or mark[p]",
        "let p = at + d\nn = if p on board then plan[p] else 0",
        "let p = at + d\nflag = wall[p]",
        "let p = at + d\nn = plan[p] outside 3",
        "let p = at + d\nflag = p in mark",
        "for x in around8(at + d) where x in mark { at = x }",
    ] {
        assert_eq!(in_move(sound), [], "{sound}");
    }
    for unsound in [
        "let p = at + d\nif p on board or flag { at = p }",
        "let p = at + d\nif p on board { n = 1 }\nat = p",
        "var p = at + d\nif p on board { at = p }",
        "let p = at + d\nif p on board { n = 1 } else { at = p }",
        "let p = at + d\nflag = p on board or mark[p]",
        "let p = at + d\nrefuse \"x\" unless p on board or flag\nat = p",
    ] {
        let got = in_move(unsound);
        assert_eq!(got.first().map(|e| e.0.as_str()), Some("M028"), "{unsound}");
    }
}

/// Mistakes with which the frame itself would not stand, or that are about a whole file.
#[test]
fn mistakes_of_whole_files() {
    let errors = |text: &str| -> Vec<(String, String)> {
        let mut sources = Sources::default();
        let mut errors = vec![];
        let file = sources.add("m", text);
        compile(file, text, &mut errors);
        errors.iter().map(|e| (e.code.to_string(), text[e.labels[0].span.range()].to_string())).collect()
    };
    for (text, code, under) in [
        ("state n: 0..3\nmove go { n = 1 }\n", "S021", "state"),
        ("model m\nstate n: 0..3\ngoal n == 1\n", "M004", "m"),
        (
            "model m\nstate at: cell\nmove go { at = at }\nexample \"x\" {\n start board '''\n ..\n",
            "S002",
            "",
        ),
        (
            "model m\nenum a { oak, elm }\nenum b { elm, ash }\nstate n: 0..3\nmove go { if elm == elm { n = 1 } }\n",
            "M034",
            "elm",
        ),
        ("model m\nstate n: 0..3\nspread 1..3 over n\nmove go { n = 1 }\n", "M059", "n"),
        (
            "model m\nrecord pair { a: 0..1, b: 0..2 }\nstate p: pair\nmove go { p = pair(a: 1, b: 1, a: 1) }\n",
            "M057",
            "a",
        ),
        (
            "model m\nrecord pair { first_: 0..1, b: 0..2 }\nstate p: pair\nmove go { p = pair(first_: 1, b: 1, frist_: 1) }\n",
            "M057",
            "frist_",
        ),
        ("model m\nstate p: maybe cell = none\nstate q: cell\nmove go { q = p }\n", "M055", "p"),
    ] {
        let got = errors(text);
        assert!(!got.is_empty(), "{text}");
        assert_eq!(got[0].0, code, "{text}: {got:?}");
        assert!(under.is_empty() || got[0].1 == under, "{text}: {got:?}");
    }
    // Nested so deeply that no one could read it: told, and no stack is used up.
    for (open, close) in [("(", ")"), ("not (", ")"), ("all(c in mark: ", ")")] {
        let deep = format!("goal {}n == 1{}", open.repeat(400), close.repeat(400));
        let text = format!("model m\nstate n: 0..3\nstate mark: set of cells\nmove go {{ n = 1 }}\n{deep}\n");
        assert_eq!(errors(&text).first().map(|e| e.0.as_str()), Some("S014"), "{open}");
    }
    let blocks = format!("move go {{ {} n = 1 {} }}", "if n == 0 { ".repeat(400), "}".repeat(400));
    let text = format!("model m\nstate n: 0..3\n{blocks}\n");
    assert_eq!(errors(&text).first().map(|e| e.0.as_str()), Some("S014"));
}
