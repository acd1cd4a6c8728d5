//! `fendle draft` and `fendle mend`: boards made to order, and levels mended.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::str::FromStr;

use clap::ValueEnum;

use fendle_ask::making::boards::Template;
use fendle_ask::making::depths::depths;
use fendle_ask::making::draft::{By, Mirror, Order, Put, Safe, Tuned, draft as ask_draft};
use fendle_ask::making::figures::NAMES;
use fendle_ask::making::maps::{Tiles, imported, to_map, to_table};
use fendle_ask::making::mend::{self, mend as ask_mend};
use fendle_ask::making::source_of;
use fendle_ask::making::wish::{Wish, figure};
use fendle_ask::{End, Loaded, Provider as _, Want};
use fendle_lang::syntax::level::RawKind;
use fendle_view::tiles::Theme;

use crate::args::{ByArg, DraftArgs, LevelArgs, MirrorArg, SafeArg};
use crate::files::ending;
use crate::session::{Ended, Session, Trouble};
use crate::{json, picture, text};

/// Cells by their names, or by the letters that some of them bear.
fn cells(template: &Template, letters: &[char], words: &str) -> Result<BTreeSet<usize>, Trouble> {
    let mut out = BTreeSet::new();
    for word in words.split([',', ' ']).map(str::trim).filter(|w| !w.is_empty()) {
        let all = template.rows * template.cols;
        let mut found: Vec<usize> = (0..all).filter(|at| template.cell(*at) == word).collect();
        if found.is_empty() && word.chars().count() == 1 {
            let letter = word.chars().next();
            found = (0..letters.len()).filter(|at| letters.get(*at).copied() == letter).collect();
        }
        if found.is_empty() {
            return Err(Trouble::words(format!(
                "--fixed: `{word}` is no cell of the board, and no letter of --cells"
            )));
        }
        out.extend(found);
    }
    Ok(out)
}

/// Letters of the cells, row by row.
fn letters(template: &Template, text: &str) -> Result<Vec<char>, Trouble> {
    let rows: Vec<Vec<char>> = text
        .split(['/', '\n'])
        .map(|r| r.trim().chars().collect())
        .filter(|r: &Vec<char>| !r.is_empty())
        .collect();
    let (r, c) = (template.rows, template.cols);
    if rows.len() != r || rows.iter().any(|row| row.len() != c) {
        return Err(Trouble::words(format!(
            "--cells wants {r} rows of {c} letters, one for each cell of the board, such as \"..aa/..aa\""
        )));
    }
    Ok(rows.concat())
}

/// A range such as `3..6`, or one number.
fn range(text: &str) -> Option<(usize, usize)> {
    let (least, most) = text.split_once("..").unwrap_or((text, text));
    let (least, most) = (least.trim().parse().ok()?, most.trim().parse().ok()?);
    (least <= most && most <= 100_000).then_some((least, most))
}

fn puts(template: &Template, letters: &[char], words: &str) -> Result<Vec<Put>, Trouble> {
    let mut out = vec![];
    for part in words.split(',').map(str::trim).filter(|p| !p.is_empty()) {
        let wrong = || {
            Trouble::words(format!(
                "--put: `{part}` is not understood; it takes glyphs with their numbers, such as \"o 2, H 3..6\", or \"o 2 in a\" for the cells that bear the letter a in --cells"
            ))
        };
        let (what, within) = part.split_once(" in ").map_or((part, None), |(w, l)| (w, Some(l.trim())));
        let (glyph, many) = what.trim().split_once(' ').ok_or_else(wrong)?;
        let (least, greatest) = range(many).ok_or_else(wrong)?;
        if !template.knows(glyph) {
            template.named(glyph).map_err(|e| Trouble::words(format!("--put: {e}")))?;
            return Err(Trouble::words(format!("--put takes glyphs of the board; `{glyph}` is a variable")));
        }
        let within = match within.map(|l| l.chars().collect::<Vec<char>>()) {
            None => None,
            Some(list) => match list.as_slice() {
                [letter] if letters.contains(letter) => Some(*letter),
                _ => {
                    return Err(Trouble::words(format!(
                        "--put: no cell bears the letter of `{part}` in --cells"
                    )));
                }
            },
        };
        out.push(Put { glyph: glyph.into(), least, greatest, within });
    }
    Ok(out)
}

