//! Plays a level as a careful player would: what is certain first, and the least risk where nothing is.
//!
//! Works where what is told are counts ([`Known`]). Used by the no-guess proof, by estimates, and by the bench.

use std::cell::RefCell;
use std::collections::{HashMap, VecDeque};
use std::sync::Arc;

use fendle_core::infer::{Fraction, Inferred, NoAnswer, Reckoner, System, fraction};

use crate::known::guess::Fast;
use crate::known::{Danger, Known, NotCounts, Reader, Sight, Watched, Way};
use crate::play::{MoveTable, Tried, step};
use crate::run::setup::Dice;
use crate::run::{Eval, RunFault};
use crate::state::Bound;

/// Why play cannot go on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Stopped {
    /// What is told is not followed as counts.
    NotCounts(NotCounts),
    /// No exact answer.
    NoAnswer(NoAnswer),
    /// The model broke.
    Fault(RunFault),
    /// Somebody said stop.
    Asked,
}

impl From<NotCounts> for Stopped {
    fn from(e: NotCounts) -> Stopped {
        Stopped::NotCounts(e)
    }
}
impl From<NoAnswer> for Stopped {
    fn from(e: NoAnswer) -> Stopped {
        Stopped::NoAnswer(e)
    }
}
impl From<RunFault> for Stopped {
    fn from(e: RunFault) -> Stopped {
        Stopped::Fault(e)
    }
}

impl std::fmt::Display for Stopped {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Stopped::NotCounts(e) => write!(f, "{e}"),
            Stopped::NoAnswer(NoAnswer::Contradiction) => write!(f, "no layout agrees with what is seen"),
            Stopped::NoAnswer(NoAnswer::TooWide) => write!(f, "too many clues hang together"),
            Stopped::Fault(e) => write!(f, "the model breaks: {e}"),
            Stopped::Asked => write!(f, "this was stopped"),
        }
    }
}

/// How sure a move is.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Risk {
    /// It cannot lose at once.
    None,
    /// It loses at once.
    Sure,
    /// It loses with about this probability.
    About(f64),
    /// Not followed.
    Unknown,
}

impl Risk {
    /// As a number; what is not known counts as certain loss.
    #[must_use]
    pub fn number(self) -> f64 {
        match self {
            Risk::None => 0.0,
            Risk::About(p) => p,
            Risk::Sure | Risk::Unknown => 1.0,
        }
    }
}

/// The risk of a move that goes these ways.
///
/// # Errors
///
/// [`NoAnswer`].
pub fn risk_of(system: &System, found: &Inferred, ways: &[Way]) -> Result<Risk, NoAnswer> {
    if ways.iter().all(|w| !w.lost) {
        return Ok(Risk::None);
    }
    if ways.iter().all(|w| w.lost) {
        return Ok(Risk::Sure);
    }
    let lost = match ways {
        // One cell decides.
        [a, b] if a.chance == (1, 1) && b.chance == (1, 1) && a.cells.len() == 1 && b.cells.len() == 1 => {
            let (cell, filled) = if a.lost { a.cells[0] } else { b.cells[0] };
            if filled { found.about(cell) } else { 1.0 - found.about(cell) }
        }
        _ => fendle_core::infer::about(&exact_risk(system, found, ways)?),
    };
    Ok(if lost == 0.0 {
        Risk::None
    } else if lost == 1.0 {
        Risk::Sure
    } else {
        Risk::About(lost)
    })
}

/// The exact risk of a move that goes these ways.
///
/// # Errors
///
/// [`NoAnswer`].
pub fn exact_risk(system: &System, found: &Inferred, ways: &[Way]) -> Result<Fraction, NoAnswer> {
    let mut sum: Fraction = fraction(0, 1);
    for w in ways.iter().filter(|w| w.lost) {
        let p: Fraction = match w.cells.as_slice() {
            [] => fraction(1, 1),
            [(c, true)] => found.chance(*c),
            [(c, false)] => fraction(1, 1) - found.chance(*c),
            cells => {
                let some = system.weight_with(cells)?;
                Fraction::new(some.into(), found.all.clone().into())
            }
        };
        sum += p * fraction(w.chance.0, w.chance.1);
    }
    Ok(sum)
}

/// A move, and the ways that it may go; `None` where they are not followed.
pub type MoveWays = (usize, Option<Vec<Way>>);

