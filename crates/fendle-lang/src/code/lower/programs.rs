//! Programs: one for each value of a move's small parameters, for the status, for laws and quantities.

use super::*;
use crate::code::ir::{Jumps, tidy};

/// Most operations of a condition behind which more is looked at.
const CONDITION_MAX: usize = 16;

/// Whether an operation cannot break, among few others: sums of a few numbers of 32 bits fit into 64.
fn cannot_break(op: &Op) -> bool {
    matches!(
        op,
        Op::Const { .. }
            | Op::Copy { .. }
            | Op::Add { .. }
            | Op::Sub { .. }
            | Op::Eq { .. }
            | Op::Ne { .. }
            | Op::Lt { .. }
            | Op::Le { .. }
            | Op::Not { .. }
            | Op::Jump { .. }
            | Op::JumpIf { .. }
            | Op::JumpUnless { .. }
            | Op::JumpEq { .. }
            | Op::JumpNe { .. }
            | Op::JumpLt { .. }
            | Op::JumpLe { .. }
            | Op::LoadAt { .. }
            | Op::LoadFrom { .. }
    )
}

impl Lower<'_> {
    pub(super) fn begin(&mut self, locals: &[LocalDef], clean: bool) {
        self.entry = self.code.ops.len();
        self.labels.clear();
        self.next = 0;
        self.clean = clean;
        self.cells.clear();
        self.unrolled = 1;
        self.enter(locals);
        self.finish = self.label();
    }

    pub(super) fn enter(&mut self, locals: &[LocalDef]) {
        self.frame = vec![Local::Unset; locals.len()];
        self.mutable = locals.iter().map(|l| l.mutable).collect();
    }

    pub(super) fn end(&mut self, name: String, params: Vec<R>) -> u32 {
        let labels = std::mem::take(&mut self.labels);
        let entry = self.entry as u32;
        let mut ops = self.code.ops.split_off(self.entry);
        if !self.full {
            // Labels to places, counted from the first operation.
            let at = |label: u32| labels[label as usize].expect("every label was placed") - entry;
            for op in &mut ops {
                *op = op.renamed(&mut Jumps(at));
            }
            tidy(&mut ops, &params, self.code.cells);
            for op in &mut ops {
                *op = op.renamed(&mut Jumps(|to| to + entry));
            }
        }
        self.code.ops.append(&mut ops);
        let program = Program { name, entry: self.entry as u32, end: self.code.ops.len() as u32, params };
        self.code.programs.push(program);
        self.code.programs.len() as u32 - 1
    }

    /// Lays in a body with its own names, and returns to the caller's.
    pub(super) fn inlined<T>(
        &mut self,
        locals: &[LocalDef],
        args: Vec<Local>,
        f: impl FnOnce(&mut Self) -> T,
    ) -> T {
        let frame = std::mem::take(&mut self.frame);
        let mutable = std::mem::take(&mut self.mutable);
        self.enter(locals);
        self.frame[..args.len()].copy_from_slice(&args);
        let out = f(self);
        self.frame = frame;
        self.mutable = mutable;
        out
    }

    // ---- programs ----

    pub(super) fn moves(&mut self) -> Result<(), TooLarge> {
        let list = move_list(self.b)?;
        let model = self.b.model.clone();
        let offered: Vec<bool> =
            list.iter().map(|(of, params)| self.may_be_offered(&model.moves[*of], params)).collect();
        let fixed: Vec<Vec<bool>> = (0..model.moves.len())
            .map(|of| {
                let these = list.iter().zip(&offered).filter(|((n, _), _)| *n == of);
                let many = these.filter(|(_, offered)| **offered).count() as u64;
                self.known_params(&model.moves[of], many)
            })
            .collect();
        let mut programs: HashMap<(usize, Vec<Option<i64>>), u32> = HashMap::new();
        let mut never = None;
        for ((of, params), offered) in list.into_iter().zip(offered) {
            let def = &model.moves[of];
            if !offered {
                let program = *never.get_or_insert_with(|| {
                    self.begin(&[], true);
                    self.emit(Op::NotOffered {});
                    self.end("never offered".into(), vec![])
                });
                self.code.moves.push(MoveEntry { of: of as u32, program, args: vec![], params });
                continue;
            }
            let fixed = &fixed[of];
            let key: Vec<Option<i64>> = params.iter().zip(fixed).map(|(&p, &f)| f.then_some(p)).collect();
            let program = match programs.get(&(of, key.clone())) {
                Some(&p) => p,
                None => {
                    let p = self.move_program(def, &key);
                    programs.insert((of, key), p);
                    p
                }
            };
            let args = params.iter().zip(fixed).filter(|(_, f)| !**f).map(|(&p, _)| p).collect();
            self.code.tried.push(self.code.moves.len() as u32);
            self.code.moves.push(MoveEntry { of: of as u32, program, args, params });
            if self.full {
                return Err(TooLarge::Operations);
            }
        }
        Ok(())
    }

    /// Which parameters of a move are known in its code; the others come in registers. `many` moves can be offered.
    fn known_params(&self, def: &MoveDef, many: u64) -> Vec<bool> {
        let mut variants = 1u64;
        def.params
            .iter()
            .map(|d| {
                let (lo, hi) = range_of(self.b, d);
                let len = (hi - lo + 1) as u64;
                let fits =
                    !matches!(d, Dom::Cell) && (variants * len <= VARIANTS_MAX || many <= VARIANTS_MAX);
                if fits {
                    variants *= len;
                }
                fits
            })
            .collect()
    }

    /// Whether a move may be offered in some state: no condition of its offer is decided against it by the level and the
    /// parameters alone. What stands before such a condition must not break.
    fn may_be_offered(&mut self, def: &MoveDef, params: &[i64]) -> bool {
        if def.offers.is_empty() {
            return true;
        }
        let mut all = vec![];
        def.offers.iter().for_each(|offer| conjuncts(offer, &mut all));
        let code = &self.code;
        let (memory, scratch, lists, points, registers) =
            (code.memory, code.scratch.len(), code.lists.len(), code.points.len(), code.registers);
        self.begin(&def.locals, false);
        for (local, p) in self.frame.iter_mut().zip(params) {
            *local = Local::Val(O::K(*p));
        }
        let no = self.label();
        let mut may = true;
        for condition in all {
            let from = self.code.ops.len();
            self.cond(condition, no, false);
            let made = &self.code.ops[from..];
            if made.first() == Some(&Op::Jump { to: To(no) }) {
                may = false;
                break;
            }
            if made.len() > CONDITION_MAX || !made.iter().all(cannot_break) {
                break;
            }
        }
        // Nothing of this stays.
        self.code.ops.truncate(self.entry);
        self.labels.clear();
        let code = &mut self.code;
        (code.memory, code.registers) = (memory, registers);
        code.scratch.truncate(scratch);
        code.lists.truncate(lists);
        code.points.truncate(points);
        may
    }

    pub(super) fn move_program(&mut self, def: &MoveDef, key: &[Option<i64>]) -> u32 {
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

    /// What each move counts, where something else than moves is counted.
    pub(super) fn counts(&mut self) {
        let model = self.b.model.clone();
        if model.counted.is_none() {
            return;
        }
        for n in 0..self.code.moves.len() {
            let (of, params) = (self.code.moves[n].of as usize, self.code.moves[n].params.clone());
            let count = match model.count_of(of) {
                Err(known) => CountOf::Known(known),
                Ok(cost) => {
                    self.begin(&cost.count.locals, true);
                    for (slot, &p) in self.frame.iter_mut().zip(&params) {
                        *slot = Local::Val(O::K(p));
                    }
                    let s = self.value(&cost.count.expr);
                    match s {
                        O::K(n) if (0..=COUNT_MAX).contains(&n) => CountOf::Known(n as u32),
                        _ => {
                            let s = self.reg(s);
                            self.emit(Op::Give { s });
                            let program = self.end(format!("{} of move {n}", cost.name), vec![]);
                            CountOf::Asked(program, self.site(FaultKind::BadCount, cost.span))
                        }
                    }
                }
            };
            self.code.counts.push(count);
        }
    }

    pub(super) fn tick(&mut self, tick: &TickDef) {
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

    pub(super) fn status_program(&mut self, name: &str, clean: bool) -> u32 {
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

    pub(super) fn law_program(&mut self) -> u32 {
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

    pub(super) fn keeps(&mut self) {
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
    pub(super) fn sometimes<T>(&mut self, f: impl FnOnce(&mut Self) -> T) -> T {
        let known = self.cells.len();
        let out = f(self);
        self.cells.truncate(known);
        out
    }
}