/// A level value with its range.
fn tuned(template: &Template, text: &str) -> Result<Tuned, Trouble> {
    let wrong = || Trouble::words(format!("--tune takes NAME=N..M, this is `{text}`"));
    let (name, values) = text.split_once('=').ok_or_else(wrong)?;
    let (least, greatest) = values.split_once("..").unwrap_or((values, values));
    let number = |t: &str| t.trim().parse::<i64>().ok().filter(|n| n.abs() <= 1_000_000);
    let (least, greatest) = number(least).zip(number(greatest)).filter(|(a, b)| a <= b).ok_or_else(wrong)?;
    let name = name.trim().to_string();
    if !template.has_value(&name) {
        return Err(Trouble::words(format!("--tune: the model has no level value `{name}`")));
    }
    Ok(Tuned { name, least, greatest })
}

fn template_of(s: &mut Session, args: &LevelArgs) -> Result<(Loaded, Template, String), Trouble> {
    let level = s.load(args, Want::One)?;
    let (source, model) = source_of(&mut s.store, &s.files, &args.wish())?;
    let template = Template::new(&level, source);
    Ok((level, template, model))
}

/// The model's name as a level file at another place gives it.
fn model_for(s: &Session, model: &str, level: &Path, output: &Path) -> String {
    let beside = level.parent() == output.parent();
    if beside || s.files.library_model(model).is_some() {
        return model.into();
    }
    let path = level.parent().unwrap_or(Path::new(".")).join(model);
    std::fs::canonicalize(&path).unwrap_or(path).display().to_string()
}

/// Refuses names that nothing can be written to.
fn may_write(s: &Session, output: &[PathBuf], pages: bool) -> Result<(), Trouble> {
    for path in output {
        if ending(path) == "toml" {
            s.files.may_write(path)?;
        } else {
            picture::may_write(&s.files, path, pages)?;
        }
    }
    Ok(())
}

/// What was said about drafting: on the command line, else in the level file.
struct Said {
    level: Vec<(String, String)>,
}

impl Said {
    fn new(template: &Template) -> Said {
        let text = |raw: &RawKind| match raw {
            RawKind::Text(text, _) => text.clone(),
            RawKind::Int(n) => n.to_string(),
            RawKind::Bool(yes) => yes.to_string(),
            _ => String::new(),
        };
        let level = template.draft().iter().map(|(k, raw)| (k.text.clone(), text(&raw.kind))).collect();
        Said { level }
    }

    /// What the level file says; of several the last.
    fn level(&self, key: &str) -> Option<&str> {
        self.level.iter().rev().find(|(k, _)| k == key).map(|(_, text)| text.as_str())
    }

    /// A text of the command line, else of the level.
    fn text<'s>(&'s self, given: &'s Option<String>, key: &str) -> &'s str {
        given.as_deref().or(self.level(key)).unwrap_or("")
    }

    /// A number of the command line, else of the level, else another.
    fn number<T: FromStr + Copy + PartialOrd + From<u8>>(
        &self,
        given: Option<T>,
        key: &str,
        else_: T,
    ) -> Result<T, Trouble> {
        match (given, self.level(key)) {
            (Some(n), _) => Ok(n),
            (None, None) => Ok(else_),
            (None, Some(text)) => {
                text.parse().ok().filter(|n| *n >= T::from(1)).ok_or_else(|| {
                    Trouble::words(format!("draft.{key} is a number from 1, this is `{text}`"))
                })
            }
        }
    }

    /// A word of the command line, else of the level.
    fn word<T: ValueEnum>(&self, given: Option<T>, key: &str) -> Result<Option<T>, Trouble> {
        match (given, self.level(key)) {
            (Some(word), _) => Ok(Some(word)),
            (None, None) => Ok(None),
            (None, Some(text)) => T::from_str(text, true).map(Some).map_err(|_| {
                let known: Vec<String> = (T::value_variants().iter())
                    .filter_map(|v| Some(v.to_possible_value()?.get_name().to_string()))
                    .collect();
                Trouble::words(format!("draft.{key} is one of {}, this is `{text}`", known.join(", ")))
            }),
        }
    }
}

