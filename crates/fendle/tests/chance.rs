//! Chance through the built program: values of plays that end, intervals and fractions, the next moves, look-ahead.

use crate::common::{dir_with, fendle};

/// A line of three places: `onward` scores what the level says, `back` nothing.
fn line(aim: &str, gain: i64, onward: &str) -> String {
    format!(
        "model line\nstate at: 0..2 = 0\nmove onward {{\n    refuse \"the end\" unless {onward}\n    at += 1\n    score {gain}\n}}\n\
         move back {{\n    refuse \"the start\" unless at > 0\n    at -= 1\n}}\nover when at == 2\naim {aim} score\n"
    )
}

const LEVEL: &str = "model = 'line.fendle'\n[[level]]\nname = 'a'\n";

fn odds(model: &str, more: &[&str]) -> crate::common::Run {
    let dir = dir_with(&[("line.fendle", model), ("a.toml", LEVEL)]);
    let args: Vec<&str> = ["odds", "a.toml"].iter().chain(more).copied().collect();
    fendle(dir.path(), &args)
}

/// The least and the most over plays that end, also where going round costs nothing or gains for ever.
#[test]
fn an_aim_on_cycles_is_that_of_the_plays_that_end() {
    let least = odds(&line("least", 1, "at < 2"), &[]);
    assert!(least.out.contains("least score           2\n"), "{}", least.out);
    assert!(least.out.contains("a play that reaches it:\n  onward; onward"), "{}", least.out);
    let most = odds(&line("most", -1, "at < 2"), &[]);
    assert!(most.out.contains("most score            -2\n"), "{}", most.out);
    let endless = odds(&line("most", 1, "at < 2"), &[]);
    assert!(endless.out.contains("without bound: a cycle gains every time round"), "{}", endless.out);
    assert!(endless.out.contains("a cycle that gains every time round:\n"), "{}", endless.out);
    let json = odds(&line("most", 1, "at < 2"), &["--format", "json"]).json();
    assert_eq!(json["aim"]["unbounded"], true);
    assert_eq!(json["aim_cycle"].as_array().map(Vec::len), Some(2));
    // The last place cannot be reached: no play ends, and that is the answer.
    let never = odds(&line("least", 1, "at < 1"), &[]);
    assert!(never.out.contains("least score           none: no play ends"), "{}", never.out);
    let json = odds(&line("least", 1, "at < 1"), &["--format", "json"]).json();
    assert_eq!(json["aim"]["no_play_ends"], true);
}

const COIN: &str = "model coin
level steps: 1..60
state at: 0..60 = 0
state broke: bool = false
move toss {
    let lucky = draw from (1 weight 2, 0 weight 1)
    if lucky == 1 { at += 1 } else { broke = true }
}
lost when broke because \"the coin fell badly\"
goal at >= steps
status lost, goal
";

/// (2/3)^n: the fraction where it is asked for or the space is small, and always both bounds.
#[test]
fn values_are_intervals_that_hold_the_fraction() {
    let level = "model = 'coin.fendle'\n[[level]]\nname = 'a'\nvalues.steps = 30\n";
    let dir = dir_with(&[("coin.fendle", COIN), ("a.toml", level)]);
    let json = fendle(dir.path(), &["odds", "a.toml", "--format", "json"]).json();
    let best = &json["best_probability"];
    // 2^30 and 3^30.
    assert_eq!(best["exact"], "1073741824/205891132094649");
    let truth = 1_073_741_824f64 / 205_891_132_094_649f64;
    let (lo, hi) = (best["at_least"].as_f64().expect("a bound"), best["at_most"].as_f64().expect("a bound"));
    assert!(lo <= truth && truth <= hi && hi - lo < 1e-18, "{lo} {truth} {hi}");
    let exact = fendle(dir.path(), &["odds", "a.toml", "--exact", "--format", "json"]).json();
    assert_eq!(exact["best_probability"]["exact"], best["exact"]);
    assert_eq!(exact["no_fractions"], false);
    // After a limit the bounds are as wide as what was not seen makes them, and the answer is undecided.
    let cut = fendle(dir.path(), &["odds", "a.toml", "--max-states", "12", "--plays", "10"]);
    assert_eq!(cut.code, 3);
    assert!(
        cut.out.contains("stopped by the limit of 12 states (--max-states) after 12 states"),
        "{}",
        cut.out
    );
    assert!(cut.out.contains("best probability      between 0 % and "), "{}", cut.out);
}

