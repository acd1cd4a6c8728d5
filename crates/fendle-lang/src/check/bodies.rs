//! Functions, procedures and moves; local names, and what is known of them along the way.

use super::*;

impl Checker<'_> {
    // ---- bodies ----

    /// An expression outside any body: no locals of its own survive.
    pub(super) fn lone(&mut self, e: &A, place: Place) -> Expr {
        let scope = std::mem::take(&mut self.scope);
        let old = std::mem::replace(&mut self.place, place);
        let out = self.expr(e);
        self.scope = scope;
        self.place = old;
        out
    }

    pub(super) fn body(&mut self, e: &A, place: Place, want: Ty) -> Body {
        let scope = std::mem::take(&mut self.scope);
        let old = std::mem::replace(&mut self.place, place);
        let expr = self.expr(e);
        let expr = self.coerce(expr, want);
        let locals = std::mem::replace(&mut self.scope, scope).locals;
        self.place = old;
        Body { expr, locals }
    }

    pub(super) fn condition(&mut self, e: &A, place: Place) -> Body {
        self.body(e, place, Ty::Bool)
    }

    pub(super) fn quantity(&mut self, e: &A) -> Body {
        self.body(e, Place::Cond, Ty::Int)
    }

    pub(super) fn function(&mut self, i: usize, call: Option<Span>) -> Option<Ty> {
        if self.busy.contains(&i) {
            let name = self.fn_asts[i].name.clone();
            self.error("M015", call.unwrap_or(name.span), format!("`{}` calls itself", name.text))
                .notes
                .push("functions cannot recurse; use `flood`, `for` or `repeat at most`".into());
            return None;
        }
        if let Some(ty) = self.fns[i].as_ref().map(|f| f.body.ty) {
            let at = call.unwrap_or(self.fn_asts[i].name.span);
            return self.may_nest(self.fn_heights[i], at).then_some(ty);
        }
        self.busy.push(i);
        let outer = std::mem::replace(&mut self.deepest, self.nesting);
        let scope = std::mem::take(&mut self.scope);
        let place = std::mem::replace(&mut self.place, Place::Fn);
        let FnTree { name, params, result, body } = self.fn_asts[i].clone();
        self.params(&params);
        let body = self.expr(&body);
        let body = match &result {
            Some(ty) => self.result(body, ty),
            None => body,
        };
        // A grid of bools is given as the set of cells that it is.
        let body = if body.ty == Ty::Grid(Scalar::Bool) { Expr { ty: Ty::Set, ..body } } else { body };
        let ty = body.ty;
        if ty.is_block() && ty != Ty::Set {
            self.error("M014", body.span, "a function gives a single value or a set of cells");
        }
        let locals = std::mem::replace(&mut self.scope, scope).locals;
        self.place = place;
        self.fn_heights[i] = self.deepest - self.nesting;
        self.deepest = self.deepest.max(outer);
        self.busy.pop();
        self.fns[i] = Some(FnDef { name: name.text, params: params.len(), locals, body });
        Some(ty)
    }

    /// What a function gives, held to the type that it is declared to give.
    fn result(&mut self, body: Expr, ty: &tree::Type) -> Expr {
        match &ty.kind {
            tree::TypeKind::Named(n) if n == "place" => self.coerce(body, Ty::Place),
            tree::TypeKind::Set => self.coerce(body, Ty::Set),
            _ => match self.dom(ty) {
                Some(dom) => {
                    let value = self.coerce(body, dom.scalar().ty());
                    within(value, &dom)
                }
                None => body,
            },
        }
    }

    /// Whether so many more levels may be nested here; says once where they may not.
    pub(super) fn may_nest(&mut self, levels: u32, span: Span) -> bool {
        self.deepest = self.deepest.max(self.nesting + levels);
        if self.nesting + levels <= NESTING_MAX {
            return true;
        }
        if !std::mem::replace(&mut self.too_deep, true) {
            self.error("M085", span, "calls are nested too deeply here").notes.push(format!(
                "what a function calls counts where it is called; at most {NESTING_MAX} levels are followed"
            ));
        }
        false
    }

    pub(super) fn procedure(&mut self, i: usize, call: Option<Span>) {
        if self.proc_busy.contains(&i) {
            let (name, ..) = self.proc_asts[i].clone();
            self.error("M015", call.unwrap_or(name.span), format!("`{}` calls itself", name.text))
                .notes
                .push("procedures cannot recurse; use `for` or `repeat at most`".into());
            return;
        }
        if self.procs[i].is_some() {
            let at = call.unwrap_or(self.proc_asts[i].0.span);
            self.may_nest(self.proc_heights[i], at);
            return;
        }
        self.proc_busy.push(i);
        let outer = std::mem::replace(&mut self.deepest, self.nesting);
        let scope = std::mem::take(&mut self.scope);
        let place = std::mem::replace(&mut self.place, Place::Proc);
        let refused = std::mem::replace(&mut self.refused_here, false);
        let drawn = std::mem::replace(&mut self.drawn, false);
        let (name, params, body) = self.proc_asts[i].clone();
        self.params(&params);
        let body = self.block(&body);
        let locals = std::mem::replace(&mut self.scope, scope).locals;
        self.place = place;
        self.proc_refuses[i] = std::mem::replace(&mut self.refused_here, refused);
        self.proc_draws[i] = std::mem::replace(&mut self.drawn, drawn);
        self.proc_heights[i] = self.deepest - self.nesting;
        self.deepest = self.deepest.max(outer);
        self.proc_busy.pop();
        self.procs[i] = Some(ProcDef { name: name.text, params: params.len(), locals, body });
    }

    pub(super) fn move_def(&mut self, name: &Name, params: &[tree::Param], body: &tree::Block) -> MoveDef {
        self.scope = Scope::default();
        self.place = Place::Move;
        self.drawn = false;
        for p in params {
            if matches!(&p.ty.kind, tree::TypeKind::Named(n) if n == "place") {
                self.error("M016", p.ty.span, "a move's parameter is a cell, not a place");
            }
            if matches!(p.ty.kind, tree::TypeKind::Set) {
                self.error("M016", p.ty.span, "a move's parameters are single values")
                    .notes
                    .push("name a set of cells by one of its cells".into());
            }
        }
        let doms = self.params(params);
        // Offers come first; names given before one stand in it for their values.
        let is_head =
            |s: &&tree::Stmt| matches!(s.kind, S::Offer(_) | S::Let { ty: None, mutable: false, .. });
        let head = body.iter().take_while(is_head);
        let head_len = head.count();
        let last_offer = body[..head_len].iter().rposition(|s| matches!(s.kind, S::Offer(_)));
        let mut offers = vec![];
        let mut rest: tree::Block = vec![];
        let mut given: Vec<(String, A)> = vec![];
        for (i, stmt) in body.iter().enumerate() {
            match &stmt.kind {
                S::Offer(e) if Some(i) <= last_offer => {
                    let e = self.expr(&substitute(e, &given));
                    let e = self.coerce(e, Ty::Bool);
                    self.note_facts(&e, true);
                    offers.push(e);
                }
                S::Let { name, value, .. } if Some(i) <= last_offer => {
                    given.push((name.text.clone(), substitute(value, &given)));
                    rest.push(stmt.clone());
                }
                _ => rest.push(stmt.clone()),
            }
        }
        let body = self.block(&rest);
        let locals = std::mem::take(&mut self.scope).locals;
        MoveDef {
            name: name.text.clone(),
            params: doms,
            locals,
            offers,
            body,
            waiting: false,
            span: name.span,
        }
    }

    pub(super) fn bind(&mut self, name: &Name, ty: Ty, mutable: bool, dom: Option<Dom>) -> LocalId {
        let file = self.file;
        let clash = self
            .scope
            .visible
            .iter()
            .map(|&l| &self.scope.locals[l])
            .find(|l| l.name == name.text)
            .map(|l| l.span)
            .or_else(|| self.globals.get(&name.text).map(|g| g.1));
        if let Some(span) = clash {
            self.error("M002", name.span, format!("`{}` is already the name of something here", name.text))
                .labels
                .push(crate::source::Label { file, span, text: "declared here".into() });
        } else if self.is_taken(&name.text, true) {
            self.say_taken(name);
        }
        let local = LocalId(self.scope.locals.len());
        self.scope.locals.push(LocalDef { name: name.text.clone(), ty, mutable, dom, span: name.span });
        self.scope.visible.push(local);
        local
    }

    /// Whether a place is known to be a cell here.
    pub(super) fn is_known_cell(&self, place: &Expr) -> bool {
        self.scope.on_board.iter().any(|f| f.holds && f.place.says_same(place))
    }

    /// Whether an expression gives the same value until a variable that it reads is assigned to.
    fn is_steady(&self, e: &Expr) -> bool {
        let mut steady = true;
        e.each(&mut |e| {
            steady &= match &e.kind {
                Ek::Local(l) => !self.scope.locals[*l].mutable,
                Ek::Quant(_) | Ek::Flood(_) => false,
                _ => true,
            };
        });
        steady
    }

    /// Forgets what is known of places that depend on variables which these statements may change.
    pub(super) fn forget_changed(&mut self, block: &[tree::Stmt]) {
        if self.scope.on_board.is_empty() {
            return;
        }
        let mut changed = Some(vec![]);
        block.iter().for_each(|s| changed_by(s, &mut changed));
        let vars: Option<Vec<VarId>> = changed.map(|names| {
            let var = |n: &String| match self.globals.get(n) {
                Some(&(Global::Var(v), _)) => Some(v),
                _ => None,
            };
            names.iter().filter_map(var).collect()
        });
        let vars_of = |v: VarId| vars.as_ref().is_none_or(|vars| vars.contains(&v));
        let any = vars.as_ref().is_none_or(|v| !v.is_empty());
        let declared = &self.vars;
        for fact in &mut self.scope.on_board {
            fact.place.each(&mut |e| match &e.kind {
                Ek::Var(When::Now, v) if declared[*v].state && vars_of(*v) => fact.holds = false,
                Ek::Call(..) if any => fact.holds = false,
                _ => {}
            });
        }
    }

    /// Runs `f` with everything it binds or learns forgotten afterwards.
    pub(super) fn nested<T>(&mut self, f: impl FnOnce(&mut Self) -> T) -> T {
        let (visible, facts) = (self.scope.visible.len(), self.scope.on_board.len());
        let out = f(self);
        self.scope.visible.truncate(visible);
        self.scope.on_board.truncate(facts);
        out
    }

    /// Learns which places are cells when `e` is known to be `truth`.
    pub(super) fn note_facts(&mut self, e: &Expr, truth: bool) {
        match &e.kind {
            Ek::OnBoard(p) if truth && self.is_steady(p) => {
                self.scope.on_board.push(OnBoard { place: (**p).clone(), holds: true });
            }
            Ek::And(a, b) if truth => {
                self.note_facts(a, true);
                self.note_facts(b, true);
            }
            Ek::Or(a, b) if !truth => {
                self.note_facts(a, false);
                self.note_facts(b, false);
            }
            Ek::Not(a) => self.note_facts(a, !truth),
            _ => {}
        }
    }
}

