//! What is wrong with a file, and where: values only, rendered elsewhere.
//!
//! A diagnostic has a code, a message that stands alone, one primary label on the cause,
//! secondary labels on what conflicts with it, and notes with the repair. Spans are byte
//! ranges; every pass reports everything it found.

use std::ops::Range;

/// A byte range in one source file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Span {
    /// First byte.
    pub start: u32,
    /// One past the last byte.
    pub end: u32,
}

impl Span {
    /// The span from `start` to `end`.
    #[must_use]
    pub fn new(start: usize, end: usize) -> Span {
        Span { start: start as u32, end: end as u32 }
    }
    /// The least span that holds both.
    #[must_use]
    pub fn to(self, other: Span) -> Span {
        Span { start: self.start.min(other.start), end: self.end.max(other.end) }
    }
    /// As a range of bytes.
    #[must_use]
    pub fn range(self) -> Range<usize> {
        self.start as usize..self.end as usize
    }
}

/// Which file a label points into: an index into [`Sources`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct FileId(pub usize);

/// The texts that diagnostics point into.
#[derive(Clone, Debug, Default)]
pub struct Sources {
    files: Vec<(String, String)>,
}

impl Sources {
    /// Adds a file and returns its number.
    pub fn add(&mut self, name: impl Into<String>, text: impl Into<String>) -> FileId {
        self.files.push((name.into(), text.into()));
        FileId(self.files.len() - 1)
    }
    /// The name a file was added with.
    #[must_use]
    pub fn name(&self, file: FileId) -> &str {
        &self.files[file.0].0
    }
    /// The text of a file.
    #[must_use]
    pub fn text(&self, file: FileId) -> &str {
        &self.files[file.0].1
    }
    /// All files, name first.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &str)> {
        self.files.iter().map(|(n, t)| (n.as_str(), t.as_str()))
    }
    /// Line and column, both from 1, of a byte; columns count characters.
    #[must_use]
    pub fn line_col(&self, file: FileId, at: u32) -> (usize, usize) {
        let text = self.text(file);
        let mut at = (at as usize).min(text.len());
        while !text.is_char_boundary(at) {
            at -= 1;
        }
        let before = &text[..at];
        let line_start = before.rfind('\n').map_or(0, |i| i + 1);
        (before.matches('\n').count() + 1, before[line_start..].chars().count() + 1)
    }
}

/// How bad it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Severity {
    /// The file cannot be used.
    Error,
    /// The file can be used, and something is likely not meant.
    Warning,
}

/// A place that a diagnostic points at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Label {
    /// The file.
    pub file: FileId,
    /// The bytes.
    pub span: Span,
    /// What is said about them, possibly nothing.
    pub text: String,
}

/// One thing that is wrong.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Diagnostic {
    /// How bad.
    pub severity: Severity,
    /// Stable code, such as `M012`: `S` for syntax, `M` for models, `L` for levels.
    pub code: &'static str,
    /// Stands alone.
    pub message: String,
    /// The cause first.
    pub labels: Vec<Label>,
    /// What to do.
    pub notes: Vec<String>,
}

impl Diagnostic {
    /// An error with its primary label.
    #[must_use]
    pub fn error(code: &'static str, file: FileId, span: Span, message: impl Into<String>) -> Diagnostic {
        Diagnostic {
            severity: Severity::Error,
            code,
            message: message.into(),
            labels: vec![Label { file, span, text: String::new() }],
            notes: vec![],
        }
    }
    /// Turned into a warning.
    #[must_use]
    pub fn warning(mut self) -> Diagnostic {
        self.severity = Severity::Warning;
        self
    }
    /// Text for the primary label.
    #[must_use]
    pub fn here(mut self, text: impl Into<String>) -> Diagnostic {
        self.labels[0].text = text.into();
        self
    }
    /// A secondary label.
    #[must_use]
    pub fn also(mut self, file: FileId, span: Span, text: impl Into<String>) -> Diagnostic {
        self.labels.push(Label { file, span, text: text.into() });
        self
    }
    /// A note with the repair.
    #[must_use]
    pub fn note(mut self, text: impl Into<String>) -> Diagnostic {
        self.notes.push(text.into());
        self
    }
    /// `name:line:col: error[M012]: message`, then the notes, one a line.
    #[must_use]
    pub fn plain(&self, sources: &Sources) -> String {
        let label = &self.labels[0];
        let (line, col) = sources.line_col(label.file, label.span.start);
        let word = if self.severity == Severity::Error { "error" } else { "warning" };
        let mut out =
            format!("{}:{line}:{col}: {word}[{}]: {}", sources.name(label.file), self.code, self.message);
        if !label.text.is_empty() {
            out.push_str(&format!(" ({})", label.text));
        }
        for note in &self.notes {
            out.push_str(&format!("; {note}"));
        }
        out
    }
}

/// Sorts by place and drops doubles, so that output never depends on the order of passes.
pub fn tidy(list: &mut Vec<Diagnostic>) {
    list.sort_by(|a, b| {
        let key = |d: &Diagnostic| (d.labels[0].file, d.labels[0].span, d.code);
        key(a).cmp(&key(b)).then_with(|| a.message.cmp(&b.message))
    });
    list.dedup();
}

/// The known name nearest to `name`, if it is near enough to be a slip.
///
/// Distance is that of Levenshtein (1966), transposed neighbours counted once.
#[must_use]
pub fn near<'a>(name: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let allowed = (name.chars().count() / 3).clamp(1, 3);
    known
        .into_iter()
        .map(|k| (distance(name, k), k))
        .filter(|&(d, k)| d <= allowed && k != name)
        .min()
        .map(|(_, k)| k)
}

fn distance(a: &str, b: &str) -> usize {
    let (a, b): (Vec<char>, Vec<char>) = (a.chars().collect(), b.chars().collect());
    let mut rows = vec![vec![0; b.len() + 1]; a.len() + 1];
    for i in 0..=a.len() {
        for j in 0..=b.len() {
            rows[i][j] = if i == 0 || j == 0 {
                i.max(j)
            } else {
                let change = rows[i - 1][j - 1] + usize::from(a[i - 1] != b[j - 1]);
                let mut best = change.min(rows[i - 1][j] + 1).min(rows[i][j - 1] + 1);
                if i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1] {
                    best = best.min(rows[i - 2][j - 2] + 1);
                }
                best
            };
        }
    }
    rows[a.len()][b.len()]
}
