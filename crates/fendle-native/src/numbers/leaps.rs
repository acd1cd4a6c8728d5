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
use std::sync::atomic::{AtomicU8, Ordering::Relaxed};

use cranelift_frontend::Switch;
use fendle_lang::code::leaps::{About, Endings, Leap, LeapPlan, Leaps, Node, Step};
use fendle_lang::code::machine::LeapsMade;

use super::key::ranked;
use super::unpack::{divided, listed_sets, take};
use super::*;

/// Bytes of a list of sets that are always spent.
const LISTED_BYTES: u64 = 2 << 20;
/// A list of sets takes at the most one byte for so many numbers.
const NUMBERS_A_BYTE: u64 = 2;

/// Where a digit counts as much or more, states that follow each other have the same one anyway.
const GROUPED_BELOW: u64 = 64;

/// Numbers, heads, length, room for the numbers that are reached, and for each status code whether moves go on from it.
pub(super) type LeapFn = unsafe extern "C" fn(*const u64, *mut u32, u64, *mut u32, *const u8) -> u64;

/// The code of the leaps of a level.
pub(super) struct LeapCode {
    pub(super) forwards: LeapFn,
    /// The most leaps of a state.
    pub(super) most: usize,
    pub(super) backwards: Option<(LeapFn, usize)>,
    pub(super) status: StatusOf,
    /// States follow each other best in groups that answer the first question alike: what its digit counts, and how many
    /// there are.
    pub(super) groups: Option<(u64, u64)>,
}

/// Where the function takes the status of a state from.
pub(super) enum StatusOf {
    /// It finds it itself.
    Digits,
    /// It is given it: kept for each value of `number / stride % len`, 0 where it was not asked yet, else one more than
    /// the code.
    Kept { stride: u64, len: u64, codes: Box<[AtomicU8]> },
    /// It is given it: the rules are asked for each state.
    Asked,
}

/// Which functions are made of a plan.
pub(super) fn functions(plan: Option<&LeapPlan>) -> Vec<(&Leaps, Option<&Endings>)> {
    let Some(plan) = plan else { return vec![] };
    let forwards = (&plan.forwards, Some(&plan.endings));
    std::iter::once(forwards).chain(plan.backwards.as_ref().map(|b| (b, None))).collect()
}

/// The digit that the first question is about, if that is all that is asked first and neighbours differ in it.
pub(super) fn groups(keys: &Keys, leaps: &Leaps) -> Option<(u64, u64)> {
    let [(About::Digit(field), _)] = leaps.root.tests.as_slice() else { return None };
    let (_, stride, _, digits) = keys.describe().swap_remove(*field);
    (stride < GROUPED_BELOW).then_some((stride, digits))
}

