//! Positions drawn as text: boards, then single values.

use super::read::is_joined;
use crate::model::*;
use crate::run::Eval;
use crate::state::{Bound, ending_text};

/// Lists by key with more characters than this are drawn as piles.
const PILED: usize = 60;

/// What stands on a board: rows of short texts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Picture {
    /// The drawing's or the grid's name.
    pub name: String,
    /// Row by row; all rows are equally long.
    pub rows: Vec<Vec<String>>,
    /// One glyph a cell, to be written without blanks between.
    pub joined: bool,
    /// Names of the columns, where it is no board but piles side by side.
    pub heads: Vec<String>,
    /// Every second row begins half a cell further to the right.
    pub shifted: bool,
}

impl Picture {
    fn new(b: &Bound, name: String, rows: Vec<Vec<String>>, joined: bool) -> Picture {
        Picture { name, rows, joined, heads: vec![], shifted: b.model.shifted }
    }
}

impl Drawn {
    /// What differs from another position of the level: what is the same, and boards with nothing on them, is left out, as long
    /// as something is left.
    #[must_use]
    pub fn against(&self, base: &Drawn) -> Drawn {
        let is_bare = |p: &Picture| {
            p.rows.iter().flatten().all(|t| matches!(t.as_str(), "." | "0" | "false" | "none" | "-"))
        };
        let mut pictures: Vec<Picture> =
            self.pictures.iter().filter(|p| !base.pictures.contains(p)).cloned().collect();
        if pictures.iter().any(|p| !is_bare(p)) {
            // A board that has become empty says something only if nothing else does.
            pictures.retain(|p| !is_bare(p) || base.pictures.iter().any(|q| q.name == p.name && !is_bare(q)));
        }
        let mut values: Vec<(String, String)> =
            self.values.iter().filter(|v| !base.values.contains(v)).cloned().collect();
        if pictures.is_empty() && values.is_empty() {
            pictures = self.pictures.iter().take(1).cloned().collect();
            if pictures.is_empty() {
                values.clone_from(&self.values);
            }
        }
        Drawn { pictures, values }
    }
}

/// A position as text: boards, then single values.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Drawn {
    /// The boards.
    pub pictures: Vec<Picture>,
    /// Other variables and their values.
    pub values: Vec<(String, String)>,
}

/// The glyph of a cell, and whether it says everything of it.
type Chosen = (Option<String>, bool);

impl Bound {
    /// Whether something that a variable holds stands on a cell: a cell, a placed shape, or one of several.
    #[must_use]
    pub fn stands_at(&self, var: VarId, state: &[i32], cell: usize) -> bool {
        self.standing(var, state, cell).is_some()
    }

    /// What of a variable stands on a cell: 0 for a single value, the number of the key of an array, that of a list's entry.
    /// Of several the first one.
    #[must_use]
    pub fn standing(&self, var: VarId, state: &[i32], cell: usize) -> Option<usize> {
        let def = &self.model.vars[var];
        if !self.slots[var].active {
            return None;
        }
        let values = self.values_of(var, state);
        let values = match def.shape {
            Extent::List(_) => values.get(1..=values[0].max(0) as usize)?,
            _ => values,
        };
        let on = |x: i64| match def.dom.scalar() {
            Scalar::Maybe(_) if x == NONE => false,
            Scalar::Placed(s) | Scalar::Maybe(Base::Placed(s)) => {
                let at = ((cell / self.cols) as i64, (cell % self.cols) as i64);
                self.covered(s, x).contains(&at)
            }
            _ => x == cell as i64,
        };
        values.iter().position(|&x| on(x.into()))
    }

    /// Whether a drawing can say everything about its variables: it does not say how a shape lies, nor which of several stands where.
    fn can_be_exact(&self, vars: &[VarId]) -> bool {
        !vars.iter().any(|&v| {
            let def = &self.model.vars[v];
            matches!(def.dom.scalar(), Scalar::Placed(_) | Scalar::Maybe(Base::Placed(_)))
                || matches!(def.shape, Extent::Array(_) | Extent::List(_))
        })
    }

