//! Handing what is secret to a command of the person's own: into whatever secret store they have.

use std::io::Write as _;
use std::process::{Command, Stdio};

use crate::failure::{Failure, Kind};

/// Has a command of the person's own read a text by its standard input.
pub fn pipe_to(command: &str, what: &str, text: &str) -> Result<(), Failure> {
    let failed = |answer: String| {
        let attempted = format!("handing {what} to '{command}': {answer}");
        let fix = "what was made is nowhere else and cannot be used: run the same command again";
        Failure::new(Kind::Run, attempted, fix)
    };
    let mut child = Command::new("sh")
        .args(["-c", command])
        .stdin(Stdio::piped())
        .spawn()
        .map_err(|error| failed(error.to_string()))?;
    // One that does not read all of it tells so by its status, if that matters to it.
    let written = child.stdin.take().map(|mut to| to.write_all(text.as_bytes()));
    let status = child.wait().map_err(|error| failed(error.to_string()))?;
    match (status.success(), written) {
        (true, Some(Ok(()))) => Ok(()),
        (true, _) => Err(failed("it did not read all of it".into())),
        (false, _) => Err(failed(status.to_string())),
    }
}
