//! Source text to tokens. Newlines are tokens where they end a statement.
//!
//! A newline is dropped inside round or square brackets, after an operator or a comma, and
//! before a line that begins with a joining word such as `because`.
//! A brace ends all open brackets, and so does a line that begins with an item word in its
//! first column: one missing bracket must not swallow the rest of the file.

use crate::source::{Diagnostic, FileId, Span};

/// Words that begin an item at the top level of a model.
pub const ITEM_WORDS: &[&str] = &[
    "model", "const", "enum", "record", "shapes", "level", "state", "derived", "tally", "show", "picture",
    "fn", "proc", "move", "waiting", "hidden", "tell", "spread", "alike", "after", "tick", "setup", "goal",
    "lost", "over", "status", "aim", "always", "keeps", "bound", "promise", "cost", "law", "example",
];

/// Kinds of tokens.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Tok {
    /// A name or a word.
    Name(String),
    /// A whole number.
    Int(i64),
    /// `"..."`, unescaped.
    Text(String),
    /// `'''...'''`: the lines between, verbatim; the number is where they begin in the file.
    Board(String, u32),
    /// An operator or bracket.
    Op(&'static str),
    /// End of a line that ends a statement, or a semicolon.
    Newline,
    /// End of the file.
    End,
}

/// A token and its place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Token {
    /// What it is.
    pub tok: Tok,
    /// Where it is.
    pub span: Span,
}

const OPS: &[&str] = &[
    "**", "..", "==", "!=", "<=", ">=", "+=", "-=", "*=", "=", "<", ">", "+", "-", "*", "/", "(", ")", "[",
    "]", "{", "}", ",", ":", ".",
];
const CONTINUES: &[&str] = &[
    "**", "..", "==", "!=", "<=", ">=", "+=", "-=", "*=", "=", "<", ">", "+", "-", "*", "/", ",", ":", "(",
    "[",
];
/// Words that cannot begin a statement: a line that begins with one goes on from the line before.
const JOINING_WORDS: &[&str] =
    &["because", "with", "each", "unless", "when", "where", "and", "or", "then", "else", "mod", "in", "on"];
/// Signs that cannot begin a statement; after a text `-` begins a number in a list of glyphs.
const JOINING_OPS: &[&str] = &["+", "-", "*", "/", "==", "!=", "<", ">", ".."];
/// Signs of other languages, and the words for them here.
const FOREIGN: &[(&str, &str)] =
    &[("&&", "and"), ("||", "or"), ("&", "and"), ("|", "or"), ("!", "not"), ("%", "mod")];
const CONTINUING_WORDS: &[&str] =
    &["and", "or", "not", "mod", "unless", "where", "while", "in", "then", "else"];

/// Splits a text into tokens, and reports every character that belongs to none.
pub fn lex(file: FileId, text: &str, errors: &mut Vec<Diagnostic>) -> Vec<Token> {
    let mut lexer = Lexer { file, text, at: 0, depth: 0, out: vec![], errors };
    while lexer.at < text.len() {
        lexer.token();
    }
    let end = Span::new(text.len(), text.len());
    lexer.out.push(Token { tok: Tok::Newline, span: end });
    lexer.out.push(Token { tok: Tok::End, span: end });
    lexer.out
}

/// A text that is being read.
struct Lexer<'t> {
    file: FileId,
    text: &'t str,
    /// How far it is read, in bytes.
    at: usize,
    /// How many round and square brackets are open.
    depth: usize,
    out: Vec<Token>,
    errors: &'t mut Vec<Diagnostic>,
}

