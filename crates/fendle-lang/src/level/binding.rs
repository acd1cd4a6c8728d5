//! What a level gives, put in its place: one variable after the other, each in the same steps.
//!
//! ```text
//! size      how large the board is, where the variable says so or needs one
//! drawings  what the drawings of the start say of several variables, read when the board is known
//! slot      its range, how many values, most entries of a list
//! values    what the level gives for it, or a default, or what stands for what is not known
//! order     whether it holds the values that it rearranges
//! ```
//!
//! A mistake in what is given for one variable leaves that variable empty and goes on, so that one run shows every mistake; a mistake in a size or a
//! range ends it, since all that follows depends on it.

use std::sync::Arc;

use super::bind::{constant, raw_values};
use crate::model::*;
use crate::position::read::{Binder, Text, unknown_key};
use crate::source::{Diagnostic, FileId, Span};
use crate::state::{Bound, LIST_MAX, Slot};
use crate::syntax::level::{CELLS_MAX, Key, Level, Raw, RawKind};

/// A bound model in the making.
pub(super) struct Binding<'a> {
    pub(super) binder: Binder<'a>,
    pub(super) b: Bound,
    model: Arc<Model>,
    file: FileId,
    level: &'a Level,
    /// Values that win over the level's.
    sets: &'a [(Key, Raw, FileId)],
    /// What seems to be missing may be what was given under another name.
    pub(super) misnamed: bool,
    /// Variables of the state of which nothing is given, where a setup draws the start.
    undrawn: Vec<VarId>,
    /// Variables with a mistake in what is given for them: they stand empty.
    wrong: Vec<VarId>,
    /// What drawings say, by variable.
    drawn: Vec<(VarId, Vec<Option<i64>>)>,
    drawings_read: bool,
}

/// What a level gives for a variable, and the file that it stands in.
type Given<'a> = Option<(&'a Raw, FileId)>;

impl<'a> Binding<'a> {
    pub(super) fn new(
        binder: Binder<'a>,
        b: Bound,
        (file, level): (FileId, &'a Level),
        sets: &'a [(Key, Raw, FileId)],
    ) -> Binding<'a> {
        let model = Arc::clone(&b.model);
        Binding {
            binder,
            b,
            model,
            file,
            level,
            sets,
            misnamed: false,
            undrawn: vec![],
            wrong: vec![],
            drawn: vec![],
            drawings_read: false,
        }
    }

    /// Looks for names that the model does not know.
    pub(super) fn names(&mut self) {
        let model = Arc::clone(&self.model);
        for (key, _, at) in self.sets {
            if !model.vars.iter().any(|v| !v.state && v.name == key.text) {
                unknown_key(&mut self.binder, *at, key, false);
            }
        }
        for (list, state) in [(&self.level.values, false), (&self.level.start, true)] {
            for (key, _) in list {
                let is_drawing = |s: &Show| matches!(s, Show::Drawing { name, .. } if *name == key.text);
                let drawing = state && model.shows.iter().any(is_drawing);
                if !drawing && !model.vars.iter().any(|v| v.state == state && v.name == key.text) {
                    unknown_key(&mut self.binder, self.file, key, state);
                }
            }
        }
    }

    /// Puts one variable in its place. `None`: what follows cannot be read.
    pub(super) fn variable(&mut self, var: VarId) -> Option<()> {
        let model = Arc::clone(&self.model);
        let def = &model.vars[var];
        self.size(def)?;
        self.binder.side_types(&mut self.b, def)?;
        self.b.slots[var] = self.slot(def)?;
        let given = self.given(def);
        let values = self.values(var, def, given)?;
        if let Some(target) = def.rearranged.or(def.shuffled)
            && self.b.slots[var].active
            && !self.wrong.contains(&target)
            && !self.wrong.contains(&var)
        {
            self.order((var, def), target, &values, given);
        }
        let region = if def.state { &mut self.b.start } else { &mut self.b.data };
        self.b.slots[var].base = region.len();
        region.extend(values.iter().map(|&v| v as i32));
        Some(())
    }

