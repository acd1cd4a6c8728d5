//! Fatal moves, must-pass states, rooms, delays and shortest solutions against the plainest means: delete a state and
//! look again, write every solution down, ask of every two states whether each reaches the other.

use crate::twins;

use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};

use fendle_core::graph::{Distances, Transitions, arrows_bytes, by_moves};
use fendle_core::shape::{Difference, Likeness, likeness};
use fendle_core::structure::{NotSeen, Structure, structure};
use fendle_core::table::{Row, Table};
use fendle_core::{Explored, Limits, NoWatch, Space, Status, explore};
use rand::{Rng, SeedableRng, rngs::SmallRng};
use twins::{Shove, random_yard};

fn alike(a: &Space, b: &Space, budget: u64) -> Likeness {
    likeness(a, b, budget, &NoWatch).expect("no limit")
}

/// A game written out: for each state its moves (number, where it leads) and how it ended.
#[derive(Clone, Debug, Default)]
struct Net {
    moves: Vec<Vec<(u32, usize)>>,
    ended: Vec<Option<bool>>,
    starts: Vec<usize>,
}

impl Net {
    /// The same as a model.
    fn table(&self) -> Table {
        let row = |(moves, ended): (&Vec<(u32, usize)>, &Option<bool>)| match ended {
            Some(true) => Row::goal(),
            Some(false) => Row::lost(),
            None => Row::running(moves.iter().copied()),
        };
        Table::new(self.moves.iter().zip(&self.ended).map(row))
            .start(self.starts.iter().map(|s| (*s, 1)))
            .with_goal()
    }
}

impl Net {
    fn random(rng: &mut SmallRng) -> Net {
        let n = rng.random_range(3..24);
        let moves = (0..n)
            .map(|_| (0..rng.random_range(0..4)).map(|m| (m, rng.random_range(0..n))).collect())
            .collect();
        let ended = (0..n)
            .map(|s| match rng.random_range(0..8) {
                0 if s > 0 => Some(true),
                1 if s > 0 => Some(false),
                _ => None,
            })
            .collect();
        let mut starts = vec![0];
        if rng.random_range(0..4) == 0 {
            starts.push(1);
        }
        Net { moves, ended, starts }.reached()
    }

    /// A board for pushing, written out.
    fn yard(level: &Shove) -> Net {
        let mut index: HashMap<(u64, usize), usize> = HashMap::from([((level.barges, level.tug), 0)]);
        let mut list = vec![(level.barges, level.tug)];
        let mut net = Net { starts: vec![0], ..Net::default() };
        let mut at = 0;
        while at < list.len() && list.len() < 3000 {
            let (barges, tug) = list[at];
            let status = level.status_of(barges);
            let mut moves = vec![];
            for d in (0..4).filter(|_| status == Status::Running) {
                if let Some(next) = level.go(barges, tug, d) {
                    let n = *index.entry(next).or_insert_with(|| {
                        list.push(next);
                        list.len() - 1
                    });
                    moves.push((d as u32, n));
                }
            }
            net.moves.push(moves);
            net.ended.push(match status {
                Status::Goal => Some(true),
                Status::Lost(_) => Some(false),
                _ => None,
            });
            at += 1;
        }
        net
    }

    fn next(&self, s: usize) -> impl Iterator<Item = usize> {
        let running = self.ended[s].is_none();
        self.moves[s].iter().filter(move |_| running).map(|m| m.1)
    }

    fn reach(&self, from: &[usize], without: Option<usize>) -> BTreeSet<usize> {
        let mut seen: BTreeSet<usize> = from.iter().copied().filter(|s| Some(*s) != without).collect();
        let mut work: Vec<usize> = seen.iter().copied().collect();
        while let Some(s) = work.pop() {
            for t in self.next(s) {
                if Some(t) != without && seen.insert(t) {
                    work.push(t);
                }
            }
        }
        seen
    }

