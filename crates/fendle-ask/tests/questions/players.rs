//! Whoever plays: by hand, with moves taken back, and a game that runs beside the rules or has written its plays down.

use fendle_ask::game::lockstep::compare_game;
use fendle_ask::game::record::compare_record;
use fendle_ask::game::{Call, Names, Speaks};
use fendle_ask::light::{Judge, Light};
use fendle_ask::playing::{Playing, Try, recorded_moves};
use fendle_ask::trace::trace;
use fendle_ask::{End, Store};
use serde_json::value::{RawValue, to_raw_value};
use serde_json::{Value, json};

use fendle_core::Model as _;

use crate::common::{Dice, MOVES, Map, budget, few, loaded, seeds};

#[test]
fn moves_are_taken_back_and_made_again_as_in_a_list() {
    for seed in seeds(2000..2080) {
        let mut dice = Dice::new(seed);
        let map = Map::any(&mut dice, seed % 2 == 0);
        let mut store = Store::default();
        let level = loaded(&mut store, &map.texts(), "walk.toml", "map", None);
        let mut play = Playing::new(&level, seed);
        // The landings so far, those that were taken back, and where the bookmark lies.
        let (mut made, mut back, mut marked) = (vec![0usize], vec![], None::<usize>);
        let mut refused = 0;
        for _ in 0..60 {
            let at = made[made.len() - 1];
            match dice.below(8) {
                0 | 1 => {
                    assert_eq!(play.undo(), made.len() > 1);
                    if made.len() > 1 {
                        back.extend(made.pop());
                    }
                }
                2 => {
                    assert_eq!(play.redo(), !back.is_empty());
                    made.extend(back.pop());
                }
                3 if dice.below(4) == 0 => {
                    play.restart();
                    back.extend(made.drain(1..).rev());
                }
                4 => {
                    play.mark();
                    marked = Some(made.len());
                }
                5 => {
                    let there = marked.is_some_and(|len| len <= made.len() + back.len());
                    assert_eq!(play.to_mark(), there);
                    if let Some(len) = marked {
                        while made.len() > len {
                            back.extend(made.pop());
                        }
                        while made.len() < len && !back.is_empty() {
                            made.extend(back.pop());
                        }
                    }
                }
                _ => {
                    let m = dice.below(3);
                    let tried = play.make(m, None).expect("the model does not break");
                    match tried {
                        Try::Made { called, .. } => {
                            assert!(called.starts_with(MOVES[m]), "{called}");
                            let to = play.state()[0] as usize - 1;
                            assert!(map.ways[at][m].iter().any(|w| w.0 == to), "{called} from {}", at + 1);
                            made.push(to);
                            back.clear();
                        }
                        Try::Refused(why, cells) => {
                            assert_eq!((why, cells), (format!("no way {}", MOVES[m]), vec![]));
                            assert!(map.ways[at][m].is_empty());
                            refused += 1;
                        }
                        Try::Ended(_) => assert!(map.has_ended(at)),
                        Try::NotOffered => panic!("every move is offered"),
                    }
                }
            }
            let at = made[made.len() - 1];
            // A state: the landing, and whether a statement has ended the game.
            let states: Vec<Vec<i32>> = made.iter().map(|l| vec![*l as i32 + 1, 0]).collect();
            assert_eq!((play.states(), play.len(), play.refused), (states, made.len() - 1, refused));
            let allowed: Vec<usize> = map.allowed(at).into_iter().map(|(m, _)| m).collect();
            assert_eq!(play.allowed(), allowed);
            let ended = play.ended().expect("the model does not break");
            assert_eq!(ended.map(|e| e.1), map.has_ended(at).then_some(map.won[at]));
            for (m, to) in map.allowed(at) {
                let outcomes = play.outcomes(m).expect("the model does not break");
                assert_eq!(outcomes.len(), if to.len() > 1 { to.len() } else { 0 });
            }
        }
        // What is recorded leads to the same place when it is played again.
        let record = play.record("walk.toml");
        assert_eq!(record.lines().count(), made.len());
        let moves = recorded_moves(&record, "play.jsonl").expect("it was just written");
        let again = trace(&mut store, &level, &moves, false, &budget()).expect("an answer").found;
        let last = again.steps.last().map_or(&again.start, |s| &s.position);
        assert_eq!(last.state, play.state(), "{record}");
    }
}

