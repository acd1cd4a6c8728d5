//! Checked tree to intermediate form, for one bound model.
//!
//! Functions and procedures are laid in where they are called (nothing recurses), level values
//! become constants, and a move gets one program for each value of its small parameters. What a
//! function without arguments finds in a state is remembered until the state is about to
//! change, since several moves ask for it.

use std::collections::HashMap;

use crate::ast::QuantKind;
use crate::bind::Bound;
use crate::diag::Span;
use crate::hir::*;
use crate::ir::*;
use crate::reference::{Eval, FaultKind, KEPT_MAX, WEIGHT_MAX};

/// Most operations of one model.
pub const OPS_MAX: usize = 1 << 21;
/// Most moves with their parameters filled in.
pub const MOVES_MAX: u64 = 1 << 16;
/// Most programs for one move.
const VARIANTS_MAX: u64 = 64;
/// Loops over at most this many known things are written out.
const UNROLL_MAX: usize = 8;

/// Why a bound model has no code.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TooLarge {
    /// More moves than can be numbered.
    Moves {
        /// How many there would be.
        given: u64,
    },
    /// More operations than are allowed.
    Operations,
}

type Label = u32;

/// An operand: known now, or in a register.
#[derive(Clone, Copy, Debug, PartialEq)]
enum O {
    K(i64),
    R(R),
}

#[derive(Clone, Copy, Debug)]
enum Local {
    Unset,
    Val(O),
    Var(R),
    Block(M),
    /// A list, and how many entries it may hold now.
    List {
        number: u16,
        limit: O,
    },
}

/// A list that an operation works on: its address, and what is known of it.
#[derive(Clone, Copy)]
struct ListAt {
    addr: R,
    number: u16,
    limit: O,
}

struct Lower<'b> {
    b: &'b Bound,
    code: Code,
    entry: usize,
    labels: Vec<Option<u32>>,
    sites: HashMap<FaultSite, Site>,
    memos: HashMap<(usize, Vec<i64>), u16>,
    doms: HashMap<(i32, i32, bool), u16>,
    frame: Vec<Local>,
    mutable: Vec<bool>,
    next: u16,
    /// Nothing of the state has been changed yet on any way here.
    clean: bool,
    /// Places that are known to be cells here, and the registers that hold the cells.
    cells: Vec<(R, R)>,
    unrolled: usize,
    start: u32,
    finish: Label,
    full: bool,
    /// The program draws: scratch must not remember what other branches left there.
    draws: bool,
}

/// Makes and verifies the code of a bound model.
///
/// # Errors
///
/// [`TooLarge`] when a limit is passed.
///
/// # Panics
///
/// When the code does not verify: that is a mistake in this module.
pub fn lower(b: &Bound) -> Result<Code, TooLarge> {
    let data = b.data.len() as u32;
    let state = b.start.len() as u32;
    let code = Code {
        before: data + state,
        now: data + 2 * state,
        state_len: state,
        memory: data + 3 * state,
        cells: b.cells() as u32,
        ..Code::default()
    };
    let mut l = Lower::new(b, code);
    l.shape_tables();
    l.moves()?;
    l.code.status = l.status_program("status", true);
    l.code.status_changed = l.status_program("status of a changed state", false);
    l.code.laws = l.law_program();
    l.keeps();
    if let Some(what) = b.model.aim.as_ref().and_then(|a| a.what.as_ref()) {
        l.begin(&what.locals, true);
        let s = l.value(&what.expr);
        let s = l.reg(s);
        l.emit(Op::Give { s });
        l.code.aim = Some(l.end("aim".into(), vec![]));
    }
    for (v, def) in b.model.vars.iter().enumerate().filter(|(_, d)| d.rearranged.is_some()) {
        let site = l.site(FaultKind::NotRearranged, def.span);
        l.code.pack_sites.push((v, site));
    }
    for spread in &b.model.spreads {
        let site = l.site(FaultKind::NotSpread, spread.span);
        l.code.pack_sites.push((spread.var, site));
    }
    if l.full {
        return Err(TooLarge::Operations);
    }
    l.code.memos = l.memos.len() as u32;
    l.code.find_live();
    if let Err(bad) = l.code.verify() {
        panic!("the code does not verify:\n{}\n{}", bad.join("\n"), l.code.print());
    }
    Ok(l.code)
}

/// The code with one program more: it gives whether a condition holds in a loaded state. `None` when the
/// condition asks what only an analysis or the moves can answer, or passes the limits.
#[must_use]
pub fn with_condition(b: &Bound, code: &Code, body: &Body) -> Option<(Code, u32)> {
    let mut l = Lower::new(b, code.clone());
    l.sites = code.sites.iter().enumerate().map(|(i, s)| (*s, Site(i as u32))).collect();
    // What other programs remember is not numbered here: nothing is remembered.
    l.begin(&body.locals, false);
    let s = l.value(&body.expr);
    let s = l.reg(s);
    l.emit(Op::Give { s });
    let program = l.end("condition".into(), vec![]);
    (!l.full && l.code.verify().is_ok()).then_some((l.code, program))
}

/// The code with programs more: for each thing that can be told, in the order of
/// [`Eval::tell_elements`], one that gives its value, or `none` where it is not told.
///
/// # Errors
///
/// [`TooLarge::Operations`].
pub fn with_tells(b: &Bound, code: &Code) -> Result<(Code, Vec<u32>), TooLarge> {
    let mut l = Lower::new(b, code.clone());
    l.sites = code.sites.iter().enumerate().map(|(i, s)| (*s, Site(i as u32))).collect();
    let mut programs = vec![];
    for tell in &b.model.tells {
        let none = Expr { kind: Ek::Const(NONE), ty: tell.value.ty, span: tell.span };
        let told = match &tell.filter {
            None => tell.value.clone(),
            Some(f) => {
                let parts = (Box::new(f.clone()), Box::new(tell.value.clone()), Box::new(none));
                Expr { kind: Ek::Cond(parts.0, parts.1, parts.2), ty: tell.value.ty, span: tell.span }
            }
        };
        for x in Eval::new(b).tell_elements(tell) {
            l.begin(&tell.locals, false);
            if let Some((local, _)) = &tell.over {
                l.frame[*local] = Local::Val(O::K(x));
            }
            let s = l.value(&told);
            let s = l.reg(s);
            l.emit(Op::Give { s });
            programs.push(l.end("told".into(), vec![]));
        }
    }
    if l.full || l.code.verify().is_err() {
        return Err(TooLarge::Operations);
    }
    Ok((l.code, programs))
}

/// All moves with their parameters filled in, in move order: (move, parameters).
///
/// # Errors
///
/// [`TooLarge::Moves`] when there are too many.
pub fn move_list(b: &Bound) -> Result<Vec<(usize, Vec<i64>)>, TooLarge> {
    let mut out = vec![];
    let mut total = 0u64;
    for (of, def) in b.model.moves.iter().enumerate() {
        let ranges: Vec<(i64, i64)> = def.params.iter().map(|d| range_of(b, d)).collect();
        let count = ranges
            .iter()
            .try_fold(1u64, |n, (lo, hi)| n.checked_mul((hi - lo + 1).max(0) as u64))
            .unwrap_or(u64::MAX);
        total = total.saturating_add(count);
        if total > MOVES_MAX {
            return Err(TooLarge::Moves { given: total });
        }
        for mut n in 0..count {
            let mut params = vec![0; ranges.len()];
            for (p, (lo, hi)) in params.iter_mut().zip(&ranges).rev() {
                let len = (hi - lo + 1) as u64;
                *p = lo + (n % len) as i64;
                n /= len;
            }
            out.push((of, params));
        }
    }
    Ok(out)
}

fn range_of(b: &Bound, dom: &Dom) -> (i64, i64) {
    let mut eval = Eval::new(b);
    match dom {
        Dom::Range(lo, hi) => (eval.lone(lo).unwrap_or(0), eval.lone(hi).unwrap_or(-1)),
        Dom::Maybe(inner) => range_of(b, inner),
        _ => b.plain_range(dom),
    }
}

/// Whether a block draws on this level, itself or in a procedure.
fn draws(b: &Bound, block: &[Stmt]) -> bool {
    block.iter().any(|s| match &s.kind {
        St::Draw { .. } => true,
        St::If(cond, then, other) => match known(b, cond) {
            Some(1) => draws(b, then),
            Some(_) => draws(b, other),
            None => draws(b, then) || draws(b, other),
        },
        St::For { body, .. } | St::Repeat { body, .. } | St::Phase(_, body) => draws(b, body),
        St::Call(p, _) => draws(b, &b.model.procs[*p].body),
        _ => false,
    })
}

/// Whether the level alone decides an expression.
fn level_only(model: &Model, e: &Expr) -> bool {
    match &e.kind {
        Ek::Const(_) | Ek::Builtin(Builtin::Rows | Builtin::Cols, _) => true,
        Ek::Var(_, v) => !model.vars[*v].state && model.vars[*v].shape == Shape::One,
        Ek::Not(a) | Ek::Neg(a) => level_only(model, a),
        Ek::Arith(_, a, b) | Ek::Cmp(_, a, b) | Ek::And(a, b) | Ek::Or(a, b) => {
            level_only(model, a) && level_only(model, b)
        }
        Ek::Builtin(Builtin::ListLen, args) => {
            matches!(args[0].kind, Ek::Var(_, v) if !model.vars[v].state)
        }
        _ => false,
    }
}

/// The value of an expression that the level alone decides.
fn known(b: &Bound, e: &Expr) -> Option<i64> {
    // The left side may decide alone; the right one may not, since the left could break.
    match &e.kind {
        Ek::And(x, _) if known(b, x) == Some(0) => return Some(0),
        Ek::And(x, y) if known(b, x).is_some() => return known(b, y),
        Ek::Or(x, y) if known(b, x) == Some(0) => return known(b, y),
        Ek::Or(x, _) if known(b, x).is_some() => return Some(1),
        _ => {}
    }
    if level_only(&b.model, e) { Eval::new(b).lone(e).ok() } else { None }
}

/// Whether a target is a part of the state.
fn is_state(target: &Target) -> bool {
    match target {
        Target::Var(_) | Target::VarAt(..) => true,
        Target::Entry(list, _) => !matches!(list, ListRef::Local(_)),
        Target::Local(_) | Target::LocalAt(..) => false,
    }
}

/// Whether a block can change the state.
fn changes_state(block: &[Stmt]) -> bool {
    block.iter().any(|s| match &s.kind {
        St::Assign(t, _) => is_state(t),
        St::Swap(a, b) => is_state(a) || is_state(b),
        St::If(_, a, b) => changes_state(a) || changes_state(b),
        St::For { body, .. } | St::Repeat { body, .. } | St::Phase(_, body) => changes_state(body),
        St::Draw { into, rest, other, .. } => {
            into.is_some() || changes_state(rest) || other.as_ref().is_some_and(|o| changes_state(o))
        }
        St::Push(l, _) | St::Pop(l) | St::Clear(l) | St::Drop(l, _) => !matches!(l, ListRef::Local(_)),
        St::Take(_, a, b) => [a, b].iter().any(|l| !matches!(l, ListRef::Local(_))),
        St::Write { into, .. } | St::CutOut { into, .. } | St::Insert { into, .. } => {
            !matches!(into, Target::Local(_))
        }
        St::End(_) | St::Call(..) => true,
        _ => false,
    })
}

/// Whether an expression takes more than a few operations.
fn heavy(e: &Expr) -> bool {
    match &e.kind {
        Ek::Quant(_) | Ek::Flood(_) | Ek::InList(..) | Ek::Can(_) | Ek::Leads(..) | Ek::Asked(_) => true,
        Ek::Builtin(b, _) => matches!(b, Builtin::Parity | Builtin::Distinct),
        Ek::Call(_, args) => !args.is_empty(),
        _ => e.parts().into_iter().any(heavy),
    }
}

impl<'b> Lower<'b> {
    /// Goes on with some code; the empty one at first.
    fn new(b: &'b Bound, code: Code) -> Lower<'b> {
        Lower {
            b,
            code,
            entry: 0,
            labels: vec![],
            sites: HashMap::new(),
            memos: HashMap::new(),
            doms: HashMap::new(),
            frame: vec![],
            mutable: vec![],
            next: 0,
            clean: true,
            cells: vec![],
            unrolled: 1,
            start: b.data.len() as u32,
            finish: 0,
            full: false,
            draws: false,
        }
    }
}

impl Lower<'_> {
    // ---- small parts ----

    fn site(&mut self, kind: FaultKind, span: Span) -> Site {
        let site = FaultSite { kind, span };
        if let Some(&s) = self.sites.get(&site) {
            return s;
        }
        let s = Site(self.code.sites.len() as u32);
        self.code.sites.push(site);
        self.sites.insert(site, s);
        s
    }

    fn emit(&mut self, op: Op) {
        if self.code.ops.len() >= OPS_MAX {
            self.full = true;
            return;
        }
        self.code.ops.push(op);
    }

    fn fresh(&mut self) -> R {
        let r = R(self.next);
        if self.next == u16::MAX {
            self.full = true;
        } else {
            self.next += 1;
        }
        self.code.registers = self.code.registers.max(u32::from(self.next) + 1);
        r
    }

    fn scratch(&mut self, len: usize) -> M {
        let m = M(self.code.memory);
        if len > 0 {
            self.code.scratch.push((m.0, len as u32));
        }
        self.code.memory += len as u32;
        if self.code.memory > 1 << 26 {
            self.full = true;
            self.code.memory = 1 << 26;
        }
        m
    }

