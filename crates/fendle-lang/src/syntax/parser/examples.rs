//! Examples.

use super::*;

impl Parser<'_> {
    pub(super) fn example(&mut self, span: Span) -> Parse<Item> {
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
    #[expect(clippy::too_many_lines, reason = "one arm for each kind of line")]
    pub(super) fn example_line(&mut self) -> Parse<Option<ExampleLine>> {
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
    pub(super) fn board_text(&mut self) -> Parse<BoardText> {
        let span = self.span();
        let (text, at) = match self.peek().clone() {
            Tok::Board(text, at) => (text, at),
            Tok::Text(text) => (text.replace('/', "\n"), span.start + 1),
            _ => return self.fail("a text board in '''"),
        };
        self.next();
        Ok(BoardText { text, at, span })
    }
}
