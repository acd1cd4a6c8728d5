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
        }
        let doms = self.params(params);
        let offers_len = body.iter().take_while(|s| matches!(s.kind, S::Offer(_))).count();
        let mut offers = vec![];
        for stmt in &body[..offers_len] {
            if let S::Offer(e) = &stmt.kind {
                let e = self.expr(e);
                let e = self.coerce(e, Ty::Bool);
                self.note_facts(&e, true);
                offers.push(e);
            }
        }
        let body = self.block(&body[offers_len..]);
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

    pub(super) fn bind(&mut self, name: &Name, ty: Ty, mutable: bool, dom: Option<Dom>) -> usize {
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
        } else if BUILTINS.contains(&name.text.as_str()) || DIRS.contains(&name.text.as_str()) {
            self.error("M001", name.span, format!("`{}` has a meaning of its own", name.text))
                .notes
                .push("choose another name".into());
        }
        let local = self.scope.locals.len();
        self.scope.locals.push(LocalDef { name: name.text.clone(), ty, mutable, dom, span: name.span });
        self.scope.visible.push(local);
        local
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
            Ek::OnBoard(p) if truth => {
                if let Ek::Local(l) = p.kind
                    && !self.scope.locals[l].mutable
                {
                    self.scope.on_board.push(l);
                }
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
