//! A level that is played by hand: moves are made, refused with reasons, taken back; a play can be recorded and read again.

use fendle_core::Model as _;
use fendle_lang::Bound;
use fendle_lang::play::{Played, Session, Tried, Turn, merged, place_name, step, step_drawn};
use fendle_lang::run::setup::Dice;
use fendle_lang::run::{RunFault, TraceEvent};
use fendle_lang::state::ending_text;
use serde::{Deserialize, Serialize};

use crate::load::Loaded;
use crate::position::Position;
use crate::routes::call_text;

/// Outcomes of a move above which it is drawn by the dice and not chosen.
pub const OUTCOMES_MAX: usize = 200;

/// How a move that was tried ended.
#[derive(Clone, Debug)]
pub enum Try {
    /// It was made: what it is called with its draws, the phases it passed through, its notes.
    Made {
        /// The move with what was drawn.
        called: String,
        /// Phases, each with the state then.
        phases: Vec<(String, Vec<i32>)>,
        /// Notes of the model.
        notes: Vec<String>,
        /// Score gained.
        score: i64,
    },
    /// It was refused: why, and the cells that refuse.
    Refused(String, Vec<(usize, usize)>),
    /// It is not offered here.
    NotOffered,
    /// The game has ended before.
    Ended(String),
}

/// One line of a recorded play: the first one says what is played, each other one is a move.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Line {
    /// What is played.
    Head {
        /// The version of this form: 1.
        fendle_play: u32,
        /// The level file.
        file: String,
        /// The level.
        level: String,
        /// Where play began, as `--at` takes it.
        start: String,
    },
    /// A move that was made.
    Move {
        /// The move with what was drawn.
        #[serde(rename = "move")]
        called: String,
        /// Where it led to.
        position: String,
    },
}

/// A play by hand.
pub struct Playing<'l> {
    level: &'l Loaded,
    /// How positions are shown.
    shown: Bound,
    session: Session<'l>,
    dice: Dice,
    bookmark: Option<usize>,
    /// Moves that were refused.
    pub refused: u32,
}

impl<'l> Playing<'l> {
    /// Begins where the level begins. Draws go by this seed.
    #[must_use]
    pub fn new(level: &'l Loaded, seed: u64) -> Playing<'l> {
        let b = &level.game.bound;
        let shown = if b.model.hides() { level.as_player() } else { b.clone() };
        let session = Session::new(b, &level.moves);
        Playing { level, shown, session, dice: Dice::new(seed), bookmark: None, refused: 0 }
    }

    /// The level that is played.
    #[must_use]
    pub fn level(&self) -> &'l Loaded {
        self.level
    }

    /// Where play stands.
    #[must_use]
    pub fn state(&self) -> &[i32] {
        self.session.state()
    }

    /// A state as it is shown to whoever plays.
    #[must_use]
    pub fn position(&self, state: &[i32]) -> Position {
        Position::new(&self.shown, state)
    }

    /// What is shown of the bound model.
    #[must_use]
    pub fn shown(&self) -> &Bound {
        &self.shown
    }

    /// The moves made so far, with their draws.
    #[must_use]
    pub fn made(&self) -> Vec<String> {
        let name = |(n, p): &(usize, Played)| call_text(self.level.moves.name(*n), p);
        self.session.made().iter().map(name).collect()
    }

    /// How many moves were made.
    #[must_use]
    pub fn len(&self) -> usize {
        self.session.made().len()
    }

    /// Whether no move was made yet.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The states from the start to where play stands.
    #[must_use]
    pub fn states(&self) -> Vec<Vec<i32>> {
        let start = std::iter::once(self.level.game.bound.position.clone());
        start.chain(self.session.made().iter().map(|(_, p)| p.made.state.clone())).collect()
    }

    /// All score gained.
    #[must_use]
    pub fn score(&self) -> i64 {
        self.session.made().iter().map(|(_, p)| p.made.score).fold(0, i64::saturating_add)
    }

