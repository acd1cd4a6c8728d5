//! What the documents show, they run: models compile and pass their examples, levels meet their
//! expectations, and commands print what the page says.

use std::fs;
use std::path::Path;

use assert_cmd::Command;
use tempfile::TempDir;

/// (language, first line, text) of every fenced block.
fn blocks(text: &str) -> Vec<(String, usize, String)> {
    let mut out = vec![];
    let mut open: Option<(String, usize, String)> = None;
    for (i, line) in text.lines().enumerate() {
        match (&mut open, line.strip_prefix("```")) {
            (None, Some(word)) => open = Some((word.trim().to_string(), i + 1, String::new())),
            (Some(_), Some("")) => out.extend(open.take()),
            (Some((_, _, body)), _) => {
                body.push_str(line);
                body.push('\n');
            }
            (None, None) => {}
        }
    }
    out
}

fn run(dir: &Path, args: &[String]) -> (i32, String) {
    let mut program = Command::cargo_bin("fendle").expect("built");
    let out = program.current_dir(dir).env("XDG_CACHE_HOME", dir.join("cache")).args(args).output();
    let out = out.expect("runs");
    let text = String::from_utf8_lossy(&out.stdout).into_owned() + &String::from_utf8_lossy(&out.stderr);
    (out.status.code().unwrap_or(-1), text)
}

/// Splits a command line at blanks outside quotes.
fn words(line: &str) -> Vec<String> {
    let mut out = vec![];
    let mut quoted = false;
    let mut word = String::new();
    for c in line.chars() {
        match c {
            '"' => quoted = !quoted,
            ' ' if !quoted => {
                if !word.is_empty() {
                    out.push(std::mem::take(&mut word));
                }
            }
            c => word.push(c),
        }
    }
    if !word.is_empty() {
        out.push(word);
    }
    out
}

fn check_page(name: &str) -> usize {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(name);
    let text = fs::read_to_string(&path).expect("the page is there");
    let dir = TempDir::new().expect("a temporary folder");
    let mut checked = 0;
    for (kind, line, body) in blocks(&text) {
        let at = format!("{name}:{line}");
        match kind.as_str() {
            "fendle" => {
                let model =
                    body.lines().find_map(|l| l.strip_prefix("model ")).expect("a whole model").trim();
                let file = format!("{model}.fendle");
                fs::write(dir.path().join(&file), &body).expect("writable");
                let (code, out) = run(dir.path(), &["check".into(), file]);
                assert_eq!(code, 0, "{at}\n{out}");
            }
            "toml" => {
                let file = body.lines().next().and_then(|l| l.strip_prefix("# file: ")).expect("a file name");
                fs::write(dir.path().join(file), &body).expect("writable");
                for command in ["check", "audit"] {
                    let (code, out) = run(dir.path(), &[command.into(), file.into()]);
                    assert_eq!(code, 0, "{at}\n{out}");
                }
            }
            "console" => {
                let mut rest = body.as_str();
                while let Some(command) = rest.strip_prefix("$ fendle ") {
                    let (line, after) = command.split_once('\n').expect("a line");
                    let end = after.find("\n$ ").map_or(after.len(), |i| i + 1);
                    let (_, out) = run(dir.path(), &words(line));
                    assert_eq!(out.trim(), after[..end].trim(), "{at}: fendle {line}");
                    rest = &after[end..];
                }
            }
            _ => continue,
        }
        checked += 1;
    }
    checked
}

#[test]
fn the_language_reference_runs() {
    assert!(check_page("docs/language.md") >= 15);
}

#[test]
fn the_guide_runs() {
    assert!(check_page("docs/guide.md") >= 5);
}

#[test]
fn the_readme_runs() {
    assert!(check_page("README.md") >= 1);
}
