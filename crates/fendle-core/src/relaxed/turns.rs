//! Boards that are the same when they are turned or mirrored: of positions that only differ so, a search needs one.

use std::collections::HashMap;

use super::Task;

/// One way to turn or mirror a puzzle, which leads from ways to ways and from goals to goals: so a position and the turned one
/// are equally far from a goal.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Turn {
    /// For each place the one that it becomes.
    pub to: Vec<u32>,
    /// For each place, and each value that it can hold, in their order, what that value is called in the place that it becomes.
    /// Empty for places with one value.
    pub values: Vec<Vec<i32>>,
    /// For each way the one that becomes it.
    pub back: Vec<u32>,
}

/// What a way asks for, what it changes, and what it counts.
type Outline = (Vec<(u32, i32)>, Vec<(u32, i32, i32)>, u32);

impl Turn {
    /// The turn that leads each fact, a place and what it holds, to the one that `fact` gives. `None` where that is no turn, or
    /// where the puzzle is another one afterwards. O(ways).
    #[must_use]
    pub fn of(task: &Task, fact: &dyn Fn(u32, i32) -> Option<(u32, i32)>) -> Option<Turn> {
        let mut to: Vec<u32> = (0..task.values.len() as u32).collect();
        let mut values: Vec<Vec<i32>> = vec![vec![]; to.len()];
        let mut taken = vec![false; to.len()];
        for (place, can) in task.values.iter().enumerate().filter(|v| v.1.len() > 1) {
            let turned: Vec<(u32, i32)> =
                can.iter().map(|v| fact(place as u32, *v)).collect::<Option<_>>()?;
            let there = turned[0].0;
            if turned.iter().any(|t| t.0 != there) || std::mem::replace(&mut taken[there as usize], true) {
                return None;
            }
            let mut names: Vec<i32> = turned.iter().map(|t| t.1).collect();
            values[place] = names.clone();
            names.sort_unstable();
            if names != task.values[there as usize] {
                return None;
            }
            to[place] = there;
        }
        let mut turn = Turn { to, values, back: vec![0; task.ways.len()] };
        let mut numbers: HashMap<Outline, Vec<u32>> = HashMap::new();
        for (number, way) in task.ways.iter().enumerate() {
            let mut shape = (way.reads.clone(), way.changes.clone(), way.count);
            shape.0.sort_unstable();
            shape.1.sort_unstable();
            numbers.entry(shape).or_default().push(number as u32);
        }
        for (number, way) in task.ways.iter().enumerate() {
            let mut reads: Vec<(u32, i32)> = way.reads.iter().map(|r| turn.fact(task, *r)).collect();
            let mut changes: Vec<(u32, i32, i32)> = (way.changes.iter())
                .map(|&(p, from, to)| {
                    (turn.to[p as usize], turn.fact(task, (p, from)).1, turn.fact(task, (p, to)).1)
                })
                .collect();
            reads.sort_unstable();
            changes.sort_unstable();
            let becomes = numbers.get_mut(&(reads, changes, way.count))?.pop()?;
            turn.back[becomes as usize] = number as u32;
        }
        let sorted = |mut goal: Vec<(u32, i32)>| {
            goal.sort_unstable();
            goal
        };
        let mut goals: Vec<_> = task.goals.iter().map(|g| sorted(g.clone())).collect();
        let mut turned: Vec<_> =
            (task.goals.iter()).map(|g| sorted(g.iter().map(|f| turn.fact(task, *f)).collect())).collect();
        goals.sort_unstable();
        turned.sort_unstable();
        (goals == turned).then_some(turn)
    }

    /// What a fact becomes.
    fn fact(&self, task: &Task, (place, value): (u32, i32)) -> (u32, i32) {
        let names = &self.values[place as usize];
        let known = task.values[place as usize].binary_search(&value).ok();
        (self.to[place as usize], known.and_then(|i| names.get(i).copied()).unwrap_or(value))
    }

    /// The turned position.
    #[must_use]
    pub fn position(&self, task: &Task, values: &[i32]) -> Vec<i32> {
        let mut out = values.to_vec();
        for (place, value) in values.iter().enumerate().filter(|v| task.values[v.0].len() > 1) {
            let (there, name) = self.fact(task, (place as u32, *value));
            out[there as usize] = name;
        }
        out
    }
}
