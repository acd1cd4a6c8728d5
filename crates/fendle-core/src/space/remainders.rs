//! Words of which a table keeps only what their place in it does not say.
//!
//! A word is first *mixed*, one to one: the same number of bits, which all depend on each other. The first six bits are its slice, the next ones say in
//! which line of the slice it belongs, and the cell that it gets there holds the *remainder*: what is left of the bits, and how many lines further on
//! it lies because those before were full. So a word is known from its cell, and nothing is decided on a hash alone:
//!
//! ```text
//! word     mixed:  slice (6 bits) | line (as many as there are) | remainder
//! line     64 bytes, one line of the cache: as many cells as fit, filled from the first one on
//! cell     0, or  remainder | lines further on + 1 (3 bits)       2 to 8 bytes, whatever is needed; all of one table
//! marks    a cell of 8 bits or more for each cell of the lines: the depth and class of the state
//! ```
//!
//! With 100 million states of 40 bits a cell takes 3 bytes and its mark one; at a load between 0.72 and 0.86 that is some 5 bytes a state, where the
//! states themselves would take 5, with an index of 5 to 8. Parts grow one at a time, and their states keep their order, so growing reads
//! and writes memory in a row and needs no second table.
//!
//! Sources: quotients, D. Knuth, *The Art of Computer Programming* 3, exercise 6.4-13; tables of remainders, J. G. Cleary, *Compact hash tables using
//! bidirectional linear probing* (1984). Lines in place of single cells, and the distance beside the remainder, make most look-ups wait for one line.

use super::cells::{Cells, Mark};
use super::id::FACTORS;

/// Bits of a word that say its slice.
const SLICE_BITS: u32 = 6;
/// Parts.
pub(crate) const SLICES: usize = 1 << SLICE_BITS;
/// Fewest bits that are mixed.
const LEAST_BITS: u32 = 16;
/// Most bits of a word.
pub(crate) const WORD_BITS_MAX: u32 = 63;
/// Bytes of a line.
const LINE: usize = 64;
/// Bits of a cell that say how many lines further on it lies.
const FURTHER_BITS: u32 = 3;
/// Bits of a cell that are compared at once.
const LOW_BITS: u32 = 16;
/// Most lines further on.
const FURTHER_MAX: usize = 6;
/// Cells of a hundred that are taken before a slice grows.
const FULL: usize = 86;
/// Words that are looked for together, so that the memory answers them together.
const GROUP: usize = 16;
/// Lines that are read in order in the time that one takes that lies far away.
const LOOKS_READ_AHEAD: usize = 4;
/// Words from which on they are brought into the order of the slices before they are looked for.
const SORTED: usize = 64 * SLICES;

/// Calls what has a loop of its own for each width of a cell in bytes.
macro_rules! by_width {
    ($width:expr, $W:ident => $call:expr) => {
        match $width {
            2 => by_width!(@ 2, $W => $call),
            3 => by_width!(@ 3, $W => $call),
            4 => by_width!(@ 4, $W => $call),
            5 => by_width!(@ 5, $W => $call),
            6 => by_width!(@ 6, $W => $call),
            7 => by_width!(@ 7, $W => $call),
            _ => by_width!(@ 8, $W => $call),
        }
    };
    (@ $number:literal, $W:ident => $call:expr) => {{
        const $W: usize = $number;
        $call
    }};
}

/// Mixes words of so many bits, one to one.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Mix {
    bits: u32,
    mask: u64,
    half: u32,
}

/// The inverses of the factors modulo 2^64.
const INVERSES: [u64; 2] = [inverse(FACTORS[0]), inverse(FACTORS[1])];

/// The inverse of an odd number modulo 2^64: each step of Newton's doubles the bits that are right.
const fn inverse(odd: u64) -> u64 {
    let (mut x, mut i) = (odd, 0);
    while i < 5 {
        x = x.wrapping_mul(2u64.wrapping_sub(odd.wrapping_mul(x)));
        i += 1;
    }
    x
}

impl Mix {
    fn new(bits: u32) -> Mix {
        let bits = bits.max(LEAST_BITS);
        Mix { bits, mask: u64::MAX >> (64 - bits), half: bits.div_ceil(2) }
    }

