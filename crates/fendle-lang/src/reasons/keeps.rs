//! Kept quantities: proved from the rules, proved by enumeration, or only checked.
//!
//! The proof from the rules follows every move through its branches with symbols for cells:
//! "where the gap is, plus one row down". Each effect that the quantity depends on must be
//! understood on every branch, whatever the conditions say; otherwise nothing is claimed. It
//! understands sums (also `mod m`) of the parity of a grid, the rows and columns of the one
//! cell that holds a value or of a cell variable, and numbers that moves count up or down.
//!
//! The proof by enumeration runs every typed state, reachable or not, through every move.

use std::collections::HashMap;

use super::numbering::{numbering, numbering_seen};
use crate::code::Game;
use crate::code::game::{FindNumbers, is_claimed};
use crate::code::machine::{Halt, Machine};
use crate::model::*;
use crate::reasons::effects::{Effects, Form, QUICK_WAYS, goal_ways};
use crate::reasons::invariant::{Apart, Invariants};
use crate::run::{Eval, TooLarge, move_list};
use crate::state::Bound;
use crate::syntax::tree::QuantKind;

/// What is known of a declared quantity.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kept {
    /// Every effect of every move keeps it.
    ProvedFromRules,
    /// Every move of every typed state keeps it.
    ProvedByEnumeration {
        /// How many states that are.
        states: u64,
    },
    /// Checked on every transition that is taken.
    Checked,
    /// Its `when` does not hold for this level.
    NotClaimed,
}

impl Kept {
    /// Whether it may answer "unsolvable" without a search.
    #[must_use]
    pub fn is_proved(self) -> bool {
        matches!(self, Kept::ProvedFromRules | Kept::ProvedByEnumeration { .. })
    }
}

/// A quantity that separates the position from every goal.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Separation {
    /// Its number in the model.
    pub keeps: usize,
    /// Its value here.
    pub here: i64,
    /// Its value wherever the goal holds.
    pub wanted: i64,
}

/// Typed states above which enumeration is not tried.
pub const ENUMERATE_MAX: u64 = 1 << 20;

/// What the rules alone prove of each quantity.
#[must_use]
pub fn from_rules(b: &Bound) -> Vec<Kept> {
    let mut effects = None;
    b.model.keeps.iter().map(|k| from_rules_of(b, k, &mut effects)).collect()
}

fn from_rules_of(b: &Bound, k: &Keeps, effects: &mut Option<Option<Effects>>) -> Kept {
    if !is_claimed(b, k) {
        Kept::NotClaimed
    } else if rules_keep(b, &k.quantity) || effects_keep(b, &k.quantity, effects) {
        Kept::ProvedFromRules
    } else {
        Kept::Checked
    }
}

/// What is known of each declared quantity of a game.
#[must_use]
pub fn kept(game: &Game) -> Vec<Kept> {
    from_rules(&game.bound)
}

/// The game of a bound model in which only those quantities are checked along the way that the rules do not prove.
///
/// # Errors
///
/// [`TooLarge`] when a limit is passed.
pub fn game_of(bound: Bound) -> Result<Game, TooLarge> {
    let mut game = Game::new(bound)?;
    game.checked = from_rules(&game.bound).iter().map(|k| *k == Kept::Checked).collect();
    game.numbering = Some(FindNumbers { likely: numbering, seen: numbering_seen });
    Ok(game)
}

/// Whether a quantity is a sum of weights that no effect of the moves changes. The effects are followed once.
fn effects_keep(b: &Bound, quantity: &Body, effects: &mut Option<Option<Effects>>) -> bool {
    let Some(form) = Form::of(b, quantity) else { return false };
    let effects = effects.get_or_insert_with(|| Effects::of(b, QUICK_WAYS, &mut || false));
    effects.as_ref().is_some_and(|e| form.is_kept_by(b, e))
}

/// The quantities whose value here differs from the one that the goal wants.
#[must_use]
pub fn separations(game: &Game) -> Vec<Separation> {
    let b = &game.bound;
    let mut out = vec![];
    for (i, k) in b.model.keeps.iter().enumerate() {
        if !is_claimed(b, k) {
            continue;
        }
        let Ok(here) = Eval::new(b).value_in(&k.quantity, &b.position) else { continue };
        let wanted = match &k.goal {
            Some(g) => Eval::new(b).value_in(g, &b.position).ok(),
            None => goal_state(b, &k.quantity.expr)
                .and_then(|state| Eval::new(b).value_in(&k.quantity, &state).ok()),
        };
        if let Some(wanted) = wanted.filter(|w| *w != here) {
            out.push(Separation { keeps: i, here, wanted });
        }
    }
    out
}

