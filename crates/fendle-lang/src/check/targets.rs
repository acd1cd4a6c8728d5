//! What can be assigned to, what loops run over, and values made to fit.

use super::*;

impl Checker<'_> {
    pub(super) fn args(&mut self, name: &Name, params: &[tree::Param], args: &[A]) -> Vec<Expr> {
        if params.len() != args.len() {
            let message = format!("`{}` takes {} values, {} are given", name.text, params.len(), args.len());
            self.error("M024", name.span, message);
        }
        args.iter()
            .zip(params)
            .map(|(a, p)| {
                let e = self.expr(a);
                match &p.ty.kind {
                    tree::TypeKind::Named(n) if n == "place" => return self.coerce(e, Ty::Place),
                    tree::TypeKind::Set => return self.coerce(e, Ty::Set),
                    _ => {}
                }
                match self.dom(&p.ty) {
                    Some(dom) => {
                        let e = self.coerce(e, dom.scalar().ty());
                        within(e, &dom)
                    }
                    None => e,
                }
            })
            .collect()
    }

    pub(super) fn target(&mut self, e: &A) -> Option<(Target, Ty)> {
        match &e.kind {
            K::Name(n) => self.named_target(n, e.span),
            K::Field(base, field) if field.text == "last" || field.text == "first" => {
                let (list, elem, bag) = self.list_target(base)?;
                if bag {
                    self.error("M051", field.span, "the things in a bag have no order");
                    return None;
                }
                let spot = if field.text == "last" { Spot::Last } else { Spot::First };
                Some((Target::Entry(list, spot), elem.ty()))
            }
            K::Index(block, index) => self.indexed_target(block, index),
            K::Field(base, _) if !matches!(&base.kind, K::Name(n) if n == "before" || n == "start") => {
                self.error("M025", e.span, "this part cannot be changed in this way")
                    .notes
                    .push("a part of a record is assigned to with `=`, `+=`, `-=` or `*=`".into());
                None
            }
            K::Field(..) => {
                self.error("M025", e.span, "the past cannot be changed");
                None
            }
            _ => {
                self.error("M025", e.span, "this cannot be assigned to");
                None
            }
        }
    }

    /// What is assigned to by a name.
    fn named_target(&mut self, n: &str, span: Span) -> Option<(Target, Ty)> {
        if let Some(l) = self.local(n) {
            let def = &self.scope.locals[l];
            let (ty, declared) = (def.ty, def.span);
            if !def.mutable {
                let file = self.file;
                let error = self.error("M025", span, format!("`{n}` cannot be changed"));
                error.labels.push(crate::source::Label {
                    file,
                    span: declared,
                    text: "declared here".into(),
                });
                error.notes.push("declare it with `var` to change it".into());
                return None;
            }
            return Some((Target::Local(l), ty));
        }
        match self.globals.get(n) {
            Some(&(Global::Var(v), _)) if self.vars[v].state => {
                if self.place == Place::Fn {
                    self.error("M026", span, "a function changes nothing");
                    return None;
                }
                Some((Target::Var(v), self.vars[v].ty()))
            }
            Some(&(Global::Var(_), _)) => {
                self.error("M025", span, format!("`{n}` belongs to the level and cannot be changed"))
                    .notes
                    .push("declare it as `state` to change it".into());
                None
            }
            Some(&(Global::Mistaken, _)) => None,
            Some(&(Global::Fn(f), _)) if self.derived.contains(&f) => {
                self.error("M025", span, format!("`{n}` is derived and cannot be changed"))
                    .notes
                    .push("change what it follows from".into());
                None
            }
            Some((other, _)) => {
                let message = format!("`{n}` is {} and cannot be changed", other.what());
                self.error("M025", span, message);
                None
            }
            None => {
                self.unknown(&Name { text: n.into(), span }, "variable");
                None
            }
        }
    }

    /// What is assigned to by an index into something.
    fn indexed_target(&mut self, block: &A, index: &A) -> Option<(Target, Ty)> {
        let (target, ty) = self.target(block)?;
        let index = self.expr(index);
        let (elem, index) = match ty {
            Ty::Set => (Ty::Bool, self.cell_index(index)),
            Ty::Grid(s) => (s.ty(), self.cell_index(index)),
            Ty::Array(Keyed::Pair(p), s) => {
                let index = self.first_index(p, index);
                if index.ty == Ty::Bad {
                    return None;
                }
                (Ty::Part(p, s), index)
            }
            Ty::Part(p, s) => match target {
                Target::VarAt(v, first) => {
                    let at = self.second_index(p, first, index);
                    return Some((Target::VarAt(v, at), s.ty()));
                }
                _ => return None,
            },
            Ty::Array(k, s) => (s.ty(), self.key_index(k, index)),
            Ty::Lists(k, s, bag) => (Ty::List(s, bag), self.key_index(k, index)),
            Ty::List(s, false) => {
                let index = self.coerce(index, Ty::Int);
                let list = match target {
                    Target::Local(l) => ListRef::Local(l),
                    Target::Var(v) => ListRef::Var(v),
                    Target::VarAt(v, i) => ListRef::VarAt(v, i),
                    _ => return None,
                };
                return Some((Target::Entry(list, Spot::At(index)), s.ty()));
            }
            Ty::Bad => return None,
            _ => {
                let message = format!("only boards, sets and arrays have parts, this is {}", self.tn(ty));
                self.error("M027", block.span, message);
                return None;
            }
        };
        match target {
            Target::Var(v) => Some((Target::VarAt(v, index), elem)),
            Target::Local(l) => Some((Target::LocalAt(l, index), elem)),
            _ => None,
        }
    }

    /// How many keys there are, as an expression.
    fn keys_count(&self, key: Keyed, span: Span) -> Expr {
        let make = |kind| Expr { kind, ty: Ty::Int, span };
        let (rows, cols) = (Builtin::Rows, Builtin::Cols);
        match key {
            Keyed::Enum(e) => make(Ek::Const(self.enums[e].values.len() as i64)),
            Keyed::Row | Keyed::Column => {
                make(Ek::Builtin(if key == Keyed::Row { rows } else { cols }, vec![]))
            }
            Keyed::Cell => {
                let (r, c) = (make(Ek::Builtin(rows, vec![])), make(Ek::Builtin(cols, vec![])));
                make(Ek::Arith(Arith::Mul, Box::new(r), Box::new(c)))
            }
            Keyed::Range(r) => {
                let (lo, hi) = self.ranges[r].clone();
                let wide = make(Ek::Arith(Arith::Sub, Box::new(hi), Box::new(lo)));
                make(Ek::Arith(Arith::Add, Box::new(wide), Box::new(make(Ek::Const(1)))))
            }
            Keyed::Pair(p) => {
                let (a, b) = self.pairs[p];
                let (a, b) = (self.keys_count(a, span), self.keys_count(b, span));
                make(Ek::Arith(Arith::Mul, Box::new(a), Box::new(b)))
            }
        }
    }

    /// How many values a part of a record can have, as an expression.
    fn values_count(&self, dom: &Dom, span: Span) -> Expr {
        let make = |kind| Expr { kind, ty: Ty::Int, span };
        match dom {
            Dom::Bool => make(Ek::Const(2)),
            Dom::Range(lo, hi) => {
                let wide = make(Ek::Arith(Arith::Sub, hi.clone(), lo.clone()));
                make(Ek::Arith(Arith::Add, Box::new(wide), Box::new(make(Ek::Const(1)))))
            }
            Dom::First(_, count) => (**count).clone(),
            Dom::Enum(e) => make(Ek::Const(self.enums[*e].values.len() as i64)),
            Dom::Dir4 => make(Ek::Const(4)),
            Dom::Dir8 => make(Ek::Const(8)),
            // Other parts are refused where the record is declared.
            Dom::Cell | Dom::Record(_) | Dom::Placed(_) | Dom::Maybe(_) => self.keys_count(Keyed::Cell, span),
        }
    }

    /// The number of the first entry of an array of arrays at its first key.
    pub(super) fn first_index(&mut self, pair: usize, index: Expr) -> Expr {
        let (a, b) = self.pairs[pair];
        let span = index.span;
        let index = self.key_index(a, index);
        let each = self.keys_count(b, span);
        if index.ty == Ty::Bad {
            return index;
        }
        let index = Expr { ty: Ty::Int, ..index };
        Expr { kind: Ek::Arith(Arith::Mul, Box::new(index), Box::new(each)), ty: Ty::Int, span }
    }

    /// The number of an entry: that of its first key, moved on by the second one.
    pub(super) fn second_index(&mut self, pair: usize, first: Expr, index: Expr) -> Expr {
        let span = index.span;
        let index = self.key_index(self.pairs[pair].1, index);
        if index.ty == Ty::Bad {
            return index;
        }
        let index = Expr { ty: Ty::Int, ..index };
        Expr { kind: Ek::Arith(Arith::Add, Box::new(first), Box::new(index)), ty: Ty::Int, span }
    }

    /// The number of a key, from 0.
    pub(super) fn key_index(&mut self, key: Keyed, index: Expr) -> Expr {
        let span = index.span;
        let make = |kind| Expr { kind, ty: Ty::Int, span };
        let (lo, hi) = match key {
            Keyed::Enum(e) => return self.coerce(index, Ty::Enum(e)),
            Keyed::Row => (make(Ek::Const(1)), make(Ek::Builtin(Builtin::Rows, vec![]))),
            Keyed::Column => (make(Ek::Const(1)), make(Ek::Builtin(Builtin::Cols, vec![]))),
            Keyed::Range(r) => self.ranges[r].clone(),
            Keyed::Cell => return self.cell_index(index),
            // Both keys are made into one before.
            Keyed::Pair(_) => return self.bad(span),
        };
        let index = self.coerce(index, Ty::Int);
        if index.ty == Ty::Bad {
            return index;
        }
        let inside = make(Ek::Within(Box::new(index), Dom::Range(Box::new(lo.clone()), Box::new(hi))));
        make(Ek::Arith(Arith::Sub, Box::new(inside), Box::new(lo)))
    }

    pub(super) fn cell_index(&mut self, index: Expr) -> Expr {
        if index.ty == Ty::Place {
            self.error("M028", index.span, "this place may be off the board").notes.push(
                "test it first, as in `refuse \"the edge\" unless p on board`, or read with `outside`".into(),
            );
            return self.bad(index.span);
        }
        self.coerce(index, Ty::Cell)
    }

    pub(super) fn local(&self, name: &str) -> Option<LocalId> {
        self.scope.visible.iter().rev().copied().find(|&l| self.scope.locals[l].name == name)
    }

    // ---- expressions ----

    pub(super) fn coerce(&mut self, e: Expr, want: Ty) -> Expr {
        if e.ty == want || e.ty == Ty::Bad || want == Ty::Bad {
            return e;
        }
        let span = e.span;
        match (e.ty, want) {
            (Ty::Cell, Ty::Place) => Expr { kind: Ek::ToPlace(Box::new(e)), ty: Ty::Place, span },
            (Ty::Dir, Ty::Offset) => Expr { kind: Ek::DirOffset(Box::new(e)), ty: Ty::Offset, span },
            (Ty::Grid(Scalar::Bool), Ty::Set) | (Ty::Set, Ty::Grid(Scalar::Bool)) => Expr { ty: want, ..e },
            (Ty::Nothing, Ty::Maybe(_)) => Expr { ty: want, ..e },
            (have, Ty::Maybe(b)) if have == b.scalar().ty() => Expr { ty: want, ..e },
            (Ty::Maybe(b), have) if have == b.scalar().ty() => {
                let message = format!("this may be `none`, and {} is wanted", self.tn(want));
                self.error("M055", span, message)
                    .notes
                    .push("test it first, then write `given(x)`: `if x != none { ... given(x) ... }`".into());
                self.bad(span)
            }
            (Ty::Place, Ty::Cell) => {
                self.error("M028", span, "this place may be off the board").notes.push(
                    "test it first: `if p on board { ... }` or `refuse \"...\" unless p on board`; or write `cell(p)` where it is known"
                        .into(),
                );
                self.bad(span)
            }
            _ => {
                let message = format!("expected {}, this is {}", self.tn(want), self.tn(e.ty));
                self.error("M020", span, message);
                self.bad(span)
            }
        }
    }

    pub(super) fn binder(&mut self, b: &tree::Binder) -> (LocalId, Range, Option<Expr>) {
        let (over, ty) = self.range(b);
        let local = self.bind(&b.name, ty, false, None);
        let filter = b.filter.as_ref().map(|e| {
            let e = self.expr(e);
            let e = self.coerce(e, Ty::Bool);
            self.note_facts(&e, true);
            e
        });
        (local, over, filter)
    }

    pub(super) fn range(&mut self, b: &tree::Binder) -> (Range, Ty) {
        if let Some(upto) = &b.upto {
            let lo = self.expr(&b.over);
            let hi = self.expr(upto);
            let (lo, hi) = (self.coerce(lo, Ty::Int), self.coerce(hi, Ty::Int));
            return (Range::Ints(lo, hi), Ty::Int);
        }
        if b.on {
            self.board_name(&b.over);
            return (Range::Board, Ty::Cell);
        }
        if let K::Name(n) = &b.over.kind
            && self.local(n).is_none()
            && let Some(range) = self.named_range(n, b.over.span)
        {
            return range;
        }
        if let K::Call(name, args) = &b.over.kind
            && let Some(range) = self.called_range(name, args)
        {
            return range;
        }
        let over = self.expr(&b.over);
        match over.ty {
            Ty::Set | Ty::Grid(Scalar::Bool) => (Range::Cells(over), Ty::Cell),
            Ty::Lane => (Range::Lane(over), Ty::Cell),
            Ty::List(s, _) => (Range::List(over), s.ty()),
            Ty::Bad => (Range::Board, Ty::Bad),
            ty => {
                let message = format!("cannot run over {}", self.tn(ty));
                let error = self.error("M029", over.span, message);
                error.notes.push(
                    "run over `c on GRID`, a set of cells, a lane, `dir4`, an enum, `around4(c)` or `1..n`"
                        .into(),
                );
                (Range::Board, Ty::Bad)
            }
        }
    }

    /// What is run over by the name of a kind of things.
    fn named_range(&mut self, n: &str, span: Span) -> Option<(Range, Ty)> {
        match (n, self.globals.get(n)) {
            ("dir4", _) => return Some((Range::Dirs(4), Ty::Dir)),
            ("dir8", _) => return Some((Range::Dirs(8), Ty::Dir)),
            ("board", _) => return Some((Range::Board, Ty::Cell)),
            ("rows" | "columns", _) => {
                let dir = if n == "rows" { 3 } else { 0 };
                let dir = Expr { kind: Ek::Const(dir), ty: Ty::Dir, span };
                return Some((Range::Lanes(dir), Ty::Lane));
            }
            (_, Some(&(Global::Enum(e), _))) => return Some((Range::Enum(e), Ty::Enum(e))),
            (_, Some(&(Global::Record(r), _))) => {
                // Records are numbers from 0 on, whatever their parts.
                let make = |kind| Expr { kind, ty: Ty::Int, span };
                let mut count = make(Ek::Const(1));
                for (_, dom) in self.records[r].parts.clone() {
                    let values = self.values_count(&dom, span);
                    count = make(Ek::Arith(Arith::Mul, Box::new(count), Box::new(values)));
                }
                // The type of the end says what is run over.
                let last = Ek::Arith(Arith::Sub, Box::new(count), Box::new(make(Ek::Const(1))));
                let last = Expr { kind: last, ty: Ty::Record(r), span };
                return Some((Range::Ints(make(Ek::Const(0)), last), Ty::Record(r)));
            }
            _ => {}
        }
        None
    }

    /// What is run over by a named operation.
    fn called_range(&mut self, name: &Name, args: &[A]) -> Option<(Range, Ty)> {
        match name.text.as_str() {
            "around4" | "around8" | "around" => {
                let Some(first) = args.first() else {
                    self.error("M024", name.span, format!("`{}` wants a cell", name.text));
                    return Some((Range::Board, Ty::Bad));
                };
                let cell = self.expr(first);
                let cell = self.coerce(cell, Ty::Place);
                let offsets = self.offsets(name, &args[1..]);
                return Some((Range::Around(cell, offsets), Ty::Cell));
            }
            "offsets" => {
                let list = args
                    .iter()
                    .map(|a| {
                        let e = self.expr(a);
                        self.coerce(e, Ty::Offset)
                    })
                    .collect();
                return Some((Range::Offsets(list), Ty::Offset));
            }
            "cells" if args.len() == 1 => {
                let p = self.expr(&args[0]);
                if !matches!(p.ty, Ty::Placed(_) | Ty::Bad) {
                    let message = format!("`cells` wants a placed shape, this is {}", self.tn(p.ty));
                    self.error("M020", p.span, message);
                }
                if !matches!(p.ty, Ty::Placed(_)) {
                    return Some((Range::Board, Ty::Bad));
                }
                return Some((Range::Covered(p), Ty::Place));
            }
            "lanes" => {
                // `lanes(tile, d)` names the board too; there is one.
                let dir = match args {
                    [d] => d,
                    [g, d] => {
                        self.board_name(g);
                        d
                    }
                    _ => {
                        self.error("M024", name.span, "`lanes` wants a direction, as in `lanes(tile, left)`");
                        return Some((Range::Board, Ty::Bad));
                    }
                };
                let dir = self.expr(dir);
                let dir = self.coerce(dir, Ty::Dir);
                return Some((Range::Lanes(dir), Ty::Lane));
            }
            _ => {}
        }
        None
    }

    pub(super) fn offsets(&mut self, name: &Name, args: &[A]) -> Vec<Expr> {
        let count = match name.text.as_str() {
            "around4" => 4,
            "around8" => 8,
            _ => {
                if args.is_empty() {
                    self.error("M024", name.span, "`around` wants offsets, as in `around(c, up, 2 * left)`");
                }
                return args
                    .iter()
                    .map(|a| {
                        let e = self.expr(a);
                        self.coerce(e, Ty::Offset)
                    })
                    .collect();
            }
        };
        if let Some(extra) = args.first() {
            let message = format!("`{}` takes one cell; `around` takes offsets too", name.text);
            self.error("M024", extra.span, message);
        }
        (0..count)
            .map(|d| {
                let dir = Expr { kind: Ek::Const(d), ty: Ty::Dir, span: name.span };
                Expr { kind: Ek::DirOffset(Box::new(dir)), ty: Ty::Offset, span: name.span }
            })
            .collect()
    }

    /// `on` is followed by a grid, a set, or the word `board`.
    pub(super) fn board_name(&mut self, e: &A) {
        match &e.kind {
            K::Name(n) if n == "board" => {}
            K::Name(n) => match self.globals.get(n) {
                Some(&(Global::Var(v), _)) if matches!(self.vars[v].shape, Extent::Grid | Extent::Set) => {}
                Some(&(Global::Mistaken, _)) => {}
                Some(_) => {
                    self.error("M030", e.span, format!("`{n}` is no grid"))
                        .notes
                        .push("after `on` stands a grid or the word `board`".into());
                }
                None => self.unknown(&Name { text: n.clone(), span: e.span }, "grid"),
            },
            _ => {
                self.error("M030", e.span, "after `on` stands a grid or the word `board`");
            }
        }
    }
}