    #[inline(always)]
    fn forth(self, word: u64) -> u64 {
        // Shifts by half of the bits, so that each of these steps is its own inverse.
        FACTORS.into_iter().fold(word ^ word >> self.half, |mixed, factor| {
            let mixed = mixed.wrapping_mul(factor) & self.mask;
            mixed ^ mixed >> self.half
        })
    }

    #[inline(always)]
    fn back(self, mixed: u64) -> u64 {
        INVERSES.into_iter().rev().fold(mixed ^ mixed >> self.half, |word, factor| {
            let word = word.wrapping_mul(factor) & self.mask;
            word ^ word >> self.half
        })
    }

    /// The word of a rest of a slice.
    #[inline(always)]
    pub(crate) fn word(self, slice: usize, rest: u64) -> u64 {
        self.back((slice as u64) << self.rest_bits() | rest)
    }

    /// Bits of a word within its slice.
    fn rest_bits(self) -> u32 {
        self.bits - SLICE_BITS
    }
}

/// Some cells of a slice.
#[derive(Clone, Copy)]
#[repr(align(64))]
struct Line([u8; LINE]);

impl Line {
    const EMPTY: Line = Line([0; LINE]);

    /// How many cells of `W` bytes a line has.
    const fn cells<const W: usize>() -> usize {
        LINE / W
    }

    /// The cell at a place. The first two bytes of all cells lie in a row, and behind them what else they have.
    #[inline(always)]
    fn cell<const W: usize>(&self, i: usize) -> u64 {
        let low = u64::from(u16::from_le_bytes([self.0[2 * i], self.0[2 * i + 1]]));
        low | self.high::<W>(i) << LOW_BITS
    }

    /// What a cell has behind its first two bytes.
    #[inline(always)]
    fn high<const W: usize>(&self, i: usize) -> u64 {
        if W == 2 {
            return 0;
        }
        // The last ones are read from eight bytes that end with the line.
        let from = 2 * Line::cells::<W>() + i * (W - 2);
        let base = from.min(LINE - 8);
        let bytes: [u8; 8] = self.0[base..base + 8].try_into().expect("eight bytes");
        u64::from_le_bytes(bytes) >> (8 * (from - base)) & ((1 << (8 * (W - 2))) - 1)
    }

    #[inline(always)]
    fn set<const W: usize>(&mut self, i: usize, cell: u64) {
        self.0[2 * i..2 * i + 2].copy_from_slice(&(cell as u16).to_le_bytes());
        let from = 2 * Line::cells::<W>() + i * (W - 2);
        self.0[from..from + W - 2].copy_from_slice(&(cell >> LOW_BITS).to_le_bytes()[..W - 2]);
    }

    /// The cells whose first two bytes are these, as bits.
    #[inline(always)]
    fn with_low<const W: usize>(&self, low: u16) -> u32 {
        which_are(&self.0, low) & (u32::MAX >> (32 - Line::cells::<W>()))
    }

    /// The first cell that holds this, which is not 0.
    #[inline(always)]
    fn find<const W: usize>(&self, cell: u64) -> Option<usize> {
        let mut left = self.with_low::<W>(cell as u16);
        while left != 0 {
            let i = left.trailing_zeros() as usize;
            if self.high::<W>(i) == cell >> LOW_BITS {
                return Some(i);
            }
            left &= left - 1;
        }
        None
    }

    /// The first empty cell: of no other one the first two bytes are 0, since they say how many lines further on it lies.
    #[inline(always)]
    fn first_empty<const W: usize>(&self) -> Option<usize> {
        let empty = self.with_low::<W>(0);
        (empty != 0).then(|| empty.trailing_zeros() as usize)
    }
}

