//! `solve` as text.

use fendle_ask::count::CountedSolutions;
use fendle_ask::hunt::Attempt;
use fendle_ask::solve::{Knowing, Solved, SolvedKnowing};
use fendle_ask::{Answer, Position};
use fendle_core::infer::fraction;
use fendle_core::numbers::{counted, grouped_digits};

use super::{beside, chance_text, changed_lines, headed, move_lines, named, position_lines, wrapped};

/// A solution, or the proof that there is none, or what is missing. `brief`: without boards.
pub fn lines(a: &Answer<Solved>, brief: bool, verbose: bool) -> Vec<String> {
    let s = &a.found;
    let mut out = named(&a.asked);
    let Some(moves) = &s.solution else {
        if !brief {
            out.extend(position_lines(&s.start));
            out.push(String::new());
        }
        if s.verdict == "fault" {
            out.push("no answer: the model broke".into());
            return out;
        }
        out.extend(wrapped(&format!("{}: {}", s.verdict, s.words)));
        out.extend(tried_lines(s, verbose || s.verdict == "undecided"));
        if s.states > 0 && s.verdict == "undecided" {
            out.push(format!("{} seen", counted(s.states, "state", "states")));
        }
        return out;
    };
    if moves.is_empty() {
        out.push("solvable: the start is won already".into());
    } else {
        let length = counted(moves.len() as u64, "move", "moves");
        let lucky = if s.if_lucky { " if lucky" } else { "" };
        out.extend(match s.by_play {
            None if let Some(c) = &s.counting => {
                let count = c.count.unwrap_or(0);
                let rest = match (s.shortest, c.least) {
                    (true, _) => "and no solution has fewer".to_string(),
                    (false, Some(least)) if least > 0 => format!("and none has fewer than {least}"),
                    (false, _) => "how few are enough is not known".to_string(),
                };
                wrapped(&format!(
                    "{} in {length}; counting {}: {count}, {rest} ({})",
                    s.verdict, c.name, s.words
                ))
            }
            None if !s.shortest => {
                let least = match s.least {
                    // The start is not won, so one move is no news.
                    Some(least) if least > 1 => {
                        format!("none has fewer than {}", counted(least.into(), "move", "moves"))
                    }
                    _ => "how few are enough is not known".to_string(),
                };
                wrapped(&format!("{}: {length}; {least} ({})", s.verdict, s.words))
            }
            None => vec![format!("solvable{lucky} in {length}, and in no fewer ({})", s.words)],
            Some(_) => wrapped(&format!(
                "solvable{lucky}: a game that was played reached the goal in {length}; {}",
                s.words
            )),
        });
        out.extend(tried_lines(s, verbose));
        if let Some(start) = &s.begins_at {
            out.push(format!("from the start that --at takes as: {start}"));
        }
        out.extend(move_lines(moves));
    }
    out.push(format!("{} seen", counted(s.states, "state", "states")));
    if !brief {
        out.push(String::new());
        let words = |i: usize| if i == 0 { "start".into() } else { format!("{i}. {}", moves[i - 1]) };
        // Behind the start only what has changed since then.
        let lines = |i: usize, p: &Position| match i {
            0 => position_lines(p),
            _ => changed_lines(p, &s.positions[0]),
        };
        let blocks: Vec<Vec<String>> =
            s.positions.iter().enumerate().map(|(i, p)| headed(words(i), lines(i, p))).collect();
        out.extend(beside(&blocks));
    }
    out
}

