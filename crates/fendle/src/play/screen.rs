//! What is shown while a level is played.

use fendle_ask::light::Light;
use fendle_core::numbers::counted;
use fendle_view::text::wrapped;
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::Paragraph;

use super::app::{App, LABELS, Mode};
use crate::picture::look;

/// Columns that the panel beside the board has at the least.
const PANEL: u16 = 40;

/// Draws the screen.
pub fn draw(app: &App<'_>, frame: &mut Frame<'_>) {
    let board_lines = board_lines(app);
    let board_wide = board_lines.iter().map(Line::width).max().unwrap_or(0).max(30) as u16 + 4;
    let reads = matches!(app.mode, Mode::Read(_));
    // What was said stands right below the board, as long as there is room for all of it.
    let tall = if reads { u16::MAX } else { (board_lines.len() as u16 + 1).max(12) };
    let room = frame.area().height.saturating_sub(6);
    let [title, main, said, _, keys] = Layout::vertical([
        Constraint::Length(2),
        Constraint::Length(tall.min(room)),
        Constraint::Length(3),
        Constraint::Min(0),
        Constraint::Length(1),
    ])
    .areas(frame.area());
    let bold = Style::new().add_modifier(Modifier::BOLD);
    frame.render_widget(Paragraph::new(Line::styled(app.playing.level().title(), bold)), title);
    if let Mode::Read(lines) = &app.mode {
        let wide = usize::from(main.width.saturating_sub(1)).max(20);
        let folded: Vec<Line<'_>> = lines.iter().flat_map(|l| folded(l, wide)).map(Line::from).collect();
        frame.render_widget(Paragraph::new(folded).scroll((app.scroll, 0)), main);
    } else {
        let beside = board_wide.min(main.width.saturating_sub(PANEL)).max(20);
        let [board, panel] =
            Layout::horizontal([Constraint::Length(beside), Constraint::Min(10)]).areas(main);
        frame.render_widget(Paragraph::new(board_lines).scroll((app.scroll, 0)), board);
        frame.render_widget(Paragraph::new(panel_lines(app, panel)), panel);
    }
    let wide = usize::from(said.width.saturating_sub(1)).max(20);
    let mut lines: Vec<String> = app.message.iter().flat_map(|m| folded(m, wide)).collect();
    lines.truncate(3);
    let lines: Vec<Line<'_>> = lines.into_iter().map(Line::from).collect();
    frame.render_widget(Paragraph::new(lines), said);
    let faint = Style::new().add_modifier(Modifier::DIM);
    let hint = match &app.mode {
        Mode::Play => "? keys   u take back   h hint   / all moves   q leave".to_string(),
        Mode::Search(text) => format!("move: {text}_   Return makes the first, Esc leaves the list"),
        Mode::Pick(_) | Mode::Draws(..) => "the label picks; any other key leaves the list".into(),
        Mode::Phases(at) => {
            format!("phase {} of {}; any key goes on, Esc to the end", at + 1, app.phases.len())
        }
        Mode::Read(_) => "PageUp and PageDown scroll; any other key goes back to the game".into(),
    };
    frame.render_widget(Paragraph::new(Line::styled(hint, faint)), keys);
}

fn folded(line: &str, wide: usize) -> Vec<String> {
    if line.chars().count() <= wide { vec![line.to_string()] } else { wrapped(line, wide) }
}

