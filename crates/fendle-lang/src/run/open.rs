//! States of which nothing is known at first: each value is pinned when it is read or written, in every way that is left.
//! So the effects of a move are found that reads a few cells of a board of any size.

use super::*;
use std::cmp::Ordering;
use std::sync::Arc;

/// Most values among which one place of an open state is pinned in every way.
const LEFT_MAX: usize = 2_048;
/// Values that are looked at on a way of usual size.
const USUAL_WORK: usize = 256;
/// Parts of expressions that are evaluated on such a way.
const USUAL_PARTS: u64 = 2_048;

/// Hidden values that are tried one way after the other.
pub(super) struct Unknown {
    pub(super) known: Arc<HashMap<usize, i32>>,
    /// What was read, in order: the value's place in the state, and which it was.
    pub(super) seen: Vec<(usize, i32)>,
    pub(super) whole: bool,
}

/// A state of which nothing is known at first: each value is pinned when it is read or written, in every way that
/// its type allows, one way after the other.
#[derive(Default)]
pub(super) struct OpenState {
    pub(super) pinned: Vec<bool>,
    /// What was pinned, in order: the value's place in the state, and which it was.
    pub(super) seen: Vec<(usize, i32)>,
    /// Values that are ruled out, by place.
    pub(super) not: Vec<(usize, i32)>,
    /// The variable of each place.
    pub(super) var_of: Vec<VarId>,
    /// Something was read that is not followed.
    pub(super) lost: bool,
    /// No value was left: this way is none.
    pub(super) none_left: bool,
    /// How many values were looked at on this way.
    pub(super) work: usize,
}

/// What was pinned on the way to a value, and the value.
pub(crate) type OpenValue = (Vec<(usize, i32)>, i64);

/// One way that an open state can go.
pub(crate) struct OpenWay<'w> {
    /// What was pinned on this way: places in the state and their values, each place once.
    pub seen: &'w [(usize, i32)],
    /// The state after the move; it counts only where something was pinned.
    pub after: &'w [i32],
    /// Places that were not pinned, and the one value that tests leave for each.
    pub told: Vec<(usize, i32)>,
    /// Whether the move runs this way in every state that holds what was pinned and told: no test rules out more.
    pub exact: bool,
    /// What the move counts.
    pub count: u32,
}

