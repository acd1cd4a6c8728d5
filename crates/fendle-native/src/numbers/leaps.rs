//! Leaps as machine code: one function goes through many states, and nothing of a state is written down but where its moves
//! lead.
//!
//! ```text
//! leap(numbers, heads, len, out, goes_on) -> how many numbers were written
//!
//! each state      its digits; of those that are asked or changed the forms: one bit a place of a set, one nibble a place of
//!                 an order; then its status, then the tree of tests, in which each leap writes one number
//! ```

use std::collections::{BTreeMap, BTreeSet};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU8, Ordering::Relaxed};

use cranelift_codegen::ir::{Function, UserFuncName};
use cranelift_frontend::Switch;
use cranelift_module::{FuncId, Linkage, Module};
use fendle_lang::code::leaps::{About, Delta, Endings, Leap, LeapPlan, Leaps, Node};
use fendle_lang::code::machine::LeapsMade;

use super::unpack::{divided, listed_sets, order_places, set_members};
use super::*;
use crate::owned::OwnedModule;

/// Bytes of a list of sets that are always spent.
const LISTED_BYTES: u64 = 4 << 20;
/// A list of sets takes at the most one byte for so many numbers.
const NUMBERS_A_BYTE: u64 = 4;

/// Where a digit counts as much or more, states that follow each other have the same one anyway.
const GROUPED_BELOW: u64 = 64;

/// Numbers, heads, length, room for the numbers that are reached, and for each status code whether moves go on from it.
type LeapFn = unsafe extern "C" fn(*const u64, *mut u32, u64, *mut u32, *const u8) -> u64;

/// The code of the leaps of a level, which is made when it is asked for the first time: only a search by number asks.
pub(super) struct WhenLeapt {
    keys: Keys,
    plan: LeapPlan,
    code: OnceLock<Option<LeapCode>>,
}

impl WhenLeapt {
    /// None is made yet.
    pub(super) fn new(keys: Keys, plan: LeapPlan) -> WhenLeapt {
        WhenLeapt { keys, plan, code: OnceLock::new() }
    }

    /// The code, unless this machine does not allow it.
    pub(super) fn get(&self) -> Option<&LeapCode> {
        self.code.get_or_init(|| compile(&self.keys, &self.plan).ok()).as_ref()
    }

    /// Bytes that its tables take, or will take.
    pub(super) fn bytes(&self) -> u64 {
        let sets = self.keys.describe().into_iter().map(|(described, ..)| match described {
            Described::Members { firsts, most, .. } if is_listed(firsts, most, self.keys.range()) => {
                8 * firsts[most + 1]
            }
            _ => 0,
        });
        let kept = if let Endings::ByDigits { len, .. } = self.plan.endings { len } else { 0 };
        sets.sum::<u64>() + kept
    }
}

/// Whether the sets of a field are listed, one word each.
fn is_listed(firsts: &[u64], most: usize, range: u64) -> bool {
    let bytes = firsts[most + 1].saturating_mul(8);
    bytes <= LISTED_BYTES || bytes <= range / NUMBERS_A_BYTE
}

/// Makes the code of the leaps.
fn compile(keys: &Keys, plan: &LeapPlan) -> Result<LeapCode, String> {
    let mut module = OwnedModule::new().map_err(|e| e.to_string())?;
    let mut builders = FunctionBuilderContext::new();
    let mut tables = vec![];
    let mut ids = vec![];
    let forwards = (&plan.forwards, Some(&plan.endings));
    let all = std::iter::once(forwards).chain(plan.backwards.as_ref().map(|b| (b, None)));
    for (number, (leaps, endings)) in all.enumerate() {
        let mut context = module.make_context();
        context.func.signature.call_conv = module.isa().default_call_conv();
        context.func.signature.params = vec![AbiParam::new(I64); 5];
        context.func.signature.returns.push(AbiParam::new(I64));
        let name = format!("l{number}");
        let id = module.declare_function(&name, Linkage::Local, &context.func.signature);
        let id = id.map_err(|e| e.to_string())?;
        context.func.name = UserFuncName::user(2, number as u32);
        LeapWriter::write(keys, leaps, endings, &mut context.func, &mut builders, &mut tables);
        module.define_function(id, &mut context).map_err(|e| format!("{e:?}"))?;
        ids.push((id, leaps.most));
    }
    module.finalize_definitions().map_err(|e| e.to_string())?;
    let made = |(id, most): (FuncId, usize)| {
        // SAFETY: the function at this address has the signature that was given to it above.
        let function = unsafe { std::mem::transmute::<*const u8, LeapFn>(module.get_finalized_function(id)) };
        (function, most)
    };
    let (forwards, most) = made(ids[0]);
    Ok(LeapCode {
        forwards,
        most,
        backwards: ids.get(1).copied().map(made),
        status: StatusOf::new(&plan.endings),
        groups: groups(keys, &plan.forwards),
        _module: module,
        _tables: tables,
    })
}

