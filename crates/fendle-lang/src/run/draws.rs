//! Draws: a script says which thing each of them takes, or chance does.

use super::*;

/// Says which of the things that can be drawn is drawn.
pub(super) enum Chooser<'a> {
    /// What to take at each draw; the first thing where it ends. Holds how many there were.
    Script { take: Vec<usize>, seen: Vec<usize> },
    /// At random: given the weights.
    Random(&'a mut dyn FnMut(&[u64]) -> usize),
}

impl Chooser<'_> {
    /// One of so many things, each as likely.
    pub(super) fn one_of(&mut self, count: usize) -> usize {
        match self {
            Chooser::Script { take, seen } => {
                let pick = take.get(seen.len()).copied().unwrap_or(0);
                seen.push(count);
                pick
            }
            Chooser::Random(random) => random(&vec![1; count]),
        }
    }
}

/// The script of the next way: the last draw that has something left takes its next thing. False after the last.
pub fn next_way(take: &mut Vec<usize>, seen: &[usize]) -> bool {
    take.resize(seen.len(), 0);
    while let (Some(t), n) = (take.last().copied(), take.len())
        && t + 1 == seen[n - 1]
    {
        take.pop();
    }
    match take.last_mut() {
        Some(t) => {
            *t += 1;
            true
        }
        None => false,
    }
}

impl<'b> Eval<'b> {
    /// Makes a move once; at each draw it takes the thing with the number that `take` says, the first thing past its end, and the last one
    /// where there are fewer. Gives how many things there were at each draw, too.
    ///
    /// # Errors
    ///
    /// A model fault.
    pub fn apply_along(
        &mut self,
        state: &[i32],
        (of, params): (usize, &[i64]),
        take: &[usize],
    ) -> Run<(Outcome, Vec<usize>)> {
        self.go_on(self.b.model.moves[of].span)?;
        self.chooser = Chooser::Script { take: take.to_vec(), seen: vec![] };
        let outcome = self.apply_once(state, of, params)?;
        let Chooser::Script { seen, .. } = &mut self.chooser else { return Ok((outcome, vec![])) };
        Ok((outcome, std::mem::take(seen)))
    }

    /// Parts of expressions that were evaluated so far: how much work was done, the same on every machine.
    #[must_use]
    pub fn work(&self) -> u64 {
        self.evaluated
    }

    /// Makes a move in each way that its draws can fall, while `more` says so. What the move is
    /// instead, when it is not made.
    pub(super) fn each_way(
        &mut self,
        state: &[i32],
        of: usize,
        params: &[i64],
        most: usize,
        more: &mut dyn FnMut(Made) -> bool,
    ) -> Run<Option<Outcome>> {
        let mut take: Vec<usize> = vec![];
        for _ in 0..=most {
            self.go_on(self.b.model.moves[of].span)?;
            self.chooser = Chooser::Script { take: take.clone(), seen: vec![] };
            match self.apply_once(state, of, params)? {
                Outcome::Done(made) => {
                    for m in made {
                        if !more(m) {
                            return Ok(None);
                        }
                    }
                }
                other => return Ok(Some(other)),
            }
            let Chooser::Script { seen, .. } = &self.chooser else { return Ok(None) };
            if !next_way(&mut take, seen) {
                return Ok(None);
            }
        }
        Ok(None)
    }
}
