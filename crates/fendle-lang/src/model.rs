//! A bound model as the analyses see it: [`fendle_core::Model`] over the intermediate form.

use fendle_core as core;
use fendle_core::{Expansion, Fault, Layout, MoveId, Place, Refusal, Start, Status, Worker};

use crate::bind::Bound;
use crate::exec::{Break, Halt, Machine};
use crate::hir::{EndKind, code};
use crate::ir::Code;
use crate::keeps::{self, Kept};
use crate::lower::{TooLarge, lower};
use crate::reference::RunFault;

/// A bound model and its code.
#[derive(Clone, Debug)]
pub struct Game {
    /// The bound model.
    pub bound: Bound,
    /// Its code.
    pub code: Code,
    /// What is known of each `keeps` of the model, in its order.
    pub kept: Vec<Kept>,
}

impl Game {
    /// Makes the code of a bound model.
    ///
    /// # Errors
    ///
    /// [`TooLarge`] when a limit is passed.
    pub fn new(bound: Bound) -> Result<Game, TooLarge> {
        let code = lower(&bound)?;
        let kept = keeps::from_rules(&bound);
        Ok(Game { bound, code, kept })
    }

    /// The same game begun at another position.
    #[must_use]
    pub fn at(&self, position: Vec<i32>) -> Game {
        Game { bound: self.bound.at(position), code: self.code.clone(), kept: self.kept.clone() }
    }

    /// Packs a state.
    ///
    /// # Panics
    ///
    /// When a rearranged grid is none: positions are checked where they are read.
    #[must_use]
    pub fn pack(&self, state: &[i32]) -> Vec<u64> {
        let mut out = vec![0; self.bound.codec.layout().words()];
        self.bound.codec.pack(state, &mut out).expect("positions are checked where they are read");
        out
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

    fn status_of(&self, given: i64) -> Status {
        if given == 0 {
            return Status::Running;
        }
        let number = (given - 1) as u16;
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
        Ok(vec![Start { state: self.pack(&self.bound.position), weight: 1 }])
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
        true
    }
    fn reason(&self, number: u16) -> String {
        self.bound.model.endings[number as usize].why.clone().unwrap_or_default()
    }
    fn fault_text(&self, fault: &Fault) -> String {
        self.run_fault(fault).to_string()
    }
    fn worker(&self) -> Box<dyn Worker + '_> {
        let words = self.bound.codec.layout().words();
        Box::new(Runner {
            game: self,
            machine: Machine::new(&self.bound, &self.code),
            source: vec![0; words],
            words: vec![0; words],
            watched: vec![],
        })
    }
}

struct Runner<'g> {
    game: &'g Game,
    machine: Machine<'g>,
    /// The state that moves are tried on, packed, as running.
    source: Vec<u64>,
    words: Vec<u64>,
    watched: Vec<i64>,
}

fn broken(b: Break, during: Option<MoveId>) -> Fault {
    Fault { site: b.site.0, value: b.value, during }
}

impl Runner<'_> {
    /// Computes the quantities that are checked along the way.
    fn quantities(&mut self) -> Option<Fault> {
        self.watched.clear();
        for (kept, &(program, _, _)) in self.game.kept.iter().zip(&self.game.code.keeps) {
            if *kept == Kept::Checked {
                match self.machine.ask(program) {
                    Ok(v) => self.watched.push(v),
                    Err(b) => return Some(broken(b, None)),
                }
            }
        }
        None
    }

    fn changed_quantity(&mut self, of: MoveId) -> Option<Fault> {
        let mut i = 0;
        for (kept, &(_, program, site)) in self.game.kept.iter().zip(&self.game.code.keeps) {
            if *kept == Kept::Checked && i < self.watched.len() {
                match self.machine.ask_as_is(program) {
                    Ok(v) if v == self.watched[i] => {}
                    Ok(v) => return Some(Fault { site: site.0, value: v, during: Some(of) }),
                    Err(b) => return Some(broken(b, Some(of))),
                }
                i += 1;
            }
        }
        None
    }

    /// The status of the loaded state.
    fn loaded_status(&mut self) -> Result<Status, Fault> {
        let code = &self.game.code;
        if !code.law_sites.is_empty() {
            let law = self.machine.ask(code.laws).map_err(|b| broken(b, None))?;
            if law != 0 {
                let site = code.law_sites[law as usize - 1];
                return Err(Fault { site: site.0, value: 0, during: None });
            }
        }
        let ended = self.machine.ended();
        if ended != 0 {
            return Ok(self.game.status_of(ended.into()));
        }
        let given = self.machine.ask(code.status).map_err(|b| broken(b, None))?;
        Ok(self.game.status_of(given))
    }
}

impl Worker for Runner<'_> {
    fn status(&mut self, state: &[u64]) -> Result<Status, Fault> {
        self.machine.load(state);
        self.loaded_status()
    }

    fn expand(&mut self, states: &[u64], past_goals: bool, out: &mut Expansion) {
        for state in states.chunks_exact(self.words.len()) {
            self.machine.load(state);
            let status = match self.loaded_status() {
                Ok(status) => status,
                Err(fault) => {
                    out.end_state(Status::Running, Some(fault));
                    continue;
                }
            };
            if status != Status::Running && !(past_goals && status == Status::Goal) {
                out.end_state(status, None);
                continue;
            }
            self.source.copy_from_slice(state);
            if self.machine.ended() != 0 {
                self.machine.forget_ended();
                self.machine.pack_loaded(&mut self.source);
            }
            let mut fault = self.quantities();
            for number in 0..self.game.code.moves.len() {
                let of = MoveId(number as u32);
                let made = match self.machine.try_move(number) {
                    Ok(Halt::Done) => {
                        self.words.copy_from_slice(&self.source);
                        self.machine.pack(&mut self.words).map(|()| true)
                    }
                    Ok(_) => Ok(false),
                    Err(b) => Err(b),
                };
                match made {
                    Ok(true) => {
                        fault = fault.or_else(|| self.changed_quantity(of));
                        if self.machine.score == 0 {
                            out.outcome(&self.words);
                        } else {
                            let odds = core::Odds { weight: 1, score: self.machine.score };
                            out.outcome_with(&self.words, odds);
                        }
                        out.end_move(of);
                    }
                    Ok(false) => {}
                    Err(b) => fault = fault.or(Some(broken(b, Some(of)))),
                }
            }
            out.end_state(status, fault);
        }
    }

    fn refusals(&mut self, state: &[u64]) -> Result<Vec<Refusal>, Fault> {
        self.machine.load(state);
        let mut out = vec![];
        for number in 0..self.game.code.moves.len() {
            let of = MoveId(number as u32);
            if let Halt::Refused(site) = self.machine.try_move(number).map_err(|b| broken(b, Some(of)))? {
                let at = self
                    .machine
                    .places
                    .iter()
                    .map(|&p| {
                        let (row, col) = code::row_col(p);
                        Place { row: row as i32, col: col as i32 }
                    })
                    .collect();
                let why = self.game.bound.model.refuses[site as usize].why.clone();
                out.push(Refusal { of, why, at, site });
            }
        }
        Ok(out)
    }
}
