//! What several tests need: games from texts, and the comparison of the two executors.

#![allow(dead_code)]

use std::collections::{HashMap, HashSet, VecDeque};
use std::sync::Arc;

use fendle_core::odds::{Fractions, odds};
use fendle_core::{
    Expansion, Exploration, Explored, Limits, Model as _, MoveId, NoWatch, Numbering as _, Status, Targets,
    Worker,
};
use fendle_lang::code::machine::{Break, Halt, Machine, Native as _, NativePacked, Outcomes, Successors};
use fendle_lang::code::native::WhenItPays;
use fendle_lang::code::numbered::Guess;
use fendle_lang::code::numbered::Numbered;
use fendle_lang::model::{EndKind, Model};
use fendle_lang::play::MoveTable;
use fendle_lang::reasons::numbering::numbering;
use fendle_lang::run::{Eval, FaultKind, Made, Outcome, RunFault};
use fendle_lang::{Game, Sources, bind, compile, level};
use fendle_native::NativeCode;

pub const SLIDE: &str = include_str!("../../../../models/slide.fendle");
pub const SHOVE: &str = include_str!("../../../../models/shove.fendle");

/// How many times as many random cases as usual are tried: `FENDLE_TIMES=10 cargo test -p fendle-lang` looks ten times as far.
pub fn times() -> u64 {
    std::env::var("FENDLE_TIMES").ok().and_then(|n| n.parse().ok()).unwrap_or(1)
}

/// Compiles a model, showing its diagnostics when it does not.
pub fn model(text: &str) -> Arc<Model> {
    let mut sources = Sources::default();
    let mut errors = vec![];
    let file = sources.add("model", text);
    match compile(file, text, &mut errors) {
        Some(m) => Arc::new(m),
        None => {
            let list: Vec<String> = errors.iter().map(|e| e.plain(&sources)).collect();
            panic!("{}\n{text}", list.join("\n"))
        }
    }
}

/// All games of a level file.
pub fn games(model: &Arc<Model>, text: &str) -> Vec<Game> {
    let mut sources = Sources::default();
    let mut errors = vec![];
    sources.add("model", "");
    let file = sources.add("level", text);
    let show = |errors: &[fendle_lang::Diagnostic]| {
        errors.iter().map(|e| format!("{} {}", e.code, e.message)).collect::<Vec<_>>().join("\n")
    };
    let Some(levels) = level::read(file, text, &mut errors) else { panic!("{}\n{text}", show(&errors)) };
    levels
        .levels
        .iter()
        .map(|l| match bind(model, file, l, &[], &mut errors) {
            Some(b) => fendle_lang::reasons::keeps::game_of(b).expect("within the limits"),
            None => panic!("{}\n{text}", show(&errors)),
        })
        .collect()
}

/// One game from the text of its model and one drawing or table of starts.
pub fn game(model_text: &str, level_text: &str) -> Game {
    games(&model(model_text), &format!("model = 'm'\n[[level]]\n{level_text}")).remove(0)
}

/// The same, from where its `setup` lays things: all ways, the first one as the position.
pub fn laid_out(model_text: &str, level_text: &str) -> Game {
    let mut game = game(model_text, level_text);
    if game.bound.drawn {
        let all = fendle_lang::run::setup::all(&game.bound).expect("a setup").expect("few ways");
        game.bound.position = all.starts[0].0.clone();
        game.starts = all.starts;
    }
    game
}

