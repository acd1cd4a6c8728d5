//! What is drawn and written of random graphs, boards and numbers: it can be read again by programs that know the formats, nothing lies
//! outside the picture, and words of a model stay words.

use fendle_view::board::{Board, side_by_side};
use fendle_view::chart::{self, Lane, bars, by_depth};
use fendle_view::columns;
use fendle_view::export;
use fendle_view::net::{Arrow, Net, Node, Status, force, kinds, layers, scene};
use fendle_view::page::{self, Row, Section};
use fendle_view::scene::{Anchor, Scene, Shape, Style, text_width};
use fendle_view::text::{folded, table, wrapped};
use fendle_view::tiles::{Figure, Paint, Shade, Theme, Thing, Tiles, sheet};
use parquet::file::reader::{FileReader, SerializedFileReader};
use parquet::record::RowAccessor;
use rand::rngs::SmallRng;
use rand::{Rng, SeedableRng};
use unicode_width::UnicodeWidthStr;

/// Small random numbers.
struct Dice(SmallRng);

impl Dice {
    fn new(seed: u64) -> Dice {
        Dice(SmallRng::seed_from_u64(seed))
    }

    fn below(&mut self, n: usize) -> usize {
        self.0.random_range(0..n)
    }

    /// Words with all that could end a quote, a tag, a field or a line.
    fn words(&mut self) -> String {
        const PIECES: [&str; 16] = [
            "quay",
            " ",
            "\"",
            "'",
            "<b>",
            "&amp;",
            ",",
            ";",
            "\\",
            "=1+2",
            "</script>",
            "\u{1}",
            "é",
            "七",
            "]]>\u{ffff}",
            "-",
        ];
        let count = 1 + self.below(5);
        (0..count).map(|_| PIECES[self.below(PIECES.len())]).collect()
    }

    fn net(&mut self) -> Net {
        let n = 1 + self.below(30);
        let nodes = (0..n)
            .map(|i| Node {
                start: i == 0,
                must_pass: self.below(3) == 0,
                on_way: self.below(3) == 0,
                count: 1 + self.below(1000) as u64,
                ..Node::plain(self.words(), (i as f32).sqrt() as u32, Status::ALL[self.below(8)])
            })
            .collect();
        let names: Vec<String> = (0..1 + self.below(4)).map(|_| self.words()).collect();
        let arrows = (0..self.below(3 * n))
            .map(|_| Arrow {
                from: self.below(n) as u32,
                to: self.below(n) as u32,
                name: self.below(names.len()) as u32,
                fatal: self.below(4) == 0,
            })
            .collect();
        Net { title: self.words(), nodes, arrows, names, notes: vec![self.words()], boards: None }
    }
}

fn each_net(count: u64, mut see: impl FnMut(&Net)) {
    (0..count).for_each(|seed| see(&Dice::new(seed).net()));
}

/// What XML can hold of a text: no control signs.
fn in_xml(text: &str) -> String {
    text.chars().map(|c| if c < ' ' || c == '\u{ffff}' { ' ' } else { c }).collect()
}