    /// Scratch for a list of numbers that is filled by `Push`.
    fn pushed(&mut self, room: usize) -> M {
        let len = 2 * room.max(1);
        let d = self.scratch(len);
        if self.draws {
            self.emit(Op::Reset { d, len: len as u32 });
        }
        d
    }

    fn shape_tables(&mut self) {
        for (s, def) in self.b.model.shapes.iter().enumerate() {
            let (rows, cols) = self.b.shape_sides(s);
            let all = def
                .all
                .iter()
                .map(|&(shape, turn)| {
                    let turns = def.shapes[shape].turns.len() as i64;
                    (shape as i64, turn as i64, def.firsts[shape] as i64, turns)
                })
                .collect();
            let cells = def
                .all
                .iter()
                .map(|&(shape, turn)| {
                    def.shapes[shape].turns[turn].iter().map(|(r, c)| r * code::ROW + c).collect()
                })
                .collect();
            let firsts = def.firsts.iter().map(|&f| f as i64).collect();
            self.code.shapes.push(ShapeTable { rows, cols, margin: def.margin, all, cells, firsts });
        }
    }

    fn known(&self, e: &Expr) -> Option<i64> {
        known(self.b, e)
    }

    fn point(&mut self, span: Span) -> u16 {
        let too_fine = self.site(FaultKind::TooFine, span);
        let too_many = self.site(FaultKind::TooManyOutcomes, span);
        if self.code.points.len() >= usize::from(u16::MAX) {
            self.full = true;
            return 0;
        }
        self.code.points.push(Point { regs: vec![], blocks: vec![], too_fine, too_many });
        self.code.points.len() as u16 - 1
    }

    // ---- lists ----

    fn list_number(&mut self, info: ListInfo) -> u16 {
        if let Some(i) = self.code.lists.iter().position(|l| *l == info) {
            return i as u16;
        }
        if self.code.lists.len() >= usize::from(u16::MAX) {
            self.full = true;
            return 0;
        }
        self.code.lists.push(info);
        self.code.lists.len() as u16 - 1
    }

    /// What is known of a variable that is a list or several.
    fn var_list(&mut self, v: usize, region: u32, puts: bool) -> (u16, usize) {
        let slot = self.b.slots[v].clone();
        let bag = matches!(self.b.model.vars[v].shape, Shape::List(true) | Shape::Lists(_, true));
        let cap = if slot.active { slot.cap } else { 0 };
        let info = ListInfo {
            base: M(region + slot.base as u32),
            len: slot.len as u32,
            cap: cap as u32,
            pad: slot.pad() as i32,
            lo: slot.lo as i32,
            hi: slot.hi as i32,
            maybe: slot.maybe,
            bag,
            puts,
        };
        (self.list_number(info), slot.cap)
    }

    fn local_list(&mut self, cap: usize) -> u16 {
        let len = cap + 1;
        let base = self.scratch(len);
        let info = ListInfo {
            base,
            len: len as u32,
            cap: cap as u32,
            pad: 0,
            lo: i32::MIN,
            hi: i32::MAX,
            maybe: true,
            bag: false,
            puts: false,
        };
        self.list_number(info)
    }

    fn list_at(&mut self, number: u16, offset: O, limit: O) -> ListAt {
        let base = i64::from(self.code.lists[usize::from(number)].base.0);
        let addr = match offset {
            O::K(k) => self.reg(O::K(base + k)),
            O::R(b) => {
                let a = self.reg(O::K(base));
                let d = self.fresh();
                self.emit(Op::Sum { d, a, b });
                d
            }
        };
        ListAt { addr, number, limit }
    }

    /// The list that an expression is.
    fn list_of(&mut self, e: &Expr) -> ListAt {
        match &e.kind {
            Ek::Var(when, v) => {
                let (region, puts) = self.region(*when, *v);
                let (number, cap) = self.var_list(*v, region, puts);
                self.list_at(number, O::K(0), O::K(cap as i64))
            }
            Ek::Index(block, index) => {
                let Ek::Var(when, v) = &block.kind else { return self.no_list() };
                let key = self.value(index);
                let (region, puts) = self.region(*when, *v);
                let (number, cap) = self.var_list(*v, region, puts);
                let offset = self.stride(key, cap + 1);
                self.list_at(number, offset, O::K(cap as i64))
            }
            Ek::Local(l) => match self.frame[*l] {
                Local::List { number, limit } => self.list_at(number, O::K(0), limit),
                _ => self.no_list(),
            },
            Ek::Quant(q) => self.comprehension(q, e.span),
            Ek::Within(inner, dom) => {
                let at = self.list_of(inner);
                let (lo, hi) = range_of(self.b, dom);
                let narrow = |v: i64| v.clamp(i32::MIN.into(), i32::MAX.into()) as i32;
                let maybe = matches!(dom, Dom::Maybe(_));
                let info = self.code.lists[usize::from(at.number)];
                let list = self.list_number(ListInfo { lo: narrow(lo), hi: narrow(hi), maybe, ..info });
                let site = self.site(FaultKind::OutOfDomain, e.span);
                self.emit(Op::ListCheck { s: at.addr, list, site });
                at
            }
            _ => self.no_list(),
        }
    }

    /// Stands for a list where the checker has found something else.
    fn no_list(&mut self) -> ListAt {
        let number = self.local_list(0);
        self.list_at(number, O::K(0), O::K(0))
    }

    fn stride(&mut self, key: O, by: usize) -> O {
        match inside(key, 1 << 16) {
            O::K(k) => O::K(k * by as i64),
            O::R(a) => {
                let b = self.reg(O::K(by as i64));
                // Keys are checked: this cannot overflow.
                let site = Site(0);
                self.ensure_site();
                self.unary(|d| Op::Mul { d, a, b, site })
            }
        }
    }

    fn ensure_site(&mut self) {
        if self.code.sites.is_empty() {
            self.site(FaultKind::Overflow, Span::default());
        }
    }

    fn region(&self, when: When, v: usize) -> (u32, bool) {
        match (self.b.model.vars[v].state, when) {
            (false, _) => (0, false),
            (true, When::Now) => (self.code.now, true),
            (true, When::Before) => (self.code.before, false),
            (true, When::Start) => (self.start, false),
        }
    }

    fn list_ref(&mut self, list: &ListRef) -> ListAt {
        match list {
            ListRef::Local(l) => match self.frame[*l] {
                Local::List { number, limit } => self.list_at(number, O::K(0), limit),
                _ => self.no_list(),
            },
            ListRef::Var(v) => {
                let (number, cap) = self.var_list(*v, self.code.now, true);
                self.list_at(number, O::K(0), O::K(cap as i64))
            }
            ListRef::VarAt(v, key) => {
                let key = self.value(key);
                let (number, cap) = self.var_list(*v, self.code.now, true);
                let offset = self.stride(key, cap + 1);
                self.list_at(number, offset, O::K(cap as i64))
            }
        }
    }

    fn touched(&mut self, list: ListAt) {
        if self.code.lists[usize::from(list.number)].puts {
            self.clean = false;
        }
    }

    fn list_len(&mut self, list: ListAt) -> R {
        let d = self.fresh();
        self.emit(Op::LoadFrom { d, a: list.addr, list: list.number });
        d
    }

    fn entry_addr(&mut self, list: ListAt, i: R) -> R {
        let d = self.fresh();
        self.emit(Op::Sum { d, a: list.addr, b: i });
        d
    }

    /// The entry's number from 1, known to be there.
    fn spot(&mut self, list: ListAt, spot: &Spot, span: Span) -> R {
        let n = self.list_len(list);
        match spot {
            Spot::At(e) => {
                let i = self.value(e);
                let i = self.reg(i);
                let site = self.site(FaultKind::NoEntry, e.span);
                self.emit(Op::CheckEntry { i, n, site });
                i
            }
            Spot::First | Spot::Last => {
                let ok = self.label();
                self.emit(Op::JumpIf { a: n, to: To(ok) });
                let site = self.site(FaultKind::ListEmpty, span);
                self.emit(Op::Fault { site });
                self.here(ok);
                if matches!(spot, Spot::Last) { n } else { self.reg(O::K(1)) }
            }
        }
    }

    /// The span that an empty list is reported at.
    fn list_span(&self, list: &ListRef) -> Span {
        match list {
            ListRef::VarAt(_, e) => e.span,
            ListRef::Var(v) => self.b.model.vars[*v].span,
            ListRef::Local(_) => Span::default(),
        }
    }

    /// Breaks with the value of `report` unless `n <= most`.
    fn at_most(&mut self, n: R, most: R, report: R, kind: FaultKind, span: Span) {
        let ok = self.label();
        self.emit(Op::JumpLe { a: n, b: most, to: To(ok) });
        let site = self.site(kind, span);
        self.emit(Op::FaultWith { s: report, site });
        self.here(ok);
    }

    /// Breaks unless `n` entries are within the bound of a local list.
    fn check_limit(&mut self, n: R, limit: O, span: Span) {
        let limit = self.reg(limit);
        self.at_most(n, limit, limit, FaultKind::ListFull, span);
    }

    fn comprehension(&mut self, q: &Quant, span: Span) -> ListAt {
        let room = self.room(&q.over);
        let number = self.local_list(room);
        let info = self.code.lists[usize::from(number)];
        self.emit(Op::Reset { d: info.base, len: info.len });
        let list = self.list_at(number, O::K(0), O::K(room as i64));
        let range = self.site(FaultKind::OutOfDomain, span);
        let full = self.site(FaultKind::ListFull, span);
        self.each(q.local, &q.over, None, q.filter.as_ref(), span, &mut |l, _| {
            let v = match &q.body {
                Some(body) => l.value(body),
                None => l.local_value(q.local),
            };
            let v = l.reg(v);
            l.emit(Op::Check { s: v, lo: i32::MIN, hi: i32::MAX, site: range });
            l.emit(Op::ListAdd { a: list.addr, v, list: number, site: full });
        });
        list
    }

    /// Most things that a range can hold.
    fn room(&self, over: &Range) -> usize {
        match over {
            Range::Board | Range::Cells(_) => self.b.cells(),
            Range::Around(_, o) | Range::Offsets(o) => o.len(),
            Range::Dirs(n) => usize::from(*n),
            Range::Enum(e) => self.b.model.enums[*e].values.len(),
            Range::Lanes(_) | Range::Lane(_) => self.b.rows.max(self.b.cols),
            Range::Ints(lo, hi) => match (self.known(lo), self.known(hi)) {
                (Some(lo), Some(hi)) => hi.saturating_sub(lo).saturating_add(1).clamp(0, KEPT_MAX) as usize,
                _ => KEPT_MAX as usize,
            },
            Range::List(e) => self.list_room(e),
            Range::Covered(_) => {
                self.code.shapes.iter().flat_map(|s| s.cells.iter().map(Vec::len)).max().unwrap_or(0)
            }
        }
    }

    fn list_room(&self, e: &Expr) -> usize {
        match &e.kind {
            Ek::Var(_, v) => self.b.slots[*v].cap,
            Ek::Index(block, _) => self.list_room(block),
            Ek::Local(l) => match self.frame[*l] {
                Local::List { number, .. } => self.code.lists[usize::from(number)].cap as usize,
                _ => 0,
            },
            Ek::Quant(q) => self.room(&q.over),
            Ek::Within(inner, _) => self.list_room(inner),
            _ => 0,
        }
    }

    fn label(&mut self) -> Label {
        self.labels.push(None);
        self.labels.len() as u32 - 1
    }

    fn here(&mut self, label: Label) {
        self.labels[label as usize] = Some(self.code.ops.len() as u32);
    }

    fn begin(&mut self, locals: &[LocalDef], clean: bool) {
        self.entry = self.code.ops.len();
        self.labels.clear();
        self.next = 0;
        self.clean = clean;
        self.cells.clear();
        self.unrolled = 1;
        self.enter(locals);
        self.finish = self.label();
    }

    fn enter(&mut self, locals: &[LocalDef]) {
        self.frame = vec![Local::Unset; locals.len()];
        self.mutable = locals.iter().map(|l| l.mutable).collect();
    }

    fn end(&mut self, name: String, params: Vec<R>) -> u32 {
        let labels = std::mem::take(&mut self.labels);
        let at = |to: &mut To| to.0 = labels[to.0 as usize].unwrap_or(0);
        for op in &mut self.code.ops[self.entry..] {
            match op {
                Op::Jump { to }
                | Op::JumpIf { to, .. }
                | Op::JumpUnless { to, .. }
                | Op::JumpEq { to, .. }
                | Op::JumpNe { to, .. }
                | Op::JumpLt { to, .. }
                | Op::JumpLe { to, .. }
                | Op::Loop { to, .. }
                | Op::LoopTo { to, .. }
                | Op::CellOr { to, .. }
                | Op::NextIn { to, .. }
                | Op::NextEq { to, .. }
                | Op::Recall { to, .. } => at(to),
                _ => {}
            }
        }
        let program = Program { name, entry: self.entry as u32, end: self.code.ops.len() as u32, params };
        self.code.programs.push(program);
        self.code.programs.len() as u32 - 1
    }

