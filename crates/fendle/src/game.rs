//! A game that runs beside Fendle: requests on its standard input, answers on its standard output, one message a line (JSON-RPC 2.0).

use std::fmt::Write as _;
use std::io::{Read, Write};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::mpsc::{self, Receiver, RecvTimeoutError, Sender};
use std::time::{Duration, Instant};

use fendle_ask::Budget;
use fendle_ask::game::{Call, Speaks};
use serde::Deserialize;
use serde_json::Value;
use serde_json::value::RawValue;

/// How long an answer may take, and the first one: a game has to start before it answers.
const PATIENCE: Duration = Duration::from_secs(5);
const PATIENCE_AT_START: Duration = Duration::from_secs(30);
/// How often it is looked whether a limit was hit meanwhile.
const LOOK: Duration = Duration::from_millis(50);
/// Bytes that are read at once, and how many such blocks may wait.
const BLOCK: usize = 1 << 16;
const BLOCKS: usize = 64;
/// Bytes of one line, at the most.
const LINE_MAX: usize = 1 << 26;
/// Characters of a line that are quoted.
const QUOTED: usize = 80;

/// A running game. It is ended when this is dropped.
pub struct Running {
    child: Child,
    /// What is to be written; a game that does not read must not keep Fendle waiting.
    input: Option<Sender<String>>,
    /// What the game writes, as it comes.
    blocks: Receiver<Vec<u8>>,
    /// What has been received and not yet looked at, and how much of it has.
    read: Vec<u8>,
    looked: usize,
    /// A line of it has been read.
    has_answered: bool,
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
        let mut output = child.stdout.take().ok_or("the game has no output")?;
        let (send, blocks) = mpsc::sync_channel(BLOCKS);
        std::thread::spawn(move || {
            let mut block = vec![0; BLOCK];
            while let Ok(n @ 1..) = output.read(&mut block) {
                if send.send(block[..n].to_vec()).is_err() {
                    return;
                }
            }
        });
        let (read, looked) = (vec![], 0);
        Ok(Running {
            child,
            input: Some(input),
            blocks,
            read,
            looked,
            has_answered: false,
            number: 0,
            budget: Arc::clone(budget),
        })
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
    fn ask(&mut self, calls: &[Call]) -> Result<u64, String> {
        let first = self.number + 1;
        let mut text = String::new();
        for Call { method, params } in calls {
            self.number += 1;
            let number = self.number;
            let request = writeln!(
                text,
                "{{\"jsonrpc\":\"2.0\",\"id\":{number},\"method\":\"{method}\",\"params\":{params}}}"
            );
            request.map_err(|e| e.to_string())?;
        }
        let Some(input) = &self.input else { return Err("it is not running".into()) };
        // Where nothing can be written any more, the answer says why.
        let _ = input.send(text);
        Ok(first)
    }

    /// The next line that the game writes, without its end.
    fn line(&mut self, method: &str) -> Result<String, String> {
        let asked = Instant::now();
        let patience = if self.has_answered { PATIENCE } else { PATIENCE_AT_START };
        loop {
            let rest = &self.read[self.looked..];
            if let Some(at) = rest.iter().position(|byte| *byte == b'\n') {
                let line = String::from_utf8_lossy(&rest[..at]).trim_end_matches('\r').to_string();
                self.looked += at + 1;
                self.has_answered = true;
                return Ok(line);
            }
            self.read.drain(..self.looked);
            self.looked = 0;
            if self.read.len() > LINE_MAX {
                return Err(format!("it writes more than {} MiB without the end of a line", LINE_MAX >> 20));
            }
            match self.blocks.recv_timeout(LOOK) {
                Ok(block) => self.read.extend_from_slice(&block),
                // The last line may have no end.
                Err(RecvTimeoutError::Disconnected) if !self.read.is_empty() => self.read.push(b'\n'),
                Err(RecvTimeoutError::Disconnected) => return Err(self.ended(method)),
                Err(RecvTimeoutError::Timeout) if asked.elapsed() >= patience => {
                    return Err(format!("no answer to `{method}` within {} seconds", patience.as_secs()));
                }
                Err(RecvTimeoutError::Timeout) if self.budget.is_stopped() => {
                    return Err(format!("the answer to `{method}` was not waited for"));
                }
                Err(RecvTimeoutError::Timeout) => {}
            }
        }
    }

    /// Waits for the answer to a request.
    fn answer(&mut self, number: u64, method: &str) -> Result<Box<RawValue>, String> {
        #[derive(Deserialize)]
        struct Envelope<'a> {
            #[serde(default)]
            id: Value,
            #[serde(default, borrow)]
            result: Option<&'a RawValue>,
            #[serde(default)]
            error: Option<Value>,
        }
        let line = self.line(method)?;
        let quoted = || line.chars().take(QUOTED).collect::<String>();
        let answer: Envelope<'_> = serde_json::from_str(&line).map_err(|_| {
            format!(
                "it writes `{}` on its standard output instead of an answer to `{method}`; what is not for Fendle belongs on the error stream",
                quoted()
            )
        })?;
        if let Some(error) = answer.error {
            let words = error["message"].as_str().unwrap_or("an error without a message");
            return Err(format!("it answers `{method}` with an error: {words}"));
        }
        if answer.id.as_u64() != Some(number) {
            return Err(format!("it answers `{method}` with another id: {}", quoted()));
        }
        match answer.result {
            Some(result) => Ok(result.to_owned()),
            None => Err(format!("its answer to `{method}` has no result: {}", quoted())),
        }
    }
}

impl Speaks for Running {
    fn call_all(&mut self, calls: &[Call]) -> Vec<Result<Box<RawValue>, String>> {
        let first = match self.ask(calls) {
            Ok(first) => first,
            Err(words) => return vec![Err(words); calls.len()],
        };
        let mut out: Vec<Result<Box<RawValue>, String>> = vec![];
        for (n, Call { method, .. }) in calls.iter().enumerate() {
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