/// The names of what a statement may assign to; `None` for anything.
fn changed_by(stmt: &tree::Stmt, names: &mut Option<Vec<String>>) {
    fn base(e: &A, names: &mut Option<Vec<String>>) {
        match &e.kind {
            K::Name(n) => names.iter_mut().for_each(|list| list.push(n.clone())),
            K::Index(e, _) | K::Field(e, _) | K::Method(e, ..) => base(e, names),
            _ => *names = None,
        }
    }
    let mut all =
        |blocks: &[&tree::Block]| blocks.iter().for_each(|b| b.iter().for_each(|s| changed_by(s, names)));
    match &stmt.kind {
        S::If { then, other, .. } => all(&[then, other]),
        S::For { body, .. } | S::Repeat { body, .. } | S::Phase { body, .. } => all(&[body]),
        S::Draw { target, other, .. } => {
            all(&other.iter().collect::<Vec<_>>());
            target.iter().for_each(|t| base(t, names));
        }
        S::Assign { target: e, .. }
        | S::Write { into: e, .. }
        | S::CutOut { grid: e, .. }
        | S::Insert { grid: e, .. }
        | S::Add(_, e)
        | S::Remove(_, e)
        | S::Method(e) => base(e, names),
        S::Swap(a, b) | S::Take { from: a, onto: b, .. } => {
            base(a, names);
            base(b, names);
        }
        S::Call(..) => *names = None,
        S::Let { .. }
        | S::Require { .. }
        | S::Offer(_)
        | S::Refuse { .. }
        | S::Judge
        | S::Win
        | S::Lose(_)
        | S::Stop(_)
        | S::Note { .. }
        | S::Score(_) => {}
    }
}

