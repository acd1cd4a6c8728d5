//! Values of a state and packed bits, and chances as fractions, by themselves.

use std::collections::BTreeSet;

use fendle_lang::state::Codec;
use fendle_lang::state::chance::Chance;
use fendle_lang::state::packing::NotRearranged;

/// All arrangements of a multiset by plain recursion.
fn arrangements(values: &[i32]) -> BTreeSet<Vec<i32>> {
    if values.is_empty() {
        return BTreeSet::from([vec![]]);
    }
    let mut out = BTreeSet::new();
    for i in 0..values.len() {
        let mut rest = values.to_vec();
        let v = rest.remove(i);
        for mut tail in arrangements(&rest) {
            tail.insert(0, v);
            out.insert(tail);
        }
    }
    out
}

#[test]
fn ranks_are_a_bijection_in_lexicographic_order() {
    for values in [vec![0, 1, 2, 3, 4], vec![0, 1, 1, 2, 2, 2], vec![5, 5, 5], vec![-3, 900, 2000, 7]] {
        let mut codec = Codec::default();
        assert!(codec.rearranged(0, &values, 0));
        let all = arrangements(&values);
        for (i, a) in all.iter().enumerate() {
            let mut words = vec![0; codec.layout().words()];
            codec.pack(a, &mut words).expect("a rearrangement");
            assert_eq!(words[0], i as u64, "{a:?}");
            let mut back = vec![0; a.len()];
            codec.unpack(&words, &mut back);
            assert_eq!(&back, a);
        }
        assert_eq!(codec.layout().bits, (64 - (all.len() as u64 - 1).leading_zeros()).max(1));
    }
}

#[test]
fn ten_distinct_values_take_22_bits_and_sixteen_take_45() {
    for (n, bits) in [(4, 5), (9, 19), (10, 22), (16, 45), (20, 62)] {
        let mut codec = Codec::default();
        assert!(codec.rearranged(0, &(0..n).collect::<Vec<_>>(), 0));
        assert_eq!(codec.layout().bits, bits);
    }
    assert!(!Codec::default().rearranged(0, &(0..30).collect::<Vec<_>>(), 0));
}

#[test]
fn a_lost_value_is_noticed() {
    let mut codec = Codec::default();
    codec.rearranged(0, &[0, 1, 2, 2], 7);
    let mut out = [0];
    assert_eq!(codec.pack(&[0, 1, 1, 2], &mut out), Err(NotRearranged(7)));
    assert_eq!(codec.pack(&[0, 1, 2, 9], &mut out), Err(NotRearranged(7)));
    let mut codec = Codec::default();
    codec.rearranged(0, &[0, 1, 2, 3], 8);
    assert_eq!(codec.pack(&[0, 1, 1, 2], &mut out), Err(NotRearranged(8)));
}

#[test]
fn heaps_come_back_and_a_lost_card_is_noticed() {
    // 30 cards on two places of lists: 4 with at most 30 each, and one with at most 9.
    let mut codec = Codec::default();
    codec.plain(0, 1, 0, 9);
    assert!(codec.heaps(&[(1, 4, 30), (125, 1, 9)], (1, 30), 1, 3));
    assert_eq!(codec.layout().bits, 4 + 4 * 5 + 4 + 30 * 5);
    let mut values = vec![1; 135];
    values[0] = 7;
    for list in [1, 32, 63, 94, 125] {
        values[list] = 0;
    }
    let lay = |values: &mut Vec<i32>, list: usize, card: i32| {
        values[list] += 1;
        let at = list + values[list] as usize;
        values[at] = card;
    };
    (1..=13).for_each(|c| lay(&mut values, 32, c));
    (14..=21).for_each(|c| lay(&mut values, 125, 35 - c));
    (22..=30).for_each(|c| lay(&mut values, 94, c));
    let mut words = vec![0; codec.layout().words()];
    codec.pack(&values, &mut words).expect("all are there");
    let mut back = vec![0; values.len()];
    codec.unpack(&words, &mut back);
    assert_eq!(back, values);
    // One card moves; patching gives what packing gives.
    values[32] -= 1;
    values[32 + 13] = 1;
    lay(&mut values, 1, 13);
    let mut changed = vec![0u64; 3];
    for slot in [1, 2, 32, 45] {
        changed[slot / 64] |= 1 << (slot % 64);
    }
    let mut patched = words.clone();
    codec.patch(&values, &changed, &mut patched).expect("all are there");
    codec.pack(&values, &mut words).expect("all are there");
    assert_eq!(patched, words);
    values[2] = 12;
    assert_eq!(codec.pack(&values, &mut words), Err(NotRearranged(3)));
}

