//! Random programs of the intermediate form, run by native code and by the interpreter: every kind of operation on numbers at the edge of
//! what fits, cells and places at the rim of the board and beyond, any bits, any placed shape, whole blocks, and stores that are packed.
//!
//! Models never ask for most of this: what they lower to is checked before. Native code must do the same all the same.

use crate::common;

use std::collections::BTreeMap;

use common::{games, left_by, model, times};
use fendle_lang::Game;
use fendle_lang::code::ir::{Beside, Code, Comparison, FaultSite, M, Op, Program, R, Site, Steps, To};
use fendle_lang::code::machine::Machine;
use fendle_lang::model::code as codes;
use fendle_lang::run::FaultKind;
use fendle_lang::source::Span;
use rand::{Rng, SeedableRng, rngs::SmallRng};

const MODEL: &str = "\
model programs
shapes load {
    keg \"@\"
    bar \"@x\"
    hook \"x./@x\"
}
state tile: grid of 0..5 = 0
state flag: grid of bool = false
state count: 0..99 = 0
state held: placed load = placed(keg, place(2, 2))
move rest { count = 0 }
";

/// What a register holds, so that operations are given what they are made for.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
enum Kind {
    /// Any number.
    Number,
    /// 0 or 1.
    Truth,
    /// A value of a tile.
    Tile,
    Cell,
    Place,
    /// What may be no place at all: it is only asked whether it is on the board.
    Far,
    Direction,
    Straight,
    Offset,
    Bits,
    Placed,
    Shape,
    Lane,
    /// A number below those of rows and of columns.
    Line,
    Zero,
    /// Counts loops, and entries of a list.
    Counter,
}

use Kind::*;

const REGISTERS: [(Kind, u16); 16] = [
    (Number, 6),
    (Truth, 2),
    (Tile, 2),
    (Cell, 3),
    (Place, 3),
    (Far, 2),
    (Direction, 2),
    (Straight, 2),
    (Offset, 3),
    (Bits, 3),
    (Placed, 3),
    (Shape, 1),
    (Lane, 2),
    (Line, 1),
    (Zero, 1),
    (Counter, 3),
];

/// Blocks of the memory.
#[derive(Clone, Copy)]
struct Blocks {
    tile: M,
    flag: M,
    /// Scratch that holds sets of cells.
    sets: [M; 2],
    /// Scratch that holds any numbers, as many as there are cells.
    numbers: M,
    list: M,
}

/// Writes random programs for a board.
struct Maker<'r> {
    rng: &'r mut SmallRng,
    first: u16,
    sites: u32,
    board: (i64, i64),
    placed: i64,
    blocks: Blocks,
    dom: u16,
    memo: u16,
    /// How often each operation was written.
    met: BTreeMap<&'static str, usize>,
}

const EDGES: [i64; 12] =
    [0, 1, -1, 2, -7, 63, 64, i32::MAX as i64, i32::MIN as i64, i64::MAX, i64::MIN, i64::MIN + 1];