/// A proof from kept quantities that a position cannot be won.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Proof {
    /// A declared quantity, and how it is proved.
    Declared(Separation, Kept),
    /// Quantities that nobody declared, proved from the rules: one for each way in which the goal can hold, each once.
    Found(Vec<Apart>),
}

/// Looks for a proof from kept quantities, declared ones first; and for declared ones that would be a proof if they
/// were proved. At most `most` ways through the moves are followed. A game with several starts has none.
#[must_use]
pub fn proof(
    game: &Game,
    most: usize,
    stop: &mut dyn FnMut() -> bool,
) -> (Option<Proof>, Option<Separation>) {
    let b = &game.bound;
    let mut only_checked = None;
    if game.starts.len() > 1 {
        return (None, None);
    }
    for sep in separations(game) {
        let kept = match from_rules_of(b, &b.model.keeps[sep.keeps], &mut None) {
            Kept::Checked => enumerate(game, sep.keeps, stop).unwrap_or(Kept::Checked),
            other => other,
        };
        if kept.is_proved() {
            return (Some(Proof::Declared(sep, kept)), None);
        }
        only_checked.get_or_insert(sep);
    }
    (found(b, most, stop).map(Proof::Found), only_checked)
}

fn found(b: &Bound, most: usize, stop: &mut dyn FnMut() -> bool) -> Option<Vec<Apart>> {
    let ways = goal_ways(b).filter(|w| !w.is_empty() && w.len() <= GOALS_MAX)?;
    let effects = Effects::of(b, most, stop)?;
    let invariants = Invariants::new(b, &effects);
    let mut out: Vec<Apart> = vec![];
    for pins in &ways {
        let apart = invariants.separates(&b.position, pins, most > QUICK_WAYS)?;
        if !out.contains(&apart) {
            out.push(apart);
        }
    }
    Some(out)
}

/// Ways to win for which a separating quantity each is looked for.
const GOALS_MAX: usize = 64;

/// The position with everything that the goal pins down put to its wanted value, if the
/// quantity reads nothing else of the state.
fn goal_state(b: &Bound, quantity: &Expr) -> Option<Vec<i32>> {
    let model = &b.model;
    let mut goals = model.statuses.iter().filter(|s| model.endings[s.ending].kind == EndKind::Goal);
    let goal = goals.next()?;
    if goals.next().is_some() || model.wins_by_statement() {
        return None;
    }
    let mut state = b.position.clone();
    let mut pinned = vec![];
    let mut work = vec![&goal.cond.expr];
    while let Some(e) = work.pop() {
        match &e.kind {
            Ek::And(x, y) => work.extend([&**x, &**y]),
            Ek::SameBlock(x, y, Sameness::Same) | Ek::Cmp(Cmp::Eq, x, y) => {
                for (x, y) in [(x, y), (y, x)] {
                    let Ek::Var(When::Now, v) = x.kind else { continue };
                    if !model.vars[v].state {
                        continue;
                    }
                    let slot = &b.slots[v];
                    match y.kind {
                        Ek::Var(_, t) if !model.vars[t].state && b.slots[t].len == slot.len => {
                            let from = &b.slots[t];
                            state[slot.base..slot.base + slot.len]
                                .copy_from_slice(&b.data[from.base..from.base + from.len]);
                            pinned.push(v);
                        }
                        Ek::Const(k) => {
                            state[slot.base] = k as i32;
                            pinned.push(v);
                        }
                        _ => {}
                    }
                }
            }
            _ => {}
        }
    }
    let mut read = vec![];
    vars_read(model, quantity, &mut read);
    read.iter().all(|v| pinned.contains(v)).then_some(state)
}

/// The state variables that an expression reads.
fn vars_read(model: &Model, e: &Expr, out: &mut Vec<VarId>) {
    e.each(&mut |e| match &e.kind {
        Ek::Var(_, v) if model.vars[*v].state => out.push(*v),
        Ek::Call(f, _) => vars_read(model, &model.fns[*f].body, out),
        _ => {}
    });
}

// ---- proof from the rules ----

/// Where a symbol for a cell comes from: fixed while one move is made.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum Base {
    /// The one cell of a grid that holds a value, before the move.
    Holder(VarId, i64),
    /// A cell variable, before the move.
    Var(VarId),
    /// A parameter.
    Param(usize),
}