    /// The ending that holds where play stands, and whether it is won.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub fn ended(&self) -> Result<Option<(String, bool)>, RunFault> {
        let endings = &self.level.game.bound.model.endings;
        let ended = self.session.ended()?.and_then(|e| endings.get(e));
        Ok(ended.map(|e| (ending_text(e), e.kind == fendle_lang::model::EndKind::Goal)))
    }

    /// The moves that are allowed where play stands, by number, in move order.
    #[must_use]
    pub fn allowed(&self) -> Vec<usize> {
        // Past the end nothing is.
        if !matches!(self.session.ended(), Ok(None)) {
            return vec![];
        }
        let game = &self.level.game;
        let plain = game.bound.canon.is_none();
        if let (true, Ok(list)) = (plain, game.worker().allowed(&game.pack(self.state()))) {
            return list.into_iter().map(|m| m.0 as usize).collect();
        }
        (0..self.level.moves.list.len()).filter(|n| matches!(self.try_only(*n), Ok(Tried::Made(_)))).collect()
    }

    fn try_only(&self, number: usize) -> Result<Tried, RunFault> {
        step(&self.level.game.bound, &self.level.moves, self.state(), number, false)
    }

    /// The outcomes of a move where play stands, by their draws, with their chances; empty where it is not allowed, where nothing is drawn, and
    /// where there are too many to be chosen from.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub fn outcomes(&self, number: usize) -> Result<Vec<(String, String)>, RunFault> {
        let Tried::Made(list) = self.try_only(number)? else { return Ok(vec![]) };
        let list = merged(list);
        if list.len() < 2 || list.len() > OUTCOMES_MAX {
            return Ok(vec![]);
        }
        Ok(list.iter().map(|p| (p.draws_text(), p.made.chance.to_string())).collect())
    }

    /// Tries a move: the outcome with these draws, else one by the dice.
    ///
    /// # Errors
    ///
    /// A model fault; play then stands where it stood.
    pub fn make(&mut self, number: usize, outcome: Option<usize>) -> Result<Try, RunFault> {
        let (b, moves) = (&self.level.game.bound, &self.level.moves);
        let tried = match outcome {
            Some(n) => match self.try_only(number)? {
                Tried::Made(list) => Tried::Made(merged(list).into_iter().skip(n).take(1).collect()),
                other => other,
            },
            None => step_drawn(b, moves, self.session.state(), number, false, &mut self.dice)?,
        };
        Ok(match self.session.take(number, tried) {
            Turn::Made(played) => {
                let (mut phases, mut notes) = (vec![], vec![]);
                for event in &played.made.events {
                    match event {
                        TraceEvent::Phase { name, state } => phases.push((name.clone(), state.clone())),
                        TraceEvent::Note { text, at } => {
                            let at = at.map(|p| format!(" ({})", place_name(b, p))).unwrap_or_default();
                            notes.push(format!("{text}{at}"));
                        }
                        TraceEvent::Draw { .. } => {}
                    }
                }
                let called = call_text(moves.name(number), &played);
                Try::Made { called, phases, notes, score: played.made.score }
            }
            Turn::NotMade(Tried::Refused { site, at }) => {
                self.refused += 1;
                let cells = (at.iter())
                    .filter_map(|&(r, c)| Some((usize::try_from(r).ok()?, usize::try_from(c).ok()?)))
                    .filter(|(r, c)| *r < b.rows && *c < b.cols);
                Try::Refused(b.model.refuses[site].why.clone(), cells.collect())
            }
            Turn::NotMade(Tried::Ended(e)) => {
                Try::Ended(b.model.endings.get(e).map_or("set aside".into(), ending_text))
            }
            Turn::NotMade(_) => Try::NotOffered,
        })
    }

    /// Takes the last move back; false at the start.
    pub fn undo(&mut self) -> bool {
        self.session.undo()
    }

    /// Makes the move that was taken back last once more; false where there is none.
    pub fn redo(&mut self) -> bool {
        self.session.redo()
    }

    /// Takes all moves back; they can be made again.
    pub fn restart(&mut self) {
        while self.session.undo() {}
    }

    /// Remembers where play stands.
    pub fn mark(&mut self) {
        self.bookmark = Some(self.len());
    }

    /// Goes to the bookmark along the moves that were made or taken back; false where there is none any more.
    pub fn to_mark(&mut self) -> bool {
        let Some(at) = self.bookmark else { return false };
        while self.len() > at && self.session.undo() {}
        while self.len() < at && self.session.redo() {}
        self.len() == at
    }

    /// The same level, beginning where play stands.
    #[must_use]
    pub fn here(&self) -> Loaded {
        self.level.at(self.state())
    }

    /// The play as a record: lines of JSON.
    #[must_use]
    pub fn record(&self, file: &str) -> String {
        let line = |s: &[i32]| self.level.game.bound.shown_line(s);
        let head = Line::Head {
            fendle_play: 1,
            file: file.into(),
            level: self.level.name.clone(),
            start: line(&self.level.game.bound.position),
        };
        let states = self.states();
        let moves = (self.made().into_iter().zip(&states[1..]))
            .map(|(called, state)| Line::Move { called, position: line(state) });
        let text = |l: Line| serde_json::to_string(&l).expect("text keys") + "\n";
        std::iter::once(head).chain(moves).map(text).collect()
    }
}

/// The moves of a recorded play, as arguments take them.
///
/// # Errors
///
/// Words that name the line that is none.
pub fn recorded_moves(text: &str, name: &str) -> Result<String, String> {
    let mut out = vec![];
    for (i, line) in text.lines().enumerate().filter(|l| !l.1.trim().is_empty()) {
        let read: Line = serde_json::from_str(line)
            .map_err(|e| format!("{name}:{}: this is no line of a recorded play: {e}", i + 1))?;
        match read {
            Line::Head { fendle_play: 1, .. } if i == 0 => {}
            Line::Head { fendle_play, .. } if i == 0 => {
                return Err(format!(
                    "{name}:1: this is version {fendle_play} of recorded plays; version 1 can be read"
                ));
            }
            Line::Head { .. } => return Err(format!("{name}:{}: a second play begins here", i + 1)),
            Line::Move { .. } if i == 0 => {
                return Err(format!("{name}:1: a recorded play begins with a line that says what is played"));
            }
            Line::Move { called, .. } => out.push(called),
        }
    }
    Ok(out.join("; "))
}