/// An expression with names replaced by what they stand for. No name means two things in one place, so none is caught.
fn substitute(e: &A, given: &[(String, A)]) -> A {
    if given.is_empty() {
        return e.clone();
    }
    let one = |e: &A| substitute(e, given);
    let boxed = |e: &A| Box::new(substitute(e, given));
    let list = |e: &[A]| e.iter().map(one).collect::<Vec<A>>();
    let kind = match &e.kind {
        K::Name(n) => match given.iter().find(|g| g.0 == *n) {
            Some((_, value)) => return value.clone(),
            None => e.kind.clone(),
        },
        K::Int(_) | K::Bool(_) | K::Empty | K::Lost | K::Board(_) => e.kind.clone(),
        K::Field(a, n) => K::Field(boxed(a), n.clone()),
        K::Index(a, b) => K::Index(boxed(a), boxed(b)),
        K::Outside(a, b) => K::Outside(boxed(a), boxed(b)),
        K::Not(a) => K::Not(boxed(a)),
        K::Neg(a) => K::Neg(boxed(a)),
        K::Bin(op, a, b) => K::Bin(*op, boxed(a), boxed(b)),
        K::Cond(a, b, c) => K::Cond(boxed(a), boxed(b), boxed(c)),
        K::Call(n, args) => K::Call(n.clone(), list(args)),
        K::Can(n, args) => K::Can(n.clone(), list(args)),
        K::Leads(wanted, n, args, c) => K::Leads(*wanted, n.clone(), list(args), boxed(c)),
        K::Method(a, n, args) => K::Method(boxed(a), n.clone(), list(args)),
        K::Record(n, parts) => K::Record(n.clone(), parts.iter().map(|(n, e)| (n.clone(), one(e))).collect()),
        K::Quant { kind, binder, body } => {
            let binder = tree::Binder {
                name: binder.name.clone(),
                on: binder.on,
                over: boxed(&binder.over),
                upto: binder.upto.as_ref().map(|e| boxed(e)),
                filter: binder.filter.as_ref().map(|e| boxed(e)),
            };
            K::Quant { kind: *kind, binder, body: body.as_ref().map(|e| boxed(e)) }
        }
        K::Flood { name, to, from, by, by_name, cond, rim } => K::Flood {
            name: name.clone(),
            to: to.clone(),
            from: boxed(from),
            by: list(by),
            by_name: by_name.clone(),
            cond: boxed(cond),
            rim: *rim,
        },
    };
    A { kind, span: e.span }
}