crate::model::frames!(Sym);

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Sym {
    Known(i64),
    /// A cell or place: base plus rows and columns.
    Cell(Base, i64, i64),
    /// A number variable as it was, plus a number.
    Number(VarId, i64),
    Unknown,
}

/// What has become of the state along one branch.
#[derive(Clone, Default)]
struct Path {
    /// Odd number of swaps, per grid; `None` when not known.
    parity: HashMap<VarId, Option<bool>>,
    /// Steps of the holders that have moved; `None` when lost sight of.
    holders: HashMap<(VarId, i64), Option<(i64, i64)>>,
    vars: HashMap<VarId, Sym>,
    /// Grids whose holders are not known any more.
    blurred: Vec<VarId>,
    env: Vec<Sym>,
}

const PATHS_MAX: usize = 2000;

struct Prover<'b> {
    b: &'b Bound,
    ends: Vec<Path>,
    gave_up: bool,
}

fn rules_keep(b: &Bound, quantity: &Body) -> bool {
    if !followed(&b.model) {
        return false;
    }
    let Ok(list) = move_list(b) else { return false };
    let mut seen = vec![];
    for (of, params) in list {
        let def = &b.model.moves[of];
        let key: Vec<Option<i64>> =
            params.iter().zip(&def.params).map(|(&p, d)| (!matches!(d, Dom::Cell)).then_some(p)).collect();
        if seen.contains(&(of, key.clone())) {
            continue;
        }
        if seen.len() > 256 {
            return false;
        }
        let mut env = vec![Sym::Unknown; def.locals.len()];
        for (i, k) in key.iter().enumerate() {
            env[i] = match k {
                Some(v) => Sym::Known(*v),
                None => Sym::Cell(Base::Param(i), 0, 0),
            };
        }
        seen.push((of, key));
        let mut p = Prover { b, ends: vec![], gave_up: false };
        let start = Path { env, ..Path::default() };
        let mut paths = p.block(&def.body, vec![start]);
        if let Some(after) = &b.model.after {
            for path in &mut paths {
                path.env = vec![Sym::Unknown; after.locals.len()];
            }
            paths = p.block(&after.body, paths);
        }
        p.ends.extend(paths);
        if p.gave_up {
            return false;
        }
        let ends = std::mem::take(&mut p.ends);
        if !ends.iter().all(|end| p.keeps(&quantity.expr, end)) {
            return false;
        }
    }
    true
}

