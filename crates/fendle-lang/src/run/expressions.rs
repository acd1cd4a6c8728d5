//! Expressions.

use super::*;

/// Arithmetic with the meaning that both executors share by definition: division and `mod`
/// round down, so that `x mod 2` is 0 or 1.
pub(super) fn arith(op: Arith, a: i64, b: i64, span: Span) -> Run<i64> {
    let exact = match op {
        Arith::Add => a.checked_add(b),
        Arith::Sub => a.checked_sub(b),
        Arith::Mul => a.checked_mul(b),
        Arith::Div | Arith::Mod => {
            let v = if op == Arith::Div { a.checked_div_euclid(b) } else { a.checked_rem_euclid(b) };
            return v.ok_or(RunFault { kind: FaultKind::DivideByZero, span, value: a });
        }
        Arith::Pow => u32::try_from(b).ok().and_then(|b| a.checked_pow(b)),
        Arith::Min => Some(a.min(b)),
        Arith::Max => Some(a.max(b)),
    };
    exact.ok_or(RunFault { kind: FaultKind::Overflow, span, value: 0 })
}

impl<'b> Eval<'b> {
    // ---- expressions ----

    pub(super) fn one(&mut self, e: &Expr, frame: &mut [V]) -> Run<i64> {
        Ok(self.eval(e, frame)?.one())
    }

    pub(super) fn place_of(&self, cell: i64) -> i64 {
        let cols = self.b.cols as i64;
        code::place(cell / cols, cell % cols)
    }

    pub(super) fn cell_of(&self, place: i64) -> Option<i64> {
        let (r, c) = code::row_col(place);
        (r >= 0 && c >= 0 && r < self.b.rows as i64 && c < self.b.cols as i64)
            .then(|| r * self.b.cols as i64 + c)
    }

    pub(super) fn range(&mut self, range: &Range, frame: &mut [V]) -> Run<Vec<i64>> {
        Ok(match range {
            Range::Board => (0..self.b.cells() as i64).collect(),
            Range::Cells(set) => {
                let set = self.eval(set, frame)?.block();
                (0..set.len() as i64).filter(|&c| set[c as usize] != 0).collect()
            }
            Range::Around(cell, offsets) => {
                let place = self.one(cell, frame)?;
                let mut out = vec![];
                for o in offsets {
                    let p = place + self.one(o, frame)?;
                    out.extend(self.cell_of(p));
                }
                out
            }
            Range::Dirs(n) => (0..i64::from(*n)).collect(),
            Range::Ints(lo, hi) => {
                let (a, b) = (self.one(lo, frame)?, self.one(hi, frame)?);
                if b.saturating_sub(a) >= LOOP_MAX {
                    let value = b.saturating_sub(a).saturating_add(1);
                    return Err(RunFault { kind: FaultKind::LoopTooLong, span: lo.span.to(hi.span), value });
                }
                (a..=b).collect()
            }
            Range::Enum(e) => (0..self.b.model.enums[*e].values.len() as i64).collect(),
            Range::Lanes(dir) => {
                let d = self.one(dir, frame)?;
                if d > 3 {
                    return Err(RunFault { kind: FaultKind::OutOfDomain, span: dir.span, value: d });
                }
                self.side_lanes(d)
            }
            Range::Lane(lane) => {
                let lane = self.one(lane, frame)?;
                self.lane_cells(lane)
            }
            Range::List(list) => self.eval(list, frame)?.list(),
            Range::Offsets(offsets) => {
                let mut out = vec![];
                for o in offsets {
                    out.push(self.one(o, frame)?);
                }
                out
            }
            Range::Covered(p) => {
                let Ty::Placed(s) = p.ty else { return Ok(vec![]) };
                let p = self.one(p, frame)?;
                self.b.covered(s, p).into_iter().map(|(r, c)| code::place(r, c)).collect()
            }
        })
    }

    pub(super) fn fault<T>(kind: FaultKind, span: Span, value: i64) -> Run<T> {
        Err(RunFault { kind, span, value })
    }

