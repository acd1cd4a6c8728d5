//! The layouts that agree, one by one.

use num_traits::ToPrimitive;

use super::System;
use super::facts::Facts;
use super::parts::Frontier;

impl System {
    /// Everything that agrees, with its weight; `None` when there is more than `most`.
    #[must_use]
    pub fn solutions(&self, most: usize) -> Option<Vec<(Vec<bool>, u64)>> {
        let mut facts = Facts::default();
        if facts.read(self).is_err() {
            return Some(vec![]);
        }
        let weight = facts.weight().to_u64()?;
        if weight == 0 {
            return Some(vec![]);
        }
        let frontier = Frontier::new(&facts);
        let mut order: Vec<u32> = vec![];
        for (pattern, groups) in &frontier.parts {
            for g in pattern.order() {
                order.extend(&groups[g].cells);
            }
        }
        order.extend(frontier.sea.iter().flat_map(|g| &g.cells));
        let wide = |list: &Vec<(u32, i32)>| list.iter().map(|(c, k)| (*c as usize, i64::from(*k))).collect();
        let of: Vec<Vec<(usize, i64)>> = facts.of.iter().map(wide).collect();
        struct Go<'s> {
            system: &'s System,
            order: &'s [u32],
            of: &'s [Vec<(usize, i64)>],
            want: Vec<(i64, i64)>,
            can: Vec<(i64, i64)>,
            now: Vec<bool>,
            most: usize,
            out: Vec<(Vec<bool>, u64)>,
        }
        impl Go<'_> {
            fn from(&mut self, at: usize, weight: u64) -> bool {
                let Some(&cell) = self.order.get(at) else {
                    self.out.push((self.now.clone(), weight));
                    return self.out.len() <= self.most;
                };
                let x = cell as usize;
                for value in [false, true] {
                    let w = if value { self.system.weights[x].0 } else { self.system.weights[x].1 };
                    let Some(weight) = weight.checked_mul(w).filter(|w| *w > 0) else { continue };
                    let mut fits = true;
                    for &(c, k) in &self.of[x] {
                        self.can[c] = (self.can[c].0 - k.min(0), self.can[c].1 - k.max(0));
                        if value {
                            self.want[c] = (self.want[c].0 - k, self.want[c].1 - k);
                        }
                        fits &= self.can[c].1 >= self.want[c].0 && self.can[c].0 <= self.want[c].1;
                    }
                    self.now[x] = value;
                    let more = !fits || self.from(at + 1, weight);
                    for &(c, k) in &self.of[x] {
                        self.can[c] = (self.can[c].0 + k.min(0), self.can[c].1 + k.max(0));
                        if value {
                            self.want[c] = (self.want[c].0 + k, self.want[c].1 + k);
                        }
                    }
                    if !more {
                        return false;
                    }
                }
                true
            }
        }
        let now = facts.value.iter().map(|f| *f == Some(true)).collect();
        let (order, of) = (order.as_slice(), of.as_slice());
        let mut go = Go { system: self, order, of, want: facts.want, can: facts.can, now, most, out: vec![] };
        go.from(0, weight).then_some(go.out)
    }
}
