//! Positions in one line, both ways.

use super::read::{Binder, Text, parse_cell, unknown_key};
use crate::model::*;
use crate::source::{Diagnostic, FileId, Span};
use crate::state::Bound;
use crate::syntax::level::{Key, Raw, RawKind};

impl Bound {
    /// A single value from its text.
    #[must_use]
    pub fn parse_scalar(&self, scalar: Scalar, text: &str) -> Option<i64> {
        match scalar {
            Scalar::Bool => match text {
                "true" | "x" => Some(1),
                "false" | "." => Some(0),
                _ => None,
            },
            Scalar::Int => text.parse().ok(),
            Scalar::Enum(e) => self.model.enums[e].values.iter().position(|v| v == text).map(|i| i as i64),
            Scalar::Dir => DIRS.iter().position(|d| *d == text).map(|i| i as i64),
            Scalar::Cell => parse_cell(text, self.rows, self.cols),
            Scalar::Maybe(_) if text == "none" => Some(NONE),
            Scalar::Maybe(base) => self.parse_scalar(base.scalar(), text),
            Scalar::Record(r) => {
                let parts = &self.model.records[r].parts;
                let words: Vec<&str> = text.split('.').collect();
                if words.len() != parts.len() {
                    return None;
                }
                let mut code = 0;
                for (((_, dom), word), slot) in parts.iter().zip(words).zip(&self.records[r]) {
                    let v = self.parse_scalar(dom.scalar(), word)? - slot.lo;
                    if v < 0 || v >= slot.count {
                        return None;
                    }
                    code += v * slot.stride;
                }
                Some(code)
            }
            Scalar::Placed(s) => {
                let (shape, at) = text.split_once('@')?;
                let (name, turn) = shape.split_once('.').unwrap_or((shape, "0"));
                let def = &self.model.shapes[s];
                let i = def.shapes.iter().position(|d| d.name == name)?;
                let turn: usize = turn.parse().ok()?;
                if turn >= def.shapes[i].turns.len() {
                    return None;
                }
                let (r, c) = at.strip_prefix('r')?.split_once('c')?;
                let (r, c): (i64, i64) = (r.parse().ok()?, c.parse().ok()?);
                self.shape_code(s, (def.firsts[i] + turn) as i64, r - 1, c - 1)
            }
        }
    }

    /// A list as it is written.
    pub(crate) fn list_text(&self, var: VarId, list: &[i32]) -> String {
        let entries: Vec<String> =
            list[1..=list[0] as usize].iter().map(|&v| self.value_text(var, v.into())).collect();
        if entries.is_empty() { "empty".into() } else { entries.join(" ") }
    }

    /// The position in one line, for whom positions are drawn.
    #[must_use]
    pub fn shown_line(&self, state: &[i32]) -> String {
        if self.as_player { self.player_line(state) } else { self.line(state) }
    }

    /// What the player sees, in one line.
    #[must_use]
    pub fn player_line(&self, state: &[i32]) -> String {
        let drawn = self.draw_told(state);
        let boards = drawn.pictures.iter().map(|p| {
            let rows: Vec<String> = p.rows.iter().map(|r| r.join(if p.joined { "" } else { " " })).collect();
            format!("{}={}", p.name, rows.join("/"))
        });
        boards.chain(drawn.values.iter().map(|(n, v)| format!("{n}={v}"))).collect::<Vec<_>>().join("; ")
    }

    /// The position in one line; [`Bound::parse_line`] reads it back.
    #[must_use]
    pub fn line(&self, state: &[i32]) -> String {
        let out = self.line_parts(state);
        if let [(_, only)] = out.as_slice() {
            return only.clone();
        }
        out.iter().map(|(n, v)| format!("{n}={v}")).collect::<Vec<_>>().join("; ")
    }

