//! Proofs of what is certain: the smallest sets of clues that force a cell, and steps that a person can take.

use std::collections::{HashMap, HashSet};

use super::{Clue, Inferred, System};

/// How a person sees that a cell is certain.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Kind {
    /// One clue is enough.
    OneClue,
    /// Two clues are compared.
    TwoClues,
    /// Several clues together.
    Several,
    /// The total is needed.
    Total,
}

/// A set of clues that proves what a cell is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Proof {
    /// The clues, ascending.
    pub clues: Vec<usize>,
    /// Whether no smaller set proves it; else only nothing can be left out.
    pub smallest: bool,
}

/// Sets of clues up to this size are all tried.
pub const SMALL: usize = 4;
/// Most sets that are tried for one cell.
const TRIES: usize = 6_000;

/// Groups and clues of a system, made once to look for many proofs.
pub struct Prover<'s> {
    system: &'s System,
    clues: Vec<Clue>,
    /// Cells with the same clues: how often each clue counts them, and how many they are.
    groups: Vec<(Vec<(usize, i64)>, i64)>,
    group_of: Vec<Option<usize>>,
    /// The groups that a clue counts.
    of_clue: Vec<Vec<usize>>,
    /// Clues that share an open cell with a clue; the total aside.
    beside: Vec<Vec<usize>>,
}

impl System {
    /// Whether these clues alone, and what is fixed, leave no other value for a cell.
    #[must_use]
    pub fn proves(&self, clues: &[usize], cell: u32, value: bool) -> bool {
        self.prover().proves(clues, cell, value)
    }

    /// The clues that can prove what a certain cell is: those of its part where they are enough, else all that say
    /// anything about a cell that is not fixed.
    #[must_use]
    pub fn clues_for(&self, cell: u32, value: bool) -> Vec<usize> {
        self.prover().clues_for(cell, value)
    }

    /// A smallest set of clues that proves a certain cell, as [`Prover::proof`].
    #[must_use]
    pub fn proof(&self, cell: u32, value: bool, among: &[usize]) -> Option<Proof> {
        self.prover().proof(cell, value, among)
    }

    /// Prepares looking for proofs.
    #[must_use]
    pub fn prover(&self) -> Prover<'_> {
        let clues: Vec<Clue> = self.clues.iter().map(|c| self.reduced(c)).collect();
        let mut of: Vec<Vec<(usize, i64)>> = vec![vec![]; self.weights.len()];
        for (i, c) in clues.iter().enumerate() {
            for &(x, k) in &c.cells {
                of[x as usize].push((i, k.into()));
            }
        }
        let mut index: HashMap<&[(usize, i64)], usize> = HashMap::new();
        let mut groups: Vec<(Vec<(usize, i64)>, i64)> = vec![];
        let mut group_of = vec![None; of.len()];
        for (x, key) in of.iter().enumerate().filter(|(x, _)| self.fixed[*x].is_none()) {
            let at = *index.entry(key).or_insert(groups.len());
            if at == groups.len() {
                groups.push((key.clone(), 0));
            }
            groups[at].1 += 1;
            group_of[x] = Some(at);
        }
        let mut of_clue = vec![vec![]; clues.len()];
        let mut beside: Vec<HashSet<usize>> = vec![HashSet::new(); clues.len()];
        for (g, (key, _)) in groups.iter().enumerate() {
            for &(c, _) in key {
                of_clue[c].push(g);
                if Some(c) != self.total {
                    let others = key.iter().map(|k| k.0).filter(|o| *o != c && Some(*o) != self.total);
                    beside[c].extend(others);
                }
            }
        }
        let sorted = |s: HashSet<usize>| {
            let mut v: Vec<usize> = s.into_iter().collect();
            v.sort_unstable();
            v
        };
        let beside = beside.into_iter().map(sorted).collect();
        Prover { system: self, clues, groups, group_of, of_clue, beside }
    }
}

