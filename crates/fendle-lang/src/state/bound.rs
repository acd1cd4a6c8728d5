//! A model with one level: what its values are, where they lie, and where play begins. Only data; the room `level` makes it.

use std::sync::Arc;

use crate::model::*;
use crate::state::{Canon, Codec, Stop};

/// Most entries of a list.
pub const LIST_MAX: i64 = 4096;
/// Most keys of an array that the level gives.
pub const TABLE_MAX: i64 = 1 << 20;

/// Greatest length of a row or column.
pub const SIDE_MAX: usize = 4096;

/// Where a variable lies and what it may hold.
#[derive(Clone, Debug, Default)]
pub struct Slot {
    /// False for a state variable whose `if` does not hold: no bits, always `lo`.
    pub active: bool,
    /// Least value.
    pub lo: i64,
    /// Greatest value.
    pub hi: i64,
    /// First value in the level's data or in the state.
    pub base: usize,
    /// Number of values.
    pub len: usize,
    /// Most entries of a list.
    pub cap: usize,
    /// Whether a value may be `none`.
    pub maybe: bool,
}

impl Slot {
    /// What stands in unused entries of a list.
    #[must_use]
    pub fn pad(&self) -> i64 {
        if self.maybe { NONE } else { self.lo }
    }

    /// What stands in a cell of a grid of which a drawing says nothing.
    #[must_use]
    pub fn plain(&self) -> i64 {
        if self.maybe { NONE } else { self.lo.max(0) }
    }

    /// Whether it may hold a value.
    #[must_use]
    pub fn holds(&self, value: i64) -> bool {
        if !self.active {
            return value == self.pad();
        }
        value >= self.lo && value <= self.hi || self.maybe && value == NONE
    }
}

crate::model::indexed!(RecordId => Vec<PartSlot>);

/// A part of a record: least value, number of values, and what one step of it counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PartSlot {
    /// Least value.
    pub lo: i64,
    /// Number of values.
    pub count: i64,
    /// What one step counts in the record's number.
    pub stride: i64,
}

/// A model with one level: ready to run.
#[derive(Clone, Debug)]
pub struct Bound {
    /// The model.
    pub model: Arc<Model>,
    /// The level's name.
    pub name: String,
    /// Rows of the board; 0 without a board.
    pub rows: usize,
    /// Columns of the board.
    pub cols: usize,
    /// One entry a variable.
    pub slots: Vec<Slot>,
    /// The level's values.
    pub data: Vec<i32>,
    /// The level's own start: all state variables, then the ended part.
    pub start: Vec<i32>,
    /// Where play begins: the start, or what `--at` gave.
    pub position: Vec<i32>,
    /// The parts of each record type.
    pub records: Vec<Vec<PartSlot>>,
    /// The ranges that arrays are keyed by.
    pub ranges: Vec<(i64, i64)>,
    /// For variables whose lists alone hold a conserved collection: its least and greatest number.
    pub spreads: Vec<Option<(i64, i64)>>,
    /// For each collection of the model its least and greatest number.
    pub collections: Vec<(i64, i64)>,
    /// The level gives no start of its own: `setup` draws it.
    pub drawn: bool,
    /// Packs states.
    pub codec: Codec,
    /// Hidden variables whose layout the level does not give.
    pub scattered: Vec<VarId>,
    /// For each `tell`, what the level says is seen, where it does.
    pub seen: Vec<Option<Vec<Option<i64>>>>,
    /// Positions are drawn as the player sees them.
    pub as_player: bool,
    /// Brings states into one form where things are alike.
    pub canon: Option<Canon>,
    /// Ends what takes long.
    pub stop: Stop,
}

/// `r1c3` for a cell of a board with that many columns.
#[must_use]
pub fn cell_name(cell: usize, cols: usize) -> String {
    format!("r{}c{}", cell / cols.max(1) + 1, cell % cols.max(1) + 1)
}

/// `won`, `lost: why`, `over: why`.
#[must_use]
pub fn ending_text(ending: &Ending) -> String {
    let word = match ending.kind {
        EndKind::Goal => "won",
        EndKind::Lost => "lost",
        EndKind::Over => "over",
    };
    match &ending.why {
        Some(why) => format!("{word}: {why}"),
        None => word.into(),
    }
}