/// What the moves may do, worked out again only where the state has changed.
struct MoveWatch<'b> {
    eval: Eval<'b>,
    watched: Watched,
    /// For each move its ways, as [`Player::ways`] gives them.
    ways: Vec<Option<Vec<Way>>>,
    /// Hidden values that are known for sure, by place.
    fixed: Arc<HashMap<usize, i32>>,
    /// The same by cell, as they were taken in.
    taken: Vec<Option<bool>>,
}

/// What is told, worked out again only where the state has changed.
struct Telling<'b> {
    eval: Eval<'b>,
    elements: Vec<Vec<i64>>,
    watched: Watched,
    told: Vec<Vec<Option<i64>>>,
}

impl<'b> Telling<'b> {
    fn new(b: &'b Bound) -> Telling<'b> {
        let mut eval = Eval::new(b);
        let elements: Vec<Vec<i64>> = b.model.tells.iter().map(|t| eval.tell_elements(t)).collect();
        let told: Vec<Vec<Option<i64>>> = elements.iter().map(|e| vec![None; e.len()]).collect();
        let watched = Watched::new(elements.iter().map(Vec::len).sum());
        Telling { eval, elements, watched, told }
    }

    /// What is told of a state with a layout.
    fn of(&mut self, b: &'b Bound, state: &[i32]) -> Vec<Vec<Option<i64>>> {
        self.watched.turn_to(state);
        self.eval.look_at(state);
        let mut thing = 0;
        for (tell, (elements, told)) in b.model.tells.iter().zip(self.elements.iter().zip(&mut self.told)) {
            for (element, told) in elements.iter().zip(told) {
                if self.watched.is_stale(thing) {
                    self.eval.note();
                    let value = self.eval.tells(tell, *element);
                    self.watched.worked_out(thing, self.eval.noted());
                    match value {
                        Ok(value) => *told = value,
                        // Nothing at all is told of a state that breaks the model.
                        Err(_) => {
                            *self = Telling::new(b);
                            return vec![vec![]; b.model.tells.len()];
                        }
                    }
                }
                thing += 1;
            }
        }
        self.told.clone()
    }
}

/// States among which a safe way is looked for.
const SAFE_STATES: usize = 20_000;

/// A player, and what it knows.
pub struct Player<'b> {
    pub(super) b: &'b Bound,
    pub(super) moves: &'b MoveTable,
    danger: Danger<'b>,
    /// What is known.
    pub known: Known,
    /// The true state; where the level gives only what is told, one that agrees with it.
    pub state: Vec<i32>,
    pub(super) reader: RefCell<Reader<'b>>,
    pub(super) reckoner: RefCell<Reckoner>,
    watch: RefCell<MoveWatch<'b>>,
    telling: RefCell<Telling<'b>>,
    pub(super) fast: Option<Fast<'b>>,
}

/// A careful move.
#[derive(Clone, Debug, PartialEq)]
pub struct Chosen {
    /// The moves to make: several where a safe way leads to something new.
    pub moves: Vec<usize>,
    /// The risk of the last of them.
    pub risk: Risk,
}

