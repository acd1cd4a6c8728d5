//! Pictures, graph files and pages: the built program on real files; pages in a real browser, where one is installed.

use std::fs;
use std::path::Path;
use std::process::Command;

use crate::common::{dir_with, fendle};
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
    // Twenty walls, a dashed berth, a barge, and the two disks of the tug, as the model has them.
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

const SHED: &str = "model shed\nlevel wall: grid of bool = false\nstate full: grid of 0..9\nstate man: cell\n\
move walk(d: dir4) {\n let there = man + d\n refuse \"no way\" at there unless there on wall and not wall[there]\n man = there\n}\n\
goal full[man] == 3\npicture {\n wall: gravel rgb(1, 2, 3)\n full = 1: diamond rgb(4, 5, 6) \"!\"\n full: hexagon rgb(7, 8, 9)\n\
 man: ring rgb(10, 11, 12)\n}\n";
const SHED_LEVEL: &str = "model = 'shed.fendle'\n[[level]]\nname = 'one'\nvalues.wall = '''\n..x\n...\n'''\nstart.full = '''\n1 2 0\n0 0 3\n'''\nstart.man = 'r2c1'\n";

fn read(dir: &Path, file: &str) -> String {
    fs::read_to_string(dir.join(file)).expect("written")
}

/// Forms, colours and labels of a model's `picture` block stand in the picture, in both themes.
#[test]
fn a_model_gives_forms_and_colours() {
    let dir = dir_with(&[("shed.fendle", SHED), ("shed.toml", SHED_LEVEL)]);
    for theme in ["light", "dark"] {
        let file = format!("{theme}.svg");
        let r = fendle(dir.path(), &["show", "shed.toml", "-o", &file, "--theme", theme]);
        assert_eq!(r.code, 0, "{}", r.err);
        let svg = read(dir.path(), &file);
        // One wall, with four stones on it; one diamond, two hexagons; the walker's ring.
        for (colour, times) in
            [("#010203", 1), ("fill=\"#040506\"", 1), ("fill=\"#070809\"", 2), ("stroke=\"#0a0b0c\"", 1)]
        {
            assert_eq!(svg.matches(colour).count(), times, "{theme} {colour}");
        }
        // The label that the model gives, and the values where it gives none.
        for label in ["!", "2", "3"] {
            assert!(svg.contains(&format!("aria-label=\"{label}\"")), "{label}");
        }
        assert!(svg.contains("role=\"img\"") && svg.contains("man=r2c1"), "the position is there in words");
    }
    assert_ne!(read(dir.path(), "light.svg"), read(dir.path(), "dark.svg"));
    let r = fendle(dir.path(), &["show", "shed.toml", "-o", "x.svg", "--format", "json"]);
    assert_eq!(r.json()["wrote"][0], "x.svg");
}

/// The words of the language and the forms of pictures are one list.
#[test]
fn every_form_and_colour_of_the_language_can_be_drawn() {
    use fendle_lang::model::{FIGURES, PAINTS};
    assert_eq!(fendle_view::tiles::Figure::ALL.map(|f| f.0), FIGURES);
    assert_eq!(fendle_view::tiles::PAINTS, PAINTS);
    for figure in FIGURES {
        let model = SHED.replace("full: hexagon", &format!("full: {figure}"));
        let dir = dir_with(&[("shed.fendle", &model), ("shed.toml", SHED_LEVEL)]);
        assert_eq!(fendle(dir.path(), &["show", "shed.toml", "-o", "x.svg"]).code, 0, "{figure}");
        let drawn = read(dir.path(), "x.svg").contains("#070809");
        assert_eq!(drawn, !["label", "nothing"].contains(&figure), "{figure}");
    }
}

