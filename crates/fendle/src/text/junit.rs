//! `audit` as JUnit XML, which services for continuous integration read: a suite a file, a case a level.
//!
//! What differs is a failure; what is undecided or broken is an error, with a type that says which, so neither
//! counts as passed.

use fendle_ask::End;
use fendle_ask::audit::Audited;
use fendle_lang::Diagnostic;
use fendle_view::scene::escaped;

/// The text as an attribute or as text of XML holds it, lines kept.
fn safe(text: &str) -> String {
    escaped(text).replace('\n', "&#10;")
}

fn case(suite: &str, name: &str, inside: &str) -> String {
    let head = format!("    <testcase classname=\"{}\" name=\"{}\"", safe(suite), safe(name));
    if inside.is_empty() { format!("{head}/>\n") } else { format!("{head}>\n{inside}    </testcase>\n") }
}

fn finding(kind: &str, of: &str, lines: &[String]) -> String {
    let first = lines.first().map_or("", String::as_str);
    let all = safe(&lines.join("\n"));
    format!("      <{kind} type=\"{of}\" message=\"{}\">{all}</{kind}>\n", safe(first))
}

fn of_level(a: &Audited) -> String {
    let inside = match a.end {
        End::Yes => String::new(),
        End::No => finding("failure", "differs", &a.differs),
        End::Undecided | End::Interrupted => finding("error", "undecided", &a.differs),
        End::Bad => {
            let fault = a.fault.iter().map(|f| f.diagnostic.message.clone());
            finding("error", "broken", &fault.chain(a.differs.clone()).collect::<Vec<_>>())
        }
    };
    case(&a.file, &a.level, &inside)
}

/// The file: what was audited, and what kept levels from being read.
pub fn document(list: &[Audited], errors: &[Diagnostic]) -> String {
    let mut suites: Vec<(&str, Vec<&Audited>)> = vec![];
    for a in list {
        match suites.iter_mut().find(|(file, _)| *file == a.file) {
            Some((_, levels)) => levels.push(a),
            None => suites.push((&a.file, vec![a])),
        }
    }
    let mut out = String::new();
    let mut sum = (0, 0, 0);
    let mut suite = |name: &str, (tests, failures, errors): (usize, usize, usize), cases: String| {
        sum = (sum.0 + tests, sum.1 + failures, sum.2 + errors);
        out.push_str(&format!(
            "  <testsuite name=\"{}\" tests=\"{tests}\" failures=\"{failures}\" errors=\"{errors}\">\n{cases}  </testsuite>\n",
            safe(name)
        ));
    };
    for (file, levels) in suites {
        let failures = levels.iter().filter(|a| a.end == End::No).count();
        let passed = levels.iter().filter(|a| a.end == End::Yes).count();
        let cases = levels.iter().map(|a| of_level(a)).collect();
        suite(file, (levels.len(), failures, levels.len() - failures - passed), cases);
    }
    if !errors.is_empty() {
        let cases = errors.iter().map(|e| {
            let name = format!("{}: {}", e.code, e.message);
            case(
                "files that cannot be read",
                &name,
                &finding("error", "unreadable", std::slice::from_ref(&e.message)),
            )
        });
        suite("files that cannot be read", (errors.len(), 0, errors.len()), cases.collect());
    }
    format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<testsuites name=\"fendle audit\" tests=\"{}\" failures=\"{}\" errors=\"{}\">\n{out}</testsuites>\n",
        sum.0, sum.1, sum.2
    )
}
