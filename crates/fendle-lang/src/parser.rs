//! Tokens to a syntax tree, with recovery: all errors of a file in one run.
//!
//! After an error inside a block the parser goes on with the next line; after one outside,
//! with the next line that begins with an item word. See docs/language.md for the grammar.

use crate::ast::*;
use crate::diag::{Diagnostic, FileId, Span, near};
use crate::lexer::{ITEM_WORDS, Tok, Token, lex};

/// Words that cannot be names.
pub const RESERVED: &[&str] = &[
    "and", "or", "not", "mod", "if", "then", "else", "in", "on", "where", "while", "outside", "true", "false",
];
const STMT_WORDS: &[&str] = &[
    "let", "var", "swap", "if", "for", "repeat", "phase", "offer", "refuse", "judge", "win", "lose", "stop",
    "note", "score", "add", "remove", "write", "take", "cut", "insert", "require",
];
/// Constructs that are planned and not yet here: the error says so instead of guessing.
/// Words that make a type of another one.
const TYPE_WORDS: [&str; 8] = ["grid", "set", "array", "rearranged", "list", "bag", "maybe", "placed"];
const DEPTH_MAX: u32 = 160;

/// Marks that an error was reported and the construct is given up.
struct Skip;
type Parse<T> = Result<T, Skip>;

struct Parser<'a> {
    file: FileId,
    text: &'a str,
    tokens: Vec<Token>,
    at: usize,
    depth: u32,
    errors: &'a mut Vec<Diagnostic>,
}

/// Parses a model file. Errors are appended; the tree holds what could be read.
pub fn parse(file: FileId, text: &str, errors: &mut Vec<Diagnostic>) -> Source {
    let tokens = lex(file, text, errors);
    let mut parser = Parser { file, text, tokens, at: 0, depth: 0, errors };
    parser.source()
}

/// Parses one expression from a text of its own, such as a condition on the command line.
pub fn parse_expr(file: FileId, text: &str, errors: &mut Vec<Diagnostic>) -> Option<Expr> {
    let tokens = lex(file, text, errors);
    let mut parser = Parser { file, text, tokens, at: 0, depth: 0, errors };
    let expr = parser.expr().ok()?;
    parser.end_of_line("the end of the expression").ok()?;
    Some(expr)
}

fn describe(tok: &Tok) -> String {
    match tok {
        Tok::Name(n) => format!("`{n}`"),
        Tok::Int(n) => format!("`{n}`"),
        Tok::Text(_) => "a text".into(),
        Tok::Board(..) => "a text board".into(),
        Tok::Op(op) => format!("`{op}`"),
        Tok::Newline => "the end of the line".into(),
        Tok::End => "the end of the file".into(),
    }
}