/// A model without a board is drawn as piles: as many blocks as there are rings, the widest at the foot.
#[test]
fn piles_stand_side_by_side() {
    let level = "model = 'coil'\n[[level]]\nname = 'four'\nvalues = { rings = 4 }\n";
    let dir = dir_with(&[("coil.toml", level)]);
    let r = fendle(dir.path(), &["solve", "coil.toml", "--brief", "-o", "s.html"]);
    assert_eq!(r.code, 0, "{}", r.err);
    let page = read(dir.path(), "s.html");
    // 2^4 - 1 moves and the start, each with four labelled rings.
    assert_eq!(page.matches("class=\"frame\"").count(), 16);
    let first = page.split("class=\"frame\"").nth(1).expect("a frame");
    let rings: Vec<(f32, f32)> = first
        .split("<rect ")
        .skip(2)
        .filter(|r| r.contains("rx="))
        .filter_map(|r| {
            let number =
                |key: &str| r.split(&format!(" {key}=\"")).nth(1)?.split('"').next()?.parse::<f32>().ok();
            let y = format!(" {r}");
            let top = y.split(" y=\"").nth(1)?.split('"').next()?.parse::<f32>().ok()?;
            Some((top, number("width")?))
        })
        .collect();
    assert_eq!(rings.len(), 4, "{rings:?}");
    let mut by_height = rings.clone();
    by_height.sort_by(|a, b| a.0.total_cmp(&b.0));
    assert!(by_height.windows(2).all(|w| w[0].1 < w[1].1), "{by_height:?}");
}

/// The words that pictures keep for those who cannot see them.
fn labels(svg: &str) -> Vec<String> {
    svg.split("aria-label=\"").skip(1).filter_map(|p| p.split('"').next()).map(String::from).collect()
}

#[test]
fn charts_show_depths_branching_and_distances() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let draw = |chart: &str| {
        let r =
            fendle(dir.path(), &["explore", "yard.toml", "--level", "yard", "-o", "c.svg", "--chart", chart]);
        assert_eq!(r.code, 0, "{}", r.err);
        labels(&read(dir.path(), "c.svg"))
    };
    let (all, depth, branching, distance) = (draw("all"), draw("depth"), draw("branching"), draw("distance"));
    for part in [&depth, &branching, &distance] {
        assert!(part.len() > 8 && part.len() < all.len());
    }
    let has = |list: &[String], words: &str| list.iter().any(|l| l.contains(words));
    assert!(has(&depth, "moves from the start") && !has(&depth, "allowed moves"));
    assert!(has(&branching, "allowed moves") && has(&distance, "moves to a goal"));
    let r = fendle(dir.path(), &["explore", "yard.toml", "--chart", "depth"]);
    assert!(r.code == 2 && r.err.contains("--output"), "{}", r.err);
    // A level without a solution has no distances.
    let dir = dir_with(&[("shut.toml", "model = 'shove'\n[[level]]\nstart.yard = 'AH.o_'\n")]);
    let r = fendle(dir.path(), &["explore", "shut.toml", "-o", "c.svg", "--chart", "distance"]);
    assert!(r.code == 2 && r.err.contains("no goal was reached"), "{}", r.err);
    assert_eq!(fendle(dir.path(), &["explore", "shut.toml", "-o", "c.svg"]).code, 0);
}

/// Every value in the chart of chances is the exact one that `odds` prints.
#[test]
fn a_chart_of_chances_has_the_values_of_odds() {
    let level = "model = 'merge'\n[[level]]\nvalues = { high = 2, wide = 2, top = 4 }\nstart.tile = '''\n2 .\n. 2\n'''\n";
    let dir = dir_with(&[("rope.toml", level)]);
    let v = fendle(dir.path(), &["odds", "rope.toml", "--format", "json"]).json();
    let r = fendle(dir.path(), &["odds", "rope.toml", "-o", "c.svg"]);
    assert!(r.code == 0 && r.out.contains("wrote c.svg"), "{}{}", r.out, r.err);
    let words = labels(&read(dir.path(), "c.svg"));
    let moves = v["moves"].as_array().expect("moves");
    assert!(!moves.is_empty());
    for m in moves {
        let exact = m["best_probability"]["exact"].as_str().expect("exact");
        assert!(words.iter().any(|w| w == m["move"].as_str().expect("a name")), "{words:?}");
        assert!(words.iter().any(|w| w.starts_with(exact)), "{exact} {words:?}");
    }
    assert_eq!(fendle(dir.path(), &["odds", "rope.toml", "-o", "c.html"]).code, 0);
    assert!(read(dir.path(), "c.html").contains("best probability of a goal"));
    // Many starts: no move belongs to all of them.
    let dir =
        dir_with(&[("rope.toml", "model = 'merge'\n[[level]]\nvalues = { high = 2, wide = 2, top = 4 }\n")]);
    let r = fendle(dir.path(), &["odds", "rope.toml", "-o", "c.svg"]);
    // The answer is there all the same.
    assert!(r.code == 0 && r.out.contains("best probability"), "{}{}", r.out, r.err);
    assert!(
        r.out
            .contains("nothing is drawn: play begins at one of 24 starts; --at or --after takes one of them")
    );
}

