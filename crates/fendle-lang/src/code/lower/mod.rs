//! Checked tree to intermediate form, for one bound model.
//!
//! Functions and procedures are laid in where they are called (nothing recurses), level values
//! become constants, and a move gets one program for each value of its small parameters. What a
//! function without arguments finds in a state is remembered until the state is about to
//! change, since several moves ask for it.

mod assign;
mod bits;
mod cells;
mod conditions;
mod lanes;
mod lists;
mod loops;
mod programs;
mod statements;
mod values;

use crate::run::moves::range_of;
use crate::run::{TooLarge, move_list};
use conditions::conjuncts;
use values::inside;

use crate::code::ir::*;
use crate::model::*;
use crate::run::{Eval, FaultKind, KEPT_MAX, WEIGHT_MAX};
use crate::source::Span;
use crate::state::Bound;
use crate::syntax::tree::QuantKind;
use std::collections::{HashMap, HashSet};

/// Most operations of one model.
pub const OPS_MAX: usize = 1 << 21;

/// Most programs for one move.
const VARIANTS_MAX: u64 = 64;

/// Loops over at most this many known things are written out.
const UNROLL_MAX: usize = 8;

/// Loops inside each other are written out up to so many times the body.
const UNROLLED: usize = 64;

/// Lanes and their cells are written out up to so many times the body.
const LANES_UNROLLED: usize = 16;

/// What may be tried in vain for one model, in operations and expressions, before everything is written the plain way: what is tried inside of what
/// is tried would take a time that grows with every step inwards.
const PATIENCE: usize = 1 << 17;

/// What the least attempt in vain counts.
const ATTEMPT: usize = 16;

type Label = u32;

/// An operand: known now, or in a register.
#[derive(Clone, Copy, Debug, PartialEq)]
enum O {
    K(i64),
    R(R),
}

crate::model::frames!(Local);

#[derive(Clone, Copy, Debug)]
enum Local {
    Unset,
    Val(O),
    Var(R),
    /// Something that is seen from every cell at once, by its number: see [`cells`].
    Each(u16),
    Block(M),
    /// A set of cells of a small board, as bits.
    Bits(O),
    /// A list, and how many entries it may hold now.
    List {
        number: u16,
        limit: O,
    },
}

/// What a loop runs over, where it was found before.
#[derive(Clone, Copy)]
enum Kept {
    Block(M),
    Bits(O),
}

/// A list that an operation works on: its address, and what is known of it.
#[derive(Clone, Copy)]
struct ListAt {
    addr: R,
    number: u16,
    limit: O,
}

/// What can be remembered of a loaded state.
#[derive(PartialEq, Eq, Hash)]
enum Remembered {
    /// What a function gives for known numbers.
    Function(FnId, Vec<i64>),
    /// How the values of a block, those of one word, compare.
    Compared(M, cells::Other, Comparison),
}

/// Things that are remembered of a state, at most.
const MEMOS_MAX: usize = 4096;

struct Lower<'b> {
    b: &'b Bound,
    code: Code,
    entry: usize,
    labels: Vec<Option<u32>>,
    sites: HashMap<FaultSite, Site>,
    /// What programs remember of a loaded state, and its number.
    memos: HashMap<Remembered, u16>,
    /// Where the sets lie that are remembered as blocks.
    kept: HashMap<u16, M>,
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
    /// Scratch that is emptied for no other reason.
    emptied: Vec<M>,
    /// What is seen from every cell, while a condition of all cells is written.
    sight: cells::Sight,
    /// Expressions that were looked at from every cell, in all.
    looked: usize,
    /// What may still be tried in vain: see [`PATIENCE`].
    patience: usize,
}