impl Parser<'_> {
    fn peek(&self) -> &Tok {
        &self.tokens[self.at].tok
    }
    fn peek_at(&self, ahead: usize) -> &Tok {
        &self.tokens[(self.at + ahead).min(self.tokens.len() - 1)].tok
    }
    fn span(&self) -> Span {
        self.tokens[self.at].span
    }
    fn last_span(&self) -> Span {
        self.tokens[self.at.saturating_sub(1)].span
    }
    fn next(&mut self) -> Token {
        let token = self.tokens[self.at].clone();
        if self.at + 1 < self.tokens.len() {
            self.at += 1;
        }
        token
    }
    fn is_op(&self, op: &str) -> bool {
        matches!(self.peek(), Tok::Op(o) if *o == op)
    }
    fn is_word(&self, word: &str) -> bool {
        matches!(self.peek(), Tok::Name(n) if n == word)
    }
    fn eat_op(&mut self, op: &str) -> bool {
        let hit = self.is_op(op);
        if hit {
            self.next();
        }
        hit
    }
    fn eat_word(&mut self, word: &str) -> bool {
        let hit = self.is_word(word);
        if hit {
            self.next();
        }
        hit
    }
    fn fail<T>(&mut self, expected: &str) -> Parse<T> {
        let found = describe(self.peek());
        let error =
            Diagnostic::error("S010", self.file, self.span(), format!("expected {expected}, found {found}"))
                .here(format!("expected {expected}"));
        self.errors.push(error);
        Err(Skip)
    }
    fn op(&mut self, op: &str) -> Parse<Span> {
        if self.is_op(op) { Ok(self.next().span) } else { self.fail(&format!("`{op}`")) }
    }
    fn word(&mut self, word: &str) -> Parse<()> {
        if self.eat_word(word) { Ok(()) } else { self.fail(&format!("`{word}`")) }
    }
    fn name(&mut self, what: &str) -> Parse<Name> {
        match self.peek() {
            Tok::Name(n) if RESERVED.contains(&n.as_str()) => {
                let note = format!("`{n}` is a word of the language and cannot be a name");
                let r = self.fail(what);
                if let Some(e) = self.errors.last_mut() {
                    e.notes.push(note);
                }
                r
            }
            Tok::Name(n) => {
                let name = Name { text: n.clone(), span: self.span() };
                self.next();
                Ok(name)
            }
            _ => self.fail(what),
        }
    }
    fn text(&mut self, what: &str) -> Parse<String> {
        match self.peek() {
            Tok::Text(t) => {
                let t = t.clone();
                self.next();
                Ok(t)
            }
            _ => self.fail(what),
        }
    }
    fn end_of_line(&mut self, what: &str) -> Parse<()> {
        match self.peek() {
            Tok::Newline => {
                self.next();
                Ok(())
            }
            Tok::Op("}") | Tok::End => Ok(()),
            Tok::Op("=") => {
                let r = self.fail(what);
                if let Some(e) = self.errors.last_mut() {
                    e.notes.push("`=` assigns; write `==` to compare".into());
                }
                r
            }
            _ => self.fail(what),
        }
    }
    fn newlines(&mut self) {
        while matches!(self.peek(), Tok::Newline) {
            self.next();
        }
    }

    fn at_item(&self) -> bool {
        let line_start = self.at == 0 || matches!(self.tokens[self.at - 1].tok, Tok::Newline | Tok::Op("}"));
        let start = self.span().start as usize;
        let column_one = start == 0 || self.text.as_bytes()[start - 1] == b'\n';
        line_start && column_one && matches!(self.peek(), Tok::Name(n) if ITEM_WORDS.contains(&n.as_str()))
    }

    fn source(&mut self) -> Source {
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
    fn declared(&self, from: usize) -> Vec<String> {
        let item = &self.tokens[from..self.at.max(from)];
        let whole = matches!(item.first().map(|t| &t.tok), Some(Tok::Name(w)) if matches!(w.as_str(), "enum" | "shapes" | "record"));
        let name = |t: &Token| if let Tok::Name(n) = &t.tok { Some(n.clone()) } else { None };
        let head = item.iter().skip(1).take_while(|t| whole || matches!(t.tok, Tok::Name(_) | Tok::Op(",")));
        head.filter_map(name).collect()
    }

    fn likeness(&mut self) -> Parse<Likeness> {
        if self.eat_word("piles") {
            self.word("of")?;
            let of = self.name("the array whose keys are alike")?;
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

    fn item(&mut self, source: &mut Source) -> Parse<()> {
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
        let item = match word.as_str() {
            "model" => {
                let name = self.name("the model's name")?;
                if let Some(first) = &source.name {
                    let first = first.span;
                    self.errors.push(
                        Diagnostic::error("S022", self.file, name.span, "a file holds one model").also(
                            self.file,
                            first,
                            "the first one is here",
                        ),
                    );
                } else {
                    source.name = Some(name);
                }
                return self.end_of_line("the end of the line");
            }
            "const" => {
                let name = self.name("a name")?;
                self.op("=")?;
                Item::Const(name, self.expr()?)
            }
            "enum" => {
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
                Item::Enum(name, values)
            }
            "level" | "state" | "hidden" => {
                let mut names = vec![self.name("a name")?];
                while self.eat_op(",") {
                    names.push(self.name("a name")?);
                }
                self.op(":")?;
                let ty = self.ty()?;
                let (mut when, mut default, mut outside) = (None, None, None);
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
                        let name =
                            if self.is_op("(") { None } else { Some(self.name("a name for the cell")?) };
                        prior.each = Some((name, self.weighted()?));
                    } else if self.eat_op("=") {
                        default = Some(self.expr()?);
                    } else {
                        break;
                    }
                }
                let hidden = (word == "hidden").then_some(prior);
                Item::Var { state: word != "level", names, ty, when, default, outside, hidden, untold }
            }
            "tell" => {
                let mut name = None;
                if matches!(self.peek(), Tok::Name(_)) && matches!(self.peek_at(1), Tok::Op(":")) {
                    name = Some(self.name("a name")?);
                    self.op(":")?;
                }
                let value = self.expr()?;
                let binder = if self.eat_word("for") { Some(self.binder()?) } else { None };
                let when = if binder.is_none() && self.eat_word("where") { Some(self.expr()?) } else { None };
                Item::Tell { name, value, binder, when, span: span.to(self.last_span()) }
            }
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
                if self.eat_op(":") {
                    self.ty()?;
                }
                self.op("=")?;
                Item::Fn { name, params, body: self.expr()? }
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
            "record" => {
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
                Item::Record(name, fields)
            }
            "shapes" => self.shapes()?,
            "tick" => {
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
                Item::Tick { every, on, body: self.block()?, span }
            }
            "setup" => {
                let mut attempts = None;
                if self.eat_word("at") {
                    self.word("most")?;
                    attempts = Some(self.additive()?);
                    self.word("attempts")?;
                }
                Item::Setup { attempts, body: self.block()?, span }
            }
            "spread" => {
                let lo = self.additive()?;
                self.op("..")?;
                let hi = self.additive()?;
                self.word("over")?;
                let over = self.name("the array of lists that they are spread over")?;
                Item::Spread { lo, hi, over, span: span.to(self.last_span()) }
            }
            "aim" => {
                let most = if self.eat_word("most") {
                    true
                } else if self.eat_word("least") {
                    false
                } else {
                    return self.fail("`most` or `least`");
                };
                let what = if self.eat_word("score") { None } else { Some(self.expr()?) };
                Item::Aim { most, what, span }
            }
            "alike" => {
                let what = self.likeness()?;
                let when = if self.eat_word("if") { Some(self.expr()?) } else { None };
                Item::Alike { what, when, span: span.to(self.last_span()) }
            }
            "law" => {
                let turn = self.name("`turned` or `mirrored`")?;
                self.word("because")?;
                Item::Law { title: self.text("a reason in quotes")?, turn, span }
            }
            "after" => Item::After(self.block()?, span),
            "goal" => {
                let e = self.expr()?;
                Item::Goal(e, span)
            }
            "lost" => {
                self.word("when")?;
                let e = self.expr()?;
                self.word("because")?;
                Item::Lost(e, self.text("a reason in quotes")?, span)
            }
            "over" => {
                self.word("when")?;
                let e = self.expr()?;
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
                let e = self.expr()?;
                self.word("because")?;
                Item::Always(e, self.text("a reason in quotes")?, span)
            }
            "keeps" => {
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
                Item::Keeps { quantity, when, goal, why, span }
            }
            "bound" => Item::Bound(self.expr()?, span),
            _ => self.example(span)?,
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
                | Item::Const(..)
        );
        if ended.is_ok() || !condition {
            source.items.push(item);
        }
        ended
    }

    fn show(&mut self) -> Parse<Item> {
        let name = self.name("a grid or the name of a drawing")?;
        let joined = self.eat_word("joined");
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
                while !matches!(self.peek(), Tok::Newline | Tok::Op("}") | Tok::End) {
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
                rules.push(ShowRule { glyph, span, facts });
            } else {
                let value = self.additive()?;
                let span = self.span();
                let glyph = self.text("the glyph in quotes")?;
                rules.push(ShowRule { glyph, span, facts: vec![value] });
            }
            if !matches!(self.peek(), Tok::Op("}")) {
                self.end_of_line("the end of the line")?;
            }
        }
        Ok(Item::Show { name, joined, rules })
    }

    fn picture(&mut self) -> Parse<Vec<LookRule>> {
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

    fn shapes(&mut self) -> Parse<Item> {
        let name = self.name("a name for these shapes")?;
        self.op("{")?;
        let mut shapes = vec![];
        loop {
            self.newlines();
            if self.eat_op("}") {
                break;
            }
            let name = self.name("a shape's name or `}`")?;
            let mut corner = None;
            if self.eat_word("about") {
                self.word("corner")?;
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
                corner = Some((at[0], at[1]));
            }
            let mut turns = vec![self.board_text()?];
            while self.eat_op(",") {
                self.newlines();
                turns.push(self.board_text()?);
            }
            shapes.push(ShapeDef { name, corner, turns });
            if !self.is_op("}") {
                self.end_of_line("the end of the line")?;
            }
        }
        Ok(Item::Shapes(name, shapes))
    }

    fn example(&mut self, span: Span) -> Parse<Item> {
        let title = self.text("the example's title in quotes")?;
        self.op("{")?;
        let mut lines = vec![];
        loop {
            self.newlines();
            if self.eat_op("}") {
                break;
            }
            if matches!(self.peek(), Tok::End) {
                return self.fail("`}` at the end of the example");
            }
            let Some(line) = self.example_line()? else { continue };
            lines.push(line);
            self.end_of_line("the end of the line")?;
        }
        Ok(Item::Example { title, lines, span })
    }

    /// One line; `None` when it was wrong and is left out.
    fn example_line(&mut self) -> Parse<Option<ExampleLine>> {
        let head = self.span();
        let word = self.name("`size`, `level`, `start`, `do`, `see`, `refused` or `status`")?;
        Ok(Some(match word.text.as_str() {
            "seed" => match *self.peek() {
                Tok::Int(n) => {
                    self.next();
                    ExampleLine::Seed(n as u64, head)
                }
                _ => return self.fail("a number"),
            },
            "score" => match *self.peek() {
                Tok::Int(n) => {
                    self.next();
                    ExampleLine::Score(n, head)
                }
                _ => return self.fail("a number"),
            },
            "some" | "every" | "chance" => {
                let how = if word.text == "chance" {
                    let Tok::Int(n) = *self.peek() else { return self.fail("a chance such as 9 / 10") };
                    self.next();
                    let mut of = 1;
                    if self.eat_op("/") {
                        let Tok::Int(m) = *self.peek() else { return self.fail("a number of at least 1") };
                        self.next();
                        of = m.max(1);
                    }
                    self.word("that")?;
                    OutcomeHow::Chance(n as u64, of as u64)
                } else {
                    self.word("outcome")?;
                    if word.text == "some" { OutcomeHow::Some } else { OutcomeHow::Every }
                };
                if !(self.is_word("see") || self.is_word("status")) {
                    return self.fail("`see` or `status`");
                }
                match self.example_line()? {
                    Some(what) => ExampleLine::Outcomes { how, what: Box::new(what), span: head },
                    None => return Ok(None),
                }
            }
            "level" | "start" => {
                let name = self.name("a name")?;
                let value = match self.peek().clone() {
                    Tok::Board(..) | Tok::Text(_) => {
                        let board = self.board_text()?;
                        let span = board.span;
                        Expr { kind: ExprKind::Board(board), span }
                    }
                    _ => {
                        self.op("=")?;
                        self.expr()?
                    }
                };
                if word.text == "level" {
                    ExampleLine::Level(name, value)
                } else {
                    ExampleLine::Start(name, value)
                }
            }
            "size" => {
                let mut sides = [0usize; 2];
                for (i, side) in sides.iter_mut().enumerate() {
                    if i == 1 {
                        self.op(",")?;
                    }
                    match *self.peek() {
                        Tok::Int(n) if n >= 1 => *side = n as usize,
                        _ => return self.fail("a number of at least 1"),
                    }
                    self.next();
                }
                ExampleLine::Size(sides[0], sides[1], head.to(self.last_span()))
            }
            "do" => {
                let from = self.span().start;
                let mut to = from;
                while !matches!(self.peek(), Tok::Newline | Tok::Op("}") | Tok::End) {
                    to = self.next().span.end;
                    if matches!(self.peek(), Tok::Newline)
                        && self.text.as_bytes().get(self.span().start as usize) == Some(&b';')
                    {
                        to = self.next().span.end;
                    }
                }
                let span = Span { start: from, end: to };
                ExampleLine::Do(self.text[span.range()].trim_end_matches(';').to_string(), span)
            }
            "see" => {
                if self.is_op("(") {
                    ExampleLine::See(self.expr()?)
                } else {
                    let name = self.name("a grid, a drawing, or a condition in brackets")?;
                    ExampleLine::SeeBoard(name, self.board_text()?)
                }
            }
            "refused" => ExampleLine::Refused(self.text("the reason in quotes")?, head),
            "status" => {
                let status = self.name("`running`, `goal`, `lost`, `over` or `stuck`")?;
                let why = if let Tok::Text(_) = self.peek() { Some(self.text("a reason")?) } else { None };
                ExampleLine::Status(status, why)
            }
            other => {
                let mut error = Diagnostic::error(
                    "S012",
                    self.file,
                    head,
                    format!("`{other}` begins no line of an example"),
                );
                let known = [
                    "size", "level", "start", "seed", "do", "see", "refused", "status", "score", "some",
                    "every", "chance",
                ];
                error = match near(other, known) {
                    Some(n) => error.note(format!("did you mean `{n}`?")),
                    None => error.note(format!("lines begin with one of: {}", known.join(", "))),
                };
                self.errors.push(error);
                self.skip_line();
                return Ok(None);
            }
        }))
    }

    /// A board in ''', or in one line of quotes with `/` between rows.
    fn board_text(&mut self) -> Parse<BoardText> {
        let span = self.span();
        let (text, at) = match self.peek().clone() {
            Tok::Board(text, at) => (text, at),
            Tok::Text(text) => (text.replace('/', "\n"), span.start + 1),
            _ => return self.fail("a text board in '''"),
        };
        self.next();
        Ok(BoardText { text, at, span })
    }

    /// Expressions between commas, up to a closing bracket.
    fn exprs(&mut self) -> Parse<Vec<Expr>> {
        let mut list = vec![];
        while !self.is_op(")") {
            list.push(self.expr()?);
            if !self.eat_op(",") {
                break;
            }
        }
        Ok(list)
    }

    fn params(&mut self) -> Parse<Vec<Param>> {
        self.op("(")?;
        let mut params = vec![];
        while !self.is_op(")") {
            let name = self.name("a parameter or `)`")?;
            self.op(":")?;
            params.push(Param { name, ty: self.ty()? });
            if !self.eat_op(",") {
                break;
            }
        }
        self.op(")")?;
        Ok(params)
    }

    fn ty(&mut self) -> Parse<Type> {
        let span = self.span();
        let kind = match self.peek().clone() {
            Tok::Name(word) => match word.as_str() {
                "grid" => {
                    self.next();
                    self.word("of")?;
                    let elem = self.ty()?;
                    let sized = if self.eat_word("sized") {
                        self.op("(")?;
                        let rows = self.expr()?;
                        self.op(",")?;
                        let cols = self.expr()?;
                        self.op(")")?;
                        Some((rows, cols))
                    } else {
                        None
                    };
                    TypeKind::Grid(Box::new(elem), sized)
                }
                "set" => {
                    self.next();
                    self.word("of")?;
                    self.word("cells")?;
                    TypeKind::Set
                }
                "array" => {
                    self.next();
                    if matches!(self.peek(), Tok::Int(_) | Tok::Op("(" | "-"))
                        || matches!(self.peek_at(1), Tok::Op(_))
                    {
                        let lo = self.additive()?;
                        self.op("..")?;
                        let hi = self.additive()?;
                        self.word("of")?;
                        TypeKind::ArrayBy(lo, hi, Box::new(self.ty()?))
                    } else {
                        let key = self.name("an enum, `row`, `column` or a range")?;
                        self.word("of")?;
                        TypeKind::Array(key, Box::new(self.ty()?))
                    }
                }
                "list" | "bag" => {
                    let bag = word == "bag";
                    self.next();
                    self.word("of")?;
                    let elem = Box::new(self.ty()?);
                    self.word("max")?;
                    TypeKind::List { elem, max: self.additive()?, bag }
                }
                "maybe" => {
                    self.next();
                    TypeKind::Maybe(Box::new(self.ty()?))
                }
                "placed" => {
                    self.next();
                    TypeKind::Placed(self.name("the name of some shapes")?)
                }
                "rearranged" => {
                    self.next();
                    TypeKind::Rearranged(self.name("the level's grid")?)
                }
                _ if matches!(self.peek_at(1), Tok::Op("..")) => self.range()?,
                // `rearanged target`, `gird of bool`: a slip in the word that makes the type.
                _ if matches!(self.peek_at(1), Tok::Name(_)) && near(&word, TYPE_WORDS).is_some() => {
                    let meant = near(&word, TYPE_WORDS).unwrap_or("grid");
                    self.errors.push(
                        Diagnostic::error("M013", self.file, span, format!("no type is named `{word}`"))
                            .note(format!("did you mean `{meant}`?")),
                    );
                    while !matches!(self.peek(), Tok::Newline | Tok::End | Tok::Op("{" | "}" | ")" | "=")) {
                        self.next();
                    }
                    TypeKind::Later
                }
                _ => TypeKind::Named(self.name("a type")?.text),
            },
            Tok::Int(_) | Tok::Op("-" | "(") => self.range()?,
            _ => return self.fail("a type such as `bool`, `0..9`, `cell` or `grid of 0..9`"),
        };
        Ok(Type { kind, span: span.to(self.last_span()) })
    }

    fn range(&mut self) -> Parse<TypeKind> {
        let lo = self.additive()?;
        self.op("..")?;
        Ok(TypeKind::Range(lo, self.additive()?))
    }

    fn skip_line(&mut self) {
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

    fn block(&mut self) -> Parse<Block> {
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

    fn stmt(&mut self) -> Parse<Stmt> {
        let span = self.span();
        let word = match self.peek() {
            Tok::Name(n) => n.clone(),
            _ => return self.fail("a statement"),
        };
        let kind = match word.as_str() {
            "let" | "var" => {
                self.next();
                let name = self.name("a name")?;
                let ty = if self.eat_op(":") { Some(self.ty()?) } else { None };
                let list = matches!(&ty, Some(t) if matches!(t.kind, TypeKind::List { .. }));
                if list && !self.is_op("=") {
                    let value = Expr { kind: ExprKind::Empty, span: name.span };
                    let kind = StmtKind::Let { name, ty, value, mutable: word == "var" };
                    return Ok(Stmt { kind, span: span.to(self.last_span()) });
                }
                self.op("=")?;
                if self.is_word("draw") && word == "let" {
                    let (from, other) = self.draw(Some(&name))?;
                    StmtKind::Draw { name: Some(name), ty, target: None, from, other }
                } else {
                    StmtKind::Let { name, ty, value: self.expr()?, mutable: word == "var" }
                }
            }
            "swap" => {
                self.next();
                let a = self.expr()?;
                self.op(",")?;
                StmtKind::Swap(a, self.expr()?)
            }
            "if" => {
                self.next();
                let cond = self.expr()?;
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
                StmtKind::If { cond, then, other }
            }
            "for" => {
                self.next();
                let binder = self.binder()?;
                StmtKind::For { binder, body: self.block()? }
            }
            "repeat" => {
                self.next();
                self.word("at")?;
                self.word("most")?;
                let bound = self.expr()?;
                self.word("while")?;
                let cond = self.expr()?;
                let body = self.block()?;
                let mut cut = false;
                if self.is_word("else") {
                    self.next();
                    self.word("cut")?;
                    cut = true;
                }
                StmtKind::Repeat { bound, cond, body, cut }
            }
            "phase" => {
                self.next();
                let name = self.text("the phase's name in quotes")?;
                StmtKind::Phase { name, body: self.block()? }
            }
            "offer" => {
                self.next();
                StmtKind::Offer(self.expr()?)
            }
            "refuse" => {
                self.next();
                let why = self.text("the reason in quotes")?;
                let mut at = vec![];
                if self.eat_word("at") {
                    at.push(self.expr()?);
                    while self.eat_op(",") {
                        at.push(self.expr()?);
                    }
                }
                let unless = if self.eat_word("unless") { Some(self.expr()?) } else { None };
                StmtKind::Refuse { why, at, unless }
            }
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
            "write" => {
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
                StmtKind::Write { parts, fill, into, along: self.expr()? }
            }
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
                let cond = self.expr()?;
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

    /// Values with weights, in round brackets.
    fn weighted(&mut self) -> Parse<Vec<(Expr, Option<Expr>)>> {
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
    fn draw(&mut self, bound: Option<&Name>) -> Parse<(DrawFrom, Option<Block>)> {
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

    fn binder(&mut self) -> Parse<Binder> {
        let name = self.name("a name for what is run over")?;
        self.binder_over(name)
    }

    /// A binder after its name.
    fn binder_over(&mut self, name: Name) -> Parse<Binder> {
        let on = if self.eat_word("on") {
            true
        } else if self.eat_word("in") {
            false
        } else {
            return self.fail("`on GRID` or `in RANGE`");
        };
        let over = Box::new(self.additive()?);
        let upto = if self.eat_op("..") { Some(Box::new(self.additive()?)) } else { None };
        let filter = if self.eat_word("where") { Some(Box::new(self.expr()?)) } else { None };
        Ok(Binder { name, on, over, upto, filter })
    }

    /// One step deeper into the tree; whoever asks gives the steps back when done.
    fn deeper(&mut self) -> Parse<()> {
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
    fn back(&mut self, steps: u32) {
        self.depth = self.depth.saturating_sub(steps);
    }

    fn expr(&mut self) -> Parse<Expr> {
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

    fn bin(op: BinOp, a: Expr, b: Expr) -> Expr {
        let span = a.span.to(b.span);
        Expr { kind: ExprKind::Bin(op, Box::new(a), Box::new(b)), span }
    }

    fn or(&mut self) -> Parse<Expr> {
        let mut a = self.and()?;
        let mut steps = 0;
        while self.eat_word("or") {
            // Each operand makes the tree one deeper.
            self.deeper()?;
            steps += 1;
            a = Self::bin(BinOp::Or, a, self.and()?);
        }
        self.back(steps);
        Ok(a)
    }

    fn and(&mut self) -> Parse<Expr> {
        let mut a = self.not()?;
        let mut steps = 0;
        while self.eat_word("and") {
            self.deeper()?;
            steps += 1;
            a = Self::bin(BinOp::And, a, self.not()?);
        }
        self.back(steps);
        Ok(a)
    }

    fn not(&mut self) -> Parse<Expr> {
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

    fn comparison(&mut self) -> Parse<Expr> {
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

    fn additive(&mut self) -> Parse<Expr> {
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

    fn term(&mut self) -> Parse<Expr> {
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

    fn unary(&mut self) -> Parse<Expr> {
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

    fn postfix(&mut self) -> Parse<Expr> {
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

    fn primary(&mut self) -> Parse<Expr> {
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
                ExprKind::Leads(n == "every", name, args, cond)
            }
            Tok::Name(_) => ExprKind::Name(self.name("a value")?.text),
            _ => return self.fail("a value"),
        };
        Ok(Expr { kind, span: span.to(self.last_span()) })
    }

    /// A move in a question: `any`, `shift` or `shift(left)`.
    fn asked_move(&mut self) -> Parse<(Name, Vec<Expr>)> {
        let name = self.name("a move, or `any`")?;
        let mut args = vec![];
        if self.eat_op("(") {
            args = self.exprs()?;
            self.op(")")?;
        }
        Ok((name, args))
    }

    /// After `NAME(`.
    fn call(&mut self, name: Name) -> Parse<Expr> {
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
            return Ok(Expr { kind: ExprKind::Flood { name: bound, from, by, by_name, cond, rim }, span });
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
