//! What is told with the hidden cells as unknowns: sums over cells, and conditions on them.

use super::*;

#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Lin {
    pub(super) terms: BTreeMap<u32, i64>,
    pub(super) k: i64,
}

#[derive(Clone, Debug)]
pub(super) enum Formula {
    Const(bool),
    In(Lin, i64, i64),
    Not(Box<Formula>),
    And(Vec<Formula>),
    Or(Vec<Formula>),
}

pub(super) enum Sym {
    Num(i64),
    Lin(Lin),
    Is(Formula),
}

pub(super) const FAR: i64 = 1 << 40;

impl Lin {
    pub(super) fn num(k: i64) -> Lin {
        Lin { terms: BTreeMap::new(), k }
    }
    pub(super) fn add(mut self, other: &Lin, times: i64) -> Lin {
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
    pub(super) fn cell(&self) -> Option<u32> {
        match (self.k, self.terms.len(), self.terms.first_key_value()) {
            (0, 1, Some((c, 1))) => Some(*c),
            _ => None,
        }
    }
}

impl Formula {
    pub(super) fn within(lin: Lin, lo: i64, hi: i64) -> Formula {
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
    pub(super) fn not(self) -> Formula {
        match self {
            Formula::Const(v) => Formula::Const(!v),
            Formula::Not(f) => *f,
            f => Formula::Not(Box::new(f)),
        }
    }
    pub(super) fn all(parts: impl IntoIterator<Item = Formula>) -> Formula {
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
    pub(super) fn any(parts: impl IntoIterator<Item = Formula>) -> Formula {
        Formula::all(parts.into_iter().map(Formula::not)).not_of_and()
    }
    pub(super) fn not_of_and(self) -> Formula {
        match self {
            Formula::And(parts) => Formula::Or(parts.into_iter().map(Formula::not).collect()),
            f => f.not(),
        }
    }
    /// 1 where it holds and 0 where it does not, as a sum.
    pub(super) fn indicator(&self) -> Option<Lin> {
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

pub(super) struct Symbolic<'b> {
    pub(super) b: &'b Bound,
    pub(super) eval: Eval<'b>,
    depends: Depends<'b>,
    /// Whether an expression depends on what is hidden, by where it stands in the model.
    asked: HashMap<*const Expr, bool>,
    by_place: Arc<HashMap<usize, u32>>,
}

impl<'b> Symbolic<'b> {
    pub(super) fn new(b: &'b Bound, by_place: Arc<HashMap<usize, u32>>) -> Symbolic<'b> {
        let depends = Depends::new(&b.model);
        Symbolic { b, eval: Eval::new(b), depends, asked: HashMap::new(), by_place }
    }

    /// Whether an expression of the model depends on what is hidden.
    pub(super) fn depends_on_hidden(&mut self, e: &Expr) -> bool {
        let depends = &self.depends;
        *self.asked.entry(std::ptr::from_ref(e)).or_insert_with(|| depends.expr(e, &[]))
    }

    /// What it means that an element of a `tell` says this, in the state that is looked at.
    pub(super) fn says(&mut self, tell: &TellDef, element: i64, value: i64) -> Result<Formula, NotCounts> {
        let mut frame = vec![0; tell.locals.len()];
        if let Some((local, _)) = &tell.over {
            frame[*local] = element;
        }
        match self.sym(&tell.value, &mut frame) {
            Ok(Sym::Num(k)) => Ok(Formula::Const(k == value)),
            Ok(Sym::Lin(l)) => Ok(Formula::within(l, value, value)),
            Ok(Sym::Is(f)) if value != 0 => Ok(f),
            Ok(Sym::Is(f)) => Ok(f.not()),
            Err(NotCounts::Told(_)) => Err(NotCounts::Told(format!("`{}`", tell.name))),
            Err(e) => Err(e),
        }
    }

    pub(super) fn unsupported<T>(&self, e: &Expr) -> Result<T, NotCounts> {
        let _ = e;
        Err(NotCounts::Told("what is told".into()))
    }

    pub(super) fn literal(&self, var: VarId, index: i64) -> Option<Sym> {
        let place = self.b.slots[var].base + index as usize;
        let cell = *self.by_place.get(&place)?;
        Some(Sym::Is(Formula::In(Lin { terms: [(cell, 1)].into(), k: 0 }, 1, 1)))
    }

    pub(super) fn hidden_var(&self, e: &Expr) -> Option<VarId> {
        match e.kind {
            Ek::Var(When::Now, v) if self.b.model.vars[v].hidden => Some(v),
            _ => None,
        }
    }

    pub(super) fn lin(&mut self, e: &Expr, frame: &mut Vec<i64>) -> Result<Lin, NotCounts> {
        match self.sym(e, frame)? {
            Sym::Num(k) => Ok(Lin::num(k)),
            Sym::Lin(l) => Ok(l),
            Sym::Is(f) => f.indicator().map_or_else(|| self.unsupported(e), Ok),
        }
    }

    pub(super) fn formula(&mut self, e: &Expr, frame: &mut Vec<i64>) -> Result<Formula, NotCounts> {
        Ok(match self.sym(e, frame)? {
            Sym::Num(k) => Formula::Const(k != 0),
            Sym::Is(f) => f,
            Sym::Lin(l) => Formula::within(l, 1, FAR),
        })
    }

    #[expect(clippy::too_many_lines, reason = "one arm for each kind of expression")]
    pub(super) fn sym(&mut self, e: &Expr, frame: &mut Vec<i64>) -> Result<Sym, NotCounts> {
        if !self.depends_on_hidden(e) {
            return Ok(Sym::Num(self.eval.scalar_in(e, frame)?));
        }
        match &e.kind {
            Ek::Var(..) => match self.hidden_var(e).and_then(|v| self.literal(v, 0)) {
                Some(s) => Ok(s),
                None => self.unsupported(e),
            },
            Ek::Index(base, at) => {
                let Some(v) = self.hidden_var(base) else { return self.unsupported(e) };
                if self.depends_on_hidden(at) {
                    return self.unsupported(e);
                }
                let i = self.eval.scalar_in(at, frame)?;
                self.literal(v, i).map_or_else(|| self.unsupported(e), Ok)
            }
            Ek::IndexOutside(base, place, outside) => {
                let Some(v) = self.hidden_var(base) else { return self.unsupported(e) };
                if self.depends_on_hidden(place) {
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
                if args.iter().any(|a| a.ty.is_block() || self.depends_on_hidden(a)) {
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

    pub(super) fn quant(&mut self, q: &Quant, e: &Expr, frame: &mut Vec<i64>) -> Result<Sym, NotCounts> {
        if q.over.exprs().into_iter().any(|x| self.depends_on_hidden(x)) {
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
