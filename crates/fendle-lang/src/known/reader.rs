//! What a look at a position is made of: items that are read one by one, and again only when what they read has changed.

use super::*;

/// One thing that a position says of what is hidden.
#[derive(Clone)]
pub(super) enum Item<'b> {
    /// One element of a `tell`; `place` is its place in the list of what that says.
    Tell { tell: usize, element: i64, place: usize },
    /// A condition that is known to hold: a law, or that the game goes on.
    Condition { condition: Condition<'b>, is_law: bool },
}

/// A condition, or its part for one element of what it runs over, that holds or does not.
#[derive(Clone)]
pub(super) struct Condition<'b> {
    expr: &'b Expr,
    /// The element that the condition's loop stands at.
    element: Option<i64>,
    locals: usize,
    truth: bool,
}

impl Condition<'_> {
    /// The condition with the hidden cells as unknowns, and whether it holds.
    pub(super) fn formula(&self, s: &mut Symbolic<'_>) -> Result<(Formula, bool), NotCounts> {
        let mut frame = vec![0; self.locals];
        let (Some(element), Ek::Quant(q)) = (self.element, &self.expr.kind) else {
            return Ok((s.formula(self.expr, &mut frame)?, self.truth));
        };
        frame[q.local] = element;
        let filter = match &q.filter {
            Some(f) => s.formula(f, &mut frame)?,
            None => Formula::Const(true),
        };
        if matches!(filter, Formula::Const(false)) {
            return Ok((Formula::Const(self.truth), self.truth));
        }
        let body = match &q.body {
            Some(body) => s.formula(body, &mut frame)?,
            None => Formula::Const(true),
        };
        // Known to hold: all; known not to: any.
        Ok(match self.truth {
            true => (Formula::any([filter.not(), body]), true),
            false => (Formula::all([filter, body]), false),
        })
    }
}

/// Splits a condition that holds, or does not, into parts that all do.
fn split<'b>(s: &mut Symbolic<'b>, expr: &'b Expr, locals: usize, truth: bool, out: &mut Vec<Condition<'b>>) {
    match &expr.kind {
        Ek::Not(a) => return split(s, a, locals, !truth, out),
        Ek::And(a, b) if truth => return [a, b].into_iter().for_each(|x| split(s, x, locals, truth, out)),
        Ek::Or(a, b) if !truth => return [a, b].into_iter().for_each(|x| split(s, x, locals, truth, out)),
        Ek::Quant(q)
            if (q.kind, truth) == (QuantKind::All, true) || (q.kind, truth) == (QuantKind::Any, false) =>
        {
            let is_hidden = q.over.exprs().into_iter().any(|x| s.depends_on_hidden(x));
            s.eval.note();
            let range = s.eval.range_in(&q.over, &vec![0; locals]);
            let noted = s.eval.noted();
            // What it runs over is the same in every state.
            if let (Ok(range), false, true) = (range, is_hidden || noted.everything, noted.places.is_empty())
            {
                out.extend(range.into_iter().map(|x| Condition { expr, element: Some(x), locals, truth }));
                return;
            }
        }
        _ => {}
    }
    out.push(Condition { expr, element: None, locals, truth });
}

/// Reads positions of one level: what they are made of, and what evaluates it.
pub(crate) struct Reader<'b> {
    pub(super) symbolic: Symbolic<'b>,
    pub(super) items: Vec<Item<'b>>,
    /// For each `tell` whether what it says stays true: it reads nothing but what is hidden.
    pub(super) lasting: Vec<bool>,
}

impl<'b> Reader<'b> {
    /// A reader for knowledge about a level.
    ///
    /// # Errors
    ///
    /// [`NotCounts`].
    pub(crate) fn new(b: &'b Bound, known: &Known) -> Result<Reader<'b>, NotCounts> {
        let model: &'b Model = &b.model;
        let mut s = Symbolic::new(b, Arc::clone(&known.by_place));
        let mut items = vec![];
        for (t, tell) in model.tells.iter().enumerate() {
            let elements = s.eval.tell_elements(tell).into_iter().enumerate();
            items.extend(elements.map(|(place, element)| Item::Tell { tell: t, element, place }));
        }
        let laws = model.always.iter().map(|l| (&l.cond, true));
        let ends = model.statuses.iter().map(|st| (&st.cond, false));
        for (body, is_law) in laws.chain(ends) {
            if s.depends_on_hidden(&body.expr) {
                let mut parts = vec![];
                split(&mut s, &body.expr, body.locals.len(), is_law, &mut parts);
                items.extend(parts.into_iter().map(|condition| Item::Condition { condition, is_law }));
            }
        }
        let lasting = model.tells.iter().map(|t| !reads_now(model, &t.value)).collect();
        Ok(Reader { symbolic: s, items, lasting })
    }

    pub(super) fn b(&self) -> &'b Bound {
        self.symbolic.b
    }
}
