//! What a board is to be like: a condition over its figures.

use std::collections::{BTreeMap, BTreeSet};

use super::figures::{Figures, NAMES};

/// A condition over figures.
#[derive(Clone, Debug, PartialEq)]
pub enum Wish {
    /// Both hold.
    And(Box<Wish>, Box<Wish>),
    /// One of them holds.
    Or(Box<Wish>, Box<Wish>),
    /// It does not hold.
    Not(Box<Wish>),
    /// A figure compared with a number; a figure alone is not to be 0.
    Compare(&'static str, Sign, f64),
}

/// How a figure is compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sign {
    /// `<`
    Less,
    /// `<=`
    AtMost,
    /// `>`
    More,
    /// `>=`
    AtLeast,
    /// `==`
    Is,
    /// `!=`
    IsNot,
}

impl Sign {
    fn holds(self, x: f64, y: f64) -> bool {
        match self {
            Sign::Less => x < y,
            Sign::AtMost => x <= y,
            Sign::More => x > y,
            Sign::AtLeast => x >= y,
            Sign::Is => (x - y).abs() < 1e-9 || x == y,
            Sign::IsNot => !x.is_nan() && (x - y).abs() >= 1e-9,
        }
    }
}

/// The figure of this name.
///
/// # Errors
///
/// Words that name those there are.
pub fn figure(name: &str) -> Result<&'static str, String> {
    NAMES.iter().find(|f| f.0 == name).map(|f| f.0).ok_or_else(|| {
        let known = NAMES.iter().map(|f| f.0);
        let hint = fendle_lang::source::near(name, known.clone())
            .map_or(format!("figures are: {}", known.collect::<Vec<_>>().join(", ")), |n| {
                format!("did you mean `{n}`?")
            });
        format!("`{name}` is no figure of a board; {hint}")
    })
}

struct Words<'t> {
    list: Vec<&'t str>,
    at: usize,
}

impl<'t> Words<'t> {
    fn of(text: &'t str) -> Words<'t> {
        let mut list = vec![];
        let mut rest = text.trim_start();
        while !rest.is_empty() {
            let sign = ["<=", ">=", "==", "!=", "<", ">", "(", ")"].into_iter().find(|s| rest.starts_with(s));
            let len = sign.map_or_else(
                || rest.find(|c: char| c.is_whitespace() || "<>=!()".contains(c)).unwrap_or(rest.len()),
                str::len,
            );
            let len = len.max(rest.chars().next().map_or(1, char::len_utf8));
            list.push(&rest[..len]);
            rest = rest[len..].trim_start();
        }
        Words { list, at: 0 }
    }

    fn peek(&self) -> Option<&'t str> {
        self.list.get(self.at).copied()
    }

    fn eat(&mut self, word: &str) -> bool {
        let is = self.peek() == Some(word);
        self.at += usize::from(is);
        is
    }

    fn either(&mut self) -> Result<Wish, String> {
        let mut left = self.both()?;
        while self.eat("or") {
            left = Wish::Or(Box::new(left), Box::new(self.both()?));
        }
        Ok(left)
    }

    fn both(&mut self) -> Result<Wish, String> {
        let mut left = self.one()?;
        while self.eat("and") {
            left = Wish::And(Box::new(left), Box::new(self.one()?));
        }
        Ok(left)
    }

    fn one(&mut self) -> Result<Wish, String> {
        if self.eat("not") {
            return Ok(Wish::Not(Box::new(self.one()?)));
        }
        if self.eat("(") {
            let inner = self.either()?;
            return if self.eat(")") { Ok(inner) } else { Err("a `)` is missing".into()) };
        }
        let Some(name) = self.peek() else { return Err("a figure is missing at the end".into()) };
        let name = figure(name)?;
        self.at += 1;
        let sign = match self.peek() {
            Some("<") => Sign::Less,
            Some("<=") => Sign::AtMost,
            Some(">") => Sign::More,
            Some(">=") => Sign::AtLeast,
            Some("==") => Sign::Is,
            Some("!=") => Sign::IsNot,
            _ => return Ok(Wish::Compare(name, Sign::IsNot, 0.0)),
        };
        self.at += 1;
        let Some(word) = self.peek() else { return Err(format!("a number is missing behind `{name}`")) };
        let number: f64 = match word {
            "true" => 1.0,
            "false" => 0.0,
            _ => word.parse().map_err(|_| format!("`{word}` is no number"))?,
        };
        self.at += 1;
        Ok(Wish::Compare(name, sign, number))
    }
}

