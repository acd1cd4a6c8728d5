//! What the items of a model declare: names, and variables with their types.

use super::*;

impl Checker<'_> {
    /// The values of an array by its keys, in their order, where it is keyed by an enum.
    fn key_defaults(&mut self, shape: Extent, elem: Ty, given: &[(Name, A)]) -> Vec<Expr> {
        let Some((first, _)) = given.first() else { return vec![] };
        let Extent::Array(Keyed::Enum(e)) = shape else {
            self.error("M008", first.span, "values by key are for arrays that are keyed by an enum");
            return vec![];
        };
        let keys = self.enums[e].values.clone();
        let mut out: Vec<Option<Expr>> = vec![None; keys.len()];
        for (key, value) in given {
            let value = self.lone(value, Place::Level);
            let value = self.coerce(value, elem);
            match keys.iter().position(|k| *k == key.text) {
                Some(k) => out[k] = Some(value),
                None => {
                    let note = format!("its keys are: {}", keys.join(", "));
                    self.error("M010", key.span, format!("`{}` is no key here", key.text)).notes.push(note);
                }
            }
        }
        if let Some(k) = out.iter().position(Option::is_none) {
            self.error("M008", first.span, format!("the value of `{}` is missing", keys[k]));
            return vec![];
        }
        out.into_iter().flatten().collect()
    }

    /// The hidden variable that keeps what another one began with.
    pub(super) fn shadow(&mut self, v: VarId) -> VarId {
        if let Some(i) = self.vars.iter().position(|d| d.shadow_of == Some(v)).map(VarId) {
            return i;
        }
        let def = self.vars[v].clone();
        self.vars.push(VarDef {
            name: format!("start.{}", def.name),
            rearranged: None,
            shuffled: None,
            shadow_of: Some(v),
            ..def
        });
        VarId(self.vars.len() - 1)
    }

    /// The hidden variable that counts moves for a tick, where more than one is waited for.
    pub(super) fn clock(&mut self, every: &A, span: Span) -> Option<(VarId, Expr)> {
        let every = self.lone(every, Place::Level);
        let every = self.coerce(every, Ty::Int);
        if matches!(every.kind, Ek::Const(1)) {
            return None;
        }
        let make = |kind| Expr { kind, ty: Ty::Int, span };
        let one = make(Ek::Const(1));
        let hi = make(Ek::Arith(Arith::Sub, Box::new(every.clone()), Box::new(one)));
        let number = self.vars.iter().filter(|v| v.clock).count();
        let name = if number == 0 { "clock".into() } else { format!("clock{}", number + 1) };
        let dom = Dom::Range(Box::new(make(Ek::Const(0))), Box::new(hi));
        self.vars.push(VarDef {
            state: true,
            default: Some(make(Ek::Const(0))),
            clock: true,
            ..VarDef::new(name, span, Extent::One, dom)
        });
        Some((VarId(self.vars.len() - 1), every))
    }

    pub(super) fn collect(&mut self, source: &tree::Source) {
        self.has_setup = source.items.iter().any(|i| matches!(i, Item::Setup { .. }));
        for item in &source.items {
            match item {
                Item::Const(name, value) if self.declare(name, Global::Const(self.const_asts.len())) => {
                    self.const_asts.push((name.clone(), value.clone()));
                    self.consts.push(None);
                }
                Item::Enum(name, values) => {
                    self.declare_enum(name, &values.iter().collect::<Vec<_>>());
                }
                Item::Shapes { name, shapes, .. } => {
                    self.declare_enum(name, &shapes.iter().map(|d| &d.name).collect::<Vec<_>>());
                }
                Item::Record(name, _) => {
                    self.declare(name, Global::Record(RecordId(self.records.len())));
                    self.records.push(RecordDef { name: name.text.clone(), parts: vec![] });
                }
                Item::Tally(names) => {
                    for name in names {
                        self.declare(name, Global::Tally(self.tallies.len()));
                        self.tallies.push(name.text.clone());
                    }
                }
                Item::Fn { name, params, result, body }
                    if self.declare(name, Global::Fn(self.fn_asts.len())) =>
                {
                    self.fn_asts.push(FnTree {
                        name: name.clone(),
                        params: params.clone(),
                        result: result.clone(),
                        body: body.clone(),
                    });
                    self.fns.push(None);
                    self.fn_heights.push(0);
                }
                Item::Derived { name, ty, value } if self.declare(name, Global::Fn(self.fn_asts.len())) => {
                    self.derived.insert(self.fn_asts.len());
                    self.fn_asts.push(FnTree {
                        name: name.clone(),
                        params: vec![],
                        result: ty.clone(),
                        body: value.clone(),
                    });
                    self.fns.push(None);
                    self.fn_heights.push(0);
                }
                Item::Proc { name, params, body }
                    if self.declare(name, Global::Proc(self.proc_asts.len())) =>
                {
                    self.proc_asts.push((name.clone(), params.clone(), body.clone()));
                    self.procs.push(None);
                    self.proc_heights.push(0);
                    self.proc_refuses.push(false);
                    self.proc_draws.push(false);
                }
                Item::Move { name, params, .. } => {
                    let next = (self.move_asts.len(), name.span);
                    if let Some((_, span)) = self.moves.insert(name.text.clone(), next) {
                        let file = self.file;
                        let message = format!("`{}` is already a move", name.text);
                        let label = crate::source::Label { file, span, text: "declared here".into() };
                        self.error("M002", name.span, message).labels.push(label);
                    }
                    self.move_asts.push((name.clone(), params.clone()));
                }
                _ => {}
            }
        }
        for item in &source.items {
            if let Item::Shapes { name, of, mirrored, shapes } = item
                && let Some(&(Global::Enum(kind), _)) = self.globals.get(&name.text)
            {
                self.shapes_def(name, (of.as_ref(), *mirrored), shapes, kind);
            }
        }
        // Variables come after enums, so that types may name enums declared below.
        let mut record = 0;
        for item in &source.items {
            if let Item::Record(name, parts) = item {
                self.records[record].parts = self.record_parts(name, parts);
                record += 1;
            }
            if matches!(item, Item::Var { .. }) {
                self.variables(item);
            }
        }
    }

    /// The parts of a record that have no mistake.
    fn record_parts(&mut self, name: &Name, parts: &[tree::Param]) -> Vec<(String, Dom)> {
        let mut out: Vec<(String, Dom)> = vec![];
        for part in parts {
            if out.iter().any(|(n, _)| *n == part.name.text) {
                self.error("M002", part.name.span, format!("`{}` is listed twice", part.name.text));
            }
            match self.dom(&part.ty) {
                Some(Dom::Record(_) | Dom::Placed(_) | Dom::Maybe(_)) => {
                    self.error("M012", part.ty.span, "a part of a record is a plain value");
                }
                Some(dom) => out.push((part.name.text.clone(), dom)),
                // What is wrong with its type is told; its uses say nothing more.
                None => {
                    self.lost.insert(part.name.text.clone());
                }
            }
        }
        if parts.is_empty() {
            self.error("M007", name.span, "a record needs at least one part");
        }
        out
    }

    /// The variables that one item declares.
    fn variables(&mut self, item: &Item) {
        let Item::Var { state, names, ty, when, default, defaults, outside, hidden, untold } = item else {
            unreachable!("an item that declares variables")
        };
        let Some((shape, dom, sized, rearranged, max)) = self.var_type(ty) else {
            names.iter().for_each(|name| self.mistaken_variable(name, *state));
            return;
        };
        if rearranged.is_some() && !*state {
            self.error("M008", ty.span, "only a state variable can be rearranged");
        }
        let shuffled = rearranged.is_some() && matches!(shape, Extent::List(_));
        if shuffled && hidden.is_none() && *state {
            self.error("M008", ty.span, "only a hidden list begins in an order that is not known")
                .notes
                .push("say `hidden` instead of `state`, or let the setup draw the order".into());
        }
        let elem = dom.scalar().ty();
        let when = when.as_ref().map(|e| self.condition(e, Place::Level).expr);
        if when.is_some() && !*state {
            self.error("M008", ty.span, "only a state variable can depend on `if`");
        }
        if default.is_some() && matches!(shape, Extent::List(_) | Extent::Lists(..)) {
            self.error("M008", ty.span, "a list begins empty, or as the level says");
        }
        let default = default.as_ref().map(|e| {
            let e = self.lone(e, Place::Level);
            self.coerce(e, elem)
        });
        let defaults = self.key_defaults(shape, elem, defaults);
        let outside = outside.as_ref().map(|e| {
            let e = self.lone(e, Place::Level);
            self.coerce(e, elem)
        });
        if outside.is_some() && !matches!(shape, Extent::Grid | Extent::Set) {
            self.error("M008", ty.span, "`outside` is for grids");
        }
        for name in names {
            self.push_var(
                name,
                VarDef {
                    name: name.text.clone(),
                    span: name.span,
                    state: *state,
                    shape,
                    dom: dom.clone(),
                    sized: sized.clone(),
                    rearranged: rearranged.filter(|_| !shuffled),
                    shuffled: rearranged.filter(|_| shuffled),
                    when: when.clone(),
                    default: default.clone(),
                    defaults: defaults.clone(),
                    outside: outside.clone(),
                    max: max.clone(),
                    shadow_of: None,
                    clock: false,
                    hidden: hidden.is_some(),
                    untold: *untold,
                    prior: None,
                },
            );
        }
    }

    /// A variable whose type is wrong: its uses say nothing more.
    fn mistaken_variable(&mut self, name: &Name, state: bool) {
        let def = VarDef { state, ..VarDef::new(name.text.clone(), name.span, Extent::One, Dom::Bool) };
        self.push_var(name, def);
        self.globals.insert(name.text.clone(), (Global::Mistaken, name.span));
    }

    pub(super) fn declare_enum(&mut self, name: &Name, values: &[&Name]) -> usize {
        let e = self.enums.len();
        self.declare(name, Global::Enum(e));
        if values.is_empty() {
            self.error("M007", name.span, format!("`{}` needs at least one value", name.text));
        }
        let mut seen: Vec<&str> = vec![];
        for (i, value) in values.iter().enumerate() {
            if seen.contains(&value.text.as_str()) {
                self.error("M002", value.span, format!("`{}` is listed twice", value.text));
            }
            seen.push(&value.text);
            self.declare(value, Global::EnumValue(e, i));
        }
        let values = values.iter().map(|v| v.text.clone()).collect();
        self.enums.push(EnumDef { name: name.text.clone(), values });
        e
    }

    pub(super) fn shapes_def(
        &mut self,
        name: &Name,
        (of, mirrored): (Option<&Name>, bool),
        defs: &[tree::ShapeDef],
        kind: usize,
    ) {
        let mut shapes = vec![];
        let of = of.and_then(|of| match self.globals.get(&of.text) {
            Some(&(Global::Enum(e), _)) => Some(e),
            _ => {
                self.unknown(of, "enum");
                None
            }
        });
        let parts = of.map(|e| self.enums[e].values.clone());
        for def in defs {
            match crate::check::shapes::turns(def, parts.as_deref(), mirrored) {
                Ok(turns) => shapes.push(turns),
                Err((span, message, note)) => {
                    self.error("M049", span, message).notes.push(note);
                }
            }
        }
        let name = name.text.clone();
        let mut def = ShapesDef { name, kind, of, mirrored, shapes, firsts: vec![], all: vec![], margin: 0 };
        def.number();
        self.shapes.push(def);
    }

    pub(super) fn push_var(&mut self, name: &Name, def: VarDef) {
        if self.declare(name, Global::Var(VarId(self.vars.len()))) {
            self.vars.push(def);
        }
    }
}
