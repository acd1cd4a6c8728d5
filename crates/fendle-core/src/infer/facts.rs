//! What each clue alone says, again and again until nothing new is said; kept from one look to the next.

use num_bigint::BigUint;
use num_traits::One;

use super::{Clue, NoAnswer, System};

/// What is certain of the cells so far, and what each clue still wants of the others.
#[derive(Clone, Default)]
pub(super) struct Facts {
    /// What was read: the weights, what the system fixed, and the clues.
    pub(super) weights: Vec<(u64, u64)>,
    pub(super) fixed: Vec<Option<bool>>,
    pub(super) clues: Vec<Clue>,
    pub(super) total: Option<usize>,
    /// What is certain of each cell.
    pub(super) value: Vec<Option<bool>>,
    /// For each cell the clues that count it, and how often.
    pub(super) of: Vec<Vec<(u32, i32)>>,
    /// For each clue the range that its open cells have to fill.
    pub(super) want: Vec<(i64, i64)>,
    /// For each clue the least and the greatest sum that its open cells can give.
    pub(super) can: Vec<(i64, i64)>,
    /// For each clue the most that one cell of it adds or takes away.
    step: Vec<i64>,
    /// Clues to be looked at again.
    queue: Vec<u32>,
    queued: Vec<bool>,
}

impl Facts {
    /// Takes in a system. Where it goes on from the one before (more clues, more that is fixed), what was found is kept.
    ///
    /// # Errors
    ///
    /// [`NoAnswer::Contradiction`]; the next system is taken in from nothing.
    pub(super) fn read(&mut self, system: &System) -> Result<(), NoAnswer> {
        if !self.goes_on(system) {
            self.begin(system);
        }
        for c in 0..system.fixed.len() {
            if let (None, Some(v)) = (self.fixed[c], system.fixed[c]) {
                self.fixed[c] = Some(v);
                self.learn(c as u32, v)?;
            }
        }
        for clue in &system.clues[self.clues.len()..] {
            self.add(clue);
        }
        self.follow_all()
    }

    fn goes_on(&self, system: &System) -> bool {
        let kept = |(old, new): (&Option<bool>, &Option<bool>)| old.is_none() || old == new;
        self.weights == system.weights
            && self.total == system.total
            && self.fixed.iter().zip(&system.fixed).all(kept)
            && system.clues.starts_with(&self.clues)
    }

    fn begin(&mut self, system: &System) {
        let cells = system.weights.len();
        *self = Facts {
            weights: system.weights.clone(),
            fixed: vec![None; cells],
            total: system.total,
            value: vec![None; cells],
            of: vec![vec![]; cells],
            ..Facts::default()
        };
    }

    fn add(&mut self, clue: &Clue) {
        let at = self.clues.len() as u32;
        let (mut want, mut can, mut step) = ((clue.lo, clue.hi), (0, 0), 0);
        for &(c, k) in &clue.cells {
            self.of[c as usize].push((at, k));
            let k = i64::from(k);
            match self.value[c as usize] {
                Some(true) => want = (want.0 - k, want.1 - k),
                Some(false) => {}
                None => {
                    can = (can.0 + k.min(0), can.1 + k.max(0));
                    step = step.max(k.abs());
                }
            }
        }
        self.clues.push(clue.clone());
        self.want.push(want);
        self.can.push(can);
        self.step.push(step);
        self.queue.push(at);
        self.queued.push(true);
    }

    /// A cell is certain from now on. Follow with [`Facts::follow_all`].
    pub(super) fn learn(&mut self, cell: u32, value: bool) -> Result<(), NoAnswer> {
        match self.value[cell as usize] {
            Some(v) if v == value => return Ok(()),
            Some(_) => return Err(self.contradiction()),
            None => self.value[cell as usize] = Some(value),
        }
        for &(clue, k) in &self.of[cell as usize] {
            let (i, k) = (clue as usize, i64::from(k));
            self.can[i] = (self.can[i].0 - k.min(0), self.can[i].1 - k.max(0));
            if value {
                self.want[i] = (self.want[i].0 - k, self.want[i].1 - k);
            }
            if !self.queued[i] {
                self.queued[i] = true;
                self.queue.push(clue);
            }
        }
        Ok(())
    }

    /// Follows what each clue alone says, until nothing new is said.
    pub(super) fn follow_all(&mut self) -> Result<(), NoAnswer> {
        while let Some(clue) = self.queue.pop() {
            let i = clue as usize;
            self.queued[i] = false;
            // How much more than the least may be given, and how much less than the greatest.
            let slack = |f: &Facts| (f.want[i].1 - f.can[i].0, f.can[i].1 - f.want[i].0);
            let (over, under) = slack(self);
            if over < 0 || under < 0 {
                return Err(self.contradiction());
            }
            if over >= self.step[i] && under >= self.step[i] {
                continue;
            }
            for at in 0..self.clues[i].cells.len() {
                let (c, k) = self.clues[i].cells[at];
                if self.value[c as usize].is_some() {
                    continue;
                }
                let (over, under) = slack(self);
                let size = i64::from(k).abs();
                // What raises the sum costs what may be given more; what does not costs what may be given less.
                let (raises, keeps) = (size <= over, size <= under);
                let (filled, empty) = if k > 0 { (raises, keeps) } else { (keeps, raises) };
                match (filled, empty) {
                    (true, true) => {}
                    (false, false) => return Err(self.contradiction()),
                    (filled, _) => self.learn(c, filled)?,
                }
            }
        }
        Ok(())
    }

    fn contradiction(&mut self) -> NoAnswer {
        *self = Facts::default();
        NoAnswer::Contradiction
    }

    /// Whether a clue still says anything of its open cells.
    pub(super) fn is_live(&self, clue: usize) -> bool {
        let (want, can) = (self.want[clue], self.can[clue]);
        want.0 > can.0 || want.1 < can.1
    }

    /// The weight of what was found beyond what the system fixed.
    pub(super) fn weight(&self) -> BigUint {
        let mut out = BigUint::one();
        for (c, v) in self.value.iter().enumerate() {
            let (Some(v), None) = (v, self.fixed[c]) else { continue };
            let w = if *v { self.weights[c].0 } else { self.weights[c].1 };
            if w != 1 {
                out *= w;
            }
        }
        out
    }
}