    #[expect(clippy::too_many_lines, reason = "one arm for each kind of expression")]
    pub(super) fn eval(&mut self, e: &Expr, frame: &mut [V]) -> Run<V> {
        self.evaluated += 1;
        let span = e.span;
        Ok(V::One(match &e.kind {
            Ek::Const(v) => *v,
            Ek::Local(l) => return Ok(frame[*l].clone()),
            Ek::Var(when, v) => return self.variable(*when, *v),
            Ek::Index(block, index) if matches!(block.ty, Ty::Lists(..)) => {
                let i = self.one(index, frame)? as usize;
                let Ek::Var(_, v) = &block.kind else { unreachable!("lists by key are variables") };
                let cap = self.b.slots[*v].cap;
                let all = self.eval(block, frame)?.block();
                let part = &all[i * (cap + 1)..];
                let items = part[1..=part[0] as usize].iter().map(|&x| x.into()).collect();
                return Ok(V::List(items, cap as i64));
            }
            Ek::Index(block, index) => {
                let i = self.one(index, frame)?;
                match &block.kind {
                    Ek::Var(when, v) => self.element(*when, *v, i as usize),
                    _ => self.eval(block, frame)?.block()[i as usize].into(),
                }
            }
            Ek::IndexOutside(block, place, outside) => {
                let p = self.one(place, frame)?;
                match self.cell_of(p) {
                    Some(c) => match &block.kind {
                        Ek::Var(when, v) => self.element(*when, *v, c as usize),
                        _ => self.eval(block, frame)?.block()[c as usize].into(),
                    },
                    None => self.one(outside, frame)?,
                }
            }
            Ek::Not(a) => i64::from(self.one(a, frame)? == 0),
            Ek::Neg(a) => match self.one(a, frame)?.checked_neg() {
                Some(v) => v,
                None => return Self::fault(FaultKind::Overflow, span, 0),
            },
            Ek::Arith(op, a, b) => {
                let (a, b) = (self.one(a, frame)?, self.one(b, frame)?);
                arith(*op, a, b, span)?
            }
            Ek::Cmp(op, a, b) if self.open.is_some() && (as_count(a).is_some() != as_count(b).is_some()) => {
                i64::from(self.asks_count(*op, a, b, span, frame)?)
            }
            Ek::Cmp(op @ (Cmp::Eq | Cmp::Ne), a, b) if self.open.is_some() => {
                let same = self.asks_same(a, b, frame)?;
                i64::from(same == (*op == Cmp::Eq))
            }
            Ek::Cmp(op, a, b) => {
                let (a, b) = (self.one(a, frame)?, self.one(b, frame)?);
                i64::from(op.holds(a, b))
            }
            Ek::SameBlock(a, b, sameness) if self.open.is_some() => {
                let same = self.asks_same_block(a, b, frame)?;
                i64::from(sameness.fits(same))
            }
            Ek::SameBlock(a, b, sameness) => {
                let same = match (self.eval(a, frame)?, self.eval(b, frame)?) {
                    (V::List(a, _), V::List(b, _)) => a == b,
                    (a, b) => a == b,
                };
                i64::from(sameness.fits(same))
            }
            Ek::And(a, b) => {
                if self.one(a, frame)? == 0 {
                    0
                } else {
                    self.one(b, frame)?
                }
            }
            Ek::Or(a, b) => {
                if self.one(a, frame)? != 0 {
                    1
                } else {
                    self.one(b, frame)?
                }
            }
            Ek::Cond(c, a, b) => {
                if self.one(c, frame)? != 0 {
                    self.one(a, frame)?
                } else {
                    self.one(b, frame)?
                }
            }
            Ek::Shift(..)
            | Ek::OffAdd(..)
            | Ek::OffMul(..)
            | Ek::DirOffset(..)
            | Ek::ToPlace(..)
            | Ek::ToCell(..)
            | Ek::OnBoard(..)
            | Ek::MoveShape(..) => self.on_places(e, frame)?,
            Ek::Within(a, dom) if matches!(a.ty, Ty::List(..)) => {
                let list = self.eval(a, frame)?;
                for v in list.clone().list() {
                    self.in_domain(dom, v, span)?;
                }
                return Ok(list);
            }
            Ek::Within(a, dom) => {
                let v = self.one(a, frame)?;
                self.in_domain(dom, v, span)?;
                v
            }
            Ek::Union(a, b) | Ek::Minus(a, b) | Ek::Both(a, b) => {
                let (a, b) = (self.eval(a, frame)?.block(), self.eval(b, frame)?.block());
                let join = |x: i32, y: i32| match &e.kind {
                    Ek::Union(..) => x | y,
                    Ek::Minus(..) => x & (1 - y),
                    _ => x & y,
                };
                return Ok(V::Block(a.into_iter().zip(b).map(|(x, y)| join(x, y)).collect()));
            }
            Ek::Call(f, args) => {
                let of_state = args.is_empty();
                if of_state && let Some(value) = self.kept.as_ref().and_then(|kept| kept[f.0].clone()) {
                    return Ok(value);
                }
                let model = self.b.model.clone();
                let def = &model.fns[*f];
                let mut inner = vec![V::One(0); def.locals.len()];
                for (slot, a) in inner.iter_mut().zip(args) {
                    *slot = self.eval(a, frame)?;
                }
                let value = self.eval(&def.body, &mut inner)?;
                if of_state && let Some(kept) = &mut self.kept {
                    kept[f.0] = Some(value.clone());
                }
                return Ok(value);
            }
            Ek::Entry(..)
            | Ek::End(..)
            | Ek::InList(..)
            | Ek::MakeRecord(..)
            | Ek::Part(..)
            | Ek::Given(..) => self.on_parts(e, frame)?,
            Ek::Can(of) => i64::from(!self.tried(of.as_ref(), frame)?.is_empty()),
            Ek::Leads(wanted, of, cond) => self.leads(*wanted, of.as_ref(), cond, frame)?,
            Ek::Asked(asked) => match self.oracle {
                Some(oracle) => oracle(&self.now, *asked),
                None => {
                    self.lose_sight();
                    0
                }
            },
            Ek::Builtin(op, args) => self.builtin(*op, args, span, frame)?,
            Ek::Quant(q) => return self.quant(q, span, frame),
            Ek::Flood(f) => return self.flood(f, span, frame),
        }))
    }

