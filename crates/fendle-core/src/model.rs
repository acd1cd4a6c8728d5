//! The one way in for all analyses: what a puzzle must say of itself.
//!
//! A model is finite. Its states are packed into a fixed number of 64-bit words, and two
//! states are the same state exactly when their words are equal. The *ended* part of a
//! state belongs to it: whatever decides that a game is won, lost or over must be
//! computable from the words alone.
//!
//! Chance is part of the contract: a start has a weight, a move has one or more weighted
//! outcomes. So is hidden information: [`Worker::told`] says what a player is told of a
//! state. A model without either uses weight 1 and tells the whole state.

use std::fmt;
use std::sync::Arc;

use crate::limits::Limit;

/// A move with its parameters filled in: an index below [`Model::moves_len`].
///
/// Move order is the order of these indices.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct MoveId(pub u32);

impl fmt::Display for MoveId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "m{}", self.0)
    }
}

/// How many bits a packed state has, and in how many words it is kept.
///
/// ```text
/// word 0                      word 1
/// [ bit 0 ............ 63 ]   [ 64 ......  bits-1 | 0 0 0 ]
/// ```
///
/// Bits past `bits` are always 0.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Layout {
    /// Bits in use, at least 1.
    pub bits: u32,
}

impl Layout {
    /// A layout of `bits` bits; 0 counts as 1.
    #[must_use]
    pub fn new(bits: u32) -> Layout {
        Layout { bits: bits.max(1) }
    }

    /// Words of 64 bits that hold one state.
    #[must_use]
    pub fn words(self) -> usize {
        self.bits.div_ceil(64) as usize
    }

    /// Bytes that hold one state in a table.
    #[must_use]
    pub fn bytes(self) -> usize {
        self.bits.div_ceil(8) as usize
    }
}

/// A start position and how often it is drawn, relative to the other starts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Start {
    /// The packed state, [`Layout::words`] words.
    pub state: Vec<u64>,
    /// Relative weight, at least 1.
    pub weight: u64,
}

/// What the rules say of a state on their own, before any search.
///
/// The number in `Lost` and `Over` names the reason: [`Model::reason`] tells it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Status {
    /// The game goes on.
    Running,
    /// Won.
    Goal,
    /// Lost, for this reason.
    Lost(u16),
    /// Ended without being won or lost.
    Over(u16),
    /// Stands for branches of chance that were set aside: nothing is known of what lies behind.
    Cut,
}

/// A rule of the model that broke while it was run: not an answer about the puzzle.
///
/// `site` is the model's own number for the place and kind; [`Model::fault_text`] explains it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Fault {
    /// Which place in the model broke, and how: the model's own numbering.
    pub site: u32,
    /// The value that broke it, where there is one.
    pub value: i64,
    /// The move that was tried, or `None` while a status was evaluated.
    pub during: Option<MoveId>,
}

/// A cell, by its row and column from 0, as the model numbers its board.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Place {
    /// Row from the top, from 0; off the board it may be negative.
    pub row: i32,
    /// Column from the left, from 0; off the board it may be negative.
    pub col: i32,
}

/// Why a move is not allowed here, and which cells refuse it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refusal {
    /// The move.
    pub of: MoveId,
    /// The reason in the model's words.
    pub why: String,
    /// The cells that refuse, possibly none, possibly off the board.
    pub at: Vec<Place>,
    /// The model's number of the refusing statement.
    pub site: u32,
}

/// Weight and score of one outcome.
///
/// Several ways that lead to the same state are one outcome; their scores may differ. Score is no
/// part of the state.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Odds {
    /// Relative weight among the outcomes of its move, at least 1.
    pub weight: u64,
    /// The mean score gained, times `weight`: exact.
    pub score: i64,
    /// Least score gained on the ways that lead here.
    pub least: i64,
    /// Greatest score gained on them.
    pub most: i64,
}

impl Odds {
    /// The odds of a move without chance and score.
    pub const SURE: Odds = Odds { weight: 1, score: 0, least: 0, most: 0 };

    /// One outcome of this weight that always gains this score.
    #[must_use]
    pub fn scored(weight: u64, score: i64) -> Odds {
        Odds { weight, score: score.saturating_mul(weight as i64), least: score, most: score }
    }
}

