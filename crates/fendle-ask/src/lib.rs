//! Questions about puzzles.
//!
//! One function and one value a question. A value holds what was asked, the verdict, the evidence, what cut it short, and
//! apart from these what it took; text, JSON and pictures are views of it that other rooms make. This room knows the search
//! ([`fendle_core`]) and the language ([`fendle_lang`]); it prints nothing, reads no file and knows no terminal.
//!
//! * [`budget`]: one deadline and one budget of memory for all phases of a question.
//! * [`answer`]: how verdict, limit, fault and interruption become one ending: decided here and nowhere else.
//! * [`load`]: texts to levels that can be asked about; [`position`]: positions as answers hold them.
//! * One file a question: [`mod@check`], [`show`], [`moves`], [`trace`], [`mod@solve`], [`mod@explore`], [`structure`], [`find`],
//!   [`why`], [`mod@bound`], [`graph`], [`mod@odds`], [`infer`], [`fairness`], [`review`], [`compare`], [`audit`], [`proof`].
//! * [`knowledge`]: how a level with hidden things is played by an analysis; [`routes`]: ways as they are really played.

pub mod answer;
pub mod audit;
pub mod bound;
pub mod budget;
pub mod by_rules;
pub mod cases;
pub mod check;
pub mod compare;
pub mod count;
pub mod counting;
pub mod examples;
pub mod explore;
pub mod fairness;
pub mod find;
pub mod frozen;
pub mod game;
pub mod graph;
pub mod guide;
pub mod hunt;
pub mod infer;
pub mod knowledge;
pub mod light;
pub mod load;
pub mod making;
pub mod moves;
pub mod near;
pub mod numbers;
pub mod odds;
pub mod playing;
pub mod position;
pub mod profile;
pub mod proof;
pub mod review;
pub mod routes;
pub mod show;
pub mod solve;
pub mod structure;
pub mod trace;
pub mod why;
pub mod within;

pub use answer::{Answer, Asked, End, FaultReport, StoppedBy, Trouble, Verdict};
pub use budget::{Budget, Effort, Patience, Surroundings, Wanted};
pub use load::{Begin, Loaded, Provider, Store, Want, Wish};
pub use position::Position;