/// Runs both executors on one state: the status, and every move.
#[expect(clippy::too_many_lines, reason = "one part for each thing that two executors must agree about")]
pub fn compare(
    game: &Game,
    moves: &MoveTable,
    machine: &mut Machine<'_>,
    state: &[i32],
) -> Result<Seen, String> {
    let b = &game.bound;
    let mut seen = Seen::default();
    let fault = |b: Break| {
        let site = game.code.sites[b.site.0 as usize];
        RunFault { kind: site.kind, span: site.span, value: b.value }
    };
    let words = game.pack(state);
    if game.unpack(&words) != state {
        return Err(format!("{state:?} does not survive packing"));
    }
    let mut eval = Eval::new(b);
    // Statuses; laws are compared by the tests of `always`.
    let slow = eval.status(state);
    machine.load(&words);
    let fast = if machine.ended() != 0 {
        Ok(Some(machine.ended() as usize - 1))
    } else {
        machine.ask(game.code.status).map(|v| (v != 0).then(|| v as usize - 1)).map_err(fault)
    };
    if slow != fast {
        return Err(format!("status of {}: reference {slow:?}, code {fast:?}", b.line(state)));
    }
    machine.forget_ended();
    let mut source = words.clone();
    machine.pack_loaded(&mut source);
    let mut outcomes = Outcomes::default();
    for (number, (of, params)) in moves.list.iter().enumerate() {
        let slow = eval.apply(state, *of, params).map(|o| match o {
            Outcome::NotOffered => Tried::NotOffered,
            Outcome::Refused(site, places) => Tried::Refused(site, places),
            Outcome::Done(list) => Tried::Done(joined(list)),
        });
        let halt = machine.try_move(number);
        let chancy = matches!(halt, Ok(Halt::Paused(_) | Halt::Cut));
        let fast = halt.and_then(|halt| {
            Ok(match halt {
                Halt::Done => {
                    let mut words = source.clone();
                    machine.pack(&mut words)?;
                    Tried::Done(vec![(game.unpack(&words), (1, 1), (machine.score.into(), 1))])
                }
                Halt::Refused(site) => Tried::Refused(site as usize, machine.places.clone()),
                Halt::Paused(_) | Halt::Cut => {
                    machine.all_outcomes(halt, &source, &mut outcomes)?;
                    let states = outcomes.states.chunks_exact(words.len());
                    let mut list: Vec<_> = states
                        .zip(&outcomes.parts)
                        .map(|(s, p)| {
                            let chance = p.chance.reduced();
                            let chance = (chance.num, chance.den);
                            (game.unpack(s), chance, (p.score.num, p.score.den))
                        })
                        .collect();
                    list.sort();
                    Tried::Done(list)
                }
                _ => Tried::NotOffered,
            })
        });
        let fast = fast.map_err(fault);
        // Of several branches that break, the executors may meet another one first.
        if chancy && slow.is_err() && fast.is_err() {
            seen.faults.extend(slow.err());
            continue;
        }
        // The slow one follows each way on its own, and gives up where there are too many.
        if slow.as_ref().is_err_and(|f| f.kind == FaultKind::TooManyOutcomes) {
            continue;
        }
        if slow != fast {
            return Err(format!(
                "{} in {}:\nreference {slow:?}\ncode      {fast:?}",
                moves.name(number),
                b.line(state)
            ));
        }
        match slow {
            Ok(Tried::Done(list)) => {
                if list.len() > 1 {
                    seen.drawn += list.len();
                }
                for (state, ..) in list {
                    if state[b.ended_at()] as usize > b.model.endings.len() {
                        seen.set_aside += 1;
                    } else {
                        seen.next.push(state);
                    }
                }
            }
            Ok(Tried::Refused(..)) => seen.refused += 1,
            Ok(Tried::NotOffered) => seen.not_offered += 1,
            Err(f) => seen.faults.push(f),
        }
    }
    Ok(seen)
}

/// Native code of a game, and that for its packed states.
pub struct Compiled {
    native: Arc<NativeCode>,
    packed: Box<dyn NativePacked>,
}

/// Makes native code of a game.
pub fn compiled(game: &Game) -> Compiled {
    let native =
        Arc::new(fendle_native::compile(&game.bound, &game.code).expect("this machine makes native code"));
    let packed = Arc::clone(&native).packed(&game.code, &game.bound.codec).expect("for packed states, too");
    Compiled { native, packed }
}

/// An interpreter of a game, and a machine that runs this native code.
pub fn both<'g>(game: &'g Game, code: &'g Compiled) -> [Machine<'g>; 2] {
    let mut fast = Machine::new(&game.bound, &game.code);
    fast.set_native(Some(&*code.native));
    fast.set_packed(Some(&*code.packed));
    [Machine::new(&game.bound, &game.code), fast]
}

/// All executors agree on the position that a game begins with: the moves that they tried.
pub fn agreed_at_start(game: &Game) -> Result<MoveTable, String> {
    let (native, position) = (compiled(game), game.bound.position.clone());
    compare_native(game, &mut both(game, &native), &position)?;
    let table = MoveTable::new(&game.bound).expect("few moves");
    compare(game, &table, &mut Machine::new(&game.bound, &game.code), &position)?;
    Ok(table)
}

