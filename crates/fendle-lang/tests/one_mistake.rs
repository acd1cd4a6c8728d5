//! One mistake is one error: an item that cannot be read says nothing of the names that it would have declared.

use fendle_lang::{Sources, compile};

const SOUND: &[&str] = &[
    "model stall",
    "enum ware { salt, tar }",
    "record cask { weight: 1..12, what: ware }",
    "shapes crate_ {\n    pole \"@x\"\n    knee \"@x/x.\"\n}",
    "const MOST = 4",
    "level wall: grid of bool = false",
    "state at, before_: cell",
    "state load: placed crate_",
    "state held: cask",
    "state n: 0..MOST",
    "tally steps",
    "fn free(c: cell) = not wall[c]",
    "proc rest() { n = 0 }",
    "show yard {\n    \".\"\n    \"H\" wall\n    \"a\" at\n    \"o\" load\n}",
    "picture { wall: gravel }",
    "move walk(d: dir4) {\n    let there = at + d\n    refuse \"no\" unless there on wall and free(there)\n    before_ = at\n    at = there\n    if held.what == tar { n = MOST }\n    steps += 1\n    rest()\n}",
    "goal at == before_ and n == 1",
];

fn errors_of(items: &[String]) -> Vec<(&'static str, String)> {
    let text = items.join("\n") + "\n";
    let mut sources = Sources::default();
    let mut errors = vec![];
    let file = sources.add("stall", text.as_str());
    compile(file, &text, &mut errors);
    errors.iter().map(|e| (e.code, e.plain(&sources))).collect()
}

#[test]
fn the_model_is_sound() {
    let items: Vec<String> = SOUND.iter().map(|s| (*s).to_string()).collect();
    assert_eq!(errors_of(&items), []);
}

/// Each item by itself is made unreadable at its end: what is told is that, and nothing of what follows from it.
#[test]
fn an_item_that_cannot_be_read_is_the_only_error() {
    for (broken, item) in SOUND.iter().enumerate().skip(1) {
        // A stray sign before the last closing brace, or else at the end of the line.
        let text = match item.rfind('}') {
            Some(i) => format!("{} ) {}", &item[..i], &item[i..]),
            None => format!("{item} )"),
        };
        let items: Vec<String> = SOUND
            .iter()
            .enumerate()
            .map(|(i, s)| if i == broken { text.clone() } else { (*s).to_string() })
            .collect();
        let errors = errors_of(&items);
        assert_eq!(errors.len(), 1, "{text}\n{errors:#?}");
        assert!(errors[0].0.starts_with('S'), "{text}\n{errors:#?}");
    }
}

/// A missing declaration, on the other hand, is told at every place that uses it, and at no other.
#[test]
fn a_name_that_is_nowhere_is_told_where_it_is_used() {
    for (gone, uses) in [(5usize, 4usize), (9, 3), (11, 1)] {
        let items: Vec<String> =
            SOUND.iter().enumerate().filter(|(i, _)| *i != gone).map(|(_, s)| (*s).to_string()).collect();
        let errors = errors_of(&items);
        assert_eq!(errors.len(), uses, "without `{}`\n{errors:#?}", SOUND[gone]);
        assert!(errors.iter().all(|e| e.0 == "M010"), "{errors:#?}");
    }
}