/// The next moves: what is sure, what can be forced, and the chances by then, counted by hand.
#[test]
fn the_next_moves_are_exact_on_any_board() {
    let level = "model = 'coin.fendle'\n[[level]]\nname = 'a'\nvalues.steps = 3\n";
    let dir = dir_with(&[("coin.fendle", COIN), ("a.toml", level)]);
    let near = |n: &str| fendle(dir.path(), &["odds", "a.toml", "--within", n, "--format", "json"]).json();
    let two = near("2");
    assert_eq!(two["best_probability"]["at_most"], 0.0);
    assert_eq!((two["sure_win"].as_u64(), two["forced_ruin"].as_u64()), (None, Some(1)));
    let ruin = two["least_ruin"]["about"].as_f64().expect("a number");
    assert!((ruin - 5.0 / 9.0).abs() < 1e-12, "{ruin}");
    let three = near("3");
    let best = three["best_probability"]["about"].as_f64().expect("a number");
    assert!((best - 8.0 / 27.0).abs() < 1e-12, "{best}");
    assert_eq!(three["complete"], true);
    // A board whose whole space nobody will ever see.
    let big =
        "model = 'merge'\n[[level]]\nname = 'a'\nstart.tile = '''\n2 4 2 4\n4 2 4 2\n2 4 2 4\n4 2 8 8\n'''\n";
    let dir = dir_with(&[("big.toml", big)]);
    let r = fendle(dir.path(), &["odds", "big.toml", "--within", "2"]);
    assert_eq!(r.code, 0, "{}{}", r.out, r.err);
    // Left leaves one free cell, and whatever appears there but a 4 beside the 16 ends it.
    assert!(r.out.contains("can be forced     no"), "{}", r.out);
    let cut = fendle(dir.path(), &["odds", "big.toml", "--within", "9", "--max-states", "500"]);
    assert_eq!(cut.code, 3);
    assert!(cut.out.contains("the bounds hold whatever was not seen within 9 moves"), "{}", cut.out);
    let none = fendle(dir.path(), &["odds", "big.toml", "--within", "0"]);
    assert_eq!(none.code, 2);
}

/// Policies are compared on the same draws; look-ahead wins more than moves at random; the same seed gives the same plays on any
/// number of threads.
#[test]
fn policies_are_compared_on_the_same_draws() {
    let level = "model = 'merge'\n[[level]]\nname = 'a'\nvalues = { high = 3, wide = 3, top = 7 }\n\
                 start.tile = '''\n2 2 .\n. . .\n. . .\n'''\n";
    let dir = dir_with(&[("a.toml", level)]);
    let play = |threads: &str| {
        let args = ["odds", "a.toml", "--max-states", "50", "--plays", "24", "--policy", "random,ahead:400"];
        fendle(dir.path(), &[&args[..], &["--threads", threads, "--format", "json"]].concat()).json()
    };
    let (one, two) = (play("1"), play("2"));
    assert_eq!(one["estimates"], two["estimates"]);
    let of = |i: usize, what: &str| one["estimates"][i][what].as_u64().expect("a number");
    assert_eq!((of(0, "plays"), of(1, "plays")), (24, 24));
    assert!(of(1, "won") > of(0, "won") + 8, "{}", one["estimates"]);
    assert!(one["estimates"][1]["difference_95"][0][0].as_f64().expect("a bound") > 0.0);
    let bad = fendle(dir.path(), &["odds", "a.toml", "--policy", "luck"]);
    assert!(bad.code == 2 && bad.err.contains("a policy is `random`, `greedy`, `ahead`"), "{}", bad.err);
}