/// What a program left behind: what it gave, and the state now, with its packed words.
pub type Left = (Result<i64, Break>, Vec<i32>, Vec<u64>);

/// Runs a program on a packed state of a model that rearranges and spreads nothing.
pub fn left_by(machine: &mut Machine<'_>, program: u32, words: &[u64]) -> Left {
    machine.load(words);
    let given = machine.ask(program);
    let mut packed = words.to_vec();
    if given.is_ok() {
        machine.pack(&mut packed).expect("nothing is rearranged or spread");
    }
    (given, machine.values_now().to_vec(), packed)
}

/// Compares whole moves of native code for packed states with what the interpreter makes of a state, where none draws and nothing is
/// brought into a canonical form. Native code may leave states to the machine: false for these.
fn compare_expanded(game: &Game, fast: &mut Machine<'_>, words: &[u64]) -> Result<bool, String> {
    if !game.code.points.is_empty() || game.bound.canon.is_some() || game.checked.contains(&true) {
        return Ok(true);
    }
    let won = |number: usize| game.bound.model.endings[number].kind == EndKind::Goal;
    let endings: Vec<bool> = (0..game.bound.model.endings.len()).map(won).collect();
    let mut all = true;
    for past_goals in [false, true] {
        let mut want = Expansion::default();
        game.worker().expand(words, past_goals, &mut want);
        let past: &[bool] = if past_goals { &endings } else { &[] };
        let mut made = Successors::default();
        let packed = fast.packed().expect("it was given");
        packed.expand(fast, words, past, &mut made);
        let &[(status, _)] = made.heads.as_slice() else {
            all = false;
            continue;
        };
        let moves: Vec<u32> = want.runs.iter().map(|r| r.of.0).collect();
        let scores: Vec<i64> =
            (0..moves.len()).map(|i| want.odds.get(i).map_or(0, |odds| odds.score)).collect();
        let ended = matches!(want.heads[0].status, Status::Goal | Status::Lost(_) | Status::Over(_));
        let same = want.faults.is_empty()
            && (status != 0) == ended
            && made.moves[..made.len()] == moves
            && made.scores[..made.len()] == scores
            && made.states[..made.len() * words.len()] == want.outcomes;
        if !same {
            return Err(format!("whole moves of packed states: {status} {made:?}\ninstead of {want:?}"));
        }
    }
    Ok(all)
}

/// Compares native code with the interpreter on one state: every program that gives a value, and every move with all
/// that it leads to; then all moves in one call, where native code does that: it says whether it did. Only places of refusals are left out.
pub fn compare_native(
    game: &Game,
    [slow, fast]: &mut [Machine<'_>; 2],
    state: &[i32],
) -> Result<bool, String> {
    let words = game.pack(state);
    let mut source = words.clone();
    let mut outcomes = [Outcomes::default(), Outcomes::default()];
    for machine in [&mut *slow, &mut *fast] {
        machine.load(&words);
        if machine.ended() != 0 {
            machine.forget_ended();
            machine.pack_loaded(&mut source);
        }
    }
    let differ = |what: &str, a: &dyn std::fmt::Debug, b: &dyn std::fmt::Debug| {
        Err(format!("{what} in {}:\ninterpreted {a:?}\nnative      {b:?}", game.bound.line(state)))
    };
    let code = &game.code;
    let mut gives = vec![code.status, code.laws];
    gives.extend(code.keeps.iter().map(|k| k.0).chain(code.aim).chain(game.tells.iter().copied()));
    for program in gives.into_iter().filter(|p| (*p as usize) < code.programs.len()) {
        let (a, b) = (slow.ask(program), fast.ask(program));
        if a != b {
            return differ(&code.programs[program as usize].name, &a, &b);
        }
    }
    for number in 0..code.moves.len() {
        let made = |machine: &mut Machine<'_>, out: &mut Outcomes| {
            let halt = machine.try_move(number)?;
            let mut words = source.clone();
            match halt {
                Halt::Done => machine.pack(&mut words)?,
                Halt::Paused(_) | Halt::Cut => machine.all_outcomes(halt, &source, out)?,
                _ => {}
            }
            Ok::<_, Break>((halt, words, machine.score))
        };
        let [out_a, out_b] = &mut outcomes;
        let a = made(slow, out_a);
        let b = made(fast, out_b);
        if a != b {
            return differ(&format!("move {number}"), &a, &b);
        }
        if out_a.states != out_b.states || out_a.parts != out_b.parts {
            return differ(&format!("outcomes of move {number}"), &out_a.parts, &out_b.parts);
        }
    }
    compare_expanded(game, fast, &words)
}