/// What is to be made most or least of, beside or instead of a goal.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Aim {
    /// The greatest sum of scores.
    MostScore,
    /// The least sum of scores.
    LeastScore,
    /// The greatest value of [`Worker::measure`] where play ends.
    Most,
    /// The least value of [`Worker::measure`] where play ends.
    Least,
}

impl Aim {
    /// Whether more is better.
    #[must_use]
    pub fn wants_most(self) -> bool {
        matches!(self, Aim::MostScore | Aim::Most)
    }
    /// Whether it is a sum of scores.
    #[must_use]
    pub fn is_score(self) -> bool {
        matches!(self, Aim::MostScore | Aim::LeastScore)
    }
}

/// One allowed move in an [`Expansion`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Run {
    /// The move.
    pub of: MoveId,
    /// How many outcomes it has, at least 1. With [`Worker::expand_to_draws`] 0 says that it stops before its first draw.
    pub outcomes: u32,
}

/// What was found about one expanded state.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Head {
    /// The state's status.
    pub status: Status,
    /// How many allowed moves follow in [`Expansion::runs`].
    pub runs: u32,
}

/// The allowed moves and outcomes of a batch of states, in flat buffers that the caller owns.
///
/// For each source state in turn there is one [`Head`]; for each head, `runs` entries of
/// [`Run`]; for each run, `outcomes` packed states.
#[derive(Clone, Debug, Default)]
pub struct Expansion {
    /// The outcomes, [`Layout::words`] words each.
    pub outcomes: Vec<u64>,
    /// The allowed moves, in move order within each state.
    pub runs: Vec<Run>,
    /// One entry a source state.
    pub heads: Vec<Head>,
    /// The source states on which the model broke, by their number in `heads`, ascending, each
    /// with its first fault in move order. Their runs hold the moves that did not break.
    pub faults: Vec<(u32, Fault)>,
    /// The source states of which a move could not be written down, by their number in `heads`, ascending, and the limit
    /// that ended it, such as [`Limit::Outcomes`]. Their runs hold the moves before it.
    pub unfinished: Vec<(u32, Limit)>,
    /// Either empty, which means [`Odds::SURE`] throughout, or one entry an outcome.
    pub odds: Vec<Odds>,
    /// Positions before a draw, whole, one for each run that has no outcomes: see [`Worker::expand_to_draws`].
    pub positions: Vec<u64>,
    /// The score gained on the way to each of them.
    pub position_scores: Vec<i64>,
    /// Where states are given by number and the numbering is narrow ([`Model::narrowed`]) or a guess: states that were met and have no
    /// number, packed, at most one for each source state. If there are any, all else that was written is void.
    pub strays: Vec<u64>,
    /// Outcomes that have no word yet, where states are kept as a still and moving bits: which ones, and their packed states.
    pub(crate) unnamed: (Vec<u32>, Vec<u64>),
    outcomes_len: usize,
    open_run: usize,
    open_head: usize,
    /// Nobody asks for [`Expansion::odds`].
    odds_left_out: bool,
}

impl Expansion {
    /// Writes nothing into [`Expansion::odds`] any more, for somebody who asks only where moves lead: with scores or chances these are most of what is
    /// written.
    pub fn leave_out_odds(&mut self) {
        self.odds_left_out = true;
        self.odds.clear();
    }

    /// Whether nobody asks how likely outcomes are, nor for scores.
    #[must_use]
    pub fn leaves_out_odds(&self) -> bool {
        self.odds_left_out
    }

    /// Empties all buffers and keeps their memory.
    pub fn clear(&mut self) {
        self.outcomes.clear();
        self.runs.clear();
        self.heads.clear();
        self.faults.clear();
        self.unfinished.clear();
        self.odds.clear();
        self.positions.clear();
        self.position_scores.clear();
        self.strays.clear();
        self.unnamed.0.clear();
        self.unnamed.1.clear();
        self.outcomes_len = 0;
        self.open_run = 0;
        self.open_head = 0;
    }

    /// Adds an outcome of weight 1 to the move that is being written.
    #[inline]
    pub fn outcome(&mut self, state: &[u64]) {
        self.outcomes.extend_from_slice(state);
        self.outcomes_len += 1;
        if !self.odds.is_empty() {
            self.odds.push(Odds::SURE);
        }
    }

