//! The checked syntax tree: names resolved, types known, sizes still open.
//!
//! Both executors start here. The reference executor walks this tree as it stands; the fast one
//! runs the intermediate form that [`crate::code::lower`] makes of it for one level.

mod expr;
mod geometry;
mod ids;
mod look;
mod stmt;
mod types;
mod walk;

pub use expr::*;
pub use geometry::*;
pub use ids::*;
pub use look::*;
pub use stmt::*;
pub use types::*;

use crate::source::{FileId, Span};
use crate::syntax::tree::{ExampleLine, HowMany, QuantKind};

/// A `level` or `state` variable.
#[derive(Clone, Debug)]
pub struct VarDef {
    /// Its name.
    pub name: String,
    /// Where it is declared.
    pub span: Span,
    /// A state variable, or a level value.
    pub state: bool,
    /// Its shape.
    pub shape: Extent,
    /// The values it may hold; of a rearranged grid those of its target.
    pub dom: Dom,
    /// `sized (rows, cols)`
    pub sized: Option<(Expr, Expr)>,
    /// `rearranged TARGET`
    pub rearranged: Option<VarId>,
    /// `hidden ... rearranged LIST`: a list that begins with the values of this one, in an order that is not known.
    pub shuffled: Option<VarId>,
    /// `if C`
    pub when: Option<Expr>,
    /// `= V`
    pub default: Option<Expr>,
    /// `= (KEY: V, ...)`: one value for each key, in their order.
    pub defaults: Vec<Expr>,
    /// `outside V`
    pub outside: Option<Expr>,
    /// `max N` of a list
    pub max: Option<Expr>,
    /// Keeps what this variable began with, where a setup draws the start.
    pub shadow_of: Option<VarId>,
    /// Counts accepted moves for `tick every N moves`; the model's author did not name it.
    pub clock: bool,
    /// The player does not see it.
    pub hidden: bool,
    /// Not hidden by a prior of its own, yet not told either.
    pub untold: bool,
    /// What is known beforehand of a hidden variable.
    pub prior: Option<Prior>,
}

/// Values with weights, and the local names that both may read.
pub type Weighted = (Vec<(Expr, Expr)>, Vec<LocalDef>);

/// What is known beforehand of a hidden variable.
#[derive(Clone, Debug)]
pub struct Prior {
    /// Each value by itself, with these weights; `local` is the cell, the first of `locals`.
    pub each: Option<Weighted>,
    /// All layouts that satisfy this, and no other.
    pub with: Option<Body>,
}

/// What the player is told of what is hidden.
#[derive(Clone, Debug)]
pub struct TellDef {
    /// Its name.
    pub name: String,
    /// What is told.
    pub value: Expr,
    /// For each of these: the local name, what it runs over, and for which of them.
    pub over: Option<(LocalId, Range)>,
    /// It is told only where this holds.
    pub filter: Option<Expr>,
    /// Its local names, parameters first.
    pub locals: Vec<LocalDef>,
    /// Where it stands in the text of the model.
    pub span: Span,
}

impl TellDef {
    /// The state variable whose value at the cell decides whether the cell is told, if it is that plain.
    #[must_use]
    pub fn opened(&self) -> Option<VarId> {
        let (local, Range::Board) = self.over.as_ref().map(|(l, r)| (*l, r))? else { return None };
        match &self.filter.as_ref()?.kind {
            Ek::Index(base, at) if matches!(at.kind, Ek::Local(l) if l == local) => match base.kind {
                Ek::Var(When::Now, v) => Some(v),
                _ => None,
            },
            _ => None,
        }
    }
}

impl VarDef {
    /// A level value of which nothing more is said.
    #[must_use]
    pub(crate) fn new(name: String, span: Span, shape: Extent, dom: Dom) -> VarDef {
        VarDef {
            name,
            span,
            state: false,
            shape,
            dom,
            sized: None,
            rearranged: None,
            shuffled: None,
            when: None,
            default: None,
            defaults: vec![],
            outside: None,
            max: None,
            shadow_of: None,
            clock: false,
            hidden: false,
            untold: false,
            prior: None,
        }
    }

    /// Whether only the order of its values is unknown beforehand: `rearranged` of a grid or a list.
    #[must_use]
    pub fn has_fixed_values(&self) -> bool {
        self.rearranged.is_some() || self.shuffled.is_some()
    }

