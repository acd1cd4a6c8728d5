//! Operations of the intermediate form: what is left out, what is found once, and what the verifier refuses.

use fendle_lang::code::ir::{Code, Comparison, FaultSite, M, Op, Program, R, Site, To, reuse, tidy};
use fendle_lang::run::FaultKind;
use fendle_lang::source::Span;

fn r(n: u16) -> R {
    R(n)
}

fn load(d: u16, i: u16) -> Op {
    Op::Load { d: r(d), base: M(100), i: r(i) }
}

#[test]
fn what_was_loaded_is_not_loaded_again() {
    let mut ops = vec![
        load(1, 0),
        Op::JumpIf { a: r(1), to: To(3) },
        Op::NotOffered {},
        load(2, 0),
        Op::Compare { d: r(3), a: M(100), v: r(1), n: 4, how: Comparison::Equal },
        Op::Compare { d: r(4), a: M(100), v: r(2), n: 4, how: Comparison::Equal },
        Op::Give { s: r(4) },
    ];
    assert!(reuse(&mut ops, 4));
    assert_eq!(ops[3], Op::Copy { d: r(2), s: r(1) });
    assert!(reuse(&mut ops, 4));
    assert!(reuse(&mut ops, 4));
    assert_eq!(ops[5], Op::Copy { d: r(4), s: r(3) });
    assert_eq!(ops[6], Op::Give { s: r(3) });
    assert!(!reuse(&mut ops, 4));
}

#[test]
fn a_store_a_write_and_a_way_past_it_forget_what_was_found() {
    // A store into the block.
    let mut ops = vec![
        load(1, 0),
        Op::Store { base: M(90), i: r(0), s: r(1) },
        load(2, 0),
        Op::Store { base: M(200), i: r(0), s: r(2) },
        load(3, 0),
        Op::Give { s: r(3) },
    ];
    let before = ops.clone();
    // What a place in a block of unknown length holds is forgotten by every store behind its beginning.
    assert!(!reuse(&mut ops, 4));
    assert_eq!(ops, before);
    // The index, and the register itself.
    let mut ops = vec![load(1, 0), Op::Inc { d: r(0) }, load(2, 0), Op::Give { s: r(2) }];
    assert!(!reuse(&mut ops, 4));
    let mut ops =
        vec![load(1, 0), load(1, 5), load(2, 0), Op::Sum { d: r(3), a: r(1), b: r(2) }, Op::Give { s: r(3) }];
    assert!(!reuse(&mut ops, 4));
    // One of two ways.
    let mut ops = vec![Op::JumpIf { a: r(5), to: To(2) }, load(1, 0), load(2, 0), Op::Give { s: r(2) }];
    assert!(!reuse(&mut ops, 4));
    // A copy whose source was written since is no copy of it any more.
    let mut ops = vec![
        Op::Copy { d: r(1), s: r(0) },
        Op::Inc { d: r(0) },
        Op::JumpIf { a: r(1), to: To(3) },
        Op::Give { s: r(1) },
    ];
    assert!(!reuse(&mut ops, 4));
    // A register that is loaded by itself.
    let mut ops = vec![load(0, 0), load(0, 0), Op::Give { s: r(0) }];
    assert!(!reuse(&mut ops, 4));
}

#[test]
fn a_cell_that_was_found_is_one_and_where_none_was_found_nothing_is_known() {
    let found = |d, to| Op::CellOr { d: r(d), p: r(0), to: To(to) };
    let of = |d| Op::CellOf { d: r(d), p: r(0), site: Site(0) };
    let mut ops = vec![found(1, 3), of(2), Op::Give { s: r(2) }, of(3), Op::Give { s: r(3) }];
    assert!(reuse(&mut ops, 4));
    assert_eq!(ops[1], Op::Copy { d: r(2), s: r(1) });
    assert_eq!(ops[3], of(3));
    // A second look jumps no more.
    let mut ops = vec![found(1, 4), found(2, 4), load(3, 2), Op::Give { s: r(3) }, Op::NotOffered {}];
    assert!(reuse(&mut ops, 4));
    assert_eq!(ops[1], Op::Copy { d: r(2), s: r(1) });
}

#[test]
fn nothing_is_carried_past_a_pause() {
    let mut ops = vec![
        load(1, 0),
        Op::BeforeDraw { point: 0 },
        load(2, 0),
        Op::Sum { d: r(3), a: r(1), b: r(2) },
        Op::Give { s: r(3) },
    ];
    assert!(!reuse(&mut ops, 4));
}

#[test]
fn a_number_that_is_written_twice_is_read_where_it_was_written_first() {
    let mut ops = vec![
        Op::Const { d: r(1), v: 2 },
        Op::JumpIf { a: r(0), to: To(3) },
        Op::NotOffered {},
        Op::Const { d: r(2), v: 2 },
        Op::JumpEq { a: r(0), b: r(2), to: To(5) },
        Op::Give { s: r(2) },
    ];
    assert!(reuse(&mut ops, 4));
    assert_eq!(ops[4], Op::JumpEq { a: r(0), b: r(1), to: To(5) });
    assert_eq!(ops[5], Op::Give { s: r(1) });
}