    /// Adds an outcome with weight and score to the move that is being written.
    pub fn outcome_with(&mut self, state: &[u64], odds: Odds) {
        let odds = if self.odds_left_out { Odds::SURE } else { odds };
        if self.odds.is_empty() && odds != Odds::SURE {
            self.odds.resize(self.outcomes_len, Odds::SURE);
            self.odds.push(odds);
        } else if !self.odds.is_empty() {
            self.odds.push(odds);
        }
        self.outcomes.extend_from_slice(state);
        self.outcomes_len += 1;
    }

    /// Ends the move that is being written. Without outcomes it is not listed.
    #[inline]
    pub fn end_move(&mut self, of: MoveId) {
        let outcomes = (self.outcomes_len - self.open_run) as u32;
        self.open_run = self.outcomes_len;
        if outcomes > 0 {
            self.runs.push(Run { of, outcomes });
        }
    }

    /// Adds states all of whose moves have one outcome, of weight 1 and without a score: their heads, the moves of all of them in a row, and what
    /// each move leads to.
    #[inline]
    pub fn sure_states(
        &mut self,
        heads: impl ExactSizeIterator<Item = Head>,
        moves: impl ExactSizeIterator<Item = MoveId>,
        outcomes: &[u64],
    ) {
        debug_assert!(
            self.outcomes_len == self.open_run && self.runs.len() == self.open_head,
            "a state is being written"
        );
        self.outcomes_len += moves.len();
        self.open_run = self.outcomes_len;
        if !self.odds.is_empty() {
            self.odds.resize(self.outcomes_len, Odds::SURE);
        }
        self.outcomes.extend_from_slice(outcomes);
        self.runs.extend(moves.map(|of| Run { of, outcomes: 1 }));
        self.open_head = self.runs.len();
        self.heads.extend(heads);
    }

    /// Ends the move that is being written before its first draw, at a position that was appended to `positions`.
    pub fn end_before_draw(&mut self, of: MoveId, score: i64) {
        self.position_scores.push(score);
        self.runs.push(Run { of, outcomes: 0 });
    }

    /// Ends the state that is being written.
    #[inline]
    pub fn end_state(&mut self, status: Status, fault: Option<Fault>) {
        let runs = (self.runs.len() - self.open_head) as u32;
        self.open_head = self.runs.len();
        if let Some(fault) = fault {
            self.faults.push((self.heads.len() as u32, fault));
        }
        self.heads.push(Head { status, runs });
    }

    /// Takes back what was written of the move that is being written, and marks the state that is being written as one of
    /// which not all is known: a limit of the machine ended the move. The state can only be ended after this.
    pub fn give_up(&mut self, limit: Limit) {
        let words = self.outcomes.len().checked_div(self.outcomes_len).unwrap_or(0);
        self.outcomes_len = self.open_run;
        self.outcomes.truncate(self.open_run * words);
        self.odds.truncate(self.open_run);
        self.unfinished.push((self.heads.len() as u32, limit));
    }

    /// Outcomes written so far.
    #[must_use]
    pub fn outcomes_len(&self) -> usize {
        self.outcomes_len
    }
}

/// A finite puzzle, as all analyses see it.
///
/// See [`Worker`] for the part that runs rules.
pub trait Model: Sync {
    /// The shape of a packed state.
    fn layout(&self) -> Layout;

    /// The start positions, at least one, in a fixed order.
    ///
    /// # Errors
    ///
    /// A [`Fault`] when a start cannot be built.
    fn starts(&self) -> Result<Vec<Start>, Fault>;

    /// How many moves there are: every move with every value of its parameters.
    fn moves_len(&self) -> usize;

    /// The move as the player writes it, such as `slide left`.
    fn move_name(&self, of: MoveId) -> String;

    /// Whether the model has a goal at all; by default it has. Without one no state is dead.
    fn has_goal(&self) -> bool {
        true
    }

    /// Whether every move has exactly one outcome; by default it has.
    fn is_sure(&self) -> bool {
        true
    }

    /// What is to be made most or least of, if anything.
    fn aim(&self) -> Option<Aim> {
        None
    }

    /// Whether a move does nothing but let time pass.
    fn is_waiting(&self, _of: MoveId) -> bool {
        false
    }

    /// The words for a reason in [`Status::Lost`] or [`Status::Over`].
    fn reason(&self, number: u16) -> String {
        format!("reason {number}")
    }

