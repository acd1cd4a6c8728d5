//! From what a player was told to clues that count.
//!
//! Every `tell` at every position that was seen is evaluated with the hidden cells as unknowns. Where the result
//! is a sum over cells, or a comparison of one, it becomes a [`Clue`]; so do the prior's conditions, the `always`
//! laws (no world breaks them) and the conditions of ends (the game is seen to go on). Anything else is
//! [`NotCounts`], and the caller enumerates worlds instead.

use std::collections::{BTreeMap, HashMap};

use fendle_core::infer::{Clue, System};

use crate::ast::QuantKind;
use crate::bind::{Bound, cell_name};
use crate::hidden::Depends;
use crate::hir::*;
use crate::reference::{Eval, RunFault};
use crate::scatter::{bool_weights, exact_count, hidden_vars};

/// Why what is told is not followed as counts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NotCounts {
    /// A hidden variable holds more than yes or no.
    NotBool(String),
    /// The rules change it, or the setup does.
    Changed(String),
    /// Something told is no count.
    Told(String),
    /// A model fault.
    Fault(RunFault),
}

impl From<RunFault> for NotCounts {
    fn from(f: RunFault) -> NotCounts {
        NotCounts::Fault(f)
    }
}

impl std::fmt::Display for NotCounts {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            NotCounts::NotBool(v) => write!(f, "`{v}` holds more than yes or no"),
            NotCounts::Changed(v) => write!(f, "`{v}` is changed by the rules"),
            NotCounts::Told(t) => write!(f, "{t} is no count over cells"),
            NotCounts::Fault(fault) => write!(f, "{fault}"),
        }
    }
}

/// Where a clue comes from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Source {
    /// A `tell`, its element, and what it said.
    Told {
        /// The number of the `tell`.
        tell: usize,
        /// The element that it is about.
        element: i64,
        /// What was told.
        value: i64,
        /// How many positions ago; 0 is now.
        ago: usize,
    },
    /// The number of cells that are filled.
    Total,
    /// Another condition of the prior.
    Prior,
    /// A law of the model.
    Law,
    /// The game is seen to go on.
    GoesOn,
}

/// A position as the player saw it.
#[derive(Clone, Debug)]
pub struct Sight {
    /// The state; hidden values in it are not read.
    pub state: Vec<i32>,
    /// What each `tell` said.
    pub told: Vec<Vec<Option<i64>>>,
}

