//! A game that runs beside Fendle: requests on its standard input, answers on its standard output, one message a line (JSON-RPC 2.0).

use std::io::{BufRead, BufReader, Write};
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::Arc;
use std::sync::mpsc::{self, Receiver, RecvTimeoutError};
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
    input: Option<ChildStdin>,
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
        let input = child.stdin.take();
        let output = child.stdout.take().ok_or("the game has no output")?;
        let (send, lines) = mpsc::channel();
        std::thread::spawn(move || {
            for line in BufReader::new(output).lines().map_while(Result::ok) {
                if send.send(line).is_err() {
                    return;
                }
            }
        });
        Ok(Running { child, input, lines, number: 0, budget: Arc::clone(budget) })
    }
}

impl Speaks for Running {
    fn call(&mut self, method: &str, params: Value) -> Result<Value, String> {
        self.number += 1;
        let number = self.number;
        let request = json!({"jsonrpc": "2.0", "id": number, "method": method, "params": params});
        let written = match &mut self.input {
            Some(input) => writeln!(input, "{request}").and_then(|()| input.flush()),
            None => return Err("it is not running".into()),
        };
        let ended = |child: &mut Child| {
            // It may take a moment until it is known how it ended.
            std::thread::sleep(Duration::from_millis(50));
            match child.try_wait() {
                Ok(Some(status)) => format!("it has ended ({status}) instead of answering `{method}`"),
                _ => format!("it has closed its output instead of answering `{method}`"),
            }
        };
        if written.is_err() {
            return Err(ended(&mut self.child));
        }
        let asked = Instant::now();
        let line = loop {
            match self.lines.recv_timeout(LOOK) {
                Ok(line) => break line,
                Err(RecvTimeoutError::Disconnected) => return Err(ended(&mut self.child)),
                Err(RecvTimeoutError::Timeout) if asked.elapsed() >= PATIENCE => {
                    return Err(format!("no answer to `{method}` within {} seconds", PATIENCE.as_secs()));
                }
                Err(RecvTimeoutError::Timeout) if self.budget.is_stopped() => {
                    return Err(format!("the answer to `{method}` was not waited for"));
                }
                Err(RecvTimeoutError::Timeout) => {}
            }
        };
        let quoted: String = line.chars().take(QUOTED).collect();
        let answer: Value = serde_json::from_str(&line).map_err(|_| {
            format!(
                "it writes `{quoted}` on its standard output instead of an answer to `{method}`; what is not for Fendle belongs on the error stream"
            )
        })?;
        if let Some(error) = answer.get("error") {
            let words = error["message"].as_str().unwrap_or("an error without a message");
            return Err(format!("it answers `{method}` with an error: {words}"));
        }
        if answer["id"] != json!(number) {
            return Err(format!("it answers `{method}` with another id: {quoted}"));
        }
        answer
            .get("result")
            .cloned()
            .ok_or_else(|| format!("its answer to `{method}` has no result: {quoted}"))
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