    /// Only the states that can be reached, renumbered.
    fn reached(&self) -> Net {
        let keep: Vec<usize> = self.reach(&self.starts, None).into_iter().collect();
        let new: BTreeMap<usize, usize> = keep.iter().enumerate().map(|(i, s)| (*s, i)).collect();
        let moves = |s: &usize| {
            let running = self.ended[*s].is_none();
            self.moves[*s].iter().filter(|_| running).map(|(m, t)| (*m, new[t])).collect()
        };
        Net {
            moves: keep.iter().map(moves).collect(),
            ended: keep.iter().map(|s| self.ended[*s]).collect(),
            starts: self.starts.iter().map(|s| new[s]).collect(),
        }
    }

    fn wins(&self, s: usize) -> bool {
        self.ended[s] == Some(true)
    }

    fn distances(&self, from: usize, test: impl Fn(usize) -> bool) -> Option<u32> {
        let mut seen = BTreeMap::from([(from, 0)]);
        let mut work = VecDeque::from([from]);
        while let Some(s) = work.pop_front() {
            if test(s) {
                return Some(seen[&s]);
            }
            for t in self.next(s) {
                if !seen.contains_key(&t) {
                    seen.insert(t, seen[&s] + 1);
                    work.push_back(t);
                }
            }
        }
        None
    }

    /// Every shortest solution, as (start, moves).
    fn shortest(&self, length: u32) -> BTreeSet<(usize, Vec<u32>)> {
        let mut ways: Vec<(usize, Vec<u32>, usize)> = self.starts.iter().map(|s| (*s, vec![], *s)).collect();
        for _ in 0..length {
            ways = ways
                .into_iter()
                .flat_map(|(from, moves, s)| {
                    let running = self.ended[s].is_none();
                    self.moves[s].iter().filter(move |_| running).map(move |(m, t)| {
                        let mut moves = moves.clone();
                        moves.push(*m);
                        (from, moves, *t)
                    })
                })
                .collect();
        }
        ways.into_iter().filter(|w| self.wins(w.2)).map(|w| (w.0, w.1)).collect()
    }

    fn play(&self, from: usize, moves: &[u32]) -> Option<usize> {
        moves.iter().try_fold(from, |s, m| {
            if self.ended[s].is_some() {
                return None;
            }
            self.moves[s].iter().find(|(n, _)| n == m).map(|(_, t)| *t)
        })
    }
}

fn ask(net: &Net) -> (Explored, Structure) {
    let limits = Limits { threads: 1, ..Limits::default() };
    let found = explore(&net.table(), limits, false, &NoWatch).expect("a start");
    let s = structure(&net.table(), &found, &limits, &NoWatch).expect("seen whole").0;
    // With two threads, and where there is no room for arrows both ways.
    let (space, transitions) = (&found.space, found.counts.transitions);
    let one_way = space.bytes() + arrows_bytes(space, transitions) + 24 * space.ids_len() as u64;
    for other in [Limits { threads: 2, ..limits }, Limits { memory_bytes: one_way, ..limits }] {
        assert_eq!(structure(&net.table(), &found, &other, &NoWatch).expect("seen whole").0, s);
    }
    let tight = Limits { memory_bytes: one_way - 1, ..limits };
    assert!(matches!(structure(&net.table(), &found, &tight, &NoWatch), Err(NotSeen::Memory { .. })));
    (found, s)
}

