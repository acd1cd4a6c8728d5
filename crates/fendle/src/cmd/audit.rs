//! `fendle audit`: every level against what it expects.

use std::path::{Path, PathBuf};

use fendle_ask::audit::{Audited, Job, audit, end_of};
use fendle_ask::frozen;
use fendle_ask::load::Source;
use fendle_ask::profile::profile as ask_profile;
use fendle_ask::{End, Provider as _, Verdict};
use fendle_lang::Diagnostic;
use fendle_view::tiles::Theme;
use serde_json::json;

use crate::files::{collect, ending};
use crate::picture::{self, Drawing};
use crate::session::{Ended, Session, Trouble};
use crate::text;

/// What is audited.
#[derive(Clone, Copy)]
pub struct Pack<'a> {
    /// Files and folders.
    pub paths: &'a [PathBuf],
    /// The model of boards from other programs.
    pub model: Option<&'a str>,
    /// What their cells stand for.
    pub tiles: Option<&'a Path>,
}

/// Every level of a pack, and the mistakes in the texts.
fn jobs_of(s: &mut Session, pack: Pack<'_>) -> Result<(Vec<Job>, Vec<Diagnostic>), Trouble> {
    let endings: &[&str] = if pack.model.is_some() { &["toml", "csv", "xml"] } else { &["toml"] };
    let same = |a: &Path, b: &Path| a.canonicalize().ok().is_some_and(|a| b.canonicalize().ok() == Some(a));
    let mut files = collect(pack.paths, endings)?;
    files.retain(|f| pack.tiles.is_none_or(|tiles| !same(f, tiles)));
    let is_board = |f: &PathBuf| matches!(ending(f).as_str(), "csv" | "xml");
    let (boards, files): (Vec<_>, Vec<_>) = files.into_iter().partition(is_board);
    if let (None, Some(board)) = (pack.model, boards.first()) {
        return Err(Trouble::words(format!(
            "{} is a board of another program: --model says by which rules it is played",
            board.display()
        )));
    }
    let (mut jobs, mut errors) = (vec![], vec![]);
    let mut take = |s: &mut Session, path: &Path, text: String, of: Option<&[PathBuf]>| {
        let Some((levels, model)) = s.store.levels(&s.files, path, text, &mut errors) else { return };
        jobs.extend(levels.levels.into_iter().enumerate().map(|(n, level)| Job {
            path: of.and_then(|list| list.get(n)).map_or(path, PathBuf::as_path).display().to_string(),
            source: Source {
                file: levels.file,
                file_title: levels.title.clone(),
                model: model.clone(),
                level,
            },
        }));
    };
    for path in &files {
        let text = s.files.read(path).map_err(fendle_ask::Trouble::Message)?;
        take(s, path, text, None);
    }
    if let (Some(model), Some(first)) = (pack.model, boards.first()) {
        // They are read as one level file that lies beside the first of them.
        let beside = first.with_file_name("boards.toml");
        let text = super::making::boards(s, &boards, (model, &beside), pack.tiles)?;
        take(s, &beside, text, Some(&boards));
    }
    Ok((jobs, errors))
}

/// Puts the levels side by side.
pub fn profile(s: &mut Session, pack: Pack<'_>, output: Option<&Path>) -> Ended {
    if let Some(path) = output {
        picture::may_write(&s.files, path, false)?;
    }
    let (jobs, mut errors) = jobs_of(s, pack)?;
    let found = s.budget.pooled(|| ask_profile(&s.store, &jobs, &s.budget, &mut errors));
    if s.is_json() {
        s.json(&json!(found))?;
    } else {
        s.lines(text::audit::profile(&found))?;
    }
    if let Some(path) = output {
        picture::write(&s.files, path, &picture::audit::profile(&found, Theme::Light))?;
        s.wrote_apart(&[path.to_path_buf()])?;
    }
    s.out.flush()?;
    s.reporter.show(&s.store.sources, &errors);
    let limit = s.budget.stopped();
    let verdict = if limit.is_some() { Verdict::Undecided } else { Verdict::Holds };
    Ok(End::of(verdict, limit, !errors.is_empty()))
}

/// Runs the command.
pub fn run(
    s: &mut Session,
    pack: Pack<'_>,
    (output, junit): (Option<&Path>, Option<&Path>),
    freeze: bool,
) -> Ended {
    if let Some(path) = output.filter(|path| ending(path) != "html") {
        return Err(Trouble::words(format!(
            "{} is no page: -o wants a name ending in .html",
            path.display()
        )));
    }
    if let Some(path) = junit.filter(|path| ending(path) != "xml") {
        return Err(Trouble::words(format!("--junit wants a name ending in .xml, not {}", path.display())));
    }
    let (jobs, mut errors) = jobs_of(s, pack)?;
    for path in output.into_iter().chain(junit) {
        s.files.may_write(path)?;
    }
    let beside = frozen_file(pack.paths);
    let text = beside.as_ref().filter(|f| f.exists() && !freeze).map(|f| s.files.read(f));
    let frozen = match (text.transpose(), &beside) {
        (Ok(Some(text)), Some(file)) => {
            let read = frozen::read(&text, &file.display().to_string());
            Some(read.map_err(fendle_ask::Trouble::Message)?)
        }
        (Err(words), _) => return Err(Trouble::words(words)),
        _ => None,
    };
    let mut list = audit(&s.store, &jobs, &s.budget, &mut errors);
    let mut of_pack = vec![];
    let folder = beside.as_ref().and_then(|f| f.parent()).unwrap_or(Path::new("")).to_path_buf();
    if let Some(before) = &frozen {
        let now = frozen::facts(&list, &folder, &s.budget);
        of_pack = frozen::compare(&mut list, before, &now);
    }
    let end = end_of(&list, &errors);
    give(s, &list, end)?;
    if !s.is_json() {
        s.lines(of_pack)?;
    }
    if freeze {
        let Some(file) = beside else {
            return Err(Trouble::words("--freeze writes beside one folder or one file: name one path"));
        };
        if end != End::Yes {
            return Err(Trouble::words(
                "nothing is frozen: not every level is as it expects, or something is not decided",
            ));
        }
        let facts = frozen::facts(&list, &folder, &s.budget);
        if let Some(limit) = s.budget.stopped() {
            return Err(Trouble::words(format!("nothing is frozen: stopped by {}", s.budget.words(limit))));
        }
        let text = serde_json::to_string_pretty(&facts).expect("text keys") + "\n";
        s.files.write(&file, |out| out.write_all(text.as_bytes()))?;
        if !s.is_json() {
            s.line(format!("wrote {}", file.display()))?;
        }
    }
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

/// Where the frozen facts of a pack are: of one folder in it, of one file beside it.
fn frozen_file(paths: &[PathBuf]) -> Option<PathBuf> {
    let [path] = paths else { return None };
    Some(if path.is_dir() { path.join("frozen.json") } else { path.with_extension("frozen.json") })
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