/// A state, its chance, its mean score.
type Way = (Vec<i32>, (u128, u128), (i128, i128));

/// What a move did: states with chances and mean scores, sorted.
#[derive(Debug, PartialEq)]
enum Tried {
    NotOffered,
    Refused(usize, Vec<i64>),
    Done(Vec<Way>),
}

/// The outcomes of a move by state: chance as a fraction in lowest terms, and the mean score.
type Chances = std::collections::BTreeMap<(u32, Vec<u64>), (u128, u128, i64, u64)>;

/// Whether moves that stop before their first draw, and go on from the position there, come to the same states with the same
/// chances and scores as moves that are made in one piece. Says in how many moves of how many states they stopped.
pub fn compare_positions(game: &Game, states: &[Vec<i32>]) -> Result<usize, String> {
    let Some(form) = fendle_core::Model::positions(game) else { return Ok(0) };
    let (mut whole, mut apart) = (game.worker(), game.worker());
    let (w, f) = (game.bound.codec.layout().words(), form.words());
    let mut stopped = 0;
    for state in states {
        let words = game.pack(state);
        let (mut a, mut b) = (Expansion::default(), Expansion::default());
        whole.expand(&words, false, &mut a);
        apart.expand_to_draws(&words, false, &mut b);
        let mut drawn = Expansion::default();
        apart.draw(&b.positions, &mut drawn);
        stopped += b.positions.len() / f;
        // What breaks, or has too many outcomes, is told by whole moves.
        if !a.faults.is_empty() || !a.unfinished.is_empty() {
            continue;
        }
        if !drawn.faults.is_empty() || !b.faults.is_empty() {
            return Err(format!("only in parts a fault: {:?} {:?}", b.faults, drawn.faults));
        }
        let add = |into: &mut Chances, of: u32, out: &Expansion, at: usize, len: usize, score: i64| {
            let odds = |i: usize| out.odds.get(i).copied().unwrap_or(fendle_core::Odds::SURE);
            let total: u128 = (at..at + len).map(|i| u128::from(odds(i).weight)).sum();
            for i in at..at + len {
                let o = odds(i);
                let g = gcd(o.weight.into(), total);
                let sum = o.score + score * o.weight as i64;
                let g2 = gcd(sum.unsigned_abs().into(), o.weight.into()) as i64;
                let key = (of, out.outcomes[i * w..(i + 1) * w].to_vec());
                let mean = (sum / g2, o.weight / g2 as u64);
                into.insert(key, (u128::from(o.weight) / g, total / g, mean.0, mean.1));
            }
        };
        let (mut one, mut two) = (Chances::new(), Chances::new());
        let mut at = 0;
        for r in &a.runs {
            add(&mut one, r.of.0, &a, at, r.outcomes as usize, 0);
            at += r.outcomes as usize;
        }
        let (mut at, mut position, mut from) = (0, 0, 0);
        for r in &b.runs {
            if r.outcomes > 0 {
                add(&mut two, r.of.0, &b, at, r.outcomes as usize, 0);
                at += r.outcomes as usize;
            } else {
                let len = drawn.runs[position].outcomes as usize;
                add(&mut two, r.of.0, &drawn, from, len, b.position_scores[position]);
                (position, from) = (position + 1, from + len);
            }
        }
        if one != two {
            return Err(format!("in {}:\nwhole {one:?}\nparts {two:?}", game.bound.line(state)));
        }
    }
    Ok(stopped)
}

fn gcd(a: u128, b: u128) -> u128 {
    if b == 0 { a } else { gcd(b, a % b) }
}

/// Adds up the ways that lead to the same state, with plain fractions.
fn joined(list: Vec<Made>) -> Vec<Way> {
    let mut by_state: std::collections::BTreeMap<Vec<i32>, Vec<(u128, u128, i64)>> = Default::default();
    for m in list {
        by_state.entry(m.state).or_default().push((m.chance.num, m.chance.den, m.score));
    }
    by_state
        .into_iter()
        .map(|(state, ways)| {
            let den = ways.iter().fold(1, |d, w| d / gcd(d, w.1) * w.1);
            let num: u128 = ways.iter().map(|w| w.0 * (den / w.1)).sum();
            let sum: i128 = ways.iter().map(|w| (w.0 * (den / w.1)) as i128 * i128::from(w.2)).sum();
            let g = gcd(num, den);
            let s = gcd(sum.unsigned_abs(), num).max(1);
            let mean = (sum / s as i128, (num / s) as i128);
            (state, (num / g, den / g), mean)
        })
        .collect()
}

