//! Files: read with words for what can go wrong, written whole or not at all.

use std::cell::RefCell;
use std::fs;
use std::hash::Hasher as _;
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};

use fendle_ask::{Patience, Provider};
use fendle_lang::syntax::level::FILE_BYTES_MAX;

use crate::library::LIBRARY;
use crate::session::Trouble;

/// The files of this machine, and the library.
#[derive(Default)]
pub struct Files {
    /// What was read, so that no output is written over it, with a digest of what it was.
    read: RefCell<Vec<(PathBuf, u64)>>,
}

/// A number for the bytes of a file: other bytes have another one, but for chance.
pub fn digest(bytes: &[u8]) -> u64 {
    let mut hasher = std::hash::DefaultHasher::new();
    hasher.write(bytes);
    hasher.finish()
}

impl Provider for Files {
    fn read(&self, path: &Path) -> Result<String, String> {
        let bytes = self.read_bytes(path, FILE_BYTES_MAX)?;
        String::from_utf8(bytes).map_err(|e| {
            let at = e.utf8_error().valid_up_to();
            format!("{} is no text file: byte {} is not UTF-8", path.display(), at + 1)
        })
    }

    fn exists(&self, path: &Path) -> bool {
        path.exists()
    }

    fn library(&self) -> Vec<&'static str> {
        LIBRARY.iter().map(|f| f.name).collect()
    }

    fn library_model(&self, name: &str) -> Option<&'static str> {
        LIBRARY.iter().find(|f| f.name == name).map(|f| f.model)
    }
}

impl Files {
    /// The bytes of a file of at most so many.
    ///
    /// # Errors
    ///
    /// Words.
    pub fn read_bytes(&self, path: &Path, most: u64) -> Result<Vec<u8>, String> {
        let shown = path.display();
        let unreadable = |e: io::Error| format!("{shown} cannot be read: {e}");
        let size = fs::metadata(path).map_err(unreadable)?;
        if size.is_dir() {
            return Err(format!("{shown} is a folder; name a file in it"));
        }
        if size.len() > most {
            return Err(format!("{shown} has {} bytes; files of at most {most} bytes are read", size.len()));
        }
        let bytes = fs::read(path).map_err(unreadable);
        if let Ok(whole) = path.canonicalize() {
            self.read.borrow_mut().push((whole, bytes.as_deref().map_or(0, digest)));
        }
        bytes
    }

    /// The files that were read, each with a digest of what it was.
    #[must_use]
    pub fn were_read(&self) -> Vec<(PathBuf, u64)> {
        self.read.borrow().clone()
    }

    /// Refuses an output that is also an input.
    ///
    /// # Errors
    ///
    /// Words.
    pub fn may_write(&self, path: &Path) -> Result<(), Trouble> {
        match path.canonicalize() {
            Ok(whole) if self.read.borrow().iter().any(|r| r.0 == whole) => Err(Trouble::words(format!(
                "{} is read by this command: it is not written over; name another file",
                path.display()
            ))),
            _ => Ok(()),
        }
    }

    /// Writes a file: beside its place first, and under its name only when it is whole. Of two that write the same name
    /// one stays whole.
    ///
    /// # Errors
    ///
    /// Words when it cannot be written; nothing is left then.
    pub fn write(
        &self,
        path: &Path,
        content: impl FnOnce(&mut (dyn Write + Send)) -> io::Result<()>,
    ) -> Result<(), Trouble> {
        self.may_write(path)?;
        let cannot = |e: io::Error| Trouble::words(format!("{} cannot be written: {e}", path.display()));
        if path.is_dir() {
            return Err(Trouble::words(format!("{} is a folder; name a file in it", path.display())));
        }
        let mut name = path.file_name().unwrap_or_default().to_os_string();
        name.push(format!(".{}.part", std::process::id()));
        let beside = path.with_file_name(name);
        let written = fs::File::create(&beside).and_then(|file| {
            let mut out = BufWriter::new(file);
            content(&mut out)?;
            out.flush()
        });
        let moved = written.and_then(|()| fs::rename(&beside, path));
        if moved.is_err() {
            let _ = fs::remove_file(&beside);
        }
        moved.map_err(cannot)
    }

    /// The same for what takes long to be written: once the patience is over nothing of it is left.
    ///
    /// # Errors
    ///
    /// The limit that ended it, or words when it cannot be written.
    pub fn write_in_time(
        &self,
        path: &Path,
        patience: &Patience<'_>,
        content: impl FnOnce(&mut (dyn Write + Send)) -> io::Result<()>,
    ) -> Result<(), Trouble> {
        let written = self.write(path, |out| {
            content(&mut InTime { out, patience, pieces: 0 })?;
            // Whoever makes what is written may have seen it first.
            if patience.is_over().is_some() { Err(io::ErrorKind::TimedOut.into()) } else { Ok(()) }
        });
        match patience.is_over() {
            Some(limit) => Err(fendle_ask::Trouble::Limit(limit).into()),
            None => written,
        }
    }
}

/// Pieces of output between two looks at the clock.
const LOOK_AFTER: u32 = 64;

/// Output that ends when its time is over.
struct InTime<'w> {
    out: &'w mut (dyn Write + Send),
    patience: &'w Patience<'w>,
    pieces: u32,
}

impl Write for InTime<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.pieces += 1;
        if self.pieces.is_multiple_of(LOOK_AFTER) && self.patience.look().is_some() {
            return Err(io::ErrorKind::TimedOut.into());
        }
        self.out.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

/// All files below the paths with one of the endings, in a fixed order.
///
/// # Errors
///
/// Words when a path cannot be read.
pub fn collect(paths: &[PathBuf], endings: &[&str]) -> Result<Vec<PathBuf>, Trouble> {
    fn walk(path: &Path, endings: &[&str], out: &mut Vec<PathBuf>) -> Result<(), Trouble> {
        let unreadable = |e| Trouble::words(format!("{} cannot be read: {e}", path.display()));
        let mut entries: Vec<PathBuf> =
            fs::read_dir(path).map_err(unreadable)?.filter_map(Result::ok).map(|e| e.path()).collect();
        entries.sort();
        for entry in entries {
            if entry.is_dir() {
                walk(&entry, endings, out)?;
            } else if entry.extension().and_then(|e| e.to_str()).is_some_and(|e| endings.contains(&e)) {
                out.push(entry);
            }
        }
        Ok(())
    }
    let mut out = vec![];
    for path in paths {
        if path.is_dir() {
            let before = out.len();
            walk(path, endings, &mut out)?;
            if out.len() == before {
                let endings = endings.join(" or .");
                return Err(Trouble::words(format!("{} holds no file ending in .{endings}", path.display())));
            }
        } else {
            out.push(path.clone());
        }
    }
    Ok(out)
}

/// The ending of a file's name, in small letters.
pub fn ending(path: &Path) -> String {
    path.extension().and_then(|e| e.to_str()).unwrap_or("").to_ascii_lowercase()
}