    /// How large the board is, where the variable says so or needs one.
    fn size(&mut self, def: &VarDef) -> Option<()> {
        if let Some((r, c)) = &def.sized {
            let (r, c) = (constant(&mut self.binder, &self.b, r)?, constant(&mut self.binder, &self.b, c)?);
            if r < 1 || c < 1 || r as usize * c as usize > CELLS_MAX {
                let message =
                    format!("`{}` would be {r} x {c} cells; 1 to {CELLS_MAX} are allowed", def.name);
                self.binder.error("L022", self.file, self.level.span, message);
                return None;
            }
            let (rows, cols) = (self.b.rows, self.b.cols);
            if rows == 0 {
                (self.b.rows, self.b.cols) = (r as usize, c as usize);
            } else if (rows, cols) != (r as usize, c as usize) {
                let message = format!("`{}` is {r} x {c}, the level's board is {rows} x {cols}", def.name);
                self.binder.error("L023", self.file, self.level.span, message);
                return None;
            }
        }
        let keyed_by_side = matches!(
            def.shape,
            Extent::Array(Keyed::Row | Keyed::Column) | Extent::Lists(Keyed::Row | Keyed::Column, _)
        ) || matches!(def.shape, Extent::Array(Keyed::Pair(p)) if self.model.pairs[p].1 == Keyed::Cell);
        if matches!(def.shape, Extent::Grid | Extent::Set) || is_placed(&def.dom) || keyed_by_side {
            if self.b.rows == 0 {
                let message = format!("nothing says how large the board of `{}` is", def.name);
                let error = self.binder.error("L029", self.file, self.level.span, message);
                error.notes.push("give a text board, or `size = [rows, columns]`".into());
                return None;
            }
            self.drawings();
        }
        Some(())
    }

    /// Reads the drawings of the start, once.
    fn drawings(&mut self) {
        if std::mem::replace(&mut self.drawings_read, true) {
            return;
        }
        let model = Arc::clone(&self.model);
        for (key, raw) in &self.level.start {
            let named = |s: &&Show| matches!(s, Show::Drawing { name, .. } if *name == key.text);
            let Some(show) = model.shows.iter().find(named) else { continue };
            let Show::Drawing { vars, .. } = show else { continue };
            let RawKind::Text(text, at) = &raw.kind else {
                self.binder.error("L030", self.file, raw.span, "a drawing is a text board in '''");
                self.wrong.extend(vars);
                continue;
            };
            // Slots of later variables are not known yet; glyph values are plain numbers.
            let text = Text { text, at: *at, span: raw.span, file: self.file };
            match self.binder.drawing(&self.b, show, text, false) {
                Some(list) => self.drawn.extend(list),
                None => self.wrong.extend(vars),
            }
        }
    }

    /// The range of a variable, how many values it has, and the most entries of a list. Where it begins is not known yet.
    fn slot(&mut self, def: &VarDef) -> Option<Slot> {
        let cap = match &def.max {
            None => 0,
            Some(max) => {
                let n = constant(&mut self.binder, &self.b, max)?;
                if !(0..=LIST_MAX).contains(&n) {
                    let message = format!("a list of {n} entries; 0 to {LIST_MAX} are allowed");
                    self.binder.error("L031", self.model.file, max.span, message);
                    return None;
                }
                n as usize
            }
        };
        let len = match def.shape {
            Extent::One => 1,
            Extent::Grid | Extent::Set => self.b.rows * self.b.cols,
            Extent::Array(key) => self.b.keys_len(key),
            Extent::List(_) => 1 + cap,
            Extent::Lists(key, _) => self.b.keys_len(key) * (1 + cap),
        };
        let active = match &def.when {
            None => true,
            Some(when) => constant(&mut self.binder, &self.b, when)? != 0,
        };
        let (mut lo, mut hi) = self.binder.dom_range(&self.b, &def.dom)?;
        if !active {
            // It holds one value only.
            hi = hi.max(lo);
        }
        if lo > hi || lo < -(1 << 30) || hi > 1 << 30 {
            let message = format!("`{}` would hold {lo} to {hi}: empty, or too wide", def.name);
            self.binder.error("L031", self.file, self.level.span, message);
            return None;
        }
        if let Some(target) = def.rearranged {
            let t = &self.b.slots[target];
            let values = &self.b.data[t.base..t.base + t.len];
            lo = values.iter().copied().min().unwrap_or(0).into();
            hi = values.iter().copied().max().unwrap_or(0).into();
        }
        Some(Slot { active, lo, hi, base: 0, len, cap, maybe: matches!(def.dom, Dom::Maybe(_)) })
    }