/// Clues, and what they are about.
#[derive(Clone, Debug)]
pub struct Known {
    /// The clues.
    pub system: System,
    /// For each unknown its place in the state.
    pub places: Vec<usize>,
    /// For each unknown its variable and its index there.
    pub cells: Vec<(usize, usize)>,
    /// For each clue where it comes from.
    pub sources: Vec<Source>,
    by_place: HashMap<usize, u32>,
    /// What was told, with the clue that it became, if it became one.
    said: HashMap<(usize, i64, i64), Option<usize>>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
struct Lin {
    terms: BTreeMap<u32, i64>,
    k: i64,
}

#[derive(Clone, Debug)]
enum Formula {
    Const(bool),
    In(Lin, i64, i64),
    Not(Box<Formula>),
    And(Vec<Formula>),
    Or(Vec<Formula>),
}

enum Sym {
    Num(i64),
    Lin(Lin),
    Is(Formula),
}

const FAR: i64 = 1 << 40;

impl Lin {
    fn num(k: i64) -> Lin {
        Lin { terms: BTreeMap::new(), k }
    }
    fn add(mut self, other: &Lin, times: i64) -> Lin {
        for (c, k) in &other.terms {
            let e = self.terms.entry(*c).or_default();
            *e += k * times;
            if *e == 0 {
                self.terms.remove(c);
            }
        }
        self.k += other.k * times;
        self
    }
    /// The single cell that this is, if it is one.
    fn cell(&self) -> Option<u32> {
        match (self.k, self.terms.len(), self.terms.first_key_value()) {
            (0, 1, Some((c, 1))) => Some(*c),
            _ => None,
        }
    }
}

impl Formula {
    fn within(lin: Lin, lo: i64, hi: i64) -> Formula {
        let (mut least, mut most) = (lin.k, lin.k);
        for k in lin.terms.values() {
            least += (*k).min(0);
            most += (*k).max(0);
        }
        if lo <= least && most <= hi {
            Formula::Const(true)
        } else if hi < least || most < lo {
            Formula::Const(false)
        } else {
            Formula::In(lin, lo, hi)
        }
    }
    fn not(self) -> Formula {
        match self {
            Formula::Const(v) => Formula::Const(!v),
            Formula::Not(f) => *f,
            f => Formula::Not(Box::new(f)),
        }
    }
    fn all(parts: impl IntoIterator<Item = Formula>) -> Formula {
        let mut out = vec![];
        for p in parts {
            match p {
                Formula::Const(true) => {}
                Formula::Const(false) => return Formula::Const(false),
                f => out.push(f),
            }
        }
        match out.len() {
            0 => Formula::Const(true),
            1 => out.remove(0),
            _ => Formula::And(out),
        }
    }
    fn any(parts: impl IntoIterator<Item = Formula>) -> Formula {
        Formula::all(parts.into_iter().map(Formula::not)).not_of_and()
    }
    fn not_of_and(self) -> Formula {
        match self {
            Formula::And(parts) => Formula::Or(parts.into_iter().map(Formula::not).collect()),
            f => f.not(),
        }
    }
    /// 1 where it holds and 0 where it does not, as a sum.
    fn indicator(&self) -> Option<Lin> {
        match self {
            Formula::Const(v) => Some(Lin::num(i64::from(*v))),
            Formula::In(lin, lo, hi) => {
                let c = lin.cell()?;
                let one = Lin { terms: [(c, 1)].into(), k: 0 };
                // The cell is 0 or 1, and only one of them is inside.
                if *lo <= 1 && 1 <= *hi { Some(one) } else { Some(Lin::num(1).add(&one, -1)) }
            }
            Formula::Not(f) => Some(Lin::num(1).add(&f.indicator()?, -1)),
            _ => None,
        }
    }
}

struct Symbolic<'b> {
    b: &'b Bound,
    eval: Eval<'b>,
    depends: Depends<'b>,
    by_place: HashMap<usize, u32>,
}