/// A board of eight by eight that is filled up by chance, and a goal that some plays reach.
const HALL: &str = "model = 'match'\n[[level]]\nname = 'a'\nvalues.kinds = 5\nvalues.refill = 'chance'\nvalues.gathering = true\n\
    values.wanted = [9, 0, 0, 0, 0]\nvalues.limit = 10\nstart.tile = '''\n\
    23144211\n14531255\n33213313\n32243315\n44522153\n15313535\n24434422\n33112435\n'''\n";

/// Where moves have more outcomes than are written down, `find` plays for an example, which is a real play, and `explore` says
/// what plays at random come to; neither ever says "no".
#[test]
fn what_is_sampled_is_an_example_or_nothing() {
    let dir = dir_with(&[("a.toml", HALL)]);
    for condition in ["got[1] >= 5", "stuck or used == 10", "won"] {
        let r = fendle(dir.path(), &["find", "a.toml", condition, "--format", "json"]);
        let (found, sampled) = (r.json(), r.json()["sampled"].clone());
        assert_eq!((r.code, found["complete"].as_bool()), (0, Some(false)), "{condition}: {}", r.err);
        assert!(sampled["plays"].as_u64() >= Some(1) && sampled["seed"] == 1, "{sampled}");
        // The moves name what was drawn: played again they lead to the same position.
        let moves: Vec<&str> =
            found["moves"].as_array().expect("moves").iter().filter_map(|m| m.as_str()).collect();
        assert_eq!(found["depth"].as_u64(), Some(moves.len() as u64));
        let after = fendle(dir.path(), &["show", "a.toml", "--after", &moves.join("; "), "--format", "json"]);
        assert_eq!(after.code, 0, "{}", after.err);
        assert_eq!(after.json()["position"], found["position"], "{condition}");
        let holds = fendle(
            dir.path(),
            &["find", "a.toml", condition, "--at", found["position"].as_str().expect("a line")],
        );
        assert!(holds.out.contains("after 0 moves"), "{condition}: {}", holds.out);
    }
    // What never holds is not met, and that is no proof; what only all positions together can tell is not asked of one.
    let never = fendle(dir.path(), &["find", "a.toml", "used > 10"]);
    assert_eq!(never.code, 3);
    assert!(never.out.contains("undecided: none is known among what was seen: 1 state"), "{}", never.out);
    assert!(never.out.contains("sampled: none in 36 plays with "), "{}", never.out);
    assert!(never.out.contains("that proves nothing"), "{}", never.out);
    let dead = fendle(dir.path(), &["find", "a.toml", "dead"]);
    assert!(dead.code == 3 && !dead.out.contains("sampled"), "{}", dead.out);
    let space = fendle(dir.path(), &["explore", "a.toml"]);
    assert_eq!(space.code, 3, "{}", space.err);
    assert!(
        space.out.contains("sampled, since moves have too many outcomes to write down:"),
        "{}",
        space.out
    );
    assert!(space.out.contains("200 plays with the policy `random`, seed 1"), "{}", space.out);
    assert!(!space.out.contains("unsolvable"), "{}", space.out);
    let json = fendle(dir.path(), &["explore", "a.toml", "--format", "json"]).json();
    let won = json["sampled"]["won"].as_u64().expect("a number");
    let verdict =
        if won > 0 { "possible: sampled plays reach a goal" } else { "undecided: no goal was seen" };
    assert!(space.out.contains(verdict), "{won} {}", space.out);
}

