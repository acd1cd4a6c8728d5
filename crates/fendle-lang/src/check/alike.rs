//! Likeness: values, keys and numbers that nothing in the rules tells apart.
//!
//! Two parts. The *proof* walks the rules of a model and finds every place that could tell them
//! apart: a name, an order, a size, arithmetic. The *canonical form* is, among the states that
//! differ only in how the like things are named, the one whose values are least when the names are
//! first changed so that the level's own start is least: so the start stands for itself.

use crate::model::*;
use crate::source::Span;
use Flavour::{Like, Other, Plain};

/// A place that tells like things apart, and in which way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// Where.
    pub span: Span,
    /// How, as words behind the place.
    pub how: String,
}

crate::model::frames!(Flavour);

/// What is known of a number: whether it is one of the like things.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Flavour {
    /// A constant outside of them.
    Other,
    /// One of them, or a constant outside.
    Like,
    /// Any number.
    Plain,
}

/// A key as it was written: the checker turns it into the number of the key.
fn key(e: &Expr) -> &Expr {
    match &e.kind {
        Ek::Arith(Arith::Sub, a, _) => match &a.kind {
            Ek::Within(inner, Dom::Range(..)) => inner,
            _ => e,
        },
        _ => e,
    }
}

/// Everything in the rules of a model that tells the things of one declaration apart.
#[must_use]
pub fn findings(model: &Model, def: &AlikeDef) -> Vec<Finding> {
    let mut p = Prover { model, def, fns: vec![Other; model.fns.len()], found: vec![] };
    p.types();
    p.functions();
    for f in &model.fns {
        let fl = p.flavours_of(&f.locals, f.params, &[], &[&f.body]);
        p.expr(&f.body, &fl);
    }
    for m in &model.moves {
        let offers: Vec<&Expr> = m.offers.iter().collect();
        let fl = p.flavours_of(&m.locals, m.params.len(), &m.body, &offers);
        for e in offers {
            p.expr(e, &fl);
        }
        p.block(&m.body, &fl);
    }
    let blocks = model.procs.iter().chain(&model.after).chain(model.ticks.iter().map(|t| &t.body));
    for d in blocks {
        let fl = p.flavours_of(&d.locals, d.params, &d.body, &[]);
        p.block(&d.body, &fl);
    }
    let bodies = (model.statuses.iter().map(|s| &s.cond))
        .chain(model.always.iter().map(|a| &a.cond))
        .chain(model.keeps.iter().map(|k| &k.quantity))
        .chain(model.bound.iter().map(|b| &b.0))
        .chain(model.promise.iter().flat_map(|p| [&p.0, &p.1]))
        .chain(model.aim.iter().filter_map(|a| a.what.as_ref()));
    for b in bodies {
        let fl = p.flavours_of(&b.locals, 0, &[], &[&b.expr]);
        p.plain(&b.expr, &fl);
        p.expr(&b.expr, &fl);
    }
    for cost in &model.costs {
        let b = &cost.count;
        let fl = p.flavours_of(&b.locals, model.moves[cost.of].params.len(), &[], &[&b.expr]);
        p.plain(&b.expr, &fl);
        p.expr(&b.expr, &fl);
    }
    for v in &model.vars {
        if let Extent::Array(Keyed::Pair(pair)) = v.shape {
            let (first, second) = model.pairs[pair];
            if is_key(model, def, first) || is_key(model, def, second) {
                p.find(v.span, "an array of arrays is keyed by them: that is not followed");
            }
        }
        if let Some(e) = &v.outside {
            p.expr(e, &[]);
        }
    }
    p.found.sort_by_key(|f| f.span.start);
    p.found.dedup();
    p.found
}

/// Whether a question about a state tells the things of one declaration apart.
#[must_use]
pub fn tells_apart(model: &Model, def: &AlikeDef, body: &Body) -> bool {
    let mut p = Prover { model, def, fns: vec![Other; model.fns.len()], found: vec![] };
    p.functions();
    let fl = p.flavours_of(&body.locals, 0, &[], &[&body.expr]);
    p.expr(&body.expr, &fl);
    !p.found.is_empty()
}

struct Prover<'m> {
    model: &'m Model,
    def: &'m AlikeDef,
    fns: Vec<Flavour>,
    found: Vec<Finding>,
}

