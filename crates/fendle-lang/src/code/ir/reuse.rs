//! Takes what was found before instead of finding it again.
//!
//! Facts are operations that only write a register: "its register still holds what it found". A fact is lost where that register, a
//! register that it reads, or the memory that it reads may be written, and where a program may be suspended. What holds on every way to an
//! operation is found by the usual forward flow of available expressions (Aho, Lam, Sethi, Ullman, *Compilers*, 9.2.6).

use std::collections::HashMap;

use super::ops::Renaming;
use super::tidy::{decided, only_writes, registers};
use super::*;

/// Programs of more operations are left as they are.
const OPERATIONS_MAX: usize = 4096;
/// Copies of copies are followed so far.
const COPIES_MAX: usize = 4;
/// Facts of a program beyond these are not followed.
const FACTS_MAX: usize = 1024;

/// The memory that an operation may store to.
enum Stores {
    Nothing,
    /// Somewhere from this address on.
    From(u32),
    Anywhere,
}

fn stores(op: &Op) -> Stores {
    match *op {
        Op::Store { base, .. } | Op::Put { base, .. } | Op::Push { base, .. } | Op::Gather { base, .. } => {
            Stores::From(base.0)
        }
        Op::StoreAt { to, .. } | Op::PutAt { to, .. } => Stores::From(to.0),
        Op::PutBlock { d, .. }
        | Op::CopyBlock { d, .. }
        | Op::ClearCells { d }
        | Op::Reset { d, .. }
        | Op::Union { d, .. }
        | Op::Minus { d, .. }
        | Op::Both { d, .. }
        | Op::CellsOf { d, .. }
        | Op::FloodEqual { d, .. }
        | Op::CutLanes { d, .. }
        | Op::OpenLane { d, .. } => Stores::From(d.0),
        Op::PutInto { .. }
        | Op::ListCopy { .. }
        | Op::ListAdd { .. }
        | Op::ListDrop { .. }
        | Op::ListTail { .. }
        | Op::ListJoin { .. } => Stores::Anywhere,
        _ => Stores::Nothing,
    }
}

/// Whether an operation may store to the memory below an address.
#[must_use]
pub fn may_store_below(op: &Op, end: u32) -> bool {
    match stores(op) {
        Stores::Nothing => false,
        Stores::From(at) => at < end,
        Stores::Anywhere => true,
    }
}

/// The register that a fact is about, and where what it reads in memory ends; `None` for operations that are no facts.
fn fact(op: &Op, cells: u32) -> Option<(R, u32)> {
    let d = match *op {
        // What did not break once does not break again, and a cell that was found is found again.
        Op::CellOf { d, .. } | Op::ShapeMove { d, .. } | Op::CellOr { d, .. } | Op::Beside { d, .. } => d,
        _ => only_writes(op)?,
    };
    let mut end = 0;
    op.roles(&mut |role| {
        if let Role::Block(m, len) = role {
            end = end.max(m.0.saturating_add(len.unwrap_or(cells)));
        }
    });
    // Where a place in a block is computed, how long the block is is not known.
    let anywhere = matches!(op, Op::Load { .. } | Op::Entry { .. } | Op::LoadFrom { .. });
    Some((d, if anywhere { u32::MAX } else { end }))
}

/// Gives registers that are read the names of others.
struct Reads<'f>(&'f dyn Fn(R) -> R);

impl Renaming for Reads<'_> {
    fn register(&mut self, r: R) -> R {
        (self.0)(r)
    }
}

/// The same operation without the place where it would break: what did not break once does not break again.
fn anywhere(op: Op) -> Op {
    let site = Site::default();
    match op {
        Op::ShapeMove { d, p, o, shapes, .. } => Op::ShapeMove { d, p, o, shapes, site },
        // Where it is known that a cell was found, nothing breaks and nothing jumps.
        Op::CellOf { d, p, .. } | Op::CellOr { d, p, .. } => Op::CellOf { d, p, site },
        Op::Beside { d, c, o, .. } => Op::Beside { d, c, o, to: To(0) },
        other => other,
    }
}

/// Operations that are looked at again, the first one first.
struct Work {
    waits: Vec<bool>,
    /// None before this one waits.
    next: usize,
}

impl Work {
    fn add(&mut self, at: usize) {
        self.waits[at] = true;
        self.next = self.next.min(at);
    }