impl Prover<'_> {
    /// Whether these clues alone, and what is fixed, leave no other value for a cell.
    #[must_use]
    pub fn proves(&self, clues: &[usize], cell: u32, value: bool) -> bool {
        let mine = self.group_of[cell as usize];
        let mut needs: Vec<(i64, i64)> =
            clues.iter().map(|&c| (self.clues[c].lo, self.clues[c].hi)).collect();
        if let (Some(g), false) = (mine, value) {
            // The cell the other way: filled.
            for &(c, k) in &self.groups[g].0 {
                if let Some(i) = clues.iter().position(|x| *x == c) {
                    needs[i] = (needs[i].0 - k, needs[i].1 - k);
                }
            }
        }
        let mut touched: Vec<usize> = clues.iter().flat_map(|&c| self.of_clue[c].iter().copied()).collect();
        touched.sort_unstable();
        touched.dedup();
        let mut groups: Vec<(Vec<i64>, i64)> = vec![];
        let mut k = vec![0; clues.len()];
        for g in touched {
            let n = self.groups[g].1 - i64::from(Some(g) == mine);
            if n == 0 {
                continue;
            }
            k.fill(0);
            for &(c, x) in &self.groups[g].0 {
                if let Some(i) = clues.iter().position(|y| *y == c) {
                    k[i] = x;
                }
            }
            match groups.iter_mut().find(|h| h.0 == k) {
                Some(h) => h.1 += n,
                None => groups.push((k.clone(), n)),
            }
        }
        // The cells that most clues count decide soonest.
        groups.sort_by_key(|g| std::cmp::Reverse(g.0.iter().filter(|x| **x != 0).count()));
        !possible(&groups, &mut needs)
    }

    /// Whether the total can matter beside so few other clues: not when more cells are left out of them than the
    /// total wants, and the clues cannot want more than it has.
    fn total_matters(&self, others: usize) -> bool {
        let Some(t) = self.system.total else { return false };
        let local = |c: &usize| Some(*c) != self.system.total;
        let mut sizes: Vec<i64> =
            (0..self.clues.len()).filter(local).map(|c| self.clues[c].cells.len() as i64).collect();
        let mut most: Vec<i64> = (0..self.clues.len()).filter(local).map(|c| self.clues[c].hi).collect();
        sizes.sort_unstable_by_key(|n| -n);
        most.sort_unstable_by_key(|n| -n);
        let (inside, wanted): (i64, i64) = (sizes.iter().take(others).sum(), most.iter().take(others).sum());
        let outside = self.clues[t].cells.len() as i64 - inside - 1;
        !(self.clues[t].cells.iter().all(|c| c.1 == 1)
            && outside >= self.clues[t].hi
            && self.clues[t].lo > wanted)
    }

    /// A smallest set of clues that proves a certain cell; past the limits one from which nothing can be left out.
    /// `among` are the clues that may be used.
    #[must_use]
    pub fn proof(&self, cell: u32, value: bool, among: &[usize]) -> Option<Proof> {
        let mut tries = 0;
        for size in 1..=SMALL {
            match self.proofs_of(cell, value, among, size, &mut tries, true) {
                Some(found) if found.is_empty() => {}
                Some(mut found) => return Some(Proof { clues: found.remove(0), smallest: true }),
                None => break,
            }
        }
        if !self.proves(among, cell, value) {
            return None;
        }
        let mut kept: Vec<usize> = among.to_vec();
        // What lies far away is left out first.
        let mut order: Vec<usize> = among.to_vec();
        order.sort_by_key(|&c| {
            (Some(c) != self.system.total, self.clues[c].cells.iter().any(|x| x.0 == cell))
        });
        for c in order {
            let without: Vec<usize> = kept.iter().copied().filter(|k| *k != c).collect();
            if self.proves(&without, cell, value) {
                kept = without;
            }
        }
        Some(Proof { clues: kept, smallest: false })
    }

    /// All sets of this size that prove a cell and hang together with it; only the first with `one`. `None` when too
    /// many would have to be tried.
    fn proofs_of(
        &self,
        cell: u32,
        value: bool,
        among: &[usize],
        size: usize,
        tries: &mut usize,
        one: bool,
    ) -> Option<Vec<Vec<usize>>> {
        let has = |c: usize, x: u32| {
            self.group_of[x as usize].is_some_and(|g| self.groups[g].0.iter().any(|k| k.0 == c))
        };
        let local: Vec<usize> = among.iter().copied().filter(|c| Some(*c) != self.system.total).collect();
        let with_total = self.system.total.is_some_and(|t| among.contains(&t));
        let touches = |a: usize, b: usize| self.beside[a].binary_search(&b).is_ok();
        let mut seen: HashSet<Vec<usize>> = HashSet::new();
        let mut layer: Vec<Vec<usize>> = local.iter().filter(|&&c| has(c, cell)).map(|&c| vec![c]).collect();
        // Without the total first: it touches everything.
        let mut out = vec![];
        for now in 1..=size {
            for set in &layer {
                if now == size {
                    *tries += 1;
                    if self.proves(set, cell, value) {
                        out.push(set.clone());
                        if one {
                            return Some(out);
                        }
                    }
                }
                if *tries > TRIES {
                    return None;
                }
            }
            if now == size {
                break;
            }
            let mut next = vec![];
            for set in &layer {
                for &c in &local {
                    if !set.contains(&c) && set.iter().any(|&s| touches(s, c)) {
                        let mut bigger = set.clone();
                        bigger.push(c);
                        bigger.sort_unstable();
                        if seen.insert(bigger.clone()) {
                            next.push(bigger);
                        }
                    }
                }
                if seen.len() > TRIES {
                    return None;
                }
            }
            layer = next;
        }
        if with_total
            && self.total_matters(size - 1)
            && let Some(t) = self.system.total
        {
            // The total joins any clues at all.
            let mut pick: Vec<usize> = vec![];
            let mut stop = false;
            subsets(&local, size - 1, 0, &mut pick, &mut |set| {
                *tries += 1;
                if *tries > TRIES {
                    stop = true;
                    return false;
                }
                let mut set: Vec<usize> = set.to_vec();
                set.push(t);
                set.sort_unstable();
                if self.proves(&set, cell, value) {
                    out.push(set);
                    return !one;
                }
                true
            });
            if stop && out.is_empty() {
                return None;
            }
        }
        Some(out)
    }

    /// How many sets of clues, no two of which share one, each prove a cell; and whether that is the greatest number,
    /// or only at least so many.
    #[must_use]
    pub fn independent(&self, cell: u32, value: bool, among: &[usize]) -> (usize, bool) {
        let mut minimal: Vec<Vec<usize>> = vec![];
        let mut tries = 0;
        let mut whole = true;
        // Where there are many clues, only those that hang together; then it is a number that is at least so great.
        let among: Vec<usize> = match among.len() {
            0..=10 => among.to_vec(),
            _ => among.iter().copied().filter(|c| Some(*c) != self.system.total).collect(),
        };
        let among = &among[..];
        for size in 1..=among.len().min(if among.len() <= 10 { 10 } else { 3 }) {
            match self.proofs_of(cell, value, among, size, &mut tries, false) {
                Some(found) => {
                    for set in found {
                        if !minimal.iter().any(|m| m.iter().all(|c| set.contains(c))) {
                            minimal.push(set);
                        }
                    }
                }
                None => {
                    whole = false;
                    break;
                }
            }
        }
        whole &= among.len() <= 10;
        let (n, exact) = most_disjoint(&minimal);
        (n.max(usize::from(self.proves(among, cell, value))), whole && exact)
    }
}