/// The number of a move that stands alone.
fn move_number(level: &Loaded, text: &str) -> Result<usize, Trouble> {
    match level.moves.parse(text, fendle_lang::FileId(0), 0).as_deref() {
        Ok([call]) => Ok(call.number),
        _ => Err(Trouble::words(format!(
            "--first: `{text}` is no move of this level; `fendle moves` lists them"
        ))),
    }
}

/// The order that was given.
fn order(s: &mut Session, args: &DraftArgs, level: &Loaded, template: &Template) -> Result<Order, Trouble> {
    let said = Said::new(template);
    let none_if_empty = |text: &str| (!text.is_empty()).then(|| text.to_string());
    let wish = none_if_empty(said.text(&args.want, "want")).map(|w| Wish::read(&w)).transpose();
    let wish = wish.map_err(|e| Trouble::words(format!("--want: {e}")))?;
    let most = none_if_empty(said.text(&args.most, "most")).map(|m| figure(&m)).transpose();
    let most = most.map_err(|e| Trouble::words(format!("--most: {e}")))?;
    let names =
        |what: &str, words: &str| template.named(words).map_err(|e| Trouble::words(format!("--{what}: {e}")));
    let letters = match said.text(&args.cells, "cells") {
        "" => vec![],
        text => letters(template, text)?,
    };
    let put = puts(template, &letters, said.text(&args.put, "put"))?;
    let mut may = names("may", said.text(&args.may, "may"))?;
    let listed: Vec<String> = match (&args.tune[..], said.level("tune")) {
        ([], Some(text)) => text.split(',').map(|t| t.trim().to_string()).collect(),
        (given, _) => given.to_vec(),
    };
    let tune: Vec<Tuned> = listed.iter().map(|t| tuned(template, t)).collect::<Result<_, _>>()?;
    let by = match said.word(args.by, "by")? {
        None if !tune.is_empty() => By::Tune,
        None | Some(ByArg::Shuffle) => By::Shuffle,
        Some(ByArg::Setup) => By::Setup,
        Some(ByArg::Fill) => By::Fill,
        Some(ByArg::Edit) => By::Edit,
        Some(ByArg::Deepest) => By::Deepest,
    };
    if matches!(by, By::Fill | By::Edit) || !put.is_empty() {
        template.has_board()?;
    }
    if by == By::Fill {
        may.extend(put.iter().map(|p| p.glyph.clone()));
        if put.is_empty() {
            return Err(Trouble::words(
                "--by fill wants --put: what is put on the plain cells, such as --put \"o 2, H 3..6\"",
            ));
        }
    }
    if by == By::Edit && may.is_empty() {
        return Err(Trouble::words(
            "--by edit wants --may: what may be put or taken away, such as --may \"wall\"",
        ));
    }
    if !tune.is_empty() && !matches!(by, By::Fill | By::Edit | By::Tune) {
        return Err(Trouble::words(
            "--tune goes with --by fill, --by edit, or none: a shuffled board keeps its values",
        ));
    }
    let backwards = args.backwards || said.level("backwards") == Some("true");
    if backwards && by != By::Shuffle {
        return Err(Trouble::words("--backwards is about --by shuffle"));
    }
    let safe = match said.word(args.safe, "safe")? {
        None | Some(SafeArg::Move) => Safe::Move,
        Some(SafeArg::Again) => Safe::Again,
    };
    let first = none_if_empty(said.text(&args.first, "first")).map(|m| move_number(level, &m)).transpose()?;
    let mut asked = Order {
        by,
        wish,
        most,
        keep: said.number(args.keep, "keep", 5)? as usize,
        tries: said.number(args.tries, "tries", 2000)?,
        shuffles: shuffles(said.text(&args.shuffles, "shuffles"))?,
        backwards,
        put,
        may,
        fixed: cells(template, &letters, said.text(&args.fixed, "fixed"))?,
        cells: letters,
        tune,
        first: first.map(|number| (number, safe)),
        earlier: (vec![], 0),
        mirrored: said.word(args.mirrored, "mirrored")?.map(|m| match m {
            MirrorArg::Columns => Mirror::Columns,
            MirrorArg::Rows => Mirror::Rows,
        }),
        apart: names("apart", said.text(&args.apart, "apart"))?,
    };
    if let Some(path) = &args.resume {
        let text = s.files.read(path).map_err(fendle_ask::Trouble::Message)?;
        let mut errors = vec![];
        let file = s.store.sources.add(path.display().to_string(), text.clone());
        let Some(levels) = fendle_lang::syntax::level::read(file, &text, &mut errors) else {
            return Err(fendle_ask::Trouble::Diagnostics(errors).into());
        };
        let tuned: Vec<String> = asked.tune.iter().map(|t| t.name.clone()).collect();
        let earlier = template.earlier(&levels.levels, &tuned, &s.budget);
        let begun = earlier.iter().map(|e| e.0).max().unwrap_or(0);
        asked.earlier = (earlier, begun);
    }
    Ok(asked)
}