#[test]
fn graphml_says_what_the_graph_says() {
    each_net(60, |net| {
        let mut out = vec![];
        export::graphml(net, &|i| net.nodes[i].text.clone(), &mut out).expect("written to memory");
        let text = String::from_utf8(out).expect("text");
        let read = roxmltree::Document::parse(&text).unwrap_or_else(|e| panic!("{e}: {text}"));
        let all = |tag: &str| read.descendants().filter(|n| n.has_tag_name(tag)).collect::<Vec<_>>();
        let data = |of: &roxmltree::Node<'_, '_>, key: &str| {
            let found =
                of.children().find(|d| d.attribute("key") == Some(key)).expect("every field is there");
            found.text().unwrap_or("").to_string()
        };
        let (nodes, edges) = (all("node"), all("edge"));
        assert_eq!((nodes.len(), edges.len()), (net.nodes.len(), net.arrows.len()));
        for (i, (told, node)) in nodes.iter().zip(&net.nodes).enumerate() {
            assert_eq!(told.attribute("id"), Some(format!("n{i}").as_str()));
            assert_eq!(data(told, "position"), in_xml(&node.text));
            assert_eq!(data(told, "depth"), node.depth.to_string());
            assert_eq!(data(told, "status"), node.status.word());
            assert_eq!(data(told, "states"), node.count.to_string());
        }
        for (told, arrow) in edges.iter().zip(&net.arrows) {
            assert_eq!(told.attribute("source"), Some(format!("n{}", arrow.from).as_str()));
            assert_eq!(told.attribute("target"), Some(format!("n{}", arrow.to).as_str()));
            assert_eq!(data(told, "move"), in_xml(&net.names[arrow.name as usize]));
            assert_eq!(data(told, "fatal"), arrow.fatal.to_string());
        }
    });
}

#[test]
fn json_says_what_the_graph_says() {
    each_net(60, |net| {
        let mut out = vec![];
        export::json(net, &|i| net.nodes[i].text.clone(), &mut out).expect("written to memory");
        let read: serde_json::Value = serde_json::from_slice(&out).expect("it is JSON");
        assert_eq!(
            (read["title"].as_str(), read["notes"][0].as_str()),
            (Some(net.title.as_str()), Some(net.notes[0].as_str()))
        );
        let nodes = read["nodes"].as_array().expect("a list");
        assert_eq!(nodes.len(), net.nodes.len());
        for (told, node) in nodes.iter().zip(&net.nodes) {
            assert_eq!(told["position"], node.text.as_str());
            assert_eq!(
                (told["start"].as_bool(), told["must_pass"].as_bool()),
                (Some(node.start), Some(node.must_pass))
            );
        }
        let edges = read["edges"].as_array().expect("a list");
        assert_eq!(edges.len(), net.arrows.len());
        for (told, arrow) in edges.iter().zip(&net.arrows) {
            assert_eq!(
                (told["from"].as_u64(), told["to"].as_u64()),
                (Some(arrow.from.into()), Some(arrow.to.into()))
            );
            assert_eq!(told["move"], net.names[arrow.name as usize].as_str());
        }
    });
}

/// The fields of a table with commas, quotes doubled inside quotes.
fn fields_of(text: &str) -> Vec<Vec<String>> {
    let (mut rows, mut row, mut field, mut quoted) = (vec![], vec![], String::new(), false);
    let mut signs = text.chars().peekable();
    while let Some(c) = signs.next() {
        match c {
            '"' if quoted && signs.peek() == Some(&'"') => field.extend(signs.next()),
            '"' => quoted = !quoted,
            ',' if !quoted => row.push(std::mem::take(&mut field)),
            '\n' if !quoted => {
                row.push(std::mem::take(&mut field));
                rows.push(std::mem::take(&mut row));
            }
            c => field.push(c),
        }
    }
    assert!(!quoted && row.is_empty() && field.is_empty(), "the last line ends: {text}");
    rows
}

#[test]
fn tables_with_commas_keep_every_field_and_run_nothing() {
    each_net(60, |net| {
        let (mut nodes, mut edges) = (vec![], vec![]);
        export::csv_nodes(net, &|i| net.nodes[i].text.clone(), &mut nodes).expect("written to memory");
        export::csv_edges(net, &mut edges).expect("written to memory");
        let rows = fields_of(&String::from_utf8(nodes).expect("text"));
        assert_eq!(rows.len(), net.nodes.len() + 1);
        assert!(rows.iter().all(|r| r.len() == rows[0].len()));
        for (row, node) in rows[1..].iter().zip(&net.nodes) {
            let runs = node.text.starts_with(['=', '+', '-', '@']);
            assert_eq!(row[1], if runs { format!("'{}", node.text) } else { node.text.clone() });
            assert!(!row[1].starts_with(['=', '+', '-', '@']), "{row:?}");
        }
        let rows = fields_of(&String::from_utf8(edges).expect("text"));
        assert_eq!(rows.len(), net.arrows.len() + 1);
        for (row, arrow) in rows[1..].iter().zip(&net.arrows) {
            assert_eq!(
                (&row[0], &row[1], &row[3]),
                (&arrow.from.to_string(), &arrow.to.to_string(), &arrow.fatal.to_string())
            );
        }
    });
}