/// How a move ran on an open state.
pub(crate) enum Followed<'w> {
    /// It was made.
    Made(OpenWay<'w>),
    /// It broke the model or took too many steps; what was pinned until then.
    Broke(&'w [(usize, i32)]),
    /// It is refused, not offered, or no state is like this.
    Not,
}

/// One way that the part of a move which can lose may go.
pub(crate) struct LosingWay {
    /// The hidden values that it read: their places in the state.
    pub reads: Vec<(usize, i32)>,
    /// Whether the game is lost.
    pub lost: bool,
    /// The chance of its draws.
    pub chance: Chance,
}

impl<'b> Eval<'b> {
    /// Compares how many there are of something with a number, and asks no more than decides it: `at most one` is decided when
    /// two were met. Of a state of which nothing is known all values would be asked else, in every way that they can be.
    pub(super) fn asks_count(
        &mut self,
        op: Cmp,
        a: &Expr,
        b: &Expr,
        span: Span,
        frame: &mut [V],
    ) -> Run<bool> {
        let (q, other, count_first) = match (as_count(a), as_count(b)) {
            (Some(q), _) => (q, b, true),
            (_, Some(q)) => (q, a, false),
            _ => unreachable!("one of the two is a count"),
        };
        let other = self.one(other, frame)?;
        let holds = |n: i64| if count_first { op.holds(n, other) } else { op.holds(other, n) };
        // Whether a cell is in a set is asked cell by cell.
        let set = match &q.over {
            Range::Cells(Expr { kind: Ek::Var(when, v), .. }) => Some((*when, *v)),
            _ => None,
        };
        let list =
            if set.is_some() { (0..self.b.cells() as i64).collect() } else { self.range(&q.over, frame)? };
        let (mut n, mut left) = (0, list.len() as i64);
        for x in list {
            // All that it can still become is the same. That few enough are left is no reason to stop: what holds would depend on
            // the order in which cells are asked, and no turned board would be like this one.
            let (least, most) = (n.cmp(&other), (n + left).cmp(&other));
            let ordered = matches!(op, Cmp::Lt | Cmp::Le);
            let same = least == most && least != Ordering::Equal || ordered && holds(n) == holds(n + left);
            if same && (!holds(n) || holds(i64::MAX)) {
                break;
            }
            self.burn(span)?;
            left -= 1;
            if let Some((when, v)) = set
                && self.element(when, v, x as usize) == 0
            {
                continue;
            }
            frame[q.local] = V::One(x);
            if let Some(f) = &q.filter
                && self.one(f, frame)? == 0
            {
                continue;
            }
            n += 1;
        }
        // On the same side as all that it can still become.
        Ok(holds(n))
    }

    /// A hidden value that nobody knows: each in turn, as if it were drawn.
    pub(super) fn guessed(&mut self, v: VarId, at: usize) -> i64 {
        let slot = &self.b.slots[v];
        let Some(unknown) = &mut self.unknown else { return self.now[at].into() };
        if let Some((_, value)) = unknown.seen.iter().find(|(x, _)| *x == at) {
            return (*value).into();
        }
        let values: Vec<i32> = match unknown.known.get(&at) {
            Some(&known) => vec![known],
            None => (slot.lo as i32..=slot.hi as i32).collect(),
        };
        let pick = self.chooser.one_of(values.len());
        unknown.seen.push((at, values[pick]));
        values[pick].into()
    }

    // ---- open states ----

    pub(super) fn lose_sight(&mut self) {
        if let Some(noted) = &mut self.noted {
            noted.everything = true;
        }
        if let Some(open) = &mut self.open {
            open.lost = true;
        }
    }

    /// The values that a place of an open state can still hold.
    pub(super) fn left_for(&self, open: &OpenState, at: usize) -> Vec<i32> {
        let v = open.var_of[at];
        let (def, slot) = (&self.b.model.vars[v], &self.b.slots[v]);
        let not: Vec<i32> = open.not.iter().filter(|n| n.0 == at).map(|n| n.1).collect();
        let allowed = |x: i32| !not.contains(&x);
        if def.rearranged.is_some() {
            let part = slot.base..slot.base + slot.len;
            let mut left = self.b.start[part.clone()].to_vec();
            for (_, x) in open.seen.iter().filter(|(p, _)| part.contains(p)) {
                if let Some(i) = left.iter().position(|l| l == x) {
                    left.swap_remove(i);
                }
            }
            left.sort_unstable();
            left.dedup();
            left.retain(|x| allowed(*x));
            return left;
        }
        if !slot.active {
            return vec![slot.pad() as i32];
        }
        let none = slot.maybe.then_some(NONE as i32);
        let all = none.into_iter().chain(slot.lo as i32..=slot.hi as i32);
        if not.is_empty() { all.collect() } else { all.filter(|x| allowed(*x)).collect() }
    }

    /// Whether a rearranged grid has a value elsewhere, as often as it holds it.
    pub(super) fn is_placed(&self, open: &OpenState, at: usize, value: i64) -> bool {
        let v = open.var_of[at];
        if self.b.model.vars[v].rearranged.is_none() {
            return false;
        }
        let slot = &self.b.slots[v];
        let part = slot.base..slot.base + slot.len;
        let placed = open.seen.iter().filter(|(p, x)| part.contains(p) && i64::from(*x) == value).count();
        placed == self.b.start[part].iter().filter(|x| i64::from(**x) == value).count()
    }

    /// Whether a rearranged grid has no more room for a value than it still has to hold it.
    pub(super) fn must_be_here(&self, open: &OpenState, at: usize, value: i32) -> bool {
        let v = open.var_of[at];
        if self.b.model.vars[v].rearranged.is_none() {
            return false;
        }
        let slot = &self.b.slots[v];
        let part = slot.base..slot.base + slot.len;
        let all = self.b.start[part.clone()].iter().filter(|x| **x == value).count();
        let placed = open.seen.iter().filter(|(p, x)| part.contains(p) && *x == value).count();
        let room = part.filter(|p| !open.pinned[*p] && !open.not.contains(&(*p, value))).count();
        room + placed == all
    }

    pub(super) fn pin_as(&mut self, at: usize, value: i32) {
        let Some(open) = &mut self.open else { return };
        open.pinned[at] = true;
        open.seen.push((at, value));
        self.now[at] = value;
        self.before[at] = value;
    }

    /// Settles a place of an open state, if it is not pinned yet.
    pub(super) fn pin(&mut self, at: usize) {
        let Some(open) = &self.open else { return };
        if open.pinned[at] {
            return;
        }
        let values = self.left_for(open, at);
        let value = match values.len() {
            0 => {
                let least = self.b.slots[open.var_of[at]].lo as i32;
                if let Some(open) = &mut self.open {
                    open.none_left = true;
                }
                least
            }
            1 => values[0],
            n if n > LEFT_MAX => {
                // As many ways as values, and each would list them all.
                self.lose_sight();
                values[0]
            }
            n => values[self.chooser.one_of(n)],
        };
        self.pin_as(at, value);
    }

    pub(super) fn pin_all(&mut self, v: VarId) {
        self.was_read(v, None);
        if self.open.is_none() || !self.b.model.vars[v].state {
            return;
        }
        if matches!(self.b.model.vars[v].shape, Extent::List(_) | Extent::Lists(..)) {
            self.lose_sight();
        }
        let slot = &self.b.slots[v];
        for at in slot.base..slot.base + slot.len {
            self.pin(at);
        }
    }

    /// Where the one value of an open state stands that an expression reads, if it is that plain and not pinned.
    pub(super) fn open_place(&mut self, e: &Expr, frame: &mut [V]) -> Run<Option<usize>> {
        let (v, i) = match &e.kind {
            Ek::Var(When::Now | When::Before, v) if self.b.model.vars[*v].shape == Extent::One => (*v, 0),
            Ek::Index(block, index) if !matches!(block.ty, Ty::Lists(..)) => match &block.kind {
                Ek::Var(When::Now | When::Before, v) => (*v, self.one(index, frame)? as usize),
                _ => return Ok(None),
            },
            _ => return Ok(None),
        };
        let at = self.b.slots[v].base + i;
        Ok(self.open.as_ref().is_some_and(|o| self.b.model.vars[v].state && !o.pinned[at]).then_some(at))
    }

    /// Whether an unsettled place holds a value: one way if it must or cannot, else two.
    pub(super) fn asks_if(&mut self, at: usize, value: i64) -> bool {
        let Some(open) = &self.open else { return false };
        if self.is_placed(open, at, value) {
            return false;
        }
        let left = self.left_for(open, at);
        if let Some(open) = &mut self.open {
            open.work += left.len();
        }
        let Some(open) = &self.open else { return false };
        let Some(&value) = left.iter().find(|x| i64::from(**x) == value) else { return false };
        let yes = left.len() == 1 || self.must_be_here(open, at, value) || self.chooser.one_of(2) == 0;
        if yes {
            self.pin_as(at, value);
        } else if let Some(open) = &mut self.open {
            open.not.push((at, value));
        }
        yes
    }

    pub(super) fn asks_same(&mut self, a: &Expr, b: &Expr, frame: &mut [V]) -> Run<bool> {
        for (x, y) in [(a, b), (b, a)] {
            if let Some(at) = self.open_place(x, frame)? {
                let value = self.one(y, frame)?;
                // The other side may have pinned it.
                if self.open.as_ref().is_some_and(|o| !o.pinned[at]) {
                    return Ok(self.asks_if(at, value));
                }
            }
        }
        Ok(self.one(a, frame)? == self.one(b, frame)?)
    }

    pub(super) fn asks_same_block(&mut self, a: &Expr, b: &Expr, frame: &mut [V]) -> Run<bool> {
        for (x, y) in [(a, b), (b, a)] {
            let Ek::Var(When::Now | When::Before, v) = x.kind else { continue };
            let list = matches!(self.b.model.vars[v].shape, Extent::List(_) | Extent::Lists(..));
            if !self.b.model.vars[v].state || list {
                continue;
            }
            let V::Block(values) = self.eval(y, frame)? else { continue };
            let slot = self.b.slots[v].clone();
            for (i, value) in values.into_iter().enumerate() {
                let at = slot.base + i;
                let same = match self.open.as_ref().is_some_and(|o| o.pinned[at]) {
                    true => self.now[at] == value,
                    false => self.asks_if(at, value.into()),
                };
                if !same {
                    return Ok(false);
                }
            }
            return Ok(true);
        }
        Ok(match (self.eval(a, frame)?, self.eval(b, frame)?) {
            (V::List(a, _), V::List(b, _)) => a == b,
            (a, b) => a == b,
        })
    }

    pub(super) fn open_up(&mut self, take: &[usize]) {
        let mut var_of = vec![VarId(0); self.b.start.len()];
        for (v, _) in self.b.model.variables().filter(|(_, def)| def.state) {
            let slot = &self.b.slots[v];
            var_of[slot.base..slot.base + slot.len].fill(v);
        }
        let pinned = vec![false; self.b.start.len()];
        self.open = Some(Box::new(OpenState { pinned, var_of, ..OpenState::default() }));
        self.chooser = Chooser::Script { take: take.to_vec(), seen: vec![] };
        self.fuel = STEP_BUDGET;
        self.evaluated = 0;
    }

    /// Makes a move in an open state, in every way that the types and the draws allow. `each` is told how much work the way
    /// took, in ways of usual size, and says whether to go on. False when it did not, or when something was read that is not
    /// followed: then the ways are not all.
    pub(crate) fn open_ways(
        &mut self,
        of: usize,
        params: &[i64],
        each: &mut dyn FnMut(Followed<'_>, usize) -> bool,
    ) -> bool {
        let start = self.b.start.clone();
        let mut take = vec![];
        loop {
            self.open_up(&take);
            let mut done = self.apply_once(&start, of, params);
            let mut count = 1;
            if let (Ok(Outcome::Done(made)), true) = (&mut done, self.b.model.counted.is_some()) {
                match self.counts_before(of, params, &mut made[0].state) {
                    Ok(n) => count = n,
                    Err(fault) => done = Err(fault),
                }
            }
            let Some(open) = self.open.take() else { return false };
            if open.lost {
                return false;
            }
            let cost = 1 + open.work / USUAL_WORK + (self.evaluated / USUAL_PARTS) as usize;
            let go_on = match done {
                Ok(Outcome::Done(made)) if !open.none_left && !made[0].cut => {
                    let (told, exact) = self.ruled_out(&open);
                    let way = OpenWay { seen: &open.seen, after: &made[0].state, told, exact, count };
                    each(Followed::Made(way), cost)
                }
                Err(_) if !open.none_left => each(Followed::Broke(&open.seen), cost),
                _ => each(Followed::Not, cost),
            };
            let Chooser::Script { seen, .. } = &self.chooser else { return false };
            if !go_on {
                return false;
            }
            if !next_way(&mut take, seen) {
                return true;
            }
        }
    }

    /// What the move that was made counts, asked in the state before it; `after` is the state that it led to: what is pinned only
    /// now has not changed.
    fn counts_before(&mut self, of: usize, params: &[i64], after: &mut [i32]) -> Run<u32> {
        let pinned = self.open.as_ref().map_or(0, |o| o.seen.len());
        self.now.clone_from(&self.before);
        let count = self.counts(of, params)?;
        for (at, value) in self.open.iter().flat_map(|o| &o.seen[pinned..]) {
            after[*at] = *value;
        }
        Ok(count)
    }

    /// What tests that ruled values out say of places that are not pinned: those of which one value is left, and whether
    /// that is all they say.
    fn ruled_out(&self, open: &OpenState) -> (Vec<(usize, i32)>, bool) {
        let (mut told, mut exact) = (vec![], true);
        for &(at, value) in open.not.iter().filter(|n| !open.pinned[n.0]) {
            if told.iter().any(|t: &(usize, i32)| t.0 == at) {
                continue;
            }
            match self.left_for(open, at).as_slice() {
                [left] => told.push((at, *left)),
                // A value that stands elsewhere, as often as there are such, cannot be here anyway.
                _ => exact &= self.is_placed(open, at, value.into()),
            }
        }
        (told, exact)
    }

    /// The value of an expression in an open state, in every way: what was read, and the value. `None` when there are
    /// more than `most` ways, or something is read that is not followed.
    pub(crate) fn open_values(&mut self, e: &Expr, frame: &[i64], most: usize) -> Option<Vec<OpenValue>> {
        Some(self.open_values_told(e, frame, most)?.into_iter().map(|v| v.0).collect())
    }

    /// The same, and for each way whether what was read is all that it depends on: no test rules out more.
    pub(crate) fn open_values_told(
        &mut self,
        e: &Expr,
        frame: &[i64],
        most: usize,
    ) -> Option<Vec<(OpenValue, bool)>> {
        let mut out = vec![];
        let mut take = vec![];
        loop {
            self.open_up(&take);
            self.now = self.b.start.clone();
            self.before = self.now.clone();
            let mut frame: Vec<V> = frame.iter().map(|v| V::One(*v)).collect();
            let value = self.one(e, &mut frame);
            let open = self.open.take()?;
            if open.lost || out.len() >= most {
                return None;
            }
            if !open.none_left {
                // A fault is no value: nothing can be said.
                let (_, exact) = self.ruled_out(&open);
                let told = open.not.is_empty() || exact && open.not.iter().all(|n| open.pinned[n.0]);
                out.push(((open.seen, value.ok()?), told));
            }
            let Chooser::Script { seen, .. } = &self.chooser else { return None };
            if !next_way(&mut take, seen) {
                return Some(out);
            }
        }
    }

    /// Runs the part of a move that can lose the game, in every way that hidden values it reads can be. `body`
    /// is that part; `after` what follows it. Empty when the move is not allowed. `None` when there are more than `most` ways, or hidden values are
    /// read in a way that is not followed.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub(crate) fn ways_to_lose(
        &mut self,
        state: &[i32],
        (of, params): (usize, &[i64]),
        (body, after, status): (&[Stmt], &[&ProcDef], bool),
        known: &Arc<HashMap<usize, i32>>,
        most: usize,
    ) -> Run<Option<Vec<LosingWay>>> {
        let model = self.b.model.clone();
        let def = &model.moves[of];
        let lost = |e: usize| model.endings[e].kind == EndKind::Lost;
        let mut out = vec![];
        let mut take: Vec<usize> = vec![];
        loop {
            self.chooser = Chooser::Script { take: take.clone(), seen: vec![] };
            self.unknown = Some(Unknown { known: Arc::clone(known), seen: vec![], whole: false });
            self.fuel = STEP_BUDGET;
            self.look_at(state);
            let ended = self.b.ended_at();
            (self.now[ended], self.before[ended]) = (0, 0);
            self.chance = Chance::SURE;
            let mut frame = vec![V::One(0); def.locals.len()];
            for (slot, &p) in frame.iter_mut().zip(params) {
                *slot = V::One(p);
            }
            for offer in &def.offers {
                if self.one(offer, &mut frame)? == 0 {
                    self.unknown = None;
                    return Ok(Some(vec![]));
                }
            }
            let mut flow = self.block(body, &mut frame)?;
            if matches!(flow, Flow::Refused(..)) {
                self.unknown = None;
                return Ok(Some(vec![]));
            }
            for block in after {
                if matches!(flow, Flow::Next) {
                    flow = self.lone_block(block)?;
                }
            }
            let mut is_lost = self.now[ended] != 0 && lost(self.now[ended] as usize - 1);
            if !is_lost && status && matches!(flow, Flow::Next) {
                is_lost = self.conditions()?.is_some_and(lost);
            }
            let Some(unknown) = self.unknown.take() else { return Ok(None) };
            if unknown.whole || out.len() >= most {
                return Ok(None);
            }
            out.push(LosingWay { reads: unknown.seen, lost: is_lost, chance: self.chance });
            let Chooser::Script { seen, .. } = &self.chooser else { return Ok(None) };
            if !next_way(&mut take, seen) {
                return Ok(Some(out));
            }
        }
    }
}

/// A count of things without a value of their own, if an expression is one.
pub(super) fn as_count(e: &Expr) -> Option<&Quant> {
    match &e.kind {
        Ek::Quant(q) if q.kind == QuantKind::Count => Some(q),
        _ => None,
    }
}