impl Prover<'_> {
    fn block(&mut self, block: &[Stmt], mut paths: Vec<Path>) -> Vec<Path> {
        for stmt in block {
            let mut next = vec![];
            for path in paths {
                next.extend(self.stmt(stmt, path));
            }
            paths = next;
            if paths.len() > PATHS_MAX {
                self.gave_up = true;
                return vec![];
            }
        }
        paths
    }

    fn stmt(&mut self, stmt: &Stmt, mut path: Path) -> Vec<Path> {
        match &stmt.kind {
            St::Assign(target, value) => match target {
                Target::Local(l) => {
                    let v = self.eval(value, &path);
                    path.env[*l] = v;
                }
                Target::LocalAt(..) | Target::Entry(..) => {}
                Target::Var(v) if self.b.model.vars[*v].shape == Extent::One => {
                    let value = self.eval(value, &path);
                    path.vars.insert(*v, value);
                }
                Target::Var(v) | Target::VarAt(v, _) => blur(&mut path, *v),
            },
            St::Swap(a, b) => self.swap(a, b, &mut path),
            St::If(_, then, other) => {
                let mut out = self.block(then, vec![path.clone()]);
                out.extend(self.block(other, vec![path]));
                return out;
            }
            St::For { local, body, .. } => {
                path.env[*local] = Sym::Unknown;
                return self.looped(body, path);
            }
            St::Repeat { body, .. } => return self.looped(body, path),
            St::Phase(_, body) => return self.block(body, vec![path]),
            St::Judge => self.ends.push(path.clone()),
            St::End(_) => {
                self.ends.push(path);
                return vec![];
            }
            St::Call(p, args) => {
                let model = self.b.model.clone();
                let def = &model.procs[*p];
                let mut env = vec![Sym::Unknown; def.locals.len()];
                for (slot, a) in env.iter_mut().zip(args) {
                    *slot = self.eval(a, &path);
                }
                let outer = std::mem::replace(&mut path.env, env);
                let mut out = self.block(&def.body, vec![path]);
                for path in &mut out {
                    path.env.clone_from(&outer);
                }
                return out;
            }
            // A refused move changes nothing; the rest are no part of the state.
            St::Refuse { .. } | St::Note(..) | St::Score(_) | St::Tally(..) => {}
            // Models with any of these are not looked at: see `followed`.
            _ => self.gave_up = true,
        }
        vec![path]
    }

    /// A body that runs any number of times: all it assigns is unknown afterwards.
    fn looped(&mut self, body: &[Stmt], mut path: Path) -> Vec<Path> {
        fn forget(model: &Model, body: &[Stmt], path: &mut Path, own: bool) -> bool {
            let mut ends = false;
            for s in body {
                match &s.kind {
                    St::Assign(t, _) => forget_target(model, t, path, own),
                    St::Swap(a, b) => {
                        forget_target(model, a, path, own);
                        forget_target(model, b, path, own);
                    }
                    St::If(_, a, b) => {
                        ends |= forget(model, a, path, own);
                        ends |= forget(model, b, path, own);
                    }
                    St::For { body, .. } | St::Repeat { body, .. } | St::Phase(_, body) => {
                        ends |= forget(model, body, path, own);
                    }
                    St::Call(p, _) => ends |= forget(model, &model.procs[*p].body, path, false),
                    St::End(_) | St::Judge => ends = true,
                    _ => {}
                }
            }
            ends
        }
        fn forget_target(model: &Model, t: &Target, path: &mut Path, own: bool) {
            match t {
                Target::Local(l) if own => path.env[*l] = Sym::Unknown,
                Target::Var(v) if model.vars[*v].shape == Extent::One => {
                    path.vars.insert(*v, Sym::Unknown);
                }
                Target::Var(v) | Target::VarAt(v, _) => blur(path, *v),
                _ => {}
            }
        }
        let model = self.b.model.clone();
        if forget(&model, body, &mut path, true) {
            self.ends.push(path.clone());
        }
        vec![path]
    }

    fn swap(&mut self, a: &Target, b: &Target, path: &mut Path) {
        let (Target::VarAt(g, ia), Target::VarAt(h, ib)) = (a, b) else {
            for t in [a, b] {
                match t {
                    Target::Local(l) => path.env[*l] = Sym::Unknown,
                    Target::Var(v) => {
                        path.vars.insert(*v, Sym::Unknown);
                    }
                    Target::VarAt(v, _) => blur(path, *v),
                    Target::LocalAt(..) | Target::Entry(..) => {}
                }
            }
            return;
        };
        let (pa, pb) = (self.eval(ia, path), self.eval(ib, path));
        match (pa, pb) {
            (Sym::Cell(base, ra, ca), Sym::Cell(same, rb, cb)) if g == h && base == same => {
                if (ra, ca) == (rb, cb) {
                    return;
                }
                let odd = path.parity.entry(*g).or_insert(Some(false));
                *odd = odd.map(|o| !o);
                // Holders of this grid whose place is known relative to the swapped cells move or
                // stay; all others are lost sight of.
                let moved = match base {
                    Base::Holder(of, value) if of == *g => {
                        let now = match path.holders.get(&(of, value)) {
                            Some(at) => *at,
                            None if path.blurred.contains(g) => None,
                            None => Some((0, 0)),
                        };
                        now.map(|now| {
                            let to = if now == (ra, ca) {
                                (rb, cb)
                            } else if now == (rb, cb) {
                                (ra, ca)
                            } else {
                                now
                            };
                            ((of, value), to)
                        })
                    }
                    _ => None,
                };
                path.blurred.push(*g);
                for (key, at) in &mut path.holders {
                    if key.0 == *g {
                        *at = None;
                    }
                }
                if let Some((key, to)) = moved {
                    path.holders.insert(key, Some(to));
                }
            }
            _ => {
                blur(path, *g);
                blur(path, *h);
            }
        }
    }

    fn eval(&self, e: &Expr, path: &Path) -> Sym {
        match &e.kind {
            Ek::Const(v) => Sym::Known(*v),
            Ek::Local(l) => path.env[*l],
            Ek::Var(When::Now, v) => {
                let def = &self.b.model.vars[*v];
                if def.shape != Extent::One {
                    return Sym::Unknown;
                }
                if !def.state {
                    return Sym::Known(self.b.data[self.b.slots[*v].base].into());
                }
                path.vars.get(v).copied().unwrap_or(match def.dom.scalar() {
                    Scalar::Cell => Sym::Cell(Base::Var(*v), 0, 0),
                    Scalar::Int => Sym::Number(*v, 0),
                    _ => Sym::Unknown,
                })
            }
            Ek::ToCell(a) | Ek::ToPlace(a) | Ek::Within(a, _) => self.eval(a, path),
            Ek::DirOffset(a) => match self.eval(a, path) {
                Sym::Known(d) => {
                    let (r, c) = DIR_STEPS[d as usize];
                    Sym::Known(r * code::ROW + c)
                }
                _ => Sym::Unknown,
            },
            Ek::Shift(p, o, sense) => match (self.eval(p, path), self.eval(o, path)) {
                (Sym::Cell(base, r, c), Sym::Known(o)) => {
                    let (dr, dc) = code::offset_parts(o);
                    Sym::Cell(base, r + sense.signed(dr), c + sense.signed(dc))
                }
                _ => Sym::Unknown,
            },
            Ek::OffAdd(a, b, sense) => match (self.eval(a, path), self.eval(b, path)) {
                (Sym::Known(a), Sym::Known(b)) => Sym::Known(a + sense.signed(b)),
                _ => Sym::Unknown,
            },
            Ek::OffMul(a, b) => match (self.eval(a, path), self.eval(b, path)) {
                (Sym::Known(a), Sym::Known(b)) if b.abs() < 1000 => Sym::Known(a * b),
                _ => Sym::Unknown,
            },
            Ek::Arith(op @ (Arith::Add | Arith::Sub), a, b) => {
                let sign = if *op == Arith::Add { 1 } else { -1 };
                match (self.eval(a, path), self.eval(b, path)) {
                    (Sym::Known(a), Sym::Known(b)) => {
                        a.checked_add(sign * b).map_or(Sym::Unknown, Sym::Known)
                    }
                    (Sym::Number(v, a), Sym::Known(b)) => {
                        a.checked_add(sign * b).map_or(Sym::Unknown, |n| Sym::Number(v, n))
                    }
                    (Sym::Known(a), Sym::Number(v, b)) if sign == 1 => Sym::Number(v, a + b),
                    _ => Sym::Unknown,
                }
            }
            Ek::Call(f, args) => {
                let def = &self.b.model.fns[*f];
                let mut env = vec![Sym::Unknown; def.locals.len()];
                for (slot, a) in env.iter_mut().zip(args) {
                    *slot = self.eval(a, path);
                }
                self.eval(&def.body, &Path { env, ..path.clone() })
            }
            Ek::Quant(q) if q.kind == QuantKind::The && matches!(q.over, Range::Board) => {
                match q.filter.as_ref().map(|f| &f.kind) {
                    Some(Ek::Cmp(Cmp::Eq, a, b)) => {
                        let (Ek::Index(grid, i), Sym::Known(value)) = (&a.kind, self.eval(b, path)) else {
                            return Sym::Unknown;
                        };
                        let (Ek::Var(When::Now, g), Ek::Local(l)) = (&grid.kind, &i.kind) else {
                            return Sym::Unknown;
                        };
                        if *l != q.local || !self.b.model.vars[*g].state {
                            return Sym::Unknown;
                        }
                        match path.holders.get(&(*g, value)) {
                            Some(Some((r, c))) => Sym::Cell(Base::Holder(*g, value), *r, *c),
                            Some(None) => Sym::Unknown,
                            None if path.blurred.contains(g) => Sym::Unknown,
                            None => Sym::Cell(Base::Holder(*g, value), 0, 0),
                        }
                    }
                    _ => Sym::Unknown,
                }
            }
            _ => Sym::Unknown,
        }
    }

    /// Whether the quantity is the same before the move and at the end of the branch.
    fn keeps(&self, e: &Expr, end: &Path) -> bool {
        if let Ek::Arith(Arith::Mod, inner, m) = &e.kind
            && let Sym::Known(m) = self.eval(m, &Path::default())
            && m != 0
        {
            return self.change(inner, end, Some(m)).is_some_and(|d| d.rem_euclid(m) == 0);
        }
        self.change(e, end, None) == Some(0)
    }

    /// By how much a sum changes along a branch, modulo `modulus` where there is one.
    fn change(&self, e: &Expr, end: &Path, modulus: Option<i64>) -> Option<i64> {
        let start = Path { env: end.env.clone(), ..Path::default() };
        match &e.kind {
            Ek::Const(_) => Some(0),
            Ek::Arith(op @ (Arith::Add | Arith::Sub), a, b) => {
                let sign = if *op == Arith::Add { 1 } else { -1 };
                self.change(a, end, modulus)?.checked_add(sign * self.change(b, end, modulus)?)
            }
            Ek::Arith(Arith::Mul, a, b) => match (self.eval(a, &start), self.eval(b, &start)) {
                (Sym::Known(k), _) => self.change(b, end, modulus)?.checked_mul(k),
                (_, Sym::Known(k)) => self.change(a, end, modulus)?.checked_mul(k),
                _ => None,
            },
            Ek::Neg(a) => self.change(a, end, modulus)?.checked_neg(),
            Ek::Builtin(Builtin::Parity, args) => {
                let Ek::Var(When::Now, g) = args[0].kind else { return None };
                match end.parity.get(&g).copied().unwrap_or(Some(false))? {
                    false => Some(0),
                    // Odd to even is -1, even to odd is +1: the same only modulo 2.
                    true => (modulus.map(i64::abs) == Some(2)).then_some(1),
                }
            }
            Ek::Builtin(op @ (Builtin::Row | Builtin::Col), args) => {
                match (self.eval(&args[0], &start), self.eval(&args[0], end)) {
                    (Sym::Cell(a, r0, c0), Sym::Cell(b, r1, c1)) if a == b => {
                        Some(if *op == Builtin::Row { r1 - r0 } else { c1 - c0 })
                    }
                    _ => None,
                }
            }
            _ => match (self.eval(e, &start), self.eval(e, end)) {
                (Sym::Known(a), Sym::Known(b)) if a == b => Some(0),
                (Sym::Number(v, a), Sym::Number(w, b)) if v == w => b.checked_sub(a),
                _ => None,
            },
        }
    }
}

