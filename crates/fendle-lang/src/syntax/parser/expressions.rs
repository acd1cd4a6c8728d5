//! Expressions, by precedence.

use super::*;

impl Parser<'_> {
    /// Expressions between commas, up to a closing bracket.
    pub(super) fn exprs(&mut self) -> Parse<Vec<Expr>> {
        let mut list = vec![];
        while !self.is_op(")") {
            list.push(self.expr()?);
            if !self.eat_op(",") {
                break;
            }
        }
        Ok(list)
    }

    /// One step deeper into the tree; whoever asks gives the steps back when done.
    pub(super) fn deeper(&mut self) -> Parse<()> {
        self.depth += 1;
        if self.depth > DEPTH_MAX {
            self.depth = 0;
            self.errors.push(
                Diagnostic::error("S014", self.file, self.span(), "nested too deeply")
                    .note("name parts of it with `let` or `fn`"),
            );
            return Err(Skip);
        }
        Ok(())
    }

    /// Gives `steps` back.
    pub(super) fn back(&mut self, steps: u32) {
        self.depth = self.depth.saturating_sub(steps);
    }

    pub(super) fn expr(&mut self) -> Parse<Expr> {
        self.deeper()?;
        let e = if self.is_word("if") {
            let start = self.next().span;
            let cond = self.expr()?;
            self.word("then")?;
            let then = self.expr()?;
            self.word("else")?;
            let other = self.expr()?;
            let span = start.to(other.span);
            Ok(Expr { kind: ExprKind::Cond(Box::new(cond), Box::new(then), Box::new(other)), span })
        } else {
            self.or()
        };
        self.back(1);
        e
    }

    /// A condition: `=` in it is taken for `==`, and said to be wrong.
    pub(super) fn condition(&mut self) -> Parse<Expr> {
        let mut e = self.expr()?;
        while self.is_op("=") {
            self.errors.push(
                Diagnostic::error("S018", self.file, self.span(), "`=` gives a value; `==` compares")
                    .note("write `==` here"),
            );
            self.next();
            // What was compared is the last part before the sign; the whole is only checked for other mistakes.
            let other = self.expr()?;
            let span = e.span.to(other.span);
            e = Expr { kind: ExprKind::Lost, span };
        }
        Ok(e)
    }

    pub(super) fn bin(op: BinOp, a: Expr, b: Expr) -> Expr {
        let span = a.span.to(b.span);
        Expr { kind: ExprKind::Bin(op, Box::new(a), Box::new(b)), span }
    }

    pub(super) fn or(&mut self) -> Parse<Expr> {
        self.chain(Self::and, |p| p.eat_word("or").then_some(BinOp::Or))
    }

    pub(super) fn and(&mut self) -> Parse<Expr> {
        self.chain(Self::not, |p| p.eat_word("and").then_some(BinOp::And))
    }

    /// Operands with operators between them, as `op` takes them, joined from the left.
    fn chain(
        &mut self,
        operand: fn(&mut Self) -> Parse<Expr>,
        op: impl Fn(&mut Self) -> Option<BinOp>,
    ) -> Parse<Expr> {
        let mut a = operand(self)?;
        let mut steps = 0;
        while let Some(op) = op(self) {
            // Each operand makes the tree one deeper.
            self.deeper()?;
            steps += 1;
            a = Self::bin(op, a, operand(self)?);
        }
        self.back(steps);
        Ok(a)
    }

    pub(super) fn not(&mut self) -> Parse<Expr> {
        if self.is_word("not") {
            let start = self.next().span;
            self.deeper()?;
            let e = self.not()?;
            self.back(1);
            let span = start.to(e.span);
            return Ok(Expr { kind: ExprKind::Not(Box::new(e)), span });
        }
        self.comparison()
    }

    pub(super) fn comparison(&mut self) -> Parse<Expr> {
        let a = self.additive()?;
        let op = match self.peek() {
            Tok::Op("==") => BinOp::Eq,
            Tok::Op("!=") => BinOp::Ne,
            Tok::Op("<") => BinOp::Lt,
            Tok::Op("<=") => BinOp::Le,
            Tok::Op(">") => BinOp::Gt,
            Tok::Op(">=") => BinOp::Ge,
            Tok::Name(n) if n == "in" => BinOp::In,
            Tok::Name(n) if n == "on" => BinOp::On,
            _ => return Ok(a),
        };
        self.next();
        let b = self.additive()?;
        if matches!(self.peek(), Tok::Op("==" | "!=" | "<" | "<=" | ">" | ">=")) {
            self.errors.push(
                Diagnostic::error("S017", self.file, self.span(), "comparisons do not chain")
                    .note("join two comparisons with `and`"),
            );
            return Err(Skip);
        }
        Ok(Self::bin(op, a, b))
    }

    pub(super) fn additive(&mut self) -> Parse<Expr> {
        let mut a = self.term()?;
        let mut steps = 0;
        loop {
            let op = match self.peek() {
                Tok::Op("+") => BinOp::Add,
                Tok::Op("-") => BinOp::Sub,
                _ => {
                    self.back(steps);
                    return Ok(a);
                }
            };
            self.next();
            self.deeper()?;
            steps += 1;
            a = Self::bin(op, a, self.term()?);
        }
    }

    pub(super) fn term(&mut self) -> Parse<Expr> {
        let mut a = self.unary()?;
        let mut steps = 0;
        loop {
            let op = match self.peek() {
                Tok::Op("*") => BinOp::Mul,
                Tok::Op("/") => BinOp::Div,
                Tok::Name(n) if n == "mod" => BinOp::Mod,
                _ => {
                    self.back(steps);
                    return Ok(a);
                }
            };
            self.next();
            self.deeper()?;
            steps += 1;
            a = Self::bin(op, a, self.unary()?);
        }
    }

    pub(super) fn unary(&mut self) -> Parse<Expr> {
        if self.is_op("-") {
            let start = self.next().span;
            self.deeper()?;
            let e = self.unary()?;
            self.back(1);
            let span = start.to(e.span);
            return Ok(Expr { kind: ExprKind::Neg(Box::new(e)), span });
        }
        let a = self.postfix()?;
        if self.eat_op("**") {
            self.deeper()?;
            let b = self.unary()?;
            self.back(1);
            return Ok(Self::bin(BinOp::Pow, a, b));
        }
        Ok(a)
    }

    pub(super) fn postfix(&mut self) -> Parse<Expr> {
        self.deeper()?;
        let mut steps = 1;
        let mut e = self.primary()?;
        loop {
            self.deeper()?;
            steps += 1;
            if self.is_op("[") {
                self.next();
                let index = self.expr()?;
                let end = self.op("]")?;
                let span = e.span.to(end);
                e = Expr { kind: ExprKind::Index(Box::new(e), Box::new(index)), span };
                if self.eat_word("outside") {
                    let value = self.postfix()?;
                    let span = e.span.to(value.span);
                    e = Expr { kind: ExprKind::Outside(Box::new(e), Box::new(value)), span };
                }
            } else if self.is_op(".") {
                self.next();
                let field = self.name("a name after the dot")?;
                if self.eat_op("(") {
                    let args = self.exprs()?;
                    let span = e.span.to(self.op(")")?);
                    e = Expr { kind: ExprKind::Method(Box::new(e), field, args), span };
                    continue;
                }
                let span = e.span.to(field.span);
                e = Expr { kind: ExprKind::Field(Box::new(e), field), span };
            } else {
                self.back(steps);
                return Ok(e);
            }
        }
    }

    pub(super) fn primary(&mut self) -> Parse<Expr> {
        let span = self.span();
        let kind = match self.peek().clone() {
            Tok::Int(n) => {
                self.next();
                ExprKind::Int(n)
            }
            Tok::Name(n) if n == "true" || n == "false" => {
                self.next();
                ExprKind::Bool(n == "true")
            }
            Tok::Op("(") => {
                self.next();
                let mut e = self.expr()?;
                e.span = span.to(self.op(")")?);
                return Ok(e);
            }
            Tok::Name(n) if matches!(self.peek_at(1), Tok::Op("(")) && !RESERVED.contains(&n.as_str()) => {
                let name = self.name("a name")?;
                self.next();
                return self.call(name);
            }
            Tok::Name(n)
                if n == "can"
                    && matches!(self.peek_at(1), Tok::Name(m) if !RESERVED.contains(&m.as_str())) =>
            {
                self.next();
                let (name, args) = self.asked_move()?;
                ExprKind::Can(name, args)
            }
            Tok::Name(n)
                if (n == "some" || n == "every")
                    && matches!(self.peek_at(1), Tok::Name(m) if m == "outcome") =>
            {
                self.next();
                self.next();
                self.word("of")?;
                let (name, args) = self.asked_move()?;
                self.op(":")?;
                let cond = Box::new(self.expr()?);
                let of = if n == "every" { HowMany::Every } else { HowMany::Some };
                ExprKind::Leads(of, name, args, cond)
            }
            Tok::Name(_) => ExprKind::Name(self.name("a value")?.text),
            _ => return self.fail("a value"),
        };
        Ok(Expr { kind, span: span.to(self.last_span()) })
    }

    /// A move in a question: `any`, `shift` or `shift(left)`.
    pub(super) fn asked_move(&mut self) -> Parse<(Name, Vec<Expr>)> {
        let name = self.name("a move, or `any`")?;
        let mut args = vec![];
        if self.eat_op("(") {
            args = self.exprs()?;
            self.op(")")?;
        }
        Ok((name, args))
    }

    /// After `NAME(`.
    pub(super) fn call(&mut self, name: Name) -> Parse<Expr> {
        let bound = matches!(self.peek(), Tok::Name(n) if !RESERVED.contains(&n.as_str()))
            && matches!(self.peek_at(1), Tok::Name(n) if n == "on" || n == "in" || n == "from");
        let kind = match name.text.as_str() {
            "count" => Some(QuantKind::Count),
            "all" => Some(QuantKind::All),
            "any" => Some(QuantKind::Any),
            "the" => Some(QuantKind::The),
            "first" => Some(QuantKind::First),
            "sum" => Some(QuantKind::Sum),
            "min" if bound => Some(QuantKind::Min),
            "max" if bound => Some(QuantKind::Max),
            "set" => Some(QuantKind::Set),
            "list" => Some(QuantKind::List),
            _ => None,
        };
        if let Some(kind) = kind {
            let binder = self.binder()?;
            let body = if self.eat_op(":") { Some(Box::new(self.expr()?)) } else { None };
            let span = name.span.to(self.op(")")?);
            return Ok(Expr { kind: ExprKind::Quant { kind, binder, body }, span });
        }
        if name.text == "flood" {
            let bound = self.name("a name for the cells of the flood")?;
            let to = if self.eat_word("to") { Some(self.name("a name for the next cell")?) } else { None };
            self.word("from")?;
            let from = Box::new(self.additive()?);
            self.word("by")?;
            let by_name = Some(self.name("`around4`, `around8` or `around`")?);
            let mut by = vec![];
            if self.eat_op("(") {
                by = self.exprs()?;
                self.op(")")?;
            }
            self.word("while")?;
            let cond = Box::new(self.expr()?);
            let rim = self.eat_op(",");
            if rim {
                self.word("rim")?;
            }
            let span = name.span.to(self.op(")")?);
            return Ok(Expr {
                kind: ExprKind::Flood { name: bound, to, from, by, by_name, cond, rim },
                span,
            });
        }
        if matches!(self.peek(), Tok::Name(_)) && matches!(self.peek_at(1), Tok::Op(":")) {
            let mut parts = vec![];
            while !self.is_op(")") {
                let part = self.name("a part of the record")?;
                self.op(":")?;
                parts.push((part, self.expr()?));
                if !self.eat_op(",") {
                    break;
                }
            }
            let span = name.span.to(self.op(")")?);
            return Ok(Expr { kind: ExprKind::Record(name, parts), span });
        }
        let args = self.exprs()?;
        let span = name.span.to(self.op(")")?);
        Ok(Expr { kind: ExprKind::Call(name, args), span })
    }
}
