//! Whether two spaces have the same shape: the same states up to renaming, with the same statuses, starts and transitions.
//!
//! Colours are refined on both spaces together: two states keep the same colour while they look the same, then while what
//! leads into and out of them does (B. Weisfeiler, A. Lehman, 1968; J. Hopcroft's idea of refinement, 1971). Where the
//! colours end up different, so are the spaces. Where each colour has one state, they give the renaming, which is checked
//! edge by edge. Where several states share one, one of them is singled out and every partner tried, within a budget: past it
//! nothing is claimed.

use std::collections::HashMap;

use crate::limits::{Limit, Pace, Watch};
use crate::space::{Space, StateId};

/// What was found about two spaces.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Likeness {
    /// The same shape: a renaming was found and checked. For each state of the first space its partner in the second.
    Same(Vec<(StateId, StateId)>),
    /// Not the same: told apart by this.
    Different(Difference),
    /// Not told apart, and no renaming found within the budget.
    Unknown,
}

/// What tells two spaces apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Difference {
    /// How many states there are.
    States,
    /// How many transitions there are between distinct states.
    Edges,
    /// How many states of some status there are at some depth.
    Statuses,
    /// What leads into and out of the states, and of those around them.
    Neighbourhoods,
    /// Every renaming was tried.
    EveryRenaming,
}

/// A space as a plain graph.
struct Net {
    ids: Vec<StateId>,
    /// For each state its targets, with how many moves lead there.
    out: Vec<Vec<(u32, u32)>>,
    back: Vec<Vec<(u32, u32)>>,
    colours: Vec<u32>,
    edges: u64,
}

/// Status, depth, and whether it is a start.
type Sight = (u8, u32, bool);

impl Net {
    fn of(space: &Space, pace: &mut Pace<'_>) -> Result<(Net, Vec<Sight>), Limit> {
        let mut ids = vec![];
        let mut number = vec![u32::MAX; space.ids_len()];
        let mut looks = vec![];
        for depth in 0..space.levels_len() {
            for id in space.level(depth) {
                number[id.index()] = ids.len() as u32;
                looks.push((space.class(id) as u8, depth, space.starts().contains(&id)));
                ids.push(id);
                pace.step(8)?;
            }
        }
        let mut out = vec![vec![]; ids.len()];
        let mut back = vec![vec![]; ids.len()];
        let mut edges = 0;
        for depth in 0..space.levels_len() {
            space.each_edges(depth, |id, list| {
                let from = number[id.index()];
                let mut targets: Vec<u32> = list.iter().map(|e| number[e.to.index()]).collect();
                targets.sort_unstable();
                for group in targets.chunk_by(|a, b| a == b) {
                    edges += 1;
                    out[from as usize].push((group[0], group.len() as u32));
                    back[group[0] as usize].push((from, group.len() as u32));
                }
            });
            pace.step(8 * space.level_len(depth))?;
        }
        Ok((Net { colours: vec![0; ids.len()], ids, out, back, edges }, looks))
    }

    fn has(&self, from: u32, to: u32, times: u32) -> bool {
        self.out[from as usize].binary_search(&(to, times)).is_ok()
    }
}

/// A colour, and those around it with how often.
type Surroundings = (u32, Vec<(u32, u32)>, Vec<(u32, u32)>);

struct Pair<'w> {
    pace: Pace<'w>,
    a: Net,
    b: Net,
    /// Edges looked at that are left.
    budget: u64,
}

enum Refined {
    Different,
    Stable,
    Spent,
}