#[test]
fn what_the_level_decides_is_left_out() {
    let r = |n| R(n);
    let mut ops = vec![
        Op::Const { d: r(0), v: 1 },
        Op::Const { d: r(1), v: 2 },
        Op::JumpLt { a: r(1), b: r(0), to: To(6) },
        Op::Const { d: r(2), v: 1 },
        Op::Jump { to: To(7) },
        Op::Fault { site: Site(0) },
        Op::Const { d: r(2), v: 0 },
        Op::JumpUnless { a: r(2), to: To(9) },
        Op::Give { s: r(1) },
        Op::NotOffered {},
    ];
    tidy(&mut ops, &[], 4);
    assert_eq!(ops, vec![Op::Const { d: r(1), v: 2 }, Op::Give { s: r(1) }]);
}

#[test]
fn a_truth_is_tested_where_it_is_found() {
    let r = |n| R(n);
    // r2 = r0 == r1; if r2 { give r0 } else { give r1 }
    let mut ops = vec![
        Op::JumpNe { a: r(0), b: r(1), to: To(3) },
        Op::Const { d: r(2), v: 1 },
        Op::Jump { to: To(4) },
        Op::Const { d: r(2), v: 0 },
        Op::JumpUnless { a: r(2), to: To(6) },
        Op::Give { s: r(0) },
        Op::Give { s: r(1) },
    ];
    tidy(&mut ops, &[r(0), r(1)], 4);
    assert_eq!(
        ops,
        vec![Op::JumpNe { a: r(0), b: r(1), to: To(2) }, Op::Give { s: r(0) }, Op::Give { s: r(1) }]
    );
}

#[test]
fn pauses_that_do_nothing_are_left_out() {
    let r = |n| R(n);
    let draw = |point| Op::Draw { d: r(1), n: r(0), base: M(0), weights: M(0), point };
    let ops = vec![
        Op::BeforeDraw { point: 0 },
        draw(1),
        Op::BeforeDraw { point: 2 },
        draw(3),
        Op::Merge { point: 4 },
        Op::Done {},
    ];
    let mut short = ops.clone();
    tidy(&mut short, &[r(0)], 4);
    assert_eq!(short, vec![Op::BeforeDraw { point: 0 }, draw(1), draw(3), Op::Done {}]);
    // A branch that ends without waiting for the others comes before them: the order would change.
    let mut other = ops.clone();
    other.insert(0, Op::JumpIf { a: r(0), to: To(6) });
    tidy(&mut other, &[r(0)], 4);
    assert!(other.contains(&Op::Merge { point: 4 }), "{other:?}");
    // The first draw may be passed over.
    let mut past = ops;
    past.insert(1, Op::JumpIf { a: r(0), to: To(3) });
    tidy(&mut past, &[r(0)], 4);
    assert!(past.contains(&Op::BeforeDraw { point: 2 }), "{past:?}");
}

#[test]
fn a_loop_without_an_end_stays_one() {
    let mut ops = vec![Op::Jump { to: To(0) }];
    tidy(&mut ops, &[], 4);
    assert_eq!(ops, vec![Op::Jump { to: To(0) }]);
    let mut ops = vec![Op::Jump { to: To(1) }, Op::Jump { to: To(0) }];
    tidy(&mut ops, &[], 4);
    assert!(!ops.is_empty() && ops.iter().all(|op| matches!(op, Op::Jump { .. })));
}

fn code(ops: Vec<Op>) -> Code {
    let end = ops.len() as u32;
    Code {
        ops,
        programs: vec![Program { name: "p".into(), entry: 0, end, params: vec![] }],
        sites: vec![FaultSite { kind: FaultKind::Overflow, span: Span::default() }],
        registers: 4,
        memory: 12,
        before: 0,
        now: 5,
        state_len: 5,
        cells: 4,
        ..Code::default()
    }
}

#[test]
fn an_operation_takes_sixteen_bytes() {
    assert_eq!(std::mem::size_of::<Op>(), 16);
}

#[test]
fn the_verifier_names_every_kind_of_damage() {
    let (r0, r1, r9) = (R(0), R(1), R(9));
    let cases: Vec<(Vec<Op>, &str)> = vec![
        (vec![Op::Const { d: r0, v: 1 }], "runs past its end"),
        (vec![Op::Jump { to: To(7) }], "leaves the program"),
        (vec![Op::Const { d: r9, v: 1 }, Op::Done {}], "r9 does not exist"),
        (vec![Op::Copy { d: r0, s: r1 }, Op::Done {}], "r1 is read before"),
        (vec![Op::Fault { site: Site(3) }], "#3 does not exist"),
        (vec![Op::ClearCells { d: M(10) }, Op::Done {}], "outside the memory"),
        (vec![Op::Const { d: r0, v: 0 }, Op::StoreAt { to: M(2), s: r0 }, Op::Done {}], "stores where"),
        (vec![Op::Const { d: r0, v: 0 }, Op::StoreAt { to: M(6), s: r0 }, Op::Done {}], "stores where"),
        (vec![Op::Const { d: r0, v: 0 }, Op::PutAt { to: M(2), s: r0 }, Op::Done {}], "stores where"),
        (vec![Op::Recall { d: r0, memo: 0, to: To(1) }, Op::Done {}], "memo 0"),
        (
            // Written on one way only.
            vec![
                Op::Const { d: r0, v: 0 },
                Op::JumpIf { a: r0, to: To(3) },
                Op::Const { d: r1, v: 0 },
                Op::Give { s: r1 },
            ],
            "r1 is read before",
        ),
    ];
    for (ops, want) in cases {
        let bad = code(ops).verify().expect_err(want).join("\n");
        assert!(bad.contains(want), "{bad}");
    }
    let good = vec![Op::Const { d: r0, v: 5 }, Op::Give { s: r0 }];
    assert_eq!(code(good).verify(), Ok(()));
}