/// What a comparison met.
#[derive(Default)]
pub struct Seen {
    pub next: Vec<Vec<i32>>,
    pub refused: usize,
    pub not_offered: usize,
    /// Outcomes of moves that have several.
    pub drawn: usize,
    pub set_aside: usize,
    pub faults: Vec<RunFault>,
}

/// Compares both executors over the space from the position on, breadth first, up to `most` states.
pub fn compare_space(game: &Game, most: usize) -> usize {
    let moves = MoveTable::new(&game.bound).expect("within the limits");
    let mut machine = Machine::new(&game.bound, &game.code);
    let native = compiled(game);
    let mut machines = both(game, &native);
    let mut seen = std::collections::HashSet::new();
    let mut queue = std::collections::VecDeque::from([game.bound.position.clone()]);
    while let Some(state) = queue.pop_front() {
        if seen.len() >= most || !seen.insert(state.clone()) {
            continue;
        }
        match compare(game, &moves, &mut machine, &state) {
            Ok(found) => queue.extend(found.next),
            Err(e) => panic!("{e}\n{}", game.code.print()),
        }
        if let Err(e) = compare_native(game, &mut machines, &state) {
            panic!("{e}\n{}", game.code.print());
        }
    }
    let states: Vec<Vec<i32>> = seen.iter().cloned().collect();
    if let Err(e) = compare_positions(game, &states) {
        panic!("{e}\n{}", game.code.print());
    }
    assert_eq!(game.layout().bits, game.bound.codec.layout().bits);
    seen.len()
}

/// The same game, of which no numbers were asked yet.
pub fn afresh(game: &Game) -> Game {
    let mut out = game.at(game.bound.position.clone());
    out.starts.clone_from(&game.starts);
    out
}

