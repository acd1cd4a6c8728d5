//! Pictures, graph files and pages: the built program on real files; pages in a real browser, where one is installed.

mod common;

use std::fs;
use std::path::Path;
use std::process::Command;

use common::{dir_with, fendle};
use serde_json::Value;

const YARD: &str = "model = 'shove'\ntitle = '<script>alert(1)</script>'\n\
[[level]]\nname = 'yard'\nstart.yard = '''\nHHHHHHH\nH.....H\nH.o.A.H\nH.._..H\nHHHHHHH\n'''\n\
[[level]]\nname = 'lane'\nstart.yard = 'A.o._'\n";

#[test]
fn boards_and_plays_are_written_as_pictures() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    for (args, file) in [
        (vec!["show", "yard.toml", "--level", "yard"], "board.svg"),
        (vec!["show", "yard.toml", "--level", "yard", "--theme", "dark"], "board.png"),
        (vec!["solve", "yard.toml", "--level", "yard", "--brief"], "solution.svg"),
        (vec!["trace", "yard.toml", "go right x 2", "--level", "lane"], "play.html"),
        (vec!["why", "yard.toml", "--level", "yard", "--all"], "parts.png"),
        (vec!["moves", "yard.toml", "--level", "lane"], "moves.svg"),
        (vec!["explore", "yard.toml", "--level", "yard"], "chart.svg"),
        (vec!["explore", "yard.toml", "--level", "yard"], "report.html"),
        (vec!["audit", "yard.toml"], "audit.html"),
    ] {
        let mut args = args;
        args.extend(["-o", file]);
        let r = fendle(dir.path(), &args);
        assert_eq!(r.code, 0, "{args:?}: {}{}", r.out, r.err);
        let bytes = fs::read(dir.path().join(file)).expect("written");
        match file.rsplit('.').next() {
            Some("png") => assert!(bytes.starts_with(b"\x89PNG\r\n\x1a\n")),
            _ => {
                let text = String::from_utf8(bytes).expect("text");
                assert!(!text.contains("<script>alert"), "{file}");
                // Letters are outlines: no font is asked for.
                assert!(!text.contains("<text"), "{file}");
            }
        }
    }
    let svg = fs::read_to_string(dir.path().join("board.svg")).expect("written");
    // Twenty walls, a dashed berth, a barge, and the two disks of the tug.
    assert_eq!(svg.matches("fill=\"#5c6870\"").count(), 20);
    assert_eq!((svg.matches("stroke-dasharray").count(), svg.matches("<circle").count()), (1, 2));
    let play = fs::read_to_string(dir.path().join("play.html")).expect("written");
    assert_eq!(play.matches("class=\"frame\"").count(), 3);
    // Three moves are refused at the end of the lane, each with its place marked by four corners.
    let moves = fs::read_to_string(dir.path().join("moves.svg")).expect("written");
    assert_eq!(moves.matches("refused").count(), 3);
    let report = fs::read_to_string(dir.path().join("report.html")).expect("written");
    assert!(
        report.contains("A shortest solution: 7 moves")
            && report.contains("Minimal dead parts: they explain 126 of 126")
    );
    let table = fs::read_to_string(dir.path().join("audit.html")).expect("written");
    assert_eq!(table.matches("<svg").count(), 2);
    assert_eq!(fendle(dir.path(), &["audit", "yard.toml", "-o", "audit.txt"]).code, 2);
    // The same picture twice, byte for byte.
    fendle(dir.path(), &["show", "yard.toml", "--level", "yard", "-o", "again.svg"]);
    assert_eq!(fs::read_to_string(dir.path().join("again.svg")).expect("written"), svg);
}

