//! `fendle draft` and `fendle mend`: boards made to order, and levels mended.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use fendle_ask::making::boards::Template;
use fendle_ask::making::depths::depths;
use fendle_ask::making::draft::{By, Mirror, Order, Put, draft as ask_draft};
use fendle_ask::making::figures::NAMES;
use fendle_ask::making::maps::{Tiles, imported};
use fendle_ask::making::mend::{self, mend as ask_mend};
use fendle_ask::making::source_of;
use fendle_ask::making::wish::{Wish, figure};
use fendle_ask::{End, Loaded, Provider as _, Want};
use fendle_view::tiles::Theme;

use crate::args::{ByArg, DraftArgs, LevelArgs, MirrorArg};
use crate::files::ending;
use crate::session::{Ended, Session, Trouble};
use crate::{json, picture, text};

/// Cells by their names.
fn cells(template: &Template, words: &str) -> Result<BTreeSet<usize>, Trouble> {
    let mut out = BTreeSet::new();
    for word in words.split([',', ' ']).map(str::trim).filter(|w| !w.is_empty()) {
        let all = template.rows * template.cols;
        let found = (0..all).find(|at| template.cell(*at) == word);
        out.insert(
            found.ok_or_else(|| Trouble::words(format!("--fixed: `{word}` is no cell of the board")))?,
        );
    }
    Ok(out)
}

/// A range such as `3..6`, or one number.
fn range(text: &str) -> Option<(usize, usize)> {
    let (least, most) = text.split_once("..").unwrap_or((text, text));
    let (least, most) = (least.trim().parse().ok()?, most.trim().parse().ok()?);
    (least <= most && most <= 100_000).then_some((least, most))
}

fn puts(template: &Template, words: &str) -> Result<Vec<Put>, Trouble> {
    let mut out = vec![];
    for part in words.split(',').map(str::trim).filter(|p| !p.is_empty()) {
        let wrong = || {
            Trouble::words(format!(
                "--put: `{part}` is not understood; it takes glyphs with their numbers, such as \"o 2, H 3..6\""
            ))
        };
        let (glyph, many) = part.split_once(' ').ok_or_else(wrong)?;
        let (least, greatest) = range(many).ok_or_else(wrong)?;
        if !template.knows(glyph) {
            template.named(glyph).map_err(|e| Trouble::words(format!("--put: {e}")))?;
            return Err(Trouble::words(format!("--put takes glyphs of the board; `{glyph}` is a variable")));
        }
        out.push(Put { glyph: glyph.into(), least, greatest });
    }
    Ok(out)
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

/// Drafts boards.
pub fn draft(s: &mut Session, args: &LevelArgs, order: &DraftArgs) -> Ended {
    if order.want.as_deref() == Some("list") {
        s.lines(NAMES.iter().map(|(name, _, words)| format!("{name:20} {words}")))?;
        return Ok(End::Yes);
    }
    let wish = order.want.as_deref().map(Wish::read).transpose();
    let wish = wish.map_err(|e| Trouble::words(format!("--want: {e}")))?;
    let most = order.most.as_deref().map(figure).transpose();
    let most = most.map_err(|e| Trouble::words(format!("--most: {e}")))?;
    let shuffles = range(&order.shuffles)
        .ok_or_else(|| Trouble::words(format!("--shuffles takes N..M, this is `{}`", order.shuffles)))?;
    let shuffles = (shuffles.0 as u32, shuffles.1 as u32);
    may_write(s, &order.output, order.samples.is_none())?;
    if let Some(samples) = order.samples {
        let level = s.load(args, Want::One)?;
        let answer = s.budget.pooled(|| depths(&s.store, &level, shuffles, samples, &s.budget))?;
        let end = s.give(&answer, json::answer, text::making::depths)?;
        for path in &order.output {
            let drawing = picture::making::depths(&level, &answer.found, order.theme.theme());
            picture::write(&s.files, path, &drawing)?;
            s.wrote(std::slice::from_ref(path))?;
        }
        return Ok(end);
    }
    let (level, template, model) = template_of(s, args)?;
    let names =
        |what: &str, words: &str| template.named(words).map_err(|e| Trouble::words(format!("--{what}: {e}")));
    let by = match order.by {
        ByArg::Shuffle => By::Shuffle,
        ByArg::Setup => By::Setup,
        ByArg::Fill => By::Fill,
        ByArg::Edit => By::Edit,
        ByArg::Deepest => By::Deepest,
    };
    if matches!(by, By::Fill | By::Edit) || !order.put.is_empty() {
        template.has_board()?;
    }
    let put = puts(&template, &order.put)?;
    let mut may = names("may", &order.may)?;
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
    let asked = Order {
        by,
        wish,
        most,
        keep: order.keep as usize,
        tries: order.tries,
        shuffles,
        put,
        may,
        fixed: cells(&template, &order.fixed)?,
        mirrored: order.mirrored.map(|m| match m {
            MirrorArg::Columns => Mirror::Columns,
            MirrorArg::Rows => Mirror::Rows,
        }),
        apart: names("apart", &order.apart)?,
    };
    let answer = s.budget.pooled(|| ask_draft(&s.store, &level, &template, &asked, &s.budget))?;
    let verbose = s.common.verbose;
    let end = s.give(&answer, json::answer, |a| text::making::draft(a, verbose))?;
    let output = if answer.found.boards.is_empty() { &[][..] } else { &order.output };
    for path in output {
        if ending(path) == "toml" {
            let texts = answer.found.boards.iter().map(|b| b.text.as_str());
            write_levels(s, path, &model_for(s, &model, &args.file, path), texts)?;
        } else {
            let drawing =
                picture::making::draft(&level, &answer.found, ending(path) == "html", order.theme.theme())?;
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
        fixed: cells(&template, how.fixed)?,
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

/// Writes boards of other programs as a level file.
pub fn import(s: &mut Session, files: &[PathBuf], model: &str, tiles: Option<&Path>, output: &Path) -> Ended {
    if ending(output) != "toml" {
        return Err(Trouble::words(format!(
            "-o wants a level file, ending in .toml, not {}",
            output.display()
        )));
    }
    s.files.may_write(output)?;
    let read = |path: &Path| s.files.read(path).map_err(fendle_ask::Trouble::Message);
    let tiles = match tiles {
        Some(path) => {
            Tiles::read(&read(path)?).map_err(|e| Trouble::words(format!("{}: {e}", path.display())))?
        }
        None => Tiles::default(),
    };
    let texts: Result<Vec<(String, String)>, Trouble> =
        files.iter().map(|path| Ok((path.display().to_string(), read(path)?))).collect();
    let text = imported(&mut s.store, &s.files, (model, output), &texts?, &tiles)?;
    s.files.write(output, |out| out.write_all(text.as_bytes()))?;
    s.wrote(&[output.to_path_buf()])?;
    Ok(End::Yes)
}
