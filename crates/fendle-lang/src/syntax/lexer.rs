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
    let bytes = text.as_bytes();
    let mut out: Vec<Token> = vec![];
    let mut at = 0;
    let mut depth = 0usize;
    while at < bytes.len() {
        let b = bytes[at];
        let start = at;
        if b == b'\n' {
            at += 1;
            let next = &text[at..];
            let word: String = next.chars().take_while(|c| c.is_ascii_alphabetic()).collect();
            if ITEM_WORDS.contains(&word.as_str()) {
                depth = 0;
            }
            let continues = match out.last().map(|t| &t.tok) {
                Some(Tok::Op(op)) => CONTINUES.contains(op),
                Some(Tok::Name(w)) => CONTINUING_WORDS.contains(&w.as_str()),
                Some(Tok::Newline) | None => true,
                _ => false,
            };
            let mut trimmed = next.trim_start();
            while trimmed.starts_with("//") {
                trimmed = trimmed.find('\n').map_or("", |n| trimmed[n..].trim_start());
            }
            let first: String =
                trimmed.chars().take_while(|c| c.is_ascii_alphanumeric() || *c == '_').collect();
            let after_text = matches!(out.last().map(|t| &t.tok), Some(Tok::Text(_) | Tok::Board(..)));
            let joins = JOINING_OPS.iter().any(|op| trimmed.starts_with(op))
                && !(after_text && trimmed.starts_with('-'));
            let continues = continues || joins || JOINING_WORDS.contains(&first.as_str());
            let item = ITEM_WORDS.contains(&word.as_str());
            let fresh = matches!(out.last().map(|t| &t.tok), Some(Tok::Newline) | None);
            if depth == 0 && !fresh && (!continues || item) {
                out.push(Token { tok: Tok::Newline, span: Span::new(start, at) });
            }
        } else if b.is_ascii_whitespace() {
            at += 1;
        } else if text[at..].starts_with("//") {
            at = text[at..].find('\n').map_or(bytes.len(), |n| at + n);
        } else if b == b';' {
            at += 1;
            out.push(Token { tok: Tok::Newline, span: Span::new(start, at) });
        } else if b.is_ascii_digit() {
            while at < bytes.len() && (bytes[at].is_ascii_alphanumeric() || bytes[at] == b'_') {
                at += 1;
            }
            let digits: String = text[start..at].chars().filter(|&c| c != '_').collect();
            let span = Span::new(start, at);
            match digits.parse::<i64>() {
                Ok(n) if n <= 1 << 40 => out.push(Token { tok: Tok::Int(n), span }),
                _ => {
                    let what = if digits.chars().all(|c| c.is_ascii_digit()) {
                        "this number is too large; the greatest is 2 ** 40"
                    } else {
                        "this is neither a number nor a name"
                    };
                    errors.push(
                        Diagnostic::error("S001", file, span, what)
                            .note("a name begins with a letter, a number has digits only"),
                    );
                    out.push(Token { tok: Tok::Int(0), span });
                }
            }
        } else if b.is_ascii_alphabetic() || b == b'_' {
            while at < bytes.len() && (bytes[at].is_ascii_alphanumeric() || bytes[at] == b'_') {
                at += 1;
            }
            out.push(Token { tok: Tok::Name(text[start..at].to_string()), span: Span::new(start, at) });
        } else if text[at..].starts_with("'''") {
            let mut from = at + 3;
            // The rest of the opening line is no part of the board.
            match text[from..].find('\n') {
                Some(n) if text[from..from + n].trim().is_empty() => from += n + 1,
                _ => {}
            }
            let Some(len) = text[from..].find("'''") else {
                let span = Span::new(at, at + 3);
                errors.push(
                    Diagnostic::error("S002", file, span, "this text board never ends")
                        .note("close it with ''' on a line of its own"),
                );
                break;
            };
            at = from + len + 3;
            let board = text[from..from + len].to_string();
            out.push(Token { tok: Tok::Board(board, from as u32), span: Span::new(start, at) });
        } else if b == b'"' {
            at += 1;
            let mut value = String::new();
            let mut closed = false;
            let mut chars = text[at..].char_indices();
            while let Some((i, c)) = chars.next() {
                match c {
                    '"' => {
                        at += i + 1;
                        closed = true;
                        break;
                    }
                    '\n' => break,
                    '\\' => match chars.next() {
                        Some((_, 'n')) => value.push('\n'),
                        Some((_, c @ ('"' | '\\'))) => value.push(c),
                        Some((k, c)) => {
                            let from = at + k - 1;
                            errors.push(
                                Diagnostic::error(
                                    "S003",
                                    file,
                                    Span::new(from, from + 1 + c.len_utf8()),
                                    "unknown escape in a text",
                                )
                                .note("write \\\" for a quote, \\\\ for a backslash, \\n for a line end"),
                            );
                        }
                        None => break,
                    },
                    c => value.push(c),
                }
            }
            if !closed {
                at = text[start..].find('\n').map_or(bytes.len(), |n| start + n);
                errors.push(
                    Diagnostic::error("S004", file, Span::new(start, at), "this text never ends")
                        .note("close it with a quote on the same line"),
                );
            }
            out.push(Token { tok: Tok::Text(value), span: Span::new(start, at) });
        } else if let Some(&op) = OPS.iter().find(|op| text[at..].starts_with(**op)) {
            at += op.len();
            match op {
                "(" | "[" => depth += 1,
                ")" | "]" => depth = depth.saturating_sub(1),
                "{" | "}" => depth = 0,
                _ => {}
            }
            out.push(Token { tok: Tok::Op(op), span: Span::new(start, at) });
        } else if let Some((sign, word)) = FOREIGN.iter().find(|(sign, _)| text[at..].starts_with(sign)) {
            at += sign.len();
            let span = Span::new(start, at);
            let message = format!("`{sign}` is written `{word}` here");
            errors.push(Diagnostic::error("S005", file, span, message));
            out.push(Token { tok: Tok::Name((*word).to_string()), span });
        } else {
            // A run of strange characters is one error.
            while at < bytes.len() {
                let c = text[at..].chars().next().expect("inside the text");
                if c.is_ascii_whitespace() || c.is_ascii_alphanumeric() || "\"'(){}[],.:;_".contains(c) {
                    break;
                }
                at += c.len_utf8();
            }
            at = at.max(start + text[start..].chars().next().map_or(1, char::len_utf8));
            errors.push(
                Diagnostic::error(
                    "S005",
                    file,
                    Span::new(start, at),
                    format!("`{}` means nothing here", text[start..at].escape_debug()),
                )
                .note("comments begin with //, texts stand in double quotes, boards in '''"),
            );
        }
    }
    let end = Span::new(bytes.len(), bytes.len());
    out.push(Token { tok: Tok::Newline, span: end });
    out.push(Token { tok: Tok::End, span: end });
    out
}
