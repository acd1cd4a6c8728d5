//! Kept quantities that nobody declared: linear in what stands where, modulo small primes or exact, and the sign of a
//! rearrangement.
//!
//! Each effect of the moves changes a vector of *terms*: how many cells hold a value, the sum of their rows and of their
//! columns, single numbers, single values, whether an arrangement is odd. A weighting of the terms is kept exactly
//! when it is orthogonal to all these changes; so linear algebra finds every one there is. Where the terms are too coarse,
//! each value of each cell is a term of its own.
//!
//! A quantity separates a position from a goal when it is known wherever the goal holds, and is another one here. Of
//! those the simplest is looked for: no term of it can be left out.

use std::collections::BTreeMap;

use fendle_core::linear::{GREAT, Span, dot, small_ratio};

use crate::model::*;
use crate::reasons::effects::{Change, Effects, has_sign, is_odd, values_of, var_of_places};
use crate::state::Bound;

/// Most terms that are weighed together.
const TERMS_MAX: usize = 400;
/// Steps of elimination above which single cells are not weighed.
const WORK_MAX: usize = 300_000_000;
/// Most values of a variable that are told apart.
const VALUES_MAX: usize = 64;
/// The moduli tried, in this order; the exact ones are first.
const MODULI: [u64; 5] = [GREAT, 2, 3, 5, 7];

/// Something of a state that is a number, or its share in one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Term {
    /// How many cells of a grid or set hold a value.
    Count(VarId, i32),
    /// The sum of the rows of those cells, from 1.
    Rows(VarId, i32),
    /// The sum of their columns.
    Cols(VarId, i32),
    /// A number, by its variable and its key.
    Value(VarId, usize),
    /// The row of a cell variable.
    Row(VarId, usize),
    /// Its column.
    Col(VarId, usize),
    /// 1 where a single variable holds a value.
    Is(VarId, usize, i32),
    /// 1 where a cell of a grid or set holds a value.
    Holds(VarId, usize, i32),
    /// 1 for an odd arrangement of a grid.
    Sign(VarId),
}

/// A weighted sum of terms that no move changes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Quantity {
    /// The terms with their weights, none of them 0.
    pub terms: Vec<(Term, i64)>,
    /// The modulus; `None` where it is exact.
    pub modulus: Option<i64>,
}

/// A found quantity that separates a position from a way to win.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Apart {
    /// The quantity.
    pub quantity: Quantity,
    /// Its value here.
    pub here: i64,
    /// Its value wherever the goal holds in that way.
    pub wanted: i64,
}

/// What a way to win pins down: places of the state and their values.
pub type Pins = BTreeMap<usize, i32>;

/// The terms of a bound model, and how its effects change them.
pub struct Invariants<'b> {
    b: &'b Bound,
    vars: Vec<Option<VarId>>,
    terms: Vec<Term>,
    /// Distinct changes of the terms.
    rows: Vec<Vec<i64>>,
    /// How many effects change each term.
    touched: Vec<u64>,
    effects: &'b Effects,
}

fn is_cells(shape: Extent) -> bool {
    matches!(shape, Extent::Grid | Extent::Set)
}