/// The risk map says of every covered cell what `infer` says: its percentage, or a sign.
#[test]
fn a_risk_map_has_the_chances_of_infer() {
    let level = "model = 'sweep'\n[[level]]\nvalues.rocks = 3\nvalues.shown = '''\nx...\n....\n....\n'''\nstart.reef = '''\n....\n.x.x\n...x\n'''\n";
    let dir = dir_with(&[("reef.toml", level)]);
    let v = fendle(dir.path(), &["infer", "reef.toml", "--format", "json"]).json();
    let r = fendle(dir.path(), &["infer", "reef.toml", "-o", "m.svg"]);
    assert!(r.code == 0 && r.out.contains("wrote m.svg"), "{}{}", r.out, r.err);
    let svg = read(dir.path(), "m.svg");
    let cells = v["cells"].as_array().expect("cells");
    let open: Vec<f64> = cells
        .iter()
        .filter(|c| c["certain"].is_null())
        .map(|c| c["about"].as_f64().or(c["chance"]["about"].as_f64()).expect("a chance"))
        .collect();
    assert!(!open.is_empty(), "{v}");
    let words = labels(&svg);
    for p in &open {
        let text = format!("{:.0}%", 100.0 * p);
        let drawn = words.iter().filter(|w| **w == text).count();
        let there = open.iter().filter(|q| format!("{:.0}%", 100.0 * **q) == text).count();
        assert_eq!(drawn, there, "{text}");
    }
    assert!(words.iter().any(|w| w.contains("the risk map")), "{words:?}");
    assert_eq!(fendle(dir.path(), &["infer", "reef.toml", "-o", "m.html"]).code, 0);
    let r = fendle(dir.path(), &["infer", "reef.toml", "--no-guess", "-o", "m.svg"]);
    assert!(r.code == 2 && r.err.contains("leave --no-guess out"), "{}", r.err);
}

