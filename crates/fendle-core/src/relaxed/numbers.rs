//! Positions of a relaxed puzzle as numbers: some things, some places, the link as the last digit.

use std::collections::BTreeMap;

use super::pattern::{POSITIONS_MAX, Pattern};
use super::task::{Link, Task};

/// Most digits of a position.
const DIGITS: usize = 24;

/// A part of the number of a position.
#[derive(Clone, Debug)]
pub(super) enum Field {
    /// One thing that is always there, by its rank among the places that the fields `before` it in the same domain leave.
    One { kind: u32, domain: usize, before: Vec<usize>, radix: u64 },
    /// Several things, or one that may be gone.
    Some { kind: u32, keep: u32, falls: bool, domain: usize, radix: u64 },
    /// A place outside the groups.
    Place { place: u32, values: Vec<i32> },
}

/// Places as numbers from 0.
#[derive(Clone, Debug, Default)]
pub(super) struct Domain {
    pub(super) places: Vec<u32>,
    number: Vec<u32>,
}

/// How positions are numbered.
#[derive(Clone, Debug)]
pub(crate) struct Numbers {
    pub(super) fields: Vec<Field>,
    pub(super) domains: Vec<Domain>,
    /// `choose[k][n]`: sets of k out of n.
    choose: Vec<Vec<u64>>,
    size: u64,
    /// How many values the last digit has, where that is a link.
    last: Option<u64>,
}

/// What stands where in a position: for each field its places, or the value.
#[derive(Clone, Debug, Default)]
pub(crate) struct Spot {
    pub(crate) parts: Vec<Vec<u32>>,
}

impl Field {
    fn radix(&self) -> u64 {
        match self {
            Field::One { radix, .. } | Field::Some { radix, .. } => *radix,
            Field::Place { values, .. } => values.len() as u64,
        }
    }
}

fn choose_table(most: usize, n: usize) -> Vec<Vec<u64>> {
    let mut out = vec![vec![1u64; n + 1]];
    for k in 1..=most {
        let mut row = vec![0u64; n + 1];
        for i in 1..=n {
            row[i] = row[i - 1].saturating_add(out[k - 1][i - 1]);
        }
        out.push(row);
    }
    out
}

impl Numbers {
    /// `None` where there are too many.
    pub(crate) fn new(task: &Task, pattern: &Pattern) -> Option<Numbers> {
        let links = task.links();
        let is_link = |k: u32| links.contains(&Link::Kind(k));
        let mut kinds = pattern.kinds.clone();
        kinds.sort_by_key(|k| (is_link(k.0), k.0));
        let mut places = pattern.places.clone();
        places.sort_by_key(|p| (links.contains(&Link::Place(*p)), *p));
        let mut out = Numbers { fields: vec![], domains: vec![], choose: vec![], size: 1, last: None };
        let mut domain_of: BTreeMap<u32, usize> = BTreeMap::new();
        let (mut deepest, mut widest) = (1, 1);
        for &(k, keep) in &kinds {
            let kind = &task.kinds[k as usize];
            let domain = *domain_of.entry(kind.group).or_insert_with(|| {
                let mut all: Vec<u32> = (kinds.iter())
                    .filter(|x| task.kinds[x.0 as usize].group == kind.group)
                    .flat_map(|x| task.kinds[x.0 as usize].places.iter().copied())
                    .collect();
                all.sort_unstable();
                all.dedup();
                let mut number = vec![u32::MAX; task.start.len()];
                all.iter().enumerate().for_each(|(i, p)| number[*p as usize] = i as u32);
                out.domains.push(Domain { places: all, number });
                out.domains.len() - 1
            });
            let n = out.domains[domain].places.len();
            widest = widest.max(n);
            deepest = deepest.max(keep as usize);
            if keep == 1 && !kind.falls {
                let same = |f: &Field| matches!(f, Field::One { domain: d, .. } if *d == domain);
                let before: Vec<usize> = (0..out.fields.len()).filter(|i| same(&out.fields[*i])).collect();
                let radix = n.checked_sub(before.len()).filter(|r| *r > 0)? as u64;
                out.fields.push(Field::One { kind: k, domain, before, radix });
            } else {
                let sets = |k: u32| choose_table(k as usize, n)[k as usize][n];
                let radix = if kind.falls { (0..=keep).map(sets).sum() } else { sets(keep) };
                if radix == 0 {
                    return None;
                }
                out.fields.push(Field::Some { kind: k, keep, falls: kind.falls, domain, radix });
            }
        }
        for &place in &places {
            out.fields.push(Field::Place { place, values: task.values[place as usize].clone() });
        }
        // Several things in a domain of others could not be told from these by a rank of free places: ones come first and together.
        let digits: usize = (out.fields.iter())
            .map(|f| if let Field::Some { keep, .. } = f { *keep as usize } else { 1 })
            .sum();
        if digits > DIGITS || out.fields.is_empty() {
            return None;
        }
        for field in &out.fields {
            out.size = out.size.checked_mul(field.radix()).filter(|s| *s <= POSITIONS_MAX)?;
        }
        out.choose = choose_table(deepest + 1, widest);
        let is_linked = match out.fields.last() {
            Some(Field::One { kind, .. }) => is_link(*kind),
            Some(Field::Place { place, .. }) => links.contains(&Link::Place(*place)),
            _ => false,
        };
        out.last = out.fields.last().filter(|_| is_linked && out.fields.len() > 1).map(Field::radix);
        Some(out)
    }

