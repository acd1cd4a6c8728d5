//! The verifier of code.

use super::*;

impl Code {
    /// Checks the code, whoever made it:
    ///
    /// 1. programs lie inside the code, one after the other, and end in an operation that ends;
    /// 2. jumps stay inside their program;
    /// 3. registers, memos, sites, ranges and memory blocks exist;
    /// 4. the state now is changed by the operations that remember it, and by no others; below it
    ///    (level data, start, the state before) nothing is stored;
    /// 5. on every way through a program a register is written before it is read;
    /// 6. moves name programs and give them as many values as they take.
    ///
    /// # Errors
    ///
    /// Everything found, one line each.
    pub fn verify(&self) -> Result<(), Vec<String>> {
        let mut bad = vec![];
        let mut at = 0;
        for p in &self.programs {
            if p.entry != at || p.end <= p.entry || p.end as usize > self.ops.len() {
                bad.push(format!("{}: lies at {}..{}, expected to begin at {at}", p.name, p.entry, p.end));
                return Err(bad);
            }
            at = p.end;
            if !self.ops[p.end as usize - 1].ends() {
                bad.push(format!("{}: runs past its end", p.name));
            }
            self.verify_program(p, &mut bad);
        }
        for (i, m) in self.moves.iter().enumerate() {
            match self.programs.get(m.program as usize) {
                Some(p) if p.params.len() == m.args.len() => {}
                _ => bad.push(format!("move {i}: program {} does not take its values", m.program)),
            }
        }
        for which in [self.status, self.status_changed, self.laws] {
            if which as usize >= self.programs.len() {
                bad.push(format!("program {which} does not exist"));
            }
        }
        if bad.is_empty() { Ok(()) } else { Err(bad) }
    }

    pub(super) fn verify_program(&self, p: &Program, bad: &mut Vec<String>) {
        let range = p.entry..p.end;
        let mut say = |at: u32, text: String| bad.push(format!("{}: {at}: {text}", p.name));
        for at in range.clone() {
            let op = self.ops[at as usize];
            op.roles(&mut |role| match role {
                Role::Reads(r) | Role::Writes(r) if u32::from(r.0) >= self.registers => {
                    say(at, format!("{r:?} does not exist"));
                }
                Role::Jumps(to) if !range.contains(&to.0) => say(at, format!("{to:?} leaves the program")),
                Role::Faults(s) if s.0 as usize >= self.sites.len() => {
                    say(at, format!("{s:?} does not exist"))
                }
                Role::Block(m, len) if m.0 + len.unwrap_or(self.cells) > self.memory => {
                    say(at, format!("{m:?} lies outside the memory"));
                }
                _ => {}
            });
            let state = self.now..self.now + self.state_len;
            if self.stored(&op).is_some_and(|(m, puts)| state.contains(&m.0) != puts || m.0 < self.now) {
                say(at, "stores where it must not".into());
            }
            if let Some(missing) = self.missing(&op) {
                say(at, missing);
            }
        }
        if bad.is_empty() {
            self.verify_written(p, bad);
        }
    }

    /// The block that an operation stores to, and whether it does so as a change of the state now.
    fn stored(&self, op: &Op) -> Option<(M, bool)> {
        match *op {
            Op::Store { base, .. } | Op::Push { base, .. } => Some((base, false)),
            Op::Reset { d, .. }
            | Op::CutLanes { d, .. }
            | Op::OpenLane { d, .. }
            | Op::FloodEqual { d, .. }
            | Op::CellsOf { d, .. } => Some((d, false)),
            Op::ListTail { to, .. } => Some((to, false)),
            Op::PutInto { list, .. }
            | Op::ListCopy { list, .. }
            | Op::ListAdd { list, .. }
            | Op::ListDrop { list, .. }
            | Op::ListJoin { list, .. } => self.lists.get(list as usize).map(|l| (l.base, l.puts)),
            Op::StoreAt { to, .. } => Some((to, false)),
            Op::CopyBlock { d, .. } | Op::ClearCells { d } => Some((d, false)),
            Op::Union { d, .. } | Op::Minus { d, .. } | Op::Both { d, .. } => Some((d, false)),
            Op::Put { base, .. } | Op::Gather { base, .. } => Some((base, true)),
            Op::PutAt { to, .. } => Some((to, true)),
            Op::PutBlock { d, .. } => Some((d, true)),
            _ => None,
        }
    }

