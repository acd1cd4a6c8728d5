//! The fewest changes after which a level is as it is wanted, with the proof that no fewer are enough: every cheaper set of changes is tried.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::sync::Arc;

use fendle_core::Limits;
use fendle_lang::model::VarId;
use rayon::prelude::*;
use serde::Serialize;

use super::boards::{Board, May, Template};
use super::draft::{BOARD_STATES, expect_of};
use super::figures::{Judged, judge};
use super::wish::{Wish, figures_json};
use crate::answer::{Answer, Asked, Trouble, Verdict};
use crate::budget::Budget;
use crate::load::{Loaded, Store};
use crate::position::Position;

/// Boards that are judged together.
const BATCH: usize = 128;
/// Mends that are kept of those that cost least.
const KEPT: usize = 24;

/// How a level is to be mended.
#[derive(Clone, Debug)]
pub struct Order {
    /// What it is to be like.
    pub wish: Wish,
    /// What may change.
    pub may: May,
    /// Cells that stay as they are.
    pub fixed: BTreeSet<usize>,
    /// What a change of a variable costs, where it is not 1.
    pub costs: BTreeMap<VarId, u32>,
    /// The greatest cost that is tried.
    pub most: u32,
}

/// A change of one cell.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Change {
    /// The cell.
    pub cell: String,
    /// The glyph that stood there.
    pub from: String,
    /// The glyph that stands there now.
    pub to: String,
    /// What it does, in the model's words: `wall goes`.
    pub does: String,
}

/// Changes after which the level is as wanted.
#[derive(Clone, Debug, Serialize)]
pub struct Mend {
    /// The changes.
    pub changes: Vec<Change>,
    /// The figures of the mended level.
    pub figures: BTreeMap<&'static str, Option<f64>>,
    /// Its position.
    pub position: Position,
    /// Its level, as it is written in a level file.
    pub text: String,
    /// The level, for a picture.
    #[serde(skip)]
    pub level: Option<Arc<Loaded>>,
    /// The cells that were changed, for a picture.
    #[serde(skip)]
    pub cells: Vec<usize>,
}

/// What mending came to.
#[derive(Clone, Debug, Serialize)]
pub struct Mended {
    /// What was wanted.
    pub want: String,
    /// The least cost of changes that are enough; 0 where the level is as wanted already, `null` where none were found.
    pub cost: Option<u32>,
    /// No cheaper set of changes is enough: all of them were tried and decided.
    pub proved: bool,
    /// Sets of changes up to this cost were all tried.
    pub all_up_to: u32,
    /// Sets of changes that were tried.
    pub tried: u64,
    /// Those that were not decided within the limits of a board.
    pub undecided: u64,
    /// How many sets of changes of the least cost are enough, up to turned and mirrored boards, as far as they were tried.
    pub found: u64,
    /// Some of them.
    pub mends: Vec<Mend>,
}

/// One change of one cell that may be made.
#[derive(Clone, Debug)]
struct Single {
    cell: usize,
    to: String,
    cost: u32,
}

/// Mends a level.
///
/// # Errors
///
/// [`Trouble`] where nothing may be changed.
pub fn mend(
    store: &Store,
    level: &Loaded,
    template: &Template,
    order: &Order,
    budget: &Arc<Budget>,
) -> Result<Answer<Mended>, Trouble> {
    let mut out = Mended {
        want: order.wish.words(),
        cost: None,
        proved: false,
        all_up_to: 0,
        tried: 0,
        undecided: 0,
        found: 0,
        mends: vec![],
    };
    let singles = singles(template, order);
    if singles.is_empty() {
        return Err("nothing may be changed: --may names variables or glyphs of the board".into());
    }
    let judging = Judging {
        store,
        template,
        wish: &order.wish,
        besides: BTreeSet::from([if level.game.bound.model.hides() && !level.known {
            "guesses"
        } else {
            "moves"
        }]),
        limits: Limits {
            threads: 1,
            max_states: budget.wanted().max_states.unwrap_or(BOARD_STATES),
            ..budget.limits()
        },
        known: level.known,
        budget,
    };
    let (mut whole, mut open_below) = (true, 0);
    for cost in 0..=order.most {
        open_below = out.undecided;
        let mut sets: Vec<Vec<usize>> = vec![];
        let mut met: HashSet<Vec<String>> = HashSet::new();
        let mut done = |sets: &mut Vec<Vec<usize>>, out: &mut Mended| {
            judging.batch(std::mem::take(sets), &singles, &mut met, out);
            !budget.is_stopped()
        };
        let mut chosen = vec![];
        whole = combinations(&singles, 0, cost, &mut chosen, &mut |set| {
            sets.push(set.to_vec());
            sets.len() < BATCH || done(&mut sets, &mut out)
        }) && done(&mut sets, &mut out);
        if out.found > 0 {
            out.cost = Some(cost);
            break;
        }
        if !whole {
            break;
        }
        out.all_up_to = cost;
    }
    // What was not decided at the cost that is enough may be another way, and no cheaper one.
    out.proved = if out.cost.is_some() { open_below == 0 } else { whole && out.undecided == 0 };
    let stopped = budget.stopped();
    let holds = match (out.cost, stopped) {
        (Some(_), _) => Verdict::Holds,
        (None, None) if out.undecided == 0 => Verdict::Fails,
        _ => Verdict::Undecided,
    };
    let tried = out.tried;
    Ok(Answer::new(Asked::of(level), holds, out).stopped(stopped, budget).took(budget, tried))
}