    /// A drawing, and whether it says everything about its variables.
    pub(crate) fn draw_one(
        &self,
        state: &[i32],
        vars: &[VarId],
        rules: &[DrawRule],
        layered: bool,
    ) -> (Vec<Vec<String>>, bool) {
        let mut exact = self.can_be_exact(vars);
        let value_at = |var: VarId, cell: usize| -> i64 {
            match self.model.vars[var].shape {
                Extent::Grid | Extent::Set => self.values_of(var, state)[cell].into(),
                _ => i64::from(self.stands_at(var, state, cell)),
            }
        };
        let plain = |var: VarId| -> i64 {
            match self.model.vars[var].shape {
                Extent::Grid | Extent::Set => self.slots[var].plain(),
                _ => 0,
            }
        };
        let mut eval = Eval::new(self);
        let conditional = rules.iter().any(|r| r.when.is_some());
        if conditional {
            eval.look_often_at(state);
        }

        // The glyph for the values of a cell, and whether it says all of them. `at`: the value of a variable.
        let holds_at = |r: &DrawRule, at: &dyn Fn(VarId) -> i64| r.facts.iter().all(|f| at(f.var) == f.value);
        let whole_at = |r: &DrawRule, at: &dyn Fn(VarId) -> i64| {
            vars.iter().all(|&v| {
                let want = r.facts.iter().find(|f| f.var == v).map_or(plain(v), |f| f.value);
                at(v) == want
            })
        };
        let choose = |open: &[&DrawRule], at: &dyn Fn(VarId) -> i64| -> Chosen {
            let (holds, whole) = (|r: &DrawRule| holds_at(r, at), |r: &DrawRule| whole_at(r, at));
            let fitting = || open.iter().filter(|r| holds(r));
            let chosen = if layered {
                // What says nothing lies below everything.
                fitting().find(|r| !r.facts.is_empty() || r.when.is_some()).or_else(|| fitting().next())
            } else {
                // A glyph with a condition says more than one without.
                let said =
                    |conditional: bool| open.iter().find(|r| r.when.is_some() == conditional && whole(r));
                said(true)
                    .or_else(|| said(false))
                    .or_else(|| fitting().max_by_key(|r| r.facts.len() + usize::from(r.when.is_some())))
            };
            (chosen.map(|r| r.glyph.to_string()), chosen.is_some_and(|r| whole(r)))
        };
        let all: Vec<&DrawRule> = rules.iter().collect();
        // Where no glyph has a condition, cells with the same values look the same.
        let mut met: Vec<(Vec<i64>, Chosen)> = vec![];
        let mut values: Vec<i64> = vec![0; vars.len()];
        let mut rows = vec![];
        for r in 0..self.rows {
            let mut row = Vec::with_capacity(self.cols);
            for c in 0..self.cols {
                let cell = r * self.cols + c;
                values.iter_mut().zip(vars).for_each(|(value, &v)| *value = value_at(v, cell));
                let at = |var: VarId| match vars.iter().position(|&v| v == var) {
                    Some(i) => values[i],
                    None => value_at(var, cell),
                };
                let found = if conditional {
                    // The condition of a glyph is asked where the glyph would say something.
                    let open: Vec<&DrawRule> = (all.iter().copied())
                        .filter(|rule| holds_at(rule, &at) || whole_at(rule, &at))
                        .filter(|rule| rule.when.as_ref().is_none_or(|body| eval.holds_at(body, cell as i64)))
                        .collect();
                    choose(&open, &at)
                } else {
                    match met.iter().find(|m| m.0 == values) {
                        Some(m) => m.1.clone(),
                        None => {
                            let found = choose(&all, &at);
                            met.push((values.clone(), found.clone()));
                            found
                        }
                    }
                };
                exact &= found.1;
                row.push(found.0.unwrap_or_else(|| "?".to_string()));
            }
            rows.push(row);
        }
        (rows, exact)
    }