#[test]
fn patching_gives_what_packing_gives() {
    let mut codec = Codec::default();
    codec.plain(0, 40, 0, 4);
    codec.rearranged(40, &[0, 1, 2, 3, 4], 0);
    codec.plain(45, 30, -9, 100);
    codec.plain(75, 1, 3, 3);
    let mut values: Vec<i32> =
        (0..40).map(|i| i % 5).chain(0..5).chain((0..30).map(|i| i - 9)).chain([3]).collect();
    let mut words = vec![0; codec.layout().words()];
    codec.pack(&values, &mut words).expect("fits");
    for round in 0..200u32 {
        let (a, b) = (round * 7 % 40, 45 + round * 11 % 30);
        values[a as usize] = (round * 3 % 5) as i32;
        values[b as usize] = (round * 13 % 110) as i32 - 9;
        values.swap(40 + (round % 5) as usize, 40 + (round / 5 % 5) as usize);
        let mut changed = [0u64; 2];
        for slot in [a, b, 40, 41, 42, 43, 44, 75] {
            changed[slot as usize / 64] |= 1 << (slot % 64);
        }
        if round % 3 == 0 {
            // Many at once, with some between them that did not change.
            for slot in (0..75).filter(|s| s % 2 == 0 || s % 7 < 3) {
                changed[slot / 64] |= 1 << (slot % 64);
                values[slot] = match slot {
                    0..40 => (slot as u32 * round % 5) as i32,
                    45.. => (slot as u32 * round % 110) as i32 - 9,
                    _ => values[slot],
                };
            }
        }
        codec.patch(&values, &changed, &mut words).expect("fits");
        let mut whole = vec![0; words.len()];
        codec.pack(&values, &mut whole).expect("fits");
        assert_eq!(words, whole, "round {round}");
    }
}

#[test]
fn plain_fields_cross_words() {
    let mut codec = Codec::default();
    codec.plain(0, 50, 0, 4);
    codec.plain(50, 1, 7, 7);
    codec.plain(51, 3, -100, 100);
    assert_eq!(codec.layout().bits, 150 + 24);
    let values: Vec<i32> = (0..50).map(|i| i % 5).chain([7, -100, 3, 100]).collect();
    let mut words = vec![0; codec.layout().words()];
    codec.pack(&values, &mut words).expect("plain");
    let mut back = vec![0; values.len()];
    codec.unpack(&words, &mut back);
    assert_eq!(back, values);
}

#[test]
fn fractions_stay_in_lowest_terms() {
    let half = Chance::SURE.then(2, 4).expect("fits");
    assert_eq!(half, Chance { num: 1, den: 2 });
    let third = Chance::SURE.then(1, 3).expect("fits");
    assert_eq!(half.or(third), Some(Chance { num: 5, den: 6 }));
    assert_eq!(half.then(9, 10).expect("fits").to_string(), "9/20");
    let mut tiny = Chance::SURE;
    let mut steps = 0;
    while let Some(next) = tiny.then(1, 1 << 31) {
        tiny = next;
        steps += 1;
    }
    assert_eq!(steps, 4);
}