    /// The type of the whole variable.
    #[must_use]
    pub fn ty(&self) -> Ty {
        match self.shape {
            Extent::One => self.dom.scalar().ty(),
            Extent::Grid => Ty::Grid(self.dom.scalar()),
            Extent::Set => Ty::Set,
            Extent::Array(e) => Ty::Array(e, self.dom.scalar()),
            Extent::List(bag) => Ty::List(self.dom.scalar(), bag),
            Extent::Lists(key, bag) => Ty::Lists(key, self.dom.scalar(), bag),
        }
    }
}

/// A function.
#[derive(Clone, Debug)]
pub struct FnDef {
    /// Its name.
    pub name: String,
    /// How many parameters it has.
    pub params: usize,
    /// Its local names, parameters first.
    pub locals: Vec<LocalDef>,
    /// What it gives.
    pub body: Expr,
}

/// A local name; parameters come first.
#[derive(Clone, Debug)]
pub struct LocalDef {
    /// Its name.
    pub name: String,
    /// Its type.
    pub ty: Ty,
    /// It can be assigned to.
    pub mutable: bool,
    /// The values that it is declared to hold.
    pub dom: Option<Dom>,
    /// Where it stands in the text of the model.
    pub span: Span,
}

/// A procedure, or the `after` block.
#[derive(Clone, Debug)]
pub struct ProcDef {
    /// Its name.
    pub name: String,
    /// How many parameters it has.
    pub params: usize,
    /// Its local names, parameters first.
    pub locals: Vec<LocalDef>,
    /// What it does.
    pub body: Vec<Stmt>,
}

/// A move.
#[derive(Clone, Debug)]
pub struct MoveDef {
    /// Its name.
    pub name: String,
    /// The values of each parameter.
    pub params: Vec<Dom>,
    /// Its local names, parameters first.
    pub locals: Vec<LocalDef>,
    /// It is offered only where all of these hold.
    pub offers: Vec<Expr>,
    /// What it does.
    pub body: Vec<Stmt>,
    /// Declared `waiting`: it does nothing but let time pass.
    pub waiting: bool,
    /// Where it stands in the text of the model.
    pub span: Span,
}

/// What happens by itself when time passes.
#[derive(Clone, Debug)]
pub struct TickDef {
    /// After which move; `None` for every one.
    pub on: Option<usize>,
    /// The clock and its period, where it is more than one move.
    pub clock: Option<(VarId, Expr)>,
    /// What happens.
    pub body: ProcDef,
}

/// How starts are drawn.
#[derive(Clone, Debug)]
pub struct SetupDef {
    /// What it does.
    pub body: ProcDef,
    /// How often it may be tried until it is accepted.
    pub attempts: Option<Expr>,
    /// Where it stands in the text of the model.
    pub span: Span,
}

/// A conserved collection: some lists together always hold each of these things once.
#[derive(Clone, Debug)]
pub struct SpreadDef {
    /// The variables with the lists.
    pub vars: Vec<VarId>,
    /// The least and the greatest number; `None` for all records of the type that the lists hold.
    pub range: Option<(Expr, Expr)>,
    /// Where it stands in the text of the model.
    pub span: Span,
}

/// What is to be made most or least of, beside or instead of a goal.
#[derive(Clone, Debug)]
pub struct AimDef {
    /// It is to be made most of, not least.
    pub most: bool,
    /// `None` for the score.
    pub what: Option<Body>,
    /// Where it stands in the text of the model.
    pub span: Span,
}

/// What is interchangeable.
#[derive(Clone, Debug)]
#[allow(clippy::large_enum_variant)]
pub enum Kind {
    /// Values of an enum.
    Values(usize, Vec<i64>),
    /// Numbers from `lo` to `hi` that some variables hold or are keyed by.
    Numbers {
        /// The least number.
        lo: Expr,
        /// The greatest number.
        hi: Expr,
        /// The variables that hold them or are keyed by them.
        carriers: Vec<VarId>,
        /// Numbers that are left out.
        except: Vec<Expr>,
    },
}

/// Values, piles or pieces that the rules treat alike.
#[derive(Clone, Debug)]
pub struct AlikeDef {
    /// What is alike.
    pub kind: Kind,
    /// It holds only where this does.
    pub when: Option<Expr>,
    /// Where it stands in the text of the model.
    pub span: Span,
}

/// A law about turned or mirrored boards.
#[derive(Clone, Debug)]
pub struct LawDef {
    /// The board is mirrored, not turned.
    pub mirrored: bool,
    /// The reason, in the model's words.
    pub why: String,
    /// Where it stands in the text of the model.
    pub span: Span,
}

/// A law that no reached state breaks, in the words of the analyses.
#[derive(Clone, Debug)]
pub struct NeverDef {
    /// Where its condition stands in the text of the model.
    pub condition: Span,
    /// The reason, in the model's words.
    pub why: String,
    /// Where it stands in the text of the model.
    pub span: Span,
}

