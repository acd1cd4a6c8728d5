//! Boards from and to other programs: tables of cells, tile maps, folders of them as a pack, and spaces as typed columns.

use std::fs;
use std::process::Command;

use crate::common::{dir_with, fendle};

const CSV: &str = "H,H,H,H\nH,.,o,_\nH,A,.,H\n";
const MAP: &str = "<?xml version=\"1.0\"?>\n<map width=\"4\" height=\"3\">\n <tileset firstgid=\"1\" source=\"quay.tsx\"/>\n <layer name=\"ground\">\n  <properties/>\n  <data encoding=\"csv\">\n2,2,2,2,\n2,0,0,3,\n2,0,0,2\n</data></layer>\n<layer name=\"things\"><data encoding=\"csv\">\n0,0,0,0,\n0,0,5,0,\n0,6,0,0\n</data></layer>\n</map>\n";
const TILES: &str =
    "[layers.ground]\n2 = \"wall\"\n3 = \"berth\"\n[layers.things]\n5 = \"barge\"\n6 = \"tug\"\n";

#[test]
fn a_board_goes_out_and_comes_back_as_it_was() {
    let dir = dir_with(&[("east.csv", CSV), ("west.xml", MAP), ("tiles.toml", TILES)]);
    let import = |files: &[&str], to: &str| {
        let args = [&["import"], files, &["--model", "shove", "--tiles", "tiles.toml", "-o", to]].concat();
        let run = fendle(dir.path(), &args);
        assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    };
    let export = |more: &[&str]| {
        let run = fendle(dir.path(), &[&["export", "one.toml", "--tiles", "tiles.toml"], more].concat());
        assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    };
    let read = |name: &str| fs::read_to_string(dir.path().join(name)).expect("it was written");
    let line = |file: &str| fendle(dir.path(), &["show", file, "--line"]).out;
    import(&["west.xml"], "one.toml");
    export(&["-o", "out.csv"]);
    assert_eq!(read("out.csv"), CSV);
    export(&["-o", "out.xml"]);
    import(&["out.xml"], "two.toml");
    assert_eq!(line("one.toml"), line("two.toml"));
    // Into the map that it came from: nothing else changes, and nothing at all where the board is the same.
    export(&["-o", "same.xml", "--like", "west.xml"]);
    assert_eq!(read("same.xml").replace(",\n", "\n"), MAP.replace(",\n", "\n"));
    // The position after a push: what is drawn has changed, the tile set has not.
    export(&["--after", "go up", "-o", "later.xml", "--like", "west.xml"]);
    let later = read("later.xml");
    assert!(later.contains("quay.tsx") && later.contains("0,6,5,0,\n0,0,0,0"), "{later}");
    import(&["later.xml"], "three.toml");
    let after = fendle(dir.path(), &["show", "one.toml", "--after", "go up", "--line"]).out;
    assert_eq!(line("three.toml"), after);
}

#[test]
fn what_cannot_go_out_is_told_with_its_place() {
    let level = "model = \"shove\"\n[[level]]\nname = \"one\"\nstart.yard = \"HHHH/H.Q_/HAoH\"\n";
    let dir = dir_with(&[("one.toml", level), ("west.xml", MAP)]);
    for (tiles, more, words) in [
        (TILES.replace("barge", "hull"), vec!["-o", "out.xml"], "`hull` is no variable"),
        (TILES.replace("5 =", "# 5 ="), vec!["-o", "out.xml"], "r2c3 is `Q`: no tiles of --tiles say"),
        (String::new(), vec!["-o", "out.xml"], "wants --tiles with tables layers.NAME"),
        (
            TILES.replace("ground", "floor"),
            vec!["-o", "out.xml", "--like", "west.xml"],
            "the map has no layer floor",
        ),
        (TILES.into(), vec!["-o", "out.txt"], "a table of cells (.csv) or a tile map (.xml)"),
        (TILES.into(), vec!["-o", "west.xml", "--like", "west.xml"], "it is not written over"),
    ] {
        fs::write(dir.path().join("tiles.toml"), &tiles).expect("writable");
        let run = fendle(dir.path(), &[&["export", "one.toml", "--tiles", "tiles.toml"], &more[..]].concat());
        assert!(run.code == 2 && run.err.contains(words), "{words}: {}{}", run.out, run.err);
    }
    // Tiles of both layers say together what one glyph says.
    fs::write(dir.path().join("tiles.toml"), TILES).expect("writable");
    let run = fendle(dir.path(), &["export", "one.toml", "--tiles", "tiles.toml", "-o", "out.xml"]);
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    let map = fs::read_to_string(dir.path().join("out.xml")).expect("it was written");
    assert!(map.contains("2,0,3,3,") && map.contains("0,0,5,0,"), "{map}");
}