impl Maker<'_> {
    fn below(&mut self, n: usize) -> usize {
        self.rng.random_range(0..n)
    }

    fn cells(&self) -> i64 {
        self.board.0 * self.board.1
    }

    /// A register of a kind.
    fn of(&mut self, kind: Kind) -> R {
        let mut first = self.first;
        for (k, n) in REGISTERS {
            if k == kind {
                return R(first + self.rng.random_range(0..n));
            }
            first += n;
        }
        unreachable!("all kinds are listed")
    }

    /// A number that a register of a kind can hold.
    fn value(&mut self, kind: Kind) -> i64 {
        let (rows, cols) = self.board;
        match kind {
            Number => match self.below(3) {
                0 => EDGES[self.below(EDGES.len())],
                1 => self.rng.random_range(-9..10),
                _ => self.rng.random(),
            },
            Truth => self.rng.random_range(0..2),
            Tile => self.rng.random_range(0..6),
            Cell => self.rng.random_range(0..rows * cols),
            Place => codes::place(self.rng.random_range(-2..rows + 2), self.rng.random_range(-2..cols + 2)),
            Far => self.rng.random_range(-(1 << 33)..1 << 33),
            Direction => self.rng.random_range(0..8),
            Straight => self.rng.random_range(0..4),
            Offset => self.rng.random_range(-3..4) * codes::ROW + self.rng.random_range(-3..4),
            Bits => match self.below(3) {
                0 => [0, -1, 1, i64::MIN][self.below(4)],
                _ => self.rng.random::<i64>() & self.rng.random::<i64>(),
            },
            Placed => self.rng.random_range(0..self.placed),
            Shape => self.rng.random_range(0..3),
            Lane => {
                let wall = self.rng.random_range(0..4);
                let lanes = if wall % 2 == 0 { cols } else { rows };
                codes::lane_at(wall, self.rng.random_range(0..lanes), self.board)
            }
            Line => self.rng.random_range(0..rows.min(cols)),
            Zero | Counter => 0,
        }
    }

    fn comparison(&mut self) -> Comparison {
        use Comparison::{Above, AtLeast, AtMost, Below, Differs, Equal};
        [Equal, Differs, Below, AtMost, Above, AtLeast][self.below(6)]
    }

    fn grid(&mut self) -> M {
        [self.blocks.tile, self.blocks.flag, self.blocks.numbers][self.below(3)]
    }

    fn set(&mut self) -> M {
        [self.blocks.flag, self.blocks.sets[0], self.blocks.sets[1]][self.below(3)]
    }

    /// One operation; `to` is where it may jump, and `back` where a loop begins.
    #[expect(clippy::too_many_lines, reason = "one arm for each kind of operation")]
    fn op(&mut self, to: To, back: To) -> Op {
        let site = Site(self.sites + self.rng.random_range(0..4));
        let (n, truth) = (self.of(Number), self.of(Truth));
        let (a, b) = (self.of(Number), self.of(Number));
        let (c, p, o, bits, held) =
            (self.of(Cell), self.of(Place), self.of(Offset), self.of(Bits), self.of(Placed));
        let (other_bits, tile, lane, line) = (self.of(Bits), self.of(Tile), self.of(Lane), self.of(Line));
        let (len, how, grid) = (self.cells() as u32, self.comparison(), self.grid());
        let word = self.below(len.div_ceil(64) as usize) as u8;
        let (sets, set, numbers) = (self.blocks.sets[self.below(2)], self.set(), self.blocks.numbers);
        let (shapes, zero) = (0, self.of(Zero));
        match self.below(86) {
            0 => Op::Add { d: n, a, b, site },
            1 => Op::Sub { d: n, a, b, site },
            2 => Op::Mul { d: n, a, b, site },
            3 => Op::Div { d: n, a, b, site },
            4 => Op::Mod { d: n, a, b, site },
            5 => Op::Pow { d: n, a, b, site },
            6 => Op::Min { d: n, a, b },
            7 => Op::Max { d: n, a, b },
            8 => Op::Neg { d: n, a, site },
            9 => Op::Abs { d: n, a, site },
            10 => Op::Eq { d: truth, a, b },
            11 => Op::Ne { d: truth, a, b },
            12 => Op::Lt { d: truth, a, b },
            13 => Op::Le { d: truth, a, b },
            14 => Op::Not { d: truth, a },
            15 => Op::JumpIf { a: truth, to },
            16 => Op::JumpUnless { a: truth, to },
            17 => Op::JumpEq { a: tile, b: self.of(Tile), to },
            18 => Op::JumpNe { a, b, to },
            19 => Op::JumpLt { a, b, to },
            20 => Op::JumpLe { a, b, to },
            21 => Op::LoopTo { d: self.of(Counter), n: self.rng.random_range(1..5), to: back, site },
            22 => Op::CheckLoop { a, b, site },
            23 => Op::Load { d: n, base: grid, i: c },
            24 => Op::Load { d: tile, base: self.blocks.tile, i: c },
            25 => Op::LoadAt { d: n, from: M(grid.0 + self.rng.random_range(0..len)) },
            26 => Op::Store { base: numbers, i: c, s: a },
            27 => Op::StoreAt { to: M(numbers.0 + self.rng.random_range(0..len)), s: a },
            28 => Op::Put { base: self.blocks.tile, i: c, s: tile },
            29 => Op::Put { base: self.blocks.flag, i: c, s: truth },
            30 => Op::PutAt { to: M(self.blocks.tile.0 + self.rng.random_range(0..len)), s: tile },
            31 => Op::PutBlock { d: self.blocks.flag, s: sets, len },
            32 => Op::Check { s: a, lo: -5, hi: [5, i32::MAX][self.below(2)], site },
            33 => Op::CheckBlock { base: self.blocks.tile, len, dom: self.dom, site },
            34 => Op::CopyBlock { d: numbers, s: grid, len: self.rng.random_range(1..=len) },
            35 => Op::ClearCells { d: sets },
            36 => Op::SameBlock { d: truth, a: grid, b: numbers, len: self.rng.random_range(1..=len) },
            37 => Op::Union { d: sets, a: set, b: self.set() },
            38 => Op::Minus { d: sets, a: set, b: self.set() },
            39 => Op::Both { d: sets, a: set, b: self.set() },
            40 => Op::PlaceOf { d: p, c },
            41 => Op::CellOf { d: c, p, site },
            42 => Op::CellOr { d: c, p: self.of(Far), to },
            43 => Op::Beside {
                d: c,
                c: self.of(Cell),
                o: codes::ROW as i32 * [0, 1, -1, 9][self.below(4)] + 1,
                to,
            },
            44 => Op::FloodEqual { d: sets, base: self.blocks.tile, from: c, v: tile, beside: 0 },
            45 => Op::OnBoard { d: truth, p: self.of(Far) },
            46 => Op::Shift { d: p, p: self.of(Place), o, site },
            47 => Op::ShiftBack { d: p, p: self.of(Place), o, site },
            48 => Op::Peek { d: self.of(Far), p, o },
            49 => Op::OffAdd { d: o, a: self.of(Offset), b: self.of(Offset), site },
            50 => Op::OffSub { d: o, a: self.of(Offset), b: self.of(Offset), site },
            51 => Op::OffMul { d: o, a: self.of(Offset), b: a, site },
            52 => Op::DirOff { d: o, a: self.of(Direction) },
            53 => Op::Row { d: n, p },
            54 => Op::Col { d: n, p },
            55 => Op::PlaceAt { d: p, a, b, site },
            56 => Op::Opposite { d: self.of(Direction), a: self.of(Direction) },
            57 => Op::Turned { d: self.of(Direction), a: self.of(Direction) },
            58 => Op::LanesLen { d: n, a: self.of(Direction), site },
            59 => Op::LaneAt { d: lane, a: self.of(Straight), i: line },
            60 => Op::LaneLen { d: n, a: lane },
            61 => Op::LaneVertical { d: truth, a: lane },
            62 => Op::LaneCell { d: c, a: lane, i: line },
            63 => Op::Parity { d: truth, base: grid, len: self.rng.random_range(1..4), site },
            64 => Op::Distinct { d: truth, base: grid, len: self.rng.random_range(1..4) },
            65 => Op::NextIn { d: c, base: set, to },
            66 => Op::NextEq { d: c, base: grid, v: self.rng.random_range(0..6), to },
            67 => Op::CompareBlocks {
                d: bits,
                a: grid,
                b: numbers,
                n: self.rng.random_range(1..=len) as u8,
                how,
            },
            68 => {
                let (n, v) = (self.rng.random_range(1..=len) as u8, self.rng.random_range(-1..7));
                [
                    Op::Compare { d: bits, a: grid, v: a, n, how },
                    Op::CompareTo { d: bits, a: grid, v, n, how },
                ][self.below(2)]
            }
            69 => Op::BitAnd { d: bits, a: other_bits, b: self.of(Bits) },
            70 => Op::BitOr { d: bits, a: other_bits, b: self.of(Bits) },
            71 => Op::BitMinus { d: bits, a: other_bits, b: self.of(Bits) },
            72 => Op::BitMove {
                d: bits,
                s: other_bits,
                by: [0, 1, -1, 5, -63, 63, 64, -64, 900][self.below(9)],
            },
            73 => Op::BitCount { d: n, s: bits },
            74 => Op::BitAt { d: truth, s: bits, i: a },
            75 => Op::CellsOf { d: sets, s: bits },
            76 => Op::FloodBits { d: bits, m: other_bits, from: c, steps: 0 },
            77 => Op::Spread { d: bits, s: other_bits, steps: 0 },
            78 => Op::NextBit { d: n, s: bits, to },
            79 => [
                Op::Push { d: self.of(Counter), base: self.blocks.list, s: a },
                Op::Entry { d: n, base: self.blocks.list, i: zero },
                Op::CheckEntry { i: a, n: b, site },
                Op::Copy { d: n, s: bits },
            ][self.below(4)],
            80 => Op::CutLanes { d: numbers, s: grid, gone: sets, fill: tile, flags: self.below(4) as u8 },
            81 => Op::OpenLane { d: numbers, s: self.blocks.tile, lane: line, flags: self.below(4) as u8 },
            82 => {
                let (v, fill) = (self.rng.random_range(0..6), self.rng.random_range(0..6));
                Op::Gather { base: self.blocks.tile, lane, how, v, fill }
            }
            83 => [
                Op::ShapeMove { d: held, p: self.of(Placed), o, shapes, site },
                Op::ShapeTurn { d: held, p: self.of(Placed), by: a, shapes },
                Op::ShapeMake { d: held, k: self.of(Shape), p, shapes, site },
                Op::ShapeAnchor { d: p, p: held, shapes },
            ][self.below(4)],
            84 => [
                Op::ShapeKind { d: n, p: held, shapes },
                Op::ShapeTurnOf { d: n, p: held, shapes },
                Op::ShapeLen { d: n, p: held, shapes },
                Op::ShapeCell { d: self.of(Far), p: held, i: zero, shapes },
                Op::ShapeBits { d: bits, p: held, word, shapes },
                Op::ShapeFits { d: truth, p: held, s: bits, word, shapes },
            ][self.below(6)],
            _ => [Op::Remember { s: a, memo: self.memo }, Op::Recall { d: n, memo: self.memo, to }]
                [self.below(2)],
        }
    }

    /// Appends a program to the code.
    fn program(&mut self, code: &mut Code) {
        let entry = code.ops.len() as u32;
        for (kind, n) in REGISTERS {
            for _ in 0..n {
                let (d, v) = (R(self.first + (code.ops.len() as u32 - entry) as u16), self.value(kind));
                code.ops.push(Op::Const { d, v });
            }
        }
        let body = code.ops.len() as u32;
        let len = self.rng.random_range(4..14u32);
        let mut last = R(self.first);
        for i in 0..len {
            let (to, back) = (self.rng.random_range(i + 1..=len), self.rng.random_range(0..=i));
            let op = self.op(To(body + to), To(body + back));
            *self.met.entry(op.name()).or_default() += 1;
            op.visit(&mut |r, writes| {
                if writes {
                    last = r
                }
            });
            code.ops.push(op);
        }
        code.ops.push(Op::Give { s: last });
        let end = code.ops.len() as u32;
        let name = format!("random {}", code.programs.len());
        code.programs.push(Program { name, entry, end, params: vec![] });
    }
}

