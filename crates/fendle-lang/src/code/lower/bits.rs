//! Sets of cells as bits in registers: cell 0 is the lowest bit of the first word.

use super::*;

/// A condition asked of every cell: a bit a cell, 64 cells a word, no bits behind the last cell.
#[derive(Clone)]
pub(super) struct Bits {
    pub words: Vec<O>,
    /// Cells at which it holds in every state, as far as that is known.
    pub least: Vec<u64>,
    /// Cells at which it can hold, as far as that is known.
    pub most: Vec<u64>,
}

impl Bits {
    /// The same cells in every state.
    pub(super) fn fixed(words: Vec<u64>) -> Bits {
        let of = |w: &u64| O::K(*w as i64);
        Bits { words: words.iter().map(of).collect(), least: words.clone(), most: words }
    }

    /// Whether it holds nowhere, whatever the state is.
    pub(super) fn is_never(&self) -> bool {
        self.most.iter().all(|w| *w == 0)
    }
}

/// Both, word by word.
pub(super) fn both(a: &[u64], b: &[u64]) -> Vec<u64> {
    a.iter().zip(b).map(|(a, b)| a & b).collect()
}

/// What is in the first and not in the second, word by word.
pub(super) fn without(a: &[u64], b: &[u64]) -> Vec<u64> {
    a.iter().zip(b).map(|(a, b)| a & !b).collect()
}

