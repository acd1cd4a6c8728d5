//! Makes one program shorter without changing what it does.

use std::collections::HashMap;

use super::ops::{Jumps, Renaming};
use super::reuse::reuse;
use super::*;
use crate::model::code::{self, lane_parts};

/// Rounds after which a program is left as it is.
const ROUNDS: usize = 6;

/// Gives registers the names of others: for each register its name.
struct Renames(Vec<R>);

impl Renaming for Renames {
    fn register(&mut self, r: R) -> R {
        self.0[usize::from(r.0)]
    }
}

/// The numbers that registers hold, all of which can be forgotten at once.
struct Held {
    /// For each register when it was written, and the number.
    of: Vec<(u32, i64)>,
    /// What was written earlier is forgotten.
    since: u32,
}

impl Held {
    fn new(registers: usize) -> Held {
        Held { of: vec![(0, 0); registers], since: 1 }
    }

    fn get(&self, r: R) -> Option<i64> {
        let (when, v) = self.of[usize::from(r.0)];
        (when == self.since).then_some(v)
    }

    fn set(&mut self, r: R, v: i64) {
        self.of[usize::from(r.0)] = (self.since, v);
    }

    fn forget(&mut self, r: R) {
        self.of[usize::from(r.0)].0 = 0;
    }

    fn forget_all(&mut self) {
        self.since += 1;
    }
}

/// How many registers there are up to the highest one that operations name.
pub(super) fn registers(ops: &[Op]) -> usize {
    let mut most = 0;
    for op in ops {
        op.visit(&mut |r, _| most = most.max(usize::from(r.0) + 1));
    }
    most
}

/// Shortens a program whose jumps are counted from its first operation: what depends on the level alone is decided, jumps
/// lead where they end, what was found before on every way is not found again, and what no way leads to, or nobody reads, is left out.
///
/// Values, faults and their places stay the same, and so does the order of all stores. O(operations) a round, a few rounds.
pub fn tidy(ops: &mut Vec<Op>, params: &[R], cells: u32) {
    drop_pauses(ops);
    for _ in 0..ROUNDS {
        let before = ops.len();
        let decided = decide(ops, params);
        let threaded = thread(ops);
        turn_round(ops);
        drop_unreached(ops);
        let merged = one_constant_each(ops, params);
        let reused = reuse(ops, cells);
        drop_unread(ops);
        if !decided && !threaded && !merged && !reused && ops.len() == before {
            break;
        }
    }
}

/// Leaves out pauses that do nothing: where branches would wait for each other just before all of them end, since equal outcomes
/// become one anyway; and the places before a draw that no way comes to without a draw before, since moves stop before their
/// first draw alone.
fn drop_pauses(ops: &mut Vec<Op>) {
    let mut kept = vec![true; ops.len()];
    let at =
        |wanted: fn(&Op) -> bool| ops.iter().enumerate().filter(move |o| wanted(o.1)).map(|o| o.0).collect();
    let merges: Vec<usize> = at(|op| matches!(op, Op::Merge { .. }));
    let ends: Vec<usize> = at(|op| matches!(op, Op::Done {} | Op::Cut {}));
    // A program ends in one place, after the merge and nowhere else.
    if let ([merge], [end]) = (merges.as_slice(), ends.as_slice())
        && merge + 1 == *end
        && !targets(ops)[*end]
    {
        kept[*merge] = false;
    }
    let undrawn = reached(ops, |op| matches!(op, Op::Draw { .. }));
    for (i, op) in ops.iter().enumerate() {
        if matches!(op, Op::BeforeDraw { .. }) && !undrawn[i] {
            kept[i] = false;
        }
    }
    if kept.contains(&false) {
        keep(ops, &kept);
    }
}

/// Leaves some operations of a whole code out.
pub(crate) fn keep_in_code(code: &mut Code, kept: &[bool]) {
    let before: Vec<u32> = std::iter::once(0)
        .chain(kept.iter().scan(0, |n, k| {
            *n += u32::from(*k);
            Some(*n)
        }))
        .collect();
    keep(&mut code.ops, kept);
    for p in &mut code.programs {
        (p.entry, p.end) = (before[p.entry as usize], before[p.end as usize]);
    }
}

/// How often each register is written; what is given before the program runs counts as twice.
fn writes(ops: &[Op], params: &[R]) -> Vec<u32> {
    let most = params.iter().map(|r| usize::from(r.0) + 1).max().unwrap_or(0);
    let mut count = vec![0; registers(ops).max(most)];
    params.iter().for_each(|r| count[usize::from(r.0)] = 2);
    for op in ops {
        op.visit(&mut |r, written| count[usize::from(r.0)] += u32::from(written));
    }
    count
}

