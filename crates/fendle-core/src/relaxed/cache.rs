//! Tables as bytes: what they were made for, what they hold, a checksum.
//!
//! ```text
//! fendle table 1\n | name (32 bytes: hash of the puzzle and the pattern) | link left out (1 byte) | positions (8 bytes) | SHA-256 of the
//! positions and all that stands before (32 bytes) | compressed positions
//! ```

use std::io::{Read, Write};

use flate2::Compression;
use flate2::read::DeflateDecoder;
use flate2::write::DeflateEncoder;
use sha2::{Digest, Sha256};

use super::numbers::Numbers;
use super::pattern::{NEVER, Pattern, Table};
use super::task::Task;

/// What a file of a table begins with.
pub const MAGIC: &[u8] = b"fendle table 1\n";
const HEAD: usize = MAGIC.len() + 32 + 1 + 8 + 32;

/// A name that tells puzzles apart, whatever they are called: a hash of all that a table depends on.
#[must_use]
pub fn name_of(task: &Task) -> [u8; 32] {
    let mut hash = Sha256::new();
    let mut number = |n: i64| hash.update(n.to_le_bytes());
    number(task.start.len() as i64);
    for (values, group) in task.values.iter().zip(&task.group) {
        number(group.map_or(-1, i64::from));
        // Of a place in a group only what its kinds say counts.
        if group.is_none() {
            number(values.len() as i64);
            values.iter().for_each(|v| number((*v).into()));
        }
    }
    for way in &task.ways {
        if way.count != 1 {
            number(-6);
            number(way.count.into());
        }
        number(-2);
        way.reads.iter().for_each(|(p, v)| {
            number((*p).into());
            number((*v).into());
        });
        number(-3);
        way.changes.iter().for_each(|(p, a, b)| {
            number((*p).into());
            number((*a).into());
            number((*b).into());
        });
    }
    for goal in &task.goals {
        number(-4);
        goal.iter().for_each(|(p, v)| {
            number((*p).into());
            number((*v).into());
        });
    }
    for kind in &task.kinds {
        number(-5);
        number(kind.group.into());
        number(kind.value.into());
        number(kind.count.into());
        number(i64::from(kind.falls));
        kind.places.iter().for_each(|p| number((*p).into()));
    }
    hash.finalize().into()
}

/// The name of a table of a puzzle.
#[must_use]
pub fn table_name(task: &[u8; 32], pattern: &Pattern, fold: bool) -> [u8; 32] {
    let mut hash = Sha256::new();
    hash.update(task);
    hash.update(format!("{pattern:?} {fold}"));
    hash.finalize().into()
}

/// A table as bytes.
#[must_use]
pub fn write(table: &Table, name: &[u8; 32]) -> Vec<u8> {
    let mut out = MAGIC.to_vec();
    out.extend_from_slice(name);
    out.push(u8::from(table.folded));
    out.extend_from_slice(&(table.cells.len() as u64).to_le_bytes());
    let mut hash = Sha256::new();
    hash.update(&out);
    hash.update(&table.cells);
    out.extend_from_slice(&hash.finalize());
    let mut packed = DeflateEncoder::new(out, Compression::fast());
    packed.write_all(&table.cells).expect("memory takes what is written");
    packed.finish().expect("memory takes what is written")
}

/// The table of a pattern from bytes, if they are those of this table and undamaged.
#[must_use]
pub fn read(bytes: &[u8], name: &[u8; 32], task: &Task, pattern: &Pattern) -> Option<Table> {
    let head = bytes.get(..HEAD)?;
    if !head.starts_with(MAGIC) || &head[MAGIC.len()..MAGIC.len() + 32] != name {
        return None;
    }
    let folded = head[MAGIC.len() + 32] == 1;
    let len = u64::from_le_bytes(head[MAGIC.len() + 33..MAGIC.len() + 41].try_into().ok()?);
    let numbers = Numbers::new(task, pattern)?;
    let wanted = if folded { numbers.size() / numbers.last_radix()? } else { numbers.size() };
    if len != wanted {
        return None;
    }
    let mut cells = Vec::with_capacity(len as usize);
    DeflateDecoder::new(&bytes[HEAD..]).take(len + 1).read_to_end(&mut cells).ok()?;
    let mut hash = Sha256::new();
    hash.update(&head[..HEAD - 32]);
    hash.update(&cells);
    if cells.len() as u64 != len || hash.finalize()[..] != head[HEAD - 32..] {
        return None;
    }
    Some(Table {
        pattern: pattern.clone(),
        never: cells.iter().filter(|c| **c == NEVER).count() as u64,
        most: cells.iter().copied().filter(|c| *c != NEVER).max().unwrap_or(0),
        numbers,
        cells,
        folded,
    })
}
