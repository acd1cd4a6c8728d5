//! What the player is told of a position.

use super::read::UNTOLD;
use crate::run::Eval;
use crate::state::Bound;

impl Bound {
    /// What the player is told of a state: what the level says is seen, or what follows from the layout.
    #[must_use]
    pub fn told(&self, state: &[i32]) -> Vec<Vec<Option<i64>>> {
        let mut told = Eval::new(self).told(state).unwrap_or_default();
        told.resize(self.model.tells.len(), vec![]);
        for (t, s) in told.iter_mut().zip(&self.seen) {
            if let Some(s) = s {
                t.clone_from(s);
            }
        }
        told
    }

    /// A told value, or what stands for none.
    #[must_use]
    pub fn told_text(&self, tell: usize, value: Option<i64>) -> String {
        let scalar = self.model.tells[tell].value.ty.scalar();
        value.zip(scalar).map_or(UNTOLD.to_string(), |(v, s)| self.scalar_text(s, v, false))
    }
}