impl Lexer<'_> {
    /// The rest of the text.
    fn rest(&self) -> &str {
        &self.text[self.at..]
    }

    fn push(&mut self, tok: Tok, start: usize) {
        self.out.push(Token { tok, span: Span::new(start, self.at) });
    }

    fn error(&mut self, code: &'static str, span: Span, message: impl Into<String>, note: &str) {
        self.errors.push(Diagnostic::error(code, self.file, span, message).note(note));
    }

    /// Reads one token, a blank or a comment.
    fn token(&mut self) {
        let start = self.at;
        let b = self.text.as_bytes()[start];
        if b == b'\n' {
            self.line_end();
        } else if b.is_ascii_whitespace() {
            self.at += 1;
        } else if self.rest().starts_with("//") {
            self.at = self.rest().find('\n').map_or(self.text.len(), |n| start + n);
        } else if b == b';' {
            self.at += 1;
            self.push(Tok::Newline, start);
        } else if b.is_ascii_digit() {
            self.number();
        } else if b.is_ascii_alphabetic() || b == b'_' {
            self.word();
            self.push(Tok::Name(self.text[start..self.at].to_string()), start);
        } else if self.rest().starts_with("'''") {
            self.board();
        } else if b == b'"' {
            self.quoted();
        } else if let Some(&op) = OPS.iter().find(|op| self.rest().starts_with(**op)) {
            self.at += op.len();
            match op {
                "(" | "[" => self.depth += 1,
                ")" | "]" => self.depth = self.depth.saturating_sub(1),
                "{" | "}" => self.depth = 0,
                _ => {}
            }
            self.push(Tok::Op(op), start);
        } else if let Some((sign, word)) = FOREIGN.iter().find(|(sign, _)| self.rest().starts_with(sign)) {
            self.at += sign.len();
            let message = format!("`{sign}` is written `{word}` here");
            let span = Span::new(start, self.at);
            self.errors.push(Diagnostic::error("S005", self.file, span, message));
            self.push(Tok::Name((*word).to_string()), start);
        } else {
            self.strange();
        }
    }

    /// Goes on past letters, digits and underscores.
    fn word(&mut self) {
        let bytes = self.text.as_bytes();
        while self.at < bytes.len() && (bytes[self.at].is_ascii_alphanumeric() || bytes[self.at] == b'_') {
            self.at += 1;
        }
    }

    /// The end of a line, which ends a statement unless the next line goes on with it.
    fn line_end(&mut self) {
        let start = self.at;
        self.at += 1;
        let next = self.rest();
        let word: String = next.chars().take_while(|c| c.is_ascii_alphabetic()).collect();
        let last = self.out.last().map(|t| &t.tok);
        let continues = match last {
            Some(Tok::Op(op)) => CONTINUES.contains(op),
            Some(Tok::Name(w)) => CONTINUING_WORDS.contains(&w.as_str()),
            Some(Tok::Newline) | None => true,
            _ => false,
        };
        let mut trimmed = next.trim_start();
        while trimmed.starts_with("//") {
            trimmed = trimmed.find('\n').map_or("", |n| trimmed[n..].trim_start());
        }
        let first: String = trimmed.chars().take_while(|c| c.is_ascii_alphanumeric() || *c == '_').collect();
        let after_text = matches!(last, Some(Tok::Text(_) | Tok::Board(..)));
        let joins =
            JOINING_OPS.iter().any(|op| trimmed.starts_with(op)) && !(after_text && trimmed.starts_with('-'));
        let continues = continues || joins || JOINING_WORDS.contains(&first.as_str());
        let fresh = matches!(last, Some(Tok::Newline) | None);
        let item = ITEM_WORDS.contains(&word.as_str());
        if item {
            self.depth = 0;
        }
        if self.depth == 0 && !fresh && (!continues || item) {
            self.push(Tok::Newline, start);
        }
    }

    fn number(&mut self) {
        let start = self.at;
        self.word();
        let digits: String = self.text[start..self.at].chars().filter(|&c| c != '_').collect();
        match digits.parse::<i64>() {
            Ok(n) if n <= 1 << 40 => self.push(Tok::Int(n), start),
            _ => {
                let what = if digits.chars().all(|c| c.is_ascii_digit()) {
                    "this number is too large; the greatest is 2 ** 40"
                } else {
                    "this is neither a number nor a name"
                };
                let span = Span::new(start, self.at);
                self.error("S001", span, what, "a name begins with a letter, a number has digits only");
                self.push(Tok::Int(0), start);
            }
        }
    }

    /// A board between three single quotes.
    fn board(&mut self) {
        let start = self.at;
        let mut from = start + 3;
        // The rest of the opening line is no part of the board.
        match self.text[from..].find('\n') {
            Some(n) if self.text[from..from + n].trim().is_empty() => from += n + 1,
            _ => {}
        }
        let Some(len) = self.text[from..].find("'''") else {
            let span = Span::new(start, start + 3);
            self.error("S002", span, "this text board never ends", "close it with ''' on a line of its own");
            self.at = self.text.len();
            return;
        };
        self.at = from + len + 3;
        self.push(Tok::Board(self.text[from..from + len].to_string(), from as u32), start);
    }

    /// A text in double quotes.
    fn quoted(&mut self) {
        let start = self.at;
        self.at += 1;
        let from = self.at;
        let mut value = String::new();
        let mut closed = false;
        let mut chars = self.text[from..].char_indices();
        while let Some((i, c)) = chars.next() {
            match c {
                '"' => {
                    self.at += i + 1;
                    closed = true;
                    break;
                }
                '\n' => break,
                '\\' => match chars.next() {
                    Some((_, 'n')) => value.push('\n'),
                    Some((_, c @ ('"' | '\\'))) => value.push(c),
                    Some((k, c)) => {
                        let slash = from + k - 1;
                        let span = Span::new(slash, slash + 1 + c.len_utf8());
                        let note = "write \\\" for a quote, \\\\ for a backslash, \\n for a line end";
                        self.error("S003", span, "unknown escape in a text", note);
                    }
                    None => break,
                },
                c => value.push(c),
            }
        }
        if !closed {
            self.at = self.text[start..].find('\n').map_or(self.text.len(), |n| start + n);
            let span = Span::new(start, self.at);
            self.error("S004", span, "this text never ends", "close it with a quote on the same line");
        }
        self.push(Tok::Text(value), start);
    }

    /// A run of strange characters is one error.
    fn strange(&mut self) {
        let start = self.at;
        while let Some(c) = self.rest().chars().next() {
            if c.is_ascii_whitespace() || c.is_ascii_alphanumeric() || "\"'(){}[],.:;_".contains(c) {
                break;
            }
            self.at += c.len_utf8();
        }
        self.at = self.at.max(start + self.text[start..].chars().next().map_or(1, char::len_utf8));
        let message = format!("`{}` means nothing here", self.text[start..self.at].escape_debug());
        let note = "comments begin with //, texts stand in double quotes, boards in '''";
        self.error("S005", Span::new(start, self.at), message, note);
    }
}
