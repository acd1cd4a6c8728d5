//! Statements.

use super::*;

impl<'b> Eval<'b> {
    /// Which of several weighted things is drawn.
    pub(super) fn choose(&mut self, weights: &[u64], span: Span) -> Run<usize> {
        let at = match &mut self.chooser {
            Chooser::Script { take, seen } => {
                let at = take.get(seen.len()).copied().unwrap_or(0).min(weights.len() - 1);
                seen.push(weights.len());
                at
            }
            Chooser::Random(random) => random(weights),
        };
        let total = weights.iter().sum();
        self.chance = match self.chance.then(weights[at], total) {
            Some(c) => c,
            // One way is drawn, and how likely it was does not matter.
            None if matches!(self.chooser, Chooser::Random(_)) => self.chance,
            None => return Self::fault(FaultKind::TooFine, span, 0),
        };
        Ok(at)
    }

    // ---- statements ----

    pub(super) fn block(&mut self, block: &[Stmt], frame: &mut [V]) -> Run<Flow> {
        for stmt in block {
            match self.stmt(stmt, frame)? {
                Flow::Next => {}
                other => return Ok(other),
            }
        }
        Ok(Flow::Next)
    }

    pub(super) fn burn(&mut self, span: Span) -> Run<()> {
        self.fuel -= 1;
        if self.fuel < 0 {
            return Err(RunFault { kind: FaultKind::StepBudget, span, value: 0 });
        }
        if self.fuel % STOP_STRIDE == 0 {
            self.go_on(span)?;
        }
        Ok(())
    }

    /// A fault when somebody said stop.
    pub(crate) fn go_on(&self, span: Span) -> Run<()> {
        match self.b.stop.is_asked() {
            true => Self::fault(FaultKind::Stopped, span, 0),
            false => Ok(()),
        }
    }

