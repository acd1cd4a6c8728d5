//! How things are shown: drawings as text, and pictures.

use super::*;

/// Whether values of a type stand on cells.
pub(crate) fn stands(scalar: Scalar) -> bool {
    matches!(
        scalar,
        Scalar::Cell | Scalar::Placed(_) | Scalar::Maybe(Base::Cell) | Scalar::Maybe(Base::Placed(_))
    )
}

impl Checker<'_> {
    // ---- pictures ----

    pub(super) fn look(&mut self, rule: &tree::LookRule, tells: &[TellDef]) -> Option<LookRule> {
        let name = &rule.target;
        let drawn = |v: &VarId| match self.vars[*v].shape {
            Extent::Grid | Extent::Set | Extent::Lists(..) => true,
            Extent::One | Extent::Array(_) | Extent::List(_) => stands(self.vars[*v].dom.scalar()),
        };
        let global = self.globals.get(&name.text).map(|g| g.0);
        let var = match global {
            Some(Global::Var(v)) => Some(v).filter(drawn),
            Some(Global::Mistaken) => return None,
            _ => None,
        };
        if let Some(Global::Fn(f)) = global
            && self.derived.contains(&f)
            && self.fns[f].as_ref().is_some_and(|d| d.body.ty == Ty::Set)
        {
            let mut all: Vec<usize> = self.derived.iter().copied().collect();
            all.sort_unstable();
            let at = all.iter().position(|d| *d == f).unwrap_or(0);
            let look = self.look_of(rule, name)?;
            return Some(LookRule { of: vec![Drawee::Derived(at)], values: None, look });
        }
        let tell = tells.iter().position(|t| t.name == name.text);
        let scalar = match (var, tell) {
            // Shapes are told apart by their parts, or by their kinds, cells of an array by their keys.
            (Some(v), _) => match (self.vars[v].dom.scalar(), self.vars[v].shape) {
                (Scalar::Placed(s) | Scalar::Maybe(Base::Placed(s)), _) => {
                    Scalar::Enum(self.shapes[s].of.unwrap_or(self.shapes[s].kind))
                }
                (scalar, Extent::Array(Keyed::Enum(e))) if stands(scalar) => Scalar::Enum(e),
                (scalar, Extent::Array(_) | Extent::List(_)) if stands(scalar) => Scalar::Int,
                (scalar, _) => scalar,
            },
            (None, Some(t)) => tells[t].value.ty.scalar().unwrap_or(Scalar::Int),
            (None, None) if global.is_none() => {
                self.unknown(name, "variable");
                return None;
            }
            (None, None) => {
                self.error("M067", name.span, format!("`{}` stands on no cell of a picture", name.text))
                    .notes
                    .push(
                        "grids, sets, cells, placed shapes, arrays of lists, and what is told can be drawn"
                            .into(),
                    );
                return None;
            }
        };
        let of: Vec<Drawee> = var.map(Drawee::Var).into_iter().chain(tell.map(Drawee::Tell)).collect();
        let valued = var.is_none_or(|v| {
            let def = &self.vars[v];
            !matches!(def.shape, Extent::One | Extent::Set)
                || matches!(def.dom.scalar(), Scalar::Placed(_) | Scalar::Maybe(Base::Placed(_)))
        });
        let mut values = None;
        if let Some((from, to)) = &rule.values {
            if !valued {
                self.error(
                    "M067",
                    name.span,
                    format!("`{}` is there or not: it has no values here", name.text),
                );
                return None;
            }
            let mut one = |e: &A| {
                let value = self.lone(e, Place::Level);
                let value = self.coerce(value, scalar.ty());
                match value.kind {
                    Ek::Const(n) => Some(n),
                    _ => {
                        self.error("M041", value.span, "this must be a plain value");
                        None
                    }
                }
            };
            let lo = one(from)?;
            let hi = if let Some(to) = to { one(to)? } else { lo };
            values = Some((lo, hi));
        }
        let look = self.look_of(rule, name)?;
        Some(LookRule { of, values, look })
    }

    /// The form, the colour and the label of a line.
    #[allow(clippy::unnecessary_wraps)]
    fn look_of(&mut self, rule: &tree::LookRule, name: &Name) -> Option<Look> {
        let mut look = Look { label: rule.label.as_ref().map(|l| l.0.clone()), ..Look::default() };
        let mut twice = None;
        for word in &rule.words {
            let at = |list: &[&str]| list.iter().position(|w| *w == word.text);
            if let Some(f) = at(&FIGURES) {
                twice = twice.or(look.figure.replace(f).map(|_| word.span));
            } else if let Some(p) = at(&PAINTS) {
                twice = twice.or(look.paint.replace(Paint::Named(p)).map(|_| word.span));
            } else {
                let all = || FIGURES.iter().chain(&PAINTS).copied();
                let near = near(&word.text, all()).map(str::to_string);
                let error =
                    self.error("M068", word.span, format!("no form and no colour is named `{}`", word.text));
                error.notes.extend(near.map(|n| format!("did you mean `{n}`?")));
                error.notes.push(format!("forms: {}", FIGURES.join(", ")));
                error.notes.push(format!("colours: {}, and rgb(R, G, B)", PAINTS.join(", ")));
            }
        }
        if let Some((parts, span)) = rule.rgb {
            match parts.map(u8::try_from) {
                [Ok(r), Ok(g), Ok(b)] => {
                    twice = twice.or(look.paint.replace(Paint::Rgb(r, g, b)).map(|_| span));
                }
                _ => {
                    self.error("M068", span, "the parts of a colour are numbers from 0 to 255");
                }
            }
        }
        if let Some(span) = twice {
            self.error("M068", span, "one form and one colour are enough");
        }
        if look == Look::default() && rule.words.is_empty() && rule.rgb.is_none() {
            self.error("M068", name.span, "this says nothing: name a form, a colour or a label in quotes");
        }
        Some(look)
    }

    // ---- show ----

    /// A condition about the cell at which a glyph is drawn; the cell is its first local name.
    fn drawn_where(&mut self, at: Option<&Name>, condition: &A) -> Option<Body> {
        let Some(at) = at else {
            self.error("M044", condition.span, "nothing names the cell that this is about")
                .notes
                .push("name it in the head: `show NAME at c { ... }`".into());
            return None;
        };
        let scope = std::mem::take(&mut self.scope);
        let old = std::mem::replace(&mut self.place, Place::Cond);
        self.bind(at, Ty::Cell, false, None);
        let expr = self.expr(condition);
        let expr = self.coerce(expr, Ty::Bool);
        let locals = std::mem::replace(&mut self.scope, scope).locals;
        self.place = old;
        Some(Body { expr, locals })
    }

    pub(super) fn show(
        &mut self,
        name: &Name,
        (joined, layered): (bool, bool),
        at: Option<&Name>,
        rules: &[tree::ShowRule],
    ) -> Option<Show> {
        if let Some(&(global, declared)) = self.globals.get(&name.text) {
            let Global::Var(var) = global else {
                if global != Global::Mistaken {
                    let file = self.file;
                    self.error(
                        "M040",
                        name.span,
                        format!("`{}` is {}, not a grid", name.text, global.what()),
                    )
                    .labels
                    .push(crate::source::Label {
                        file,
                        span: declared,
                        text: "declared here".into(),
                    });
                }
                return None;
            };
            return self.show_values(var, name, (joined, layered), at, rules);
        }
        self.show_drawing(name, layered, at, rules)
    }

    /// How one grid is drawn, value by value.
    fn show_values(
        &mut self,
        var: VarId,
        name: &Name,
        (joined, layered): (bool, bool),
        at: Option<&Name>,
        rules: &[tree::ShowRule],
    ) -> Option<Show> {
        if self.vars[var].shape != Extent::Grid && self.vars[var].shape != Extent::Set {
            self.error("M040", name.span, format!("`{}` is no grid", name.text));
            return None;
        }
        if let Some(span) = at.map(|n| n.span).or(layered.then_some(name.span)) {
            self.error("M040", span, "`layered` and `at` are for drawings of several variables")
                .notes
                .push("give the drawing a name of its own".into());
        }
        let want = self.vars[var].dom.scalar().ty();
        let mut glyphs: Vec<(i64, String)> = vec![];
        for rule in rules {
            let [fact] = rule.facts.as_slice() else {
                self.error("M041", rule.span, "a rule for one grid is a value and its glyph");
                continue;
            };
            let value = self.lone(fact, Place::Level);
            let value = self.coerce(value, want);
            let span = value.span;
            let Some(value) = constant_of(value) else {
                self.error("M041", span, "this must be a plain value");
                continue;
            };
            if glyphs.iter().any(|(v, g)| *v == value || *g == rule.glyph) {
                self.error("M042", rule.span, "this glyph or value has a rule already");
            }
            if rule.glyph.is_empty()
                || rule.glyph.contains(|c: char| c.is_whitespace() || "/;=".contains(c))
                || (joined && rule.glyph.chars().count() != 1)
            {
                self.error("M043", rule.span, "this cannot be a glyph here").notes.push(
                    "glyphs hold no blanks and none of / ; =, and are one character when joined".into(),
                );
            }
            glyphs.push((value, rule.glyph.clone()));
        }
        Some(Show::Values { var, glyphs, joined })
    }

    /// Several variables in one drawing, one glyph a cell.
    fn show_drawing(
        &mut self,
        name: &Name,
        layered: bool,
        at: Option<&Name>,
        rules: &[tree::ShowRule],
    ) -> Option<Show> {
        let mut vars: Vec<VarId> = vec![];
        let mut out: Vec<DrawRule> = vec![];
        for rule in rules {
            let mut chars = rule.glyph.chars();
            let glyph = match (chars.next(), chars.next()) {
                (Some(c), None) if !c.is_whitespace() && !"/;=".contains(c) => c,
                _ => {
                    self.error("M043", rule.span, "a glyph of a drawing is one character")
                        .notes
                        .push("any but blanks and / ; =".into());
                    continue;
                }
            };
            let Some((mut facts, follows)) = self.facts(rule, &mut vars) else { continue };
            facts.sort_by_key(|f| f.var);
            let member = Name { text: "drawn cell".into(), span: rule.span };
            let here = A { kind: K::Name(at.unwrap_or(&member).text.clone()), span: rule.span };
            let mut condition = rule.filter.clone();
            for set in follows {
                let span = set.span;
                let inside = A { kind: K::Bin(BinOp::In, Box::new(here.clone()), Box::new(set)), span };
                condition = Some(match condition {
                    None => inside,
                    Some(c) => A { span: c.span, kind: K::Bin(BinOp::And, Box::new(inside), Box::new(c)) },
                });
            }
            let when = match &condition {
                None => None,
                Some(c) => {
                    let named = if rule.filter.is_some() { at } else { Some(at.unwrap_or(&member)) };
                    match self.drawn_where(named, c) {
                        Some(body) => Some(body),
                        None => continue,
                    }
                }
            };
            if out.iter().any(|r| r.glyph == glyph) {
                self.error("M042", rule.span, format!("the glyph `{glyph}` has a rule already"));
            } else if when.is_none() && out.iter().any(|r| r.when.is_none() && r.facts == facts) {
                self.error("M042", rule.span, "another glyph says the same already");
            }
            out.push(DrawRule { glyph, facts, when });
        }
        if !out.iter().any(|r| r.facts.is_empty() && r.when.is_none()) && !rules.is_empty() {
            self.error("M045", name.span, format!("`{}` has no glyph for an empty cell", name.text))
                .notes
                .push("add a rule with nothing behind the glyph, such as \".\"".into());
        }
        vars.sort_unstable();
        Some(Show::Drawing { name: name.text.clone(), vars, rules: out, layered, span: name.span })
    }

    /// What a rule of a drawing says of its cell, variable by variable, and the derived sets that the cell is a member of. `None` where
    /// there is a mistake. `vars` gets the variables.
    fn facts(&mut self, rule: &tree::ShowRule, vars: &mut Vec<VarId>) -> Option<(Vec<Fact>, Vec<A>)> {
        let before = self.errors.len();
        let mut sound = true;
        let mut facts: Vec<Fact> = vec![];
        let mut follows: Vec<A> = vec![];
        for fact in &rule.facts {
            let (target, value) = match &fact.kind {
                K::Bin(BinOp::Eq, t, v) => (&**t, Some(&**v)),
                _ => (fact, None),
            };
            let K::Name(n) = &target.kind else {
                self.error("M044", target.span, "a fact is a variable, or `variable = value`");
                continue;
            };
            if let Some(&(Global::Fn(f), _)) = self.globals.get(n)
                && self.derived.contains(&f)
                && value.is_none()
            {
                follows.push(target.clone());
                continue;
            }
            let Some(&(Global::Var(var), _)) = self.globals.get(n) else {
                if !matches!(self.globals.get(n), Some((Global::Mistaken, _))) {
                    self.unknown(&Name { text: n.clone(), span: target.span }, "variable");
                }
                sound = false;
                continue;
            };
            let def = &self.vars[var];
            let scalar = def.dom.scalar();
            let value = match (def.shape, value) {
                (Extent::One | Extent::Array(_) | Extent::List(_), None) if stands(scalar) => 1,
                (Extent::Grid, Some(v)) => {
                    let v = self.lone(v, Place::Level);
                    let v = self.coerce(v, scalar.ty());
                    match constant_of(v) {
                        Some(n) => n,
                        None => {
                            self.error("M041", fact.span, "this must be a plain value");
                            continue;
                        }
                    }
                }
                (Extent::Grid, None) if scalar == Scalar::Bool => 1,
                (Extent::Set, None) => 1,
                _ => {
                    self.error("M044", fact.span, format!("a drawing cannot say this of `{n}`"))
                        .notes
                        .push(
                            "it can say a set or a grid of bools, `grid = value`, or where cells and placed shapes are; \
                             anything else stands behind `where`"
                                .into(),
                        );
                    continue;
                }
            };
            if !vars.contains(&var) {
                vars.push(var);
            }
            facts.push(Fact { var, value });
        }
        (sound && self.errors.len() == before).then_some((facts, follows))
    }
}

/// The value of an expression that is a plain value.
fn constant_of(e: Expr) -> Option<i64> {
    if let Ek::Const(n) = e.kind { Some(n) } else { None }
}
