//! Two casks of 5 and 3 gallons, a pump and a drain: how are 4 gallons measured? `cargo run -p fendle-core --example casks`.

use fendle_core::*;

const ROOM: [u64; 2] = [5, 3];
const MOVES: [&str; 6] = ["fill A", "fill B", "drain A", "drain B", "pour A into B", "pour B into A"];

struct Casks;

impl Model for Casks {
    fn layout(&self) -> Layout {
        Layout::new(5) // A in bits 0 to 2, B in bits 3 and 4
    }
    fn starts(&self) -> Result<Vec<Start>, Fault> {
        Ok(vec![Start { state: vec![0], weight: 1 }])
    }
    fn moves_len(&self) -> usize {
        MOVES.len()
    }
    fn move_name(&self, of: MoveId) -> String {
        MOVES[of.0 as usize].into()
    }
    fn worker(&self) -> Box<dyn Worker + '_> {
        Box::new(Casks)
    }
}

impl Worker for Casks {
    fn status(&mut self, state: &[u64]) -> Result<Status, Fault> {
        Ok(if state[0] & 7 == 4 { Status::Goal } else { Status::Running })
    }
    fn expand(&mut self, states: &[u64], past_goals: bool, out: &mut Expansion) {
        for &s in states {
            let status = self.status(&[s]).expect("nothing breaks");
            let (a, b) = (s & 7, s >> 3);
            let (into_b, into_a) = (a.min(ROOM[1] - b), b.min(ROOM[0] - a));
            let filled = [(ROOM[0], b), (a, ROOM[1]), (0, b), (a, 0)];
            let poured = [(a - into_b, b + into_b), (a + into_a, b - into_a)];
            for (m, (x, y)) in filled.into_iter().chain(poured).enumerate() {
                if (status == Status::Running || past_goals) && (x, y) != (a, b) {
                    out.outcome(&[x | y << 3]);
                    out.end_move(MoveId(m as u32));
                }
            }
            out.end_state(status, None);
        }
    }
}

fn main() {
    contract::check_model(&Casks, 1_000).expect("the model keeps its promises");
    let found = explore(&Casks, Limits::default(), false, &NoWatch).expect("a sound start");
    let route = found.solution(&Casks, &NoWatch).expect("no limit").expect("it can be won");
    println!("{} states; a shortest solution:", found.counts.states);
    route.moves.iter().for_each(|m| println!("  {}", Casks.move_name(*m)));
}