/// Everything by plain means; whether the game can be won and is more than its start.
#[expect(clippy::too_many_lines, reason = "one part for each thing that the structure tells")]
fn agrees(net: &Net, most_ways: usize) -> bool {
    let (found, s) = ask(net);
    let n = net.moves.len();
    assert_eq!(found.counts.states as usize, n);
    let can: Vec<BTreeSet<usize>> = (0..n).map(|s| net.reach(&[s], None)).collect();
    let winnable: Vec<bool> = (0..n).map(|s| can[s].iter().any(|t| net.wins(*t))).collect();
    let shows = |s: usize| net.ended[s] == Some(false) || net.ended[s].is_none() && net.moves[s].is_empty();

    // Fatal moves and how long they go unnoticed.
    let (mut fatal, mut never, mut delays) = (0, 0, vec![]);
    let (mut safe, mut all) = (0, 0);
    for s in (0..n).filter(|s| winnable[*s] && net.ended[*s].is_none()) {
        for t in net.next(s) {
            all += 1;
            if winnable[t] {
                safe += 1;
                continue;
            }
            fatal += 1;
            match net.distances(t, shows) {
                Some(d) => delays.push(d),
                None => never += 1,
            }
        }
    }
    assert_eq!(s.fatal_by_depth.iter().sum::<u64>(), fatal);
    assert_eq!(found.counts.fatal_moves, fatal);
    assert_eq!((s.corridor.part, s.corridor.all), (safe, all));
    assert_eq!(s.delay.never_shows, never);
    assert_eq!(s.delay.shows, delays.len() as u64);
    assert_eq!(s.delay.sum, delays.iter().map(|d| u64::from(*d)).sum::<u64>());
    assert_eq!(s.delay.greatest, delays.iter().copied().max().unwrap_or(0));
    assert_eq!(s.delay.least, delays.iter().copied().min().unwrap_or(0));

    // Rooms: states that reach each other.
    let rooms: BTreeSet<Vec<usize>> =
        (0..n).map(|s| (0..n).filter(|t| can[s].contains(t) && can[*t].contains(&s)).collect()).collect();
    assert_eq!(s.rooms.rooms as usize, rooms.len());
    assert_eq!(s.rooms.largest as usize, rooms.iter().map(Vec::len).max().expect("a room"));
    let room_of = |s: usize| rooms.iter().position(|r| r.contains(&s)).expect("a room");
    let doors: BTreeSet<(usize, usize)> = (0..n)
        .flat_map(|s| net.next(s).map(move |t| (s, t)))
        .filter(|(s, t)| room_of(*s) != room_of(*t))
        .collect();
    assert_eq!(s.rooms.doors as usize, doors.len());
    let traps: Vec<&Vec<usize>> = rooms
        .iter()
        .filter(|r| {
            r.iter().all(|s| {
                net.ended[*s].is_none()
                    && !net.moves[*s].is_empty()
                    && net.next(*s).all(|t| r.contains(&t))
                    && !winnable[*s]
            })
        })
        .collect();
    assert_eq!(s.rooms.traps as usize, traps.len());
    assert_eq!(s.rooms.trap_states as usize, traps.iter().map(|r| r.len()).sum::<usize>());

    // One chain of doors: from the rooms of the starts on, always exactly one door to go on by.
    let way_doors: BTreeSet<(usize, usize)> = doors.iter().copied().filter(|(_, t)| winnable[*t]).collect();
    let start_rooms: BTreeSet<usize> = net.starts.iter().map(|s| room_of(*s)).collect();
    let mut chain =
        start_rooms.len() == 1 && net.starts.iter().all(|s| winnable[*s] && net.ended[*s].is_none());
    let mut here = room_of(net.starts[0]);
    while chain {
        let out: Vec<_> = way_doors.iter().filter(|(s, _)| room_of(*s) == here).collect();
        match out.as_slice() {
            [(_, t)] if net.wins(*t) => break,
            [(_, t)] => here = room_of(*t),
            _ => chain = false,
        }
    }
    assert_eq!(s.rooms.essentially_unique, chain);

    // Must-pass: without the state no goal can be reached.
    let won = net.starts.iter().any(|s| winnable[*s]);
    let must: BTreeSet<usize> =
        (0..n).filter(|x| won && !net.reach(&net.starts, Some(*x)).iter().any(|t| net.wins(*t))).collect();
    let got: Vec<usize> = s.must_pass.iter().map(|id| found.space.state(*id)[0] as usize).collect();
    let as_net: BTreeSet<usize> = got.iter().copied().collect();
    assert_eq!(as_net, must, "{net:?}");
    for pair in got.windows(2) {
        assert!(!net.reach(&net.starts, Some(pair[0])).contains(&pair[1]), "the order is that of the ways");
    }

    // The shortest solutions, written down, and joined where two neighbouring moves can be swapped.
    let Some(length) = found.counts.shortest else {
        assert_eq!(s.shortest, None);
        return false;
    };
    let shortest = s.shortest.expect("it can be won");
    assert_eq!(shortest.moves, length);
    if shortest.count.parse::<usize>().is_ok_and(|c| c <= most_ways) {
        let ways = net.shortest(length);
        assert_eq!(shortest.count, ways.len().to_string());
        let mut left = ways.clone();
        let mut classes = 0;
        while let Some(first) = left.pop_first() {
            classes += 1;
            let mut work = vec![first];
            while let Some((from, moves)) = work.pop() {
                for i in 1..moves.len() {
                    let mut other = moves.clone();
                    other.swap(i - 1, i);
                    if net.play(from, &other[..=i]).is_some()
                        && net.play(from, &other[..=i]) == net.play(from, &moves[..=i])
                        && left.remove(&(from, other.clone()))
                    {
                        work.push((from, other));
                    }
                }
            }
        }
        assert_eq!(shortest.up_to_swaps, Some(classes));
    }
    length > 0
}