/// A refusing statement.
#[derive(Clone, Debug)]
pub struct RefuseSite {
    /// The reason, in the model's words.
    pub why: String,
    /// Where it stands in the text of the model.
    pub span: Span,
}

/// How a game can end.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum EndKind {
    /// Won.
    Goal,
    /// Lost.
    Lost,
    /// Ended otherwise.
    Over,
}

/// One way to end: kind and reason. The same words are the same ending.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ending {
    /// How it ends.
    pub kind: EndKind,
    /// The reason, in the model's words.
    pub why: Option<String>,
}

/// A condition under which the game has ended.
#[derive(Clone, Debug)]
pub struct StatusCond {
    /// The ending, by its number.
    pub ending: usize,
    /// The condition.
    pub cond: Body,
    /// Where it stands in the text of the model.
    pub span: Span,
}

/// A law of the form `always`.
#[derive(Clone, Debug)]
pub struct Always {
    /// The condition.
    pub cond: Body,
    /// The reason, in the model's words.
    pub why: String,
    /// Where it stands in the text of the model.
    pub span: Span,
}

/// A quantity that no move changes.
#[derive(Clone, Debug)]
pub struct Keeps {
    /// The quantity.
    pub quantity: Body,
    /// It is claimed only for levels where this holds.
    pub when: Option<Body>,
    /// Its value wherever the goal holds, where the model says it.
    pub goal: Option<Body>,
    /// The reason, in the model's words.
    pub why: String,
    /// Where it stands in the text of the model.
    pub span: Span,
}

/// An example to be run by `check`.
#[derive(Clone, Debug)]
pub struct Example {
    /// What it shows.
    pub title: String,
    /// Where it stands in the text of the model.
    pub span: Span,
    /// Its lines, with the condition that a line asks for.
    pub lines: Vec<(ExampleLine, Option<Body>)>,
}

/// An enum.
#[derive(Clone, Debug)]
pub struct EnumDef {
    /// Its name.
    pub name: String,
    /// The names of its values, in order.
    pub values: Vec<String>,
}

/// A record type.
#[derive(Clone, Debug)]
pub struct RecordDef {
    /// Its name.
    pub name: String,
    /// Its parts.
    pub parts: Vec<(String, Dom)>,
}

/// A checked model.
#[derive(Clone, Debug)]
pub struct Model {
    /// The text it was made from.
    pub file: FileId,
    /// Its name.
    pub name: String,
    /// The enums.
    pub enums: Vec<EnumDef>,
    /// The record types.
    pub records: Vec<RecordDef>,
    /// The groups of placed shapes.
    pub shapes: Vec<ShapesDef>,
    /// Collections that are conserved.
    pub spreads: Vec<SpreadDef>,
    /// Ranges that arrays are keyed by.
    pub ranges: Vec<(Expr, Expr)>,
    /// The two keys of arrays of arrays, of grids and of sets.
    pub pairs: Vec<(Keyed, Keyed)>,
    /// The variables of the level and of the state, by their numbers.
    pub vars: Vec<VarDef>,
    /// The names of tallies.
    pub tallies: Vec<String>,
    /// The functions.
    pub fns: Vec<FnDef>,
    /// What follows from the rest of the state and is shown: names, and functions without parameters by their numbers.
    pub derived: Vec<(String, FnId)>,
    /// Every second row of the board is drawn half a cell further to the right.
    pub shifted: bool,
    /// The procedures.
    pub procs: Vec<ProcDef>,
    /// The moves, in their order.
    pub moves: Vec<MoveDef>,
    /// What happens after every move.
    pub after: Option<ProcDef>,
    /// What happens when time passes.
    pub ticks: Vec<TickDef>,
    /// How starts are drawn.
    pub setup: Option<SetupDef>,
    /// What is to be made most or least of.
    pub aim: Option<AimDef>,
    /// Laws about turned and mirrored boards.
    pub laws: Vec<LawDef>,
    /// What no reached state may be.
    pub nevers: Vec<NeverDef>,
    /// What is interchangeable.
    pub alike: Vec<AlikeDef>,
    /// What the player is told.
    pub tells: Vec<TellDef>,
    /// Every refusing statement.
    pub refuses: Vec<RefuseSite>,
    /// The ways in which a game can end.
    pub endings: Vec<Ending>,
    /// In the order in which they are asked.
    pub statuses: Vec<StatusCond>,
    /// What holds in every state.
    pub always: Vec<Always>,
    /// Quantities that no move changes.
    pub keeps: Vec<Keeps>,
    /// A number of moves that a goal needs at the least, as the model's author says.
    pub bound: Option<(Body, Span)>,
    /// How well a running state promises to go: a number, and what it is a share of. Guides look-ahead, proves nothing.
    pub promise: Option<(Body, Body, Span)>,
    /// What a move counts, where something else than moves is counted.
    pub costs: Vec<CostDef>,
    /// What is counted now; `None`: every move counts 1.
    pub counted: Option<Counted>,
    /// How positions are drawn as text.
    pub shows: Vec<Show>,
    /// How pictures draw things; the first line that fits decides.
    pub looks: Vec<LookRule>,
    /// Examples to be run.
    pub examples: Vec<Example>,
    /// Whether `win`, `lose` or `stop` is used, so that the ended part needs bits.
    pub ends_by_statement: bool,
    /// Whether a branch of a move can be set aside (`else cut`).
    pub cuts: bool,
}