    fn take(&mut self) -> Option<usize> {
        let ahead = self.waits[self.next..].iter().position(|w| *w)?;
        let at = self.next + ahead;
        self.waits[at] = false;
        self.next = at + 1;
        Some(at)
    }
}

/// The facts of a program.
struct Facts {
    /// The operations that are facts, with their registers.
    list: Vec<(usize, R)>,
    /// For each operation the number of its fact.
    of: Vec<Option<usize>>,
    words: usize,
    /// For each operation the facts that hold before it.
    before: Vec<u64>,
    /// For each register the facts that are about it, in order.
    about: Vec<Vec<usize>>,
    /// Facts that are numbers, by the number, in order.
    numbers: HashMap<i64, Vec<usize>>,
    /// Facts by what they find, whatever register it is found in; in order.
    found: HashMap<Op, Vec<usize>>,
}

/// What a fact finds, whatever register it is found in: the same operation for all that find the same. `None` where it reads the register that it
/// writes, and finds something else afterwards.
fn what_is_found(op: Op, d: R) -> Option<Op> {
    let mut reads_it = false;
    op.visit(&mut |r, written| reads_it |= !written && r == d);
    (!reads_it).then(|| anywhere(op.renamed(&mut Reads(&|x| if x == d { R(u16::MAX) } else { x }))))
}

impl Facts {
    fn holds(&self, at: usize, fact: usize) -> bool {
        self.before[at * self.words + fact / 64] >> (fact % 64) & 1 == 1
    }

    /// The operations of those facts that hold before an operation.
    fn held<'f>(
        &'f self,
        ops: &'f [Op],
        at: usize,
        facts: Option<&'f Vec<usize>>,
    ) -> impl Iterator<Item = &'f Op> {
        facts.into_iter().flatten().filter(move |n| self.holds(at, **n)).map(|n| &ops[self.list[*n].0])
    }

    /// The number that a register holds before an operation, where it was written there on every way.
    fn number(&self, ops: &[Op], at: usize, r: R) -> Option<i64> {
        self.held(ops, at, self.about.get(usize::from(r.0))).find_map(|op| match op {
            Op::Const { v, .. } => Some(*v),
            _ => None,
        })
    }

    /// The register from which one was copied before an operation, or the first that holds the same number.
    fn source(&self, ops: &[Op], at: usize, mut r: R) -> R {
        for _ in 0..COPIES_MAX {
            let from = self.held(ops, at, self.about.get(usize::from(r.0))).find_map(|op| match op {
                Op::Copy { s, .. } => Some(*s),
                _ => None,
            });
            match from {
                Some(s) => r = s,
                None => break,
            }
        }
        let number = self.number(ops, at, r);
        let first = |v: i64| {
            self.held(ops, at, self.numbers.get(&v)).find_map(|op| match op {
                Op::Const { d, .. } => Some(*d),
                _ => None,
            })
        };
        number.and_then(first).unwrap_or(r)
    }

    /// On one more way to an operation this holds.
    fn meet(&mut self, at: usize, held: &[u64], work: &mut Work) {
        let there = &mut self.before[at * self.words..(at + 1) * self.words];
        if there.iter().zip(held).any(|(t, h)| t & !h != 0) {
            there.iter_mut().zip(held).for_each(|(t, h)| *t &= h);
            work.add(at);
        }
    }

    /// Finds out what holds where.
    fn of(ops: &[Op], cells: u32) -> Facts {
        let mut list = vec![];
        let mut ends = vec![];
        let mut of = vec![None; ops.len()];
        for (i, op) in ops.iter().enumerate() {
            if let Some((d, end)) = fact(op, cells).filter(|_| list.len() < FACTS_MAX) {
                of[i] = Some(list.len());
                list.push((i, d));
                ends.push(end);
            }
        }
        let words = list.len().div_ceil(64).max(1);
        let registers = registers(ops);
        // What each register takes part in.
        let mut parts = vec![0u64; words * registers];
        let mut about = vec![vec![]; registers];
        let (mut numbers, mut found) = (HashMap::new(), HashMap::new());
        for (n, (i, d)) in list.iter().enumerate() {
            ops[*i].visit(&mut |r, _| parts[usize::from(r.0) * words + n / 64] |= 1 << (n % 64));
            about[usize::from(d.0)].push(n);
            if let Op::Const { v, .. } = ops[*i] {
                numbers.entry(v).or_insert_with(Vec::new).push(n);
            }
            if let Some(what) = what_is_found(ops[*i], *d) {
                found.entry(what).or_insert_with(Vec::new).push(n);
            }
        }
        let before = vec![u64::MAX; words * ops.len()];
        let mut facts = Facts { list, of, words, before, about, numbers, found };
        facts.before[..words].fill(0);
        let mut work = Work { waits: vec![true; ops.len()], next: 0 };
        let mut after = vec![0; words];
        let mut jumps = vec![];
        // What is lost where memory from an address on may be written.
        let mut lost: HashMap<u32, Vec<u64>> = HashMap::new();
        while let Some(i) = work.take() {
            let op = &ops[i];
            after.copy_from_slice(&facts.before[i * words..(i + 1) * words]);
            let suspends = matches!(op, Op::Draw { .. } | Op::Merge { .. } | Op::BeforeDraw { .. });
            if suspends {
                after.fill(0);
            }
            op.visit(&mut |r, written| {
                if written {
                    let lost = &parts[usize::from(r.0) * words..][..words];
                    after.iter_mut().zip(lost).for_each(|(a, l)| *a &= !l);
                }
            });
            let from = match stores(op) {
                Stores::Nothing => u32::MAX,
                Stores::From(at) => at,
                Stores::Anywhere => 0,
            };
            if from != u32::MAX {
                let lost = lost.entry(from).or_insert_with(|| {
                    let mut lost = vec![0; words];
                    (0..ends.len())
                        .filter(|n| ends[*n] > from)
                        .for_each(|n| lost[n / 64] |= 1u64 << (n % 64));
                    lost
                });
                after.iter_mut().zip(lost).for_each(|(a, l)| *a &= !*l);
            }
            // Where it jumps there is no cell.
            jumps.clear();
            op.jumps(&mut |to| jumps.push(to.0 as usize));
            for &to in &jumps {
                facts.meet(to, &after, &mut work);
            }
            if let Some(n) = facts.of[i] {
                // What reads the register that it writes says nothing of it afterwards.
                let mut reads_it = false;
                op.visit(&mut |r, written| reads_it |= !written && r == facts.list[n].1);
                if !reads_it {
                    after[n / 64] |= 1 << (n % 64);
                }
            }
            if !op.ends() && i + 1 < ops.len() {
                facts.meet(i + 1, &after, &mut work);
            }
        }
        facts
    }
}

