//! Positions before a draw: how a move that is about to draw is written down, so that all moves that come to the same
//! position share what chance does to it.

use std::collections::HashMap;

use fendle_core::Layout;

use super::ops::Renaming;
use super::*;

/// What is live at a place, beside the state now, in the order in which it is written down.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Held {
    /// Registers.
    pub regs: Vec<R>,
    /// Scratch blocks: address and length.
    pub blocks: Vec<(u32, u32)>,
}

/// How positions before a draw are written down.
///
/// ```text
/// the state now, packed | which continuation (16 bits) | its registers, 64 bits each | its blocks, 32 bits a number
/// ```
///
/// A *continuation* is the code that follows. Two places go on alike when their code is the same but for the names of
/// registers, blocks and jumps; they then are the same continuation, so that `shift left` and `shift right` that leave the same
/// board share their draws.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Positions {
    layout: Layout,
    state_bits: u32,
    /// For each continuation, where its code begins, and what it holds.
    continuations: Vec<(u32, Held)>,
    /// For each [`Point`], its continuation and what it holds, in the order of the continuation; `None` where a move does not
    /// stop.
    of_point: Vec<Option<(u16, Held)>>,
}

/// Bits that name a continuation.
const CONTINUATION_BITS: u32 = 16;
/// Positions of more bits are not written down.
const BITS_MAX: u32 = 4096;

/// The code from one place on, under names that depend on nothing but its shape.
struct Naming<'c> {
    code: &'c Code,
    regs: HashMap<R, R>,
    blocks: HashMap<usize, u32>,
    places: HashMap<u32, u32>,
    order: Vec<u32>,
    /// Some block is too long to be named.
    too_long: bool,
}

impl Renaming for Naming<'_> {
    fn register(&mut self, r: R) -> R {
        let next = R(self.regs.len() as u16);
        *self.regs.entry(r).or_insert(next)
    }
    fn block(&mut self, m: M) -> M {
        let Some(block) = self.code.block_at(m) else { return m };
        let next = self.blocks.len() as u32;
        let name = *self.blocks.entry(block).or_insert(next);
        let offset = m.0 - self.code.scratch[block].0;
        self.too_long |= name >= 1 << 15 || offset >= 1 << 16;
        // Above everything that has a fixed place.
        M(1 << 31 | name << 16 | offset & 0xffff)
    }
    fn jump(&mut self, to: To) -> To {
        To(self.visit(to.0))
    }
}

impl Naming<'_> {
    fn visit(&mut self, place: u32) -> u32 {
        let next = self.order.len() as u32;
        *self.places.entry(place).or_insert_with(|| {
            self.order.push(place);
            next
        })
    }
}

/// A piece of code as its shape: each operation with the place that follows it.
type Steps = Vec<(Op, u32)>;

impl Positions {
    /// For the code of a level with states of this layout; `None` where no move draws, or none stops before it.
    #[must_use]
    pub fn new(code: &Code, state: Layout) -> Option<Positions> {
        let mut found = Positions {
            layout: state,
            state_bits: state.bits,
            continuations: vec![],
            of_point: vec![None; code.points.len()],
        };
        let mut shapes: HashMap<Steps, u16> = HashMap::new();
        let mut most = 0;
        for (pc, op) in code.ops.iter().enumerate() {
            let Op::BeforeDraw { point } = *op else { continue };
            let Some((shape, held)) = shape_of(code, pc as u32 + 1, &code.points[usize::from(point)]) else {
                continue;
            };
            let bits = 64 * held.regs.len() as u32 + 32 * held.blocks.iter().map(|b| b.1).sum::<u32>();
            if state.bits + CONTINUATION_BITS + bits > BITS_MAX {
                continue;
            }
            let next = u16::try_from(found.continuations.len()).ok()?;
            let number = *shapes.entry(shape).or_insert(next);
            if number == next {
                found.continuations.push((pc as u32 + 1, held.clone()));
            }
            most = most.max(bits);
            found.of_point[usize::from(point)] = Some((number, held));
        }
        found.layout = Layout::new(state.bits + CONTINUATION_BITS + most);
        (!found.continuations.is_empty()).then_some(found)
    }

    /// The shape of a position.
    #[must_use]
    pub fn layout(&self) -> Layout {
        self.layout
    }