/// Which of the numbers of two bytes in a line are this one, as bits.
#[cfg(target_arch = "x86_64")]
#[inline(always)]
fn which_are(line: &[u8; LINE], wanted: u16) -> u32 {
    use safe_arch::{
        cmp_eq_mask_i16_m128i, m128i, move_mask_i8_m128i, pack_i16_to_i8_m128i, set_splat_i16_m128i,
    };
    let wanted = set_splat_i16_m128i(wanted as i16);
    let sixteens = line.as_chunks::<16>().0;
    let eight = |i: usize| cmp_eq_mask_i16_m128i(m128i::from(sixteens[i]), wanted);
    let sixteen = |i: usize| move_mask_i8_m128i(pack_i16_to_i8_m128i(eight(i), eight(i + 1))) as u32;
    sixteen(0) | sixteen(2) << 16
}

/// The same for other processors.
#[cfg(not(target_arch = "x86_64"))]
fn which_are(line: &[u8; LINE], wanted: u16) -> u32 {
    which_are_plainly(line, wanted)
}

/// The same, one number after the other.
#[cfg(any(test, not(target_arch = "x86_64")))]
fn which_are_plainly(line: &[u8; LINE], wanted: u16) -> u32 {
    let numbers = line.as_chunks::<2>().0.iter().map(|bytes| u16::from_le_bytes(*bytes));
    numbers.enumerate().fold(0, |found, (i, number)| found | u32::from(number == wanted) << i)
}

/// Where a word is looked for first, and what its cell holds there.
#[derive(Clone, Copy, Default)]
struct Home {
    line: usize,
    cell: u64,
}

/// What looking for a word came to.
enum Found {
    At(usize),
    /// Not there: this is the slot for it, and its cell.
    Room(usize, u64),
    /// Not there, and all lines that it may lie in are full.
    Full,
}

/// One of [`SLICES`] slices: states whose mixed words begin alike. A *rest* is a mixed word without what says its slice; a *slot* is a place of a cell.
pub(crate) struct Slice {
    rest_bits: u32,
    /// Lines in which words belong; some more lie behind them for what finds the last ones full.
    homes: usize,
    /// 2^64 divided by their number.
    per_home: u64,
    lines: Vec<Line>,
    /// Bytes of a cell, and cells of a line.
    width: usize,
    cells: usize,
    marks: Cells,
    len: usize,
}

impl Slice {
    fn new(rest_bits: u32) -> Slice {
        Slice::with(rest_bits, 1, 8)
    }

    /// An empty slice with so many lines, and so many bits of a mark.
    fn with(rest_bits: u32, homes: usize, mark_bits: u32) -> Slice {
        let bits = rest_bits - homes.ilog2() + FURTHER_BITS;
        let width = bits.div_ceil(8).max(2) as usize;
        let cells = LINE / width;
        let lines = vec![Line::EMPTY; homes + FURTHER_MAX];
        let marks = Cells::new((lines.len() * cells).next_multiple_of(8) as u64, mark_bits);
        Slice { rest_bits, homes, per_home: u64::MAX / homes as u64, lines, width, cells, marks, len: 0 }
    }

    /// How many states there are.
    pub(crate) fn len(&self) -> usize {
        self.len
    }

    /// How many slots there are.
    pub(crate) fn slots(&self) -> usize {
        self.lines.len() * self.cells
    }

    pub(crate) fn bytes(&self) -> u64 {
        size_of_val(self.lines.as_slice()) as u64 + self.marks.bytes()
    }

    /// The line of a rest, by its share of all rests; the cell holds what is left of it, in as few bits as tell rests of a line apart.
    #[inline(always)]
    fn home(&self, rest: u64) -> Home {
        let product = u128::from(rest << (64 - self.rest_bits)) * self.homes as u128;
        let left = product as u64 >> (64 - self.rest_bits + self.homes.ilog2());
        Home { line: (product >> 64) as usize, cell: left << FURTHER_BITS | 1 }
    }

    /// The rest that lies in a slot, which is not empty.
    pub(crate) fn rest(&self, slot: usize) -> u64 {
        by_width!(self.width, W => self.rest_in::<W>(slot))
    }