    /// Entries of lists, parts of records, what may be none.
    fn on_parts(&mut self, e: &Expr, frame: &mut [V]) -> Run<i64> {
        let span = e.span;
        Ok(match &e.kind {
            Ek::Entry(list, index) => {
                let i = self.one(index, frame)?;
                let items = self.eval(list, frame)?.list();
                if i < 1 || i > items.len() as i64 {
                    return Self::fault(FaultKind::NoEntry, span, i);
                }
                items[i as usize - 1]
            }
            Ek::End(list, end) => {
                let items = self.eval(list, frame)?.list();
                let entry = if *end == ListEnd::Last { items.last() } else { items.first() };
                match entry {
                    Some(v) => *v,
                    None => return Self::fault(FaultKind::ListEmpty, span, 0),
                }
            }
            Ek::InList(value, list) => {
                let v = self.one(value, frame)?;
                i64::from(self.eval(list, frame)?.list().contains(&v))
            }
            Ek::MakeRecord(r, parts) => {
                let slots = self.b.records[*r].clone();
                let mut code = 0;
                for (part, slot) in parts.iter().zip(slots) {
                    code += (self.one(part, frame)? - slot.lo) * slot.stride;
                }
                code
            }
            Ek::Part(record, r, i) => {
                let slot = self.b.records[*r][*i];
                slot.lo + self.one(record, frame)? / slot.stride % slot.count
            }
            Ek::Given(a) => {
                let v = self.one(a, frame)?;
                if v == NONE {
                    return Self::fault(FaultKind::NoneGiven, span, 0);
                }
                v
            }
            _ => unreachable!("what is said of entries and parts"),
        })
    }

    /// Places, offsets, cells and placed shapes.
    fn on_places(&mut self, e: &Expr, frame: &mut [V]) -> Run<i64> {
        let span = e.span;
        Ok(match &e.kind {
            Ek::Shift(p, o, sense) => {
                let (p, o) = (self.one(p, frame)?, self.one(o, frame)?);
                let moved = p + sense.signed(o);
                if !code::is_place(moved) {
                    return Self::fault(FaultKind::TooFarAway, span, 0);
                }
                moved
            }
            Ek::OffAdd(a, b, sense) => {
                let (a, b) = (self.one(a, frame)?, self.one(b, frame)?);
                let sum = a + sense.signed(b);
                if !code::is_offset(sum) {
                    return Self::fault(FaultKind::TooFarAway, span, 0);
                }
                sum
            }
            Ek::OffMul(o, n) => {
                let (o, n) = (self.one(o, frame)?, self.one(n, frame)?);
                let (r, c) = code::offset_parts(o);
                if n.unsigned_abs() >= code::BIAS as u64
                    || (r * n).abs() >= code::BIAS / 2
                    || (c * n).abs() >= code::BIAS / 2
                {
                    return Self::fault(FaultKind::TooFarAway, span, 0);
                }
                o * n
            }
            Ek::DirOffset(d) => {
                let (r, c) = DIR_STEPS[self.one(d, frame)? as usize];
                r * code::ROW + c
            }
            Ek::ToPlace(c) => {
                let c = self.one(c, frame)?;
                self.place_of(c)
            }
            Ek::ToCell(p) => {
                let p = self.one(p, frame)?;
                match self.cell_of(p) {
                    Some(c) => c,
                    None => return Self::fault(FaultKind::OffBoard, span, 0),
                }
            }
            Ek::OnBoard(p) => {
                let p = self.one(p, frame)?;
                i64::from(self.cell_of(p).is_some())
            }
            Ek::MoveShape(p, o, sense) => {
                let Ty::Placed(s) = p.ty else { return Self::fault(FaultKind::TooFarAway, span, 0) };
                let (p, o) = (self.one(p, frame)?, self.one(o, frame)?);
                let (r, c) = code::offset_parts(o);
                let (all, row, col) = self.b.shape_parts(s, p);
                match self.b.shape_code(s, all, row + sense.signed(r), col + sense.signed(c)) {
                    Some(v) => v,
                    None => return Self::fault(FaultKind::TooFarAway, span, 0),
                }
            }
            _ => unreachable!("what is said of places"),
        })
    }

