//! `fendle explore`: the whole reachable space, counted and classified.

use fendle_ask::explore::Space;
use fendle_ask::explore::{How, explore};
use fendle_ask::{Answer, Want};
use fendle_core::numbers::{bytes, grouped};

use crate::args::{ChartArg, LevelArgs, PictureArgs};
use crate::session::{Ended, Session};
use crate::{json, memory, picture, text};

/// Runs the command.
pub fn run(
    s: &mut Session,
    args: &LevelArgs,
    past_goals: bool,
    structure: Option<bool>,
    (picture, chart): (&PictureArgs, ChartArg),
) -> Ended {
    picture.refuse(&s.files, true)?;
    let level = s.load(args, Want::All)?;
    let how = How {
        past_goals,
        structure,
        charts: picture.output.is_some(),
        report: picture.output.is_some() && picture.is_page(),
    };
    let answer = explore(&s.store, &level, how, &s.budget)?;
    if let Some(path) = &picture.output {
        let theme = picture.theme.theme();
        let drawing = picture::explore::draw(&level, &answer, chart, picture.is_page(), theme)?;
        picture::write(&s.files, path, &drawing)?;
    }
    let verbose = s.common.verbose;
    let end = s.give(
        &answer,
        |a| json::answer_and_file(a, picture.files()),
        |a| {
            let mut out = text::explore::lines(a);

            if verbose {
                out.push(String::new());
                out.push(effort(a));
                out.extend(a.found.counts.numbers.map(|n| {
                    let bits = a.found.table_bits;
                    let kept = if a.found.counts.edges_kept { "transitions are" } else { "no transition is" };
                    format!("states are numbers below {}: {bits} bits; {kept} kept", grouped(n))
                }));
                if a.found.counts.numbers.is_none() && a.found.tables_hold_numbers {
                    out.push(format!("the tables hold numbers of {} bits", a.found.table_bits));
                }
                if a.found.tables_hold_remainders {
                    out.push(format!(
                        "of the {} bits of a state only a remainder is kept: its place in the table says the others",
                        a.found.table_bits
                    ));
                }
                out.extend(a.found.stills_len.map(|stills| {
                    format!(
                        "what rarely changes in a state is kept once, {} different ones, and {} bits a state beside it",
                        grouped(stills as u64),
                        a.found.table_bits
                    )
                }));
                out.push(text::executor(&level));
            }
            out
        },
    )?;
    s.wrote_apart(picture.files())?;
    Ok(end)
}

fn effort(a: &Answer<Space>) -> String {
    let rate = (a.found.counts.transitions as f64 / a.effort.seconds.max(1e-9)) as u64;
    format!(
        "{:.3} s, {} transitions a second, {} peak memory, {} of tables",
        a.effort.seconds,
        grouped(rate),
        bytes(memory::peak()),
        bytes(a.found.table_bytes)
    )
}