/// Past the limit states stand together: none is lost, and the picture says so.
#[test]
fn what_is_too_much_stands_together() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let counts = fendle(dir.path(), &["explore", "yard.toml", "--level", "yard", "--format", "json"]).json();
    let whole: Value = {
        fendle(dir.path(), &["graph", "yard.toml", "--level", "yard", "-o", "all.json"]);
        serde_json::from_str(&read(dir.path(), "all.json")).expect("JSON")
    };
    for most in [1usize, 20, 150] {
        let text = most.to_string();
        let args = ["graph", "yard.toml", "--level", "yard", "--most", &text, "-o", "g.json"];
        assert_eq!(fendle(dir.path(), &args).code, 0);
        let v: Value = serde_json::from_str(&read(dir.path(), "g.json")).expect("JSON");
        let nodes = v["nodes"].as_array().expect("nodes");
        let sum: u64 = nodes.iter().filter_map(|n| n["states"].as_u64()).sum();
        assert_eq!(Some(sum), counts["states"].as_u64());
        // One by one as many as asked for, the nearest; then one node for each depth and status.
        let all = whole["nodes"].as_array().expect("nodes");
        assert_eq!(nodes[..most], all[..most]);
        let mut rest: Vec<(u64, &str)> = all[most..]
            .iter()
            .map(|n| (n["depth"].as_u64().unwrap(), n["status"].as_str().unwrap()))
            .collect();
        rest.sort_unstable();
        rest.dedup();
        assert_eq!(nodes.len() - most, rest.len());
        // Between two nodes there is an arrow exactly where there is one between states of theirs.
        let node_of = |i: usize| {
            if i < most {
                return i;
            }
            let key = (&all[i]["depth"], &all[i]["status"]);
            most + nodes[most..].iter().position(|n| (&n["depth"], &n["status"]) == key).expect("a node")
        };
        let ends = |e: &Value| (e["from"].as_u64().unwrap() as usize, e["to"].as_u64().unwrap() as usize);
        let mut want: Vec<(usize, usize)> = whole["edges"]
            .as_array()
            .expect("edges")
            .iter()
            .map(ends)
            .map(|(f, t)| (node_of(f), node_of(t)))
            .filter(|(f, t)| f != t)
            .collect();
        let mut have: Vec<(usize, usize)> = v["edges"].as_array().expect("edges").iter().map(ends).collect();
        for list in [&mut want, &mut have] {
            list.sort_unstable();
            list.dedup();
        }
        assert_eq!(have, want);
        assert!(v["notes"][0].as_str().is_some_and(|n| n.contains("stand together by depth and status")));
    }
    let r = fendle(
        dir.path(),
        &["graph", "yard.toml", "--level", "yard", "--most", "20", "-o", "g.svg", "--format", "json"],
    );
    assert_eq!(r.json()["graphs"][0]["states"], counts["states"]);
    assert!(read(dir.path(), "g.svg").contains("many states as one"));
    for place in [&["--rooms"][..], &["--most", "20"]] {
        let mut args =
            vec!["graph", "yard.toml", "--level", "yard", "-o", "p.svg", "--place", "x=tug.col,y=tug.row"];
        args.extend(place);
        let r = fendle(dir.path(), &args);
        assert_eq!(r.code, 0, "{}", r.err);
    }
}

/// A filter may leave nothing: every format says so, and nothing breaks.
#[test]
fn a_graph_may_be_empty() {
    let dir = dir_with(&[("shut.toml", "model = 'shove'\n[[level]]\nname = 'shut'\nstart.yard = 'AHo._'\n")]);
    for kind in ["html", "svg", "png", "graphml", "dot", "json", "csv"] {
        for layout in ["force", "layers"] {
            let file = format!("e.{kind}");
            let args = ["graph", "shut.toml", "--keep", "winnable", "--layout", layout, "-o", &file];
            let r = fendle(dir.path(), &args);
            assert_eq!(r.code, 0, "{args:?}: {}", r.err);
            assert!(r.out.contains("0 nodes") && r.out.contains("0 of 1 state shown, as asked"), "{}", r.out);
        }
    }
    for more in [&["--place", "x=tug.col,y=tug.row"][..], &["--rooms"], &["--arrows", "moves"]] {
        let mut args = vec!["graph", "shut.toml", "--keep", "winnable", "-o", "e.svg"];
        args.extend(more);
        assert_eq!(fendle(dir.path(), &args).code, 0, "{args:?}");
    }
    let Some(browser) = browser() else { return };
    fendle(dir.path(), &["graph", "shut.toml", "shut.toml", "--keep", "winnable", "-o", "two.html"]);
    for page in ["e.html", "two.html"] {
        let ask = |script: &str| ask_page(browser, dir.path(), page, script);
        assert_eq!(
            ask(
                "document.getElementById('play').click(); document.getElementById('home').click(); document.getElementById('to').click(); \
                 return window.fendleReady + ' ' + document.getElementById('state').textContent"
            ),
            "true there is no state in this picture"
        );
    }
}

#[test]
fn arrows_are_told_apart_by_move() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    let draw = |more: &[&str]| {
        let mut args = vec!["graph", "yard.toml", "--level", "yard", "-o", "g.svg"];
        args.extend(more);
        assert_eq!(fendle(dir.path(), &args).code, 0);
        labels(&read(dir.path(), "g.svg"))
    };
    let plain = draw(&[]);
    let tinted = draw(&["--arrows", "moves"]);
    for name in ["go up", "go right", "go down", "go left"] {
        assert!(tinted.iter().any(|l| l == name) && !plain.iter().any(|l| l == name), "{name}");
    }
    assert!(plain.iter().any(|l| l == "fatal move") && !tinted.iter().any(|l| l == "fatal move"));
}

