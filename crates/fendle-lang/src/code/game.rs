//! A bound model as the analyses see it: [`fendle_core::Model`] over the intermediate form.

use std::collections::BTreeSet;
use std::sync::Arc;

use fendle_core as core;
use fendle_core::{Aim, Fault, Layout, MoveId, Numbering, Start, Status, Worker};

use crate::code::ir::{Code, Positions};
use crate::code::lower::{lower, with_tells};
use crate::code::native::WhenItPays;
use crate::code::numbered::{Guess, Numbered, WhenAsked};
use crate::code::runner::Runner;
use crate::model::{EndKind, Keeps};
use crate::run::{Eval, RunFault, TooLarge};
use crate::state::Bound;
use crate::state::keys::Described;

/// A bound model and its code.
#[derive(Clone, Debug)]
pub struct Game {
    /// The bound model.
    pub bound: Bound,
    /// Its code, shared by all games that differ in where play begins.
    pub code: Arc<Code>,
    /// For each `keeps` of the model, in its order: whether it is checked on every transition that is taken. Those that are
    /// proved need not be.
    pub checked: Vec<bool>,
    /// Programs that give what the player is told, one for each thing that can be.
    pub tells: Arc<[u32]>,
    /// Where play begins, with weights; the bound model's position where there is none. Neither may change once the game was
    /// explored: a clone may.
    pub starts: Vec<(Vec<i32>, u64)>,
    /// Native code, where that is wanted.
    pub native: WhenItPays,
    /// Finds numbers for the states, where that is wanted.
    pub numbering: Option<FindNumbers>,
    numbered: WhenAsked,
    /// How moves are written down that stop before their first draw.
    positions: Arc<Option<Positions>>,
}

/// Finds numbers for the states of a game.
#[derive(Clone, Copy, Debug)]
pub struct FindNumbers {
    /// For all states that can be, by following no more ways than this, until it is told to stop; or, where that is allowed, for all
    /// that are likely to be met.
    pub likely: fn(&Game, usize, Guess, &mut dyn FnMut() -> bool) -> Option<Numbered>,
    /// For states whose values are among those that each place held so far.
    pub seen: fn(&Game, &[BTreeSet<i32>]) -> Option<Numbered>,
}

impl Game {
    /// Makes the code of a bound model.
    ///
    /// # Errors
    ///
    /// [`TooLarge`] when a limit is passed.
    pub fn new(mut bound: Bound) -> Result<Game, TooLarge> {
        if let Some(canon) = &mut bound.canon {
            canon.center(&bound.position);
        }
        let mut code = lower(&bound)?;
        let mut tells = vec![];
        if bound.model.hides() {
            (code, tells) = with_tells(&bound, &code)?;
        }
        let checked = bound.model.keeps.iter().map(|k| is_claimed(&bound, k)).collect();
        let positions = Positions::new(&code, bound.codec.layout());
        Ok(Game {
            positions: positions.into(),
            bound,
            code: code.into(),
            checked,
            tells: tells.into(),
            starts: vec![],
            native: WhenItPays::default(),
            numbering: None,
            numbered: WhenAsked::default(),
        })
    }

    /// The same game begun at another position.
    #[must_use]
    pub fn at(&self, position: Vec<i32>) -> Game {
        let mut bound = self.bound.at(position);
        if let Some(canon) = &mut bound.canon {
            canon.center(&bound.position);
        }
        Game {
            bound,
            code: Arc::clone(&self.code),
            checked: self.checked.clone(),
            tells: Arc::clone(&self.tells),
            starts: vec![],
            native: self.native.clone(),
            numbering: self.numbering,
            positions: Arc::clone(&self.positions),
            // Other starts, other numbers.
            numbered: WhenAsked::default(),
        }
    }

    /// Packs a state.
    ///
    /// # Panics
    ///
    /// When a rearranged grid is none: positions are checked where they are read.
    #[must_use]
    pub fn pack(&self, state: &[i32]) -> Vec<u64> {
        let mut out = vec![0; self.bound.codec.layout().words()];
        let settled = self.settled(state);
        self.bound.codec.pack(&settled, &mut out).expect("positions are checked where they are read");
        out
    }

    /// The state that stands for all that are like this one.
    #[must_use]
    pub fn settled<'s>(&self, state: &'s [i32]) -> std::borrow::Cow<'s, [i32]> {
        match &self.bound.canon {
            None => state.into(),
            Some(canon) => {
                let mut out = state.to_vec();
                canon.settle(&mut out);
                out.into()
            }
        }
    }

    /// The same game with every state standing for itself.
    #[must_use]
    pub fn apart(&self) -> Game {
        let bound = Bound { canon: None, ..self.bound.clone() };
        Game { bound, numbered: WhenAsked::default(), ..self.clone() }
    }

    /// The numbers of the states, if they were asked for and found.
    #[must_use]
    pub fn numbers(&self) -> Option<&Arc<Numbered>> {
        self.numbered.made()
    }

    /// How moves are written down that stop before their first draw. `None` where no move draws, and where something is
    /// checked on every whole transition.
    #[must_use]
    pub fn positions(&self) -> Option<&Positions> {
        self.positions.as_ref().as_ref().filter(|_| !self.checked.contains(&true))
    }

    /// Unpacks a state.
    #[must_use]
    pub fn unpack(&self, words: &[u64]) -> Vec<i32> {
        let mut out = vec![0; self.bound.start.len()];
        self.bound.codec.unpack(words, &mut out);
        out
    }

    /// A fault with its place in the model.
    #[must_use]
    pub fn run_fault(&self, fault: &Fault) -> RunFault {
        let site = self.code.sites[fault.site as usize];
        RunFault { kind: site.kind, span: site.span, value: fault.value }
    }

    pub(super) fn status_of(&self, given: i64) -> Status {
        if given == 0 {
            return Status::Running;
        }
        let number = (given - 1) as u16;
        if usize::from(number) >= self.bound.model.endings.len() {
            return Status::Cut;
        }
        match self.bound.model.endings[number as usize].kind {
            EndKind::Goal => Status::Goal,
            EndKind::Lost => Status::Lost(number),
            EndKind::Over => Status::Over(number),
        }
    }
}