#[test]
fn graphs_for_layout_programs_have_closed_quotes() {
    each_net(60, |net| {
        let mut out = vec![];
        export::dot(net, &|i| net.nodes[i].text.clone(), &mut out).expect("written to memory");
        let text = String::from_utf8(out).expect("text");
        let (mut quoted, mut escaped, mut arrows) = (false, false, 0);
        let mut outside = String::new();
        for c in text.chars() {
            match (quoted, escaped, c) {
                (true, true, _) => escaped = false,
                (true, false, '\\') => escaped = true,
                (_, false, '"') => quoted = !quoted,
                (false, ..) => outside.push(c),
                _ => {}
            }
        }
        arrows += outside.matches("->").count();
        assert!(!quoted && outside.starts_with("digraph ") && outside.trim_end().ends_with('}'), "{text}");
        assert_eq!(arrows, net.arrows.len(), "{text}");
        assert_eq!(outside.matches(", shape=").count(), net.nodes.len(), "{text}");
    });
}

#[test]
fn columns_are_read_back_as_they_were_written() {
    each_net(20, |net| {
        let read =
            |bytes: Vec<u8>| SerializedFileReader::new(bytes::Bytes::from(bytes)).expect("a sound file");
        let mut out = vec![];
        columns::states(net, &|i| net.nodes[i].text.clone(), &mut out).expect("written to memory");
        let file = read(out);
        let rows: Vec<_> = file.get_row_iter(None).expect("rows").map(|r| r.expect("a row")).collect();
        assert_eq!(rows.len(), net.nodes.len());
        for (i, (row, node)) in rows.iter().zip(&net.nodes).enumerate() {
            assert_eq!(row.get_long(0).expect("a number"), i as i64);
            assert_eq!(row.get_string(1).expect("a text"), &node.text);
            assert_eq!(row.get_long(2).expect("a number"), i64::from(node.depth));
            assert_eq!(row.get_string(3).expect("a text"), node.status.word());
            assert_eq!(row.get_bool(4).expect("yes or no"), node.start);
            assert_eq!(row.get_long(7).expect("a number"), node.count as i64);
        }
        let mut out = vec![];
        columns::edges(net, &mut out).expect("written to memory");
        let file = read(out);
        let rows: Vec<_> = file.get_row_iter(None).expect("rows").map(|r| r.expect("a row")).collect();
        assert_eq!(rows.len(), net.arrows.len());
        for (row, arrow) in rows.iter().zip(&net.arrows) {
            let ends = (row.get_long(0).expect("a number"), row.get_long(1).expect("a number"));
            assert_eq!(ends, (arrow.from.into(), arrow.to.into()));
            assert_eq!(row.get_string(2).expect("a text"), &net.names[arrow.name as usize]);
        }
    });
    let mut out = vec![];
    columns::figures(&[("states", 7), ("dead", 0)], &mut out).expect("written to memory");
    let file = SerializedFileReader::new(bytes::Bytes::from(out)).expect("a sound file");
    let rows: Vec<_> = file.get_row_iter(None).expect("rows").map(|r| r.expect("a row")).collect();
    let told: Vec<(String, i64)> = rows
        .iter()
        .map(|r| (r.get_string(0).expect("a text").clone(), r.get_long(1).expect("a number")))
        .collect();
    assert_eq!(told, [("states".to_string(), 7), ("dead".to_string(), 0)]);
}