/// A condition is asked of the state that it names, also where positions are asked by themselves: `fall` loses and `come` wins,
/// though neither has been made yet.
#[test]
fn outcomes_of_a_position_by_itself_are_told_by_their_own_ends() {
    let model = "model steps\nstate lamp: grid of bool = false\nstate n: 0..3 = 0\n\
                 move wide { for c on lamp { lamp[c] = draw from (true, false) } }\n\
                 move fall { n = 1 }\nmove come { n = 2 }\n\
                 goal n == 2\nlost when n == 1 because \"down the stairs\"\nstatus goal, lost\n";
    let dir = dir_with(&[
        ("steps.fendle", model),
        ("a.toml", "model = 'steps.fendle'\n[[level]]\nname = 'a'\nsize = [5, 5]\n"),
    ]);
    for (condition, code) in [
        ("some outcome of fall: running", 3),
        ("some outcome of come: stuck", 3),
        ("some outcome of fall: lost", 0),
        ("running and some outcome of come: won", 0),
        ("every outcome of come: not running", 0),
    ] {
        let r = fendle(dir.path(), &["find", "a.toml", condition]);
        assert_eq!(r.code, code, "{condition}: {}{}", r.out, r.err);
        assert!(code != 0 || r.out.contains("after 0 moves"), "{condition}: {}", r.out);
    }
}

/// A move with more outcomes than are written down is drawn: the board is played all the same.
#[test]
fn moves_with_too_many_outcomes_are_drawn() {
    let level = "model = 'match'\n[[level]]\nname = 'a'\nvalues.kinds = 5\nvalues.refill = 'chance'\nvalues.gathering = true\n\
                 values.wanted = [9, 9, 0, 0, 0]\nvalues.limit = 6\nstart.tile = '''\n\
                 23144211\n14531255\n33213313\n32243315\n44522153\n15313535\n24434422\n33112435\n'''\n";
    let dir = dir_with(&[("a.toml", level)]);
    let args = ["odds", "a.toml", "--plays", "6", "--policy", "random", "--max-states", "1"];
    let r = fendle(dir.path(), &args);
    assert!(r.out.contains("an estimate, no proof: 6 plays with the policy `random`"), "{}{}", r.out, r.err);
    let length: f64 = r
        .out
        .split("mean length ")
        .nth(1)
        .and_then(|t| t.split(' ').next())
        .expect("a length")
        .parse()
        .expect("a number");
    assert!(length > 1.0 && r.out.contains("not known: not everything was seen"), "{}", r.out);
    // Look-ahead draws some outcomes of such a move, the same ones every time, and stops inside a move when the time is up.
    let ahead = |more: &[&str]| {
        let args = ["odds", "a.toml", "--plays", "4", "--max-states", "1", "--policy"];
        fendle(dir.path(), &[&args[..], more].concat())
    };
    let (one, two) = (ahead(&["ahead:200", "--threads", "1"]), ahead(&["ahead:200", "--threads", "2"]));
    assert!(one.out.contains("4 plays with the policy `ahead:200`"), "{}{}", one.out, one.err);
    assert_eq!(one.out, two.out);
    let late = ahead(&["ahead:1000000000", "--time", "1s"]);
    assert_eq!(late.code, 3, "{}{}", late.out, late.err);
}

/// What a model promises guides look-ahead; a promise is one number of another, and there is one.
#[test]
fn a_promise_is_checked_where_it_is_written() {
    let with = |promise: &str| format!("{COIN}{promise}\n");
    let check = |promise: &str| {
        let dir = dir_with(&[("coin.fendle", &with(promise))]);
        fendle(dir.path(), &["check", "coin.fendle"])
    };
    assert_eq!(check("promise at of steps").code, 0);
    let two = check("promise at of 60\npromise 1 of 2");
    assert!(two.code == 2 && two.err.contains("a model has one `promise`"), "{}{}", two.out, two.err);
    let half = check("promise at");
    assert!(half.code == 2 && half.err.contains("expected `of`"), "{}", half.err);
}

/// `bold` succeeds two times in three, `meek` every other time; two successes win.
const STAKES: &str = "model stakes
state at: 0..2 = 0
state broke: bool = false
move meek {
    let x = draw from (1 weight 1, 0 weight 1)
    if x == 1 { at += 1 } else { broke = true }
}
move bold {
    let x = draw from (1 weight 2, 0 weight 1)
    if x == 1 { at += 1 } else { broke = true }
}
lost when broke because \"it fell badly\"
goal at == 2
status lost, goal
";

