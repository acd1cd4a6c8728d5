//! Information states that differ only in which cell is which, or in what things are called, are one.
//!
//! Where the rules tell no cell from another, exchanging cells in a state exchanges them in everything that can follow. The
//! same holds of *names*: hidden values that the rules only compare for being equal. Names that the player has not been
//! told yet are free: worlds that differ only in these are kept once.
//!
//! A form is found by colours: a cell's colour says what is seen at it and what may lie there, with which weight, and with
//! which cells it may share a name. Cells are put in the order of their colours. Two information states that
//! are alike may still get two forms, where colours do not tell cells apart that differ: that costs states, never a wrong
//! answer, since equal forms are always alike.

use std::collections::HashMap;

/// Packs or unpacks a state.
pub type Convert<'m, A, B> = Box<dyn Fn(&[A]) -> Vec<B> + Send + Sync + 'm>;

/// What the states of a model hold that may be exchanged.
pub struct Likeness<'m> {
    /// The values of a packed state.
    pub unpack: Convert<'m, u64, i32>,
    /// The packed state of values.
    pub pack: Convert<'m, i32, u64>,
    /// How many cells there are.
    pub cells: usize,
    /// Where grids begin that hold a value for each cell; names aside.
    pub grids: Vec<usize>,
    /// Places that hold the number of a cell, or something below 0 or beyond the cells for none.
    pub holders: Vec<usize>,
    /// The grid that holds names, if there is one.
    pub names: Option<Names>,
}

/// A grid that holds names.
#[derive(Clone, Debug)]
pub struct Names {
    /// Where it begins.
    pub grid: usize,
    /// Names that may be exchanged; two groups never.
    pub groups: Vec<Vec<i32>>,
    /// Which of the told words are names.
    pub told: Vec<usize>,
}

/// For each group how many of its names the player has been told: the first ones, by the names that worlds have here.
pub(super) type Named = Box<[u8]>;

/// The values of a world, and its weight.
pub(super) type Weighed = (Vec<i32>, u128);

fn mix(a: u64, b: u64) -> u64 {
    let x = (a ^ b.rotate_left(32)).wrapping_mul(0x9E37_79B9_7F4A_7C15);
    (x ^ (x >> 29)).wrapping_mul(0xBF58_476D_1CE4_E5B9) ^ (x >> 32)
}

impl Names {
    /// The group of a name and its number there.
    fn find(&self, value: i32) -> Option<(usize, usize)> {
        self.groups
            .iter()
            .enumerate()
            .find_map(|(g, names)| Some((g, names.iter().position(|n| *n == value)?)))
    }
}