/// The corners of everything that is drawn, words with their width.
fn reach(scene: &Scene) -> (f32, f32, f32, f32) {
    let (mut left, mut top, mut right, mut bottom) = (f32::MAX, f32::MAX, f32::MIN, f32::MIN);
    let mut see = |x: f32, y: f32| {
        assert!(x.is_finite() && y.is_finite(), "{x}, {y}");
        (left, right) = (left.min(x), right.max(x));
        (top, bottom) = (top.min(y), bottom.max(y));
    };
    for shape in &scene.shapes {
        match shape {
            Shape::Rect(x, y, w, h, ..) => {
                see(*x, *y);
                see(x + w, y + h);
            }
            Shape::Circle(x, y, r, _) => {
                see(x - r, y - r);
                see(x + r, y + r);
            }
            Shape::Lines(points, ..) => points.iter().for_each(|(x, y)| see(*x, *y)),
            Shape::Text(x, y, size, anchor, words, _) => {
                let wide = text_width(words, *size);
                let from = match anchor {
                    Anchor::Start => *x,
                    Anchor::Middle => x - wide / 2.0,
                    Anchor::End => x - wide,
                };
                see(from, y - size);
                see(from + wide, *y);
            }
        }
    }
    (left, top, right, bottom)
}

#[track_caller]
fn lies_inside(scene: &Scene, slack: f32) {
    let (left, top, right, bottom) = reach(scene);
    let inside =
        left >= -slack && top >= -slack && right <= scene.width + slack && bottom <= scene.height + slack;
    assert!(inside, "{left} {top} {right} {bottom} in {} x {}", scene.width, scene.height);
}

/// Both pictures are sound: one can be read as XML, the other has as many pixels as it should.
#[track_caller]
fn can_be_seen(scene: &Scene) {
    let text = scene.svg();
    let read = roxmltree::Document::parse(&text).unwrap_or_else(|e| panic!("{e}: {text}"));
    let title = read.descendants().find(|n| n.has_tag_name("title")).expect("for those who cannot see it");
    assert_eq!(title.text().unwrap_or(""), in_xml(&scene.title));
    let pixels = tiny_skia::Pixmap::decode_png(&scene.png(0.5).expect("not too large")).expect("a picture");
    let size = ((scene.width * 0.5).ceil() as u32, (scene.height * 0.5).ceil() as u32);
    assert_eq!((pixels.width(), pixels.height()), size);
}

#[test]
fn graphs_are_laid_out_by_depth_and_drawn_inside() {
    each_net(40, |net| {
        let spots = layers(net);
        assert_eq!(spots.len(), net.nodes.len());
        for (i, a) in net.nodes.iter().enumerate() {
            for (j, b) in net.nodes.iter().enumerate().skip(i + 1) {
                // Lower down exactly when deeper; side by side, never on each other, when as deep.
                assert_eq!(a.depth.cmp(&b.depth), spots[i].1.total_cmp(&spots[j].1));
                assert!(
                    a.depth != b.depth || (spots[i].0 - spots[j].0).abs() > 1e-3,
                    "{i} and {j} lie on each other"
                );
            }
        }
        for tint in [false, true] {
            let picture = scene(net, &spots, tint, Theme::Light, (1280.0, 800.0));
            // A title may be longer than a picture is wide.
            let words = |s: &Shape| matches!(s, Shape::Text(..));
            let drawn = Scene {
                shapes: picture.shapes.iter().filter(|s| !words(s)).cloned().collect(),
                ..picture.clone()
            };
            lies_inside(&drawn, 1.0);
            can_be_seen(&picture);
        }
    });
}

#[test]
fn forces_give_the_same_picture_for_the_same_seed() {
    each_net(12, |net| {
        let at = force(net, 7, 60, &|| false);
        assert_eq!(at, force(net, 7, 60, &|| false));
        assert!(at.iter().all(|p| p.0.is_finite() && p.1.is_finite()));
        for (i, a) in at.iter().enumerate() {
            assert!(
                at[i + 1..].iter().all(|b| (a.0 - b.0).hypot(a.1 - b.1) > 1e-4),
                "two nodes lie on each other"
            );
        }
        // Stopped before its first round it is rougher, and still a place for each node.
        assert_eq!(force(net, 7, 1 << 20, &|| true).len(), net.nodes.len());
    });
}