/// The operations that some way leads to from the first one; ways do not go on behind what `stops` them.
fn reached(ops: &[Op], stops: impl Fn(&Op) -> bool) -> Vec<bool> {
    let mut out = vec![false; ops.len()];
    let mut work = vec![0u32];
    while let Some(i) = work.pop() {
        if std::mem::replace(&mut out[i as usize], true) {
            continue;
        }
        let op = ops[i as usize];
        op.jumps(&mut |to| work.push(to.0));
        if !op.ends() && !stops(&op) {
            work.push(i + 1);
        }
    }
    out
}

/// The places that some jump leads to.
fn targets(ops: &[Op]) -> Vec<bool> {
    let mut out = vec![false; ops.len()];
    for op in ops {
        op.jumps(&mut |to| out[to.0 as usize] = true);
    }
    out
}

/// Whether a program may be suspended here, or another one may go on from here.
fn is_point(op: &Op) -> bool {
    matches!(op, Op::Draw { .. } | Op::Merge { .. } | Op::BeforeDraw { .. })
}

/// What an operation becomes that depends on known numbers alone, where `of` tells the number that a register holds; a jump that is not made leads to `next`.
pub(super) fn decided(op: &Op, next: To, of: impl Fn(R) -> Option<i64>) -> Option<Op> {
    let jump = |yes: bool, to: To| Op::Jump { to: if yes { to } else { next } };
    let two = |a: R, b: R| Some((of(a)?, of(b)?));
    let truth = |d: R, yes: bool| Op::Const { d, v: yes.into() };
    match *op {
        Op::JumpIf { a, to } => of(a).map(|v| jump(v != 0, to)),
        Op::JumpUnless { a, to } => of(a).map(|v| jump(v == 0, to)),
        Op::JumpEq { a, b, to } => two(a, b).map(|(a, b)| jump(a == b, to)),
        Op::JumpNe { a, b, to } => two(a, b).map(|(a, b)| jump(a != b, to)),
        Op::JumpLt { a, b, to } => two(a, b).map(|(a, b)| jump(a < b, to)),
        Op::JumpLe { a, b, to } => two(a, b).map(|(a, b)| jump(a <= b, to)),
        Op::Eq { d, a, b } => two(a, b).map(|(a, b)| truth(d, a == b)),
        Op::Ne { d, a, b } => two(a, b).map(|(a, b)| truth(d, a != b)),
        Op::Lt { d, a, b } => two(a, b).map(|(a, b)| truth(d, a < b)),
        Op::Le { d, a, b } => two(a, b).map(|(a, b)| truth(d, a <= b)),
        Op::Not { d, a } => of(a).map(|v| truth(d, v == 0)),
        Op::Copy { d, s } => of(s).map(|v| Op::Const { d, v }),
        Op::LaneLen { d, a } => of(a).map(|lane| Op::Const { d, v: lane_parts(lane).2 }),
        Op::PlaceAt { d, a, b, .. } => {
            two(a, b).and_then(|(row, col)| code::named_place(row, col)).map(|v| Op::Const { d, v })
        }
        // Nothing is moved, and a placed shape that is there does not break.
        Op::ShapeMove { d, p, o, .. } => of(o).filter(|o| *o == 0).map(|_| Op::Copy { d, s: p }),
        Op::Sum { d, a, b } => two(a, b).and_then(|(a, b)| a.checked_add(b)).map(|v| Op::Const { d, v }),
        _ => None,
    }
}

/// Decides comparisons of known numbers. A number is known where its register is written once, or last in the same
/// straight piece of code.
fn decide(ops: &mut [Op], params: &[R]) -> bool {
    let count = writes(ops, params);
    let mut once = Held::new(count.len());
    for op in ops.iter() {
        if let Op::Const { d, v } = *op
            && count[usize::from(d.0)] == 1
        {
            once.set(d, v);
        }
    }
    let targets = targets(ops);
    let mut here = Held::new(count.len());
    let mut changed = false;
    for i in 0..ops.len() {
        if targets[i] || is_point(&ops[i]) {
            here.forget_all();
        }
        let of = |r: R| once.get(r).or_else(|| here.get(r));
        if let Some(new) = decided(&ops[i], To(i as u32 + 1), of)
            && (i + 1 < ops.len() || !matches!(new, Op::Jump { to } if to.0 as usize > i))
        {
            ops[i] = new;
            changed = true;
        }
        let op = ops[i];
        op.visit(&mut |r, written| {
            if written {
                here.forget(r);
            }
        });
        if let Op::Const { d, v } = op {
            here.set(d, v);
        }
        if op.ends() {
            here.forget_all();
        }
    }
    changed
}