#[test]
fn random_games_agree_with_plain_means() {
    let mut rng = SmallRng::seed_from_u64(5);
    let won = (0..400).filter(|_| agrees(&Net::random(&mut rng), 500)).count();
    assert!(won >= 100, "{won} could be won");
}

#[test]
fn random_yards_agree_with_plain_means() {
    let mut rng = SmallRng::seed_from_u64(11);
    let mut won = 0;
    for _ in 0..2000 {
        let net = Net::yard(&Shove::read(&random_yard(&mut rng)));
        if net.moves.len() < 150 && net.moves.len() > 8 && net.moves.len() == net.ended.len() {
            let complete = net.moves.iter().flatten().all(|(_, t)| *t < net.moves.len());
            won += usize::from(complete && agrees(&net, 300));
        }
        if won >= 32 {
            return;
        }
    }
    panic!("only {won} yards could be won");
}

/// In a corridor one cell wide every push is forced: each state on the only way is passed by every solution.
#[test]
fn in_a_corridor_every_state_must_be_passed() {
    // A o . _ : two pushes, and walking back leads round nothing. Three states lie on the way.
    let (found, s) = ask(&Net::yard(&Shove::read("Ao._")));
    assert_eq!(found.counts.shortest, Some(2));
    assert_eq!(s.must_pass.len(), 3);
    assert!(s.rooms.essentially_unique);
    let shortest = s.shortest.expect("solvable");
    assert_eq!((shortest.count.as_str(), shortest.up_to_swaps), ("1", Some(1)));
}

/// A row of coins, each turned by a move of its own: all orders are the same up to swaps.
#[test]
fn solutions_that_differ_in_order_only_are_one() {
    let coins = 7;
    let moves = (0..1usize << coins).map(|s| (0..coins).map(|k| (k, s ^ (1 << k))).collect()).collect();
    let ended = (0..1usize << coins).map(|s| (s == (1 << coins) - 1).then_some(true)).collect();
    let (_, s) = ask(&Net { moves, ended, starts: vec![0] });
    let shortest = s.shortest.expect("solvable");
    // Seven factorial.
    assert_eq!((shortest.count.as_str(), shortest.up_to_swaps), ("5040", Some(1)));
    assert_eq!(s.must_pass.len(), 2);
    assert_eq!(s.by_distance[1..], [7, 21, 35, 35, 21, 7, 1]);
}

/// Sixty steps with three moves each that lead to the same place: 3^60 solutions, counted exactly.
#[test]
fn counts_of_solutions_do_not_overflow() {
    let moves = (0..61).map(|s| if s < 60 { (0..3).map(|k| (k, s + 1)).collect() } else { vec![] }).collect();
    let ended = (0..61).map(|s| (s == 60).then_some(true)).collect();
    let (_, s) = ask(&Net { moves, ended, starts: vec![0] });
    let shortest = s.shortest.expect("solvable");
    assert_eq!(shortest.count, "42391158275216203514294433201");
    assert_eq!(shortest.up_to_swaps, None);
    assert_eq!(s.must_pass.len(), 61);
    // Two states for each door: three moves between the same two states are one door.
    assert_eq!(s.rooms.doors, 60);
}