const TWO: &str = "model = 'shove'\ntitle = 'Two'\n\
[[level]]\nname = 'open'\nstart.yard = '''\nA.o_\n....\n'''\n\
[[level]]\nname = 'post'\nstart.yard = '''\nA.o_\n...H\n'''\n\
[[level]]\nname = 'turned'\nstart.yard = '''\n_o.A\n....\n'''\n\
[[level]]\nname = 'small'\nstart.yard = 'Ao_'\n";

/// The data of a page.
fn page_data(dir: &Path, file: &str) -> Value {
    let page = read(dir, file);
    let text = page.split("type=\"application/json\">").nth(1).and_then(|p| p.split("</script>").next());
    serde_json::from_str(text.expect("data")).expect("JSON")
}

#[test]
fn two_spaces_side_by_side_match_where_states_are_the_same() {
    let dir = dir_with(&[("two.toml", TWO), ("other.toml", TWO)]);
    let pair = |with: &str| {
        let args = [
            "graph",
            "two.toml",
            "other.toml",
            "--level",
            "open",
            "--with",
            with,
            "-o",
            "p.html",
            "--format",
            "json",
        ];
        let r = fendle(dir.path(), &args);
        assert_eq!(r.code, 0, "{}", r.err);
        (r.json(), page_data(dir.path(), "p.html"))
    };
    let (said, page) = pair("post");
    assert_eq!(page["views"].as_array().map(Vec::len), Some(2));
    let texts = |k: usize| page["views"][k]["text"].as_array().expect("texts").clone();
    let (a, b) = (texts(0), texts(1));
    let pairs: Vec<(usize, usize)> = serde_json::from_value(page["pairs"].clone()).expect("pairs");
    assert_eq!(said["matched"]["states"], pairs.len());
    assert_eq!(said["matched"]["how"], "by what their variables hold");
    // The post stands in one corner only: a position matches where it is the same but for the post.
    let bare = |t: &Value| t.as_str().expect("text").replace('H', ".");
    for (x, y) in &pairs {
        assert_eq!(bare(&a[*x]), bare(&b[*y]));
    }
    let there: Vec<String> = b.iter().map(bare).collect();
    let both = a.iter().filter(|t| there.contains(&bare(t))).count();
    assert_eq!(pairs.len(), both);
    assert!(both > 3 && both < a.len());
    // A mirrored yard has the same shape: every state has its partner, the goals among them.
    let (said, page) = pair("turned");
    assert_eq!(said["matched"]["how"], "by a renaming: the spaces have the same shape");
    let pairs: Vec<(usize, usize)> = serde_json::from_value(page["pairs"].clone()).expect("pairs");
    let (a, b) = (&page["views"][0], &page["views"][1]);
    assert_eq!(pairs.len(), a["text"].as_array().map_or(0, Vec::len));
    for (x, y) in pairs {
        assert_eq!((&a["status"][x], &a["depth"][x]), (&b["status"][y], &b["depth"][y]));
    }
    let said = pair("small").0;
    assert_eq!(said["matched"]["states"], 0);
    assert!(said["matched"]["how"].as_str().is_some_and(|h| h.contains("have not the same shape")));
    // Of spaces that were not seen whole nothing is claimed.
    let r = fendle(
        dir.path(),
        &["graph", "two.toml", "--level", "open", "--with", "small", "--max-states", "2", "-o", "p.html"],
    );
    assert!(
        r.code == 3 && r.out.contains("was not found out") && !r.out.contains("have not"),
        "{}{}",
        r.out,
        r.err
    );
    // A second level of the same file needs no second name.
    let r = fendle(dir.path(), &["graph", "two.toml", "--level", "open", "--with", "post", "-o", "q.html"]);
    assert!(r.code == 0 && r.out.contains("in both, matched by what their variables hold"), "{}", r.out);
    let r = fendle(dir.path(), &["graph", "two.toml", "--with", "post", "-o", "q.svg"]);
    assert!(r.code == 2 && r.err.contains("a name ending in .html"), "{}", r.err);
    let r =
        fendle(dir.path(), &["graph", "two.toml", "--with", "post", "--around", "A.o_/....", "-o", "q.html"]);
    assert!(r.code == 2 && r.err.contains("--around is about one level"), "{}", r.err);
}

