//! Models that break: which fault is told, and the way to it, on any number of threads.

use fendle_core::{
    Expansion, Fault, Layout, Limits, Model, MoveId, NoWatch, Odds, Refusal, Start, Status, Verdict, Worker,
    explore, solve,
};

/// A walker on a wide grid who goes right or down; the model breaks on certain cells.
struct Minefield {
    /// (column, row, only when this move is tried).
    broken: Vec<(u64, u64, Option<u32>)>,
    goal: (u64, u64),
    side: u64,
}

impl Minefield {
    fn state(x: u64, y: u64) -> u64 {
        x | y << 16
    }
}

impl Model for Minefield {
    fn layout(&self) -> Layout {
        Layout::new(32)
    }
    fn starts(&self) -> Result<Vec<Start>, Fault> {
        Ok(vec![Start { state: vec![0], weight: 1 }])
    }
    fn moves_len(&self) -> usize {
        2
    }
    fn move_name(&self, of: MoveId) -> String {
        ["right", "down"][of.0 as usize].into()
    }
    fn has_goal(&self) -> bool {
        true
    }
    fn is_sure(&self) -> bool {
        true
    }
    fn reason(&self, _: u16) -> String {
        String::new()
    }
    fn fault_text(&self, fault: &Fault) -> String {
        format!("broken at {}", fault.value)
    }
    fn worker(&self) -> Box<dyn Worker + '_> {
        Box::new(Walker(self))
    }
}

struct Walker<'m>(&'m Minefield);

impl Walker<'_> {
    fn broken(&self, x: u64, y: u64, of: Option<u32>) -> Option<Fault> {
        let hit = self.0.broken.iter().any(|b| (b.0, b.1, b.2) == (x, y, of));
        hit.then(|| Fault { site: 0, value: (x + 1000 * y) as i64, during: of.map(MoveId) })
    }
}

impl Worker for Walker<'_> {
    fn status(&mut self, state: &[u64]) -> Result<Status, Fault> {
        let (x, y) = (state[0] & 0xffff, state[0] >> 16);
        match self.broken(x, y, None) {
            Some(fault) => Err(fault),
            None if (x, y) == self.0.goal => Ok(Status::Goal),
            None => Ok(Status::Running),
        }
    }
    fn expand(&mut self, states: &[u64], _: bool, out: &mut Expansion) {
        for &s in states {
            let (x, y) = (s & 0xffff, s >> 16);
            let status = match self.status(&[s]) {
                Ok(status) => status,
                Err(fault) => {
                    out.end_state(Status::Running, Some(fault));
                    continue;
                }
            };
            let mut fault = None;
            if status == Status::Running {
                for (m, (nx, ny)) in [(x + 1, y), (x, y + 1)].into_iter().enumerate() {
                    if let Some(f) = self.broken(x, y, Some(m as u32)) {
                        fault = fault.or(Some(f));
                    } else if nx < self.0.side && ny < self.0.side {
                        out.outcome(&[Minefield::state(nx, ny)]);
                        out.end_move(MoveId(m as u32));
                    }
                }
            }
            out.end_state(status, fault);
        }
    }
    fn refusals(&mut self, _: &[u64]) -> Result<Vec<Refusal>, Fault> {
        Ok(vec![])
    }
}

fn names(moves: &[MoveId]) -> String {
    moves.iter().map(|m| if m.0 == 0 { 'r' } else { 'd' }).collect()
}

#[test]
fn the_nearest_fault_is_told_and_of_equals_the_first_in_move_order() {
    // Two at distance 7, one nearer in move order; one at distance 9 in between; one far away.
    let field = Minefield {
        broken: vec![(2, 5, None), (5, 2, Some(1)), (8, 1, None), (60, 60, None)],
        goal: (70, 70),
        side: 80,
    };
    let mut seen = vec![];
    for threads in [1, 2, 7] {
        let limits = Limits { threads, ..Limits::default() };
        let found = explore(&field, limits, false, &NoWatch).expect("a sound start");
        let fault = found.fault.expect("it breaks");
        assert_eq!(fault.fault, Fault { site: 0, value: 2005, during: Some(MoveId(1)) });
        assert_eq!(names(&fault.route.moves), "rrrrrdd");
        assert!(!found.counts.complete && found.counts.limit.is_none());
        assert!(found.counts.open > 0);
        let Verdict::Faulted(same) = solve(&field, limits, &NoWatch).expect("sound").verdict else {
            panic!("the goal lies behind the fault")
        };
        assert_eq!(same, fault);
        seen.push(serde_json::to_string(&found.counts).expect("serialisable"));
    }
    assert!(seen.windows(2).all(|w| w[0] == w[1]));
}