/// The code of the leaps of a level.
pub(super) struct LeapCode {
    _module: OwnedModule,
    _tables: Vec<Box<[i64]>>,
    forwards: LeapFn,
    /// The most leaps of a state.
    most: usize,
    backwards: Option<(LeapFn, usize)>,
    status: StatusOf,
    /// States follow each other best in groups that answer the first question alike: what its digit counts, and how many
    /// there are.
    pub(super) groups: Option<(u64, u64)>,
}

// SAFETY: nothing in it changes after it was made but the codes that are kept, one byte at a time.
unsafe impl Send for LeapCode {}
// SAFETY: as above.
unsafe impl Sync for LeapCode {}

/// Where the function takes the status of a state from.
enum StatusOf {
    /// It finds it itself.
    Answers,
    /// It is given it: kept for each value of `number / stride % len`, 0 where it was not asked yet, else one more than
    /// the code.
    Kept { stride: u64, len: u64, codes: Box<[AtomicU8]> },
    /// It is given it: the rules are asked for each state.
    Rules,
}

/// The digit that the first question is about, if that is all that is asked first and neighbours differ in it.
fn groups(keys: &Keys, leaps: &Leaps) -> Option<(u64, u64)> {
    let [(About::Digit(field), _)] = leaps.root.tests.as_slice() else { return None };
    let (_, stride, _, digits) = keys.describe().swap_remove(*field);
    (stride < GROUPED_BELOW).then_some((stride, digits))
}

impl StatusOf {
    fn new(endings: &Endings) -> StatusOf {
        match *endings {
            Endings::ByAnswers(_) => StatusOf::Answers,
            Endings::ByDigits { stride, len } => {
                StatusOf::Kept { stride, len, codes: (0..len).map(|_| AtomicU8::new(0)).collect() }
            }
            Endings::ByRules => StatusOf::Rules,
        }
    }
}

impl LeapCode {
    /// Where the moves of some states lead. `ask` gives the status of a state by the rules, or [`LeapsMade::ASK`].
    pub(super) fn leap(
        &self,
        numbers: &[u64],
        past_goals: &[bool],
        out: &mut LeapsMade,
        mut ask: impl FnMut(u64) -> u32,
    ) {
        out.heads.clear();
        match &self.status {
            StatusOf::Answers => out.heads.resize(numbers.len(), 0),
            StatusOf::Rules => out.heads.extend(numbers.iter().map(|n| ask(*n))),
            StatusOf::Kept { stride, len, codes } => out.heads.extend(numbers.iter().map(|n| {
                let kept = &codes[(n / stride % len) as usize];
                match kept.load(Relaxed) {
                    0 => {
                        let code = ask(*n);
                        // Codes that do not fit are asked for again.
                        kept.store(u8::try_from(code.wrapping_add(1)).unwrap_or(0), Relaxed);
                        code
                    }
                    code => u32::from(code) - 1,
                }
            })),
        }
        let mut goes_on = [0; 256];
        goes_on[0] = 1;
        for (on, goes) in goes_on[1..].iter_mut().zip(past_goals) {
            *on = u8::from(*goes);
        }
        call(self.forwards, self.most, numbers, &goes_on, out);
    }