    #[expect(clippy::too_many_lines, reason = "one arm for each kind of statement")]
    pub(super) fn stmt(&mut self, stmt: &Stmt, frame: &mut [V]) -> Run<Flow> {
        let span = stmt.span;
        match &stmt.kind {
            St::Assign(target, value) => {
                let mut value = self.eval(value, frame)?;
                if let (V::List(items, cap), Target::Local(l)) = (&mut value, target) {
                    // A list that changes was made with its bound; any other is named anew each time it is met, and has none.
                    *cap = if let V::List(_, bound) = &frame[*l] { *bound } else { i64::MAX };
                    if items.len() as i64 > *cap {
                        return Self::fault(FaultKind::ListFull, span, *cap);
                    }
                }
                let index = self.target_index(target, frame)?;
                self.assign(target, index, value, span, frame)?;
            }
            St::Swap(a, b) => {
                let ia = self.target_index(a, frame)?;
                let ib = self.target_index(b, frame)?;
                let va = self.read(a, ia, frame);
                let vb = self.read(b, ib, frame);
                self.assign(a, ia, vb, span, frame)?;
                self.assign(b, ib, va, span, frame)?;
            }
            St::If(cond, then, other) => {
                let holds = self.one(cond, frame)? != 0;
                self.mark(span, if holds { Way::Held } else { Way::NotHeld });
                return self.block(if holds { then } else { other }, frame);
            }
            St::For { local, over, filter, body } => {
                return self.each(*local, over, filter.as_ref(), body, span, frame);
            }
            St::Repeat { bound, cond, body, cut } => return self.again(bound, cond, body, *cut, span, frame),
            St::Phase(name, body) => {
                self.mark(span, Way::Reached);
                let flow = self.block(body, frame)?;
                if !matches!(flow, Flow::Refused(..)) {
                    self.events.push(TraceEvent::Phase { name: name.clone(), state: self.now.clone() });
                }
                return Ok(flow);
            }
            St::Refuse { site, at, unless } => return self.refuse(*site, at, unless.as_ref(), span, frame),
            St::Draw { .. } => return self.draw_of(stmt, frame),
            St::NewList { local, value, max } => self.new_list(*local, value.as_ref(), max, span, frame)?,
            St::Push(list, value) => {
                let v = self.one(value, frame)?;
                let key = self.list_key(list, frame)?;
                let (mut items, cap) = self.list_now(list, key, frame);
                if items.len() as i64 >= cap {
                    return Self::fault(FaultKind::ListFull, span, cap);
                }
                items.push(v);
                self.list_store(list, key, items, span, frame)?;
            }
            St::Pop(list) => {
                let key = self.list_key(list, frame)?;
                let (mut items, _) = self.list_now(list, key, frame);
                if items.pop().is_none() {
                    return Self::fault(FaultKind::ListEmpty, span, 0);
                }
                self.list_store(list, key, items, span, frame)?;
            }
            St::Clear(list) => {
                let key = self.list_key(list, frame)?;
                self.list_store(list, key, vec![], span, frame)?;
            }
            St::Drop(list, value) => {
                let v = self.one(value, frame)?;
                let key = self.list_key(list, frame)?;
                let (mut items, _) = self.list_now(list, key, frame);
                match items.iter().position(|x| *x == v) {
                    Some(i) => items.remove(i),
                    None => return Self::fault(FaultKind::NotInList, span, v),
                };
                self.list_store(list, key, items, span, frame)?;
            }
            St::Take(count, from, onto) => self.take(count, from, onto, span, frame)?,
            St::Write { parts, fill, into, along } => {
                self.write_lane(parts, fill, into, along, span, frame)?
            }
            St::CutOut { .. } => self.cut_out(stmt, frame)?,
            St::Insert { row, into, at, from } => self.insert(row, into, at, from, span, frame)?,
            St::Require(cond, _) => {
                if self.one(cond, frame)? == 0 {
                    return Ok(Flow::Dropped(cond.span));
                }
            }
            St::Judge => {
                self.mark(span, Way::Reached);
                if self.conditions()?.is_some() {
                    return Ok(Flow::Ended);
                }
            }
            St::End(ending) => {
                self.mark(span, Way::Reached);
                let at = self.b.ended_at();
                self.now[at] = *ending as i32 + 1;
                return Ok(Flow::Ended);
            }
            St::Note(text, at) => {
                self.mark(span, Way::Reached);
                let at = match at {
                    Some(e) => Some(code::row_col(self.one(e, frame)?)),
                    None => None,
                };
                self.events.push(TraceEvent::Note { text: text.clone(), at });
            }
            St::Score(e) => {
                let v = self.one(e, frame)?;
                self.score = self.score.checked_add(v).ok_or(RunFault {
                    kind: FaultKind::Overflow,
                    span,
                    value: 0,
                })?;
            }
            St::Tally(t, e) => {
                let v = self.one(e, frame)?;
                self.tallies[*t] = self.tallies[*t].wrapping_add(v);
            }
            St::Call(p, args) => {
                let model = self.b.model.clone();
                let def = &model.procs[*p];
                let mut inner = vec![V::One(0); def.locals.len()];
                for (slot, a) in inner.iter_mut().zip(args) {
                    *slot = self.eval(a, frame)?;
                }
                return self.block(&def.body, &mut inner);
            }
        }
        Ok(Flow::Next)
    }

    /// Puts a row or column into a grid; what lies there moves on, and the last falls off.
    fn insert(
        &mut self,
        row: &Expr,
        into: &Target,
        at: &Expr,
        from: &Expr,
        span: Span,
        frame: &mut [V],
    ) -> Run<()> {
        let items = self.eval(row, frame)?.list();
        let lane = self.one(at, frame)?;
        let from = self.one(from, frame)?;
        let (first, dir, len) = code::lane_parts(lane);
        let columns = dir == 0 || dir == 2;
        let (low, high) = if columns { (3, 1) } else { (0, 2) };
        if from != low && from != high {
            return Self::fault(FaultKind::OutOfDomain, span, from);
        }
        if items.len() as i64 != len {
            return Self::fault(FaultKind::WrittenTooLong, span, items.len() as i64);
        }
        let old = self.grid_now(into, frame);
        let cols = self.b.cols;
        let k = if columns { first as usize % cols } else { first as usize / cols };
        let lines = if columns { cols } else { self.b.rows };
        let at = |i: usize, j: usize| if columns { j * cols + i } else { i * cols + j };
        for j in 0..self.across(columns) {
            // From the side it comes in, what lies there moves on, and the last falls off.
            if from == low {
                for i in k + 1..lines {
                    let v = old[at(i - 1, j)].into();
                    self.assign_cell(into, at(i, j), v, span, frame)?;
                }
            } else {
                for i in 0..k {
                    let v = old[at(i + 1, j)].into();
                    self.assign_cell(into, at(i, j), v, span, frame)?;
                }
            }
        }
        for (c, v) in self.lane_cells(lane).into_iter().zip(items) {
            self.assign_cell(into, c as usize, v, span, frame)?;
        }
        Ok(())
    }