/// How many solutions there are.
pub fn counts(a: &Answer<CountedSolutions>) -> Vec<String> {
    let s = &a.found;
    let mut out = named(&a.asked);
    if a.fault.is_some() {
        out.push("no answer: the model broke".into());
        return out;
    }
    let won = counted(s.won, "won position", "won positions");
    if !s.complete {
        let by = a.stopped_by.as_ref().map_or("a limit", |s| s.words.as_str());
        out.push(format!("undecided: stopped by {by}; so far {won} reached"));
        out.push(format!("{} seen", counted(s.states, "state", "states")));
        return out;
    }
    out.push(match s.won {
        0 => "no won position can be reached".into(),
        _ => {
            format!("{won} can be reached{}", if s.by_positions { "; what is alike counts once" } else { "" })
        }
    });
    if let (Some(moves), Some(n)) = (s.moves, &s.shortest) {
        let each = counted(moves.into(), "move", "moves");
        let one = n == "1";
        let what = if one { "shortest solution, of" } else { "shortest solutions, each of" };
        out.push(format!("{} {what} {each}", grouped_digits(n)));
    }
    if s.won > 0 {
        out.push(match (&s.all, s.endless) {
            (Some(n), _) if n == "1" => "1 solution in all".into(),
            (Some(n), _) => format!("{} solutions in all", grouped_digits(n)),
            (None, true) => {
                "no end of solutions in all: play can come back to a position that it has left".into()
            }
            (None, false) => {
                format!("the ways to it are not counted: {}", s.not_counted.as_deref().unwrap_or("stopped"))
            }
        });
        if s.by_positions {
            out.push("solutions are sequences of positions: moves with the same result are one".into());
        }
    }
    out.push(format!("{} seen", counted(s.states, "state", "states")));
    out
}

/// What was tried, and how far each way got.
fn tried_lines(s: &Solved, wanted: bool) -> Vec<String> {
    let line = |t: &Attempt| format!("  {}: {}, {}", t.what, counted(t.states, "state", "states"), t.end);
    s.tried.iter().filter(|_| wanted).map(line).collect()
}

/// A way for one who knows no more than is told, or what the information states say.
pub fn knowing(a: &Answer<SolvedKnowing>) -> Vec<String> {
    let s = &a.found;
    let mut out = named(&a.asked);
    match &s.kind {
        Knowing::Way { no_guess, guesses_before_moves, chance_to_survive_all, shortest } => {
            let names: Vec<String> = s
                .solution
                .iter()
                .flatten()
                .enumerate()
                .map(|(i, m)| {
                    let guess = if guesses_before_moves.contains(&i) { " (a guess)" } else { "" };
                    format!("{m}{guess}")
                })
                .collect();
            let n = counted(names.len() as u64, "move", "moves");
            let certain = "every step is certain when it is made";
            out.push(match (*no_guess, *shortest) {
                (true, true) => format!("solvable without a guess in {n}, and in no fewer: {certain}"),
                (true, false) => format!("solvable without a guess, in {n}: {certain}"),
                (false, _) => {
                    debug_assert!(*chance_to_survive_all != fraction(1, 1));
                    let guesses = counted(guesses_before_moves.len() as u64, "guess", "guesses");
                    let survive = chance_text(chance_to_survive_all);
                    format!("solvable in {n} with {guesses}; the chance to survive them all is {survive}")
                }
            });
            out.extend(move_lines(&names));
            out.push(if *shortest {
                "--known takes the layout as known".into()
            } else {
                "a way for one who knows no more than is told; not always the shortest (--known takes the layout as known)"
                    .into()
            });
        }
        Knowing::Space { certain, shortest_if_lucky, states } => {
            let states = counted(*states, "information state", "information states");
            let lucky = counted(shortest_if_lucky.unwrap_or(0).into(), "move", "moves");
            out.push(match (s.verdict, *certain) {
                ("solvable", true) => format!(
                    "certain: some way of playing wins whatever is hidden; shortest if lucky: {lucky} ({states})"
                ),
                ("solvable", false) => format!(
                    "possible, by guessing: shortest if lucky: {lucky} ({states}); `fendle odds` says how likely"
                ),
                ("unsolvable", _) => format!("unsolvable: none of {states} is won"),
                ("fault", _) => format!("no answer: the model broke after {states}"),
                _ => {
                    let by = a.stopped_by.as_ref().map_or("a limit", |s| s.words.as_str());
                    format!("undecided: stopped by {by} after {states}")
                }
            });
        }
    }
    out
}