    /// The states from which one move leads into each of these; false where that is not known.
    pub(super) fn leap_back(&self, numbers: &[u64], out: &mut LeapsMade) -> bool {
        let Some((backwards, most)) = self.backwards else { return false };
        out.heads.clear();
        out.heads.resize(numbers.len(), 0);
        call(backwards, most, numbers, &[1; 256], out);
        true
    }
}

/// Calls a function of leaps. Numbers are below the range, heads hold a status code or [`LeapsMade::ASK`].
fn call(function: LeapFn, most: usize, numbers: &[u64], goes_on: &[u8; 256], out: &mut LeapsMade) {
    assert!(out.heads.len() == numbers.len() && out.heads.iter().all(|h| *h < 256 || *h == LeapsMade::ASK));
    out.numbers.clear();
    // A leap that turns out not to count is written, too, before the next one takes its place.
    out.numbers.reserve(numbers.len() * most + 1);
    // SAFETY: the function reads one number and one head a state, and looks a status code up among 256; it writes one head a
    // state and no more numbers than there are leaps on any way through its tree, and there is room for these. It gives how many
    // it wrote.
    unsafe {
        let (numbers_at, heads_at) = (numbers.as_ptr(), out.heads.as_mut_ptr());
        let room = out.numbers.as_mut_ptr();
        let written = function(numbers_at, heads_at, numbers.len() as u64, room, goes_on.as_ptr());
        debug_assert!(written as usize <= numbers.len() * most);
        out.numbers.set_len(written as usize);
    }
}

/// What is held of a field while a state is looked at.
#[derive(Clone)]
pub(super) struct Form<'k> {
    pub(super) described: Described<'k>,
    pub(super) stride: u64,
    pub(super) digit: Value,
    /// Of a set its places, one bit each; of an order the number of the value at each place, one nibble each.
    pub(super) word: Value,
    /// Of an order the place of each value.
    places: Vec<Value>,
}

/// Writes one function.
pub(super) struct LeapWriter<'w> {
    pub(super) b: FunctionBuilder<'w>,
    keys: &'w Keys,
    tables: &'w mut Vec<Box<[i64]>>,
    pub(super) forms: BTreeMap<usize, Form<'w>>,
    pub(super) number: Value,
    /// Where a state goes of which the rules have to be asked.
    pub(super) ask: Block,
    /// Places of orders whose values are known where the code is being written, and their numbers.
    pub(super) known: Vec<((usize, u8), u8)>,
    /// A state is passed over, and no rules asked, where a leap leads to none with a number.
    pub(super) backwards: bool,
}

pub(super) fn flags() -> MemFlags {
    MemFlags::trusted()
}

/// The fields of which something is asked or changed.
fn fields_of(node: &Node, out: &mut BTreeSet<usize>) {
    for (about, branches) in &node.tests {
        out.insert(match *about {
            About::Digit(f) | About::Member(f, _) | About::PlaceOf(f, _) | About::At(f, _) => f,
        });
        branches.values().for_each(|n| fields_of(n, out));
    }
    for leap in &node.leaps {
        let Leap::To(deltas) = leap else { continue };
        for delta in deltas {
            match *delta {
                Delta::Add(_) => {}
                Delta::Moved { field, .. }
                | Delta::Members { field, .. }
                | Delta::Swapped { field, .. }
                | Delta::Arranged { field, .. } => {
                    out.insert(field);
                }
            }
        }
    }
}