    /// Takes rows or columns out of a grid; what stays moves together, and what fills the rest comes in from one side.
    fn cut_out(&mut self, stmt: &Stmt, frame: &mut [V]) -> Run<()> {
        let span = stmt.span;
        let St::CutOut { local, columns, filter, into, fill, from } = &stmt.kind else {
            unreachable!("a cut")
        };
        let mut gone = vec![];
        for lane in self.side_lanes(if *columns { 0 } else { 3 }) {
            self.burn(span)?;
            frame[*local] = V::One(lane);
            gone.push(self.one(filter, frame)? != 0);
        }
        let fill = self.one(fill, frame)?;
        let from = self.one(from, frame)?;
        let (low, high) = if *columns { (3, 1) } else { (0, 2) };
        if from != low && from != high {
            return Self::fault(FaultKind::OutOfDomain, span, from);
        }
        let old = self.grid_now(into, frame);
        // What stays keeps its order and moves away from where the filling comes in.
        let kept: Vec<usize> = (0..gone.len()).filter(|&i| !gone[i]).collect();
        let shift = if from == low { gone.len() - kept.len() } else { 0 };
        for i in 0..gone.len() {
            let source = i.checked_sub(shift).and_then(|k| kept.get(k)).copied();
            for j in 0..self.across(*columns) {
                let at = |i: usize| if *columns { j * self.b.cols + i } else { i * self.b.cols + j };
                let v = source.map_or(fill, |s| old[at(s)].into());
                let cell = at(i);
                self.assign_cell(into, cell, v, span, frame)?;
            }
        }
        Ok(())
    }

    /// Writes values along a lane of a grid, then what fills the rest.
    fn write_lane(
        &mut self,
        parts: &[Expr],
        fill: &Expr,
        into: &Target,
        along: &Expr,
        span: Span,
        frame: &mut [V],
    ) -> Run<()> {
        let lane = self.one(along, frame)?;
        let cells = self.lane_cells(lane);
        let mut values = vec![];
        for p in parts {
            match self.eval(p, frame)? {
                V::List(items, _) => values.extend(items),
                v => values.push(v.one()),
            }
        }
        let fill = self.one(fill, frame)?;
        if values.len() > cells.len() {
            return Self::fault(FaultKind::WrittenTooLong, span, values.len() as i64);
        }
        values.resize(cells.len(), fill);
        for (c, v) in cells.into_iter().zip(values) {
            self.assign_cell(into, c as usize, v, span, frame)?;
        }
        Ok(())
    }

    /// Moves the last entries of one list onto another, in their order.
    fn take(&mut self, count: &Expr, from: &ListRef, onto: &ListRef, span: Span, frame: &mut [V]) -> Run<()> {
        let n = self.one(count, frame)?;
        let key = self.list_key(from, frame)?;
        let to_key = self.list_key(onto, frame)?;
        let (mut items, _) = self.list_now(from, key, frame);
        if n < 0 || n > items.len() as i64 {
            return Self::fault(FaultKind::NoEntry, span, n);
        }
        let moved = items.split_off(items.len() - n as usize);
        self.list_store(from, key, items, span, frame)?;
        let (mut items, cap) = self.list_now(onto, to_key, frame);
        if items.len() as i64 + n > cap {
            return Self::fault(FaultKind::ListFull, span, cap);
        }
        items.extend(moved);
        self.list_store(onto, to_key, items, span, frame)?;
        Ok(())
    }