impl Prover<'_> {
    fn find(&mut self, span: Span, how: &str) {
        self.found.push(Finding { span, how: how.into() });
    }

    /// The flavours of what functions give. None recurses: what is true has come through after as many rounds as there
    /// are functions.
    fn functions(&mut self) {
        for _ in 0..self.model.fns.len().min(64) {
            for (i, f) in self.model.fns.iter().enumerate() {
                let fl = self.flavours_of(&f.locals, f.params, &[], &[&f.body]);
                self.fns[i] = self.flavour(&f.body, &fl);
            }
        }
    }

    /// What cannot be renamed at all.
    fn types(&mut self) {
        let span = self.def.span;
        match &self.def.kind {
            Kind::Values(e, _) => {
                if self.model.shapes.iter().any(|s| s.kind == *e) {
                    self.find(span, "shapes differ in what they cover");
                }
            }
            Kind::Numbers { carriers, .. } => {
                for &v in carriers {
                    if !matches!(self.model.vars[v].dom.scalar(), Scalar::Int | Scalar::Maybe(Base::Int)) {
                        self.find(self.model.vars[v].span, "this holds no numbers");
                    }
                }
            }
        }
        let carried = |v: &VarDef, i: VarId| v.rearranged.is_some() && self.carries(i);
        if let Some((_, v)) = self.model.variables().find(|(i, v)| carried(v, *i)) {
            self.find(v.span, "a rearranged grid is packed by its values");
        }
    }

    /// Whether the values of a variable are (or may be) the like things.
    fn carries(&self, v: VarId) -> bool {
        carries(self.model, self.def, v)
    }

    fn is_keyed(&self, ty: Ty) -> bool {
        match ty {
            Ty::Array(k, _) | Ty::Lists(k, ..) => is_key(self.model, self.def, k),
            _ => false,
        }
    }

    fn is_like_range(&self, lo: &Expr, hi: &Expr) -> bool {
        match &self.def.kind {
            Kind::Numbers { lo: a, hi: b, .. } => lo.says_same(a) && hi.says_same(b),
            Kind::Values(..) => false,
        }
    }

    fn is_like_dom(&self, dom: &Dom) -> bool {
        match dom {
            Dom::Range(lo, hi) => self.is_like_range(lo, hi),
            Dom::Maybe(d) => self.is_like_dom(d),
            _ => false,
        }
    }

    /// Whether running over this is running over the like things themselves.
    fn runs_over(&self, over: &Range) -> bool {
        match (over, &self.def.kind) {
            (Range::Ints(lo, hi), Kind::Numbers { .. }) => self.is_like_range(lo, hi),
            (Range::Enum(e), Kind::Values(k, _)) => e == k,
            // Running over all records: the upper end has their type.
            (Range::Ints(_, hi), Kind::Values(k, _)) => {
                matches!(hi.ty, Ty::Record(r) if holds(self.model, r, *k))
            }
            _ => false,
        }
    }

    /// Whether the order in which this runs depends on how they are named.
    fn is_ordered(&self, over: &Range, fl: &[Flavour]) -> bool {
        match over {
            Range::List(e) => matches!(e.ty, Ty::List(_, true)) && self.flavour(e, fl) != Plain,
            _ => self.runs_over(over),
        }
    }

    /// The flavour of what a loop runs over.
    fn elements(&self, over: &Range, fl: &[Flavour]) -> Flavour {
        match over {
            Range::List(e) => self.flavour(e, fl),
            _ if self.runs_over(over) => Like,
            _ => Plain,
        }
    }

    fn flavour(&self, e: &Expr, fl: &[Flavour]) -> Flavour {
        if let Kind::Values(k, class) = &self.def.kind {
            let of_scalar = |s: Scalar| is_or_holds(self.model, s, *k);
            let is = match e.ty {
                Ty::Enum(_) | Ty::Record(_) | Ty::Maybe(_) => e.ty.scalar().is_some_and(of_scalar),
                Ty::Grid(s) | Ty::Array(_, s) | Ty::List(s, _) | Ty::Lists(_, s, _) => of_scalar(s),
                _ => false,
            };
            return match e.kind {
                Ek::Const(v) if is && !class.contains(&v) => Other,
                _ if is => Like,
                _ => Plain,
            };
        }
        let Kind::Numbers { lo, hi, carriers, except } = &self.def.kind else { return Plain };
        match &e.kind {
            Ek::Const(NONE) => Other,
            // Constants are never keys.
            Ek::Const(_) if carriers.is_empty() => Plain,
            Ek::Const(v) => {
                let below = matches!(lo.kind, Ek::Const(lo) if *v < lo);
                let above = matches!(hi.kind, Ek::Const(hi) if *v > hi);
                if below || above { Other } else { Plain }
            }
            Ek::Var(_, v) if self.carries(*v) => Like,
            Ek::Var(..) if except.iter().any(|x| x.says_same(e)) => Other,
            Ek::Index(b, _) | Ek::Entry(b, _) | Ek::End(b, _) => self.flavour(b, fl),
            Ek::IndexOutside(b, _, out) => self.flavour(b, fl).max(self.flavour(out, fl)),
            Ek::Local(l) => fl.get(l.0).copied().unwrap_or(Plain),
            Ek::Within(a, _) | Ek::Given(a) => self.flavour(a, fl),
            Ek::Cond(_, a, b) => self.flavour(a, fl).max(self.flavour(b, fl)),
            Ek::Call(f, _) => self.fns[f.0],
            Ek::Quant(q) => match q.kind {
                crate::syntax::tree::QuantKind::First | crate::syntax::tree::QuantKind::The => {
                    fl.get(q.local.0).copied().unwrap_or(Plain)
                }
                crate::syntax::tree::QuantKind::List => match &q.body {
                    Some(b) => self.flavour(b, fl),
                    None => fl.get(q.local.0).copied().unwrap_or(Plain),
                },
                _ => Plain,
            },
            _ => Plain,
        }
    }

    /// The flavours of the local names of a body: what is ever put into them.
    fn flavours_of(
        &self,
        locals: &[LocalDef],
        params: usize,
        block: &[Stmt],
        exprs: &[&Expr],
    ) -> Vec<Flavour> {
        let mut fl = vec![Other; locals.len()];
        for (f, l) in fl.iter_mut().zip(locals).take(params) {
            *f = if l.dom.as_ref().is_some_and(|d| self.is_like_dom(d)) { Like } else { Plain };
        }
        loop {
            let old = fl.clone();
            let mut put = |l: LocalId, f: Flavour| {
                if let Some(x) = fl.get_mut(l.0) {
                    *x = (*x).max(f);
                }
            };
            let mut bind = |e: &Expr| {
                e.each(&mut |e| match &e.kind {
                    Ek::Quant(q) => put(q.local, self.elements(&q.over, &old)),
                    Ek::Flood(f) => {
                        put(f.local, Plain);
                        f.next.iter().for_each(|l| put(*l, Plain));
                    }
                    _ => {}
                });
            };
            for e in exprs {
                bind(e);
            }
            for s in block {
                s.each(&mut |s| s.exprs().into_iter().for_each(&mut bind));
            }
            for s in block {
                s.each(&mut |s| match &s.kind {
                    St::Assign(t, e) => {
                        if let Some(l) = t.local() {
                            put(l, self.flavour(e, &old));
                        }
                    }
                    St::Swap(a, b) => {
                        if let (Some(l), Some(v)) = (a.local(), b.var()) {
                            put(l, if self.carries(v) { Like } else { Plain });
                        }
                        if let (Some(l), Some(v)) = (b.local(), a.var()) {
                            put(l, if self.carries(v) { Like } else { Plain });
                        }
                    }
                    St::For { local, over, .. } => put(*local, self.elements(over, &old)),
                    St::CutOut { local, .. } => put(*local, Plain),
                    St::Draw { local, from, .. } => match from {
                        DrawFrom::Range { over, .. } => put(*local, self.elements(over, &old)),
                        DrawFrom::Values(vs) => {
                            vs.iter().for_each(|(v, _)| put(*local, self.flavour(v, &old)));
                        }
                    },
                    St::NewList { local, value: Some(v), .. } => put(*local, self.flavour(v, &old)),
                    St::Push(ListRef::Local(l), e) => put(*l, self.flavour(e, &old)),
                    St::Take(_, from, ListRef::Local(l)) => put(*l, self.list(from, &old)),
                    _ => {}
                });
            }
            if fl == old {
                return fl;
            }
        }
    }

    fn list(&self, list: &ListRef, fl: &[Flavour]) -> Flavour {
        match list {
            ListRef::Local(l) => fl[*l],
            ListRef::Var(v) | ListRef::VarAt(v, _) => {
                if self.carries(*v) {
                    Like
                } else {
                    Plain
                }
            }
        }
    }

    fn target(&self, t: &Target, fl: &[Flavour]) -> Flavour {
        match (t.local(), t.var()) {
            (Some(l), _) => fl[l],
            (_, Some(v)) if self.carries(v) => Like,
            _ => Plain,
        }
    }

    /// A value that is used as a number, or in any way that is not followed.
    fn plain(&mut self, e: &Expr, fl: &[Flavour]) {
        if self.is_numbers() && matches!(e.ty, Ty::Int | Ty::List(..)) && self.flavour(e, fl) == Like {
            self.find(e.span, "one of them is used as a plain number");
        }
    }

    fn is_numbers(&self) -> bool {
        matches!(self.def.kind, Kind::Numbers { .. })
    }

    /// A value goes to where one of them, or a plain number, is wanted.
    fn flows(&mut self, value: &Expr, wants: Flavour, fl: &[Flavour]) {
        if !self.is_numbers()
            || !matches!(value.ty, Ty::Int | Ty::List(..) | Ty::Maybe(Base::Int) | Ty::Nothing)
        {
            return;
        }
        match (wants, self.flavour(value, fl)) {
            (Like, Plain) => self.find(value.span, "a plain number becomes one of them"),
            (Plain, Like) => self.find(value.span, "one of them is used as a plain number"),
            _ => {}
        }
    }

    fn index(&mut self, keyed: bool, index: &Expr, fl: &[Flavour]) {
        if !self.is_numbers() || index.ty != Ty::Int {
            return;
        }
        let index = key(index);
        match (keyed, self.flavour(index, fl)) {
            (true, Plain) => self.find(index.span, "one of them is picked by its number"),
            (false, Like) => self.find(index.span, "one of them is used as a plain number"),
            _ => {}
        }
    }

    fn args(&mut self, params: Vec<Flavour>, args: &[Expr], fl: &[Flavour]) {
        for (wants, a) in params.into_iter().zip(args) {
            self.flows(a, wants, fl);
        }
    }

    fn param_flavours(&self, locals: &[LocalDef], params: usize) -> Vec<Flavour> {
        self.flavours_of(&locals[..params.min(locals.len())], params, &[], &[])
    }

    fn expr(&mut self, e: &Expr, fl: &[Flavour]) {
        let e = key(e);
        match &e.kind {
            Ek::Const(v) => {
                if let Kind::Values(k, class) = &self.def.kind
                    && e.ty == Ty::Enum(*k)
                    && class.contains(v)
                {
                    let name = self.model.enums[*k].values[*v as usize].clone();
                    self.find(e.span, &format!("`{name}` is named"));
                }
            }
            Ek::Var(When::Start, v) => {
                let keyed = self.is_keyed(self.model.vars[*v].ty());
                if self.carries(*v) || keyed {
                    self.find(e.span, "the start may tell them apart");
                }
            }
            Ek::Cmp(op, a, b) => {
                let (fa, fb) = (self.flavour(a, fl), self.flavour(b, fl));
                if fa == Like || fb == Like {
                    let equal = matches!(op, Cmp::Eq | Cmp::Ne);
                    if equal && (fa == Plain || fb == Plain) {
                        let span = if fa == Plain { a.span } else { b.span };
                        self.find(span, "one of them is compared with a number");
                    } else if !equal && !self.is_all_on_one_side(*op, a, b) {
                        self.find(e.span, "they are compared by size");
                    }
                }
            }
            Ek::SameBlock(a, b, _) => {
                let (fa, fb) = (self.flavour(a, fl), self.flavour(b, fl));
                if (fa == Like) != (fb == Like) {
                    self.find(e.span, "they are compared with plain numbers");
                }
            }
            Ek::Index(base, i) => {
                self.index(self.is_keyed(base.ty), i, fl);
            }
            Ek::InList(v, list) => {
                let (fv, f) = (self.flavour(v, fl), self.flavour(list, fl));
                if self.is_numbers() && fv.max(f) == Plain && fv.min(f) == Like {
                    self.find(e.span, "they are compared with plain numbers");
                }
            }
            Ek::Call(f, args) => {
                let def = &self.model.fns[*f];
                let params = self.param_flavours(&def.locals, def.params);
                self.args(params, args, fl);
            }
            Ek::Can(Some((m, args))) | Ek::Leads(_, Some((m, args)), _) => {
                let def = &self.model.moves[*m];
                let params = self.param_flavours(&def.locals, def.params.len());
                self.args(params, args, fl);
            }
            Ek::Quant(q) => {
                use crate::syntax::tree::QuantKind as Q;
                if matches!(q.kind, Q::First | Q::List) && self.is_ordered(&q.over, fl) {
                    self.find(e.span, "this takes them in an order");
                }
                if let (Q::Sum | Q::Min | Q::Max, Some(b)) = (q.kind, &q.body) {
                    self.plain(b, fl);
                }
            }
            Ek::Builtin(Builtin::Parity, args) => {
                if self.flavour(&args[0], fl) == Like {
                    self.find(e.span, "renaming them changes the parity");
                }
            }
            Ek::And(a, _) if self.is_excluded(a) => return self.expr(a, fl),
            Ek::Builtin(Builtin::ListLen | Builtin::Distinct, _) => {}
            Ek::Within(..) | Ek::Given(_) | Ek::Cond(..) | Ek::And(..) | Ek::Or(..) | Ek::Not(_) => {}
            Ek::IndexOutside(..) | Ek::End(..) => {}
            Ek::Entry(_, i) => self.plain(i, fl),
            _ => {
                for part in e.parts() {
                    self.plain(part, fl);
                }
            }
        }
        for part in e.parts() {
            self.expr(part, fl);
        }
    }

    /// `0 < x` and the like: the same for all of them.
    fn is_all_on_one_side(&self, op: Cmp, a: &Expr, b: &Expr) -> bool {
        let Kind::Numbers { lo, hi, .. } = &self.def.kind else { return false };
        let lo = if let Ek::Const(lo) = lo.kind { Some(lo) } else { None };
        let hi = if let Ek::Const(hi) = hi.kind { Some(hi) } else { None };
        match (&a.kind, &b.kind, op) {
            // c < x: all of them, or none.
            (Ek::Const(c), _, Cmp::Lt) => lo.is_some_and(|lo| *c < lo) || hi.is_some_and(|hi| *c >= hi),
            (Ek::Const(c), _, _) => lo.is_some_and(|lo| *c <= lo) || hi.is_some_and(|hi| *c > hi),
            (_, Ek::Const(c), Cmp::Lt) => lo.is_some_and(|lo| *c <= lo) || hi.is_some_and(|hi| *c > hi),
            (_, Ek::Const(c), _) => lo.is_some_and(|lo| *c < lo) || hi.is_some_and(|hi| *c >= hi),
            _ => false,
        }
    }

    fn block(&mut self, block: &[Stmt], fl: &[Flavour]) {
        for stmt in block {
            self.stmt(stmt, fl);
        }
    }

    /// Whether a condition cannot hold where the declaration does: they want the opposite of one level value.
    fn is_excluded(&self, cond: &Expr) -> bool {
        fn parts<'e>(e: &'e Expr, truth: bool, out: &mut Vec<(&'e Expr, bool)>) {
            match &e.kind {
                Ek::And(a, b) if truth => {
                    parts(a, true, out);
                    parts(b, true, out);
                }
                Ek::Not(a) => parts(a, !truth, out),
                Ek::Var(When::Now, _) => out.push((e, truth)),
                _ => {}
            }
        }
        let (mut when, mut here) = (vec![], vec![]);
        if let Some(w) = &self.def.when {
            parts(w, true, &mut when);
        }
        parts(cond, true, &mut here);
        let is_level = |e: &Expr| matches!(e.kind, Ek::Var(_, v) if !self.model.vars[v].state);
        here.iter().any(|(e, truth)| is_level(e) && when.iter().any(|(w, t)| t != truth && w.says_same(e)))
    }

    fn stmt(&mut self, stmt: &Stmt, fl: &[Flavour]) {
        let span = stmt.span;
        match &stmt.kind {
            St::If(cond, _, other) if self.is_excluded(cond) => {
                self.expr(cond, fl);
                return self.block(other, fl);
            }
            St::Repeat { cond, .. } if self.is_excluded(cond) => return self.expr(cond, fl),
            _ => {}
        }
        let mut complete = false;
        match &stmt.kind {
            St::Assign(t, e) => {
                self.spot(t, fl);
                self.flows(e, self.target(t, fl), fl);
            }
            St::Swap(a, b) => {
                self.spot(a, fl);
                self.spot(b, fl);
                let (fa, fb) = (self.target(a, fl), self.target(b, fl));
                if self.is_numbers() && fa.max(fb) == Plain && fa.min(fb) == Like {
                    self.find(span, "one of them is used as a plain number");
                }
            }
            St::For { local, over, body, .. }
                if self.is_ordered(over, fl) && !self.is_apart(*local, body) =>
            {
                self.find(span, "this takes them in an order, and the order may matter: one round may read what another one writes");
            }
            St::Draw { local, from, into, .. } => {
                if let Some(t) = into {
                    self.spot(t, fl);
                }
                if let DrawFrom::Values(values) = from {
                    complete = self.is_complete(values);
                    for (_, w) in values {
                        self.plain(w, fl);
                    }
                }
                let (have, wants) = (fl[*local], into.as_ref().map(|t| self.target(t, fl)));
                if self.is_numbers()
                    && let Some(wants) = wants
                    && have.max(wants) == Plain
                    && have.min(wants) == Like
                {
                    self.find(span, "a plain number becomes one of them, or the other way round");
                }
            }
            St::Push(l, e) | St::Drop(l, e) => {
                self.list_spot(l, fl);
                self.flows(e, self.list(l, fl), fl);
            }
            St::Pop(l) | St::Clear(l) => self.list_spot(l, fl),
            St::Take(n, a, b) => {
                self.list_spot(a, fl);
                self.list_spot(b, fl);
                self.plain(n, fl);
                let (fa, fb) = (self.list(a, fl), self.list(b, fl));
                if self.is_numbers() && fa.max(fb) == Plain && fa.min(fb) == Like {
                    self.find(span, "one of them is used as a plain number");
                }
            }
            St::Write { parts, fill, into, .. } => {
                let wants = self.target(into, fl);
                for part in parts.iter().chain([fill]) {
                    self.flows(part, wants, fl);
                }
            }
            St::CutOut { fill: e, into, .. } | St::Insert { row: e, into, .. } => {
                self.flows(e, self.target(into, fl), fl);
            }
            St::Repeat { bound: e, .. } | St::Score(e) | St::Tally(_, e) | St::NewList { max: e, .. } => {
                self.plain(e, fl);
            }
            St::Call(p, args) => {
                let def = &self.model.procs[*p];
                let params = self.param_flavours(&def.locals, def.params);
                self.args(params, args, fl);
            }
            _ => {}
        }
        for e in stmt.exprs() {
            // Drawing each of them with the same weight names none.
            if !(complete && matches!(e.kind, Ek::Const(_))) {
                self.expr(e, fl);
            }
        }
        for block in stmt.blocks() {
            self.block(block, fl);
        }
    }

    fn spot(&mut self, t: &Target, fl: &[Flavour]) {
        match t {
            Target::VarAt(v, i) => {
                let keyed = self.is_keyed(self.model.vars[*v].ty());
                self.index(keyed, i, fl);
            }
            Target::LocalAt(_, i) => self.plain(i, fl),
            Target::Entry(list, spot) => {
                self.list_spot(list, fl);
                if let Spot::At(i) = spot {
                    self.plain(i, fl);
                }
            }
            _ => {}
        }
    }

    fn list_spot(&mut self, list: &ListRef, fl: &[Flavour]) {
        if let ListRef::VarAt(v, i) = list {
            let keyed = self.is_keyed(self.model.vars[*v].ty());
            self.index(keyed, i, fl);
        }
    }

    /// Whether all of them are drawn, each with the same weight.
    fn is_complete(&self, values: &[(Expr, Expr)]) -> bool {
        let Kind::Values(_, class) = &self.def.kind else { return false };
        let mut weights: Vec<i64> = vec![0; class.len()];
        for (v, w) in values {
            let (Ek::Const(v), Ek::Const(w)) = (&v.kind, &w.kind) else { return false };
            if let Some(i) = class.iter().position(|c| c == v) {
                weights[i] += w;
            }
        }
        weights.windows(2).all(|w| w[0] == w[1])
    }

    /// Whether each round of a loop touches only what belongs to its own key.
    fn is_apart(&self, local: LocalId, body: &[Stmt]) -> bool {
        let own = |e: &Expr| matches!(key(e).kind, Ek::Local(l) if l == local);
        let mut good = true;
        let mut written: Vec<VarId> = vec![];
        let target = |t: &Target| match t {
            Target::VarAt(v, i) => self.is_keyed(self.model.vars[*v].ty()) && own(i),
            Target::Entry(ListRef::VarAt(_, i), _) => own(i),
            _ => t.local().is_some_and(|l| l > local),
        };
        let list = |l: &ListRef| match l {
            ListRef::VarAt(_, i) => own(i),
            ListRef::Local(l) => *l > local,
            ListRef::Var(_) => false,
        };
        for s in body {
            s.each(&mut |s| {
                written.extend(s.written());
                good &= match &s.kind {
                    St::Assign(t, _) | St::Write { into: t, .. } => target(t),
                    St::Swap(a, b) => target(a) && target(b),
                    St::Push(l, _) | St::Drop(l, _) | St::Pop(l) | St::Clear(l) => list(l),
                    St::Take(_, a, b) => list(a) && list(b),
                    St::NewList { .. } | St::If(..) | St::For { .. } | St::Phase(..) | St::Note(..) => true,
                    St::Score(_) | St::Tally(..) => true,
                    _ => false,
                };
            });
        }
        // What is written is read at the own key only.
        let mut exprs: Vec<&Expr> = vec![];
        for s in body {
            s.each(&mut |s| exprs.extend(s.exprs()));
        }
        good && exprs.into_iter().all(|e| reads_apart(e, &written, &own))
    }
}