impl Lower<'_> {
    /// Every cell of the board.
    pub(super) fn all_cells(&self) -> Vec<u64> {
        self.cells_where(|_| true)
    }

    /// The cells for which something holds.
    pub(super) fn cells_where(&self, holds: impl Fn(i64) -> bool) -> Vec<u64> {
        let cells = self.b.cells();
        let mut out = vec![0u64; cells.div_ceil(64)];
        for c in (0..cells).filter(|c| holds(*c as i64)) {
            out[c / 64] |= 1 << (c % 64);
        }
        out
    }

    fn word(&mut self, a: O, b: O, known: fn(u64, u64) -> u64, op: fn(R, R, R) -> Op) -> O {
        if let (O::K(a), O::K(b)) = (a, b) {
            return O::K(known(a as u64, b as u64) as i64);
        }
        let (a, b) = (self.reg(a), self.reg(b));
        self.unary(|d| op(d, a, b))
    }

    /// Where both hold.
    pub(super) fn bits_and(&mut self, a: &Bits, b: &Bits) -> Bits {
        let (least, most) = (both(&a.least, &b.least), both(&a.most, &b.most));
        let words = a.words.iter().zip(&b.words).enumerate().map(|(i, (&x, &y))| {
            // What is known to be no restriction, or to leave nothing, takes no operation.
            if most[i] == 0 {
                O::K(0)
            } else if b.least[i] & a.most[i] == a.most[i] {
                x
            } else if a.least[i] & b.most[i] == b.most[i] {
                y
            } else {
                self.word(x, y, |a, b| a & b, |d, a, b| Op::BitAnd { d, a, b })
            }
        });
        Bits { words: words.collect(), least, most }
    }

    /// Where one of them holds.
    pub(super) fn bits_or(&mut self, a: &Bits, b: &Bits) -> Bits {
        let join = |a: &[u64], b: &[u64]| a.iter().zip(b).map(|(a, b)| a | b).collect::<Vec<u64>>();
        let (least, most) = (join(&a.least, &b.least), join(&a.most, &b.most));
        let words = a.words.iter().zip(&b.words).enumerate().map(|(i, (&x, &y))| {
            if b.most[i] & !a.least[i] == 0 {
                x
            } else if a.most[i] & !b.least[i] == 0 {
                y
            } else {
                self.word(x, y, |a, b| a | b, |d, a, b| Op::BitOr { d, a, b })
            }
        });
        Bits { words: words.collect(), least, most }
    }

    /// Where the first holds and the second does not.
    pub(super) fn bits_minus(&mut self, a: &Bits, b: &Bits) -> Bits {
        let (least, most) = (without(&a.least, &b.most), without(&a.most, &b.least));
        let words = a.words.iter().zip(&b.words).enumerate().map(|(i, (&x, &y))| {
            if most[i] == 0 {
                O::K(0)
            } else if a.most[i] & b.most[i] == 0 {
                x
            } else {
                self.word(x, y, |a, b| a & !b, |d, a, b| Op::BitMinus { d, a, b })
            }
        });
        Bits { words: words.collect(), least, most }
    }

    /// Where it does not hold.
    pub(super) fn bits_not(&mut self, a: &Bits) -> Bits {
        let all = Bits::fixed(self.all_cells());
        self.bits_minus(&all, a)
    }

    /// The same bit for every cell: that of a truth, 0 or anything else.
    pub(super) fn bits_of_truth(&mut self, truth: O) -> Bits {
        let all = self.all_cells();
        match truth {
            O::K(0) => Bits::fixed(vec![0; all.len()]),
            O::K(_) => Bits::fixed(all),
            O::R(r) => {
                let words = all.iter().map(|&w| {
                    let d = self.copy(O::K(w as i64));
                    let on = self.label();
                    self.emit(Op::JumpIf { a: r, to: To(on) });
                    self.emit(Op::Const { d, v: 0 });
                    self.here(on);
                    O::R(d)
                });
                Bits { words: words.collect(), least: vec![0; all.len()], most: all }
            }
        }
    }

    /// Words moved on by so many bits, towards higher cells where that is above 0. `len` words come out.
    pub(super) fn bits_moved(&mut self, words: &[O], by: i64, len: usize) -> Vec<O> {
        let (far, near) = (by.div_euclid(64), by.rem_euclid(64) as i32);
        let word = |i: i64| usize::try_from(i).ok().and_then(|i| words.get(i)).copied().unwrap_or(O::K(0));
        let pairs: Vec<(O, O)> = (0..len as i64).map(|i| (word(i - far), word(i - far - 1))).collect();
        let mut out = vec![];
        for (here, below) in pairs {
            out.push(if near == 0 {
                here
            } else {
                let low = self.word_moved(here, near);
                let high = self.word_moved(below, near - 64);
                if let (O::K(0), x) | (x, O::K(0)) = (low, high) {
                    x
                } else {
                    self.word(low, high, |a, b| a | b, |d, a, b| Op::BitOr { d, a, b })
                }
            });
        }
        out
    }

    fn word_moved(&mut self, word: O, by: i32) -> O {
        match word {
            O::K(v) => O::K(code::bits_moved(v, by)),
            O::R(s) => self.unary(|d| Op::BitMove { d, s, by }),
        }
    }

    /// Jumps where some bit is set, or where none is.
    pub(super) fn jump_on_bits(&mut self, bits: &Bits, to: Label, any: bool) {
        if bits.least.iter().any(|w| *w != 0) {
            if any {
                self.emit(Op::Jump { to: To(to) });
            }
            return;
        }
        let words: Vec<O> = bits.words.iter().copied().filter(|w| *w != O::K(0)).collect();
        let mut words = words.into_iter();
        let Some(mut all) = words.next() else {
            if !any {
                self.emit(Op::Jump { to: To(to) });
            }
            return;
        };
        for w in words {
            all = self.word(all, w, |a, b| a | b, |d, a, b| Op::BitOr { d, a, b });
        }
        let a = self.reg(all);
        self.emit(if any { Op::JumpIf { a, to: To(to) } } else { Op::JumpUnless { a, to: To(to) } });
    }

    /// Writes what `f` writes, or nothing where that finds that it cannot be.
    pub(super) fn attempt<T>(&mut self, f: impl FnOnce(&mut Self) -> Option<T>) -> Option<T> {
        if self.patience == 0 || self.full {
            return None;
        }
        let (ops, next, registers) = (self.code.ops.len(), self.next, self.code.registers);
        let (known, looked) = (self.cells.clone(), self.looked);
        let out = f(self).filter(|_| !self.full);
        if out.is_none() {
            let vain = self.code.ops.len() - ops + self.looked - looked + ATTEMPT;
            self.patience = self.patience.saturating_sub(vain);
            self.full = false;
            self.code.ops.truncate(ops);
            (self.next, self.code.registers) = (next, registers);
            self.cells = known;
        }
        out
    }

    /// A set of cells as bits, on a board of one word; `None` where it is a block, and then nothing was written.
    pub(super) fn set_bits(&mut self, e: &Expr) -> Option<O> {
        if e.ty != Ty::Set || self.full || !(1..=64).contains(&self.b.cells()) || self.differs_by_cell(e) {
            return None;
        }
        match &e.kind {
            Ek::Local(l) => match self.frame[*l] {
                Local::Bits(bits) => Some(bits),
                _ => None,
            },
            Ek::Flood(f) => self.attempt(|l| l.flood_bits(f)),
            Ek::Quant(q) if q.kind == QuantKind::Set => {
                let mut parts = vec![];
                if let Some(filter) = &q.filter {
                    conjuncts(filter, &mut parts);
                }
                self.found_at_once(q, &parts).map(|found| found.words[0])
            }
            Ek::Union(a, b) | Ek::Minus(a, b) | Ek::Both(a, b) => {
                let (x, y) = self.two_sets(a, b)?;
                Some(match &e.kind {
                    Ek::Union(..) => self.word(x, y, |a, b| a | b, |d, a, b| Op::BitOr { d, a, b }),
                    Ek::Minus(..) => self.word(x, y, |a, b| a & !b, |d, a, b| Op::BitMinus { d, a, b }),
                    _ => self.word(x, y, |a, b| a & b, |d, a, b| Op::BitAnd { d, a, b }),
                })
            }
            Ek::Call(f, args) => {
                let model = self.b.model.clone();
                let def = &model.fns[*f];
                self.attempt(|l| {
                    let args = l.args(args);
                    let Some(memo) = l.memo_of_call(*f, &args) else {
                        return l.inlined(&def.locals, args, |l| l.set_bits(&def.body));
                    };
                    // What is found once may as well be found cell by cell.
                    let find = |l: &mut Self| match l.set_bits(&def.body) {
                        Some(bits) => bits,
                        None => {
                            let sight = std::mem::take(&mut l.sight);
                            let (block, _) = l.block_of(&def.body);
                            l.sight = sight;
                            l.cells_in(block).map_or(O::K(0), |bits| bits.words[0])
                        }
                    };
                    Some(l.remembered(memo, |l| l.inlined(&def.locals, args, find)))
                })
            }
            _ => None,
        }
    }

    /// Two sets as bits, where one of them is.
    pub(super) fn two_sets(&mut self, a: &Expr, b: &Expr) -> Option<(O, O)> {
        self.attempt(|l| match l.set_bits(a) {
            Some(x) => Some((x, l.words_of_set(b)?.words[0])),
            None => {
                let x = l.words_of_set(a)?.words[0];
                Some((x, l.set_bits(b)?))
            }
        })
    }

    /// A set as words of bits, whatever it is.
    fn words_of_set(&mut self, e: &Expr) -> Option<Bits> {
        match self.set_bits(e) {
            Some(bits) => Some(self.found(vec![bits])),
            None => {
                let block = self.plain_block(e).filter(|_| e.ty == Ty::Set)?;
                self.cells_in(block)
            }
        }
    }

    /// What is known of words of bits that were found: nothing.
    pub(super) fn found(&self, words: Vec<O>) -> Bits {
        let most = self.all_cells();
        Bits { words, least: vec![0; most.len()], most }
    }

    /// Whether a cell is in a set, 1 or 0.
    pub(super) fn is_member(&mut self, set: O, cell: O) -> O {
        match (set, cell) {
            (_, O::K(c)) if !(0..self.b.cells() as i64).contains(&c) => O::K(0),
            (O::K(set), O::K(c)) => O::K(set >> c & 1),
            (set, cell) => {
                let (s, i) = (self.reg(set), self.reg(cell));
                self.unary(|d| Op::BitAt { d, s, i })
            }
        }
    }

    /// The things of a loop over cells for which some conditions hold, where these are found for all cells at once.
    pub(super) fn found_at_once(&mut self, q: &Quant, parts: &[&Expr]) -> Option<Bits> {
        let set = match &q.over {
            Range::Board => return self.at_once(q.local, parts),
            Range::Lane(_) => {
                let lane = self.known_lanes(&q.over)?;
                let asked = self.cells_where(|c| lane.contains(&c));
                // Lanes come in great numbers, and a loop over one ends early.
                return self.at_once_in(q.local, parts, asked, 24 + 2 * lane.len());
            }
            Range::Cells(set) => set,
            _ => return None,
        };
        self.attempt(|l| {
            let inside = l.words_of_set(set)?;
            if parts.is_empty() {
                return Some(inside);
            }
            let held = l.at_once(q.local, parts)?;
            Some(l.bits_and(&inside, &held))
        })
    }
}