impl<'w> LeapWriter<'w> {
    /// Writes the function of some leaps. With `endings` the status is found or read; without, every state has leaps.
    pub(super) fn write(
        keys: &'w Keys,
        leaps: &Leaps,
        endings: Option<&Endings>,
        function: &'w mut Function,
        builders: &'w mut FunctionBuilderContext,
        tables: &'w mut Vec<Box<[i64]>>,
    ) {
        let mut b = FunctionBuilder::new(function, builders);
        let first = b.create_block();
        b.append_block_params_for_function_params(first);
        b.switch_to_block(first);
        let params = b.block_params(first).to_vec();
        let (head, body, end) = (b.create_block(), b.create_block(), b.create_block());
        let (ask, next) = (b.create_block(), b.create_block());
        for block in [head, next] {
            b.append_block_param(block, I64);
        }
        b.append_block_param(head, I64);
        b.set_cold_block(ask);
        let zero = b.ins().iconst(I64, 0);
        b.ins().jump(head, &[BlockArg::Value(zero), BlockArg::Value(params[3])]);
        b.switch_to_block(head);
        let (at, start) = (b.block_params(head)[0], b.block_params(head)[1]);
        let left = b.ins().icmp(IntCC::UnsignedLessThan, at, params[2]);
        b.ins().brif(left, body, &[], end, &[]);
        b.switch_to_block(body);
        let bytes = b.ins().ishl_imm(at, 3);
        let number_at = b.ins().iadd(params[0], bytes);
        let number = b.ins().load(I64, flags(), number_at, 0);
        let bytes = b.ins().ishl_imm(at, 2);
        let head_at = b.ins().iadd(params[1], bytes);
        let backwards = endings.is_none();
        let mut w =
            LeapWriter { b, keys, tables, forms: BTreeMap::new(), number, ask, known: vec![], backwards };
        w.unpack(&leaps.root, endings);
        let status = match endings {
            None => zero,
            Some(Endings::ByAnswers(list)) => w.status(list),
            Some(Endings::ByDigits { .. } | Endings::ByRules) => w.b.ins().uload32(flags(), head_at, 0),
        };
        if endings.is_some() {
            // What the rules were asked for and could not tell stays as it is.
            let (known, on) = (w.b.create_block(), w.b.create_block());
            let asks = w.b.ins().icmp_imm(IntCC::Equal, status, i64::from(LeapsMade::ASK));
            w.b.ins().brif(asks, ask, &[], known, &[]);
            w.b.switch_to_block(known);
            let goes_at = w.b.ins().iadd(params[4], status);
            let goes = w.b.ins().uload8(I64, flags(), goes_at, 0);
            w.b.ins().brif(goes, on, &[], next, &[BlockArg::Value(start)]);
            w.b.switch_to_block(on);
        }
        let out = w.node(&leaps.root, start);
        w.b.ins().jump(next, &[BlockArg::Value(out)]);
        // The head: status and how many numbers were written.
        w.b.switch_to_block(next);
        let out = w.b.block_params(next)[0];
        let written = w.b.ins().isub(out, start);
        // Each number takes four bytes, and the count begins at bit 8.
        let count = w.b.ins().ishl_imm(written, 6);
        let word = w.b.ins().bor(count, status);
        w.b.ins().istore32(flags(), word, head_at, 0);
        let after = w.b.ins().iadd_imm(at, 1);
        w.b.ins().jump(head, &[BlockArg::Value(after), BlockArg::Value(out)]);
        w.b.switch_to_block(ask);
        let word = w.b.ins().iconst(I64, i64::from(LeapsMade::ASK));
        w.b.ins().istore32(flags(), word, head_at, 0);
        let after = w.b.ins().iadd_imm(at, 1);
        w.b.ins().jump(head, &[BlockArg::Value(after), BlockArg::Value(start)]);
        w.b.switch_to_block(end);
        let written = w.b.ins().isub(start, params[3]);
        let count = w.b.ins().ushr_imm(written, 2);
        w.b.ins().return_(&[count]);
        w.b.seal_all_blocks();
        w.b.finalize();
    }

    pub(super) fn constant(&mut self, n: i64) -> Value {
        self.b.ins().iconst(I64, n)
    }

    /// The address of a table of fixed numbers.
    pub(super) fn table(&mut self, entries: Vec<i64>) -> Value {
        kept_table(&mut self.b, self.tables, entries)
    }

    /// An entry of a table; the index is known to be inside.
    pub(super) fn entry(&mut self, table: Value, index: Value) -> Value {
        entry_of(&mut self.b, table, index)
    }