    /// What the level, or who asks, gives for a variable.
    fn given(&self, def: &VarDef) -> Given<'a> {
        let level = self.level;
        let in_level = |list: &'a [(Key, Raw)]| list.iter().rev().find(|(k, _)| k.text == def.name);
        if def.state {
            return in_level(&level.start).map(|(_, r)| (r, self.file));
        }
        let set = self.sets.iter().rev().find(|(k, ..)| k.text == def.name).map(|(_, r, f)| (r, *f));
        set.or_else(|| in_level(&level.values).map(|(_, r)| (r, self.file)))
    }

    /// What stands in a variable of which nothing is known.
    fn empty(&self, var: VarId, def: &VarDef) -> Vec<i64> {
        let slot = &self.b.slots[var];
        let mut out = vec![slot.pad(); slot.len];
        if matches!(def.shape, Extent::List(_) | Extent::Lists(..)) {
            out.iter_mut().step_by(slot.cap + 1).for_each(|n| *n = 0);
        }
        out
    }

    /// The same for a variable with a mistake in what is given for it.
    fn mistaken(&mut self, var: VarId, def: &VarDef) -> Vec<i64> {
        self.wrong.push(var);
        self.empty(var, def)
    }

    /// Whether the keys, the entries, or the values of a variable depend on one with a mistake: nothing can be said of what is given for it.
    fn is_unknown(&self, def: &VarDef) -> bool {
        let mut bounds: Vec<&Expr> = def.max.iter().chain(&def.when).collect();
        let mut keys = match def.shape {
            Extent::Array(key) | Extent::Lists(key, _) => vec![key],
            _ => vec![],
        };
        while let Some(key) = keys.pop() {
            match key {
                Keyed::Range(range) => {
                    let (first, last) = &self.model.ranges[range];
                    bounds.extend([first, last]);
                }
                Keyed::Pair(pair) => {
                    let (first, second) = self.model.pairs[pair];
                    keys.extend([first, second]);
                }
                Keyed::Enum(_) | Keyed::Row | Keyed::Column | Keyed::Cell => {}
            }
        }
        let mut dom = &def.dom;
        while let Dom::Maybe(of) = dom {
            dom = of;
        }
        match dom {
            Dom::Range(first, last) => bounds.extend([&**first, last]),
            Dom::First(_, count) => bounds.push(count),
            _ => {}
        }
        bounds.into_iter().any(|bound| self.reads_mistake(bound))
    }

    /// Whether an expression reads a variable with a mistake.
    fn reads_mistake(&self, e: &Expr) -> bool {
        self.model.reads(e).iter().any(|var| self.wrong.contains(var))
    }

    /// The values of a variable as the level begins. `None`: what the level says is seen cannot be read.
    fn values(&mut self, var: VarId, def: &VarDef, given: Given<'_>) -> Option<Vec<i64>> {
        let from_drawing = self.drawn.iter().find(|(v, _)| *v == var).map(|d| d.1.clone());
        let twice = given.is_some() && from_drawing.is_some();
        if let (Some((raw, at)), true) = (given, twice) {
            self.binder.error("L032", at, raw.span, format!("`{}` is in the drawing already", def.name));
            self.wrong.push(var);
        }
        if let Some(of) = def.shadow_of {
            // Declared behind what it keeps.
            let from = &self.b.slots[of];
            return Some(self.b.start[from.base..from.base + from.len].iter().map(|&v| v.into()).collect());
        }
        if def.rearranged.is_some_and(|target| self.wrong.contains(&target)) || self.is_unknown(def) {
            // What it may hold is not known.
            return Some(self.mistaken(var, def));
        }
        let active = self.b.slots[var].active;
        if !active || twice || given.is_none() && self.wrong.contains(&var) {
            return Some(self.empty(var, def));
        }
        if let Some((raw, at)) = given {
            let read = raw_values(&mut self.binder, &self.b, var, raw, at);
            return Some(read.unwrap_or_else(|| self.mistaken(var, def)));
        }
        if let Some(values) = from_drawing {
            let values: Vec<i64> = values.iter().map(|v| v.expect("read without `?`")).collect();
            let slot = &self.b.slots[var];
            let (lo, hi) = (slot.lo, slot.hi);
            return Some(match values.iter().find(|v| !slot.holds(**v)) {
                Some(v) => {
                    let message = format!("`{}` holds {lo} to {hi}, a glyph says {v}", def.name);
                    self.binder.error("L025", self.file, self.level.span, message);
                    self.mistaken(var, def)
                }
                None => values,
            });
        }
        if let Some(opened) = self.binder.opened(&self.b, var, self.file, self.level)? {
            return Some(opened);
        }
        if def.defaults.iter().chain(&def.default).any(|e| self.reads_mistake(e)) {
            return Some(self.mistaken(var, def));
        }
        if !def.defaults.is_empty() {
            let values: Option<Vec<i64>> = def.defaults.iter().map(|e| self.default(var, e)).collect();
            return Some(values.unwrap_or_else(|| self.mistaken(var, def)));
        }
        if let Some(default) = &def.default {
            let value = self.default(var, default);
            return Some(match value {
                Some(value) => vec![value; self.b.slots[var].len],
                None => self.mistaken(var, def),
            });
        }
        Some(self.not_given(var, def))
    }

    /// A value that the model gives where the level gives none. `None`: it is no value, which is told.
    fn default(&mut self, var: VarId, e: &Expr) -> Option<i64> {
        let value = constant(&mut self.binder, &self.b, e)?;
        let slot = &self.b.slots[var];
        if slot.holds(value) {
            return Some(value);
        }
        let message = format!("{value} is not in {} to {}", slot.lo, slot.hi);
        self.binder.error("L025", self.model.file, e.span, message);
        None
    }

    /// What stands in a variable that nobody gives a value: the order that it rearranges, nothing where it is drawn; else it is missing.
    fn not_given(&mut self, var: VarId, def: &VarDef) -> Vec<i64> {
        if let Some(target) = def.rearranged.or(def.shuffled) {
            if def.hidden || def.shuffled.is_some() {
                self.b.scattered.push(var);
            }
            let t = &self.b.slots[target];
            return self.b.data[t.base..t.base + t.len].iter().map(|&v| v.into()).collect();
        }
        if matches!(def.shape, Extent::List(_) | Extent::Lists(..)) {
            // A list that is not given is empty.
            return self.empty(var, def);
        }
        if def.hidden {
            // Drawn from what is known of it.
            self.b.scattered.push(var);
            return self.empty(var, def);
        }
        if def.state && self.model.setup.is_some() {
            // What the setup does not draw has its least value: nothing of it can be forgotten,
            // since a level that gives a part of the start gives all of it.
            self.undrawn.push(var);
            return self.empty(var, def);
        }
        if !self.misnamed {
            let what = if def.state { "start" } else { "values" };
            self.missing(def, format!("add `{what}.{} = ...`", def.name));
        }
        self.mistaken(var, def)
    }

    /// The mistake that a level gives nothing for a variable without a default.
    fn missing(&mut self, def: &VarDef, hint: String) {
        let message = format!("this level gives no `{}`", def.name);
        let error = Diagnostic::error("L033", self.file, self.level.span, message);
        let error = error.also(self.model.file, def.span, "declared here, without a default");
        self.binder.errors.push(error.note(hint));
    }

    /// Tells where a variable does not hold the values of another one, which it rearranges.
    fn order(&mut self, (var, def): (VarId, &VarDef), target: VarId, values: &[i64], given: Given<'_>) {
        let t = &self.b.slots[target];
        let mut want: Vec<i64> = self.b.data[t.base..t.base + t.len].iter().map(|&v| v.into()).collect();
        let mut have = values.to_vec();
        if def.shuffled.is_some() {
            for list in [&mut want, &mut have] {
                list.truncate(1 + list[0] as usize);
                list.remove(0);
            }
        }
        want.sort_unstable();
        have.sort_unstable();
        if want == have {
            return;
        }
        let count = |list: &[i64], v: i64| list.iter().filter(|x| **x == v).count();
        let name = &self.model.vars[target].name;
        let extra = have.iter().find(|v| count(&have, **v) > count(&want, **v)).copied();
        let message = match extra {
            Some(v) => format!(
                "`{}` must hold the values of `{name}` in another order; {v} is there {} times instead of {}",
                def.name,
                count(&have, v),
                count(&want, v)
            ),
            None => format!("`{}` must hold the values of `{name}` in another order", def.name),
        };
        let (span, at) = given.map_or((self.level.span, self.file), |(raw, at)| {
            (spot_of(&self.binder, &self.b, var, raw, at, extra).unwrap_or(raw.span), at)
        });
        self.binder.error("L034", at, span, message);
        self.wrong.push(var);
    }

    /// Whether the start is drawn, what the player was told, and which layouts agree with that.
    pub(super) fn starts(&mut self) -> Option<()> {
        let (model, level) = (Arc::clone(&self.model), self.level);
        let takes_cell = model.moves.iter().any(|m| m.params.iter().any(|d| matches!(d, Dom::Cell)));
        if takes_cell && self.b.rows == 0 {
            let message = "nothing says how large the board is, and a move takes a cell";
            let error = self.binder.error("L029", self.file, level.span, message);
            error.notes.push("give a text board, or `size = [rows, columns]`".into());
            return None;
        }
        let says = |key: &Key| {
            let drawing = model.shows.iter().find_map(|s| match s {
                Show::Drawing { name, vars, .. } if *name == key.text => Some(vars),
                _ => None,
            });
            match drawing {
                Some(vars) => vars.iter().any(|v| !model.vars[*v].hidden),
                None => !model.vars.iter().any(|v| v.hidden && v.name == key.text),
            }
        };
        self.b.drawn =
            model.setup.is_some() && level.told.is_empty() && !level.start.iter().any(|(k, _)| says(k));
        self.binder.told(&mut self.b, self.file, level)?;
        self.binder.layouts(&self.b, self.file, level)?;
        if let (false, Some(&v)) = (self.b.drawn, self.undrawn.first()) {
            let def = &model.vars[v];
            let name = &def.name;
            let hint =
                format!("add `start.{name} = ...`, or leave out the whole start: then the setup draws it");
            self.missing(def, hint);
            return None;
        }
        Some(())
    }

    /// Collections whose members lie somewhere, each once.
    pub(super) fn spreads(&mut self) -> Option<()> {
        let model = Arc::clone(&self.model);
        for (i, spread) in model.spreads.iter().enumerate() {
            let (lo, hi) = match &spread.range {
                Some((lo, hi)) => {
                    (constant(&mut self.binder, &self.b, lo)?, constant(&mut self.binder, &self.b, hi)?)
                }
                None => (self.b.slots[spread.vars[0]].lo, self.b.slots[spread.vars[0]].hi),
            };
            self.b.collections.push((lo, hi));
            if let [var] = spread.vars.as_slice()
                && matches!(model.vars[*var].shape, Extent::Lists(..))
            {
                self.b.spreads[*var] = Some((lo, hi));
            }
            if !self.b.drawn && !self.b.is_spread(i, &self.b.start) {
                let mut error = self.b.not_spread(i, &self.b.start, self.file, self.level.span);
                let text = "declared here".into();
                error.labels.push(crate::source::Label { file: model.file, span: spread.span, text });
                self.binder.errors.push(error);
                return None;
            }
        }
        Some(())
    }

    /// Says which bits each value takes; the ended part comes last.
    pub(super) fn codec(&mut self) {
        let model = Arc::clone(&self.model);
        let ended = self.b.start.len();
        self.b.start.push(0);
        for (v, def) in model.variables().filter(|(_, d)| d.state) {
            self.pack(v, def);
        }
        self.b.codec.plain(ended, 1, 0, model.ended_codes());
    }

    /// Says which bits a variable of the state takes.
    fn pack(&mut self, v: VarId, def: &VarDef) {
        let b = &mut self.b;
        let slot = &b.slots[v];
        // What a given start was costs no bits.
        if !slot.active || def.shadow_of.is_some() && !b.drawn {
            for i in 0..slot.len {
                let value = i64::from(b.start[slot.base + i]);
                b.codec.plain(slot.base + i, 1, value, value);
            }
            return;
        }
        let lists = |slot: &Slot| (slot.base, slot.len / (slot.cap + 1), slot.cap);
        if let Some((lo, hi)) = b.spreads[v] {
            let (base, n, cap) = lists(slot);
            if b.codec.spread(base, n, cap, (lo, hi), slot.pad(), v.0) {
                return;
            }
        }
        if let Some(i) = self.model.spreads.iter().position(|s| s.vars.contains(&v)) {
            // The first one of them packs all.
            let vars = &self.model.spreads[i].vars;
            let parts: Vec<_> = vars.iter().map(|v| lists(&b.slots[*v])).collect();
            if vars[0] != v || b.codec.heaps(&parts, b.collections[i], slot.pad(), v.0) {
                return;
            }
        }
        if let Extent::List(_) | Extent::Lists(..) = def.shape {
            b.codec.has_gaps();
            for list in 0..slot.len / (slot.cap + 1) {
                let base = slot.base + list * (slot.cap + 1);
                b.codec.plain(base, 1, 0, slot.cap as i64);
                if slot.maybe {
                    b.codec.maybe(base + 1, slot.cap, slot.lo, slot.hi);
                } else {
                    b.codec.plain(base + 1, slot.cap, slot.lo, slot.hi);
                }
            }
            return;
        }
        if slot.maybe {
            b.codec.maybe(slot.base, slot.len, slot.lo, slot.hi);
            return;
        }
        let packed = def.rearranged.is_some()
            && b.codec.rearranged(slot.base, &b.start[slot.base..slot.base + slot.len], v.0);
        if !packed {
            b.codec.plain(slot.base, slot.len, slot.lo, slot.hi);
        }
    }
}

/// Where in a text board a value stands for the last time.
fn spot_of(
    binder: &Binder<'_>,
    b: &Bound,
    var: VarId,
    raw: &Raw,
    file: FileId,
    v: Option<i64>,
) -> Option<Span> {
    let RawKind::Text(text, at) = &raw.kind else { return None };
    let mut quiet = vec![];
    let mut inner = Binder { model: binder.model, errors: &mut quiet };
    let text = Text { text, at: *at, span: raw.span, file };
    let joined = inner.is_joined(var);
    let rows = inner.board(text, joined, None)?;
    let mut last = None;
    for (part, span) in rows.into_iter().flatten() {
        if inner.value(b, var, part, file, span) == v {
            last = Some(span);
        }
    }
    last
}
