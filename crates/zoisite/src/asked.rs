//! Asking the person at the terminal for something secret.

use std::fs::{File, OpenOptions};
use std::io::{self, ErrorKind, Read as _, Write as _};

use rustix::process::{Signal, getpid, kill_process};
use rustix::termios::{
    LocalModes, OptionalActions, SpecialCodeIndex, Termios, tcgetattr, tcsetattr,
};
use zoisite_core::pki::Secret;

/// The longest line that a terminal gives, in octets.
const LINE: usize = 4_096;

/// Asks for one line at the terminal of this process, whatever its input and output are. What is typed is not shown,
/// and is not from before the question can be read: a quick answer stays as hidden as a slow one. Ctrl-C ends the
/// program as it does elsewhere, with the terminal as it was.
///
/// # Errors
/// Where there is no terminal, its input ended, or the line is no UTF-8.
pub fn secret(question: &str) -> io::Result<Secret> {
    let terminal = OpenOptions::new().read(true).write(true).open("/dev/tty")?;
    let silent = Silent::begin(&terminal)?;
    write!(&terminal, "{question}")?;
    // A terminal gives a line at a time, and Ctrl-C ends one too while it is silent.
    let mut line = vec![0; LINE];
    let read = (&terminal).read(&mut line);
    let interrupt = silent.interrupt();
    drop(silent);
    writeln!(&terminal)?;
    line.truncate(read?);
    match line.pop() {
        Some(b'\n') => {}
        Some(last) if last == interrupt => {
            kill_process(getpid(), Signal::INT)?;
            return Err(ErrorKind::Interrupted.into());
        }
        _ => return Err(ErrorKind::UnexpectedEof.into()),
    }
    String::from_utf8(line).map(Secret::new).map_err(|_| ErrorKind::InvalidData.into())
}

/// A terminal that shows nothing of what is typed, until this is dropped.
struct Silent<'a> {
    terminal: &'a File,
    before: Termios,
}

impl<'a> Silent<'a> {
    fn begin(terminal: &'a File) -> io::Result<Self> {
        let before = tcgetattr(terminal)?;
        let mut silent = before.clone();
        // Ctrl-C must not end the program before the terminal is as it was: it ends the line instead.
        silent.local_modes.remove(LocalModes::ECHO | LocalModes::ECHONL | LocalModes::ISIG);
        silent.local_modes.insert(LocalModes::ICANON);
        silent.special_codes[SpecialCodeIndex::VEOL] =
            before.special_codes[SpecialCodeIndex::VINTR];
        tcsetattr(terminal, OptionalActions::Now, &silent)?;
        Ok(Self { terminal, before })
    }

    /// What Ctrl-C gives.
    fn interrupt(&self) -> u8 {
        self.before.special_codes[SpecialCodeIndex::VINTR]
    }
}

impl Drop for Silent<'_> {
    fn drop(&mut self) {
        // There is nothing else to try.
        let _ = tcsetattr(self.terminal, OptionalActions::Now, &self.before);
    }
}
