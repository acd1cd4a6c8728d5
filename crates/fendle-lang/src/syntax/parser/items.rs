//! The items of a model.

use super::*;

impl Parser<'_> {
    pub(super) fn source(&mut self) -> Source {
        let mut source = Source::default();
        self.newlines();
        if matches!(self.peek(), Tok::End) {
            self.errors.push(
                Diagnostic::error("S020", self.file, self.span(), "this file holds no model")
                    .note("a model begins with `model NAME`; `fendle new slide` writes one to start from"),
            );
            return source;
        }
        let mut first = true;
        loop {
            self.newlines();
            if matches!(self.peek(), Tok::End) {
                break;
            }
            if first && !self.is_word("model") {
                self.errors.push(
                    Diagnostic::error(
                        "S021",
                        self.file,
                        self.span(),
                        "a model file begins with `model NAME`",
                    )
                    .here("expected `model`"),
                );
            }
            first = false;
            let before = self.at;
            self.depth = 0;
            if self.item(&mut source).is_err() {
                if self.at == before {
                    self.next();
                }
                while !self.at_item() && !matches!(self.peek(), Tok::End) {
                    self.next();
                }
                source.lost.extend(self.declared(before));
            }
        }
        source
    }

    /// The names that an item declares which begins at this token: those before its first sign, and in a list of names all.
    pub(super) fn declared(&self, from: usize) -> Vec<String> {
        let item = &self.tokens[from..self.at.max(from)];
        let whole = matches!(item.first().map(|t| &t.tok), Some(Tok::Name(w)) if matches!(w.as_str(), "enum" | "shapes" | "record"));
        let name = |t: &Token| if let Tok::Name(n) = &t.tok { Some(n.clone()) } else { None };
        let head = item.iter().skip(1).take_while(|t| whole || matches!(t.tok, Tok::Name(_) | Tok::Op(",")));
        head.filter_map(name).collect()
    }

    pub(super) fn likeness(&mut self) -> Parse<Likeness> {
        if self.eat_word("piles") {
            self.word("of")?;
            let mut of = vec![self.name("the array whose keys are alike")?];
            while self.eat_op(",") {
                of.push(self.name("an array")?);
            }
            let mut except = vec![];
            if self.eat_word("except") {
                except.push(self.additive()?);
                while self.eat_op(",") {
                    except.push(self.additive()?);
                }
            }
            return Ok(Likeness::Piles(of, except));
        }
        if matches!(self.peek(), Tok::Name(_)) && !matches!(self.peek_at(1), Tok::Op("..")) {
            let mut names = vec![self.name("an enum or its values")?];
            while self.eat_op(",") {
                names.push(self.name("a value")?);
            }
            return Ok(Likeness::Names(names));
        }
        let lo = self.additive()?;
        self.op("..")?;
        let hi = self.additive()?;
        self.word("in")?;
        let mut vars = vec![self.name("a variable that holds them")?];
        while self.eat_op(",") {
            vars.push(self.name("a variable")?);
        }
        Ok(Likeness::Numbers(lo, hi, vars))
    }

    pub(super) fn item(&mut self, source: &mut Source) -> Parse<()> {
        let span = self.span();
        let word = match self.peek() {
            Tok::Name(n) => n.clone(),
            _ => return self.fail("an item such as `state`, `move` or `goal`"),
        };
        if !ITEM_WORDS.contains(&word.as_str()) {
            let mut error = Diagnostic::error("S011", self.file, span, format!("`{word}` begins no item"));
            if let Some(n) = near(&word, ITEM_WORDS.iter().copied()) {
                error = error.note(format!("did you mean `{n}`?"));
            } else {
                error = error.note(format!("items begin with one of: {}", ITEM_WORDS.join(", ")));
            }
            self.errors.push(error);
            return Err(Skip);
        }
        self.next();
        if word == "model" {
            return self.model_name(source);
        }
        let item = match self.declaration(&word, span)? {
            Some(item) => item,
            None => self.rule(&word, span)?,
        };
        let ended = self.end_of_line("the end of the line");
        // Half a condition would only be reported a second time; half a declaration still declares.
        let condition = matches!(
            item,
            Item::Goal(..)
                | Item::Lost(..)
                | Item::Over(..)
                | Item::Always(..)
                | Item::Keeps { .. }
                | Item::Bound(..)
                | Item::Promise(..)
                | Item::Cost { .. }
                | Item::Const(..)
        );
        if ended.is_ok() || !condition {
            source.items.push(item);
        }
        ended
    }

    /// What the model is made of: its names, and what happens. `None`: the word begins something else.
    fn declaration(&mut self, word: &str, span: Span) -> Parse<Option<Item>> {
        Ok(Some(match word {
            "const" => {
                let name = self.name("a name")?;
                self.op("=")?;
                Item::Const(name, self.expr()?)
            }
            "enum" => self.enum_item()?,
            "level" | "state" | "hidden" => self.variable_item(word)?,
            "derived" => {
                let name = self.name("a name")?;
                let ty = if self.eat_op(":") { Some(self.ty()?) } else { None };
                self.op("=")?;
                Item::Derived { name, ty, value: self.expr()? }
            }
            "tell" => self.tell_item(span)?,
            "tally" => {
                let mut names = vec![self.name("a name")?];
                while self.eat_op(",") {
                    names.push(self.name("a name")?);
                }
                Item::Tally(names)
            }
            "show" => self.show()?,
            "picture" => Item::Picture(self.picture()?),
            "fn" => {
                let name = self.name("the function's name")?;
                let params = self.params()?;
                let result = if self.eat_op(":") { Some(self.ty()?) } else { None };
                self.op("=")?;
                Item::Fn { name, params, result, body: self.expr()? }
            }
            "proc" => {
                let name = self.name("the procedure's name")?;
                let params = self.params()?;
                Item::Proc { name, params, body: self.block()? }
            }
            "move" | "waiting" => {
                let waiting = word == "waiting";
                if waiting {
                    self.word("move")?;
                }
                let name = self.name("the move's name")?;
                let params = if self.is_op("(") { self.params()? } else { vec![] };
                let body = if waiting && !self.is_op("{") { vec![] } else { self.block()? };
                Item::Move { name, params, body, waiting }
            }
            "record" => self.record_item()?,
            "shapes" => self.shapes()?,
            "tick" => self.tick_item(span)?,
            "setup" => {
                let mut attempts = None;
                if self.eat_word("at") {
                    self.word("most")?;
                    attempts = Some(self.additive()?);
                    self.word("attempts")?;
                }
                Item::Setup { attempts, body: self.block()?, span }
            }
            "spread" => self.spread_item(span)?,
            "aim" => self.aim_item(span)?,
            "alike" => {
                let what = self.likeness()?;
                let when = if self.eat_word("if") { Some(self.expr()?) } else { None };
                Item::Alike { what, when, span: span.to(self.last_span()) }
            }
            _ => return Ok(None),
        }))
    }

    /// What is said of the model: ends, laws, promises, counts, examples.
    fn rule(&mut self, word: &str, span: Span) -> Parse<Item> {
        Ok(match word {
            "law" if self.is_word("never") => {
                self.next();
                let condition = self.condition()?;
                self.word("because")?;
                Item::Never { condition, why: self.text("a reason in quotes")?, span }
            }
            "law" => {
                let turn = self.name("`turned` or `mirrored`")?;
                self.word("because")?;
                Item::Law { title: self.text("a reason in quotes")?, turn, span }
            }
            "after" => Item::After(self.block()?, span),
            "goal" => {
                let e = self.condition()?;
                Item::Goal(e, span)
            }
            "lost" => {
                self.word("when")?;
                let e = self.condition()?;
                self.word("because")?;
                Item::Lost(e, self.text("a reason in quotes")?, span)
            }
            "over" => {
                self.word("when")?;
                let e = self.condition()?;
                let why =
                    if self.eat_word("because") { Some(self.text("a reason in quotes")?) } else { None };
                Item::Over(e, why, span)
            }
            "status" => {
                let mut order = vec![self.name("`goal`, `lost` or `over`")?];
                while self.eat_op(",") {
                    order.push(self.name("`goal`, `lost` or `over`")?);
                }
                Item::Status(order, span)
            }
            "always" => {
                let e = self.condition()?;
                self.word("because")?;
                Item::Always(e, self.text("a reason in quotes")?, span)
            }
            "keeps" => self.keeps_item(span)?,
            "bound" => Item::Bound(self.expr()?, span),
            "promise" => {
                let e = self.expr()?;
                self.word("of")?;
                Item::Promise(e, self.expr()?, span)
            }
            "cost" => self.cost_item(span)?,
            _ => self.example(span)?,
        })
    }

    /// `cost NAME of MOVE(A, B) = COUNT`
    fn cost_item(&mut self, span: Span) -> Parse<Item> {
        let name = self.name("a name for what is counted")?;
        self.word("of")?;
        let of = self.name("the name of a move")?;
        let mut params = vec![];
        if self.eat_op("(") {
            while !self.is_op(")") {
                params.push(self.name("a name for a parameter of the move, or `)`")?);
                if !self.eat_op(",") {
                    break;
                }
            }
            self.op(")")?;
        }
        self.op("=")?;
        Ok(Item::Cost { name, of, params, count: self.expr()?, span: span.to(self.last_span()) })
    }

    /// `keeps (QUANTITY) when C goal (VALUE) because "..."`
    fn keeps_item(&mut self, span: Span) -> Parse<Item> {
        self.op("(")?;
        let quantity = self.expr()?;
        self.op(")")?;
        let when = if self.eat_word("when") { Some(self.expr()?) } else { None };
        let goal = if self.eat_word("goal") {
            self.op("(")?;
            let e = self.expr()?;
            self.op(")")?;
            Some(e)
        } else {
            None
        };
        self.word("because")?;
        let why = self.text("a reason in quotes")?;
        Ok(Item::Keeps { quantity, when, goal, why, span })
    }

    /// `aim most WHAT` or `aim least WHAT`
    fn aim_item(&mut self, span: Span) -> Parse<Item> {
        let most = if self.eat_word("most") {
            true
        } else if self.eat_word("least") {
            false
        } else {
            return self.fail("`most` or `least`");
        };
        let what = if self.eat_word("score") { None } else { Some(self.expr()?) };
        Ok(Item::Aim { most, what, span })
    }

    /// `spread LO..HI over LISTS`, or of all values of a record.
    fn spread_item(&mut self, span: Span) -> Parse<Item> {
        let (mut range, mut record) = (None, None);
        if matches!(self.peek_at(1), Tok::Name(w) if w == "over") {
            record = Some(self.name("a record")?);
        } else {
            let lo = self.additive()?;
            self.op("..")?;
            range = Some((lo, self.additive()?));
        }
        self.word("over")?;
        let mut over = vec![self.name("the lists that they are spread over")?];
        while self.eat_op(",") {
            over.push(self.name("lists")?);
        }
        Ok(Item::Spread { range, record, over, span: span.to(self.last_span()) })
    }

    /// `tick on MOVE` or `tick every N moves`, and what happens.
    fn tick_item(&mut self, span: Span) -> Parse<Item> {
        let (mut every, mut on) = (None, None);
        if self.eat_word("on") {
            on = Some(self.name("the move that lets time pass")?);
        } else {
            self.word("every")?;
            if self.eat_word("move") {
                every = Some(Expr { kind: ExprKind::Int(1), span });
            } else {
                every = Some(self.additive()?);
                self.word("moves")?;
            }
        }
        Ok(Item::Tick { every, on, body: self.block()?, span })
    }

    /// `record NAME { PART: TYPE }`
    fn record_item(&mut self) -> Parse<Item> {
        let name = self.name("a name")?;
        self.op("{")?;
        let mut fields = vec![];
        loop {
            self.newlines();
            if self.eat_op("}") {
                break;
            }
            let name = self.name("a part of the record or `}`")?;
            self.op(":")?;
            fields.push(Param { name, ty: self.ty()? });
            while self.eat_op(",") || matches!(self.peek(), Tok::Newline) {
                self.newlines();
            }
        }
        Ok(Item::Record(name, fields))
    }

    /// `tell NAME: VALUE for c on board where C`
    fn tell_item(&mut self, span: Span) -> Parse<Item> {
        let mut name = None;
        if matches!(self.peek(), Tok::Name(_)) && matches!(self.peek_at(1), Tok::Op(":")) {
            name = Some(self.name("a name")?);
            self.op(":")?;
        }
        let value = self.expr()?;
        let binder = if self.eat_word("for") { Some(self.binder()?) } else { None };
        let when = if binder.is_none() && self.eat_word("where") { Some(self.expr()?) } else { None };
        Ok(Item::Tell { name, value, binder, when, span: span.to(self.last_span()) })
    }

    /// `level`, `state` or `hidden` with names, a type, and what goes with it.
    fn variable_item(&mut self, word: &str) -> Parse<Item> {
        let mut names = vec![self.name("a name")?];
        while self.eat_op(",") {
            names.push(self.name("a name")?);
        }
        self.op(":")?;
        let ty = self.ty()?;
        let (mut when, mut default, mut outside) = (None, None, None);
        let mut defaults = vec![];
        let (mut prior, mut untold) = (Prior::default(), false);
        loop {
            if self.eat_word("if") {
                when = Some(self.expr()?);
            } else if self.eat_word("outside") {
                outside = Some(self.postfix()?);
            } else if word == "state" && self.eat_word("untold") {
                untold = true;
            } else if word == "hidden" && self.eat_word("with") {
                prior.with = Some(self.expr()?);
            } else if word == "hidden" && self.eat_word("each") {
                let name = if self.is_op("(") { None } else { Some(self.name("a name for the cell")?) };
                prior.each = Some((name, self.weighted()?));
            } else if self.is_op("=")
                && matches!(self.peek_at(1), Tok::Op("("))
                && matches!(self.peek_at(2), Tok::Name(_) | Tok::Int(_))
                && matches!(self.peek_at(3), Tok::Op(":"))
            {
                self.next();
                self.next();
                loop {
                    let key = match self.peek().clone() {
                        Tok::Int(n) => Name { text: n.to_string(), span: self.next().span },
                        _ => self.name("a key")?,
                    };
                    self.op(":")?;
                    defaults.push((key, self.expr()?));
                    if !self.eat_op(",") || self.is_op(")") {
                        break;
                    }
                }
                self.op(")")?;
            } else if self.eat_op("=") {
                default = Some(self.expr()?);
            } else {
                break;
            }
        }
        let hidden = (word == "hidden").then_some(prior);
        Ok(Item::Var { state: word != "level", names, ty, when, default, defaults, outside, hidden, untold })
    }

    /// `enum NAME { A, B }`
    fn enum_item(&mut self) -> Parse<Item> {
        let name = self.name("a name")?;
        self.op("{")?;
        let mut values = vec![];
        loop {
            self.newlines();
            if self.eat_op("}") {
                break;
            }
            values.push(self.name("a value or `}`")?);
            while self.eat_op(",") || matches!(self.peek(), Tok::Newline) {
                self.newlines();
            }
        }
        Ok(Item::Enum(name, values))
    }

    /// `model NAME`, once in a file.
    fn model_name(&mut self, source: &mut Source) -> Parse<()> {
        let name = self.name("the model's name")?;
        if let Some(first) = &source.name {
            let first = first.span;
            self.errors.push(Diagnostic::error("S022", self.file, name.span, "a file holds one model").also(
                self.file,
                first,
                "the first one is here",
            ));
        } else {
            source.name = Some(name);
        }
        self.end_of_line("the end of the line")
    }

    pub(super) fn show(&mut self) -> Parse<Item> {
        let name = self.name("a grid or the name of a drawing")?;
        if name.text == "board" && self.eat_word("shifted") {
            return Ok(Item::Shifted(name.span));
        }
        let (mut joined, mut layered, mut at) = (false, false, None);
        loop {
            if self.eat_word("joined") {
                joined = true;
            } else if self.eat_word("layered") {
                layered = true;
            } else if self.eat_word("at") {
                at = Some(self.name("a name for the cell")?);
            } else {
                break;
            }
        }
        self.op("{")?;
        let mut rules = vec![];
        loop {
            self.newlines();
            if self.eat_op("}") {
                break;
            }
            if let Tok::Text(glyph) = self.peek().clone() {
                let span = self.next().span;
                let mut facts = vec![];
                while !matches!(self.peek(), Tok::Newline | Tok::Op("}") | Tok::End) && !self.is_word("where")
                {
                    let target = self.postfix()?;
                    let fact = if self.eat_op("=") {
                        let value = self.additive()?;
                        let span = target.span.to(value.span);
                        Expr { kind: ExprKind::Bin(BinOp::Eq, Box::new(target), Box::new(value)), span }
                    } else {
                        target
                    };
                    facts.push(fact);
                    if !self.eat_op(",") {
                        break;
                    }
                }
                let filter = if self.eat_word("where") { Some(self.condition()?) } else { None };
                rules.push(ShowRule { glyph, span, facts, filter });
            } else {
                let value = self.additive()?;
                let span = self.span();
                let glyph = self.text("the glyph in quotes")?;
                rules.push(ShowRule { glyph, span, facts: vec![value], filter: None });
            }
            if !matches!(self.peek(), Tok::Op("}")) {
                self.end_of_line("the end of the line")?;
            }
        }
        Ok(Item::Show { name, joined, layered, at, rules })
    }

    pub(super) fn picture(&mut self) -> Parse<Vec<LookRule>> {
        self.op("{")?;
        let mut rules = vec![];
        loop {
            self.newlines();
            if self.eat_op("}") {
                return Ok(rules);
            }
            let target = self.name("what is drawn, or `}`")?;
            let mut values = None;
            if self.eat_op("=") {
                let from = self.additive()?;
                values = Some((from, if self.eat_op("..") { Some(self.additive()?) } else { None }));
            }
            self.op(":")?;
            let mut rule = LookRule { target, values, words: vec![], rgb: None, label: None };
            loop {
                match self.peek().clone() {
                    Tok::Text(text) => {
                        let span = self.next().span;
                        rule.label = Some((text, span));
                    }
                    Tok::Name(word) if word == "rgb" && matches!(self.peek_at(1), Tok::Op("(")) => {
                        let span = self.next().span;
                        self.op("(")?;
                        let mut parts = [0; 3];
                        for (i, part) in parts.iter_mut().enumerate() {
                            if i > 0 {
                                self.op(",")?;
                            }
                            match *self.peek() {
                                Tok::Int(n) => *part = n,
                                _ => return self.fail("a number from 0 to 255"),
                            }
                            self.next();
                        }
                        self.op(")")?;
                        rule.rgb = Some((parts, span));
                    }
                    Tok::Name(_) => rule.words.push(self.name("a form or a colour")?),
                    _ => break,
                }
            }
            rules.push(rule);
            if !self.is_op("}") {
                self.end_of_line("a form, a colour, a label in quotes, or the end of the line")?;
            }
        }
    }

    pub(super) fn shapes(&mut self) -> Parse<Item> {
        let name = self.name("a name for these shapes")?;
        let of = if self.eat_word("of") { Some(self.name("the enum of their parts")?) } else { None };
        let mirrored = self.eat_word("mirrored");
        self.op("{")?;
        let mut shapes = vec![];
        loop {
            self.newlines();
            if self.eat_op("}") {
                break;
            }
            let name = self.name("a shape's name or `}`")?;
            let (mut corner, mut cell) = (None, None);
            if self.eat_word("about") {
                let is_cell = self.eat_word("cell");
                if !is_cell {
                    self.word("corner")?;
                }
                let mut at = [0; 2];
                for (i, side) in at.iter_mut().enumerate() {
                    if i == 1 {
                        self.op(",")?;
                    }
                    match *self.peek() {
                        Tok::Int(n) => *side = n,
                        _ => return self.fail("a number"),
                    }
                    self.next();
                }
                *(if is_cell { &mut cell } else { &mut corner }) = Some((at[0], at[1]));
            }
            let mut turns = vec![self.board_text()?];
            while self.eat_op(",") {
                self.newlines();
                turns.push(self.board_text()?);
            }
            shapes.push(ShapeDef { name, corner, cell, turns });
            if !self.is_op("}") {
                self.end_of_line("the end of the line")?;
            }
        }
        Ok(Item::Shapes { name, of, mirrored, shapes })
    }
}
