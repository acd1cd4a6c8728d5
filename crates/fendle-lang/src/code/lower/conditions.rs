//! Conditions to jumps.

use super::*;

/// Most values of placed shapes whose cells are looked up in a table, and most words of all of them.
const COVERED_MAX: i64 = 1 << 14;
const COVERED_WORDS_MAX: i64 = 1 << 15;

pub(super) fn conjuncts<'e>(e: &'e Expr, out: &mut Vec<&'e Expr>) {
    match &e.kind {
        Ek::And(a, b) => {
            conjuncts(a, out);
            conjuncts(b, out);
        }
        _ => out.push(e),
    }
}

impl Lower<'_> {
    /// Jumps to `to` when `e` is `when`; goes on otherwise.
    pub(super) fn cond(&mut self, e: &Expr, to: Label, when: bool) {
        self.sometimes(|l| l.cond_inner(e, to, when));
    }

    pub(super) fn cond_inner(&mut self, e: &Expr, to: Label, when: bool) {
        match &e.kind {
            Ek::Not(a) => self.cond(a, to, !when),
            Ek::OnBoard(p) if !when => {
                self.cell_or(p, to);
            }
            Ek::OnBoard(p) => {
                let off = self.label();
                self.cell_or(p, off);
                self.emit(Op::Jump { to: To(to) });
                self.here(off);
            }
            Ek::And(a, b) if !when => {
                self.cond(a, to, false);
                self.cond(b, to, false);
            }
            Ek::Or(a, b) if when => {
                self.cond(a, to, true);
                self.cond(b, to, true);
            }
            Ek::And(a, b) => {
                let no = self.label();
                self.cond(a, no, false);
                self.cond(b, to, true);
                self.here(no);
            }
            Ek::Or(a, b) => {
                let yes = self.label();
                self.cond(a, yes, true);
                self.cond(b, to, false);
                self.here(yes);
            }
            Ek::Cmp(op, a, b) => {
                let (a, b) = (self.value(a), self.value(b));
                if let (O::K(a), O::K(b)) = (a, b) {
                    if op.holds(a, b) == when {
                        self.emit(Op::Jump { to: To(to) });
                    }
                    return;
                }
                let (a, b) = (self.reg(a), self.reg(b));
                let to = To(to);
                self.emit(match (op, when) {
                    (Cmp::Eq, true) | (Cmp::Ne, false) => Op::JumpEq { a, b, to },
                    (Cmp::Ne, true) | (Cmp::Eq, false) => Op::JumpNe { a, b, to },
                    (Cmp::Lt, true) => Op::JumpLt { a, b, to },
                    (Cmp::Lt, false) => Op::JumpLe { a: b, b: a, to },
                    (Cmp::Le, true) => Op::JumpLe { a, b, to },
                    (Cmp::Le, false) => Op::JumpLt { a: b, b: a, to },
                });
            }
            Ek::Quant(q) if matches!(q.kind, QuantKind::All | QuantKind::Any) => {
                if self.asked_at_once(q, to, when) || self.asked_of_a_shape(q, to, when) {
                    return;
                }
                // `all` fails at the first miss, `any` at the first hit.
                let stop_on = q.kind == QuantKind::Any;
                let stopped = self.label();
                let out = self.label();
                self.each(q.local, &q.over, None, q.filter.as_ref(), e.span, &mut |l, _| match &q.body {
                    Some(body) => l.cond(body, stopped, stop_on),
                    None => l.emit(Op::Jump { to: To(stopped) }),
                });
                if stop_on == when {
                    self.emit(Op::Jump { to: To(out) });
                    self.here(stopped);
                    self.emit(Op::Jump { to: To(to) });
                    self.here(out);
                } else {
                    self.emit(Op::Jump { to: To(to) });
                    self.here(stopped);
                }
            }
            _ => match self.value(e) {
                O::K(v) => {
                    if (v != 0) == when {
                        self.emit(Op::Jump { to: To(to) });
                    }
                }
                O::R(a) if when => self.emit(Op::JumpIf { a, to: To(to) }),
                O::R(a) => self.emit(Op::JumpUnless { a, to: To(to) }),
            },
        }
    }

    /// Jumps on a condition about all cells where it is found for all of them together.
    fn asked_at_once(&mut self, q: &Quant, to: Label, when: bool) -> bool {
        let mut parts = vec![];
        if let Some(filter) = &q.filter {
            conjuncts(filter, &mut parts);
        }
        // Few cells pass such a filter, and it is one operation already.
        if matches!(q.over, Range::Board)
            && parts.first().is_some_and(|first| self.scan(first, q.local).is_some())
            && q.body.is_some()
        {
            return false;
        }
        let any = q.kind == QuantKind::Any;
        let missed;
        match (&q.body, any) {
            (Some(body), true) => parts.push(body),
            (Some(body), false) => {
                missed = Expr { kind: Ek::Not(Box::new(body.clone())), ty: Ty::Bool, span: body.span };
                parts.push(&missed);
            }
            (None, _) => {}
        }
        let Some(found) = self.found_at_once(q, &parts) else { return false };
        self.jump_on_bits(&found, to, any == when);
        true
    }

    /// Jumps on a condition about the places that a shape covers: "all are on the board, and all are so", or "some on the board is so".
    fn asked_of_a_shape(&mut self, q: &Quant, to: Label, when: bool) -> bool {
        let Range::Covered(p) = &q.over else { return false };
        let shapes = self.shapes_of(p);
        let words = self.b.cells().div_ceil(64) as u8;
        let few = |t: &ShapeTable| {
            t.values_len() <= COVERED_MAX && t.values_len() * i64::from(words) <= COVERED_WORDS_MAX
        };
        if words == 0 || !self.code.shapes.get(usize::from(shapes)).is_some_and(few) {
            return false;
        }
        let any = q.kind == QuantKind::Any;
        let (mut filter, mut body) = (vec![], vec![]);
        if let Some(f) = &q.filter {
            conjuncts(f, &mut filter);
        }
        if let Some(b) = &q.body {
            conjuncts(b, &mut body);
        }
        // Places off the board are left out by the filter, or by what is asked of each.
        let is_on =
            |e: &&Expr| matches!(&e.kind, Ek::OnBoard(p) if matches!(p.kind, Ek::Local(l) if l == q.local));
        let filtered = filter.first().is_some_and(is_on);
        let asked = filter.is_empty() && body.first().is_some_and(is_on);
        if !filtered && !asked {
            return false;
        }
        let parts = if filtered { &mut filter } else { &mut body };
        parts.remove(0);
        // `all` fails where one is not so, or, unless these are left out, where one is off the board.
        if !any && asked {
            let fits = self.attempt(|l| {
                let p = l.value(p);
                let p = l.reg(p);
                let so = l.at_once(q.local, &body)?.words;
                let fits = so.into_iter().zip(0..).map(|(s, word)| {
                    let s = l.reg(s);
                    let fits = l.unary(|d| Op::ShapeFits { d, p, s, word, shapes });
                    l.reg(fits)
                });
                Some(fits.collect::<Vec<R>>())
            });
            let Some(fits) = fits else { return false };
            let failed = self.label();
            for a in fits {
                self.emit(Op::JumpUnless { a, to: To(if when { failed } else { to }) });
            }
            if when {
                self.emit(Op::Jump { to: To(to) });
            }
            self.here(failed);
            return true;
        }
        let found = self.attempt(|l| {
            let p = l.value(p);
            let p = l.reg(p);
            let met = l.at_once(q.local, &filter)?;
            let so = l.at_once(q.local, &body)?;
            let covered = (0..words).map(|word| l.unary(|d| Op::ShapeBits { d, p, word, shapes })).collect();
            let covered = l.found(covered);
            let covered = l.bits_and(&covered, &met);
            Some(if any { l.bits_and(&covered, &so) } else { l.bits_minus(&covered, &so) })
        });
        let Some(hits) = found else { return false };
        self.jump_on_bits(&hits, to, any == when);
        true
    }

    pub(super) fn truth(&mut self, e: &Expr) -> O {
        let d = self.fresh();
        let no = self.label();
        let end = self.label();
        self.cond(e, no, false);
        self.emit(Op::Const { d, v: 1 });
        self.emit(Op::Jump { to: To(end) });
        self.here(no);
        self.emit(Op::Const { d, v: 0 });
        self.here(end);
        O::R(d)
    }
}