    /// Lays in a body with its own names, and returns to the caller's.
    fn inlined<T>(&mut self, locals: &[LocalDef], args: Vec<Local>, f: impl FnOnce(&mut Self) -> T) -> T {
        let frame = std::mem::take(&mut self.frame);
        let mutable = std::mem::take(&mut self.mutable);
        self.enter(locals);
        self.frame[..args.len()].copy_from_slice(&args);
        let out = f(self);
        self.frame = frame;
        self.mutable = mutable;
        out
    }

    fn reg(&mut self, o: O) -> R {
        match o {
            O::R(r) => r,
            O::K(v) => {
                let d = self.fresh();
                self.emit(Op::Const { d, v });
                d
            }
        }
    }

    fn copy(&mut self, o: O) -> R {
        let d = self.fresh();
        match o {
            O::R(s) => self.emit(Op::Copy { d, s }),
            O::K(v) => self.emit(Op::Const { d, v }),
        }
        d
    }

    // ---- programs ----

    fn moves(&mut self) -> Result<(), TooLarge> {
        let list = move_list(self.b)?;
        let model = self.b.model.clone();
        let mut programs: HashMap<(usize, Vec<Option<i64>>), u32> = HashMap::new();
        for (of, params) in list {
            let def = &model.moves[of];
            // Small parameters are known in the code, large ones come in registers.
            let mut variants = 1u64;
            let fixed: Vec<bool> = def
                .params
                .iter()
                .map(|d| {
                    let (lo, hi) = range_of(self.b, d);
                    let len = (hi - lo + 1) as u64;
                    let fits = !matches!(d, Dom::Cell) && variants * len <= VARIANTS_MAX;
                    if fits {
                        variants *= len;
                    }
                    fits
                })
                .collect();
            let key: Vec<Option<i64>> = params.iter().zip(&fixed).map(|(&p, &f)| f.then_some(p)).collect();
            let program = match programs.get(&(of, key.clone())) {
                Some(&p) => p,
                None => {
                    let p = self.move_program(def, &key);
                    programs.insert((of, key), p);
                    p
                }
            };
            let args = params.iter().zip(&fixed).filter(|(_, f)| !**f).map(|(&p, _)| p).collect();
            self.code.moves.push(MoveEntry { of: of as u32, program, args, params });
            if self.full {
                return Err(TooLarge::Operations);
            }
        }
        Ok(())
    }

    fn move_program(&mut self, def: &MoveDef, key: &[Option<i64>]) -> u32 {
        let model = self.b.model.clone();
        self.draws = draws(self.b, &def.body)
            || model.after.as_ref().is_some_and(|a| draws(self.b, &a.body))
            || model.ticks.iter().any(|t| draws(self.b, &t.body.body));
        self.begin(&def.locals, true);
        let of = model.moves.iter().position(|m| m.span == def.span).unwrap_or(0);
        let mut params = vec![];
        for (i, k) in key.iter().enumerate() {
            self.frame[i] = match k {
                Some(v) => Local::Val(O::K(*v)),
                None => {
                    let r = self.fresh();
                    params.push(r);
                    Local::Val(O::R(r))
                }
            };
        }
        if !def.offers.is_empty() {
            let no = self.label();
            let yes = self.label();
            for offer in &def.offers {
                self.cond(offer, no, false);
            }
            self.emit(Op::Jump { to: To(yes) });
            self.here(no);
            self.emit(Op::NotOffered {});
            self.here(yes);
        }
        self.block(&def.body);
        if let Some(after) = &model.after {
            self.inlined(&after.locals, vec![], |l| l.block(&after.body));
        }
        for tick in model.ticks.iter().filter(|t| t.on.is_none_or(|m| m == of)) {
            self.tick(tick);
        }
        let finish = self.finish;
        self.here(finish);
        self.emit(Op::Done {});
        self.draws = false;
        let words: Vec<String> = key
            .iter()
            .zip(&def.params)
            .map(|(k, d)| k.map_or("_".to_string(), |v| self.b.scalar_text(d.scalar(), v, false)))
            .collect();
        self.end(format!("move {} {}", def.name, words.join(" ")).trim_end().to_string(), params)
    }

    fn tick(&mut self, tick: &TickDef) {
        let Some((clock, every)) = &tick.clock else {
            return self.inlined(&tick.body.locals, vec![], |l| l.block(&tick.body.body));
        };
        let at = M(self.code.now + self.b.slots[*clock].base as u32);
        let every = Eval::new(self.b).lone(every).unwrap_or(1);
        let (skip, end) = (self.label(), self.label());
        let n = self.load(at, O::K(0));
        self.emit(Op::Inc { d: n });
        let every = self.reg(O::K(every));
        self.clean = false;
        self.emit(Op::JumpLt { a: n, b: every, to: To(skip) });
        let zero = self.reg(O::K(0));
        self.emit(Op::PutAt { to: at, s: zero });
        self.inlined(&tick.body.locals, vec![], |l| l.block(&tick.body.body));
        self.emit(Op::Jump { to: To(end) });
        self.here(skip);
        self.emit(Op::PutAt { to: at, s: n });
        self.here(end);
    }

    fn status_program(&mut self, name: &str, clean: bool) -> u32 {
        self.begin(&[], clean);
        let model = self.b.model.clone();
        for s in &model.statuses {
            let next = self.label();
            self.inlined(&s.cond.locals, vec![], |l| l.cond(&s.cond.expr, next, false));
            let s = self.reg(O::K(s.ending as i64 + 1));
            self.emit(Op::Give { s });
            self.here(next);
        }
        let s = self.reg(O::K(0));
        self.emit(Op::Give { s });
        self.end(name.into(), vec![])
    }

    fn law_program(&mut self) -> u32 {
        self.begin(&[], true);
        let model = self.b.model.clone();
        for (i, law) in model.always.iter().enumerate() {
            let site = self.site(FaultKind::AlwaysBroken, law.span);
            self.code.law_sites.push(site);
            let next = self.label();
            self.inlined(&law.cond.locals, vec![], |l| l.cond(&law.cond.expr, next, true));
            let s = self.reg(O::K(i as i64 + 1));
            self.emit(Op::Give { s });
            self.here(next);
        }
        let s = self.reg(O::K(0));
        self.emit(Op::Give { s });
        self.end("laws".into(), vec![])
    }

    fn keeps(&mut self) {
        let model = self.b.model.clone();
        for (i, keeps) in model.keeps.iter().enumerate() {
            let site = self.site(FaultKind::KeepsBroken, keeps.span);
            let mut programs = [0; 2];
            for (clean, program) in [true, false].into_iter().zip(&mut programs) {
                self.begin(&keeps.quantity.locals, clean);
                let s = self.value(&keeps.quantity.expr);
                let s = self.reg(s);
                self.emit(Op::Give { s });
                let changed = if clean { "" } else { " of a changed state" };
                *program = self.end(format!("kept quantity {}{changed}", i + 1), vec![]);
            }
            self.code.keeps.push((programs[0], programs[1], site));
        }
    }

    // ---- statements ----

    /// Lays in what does not run on every way from here: what it learns about places is forgotten.
    fn sometimes<T>(&mut self, f: impl FnOnce(&mut Self) -> T) -> T {
        let known = self.cells.len();
        let out = f(self);
        self.cells.truncate(known);
        out
    }

    fn block(&mut self, block: &[Stmt]) {
        self.sometimes(|l| l.statements(block));
    }

    fn statements(&mut self, block: &[Stmt]) {
        let frame = self.frame.clone();
        let next = self.next;
        for stmt in block {
            if self.full {
                return;
            }
            self.stmt(stmt);
        }
        self.frame = frame;
        // Registers are used again, so nothing may be known of them.
        self.cells.retain(|(p, c)| p.0 < next && c.0 < next);
        self.next = next;
    }

    fn stmt(&mut self, stmt: &Stmt) {
        let span = stmt.span;
        match &stmt.kind {
            St::Assign(target, value) => self.assign_stmt(target, value, span),
            St::Swap(a, b) => {
                let ia = self.index_of(a);
                let ib = self.index_of(b);
                let va = self.read(a, ia);
                let vb = self.read(b, ib);
                self.write(a, ia, O::R(vb), span);
                self.write(b, ib, O::R(va), span);
            }
            St::If(cond, then, other) if self.known(cond).is_some() => {
                // The level alone decides: what it leaves out is not there.
                self.block(if self.known(cond) == Some(1) { then } else { other });
            }
            St::If(cond, then, other) => {
                let (no, end) = (self.label(), self.label());
                self.cond(cond, no, false);
                let clean = self.clean;
                self.block(then);
                let after_then = self.clean;
                if !other.is_empty() {
                    self.emit(Op::Jump { to: To(end) });
                }
                self.here(no);
                self.clean = clean;
                self.block(other);
                self.here(end);
                self.clean &= after_then;
            }
            St::For { local, over, filter, body } => self.for_stmt(*local, over, filter.as_ref(), body, span),
            St::Repeat { bound, cond, body, cut } => {
                let bound = self.value(bound);
                let bound = self.copy(bound);
                if changes_state(body) {
                    self.clean = false;
                }
                let known = self.cells.len();
                let done = self.copy(O::K(0));
                let (top, exit, go) = (self.label(), self.label(), self.label());
                self.here(top);
                self.cond(cond, exit, false);
                self.emit(Op::JumpLt { a: done, b: bound, to: To(go) });
                if *cut {
                    self.emit(Op::Cut {});
                } else {
                    let site = self.site(FaultKind::RepeatBound, span);
                    self.emit(Op::FaultWith { s: bound, site });
                }
                self.here(go);
                self.emit(Op::Inc { d: done });
                self.block(body);
                self.merge(body, span);
                let site = self.site(FaultKind::StepBudget, span);
                self.emit(Op::Loop { to: To(top), site });
                self.here(exit);
                self.cells.truncate(known);
            }
            St::Phase(_, body) => {
                self.block(body);
                self.merge(body, span);
            }
            St::Draw { local, from, into, rest, other } => {
                self.draw(*local, from, into.as_ref(), rest, other.as_deref(), span);
            }
            St::NewList { local, value, max } => self.new_list(*local, value.as_ref(), max, span),
            St::Push(list, value) => {
                let v = self.value(value);
                let v = self.reg(v);
                let list = self.list_ref(list);
                self.push(list, v, span);
            }
            St::Pop(list) => {
                let list = self.list_ref(list);
                let i = self.spot(list, &Spot::Last, span);
                self.touched(list);
                self.emit(Op::ListDrop { a: list.addr, i, list: list.number });
            }
            St::Clear(list) => {
                let list = self.list_ref(list);
                let empty = self.local_list(0);
                let info = self.code.lists[usize::from(empty)];
                self.emit(Op::Reset { d: info.base, len: info.len });
                let s = self.reg(O::K(info.base.0.into()));
                self.touched(list);
                let site = self.site(FaultKind::ListFull, span);
                self.emit(Op::ListCopy { d: list.addr, s, list: list.number, from: empty, site });
            }
            St::Drop(list, value) => {
                let v = self.value(value);
                let v = self.reg(v);
                let list = self.list_ref(list);
                let i = self.fresh();
                self.emit(Op::ListFind { d: i, a: list.addr, v, list: list.number });
                let ok = self.label();
                self.emit(Op::JumpIf { a: i, to: To(ok) });
                let site = self.site(FaultKind::NotInList, span);
                self.emit(Op::FaultWith { s: v, site });
                self.here(ok);
                self.touched(list);
                self.emit(Op::ListDrop { a: list.addr, i, list: list.number });
            }
            St::Take(count, from, onto) => {
                let n = self.value(count);
                let n = self.reg(n);
                let from = self.list_ref(from);
                let onto = self.list_ref(onto);
                let len = self.list_len(from);
                let (ok, bad) = (self.label(), self.label());
                let zero = self.reg(O::K(0));
                self.emit(Op::JumpLt { a: n, b: zero, to: To(bad) });
                self.emit(Op::JumpLe { a: n, b: len, to: To(ok) });
                self.here(bad);
                let site = self.site(FaultKind::NoEntry, span);
                self.emit(Op::FaultWith { s: n, site });
                self.here(ok);
                self.touched(from);
                self.touched(onto);
                let room = self.code.lists[usize::from(from.number)].cap as usize;
                let to = self.pushed(room);
                self.emit(Op::ListTail { s: from.addr, n, to, list: from.number });
                let have = self.list_len(onto);
                let sum = self.fresh();
                self.emit(Op::Sum { d: sum, a: have, b: n });
                self.check_limit(sum, onto.limit, span);
                let site = self.site(FaultKind::ListFull, span);
                let check = self.site(FaultKind::OutOfDomain, span);
                self.emit(Op::ListJoin { d: onto.addr, n, from: to, list: onto.number, site });
                self.emit(Op::ListCheck { s: onto.addr, list: onto.number, site: check });
            }
            St::Write { parts, fill, into, along } => self.write_lane(parts, fill, into, along, span),
            St::CutOut { local, columns, filter, into, fill, from } => {
                self.cut_out(*local, *columns, filter, into, (fill, from), span);
            }
            St::Insert { row, into, at, from } => self.insert_lane(row, into, at, from, span),
            // Starts are drawn by the reference executor.
            St::Require(..) => {}
            St::Refuse { site, at, unless } => {
                let ok = self.label();
                if let Some(e) = unless {
                    self.cond(e, ok, true);
                }
                self.sometimes(|l| {
                    for e in at {
                        if e.ty.is_block() {
                            let (base, _) = l.block_of(e);
                            l.emit(Op::RefuseIn { base });
                        } else {
                            let p = l.value(e);
                            let p = l.reg(p);
                            l.emit(Op::RefuseAt { p });
                        }
                    }
                });
                self.emit(Op::Refuse { which: *site as u32 });
                self.here(ok);
            }
            St::Judge => {
                let model = self.b.model.clone();
                let finish = self.finish;
                for s in &model.statuses {
                    self.inlined(&s.cond.locals, vec![], |l| l.cond(&s.cond.expr, finish, true));
                }
            }
            St::End(ending) => {
                self.clean = false;
                let s = self.reg(O::K(*ending as i64 + 1));
                let to = M(self.code.now + self.code.state_len - 1);
                self.emit(Op::PutAt { to, s });
                self.emit(Op::Jump { to: To(self.finish) });
            }
            St::Note(_, at) => {
                if let Some(e) = at {
                    self.value(e);
                }
            }
            St::Score(e) => {
                let s = self.value(e);
                let s = self.reg(s);
                let site = self.site(FaultKind::Overflow, span);
                self.emit(Op::Score { s, site });
            }
            St::Tally(_, e) => {
                self.value(e);
            }
            St::Call(p, args) => {
                let model = self.b.model.clone();
                let def = &model.procs[*p];
                let args = self.args(args);
                self.inlined(&def.locals, args, |l| l.block(&def.body));
            }
        }
    }