impl Symbolic<'_> {
    fn unsupported<T>(&self, e: &Expr) -> Result<T, NotCounts> {
        let _ = e;
        Err(NotCounts::Told("what is told".into()))
    }

    fn literal(&self, var: usize, index: i64) -> Option<Sym> {
        let place = self.b.slots[var].base + index as usize;
        let cell = *self.by_place.get(&place)?;
        Some(Sym::Is(Formula::In(Lin { terms: [(cell, 1)].into(), k: 0 }, 1, 1)))
    }

    fn hidden_var(&self, e: &Expr) -> Option<usize> {
        match e.kind {
            Ek::Var(When::Now, v) if self.b.model.vars[v].hidden => Some(v),
            _ => None,
        }
    }

    fn lin(&mut self, e: &Expr, frame: &mut Vec<i64>) -> Result<Lin, NotCounts> {
        match self.sym(e, frame)? {
            Sym::Num(k) => Ok(Lin::num(k)),
            Sym::Lin(l) => Ok(l),
            Sym::Is(f) => f.indicator().map_or_else(|| self.unsupported(e), Ok),
        }
    }

    fn formula(&mut self, e: &Expr, frame: &mut Vec<i64>) -> Result<Formula, NotCounts> {
        Ok(match self.sym(e, frame)? {
            Sym::Num(k) => Formula::Const(k != 0),
            Sym::Is(f) => f,
            Sym::Lin(l) => Formula::within(l, 1, FAR),
        })
    }

    fn sym(&mut self, e: &Expr, frame: &mut Vec<i64>) -> Result<Sym, NotCounts> {
        if !self.depends.expr(e, &[]) {
            return Ok(Sym::Num(self.eval.scalar_in(e, frame)?));
        }
        match &e.kind {
            Ek::Var(..) => match self.hidden_var(e).and_then(|v| self.literal(v, 0)) {
                Some(s) => Ok(s),
                None => self.unsupported(e),
            },
            Ek::Index(base, at) => {
                let Some(v) = self.hidden_var(base) else { return self.unsupported(e) };
                if self.depends.expr(at, &[]) {
                    return self.unsupported(e);
                }
                let i = self.eval.scalar_in(at, frame)?;
                self.literal(v, i).map_or_else(|| self.unsupported(e), Ok)
            }
            Ek::IndexOutside(base, place, outside) => {
                let Some(v) = self.hidden_var(base) else { return self.unsupported(e) };
                if self.depends.expr(place, &[]) {
                    return self.unsupported(e);
                }
                let (r, c) = code::row_col(self.eval.scalar_in(place, frame)?);
                if r >= 0 && c >= 0 && r < self.b.rows as i64 && c < self.b.cols as i64 {
                    self.literal(v, r * self.b.cols as i64 + c).map_or_else(|| self.unsupported(e), Ok)
                } else {
                    self.sym(outside, frame)
                }
            }
            Ek::Not(a) => Ok(Sym::Is(self.formula(a, frame)?.not())),
            Ek::And(a, b) => {
                let a = self.formula(a, frame)?;
                if matches!(a, Formula::Const(false)) {
                    return Ok(Sym::Num(0));
                }
                let b = self.formula(b, frame)?;
                Ok(Sym::Is(Formula::all([a, b])))
            }
            Ek::Or(a, b) => {
                let a = self.formula(a, frame)?;
                if matches!(a, Formula::Const(true)) {
                    return Ok(Sym::Num(1));
                }
                let b = self.formula(b, frame)?;
                Ok(Sym::Is(Formula::any([a, b])))
            }
            Ek::Cmp(op, a, b) if a.ty == Ty::Bool => {
                let (a, b) = (self.formula(a, frame)?, self.formula(b, frame)?);
                let (f, v) = match (a, b) {
                    (f, Formula::Const(v)) | (Formula::Const(v), f) => (f, v),
                    _ => return self.unsupported(e),
                };
                match op {
                    Cmp::Eq => Ok(Sym::Is(if v { f } else { f.not() })),
                    Cmp::Ne => Ok(Sym::Is(if v { f.not() } else { f })),
                    _ => self.unsupported(e),
                }
            }
            Ek::Cmp(op, a, b) => {
                let (a, b) = (self.lin(a, frame)?, self.lin(b, frame)?);
                let d = a.add(&b, -1);
                Ok(Sym::Is(match op {
                    Cmp::Eq => Formula::within(d, 0, 0),
                    Cmp::Ne => Formula::within(d, 0, 0).not(),
                    Cmp::Lt => Formula::within(d, -FAR, -1),
                    Cmp::Le => Formula::within(d, -FAR, 0),
                }))
            }
            Ek::Neg(a) => Ok(Sym::Lin(Lin::num(0).add(&self.lin(a, frame)?, -1))),
            Ek::Arith(Arith::Add, a, b) => {
                let (a, b) = (self.lin(a, frame)?, self.lin(b, frame)?);
                Ok(Sym::Lin(a.add(&b, 1)))
            }
            Ek::Arith(Arith::Sub, a, b) => {
                let (a, b) = (self.lin(a, frame)?, self.lin(b, frame)?);
                Ok(Sym::Lin(a.add(&b, -1)))
            }
            Ek::Arith(Arith::Mul, a, b) => {
                let (a, b) = (self.lin(a, frame)?, self.lin(b, frame)?);
                match (a.terms.is_empty(), b.terms.is_empty()) {
                    (true, _) => Ok(Sym::Lin(Lin::num(0).add(&b, a.k))),
                    (_, true) => Ok(Sym::Lin(Lin::num(0).add(&a, b.k))),
                    _ => self.unsupported(e),
                }
            }
            Ek::Cond(c, a, b) => match self.formula(c, frame)? {
                Formula::Const(v) => self.sym(if v { a } else { b }, frame),
                f if e.ty == Ty::Bool => {
                    let (a, b) = (self.formula(a, frame)?, self.formula(b, frame)?);
                    Ok(Sym::Is(Formula::any([Formula::all([f.clone(), a]), Formula::all([f.not(), b])])))
                }
                f => {
                    let (a, b) = (self.lin(a, frame)?, self.lin(b, frame)?);
                    match f.indicator() {
                        Some(i) if a.terms.is_empty() && b.terms.is_empty() => {
                            let k = a.k - b.k;
                            Ok(Sym::Lin(b.add(&i, k)))
                        }
                        _ => self.unsupported(e),
                    }
                }
            },
            Ek::Within(a, _) => self.sym(a, frame),
            Ek::Call(f, args) => {
                if args.iter().any(|a| self.depends.expr(a, &[])) {
                    return self.unsupported(e);
                }
                let model = self.b.model.clone();
                let def = &model.fns[*f];
                let mut inner = vec![0; def.locals.len()];
                for (slot, a) in inner.iter_mut().zip(args) {
                    *slot = self.eval.scalar_in(a, frame)?;
                }
                self.sym(&def.body, &mut inner)
            }
            Ek::Quant(q) => self.quant(q, e, frame),
            _ => self.unsupported(e),
        }
    }

    fn quant(&mut self, q: &Quant, e: &Expr, frame: &mut Vec<i64>) -> Result<Sym, NotCounts> {
        if q.over.exprs().into_iter().any(|x| self.depends.expr(x, &[])) {
            return self.unsupported(e);
        }
        let mut sum = Lin::num(0);
        let mut parts = vec![];
        for x in self.eval.range_in(&q.over, frame)? {
            frame[q.local] = x;
            let filter = match &q.filter {
                Some(f) => self.formula(f, frame)?,
                None => Formula::Const(true),
            };
            if matches!(filter, Formula::Const(false)) {
                continue;
            }
            match (q.kind, &q.body) {
                (QuantKind::Count, _) => match filter.indicator() {
                    Some(l) => sum = sum.add(&l, 1),
                    None => return self.unsupported(e),
                },
                (QuantKind::Sum, Some(body)) => {
                    let body = self.lin(body, frame)?;
                    match filter.indicator() {
                        Some(l) if l.terms.is_empty() => sum = sum.add(&body, l.k),
                        Some(l) if body.terms.is_empty() => sum = sum.add(&l, body.k),
                        _ => return self.unsupported(e),
                    }
                }
                (QuantKind::All, Some(body)) => {
                    parts.push(Formula::any([filter.not(), self.formula(body, frame)?]));
                }
                (QuantKind::Any, body) => {
                    let body = match body {
                        Some(body) => self.formula(body, frame)?,
                        None => Formula::Const(true),
                    };
                    parts.push(Formula::all([filter, body]));
                }
                _ => return self.unsupported(e),
            }
        }
        Ok(match q.kind {
            QuantKind::All => Sym::Is(Formula::all(parts)),
            QuantKind::Any => Sym::Is(Formula::any(parts)),
            _ => Sym::Lin(sum),
        })
    }
}

