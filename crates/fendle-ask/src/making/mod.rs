//! Boards made to order ([`draft`]), mended with the fewest edits ([`mend`]), and how many shuffles give which depth ([`depths`]). What is wanted is
//! a [`wish`] over [`figures`]; boards are what a level draws ([`boards`]).

pub mod boards;
mod deepest;
pub mod depths;
pub mod draft;
pub mod figures;
mod maker;
pub mod maps;
pub mod mend;
pub mod wish;

use fendle_lang::syntax::level::{Key, Raw, RawKind};
use fendle_lang::{Diagnostic, Span};

use crate::answer::Trouble;
use crate::load::{Provider, Source, Store, Wish as Asked};

/// The level that is asked about as it was written, with the values that were given beside the file; and the name of its model.
///
/// # Errors
///
/// [`Trouble`] where it cannot be read.
pub fn source_of(
    store: &mut Store,
    texts: &dyn Provider,
    asked: &Asked,
) -> Result<(Source, String), Trouble> {
    let mut errors: Vec<Diagnostic> = vec![];
    let text = texts.read(&asked.file)?;
    let Some((levels, model)) = store.levels(texts, &asked.file, text, &mut errors) else {
        return Err(Trouble::Diagnostics(errors));
    };
    let found = asked
        .level
        .as_ref()
        .map_or(levels.levels.first(), |name| levels.levels.iter().find(|l| l.name == *name));
    let Some(level) = found else { return Err("the file holds no such level".into()) };
    let mut level = level.clone();
    for set in &asked.sets {
        if let Some((name, value)) = set.split_once('=') {
            let text = value.replace('/', "\n");
            level.values.retain(|(k, _)| k.text != name.trim());
            let raw = Raw { kind: RawKind::Text(text, None), span: Span::default() };
            level.values.push((Key { text: name.trim().into(), span: Span::default() }, raw));
        }
    }
    let source = Source { file: levels.file, file_title: levels.title.clone(), model, level };
    Ok((source, levels.model.text))
}