    fn merge(&mut self, body: &[Stmt], span: Span) {
        if self.draws && draws(self.b, body) {
            let point = self.point(span);
            self.emit(Op::Merge { point });
        }
    }

    fn draw(
        &mut self,
        local: usize,
        from: &DrawFrom,
        into: Option<&Target>,
        rest: &[Stmt],
        other: Option<&[Stmt]>,
        span: Span,
    ) {
        let least = self.reg(O::K(0));
        let count = self.copy(O::K(0));
        let push_weight = |l: &mut Self, w: &Expr, skip: Label, weights: M, n: R| {
            let v = l.value(w);
            let s = l.reg(v);
            let site = l.site(FaultKind::BadWeight, w.span);
            l.emit(Op::Check { s, lo: 0, hi: WEIGHT_MAX as i32, site });
            l.emit(Op::JumpLe { a: s, b: least, to: To(skip) });
            l.emit(Op::Push { d: n, base: weights, s });
        };
        let (base, weights) = match from {
            DrawFrom::Range { over, filter, weight } => {
                let room = self.room(over);
                let base = self.pushed(room);
                let weights = match weight {
                    Some(_) => self.pushed(room),
                    None => M(0),
                };
                self.each(local, over, None, filter.as_ref(), span, &mut |l, _| {
                    let skip = l.label();
                    if let Some(w) = weight {
                        let n = l.copy(O::R(count));
                        push_weight(l, w, skip, weights, n);
                    }
                    let o = l.local_value(local);
                    let s = l.reg(o);
                    l.emit(Op::Push { d: count, base, s });
                    l.here(skip);
                });
                (base, weights)
            }
            DrawFrom::Values(values) => {
                let (base, weights) = (self.pushed(values.len()), self.pushed(values.len()));
                for (v, w) in values {
                    let v = self.value(v);
                    let s = self.reg(v);
                    let skip = self.label();
                    self.sometimes(|l| {
                        let n = l.copy(O::R(count));
                        push_weight(l, w, skip, weights, n);
                        l.emit(Op::Push { d: count, base, s });
                    });
                    self.here(skip);
                }
                (base, weights)
            }
        };
        let (go, end) = (self.label(), self.label());
        self.emit(Op::JumpIf { a: count, to: To(go) });
        let clean = self.clean;
        match other {
            Some(other) => {
                self.block(other);
                self.emit(Op::Jump { to: To(end) });
            }
            None => {
                let site = self.site(FaultKind::NothingToDraw, span);
                self.emit(Op::Fault { site });
            }
        }
        self.here(go);
        let left = std::mem::replace(&mut self.clean, clean);
        let d = self.fresh();
        let point = self.point(span);
        self.emit(Op::Draw { d, n: count, base, weights, point });
        self.frame[local] = Local::Val(O::R(d));
        if let Some(into) = into {
            let i = self.index_of(into);
            self.write(into, i, O::R(d), span);
        }
        if other.is_some() {
            self.block(rest);
        }
        self.here(end);
        self.clean &= left;
    }

    fn new_list(&mut self, local: usize, value: Option<&Expr>, max: &Expr, span: Span) {
        let value = value.map(|e| self.list_of(e));
        let max_value = self.value(max);
        let room = match max_value {
            O::K(k) => k.clamp(0, crate::bind::LIST_MAX) as usize,
            // Only the lengths of lanes and lists are not known before.
            O::R(_) => self.b.rows.max(self.b.cols).max(64),
        };
        let limit = match max_value {
            O::K(k) if (0..=crate::bind::LIST_MAX).contains(&k) => O::K(k),
            o => {
                let s = self.copy(o);
                let site = self.site(FaultKind::OutOfDomain, span);
                self.emit(Op::Check { s, lo: 0, hi: crate::bind::LIST_MAX as i32, site });
                O::R(s)
            }
        };
        let number = self.local_list(room);
        let info = self.code.lists[usize::from(number)];
        self.emit(Op::Reset { d: info.base, len: info.len });
        if let Some(from) = value {
            let n = self.list_len(from);
            self.check_limit(n, limit, span);
            let d = self.reg(O::K(info.base.0.into()));
            let site = self.site(FaultKind::ListFull, span);
            self.emit(Op::ListCopy { d, s: from.addr, list: number, from: from.number, site });
        }
        self.frame[local] = Local::List { number, limit };
    }

    fn push(&mut self, list: ListAt, v: R, span: Span) {
        let info = self.code.lists[usize::from(list.number)];
        let n = self.list_len(list);
        let ok = self.label();
        let limit = self.reg(list.limit);
        self.emit(Op::JumpLt { a: n, b: limit, to: To(ok) });
        let full = self.site(FaultKind::ListFull, span);
        self.emit(Op::FaultWith { s: limit, site: full });
        self.here(ok);
        self.touched(list);
        let range = self.site(FaultKind::OutOfDomain, span);
        if info.puts {
            self.emit(Op::ListAdd { a: list.addr, v, list: list.number, site: full });
            self.emit(Op::ListCheck { s: list.addr, list: list.number, site: range });
        } else {
            self.emit(Op::Check { s: v, lo: i32::MIN, hi: i32::MAX, site: range });
            self.emit(Op::ListAdd { a: list.addr, v, list: list.number, site: full });
        }
    }

    /// Stores one value of a grid: a variable or a local one.
    fn write_cell(&mut self, into: &Target, cell: R, v: R, span: Span) {
        let target = match into {
            Target::Var(v) => Target::VarAt(*v, Expr { kind: Ek::Const(0), ty: Ty::Cell, span }),
            Target::Local(l) => Target::LocalAt(*l, Expr { kind: Ek::Const(0), ty: Ty::Cell, span }),
            _ => return,
        };
        self.write(&target, O::R(cell), O::R(v), span);
    }

    fn write_lane(&mut self, parts: &[Expr], fill: &Expr, into: &Target, along: &Expr, span: Span) {
        let lane = self.value(along);
        let lane = self.copy(lane);
        // All values are known before the first is written.
        let sides = self.b.rows.max(self.b.cols);
        let room: usize = parts.iter().map(|p| if p.ty.is_block() { self.list_room(p) } else { 1 }).sum();
        let base = self.pushed(room.max(sides));
        let count = self.copy(O::K(0));
        let burn = self.site(FaultKind::StepBudget, span);
        for p in parts {
            if p.ty.is_block() {
                let list = self.list_of(p);
                let n = self.list_len(list);
                let n = self.copy(O::R(n));
                let k = self.copy(O::K(0));
                let (top, exit) = (self.label(), self.label());
                self.here(top);
                self.emit(Op::JumpLe { a: n, b: k, to: To(exit) });
                self.emit(Op::Inc { d: k });
                let a = self.entry_addr(list, k);
                let s = self.fresh();
                self.emit(Op::LoadFrom { d: s, a, list: list.number });
                self.emit(Op::Push { d: count, base, s });
                self.emit(Op::Loop { to: To(top), site: burn });
                self.here(exit);
            } else {
                let v = self.value(p);
                let s = self.reg(v);
                self.emit(Op::Push { d: count, base, s });
            }
        }
        let fill = self.value(fill);
        let fill = self.reg(fill);
        let len = self.fresh();
        self.emit(Op::LaneLen { d: len, a: lane });
        self.at_most(count, len, count, FaultKind::WrittenTooLong, span);
        let k = self.copy(O::K(0));
        let (top, exit, filling, store) = (self.label(), self.label(), self.label(), self.label());
        self.here(top);
        self.emit(Op::JumpLe { a: len, b: k, to: To(exit) });
        let cell = self.fresh();
        self.emit(Op::LaneCell { d: cell, a: lane, i: k });
        let v = self.fresh();
        self.emit(Op::JumpLe { a: count, b: k, to: To(filling) });
        self.emit(Op::Entry { d: v, base, i: k });
        self.emit(Op::Jump { to: To(store) });
        self.here(filling);
        self.emit(Op::Copy { d: v, s: fill });
        self.here(store);
        self.write_cell(into, cell, v, span);
        self.emit(Op::Inc { d: k });
        self.emit(Op::Loop { to: To(top), site: burn });
        self.here(exit);
    }

    /// The grid that is written, as it is now.
    fn grid_of(&self, into: &Target) -> Option<M> {
        match into {
            Target::Var(v) => Some(M(self.code.now + self.b.slots[*v].base as u32)),
            Target::Local(l) => match self.frame[*l] {
                Local::Block(m) => Some(m),
                _ => None,
            },
            _ => None,
        }
    }

    fn put_grid(&mut self, into: &Target, d: M, s: M) {
        let len = self.b.cells() as u32;
        if matches!(into, Target::Var(_)) {
            self.clean = false;
            self.emit(Op::PutBlock { d, s, len });
        } else {
            self.emit(Op::CopyBlock { d, s, len });
        }
    }

    /// Breaks unless a value may stand in the grid.
    fn check_cell(&mut self, into: &Target, s: R, span: Span) {
        let site = self.site(FaultKind::OutOfDomain, span);
        if let Target::Var(v) = into {
            let slot = self.b.slots[*v].clone();
            self.check_slot(&slot, s, site);
        }
    }

    fn check_slot(&mut self, slot: &crate::bind::Slot, s: R, site: Site) {
        if !slot.active {
            let pad = slot.pad() as i32;
            self.emit(Op::Check { s, lo: pad, hi: pad, site });
            return;
        }
        let fine = self.label();
        if slot.maybe {
            let none = self.reg(O::K(NONE));
            self.emit(Op::JumpEq { a: s, b: none, to: To(fine) });
        }
        self.emit(Op::Check { s, lo: slot.lo as i32, hi: slot.hi as i32, site });
        self.here(fine);
    }

    fn cut_out(
        &mut self,
        local: usize,
        columns: bool,
        filter: &Expr,
        into: &Target,
        (fill, from): (&Expr, &Expr),
        span: Span,
    ) {
        let lines = if columns { self.b.cols } else { self.b.rows };
        let gone = self.scratch(lines.max(1));
        self.emit(Op::Reset { d: gone, len: lines.max(1) as u32 });
        let dir = Expr { kind: Ek::Const(if columns { 0 } else { 3 }), ty: Ty::Dir, span };
        let k = self.copy(O::K(0));
        let any = self.copy(O::K(0));
        let one = self.reg(O::K(1));
        self.each(local, &Range::Lanes(dir), None, None, span, &mut |l, _| {
            let skip = l.label();
            l.cond(filter, skip, false);
            l.emit(Op::Store { base: gone, i: k, s: one });
            l.emit(Op::Copy { d: any, s: one });
            l.here(skip);
            l.emit(Op::Inc { d: k });
        });
        let fill = self.value(fill);
        let fill = self.copy(fill);
        let (low, high) = if columns { (3, 1) } else { (0, 2) };
        let at_low = match from.kind {
            Ek::Const(d) if d == low => true,
            Ek::Const(d) if d == high => false,
            _ => return,
        };
        let Some(s) = self.grid_of(into) else { return };
        // Nothing comes in where nothing is taken out.
        let end = self.label();
        self.emit(Op::JumpUnless { a: any, to: To(end) });
        self.check_cell(into, fill, span);
        let d = self.scratch(self.b.cells());
        let flags = u8::from(columns) | u8::from(at_low) << 1;
        self.emit(Op::CutLanes { d, s, gone, fill, flags });
        self.put_grid(into, s, d);
        self.here(end);
    }

