//! `fendle audit`: every level against what it expects.

use std::path::{Path, PathBuf};

use fendle_ask::audit::{Audited, Job, audit, end_of};
use fendle_ask::load::Source;
use fendle_ask::{End, Provider as _};
use serde_json::json;

use crate::files::{collect, ending};
use crate::picture::{self, Drawing};
use crate::session::{Ended, Session, Trouble};
use crate::text;

/// Runs the command.
pub fn run(s: &mut Session, paths: &[PathBuf], output: Option<&Path>, junit: Option<&Path>) -> Ended {
    if let Some(path) = output.filter(|path| ending(path) != "html") {
        return Err(Trouble::words(format!(
            "{} is no page: -o wants a name ending in .html",
            path.display()
        )));
    }
    if let Some(path) = junit.filter(|path| ending(path) != "xml") {
        return Err(Trouble::words(format!("--junit wants a name ending in .xml, not {}", path.display())));
    }
    let files = collect(paths, &["toml"])?;
    let (mut jobs, mut errors) = (vec![], vec![]);
    for path in &files {
        let text = s.files.read(path).map_err(fendle_ask::Trouble::Message)?;
        let Some((levels, model)) = s.store.levels(&s.files, path, text, &mut errors) else { continue };
        jobs.extend(levels.levels.into_iter().map(|level| Job {
            path: path.display().to_string(),
            source: Source {
                file: levels.file,
                file_title: levels.title.clone(),
                model: model.clone(),
                level,
            },
        }));
    }
    for path in output.into_iter().chain(junit) {
        s.files.may_write(path)?;
    }
    let list = audit(&s.store, &jobs, &s.budget, &mut errors);
    let end = end_of(&list, &errors);
    give(s, &list, end)?;
    if let Some(path) = output {
        picture::write(&s.files, path, &Drawing::Page(picture::audit::page(&list)))?;
    }
    if let Some(path) = junit {
        let text = text::junit::document(&list, &errors);
        s.files.write(path, |out| out.write_all(text.as_bytes()))?;
    }
    for path in output.into_iter().chain(junit).filter(|_| !s.is_json()).collect::<Vec<_>>() {
        s.line(format!("wrote {}", path.display()))?;
    }
    s.out.flush()?;
    s.reporter.show(&s.store.sources, &errors);
    Ok(end)
}

/// Writes the table and what differs, and says the faults.
pub fn give(s: &mut Session, list: &[Audited], end: End) -> Ended {
    if s.is_json() {
        s.json(&json!({"ok": end == End::Yes, "levels": list}))?;
    } else {
        s.lines(text::audit::lines(list))?;
    }
    s.out.flush()?;
    for fault in list.iter().filter_map(|a| a.fault.as_ref()) {
        s.reporter.show(&s.store.sources, std::slice::from_ref(&fault.diagnostic));
    }
    Ok(end)
}