    pub(crate) fn size(&self) -> u64 {
        self.size
    }

    /// How many values the last digit has, where it is a link.
    pub(crate) fn last_radix(&self) -> Option<u64> {
        self.last
    }

    pub(crate) fn spot(&self) -> Spot {
        Spot { parts: vec![Vec::with_capacity(8); self.fields.len()] }
    }

    /// The number of a position; `None` where a thing is where it cannot be.
    #[inline]
    pub(crate) fn rank(&self, spot: &Spot) -> Option<u64> {
        self.rank_of(spot, self.fields.len())
    }

    /// The number that the first fields make.
    #[inline]
    pub(super) fn rank_of(&self, spot: &Spot, fields: usize) -> Option<u64> {
        let mut out = 0u64;
        for (i, field) in self.fields[..fields].iter().enumerate() {
            let part = &spot.parts[i];
            let digit = match field {
                Field::One { domain, before, .. } => {
                    let number = &self.domains[*domain].number;
                    let here = *number.get(part[0] as usize)?;
                    if here == u32::MAX {
                        return None;
                    }
                    let mut digit = here;
                    for field in before {
                        digit -= u32::from(number[spot.parts[*field][0] as usize] < here);
                    }
                    u64::from(digit)
                }
                Field::Some { keep, falls, domain, .. } => {
                    let number = &self.domains[*domain].number;
                    let len = part.len();
                    let n = self.domains[*domain].places.len();
                    let mut digit = 0;
                    if len > *keep as usize || len < *keep as usize && !*falls {
                        return None;
                    }
                    if *falls {
                        for size in 0..len {
                            digit += self.choose[size][n];
                        }
                    }
                    for (j, place) in part.iter().enumerate() {
                        let here = number[*place as usize];
                        if here == u32::MAX {
                            return None;
                        }
                        digit += self.choose[j + 1][here as usize];
                    }
                    digit
                }
                Field::Place { values, .. } => values.binary_search(&(part[0] as i32)).ok()? as u64,
            };
            out = out * field.radix() + digit;
        }
        Some(out)
    }

    /// Where the first of some fields is a set of `keep` things of several, and the others do not depend on it: what each of some things, ascending, adds to the
    /// number of a position as the least of its set, then as the second one, and so on, and what the others add. `spot` is such a position with any set.
    /// `Some(None)` where one of them cannot be where it is.
    pub(super) fn terms_of_sets(
        &self,
        (spot, fields): (&Spot, usize),
        (kind, keep): (u32, usize),
        things: &[u32],
        terms: &mut Vec<u64>,
    ) -> Option<Option<u64>> {
        let (first, others) = self.fields[..fields].split_first()?;
        let (of, most, falls, domain) = match first {
            Field::One { kind, domain, .. } => (*kind, 1, false, domain),
            Field::Some { kind, keep, falls, domain, .. } => (*kind, *keep, *falls, domain),
            Field::Place { .. } => return None,
        };
        let depends = |f: &Field| matches!(f, Field::One { before, .. } if before.contains(&0));
        if of != kind || most as usize != keep || others.iter().any(depends) {
            return None;
        }
        let radix: u64 = others.iter().map(Field::radix).product();
        let Some(number) = self.rank_of(spot, fields) else { return Some(None) };
        let domain = &self.domains[*domain];
        terms.clear();
        for nth in 1..=keep {
            for place in things {
                match domain.number[*place as usize] {
                    u32::MAX => return Some(None),
                    number => terms.push(self.choose[nth][number as usize] * radix),
                }
            }
        }
        // Smaller sets come first.
        let smaller = if falls { keep } else { 0 };
        let before: u64 = (0..smaller).map(|size| self.choose[size][domain.places.len()]).sum();
        Some(Some(before * radix + number % radix))
    }