#[test]
fn the_best_moves_are_a_table_and_a_play_is_told_what_it_gave_away() {
    let dir = dir_with(&[
        ("stakes.fendle", STAKES),
        ("a.toml", "model = 'stakes.fendle'\n[[level]]\nname = 'a'\n"),
    ]);
    let r = fendle(dir.path(), &["odds", "a.toml", "--best-moves", "best.csv"]);
    assert!(r.code == 0 && r.out.contains("wrote best.csv"), "{}{}", r.out, r.err);
    let table = std::fs::read_to_string(dir.path().join("best.csv")).expect("it was written");
    let lines: Vec<&str> = table.lines().collect();
    assert_eq!(lines[0], "state,move,wins_at_least,wins_at_most");
    // From nothing (2/3)^2, after one success 2/3; ended states have no move.
    assert_eq!(lines.len(), 3, "{table}");
    for (line, exact) in lines[1..].iter().zip([4.0 / 9.0, 2.0 / 3.0]) {
        let parts: Vec<&str> = line.rsplitn(3, ',').collect();
        let bound = |i: usize| parts[i].parse::<f64>().expect("a number");
        assert!(parts[2].ends_with(",\"bold\""), "{line}");
        assert!(bound(1) <= exact && exact <= bound(0) && bound(0) - bound(1) < 1e-12, "{line}");
    }
    // Compressed it is the same text.
    assert_eq!(fendle(dir.path(), &["odds", "a.toml", "--best-moves", "best.csv.gz"]).code, 0);
    let packed = std::fs::File::open(dir.path().join("best.csv.gz")).expect("it was written");
    let mut text = String::new();
    let mut unpacked = flate2::read::GzDecoder::new(packed);
    std::io::Read::read_to_string(&mut unpacked, &mut text).expect("it is compressed");
    assert_eq!(text, table);
    let wrong = fendle(dir.path(), &["odds", "a.toml", "--best-moves", "best.txt"]);
    assert!(wrong.code == 2 && wrong.err.contains("ends in .csv"), "{}", wrong.err);
    let cut = fendle(dir.path(), &["odds", "a.toml", "--best-moves", "cut.csv", "--max-states", "2"]);
    assert!(cut.code == 3 && !dir.path().join("cut.csv").exists(), "{}{}", cut.out, cut.err);

    // Meek first: 1/2 of 2/3 is left of 4/9, whatever falls.
    let json = fendle(dir.path(), &["review", "a.toml", "meek", "--format", "json"]).json();
    let step = &json["steps"][0];
    let holds = |value: &serde_json::Value, exact: f64| {
        let of = |name: &str| value[name].as_f64().expect("a bound");
        of("at_least") <= exact && exact <= of("at_most") && of("at_most") - of("at_least") < 1e-9
    };
    assert!(holds(&step["best_chance_before"], 4.0 / 9.0), "{step}");
    assert!(holds(&step["best_chance_after_the_move"], 1.0 / 3.0), "{step}");
    assert!(holds(&step["chance_given_away"], 1.0 / 9.0), "{step}");
    let text = fendle(dir.path(), &["review", "a.toml", "meek"]).out;
    assert!(text.contains("1 move gave chance away; most: move 1, meek"), "{text}");
    assert!(text.contains("44.444 %     11.111 %"), "{text}");
}

#[test]
fn information_states_that_are_alike_are_counted_once() {
    let level = "model = 'pairs'\n[[level]]\nname = 'a'\nvalues.deal = '1 1 2 2 3 3 4 4'\n";
    let dir = dir_with(&[("a.toml", level)]);
    let r = fendle(dir.path(), &["odds", "a.toml"]);
    assert!(r.out.contains("2,520 layouts at the start"), "{}", r.out);
    assert!(r.out.contains("least expected moves  1244/105 = 11.847619"), "{}", r.out);
    assert!(r.out.contains("alike ones once"), "{}", r.out);
    assert_eq!(fendle(dir.path(), &["odds", "a.toml", "--format", "json"]).json()["alike_once"], true);
}