/// Values of the memory that are loaded and stored at once.
const TOGETHER: u32 = 4;

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
    // The longest block of the state begins where four values are loaded and stored at once: such a store that lies in two lines of the cache takes
    // twice as long, and many times as long in two pages.
    let blocks = b.slots.iter().zip(&b.model.vars).filter(|(_, var)| var.state).map(|(slot, _)| slot);
    let longest = blocks.max_by_key(|slot| slot.len).map_or(0, |slot| slot.base as u32);
    let aligned = |from: u32| (from + longest).next_multiple_of(TOGETHER) - longest;
    let before = aligned(data + state);
    let now = aligned(before + state);
    let code = Code {
        before,
        now,
        state_len: state,
        memory: now + state,
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
    let mut gives = |what: &Body, name: &str| {
        l.begin(&what.locals, true);
        let s = l.value(&what.expr);
        let s = l.reg(s);
        l.emit(Op::Give { s });
        l.end(name.into(), vec![])
    };
    let aim = b.model.aim.as_ref().and_then(|a| a.what.as_ref()).map(|what| gives(what, "aim"));
    let promise = b.model.promise.as_ref().map(|(e, of, _)| (gives(e, "promise"), gives(of, "promise of")));
    (l.code.aim, l.code.promise) = (aim, promise);
    l.counts();
    for (v, def) in b.model.variables().filter(|(_, d)| d.rearranged.is_some()) {
        let site = l.site(FaultKind::NotRearranged, def.span);
        l.code.pack_sites.push((v, site));
    }
    for spread in &b.model.spreads {
        let site = l.site(FaultKind::NotSpread, spread.span);
        l.code.pack_sites.push((spread.vars[0], site));
    }
    if l.full {
        return Err(TooLarge::Operations);
    }
    l.code.memos = l.memos.len() as u32;
    l.forget_what_is_asked_once();
    l.code.find_live();
    l.forget_emptied();
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
        Ek::Var(_, v) => !model.vars[*v].state && model.vars[*v].shape == Extent::One,
        Ek::Not(a) | Ek::Neg(a) | Ek::DirOffset(a) => level_only(model, a),
        Ek::Arith(_, a, b)
        | Ek::Cmp(_, a, b)
        | Ek::And(a, b)
        | Ek::Or(a, b)
        | Ek::OffAdd(a, b, _)
        | Ek::OffMul(a, b) => level_only(model, a) && level_only(model, b),
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
            kept: HashMap::new(),
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
            emptied: vec![],
            sight: cells::Sight::default(),
            looked: 0,
            patience: PATIENCE,
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
        if len >= TOGETHER as usize {
            self.code.memory = self.code.memory.next_multiple_of(TOGETHER);
        }
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
            self.emptied.push(d);
        }
        d
    }

    /// What no branch carries along need not be emptied, so that equal branches look equal.
    fn forget_emptied(&mut self) {
        let carried: HashSet<u32> = self.code.points.iter().flat_map(|p| &p.blocks).map(|b| b.0).collect();
        let idle: HashSet<u32> = self.emptied.iter().map(|m| m.0).filter(|m| !carried.contains(m)).collect();
        let is_needed = |op: &Op| !matches!(op, Op::Reset { d, .. } if idle.contains(&d.0));
        let kept: Vec<bool> = self.code.ops.iter().map(is_needed).collect();
        if kept.contains(&false) {
            keep_in_code(&mut self.code, &kept);
        }
    }

    fn shape_tables(&mut self) {
        for (s, def) in self.b.model.shapes.iter().enumerate() {
            let (rows, cols) = self.b.shape_sides(s);
            let all = def
                .all
                .iter()
                .map(|&(shape, turn)| {
                    let (first, turns) = def.shapes[shape].circle(turn);
                    (shape as i64, turn as i64, (def.firsts[shape] + first) as i64, turns as i64)
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
            let turn_of = |&(shape, turn): &(usize, usize)| (&def.shapes[shape], turn);
            let parts = def.all.iter().map(turn_of).filter_map(|(s, t)| s.parts.get(t).cloned()).collect();
            let mirrors = def
                .all
                .iter()
                .filter_map(|&(s, t)| def.shapes[s].mirrors.get(t).map(|m| (def.firsts[s] + m) as i64))
                .collect();
            let margin = def.margin;
            self.code.shapes.push(ShapeTable { rows, cols, margin, all, cells, firsts, parts, mirrors });
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

    fn ensure_site(&mut self) {
        if self.code.sites.is_empty() {
            self.site(FaultKind::Overflow, Span::default());
        }
    }

    fn region(&self, when: When, v: VarId) -> (u32, bool) {
        match (self.b.model.vars[v].state, when) {
            (false, _) => (0, false),
            (true, When::Now) => (self.code.now, true),
            (true, When::Before) => (self.code.before, false),
            (true, When::Start) => (self.start, false),
        }
    }

    fn label(&mut self) -> Label {
        self.labels.push(None);
        self.labels.len() as u32 - 1
    }

    fn here(&mut self, label: Label) {
        self.labels[label as usize] = Some(self.code.ops.len() as u32);
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
}
