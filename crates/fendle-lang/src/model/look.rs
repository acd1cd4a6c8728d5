//! How things are shown.

use super::*;

/// What a glyph says of one variable at its cell.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fact {
    /// The variable.
    pub var: VarId,
    /// The value there; 1 for a member of a set and for "the cell is here".
    pub value: i64,
}

/// A glyph of a drawing and what it stands for.
#[derive(Clone, Debug)]
pub struct DrawRule {
    /// The glyph.
    pub glyph: char,
    /// What it says of its cell, variable by variable. A board that is read says just this.
    pub facts: Vec<Fact>,
    /// It is drawn only where this holds; the cell is local 0.
    pub when: Option<Body>,
}

/// How something is drawn.
#[derive(Clone, Debug)]
pub enum Show {
    /// One grid, value by value.
    Values {
        /// The grid.
        var: VarId,
        /// Its values with their glyphs.
        glyphs: Vec<(i64, String)>,
        /// Glyphs stand without blanks between them.
        joined: bool,
    },
    /// Several variables in one drawing, one glyph a cell.
    /// Where it is layered, the first glyph that fits is drawn, whatever lies under it.
    Drawing {
        /// Its name.
        name: String,
        /// The variables that it draws.
        vars: Vec<VarId>,
        /// Its glyphs.
        rules: Vec<DrawRule>,
        /// The first glyph that fits is drawn, whatever lies under it.
        layered: bool,
        /// Where it stands in the text of the model.
        span: Span,
    },
}

/// Forms in which pictures draw things, by the words of the language.
pub const FIGURES: [&str; 17] = [
    "block", "waves", "gravel", "hatch", "slab", "disk", "ring", "diamond", "wedge", "hexagon", "frame",
    "cross", "bar", "dot", "buoy", "label", "nothing",
];

/// Colours of pictures, by the words of the language.
pub const PAINTS: [&str; 12] =
    ["blue", "ochre", "sky", "brown", "navy", "sand", "teal", "clay", "slate", "rust", "ink", "chalk"];

/// A colour as a model gives it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Paint {
    /// One of [`PAINTS`]: each theme has its own shade of it.
    Named(usize),
    /// Red, green, blue.
    Rgb(u8, u8, u8),
}

/// How pictures draw a thing; what is `None` is left to the picture.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Look {
    /// Its form: one of [`FIGURES`].
    pub figure: Option<usize>,
    /// Its colour.
    pub paint: Option<Paint>,
    /// What is written on it.
    pub label: Option<String>,
}

impl Look {
    /// Whether it says that the thing is not drawn.
    #[must_use]
    pub fn is_nothing(&self) -> bool {
        self.figure.is_some_and(|f| FIGURES[f] == "nothing")
    }
}

/// What a line of a `picture` block is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Drawee {
    /// A variable.
    Var(VarId),
    /// What the player is told.
    Tell(usize),
    /// A derived set, by its number among what is derived.
    Derived(usize),
}

/// One line of a `picture` block.
#[derive(Clone, Debug)]
pub struct LookRule {
    /// A variable, something told, or both where they have one name.
    pub of: Vec<Drawee>,
    /// For these values; `None` for all but the plain one.
    pub values: Option<(i64, i64)>,
    /// What they look like.
    pub look: Look,
}
