//! Proof files that were made for one yard and are shown for another one, or were changed: whatever is accepted is true.

use std::collections::BTreeMap;

use fendle_ask::hunt::Promise;
use fendle_ask::proof::{opened, payload, proof_of, recheck};
use fendle_ask::solve::solve;
use fendle_ask::{Answer, Loaded, Store};
use fendle_core::proof::{open, seal};
use fendle_core::{Limits, NoWatch};
use serde_json::{Value, json};

use crate::common::{Dice, budget, seeds};
use crate::yards::{Yard, some_yard};

/// A yard with its level, the head of a proof file for it, and claims that were made of it, each with what the file carries.
struct Case {
    yard: Yard,
    store: Store,
    level: Loaded,
    header: Value,
    claims: Vec<(Value, Vec<u8>)>,
}

/// Takes a proof file apart.
fn parts(file: &[u8]) -> (Value, Vec<u8>) {
    let (header, payload) = open(file).expect("a proof file");
    (serde_json::from_str(header).expect("a head"), payload.to_vec())
}

impl Case {
    fn new(yard: Yard) -> Case {
        let (store, level) = yard.level();
        let mut closed = None;
        let mut see = |space: &fendle_core::Space| closed = Some(payload(space));
        let answer: Answer<_> =
            solve(&store, &level, Promise::Best, &budget(), Some(&mut see)).expect("an answer");
        let sealed = proof_of(&store, &level, &answer, closed, &budget()).expect("small yards are decided");
        let (header, bytes) = parts(&sealed.bytes);
        // All that can be reached is closed under moves, and holds the start: for a yard that can be won it holds a goal, too.
        let found = fendle_core::explore(&level.game, Limits::default(), false, &NoWatch).expect("a start");
        let whole = json!({"kind": "closed-set", "states": found.counts.states});
        let claims = vec![(header["claim"].clone(), bytes), (whole, payload(&found.space))];
        Case { yard, store, level, header, claims }
    }

    /// Whether a claim is accepted for this yard, with a head that says that it was made for it.
    fn accepts(&mut self, claim: &Value, bytes: &[u8]) -> bool {
        let mut header = self.header.clone();
        header["claim"] = claim.clone();
        let file = seal(&header.to_string(), bytes);
        let proof = opened(&file).expect("a proof file");
        match recheck(&mut self.store, &self.level, &proof, &budget()) {
            Ok(answer) => answer.found.proof == "holds",
            // A move that cannot be read.
            Err(_) => false,
        }
    }

    /// Whether a claim is true of this yard, as far as it can be: moves that win, or that nothing wins.
    fn is_true(&self, claim: &Value) -> bool {
        match claim["moves"].as_array() {
            Some(moves) => {
                let name = |m: &Value| m.as_str().expect("a text").replace("go ", "");
                self.wins(&moves.iter().map(name).collect::<Vec<_>>())
            }
            None => self.yard.least().is_none(),
        }
    }

    /// Whether these ways lead to a won state, each of them allowed.
    fn wins(&self, ways: &[String]) -> bool {
        let mut at = self.yard.start;
        for way in ways {
            match self.yard.moves(at).into_iter().find(|m| m.0 == way) {
                Some((_, next)) => at = next,
                None => return false,
            }
        }
        self.yard.is_won(at)
    }
}

fn cases(range: std::ops::Range<u64>) -> Vec<Case> {
    seeds(range).map(|seed| Case::new(some_yard(&mut Dice::new(seed), seed % 2 == 0))).collect()
}

#[test]
fn what_is_accepted_is_true_of_the_yard_that_it_is_shown_for() {
    let mut all = cases(7_000..7_026);
    let mut kinds: BTreeMap<String, (usize, usize)> = BTreeMap::new();
    let claims: Vec<(usize, Value, Vec<u8>)> = (all.iter().enumerate())
        .flat_map(|(i, case)| case.claims.iter().map(move |(claim, bytes)| (i, claim.clone(), bytes.clone())))
        .collect();
    for (i, case) in all.iter_mut().enumerate() {
        for (from, claim, bytes) in &claims {
            let accepted = case.accepts(claim, bytes);
            let text = case.yard.drawn(case.yard.start);
            assert!(!accepted || case.is_true(claim), "{claim} of yard {from} is accepted for {text}");
            if *from == i && case.is_true(claim) {
                assert!(accepted, "{claim} is refused for its own yard {text}");
            }
            let count = kinds.entry(claim["kind"].to_string()).or_default();
            *(if accepted { &mut count.0 } else { &mut count.1 }) += 1;
        }
    }
    for kind in ["solution", "closed-set"] {
        let (accepted, refused) = kinds[&format!("\"{kind}\"")];
        assert!(accepted > 8 && refused > 100, "{kind}: {accepted} accepted, {refused} refused");
    }
}