impl Bound {
    /// How a game ends, by the number of the ending; past those of the model stands what was set aside.
    #[must_use]
    pub fn ending_words(&self, ending: usize) -> String {
        self.model.endings.get(ending).map_or("set aside".into(), ending_text)
    }

    /// Whether an ending is a goal.
    #[must_use]
    pub fn is_goal(&self, ending: usize) -> bool {
        self.model.endings.get(ending).is_some_and(|e| e.kind == EndKind::Goal)
    }

    /// Writes what each variable is now into what keeps its start.
    pub fn keep_starts(&self, state: &mut [i32]) {
        for (v, def) in self.model.variables() {
            if let Some(of) = def.shadow_of {
                let (to, from) = (&self.slots[v], &self.slots[of]);
                state.copy_within(from.base..from.base + from.len, to.base);
            }
        }
    }

    /// The state that stands for branches which were set aside.
    #[must_use]
    pub fn cut_state(&self) -> Vec<i32> {
        let mut state = self.start.clone();
        let at = self.ended_at();
        state[at] = self.model.endings.len() as i32 + 1;
        for (spread, &(lo, hi)) in self.model.spreads.iter().zip(&self.collections) {
            // Any arrangement will do: it says nothing.
            let mut rest = lo..=hi;
            for &v in &spread.vars {
                let slot = &self.slots[v];
                for list in state[slot.base..slot.base + slot.len].chunks_mut(slot.cap + 1) {
                    list.fill(slot.pad() as i32);
                    list[0] = 0;
                    for (i, x) in rest.by_ref().take(slot.cap).enumerate() {
                        list[0] = i as i32 + 1;
                        list[1 + i] = x as i32;
                    }
                }
            }
        }
        state
    }

    /// The names of the variables of a collection, for messages.
    #[must_use]
    pub fn spread_names(&self, spread: usize) -> String {
        let name = |v: &VarId| format!("`{}`", self.model.vars[*v].name);
        self.model.spreads[spread].vars.iter().map(name).collect::<Vec<_>>().join(", ")
    }

    /// Things of a collection that lists hold twice, or not at all, as they are written: at most four.
    #[must_use]
    pub fn spread_wrong(&self, spread: usize, state: &[i32]) -> Vec<String> {
        let (lo, hi) = self.collections[spread];
        let mut counts = vec![0usize; (hi - lo + 1).max(0) as usize];
        let vars = &self.model.spreads[spread].vars;
        for &v in vars {
            let slot = &self.slots[v];
            for list in state[slot.base..slot.base + slot.len].chunks(slot.cap + 1) {
                for &x in &list[1..=list[0] as usize] {
                    if let Some(n) = usize::try_from(i64::from(x) - lo).ok().and_then(|i| counts.get_mut(i)) {
                        *n += 1;
                    }
                }
            }
        }
        let wrong = counts.iter().zip(lo..).filter(|(n, _)| **n != 1).take(4);
        wrong.map(|(n, x)| format!("{} {n} times", self.value_text(vars[0], x))).collect()
    }

    /// What is said of lists that do not hold each thing of their collection once.
    #[must_use]
    pub fn not_spread(
        &self,
        spread: usize,
        state: &[i32],
        file: crate::source::FileId,
        span: crate::source::Span,
    ) -> crate::source::Diagnostic {
        let (lo, hi) = self.collections[spread];
        let text = |x| self.value_text(self.model.spreads[spread].vars[0], x);
        let message = format!(
            "the lists of {} must hold each of {} to {} once",
            self.spread_names(spread),
            text(lo),
            text(hi)
        );
        let wrong = self.spread_wrong(spread, state).join(", ");
        let out = crate::source::Diagnostic::error("L034", file, span, message);
        if wrong.is_empty() { out } else { out.note(format!("they hold {wrong}")) }
    }

