//! Who may end what takes long: asked by every loop of the language that can.

use std::fmt;
use std::sync::Arc;

/// Says whether to stop. The default never does.
#[derive(Clone, Default)]
pub struct Stop(Option<Arc<dyn Fn() -> bool + Send + Sync>>);

impl Stop {
    /// Asks this function.
    #[must_use]
    pub fn new(ask: impl Fn() -> bool + Send + Sync + 'static) -> Stop {
        Stop(Some(Arc::new(ask)))
    }

    /// Whether to stop now.
    #[must_use]
    pub fn is_asked(&self) -> bool {
        self.0.as_ref().is_some_and(|ask| ask())
    }
}

impl fmt::Debug for Stop {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(if self.0.is_some() { "Stop" } else { "Never" })
    }
}