#[test]
fn kinds_of_moves_are_told_by_the_word_that_differs() {
    let names: Vec<String> = ["slide left", "slide right", "slide left fast"].map(String::from).to_vec();
    let (kinds_of, kind) = kinds(&names);
    assert_eq!((kinds_of.len(), kind[0] == kind[2], kind[0] == kind[1]), (2, true, false), "{kinds_of:?}");
    assert_eq!(kinds(&[]), (vec![], vec![]));
    let many: Vec<String> = (0..50).map(|i| format!("{i}")).collect();
    assert_eq!(kinds(&many).1, vec![0; 50], "too many to be told apart");
    each_net(40, |net| {
        let (kinds_of, kind) = kinds(&net.names);
        assert_eq!(kind.len(), net.names.len());
        assert!(kind.iter().all(|k| *k < kinds_of.len()));
    });
}

#[test]
fn pages_hold_words_as_data() {
    each_net(30, |net| {
        let spots = layers(net);
        let mut page = vec![];
        page::write_graph(&mut page, &net.title, &[(net, &spots)], &[(0, 0)]).expect("memory takes it all");
        let page = String::from_utf8(page).expect("text");
        // What no script may hold as it is, it holds as an escape.
        assert!(!page.contains(['\u{2028}', '\u{2029}']), "{}", net.title);
        // Exactly as many elements of this kind as the page itself has.
        assert_eq!(page.matches("</script>").count(), page.matches("<script").count(), "{}", net.title);
        assert!(!page.contains("<b>"), "{}", net.title);
        let picture = scene(net, &spots, false, Theme::Dark, (400.0, 300.0));
        let parts = vec![
            Section::Head(net.title.clone()),
            Section::Beside(vec![Section::Words(net.notes[0].clone()), Section::Picture(picture.clone())]),
            Section::Table(vec![(net.title.clone(), net.notes[0].clone())]),
        ];
        let rows = [Row {
            picture: Some(picture.clone()),
            words: vec![net.title.clone()],
            numbers: vec![Some(3), None],
        }];
        for text in [
            page::report(&net.title, &parts),
            page::sorted_table(&net.title, &["words"], &["a", "b"], &rows),
            page::frames(&net.title, &[(net.title.clone(), picture)]),
        ] {
            assert!(!text.contains("<b>") && !text.contains('\u{1}'), "{}", net.title);
            assert_eq!(text.matches("</script>").count(), text.matches("<script").count(), "{}", net.title);
        }
    });
}