#[test]
fn a_space_that_was_not_seen_whole_has_no_structure() {
    let net = Net::yard(&Shove::read("A...\n.o._\n...."));
    let limits = Limits { threads: 1, max_states: 20, ..Limits::default() };
    let found = explore(&net.table(), limits, false, &NoWatch).expect("a start");
    assert_eq!(structure(&net.table(), &found, &limits, &NoWatch).err(), Some(NotSeen::Open));
    let limits = Limits { threads: 1, ..Limits::default() };
    let found = explore(&net.table(), limits, false, &NoWatch).expect("a start");
    let tight = Limits { memory_bytes: 1000, ..limits };
    assert!(matches!(structure(&net.table(), &found, &tight, &NoWatch), Err(NotSeen::Memory { .. })));
}

fn permuted(net: &Net, to: &[usize]) -> Net {
    let n = net.moves.len();
    let mut out = Net { moves: vec![vec![]; n], ended: vec![None; n], starts: vec![] };
    for s in 0..n {
        let mut moves: Vec<(u32, usize)> = net.moves[s].iter().map(|(m, t)| (*m, to[*t])).collect();
        // Names of moves are no part of the shape.
        moves.reverse();
        out.moves[to[s]] = moves;
        out.ended[to[s]] = net.ended[s];
    }
    out.starts = net.starts.iter().map(|s| to[*s]).collect();
    out
}

/// Edges with how often, for comparing.
fn edges(net: &Net) -> BTreeMap<(usize, usize), usize> {
    let mut out = BTreeMap::new();
    for s in 0..net.moves.len() {
        for t in net.next(s) {
            *out.entry((s, t)).or_default() += 1;
        }
    }
    out
}

fn orders(n: usize) -> Vec<Vec<usize>> {
    match n {
        0 => vec![vec![]],
        _ => (orders(n - 1).into_iter())
            .flat_map(|o| {
                (0..n).map(move |at| {
                    let mut o = o.clone();
                    o.insert(at, n - 1);
                    o
                })
            })
            .collect(),
    }
}

#[test]
fn shapes_are_told_apart_exactly_when_no_renaming_fits() {
    let mut rng = SmallRng::seed_from_u64(23);
    let (mut same, mut different) = (0, 0);
    for round in 0..600 {
        let a = Net::random(&mut rng);
        let n = a.moves.len();
        let mut to: Vec<usize> = (0..n).collect();
        for i in (1..n).rev() {
            to.swap(i, rng.random_range(0..=i));
        }
        let mut b = permuted(&a, &to);
        let (found, _) = ask(&a);
        let (other, _) = ask(&b);
        match alike(&found.space, &other.space, 1 << 22) {
            Likeness::Same(pairs) => {
                assert_eq!(pairs.len(), n);
                let name = |space: &fendle_core::Space, id| space.state(id)[0] as usize;
                let map: BTreeMap<usize, usize> =
                    pairs.iter().map(|(x, y)| (name(&found.space, *x), name(&other.space, *y))).collect();
                let moved: BTreeMap<_, _> =
                    edges(&a).iter().map(|((s, t), k)| ((map[s], map[t]), *k)).collect();
                assert_eq!(moved, edges(&b));
            }
            other => panic!("{other:?}: a renaming of itself"),
        }
        // One edge bent: small ones are compared by trying every renaming.
        if n > 6 || round % 2 == 0 {
            continue;
        }
        let s = rng.random_range(0..n);
        if let Some(m) = b.moves[s].first_mut() {
            m.1 = rng.random_range(0..n);
        }
        let b = b.reached();
        if b.moves.len() != n {
            continue;
        }
        let (other, _) = ask(&b);
        let class = |e: &Explored, s: usize| e.space.class(e.space.find(&[s as u64]).expect("reached"));
        let fits = orders(n).into_iter().any(|o| {
            let moved: BTreeMap<_, _> = edges(&a).iter().map(|((s, t), k)| ((o[*s], o[*t]), *k)).collect();
            moved == edges(&b)
                && (0..n).all(|s| class(&found, s) == class(&other, o[s]))
                && a.starts.iter().map(|s| o[*s]).collect::<BTreeSet<_>>()
                    == b.starts.iter().copied().collect()
        });
        match alike(&found.space, &other.space, 1 << 22) {
            Likeness::Same(_) => assert!(fits),
            Likeness::Different(_) => assert!(!fits),
            Likeness::Unknown => panic!("tiny spaces are decided"),
        }
        same += usize::from(fits);
        different += usize::from(!fits);
    }
    assert!(same > 5 && different > 5, "{same} {different}");
}