/// How much one move counts, where something else than moves is counted: `cost NAME of MOVE(A, B) = E`.
#[derive(Clone, Debug)]
pub struct CostDef {
    /// What is counted.
    pub name: String,
    /// The move.
    pub of: usize,
    /// How much it counts, in the state before it; the parameters of the move are the first locals.
    pub count: Body,
    /// Where it is said.
    pub span: Span,
}

/// What is counted instead of moves.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Counted {
    /// Moves of one kind.
    Move(usize),
    /// What the model says under a name; a move of which it says nothing counts 0.
    Cost(String),
}

/// The most that one move may count.
pub const COUNT_MAX: i64 = 1_000;

impl Model {
    /// How much a move counts, as an expression in the state before it; `Err`: a number that is known.
    ///
    /// # Errors
    ///
    /// That number.
    pub fn count_of(&self, of: usize) -> Result<&CostDef, u32> {
        match &self.counted {
            None => Err(1),
            Some(Counted::Move(m)) => Err(u32::from(*m == of)),
            Some(Counted::Cost(name)) => self.costs.iter().find(|c| c.name == *name && c.of == of).ok_or(0),
        }
    }

    /// Whether the model can be won at all.
    #[must_use]
    pub fn has_goal(&self) -> bool {
        self.endings.iter().any(|e| e.kind == EndKind::Goal)
    }

    /// Whether a `win` statement can end the game away from the goal condition.
    #[must_use]
    pub fn wins_by_statement(&self) -> bool {
        let wins = |block: &[Stmt]| {
            let mut wins = false;
            let is_goal = |e: usize| self.endings[e].kind == EndKind::Goal;
            for s in block {
                s.each(&mut |s| wins |= matches!(s.kind, St::End(e) if is_goal(e)));
            }
            wins
        };
        self.ticks.iter().any(|t| wins(&t.body.body))
            || self.moves.iter().any(|m| wins(&m.body))
            || self.procs.iter().any(|p| wins(&p.body))
            || self.after.iter().any(|p| wins(&p.body))
    }

    /// Whether anything is kept from the player.
    #[must_use]
    pub fn hides(&self) -> bool {
        self.vars.iter().any(|v| v.hidden || v.untold)
    }

    /// The variables that an expression reads, through calls as well.
    #[must_use]
    pub fn reads(&self, e: &Expr) -> Vec<VarId> {
        let mut out = vec![];
        e.each(&mut |e| match &e.kind {
            Ek::Var(_, v) => out.push(*v),
            Ek::Call(f, _) => out.extend(self.reads(&self.fns[*f].body)),
            _ => {}
        });
        out
    }

    /// The functions that an expression calls, through calls as well.
    #[must_use]
    pub fn calls(&self, e: &Expr) -> Vec<FnId> {
        let mut out = vec![];
        e.each(&mut |e| {
            if let Ek::Call(f, _) = e.kind {
                out.push(f);
                out.extend(self.calls(&self.fns[f].body));
            }
        });
        out
    }

    /// The conditions under which glyphs of drawings are drawn.
    pub fn drawn_conditions(&self) -> impl Iterator<Item = &Body> {
        let rules = self.shows.iter().filter_map(|s| match s {
            Show::Drawing { rules, .. } => Some(rules),
            Show::Values { .. } => None,
        });
        rules.flatten().filter_map(|r| r.when.as_ref())
    }