/// Moves of a state stop before the same draws, and these lead to the same states, whether states are packed or numbers; the
/// workers are one for packed states and two for numbers.
fn draws_by_number(
    game: &Game,
    keys: &Numbered,
    workers: &mut [Box<dyn Worker + '_>; 3],
    state: &[u64],
    number: u64,
) {
    let words = game.layout().words();
    let form = game.positions().expect("moves stop before draws").layout().words();
    let number_of = |s: &[u64]| keys.number(s).expect("a state that can be reached has a number");
    let mut made = vec![];
    for (i, worker) in workers.iter_mut().enumerate() {
        let mut out = Expansion::default();
        worker.expand_to_draws(if i == 0 { state } else { std::slice::from_ref(&number) }, false, &mut out);
        let outcomes: Vec<u64> = match i {
            0 => out.outcomes.chunks_exact(words).map(number_of).collect(),
            _ => out.outcomes.clone(),
        };
        let mut draws = vec![];
        for position in out.positions.chunks_exact(if i == 0 { form } else { 1 }) {
            assert!(i == 0 || position[0] < keys.positions().expect("they have numbers"));
            let mut drawn = Expansion::default();
            worker.draw(position, &mut drawn);
            let to: Vec<u64> = match i {
                0 => drawn.outcomes.chunks_exact(words).map(number_of).collect(),
                _ => drawn.outcomes.clone(),
            };
            draws.push((to, drawn.odds, drawn.runs, drawn.faults));
        }
        made.push((outcomes, out.runs, out.heads, out.faults, out.odds, out.position_scores, draws));
    }
    assert_eq!(made[0], made[1], "{}", game.bound.name);
    assert_eq!(made[0], made[2], "{}: native code", game.bound.name);
}

/// What is said of a space, without how it was kept.
pub fn said(found: &Explored) -> (Exploration, Option<Vec<MoveId>>) {
    let counts = Exploration { numbers: None, edges_kept: true, ..found.counts.clone() };
    (counts, found.nearest_fatal.as_ref().map(|r| r.moves.clone()))
}

/// What [`round_trips`] looked at.
pub struct RoundTrip {
    pub states: usize,
    /// States of which it was known where their moves lead, without making them.
    pub told: usize,
}

/// Every state that is met from the start, up to `most`, has a number of its own below the range, and comes back from it; the
/// interpreter and native code lead to the same numbers, and from behind they find the same states.
///
/// Where numbers may be a guess they are looked at first, until a state is met that has none; then both executors have to say so.
pub fn round_trips(game: &Game, most: usize) -> Option<RoundTrip> {
    let guessed = numbering(game, 1 << 17, Guess::Allowed, &mut || false)?.keys.is_narrow();
    if guessed {
        round_trips_with(&afresh(game), most, Guess::Allowed)?;
    }
    round_trips_with(&afresh(game), most, Guess::Forbidden)
}

fn round_trips_with(game: &Game, most: usize, guess: Guess) -> Option<RoundTrip> {
    let mut native = afresh(game);
    native.native = WhenItPays::by(fendle_native::make);
    let (keys, by_native) =
        (numbering(game, 1 << 17, guess, &mut || false)?, numbering(&native, 1 << 17, guess, &mut || false)?);
    for game in [game, &native] {
        if guess == Guess::Forbidden {
            game.guess_failed();
        }
        game.numbering(1 << 17, &mut || false)?;
    }
    let bare = game.code.points.is_empty() || keys.continuations.is_some();
    let settled = game.bound.canon.is_some();
    assert_eq!(by_native.native.is_some(), bare && !settled, "{}", game.bound.name);
    let mut workers = [game.worker(), game.worker_by_number(), native.worker_by_number()];
    let start = game.starts().expect("sound").remove(0).state;
    let mut seen: HashMap<u64, Vec<u64>> = HashMap::new();
    let mut queue = VecDeque::from([start]);
    let mut arrows: Vec<(u64, MoveId, u64)> = vec![];
    while let Some(state) = queue.pop_front() {
        let number = keys.number(&state).expect("a state that can be reached has a number");
        assert!(number < keys.range());
        assert_eq!(keys.state(number), state, "{}", game.bound.name);
        if seen.len() >= most || seen.insert(number, state.clone()).is_some() {
            continue;
        }
        let (mut a, mut b, mut c) = (Expansion::default(), Expansion::default(), Expansion::default());
        let [worker, slow, fast] = &mut workers;
        worker.expand(&state, false, &mut a);
        slow.expand(&[number], false, &mut b);
        fast.expand(&[number], false, &mut c);
        let words = game.layout().words();
        let strays = || a.outcomes.chunks_exact(words).filter(|s| keys.number(s).is_none());
        if guess == Guess::Allowed
            && let Some(stray) = strays().next()
        {
            assert_eq!([&b.strays, &c.strays], [stray, stray], "{}", game.bound.name);
            return Some(RoundTrip { states: seen.len(), told: 0 });
        }
        assert!(b.strays.is_empty() && c.strays.is_empty(), "{}", game.bound.name);
        let numbers: Vec<u64> =
            a.outcomes.chunks_exact(words).map(|s| keys.number(s).expect("reached")).collect();
        for by_number in [&b, &c] {
            assert_eq!(by_number.outcomes, numbers, "{}", game.bound.name);
            assert_eq!(
                (&a.runs, &a.heads, &a.faults),
                (&by_number.runs, &by_number.heads, &by_number.faults)
            );
            assert_eq!(a.odds, by_number.odds);
        }
        if keys.continuations.is_some() {
            draws_by_number(game, &keys, &mut workers, &state, number);
        }
        if game.code.points.is_empty() {
            arrows.extend(a.runs.iter().zip(&numbers).map(|(r, to)| (number, r.of, *to)));
        }
        queue.extend(a.outcomes.chunks_exact(words).map(<[u64]>::to_vec));
    }
    let [worker, slow, fast] = &mut workers;
    let told = leaps_agree(game, &mut **worker, &mut **fast, &seen, &arrows);
    if slow.goes_back() {
        for to in arrows.iter().map(|a| a.2).collect::<HashSet<_>>() {
            let mut found = [vec![], vec![]];
            for (worker, out) in [&mut *slow, &mut *fast].into_iter().zip(&mut found) {
                worker.sources(to, out);
                out.sort_unstable();
                out.retain(|(from, of)| worker.leads(*from, *of, to));
            }
            assert_eq!(found[0], found[1], "{}", game.bound.name);
            for (from, of, _) in arrows.iter().filter(|a| a.2 == to && a.0 != to) {
                assert!(found[0].contains(&(*from, *of)), "{}: {from} by {of} to {to}", game.bound.name);
            }
            // What is found from behind is there forwards.
            for (from, of) in found[0].iter().filter(|f| seen.contains_key(&f.0)) {
                let ended = worker.status(&seen[from]) != Ok(fendle_core::Status::Running);
                assert!(ended || arrows.contains(&(*from, *of, to)), "{}: {from} by {of}", game.bound.name);
            }
        }
    }
    Some(RoundTrip { states: seen.len(), told })
}

/// Where a worker says where moves lead without making them, it says what expanding the states says, forwards and backwards; `seen`
/// are states with their numbers, `arrows` all moves from them. Gives how many of the states were told of.
pub fn leaps_agree(
    game: &Game,
    by_words: &mut dyn Worker,
    by_number: &mut dyn Worker,
    seen: &HashMap<u64, Vec<u64>>,
    arrows: &[(u64, MoveId, u64)],
) -> usize {
    let mut numbers: Vec<u64> = seen.keys().copied().collect();
    numbers.sort_unstable();
    by_number.order_for_targets(&mut numbers);
    let mut told = 0;
    let mut targets = Targets::default();
    for past_goals in [false, true] {
        if !by_number.targets(&numbers, past_goals, &mut targets) {
            return 0;
        }
        let mut at = 0;
        assert_eq!(targets.heads.len(), numbers.len());
        for (number, head) in numbers.iter().zip(&targets.heads) {
            let Some((status, len)) = head else { continue };
            told += usize::from(!past_goals);
            let mut out = Expansion::default();
            by_number.expand(&[*number], past_goals, &mut out);
            assert!(out.faults.is_empty() && out.unfinished.is_empty(), "{}: {number}", game.bound.name);
            let name = format!("{}: {number}, past goals {past_goals}", game.bound.name);
            assert_eq!((*status, *len), (out.heads[0].status, out.heads[0].runs), "{name}");
            let mut own: Vec<u64> =
                targets.numbers[at..at + *len as usize].iter().map(|n| u64::from(*n)).collect();
            at += own.len();
            own.sort_unstable();
            out.outcomes.sort_unstable();
            assert_eq!(own, out.outcomes, "{name}");
        }
        assert_eq!(at, targets.numbers.len());
    }
    if by_number.origins(&numbers, &mut targets) {
        let mut own = targets.numbers.iter();
        for (to, head) in numbers.iter().zip(&targets.heads) {
            let len = head.expect("all are told").1 as usize;
            let mut found: Vec<u64> = own.by_ref().take(len).map(|n| u64::from(*n)).collect();
            found.retain(|from| {
                from != to && seen.get(from).is_some_and(|s| by_words.status(s) == Ok(Status::Running))
            });
            let mut want: Vec<u64> =
                arrows.iter().filter(|a| a.2 == *to && a.0 != *to).map(|a| a.0).collect();
            found.sort_unstable();
            want.sort_unstable();
            assert_eq!(found, want, "{}: to {to}", game.bound.name);
        }
    }
    told
}

/// What [`odds`] says of a game, or what ended it, as text without how the space was kept.
pub fn odds_as_text(game: &Game, limits: &Limits) -> String {
    match odds(game, limits, Fractions::WhereSmall, &NoWatch) {
        Ok(mut a) => {
            a.counts.numbers = None;
            format!("{a:?}")
        }
        Err(e) => format!("{e:?}"),
    }
}

/// Chances are the same with packed states and by number: by the interpreter and by native code, on one thread and on three, with
/// a proved range where there is one, and with one that is made wider while states are met.
pub fn odds_agree(game: &Game, max_states: u64) {
    let limits = Limits { max_states, threads: 1, number_from: u64::MAX, ..Limits::default() };
    let mut plain = afresh(game);
    plain.numbering = None;
    let want = odds_as_text(&plain, &limits);
    let mut native = afresh(game);
    native.native = WhenItPays::by(fendle_native::make);
    for (game, threads, number_from) in [(&afresh(game), 1, 1), (&native, 1, 1), (&native, 3, 40)] {
        let limits = Limits { threads, number_from, ..limits };
        assert_eq!(odds_as_text(game, &limits), want, "{} {threads} {number_from}", game.bound.name);
    }
}