    /// Drawings that are not layered, and for each the first cell on which more stands than any of its glyphs says.
    #[must_use]
    pub fn hidden_by_drawings(&self, state: &[i32]) -> Vec<(String, usize)> {
        let mut out = vec![];
        for show in &self.model.shows {
            let Show::Drawing { name, vars, rules, layered: false, .. } = show else { continue };
            if rules.iter().any(|r| r.when.is_some()) {
                continue;
            }
            let there = |v: VarId, cell: usize| match self.model.vars[v].shape {
                Extent::Grid | Extent::Set => {
                    i64::from(self.values_of(v, state)[cell]) != self.slots[v].plain()
                }
                _ => self.stands_at(v, state, cell),
            };
            let says = |r: &DrawRule, v: VarId| r.facts.iter().any(|f| f.var == v);
            let shown = |cell: usize| {
                let here: Vec<VarId> = vars.iter().copied().filter(|v| there(*v, cell)).collect();
                rules.iter().any(|r| here.iter().all(|v| says(r, *v)))
            };
            out.extend((0..self.cells()).find(|c| !shown(*c)).map(|c| (name.clone(), c)));
        }
        out
    }

    /// The cells of a derived set, by the number of its function; `None` where it is none, or breaks.
    #[must_use]
    pub fn derived_set(&self, state: &[i32], function: FnId) -> Option<Vec<bool>> {
        let def = &self.model.fns[function];
        if def.body.ty != Ty::Set {
            return None;
        }
        let mut eval = Eval::new(self);
        eval.look_at(state);
        eval.set_of(&Body { expr: def.body.clone(), locals: def.locals.clone() }).ok()
    }

    /// The same as a board.
    pub(crate) fn derived_rows(&self, state: &[i32], function: FnId) -> Option<Vec<Vec<String>>> {
        let cells = self.derived_set(state, function)?;
        let row = |r: &[bool]| r.iter().map(|x| if *x { "x" } else { "." }.to_string()).collect();
        Some(cells.chunks(self.cols.max(1)).map(row).collect())
    }

    /// What follows from a state, for people: sets as boards, single values as words.
    fn draw_derived(&self, state: &[i32], as_player: bool, drawn: &mut Drawn) {
        let model = &self.model;
        let hidden = |v: VarId| model.vars[v].hidden || model.vars[v].untold;
        for (name, f) in &model.derived {
            let def = &model.fns[*f];
            let in_drawing = model.drawn_conditions().any(|w| model.calls(&w.expr).contains(f));
            let number = model.derived.iter().position(|d| d.1 == *f).unwrap_or(0);
            let silent = model.look(Drawee::Derived(number), 1, false).is_some_and(|l| l.is_nothing());
            if in_drawing || silent || as_player && model.reads(&def.body).into_iter().any(hidden) {
                continue;
            }
            let body = Body { expr: def.body.clone(), locals: def.locals.clone() };
            if let Some(rows) = self.derived_rows(state, *f) {
                drawn.pictures.push(Picture::new(self, name.clone(), rows, true));
            } else if let Some(scalar) = def.body.ty.scalar()
                && let Ok(value) = Eval::new(self).value_in(&body, state)
            {
                drawn.values.push((name.clone(), self.scalar_text(scalar, value, false)));
            }
        }
    }

    pub(crate) fn grid_picture(&self, var: VarId, state: &[i32]) -> Picture {
        let def = &self.model.vars[var];
        let joined = is_joined(&self.model, var);
        let values = self.values_of(var, state);
        let rows = values
            .chunks(self.cols.max(1))
            .map(|row| row.iter().map(|&v| self.value_text(var, v.into())).collect())
            .collect();
        Picture::new(self, def.name.clone(), rows, joined)
    }