impl<'b> Player<'b> {
    /// A player who has seen these positions; the last is where play stands.
    ///
    /// # Errors
    ///
    /// [`Stopped`].
    pub fn new(b: &'b Bound, moves: &'b MoveTable, seen: &[Vec<i32>]) -> Result<Player<'b>, Stopped> {
        let known = Known::new(b, &[])?;
        let mut player = Player {
            b,
            moves,
            danger: Danger::new(&b.model),
            reader: RefCell::new(Reader::new(b, &known)?),
            known,
            state: seen.last().cloned().unwrap_or_else(|| b.position.clone()),
            reckoner: RefCell::default(),
            watch: RefCell::new(MoveWatch {
                eval: Eval::new(b),
                watched: Watched::new(moves.list.len()),
                ways: vec![None; moves.list.len()],
                fixed: Arc::default(),
                taken: vec![],
            }),
            telling: RefCell::new(Telling::new(b)),
            fast: None,
        };
        let given = b.seen.iter().any(Option::is_some);
        for state in seen {
            let told = if given { b.told(state) } else { player.told(state) };
            let sight = Sight { state: state.clone(), told };
            player.known.see_by(player.reader.get_mut(), &sight)?;
        }
        if given && let Ok(sampler) = player.known.system.sampler() {
            // There is no true layout: any that agrees takes its place.
            let mut dice = Dice::new(0);
            let layout = sampler.draw(&mut || dice.share());
            player.state = player.with_layout(&layout);
        }
        Ok(player)
    }

    /// What is told of a state.
    pub(super) fn told(&self, state: &[i32]) -> Vec<Vec<Option<i64>>> {
        self.telling.borrow_mut().of(self.b, state)
    }

    /// Play stands here now: takes in what is told.
    ///
    /// # Errors
    ///
    /// [`Stopped`].
    pub fn look(&mut self, state: Vec<i32>) -> Result<(), Stopped> {
        let told = self.told(&state);
        self.state = state;
        let sight = Sight { state: self.state.clone(), told };
        Ok(self.known.see_by(self.reader.get_mut(), &sight)?)
    }

    /// The ways of every move of a state with these cells known for sure, worked out again where it differs from the one
    /// before.
    fn turn_to(&self, state: &[i32], sure: &[Option<bool>]) -> Result<(), RunFault> {
        let mut watch = self.watch.borrow_mut();
        let MoveWatch { eval, watched, ways, fixed, taken } = &mut *watch;
        watched.turn_to(state);
        taken.resize(self.known.places.len(), None);
        for (c, (value, taken)) in sure.iter().zip(taken).enumerate() {
            if value != taken {
                let place = self.known.places[c];
                match value {
                    Some(v) => Arc::make_mut(fixed).insert(place, i32::from(*v)),
                    None => Arc::make_mut(fixed).remove(&place),
                };
                watched.changed(place);
                *taken = *value;
            }
        }
        for (n, (of, params)) in self.moves.list.iter().enumerate() {
            if watched.is_stale(n) {
                eval.note();
                ways[n] = self.known.ways(eval, &self.danger, state, (*of, params), fixed)?;
                watched.worked_out(n, eval.noted());
            }
        }
        Ok(())
    }

    /// The allowed moves of a state with their ways.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub fn ways(&self, state: &[i32]) -> Result<Vec<MoveWays>, RunFault> {
        self.ways_with(state, &self.known.system.fixed)
    }

    /// The same where these cells are known for sure.
    pub(super) fn ways_with(&self, state: &[i32], sure: &[Option<bool>]) -> Result<Vec<MoveWays>, RunFault> {
        self.turn_to(state, sure)?;
        let watch = self.watch.borrow();
        let allowed = watch.ways.iter().enumerate().filter(|(_, w)| w.as_ref().is_none_or(|w| !w.is_empty()));
        Ok(allowed.map(|(n, w)| (n, w.clone())).collect())
    }

    /// Whether every hidden cell that decides is certain, and none of the ways that are left loses.
    fn is_safe(found: &Inferred, ways: Option<&[Way]>) -> bool {
        ways.is_some_and(|ways| {
            ways.iter()
                .filter(|w| w.lost)
                .all(|w| w.cells.iter().any(|&(c, v)| found.certain(c).is_some_and(|certain| certain != v)))
        })
    }

    /// Makes moves in the true layout and looks around. `None` for a move that is not allowed.
    ///
    /// # Errors
    ///
    /// [`Stopped`].
    pub fn make(&mut self, moves: &[usize]) -> Result<Option<Option<usize>>, Stopped> {
        let mut ended = None;
        for &m in moves {
            let Tried::Made(list) = step(self.b, self.moves, &self.state, m, false)? else { return Ok(None) };
            let Some(played) = list.into_iter().next() else { return Ok(None) };
            self.state = played.made.state;
            ended = played.ended;
            if ended.is_some() {
                break;
            }
            self.look(self.state.clone())?;
        }
        Ok(Some(ended))
    }

    /// The shortest way of safe moves to something new: a goal, or a position where more is told. All moves that are
    /// safe at once and show something new count; they are given together where the order does not matter.
    ///
    /// # Errors
    ///
    /// [`Stopped`].
    pub fn safe_way(&self, found: &Inferred) -> Result<Option<Vec<usize>>, Stopped> {
        self.safe_way_from(&self.state, &self.known.system.fixed, found, SAFE_STATES)
    }

    /// The same from a state in which these cells are known for sure, among at most so many states.
    pub(super) fn safe_way_from(
        &self,
        begin: &[i32],
        sure: &[Option<bool>],
        found: &Inferred,
        most: usize,
    ) -> Result<Option<Vec<usize>>, Stopped> {
        let now = self.told(begin);
        let mut queue: VecDeque<Vec<i32>> = [begin.to_vec()].into();
        let mut from: HashMap<Vec<i32>, Option<(Vec<i32>, usize)>> = [(begin.to_vec(), None)].into();
        while let Some(state) = queue.pop_front() {
            if self.b.stop.is_asked() {
                return Err(Stopped::Asked);
            }
            for (m, ways) in self.ways_with(&state, sure)? {
                if !Player::is_safe(found, ways.as_deref()) {
                    continue;
                }
                let Tried::Made(list) = step(self.b, self.moves, &state, m, false)? else { continue };
                // With draws a way is not sure to lead there.
                let [played] = list.as_slice() else { continue };
                let next = played.made.state.clone();
                let lost = |e: usize| self.b.model.endings[e].kind != crate::model::EndKind::Goal;
                if from.contains_key(&next) || played.ended.is_some_and(lost) {
                    continue;
                }
                from.insert(next.clone(), Some((state.clone(), m)));
                let told = self.told(&next);
                let news =
                    told.iter().flatten().zip(now.iter().flatten()).any(|(a, b)| a != b && a.is_some());
                if news || played.ended.is_some() {
                    let mut way = vec![];
                    let mut at = &next;
                    while let Some(Some((before, m))) = from.get(at) {
                        way.push(*m);
                        at = before;
                    }
                    way.reverse();
                    return Ok(Some(way));
                }
                if from.len() > most {
                    return Ok(None);
                }
                queue.push_back(next);
            }
        }
        Ok(None)
    }

    /// The next careful move: a safe way to something new, else the least risk, the first of equals.
    ///
    /// # Errors
    ///
    /// [`Stopped`].
    pub fn choose(&self, found: &Inferred) -> Result<Option<Chosen>, Stopped> {
        if let Some(moves) = self.safe_way(found)? {
            return Ok(Some(Chosen { moves, risk: Risk::None }));
        }
        let mut best: Option<Chosen> = None;
        for (m, ways) in self.ways(&self.state)? {
            let risk = match ways {
                Some(ways) => risk_of(&self.known.system, found, &ways)?,
                None => Risk::Unknown,
            };
            // A move without risk that shows nothing new leads nowhere.
            if risk != Risk::None && best.as_ref().is_none_or(|b| risk.number() < b.risk.number()) {
                best = Some(Chosen { moves: vec![m], risk });
            }
        }
        Ok(best)
    }

    /// All moves that are safe at once where play stands and whose ways are followed, in move order.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub fn safe_moves(&self, found: &Inferred) -> Result<Vec<usize>, RunFault> {
        self.turn_to(&self.state, &self.known.system.fixed)?;
        let watch = self.watch.borrow();
        let safe = |ways: &Option<Vec<Way>>| {
            ways.as_ref().is_none_or(|w| !w.is_empty()) && Player::is_safe(found, ways.as_deref())
        };
        Ok((0..watch.ways.len()).filter(|m| safe(&watch.ways[*m])).collect())
    }

    /// Makes every move that is safe and shows something new, as long as what is certain says so: quicker than
    /// looking again after each. Gives whether anything new was shown, and how the game ended if it did.
    ///
    /// # Errors
    ///
    /// [`Stopped`].
    pub fn make_safe(&mut self, found: &Inferred) -> Result<(bool, Option<usize>), Stopped> {
        let mut news = false;
        for m in self.safe_moves(found)? {
            self.turn_to(&self.state, &self.known.system.fixed)?;
            let ways = self.watch.borrow().ways[m].clone();
            // It may be made by now, or no longer be safe from here.
            if ways.as_ref().is_none_or(Vec::is_empty) || !Player::is_safe(found, ways.as_deref()) {
                continue;
            }
            let before = self.told(&self.state);
            let Some(ended) = self.make(&[m])? else { continue };
            news |= before != self.told(&self.state);
            if ended.is_some() {
                return Ok((true, ended));
            }
        }
        Ok((news, None))
    }

    /// Everything that follows from what is known.
    ///
    /// # Errors
    ///
    /// [`Stopped`].
    pub fn infer(&self) -> Result<Inferred, Stopped> {
        Ok(self.reckoner.borrow_mut().infer(&self.known.system)?)
    }
}
