//! What holds of a pack today, written down, so that a later run can say what a change of rules has changed.

use std::collections::BTreeMap;
use std::path::Path;

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use crate::answer::End;
use crate::audit::Audited;
use crate::budget::Budget;
use crate::explore::seen_whole;

/// States above which the space of a level is not counted: the verdict and the moves are facts enough.
const SPACE_STATES: u64 = 300_000;
/// Counts of spaces that are frozen.
const FROZEN: [&str; 10] =
    ["states", "transitions", "depth", "goal", "lost", "over", "stuck", "dead", "winnable", "fatal_moves"];

/// What holds of one level: facts by their names in JSON answers.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FrozenLevel {
    /// The file, as it lies beside this one.
    pub file: String,
    /// The level.
    pub level: String,
    /// Its facts.
    pub facts: BTreeMap<String, Value>,
}

/// What holds of a pack.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Frozen {
    /// The version of this form: 1.
    pub fendle_frozen: u32,
    /// The levels.
    pub levels: Vec<FrozenLevel>,
}

/// The facts of levels that were audited. What a limit kept from being decided is no fact. `folder`: where the file lies that holds them; paths
/// are told from there.
#[must_use]
pub fn facts(list: &[Audited], folder: &Path, budget: &Budget) -> Frozen {
    let levels = list.iter().map(|a| FrozenLevel {
        file: below(&a.file, folder),
        level: a.level.clone(),
        facts: facts_of(a, budget),
    });
    Frozen { fendle_frozen: 1, levels: levels.collect() }
}

fn below(path: &str, folder: &Path) -> String {
    let parts: Vec<_> =
        Path::new(path).strip_prefix(folder).unwrap_or(Path::new(path)).components().collect();
    // The same on every system.
    parts.iter().map(|p| p.as_os_str().to_string_lossy()).collect::<Vec<_>>().join("/")
}

fn facts_of(a: &Audited, budget: &Budget) -> BTreeMap<String, Value> {
    let mut out = BTreeMap::new();
    if a.verdict != "undecided" {
        out.insert("verdict".to_string(), json!(a.verdict));
    }
    if let Some(moves) = a.moves {
        out.insert("moves".into(), json!(moves));
    }
    let Some(level) = a.loaded.as_ref().filter(|l| !l.game.bound.model.hides() && a.fault.is_none()) else {
        return out;
    };
    if let Some(found) = seen_whole(&level.game, SPACE_STATES, budget) {
        let c = &found.counts;
        for (name, n) in c.named().into_iter().filter(|(name, _)| FROZEN.contains(name)) {
            out.insert(name.into(), json!(n));
        }
    }
    out
}

/// Reads what was written down.
///
/// # Errors
///
/// Words.
pub fn read(text: &str, name: &str) -> Result<Frozen, String> {
    let found: Frozen = serde_json::from_str(text)
        .map_err(|e| format!("{name} holds no frozen facts: {e}; --freeze writes them anew"))?;
    if found.fendle_frozen != 1 {
        return Err(format!(
            "{name} has version {} of frozen facts; version 1 can be read",
            found.fendle_frozen
        ));
    }
    Ok(found)
}

/// Says in each level what has changed since its facts were written down, and gives what is said of the pack: levels that are gone, or new.
pub fn compare(list: &mut [Audited], before: &Frozen, now: &Frozen) -> Vec<String> {
    let mut out = vec![];
    let same = |a: &&FrozenLevel, b: &FrozenLevel| a.file == b.file && a.level == b.level;
    for (audited, now) in list.iter_mut().zip(&now.levels) {
        let Some(before) = before.levels.iter().find(|b| same(b, now)) else {
            out.push(format!("{}, {}: not frozen yet", now.file, now.level));
            continue;
        };
        for (name, was) in &before.facts {
            match now.facts.get(name) {
                Some(is) if is == was => {}
                Some(is) => {
                    audited.differs.push(format!("frozen: {name} was {}, is {}", shown(was), shown(is)));
                    // What differs for sure outweighs what is not decided.
                    if matches!(audited.end, End::Yes | End::Undecided) {
                        audited.end = End::No;
                    }
                }
                None if audited.verdict == "unsolvable" && name == "moves" => {}
                None => {
                    audited
                        .differs
                        .push(format!("frozen: {name} was {}, and is not decided now", shown(was)));
                    if audited.end == End::Yes {
                        audited.end = End::Undecided;
                    }
                }
            }
        }
    }
    for gone in before.levels.iter().filter(|b| !now.levels.iter().any(|n| same(b, n))) {
        out.push(format!("{}, {}: frozen, and not in the pack any more", gone.file, gone.level));
    }
    out
}

fn shown(value: &Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), String::from)
}