/// The code of a game with random programs behind its own: where these begin, and where the blocks lie that they work on.
fn with_programs(
    game: &Game,
    board: (i64, i64),
    rng: &mut SmallRng,
    met: &mut BTreeMap<&'static str, usize>,
) -> (Code, u32, Blocks) {
    let mut code = Code::clone(&game.code);
    let bound = &game.bound;
    let cells = code.cells;
    let at = |name: &str| M(code.now + bound.slots[bound.model.var(name).expect("declared")].base as u32);
    let (tile, flag) = (at("tile"), at("flag"));
    let scratch: [M; 4] = std::array::from_fn(|i| M(code.memory + i as u32 * cells));
    code.memory += 3 * cells + 600;
    code.scratch.extend(scratch.iter().map(|m| (m.0, if *m == scratch[3] { 600 } else { cells })));
    let sites = code.sites.len() as u32;
    let site = |_| FaultSite { kind: FaultKind::Overflow, span: Span::default() };
    code.sites.extend((0..4).map(site));
    code.beside = vec![Beside::new(board, &[(0, 1), (1, 0), (0, -1), (-1, 0)])];
    code.steps = vec![Steps::new(board, &[(0, 1), (1, 1), (-1, 0)])];
    code.doms.push((0, 4, false));
    code.memos += 1;
    let first = code.registers as u16;
    code.registers += u32::from(REGISTERS.iter().map(|r| r.1).sum::<u16>());
    let old = code.programs.len() as u32;
    let blocks = Blocks { tile, flag, sets: [scratch[0], scratch[1]], numbers: scratch[2], list: scratch[3] };
    let mut maker = Maker {
        rng,
        first,
        sites,
        board,
        placed: code.shapes[0].values_len(),
        blocks,
        dom: code.doms.len() as u16 - 1,
        memo: code.memos as u16 - 1,
        met: std::mem::take(met),
    };
    for _ in 0..120 {
        maker.program(&mut code);
    }
    *met = maker.met;
    code.verify().unwrap_or_else(|bad| panic!("{}", bad.join("\n")));
    (code, old, blocks)
}