    /// The words for a fault.
    fn fault_text(&self, fault: &Fault) -> String {
        format!("fault {} with the value {}", fault.site, fault.value)
    }

    /// States that are expanded together. One whose states are dear says 1, so that limits are noticed in time.
    fn batch(&self) -> u32 {
        128
    }

    /// Whether what workers say does not depend on the order in which several of them are asked; by default so.
    fn is_shared(&self) -> bool {
        true
    }

    /// Bytes that the model itself has taken while it was asked, such as tables of what was met. They count against the
    /// memory of a search.
    fn bytes(&self) -> u64 {
        0
    }

    /// A worker with its own scratch memory; one is made for each thread.
    fn worker(&self) -> Box<dyn Worker + '_>;

    /// The shape of a position before a draw, where moves can stop there: see [`Worker::expand_to_draws`].
    fn positions(&self) -> Option<Layout> {
        None
    }

    /// Numbers for the states, where a small range of them is known to hold every state that can be reached; by default none. They may
    /// be a guess ([`Numbering::is_guess`]).
    /// Looking for them should take no longer than expanding `effort` states; `stop` is asked now and then.
    fn numbering(&self, _effort: usize, _stop: &mut dyn FnMut() -> bool) -> Option<Arc<dyn Numbering>> {
        None
    }

    /// A state was met that has none of the numbers given, which were a guess: from now on [`Model::numbering`] gives numbers that are known
    /// to hold every state. Workers that were made before stay what they are.
    fn guess_failed(&self) {}

    /// The same puzzle with a *narrow* numbering, which is asked for with [`Model::numbering`]: its range is as small as these
    /// packed states allow, and all that an earlier narrow numbering of this model allowed. It holds the states of which each
    /// value was seen in one of them; workers name states that they meet and that have no number ([`Expansion::strays`]). By
    /// default none.
    fn narrowed(&self, _states: &mut dyn Iterator<Item = Vec<u64>>) -> Option<Box<dyn Model + '_>> {
        None
    }

    /// Whether code that was made for them runs the rules on packed states: numbers that take as many bytes are of no use then.
    fn packed_is_fast(&self) -> bool {
        false
    }

    /// A worker to which a state is one word, its number; and a position before a draw, if [`Numbering::positions`] says so. Only asked for after [`Model::numbering`] gave one.
    fn worker_by_number(&self) -> Box<dyn Worker + '_> {
        self.worker()
    }
}

/// States as numbers below a range. Not every number need be a state that can be reached.
pub trait Numbering: fmt::Debug + Send + Sync {
    /// Numbers are below this.
    fn range(&self) -> u64;

    /// Numbers of positions before a draw are below this, where moves stop there: see [`Worker::expand_to_draws`].
    fn positions(&self) -> Option<u64> {
        None
    }

    /// The values that a state with a number is made of, in an order that is the same for all numberings of a model.
    fn values(&self, number: u64, out: &mut Vec<i32>);

    /// A divisor such that what `n / divisor` and `n % divisor` say of a state is about different values; near the root of the range.
    fn divisor(&self) -> u64;

    /// The number of the state of these values, if it has one.
    fn number_of(&self, values: &[i32]) -> Option<u64>;

    /// Whether every move from a running state to a running one can be taken back by a move.
    fn can_return(&self) -> bool {
        false
    }

    /// Bytes of memory that its tables take, once states by number are asked about; states not among them.
    fn bytes(&self) -> u64 {
        0
    }

    /// Whether states may be met that have no number: the worker names them ([`Expansion::strays`]).
    fn is_guess(&self) -> bool {
        false
    }

    /// Whether code that was made for them runs the rules on numbers.
    fn is_fast(&self) -> bool {
        false
    }

    /// The number of a packed state; `None` for one that cannot be reached.
    fn number(&self, state: &[u64]) -> Option<u64>;

    /// The packed state with a number below the range.
    fn state(&self, number: u64) -> Vec<u64>;
}

/// What ends a computation before its end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stopped {
    /// The model broke.
    Fault(Fault),
    /// This limit.
    Limit(Limit),
}

impl From<Fault> for Stopped {
    fn from(fault: Fault) -> Stopped {
        Stopped::Fault(fault)
    }
}

