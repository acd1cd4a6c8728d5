//! A puzzle written out as a table: its states are the numbers of the rows.
//!
//! For tests, for puzzles that another program has enumerated already, and as the shortest example of a [`Model`]. Play
//! begins in row 0 unless [`Table::start`] says otherwise.
//!
//! # Example
//!
//! A door that is opened by a key:
//!
//! ```
//! use fendle_core::{Limits, NoWatch, Status, Verdict, solve, table::{Row, Table}};
//!
//! let house = Table::new([
//!     Row::running([("take the key", 1), ("slam the door", 2)]),
//!     Row::running([("open", 3)]),
//!     Row::new(Status::Running),
//!     Row::goal(),
//! ]);
//! let Verdict::Solvable(route) = solve(&house, Limits::default(), &NoWatch).unwrap().verdict else { panic!() };
//! assert_eq!(route.moves.len(), 2);
//! ```

use std::collections::HashMap;

use crate::model::{Aim, Expansion, Fault, Layout, Model, MoveId, Odds, Start, Status, Worker};

/// Which move: by its name, or by its number in move order.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Of {
    /// Names get numbers in the order in which they appear in the table.
    Name(String),
    /// Prints as `m3`.
    Number(u32),
}

impl From<&str> for Of {
    fn from(name: &str) -> Of {
        Of::Name(name.into())
    }
}

impl From<u32> for Of {
    fn from(number: u32) -> Of {
        Of::Number(number)
    }
}

/// What a move of a row leads to.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Leads {
    To(Vec<(usize, Odds)>),
    Breaks(i64),
}

/// One state: how the game stands there, and its moves.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Row {
    status: Result<Status, i64>,
    moves: Vec<(Of, Leads)>,
    value: i64,
    told: Option<u64>,
    but_clocks: Option<u64>,
}

impl Row {
    /// A row of this status without moves.
    #[must_use]
    pub fn new(status: Status) -> Row {
        Row { status: Ok(status), moves: vec![], value: 0, told: None, but_clocks: None }
    }

    /// The game goes on: moves, and the row that each leads to.
    #[must_use]
    pub fn running<O: Into<Of>>(moves: impl IntoIterator<Item = (O, usize)>) -> Row {
        moves.into_iter().fold(Row::new(Status::Running), |row, (of, to)| row.makes(of, to))
    }

    /// Won.
    #[must_use]
    pub fn goal() -> Row {
        Row::new(Status::Goal)
    }

    /// Lost.
    #[must_use]
    pub fn lost() -> Row {
        Row::new(Status::Lost(0))
    }

    /// The model breaks when it is asked how the game stands here.
    #[must_use]
    pub fn breaks(value: i64) -> Row {
        Row { status: Err(value), ..Row::new(Status::Running) }
    }

    /// Adds a move that leads to a row.
    #[must_use]
    pub fn makes(self, of: impl Into<Of>, to: usize) -> Row {
        self.draws(of, [(to, Odds::SURE)])
    }

    /// Adds a move with several outcomes.
    #[must_use]
    pub fn draws(mut self, of: impl Into<Of>, outcomes: impl IntoIterator<Item = (usize, Odds)>) -> Row {
        self.moves.push((of.into(), Leads::To(outcomes.into_iter().collect())));
        self
    }

    /// Adds a move on which the model breaks.
    #[must_use]
    pub fn breaks_on(mut self, of: impl Into<Of>, value: i64) -> Row {
        self.moves.push((of.into(), Leads::Breaks(value)));
        self
    }

    /// The value that an aim is about; 0 by default.
    #[must_use]
    pub fn worth(self, value: i64) -> Row {
        Row { value, ..self }
    }

    /// What the player is told here; by default which row it is.
    #[must_use]
    pub fn tells(self, told: u64) -> Row {
        Row { told: Some(told), ..self }
    }

    /// Rows with the same number differ in nothing but clocks.
    #[must_use]
    pub fn but_clocks(self, number: u64) -> Row {
        Row { but_clocks: Some(number), ..self }
    }
}

/// A puzzle as a table of rows.
#[derive(Clone, Debug)]
pub struct Table {
    rows: Vec<Row>,
    /// For each row its moves by number, in move order.
    moves: Vec<Vec<(u32, Leads)>>,
    names: Vec<String>,
    starts: Vec<(usize, u64)>,
    aim: Option<Aim>,
    waiting: Vec<u32>,
    has_goal: bool,
}

