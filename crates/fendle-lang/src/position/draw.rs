//! Positions drawn as text: boards, then single values.

use super::read::is_joined;
use crate::model::*;
use crate::state::{Bound, ending_text};

/// What stands on a board: rows of short texts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Picture {
    /// The drawing's or the grid's name.
    pub name: String,
    /// Row by row; all rows are equally long.
    pub rows: Vec<Vec<String>>,
    /// One glyph a cell, to be written without blanks between.
    pub joined: bool,
}

/// A position as text: boards, then single values.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Drawn {
    /// The boards.
    pub pictures: Vec<Picture>,
    /// Other variables and their values.
    pub values: Vec<(String, String)>,
}

impl Bound {
    /// A drawing, and whether it says everything about its variables.
    pub(crate) fn draw_one(
        &self,
        state: &[i32],
        vars: &[usize],
        rules: &[(char, Vec<Fact>)],
    ) -> (Vec<Vec<String>>, bool) {
        let mut exact = true;
        if vars.iter().any(|&v| matches!(self.model.vars[v].dom, Dom::Placed(_))) {
            // A drawing does not say how a shape lies.
            exact = false;
        }
        let value_at = |var: usize, cell: usize| -> i64 {
            let values = self.values_of(var, state);
            if let Dom::Placed(s) = self.model.vars[var].dom {
                let at = ((cell / self.cols) as i64, (cell % self.cols) as i64);
                return i64::from(self.slots[var].active && self.covered(s, values[0].into()).contains(&at));
            }
            if self.model.vars[var].shape == Extent::One {
                i64::from(values[0] as usize == cell)
            } else {
                values[cell].into()
            }
        };
        let plain = |var: usize| -> i64 {
            if self.model.vars[var].shape == Extent::One { 0 } else { self.slots[var].lo.max(0) }
        };
        let rows = (0..self.rows)
            .map(|r| {
                (0..self.cols)
                    .map(|c| {
                        let cell = r * self.cols + c;
                        let holds = |facts: &[Fact]| facts.iter().all(|f| value_at(f.var, cell) == f.value);
                        let whole = |facts: &[Fact]| {
                            vars.iter().all(|&v| {
                                let want = facts.iter().find(|f| f.var == v).map_or(plain(v), |f| f.value);
                                value_at(v, cell) == want
                            })
                        };
                        if let Some((g, _)) = rules.iter().find(|(_, f)| whole(f)) {
                            return g.to_string();
                        }
                        exact = false;
                        rules
                            .iter()
                            .filter(|(_, f)| holds(f))
                            .max_by_key(|(_, f)| f.len())
                            .map_or("?".to_string(), |(g, _)| g.to_string())
                    })
                    .collect()
            })
            .collect();
        (rows, exact)
    }

    pub(crate) fn grid_picture(&self, var: usize, state: &[i32]) -> Picture {
        let def = &self.model.vars[var];
        let joined = is_joined(&self.model, var);
        let values = self.values_of(var, state);
        let rows = values
            .chunks(self.cols.max(1))
            .map(|row| row.iter().map(|&v| self.value_text(var, v.into())).collect())
            .collect();
        Picture { name: def.name.clone(), rows, joined }
    }