/// Whether an expression reads what a loop writes at the loop's own key only.
pub(crate) fn reads_apart(e: &Expr, written: &[VarId], own: &dyn Fn(&Expr) -> bool) -> bool {
    match &e.kind {
        Ek::Var(When::Now, v) => !written.contains(v),
        Ek::Index(base, i) if matches!(base.kind, Ek::Var(When::Now, _)) && own(i) => true,
        // Functions may read anything.
        Ek::Call(..) => written.is_empty(),
        _ => e.parts().into_iter().all(|p| reads_apart(p, written, own)),
    }
}

/// Whether a record has a part that is a value of an enum.
fn holds(model: &Model, record: RecordId, of: usize) -> bool {
    model.records[record].parts.iter().any(|(_, d)| d.scalar() == Scalar::Enum(of))
}

/// Whether values of a type are values of an enum, or records with such a part.
fn is_or_holds(model: &Model, scalar: Scalar, of: usize) -> bool {
    match scalar {
        Scalar::Enum(e) | Scalar::Maybe(Base::Enum(e)) => e == of,
        Scalar::Record(r) | Scalar::Maybe(Base::Record(r)) => holds(model, r, of),
        _ => false,
    }
}

/// Whether the values of a variable are the like things.
pub(crate) fn carries(model: &Model, def: &AlikeDef, v: VarId) -> bool {
    let var = &model.vars[v];
    match &def.kind {
        Kind::Values(e, _) => is_or_holds(model, var.dom.scalar(), *e),
        Kind::Numbers { carriers, .. } => {
            carriers.contains(&v) || var.shadow_of.is_some_and(|of| carriers.contains(&of))
        }
    }
}

pub(crate) fn is_key(model: &Model, def: &AlikeDef, key: Keyed) -> bool {
    match (&def.kind, key) {
        (Kind::Values(e, _), Keyed::Enum(k)) => *e == k,
        (Kind::Numbers { lo, hi, .. }, Keyed::Range(r)) => {
            lo.says_same(&model.ranges[r].0) && hi.says_same(&model.ranges[r].1)
        }
        _ => false,
    }
}