#[test]
fn a_guess_is_named_and_a_search_that_is_left_says_why() {
    let level = "model = 'sweep'\n[[level]]\nname = 'a'\nsize = [4, 5]\nvalues.rocks = 3\ntold.near = '''\n\
                 1~~~~\n~~~~~\n~~~~~\n~~~~~\n'''\n";
    let dir = dir_with(&[("a.toml", level)]);
    let r = fendle(dir.path(), &["infer", "a.toml"]);
    assert!(r.out.contains("nothing is safe; `sound r"), "{}", r.out);
    assert!(r.out.contains("is not computed: it was left after "), "{}", r.out);
    let r = fendle(dir.path(), &["infer", "a.toml", "--max-states", "100"]);
    assert!(r.out.contains("the limit of 100 states (--max-states) was hit after "), "{}", r.out);
    let json = fendle(dir.path(), &["infer", "a.toml", "--format", "json"]).json();
    assert!(json["guess"]["move"].as_str().is_some_and(|m| m.starts_with("sound r")), "{}", json["guess"]);
    let share = json["guess"]["survives_the_next_guess_too_about"].as_f64().expect("a share");
    // The least risk is one in eight.
    assert!((0.5..=0.875).contains(&share), "{share}");
    assert!(json["not_computed"]["information_states"].as_u64().is_some_and(|n| n > 100), "{json}");
}

/// A prize lies at the far end of a corridor; pulling the lever there is worth the walk, which is longer than look-ahead by
/// depth sees.
#[test]
fn look_ahead_walks_to_the_best_draw_that_can_be_reached() {
    let model = "model hall\nstate at: 0..30 = 0\nstate pulled: 0..2 = 0\n\
                 move step(d: 0..1) {\n    refuse \"a wall\" unless (if d == 1 then at < 30 else at > 0)\n    at += if d == 1 then 1 else -1\n}\n\
                 move pull {\n    let good = draw from (1 weight (if at == 30 then 9 else 1), 0 weight (if at == 30 then 1 else 9))\n    \
                 pulled = 1 + good\n}\nlost when pulled == 1 because \"nothing came\"\ngoal pulled == 2\nstatus lost, goal\n";
    let dir = dir_with(&[
        ("hall.fendle", model),
        ("a.toml", "model = 'hall.fendle'\n[[level]]\nname = 'a'\nstart.at = 1\n"),
    ]);
    let args =
        ["odds", "a.toml", "--plays", "40", "--policy", "ahead:300", "--max-states", "1", "--format", "json"];
    let r = fendle(dir.path(), &args);
    let e = &r.json()["estimates"][0];
    // Pulling at once wins one time in ten.
    assert!(e["won"].as_u64().is_some_and(|n| n >= 28), "{}{}", r.out, r.err);
    assert_eq!(e["mean_moves"].as_f64(), Some(30.0), "29 steps and a pull: {e}");
}

/// Where a level gives only what is told, plays on drawn layouts are shown what these hold: their estimates agree with the
/// exact chances, which the same board has without a limit.
#[test]
fn estimates_of_a_told_board_hold_the_exact_chances() {
    let level = "model = 'sweep'\n[[level]]\nname = 'a'\nsize = [3, 4]\nvalues.rocks = 2\ntold.near = '''\n\
                 1~~~\n~~~~\n~~~~\n'''\n";
    let dir = dir_with(&[("a.toml", level)]);
    let exact = fendle(dir.path(), &["infer", "a.toml"]).out;
    let estimate = fendle(dir.path(), &["infer", "a.toml", "--max-states", "10", "--plays", "300"]).out;
    let mut compared = 0;
    for line in estimate.lines().filter(|l| l.contains(" of 300 won")) {
        let name = line.split("  ").next().expect("a move");
        let (low, high) =
            line.split("interval ").nth(1).and_then(|t| t.split_once(" to ")).expect("an interval");
        let high = high.trim_end_matches(" %");
        let known = exact
            .lines()
            .find(|l| l.starts_with(name))
            .expect("the move")
            .split(" = ")
            .nth(2)
            .expect("a chance");
        let known: f64 = known.split(' ').next().and_then(|t| t.parse().ok()).expect("a number");
        let bound = |t: &str| t.trim().parse::<f64>().expect("a number");
        assert!(bound(low) <= known && known <= bound(high), "{name}: {known}\n{estimate}");
        compared += 1;
    }
    assert_eq!(compared, 4, "{estimate}");
}