    /// Digits and forms of the fields that are used.
    fn unpack(&mut self, root: &Node, endings: Option<&Endings>) {
        let mut used = BTreeSet::new();
        fields_of(root, &mut used);
        if let Some(Endings::ByAnswers(list)) = endings {
            for (about, _) in list.iter().flat_map(|e| &e.0) {
                used.insert(match *about {
                    About::Digit(f) | About::Member(f, _) | About::PlaceOf(f, _) | About::At(f, _) => f,
                });
            }
        }
        let zero = self.constant(0);
        for (field, (described, stride, _, digits)) in self.keys.describe().into_iter().enumerate() {
            if !used.contains(&field) {
                continue;
            }
            let here = if stride == 1 { self.number } else { divided(&mut self.b, self.number, stride) };
            let digit = if stride * digits == self.keys.range() {
                here
            } else {
                let above = divided(&mut self.b, self.number, stride * digits);
                let whole = self.b.ins().imul_imm(above, digits as i64);
                self.b.ins().isub(here, whole)
            };
            let (word, places) = match described {
                Described::Members { slots, least, most, firsts, ways } => {
                    (self.set(digit, slots.len(), (least, most), firsts, ways), vec![])
                }
                Described::Order { slots, weights, inverses, parity, .. } => {
                    self.order(digit, slots.len(), (weights, inverses), parity)
                }
                Described::Single { .. } | Described::Sorted(_) | Described::Other => (zero, vec![]),
            };
            self.forms.insert(field, Form { described, stride, digit, word, places });
        }
    }

    /// The places of a set that hold a member, one bit each.
    fn set(
        &mut self,
        digit: Value,
        len: usize,
        (least, most): (usize, usize),
        firsts: &[u64],
        (ways, row): (&[u64], usize),
    ) -> Value {
        if is_listed(firsts, most, self.keys.range()) {
            let bits: Vec<u64> = (0..len).map(|i| 1 << i).collect();
            let sets = self.table(listed_sets(&bits, (least, most), firsts, (ways, row)));
            return self.entry(sets, digit);
        }
        let firsts_at = self.table(firsts.iter().map(|f| *f as i64).collect());
        let ways_at = self.table(ways.iter().map(|w| *w as i64).collect());
        let members = set_members(&mut self.b, digit, len, (least, firsts), (firsts_at, ways_at, row));
        let mut word = self.constant(0);
        for (place, here) in members.into_iter().enumerate() {
            let bit = self.b.ins().ishl_imm(here, place as i64);
            word = self.b.ins().bor(word, bit);
        }
        word
    }

    /// The numbers of the values of an order by place, one nibble each, and the place of each value.
    fn order(
        &mut self,
        digit: Value,
        len: usize,
        (weights, inverses): (&[u64], &[u64]),
        parity: Option<(bool, &[(u8, u32)])>,
    ) -> (Value, Vec<Value>) {
        let places = order_places(&mut self.b, digit, len, (weights, inverses), parity);
        // Value number 0 has nothing to add.
        let mut word = self.constant(0);
        for (number, place) in places.iter().enumerate().skip(1) {
            let shift = self.b.ins().ishl_imm(*place, 2);
            let number = self.constant(number as i64);
            let nibble = self.b.ins().ishl(number, shift);
            word = self.b.ins().bor(word, nibble);
        }
        (word, places)
    }

    /// Whether an answer holds.
    fn holds(&mut self, about: About, answer: u32) -> Value {
        let value = self.answer(about);
        self.b.ins().icmp_imm(IntCC::Equal, value, i64::from(answer))
    }

    /// The answer to a question.
    fn answer(&mut self, about: About) -> Value {
        match about {
            About::Digit(field) => self.forms[&field].digit,
            About::Member(field, place) => {
                let word = self.forms[&field].word;
                let bit = self.b.ins().ushr_imm(word, i64::from(place));
                self.b.ins().band_imm(bit, 1)
            }
            About::PlaceOf(field, number) => self.forms[&field].places[usize::from(number)],
            About::At(field, place) => self.at(field, place),
        }
    }

    /// The number of the value at a place of an order.
    pub(super) fn at(&mut self, field: usize, place: u8) -> Value {
        if let Some((_, number)) = self.known.iter().find(|k| k.0 == (field, place)) {
            let number = i64::from(*number);
            return self.constant(number);
        }
        let word = self.forms[&field].word;
        let nibble = self.b.ins().ushr_imm(word, i64::from(place) * 4);
        self.b.ins().band_imm(nibble, 15)
    }

