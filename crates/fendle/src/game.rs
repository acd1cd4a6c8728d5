//! A game that runs beside Fendle: requests on its standard input, answers on its standard output, one message a line (JSON-RPC 2.0).

use std::io::{BufRead, BufReader, Write};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::mpsc::{self, Receiver, RecvTimeoutError, Sender};
use std::time::{Duration, Instant};

use fendle_ask::Budget;
use fendle_ask::game::Speaks;
use serde_json::{Value, json};

/// How long an answer may take.
const PATIENCE: Duration = Duration::from_secs(5);
/// How often it is looked whether a limit was hit meanwhile.
const LOOK: Duration = Duration::from_millis(50);
/// Characters of a line that are quoted.
const QUOTED: usize = 80;

/// A running game. It is ended when this is dropped.
pub struct Running {
    child: Child,
    /// What is to be written; a game that does not read must not keep Fendle waiting.
    input: Option<Sender<String>>,
    lines: Receiver<String>,
    number: u64,
    budget: Arc<Budget>,
}

impl Running {
    /// Starts a command by the shell.
    ///
    /// # Errors
    ///
    /// Words.
    pub fn start(command: &str, budget: &Arc<Budget>) -> Result<Running, String> {
        let (shell, flag) = if cfg!(windows) { ("cmd", "/C") } else { ("sh", "-c") };
        let command_text = if cfg!(windows) { command.to_string() } else { format!("exec {command}") };
        let mut child = Command::new(shell)
            .args([flag, &command_text])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .map_err(|e| format!("the game `{command}` cannot be started: {e}"))?;
        let mut stdin = child.stdin.take().ok_or("the game has no input")?;
        let (input, written) = mpsc::channel::<String>();
        std::thread::spawn(move || {
            for text in written {
                // What it has answered before it ended is still read.
                if stdin.write_all(text.as_bytes()).and_then(|()| stdin.flush()).is_err() {
                    return;
                }
            }
        });
        let output = child.stdout.take().ok_or("the game has no output")?;
        let (send, lines) = mpsc::channel();
        std::thread::spawn(move || {
            for line in BufReader::new(output).lines().map_while(Result::ok) {
                if send.send(line).is_err() {
                    return;
                }
            }
        });
        Ok(Running { child, input: Some(input), lines, number: 0, budget: Arc::clone(budget) })
    }
}

impl Running {
    /// How it ended, or why it does not answer any more.
    fn ended(&mut self, method: &str) -> String {
        // It may take a moment until it is known how it ended.
        std::thread::sleep(Duration::from_millis(50));
        match self.child.try_wait() {
            Ok(Some(status)) => format!("it has ended ({status}) instead of answering `{method}`"),
            _ => format!("it has closed its output instead of answering `{method}`"),
        }
    }

    /// Writes requests, without waiting for answers; the number of the first one.
    fn ask(&mut self, calls: &[(&str, Value)]) -> Result<u64, String> {
        let first = self.number + 1;
        let mut text = String::new();
        for (method, params) in calls {
            self.number += 1;
            let request = json!({"jsonrpc": "2.0", "id": self.number, "method": method, "params": params});
            text.push_str(&request.to_string());
            text.push('\n');
        }
        let Some(input) = &self.input else { return Err("it is not running".into()) };
        // Where nothing can be written any more, the answer says why.
        let _ = input.send(text);
        Ok(first)
    }

    /// Waits for the answer to a request.
    fn answer(&mut self, number: u64, method: &str) -> Result<Value, String> {
        let asked = Instant::now();
        let line = loop {
            match self.lines.recv_timeout(LOOK) {
                Ok(line) => break line,
                Err(RecvTimeoutError::Disconnected) => return Err(self.ended(method)),
                Err(RecvTimeoutError::Timeout) if asked.elapsed() >= PATIENCE => {
                    return Err(format!("no answer to `{method}` within {} seconds", PATIENCE.as_secs()));
                }
                Err(RecvTimeoutError::Timeout) if self.budget.is_stopped() => {
                    return Err(format!("the answer to `{method}` was not waited for"));
                }
                Err(RecvTimeoutError::Timeout) => {}
            }
        };
        let quoted = || line.chars().take(QUOTED).collect::<String>();
        let mut answer: Value = serde_json::from_str(&line).map_err(|_| {
            format!(
                "it writes `{}` on its standard output instead of an answer to `{method}`; what is not for Fendle belongs on the error stream",
                quoted()
            )
        })?;
        if let Some(error) = answer.get("error") {
            let words = error["message"].as_str().unwrap_or("an error without a message");
            return Err(format!("it answers `{method}` with an error: {words}"));
        }
        if answer["id"] != json!(number) {
            return Err(format!("it answers `{method}` with another id: {}", quoted()));
        }
        match answer.get_mut("result") {
            Some(result) => Ok(result.take()),
            None => Err(format!("its answer to `{method}` has no result: {}", quoted())),
        }
    }
}

impl Speaks for Running {
    fn call(&mut self, method: &str, params: Value) -> Result<Value, String> {
        let number = self.ask(&[(method, params)])?;
        self.answer(number, method)
    }

    fn call_all(&mut self, calls: &[(&str, Value)]) -> Vec<Result<Value, String>> {
        let first = match self.ask(calls) {
            Ok(first) => first,
            Err(words) => return vec![Err(words); calls.len()],
        };
        let mut out: Vec<Result<Value, String>> = vec![];
        for (n, (method, _)) in calls.iter().enumerate() {
            let answer = match out.last() {
                Some(Err(words)) => Err(words.clone()),
                _ => self.answer(first + n as u64, method),
            };
            out.push(answer);
        }
        out
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        // A game that is told that nothing more comes may end by itself.
        self.input = None;
        std::thread::sleep(Duration::from_millis(5));
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