/// Two rings of six against one of twelve would have equal neighbourhoods everywhere; here each state of the ring leads back to
/// the start, so that depth cannot help: only trying renamings decides.
#[test]
fn equal_neighbourhoods_are_not_taken_for_equal_shapes() {
    let rings = |lengths: &[usize]| {
        let n: usize = lengths.iter().sum();
        let mut moves: Vec<Vec<(u32, usize)>> = vec![(0..n).map(|k| (k as u32, k + 1)).collect()];
        let mut first = 1;
        for len in lengths {
            for k in 0..*len {
                let (next, last) = (first + (k + 1) % len, first + (k + len - 1) % len);
                moves.push(vec![(0, next), (1, last)]);
            }
            first += len;
        }
        Net { ended: vec![None; n + 1], moves, starts: vec![0] }
    };
    let (one, _) = ask(&rings(&[12]));
    let (two, _) = ask(&rings(&[6, 6]));
    assert_eq!(alike(&one.space, &two.space, 1 << 24), Likeness::Different(Difference::EveryRenaming));
    assert_eq!(alike(&one.space, &two.space, 300), Likeness::Unknown);
    assert!(matches!(alike(&two.space, &ask(&rings(&[6, 6])).0.space, 1 << 24), Likeness::Same(_)));
}

/// The two histograms of the charts, counted state by state.
#[test]
fn states_by_moves_and_by_distance_are_counted_right() {
    let mut rng = SmallRng::seed_from_u64(41);
    let mut several = 0;
    for round in 0..300 {
        let net = Net::random(&mut rng);
        let (found, s) = ask(&net);
        let space = &found.space;
        let mut moves: BTreeMap<usize, u64> = BTreeMap::new();
        let mut by_distance: BTreeMap<u32, u64> = BTreeMap::new();
        for state in 0..net.moves.len() {
            if net.ended[state].is_none() {
                // Moves, not places: two that lead to one place are two.
                *moves.entry(net.moves[state].len()).or_default() += 1;
                let places: BTreeSet<usize> = net.moves[state].iter().map(|m| m.1).collect();
                several += u32::from(places.len() < net.moves[state].len());
            }
            if let Some(d) = net.distances(state, |s| net.wins(s)) {
                *by_distance.entry(d).or_default() += 1;
            }
        }
        let listed =
            |list: Vec<u64>| -> Vec<(u32, u64)> { (0u32..).zip(list).filter(|(_, n)| *n > 0).collect() };
        let want: Vec<(u32, u64)> = moves.into_iter().map(|(k, n)| (k as u32, n)).collect();
        assert_eq!(listed(by_moves(&Transitions::logged(space))), want, "round {round}: {net:?}");
        let far = fendle_core::graph::Distances::in_space(space, &NoWatch).expect("no limit");
        assert_eq!(
            listed(far.to_goal(space)),
            by_distance.into_iter().collect::<Vec<_>>(),
            "round {round}: {net:?}"
        );
        // And as the structure has them.
        assert_eq!(far.to_goal(space).get(1..).unwrap_or(&[]), s.by_distance.get(1..).unwrap_or(&[]));
    }
    assert!(several > 50, "{several}");
}

/// A state of which not everything is known has no distance, though one of its moves wins, and none is told by way of it.
#[test]
fn no_distance_is_told_by_way_of_an_open_state() {
    let rows = [Row::running([(0, 1), (1, 2)]), Row::goal(), Row::running([(0, 1)]).breaks_on(1, 7)];
    let found = explore(&Table::new(rows), Limits::default(), false, &NoWatch).expect("sound starts");
    let far = Distances::in_space(&found.space, &NoWatch).expect("no limit");
    let told: BTreeMap<String, Option<u32>> =
        found.space.ids().map(|id| (format!("{:?}", found.space.class(id)), far.get(id))).collect();
    let want = [("Open", None), ("Goal", Some(0)), ("Winnable", Some(1))];
    assert_eq!(told, want.into_iter().map(|(class, far)| (class.to_string(), far)).collect());
}