impl<'b> Invariants<'b> {
    /// Sorts out the terms of a model and what its effects do to them.
    #[must_use]
    pub fn new(b: &'b Bound, effects: &'b Effects) -> Invariants<'b> {
        let mut touched_places = vec![false; b.start.len()];
        for c in effects.list.iter().flatten() {
            touched_places[c.0] = true;
        }
        let mut terms = vec![];
        for (v, def) in b.model.variables().filter(|(_, d)| d.state) {
            let slot = &b.slots[v];
            // What no move touches says nothing.
            if !touched_places[slot.base..slot.base + slot.len].contains(&true) {
                continue;
            }
            let values = values_of(b, v);
            match def.shape {
                shape if is_cells(shape) => {
                    let both = matches!(def.dom.scalar(), Scalar::Bool) || shape == Extent::Set;
                    let values = if both { vec![1] } else { values };
                    if values.len() <= VALUES_MAX {
                        for x in values {
                            terms.extend([Term::Count(v, x), Term::Rows(v, x), Term::Cols(v, x)]);
                        }
                    }
                    if has_sign(b, v) {
                        terms.push(Term::Sign(v));
                    }
                }
                Extent::One | Extent::Array(_) => {
                    for k in 0..slot.len {
                        match def.dom.scalar() {
                            Scalar::Int => terms.push(Term::Value(v, k)),
                            Scalar::Cell => terms.extend([Term::Row(v, k), Term::Col(v, k)]),
                            // One of them follows from the others.
                            _ if values.len() <= VALUES_MAX => {
                                terms.extend(values.iter().skip(1).map(|x| Term::Is(v, k, *x)));
                            }
                            _ => {}
                        }
                    }
                }
                _ => {}
            }
        }
        terms.truncate(TERMS_MAX);
        let mut out =
            Invariants { b, vars: var_of_places(b), terms: vec![], rows: vec![], touched: vec![], effects };
        out.take(terms);
        out
    }

    fn take(&mut self, terms: Vec<Term>) {
        self.terms = terms;
        self.touched = vec![0; self.terms.len()];
        let mut rows = std::collections::BTreeSet::new();
        for changes in &self.effects.list {
            let row: Vec<i64> = self.terms.iter().map(|t| self.change_of(*t, changes)).collect();
            for (n, x) in self.touched.iter_mut().zip(&row) {
                *n += u64::from(*x != 0);
            }
            rows.insert(row);
        }
        self.rows = rows.into_iter().collect();
    }

    /// What a value at a place of a variable adds to a term.
    fn weight(&self, term: Term, v: VarId, i: usize, value: i32) -> i64 {
        let cols = self.b.cols.max(1);
        let (row, col) = ((i / cols) as i64 + 1, (i % cols) as i64 + 1);
        let at = |w: VarId, x: i32| w == v && x == value;
        match term {
            Term::Count(w, x) => i64::from(at(w, x)),
            Term::Rows(w, x) => i64::from(at(w, x)) * row,
            Term::Cols(w, x) => i64::from(at(w, x)) * col,
            Term::Value(w, k) if (w, k) == (v, i) => value.into(),
            Term::Row(w, k) if (w, k) == (v, i) => i64::from(value) / cols as i64 + 1,
            Term::Col(w, k) if (w, k) == (v, i) => i64::from(value) % cols as i64 + 1,
            Term::Is(w, k, x) | Term::Holds(w, k, x) => i64::from(at(w, x) && k == i),
            _ => 0,
        }
    }

    fn change_of(&self, term: Term, changes: &[Change]) -> i64 {
        if let Term::Sign(v) = term {
            let here: Vec<Change> = changes.iter().copied().filter(|c| self.vars[c.0] == Some(v)).collect();
            return i64::from(is_odd(&here).unwrap_or(false));
        }
        changes
            .iter()
            .map(|(at, was, is)| {
                let Some(v) = self.vars[*at] else { return 0 };
                let i = at - self.b.slots[v].base;
                self.weight(term, v, i, *is) - self.weight(term, v, i, *was)
            })
            .sum()
    }

    /// The value of a term in a state.
    fn term_in(&self, term: Term, state: &[i32]) -> i64 {
        match term {
            Term::Sign(v) => {
                let slot = &self.b.slots[v];
                let values = &state[slot.base..slot.base + slot.len];
                let odd = (0..values.len()).flat_map(|i| (0..i).map(move |j| (i, j)));
                (odd.filter(|(i, j)| values[*j] > values[*i]).count() % 2) as i64
            }
            Term::Count(v, _) | Term::Rows(v, _) | Term::Cols(v, _) => {
                let slot = &self.b.slots[v];
                (0..slot.len).map(|i| self.weight(term, v, i, state[slot.base + i])).sum()
            }
            Term::Value(v, k)
            | Term::Row(v, k)
            | Term::Col(v, k)
            | Term::Is(v, k, _)
            | Term::Holds(v, k, _) => self.weight(term, v, k, state[self.b.slots[v].base + k]),
        }
    }

    /// The value of a quantity in a state.
    #[must_use]
    pub fn value_in(&self, q: &Quantity, state: &[i32]) -> i64 {
        let sum: i64 = q.terms.iter().map(|(t, w)| w * self.term_in(*t, state)).sum();
        q.modulus.map_or(sum, |m| sum.rem_euclid(m))
    }

    /// Whether no effect changes a quantity: computed again from the effects.
    #[must_use]
    pub fn keeps(&self, q: &Quantity) -> bool {
        if q.modulus != Some(2) && q.terms.iter().any(|(t, _)| matches!(t, Term::Sign(_))) {
            return false;
        }
        self.effects.list.iter().all(|changes| {
            let sum: i64 = q.terms.iter().map(|(t, w)| w * self.change_of(*t, changes)).sum();
            q.modulus.map_or(sum, |m| sum.rem_euclid(m)) == 0
        })
    }

    /// The value of a quantity wherever these pins hold, if it is the same there.
    #[must_use]
    pub fn wanted_of(&self, q: &Quantity, pins: &Pins, here: &[i32]) -> Option<i64> {
        let mut sum = 0i64;
        for (t, w) in &q.terms {
            sum = sum.checked_add(self.wanted(*t, pins, here)?.checked_mul(*w)?)?;
        }
        Some(q.modulus.map_or(sum, |m| sum.rem_euclid(m)))
    }

    /// The value of a term wherever these pins hold, if it is the same there. `here` is where play comes from: how many
    /// cells hold a value is the same in both when no effect changes it.
    fn wanted(&self, term: Term, pins: &Pins, here: &[i32]) -> Option<i64> {
        let place = |v: VarId, k: usize| self.b.slots[v].base + k;
        match term {
            Term::Value(v, k) | Term::Row(v, k) | Term::Col(v, k) | Term::Is(v, k, _) => {
                Some(self.weight(term, v, k, *pins.get(&place(v, k))?))
            }
            Term::Holds(v, k, x) => match pins.get(&place(v, k)) {
                Some(value) => Some(i64::from(*value == x)),
                None => self.all_placed(v, x, pins, here).then_some(0),
            },
            Term::Sign(v) => {
                let slot = &self.b.slots[v];
                let mut state = here.to_vec();
                for (p, value) in state.iter_mut().enumerate().skip(slot.base).take(slot.len) {
                    *value = *pins.get(&p)?;
                }
                Some(self.term_in(term, &state))
            }
            Term::Count(v, x) | Term::Rows(v, x) | Term::Cols(v, x) => {
                let slot = &self.b.slots[v];
                let pinned = || (0..slot.len).filter_map(|i| Some((i, *pins.get(&(slot.base + i))?)));
                let all = pinned().count() == slot.len || self.all_placed(v, x, pins, here);
                all.then(|| pinned().map(|(i, value)| self.weight(term, v, i, value)).sum())
            }
        }
    }

    /// Whether the pins place as many cells of a value as there are, and no move changes how many.
    fn all_placed(&self, v: VarId, x: i32, pins: &Pins, here: &[i32]) -> bool {
        let slot = &self.b.slots[v];
        let count = Term::Count(v, x);
        let placed = (0..slot.len).filter(|i| pins.get(&(slot.base + i)) == Some(&x)).count();
        placed as i64 == self.term_in(count, here)
            && self.effects.list.iter().all(|changes| self.change_of(count, changes) == 0)
    }

    /// A quantity that separates a position from one way to win, the simplest that is found. `cells`: where sums over
    /// the board do not, the values of single cells are weighed too.
    #[must_use]
    pub fn separates(&self, here: &[i32], pins: &Pins, cells: bool) -> Option<Apart> {
        self.among_terms(here, pins).or_else(|| if cells { self.among_cells(here, pins) } else { None })
    }

    fn among_cells(&self, here: &[i32], pins: &Pins) -> Option<Apart> {
        // Each value of each pinned cell by itself.
        let mut cells = vec![];
        for (v, def) in self.b.model.variables().filter(|(_, d)| d.state && is_cells(d.shape)) {
            let slot = &self.b.slots[v];
            let both = matches!(def.dom.scalar(), Scalar::Bool) || def.shape == Extent::Set;
            for k in 0..slot.len {
                for x in values_of(self.b, v).into_iter().skip(usize::from(both)) {
                    cells.push(Term::Holds(v, k, x));
                }
            }
        }
        cells.retain(|t| self.wanted(*t, pins, here).is_some());
        let work = cells.len() * cells.len() * self.effects.list.len();
        if cells.is_empty() || cells.len() > TERMS_MAX || work > WORK_MAX {
            return None;
        }
        cells.extend(self.terms.iter().filter(|t| matches!(t, Term::Sign(_))));
        let mut fine = Invariants {
            b: self.b,
            vars: self.vars.clone(),
            terms: vec![],
            rows: vec![],
            touched: vec![],
            effects: self.effects,
        };
        fine.take(cells);
        fine.among_terms(here, pins)
    }

    fn among_terms(&self, here: &[i32], pins: &Pins) -> Option<Apart> {
        for modulus in MODULI {
            let sign = |t: &Term| matches!(t, Term::Sign(_));
            let known: Vec<(usize, i64)> = (0..self.terms.len())
                .filter(|i| modulus == 2 || !sign(&self.terms[*i]))
                .filter_map(|i| {
                    let wanted = self.wanted(self.terms[i], pins, here)?;
                    Some((i, wanted - self.term_in(self.terms[i], here)))
                })
                .collect();
            let mut columns: Vec<usize> = known.iter().map(|k| k.0).collect();
            let gap_of: BTreeMap<usize, i64> = known.into_iter().collect();
            let gap = |columns: &[usize]| -> Vec<i64> { columns.iter().map(|c| gap_of[c]).collect() };
            let mut span = Span::new(self.terms.len(), modulus);
            for row in &self.rows {
                span.add(row);
            }
            let apart = |columns: &[usize]| !span.only(columns).contains(&gap(columns));
            if columns.is_empty() || !apart(&columns) {
                continue;
            }
            // What few effects change is left out first: what stands for every move stays.
            let mut order = columns.clone();
            order.sort_by_key(|c| (self.touched[*c], *c));
            for c in order {
                let fewer: Vec<usize> = columns.iter().copied().filter(|x| *x != c).collect();
                if apart(&fewer) {
                    columns = fewer;
                }
            }
            let gap = gap(&columns);
            for weights in span.only(&columns).kernel() {
                let (weights, exact) = match modulus {
                    GREAT => match small_ratio(&weights) {
                        Some(w) => (w, None),
                        None => continue,
                    },
                    m => (weights, Some(m as i64)),
                };
                let difference = dot(&weights, &gap);
                if exact.map_or(difference, |m| difference.rem_euclid(m.into())) == 0 {
                    continue;
                }
                let terms = columns.iter().zip(weights).filter(|w| w.1 != 0);
                let terms = terms.map(|(c, w)| (self.terms[*c], w)).collect();
                let quantity = Quantity { terms, modulus: exact };
                if !self.keeps(&quantity) {
                    continue;
                }
                let here = self.value_in(&quantity, here);
                let wanted = i128::from(here) + difference;
                let wanted = exact.map_or(wanted, |m| wanted.rem_euclid(m.into())) as i64;
                return Some(Apart { quantity, here, wanted });
            }
        }
        None
    }

    /// Kept quantities that are not trivial, simplest first, at most `most`: not the counts of pieces, not what is the same
    /// in every state, and none that follows from those before it.
    #[must_use]
    pub fn list(&self, most: usize) -> Vec<Quantity> {
        let mut out: Vec<Quantity> = vec![];
        for modulus in MODULI {
            let sign = |t: &Term| matches!(t, Term::Sign(_));
            let columns: Vec<usize> =
                (0..self.terms.len()).filter(|i| modulus == 2 || !sign(&self.terms[*i])).collect();
            if columns.is_empty() || columns.len() > 200 {
                continue;
            }
            let mut changes = Span::new(self.terms.len(), modulus);
            for row in &self.rows {
                changes.add(row);
            }
            // What is known already, as weightings of the columns.
            let mut known = Span::new(columns.len(), modulus);
            let weighting = |terms: &[(Term, i64)]| -> Vec<i64> {
                let of = |c: &usize| terms.iter().find(|(t, _)| *t == self.terms[*c]).map_or(0, |t| t.1);
                columns.iter().map(of).collect()
            };
            for trivial in self.trivial() {
                known.add(&weighting(&trivial));
            }
            for q in out.iter().filter(|q| q.modulus.is_none()) {
                known.add(&weighting(&q.terms));
            }
            let fresh = |known: &Span, columns_left: &[usize]| -> Option<Vec<(Term, i64)>> {
                let kernel = changes.only(columns_left).kernel();
                let named = |w: Vec<i64>| -> Vec<(Term, i64)> {
                    let pairs = columns_left.iter().zip(w).filter(|p| p.1 != 0);
                    pairs.map(|(c, w)| (self.terms[*c], w)).collect()
                };
                kernel.into_iter().map(named).find(|t| !known.contains(&weighting(t)))
            };
            while out.len() < most {
                let mut left = columns.clone();
                if fresh(&known, &left).is_none() {
                    break;
                }
                let mut order = left.clone();
                order.sort_by_key(|c| (self.touched[*c], *c));
                for c in order {
                    let fewer: Vec<usize> = left.iter().copied().filter(|x| *x != c).collect();
                    if fresh(&known, &fewer).is_some() {
                        left = fewer;
                    }
                }
                let Some(terms) = fresh(&known, &left) else { break };
                known.add(&weighting(&terms));
                let weights: Vec<i64> = terms.iter().map(|t| t.1).collect();
                let (weights, exact) = match modulus {
                    GREAT => match small_ratio(&weights) {
                        Some(w) => (w, None),
                        None => continue,
                    },
                    m => (weights, Some(m as i64)),
                };
                let terms = terms.iter().zip(weights).map(|(t, w)| (t.0, w)).collect();
                let q = Quantity { terms, modulus: exact };
                if self.keeps(&q) {
                    out.push(q);
                }
            }
        }
        out
    }

    /// Sums that are kept for no reason of the rules, or that only count pieces.
    fn trivial(&self) -> Vec<Vec<(Term, i64)>> {
        let mut out = vec![];
        for (i, t) in self.terms.iter().enumerate() {
            let counts = matches!(t, Term::Count(..));
            if self.touched[i] == 0 && (counts || !matches!(t, Term::Value(..))) {
                out.push(vec![(*t, 1)]);
            }
        }
        for v in self.b.model.var_ids() {
            for kind in 0..3 {
                let of = |t: &&Term| match (kind, t) {
                    (0, Term::Count(w, _)) | (1, Term::Rows(w, _)) | (2, Term::Cols(w, _)) => *w == v,
                    _ => false,
                };
                let sum: Vec<(Term, i64)> = self.terms.iter().filter(of).map(|t| (*t, 1)).collect();
                // Every cell holds some value.
                if sum.len() > 1 {
                    out.push(sum);
                }
            }
        }
        // Weighted counts that are kept though the counts are not are worth saying; plain ones are not.
        out
    }
}