    /// Whether the lists of a collection together hold each of its things once.
    #[must_use]
    pub fn is_spread(&self, spread: usize, state: &[i32]) -> bool {
        let (lo, hi) = self.collections[spread];
        let mut all: Vec<i64> = vec![];
        for &v in &self.model.spreads[spread].vars {
            let slot = &self.slots[v];
            for list in state[slot.base..slot.base + slot.len].chunks(slot.cap + 1) {
                all.extend(list[1..=list[0] as usize].iter().map(|&x| i64::from(x)));
            }
        }
        all.sort_unstable();
        all.into_iter().eq(lo..=hi)
    }

    /// How many keys an array has.
    #[must_use]
    pub fn keys_len(&self, key: Keyed) -> usize {
        match key {
            Keyed::Enum(e) => self.model.enums[e].values.len(),
            Keyed::Row => self.rows,
            Keyed::Column => self.cols,
            Keyed::Range(r) => {
                let (lo, hi) = self.ranges.get(r).copied().unwrap_or((0, -1));
                (hi - lo + 1).max(0) as usize
            }
            Keyed::Cell => self.cells(),
            Keyed::Pair(p) => {
                let (a, b) = self.model.pairs[p];
                self.keys_len(a) * self.keys_len(b)
            }
        }
    }

    /// The keys of an array as they are written.
    #[must_use]
    pub fn key_names(&self, key: Keyed) -> Vec<String> {
        match key {
            Keyed::Enum(e) => self.model.enums[e].values.clone(),
            Keyed::Row => (1..=self.rows).map(|n| n.to_string()).collect(),
            Keyed::Column => (1..=self.cols).map(|n| n.to_string()).collect(),
            Keyed::Range(r) => {
                let (lo, hi) = self.ranges.get(r).copied().unwrap_or((0, -1));
                (lo..=hi).map(|n| n.to_string()).collect()
            }
            Keyed::Cell => (0..self.cells()).map(|c| super::cell_name(c, self.cols)).collect(),
            Keyed::Pair(p) => {
                let (a, b) = self.model.pairs[p];
                let seconds = self.key_names(b);
                let first = |a: &String| seconds.iter().map(|b| format!("{a}.{b}")).collect::<Vec<_>>();
                self.key_names(a).iter().flat_map(first).collect()
            }
        }
    }

    /// The first key of an array as a number; 1 for the entries of a list.
    #[must_use]
    pub fn first_key(&self, var: VarId) -> i64 {
        match self.model.vars[var].shape {
            Extent::Array(Keyed::Enum(_)) => 0,
            Extent::Array(Keyed::Range(r)) => self.ranges.get(r).map_or(1, |r| r.0),
            _ => 1,
        }
    }

    /// Least and greatest value of a domain that no expression decides.
    #[must_use]
    pub fn plain_range(&self, dom: &Dom) -> (i64, i64) {
        match dom {
            Dom::Bool => (0, 1),
            Dom::Enum(e) => (0, self.model.enums[*e].values.len() as i64 - 1),
            Dom::Dir4 => (0, 3),
            Dom::Dir8 => (0, 7),
            Dom::Cell => (0, self.cells() as i64 - 1),
            Dom::Record(r) => {
                (0, self.records.get(r.0).map_or(1, |p| p.iter().map(|p| p.count).product()) - 1)
            }
            Dom::Placed(s) => {
                let def = &self.model.shapes[*s];
                let (h, w) = self.shape_sides(*s);
                (0, def.all.len() as i64 * h * w - 1)
            }
            Dom::Maybe(d) => self.plain_range(d),
            Dom::Range(..) | Dom::First(..) => (0, -1),
        }
    }

    /// Rows and columns in which an anchor of these shapes may lie.
    #[must_use]
    pub fn shape_sides(&self, shapes: usize) -> (i64, i64) {
        let m = self.model.shapes[shapes].margin;
        (self.rows as i64 + 2 * m, self.cols as i64 + 2 * m)
    }

    /// A placed shape as one number; `None` when its anchor is too far from the board.
    #[must_use]
    pub fn shape_code(&self, shapes: usize, all: i64, row: i64, col: i64) -> Option<i64> {
        let m = self.model.shapes[shapes].margin;
        let (h, w) = self.shape_sides(shapes);
        let (r, c) = (row + m, col + m);
        (r >= 0 && c >= 0 && r < h && c < w).then(|| (all * h + r) * w + c)
    }

