//! Draws, and what changes lists and whole rows.

use super::*;

impl Checker<'_> {
    pub(super) fn draw(&mut self, stmt: &tree::Stmt, rest: &[tree::Stmt]) -> Option<St> {
        let S::Draw { name, ty, target, from, other } = &stmt.kind else { return None };
        if self.place == Place::Fn {
            self.error("M046", stmt.span, "a function draws nothing").notes.push("draw in a move".into());
        }
        let want = match ty {
            Some(t) => self.dom(t),
            None => None,
        };
        let into = match target {
            Some(t) => Some(self.target(t)?),
            None => None,
        };
        let want_ty = want.as_ref().map(|d| d.scalar().ty()).or(into.as_ref().map(|i| i.1));
        let (local, from) = match from {
            tree::DrawFrom::Range { binder, weight } => {
                let (local, over, filter) = self.binder(binder);
                let weight = weight.as_ref().map(|w| {
                    let w = self.expr(w);
                    self.coerce(w, Ty::Int)
                });
                (local, DrawFrom::Range { over, filter, weight })
            }
            tree::DrawFrom::Values(values) => {
                let mut out = vec![];
                let mut elem = want_ty;
                for (v, w) in values {
                    let v = self.expr(v);
                    let ty = *elem.get_or_insert(v.ty);
                    if ty.is_block() {
                        self.error("M020", v.span, "single values are drawn");
                        return None;
                    }
                    let mut v = self.coerce(v, ty);
                    if let Some(d) = &want {
                        v = within(v, d);
                    }
                    let w = match w {
                        Some(w) => {
                            let w = self.expr(w);
                            self.coerce(w, Ty::Int)
                        }
                        None => Expr { kind: Ek::Const(1), ty: Ty::Int, span: v.span },
                    };
                    if let Ek::Const(n) = w.kind
                        && n < 0
                    {
                        self.error("M050", w.span, "a weight is not negative");
                    }
                    out.push((v, w));
                }
                let name = name
                    .clone()
                    .unwrap_or(Name { text: format!("drawn {}", stmt.span.start), span: stmt.span });
                let local = self.bind(&name, elem.unwrap_or(Ty::Bad), false, None);
                (local, DrawFrom::Values(out))
            }
        };
        let have = self.scope.locals[local].ty;
        if let Some(want) = want_ty {
            let value = Expr { kind: Ek::Local(local), ty: have, span: stmt.span };
            if self.coerce(value, want).ty == Ty::Bad && have != Ty::Bad {
                return None;
            }
        }
        self.drawn = true;
        let (rest, other) = match other {
            None => (vec![], None),
            Some(other) => {
                let visible = self.scope.visible.clone();
                // Nothing was drawn there: the name means nothing.
                self.scope.visible.retain(|l| *l != local);
                let other = self.block(other);
                self.scope.visible = visible;
                (self.statements(rest), Some(other))
            }
        };
        Some(St::Draw { local, from, into: into.map(|i| i.0), rest, other })
    }

    /// A list that a statement changes.
    pub(super) fn list_target(&mut self, e: &A) -> Option<(ListRef, Scalar, bool)> {
        let (target, ty) = self.target(e)?;
        let Ty::List(elem, bag) = ty else {
            if ty != Ty::Bad {
                let message = format!("a list is wanted, this is {}", self.tn(ty));
                self.error("M020", e.span, message);
            }
            return None;
        };
        let list = match target {
            Target::Local(l) => ListRef::Local(l),
            Target::Var(v) => ListRef::Var(v),
            Target::VarAt(v, i) => ListRef::VarAt(v, i),
            _ => return None,
        };
        Some((list, elem, bag))
    }

    pub(super) fn list_dom(&self, list: &ListRef) -> Option<Dom> {
        match list {
            ListRef::Local(l) => self.scope.locals[*l].dom.clone(),
            // Ranges of variables are checked where they are stored.
            ListRef::Var(_) | ListRef::VarAt(..) => None,
        }
    }

    pub(super) fn method(&mut self, e: &A) -> Option<St> {
        let K::Method(base, name, args) = &e.kind else { return None };
        let (list, elem, bag) = self.list_target(base)?;
        let wants = match name.text.as_str() {
            "push" => 1,
            "pop" | "clear" => 0,
            other => {
                let known = ["push", "pop", "clear"];
                let near = near(other, known)
                    .map_or("lists have push, pop and clear".into(), |n| format!("did you mean `{n}`?"));
                self.error("M051", name.span, format!("a list has no `{other}`")).notes.push(near);
                return None;
            }
        };
        if args.len() != wants {
            let message = format!("`{}` takes {wants} values, {} are given", name.text, args.len());
            self.error("M024", name.span, message);
            return None;
        }
        if bag && name.text != "clear" {
            self.error("M051", name.span, "the things in a bag have no order")
                .notes
                .push("write `add x to bag` and `remove x from bag`".into());
            return None;
        }
        Some(match name.text.as_str() {
            "push" => {
                let value = self.expr(&args[0]);
                let mut value = self.coerce(value, elem.ty());
                if let Some(dom) = self.list_dom(&list) {
                    value = within(value, &dom);
                }
                St::Push(list, value)
            }
            "pop" => St::Pop(list),
            _ => St::Clear(list),
        })
    }

    /// A grid that is written lane by lane: a state variable or a local one.
    pub(super) fn grid_target(&mut self, e: &A) -> Option<(Target, Ty)> {
        let (target, ty) = self.target(e)?;
        match ty {
            Ty::Grid(s) => Some((target, s.ty())),
            Ty::Set => Some((target, Ty::Bool)),
            Ty::Bad => None,
            _ => {
                let message = format!("a grid is wanted, this is {}", self.tn(ty));
                self.error("M020", e.span, message);
                None
            }
        }
    }

    /// A side of the board, by name.
    pub(super) fn side(&mut self, e: &A, sides: &[&str]) -> Option<Expr> {
        let dir = self.expr(e);
        let dir = self.coerce(dir, Ty::Dir);
        match dir.kind {
            Ek::Const(d) if sides.contains(&DIRS[d as usize]) => Some(dir),
            _ => {
                self.error("M053", e.span, "the side where something comes in is named here")
                    .notes
                    .push(format!("write one of: {}", sides.join(", ")));
                None
            }
        }
    }
}