/// `+ 2 * X` and the like, put together.
fn joined(parts: Vec<(i64, String)>) -> String {
    let mut out = String::new();
    for (w, text) in parts {
        let sign = if w < 0 { "-" } else { "+" };
        let size = w.unsigned_abs();
        let term = if size == 1 { text } else { format!("{size} * {text}") };
        if out.is_empty() {
            out = if w < 0 { format!("-{term}") } else { term };
        } else {
            out = format!("{out} {sign} {term}");
        }
    }
    out
}

impl Quantity {
    /// Weights modulo a number, written as near to 0 as they can be.
    fn shown(&self) -> impl Iterator<Item = (Term, i64)> {
        let m = self.modulus;
        self.terms.iter().map(move |(t, w)| match m {
            Some(m) if w.rem_euclid(m) * 2 > m => (*t, w.rem_euclid(m) - m),
            Some(m) => (*t, w.rem_euclid(m)),
            None => (*t, *w),
        })
    }

    /// The quantity in the modelling language.
    #[must_use]
    pub fn text(&self, b: &Bound) -> String {
        let name = |v: VarId| b.model.vars[v].name.as_str();
        let keyed = |v: VarId, k: usize| match b.model.vars[v].shape {
            Extent::Array(key) => format!("{}[{}]", name(v), b.key_names(key)[k]),
            _ => name(v).to_string(),
        };
        let holds = |v: VarId, x: i32| {
            let def = &b.model.vars[v];
            match (def.shape, def.dom.scalar()) {
                (Extent::Set, _) => format!("c in {}", name(v)),
                (_, Scalar::Bool) if x != 0 => format!("{}[c]", name(v)),
                (_, s) => format!("{}[c] == {}", name(v), b.scalar_text(s, x.into(), false)),
            }
        };
        let mut parts: Vec<(i64, String)> = vec![];
        let mut cells: BTreeMap<(VarId, i32), [i64; 3]> = BTreeMap::new();
        let mut single: BTreeMap<(VarId, i32, i64), Vec<usize>> = BTreeMap::new();
        for (t, w) in self.shown() {
            match t {
                Term::Sign(v) => parts.push((w, format!("parity({})", name(v)))),
                Term::Value(v, k) => parts.push((w, keyed(v, k))),
                Term::Row(v, k) => parts.push((w, format!("row({})", keyed(v, k)))),
                Term::Col(v, k) => parts.push((w, format!("col({})", keyed(v, k)))),
                Term::Is(v, k, x) => {
                    let scalar = b.model.vars[v].dom.scalar();
                    let test = match scalar {
                        Scalar::Bool => keyed(v, k),
                        _ => format!("{} == {}", keyed(v, k), b.scalar_text(scalar, x.into(), false)),
                    };
                    parts.push((w, format!("(if {test} then 1 else 0)")));
                }
                Term::Count(v, x) => cells.entry((v, x)).or_default()[0] = w,
                Term::Rows(v, x) => cells.entry((v, x)).or_default()[1] = w,
                Term::Cols(v, x) => cells.entry((v, x)).or_default()[2] = w,
                Term::Holds(v, k, x) => single.entry((v, x, w)).or_default().push(k),
            }
        }
        for ((v, x), [count, rows, cols]) in cells {
            let over = "c on board";
            if rows == 0 && cols == 0 {
                parts.push((count, format!("count({over} where {})", holds(v, x))));
                continue;
            }
            let by = if rows == cols && count == 0 { rows } else { 1 };
            let body = [(rows / by, "row(c)".to_string()), (cols / by, "col(c)".into()), (count, "1".into())];
            let body = joined(body.into_iter().filter(|p| p.0 != 0).collect());
            parts.push((by, format!("sum({over} where {}: {body})", holds(v, x))));
        }
        for ((v, x, w), cells) in single {
            let where_ = pattern(b, &cells);
            parts.push((w, format!("count(c on board where {} and ({where_}))", holds(v, x))));
        }
        let sum = joined(parts);
        match self.modulus {
            Some(m) if self.terms.len() == 1 && !sum.starts_with('-') => format!("{sum} mod {m}"),
            Some(m) => format!("({sum}) mod {m}"),
            None => sum,
        }
    }

