//! What is hidden, what is known of it beforehand, and what is told.

use super::*;

impl Checker<'_> {
    /// What is known beforehand of a hidden variable.
    pub(super) fn prior(&mut self, name: &Name, prior: &tree::Prior) {
        let Some(&(Global::Var(v), _)) = self.globals.get(&name.text) else { return };
        let dom = self.vars[v].dom.clone();
        let single =
            matches!(self.vars[v].shape, Extent::Grid | Extent::Set | Extent::One | Extent::Array(_));
        if !single && self.vars[v].shuffled.is_none() {
            self.error("M063", name.span, "a grid, a set, an array, a single value or `rearranged LIST` can be hidden")
                .notes
                .push("a hidden list begins with the values of a list of the level: `hidden deck: rearranged cards`".into());
        }
        let each = prior.each.as_ref().map(|(cell, values)| {
            let scope = std::mem::take(&mut self.scope);
            let old = std::mem::replace(&mut self.place, Place::Cond);
            if let Some(cell) = cell {
                self.bind(cell, Ty::Cell, false, None);
            }
            let mut out = vec![];
            for (v, w) in values {
                let v = self.expr(v);
                let v = self.coerce(v, dom.scalar().ty());
                let w = match w {
                    Some(w) => {
                        let w = self.expr(w);
                        self.coerce(w, Ty::Int)
                    }
                    None => Expr { kind: Ek::Const(1), ty: Ty::Int, span: v.span },
                };
                out.push((v, w));
            }
            self.place = old;
            (out, std::mem::replace(&mut self.scope, scope).locals)
        });
        let with = prior.with.as_ref().map(|e| self.condition(e, Place::Cond));
        self.vars[v].prior = Some(Prior { each, with });
    }

    pub(super) fn tell(
        &mut self,
        name: Option<&Name>,
        (value, binder, when): (&A, Option<&tree::Binder>, Option<&A>),
        span: Span,
    ) -> TellDef {
        let name = match (name, &value.kind) {
            (Some(n), _) => n.text.clone(),
            (None, K::Call(f, _)) => f.text.clone(),
            (None, K::Index(base, _)) if matches!(base.kind, K::Name(_)) => match &base.kind {
                K::Name(n) => n.clone(),
                _ => "told".into(),
            },
            _ => "told".into(),
        };
        self.scope = Scope::default();
        self.place = Place::Cond;
        let (over, filter) = match binder {
            Some(b) => {
                let (local, over, filter) = self.binder(b);
                let fixed = match &over {
                    Range::Board | Range::Dirs(_) | Range::Enum(_) => true,
                    Range::Ints(lo, hi) => !reads_state(&self.vars, lo) && !reads_state(&self.vars, hi),
                    Range::Lanes(d) => matches!(d.kind, Ek::Const(_)),
                    _ => false,
                };
                if !fixed && self.scope.locals[local].ty != Ty::Bad {
                    self.error(
                        "M066",
                        b.over.span,
                        "what is told runs over the board, rows, columns, or a range of the level",
                    )
                    .notes
                    .push("say after `where` for which of them it is told".into());
                }
                (Some((local, over)), filter)
            }
            None => {
                let filter = when.map(|e| {
                    let e = self.expr(e);
                    self.coerce(e, Ty::Bool)
                });
                (None, filter)
            }
        };
        let value = self.expr(value);
        if value.ty.scalar().is_none() && value.ty != Ty::Bad {
            let message = format!("a single value is told, this is {}", self.tn(value.ty));
            self.error("M020", value.span, message);
        }
        let locals = std::mem::take(&mut self.scope).locals;
        TellDef { name, value, over, filter, locals, span }
    }
}
