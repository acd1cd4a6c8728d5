//! The canonical form of a level's states: which things are alike here, and how many renamings that leaves.

use crate::check::alike::{carries, is_key};
use crate::model::*;
use crate::run::Eval;
use crate::source::Span;
use crate::state::Bound;
use crate::state::canon::{Canon, Carrier, Class, Renaming};

/// Most renamings that are tried for one state.
pub const RENAMINGS_MAX: usize = 5040;

/// Why there is no canonical form for a level.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NotAlike {
    /// The level gives this value, which tells them apart.
    LevelTells(VarId, Span),
    /// So many renamings would have to be tried.
    TooMany(usize, Span),
}

/// What tells states of a bound model apart only by name; `None` where nothing is declared or
/// nothing is left of it.
///
/// # Errors
///
/// [`NotAlike`].
pub fn canon(b: &Bound) -> Result<Option<Canon>, NotAlike> {
    let model = &b.model;
    let read = if model.alike.is_empty() { vec![] } else { model.read_by_rules() };
    let mut classes = vec![];
    let mut span = Span::default();
    for def in &model.alike {
        let lone = |e: &Expr| Eval::new(b).lone(e).unwrap_or(0);
        if def.when.as_ref().is_some_and(|w| lone(w) == 0) {
            continue;
        }
        let members = members_of(model, def, lone);
        let mut parts = vec![];
        for (v, var) in model.variables() {
            let part = carrier_of(b, def, v);
            if !b.slots[v].active || (part.keyed.is_none() && !part.carries) {
                continue;
            }
            if var.state {
                parts.push(part);
                continue;
            }
            if !read.contains(&v) {
                // Only the setup reads it: each start stands for itself.
                continue;
            }
            // A value of the level has to look the same whatever they are called.
            let class = Class { members: members.clone(), parts: vec![part] };
            for i in 1..members.len() {
                let mut image = members.clone();
                image.swap(i - 1, i);
                let mut data = b.data.clone();
                class.rename(&image, &mut data, &mut vec![]);
                if data != b.data {
                    return Err(NotAlike::LevelTells(v, def.span));
                }
            }
        }
        if members.len() > 1 && !parts.is_empty() {
            span = def.span;
            classes.push(Class { members, parts });
        }
    }
    if classes.is_empty() {
        return Ok(None);
    }
    let identity: Renaming = classes.iter().map(|c| c.members.clone()).collect();
    let listed = Canon::unplain(&classes);
    let mut canon = Canon { back: identity, listed, all: vec![], classes };
    if !canon.listed.is_empty() {
        canon.all = renamings(&canon).ok_or(NotAlike::TooMany(RENAMINGS_MAX, span))?;
    }
    Ok(Some(canon))
}

/// The values that a declaration says are alike, where a level stands as it does.
fn members_of(model: &Model, def: &AlikeDef, lone: impl Fn(&Expr) -> i64) -> Vec<i64> {
    match &def.kind {
        Kind::Values(e, class) => {
            // Values that some variable or record cannot hold here are not like the others.
            let parts = model.records.iter().flat_map(|r| &r.parts).map(|p| &p.1);
            let counts = parts.chain(model.vars.iter().map(|v| &v.dom)).filter_map(|d| match d {
                Dom::First(of, count) if of == e => Some(lone(count)),
                _ => None,
            });
            let most = counts.min().unwrap_or(i64::MAX);
            class.iter().copied().filter(|v| *v < most).collect()
        }
        Kind::Numbers { lo, hi, except, .. } => {
            let out: Vec<i64> = except.iter().map(&lone).collect();
            (lone(lo)..=lone(hi)).filter(|v| !out.contains(v)).collect()
        }
    }
}

/// How a variable holds what is alike, or goes by it.
fn carrier_of(b: &Bound, def: &AlikeDef, v: VarId) -> Carrier {
    let model = &b.model;
    let (slot, var) = (&b.slots[v], &model.vars[v]);
    let (key, list, bag) = match var.shape {
        Extent::Array(k) => (Some(k), 0, false),
        Extent::List(bag) => (None, slot.cap + 1, bag),
        Extent::Lists(k, bag) => (Some(k), slot.cap + 1, bag),
        _ => (None, 0, false),
    };
    let keyed = key.filter(|k| is_key(model, def, *k)).map(|k| {
        let least = if let Keyed::Range(r) = k { b.ranges[r].0 } else { 0 };
        (if list > 0 { list } else { 1 }, least)
    });
    // Of records the parts that are like things.
    let fields = match (&def.kind, var.dom.scalar()) {
        (Kind::Values(e, _), Scalar::Record(r) | Scalar::Maybe(Base::Record(r))) => {
            let parts = model.records[r].parts.iter().zip(&b.records[r]);
            let like = parts.filter(|((_, d), _)| d.scalar() == Scalar::Enum(*e));
            like.map(|(_, p)| (p.lo, p.stride, p.count)).collect()
        }
        _ => vec![],
    };
    let carries = carries(model, def, v);
    Carrier { base: slot.base, len: slot.len, list, bag, keyed, carries, fields }
}

/// All ways to rename what is in lists; `None` where they are more than [`RENAMINGS_MAX`].
fn renamings(canon: &Canon) -> Option<Vec<Renaming>> {
    canon.listed.iter().try_fold(1usize, |n, &c| {
        let len = canon.classes[c].members.len();
        (2..=len).try_fold(n, |n, k| n.checked_mul(k)).filter(|n| *n <= RENAMINGS_MAX)
    })?;
    let mut all: Vec<Renaming> = vec![vec![]];
    for &c in &canon.listed {
        let mut orders = vec![];
        permutations(&mut canon.classes[c].members.clone(), 0, &mut orders);
        let with_each = |r: &Renaming| -> Vec<Renaming> {
            orders.iter().map(|o| r.iter().cloned().chain([o.clone()]).collect()).collect()
        };
        all = all.iter().flat_map(with_each).collect();
    }
    Some(all)
}

fn permutations(items: &mut Vec<i64>, from: usize, out: &mut Vec<Vec<i64>>) {
    if from == items.len() {
        out.push(items.clone());
        return;
    }
    for i in from..items.len() {
        items.swap(from, i);
        permutations(items, from + 1, out);
        items.swap(from, i);
    }
}
