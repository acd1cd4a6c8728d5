//! `fendle new`: a library model and a level, copied out and ready to edit.

use std::fs;
use std::path::{Path, PathBuf};

use crate::files::LIBRARY;
use crate::{Exit, Session, Trouble};

const STARTERS: &[(&str, &str)] = &[
    ("slide", include_str!("../../../../models/slide.start.toml")),
    ("shove", include_str!("../../../../models/shove.start.toml")),
    ("merge", include_str!("../../../../models/merge.start.toml")),
    ("match", include_str!("../../../../models/match.start.toml")),
    ("clump", include_str!("../../../../models/clump.start.toml")),
    ("fall", include_str!("../../../../models/fall.start.toml")),
    ("sweep", include_str!("../../../../models/sweep.start.toml")),
    ("wade", include_str!("../../../../models/wade.start.toml")),
    ("pairs", include_str!("../../../../models/pairs.start.toml")),
    ("coil", include_str!("../../../../models/coil.start.toml")),
];

/// Runs the command.
pub fn run(s: &mut Session, family: Option<&str>, dir: Option<PathBuf>, list: bool) -> Result<Exit, Trouble> {
    if list {
        for (name, what, _) in LIBRARY {
            s.line(format!("{name:<8} {what}"))?;
        }
        return Ok(Exit::Yes);
    }
    let family = family.unwrap_or_default();
    let Some((_, _, model)) = LIBRARY.iter().find(|l| l.0 == family) else {
        let known = LIBRARY.iter().map(|l| l.0);
        let hint = match fendle_lang::source::near(family, known.clone()) {
            Some(n) => format!("did you mean `{n}`?"),
            None => format!("there are: {}", known.collect::<Vec<_>>().join(", ")),
        };
        return Err(Trouble::Message(format!("the library has no family `{family}`; {hint}")));
    };
    let dir = dir.unwrap_or_else(|| PathBuf::from(family));
    let cannot = |path: &Path, e: std::io::Error| {
        Trouble::Message(format!("{} cannot be written: {e}", path.display()))
    };
    fs::create_dir_all(&dir).map_err(|e| cannot(&dir, e))?;
    let level = STARTERS.iter().find(|l| l.0 == family).map_or("", |l| l.1);
    let files = [
        (dir.join(format!("{family}.fendle")), (*model).to_string()),
        (dir.join("first.toml"), level.replace("$MODEL", &format!("{family}.fendle"))),
    ];
    if let Some((path, _)) = files.iter().find(|(p, _)| p.exists()) {
        return Err(Trouble::Message(format!("{} exists already; nothing was written", path.display())));
    }
    for (path, text) in &files {
        fs::write(path, text).map_err(|e| cannot(path, e))?;
        s.line(format!("wrote {}", path.display()))?;
    }
    s.line(format!("try: fendle solve {}", files[1].0.display()))?;
    Ok(Exit::Yes)
}
