//! `--watch`: commands that run again when a file is saved, as real processes.

use std::fs;
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{self, Receiver};
use std::time::{Duration, Instant};

use crate::common::{dir_with, fendle};
use assert_cmd::cargo::CommandCargoExt as _;

/// A watched command: its lines as they come.
struct Watched {
    child: Child,
    lines: Receiver<String>,
    seen: Vec<String>,
}

impl Watched {
    fn start(dir: &std::path::Path, args: &[&str]) -> Watched {
        let mut child = Command::cargo_bin("fendle")
            .expect("the program is built")
            .current_dir(dir)
            .env("XDG_CACHE_HOME", dir.join("cache"))
            .args(args)
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("it runs");
        let out = child.stdout.take().expect("a pipe");
        let (send, lines) = mpsc::channel();
        std::thread::spawn(move || {
            for line in BufReader::new(out).lines().map_while(Result::ok) {
                if send.send(line).is_err() {
                    return;
                }
            }
        });
        Watched { child, lines, seen: vec![] }
    }

    /// Waits for a line that holds a text.
    fn until(&mut self, text: &str) -> String {
        let end = Instant::now() + Duration::from_secs(60);
        while let Some(left) = end.checked_duration_since(Instant::now()) {
            match self.lines.recv_timeout(left) {
                Ok(line) => {
                    self.seen.push(line.clone());
                    if line.contains(text) {
                        return line;
                    }
                }
                Err(_) => break,
            }
        }
        panic!("`{text}` never came:\n{}", self.seen.join("\n"));
    }
}

impl Drop for Watched {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn level(row: &str) -> String {
    format!("model = \"steps\"\n[[level]]\nname = \"one\"\nvalues.top = {row}\n")
        .replace("\"steps\"", "\"steps.fendle\"")
}

const STEPS: &str = "model steps\nlevel top: 1..9\nstate at: 0..9 = 0\nmove climb { refuse \"the top\" unless at < 9; at += 1 }\ngoal at == top\n";

#[test]
fn a_saved_file_is_asked_again_and_what_changed_is_told() {
    let dir = dir_with(&[("steps.fendle", STEPS), ("one.toml", &level("3"))]);
    let mut watched = Watched::start(dir.path(), &["solve", "one.toml", "--brief", "--watch"]);
    watched.until("run 1; waiting for 2 files");
    watched.until("solvable in 3 moves");
    std::thread::sleep(Duration::from_millis(400));
    // The level is saved.
    fs::write(dir.path().join("one.toml"), level("5")).expect("writable");
    watched.until("run 2");
    watched.until("was solvable in 3 moves");
    watched.until("is  solvable in 5 moves");
    std::thread::sleep(Duration::from_millis(400));
    // The model is replaced by another file, as editors do, and has a mistake, which is shown and waited out.
    fs::write(dir.path().join("new"), STEPS.replace("at += 1", "at + = 1")).expect("writable");
    fs::rename(dir.path().join("new"), dir.path().join("steps.fendle")).expect("renamed");
    watched.until("run 3");
    watched.until("error[");
    std::thread::sleep(Duration::from_millis(400));
    fs::write(dir.path().join("steps.fendle"), STEPS.replace("at += 1", "at += 2")).expect("writable");
    watched.until("run 4");
    watched.until("unsolvable");
}

#[test]
fn programs_get_values_and_no_words_between() {
    let dir = dir_with(&[("steps.fendle", STEPS), ("one.toml", &level("3"))]);
    let mut watched = Watched::start(dir.path(), &["solve", "one.toml", "--format", "json", "--watch"]);
    watched.until("\"moves\": 3");
    // Saved at once: nothing is missed, whether somebody waits already or not.
    fs::write(dir.path().join("one.toml"), level("5")).expect("writable");
    watched.until("\"moves\": 5");
    assert!(watched.seen.iter().all(|l| !l.contains("run ")), "{:?}", watched.seen);
    assert_eq!(watched.seen[0], "{");
}

#[test]
fn only_some_commands_are_watched() {
    let dir = dir_with(&[("steps.fendle", STEPS), ("one.toml", &level("3"))]);
    let run = fendle(dir.path(), &["why", "one.toml", "--watch"]);
    assert!(run.code == 2 && run.err.contains("--watch is for check, show"), "{}", run.err);
}
