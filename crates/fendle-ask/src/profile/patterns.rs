//! What a level asks of a player, in a form by which two levels are compared: its dead parts wherever they lie, and when every solution passes one
//! position.

use std::collections::BTreeSet;
use std::time::Duration;

use fendle_lang::Bound;
use fendle_lang::model::{Extent, Scalar};
use fendle_lang::reasons::dead::Fact;

use crate::budget::Budget;
use crate::explore::{How, explore};
use crate::load::{Loaded, Store};
use crate::making::figures::{Figures, structure_figures};
use crate::why::dead_parts;

/// Dead parts of a level that are compared, the most frequent ones.
const PARTS: usize = 6;
/// States of a level whose dead parts are looked for, and how long that may take.
const STATES: u64 = 60_000;
const TIME: Duration = Duration::from_secs(5);
/// Positions that every solution passes, from which on they are a pattern: the start and the end are always passed.
const PASSED: usize = 4;

/// One thing of a part: its row and column, and what it is.
pub type Thing = (i64, i64, String);

/// What a level asks of a player.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Asks {
    /// The parts that make a position dead, each with what lies around it, turned and moved into one form.
    pub dead_parts: BTreeSet<Vec<Thing>>,
    /// The moves after which every shortest solution passes one position, that of the end included.
    pub passed: Vec<u32>,
}

impl Asks {
    /// What two levels have in common, in a word each.
    #[must_use]
    pub fn in_common(&self, other: &Asks) -> Vec<&'static str> {
        let mut out = vec![];
        if !self.dead_parts.is_empty() && self.dead_parts == other.dead_parts {
            out.push("dead parts");
        }
        if self.passed.len() >= PASSED && self.passed == other.passed {
            out.push("must-pass pattern");
        }
        out
    }
}

/// Finds out what a level asks, and the figures of its structure.
#[must_use]
pub fn asks(store: &Store, level: &Loaded, states: u64, budget: &Budget) -> (Asks, Option<Figures>) {
    let own = budget.part(states, budget.left());
    let how = How { structure: Some(false), ..How::default() };
    let explored = explore(store, level, how, &own).ok();
    let count = explored.as_ref().map_or(u64::MAX, |a| a.found.counts.states);
    let parts = explored.and_then(|a| a.found.structure.map(|s| s.0)).and_then(Result::ok);
    let Some(parts) = parts else { return (Asks::default(), None) };
    let mut figures = Figures::new();
    structure_figures(&parts, &mut figures);
    let mut out = Asks { passed: parts.must_pass_depths.clone(), ..Asks::default() };
    if count <= STATES {
        let own = budget.part(STATES, TIME);
        if let Ok(answer) = dead_parts(store, level, (false, PARTS), &own)
            && answer.limit().is_none()
        {
            let b = &level.game.bound;
            let reasons = answer.found.parts.iter().filter(|p| p.part.is_reason());
            out.dead_parts = reasons.map(|p| in_one_form(&things(b, &p.part.facts))).collect();
        }
    }
    (out, Some(figures))
}

/// What facts say of cells, with the level's own things on these cells and around them; and what they say besides.
fn things(b: &Bound, facts: &[Fact]) -> (BTreeSet<Thing>, BTreeSet<String>) {
    let cols = b.cols.max(1) as i64;
    let (mut on, mut besides) = (BTreeSet::new(), BTreeSet::new());
    for fact in facts {
        let var = (0..b.slots.len()).find(|&v| {
            let slot = &b.slots[v];
            b.model.vars[v].state && (slot.base..slot.base + slot.len).contains(&fact.at)
        });
        let Some(var) = var else { continue };
        let def = &b.model.vars[var];
        let place = i64::from(fact.value);
        match (def.shape, def.dom.scalar()) {
            (Extent::Grid | Extent::Set, _) => {
                let cell = (fact.at - b.slots[var].base) as i64;
                on.insert((cell / cols, cell % cols, format!("{} = {}", def.name, fact.value)));
            }
            (_, Scalar::Cell) if place >= 0 => {
                on.insert((place / cols, place % cols, def.name.clone()));
            }
            _ => {
                besides.insert(format!("{} = {}", def.name, fact.value));
            }
        }
    }
    let cells: Vec<(i64, i64)> = on.iter().map(|t| (t.0, t.1)).collect();
    for (r, c) in cells {
        for (r, c) in (r - 1..=r + 1).flat_map(|r| (c - 1..=c + 1).map(move |c| (r, c))) {
            if r < 0 || c < 0 || r >= b.rows as i64 || c >= cols {
                on.insert((r, c, "rim".into()));
                continue;
            }
            for (def, slot) in b.model.vars.iter().zip(&b.slots) {
                let given = !def.state && matches!(def.shape, Extent::Grid | Extent::Set);
                let value = if given { b.data[slot.base + (r * cols + c) as usize] } else { 0 };
                if value != 0 {
                    on.insert((r, c, format!("{} = {value}", def.name)));
                }
            }
        }
    }
    (on, besides)
}

/// One form for all that are turned, mirrored or moved: the least of them.
#[must_use]
pub fn in_one_form((on, besides): &(BTreeSet<Thing>, BTreeSet<String>)) -> Vec<Thing> {
    let forms = (0..8).map(|turn| {
        let turned = on.iter().map(|(r, c, what)| {
            let (r, c) = if turn & 1 == 0 { (*r, *c) } else { (*c, *r) };
            let r = if turn & 2 == 0 { r } else { -r };
            let c = if turn & 4 == 0 { c } else { -c };
            (r, c, what.clone())
        });
        let mut list: Vec<Thing> = turned.collect();
        let (top, first) = (list.iter().map(|t| t.0).min(), list.iter().map(|t| t.1).min());
        for thing in &mut list {
            thing.0 -= top.unwrap_or(0);
            thing.1 -= first.unwrap_or(0);
        }
        list.sort();
        list
    });
    let mut out = forms.min().unwrap_or_default();
    out.extend(besides.iter().map(|what| (-1, -1, what.clone())));
    out
}
