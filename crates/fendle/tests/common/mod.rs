//! Running the built program on files in a temporary folder.

#![allow(dead_code)]

use std::fs;
use std::path::Path;

use assert_cmd::Command;
use serde_json::Value;
use tempfile::TempDir;

/// What a run gave back.
pub struct Run {
    pub code: i32,
    pub out: String,
    pub err: String,
}

impl Run {
    pub fn json(&self) -> Value {
        serde_json::from_str(&self.out).unwrap_or_else(|e| panic!("{e}\n{}\n{}", self.out, self.err))
    }
}

/// Runs the built program in a folder.
pub fn fendle(dir: &Path, args: &[&str]) -> Run {
    let out = Command::cargo_bin("fendle")
        .expect("the program is built")
        .current_dir(dir)
        .env_remove("NO_COLOR")
        .env("TMPDIR", dir)
        .env("XDG_CACHE_HOME", dir.join("cache"))
        .args(args)
        .timeout(std::time::Duration::from_secs(300))
        .output()
        .expect("it runs");
    Run {
        code: out.status.code().unwrap_or(-1),
        out: String::from_utf8_lossy(&out.stdout).into_owned(),
        err: String::from_utf8_lossy(&out.stderr).into_owned(),
    }
}

/// A temporary folder with these files.
pub fn dir_with(files: &[(&str, &str)]) -> TempDir {
    let dir = TempDir::new().expect("a temporary folder");
    for (name, text) in files {
        let path = dir.path().join(name);
        fs::create_dir_all(path.parent().expect("a parent")).expect("writable");
        fs::write(path, text).expect("writable");
    }
    dir
}
