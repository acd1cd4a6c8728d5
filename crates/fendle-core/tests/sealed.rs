//! Proof files: what was written comes back, and what was changed is refused.

use std::collections::BTreeSet;

use fendle_core::proof::{BadProof, MAGIC, StateSet, fingerprint, open, pack_states, seal};
use fendle_core::table::{Row, Table};
use fendle_core::{Layout, Limits, Model, NoWatch, explore};
use rand::{Rng, SeedableRng, rngs::SmallRng};

use crate::games::Game;

#[test]
fn sets_of_states_come_back_as_they_were() {
    let mut rng = SmallRng::seed_from_u64(1);
    for case in 0..60 {
        // Numbers of one byte and of several: the states that can be reached are spread over all rows.
        let rows = [5, 200, 300, 5_000, 70_000][case % 5];
        let mut list: Vec<usize> = (1..rows).collect();
        let len = rng.random_range(1..list.len().min(120));
        for i in 0..len {
            let j = rng.random_range(i..list.len());
            list.swap(i, j);
        }
        list.truncate(len);
        let chain = [&[0], &list[..]].concat();
        let next = |s: usize| chain.iter().position(|x| *x == s).and_then(|i| chain.get(i + 1));
        let table = Table::new((0..rows).map(|s| Row::running(next(s).map(|t| ("on", *t)))));
        let limits = Limits { threads: 1, ..Limits::default() };
        let found = explore(&table, limits, false, &NoWatch).expect("a start");
        let want: BTreeSet<u64> = chain.iter().map(|s| *s as u64).collect();
        assert_eq!(found.counts.states as usize, want.len());
        let payload = pack_states(&found.space);
        let layout = table.layout();
        let set = StateSet::read(&payload, layout, want.len() as u64, 1 << 20).expect("whole");
        let back: Vec<u64> = (0..set.len()).map(|n| set.state(n)[0]).collect();
        assert_eq!(back, want.iter().copied().collect::<Vec<_>>(), "ascending, each once");
        assert!(!set.is_empty());
        for s in 0..rows as u64 {
            assert_eq!(set.holds(&[s]), want.contains(&s));
        }
        // One more or one fewer than there are, or too little memory: refused.
        let read = |count: u64, memory: u64| StateSet::read(&payload, layout, count, memory).map(|s| s.len());
        let len = want.len() as u64;
        assert_eq!(read(len - 1, 1 << 20), Err(BadProof::States("it goes on past its end")));
        assert!(matches!(read(len + 1, 1 << 20), Err(BadProof::States(_))));
        let more = [&payload[..], &[0]].concat();
        let read_more = StateSet::read(&more, layout, len, 1 << 20).map(|s| s.len());
        assert_eq!(
            read_more,
            Err(BadProof::States("it goes on past its end")),
            "what lies behind the states"
        );
        let bytes = len * layout.bytes() as u64;
        assert_eq!(read(len, bytes - 1), Err(BadProof::Memory(bytes)));
        assert_eq!(read(len, bytes), Ok(want.len()));
        assert!(matches!(read(u64::MAX, 1 << 20), Err(BadProof::Memory(_))));
    }
}

#[test]
fn states_of_several_words_come_back() {
    let bits = 200;
    let layout = Layout::new(bits);
    // Written by hand: each state whole, sharing nothing with the one before.
    let states: Vec<Vec<u64>> =
        (1..50u64).map(|n| vec![n.wrapping_mul(0x9e37_79b9), n << 40, n * n, n]).collect();
    let width = layout.bytes();
    let big_endian =
        |s: &[u64]| -> Vec<u8> { (0..width).rev().map(|at| (s[at / 8] >> (8 * (at % 8))) as u8).collect() };
    let mut raw = vec![];
    for s in &states {
        raw.push(0);
        raw.extend(big_endian(s));
    }
    let payload = deflated(&raw);
    let set = StateSet::read(&payload, layout, states.len() as u64, 1 << 20).expect("whole");
    for (n, s) in states.iter().enumerate() {
        assert_eq!(&set.state(n), s);
        assert!(set.holds(s));
        let mut other = s.clone();
        other[1] ^= 1;
        assert!(!set.holds(&other));
    }
    // The same twice, or in another order, is no set.
    let mut twice = raw[..width + 1].to_vec();
    twice.extend_from_slice(&raw[..width + 1]);
    let refused = |raw: &[u8], count| StateSet::read(&deflated(raw), layout, count, 1 << 20).map(|s| s.len());
    assert_eq!(refused(&twice, 2), Err(BadProof::States("its states do not ascend")));
    let swapped = [&raw[width + 1..2 * width + 2], &raw[..width + 1]].concat();
    assert_eq!(refused(&swapped, 2), Err(BadProof::States("its states do not ascend")));
    // The first shares nothing, and none shares all.
    let mut shares = raw[..width + 1].to_vec();
    shares[0] = 3;
    assert_eq!(refused(&shares, 1), Err(BadProof::States("a state shares more than it has")));
    let mut all = raw[..width + 1].to_vec();
    all.push(width as u8);
    assert_eq!(refused(&all, 2), Err(BadProof::States("a state shares more than it has")));
    assert_eq!(refused(&raw[..width], 1), Err(BadProof::States("it ends too early")));
}

