//! Tokens to a syntax tree, with recovery: all errors of a file in one run.
//!
//! After an error inside a block the parser goes on with the next line; after one outside,
//! with the next line that begins with an item word. See docs/language.md for the grammar.

mod examples;
mod expressions;
mod items;
mod statements;
mod types;

use crate::source::{Diagnostic, FileId, Span, near};
use crate::syntax::lexer::{ITEM_WORDS, Tok, Token, lex};
use crate::syntax::tree::*;

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
}