impl From<Limit> for Stopped {
    fn from(limit: Limit) -> Stopped {
        Stopped::Limit(limit)
    }
}

/// Where the moves of some states lead, by number and without saying which move leads where.
#[derive(Clone, Debug, Default)]
pub struct Targets {
    /// For each state its status and how many of the numbers are its own, one for each allowed move. `None` where only
    /// [`Worker::expand`] can tell.
    pub heads: Vec<Option<(Status, u32)>>,
    /// The numbers that moves lead to, state by state.
    pub numbers: Vec<u32>,
}

impl Targets {
    /// Asks where the moves of states lead that are given by number; moves draw nothing. With `leaps` [`Worker::targets`] is asked
    /// first; what that does not know, or all without, is expanded: then every head is there.
    pub(crate) fn ask(&mut self, worker: &mut dyn Worker, numbers: &[u64], past_goals: bool, leaps: bool) {
        if leaps && worker.targets(numbers, past_goals, self) && self.heads.iter().all(Option::is_some) {
            return;
        }
        let mut out = Expansion::default();
        worker.expand(numbers, past_goals, &mut out);
        self.heads.clear();
        self.heads.extend(out.heads.iter().map(|head| Some((head.status, head.runs))));
        self.numbers.clear();
        self.numbers.extend(out.outcomes.iter().map(|n| *n as u32));
    }
}

/// Runs a model's rules on packed states.
///
/// A worker owns the scratch memory that the rules need, so that no call allocates for a
/// state. Answers depend on the arguments only, never on earlier calls.
pub trait Worker: Send {
    /// The status of one state.
    ///
    /// # Errors
    ///
    /// A [`Fault`] when the model breaks on it.
    fn status(&mut self, state: &[u64]) -> Result<Status, Fault>;

    /// Expands a batch: `states` holds whole states one after the other.
    ///
    /// Appends to `out` one head a state. States that have ended get no runs; with
    /// `past_goals` a won state is expanded as if it were running (its status stays
    /// [`Status::Goal`]).
    fn expand(&mut self, states: &[u64], past_goals: bool, out: &mut Expansion);

    /// The same, but a move may stop before its first draw: its [`Run`] then has no outcomes, and the next entry of
    /// [`Expansion::positions`], in the shape of [`Model::positions`], says what [`Worker::draw`] goes on from. Moves of any
    /// states that come to the same position have the same outcomes from there, with the same chances.
    fn expand_to_draws(&mut self, states: &[u64], past_goals: bool, out: &mut Expansion) {
        self.expand(states, past_goals, out);
    }

    /// Goes on from whole positions before a draw: appends for each one head with one run, whose move says nothing. Scores are
    /// counted from the position on.
    fn draw(&mut self, _positions: &[u64], _out: &mut Expansion) {}

    /// Writes down no more outcomes of a move than so many from now on: a move with more ends with [`Limit::Outcomes`].
    fn limit_outcomes(&mut self, _most: usize) {}

    /// Makes an allowed move of a running state in one way, as the dice fall: they get weights and say which. Writes the state
    /// that it leads to into `next`, and tells its score. Takes no longer for a move with many outcomes, where the model has a way
    /// of its own; by default all outcomes are written down first.
    ///
    /// # Errors
    ///
    /// A [`Fault`] when the model breaks on it.
    fn sample(
        &mut self,
        state: &[u64],
        of: MoveId,
        dice: &mut dyn FnMut(&[u64]) -> usize,
        next: &mut Vec<u64>,
    ) -> Result<i64, Fault> {
        let mut out = Expansion::default();
        self.expand(state, false, &mut out);
        if let Some((_, fault)) = out.faults.first() {
            return Err(*fault);
        }
        let run = out.runs.iter().position(|r| r.of == of).unwrap_or(0);
        let first: usize = out.runs[..run].iter().map(|r| r.outcomes as usize).sum();
        let odds = |i: usize| out.odds.get(i).copied().unwrap_or(Odds::SURE);
        let weights: Vec<u64> =
            (0..out.runs[run].outcomes as usize).map(|i| odds(first + i).weight).collect();
        let drawn = first + if weights.len() > 1 { dice(&weights) } else { 0 };
        next.clear();
        next.extend_from_slice(&out.outcomes[drawn * state.len()..(drawn + 1) * state.len()]);
        Ok(odds(drawn).score / odds(drawn).weight as i64)
    }