impl Wish {
    /// Reads a condition such as `moves >= 12 and dead == 0`.
    ///
    /// # Errors
    ///
    /// What is wrong with it, in words.
    pub fn read(text: &str) -> Result<Wish, String> {
        let mut words = Words::of(text);
        let wish = words.either()?;
        match words.peek() {
            None => Ok(wish),
            Some(word) => Err(format!("`{word}` was not expected in the condition")),
        }
    }

    /// The figures that it is about.
    #[must_use]
    pub fn names(&self) -> BTreeSet<&'static str> {
        match self {
            Wish::And(a, b) | Wish::Or(a, b) => a.names().union(&b.names()).copied().collect(),
            Wish::Not(a) => a.names(),
            Wish::Compare(name, ..) => BTreeSet::from([*name]),
        }
    }

    /// Whether it holds, as far as the figures that are known say; `None` where they do not.
    #[must_use]
    pub fn holds(&self, figures: &Figures) -> Option<bool> {
        match self {
            Wish::And(a, b) => match (a.holds(figures), b.holds(figures)) {
                (Some(false), _) | (_, Some(false)) => Some(false),
                (Some(true), Some(true)) => Some(true),
                _ => None,
            },
            Wish::Or(a, b) => match (a.holds(figures), b.holds(figures)) {
                (Some(true), _) | (_, Some(true)) => Some(true),
                (Some(false), Some(false)) => Some(false),
                _ => None,
            },
            Wish::Not(a) => a.holds(figures).map(|h| !h),
            Wish::Compare(name, sign, number) => figures.get(name).map(|x| sign.holds(*x, *number)),
        }
    }

    /// How far the figures are from the wish: 0 where it holds; a comparison that fails counts by how far its figure is off, in parts of the number
    /// that is wanted, and 1 to 2 where the figure is not known or there is none.
    #[must_use]
    pub fn shortfall(&self, figures: &Figures) -> f64 {
        match self {
            Wish::And(a, b) => a.shortfall(figures) + b.shortfall(figures),
            Wish::Or(a, b) => a.shortfall(figures).min(b.shortfall(figures)),
            Wish::Not(a) => f64::from(u8::from(a.holds(figures) == Some(true))),
            Wish::Compare(name, sign, number) => match figures.get(name) {
                None => 1.0,
                Some(x) if sign.holds(*x, *number) => 0.0,
                Some(x) if x.is_nan() => 2.0,
                Some(x) => ((x - number).abs() / (1.0 + number.abs())).clamp(0.01, 2.0),
            },
        }
    }

    /// The first comparison that fails, in words; for counting why boards fell away.
    #[must_use]
    pub fn failing(&self, figures: &Figures) -> Option<String> {
        match self {
            Wish::And(a, b) => a.failing(figures).or_else(|| b.failing(figures)),
            _ if self.holds(figures) == Some(false) => Some(format!("not {}", self.words())),
            _ => None,
        }
    }

    /// The condition as it is written.
    #[must_use]
    pub fn words(&self) -> String {
        match self {
            Wish::And(a, b) => format!("{} and {}", a.words(), b.words()),
            Wish::Or(a, b) => format!("({} or {})", a.words(), b.words()),
            Wish::Not(a) => format!("not ({})", a.words()),
            Wish::Compare(name, Sign::IsNot, n) if *n == 0.0 => (*name).into(),
            Wish::Compare(name, sign, n) => {
                let sign = match sign {
                    Sign::Less => "<",
                    Sign::AtMost => "<=",
                    Sign::More => ">",
                    Sign::AtLeast => ">=",
                    Sign::Is => "==",
                    Sign::IsNot => "!=",
                };
                format!("{name} {sign} {n}")
            }
        }
    }
}

/// Figures as they are told: whole numbers plain, shares with three digits.
#[must_use]
pub fn figure_text(value: f64) -> String {
    match value {
        v if v.is_infinite() => "none".into(),
        v if v.is_nan() => "-".into(),
        v if v.fract() == 0.0 && v.abs() < 1e15 => format!("{v:.0}"),
        v => format!("{v:.3}"),
    }
}

/// Figures for programs: numbers, and `null` for what there is not.
#[must_use]
pub fn figures_json(figures: &Figures) -> BTreeMap<&'static str, Option<f64>> {
    figures.iter().map(|(name, v)| (*name, v.is_finite().then_some(*v))).collect()
}
