//! Statements, draws, and what loops run over.

use super::*;

impl Parser<'_> {
    pub(super) fn skip_line(&mut self) {
        // Blocks opened on the way are skipped whole.
        let mut braces = 0;
        loop {
            match self.peek() {
                Tok::End => return,
                Tok::Newline if braces == 0 => return,
                Tok::Op("}") if braces == 0 => return,
                Tok::Op("{") => braces += 1,
                Tok::Op("}") => braces -= 1,
                _ if self.at_item() => return,
                _ => {}
            }
            self.next();
        }
    }

    pub(super) fn block(&mut self) -> Parse<Block> {
        self.deeper()?;
        let open = self.op("{")?;
        let mut block = vec![];
        loop {
            self.newlines();
            if self.eat_op("}") {
                break;
            }
            if matches!(self.peek(), Tok::End) || self.at_item() {
                self.errors.push(
                    Diagnostic::error("S015", self.file, open, "this block is never closed")
                        .note("add a `}`"),
                );
                break;
            }
            match self.stmt() {
                Ok(stmt) => {
                    block.push(stmt);
                    if self.end_of_line("the end of the line").is_err() {
                        self.skip_line();
                    }
                }
                Err(Skip) => self.skip_line(),
            }
        }
        self.back(1);
        Ok(block)
    }

    #[expect(clippy::too_many_lines, reason = "one arm for each kind of statement")]
    pub(super) fn stmt(&mut self) -> Parse<Stmt> {
        let span = self.span();
        let word = match self.peek() {
            Tok::Name(n) => n.clone(),
            _ => return self.fail("a statement"),
        };
        let kind = match word.as_str() {
            "let" | "var" => self.named(word == "var")?,
            "swap" => {
                self.next();
                let a = self.expr()?;
                self.op(",")?;
                StmtKind::Swap(a, self.expr()?)
            }
            "if" => self.condition_with_blocks()?,
            "for" => {
                self.next();
                let binder = self.binder()?;
                StmtKind::For { binder, body: self.block()? }
            }
            "repeat" => self.repeat()?,
            "phase" => {
                self.next();
                let name = self.text("the phase's name in quotes")?;
                StmtKind::Phase { name, body: self.block()? }
            }
            "offer" => {
                self.next();
                StmtKind::Offer(self.condition()?)
            }
            "refuse" => self.refuse()?,
            "judge" => {
                self.next();
                StmtKind::Judge
            }
            "win" => {
                self.next();
                StmtKind::Win
            }
            "lose" => {
                self.next();
                StmtKind::Lose(self.text("a reason in quotes")?)
            }
            "stop" => {
                self.next();
                StmtKind::Stop(if matches!(self.peek(), Tok::Text(_)) { Some(self.text("")?) } else { None })
            }
            "note" => {
                self.next();
                let text = self.text("the note in quotes")?;
                let at = if self.eat_word("at") { Some(self.expr()?) } else { None };
                StmtKind::Note { text, at }
            }
            "score" => {
                self.next();
                StmtKind::Score(self.expr()?)
            }
            "add" | "remove" => {
                self.next();
                let cell = self.expr()?;
                self.word(if word == "add" { "to" } else { "from" })?;
                let set = self.expr()?;
                if word == "add" { StmtKind::Add(cell, set) } else { StmtKind::Remove(cell, set) }
            }
            "write" => self.write()?,
            "take" => {
                self.next();
                self.word("last")?;
                let count = self.additive()?;
                self.word("of")?;
                let from = self.postfix()?;
                self.word("onto")?;
                StmtKind::Take { count, from, onto: self.postfix()? }
            }
            "cut" => {
                self.next();
                let binder = self.binder()?;
                self.word("out")?;
                self.word("of")?;
                let grid = self.postfix()?;
                self.op(",")?;
                let fill = self.additive()?;
                self.word("from")?;
                StmtKind::CutOut { binder, grid, fill, from: self.additive()? }
            }
            "insert" => {
                self.next();
                let row = self.expr()?;
                self.word("into")?;
                let grid = self.postfix()?;
                self.word("at")?;
                let at = self.additive()?;
                self.op(",")?;
                self.word("from")?;
                StmtKind::Insert { row, grid, at, from: self.additive()? }
            }
            "require" => {
                self.next();
                let cond = self.condition()?;
                let why =
                    if self.eat_word("because") { Some(self.text("a reason in quotes")?) } else { None };
                StmtKind::Require { cond, why }
            }
            _ => {
                let target = self.postfix()?;
                if let ExprKind::Call(name, args) = target.kind {
                    return Ok(Stmt { kind: StmtKind::Call(name, args), span: target.span });
                }
                if matches!(target.kind, ExprKind::Method(..)) {
                    return Ok(Stmt { span: target.span, kind: StmtKind::Method(target) });
                }
                let op = match self.peek() {
                    Tok::Op("=") => None,
                    Tok::Op("+=") => Some(BinOp::Add),
                    Tok::Op("-=") => Some(BinOp::Sub),
                    Tok::Op("*=") => Some(BinOp::Mul),
                    _ => {
                        let near = near(&word, STMT_WORDS.iter().copied());
                        let r = self.fail("`=` and a value, or a statement");
                        if let (Some(n), Some(e)) = (near, self.errors.last_mut()) {
                            e.notes.push(format!("did you mean `{n}`?"));
                        }
                        return r;
                    }
                };
                self.next();
                if op.is_none() && self.is_word("draw") {
                    let (from, other) = self.draw(None)?;
                    StmtKind::Draw { name: None, ty: None, target: Some(target), from, other }
                } else {
                    StmtKind::Assign { target, op, value: self.expr()? }
                }
            }
        };
        Ok(Stmt { kind, span: span.to(self.last_span()) })
    }

    /// `write PARTS, then FILL, into GRID along LANE`
    fn write(&mut self) -> Parse<StmtKind> {
        self.next();
        let mut parts = vec![self.expr()?];
        self.op(",")?;
        while !self.eat_word("then") {
            parts.push(self.expr()?);
            self.op(",")?;
        }
        let fill = self.expr()?;
        self.op(",")?;
        self.word("into")?;
        let into = self.postfix()?;
        self.word("along")?;
        Ok(StmtKind::Write { parts, fill, into, along: self.expr()? })
    }

    /// `refuse "..." at CELLS unless C`
    fn refuse(&mut self) -> Parse<StmtKind> {
        self.next();
        let why = self.text("the reason in quotes")?;
        let mut at = vec![];
        if self.eat_word("at") {
            at.push(self.expr()?);
            while self.eat_op(",") {
                at.push(self.expr()?);
            }
        }
        let unless = self.unless()?;
        Ok(StmtKind::Refuse { why, at, unless })
    }

    /// `repeat at most N while C { }`, and perhaps `else cut`.
    fn repeat(&mut self) -> Parse<StmtKind> {
        self.next();
        self.word("at")?;
        self.word("most")?;
        let bound = self.expr()?;
        self.word("while")?;
        let cond = self.condition()?;
        let body = self.block()?;
        let mut cut = false;
        if self.is_word("else") {
            self.next();
            self.word("cut")?;
            cut = true;
        }
        Ok(StmtKind::Repeat { bound, cond, body, cut })
    }

    /// `if C { }`, with `else` on the same line or a later one.
    fn condition_with_blocks(&mut self) -> Parse<StmtKind> {
        self.next();
        let cond = self.condition()?;
        let then = self.block()?;
        let mut ahead = 0;
        while matches!(self.peek_at(ahead), Tok::Newline) {
            ahead += 1;
        }
        let mut other = vec![];
        if matches!(self.peek_at(ahead), Tok::Name(n) if n == "else") {
            self.at += ahead + 1;
            other = if self.is_word("if") {
                self.deeper()?;
                let stmt = self.stmt()?;
                self.back(1);
                vec![stmt]
            } else {
                self.block()?
            };
        }
        Ok(StmtKind::If { cond, then, other })
    }

    /// `let NAME: TYPE = VALUE`, `var`, or a draw that is named.
    fn named(&mut self, mutable: bool) -> Parse<StmtKind> {
        self.next();
        let name = self.name("a name")?;
        let ty = if self.eat_op(":") { Some(self.ty()?) } else { None };
        let list = matches!(&ty, Some(t) if matches!(t.kind, TypeKind::List { .. }));
        if list && !self.is_op("=") {
            let value = Expr { kind: ExprKind::Empty, span: name.span };
            let kind = StmtKind::Let { name, ty, value, mutable };
            return Ok(kind);
        }
        self.op("=")?;
        Ok(if self.is_word("draw") && !mutable {
            let (from, other) = self.draw(Some(&name))?;
            StmtKind::Draw { name: Some(name), ty, target: None, from, other }
        } else {
            StmtKind::Let { name, ty, value: self.expr()?, mutable }
        })
    }

    /// What stands behind the reason and the places of a `refuse`.
    fn unless(&mut self) -> Parse<Option<Expr>> {
        let Tok::Name(word) = self.peek().clone() else { return Ok(None) };
        if word != "unless" {
            let note = match word.as_str() {
                "if" | "when" => {
                    "a refusal says when the move is allowed: write `unless` and the opposite condition"
                        .into()
                }
                _ if near(&word, ["unless"]).is_some() => "did you mean `unless`?".to_string(),
                _ => return Ok(None),
            };
            let message = format!("expected `unless`, found `{word}`");
            self.errors.push(Diagnostic::error("S010", self.file, self.span(), message).note(note));
        }
        self.next();
        self.condition().map(Some)
    }

    /// Values with weights, in round brackets.
    pub(super) fn weighted(&mut self) -> Parse<Vec<(Expr, Option<Expr>)>> {
        self.op("(")?;
        let mut values = vec![];
        loop {
            let value = self.expr()?;
            let weight = if self.eat_word("weight") { Some(self.expr()?) } else { None };
            values.push((value, weight));
            if !self.eat_op(",") || self.is_op(")") {
                break;
            }
        }
        self.op(")")?;
        Ok(values)
    }

    /// `draw from (...)`, `draw on G where C weight W`, `draw (c on G where C weight W)`, each with
    /// `else { ... }`. `bound` is the name that a `let` gives.
    pub(super) fn draw(&mut self, bound: Option<&Name>) -> Parse<(DrawFrom, Option<Block>)> {
        let span = self.span();
        self.next();
        let from = if self.eat_word("from") {
            DrawFrom::Values(self.weighted()?)
        } else {
            let bracket = self.eat_op("(");
            let binder = match bound {
                Some(name) if !bracket => self.binder_over(name.clone())?,
                None if !bracket => self.binder_over(Name { text: format!("drawn {}", span.start), span })?,
                _ => self.binder()?,
            };
            let weight = if self.eat_word("weight") { Some(self.expr()?) } else { None };
            if bracket {
                self.op(")")?;
            }
            DrawFrom::Range { binder, weight }
        };
        let other = if self.eat_word("else") { Some(self.block()?) } else { None };
        Ok((from, other))
    }

    pub(super) fn binder(&mut self) -> Parse<Binder> {
        let name = self.name("a name for what is run over")?;
        self.binder_over(name)
    }

    /// A binder after its name.
    pub(super) fn binder_over(&mut self, name: Name) -> Parse<Binder> {
        let on = if self.eat_word("on") {
            true
        } else if self.eat_word("in") {
            false
        } else {
            return self.fail("`on GRID` or `in RANGE`");
        };
        let over = Box::new(self.additive()?);
        let upto = if self.eat_op("..") { Some(Box::new(self.additive()?)) } else { None };
        let filter = if self.eat_word("where") { Some(Box::new(self.condition()?)) } else { None };
        Ok(Binder { name, on, over, upto, filter })
    }
}
