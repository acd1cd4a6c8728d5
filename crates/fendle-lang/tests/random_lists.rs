//! Random programs of the intermediate form on lists, run by native code and by the interpreter: lists that are full or empty, bags that
//! stay sorted, entries that are not there, values out of range, and what is taken from one list onto another.

use crate::common;

use std::collections::BTreeMap;

use common::{games, left_by, model, times};
use fendle_lang::Game;
use fendle_lang::code::ir::{Code, FaultSite, ListInfo, M, Op, Program, R, Site};
use fendle_lang::code::machine::Machine;
use fendle_lang::run::FaultKind;
use fendle_lang::source::Span;
use rand::{Rng, SeedableRng, rngs::SmallRng};

const MODEL: &str = "\
model lists
state pile: array 1..3 of list of 1..9 max 5
state queue: list of 1..12 max 7
state pot: bag of 1..6 max 4
state few: list of 1..9 max 1
move rest { queue.push(1) }
";

/// Lists of one kind: what is known of them, and how many there are.
struct Kind {
    number: u16,
    info: ListInfo,
    count: u32,
}

impl Kind {
    /// Where one of them lies.
    fn at(&self, rng: &mut SmallRng) -> i64 {
        i64::from(self.info.base.0 + rng.random_range(0..self.count) * (self.info.cap + 1))
    }
}

/// The code of a game with lists of its own that programs can name, and one more in scratch memory.
fn with_lists(game: &Game) -> (Code, Vec<Kind>, M) {
    let mut code = Code::clone(&game.code);
    let b = &game.bound;
    let mut kinds = vec![];
    let own = [
        ("pile", 5, 9, 3, false),
        ("queue", 7, 12, 1, false),
        ("pot", 4, 6, 1, true),
        ("few", 1, 9, 1, false),
    ];
    for (name, cap, hi, count, bag) in own {
        let slot = &b.slots[b.model.var(name).expect("declared")];
        assert_eq!(slot.len as u32, count * (cap + 1), "{name}");
        let base = M(code.now + slot.base as u32);
        let pad = slot.pad() as i32;
        let info =
            ListInfo { base, len: slot.len as u32, cap, pad, lo: 1, hi, maybe: false, bag, puts: true };
        kinds.push((info, count));
    }
    let scratch = ListInfo { base: M(code.memory), len: 7, cap: 6, puts: false, bag: false, ..kinds[0].0 };
    kinds.push((scratch, 1));
    let taken = M(code.memory + 7);
    code.scratch.push((code.memory, 7));
    code.scratch.push((code.memory + 7, 12));
    code.memory += 19;
    let first = code.lists.len() as u16;
    code.lists.extend(kinds.iter().map(|k| k.0));
    let kinds = kinds.into_iter().enumerate();
    let kinds = kinds.map(|(i, (info, count))| Kind { number: first + i as u16, info, count }).collect();
    (code, kinds, taken)
}

/// Writes random programs.
struct Maker<'m> {
    rng: &'m mut SmallRng,
    kinds: &'m [Kind],
    taken: M,
    first: u16,
    sites: u32,
    met: BTreeMap<&'static str, usize>,
}

/// Registers of a program, from the first one on.
const A: u16 = 0;
const B: u16 = 1;
const LENGTH: u16 = 2;
const ENTRY: u16 = 3;
const VALUE: u16 = 4;
const ADDRESS: u16 = 5;
const RESULT: u16 = 6;
const REGISTERS: u32 = 10;