#[test]
fn charts_lie_inside_and_can_be_read() {
    for seed in 0..30 {
        let mut dice = Dice::new(seed);
        let count = 1 + dice.below(40);
        let size = 10usize.pow(dice.below(6) as u32);
        let values: Vec<[u64; 8]> =
            (0..count).map(|_| std::array::from_fn(|_| dice.below(size) as u64)).collect();
        let list: Vec<(String, u64)> = (0..count).map(|i| (i.to_string(), dice.below(size) as u64)).collect();
        let ranges: Vec<(String, u64, f64, u64)> = (0..count)
            .map(|i| {
                let (low, more) = (dice.below(size) as u64, dice.below(size) as u64);
                (i.to_string(), low, low as f64 + more as f64 / 2.0, low + more)
            })
            .collect();
        let lanes: Vec<Lane> = (0..1 + dice.below(12))
            .map(|i| {
                let low = dice.below(100) as f64 / 100.0;
                Lane {
                    name: format!("move {i}"),
                    low,
                    high: (low + 0.1).min(1.0),
                    words: "about".into(),
                    best: i == 0,
                }
            })
            .collect();
        for picture in [
            chart::depths("Quay", &values, Theme::Light),
            chart::columns("Quay", "moves", &list, (1240.0, 420.0), Theme::Dark),
            chart::ranges(("Quay", "shuffles"), &ranges, Some((5, "wanted")), (1240.0, 420.0), Theme::Light),
            chart::lanes("Quay", "chance", &lanes, (100.0, " %"), Theme::Light),
        ] {
            lies_inside(&picture, 2.0);
            can_be_seen(&picture);
        }
        // A bar is as long as its value, beside the longest.
        let most = list.iter().map(|b| b.1).max().unwrap_or(0).max(1);
        for (line, (_, value)) in bars(&list, 50).iter().zip(&list) {
            let long = line.matches('#').count();
            let exact = *value as f64 * 50.0 / most as f64;
            assert!(
                (long as f64 - exact).abs() <= 1.0 && (long > 0) == (*value > 0),
                "{line}: {value} of {most}"
            );
        }
        let depths: Vec<u64> = list.iter().map(|b| b.1).collect();
        let groups = by_depth(&depths, 10);
        assert!(groups.len() <= 10);
        assert_eq!(groups.iter().map(|g| g.1).sum::<u64>(), depths.iter().sum::<u64>());
    }
}

#[test]
fn boards_are_drawn_with_all_figures_inside_their_picture() {
    for seed in 0..30 {
        let mut dice = Dice::new(seed);
        let (rows, cols) = (1 + dice.below(6), 1 + dice.below(6));
        let thing = |dice: &mut Dice| {
            let (_, figure) = Figure::ALL[dice.below(Figure::ALL.len())];
            let mut thing =
                Thing::new(figure, Paint::Named(dice.below(40)), ["", "3", "12", "R"][dice.below(4)]);
            thing.joined = std::array::from_fn(|_| dice.below(2) == 0);
            thing
        };
        let tiles = Tiles {
            title: "Basin".into(),
            rows,
            cols,
            cells: (0..rows * cols).map(|_| (0..dice.below(4)).map(|_| thing(&mut dice)).collect()).collect(),
            marks: vec![dice.below(rows * cols)],
            shades: (0..rows * cols)
                .map(|i| {
                    let shade = || Shade { share: 0.5, words: "50 %".into(), sure: None };
                    (i % 3 == 0).then(shade)
                })
                .collect(),
            shifted: seed % 3 == 0,
            alt: "a board & more".into(),
            lines: vec!["used = 3".into()],
            ..Tiles::default()
        };
        for theme in [Theme::Light, Theme::Dark] {
            let picture = tiles.scene(theme);
            lies_inside(&picture, 2.0);
            can_be_seen(&picture);
            let small = tiles.small(theme, 12.0);
            assert!(small.width < picture.width && small.height < picture.height);
        }
        // Pictures side by side keep their places: none lies on another, and all are inside.
        let parts: Vec<Scene> = (0..1 + dice.below(5)).map(|_| tiles.scene(Theme::Light)).collect();
        let all = sheet(&parts, 600.0, Theme::Light, "several");
        lies_inside(&all, 2.0);
        let area: f32 = parts.iter().map(|p| p.width * p.height).sum();
        assert!(all.width * all.height >= area - 1.0);
    }
}

#[test]
fn a_picture_that_is_too_large_is_none() {
    let mut picture = Scene::new(40_000.0, 40_000.0, "large");
    picture.shapes.push(Shape::Circle(10.0, 10.0, 5.0, Style::default()));
    assert!(picture.png(1.0).is_none());
    assert!(picture.png(0.01).is_some());
}