    /// The cells that are reached from one, step by step.
    fn flood(&mut self, f: &Flood, span: Span, frame: &mut [V]) -> Run<V> {
        let from = self.one(&f.from, frame)?;
        let cells = self.b.cells();
        let mut inside = vec![0; cells];
        let mut tested = vec![false; cells];
        let mut queue = vec![from];
        tested[from as usize] = true;
        while let Some(c) = queue.pop() {
            self.burn(span)?;
            frame[f.local] = V::One(c);
            if f.next.is_none() && self.one(&f.cond, frame)? == 0 {
                continue;
            }
            inside[c as usize] = 1;
            for n in self.neighbours(c, &f.by, frame)? {
                if let Some(next) = f.next {
                    frame[next] = V::One(n);
                    if tested[n as usize] || self.one(&f.cond, frame)? == 0 {
                        continue;
                    }
                }
                if !std::mem::replace(&mut tested[n as usize], true) {
                    queue.push(n);
                }
            }
        }
        if f.rim {
            let core = inside.clone();
            for c in (0..cells as i64).filter(|&c| core[c as usize] != 0) {
                for n in self.neighbours(c, &f.by, frame)? {
                    inside[n as usize] = 1;
                }
            }
        }
        Ok(V::Block(inside))
    }

    /// Whether some or every state that moves lead to is one where a condition holds.
    fn leads(
        &mut self,
        wanted: HowMany,
        of: Option<&(usize, Vec<Expr>)>,
        cond: &Expr,
        frame: &mut [V],
    ) -> Run<i64> {
        debug_assert!(self.kept.is_none(), "what is kept holds for one state");
        let outcomes = self.tried(of, frame)?;
        let (now, before) = (self.now.clone(), self.before.clone());
        let every = wanted == HowMany::Every;
        let mut holds = every && !outcomes.is_empty();
        for state in outcomes {
            self.now = state;
            self.before = self.now.clone();
            if (self.one(cond, frame)? != 0) != every {
                holds = !every;
                break;
            }
        }
        (self.now, self.before) = (now, before);
        Ok(i64::from(holds))
    }

    /// A whole variable, as it is now, was before the move, or began.
    fn variable(&mut self, when: When, v: VarId) -> Run<V> {
        if let Some(unknown) = &mut self.unknown
            && self.b.model.vars[v].hidden
        {
            match self.b.model.vars[v].shape {
                Extent::One => return Ok(V::One(self.element(when, v, 0))),
                // Read as a whole: not followed cell by cell.
                _ => unknown.whole = true,
            }
        }
        if when != When::Start {
            self.was_read(v, None);
            if self.open.is_some() {
                self.pin_all(v);
            }
        }
        let def = &self.b.model.vars[v];
        let slot = &self.b.slots[v];
        let region = match (def.state, when) {
            (false, _) => &self.b.data,
            (true, When::Now) => &self.now,
            (true, When::Before) => &self.before,
            (true, When::Start) => &self.b.start,
        };
        let values = &region[slot.base..slot.base + slot.len];
        if let Extent::List(_) = def.shape {
            let items = values[1..=values[0] as usize].iter().map(|&x| x.into()).collect();
            return Ok(V::List(items, slot.cap as i64));
        }
        if def.shape != Extent::One {
            return Ok(V::Block(values.to_vec()));
        }
        Ok(V::One(values[0].into()))
    }