/// Where a jump to a place ends, other jumps followed.
fn end_of(ops: &[Op], mut at: u32) -> u32 {
    for _ in 0..ops.len() {
        match ops[at as usize] {
            Op::Jump { to } if to.0 != at => at = to.0,
            _ => break,
        }
    }
    at
}

/// Lets jumps lead where they end. A jump behind a known number, to a test of that number, leads past the test.
fn thread(ops: &mut [Op]) -> bool {
    let mut changed = false;
    let targets = targets(ops);
    for i in 0..ops.len() {
        let mut op = ops[i];
        if let Op::Jump { to } = &mut op {
            let mut at = end_of(ops, to.0);
            if i > 0
                && !targets[i]
                && let Op::Const { d, v } = ops[i - 1]
            {
                at = match ops[at as usize] {
                    Op::JumpIf { a, to } if a == d => {
                        if v != 0 {
                            to.0
                        } else {
                            at + 1
                        }
                    }
                    Op::JumpUnless { a, to } if a == d => {
                        if v == 0 {
                            to.0
                        } else {
                            at + 1
                        }
                    }
                    _ => at,
                };
            }
            to.0 = at;
        } else {
            op = op.renamed(&mut Jumps(|to| end_of(ops, to)));
        }
        changed |= op != ops[i];
        ops[i] = op;
    }
    changed
}

/// Tests the opposite where a test only leads past a jump, which then goes.
fn turn_round(ops: &mut [Op]) {
    let targets = targets(ops);
    for i in 0..ops.len().saturating_sub(2) {
        let (Op::Jump { to: there }, false) = (ops[i + 1], targets[i + 1]) else { continue };
        let past = To(i as u32 + 2);
        let opposite = match ops[i] {
            Op::JumpIf { a, to } if to == past => Op::JumpUnless { a, to: there },
            Op::JumpUnless { a, to } if to == past => Op::JumpIf { a, to: there },
            Op::JumpEq { a, b, to } if to == past => Op::JumpNe { a, b, to: there },
            Op::JumpNe { a, b, to } if to == past => Op::JumpEq { a, b, to: there },
            Op::JumpLt { a, b, to } if to == past => Op::JumpLe { a: b, b: a, to: there },
            Op::JumpLe { a, b, to } if to == past => Op::JumpLt { a: b, b: a, to: there },
            _ => continue,
        };
        ops[i] = opposite;
        ops[i + 1] = Op::Jump { to: past };
    }
}

/// Leaves out what no way leads to, and jumps to what comes next anyway.
fn drop_unreached(ops: &mut Vec<Op>) {
    let mut reached = reached(ops, |_| false);
    // What is kept next, behind each place.
    let mut next = vec![ops.len() as u32; ops.len() + 1];
    for i in (0..ops.len()).rev() {
        let idle = match ops[i] {
            Op::Jump { to }
            | Op::JumpIf { to, .. }
            | Op::JumpUnless { to, .. }
            | Op::JumpEq { to, .. }
            | Op::JumpNe { to, .. }
            | Op::JumpLt { to, .. }
            | Op::JumpLe { to, .. } => {
                to.0 as usize > i && next[to.0 as usize] == next[i + 1] && (next[i + 1] as usize) < ops.len()
            }
            _ => false,
        };
        reached[i] &= !idle;
        next[i] = if reached[i] { i as u32 } else { next[i + 1] };
    }
    keep(ops, &reached);
}

/// Keeps the marked operations; jumps to others lead to what is kept next.
fn keep(ops: &mut Vec<Op>, kept: &[bool]) {
    let mut at = Vec::with_capacity(ops.len() + 1);
    let mut n = 0;
    for &k in kept {
        at.push(n);
        n += u32::from(k);
    }
    let mut marks = kept.iter();
    ops.retain(|_| *marks.next().expect("a mark for each"));
    for op in ops {
        *op = op.renamed(&mut Jumps(|to| at[to as usize]));
    }
}

