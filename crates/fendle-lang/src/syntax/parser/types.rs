//! Types and parameters.

use super::*;

impl Parser<'_> {
    pub(super) fn params(&mut self) -> Parse<Vec<Param>> {
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

    pub(super) fn ty(&mut self) -> Parse<Type> {
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
                "first" => {
                    self.next();
                    let count = self.additive()?;
                    self.word("of")?;
                    TypeKind::First(count, self.name("an enum")?)
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
                    TypeKind::Unsupported
                }
                _ => TypeKind::Named(self.name("a type")?.text),
            },
            Tok::Int(_) | Tok::Op("-" | "(") => self.range()?,
            _ => return self.fail("a type such as `bool`, `0..9`, `cell` or `grid of 0..9`"),
        };
        Ok(Type { kind, span: span.to(self.last_span()) })
    }

    pub(super) fn range(&mut self) -> Parse<TypeKind> {
        let lo = self.additive()?;
        self.op("..")?;
        Ok(TypeKind::Range(lo, self.additive()?))
    }
}
