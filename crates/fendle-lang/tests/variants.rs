//! Faulty variants: edits of rules alone, each another text.

use fendle_lang::variants::variants;
use fendle_lang::{Sources, compile};

/// The texts of the library's models.
fn library() -> Vec<(String, String)> {
    let dir = concat!(env!("CARGO_MANIFEST_DIR"), "/../../models");
    let mut out = vec![];
    for entry in std::fs::read_dir(dir).expect("the library") {
        let path = entry.expect("readable").path();
        if path.extension().is_some_and(|e| e == "fendle") {
            let text = std::fs::read_to_string(&path).expect("readable");
            out.push((path.display().to_string(), text));
        }
    }
    out
}

#[test]
fn variants_change_the_rules_and_nothing_else() {
    for (name, text) in library() {
        let mut sources = Sources::default();
        let file = sources.add(name.clone(), text.clone());
        let model = compile(file, &text, &mut vec![]).expect("the library is right");
        let examples = text.find("\nexample").unwrap_or(text.len());
        let list = variants(file, &text);
        let mut made = 0;
        for v in &list {
            assert!(v.span.range().end <= examples, "{name}: {v:?}");
            let edited = v.applied(&text);
            assert_ne!(edited, text, "{name}: {v:?}");
            let Some(other) = compile(file, &edited, &mut vec![]) else { continue };
            made += 1;
            assert_eq!(other.vars.len(), model.vars.len(), "{name}: {v:?}");
            assert_eq!(other.moves.len(), model.moves.len(), "{name}: {v:?}");
        }
        assert!(made >= 8 && made * 4 >= list.len(), "{name}: {made} of {} can be compiled", list.len());
    }
}

#[test]
fn a_small_model_has_the_variants_that_are_counted_by_hand() {
    let text = "model m\nstate at: 0..9\nmove on_ {\n    refuse \"far\" unless at < 9\n    at += 1\n}\ngoal at == 9\n";
    let mut sources = Sources::default();
    let file = sources.add("m", text);
    let words: Vec<String> = variants(file, text).into_iter().map(|v| v.words).collect();
    for expected in [
        "\"far\" is never a reason to refuse",
        "`<=` instead of `<` in `at < 9`",
        "10 instead of 9",
        "8 instead of 9",
        "`at += 1` is left out",
        "2 instead of 1",
        "`!=` instead of `==` in `at == 9`",
    ] {
        assert!(words.iter().any(|w| w == expected), "{expected}: {words:?}");
    }
}
