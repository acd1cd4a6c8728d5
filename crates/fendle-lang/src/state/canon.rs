//! One form for all states that differ only in the names of things that are alike.

/// Where like things stand in the values of a state.
#[derive(Clone, Debug)]
pub(crate) struct Part {
    pub(crate) base: usize,
    pub(crate) len: usize,
    /// Values that one list takes, its length in front; 0 where there are no lists.
    pub(crate) list: usize,
    pub(crate) bag: bool,
    /// Where it is keyed by like things: values that one key takes, and the least key.
    pub(crate) keyed: Option<(usize, i64)>,
    /// Whether its values are like things.
    pub(crate) carries: bool,
}

/// One set of like things of a bound model.
#[derive(Clone, Debug)]
pub(crate) struct Class {
    /// Their numbers, ascending.
    pub(crate) members: Vec<i64>,
    pub(crate) parts: Vec<Part>,
}

/// Brings states into one form for all that differ only in the names of like things.
#[derive(Clone, Debug)]
pub struct Canon {
    pub(crate) classes: Vec<Class>,
    /// All joint renamings, where nothing simpler is exact.
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
    pub(crate) fn each_value(part: &Part, state: &[i32], mut see: impl FnMut(usize)) {
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
                    if let Some(k) = self.index(state[i].into()) {
                        state[i] = image[k] as i32;
                    }
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

    /// The renaming that makes a state least, for a class that is only keyed or only carried.
    pub(crate) fn least(&self, state: &[i32]) -> Vec<i64> {
        let mut image = vec![i64::MIN; self.members.len()];
        if self.parts.iter().all(|p| p.carries) {
            // The first that is met gets the least name.
            let mut next = 0;
            for part in &self.parts {
                Class::each_value(part, state, |i| {
                    if let Some(k) = self.index(state[i].into())
                        && image[k] == i64::MIN
                    {
                        image[k] = self.members[next];
                        next += 1;
                    }
                });
            }
            for x in image.iter_mut().filter(|x| **x == i64::MIN) {
                *x = self.members[next];
                next += 1;
            }
            return image;
        }
        let mut order: Vec<usize> = (0..self.members.len()).collect();
        let block = |p: &Part, k: usize| {
            let (each, least) = p.keyed.unwrap_or((0, 0));
            let at = p.base + (self.members[k] - least) as usize * each;
            &state[at..at + each]
        };
        order.sort_by(|&x, &y| {
            let by = |p: &Part| block(p, x).cmp(block(p, y));
            self.parts.iter().map(by).find(|o| o.is_ne()).unwrap_or(std::cmp::Ordering::Equal)
        });
        for (rank, k) in order.into_iter().enumerate() {
            image[k] = self.members[rank];
        }
        image
    }
}

impl Canon {
    /// Whether each class can be brought to its least form by itself.
    pub(crate) fn is_simple(&self) -> bool {
        let whole = |c: &Class| {
            let carried = c.parts.iter().all(|p| p.carries && p.keyed.is_none() && !p.bag);
            let keyed = c.parts.iter().all(|p| !p.carries && p.keyed.is_some());
            carried || keyed
        };
        let mut seen: Vec<usize> = vec![];
        let mut apart = true;
        for p in self.classes.iter().flat_map(|c| &c.parts) {
            apart &= !seen.contains(&p.base);
            seen.push(p.base);
        }
        apart && self.classes.iter().all(whole)
    }

    pub(crate) fn rename(&self, by: &Renaming, state: &mut [i32], old: &mut Vec<i32>) {
        for (class, image) in self.classes.iter().zip(by) {
            class.rename(image, state, old);
        }
    }

    /// The renaming that makes a state least.
    pub(crate) fn least(&self, state: &[i32]) -> Renaming {
        if self.all.is_empty() {
            return self.classes.iter().map(|c| c.least(state)).collect();
        }
        let mut best: Option<(Vec<i32>, &Renaming)> = None;
        for r in &self.all {
            let mut other = state.to_vec();
            self.rename(r, &mut other, &mut vec![]);
            if best.as_ref().is_none_or(|b| other < b.0) {
                best = Some((other, r));
            }
        }
        best.map_or_else(|| self.back.clone(), |b| b.1.clone())
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