    fn insert_lane(&mut self, row: &Expr, into: &Target, at: &Expr, from: &Expr, span: Span) {
        let list = self.list_of(row);
        let lane = self.value(at);
        let lane = self.copy(lane);
        let Ek::Const(from) = from.kind else { return };
        let Some(s) = self.grid_of(into) else { return };
        // Rows are opened from up or down, columns from left or right.
        let vertical = self.fresh();
        self.emit(Op::LaneVertical { d: vertical, a: lane });
        let want = self.reg(O::K(i64::from(from == 1 || from == 3)));
        let right_way = self.label();
        self.emit(Op::JumpEq { a: vertical, b: want, to: To(right_way) });
        let site = self.site(FaultKind::OutOfDomain, span);
        let wrong = self.reg(O::K(from));
        self.emit(Op::FaultWith { s: wrong, site });
        self.here(right_way);
        let n = self.list_len(list);
        let len = self.fresh();
        self.emit(Op::LaneLen { d: len, a: lane });
        let fits = self.label();
        self.emit(Op::JumpEq { a: n, b: len, to: To(fits) });
        let site = self.site(FaultKind::WrittenTooLong, span);
        self.emit(Op::FaultWith { s: n, site });
        self.here(fits);
        let d = self.scratch(self.b.cells());
        let flags = u8::from(from == 0 || from == 3) << 1;
        self.emit(Op::OpenLane { d, s, lane, flags });
        let k = self.copy(O::K(0));
        let (top, exit) = (self.label(), self.label());
        let burn = self.site(FaultKind::StepBudget, span);
        self.here(top);
        self.emit(Op::JumpLe { a: len, b: k, to: To(exit) });
        let cell = self.fresh();
        self.emit(Op::LaneCell { d: cell, a: lane, i: k });
        self.emit(Op::Inc { d: k });
        let a = self.entry_addr(list, k);
        let v = self.fresh();
        self.emit(Op::LoadFrom { d: v, a, list: list.number });
        self.check_cell(into, v, span);
        self.emit(Op::Store { base: d, i: cell, s: v });
        self.emit(Op::Loop { to: To(top), site: burn });
        self.here(exit);
        self.put_grid(into, s, d);
    }

    fn args(&mut self, args: &[Expr]) -> Vec<Local> {
        args.iter().map(|a| Local::Val(self.value(a))).collect()
    }

    fn for_stmt(&mut self, local: usize, over: &Range, filter: Option<&Expr>, body: &[Stmt], span: Span) {
        if filter.is_none() {
            // What is run over is fixed before the body can change it.
            let fixed = match over {
                Range::Cells(set) if !matches!(set.kind, Ek::Flood(_)) => {
                    let (s, len) = self.block_of(set);
                    let d = self.scratch(len);
                    self.emit(Op::CopyBlock { d, s, len: len as u32 });
                    Some(d)
                }
                Range::List(list) if !matches!(list.kind, Ek::Quant(_)) => {
                    let from = self.list_of(list);
                    let info = self.code.lists[usize::from(from.number)];
                    let copy = self.local_list(info.cap as usize);
                    let info = self.code.lists[usize::from(copy)];
                    let d = self.reg(O::K(info.base.0.into()));
                    let site = self.site(FaultKind::ListFull, span);
                    self.emit(Op::ListCopy { d, s: from.addr, list: copy, from: from.number, site });
                    Some(info.base)
                }
                _ => None,
            };
            if changes_state(body) {
                self.clean = false;
            }
            self.each(local, over, fixed, None, span, &mut |l, _| l.block(body));
            return;
        }
        let room = self.room(over);
        let base = self.pushed(room);
        let count = self.copy(O::K(0));
        let ints = matches!(over, Range::Ints(..));
        self.each(local, over, None, filter, span, &mut |l, _| {
            if ints {
                let most = l.reg(O::K(KEPT_MAX));
                let ok = l.label();
                l.emit(Op::JumpLt { a: count, b: most, to: To(ok) });
                let over = l.reg(O::K(KEPT_MAX + 1));
                let site = l.site(FaultKind::LoopTooLong, span);
                l.emit(Op::FaultWith { s: over, site });
                l.here(ok);
            }
            let o = l.local_value(local);
            let s = l.reg(o);
            l.emit(Op::Push { d: count, base, s });
        });
        if changes_state(body) {
            self.clean = false;
        }
        let k = self.copy(O::K(0));
        let (top, exit) = (self.label(), self.label());
        self.here(top);
        self.emit(Op::JumpLe { a: count, b: k, to: To(exit) });
        let d = self.fresh();
        self.emit(Op::Entry { d, base, i: k });
        self.frame[local] = Local::Val(O::R(d));
        self.block(body);
        self.emit(Op::Inc { d: k });
        let site = self.site(FaultKind::StepBudget, span);
        self.emit(Op::Loop { to: To(top), site });
        self.here(exit);
    }

    fn local_value(&mut self, l: usize) -> O {
        match self.frame[l] {
            Local::Val(o) => o,
            Local::Var(r) => O::R(r),
            // A name that is read before it is set does not pass the checker.
            Local::Unset | Local::Block(_) | Local::List { .. } => O::K(0),
        }
    }

    fn assign_stmt(&mut self, target: &Target, value: &Expr, span: Span) {
        if matches!(value.ty, Ty::List(..)) {
            return self.assign_list(target, value, span);
        }
        if let (Ty::Lists(..), Target::Var(v)) = (value.ty, target) {
            // List by list, since bounds may differ.
            let Ek::Var(when, from) = value.kind else { return };
            let keys = self.b.slots[*v].len / (self.b.slots[*v].cap + 1);
            for key in 0..keys as i64 {
                let (region, puts) = self.region(when, from);
                let (number, cap) = self.var_list(from, region, puts);
                let s = self.list_at(number, O::K(key * (cap as i64 + 1)), O::K(cap as i64));
                let (number, cap) = self.var_list(*v, self.code.now, true);
                let d = self.list_at(number, O::K(key * (cap as i64 + 1)), O::K(cap as i64));
                self.copy_list(d, s, span);
            }
            return;
        }
        if value.ty.is_block() {
            let (s, len) = self.block_of(value);
            match target {
                Target::Local(l) => {
                    let d = match self.frame[*l] {
                        Local::Block(d) => d,
                        _ => {
                            let d = self.scratch(len);
                            self.frame[*l] = Local::Block(d);
                            d
                        }
                    };
                    if d != s {
                        self.emit(Op::CopyBlock { d, s, len: len as u32 });
                    }
                }
                Target::Var(v) => {
                    let slot = &self.b.slots[*v];
                    let (lo, hi) = if slot.active { (slot.lo, slot.hi) } else { (slot.pad(), slot.pad()) };
                    let maybe = slot.maybe && slot.active;
                    let d = M(self.code.now + slot.base as u32);
                    let dom = self.dom_id(lo, hi, maybe);
                    let site = self.site(FaultKind::OutOfDomain, span);
                    self.emit(Op::CheckBlock { base: s, len: len as u32, dom, site });
                    self.clean = false;
                    if d != s {
                        self.emit(Op::PutBlock { d, s, len: len as u32 });
                    }
                }
                _ => {}
            }
            return;
        }
        let o = self.value(value);
        match target {
            Target::Local(l) if self.mutable[*l] => {
                let d = match self.frame[*l] {
                    Local::Var(r) => r,
                    _ => {
                        let r = self.fresh();
                        self.frame[*l] = Local::Var(r);
                        r
                    }
                };
                match o {
                    O::R(s) => self.emit(Op::Copy { d, s }),
                    O::K(v) => self.emit(Op::Const { d, v }),
                }
            }
            Target::Local(l) => {
                // A name for a variable's register must not change with it.
                let o = match (&value.kind, o) {
                    (Ek::Local(_) | Ek::Within(..), O::R(_)) => O::R(self.copy(o)),
                    _ => o,
                };
                self.frame[*l] = Local::Val(o);
            }
            _ => {
                let i = self.index_of(target);
                self.write(target, i, o, span);
            }
        }
    }

    fn copy_list(&mut self, d: ListAt, s: ListAt, span: Span) {
        let n = self.list_len(s);
        self.check_limit(n, d.limit, span);
        self.touched(d);
        let site = self.site(FaultKind::ListFull, span);
        let range = self.site(FaultKind::OutOfDomain, span);
        self.emit(Op::ListCopy { d: d.addr, s: s.addr, list: d.number, from: s.number, site });
        self.emit(Op::ListCheck { s: d.addr, list: d.number, site: range });
    }

    fn assign_list(&mut self, target: &Target, value: &Expr, span: Span) {
        let from = self.list_of(value);
        let list = match target {
            Target::Var(v) => self.list_ref(&ListRef::Var(*v)),
            Target::VarAt(v, key) => self.list_ref(&ListRef::VarAt(*v, key.clone())),
            Target::Local(l) => match self.frame[*l] {
                Local::List { .. } => self.list_ref(&ListRef::Local(*l)),
                _ => {
                    // A name for a list: a copy, since what it names may change.
                    let cap = self.code.lists[usize::from(from.number)].cap as usize;
                    let number = self.local_list(cap);
                    self.frame[*l] = Local::List { number, limit: O::K(cap as i64) };
                    self.list_at(number, O::K(0), O::K(cap as i64))
                }
            },
            _ => return,
        };
        self.copy_list(list, from, span);
    }

    fn dom_id(&mut self, lo: i64, hi: i64, maybe: bool) -> u16 {
        let key = (lo as i32, hi as i32, maybe);
        if let Some(&d) = self.doms.get(&key) {
            return d;
        }
        let d = self.code.doms.len() as u16;
        self.code.doms.push(key);
        self.doms.insert(key, d);
        d
    }

    fn index_of(&mut self, target: &Target) -> O {
        match target {
            Target::LocalAt(_, e) => self.value(e),
            Target::VarAt(v, e) => inside(self.value(e), self.b.slots[*v].len),
            Target::Entry(list, spot) => {
                let at = self.list_ref(list);
                let span = self.list_span(list);
                let i = self.spot(at, spot, span);
                O::R(self.entry_addr(at, i))
            }
            _ => O::K(0),
        }
    }

    fn entry_list(&mut self, list: &ListRef) -> u16 {
        match list {
            ListRef::Local(l) => match self.frame[*l] {
                Local::List { number, .. } => number,
                _ => 0,
            },
            ListRef::Var(v) | ListRef::VarAt(v, _) => self.var_list(*v, self.code.now, true).0,
        }
    }

    fn base_of(&self, target: &Target) -> Option<M> {
        match target {
            Target::Var(v) | Target::VarAt(v, _) => Some(M(self.code.now + self.b.slots[*v].base as u32)),
            Target::LocalAt(l, _) => match self.frame[*l] {
                Local::Block(m) => Some(m),
                _ => None,
            },
            Target::Local(_) | Target::Entry(..) => None,
        }
    }

    fn read(&mut self, target: &Target, index: O) -> R {
        match (self.base_of(target), target) {
            (Some(base), _) => self.load(base, index),
            (None, Target::Local(l)) => {
                let o = self.local_value(*l);
                self.copy(o)
            }
            (None, Target::Entry(list, _)) => {
                let list = self.entry_list(list);
                let a = self.reg(index);
                let d = self.fresh();
                self.emit(Op::LoadFrom { d, a, list });
                d
            }
            _ => self.copy(O::K(0)),
        }
    }

    fn load(&mut self, base: M, index: O) -> R {
        let d = self.fresh();
        match index {
            O::K(k) => self.emit(Op::LoadAt { d, from: M(base.0 + k as u32) }),
            O::R(i) => self.emit(Op::Load { d, base, i }),
        }
        d
    }

    fn write(&mut self, target: &Target, index: O, value: O, span: Span) {
        if let Target::Local(l) = target {
            let d = match self.frame[*l] {
                Local::Var(r) => r,
                _ => return,
            };
            match value {
                O::R(s) => self.emit(Op::Copy { d, s }),
                O::K(v) => self.emit(Op::Const { d, v }),
            }
            return;
        }
        if let Target::Entry(list, _) = target {
            let number = self.entry_list(list);
            let info = self.code.lists[usize::from(number)];
            let (a, s) = (self.reg(index), self.reg(value));
            let site = self.site(FaultKind::OutOfDomain, span);
            let fine = self.label();
            if info.maybe && info.puts {
                let none = self.reg(O::K(NONE));
                self.emit(Op::JumpEq { a: s, b: none, to: To(fine) });
            }
            self.emit(Op::Check { s, lo: info.lo, hi: info.hi, site });
            self.here(fine);
            if info.puts {
                self.clean = false;
            }
            self.emit(Op::PutInto { a, s, list: number });
            return;
        }
        let Some(base) = self.base_of(target) else { return };
        let s = self.reg(value);
        if let Target::Var(v) | Target::VarAt(v, _) = target {
            let slot = self.b.slots[*v].clone();
            if !matches!(value, O::K(k) if slot.holds(k)) && !self.fits(*v, slot.lo, slot.hi, slot.active) {
                let site = self.site(FaultKind::OutOfDomain, span);
                self.check_slot(&slot, s, site);
            }
            self.clean = false;
            self.emit(match index {
                O::K(k) => Op::PutAt { to: M(base.0 + k as u32), s },
                O::R(i) => Op::Put { base, i, s },
            });
            return;
        }
        if !matches!(value, O::K(k) if i32::try_from(k).is_ok()) {
            let site = self.site(FaultKind::OutOfDomain, span);
            self.emit(Op::Check { s, lo: i32::MIN, hi: i32::MAX, site });
        }
        self.emit(match index {
            O::K(k) => Op::StoreAt { to: M(base.0 + k as u32), s },
            O::R(i) => Op::Store { base, i, s },
        });
    }

    /// Whether a type holds no value outside its variable's range, so that no check is needed.
    fn fits(&self, var: usize, lo: i64, hi: i64, active: bool) -> bool {
        if !active {
            return false;
        }
        match &self.b.model.vars[var].dom {
            Dom::Bool => (lo, hi) == (0, 1),
            Dom::Enum(e) => lo == 0 && hi + 1 == self.b.model.enums[*e].values.len() as i64,
            Dom::Dir8 => (lo, hi) == (0, 7),
            Dom::Cell => hi + 1 == self.b.cells() as i64 && lo == 0,
            Dom::Record(_) | Dom::Placed(_) => true,
            Dom::Range(..) | Dom::Dir4 | Dom::Maybe(_) => false,
        }
    }