impl StatusOf {
    pub(super) fn new(endings: &Endings) -> StatusOf {
        match *endings {
            Endings::Told(_) => StatusOf::Digits,
            Endings::By { stride, len } => {
                StatusOf::Kept { stride, len, codes: (0..len).map(|_| AtomicU8::new(0)).collect() }
            }
            Endings::Asked => StatusOf::Asked,
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
            StatusOf::Digits => out.heads.resize(numbers.len(), 0),
            StatusOf::Asked => out.heads.extend(numbers.iter().map(|n| ask(*n))),
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
struct Form<'k> {
    described: Described<'k>,
    stride: u64,
    digit: Value,
    /// Of a set its places, one bit each; of an order the number of the value at each place, one nibble each.
    word: Value,
    /// Of an order the place of each value.
    places: Vec<Value>,
}

/// Writes one function.
pub(super) struct LeapWriter<'w> {
    b: FunctionBuilder<'w>,
    keys: &'w Keys,
    tables: &'w mut Vec<Box<[i64]>>,
    forms: BTreeMap<usize, Form<'w>>,
    number: Value,
    /// Where a state goes of which the rules have to be asked.
    ask: Block,
    /// Places of orders whose values are known where the code is being written, and their numbers.
    known: Vec<((usize, u8), u8)>,
    /// A state is passed over, and no rules asked, where a leap leads to none with a number.
    backwards: bool,
}

fn flags() -> MemFlags {
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
        let Leap::To(steps) = leap else { continue };
        for step in steps {
            match *step {
                Step::Add(_) => {}
                Step::Moved { field, .. }
                | Step::Members { field, .. }
                | Step::Swapped { field, .. }
                | Step::Arranged { field, .. } => {
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
            Some(Endings::Told(list)) => w.status(list),
            Some(Endings::By { .. } | Endings::Asked) => w.b.ins().uload32(flags(), head_at, 0),
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

    fn constant(&mut self, n: i64) -> Value {
        self.b.ins().iconst(I64, n)
    }

    /// The address of a table of fixed numbers.
    fn table(&mut self, entries: Vec<i64>) -> Value {
        let entries = entries.into_boxed_slice();
        let found = self.tables.iter().position(|t| *t == entries).unwrap_or_else(|| {
            self.tables.push(entries);
            self.tables.len() - 1
        });
        let address = self.tables[found].as_ptr() as usize as i64;
        self.constant(address)
    }

    /// An entry of a table; the index is known to be inside.
    fn entry(&mut self, table: Value, index: Value) -> Value {
        let bytes = self.b.ins().ishl_imm(index, 3);
        let at = self.b.ins().iadd(table, bytes);
        self.b.ins().load(I64, flags().with_readonly(), at, 0)
    }

    /// Digits and forms of the fields that are used.
    fn unpack(&mut self, root: &Node, endings: Option<&Endings>) {
        let mut used = BTreeSet::new();
        fields_of(root, &mut used);
        if let Some(Endings::Told(list)) = endings {
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
                Described::Single { .. } | Described::Other => (zero, vec![]),
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
        let bytes = firsts[most + 1] * 8;
        if bytes <= LISTED_BYTES || bytes <= self.keys.range() / NUMBERS_A_BYTE {
            let bits: Vec<u64> = (0..len).map(|i| 1 << i).collect();
            let sets = self.table(listed_sets(&bits, (least, most), firsts, (ways, row)));
            return self.entry(sets, digit);
        }
        // As many members as there are entries not above the digit, less one.
        let mut k = self.constant(least as i64);
        for first in &firsts[least + 1..=most] {
            let above = self.b.ins().icmp_imm(IntCC::UnsignedGreaterThanOrEqual, digit, *first as i64);
            let above = self.b.ins().uextend(I64, above);
            k = self.b.ins().iadd(k, above);
        }
        let firsts = self.table(firsts.iter().map(|f| *f as i64).collect());
        let first = self.entry(firsts, k);
        let mut rest = self.b.ins().isub(digit, first);
        let ways = self.table(ways.iter().map(|w| *w as i64).collect());
        let zero = self.constant(0);
        let mut word = zero;
        for place in (0..len).rev() {
            let bytes = self.b.ins().ishl_imm(k, 3);
            let at = self.b.ins().iadd(ways, bytes);
            let below = self.b.ins().load(I64, flags().with_readonly(), at, (place * row * 8) as i32);
            let here = self.b.ins().icmp(IntCC::UnsignedLessThanOrEqual, below, rest);
            let less = self.b.ins().select(here, below, zero);
            rest = self.b.ins().isub(rest, less);
            let here = self.b.ins().uextend(I64, here);
            k = self.b.ins().isub(k, here);
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
        let mut free = self.constant(0xfedc_ba98_7654_3210_u64 as i64);
        let (mut rest, mut odd, mut places) = (digit, self.constant(0), vec![]);
        let known = if parity.is_some() { len - 2 } else { len };
        for number in 0..known {
            let q = match weights[number] {
                1 => rest,
                _ => {
                    let inverse = self.constant(inverses[number] as i64);
                    self.b.ins().umulhi(rest, inverse)
                }
            };
            let whole = self.b.ins().imul_imm(q, weights[number] as i64);
            rest = self.b.ins().isub(rest, whole);
            odd = self.b.ins().bxor(odd, q);
            let place = take(&mut self.b, &mut free, q);
            for (_, bits) in parity.iter().flat_map(|p| p.1).filter(|c| usize::from(c.0) == number) {
                let bits = self.constant(i64::from(*bits));
                let one = self.b.ins().ushr(bits, place);
                odd = self.b.ins().bxor(odd, one);
            }
            places.push(place);
        }
        if let Some((want, _)) = parity {
            let first = self.b.ins().band_imm(free, 15);
            let second = self.b.ins().ushr_imm(free, 4);
            let second = self.b.ins().band_imm(second, 15);
            let odd = self.b.ins().band_imm(odd, 1);
            let swap = self.b.ins().icmp_imm(IntCC::NotEqual, odd, i64::from(want));
            places.push(self.b.ins().select(swap, second, first));
            places.push(self.b.ins().select(swap, first, second));
        }
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
    fn at(&mut self, field: usize, place: u8) -> Value {
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
            if let ([Leap::To(steps)], []) = (node.leaps.as_slice(), node.tests.as_slice())
                && steps.iter().all(|s| matches!(s, Step::Add(_)))
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

    fn leap(&mut self, leap: &Leap, out: Value) -> Value {
        let Leap::To(steps) = leap else {
            self.b.ins().jump(self.ask, &[]);
            // Nothing follows.
            let never = self.b.create_block();
            self.b.switch_to_block(never);
            self.b.set_cold_block(never);
            return out;
        };
        let mut number = self.number;
        let mut sound = None;
        for step in steps {
            let change = match step {
                Step::Add(n) => {
                    number = self.b.ins().iadd_imm(number, *n);
                    continue;
                }
                Step::Moved { field, from, to } => self.moved(*field, *from, *to),
                Step::Members { field, on, off } => {
                    let (change, fits) = self.members(*field, *on, *off);
                    sound = Some(sound.map_or(fits, |s| self.b.ins().band(s, fits)));
                    change
                }
                Step::Swapped { field, places } => self.swapped(*field, *places),
                Step::Arranged { field, from } => self.arranged(*field, from),
            };
            let stride = match step {
                Step::Moved { field, .. }
                | Step::Members { field, .. }
                | Step::Swapped { field, .. }
                | Step::Arranged { field, .. } => self.forms[field].stride,
                Step::Add(_) => 1,
            };
            let change = self.b.ins().imul_imm(change, stride as i64);
            number = self.b.ins().iadd(number, change);
        }
        if let Some(sound) = sound
            && !self.backwards
        {
            let on = self.b.create_block();
            self.b.ins().brif(sound, on, &[], self.ask, &[]);
            self.b.switch_to_block(on);
        }
        self.b.ins().istore32(flags(), number, out, 0);
        let after = self.b.ins().iadd_imm(out, 4);
        match sound {
            Some(sound) if self.backwards => self.b.ins().select(sound, after, out),
            _ => after,
        }
    }

    /// How the digit of a set changes when one member moves: its own count, and that of each member that it passes.
    fn moved(&mut self, field: usize, from: u8, to: u8) -> Value {
        let Described::Members { ways: (ways, row), .. } = self.forms[&field].described else {
            unreachable!("members move in a set")
        };
        let word = self.forms[&field].word;
        let (lo, hi) = (usize::from(from.min(to)), usize::from(from.max(to)));
        let low = self.constant(((1u64 << lo) - 1) as i64);
        let below = self.b.ins().band(word, low);
        let below = self.b.ins().popcnt(below);
        // How a move from the lower place to the upper one changes the digit; member number k is the one with k - 1 below it.
        let entry = |k: usize, place: usize| ways.get(place * row + k).map_or(0, |w| *w as i64);
        let mut grown;
        if hi == lo + 1 {
            let steps = self.table((0..row).map(|k| entry(k + 1, hi) - entry(k + 1, lo)).collect());
            grown = self.entry(steps, below);
        } else {
            let between = (1u64 << hi) - 1 & !((1u64 << (lo + 1)) - 1);
            let between = self.constant(between as i64);
            let between = self.b.ins().band(word, between);
            let passed = self.b.ins().popcnt(between);
            let of_lo = self.table((0..row).map(|k| entry(k + 1, lo)).collect());
            let of_hi = self.table((0..row).map(|k| entry(k + 1, hi)).collect());
            let left = self.entry(of_lo, below);
            let there = self.b.ins().iadd(below, passed);
            let got = self.entry(of_hi, there);
            grown = self.b.ins().isub(got, left);
            // The passed ones have one less below them than before.
            let falls: Vec<i64> = (lo + 1..hi)
                .flat_map(|place| (0..row).map(move |k| (place, k)))
                .map(|(place, k)| entry(k + 1, place) - entry(k + 2, place))
                .collect();
            let falls = self.table(falls);
            let (head, body, done) = (self.b.create_block(), self.b.create_block(), self.b.create_block());
            for _ in 0..3 {
                self.b.append_block_param(head, I64);
            }
            self.b.ins().jump(head, &[between, below, grown].map(BlockArg::Value));
            self.b.switch_to_block(head);
            let &[left, k, sum] = self.b.block_params(head) else { unreachable!("three parameters") };
            self.b.ins().brif(left, body, &[], done, &[]);
            self.b.switch_to_block(body);
            let place = self.b.ins().ctz(left);
            let place = self.b.ins().iadd_imm(place, -(lo as i64 + 1));
            let index = self.b.ins().imul_imm(place, row as i64);
            let index = self.b.ins().iadd(index, k);
            let fall = self.entry(falls, index);
            let sum_next = self.b.ins().iadd(sum, fall);
            let k_next = self.b.ins().iadd_imm(k, 1);
            let less = self.b.ins().iadd_imm(left, -1);
            let left_next = self.b.ins().band(left, less);
            self.b.ins().jump(head, &[left_next, k_next, sum_next].map(BlockArg::Value));
            self.b.switch_to_block(done);
            grown = sum;
        }
        if from < to { grown } else { self.b.ins().ineg(grown) }
    }

    /// How the digit of a set changes when members come and go, and whether there are as many as there can be.
    fn members(&mut self, field: usize, on: u64, off: u64) -> (Value, Value) {
        let Described::Members { slots, least, most, firsts, ways: (ways, row) } =
            self.forms[&field].described
        else {
            unreachable!("members come and go in a set")
        };
        let (word, digit) = (self.forms[&field].word, self.forms[&field].digit);
        let (on, off) = (self.constant(on as i64), self.constant(off as i64));
        let more = self.b.ins().bor(word, on);
        let set = self.b.ins().band_not(more, off);
        let len = self.b.ins().popcnt(set);
        let least_fits = self.b.ins().icmp_imm(IntCC::UnsignedGreaterThanOrEqual, len, least as i64);
        let most_fits = self.b.ins().icmp_imm(IntCC::UnsignedLessThanOrEqual, len, most as i64);
        let fits = self.b.ins().band(least_fits, most_fits);
        let counts = self.table(ways[..slots.len() * row].iter().map(|w| *w as i64).collect());
        let (head, body, done) = (self.b.create_block(), self.b.create_block(), self.b.create_block());
        for _ in 0..3 {
            self.b.append_block_param(head, I64);
        }
        let zero = self.constant(0);
        // Where there are too many nothing is looked up.
        let begin = self.b.ins().select(fits, set, zero);
        self.b.ins().jump(head, &[begin, zero, zero].map(BlockArg::Value));
        self.b.switch_to_block(head);
        let &[left, k, rank] = self.b.block_params(head) else { unreachable!("three parameters") };
        self.b.ins().brif(left, body, &[], done, &[]);
        self.b.switch_to_block(body);
        let k_next = self.b.ins().iadd_imm(k, 1);
        let place = self.b.ins().ctz(left);
        let index = self.b.ins().imul_imm(place, row as i64);
        let index = self.b.ins().iadd(index, k_next);
        let count = self.entry(counts, index);
        let rank_next = self.b.ins().iadd(rank, count);
        let less = self.b.ins().iadd_imm(left, -1);
        let left_next = self.b.ins().band(left, less);
        self.b.ins().jump(head, &[left_next, k_next, rank_next].map(BlockArg::Value));
        self.b.switch_to_block(done);
        let firsts = self.table(firsts.iter().map(|f| *f as i64).collect());
        let first = self.entry(firsts, k);
        let new = self.b.ins().iadd(rank, first);
        (self.b.ins().isub(new, digit), fits)
    }

    /// How the digit of an order changes when two places exchange what they hold.
    ///
    /// Let u be the value with the earlier digit of the two, v the other one, and let u move up. Its own digit grows by one for
    /// the place that v leaves, and by one for each place between them that is taken later. The digit of a value between them,
    /// taken after u and before v, grows by one. That of v falls by one for each place between them that is taken after v.
    /// All others stay.
    fn swapped(&mut self, field: usize, (p, q): (u8, u8)) -> Value {
        let Described::Order { weights, .. } = self.forms[&field].described else {
            unreachable!("values are swapped in an order")
        };
        let first = |w: &Self, place: u8| w.known.iter().any(|k| *k == ((field, place), 0));
        let (first_p, first_q) = (first(self, p), first(self, q));
        let (x, y) = (self.at(field, p), self.at(field, q));
        let weights_at = self.table(weights.iter().map(|w| *w as i64).collect());
        let zero = self.constant(0);
        let between = i64::from(q - p - 1);
        if first_p || first_q {
            // Value number 0 is taken before all others.
            let v = if first_p { y } else { x };
            let mut grown = self.constant(weights[0] as i64 * (between + 1));
            if between > 0 {
                let of_v = self.entry(weights_at, v);
                for place in p + 1..q {
                    let z = self.at(field, place);
                    let weight = self.entry(weights_at, z);
                    let earlier = self.b.ins().icmp(IntCC::UnsignedLessThan, z, v);
                    let minus = self.b.ins().ineg(of_v);
                    let change = self.b.ins().select(earlier, weight, minus);
                    grown = self.b.ins().iadd(grown, change);
                }
            }
            return if first_p { grown } else { self.b.ins().ineg(grown) };
        }
        let (u, v) = (self.b.ins().umin(x, y), self.b.ins().umax(x, y));
        let (of_u, of_v) = (self.entry(weights_at, u), self.entry(weights_at, v));
        let mut grown = of_u;
        for place in p + 1..q {
            let z = self.at(field, place);
            let after_u = self.b.ins().icmp(IntCC::UnsignedGreaterThan, z, u);
            let after_v = self.b.ins().icmp(IntCC::UnsignedGreaterThan, z, v);
            let weight = self.entry(weights_at, z);
            let later_u = self.b.ins().select(after_u, of_u, zero);
            grown = self.b.ins().iadd(grown, later_u);
            let inside = self.b.ins().select(after_u, weight, zero);
            let minus = self.b.ins().ineg(of_v);
            let change = self.b.ins().select(after_v, minus, inside);
            grown = self.b.ins().iadd(grown, change);
        }
        let fallen = self.b.ins().ineg(grown);
        let up = self.b.ins().icmp(IntCC::UnsignedLessThan, x, y);
        self.b.ins().select(up, grown, fallen)
    }

    /// How the digit of an order changes when its places get what others held.
    fn arranged(&mut self, field: usize, from: &[u8]) -> Value {
        let Described::Order { weights, .. } = self.forms[&field].described else {
            unreachable!("values are arranged in an order")
        };
        let digit = self.forms[&field].digit;
        // Nibble i: the place of value number i.
        let mut places = self.constant(0);
        for (place, from) in from.iter().enumerate() {
            let number = self.at(field, *from);
            let shift = self.b.ins().ishl_imm(number, 2);
            let place = self.constant(place as i64);
            let nibble = self.b.ins().ishl(place, shift);
            places = self.b.ins().bor(places, nibble);
        }
        let (rank, _) = ranked(&mut self.b, places, weights);
        self.b.ins().isub(rank, digit)
    }
}