    /// The position as names of drawings and variables with their texts, as `start` takes them.
    #[must_use]
    pub fn line_parts(&self, state: &[i32]) -> Vec<(String, String)> {
        let drawn = self.draw_with(state, true);
        let mut out: Vec<(String, String)> = drawn
            .pictures
            .iter()
            .map(|p| {
                let rows: Vec<String> =
                    p.rows.iter().map(|r| r.join(if p.joined { "" } else { " " })).collect();
                (p.name.clone(), rows.join("/"))
            })
            .collect();
        out.extend(drawn.values);
        out
    }

    /// Reads what a player sees in the one-line form: boards that are told among the rest. Gives the state, in which
    /// nothing hidden is known, and what is seen. `None` inside where nothing told is written.
    #[allow(clippy::option_option, clippy::type_complexity)]
    pub fn parse_sight(
        &self,
        text: &str,
        file: FileId,
        errors: &mut Vec<Diagnostic>,
    ) -> Option<Option<(Vec<i32>, Vec<Option<Vec<Option<i64>>>>)>> {
        let tells = &self.model.tells;
        let name_of = |part: &str| part.split_once('=').map(|(name, _)| name.trim().to_string());
        let is_given =
            |v: VarId| text.split(';').any(|p| name_of(p).as_ref() == Some(&self.model.vars[v].name));
        let named = |part: &str| {
            let name = name_of(part)?;
            let t = tells.iter().position(|t| t.name == name)?;
            // A tell may be named like the hidden variable itself. Whoever also says what lies open speaks as the author does,
            // and where that is no variable, whoever leaves nothing covered.
            let hidden = self.model.vars.iter().any(|v| v.hidden && v.name == name);
            let by_author = match tells[t].opened() {
                Some(v) => is_given(v),
                None => !part.contains('~'),
            };
            (!hidden || !by_author).then_some(t)
        };
        let mut at = 0;
        for part in text.split(';') {
            let list = |v: &&VarDef| v.shuffled.is_some() && name_of(part).as_ref() == Some(&v.name);
            if let Some(list) = self.model.vars.iter().find(list).filter(|_| part.contains('~')) {
                let message =
                    format!("what may still be in `{}` does not follow from what is seen now", list.name);
                let how = "a hidden list changes: give the moves that led here with `--after`, or its values";
                let mut binder = Binder { model: &self.model, errors };
                binder.error("L085", file, Span::new(at, at + part.len()), message).notes.push(how.into());
                return None;
            }
            at += part.len() + 1;
        }
        if !text.split(';').any(|p| named(p).is_some()) {
            return Some(None);
        }
        let mut seen = vec![None; tells.len()];
        let mut rest = String::new();
        let mut at = 0;
        for part in text.split(';') {
            let Some(t) = named(part) else {
                rest.push_str(part);
                rest.push(';');
                at += part.len() + 1;
                continue;
            };
            let skip = part.find('=').unwrap_or(0) + 1;
            let value = part[skip..].replace('/', "\n");
            let span = Span::new(at + skip, at + part.len());
            let raw = Raw { kind: RawKind::Text(value, Some((at + skip) as u32)), span };
            let mut binder = Binder { model: &self.model, errors };
            seen[t] = Some(binder.told_board(self, &tells[t], &raw, file)?);
            // Blanks keep the places of what follows.
            rest.extend(std::iter::repeat_n(' ', part.len()));
            rest.push(';');
            at += part.len() + 1;
        }
        let mut state = self.parse_line(&rest, file, errors)?;
        for (tell, values) in tells.iter().zip(&seen) {
            if let (Some(v), Some(values)) = (tell.opened(), values) {
                let base = self.slots[v].base;
                for (i, x) in values.iter().enumerate() {
                    state[base + i] = i32::from(x.is_some());
                }
            }
        }
        Some(Some((state, seen)))
    }

    /// The name of what a position shows first.
    fn first_name(&self) -> String {
        let drawn = self.draw_with(&self.start, true);
        let picture = drawn.pictures.first().map(|p| p.name.clone());
        picture.or_else(|| drawn.values.first().map(|v| v.0.clone())).unwrap_or_default()
    }