#[test]
fn words_are_broken_at_the_width_and_none_is_lost() {
    for seed in 0..200 {
        let mut dice = Dice::new(seed);
        let words: Vec<String> = (0..1 + dice.below(20))
            .map(|_| ["quay", "a", "七七", "harbour-master", "é"][dice.below(5)].to_string())
            .collect();
        let width = 6 + dice.below(30);
        let lines = wrapped(&words.join(" "), width);
        let back: Vec<&str> = lines.iter().flat_map(|l| l.split_whitespace()).collect();
        assert_eq!(back, words);
        for line in &lines {
            assert!(
                line.width() <= width || line.split_whitespace().count() == 1,
                "{line:?} is wider than {width}"
            );
        }
        let lines = folded(&words, width);
        let back: Vec<String> = lines.join(" ").split("; ").map(String::from).collect();
        assert_eq!(back, words);
        for (line, next) in lines.iter().zip(&lines[1..]) {
            let one = line.split_whitespace().count() == 1;
            assert!(line.width() <= width || one, "{line:?} is wider than {width}");
            // A line is not broken before it must be.
            let more = next.split_whitespace().next().expect("a word");
            assert!(line.width() + 1 + more.width() > width, "{line:?} has room for {more}");
        }
    }
}

#[test]
fn tables_stand_in_columns() {
    for seed in 0..100 {
        let mut dice = Dice::new(seed);
        let rows: Vec<Vec<String>> = (0..1 + dice.below(6))
            .map(|_| {
                let name = ["quay", "七", "é wide one", ""][dice.below(4)].to_string();
                vec![name, dice.below(5000).to_string(), ["long words", "x"][dice.below(2)].to_string()]
            })
            .collect();
        let lines = table(&["place", "n", "what"], &rows);
        assert_eq!(lines.len(), rows.len() + 2);
        let rule: Vec<usize> = lines[1].split("  ").map(str::len).collect();
        // Numbers end under each other, words begin under each other.
        let ends = rule[0] + 2 + rule[1];
        for (line, row) in lines[2..].iter().zip(&rows) {
            let (mut at, mut end_of_number, mut begin_of_words) = (0, None, None);
            for c in line.chars() {
                let before = at;
                at += c.to_string().width();
                if at <= ends && c.is_ascii_digit() {
                    end_of_number = Some(at);
                }
                if before >= ends + 2 && c != ' ' && begin_of_words.is_none() {
                    begin_of_words = Some(before);
                }
            }
            assert_eq!(
                (end_of_number, begin_of_words),
                (Some(ends), Some(ends + 2)),
                "{row:?} in {lines:#?}"
            );
        }
    }
}

#[test]
fn cells_of_boards_stand_under_their_numbers() {
    for seed in 0..100 {
        let mut dice = Dice::new(seed);
        let (rows, cols) = (1 + dice.below(12), 1 + dice.below(12));
        let cells: Vec<Vec<String>> = (0..rows)
            .map(|_| (0..cols).map(|_| [".", "12", "七"][dice.below(3)].to_string()).collect())
            .collect();
        let mark = (dice.below(rows), dice.below(cols));
        let board = Board { rows: cells.clone(), marks: [mark].into(), ..Board::default() };
        let lines = board.lines();
        assert_eq!(lines.len(), rows + 1);
        for (line, row) in lines[1..].iter().zip(&cells) {
            let told: Vec<String> =
                line.replace(['[', ']'], " ").split_whitespace().skip(1).map(String::from).collect();
            assert_eq!(&told, row, "{lines:#?}");
        }
        assert_eq!(lines.concat().matches('[').count(), 1, "{lines:#?}");
        assert!(lines[mark.0 + 1].contains(&format!("[{}]", cells[mark.0][mark.1])), "{lines:#?}");
        // Next to each other both keep all of their lines.
        let both = side_by_side(&[lines.clone(), lines.clone()], 3, 1000);
        assert_eq!(both.len(), lines.len());
        for (line, one) in both.iter().zip(&lines) {
            assert!(line.starts_with(one.as_str()) && line.ends_with(one.as_str()), "{line:?}, {one:?}");
        }
        let under = side_by_side(&[lines.clone(), lines.clone()], 3, 1);
        assert_eq!(under.len(), 2 * lines.len() + 1);
    }
}