    /// Makes a local list with its bound.
    fn new_list(
        &mut self,
        local: LocalId,
        value: Option<&Expr>,
        max: &Expr,
        span: Span,
        frame: &mut [V],
    ) -> Run<()> {
        let items = match value {
            Some(e) => self.eval(e, frame)?.list(),
            None => vec![],
        };
        let max = self.one(max, frame)?;
        if !(0..=crate::state::LIST_MAX).contains(&max) {
            return Self::fault(FaultKind::OutOfDomain, span, max);
        }
        if items.len() as i64 > max {
            return Self::fault(FaultKind::ListFull, span, max);
        }
        frame[local] = V::List(items, max);
        Ok(())
    }

    /// Draws a value, says which one, and goes on with the rest of the block.
    fn draw_of(&mut self, stmt: &Stmt, frame: &mut [V]) -> Run<Flow> {
        let span = stmt.span;
        let St::Draw { local, from, into, rest, other } = &stmt.kind else { unreachable!("a draw") };
        let mut things: Vec<(i64, u64)> = vec![];
        match from {
            DrawFrom::Range { over, filter, weight } => {
                for x in self.range(over, frame)? {
                    self.burn(span)?;
                    frame[*local] = V::One(x);
                    if let Some(f) = filter
                        && self.one(f, frame)? == 0
                    {
                        continue;
                    }
                    let w = match weight {
                        Some(w) => self.weight(w, frame)?,
                        None => 1,
                    };
                    things.push((x, w));
                }
            }
            DrawFrom::Values(values) => {
                for (v, w) in values {
                    let x = self.one(v, frame)?;
                    things.push((x, self.weight(w, frame)?));
                }
            }
        }
        things.retain(|t| t.1 > 0);
        if things.is_empty() {
            self.mark(span, Way::Nothing);
            return match other {
                Some(other) => self.block(other, frame),
                None => Self::fault(FaultKind::NothingToDraw, span, 0),
            };
        }
        let weights: Vec<u64> = things.iter().map(|t| t.1).collect();
        let at = self.choose(&weights, span)?;
        let x = things[at].0;
        frame[*local] = V::One(x);
        let what = match into {
            // As it will stand on the board.
            Some(Target::Var(v) | Target::VarAt(v, _)) => self.b.value_text(*v, x),
            _ => self.drawn_text(from, x),
        };
        let chance = Chance::new(weights[at].into(), weights.iter().sum::<u64>().into());
        self.events.push(TraceEvent::Draw { what, chance, of: things.len() });
        if let Some(into) = into {
            let index = self.target_index(into, frame)?;
            self.assign(into, index, V::One(x), span, frame)?;
        }
        self.block(rest, frame)
    }

    /// Refuses the move with the cells that are to blame, unless a condition holds.
    fn refuse(
        &mut self,
        site: usize,
        at: &[Expr],
        unless: Option<&Expr>,
        span: Span,
        frame: &mut [V],
    ) -> Run<Flow> {
        if let Some(e) = unless
            && self.one(e, frame)? != 0
        {
            return Ok(Flow::Next);
        }
        self.mark(span, Way::Refused);
        let mut places = vec![];
        for e in at {
            match self.eval(e, frame)? {
                V::One(p) => places.push(p),
                V::List(..) => unreachable!("places are named, not lists"),
                V::Block(cells) => {
                    for (c, &v) in cells.iter().enumerate() {
                        if v != 0 {
                            places.push(self.place_of(c as i64));
                        }
                    }
                }
            }
        }
        Ok(Flow::Refused(site, places))
    }