impl Known {
    /// What is known at the last of these positions, the first being where play began.
    ///
    /// # Errors
    ///
    /// [`NotCounts`].
    pub fn new(b: &Bound, sights: &[Sight]) -> Result<Known, NotCounts> {
        let model = &b.model;
        changed(model)?;
        let mut known = Known {
            system: System::default(),
            places: vec![],
            cells: vec![],
            sources: vec![],
            by_place: HashMap::new(),
            said: HashMap::new(),
        };
        for v in hidden_vars(b) {
            let def = &model.vars[v];
            if def.dom.scalar() != Scalar::Bool || def.rearranged.is_some() {
                return Err(NotCounts::NotBool(def.name.clone()));
            }
            for (i, w) in bool_weights(b, v)?.into_iter().enumerate() {
                known.by_place.insert(b.slots[v].base + i, known.places.len() as u32);
                known.places.push(b.slots[v].base + i);
                known.cells.push((v, i));
                known.system.weights.push(w);
                known.system.fixed.push(match w {
                    (0, _) => Some(false),
                    (_, 0) => Some(true),
                    _ => None,
                });
            }
        }
        let mut s = Symbolic {
            b,
            eval: Eval::new(b),
            depends: Depends::new(model),
            by_place: known.by_place.clone(),
        };
        for v in hidden_vars(b) {
            let Some(with) = model.vars[v].prior.as_ref().and_then(|p| p.with.as_ref()) else { continue };
            let count = exact_count(b, v).is_some();
            for part in conjuncts_of(with) {
                let mut frame = vec![0; part.locals.len()];
                let f = s.formula(&part.expr, &mut frame)?;
                let whole = |f: &Formula| matches!(f, Formula::In(l, ..) if l.terms.len() > 1 && l.terms.len() == b.slots[v].len);
                let is_total = count && known.system.total.is_none() && whole(&f);
                if is_total {
                    known.system.total = Some(known.system.clues.len());
                }
                known.assert(f, true, &if is_total { Source::Total } else { Source::Prior })?;
            }
        }
        drop(s);
        for sight in sights {
            known.see(b, sight)?;
        }
        Ok(known)
    }