    /// The inverse of [`Bound::shape_code`]: number among all turns, row and column of the anchor.
    #[must_use]
    pub fn shape_parts(&self, shapes: usize, code: i64) -> (i64, i64, i64) {
        let m = self.model.shapes[shapes].margin;
        let (h, w) = self.shape_sides(shapes);
        (code / w / h, code / w % h - m, code % w - m)
    }

    /// The places that a placed shape covers, as (row, column) from 0.
    #[must_use]
    pub fn covered(&self, shapes: usize, code: i64) -> Vec<(i64, i64)> {
        let def = &self.model.shapes[shapes];
        let (all, row, col) = self.shape_parts(shapes, code);
        let Some(&(shape, turn)) = def.all.get(all as usize) else { return vec![] };
        def.shapes[shape].turns[turn].iter().map(|&(r, c)| (row + r, col + c)).collect()
    }

    /// Cells of the board.
    #[must_use]
    pub fn cells(&self) -> usize {
        self.rows * self.cols
    }

    /// Where the values of a hidden variable lie in a state: all of its slot, or the entries of a list.
    #[must_use]
    pub fn hidden_places(&self, var: VarId, state: &[i32]) -> std::ops::Range<usize> {
        let slot = &self.slots[var];
        match self.model.vars[var].shuffled {
            Some(_) => slot.base + 1..slot.base + 1 + state[slot.base] as usize,
            None => slot.base..slot.base + slot.len,
        }
    }

    /// Where the ended part lies in a state.
    #[must_use]
    pub fn ended_at(&self) -> usize {
        self.start.len() - 1
    }

    /// A value as it is written.
    #[must_use]
    pub fn value_text(&self, var: VarId, value: i64) -> String {
        let glyphs = self.model.values_show(var).map_or(&[][..], |s| s.0);
        if let Some((_, g)) = glyphs.iter().find(|(x, _)| *x == value) {
            return g.clone();
        }
        let def = &self.model.vars[var];
        let board = def.shape != Extent::One;
        self.scalar_text(def.dom.scalar(), value, board)
    }

    /// A single value of a type as it is written.
    #[must_use]
    pub fn scalar_text(&self, scalar: Scalar, value: i64, on_board: bool) -> String {
        match scalar {
            Scalar::Bool if on_board => (if value != 0 { "x" } else { "." }).into(),
            Scalar::Bool => (if value != 0 { "true" } else { "false" }).into(),
            Scalar::Int => value.to_string(),
            Scalar::Enum(e) => self.model.enums[e].values[value as usize].clone(),
            Scalar::Dir => DIRS[value as usize].into(),
            Scalar::Cell => cell_name(value as usize, self.cols),
            Scalar::Maybe(_) if value == NONE => "none".into(),
            Scalar::Maybe(base) => self.scalar_text(base.scalar(), value, false),
            Scalar::Record(r) => {
                let parts = &self.model.records[r].parts;
                let words: Vec<String> = parts
                    .iter()
                    .zip(&self.records[r])
                    .map(|((_, dom), p)| {
                        self.scalar_text(dom.scalar(), p.lo + value / p.stride % p.count, false)
                    })
                    .collect();
                words.join(".")
            }
            Scalar::Placed(s) => {
                let def = &self.model.shapes[s];
                let (all, row, col) = self.shape_parts(s, value);
                let (shape, turn) = def.all[all as usize];
                format!("{}.{turn}@r{}c{}", def.shapes[shape].name, row + 1, col + 1)
            }
        }
    }

    pub(crate) fn values_of<'s>(&'s self, var: VarId, state: &'s [i32]) -> &'s [i32] {
        let slot = &self.slots[var];
        let region = if self.model.vars[var].state { state } else { &self.data };
        &region[slot.base..slot.base + slot.len]
    }

    /// The same level begun at another position.
    #[must_use]
    pub fn at(&self, position: Vec<i32>) -> Bound {
        Bound { position, ..self.clone() }
    }
}