#[test]
fn a_folder_of_boards_is_a_pack() {
    let dir = dir_with(&[("tiles.toml", TILES), ("plain.toml", "")]);
    for (name, text) in [("yards/a.csv", CSV), ("yards/b.xml", MAP), ("yards/far/a.csv", CSV)] {
        let path = dir.path().join(name);
        fs::create_dir_all(path.parent().expect("a folder")).expect("writable");
        fs::write(path, text).expect("writable");
    }
    fs::write(dir.path().join("yards/tiles.toml"), TILES).expect("writable");
    let args = ["audit", "yards", "--model", "shove", "--tiles", "yards/tiles.toml"];
    let run = fendle(dir.path(), &[&args[..], &["--format", "json"]].concat());
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    let found = run.json();
    let levels = found["levels"].as_array().expect("levels");
    assert_eq!(levels.len(), 3, "{found}");
    // All three are the same yard: one push, and the way to it.
    assert!(
        levels.iter().all(|l| l["moves"] == levels[0]["moves"] && l["verdict"] == levels[0]["verdict"]),
        "{found}"
    );
    let run = fendle(dir.path(), &[&args[..], &["--profile"]].concat());
    assert!(run.code == 0 && run.out.contains("same"), "{}{}", run.out, run.err);
    let run = fendle(dir.path(), &["audit", "yards/a.csv"]);
    assert!(run.code == 2 && run.err.contains("--model says by which rules"), "{}{}", run.out, run.err);
    fs::write(dir.path().join("yards/b.xml"), MAP.replace("0,0,5,0", "0,0,9,0")).expect("writable");
    let run = fendle(dir.path(), &args);
    assert!(run.code == 2 && run.err.contains("b.xml: r2c3: tile 9"), "{}{}", run.out, run.err);
}

/// Reads a file of typed columns with another program's reader; `None` where it is not installed.
fn columns(dir: &std::path::Path, file: &str) -> Option<serde_json::Value> {
    let script = "import sys, json, pyarrow.parquet as p\nt = p.read_table(sys.argv[1])\nprint(json.dumps({'types': {f.name: str(f.type) for f in t.schema}, 'rows': t.to_pylist()}))";
    let out = Command::new("python3").args(["-c", script, file]).current_dir(dir).output().ok()?;
    if !out.status.success() && String::from_utf8_lossy(&out.stderr).contains("No module named") {
        return None;
    }
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    serde_json::from_slice(&out.stdout).ok()
}

#[test]
fn spaces_are_written_as_typed_columns() {
    let level = "model = \"shove\"\n[[level]]\nname = \"one\"\nstart.yard = \"HHHHH/H.o_H/H.A.H/HHHHH\"\n";
    let dir = dir_with(&[("one.toml", level)]);
    let run = fendle(dir.path(), &["graph", "one.toml", "-o", "one.parquet"]);
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    let run = fendle(dir.path(), &["graph", "one.toml", "-o", "one.json"]);
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    for name in ["states", "edges", "figures"] {
        let bytes = fs::read(dir.path().join(format!("one.{name}.parquet"))).expect("it was written");
        assert!(bytes.starts_with(b"PAR1") && bytes.ends_with(b"PAR1"), "{name}");
    }
    let Some(states) = columns(dir.path(), "one.states.parquet") else {
        println!("skipped: python3 has no pyarrow, which reads these files");
        return;
    };
    let graph: serde_json::Value =
        serde_json::from_str(&fs::read_to_string(dir.path().join("one.json")).expect("written"))
            .expect("JSON");
    let nodes = graph["nodes"].as_array().expect("nodes");
    let rows = states["rows"].as_array().expect("rows");
    assert_eq!(rows.len(), nodes.len());
    for (i, (row, node)) in rows.iter().zip(nodes).enumerate() {
        assert_eq!(row["node"], i);
        for key in ["position", "depth", "status", "start", "must_pass", "on_shortest", "states"] {
            assert_eq!(row[key], node[key], "{key} of {i}");
        }
    }
    assert_eq!(states["types"]["depth"], "int64");
    assert_eq!(states["types"]["start"], "bool");
    let edges = columns(dir.path(), "one.edges.parquet").expect("a reader");
    assert_eq!(edges["rows"].as_array().map(Vec::len), graph["edges"].as_array().map(Vec::len));
    assert_eq!(edges["rows"][0]["move"], graph["edges"][0]["move"]);
    let figures = columns(dir.path(), "one.figures.parquet").expect("a reader");
    let space = fendle(dir.path(), &["explore", "one.toml", "--format", "json"]).json();
    for row in figures["rows"].as_array().expect("rows") {
        let name = row["figure"].as_str().expect("a name");
        let of = if name == "moves" { "shortest" } else { name };
        assert_eq!(row["value"], space[of], "{name}");
    }
}