/// How many moves a shuffle has.
fn shuffles(text: &str) -> Result<(u32, u32), Trouble> {
    let text = if text.is_empty() { "20..60" } else { text };
    let found =
        range(text).ok_or_else(|| Trouble::words(format!("--shuffles takes N..M, this is `{text}`")))?;
    Ok((found.0 as u32, found.1 as u32))
}

/// Drafts boards.
pub fn draft(s: &mut Session, args: &LevelArgs, given: &DraftArgs) -> Ended {
    if given.want.as_deref() == Some("list") {
        s.lines(NAMES.iter().map(|(name, _, words)| format!("{name:20} {words}")))?;
        return Ok(End::Yes);
    }
    may_write(s, &given.output, given.samples.is_none())?;
    if let Some(samples) = given.samples {
        let level = s.load(args, Want::One)?;
        let shuffles = shuffles(given.shuffles.as_deref().unwrap_or(""))?;
        let answer = s.budget.pooled(|| depths(&s.store, &level, shuffles, samples, &s.budget))?;
        let end = s.give(&answer, json::answer, text::making::depths)?;
        for path in &given.output {
            let drawing = picture::making::depths(&level, &answer.found, given.theme.theme());
            picture::write(&s.files, path, &drawing)?;
            s.wrote(std::slice::from_ref(path))?;
        }
        return Ok(end);
    }
    let (level, template, model) = template_of(s, args)?;
    let asked = order(s, given, &level, &template)?;
    let answer = s.budget.pooled(|| ask_draft(&s.store, &level, &template, &asked, &s.budget))?;
    let verbose = s.common.verbose;
    let end = s.give(&answer, json::answer, |a| text::making::draft(a, verbose))?;
    let output = if answer.found.boards.is_empty() { &[][..] } else { &given.output };
    for path in output {
        if ending(path) == "toml" {
            let texts = answer.found.boards.iter().map(|b| b.text.as_str());
            write_levels(s, path, &model_for(s, &model, &args.file, path), texts)?;
        } else {
            let drawing =
                picture::making::draft(&level, &answer.found, ending(path) == "html", given.theme.theme())?;
            picture::write(&s.files, path, &drawing)?;
        }
        s.wrote(std::slice::from_ref(path))?;
    }
    Ok(end)
}

/// Writes levels below the head of their file.
fn write_levels<'t>(
    s: &Session,
    path: &Path,
    model: &str,
    texts: impl Iterator<Item = &'t str>,
) -> Result<(), Trouble> {
    let levels: Vec<&str> = texts.collect();
    let text = format!("model = {}\n\n{}", serde_json::json!(model), levels.join("\n"));
    s.files.write(path, |out| out.write_all(text.as_bytes()))
}

/// How a level is to be mended, as it was typed.
pub struct Mending<'a> {
    /// What it is to be like.
    pub want: &'a str,
    /// What may change.
    pub may: &'a str,
    /// Cells that stay.
    pub fixed: &'a str,
    /// What changes cost.
    pub costs: &'a [String],
    /// The greatest cost.
    pub most: u32,
}