/// How many of these sets at most share nothing, two by two; and whether that is the greatest number, or only at
/// least so many. All choices are tried, up to a budget.
#[must_use]
pub fn most_disjoint(sets: &[Vec<usize>]) -> (usize, bool) {
    fn most(sets: &[Vec<usize>], used: &mut Vec<usize>, budget: &mut usize) -> usize {
        *budget = budget.saturating_sub(1);
        let Some((first, rest)) = sets.split_first() else { return 0 };
        if *budget == 0 {
            return 0;
        }
        let mut best = 0;
        if first.iter().all(|c| !used.contains(c)) {
            let len = used.len();
            used.extend(first);
            best = 1 + most(rest, used, budget);
            used.truncate(len);
        }
        if best > rest.len() { best } else { best.max(most(rest, used, budget)) }
    }
    let mut budget = 200_000;
    let mut sorted = sets.to_vec();
    sorted.sort_by_key(Vec::len);
    let n = most(&sorted, &mut vec![], &mut budget);
    (n, budget > 0)
}

fn subsets(
    from: &[usize],
    size: usize,
    at: usize,
    pick: &mut Vec<usize>,
    see: &mut dyn FnMut(&[usize]) -> bool,
) -> bool {
    if pick.len() == size {
        return see(pick);
    }
    for i in at..from.len() {
        pick.push(from[i]);
        let more = subsets(from, size, i + 1, pick, see);
        pick.pop();
        if !more {
            return false;
        }
    }
    true
}

/// Whether groups can be filled so that every sum lies in its range.
fn possible(groups: &[(Vec<i64>, i64)], needs: &mut Vec<(i64, i64)>) -> bool {
    for (i, need) in needs.iter().enumerate() {
        let (mut least, mut most) = (0, 0);
        for (k, n) in groups {
            least += (k[i] * n).min(0);
            most += (k[i] * n).max(0);
        }
        if most < need.0 || least > need.1 {
            return false;
        }
    }
    let Some(((k, n), rest)) = groups.split_first() else { return true };
    for v in 0..=*n {
        for (need, k) in needs.iter_mut().zip(k) {
            *need = (need.0 - k * v, need.1 - k * v);
        }
        let fits = possible(rest, needs);
        for (need, k) in needs.iter_mut().zip(k) {
            *need = (need.0 + k * v, need.1 + k * v);
        }
        if fits {
            return true;
        }
    }
    false
}