/// Bytes in blocks that are stored as they are (RFC 1951, 3.2.4): what reads compressed sets reads them, too.
fn deflated(raw: &[u8]) -> Vec<u8> {
    let mut out = vec![];
    let blocks: Vec<&[u8]> = raw.chunks(60_000).collect();
    for (i, block) in blocks.iter().enumerate() {
        let len = block.len() as u16;
        out.push(u8::from(i + 1 == blocks.len()));
        out.extend(len.to_le_bytes());
        out.extend((!len).to_le_bytes());
        out.extend_from_slice(block);
    }
    out
}

#[test]
fn a_file_that_was_changed_anywhere_is_refused() {
    let header = "{\"level\": \"one\"}";
    let file = seal(header, b"some states");
    assert_eq!(open(&file), Ok((header, &b"some states"[..])));
    for at in 0..file.len() {
        for bit in [1, 16, 128] {
            let mut changed = file.clone();
            changed[at] ^= bit;
            let want = if at < MAGIC.len() { BadProof::NoProof } else { BadProof::Damaged };
            assert_eq!(open(&changed), Err(want), "byte {at}");
        }
        let want = if at < MAGIC.len() { BadProof::NoProof } else { BadProof::Damaged };
        assert_eq!(open(&file[..at]), Err(want), "{at} bytes of it");
    }
    for more in 1..50 {
        let longer = [&file[..], &vec![0; more]].concat();
        assert_eq!(open(&longer), Err(BadProof::Damaged), "{more} more");
    }
    assert_eq!(open(b""), Err(BadProof::NoProof));
    for (header, payload) in [("", &b""[..]), ("é", b"\0\0"), ("{}", &[255; 3_000])] {
        assert_eq!(open(&seal(header, payload)), Ok((header, payload)));
    }
}

#[test]
fn payloads_that_are_noise_end_in_words_and_not_in_memory() {
    let mut rng = SmallRng::seed_from_u64(2);
    let (mut refused, mut read) = (0, 0);
    for case in 0..3_000 {
        let states = rng.random_range(3..12);
        let game = Game::any(&mut rng, states, false);
        let table = game.table();
        let found =
            explore(&table, Limits { threads: 1, ..Limits::default() }, false, &NoWatch).expect("a start");
        let mut payload = pack_states(&found.space);
        for _ in 0..rng.random_range(1..4) {
            match case % 3 {
                0 => {
                    let at = rng.random_range(0..payload.len());
                    payload[at] ^= 1 << rng.random_range(0..8);
                }
                1 => payload.truncate(rng.random_range(0..payload.len() + 1)),
                _ => payload.push(rng.random_range(0..=255)),
            }
        }
        let count = found.counts.states;
        match StateSet::read(&payload, table.layout(), count, 1 << 16) {
            Ok(set) => {
                // Whatever it says: it is a set.
                let list: Vec<u64> = (0..set.len()).map(|n| set.state(n)[0]).collect();
                assert!(list.len() as u64 == count && list.windows(2).all(|w| w[0] < w[1]), "{list:?}");
                read += 1;
            }
            Err(BadProof::States(_)) => refused += 1,
            Err(other) => panic!("{other:?}"),
        }
    }
    assert!(refused > 500 && read > 50, "{refused} {read}");
}

#[test]
fn fingerprints_tell_parts_apart() {
    let all = [
        fingerprint(&[]),
        fingerprint(&[b""]),
        fingerprint(&[b"", b""]),
        fingerprint(&[b"ab"]),
        fingerprint(&[b"a", b"b"]),
        fingerprint(&[b"b", b"a"]),
        fingerprint(&[b"ab", b""]),
    ];
    let distinct: BTreeSet<&String> = all.iter().collect();
    assert_eq!(distinct.len(), all.len(), "{all:?}");
    assert!(all.iter().all(|f| f.len() == 64 && f.chars().all(|c| c.is_ascii_hexdigit())));
    assert_eq!(fingerprint(&[b"ab"]), all[3]);
}
