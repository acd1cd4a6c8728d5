//! A module of machine code that owns the memory of its code.

use std::ops::{Deref, DerefMut};

use cranelift_jit::{JITBuilder, JITModule};
use cranelift_module::default_libcall_names;

use crate::{NoNative, isa};

/// A module whose code is freed when this is dropped. Whoever keeps the address of its code keeps this beside it, and lends out the code for no longer.
pub(crate) struct OwnedModule(Option<JITModule>);

impl OwnedModule {
    /// Without any code, for the processor of this machine.
    pub(crate) fn new() -> Result<OwnedModule, NoNative> {
        let builder = JITBuilder::with_isa(isa()?, default_libcall_names());
        Ok(OwnedModule(Some(JITModule::new(builder))))
    }
}

impl Deref for OwnedModule {
    type Target = JITModule;

    fn deref(&self) -> &JITModule {
        self.0.as_ref().expect("it is taken where this is dropped")
    }
}

impl DerefMut for OwnedModule {
    fn deref_mut(&mut self) -> &mut JITModule {
        self.0.as_mut().expect("it is taken where this is dropped")
    }
}

impl Drop for OwnedModule {
    fn drop(&mut self) {
        if let Some(module) = self.0.take() {
            // SAFETY: machines borrow what holds this while they can call its code, so none is left that could.
            unsafe { module.free_memory() };
        }
    }
}