impl core::Model for Game {
    fn layout(&self) -> Layout {
        self.bound.codec.layout()
    }
    fn starts(&self) -> Result<Vec<Start>, Fault> {
        if self.starts.is_empty() {
            return Ok(vec![Start { state: self.pack(&self.bound.position), weight: 1 }]);
        }
        let mut out: Vec<Start> = vec![];
        let mut index = std::collections::HashMap::new();
        for (s, weight) in &self.starts {
            let state = self.pack(s);
            let at = *index.entry(state.clone()).or_insert(out.len());
            match out.get_mut(at) {
                Some(start) => start.weight += weight,
                None => out.push(Start { state, weight: *weight }),
            }
        }
        Ok(out)
    }
    fn moves_len(&self) -> usize {
        self.code.moves.len()
    }
    fn move_name(&self, of: MoveId) -> String {
        let entry = &self.code.moves[of.0 as usize];
        let def = &self.bound.model.moves[entry.of as usize];
        let mut out = def.name.clone();
        for (d, &v) in def.params.iter().zip(&entry.params) {
            out.push(' ');
            out.push_str(&self.bound.scalar_text(d.scalar(), v, false));
        }
        out
    }
    fn has_goal(&self) -> bool {
        self.bound.model.has_goal()
    }
    fn is_sure(&self) -> bool {
        self.code.points.is_empty()
    }
    fn aim(&self) -> Option<Aim> {
        let aim = self.bound.model.aim.as_ref()?;
        Some(match (aim.most, &aim.what) {
            (true, None) => Aim::MostScore,
            (false, None) => Aim::LeastScore,
            (true, Some(_)) => Aim::Most,
            (false, Some(_)) => Aim::Least,
        })
    }
    fn is_waiting(&self, of: MoveId) -> bool {
        let entry = &self.code.moves[of.0 as usize];
        self.bound.model.moves[entry.of as usize].waiting
    }
    fn reason(&self, number: u16) -> String {
        self.bound.model.endings[number as usize].why.clone().unwrap_or_default()
    }
    fn fault_text(&self, fault: &Fault) -> String {
        self.run_fault(fault).to_string()
    }
    fn positions(&self) -> Option<Layout> {
        Some(self.positions()?.layout())
    }
    fn worker(&self) -> Box<dyn Worker + '_> {
        Box::new(Runner::new(self))
    }
    fn numbering(&self, effort: usize, stop: &mut dyn FnMut() -> bool) -> Option<Arc<dyn Numbering>> {
        let find = self.numbering?.likely;
        let found = self.numbered.get(|guess| find(self, effort, guess, stop))?;
        Some(Arc::clone(found) as Arc<dyn Numbering>)
    }
    fn guess_failed(&self) {
        self.numbered.guess_failed();
    }
    fn narrowed(&self, states: &mut dyn Iterator<Item = Vec<u64>>) -> Option<Box<dyn core::Model + '_>> {
        let find = self.numbering?.seen;
        let mut seen = vec![BTreeSet::new(); self.bound.start.len()];
        // Those of the small values that were seen, as bits: most are small, and met again and again.
        let mut small = vec![0u64; seen.len()];
        let mut values = vec![0; seen.len()];
        let mut note = |values: &[i32]| {
            for ((seen, small), value) in seen.iter_mut().zip(&mut small).zip(values) {
                match 1u64.checked_shl(*value as u32) {
                    Some(bit) => *small |= bit,
                    None => {
                        seen.insert(*value);
                    }
                }
            }
        };
        for state in states {
            self.bound.codec.unpack(&state, &mut values);
            note(&values);
        }
        for start in self.starts().ok()? {
            self.bound.codec.unpack(&start.state, &mut values);
            note(&values);
        }
        if let Some(before) = self.numbers().filter(|n| n.keys.is_narrow()) {
            note(before.keys.base());
            for (described, _, slots, _) in before.keys.describe() {
                match described {
                    Described::Single { slot, values } => seen[slot].extend(values),
                    // Values that only change places.
                    _ => {
                        for slot in &slots {
                            seen[*slot].extend(slots.iter().map(|s| before.keys.base()[*s]));
                        }
                    }
                }
            }
        }
        for (seen, small) in seen.iter_mut().zip(small) {
            seen.extend((0..64).filter(|value| small >> value & 1 == 1));
        }
        let numbered = WhenAsked::holding(find(self, &seen)?);
        Some(Box::new(Game { numbered, ..self.clone() }))
    }
    fn packed_is_fast(&self) -> bool {
        Runner::new(self).expands_packed()
    }
    fn worker_by_number(&self) -> Box<dyn Worker + '_> {
        match self.numbers() {
            Some(numbered) => Box::new(Runner::by_number(self, numbered)),
            None => self.worker(),
        }
    }
}

/// Whether a declared quantity is claimed for a level: its `when` holds.
#[must_use]
pub fn is_claimed(b: &Bound, k: &Keeps) -> bool {
    k.when.as_ref().is_none_or(|w| Eval::new(b).value_in(w, &b.position).is_ok_and(|v| v != 0))
}