    /// The same where cells have so many bytes. Nothing is divided here: words are read again and again.
    #[inline(always)]
    fn rest_in<const W: usize>(&self, slot: usize) -> u64 {
        let line = slot / Line::cells::<W>();
        let cell = self.lines[line].cell::<W>(slot % Line::cells::<W>());
        let home = line - ((cell as usize & ((1 << FURTHER_BITS) - 1)) - 1);
        let left = cell >> FURTHER_BITS << self.homes.ilog2();
        // The least rest whose share is at least this one: the shares of two rests lie further apart than what was left out of the cell.
        if self.rest_bits + self.homes.ilog2() < 63 {
            return self.per_home(((home as u64) << self.rest_bits) + left);
        }
        let share = ((home as u128) << self.rest_bits) + u128::from(left);
        share.div_ceil(self.homes as u128) as u64
    }

    /// A number below 2^63 divided by the number of homes, and rounded up.
    #[inline(always)]
    fn per_home(&self, number: u64) -> u64 {
        // At most two too few.
        let mut quotient = ((u128::from(number) * u128::from(self.per_home)) >> 64) as u64;
        while quotient * (self.homes as u64) < number {
            quotient += 1;
        }
        quotient
    }

    /// Looks at the lines where some rests are looked for next, so that the memory answers them together.
    #[inline(always)]
    fn touch(&self, rests: impl Iterator<Item = u64>) {
        std::hint::black_box(rests.fold(0, |all, rest| all | self.lines[self.home(rest).line].0[0]));
    }

    /// Says that so many words are looked for next. Where they will look at most lines anyway, all are read here in order: memory gives what lies in a
    /// row several times as fast as what lies anywhere.
    pub(crate) fn read_ahead(&self, words: usize) {
        if words * LOOKS_READ_AHEAD >= self.lines.len() {
            std::hint::black_box(self.lines.iter().fold(0, |all, line| all | line.0[0]));
        }
    }

    #[inline(always)]
    fn look<const W: usize>(&self, Home { line, cell }: Home) -> Found {
        for further in 0..=FURTHER_MAX {
            let (at, cell) = (line + further, cell + further as u64);
            let here = &self.lines[at];
            if let Some(i) = here.find::<W>(cell) {
                return Found::At(at * Line::cells::<W>() + i);
            }
            if let Some(i) = here.first_empty::<W>() {
                return Found::Room(at * Line::cells::<W>() + i, cell);
            }
        }
        Found::Full
    }

    /// The slot of a rest, if it is there.
    pub(crate) fn find(&self, rest: u64) -> Option<usize> {
        match by_width!(self.width, W => self.look::<W>(self.home(rest))) {
            Found::At(slot) => Some(slot),
            Found::Room(..) | Found::Full => None,
        }
    }

    #[inline(always)]
    fn fill<const W: usize>(&mut self, slot: usize, cell: u64, mark: Mark) {
        self.lines[slot / Line::cells::<W>()].set::<W>(slot % Line::cells::<W>(), cell);
        self.marks.set(slot as u64, mark);
        self.len += 1;
    }

    fn has_room(&self, more: usize) -> bool {
        (self.len + more) * 100 <= self.homes * self.cells * FULL
    }

    /// Adds rests that are not there yet with this mark, until there are `most` new ones, and calls `new` with each of them. False when it ended
    /// there and there are more. Slots may be others afterwards.
    pub(crate) fn insert_all(
        &mut self,
        rests: &[u64],
        (mark, most): (Mark, usize),
        mut new: impl FnMut(u64),
    ) -> bool {
        let most = self.len + most;
        let mut left = rests;
        while !left.is_empty() {
            let group = &left[..GROUP.min(left.len())];
            while !self.has_room(group.len()) {
                self.grow();
            }
            match by_width!(self.width, W => self.insert_group::<W>(group, (mark, most), &mut new)) {
                Some(done) => left = &left[done..],
                None => return false,
            }
        }
        true
    }

    /// The same for a few of them. Says how many were looked at: fewer where slots are not what they were. `None` where there are `most`.
    #[inline(always)]
    fn insert_group<const W: usize>(
        &mut self,
        group: &[u64],
        (mark, most): (Mark, usize),
        new: &mut impl FnMut(u64),
    ) -> Option<usize> {
        let mut homes = [Home::default(); GROUP];
        let mut taken = 0;
        for (home, rest) in homes.iter_mut().zip(group) {
            *home = self.home(*rest);
            taken |= self.lines[home.line].0[0];
        }
        std::hint::black_box(taken);
        for (i, (home, rest)) in homes.into_iter().zip(group).enumerate() {
            match self.look::<W>(home) {
                Found::At(_) => {}
                _ if self.len == most => return None,
                Found::Room(slot, cell) => {
                    self.fill::<W>(slot, cell, mark);
                    new(*rest);
                }
                // Seldom so: cells may be wider or narrower afterwards.
                Found::Full => {
                    self.insert_grown(*rest, mark);
                    new(*rest);
                    return Some(i + 1);
                }
            }
        }
        Some(group.len())
    }