/// Two ways of counting down agree: what `odds` says of the next moves, and what `find` says of conditions within them.
#[test]
fn a_condition_within_some_moves_is_what_the_odds_of_these_moves_say() {
    let coil = |start: &str, top: u32| {
        format!(
            "model = \"merge\"\n[[level]]\nname = \"a\"\nvalues = {{ high = 2, wide = 2, top = {top} }}\nstart.tile = \"{start}\"\n"
        )
    };
    let (mut sure, mut forced) = (0, 0);
    for start in
        ["2 2/. .", "2 4/4 .", "2 4/4 2", "4 4/8 .", "4 4/8 2", "2 8/8 .", "2 4/8 16", ". 2/. 4", "8 8/4 2"]
    {
        for top in [3, 4] {
            let dir = dir_with(&[("a.toml", &coil(start, top))]);
            let odds = fendle(dir.path(), &["odds", "a.toml", "--within", "4", "--format", "json"]);
            if odds.code == 2 {
                continue;
            }
            let odds = odds.json();
            let find = |condition: &str, more: &[&str]| {
                let args =
                    [&["find", "a.toml", condition, "--within", "4", "--format", "json"], more].concat();
                let run = fendle(dir.path(), &args);
                let found = run.json();
                assert_eq!(run.code == 0, found["after"].is_u64(), "{}{}", run.out, run.err);
                found["after"].clone()
            };
            let won = find("won", &["--for", "every-draw"]);
            assert_eq!(won, odds["sure_win"], "{start} {top}");
            let ruin = find("lost or stuck or over", &["--whatever"]);
            assert_eq!(ruin, odds["forced_ruin"], "{start} {top}");
            sure += u32::from(won.as_u64() > Some(0));
            forced += u32::from(ruin.as_u64() > Some(0));
            // The nearest of all is the one that some play and some draws come to.
            let nearest = fendle(dir.path(), &["find", "a.toml", "won", "--format", "json"]).json();
            let here = find("won", &[]);
            assert_eq!(here.as_u64(), nearest["depth"].as_u64().filter(|d| *d <= 4), "{start} {top}");
        }
    }
    assert!(sure > 0 && forced > 0, "{sure} {forced}");
}

#[test]
fn a_few_moves_of_a_board_of_full_size_are_seen_whole() {
    let level = "model = \"merge\"\n[[level]]\nname = \"a\"\nvalues = { high = 4, wide = 4, top = 11 }\nstart.tile = '''\n2 4 8 16\n32 64 128 256\n512 2 4 8\n16 32 64 .\n'''\n";
    let dir = dir_with(&[("a.toml", level)]);
    let find = |more: &[&str]| fendle(dir.path(), &[&["find", "a.toml"], more].concat());
    // Neighbours all differ, and go on differing when the free cell is filled, by either move and by any tile.
    let run = find(&["stuck", "--within", "3", "--whatever", "--for", "every-draw"]);
    assert!(
        run.code == 0
            && run.out.contains("whatever the player does, play comes to such a position within 1 move"),
        "{}{}",
        run.out,
        run.err
    );
    let run = find(&["won", "--within", "2", "--for", "every-draw"]);
    assert!(
        run.code == 1
            && run.out.contains(
                "no way of playing comes to such a position against every draw within 2 moves: proved"
            ),
        "{}{}",
        run.out,
        run.err
    );
    let run = find(&["dead", "--within", "2"]);
    assert!(
        run.code == 2 && run.err.contains("`dead` is known only when all positions are seen"),
        "{}",
        run.err
    );
    let run = find(&["tile[r1c1] == 3", "--within", "6", "--max-states", "3"]);
    assert!(run.code == 3 && run.out.contains("undecided"), "{}{}", run.out, run.err);
}