    /// Adds what is told at one more position, the one after those before.
    ///
    /// # Errors
    ///
    /// [`NotCounts`].
    pub fn see(&mut self, b: &Bound, sight: &Sight) -> Result<(), NotCounts> {
        let model = &b.model;
        let mut s = Symbolic {
            b,
            eval: Eval::new(b),
            depends: Depends::new(model),
            by_place: std::mem::take(&mut self.by_place),
        };
        let done = self.see_with(&mut s, b, sight);
        self.by_place = s.by_place;
        done
    }

    fn see_with(&mut self, s: &mut Symbolic<'_>, b: &Bound, sight: &Sight) -> Result<(), NotCounts> {
        let model = &b.model;
        for source in &mut self.sources {
            if let Source::Told { ago, .. } = source {
                *ago += 1;
            }
        }
        s.eval.look_at(&sight.state);
        for (t, tell) in model.tells.iter().enumerate() {
            let lasting = !reads_now(model, &tell.value);
            let elements = Eval::new(b).tell_elements(tell);
            for (&element, value) in elements.iter().zip(&sight.told[t]) {
                let Some(value) = *value else { continue };
                // The same said again is no new clue; it is a clue of now.
                if lasting && let Some(clue) = self.said.get(&(t, element, value)) {
                    if let Some(Some(Source::Told { ago, .. })) = clue.map(|c| self.sources.get_mut(c)) {
                        *ago = 0;
                    }
                    continue;
                }
                let source = Source::Told { tell: t, element, value, ago: 0 };
                let mut frame = vec![0; tell.locals.len()];
                if let Some((local, _)) = &tell.over {
                    frame[*local] = element;
                }
                let f = match s.sym(&tell.value, &mut frame) {
                    Ok(Sym::Num(k)) => Formula::Const(k == value),
                    Ok(Sym::Lin(l)) => Formula::within(l, value, value),
                    Ok(Sym::Is(f)) => {
                        if value != 0 {
                            f
                        } else {
                            f.not()
                        }
                    }
                    Err(NotCounts::Told(_)) => return Err(NotCounts::Told(format!("`{}`", tell.name))),
                    Err(e) => return Err(e),
                };
                let before = self.sources.len();
                self.assert(f, true, &source)?;
                let clue = (self.sources.len() > before).then_some(before);
                self.said.insert((t, element, value), clue);
            }
        }
        for law in &model.always {
            if s.depends.expr(&law.cond.expr, &[]) {
                let f = s.formula(&law.cond.expr, &mut vec![0; law.cond.locals.len()])?;
                self.assert(f, true, &Source::Law)?;
            }
        }
        // The game is seen to go on.
        if sight.state[b.ended_at()] == 0 {
            for st in &model.statuses {
                if s.depends.expr(&st.cond.expr, &[]) {
                    let f = s.formula(&st.cond.expr, &mut vec![0; st.cond.locals.len()])?;
                    self.assert(f, false, &Source::GoesOn)?;
                }
            }
        }
        Ok(())
    }

    /// The unknown at a place of the state.
    #[must_use]
    pub fn cell_at(&self, place: usize) -> Option<u32> {
        self.by_place.get(&place).copied()
    }

    /// A clue in words.
    #[must_use]
    pub fn clue_text(&self, b: &Bound, clue: usize) -> String {
        match &self.sources[clue] {
            Source::Told { tell, element, value, ago } => {
                let t = &b.model.tells[*tell];
                let at = match &t.over {
                    Some((_, Range::Board)) => format!(" at {}", cell_name(*element as usize, b.cols)),
                    Some(_) => format!(" {element}"),
                    None => String::new(),
                };
                let value =
                    t.value.ty.scalar().map_or(value.to_string(), |s| b.scalar_text(s, *value, false));
                let ago = match ago {
                    0 => String::new(),
                    1 => " (seen a move ago)".into(),
                    n => format!(" (seen {n} moves ago)"),
                };
                format!("{value}{at}{ago}")
            }
            Source::Total => {
                let c = &self.system.clues[clue];
                format!("{} in all", c.lo)
            }
            Source::Prior => "what is known beforehand".into(),
            Source::Law => "a law of the model".into(),
            Source::GoesOn => "the game goes on".into(),
        }
    }