#[test]
fn graphs_go_out_in_open_formats() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let write = |file: &str, more: &[&str]| {
        let mut args = vec!["graph", "yard.toml", "--level", "lane", "-o", file];
        args.extend(more);
        let r = fendle(dir.path(), &args);
        assert_eq!(r.code, 0, "{file}: {}{}", r.out, r.err);
        r.out
    };
    let counts = fendle(dir.path(), &["explore", "yard.toml", "--level", "lane", "--format", "json"]).json();
    let (states, transitions) =
        (counts["states"].as_u64().unwrap_or(0), counts["transitions"].as_u64().unwrap_or(0));
    write("g.json", &[]);
    let v: Value =
        serde_json::from_str(&fs::read_to_string(dir.path().join("g.json")).expect("written")).expect("JSON");
    let nodes = v["nodes"].as_array().expect("nodes");
    assert_eq!(
        (nodes.len() as u64, v["edges"].as_array().map(|e| e.len() as u64)),
        (states, Some(transitions))
    );
    assert_eq!(
        nodes.iter().filter(|n| n["status"] == "won").count() as u64,
        counts["goal"].as_u64().unwrap_or(0)
    );
    // Every edge is a move of the model: made by `trace` from its position, it leads to the other one.
    for e in v["edges"].as_array().expect("edges").iter().step_by(3) {
        let at = |k: &str| {
            nodes[e[k].as_u64().expect("a node") as usize]["position"].as_str().expect("text").to_string()
        };
        let t = fendle(
            dir.path(),
            &[
                "trace",
                "yard.toml",
                e["move"].as_str().expect("a move"),
                "--level",
                "lane",
                "--at",
                &at("from"),
                "--format",
                "json",
            ],
        )
        .json();
        assert_eq!(t["steps"][0]["position"].as_str(), Some(at("to").as_str()));
    }
    write("g.graphml", &[]);
    let text = fs::read_to_string(dir.path().join("g.graphml")).expect("written");
    assert_eq!(text.matches("<node ").count() as u64, states);
    assert_eq!(text.matches("<edge ").count() as u64, transitions);
    assert!(text.contains("&lt;script&gt;") && !text.contains("<script"));
    write("g.dot", &[]);
    let text = fs::read_to_string(dir.path().join("g.dot")).expect("written");
    assert_eq!(text.matches(" -> ").count() as u64, transitions);
    write("g.csv", &[]);
    let text = fs::read_to_string(dir.path().join("g.nodes.csv")).expect("written");
    assert_eq!(text.lines().count() as u64, states + 1);
    let text = fs::read_to_string(dir.path().join("g.edges.csv")).expect("written");
    assert_eq!(text.lines().count() as u64, transitions + 1);
    // What is left out is said, on the picture and beside it.
    let out = write("few.svg", &["--most", "3"]);
    assert!(out.contains("3 nodes") && out.contains("the nearest 3 of"), "{out}");
    assert!(fs::read_to_string(dir.path().join("few.svg")).expect("written").contains("the nearest 3 of"));
    let out = write("way.svg", &["--keep", "shortest", "--layout", "layers"]);
    assert!(out.contains(&format!("{} nodes", counts["shortest"].as_u64().unwrap_or(0) + 1)), "{out}");
    let out = write("near.png", &["--around", "A.o._", "--steps", "1"]);
    assert!(out.contains("2 nodes"), "{out}");
    write("rooms.svg", &["--rooms"]);
    write("place.svg", &["--place", "x=tug.col,y=tug.row"]);
    for (more, words) in [
        (vec!["-o", "g.doc"], "-o wants a name ending in"),
        (vec!["-o", "g.svg", "--place", "x=tug"], "--place wants"),
        (vec!["-o", "g.svg", "--around", "nowhere"], "--around is no position"),
    ] {
        let mut args = vec!["graph", "yard.toml", "--level", "lane"];
        args.extend(more);
        let r = fendle(dir.path(), &args);
        assert!(r.code == 2 && r.err.contains(words), "{}", r.err);
    }
}

/// A browser to look at pages with.
fn browser() -> Option<&'static str> {
    let names = ["chromium", "chromium-browser", "google-chrome"];
    let found = names
        .into_iter()
        .find(|n| Command::new(n).arg("--version").output().is_ok_and(|o| o.status.success()));
    if found.is_none() {
        println!("skipped: no browser is installed; .ci/browser installs one");
    }
    found
}