    // ---- loops ----

    /// Runs `f` for every thing in `over` that passes `filter`, with `local` standing for it;
    /// `f` may jump to the label it is given, which lies behind the loop.
    fn each(
        &mut self,
        local: usize,
        over: &Range,
        fixed: Option<M>,
        filter: Option<&Expr>,
        span: Span,
        f: &mut dyn FnMut(&mut Self, Label),
    ) {
        self.sometimes(|l| l.each_inner(local, over, fixed, filter, span, f));
    }

    #[allow(clippy::too_many_arguments)]
    fn each_inner(
        &mut self,
        local: usize,
        over: &Range,
        fixed: Option<M>,
        filter: Option<&Expr>,
        span: Span,
        f: &mut dyn FnMut(&mut Self, Label),
    ) {
        let exit = self.label();
        let burn = self.site(FaultKind::StepBudget, span);
        let known: Option<usize> = match over {
            Range::Dirs(n) => Some(usize::from(*n)),
            Range::Enum(e) => Some(self.b.model.enums[*e].values.len()),
            Range::Around(_, o) | Range::Offsets(o) => Some(o.len()),
            _ => None,
        };
        if let Some(n) = known
            && n <= UNROLL_MAX
            && self.unrolled * n.max(1) <= 64
        {
            self.unroll(local, over, n, filter, exit, f);
            self.here(exit);
            return;
        }
        let (top, again) = (self.label(), self.label());
        match over {
            Range::Board | Range::Cells(_) => {
                let n = self.b.cells() as u32;
                if n == 0 {
                    // A model without a board has no cells to run over.
                    self.here(exit);
                    return;
                }
                let block = match over {
                    Range::Cells(set) => Some(fixed.unwrap_or_else(|| self.block_of(set).0)),
                    _ => None,
                };
                let i = self.copy(O::K(0));
                self.frame[local] = Local::Val(O::R(i));
                let mut parts = vec![];
                if let Some(filter) = filter {
                    conjuncts(filter, &mut parts);
                }
                let scan = match (block, parts.first()) {
                    (Some(base), _) => Some((base, None)),
                    (None, Some(first)) => {
                        let scan = self.scan(first, local);
                        if scan.is_some() {
                            parts.remove(0);
                        }
                        scan
                    }
                    _ => None,
                };
                self.here(top);
                match scan {
                    Some((base, None)) => self.emit(Op::NextIn { d: i, base, to: To(exit) }),
                    Some((base, Some(v))) => self.emit(Op::NextEq { d: i, base, v, to: To(exit) }),
                    None => {}
                }
                for part in parts {
                    self.cond(part, again, false);
                }
                f(self, exit);
                self.here(again);
                self.emit(Op::LoopTo { d: i, n, to: To(top), site: burn });
            }
            Range::Ints(lo, hi) => {
                let a = self.value(lo);
                let b = self.value(hi);
                let (i, b) = (self.copy(a), self.copy(b));
                let site = self.site(FaultKind::LoopTooLong, lo.span.to(hi.span));
                self.emit(Op::CheckLoop { a: i, b, site });
                self.frame[local] = Local::Val(O::R(i));
                self.here(top);
                self.emit(Op::JumpLt { a: b, b: i, to: To(exit) });
                if let Some(filter) = filter {
                    self.cond(filter, again, false);
                }
                f(self, exit);
                self.here(again);
                self.emit(Op::Inc { d: i });
                self.emit(Op::Loop { to: To(top), site: burn });
            }
            _ => {
                // Counted things: entry k of n, found by one operation.
                let mut number = 0;
                let (n, what): (R, Option<R>) = match over {
                    Range::Lanes(dir) => {
                        let a = self.value(dir);
                        let a = self.copy(a);
                        let d = self.fresh();
                        let site = self.site(FaultKind::OutOfDomain, dir.span);
                        self.emit(Op::LanesLen { d, a, site });
                        (d, Some(a))
                    }
                    Range::Lane(lane) => {
                        let a = self.value(lane);
                        let a = self.copy(a);
                        let d = self.fresh();
                        self.emit(Op::LaneLen { d, a });
                        (d, Some(a))
                    }
                    Range::List(list) => {
                        let at = match fixed {
                            Some(base) => {
                                let is = |l: &ListInfo| l.base == base && !l.puts;
                                number = self.code.lists.iter().position(is).unwrap_or(0) as u16;
                                self.reg(O::K(base.0.into()))
                            }
                            None => {
                                let at = self.list_of(list);
                                number = at.number;
                                // Evaluated here, and not again while the loop runs.
                                self.copy(O::R(at.addr))
                            }
                        };
                        let d = self.fresh();
                        self.emit(Op::LoadFrom { d, a: at, list: number });
                        (d, Some(at))
                    }
                    Range::Covered(p) => {
                        let shapes = self.shapes_of(p);
                        let p = self.value(p);
                        let p = self.copy(p);
                        let d = self.fresh();
                        self.emit(Op::ShapeLen { d, p, shapes });
                        (d, Some(p))
                    }
                    _ => (self.copy(O::K(known.unwrap_or(0) as i64)), None),
                };
                let around = if let Range::Around(_, offsets) | Range::Offsets(offsets) = over {
                    let p = match over {
                        Range::Around(cell, _) => {
                            let p = self.value(cell);
                            self.copy(p)
                        }
                        _ => R(0),
                    };
                    let base = self.pushed(offsets.len());
                    let count = self.copy(O::K(0));
                    for o in offsets {
                        let s = self.value(o);
                        let s = self.reg(s);
                        self.emit(Op::Push { d: count, base, s });
                    }
                    Some((p, base))
                } else {
                    None
                };
                let k = self.copy(O::K(0));
                self.here(top);
                self.emit(Op::JumpLe { a: n, b: k, to: To(exit) });
                let d = self.fresh();
                match (over, what, around) {
                    (Range::Lanes(_), Some(a), _) => self.emit(Op::LaneAt { d, a, i: k }),
                    (Range::Lane(_), Some(a), _) => self.emit(Op::LaneCell { d, a, i: k }),
                    (Range::List(_), Some(a), _) => {
                        let i = self.fresh();
                        self.emit(Op::Copy { d: i, s: k });
                        self.emit(Op::Inc { d: i });
                        let at = self.fresh();
                        self.emit(Op::Sum { d: at, a, b: i });
                        self.emit(Op::LoadFrom { d, a: at, list: number });
                    }
                    (Range::Covered(p), Some(a), _) => {
                        let shapes = self.shapes_of(p);
                        self.emit(Op::ShapeCell { d, p: a, i: k, shapes });
                    }
                    (Range::Offsets(_), _, Some((_, base))) => self.emit(Op::Entry { d, base, i: k }),
                    (_, _, Some((p, base))) => {
                        let o = self.fresh();
                        self.emit(Op::Entry { d: o, base, i: k });
                        let q = self.fresh();
                        self.emit(Op::Peek { d: q, p, o });
                        self.emit(Op::CellOr { d, p: q, to: To(again) });
                    }
                    _ => self.emit(Op::Copy { d, s: k }),
                }
                self.frame[local] = Local::Val(O::R(d));
                if let Some(filter) = filter {
                    self.cond(filter, again, false);
                }
                f(self, exit);
                self.here(again);
                self.emit(Op::Inc { d: k });
                self.emit(Op::Loop { to: To(top), site: burn });
            }
        }
        self.here(exit);
    }

    fn unroll(
        &mut self,
        local: usize,
        over: &Range,
        n: usize,
        filter: Option<&Expr>,
        exit: Label,
        f: &mut dyn FnMut(&mut Self, Label),
    ) {
        let bare = matches!(over, Range::Offsets(_));
        let around: Option<(O, Vec<O>)> = if let Range::Around(_, offsets) | Range::Offsets(offsets) = over {
            // All offsets are known before the body runs, as for every range.
            let place = match over {
                Range::Around(cell, _) => {
                    let place = self.value(cell);
                    O::R(self.copy(place))
                }
                _ => O::K(0),
            };
            let offsets = offsets
                .iter()
                .map(|o| {
                    let v = self.value(o);
                    if let O::R(_) = v { O::R(self.copy(v)) } else { v }
                })
                .collect();
            Some((place, offsets))
        } else {
            None
        };
        self.unrolled *= n.max(1);
        for k in 0..n {
            let again = self.label();
            let next = self.next;
            let known = self.cells.len();
            let element = match &around {
                Some((_, offsets)) if bare => offsets[k],
                Some((place, offsets)) => {
                    let (p, o) = (self.reg(*place), self.reg(offsets[k]));
                    let q = self.fresh();
                    self.emit(Op::Peek { d: q, p, o });
                    let d = self.fresh();
                    self.emit(Op::CellOr { d, p: q, to: To(again) });
                    O::R(d)
                }
                None => O::K(k as i64),
            };
            self.frame[local] = Local::Val(element);
            if let Some(filter) = filter {
                self.cond(filter, again, false);
            }
            f(self, exit);
            self.here(again);
            self.cells.truncate(known);
            self.next = next;
        }
        self.unrolled /= n.max(1);
    }

    fn shapes_of(&self, e: &Expr) -> u16 {
        if let Ty::Placed(s) = e.ty { s as u16 } else { 0 }
    }

    /// `block[c]` and `block[c] == constant` over all cells are one scanning operation.
    fn scan(&mut self, e: &Expr, local: usize) -> Option<(M, Option<i32>)> {
        let is_element = |i: &Expr| matches!(i.kind, Ek::Local(l) if l == local);
        match &e.kind {
            Ek::Index(block, i) if e.ty == Ty::Bool && is_element(i) => {
                self.plain_block(block).map(|m| (m, None))
            }
            Ek::Cmp(Cmp::Eq, a, b) => {
                let (Ek::Index(block, i), true) = (&a.kind, !heavy(b)) else { return None };
                if !is_element(i) || !matches!(b.kind, Ek::Const(_) | Ek::Var(..) | Ek::Local(_)) {
                    return None;
                }
                let base = self.plain_block(block)?;
                let Ek::Const(v) = b.kind else { return None };
                i32::try_from(v).ok().map(|v| (base, Some(v)))
            }
            _ => None,
        }
    }

    /// The address of a block of cells that needs no work.
    fn plain_block(&mut self, e: &Expr) -> Option<M> {
        match &e.kind {
            Ek::Var(..) => Some(self.block_of(e).0),
            Ek::Local(l) => match self.frame[*l] {
                Local::Block(m) => Some(m),
                _ => None,
            },
            _ => None,
        }
    }

    // ---- expressions ----

    fn block_of(&mut self, e: &Expr) -> (M, usize) {
        let cells = self.b.cells();
        match &e.kind {
            Ek::Var(when, v) => {
                let slot = &self.b.slots[*v];
                let region = match (self.b.model.vars[*v].state, when) {
                    (false, _) => 0,
                    (true, When::Now) => self.code.now,
                    (true, When::Before) => self.code.before,
                    (true, When::Start) => self.start,
                };
                (M(region + slot.base as u32), slot.len)
            }
            Ek::Local(l) => match self.frame[*l] {
                Local::Block(m) => {
                    // Arrays keep their own length; boards and sets hold one number a cell.
                    let len = match e.ty {
                        Ty::Array(k, _) => self.b.keys_len(k),
                        _ => cells,
                    };
                    (m, len)
                }
                _ => (M(0), 0),
            },
            Ek::Union(a, b) | Ek::Minus(a, b) | Ek::Both(a, b) => {
                let (x, _) = self.block_of(a);
                let (y, _) = self.block_of(b);
                let d = self.scratch(cells);
                self.emit(match &e.kind {
                    Ek::Union(..) => Op::Union { d, a: x, b: y },
                    Ek::Minus(..) => Op::Minus { d, a: x, b: y },
                    _ => Op::Both { d, a: x, b: y },
                });
                (d, cells)
            }
            Ek::Quant(q) => {
                let d = self.scratch(cells);
                self.emit(Op::ClearCells { d });
                let one = self.reg(O::K(1));
                self.each(q.local, &q.over, None, q.filter.as_ref(), e.span, &mut |l, _| {
                    let o = l.local_value(q.local);
                    let i = l.reg(o);
                    l.emit(Op::Store { base: d, i, s: one });
                });
                (d, cells)
            }
            Ek::Flood(f) => (self.flood(f, e.span), cells),
            Ek::Call(f, args) => {
                if self.full {
                    return (M(0), 0);
                }
                let model = self.b.model.clone();
                let def = &model.fns[*f];
                let args = self.args(args);
                self.inlined(&def.locals, args, |l| l.block_of(&def.body))
            }
            _ => (M(0), 0),
        }
    }