    /// Adds a rest for which there was no room.
    #[cold]
    fn insert_grown(&mut self, rest: u64, mark: Mark) {
        loop {
            self.grow();
            if self.try_add(rest, mark) {
                return;
            }
        }
    }

    /// Adds a rest that is not there; false where all lines that it may lie in are full.
    fn try_add(&mut self, rest: u64, mark: Mark) -> bool {
        by_width!(self.width, W => match self.look::<W>(self.home(rest)) {
            Found::At(_) => unreachable!("it is not there"),
            Found::Room(slot, cell) => {
                self.fill::<W>(slot, cell, mark);
                true
            }
            Found::Full => false,
        })
    }

    /// Adds a state with its mark.
    pub(crate) fn add(&mut self, rest: u64, mark: Mark) {
        while !self.has_room(1) {
            self.grow();
        }
        if !self.try_add(rest, mark) {
            self.insert_grown(rest, mark);
        }
    }

    /// Makes a fifth more lines. All states keep their order but those that lie further on.
    fn grow(&mut self) {
        let mut homes = self.homes;
        loop {
            homes += homes / 5 + 1;
            if let Some(grown) = self.with_homes(homes) {
                *self = grown;
                return;
            }
        }
    }

    /// The same states with so many lines that words belong in; `None` where some state finds no room.
    fn with_homes(&self, homes: usize) -> Option<Slice> {
        by_width!(self.width, W => self.with_homes_from::<W>(homes))
    }

    /// The same where cells have so many bytes so far.
    fn with_homes_from<const FROM: usize>(&self, homes: usize) -> Option<Slice> {
        let mut grown = Slice::with(self.rest_bits, homes, self.marks.width());
        // How many cells of each line are taken.
        let mut lens = vec![0u8; grown.lines.len()];
        let cells = grown.cells;
        let mut fits = true;
        self.marks.each_marked(0..self.slots() as u64, |slot, mark| {
            let home = grown.home(self.rest_in::<FROM>(slot as usize));
            let further = (0..=FURTHER_MAX).find(|further| usize::from(lens[home.line + further]) < cells);
            let Some(further) = further else {
                fits = false;
                return false;
            };
            let at = home.line + further;
            let (slot, cell) = (at * cells + usize::from(lens[at]), home.cell + further as u64);
            by_width!(grown.width, W => grown.fill::<W>(slot, cell, mark));
            lens[at] += 1;
            true
        });
        fits.then_some(grown)
    }

    /// The mark of a slot, 0 where it is empty.
    #[cfg(test)]
    fn mark(&self, slot: usize) -> Mark {
        self.marks.get(slot as u64)
    }

    pub(crate) fn set_mark(&mut self, slot: usize, mark: Mark) {
        self.marks.set(slot as u64, mark);
    }

    /// Calls `see` with the slots from `start` on that have this mark, until it says no.
    pub(crate) fn each_with(&self, start: usize, mark: Mark, mut see: impl FnMut(usize) -> bool) {
        let slots = start as u64..self.slots() as u64;
        self.marks.each_of(slots, &[mark], |slot, _| see(slot as usize));
    }

    /// Calls `see` with all slots that hold a state, and their marks.
    pub(crate) fn each(&self, mut see: impl FnMut(usize, Mark)) {
        self.marks.each_seen(0..self.slots() as u64, |slot, mark| see(slot as usize, mark));
    }

    /// Takes the marks out.
    pub(crate) fn take_marks(&mut self) -> Cells {
        std::mem::replace(&mut self.marks, Cells::new(0, 8))
    }
}

/// A table of remainders.
pub(crate) struct Remainders {
    mix: Mix,
    pub(crate) slices: Vec<Slice>,
}