#[test]
fn solutions_are_accepted_where_they_can_be_played() {
    let mut dice = Dice::new(77);
    let (mut accepted, mut refused) = (0, 0);
    for mut case in cases(7_100..7_130) {
        let ways = ["up", "right", "down", "left"];
        let own: Vec<String> = match case.claims[0].0["moves"].as_array() {
            Some(moves) => moves.iter().map(|m| m.as_str().expect("a text").replace("go ", "")).collect(),
            None => vec![],
        };
        for _ in 0..12 {
            let mut moves = own.clone();
            for _ in 0..dice.below(3) {
                let at = dice.below(moves.len() + 1);
                let way = ways[dice.below(4)].to_string();
                match dice.below(3) {
                    0 => moves.insert(at, way),
                    1 if at < moves.len() => moves[at] = way,
                    _ if at < moves.len() => drop(moves.remove(at)),
                    _ => {}
                }
            }
            let claim = json!({"kind": "solution", "moves": moves.iter().map(|m| format!("go {m}")).collect::<Vec<_>>()});
            let told = case.accepts(&claim, &[]);
            assert_eq!(told, case.wins(&moves), "{claim} for {}", case.yard.drawn(case.yard.start));
            *(if told { &mut accepted } else { &mut refused }) += 1;
        }
    }
    assert!(accepted > 40 && refused > 100, "{accepted} accepted, {refused} refused");
}

#[test]
fn files_that_were_changed_are_refused() {
    let mut dice = Dice::new(78);
    for mut case in cases(7_200..7_212) {
        let (claim, bytes) = case.claims[1].clone();
        let winnable = case.yard.least().is_some();
        assert_eq!(case.accepts(&claim, &bytes), !winnable);
        // More states than there are, fewer, and files that end early or go on.
        let states = claim["states"].as_u64().expect("a count");
        for other in [0, states - 1, states + 1, u64::MAX] {
            assert!(
                !case.accepts(&json!({"kind": "closed-set", "states": other}), &bytes),
                "{other} of {states}"
            );
        }
        for len in [0, bytes.len() / 2, bytes.len() - 1] {
            assert!(!case.accepts(&claim, &bytes[..len]), "{len} of {} bytes", bytes.len());
        }
        assert!(!case.accepts(&claim, &[&bytes[..], &[0]].concat()));
        // A state that was changed is another one, or none; then a move leads out of the set, or the start is not in it.
        for _ in 0..10 {
            let mut changed = bytes.clone();
            changed[dice.below(bytes.len())] ^= 1 << dice.below(8);
            assert!(!case.accepts(&claim, &changed) || !winnable);
        }
        // One bit of a whole file: its digest says so.
        let file = seal(&case.header.to_string(), &bytes);
        for _ in 0..20 {
            let mut changed = file.clone();
            changed[dice.below(file.len())] ^= 1 << dice.below(8);
            assert!(opened(&changed).is_err());
        }
        assert!(opened(&file[..file.len() - 1]).is_err() && opened(&[&file[..], &[0]].concat()).is_err());
        // For another start of the same yard the file says nothing.
        let next =
            case.yard.moves(case.yard.start).into_iter().map(|m| m.1).find(|at| !case.yard.is_won(*at));
        if let Some(start) = next {
            let mut yard = case.yard.clone();
            yard.start = start;
            let mut other = Case::new(yard);
            let proof = opened(&file).expect("a proof file");
            let answer = recheck(&mut other.store, &other.level, &proof, &budget()).expect("an answer");
            let why = answer.found.why.expect("it is refused");
            assert!(answer.found.proof == "refused" && why.contains("another level"), "{why}");
        }
    }
}