    /// Goes on from a whole position before a draw in one way, as the dice fall. See [`Worker::sample`].
    ///
    /// # Errors
    ///
    /// A [`Fault`] when the model breaks on it.
    fn sample_draw(
        &mut self,
        _position: &[u64],
        _dice: &mut dyn FnMut(&[u64]) -> usize,
        _next: &mut Vec<u64>,
    ) -> Result<i64, Fault> {
        Ok(0)
    }

    /// The allowed moves of one state, in move order, without writing their outcomes down.
    ///
    /// # Errors
    ///
    /// A [`Fault`] when the model breaks on it.
    fn allowed(&mut self, state: &[u64]) -> Result<Vec<MoveId>, Fault> {
        let mut out = Expansion::default();
        self.expand(state, true, &mut out);
        match out.faults.first() {
            Some((_, fault)) => Err(*fault),
            None => Ok(out.runs.iter().map(|r| r.of).collect()),
        }
    }

    /// The refused moves of one state, in move order, with their reasons.
    ///
    /// # Errors
    ///
    /// A [`Fault`] when the model breaks on it.
    fn refusals(&mut self, state: &[u64]) -> Result<Vec<Refusal>, Fault> {
        let _ = state;
        Ok(vec![])
    }

    /// How well a running state promises to go, where the model says it: with a goal, about how likely it is won; without one,
    /// about how much is still to come. Guides look-ahead, and proves nothing.
    ///
    /// # Errors
    ///
    /// A [`Fault`] when the model breaks on it.
    fn promise(&mut self, _state: &[u64]) -> Result<Option<f64>, Fault> {
        Ok(None)
    }

    /// The status of a state and what the model promises of it, `None` where that cannot be asked; looked at once.
    ///
    /// # Errors
    ///
    /// A fault of the status.
    fn status_and_promise(&mut self, state: &[u64]) -> Result<(Status, Option<f64>), Fault> {
        let status = self.status(state)?;
        Ok((status, self.promise(state).ok().map(|p| p.unwrap_or(0.0))))
    }

    /// How much an allowed move counts in a state, where something else than moves is counted.
    ///
    /// # Errors
    ///
    /// A [`Fault`] when the model breaks on it.
    fn counts(&mut self, _state: &[u64], _of: MoveId) -> Result<u32, Fault> {
        Ok(1)
    }

    /// Whether [`Worker::sources`] gives every state that leads to a given one.
    fn goes_back(&self) -> bool {
        false
    }

    /// Appends states, by number, and moves that may lead from them to this one, among them all that do. `state` is a number.
    fn sources(&mut self, _state: u64, _out: &mut Vec<(u64, MoveId)>) {}

    /// Whether a move that may lead from one state to another does. States are numbers; the first one is running.
    fn leads(&mut self, _from: u64, _of: MoveId, _to: u64) -> bool {
        false
    }

    /// Where the moves of these states lead, which are given by number; moves draw nothing. Says no more than [`Worker::expand`],
    /// and may be much faster. False when it is not known; then `out` means nothing.
    fn targets(&mut self, _numbers: &[u64], _past_goals: bool, _out: &mut Targets) -> bool {
        false
    }

    /// Brings numbers into the order in which [`Worker::targets`] and [`Worker::origins`] are fastest.
    fn order_for_targets(&self, _numbers: &mut Vec<u64>) {}

    /// The states from which one move leads into each of these, by number, as often as there are such moves: of the states that
    /// can be reached all that are running, and others that only the rules of moves allow. False as for [`Worker::targets`].
    fn origins(&mut self, _numbers: &[u64], _out: &mut Targets) -> bool {
        false
    }

    /// The value that an aim is about, in one state.
    ///
    /// # Errors
    ///
    /// A [`Fault`] when the model breaks on it.
    fn measure(&mut self, _state: &[u64]) -> Result<i64, Fault> {
        Ok(0)
    }

    /// Whether two states differ in nothing but clocks.
    fn same_but_clocks(&mut self, a: &[u64], b: &[u64]) -> bool {
        a == b
    }

    /// Appends what a player is told of this state. Two states that look the same append
    /// the same words. A model that hides nothing appends the state itself.
    fn told(&mut self, state: &[u64], out: &mut Vec<u64>) {
        out.extend_from_slice(state);
    }
}