/// Every change of one cell that may be made.
fn singles(template: &Template, order: &Order) -> Vec<Single> {
    let mut out = vec![];
    for (cell, from) in template.board.cells.iter().enumerate() {
        if order.fixed.contains(&cell) {
            continue;
        }
        for to in template.glyphs().filter(|to| *to != from) {
            let vars = template.differing(from, to);
            if order.may.allows(template, from, to, &vars) && !vars.is_empty() {
                let cost = vars.iter().map(|v| order.costs.get(v).copied().unwrap_or(1)).sum();
                out.push(Single { cell, to: to.to_string(), cost });
            }
        }
    }
    out
}

/// All sets of changes of different cells with this cost together, as numbers of changes; false where `each` said stop.
fn combinations(
    singles: &[Single],
    from: usize,
    cost: u32,
    chosen: &mut Vec<usize>,
    each: &mut dyn FnMut(&[usize]) -> bool,
) -> bool {
    if cost == 0 {
        return each(chosen);
    }
    for at in from..singles.len() {
        let single = &singles[at];
        if single.cost > cost || chosen.iter().any(|c| singles[*c].cell == single.cell) {
            continue;
        }
        chosen.push(at);
        let more = combinations(singles, at + 1, cost - single.cost, chosen, each);
        chosen.pop();
        if !more {
            return false;
        }
    }
    true
}

struct Judging<'j> {
    store: &'j Store,
    template: &'j Template,
    wish: &'j Wish,
    besides: BTreeSet<&'static str>,
    limits: Limits,
    known: bool,
    budget: &'j Arc<Budget>,
}

impl Judging<'_> {
    fn changed(&self, set: &[usize], singles: &[Single]) -> Board {
        let mut board = self.template.board.clone();
        for at in set {
            board.cells[singles[*at].cell].clone_from(&singles[*at].to);
        }
        board
    }

    /// Judges sets of changes, in their order.
    fn batch(
        &self,
        sets: Vec<Vec<usize>>,
        singles: &[Single],
        met: &mut HashSet<Vec<String>>,
        out: &mut Mended,
    ) {
        let judged: Vec<(Board, Option<(Judged, Loaded)>)> = (sets.par_iter())
            .map(|set| {
                let board = self.changed(set, singles);
                let judged = self.template.load(&board, "mended", self.budget).map(|mut level| {
                    level.known = self.known;
                    let wanted = (self.wish, &self.besides);
                    (judge(self.store, &level, wanted, &self.limits, self.budget), level)
                });
                (board, judged)
            })
            .collect();
        out.tried += sets.len() as u64;
        for (set, (board, judged)) in sets.iter().zip(judged) {
            match judged {
                // What the model does not take is no board.
                None | Some((Judged::Bad(..) | Judged::Breaks, _)) => {}
                Some((Judged::Open, _)) => out.undecided += 1,
                Some((Judged::Good(figures), level)) => {
                    if !met.insert(self.template.unturned(&board)) {
                        continue;
                    }
                    out.found += 1;
                    if out.mends.len() >= KEPT {
                        continue;
                    }
                    let change = |at: &usize| {
                        let single = &singles[*at];
                        let from = &self.template.board.cells[single.cell];
                        Change {
                            cell: self.template.cell(single.cell),
                            from: from.clone(),
                            to: single.to.clone(),
                            does: self.template.change(from, &single.to),
                        }
                    };
                    let name = format!("mended {}", out.mends.len() + 1);
                    out.mends.push(Mend {
                        changes: set.iter().map(change).collect(),
                        position: Position::new(&level.game.bound, &level.game.bound.position),
                        text: self.template.text(&board, &name, &expect_of(&figures, &self.wish.names())),
                        figures: figures_json(&figures),
                        cells: set.iter().map(|at| singles[*at].cell).collect(),
                        level: Some(Arc::new(level)),
                    });
                }
            }
        }
    }
}
