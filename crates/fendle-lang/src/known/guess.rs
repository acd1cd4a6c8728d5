//! A guess that looks ahead: what a move risks now, and what it leaves to be risked after it.
//!
//! Where few layouts are left, play is tried out to the end over all of them. Where there are many, some are drawn that
//! agree with everything seen; in each a move is made, what is told then is taken in, and the least risk after it is
//! found. All moves are tried in the same layouts, so that they differ by what they do and not by luck.

use std::cell::RefCell;
use std::collections::HashMap;

use fendle_core::infer::{Inferred, NoAnswer};
use fendle_core::worlds::{World, best_move};
use fendle_core::{Model as _, MoveId, Status, Worker};

use crate::code::Game;
use crate::known::Sight;
use crate::known::player::{Chosen, Player, Risk, Stopped, risk_of};
use crate::model::EndKind;
use crate::play::{Tried, step};
use crate::run::setup::Dice;

/// How far a guess looks ahead.
#[derive(Clone, Copy, Debug)]
pub struct Foresight {
    /// Layouts that are drawn.
    pub layouts: usize,
    /// Moves that are followed to what is known after them.
    pub choices: usize,
    /// Moves among which these are chosen, by what they show in a few layouts.
    pub tried: usize,
    /// Layouts up to which play is tried out to the end.
    pub whole: usize,
    /// Worlds that are looked at at most to try it out.
    pub expanded: usize,
}

impl Default for Foresight {
    fn default() -> Foresight {
        Foresight { layouts: 40, choices: 8, tried: 40, whole: 60, expanded: 400 }
    }
}

impl Foresight {
    /// A brief look, for guesses within plays that are played by the hundred.
    #[must_use]
    pub fn brief() -> Foresight {
        Foresight { layouts: 16, choices: 4, tried: 16, whole: 24, expanded: 100 }
    }
}

/// A guess that looked ahead.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Foreseen {
    /// The number of the move.
    pub of: usize,
    /// The risk that it loses at once.
    pub risk: Risk,
    /// What was looked at, and about which chance it leaves.
    pub left: Left,
}

/// What a guess leaves, about.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Left {
    /// The chance to win: play was tried out to the end in every layout.
    Win(f64),
    /// The chance to survive it and what has to be risked next: in layouts that were drawn.
    Next(f64),
    /// Nothing was looked at: there was no choice.
    Unknown,
}

/// A level's rules in compiled code.
pub(super) struct Fast<'b> {
    game: &'b Game,
    worker: RefCell<Box<dyn Worker + 'b>>,
}

/// Layouts in which moves are tried before they are followed.
const FIRST: usize = 6;
/// States among which a safe way is looked for after a guess.
const NEAR: usize = 200;
/// What one told value more is worth: the less is unknown, the fewer guesses are left.
const SHOWN: f64 = 0.0015;
/// Told values that count as more at most.
const SHOWN_MOST: f64 = 40.0;

/// What a move leaves, over layouts in which it is survived.
struct After {
    /// The mean of what is left, a little more the more is shown.
    mean: f64,
    /// The standard error of that.
    error: f64,
    /// The mean chance to survive the next guess.
    survived: f64,
}

/// What each `tell` says of each of its elements.
type Told = [Vec<Option<i64>>];

/// What came of a move in one layout.
#[derive(Clone)]
enum Came {
    Won,
    Lost,
    /// It goes on from this state, which tells this.
    On(Vec<i32>, Vec<Vec<Option<i64>>>),
}

impl<'b> Player<'b> {
    /// Makes the moves that are looked ahead in compiled code. The game is of the same level as the player. Where moves draw
    /// this changes nothing.
    #[must_use]
    pub fn with_game(mut self, game: &'b Game) -> Player<'b> {
        self.fast = game.is_sure().then(|| Fast { game, worker: RefCell::new(game.worker()) });
        self
    }
}

impl Player<'_> {
    /// The next move: a safe way to something new, else a guess that looks ahead.
    ///
    /// # Errors
    ///
    /// [`Stopped`].
    pub fn choose_ahead(&self, found: &Inferred, how: Foresight) -> Result<Option<Chosen>, Stopped> {
        if let Some(moves) = self.safe_way(found)? {
            return Ok(Some(Chosen { moves, risk: Risk::None }));
        }
        let guess = self.guess_ahead(found, how)?;
        Ok(guess.map(|g| Chosen { moves: vec![g.of], risk: g.risk }))
    }