impl Table {
    /// A puzzle of these rows.
    ///
    /// # Panics
    ///
    /// If there is no row, or a move leads to a row that is not there, or a row has a move twice.
    #[must_use]
    pub fn new(rows: impl IntoIterator<Item = Row>) -> Table {
        let rows: Vec<Row> = rows.into_iter().collect();
        assert!(!rows.is_empty(), "a table has at least one row");
        let mut names: Vec<String> = vec![];
        let mut numbers: HashMap<String, u32> = HashMap::new();
        let mut moves = vec![];
        for row in &rows {
            let mut list: Vec<(u32, Leads)> = vec![];
            for (of, leads) in &row.moves {
                let number = match of {
                    Of::Number(n) => *n,
                    Of::Name(name) => *numbers.entry(name.clone()).or_insert_with(|| {
                        names.push(name.clone());
                        names.len() as u32 - 1
                    }),
                };
                if let Leads::To(outcomes) = leads {
                    assert!(outcomes.iter().all(|o| o.0 < rows.len()), "{of:?} leads to no row");
                }
                assert!(list.iter().all(|m| m.0 != number), "{of:?} stands twice in a row");
                list.push((number, leads.clone()));
            }
            list.sort_by_key(|m| m.0);
            moves.push(list);
        }
        let most = moves.iter().flatten().map(|m| m.0 as usize + 1).max().unwrap_or(0);
        names.extend((names.len()..most).map(|n| MoveId(n as u32).to_string()));
        let has_goal = rows.iter().any(|r| r.status == Ok(Status::Goal));
        Table { rows, moves, names, starts: vec![(0, 1)], aim: None, waiting: vec![], has_goal }
    }

    /// Where play begins: rows with their weights.
    #[must_use]
    pub fn start(self, starts: impl IntoIterator<Item = (usize, u64)>) -> Table {
        Table { starts: starts.into_iter().collect(), ..self }
    }

    /// The puzzle has a goal, though no row is one: nothing can be won then.
    #[must_use]
    pub fn with_goal(self) -> Table {
        Table { has_goal: true, ..self }
    }

    /// What is to be made most or least of.
    #[must_use]
    pub fn aim(self, aim: Aim) -> Table {
        Table { aim: Some(aim), ..self }
    }

    /// These moves do nothing but let time pass.
    #[must_use]
    pub fn waiting(self, moves: impl IntoIterator<Item = u32>) -> Table {
        Table { waiting: moves.into_iter().collect(), ..self }
    }
}

impl Model for Table {
    fn layout(&self) -> Layout {
        Layout::new(usize::BITS - (self.rows.len() - 1).leading_zeros())
    }
    fn starts(&self) -> Result<Vec<Start>, Fault> {
        let start = |&(row, weight): &(usize, u64)| Start { state: vec![row as u64], weight };
        Ok(self.starts.iter().map(start).collect())
    }
    fn moves_len(&self) -> usize {
        self.names.len()
    }
    fn move_name(&self, of: MoveId) -> String {
        self.names[of.0 as usize].clone()
    }
    fn has_goal(&self) -> bool {
        self.has_goal
    }
    fn is_sure(&self) -> bool {
        self.moves.iter().flatten().all(|m| !matches!(&m.1, Leads::To(list) if list.len() > 1))
    }
    fn aim(&self) -> Option<Aim> {
        self.aim
    }
    fn is_waiting(&self, of: MoveId) -> bool {
        self.waiting.contains(&of.0)
    }
    fn fault_text(&self, fault: &Fault) -> String {
        format!("the table breaks with {}", fault.value)
    }
    fn worker(&self) -> Box<dyn Worker + '_> {
        Box::new(Reader(self))
    }
}

struct Reader<'t>(&'t Table);

impl Worker for Reader<'_> {
    fn status(&mut self, state: &[u64]) -> Result<Status, Fault> {
        self.0.rows[state[0] as usize].status.map_err(|value| Fault { site: 0, value, during: None })
    }

    fn expand(&mut self, states: &[u64], past_goals: bool, out: &mut Expansion) {
        for &s in states {
            let status = match self.status(&[s]) {
                Ok(status) => status,
                Err(fault) => {
                    out.end_state(Status::Running, Some(fault));
                    continue;
                }
            };
            let mut fault = None;
            if status == Status::Running || past_goals && status == Status::Goal {
                for (number, leads) in &self.0.moves[s as usize] {
                    match leads {
                        Leads::To(list) => {
                            for (to, odds) in list {
                                out.outcome_with(&[*to as u64], *odds);
                            }
                            out.end_move(MoveId(*number));
                        }
                        Leads::Breaks(value) => {
                            let during = Some(MoveId(*number));
                            fault = fault.or(Some(Fault { site: 0, value: *value, during }));
                        }
                    }
                }
            }
            out.end_state(status, fault);
        }
    }

    fn measure(&mut self, state: &[u64]) -> Result<i64, Fault> {
        Ok(self.0.rows[state[0] as usize].value)
    }

    fn same_but_clocks(&mut self, a: &[u64], b: &[u64]) -> bool {
        let of = |s: &[u64]| self.0.rows[s[0] as usize].but_clocks;
        a == b || of(a).is_some() && of(a) == of(b)
    }

    fn told(&mut self, state: &[u64], out: &mut Vec<u64>) {
        out.push(self.0.rows[state[0] as usize].told.unwrap_or(u64::MAX - state[0]));
    }
}
