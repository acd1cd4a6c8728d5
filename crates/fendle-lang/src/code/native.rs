//! Native code of a level that is made when it first pays.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, OnceLock};

use super::ir::Code;
use super::machine::{Native, NativePacked};
use crate::state::Bound;

/// Makes native code of a level, or says why there is none.
pub type Maker = fn(&Bound, &Code) -> Result<Arc<dyn Native>, String>;

/// The native code of a level, shared by all games that share its code. Until enough states were expanded there is none:
/// making it takes as long as interpreting some thousand states.
#[derive(Clone, Default)]
pub struct WhenItPays(Option<Arc<Slot>>);

struct Slot {
    make: Maker,
    made: OnceLock<Result<Arc<dyn Native>, String>>,
    /// The same for packed states, where that could be made.
    packed: OnceLock<Option<Box<dyn NativePacked>>>,
    /// States expanded so far.
    states: AtomicU64,
    /// Somebody is making it.
    busy: AtomicBool,
    /// Somebody is making that for packed states.
    packing: AtomicBool,
}

/// Expanded states after which native code for packed states is made where it only takes states to pieces and puts them together: some milliseconds
/// of work, which save a fraction of a microsecond a state.
const STATES_PACKED: u64 = 1 << 13;

/// Expanded states after which native code is made, for each operation of the code.
const STATES_AN_OPERATION: u64 = 1;

impl WhenItPays {
    /// Native code that this makes.
    #[must_use]
    pub fn by(make: Maker) -> WhenItPays {
        WhenItPays(Some(Arc::new(Slot {
            make,
            made: OnceLock::new(),
            states: AtomicU64::new(0),
            busy: AtomicBool::new(false),
            packed: OnceLock::new(),
            packing: AtomicBool::new(false),
        })))
    }

    /// For other code: made by the same, nothing made yet.
    #[must_use]
    pub fn anew(&self) -> WhenItPays {
        self.0.as_ref().map_or_else(WhenItPays::default, |slot| WhenItPays::by(slot.make))
    }

    /// The code, if it was made.
    #[must_use]
    pub fn get(&self) -> Option<&dyn Native> {
        self.0.as_ref()?.made.get()?.as_ref().ok().map(AsRef::as_ref)
    }

    /// Counts expanded states, and makes the code when it pays and nobody else is about it.
    pub fn after(&self, states: u64, bound: &Bound, code: &Code) -> Option<&dyn Native> {
        let slot = self.0.as_ref()?;
        if slot.packed.get().is_some() {
            return self.get();
        }
        let states = slot.states.fetch_add(states, Ordering::Relaxed) + states;
        if slot.made.get().is_none() {
            let pays = states > STATES_AN_OPERATION * code.ops.len() as u64;
            if pays && !slot.busy.swap(true, Ordering::Relaxed) {
                let _ = slot.made.set((slot.make)(bound, code));
            }
        }
        self.get()
    }

    /// Native code for packed states, if it was made.
    #[must_use]
    pub fn packed(&self) -> Option<&dyn NativePacked> {
        self.0.as_ref()?.packed.get()?.as_deref()
    }

    /// The same, made when it pays and nobody else is about it. States are counted by [`WhenItPays::after`]. `whole`: whole states will be expanded by
    /// it, so that the programs of the rules need not be made one by one.
    pub fn packed_when_it_pays(&self, bound: &Bound, code: &Code, whole: bool) -> Option<&dyn NativePacked> {
        let slot = self.0.as_ref()?;
        if slot.packed.get().is_none() {
            let Some(Ok(native)) = slot.made.get() else { return None };
            let pays = whole || slot.states.load(Ordering::Relaxed) > STATES_PACKED;
            if pays && !slot.packing.swap(true, Ordering::Relaxed) {
                let _ = slot.packed.set(Arc::clone(native).packed(code, &bound.codec).ok());
            }
        }
        self.packed()
    }

    /// The code, made now if it was not made before.
    #[must_use]
    pub fn now(&self, bound: &Bound, code: &Code) -> Option<Arc<dyn Native>> {
        let slot = self.0.as_ref()?;
        slot.made.get_or_init(|| (slot.make)(bound, code)).as_ref().ok().map(Arc::clone)
    }

    /// How it stands: `None` when none is wanted or it did not pay yet, else that it was made, or why it could not be.
    #[must_use]
    pub fn outcome(&self) -> Option<Result<(), &str>> {
        let made = self.0.as_ref()?.made.get()?;
        Some(made.as_ref().map(|_| ()).map_err(String::as_str))
    }
}

impl std::fmt::Debug for WhenItPays {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "native code: {:?}", self.outcome())
    }
}