    /// The variables that anything reads except the setup: moves, what follows on them, ends, laws, aims, what is told.
    #[must_use]
    pub fn read_by_rules(&self) -> Vec<VarId> {
        let mut out: Vec<VarId> = vec![];
        let mut see = |e: &Expr| out.extend(self.reads(e));
        let mut blocks: Vec<&[Stmt]> = self.moves.iter().map(|m| m.body.as_slice()).collect();
        blocks.extend(self.after.iter().chain(self.ticks.iter().map(|t| &t.body)).map(|p| p.body.as_slice()));
        let mut called: Vec<ProcId> = vec![];
        while let Some(block) = blocks.pop() {
            for stmt in block {
                stmt.each(&mut |s| {
                    s.exprs().into_iter().for_each(&mut see);
                    if let St::Call(p, _) = s.kind
                        && !called.contains(&p)
                    {
                        called.push(p);
                        blocks.push(&self.procs[p].body);
                    }
                });
            }
        }
        let bodies = (self.statuses.iter().map(|s| &s.cond))
            .chain(self.always.iter().map(|a| &a.cond))
            .chain(
                self.keeps
                    .iter()
                    .flat_map(|k| [Some(&k.quantity), k.when.as_ref(), k.goal.as_ref()])
                    .flatten(),
            )
            .chain(self.bound.iter().map(|b| &b.0))
            .chain(self.promise.iter().flat_map(|p| [&p.0, &p.1]))
            .chain(self.costs.iter().map(|c| &c.count))
            .chain(self.aim.iter().filter_map(|a| a.what.as_ref()))
            .chain(self.vars.iter().filter_map(|v| v.prior.as_ref()?.with.as_ref()));
        bodies.map(|b| &b.expr).for_each(&mut see);
        self.moves.iter().flat_map(|m| &m.offers).for_each(&mut see);
        self.vars.iter().filter_map(|v| v.outside.as_ref()).for_each(&mut see);
        self.tells.iter().flat_map(|t| std::iter::once(&t.value).chain(&t.filter)).for_each(&mut see);
        out.sort_unstable();
        out.dedup();
        out
    }

    /// The number of a variable.
    #[must_use]
    pub fn var(&self, name: &str) -> Option<VarId> {
        self.var_where(|v| v.name == name)
    }

    /// The first variable of which something holds.
    pub fn var_where(&self, holds: impl Fn(&VarDef) -> bool) -> Option<VarId> {
        self.vars.iter().position(holds).map(VarId)
    }

    /// The numbers of all variables, in their order.
    pub fn var_ids(&self) -> impl DoubleEndedIterator<Item = VarId> + ExactSizeIterator + Clone + use<> {
        (0..self.vars.len()).map(VarId)
    }

    /// All variables with their numbers, in their order.
    pub fn variables(&self) -> impl DoubleEndedIterator<Item = (VarId, &VarDef)> + Clone {
        self.vars.iter().enumerate().map(|(v, def)| (VarId(v), def))
    }

    /// How many codes the ended part of a state needs beside 0 for running: one for each ending, where statements can end the
    /// game, and one more for what was set aside.
    #[must_use]
    pub fn ended_codes(&self) -> i64 {
        if self.cuts {
            self.endings.len() as i64 + 1
        } else if self.ends_by_statement {
            self.endings.len() as i64
        } else {
            0
        }
    }

    /// How pictures draw a value: each part by the first line that names it. `None` where no line is about it. A target is
    /// drawn like the grid that is rearranged to it.
    #[must_use]
    pub fn look(&self, of: Drawee, value: i64, plain: bool) -> Option<Look> {
        let twin = match of {
            Drawee::Var(v) => self.var_where(|d| d.rearranged == Some(v)).map(Drawee::Var),
            Drawee::Tell(_) | Drawee::Derived(_) => None,
        };
        let mut out: Option<Look> = None;
        let fits = |r: &&LookRule| match r.values {
            Some((lo, hi)) => (lo..=hi).contains(&value),
            None => !plain,
        };
        for r in self.looks.iter().filter(|r| r.of.iter().any(|o| *o == of || Some(*o) == twin)).filter(fits)
        {
            let look = out.get_or_insert_default();
            look.figure = look.figure.or(r.look.figure);
            look.paint = look.paint.or(r.look.paint);
            look.label = look.label.take().or_else(|| r.look.label.clone());
        }
        out
    }

    /// The glyphs of a grid that is drawn value by value, and whether they are joined. A target
    /// is drawn like the grid that is rearranged to it.
    #[must_use]
    pub fn values_show(&self, var: VarId) -> Option<(&[(i64, String)], bool)> {
        let of = |v: VarId| {
            self.shows.iter().find_map(|s| match s {
                Show::Values { var, glyphs, joined } if *var == v => Some((glyphs.as_slice(), *joined)),
                _ => None,
            })
        };
        let twin = self.var_where(|d| d.rearranged == Some(var));
        of(var).or_else(|| of(twin?))
    }
}
