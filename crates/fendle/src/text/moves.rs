//! `moves` as text.

use fendle_ask::Answer;
use fendle_ask::moves::{Allowed, Moves, Refused};
use fendle_lang::state::Chance;

use super::{beside, drawn_lines, head, headed, position_lines};

/// Refused moves drawn in full; more are listed in one line each.
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
    let blocks: Vec<Vec<String>> = m.allowed.iter().flat_map(allowed).collect();
    let refused: Vec<Vec<String>> = m.refused.iter().take(DRAWN_MAX).map(|r| refusal(m, r)).collect();
    for list in [blocks, refused] {
        if !list.is_empty() {
            out.push(String::new());
            out.extend(beside(&list));
        }
    }
    for r in m.refused.iter().skip(DRAWN_MAX) {
        out.push(format!("refused: {}: {} (line {})", r.name, r.why, r.line));
    }
    out
}

fn allowed(a: &Allowed) -> Vec<Vec<String>> {
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
        block.extend(position_lines(&o.position));
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