    pub(crate) fn draw_with(&self, state: &[i32], exact_only: bool) -> Drawn {
        let model = &self.model;
        let mut covered = vec![false; model.vars.len()];
        let mut pictures = vec![];
        for show in &model.shows {
            if let Show::Drawing { name, vars, rules, .. } = show {
                let (rows, exact) = self.draw_one(state, vars, rules);
                if exact || !exact_only {
                    vars.iter().for_each(|&v| covered[v] = true);
                    pictures.push(Picture { name: name.clone(), rows, joined: true });
                }
            }
        }
        let mut values = vec![];
        for (v, def) in model.vars.iter().enumerate() {
            if covered[v] || !def.state || !self.slots[v].active || def.shadow_of.is_some() {
                continue;
            }
            if def.clock && self.values_of(v, state)[0] == 0 && !exact_only {
                continue;
            }
            match def.shape {
                Extent::Grid | Extent::Set => pictures.push(self.grid_picture(v, state)),
                Extent::List(_) => {
                    values.push((def.name.clone(), self.list_text(v, self.values_of(v, state))));
                }
                Extent::Lists(key, _) => {
                    let lists = self.values_of(v, state).chunks(self.slots[v].cap + 1);
                    let text: Vec<String> = self
                        .key_names(key)
                        .iter()
                        .zip(lists)
                        .map(|(k, list)| format!("{k}: {}", self.list_text(v, list)))
                        .collect();
                    values.push((def.name.clone(), text.join(", ")));
                }
                Extent::One => {
                    values.push((def.name.clone(), self.value_text(v, self.values_of(v, state)[0].into())));
                }
                Extent::Array(e) => {
                    let keys = self.key_names(e);
                    let text: Vec<String> = keys
                        .iter()
                        .zip(self.values_of(v, state))
                        .map(|(k, &x)| {
                            format!("{k}: {}", self.scalar_text(def.dom.scalar(), x.into(), false))
                        })
                        .collect();
                    values.push((def.name.clone(), text.join(", ")));
                }
            }
        }
        let ended = state[self.ended_at()];
        if ended != 0 {
            values.push(("ended".into(), ended.to_string()));
        }
        Drawn { pictures, values }
    }

    /// The position as the player sees it.
    pub(crate) fn draw_told(&self, state: &[i32]) -> Drawn {
        let model = &self.model;
        let mut shown = state.to_vec();
        for (def, slot) in model.vars.iter().zip(&self.slots).filter(|(d, _)| d.hidden || d.untold) {
            // What is hidden is drawn as if nothing were there.
            if def.rearranged.is_none() {
                shown[slot.base..slot.base + slot.len].fill(slot.pad() as i32);
            }
        }
        let mut drawn = self.draw_with(&shown, false);
        let opened: Vec<usize> = model.tells.iter().filter_map(TellDef::opened).collect();
        // What the told boards say anyway, and what is hidden, is left out.
        let silent = |v: usize| model.vars[v].hidden || model.vars[v].untold || opened.contains(&v);
        let keep = |name: &str| {
            let show = model.shows.iter().find_map(|s| match s {
                Show::Drawing { name: n, vars, .. } if n == name => Some(vars),
                _ => None,
            });
            match show {
                Some(vars) => !vars.iter().all(|&v| silent(v)),
                None => model.var(name).is_none_or(|v| !silent(v)),
            }
        };
        drawn.pictures.retain(|p| keep(&p.name));
        drawn.values.retain(|(name, _)| keep(name));
        for (t, (tell, values)) in model.tells.iter().zip(self.told(state)).enumerate() {
            if matches!(tell.over, Some((_, Range::Board))) {
                let rows = values
                    .chunks(self.cols.max(1))
                    .map(|row| row.iter().map(|v| self.told_text(t, *v)).collect())
                    .collect();
                drawn.pictures.push(Picture { name: tell.name.clone(), rows, joined: false });
            } else {
                let text: Vec<String> = values.iter().map(|v| self.told_text(t, *v)).collect();
                drawn.values.push((tell.name.clone(), text.join(" ")));
            }
        }
        drawn
    }

    /// The position as boards and values, for people.
    #[must_use]
    pub fn draw(&self, state: &[i32]) -> Drawn {
        let mut drawn = match self.as_player || self.seen.iter().any(Option::is_some) {
            true => self.draw_told(state),
            false => self.draw_with(state, false),
        };
        for (name, value) in &mut drawn.values {
            if name == "ended" {
                let number = state[self.ended_at()] as usize - 1;
                *value = self.model.endings.get(number).map_or("set aside".into(), ending_text);
            }
        }
        drawn
    }
}