    /// Depth first from one cell; the stack and the marks lie in scratch memory.
    fn flood(&mut self, f: &Flood, span: Span) -> M {
        let cells = self.b.cells();
        let (inside, tested, stack) = (self.scratch(cells), self.scratch(cells), self.pushed(cells));
        let from = self.value(&f.from);
        let from = self.copy(from);
        let one = self.reg(O::K(1));
        let zero = self.reg(O::K(0));
        self.emit(Op::ClearCells { d: inside });
        self.emit(Op::ClearCells { d: tested });
        let len = self.copy(O::K(0));
        self.emit(Op::Push { d: len, base: stack, s: from });
        self.emit(Op::Store { base: tested, i: from, s: one });
        let (top, exit) = (self.label(), self.label());
        self.here(top);
        self.emit(Op::JumpLe { a: len, b: zero, to: To(exit) });
        let minus = self.reg(O::K(-1));
        let site = self.site(FaultKind::StepBudget, span);
        self.emit(Op::Add { d: len, a: len, b: minus, site });
        let c = self.fresh();
        self.emit(Op::Entry { d: c, base: stack, i: len });
        self.frame[f.local] = Local::Val(O::R(c));
        let again = self.label();
        self.cond(&f.cond, again, false);
        self.emit(Op::Store { base: inside, i: c, s: one });
        self.around_cell(c, &f.by, &mut |l, n| {
            let skip = l.label();
            let t = l.load(tested, O::R(n));
            l.emit(Op::JumpIf { a: t, to: To(skip) });
            l.emit(Op::Store { base: tested, i: n, s: one });
            l.emit(Op::Push { d: len, base: stack, s: n });
            l.here(skip);
        });
        self.here(again);
        self.emit(Op::Loop { to: To(top), site });
        self.here(exit);
        if !f.rim {
            return inside;
        }
        let rim = self.scratch(cells);
        self.emit(Op::CopyBlock { d: rim, s: inside, len: cells as u32 });
        let i = self.copy(O::K(0));
        let (top, exit) = (self.label(), self.label());
        self.here(top);
        self.emit(Op::NextIn { d: i, base: inside, to: To(exit) });
        self.around_cell(i, &f.by, &mut |l, n| l.emit(Op::Store { base: rim, i: n, s: one }));
        self.emit(Op::LoopTo { d: i, n: cells as u32, to: To(top), site });
        self.here(exit);
        rim
    }

    fn around_cell(&mut self, cell: R, by: &[Expr], f: &mut dyn FnMut(&mut Self, R)) {
        let p = self.fresh();
        self.emit(Op::PlaceOf { d: p, c: cell });
        for o in by {
            let o = self.value(o);
            let o = self.reg(o);
            let (q, d, off) = (self.fresh(), self.fresh(), self.label());
            self.emit(Op::Peek { d: q, p, o });
            self.emit(Op::CellOr { d, p: q, to: To(off) });
            f(self, d);
            self.here(off);
        }
    }

    /// Jumps to `to` when `e` is `when`; goes on otherwise.
    fn cond(&mut self, e: &Expr, to: Label, when: bool) {
        self.sometimes(|l| l.cond_inner(e, to, when));
    }

    fn cond_inner(&mut self, e: &Expr, to: Label, when: bool) {
        match &e.kind {
            Ek::Not(a) => self.cond(a, to, !when),
            Ek::And(a, b) if !when => {
                self.cond(a, to, false);
                self.cond(b, to, false);
            }
            Ek::Or(a, b) if when => {
                self.cond(a, to, true);
                self.cond(b, to, true);
            }
            Ek::And(a, b) => {
                let no = self.label();
                self.cond(a, no, false);
                self.cond(b, to, true);
                self.here(no);
            }
            Ek::Or(a, b) => {
                let yes = self.label();
                self.cond(a, yes, true);
                self.cond(b, to, false);
                self.here(yes);
            }
            Ek::Cmp(op, a, b) => {
                let (a, b) = (self.value(a), self.value(b));
                if let (O::K(a), O::K(b)) = (a, b) {
                    if compare(*op, a, b) == when {
                        self.emit(Op::Jump { to: To(to) });
                    }
                    return;
                }
                let (a, b) = (self.reg(a), self.reg(b));
                let to = To(to);
                self.emit(match (op, when) {
                    (Cmp::Eq, true) | (Cmp::Ne, false) => Op::JumpEq { a, b, to },
                    (Cmp::Ne, true) | (Cmp::Eq, false) => Op::JumpNe { a, b, to },
                    (Cmp::Lt, true) => Op::JumpLt { a, b, to },
                    (Cmp::Lt, false) => Op::JumpLe { a: b, b: a, to },
                    (Cmp::Le, true) => Op::JumpLe { a, b, to },
                    (Cmp::Le, false) => Op::JumpLt { a: b, b: a, to },
                });
            }
            Ek::Quant(q) if matches!(q.kind, QuantKind::All | QuantKind::Any) => {
                // `all` fails at the first miss, `any` at the first hit.
                let stop_on = q.kind == QuantKind::Any;
                let stopped = self.label();
                let out = self.label();
                self.each(q.local, &q.over, None, q.filter.as_ref(), e.span, &mut |l, _| match &q.body {
                    Some(body) => l.cond(body, stopped, stop_on),
                    None => l.emit(Op::Jump { to: To(stopped) }),
                });
                if stop_on == when {
                    self.emit(Op::Jump { to: To(out) });
                    self.here(stopped);
                    self.emit(Op::Jump { to: To(to) });
                    self.here(out);
                } else {
                    self.emit(Op::Jump { to: To(to) });
                    self.here(stopped);
                }
            }
            _ => match self.value(e) {
                O::K(v) => {
                    if (v != 0) == when {
                        self.emit(Op::Jump { to: To(to) });
                    }
                }
                O::R(a) if when => self.emit(Op::JumpIf { a, to: To(to) }),
                O::R(a) => self.emit(Op::JumpUnless { a, to: To(to) }),
            },
        }
    }

    fn truth(&mut self, e: &Expr) -> O {
        let d = self.fresh();
        let no = self.label();
        let end = self.label();
        self.cond(e, no, false);
        self.emit(Op::Const { d, v: 1 });
        self.emit(Op::Jump { to: To(end) });
        self.here(no);
        self.emit(Op::Const { d, v: 0 });
        self.here(end);
        O::R(d)
    }

    fn value(&mut self, e: &Expr) -> O {
        if self.full {
            return O::K(0);
        }
        let span = e.span;
        match &e.kind {
            Ek::Const(v) => O::K(*v),
            Ek::Local(l) => self.local_value(*l),
            Ek::Var(when, v) => {
                let slot = &self.b.slots[*v];
                if !self.b.model.vars[*v].state {
                    return O::K(self.b.data[slot.base].into());
                }
                if *when == When::Start {
                    return O::K(self.b.start[slot.base].into());
                }
                let (base, _) = self.block_of(e);
                O::R(self.load(base, O::K(0)))
            }
            Ek::Index(block, index) => {
                let i = self.value(index);
                let known = matches!(&block.kind, Ek::Var(_, v) if !self.b.model.vars[*v].state);
                let (base, len) = self.block_of(block);
                let i = inside(i, len);
                match i {
                    O::K(k) if known => O::K(self.b.data[base.0 as usize + k as usize].into()),
                    i => O::R(self.load(base, i)),
                }
            }
            Ek::IndexOutside(block, place, outside) => {
                let p = self.value(place);
                let p = self.reg(p);
                let (d, c) = (self.fresh(), self.fresh());
                let (off, end) = (self.label(), self.label());
                self.emit(Op::CellOr { d: c, p, to: To(off) });
                self.sometimes(|l| {
                    let (base, _) = l.block_of(block);
                    l.emit(Op::Load { d, base, i: c });
                    l.emit(Op::Jump { to: To(end) });
                });
                self.here(off);
                self.sometimes(|l| {
                    let o = l.value(outside);
                    l.set(d, o);
                });
                self.here(end);
                O::R(d)
            }
            Ek::Not(a) => match self.value(a) {
                O::K(v) => O::K(i64::from(v == 0)),
                O::R(a) => self.unary(|d| Op::Not { d, a }),
            },
            Ek::Neg(a) => match self.value(a) {
                O::K(v) if v != i64::MIN => O::K(-v),
                o => {
                    let a = self.reg(o);
                    let site = self.site(FaultKind::Overflow, span);
                    self.unary(|d| Op::Neg { d, a, site })
                }
            },
            Ek::Arith(op, a, b) => {
                let (a, b) = (self.value(a), self.value(b));
                self.arith(*op, a, b, span)
            }
            Ek::Cmp(op, a, b) => {
                let (a, b) = (self.value(a), self.value(b));
                if let (O::K(a), O::K(b)) = (a, b) {
                    return O::K(i64::from(compare(*op, a, b)));
                }
                let (a, b) = (self.reg(a), self.reg(b));
                self.unary(|d| match op {
                    Cmp::Eq => Op::Eq { d, a, b },
                    Cmp::Ne => Op::Ne { d, a, b },
                    Cmp::Lt => Op::Lt { d, a, b },
                    Cmp::Le => Op::Le { d, a, b },
                })
            }
            Ek::SameBlock(a, b, negate) if matches!(a.ty, Ty::List(..)) => {
                let a = self.list_of(a);
                let b = self.list_of(b);
                let d = self.fresh();
                self.emit(Op::ListSame { d, a: a.addr, b: b.addr, list: a.number, other: b.number });
                if *negate { self.unary(|n| Op::Not { d: n, a: d }) } else { O::R(d) }
            }
            Ek::SameBlock(a, b, negate) => {
                let (a, len) = self.block_of(a);
                let (b, _) = self.block_of(b);
                let d = self.fresh();
                self.emit(Op::SameBlock { d, a, b, len: len as u32 });
                if *negate { self.unary(|n| Op::Not { d: n, a: d }) } else { O::R(d) }
            }
            Ek::And(..) | Ek::Or(..) => self.truth(e),
            Ek::Cond(c, a, b) => {
                let d = self.fresh();
                let (no, end) = (self.label(), self.label());
                self.cond(c, no, false);
                self.sometimes(|l| {
                    let o = l.value(a);
                    l.set(d, o);
                });
                self.emit(Op::Jump { to: To(end) });
                self.here(no);
                self.sometimes(|l| {
                    let o = l.value(b);
                    l.set(d, o);
                });
                self.here(end);
                O::R(d)
            }
            Ek::Shift(p, o, minus) => {
                let (p, o) = (self.value(p), self.value(o));
                // A step backwards by a known offset is a step by its opposite.
                let (o, minus) = match o {
                    O::K(v) => (O::K(if *minus { -v } else { v }), false),
                    o => (o, *minus),
                };
                if let (O::K(p), O::K(o)) = (p, o)
                    && code::is_place(p + o)
                {
                    return O::K(p + o);
                }
                let (p, o) = (self.reg(p), self.reg(o));
                let site = self.site(FaultKind::TooFarAway, span);
                self.unary(
                    |d| if minus { Op::ShiftBack { d, p, o, site } } else { Op::Shift { d, p, o, site } },
                )
            }
            Ek::OffAdd(a, b, minus) => {
                let (a, b) = (self.value(a), self.value(b));
                if let (O::K(a), O::K(b)) = (a, b) {
                    let sum = if *minus { a - b } else { a + b };
                    if code::is_offset(sum) {
                        return O::K(sum);
                    }
                }
                let (a, b) = (self.reg(a), self.reg(b));
                let site = self.site(FaultKind::TooFarAway, span);
                self.unary(
                    |d| if *minus { Op::OffSub { d, a, b, site } } else { Op::OffAdd { d, a, b, site } },
                )
            }
            Ek::OffMul(o, n) => {
                let (a, b) = (self.value(o), self.value(n));
                if let (O::K(a), O::K(b)) = (a, b)
                    && b.unsigned_abs() < code::BIAS as u64 / 2
                {
                    let (r, c) = code::offset_parts(a);
                    if (r * b).abs() < code::BIAS / 2 && (c * b).abs() < code::BIAS / 2 {
                        return O::K(a * b);
                    }
                }
                let (a, b) = (self.reg(a), self.reg(b));
                let site = self.site(FaultKind::TooFarAway, span);
                self.unary(|d| Op::OffMul { d, a, b, site })
            }
            Ek::DirOffset(a) => match self.value(a) {
                O::K(v) => {
                    let (r, c) = DIR_STEPS[v as usize];
                    O::K(r * code::ROW + c)
                }
                O::R(a) => self.unary(|d| Op::DirOff { d, a }),
            },
            // The place of a cell that came from a place.
            Ek::ToPlace(c) if matches!(&c.kind, Ek::ToCell(p) if matches!(p.kind, Ek::Local(_))) => {
                let Ek::ToCell(p) = &c.kind else { return O::K(0) };
                self.value(p)
            }
            Ek::ToPlace(c) => match self.value(c) {
                O::K(v) => {
                    let cols = self.b.cols.max(1) as i64;
                    O::K(code::place(v / cols, v % cols))
                }
                O::R(c) => self.unary(|d| Op::PlaceOf { d, c }),
            },
            Ek::Within(a, dom) => {
                let o = self.value(a);
                let (lo, hi) = range_of(self.b, dom);
                if let O::K(v) = o
                    && v >= lo
                    && v <= hi
                {
                    return o;
                }
                let s = self.reg(o);
                let site = self.site(FaultKind::OutOfDomain, span);
                let fine = self.label();
                if matches!(dom, Dom::Maybe(_)) {
                    let none = self.reg(O::K(NONE));
                    self.emit(Op::JumpEq { a: s, b: none, to: To(fine) });
                }
                let narrow = |v: i64| v.clamp(i32::MIN.into(), i32::MAX.into()) as i32;
                self.emit(Op::Check { s, lo: narrow(lo), hi: narrow(hi), site });
                self.here(fine);
                o
            }
            Ek::ToCell(p) => {
                let named = matches!(p.kind, Ek::Local(_));
                let p = self.value(p);
                let p = self.reg(p);
                if let Some((_, c)) = self.cells.iter().find(|(q, _)| named && *q == p) {
                    return O::R(*c);
                }
                let site = self.site(FaultKind::OffBoard, span);
                let cell = self.unary(|d| Op::CellOf { d, p, site });
                if let (true, O::R(c)) = (named, cell) {
                    self.cells.push((p, c));
                }
                cell
            }
            Ek::OnBoard(p) => {
                let p = self.value(p);
                let p = self.reg(p);
                self.unary(|d| Op::OnBoard { d, p })
            }
            Ek::Call(f, args) => self.call(*f, args),
            Ek::Builtin(op, args) => self.builtin(*op, args, span),
            Ek::Quant(q) => self.quant(q, e),
            Ek::Entry(list, index) => {
                let i = self.value(index);
                let i = self.reg(i);
                let at = self.list_of(list);
                let n = self.list_len(at);
                let site = self.site(FaultKind::NoEntry, span);
                self.emit(Op::CheckEntry { i, n, site });
                let a = self.entry_addr(at, i);
                self.unary(|d| Op::LoadFrom { d, a, list: at.number })
            }
            Ek::End(list, last) => {
                let at = self.list_of(list);
                let i = self.spot(at, if *last { &Spot::Last } else { &Spot::First }, span);
                let a = self.entry_addr(at, i);
                self.unary(|d| Op::LoadFrom { d, a, list: at.number })
            }
            Ek::InList(value, list) => {
                let v = self.value(value);
                let v = self.reg(v);
                let at = self.list_of(list);
                let d = self.fresh();
                self.emit(Op::ListFind { d, a: at.addr, v, list: at.number });
                let zero = self.reg(O::K(0));
                self.unary(|n| Op::Lt { d: n, a: zero, b: d })
            }
            Ek::MakeRecord(r, parts) => {
                let slots = self.b.records[*r].clone();
                let mut sum = O::K(0);
                for (part, slot) in parts.iter().zip(slots) {
                    let v = self.value(part);
                    let v = self.arith(Arith::Sub, v, O::K(slot.lo), span);
                    let v = self.arith(Arith::Mul, v, O::K(slot.stride), span);
                    sum = self.arith(Arith::Add, sum, v, span);
                }
                sum
            }
            Ek::Part(record, r, i) => {
                let slot = self.b.records[*r][*i];
                let v = self.value(record);
                let v = if slot.stride == 1 { v } else { self.arith(Arith::Div, v, O::K(slot.stride), span) };
                let v = self.arith(Arith::Mod, v, O::K(slot.count), span);
                if slot.lo == 0 { v } else { self.arith(Arith::Add, v, O::K(slot.lo), span) }
            }
            Ek::Given(a) => {
                let v = self.value(a);
                let v = self.reg(v);
                let none = self.reg(O::K(NONE));
                let fine = self.label();
                self.emit(Op::JumpNe { a: v, b: none, to: To(fine) });
                let site = self.site(FaultKind::NoneGiven, span);
                self.emit(Op::Fault { site });
                self.here(fine);
                O::R(v)
            }
            Ek::MoveShape(p, o, minus) => {
                let shapes = self.shapes_of(p);
                let (p, o) = (self.value(p), self.value(o));
                let o = match o {
                    O::K(v) => O::K(if *minus { -v } else { v }),
                    O::R(a) if *minus => {
                        let zero = self.reg(O::K(0));
                        let site = self.site(FaultKind::TooFarAway, span);
                        self.unary(|d| Op::OffSub { d, a: zero, b: a, site })
                    }
                    o => o,
                };
                let (p, o) = (self.reg(p), self.reg(o));
                let site = self.site(FaultKind::TooFarAway, span);
                self.unary(|d| Op::ShapeMove { d, p, o, shapes, site })
            }
            // Questions about moves and analyses are the reference executor's: there is no code.
            Ek::Can(_) | Ek::Leads(..) | Ek::Asked(_) => {
                self.full = true;
                O::K(0)
            }
            // Blocks are read by `block_of`.
            Ek::Union(..) | Ek::Minus(..) | Ek::Both(..) | Ek::Flood(_) => O::K(0),
        }
    }

