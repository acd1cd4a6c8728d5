//! State graphs for other programs: GraphML, DOT, JSON, CSV, each written as it is made.
//!
//! A graph may have millions of nodes: `text` gives the position of one when it is written, so that no list of texts is
//! ever held.

use std::io::{self, Write};

use crate::net::{Net, Node, Status};
use crate::scene::escaped;

/// Gives a node's position as text, by its number.
pub type Text<'t> = &'t dyn Fn(usize) -> String;

/// The fields of a node in the order in which every format lists them, its position first.
const NODE_FIELDS: [(&str, &str); 7] = [
    ("position", "string"),
    ("depth", "int"),
    ("status", "string"),
    ("start", "boolean"),
    ("must_pass", "boolean"),
    ("on_shortest", "boolean"),
    ("states", "long"),
];

/// The fields of a node behind its position, as text.
fn fields(n: &Node) -> [String; 6] {
    let yes = |b: bool| b.to_string();
    [
        n.depth.to_string(),
        n.status.word().to_string(),
        yes(n.start),
        yes(n.must_pass),
        yes(n.on_way),
        n.count.to_string(),
    ]
}

/// The graph in the GraphML format.
///
/// # Errors
///
/// When it cannot be written.
pub fn graphml(net: &Net, text: Text<'_>, out: &mut dyn Write) -> io::Result<()> {
    writeln!(out, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>")?;
    writeln!(out, "<graphml xmlns=\"http://graphml.graphdrawing.org/xmlns\">")?;
    let nodes = NODE_FIELDS.iter().map(|(id, kind)| (*id, "node", *kind));
    let edges = [("move", "edge", "string"), ("fatal", "edge", "boolean")];
    for (id, on, kind) in nodes.chain(edges) {
        writeln!(out, "  <key id=\"{id}\" for=\"{on}\" attr.name=\"{id}\" attr.type=\"{kind}\"/>")?;
    }
    writeln!(out, "  <graph id=\"{}\" edgedefault=\"directed\">", escaped(&net.title))?;
    for (i, n) in net.nodes.iter().enumerate() {
        write!(out, "    <node id=\"n{i}\">")?;
        let values = std::iter::once(escaped(&text(i))).chain(fields(n));
        for ((key, _), value) in NODE_FIELDS.iter().zip(values) {
            write!(out, "<data key=\"{key}\">{value}</data>")?;
        }
        writeln!(out, "</node>")?;
    }
    for (i, a) in net.arrows.iter().enumerate() {
        writeln!(
            out,
            "    <edge id=\"e{i}\" source=\"n{}\" target=\"n{}\"><data key=\"move\">{}</data><data key=\"fatal\">{}</data></edge>",
            a.from,
            a.to,
            escaped(&net.names[a.name as usize]),
            a.fatal
        )?;
    }
    writeln!(out, "  </graph>\n</graphml>")
}

/// The graph in the DOT language.
///
/// # Errors
///
/// When it cannot be written.
pub fn dot(net: &Net, text: Text<'_>, out: &mut dyn Write) -> io::Result<()> {
    let quoted = |t: &str| format!("\"{}\"", t.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', " "));
    writeln!(out, "digraph {} {{", quoted(&net.title))?;
    for (i, n) in net.nodes.iter().enumerate() {
        let shape = match n.status {
            Status::Goal => "diamond",
            Status::Stuck => "square",
            Status::Lost | Status::Over => "point",
            _ => "ellipse",
        };
        writeln!(
            out,
            "  n{i} [label={}, shape={shape}, status={}, depth={}, start={}, must_pass={}, states={}];",
            quoted(&text(i)),
            quoted(n.status.word()),
            n.depth,
            n.start,
            n.must_pass,
            n.count
        )?;
    }
    for a in &net.arrows {
        let name = quoted(&net.names[a.name as usize]);
        writeln!(out, "  n{} -> n{} [label={name}, fatal={}];", a.from, a.to, a.fatal)?;
    }
    writeln!(out, "}}")
}

/// The graph as JSON: nodes in order, edges by the numbers of their nodes.
///
/// # Errors
///
/// When it cannot be written.
pub fn json(net: &Net, text: Text<'_>, out: &mut dyn Write) -> io::Result<()> {
    let comma = |i: usize| if i == 0 { "" } else { "," };
    let quoted = |t: &str| serde_json::Value::from(t).to_string();
    // Keys in the order of the alphabet, as everywhere else.
    write!(out, "{{\"edges\":[")?;
    for (i, a) in net.arrows.iter().enumerate() {
        let name = quoted(&net.names[a.name as usize]);
        let sep = comma(i);
        write!(out, "{sep}{{\"fatal\":{},\"from\":{},\"move\":{name},\"to\":{}}}", a.fatal, a.from, a.to)?;
    }
    write!(out, "],\"nodes\":[")?;
    for (i, n) in net.nodes.iter().enumerate() {
        write!(
            out,
            "{}{{\"depth\":{},\"must_pass\":{},\"on_shortest\":{},\"position\":{},\"start\":{},\"states\":{},\"status\":{}}}",
            comma(i),
            n.depth,
            n.must_pass,
            n.on_way,
            quoted(&text(i)),
            n.start,
            n.count,
            quoted(n.status.word())
        )?;
    }
    let notes: Vec<String> = net.notes.iter().map(|n| quoted(n)).collect();
    writeln!(out, "],\"notes\":[{}],\"title\":{}}}", notes.join(","), quoted(&net.title))
}

/// The nodes of the graph as a table with a head.
///
/// # Errors
///
/// When it cannot be written.
pub fn csv_nodes(net: &Net, text: Text<'_>, out: &mut dyn Write) -> io::Result<()> {
    let names = NODE_FIELDS.map(|f| f.0).join(",");
    writeln!(out, "node,{names}")?;
    for (i, n) in net.nodes.iter().enumerate() {
        writeln!(out, "{i},{},{}", csv_field(&text(i)), fields(n).join(","))?;
    }
    Ok(())
}

/// The edges of the graph as a table with a head.
///
/// # Errors
///
/// When it cannot be written.
pub fn csv_edges(net: &Net, out: &mut dyn Write) -> io::Result<()> {
    writeln!(out, "from,to,move,fatal")?;
    for a in &net.arrows {
        writeln!(out, "{},{},{},{}", a.from, a.to, csv_field(&net.names[a.name as usize]), a.fatal)?;
    }
    Ok(())
}

fn csv_field(t: &str) -> String {
    // A field that begins like a formula would be run by a spreadsheet.
    let t = if t.starts_with(['=', '+', '-', '@']) { format!("'{t}") } else { t.to_string() };
    format!("\"{}\"", t.replace('"', "\"\""))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::net::{Arrow, Node};

    /// What comes from a model stays what it is in every format.
    #[test]
    fn words_keep_their_place_in_every_format() {
        let evil = "a\"b<c>&,\\\n";
        let net = Net {
            title: evil.into(),
            nodes: vec![
                Node::plain(evil.into(), 0, Status::Winnable),
                Node::plain("=1+1".into(), 1, Status::Goal),
            ],
            arrows: vec![Arrow { from: 0, to: 1, name: 0, fatal: false }],
            names: vec![evil.into()],
            ..Net::default()
        };
        let text = |i: usize| net.nodes[i].text.clone();
        let written = |write: &dyn Fn(&mut dyn Write) -> io::Result<()>| {
            let mut out = vec![];
            write(&mut out).expect("memory can be written");
            String::from_utf8(out).expect("text")
        };
        let back: serde_json::Value = serde_json::from_str(&written(&|o| json(&net, &text, o))).unwrap();
        assert_eq!(back["nodes"][0]["position"], evil);
        assert_eq!(back["edges"][0]["move"], evil);
        let xml = written(&|o| graphml(&net, &text, o));
        assert!(xml.contains("a&quot;b&lt;c&gt;&amp;") && !xml.contains("<c>"));
        let nodes = written(&|o| csv_nodes(&net, &text, o));
        let edges = written(&|o| csv_edges(&net, o));
        assert!(nodes.contains("\"a\"\"b<c>&,") && nodes.contains("\"'=1+1\""), "{nodes}");
        assert!(edges.starts_with("from,to,move,fatal\n0,1,"));
        let text = written(&|o| dot(&net, &text, o));
        assert!(text.contains("label=\"a\\\"b<c>&,\\\\ \""), "{text}");
    }
}
