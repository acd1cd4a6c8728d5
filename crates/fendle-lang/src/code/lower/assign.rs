//! Assignments, and reading what is assigned to.

use super::*;

impl Lower<'_> {
    pub(super) fn args(&mut self, args: &[Expr]) -> Vec<Local> {
        let one = |a: &Expr| match self.set_bits(a) {
            Some(bits) => Local::Bits(bits),
            None if a.ty.is_block() => Local::Block(self.block_of(a).0),
            None => Local::Val(self.value(a)),
        };
        args.iter().map(one).collect()
    }

    /// The same for a procedure, which may change what a set was taken from: it gets a copy.
    pub(super) fn kept_args(&mut self, args: &[Expr]) -> Vec<Local> {
        let mut out = self.args(args);
        for (local, a) in out.iter_mut().zip(args) {
            if let (Local::Block(s), Ek::Var(..) | Ek::Local(_) | Ek::Call(..)) = (*local, &a.kind) {
                let len = self.b.cells();
                let d = self.scratch(len);
                self.emit(Op::CopyBlock { d, s, len: len as u32 });
                *local = Local::Block(d);
            }
        }
        out
    }

    pub(super) fn local_value(&mut self, l: LocalId) -> O {
        match self.frame[l] {
            Local::Val(o) => o,
            Local::Var(r) => O::R(r),
            // A name that is read before it is set does not pass the checker.
            Local::Unset | Local::Each(_) | Local::Block(_) | Local::Bits(_) | Local::List { .. } => O::K(0),
        }
    }

    pub(super) fn assign_stmt(&mut self, target: &Target, value: &Expr, span: Span) {
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
            if let Target::Local(l) = target
                && !self.mutable[*l]
                && let Some(bits) = self.set_bits(value)
            {
                let kept = if let O::R(_) = bits { O::R(self.copy(bits)) } else { bits };
                self.frame[*l] = Local::Bits(kept);
                return;
            }
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

    pub(super) fn dom_id(&mut self, lo: i64, hi: i64, maybe: bool) -> u16 {
        let key = (lo as i32, hi as i32, maybe);
        if let Some(&d) = self.doms.get(&key) {
            return d;
        }
        let d = self.code.doms.len() as u16;
        self.code.doms.push(key);
        self.doms.insert(key, d);
        d
    }

    pub(super) fn index_of(&mut self, target: &Target) -> O {
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

    pub(super) fn base_of(&self, target: &Target) -> Option<M> {
        match target {
            Target::Var(v) | Target::VarAt(v, _) => Some(M(self.code.now + self.b.slots[*v].base as u32)),
            Target::LocalAt(l, _) => match self.frame[*l] {
                Local::Block(m) => Some(m),
                _ => None,
            },
            Target::Local(_) | Target::Entry(..) => None,
        }
    }

    pub(super) fn read(&mut self, target: &Target, index: O) -> R {
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

    pub(super) fn load(&mut self, base: M, index: O) -> R {
        let d = self.fresh();
        match index {
            O::K(k) => self.emit(Op::LoadAt { d, from: M(base.0 + k as u32) }),
            O::R(i) => self.emit(Op::Load { d, base, i }),
        }
        d
    }

    pub(super) fn write(&mut self, target: &Target, index: O, value: O, span: Span) {
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
    pub(super) fn fits(&self, var: VarId, lo: i64, hi: i64, active: bool) -> bool {
        if !active {
            return false;
        }
        match &self.b.model.vars[var].dom {
            Dom::Bool => (lo, hi) == (0, 1),
            Dom::Enum(e) => lo == 0 && hi + 1 == self.b.model.enums[*e].values.len() as i64,
            Dom::Dir8 => (lo, hi) == (0, 7),
            Dom::Cell => hi + 1 == self.b.cells() as i64 && lo == 0,
            Dom::Record(_) | Dom::Placed(_) => true,
            Dom::Range(..) | Dom::First(..) | Dom::Dir4 | Dom::Maybe(_) => false,
        }
    }
}
