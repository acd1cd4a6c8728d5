//! Named operations.

use super::*;

impl<'b> Eval<'b> {
    #[expect(clippy::too_many_lines, reason = "one arm for each named operation")]
    pub(super) fn builtin(&mut self, op: Builtin, args: &[Expr], span: Span, frame: &mut [V]) -> Run<i64> {
        Ok(match op {
            Builtin::Row => code::row_col(self.one(&args[0], frame)?).0 + 1,
            Builtin::Col => code::row_col(self.one(&args[0], frame)?).1 + 1,
            Builtin::Abs => match self.one(&args[0], frame)?.checked_abs() {
                Some(v) => v,
                None => return Self::fault(FaultKind::Overflow, span, 0),
            },
            Builtin::Opposite => {
                let d = self.one(&args[0], frame)?;
                if d < 4 { (d + 2) % 4 } else { 4 + (d + 2) % 4 }
            }
            Builtin::Turned => {
                let d = self.one(&args[0], frame)?;
                if d < 4 { (d + 1) % 4 } else { 4 + (d + 1) % 4 }
            }
            Builtin::Len => code::lane_parts(self.one(&args[0], frame)?).2,
            Builtin::Rows => self.b.rows as i64,
            Builtin::Cols => self.b.cols as i64,
            Builtin::PlaceAt => {
                let (r, c) = (self.one(&args[0], frame)?, self.one(&args[1], frame)?);
                let near = |x: i64| x > -code::BIAS / 2 && x < code::BIAS / 2;
                if !near(r) || !near(c) {
                    return Self::fault(FaultKind::TooFarAway, span, 0);
                }
                code::place(r - 1, c - 1)
            }
            Builtin::ListLen => self.eval(&args[0], frame)?.list().len() as i64,
            Builtin::LaneStart => {
                let (first, _, _) = code::lane_parts(self.one(&args[0], frame)?);
                self.place_of(first)
            }
            Builtin::TurnShape
            | Builtin::Anchor
            | Builtin::KindOf
            | Builtin::TurnOf
            | Builtin::MirrorShape
            | Builtin::PartAt => {
                let Ty::Placed(s) = args[0].ty else { return Self::fault(FaultKind::TooFarAway, span, 0) };
                let p = self.one(&args[0], frame)?;
                let (all, row, col) = self.b.shape_parts(s, p);
                let def = &self.b.model.shapes[s];
                let (shape, turn) = def.all[all as usize];
                match op {
                    Builtin::Anchor => code::place(row, col),
                    Builtin::KindOf => shape as i64,
                    Builtin::TurnOf => turn as i64,
                    Builtin::MirrorShape => {
                        let turn = def.firsts[shape] + def.shapes[shape].mirrors[turn];
                        self.b.shape_code(s, turn as i64, row, col).unwrap_or(p)
                    }
                    Builtin::PartAt => {
                        let (r, c) = code::row_col(self.one(&args[1], frame)?);
                        let cells = &def.shapes[shape].turns[turn];
                        match cells.iter().position(|x| *x == (r - row, c - col)) {
                            Some(i) => def.shapes[shape].parts[turn][i],
                            None => return Self::fault(FaultKind::NotCovered, span, 0),
                        }
                    }
                    _ => {
                        let (first, turns) = def.shapes[shape].circle(turn);
                        let by = self.one(&args[1], frame)?;
                        let turn = (turn as i64 - first as i64).wrapping_add(by).rem_euclid(turns as i64);
                        let turn = (def.firsts[shape] + first) as i64 + turn;
                        self.b.shape_code(s, turn, row, col).unwrap_or(p)
                    }
                }
            }
            Builtin::Placed(s) => {
                let kind = self.one(&args[0], frame)?;
                let (row, col) = code::row_col(self.one(&args[1], frame)?);
                let first = self.b.model.shapes[s].firsts[kind as usize] as i64;
                match self.b.shape_code(s, first, row, col) {
                    Some(v) => v,
                    None => return Self::fault(FaultKind::TooFarAway, span, 0),
                }
            }
            Builtin::Distinct => {
                let mut v = self.eval(&args[0], frame)?.block();
                v.sort_unstable();
                i64::from(v.windows(2).all(|w| w[0] != w[1]))
            }
            Builtin::Parity => {
                let v = self.eval(&args[0], frame)?.block();
                let mut odd = false;
                for i in 0..v.len() {
                    for j in 0..i {
                        if v[j] == v[i] {
                            return Self::fault(FaultKind::ParityOfEqual, span, v[i].into());
                        }
                        odd ^= v[j] > v[i];
                    }
                }
                i64::from(odd)
            }
        })
    }
}