    fn unary(&mut self, op: impl FnOnce(R) -> Op) -> O {
        let d = self.fresh();
        self.emit(op(d));
        O::R(d)
    }

    fn arith(&mut self, op: Arith, a: O, b: O, span: Span) -> O {
        if let (O::K(a), O::K(b)) = (a, b) {
            let known = match op {
                Arith::Add => a.checked_add(b),
                Arith::Sub => a.checked_sub(b),
                Arith::Mul => a.checked_mul(b),
                Arith::Div => a.checked_div_euclid(b),
                Arith::Mod => a.checked_rem_euclid(b),
                Arith::Pow => u32::try_from(b).ok().and_then(|b| a.checked_pow(b)),
                Arith::Min => Some(a.min(b)),
                Arith::Max => Some(a.max(b)),
            };
            if let Some(v) = known {
                return O::K(v);
            }
        }
        let (a, b) = (self.reg(a), self.reg(b));
        let kind =
            if matches!(op, Arith::Div | Arith::Mod) { FaultKind::DivideByZero } else { FaultKind::Overflow };
        let site = self.site(kind, span);
        self.unary(|d| match op {
            Arith::Add => Op::Add { d, a, b, site },
            Arith::Sub => Op::Sub { d, a, b, site },
            Arith::Mul => Op::Mul { d, a, b, site },
            Arith::Div => Op::Div { d, a, b, site },
            Arith::Mod => Op::Mod { d, a, b, site },
            Arith::Pow => Op::Pow { d, a, b, site },
            Arith::Min => Op::Min { d, a, b },
            Arith::Max => Op::Max { d, a, b },
        })
    }

    fn call(&mut self, f: usize, args: &[Expr]) -> O {
        let model = self.b.model.clone();
        let def = &model.fns[f];
        let args = self.args(args);
        let known: Option<Vec<i64>> =
            args.iter().map(|a| if let Local::Val(O::K(k)) = a { Some(*k) } else { None }).collect();
        let memo = match known {
            Some(key) if self.clean && heavy(&def.body) && self.memos.len() < 4096 => {
                let next = self.memos.len() as u16;
                Some(*self.memos.entry((f, key)).or_insert(next))
            }
            _ => None,
        };
        let Some(memo) = memo else {
            return self.inlined(&def.locals, args, |l| l.value(&def.body));
        };
        let d = self.fresh();
        let end = self.label();
        self.emit(Op::Recall { d, memo, to: To(end) });
        self.sometimes(|l| {
            let o = l.inlined(&def.locals, args, |l| l.value(&def.body));
            l.set(d, o);
        });
        self.emit(Op::Remember { s: d, memo });
        self.here(end);
        O::R(d)
    }

    fn builtin(&mut self, op: Builtin, args: &[Expr], span: Span) -> O {
        match op {
            Builtin::Rows => return O::K(self.b.rows as i64),
            Builtin::Cols => return O::K(self.b.cols as i64),
            Builtin::ListLen => {
                let at = self.list_of(&args[0]);
                return O::R(self.list_len(at));
            }
            Builtin::LaneStart => {
                let a = self.value(&args[0]);
                let a = self.reg(a);
                let zero = self.reg(O::K(0));
                let c = self.fresh();
                self.emit(Op::LaneCell { d: c, a, i: zero });
                return self.unary(|d| Op::PlaceOf { d, c });
            }
            Builtin::TurnShape => {
                let shapes = self.shapes_of(&args[0]);
                let (p, by) = (self.value(&args[0]), self.value(&args[1]));
                let (p, by) = (self.reg(p), self.reg(by));
                return self.unary(|d| Op::ShapeTurn { d, p, by, shapes });
            }
            Builtin::Anchor | Builtin::KindOf | Builtin::TurnOf => {
                let shapes = self.shapes_of(&args[0]);
                let p = self.value(&args[0]);
                let p = self.reg(p);
                return self.unary(|d| match op {
                    Builtin::Anchor => Op::ShapeAnchor { d, p, shapes },
                    Builtin::KindOf => Op::ShapeKind { d, p, shapes },
                    _ => Op::ShapeTurnOf { d, p, shapes },
                });
            }
            Builtin::Placed(s) => {
                let shapes = s as u16;
                let (k, p) = (self.value(&args[0]), self.value(&args[1]));
                let (k, p) = (self.reg(k), self.reg(p));
                let site = self.site(FaultKind::TooFarAway, span);
                return self.unary(|d| Op::ShapeMake { d, k, p, shapes, site });
            }
            Builtin::Parity | Builtin::Distinct => {
                let (base, len) = self.block_of(&args[0]);
                let len = len as u32;
                let site = self.site(FaultKind::ParityOfEqual, span);
                return self.unary(|d| match op {
                    Builtin::Parity => Op::Parity { d, base, len, site },
                    _ => Op::Distinct { d, base, len },
                });
            }
            _ => {}
        }
        let a = self.value(&args[0]);
        if let (Builtin::Opposite | Builtin::Turned, O::K(v)) = (op, a) {
            let by = if op == Builtin::Opposite { 2 } else { 1 };
            return O::K(v / 4 * 4 + (v + by) % 4);
        }
        let a = self.reg(a);
        match op {
            Builtin::Row => self.unary(|d| Op::Row { d, p: a }),
            Builtin::Col => self.unary(|d| Op::Col { d, p: a }),
            Builtin::Opposite => self.unary(|d| Op::Opposite { d, a }),
            Builtin::Turned => self.unary(|d| Op::Turned { d, a }),
            Builtin::Len => self.unary(|d| Op::LaneLen { d, a }),
            Builtin::Abs => {
                let site = self.site(FaultKind::Overflow, span);
                self.unary(|d| Op::Abs { d, a, site })
            }
            _ => {
                let b = self.value(&args[1]);
                let b = self.reg(b);
                let site = self.site(FaultKind::TooFarAway, span);
                self.unary(|d| Op::PlaceAt { d, a, b, site })
            }
        }
    }

    fn quant(&mut self, q: &Quant, e: &Expr) -> O {
        if matches!(q.kind, QuantKind::All | QuantKind::Any) {
            return self.truth(e);
        }
        let span = e.span;
        let d = self.copy(O::K(0));
        let found = self.copy(O::K(0));
        let missing = self.site(FaultKind::NoMatch, span);
        let twice = self.site(FaultKind::TwoMatches, span);
        let overflow = self.site(FaultKind::Overflow, span);
        self.each(q.local, &q.over, None, q.filter.as_ref(), span, &mut |l, exit| {
            let body = q.body.as_ref().map(|b| l.value(b));
            match q.kind {
                QuantKind::Count => l.emit(Op::Inc { d }),
                QuantKind::First => {
                    let x = l.local_value(q.local);
                    l.set(d, x);
                    l.emit(Op::Inc { d: found });
                    l.emit(Op::Jump { to: To(exit) });
                }
                QuantKind::The => {
                    let fine = l.label();
                    l.emit(Op::JumpUnless { a: found, to: To(fine) });
                    let two = l.reg(O::K(2));
                    l.emit(Op::FaultWith { s: two, site: twice });
                    l.here(fine);
                    let x = l.local_value(q.local);
                    l.set(d, x);
                    l.emit(Op::Inc { d: found });
                }
                QuantKind::Sum => {
                    let b = l.reg(body.unwrap_or(O::K(0)));
                    l.emit(Op::Add { d, a: d, b, site: overflow });
                }
                QuantKind::Min | QuantKind::Max => {
                    let b = l.reg(body.unwrap_or(O::K(0)));
                    let (first, end) = (l.label(), l.label());
                    l.emit(Op::JumpUnless { a: found, to: To(first) });
                    l.emit(if q.kind == QuantKind::Min {
                        Op::Min { d, a: d, b }
                    } else {
                        Op::Max { d, a: d, b }
                    });
                    l.emit(Op::Jump { to: To(end) });
                    l.here(first);
                    l.emit(Op::Copy { d, s: b });
                    let one = l.reg(O::K(1));
                    l.emit(Op::Copy { d: found, s: one });
                    l.here(end);
                }
                QuantKind::All | QuantKind::Any | QuantKind::Set | QuantKind::List => {}
            }
        });
        if matches!(q.kind, QuantKind::The | QuantKind::First | QuantKind::Min | QuantKind::Max) {
            let ok = self.label();
            self.emit(Op::JumpIf { a: found, to: To(ok) });
            self.emit(Op::Fault { site: missing });
            self.here(ok);
        }
        O::R(d)
    }

    fn set(&mut self, d: R, o: O) {
        match o {
            O::R(s) => self.emit(Op::Copy { d, s }),
            O::K(v) => self.emit(Op::Const { d, v }),
        }
    }
}

/// A known index that is out of range: its check breaks before it is used.
fn inside(index: O, len: usize) -> O {
    match index {
        O::K(k) if k < 0 || k >= len as i64 => O::K(0),
        other => other,
    }
}

fn compare(op: Cmp, a: i64, b: i64) -> bool {
    match op {
        Cmp::Eq => a == b,
        Cmp::Ne => a != b,
        Cmp::Lt => a < b,
        Cmp::Le => a <= b,
    }
}

fn conjuncts<'e>(e: &'e Expr, out: &mut Vec<&'e Expr>) {
    match &e.kind {
        Ek::And(a, b) => {
            conjuncts(a, out);
            conjuncts(b, out);
        }
        _ => out.push(e),
    }
}