    /// Does something again while a condition holds, up to a bound.
    fn again(
        &mut self,
        bound: &Expr,
        cond: &Expr,
        body: &[Stmt],
        cut: bool,
        span: Span,
        frame: &mut [V],
    ) -> Run<Flow> {
        let bound = self.one(bound, frame)?;
        let mut done = 0;
        while self.one(cond, frame)? != 0 {
            if done == 0 {
                self.mark(span, Way::Held);
            }
            if done >= bound {
                if cut {
                    return Ok(Flow::Cut);
                }
                return Err(RunFault { kind: FaultKind::RepeatBound, span, value: bound });
            }
            done += 1;
            self.burn(span)?;
            match self.block(body, frame)? {
                Flow::Next => {}
                other => return Ok(other),
            }
        }
        if done == 0 {
            self.mark(span, Way::NotHeld);
        }
        Ok(Flow::Next)
    }

    /// Runs over things one after the other: first it is asked which ones, then something is done for each.
    fn each(
        &mut self,
        local: LocalId,
        over: &Range,
        filter: Option<&Expr>,
        body: &[Stmt],
        span: Span,
        frame: &mut [V],
    ) -> Run<Flow> {
        let all = self.range(over, frame)?;
        let mut list = vec![];
        for x in all {
            if let Some(f) = filter {
                self.burn(span)?;
                frame[local] = V::One(x);
                if self.one(f, frame)? == 0 {
                    continue;
                }
                if matches!(over, Range::Ints(..)) && list.len() as i64 == KEPT_MAX {
                    let value = KEPT_MAX + 1;
                    return Err(RunFault { kind: FaultKind::LoopTooLong, span, value });
                }
            }
            list.push(x);
        }
        if !list.is_empty() {
            self.mark(span, Way::Held);
        }
        for x in list {
            self.burn(span)?;
            frame[local] = V::One(x);
            match self.block(body, frame)? {
                Flow::Next => {}
                other => return Ok(other),
            }
        }
        Ok(Flow::Next)
    }

    pub(super) fn in_domain(&mut self, dom: &Dom, v: i64, span: Span) -> Run<()> {
        let (lo, hi) = match dom {
            Dom::Range(lo, hi) => (self.lone(lo)?, self.lone(hi)?),
            Dom::First(_, count) => (0, self.lone(count)? - 1),
            Dom::Dir4 => (0, 3),
            Dom::Maybe(_) if v == NONE => return Ok(()),
            Dom::Maybe(inner) => return self.in_domain(inner, v, span),
            _ => return Ok(()),
        };
        if v < lo || v > hi {
            return Err(RunFault { kind: FaultKind::OutOfDomain, span, value: v });
        }
        Ok(())
    }

    pub(super) fn target_index(&mut self, target: &Target, frame: &mut [V]) -> Run<usize> {
        match target {
            Target::LocalAt(_, e) | Target::VarAt(_, e) => Ok(self.one(e, frame)? as usize),
            Target::Entry(list, spot) => {
                let key = self.list_key(list, frame)?;
                let (items, _) = self.list_now(list, key, frame);
                let i = match spot {
                    Spot::First => 0,
                    Spot::Last => items.len() as i64 - 1,
                    Spot::At(e) => {
                        let n = self.one(e, frame)?;
                        if n < 1 || n > items.len() as i64 {
                            return Self::fault(FaultKind::NoEntry, e.span, n);
                        }
                        n - 1
                    }
                };
                if i < 0 || items.is_empty() {
                    return Self::fault(FaultKind::ListEmpty, self.list_span(list), 0);
                }
                Ok(key << 16 | i as usize)
            }
            _ => Ok(0),
        }
    }

    pub(super) fn weight(&mut self, w: &Expr, frame: &mut [V]) -> Run<u64> {
        let v = self.one(w, frame)?;
        if !(0..=WEIGHT_MAX).contains(&v) {
            return Self::fault(FaultKind::BadWeight, w.span, v);
        }
        Ok(v as u64)
    }

