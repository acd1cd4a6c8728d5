//! Types as they are written, and how they are called in messages.

use super::*;

impl Checker<'_> {
    pub(super) fn tn(&self, ty: Ty) -> String {
        match ty {
            Ty::Bool => "a bool".into(),
            Ty::Int => "a number".into(),
            Ty::Enum(e) => format!("a value of `{}`", self.enums[e].name),
            Ty::Dir => "a direction".into(),
            Ty::Offset => "an offset".into(),
            Ty::Cell => "a cell".into(),
            Ty::Place => "a place".into(),
            Ty::Lane => "a lane".into(),
            Ty::Set => "a set of cells".into(),
            Ty::Grid(s) => format!("a grid of {}", self.sn(s)),
            Ty::Array(k, s) => format!("an array {} of {}", self.kn(k), self.sn(s)),
            Ty::Part(p, s) => match self.pairs[p].1 {
                Keyed::Cell => format!("a grid of {}", self.sn(s)),
                key => format!("an array {} of {}", self.kn(key), self.sn(s)),
            },
            Ty::List(s, bag) => format!("a {} of {}", if bag { "bag" } else { "list" }, self.sn(s)),
            Ty::Lists(k, s, bag) => {
                format!("an array {} of {}s of {}", self.kn(k), if bag { "bag" } else { "list" }, self.sn(s))
            }
            Ty::Record(r) => format!("a `{}`", self.records[r].name),
            Ty::Placed(p) => format!("a placed `{}`", self.shapes[p].name),
            Ty::Maybe(b) => format!("maybe {}", self.sn(b.scalar())),
            Ty::Nothing => "`none`".into(),
            Ty::Bad => "something wrong".into(),
        }
    }

    pub(super) fn sn(&self, s: Scalar) -> String {
        match s {
            Scalar::Bool => "bool".into(),
            Scalar::Int => "number".into(),
            Scalar::Enum(e) => self.enums[e].name.clone(),
            Scalar::Dir => "direction".into(),
            Scalar::Cell => "cell".into(),
            Scalar::Record(r) => self.records[r].name.clone(),
            Scalar::Placed(p) => format!("placed {}", self.shapes[p].name),
            Scalar::Maybe(b) => format!("maybe {}", self.sn(b.scalar())),
        }
    }

    pub(super) fn kn(&self, k: Keyed) -> String {
        match k {
            Keyed::Enum(e) => self.enums[e].name.clone(),
            Keyed::Row => "row".into(),
            Keyed::Column => "column".into(),
            Keyed::Range(_) => "of a range".into(),
            Keyed::Cell => "cell".into(),
            Keyed::Pair(p) => format!("{} and {}", self.kn(self.pairs[p].0), self.kn(self.pairs[p].1)),
        }
    }

    #[allow(clippy::type_complexity)]
    pub(super) fn var_type(
        &mut self,
        ty: &tree::Type,
    ) -> Option<(Extent, Dom, Option<(Expr, Expr)>, Option<VarId>, Option<Expr>)> {
        let (shape, dom, sized, rearranged) = match &ty.kind {
            tree::TypeKind::List { elem, max, bag } => {
                let (dom, max) = self.list_type(elem, max)?;
                return Some((Extent::List(*bag), dom, None, None, Some(max)));
            }
            tree::TypeKind::Array(_, elem) | tree::TypeKind::ArrayBy(_, _, elem) => {
                let key = self.key(ty)?;
                if let tree::TypeKind::List { elem, max, bag } = &elem.kind {
                    let (dom, max) = self.list_type(elem, max)?;
                    return Some((Extent::Lists(key, *bag), dom, None, None, Some(max)));
                }
                let second = match &elem.kind {
                    tree::TypeKind::Array(..) | tree::TypeKind::ArrayBy(..) => Some(self.key(elem)?),
                    tree::TypeKind::Set | tree::TypeKind::Grid(..) => Some(Keyed::Cell),
                    _ => None,
                };
                let Some(second) = second else { return self.array_of(key, elem) };
                self.pairs.push((key, second));
                let key = Keyed::Pair(self.pairs.len() - 1);
                match &elem.kind {
                    tree::TypeKind::Array(_, inner)
                    | tree::TypeKind::ArrayBy(_, _, inner)
                    | tree::TypeKind::Grid(inner, None) => return self.array_of(key, inner),
                    tree::TypeKind::Set => (Extent::Array(key), Dom::Bool, None, None),
                    _ => {
                        self.error("M012", elem.span, "the grids of an array are as large as the board")
                            .notes
                            .push("leave out `sized`".into());
                        return None;
                    }
                }
            }
            tree::TypeKind::Grid(elem, sized) => {
                let dom = self.dom(elem)?;
                let sized = sized.as_ref().map(|(r, c)| {
                    let r = self.lone(r, Place::Level);
                    let c = self.lone(c, Place::Level);
                    (self.coerce(r, Ty::Int), self.coerce(c, Ty::Int))
                });
                (Extent::Grid, dom, sized, None)
            }
            tree::TypeKind::Set => (Extent::Set, Dom::Bool, None, None),
            tree::TypeKind::Rearranged(target) => match self.globals.get(&target.text) {
                Some(&(Global::Var(v), _)) if self.vars[v].shape == Extent::Grid && !self.vars[v].state => {
                    (Extent::Grid, self.vars[v].dom.clone(), None, Some(v))
                }
                Some(&(Global::Var(v), _))
                    if self.vars[v].shape == Extent::List(false) && !self.vars[v].state =>
                {
                    let of = &self.vars[v];
                    return Some((of.shape, of.dom.clone(), None, Some(v), of.max.clone()));
                }
                _ => {
                    let message = "`rearranged` wants a grid or a list of the level, declared above";
                    self.error("M009", target.span, message)
                        .notes
                        .push(format!("declare it: `level {}: grid of 0..9`", target.text));
                    return None;
                }
            },
            _ => (Extent::One, self.dom(ty)?, None, None),
        };
        Some((shape, dom, sized, rearranged, None))
    }

    #[allow(clippy::type_complexity)]
    fn array_of(
        &mut self,
        key: Keyed,
        elem: &tree::Type,
    ) -> Option<(Extent, Dom, Option<(Expr, Expr)>, Option<VarId>, Option<Expr>)> {
        Some((Extent::Array(key), self.dom(elem)?, None, None, None))
    }

    pub(super) fn list_type(&mut self, elem: &tree::Type, max: &A) -> Option<(Dom, Expr)> {
        let dom = self.dom(elem)?;
        let max = self.lone(max, Place::Level);
        Some((dom, self.coerce(max, Ty::Int)))
    }

    pub(super) fn key(&mut self, ty: &tree::Type) -> Option<Keyed> {
        match &ty.kind {
            tree::TypeKind::Array(key, _) => match (key.text.as_str(), self.globals.get(&key.text)) {
                ("row", _) => Some(Keyed::Row),
                ("column", _) => Some(Keyed::Column),
                (_, Some(&(Global::Enum(e), _))) => Some(Keyed::Enum(e)),
                _ => {
                    self.unknown(key, "enum");
                    None
                }
            },
            tree::TypeKind::ArrayBy(lo, hi, _) => {
                let lo = self.lone(lo, Place::Level);
                let hi = self.lone(hi, Place::Level);
                let range = (self.coerce(lo, Ty::Int), self.coerce(hi, Ty::Int));
                self.ranges.push(range);
                Some(Keyed::Range(self.ranges.len() - 1))
            }
            _ => None,
        }
    }

    pub(super) fn dom(&mut self, ty: &tree::Type) -> Option<Dom> {
        match &ty.kind {
            tree::TypeKind::Range(lo, hi) => {
                let lo = self.lone(lo, Place::Level);
                let hi = self.lone(hi, Place::Level);
                let (lo, hi) = (self.coerce(lo, Ty::Int), self.coerce(hi, Ty::Int));
                if let (Ek::Const(a), Ek::Const(b)) = (&lo.kind, &hi.kind)
                    && a > b
                    && lo.ty != Ty::Bad
                    && hi.ty != Ty::Bad
                {
                    self.error("M011", ty.span, format!("the range {a}..{b} is empty"));
                    return None;
                }
                Some(Dom::Range(Box::new(lo), Box::new(hi)))
            }
            tree::TypeKind::Named(name) => match name.as_str() {
                "bool" => Some(Dom::Bool),
                "cell" => Some(Dom::Cell),
                "dir4" => Some(Dom::Dir4),
                "dir8" => Some(Dom::Dir8),
                _ => match self.globals.get(name) {
                    Some(&(Global::Enum(e), _)) => Some(Dom::Enum(e)),
                    Some(&(Global::Record(r), _)) => Some(Dom::Record(r)),
                    _ => {
                        let name = Name { text: name.clone(), span: ty.span };
                        self.unknown_type(&name);
                        None
                    }
                },
            },
            tree::TypeKind::First(count, name) => match self.globals.get(&name.text) {
                Some(&(Global::Enum(e), _)) => {
                    let count = self.lone(count, Place::Level);
                    let count = self.coerce(count, Ty::Int);
                    Some(Dom::First(e, Box::new(count)))
                }
                _ => {
                    self.unknown(name, "enum");
                    None
                }
            },
            tree::TypeKind::Maybe(inner) => {
                let dom = self.dom(inner)?;
                if dom.scalar().base().is_none() {
                    self.error(
                        "M012",
                        ty.span,
                        "`maybe` holds a number, a value of an enum, a cell or the like",
                    )
                    .notes
                    .push("a `maybe bool` is an enum of three values".into());
                    return None;
                }
                Some(Dom::Maybe(Box::new(dom)))
            }
            tree::TypeKind::Placed(name) => match self.shapes.iter().position(|s| s.name == name.text) {
                Some(s) => Some(Dom::Placed(s)),
                None => {
                    self.unknown(name, "group of shapes");
                    None
                }
            },
            tree::TypeKind::Unsupported => None,
            _ => {
                self.error("M012", ty.span, "a single value is wanted here, not a collection").notes.push(
                    "grids, sets and arrays hold bools, ranges, enum values, directions or cells".into(),
                );
                None
            }
        }
    }

    pub(super) fn unknown_type(&mut self, name: &Name) {
        if self.lost.contains(&name.text) {
            return;
        }
        let mut known: Vec<String> = self.enums.iter().map(|e| e.name.clone()).collect();
        known.extend(self.records.iter().map(|r| r.name.clone()));
        known.extend(
            ["bool", "cell", "dir4", "dir8", "grid", "set", "array", "list", "bag", "maybe", "placed"]
                .map(String::from),
        );
        let near = near(&name.text, known.iter().map(String::as_str)).map(str::to_string);
        let error = self.error("M013", name.span, format!("no type is named `{}`", name.text));
        match near {
            Some(n) => error.notes.push(format!("did you mean `{n}`?")),
            None => error.notes.push(format!("types are: {}, and ranges such as 0..9", known.join(", "))),
        }
    }

    pub(super) fn const_value(&mut self, i: usize) -> Expr {
        if let Some(e) = &self.consts[i] {
            return e.clone();
        }
        let (name, ast) = self.const_asts[i].clone();
        // Marked before it is known: a constant that needs itself is wrong.
        self.consts[i] = Some(Expr { kind: Ek::Const(0), ty: Ty::Bad, span: name.span });
        let e = self.lone(&ast, Place::Const);
        if e.ty.is_block() || matches!(e.ty, Ty::Lane) {
            self.error("M014", ast.span, "a constant is a single value");
        }
        self.consts[i] = Some(e.clone());
        e
    }

    pub(super) fn params(&mut self, params: &[tree::Param]) -> Vec<Dom> {
        let mut doms = vec![];
        for p in params {
            let (ty, dom) = match &p.ty.kind {
                tree::TypeKind::Named(n) if n == "place" => (Ty::Place, None),
                tree::TypeKind::Set => (Ty::Set, None),
                _ => match self.dom(&p.ty) {
                    Some(dom) => (dom.scalar().ty(), Some(dom)),
                    None => (Ty::Bad, None),
                },
            };
            self.bind(&p.name, ty, false, dom.clone());
            doms.push(dom.unwrap_or(Dom::Bool));
        }
        doms
    }
}
