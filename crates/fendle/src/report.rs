//! Diagnostics to text: rich with the source underlined, or plain with one line each.

use std::io::Write;

use codespan_reporting::diagnostic::{Diagnostic as Shown, Label, LabelStyle, Severity as Level};
use codespan_reporting::files::SimpleFiles;
use codespan_reporting::term::termcolor::{Ansi, NoColor, WriteColor};
use codespan_reporting::term::{self, Chars, Config, DisplayStyle};
use fendle_lang::{Diagnostic, Severity, Sources};

/// Where and how diagnostics are written.
pub struct Reporter {
    /// The stream.
    pub err: Box<dyn Write>,
    /// With colour.
    pub color: bool,
    /// One line each.
    pub plain: bool,
    /// No warnings and hints.
    pub quiet: bool,
    /// The hint that was given last, which is not given twice: two levels may come from one file.
    pub last_hint: String,
}

impl Reporter {
    /// Writes diagnostics.
    pub fn show(&mut self, sources: &Sources, list: &[Diagnostic]) {
        for d in list {
            if self.quiet && d.severity == Severity::Warning {
                continue;
            }
            if self.plain {
                self.say(&d.plain(sources));
            } else if self.color {
                emit(&mut Ansi::new(&mut self.err), sources, d);
            } else {
                emit(&mut NoColor::new(&mut self.err), sources, d);
            }
        }
        let errors = list.iter().filter(|d| d.severity == Severity::Error).count();
        if errors > 1 && !self.quiet {
            self.say(&format!("{errors} errors"));
        }
    }

    /// A hint that is no diagnostic.
    pub fn hint(&mut self, text: &str) {
        if !self.quiet && self.last_hint != text {
            self.say(&format!("fendle: {text}"));
            self.last_hint = text.to_string();
        }
    }

    /// A line that is always said.
    pub fn say(&mut self, text: &str) {
        // Nothing can be done about an error stream that is gone.
        let _ = writeln!(self.err, "{text}");
    }
}

fn emit(out: &mut dyn WriteColor, sources: &Sources, d: &Diagnostic) {
    let mut files = SimpleFiles::new();
    for (name, text) in sources.iter() {
        files.add(name, text);
    }
    let labels = d
        .labels
        .iter()
        .enumerate()
        .map(|(i, l)| {
            let style = if i == 0 { LabelStyle::Primary } else { LabelStyle::Secondary };
            Label { style, file_id: l.file.0, range: l.span.range(), message: l.text.clone() }
        })
        .collect();
    let level = if d.severity == Severity::Error { Level::Error } else { Level::Warning };
    let shown = Shown {
        severity: level,
        code: Some(d.code.into()),
        message: d.message.clone(),
        labels,
        notes: d.notes.clone(),
    };
    let config = Config {
        display_style: DisplayStyle::Rich,
        chars: Chars::ascii(),
        tab_width: 4,
        ..Config::default()
    };
    // Nothing can be done about an error stream that is gone.
    let _ = term::emit(out, &config, &files, &shown);
}