    /// Reads what is said of one name into a state.
    fn put_part(&self, binder: &mut Binder<'_>, name: Key, spec: Text<'_>, state: &mut [i32]) -> Option<()> {
        let (file, span) = (spec.file, spec.span);
        let is_it = |s: &&Show| matches!(s, Show::Drawing { name: n, .. } if *n == name.text);
        let read: Vec<(VarId, Vec<Option<i64>>)> = if let Some(show) = self.model.shows.iter().find(is_it) {
            binder.drawing(self, show, spec, false)?
        } else if let Some(v) = self.model.var(&name.text).filter(|v| self.model.vars[*v].state) {
            vec![(v, binder.block(self, v, spec, false)?)]
        } else {
            unknown_key(binder, file, &name, true);
            return None;
        };
        for (var, values) in read {
            let slot = &self.slots[var];
            let values: Vec<i32> = values.into_iter().flatten().map(|v| v as i32).collect();
            if self.model.vars[var].state {
                state[slot.base..slot.base + slot.len].copy_from_slice(&values);
            } else if values != self.data[slot.base..slot.base + slot.len] {
                let name = self.model.vars[var].name.clone();
                let error = binder.error("L042", file, span, format!("`{name}` differs from the level's"));
                error
                    .notes
                    .push("a position changes the state, not the level; use --set or another level".into());
                return None;
            }
        }
        Some(())
    }

    /// Reads a position in the one-line form; errors point into `text`.
    pub fn parse_line(&self, text: &str, file: FileId, errors: &mut Vec<Diagnostic>) -> Option<Vec<i32>> {
        let before = errors.len();
        let mut binder = Binder { model: &self.model, errors };
        let mut state = self.start.clone();
        let mut at = 0;
        let bare = !text.contains('=');
        for part in text.split(';') {
            let offset = at;
            at += part.len() + 1;
            if part.trim().is_empty() {
                continue;
            }
            let (name, value, skip) = match part.split_once('=') {
                Some((n, v)) => (n.trim().to_string(), v, n.len() + 1),
                None if bare => (self.first_name(), part, 0),
                None => {
                    let span = Span::new(offset, offset + part.len());
                    binder.error("L040", file, span, "write `name=value; name=value`");
                    return None;
                }
            };
            let value_at = offset + skip;
            // Rows are split by slashes here and by line ends in a file; both are one byte.
            let board = value.replace('/', "\n");
            let span = Span::new(value_at, value_at + value.len());
            let spec = Text { text: &board, at: Some(value_at as u32), span, file };
            let name_span = Span::new(offset, offset + skip.max(1));
            if name == "ended" {
                let ending = value.trim().parse::<i32>().ok();
                match ending.filter(|&e| e >= 0 && e as usize <= self.model.endings.len()) {
                    Some(e) => state[self.ended_at()] = e,
                    None => {
                        binder.error("L041", file, span, "this is no ending of the model");
                    }
                }
                continue;
            }
            self.put_part(&mut binder, Key { text: name, span: name_span }, spec, &mut state)?;
        }
        let all = Span::new(0, text.len());
        for (v, def) in self.model.variables().filter(|(_, def)| def.rearranged.is_some()) {
            let slot = &self.slots[v];
            let sorted = |s: &[i32]| {
                let mut s = s[slot.base..slot.base + slot.len].to_vec();
                s.sort_unstable();
                s
            };
            if sorted(&state) != sorted(&self.start) {
                let message =
                    format!("`{}` must hold the values of the level's start in another order", def.name);
                binder.error("L034", file, all, message);
            }
        }
        if self.drawn {
            // Where starts are drawn, a position that is given begins with itself.
            self.keep_starts(&mut state);
        }
        for spread in 0..self.model.spreads.len() {
            if binder.errors.len() == before && !self.is_spread(spread, &state) {
                binder.errors.push(self.not_spread(spread, &state, file, all));
            }
        }
        (binder.errors.len() == before).then_some(state)
    }
}
