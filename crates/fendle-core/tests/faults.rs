//! Models that break: which fault is told, and the way to it, on any number of threads.

use fendle_core::table::{Row, Table};
use fendle_core::{Expansion, Fault, Layout, Limits, MoveId, NoWatch, Odds, Status, Verdict, explore, solve};

/// A walker on a wide grid who goes right or down; the model breaks on certain cells.
struct Minefield {
    /// (column, row, only when this move is tried).
    broken: Vec<(u64, u64, Option<u32>)>,
    goal: (u64, u64),
    side: u64,
}

impl Minefield {
    /// The same as a model: row after row of cells, the value of a fault being column + 1000 * row.
    fn table(&self) -> Table {
        let side = self.side;
        let row = |n: u64| {
            let (x, y) = (n % side, n / side);
            let broken = |of| self.broken.contains(&(x, y, of));
            let value = (x + 1000 * y) as i64;
            if broken(None) {
                return Row::breaks(value);
            }
            let row = Row::new(if (x, y) == self.goal { Status::Goal } else { Status::Running });
            [(x + 1, y), (x, y + 1)].into_iter().zip(0u32..).fold(row, |row, ((nx, ny), m)| {
                if broken(Some(m)) {
                    row.breaks_on(m, value)
                } else if nx < side && ny < side {
                    row.makes(m, (ny * side + nx) as usize)
                } else {
                    row
                }
            })
        };
        Table::new((0..side * side).map(row)).with_goal()
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
        let found = explore(&field.table(), limits, false, &NoWatch).expect("a sound start");
        let fault = found.fault.expect("it breaks");
        assert_eq!(fault.fault, Fault { site: 0, value: 2005, during: Some(MoveId(1)) });
        assert_eq!(names(&fault.route.moves), "rrrrrdd");
        assert!(!found.counts.complete && found.counts.limit.is_none());
        assert!(found.counts.open > 0);
        let Verdict::Faulted(same) = solve(&field.table(), limits, &NoWatch).expect("sound").verdict else {
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
    let Verdict::Solvable(route) = solve(&field.table(), Limits::default(), &NoWatch).expect("sound").verdict
    else {
        panic!("solvable")
    };
    assert_eq!(names(&route.moves), "rrrdd");
    // The whole space still shows the fault.
    let found = explore(&field.table(), Limits::default(), false, &NoWatch).expect("sound");
    assert_eq!(found.fault.map(|f| names(&f.route.moves)), Some("rrrrdddd".into()));
}

#[test]
fn wide_spaces_are_counted_like_small_ones() {
    // A square of n x n cells, right and down only: 2 n (n - 1) moves, depth 2 (n - 1).
    for n in [1u64, 2, 30, 300] {
        let field = Minefield { broken: vec![], goal: (n, n), side: n };
        for threads in [1, 2] {
            let c = explore(&field.table(), Limits { threads, ..Limits::default() }, false, &NoWatch)
                .expect("sound")
                .counts;
            assert!(c.complete);
            assert_eq!((c.states, c.transitions, c.edges), (n * n, 2 * n * (n - 1), 2 * n * (n - 1)));
            assert_eq!(u64::from(c.depth), 2 * (n - 1));
            // The far corner has no move; everything else leads there.
            assert_eq!((c.stuck, c.dead, c.goal), (1, n * n - 1, 0));
        }
        let field = Minefield { broken: vec![], goal: (n - 1, n - 1), side: n };
        let c = explore(&field.table(), Limits::default(), false, &NoWatch).expect("sound").counts;
        assert_eq!((c.goal, c.winnable, c.dead, c.fatal_moves), (1, n * n - 1, 0, 0));
        assert_eq!(c.shortest.map(u64::from), Some(2 * (n - 1)));
    }
}

#[test]
fn a_goal_on_the_way_cuts_the_space_behind_it_in_two() {
    // Won at (1, 1) on a 3 x 3 square: what is past it to the right or below can no longer win.
    let field = Minefield { broken: vec![], goal: (1, 1), side: 3 };
    let found = explore(&field.table(), Limits::default(), false, &NoWatch).expect("sound");
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