/// The boards of a page are those of its positions: cells of one kind hold the same glyph, cells of two kinds two.
#[test]
fn a_page_holds_the_board_of_every_state() {
    let dir = dir_with(&[("yard.toml", YARD)]);
    assert_eq!(fendle(dir.path(), &["graph", "yard.toml", "--level", "yard", "-o", "g.html"]).code, 0);
    let page = page_data(dir.path(), "g.html");
    let v = &page["views"][0];
    let from = v["boards"]["from"].as_u64().expect("a code") as u32;
    let mut kinds: std::collections::BTreeMap<u32, char> = std::collections::BTreeMap::new();
    let texts = v["text"].as_array().expect("texts");
    for (text, cells) in texts.iter().zip(v["boards"]["cells"].as_array().expect("cells")) {
        let glyphs: Vec<char> = text.as_str().expect("text").chars().filter(|c| *c != '/').collect();
        let cells: Vec<u32> = cells.as_str().expect("text").chars().map(|c| c as u32 - from).collect();
        assert_eq!(glyphs.len(), cells.len());
        for (g, k) in glyphs.into_iter().zip(cells) {
            assert_eq!(*kinds.entry(k).or_insert(g), g);
        }
    }
    let mut glyphs: Vec<char> = kinds.values().copied().collect();
    glyphs.sort_unstable();
    glyphs.dedup();
    assert_eq!(glyphs.len(), kinds.len(), "{kinds:?}");
    for theme in ["light", "dark"] {
        assert_eq!(v["boards"][theme].as_array().map(Vec::len), Some(kinds.len()));
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
    let press =
        "const v = views[0], key = k => v.canvas.dispatchEvent(new KeyboardEvent('keydown', { key: k }));";
    assert_eq!(
        ask(&format!(
            "{press} const a = v.selected; key('1'); const b = v.selected; key('Backspace'); return (a !== b) + ' ' + (v.selected === a)"
        )),
        "true true"
    );
    assert_eq!(
        ask(&format!(
            "{press} const z = v.zoom; key('+'); const p = v.px; key('ArrowLeft'); return (v.zoom > z) + ' ' + (v.px > p)"
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
            "const s = document.getElementById('search'); s.value = 'Q'; s.onkeydown({ key: 'Enter', target: s }); return views[0].D.text[views[0].selected].includes('Q')"
        ),
        "true"
    );
    assert_eq!(
        ask("const v = views[0]; return v.wayBetween(v.D.start[0], v.way[v.way.length - 1]).length"),
        "4"
    );
    // The shortest solution is played from its start.
    assert_eq!(
        ask("document.getElementById('play').click(); return views[0].selected === views[0].way[0]"),
        "true"
    );
    // What is near a click is taken.
    assert_eq!(ask("const v = views[0], i = v.way[2]; return v.nearest(v.sx(i), v.sy(i)) === i"), "true");
}

/// What is taken in one space is taken in the other; the way between two states goes by keyboard; arrows have their colours.
#[test]
fn two_graphs_are_linked_in_a_browser() {
    let Some(browser) = browser() else { return };
    let dir = dir_with(&[("two.toml", TWO)]);
    fendle(dir.path(), &["graph", "two.toml", "--level", "open", "--with", "post", "-o", "p.html"]);
    let ask = |script: &str| ask_page(browser, dir.path(), "p.html", script);
    // Every state of the first: the other view follows, or has nothing selected and says so.
    assert_eq!(
        ask("const [a, b] = views; let wrong = 0, none = 0; \
             for (let i = 0; i < a.N; i++) { a.select(i); if (b.selected !== a.partner[i]) wrong++; if (b.selected < 0) none++; } \
             return wrong + ' ' + (none === a.N - DATA.pairs.length)"),
        "0 true"
    );
    assert!(
        ask("views[0].select(DATA.pairs[0][0]); return document.getElementById('partner').textContent")
            .starts_with("beside it, in Two: post")
    );
    assert!(
        ask("const v = views[0]; v.select(v.partner.findIndex(p => p < 0)); return document.getElementById('partner').textContent")
            .starts_with("no state of Two: post")
    );
    // From the second view back to the first; a focused view is the one that the buttons are about.
    assert_eq!(
        ask("views[1].select(DATA.pairs[1][1]); return views[0].selected === DATA.pairs[1][0]"),
        "true"
    );
    assert_eq!(ask("views[1].canvas.focus(); return active === views[1]"), "true");
    // A way by keyboard: W here, W there.
    assert_eq!(
        ask(
            "const v = views[0], key = k => v.canvas.dispatchEvent(new KeyboardEvent('keydown', { key: k })); \
             v.home(); key('w'); v.select(v.way[v.way.length - 1]); key('w'); return v.path.length === v.way.length && v.path.every((n, i) => v.D.depth[n] === i)"
        ),
        "true"
    );
    // Moves that lead here are listed, and lead back.
    assert_eq!(
        ask(
            "const v = views[0]; v.select(v.way[1]); const b = document.querySelectorAll('#before button'); const n = b.length; b[0].click(); \
             return (n === v.into.first[v.way[1] + 1] - v.into.first[v.way[1]]) + ' ' + (v.selected !== v.way[1])"
        ),
        "true true"
    );
    let legend = "return document.getElementById('legend').textContent";
    assert!(!ask(legend).contains("go up"));
    assert!(
        ask(&format!("document.getElementById('tint').click(); views[0].draw(); {legend}")).contains("go up")
    );
    // Boards are drawn where there is room, and are described.
    assert_eq!(ask("views[0].draw(); return views[0].boards"), "true");
    assert_eq!(
        ask(
            "return document.querySelector('#state canvas').getAttribute('aria-label') === views[0].D.text[views[0].selected]"
        ),
        "true"
    );
}

/// Nodes that stand for many states say so, and the legend counts states, not nodes; a moved picture comes to rest drawn.
#[test]
fn many_states_as_one_in_a_browser() {
    let Some(browser) = browser() else { return };
    let dir = dir_with(&[("yard.toml", YARD)]);
    let counts = fendle(dir.path(), &["explore", "yard.toml", "--level", "yard", "--format", "json"]).json();
    fendle(dir.path(), &["graph", "yard.toml", "--level", "yard", "--most", "20", "-o", "b.html"]);
    let ask = |script: &str| ask_page(browser, dir.path(), "b.html", script);
    assert_eq!(
        ask(
            "const v = views[0], i = D0(); v.select(i); return document.getElementById('state').textContent.startsWith(v.size.get(i) + ' states taken together, '); \
             function D0() { return [...views[0].size.keys()].find(k => views[0].size.get(k) > 1); }"
        ),
        "true"
    );
    let legend = ask("return document.getElementById('legend').textContent");
    assert!(legend.contains("many states taken together"), "{legend}");
    for (key, word) in [("dead", "dead"), ("winnable", "winnable"), ("goal", "won")] {
        assert!(legend.contains(&format!("{} {word}", counts[key])), "{legend}");
    }
    assert!(
        ask("return document.getElementById('notes').textContent")
            .contains("stand together by depth and status")
    );
    // The last picture is moved while it moves; a state that is taken is drawn in full at once.
    assert_eq!(
        ask(
            "const v = views[0]; v.snap = { canvas: v.canvas, zoom: v.zoom, px: v.px, py: v.py }; v.zoomAt(9, 9, 2); const a = v.moving; \
             v.draw(); v.select(1); const b = v.moving; v.draw(); return a + ' ' + b"
        ),
        "true false"
    );
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
