//! From the values that were changed to the packed words of a successor.

use cranelift_codegen::ir::BlockArg;
use cranelift_codegen::ir::condcodes::IntCC;
use fendle_lang::state::packing::PackedField;

use super::*;
use crate::context::patch_packed;
use crate::emit::heap;

/// Where one value is packed.
#[derive(Clone, Copy)]
struct Place {
    slot: usize,
    bit: u32,
    width: u32,
    lo: i32,
    none: bool,
}

impl Place {
    /// Whether it lies in two words.
    fn crosses(&self) -> bool {
        self.bit % 64 + self.width > 64
    }
}

impl Writer<'_> {
    pub(super) fn pack(&mut self, codec: &Codec) {
        let &[_, parent, out] = self.params.as_slice() else { unreachable!("three parameters") };
        let flags = MemFlags::trusted();
        let words = codec.layout().words();
        let first = self.b.ins().load(I64, flags, parent, 0);
        for i in 1..words {
            let at = 8 * i as i32;
            let word = self.b.ins().load(I64, flags, parent, at);
            self.b.ins().store(flags, word, out, at);
        }
        let mut places = vec![vec![]; (self.code.state_len as usize).div_ceil(64)];
        let mut together = vec![];
        for field in codec.describe() {
            match field {
                PackedField::Bits { width: 0, .. } => {}
                PackedField::Bits { slot, len, bit, width, lo, none } => {
                    for i in 0..len {
                        let bit = bit + width * i as u32;
                        places[(slot + i) / 64].push(Place { slot: slot + i, bit, width, lo, none });
                    }
                }
                PackedField::Together { field, slots } => together.push((field, slots)),
            }
        }
        let changed = self.changed_words();
        // The only word of a short state stays in a register; of a long one each value goes to its own word.
        let mut sum = first;
        if words > 1 {
            self.b.ins().store(flags, first, out, 0);
        }
        for (word, places) in places.iter().enumerate() {
            sum = self.pack_places(word, changed[word], places, sum, (words > 1).then_some(out));
        }
        if words == 1 {
            self.b.ins().store(flags, sum, out, 0);
        }
        for (field, slots) in together {
            let mut mask = vec![0u64; changed.len()];
            slots.iter().for_each(|s| mask[s / 64] |= 1 << (s % 64));
            let touched = self.any(&changed, &mask);
            let (here, on) = (self.b.create_block(), self.b.create_block());
            self.b.ins().brif(touched, here, &[], on, &[]);
            self.b.switch_to_block(here);
            let function = self.number(patch_packed as *const () as usize as u64);
            let field = self.number(field as u64);
            let call = self.b.ins().call_indirect(self.call_back, function, &[self.context, field, out]);
            let packed = self.b.inst_results(call)[0];
            self.unless_slow(packed);
            self.b.ins().jump(on, &[]);
            self.b.switch_to_block(on);
        }
        let zero = self.number(0);
        self.finish(zero);
    }

    /// Adds what the changed values of one word of `changed` count more or less than before: to the words at `out`, or to `sum`, the only one.
    ///
    /// Fields take bits of their own, so adding the difference of two values where they are packed changes these bits only.
    fn pack_places(
        &mut self,
        word: usize,
        changed: Value,
        places: &[Place],
        sum: Value,
        out: Option<Value>,
    ) -> Value {
        let Some(first) = places.first() else { return sum };
        let mask: u64 = places.iter().map(|p| 1 << (p.slot % 64)).sum();
        let changed = self.b.ins().band_imm(changed, mask as i64);
        // For each value: its word, its first bit there, whether it goes on in the next word, and what `none` counts as.
        let mut rows = vec![0i64; 64 * 4];
        for p in places {
            let row =
                [8 * i64::from(p.bit / 64), i64::from(p.bit % 64), i64::from(p.crosses()), i64::from(p.lo)];
            rows[p.slot % 64 * 4..][..4].copy_from_slice(&row);
        }
        let rows = self.table(rows);
        let (head, body, done) = (self.b.create_block(), self.b.create_block(), self.b.create_block());
        self.b.append_block_param(head, I64);
        self.b.append_block_param(head, I64);
        self.b.ins().jump(head, &[changed, sum].map(BlockArg::Value));
        self.b.switch_to_block(head);
        let &[left, sum] = self.b.block_params(head) else { unreachable!("two parameters") };
        self.b.ins().brif(left, body, &[], done, &[]);
        self.b.switch_to_block(body);
        let slot = self.b.ins().ctz(left);
        let bytes = self.b.ins().ishl_imm(slot, 2);
        let at = self.b.ins().iadd(self.mem, bytes);
        let (before, now) = (self.before(word * 64), self.now(word * 64));
        let mut was = self.b.ins().sload32(heap(), at, before);
        let mut is = self.b.ins().sload32(heap(), at, now);
        let bytes = self.b.ins().ishl_imm(slot, 5);
        let row = self.b.ins().iadd(rows, bytes);
        let flags = MemFlags::trusted().with_readonly();
        let entry = |w: &mut Self, i: i32| w.b.ins().load(I64, flags, row, 8 * i);
        if places.iter().any(|p| p.none) {
            let lo = if places.iter().all(|p| p.lo == first.lo) {
                self.number(i64::from(first.lo) as u64)
            } else {
                entry(self, 3)
            };
            for value in [&mut was, &mut is] {
                let is_none = self.b.ins().icmp_imm(IntCC::Equal, *value, i64::from(NONE));
                *value = self.b.ins().select(is_none, lo, *value);
            }
        }
        let change = self.b.ins().isub(is, was);
        let shift = entry(self, 1);
        let here = self.b.ins().ishl(change, shift);
        let less = self.b.ins().iadd_imm(left, -1);
        let rest = self.b.ins().band(left, less);
        let Some(out) = out else {
            let more = self.b.ins().iadd(sum, here);
            self.b.ins().jump(head, &[rest, more].map(BlockArg::Value));
            self.b.switch_to_block(done);
            return sum;
        };
        let flags = MemFlags::trusted();
        let offset = entry(self, 0);
        let at = self.b.ins().iadd(out, offset);
        let old = self.b.ins().load(I64, flags, at, 0);
        let new = self.b.ins().iadd(old, here);
        self.b.ins().store(flags, new, at, 0);
        if places.iter().any(Place::crosses) {
            let (two, one) = (self.b.create_block(), self.b.create_block());
            let crosses = entry(self, 2);
            self.b.ins().brif(crosses, two, &[], one, &[]);
            self.b.switch_to_block(two);
            // The sum of two words: what does not fit the lower one is carried.
            let carried = self.b.ins().icmp(IntCC::UnsignedLessThan, new, old);
            let carried = self.b.ins().uextend(I64, carried);
            let up = self.b.ins().ineg(shift);
            let above = self.b.ins().sshr(change, up);
            let above = self.b.ins().iadd(above, carried);
            let old = self.b.ins().load(I64, flags, at, 8);
            let new = self.b.ins().iadd(old, above);
            self.b.ins().store(flags, new, at, 8);
            self.b.ins().jump(one, &[]);
            self.b.switch_to_block(one);
        }
        self.b.ins().jump(head, &[rest, sum].map(BlockArg::Value));
        self.b.switch_to_block(done);
        sum
    }
}