/// One step that a person can take.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Deduction {
    /// How it is seen.
    pub kind: Kind,
    /// The clues that are looked at.
    pub clues: Vec<usize>,
    /// The cells that become certain, and what they are.
    pub cells: Vec<(u32, bool)>,
}

impl Prover<'_> {
    /// The clues of a cell's part.
    fn part(&self, cell: u32) -> Vec<usize> {
        let Some(g) = self.group_of[cell as usize] else { return vec![] };
        let mut out: Vec<usize> =
            self.groups[g].0.iter().map(|k| k.0).filter(|c| Some(*c) != self.system.total).collect();
        let mut at = 0;
        while at < out.len() {
            for &c in &self.beside[out[at]] {
                if !out.contains(&c) {
                    out.push(c);
                }
            }
            at += 1;
        }
        out.sort_unstable();
        out
    }

    /// The clues that can prove what a certain cell is: those of its part and the total where they are enough, else all
    /// that say anything about a cell that is not fixed.
    #[must_use]
    pub fn clues_for(&self, cell: u32, value: bool) -> Vec<usize> {
        let mut near = self.part(cell);
        near.extend(self.system.total);
        near.sort_unstable();
        if self.proves(&near, cell, value) {
            return near;
        }
        (0..self.clues.len()).filter(|c| !self.clues[*c].cells.is_empty()).collect()
    }

    /// A proof with at most so many clues, smallest first; past the limits as [`System::proof`].
    fn short_proof(&self, cell: u32, value: bool, among: &[usize], limit: usize) -> Option<Proof> {
        let mut tries = 0;
        for size in 1..=SMALL.min(limit) {
            if let Some(mut found) = self.proofs_of(cell, value, among, size, &mut tries, true) {
                if !found.is_empty() {
                    return Some(Proof { clues: found.remove(0), smallest: true });
                }
            } else {
                break;
            }
        }
        if limit <= SMALL || !self.proves(among, cell, value) {
            return None;
        }
        self.proof(cell, value, among)
    }
}

impl System {
    /// The steps, easiest first, in which a person can find everything that is certain. Each may use what the
    /// steps before found.
    #[must_use]
    pub fn steps(&self, found: &Inferred) -> Vec<Deduction> {
        let mut now = self.clone();
        let certain = |c: u32| found.certain(c);
        let mut open: Vec<u32> = (0..self.weights.len() as u32)
            .filter(|&c| self.fixed[c as usize].is_none() && certain(c).is_some())
            .collect();
        let mut out: Vec<Deduction> = vec![];
        while !open.is_empty() {
            let mut best: Option<(Kind, usize)> = None;
            let mut steps: Vec<Deduction> = vec![];
            let prover = now.prover();
            for &c in &open {
                let value = certain(c).unwrap_or(false);
                let local = prover.part(c);
                // Without the total where that is possible.
                let limit = best.map_or(usize::MAX, |b| b.1);
                let proof = prover.short_proof(c, value, &local, limit).or_else(|| {
                    if best.is_some_and(|b| b.0 < Kind::Total) {
                        None
                    } else {
                        prover.proof(c, value, &prover.clues_for(c, value))
                    }
                });
                let Some(proof) = proof else { continue };
                let kind = match proof.clues.len() {
                    _ if self.total.is_some_and(|t| proof.clues.contains(&t)) => Kind::Total,
                    0 | 1 => Kind::OneClue,
                    2 => Kind::TwoClues,
                    _ => Kind::Several,
                };
                let key = (kind, proof.clues.len());
                if best.is_none_or(|b| key < b) {
                    best = Some(key);
                    steps.clear();
                }
                if best == Some(key) {
                    match steps.iter_mut().find(|s| s.clues == proof.clues) {
                        Some(s) => s.cells.push((c, value)),
                        None => steps.push(Deduction { kind, clues: proof.clues, cells: vec![(c, value)] }),
                    }
                }
            }
            if steps.is_empty() {
                break;
            }
            for s in &steps {
                for &(c, v) in &s.cells {
                    now.fixed[c as usize] = Some(v);
                }
            }
            open.retain(|&c| now.fixed[c as usize].is_none());
            out.extend(steps);
        }
        out
    }
}
