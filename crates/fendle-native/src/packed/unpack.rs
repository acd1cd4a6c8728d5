//! From packed words to the values of a state.

use cranelift_codegen::ir::condcodes::IntCC;
use fendle_lang::state::packing::{PackedField, PackedRow};

use super::*;
use crate::context::read_packed;
use crate::emit::loose;

/// Bits of a number that is looked up in a table of values.
const LOOKED_UP_MAX: u32 = 8;

/// Packed words of which some bits are read.
struct Words {
    at: Value,
    /// Those that were loaded.
    loaded: Vec<Option<Value>>,
}

impl Words {
    fn word(&mut self, w: &mut Writer<'_>, i: usize) -> Value {
        let at = self.at;
        *self.loaded[i].get_or_insert_with(|| w.b.ins().load(I64, MemFlags::trusted(), at, 8 * i as i32))
    }

    /// The number in some bits, at most 32.
    fn bits(&mut self, w: &mut Writer<'_>, bit: u32, width: u32) -> Value {
        let (i, shift) = ((bit / 64) as usize, bit % 64);
        let mut value = self.word(w, i);
        if shift > 0 {
            value = w.b.ins().ushr_imm(value, i64::from(shift));
        }
        if shift + width > 64 {
            let next = self.word(w, i + 1);
            let next = w.b.ins().ishl_imm(next, i64::from(64 - shift));
            value = w.b.ins().bor(value, next);
        }
        if shift + width == 64 { value } else { w.b.ins().band_imm(value, (1i64 << width) - 1) }
    }
}

impl Writer<'_> {
    pub(super) fn unpack_words(&mut self, codec: &Codec) {
        self.forget();
        let mut words = Words { at: self.params[1], loaded: vec![None; codec.layout().words()] };
        let mut left_out = vec![true; self.code.state_len as usize];
        for field in codec.describe() {
            match field {
                PackedField::Row(row) => {
                    left_out[row.slot..row.slot + row.len].fill(false);
                    self.unpack_row(&mut words, &row);
                }
                PackedField::Together { field, slots } => {
                    slots.iter().for_each(|s| left_out[*s] = false);
                    let function = self.number(read_packed as *const () as usize as u64);
                    let field = self.number(field as u64);
                    self.b.ins().call_indirect(self.call_back, function, &[self.context, field, words.at]);
                }
            }
        }
        // What is not packed never changes, but a move may have written it.
        for slot in (0..left_out.len()).filter(|s| left_out[*s]) {
            let (before, now) = (self.before(slot), self.now(slot));
            let value = self.b.ins().sload32(loose(), self.mem, before);
            self.b.ins().istore32(loose(), value, self.mem, now);
        }
        let zero = self.number(0);
        self.finish(zero);
    }

    fn unpack_row(&mut self, words: &mut Words, row: &PackedRow) {
        let width = row.width;
        let mut i = 0;
        if width == 0 {
            let value = row.value(0);
            while i + 4 <= row.len {
                self.store_same_four(value, row.slot + i);
                i += 4;
            }
            let value = self.number(i64::from(value) as u64);
            (i..row.len).for_each(|i| self.store_both(value, row.slot + i));
            return;
        }
        if 4 * width <= LOOKED_UP_MAX && row.len >= 4 {
            let table = self.table_of_four(width, |code| row.value(code));
            while i + 4 <= row.len {
                let number = words.bits(self, row.bit + i as u32 * width, 4 * width);
                self.write_four(number, row.slot + i, table);
                i += 4;
            }
        }
        if 2 * width <= LOOKED_UP_MAX && row.len >= i + 4 {
            let one = |code: u32| i64::from(row.value(code) as u32);
            let mask = (1 << width) - 1;
            let two = (0..1u32 << (2 * width)).map(|n| one(n & mask) | one(n >> width) << 32);
            let table = self.table(two.collect());
            while i + 2 <= row.len {
                let number = words.bits(self, row.bit + i as u32 * width, 2 * width);
                let two = self.entry(table, number);
                let (before, now) = (self.before(row.slot + i), self.now(row.slot + i));
                self.b.ins().store(loose(), two, self.mem, before);
                self.b.ins().store(loose(), two, self.mem, now);
                i += 2;
            }
        }
        for one in row.single().skip(i) {
            let code = words.bits(self, one.bit, width);
            let mut value = self.b.ins().iadd_imm(code, i64::from(row.lo));
            if row.none {
                let is_none = self.b.ins().icmp_imm(IntCC::Equal, code, 0);
                let none = self.number(i64::from(NONE) as u64);
                value = self.b.ins().select(is_none, none, value);
            }
            self.store_both(value, one.slot);
        }
    }
}