    pub(crate) fn draw_with(&self, state: &[i32], exact_only: bool) -> Drawn {
        let model = &self.model;
        let mut covered = vec![false; model.vars.len()];
        let mut pictures = vec![];
        for show in &model.shows {
            if let Show::Drawing { name, vars, rules, layered, .. } = show {
                if exact_only && !self.can_be_exact(vars) {
                    continue;
                }
                let (rows, exact) = self.draw_one(state, vars, rules, *layered);
                if exact || !exact_only {
                    vars.iter().for_each(|&v| covered[v] = true);
                    pictures.push(Picture::new(self, name.clone(), rows, true));
                }
            }
        }
        let mut values = vec![];
        for (v, def) in model.variables() {
            if covered[v] || !def.state || !self.slots[v].active || def.shadow_of.is_some() {
                continue;
            }
            if def.clock && self.values_of(v, state)[0] == 0 && !exact_only {
                continue;
            }
            if self.slots[v].len == 0 {
                // No key, no value.
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
                Extent::Array(Keyed::Pair(p)) => {
                    let (first, second) = model.pairs[p];
                    let all = self.values_of(v, state).chunks(self.keys_len(second).max(1));
                    let joined = second == Keyed::Cell && is_joined(model, v);
                    let word = |x: &i32| self.value_text(v, (*x).into());
                    let mut text = vec![];
                    for (key, values) in self.key_names(first).iter().zip(all) {
                        if second == Keyed::Cell && !exact_only {
                            let rows = values.chunks(self.cols.max(1)).map(|r| r.iter().map(word).collect());
                            let name = format!("{} {key}", def.name);
                            pictures.push(Picture::new(self, name, rows.collect(), joined));
                            continue;
                        }
                        let width =
                            if second == Keyed::Cell { self.cols.max(1) } else { values.len().max(1) };
                        let row = |r: &[i32]| {
                            r.iter().map(word).collect::<Vec<_>>().join(if joined { "" } else { " " })
                        };
                        text.push(format!(
                            "{key}: {}",
                            values.chunks(width).map(row).collect::<Vec<_>>().join("/")
                        ));
                    }
                    if !text.is_empty() {
                        values.push((def.name.clone(), text.join(", ")));
                    }
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

    /// Lists by key as piles side by side, where they are too long for a line; the last entry lies on top and stands lowest.
    fn draw_piles(&self, state: &[i32], drawn: &mut Drawn) {
        let mut at = 0;
        for (v, def) in self.model.variables().filter(|(_, d)| d.state && d.shadow_of.is_none()) {
            let Extent::Lists(key, false) = def.shape else { continue };
            let Some(i) = drawn.values.iter().position(|(n, t)| *n == def.name && t.chars().count() > PILED)
            else {
                continue;
            };
            let names = self.key_names(key);
            let piles: Vec<Vec<String>> = self
                .values_of(v, state)
                .chunks(self.slots[v].cap + 1)
                .map(|l| {
                    l[1..=l[0].max(0) as usize].iter().map(|x| self.value_text(v, (*x).into())).collect()
                })
                .collect();
            let tall = piles.iter().map(Vec::len).max().unwrap_or(0);
            let row = |r: usize| piles.iter().map(|p| p.get(r).cloned().unwrap_or_default()).collect();
            let rows = (0..tall).map(row).collect();
            drawn.values.remove(i);
            let heads = names.iter().map(|n| format!("{} {n}", def.name)).collect();
            let picture = Picture { name: def.name.clone(), rows, joined: false, heads, shifted: false };
            drawn.pictures.insert(at, picture);
            at += 1;
        }
    }

    /// Cells and placed shapes of arrays and lists that stand in no drawing, as a board: each by the first letter of its key.
    fn draw_standing(&self, state: &[i32], drawn: &mut Drawn) {
        let model = &self.model;
        if self.cells() == 0 {
            return;
        }
        for (v, def) in model.variables() {
            let several = matches!(def.shape, Extent::Array(_) | Extent::List(_));
            let single = def.shape == Extent::One
                && matches!(def.dom.scalar(), Scalar::Placed(_) | Scalar::Maybe(Base::Placed(_)));
            let shown =
                model.shows.iter().any(|s| matches!(s, Show::Drawing { vars, .. } if vars.contains(&v)))
                    || model.drawn_conditions().any(|w| model.reads(&w.expr).contains(&v))
                    || model.look(Drawee::Var(v), 1, false).is_some_and(|l| l.is_nothing());
            if !(several || single)
                || !crate::check::stands(def.dom.scalar())
                || !def.state
                || !self.slots[v].active
                || def.shadow_of.is_some()
                || shown
            {
                continue;
            }
            let glyphs = self.standing_glyphs(v);
            let at = |cell: usize| {
                self.standing(v, state, cell).map_or(".".to_string(), |k| glyphs[k].to_string())
            };
            let rows: Vec<Vec<String>> =
                (0..self.rows).map(|r| (0..self.cols).map(|c| at(r * self.cols + c)).collect()).collect();
            drawn.pictures.push(Picture::new(self, def.name.clone(), rows, true));
        }
    }

    /// The name of each thing of an array or list: its key, or its number.
    #[must_use]
    pub fn standing_names(&self, var: VarId) -> Vec<String> {
        match self.model.vars[var].shape {
            Extent::Array(key) => self.key_names(key),
            Extent::List(_) => (1..=self.slots[var].cap).map(|k| k.to_string()).collect(),
            _ => vec![String::new()],
        }
    }

    /// One sign for each thing of an array or list that stands on cells: the first letter of its key where those differ,
    /// else numbers and letters in their order.
    pub(crate) fn standing_glyphs(&self, var: VarId) -> Vec<char> {
        let def = &self.model.vars[var];
        let count = match def.shape {
            Extent::Array(_) => self.slots[var].len,
            Extent::List(_) => self.slots[var].cap,
            _ => return vec!['x'],
        };
        if let Extent::Array(key) = def.shape {
            let firsts: Vec<char> = self.key_names(key).iter().filter_map(|k| k.chars().next()).collect();
            let single = self.key_names(key).iter().all(|k| k.chars().count() == 1)
                || firsts.iter().all(|c| c.is_alphabetic());
            let mut unlike = firsts.clone();
            unlike.sort_unstable();
            unlike.dedup();
            if single && unlike.len() == count {
                return firsts;
            }
        }
        ('1'..='9').chain('a'..='z').chain('A'..='Z').chain(std::iter::repeat('*')).take(count).collect()
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
            if matches!(def.shape, Extent::List(_) | Extent::Lists(..)) {
                shown[slot.base..slot.base + slot.len].iter_mut().step_by(slot.cap + 1).for_each(|n| *n = 0);
            }
        }
        let mut drawn = self.draw_with(&shown, false);
        self.draw_standing(&shown, &mut drawn);
        self.draw_derived(state, true, &mut drawn);
        let opened: Vec<VarId> = model.tells.iter().filter_map(TellDef::opened).collect();
        // What the told boards say anyway, and what is hidden, is left out.
        let silent = |v: VarId| model.vars[v].hidden || model.vars[v].untold || opened.contains(&v);
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
        // How long a hidden list is, is seen.
        for (def, slot) in
            model.vars.iter().zip(&self.slots).filter(|(d, s)| d.shuffled.is_some() && s.active)
        {
            let text = match state[slot.base] {
                0 => "empty".into(),
                n => vec!["~"; n as usize].join(" "),
            };
            drawn.values.push((def.name.clone(), text));
        }
        for (t, (tell, values)) in model.tells.iter().zip(self.told(state)).enumerate() {
            if matches!(tell.over, Some((_, Range::Board))) {
                let rows = values
                    .chunks(self.cols.max(1))
                    .map(|row| row.iter().map(|v| self.told_text(t, *v)).collect())
                    .collect();
                drawn.pictures.push(Picture::new(self, tell.name.clone(), rows, false));
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
            false => {
                let mut drawn = self.draw_with(state, false);
                self.draw_piles(state, &mut drawn);
                self.draw_standing(state, &mut drawn);
                self.draw_derived(state, false, &mut drawn);
                drawn
            }
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
