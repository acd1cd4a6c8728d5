//! Source texts: near names, lines and columns.

use fendle_lang::source::{Sources, near};

#[test]
fn near_names_are_slips_and_nothing_else() {
    assert_eq!(near("tlie", ["tile", "gap"]), Some("tile"));
    assert_eq!(near("targt", ["target", "tile"]), Some("target"));
    assert_eq!(near("water", ["wall"]), None);
    assert_eq!(near("tile", ["tile"]), None);
}

#[test]
fn lines_and_columns_count_from_one_in_characters() {
    let mut sources = Sources::default();
    let file = sources.add("f", "ab\nçd\n");
    assert_eq!(sources.line_col(file, 0), (1, 1));
    assert_eq!(sources.line_col(file, 3), (2, 1));
    assert_eq!(sources.line_col(file, 5), (2, 2));
    assert_eq!(sources.line_col(file, 99), (3, 1));
}
