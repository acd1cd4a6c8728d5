//! Operators and calls.

use super::*;

impl Checker<'_> {
    pub(super) fn binary(&mut self, op: BinOp, a: &A, b: &A, span: Span) -> Expr {
        let make = |kind, ty| Expr { kind, ty, span };
        if let Some(e) = self.joined_by_a_word(op, a, b, span) {
            return e;
        }
        let a = self.expr(a);
        let b = self.expr(b);
        if a.ty == Ty::Bad || b.ty == Ty::Bad {
            let ty = match op {
                BinOp::Eq | BinOp::Ne | BinOp::Lt | BinOp::Le | BinOp::Gt | BinOp::Ge => Ty::Bool,
                _ => Ty::Bad,
            };
            return Expr { kind: Ek::Const(0), ty, span };
        }
        let (a, b) = match self.joined_places(op, a, b, span) {
            Ok(e) => return e,
            Err(numbers) => *numbers,
        };
        let word = match op {
            BinOp::Add => "+",
            BinOp::Sub => "-",
            BinOp::Mul => "*",
            BinOp::Div => "/",
            BinOp::Mod => "mod",
            BinOp::Pow => "**",
            _ => "compare",
        };
        if a.ty != Ty::Int || b.ty != Ty::Int {
            let message = if word == "compare" {
                format!("numbers are compared; this is {} and {}", self.tn(a.ty), self.tn(b.ty))
            } else {
                format!("`{word}` does not join {} and {}", self.tn(a.ty), self.tn(b.ty))
            };
            self.error("M020", span, message);
            return self.bad(span);
        }
        let (a, b) = (Box::new(a), Box::new(b));
        match op {
            BinOp::Lt => make(Ek::Cmp(Cmp::Lt, a, b), Ty::Bool),
            BinOp::Le => make(Ek::Cmp(Cmp::Le, a, b), Ty::Bool),
            BinOp::Gt => make(Ek::Cmp(Cmp::Lt, b, a), Ty::Bool),
            BinOp::Ge => make(Ek::Cmp(Cmp::Le, b, a), Ty::Bool),
            BinOp::Add => make(Ek::Arith(Arith::Add, a, b), Ty::Int),
            BinOp::Sub => make(Ek::Arith(Arith::Sub, a, b), Ty::Int),
            BinOp::Mul => make(Ek::Arith(Arith::Mul, a, b), Ty::Int),
            BinOp::Div => make(Ek::Arith(Arith::Div, a, b), Ty::Int),
            BinOp::Mod => make(Ek::Arith(Arith::Mod, a, b), Ty::Int),
            _ => make(Ek::Arith(Arith::Pow, a, b), Ty::Int),
        }
    }

    /// `and`, `or`, `on`, `in`: what stands on their sides is looked at in ways of their own. `None` for other operators.
    fn joined_by_a_word(&mut self, op: BinOp, a: &A, b: &A, span: Span) -> Option<Expr> {
        let make = |kind, ty| Expr { kind, ty, span };
        match op {
            BinOp::And | BinOp::Or => {
                let a = self.expr(a);
                let a = self.coerce(a, Ty::Bool);
                let b = self.nested(|c| {
                    c.note_facts(&a, op == BinOp::And);
                    let b = c.expr(b);
                    c.coerce(b, Ty::Bool)
                });
                let (a, b) = (Box::new(a), Box::new(b));
                Some(make(if op == BinOp::And { Ek::And(a, b) } else { Ek::Or(a, b) }, Ty::Bool))
            }
            BinOp::On => {
                let p = self.expr(a);
                self.board_name(b);
                let p = match &p.kind {
                    // A place already known to be a cell is tested again as a place.
                    Ek::ToCell(inner) => (**inner).clone(),
                    _ => self.coerce(p, Ty::Place),
                };
                Some(make(Ek::OnBoard(Box::new(p)), Ty::Bool))
            }
            BinOp::In => {
                let c = self.expr(a);
                let set = self.part(b);
                if let Ty::Part(p, Scalar::Bool) = set.ty
                    && self.pairs[p].1 == Keyed::Cell
                    && c.ty == Ty::Cell
                {
                    // One entry, not the whole set.
                    return Some(self.index(set, c, span));
                }
                let set = self.whole_part(set);
                if let Ty::List(s, _) = set.ty {
                    let c = self.coerce(c, s.ty());
                    return Some(make(Ek::InList(Box::new(c), Box::new(set)), Ty::Bool));
                }
                let set = self.coerce(set, Ty::Set);
                if set.ty == Ty::Bad {
                    return Some(self.bad(span));
                }
                if c.ty == Ty::Place {
                    // A place off the board is in no set.
                    let no = make(Ek::Const(0), Ty::Bool);
                    return Some(make(Ek::IndexOutside(Box::new(set), Box::new(c), Box::new(no)), Ty::Bool));
                }
                let c = self.coerce(c, Ty::Cell);
                Some(make(Ek::Index(Box::new(set), Box::new(c)), Ty::Bool))
            }
            _ => None,
        }
    }

    /// Operators between places, offsets, shapes and sets, and what is the same.
    ///
    /// # Errors
    ///
    /// Both sides, where numbers are wanted.
    fn joined_places(&mut self, op: BinOp, a: Expr, b: Expr, span: Span) -> Result<Expr, Box<(Expr, Expr)>> {
        let make = |kind, ty| Expr { kind, ty, span };
        match op {
            BinOp::Add | BinOp::Sub => {
                let sense = if op == BinOp::Sub { Sense::Minus } else { Sense::Plus };
                match (a.ty, b.ty) {
                    (Ty::Cell | Ty::Place, Ty::Dir | Ty::Offset) => {
                        let (a, b) = (self.coerce(a, Ty::Place), self.coerce(b, Ty::Offset));
                        return Ok(make(Ek::Shift(Box::new(a), Box::new(b), sense), Ty::Place));
                    }
                    (Ty::Dir | Ty::Offset, Ty::Dir | Ty::Offset) => {
                        let (a, b) = (self.coerce(a, Ty::Offset), self.coerce(b, Ty::Offset));
                        return Ok(make(Ek::OffAdd(Box::new(a), Box::new(b), sense), Ty::Offset));
                    }
                    (Ty::Placed(_), Ty::Dir | Ty::Offset) => {
                        let (ty, b) = (a.ty, self.coerce(b, Ty::Offset));
                        return Ok(make(Ek::MoveShape(Box::new(a), Box::new(b), sense), ty));
                    }
                    (Ty::Set | Ty::Grid(Scalar::Bool), Ty::Set | Ty::Grid(Scalar::Bool)) => {
                        let (a, b) = (Box::new(self.coerce(a, Ty::Set)), Box::new(self.coerce(b, Ty::Set)));
                        let kind = match sense {
                            Sense::Minus => Ek::Minus(a, b),
                            Sense::Plus => Ek::Union(a, b),
                        };
                        return Ok(make(kind, Ty::Set));
                    }
                    _ => {}
                }
            }
            BinOp::Mul => match (a.ty, b.ty) {
                (Ty::Int, Ty::Dir | Ty::Offset) => {
                    let b = self.coerce(b, Ty::Offset);
                    return Ok(make(Ek::OffMul(Box::new(b), Box::new(a)), Ty::Offset));
                }
                (Ty::Dir | Ty::Offset, Ty::Int) => {
                    let a = self.coerce(a, Ty::Offset);
                    return Ok(make(Ek::OffMul(Box::new(a), Box::new(b)), Ty::Offset));
                }
                _ => {}
            },
            BinOp::Eq | BinOp::Ne => {
                let sameness = if op == BinOp::Ne { Sameness::Unlike } else { Sameness::Same };
                if a.ty.is_block() {
                    let b = self.coerce(b, a.ty);
                    return Ok(make(Ek::SameBlock(Box::new(a), Box::new(b), sameness), Ty::Bool));
                }
                let ty = match (a.ty, b.ty) {
                    (Ty::Cell | Ty::Place, Ty::Cell | Ty::Place) if a.ty != b.ty => Ty::Place,
                    (Ty::Dir | Ty::Offset, Ty::Dir | Ty::Offset) if a.ty != b.ty => Ty::Offset,
                    (_, Ty::Maybe(_)) => b.ty,
                    _ => a.ty,
                };
                let (a, b) = (self.coerce(a, ty), self.coerce(b, ty));
                let cmp = if sameness == Sameness::Unlike { Cmp::Ne } else { Cmp::Eq };
                return Ok(make(Ek::Cmp(cmp, Box::new(a), Box::new(b)), Ty::Bool));
            }
            _ => {}
        }
        Err(Box::new((a, b)))
    }

    #[expect(clippy::too_many_lines, reason = "one arm for each named operation")]
    pub(super) fn call(&mut self, name: &Name, args: &[A], span: Span) -> Expr {
        let make = |kind, ty| Expr { kind, ty, span };
        if let Some(&(Global::Fn(f), _)) = self.globals.get(&name.text) {
            if self.place == Place::Const || self.place == Place::Level {
                self.error("M033", span, "a function cannot be called here: the level alone decides this");
                return self.bad(span);
            }
            let Some(ty) = self.function(f, Some(name.span)) else { return self.bad(span) };
            let params = self.fn_asts[f].params.clone();
            let args = self.args(name, &params, args);
            return make(Ek::Call(FnId(f), args), ty);
        }
        if matches!(name.text.as_str(), "min" | "max") {
            let op = if name.text == "min" { Arith::Min } else { Arith::Max };
            let mut list = args.iter().map(|a| {
                let e = self.expr(a);
                self.coerce(e, Ty::Int)
            });
            let Some(mut first) = list.next() else {
                drop(list);
                self.error("M024", name.span, format!("`{}` wants at least one number", name.text));
                return self.bad(span);
            };
            for next in list {
                first = make(Ek::Arith(op, Box::new(first), Box::new(next)), Ty::Int);
            }
            return first;
        }
        if name.text == "both" && args.len() == 2 {
            let a = self.expr(&args[0]);
            let b = self.expr(&args[1]);
            let (a, b) = (self.coerce(a, Ty::Set), self.coerce(b, Ty::Set));
            return make(Ek::Both(Box::new(a), Box::new(b)), Ty::Set);
        }
        if name.text == "cell" && args.len() == 1 {
            let place = self.expr(&args[0]);
            if place.ty == Ty::Cell {
                return place;
            }
            let place = self.coerce(place, Ty::Place);
            return if place.ty == Ty::Bad { place } else { make(Ek::ToCell(Box::new(place)), Ty::Cell) };
        }
        if let Some(e) = self.special_call(name, args, span) {
            return e;
        }
        let (builtin, wants, ty): (Builtin, &[Ty], Ty) = match name.text.as_str() {
            "row" => (Builtin::Row, &[Ty::Place], Ty::Int),
            "col" => (Builtin::Col, &[Ty::Place], Ty::Int),
            "abs" => (Builtin::Abs, &[Ty::Int], Ty::Int),
            "opposite" => (Builtin::Opposite, &[Ty::Dir], Ty::Dir),
            "turned" => (Builtin::Turned, &[Ty::Dir], Ty::Dir),
            "parity" => (Builtin::Parity, &[Ty::Bad], Ty::Int),
            "distinct" => (Builtin::Distinct, &[Ty::Bad], Ty::Bool),
            "len" => (Builtin::Len, &[Ty::Lane], Ty::Int),
            "rows" => (Builtin::Rows, &[], Ty::Int),
            "cols" => (Builtin::Cols, &[], Ty::Int),
            "place" => (Builtin::PlaceAt, &[Ty::Int, Ty::Int], Ty::Place),
            "around4" | "around8" | "around" | "lanes" | "offsets" | "cells" => {
                self.error("M038", name.span, format!("`{}` is only run over", name.text))
                    .notes
                    .push(format!("as in `for n in {}(...)` or `count(n in {}(...))`", name.text, name.text));
                return self.bad(span);
            }
            _ => {
                match self.globals.get(&name.text) {
                    Some((other, _)) => {
                        let message = format!("`{}` is {}, not a function", name.text, other.what());
                        self.error("M023", name.span, message);
                    }
                    None => self.unknown(name, "function"),
                }
                for a in args {
                    self.expr(a);
                }
                return self.bad(span);
            }
        };
        if args.len() != wants.len() {
            let message = format!("`{}` takes {} values, {} are given", name.text, wants.len(), args.len());
            self.error("M024", name.span, message);
            return self.bad(span);
        }
        let mut out = vec![];
        for (a, &want) in args.iter().zip(wants) {
            let e = self.expr(a);
            let e = self.coerce(e, want);
            if matches!(builtin, Builtin::Parity | Builtin::Distinct)
                && !matches!(e.ty, Ty::Grid(_) | Ty::Bad)
            {
                let message = format!("`{}` wants a grid, this is {}", name.text, self.tn(e.ty));
                self.error("M020", e.span, message);
                return self.bad(span);
            }
            out.push(e);
        }
        make(Ek::Builtin(builtin, out), ty)
    }

    /// Named operations whose meaning depends on what they are given.
    pub(super) fn special_call(&mut self, name: &Name, args: &[A], span: Span) -> Option<Expr> {
        let make = |kind, ty| Expr { kind, ty, span };
        let word = name.text.as_str();
        if !matches!(
            word,
            "len"
                | "row"
                | "col"
                | "turned"
                | "given"
                | "kind"
                | "turn"
                | "anchor"
                | "placed"
                | "mirrored"
                | "part"
        ) || args.is_empty()
        {
            return None;
        }
        let errors = self.errors.len();
        let first = self.expr(&args[0]);
        let builtin = |op, args, ty| Some(Expr { kind: Ek::Builtin(op, args), ty, span });
        match (word, first.ty, args.len()) {
            ("len", Ty::List(..), 1) => return builtin(Builtin::ListLen, vec![first], Ty::Int),
            ("row" | "col", Ty::Lane, 1) => {
                let place = make(Ek::Builtin(Builtin::LaneStart, vec![first]), Ty::Place);
                let op = if word == "row" { Builtin::Row } else { Builtin::Col };
                return builtin(op, vec![place], Ty::Int);
            }
            ("given", Ty::Maybe(b), 1) => return Some(make(Ek::Given(Box::new(first)), b.scalar().ty())),
            ("turned", Ty::Placed(p), 1 | 2) => {
                let by = match args.get(1) {
                    Some(n) => {
                        let n = self.expr(n);
                        self.coerce(n, Ty::Int)
                    }
                    None => make(Ek::Const(1), Ty::Int),
                };
                return builtin(Builtin::TurnShape, vec![first, by], Ty::Placed(p));
            }
            ("mirrored", Ty::Placed(p), 1) => {
                if !self.shapes[p].mirrored {
                    let message = format!("the shapes of `{}` are not mirrored", self.shapes[p].name);
                    let note = format!("declare them so: `shapes {} mirrored {{`", self.shapes[p].name);
                    self.error("M049", span, message).notes.push(note);
                    return Some(self.bad(span));
                }
                return builtin(Builtin::MirrorShape, vec![first], Ty::Placed(p));
            }
            ("part", Ty::Placed(p), 2) => {
                let Some(of) = self.shapes[p].of else {
                    let message = format!("the shapes of `{}` have no parts", self.shapes[p].name);
                    let note =
                        format!("say what the letters are: `shapes {} of ENUM {{`", self.shapes[p].name);
                    self.error("M049", span, message).notes.push(note);
                    return Some(self.bad(span));
                };
                let at = self.expr(&args[1]);
                let at = self.coerce(at, Ty::Place);
                return builtin(Builtin::PartAt, vec![first, at], Ty::Enum(of));
            }
            ("kind", Ty::Placed(p), 1) => {
                let kind = self.shapes[p].kind;
                return builtin(Builtin::KindOf, vec![first], Ty::Enum(kind));
            }
            ("turn", Ty::Placed(_), 1) => return builtin(Builtin::TurnOf, vec![first], Ty::Int),
            ("anchor", Ty::Placed(_), 1) => return builtin(Builtin::Anchor, vec![first], Ty::Place),
            ("placed", Ty::Enum(e), 2) => {
                if let Some(p) = self.shapes.iter().position(|s| s.kind == e) {
                    let at = self.expr(&args[1]);
                    let at = self.coerce(at, Ty::Place);
                    return builtin(Builtin::Placed(p), vec![first, at], Ty::Placed(p));
                }
            }
            (_, Ty::Bad, _) => return Some(self.bad(span)),
            _ => {}
        }
        if matches!(word, "given" | "kind" | "turn" | "anchor" | "placed" | "mirrored" | "part") {
            let wants = match word {
                "given" => "a `maybe`",
                "placed" => "a shape and a place",
                _ => "a placed shape",
            };
            let message = format!("`{word}` wants {wants}, this is {}", self.tn(first.ty));
            self.error("M020", first.span, message);
            return Some(self.bad(span));
        }
        // The usual way checks it again.
        self.errors.truncate(errors);
        None
    }
}