/// Writes a number once in a straight piece of code.
fn one_constant_each(ops: &mut Vec<Op>, params: &[R]) -> bool {
    let count = writes(ops, params);
    let targets = targets(ops);
    let mut here: HashMap<i64, R> = HashMap::new();
    let mut names = Renames((0..count.len()).map(|r| R(r as u16)).collect());
    let mut kept = vec![true; ops.len()];
    for (i, op) in ops.iter().enumerate() {
        if targets[i] || is_point(op) {
            here.clear();
        }
        if let Op::Const { d, v } = *op
            && count[usize::from(d.0)] == 1
        {
            match here.get(&v) {
                Some(first) => {
                    names.0[usize::from(d.0)] = *first;
                    kept[i] = false;
                }
                None => {
                    here.insert(v, d);
                }
            }
        }
    }
    if !kept.contains(&false) {
        return false;
    }
    keep(ops, &kept);
    for op in ops.iter_mut() {
        *op = op.renamed(&mut names);
    }
    true
}

/// The register that an operation writes, where that is all it does: no fault, no store, no jump.
pub(super) fn only_writes(op: &Op) -> Option<R> {
    match *op {
        Op::Const { d, .. }
        | Op::Copy { d, .. }
        | Op::Min { d, .. }
        | Op::Max { d, .. }
        | Op::Eq { d, .. }
        | Op::Ne { d, .. }
        | Op::Lt { d, .. }
        | Op::Le { d, .. }
        | Op::Not { d, .. }
        | Op::Sum { d, .. }
        | Op::Load { d, .. }
        | Op::LoadAt { d, .. }
        | Op::LoadFrom { d, .. }
        | Op::Entry { d, .. }
        | Op::PlaceOf { d, .. }
        | Op::LaneLen { d, .. }
        | Op::LaneCell { d, .. }
        | Op::Row { d, .. }
        | Op::Col { d, .. }
        | Op::ShapeTurn { d, .. }
        | Op::ShapeMirror { d, .. }
        | Op::ShapeLen { d, .. }
        | Op::ShapeKind { d, .. }
        | Op::ShapeAnchor { d, .. }
        | Op::CompareBlocks { d, .. }
        | Op::Compare { d, .. }
        | Op::CompareTo { d, .. }
        | Op::BitAnd { d, .. }
        | Op::BitOr { d, .. }
        | Op::BitMinus { d, .. }
        | Op::BitMove { d, .. }
        | Op::BitCount { d, .. }
        | Op::BitAt { d, .. }
        | Op::FloodBits { d, .. }
        | Op::ShapeBits { d, .. }
        | Op::ShapeFits { d, .. }
        | Op::Spread { d, .. } => Some(d),
        _ => None,
    }
}

/// Leaves out what only writes a register that nobody reads before it is written again, by the usual backward flow (Aho, Lam,
/// Sethi, Ullman, *Compilers*, 9.2.5).
fn drop_unread(ops: &mut Vec<Op>) {
    // Registers that are named, as near to each other as can be.
    const UNNAMED: u32 = u32::MAX;
    let mut numbers = vec![UNNAMED; registers(ops)];
    let mut named = 0;
    for op in ops.iter() {
        op.visit(&mut |r, _| {
            let number = &mut numbers[usize::from(r.0)];
            if *number == UNNAMED {
                *number = named;
                named += 1;
            }
        });
    }
    let words = (named as usize).div_ceil(64);
    let bit = |r: R| {
        let number = numbers[usize::from(r.0)];
        (number as usize / 64, 1u64 << (number % 64))
    };
    // What is read later, from each operation on.
    let mut live = vec![0u64; words * (ops.len() + 1)];
    let mut kept = vec![true; ops.len()];
    let mut set = vec![0u64; words];
    let mut again = true;
    while again {
        again = false;
        for (i, op) in ops.iter().enumerate().rev() {
            set.fill(0);
            if !op.ends() {
                set.copy_from_slice(&live[(i + 1) * words..(i + 2) * words]);
            }
            op.jumps(&mut |to| {
                let there = &live[to.0 as usize * words..(to.0 as usize + 1) * words];
                set.iter_mut().zip(there).for_each(|(s, l)| *s |= l);
            });
            kept[i] = only_writes(op).is_none_or(|d| set[bit(d).0] & bit(d).1 != 0);
            if kept[i] {
                for write in [true, false] {
                    op.visit(&mut |r, written| {
                        let (word, mask) = bit(r);
                        if write && written {
                            set[word] &= !mask;
                        } else if !write && !written {
                            set[word] |= mask;
                        }
                    });
                }
            }
            let here = &mut live[i * words..(i + 1) * words];
            if here != set.as_slice() {
                here.copy_from_slice(&set);
                again = true;
            }
        }
    }
    if kept.contains(&false) {
        keep(ops, &kept);
    }
}