/// The board that is shown: of where play stands, or of a phase.
fn board_lines(app: &App<'_>) -> Vec<Line<'static>> {
    let (state, head) = match &app.mode {
        Mode::Phases(at) => (app.phases[*at].1.as_slice(), Some(app.phases[*at].0.clone())),
        _ => (app.playing.state(), None),
    };
    let position = app.playing.position(state);
    let b = app.playing.shown();
    let tiles = look::cells(b, state);
    let palette = app.theme.palette();
    let mut out: Vec<Line<'static>> = head.map(|h| Line::from(format!("after: {h}"))).into_iter().collect();
    let boards = position.drawn.pictures.len();
    for picture in &position.drawn.pictures {
        if boards > 1 {
            out.push(Line::from(picture.name.clone()));
        }
        let piled = !picture.heads.is_empty();
        let columns: Vec<String> = match piled {
            true => picture.heads.clone(),
            false => (1..=picture.rows.first().map_or(0, Vec::len)).map(|c| c.to_string()).collect(),
        };
        let widest =
            picture.rows.iter().flatten().chain(&columns).map(|c| c.chars().count()).max().unwrap_or(1);
        let heads: String = columns.iter().map(|c| format!(" {c:>widest$} ")).collect();
        out.push(Line::styled(format!("  {heads}"), Style::new().add_modifier(Modifier::DIM)));
        let is_board =
            !piled && (picture.rows.len(), picture.rows.first().map_or(0, Vec::len)) == (b.rows, b.cols);
        for (r, row) in picture.rows.iter().enumerate() {
            let number = if piled { String::new() } else { (r + 1).to_string() };
            let indent =
                if picture.shifted && r % 2 == 1 { " ".repeat(widest.div_ceil(2)) } else { String::new() };
            let mut spans =
                vec![Span::styled(format!("{number:>2}{indent}"), Style::new().add_modifier(Modifier::DIM))];
            for (c, text) in row.iter().enumerate() {
                let mut style = Style::new();
                let thing = tiles.as_ref().filter(|_| is_board).and_then(|t| t.cells[r * b.cols + c].last());
                if text == "." {
                    style = style.add_modifier(Modifier::DIM);
                }
                if let Some(thing) = thing {
                    let (red, green, blue) = palette.paint(thing.paint);
                    style = style.fg(Color::Rgb(red, green, blue));
                }
                if is_board && app.marks.contains(&(r, c)) {
                    style = style.fg(Color::Black).bg(Color::LightRed);
                }
                let is_cursor = is_board && app.cursor_on && app.cursor == (r, c);
                if is_cursor {
                    style = style.add_modifier(Modifier::REVERSED);
                }
                let (left, right) = match (is_cursor, app.marks.contains(&(r, c)) && is_board) {
                    (true, _) => ("[", "]"),
                    (_, true) => ("!", "!"),
                    _ => (" ", " "),
                };
                let pad = " ".repeat(widest.saturating_sub(text.chars().count()));
                spans.push(Span::raw(format!("{pad}{left}")));
                spans.push(Span::styled(text.clone(), style));
                spans.push(Span::raw(right));
            }
            out.push(Line::from(spans));
        }
    }
    out.extend(position.drawn.values.iter().map(|(name, value)| Line::from(format!("{name} = {value}"))));
    out
}

/// What is known, counted, and which moves there are.
fn panel_lines(app: &App<'_>, area: Rect) -> Vec<Line<'static>> {
    let wide = usize::from(area.width.saturating_sub(1)).max(10);
    let mut out = vec![];
    let (colour, words) = match app.light() {
        None => (Color::Gray, "looking ...".to_string()),
        Some(Light::Dead(_)) => match app.dead_since() {
            Some(n) if n > 0 => (Color::LightRed, format!("dead since move {n}")),
            _ => (Color::LightRed, "dead from the start".into()),
        },
        Some(light @ Light::CanBeWon { .. }) => (Color::LightGreen, light.words()),
        Some(Light::Ended(words)) => (Color::LightCyan, words.clone()),
        Some(light @ Light::NotKnown(_)) => (Color::LightYellow, light.words()),
    };
    for (i, line) in folded(&words, wide - 2).into_iter().enumerate() {
        let dot = if i == 0 { "● " } else { "  " };
        out.push(Line::from(vec![Span::styled(dot, Style::new().fg(colour)), Span::raw(line)]));
    }
    let mut counts = counted(app.playing.len() as u64, "move", "moves");
    if let Some(least) = app.minimum() {
        counts.push_str(&format!(" (at the least {least})"));
    }
    if app.playing.refused > 0 {
        counts.push_str(&format!(", {} refused", app.playing.refused));
    }
    out.push(Line::from(counts));
    if app.playing.score() != 0 {
        out.push(Line::from(format!("score {}", app.playing.score())));
    }
    out.push(Line::default());
    let model = &app.playing.level().game.bound.model;
    let table = &app.playing.level().moves;
    let faint = Style::new().add_modifier(Modifier::DIM);
    if let Mode::Draws(number, list) = &app.mode {
        out.push(Line::from(format!("what {} draws", table.name(*number))));
        for (label, (draws, chance)) in LABELS.chars().zip(list) {
            out.push(Line::from(format!("{label}  {draws} ({chance})")));
        }
        return out;
    }
    if matches!(app.mode, Mode::Play | Mode::Phases(_)) {
        for (of, keys) in app.bindings.arrows.iter().zip(["arrows", "Shift+arrows"]) {
            let keys = if app.cursor_on && keys == "arrows" { "c, arrows" } else { keys };
            out.push(Line::styled(format!("{keys:13}{}", model.moves[*of].name), faint));
        }
        for (of, key) in app.bindings.cells.iter().zip(["Return", "Space"]) {
            out.push(Line::styled(format!("{key:13}{} at the cursor", model.moves[*of].name), faint));
        }
    }
    let list = app.listed();
    let room = usize::from(area.height).saturating_sub(out.len() + 1).min(LABELS.len());
    let searching = matches!(app.mode, Mode::Search(_));
    for (label, number) in LABELS.chars().zip(&list).take(room) {
        let name = table.name(*number);
        let name: String = name.chars().take(wide - 3).collect();
        let allowed = app.allowed.contains(number);
        let label = if searching { ' ' } else { label };
        let style = if allowed { Style::new() } else { faint };
        let refused = if allowed { "" } else { " (refused)" };
        out.push(Line::styled(format!("{label}  {name}{refused}"), style));
    }
    if list.len() > room {
        out.push(Line::styled(format!("... {} more; / looks for one", list.len() - room), faint));
    }
    if list.is_empty() && app.allowed.is_empty() && matches!(app.mode, Mode::Play) {
        out.push(Line::styled("no move is allowed", faint));
    }
    out
}