#[test]
fn native_code_does_what_the_interpreter_does_operation_by_operation() {
    let mut met = BTreeMap::new();
    let (mut given, mut broken) = (0, 0);
    for seed in 0..24 * times() {
        let mut rng = SmallRng::seed_from_u64(500 + seed);
        let board = [(3, 4), (1, 7), (5, 2), (8, 8), (4, 4)][seed as usize % 5];
        let level = format!("model = 'programs'\nsize = [{}, {}]\n[[level]]\n", board.0, board.1);
        let game = games(&model(MODEL), &level).remove(0);
        let (code, old, blocks) = with_programs(&game, board, &mut rng, &mut met);
        let bound = &game.bound;
        let native = fendle_native::compile(bound, &code).expect("this machine makes native code");
        let (mut slow, mut fast) = (Machine::new(bound, &code), Machine::new(bound, &code));
        fast.set_native(Some(&native));
        for _ in 0..4 {
            let mut state = bound.position.clone();
            for (slot, len) in [(blocks.tile, 6), (blocks.flag, 2)] {
                let slot = (slot.0 - code.now) as usize;
                state[slot..slot + code.cells as usize].fill_with(|| rng.random_range(0..len));
            }
            let words = game.pack(&state);
            for program in old..code.programs.len() as u32 {
                let (a, b) = (left_by(&mut slow, program, &words), left_by(&mut fast, program, &words));
                let Program { entry, end, .. } = code.programs[program as usize];
                let ops = &code.ops[entry as usize..end as usize];
                assert_eq!(a, b, "seed {seed}, {board:?}: {ops:#?}\nin {state:?}");
                match a.0 {
                    Ok(_) => given += 1,
                    Err(_) => broken += 1,
                }
            }
        }
    }
    assert!(given > 5_000 && broken > 1_000, "{given} gave a value, {broken} broke");
    let known = ["Const", "Give"].map(|name| (name, 0));
    met.extend(known);
    let never: Vec<&&str> = Op::NAMES.iter().filter(|name| !met.contains_key(**name)).collect();
    // Lists are tested with the models that have them; the others end, suspend or only note something.
    let elsewhere = [
        "Jump",
        "Inc",
        "Loop",
        "Sum",
        "LoadFrom",
        "PutInto",
        "ListCopy",
        "ListCheck",
        "ListSame",
        "ListFind",
        "ListAdd",
        "ListDrop",
        "ListTail",
        "ListJoin",
        "Reset",
        "ShapeMirror",
        "ShapePart",
        "Draw",
        "Merge",
        "BeforeDraw",
        "Cut",
        "Score",
        "RefuseAt",
        "RefuseIn",
        "RefuseAmong",
        "Refuse",
        "NotOffered",
        "Fault",
        "FaultWith",
        "Done",
    ];
    assert!(never.iter().all(|name| elsewhere.contains(name)), "{never:?}");
}
