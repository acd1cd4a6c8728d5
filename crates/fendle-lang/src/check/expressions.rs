//! Expressions: names, fields, indices, quantifiers.

use super::*;

impl Checker<'_> {
    pub(super) fn expr(&mut self, e: &A) -> Expr {
        if !self.may_nest(1, e.span) {
            return self.bad(e.span);
        }
        self.nesting += 1;
        let out = self.expr_here(e);
        self.nesting -= 1;
        if out.ty == Ty::Place && self.is_known_cell(&out) {
            return Expr { ty: Ty::Cell, span: out.span, kind: Ek::ToCell(Box::new(out)) };
        }
        out
    }

    #[expect(clippy::too_many_lines, reason = "one arm for each kind of expression")]
    fn expr_here(&mut self, e: &A) -> Expr {
        let span = e.span;
        let make = |kind, ty| Expr { kind, ty, span };
        match &e.kind {
            K::Int(n) => make(Ek::Const(*n), Ty::Int),
            K::Bool(b) => make(Ek::Const(i64::from(*b)), Ty::Bool),
            K::Name(n) => self.name(n, span),
            K::Board(_) => {
                self.error("M031", span, "a text board stands only in examples and level files");
                self.bad(span)
            }
            K::Field(base, field) => self.field(base, field, span),
            K::Index(block, index) => {
                let block = self.part(block);
                let index = self.expr(index);
                let out = self.index(block, index, span);
                self.whole_part(out)
            }
            K::Outside(index, value) => {
                let K::Index(block, at) = &index.kind else { return self.bad(span) };
                let block = self.expr(block);
                let at = self.expr(at);
                let elem = match block.ty {
                    Ty::Set => Ty::Bool,
                    Ty::Grid(s) => s.ty(),
                    Ty::Bad => return self.bad(span),
                    _ => {
                        self.error("M027", block.span, "`outside` is for grids and sets of cells");
                        return self.bad(span);
                    }
                };
                let at = self.coerce(at, Ty::Place);
                let value = self.expr(value);
                let value = self.coerce(value, elem);
                make(Ek::IndexOutside(Box::new(block), Box::new(at), Box::new(value)), elem)
            }
            K::Not(a) => {
                let a = self.expr(a);
                let a = self.coerce(a, Ty::Bool);
                make(Ek::Not(Box::new(a)), Ty::Bool)
            }
            K::Neg(a) => {
                let a = self.expr(a);
                match a.ty {
                    Ty::Dir | Ty::Offset => {
                        let a = self.coerce(a, Ty::Offset);
                        let zero = make(Ek::Const(0), Ty::Offset);
                        make(Ek::OffAdd(Box::new(zero), Box::new(a), Sense::Minus), Ty::Offset)
                    }
                    _ => {
                        let a = self.coerce(a, Ty::Int);
                        if let Ek::Const(n) = a.kind {
                            return make(Ek::Const(-n), a.ty);
                        }
                        make(Ek::Neg(Box::new(a)), Ty::Int)
                    }
                }
            }
            K::Cond(cond, a, b) => {
                let cond = self.expr(cond);
                let cond = self.coerce(cond, Ty::Bool);
                let a = self.nested(|c| {
                    c.note_facts(&cond, true);
                    c.expr(a)
                });
                let b = self.nested(|c| {
                    c.note_facts(&cond, false);
                    c.expr(b)
                });
                let ty = match (a.ty, b.ty) {
                    (Ty::Nothing, Ty::Maybe(_)) => b.ty,
                    (Ty::Nothing, t) | (t, Ty::Nothing) => {
                        t.scalar().and_then(Scalar::base).map_or(t, Ty::Maybe)
                    }
                    (Ty::Cell, Ty::Place) | (Ty::Place, Ty::Cell) => Ty::Place,
                    (Ty::Dir, Ty::Offset) | (Ty::Offset, Ty::Dir) => Ty::Offset,
                    (Ty::Bad, t) => t,
                    (t, _) => t,
                };
                if ty.is_block() {
                    self.error("M014", span, "`if ... then ... else ...` chooses between single values");
                    return self.bad(span);
                }
                let (a, b) = (self.coerce(a, ty), self.coerce(b, ty));
                make(Ek::Cond(Box::new(cond), Box::new(a), Box::new(b)), ty)
            }
            K::Bin(op, a, b) => self.binary(*op, a, b, span),
            K::Call(name, args) => self.call(name, args, span),
            K::Method(_, name, _) => {
                self.error("M051", name.span, "this is a statement, not a value");
                self.bad(span)
            }
            K::Empty | K::Lost => self.bad(span),
            K::Record(name, parts) => self.record(name, parts, span),
            K::Can(name, args) => {
                let of = self.asked(name, args, span);
                match of {
                    Some(of) => make(Ek::Can(of), Ty::Bool),
                    None => self.bad(span),
                }
            }
            K::Leads(wanted, name, args, cond) => {
                let of = self.asked(name, args, span);
                let cond = self.expr(cond);
                let cond = self.coerce(cond, Ty::Bool);
                match of {
                    Some(of) => make(Ek::Leads(*wanted, of, Box::new(cond)), Ty::Bool),
                    None => self.bad(span),
                }
            }
            K::Quant { kind, binder, body } => self.quant(*kind, binder, body.as_deref(), span),
            K::Flood { name, to, from, by, by_name, cond, rim } => {
                let from = self.expr(from);
                let from = self.coerce(from, Ty::Cell);
                let by_name = by_name.clone().unwrap_or(Name { text: "around4".into(), span });
                let by = match by_name.text.as_str() {
                    "around4" | "around8" | "around" => self.offsets(&by_name, by),
                    other => {
                        self.error("M032", by_name.span, format!("`{other}` is no neighbourhood"))
                            .notes
                            .push("use `around4`, `around8`, or `around(up, left, ...)`".into());
                        vec![]
                    }
                };
                self.nested(|c| {
                    let local = c.bind(name, Ty::Cell, false, None);
                    let next = to.as_ref().map(|n| c.bind(n, Ty::Cell, false, None));
                    let cond = c.expr(cond);
                    let cond = c.coerce(cond, Ty::Bool);
                    make(Ek::Flood(Box::new(Flood { local, next, from, by, cond, rim: *rim })), Ty::Set)
                })
            }
        }
    }

    /// An expression of which a further part may be read: the part of an array of sets stays what it is.
    pub(super) fn part(&mut self, e: &A) -> Expr {
        match &e.kind {
            K::Index(block, index) => {
                let block = self.part(block);
                let index = self.expr(index);
                self.index(block, index, e.span)
            }
            _ => self.expr(e),
        }
    }

    /// The part of an array of sets as a set of its own.
    pub(super) fn whole_part(&mut self, e: Expr) -> Expr {
        let Ty::Part(p, s) = e.ty else { return e };
        let span = e.span;
        if self.pairs[p].1 != Keyed::Cell || s != Scalar::Bool {
            let message = format!("{} is no value of its own", self.tn(e.ty));
            self.error("M027", span, message).notes.push("read it further, as in `a[k][i]`".into());
            return self.bad(span);
        }
        let Ek::Index(array, first) = e.kind else { return self.bad(span) };
        let local = LocalId(self.scope.locals.len());
        let name = format!("cell {local:?}");
        self.scope.locals.push(LocalDef { name, ty: Ty::Cell, mutable: false, dom: None, span });
        let cell = Expr { kind: Ek::Local(local), ty: Ty::Int, span };
        let at = Expr { kind: Ek::Arith(Arith::Add, first, Box::new(cell)), ty: Ty::Int, span };
        let filter = Some(Expr { kind: Ek::Index(array, Box::new(at)), ty: Ty::Bool, span });
        let set = Quant { kind: QuantKind::Set, local, over: Range::Board, filter, body: None };
        Expr { kind: Ek::Quant(Box::new(set)), ty: Ty::Set, span }
    }

    /// The move of a question; `Some(None)` for any.
    #[allow(clippy::option_option)]
    pub(super) fn asked(
        &mut self,
        name: &Name,
        args: &[A],
        span: Span,
    ) -> Option<Option<(usize, Vec<Expr>)>> {
        if !matches!(self.place, Place::Question | Place::Setup) {
            self.error("M056", span, "whether a move is allowed is no part of the rules")
                .notes
                .push("questions like this stand in `find`, and in the `require` of a setup".into());
            return None;
        }
        if name.text == "any" {
            return Some(None);
        }
        let Some(&(m, _)) = self.moves.get(&name.text) else {
            let known: Vec<&str> = self.moves.keys().map(String::as_str).collect();
            let near = near(&name.text, known).map(str::to_string);
            let error = self.error("M010", name.span, format!("no move is named `{}`", name.text));
            error.notes.extend(near.map(|n| format!("did you mean `{n}`?")));
            return None;
        };
        let params = self.move_asts[m].1.clone();
        let args = self.args(name, &params, args);
        (args.len() == params.len()).then_some(Some((m, args)))
    }

    pub(super) fn record(&mut self, name: &Name, parts: &[(Name, A)], span: Span) -> Expr {
        let Some(&(Global::Record(r), _)) = self.globals.get(&name.text) else {
            self.unknown(name, "record");
            return self.bad(span);
        };
        let def = self.records[r].clone();
        let mut out: Vec<Option<Expr>> = vec![None; def.parts.len()];
        for (part, value) in parts {
            let value = self.expr(value);
            match def.parts.iter().position(|(n, _)| *n == part.text) {
                Some(i) => {
                    let dom = &def.parts[i].1;
                    let value = self.coerce(value, dom.scalar().ty());
                    if value.ty == Ty::Bad {
                        return self.bad(span);
                    }
                    if out[i].replace(within(value, dom)).is_some() {
                        self.error("M057", part.span, format!("`{}` is given twice", part.text));
                    }
                }
                None if self.lost.contains(&part.text) => return self.bad(span),
                None => {
                    let message = format!("`{}` has no part `{}`", def.name, part.text);
                    let near = near(&part.text, def.parts.iter().map(|p| p.0.as_str())).map(str::to_string);
                    let error = self.error("M057", part.span, message);
                    if let Some(n) = near {
                        error.notes.push(format!("did you mean `{n}`?"));
                    }
                    return self.bad(span);
                }
            }
        }
        if let Some(i) = out.iter().position(Option::is_none) {
            self.error("M057", span, format!("`{}` is missing", def.parts[i].0));
            return self.bad(span);
        }
        let parts = out.into_iter().flatten().collect();
        Expr { kind: Ek::MakeRecord(r, parts), ty: Ty::Record(r), span }
    }

    #[expect(clippy::too_many_lines, reason = "one arm for each thing that a name can be")]
    pub(super) fn name(&mut self, n: &str, span: Span) -> Expr {
        let make = |kind, ty| Expr { kind, ty, span };
        match n {
            "none" => return make(Ek::Const(NONE), Ty::Nothing),
            "stay" if !self.globals.contains_key(n) && self.local(n).is_none() => {
                return make(Ek::Const(0), Ty::Offset);
            }
            _ => {}
        }
        if self.place == Place::Question
            && !self.globals.contains_key(n)
            && self.local(n).is_none()
            && let Some((_, asked)) = ASKED.iter().find(|a| a.0 == n)
        {
            let ty = if *asked == Asked::Depth { Ty::Int } else { Ty::Bool };
            return make(Ek::Asked(*asked), ty);
        }
        if let Some(l) = self.local(n) {
            let ty = self.scope.locals[l].ty;
            return make(Ek::Local(l), ty);
        }
        if matches!(self.globals.get(n), Some((Global::Mistaken, _))) {
            return self.bad(span);
        }
        if let Some(d) = DIRS.iter().position(|d| *d == n) {
            return make(Ek::Const(d as i64), Ty::Dir);
        }
        match self.globals.get(n).copied() {
            Some((Global::Var(v), declared)) => {
                let def = &self.vars[v];
                let (ty, state) = (def.ty(), def.state);
                if state && matches!(self.place, Place::Const | Place::Level) || self.place == Place::Const {
                    let file = self.file;
                    let what = if self.place == Place::Const { "a constant" } else { "the level alone" };
                    self.error("M033", span, format!("`{n}` is not known here: {what} decides this"))
                        .labels
                        .push(crate::source::Label { file, span: declared, text: "declared here".into() });
                    return self.bad(span);
                }
                make(Ek::Var(When::Now, v), ty)
            }
            Some((Global::Mistaken, _)) => self.bad(span),
            Some((Global::Const(i), _)) => Expr { span, ..self.const_value(i) },
            Some((Global::EnumValue(e, i), _)) => {
                let homes: Vec<&str> = self
                    .enums
                    .iter()
                    .filter(|d| d.values.iter().any(|v| v == n))
                    .map(|d| d.name.as_str())
                    .collect();
                if homes.len() > 1 {
                    let note = format!("write `{}.{n}` or `{}.{n}`", homes[0], homes[1]);
                    self.error("M034", span, format!("`{n}` is a value of two enums")).notes.push(note);
                    return self.bad(span);
                }
                make(Ek::Const(i as i64), Ty::Enum(e))
            }
            Some((Global::Tally(_), declared)) => {
                let file = self.file;
                let error = self.error("M035", span, format!("the tally `{n}` cannot be read by a rule"));
                error.labels.push(crate::source::Label {
                    file,
                    span: declared,
                    text: "declared here".into(),
                });
                error
                    .notes
                    .push("a tally is no part of the state; make it a `state` variable to use it".into());
                self.bad(span)
            }
            Some((Global::Fn(f), _)) if self.derived.contains(&f) => {
                self.call(&Name { text: n.to_string(), span }, &[], span)
            }
            Some((Global::Fn(_), _)) => {
                self.error("M023", span, format!("`{n}` is a function"))
                    .notes
                    .push(format!("call it: `{n}()`"));
                self.bad(span)
            }
            Some((other, _)) => {
                self.error("M023", span, format!("`{n}` is {}, not a value", other.what()));
                self.bad(span)
            }
            None => {
                if let Some((r, c)) = cell_name(n) {
                    let part = |n: i64| make(Ek::Const(n), Ty::Int);
                    let place = make(Ek::Builtin(Builtin::PlaceAt, vec![part(r), part(c)]), Ty::Place);
                    return make(Ek::ToCell(Box::new(place)), Ty::Cell);
                }
                self.unknown(&Name { text: n.to_string(), span }, "value");
                self.bad(span)
            }
        }
    }

    pub(super) fn field(&mut self, base: &A, field: &Name, span: Span) -> Expr {
        if let K::Name(n) = &base.kind {
            let when = match n.as_str() {
                "before" => Some(When::Before),
                "start" => Some(When::Start),
                _ => None,
            };
            if let Some(when) = when {
                if when == When::Before
                    && !matches!(self.place, Place::Move | Place::Proc | Place::After | Place::Tick)
                {
                    self.error("M036", span, "`before` is known only while a move is made");
                    return self.bad(span);
                }
                let Some(&(Global::Var(v), _)) = self.globals.get(&field.text) else {
                    self.unknown(field, "state variable");
                    return self.bad(span);
                };
                let ty = self.vars[v].ty();
                if !self.vars[v].state {
                    self.error(
                        "M036",
                        span,
                        format!("`{}` belongs to the level and never changes", field.text),
                    );
                    return self.bad(span);
                }
                if when == When::Start && self.has_setup {
                    // Each drawn start is a start of its own: what it was is part of the state.
                    let shadow = self.shadow(v);
                    return Expr { kind: Ek::Var(When::Now, shadow), ty, span };
                }
                return Expr { kind: Ek::Var(when, v), ty, span };
            }
            if let Some(&(Global::Enum(e), _)) = self.globals.get(n) {
                return match self.enums[e].values.iter().position(|v| *v == field.text) {
                    Some(i) => Expr { kind: Ek::Const(i as i64), ty: Ty::Enum(e), span },
                    None => {
                        let values = self.enums[e].values.join(", ");
                        self.error("M010", field.span, format!("`{n}` has no value `{}`", field.text))
                            .notes
                            .push(format!("its values are: {values}"));
                        self.bad(span)
                    }
                };
            }
        }
        let base = self.expr(base);
        let ty = base.ty;
        match ty {
            Ty::Bad => return self.bad(span),
            Ty::List(s, false) if field.text == "last" || field.text == "first" => {
                let end = if field.text == "last" { ListEnd::Last } else { ListEnd::First };
                let kind = Ek::End(Box::new(base), end);
                return Expr { kind, ty: s.ty(), span };
            }
            Ty::Record(r) => {
                let parts = &self.records[r].parts;
                if let Some(i) = parts.iter().position(|(n, _)| *n == field.text) {
                    let ty = parts[i].1.scalar().ty();
                    return Expr { kind: Ek::Part(Box::new(base), r, i), ty, span };
                }
                if self.lost.contains(&field.text) {
                    return self.bad(span);
                }
                let list = parts.iter().map(|p| p.0.as_str()).collect::<Vec<_>>().join(", ");
                let message = format!("`{}` has no part `{}`", self.records[r].name, field.text);
                self.error("M057", field.span, message).notes.push(format!("its parts are: {list}"));
                return self.bad(span);
            }
            _ => {}
        }
        let message = format!("{} has no part `{}`", self.tn(ty), field.text);
        self.error("M037", field.span, message).notes.push(
            "with a dot are written: `before.x`, `start.x`, `ENUM.value`, `list.last`, `list.first`, parts of records"
                .into(),
        );
        self.bad(span)
    }

    pub(super) fn index(&mut self, block: Expr, index: Expr, span: Span) -> Expr {
        let elem = match block.ty {
            Ty::Set => Ty::Bool,
            Ty::Grid(s) => s.ty(),
            Ty::Array(Keyed::Pair(p), s) => {
                let index = self.first_index(p, index);
                if index.ty == Ty::Bad {
                    return index;
                }
                return Expr { kind: Ek::Index(Box::new(block), Box::new(index)), ty: Ty::Part(p, s), span };
            }
            Ty::Part(p, s) => {
                let Ek::Index(array, first) = block.kind else { return self.bad(span) };
                let index = self.second_index(p, *first, index);
                if index.ty == Ty::Bad {
                    return index;
                }
                return Expr { kind: Ek::Index(array, Box::new(index)), ty: s.ty(), span };
            }
            Ty::Array(e, s) => {
                let index = self.key_index(e, index);
                return Expr { kind: Ek::Index(Box::new(block), Box::new(index)), ty: s.ty(), span };
            }
            Ty::Lists(e, s, bag) => {
                let index = self.key_index(e, index);
                return Expr {
                    kind: Ek::Index(Box::new(block), Box::new(index)),
                    ty: Ty::List(s, bag),
                    span,
                };
            }
            Ty::List(s, false) => {
                let index = self.coerce(index, Ty::Int);
                return Expr { kind: Ek::Entry(Box::new(block), Box::new(index)), ty: s.ty(), span };
            }
            Ty::Bad => return self.bad(span),
            ty => {
                let message = format!("only boards, sets and arrays have parts, this is {}", self.tn(ty));
                self.error("M027", block.span, message);
                return self.bad(span);
            }
        };
        if index.ty == Ty::Place
            && let Ek::Var(_, v) = block.kind
            && let Some(outside) = self.vars[v].outside.clone()
        {
            let kind = Ek::IndexOutside(Box::new(block), Box::new(index), Box::new(outside));
            return Expr { kind, ty: elem, span };
        }
        let index = self.cell_index(index);
        Expr { kind: Ek::Index(Box::new(block), Box::new(index)), ty: elem, span }
    }

    pub(super) fn quant(
        &mut self,
        kind: QuantKind,
        binder: &tree::Binder,
        body: Option<&A>,
        span: Span,
    ) -> Expr {
        self.nested(|c| {
            let (local, over, filter) = c.binder(binder);
            let elem = c.scope.locals[local].ty;
            let body = body.map(|b| c.expr(b));
            let (body, ty) = match kind {
                QuantKind::Count | QuantKind::The | QuantKind::First | QuantKind::Set => {
                    if let Some(b) = &body {
                        c.error("M039", b.span, "nothing stands after the colon in this form")
                            .notes
                            .push("put the condition after `where`".into());
                    }
                    if kind == QuantKind::Set && !matches!(elem, Ty::Cell | Ty::Bad) {
                        c.error("M039", span, "a set holds cells");
                    }
                    let ty = match kind {
                        QuantKind::Count => Ty::Int,
                        QuantKind::Set => Ty::Set,
                        _ => elem,
                    };
                    (None, ty)
                }
                QuantKind::All | QuantKind::Any => {
                    if body.is_none() && (kind == QuantKind::All || filter.is_none()) {
                        c.error("M039", span, "what is to hold is missing")
                            .notes
                            .push("write it after a colon: `all(c on tile: tile[c] > 0)`".into());
                    }
                    (body.map(|b| c.coerce(b, Ty::Bool)), Ty::Bool)
                }
                QuantKind::List => {
                    let value = body.unwrap_or(Expr { kind: Ek::Local(local), ty: elem, span });
                    let scalar = value.ty.scalar();
                    if scalar.is_none() && value.ty != Ty::Bad {
                        let message = format!("a list holds single values, this is {}", c.tn(value.ty));
                        c.error("M020", value.span, message);
                    }
                    let ty = scalar.map_or(Ty::Bad, |s| Ty::List(s, false));
                    (Some(value), ty)
                }
                QuantKind::Sum | QuantKind::Min | QuantKind::Max => {
                    if body.is_none() {
                        c.error("M039", span, "what is to be added or compared is missing")
                            .notes
                            .push("write it after a colon: `sum(c on tile: tile[c])`".into());
                    }
                    (body.map(|b| c.coerce(b, Ty::Int)), Ty::Int)
                }
            };
            Expr { kind: Ek::Quant(Box::new(Quant { kind, local, over, filter, body })), ty, span }
        })
    }
}
