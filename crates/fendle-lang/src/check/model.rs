//! The items of a model, in the order in which they need each other.

use super::*;

/// What the items of a model say, gathered one by one.
#[derive(Default)]
struct Gathered<'t> {
    moves: Vec<MoveDef>,
    after: Option<ProcDef>,
    ticks: Vec<TickDef>,
    setup: Option<SetupDef>,
    aim: Option<AimDef>,
    laws: Vec<LawDef>,
    nevers: Vec<NeverDef>,
    spreads: Vec<SpreadDef>,
    alike: Vec<AlikeDef>,
    tells: Vec<TellDef>,
    conds: Vec<(EndKind, StatusCond)>,
    /// The order of statuses, where it is written.
    order: Option<(Vec<Name>, Span)>,
    goal_span: Option<Span>,
    always: Vec<Always>,
    keeps: Vec<Keeps>,
    bound: Option<(Body, Span)>,
    promise: Option<(Body, Body, Span)>,
    costs: Vec<CostDef>,
    shows: Vec<Show>,
    shifted: bool,
    /// Looks of pictures and examples are checked last: they name what is told.
    pictures: Vec<&'t Vec<tree::LookRule>>,
    examples: Vec<(&'t String, &'t Vec<tree::ExampleLine>, Span)>,
}