    fn push(&mut self, lin: &Lin, lo: i64, hi: i64, source: &Source) {
        let (mut least, mut most) = (0, 0);
        for k in lin.terms.values() {
            least += (*k).min(0);
            most += (*k).max(0);
        }
        let (lo, hi) = ((lo - lin.k).max(least), (hi - lin.k).min(most));
        // One cell alone is a fact.
        if let (1, Some((&c, &k))) = (lin.terms.len(), lin.terms.first_key_value()) {
            let can = |v: i64| v * k >= lo && v * k <= hi;
            let fixed = &mut self.system.fixed[c as usize];
            match (can(0), can(1)) {
                (true, true) => return,
                (false, true) if *fixed != Some(false) => {
                    *fixed = Some(true);
                    return;
                }
                (true, false) if *fixed != Some(true) => {
                    *fixed = Some(false);
                    return;
                }
                _ => {}
            }
        }
        let cells = lin.terms.iter().map(|(c, k)| (*c, *k as i32)).collect();
        self.system.clues.push(Clue { cells, lo, hi });
        self.sources.push(source.clone());
    }

    fn assert(&mut self, f: Formula, truth: bool, source: &Source) -> Result<(), NotCounts> {
        match (f, truth) {
            (Formula::Const(v), truth) => {
                if v != truth {
                    // Nothing agrees with this.
                    self.system.clues.push(Clue { cells: vec![], lo: 1, hi: 1 });
                    self.sources.push(source.clone());
                }
                Ok(())
            }
            (Formula::Not(f), truth) => self.assert(*f, !truth, source),
            (Formula::And(parts), true) => parts.into_iter().try_for_each(|p| self.assert(p, true, source)),
            (Formula::Or(parts), false) => parts.into_iter().try_for_each(|p| self.assert(p, false, source)),
            (Formula::In(lin, lo, hi), true) => {
                self.push(&lin, lo, hi, source);
                Ok(())
            }
            (Formula::In(lin, lo, hi), false) => {
                let (mut least, mut most) = (lin.k, lin.k);
                for k in lin.terms.values() {
                    least += (*k).min(0);
                    most += (*k).max(0);
                }
                if lo <= least {
                    self.push(&lin, hi + 1, FAR, source);
                } else if hi >= most {
                    self.push(&lin, -FAR, lo - 1, source);
                } else {
                    return Err(NotCounts::Told("what is told not to be so".into()));
                }
                Ok(())
            }
            // Not all of them, or at least one: a sum as well.
            (Formula::And(parts) | Formula::Or(parts), truth) => {
                let many = parts.len() as i64;
                let mut sum = Lin::num(0);
                for p in &parts {
                    match p.indicator() {
                        Some(l) => sum = sum.add(&l, 1),
                        None => return Err(NotCounts::Told("what is told".into())),
                    }
                }
                if truth {
                    self.push(&sum, 1, FAR, source);
                } else {
                    self.push(&sum, -FAR, many - 1, source);
                }
                Ok(())
            }
        }
    }
}

/// Whether an expression reads the state beside what is hidden.
fn reads_now(model: &Model, e: &Expr) -> bool {
    let mut reads = false;
    let mut fns = vec![];
    e.each(&mut |e| match &e.kind {
        Ek::Var(_, v) => reads |= model.vars[*v].state && !model.vars[*v].hidden,
        Ek::Call(f, _) => fns.push(*f),
        _ => {}
    });
    reads || fns.into_iter().any(|f| reads_now(model, &model.fns[f].body))
}

/// An error when any rule, or the setup, changes what is hidden.
fn changed(model: &Model) -> Result<(), NotCounts> {
    let mut bad = None;
    let mut look = |block: &[Stmt]| {
        for s in block {
            s.each(&mut |s| {
                for v in s.written() {
                    if model.vars[v].hidden {
                        bad = Some(model.vars[v].name.clone());
                    }
                }
            });
        }
    };
    model.moves.iter().for_each(|m| look(&m.body));
    model.procs.iter().chain(&model.after).for_each(|p| look(&p.body));
    model.ticks.iter().for_each(|t| look(&t.body.body));
    if let Some(s) = &model.setup {
        look(&s.body.body);
    }
    if let Some(v) = model.vars.iter().find(|v| v.untold) {
        return Err(NotCounts::Changed(v.name.clone()));
    }
    bad.map_or(Ok(()), |v| Err(NotCounts::Changed(v)))
}