/// Reads what was copied where it was copied from, copies what was found before, and decides what known numbers decide. True when something became another operation.
/// O(operations x facts) for each change of what holds at a place.
pub fn reuse(ops: &mut [Op], cells: u32) -> bool {
    if ops.len() > OPERATIONS_MAX || !ops.iter().any(|op| fact(op, cells).is_some()) {
        return false;
    }
    let facts = Facts::of(ops, cells);
    let mut changed = false;
    let old = ops.to_vec();
    let (mut reads, mut writes) = (vec![], vec![]);
    for (i, op) in ops.iter_mut().enumerate() {
        reads.clear();
        writes.clear();
        op.visit(&mut |r, written| if written { writes.push(r) } else { reads.push(r) });
        let suspends = matches!(op, Op::Draw { .. } | Op::Merge { .. } | Op::BeforeDraw { .. });
        if !suspends {
            let is_only_read = |r: &R| reads.contains(r) && !writes.contains(r);
            let source = |r: R| if is_only_read(&r) { facts.source(&old, i, r) } else { r };
            let new = op.renamed(&mut Reads(&source));
            changed |= new != *op;
            *op = new;
        }
        let on = To(i as u32 + 1);
        let is_last = on.0 as usize == old.len();
        if let Some(new) = decided(op, on, |r| facts.number(&old, i, r)).filter(|_| !is_last) {
            *op = new;
            changed = true;
            continue;
        }
        let Some((d, _)) = fact(op, cells) else { continue };
        if matches!(op, Op::Copy { .. }) {
            continue;
        }
        // The same operation, but for the register that it writes.
        let same = what_is_found(*op, d).and_then(|what| facts.found.get(&what));
        let others = same.into_iter().flatten().map(|n| (*n, facts.list[*n]));
        let found = others.filter(|(n, (at, _))| *at != i && facts.holds(i, *n)).map(|o| o.1.1).next();
        match found {
            // Its register holds it already.
            Some(s) if s == d && !is_last => {
                *op = Op::Jump { to: on };
                changed = true;
            }
            Some(s) if s != d && !matches!(op, Op::Const { .. }) => {
                *op = Op::Copy { d, s };
                changed = true;
            }
            _ => {}
        }
    }
    changed
}