impl Checker<'_> {
    pub(super) fn model(&mut self, source: &tree::Source) -> Model {
        self.lost = source.lost.iter().cloned().collect();
        self.collect(source);
        for i in 0..self.const_asts.len() {
            self.const_value(i);
        }
        for i in 0..self.fn_asts.len() {
            self.function(i, None);
        }
        for i in 0..self.proc_asts.len() {
            self.procedure(i, None);
        }
        let mut g = Gathered::default();
        for item in &source.items {
            self.happening(item, &mut g);
            self.likenesses(item, &mut g);
            self.ends_and_counts(item, source, &mut g);
            self.shown(item, &mut g);
        }
        let looks = g.pictures.into_iter().flatten().filter_map(|r| self.look(r, &g.tells)).collect();
        let examples =
            g.examples.into_iter().map(|(title, lines, span)| self.example(title, lines, span)).collect();
        if g.moves.is_empty() && source.name.is_some() {
            let span = source.name.as_ref().map_or(Span::default(), |n| n.span);
            self.error("M004", span, "this model has no move")
                .notes
                .push("add `move NAME(...) { ... }`".into());
        }
        let statuses = self.status_order(g.conds, g.order);
        let good = self.errors.iter().all(|e| e.severity != crate::source::Severity::Error);
        let model = Model {
            file: self.file,
            name: source.name.as_ref().map_or(String::new(), |n| n.text.clone()),
            enums: self.enums.clone(),
            records: self.records.clone(),
            shapes: self.shapes.clone(),
            spreads: g.spreads,
            ranges: self.ranges.clone(),
            pairs: self.pairs.clone(),
            vars: self.vars.clone(),
            tallies: self.tallies.clone(),
            fns: self.fns.iter().flatten().cloned().collect(),
            derived: (0..self.fn_asts.len())
                .filter(|f| self.derived.contains(f))
                .map(|f| (self.fn_asts[f].name.text.clone(), FnId(f)))
                .collect(),
            shifted: g.shifted,
            procs: self.procs.iter().flatten().cloned().collect(),
            moves: g.moves,
            after: g.after,
            ticks: g.ticks,
            setup: g.setup,
            aim: g.aim,
            laws: g.laws,
            nevers: g.nevers,
            alike: g.alike,
            tells: g.tells,
            refuses: std::mem::take(&mut self.refuses),
            endings: std::mem::take(&mut self.endings),
            statuses,
            always: g.always,
            keeps: g.keeps,
            bound: g.bound,
            promise: g.promise,
            costs: g.costs,
            counted: None,
            shows: g.shows,
            looks,
            examples,
            ends_by_statement: self.ends_by_statement,
            cuts: self.cuts,
        };
        if good {
            self.prove_alike(&model);
            self.errors.extend(crate::check::hidden::findings(&model));
        }
        model
    }

    /// An example, with the conditions that it looks at.
    fn example(&mut self, title: &str, lines: &[tree::ExampleLine], span: Span) -> Example {
        let mut checked = vec![];
        for line in lines {
            let seen = match line {
                tree::ExampleLine::Outcomes { what, .. } => what,
                _ => line,
            };
            let cond = match seen {
                tree::ExampleLine::See(e) => Some(self.condition(e, Place::Cond)),
                _ => None,
            };
            self.example_names(line);
            checked.push((line.clone(), cond));
        }
        Example { title: title.to_string(), span, lines: checked }
    }

    /// What happens: moves, what follows on them, how a start is drawn, what is spread over lists.
    fn happening<'t>(&mut self, item: &'t Item, g: &mut Gathered<'t>) {
        match item {
            Item::Move { name, params, body, waiting } => {
                let mut def = self.move_def(name, params, body);
                def.waiting = *waiting;
                g.moves.push(def);
            }
            Item::After(block, span) => {
                if g.after.is_some() {
                    self.error("M003", *span, "a model has one `after` block");
                }
                g.after = Some(self.lone_block("after", block, Place::After));
            }
            Item::Tick { every, on, body, span } => {
                let body = self.lone_block("tick", body, Place::Tick);
                let mut on_move = None;
                if let Some(on) = on {
                    match self.moves.get(&on.text) {
                        Some(&(m, _)) => on_move = Some(m),
                        None => {
                            self.error("M047", on.span, format!("no move is named `{}`", on.text))
                                .notes
                                .push("declare it: `waiting move wait`".into());
                        }
                    }
                }
                let clock = every.as_ref().and_then(|e| self.clock(e, *span));
                g.ticks.push(TickDef { on: on_move, clock, body });
            }
            Item::Setup { attempts, body, span } => {
                if g.setup.is_some() {
                    self.error("M003", *span, "a model has one `setup` block");
                }
                let attempts = attempts.as_ref().map(|e| {
                    let e = self.lone(e, Place::Level);
                    self.coerce(e, Ty::Int)
                });
                let body = self.lone_block("setup", body, Place::Setup);
                g.setup = Some(SetupDef { body, attempts, span: *span });
            }
            Item::Spread { range, record, over, span } => {
                if let Some(def) = self.spread(range.as_ref(), record.as_ref(), over, *span) {
                    if g.spreads.iter().any(|s| s.vars.iter().any(|v| def.vars.contains(v))) {
                        self.error("M003", *span, "these lists have their collection already");
                    }
                    g.spreads.push(def);
                }
            }
            _ => {}
        }
    }

    /// What is alike, what is aimed at, and laws.
    fn likenesses<'t>(&mut self, item: &'t Item, g: &mut Gathered<'t>) {
        match item {
            Item::Alike { what, when, span } => {
                let when = when.as_ref().map(|e| self.condition(e, Place::Level).expr);
                if let Some(kind) = self.likeness(what, *span) {
                    g.alike.push(AlikeDef { kind, when, span: *span });
                }
            }
            Item::Aim { most, what, span } => {
                if g.aim.is_some() {
                    self.error("M003", *span, "a model has one `aim`");
                }
                let what = what.as_ref().map(|e| self.quantity(e));
                g.aim = Some(AimDef { most: *most, what, span: *span });
            }
            Item::Never { condition, why, span } => {
                self.condition(condition, Place::Question);
                g.nevers.push(NeverDef { condition: condition.span, why: why.clone(), span: *span });
            }
            Item::Law { title, turn, span } => match turn.text.as_str() {
                "turned" | "mirrored" => {
                    g.laws.push(LawDef {
                        mirrored: turn.text == "mirrored",
                        why: title.clone(),
                        span: *span,
                    });
                }
                _ => {
                    self.error("M048", turn.span, format!("`{}` is no law", turn.text))
                        .notes
                        .push("the laws are `turned` and `mirrored`".into());
                }
            },
            _ => {}
        }
    }

    /// Ends, what always holds, what is kept, bounds and counts.
    fn ends_and_counts<'t>(&mut self, item: &'t Item, source: &tree::Source, g: &mut Gathered<'t>) {
        match item {
            Item::Goal(e, span) => {
                if let Some(first) = g.goal_span {
                    let file = self.file;
                    let error = self.error("M003", *span, "a model has one `goal`");
                    error.notes.push("join two conditions with `and` or `or`".into());
                    error.labels.push(crate::source::Label { file, span: first, text: "the first".into() });
                }
                g.goal_span = Some(*span);
                let ending = self.ending(EndKind::Goal, None);
                let cond = self.condition(e, Place::Cond);
                g.conds.push((EndKind::Goal, StatusCond { ending, cond, span: *span }));
            }
            Item::Lost(e, why, span) => {
                let ending = self.ending(EndKind::Lost, Some(why.clone()));
                let cond = self.condition(e, Place::Cond);
                g.conds.push((EndKind::Lost, StatusCond { ending, cond, span: *span }));
            }
            Item::Over(e, why, span) => {
                let ending = self.ending(EndKind::Over, why.clone());
                let cond = self.condition(e, Place::Cond);
                g.conds.push((EndKind::Over, StatusCond { ending, cond, span: *span }));
            }
            Item::Status(names, span) => {
                if g.order.is_some() {
                    self.error("M003", *span, "the order of statuses is written once");
                }
                g.order = Some((names.clone(), *span));
            }
            Item::Always(e, why, span) => {
                let cond = self.condition(e, Place::Cond);
                g.always.push(Always { cond, why: why.clone(), span: *span });
            }
            Item::Keeps { quantity, when, goal, why, span } => {
                let quantity = self.quantity(quantity);
                let when = when.as_ref().map(|e| self.condition(e, Place::Level));
                let goal = goal.as_ref().map(|e| self.quantity(e));
                g.keeps.push(Keeps { quantity, when, goal, why: why.clone(), span: *span });
            }
            Item::Bound(e, span) => {
                if g.bound.is_some() {
                    self.error("M003", *span, "a model has one `bound`");
                }
                g.bound = Some((self.quantity(e), *span));
            }
            Item::Promise(e, of, span) => {
                if g.promise.is_some() {
                    self.error("M003", *span, "a model has one `promise`");
                }
                g.promise = Some((self.quantity(e), self.quantity(of), *span));
            }
            Item::Cost { name, of, params, count, span } => {
                if let Some(def) = self.cost(source, (name, of, params), count, *span) {
                    if let Some(twin) = g.costs.iter().find(|c| c.name == def.name && c.of == def.of) {
                        let (twin, file) = (twin.span, self.file);
                        self.error("M087", *span, "how much this move counts is said twice").labels.push(
                            crate::source::Label { file, span: twin, text: "here for the first time".into() },
                        );
                    }
                    g.costs.push(def);
                }
            }
            _ => {}
        }
    }

    /// What is known, told and drawn, and examples.
    fn shown<'t>(&mut self, item: &'t Item, g: &mut Gathered<'t>) {
        match item {
            Item::Var { names, hidden: Some(prior), .. } => {
                for name in names {
                    self.prior(name, prior);
                }
            }
            Item::Tell { name, value, binder, when, span } => {
                let def = self.tell(name.as_ref(), (value, binder.as_ref(), when.as_ref()), *span);
                if g.tells.iter().any(|t| t.name == def.name) {
                    self.error("M002", *span, format!("`{}` is told twice", def.name))
                        .notes
                        .push("give it a name: `tell NAME: ...`".into());
                }
                g.tells.push(def);
            }
            Item::Shifted(_) => g.shifted = true,
            Item::Show { name, joined, layered, at, rules } => {
                if let Some(show) = self.show(name, (*joined, *layered), at.as_ref(), rules) {
                    g.shows.push(show);
                }
            }
            Item::Picture(rules) => g.pictures.push(rules),
            Item::Example { title, lines, span } => g.examples.push((title, lines, *span)),
            _ => {}
        }
    }

    /// How much a move counts under a name.
    fn cost(
        &mut self,
        source: &tree::Source,
        (name, of, names): (&Name, &Name, &[Name]),
        count: &A,
        span: Span,
    ) -> Option<CostDef> {
        let Some(&(m, _)) = self.moves.get(&of.text) else {
            let known: Vec<String> = self.moves.keys().map(|k| format!("`{k}`")).collect();
            self.error("M047", of.span, format!("no move is named `{}`", of.text))
                .notes
                .push(format!("moves are {}", known.join(", ")));
            return None;
        };
        if self.moves.contains_key(&name.text) {
            self.error("M086", name.span, format!("`{}` is a move already", name.text))
                .notes
                .push("moves of one kind can be counted without a `cost`".into());
        }
        let mut params = source.items.iter().find_map(|i| match i {
            Item::Move { name, params, .. } if name.text == of.text => Some(params.clone()),
            _ => None,
        })?;
        if params.len() != names.len() {
            let text = format!(
                "`{}` has {}, and here are {}",
                of.text,
                fendle_core::numbers::counted(params.len() as u64, "parameter", "parameters"),
                names.len()
            );
            self.error("M086", of.span, text)
                .notes
                .push("name every parameter of the move, in its order".into());
            return None;
        }
        for (param, name) in params.iter_mut().zip(names) {
            param.name = name.clone();
        }
        let scope = std::mem::take(&mut self.scope);
        let old = std::mem::replace(&mut self.place, Place::Cond);
        self.params(&params);
        let expr = self.expr(count);
        let expr = self.coerce(expr, Ty::Int);
        let locals = std::mem::replace(&mut self.scope, scope).locals;
        self.place = old;
        Some(CostDef { name: name.text.clone(), of: m, count: Body { expr, locals }, span })
    }

    /// What some lists together always hold.
    fn spread(
        &mut self,
        range: Option<&(A, A)>,
        record: Option<&Name>,
        over: &[Name],
        span: Span,
    ) -> Option<SpreadDef> {
        let range = range.map(|(lo, hi)| {
            let (lo, hi) = (self.lone(lo, Place::Level), self.lone(hi, Place::Level));
            (self.coerce(lo, Ty::Int), self.coerce(hi, Ty::Int))
        });
        let want = match record {
            None => Scalar::Int,
            Some(name) => match self.globals.get(&name.text) {
                Some(&(Global::Record(r), _)) => Scalar::Record(r),
                _ => {
                    self.unknown(name, "record");
                    return None;
                }
            },
        };
        let mut vars = vec![];
        for name in over {
            match self.globals.get(&name.text) {
                Some(&(Global::Var(var), _))
                    if self.vars[var].state
                        && matches!(self.vars[var].shape, Extent::Lists(_, false) | Extent::List(false))
                        && self.vars[var].dom.scalar() == want
                        && self.vars[var].when.is_none() =>
                {
                    vars.push(var);
                }
                Some(_) => {
                    let what =
                        if want == Scalar::Int { "numbers".into() } else { format!("`{}`", self.sn(want)) };
                    self.error(
                        "M059",
                        name.span,
                        format!("these are spread over `state` lists of {what}, without `if`"),
                    )
                    .notes
                    .push("such as `state post: array 1..3 of list of 1..5 max 5`".into());
                    return None;
                }
                None => {
                    self.unknown(name, "array of lists");
                    return None;
                }
            }
        }
        Some(SpreadDef { vars, range, span })
    }

    /// A block that stands for itself.
    pub(super) fn lone_block(&mut self, name: &str, block: &tree::Block, place: Place) -> ProcDef {
        self.place = place;
        self.scope = Scope::default();
        self.drawn = false;
        let body = self.block(block);
        let locals = std::mem::take(&mut self.scope).locals;
        ProcDef { name: name.into(), params: 0, locals, body }
    }

    pub(super) fn example_names(&mut self, line: &tree::ExampleLine) {
        let (name, state) = match line {
            tree::ExampleLine::Level(n, _) => (n, false),
            tree::ExampleLine::Start(n, _) => (n, true),
            _ => return,
        };
        let known: Vec<String> =
            self.vars.iter().filter(|v| v.state == state).map(|v| v.name.clone()).collect();
        // Drawings are starts too; they are checked where the board is read.
        if !state && !known.contains(&name.text) {
            let near = near(&name.text, known.iter().map(String::as_str)).map(str::to_string);
            let error = self.error("M010", name.span, format!("no level value is named `{}`", name.text));
            if let Some(n) = near {
                error.notes.push(format!("did you mean `{n}`?"));
            }
        }
    }

    pub(super) fn ending(&mut self, kind: EndKind, why: Option<String>) -> usize {
        let ending = Ending { kind, why };
        self.endings.iter().position(|e| *e == ending).unwrap_or_else(|| {
            self.endings.push(ending);
            self.endings.len() - 1
        })
    }

    pub(super) fn status_order(
        &mut self,
        mut conds: Vec<(EndKind, StatusCond)>,
        order: Option<(Vec<Name>, Span)>,
    ) -> Vec<StatusCond> {
        let mut kinds: Vec<EndKind> = conds.iter().map(|c| c.0).collect();
        kinds.sort();
        kinds.dedup();
        let word = |k: EndKind| match k {
            EndKind::Goal => "goal",
            EndKind::Lost => "lost",
            EndKind::Over => "over",
        };
        let mut written = vec![];
        let before = self.errors.len();
        if let Some((names, span)) = &order {
            for name in names {
                match [EndKind::Goal, EndKind::Lost, EndKind::Over]
                    .into_iter()
                    .find(|&k| word(k) == name.text)
                {
                    Some(k) if written.contains(&k) => {
                        self.error("M005", name.span, format!("`{}` is named twice", name.text));
                    }
                    Some(k) => written.push(k),
                    None => {
                        self.error("M005", name.span, format!("`{}` is no status", name.text))
                            .notes
                            .push("the statuses are goal, lost and over".into());
                    }
                }
            }
            // A misspelt status is one mistake, not two.
            let understood = self.errors.len() == before;
            for &k in &kinds {
                if understood && !written.contains(&k) {
                    self.error("M006", *span, format!("the order does not say where `{}` stands", word(k)));
                }
            }
        } else if kinds.len() > 1 {
            let span = conds[1].1.span;
            let list = kinds.iter().map(|&k| word(k)).collect::<Vec<_>>().join(", ");
            self.error("M006", span, "two statuses can hold at once, and nothing says which counts")
                .notes
                .push(format!("write the order, for instance `status {list}`"));
        }
        conds.sort_by_key(|(k, _)| written.iter().position(|w| w == k));
        conds.into_iter().map(|c| c.1).collect()
    }
}