/// The parts of the rules that can lose the game.
pub struct Danger<'m> {
    model: &'m Model,
    /// Variables that the conditions of losing read.
    read: Vec<bool>,
    procs: Vec<bool>,
}

impl<'m> Danger<'m> {
    /// Looks through a model.
    #[must_use]
    pub fn new(model: &'m Model) -> Danger<'m> {
        let mut read = vec![false; model.vars.len()];
        for s in model.statuses.iter().filter(|s| model.endings[s.ending].kind == EndKind::Lost) {
            reads(model, &s.cond.expr, &mut read);
        }
        let mut d = Danger { model, read, procs: vec![false; model.procs.len()] };
        for _ in 0..=model.procs.len() {
            for (i, p) in model.procs.iter().enumerate() {
                d.procs[i] = p.body.iter().any(|s| d.stmt(s));
            }
        }
        d
    }

    fn stmt(&self, s: &Stmt) -> bool {
        let mut dangerous = false;
        s.each(&mut |s| {
            dangerous |= match &s.kind {
                St::End(e) => self.model.endings[*e].kind == EndKind::Lost,
                // Whether the move is allowed at all is asked here too.
                St::Refuse { .. } => true,
                St::Judge => self.read.iter().any(|r| *r),
                St::Call(p, _) => self.procs[*p],
                _ => s.written().into_iter().any(|v| self.read[v]),
            };
        });
        dangerous
    }

    /// The body of a move up to the last statement that can lose, the blocks behind it that can, and whether
    /// conditions have to be asked.
    fn part(&self, of: usize) -> (&'m [Stmt], Vec<&'m ProcDef>, bool) {
        let m = &self.model.moves[of];
        let blocks: Vec<&ProcDef> = (self.model.after.iter())
            .chain(self.model.ticks.iter().filter(|t| t.on.is_none_or(|o| o == of)).map(|t| &t.body))
            .collect();
        let last = blocks.iter().rposition(|b| b.body.iter().any(|s| self.stmt(s)));
        let status = self.read.iter().any(|r| *r);
        match last {
            Some(i) => (&m.body, blocks[..=i].to_vec(), status),
            None => {
                let n = m.body.iter().rposition(|s| self.stmt(s)).map_or(0, |i| i + 1);
                (&m.body[..n], vec![], status)
            }
        }
    }
}

fn reads(model: &Model, e: &Expr, out: &mut [bool]) {
    let mut fns = vec![];
    e.each(&mut |e| match &e.kind {
        Ek::Var(_, v) => out[*v] = true,
        Ek::Call(f, _) => fns.push(*f),
        _ => {}
    });
    for f in fns {
        reads(model, &model.fns[f].body, out);
    }
}

/// One way that a move may go wrong or not: what has to be so, whether the game is lost then, and the chance of draws.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Way {
    /// Unknown cells and what they are.
    pub cells: Vec<(u32, bool)>,
    /// Lost.
    pub lost: bool,
    /// Numerator and denominator of the chance of what is drawn.
    pub chance: (u128, u128),
}

/// Most ways of one move that are followed.
const WAYS_MAX: usize = 512;

impl Known {
    /// In which ways a move can lose the game or not, by the hidden cells that decide. `None` where that is
    /// not followed.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub fn ways(
        &self,
        b: &Bound,
        danger: &Danger<'_>,
        state: &[i32],
        (of, params): (usize, &[i64]),
    ) -> Result<Option<Vec<Way>>, RunFault> {
        let (body, after, status) = danger.part(of);
        let known: HashMap<usize, i32> = (self.system.fixed.iter().enumerate())
            .filter_map(|(c, f)| f.map(|f| (self.places[c], i32::from(f))))
            .collect();
        let ways =
            Eval::new(b).ways_to_lose(state, (of, params), (body, &after, status), &known, WAYS_MAX)?;
        Ok(ways.and_then(|ways| {
            ways.into_iter()
                .map(|w| {
                    let cells: Option<Vec<(u32, bool)>> =
                        w.reads.iter().map(|(p, v)| Some((self.cell_at(*p)?, *v != 0))).collect();
                    Some(Way { cells: cells?, lost: w.lost, chance: (w.chance.num, w.chance.den) })
                })
                .collect()
        }))
    }
}