impl Remainders {
    /// An empty one for words of so many bits, [`WORD_BITS_MAX`] at most.
    pub(crate) fn new(bits: u32) -> Remainders {
        let mix = Mix::new(bits);
        Remainders { mix, slices: (0..SLICES).map(|_| Slice::new(mix.rest_bits())).collect() }
    }

    /// Bits of a word.
    pub(crate) fn bits(&self) -> u32 {
        self.mix.bits
    }

    /// The slice of a word, and its rest there.
    #[inline(always)]
    pub(crate) fn split(&self, word: u64) -> (usize, u64) {
        let (mixed, bits) = (self.mix.forth(word), self.mix.rest_bits());
        ((mixed >> bits) as usize % SLICES, mixed & (u64::MAX >> (64 - bits)))
    }

    /// The word of a rest of a slice.
    #[inline(always)]
    pub(crate) fn word(&self, slice: usize, rest: u64) -> u64 {
        self.mix.word(slice, rest)
    }

    /// What tells words from slices and rests, and the slices, which may be changed beside it.
    pub(crate) fn apart(&mut self) -> (Mix, &mut [Slice]) {
        (self.mix, &mut self.slices)
    }

    /// Takes a slice out.
    pub(crate) fn take_slice(&mut self, n: usize) -> Slice {
        std::mem::replace(&mut self.slices[n], Slice::new(self.mix.rest_bits()))
    }

    /// The slice and slot of a word, if it is there.
    pub(crate) fn find(&self, word: u64) -> Option<(usize, usize)> {
        // One that is too wide for the table is not in it.
        if word > self.mix.mask {
            return None;
        }
        let (slice, rest) = self.split(word);
        self.slices[slice].find(rest).map(|slot| (slice, slot))
    }

    /// Finds some words: appends what `number` makes of the slice and slot of each that is there, and `other` for the others. Many are looked for slice by
    /// slice, so that each slice is in the cache while it is asked.
    pub(crate) fn find_all(
        &self,
        words: &[u64],
        (number, other): (impl Fn(usize, usize) -> u64, u64),
        out: &mut Vec<u64>,
    ) {
        // One that is too wide for the table is not in it.
        let found = |n: usize, rest: u64, word: u64| match self.slices[n].find(rest) {
            Some(slot) if word <= self.mix.mask => number(n, slot),
            _ => other,
        };
        if words.len() < SORTED {
            for group in words.chunks(GROUP) {
                let mut places = [(0, 0); GROUP];
                let mut taken = 0;
                for (place, word) in places.iter_mut().zip(group) {
                    *place = self.split(word & self.mix.mask);
                    let slice = &self.slices[place.0];
                    taken |= slice.lines[slice.home(place.1).line].0[0];
                }
                std::hint::black_box(taken);
                out.extend(places.into_iter().zip(group).map(|((n, rest), word)| found(n, rest, *word)));
            }
            return;
        }
        let split: Vec<(u8, u64)> = (words.iter())
            .map(|word| {
                let (n, rest) = self.split(word & self.mix.mask);
                (n as u8, rest)
            })
            .collect();
        let mut firsts = [0u32; SLICES + 1];
        split.iter().for_each(|(n, _)| firsts[usize::from(*n) % SLICES + 1] += 1);
        (0..SLICES).for_each(|n| firsts[n + 1] += firsts[n]);
        let mut at = firsts;
        let mut order = vec![0u32; words.len()];
        for (i, (n, _)) in split.iter().enumerate() {
            let at = &mut at[usize::from(*n) % SLICES];
            order[*at as usize] = i as u32;
            *at += 1;
        }
        let before = out.len();
        out.resize(before + words.len(), other);
        let out = &mut out[before..];
        for (n, slice) in self.slices.iter().enumerate() {
            let of_slice = &order[firsts[n] as usize..firsts[n + 1] as usize];
            slice.read_ahead(of_slice.len());
            for group in of_slice.chunks(GROUP) {
                slice.touch(group.iter().map(|i| split[*i as usize].1));
                for i in group {
                    out[*i as usize] = found(n, split[*i as usize].1, words[*i as usize]);
                }
            }
        }
    }