#[test]
fn an_outcome_is_chosen_by_its_number() {
    let map = Map {
        ways: vec![[vec![(1, 1), (2, 3)], vec![], vec![]], Default::default(), Default::default()],
        won: vec![false, true, false],
        lost: vec![false, false, true],
    };
    let mut store = Store::default();
    let level = loaded(&mut store, &map.texts(), "walk.toml", "map", None);
    let mut play = Playing::new(&level, 1);
    let outcomes = play.outcomes(0).expect("the model does not break");
    let chances: Vec<&str> = outcomes.iter().map(|o| o.1.as_str()).collect();
    assert_eq!(chances, ["1/4", "3/4"]);
    for (n, (draws, _)) in outcomes.iter().enumerate() {
        let made = play.make(0, Some(n)).expect("the model does not break");
        let Try::Made { called, .. } = made else { panic!("{made:?}") };
        assert_eq!((called, play.state()), (format!("along / {draws}"), &[n as i32 + 2, 0][..]));
        assert!(play.undo());
    }
}

#[test]
fn records_that_are_none_are_refused_by_line() {
    let head = r#"{"fendle_play":1,"file":"a.toml","level":"one","start":"1"}"#;
    let step = r#"{"move":"along","position":"2"}"#;
    let told = |text: &str| recorded_moves(text, "p.jsonl").expect_err("it is none");
    assert!(told(step).starts_with("p.jsonl:1: a recorded play begins"));
    assert!(told(&format!("{head}\n{step}\n{head}")).starts_with("p.jsonl:3: a second play"));
    assert!(told(&format!("{head}\n{step}\nalong")).starts_with("p.jsonl:3: this is no line"));
    assert!(told(&head.replace(":1,", ":9,")).contains("version 9"));
    assert_eq!(recorded_moves(&format!("{head}\n\n{step}\n{step}\n"), "p").expect("a play"), "along; along");
}

/// A game that is a map of its own, walked by requests.
struct Walker {
    map: Map,
    at: usize,
    places: bool,
    tells_allowed: bool,
    /// It answers no more after so many requests.
    left: usize,
}

impl Walker {
    fn of(map: &Map, places: bool, tells_allowed: bool) -> Walker {
        Walker { map: map.clone(), at: 0, places, tells_allowed, left: usize::MAX }
    }

    fn answer(&mut self, method: &str, params: &Value) -> Result<Value, String> {
        self.left = self.left.checked_sub(1).ok_or("it has gone home")?;
        let mut allowed = true;
        match method {
            "about" => {
                return Ok(
                    json!({"name": "walker", "places": self.places, "tells_allowed": self.tells_allowed}),
                );
            }
            "allowed" => {
                let list: Vec<&str> = self.map.allowed(self.at).into_iter().map(|(m, _)| MOVES[m]).collect();
                return Ok(json!({"moves": list}));
            }
            "begin" => self.at = 0,
            "place" => {
                let at = params["position"]["values"]["at"].as_str().expect("the model tells where");
                self.at = at.parse::<usize>().expect("a number") - 1;
            }
            "move" => {
                let m = MOVES.iter().position(|name| params["move"] == json!(name)).expect("a move");
                match self.map.ways[self.at][m].first().filter(|_| !self.map.has_ended(self.at)) {
                    Some(to) => self.at = to.0,
                    None => allowed = false,
                }
            }
            other => return Err(format!("{other} is not known here")),
        }
        let status = match () {
            () if self.map.won[self.at] => "won",
            () if self.map.lost[self.at] => "lost",
            () => "running",
        };
        let position = json!({"boards": {}, "values": {"at": (self.at + 1).to_string()}});
        Ok(json!({"allowed": allowed, "position": position, "status": status}))
    }
}

impl Speaks for Walker {
    fn call_all(&mut self, calls: &[Call]) -> Vec<Result<Box<RawValue>, String>> {
        let text = |v: Value| to_raw_value(&v).map_err(|e| e.to_string());
        let params = |call: &Call| serde_json::from_str(&call.params).expect("requests are JSON");
        calls.iter().map(|call| self.answer(call.method, &params(call)).and_then(text)).collect()
    }
}

#[test]
fn a_game_that_walks_the_same_map_agrees_everywhere() {
    for seed in seeds(2100..2180) {
        let map = Map::any(&mut Dice::new(seed), false);
        let mut store = Store::default();
        let level = loaded(&mut store, &map.texts(), "walk.toml", "map", None);
        let mut game = Walker::of(&map, seed % 2 == 0, seed % 3 == 0);
        let names = Names::default();
        let answer = compare_game(&store, &level, &mut game, (&names, true), &budget()).expect("an answer");
        let there = map.depths(&[0]).iter().flatten().count();
        assert_eq!(answer.found.positions, there as u64, "{}", map.model());
        assert!(answer.found.complete && answer.end() == End::Yes, "{:?}", answer.found.differences);
    }
}

