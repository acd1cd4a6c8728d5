//! One form for all states that differ only in the names of things that are alike.

/// Where like things stand in the values of a state.
#[derive(Clone, Debug)]
pub(crate) struct Carrier {
    pub(crate) base: usize,
    pub(crate) len: usize,
    /// Values that one list takes, its length in front; 0 where there are no lists.
    pub(crate) list: usize,
    pub(crate) bag: bool,
    /// Where it is keyed by like things: values that one key takes, and the least key.
    pub(crate) keyed: Option<(usize, i64)>,
    /// Whether its values are like things, or records that hold some.
    pub(crate) carries: bool,
    /// Where its values are records: least value, stride and count of each of their parts that is a like thing.
    pub(crate) fields: Vec<(i64, i64, i64)>,
}

impl Carrier {
    /// The like things that a value is or holds, in their order.
    fn things(&self, value: i64) -> impl Iterator<Item = i64> + '_ {
        let whole = self.fields.is_empty().then_some(value);
        whole
            .into_iter()
            .chain(self.fields.iter().map(move |(lo, stride, count)| lo + value / stride % count))
    }
}

/// One set of like things of a bound model.
#[derive(Clone, Debug)]
pub(crate) struct Class {
    /// Their numbers, ascending.
    pub(crate) members: Vec<i64>,
    pub(crate) parts: Vec<Carrier>,
}

/// Brings states into one form for all that differ only in the names of like things.
#[derive(Clone, Debug)]
pub struct Canon {
    pub(crate) classes: Vec<Class>,
    /// The classes for which nothing simpler is exact than to try all renamings.
    pub(crate) listed: Vec<usize>,
    /// All joint renamings of these.
    pub(crate) all: Vec<Renaming>,
    /// The inverse of the renaming that makes the start least.
    pub(crate) back: Renaming,
}

/// For each class, and each of its members, the number that it becomes.
pub(crate) type Renaming = Vec<Vec<i64>>;

impl Class {
    pub(crate) fn index(&self, v: i64) -> Option<usize> {
        self.members.iter().position(|m| *m == v)
    }

    /// Where the values of like things are: the entries in use.
    pub(crate) fn each_value(part: &Carrier, state: &[i32], mut see: impl FnMut(usize)) {
        if part.list == 0 {
            (part.base..part.base + part.len).for_each(see);
            return;
        }
        for list in (part.base..part.base + part.len).step_by(part.list) {
            for i in list + 1..=list + state[list] as usize {
                see(i);
            }
        }
    }

    pub(crate) fn rename(&self, image: &[i64], state: &mut [i32], old: &mut Vec<i32>) {
        for part in &self.parts {
            if let Some((each, least)) = part.keyed {
                old.clear();
                old.extend_from_slice(&state[part.base..part.base + part.len]);
                for (from, to) in self.members.iter().zip(image) {
                    let (from, to) = ((from - least) as usize * each, (to - least) as usize * each);
                    // A key that the array does not have stands for nothing.
                    if from + each <= part.len && to + each <= part.len {
                        state[part.base + to..part.base + to + each].copy_from_slice(&old[from..from + each]);
                    }
                }
            }
            if part.carries {
                let mut spots = vec![];
                Class::each_value(part, state, |i| spots.push(i));
                for i in spots {
                    if part.fields.is_empty() {
                        if let Some(k) = self.index(state[i].into()) {
                            state[i] = image[k] as i32;
                        }
                        continue;
                    }
                    let old = i64::from(state[i]);
                    if old == crate::model::NONE {
                        continue;
                    }
                    let mut new = old;
                    for &(lo, stride, count) in &part.fields {
                        let thing = lo + old / stride % count;
                        if let Some(k) = self.index(thing) {
                            new += (image[k] - thing) * stride;
                        }
                    }
                    state[i] = new as i32;
                }
                if part.bag {
                    for list in (part.base..part.base + part.len).step_by(part.list) {
                        let n = state[list] as usize;
                        state[list + 1..=list + n].sort_unstable();
                    }
                }
            }
        }
    }

