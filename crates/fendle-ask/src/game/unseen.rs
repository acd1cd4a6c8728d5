//! What a running game tells the player beside what is hidden: it is what the model tells, and it is the same in two positions that the player
//! cannot tell apart.

use fendle_lang::Bound;
use fendle_lang::play::{Tried, merged, step};
use fendle_lang::run::scatter::another_layout;
use fendle_lang::run::setup::Dice;
use fendle_lang::run::{Eval, RunFault};
use serde_json::{Value, json};

use super::lockstep::{Lockstep, Step, moves_of};
use super::{Call, Told, read, rows_of};

/// Positions that are compared with others that look the same.
const POSITIONS: u32 = 300;
/// Layouts that one position is compared with.
const LAYOUTS: usize = 3;
/// Layouts that are tried for them.
const TRIES: usize = 60;

/// Positions that may still be compared.
#[derive(Debug)]
pub(super) struct Left(u32);

impl Default for Left {
    fn default() -> Left {
        Left(POSITIONS)
    }
}

impl Lockstep<'_> {
    /// Compares what the player is told in a position that the game stands in.
    pub(super) fn unseen(
        &mut self,
        (told, runs): (&Told, bool),
        state: &[i32],
        way: &[Step],
    ) -> Result<(), RunFault> {
        let b = &self.level.game.bound;
        if !b.model.hides() {
            return Ok(());
        }
        let theirs: Option<Value> = told.told.as_ref().and_then(|t| serde_json::from_str(t.get()).ok());
        if let Some(words) = theirs.as_ref().and_then(|t| self.told_apart(b, t, state)) {
            self.differs("told", words, way, None, (state, Some(state), told.position()));
            return Ok(());
        }
        if !self.about.places || self.unseen.0 == 0 {
            return Ok(());
        }
        self.unseen.0 -= 1;
        // What the model allows does not depend on what is hidden, so the game's list must not either.
        let asks = self.about.tells_allowed && runs;
        let here = if asks { self.list_at(state, way) } else { None };
        for other in self.twins(state, way)? {
            let Ok(text) = self.go_to(&other, way) else { return Ok(()) };
            let Ok(there) = read::<Told>("place", &text) else { return Ok(()) };
            if let Some(words) = self.apart(&there, &other) {
                let words = format!("it cannot be put into {}: {words}", b.line(&other));
                self.differs("board", words, way, None, (state, None, there.position()));
                return Ok(());
            }
            self.found.layouts += 1;
            let seen: Option<Value> = there.told.as_ref().and_then(|t| serde_json::from_str(t.get()).ok());
            let words = if seen == theirs {
                let list = if asks { self.list_at(&other, way) } else { None };
                (list != here).then(|| "other moves are allowed".to_string())
            } else {
                let text = |v: &Option<Value>| v.as_ref().map_or("nothing".into(), ToString::to_string);
                Some(format!("the game tells {} here, and {} there", text(&theirs), text(&seen)))
            };
            if let Some(words) = words {
                let words = format!(
                    "the player cannot tell this position from `{}`, and {words}: what is told depends on what is hidden",
                    b.line(&other)
                );
                self.differs("hidden", words, way, None, (state, None, None));
                return Ok(());
            }
        }
        Ok(())
    }

    /// Positions with another layout that a player who made these moves cannot tell from this one: all that was seen on the way is the same.
    fn twins(&self, state: &[i32], way: &[Step]) -> Result<Vec<Vec<i32>>, RunFault> {
        let b = &self.level.game.bound;
        let mut dice = Dice::new(u64::from(self.unseen.0));
        let mut out: Vec<Vec<i32>> = vec![];
        for _ in 0..TRIES {
            let Some(start) = another_layout(b, &b.position, &mut dice)? else { continue };
            if !looks_same(b, &b.position, &start)? {
                continue;
            }
            let (mut here, mut there) = (b.position.clone(), start);
            let mut same = true;
            for Step { number, .. } in way {
                let made = |state: &[i32]| -> Result<Option<Vec<i32>>, RunFault> {
                    Ok(match step(b, &self.level.moves, state, *number as usize, false)? {
                        Tried::Made(list) => match merged(list).as_slice() {
                            [one] => Some(one.made.state.clone()),
                            // Which one was drawn is not looked for.
                            _ => None,
                        },
                        _ => None,
                    })
                };
                let (Some(a), Some(z)) = (made(&here)?, made(&there)?) else {
                    same = false;
                    break;
                };
                (here, there) = (a, z);
                same = looks_same(b, &here, &there)?;
                if !same {
                    break;
                }
            }
            if same && here == state && there != state && !out.contains(&there) {
                out.push(there);
                if out.len() == LAYOUTS {
                    break;
                }
            }
        }
        Ok(out)
    }

    /// What the game lists as allowed in a position, in order.
    fn list_at(&mut self, state: &[i32], way: &[Step]) -> Option<Vec<String>> {
        self.go_to(state, way).ok()?;
        let list = self.one(&Call::new("allowed", &json!({}))).ok()?;
        let mut list: Vec<String> = moves_of(&list)?.into_iter().collect();
        list.sort();
        Some(list)
    }

    /// In what the values that are told differ from those of the model; what has no name of a `tell` is not compared.
    fn told_apart(&self, b: &Bound, theirs: &Value, state: &[i32]) -> Option<String> {
        for (t, (tell, values)) in b.model.tells.iter().zip(b.told(state)).enumerate() {
            let Some(told) = theirs.get(self.names.of_value(&tell.name)) else { continue };
            let ours: Vec<String> = values.iter().map(|v| b.told_text(t, *v)).collect();
            let text = |v: &Value| v.as_str().map_or_else(|| v.to_string(), String::from);
            let list: Vec<String> = match told {
                Value::Array(items) if items.iter().all(|i| i.is_array() || i.is_string()) => {
                    rows_of(told)?.into_iter().flatten().collect()
                }
                Value::Array(items) => items.iter().map(text).collect(),
                one => vec![text(one)],
            };
            if list.len() != ours.len() {
                return Some(format!(
                    "the game tells {} values of {}, and the model {}",
                    list.len(),
                    tell.name,
                    ours.len()
                ));
            }
            if let Some(at) = (0..ours.len()).find(|&i| list[i] != ours[i]) {
                let cols = b.cols;
                let place = match tell.over {
                    Some(_) if ours.len() == b.rows * b.cols => {
                        format!(" at r{}c{}", at / cols + 1, at % cols + 1)
                    }
                    Some(_) => format!(", value {}", at + 1),
                    None => String::new(),
                };
                return Some(format!(
                    "the game tells {} `{}`{place}, and the model `{}`",
                    tell.name, list[at], ours[at]
                ));
            }
        }
        None
    }
}

/// Whether two positions look the same to the player: all that is not hidden, what is told, and how play stands.
fn looks_same(b: &Bound, one: &[i32], other: &[i32]) -> Result<bool, RunFault> {
    let seen = b.model.vars.iter().zip(&b.slots).filter(|(v, _)| v.state && !v.hidden && !v.untold);
    for (_, slot) in seen {
        let part = slot.base..slot.base + slot.len;
        if one[part.clone()] != other[part] {
            return Ok(false);
        }
    }
    let mut eval = Eval::new(b);
    // A layout that breaks a law cannot be.
    let Ok(status) = eval.status(other) else { return Ok(false) };
    Ok(eval.status(one)? == status && eval.told(one)? == eval.told(other)?)
}