#[test]
fn the_first_difference_is_the_nearest_one() {
    let mut found = 0;
    for seed in seeds(2200..2320) {
        let mut dice = Dice::new(seed);
        let map = Map::any(&mut dice, false);
        // The game has one way that leads elsewhere.
        let mut other = map.clone();
        let (at, m) = (dice.below(map.len()), dice.below(3));
        let Some(to) = other.ways[at][m].first_mut() else { continue };
        to.0 = (to.0 + 1) % map.len();
        let mut store = Store::default();
        let level = loaded(&mut store, &map.texts(), "walk.toml", "map", None);
        let mut game = Walker::of(&other, seed % 2 == 0, seed % 3 == 0);
        let answer = compare_game(&store, &level, &mut game, (&Names::default(), false), &budget())
            .expect("an answer");
        let near = map.depths(&[0])[at].filter(|_| !map.has_ended(at));
        let text = format!("{} from {}: {}", MOVES[m], at + 1, map.model());
        match (near, &answer.found.differences[..]) {
            (None, []) => assert_eq!(answer.end(), End::Yes, "{text}"),
            (Some(depth), [difference]) => {
                assert_eq!(
                    (difference.of.as_deref(), difference.moves.len() as u32),
                    (Some(MOVES[m]), depth),
                    "{text}"
                );
                assert_eq!(difference.before.line, (at + 1).to_string(), "{text}");
                let model = difference.model.as_ref().expect("the model makes the move");
                assert_eq!(model.line, (map.ways[at][m][0].0 + 1).to_string(), "{text}");
                let game = difference.game.as_ref().expect("the game tells where it stands");
                assert_eq!(game["values"]["at"], json!((other.ways[at][m][0].0 + 1).to_string()), "{text}");
                assert_eq!(answer.end(), End::No, "{text}");
                found += 1;
            }
            (near, differences) => panic!("{near:?}, {differences:?}: {text}"),
        }
    }
    assert!(found > 25, "{found} differences");
}

#[test]
fn a_game_that_allows_too_much_or_falls_silent_is_told() {
    let way = |to: usize| vec![(to, 1)];
    let map = Map {
        ways: vec![[way(1), vec![], vec![]], [way(2), vec![], way(0)], Default::default()],
        won: vec![false, false, true],
        lost: vec![false; 3],
    };
    let mut store = Store::default();
    let level = loaded(&mut store, &map.texts(), "walk.toml", "map", None);
    let told = |game: &mut Walker| {
        compare_game(&store, &level, game, (&Names::default(), false), &budget()).map(|a| {
            let first = a.found.differences.first().expect("a difference").clone();
            (first.kind, first.of, first.moves.len(), a.end())
        })
    };
    let mut more = Walker::of(&map, false, false);
    more.map.ways[1][1] = way(0);
    assert_eq!(told(&mut more).expect("an answer"), ("allowed", Some("beside".into()), 1, End::No));
    let mut less = Walker::of(&map, true, true);
    less.map.ways[1][2] = vec![];
    assert_eq!(told(&mut less).expect("an answer"), ("allowed", Some("across".into()), 1, End::No));
    let mut silent = Walker::of(&map, true, false);
    silent.left = 3;
    assert_eq!(told(&mut silent).expect("an answer").0, "no answer");
    let mut nobody = Walker::of(&map, true, false);
    nobody.left = 0;
    assert!(told(&mut nobody).is_err(), "what cannot be asked at all is no difference");
}

#[test]
fn names_of_a_game_are_translated() {
    let map = Map {
        ways: vec![[vec![(1, 1)], vec![], vec![]], Default::default()],
        won: vec![false, true],
        lost: vec![false; 2],
    };
    let names = Names::read("[moves]\nalong = 'step'\n[values]\nat = 'where'\n").expect("sound names");
    let record = "{\"move\": \"step\", \"allowed\": true, \"position\": {\"boards\": {}, \"values\": {\"where\": 2}}, \"status\": \"won\"}\n";
    let mut store = Store::default();
    let level = loaded(&mut store, &map.texts(), "walk.toml", "map", None);
    let asked = |text: &str, names: &Names| {
        compare_record(&store, &level, (text, "r.jsonl"), (names, true), &budget()).expect("an answer")
    };
    let same = asked(record, &names);
    assert_eq!((same.found.differences.len(), same.end()), (0, End::Yes));
    let other = asked(&record.replace("\"where\": 2", "\"where\": 1"), &names);
    assert_eq!((other.found.differences.len(), other.end()), (1, End::No));
    assert_eq!(other.found.differences[0].line, Some(1));
    assert!(!asked(record, &Names::default()).found.differences.is_empty(), "`step` is no move of the model");
    for wrong in ["[move]\nalong = 'x'", "moves = 3", "[moves]\nalong = 3", "[moves"] {
        assert!(Names::read(wrong).is_err(), "{wrong}");
    }
}