/// Whether all that a model does is followed here: no draws, lists, lanes or ticks.
fn followed(model: &Model) -> bool {
    fn plain(block: &[Stmt]) -> bool {
        block.iter().all(|s| match &s.kind {
            St::Assign(t, _) => !matches!(t, Target::Entry(..)),
            St::Swap(a, b) => ![a, b].iter().any(|t| matches!(t, Target::Entry(..))),
            St::If(_, a, b) => plain(a) && plain(b),
            St::For { body, .. } | St::Repeat { body, .. } | St::Phase(_, body) => plain(body),
            St::Refuse { .. }
            | St::Judge
            | St::End(_)
            | St::Note(..)
            | St::Score(_)
            | St::Tally(..)
            | St::Call(..) => true,
            _ => false,
        })
    }
    model.ticks.is_empty()
        && model.moves.iter().all(|m| plain(&m.body))
        && model.procs.iter().all(|p| plain(&p.body))
        && model.after.iter().all(|p| plain(&p.body))
}

/// A block was changed in a way that is not followed.
fn blur(path: &mut Path, var: VarId) {
    path.parity.insert(var, None);
    path.blurred.push(var);
    for (key, at) in &mut path.holders {
        if key.0 == var {
            *at = None;
        }
    }
}

// ---- proof by enumeration ----

/// Runs every typed state through every move, if there are at most [`ENUMERATE_MAX`].
/// `None` when there are more, when a move changes the quantity, when the model breaks on one, or
/// when `stop`, which is asked now and then, says so.
#[must_use]
pub fn enumerate(game: &Game, keeps: usize, stop: &mut dyn FnMut() -> bool) -> Option<Kept> {
    let b = &game.bound;
    if b.model.ends_by_statement || !game.code.points.is_empty() {
        return None;
    }
    let total = b.codec.states_len().filter(|&n| n <= ENUMERATE_MAX)?;
    let (clean, changed, _) = game.code.keeps[keeps];
    let mut machine = Machine::new(b, &game.code);
    let mut words = vec![0; b.codec.layout().words()];
    for number in 0..total {
        if number % 4096 == 4095 && stop() {
            return None;
        }
        b.codec.nth(number, &mut words);
        machine.load(&words);
        let value = machine.ask(clean).ok()?;
        for m in 0..game.code.moves.len() {
            if machine.try_move(m).ok()? == Halt::Done && machine.ask_as_is(changed).ok()? != value {
                return None;
            }
        }
    }
    Some(Kept::ProvedByEnumeration { states: total })
}