    /// What an operation names that the code does not hold.
    fn missing(&self, op: &Op) -> Option<String> {
        let missing = match *op {
            Op::FloodEqual { beside, .. } if usize::from(beside) >= self.beside.len() => {
                format!("steps {beside} do not exist")
            }
            Op::FloodBits { steps, .. } | Op::Spread { steps, .. }
                if usize::from(steps) >= self.steps.len() =>
            {
                format!("steps {steps} do not exist")
            }
            Op::CheckBlock { dom, .. } if dom as usize >= self.doms.len() => {
                format!("range {dom} does not exist")
            }
            Op::Recall { memo, .. } | Op::Remember { memo, .. } if u32::from(memo) >= self.memos => {
                format!("memo {memo} does not exist")
            }
            Op::LoadFrom { list, .. }
            | Op::PutInto { list, .. }
            | Op::ListCopy { list, .. }
            | Op::ListCheck { list, .. }
            | Op::ListAdd { list, .. }
            | Op::ListDrop { list, .. }
            | Op::ListTail { list, .. }
            | Op::ListJoin { list, .. }
                if list as usize >= self.lists.len() =>
            {
                format!("list {list} does not exist")
            }
            Op::ShapeMove { shapes, .. }
            | Op::ShapeTurn { shapes, .. }
            | Op::ShapeMake { shapes, .. }
            | Op::ShapeAnchor { shapes, .. }
            | Op::ShapeKind { shapes, .. }
            | Op::ShapeTurnOf { shapes, .. }
            | Op::ShapeMirror { shapes, .. }
            | Op::ShapePart { shapes, .. }
            | Op::ShapeLen { shapes, .. }
            | Op::ShapeCell { shapes, .. }
            | Op::ShapeBits { shapes, .. }
            | Op::ShapeFits { shapes, .. }
                if shapes as usize >= self.shapes.len() =>
            {
                format!("shapes {shapes} do not exist")
            }
            Op::Draw { point, .. } | Op::Merge { point } | Op::BeforeDraw { point }
                if point as usize >= self.points.len() =>
            {
                format!("point {point} does not exist")
            }
            _ => return None,
        };
        Some(missing)
    }

    /// Whether every register is written before it is read: sets of written registers, joined by intersection, to a fixpoint.
    fn verify_written(&self, p: &Program, bad: &mut Vec<String>) {
        let words = (self.registers as usize).div_ceil(64);
        let len = (p.end - p.entry) as usize;
        let mut known: Vec<Option<Vec<u64>>> = vec![None; len];
        let mut first = vec![0u64; words];
        for r in &p.params {
            first[r.0 as usize / 64] |= 1 << (r.0 % 64);
        }
        known[0] = Some(first);
        let mut work = vec![0usize];
        let mut reported = vec![false; len];
        while let Some(i) = work.pop() {
            let mut set = known[i].clone().expect("only known operations are worked on");
            let op = self.ops[p.entry as usize + i];
            let mut next: Vec<(usize, Vec<u64>)> = vec![];
            let mut jumps = vec![];
            op.roles(&mut |role| match role {
                Role::Reads(r)
                    if set[r.0 as usize / 64] >> (r.0 % 64) & 1 == 0
                        && !std::mem::replace(&mut reported[i], true) =>
                {
                    bad.push(format!(
                        "{}: {}: {r:?} is read before it is written",
                        p.name,
                        p.entry as usize + i
                    ));
                }
                Role::Jumps(to) => jumps.push((to.0 - p.entry) as usize),
                _ => {}
            });
            let before = set.clone();
            op.roles(&mut |role| {
                if let Role::Writes(r) = role {
                    set[r.0 as usize / 64] |= 1 << (r.0 % 64);
                }
            });
            for j in jumps {
                // A cell that is off the board is not written; a recalled value is.
                let set = if matches!(op, Op::CellOr { .. } | Op::Beside { .. }) { &before } else { &set };
                next.push((j, set.clone()));
            }
            if matches!(op, Op::Recall { .. }) {
                next.push((i + 1, before));
            } else if !op.ends() {
                next.push((i + 1, set));
            }
            for (j, set) in next {
                let changed = match &mut known[j] {
                    None => {
                        known[j] = Some(set);
                        true
                    }
                    Some(old) => {
                        let joined: Vec<u64> = old.iter().zip(&set).map(|(a, b)| a & b).collect();
                        let changed = joined != *old;
                        *old = joined;
                        changed
                    }
                };
                if changed {
                    work.push(j);
                }
            }
        }
    }
}
