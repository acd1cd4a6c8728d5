//! `fendle new`: a library model and a level, copied out and ready to edit.

use std::fs;
use std::path::PathBuf;

use fendle_ask::End;
use fendle_lang::source::near;

use crate::library::LIBRARY;
use crate::session::{Ended, Session, Trouble};

/// Runs the command.
pub fn run(s: &mut Session, family: Option<&str>, dir: Option<PathBuf>, list: bool) -> Ended {
    if list {
        s.lines(LIBRARY.iter().map(|f| format!("{:<8} {}", f.name, f.what)))?;
        return Ok(End::Yes);
    }
    let name = family.unwrap_or_default();
    let Some(family) = LIBRARY.iter().find(|f| f.name == name) else {
        let known = LIBRARY.iter().map(|f| f.name);
        let hint = match near(name, known.clone()) {
            Some(n) => format!("did you mean `{n}`?"),
            None => format!("there are: {}", known.collect::<Vec<_>>().join(", ")),
        };
        return Err(Trouble::words(format!("the library has no family `{name}`; {hint}")));
    };
    let dir = dir.unwrap_or_else(|| PathBuf::from(name));
    fs::create_dir_all(&dir)
        .map_err(|e| Trouble::words(format!("{} cannot be written: {e}", dir.display())))?;
    let model = format!("{name}.fendle");
    let files = [
        (dir.join(&model), family.model.to_string()),
        (dir.join("first.toml"), family.starter.replace("$MODEL", &model)),
    ];
    if let Some((path, _)) = files.iter().find(|(p, _)| p.exists()) {
        return Err(Trouble::words(format!("{} exists already; nothing was written", path.display())));
    }
    for (path, text) in &files {
        s.files.write(path, |out| out.write_all(text.as_bytes()))?;
        s.line(format!("wrote {}", path.display()))?;
    }
    s.line(format!("try: fendle solve {}", files[1].0.display()))?;
    Ok(End::Yes)
}