impl Pair<'_> {
    /// Refines the colours of both until nothing changes.
    fn refine(&mut self) -> Result<Refined, Limit> {
        let mut count = distinct(&self.a.colours);
        loop {
            let work = 2 * (self.a.edges + self.b.edges) + self.a.ids.len() as u64;
            if self.budget < work {
                return Ok(Refined::Spent);
            }
            self.budget -= work;
            let mut names: HashMap<Surroundings, u32> = HashMap::new();
            let pace = &mut self.pace;
            let mut recolour = |net: &Net| -> Result<Vec<u32>, Limit> {
                let around = |list: &[(u32, u32)]| {
                    let mut out: Vec<(u32, u32)> =
                        list.iter().map(|(s, n)| (net.colours[*s as usize], *n)).collect();
                    out.sort_unstable();
                    out
                };
                (0..net.ids.len())
                    .map(|i| {
                        let look = (net.colours[i], around(&net.out[i]), around(&net.back[i]));
                        let next = names.len() as u32;
                        pace.step(16)?;
                        Ok(*names.entry(look).or_insert(next))
                    })
                    .collect()
            };
            let (a, b) = (recolour(&self.a)?, recolour(&self.b)?);
            (self.a.colours, self.b.colours) = (a, b);
            if !self.same_counts() {
                return Ok(Refined::Different);
            }
            let now = distinct(&self.a.colours);
            if now == count {
                return Ok(Refined::Stable);
            }
            count = now;
        }
    }

    fn same_counts(&self) -> bool {
        let counts = |net: &Net| {
            let mut out: HashMap<u32, u32> = HashMap::new();
            for c in &net.colours {
                *out.entry(*c).or_default() += 1;
            }
            out
        };
        counts(&self.a) == counts(&self.b)
    }

    /// Looks for a renaming.
    fn rename(&mut self) -> Result<Renamed, Limit> {
        match self.refine()? {
            Refined::Different => return Ok(Renamed::Never),
            Refined::Spent => return Ok(Renamed::Spent),
            Refined::Stable => {}
        }
        let mut first: HashMap<u32, u32> = HashMap::new();
        let mut shared = None;
        for (i, c) in self.a.colours.iter().enumerate() {
            if first.insert(*c, i as u32).is_some() {
                shared = shared.or(Some(*c));
            }
        }
        let Some(shared) = shared else {
            // Each colour has one state on both sides: the only renaming there can be.
            let partner: Vec<u32> = {
                let mut by_colour: HashMap<u32, u32> = HashMap::new();
                by_colour.extend(self.b.colours.iter().enumerate().map(|(j, c)| (*c, j as u32)));
                self.a.colours.iter().map(|c| by_colour[c]).collect()
            };
            let fits = (0..self.a.ids.len()).all(|i| {
                let out = &self.a.out[i];
                out.len() == self.b.out[partner[i] as usize].len()
                    && out.iter().all(|(t, n)| self.b.has(partner[i], partner[*t as usize], *n))
            });
            let pairs = partner.iter().enumerate().map(|(i, j)| (self.a.ids[i], self.b.ids[*j as usize]));
            return Ok(if fits { Renamed::By(pairs.collect()) } else { Renamed::Never });
        };
        let one = self.a.colours.iter().position(|c| *c == shared).expect("a state of a shared colour");
        let fresh = u32::MAX;
        let partners: Vec<usize> = (0..self.b.ids.len()).filter(|j| self.b.colours[*j] == shared).collect();
        let (was_a, was_b) = (self.a.colours.clone(), self.b.colours.clone());
        for j in partners {
            self.a.colours[one] = fresh;
            self.b.colours[j] = fresh;
            let found = self.rename()?;
            if !matches!(found, Renamed::Never) {
                return Ok(found);
            }
            self.a.colours.clone_from(&was_a);
            self.b.colours.clone_from(&was_b);
        }
        Ok(Renamed::Never)
    }
}

/// What looking for a renaming gave.
enum Renamed {
    By(Vec<(StateId, StateId)>),
    /// There is none.
    Never,
    /// The budget is spent.
    Spent,
}

fn distinct(colours: &[u32]) -> usize {
    let mut list = colours.to_vec();
    list.sort_unstable();
    list.dedup();
    list.len()
}

/// Compares the shapes of two spaces. `budget`: edges that may be looked at, over all rounds.
///
/// # Errors
///
/// The [`Limit`] that the watch names: nothing is claimed then.
pub fn likeness(a: &Space, b: &Space, budget: u64, watch: &dyn Watch) -> Result<Likeness, Limit> {
    let mut pace = Pace::new(watch);
    if a.states_len() != b.states_len() {
        return Ok(Likeness::Different(Difference::States));
    }
    let ((mut first, looks_a), (mut second, looks_b)) = (Net::of(a, &mut pace)?, Net::of(b, &mut pace)?);
    if first.edges != second.edges {
        return Ok(Likeness::Different(Difference::Edges));
    }
    let mut names: HashMap<Sight, u32> = HashMap::new();
    let mut colour = |looks: &[Sight]| -> Vec<u32> {
        looks
            .iter()
            .map(|l| {
                let next = names.len() as u32;
                *names.entry(*l).or_insert(next)
            })
            .collect()
    };
    (first.colours, second.colours) = (colour(&looks_a), colour(&looks_b));
    let mut pair = Pair { pace, a: first, b: second, budget };
    if !pair.same_counts() {
        return Ok(Likeness::Different(Difference::Statuses));
    }
    match pair.refine()? {
        Refined::Different => return Ok(Likeness::Different(Difference::Neighbourhoods)),
        Refined::Spent => return Ok(Likeness::Unknown),
        Refined::Stable => {}
    }
    Ok(match pair.rename()? {
        Renamed::Spent => Likeness::Unknown,
        Renamed::Never => Likeness::Different(Difference::EveryRenaming),
        Renamed::By(pairs) => Likeness::Same(pairs),
    })
}
