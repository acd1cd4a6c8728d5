//! What the examples of a model would not notice: `check --sharp`.

use std::sync::Arc;

use fendle_lang::compile;
use fendle_lang::model::Model;
use fendle_lang::play::examples::run_all;
use fendle_lang::state::Stop;
use fendle_lang::variants::{Variant, variants};
use rayon::prelude::*;
use serde::Serialize;

use super::Spot;
use crate::budget::Budget;
use crate::load::Store;

/// How sharp the examples of a model are.
#[derive(Clone, Debug, Serialize)]
pub struct SharpExamples {
    /// The model's file.
    pub file: String,
    /// The model's name.
    pub model: String,
    /// Examples that it has.
    pub examples: usize,
    /// Faulty variants of the rules that were made.
    pub variants: usize,
    /// Those that an example notices.
    pub noticed: usize,
    /// Those that none does.
    pub not_noticed: Vec<Spot>,
    /// Those that were not tried, since a limit was hit.
    pub not_tried: usize,
}

/// Runs the examples of a model against faulty variants of it.
#[must_use]
pub fn sharp_examples(store: &Store, model: &Model, budget: &Arc<Budget>) -> SharpExamples {
    let text = store.sources.text(model.file);
    let stop = {
        let budget = Arc::clone(budget);
        Stop::new(move || budget.is_stopped())
    };
    // `None`: it cannot be compiled, so nobody can make this mistake.
    let noticed = |v: &Variant| -> Option<Option<bool>> {
        if budget.is_stopped() {
            return Some(None);
        }
        let text = v.applied(text);
        let faulty = Arc::new(compile(model.file, &text, &mut vec![])?);
        let Ok(results) = run_all(&faulty, &text, &stop) else { return Some(None) };
        Some(Some(results.iter().any(|r| !r.failures.is_empty())))
    };
    let list = variants(model.file, text);
    let tried: Vec<(&Variant, Option<bool>)> =
        list.par_iter().filter_map(|v| noticed(v).map(|n| (v, n))).collect();
    let spot = |v: &Variant| Spot {
        file: store.sources.name(model.file).to_string(),
        line: store.sources.line_col(model.file, v.span.start).0,
        words: v.words.clone(),
    };
    SharpExamples {
        file: store.sources.name(model.file).to_string(),
        model: model.name.clone(),
        examples: model.examples.len(),
        variants: tried.len(),
        noticed: tried.iter().filter(|t| t.1 == Some(true)).count(),
        not_noticed: tried.iter().filter(|t| t.1 == Some(false)).map(|t| spot(t.0)).collect(),
        not_tried: tried.iter().filter(|t| t.1.is_none()).count(),
    }
}