    /// How many states there are.
    pub(crate) fn len(&self) -> u64 {
        self.slices.iter().map(|slice| slice.len() as u64).sum()
    }

    /// How many slots there are.
    pub(crate) fn slots(&self) -> u64 {
        self.slices.iter().map(|slice| slice.slots() as u64).sum()
    }

    /// Bytes taken.
    pub(crate) fn bytes(&self) -> u64 {
        self.slices.iter().map(Slice::bytes).sum()
    }

    /// Bytes more that marks of up to `most` will take.
    pub(crate) fn bytes_for_marks(&self, most: u64) -> u64 {
        let wanted = u64::from(Cells::width_for(most));
        let more =
            |slice: &Slice| wanted.saturating_sub(slice.marks.width().into()) * slice.slots() as u64 / 8;
        self.slices.iter().map(more).sum()
    }

    /// Makes marks of up to `most` fit into the cells. A slice at a time, so that there are never two of all.
    pub(crate) fn make_room_for_marks(&mut self, most: u64) {
        let wanted = Cells::width_for(most);
        for slice in &mut self.slices {
            if wanted > slice.marks.width() {
                slice.marks.widen(wanted);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::numbers::Random;
    use std::collections::HashMap;

    #[test]
    fn homes_are_divided_by_without_dividing() {
        let mut random = Random::new(8);
        for homes in (1..70).chain([127, 128, 129, 1_000_003]) {
            let slice = Slice::with(40, homes, 8);
            let homes = homes as u64;
            let drawn = (0..200).map(|n| random.below(u64::MAX) >> (1 + n % 60));
            let near = (0..200u64).map(|n| n / 3 * homes + n % 3);
            for number in drawn.chain(near).chain([0, 1, (1 << 63) - 1]) {
                assert_eq!(slice.per_home(number), number.div_ceil(homes), "{number} by {homes}");
            }
        }
    }

    #[test]
    fn mixing_is_one_to_one_and_has_an_inverse() {
        for bits in [16, 17, 20] {
            let mix = Mix::new(bits);
            let mut met = vec![false; 1 << bits];
            for word in 0..1u64 << bits {
                let mixed = mix.forth(word);
                assert!(!std::mem::replace(&mut met[mixed as usize], true), "{bits} bits, {word}");
                assert_eq!(mix.back(mixed), word);
            }
        }
        let mut random = Random::new(3);
        for bits in [21, 32, 33, 40, 57, 62, 63] {
            let mix = Mix::new(bits);
            for _ in 0..10_000 {
                let word = random.below(1 << bits);
                let mixed = mix.forth(word);
                assert!(mixed < 1 << bits && mix.back(mixed) == word, "{bits} bits, {word}");
            }
        }
    }

    #[test]
    fn cells_of_all_widths_are_written_read_and_found() {
        fn check<const W: usize>(random: &mut Random) {
            for _ in 0..300 {
                let mut line = Line::EMPTY;
                let len = random.below(Line::cells::<W>() as u64 + 1) as usize;
                // Few different ones, some of which differ behind their first two bytes only.
                let mut cell = || {
                    let high = random.below(3).wrapping_mul(0x9e37_79b9_7f4a_7c15);
                    ((1 + random.below(5)) | (high << LOW_BITS)) & (u64::MAX >> (64 - 8 * W))
                };
                let cells: Vec<u64> = (0..len).map(|_| cell()).collect();
                cells.iter().enumerate().for_each(|(i, cell)| line.set::<W>(i, *cell));
                assert!(cells.iter().enumerate().all(|(i, cell)| line.cell::<W>(i) == *cell));
                assert_eq!(line.first_empty::<W>(), (len < Line::cells::<W>()).then_some(len));
                for wanted in cells.iter().copied().chain([cell(), cell()]) {
                    assert_eq!(line.find::<W>(wanted), cells.iter().position(|c| *c == wanted), "{W} bytes");
                    let low = wanted as u16;
                    assert_eq!(which_are(&line.0, low), which_are_plainly(&line.0, low));
                }
            }
        }
        let mut random = Random::new(6);
        check::<2>(&mut random);
        check::<3>(&mut random);
        check::<5>(&mut random);
        check::<7>(&mut random);
        check::<8>(&mut random);
    }

    /// Every rest comes back from its slot, whatever the number of lines; with all rests of few bits in the table.
    #[test]
    fn a_slot_says_its_rest() {
        for (bits, lines) in [(10, 1), (10, 17), (10, 100), (13, 127), (13, 128), (13, 1_000)] {
            let mut slice = Slice::with(bits, lines, 8);
            let mut added = vec![];
            for rest in 0..1 << bits {
                if slice.has_room(1) && slice.try_add(rest, 1 + rest as Mark % 200) {
                    added.push(rest);
                }
            }
            let mut back = vec![];
            slice.each(|slot, mark| {
                let rest = slice.rest(slot);
                assert_eq!((mark, slice.find(rest)), (1 + rest as Mark % 200, Some(slot)));
                back.push(rest);
            });
            back.sort_unstable();
            assert!(back == added && !added.is_empty(), "{bits} bits, {lines} lines");
            assert!((0..1 << bits).filter(|rest| slice.find(*rest).is_some()).eq(added));
        }
    }

    /// A table beside a map, in words of all widths, from a few states to many more than the first lines hold.
    #[test]
    fn a_table_of_remainders_does_what_a_map_does() {
        let mut random = Random::new(8);
        for bits in [5, 16, 19, 24, 31, 38, 45, 52, 60, 63] {
            let mut table = Remainders::new(bits);
            let mut map: HashMap<u64, Mark> = HashMap::new();
            let kinds = 40_000.min(1u64 << bits);
            // Words that lie in a row, and words from anywhere.
            let word = |n: u64| if n.is_multiple_of(2) { n } else { n * n * n * n % (1 << bits) };
            for round in 0..40u32 {
                let mark = 1 + round;
                let words: Vec<u64> = (0..1_000).map(|_| word(random.below(kinds))).collect();
                let mut by_slice: Vec<Vec<u64>> = vec![vec![]; SLICES];
                for w in &words {
                    let (slice, rest) = table.split(*w);
                    by_slice[slice].push(rest);
                }
                let (mut added, mut wanted) = (vec![], vec![]);
                for (n, rests) in by_slice.iter().enumerate() {
                    let mut new = vec![];
                    assert!(
                        table.slices[n].insert_all(rests, (mark, usize::MAX >> 1), |rest| new.push(rest))
                    );
                    added.extend(new.iter().map(|rest| table.word(n, *rest)));
                }
                for w in words {
                    map.entry(w).or_insert_with(|| {
                        wanted.push(w);
                        mark
                    });
                }
                added.sort_unstable();
                wanted.sort_unstable();
                assert_eq!(added, wanted, "{bits} bits, round {round}");
                assert_eq!(table.len(), map.len() as u64);
            }
            let mut seen = 0;
            for (n, slice) in table.slices.iter().enumerate() {
                slice.each(|slot, mark| {
                    assert_eq!(map.get(&table.word(n, slice.rest(slot))), Some(&mark));
                    seen += 1;
                });
            }
            assert_eq!(seen, map.len());
            let before = table.bytes();
            table.make_room_for_marks(300);
            assert!(table.bytes() > before);
            for n in 0..kinds + 50 {
                let w = word(n);
                let mark = table.find(w).map(|(slice, slot)| table.slices[slice].mark(slot));
                assert_eq!(mark, map.get(&w).copied(), "{bits} bits, {w}");
            }
            assert_eq!(table.find(u64::MAX), None);
        }
    }

    #[test]
    fn no_more_are_added_than_may_be() {
        let mut slice = Slice::new(20);
        let mut new = vec![];
        assert!(slice.insert_all(&[5, 9, 5], (1, 2), |rest| new.push(rest)), "two are new");
        assert!(!slice.insert_all(&[9, 7, 11, 12], (1, 1), |rest| new.push(rest)), "three are new");
        assert!(slice.insert_all(&[5, 7, 9], (1, 0), |rest| new.push(rest)), "none is new");
        assert_eq!((new, slice.len()), (vec![5, 9, 7], 3));
    }
}