    /// Bits of the state now, which come first.
    #[must_use]
    pub fn state_bits(&self) -> u32 {
        self.state_bits
    }

    /// The continuation of a point and what is held there, if moves stop there.
    #[must_use]
    pub fn at(&self, point: u16) -> Option<&(u16, Held)> {
        self.of_point[usize::from(point)].as_ref()
    }

    /// Where a continuation begins, and what it holds.
    #[must_use]
    pub fn continuation(&self, number: u16) -> &(u32, Held) {
        &self.continuations[usize::from(number)]
    }

    /// How many continuations there are, where none of them holds anything: a position then is a state and a continuation.
    #[must_use]
    pub fn bare(&self) -> Option<u64> {
        let bare = |h: &Held| h.regs.is_empty() && h.blocks.is_empty();
        self.continuations.iter().all(|c| bare(&c.1)).then_some(self.continuations.len() as u64)
    }

    /// Bits that name a continuation.
    #[must_use]
    pub fn continuation_bits() -> u32 {
        CONTINUATION_BITS
    }
}

/// The shape of the code from a place on, and what it holds. `None` where what follows depends on more than the state now and
/// what is live: on the state before the move; or where the move may still be refused.
fn shape_of(code: &Code, from: u32, point: &Point) -> Option<(Steps, Held)> {
    let before = code.before..code.before + code.state_len;
    let mut shape = Naming {
        code,
        regs: HashMap::new(),
        blocks: HashMap::new(),
        places: HashMap::new(),
        order: vec![],
        too_long: false,
    };
    shape.visit(from);
    let mut out: Steps = vec![];
    while out.len() < shape.order.len() {
        let pc = shape.order[out.len()];
        let op = code.ops[pc as usize];
        let mut fits = !matches!(
            op,
            Op::Refuse { .. }
                | Op::NotOffered {}
                | Op::RefuseAt { .. }
                | Op::RefuseIn { .. }
                | Op::RefuseAmong { .. }
        );
        op.roles(&mut |role| {
            if let Role::Block(m, len) = role {
                let end = m.0 + len.unwrap_or(code.cells);
                fits &= m.0 >= before.end || end <= before.start;
            }
        });
        // A block that is reached by an address in a register: lists of the state before the move.
        let list = list_of(&op);
        fits &= list.is_none_or(|l| !before.contains(&code.lists[usize::from(l)].base.0));
        // An address as a number.
        if let Op::Const { v, .. } = op {
            fits &= list_base(code, v).is_none_or(|l| !before.contains(&l));
        }
        if !fits {
            return None;
        }
        let mut renamed = op.renamed(&mut shape);
        match &mut renamed {
            // What is live there follows from the code.
            Op::Draw { point, .. } | Op::Merge { point } | Op::BeforeDraw { point } => *point = 0,
            _ => {}
        }
        let next = if op.ends() { u32::MAX } else { shape.visit(pc + 1) };
        out.push((renamed, next));
    }
    if shape.too_long {
        return None;
    }
    let mut regs = point.regs.clone();
    regs.sort_by_key(|r| shape.regs.get(r).map_or(u16::MAX, |n| n.0));
    let mut blocks = point.blocks.clone();
    blocks.sort_by_key(|b| code.block_at(M(b.0)).and_then(|n| shape.blocks.get(&n)).map_or(u32::MAX, |n| *n));
    Some((out, Held { regs, blocks }))
}

/// The base of a list, where a number is the address of one.
fn list_base(code: &Code, v: i64) -> Option<u32> {
    code.lists.iter().map(|l| l.base.0).find(|b| i64::from(*b) == v)
}

/// The list that an operation works on.
fn list_of(op: &Op) -> Option<u16> {
    match *op {
        Op::LoadFrom { list, .. }
        | Op::PutInto { list, .. }
        | Op::ListCopy { list, .. }
        | Op::ListSame { list, .. }
        | Op::ListCheck { list, .. }
        | Op::ListFind { list, .. }
        | Op::ListAdd { list, .. }
        | Op::ListDrop { list, .. }
        | Op::ListTail { list, .. }
        | Op::ListJoin { list, .. } => Some(list),
        _ => None,
    }
}