    /// What was drawn, as it is written.
    pub(super) fn drawn_text(&self, from: &DrawFrom, x: i64) -> String {
        let ty = match from {
            DrawFrom::Values(values) => values.first().map_or(Ty::Int, |v| v.0.ty),
            DrawFrom::Range { over, .. } => match over {
                Range::Board | Range::Cells(_) | Range::Around(..) | Range::Lane(_) => Ty::Cell,
                Range::Dirs(_) => Ty::Dir,
                Range::Enum(e) => Ty::Enum(*e),
                Range::List(e) => match e.ty {
                    Ty::List(s, _) => s.ty(),
                    _ => Ty::Int,
                },
                Range::Lanes(_) => {
                    let (first, dir, _) = code::lane_parts(x);
                    let (r, c) = (first as usize / self.b.cols + 1, first as usize % self.b.cols + 1);
                    return if dir % 2 == 0 { format!("c{c}") } else { format!("r{r}") };
                }
                _ => Ty::Int,
            },
        };
        match ty.scalar() {
            Some(s) => self.b.scalar_text(s, x, false),
            None => x.to_string(),
        }
    }

    pub(super) fn read(&mut self, target: &Target, index: usize, frame: &[V]) -> V {
        match target {
            Target::Local(l) => frame[*l].clone(),
            Target::LocalAt(l, _) => V::One(frame[*l].clone().block()[index].into()),
            Target::Var(v) => V::One(self.element(When::Now, *v, 0)),
            Target::VarAt(v, _) => V::One(self.element(When::Now, *v, index)),
            Target::Entry(list, _) => {
                let (items, _) = self.list_now(list, index >> 16, frame);
                V::One(items[index & 0xffff])
            }
        }
    }

    pub(super) fn assign(
        &mut self,
        target: &Target,
        index: usize,
        value: V,
        span: Span,
        frame: &mut [V],
    ) -> Run<()> {
        match target {
            Target::Local(l) => {
                frame[*l] = value;
            }
            Target::Entry(list, _) => {
                let key = index >> 16;
                let (mut items, _) = self.list_now(list, key, frame);
                items[index & 0xffff] = value.one();
                self.list_store(list, key, items, span, frame)?;
            }
            Target::VarAt(v, _) if matches!(self.b.model.vars[*v].shape, Extent::Lists(..)) => {
                let list = ListRef::VarAt(*v, Expr { kind: Ek::Const(0), ty: Ty::Int, span });
                self.list_store(&list, index, value.list(), span, frame)?;
            }
            Target::Var(v) if matches!(self.b.model.vars[*v].shape, Extent::List(_)) => {
                self.list_store(&ListRef::Var(*v), 0, value.list(), span, frame)?;
            }
            Target::Var(v) if matches!(self.b.model.vars[*v].shape, Extent::Lists(..)) => {
                // Another variable of the same keys: list by list, since bounds may differ.
                let values = value.block();
                let keys = self.b.slots[*v].len / (self.b.slots[*v].cap + 1);
                let each = values.len() / keys.max(1);
                for key in 0..keys {
                    let part = &values[key * each..(key + 1) * each];
                    let items = part[1..=part[0] as usize].iter().map(|&x| x.into()).collect();
                    let list = ListRef::VarAt(*v, Expr { kind: Ek::Const(0), ty: Ty::Int, span });
                    self.list_store(&list, key, items, span, frame)?;
                }
            }
            Target::LocalAt(l, _) => {
                let v = value.one();
                if i32::try_from(v).is_err() {
                    return Self::fault(FaultKind::OutOfDomain, span, v);
                }
                let V::Block(block) = &mut frame[*l] else { unreachable!("a local block") };
                block[index] = v as i32;
            }
            Target::Var(v) | Target::VarAt(v, _) => {
                let slot = self.b.slots[*v].clone();
                match value {
                    V::Block(values) => {
                        for (i, x) in values.into_iter().enumerate() {
                            self.store(&slot, i, x.into(), span)?;
                        }
                    }
                    V::One(x) => self.store(&slot, index, x, span)?,
                    V::List(..) => unreachable!("lists were stored above"),
                }
            }
        }
        Ok(())
    }

    pub(super) fn store(
        &mut self,
        slot: &crate::state::Slot,
        index: usize,
        value: i64,
        span: Span,
    ) -> Run<()> {
        if !slot.holds(value) {
            return Err(RunFault { kind: FaultKind::OutOfDomain, span, value });
        }
        self.pin(slot.base + index);
        self.now[slot.base + index] = value as i32;
        Ok(())
    }
}