/// Mends a level.
pub fn mend(s: &mut Session, args: &LevelArgs, how: &Mending<'_>, output: &[PathBuf], theme: Theme) -> Ended {
    let wish = Wish::read(how.want).map_err(|e| Trouble::words(format!("--want: {e}")))?;
    may_write(s, output, false)?;
    let (level, template, model) = template_of(s, args)?;
    template.has_board()?;
    let mut costs = BTreeMap::new();
    for cost in how.costs {
        let read = cost
            .split_once('=')
            .and_then(|(name, n)| Some((template.variable(name.trim())?, n.trim().parse().ok()?)));
        let Some((var, n @ 1..=99)) = read else {
            return Err(Trouble::words(format!(
                "--cost takes NAME=N for a variable of the board, N from 1 to 99; this is `{cost}`"
            )));
        };
        costs.insert(var, n);
    }
    let order = mend::Order {
        wish,
        may: template.may(how.may).map_err(|e| Trouble::words(format!("--may: {e}")))?,
        fixed: cells(&template, &[], how.fixed)?,
        costs,
        most: how.most,
    };
    let answer = s.budget.pooled(|| ask_mend(&s.store, &level, &template, &order, &s.budget))?;
    let end = s.give(&answer, json::answer, |a| text::making::mend(a, &level))?;
    for path in output {
        let Some(first) = answer.found.mends.first() else { continue };
        if ending(path) == "toml" {
            let texts = std::iter::once(first.text.as_str());
            write_levels(s, path, &model_for(s, &model, &args.file, path), texts)?;
        } else {
            let drawing = picture::making::mend(&level, &answer.found, theme)?;
            picture::write(&s.files, path, &drawing)?;
        }
        s.wrote(std::slice::from_ref(path))?;
    }
    Ok(end)
}

/// What the cells of other programs stand for, from the file that is given.
fn tiles_of(s: &Session, tiles: Option<&Path>) -> Result<Tiles, Trouble> {
    let Some(path) = tiles else { return Ok(Tiles::default()) };
    let text = s.files.read(path).map_err(fendle_ask::Trouble::Message)?;
    Tiles::read(&text).map_err(|e| Trouble::words(format!("{}: {e}", path.display())))
}

/// The text of a level file with boards of other programs. `model` is named as in a level file at `output`.
pub fn boards(
    s: &mut Session,
    files: &[PathBuf],
    (model, output): (&str, &Path),
    tiles: Option<&Path>,
) -> Result<String, Trouble> {
    let tiles = tiles_of(s, tiles)?;
    let read = |path: &Path| s.files.read(path).map_err(fendle_ask::Trouble::Message);
    let texts: Result<Vec<(String, String)>, Trouble> =
        files.iter().map(|path| Ok((path.display().to_string(), read(path)?))).collect();
    Ok(imported(&mut s.store, &s.files, (model, output), &texts?, &tiles)?)
}

/// Writes the board of a level for another program.
pub fn export(
    s: &mut Session,
    args: &LevelArgs,
    (tiles, like): (Option<&Path>, Option<&Path>),
    output: &Path,
) -> Ended {
    let kind = ending(output);
    if !matches!(kind.as_str(), "csv" | "xml") {
        return Err(Trouble::words(format!(
            "-o wants a table of cells (.csv) or a tile map (.xml), not {}",
            output.display()
        )));
    }
    let (level, mut template, _) = template_of(s, args)?;
    template.board = template.drawn(&level.game.bound, &level.game.bound.position);
    template.has_board()?;
    let tiles = tiles_of(s, tiles)?;
    let like = like.map(|path| s.files.read(path).map_err(fendle_ask::Trouble::Message)).transpose()?;
    s.files.may_write(output)?;
    let (rows, besides) = template.rows_of_board();
    let text = match kind.as_str() {
        "csv" => to_table(&rows, &tiles),
        _ => to_map(template.model(), &rows, &tiles, like.as_deref()),
    };
    let text = text.map_err(Trouble::words)?;
    s.files.write(output, |out| out.write_all(text.as_bytes()))?;
    if !besides.is_empty() && !s.is_json() {
        s.lines(text::wrapped(&format!("the board does not show {}: that is left out", besides.join(", "))))?;
    }
    s.wrote(&[output.to_path_buf()])?;
    Ok(End::Yes)
}

/// Writes boards of other programs as a level file.
pub fn import(s: &mut Session, files: &[PathBuf], model: &str, tiles: Option<&Path>, output: &Path) -> Ended {
    if ending(output) != "toml" {
        return Err(Trouble::words(format!(
            "-o wants a level file, ending in .toml, not {}",
            output.display()
        )));
    }
    s.files.may_write(output)?;
    let text = boards(s, files, (model, output), tiles)?;
    s.files.write(output, |out| out.write_all(text.as_bytes()))?;
    s.wrote(&[output.to_path_buf()])?;
    Ok(End::Yes)
}