    /// A guess that looks ahead: a move that is not safe, with the best chance to go on.
    ///
    /// # Errors
    ///
    /// [`Stopped`].
    pub fn guess_ahead(&self, found: &Inferred, how: Foresight) -> Result<Option<Foreseen>, Stopped> {
        let mut moves: Vec<(f64, Risk, usize)> = vec![];
        for (m, ways) in self.ways(&self.state)? {
            let risk = self.risk(found, ways.as_deref())?;
            // A move without risk that shows nothing new leads nowhere.
            if risk != Risk::None {
                moves.push((risk.number(), risk, m));
            }
        }
        moves.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.2.cmp(&b.2)));
        let Some(&(_, risk, first)) = moves.first() else { return Ok(None) };
        if moves.len() == 1 || risk.number() >= 1.0 {
            return Ok(Some(Foreseen { of: first, risk, left: Left::Unknown }));
        }
        let (of, left) = match self.by_whole_play(how)? {
            Some((of, win)) => (of, Left::Win(win)),
            None => self.by_layouts(moves.clone(), how)?,
        };
        let risk = moves.iter().find(|x| x.2 == of).map_or(risk, |x| x.1);
        Ok(Some(Foreseen { of, risk, left }))
    }

    fn risk(&self, found: &Inferred, ways: Option<&[crate::known::Way]>) -> Result<Risk, NoAnswer> {
        ways.map_or(Ok(Risk::Unknown), |ways| risk_of(&self.known.system, found, ways))
    }

    /// The state that play stands in with another layout.
    pub(super) fn with_layout(&self, layout: &[bool]) -> Vec<i32> {
        let mut state = self.state.clone();
        for (place, value) in self.known.places.iter().zip(layout) {
            state[*place] = i32::from(*value);
        }
        state
    }

    /// What comes of a move; `None` where it is not made, or draws.
    fn came_of(&self, state: &[i32], m: usize) -> Result<Option<Came>, Stopped> {
        if self.b.stop.is_asked() {
            return Err(Stopped::Asked);
        }
        if let Some(fast) = &self.fast
            && let Some(came) = self.came_fast(fast, state, m)
        {
            return Ok(Some(came));
        }
        let Tried::Made(made) = step(self.b, self.moves, state, m, false)? else { return Ok(None) };
        let [played] = made.as_slice() else { return Ok(None) };
        let kind = played.ended.map(|e| self.b.model.endings[e].kind);
        Ok(Some(match kind {
            Some(EndKind::Goal) => Came::Won,
            Some(_) => Came::Lost,
            None => {
                let next = played.made.state.clone();
                let told = self.told(&next);
                Came::On(next, told)
            }
        }))
    }

    /// The same for a move that is allowed, in compiled code; `None` where that breaks.
    fn came_fast(&self, fast: &Fast<'_>, state: &[i32], m: usize) -> Option<Came> {
        let mut next = vec![];
        let mut worker = fast.worker.borrow_mut();
        let mut first = |_: &[u64]| 0;
        worker.sample(&fast.game.pack(state), MoveId(m as u32), &mut first, &mut next).ok()?;
        Some(match worker.status(&next).ok()? {
            Status::Goal => Came::Won,
            Status::Running => {
                let next = fast.game.unpack(&next);
                let told = self.told(&next);
                Came::On(next, told)
            }
            _ => Came::Lost,
        })
    }

    /// The best of some moves by what is left to be risked after them, in layouts that are drawn.
    fn by_layouts(
        &self,
        mut moves: Vec<(f64, Risk, usize)>,
        how: Foresight,
    ) -> Result<(usize, Left), Stopped> {
        let seed = self
            .state
            .iter()
            .fold(0u64, |h, v| (h ^ *v as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15).rotate_left(9));
        let mut dice = Dice::new(seed);
        let sampler = self.known.system.sampler()?;
        let mut random = || dice.share();
        let layouts: Vec<Vec<i32>> =
            (0..how.layouts).map(|_| self.with_layout(&sampler.draw(&mut random))).collect();
        // The same in every layout that agrees.
        let now = self.told(&layouts[0]);
        let news = |told: &Told| {
            let pairs = told.iter().flatten().zip(now.iter().flatten());
            pairs.filter(|(a, b)| a != b && a.is_some()).count()
        };
        moves.truncate(how.tried);
        // A look at what each shows in a few layouts.
        let mut looked: Vec<(f64, f64, usize, Vec<Option<Came>>)> = vec![];
        for (risk, _, m) in moves {
            let mut came = vec![];
            let (mut opens, mut lives) = (0u32, 0u32);
            for layout in layouts.iter().take(FIRST) {
                let c = self.came_of(layout, m)?;
                match &c {
                    Some(Came::Won) => (opens, lives) = (opens + 1, lives + 1),
                    Some(Came::On(_, told)) => {
                        lives += 1;
                        opens += u32::from(news(told) > 1);
                    }
                    _ => {}
                }
                came.push(c);
            }
            let opens = f64::from(opens) / f64::from(lives.max(1));
            looked.push((risk, (1.0 - risk) * (1.0 + opens), m, came));
        }
        // Half of the choices by least risk, half by how often much is shown.
        let mut choices: Vec<usize> = (0..looked.len().min(how.choices / 2)).collect();
        let mut by_show: Vec<usize> = (0..looked.len()).collect();
        by_show.sort_by(|a, b| looked[*b].1.total_cmp(&looked[*a].1).then(a.cmp(b)));
        for i in by_show {
            if choices.len() < how.choices && !choices.contains(&i) {
                choices.push(i);
            }
        }
        choices.sort_unstable();
        // The least risk is left only for what is better beyond the error of the sample.
        let mut best: Option<(f64, usize, f64)> = None;
        let mut least: Option<(f64, f64, f64)> = None;
        for i in choices {
            let (risk, _, m, came) = &looked[i];
            let lives = 1.0 - risk;
            if best.is_some_and(|b| b.0 >= lives * (1.0 + SHOWN_MOST * SHOWN)) {
                continue;
            }
            let After { mean, error, survived } = self.left_after(*m, came, &layouts, &news)?;
            let (value, error) = (lives * mean, lives * error);
            let (first_risk, first_value, first_error) = *least.get_or_insert((*risk, value, error));
            let sure = if *risk <= first_risk + 1e-9 {
                value
            } else {
                value.min((value - error.hypot(first_error)).max(first_value - 1e-9))
            };
            if best.is_none_or(|b| sure > b.0 + 1e-12) {
                best = Some((sure, *m, lives * survived));
            }
        }
        Ok(best.map_or((looked[0].2, Left::Unknown), |b| (b.1, Left::Next(b.2))))
    }

    /// The mean chance to survive the next guess after a move that is survived, a little more the more is shown.
    fn left_after(
        &self,
        m: usize,
        came: &[Option<Came>],
        layouts: &[Vec<i32>],
        news: &dyn Fn(&Told) -> usize,
    ) -> Result<After, Stopped> {
        // What is known after it depends on what is told alone.
        let mut known: HashMap<Vec<Vec<Option<i64>>>, f64> = HashMap::new();
        let (mut values, mut survived): (Vec<f64>, f64) = (vec![], 0.0);
        for (i, layout) in layouts.iter().enumerate() {
            let came = match came.get(i) {
                Some(c) => c.clone(),
                None => self.came_of(layout, m)?,
            };
            match came {
                Some(Came::Won) => {
                    survived += 1.0;
                    values.push(1.0 + SHOWN_MOST * SHOWN);
                }
                Some(Came::On(state, told)) => {
                    let shown = (news(&told) as f64).min(SHOWN_MOST);
                    let lives = match known.get(&told) {
                        Some(lives) => *lives,
                        None => {
                            let lives = self.least_risk_after(state, told.clone())?;
                            known.insert(told, lives);
                            lives
                        }
                    };
                    survived += lives;
                    values.push(lives + SHOWN * shown);
                }
                _ => {}
            }
        }
        // In none of the layouts is it survived: nothing is known beyond its risk.
        if values.is_empty() {
            return Ok(After { mean: 0.5, error: 0.5, survived: 0.5 });
        }
        let n = values.len() as f64;
        let mean = values.iter().sum::<f64>() / n;
        let spread = values.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / n;
        Ok(After { mean, error: (spread / n).sqrt(), survived: survived / n })
    }

    /// The chance to survive the least risk in a state that tells this.
    fn least_risk_after(&self, state: Vec<i32>, told: Vec<Vec<Option<i64>>>) -> Result<f64, Stopped> {
        let sight = Sight { state, told };
        let system = self.known.system_with(&mut self.reader.borrow_mut(), &sight)?;
        let found = match self.reckoner.borrow().clone().infer(&system) {
            Ok(found) => found,
            Err(NoAnswer::TooWide) => return Ok(0.5),
            Err(e) => return Err(e.into()),
        };
        if self.safe_way_from(&sight.state, &system.fixed, &found, NEAR)?.is_some() {
            return Ok(1.0);
        }
        let mut least = 1.0f64;
        for (_, ways) in self.ways_with(&sight.state, &system.fixed)? {
            let Some(ways) = ways else { continue };
            let risk = risk_of(&system, &found, &ways)?;
            if risk != Risk::None {
                least = least.min(risk.number());
            }
        }
        Ok(1.0 - least)
    }

    /// The best move by trying play out to the end in every layout; `None` where that takes too much.
    fn by_whole_play(&self, how: Foresight) -> Result<Option<(usize, f64)>, Stopped> {
        let Some(fast) = &self.fast else { return Ok(None) };
        let Some(layouts) = self.known.system.solutions(how.whole) else { return Ok(None) };
        let all: f64 = layouts.iter().map(|l| l.1 as f64).sum();
        let mut worlds: Vec<World> = vec![];
        for (layout, weight) in layouts {
            // Layouts that the rules themselves rule out are none.
            let state = fast.game.pack(&self.with_layout(&layout));
            if fast.worker.borrow_mut().status(&state).is_ok() {
                worlds.push((state, weight as f64 / all));
            }
        }
        let best = best_move(fast.game, &mut **fast.worker.borrow_mut(), &worlds, how.expanded);
        Ok(best.map(|b| (b.0.0 as usize, b.1)))
    }
}