#[test]
fn a_goal_nearer_than_a_fault_is_a_solution_all_the_same() {
    let field = Minefield { broken: vec![(4, 4, None)], goal: (3, 2), side: 9 };
    let Verdict::Solvable(route) = solve(&field, Limits::default(), &NoWatch).expect("sound").verdict else {
        panic!("solvable")
    };
    assert_eq!(names(&route.moves), "rrrdd");
    // The whole space still shows the fault.
    let found = explore(&field, Limits::default(), false, &NoWatch).expect("sound");
    assert_eq!(found.fault.map(|f| names(&f.route.moves)), Some("rrrrdddd".into()));
}

#[test]
fn wide_spaces_are_counted_like_small_ones() {
    // A square of n x n cells, right and down only: 2 n (n - 1) moves, depth 2 (n - 1).
    for n in [1u64, 2, 30, 300] {
        let field = Minefield { broken: vec![], goal: (n, n), side: n };
        for threads in [1, 2] {
            let c = explore(&field, Limits { threads, ..Limits::default() }, false, &NoWatch)
                .expect("sound")
                .counts;
            assert!(c.complete);
            assert_eq!((c.states, c.transitions, c.edges), (n * n, 2 * n * (n - 1), 2 * n * (n - 1)));
            assert_eq!(u64::from(c.depth), 2 * (n - 1));
            // The far corner has no move; everything else leads there.
            assert_eq!((c.stuck, c.dead, c.goal), (1, n * n - 1, 0));
        }
        let field = Minefield { broken: vec![], goal: (n - 1, n - 1), side: n };
        let c = explore(&field, Limits::default(), false, &NoWatch).expect("sound").counts;
        assert_eq!((c.goal, c.winnable, c.dead, c.fatal_moves), (1, n * n - 1, 0, 0));
        assert_eq!(c.shortest.map(u64::from), Some(2 * (n - 1)));
    }
}

#[test]
fn a_goal_on_the_way_cuts_the_space_behind_it_in_two() {
    // Won at (1, 1) on a 3 x 3 square: what is past it to the right or below can no longer win.
    let field = Minefield { broken: vec![], goal: (1, 1), side: 3 };
    let found = explore(&field, Limits::default(), false, &NoWatch).expect("sound");
    let c = &found.counts;
    // (0,0) (1,0) (0,1) can win; (2,*) and (*,2) cannot; (2,2) is stuck.
    assert_eq!((c.states, c.goal, c.winnable, c.dead, c.stuck), (9, 1, 3, 4, 1));
    assert_eq!((c.fatal_moves, c.first_fatal_depth), (2, Some(1)));
    let route = found.nearest_fatal.expect("from (1, 0) to the right");
    assert_eq!(names(&route.moves), "rr");
}

#[test]
fn an_expansion_keeps_weights_only_where_there_are_some() {
    let mut e = Expansion::default();
    e.outcome(&[1]);
    e.end_move(MoveId(0));
    e.end_move(MoveId(1));
    e.outcome(&[2]);
    assert!(e.odds.is_empty());
    e.outcome_with(&[3], Odds::scored(5, -1));
    e.outcome(&[4]);
    e.end_move(MoveId(2));
    e.end_state(Status::Running, None);
    e.end_state(Status::Lost(3), None);
    assert_eq!(e.outcomes, [1, 2, 3, 4]);
    assert_eq!(e.odds, [Odds::SURE, Odds::SURE, Odds::scored(5, -1), Odds::SURE]);
    let runs: Vec<_> = e.runs.iter().map(|r| (r.of.0, r.outcomes)).collect();
    assert_eq!(runs, [(0, 1), (2, 3)], "a move without outcomes is not listed");
    assert_eq!((e.heads[0].runs, e.heads[1].runs, e.heads[1].status), (2, 0, Status::Lost(3)));
    e.clear();
    e.outcome(&[9]);
    e.end_move(MoveId(0));
    assert_eq!((e.outcomes_len(), e.runs.len(), e.odds.len()), (1, 1, 0));
}

#[test]
fn layouts_count_words_and_bytes() {
    for (bits, words, bytes) in
        [(0, 1, 1), (1, 1, 1), (8, 1, 1), (9, 1, 2), (64, 1, 8), (65, 2, 9), (128, 2, 16)]
    {
        let layout = Layout::new(bits);
        assert_eq!((layout.words(), layout.bytes()), (words, bytes), "{bits}");
    }
}