    /// The position with a number.
    pub(crate) fn unrank(&self, mut number: u64, spot: &mut Spot) {
        let mut digits = [0u64; DIGITS];
        for (i, field) in self.fields.iter().enumerate().rev() {
            digits[i] = number % field.radix();
            number /= field.radix();
        }
        for (i, field) in self.fields.iter().enumerate() {
            let mut part = std::mem::take(&mut spot.parts[i]);
            part.clear();
            match field {
                Field::One { domain, before, .. } => {
                    let d = &self.domains[*domain];
                    let mut here = digits[i] as u32;
                    // The earlier things, in ascending order, push it on.
                    let mut taken = [0u32; DIGITS];
                    let n = before.len();
                    for (slot, field) in taken.iter_mut().zip(before) {
                        *slot = d.number[spot.parts[*field][0] as usize];
                    }
                    taken[..n].sort_unstable();
                    for t in &taken[..n] {
                        here += u32::from(*t <= here);
                    }
                    part.push(d.places[here as usize]);
                }
                Field::Some { keep, falls, domain, .. } => {
                    let d = &self.domains[*domain];
                    let n = d.places.len();
                    let (mut rest, mut size) = (digits[i], *keep as usize);
                    if *falls {
                        size = 0;
                        while rest >= self.choose[size][n] {
                            rest -= self.choose[size][n];
                            size += 1;
                        }
                    }
                    let mut below = n;
                    for j in (1..=size).rev() {
                        let row = &self.choose[j][..below];
                        let at = row.partition_point(|c| *c <= rest) - 1;
                        rest -= row[at];
                        part.push(d.places[at]);
                        below = at;
                    }
                    part.reverse();
                }
                Field::Place { values, .. } => part.push(values[digits[i] as usize] as u32),
            }
            spot.parts[i] = part;
        }
    }
}

/// The next set of numbers below `n`, in lexicographic order; false after the last.
pub(crate) fn next_subset(chosen: &mut [usize], n: usize) -> bool {
    let k = chosen.len();
    let Some(i) = (0..k).rev().find(|i| chosen[*i] < n - k + i) else { return false };
    chosen[i] += 1;
    for j in i + 1..k {
        chosen[j] = chosen[j - 1] + 1;
    }
    true
}

/// Most places of [`Singles`], so that their numbers leave the highest bit of a byte free.
const SINGLES_PLACES: usize = 64;
/// One in each byte, and the highest bit of each byte.
const ONES: u64 = 0x0101_0101_0101_0101;
const HIGHS: u64 = ONES << 7;

/// Positions of at most eight single things in at most 64 places of one group, packed: the number of its place in a byte for each thing, the first
/// thing in the lowest.
pub(super) struct Singles {
    /// For each place its number; 64 where nothing of these can be.
    number: [u8; 256],
    /// For each number its place.
    place: [u8; SINGLES_PLACES],
    pub(super) radix: Vec<u32>,
}

impl Singles {
    pub(super) fn of(numbers: &Numbers) -> Option<Singles> {
        let [domain] = numbers.domains.as_slice() else { return None };
        let is_one = |f: &Field| matches!(f, Field::One { .. });
        let small =
            domain.places.len() <= SINGLES_PLACES && domain.number.len() <= 256 && numbers.fields.len() <= 8;
        if !small || !numbers.fields.iter().all(is_one) {
            return None;
        }
        let (mut number, mut place) = ([SINGLES_PLACES as u8; 256], [0; SINGLES_PLACES]);
        for (i, p) in domain.places.iter().enumerate() {
            (number[*p as usize], place[i]) = (i as u8, *p as u8);
        }
        Some(Singles { number, place, radix: numbers.fields.iter().map(|f| f.radix() as u32).collect() })
    }

    /// A position, packed.
    pub(super) fn pack(&self, spot: &Spot) -> u64 {
        let number = |part: &Vec<u32>| u64::from(self.number[part[0] as u8 as usize]);
        spot.parts.iter().rev().fold(0, |all, part| all << 8 | number(part))
    }

    /// The place of a thing.
    #[inline]
    pub(super) fn place(&self, packed: u64, thing: usize) -> u32 {
        self.place[(packed >> (8 * thing)) as usize % SINGLES_PLACES].into()
    }

    /// The position where a thing lies in this place instead, if it can.
    #[inline]
    pub(super) fn moved(&self, packed: u64, thing: usize, place: u32) -> Option<u64> {
        let number = self.number[place as u8 as usize];
        let shift = 8 * thing;
        let moved = packed & !(0xff << shift) | u64::from(number) << shift;
        (usize::from(number) < SINGLES_PLACES).then_some(moved)
    }