#[test]
fn plays_that_were_recorded_are_followed_to_the_first_difference() {
    let mut off = 0;
    for seed in seeds(2400..2500) {
        let mut dice = Dice::new(seed);
        let map = Map::any(&mut dice, false);
        let mut store = Store::default();
        let level = loaded(&mut store, &map.texts(), "walk.toml", "map", None);
        let play = map.play(&mut dice, 6);
        let line = |(m, to): &(usize, usize)| json!({"move": MOVES[*m], "position": {"boards": {}, "values": {"at": to + 1}}});
        let mut lines: Vec<Value> = play.iter().map(line).collect();
        // One line may tell another landing than the model comes to.
        let wrong = Some(dice.below(lines.len() + 1)).filter(|n| *n < lines.len());
        if let Some(n) = wrong {
            lines[n]["position"]["values"]["at"] = json!((play[n].1 + 1) % map.len() + 1);
        }
        let text: String = lines.iter().map(|l| format!("{l}\n")).collect();
        let answer =
            compare_record(&store, &level, (&text, "r.jsonl"), (&Names::default(), false), &budget())
                .expect("an answer");
        assert_eq!(
            answer.found.differences.first().map(|d| d.line),
            wrong.map(|n| Some(n + 1)),
            "{text}{}",
            map.model()
        );
        assert_eq!(answer.end(), if wrong.is_some() { End::No } else { End::Yes });
        off += u32::from(wrong.is_some());
    }
    assert!(off > 30, "{off} plays with a wrong line");
}

#[test]
fn the_light_of_a_position_is_true_or_not_known() {
    let (mut won, mut dead, mut dark) = (0, 0, 0);
    for seed in seeds(2600..2660) {
        let map = Map::any(&mut Dice::new(seed), seed % 2 == 0);
        let (far, depths) = (map.far(), map.depths(&[0]));
        let mut store = Store::default();
        let level = loaded(&mut store, &map.texts(), "walk.toml", "map", None);
        let b = &level.game.bound;
        let slot = b.slots[b.model.var("at").expect("a variable")].base;
        for most in [None, Some(1), Some(2), Some(4), Some(7)] {
            let budget = most.map_or(budget(), few);
            let mut judge = Judge::new(&level, &budget);
            // Asked twice: what was kept is what was said.
            for at in (0..map.len()).chain(0..map.len()).filter(|at| depths[*at].is_some()) {
                let mut state = b.position.clone();
                state[slot] = at as i32 + 1;
                let text = format!("{most:?} at {}: {}", at + 1, map.model());
                match judge.says(&state, &budget) {
                    Light::Ended(_) => assert!(map.has_ended(at) || map.allowed(at).is_empty(), "{text}"),
                    Light::CanBeWon { moves, fewest, lucky, next } => {
                        let least = far[at].unwrap_or_else(|| panic!("it cannot: {text}"));
                        assert!(
                            !map.has_ended(at) && moves >= least && (!fewest || moves == least),
                            "{text}"
                        );
                        assert!(!lucky || !level.game.is_sure(), "{text}");
                        let next = next.unwrap_or_else(|| panic!("no move: {text}"));
                        let to =
                            map.allowed(at).into_iter().find(|m| m.0 == next).expect("an allowed move").1;
                        let on = to.iter().filter_map(|t| far[t.0]).min();
                        assert!(on.is_some_and(|d| d < moves), "{}: {text}", MOVES[next]);
                        won += 1;
                    }
                    Light::Dead(_) => {
                        assert!(!map.has_ended(at) && far[at].is_none(), "{text}");
                        dead += 1;
                    }
                    Light::NotKnown(_) => {
                        assert!(most.is_some(), "{text}");
                        dark += 1;
                    }
                }
            }
        }
    }
    assert!(won > 200 && dead > 200 && dark > 100, "{won} {dead} {dark}");
}
