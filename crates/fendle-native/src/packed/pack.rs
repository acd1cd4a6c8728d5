//! From the values that were changed to the packed words of a successor.

use fendle_lang::state::packing::{PackedField, PackedRow};

use super::*;
use crate::context::patch_packed;
use crate::emit::table;

impl Writer<'_> {
    /// Packs the state now, and then keeps what was changed, or takes it back.
    pub(super) fn pack(&mut self, codec: &Codec, then: Then) {
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
                PackedField::Row(row) if row.width == 0 => {}
                PackedField::Row(row) => row.single().for_each(|one| places[one.slot / 64].push(one)),
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
            let out = (words > 1).then_some(out);
            sum = self.pack_places((word, changed[word]), places, sum, out, then);
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
        if then == Then::TakeBack {
            for (word, places) in places.iter().enumerate() {
                // Those that have a place alone were taken back where they were packed.
                let of_word = self.code.state_len as usize - 64 * word;
                let all = u64::MAX >> (64 - of_word.min(64));
                let others = places.iter().fold(all, |left, one| left & !(1 << (one.slot % 64)));
                if others != 0 {
                    let bits = self.b.ins().band_imm(changed[word], others as i64);
                    self.take_back(word, bits);
                }
                self.b.ins().store(table(), zero, self.changed, (word * 8) as i32);
            }
        }
        self.finish(zero);
    }

    /// Adds what the changed values of one word of `changed` count more or less than before: to the words at `out`, or to `sum`, the only one.
    ///
    /// Fields take bits of their own, so adding the difference of two values where they are packed changes these bits only.
    fn pack_places(
        &mut self,
        (word, changed): (usize, Value),
        places: &[PackedRow],
        sum: Value,
        out: Option<Value>,
        then: Then,
    ) -> Value {
        let Some(first) = places.first() else { return sum };
        // Its word, its first bit there, whether it goes on in the next word, and what `none` counts as.
        let row = |p: &PackedRow| {
            let (word, bit) = (8 * i64::from(p.bit / 64), i64::from(p.bit % 64));
            (p.slot, [word, bit, i64::from(p.crosses()), i64::from(p.lo)])
        };
        let rows: Vec<_> = places.iter().map(row).collect();
        self.for_each_change((word, changed), &rows, sum, |w, change, sum| {
            let (mut was, mut is) = (change.was, change.is);
            if then == Then::TakeBack {
                w.undo(change);
            }
            if places.iter().any(|p| p.none) {
                let lo = if places.iter().all(|p| p.lo == first.lo) {
                    w.number(i64::from(first.lo) as u64)
                } else {
                    w.of_row(change, 3)
                };
                for value in [&mut was, &mut is] {
                    *value = w.none_as(*value, lo);
                }
            }
            let more = w.b.ins().isub(is, was);
            let shift = w.of_row(change, 1);
            let here = w.b.ins().ishl(more, shift);
            let Some(out) = out else { return w.b.ins().iadd(sum, here) };
            let flags = MemFlags::trusted();
            let offset = w.of_row(change, 0);
            let at = w.b.ins().iadd(out, offset);
            let old = w.b.ins().load(I64, flags, at, 0);
            let new = w.b.ins().iadd(old, here);
            w.b.ins().store(flags, new, at, 0);
            if places.iter().any(PackedRow::crosses) {
                let (two, one) = (w.b.create_block(), w.b.create_block());
                let crosses = w.of_row(change, 2);
                w.b.ins().brif(crosses, two, &[], one, &[]);
                w.b.switch_to_block(two);
                let up = w.b.ins().ineg(shift);
                let above = w.above((old, new), more, up);
                let old = w.b.ins().load(I64, flags, at, 8);
                let new = w.b.ins().iadd(old, above);
                w.b.ins().store(flags, new, at, 8);
                w.b.ins().jump(one, &[]);
                w.b.switch_to_block(one);
            }
            sum
        })
    }
}