impl Maker<'_> {
    fn r(&self, n: u16) -> R {
        R(self.first + n)
    }

    /// One of the registers in which results are kept.
    fn result(&mut self) -> R {
        let n = RESULT + self.rng.random_range(0..REGISTERS as u16 - RESULT);
        self.r(n)
    }

    /// What is done with one list, or with two.
    fn step(&mut self, ops: &mut Vec<Op>) {
        let kinds = self.kinds;
        let (one, two) =
            (&kinds[self.rng.random_range(0..kinds.len())], &kinds[self.rng.random_range(0..kinds.len())]);
        let (a, b) = (self.r(A), self.r(B));
        let (at, other) = (one.at(self.rng), two.at(self.rng));
        let site = Site(self.sites + self.rng.random_range(0..4));
        let (length, entry, value, address) = (self.r(LENGTH), self.r(ENTRY), self.r(VALUE), self.r(ADDRESS));
        let result = self.result();
        let list = one.number;
        ops.push(Op::Const { d: a, v: at });
        ops.push(Op::Const { d: b, v: other });
        ops.push(Op::Const { d: entry, v: self.rng.random_range(0..5) });
        let any = [i64::MAX, i64::MIN, -1, 0, i64::from(i32::MAX) + 1][self.rng.random_range(0..5)];
        let some = if self.rng.random_bool(0.1) { any } else { self.rng.random_range(1..8) };
        ops.push(Op::Const { d: value, v: some });
        let there = |ops: &mut Vec<Op>| {
            ops.push(Op::LoadFrom { d: length, a, list });
            ops.push(Op::CheckEntry { i: entry, n: length, site });
        };
        match self.rng.random_range(0..8) {
            0 | 1 => {
                ops.push(Op::ListAdd { a, v: value, list, site });
                ops.push(Op::ListCheck { s: a, list, site });
            }
            2 => {
                there(ops);
                ops.push(Op::ListDrop { a, i: entry, list });
            }
            3 => ops.push(Op::ListFind { d: result, a, v: value, list }),
            4 => ops.push(Op::ListSame { d: result, a, b, list, other: two.number }),
            5 if at != other && (!one.info.bag || two.info.bag) => {
                ops.push(Op::ListCopy { d: a, s: b, list, from: two.number, site });
                ops.push(Op::ListCheck { s: a, list, site });
            }
            6 if at != other && !two.info.bag => {
                ops.push(Op::LoadFrom { d: length, a, list });
                ops.push(Op::Min { d: length, a: length, b: entry });
                ops.push(Op::ListTail { s: a, n: length, to: self.taken, list });
                ops.push(Op::ListJoin { d: b, n: length, from: self.taken, list: two.number, site });
                ops.push(Op::ListCheck { s: b, list: two.number, site });
            }
            7 => {
                there(ops);
                ops.push(Op::Sum { d: address, a, b: entry });
                if one.info.bag || self.rng.random_bool(0.5) {
                    ops.push(Op::LoadFrom { d: result, a: address, list });
                } else {
                    ops.push(Op::Const { d: value, v: self.rng.random_range(1..7) });
                    ops.push(Op::PutInto { a: address, s: value, list });
                }
            }
            _ => ops.push(Op::LoadFrom { d: result, a, list }),
        }
    }

    /// Appends a program to the code.
    fn program(&mut self, code: &mut Code) {
        let entry = code.ops.len() as u32;
        for n in 0..REGISTERS as u16 {
            code.ops.push(Op::Const { d: self.r(n), v: i64::from(n) });
        }
        // Scratch begins with an empty list.
        let scratch = &self.kinds[self.kinds.len() - 1].info;
        code.ops.push(Op::StoreAt { to: scratch.base, s: self.r(0) });
        for _ in 0..self.rng.random_range(1..7) {
            let before = code.ops.len();
            self.step(&mut code.ops);
            for op in &code.ops[before..] {
                *self.met.entry(op.name()).or_default() += 1;
            }
        }
        let s = self.result();
        code.ops.push(Op::Give { s });
        let name = format!("random {}", code.programs.len());
        let end = code.ops.len() as u32;
        code.programs.push(Program { name, entry, end, params: vec![] });
    }
}

/// A state with any lists.
fn any_state(game: &Game, kinds: &[Kind], now: u32, rng: &mut SmallRng) -> Vec<i32> {
    let mut state = game.bound.position.clone();
    for kind in kinds.iter().filter(|k| k.info.puts) {
        let ListInfo { base, cap, pad, hi, bag, .. } = kind.info;
        for i in 0..kind.count {
            let at = (base.0 - now + i * (cap + 1)) as usize;
            let len = rng.random_range(0..=cap) as usize;
            let list = &mut state[at..=at + cap as usize];
            list.fill(pad);
            list[0] = len as i32;
            list[1..=len].fill_with(|| rng.random_range(1..=hi));
            if bag {
                list[1..=len].sort_unstable();
            }
        }
    }
    state
}

#[test]
fn native_code_does_with_lists_what_the_interpreter_does() {
    let game = games(&model(MODEL), "model = 'lists'\nsize = [2, 2]\n[[level]]\n").remove(0);
    let mut met = BTreeMap::new();
    let (mut given, mut broken, mut changed) = (0, 0, 0);
    for seed in 0..6 * times() {
        let mut rng = SmallRng::seed_from_u64(900 + seed);
        let (mut code, kinds, taken) = with_lists(&game);
        let sites = code.sites.len() as u32;
        let site = |_| FaultSite { kind: FaultKind::ListFull, span: Span::default() };
        code.sites.extend((0..4).map(site));
        let first = code.registers as u16;
        code.registers += REGISTERS;
        let old = code.programs.len() as u32;
        let met_before = std::mem::take(&mut met);
        let mut maker = Maker { rng: &mut rng, kinds: &kinds, taken, first, sites, met: met_before };
        for _ in 0..150 {
            maker.program(&mut code);
        }
        met = maker.met;
        code.verify().unwrap_or_else(|bad| panic!("{}", bad.join("\n")));
        let native = fendle_native::compile(&game.bound, &code).expect("this machine makes native code");
        let mut machines = [(); 2].map(|()| Machine::new(&game.bound, &code));
        machines[1].set_native(Some(&native));
        for _ in 0..8 {
            let state = any_state(&game, &kinds, code.now, &mut rng);
            let words = game.pack(&state);
            assert_eq!(game.unpack(&words), state);
            for program in old..code.programs.len() as u32 {
                let [slow, fast] = machines.each_mut().map(|machine| left_by(machine, program, &words));
                let Program { entry, end, .. } = code.programs[program as usize];
                let ops = &code.ops[entry as usize..end as usize];
                assert_eq!(slow, fast, "seed {seed}: {ops:#?}\nin {state:?}");
                match slow.0 {
                    Ok(_) => given += 1,
                    Err(_) => broken += 1,
                }
                if slow.0.is_ok() && slow.1 != state {
                    changed += 1;
                    assert_eq!(game.unpack(&slow.2), slow.1, "what is packed is what is there");
                }
            }
        }
    }
    assert!(
        given > 1_500 && broken > 1_500 && changed > 700,
        "{given} gave, {broken} broke, {changed} changed"
    );
    for name in [
        "ListAdd",
        "ListCheck",
        "ListDrop",
        "ListFind",
        "ListSame",
        "ListCopy",
        "ListTail",
        "ListJoin",
        "PutInto",
    ] {
        assert!(met.get(name).is_some_and(|n| *n > 20), "{name}: {met:?}");
    }
}