/// Opens a page with a script of the test's own behind it, and gives what that left in the document's title.
fn ask_page(browser: &str, dir: &Path, page: &str, script: &str) -> String {
    let html = fs::read_to_string(dir.join(page)).expect("written");
    let probe = format!(
        "{html}<script>setTimeout(() => {{ let out; try {{ out = String((() => {{ {script} }})()); }} catch (e) {{ out = 'error: ' + e; }} document.body.setAttribute('data-probe', out); }}, 200);</script>"
    );
    fs::write(dir.join("probe.html"), probe).expect("writable");
    let url = format!("file://{}", dir.join("probe.html").display());
    let profile = format!("--user-data-dir={}", dir.join("profile").display());
    let out = Command::new(browser)
        .args([
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--window-size=1280,800",
            "--virtual-time-budget=4000",
        ])
        .args([&profile, "--dump-dom", &url])
        .output()
        .expect("the browser runs");
    let dom = String::from_utf8_lossy(&out.stdout).into_owned();
    let at = dom
        .find("data-probe=\"")
        .unwrap_or_else(|| panic!("no answer: {}", String::from_utf8_lossy(&out.stderr)));
    dom[at + 12..].split('"').next().unwrap_or("").to_string()
}

#[test]
fn the_graph_page_works_in_a_browser() {
    let Some(browser) = browser() else { return };
    let dir = dir_with(&[("yard.toml", YARD)]);
    let r = fendle(dir.path(), &["graph", "yard.toml", "--level", "lane", "-o", "g.html"]);
    assert_eq!(r.code, 0, "{}", r.err);
    let ask = |script: &str| ask_page(browser, dir.path(), "g.html", script);
    // Nothing of the level's title ran, and everything of the page did.
    assert_eq!(ask("return document.title"), "&lt;script&gt;alert(1)&lt;/script&gt;: lane (shove, 1 x 5)");
    assert_eq!(ask("return window.fendleReady"), "true");
    // By keyboard: the first move, then back.
    let press = "const key = k => canvas.dispatchEvent(new KeyboardEvent('keydown', { key: k }));";
    assert_eq!(
        ask(&format!(
            "{press} const a = selected; key('1'); const b = selected; key('Backspace'); return (a !== b) + ' ' + (selected === a)"
        )),
        "true true"
    );
    assert_eq!(
        ask(&format!(
            "{press} const z = zoom; key('+'); const p = px; key('ArrowLeft'); return (zoom > z) + ' ' + (px > p)"
        )),
        "true true"
    );
    // The state that is shown is drawn in words, with its moves as buttons.
    let words = ask(
        "return document.getElementById('state').textContent + '|' + document.getElementById('moves').textContent",
    );
    assert!(words.contains("winnable, depth 0, the start") && words.contains("1. go right"), "{words}");
    // Searching, and the way between two states.
    assert_eq!(
        ask(
            "const s = document.getElementById('search'); s.value = 'Q'; s.onkeydown({ key: 'Enter', target: s }); return D.text[selected].includes('Q')"
        ),
        "true"
    );
    assert_eq!(ask("return wayBetween([...start][0], way[way.length - 1]).length"), "4");
    // The shortest solution is played from its start.
    assert_eq!(ask("document.getElementById('play').click(); return selected === way[0]"), "true");
    // What is near a click is taken.
    assert_eq!(ask("return nearest(sx(way[2]), sy(way[2])) === way[2]"), "true");
}

#[test]
fn a_play_can_be_stepped_through_in_a_browser() {
    let Some(browser) = browser() else { return };
    let dir = dir_with(&[("yard.toml", YARD)]);
    fendle(dir.path(), &["trace", "yard.toml", "go right x 2", "--level", "lane", "-o", "p.html"]);
    let ask = |script: &str| ask_page(browser, dir.path(), "p.html", script);
    assert_eq!(
        ask("document.getElementById('on').click(); return document.getElementById('words').textContent"),
        "1 of 2: 1. go right"
    );
    assert_eq!(
        ask(
            "document.onkeydown({ key: 'ArrowRight', target: document.body }); return document.querySelectorAll('.frame.now').length"
        ),
        "1"
    );
}

#[test]
fn a_report_is_sorted_in_a_browser() {
    let Some(browser) = browser() else { return };
    let dir = dir_with(&[("yard.toml", YARD)]);
    fendle(dir.path(), &["audit", "yard.toml", "-o", "a.html"]);
    let order =
        "return [...document.querySelectorAll('tbody tr')].map(r => r.children[1].textContent).join(' ')";
    let ask = |script: &str| ask_page(browser, dir.path(), "a.html", script);
    assert_eq!(ask(order), "yard lane");
    assert_eq!(ask(&format!("document.querySelectorAll('th button')[5].click(); {order}")), "lane yard");
}