    /// Two lines to be pasted into the model.
    #[must_use]
    pub fn keeps_line(&self, b: &Bound) -> String {
        format!("keeps ({})\n    because \"{}\"", self.text(b), self.because(b))
    }

    /// Why, in a few words without quotes.
    fn because(&self, b: &Bound) -> String {
        let name = |v: VarId| b.model.vars[v].name.as_str();
        if let Some((Term::Sign(v), _)) = self.terms.iter().find(|(t, _)| matches!(t, Term::Sign(_))) {
            return format!(
                "each move rearranges {} evenly, or oddly and changes the rest with it",
                name(*v)
            );
        }
        match self.modulus {
            Some(m) => format!("each move changes it by a multiple of {m}"),
            None => "each move changes its parts against each other".into(),
        }
    }

    /// The quantity in words.
    #[must_use]
    pub fn words(&self, b: &Bound) -> String {
        let name = |v: VarId| b.model.vars[v].name.as_str();
        let mut parts = vec![];
        let mut cells: BTreeMap<(VarId, i32), [i64; 3]> = BTreeMap::new();
        for (t, w) in self.shown() {
            match t {
                Term::Sign(v) if w != 0 => {
                    parts.push(format!("the arrangement of {} (odd 1, even 0)", name(v)));
                }
                Term::Count(v, x) => cells.entry((v, x)).or_default()[0] = w,
                Term::Rows(v, x) => cells.entry((v, x)).or_default()[1] = w,
                Term::Cols(v, x) => cells.entry((v, x)).or_default()[2] = w,
                _ => return self.text(b),
            }
        }
        for ((v, x), weights) in cells {
            let def = &b.model.vars[v];
            let slot = &b.slots[v];
            let once = def.rearranged.is_some()
                && b.start[slot.base..slot.base + slot.len].iter().filter(|y| **y == x).count() == 1;
            let what = match (def.shape, def.dom.scalar()) {
                (Extent::Set, _) | (_, Scalar::Bool) => name(v).to_string(),
                (_, s) => format!("{} in {}", b.scalar_text(s, x.into(), false), name(v)),
            };
            let lines = if once { ["row", "column"] } else { ["rows", "columns"] };
            parts.push(match weights {
                [0, 1, 1] => format!("the {} and the {} of {what}", lines[0], lines[1]),
                [0, 1, 0] => format!("the {} of {what}", lines[0]),
                [0, 0, 1] => format!("the {} of {what}", lines[1]),
                [1, 0, 0] => format!("the number of {what}"),
                _ => return self.text(b),
            });
        }
        let sum = parts.join(", plus ");
        self.modulus.map_or(sum.clone(), |m| format!("{sum}, modulo {m}"))
    }
}

/// A condition on `c` that holds for these cells and no other.
fn pattern(b: &Bound, cells: &[usize]) -> String {
    let cols = b.cols.max(1);
    let all = b.cells();
    for m in [2usize, 3] {
        let mut parts = vec![];
        let mut covered = 0;
        for r in 0..m {
            for c in 0..m {
                let here = (0..all).filter(|i| (i / cols + 1) % m == r && (i % cols + 1) % m == c);
                let here: Vec<usize> = here.collect();
                let inside = here.iter().filter(|i| cells.contains(i)).count();
                if !here.is_empty() && inside == here.len() {
                    covered += inside;
                    parts.push(format!("row(c) mod {m} == {r} and col(c) mod {m} == {c}"));
                }
            }
        }
        if covered == cells.len() && parts.len() * 2 < cells.len().max(3) {
            return parts.join(" or ");
        }
    }
    let each = |i: &usize| format!("c == place({}, {})", i / cols + 1, i % cols + 1);
    cells.iter().map(each).collect::<Vec<_>>().join(" or ")
}