    /// The number of a packed position, as [`Numbers::rank`] gives it.
    ///
    /// Each thing counts the places that earlier things leave free before it. All bytes are compared with its own at once, as one number:
    /// no difference of two bytes borrows from the next one.
    #[inline]
    pub(super) fn rank(&self, packed: u64) -> u32 {
        let (mut earlier, mut out) = (0u64, 0u32);
        for (i, radix) in self.radix.iter().enumerate() {
            let here = packed >> (8 * i) & 0xff;
            let not_after = (here.wrapping_mul(ONES) | HIGHS).wrapping_sub(packed) & earlier;
            let taken = (not_after >> 7).wrapping_mul(ONES) >> 56;
            out = out.wrapping_mul(*radix).wrapping_add(here as u32).wrapping_sub(taken as u32);
            earlier = earlier << 8 | 0x80;
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::MoveId;
    use crate::relaxed::pattern::Counts;
    use crate::relaxed::task::{Kind, TaskWay};

    /// Seven places in which two kinds lie, and one beside them; the first kind takes part in every way where `linked`.
    fn task(count: u32, falls: bool, linked: bool) -> Task {
        let kind = |name: &str, value, count, falls| Kind {
            name: name.into(),
            group: 0,
            value,
            places: (0..7).collect(),
            count,
            falls,
        };
        let way = TaskWay {
            of: MoveId(0),
            count: 1,
            reads: vec![(0, 1), (1, 0)],
            changes: vec![(0, 1, 0), (1, 0, 1)],
        };
        let group = vec![Some(0); 7].into_iter().chain([None]).collect();
        let values = vec![vec![0, 1, 2]; 7].into_iter().chain([vec![-1, 3, 4]]).collect();
        Task {
            start: vec![0; 8],
            values,
            group,
            ways: if linked { vec![way] } else { vec![] },
            kinds: vec![kind("one", 1, 1, false), kind("many", 2, count, falls)],
            ..Task::default()
        }
    }

    #[test]
    fn every_number_is_a_position_and_back() {
        // Places of one thing, sets of the others: 7 over k, or all sets of at most k.
        let choose = |k: u64| [1, 7, 21, 35, 35][k as usize];
        for linked in [false, true] {
            for keep in 1..=4u32 {
                for falls in [false, true] {
                    let task = task(4, falls, linked);
                    let kinds = vec![(0, 1), (1, keep)];
                    let pattern = Pattern { kinds, places: vec![7], counts: Counts::All, to: None };
                    let numbers = Numbers::new(&task, &pattern).expect("few");
                    let sets: u64 = match (keep, falls) {
                        // One of several that never falls lies where the first thing does not.
                        (1, false) => 6,
                        (_, false) => choose(keep.into()),
                        (_, true) => (0..=u64::from(keep)).map(choose).sum(),
                    };
                    assert_eq!(numbers.size(), 7 * sets * 3, "{keep} {falls}");
                    let mut spot = numbers.spot();
                    for n in 0..numbers.size() {
                        numbers.unrank(n, &mut spot);
                        assert_eq!(numbers.rank(&spot), Some(n), "{keep} {falls}: {spot:?}");
                    }
                }
            }
        }
    }

    #[test]
    fn packed_single_things_have_the_numbers_of_their_places() {
        let mut task = task(1, false, true);
        task.kinds[1].places = (1..6).collect();
        let pattern = Pattern { kinds: vec![(0, 1), (1, 1)], places: vec![], counts: Counts::All, to: None };
        let numbers = Numbers::new(&task, &pattern).expect("few");
        let singles = Singles::of(&numbers).expect("they are single");
        let mut spot = numbers.spot();
        for n in 0..numbers.size() {
            numbers.unrank(n, &mut spot);
            let packed = singles.pack(&spot);
            assert_eq!(u64::from(singles.rank(packed)), n);
            let places = (0..2).map(|thing| singles.place(packed, thing));
            assert!(places.eq(spot.parts.iter().map(|part| part[0])));
            // The first thing brought anywhere: where the other one does not lie and things can.
            for to in 0..8 {
                let Some(moved) = singles.moved(packed, 0, to) else {
                    assert_eq!(to, 7);
                    continue;
                };
                if to != spot.parts[1][0] {
                    let there = Spot { parts: vec![vec![to], spot.parts[1].clone()] };
                    assert_eq!(numbers.rank(&there), Some(singles.rank(moved).into()));
                }
            }
        }
    }
}
