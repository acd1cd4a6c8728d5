//! `moves` as text.

use fendle_ask::Answer;
use fendle_ask::moves::{Allowed, Moves, Refused};
use fendle_lang::state::Chance;

use super::{beside, changed_lines, drawn_lines, head, headed, move_lines};

/// Refused moves that are drawn; more are listed by their reason.
pub const DRAWN_MAX: usize = 24;
/// Outcomes of one move that are drawn.
pub const OUTCOMES_DRAWN: usize = 6;

/// Every move with its outcomes, or why not.
pub fn lines(a: &Answer<Moves>) -> Vec<String> {
    let m = &a.found;
    let mut out = head(&a.asked, &m.position);
    if !m.running {
        let more = if m.allowed.is_empty() { "" } else { "; past it:" };
        out.push(format!("{}: the game has ended{more}", m.status));
    }
    out.push(format!("{} allowed, {} refused", m.allowed.len(), m.refused.len()));
    let blocks: Vec<Vec<String>> = m.allowed.iter().flat_map(|a| allowed(m, a)).collect();
    // Only where cells refuse the board says more than the words.
    let drawn: Vec<&Refused> = m.refused.iter().filter(|r| !r.cells.is_empty()).take(DRAWN_MAX).collect();
    let refused: Vec<Vec<String>> = drawn.iter().map(|r| refusal(m, r)).collect();
    for list in [blocks, refused] {
        if !list.is_empty() {
            out.push(String::new());
            out.extend(beside(&list));
        }
    }
    let short = m.refused.iter().filter(|r| !drawn.iter().any(|d| std::ptr::eq(*d, *r)));
    let mut reasons: Vec<(&Refused, Vec<String>)> = vec![];
    for r in short {
        match reasons.iter_mut().find(|(first, _)| first.why == r.why && first.line == r.line) {
            Some((_, names)) => names.push(r.name.clone()),
            None => reasons.push((r, vec![r.name.clone()])),
        }
    }
    for (r, names) in reasons {
        out.push(String::new());
        out.push(format!("refused: {} ({}:{})", r.why, m.model_file, r.line));
        out.extend(move_lines(&names));
    }
    out
}

fn allowed(m: &Moves, a: &Allowed) -> Vec<Vec<String>> {
    let name = format!("allowed: {}", a.name);
    let many = a.outcomes.len() > 1;
    let mut out = vec![];
    for o in a.outcomes.iter().take(OUTCOMES_DRAWN) {
        let mut block = vec![name.clone()];
        if a.sampled {
            block.push("drawn by seed".into());
        } else if many {
            let chance = Chance::new(o.weight.into(), a.total_weight.into());
            block.push(format!("chance {chance}, {:.3} %", 100.0 * chance.about()));
        }
        if o.status != "running" {
            block.push(format!("then {}", o.status));
        }
        block.extend(changed_lines(&o.position, &m.position));
        out.push(block);
    }
    if a.sampled {
        out.push(vec![name, "too many outcomes to be counted".into()]);
    } else if a.outcomes.is_empty() {
        out.push(vec![name]);
    } else if a.outcomes.len() > OUTCOMES_DRAWN {
        out.push(vec![name, format!("{} more outcomes", a.outcomes.len() - OUTCOMES_DRAWN)]);
    }
    out
}

fn refusal(m: &Moves, r: &Refused) -> Vec<String> {
    let mut block =
        headed(format!("refused: {}", r.name), vec![r.why.clone(), format!("{}:{}", m.model_file, r.line)]);
    if !r.at.is_empty() {
        block.push(format!("at {}", r.at.join(", ")));
    }
    block.extend(drawn_lines(&m.position.drawn, &r.cells.iter().copied().collect()));
    block
}
