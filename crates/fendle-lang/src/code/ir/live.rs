//! What is live where a program can be suspended.

use super::*;

impl Code {
    /// Finds out what is live at each point, by the usual backward flow over registers and scratch
    /// blocks (Aho, Lam, Sethi, Ullman, *Compilers*, 9.2.5). O(operations x live things) a program.
    pub fn find_live(&mut self) {
        let mut found: Vec<(u16, Point)> = vec![];
        for p in &self.programs {
            let ops = &self.ops[p.entry as usize..p.end as usize];
            if !ops.iter().any(|op| matches!(op, Op::Draw { .. } | Op::Merge { .. } | Op::BeforeDraw { .. }))
            {
                continue;
            }
            let regs = self.registers as usize;
            let words = (regs + self.scratch.len()).div_ceil(64);
            let mut live = vec![0u64; words * (ops.len() + 1)];
            let mut again = true;
            while again {
                again = false;
                for (i, op) in ops.iter().enumerate().rev() {
                    let mut set = vec![0u64; words];
                    if !op.ends() {
                        set.copy_from_slice(&live[(i + 1) * words..(i + 2) * words]);
                    }
                    op.roles(&mut |role| {
                        if let Role::Jumps(to) = role {
                            let j = (to.0 - p.entry) as usize;
                            for (s, l) in set.iter_mut().zip(&live[j * words..(j + 1) * words]) {
                                *s |= l;
                            }
                        }
                    });
                    self.flow_back(op, regs, &mut set);
                    let here = &mut live[i * words..(i + 1) * words];
                    if here != set.as_slice() {
                        here.copy_from_slice(&set);
                        again = true;
                    }
                }
            }
            for (i, op) in ops.iter().enumerate() {
                let (point, drawn) = match *op {
                    Op::Draw { point, d, .. } => (point, Some(d)),
                    Op::Merge { point } | Op::BeforeDraw { point } => (point, None),
                    _ => continue,
                };
                let set = &live[(i + 1) * words..(i + 2) * words];
                let has = |n: usize| set[n / 64] >> (n % 64) & 1 == 1;
                let regs_here = (0..regs).filter(|&r| has(r)).map(|r| R(r as u16));
                let live = Point {
                    regs: regs_here.filter(|r| Some(*r) != drawn).collect(),
                    blocks: (0..self.scratch.len())
                        .filter(|&b| has(regs + b))
                        .map(|b| self.scratch[b])
                        .collect(),
                    ..self.points[usize::from(point)].clone()
                };
                found.push((point, live));
            }
        }
        for (number, point) in found {
            self.points[usize::from(number)] = point;
        }
    }

    /// The scratch block that an address lies in.
    pub(super) fn block_at(&self, m: M) -> Option<usize> {
        let i = self.scratch.partition_point(|b| b.0 <= m.0).checked_sub(1)?;
        (m.0 < self.scratch[i].0 + self.scratch[i].1).then_some(i)
    }

    /// From what is live behind an operation to what is live before it.
    pub(super) fn flow_back(&self, op: &Op, regs: usize, set: &mut [u64]) {
        let mut kills: Vec<(M, u32)> = vec![];
        let mut uses: Vec<M> = vec![];
        let cells = self.cells;
        match *op {
            Op::ClearCells { d } | Op::CellsOf { d, .. } => kills.push((d, cells)),
            Op::Reset { d, len } => kills.push((d, len)),
            Op::CopyBlock { d, s, len } => {
                kills.push((d, len));
                uses.push(s);
            }
            Op::Union { d, a, b } | Op::Minus { d, a, b } | Op::Both { d, a, b } => {
                kills.push((d, cells));
                uses.extend([a, b]);
            }
            Op::CutLanes { d, s, gone, .. } => {
                kills.push((d, cells));
                uses.extend([s, gone]);
            }
            Op::OpenLane { d, s, .. } | Op::FloodEqual { d, base: s, .. } => {
                kills.push((d, cells));
                uses.push(s);
            }
            // Parts of a block: the rest stays as it was.
            Op::Store { .. } | Op::StoreAt { .. } | Op::Push { .. } | Op::ListTail { .. } => {}
            Op::ListCopy { list, from, .. } => {
                let info = &self.lists[list as usize];
                kills.push((info.base, info.len));
                uses.push(self.lists[from as usize].base);
            }
            Op::ListSame { list, other, .. } => {
                uses.extend([self.lists[list as usize].base, self.lists[other as usize].base]);
            }
            Op::LoadFrom { list, .. }
            | Op::PutInto { list, .. }
            | Op::ListCheck { list, .. }
            | Op::ListFind { list, .. }
            | Op::ListAdd { list, .. }
            | Op::ListDrop { list, .. } => uses.push(self.lists[list as usize].base),
            Op::ListJoin { list, from, .. } => uses.extend([self.lists[list as usize].base, from]),
            _ => op.roles(&mut |role| {
                if let Role::Block(m, _) = role {
                    uses.push(m);
                }
            }),
        }
        for (m, len) in kills {
            if let Some(b) = self.block_at(m)
                && self.scratch[b] == (m.0, len)
            {
                set[(regs + b) / 64] &= !(1 << ((regs + b) % 64));
            }
        }
        for m in uses {
            if let Some(b) = self.block_at(m) {
                set[(regs + b) / 64] |= 1 << ((regs + b) % 64);
            }
        }
        let mut reads = vec![];
        op.roles(&mut |role| match role {
            // Where a jump is taken the register may keep what it held.
            Role::Writes(r) if !matches!(op, Op::CellOr { .. } | Op::Beside { .. } | Op::Recall { .. }) => {
                set[r.0 as usize / 64] &= !(1 << (r.0 % 64));
            }
            Role::Reads(r) => reads.push(r),
            _ => {}
        });
        for r in reads {
            set[r.0 as usize / 64] |= 1 << (r.0 % 64);
        }
    }
}