    /// One value of a variable.
    pub(super) fn element(&mut self, when: When, v: VarId, at: usize) -> i64 {
        let def = &self.b.model.vars[v];
        let at = self.b.slots[v].base + at;
        if def.hidden && self.unknown.is_some() {
            self.was_read(v, Some(at));
            return self.guessed(v, at);
        }
        if def.state && when != When::Start {
            self.was_read(v, Some(at));
            self.pin(at);
        }
        let region = match (def.state, when) {
            (false, _) => &self.b.data,
            (true, When::Now) => &self.now,
            (true, When::Before) => &self.before,
            (true, When::Start) => &self.b.start,
        };
        region[at].into()
    }

    /// The states that a move leads to from here; those of all moves without one. None where the
    /// game has ended.
    pub(super) fn tried(&mut self, of: Option<&(usize, Vec<Expr>)>, frame: &mut [V]) -> Run<Vec<Vec<i32>>> {
        let moves = match of {
            Some((m, args)) => {
                let mut params = vec![];
                for a in args {
                    params.push(self.one(a, frame)?);
                }
                vec![(*m, params)]
            }
            None => crate::run::move_list(self.b).unwrap_or_default(),
        };
        self.lose_sight();
        let mut inner = Eval::new(self.b);
        inner.now = self.now.clone();
        let mut out = vec![];
        // Laws are looked at elsewhere: a start that is still being drawn may break them.
        if self.now[self.b.ended_at()] != 0 || inner.conditions()?.is_some() {
            return Ok(out);
        }
        for (m, params) in moves {
            if let Outcome::Done(made) = inner.apply(&self.now, m, &params)? {
                out.extend(made.into_iter().map(|m| m.state));
            }
        }
        Ok(out)
    }

    pub(super) fn neighbours(&mut self, cell: i64, by: &[Expr], frame: &mut [V]) -> Run<Vec<i64>> {
        let place = self.place_of(cell);
        let mut out = vec![];
        for o in by {
            let p = place + self.one(o, frame)?;
            out.extend(self.cell_of(p));
        }
        Ok(out)
    }

    pub(super) fn quant(&mut self, q: &Quant, span: Span, frame: &mut [V]) -> Run<V> {
        let list = self.range(&q.over, frame)?;
        let mut items = vec![];
        let mut total = 0i64;
        let mut found: Option<i64> = None;
        let mut set = vec![0; if q.kind == QuantKind::Set { self.b.cells() } else { 0 }];
        for x in list {
            self.burn(span)?;
            frame[q.local] = V::One(x);
            if let Some(f) = &q.filter
                && self.one(f, frame)? == 0
            {
                continue;
            }
            let body = match &q.body {
                Some(b) => Some(self.one(b, frame)?),
                None => None,
            };
            match q.kind {
                QuantKind::Count => total += 1,
                QuantKind::All if body == Some(0) => return Ok(V::One(0)),
                QuantKind::Any if body != Some(0) => return Ok(V::One(1)),
                QuantKind::All | QuantKind::Any => {}
                QuantKind::First => return Ok(V::One(x)),
                QuantKind::The if found.is_some() => return Self::fault(FaultKind::TwoMatches, span, 2),
                QuantKind::The => found = Some(x),
                QuantKind::Sum => {
                    total = match total.checked_add(body.unwrap_or(0)) {
                        Some(t) => t,
                        None => return Self::fault(FaultKind::Overflow, span, 0),
                    }
                }
                QuantKind::Min => found = Some(found.map_or(body.unwrap_or(0), |f| f.min(body.unwrap_or(0)))),
                QuantKind::Max => found = Some(found.map_or(body.unwrap_or(0), |f| f.max(body.unwrap_or(0)))),
                QuantKind::Set => set[x as usize] = 1,
                QuantKind::List => {
                    if items.len() as i64 == KEPT_MAX {
                        return Self::fault(FaultKind::ListFull, span, KEPT_MAX);
                    }
                    let v = body.unwrap_or(x);
                    if i32::try_from(v).is_err() {
                        return Self::fault(FaultKind::OutOfDomain, span, v);
                    }
                    items.push(v);
                }
            }
        }
        Ok(match q.kind {
            QuantKind::Count | QuantKind::Sum => V::One(total),
            QuantKind::All => V::One(1),
            QuantKind::Any => V::One(0),
            QuantKind::Set => V::Block(set),
            QuantKind::List => {
                let n = items.len() as i64;
                V::List(items, n)
            }
            QuantKind::First | QuantKind::The | QuantKind::Min | QuantKind::Max => match found {
                Some(v) => V::One(v),
                None => return Self::fault(FaultKind::NoMatch, span, 0),
            },
        })
    }
}