    /// The code of the first ending that holds.
    fn status(&mut self, list: &[(Vec<(About, u32)>, u32)]) -> Value {
        let mut status = self.constant(0);
        for (asks, code) in list.iter().rev() {
            // Places of one field are compared together.
            let mut words: BTreeMap<usize, (u64, u64)> = BTreeMap::new();
            let mut all = None;
            let mut and = |w: &mut Self, more: Value| {
                all = Some(match all {
                    None => more,
                    Some(x) => w.b.ins().band(x, more),
                });
            };
            for (about, answer) in asks {
                let (field, shift, bits) = match *about {
                    About::Member(field, place) => (field, u32::from(place), 1u64),
                    About::At(field, place) => (field, u32::from(place) * 4, 15),
                    About::Digit(_) | About::PlaceOf(..) => {
                        let holds = self.holds(*about, *answer);
                        and(self, holds);
                        continue;
                    }
                };
                let word = words.entry(field).or_default();
                word.0 |= bits << shift;
                word.1 |= u64::from(*answer) << shift;
            }
            for (field, (care, want)) in words {
                let care = self.constant(care as i64);
                let cared = self.b.ins().band(self.forms[&field].word, care);
                let want = self.constant(want as i64);
                let holds = self.b.ins().icmp(IntCC::Equal, cared, want);
                and(self, holds);
            }
            let code = self.constant(i64::from(*code));
            status = match all {
                None => code,
                Some(all) => self.b.ins().select(all, code, status),
            };
        }
        status
    }

    /// Writes the leaps of a part of the tree, from `out` on. Gives where the next number goes.
    fn node(&mut self, node: &Node, mut out: Value) -> Value {
        for leap in &node.leaps {
            out = self.leap(leap, out);
        }
        for (about, branches) in &node.tests {
            out = self.test(*about, branches, out);
        }
        out
    }

    fn test(&mut self, about: About, branches: &BTreeMap<u32, Node>, mut out: Value) -> Value {
        let mut left: Vec<(u32, &Node)> = vec![];
        for (answer, node) in branches {
            // Where a leap only adds something, it is written in any case and counts where it holds: no jump to be guessed.
            if let ([Leap::To(deltas)], []) = (node.leaps.as_slice(), node.tests.as_slice())
                && deltas.iter().all(|d| matches!(d, Delta::Add(_)))
                && (branches.len() == 1 || matches!(about, About::Member(..)))
            {
                let holds = self.holds(about, *answer);
                let after = self.leap(&node.leaps[0], out);
                out = self.b.ins().select(holds, after, out);
            } else {
                left.push((*answer, node));
            }
        }
        if left.is_empty() {
            return out;
        }
        let join = self.b.create_block();
        self.b.append_block_param(join, I64);
        let pass = self.b.create_block();
        let blocks: Vec<Block> = left.iter().map(|_| self.b.create_block()).collect();
        if let ([(answer, _)], [block]) = (left.as_slice(), blocks.as_slice()) {
            let holds = self.holds(about, *answer);
            self.b.ins().brif(holds, *block, &[], pass, &[]);
        } else {
            let value = self.answer(about);
            let mut switch = Switch::new();
            for ((answer, _), block) in left.iter().zip(&blocks) {
                switch.set_entry(u128::from(*answer), *block);
            }
            switch.emit(&mut self.b, value, pass);
        }
        self.b.switch_to_block(pass);
        self.b.ins().jump(join, &[BlockArg::Value(out)]);
        for ((answer, node), block) in left.into_iter().zip(blocks) {
            self.b.switch_to_block(block);
            let held = self.known.len();
            match about {
                About::PlaceOf(field, number) => self.known.push(((field, answer as u8), number)),
                About::At(field, place) => self.known.push(((field, place), answer as u8)),
                About::Digit(_) | About::Member(..) => {}
            }
            let after = self.node(node, out);
            self.b.ins().jump(join, &[BlockArg::Value(after)]);
            self.known.truncate(held);
        }
        self.b.switch_to_block(join);
        self.b.block_params(join)[0]
    }
}
