//! State graphs for other programs: GraphML, DOT, JSON, CSV.

use std::fmt::Write as _;

use crate::net::{Net, Status};
use crate::scene::escaped;

/// The graph in the GraphML format.
#[must_use]
pub fn graphml(net: &Net) -> String {
    let mut out = String::from(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<graphml xmlns=\"http://graphml.graphdrawing.org/xmlns\">\n",
    );
    for (id, on, kind) in [
        ("position", "node", "string"),
        ("depth", "node", "int"),
        ("status", "node", "string"),
        ("start", "node", "boolean"),
        ("must_pass", "node", "boolean"),
        ("on_shortest", "node", "boolean"),
        ("states", "node", "long"),
        ("move", "edge", "string"),
        ("fatal", "edge", "boolean"),
    ] {
        let _ = writeln!(out, "  <key id=\"{id}\" for=\"{on}\" attr.name=\"{id}\" attr.type=\"{kind}\"/>");
    }
    let _ = writeln!(out, "  <graph id=\"{}\" edgedefault=\"directed\">", escaped(&net.title));
    for (i, n) in net.nodes.iter().enumerate() {
        let _ = writeln!(
            out,
            "    <node id=\"n{i}\"><data key=\"position\">{}</data><data key=\"depth\">{}</data><data key=\"status\">{}</data>\
             <data key=\"start\">{}</data><data key=\"must_pass\">{}</data><data key=\"on_shortest\">{}</data>\
             <data key=\"states\">{}</data></node>",
            escaped(&n.text),
            n.depth,
            n.status.word(),
            n.start,
            n.must_pass,
            n.on_way,
            n.count
        );
    }
    for (i, a) in net.arrows.iter().enumerate() {
        let _ = writeln!(
            out,
            "    <edge id=\"e{i}\" source=\"n{}\" target=\"n{}\"><data key=\"move\">{}</data><data key=\"fatal\">{}</data></edge>",
            a.from,
            a.to,
            escaped(&net.names[a.name as usize]),
            a.fatal
        );
    }
    out.push_str("  </graph>\n</graphml>\n");
    out
}

/// The graph in the DOT language.
#[must_use]
pub fn dot(net: &Net) -> String {
    let quoted = |t: &str| format!("\"{}\"", t.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', " "));
    let mut out = format!("digraph {} {{\n", quoted(&net.title));
    for (i, n) in net.nodes.iter().enumerate() {
        let shape = match n.status {
            Status::Goal => "diamond",
            Status::Stuck => "square",
            Status::Lost | Status::Over => "point",
            _ => "ellipse",
        };
        let _ = writeln!(
            out,
            "  n{i} [label={}, shape={shape}, status={}, depth={}, start={}, must_pass={}, states={}];",
            quoted(&n.text),
            quoted(n.status.word()),
            n.depth,
            n.start,
            n.must_pass,
            n.count
        );
    }
    for a in &net.arrows {
        let _ = writeln!(
            out,
            "  n{} -> n{} [label={}, fatal={}];",
            a.from,
            a.to,
            quoted(&net.names[a.name as usize]),
            a.fatal
        );
    }
    out.push_str("}\n");
    out
}

/// The graph as JSON: nodes in order, edges by the numbers of their nodes.
#[must_use]
pub fn json(net: &Net) -> String {
    let nodes: Vec<serde_json::Value> = net
        .nodes
        .iter()
        .map(|n| {
            serde_json::json!({
                "position": n.text, "depth": n.depth, "status": n.status.word(), "start": n.start,
                "must_pass": n.must_pass, "on_shortest": n.on_way, "states": n.count,
            })
        })
        .collect();
    let edges: Vec<serde_json::Value> = net
        .arrows
        .iter()
        .map(|a| {
            serde_json::json!({
                "from": a.from, "to": a.to, "move": net.names[a.name as usize], "fatal": a.fatal,
            })
        })
        .collect();
    serde_json::json!({"title": net.title, "notes": net.notes, "nodes": nodes, "edges": edges}).to_string()
        + "\n"
}

/// The graph as two tables with heads: nodes and edges.
#[must_use]
pub fn csv(net: &Net) -> (String, String) {
    let quoted = |t: &str| {
        // A field that begins like a formula would be run by a spreadsheet.
        let t = if t.starts_with(['=', '+', '-', '@']) { format!("'{t}") } else { t.to_string() };
        format!("\"{}\"", t.replace('"', "\"\""))
    };
    let mut nodes = String::from("node,position,depth,status,start,must_pass,on_shortest,states\n");
    for (i, n) in net.nodes.iter().enumerate() {
        let _ = writeln!(
            nodes,
            "{i},{},{},{},{},{},{},{}",
            quoted(&n.text),
            n.depth,
            n.status.word(),
            n.start,
            n.must_pass,
            n.on_way,
            n.count
        );
    }
    let mut edges = String::from("from,to,move,fatal\n");
    for a in &net.arrows {
        let _ = writeln!(edges, "{},{},{},{}", a.from, a.to, quoted(&net.names[a.name as usize]), a.fatal);
    }
    (nodes, edges)
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
        let back: serde_json::Value = serde_json::from_str(&json(&net)).unwrap();
        assert_eq!(back["nodes"][0]["position"], evil);
        assert_eq!(back["edges"][0]["move"], evil);
        let xml = graphml(&net);
        assert!(xml.contains("a&quot;b&lt;c&gt;&amp;") && !xml.contains("<c>"));
        let (nodes, edges) = csv(&net);
        assert!(nodes.contains("\"a\"\"b<c>&,") && nodes.contains("\"'=1+1\""), "{nodes}");
        assert!(edges.starts_with("from,to,move,fatal\n0,1,"));
        let text = dot(&net);
        assert!(text.contains("label=\"a\\\"b<c>&,\\\\ \""), "{text}");
    }
}