impl Likeness<'_> {
    /// How many layouts a world stands for in which so many names have been told.
    #[must_use]
    pub fn stands_for(&self, named: &[u8]) -> u128 {
        let groups = self.names.iter().flat_map(|n| &n.groups).zip(named);
        groups.flat_map(|(g, named)| 1..=(g.len() - usize::from(*named)) as u128).product()
    }

    /// Nothing told yet.
    pub(super) fn none_named(&self) -> Named {
        self.names.iter().flat_map(|n| &n.groups).map(|_| 0).collect()
    }

    /// Gives names that are told for the first time the first free ones, in the order in which they are told: in the told
    /// words, and in the world. What is told of two worlds is then the same where a player cannot tell them apart.
    pub(super) fn tell(&self, named: &Named, told: &mut [u64], world: &mut [i32]) -> Named {
        let mut named = named.clone();
        let Some(names) = &self.names else { return named };
        for &at in &names.told {
            let Ok(value) = i32::try_from(told[at] as i64) else { continue };
            // It may have been renamed a moment ago: what lies there says which it is now.
            let Some((g, number)) = names.find(value) else { continue };
            let group = &names.groups[g];
            let next = usize::from(named[g]);
            if number < next {
                continue;
            }
            let (old, new) = (group[number], group[next]);
            let swap = |v: i32| {
                if v == old {
                    new
                } else if v == new {
                    old
                } else {
                    v
                }
            };
            world[names.grid..names.grid + self.cells].iter_mut().for_each(|v| *v = swap(*v));
            for &i in &names.told {
                if let Ok(v) = i32::try_from(told[i] as i64) {
                    told[i] = i64::from(swap(v)) as u64;
                }
            }
            named[g] += 1;
        }
        named
    }

    /// Brings worlds that look alike into a form that does not depend on which cell is which, nor on names; ascending.
    /// Without `exchange` only free names are brought into one form.
    pub(super) fn settle(&self, worlds: Vec<Weighed>, named: &Named, exchange: bool) -> Vec<Weighed> {
        let codes = self.codes(&worlds);
        let order = if exchange { self.order(&worlds, &codes, named) } else { (0..self.cells).collect() };
        let mut place = vec![0i32; self.cells];
        order.iter().enumerate().for_each(|(new, old)| place[*old] = new as i32);
        let told = self.told_names(&worlds, &codes, named, &order, exchange);
        let groups = self.names.as_ref().map_or(&[][..], |n| &n.groups);
        let (mut map, mut free) = (told.clone(), vec![0usize; groups.len()]);
        let mut out: Vec<Weighed> = Vec::with_capacity(worlds.len());
        for (i, (world, weight)) in worlds.into_iter().enumerate() {
            let mut next = world.clone();
            for &grid in &self.grids {
                order.iter().enumerate().for_each(|(new, old)| next[grid + new] = world[grid + old]);
            }
            for &h in &self.holders {
                if let Some(p) = usize::try_from(world[h]).ok().and_then(|c| place.get(c)) {
                    next[h] = *p;
                }
            }
            if let Some(names) = &self.names {
                map.copy_from_slice(&told);
                free.iter_mut().zip(named.iter()).for_each(|(f, n)| *f = usize::from(*n));
                let row = &codes.rows[i * self.cells..(i + 1) * self.cells];
                for (new, &old) in order.iter().enumerate() {
                    let code = usize::from(row[old]);
                    next[names.grid + new] = match codes.group.get(code) {
                        None => world[names.grid + old],
                        Some(&g) => {
                            // The first that is met gets the first free name.
                            if map[code] == NOT_YET {
                                map[code] = groups[g][free[g]];
                                free[g] += 1;
                            }
                            map[code]
                        }
                    };
                }
            }
            out.push((next, weight));
        }
        out.sort_unstable();
        out.dedup_by(|b, a| {
            if a.0 == b.0 {
                a.1 += b.1;
            }
            a.0 == b.0
        });
        out
    }

    /// The names in all worlds by number.
    fn codes(&self, worlds: &[Weighed]) -> Codes {
        let mut out = Codes { rows: vec![], group: vec![], first: vec![] };
        let Some(names) = &self.names else { return out };
        let mut code: HashMap<i32, u16> = HashMap::new();
        for (g, group) in names.groups.iter().enumerate() {
            out.first.push(out.group.len());
            for value in group {
                code.insert(*value, out.group.len() as u16);
                out.group.push(g);
            }
        }
        let most = code.keys().copied().max().unwrap_or(0);
        let table: Vec<u16> = (0..=most).map(|v| code.get(&v).copied().unwrap_or(u16::MAX)).collect();
        out.rows.reserve(worlds.len() * self.cells);
        for (world, _) in worlds {
            let values = &world[names.grid..names.grid + self.cells];
            let of =
                |v: &i32| usize::try_from(*v).ok().and_then(|v| table.get(v)).copied().unwrap_or(u16::MAX);
            out.rows.extend(values.iter().map(of));
        }
        out
    }

    /// What names that were told are called in the form, by code; the others are not known yet.
    fn told_names(
        &self,
        worlds: &[Weighed],
        codes: &Codes,
        named: &Named,
        order: &[usize],
        exchange: bool,
    ) -> Vec<i32> {
        let mut out = vec![NOT_YET; codes.group.len()];
        let Some(names) = &self.names else { return out };
        let mut key: HashMap<u16, Vec<u128>> = HashMap::new();
        for (first, told) in codes.first.iter().zip(named.iter()) {
            key.extend((0..usize::from(*told)).map(|i| ((first + i) as u16, vec![0; self.cells])));
        }
        if exchange && !key.is_empty() {
            // By where they may lie: the weight at each cell, in the order of the form.
            for ((_, weight), row) in worlds.iter().zip(codes.rows.chunks_exact(self.cells)) {
                for (new, old) in order.iter().enumerate() {
                    if let Some(k) = key.get_mut(&row[*old]) {
                        k[new] += weight;
                    }
                }
            }
        }
        for (g, group) in names.groups.iter().enumerate() {
            let first = codes.first[g];
            let mut told: Vec<u16> = (0..usize::from(named[g])).map(|i| (first + i) as u16).collect();
            told.sort_by(|a, b| key[b].cmp(&key[a]).then(a.cmp(b)));
            told.iter().zip(group).for_each(|(code, name)| out[usize::from(*code)] = *name);
        }
        out
    }

    /// The cells in the order of their colours.
    fn order(&self, worlds: &[Weighed], codes: &Codes, named: &Named) -> Vec<usize> {
        let mut color: Vec<u64> = vec![0; self.cells];
        // What lies at each cell, with which weight.
        for (world, weight) in worlds {
            let weight = *weight as u64;
            for (c, color) in color.iter_mut().enumerate() {
                let mut here = 1;
                for &grid in &self.grids {
                    here = mix(here, world[grid + c] as u64);
                }
                for &h in &self.holders {
                    here = mix(here, u64::from(usize::try_from(world[h]) == Ok(c)));
                }
                *color = color.wrapping_add(mix(here, 3).wrapping_mul(weight));
            }
        }
        let is_told =
            |code: usize| code - codes.first[codes.group[code]] < usize::from(named[codes.group[code]]);
        let told: Vec<bool> = (0..codes.group.len()).map(is_told).collect();
        let rounds = if codes.group.is_empty() { 0 } else { 3 };
        // What cells a name shares in a world.
        let mut shared = vec![0u64; codes.group.len()];
        let share = |row: &[u16], color: &[u64], shared: &mut Vec<u64>| {
            shared.fill(0);
            for (code, color) in row.iter().zip(color) {
                if let Some(s) = shared.get_mut(usize::from(*code)) {
                    *s = s.wrapping_add(mix(*color, 5));
                }
            }
        };
        for _ in 0..rounds {
            // Over all worlds for a name that was told; in each world for a free one.
            let mut of_told = vec![0u64; codes.group.len()];
            for ((_, weight), row) in worlds.iter().zip(codes.rows.chunks_exact(self.cells)) {
                share(row, &color, &mut shared);
                for (code, sum) in of_told.iter_mut().enumerate().filter(|(code, _)| told[*code]) {
                    let add = mix(shared[code], codes.group[code] as u64).wrapping_mul(*weight as u64);
                    *sum = sum.wrapping_add(add);
                }
            }
            let mut next = color.clone();
            for ((world, weight), row) in worlds.iter().zip(codes.rows.chunks_exact(self.cells)) {
                share(row, &color, &mut shared);
                for (c, next) in next.iter_mut().enumerate() {
                    let code = usize::from(row[c]);
                    let tag = match codes.group.get(code) {
                        None => mix(self.names.as_ref().map_or(0, |n| world[n.grid + c]) as u64, 13),
                        Some(_) if told[code] => mix(of_told[code], 7),
                        Some(&g) => mix(shared[code], 11 + g as u64),
                    };
                    *next = next.wrapping_add(mix(tag, color[c]).wrapping_mul(*weight as u64));
                }
            }
            color = next;
        }
        let mut order: Vec<usize> = (0..self.cells).collect();
        order.sort_by_key(|c| (color[*c], *c));
        order
    }
}

/// A name that has no name in the form yet.
const NOT_YET: i32 = i32::MIN;

/// Names as numbers: those of one group follow each other.
struct Codes {
    /// For each world and cell the number of the name there; `u16::MAX` for none.
    rows: Vec<u16>,
    /// For each number its group.
    group: Vec<usize>,
    /// For each group its first number.
    first: Vec<usize>,
}