    /// The renaming that makes a state least, for a class that is not listed: what is met first gets the least name, and what is
    /// met nowhere is put in the order of what its keys have.
    pub(crate) fn least(&self, state: &[i32]) -> Vec<i64> {
        let mut image = vec![i64::MIN; self.members.len()];
        let mut next = 0;
        for part in self.parts.iter().filter(|p| p.carries) {
            Class::each_value(part, state, |i| {
                for thing in part.things(state[i].into()) {
                    if let Some(k) = self.index(thing)
                        && image[k] == i64::MIN
                    {
                        image[k] = self.members[next];
                        next += 1;
                    }
                }
            });
        }
        let mut order: Vec<usize> = (0..self.members.len()).filter(|k| image[*k] == i64::MIN).collect();
        let block = |p: &Carrier, k: usize| {
            let (each, least) = p.keyed.unwrap_or((0, 0));
            let at = p.base + (self.members[k] - least) as usize * each;
            // A key that the array does not have stands for nothing.
            if at + each <= p.base + p.len { &state[at..at + each] } else { &[] }
        };
        order.sort_by(|&x, &y| {
            let by = |p: &Carrier| block(p, x).cmp(block(p, y));
            let keyed = self.parts.iter().filter(|p| p.keyed.is_some());
            keyed.map(by).find(|o| o.is_ne()).unwrap_or(std::cmp::Ordering::Equal)
        });
        for k in order {
            image[k] = self.members[next];
            next += 1;
        }
        image
    }

    /// Whether the names of a class follow from the state without trying: see [`Class::least`]. `others` are all classes.
    fn is_plain(&self, others: &[Class]) -> bool {
        let keyed_by_any = |base: usize| {
            others.iter().flat_map(|c| &c.parts).filter(|p| p.base == base && p.keyed.is_some()).count()
        };
        let carries_any =
            |base: usize| others.iter().flat_map(|c| &c.parts).any(|p| p.base == base && p.carries);
        if self.parts.iter().any(|p| p.carries) {
            // By what is met first: where it is met must not be moved about, and what its keys have must not be renamed.
            return self.parts.iter().all(|p| {
                (!p.carries || !p.bag && keyed_by_any(p.base) == 0)
                    && (p.keyed.is_none() || keyed_by_any(p.base) == 1 && !carries_any(p.base))
            });
        }
        // By sorting: what its keys have is renamed before, by trying, or not at all.
        self.parts.iter().all(|p| keyed_by_any(p.base) == 1)
    }
}

impl Canon {
    /// The classes whose renamings have to be tried.
    pub(crate) fn unplain(classes: &[Class]) -> Vec<usize> {
        (0..classes.len()).filter(|i| !classes[*i].is_plain(classes)).collect()
    }

    pub(crate) fn rename(&self, by: &Renaming, state: &mut [i32], old: &mut Vec<i32>) {
        for (class, image) in self.classes.iter().zip(by) {
            class.rename(image, state, old);
        }
    }

    /// The renaming that makes a state least.
    pub(crate) fn least(&self, state: &[i32]) -> Renaming {
        if self.listed.is_empty() {
            return self.classes.iter().map(|c| c.least(state)).collect();
        }
        let mut best: Option<(Vec<i32>, Renaming)> = None;
        let mut old = vec![];
        for tried in &self.all {
            let mut other = state.to_vec();
            let mut whole: Renaming = vec![vec![]; self.classes.len()];
            for (&c, image) in self.listed.iter().zip(tried) {
                self.classes[c].rename(image, &mut other, &mut old);
                whole[c].clone_from(image);
            }
            for (c, class) in self.classes.iter().enumerate().filter(|(c, _)| !self.listed.contains(c)) {
                whole[c] = class.least(&other);
                class.rename(&whole[c], &mut other, &mut old);
            }
            if best.as_ref().is_none_or(|b| other < b.0) {
                best = Some((other, whole));
            }
        }
        best.map_or_else(|| self.back.clone(), |b| b.1)
    }

    /// Makes this state stand for itself.
    pub fn center(&mut self, state: &[i32]) {
        let least = self.least(state);
        self.back = (self.classes.iter().zip(&least))
            .map(|(c, image)| {
                let at = |m: &i64| image.iter().position(|x| x == m).map_or(*m, |i| c.members[i]);
                c.members.iter().map(at).collect()
            })
            .collect();
    }

    /// Brings a state into the form that stands for all that differ from it only in names.
    pub fn settle(&self, state: &mut [i32]) {
        let least = self.least(state);
        let joined: Renaming = (self.classes.iter().zip(&least).zip(&self.back))
            .map(|((c, image), back)| image.iter().map(|v| c.index(*v).map_or(*v, |i| back[i])).collect())
            .collect();
        self.rename(&joined, state, &mut vec![]);
    }
}
