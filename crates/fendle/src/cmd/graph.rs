//! `fendle graph`: the state graph as a page, a picture, or a standard graph file.

use fendle_ask::graph::{Cut, Graph, graph, matching};
use fendle_ask::{Answer, End, Loaded, Want};
use fendle_core::Limit;

use crate::args::{GraphArgs, LevelArgs};
use crate::files::ending;
use crate::picture::graph::{Laid, PAGE_NODES, lay_out, nodes_of, write, write_beside};
use crate::session::{Ended, Session, Trouble};
use crate::{json, text};

/// Runs the command.
pub fn run(s: &mut Session, args: &GraphArgs) -> Ended {
    let ended = written(s, args);
    if let Err(Trouble::Ask(fendle_ask::Trouble::Limit(_))) = &ended {
        let path = args.output.display();
        s.reporter.say(&format!(
            "fendle: {path} is not written: --most asks for fewer nodes, --time gives more time"
        ));
    }
    ended
}

/// Writes what is asked for.
fn written(s: &mut Session, args: &GraphArgs) -> Ended {
    let most = nodes_of(&args.output)?;
    s.files.may_write(&args.output)?;
    let level = s.load(&args.level, Want::All)?;
    s.files.may_write(&args.output)?;
    if args.second.is_some() || args.with.is_some() {
        return beside(s, args, &level);
    }
    let (answer, laid) = drawn(s, &level, args, most, 1.0)?;
    let files = write(&s.files, &level, &answer.found, &laid, args, &s.budget)?;
    if s.is_json() {
        s.json(&json::graph::value(&[&answer.found], &files, None, answer.stopped_by.as_ref()))?;
    } else {
        s.lines(text::graph::lines(&[&answer.found], &files, None))?;
    }
    Ok(answer.end())
}

/// Two graphs on one page.
fn beside(s: &mut Session, args: &GraphArgs, first: &Loaded) -> Ended {
    if ending(&args.output) != "html" {
        return Err(Trouble::words("two graphs side by side are a page: -o wants a name ending in .html"));
    }
    if args.around.is_some() {
        return Err(Trouble::words("--around is about one level: leave it out for two"));
    }
    let other = LevelArgs {
        file: args.second.clone().unwrap_or_else(|| args.level.file.clone()),
        level: args.with.clone(),
        game: args.level.game && args.second.is_none(),
        at: None,
        after: None,
        ..args.level.clone()
    };
    let second = s.load(&other, Want::All)?;
    let (a, laid_a) = drawn(s, first, args, PAGE_NODES / 2, 0.5)?;
    let (b, laid_b) = drawn(s, &second, args, PAGE_NODES / 2, 1.0)?;
    let matched = matching((&first.game, &a.found), (&second.game, &b.found), &s.budget);
    let files = write_beside((&s.files, &s.budget), &args.output, (&laid_a, &laid_b), &matched)?;
    let graphs = [&a.found, &b.found];
    if s.is_json() {
        let stopped = a.stopped_by.as_ref().or(b.stopped_by.as_ref());
        s.json(&json::graph::value(&graphs, &files, Some(&matched), stopped))?;
    } else {
        s.lines(text::graph::lines(&graphs, &files, Some(&matched)))?;
    }
    Ok(End::of_all([a.end(), b.end()]))
}

/// Explores a level and lays its graph out, in a part of the time that is left.
fn drawn(
    s: &Session,
    level: &Loaded,
    args: &GraphArgs,
    most: usize,
    part: f64,
) -> Result<(Answer<Graph>, Laid), Trouble> {
    let cut = Cut {
        keep: args.keep.keep(),
        around: args.around.clone().map(|text| (text, args.steps)),
        rooms: args.rooms,
        most: args.most.unwrap_or(most),
    };
    let mut answer = graph(&s.store, level, &cut, part, &s.budget)?;
    let laid = lay_out(level, &answer.found, args, &s.budget)?;
    if let (None, Some(limit)) = (answer.limit(), s.budget.stopped()) {
        answer.found.notes.push(format!("the layout was broken off: stopped by {}", s.budget.words(limit)));
        // The graph is whole all the same; only an interrupt ends the command otherwise.
        answer = answer.stopped(Some(limit).filter(|l| *l == Limit::Interrupted), &s.budget);
    }
    Ok((answer, laid))
}
