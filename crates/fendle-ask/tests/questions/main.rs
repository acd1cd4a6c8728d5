//! Questions asked of texts in memory: this room reads no file and prints nothing, and every answer is a value.
//!
//! * `asked`: conditions about positions.
//! * `basics`: every question once, of a barrow on a lane and of a coin.
//! * `walks`: random puzzles that are a walk on a map, against a look at the map.
//! * `yards`: random yards of barges, against a look at all their states.
//! * `drawn`: the same with chance, against fractions found in the test.
//! * `counted`: costs, scores, several starts, and what can be forced.
//! * `hunted`: guided search on boards that can be looked through.
//! * `cramped`: larger yards under limits.
//! * `embedded`: one yard, turned and on larger boards.
//! * `forged`: proof files for other yards than their own.
//! * `halted`: every question ended at whatever moment.
//! * `limited`: the same under every limit: what is told is true, and the rest is not decided.
//! * `begun`: several starts.
//! * `buried`: hidden things in a row, against all layouts.
//! * `sounded`: hidden things with weights, setups, and readings that may be false.
//! * `made`: drafted boards, test cases, profiles.
//! * `players`: playing with undo and records; games that run beside the rules.
//! * `pieces`: what questions are made of, by itself.
//! * `packs`: facts, profiles, drafts and mending.

mod asked;
mod basics;
mod begun;
mod buried;
mod common;
mod counted;
mod cramped;
mod drawn;
mod embedded;
mod forged;
mod halted;
mod hunted;
mod limited;
mod made;
mod packs;
mod pieces;
mod players;
mod sounded;
mod walks;
mod yards;
