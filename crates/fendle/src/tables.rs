//! Tables of relaxed puzzles kept from one run to the next: in the user's cache folder, one file a table.
//!
//! `$XDG_CACHE_HOME/fendle`, or `~/.cache/fendle`. What cannot be read or written is done without; what is read is checked by whoever asked
//! for it. Past the limit of the folder those files go that were used longest ago.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use fendle_ask::bound::TableStore;

/// Bytes of all files together.
const FOLDER_MAX: u64 = 2 << 30;
/// Bytes of one file.
const FILE_MAX: u64 = 1 << 30;

/// A folder of tables.
pub struct Folder(PathBuf);

impl Folder {
    /// The folder of this user, if the system names one.
    pub fn of_user() -> Option<Folder> {
        let named = |name: &str| std::env::var_os(name).filter(|v| !v.is_empty()).map(PathBuf::from);
        let cache = named("XDG_CACHE_HOME").filter(|p| p.is_absolute()).or_else(|| {
            let home = named("HOME").or_else(|| named("USERPROFILE"))?;
            Some(home.join(".cache"))
        })?;
        Some(Folder(cache.join("fendle")))
    }

    fn path(&self, name: &str) -> PathBuf {
        self.0.join(format!("{name}.table"))
    }

    /// Removes what was used longest ago until `more` bytes fit.
    fn make_room(&self, more: u64) {
        let Ok(list) = fs::read_dir(&self.0) else { return };
        let mut files: Vec<(SystemTime, u64, PathBuf)> = (list.flatten())
            .filter(|f| f.path().extension().is_some_and(|e| e == "table" || e == "part"))
            .filter_map(|f| {
                let meta = f.metadata().ok()?;
                Some((meta.modified().ok()?, meta.len(), f.path()))
            })
            .collect();
        files.sort();
        let mut all: u64 = files.iter().map(|f| f.1).sum();
        for (_, size, path) in files {
            if all + more <= FOLDER_MAX {
                break;
            }
            if fs::remove_file(path).is_ok() {
                all -= size;
            }
        }
    }
}

impl TableStore for Folder {
    fn fetch(&self, name: &str) -> Option<Vec<u8>> {
        let path = self.path(name);
        if fs::metadata(&path).ok()?.len() > FILE_MAX {
            return None;
        }
        let bytes = fs::read(&path).ok()?;
        touch(&path);
        Some(bytes)
    }

    fn keep(&self, name: &str, bytes: &[u8]) {
        let path = self.path(name);
        let part = self.0.join(format!("{name}.{}.part", std::process::id()));
        if fs::create_dir_all(&self.0).is_err() {
            return;
        }
        self.make_room(bytes.len() as u64);
        // Whole or not at all.
        if fs::write(&part, bytes).is_err() || fs::rename(&part, &path).is_err() {
            let _ = fs::remove_file(&part);
        }
    }
}

/// Marks a file as used now.
fn touch(path: &Path) {
    if let Ok(file) = fs::File::options().append(true).open(path) {
        let _ = file.set_modified(SystemTime::now());
    }
}
