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
        let order = if exchange { self.order(&worlds, named) } else { (0..self.cells).collect() };
        let mut place = vec![0i32; self.cells];
        order.iter().enumerate().for_each(|(new, old)| place[*old] = new as i32);
        let told = self.told_names(&worlds, named, &order, exchange);
        let mut out: Vec<Weighed> = worlds
            .into_iter()
            .map(|(world, weight)| {
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
                    let mut map = told.clone();
                    let mut free: Vec<usize> = named.iter().map(|n| usize::from(*n)).collect();
                    for (new, old) in order.iter().enumerate() {
                        let value = world[names.grid + old];
                        next[names.grid + new] = match names.find(value) {
                            None => value,
                            Some((g, _)) => *map.entry(value).or_insert_with(|| {
                                // The first that is met gets the first free name.
                                free[g] += 1;
                                names.groups[g][free[g] - 1]
                            }),
                        };
                    }
                }
                (next, weight)
            })
            .collect();
        out.sort_unstable();
        out.dedup_by(|b, a| {
            if a.0 == b.0 {
                a.1 += b.1;
            }
            a.0 == b.0
        });
        out
    }

    /// What names that were told are called in the form.
    fn told_names(
        &self,
        worlds: &[Weighed],
        named: &Named,
        order: &[usize],
        exchange: bool,
    ) -> HashMap<i32, i32> {
        let mut out = HashMap::new();
        let Some(names) = &self.names else { return out };
        for (g, group) in names.groups.iter().enumerate() {
            let mut told: Vec<i32> = group[..usize::from(named[g])].to_vec();
            if exchange {
                // By where they may lie: the weight at each cell, in the order of the form.
                let mut key: HashMap<i32, Vec<u128>> =
                    told.iter().map(|v| (*v, vec![0; self.cells])).collect();
                for (world, weight) in worlds {
                    for (new, old) in order.iter().enumerate() {
                        if let Some(k) = key.get_mut(&world[names.grid + old]) {
                            k[new] += weight;
                        }
                    }
                }
                told.sort_by(|a, b| key[b].cmp(&key[a]).then(a.cmp(b)));
            }
            out.extend(told.into_iter().zip(group.iter().copied()));
        }
        out
    }

    /// The cells in the order of their colours.
    fn order(&self, worlds: &[Weighed], named: &Named) -> Vec<usize> {
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
        if let Some(names) = &self.names {
            let told: Vec<(usize, usize)> = names
                .groups
                .iter()
                .zip(named.iter())
                .enumerate()
                .flat_map(|(g, (_, n))| (0..usize::from(*n)).map(move |i| (g, i)))
                .collect();
            for _ in 0..3 {
                // What cells a name shares, over all worlds for one that was told; in this world for a free one.
                let shared = |world: &[i32], value: i32| {
                    let cells = (0..self.cells).filter(|c| world[names.grid + c] == value);
                    cells.fold(0u64, |s, c| s.wrapping_add(mix(color[c], 5)))
                };
                let mut of_told: HashMap<i32, u64> = HashMap::new();
                for (world, weight) in worlds {
                    for &(g, i) in &told {
                        let value = names.groups[g][i];
                        let add = mix(shared(world, value), g as u64).wrapping_mul(*weight as u64);
                        let sum = of_told.entry(value).or_default();
                        *sum = sum.wrapping_add(add);
                    }
                }
                let mut next = color.clone();
                for (world, weight) in worlds {
                    for (c, next) in next.iter_mut().enumerate() {
                        let value = world[names.grid + c];
                        let tag = match (of_told.get(&value), names.find(value)) {
                            (Some(told), _) => mix(*told, 7),
                            (None, Some((g, _))) => mix(shared(world, value), 11 + g as u64),
                            (None, None) => mix(value as u64, 13),
                        };
                        *next = next.wrapping_add(mix(tag, color[c]).wrapping_mul(*weight as u64));
                    }
                }
                color = next;
            }
        }
        let mut order: Vec<usize> = (0..self.cells).collect();
        order.sort_by_key(|c| (color[*c], *c));
        order
    }
}
