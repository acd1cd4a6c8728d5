//! Numbers that are told apart by their types: of functions, procedures, records and local names. Each is an index into the list that its doc names, and
//! such a list is indexed by it.

use std::fmt;

use super::*;

/// Makes a list be indexed by numbers of a type.
macro_rules! indexed {
    ($id:ty => $of:ty) => {
        impl std::ops::Index<$id> for Vec<$of> {
            type Output = $of;
            fn index(&self, at: $id) -> &$of {
                &self[at.0]
            }
        }

        impl std::ops::IndexMut<$id> for Vec<$of> {
            fn index_mut(&mut self, at: $id) -> &mut $of {
                &mut self[at.0]
            }
        }
    };
}

pub(crate) use indexed;

macro_rules! ids {
    ($($(#[$doc:meta])* $name:ident;)*) => {$(
        $(#[$doc])*
        #[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub struct $name(pub usize);

        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                self.0.fmt(f)
            }
        }
    )*};
}

ids! {
    /// A function, in [`Model::fns`].
    FnId;
    /// A procedure, in [`Model::procs`].
    ProcId;
    /// A record type, in [`Model::records`].
    RecordId;
    /// A local name, in the `locals` of whatever it is local to.
    LocalId;
    /// A level value or state variable, in [`Model::vars`].
    VarId;
}

indexed!(FnId => FnDef);
indexed!(ProcId => ProcDef);
indexed!(RecordId => RecordDef);
indexed!(LocalId => LocalDef);

// Many lists hold something for each variable, in the same order: all are indexed by it.
impl<T> std::ops::Index<VarId> for Vec<T> {
    type Output = T;
    fn index(&self, at: VarId) -> &T {
        &self[at.0]
    }
}

impl<T> std::ops::IndexMut<VarId> for Vec<T> {
    fn index_mut(&mut self, at: VarId) -> &mut T {
        &mut self[at.0]
    }
}

impl<T> std::ops::Index<VarId> for [T] {
    type Output = T;
    fn index(&self, at: VarId) -> &T {
        &self[at.0]
    }
}

impl<T> std::ops::IndexMut<VarId> for [T] {
    fn index_mut(&mut self, at: VarId) -> &mut T {
        &mut self[at.0]
    }
}

/// Makes lists of what local names hold be indexed by the names.
macro_rules! frames {
    ($($of:ty),*) => {$(
        impl std::ops::Index<$crate::model::LocalId> for [$of] {
            type Output = $of;
            fn index(&self, at: $crate::model::LocalId) -> &$of {
                &self[at.0]
            }
        }

        impl std::ops::IndexMut<$crate::model::LocalId> for [$of] {
            fn index_mut(&mut self, at: $crate::model::LocalId) -> &mut $of {
                &mut self[at.0]
            }
        }

        $crate::model::indexed!($crate::model::LocalId => $of);
    )*};
}

pub(crate) use frames;

frames!(i64, bool);
