//! What is built into the program: the library models, levels to start from, and the harbour pack.

/// A library model.
pub struct Family {
    /// Its name.
    pub name: &'static str,
    /// What it is, in one line.
    pub what: &'static str,
    /// Its source.
    pub model: &'static str,
    /// A level to start from; `$MODEL` stands for the model's file.
    pub starter: &'static str,
}

macro_rules! family {
    ($name:literal, $what:literal) => {
        Family {
            name: $name,
            what: $what,
            model: include_str!(concat!("../../../models/", $name, ".fendle")),
            starter: include_str!(concat!("../../../models/", $name, ".start.toml")),
        }
    };
}

/// The library.
pub const LIBRARY: &[Family] = &[
    family!("slide", "sliding tiles: a neighbour of the gap moves into it"),
    family!("shove", "pushing bodies: an agent pushes one body at a time; water swallows"),
    family!(
        "merge",
        "shift and merge: equal tiles that meet become their double, and a tile appears by chance"
    ),
    family!("match", "swap to line up three: runs vanish, tiles fall, and more may come from above"),
    family!("clump", "remove connected groups: tiles fall, empty columns close up"),
    family!("fall", "falling blocks: steered while they fall, full rows vanish"),
    family!("sweep", "hidden rocks: numbers tell how many neighbours are rocks"),
    family!("wade", "a walker among hidden mires, to a safe place"),
    family!("pairs", "hidden pairs: two are uncovered, equal ones stay"),
    family!("coil", "stacked rings on posts: only smaller onto larger"),
    family!("patience", "cards: piles built downwards, homes upwards in suit, a stock that is dealt"),
    family!("blind", "patience in which what lies face down is hidden"),
    family!("inlay", "coloured pieces laid to fill a picture, in any order or one by one"),
    family!("frame", "pieces of different sizes slide in a frame"),
    family!("parade", "lines of three with crates and pieces that clear their row or kind"),
    family!("hoist", "falling blocks by bag, with a preview, one on hold, and nudges for a turn"),
    family!("trios", "hidden sets of three or more: equal ones stay"),
    family!("raft", "bodies of several cells that are pushed as one, and push each other"),
    family!("roll", "planks that roll when they are pushed from the side, over ground that coats them"),
    family!("crew", "hands with a facing and a tool, whose turns sweep the cells beside them"),
    family!("lamps", "lamps that switch their neighbours"),
    family!("hop", "pegs that hop over each other"),
    family!("tour", "every cell once, by steps of one kind"),
    family!("pipes", "pipes turned until water reaches all of them"),
    family!("tubes", "colours poured from tube to tube until each holds one"),
    family!("path", "a path through all cells that meets the numbered ones in their order"),
];

macro_rules! pack {
    ($($name:literal),*) => {
        &[$((concat!("packs/harbour/", $name, ".toml"), include_str!(concat!("../../../packs/harbour/", $name, ".toml")))),*]
    };
}

/// The harbour pack: file names and texts.
pub const PACK: &[(&str, &str)] = pack!(
    "ferry",
    "yard",
    "rope",
    "market",
    "nets",
    "hold",
    "hawser",
    "reef",
    "flats",
    "lanterns",
    "roster",
    "flag",
    "nightwatch",
    "parade",
    "crates",
    "derrick",
    "trios",
    "planks",
    "hands",
    "lights",
    "pegs",
    "rounds",
    "pipes",
    "barrels",
    "buoys",
    "deck",
    "basin",
    "drafted"
);
